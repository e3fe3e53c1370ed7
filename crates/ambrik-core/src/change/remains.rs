//! What a change left in the way is removed as everything is: into a keepsake.

use std::path::Path;
use std::sync::Arc;

use super::folder::{c_name, folder, split};
use super::ledger::Recorder;
use super::{ChangeContext, ChangeError, Outcome, PendingRemoval, remove};

/// Removes what is at `path` into a keepsake: it is in another place already.
pub(super) fn remove_remains(
    entry: &mut Recorder<'_>,
    path: &Path,
    reason: &str,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let Some(remains) = pending(path, reason) else { return Ok(()) };
    let bases = [means.host.resolve(Path::new("/")).map_err(|_| ChangeError::RootReplaced)?.handle];
    remove(entry, &bases, &[remains], "remains", means, outcome)
}

/// The removal of what is at `path`; nothing where that is no path.
pub(super) fn pending(path: &Path, reason: &str) -> Option<PendingRemoval> {
    let (above, name) = split(path)?;
    Some(PendingRemoval { folder: Arc::new(folder(above)), name: c_name(name).ok()?, id: None, reason: reason.into() })
}
