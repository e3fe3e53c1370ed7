//! Surveys of trees that change, hide or mislead while they are looked at.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use ambrik_core::account::Accounts;
use ambrik_core::host::{self, Services};
use ambrik_core::survey::{Survey, survey};
use ambrik_core::tree::{Host, Progress, WayError};

/// A made-up host with a small application in `/srv/quay`, which writes to `tides`.
struct Quay {
    dir: tempfile::TempDir,
}

impl Quay {
    fn new() -> Self {
        let quay = Self { dir: tempfile::tempdir().unwrap() };
        fs::set_permissions(quay.dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
        quay.write("index.php", "<?php is_writable(__DIR__ . '/tides'); file_put_contents(__DIR__ . '/tides/a', 1);");
        quay.write("tides/a.csv", "06:00;1.2\n");
        quay
    }

    fn at(&self, path: &str) -> PathBuf {
        self.dir.path().join("srv/quay").join(path)
    }

    fn write(&self, path: &str, text: &str) {
        let whole = self.at(path);
        fs::create_dir_all(whole.parent().unwrap()).unwrap();
        fs::write(whole, text).unwrap();
    }

    fn survey(&self) -> Result<Survey, WayError> {
        let host = Host::at(self.dir.path()).unwrap();
        let accounts = Accounts::from_texts("root:x:0:0::/:/\n", "root:x:0:\n");
        survey(&host, &accounts, &Services::default(), Path::new("/srv/quay"), &[], None, &Progress::default())
    }
}

fn paths(found: &Survey) -> Vec<&str> {
    found.parts.iter().map(|part| part.path.to_str().unwrap()).collect()
}

/// Times, owners and modes of everything, names included.
fn picture(folder: &Path) -> Vec<String> {
    let mut all = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(dir) = folders.pop() {
        for entry in fs::read_dir(&dir).unwrap() {
            let path = entry.unwrap().path();
            let meta = path.symlink_metadata().unwrap();
            all.push(format!(
                "{} {:o} {} {}.{} {}.{}",
                path.display(),
                meta.mode(),
                meta.uid(),
                meta.mtime(),
                meta.mtime_nsec(),
                meta.ctime(),
                meta.ctime_nsec()
            ));
            if meta.is_dir() {
                folders.push(path);
            }
        }
    }
    all.sort();
    all
}

#[test]
fn a_survey_changes_nothing() {
    let quay = Quay::new();
    quay.write("install/index.php", "<?php file_put_contents('../config.php', 1);");
    quay.write("config.sample.php", "<?php $password = '';");
    symlink("/etc", quay.at("etc")).unwrap();
    let before = picture(quay.dir.path());
    quay.survey().unwrap();
    assert_eq!(picture(quay.dir.path()), before);
}

#[test]
fn a_tree_that_changes_under_it_does_not_stop_it() {
    let quay = Quay::new();
    for n in 0..200 {
        quay.write(&format!("lib/f{n}.php"), "<?php function f() { return __DIR__ . '/x'; } mkdir(f());");
    }
    let done = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let (lib, aside) = (quay.at("lib"), quay.at("aside"));
            while !done.load(Ordering::Relaxed) {
                // A folder becomes a link to elsewhere, a file a FIFO, and back.
                let _ = fs::rename(&lib, &aside);
                let _ = symlink("/etc", &lib);
                let _ = fs::remove_file(&lib);
                let _ = fs::rename(&aside, &lib);
                let _ = fs::remove_file(lib.join("f0.php"));
                let _ = rustix::fs::mknodat(
                    rustix::fs::CWD,
                    lib.join("f0.php"),
                    rustix::fs::FileType::Fifo,
                    rustix::fs::Mode::RUSR,
                    0,
                );
                let _ = fs::remove_file(lib.join("f0.php"));
                let _ = fs::write(lib.join("f0.php"), "<?php touch(1);");
            }
        });
        let found: Vec<Survey> = (0..40).filter_map(|_| quay.survey().ok()).collect();
        done.store(true, Ordering::Relaxed);
        assert_eq!(found.len(), 40);
        for found in found {
            let strange: Vec<&str> =
                paths(&found).into_iter().filter(|path| !["tides", "lib/x", "aside/x"].contains(path)).collect();
            assert_eq!(strange, [] as [&str; 0]);
            assert!(paths(&found).contains(&"tides"));
        }
    });
}

#[test]
fn deep_trees_are_looked_at_to_their_end() {
    let quay = Quay::new();
    let deep = format!("{}cache", "a/".repeat(300));
    quay.write(&format!("{deep}/.gitignore"), "*\n");
    assert_eq!(paths(&quay.survey().unwrap()), [deep.as_str(), "tides"]);
}

#[test]
fn names_that_are_no_text_are_asked_about() {
    use std::os::unix::ffi::OsStrExt as _;
    let quay = Quay::new();
    let odd = quay.at("").join(std::ffi::OsStr::from_bytes(b"od\xffd")).join("cache");
    fs::create_dir_all(&odd).unwrap();
    fs::write(odd.join(".gitignore"), "*\n").unwrap();
    let draft = quay.survey().unwrap().draft();
    assert!(draft.contains("# Question: its name is not UTF-8"), "{draft}");
    assert!(draft.contains("# path  = \"od"), "{draft}");
    draft.parse::<toml::Table>().unwrap();
}

#[test]
fn what_cannot_be_looked_at_is_told() {
    if !crate::host::is_root() {
        return;
    }
    let quay = Quay::new();
    quay.write("closed/a.php", "<?php touch(__DIR__ . '/x');");
    fs::set_permissions(quay.at("closed"), fs::Permissions::from_mode(0o700)).unwrap();
    let dir = quay.dir.path().to_owned();
    let nobody = ambrik_core::account::Gid(61_009);
    let ids = ambrik_core::account::Ids::new(ambrik_core::account::Uid(61_009), nobody, []);
    let seen = crate::kernel::as_account(&ids, move || {
        let host = Host::at(&dir).unwrap();
        let accounts = Accounts::from_texts("root:x:0:0::/:/\n", "root:x:0:\n");
        let found =
            survey(&host, &accounts, &Services::default(), Path::new("/srv/quay"), &[], None, &Progress::default())
                .unwrap();
        (found.unseen.clone(), found.parts.len())
    });
    assert_eq!(seen, (vec![PathBuf::from("closed")], 1));
}

#[test]
fn a_root_that_is_none_is_said() {
    let quay = Quay::new();
    let host = Host::at(quay.dir.path()).unwrap();
    let accounts = Accounts::from_texts("root:x:0:0::/:/\n", "root:x:0:\n");
    let services = host::look(&host, &accounts);
    let said = |path: &str| {
        let found = survey(&host, &accounts, &services, Path::new(path), &[], None, &Progress::default());
        found.err().map(|error| error.to_string())
    };
    assert_eq!(said("/srv/none").as_deref(), Some("/srv/none does not exist"));
    assert_eq!(said("/srv/quay/index.php").as_deref(), Some("/srv/quay/index.php is no directory"));
    assert_eq!(said("/srv/quay"), None);
}

#[test]
fn a_root_behind_a_link_is_looked_at_and_stays_the_link() {
    let quay = Quay::new();
    symlink("/srv/quay", quay.dir.path().join("www")).unwrap();
    let host = Host::at(quay.dir.path()).unwrap();
    let accounts = Accounts::from_texts("root:x:0:0::/:/\n", "root:x:0:\n");
    let found =
        survey(&host, &accounts, &Services::default(), Path::new("/www"), &[], None, &Progress::default()).unwrap();
    assert_eq!((found.root.as_path(), paths(&found)), (Path::new("/www"), vec!["tides"]));
}
