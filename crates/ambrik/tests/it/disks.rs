//! Real disks that are full or read-only, and how many system calls a clean audit takes.

use std::fs;
use std::process::{Command, Stdio};

use rustix::mount::{MountFlags, mount_remount};

use crate::host::{PHP, TestHost, give, is_root, picture};
use crate::moved::Mounted;

#[test]
fn a_full_disk_under_the_ledger_stops_everything_before_it_is_changed() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    let state = host.at("var/lib/ambrik");
    let Some(_mounted) = Mounted::at(state.clone()) else { return };
    for n in 0..300 {
        host.file(&format!("d{n}/index.php"), PHP, 0o666);
    }
    mount_remount(&state, MountFlags::empty(), c"size=48k,mode=700").unwrap();
    let before = picture(&host.at("srv"));
    let ran = host.run(&["set", "--yes", "-q"]);
    assert!([2, 3].contains(&ran.code), "{ran:?}");
    assert!(
        ran.err.contains(
            "cannot write the ledger [HOST]/var/lib/ambrik/ledger.sqlite3: no space left on device; make room"
        ),
        "{ran:?}"
    );
    assert_eq!(picture(&host.at("srv")), before);
    mount_remount(&state, MountFlags::empty(), c"size=20m,mode=700").unwrap();
    assert_eq!(host.run(&["set", "--yes", "-q"]).code, 0);
    assert_eq!(host.run(&["audit"]).err, "", "nothing is left of the run that had no room");
}

#[test]
fn a_site_on_a_read_only_disk_is_said_to_be() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    let root = host.at("srv/www/berths");
    let Some(_mounted) = Mounted::at(root.clone()) else { return };
    host.file("index.php", PHP, 0o666);
    host.file("lib/code.php", PHP, 0o666);
    mount_remount(&root, MountFlags::RDONLY, c"").unwrap();
    let before = picture(&root);
    let ran = host.run(&["set", "--yes", "-q"]);
    assert_eq!(ran.code, 3, "{ran:?}");
    for path in ["index.php", "lib/code.php"] {
        assert!(
            ran.err
                .lines()
                .any(|line| line.contains(path) && line.contains("read-only file system; remount it for writing")),
            "{ran:?}"
        );
    }
    assert_eq!(picture(&root), before);
    mount_remount(&root, MountFlags::empty(), c"").unwrap();
    let ran = host.run(&["set", "--yes", "-q"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert_eq!(host.run(&["audit", "--fail-on", "medium"]).code, 0);
    assert_eq!(host.run(&["undo", "--yes", "-q"]).code, 0);
    assert_eq!(picture(&root), before);
}

/// The kernel's own count, by strace: one statx and one listxattr an entry; and for a folder opening, comparing, listing
/// to its end, going there and closing.
#[test]
fn a_clean_audit_takes_few_system_calls_an_entry() {
    let traced = Command::new("strace").args(["-c", "true"]).stderr(Stdio::null()).stdout(Stdio::null()).status();
    if !is_root() || !traced.is_ok_and(|status| status.success()) {
        eprintln!("skipped: strace is not installed, or may not trace");
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
