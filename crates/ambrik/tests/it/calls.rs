//! How many system calls a clean audit takes.

use std::fs;
use std::process::{Command, Stdio};

use crate::host::{TestHost, give, is_root};

/// The kernel's own count, by strace: one statx and one listxattr an entry; and for a folder opening, comparing, listing
/// to its end, going there and closing.
#[test]
fn a_clean_audit_takes_few_system_calls_an_entry() {
    let traced = Command::new("strace").args(["-c", "true"]).stderr(Stdio::null()).stdout(Stdio::null()).status();
    if !is_root() || !traced.is_ok_and(|status| status.success()) {
        test_support::skipped("strace is not installed, or may not trace");
        return;
    }
    let host = TestHost::new();
    for folder in 0..100 {
        for file in 0..50 {
            let path = host.at(format!("srv/www/berths/d{folder}/f{file}.html"));
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(&path, "x").unwrap();
            give(&path, 0, 0o644);
        }
    }
    let calls = |host: &TestHost| {
        let list = host.at("calls");
        let ambrik = host.command(&["audit", "-q", "--fail-on", "never"]);
        let mut strace = Command::new("strace");
        strace
            .args(["-f", "-qq", "-c", "-U", "calls,name", "-o"])
            .arg(&list)
            .arg(ambrik.get_program())
            .args(ambrik.get_args());
        let ran = strace.env_clear().stdin(Stdio::null()).stdout(Stdio::null()).status().unwrap();
        assert_eq!(ran.code(), Some(0));
        let text = fs::read_to_string(list).unwrap();
        let counted = |line: &str| {
            let (count, name) = line.trim().split_once(' ')?;
            // How often threads wait for each other is chance.
            (!matches!(name.trim(), "futex" | "total" | "sched_yield" | "munmap" | "mmap" | "brk" | "madvise"))
                .then_some(())?;
            count.parse::<u64>().ok()
        };
        text.lines().filter_map(counted).sum::<u64>()
    };
    let all = calls(&host);
    let none = TestHost::new();
    let own = all - calls(&none);
    let (entries, folders) = (100 * 50 + 100, 100);
    eprintln!("{own} system calls for {entries} entries, {folders} of them folders");
    assert!(own <= entries * 2 + folders * 8 + 200, "{own}");
    assert!(own >= entries * 2, "it is the audit that was counted: {own}");
}
