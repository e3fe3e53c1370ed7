//! What is no longer as Ambrik left it.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use rustix::io::Errno;

use super::folder::c_name;
use super::ledger::{Ledger, LedgerError};
use super::rights::is_still;
use crate::entry::{Facts, Identity, Kind, Nanos, Rights};
use crate::policy::Policy;
use crate::site::{Phase, Site, Write};
use crate::tree::{Host, Resolved, WayError, sys};

/// A path that is no longer as Ambrik left it.
#[derive(Clone, Debug)]
pub struct Drifted {
    /// The path.
    pub path: PathBuf,
    /// What it was.
    pub kind: Kind,
    /// How Ambrik left it.
    pub left: Arc<Rights>,
    /// The change set that did.
    pub set: i64,
    /// When that ended.
    pub when: Timestamp,
    /// What is there now.
    pub now: DriftedTo,
}

/// What is there in a path's place.
#[derive(Clone, Debug)]
pub enum DriftedTo {
    /// Nothing.
    Nothing,
    /// That cannot be told.
    Unseen {
        /// Why.
        why: String,
    },
    /// The same, with other rights.
    Rights {
        /// These.
        rights: Box<Rights>,
        /// When they were changed last.
        changed: Nanos,
    },
    /// Something else, with these rights.
    Another {
        /// What it is.
        kind: Kind,
        /// Its rights.
        rights: Box<Rights>,
        /// When it was changed last.
        changed: Nanos,
    },
}

/// How a path was left.
struct Left {
    kind: Kind,
    id: Option<Identity>,
    rights: Arc<Rights>,
    set: i64,
    when: Timestamp,
}

/// The paths of a site that are no longer as Ambrik left them, in their order. What PHP may write is its own to replace and remove:
/// of that only folders' and kept files' rights are held against the record.
///
/// # Errors
/// Where the ledger cannot be read.
pub fn drift(ledger: &Ledger, host: &Host, site: &Arc<Site>) -> Result<Vec<Drifted>, LedgerError> {
    let policy = Policy::new(Arc::clone(site), Phase::Sealed);
    let mut folder: Option<(PathBuf, Result<Resolved, WayError>)> = None;
    let mut found = Vec::new();
    for (path, left) in left(ledger, &site.name)? {
        let Left { kind, id, rights, set, when } = left;
        let context = policy.at(&path).context;
        if !context.is_managed() {
            continue;
        }
        let (above, name) = (path.parent().unwrap_or(&path), path.file_name().unwrap_or_default());
        if folder.as_ref().is_none_or(|(known, _)| known != above) {
            folder = Some((above.to_owned(), host.resolve(above)));
        }
        let Some((_, dir)) = &folder else { continue };
        let phps_own = context.write == Write::Always;
        let now = match look(dir, name) {
            Ok(None) if phps_own => continue,
            Ok(None) => DriftedTo::Nothing,
            Err(why) => DriftedTo::Unseen { why },
            Ok(Some(facts)) => {
                let is_another = facts.kind != kind || id.is_some_and(|id| !facts.id.is_still(&id));
                let (rights_now, changed) = (Box::new(facts.rights), facts.changed);
                if is_another && phps_own && facts.kind == kind {
                    continue;
                }
                match (is_another, is_still(&rights_now, &rights, kind)) {
                    (false, true) => continue,
                    (false, false) => DriftedTo::Rights { rights: rights_now, changed },
                    (true, _) => DriftedTo::Another { kind: facts.kind, rights: rights_now, changed },
                }
            }
        };
        found.push(Drifted { path, kind, left: rights, set, when, now });
    }
    Ok(found)
}

/// What is at a name in a folder now; an error where that cannot be told.
fn look(dir: &Result<Resolved, WayError>, name: &OsStr) -> Result<Option<Facts>, String> {
    let dir = match dir {
        Ok(dir) => dir,
        Err(WayError::Missing(_) | WayError::NoDirectory(_)) => return Ok(None),
        Err(error) => return Err(error.to_string()),
    };
    let name = c_name(name).map_err(|failure| failure.to_string())?;
    let seen = sys::pin(&dir.handle, &name).and_then(sys::look_whole);
    match seen {
        Ok(facts) => Ok(Some(facts)),
        Err(Errno::NOENT | Errno::NOTDIR) => Ok(None),
        Err(errno) => Err(errno.to_string()),
    }
}

/// How the last change set that touched a path left it; not of what was removed since, or put back, with all that was in it.
fn left(ledger: &Ledger, site: &str) -> Result<BTreeMap<PathBuf, Left>, LedgerError> {
    let mut all: BTreeMap<PathBuf, Left> = BTreeMap::new();
    // What newer change sets took away, or put back: how that is, or was, is not on record.
    let mut unknown: BTreeSet<PathBuf> = BTreeSet::new();
    for set in ledger.change_sets()?.into_iter().filter(|set| set.site == site) {
        let Some(when) = set.ended else { continue };
        // Made in the place of what was removed.
        for row in ledger.creations(set.id)? {
            let Some(id) = row.made else { continue };
            let (kind, rights) = (row.kind, row.rights);
            let is_known = !is_in(&unknown, &row.path);
            let left = Left { kind, id: Some(id), rights, set: set.id, when };
            if is_known {
                all.entry(row.path).or_insert(left);
            }
        }
        let gone = ledger.removals(set.id)?.into_iter().map(|row| row.path);
        let back = ledger.restorings(set.id)?.into_iter().map(|row| row.path);
        let moved = ledger.movings(set.id)?.into_iter().map(|row| row.from);
        for path in gone.chain(back).chain(moved) {
            unknown.insert(path);
        }
        for row in ledger.turns(set.id)?.iter().filter(|row| !row.failed) {
            let (kind, id, rights) = (row.turn.kind, Some(row.turn.id), row.turn.after);
            let path = row.folder.join(row.name);
            if !is_in(&unknown, &path) {
                all.entry(path).or_insert(Left { kind, id, rights, set: set.id, when });
            }
        }
    }
    Ok(all)
}

/// Whether a path, or something that it is in, is among these.
fn is_in(paths: &BTreeSet<PathBuf>, path: &Path) -> bool {
    !paths.is_empty() && path.ancestors().any(|above| paths.contains(above))
}
