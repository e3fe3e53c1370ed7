//! Settings: made from a sample, edited in place, or named in code; secret where they hold credentials or keys.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use regex::Regex;

use super::Scene;
use crate::check::is_php_name;
use crate::credentials::credentials;
use crate::pattern::pattern;
use crate::survey::clue::{Clues, Seen, Tells};
use crate::survey::names::{Aside, ends_in, is_installers, is_settings_name, lower_name};
use crate::survey::php::{Location, Sink, Whole};
use crate::survey::weights::samples;
use crate::tree::Host;

/// Longer files are no settings.
const LONGEST: usize = 256 << 10;

pattern!(MARKED: Regex = r"(?i)^(?P<before>.*?)(?P<left>^|[._-])(?P<mark>sample|samples|dist|default|defaults|example|examples|template|tmpl|tpl|orig|original|skel|stub)(?P<right>[._-]|$)(?P<after>.*)$");

pattern!(
/// An element or an attribute that is called a password or secret, and has a value.
IN_XML: Regex = r#"(?i)<\s*\w*(?:passw|passwd|secret|api_?key|pwd)\w*\s*>\s*[^<\s]|\b\w*(?:password|secret|passwd)\s*=\s*"[^"]+""#);

/// The name of the file that is made from a sample of this name, and whether the sample may be the code's own
/// defaults.
pub(super) fn real_name(name: &str) -> Option<(String, bool)> {
    let found = MARKED.captures(name)?;
    let part = |key: &str| found.name(key).map_or("", |m| m.as_str());
    let (before, left, right, after) = (part("before"), part("left"), part("right"), part("after"));
    let real = match (before.is_empty(), after.is_empty()) {
        (true, true) => return None,
        // `.env.example`, `config.php.dist`
        (false, true) => before.to_owned(),
        // `sample.config.php`
        (true, false) => after.to_owned(),
        // `config.sample.php`, `config-sample.php`
        (false, false) => format!("{before}{}{after}", if right == "." { "." } else { left }),
    };
    // `default.settings.php` is to be copied; `settings.default.php` may be what the code falls back to.
    let is_default = !before.is_empty() && part("mark").to_ascii_lowercase().starts_with("default");
    (real.contains('.') || real.starts_with('.')).then_some((real, is_default))
}

pub(super) fn gather(scene: &Scene<'_>, clues: &mut Clues) {
    for (path, entry) in scene.deployed.files() {
        if matches!(scene.deployed.aside(path), Some(Aside::Development | Aside::Library)) || entry.size > 256 << 10 {
            continue;
        }
        let name = lower_name(path);
        let given = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        if let Some(real) = beside_a_folder_of_samples(path) {
            if is_settings_name(&name) || is_in_settings_folder(&real) {
                sample_of(scene, clues, path, real, false);
            }
            continue;
        }
        match real_name(&given) {
            Some((real, is_default)) => sample(scene, clues, path, &real, is_default),
            None if is_settings_name(&name) || is_in_settings_folder(path) => in_place(scene, clues, path),
            None => {}
        }
    }
    named_in_code(scene, clues);
}

/// The sample of a settings file that lies beside it on the host, and has a place for credentials.
pub(super) fn sample_beside(host: &Host, path: &Path) -> Option<PathBuf> {
    let dir = path.parent()?;
    let wanted = path.file_name()?.to_str()?;
    let names = host.names_in(dir).ok()?;
    let sample =
        names.into_iter().find(|name| name.to_str().and_then(real_name).is_some_and(|(real, _)| real == wanted));
    let sample = dir.join(sample?);
    let text = host.read(&sample, LONGEST).ok()?;
    credentials(&String::from_utf8_lossy(&text), is_php_name(path), true).map(|_| sample)
}

/// `config-samples/settings.php` is made into `config/settings.php`.
fn beside_a_folder_of_samples(path: &Path) -> Option<PathBuf> {
    let folder = path.parent()?;
    let (before, mark) = folder.file_name()?.to_str()?.rsplit_once(['-', '_', '.'])?;
    let marks = ["sample", "samples", "dist", "default", "defaults", "example", "examples", "template", "templates"];
    let is_one =
        marks.contains(&&*mark.to_ascii_lowercase()) && is_in_settings_folder(&Path::new(before).join("x.php"));
    is_one.then(|| folder.with_file_name(before).join(path.file_name().unwrap_or_default()))
}

fn sample(scene: &Scene<'_>, clues: &mut Clues, path: &Path, real: &str, is_default: bool) {
    let lower = real.to_ascii_lowercase();
    let beside = path.with_file_name(real);
    if is_settings_name(&lower) || is_in_settings_folder(&beside) {
        // An installer brings the sample with it, and makes the file where the application looks for it.
        let at_root = Path::new(real);
        let brought = is_installers(path) && loads(scene, at_root);
        sample_of(scene, clues, path, if brought { at_root.to_owned() } else { beside }, is_default);
    }
}

fn sample_of(scene: &Scene<'_>, clues: &mut Clues, path: &Path, real_path: PathBuf, is_default: bool) {
    let lower = lower_name(&real_path);
    let Some(text) = scene.deployed.text(path, LONGEST) else { return };
    let is_php = is_php_name(&real_path) || text.contains("<?php");
    let line = credentials(&text, is_php, true);
    let used = loads(scene, &real_path)
        || scene.deployed.is_file(&real_path)
        || !clues.of(&Location::Inside(real_path.clone()), Tells::Secret).is_empty();
    // What is called a default is often what the code falls back to, and stays where it is.
    if is_default && !used {
        return;
    }
    let weight = match (line.is_some(), used) {
        (true, true) => samples::FILLED_AND_THERE,
        (true, false) => samples::FILLED,
        // The one settings file of an application has a place for what nobody else should read, now or later.
        (false, true) if is_main(&lower) => samples::MAIN,
        (false, true) => samples::OTHER,
        (false, false) => samples::ABSENT,
    };
    let says = match line {
        Some(_) => "its sample has a place for credentials",
        None => "made from a sample",
    };
    clues.inside(&real_path, Tells::Secret, weight, says, Seen::at(path, line.unwrap_or(0)));
    clues.samples.entry(real_path).or_insert_with(|| path.to_owned());
}

/// A settings file that is shipped or lies there under its final name.
fn in_place(scene: &Scene<'_>, clues: &mut Clues, path: &Path) {
    let Some(text) = scene.deployed.text(path, LONGEST) else { return };
    let is_php = is_php_name(path);
    let Some(line) = credentials(&text, is_php, false) else { return };
    let name = lower_name(path);
    if ends_in(&name, &[".xml"]) && !IN_XML.is_match(&text) {
        return;
    }
    let mut weight: f64 = if is_settings_name(&name) { samples::CREDENTIALS_IN_SETTINGS } else { samples::CREDENTIALS };
    let shape = scene.facts.iter().find(|facts| facts.file == *path).map(|facts| facts.shape);
    let does_more = is_php && shape.is_some_and(|shape| !shape.is_settings());
    if is_translation(path) || is_of_tools(path) || labels(&text) > 10 {
        return;
    }
    // Defaults that load what this installation sets.
    let overridden = scene.touched.iter().any(|touched| {
        let other = matches!(&touched.spot, Location::Inside(p) if p != path && is_settings_name(&lower_name(p)) && !scene.deployed.has(p));
        touched.file == *path && touched.sink == Sink::Load && other
    });
    if overridden {
        weight -= samples::LOADS_OTHERS;
    }
    if does_more {
        weight -= if is_in_settings_folder(path) { samples::CODE_IN_SETTINGS } else { samples::CODE };
    }
    if is_php && !is_in_settings_folder(path) && !loads(scene, path) && !loads_from_around(scene, path) {
        weight -= samples::LONELY;
    }
    if !is_php && ends_in(&name, &[".json"]) && !name.contains("config") && !name.contains("secret") {
        weight -= samples::DATA;
    }
    if !is_settings_name(&name) && loads(scene, path) {
        weight += samples::LOADED;
    }
    let says =
        if is_settings_name(&name) { "settings with credentials or keys" } else { "holds what looks like a key" };
    clues.inside(path, Tells::Secret, weight, says, Seen::at(path, line));
}

/// Settings that code loads and the tree does not have: an override, or what the installer makes.
fn named_in_code(scene: &Scene<'_>, clues: &mut Clues) {
    let names: BTreeSet<&OsStr> = scene.deployed.files().filter_map(|(path, _)| path.file_name()).collect();
    for touched in scene.touched.iter().filter(|touched| touched.sink == Sink::Load) {
        let Location::Inside(path) = &touched.spot else { continue };
        let name = lower_name(path);
        if !touched.sure && !is_main(&name) {
            continue;
        }
        let missing = !scene.deployed.has(path);
        if scene.deployed.aside(&touched.file).is_some() || !is_settings_name(&name) || is_translation(path) {
            continue;
        }
        // PHP looks along a search path too: one that lies elsewhere is the one that is meant.
        if missing && path.file_name().is_some_and(|name| names.contains(name)) {
            continue;
        }
        let seen = Seen::at(&touched.file, touched.line);
        if missing && !name.contains("header") && !name.contains("footer") {
            clues.inside(
                path,
                Tells::Secret,
                samples::MADE_AT_INSTALLATION,
                "loaded by the code, and made at installation",
                seen,
            );
        } else if name.contains("local") {
            clues.inside(path, Tells::Secret, samples::OF_THIS_INSTALLATION, "settings of this installation", seen);
        }
    }
}

/// How many texts for people it holds: forms for settings name passwords, too.
fn labels(text: &str) -> usize {
    ["__(", "_(", "gettext(", "lang(", "trans("].iter().map(|call| text.matches(call).count()).sum()
}

/// Settings of editors and other tools, in folders of their own.
fn is_of_tools(path: &Path) -> bool {
    path.parent().is_some_and(|above| above.iter().any(|name| name.to_string_lossy().starts_with('.')))
}

/// Whether a settings file is the application's main one, by its name.
pub(super) fn is_main(name: &str) -> bool {
    let stem = name.trim_start_matches('.').split('.').next().unwrap_or_default();
    ["config", "settings", "configuration", "conf", "env", "localsettings", "parameters"].contains(&stem)
}

/// Whether code loads this file.
fn loads(scene: &Scene<'_>, path: &Path) -> bool {
    scene.touched.iter().any(|touched| {
        matches!(touched.sink, Sink::Load | Sink::Look) && matches!(&touched.spot, Location::Inside(p) if p == path)
    })
}

/// Whether code loads something from a folder around this main settings file, by a name that is not known: `sites/NAME/settings.php`.
fn loads_from_around(scene: &Scene<'_>, path: &Path) -> bool {
    let around =
        |spot: &Location| matches!(spot, Location::Inside(dir) if !dir.as_os_str().is_empty() && path.starts_with(dir));
    let mut loads =
        scene.touched.iter().filter(|touched| touched.sink == Sink::Load && touched.whole == Whole::FolderOnly);
    is_main(&lower_name(path)) && loads.any(|touched| around(&touched.spot))
}

fn is_in_settings_folder(path: &Path) -> bool {
    let above = path.parent().map(lower_name).unwrap_or_default();
    let kind = path.extension().and_then(|e| e.to_str()).unwrap_or_default().to_ascii_lowercase();
    let settings = matches!(
        kind.as_str(),
        "php" | "ini" | "yml" | "yaml" | "inc" | "env" | "conf" | "cfg" | "xml" | "neon" | "json"
    );
    settings && matches!(above.as_str(), "config" | "conf" | "configs" | "configuration" | "settings" | "etc")
}

fn is_translation(path: &Path) -> bool {
    path.components().any(|name| {
        let name = name.as_os_str().to_string_lossy().to_ascii_lowercase();
        matches!(
            name.as_str(),
            "lang"
                | "langs"
                | "language"
                | "languages"
                | "locale"
                | "locales"
                | "i18n"
                | "translations"
                | "l10n"
                | "localization"
                | "localisation"
        )
    })
}

#[cfg(test)]
mod tests {
    use super::real_name;
    use rstest::rstest;

    #[rstest]
    #[case("config.sample.php", Some("config.php"))]
    #[case("config.php.dist", Some("config.php"))]
    #[case("config.php-dist", Some("config.php"))]
    #[case("settings-sample.php", Some("settings.php"))]
    #[case("example-settings.php", Some("settings.php"))]
    #[case("sample.config.ini", Some("config.ini"))]
    #[case("config.sample.inc.php", Some("config.inc.php"))]
    #[case(".env.example", Some(".env"))]
    #[case("board.ini.php-sample", Some("board.ini.php"))]
    #[case("examples", None)]
    #[case("distance.php", None)]
    fn samples_are_undone(#[case] name: &str, #[case] want: Option<&str>) {
        assert_eq!(real_name(name).map(|(real, _)| real).as_deref(), want);
    }
}
