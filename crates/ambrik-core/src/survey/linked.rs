//! What the application reads from outside its tree: linked folders and files of settings, absolute includes, the folder
//! that a distribution keeps its settings in. All of it is read as data, and nothing is run.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use regex::Regex;

use super::LONGEST_TEXT;
use super::clue::Seen;
use super::deployed::Deployed;
use super::names::{application_names, ends_in, is_settings_name, lower_name};
use super::php::{self, FileFacts, Location, Piece, Sink, Touched, Whole};
use crate::check::is_php_name;
use crate::entry::Kind;
use crate::pattern::pattern;
use crate::tree::Host;

/// A file of settings outside the tree.
pub(crate) struct Linked {
    /// Without links on the way.
    pub(crate) path: PathBuf,
    pub(crate) text: String,
    /// Where it is linked, named or loaded.
    pub(crate) seen: Seen,
    /// Whether it is read because it lies in a folder that is linked, named, or called as the application is, and not for itself.
    pub(crate) by_folder: bool,
    /// What it says.
    pub(crate) facts: Option<FileFacts>,
}

/// As many files are read of one folder, and as deep.
const MOST: usize = 200;
const DEEPEST: usize = 2;

/// The files outside the tree that are settings of what is in it, but for those in `known`.
pub(crate) fn linked(
    host: &Host,
    deployed: &Deployed,
    facts: &[FileFacts],
    touched: &[Touched],
    known: &[Linked],
) -> Vec<Linked> {
    let mut named: BTreeMap<PathBuf, Seen> = BTreeMap::new();
    for (link, goal) in &deployed.links {
        if !goal.starts_with(&deployed.root) {
            named.entry(goal.clone()).or_insert_with(|| Seen::at(link, 0));
        }
    }
    for touched in touched.iter().filter(|touched| touched.sink == Sink::Load && touched.whole == Whole::Known) {
        if let Location::Outside(path) = &touched.spot
            && deployed.aside(&touched.file).is_none()
        {
            named.entry(path.clone()).or_insert_with(|| Seen::at(&touched.file, touched.line));
        }
    }
    for facts in facts.iter().filter(|facts| deployed.aside(&facts.file).is_none()) {
        for (text, line) in facts.literals.iter().filter(|(text, _)| text.starts_with("/etc/")) {
            named.entry(PathBuf::from(text)).or_insert_with(|| Seen::at(&facts.file, *line));
        }
    }
    let (mut files, mut in_folders) = (BTreeMap::new(), BTreeMap::new());
    for (path, seen) in named {
        let Ok(resolved) = host.resolve(&path) else { continue };
        match resolved.facts.kind {
            Kind::File => drop(files.entry(resolved.path).or_insert(seen)),
            Kind::Directory if is_of_settings(&path) || is_of_settings(&resolved.path) => {
                inside(host, &resolved.path, &seen, DEEPEST, &mut in_folders);
            }
            _ => {}
        }
    }
    for name in application_names(&deployed.root) {
        let dir = Path::new("/etc").join(name);
        inside(host, &dir, &Seen::at(&dir, 0), 1, &mut in_folders);
    }
    in_folders.retain(|path, _| !files.contains_key(path));
    let files = files.into_iter().map(|(path, seen)| (path, seen, false));
    let files = files.chain(in_folders.into_iter().map(|(path, seen)| (path, seen, true)));
    // What links lead to within the tree is the tree's.
    let own = |path: &Path| is_its_own(path) && !path.starts_with(&deployed.root);
    let folders = deployed.top_folders();
    let new = files.filter(|(path, ..)| own(path) && known.iter().all(|known| known.path != *path));
    new.filter_map(|(path, seen, by_folder)| {
        let bytes = host.read(&path, LONGEST_TEXT).ok()?;
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let is_php = is_php_name(&path) || text.contains("<?php");
        let facts = if is_php { php::one(&path, &bytes, &folders) } else { Some(data(&path, &text)) };
        Some(Linked { path, text, seen, by_folder, facts })
    })
    .collect()
}

/// Whether a folder is for settings: below `/etc`, or called so.
fn is_of_settings(path: &Path) -> bool {
    path.starts_with("/etc") || matches!(&*lower_name(path), "config" | "conf" | "settings" | "etc" | "conf.d")
}

/// Whether a path is in a folder of the application's own, and not in one of the system's or of its servers'.
fn is_its_own(path: &Path) -> bool {
    let mut names = path.iter().skip(1);
    let (top, folder) = (names.next(), names.next());
    if top.is_none_or(|top| top != "etc") {
        return !["/usr/share/php", "/usr/lib", "/bin", "/sbin", "/proc", "/sys", "/dev", "/run"]
            .iter()
            .any(|of_system| path.starts_with(of_system));
    }
    let systems = [
        "ssl",
        "ssh",
        "pam.d",
        "security",
        "sudoers.d",
        "apache2",
        "httpd",
        "nginx",
        "php",
        "cron.d",
        "init.d",
        "systemd",
        "default",
        "ldap",
        "mysql",
        "postgresql",
        "alternatives",
        "pki",
        "selinux",
        "apt",
        "yum.repos.d",
    ];
    names.next().is_some() && folder.is_some_and(|folder| !systems.iter().any(|system| folder == *system))
}

fn inside(host: &Host, dir: &Path, seen: &Seen, deep: usize, files: &mut BTreeMap<PathBuf, Seen>) {
    for name in host.names_in(dir).unwrap_or_default() {
        let path = dir.join(name);
        let Ok(resolved) = host.resolve(&path) else { continue };
        let lower = lower_name(&path);
        let settings = is_php_name(&path)
            || is_settings_name(&lower)
            || ends_in(&lower, &[".ini", ".conf", ".cfg", ".env", ".yml", ".yaml", ".json", ".xml"]);
        match resolved.facts.kind {
            Kind::File if settings && files.len() < MOST => {
                files.entry(resolved.path).or_insert_with(|| seen.clone());
            }
            Kind::Directory if deep > 0 => inside(host, &path, seen, deep - 1, files),
            _ => {}
        }
    }
}

pattern!(SETS_PATH: Regex = r#"(?m)^\s*(?:export\s+)?["']?(?P<key>[A-Za-z_][\w.-]*)["']?\s*[:=]\s*["']?(?P<path>/[^"'\s;#,<>]*)"#);

/// What ini, yaml, json and env files say: absolute paths under names.
fn data(path: &Path, text: &str) -> FileFacts {
    let mut facts = FileFacts { file: path.to_owned(), ..FileFacts::default() };
    for found in SETS_PATH.captures_iter(text) {
        let (Some(key), Some(value)) = (found.name("key"), found.name("path")) else { continue };
        let line = text[..key.start()].matches('\n').count() + 1;
        let values = vec![vec![Piece::Text(value.as_str().into())]];
        // Programs make constants or entries of such lines.
        facts.constants.push((key.as_str().to_owned(), values.clone()));
        facts.entries.push((key.as_str().to_ascii_lowercase(), values, line));
        facts.literals.push((value.as_str().to_owned(), line));
    }
    facts
}
