//! Configuration files of the host looked at: read within it, includes found by their patterns.

use std::collections::BTreeSet;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Component, Path, PathBuf};

use globset::{GlobBuilder, GlobMatcher};

use super::{Place, Unclear};
use crate::tree::{Host, WayError};

/// A configuration file longer than this is no configuration file.
const LONGEST: usize = 4 << 20;

/// Reads the host's configuration, and collects what was not understood.
pub(super) struct Files<'h> {
    host: &'h Host,
    unclear: BTreeSet<Unclear>,
}

impl<'h> Files<'h> {
    pub(super) const fn new(host: &'h Host) -> Self {
        Self { host, unclear: BTreeSet::new() }
    }

    pub(super) fn unclear(self) -> Vec<Unclear> {
        self.unclear.into_iter().collect()
    }

    /// Notes something that was not understood.
    pub(super) fn note(&mut self, at: &Place, says: impl Into<String>) {
        self.unclear.insert(Unclear { at: at.clone(), says: says.into() });
    }

    /// A file's text; nothing where it is not there, and a note where it is and cannot be read.
    pub(super) fn text(&mut self, path: &Path) -> Option<String> {
        match self.host.read(path, LONGEST) {
            Ok(bytes) => Some(String::from_utf8_lossy(&bytes).into_owned()),
            Err(WayError::Missing(_) | WayError::NoDirectory(_)) => None,
            Err(error) => {
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
