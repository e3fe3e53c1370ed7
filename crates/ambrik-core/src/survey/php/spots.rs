//! Where texts of the code lead, on the disk as it is.

use std::path::{Component, Path, PathBuf};

use super::super::names::{is_settings_name, lower_name, trade};
use super::code::{Code, HOLE};
use super::facts::{ROOT, Sink};
use super::values::in_paths;

/// Whether a path is known to its end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Whole {
    /// It is.
    Known,
    /// Something in it is not known; the path is that of the folder before it.
    FolderOnly,
}

/// Where a path is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Location {
    /// In the tree, relative to its root.
    Inside(PathBuf),
    /// Elsewhere on the host.
    Outside(PathBuf),
}

/// A path that code touches.
#[derive(Clone, Debug)]
pub(crate) struct Touched {
    pub(crate) sink: Sink,
    pub(crate) spot: Location,
    pub(crate) whole: Whole,
    pub(crate) file: PathBuf,
    pub(crate) line: usize,
    pub(crate) call: String,
    /// Whether the path is the code's own, and not guessed from its end.
    pub(crate) sure: bool,
}

impl Code<'_> {
    /// Of several places that a constant may name, each with a fall-back, the one that has what the code looks for below it.
    pub(super) fn one_root(&self, name: &str, texts: Vec<String>) -> Vec<String> {
        let Some(tails) = self.tails.get(name).filter(|_| texts.len() > 1) else { return texts };
        let has = |text: &String| {
            let base = text.strip_prefix(ROOT).or_else(|| text.strip_prefix(self.deployed.root.to_str()?));
            let Some(base) = base else { return 0 };
            let there = |tail: &&&str| inside(&format!("{base}/{tail}")).is_some_and(|path| self.deployed.has(&path));
            tails.iter().filter(|tail| tail.len() > 1).filter(there).count()
        };
        let most = texts.iter().map(&has).max().unwrap_or(0);
        if most == 0 {
            return texts;
        }
        texts.into_iter().filter(|text| has(text) == most).take(1).collect()
    }

    /// Where a text leads, taken as a path in `file`.
    pub(super) fn spot(&self, text: &str, file: &Path) -> Option<(Location, Whole, bool)> {
        let usual = |c: char| in_paths(c) || c == HOLE;
        // A whole path after something else is none.
        let begins_anew = text.rfind(ROOT).is_some_and(|at| at > 0);
        if begins_anew || text.len() > 300 || !text.chars().all(usual) || text.trim().is_empty() {
            return None;
        }
        let (known, whole) = match text.split_once(HOLE) {
            Some((before, _)) => (self.folder_before(before)?, Whole::FolderOnly),
            None => (text, Whole::Known),
        };
        // What begins with something unknown could be anywhere.
        if text.starts_with(HOLE) {
            return None;
        }
        if known.chars().all(|c| matches!(c, '/' | '.' | ROOT)) {
            return None;
        }
        if let Some(path) = known.strip_prefix(ROOT) {
            let spot = inside(path).map_or_else(|| self.around(path), |path| self.through_links(path))?;
            return Some((spot, whole, true));
        }
        if known.starts_with('/') {
            return self.absolute(Path::new(known)).map(|spot| (spot, whole, true));
        }
        let dir = file.parent().unwrap_or(Path::new(""));
        // A path that begins nowhere begins where the page lies that was asked for: for a file deep in the tree that
        // is another folder than its own.
        let near = dir == self.served || dir.as_os_str().is_empty() || self.deployed.is_file(&dir.join("index.php"));
        let bases = if near { [dir, Path::new(""), &self.served] } else { [Path::new(""), &self.served, dir] };
        let named: Vec<PathBuf> = bases
            .iter()
            .filter_map(|base| inside(&format!("{}/{}", base.display(), known.trim_start_matches('/'))))
            .collect();
        let there = named.iter().find(|path| !path.as_os_str().is_empty() && self.deployed.has(path));
        if let Some(path) = there {
            return Some((self.through_links(path.clone())?, whole, true));
        }
        // What is not there yet is believed where the folder it would be in is, or where it is called as such
        // folders are.
        let named_so =
            |path: &Path| path.iter().any(|name| trade(&name.to_string_lossy().to_ascii_lowercase()).is_some());
        let in_a_folder = |path: &Path| {
            path.parent().is_some_and(|above| !above.as_os_str().is_empty() && self.deployed.is_directory(above))
        };
        let is_file = whole == Whole::Known && Path::new(known).extension().is_some();
        let would_be = named.iter().find(|path| in_a_folder(path) && (is_file || named_so(path)));
        let at_root = || named.iter().find(|path| named_so(path) && !in_a_folder(path));
        // Settings that are not made yet: an application keeps them in its root where nothing else is known.
        let settings =
            || named.iter().find(|path| path.components().count() == 1 && is_settings_name(&lower_name(path)));
        let sure = near || at_root().is_some();
        let path = would_be.or_else(at_root).or_else(settings)?;
        Some((self.through_links(path.clone())?, whole, sure))
    }

    /// The folder that something unknown is in: the text before it where that is a folder, else without the name that it goes on.
    fn folder_before<'t>(&self, before: &'t str) -> Option<&'t str> {
        let (folder, begun) = before.rsplit_once('/').unwrap_or(("", before));
        let whole = before.strip_prefix(ROOT).and_then(inside);
        let is_folder = whole.is_some_and(|path| !path.as_os_str().is_empty() && self.deployed.is_directory(&path));
        match begun {
            // What `..` goes on with decides where it is.
            "." | ".." => None,
            "" => Some(folder),
            _ if is_folder => Some(before),
            _ => Some(folder),
        }
    }

    /// Where a path of the tree leads, its links followed; nothing below what is a file.
    fn through_links(&self, path: PathBuf) -> Option<Location> {
        if path.ancestors().skip(1).any(|above| self.deployed.is_file(above)) {
            return None;
        }
        match self.deployed.destination(&path) {
            Some(goal) => self.absolute(&goal),
            None => Some(Location::Inside(path)),
        }
    }

    /// Where a path from the root leads that climbs out of it: to what is kept beside the tree.
    fn around(&self, below: &str) -> Option<Location> {
        let mut path = self.deployed.root.clone();
        for component in Path::new(below.trim()).components() {
            match component {
                Component::Normal(name) => path.push(name),
                Component::ParentDir if !path.pop() => return None,
                _ => {}
            }
        }
        self.absolute(&path)
    }

    fn absolute(&self, path: &Path) -> Option<Location> {
        let path: PathBuf = path.components().collect();
        if let Ok(below) = path.strip_prefix(&self.deployed.root) {
            return (!below.as_os_str().is_empty()).then(|| Location::Inside(below.to_owned()));
        }
        let strange = ["/dev", "/proc", "/sys", "/tmp", "/var/tmp", "/bin", "/usr/bin", "/sbin"];
        (path.components().count() > 2 && !strange.iter().any(|dir| path.starts_with(dir)))
            .then_some(Location::Outside(path))
    }

    /// Whether a text is a place outside the tree, or goes through a link that leads out.
    pub(super) fn leads_out(&self, text: &str) -> bool {
        text.starts_with('/') || self.leading_out.as_ref().is_some_and(|links| links.is_match(text))
    }
}

/// A path below the root without `.` and `..`; nothing where it leads out, or is the root.
pub(super) fn inside(path: &str) -> Option<PathBuf> {
    let mut found = PathBuf::new();
    for component in Path::new(path.trim()).components() {
        match component {
            Component::Normal(name) => found.push(name),
            Component::ParentDir => {
                if !found.pop() {
                    return None;
                }
            }
            Component::RootDir | Component::CurDir | Component::Prefix(_) => {}
        }
    }
    Some(found)
}
