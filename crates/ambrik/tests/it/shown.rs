//! What people read: the look of each command's output.

use insta::assert_snapshot;

use crate::host::{PHP, TestHost, is_root};

/// A small site with one of each kind of trouble.
fn host() -> TestHost {
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"config/settings.php\"\nuse = \"secret\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n[[part]]\npath = \"install\"\nuse = \"setup\"\n");
    host.file("index.php", PHP, 0o666);
    host.file("config/settings.php", 0, 0o644);
    host.file("uploads/q01.svg", 0, 0o644);
    host.file("install/index.php", 0, 0o644);
    host.file("old.zip", 0, 0o644);
    host
}

#[test]
fn an_audit() {
    if is_root() {
        assert_snapshot!(host().run(&["audit"]).out);
    }
}

#[test]
fn an_audit_with_each_path() {
    if is_root() {
        let out = host().run(&["audit", "--each"]).out;
        for path in ["index.php", "config/settings.php", "uploads/q01.svg", "install", "old.zip"] {
            assert!(out.lines().any(|line| line.trim() == path), "{path}: {out}");
        }
    }
}

#[test]
fn a_seal_and_what_follows() {
    if !is_root() {
        return;
    }
    let host = host();
    assert_snapshot!("seal_preview", host.run(&["seal", "berths", "--preview"]).out);
    assert_snapshot!("seal", host.run(&["seal", "berths", "--yes", "--leave", "old.zip"]).out);
    let history = host.run(&["history"]).out;
    assert!(history.lines().nth(1).unwrap().starts_with(" 1  20"), "{history}");
    assert_snapshot!("undo", host.run(&["undo", "--yes"]).out);
}

#[test]
fn colours_only_where_asked_for() {
    let host = host();
    assert!(!host.run(&["audit"]).out.contains('\u{1b}'));
    assert!(host.run(&["audit", "--color", "always"]).out.contains("\u{1b}["));
}

#[test]
fn names_cannot_speak_to_the_terminal() {
    let host = TestHost::new();
    host.file("evil\u{1b}[2J\nname.php", PHP, 0o666);
    let out = host.run(&["audit", "--each", "--color", "always"]).out;
    assert!(out.contains("evil\\u{1b}[2J\\nname.php"), "{out}");
    assert!(!out.contains("\u{1b}[2J"));
}

#[test]
fn the_help_of_every_command() {
    let host = TestHost::new();
    let mut all = String::new();
    for words in [
        &["--help"][..],
        &["unpack", "--help"],
        &["audit", "--help"],
        &["set", "--help"],
        &["open", "--help"],
        &["seal", "--help"],
        &["move", "--help"],
        &["history", "--help"],
        &["undo", "--help"],
        &["why", "--help"],
        &["demo", "--help"],
    ] {
        all.push_str(&host.run(words).out);
        all.push_str("\n----\n");
    }
    assert_snapshot!(all);
}

#[test]
fn several_sites_end_with_a_count() {
    let host = host();
    std::fs::create_dir_all(host.at("srv/www/notices")).unwrap();
    crate::host::give(&host.at("srv/www/notices"), 0, 0o755);
    host.site("notices", "");
    let file = host.at("etc/ambrik/sites/notices.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, text.replace("\"php\"", "\"user\"")).unwrap();
    let ran = host.run(&["audit"]);
    assert!(ran.out.contains("\nnotices: "), "{ran:?}");
    if is_root() {
        assert!(ran.out.contains("notices: as it should be; PHP can write nothing\n"), "{ran:?}");
        assert!(ran.out.ends_with("\n2 sites: 1 as they should be, 1 with findings\n"), "{ran:?}");
    }
    let one = host.run(&["audit", "notices"]);
    assert!(!one.out.contains("berths"), "{one:?}");
    let by_path = host.run(&["audit", host.at("etc/ambrik/sites/notices.toml").to_str().unwrap()]);
    assert_eq!((by_path.code, by_path.out), (one.code, one.out));
}

#[test]
fn accepted_findings_stand_by_themselves() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "[[accept]]\ncheck = \"php-writes-code\"\npath = \"index.php\"\nreason = \"the updater of the application\"\nuntil = 2099-12-31\n");
    host.file("index.php", PHP, 0o644);
    let ran = host.run(&["audit"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(
        ran.out.contains("accepted until 2099-12-31: php-writes-code in ., 1 path: the updater of the application"),
        "{ran:?}"
    );
    assert!(ran.out.contains("harmless differences from the site file: ambrik set berths --preview"), "{ran:?}");
}

#[test]
fn the_bar_for_the_exit_code_moves() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.file("text.php", 0, 0o744);
    for (bar, code) in [("low", 1), ("medium", 0), ("high", 0), ("never", 0)] {
        let ran = host.run(&["audit", "--fail-on", bar]);
        assert_eq!(ran.code, code, "{bar}: {ran:?}");
        assert!(ran.out.starts_with("berths: 1 finding, none graver than low"), "{ran:?}");
    }
    assert_eq!(host.run(&["audit", "--fail-on", "grave"]).code, 2);
}

#[test]
fn set_says_what_is_left_for_seal() {
    if !is_root() {
        return;
    }
    let host = host();
    let ran = host.run(&["set", "berths", "--yes"]);
    assert!(ran.out.contains("berths: 2 installers and left-overs are still there: ambrik seal berths\n"), "{ran:?}");
    let ran = host.run(&["seal", "berths", "--yes"]);
    assert!(ran.out.contains("berths: 3 paths removed (kept); change set 2"), "{ran:?}");
    assert!(ran.out.ends_with("berths: sealed; looked at again, nothing remains\n"), "{ran:?}");
    let ran = host.run(&["seal", "berths", "--yes"]);
    assert_eq!((ran.code, &*ran.out), (0, "berths: nothing to do\nberths: sealed; looked at again, nothing remains\n"));
}

#[test]
fn undo_looks_first_where_asked_to() {
    if !is_root() {
        return;
    }
    let host = host();
    host.run(&["seal", "berths", "--yes"]);
    let before = crate::host::picture(&host.at("srv"));
    let ran = host.run(&["undo", "--preview"]);
    assert_eq!(ran.code, 1, "{ran:?}");
    assert!(ran.out.contains("comes back  /srv/www/berths/install"), "{ran:?}");
    assert_eq!(crate::host::picture(&host.at("srv")), before);
    assert_eq!(host.run(&["history", "notices"]).code, 2, "no site is called so");
    assert!(host.run(&["history", "berths"]).out.contains("seal"));
}

#[test]
fn keeper_and_php_in_one_are_told_once() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "keeper = \"php\"\n");
    host.file("index.php", PHP, 0o644);
    let ran = host.run(&["audit"]);
    assert!(ran.out.contains("php-is-keeper") && ran.out.contains("nothing can be kept from it"), "{ran:?}");
    assert!(!ran.out.contains("php-writes-code"), "{ran:?}");
}
