//! What stands behind site files: the host file with its drop-ins, and outlines; and what is doubtful of them all.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::os::unix::process::CommandExt as _;

use rstest::rstest;
use serde_json::Value;

use crate::documents::document;
use crate::host::{PHP, TestHost, give, is_root};

const HOST_FILE: &str = "etc/ambrik/host.toml";
const OUTLINE: &str = "etc/ambrik/outlines/bookings.toml";

/// A site that goes by an outline, with what its own file says besides.
fn goes_by(host: &TestHost, name: &str, lines: &str) {
    let text =
        format!("[site]\nroot = \"/srv/www/{name}\"\noutline = \"bookings\"\n[accounts]\nphp = \"php\"\n{lines}");
    host.write(&format!("etc/ambrik/sites/{name}.toml"), text);
    for (path, mode) in [("index.php", 0o644), ("uploads/a.png", 0o644), ("settings.php", 0o600)] {
        give(&host.write(&format!("srv/www/{name}/{path}"), "<?php\n"), 0, mode);
    }
}

fn host() -> TestHost {
    let host = TestHost::new();
    host.write(
        OUTLINE,
        "[defaults]\nweb = \"web\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n[[part]]\npath = \"settings.php\"\nuse = \"secret\"\n",
    );
    goes_by(&host, "berths", "");
    host
}

fn uses(document: &Value, site: usize) -> Vec<String> {
    let parts = document["sites"][site]["parts"].as_array().unwrap();
    parts.iter().map(|part| format!("{} {}", part["path"].as_str().unwrap(), part["use"].as_str().unwrap())).collect()
}

/// What is said for all sites holds where a site says nothing itself: its own file first, then its outline, then the host file, of
/// which the last drop-in first.
#[test]
fn each_stands_behind_the_one_before() {
    if !is_root() {
        return;
    }
    let host = host();
    host.write(
        HOST_FILE,
        "[defaults]\nkeeper = \"me\"\nweb = \"me\"\nothers = \"none\"\n[audit]\nfail_on = \"never\"\n",
    );
    host.write("etc/ambrik/host.d/10-keeper.toml", "[defaults]\nkeeper = \"user\"\n");
    goes_by(&host, "tidewatch", "keeper = \"root\"\n[[part]]\npath = \"uploads\"\nuse = \"scratch\"\n");
    let found = document(&host, &["audit"], "audit");
    let names =
        |site: usize| ["keeper", "php", "web"].map(|key| found["sites"][site]["accounts"][key].as_str().unwrap());
    assert_eq!(names(0), ["user:user", "php:php", "web:web"], "{found:#}");
    assert_eq!(names(1), ["root:root", "php:php", "web:web"], "{found:#}");
    assert_eq!(uses(&found, 0), [". code", "uploads store", "settings.php secret"]);
    assert_eq!(
        uses(&found, 1),
        [". code", "uploads scratch", "settings.php secret"],
        "its own part, not the outline's"
    );
    let others = &found["sites"][0]["parts"][0]["others"]["should"];
    assert_eq!(others, &Value::from(["-"]), "{found:#}");
    assert_eq!(found["sites"][0]["outline"], "bookings");
    // The host file says what makes the exit code 1; the command line says it instead.
    let high = found.to_string().contains("\"high\"");
    assert_eq!(
        (host.run(&["audit", "-q"]).code, host.run(&["audit", "-q", "--fail-on", "low"]).code),
        (0, 1),
        "{high}"
    );
}

/// An account for all sites: each has it, where it has such a path, and an audit says where it lacks.
#[test]
fn access_and_exceptions_for_all_sites() {
    if !is_root() {
        return;
    }
    let host = host();
    goes_by(&host, "tidewatch", "");
    host.write(
        HOST_FILE,
        "[[access]]\nuser = \"user\"\npath = \".\"\nmay = \"read\"\n[[access]]\nuser = \"me\"\npath = \"/var/lib/elsewhere\"\nmay = \"read\"\n\
         [[accept]]\ncheck = \"unknown-owner\"\npath = \"uploads\"\nreason = \"brought over\"\n",
    );
    fs::write(host.at("etc/passwd"), fs::read_to_string(host.at("etc/passwd")).unwrap() + "scp:x:61030:61030::/:/\n")
        .unwrap();
    give(&host.at("srv/www/berths/uploads/a.png"), 61_555, 0o644);
    let found = document(&host, &["audit"], "audit");
    for site in 0..2 {
        let access: Vec<&Value> = found["sites"][site]["parts"][0]["access"].as_array().unwrap().iter().collect();
        assert_eq!(access.len(), 1, "{found:#}");
        assert_eq!(access[0]["who"], "user");
        let checks = found["sites"][site]["findings"].to_string();
        assert!(checks.contains("access-withheld"), "{checks}");
    }
    let owner =
        found["sites"][0]["findings"].as_array().unwrap().iter().find(|found| found["check"] == "unknown-owner");
    assert_eq!(owner.unwrap()["accepted"]["reason"], "brought over", "{found:#}");
    assert_eq!(host.run(&["set", "--yes"]).code, 0);
    let why = host.run(&["why", "/srv/www/tidewatch/settings.php", "--as", "user"]);
    assert!(why.out.contains("can read"), "{why:?}");
}

/// What is wrong in a file behind is said with its line, nothing is done, and one that others can write decides nothing.
#[rstest]
#[case::host_file(HOST_FILE, "[defaults]\nkeper = \"root\"\n", "host.toml:2:1: unknown key \"keper\"")]
#[case::no_sections("etc/ambrik/host.toml", "[accounts]\nphp = \"php\"\n", "unknown key \"accounts\"")]
#[case::no_time(HOST_FILE, "[keep]\nkeepsakes = \"soon\"\n", "host.toml:2:13: keepsakes = \"soon\" is no time")]
#[case::no_severity(HOST_FILE, "[audit]\nfail_on = \"grave\"\n", "it is one of: high, medium, low, never")]
#[case::no_account(
    HOST_FILE,
    "[[access]]\nuser = \"nobody-here\"\npath = \".\"\nmay = \"read\"\n",
    "there is no such user"
)]
#[case::phps_own(
    HOST_FILE,
    "[[access]]\nuser = \"php\"\npath = \".\"\nmay = \"read\"\n",
    "host.toml:2:8: PHP runs as php"
)]
#[case::drop_in("etc/ambrik/host.d/a.toml", "[keep]\nhistory = 5\n", "a.toml:2:11: history is not a text")]
#[case::outline(OUTLINE, "[[part]]\npath = \"../up\"\nuse = \"store\"\n", "bookings.toml:2:8: path = \"../up\"")]
#[case::outlines_accounts(OUTLINE, "[accounts]\nphp = \"php\"\n", "bookings.toml:1:2: unknown key \"accounts\"")]
fn what_is_wrong_behind_is_said(#[case] file: &str, #[case] text: &str, #[case] says: &str) {
    let host = host();
    host.write(file, text);
    for words in [&["audit"][..], &["set", "--yes"], &["proofread"]] {
        let ran = host.run(words);
        let said = format!("{}{}", ran.out, ran.err).replace("\n    ", " ");
        assert!(said.contains(says), "{words:?}: {ran:?}");
        assert_eq!(ran.code, if words[0] == "proofread" { 1 } else { 2 }, "{ran:?}");
    }
}

#[test]
fn an_outline_that_is_not_there_is_a_mistake_of_the_site_file() {
    let host = host();
    fs::rename(host.at(OUTLINE), host.at("etc/ambrik/outlines/booking.toml")).unwrap();
    let ran = host.run(&["audit"]);
    assert!(ran.code == 2 && ran.err.contains("berths.toml:3:11: there is no outline"), "{ran:?}");
    assert!(ran.err.contains("did you mean \"booking\"?"), "{ran:?}");
}

#[rstest]
#[case(HOST_FILE)]
#[case(OUTLINE)]
#[case("etc/ambrik/host.d/x.toml")]
fn what_others_can_write_decides_nothing(#[case] file: &str) {
    if !is_root() {
        return;
    }
    let host = host();
    if !host.at(file).exists() {
        host.write(file, "");
    }
    fs::set_permissions(host.at(file), fs::Permissions::from_mode(0o666)).unwrap();
    let set = host.run(&["set", "--yes"]);
    assert!(set.code == 2 && set.err.contains(&format!("{file}: its mode 0666 lets others write")), "{set:?}");
    let audit = host.run(&["audit", "--format", "json"]);
    assert!(audit.out.contains("site-file-open"), "{audit:?}");
    assert!(host.run(&["proofread"]).out.contains("lets others write to it"));
}

/// Whatever is doubtful is said, in files that can be read.
#[test]
fn what_is_doubtful_is_said() {
    let host = host();
    let clean = host.run(&["proofread", "-q"]);
    assert_eq!((clean.code, &*clean.out), (0, ""), "{clean:?}");
    assert!(host.run(&["proofread"]).out.starts_with("1 site file, 1 outline, 0 host files: nothing wrong"));
    goes_by(
        &host,
        "tidewatch",
        "[[part]]\npath = \"gone\"\nuse = \"log\"\n[[part]]\npath = \"**/*.ssv\"\nuse = \"hidden\"\n[[part]]\npath = \"*.php\"\nuse = \"code\"\n\
         [[part]]\npath = \"made\"\nuse = \"log\"\ncreate = true\n[[part]]\npath = \"install\"\nuse = \"setup\"\n\
         [[accept]]\ncheck = \"everyone-reads\"\npath = \".\"\nreason = \"x\"\nuntil = 2020-01-01\n",
    );
    host.write("etc/ambrik/outlines/idle.toml", "[[part]]\npath = \"a\"\nuse = \"log\"\n");
    host.site("notices", "");
    fs::create_dir_all(host.at("srv/other")).unwrap();
    host.write(
        "etc/nginx/nginx.conf",
        "http { server { root /srv/www/berths; } server { root /srv/www/tidewatch; } server { root /srv/other; } server { root /srv/gone; } }\n",
    );
    let found = document(&host, &["proofread"], "proofread");
    let said: Vec<String> = found["remarks"]
        .as_array()
        .unwrap()
        .iter()
        .map(|remark| {
            let line = remark["line"].as_u64().map(|line| format!("{line}: ")).unwrap_or_default();
            format!("{} {line}{}", remark["kind"].as_str().unwrap(), remark["says"].as_str().unwrap())
        })
        .collect();
    let wanted = [
        "wrong site notices: root = \"/srv/www/notices\": ",
        "doubtful 6: part gone matches nothing of site tidewatch",
        "doubtful 9: part **/*.ssv matches nothing of site tidewatch",
        "doubtful the exception for everyone-reads ended on 2020-01-01",
        "doubtful nginx serves it (/etc/nginx/nginx.conf:1), and no site file describes it",
        "doubtful no site goes by the outline idle",
    ];
    assert_eq!(said.len(), wanted.len(), "{said:#?}");
    for want in wanted {
        assert!(said.iter().any(|said| said.starts_with(want)), "{want}: {said:#?}");
    }
    assert_eq!(host.run(&["proofread"]).code, 1);
}

/// Outlines that cannot be listed are not told as if there were none.
#[test]
fn outlines_that_cannot_be_listed_are_told() {
    let host = TestHost::new();
    host.site("berths", "");
    host.file("index.php", 0, 0o644);
    host.write("etc/ambrik/outlines", "no folder");
    let found = host.run(&["proofread"]);
    assert!(found.code == 1 && found.out.contains("1 site file, 0 outlines"), "{found:?}");
    assert!(found.out.contains("the outlines cannot be listed"), "{found:?}");
}

/// Where the walk cannot look everywhere, no part with a wildcard is said to match nothing.
#[test]
fn what_cannot_be_looked_at_is_not_said_to_match_nothing() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site(
        "berths",
        "[[part]]\npath = \"**/*.tide\"\nuse = \"store\"\n[[part]]\npath = \"gone\"\nuse = \"store\"\n",
    );
    host.file("index.php", 0, 0o644);
    host.file("closed/a.tide", 0, 0o600);
    fs::set_permissions(host.at("srv/www/berths/closed"), fs::Permissions::from_mode(0o700)).unwrap();
    fs::set_permissions(host.at("."), fs::Permissions::from_mode(0o755)).unwrap();
    let out = host.command(&["proofread"]).uid(61_009).gid(61_009).output().unwrap();
    let said = String::from_utf8_lossy(&out.stdout).replace("\n  ", " ");
    assert!(said.contains("part gone matches nothing"), "{out:?}");
    assert!(said.contains("not all of site berths can be looked at") && !said.contains("**/*.tide matches"), "{out:?}");
    assert!(!host.run(&["proofread"]).out.contains("**/*.tide"), "{:?}", host.run(&["proofread"]));
}

/// What a survey drafts as an outline is one that sites go by, and says of the site what the survey found.
#[test]
fn a_survey_drafts_an_outline() {
    let host = TestHost::new();
    host.write("srv/www/berths/index.php", "<?php file_put_contents(__DIR__ . '/cache/page', 'x');\n");
    host.write("srv/www/berths/cache/.keep", "");
    let drafted = host.run(&["survey", "/srv/www/berths", "--as-outline", "bookings"]);
    assert!(drafted.code == 0 && drafted.err.contains("outline = \"bookings\""), "{drafted:?}");
    goes_by(&host, "berths", "");
    assert_eq!(host.run(&["proofread"]).out.lines().count(), 1, "{:?}", host.run(&["proofread"]));
    let found = document(&host, &["audit", "--fail-on", "never"], "audit");
    assert!(uses(&found, 0).iter().any(|part| part == "cache scratch"), "{found:#}");
    let again = host.run(&["survey", "/srv/www/berths", "--as-outline", "bookings"]);
    assert!(again.code == 2 && again.err.contains("--replace"), "{again:?}");
    let meta = fs::metadata(host.at(OUTLINE)).unwrap();
    assert_eq!(meta.mode() & 0o7777, 0o644);
}

/// 200 sites of three outlines: where a finding is in many sites of one, it is told once, with the outline to mend.
#[test]
fn findings_of_one_outline_are_told_together() {
    if !is_root() {
        return;
    }
    let host = TestHost::empty();
    let php = format!("root:x:0:0::/:/\nphp:x:{PHP}:{PHP}::/:/\nweb:x:61002:61002::/:/\n");
    host.write("etc/passwd", php);
    host.write("etc/group", format!("root:x:0:\nphp:x:{PHP}:\nweb:x:61002:\n"));
    let outlines = ["bookings", "gauges", "boards"];
    for outline in outlines {
        host.write(
            &format!("etc/ambrik/outlines/{outline}.toml"),
            "[defaults]\nphp = \"php\"\nweb = \"php\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n",
        );
    }
    for n in 0..200 {
        let name = format!("site-{n:03}");
        let outline = outlines[n % 3];
        let text = format!("[site]\nroot = \"/srv/www/{name}\"\noutline = \"{outline}\"\n");
        host.write(&format!("etc/ambrik/sites/{name}.toml"), text);
        let mode = if n % 3 == 1 { 0o666 } else { 0o644 };
        give(&host.write(&format!("srv/www/{name}/index.php"), "<?php\n"), 0, mode);
        fs::create_dir(host.at(format!("srv/www/{name}/uploads"))).unwrap();
        give(&host.at(format!("srv/www/{name}/uploads")), PHP, 0o750);
    }
    assert_eq!(
        host.run(&["set", "site-000", "--preview"]).code,
        0,
        "{:?}",
        host.run(&["set", "site-000", "--preview"])
    );
    let ran = host.run(&["audit"]);
    let first: Vec<&str> = ran.out.lines().take_while(|line| !line.starts_with("site-1")).collect();
    let told = first.join("\n");
    assert!(told.contains("outline gauges: 67 of its 67 sites"), "{told}");
    assert!(told.contains("everyone-writes") && !told.contains("outline boards:"), "{told}");
}
