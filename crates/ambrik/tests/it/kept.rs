//! What is removed is kept whole, or it is not removed: reads that fail, disks that are full, files with holes, and kills
//! between any two system calls.

use std::fs::{self, File};
use std::io::{Seek as _, Write as _};
use std::os::unix::fs::MetadataExt as _;
use std::os::unix::process::ExitStatusExt as _;
use std::process::Command;

use rstest::rstest;

use crate::every_step::site_of_everything;
use crate::host::{Mounted, PHP, TestHost, content, is_root};
use crate::moved::whole;

/// A run under strace(1), which makes a system call fail or sends a signal there; nothing where there is none.
pub(crate) fn traced(host: &TestHost, strace: &[&str], words: &[&str]) -> Option<std::process::Output> {
    let ambrik = host.command(words);
    let mut command = Command::new("strace");
    command.args(["-f", "-qq", "-o", "/dev/null"]).args(strace).arg(ambrik.get_program()).args(ambrik.get_args());
    command.env_clear().envs(ambrik.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let output = command.stdin(std::process::Stdio::null()).output();
    if output.is_err() {
        test_support::missing("there is no strace here");
    }
    output.ok()
}

fn site_with_leftovers() -> TestHost {
    let host = TestHost::new();
    host.site(
        "berths",
        "[[part]]\npath = \"install\"\nuse = \"setup\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n",
    );
    host.file("index.php", 0, 0o644);
    for name in ["install/a.php", "install/b.php", "install/c.php", "berths.tar.gz", "dump.sql.gz"] {
        fs::write(host.file(name, 0, 0o644), [content(name), vec![7; 40_000]].concat()).unwrap();
    }
    host
}

#[rstest]
#[case::fails("error=EIO", "install/b.php: cannot read: input/output error")]
#[case::is_cut_off("retval=0", "install/b.php: it was changed while it was copied")]
fn a_file_that_cannot_be_read_is_named_and_stays_and_all_else_comes_back(#[case] fault: &str, #[case] says: &str) {
    if !is_root() {
        return;
    }
    let host = site_with_leftovers();
    let root = host.at("srv/www/berths");
    let before = whole(&root);
    let path = root.join("install/b.php");
    let inject = format!("inject=read:{fault}");
    let strace = ["-P", path.to_str().unwrap(), "-e", "trace=read", "-e", &inject];
    let Some(output) = traced(&host, &strace, &["seal", "berths", "--yes"]) else { return };
    let ran = host.told(&output);
    assert_eq!(ran.code, 3, "{ran:?}");
    assert!(ran.err.contains(says), "{ran:?}");
    let left: Vec<_> = whole(&root).into_keys().map(|path| path.to_string_lossy().into_owned()).collect();
    assert_eq!(left, ["", "index.php", "install", "install/b.php"]);
    let back = host.run(&["undo", "--yes"]);
    assert_eq!((back.code, whole(&root) == before), (0, true), "{back:?}");
}

/// A file of one tebibyte that takes no room: neither does what is kept of it, nor what comes back.
#[test]
fn a_file_of_holes_takes_no_room() {
    if !is_root() {
        return;
    }
    let host = site_with_leftovers();
    let state = host.at("state");
    let Some(_mounted) = Mounted::of("tmpfs", &state, c"size=40m,mode=0700") else { return };
    let words = |words: &[&str]| host.run(&[words, &["--state", state.to_str().unwrap()]].concat());
    let path = host.file("install/holes", PHP, 0o644);
    let mut file = File::options().write(true).open(&path).unwrap();
    file.set_len(1 << 40).unwrap();
    file.seek(std::io::SeekFrom::Start(1 << 30)).unwrap();
    file.write_all(b"something").unwrap();
    drop(file);
    let ran = words(&["seal", "berths", "--yes"]);
    // That there are no uploads remains.
    assert_eq!((ran.code, path.exists()), (1, false), "{ran:?}");
    assert!(state.join("keepsakes/berths-1.tar").metadata().unwrap().len() < 1 << 20);
    let ran = words(&["undo", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    let meta = path.metadata().unwrap();
    assert!(meta.len() == 1 << 40 && meta.blocks() < 1 << 10, "{meta:?}");
}

/// What there is no room for is known before anything is written; the rest goes, and can be taken back.
#[test]
fn what_there_is_no_room_for_is_said_and_stays() {
    if !is_root() {
        return;
    }
    let host = site_with_leftovers();
    let state = host.at("state");
    let Some(_mounted) = Mounted::of("tmpfs", &state, c"size=24m,mode=0700") else { return };
    let words = |words: &[&str]| host.run(&[words, &["--state", state.to_str().unwrap()]].concat());
    let before = whole(&host.at("srv/www/berths/install"));
    let big = host.file("backup.tar.gz", PHP, 0o644);
    fs::write(&big, [content("backup.tar.gz"), vec![7; 12 << 20]].concat()).unwrap();
    let ran = words(&["seal", "berths", "--yes"]);
    assert_eq!(ran.code, 3, "{ran:?}");
    let says = "srv/www/berths/backup.tar.gz: it takes 12.0 MiB in the keepsake, and ";
    assert!(ran.err.contains(says) && ran.err.contains("make room, or take it away by hand"), "{ran:?}");
    assert!(big.exists() && !host.at("srv/www/berths/install").exists());
    let kept: Vec<_> = fs::read_dir(state.join("keepsakes")).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(kept, ["berths-1.tar"]);
    let ran = words(&["undo", "--yes"]);
    assert_eq!((ran.code, whole(&host.at("srv/www/berths/install")) == before), (0, true), "{ran:?}");
}

/// What nobody can remove stays, with what it is in; the rest goes.
#[test]
fn what_is_immutable_stays_and_the_rest_goes() {
    if !is_root() {
        return;
    }
    let host = site_with_leftovers();
    let path = host.at("srv/www/berths/install/b.php");
    let file = File::open(&path).unwrap();
    let flags = rustix::fs::ioctl_getflags(&file);
    let set = |on| {
        flags.and_then(|flags| {
            rustix::fs::ioctl_setflags(&file, if on { flags | rustix::fs::IFlags::IMMUTABLE } else { flags })
        })
    };
    if set(true).is_err() {
        test_support::skipped("this file system has no immutable flag");
        return;
    }
    let ran = host.run(&["seal", "berths", "--yes"]);
    let left = whole(&host.at("srv/www/berths/install")).len();
    set(false).unwrap();
    assert_eq!((ran.code, left), (3, 2), "{ran:?}");
    assert!(ran.err.contains("install/b.php: cannot remove: operation not permitted; it may be immutable"), "{ran:?}");
    assert!(!ran.err.contains("berths/install:"), "what it is in is no failure of its own: {ran:?}");
}

/// The installer comes back whole, whichever system call of taking it back is the last one of a run that is killed.
#[rstest]
fn a_restore_that_is_killed_at_any_call_is_finished(
    #[values(
        "mkdirat",
        "mknodat",
        "symlinkat",
        "linkat",
        "openat",
        "fchownat",
        "fchown",
        "fchmod",
        "fchmodat",
        "fsetxattr",
        "utimensat",
        "write",
        "pwrite64",
        "fsync",
        "syncfs"
    )]
    call: &str,
) {
    if !is_root() {
        return;
    }
    let stage = || {
        let host = site_of_everything();
        let before = whole(&host.at("srv/www/berths/tools"));
        let ran = host.run(&["seal", "berths", "--unfinished", "--yes", "-q"]);
        assert_eq!(ran.code, 0, "{ran:?}");
        (host, before)
    };
    // Opening files is most of what any run does: every seventh is enough.
    let step = if call == "openat" { 7 } else { 1 };
    let mut killed = 0;
    for n in (1..).step_by(step) {
        let (host, before) = stage();
        let (trace, inject) = (format!("trace={call}"), format!("inject={call}:signal=SIGKILL:when={n}"));
        let Some(output) = traced(&host, &["-e", &trace, "-e", &inject], &["undo", "1", "--yes", "-q"]) else { return };
        let is_killed = output.status.signal() == Some(9) || output.status.code() == Some(137);
        if !is_killed {
            assert_eq!(output.status.code(), Some(0), "{call} {n}: {:?}", host.told(&output));
            break;
        }
        killed += 1;
        let ran = host.run(&["undo", "1", "--yes", "-q"]);
        // It may have been killed after everything was done.
        let done = ran.code == 2 && ran.err.contains("change set 1 was taken back already, by change set 2");
        assert!(ran.code == 0 || done, "{call} {n}: {ran:?}");
        let after = whole(&host.at("srv/www/berths/tools"));
        for (path, text) in &before {
            assert_eq!(after.get(path), Some(text), "{call} {n}: {}", path.display());
        }
        assert_eq!(after.len(), before.len());
    }
    eprintln!("{call}: {killed} kills");
    assert!(killed > 0, "the run makes no such call");
}
