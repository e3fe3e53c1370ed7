//! Folders that hold nothing but what keeps their place, under a name of the trade.

use std::path::Path;

use super::Scene;
use crate::entry::Kind;
use crate::site::Use;
use crate::survey::clue::{Clues, Seen, Tells};
use crate::survey::names::{Aside, is_drop_in, lower_name, trade};
use crate::survey::placeholder::{Placeholder, is_placeholder};
use crate::survey::weights::placeholders;

pub(super) fn gather(scene: &Scene<'_>, clues: &mut Clues) {
    for dir in scene.deployed.directories() {
        if scene.deployed.aside(&dir.join("x")).is_some_and(|aside| aside != Aside::CommandLine) {
            continue;
        }
        let name = lower_name(dir);
        let used_as = trade(&name);
        let sort = match used_as {
            Some(Use::Scratch) => Some(Tells::Scratch),
            Some(Use::Log) => Some(Tells::Log),
            _ => None,
        };
        if let Some(sort) = sort {
            clues.inside(dir, sort, 1.0, format!("folders named {name} are for that"), Seen::at(dir, 0));
        }
        let Some(held) = holders(scene, dir) else { continue };
        let seen = held.first().map_or_else(|| Seen::at(dir, 0), |(path, _)| Seen::at(path, 0));
        let has = |kind: Placeholder| held.iter().any(|(_, k)| *k == kind);
        let weight = match (used_as.is_some(), is_drop_in(&name)) {
            // Version control is told to leave out whatever comes there: that says it by itself.
            _ if has(Placeholder::Ignore) && ignores_all(scene, &held) => placeholders::IGNORED,
            (_, true) => 0.0,
            (true, _) if has(Placeholder::Deny) && has(Placeholder::Stub) => placeholders::CLOSED_WITH_PAGE,
            (true, _) if has(Placeholder::Deny) => placeholders::CLOSED,
            (true, _) if has(Placeholder::Keep) => placeholders::CLOSED,
            (true, _) => placeholders::EMPTY,
            (false, _) if has(Placeholder::Keep) => placeholders::KEPT,
            (false, _) => placeholders::EMPTY_ALONE,
        };
        let says = if held.is_empty() { "shipped empty" } else { "shipped with nothing but what keeps its place" };
        clues.inside(dir, Tells::Written, weight, says, seen);
    }
}

/// What holds the place of a folder; nothing where it holds anything else, at any depth.
fn holders<'s>(scene: &'s Scene<'_>, dir: &'s Path) -> Option<Vec<(&'s Path, Placeholder)>> {
    let mut held = Vec::new();
    for (path, entry) in scene.deployed.below(dir) {
        match entry.kind {
            Kind::Directory => {}
            Kind::File => {
                let kind = is_placeholder(scene.deployed, path)?;
                if path.parent() == Some(dir) {
                    held.push((path.as_path(), kind));
                }
            }
            Kind::Symlink | Kind::Fifo | Kind::Socket | Kind::Device => return None,
        }
    }
    Some(held)
}

/// Whether the folder's own ignore file leaves out everything.
fn ignores_all(scene: &Scene<'_>, held: &[(&Path, Placeholder)]) -> bool {
    let ignore = held.iter().find(|(_, kind)| *kind == Placeholder::Ignore);
    let text = ignore.and_then(|(path, _)| scene.deployed.text(path, 4096)).unwrap_or_default();
    text.lines().any(|line| matches!(line.trim(), "*" | "/*" | "*.*" | "**"))
}
