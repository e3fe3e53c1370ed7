//! Bad input and faults: a clear message, the right exit code, nothing lost.

use std::fs;
use std::os::unix::fs::{MetadataExt, symlink};
use std::process::Stdio;

use rstest::rstest;

use crate::host::{Mounted, PHP, TestHost, give, is_root, picture};

#[rstest]
#[case::misspelt("bertsh", 1, "did you mean berths?")]
#[case::another("gauges", 1, "the sites here are: berths")]
#[case::one_of_many("site-7x", 30, "did you mean site-7?")]
#[case::none_of_many("gauges", 30, "there are 30 sites here, and none is called nearly so")]
fn an_unknown_site_names_the_one_that_was_meant(#[case] name: &str, #[case] sites: usize, #[case] says: &str) {
    let host = TestHost::new();
    for n in 1..sites {
        host.site(&format!("site-{n}"), "");
    }
    let ran = host.run(&["audit", name]);
    let want = format!("ambrik: there is no site file [HOST]/etc/ambrik/sites/{name}.toml; {says}\n");
    assert_eq!((ran.code, ran.err), (2, want));
}

#[test]
fn all_mistakes_of_all_site_files_at_once() {
    let host = TestHost::new();
    host.site("berths", "[[part]]\npaht = \"x\"\nuse = \"store\"\n");
    host.site("notices", "others = \"all\"\n");
    let ran = host.run(&["audit"]);
    assert_eq!(ran.code, 2);
    let lines: Vec<&str> = ran.err.lines().collect();
    assert_eq!(lines.len(), 3, "{}", ran.err);
    assert!(lines[0].contains("berths.toml:6:1: [[part]] has no path; name the file"), "{}", ran.err);
    assert!(
        lines[1].contains("berths.toml:7:1: unknown key \"paht\" in [[part]]; did you mean \"path\"?"),
        "{}",
        ran.err
    );
    assert!(lines[2].contains("notices.toml:6:10: others = \"all\" is unknown"), "{}", ran.err);
}

#[test]
fn a_site_file_that_is_not_text() {
    let host = TestHost::new();
    fs::write(host.at("etc/ambrik/sites/berths.toml"), b"[site]\nroot = \"\xff\"").unwrap();
    let ran = host.run(&["audit"]);
    assert_eq!((ran.code, ran.err.contains("is not UTF-8 text")), (2, true), "{ran:?}");
}

#[rstest]
#[case::missing(None, "srv/www/berths does not exist")]
#[case::file(Some("file"), "is a file, not a directory")]
fn a_root_that_is_no_directory(#[case] what: Option<&str>, #[case] says: &str) {
    let host = TestHost::new();
    fs::remove_dir(host.at("srv/www/berths")).unwrap();
    if what.is_some() {
        host.write("srv/www/berths", "x");
    }
    for command in [&["audit", "berths"][..], &["set", "berths", "--yes"], &["seal", "berths", "--preview"]] {
        let ran = host.run(command);
        assert_eq!(ran.code, 2, "{ran:?}");
        assert!(ran.err.contains(says), "{ran:?}");
    }
}

#[test]
fn a_root_behind_a_link_is_said_and_looked_at() {
    let host = TestHost::new();
    fs::remove_dir(host.at("srv/www/berths")).unwrap();
    host.write("srv/real/index.php", "x");
    symlink("/srv/real", host.at("srv/www/berths")).unwrap();
    let ran = host.run(&["audit", "berths"]);
    assert!(ran.err.contains("root /srv/www/berths leads through a symlink to /srv/real"), "{ran:?}");
    assert!(ran.out.contains("2 paths"), "{ran:?}");
}

#[test]
fn without_a_terminal_nothing_is_changed() {
    let host = TestHost::new();
    host.file("index.php", PHP, 0o666);
    let before = picture(&host.at("srv"));
    for command in [&["set"][..], &["seal", "berths"]] {
        let ran = host.run(command);
        assert_eq!(ran.code, 2, "{ran:?}");
        assert!(ran.err.contains("say --yes, or look first with --preview"), "{ran:?}");
    }
    assert_eq!(picture(&host.at("srv")), before);
}

#[test]
fn preview_and_exit_codes() {
    let host = TestHost::new();
    host.file("index.php", PHP, 0o666);
    let before = picture(&host.at(""));
    assert_eq!(host.run(&["set", "--preview"]).code, 1);
    assert_eq!(picture(&host.at("")), before, "not even a state directory");
    assert_eq!(host.run(&["audit"]).code, 1);
    assert_eq!(host.run(&["audit", "--fail-on", "never"]).code, 0);
    if !is_root() {
        return;
    }
    assert_eq!(host.run(&["set", "--yes"]).code, 0);
    assert_eq!(host.run(&["audit"]).code, 0);
    let ran = host.run(&["set", "--preview"]);
    assert_eq!((ran.code, &*ran.out), (0, "berths: nothing to do\n"));
    assert_eq!(host.run(&["set", "--yes"]).out, "berths: nothing to do\n");
    assert_eq!(host.run(&["undo", "--yes"]).code, 0);
    assert_eq!(host.run(&["undo", "--yes"]).code, 2);
    assert_eq!(host.run(&["undo", "77", "--yes"]).code, 2);
    assert_eq!(host.run(&["audit", "--wrong"]).code, 2);
}

#[test]
fn an_ordinary_user_is_told_what_could_not_be_seen() {
    if !is_root() {
        return;
    }
    let mut host = TestHost::new();
    host.file("open/index.php", 0, 0o644);
    let closed = host.file("closed/index.php", 0, 0o644);
    give(closed.parent().unwrap(), 0, 0o700);
    host.run_as = Some(61_009);
    let ran = host.run(&["audit"]);
    assert_eq!(ran.code, 3, "{ran:?}");
    assert!(ran.out.contains("could-not-look") && ran.out.contains("closed"), "{ran:?}");
    let ran = host.run(&["set", "--yes"]);
    assert_eq!(ran.code, 4, "no state directory can be made: {ran:?}");
    assert!(ran.err.contains("run it as root"), "{ran:?}");
}

#[test]
fn what_needs_privilege_is_listed_and_the_rest_done() {
    if !is_root() {
        return;
    }
    let mut host = TestHost::new();
    let own = host.file("own.php", 61_009, 0o666);
    host.file("foreign.php", PHP, 0o666);
    host.site("berths", "keeper = \"user\"\n");
    fs::create_dir_all(host.at("state")).unwrap();
    give(&host.at("state"), 61_009, 0o700);
    give(&host.at("srv/www/berths"), 61_009, 0o755);
    host.run_as = Some(61_009);
    let state = host.at("state");
    let ran = host.run(&["set", "--yes", "--state", state.to_str().unwrap()]);
    assert_eq!(ran.code, 3, "{ran:?}");
    assert!(ran.err.contains("foreign.php: cannot set the mode of: operation not permitted; run as root"), "{ran:?}");
    assert_eq!(own.metadata().unwrap().mode() & 0o777, 0o644);
}

#[test]
fn a_state_directory_that_others_write_to_is_refused() {
    let host = TestHost::new();
    host.file("index.php", PHP, 0o666);
    fs::create_dir_all(host.at("var/lib/ambrik")).unwrap();
    give(&host.at("var/lib/ambrik"), rustix::process::geteuid().as_raw(), 0o777);
    let ran = host.run(&["set", "--yes"]);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains("its mode 0777 lets others write to it"), "{ran:?}");
}

#[test]
fn a_ledger_of_a_newer_version_is_left_alone() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.file("index.php", PHP, 0o666);
    host.run(&["set", "--yes"]);
    // SQLite's "user version" is the big-endian number at byte 60 of the file.
    let ledger = host.at("var/lib/ambrik/ledger.sqlite3");
    let mut bytes = fs::read(&ledger).unwrap();
    bytes[60..64].copy_from_slice(&99_u32.to_be_bytes());
    fs::write(&ledger, &bytes).unwrap();
    for command in [&["set", "--yes"][..], &["history"], &["undo", "--yes"], &["audit"]] {
        let ran = host.run(command);
        assert_eq!((ran.code, ran.err.contains("was written by a newer Ambrik")), (2, true), "{ran:?}");
    }
    assert_eq!(fs::read(&ledger).unwrap(), bytes);
}

#[test]
fn a_full_disk_under_the_ledger_changes_nothing() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    for n in 0..400 {
        host.file(&format!("f{n}/index.php"), PHP, 0o666);
    }
    let state = host.at("state");
    let Some(_mounted) = Mounted::of("tmpfs", &state, c"size=128k,mode=0700") else { return };
    fs::write(state.join("filler"), vec![0; 60_000]).unwrap();
    let before = picture(&host.at("srv"));
    let ran = host.run(&["set", "--yes", "--state", state.to_str().unwrap()]);
    assert!(ran.code == 3 || ran.code == 2, "{ran:?}");
    assert!(
        ran.err.contains("cannot write the ledger") && ran.err.contains("no space left on device; make room"),
        "{ran:?}"
    );
    assert_eq!(picture(&host.at("srv")), before);
}

#[test]
fn a_read_only_file_system_is_each_paths_reason() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    let root = host.at("srv/www/berths");
    let Some(_mounted) = Mounted::of("tmpfs", &root, c"mode=0755") else { return };
    host.file("index.php", PHP, 0o666);
    // Another test that starts its program just now holds our files open for a moment: then it is busy.
    let remount = || rustix::mount::mount_remount(&root, rustix::mount::MountFlags::RDONLY, c"");
    let remounted = (0..10_000).any(|_| remount().inspect_err(|_| std::thread::yield_now()).is_ok());
    assert!(remounted, "it stays busy");
    let ran = host.run(&["set", "--yes"]);
    assert_eq!(ran.code, 3, "{ran:?}");
    assert!(
        ran.err.contains("index.php: cannot set the mode of: read-only file system; remount it for writing"),
        "{ran:?}"
    );
}

#[test]
fn without_a_keepsake_nothing_comes_back_and_that_is_said() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"install\"\nuse = \"setup\"\n");
    host.file("install/index.php", 0, 0o644);
    let ran = host.run(&["seal", "berths", "--yes", "--keep-nothing"]);
    assert_eq!((ran.code, ran.out.contains("2 paths removed for good")), (0, true), "{ran:?}");
    let ran = host.run(&["undo", "--yes"]);
    assert_eq!(ran.code, 3, "{ran:?}");
    assert!(
        ran.out.contains("cannot come back, it was removed without a keepsake:  /srv/www/berths/install"),
        "{ran:?}"
    );
    assert!(ran.err.contains("it was removed without a keepsake"), "{ran:?}");
}

#[test]
fn a_site_without_a_root_is_known_before_another_is_changed() {
    let host = TestHost::new();
    host.file("index.php", PHP, 0o666);
    host.site("notices", "");
    let before = picture(&host.at("srv"));
    let ran = host.run(&["set", "--yes"]);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains("site notices: root = \"/srv/www/notices\": /srv/www/notices does not exist"), "{ran:?}");
    assert_eq!(picture(&host.at("srv")), before);
}

#[test]
fn a_file_system_without_access_lists_is_left_too_narrow_not_too_wide() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    let root = host.at("srv/www/berths");
    let Some(_mounted) = Mounted::of("ramfs", &root, c"mode=0755") else { return };
    host.site("berths", "grant = \"acl\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n");
    let file = host.file("uploads/q01.svg", PHP, 0o666);
    give(file.parent().unwrap(), PHP, 0o777);
    let ran = host.run(&["set", "--yes"]);
    assert_eq!(ran.code, 3, "{ran:?}");
    assert!(ran.err.contains("cannot set the access list of: operation not supported"), "{ran:?}");
    assert_eq!(file.metadata().unwrap().mode() & 0o777, 0o640);
    let audit = host.run(&["audit"]);
    assert!(audit.out.contains("php-cannot-write") && !audit.out.contains("everyone-writes"), "{audit:?}");
}

#[test]
fn what_cannot_be_kept_of_an_installer_is_said_and_left_and_the_rest_goes() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"install\"\nuse = \"setup\"\n");
    let file = host.file("install/index.php", 0, 0o644);
    let device = file.with_file_name("null");
    let (kind, mode) = (rustix::fs::FileType::CharacterDevice, rustix::fs::Mode::RUSR);
    if rustix::fs::mknodat(rustix::fs::CWD, &device, kind, mode, rustix::fs::makedev(1, 3)).is_err() {
        test_support::skipped("this test may not make a device");
        return;
    }
    for (how, code) in [("--preview", 1), ("--yes", 3)] {
        let ran = host.run(&["seal", "berths", how]);
        assert_eq!(ran.code, code, "{ran:?}");
        assert!(ran.out.contains("leave   /srv/www/berths/install/null: cannot keep a copy of"), "{ran:?}");
    }
    assert!(device.exists() && !file.exists());
    let ran = host.run(&["undo", "--yes"]);
    assert_eq!((ran.code, file.exists()), (0, true), "{ran:?}");
}

/// A part that is a file is made as a file, and nothing is a part below one.
#[rstest]
#[case::by_its_name("path = \".htaccess\"\nuse = \"code\"\ncreate = true", ".htaccess")]
#[case::settings_without_a_name("path = \"config/.env\"\nuse = \"secret\"\ncreate = true", "config/.env")]
#[case::data("path = \"var/berths.sqlite\"\nuse = \"store\"\ncreate = true", "var/berths.sqlite")]
fn a_part_that_is_a_file_is_made_as_one(#[case] part: &str, #[case] path: &str) {
    let host = TestHost::new();
    host.site("berths", &format!("[[part]]\n{part}\n"));
    let ran = host.run(&["set", "berths", "--yes"]);
    let made = host.at("srv/www/berths").join(path);
    assert!(made.is_file() || !is_root(), "{ran:?}");
    host.site(
        "berths",
        &format!("[[part]]\n{part}\n[[part]]\npath = \"{path}/below\"\nuse = \"store\"\ncreate = true\n"),
    );
    for words in [&["audit"][..], &["set", "--yes"], &["open", "berths", "--yes"]] {
        let ran = host.run(words);
        assert_eq!(ran.code, 2, "{ran:?}");
        assert!(ran.err.contains("berths.toml:10") && ran.err.contains("which is a file"), "{ran:?}");
    }
}

/// Whoever reads the results may go away: the exit code says what was found all the same.
#[test]
fn a_closed_pipe_is_no_clean_bill() {
    let host = TestHost::new();
    fs::set_permissions(host.at("srv/www/berths"), std::os::unix::fs::PermissionsExt::from_mode(0o777)).unwrap();
    for format in ["text", "json"] {
        let mut child = host.command(&["audit", "--format", format]).stdout(Stdio::piped()).spawn().unwrap();
        drop(child.stdout.take());
        assert_eq!(child.wait().unwrap().code(), Some(1));
    }
}

/// A no is the refusal that it is where nobody can be asked.
#[test]
fn a_no_is_a_refusal() {
    let host = TestHost::new();
    fs::set_permissions(host.at("srv/www/berths"), std::os::unix::fs::PermissionsExt::from_mode(0o777)).unwrap();
    assert_eq!(host.run(&["set", "berths"]).code, 2);
    let Some(asked) = crate::windows::on_a_terminal(&host, &["set", "berths"], "n\n") else { return };
    assert_eq!(asked.code, 2, "{asked:?}");
    assert!(asked.out.contains("nothing was changed"), "{asked:?}");
}

#[test]
fn names_that_no_site_has_and_names_that_stand_twice() {
    let host = TestHost::new();
    let nothing = host.run(&["history", "berts"]);
    assert!(nothing.code == 2 && nothing.err.contains("did you mean berths?"), "{nothing:?}");
    assert_eq!(host.run(&["history", "berths"]).code, 0);
    let twice = host.run(&["audit", "berths", "berths", "--fail-on", "never"]);
    assert_eq!((twice.code, twice.out.matches("berths: ").count()), (0, 1), "{twice:?}");
}
/// As many parts as anybody could write are read, and the site judged by them.
#[test]
fn very_many_parts_are_no_trouble() {
    let host = TestHost::new();
    let parts: String = (0..20_000).map(|n| format!("[[part]]\npath = \"a/{n}\"\nuse = \"store\"\n")).collect();
    host.site("berths", &parts);
    let audit = host.run(&["audit", "--fail-on", "never"]);
    assert_eq!(audit.code, 0, "{}", audit.err);
    // Nobody reads as many lines.
    assert!(audit.out.lines().count() < 300 && audit.out.contains("19,8"), "{}", audit.out.lines().count());
}
