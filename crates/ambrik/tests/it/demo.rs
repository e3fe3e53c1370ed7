//! The demo, as root and as an ordinary user.

use std::process::{Command, Stdio};

use crate::host::TestHost;

#[test]
fn it_runs_to_its_end() {
    let host = TestHost::new();
    let folder = host.at("demo");
    let ran = host.run(&["demo", folder.to_str().unwrap()]);
    assert_eq!(ran.code, 0, "{ran:?}");
    for command in ["audit", "open berths --for 45m --yes", "seal berths --yes", "history", "undo 2 --yes"] {
        assert!(ran.out.contains(&format!("$ ambrik --host [HOST]/demo {command}")), "{command}: {}", ran.out);
    }
    let wide: Vec<&str> = ran
        .out
        .lines()
        .filter(|line| line.chars().count() > 100 && !line.starts_with(['$', '#']) && !line.contains("[HOST]"))
        .collect();
    assert_eq!(wide, Vec::<&str>::new());
    if rustix::process::geteuid().is_root() {
        assert!(ran.out.contains("nothing remains"), "{}", ran.out);
        // The disk of another host has its policy changed there.
        let wrong = |line: &&str| line.starts_with("ambrik: ") && !line.contains("do not outlast a relabelling");
        assert_eq!(ran.err.lines().find(wrong), None, "{}", ran.err);
    }
}

#[test]
fn it_runs_as_an_ordinary_user() {
    let mut host = TestHost::new();
    if !crate::host::is_root() {
        return;
    }
    host.run_as = Some(61_009);
    let folder = host.at("home");
    std::fs::create_dir(&folder).unwrap();
    crate::host::give(&folder, 61_009, 0o755);
    let ran = host.run(&["demo", folder.join("demo").to_str().unwrap()]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(ran.out.contains("You are not root"), "{}", ran.out);
    assert!(ran.err.contains("cannot set the owner of"), "{}", ran.err);
    assert!(ran.out.contains("taken back by: ambrik --host [HOST]/home/demo undo"), "{}", ran.out);
}

#[test]
fn a_folder_with_something_in_it_is_left_alone() {
    let host = TestHost::new();
    let kept = host.write("full/kept", "x");
    let ran = host.run(&["demo", kept.parent().unwrap().to_str().unwrap()]);
    assert_eq!((ran.code, ran.err.contains("is not empty")), (2, true), "{ran:?}");
}

#[test]
fn a_closed_pipe_ends_quietly() {
    let host = TestHost::new();
    let folder = host.at("demo");
    let mut child = host
        .command(&["demo", folder.to_str().unwrap()])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert!(!String::from_utf8_lossy(&output.stderr).contains("panicked"));
    let help = Command::new(env!("CARGO_BIN_EXE_ambrik")).arg("--help").output().unwrap();
    assert!(help.status.success());
}
