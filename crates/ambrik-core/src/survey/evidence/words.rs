//! The tree's own words: sentences on permissions in its documents, and the lists in its shell scripts.

use std::path::{Path, PathBuf};

use regex::Regex;

use super::Scene;
use crate::pattern::pattern;
use crate::survey::clue::{Clues, Seen, Tells};
use crate::survey::names::{is_script_name, is_settings_name, lower_name, trade};
use crate::survey::weights::words;

pattern!(SAYS_WRITABLE: Regex = r"(?i)\bwrit(?:e?able|e access|e permission|ten to by)|permission(?:s)? to write|\bwrite to\b|read/write|read-write|\brw\b|chmod|chown");
pattern!(
/// A command that lets more than the owner write, or gives to the account of the web server.
OPENS: Regex = r"(?xi)\bchmod\s+(?:-\w+\s+)*(?:0?[2-7]?[67]?7[67][0-7]|0?[67][0-7][67]|[augo]*[go][augo]*\+[rwxX]*w\w*|a?\+[rwxX]*w\w*|[augo,=+rwxX]*[go]=?\+?[rwxX]*w\S*)\s
          |\bchown\s+(?:-\w+\s+)*\S*(?:www|apache|http|nginx|web|php|\$)\S*\s
          |\bchgrp\s+(?:-\w+\s+)*\S*(?:www|apache|http|nginx|web|php|\$)\S*\s
          |\b\w*(?:perm|chmod|mode)\w*\s+(?:-\S+\s+)*0?[2-7]?7[67][0-7]\s
          |\binstall\s+(?:-\S+\s+)*-o\s*\S*(?:www|apache|http|nginx|web)");
pattern!(TOKEN: Regex = r"[\w.@$\{\}/~*-]*[\w*\}/]");
pattern!(REMOVES: Regex = r"(?i)\b(?:remove|delete|deleting|removing|rm -rf?|unlink|erase)\b");

pub(super) fn gather(scene: &Scene<'_>, clues: &mut Clues) {
    for (file, text) in scene.texts {
        let is_script = is_script(file);
        if lower_name(file).contains(".conf") {
            continue;
        }
        let lines: Vec<&str> = text.lines().collect();
        // Lines after "the following must be writable:" count as long as they list.
        let mut listing = 0_usize;
        for (number, line) in lines.iter().enumerate() {
            let seen = Seen::at(file, number + 1);
            let line = strip_tags(line);
            if let Some(command) = OPENS.find(&line) {
                let weight = if is_script { words::SCRIPT } else { words::COMMAND };
                let says = "made writable by its own instructions";
                let rest = &line[command.end()..];
                let end = rest.find([';', '|', '&', ')', '#']).unwrap_or(rest.len());
                named(scene, clues, &rest[..end], weight, HowNamed::ByCommand, &seen, says);
            } else if is_script {
                continue;
            } else if SAYS_WRITABLE.is_match(&line) {
                let found = named(
                    scene,
                    clues,
                    &line,
                    words::SAID,
                    HowNamed::InSentence,
                    &seen,
                    "must be writable, says its own text",
                );
                listing = if found == 0 || line.trim_end().ends_with(':') { 12 } else { 3 };
            } else if listing > 0 {
                let item =
                    line.trim_start().starts_with(['-', '*', '+', '•', '/', '`']) || line.starts_with([' ', '\t']);
                let word_alone = line.split_whitespace().count() <= 2 && !line.trim().is_empty();
                if item || word_alone {
                    named(
                        scene,
                        clues,
                        &line,
                        words::SAID,
                        HowNamed::InList,
                        &seen,
                        "in a list of what must be writable",
                    );
                } else if !line.trim().is_empty() {
                    listing = listing.saturating_sub(4);
                }
                listing = listing.saturating_sub(1);
            }
            if REMOVES.is_match(&line) {
                removed(scene, clues, &line, &seen);
            }
        }
    }
}

/// How a path is named.
#[derive(Clone, Copy, PartialEq, Eq)]
enum HowNamed {
    /// After a command that makes it writable.
    ByCommand,
    /// In a sentence.
    InSentence,
    /// In a list below one.
    InList,
}

/// Whether a text is a script or a recipe rather than a document.
fn is_script(file: &Path) -> bool {
    let name = lower_name(file);
    is_script_name(&name)
}

pattern!(TAGS: Regex = r"<[^<>]{0,200}>");

/// HTML and Markdown without their marks.
fn strip_tags(line: &str) -> String {
    TAGS.replace_all(line, " ").into_owned()
}

/// Clues for the paths of the tree that a line names; the answer is how many.
fn named(
    scene: &Scene<'_>,
    clues: &mut Clues,
    line: &str,
    weight: f64,
    how: HowNamed,
    seen: &Seen,
    says: &str,
) -> usize {
    let mut found = 0;
    let mut first = true;
    let quoted = |token: &str| ["`", "\"", "'", "*"].iter().any(|mark| line.contains(&format!("{mark}{token}{mark}")));
    for token in tokens(line) {
        let Some((path, whole)) = in_tree(scene, &token, how == HowNamed::ByCommand && first) else { continue };
        first = false;
        let name = lower_name(&path);
        let plain_word = !token.contains('/') && !token.contains('_') && !token.contains('.');
        let near = ["folder", "director", "dir "].iter().any(|word| line.to_ascii_lowercase().contains(word));
        if plain_word && how == HowNamed::InSentence && !quoted(&token) && !(near && trade(&name).is_some()) {
            continue;
        }
        found += 1;
        if scene.deployed.is_file(&path) || (!scene.deployed.has(&path) && path.extension().is_some()) {
            if is_settings_name(&name) {
                clues.inside(&path, Tells::WrittenByInstaller, weight, says, seen.clone());
            }
            continue;
        }
        let weight = if whole { weight } else { weight * words::IN_PASSING };
        clues.inside(&path, Tells::Made, 1.0, says, seen.clone());
        clues.inside(&path, Tells::Written, weight, says, seen.clone());
    }
    found
}

/// The words of a line that may be paths.
fn tokens(line: &str) -> Vec<String> {
    let tokens = TOKEN.find_iter(line).map(|found| found.as_str().trim_end_matches(['.', ',']).to_owned());
    tokens.filter(|token| token.len() > 1 && token.len() < 200).collect()
}

/// The path of the tree that a word means: as it stands, or without what is before it (`/var/www/app/`, `$DIR/`).
/// The second says whether nothing had to be left out.
fn in_tree(scene: &Scene<'_>, token: &str, is_command: bool) -> Option<(PathBuf, bool)> {
    let token = token.trim_start_matches("./").trim_end_matches("/*").trim_end_matches('/');
    if token.is_empty() || token.contains("..") || token.contains('*') {
        return None;
    }
    let names: Vec<&str> = token.split('/').filter(|name| !name.is_empty() && *name != ".").collect();
    let leads = token.starts_with('/') || token.starts_with(['$', '~', '{']) || names.len() > 1;
    for skip in 0..names.len() {
        if skip > 0 && !leads {
            break;
        }
        let path: PathBuf = names[skip..].iter().collect();
        if path.as_os_str().is_empty() || path.to_string_lossy().contains(['$', '{', '}', '~']) {
            continue;
        }
        let there = |path: &Path| scene.deployed.has(path) && !path.as_os_str().is_empty();
        if there(&path) {
            let whole = skip == 0 || (skip == 1 && names[0].starts_with(['$', '@', '{']));
            return Some((path, whole));
        }
        let served = scene.served.join(&path);
        if !scene.served.as_os_str().is_empty() && there(&served) {
            return Some((served, skip == 0));
        }
        // A folder that is still to be made: by a name of the trade, right below where the application is.
        let below_the_root = skip.checked_sub(1).and_then(|before| names.get(before)).is_none_or(|name| {
            let root = scene.deployed.root.file_name().map(|name| name.to_string_lossy().to_ascii_lowercase());
            name.starts_with(['$', '@', '{']) || root.is_some_and(|root| *name.to_ascii_lowercase() == *root)
        });
        let makes = path.iter().any(|name| trade(&name.to_string_lossy().to_ascii_lowercase()).is_some());
        let there =
            path.parent().is_some_and(|above| above.as_os_str().is_empty() || scene.deployed.is_directory(above));
        // `/tmp` is the host's own.
        let relative = skip > 0 || !token.starts_with('/');
        if makes && relative && below_the_root && (there || skip > 0) && (token.contains('/') || is_command) {
            return Some((path, skip == 0));
        }
    }
    None
}

/// What a line asks to remove, where that is an installer or the like.
fn removed(scene: &Scene<'_>, clues: &mut Clues, line: &str, seen: &Seen) {
    let lower = line.to_ascii_lowercase();
    for token in tokens(line) {
        let Some((path, _)) = in_tree(scene, &token, false) else { continue };
        if !scene.deployed.has(&path) {
            continue;
        }
        let name = lower_name(&path);
        let called =
            ["install", "setup", "test", "upgrade", "wizard", "demo"].iter().any(|word| name.starts_with(word));
        let secures = ["install", "secur", "production", "live"].iter().any(|word| lower.contains(word));
        let is_one = called || (name == "admin" && secures);
        let plain = !token.contains('/') && !token.contains('.');
        let meant = !plain
            || ["folder", "director", "file", "rm -"].iter().any(|word| lower.contains(word))
            || lower.contains(&format!("`{}`", token.to_ascii_lowercase()));
        let about_packages = lower.contains("uninstall") || lower.contains("package");
        if is_one && meant && !about_packages {
            let says = "its own text asks to remove it";
            clues.inside(&path, Tells::Installer, words::REMOVED, says, seen.clone());
        }
    }
}
