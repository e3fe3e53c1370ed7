//! What a change set did, path by path.

use std::path::PathBuf;
use std::sync::Arc;

use super::{Ledger, LedgerError};
use crate::entry::{Kind, Rights};

/// What was done to a path.
#[derive(Clone, Debug)]
pub struct PathChange {
    /// The path.
    pub path: PathBuf,
    /// What was done.
    pub what: Did,
    /// Whether it could not be done.
    pub failed: bool,
}

/// What is done to paths.
#[derive(Clone, Debug)]
pub enum Did {
    /// It got other rights.
    Rights {
        /// What it is.
        kind: Kind,
        /// Those before.
        before: Arc<Rights>,
        /// Those after.
        after: Arc<Rights>,
    },
    /// It was made, with these rights.
    Made {
        /// What it is.
        kind: Kind,
        /// Its rights.
        rights: Arc<Rights>,
    },
    /// It was removed, with all that was in it; into this keepsake, where it was kept.
    Removed(Option<String>),
    /// It came back out of a keepsake.
    CameBack,
    /// It was moved there.
    Moved(PathBuf),
}

impl Ledger {
    /// What a change set did, in the order in which it was done.
    ///
    /// # Errors
    /// Where the ledger cannot be read, or is damaged.
    pub fn path_changes(&self, id: i64) -> Result<Vec<PathChange>, LedgerError> {
        let done = |path: PathBuf, what: Did| PathChange { path, what, failed: false };
        let mut changes = Vec::new();
        for moving in self.movings(id)? {
            changes.push(done(moving.from, Did::Moved(moving.to)));
        }
        for made in self.creations(id)? {
            let failed = made.made.is_none();
            changes.push(PathChange {
                path: made.path,
                what: Did::Made { kind: made.kind, rights: made.rights },
                failed,
            });
        }
        for turn in self.turns(id)?.iter() {
            let what = Did::Rights { kind: turn.turn.kind, before: turn.turn.before, after: turn.turn.after };
            changes.push(PathChange { path: turn.folder.join(turn.name), what, failed: turn.failed });
        }
        for removal in self.removals(id)? {
            changes.push(done(removal.path, Did::Removed(removal.keepsake)));
        }
        for restoring in self.restorings(id)? {
            changes.push(PathChange { path: restoring.path, what: Did::CameBack, failed: restoring.made.is_none() });
        }
        Ok(changes)
    }
}
