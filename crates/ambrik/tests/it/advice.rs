//! Advice is good: what a finding says puts it right is run, and the same is not said again.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::process::Command;

use proptest::prelude::*;
use proptest::sample::subsequence;
use serde_json::Value;

use crate::host::{PHP, TestHost, give, is_root};
use crate::survey::demo;

/// A finding: its check, its paths, and what is said to put it right.
type Said = (String, String, String);

fn said(host: &TestHost) -> BTreeSet<Said> {
    let audit = host.run(&["audit", "--fail-on", "never", "--format", "json"]);
    let document: Value = serde_json::from_str(&audit.out).unwrap_or_else(|_| panic!("{audit:?}"));
    let sites = document["sites"].as_array().unwrap().iter();
    let each = sites.flat_map(|site| {
        site["findings"].as_array().unwrap().iter().map(|finding| {
            let text = |key: &str| finding[key].as_str().unwrap_or_default().to_owned();
            let paths: String = finding["paths"].to_string().chars().take(200).collect();
            (text("check"), format!("{} {} {paths}", site["name"], finding["count"]), text("remedy"))
        })
    });
    each.collect()
}

/// Runs each command that the findings name, once each round, until none is named; nothing may be said twice of the same paths.
fn follow(host: &TestHost) -> Result<(), String> {
    let mut done: BTreeSet<Said> = BTreeSet::new();
    for _ in 0..4 {
        let now: BTreeSet<Said> =
            said(host).into_iter().filter(|(_, _, remedy)| remedy.starts_with("ambrik ")).collect();
        let again: Vec<&Said> = now.intersection(&done).collect();
        if !again.is_empty() {
            return Err(format!("said again: {again:?}"));
        }
        let commands: BTreeSet<String> = now.iter().map(|(.., remedy)| remedy.clone()).collect();
        if commands.is_empty() {
            return Ok(());
        }
        for command in commands {
            let words: Vec<&str> = command.split(' ').skip(1).collect();
            let ran = host.run(&[&words[..], &["--yes"]].concat());
            if ran.code == 2 || ran.code == 4 {
                return Err(format!("{command}: {ran:?}"));
            }
        }
        done.extend(now);
    }
    Err(format!("no end: {:?}", said(host)))
}

#[test]
fn the_demos_findings_are_put_right_by_what_they_say() {
    if !is_root() {
        return;
    }
    let host = demo();
    // Nothing answers there.
    for site in ["berths", "tidewatch", "notices"] {
        let file = host.at(format!("etc/ambrik/sites/{site}.toml"));
        let text = fs::read_to_string(&file).unwrap();
        let quiet: String = text
            .lines()
            .filter(|line| !line.starts_with("url") && !line.starts_with("pages"))
            .map(|line| format!("{line}\n"))
            .collect();
        fs::write(&file, quiet).unwrap();
    }
    assert!(said(&host).len() > 10);
    follow(&host).unwrap();
}

type Fault = fn(&TestHost);

/// What can be wrong with a small site, one thing each.
const FAULTS: &[(&str, Fault)] = &[
    ("code of php's", |host| give(&host.at("srv/www/berths/index.php"), PHP, 0o644)),
    ("code for all", |host| give(&host.at("srv/www/berths/lib/page.php"), 0, 0o666)),
    ("a folder for all", |host| give(&host.at("srv/www/berths/lib"), 0, 0o777)),
    ("secrets for all", |host| give(&host.at("srv/www/berths/settings.php"), 0, 0o644)),
    ("secrets of php's", |host| give(&host.at("srv/www/berths/settings.php"), PHP, 0o600)),
    ("a store that is closed", |host| give(&host.at("srv/www/berths/uploads"), 0, 0o700)),
    ("a store for all", |host| give(&host.at("srv/www/berths/uploads"), PHP, 0o777)),
    ("set-uid", |host| give(&host.at("srv/www/berths/lib/page.php"), 0, 0o4755)),
    ("nobody's", |host| give(&host.at("srv/www/berths/index.php"), 64_999, 0o644)),
    ("an installer", |host| drop(host.write("srv/www/berths/install/index.php", "<?php echo 'install';"))),
    ("a dump", |host| drop(host.write("srv/www/berths/backup.sql", "-- SQL dump\nINSERT INTO berths VALUES (1);\n"))),
    ("a note", |host| drop(host.write("srv/www/berths/stub.html", "It works"))),
    ("a way out", |host| symlink("/etc", host.at("srv/www/berths/lib/etc")).unwrap()),
    ("a closed root", |host| give(&host.at("srv/www/berths"), 0, 0o700)),
    ("a given list", |host| {
        let list =
            Command::new("setfacl").args(["-d", "-m", "u:61009:rwx"]).arg(host.at("srv/www/berths/lib")).status();
        assert!(list.unwrap().success());
    }),
];

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn what_is_advised_is_not_said_again(faults in subsequence(FAULTS.to_vec(), 1..6)) {
        if !is_root() {
            return Ok(());
        }
        let host = TestHost::new();
        host.site(
            "berths",
            "[[part]]\npath = \"settings.php\"\nuse = \"secret\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n\
             [[part]]\npath = \"install\"\nuse = \"setup\"\n[[part]]\npath = \"stub.html\"\nuse = \"remove\"\n\
             [[access]]\nuser = \"user\"\npath = \"uploads\"\nmay = \"read\"\n",
        );
        for path in ["index.php", "lib/page.php", "settings.php", "uploads/chart.png"] {
            host.file(path, 0, 0o644);
        }
        assert!(host.run(&["set", "berths", "--yes"]).code == 0);
        fs::set_permissions(host.at("srv/www"), fs::Permissions::from_mode(0o755)).unwrap();
        for (_, make) in &faults {
            make(&host);
        }
        let names: Vec<&str> = faults.iter().map(|(name, _)| *name).collect();
        let followed = follow(&host);
        prop_assert!(followed.is_ok(), "{names:?}: {}", followed.unwrap_err());
    }
}

/// A command that is printed can be pasted: it leads to the same host, sites and records as the run that printed it.
#[test]
fn what_is_printed_can_be_pasted() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    give(&host.file("index.php", PHP, 0o666), PHP, 0o666);
    give(&host.at("srv/www/berths"), 0, 0o755);
    let state = host.at("records of the host");
    let set = host.command(&["set", "berths", "--yes", "--state"]).arg(&state).output().unwrap();
    let said = String::from_utf8_lossy(&set.stdout).into_owned();
    let line = said.lines().find_map(|line| line.split_once("taken back by: ")).map(|(_, command)| command).unwrap();
    assert!(line.contains("--host ") && line.contains('\''), "{line}");
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_ambrik")).parent().unwrap();
    let mut shell = Command::new("sh");
    shell.args(["-c", &format!("{line} --yes")]).env("PATH", format!("{}:/usr/bin:/bin", program.display()));
    let undone = host.told(&shell.output().unwrap());
    assert!(undone.code == 0 && undone.out.contains("as before"), "{undone:?}");
    assert_eq!(fs::metadata(host.at("srv/www/berths/index.php")).unwrap().permissions().mode() & 0o777, 0o666);
}
