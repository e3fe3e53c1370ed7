//! What changed while a site was open, and since it was found clean: named, whatever was done to hide it, and told of until
//! somebody answers for it.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::PathBuf;
use std::process::{Command, Stdio};

use rstest::rstest;

use crate::host::{PHP, Ran, TestHost, give, is_root};

const PARTS: &str = "served = \".\"\n[accounts]\nphp = \"php\"\nweb = \"web\"\n[[part]]\npath = \"settings.php\"\nuse = \"secret\"\nwrite = \"install\"\n\
                     [[part]]\npath = \"plugins\"\nuse = \"code\"\nwrite = \"install\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n";

fn host() -> TestHost {
    let host = TestHost::new();
    host.write("etc/ambrik/sites/berths.toml", format!("[site]\nroot = \"/srv/www/berths\"\n{PARTS}"));
    for name in ["index.php", "lib/code.php", "settings.php", "plugins/one.php", "plugins/two.php", "uploads/pic"] {
        host.file(name, 0, 0o644);
    }
    host.file("../elsewhere/old.php", PHP, 0o644);
    host.file("uploads/older.php", PHP, 0o644);
    assert_eq!(host.run(&["set", "--yes", "-q"]).code, 0);
    host
}

fn at(host: &TestHost, path: &str) -> PathBuf {
    host.at("srv/www/berths").join(path)
}

/// Puts back the times that a file had.
fn with_old_times(path: &std::path::Path, write: impl FnOnce()) {
    let times = fs::metadata(path).unwrap();
    write();
    let old = fs::FileTimes::new().set_modified(times.modified().unwrap()).set_accessed(times.accessed().unwrap());
    fs::File::options().write(true).open(path).unwrap().set_times(old).unwrap();
}

type Deed = fn(&TestHost);

#[rstest]
#[case::overwritten_in_place("changed   plugins/one.php  (PHP)", |host: &TestHost| {
    // As long as before, with the times of before.
    let path = at(host, "plugins/one.php");
    with_old_times(&path, || fs::write(&path, "evil!!!\n").unwrap());
})]
#[case::replaced("replaced  plugins/one.php  (PHP)", |host: &TestHost| {
    fs::remove_file(at(host, "plugins/one.php")).unwrap();
    host.file("plugins/one.php", PHP, 0o644);
})]
#[case::moved_in_from_elsewhere("moved in  plugins/old.php  (PHP)", |host: &TestHost| fs::rename(host.at("srv/www/elsewhere/old.php"), at(host, "plugins/old.php")).unwrap())]
#[case::moved_in_from_a_store("moved in  plugins/older.php  (PHP)", |host: &TestHost| fs::rename(at(host, "uploads/older.php"), at(host, "plugins/older.php")).unwrap())]
#[case::swapped("replaced  plugins/one.php  (PHP)", |host: &TestHost| {
    fs::rename(at(host, "plugins/one.php"), at(host, "plugins/x")).unwrap();
    fs::rename(at(host, "plugins/two.php"), at(host, "plugins/one.php")).unwrap();
    fs::rename(at(host, "plugins/x"), at(host, "plugins/two.php")).unwrap();
})]
#[case::added("added     plugins/new.php  (PHP)", |host: &TestHost| { host.file("plugins/new.php", PHP, 0o644); })]
#[case::a_program("added     plugins/tool  (program)", |host: &TestHost| { host.file("plugins/tool", PHP, 0o755); })]
#[case::a_link("added     plugins/link.php  (PHP)", |host: &TestHost| symlink("../uploads/pic", at(host, "plugins/link.php")).unwrap())]
#[case::code_beside("changed   lib/code.php  (PHP)", |host: &TestHost| {
    let path = at(host, "lib/code.php");
    with_old_times(&path, || fs::write(&path, "evil!!!\n").unwrap());
})]
fn what_changed_is_named_and_stays_a_finding(#[case] says: &str, #[case] deed: Deed) {
    if !is_root() {
        return;
    }
    let host = host();
    assert_eq!(host.run(&["open", "berths", "--yes", "-q"]).code, 0);
    fs::write(at(&host, "settings.php"), "<?php /* installed */\n").unwrap();
    fs::write(at(&host, "uploads/new"), "x").unwrap();
    deed(&host);
    let sealed = host.run(&["seal", "berths", "--yes"]);
    assert_eq!(sealed.code, 1, "{sealed:?}");
    assert!(sealed.out.contains("written while it was open, as it should be: settings.php"), "{sealed:?}");
    assert!(sealed.out.contains(&format!("  {says}\n")), "{sealed:?}");
    let listed = |path: &str| sealed.out.lines().any(|line| line.ends_with(&format!("  {path}  (PHP)")));
    assert!(!listed("index.php") && !sealed.out.contains("  added     uploads/new"), "{sealed:?}");
    for words in [&["audit"][..], &["set", "--yes"], &["audit"], &["seal", "berths", "--yes"]] {
        let ran = host.run(words);
        let told = ran.out.contains("changed-in-window") || ran.out.contains("findings remain (1 medium)");
        assert_eq!(told, words[0] != "set", "{words:?}: {ran:?}");
    }
    let path = says.split_whitespace().find(|word| word.contains('/')).unwrap();
    let accept =
        format!("[[accept]]\ncheck = \"changed-in-window\"\npath = \"{path}\"\nreason = \"the update of plugins\"\n");
    let others = "[[accept]]\ncheck = \"changed-in-window\"\npath = \"plugins\"\nreason = \"the same\"\n";
    host.write("etc/ambrik/sites/berths.toml", format!("[site]\nroot = \"/srv/www/berths\"\n{PARTS}{accept}{others}"));
    let audit = host.run(&["audit"]);
    assert_eq!(audit.code, 0, "{audit:?}");
}

#[test]
fn where_nothing_changed_nothing_is_said() {
    if !is_root() {
        return;
    }
    let host = host();
    host.run(&["open", "berths", "--yes", "-q"]);
    host.run(&["open", "berths", "--for", "2h", "--yes", "-q"]);
    let sealed = host.run(&["seal", "berths", "--yes"]);
    assert!(sealed.out.ends_with("sealed; looked at again, nothing remains\n"), "{sealed:?}");
    assert!(!sealed.out.contains("changed "), "{sealed:?}");
}

/// `set` closes a window too, and compares as well.
#[test]
fn set_compares_as_well() {
    if !is_root() {
        return;
    }
    let host = host();
    host.run(&["open", "berths", "--yes", "-q"]);
    host.file("plugins/new.php", PHP, 0o644);
    let set = host.run(&["set", "--yes"]);
    assert!(set.out.contains("added     plugins/new.php  (PHP)"), "{set:?}");
    assert!(host.run(&["audit"]).out.contains("changed-in-window"));
}

/// Since a site was found clean code must not change either; what Ambrik itself changes does not count.
#[test]
fn code_that_changes_later_is_told_of() {
    if !is_root() {
        return;
    }
    let host = host();
    assert_eq!(host.run(&["audit"]).code, 0);
    give(&at(&host, "index.php"), PHP, 0o666);
    assert_eq!(host.run(&["audit"]).code, 1);
    give(&at(&host, "lib/code.php"), 0, 0o600);
    assert_eq!(host.run(&["set", "--yes", "-q"]).code, 0);
    let audit = host.run(&["audit"]);
    assert!(audit.out.contains("changed-in-window  2 paths"), "{audit:?}");
    let path = at(&host, "plugins/one.php");
    with_old_times(&path, || fs::write(&path, "evil!!!\n").unwrap());
    host.file("uploads/new", PHP, 0o640);
    let audit = host.run(&["audit", "--each"]);
    assert!(
        audit.out.contains("changed-in-window  2 paths"),
        "what an update may write is its window's affair: {audit:?}"
    );
}

/// What somebody types on a terminal.
pub(crate) fn on_a_terminal(host: &TestHost, words: &[&str], typed: &str) -> Option<Ran> {
    let ambrik = host.command(words);
    let line =
        std::iter::once(ambrik.get_program()).chain(ambrik.get_args()).map(|word| word.to_string_lossy().into_owned());
    let line = line.collect::<Vec<_>>().join(" ");
    let mut script = Command::new("script");
    script.args(["-qefc", &line, "/dev/null"]).stdin(Stdio::piped()).stdout(Stdio::piped()).env("LC_ALL", "C.UTF-8");
    let Ok(mut child) = script.spawn() else {
        test_support::missing("there is no script(1) here");
        return None;
    };
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), typed.as_bytes()).unwrap();
    Some(host.told(&child.wait_with_output().unwrap()))
}

/// A person's yes to the list says that it is right; a no, or `--yes`, does not.
#[rstest]
#[case::yes("y\ny\n", true)]
#[case::no("n\ny\n", false)]
fn a_person_answers_for_what_changed(#[case] typed: &str, #[case] right: bool) {
    if !is_root() {
        return;
    }
    let host = host();
    host.run(&["open", "berths", "--yes", "-q"]);
    host.file("plugins/new.php", PHP, 0o644);
    let Some(sealed) = on_a_terminal(&host, &["seal", "berths"], typed) else { return };
    assert!(sealed.out.contains("Is the code of berths that changed right as it is?"), "{sealed:?}");
    assert_eq!(sealed.code, i32::from(!right), "{sealed:?}");
    assert_eq!(!host.run(&["audit"]).out.contains("changed-in-window"), right);
}

/// One page tells the story of a deployment: opened, written in, sealed.
#[test]
fn the_story_is_told() {
    if !is_root() {
        return;
    }
    let host = host();
    assert_eq!(host.run(&["open", "berths", "--for", "30m", "--yes"]).code, 0);
    fs::write(at(&host, "settings.php"), "<?php return ['installed' => true];\n").unwrap();
    host.file("plugins/new.php", PHP, 0o644);
    assert!([0, 1].contains(&host.run(&["seal", "berths", "--yes"]).code));
    let story = host.run(&["history"]).out;
    let commands: Vec<&str> = ["seal", "(written)", "open"].into_iter().filter(|word| story.contains(word)).collect();
    assert_eq!(commands.len(), 3, "{story}");
    let at_line = |word: &str| story.lines().position(|line| line.contains(word)).unwrap();
    assert!(at_line("seal ") < at_line("(written)") && at_line("(written)") < at_line("open "), "{story}");
    let told = crate::documents::document(&host, &["history"], "history");
    assert_eq!(
        (&told["change_sets"][0]["command"], &told["change_sets"][0]["written"]),
        (&"seal".into(), &2.into()),
        "{told:#}"
    );
}
