//! A run that is killed in the middle, and two runs at once.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::process::Stdio;

use crate::host::{PHP, TestHost, is_root, picture};

const FILES: usize = 30_000;

/// A site with so many files that a run is caught in the middle.
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

#[test]
fn a_killed_run_is_told_of_and_taken_back() {
    if !is_root() {
        return;
    }
    let host = large();
    let before = picture(&host.at("srv"));
    let mut child = host.command(&["set", "--yes", "-q"]).stdout(Stdio::null()).spawn().unwrap();
    // Killed as soon as the first change is seen on the disk, in any of the folders.
    let firsts: Vec<_> = (0..100).map(|n| host.at(format!("srv/www/berths/d{n}"))).collect();
    while firsts.iter().all(|path| path.metadata().unwrap().uid() == PHP) {
        assert!(child.try_wait().unwrap().is_none(), "it ended before anything was seen to change");
    }
    child.kill().unwrap();
    child.wait().unwrap();
    let done = changed(&host);
    assert!(done < FILES, "it was too late to catch it");

    let ran = host.run(&["audit", "--fail-on", "never"]);
    assert!(ran.err.contains("change set 1 (set berths) was stopped in the middle; finish it with `ambrik set berths`, or take it back with `ambrik undo 1`"), "{}", ran.err);
    assert!(host.run(&["history"]).out.contains("stopped in the middle"));

    let ran = host.run(&["undo", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert_eq!(picture(&host.at("srv")), before);
    assert_eq!(host.run(&["audit", "--fail-on", "never"]).err, "");
}

/// Starts a run and kills it as soon as `seen` holds; whether it was caught in the middle.
fn killed_when(host: &TestHost, words: &[&str], seen: impl Fn() -> bool) -> bool {
    let mut child = host.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    while !seen() {
        if child.try_wait().unwrap().is_some() {
            return false;
        }
    }
    child.kill().unwrap();
    child.wait().unwrap().code().is_none()
}

/// Wherever a deployment is killed, the next `seal` ends it.
#[test]
fn a_deployment_killed_anywhere_is_ended_by_seal() {
    if !is_root() {
        return;
    }
    let host = large();
    host.site(
        "berths",
        "[[part]]\npath = \"d7\"\nuse = \"code\"\nwrite = \"install\"\n[[part]]\npath = \"d8\"\nuse = \"setup\"\n",
    );
    let folder = |n: usize| host.at(format!("srv/www/berths/d{n}")).metadata();
    let any_closed = || (0..100).any(|n| folder(n).is_ok_and(|meta| meta.uid() == 0));
    assert!(killed_when(&host, &["open", "berths", "--yes", "-q"], any_closed));
    let audit = host.run(&["audit", "--fail-on", "never"]);
    assert!(
        audit.err.contains("berths: open until"),
        "the window is on record before anything is granted: {}",
        audit.err
    );
    assert!(audit.err.contains("change set 1 (open berths) was stopped in the middle"), "{}", audit.err);
    let closes = || folder(7).is_ok_and(|meta| meta.mode() & 0o022 == 0 && meta.uid() == 0) || folder(8).is_err();
    killed_when(&host, &["seal", "berths", "--yes", "-q"], closes);
    let sealed = host.run(&["seal", "berths", "--yes", "-q"]);
    assert_eq!(sealed.code, 0, "{sealed:?}");
    assert!(folder(8).is_err(), "the installer is gone");
    let audit = host.run(&["audit"]);
    assert_eq!((audit.code, &*audit.err), (0, ""), "{audit:?}");
}

#[test]
fn a_killed_run_is_finished() {
    if !is_root() {
        return;
    }
    let host = large();
    let mut child = host.command(&["set", "--yes", "-q"]).stdout(Stdio::null()).spawn().unwrap();
    let ledger = host.at("var/lib/ambrik/ledger.sqlite3");
    while !ledger.exists() && child.try_wait().unwrap().is_none() {}
    child.kill().unwrap();
    child.wait().unwrap();
    let ran = host.run(&["set", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert_eq!(changed(&host), FILES);
    assert_eq!(host.run(&["audit"]).err, "");
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
