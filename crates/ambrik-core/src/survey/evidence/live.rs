//! The tree as it lives: what php made or owns where the rest is not its, and what links lead to.

use std::collections::BTreeMap;
use std::path::Path;

use regex::Regex;

use super::Scene;
use crate::account::Uid;
use crate::entry::Kind;
use crate::pattern::pattern;
use crate::survey::clue::{Clues, Seen, Tells};
use crate::survey::names::{is_drop_in, is_key_name, lower_name, trade};
use crate::survey::php::Location;
use crate::survey::weights::live;

pattern!(MADE_BY_PHP: Regex = r"^(?:sess_[\w,-]{20,}|[0-9a-f]{32}(?:\.\w+)?|[0-9a-f]{40}(?:\.\w+)?|php[A-Za-z0-9]{6})$");

pub(super) fn gather(scene: &Scene<'_>, clues: &mut Clues) {
    owned_by_php(scene, clues);
    names_that_php_gives(scene, clues);
    clues.of_kind("times");
    newer_than_code(scene, clues);
    clues.of_kind("live");
    links(scene, clues);
    hidden(scene, clues);
}

/// Folders that php owns where most of the tree is somebody else's.
fn owned_by_php(scene: &Scene<'_>, clues: &mut Clues) {
    let Some(php) = scene.php else { return };
    let mut owners: BTreeMap<Uid, usize> = BTreeMap::new();
    for entry in scene.deployed.entries.values() {
        *owners.entry(entry.uid).or_default() += 1;
    }
    let most = owners.iter().max_by_key(|(_, count)| **count).map(|(uid, _)| *uid);
    let all_php = scene.deployed.owner == php && most == Some(php);
    if all_php {
        return;
    }
    for (path, entry) in &scene.deployed.entries {
        let above = path.parent().unwrap_or(Path::new(""));
        let above_is_phps = scene.deployed.entries.get(above).is_some_and(|above| above.uid == php);
        if entry.kind == Kind::Directory && entry.uid == php && !above_is_phps {
            clues.inside(
                path,
                Tells::Written,
                if trade(&lower_name(path)).is_some() { live::PHPS } else { live::PHPS_ALONE },
                "it belongs to php, and what is around it does not",
                Seen::at(path, 0),
            );
        }
    }
}

/// Sessions, and files named by a hash.
fn names_that_php_gives(scene: &Scene<'_>, clues: &mut Clues) {
    let mut found: BTreeMap<&Path, (usize, &Path)> = BTreeMap::new();
    for (path, _) in scene.deployed.files() {
        let made = MADE_BY_PHP.is_match(&lower_name(path));
        if made
            && scene.deployed.aside(path).is_none()
            && let Some(above) = path.parent()
        {
            found.entry(above).or_insert((0, path)).0 += 1;
        }
    }
    for (dir, (count, path)) in found.into_iter().filter(|(_, (count, _))| *count >= 3) {
        clues.inside(
            dir,
            Tells::Written,
            1.0,
            format!("holds {count} files with names that PHP gives"),
            Seen::at(path, 0),
        );
    }
}

/// Files that came after all code was there, in folders without any.
fn newer_than_code(scene: &Scene<'_>, clues: &mut Clues) {
    const DAY: i64 = 24 * 60 * 60;
    let is_code = |path: &Path| crate::check::is_php_name(path);
    let code = scene.deployed.files().filter(|(path, _)| is_code(path) && trade(&folder_name(path)).is_none());
    let Some(newest) = code.map(|(_, entry)| entry.modified).max() else { return };
    let mut found: BTreeMap<&Path, (usize, &Path)> = BTreeMap::new();
    for (path, entry) in scene.deployed.files() {
        let later = entry.modified > newest + DAY && !is_code(path) && scene.deployed.aside(path).is_none();
        if let Some(above) = path.parent().filter(|above| later && !above.as_os_str().is_empty()) {
            found.entry(above).or_insert((0, path)).0 += 1;
        }
    }
    for (dir, (count, path)) in found {
        let weight = if trade(&lower_name(dir)).is_some() { live::NEWER } else { live::NEWER_ALONE };
        let says = format!("files that came after the code was there ({count})");
        clues.inside(dir, Tells::Written, weight, says, Seen::at(path, 0));
    }
}

/// The name of the folder that a path is in.
fn folder_name(path: &Path) -> String {
    path.parent().map(lower_name).unwrap_or_default()
}

/// A link from the tree to a folder elsewhere that is for writing by its name or its owner.
fn links(scene: &Scene<'_>, clues: &mut Clues) {
    for (path, leads_to) in &scene.deployed.links {
        let leads_to = leads_to.clone();
        if leads_to.starts_with(&scene.deployed.root) {
            continue;
        }
        let Ok(resolved) = scene.host.resolve(&leads_to) else { continue };
        let is_phps = scene.php == Some(resolved.facts.rights.uid);
        let named = trade(&lower_name(path)).is_some() || trade(&lower_name(&leads_to)).is_some();
        let below_var = leads_to.starts_with("/var") || leads_to.starts_with("/srv");
        let seen = Seen::at(path, 0);
        let spot = Location::Outside(leads_to);
        if resolved.facts.kind == Kind::Directory && (is_phps || (named && below_var)) {
            let says = "a link of the tree leads there";
            clues.add(spot, Tells::Written, if is_phps { live::PHPS } else { live::LINKED }, says, seen);
        } else if resolved.facts.kind == Kind::File && crate::survey::names::is_settings_name(&lower_name(path)) {
            // A plug-in's own settings are seldom secret.
            let plug_ins = path.parent().is_some_and(|above| above.iter().any(|n| is_drop_in(&n.to_string_lossy())));
            let weight = if plug_ins { live::LINKED } else { live::LINKED_SETTINGS };
            clues.add(spot, Tells::Secret, weight, "settings that a link of the tree leads to", seen);
        }
    }
}

/// Notes and backups that somebody left beside the code, and databases of accounts.
fn hidden(scene: &Scene<'_>, clues: &mut Clues) {
    for dir in scene.deployed.directories().filter(|dir| dir.components().count() == 1) {
        let name = lower_name(dir);
        let no_code = scene.deployed.below(dir).all(|(path, entry)| entry.kind != Kind::File || is_text(path));
        let any = scene.deployed.below(dir).next().is_some();
        if matches!(name.as_str(), "notes" | "handover" | "dumps" | "old" | "private-notes") && no_code && any {
            clues.inside(
                dir,
                Tells::Hidden,
                live::KEYS,
                "notes or dumps, which the application does not use",
                Seen::at(dir, 0),
            );
        }
    }
    for (path, entry) in scene.deployed.files() {
        let name = lower_name(path);
        let database = [".db", ".sqlite", ".sqlite3"].iter().any(|end| name.ends_with(end));
        let of_accounts = ["auth", "user", "account", "passw"].iter().any(|word| name.contains(word));
        if entry.size > 0
            && scene.deployed.aside(path).is_none()
            && ((database && of_accounts) || (is_key_name(&name) && is_kept_key(scene, path)))
        {
            clues.inside(path, Tells::Secret, live::KEYS, "a database of accounts, or a key", Seen::at(path, 0));
        }
    }
}

/// Whether a file holds a key of its own, and not certificates alone, which are for everybody.
fn is_kept_key(scene: &Scene<'_>, path: &Path) -> bool {
    match path.extension().and_then(|e| e.to_str()) {
        Some("key" | "p12" | "pfx") => true,
        Some("pem") => scene.deployed.text(path, 1 << 20).is_some_and(|text| text.contains("PRIVATE KEY")),
        _ => false,
    }
}

fn is_text(path: &Path) -> bool {
    let kind = path.extension().and_then(|e| e.to_str()).unwrap_or_default().to_ascii_lowercase();
    matches!(
        kind.as_str(),
        "txt" | "md" | "sql" | "gz" | "csv" | "log" | "bak" | "odt" | "pdf" | "xls" | "xlsx" | "docx" | "zip"
    )
}
