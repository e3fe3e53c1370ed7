//! A change set that is killed, stopped or fails at its n-th change, for every n: it is told of, and both finishing it and
//! taking it back lead to exactly what they promise.
//!
//! The program is built with the feature `faults` here (see `tree/faults.rs` in the core).

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::symlink;
use std::os::unix::process::ExitStatusExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock};

use rstest::rstest;
use rustix::fs::FileType;

use crate::host::{Mounted, PHP, Ran, TestHost, give, is_root};
use crate::moved::whole;
use crate::unpacked::packed;

const PARTS: &str = "\
[[part]]
path = \"uploads\"
use = \"store\"
[[part]]
path = \"settings.php\"
use = \"secret\"
write = \"install\"
from = \"settings.sample\"
[[part]]
path = \"install\"
use = \"setup\"
[[part]]
path = \"tools\"
use = \"setup\"
[[part]]
path = \"/var/lib/berths\"
use = \"store\"
";

/// Two versions of an application: files by their content, directories without one, symlinks by where they lead.
const ONE: &[(&str, &str)] = &[
    ("berths-1/start.php", "<?php // one"),
    ("berths-1/lib/code.php", "<?php // one"),
    ("berths-1/lib/old/a.php", "<?php"),
    ("berths-1/lib/old/b.php", "<?php"),
    ("berths-1/uploads/quay.svg", "<svg/>"),
    ("berths-1/extra/note", ""),
    ("berths-1/page", "->lib/code.php"),
];
const TWO: &[(&str, &str)] = &[
    ("berths-2/start.php", "<?php // two"),
    ("berths-2/lib/code.php", "<?php // one"),
    ("berths-2/lib/old/a.php", "<?php"),
    ("berths-2/lib/new/deep/c.php", "<?php"),
    ("berths-2/lib/new/link", "->deep/c.php"),
    ("berths-2/page", "->start.php"),
];

/// A site with something of everything that a change set can hold: among its installers every kind of file that
/// anybody can make, some of it other accounts'.
pub(crate) fn site_of_everything() -> TestHost {
    let host = TestHost::new();
    host.site("berths", PARTS);
    host.file("index.php", PHP, 0o666);
    host.file("settings.sample", 0, 0o644);
    host.file("uploads/quay.svg", 0, 0o644);
    host.file("uploads/deep/other.svg", PHP, 0o755);
    host.file("lib/code.php", 0, 0o640);
    host.file("install/step.php", PHP, 0o664);
    host.file("install/data/two.sql", 0, 0o600);
    host.file("lib/copy.php.bak", 0, 0o644);
    let at = |path: &str| host.at("srv/www/berths").join(path);
    fs::hard_link(at("index.php"), at("again.php")).unwrap();
    symlink("index.php", at("lib/link.php")).unwrap();
    host.file("tools/others", 61_009, 0o640);
    fs::create_dir(at("tools/data")).unwrap();
    fs::hard_link(at("tools/others"), at("tools/data/again")).unwrap();
    symlink("../index.php", at("tools/link")).unwrap();
    std::os::unix::fs::lchown(at("tools/link"), Some(61_009), Some(61_009)).unwrap();
    for (name, kind) in
        [("pipe", FileType::Fifo), ("socket", FileType::Socket), ("whiteout", FileType::CharacterDevice)]
    {
        rustix::fs::mknodat(rustix::fs::CWD, at("tools/data").join(name), kind, rustix::fs::Mode::RUSR, 0).unwrap();
    }
    fs::write(at("settings.sample"), "<?php return ['berths' => 12];\n").unwrap();
    for folder in ["uploads/deep", "install"] {
        give(&at(folder), PHP, 0o777);
    }
    give(&at("lib"), 0, 0o700);
    let list: &[u8] = &[
        2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 6, 0, 50, 238, 0, 0, 4, 0, 4, 0, 255, 255, 255, 255, 16, 0,
        6, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255,
    ];
    rustix::fs::setxattr(at("lib/code.php"), "system.posix_acl_access", list, rustix::fs::XattrFlags::empty()).unwrap();
    let long_ago = fs::FileTimes::new().set_modified(std::time::UNIX_EPOCH + std::time::Duration::new(1_234, 567));
    let timed = ["install/step.php", "tools/others", "tools/data", "install/data", "uploads/quay.svg", "uploads/deep"];
    for path in timed.into_iter().chain(["uploads", "install", "tools", "lib", ""]) {
        fs::File::open(at(path)).unwrap().set_times(long_ago).unwrap();
    }
    fs::create_dir_all(host.at("var/lib")).unwrap();
    for (name, entries) in [("one.tar", ONE), ("two.tar", TWO)] {
        fs::write(host.at(name), packed(entries)).unwrap();
    }
    host
}

/// A command that is disturbed, what comes before it, and what finishes it.
struct Scenario {
    before: &'static [&'static [&'static str]],
    command: &'static [&'static str],
    finish: &'static [&'static str],
    /// Where another file system is mounted.
    mount: Option<&'static str>,
}

const SET: Scenario =
    Scenario { before: &[], command: &["set", "--yes", "-q"], finish: &["set", "--yes", "-q"], mount: None };
const OPEN: Scenario = Scenario {
    before: &[&["set", "--yes", "-q"]],
    command: &["open", "berths", "--for", "1h", "--yes", "-q"],
    finish: &["open", "berths", "--for", "1h", "--yes", "-q"],
    mount: None,
};
const SEAL: Scenario = Scenario {
    before: &[&["open", "berths", "--for", "1h", "--yes", "-q"]],
    command: &["seal", "berths", "--unfinished", "--yes", "-q"],
    finish: &["seal", "berths", "--unfinished", "--yes", "-q"],
    mount: None,
};
const UNDO_SET: Scenario = Scenario {
    before: &[&["set", "--yes", "-q"]],
    command: &["undo", "--yes", "-q"],
    finish: &["undo", "1", "--yes", "-q"],
    mount: None,
};
const UNDO_SEAL: Scenario = Scenario {
    before: &[&["seal", "berths", "--unfinished", "--yes", "-q"]],
    command: &["undo", "--yes", "-q"],
    finish: &["undo", "1", "--yes", "-q"],
    mount: None,
};
const MOVE: Scenario = Scenario {
    before: &[&["set", "--yes", "-q"]],
    command: &["move", "berths", "uploads", "/var/lib/store/uploads", "--link", "--yes", "-q"],
    finish: &["move", "berths", "uploads", "/var/lib/store/uploads", "--link", "--yes", "-q"],
    mount: None,
};
const MOVE_ACROSS: Scenario = Scenario {
    before: &[&["set", "--yes", "-q"]],
    command: &["move", "berths", "uploads", "/mnt/data/uploads", "--yes", "-q"],
    finish: &["move", "berths", "uploads", "/mnt/data/uploads", "--yes", "-q"],
    mount: Some("mnt/data"),
};

const UNPACK: Scenario = Scenario {
    before: &[],
    command: &["unpack", "one.tar", "berths", "--yes", "-q"],
    finish: &["unpack", "one.tar", "berths", "--yes", "-q"],
    mount: None,
};
const UPGRADE: Scenario = Scenario {
    before: &[&["unpack", "one.tar", "berths", "--yes", "-q"]],
    command: &["unpack", "two.tar", "berths", "--yes", "-q", "--tidy"],
    finish: &["unpack", "two.tar", "berths", "--yes", "-q", "--tidy"],
    mount: None,
};
const UNDO_UPGRADE: Scenario = Scenario {
    before: &[
        &["unpack", "one.tar", "berths", "--yes", "-q"],
        &["unpack", "two.tar", "berths", "--yes", "-q", "--tidy"],
    ],
    command: &["undo", "--yes", "-q"],
    finish: &["undo", "2", "--yes", "-q"],
    mount: None,
};

/// A host on which all was done that comes before the command.
struct Stage {
    host: TestHost,
    _mounted: Option<Mounted>,
}

impl Scenario {
    fn stage(&self) -> Stage {
        let host = site_of_everything();
        let mounted = self.mount.and_then(|path| Mounted::tmpfs(&host.at(path)));
        for words in self.before {
            let ran = host.run(words);
            assert_eq!(ran.code, 0, "{words:?}: {ran:?}");
        }
        Stage { host, _mounted: mounted }
    }

    /// The number of the change set that the command makes.
    fn id(&self) -> String {
        (self.before.len() + 1).to_string()
    }
}

impl Stage {
    /// What the message, the history and what is to be taken back say of a run that a signal stopped.
    fn numbers_agree(&self, scenario: &Scenario, ran: &Ran, what: &str) {
        let number = |text: &str| text.replace(',', "").parse::<u64>().unwrap();
        let message = ran.err.split_once(" after ").unwrap().1.split_once(" changes").unwrap().0;
        let wide = self.host.command(&["history"]).env("COLUMNS", "200").output().unwrap();
        let history = self.host.told(&wide).out;
        let row = history.lines().find(|line| line.contains("stopped in the middle")).unwrap_or_default();
        let words: Vec<&str> = row.split_whitespace().collect();
        // id, day, hour, site, command (of an undo, which one), changed, removed
        let at = if words.get(4) == Some(&"undo") { 6 } else { 5 };
        let told = words.get(at..at + 2).map(|counts| counts.iter().map(|text| number(text)).sum());
        assert_eq!(told, Some(number(message)), "{what}: {history}");
        if scenario.command.first() == Some(&"set") {
            let back = self.host.run(&["undo", words[0], "--preview"]).out;
            let rights = back.split_once("): ").map_or(0, |(_, rest)| number(rest.split(' ').next().unwrap()));
            let goes = back.lines().filter(|line| line.starts_with("  goes ")).count() as u64;
            assert_eq!(rights + goes, number(message), "{what}: {back}");
        }
    }

    /// Everything on the disk but the state directory and the change times.
    fn picture(&self) -> BTreeMap<PathBuf, String> {
        let mut found = BTreeMap::new();
        for folder in ["srv", "var", "mnt", "etc"] {
            let path = self.host.at(folder);
            if path.exists() {
                found.extend(whole(&path).into_iter().map(|(below, text)| (Path::new(folder).join(below), text)));
            }
        }
        let state = Path::new("var/lib/ambrik");
        found.retain(|path, _| !path.starts_with(state));
        // Times that the test set are compared; others are those of the run.
        for text in found.values_mut() {
            if !text.contains("(1234, 567)") {
                let (rights, rest) = text.split_once('(').unwrap_or((text, ")"));
                *text = format!("{rights}{}", rest.split_once(')').unwrap_or_default().1);
            }
        }
        // What is made or removed leaves its time on the folder: it goes back where the run came to its end.
        for path in ["srv/www/berths", "srv/www/berths/lib"] {
            if let Some(text) = found.get_mut(Path::new(path)) {
                *text = text.replace("(1234, 567)", "");
            }
        }
        found
    }

    fn disturbed(&self, scenario: &Scenario, fault: &str) -> (Ran, bool) {
        let mut command = self.host.command(scenario.command);
        let output = command.current_dir(self.host.at("")).env("AMBRIK_FAULT", fault).output().unwrap();
        (self.host.told(&output), output.status.signal() == Some(9))
    }

    /// Whether the command's change set is on record, and whether it ended; whatever happened the ledger is readable.
    fn recorded(&self, scenario: &Scenario) -> (bool, bool) {
        let ran = self.host.run(&["history", "--format", "json"]);
        assert_eq!(ran.code, 0, "the ledger is readable: {ran:?}");
        let history: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
        let sets = history["change_sets"].as_array().unwrap();
        let id: i64 = scenario.id().parse().unwrap();
        let set = sets.iter().find(|set| set["id"] == id);
        (set.is_some(), set.is_some_and(|set| !set["ended"].is_null()))
    }

    /// What was disturbed is told of, and goes on, or back, to what was promised.
    fn settled(&self, scenario: &Scenario, back: bool, [before, after]: [&BTreeMap<PathBuf, String>; 2], what: &str) {
        let (begun, ended) = self.recorded(scenario);
        let id = scenario.id();
        let audit = self.host.run(&["audit", "--fail-on", "never"]);
        let told = format!("change set {id} ({} berths) was stopped in the middle", scenario.command[0]);
        assert_eq!(audit.err.contains(&told), begun && !ended, "{what}: {audit:?}");
        let whole = ended && self.picture() == *after;
        let words: &[&str] = if back { &["undo", &id, "--yes", "-q"] } else { scenario.finish };
        if back || !whole {
            let ran = self.host.run(words);
            let expected = if back && !begun { 2 } else { 0 };
            assert_eq!(ran.code, expected, "{what}: {ran:?}");
            same(&self.picture(), if back { before } else { after }, what, &ran);
        }
        let audit = self.host.run(&["audit", "--fail-on", "never"]);
        assert!(!audit.err.contains("stopped in the middle"), "{what}: {audit:?}");
        if !back && scenario.command[0] != "undo" {
            // What was finished by another run can be taken back from where the first one began, also after a run that
            // found nothing left to do.
            let ran = self.host.run(&["set", "--yes", "-q"]);
            assert_eq!(ran.code, 0, "{what}: {ran:?}");
            let ran = self.host.run(&["undo", "--since", &id, "--yes", "-q"]);
            assert_eq!(ran.code, 0, "{what}: {ran:?}");
            same(&self.picture(), before, what, &ran);
        }
    }
}

fn same(found: &BTreeMap<PathBuf, String>, want: &BTreeMap<PathBuf, String>, what: &str, ran: &Ran) {
    for (path, text) in want {
        assert_eq!(found.get(path), Some(text), "{what}: {}: {ran:?}", path.display());
    }
    let more: Vec<_> = found.keys().filter(|path| !want.contains_key(*path)).collect();
    assert!(more.is_empty(), "{what}: {more:?} should not be there: {ran:?}");
}

/// A command that came to its end: the pictures before and after it, and how many changes it made.
struct Undisturbed {
    pictures: [BTreeMap<PathBuf, String>; 2],
    changes: u64,
}

/// How a scenario goes undisturbed: found out once for all faults.
fn undisturbed(scenario: &Scenario) -> Arc<Undisturbed> {
    type Words = &'static [&'static str];
    type Known = BTreeMap<(&'static [Words], Words), Arc<OnceLock<Arc<Undisturbed>>>>;
    static KNOWN: Mutex<Known> = Mutex::new(BTreeMap::new());
    let once = Arc::clone(KNOWN.lock().unwrap().entry((scenario.before, scenario.command)).or_default());
    let found = once.get_or_init(|| {
        let stage = scenario.stage();
        let before = stage.picture();
        let changes = stage.host.changes(scenario.command);
        let after = stage.picture();
        assert_ne!(before, after);
        Arc::new(Undisturbed { pictures: [before, after], changes })
    });
    Arc::clone(found)
}

#[rstest]
fn whatever_happens_at_any_change_is_settled(
    #[values(SET, OPEN, SEAL, UNDO_SET, UNDO_SEAL, MOVE, MOVE_ACROSS, UNPACK, UPGRADE, UNDO_UPGRADE)]
    scenario: Scenario,
    #[values((0, "kill"), (1, "SIGTERM"), (2, "EIO"), (3, "ENOSPC+"))] (turn, fault): (u64, &str),
) {
    if !is_root() {
        return;
    }
    let undisturbed = undisturbed(&scenario);
    let ([before, after], changes) = (&undisturbed.pictures, undisturbed.changes);
    eprintln!("{:?}: {changes} changes", scenario.command);
    assert!(changes > 8, "{changes}");
    let (fault, from_then_on) = fault.strip_suffix('+').map_or((fault, ""), |fault| (fault, "+"));
    // Killed at every change; of the other faults each change gets one, or, where AMBRIK_EVERY_STEP is set, all.
    let all = fault == "kill" || std::env::var_os("AMBRIK_EVERY_STEP").is_some();
    for n in (1..=changes).filter(|n| all || n % 3 == turn % 3) {
        // Where the process goes on it is settled the one way or the other in turn, so that both come after every other change.
        let ways: &[bool] = if fault == "kill" { &[false, true] } else { &[n % 2 == 0] };
        for &back in ways {
            let stage = scenario.stage();
            let spec = format!("{fault}:{n}{from_then_on}");
            let (ran, killed) = stage.disturbed(&scenario, &spec);
            let what = format!("{:?} {spec} back {back}: {ran:?}", scenario.command);
            match fault {
                "kill" => assert!(killed, "{what}"),
                "SIGTERM" => {
                    // At the very end there is nothing left to stop.
                    let stopped = ran.code == 3 && ran.err.contains("stopped by SIGTERM");
                    let (begun, ended) = stage.recorded(&scenario);
                    assert_eq!(stopped, begun && !ended, "{what}");
                    if stopped {
                        stage.numbers_agree(&scenario, &ran, &what);
                    }
                }
                _ => assert!([0, 2, 3].contains(&ran.code), "{what}"),
            }
            stage.settled(&scenario, back, [before, after], &what);
        }
    }
}
