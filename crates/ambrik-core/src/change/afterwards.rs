//! After an install or upgrade: what is tried in the proof.

use std::path::PathBuf;
use std::sync::Arc;

use crate::entry::Kind;
use crate::policy::{Policy, Right};
use crate::site::{Phase, Site, Use};
use crate::site_walk::{SiteSpot, SiteVisitor, walk_site};
use crate::starts::SiteError;
use crate::tree::{Host, Progress};

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
    let seekers = walk_site(host, site, &policy, vec![LeftOverSeeker::default()], progress)?;
    Ok(seekers.into_iter().map(|seeker| seeker.found).next().unwrap_or_default())
}

#[derive(Default)]
struct LeftOverSeeker {
    found: Afterwards,
}

impl SiteVisitor for LeftOverSeeker {
    fn path(&mut self, spot: &SiteSpot<'_>) {
        let (context, kind) = (&spot.cursor.context, spot.facts.kind);
        if !context.is_managed() {
            return;
        }
        let place = || LeftOverSpot { start: spot.start.path.clone(), below: spot.below() };
        if kind == Kind::Directory {
            if spot.cursor.named && context.row.php == Right::Write {
                self.found.writable.push(place());
            }
            return;
        }
        // Settings come first: there are few of them, and they must not be missed among much code.
        let tried = match context.used_as {
            Use::Secret => &mut self.found.settings,
            _ => &mut self.found.closed,
        };
        // A part that is one file has no folder to try it from.
        if !spot.is_start() && context.row.php < Right::Write && kind == Kind::File && tried.len() < TRIED {
            tried.push(place());
        }
    }
}
