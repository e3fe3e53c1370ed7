//! The system's log: a line with fields for each change set, refusal and new high finding; syslog where there is no journal.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::net::UnixDatagram;
use std::process::Command;

use rstest::rstest;

use crate::host::{TestHost, is_root};

/// Runs commands on this host, with what takes the log's lines at a path of `/run`; what it took, and what was said.
fn taken(path: &str, runs: &[&[&str]]) -> (Vec<String>, String) {
    let host = TestHost::empty();
    let file = host.write("srv/berths/index.php", "<?php\n");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o666)).unwrap();
    let text = format!("[site]\nroot = \"{}\"\n[accounts]\nphp = \"www-data\"\n", host.at("srv/berths").display());
    host.write("etc/sites/berths.toml", text);
    let socket = UnixDatagram::bind(host.at("log")).unwrap();
    socket.set_nonblocking(true).unwrap();
    let mut said = String::new();
    for words in runs {
        let (link, at) = (format!("/run/{path}"), host.at(""));
        let script = format!(
            "mount -t tmpfs none /run && mkdir -p \"$(dirname {link})\" && ln -s {0}/log {link} && exec {1} --sites {0}/etc/sites --state {0}/state {2}",
            at.display(),
            env!("CARGO_BIN_EXE_ambrik"),
            words.join(" ")
        );
        let mut command = Command::new("unshare");
        let output =
            command.args(["-m", "sh", "-c", &script]).env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").output();
        said.push_str(&String::from_utf8_lossy(&output.unwrap().stderr));
    }
    let mut lines = Vec::new();
    let mut buffer = vec![0; 1 << 16];
    while let Ok(length) = socket.recv(&mut buffer) {
        // Nothing is what a sender asks with whether somebody listens.
        lines.extend((length > 0).then(|| String::from_utf8_lossy(&buffer[..length]).into_owned()));
    }
    (lines, said)
}

const RUNS: &[&[&str]] =
    &[&["audit", "--news"], &["set", "--yes", "-v"], &["audit"], &["undo", "9", "--yes"], &["set", "--preview"]];

#[rstest]
#[case::journal(
    "systemd/journal/socket",
    ["PRIORITY=3\n", "AMBRIK_CHECK=everyone-writes\n", "PRIORITY=5\n", "AMBRIK_CHANGE_SET=1\n", "PRIORITY=4\n", "AMBRIK_EVENT=failed\n"]
)]
#[case::syslog(
    "syslog",
    ["<27>1 ", "check=\"everyone-writes\"", "<30>1 ", "change_set=\"1\"", "<28>1 ", "event=\"failed\""]
)]
fn one_line_each(#[case] path: &str, #[case] wanted: [&str; 6]) {
    if !is_root() {
        return;
    }
    let (lines, said) = taken(path, RUNS);
    assert!(said.contains("in the system's log: set berths: change set 1, 1 path changed, by root"), "{said}");
    let (found, rest): (Vec<&String>, Vec<&String>) = lines.iter().partition(|line| line.contains("everyone-writes"));
    assert_eq!(found.len(), 1, "{lines:#?}");
    assert!(found[0].contains(wanted[0]) && found[0].contains(wanted[1]), "{found:?}");
    let change = rest.iter().find(|line| line.contains("set berths: change set 1, 1 path changed")).unwrap();
    assert!(change.contains(wanted[2]) && change.contains(wanted[3]), "{change}");
    let refused =
        rest.iter().find(|line| line.contains("refused, nothing was changed: there is no change set 9")).unwrap();
    assert!(refused.contains(wanted[4]) && refused.contains(wanted[5]), "{refused}");
    // What only looks is no line; nor is what was told before.
    assert!(rest.len() == 3 && rest.iter().filter(|line| line.contains("change set 1, ")).count() == 1, "{rest:#?}");
}

#[test]
fn without_a_log_all_goes_on() {
    if !is_root() {
        return;
    }
    let (lines, said) = taken("nowhere/log", RUNS);
    assert_eq!(lines, [""; 0]);
    assert!(said.contains("there is no system log to take this: set berths"), "{said}");
}
