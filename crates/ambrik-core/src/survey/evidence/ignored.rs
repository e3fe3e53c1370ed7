//! The ignore file of version control at the root: it names the final settings file and the run-time folders.

use std::path::{Path, PathBuf};

use super::Scene;
use crate::survey::clue::{Clues, Seen, Tells};
use crate::survey::names::{is_key_name, is_settings_name, lower_name, trade};
use crate::survey::weights::ignored;

const FILES: &[&str] = &[".gitignore", ".hgignore", ".bzrignore"];

pub(super) fn gather(scene: &Scene<'_>, clues: &mut Clues) {
    for file in FILES.iter().map(Path::new) {
        let Some(text) = scene.deployed.text(file, 1 << 18) else { continue };
        let lines: Vec<&str> = text.lines().map(str::trim).collect();
        for (number, line) in lines.iter().enumerate() {
            if line.is_empty() || line.starts_with(['#', '!']) {
                continue;
            }
            pattern(scene, clues, line, &lines, &Seen::at(file, number + 1));
        }
    }
}

fn pattern(scene: &Scene<'_>, clues: &mut Clues, line: &str, lines: &[&str], seen: &Seen) {
    let bare = line.trim_start_matches('/').trim_end_matches("/*").trim_end_matches("/**").trim_end_matches("/*.*");
    let bare = bare.trim_end_matches('/');
    if bare.is_empty() || bare.contains(['*', '?', '[', '\\']) || bare.starts_with('^') {
        return;
    }
    let path = PathBuf::from(bare);
    let name = lower_name(&path);
    let is_folder = scene.deployed.is_directory(&path);
    if !is_folder && (is_settings_name(&name) || (is_key_name(&name) && path.extension().is_some())) {
        let in_dot_folder =
            path.parent().is_some_and(|above| above.iter().any(|n| n.to_string_lossy().starts_with('.')));
        if !is_tool(&name) && !in_dot_folder {
            clues.inside(
                &path,
                Tells::Secret,
                if is_key_name(&name) { ignored::KEY } else { ignored::SETTINGS },
                "left out of version control: made at each installation",
                seen.clone(),
            );
        }
        return;
    }
    // `/cache/*` with `!/cache/.htaccess`: the folder is shipped, what comes into it is not.
    let shipped = lines
        .iter()
        .any(|l| l.strip_prefix('!').is_some_and(|l| Path::new(l.trim_start_matches('/')).starts_with(&path)));
    let contents_only = line.ends_with('*');
    let weight = match (is_folder, shipped || contents_only, trade(&name).is_some()) {
        (true, true, true) => ignored::ALL_OF_SUCH,
        (true, true, false) => ignored::OF_SUCH,
        (true, false, true) => ignored::OF_SUCH,
        (true, false, false) => ignored::IN_SUCH,
        (false, _, true) if !line.contains('.') && path.components().count() <= 2 => ignored::TOP,
        (false, ..) => return,
    };
    if !is_build(&name) {
        clues.inside(&path, Tells::Made, 1.0, "what comes there is left out of version control", seen.clone());
        clues.inside(&path, Tells::Written, weight, "what comes there is left out of version control", seen.clone());
    }
}

/// Settings of developers' tools.
fn is_tool(name: &str) -> bool {
    ["phpunit", "phpcs", "phpstan", "psalm", "composer", "package", "webpack", "docker", "babel", "eslint", "ide"]
        .iter()
        .any(|tool| name.contains(tool))
}

fn is_build(name: &str) -> bool {
    matches!(
        name,
        "vendor" | "node_modules" | "build" | "dist" | "coverage" | "bower_components" | "target" | "nbproject" | "out"
    ) || name.starts_with('.')
}
