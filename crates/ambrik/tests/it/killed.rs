//! A run over more paths than one batch holds, killed in the middle; and two runs at once.

use std::fs;
use std::os::unix::fs::MetadataExt;

use rstest::rstest;

use crate::host::{PHP, TestHost, is_root, picture};

/// More than the first batch of a run.
const FILES: usize = 6_000;

/// A site with so many files that a run takes several batches.
fn large() -> TestHost {
    let host = TestHost::new();
    for n in 0..FILES {
        let path = host.at(format!("srv/www/berths/d{}/f{n}.php", n % 100));
        if n < 100 {
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            crate::host::give(path.parent().unwrap(), PHP, 0o777);
        }
        fs::write(&path, "x").unwrap();
        crate::host::give(&path, PHP, 0o666);
    }
    host
}

fn changed(host: &TestHost) -> usize {
    let files = (0..FILES).map(|n| host.at(format!("srv/www/berths/d{}/f{n}.php", n % 100)));
    files.filter(|path| path.metadata().unwrap().uid() == 0).count()
}

const SET: &[&str] = &["set", "--yes", "-q"];
const OPEN: &[&str] = &["open", "berths", "--yes", "-q"];
const SEAL: &[&str] = &["seal", "berths", "--yes", "-q"];

#[rstest]
fn a_killed_run_is_finished_or_taken_back(#[values(1, 5, 9)] tenths: u64) {
    if !is_root() {
        return;
    }
    let changes = large().changes(SET);
    let host = large();
    let before = picture(&host.at("srv"));
    host.killed_at(SET, changes * tenths / 10);
    assert!((1..FILES).contains(&changed(&host)), "{}", changed(&host));

    let ran = host.run(&["audit", "--fail-on", "never"]);
    assert!(ran.err.contains("change set 1 (set berths) was stopped in the middle; finish it with `ambrik set berths`, or take it back with `ambrik undo 1`"), "{}", ran.err);
    assert!(host.run(&["history"]).out.contains("stopped in the middle"));

    let ran = host.run(&["undo", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert_eq!(picture(&host.at("srv")), before);
    assert_eq!(host.run(&["audit", "--fail-on", "never"]).err, "");

    host.killed_at(SET, changes * tenths / 10);
    let ran = host.run(&["set", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert_eq!(changed(&host), FILES);
    assert_eq!(host.run(&["audit"]).err, "");
}

/// Wherever a deployment is killed, the next `seal` ends it.
#[rstest]
fn a_deployment_killed_anywhere_is_ended_by_seal(#[values(1, 5, 9)] tenths: u64) {
    if !is_root() {
        return;
    }
    let staged = || {
        let host = large();
        let parts =
            "[[part]]\npath = \"d7\"\nuse = \"code\"\nwrite = \"install\"\n[[part]]\npath = \"d8\"\nuse = \"setup\"\n";
        host.site("berths", parts);
        host
    };
    let undisturbed = staged();
    let (opening, sealing) = (undisturbed.changes(OPEN), undisturbed.changes(SEAL));
    let host = staged();
    host.killed_at(OPEN, opening * tenths / 10);
    let audit = host.run(&["audit", "--fail-on", "never"]);
    assert!(
        audit.err.contains("berths: open until"),
        "the window is on record before anything is granted: {}",
        audit.err
    );
    assert!(audit.err.contains("change set 1 (open berths) was stopped in the middle"), "{}", audit.err);
    host.killed_at(SEAL, sealing * tenths / 10);
    let sealed = host.run(SEAL);
    assert_eq!(sealed.code, 0, "{sealed:?}");
    assert!(!host.at("srv/www/berths/d8").exists(), "the installer is gone");
    let audit = host.run(&["audit"]);
    assert_eq!((audit.code, &*audit.err), (0, ""), "{audit:?}");
}

#[test]
fn the_second_of_two_runs_says_who_holds_the_site() {
    let host = TestHost::new();
    host.file("index.php", PHP, 0o666);
    let folder = host.at("var/lib/ambrik/locks");
    fs::create_dir_all(&folder).unwrap();
    crate::host::give(&host.at("var/lib/ambrik"), rustix::process::geteuid().as_raw(), 0o700);
    let lock = fs::File::create(folder.join("berths.lock")).unwrap();
    fs::write(folder.join("berths.lock"), "process 4711, ambrik seal berths").unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).unwrap();
    let ran = host.run(&["set", "--yes"]);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert_eq!(
        ran.err,
        "ambrik: site berths is being changed by another run (process 4711, ambrik seal berths); wait for it to end\n"
    );
}
