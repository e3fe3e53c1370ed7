//! What is no longer as Ambrik left it, and since when something is wrong.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, chown, symlink};

use rstest::rstest;
use serde_json::Value;

use crate::documents::document;
use crate::host::{PHP, TestHost, give, is_root};

fn host() -> TestHost {
    let host = TestHost::new();
    host.site(
        "berths",
        "[[part]]\npath = \"uploads\"\nuse = \"store\"\n[[part]]\npath = \"install\"\nuse = \"setup\"\n",
    );
    for path in ["index.php", "lib/tides.php", "lib/gone.php", "uploads/a.png", "install/index.php"] {
        host.file(path, 0, 0o666);
    }
    assert_eq!(host.run(&["seal", "berths", "--yes", "--unfinished", "--fail-on", "never"]).code, 0);
    host
}

fn drifted(host: &TestHost) -> Vec<(String, String)> {
    let found = document(host, &["audit", "--drift"], "drift");
    let paths = found["sites"][0]["paths"].as_array().unwrap();
    let below = |path: &Value| path.as_str().unwrap().trim_start_matches("/srv/www/berths/").to_owned();
    paths.iter().map(|path| (below(&path["path"]), path["what"].as_str().unwrap().to_owned())).collect()
}

#[test]
fn each_path_is_told_with_what_was_left() {
    if !is_root() {
        return;
    }
    let host = host();
    assert_eq!(drifted(&host), []);
    let clean = host.run(&["audit", "--drift", "-q"]);
    assert_eq!((clean.code, &*clean.out), (0, ""));
    give(&host.at("srv/www/berths/index.php"), PHP, 0o644);
    fs::remove_file(host.at("srv/www/berths/lib/gone.php")).unwrap();
    fs::remove_file(host.at("srv/www/berths/lib/tides.php")).unwrap();
    host.file("lib/tides.php", 0, 0o644);
    // What PHP may write is its own to replace; folders' rights are not.
    fs::remove_file(host.at("srv/www/berths/uploads/a.png")).unwrap();
    fs::set_permissions(host.at("srv/www/berths/uploads"), fs::Permissions::from_mode(0o777)).unwrap();
    let pair = |path: &str, what: &str| (path.to_owned(), what.to_owned());
    let want = [
        pair("index.php", "rights"),
        pair("lib/gone.php", "gone"),
        pair("lib/tides.php", "replaced"),
        pair("uploads", "rights"),
    ];
    assert_eq!(drifted(&host), want);
    let text = host.run(&["audit", "--drift"]);
    assert!(text.code == 1 && text.out.starts_with("berths: 4 paths are no longer as Ambrik left it"), "{text:?}");
    assert!(text.out.contains("left   root:root 0644 (change set 1, "), "{text:?}");
    assert!(text.out.contains("now    php:php 0644, since "), "{text:?}");

    // What cannot be looked at is not told to be gone.
    let lib = host.at("srv/www/berths/lib");
    let aside = host.at("srv/www/berths/aside");
    fs::rename(&lib, &aside).unwrap();
    symlink("lib", &lib).unwrap();
    let whats: Vec<String> = drifted(&host).into_iter().map(|(_, what)| what).collect();
    assert_eq!(whats, ["rights", "unseen", "unseen", "rights"]);
    let text = host.run(&["audit", "--drift"]).out;
    assert!(text.starts_with("berths: 2 paths are no longer as Ambrik left it, 2 cannot be looked at"), "{text}");
    assert!(text.contains("now    cannot be told: /srv/www/berths/lib: too many symlinks"), "{text}");
    fs::remove_file(&lib).unwrap();
    fs::rename(&aside, &lib).unwrap();

    // An undo leaves things as well: as they were before.
    assert_eq!(host.run(&["set", "--yes"]).code, 0);
    assert!(drifted(&host).iter().all(|(_, what)| what != "rights"), "{:?}", drifted(&host));
    assert_eq!(host.run(&["undo", "--yes"]).code, 0);
    let after: Vec<String> =
        drifted(&host).into_iter().filter(|(_, what)| what == "rights").map(|(path, _)| path).collect();
    assert_eq!(after, [""; 0], "what the undo left is what is there");
}

/// Since when: between what is on record as right and the last change of the paths; where these did not change, something else did.
#[rstest]
#[case::changed("index.php", false, true)]
#[case::made("lib/new.php", true, true)]
#[case::neither("", false, false)]
fn a_finding_says_since_when(#[case] path: &str, #[case] made: bool, #[case] of_paths: bool) {
    if !is_root() {
        return;
    }
    let host = host();
    assert_eq!(host.run(&["audit", "-q", "--fail-on", "high"]).code, 0);
    if path.is_empty() {
        // The accounts change: PHP is now in root's group of old.
        host.site("berths", "others = \"none\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n");
    } else {
        let file = host.file(path, PHP, 0o644);
        chown(&file, Some(PHP), Some(PHP)).unwrap();
    }
    let found = document(&host, &["audit", "--fail-on", "never"], "audit");
    let findings = found["sites"][0]["findings"].as_array().unwrap();
    assert!(!findings.is_empty());
    let wanted = if path.is_empty() { "everyone-reads" } else { "php-writes-code" };
    let finding = findings.iter().find(|finding| finding["check"] == wanted).unwrap_or_else(|| panic!("{findings:#?}"));
    let since = &finding["since"];
    assert!(since["after"].is_string(), "{finding:#}");
    assert_eq!((since["until"].is_string(), since["by"] == "php"), (of_paths, made), "{finding:#}");
    let text = host.run(&["audit"]).out.replace("\n          ", " ");
    match (of_paths, made) {
        (true, true) => assert!(text.contains(", new and owned by php"), "{text}"),
        (true, false) => assert!(text.contains("changed between 20"), "{text}"),
        (false, _) => assert!(text.contains("when all was right: something else changed"), "{text}"),
    }
}
