//! Several sites on one host: one in the folder of another, site files that cannot both be right, and one that is wrong
//! beside others.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};

use rstest::rstest;

use crate::host::{PHP, TestHost, give, is_root, picture};

/// The account that PHP of the inner site runs as.
const INNER: u32 = 61_009;

/// The harbour's bookings, and in a folder of theirs the notice board, each as its own site file wants it.
fn nested() -> TestHost {
    let host = TestHost::new();
    host.write(
        "etc/ambrik/sites/berths.toml",
        "[site]\nroot = \"/srv/www/berths\"\nserved = \"public\"\n[accounts]\nphp = \"php\"\nweb = \"web\"\nothers = \"none\"\n\
         [[part]]\npath = \"uploads\"\nuse = \"store\"\n[[part]]\npath = \"**/*.key\"\nuse = \"secret\"\n",
    );
    host.write(
        "etc/ambrik/sites/notices.toml",
        "[site]\nroot = \"/srv/www/berths/notices\"\n[accounts]\nphp = \"user\"\nweb = \"web\"\n\
         [[part]]\npath = \"settings.php\"\nuse = \"secret\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n\
         [[part]]\npath = \"install\"\nuse = \"setup\"\n",
    );
    for path in ["public/index.php", "uploads/a.svg"] {
        host.file(path, PHP, 0o666);
    }
    for path in ["notices/index.php", "notices/settings.php", "notices/uploads/b.svg", "notices/db.key"] {
        host.file(path, INNER, 0o666);
    }
    host
}

#[test]
fn each_site_is_left_to_its_own_site_file() {
    if !is_root() {
        return;
    }
    let host = nested();
    let inner = host.at("srv/www/berths/notices");
    assert_eq!(host.run(&["set", "notices", "--yes"]).code, 0);
    let as_wanted = picture(&inner);
    for words in [
        &["set", "berths", "--yes"][..],
        &["open", "berths", "--yes"],
        &["seal", "berths", "--yes"],
        &["set", "--yes"],
        &["set", "notices", "--yes"],
    ] {
        let ran = host.run(words);
        assert_eq!(ran.code, 0, "{words:?}: {ran:?}");
        assert_eq!(picture(&inner), as_wanted, "{words:?}");
    }
    assert!(host.run(&["set", "--preview"]).out.matches("nothing to do").count() == 2);
    let audit = host.run(&["audit"]);
    assert_eq!(audit.code, 0, "{audit:?}");
    assert!(audit.err.contains("berths: notices is of site notices"), "{audit:?}");
    // PHP of the inner site gets there, by name, and the outer one is closed to all others.
    let mode = |path: &str| fs::metadata(host.at(path)).unwrap().mode() & 0o7777;
    assert_eq!(
        (mode("srv/www/berths"), mode("srv/www/berths/public/index.php") & 0o7),
        (0o750, 0),
        "{:o}",
        mode("srv/www/berths")
    );
    let why = host.run(&["why", "/srv/www/berths/notices/settings.php", "--as", "user"]);
    assert_eq!(why.code, 0, "{why:?}");
    assert!(why.out.contains("notices (sealed)") && !why.out.contains("berths (sealed)"), "{why:?}");
    let all = host.run(&["why", "--writable", "berths", "--as", "user"]);
    assert!(!all.out.contains("notices"), "{all:?}");
    let moved = host.run(&["move", "berths", "uploads", "/srv/www/berths/notices/pictures", "--yes"]);
    assert_eq!(moved.code, 2, "{moved:?}");
    assert!(moved.err.contains("this is in site notices"), "{moved:?}");
    let draft = host.run(&["survey", "/srv/www/berths"]);
    assert!(draft.out.contains("# notices is of site notices") && !draft.out.contains("notices/"), "{draft:?}");
}

/// However it is written: through a link in either root, or with a site file that is wrong in another place.
#[rstest]
#[case::link_to_the_outer("/srv/here/notices", "")]
#[case::link_to_the_inner("/srv/there", "")]
#[case::wrong_in_another_place("/srv/www/berths/notices", "[[part]]\npath = \"x\"\nuse = \"stoer\"\n")]
fn a_site_inside_is_found_where_it_really_is(#[case] root: &str, #[case] wrong: &str) {
    if !is_root() {
        return;
    }
    let host = nested();
    symlink("/srv/www/berths", host.at("srv/here")).unwrap();
    symlink("www/berths/notices", host.at("srv/there")).unwrap();
    host.write(
        "etc/ambrik/sites/notices.toml",
        format!("[site]\nroot = \"{root}\"\n[accounts]\nphp = \"user\"\nweb = \"web\"\n{wrong}"),
    );
    let inner = host.at("srv/www/berths/notices");
    let before = picture(&inner);
    let ran = host.run(&["set", "berths", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert_eq!(picture(&inner), before);
    assert_eq!(host.run(&["audit", "berths"]).code, 0);
}

/// Two site files that cannot both be right are both named, and nothing is changed by either.
#[rstest]
#[case::one_root("/srv/www/berths", "have one root, /srv/www/berths")]
#[case::one_root_by_a_link("/srv/here", "have one root, /srv/www/berths")]
#[case::where_php_writes("/srv/www/berths/uploads/notices", "lies in uploads of")]
fn site_files_that_contradict_each_other_are_named(#[case] root: &str, #[case] says: &str) {
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"uploads\"\nuse = \"store\"\n");
    host.site("tidewatch", "");
    symlink("www/berths", host.at("srv/here")).unwrap();
    host.write("srv/www/berths/uploads/notices/index.php", "<?php");
    host.write("srv/www/tidewatch/index.php", "<?php");
    host.write(
        "etc/ambrik/sites/notices.toml",
        format!("[site]\nroot = \"{root}\"\n[accounts]\nphp = \"user\"\nweb = \"web\"\n"),
    );
    let before = picture(&host.at("srv"));
    for words in
        [&["set", "--yes"][..], &["set", "berths", "--yes"], &["seal", "notices", "--yes"], &["audit", "notices"]]
    {
        let ran = host.run(words);
        assert_eq!(ran.code, 2, "{words:?}: {ran:?}");
        let both = ran.err.contains("berths.toml") && ran.err.contains("notices.toml");
        assert!(both && ran.err.contains(says), "{words:?}: {ran:?}");
    }
    assert_eq!(picture(&host.at("srv")), before);
    let audit = host.run(&["audit", "--fail-on", "never"]);
    assert_eq!(audit.code, 3, "{audit:?}");
    assert!(audit.out.contains("tidewatch") && audit.out.contains("3 sites:") && audit.out.contains("2 not judged"));
}

/// What can be judged is judged; what cannot is named first.
#[rstest]
#[case::unknown_key(
    "[site]\nroot = \"/srv/www/notices\"\nservd = \".\"\n[accounts]\nphp = \"php\"\n",
    "unknown key \"servd\""
)]
#[case::missing_root("[site]\nroot = \"/srv/www/gone\"\n[accounts]\nphp = \"php\"\n", "does not exist")]
#[case::no_toml("[site\n", "this is not TOML")]
fn one_wrong_site_file_silences_no_other(#[case] wrong: &str, #[case] says: &str) {
    let host = TestHost::new();
    fs::set_permissions(host.at("srv/www/berths"), fs::Permissions::from_mode(0o777)).unwrap();
    host.write("etc/ambrik/sites/notices.toml", wrong);
    for (words, code) in [
        (&["audit"][..], 3),
        (&["set", "--preview"], 3),
        (&["audit", "berths"], 1),
        (&["set", "berths", "--preview"], 1),
    ] {
        let ran = host.run(words);
        assert_eq!(ran.code, code, "{words:?}: {ran:?}");
        assert_eq!(ran.err.contains(says), code == 3, "{words:?}: {ran:?}");
        assert!(ran.out.contains("berths"), "{words:?}: {ran:?}");
    }
    let json = host.run(&["audit", "--format", "json"]);
    let json: serde_json::Value = serde_json::from_str(&json.out).unwrap();
    assert_eq!((&json["not_judged"][0]["name"], &json["sites"][0]["name"]), (&"notices".into(), &"berths".into()));
    assert_eq!(host.run(&["audit", "notices"]).code, 2);
    assert_eq!(host.run(&["set", "--yes"]).code, 2, "what is to be changed is wrong in part");
    assert_eq!(host.run(&["why", "/srv/www/berths", "--as", "user"]).code, 1);
}

/// Nothing is changed where another site may lie, and where that is cannot be read, or was written by anybody.
#[test]
fn what_may_be_another_sites_is_not_changed() {
    if !is_root() {
        return;
    }
    let host = nested();
    let before = picture(&host.at("srv"));
    host.write("etc/ambrik/sites/notices.toml", "[site\n");
    let ran = host.run(&["set", "berths", "--yes"]);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains("where its site is cannot be read"), "{ran:?}");
    let host_file = host
        .write("etc/ambrik/sites/notices.toml", "[site]\nroot = \"/srv/www/berths/lib\"\n[accounts]\nphp = \"user\"\n");
    give(&host_file, PHP, 0o644);
    let ran = host.run(&["set", "berths", "--yes"]);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains("others could have written that"), "{ran:?}");
    assert_eq!(picture(&host.at("srv")), before);
    assert_eq!(host.run(&["audit", "berths"]).code, 1, "nobody takes something out of an audit so");
}
/// What several sites have in common is told once, with the sites that it concerns.
#[test]
fn what_concerns_the_host_is_told_once() {
    let host = TestHost::new();
    host.site("notices", "[[part]]\npath = \"keys\"\nuse = \"secret\"\n");
    host.site("tidewatch", "[[accept]]\ncheck = \"php-shared\"\npath = \".\"\nreason = \"one team\"\n");
    for site in ["notices", "tidewatch"] {
        host.write(&format!("srv/www/{site}/index.php"), "<?php");
    }
    assert_eq!(host.run(&["set", "--yes"]).code, 0);
    let audit = host.run(&["audit"]);
    assert_eq!(audit.code, 1, "{audit:?}");
    assert_eq!(audit.out.matches("php-shared").count(), 1, "{audit:?}");
    assert!(audit.out.contains("all run as php") && audit.out.contains("notices with keys"), "{audit:?}");
    let json: serde_json::Value = serde_json::from_str(&host.run(&["audit", "--format", "json"]).out).unwrap();
    assert_eq!(json["host_findings"][0]["sites"], serde_json::json!(["berths", "notices", "tidewatch"]));
    assert!(json["sites"].as_array().unwrap().iter().all(|site| site["findings"] == serde_json::json!([])), "{json}");
    // Accepted is what every site that it concerns accepts.
    for site in ["berths", "notices"] {
        host.site(site, "[[accept]]\ncheck = \"php-shared\"\npath = \".\"\nreason = \"one team\"\n");
    }
    let audit = host.run(&["audit"]);
    assert!(audit.code == 0 && audit.out.contains("accepted: php-shared"), "{audit:?}");
}
