//! Left-overs and installers: what is certain goes, what is alive stays, what is neither is a person's to decide.

use std::os::unix::fs::PermissionsExt as _;

use rstest::rstest;
use serde_json::Value;

use crate::documents::document;
use crate::host::{TestHost, is_root};

fn served() -> TestHost {
    let host = TestHost::new();
    host.site("berths", "");
    host.file("index.php", 0, 0o644);
    host
}

fn put(host: &TestHost, path: &str, content: &str) {
    let path = host.write(&format!("srv/www/berths/{path}"), content);
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o644)).unwrap();
}

fn guesses(document: &Value) -> Vec<(String, bool)> {
    let list = document["sites"][0]["guesses"].as_array().cloned().unwrap_or_default();
    list.iter().map(|guess| (guess["path"].as_str().unwrap().to_owned(), guess["needed"].as_bool().unwrap())).collect()
}

/// What the code of the tree names is alive, whatever it is called, and wherever it is named.
#[rstest]
#[case::loaded("index.php", "<?php require 'lib/tide-old.php.bak';")]
#[case::linked("page.html", "<a href=\"lib/tide-old.php.bak\">tides</a>")]
#[case::built("package.json", "{\"files\": [\"lib/tide-old.php.bak\"]}")]
#[case::configured(".htaccess", "Redirect /old lib/tide-old.php.bak\n")]
#[case::deep_down("lib/deep/down/x.php", "<?php copy('tide-old.php.bak', $to);")]
fn what_code_names_is_no_left_over(#[case] file: &str, #[case] text: &str) {
    if !is_root() {
        return;
    }
    let host = served();
    host.file("lib/tide-old.php.bak", 0, 0o644);
    host.file("lib/tide-older.php.bak", 0, 0o644);
    put(&host, file, text);
    let audit = host.run(&["audit", "berths", "--each"]).out;
    assert!(!audit.contains("tide-old.php.bak") && audit.contains("tide-older.php.bak"), "{audit}");
    let sealed = host.run(&["seal", "berths", "--yes"]);
    assert_eq!(sealed.code, 0, "{sealed:?}");
    let there = |path: &str| host.at(format!("srv/www/berths/lib/{path}")).exists();
    assert!(there("tide-old.php.bak") && !there("tide-older.php.bak"));
}

/// What only a name speaks for stays without a person's yes, and is said to.
#[test]
fn guesses_are_left_to_a_person() {
    if !is_root() {
        return;
    }
    let host = served();
    put(&host, "install/index.php", "<?php echo 'install';");
    put(&host, "index.php~", "low water\n");
    put(&host, "berths.7z", "7z");
    host.file("berths.zip", 0, 0o644);
    let preview = document(&host, &["seal", "berths", "--preview"], "changes");
    let at = |path: &str| format!("/srv/www/berths/{path}");
    assert_eq!(guesses(&preview), ["berths.7z", "index.php~", "install"].map(|path| (at(path), false)));
    let ran = host.run(&["seal", "berths", "--yes"]);
    assert_eq!(ran.code, 1, "{ran:?}");
    assert!(ran.out.contains("  ask     install  (by its name: installer folder, 2 paths)"), "{ran:?}");
    assert!(ran.out.contains("is removed on your yes"), "{ran:?}");
    for (path, there) in [("install/index.php", true), ("index.php~", true), ("berths.7z", true), ("berths.zip", false)]
    {
        assert_eq!(host.at(format!("srv/www/berths/{path}")).exists(), there, "{path}");
    }
    host.site("berths", "[[part]]\npath = \"install\"\nuse = \"setup\"\n[[part]]\npath = \"*.7z\"\nuse = \"remove\"\n");
    assert_eq!(host.run(&["seal", "berths", "--yes", "--fail-on", "high"]).code, 0);
    assert!(!host.at("srv/www/berths/install").exists() && !host.at("srv/www/berths/berths.7z").exists());
}

/// An installer whose functions the upgrade uses is removed by a part of its own only.
#[test]
fn an_installer_that_other_code_loads_is_kept() {
    if !is_root() {
        return;
    }
    let host = served();
    put(&host, "install/index.php", "<?php echo 'install';");
    put(&host, "install/functions.php", "<?php function tables() {}");
    put(&host, "upgrade.php", "<?php\nrequire_once __DIR__ . '/install/functions.php';\n");
    let preview = document(&host, &["seal", "berths", "--preview"], "changes");
    assert_eq!(guesses(&preview), [("/srv/www/berths/install".to_owned(), true)]);
    let ran = host.run(&["seal", "berths", "--yes"]);
    let says = "keep    install  (by its name: installer folder, which upgrade.php:2 loads)";
    assert!(ran.out.contains(says) && ran.out.contains("use = \"setup\""), "{ran:?}");
    assert!(host.at("srv/www/berths/install/functions.php").exists());
}
