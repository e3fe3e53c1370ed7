//! A site that belongs to the caller, who is not root, as on shared hosting.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use rstest::rstest;
use serde_json::Value;

use crate::host::{Ran, TestHost, give, is_root};

/// The caller, where it is not PHP's own account.
const TENANT: u32 = 61_301;
/// A group of the caller and PHP.
const BERTHING: u32 = 61_300;

/// Does this to everything in a folder, and then to itself.
fn each(path: &Path, act: &mut dyn FnMut(&Path)) {
    if path.is_dir() && !path.is_symlink() {
        for entry in fs::read_dir(path).unwrap() {
            each(&entry.unwrap().path(), act);
        }
    }
    act(path);
}

struct Shared {
    host: TestHost,
    caller: u32,
    groups: Vec<u32>,
    php: u32,
}

impl Shared {
    /// The demo's bookings, unpacked by this caller.
    fn new(caller: Option<u32>, with_group: bool) -> Self {
        let host = TestHost::empty();
        let built = host.command_without_host(&["demo", "--build-only"]).arg(host.at("")).output().unwrap();
        assert!(built.status.success(), "{built:?}");
        let (passwd, group) = (host.at("etc/passwd"), host.at("etc/group"));
        let users = fs::read_to_string(&passwd).unwrap();
        let php = users.lines().find_map(|line| line.strip_prefix("berths:")).unwrap();
        let php: u32 = php.split(':').nth(1).unwrap().parse().unwrap();
        let caller = caller.unwrap_or(php);
        fs::write(&passwd, format!("{users}tenant:x:{TENANT}:{TENANT}::/:/bin/sh\n")).unwrap();
        let members = if with_group { format!("berthing:x:{BERTHING}:tenant,berths\n") } else { String::new() };
        let groups = fs::read_to_string(&group).unwrap();
        fs::write(&group, format!("{groups}tenant:x:{TENANT}:\n{members}")).unwrap();
        for dir in ["home/sites", "home/state"] {
            fs::create_dir_all(host.at(dir)).unwrap();
            give(&host.at(dir), caller, 0o700);
        }
        if with_group {
            // PHP has been started again since.
            let status = host.at("proc/51/status");
            let text = fs::read_to_string(&status).unwrap();
            assert!(text.contains(&format!("Uid:\t{php}\t")), "{text}");
            let lines = text.lines().map(|line| {
                if line.starts_with("Groups:") { format!("Groups:\t{BERTHING} {php} \n") } else { format!("{line}\n") }
            });
            fs::write(&status, lines.collect::<String>()).unwrap();
        }
        each(&host.at("srv/www/berths"), &mut |path| {
            std::os::unix::fs::lchown(path, Some(caller), Some(caller)).unwrap();
        });
        Self { host, caller, groups: if with_group { vec![BERTHING] } else { Vec::new() }, php }
    }

    fn root(&self) -> PathBuf {
        self.host.at("srv/www/berths")
    }

    /// A command with an account's ids.
    fn with_ids(uid: u32, groups: &[u32], program: &str) -> Command {
        let mut command = Command::new("setpriv");
        command.args([format!("--reuid={uid}"), format!("--regid={uid}")]);
        if groups.is_empty() {
            command.arg("--clear-groups");
        } else {
            let groups: Vec<String> = groups.iter().map(u32::to_string).collect();
            command.arg(format!("--groups={}", groups.join(",")));
        }
        command.arg(program).stdin(Stdio::null());
        command
    }

    /// Ambrik, as the caller runs it.
    fn run(&self, words: &[&str]) -> Ran {
        let mut command = Self::with_ids(self.caller, &self.groups, env!("CARGO_BIN_EXE_ambrik"));
        command.env("LC_ALL", "C.UTF-8").arg("--host").arg(self.host.at(""));
        command.arg("--sites").arg(self.host.at("home/sites")).arg("--state").arg(self.host.at("home/state"));
        self.host.told(&command.args(words).output().unwrap())
    }

    /// Whether PHP can do this.
    fn php_can(&self, script: &str) -> bool {
        let mut command = Self::with_ids(self.php, &self.groups, "sh");
        command.args(["-c", script]).current_dir(self.root());
        command.output().unwrap().status.success()
    }

    fn findings(&self) -> BTreeSet<String> {
        let audit = self.run(&["audit", "berths", "--format", "json"]);
        let document: Value = serde_json::from_str(&audit.out).unwrap_or_else(|_| panic!("{audit:?}"));
        let findings = document["sites"][0]["findings"].as_array().unwrap();
        findings.iter().map(|finding| finding["check"].as_str().unwrap().to_owned()).collect()
    }
}

#[rstest]
#[case::php_is_the_caller(None, false, None)]
#[case::a_group_in_common(Some(TENANT), true, Some("group"))]
#[case::nothing_in_common(Some(TENANT), false, Some("acl"))]
fn what_a_caller_keeps_is_drafted_so_that_they_can_do_it(
    #[case] caller: Option<u32>,
    #[case] with_group: bool,
    #[case] grant: Option<&str>,
) {
    if !is_root() {
        return;
    }
    let shared = Shared::new(caller, with_group);
    let saved = shared.run(&["survey", "/srv/www/berths", "--save", "berths"]);
    assert_eq!(saved.code, 0, "{saved:?}");
    let file = shared.host.at("home/sites/berths.toml");
    let draft = fs::read_to_string(&file).unwrap();
    let keeper = if caller.is_some() { "tenant" } else { "berths" };
    assert!(draft.contains(&format!("keeper = \"{keeper}\"")), "{draft}");
    assert_eq!(draft.lines().any(|line| line.starts_with("grant")), grant.is_some(), "{draft}");
    if let Some(grant) = grant {
        assert!(draft.contains(&format!("grant  = \"{grant}\"")), "{draft}");
    }
    // Nothing answers here.
    let quiet: String = draft.lines().filter(|line| !line.starts_with("url")).map(|line| format!("{line}\n")).collect();
    fs::write(&file, quiet.replace("pages  =", "# pages =")).unwrap();

    let opened = shared.run(&["open", "berths", "--for", "30m", "--yes"]);
    assert_eq!(opened.code, 0, "{opened:?}");
    assert!(shared.php_can("echo '<?php return [1];' > config/settings.php"));
    let sealed = shared.run(&["seal", "berths", "--yes", "--unfinished"]);
    assert!(sealed.code <= 1, "{sealed:?}");
    let left: BTreeSet<String> = if caller.is_some() { BTreeSet::new() } else { ["php-is-keeper".to_owned()].into() };
    let of_rights = |mut found: BTreeSet<String>| {
        // What the demo's application brings along, and no rights.
        found.retain(|check| check != "served-too-wide" && check != "label-protection-off");
        found
    };
    assert_eq!(of_rights(shared.findings()), left);
    assert_eq!(shared.php_can("echo >> index.php"), caller.is_none());

    // PHP goes on working, and what it makes is no failure.
    assert!(
        shared.php_can("umask 022; mkdir uploads/2026; echo chart > uploads/2026/chart.png; echo > var/cache/page")
    );
    let made = fs::metadata(shared.root().join("uploads/2026/chart.png")).unwrap();
    assert_eq!(made.uid(), shared.php);
    assert_eq!(of_rights(shared.findings()), left);
    let again = shared.run(&["set", "berths", "--yes"]);
    assert_eq!(again.code, 0, "{again:?}");
    assert!(shared.php_can("echo more >> uploads/2026/chart.png && cat config/settings.php"));
    let back = shared.run(&["undo", "--since", "1", "--yes"]);
    assert_eq!(back.code, 0, "{back:?}");
}
