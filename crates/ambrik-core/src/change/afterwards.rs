//! After an install or upgrade: what is tried in the proof.

use std::ffi::CStr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::entry::{Facts, Kind};
use crate::policy::{Cursor, Policy, Right};
use crate::site::{Phase, Site, Use};
use crate::starts::{SiteError, places};
use crate::tree::{Dir, Host, Look, Progress, Trouble, Visitor, walk};
/// What a look afterwards found.
#[derive(Debug, Default)]
pub struct Afterwards {
    /// Settings that php must not write to.
    settings: Vec<LeftOverSpot>,
    /// Some of the other files that it must not write to.
    closed: Vec<LeftOverSpot>,
    /// The directories that php must be able to write to.
    pub(super) writable: Vec<LeftOverSpot>,
}

impl Afterwards {
    /// Files that php must not write to, settings first.
    pub(super) fn closed(&self) -> impl Iterator<Item = &LeftOverSpot> {
        self.settings.iter().chain(&self.closed)
    }
}

/// A path, below a place where a walk began.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct LeftOverSpot {
    pub(super) start: PathBuf,
    pub(super) below: PathBuf,
}

/// Of as many files that php must not write to it is tried whether it can.
const TRIED: usize = 200;

/// Looks at a sealed site once more.
pub fn afterwards(host: &Host, site: &Arc<Site>, progress: &Progress) -> Result<Afterwards, SiteError> {
    let policy = Policy::new(Arc::clone(site), Phase::Sealed);
    let mut seeker = LeftOverSeeker { policy: &policy, found: Afterwards::default() };
    let mut dirs = Vec::new();
    for (path, resolved) in places(host, site)? {
        let cursor = policy.at(&path);
        if resolved.facts.kind == Kind::Directory {
            seeker.directory(&cursor, &path, Path::new(""));
            let data = LeftOverDir { cursor, start: path.as_path().into() };
            dirs.push((resolved.handle, Arc::new(Dir::top(&path, resolved.facts.id, data))));
        }
    }
    let mut found = Afterwards::default();
    for seeker in walk(dirs, vec![seeker], progress).visitors {
        found = seeker.found;
    }
    Ok(found)
}

struct LeftOverDir {
    cursor: Arc<Cursor>,
    start: Arc<Path>,
}

struct LeftOverSeeker<'p> {
    policy: &'p Policy,
    found: Afterwards,
}

impl LeftOverSeeker<'_> {
    fn directory(&mut self, cursor: &Cursor, start: &Path, below: &Path) {
        let context = &cursor.context;
        if cursor.named && context.row.php == Right::Write && context.used_as != Use::Foreign {
            self.found.writable.push(LeftOverSpot { start: start.to_owned(), below: below.to_owned() });
        }
    }

    fn file(&mut self, dir: &Dir<LeftOverDir>, cursor: &Cursor, look: &Look<'_>, facts: &Facts) {
        let context = &cursor.context;
        let path = || dir.path_of(look.name);
        // Settings come first: there are few of them, and they must not be missed among much code.
        let tried = match context.used_as {
            Use::Secret => &mut self.found.settings,
            _ => &mut self.found.closed,
        };
        if context.row.php < Right::Write && facts.kind == Kind::File && tried.len() < TRIED {
            let below = path().strip_prefix(&dir.data.start).map(Path::to_owned).unwrap_or_default();
            tried.push(LeftOverSpot { start: dir.data.start.to_path_buf(), below });
        }
    }
}

impl Visitor for LeftOverSeeker<'_> {
    type Data = LeftOverDir;

    fn entry(&mut self, dir: &Arc<Dir<LeftOverDir>>, look: &Look<'_>, facts: &Facts) -> Option<LeftOverDir> {
        let cursor = self.policy.enter(&dir.data.cursor, look.os_name(), facts.mounted)?;
        let managed = cursor.context.is_managed();
        if facts.kind != Kind::Directory {
            if managed {
                self.file(dir, &cursor, look, facts);
            }
            return None;
        }
        if managed && cursor.named {
            let path = dir.path_of(look.name);
            let below = path.strip_prefix(&dir.data.start).unwrap_or(&path);
            self.directory(&cursor, &dir.data.start, below);
        }
        let start = Arc::clone(&dir.data.start);
        (managed || cursor.leads_on()).then_some(LeftOverDir { cursor, start })
    }

    fn trouble(&mut self, _dir: &Arc<Dir<LeftOverDir>>, _name: Option<&CStr>, _trouble: Trouble) {
        // The audit tells what could not be looked at.
    }
}
