//! Hosts with many sites, and what is told where nothing is to be said.

use rstest::rstest;

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
