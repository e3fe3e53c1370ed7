//! Drafts: what they say of the demo host, and where they are saved.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use insta::assert_snapshot;
use rstest::rstest;
use toml::Value;

use crate::host::{Ran, TestHost};

/// The demo host.
pub(crate) fn demo() -> TestHost {
    let host = TestHost::empty();
    let ran = host.command_without_host(&["demo", "--build-only"]).arg(host.at("")).output().unwrap();
    assert!(ran.status.success(), "{ran:?}");
    host
}

/// A site file without what only its keeper can decide: who else may read, how php gets to write, what is accepted.
fn decided_by_the_tree(text: &str) -> BTreeMap<String, Value> {
    let mut site: toml::Table = text.parse().unwrap();
    site.remove("accept");
    let head = site["site"].as_table_mut().unwrap();
    head.remove("url");
    head.remove("pages");
    let accounts = site["accounts"].as_table_mut().unwrap();
    accounts.remove("others");
    accounts.remove("grant");
    let mut parts = site["part"].as_array().unwrap().clone();
    parts.sort_by_key(|part| part["path"].as_str().unwrap().to_owned());
    site.insert("part".into(), Value::Array(parts));
    site.into_iter().collect()
}

#[rstest]
#[case("berths", "/srv/www/berths")]
#[case("tidewatch", "/srv/www/tidewatch")]
#[case("notices", "/usr/share/notices")]
fn the_demos_applications_survey_to_the_demos_site_files(#[case] name: &str, #[case] root: &str) {
    if !crate::host::is_root() {
        return;
    }
    let host = demo();
    let drafted = host.run(&["survey", root]);
    assert_eq!((drafted.code, &*drafted.err), (0, ""));
    let written = fs::read_to_string(host.at(format!("etc/ambrik/sites/{name}.toml"))).unwrap();
    assert_eq!(decided_by_the_tree(&drafted.out), decided_by_the_tree(&written));
}

#[test]
fn a_draft_is_a_site_file_as_it_is() {
    let host = demo();
    let refused = host.run(&["survey", "/srv/www/berths", "--save", "draft"]);
    assert_eq!(refused.code, 2, "{refused:?}");
    assert!(refused.err.contains("--save berths --replace"), "{refused:?}");
    fs::remove_file(host.at("etc/ambrik/sites/berths.toml")).unwrap();
    let ran = host.run(&["survey", "/srv/www/berths", "--save", "draft"]);
    assert!(ran.err.contains("saved as [HOST]/etc/ambrik/sites/draft.toml"), "{ran:?}");
    for (words, code) in [(&["audit", "draft"][..], 1), (&["set", "draft", "--preview"], 1)] {
        let ran = host.run(words);
        assert_eq!(ran.code, code, "{ran:?}");
        assert!(ran.out.starts_with("draft: "), "{ran:?}");
    }
}

#[test]
fn what_is_there_is_not_written_over_unless_it_is_to_be() {
    let host = demo();
    let file = host.at("etc/ambrik/sites/berths.toml");
    let before = fs::read(&file).unwrap();
    let ran = host.run(&["survey", "/srv/www/berths", "--save"]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("sites/berths.toml already; replace it with --replace"), "{ran:?}");
    assert_eq!(fs::read(&file).unwrap(), before);
    assert_eq!(host.run(&["survey", "/srv/www/berths", "--save", "--replace"]).code, 0);
    assert!(fs::read_to_string(&file).unwrap().starts_with("# Drafted by"));
    let left: Vec<_> = fs::read_dir(file.parent().unwrap()).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(left.len(), 15, "nothing else is left there: {left:?}");
}

#[rstest]
#[case::missing(&["survey", "/srv/none"], "/srv/none does not exist")]
#[case::a_file(&["survey", "/etc/passwd"], "/etc/passwd is no directory")]
#[case::no_name(&["survey", "/srv/www/berths", "--save", "../x"], "--save ../x: this cannot be a site's name")]
#[case::replace_alone(&["survey", "/srv/www/berths", "--replace"], "--save")]
fn bad_input(#[case] words: &[&str], #[case] want: &str) {
    let Ran { code, err, .. } = TestHost::new().run(words);
    assert_eq!(code, 2, "{err}");
    assert!(err.contains(want), "{err}");
}

#[test]
fn a_path_of_this_system_below_the_host_is_meant_as_one_of_the_host() {
    let host = demo();
    let inside = host.run(&["survey", "/srv/www/tidewatch"]).out;
    let path = host.at("srv/www/tidewatch");
    assert_eq!(host.run(&["survey", path.to_str().unwrap()]).out, inside);
}

#[test]
fn the_looks() {
    if !crate::host::is_root() {
        return;
    }
    let host = demo();
    assert_snapshot!("accounts", host.run(&["accounts"]).out);
    assert_snapshot!("draft", host.run(&["survey", "/usr/share/notices"]).out);
    assert_snapshot!("survey", host.run(&["survey", "/srv/www/berths", "--save", "berths", "--replace"]).out);
}

#[test]
fn a_site_file_without_accounts_takes_those_of_the_host_and_says_so() {
    let host = demo();
    let file = host.at("etc/ambrik/sites/berths.toml");
    let text = fs::read_to_string(&file).unwrap().replace("php = ", "# php = ").replace("web = ", "# web = ");
    fs::write(&file, &text).unwrap();
    let ran = host.run(&["audit", "berths"]);
    assert!(
        ran.err.contains("berths: php is left out of the site file; found berths (nginx serves /srv/www/berths: "),
        "{ran:?}"
    );
    assert!(ran.err.contains("berths: web is left out of the site file; found www-data ("), "{ran:?}");
    // Another pool on the same socket: it could be either.
    let pool = "[other]\nuser = notices\nlisten = /run/php/berths.sock\n";
    host.write("etc/php/8.2/fpm/pool.d/other.conf", pool);
    let ran = host.run(&["audit", "berths"]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("[accounts] does not name php, and several could be meant: berths ("), "{ran:?}");
    assert!(ran.err.contains("; notices ("), "{ran:?}");
}

#[test]
fn what_a_stranger_named_cannot_speak_in_a_draft() {
    let host = TestHost::new();
    host.write(
        "srv/www/berths/index.php",
        "<?php is_writable(__DIR__ . '/logs'); file_put_contents(__DIR__ . '/logs/x', 1);",
    );
    host.write("srv/www/berths/evil\n[accounts]\u{1b}[2J/logs/.gitignore", "*\n");
    let ran = host.run(&["survey", "/srv/www/berths"]);
    let site: toml::Table = ran.out.parse().unwrap();
    assert_eq!(site["accounts"].as_table().unwrap().len(), 0, "{}", ran.out);
    assert!(!ran.out.contains('\u{1b}'));
    assert!(Path::new(&host.at("srv")).exists());
}

#[test]
fn who_reads_logs_as_the_hosts_log_group_goes_on_to() {
    if !crate::host::is_root() {
        return;
    }
    let host = demo();
    let groups = fs::read_to_string(host.at("etc/group")).unwrap();
    fs::write(host.at("etc/group"), format!("{groups}adm:x:61041:\nothers:x:61042:\n")).unwrap();
    fs::write(host.at("var/log/messages"), "").unwrap();
    let logs = host.at("srv/www/berths/var/log");
    let give = |path: &Path, group: u32| {
        std::os::unix::fs::chown(path, None, Some(group)).unwrap();
        fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(0o750)).unwrap();
    };
    give(&host.at("var/log/messages"), 61_041);
    give(&logs, 61_042);
    fs::remove_file(host.at("etc/ambrik/sites/berths.toml")).unwrap();
    let drafted = host.run(&["survey", "/srv/www/berths"]);
    assert!(!drafted.out.contains("[[access]]"), "{drafted:?}");
    give(&logs, 61_041);
    let saved = host.run(&["survey", "/srv/www/berths", "--save", "berths"]);
    assert_eq!(saved.code, 0, "{saved:?}");
    let draft = fs::read_to_string(host.at("etc/ambrik/sites/berths.toml")).unwrap();
    assert!(draft.contains("[[access]]\ngroup = \"adm\""), "{draft}");
    let set = host.run(&["set", "berths", "--yes"]);
    assert_eq!(set.code, 0, "{set:?}");
    let meta = fs::metadata(&logs).unwrap();
    assert_eq!(std::os::unix::fs::MetadataExt::gid(&meta), 61_041);
    assert_eq!(std::os::unix::fs::MetadataExt::mode(&meta) & 0o070, 0o050);
}

#[test]
fn a_site_is_not_called_after_what_its_folder_is_to_it() {
    if !crate::host::is_root() {
        return;
    }
    let host = demo();
    fs::remove_file(host.at("etc/ambrik/sites/berths.toml")).unwrap();
    fs::create_dir(host.at("srv/www/harbour")).unwrap();
    fs::rename(host.at("srv/www/berths"), host.at("srv/www/harbour/one")).unwrap();
    std::os::unix::fs::symlink("one", host.at("srv/www/harbour/current")).unwrap();
    let saved = host.run(&["survey", "/srv/www/harbour/current", "--save"]);
    assert!(
        saved.err.contains("etc/ambrik/sites/harbour.toml") && saved.out.contains("ambrik audit harbour"),
        "{saved:?}"
    );
}

/// On a terminal what is uncertain is asked, and the answers stand in the draft with their reasons.
#[test]
fn questions_are_answered_at_once() {
    let host = TestHost::new();
    for name in ["cache", "logs", "uploads"] {
        fs::create_dir_all(host.at(format!("srv/www/berths/{name}"))).unwrap();
    }
    host.write("srv/www/berths/index.php", "<?php echo 1;");
    let ran = host.run(&["survey", "/srv/www/berths", "--ask", "--draft"]);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains("no terminal to ask on"), "{ran:?}");
    let words = ["survey", "/srv/www/berths", "--ask", "--draft"];
    let line = format!("{:?}", host.command(&words)).replace("env -i ", "");
    let script = std::process::Command::new("script")
        .args(["-qec", &format!("env -i {line}"), "/dev/null"])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn();
    let mut script = script.unwrap();
    std::io::Write::write_all(&mut script.stdin.take().unwrap(), b"y\nn\nl\n").unwrap();
    let out = String::from_utf8_lossy(&script.wait_with_output().unwrap().stdout).replace('\r', "");
    assert!(out.contains("1 of 3: cache as scratch: does the application write there?"), "{out}");
    assert!(out.contains("answered yes: does the application write there?"), "{out}");
    assert!(out.contains("# logs as log: answered no (does the application write there?)"), "{out}");
    assert!(out.contains("# Question: does the application write there?\n# [[part]]\n# path  = \"uploads\""), "{out}");
}
