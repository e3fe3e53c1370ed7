//! `accept`, and what is told of exceptions that are over or of no use.

use std::fs;

use rstest::rstest;

use crate::documents::{checked, document};
use crate::host::{TestHost, give, is_root};

const FILE: &str = "# The bookings.
[site]
root = \"/srv/www/berths\"   # where it is

[accounts]
php = \"php\"
web = \"web\"

# Uploads come through the form.
[[part]]
path = \"uploads\"
use = \"store\"
";

fn host(more: &str) -> TestHost {
    let host = TestHost::new();
    give(&host.write("etc/ambrik/sites/berths.toml", format!("{FILE}{more}")), 0, 0o640);
    give(&host.at("srv/www/berths"), 0, 0o755);
    host.file("index.php", 0, 0o755);
    host.file("lib/tool.php", 0, 0o755);
    give(&host.at("srv/www/berths/lib"), 0, 0o755);
    host
}

fn text(host: &TestHost) -> String {
    fs::read_to_string(host.at("etc/ambrik/sites/berths.toml")).unwrap()
}

#[rstest]
#[case::relative("lib")]
#[case::absolute("/srv/www/berths/lib")]
fn an_exception_is_written_after_what_is_there(#[case] path: &str) {
    if !is_root() {
        return;
    }
    let host = host("");
    let words = ["accept", "berths", "program-bit", path, "--because", "cron_runs_it", "--until", "2099-12-31"];
    let preview = host.run(&[&words[..], &["--preview"]].concat());
    assert_eq!((preview.code, text(&host)), (1, FILE.to_owned()), "{preview:?}");
    assert!(preview.out.contains("covers   1 path"), "{preview:?}");
    let ran = host.run(&[&words[..], &["--yes"]].concat());
    assert_eq!(ran.code, 0, "{ran:?}");
    let added =
        "\n[[accept]]\ncheck = \"program-bit\"\npath = \"lib\"\nreason = \"cron_runs_it\"\nuntil = 2099-12-31\n";
    assert_eq!(text(&host), format!("{FILE}{added}"));
    let mode = std::os::unix::fs::MetadataExt::mode(&host.at("etc/ambrik/sites/berths.toml").metadata().unwrap());
    assert_eq!(mode & 0o7777, 0o640, "it stays what it was");
    let audit = document(&host, &["audit", "berths", "--fail-on", "never"], "audit");
    let findings = audit["sites"][0]["findings"].as_array().unwrap();
    let accepted: Vec<bool> = findings
        .iter()
        .filter(|finding| finding["check"] == "program-bit")
        .map(|finding| finding["accepted"]["reason"] == "cron_runs_it")
        .collect();
    assert_eq!(accepted, [false, true], "{findings:#?}");
    let again = host.run(&[&words[..], &["--yes"]].concat());
    assert!(again.code == 2 && again.err.contains("is accepted for lib already"), "{again:?}");
}

#[rstest]
#[case::no_reason(&["program-bit", "lib", "--because", " "], "--because: say why")]
#[case::no_check(&["program-bits", "lib", "--because", "x"], "there is no check program-bits; did you mean program-bit?")]
#[case::no_day(&["program-bit", "lib", "--because", "x", "--until", "soon"], "write a day")]
#[case::over(&["program-bit", "lib", "--because", "x", "--until", "2020-01-01"], "that day is over")]
#[case::not_asked(&["program-bit", "lib", "--because", "x"], "there is no terminal to ask on")]
fn what_is_refused_changes_nothing(#[case] words: &[&str], #[case] says: &str) {
    if !is_root() {
        return;
    }
    let host = host("");
    let ran = host.run(&[&["accept", "berths"], words].concat());
    assert!(ran.code == 2 && ran.err.contains(says), "{ran:?}");
    assert_eq!(text(&host), FILE);
}

#[test]
fn what_covers_nothing_is_said() {
    if !is_root() {
        return;
    }
    let host = host("");
    let ran = host.run(&["accept", "berths", "special-file", "lib", "--because", "x", "--yes", "--format", "json"]);
    let document = checked(&ran.out, "accept");
    assert_eq!((&document["covers"], &document["written"]), (&0.into(), &true.into()), "{document:#}");
    let audit = host.run(&["audit", "berths"]);
    assert!(audit.err.contains("the exception for special-file in lib covers nothing now"), "{audit:?}");
}

#[test]
fn what_is_over_is_said() {
    if !is_root() {
        return;
    }
    let host = host("[[accept]]\ncheck = \"program-bit\"\npath = \".\"\nreason = \"for now\"\nuntil = 2020-01-01\n");
    let audit = host.run(&["audit", "berths"]);
    assert!(audit.err.contains("the exception for program-bit in . ended on 2020-01-01"), "{audit:?}");
    assert!(audit.out.contains("program-bit"), "it counts again: {audit:?}");
}
