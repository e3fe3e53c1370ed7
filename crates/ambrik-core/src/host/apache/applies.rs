//! Which lines of a configuration are for a folder.

use std::path::Path;

use regex::Regex;

use super::{ApacheLine, Section};

pub(super) fn first(line: &ApacheLine) -> Option<String> {
    line.arguments.first().cloned()
}

/// The pictures, messages and manual that come with the server.
pub(super) fn is_servers_own(url: &str) -> bool {
    matches!(url.trim_matches('/'), "icons" | "error" | "manual")
}

/// `#33` is the user or group with that number.
pub(super) fn bare_id(name: &str) -> &str {
    name.trim_start_matches('#')
}

/// Whether a line stands in this virtual host; for none, outside of all.
pub(super) fn is_of(line: &ApacheLine, host: Option<&Section>) -> bool {
    line.sections.iter().find(|section| section.name == "virtualhost") == host
}

/// Whether nothing but a virtual host is around a line.
pub(super) fn is_direct(line: &ApacheLine) -> bool {
    line.sections.iter().all(|section| section.name == "virtualhost")
}

/// Whether a line holds for the PHP files of `folder`; the answer is its place in the order of merging.
pub(super) fn applies(line: &ApacheLine, folder: &Path, url: &str) -> Option<(u8, usize)> {
    let of_host = usize::from(line.sections.iter().any(|section| section.name == "virtualhost"));
    let (mut stage, mut length) = (0, of_host);
    for section in &line.sections {
        let argument = section.argument.as_str();
        match section.name.as_str() {
            "virtualhost" => {}
            "directory" if !argument.starts_with('~') => {
                let dir = Path::new(argument.trim_end_matches('/'));
                let dir = if argument == "/" { Path::new("/") } else { dir };
                if !covers(dir, folder) {
                    return None;
                }
                stage = stage.max(1);
                length = dir.components().count() * 2 + of_host;
            }
            "directory" | "directorymatch" => {
                let expression = argument.trim_start_matches('~').trim().trim_matches('"');
                if !matches(expression, &format!("{}/", folder.display())) {
                    return None;
                }
                stage = stage.max(2);
            }
            "files" | "filesmatch" => {
                let expression = argument.trim_start_matches('~').trim().trim_matches('"');
                let is_pattern = section.name == "filesmatch" || argument.starts_with('~');
                let hit = if is_pattern {
                    matches(expression, "index.php")
                } else {
                    expression == "*.php" || expression == "index.php"
                };
                if !hit {
                    return None;
                }
                // The plain ones of the server come first, then those in directories.
                stage = 3;
            }
            "location" if !argument.starts_with('~') => {
                let inside = url.starts_with(argument.trim_end_matches('/')) || argument == "/";
                if !inside {
                    return None;
                }
                stage = 4;
            }
            "location" | "locationmatch" => {
                let expression = argument.trim_start_matches('~').trim().trim_matches('"');
                if !matches(expression, &format!("{url}/index.php")) {
                    return None;
                }
                stage = 4;
            }
            _ => return None,
        }
    }
    Some((stage, length))
}

/// Whether a `<Directory>` holds for a folder; its argument may have wildcards.
pub(super) fn covers(directory: &Path, folder: &Path) -> bool {
    let mut names = folder.components();
    directory.components().all(|pattern| {
        names.next().is_some_and(|name| {
            let pattern = pattern.as_os_str().to_string_lossy();
            let plain = !pattern.contains(['*', '?', '[']);
            let glob = || globset::Glob::new(&pattern).ok().map(|glob| glob.compile_matcher());
            if plain { *pattern == *name.as_os_str() } else { glob().is_some_and(|g| g.is_match(name.as_os_str())) }
        })
    })
}

/// Whether an expression matches; one that is not understood counts where it is about PHP.
pub(super) fn matches(expression: &str, text: &str) -> bool {
    Regex::new(expression).map_or_else(|_| expression.contains("ph"), |regex| regex.is_match(text))
}
