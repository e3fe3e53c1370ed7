//! Where the trees of a site begin: whether these are the ones that were changed the last time, and whether anybody
//! besides root and the keeper decides that. The disk can be changed between two runs too.

use std::path::PathBuf;

use super::ledger::{Ledger, LedgerError, PlaceRow, Recorder};
use crate::audit::{Audit, OpenWay};
use crate::shown::Shown;

/// Why nothing is changed.
#[derive(Debug, thiserror::Error)]
pub enum PlaceError {
    /// Somebody else can put another folder in the place of the tree.
    #[error(
        "{}: {} can rename what leads there, in {}, and so put something else in its place; nothing was changed. Take that \
         right away first: {}",
        Shown(.start), way.who, Shown(&way.dir), way.mend
    )]
    OpenWay {
        /// Where the tree begins.
        start: PathBuf,
        /// Where it can be renamed.
        way: OpenWay,
    },
    /// Another folder is there than the last time.
    #[error(
        "{}: another folder is there than when it was changed last, and others than root and the keeper could have put it \
         there; nothing was changed. Look at it; if it is the right one, say --new-root", Shown(.0)
    )]
    NewRoot(PathBuf),
    /// The ledger cannot be read.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
}

/// Whether the trees that were looked at may be changed; the answer is which of them are others than the last time,
/// put there by root or the keeper, or said to be right (`new_root`).
///
/// Errors: see [`PlaceError`].
pub fn check_places(audit: &Audit, ledger: Option<&Ledger>, new_root: bool) -> Result<Vec<PathBuf>, PlaceError> {
    let root = rustix::process::geteuid().is_root();
    let mut others = Vec::new();
    for start in &audit.seen.starts {
        if let Some(way) = start.open_way.as_ref().filter(|_| root) {
            return Err(PlaceError::OpenWay { start: start.path.clone(), way: way.clone() });
        }
        let known = ledger.map(|ledger| ledger.place(&audit.site.name, &start.path)).transpose()?.flatten();
        let Some(known) = known.filter(|known| !start.facts.id.is_still(&known.identity)) else { continue };
        let trusted = known.closed && start.open_way.is_none();
        if !trusted && !new_root {
            return Err(PlaceError::NewRoot(start.path.clone()));
        }
        others.push(start.path.clone());
    }
    Ok(others)
}

/// Records where the trees begin that are about to be changed.
pub(super) fn record(audit: &Audit, entry: &mut Recorder<'_>) -> Result<(), LedgerError> {
    for start in &audit.seen.starts {
        let place = PlaceRow { identity: start.facts.id, closed: start.open_way.is_none() };
        entry.place(&audit.site.name, &start.path, &place)?;
    }
    Ok(())
}
