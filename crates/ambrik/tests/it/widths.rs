//! Output of any width: no line is longer than the terminal, but for what is to be pasted or saved.

use rstest::rstest;

use crate::host::{TestHost, is_root};

const COMMANDS: [&str; 13] = [
    "audit",
    "audit tidewatch",
    "set --preview",
    "open berths --preview",
    "seal berths --preview",
    "seal tidewatch --preview",
    "accounts",
    "accounts --settings",
    "checks",
    "checks changed-in-window",
    "why --writable tidewatch",
    "why /srv/www/tidewatch/data/lock",
    "history",
];

fn demo() -> TestHost {
    let host = TestHost::empty();
    let built = host.command_without_host(&["demo", "--build-only"]).arg(host.at("")).output().unwrap();
    assert!(built.status.success());
    host
}

#[rstest]
fn no_line_is_longer(#[values(60, 80, 120)] columns: usize) {
    if !is_root() {
        return;
    }
    let host = demo();
    for command in COMMANDS {
        let words: Vec<&str> = command.split(' ').collect();
        let output = host.command(&words).env("COLUMNS", columns.to_string()).output().unwrap();
        let ran = host.told(&output);
        let is_long = |line: &&str| line.chars().count() > columns && !line.contains("ambrik ");
        let long: Vec<&str> = ran.out.lines().filter(is_long).collect();
        assert!(long.is_empty() && !ran.out.is_empty(), "{command} at {columns}: {long:#?}");
    }
}

/// Where there is no UTF-8, or on request, symbols have words.
#[rstest]
#[case::asked_for("--plain", "C.UTF-8")]
#[case::without_utf_8("--quiet", "C")]
fn symbols_have_words(#[case] option: &str, #[case] locale: &str) {
    if !is_root() {
        return;
    }
    let host = demo();
    for command in COMMANDS {
        let words: Vec<&str> = command.split(' ').chain([option]).collect();
        let ran = host.told(&host.command(&words).env("LC_ALL", locale).output().unwrap());
        assert!(ran.out.is_ascii(), "{command}: {}", ran.out);
    }
    let words = ["audit", "tidewatch", option];
    let audit = host.told(&host.command(&words).env("LC_ALL", locale).output().unwrap());
    assert!(audit.out.contains("php rw in 4 (should be r)"), "{audit:?}");
}
