//! What Ambrik itself exposes: its state is its owner's alone, no link in it is followed, and the environment of somebody
//! with fewer rights decides nothing.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::{Command, Stdio};

use rstest::rstest;

use crate::host::{PHP, TestHost, is_root};

/// A site that something is removed from, so that everything is written that can be.
fn host() -> TestHost {
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"install\"\nuse = \"setup\"\n");
    host.file("index.php", PHP, 0o666);
    host.file("install/step.php", PHP, 0o666);
    host
}

/// Every path below a folder that anybody but its owner has a right to.
fn open_to_others(folder: &Path) -> Vec<String> {
    let (mut found, mut ahead) = (Vec::new(), vec![folder.to_owned()]);
    while let Some(path) = ahead.pop() {
        let meta = path.symlink_metadata().unwrap();
        if meta.mode() & 0o077 != 0 || meta.uid() != rustix::process::geteuid().as_raw() {
            found.push(format!("{} {:o} {}", path.display(), meta.mode(), meta.uid()));
        }
        if meta.is_dir() {
            ahead.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
        }
    }
    found
}

#[rstest]
fn its_state_is_its_owners_alone_whatever_the_umask(#[values("000", "077", "277")] umask: &str) {
    if !is_root() {
        return;
    }
    let host = host();
    let ambrik = host.command(&["seal", "berths", "--yes", "-q"]);
    let mut shell = Command::new("sh");
    shell
        .env_clear()
        .args(["-c", "umask \"$0\"; exec \"$@\"", umask])
        .arg(ambrik.get_program())
        .args(ambrik.get_args());
    let output = shell.stdin(Stdio::null()).output().unwrap();
    assert_eq!(output.status.code(), Some(0), "{output:?}");
    let state = host.at("var/lib/ambrik");
    assert_eq!(open_to_others(&state), [] as [String; 0]);
    for expected in ["ledger.sqlite3", "keepsakes/berths-1.tar", "locks/berths.lock"] {
        assert!(state.join(expected).exists(), "{expected}");
    }
}

/// A link in the state directory is refused, and what it leads to stays as it is.
#[rstest]
#[case::keepsakes("keepsakes", "outside")]
#[case::locks("locks", "outside")]
#[case::ledger("ledger.sqlite3", "outside/ledger")]
fn no_link_in_its_state_is_followed(#[case] name: &str, #[case] target: &str) {
    if !is_root() {
        return;
    }
    let host = host();
    fs::create_dir_all(host.at("outside")).unwrap();
    fs::write(host.at("outside/ledger"), "").unwrap();
    fs::create_dir_all(host.at("var/lib/ambrik")).unwrap();
    fs::set_permissions(host.at("var/lib/ambrik"), fs::Permissions::from_mode(0o700)).unwrap();
    symlink(host.at(target), host.at("var/lib/ambrik").join(name)).unwrap();
    let ran = host.run(&["seal", "berths", "--yes", "-q"]);
    assert!([2, 3].contains(&ran.code), "{ran:?}");
    let left: Vec<_> = fs::read_dir(host.at("outside")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(left, ["ledger"]);
    assert_eq!(fs::read(host.at("outside/ledger")).unwrap(), b"");
    assert!(host.at("srv/www/berths/install").exists(), "nothing is removed that is not kept: {ran:?}");
}

#[test]
fn the_environment_of_sudos_caller_decides_nothing() {
    let host = host();
    let run = |sudo: Option<&str>| {
        let mut command = host.command(&["history"]);
        command.env("AMBRIK_STATE", host.at("elsewhere")).env("AMBRIK_SITES", host.at("elsewhere"));
        host.told(&command.envs(sudo.map(|uid| ("SUDO_UID", uid))).output().unwrap())
    };
    fs::create_dir(host.at("elsewhere")).unwrap();
    fs::set_permissions(host.at("elsewhere"), fs::Permissions::from_mode(0o777)).unwrap();
    assert_eq!(run(None).code, 2, "the caller's own folder, in which others can write, is refused");
    for (sudo, followed) in [("0", true), ("61009", false)] {
        let ran = run(Some(sudo));
        assert_eq!(ran.code == 2, followed, "{ran:?}");
        assert_eq!(
            ran.err.contains("AMBRIK_STATE is not followed where somebody else's rights are used"),
            !followed,
            "{ran:?}"
        );
    }
}

/// The program with a set-uid bit: the kernel says so (`AT_SECURE`), and the environment is not followed.
#[test]
fn the_environment_decides_nothing_for_a_set_uid_program() {
    if !is_root() {
        return;
    }
    let host = host();
    let program = host.at("ambrik-set-uid");
    fs::copy(env!("CARGO_BIN_EXE_ambrik"), &program).unwrap();
    fs::set_permissions(&program, fs::Permissions::from_mode(0o4755)).unwrap();
    let mut command = Command::new(&program);
    command.env_clear().env("AMBRIK_STATE", "/nowhere").uid(61_009).gid(61_009);
    command.arg("--host").arg(host.at("")).args(["history"]).stdin(Stdio::null());
    let ran = host.told(&command.output().unwrap());
    if !ran.err.contains("AMBRIK_STATE is not followed") {
        let mounts = fs::read_to_string("/proc/self/mounts").unwrap();
        assert!(mounts.contains("nosuid"), "{ran:?}");
        test_support::skipped("set-uid bits count for nothing here");
    }
}
