//! Hosts with many sites, and what is told where nothing is to be said.

use rstest::rstest;

use crate::documents::checked;
use crate::host::{TestHost, give, is_root};

/// A host with so many sites, of which these are open to every account.
fn host(all: usize, bad: &[usize]) -> TestHost {
    let host = TestHost::new();
    std::fs::remove_file(host.at("etc/ambrik/sites/berths.toml")).unwrap();
    let users: String = (0..all).map(|n| format!("php-{n}:x:{0}:{0}::/:/\n", 62_000 + n)).collect();
    let known = std::fs::read_to_string(host.at("etc/passwd")).unwrap();
    std::fs::write(host.at("etc/passwd"), known + &users).unwrap();
    for n in 0..all {
        let name = format!("berths-{n:03}");
        host.write(
            &format!("etc/ambrik/sites/{name}.toml"),
            format!("[site]\nroot = \"/srv/www/{name}\"\n[accounts]\nphp = \"php-{n}\"\nweb = \"web\"\n"),
        );
        give(&host.at(format!("etc/ambrik/sites/{name}.toml")), 0, 0o644);
        let page = host.write(&format!("srv/www/{name}/index.php"), "<?php\n");
        give(&page, 0, if bad.contains(&n) { 0o666 } else { 0o644 });
        give(page.parent().unwrap(), 0, 0o755);
    }
    host
}

#[test]
fn the_first_screen_says_which_sites_are_bad_and_why() {
    if !is_root() {
        return;
    }
    let host = host(200, &[3, 17, 99, 150, 199]);
    let ran = host.run(&["audit"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    let lines: Vec<&str> = ran.out.lines().collect();
    assert_eq!(lines[0], "200 sites: 195 as they should be, 5 with findings");
    for (line, name) in lines[3..8].iter().zip(["003", "017", "099", "150", "199"]) {
        assert!(line.contains(&format!("berths-{name}")) && line.contains("PHP can change 1 path"), "{line}");
    }
    assert!(lines[8].contains("195 more are as they should be"), "{}", lines[8]);
    assert!(lines.len() < 120, "only what is high is told whole: {}", lines.len());
    let each = host.run(&["audit", "--each"]);
    assert!(each.out.lines().count() > 600, "{}", each.out.lines().count());
}

/// With `-q` nothing is printed where all is as it should be or was done, and all where it is not.
#[rstest]
#[case::audit(&["audit", "-q"], false)]
#[case::nothing_to_set(&["set", "berths-000", "-q", "--yes"], false)]
#[case::nothing_to_preview(&["set", "berths-000", "-q", "--preview"], false)]
#[case::nothing_to_seal(&["seal", "berths-000", "-q", "--yes"], false)]
#[case::an_open_file(&["audit", "-q"], true)]
#[case::a_preview(&["set", "berths-001", "-q", "--preview"], true)]
fn quiet_is_quiet(#[case] words: &[&str], #[case] says: bool) {
    if !is_root() {
        return;
    }
    let host = host(2, if says { &[1] } else { &[] });
    let ran = host.run(words);
    assert_eq!(
        (ran.code, ran.out.contains("berths-001"), ran.out.is_empty()),
        (i32::from(says), says, !says),
        "{ran:?}"
    );
    assert!(!ran.out.contains("berths-000") && (says || ran.err.is_empty()), "{ran:?}");
    // What was done as asked is not told either.
    let done = host.run(&["set", "-q", "--yes"]);
    assert_eq!((done.code, &*done.out, &*done.err), (0, "", ""), "{done:?}");
}

/// The news is what is new, gone or of other paths since the last audit of the whole host; where nothing is, nothing is printed.
#[test]
fn the_news_is_what_is_new() {
    if !is_root() {
        return;
    }
    let host = host(3, &[1]);
    let first = host.run(&["audit", "--news"]);
    assert!(first.code == 1 && first.out.contains("no audit of the whole host is on record before"), "{first:?}");
    let page = |n: usize| host.at(format!("srv/www/berths-{n:03}/index.php"));
    let nothing = || {
        let ran = host.run(&["audit", "--news"]);
        assert_eq!((ran.code, &*ran.out, &*ran.err), (0, "", ""), "{ran:?}");
    };
    nothing();
    give(&page(2), 0, 0o666);
    give(&host.write("srv/www/berths-001/more.php", "<?php"), 0, 0o666);
    // An audit of one site is none of the host.
    host.run(&["audit", "berths-002", "--fail-on", "never"]);
    let ran = host.run(&["audit", "--news", "--format", "json"]);
    let news = checked(&ran.out, "news");
    let told = |how: &str, site: &str| {
        let all = news["news"].as_array().unwrap().iter();
        all.filter(|news| news["how"] == how && news["site"] == site)
            .map(|news| news["check"].clone())
            .collect::<Vec<_>>()
    };
    assert!(told("new", "berths-002").contains(&"everyone-writes".into()), "{news:#}");
    assert!(told("other", "berths-001").contains(&"everyone-writes".into()), "{news:#}");
    assert!(told("new", "berths-001").is_empty() && told("other", "berths-000").is_empty(), "{news:#}");
    nothing();
    host.run(&["set", "--yes"]);
    // Nobody has said yet that what was open to all is right as it is.
    let ran = host.run(&["audit", "--news"]);
    let gone = ran.out.lines().filter(|line| line.trim_start().starts_with("gone")).count();
    assert!(gone >= 6, "{ran:?}");
    // An audit for people is on record as well.
    give(&page(0), 0, 0o666);
    host.run(&["audit"]);
    nothing();
    for words in [&["audit", "berths-000", "--news"][..], &["audit", "--news", "--format", "csv"]] {
        assert_eq!(host.run(words).code, 2, "{words:?}");
    }
}

/// Several sites are opened and sealed at once; who did it, and with what, is on record; an error is a document too.
#[test]
fn several_at_once_on_record_and_errors_for_programs() {
    if !is_root() {
        return;
    }
    let host = host(3, &[]);
    let opened = host.run(&["open", "berths-000", "berths-002", "--for", "5m", "--yes"]);
    assert_eq!((opened.code, opened.out.matches("berths-00").count() > 3), (0, true), "{opened:?}");
    let sealed = host.run(&["seal", "berths-000", "berths-002", "--yes"]);
    assert_eq!(sealed.code, 0, "{sealed:?}");
    let history = checked(&host.run(&["history", "--format", "json"]).out, "history");
    let sets = history["change_sets"].as_array().unwrap();
    assert_eq!(sets.len(), 4, "{history:#}");
    for set in sets {
        assert!(set["by"].as_str().unwrap().starts_with("root"), "{set:#}");
        let line = set["command_line"].as_str().unwrap();
        assert!(
            line.starts_with("ambrik ") && line.ends_with("berths-000 berths-002 --yes") || line.contains("--for 5m"),
            "{line}"
        );
    }
    for (words, exit) in [(&["audit", "nothing"][..], 2), (&["history", "77"], 2), (&["set", "berths-000"], 0)] {
        let ran = host.run(&[words, &["--format", "json"]].concat());
        assert_eq!(ran.code, exit, "{ran:?}");
        if exit > 0 {
            let error = checked(&ran.out, "error");
            assert_eq!(error["exit"], exit, "{error:#}");
            assert!(ran.err.contains(error["error"].as_str().unwrap()), "{ran:?}");
        }
    }
}
