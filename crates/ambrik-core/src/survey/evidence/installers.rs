//! Installers: by name, by what they do, and by what the application's own texts and code ask to remove.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use regex::Regex;

use super::Scene;
use crate::check::{Guess, does_an_installers, guess, is_php_name, may_be_an_installers};
use crate::entry::Kind;
use crate::pattern::pattern;
use crate::survey::clue::{Clues, Seen, Tells};
use crate::survey::deployed::TreeEntry;
use crate::survey::names::{Aside, is_installers, is_settings_name, lower_name};
use crate::survey::php::{Location, Sink};
use crate::survey::weights::installers;

/// An installer is not deeper in the tree.
const DEEPEST: usize = 3;

pattern!(MAKES_TABLES: Regex = r"(?i)create\s+table|\.sql['\x22]");
pattern!(ASKS_PASSWORD: Regex = r#"(?i)type\s*=\s*\\?["']password|name\s*=\s*\\?["']\w*(?:pass|admin)\w*"#);
pattern!(TESTS_SETTINGS: Regex = r"(?i)(?:file_exists|is_file|is_readable)\s*\([^)]*(?:config|settings)");
pattern!(ASKS_REMOVAL: Regex = r"(?i)(?:remove|delete|rename)\W+(?:\w+\W+){0,5}?(?P<what>[\w./-]*(?:install|setup)[\w./-]*)");

pub(super) fn gather(scene: &Scene<'_>, clues: &mut Clues) {
    let entries = scene.deployed.entries.iter().filter(|(path, entry)| is_candidate(scene, path, entry));
    let candidates: Vec<PathBuf> = entries.map(|(path, _)| path.clone()).collect();
    for path in &candidates {
        if candidates.iter().any(|other| other != path && path.starts_with(other)) {
            continue;
        }
        look_inside(scene, clues, path);
    }
    by_their_work(scene, clues, &candidates);
    asked_by_code(scene, clues, &candidates);
    still_needed(scene, clues);
}

/// Pages that do an installer's work under another name: one that was renamed, for instance. Where the folder's name tells of
/// installing all of it is meant.
fn by_their_work(scene: &Scene<'_>, clues: &mut Clues, candidates: &[PathBuf]) {
    for (path, entry) in &scene.deployed.entries {
        let Ok(below) = path.strip_prefix(scene.served) else { continue };
        let above = below.parent().unwrap_or(Path::new(""));
        let may_be = entry.kind == Kind::File
            && is_php_name(path)
            && path.file_name().is_some_and(|name| may_be_an_installers(above, name))
            && scene.deployed.aside(path).is_none();
        if !may_be || candidates.iter().any(|candidate| path.starts_with(candidate)) {
            continue;
        }
        let Some(text) = scene.deployed.text(path, 256 << 10) else { continue };
        if let Some(does) = does_an_installers(text.as_bytes()) {
            let folder = path.parent().filter(|_| is_installers(above));
            let says = format!("does an installer's work ({does})");
            clues.inside(folder.unwrap_or(path), Tells::Installer, installers::BY_WORK, says, Seen::at(path, 0));
        }
    }
}

/// Whether a path is called like an installer, where one may be.
fn is_candidate(scene: &Scene<'_>, path: &Path, entry: &TreeEntry) -> bool {
    let kind = entry.kind;
    if scene.deployed.aside(&path.join("x")).is_some() || path.components().count() > DEEPEST {
        return false;
    }
    let name = lower_name(path);
    // A switch that is a plain file is empty or nearly so; a longer one is a document.
    let given = path.file_name().map(|name| name.to_string_lossy().into_owned());
    let is_switch = path.extension().is_none() && entry.size < 256 && given.as_ref() == Some(&name);
    let above = path.parent().unwrap_or(Path::new(""));
    let at_the_front = above.as_os_str().is_empty() || above == scene.served;
    let is_file =
        kind == Kind::File && at_the_front && ((is_php_name(path) && !only_defines(scene, path)) || is_switch) && {
            let stem = name.split('.').next().unwrap_or_default();
            matches!(
                stem,
                "install"
                    | "installer"
                    | "setup"
                    | "installation"
                    | "_install"
                    | "_setup"
                    | "install_db"
                    | "webinstall"
            )
        };
    let named = path.file_name().and_then(|name| guess(name, kind));
    is_file || (kind == Kind::Directory && matches!(named, Some(Guess::Installer(_))))
}

fn look_inside(scene: &Scene<'_>, clues: &mut Clues, path: &Path) {
    let is_dir = scene.deployed.is_directory(path);
    let files: Vec<&Path> = if is_dir {
        scene
            .deployed
            .below(path)
            .filter(|(p, e)| e.kind == Kind::File && is_php_name(p))
            .map(|(p, _)| p.as_path())
            .collect()
    } else {
        vec![path]
    };
    // An entrance: a page that a browser can ask for.
    let near = |file: &Path| file.components().count() <= path.components().count() + 1;
    let entrance = files.iter().any(|file| near(file) && !only_defines(scene, file));
    if !entrance && is_dir {
        return;
    }
    clues.inside(path, Tells::Installer, installers::NAME, "called as installers are", Seen::at(path, 0));
    if !is_dir && !is_php_name(path) {
        return;
    }
    let mut found = BTreeSet::new();
    for file in files.iter().take(200) {
        let Some(text) = scene.deployed.text(file, 512 << 10) else { continue };
        let kinds = [
            (&MAKES_TABLES, installers::MAKES_TABLES, "makes the database's tables"),
            (&ASKS_PASSWORD, installers::ASKS_PASSWORD, "asks for a password"),
            (&TESTS_SETTINGS, installers::TESTS_SETTINGS, "looks whether there are settings already"),
        ];
        for (expression, weight, says) in kinds {
            let hit = expression.find(&text);
            if let Some(hit) = hit.filter(|_| found.insert(says)) {
                let line = text[..hit.start()].matches('\n').count() + 1;
                clues.of_kind(says);
                clues.inside(path, Tells::Installer, weight, says, Seen::at(file, line));
            }
        }
    }
    let writes = scene.touched.iter().find(|touched| {
        let (Location::Inside(written) | Location::Outside(written)) = &touched.spot;
        let settings = is_settings_name(&lower_name(written));
        settings
            && touched.file.starts_with(path)
            && !matches!(touched.sink, Sink::Load | Sink::Look | Sink::Setting | Sink::Named)
    });
    if let Some(touched) = writes {
        clues.of_kind("writes settings");
        clues.inside(
            path,
            Tells::Installer,
            installers::WRITES_SETTINGS,
            "writes the settings",
            Seen::at(&touched.file, touched.line),
        );
    }
    clues.of_kind("installers");
}

pattern!(CLASS: Regex = r"(?m)^\s*(?:(?:final|abstract|readonly)\s+)*(?:class|interface|trait|enum)\s+\w+");

/// Whether a file holds classes or functions only, so that asking for it does nothing.
fn only_defines(scene: &Scene<'_>, path: &Path) -> bool {
    if let Some(facts) = scene.facts.iter().find(|facts| facts.file == *path) {
        return facts.shape.only_defines();
    }
    let text = scene.deployed.text(path, 512 << 10).unwrap_or_default();
    CLASS.is_match(&text)
}

/// Messages such as "please delete the folder install".
fn asked_by_code(scene: &Scene<'_>, clues: &mut Clues, candidates: &[PathBuf]) {
    for facts in scene.facts {
        if scene.deployed.aside(&facts.file).is_some() {
            continue;
        }
        let Some(text) = scene.deployed.text(&facts.file, 512 << 10) else { continue };
        for found in ASKS_REMOVAL.captures_iter(&text) {
            let Some(what) = found.name("what") else { continue };
            let name = what.as_str().trim_matches(['/', '.']).to_ascii_lowercase();
            let meant = candidates.iter().find(|path| lower_name(path) == name.rsplit('/').next().unwrap_or_default());
            if let Some(path) = meant {
                let line = text[..what.start()].matches('\n').count() + 1;
                clues.of_kind("asked by code");
                clues.inside(
                    path,
                    Tells::Installer,
                    1.0,
                    "its own code asks to remove it",
                    Seen::at(&facts.file, line),
                );
            }
        }
    }
    clues.of_kind("installers");
}

/// An installer whose files other code loads.
fn still_needed(scene: &Scene<'_>, clues: &mut Clues) {
    let paths: Vec<PathBuf> = clues
        .spots()
        .filter_map(|spot| match spot {
            Location::Inside(path) if !clues.of(spot, Tells::Installer).is_empty() => Some(path.clone()),
            _ => None,
        })
        .collect();
    for touched in scene.touched.iter().filter(|touched| touched.sink == Sink::Load) {
        let Location::Inside(loaded) = &touched.spot else { continue };
        if !scene.deployed.is_file(loaded) {
            continue;
        }
        for path in &paths {
            let development = scene.deployed.aside(&touched.file) == Some(Aside::Development);
            // A page that shows the installer where there are no settings yet does not need it later.
            let entrance = matches!(lower_name(loaded).as_str(), "index.php" | "install.php" | "setup.php");
            if loaded.starts_with(path) && !touched.file.starts_with(path) && !development && !entrance {
                let seen = Seen::at(&touched.file, touched.line);
                clues.inside(
                    path,
                    Tells::StillNeeded,
                    1.0,
                    format!("{} loads {}", touched.file.display(), loaded.display()),
                    seen,
                );
            }
        }
    }
}
