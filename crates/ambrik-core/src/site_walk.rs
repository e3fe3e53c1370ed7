//! A site's own paths, one after another: where walks over it begin, how they step through its parts, and what is not entered.

use std::ffi::CStr;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::entry::{Facts, Identity, Kind};
use crate::policy::{Cursor, Policy};
use crate::site::Site;
use crate::starts::{SiteError, places};
use crate::tree::{Dir, Host, Look, Progress, Trouble, Visitor, walk};

/// A place where a walk begins: the site's root, or a part outside it.
#[derive(Debug)]
pub(crate) struct SiteStart {
    /// As the site file names it.
    pub(crate) path: PathBuf,
    /// Where it is, links followed.
    real: PathBuf,
}

/// What is attached to the directories.
#[derive(Debug)]
struct SteppedDir {
    cursor: Arc<Cursor>,
    start: Arc<SiteStart>,
}

/// A path that a walk over a site has come to.
#[derive(Debug)]
pub(crate) struct SiteSpot<'s> {
    /// Where the walk began.
    pub(crate) start: &'s SiteStart,
    /// Where it stands in the site's policy.
    pub(crate) cursor: &'s Cursor,
    /// Its facts.
    pub(crate) facts: &'s Facts,
    /// A closer look at it.
    pub(crate) look: &'s Look<'s>,
    /// The directory that it is in; nothing where a walk begins.
    dir: Option<&'s Dir<SteppedDir>>,
}

impl SiteSpot<'_> {
    /// Its path as the site file says it.
    pub(crate) fn path(&self) -> PathBuf {
        self.dir.map_or_else(|| self.start.path.clone(), |dir| dir.path_of(self.look.name))
    }

    /// Its path below where the walk began; empty where that is.
    pub(crate) fn below(&self) -> PathBuf {
        self.path().strip_prefix(&self.start.path).map(Path::to_owned).unwrap_or_default()
    }

    /// Its path without links.
    pub(crate) fn real_path(&self) -> PathBuf {
        self.start.real.components().chain(self.below().components()).collect()
    }

    /// Whether the walk begins here.
    pub(crate) const fn is_start(&self) -> bool {
        self.dir.is_none()
    }
}

/// What is done with each path of a site.
pub(crate) trait SiteVisitor: Send {
    /// A path that is one of the site's, or lies in a folder that leads to one: `cursor` tells which.
    fn path(&mut self, spot: &SiteSpot<'_>);

    /// Whether labels are told with the facts.
    fn labels(&self) -> bool {
        false
    }

    /// Something could not be looked at. The audit tells of it; most need not.
    fn unseen(&mut self) {}
}

/// Walks over a site, a visitor a thread: its root and its parts outside. Errors where there is no root.
pub(crate) fn walk_site<V: SiteVisitor>(
    host: &Host,
    site: &Site,
    policy: &Policy,
    mut visitors: Vec<V>,
    progress: &Progress,
) -> Result<Vec<V>, SiteError> {
    let mut starts = Vec::new();
    for (path, resolved) in places(host, site)? {
        let cursor = policy.at(&path);
        let start = Arc::new(SiteStart { path, real: resolved.path });
        if let Some(first) = visitors.first_mut() {
            let look = Look::at(&resolved.parent, &resolved.name);
            let (start, cursor, facts) = (&*start, &*cursor, &resolved.facts);
            first.path(&SiteSpot { start, cursor, facts, look: &look, dir: None });
        }
        if resolved.facts.kind == Kind::Directory {
            starts.push((start, resolved.handle, resolved.facts.id));
        }
    }
    Ok(walk_starts(policy, starts, visitors, progress))
}

/// As [`walk_site`], below directories that were found already.
pub(crate) fn walk_below<V: SiteVisitor>(
    policy: &Policy,
    directories: Vec<(PathBuf, OwnedFd, Identity)>,
    visitors: Vec<V>,
    progress: &Progress,
) -> Vec<V> {
    let start = |(path, handle, id): (PathBuf, _, _)| {
        let real = path.clone();
        (Arc::new(SiteStart { path, real }), handle, id)
    };
    walk_starts(policy, directories.into_iter().map(start).collect(), visitors, progress)
}

fn walk_starts<V: SiteVisitor>(
    policy: &Policy,
    starts: Vec<(Arc<SiteStart>, OwnedFd, Identity)>,
    visitors: Vec<V>,
    progress: &Progress,
) -> Vec<V> {
    let top = |(start, handle, id): (Arc<SiteStart>, _, _)| {
        let path = start.path.clone();
        (handle, Arc::new(Dir::top(&path, id, SteppedDir { cursor: policy.at(&path), start })))
    };
    let steppers = visitors.into_iter().map(|visitor| Stepper { policy, visitor }).collect();
    let walked = walk(starts.into_iter().map(top).collect(), steppers, progress);
    walked.visitors.into_iter().map(|stepper| stepper.visitor).collect()
}

/// Steps through the policy with the walk.
struct Stepper<'p, V> {
    policy: &'p Policy,
    visitor: V,
}

impl<V: SiteVisitor> Visitor for Stepper<'_, V> {
    type Data = SteppedDir;

    fn entry(&mut self, dir: &Arc<Dir<SteppedDir>>, look: &Look<'_>, facts: &Facts) -> Option<SteppedDir> {
        let SteppedDir { cursor, start } = &dir.data;
        let cursor = self.policy.enter(cursor, look.os_name(), facts.mounted)?;
        self.visitor.path(&SiteSpot { start, cursor: &cursor, facts, look, dir: Some(dir) });
        let enters = facts.kind == Kind::Directory && cursor.is_entered();
        enters.then(|| SteppedDir { cursor, start: Arc::clone(start) })
    }

    fn labels(&self) -> bool {
        self.visitor.labels()
    }

    fn trouble(&mut self, _dir: &Arc<Dir<SteppedDir>>, _name: Option<&CStr>, _trouble: Trouble) {
        self.visitor.unseen();
    }
}
