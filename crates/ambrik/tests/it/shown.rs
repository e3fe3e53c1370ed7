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
        &["audit", "--help"],
        &["set", "--help"],
        &["seal", "--help"],
        &["history", "--help"],
        &["undo", "--help"],
        &["demo", "--help"],
    ] {
        all.push_str(&host.run(words).out);
        all.push_str("\n----\n");
    }
    assert_snapshot!(all);
}
