//! Configuration files of the host looked at: read within it, includes found by their patterns.

use std::collections::BTreeSet;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Component, Path, PathBuf};

use globset::{GlobBuilder, GlobMatcher};

use super::{Place, Unclear};
use crate::own;
use crate::shown::Shown;
use crate::tree::{Host, WayError};

/// A configuration file longer than this is no configuration file.
const LONGEST: usize = 4 << 20;
/// No host's configuration is longer altogether, each file counted as often as it is included: files that include one another
/// twice would double with each level.
const MOST: usize = 64 << 20;
/// As many files are read.
const MOST_FILES: usize = 20_000;

/// Reads the host's configuration, and collects what was not understood.
pub(super) struct Files<'h> {
    host: &'h Host,
    unclear: BTreeSet<Unclear>,
    /// How many bytes, and files, may still be read.
    left: (usize, usize),
}

impl<'h> Files<'h> {
    pub(super) const fn new(host: &'h Host) -> Self {
        Self { host, unclear: BTreeSet::new(), left: (MOST, MOST_FILES) }
    }

    pub(super) fn unclear(self) -> Vec<Unclear> {
        self.unclear.into_iter().collect()
    }

    /// Notes something that was not understood.
    pub(super) fn note(&mut self, at: &Place, says: impl Into<String>) {
        self.unclear.insert(Unclear { at: at.clone(), says: says.into() });
    }

    /// A file's text; nothing where it is not there, and a note where it is and cannot be read, where others than root can
    /// write it, or where there is too much altogether.
    pub(super) fn text(&mut self, path: &Path) -> Option<String> {
        let found = match self.host.resolve(path) {
            Ok(found) => found,
            Err(WayError::Missing(_) | WayError::NoDirectory(_)) => return None,
            Err(error) => {
                self.note(&Place::new(path, 0), format!("not read ({error}), so what it says is not known"));
                return None;
            }
        };
        if let Some(exposed) = own::exposed(&found) {
            let whose = if exposed.path == *path { String::new() } else { format!("{}: ", Shown(&exposed.path)) };
            let says = format!("not believed: {whose}{}, so it decides nothing", exposed.why);
            self.note(&Place::new(path, 0), says);
            return None;
        }
        let (bytes, files) = self.left;
        if bytes == 0 || files == 0 {
            let says = "there is more configuration than any host has, files that are included again and again counted each \
                        time; the rest is not read, so what it says is not known";
            self.note(&Place::new(Path::new("/etc"), 0), says);
            return None;
        }
        match Host::content(&found, LONGEST) {
            Ok(content) => {
                self.left = (bytes.saturating_sub(content.len().max(1)), files - 1);
                Some(String::from_utf8_lossy(&content).into_owned())
            }
            Err(errno) => {
                let error = WayError::Failed(path.to_owned(), errno);
                self.note(&Place::new(path, 0), format!("not read ({error}), so what it says is not known"));
                None
            }
        }
    }

    /// The files that an include names: a path or a pattern with wildcards in any component, in their order by name.
    pub(super) fn matching(&self, pattern: &Path) -> Vec<PathBuf> {
        let mut found = vec![PathBuf::from("/")];
        for component in pattern.components() {
            let Component::Normal(name) = component else { continue };
            let literal = !name.as_bytes().iter().any(|b| matches!(b, b'*' | b'?' | b'['));
            found = if literal {
                found.into_iter().map(|dir| dir.join(name)).collect()
            } else {
                match glob(&name.to_string_lossy()) {
                    Some(glob) => found.iter().flat_map(|dir| self.in_directory(dir, &glob)).collect(),
                    None => Vec::new(),
                }
            };
        }
        found.retain(|path| self.host.resolve(path).is_ok());
        found
    }

    fn in_directory(&self, dir: &Path, glob: &GlobMatcher) -> Vec<PathBuf> {
        let mut names = self.host.names_in(dir).unwrap_or_default();
        names.sort();
        names.retain(|name| glob.is_match(Path::new(name)) && !name.as_bytes().starts_with(b"."));
        names.into_iter().map(|name| dir.join(name)).collect()
    }

    /// The files in a directory, by name; nothing where it is none.
    pub(super) fn in_folder(&self, dir: &Path) -> Vec<PathBuf> {
        let mut names = self.host.names_in(dir).unwrap_or_default();
        names.sort();
        names.into_iter().map(|name| dir.join(name)).collect()
    }
}

fn glob(pattern: &str) -> Option<GlobMatcher> {
    Some(GlobBuilder::new(pattern).literal_separator(true).build().ok()?.compile_matcher())
}
