//! Which of some paths a site's own code names: what it loads, links to or builds from is alive, whatever it is called.

use std::collections::BTreeMap;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use regex::bytes::{Regex, RegexBuilder};

use crate::check::is_php_name;
use crate::entry::{Identity, Kind};
use crate::policy::Policy;
use crate::site::Use;
use crate::site_walk::{SiteSpot, SiteVisitor, walk_below};
use crate::tree::{Look, Progress};

/// Longer files are made by machines.
const LONGEST: usize = 1 << 20;
/// As many files are read; what is in no file read so far may be named in another.
const MOST_READ: u64 = 40_000;

/// Where a path is named.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct NamedAt {
    /// The file.
    pub(crate) file: PathBuf,
    /// From 1.
    pub(crate) line: usize,
}

/// What is looked for.
#[derive(Debug)]
pub(crate) struct Sought {
    pub(crate) path: PathBuf,
    /// Whether it counts only where it is loaded (`include`, `require`), and not where it is spoken of.
    pub(crate) loaded: bool,
}

/// What was found.
#[derive(Debug, Default)]
pub(crate) struct Named {
    /// By the place of what was sought.
    pub(crate) places: BTreeMap<usize, NamedAt>,
    /// Whether all files were read.
    pub(crate) whole: bool,
}

/// Looks for `sought` in the code, pages and build files from `starts` on; what no part is code is not asked.
pub(crate) fn named(
    policy: &Policy,
    starts: Vec<(PathBuf, OwnedFd, Identity)>,
    sought: &[Sought],
    threads: usize,
) -> Named {
    let Some(any) = any(sought) else { return Named::default() };
    let each: Vec<Option<Regex>> = sought.iter().map(expression).collect();
    let read = AtomicU64::new(0);
    let reader = || NameReader { sought, any: &any, each: &each, read: &read, whole: true, found: Named::default() };
    let readers = (0..threads.max(1)).map(|_| reader()).collect();
    let readers = walk_below(policy, starts, readers, &Progress::default());
    // What cannot be looked for is not said to be named nowhere.
    let asked = each.iter().all(Option::is_some);
    let mut all = Named { whole: asked && read.load(Ordering::Relaxed) <= MOST_READ, ..Named::default() };
    for reader in readers {
        all.whole &= reader.whole;
        for (number, place) in reader.found.places {
            all.places.entry(number).and_modify(|known| *known = place.clone().min(known.clone())).or_insert(place);
        }
    }
    all
}

/// What speaks of one path: its name, not as a part of another; of what must be loaded, after the words for that.
fn expression(sought: &Sought) -> Option<Regex> {
    let name = regex::escape(sought.path.file_name()?.to_str()?);
    let text = if sought.loaded {
        format!(r"(?i)\b(?:include|require)(?:_once)?\b[^;]{{0,200}}?(?:^|[/'\x22]){name}(?:[/'\x22]|$)")
    } else {
        format!(r"(?:^|[^\w.-]){name}(?:[^\w.-]|\.?(?:[\s'\x22<)]|$))")
    };
    RegexBuilder::new(&text).unicode(false).multi_line(true).build().ok()
}

/// Whether a text speaks of any: one pass, for nearly all texts speak of none.
fn any(sought: &[Sought]) -> Option<Regex> {
    let names: Vec<String> =
        sought.iter().filter_map(|sought| Some(regex::escape(sought.path.file_name()?.to_str()?))).collect();
    (!names.is_empty()).then(|| RegexBuilder::new(&names.join("|")).unicode(false).build().ok()).flatten()
}

struct NameReader<'r> {
    sought: &'r [Sought],
    any: &'r Regex,
    each: &'r [Option<Regex>],
    read: &'r AtomicU64,
    /// Whether all that was to be read was.
    whole: bool,
    found: Named,
}

impl NameReader<'_> {
    fn read(&mut self, path: &Path, look: &Look<'_>, size: u64) {
        let size = usize::try_from(size).unwrap_or(usize::MAX);
        let mut buffer = vec![0; size.min(LONGEST)];
        let Ok(text) = look.first_bytes(&mut buffer) else {
            self.whole = false;
            return;
        };
        self.whole &= text.len() >= size;
        if !self.any.is_match(text) {
            return;
        }
        for (number, expression) in self.each.iter().enumerate() {
            let itself = path.starts_with(&self.sought[number].path);
            if itself || self.found.places.contains_key(&number) {
                continue;
            }
            if let Some(hit) = expression.as_ref().and_then(|expression| expression.find(text)) {
                let line = text[..hit.end()].split(|byte| *byte == b'\n').count();
                self.found.places.insert(number, NamedAt { file: path.to_owned(), line });
            }
        }
    }
}

/// Whether a file of this name can make another live: code, a page, rules of the web server, a manifest.
fn can_name(name: &Path) -> bool {
    let lower = name.to_string_lossy().to_ascii_lowercase();
    let ends = [
        ".html",
        ".htm",
        ".tpl",
        ".twig",
        ".js",
        ".mjs",
        ".json",
        ".xml",
        ".yml",
        ".yaml",
        ".ini",
        ".conf",
        ".module",
        ".htaccess",
        ".css",
    ];
    is_php_name(name) || ends.iter().any(|end| lower.ends_with(end)) || lower == "makefile"
}

impl SiteVisitor for NameReader<'_> {
    fn path(&mut self, spot: &SiteSpot<'_>) {
        let context = &spot.cursor.context;
        let code = context.is_managed() && context.used_as == Use::Code;
        let asked = code && spot.facts.kind == Kind::File && can_name(Path::new(spot.look.os_name()));
        if asked && self.read.fetch_add(1, Ordering::Relaxed) < MOST_READ {
            self.read(&spot.path(), spot.look, spot.facts.size);
        }
    }

    fn unseen(&mut self) {
        self.whole = false;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("old/berths_backup.zip", false, "copy('berths_backup.zip', $to);", true)]
    #[case("old/berths_backup.zip", false, "<a href=\"old/berths_backup.zip\">", true)]
    #[case("old/berths_backup.zip", false, "see berths_backup.zip.", true)]
    #[case("old/berths_backup.zip", false, "my-berths_backup.zip", false)]
    #[case("old/berths_backup.zip", false, "berths_backup.zip.old", false)]
    #[case("install", true, "require_once __DIR__ . '/install/functions.php';", true)]
    #[case("install", true, "include('install/x.php')", true)]
    #[case("install", true, "echo 'please delete the folder install/';", false)]
    #[case("install", true, "require 'installed/x.php';", false)]
    #[case("install.php", true, "require 'install.php';", true)]
    fn names_are_found_as_words(#[case] path: &str, #[case] loaded: bool, #[case] text: &str, #[case] found: bool) {
        let sought = Sought { path: PathBuf::from(path), loaded };
        assert_eq!(expression(&sought).unwrap().is_match(text.as_bytes()), found);
        assert!(!found || any(std::slice::from_ref(&sought)).unwrap().is_match(text.as_bytes()));
    }
}
