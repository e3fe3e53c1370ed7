//! The proof that PHP's account can write where it should and nowhere else, and what it holds open from before: with real
//! processes of that account against it.

use std::fs;
use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use ambrik_core::account::Accounts;
use ambrik_core::change::{Proof, Prover, afterwards, prove};
use ambrik_core::site::{Site, read};
use ambrik_core::tree::{Host, Progress};
use rstest::rstest;

use crate::host::{PHP, TestHost, give, is_root};
use crate::moved::whole;

const SITE: &str = "served = \".\"\n[accounts]\nphp = \"php\"\nweb = \"web\"\n[[part]]\npath = \"settings.php\"\nuse = \"secret\"\nwrite = \"install\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n";

/// A site that is as it should be, whose PHP runs as `php`.
struct Sound {
    host: TestHost,
    php: u32,
}

impl Sound {
    fn new(php: u32) -> Self {
        let host = TestHost::new();
        let passwd = format!("root:x:0:0::/:/\nphp:x:{php}:{php}::/:/\nweb:x:61002:61002::/:/\n");
        host.write("etc/passwd", &passwd);
        host.write("etc/group", format!("root:x:0:\nphp:x:{php}:\nweb:x:61002:\n"));
        host.write("etc/ambrik/sites/berths.toml", format!("[site]\nroot = \"/srv/www/berths\"\n{SITE}"));
        for name in ["index.php", "settings.php", "uploads/pic"] {
            host.file(name, 0, 0o644);
        }
        assert_eq!(host.run(&["set", "--yes", "-q"]).code, 0);
        Self { host, php }
    }

    fn site(&self) -> Site {
        let at = |path: &str| fs::read_to_string(self.host.at(path)).unwrap();
        let accounts = Accounts::from_texts(&at("etc/passwd"), &at("etc/group"));
        read(&at("etc/ambrik/sites/berths.toml"), Path::new("berths.toml"), &accounts, &[]).unwrap()
    }

    fn prove(&self) -> Proof {
        let host = Host::at(&self.host.at("")).unwrap();
        let site = std::sync::Arc::new(self.site());
        let found = afterwards(&host, &site, &Progress::default()).unwrap();
        let prover = Prover { program: env!("CARGO_BIN_EXE_ambrik").into(), arguments: vec!["prove-as-php".into()] };
        prove(&host, &site, &found, None, &prover).unwrap()
    }

    /// A shell with PHP's ids.
    fn as_php(&self, script: &str) -> Command {
        let mut command = Command::new("sh");
        command.uid(self.php).gid(self.php).args(["-c", script]).current_dir("/").stdin(Stdio::piped());
        command
    }
}

/// The kernel is asked, and it does find what is not as it should be; no trace is left.
#[test]
fn a_proof_finds_what_was_opened_again() {
    if !is_root() {
        return;
    }
    let sound = Sound::new(PHP);
    let before = whole(&sound.host.at("srv"));
    let proof = sound.prove();
    assert_eq!(whole(&sound.host.at("srv")), before, "no trace of it");
    assert_eq!((proof.opened, proof.made, proof.differences.len()), (2, 1, 0), "{proof:?}");
    give(&sound.host.at("srv/www/berths/index.php"), 0, 0o666);
    give(&sound.host.at("srv/www/berths/uploads"), 0, 0o755);
    let said: Vec<String> =
        sound.prove().differences.iter().map(|(path, why)| format!("{}: {why}", path.display())).collect();
    assert_eq!(
        said,
        [
            "/srv/www/berths/index.php: it can be opened for writing",
            "/srv/www/berths/uploads: no file can be made in it: permission denied",
        ]
    );
}

/// However much code there is, settings are among what is tried.
#[test]
fn settings_are_tried_among_much_code() {
    if !is_root() {
        return;
    }
    let sound = Sound::new(PHP);
    for n in 0..450 {
        sound.host.file(&format!("lib/{n}.php"), 0, 0o644);
    }
    give(&sound.host.at("srv/www/berths/settings.php"), PHP, 0o600);
    let proof = sound.prove();
    assert_eq!(proof.opened, 201);
    assert_eq!(proof.differences[0].0, Path::new("/srv/www/berths/settings.php"));
}

/// Ends with the test, whatever came of it.
struct Attacker(Child);

impl Drop for Attacker {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// PHP's account ends, or stops, every process that the kernel lets it: `seal` goes on, and says what happened.
#[rstest]
#[case::ended("KILL", 61_701, "it was ended by signal 9")]
#[case::stopped("STOP", 61_702, "it was silent for 5 seconds:")]
fn whoever_stops_the_proof_does_not_stop_the_seal(#[case] signal: &str, #[case] php: u32, #[case] says: &str) {
    if !is_root() {
        return;
    }
    let sound = Sound::new(php);
    for n in 0..400 {
        sound.host.file(&format!("lib/{n}.php"), php, 0o666);
    }
    // All that it may: the shell itself is left out (kill(2)).
    let script = format!("while :; do kill -s {signal} -- -1 2> /dev/null; done");
    let mut attacker = Attacker(sound.as_php(&script).spawn().unwrap());
    // The proof takes a moment only: it is made until the attacker comes to it.
    let seal = || {
        give(&sound.host.at("srv/www/berths/lib/0.php"), php, 0o666);
        sound.host.run(&["seal", "berths", "--yes", "--unfinished"])
    };
    let ran = (0..500).map(|_| seal()).find(|ran| ran.code != 0).expect("the attacker never came to it");
    assert!(attacker.0.try_wait().unwrap().is_none());
    drop(attacker);
    assert_eq!(ran.code, 3, "{ran:?}");
    assert!(ran.out.contains(says) && ran.out.contains("nothing is proved"), "{ran:?}");
    assert!(ran.out.contains("findings remain (1 high)"), "{ran:?}");
    assert_eq!(sound.host.run(&["audit", "--fail-on", "high"]).code, 0, "the site itself is sealed");
    let again = sound.prove();
    assert!(again.disturbed.is_none() && again.differences.is_empty(), "{again:?}");
}

/// What PHP opened for writing while it could is told by `seal` before its proof, and by every audit until it is closed.
#[rstest]
#[case::opened("exec 3>> settings.php; read line")]
#[case::by_another_name("mv settings.php other; exec 3>> other; mv other settings.php; read line")]
fn what_is_held_open_is_told_of(#[case] script: &str) {
    if !is_root() {
        return;
    }
    let (host, folder) = (TestHost::empty(), tempfile_below_root());
    let root = folder.path().join("berths");
    fs::create_dir_all(&root).unwrap();
    for name in ["index.php", "settings.php"] {
        fs::write(root.join(name), "<?php\n").unwrap();
    }
    // The site is on this host, where there are processes.
    let text = format!(
        "[site]\nroot = \"{}\"\n{}",
        root.display(),
        SITE.replace("\"php\"", "\"daemon\"").replace("\"web\"", "\"bin\"")
    );
    host.write("sites/berths.toml", &text);
    fs::create_dir(root.join("uploads")).unwrap();
    let (sites, state) = (host.at("sites"), host.at("state"));
    let run = |words: &[&str]| {
        let places = ["--sites", sites.to_str().unwrap(), "--state", state.to_str().unwrap()];
        host.told(&host.command_without_host(&[words, &places].concat()).output().unwrap())
    };
    assert_eq!(run(&["open", "berths", "--yes", "-q"]).code, 0, "{:?}", run(&["open", "berths", "--preview"]));
    give(&root, 1, 0o755);
    let mut php = Command::new("sh");
    php.uid(1).gid(1).args(["-c", script]).current_dir(&root).stdin(Stdio::piped());
    let mut php = Attacker(php.spawn().unwrap());
    // It has the file open as soon as its descriptor 3 is there.
    let handle = format!("/proc/{}/fd/3", php.0.id());
    while fs::read_link(&handle).is_err() {
        std::thread::yield_now();
    }
    let sealed = run(&["seal", "berths", "--yes", "--unfinished"]);
    let told = format!("settings.php is still open for writing: process {} (sh); ", php.0.id());
    assert!(sealed.err.contains(&told), "{sealed:?}");
    assert!(sealed.out.contains("findings remain (1 high") && !sealed.out.contains("nothing remains"), "{sealed:?}");
    let audit = run(&["audit", "berths"]);
    assert!(audit.code == 1 && audit.out.contains("still-open"), "{audit:?}");
    drop(php.0.stdin.take());
    php.0.wait().unwrap();
    let audit = run(&["audit", "berths"]);
    assert!(!audit.out.contains("still-open"), "{audit:?}");
}

/// A folder that nobody but root can rename what is in.
fn tempfile_below_root() -> tempfile::TempDir {
    fs::create_dir_all("/srv/ambrik-tests").unwrap();
    let dir = tempfile::tempdir_in("/srv/ambrik-tests").unwrap();
    give(dir.path(), 0, 0o755);
    dir
}
