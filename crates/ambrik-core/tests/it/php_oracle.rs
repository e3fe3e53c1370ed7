//! What a survey says that code writes, against what PHP itself writes when it runs the code.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use ambrik_core::account::Accounts;
use ambrik_core::host::Services;
use ambrik_core::survey::survey;
use ambrik_core::tree::{Host, Progress};
use rand::prelude::*;

/// Folders without a name of the trade: only the code tells what they are for.
const FOLDERS: &[&str] =
    &["berths", "moorings", "tides", "ropes", "buoys", "charts/north", "charts/south", "quay/rows"];

/// Whether there is a PHP to ask; says so where not.
fn has_php() -> bool {
    let php = Command::new("php").arg("-v").stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok();
    if !php {
        test_support::missing("no PHP to ask");
    }
    php
}

/// A program of a few files that writes one file into `folder`, the path made in a way drawn by lot.
struct Program {
    before: Vec<String>,
    settings: Vec<String>,
    linked: Vec<String>,
    names: usize,
}

impl Program {
    fn name(&mut self) -> String {
        self.names += 1;
        format!("quay_{}", self.names)
    }

    /// An expression for the application's root.
    fn root(&mut self, rng: &mut StdRng) -> String {
        match rng.random_range(0..5) {
            0 => "dirname(__DIR__)".into(),
            1 => "dirname(__FILE__, 2)".into(),
            2 => "__DIR__ . '/..'".into(),
            3 => "realpath(__DIR__ . '/..')".into(),
            _ => "dirname(dirname(__FILE__))".into(),
        }
    }

    /// An expression whose value is that of `expression`.
    fn hidden(&mut self, expression: &str, rng: &mut StdRng) -> String {
        let name = self.name();
        match rng.random_range(0..17) {
            0 => {
                self.before.push(format!("${name} = {expression};"));
                format!("${name}")
            }
            1 => {
                self.before.push(format!("define('{name}', {expression});"));
                name
            }
            2 => {
                self.before.push(format!("function {name}() {{ extract($GLOBALS); return {expression}; }}"));
                format!("{name}()")
            }
            3 => {
                self.before.push(format!("$list_{name} = ['x' => 1, '{name}' => {expression}];"));
                format!("$list_{name}['{name}']")
            }
            4 => {
                self.before.push(format!("$object_{name} = new stdClass; $object_{name}->{name} = {expression};"));
                format!("$object_{name}->{name}")
            }
            5 => {
                self.before.push(format!("class C_{name} {{ public static $v; }} C_{name}::$v = {expression};"));
                format!("C_{name}::$v")
            }
            6 => {
                self.before.push(format!(
                    "class K_{name} {{ private $v; function __construct($v) {{ $this->v = $v; }} function v_{name}() {{ return $this->v; }} }}\n$k_{name} = new K_{name}({expression});"
                ));
                format!("$k_{name}->v_{name}()")
            }
            7 => format!("rtrim({expression}, '/')"),
            8 => format!("(string) ({expression})"),
            9 => format!("sprintf('%s', {expression})"),
            10 => format!("({expression} ?: '')"),
            11 => {
                self.before.push(format!("function same_{name}($p) {{ return $p; }}"));
                format!("same_{name}({expression})")
            }
            // A constant with a fall-back.
            12 => {
                self.before.push(format!("defined('{name}') or define('{name}', {expression});"));
                name
            }
            13 => {
                self.before.push(format!("if (!defined('{name}')) {{ define('{name}', {expression}); }}"));
                name
            }
            14 => {
                self.before.push(format!("$list_{name} = ['{name}' => {expression}];"));
                format!("\"{{$list_{name}['{name}']}}\"")
            }
            15 => {
                self.before.push(format!(
                    "class G_{name} {{ static $s; static function get_{name}($k) {{ return self::$s[$k]; }} }}\nG_{name}::$s = ['{name}' => {expression}];"
                ));
                format!("G_{name}::get_{name}('{name}')")
            }
            _ => {
                self.before.push(format!("function join_{name}($a, $b) {{ return $a . $b; }}"));
                format!("join_{name}({expression}, '')")
            }
        }
    }

    /// A statement that writes a file in the folder.
    fn write(&mut self, folder: &str, rng: &mut StdRng) -> String {
        let root = self.root(rng);
        let root = self.hidden(&root, rng);
        let folder = match rng.random_range(0..5) {
            0 => format!("'{folder}'"),
            1 => folder.split('/').map(|part| format!("'{part}'")).collect::<Vec<_>>().join(" . '/' . "),
            2 => {
                let name = self.name();
                self.settings.push(format!("'{name}' => '{folder}/',"));
                format!("$settings['{name}']")
            }
            // In a folder of settings that a link of the tree leads to.
            3 => {
                let name = self.name();
                self.linked.push(format!("'{name}' => '{folder}/',"));
                format!("$linked['{name}']")
            }
            _ => self.hidden(&format!("'{folder}'"), rng),
        };
        let path = format!("{root} . '/' . {folder}");
        let path = if rng.random_bool(0.5) { self.hidden(&path, rng) } else { path };
        match rng.random_range(0..6) {
            5 => {
                let name = self.name();
                self.before.push(format!("function put_{name}($p) {{ file_put_contents($p . '/made.txt', 'x'); }}"));
                format!("put_{name}({path});")
            }
            0 => format!("file_put_contents({path} . '/made.txt', 'x');"),
            1 => format!("$f = fopen({path} . '/made.txt', 'w'); fwrite($f, 'x');"),
            2 => format!("touch({path} . '/made.txt');"),
            3 => format!("error_log('x', 3, {path} . '/made.txt');"),
            _ => format!("$p = {path}; if (!is_writable($p)) {{ exit(1); }} file_put_contents(\"$p/made.txt\", 'x');"),
        }
    }
}

fn tree(root: &Path, code: &str, settings: &str) {
    for folder in FOLDERS {
        fs::create_dir_all(root.join(folder)).unwrap();
        fs::write(root.join(folder).join("a.csv"), "06:00;1.2\n").unwrap();
    }
    fs::create_dir_all(root.join("lib")).unwrap();
    fs::write(root.join("index.php"), "<?php require 'lib/quay.php';\n").unwrap();
    fs::write(root.join("settings.php"), settings).unwrap();
    fs::write(root.join("lib/quay.php"), code).unwrap();
}

/// The folders in which running the program makes something.
fn asked_of_php(root: &Path) -> BTreeSet<PathBuf> {
    let ran = Command::new("php").arg("index.php").current_dir(root).stdin(Stdio::null()).output().unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stdout));
    FOLDERS.iter().map(PathBuf::from).filter(|folder| root.join(folder).join("made.txt").exists()).collect()
}

/// The folders that a survey proposes or asks about.
fn asked_of_survey(dir: &Path) -> BTreeSet<PathBuf> {
    let host = Host::at(dir).unwrap();
    let accounts = Accounts::from_texts("root:x:0:0::/:/\n", "root:x:0:\n");
    let found = survey(&host, &accounts, &Services::default(), Path::new("/srv/quay"), &[], None, &Progress::default())
        .unwrap();
    let parts = found.parts.into_iter().chain(found.questions.into_iter().map(|question| question.part));
    parts.map(|part| part.path).collect()
}

#[test]
fn what_php_writes_is_what_a_survey_says_that_it_writes() {
    if !has_php() {
        return;
    }
    let seed: u64 = rand::random();
    eprintln!("seed {seed}");
    let mut rng = StdRng::seed_from_u64(seed);
    let mut differ = Vec::new();
    for _ in 0..60 {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path().join("srv/quay");
        let mut program = Program { before: Vec::new(), settings: Vec::new(), linked: Vec::new(), names: 0 };
        let folder = FOLDERS.choose(&mut rng).unwrap();
        let write = program.write(folder, &mut rng);
        let code = format!(
            "<?php\n$settings = require __DIR__ . '/../settings.php';\n$linked = require __DIR__ . '/../conf/more.php';\n{}\n{write}\n",
            program.before.join("\n")
        );
        tree(&root, &code, &format!("<?php\nreturn [{}];\n", program.settings.join("\n")));
        let linked = dir.path().join("etc/quay");
        fs::create_dir_all(&linked).unwrap();
        fs::write(linked.join("more.php"), format!("<?php\nreturn [{}];\n", program.linked.join("\n"))).unwrap();
        std::os::unix::fs::symlink("../../etc/quay", root.join("conf")).unwrap();
        let said = asked_of_survey(dir.path());
        let written = asked_of_php(&root);
        assert_eq!(written, [PathBuf::from(folder)].into(), "the program is wrong: {code}");
        if said != written {
            differ.push(format!("{said:?} instead of {written:?}\n{code}"));
        }
    }
    assert!(differ.is_empty(), "seed {seed}\n{}", differ.join("\n"));
}
