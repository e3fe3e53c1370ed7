//! What taking a change set back would do.

use std::collections::HashSet;
use std::path::Path;

use jiff::Timestamp;

use super::ledger::{
    ChangeSet, CreationRow, Ledger, LedgerError, ModuleChange, MovingRow, RemovalRow, RestoringRow, RightsRows,
};

/// What taking a change set back would do.
#[derive(Debug)]
pub struct UndoPlan {
    /// The change set.
    pub set: ChangeSet,
    /// Whether it, or an undo of it, was stopped in the middle.
    pub interrupted: bool,
    /// Whether all later change sets of the site are taken back as well: then what was written meanwhile to a file that
    /// it made goes, into a keepsake.
    pub with_later: bool,
    pub(super) turns: RightsRows,
    pub(super) removals: Vec<RemovalRow>,
    pub(super) creations: Vec<CreationRow>,
    pub(super) restorings: Vec<RestoringRow>,
    pub(super) movings: Vec<MovingRow>,
    pub(super) modules: Vec<ModuleChange>,
    pub(super) switches: Vec<(String, bool)>,
}

/// Why a change set cannot be taken back.
#[derive(Debug, thiserror::Error)]
pub enum UndoError {
    /// The ledger cannot be read.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// There is none.
    #[error("there is nothing to take back: `ambrik history` lists the change sets")]
    Nothing,
    /// There is none with this number.
    #[error("there is no change set {0}: `ambrik history` lists them")]
    Unknown(i64),
    /// Nothing of it is on record any more.
    #[error(
        "change set {0} is too old to be taken back: its record was purged; `ambrik history` lists those that are left"
    )]
    Forgotten(i64),
    /// What it removed is gone.
    #[error("change set {0} is too old to be taken back: what it removed was purged at {1}")]
    Purged(i64, Timestamp),
    /// It was taken back already.
    #[error(
        "change set {0} was taken back already, by change set {1}; to make it again, take that one back: ambrik undo {1}"
    )]
    Already(i64, i64),
}

/// What taking back change set `id`, or the newest that is neither undone nor itself an undo, would do.
pub fn plan_undo(ledger: &Ledger, id: Option<i64>) -> Result<UndoPlan, UndoError> {
    let sets = ledger.change_sets()?;
    let unfinished = sets.iter().filter(|s| s.ended.is_none() || s.settled || s.failed > 0);
    let tried: Vec<i64> = unfinished.filter_map(|s| s.undoes).collect();
    let set = match id {
        Some(id) => named(sets, id)?,
        None => sets.into_iter().find(|s| s.undone_by.is_none() && s.undoes.is_none()).ok_or(UndoError::Nothing)?,
    };
    // An undo of it that was stopped, or that failed somewhere, left some of it in between.
    let tried = tried.contains(&set.id);
    if let Some(by) = set.undone_by {
        return Err(UndoError::Already(set.id, by));
    }
    if let Some(purged) = set.purged {
        return Err(UndoError::Purged(set.id, purged));
    }
    let (turns, removals) = (ledger.turns(set.id)?, ledger.removals(set.id)?);
    let (creations, restorings) = (ledger.creations(set.id)?, ledger.restorings(set.id)?);
    let (movings, modules) = (ledger.movings(set.id)?, super::module::to_take_back(ledger.modules(set.id)?));
    let switches = ledger.switches(set.id)?;
    // What was stopped left some paths in between; who finished it began from these.
    let interrupted = set.ended.is_none() || set.settled || tried;
    Ok(UndoPlan {
        interrupted,
        with_later: false,
        set,
        turns,
        removals,
        creations,
        restorings,
        movings,
        modules,
        switches,
    })
}

fn named(sets: Vec<ChangeSet>, id: i64) -> Result<ChangeSet, UndoError> {
    let newest = sets.first().map(|set| set.id);
    let unknown =
        if id > 0 && newest.is_some_and(|newest| id < newest) { UndoError::Forgotten } else { UndoError::Unknown };
    sets.into_iter().find(|set| set.id == id).ok_or(unknown(id))
}

/// The change sets to be taken back, the newest first, so that a site is as it was before change set `id`.
pub fn since(ledger: &Ledger, id: i64) -> Result<Vec<i64>, UndoError> {
    let sets = ledger.change_sets()?;
    let first = sets.iter().find(|set| set.id == id).ok_or(UndoError::Unknown(id))?;
    let of_site = sets.iter().filter(|set| set.site == first.site && set.id >= id);
    let in_force: Vec<i64> = of_site.filter(|s| s.undone_by.is_none() && s.undoes.is_none()).map(|s| s.id).collect();
    if in_force.is_empty() { Err(UndoError::Nothing) } else { Ok(in_force) }
}

impl UndoPlan {
    /// How many paths get their rights back.
    #[must_use]
    pub fn turn_count(&self) -> usize {
        self.turns.made()
    }

    /// What comes back out of the keepsake.
    pub fn comes_back(&self) -> impl Iterator<Item = &Path> {
        self.removals.iter().filter(|r| r.keepsake.is_some()).map(|r| &*r.path)
    }

    /// What was removed without a keepsake and cannot come back.
    pub fn is_lost(&self) -> impl Iterator<Item = &Path> {
        self.removals.iter().filter(|r| r.keepsake.is_none()).map(|r| &*r.path)
    }

    /// The policy modules that are as before afterwards.
    pub fn modules(&self) -> impl Iterator<Item = &ModuleChange> {
        self.modules.iter()
    }

    /// The SELinux booleans that are switched back, and whether they were turned on.
    pub fn switches(&self) -> impl Iterator<Item = &(String, bool)> {
        self.switches.iter()
    }

    /// What moves back: from where, and to where.
    pub fn moves_back(&self) -> impl Iterator<Item = (&Path, &Path)> {
        self.movings.iter().map(|row| (&*row.to, &*row.from))
    }

    /// Whether something that goes is where something comes back.
    pub(super) fn makes_room(&self) -> bool {
        let goes: HashSet<&Path> = self.goes().collect();
        self.removals.iter().any(|removal| goes.contains(&*removal.path))
    }

    /// As [`Self::goes`], but for what is in something else that goes, and what an older one comes back in the place of.
    pub fn goes_whole(&self) -> impl Iterator<Item = &Path> {
        let all: HashSet<&Path> = self.goes().collect();
        let back: HashSet<&Path> = self.comes_back().collect();
        let is_inside = |path: &Path| path.ancestors().skip(1).any(|above| all.contains(above));
        let mut tops: Vec<&Path> =
            all.iter().copied().filter(|path| !is_inside(path) && !back.contains(path)).collect();
        tops.sort_unstable();
        tops.into_iter()
    }

    /// What is removed: what the change set made, or put back.
    pub fn goes(&self) -> impl Iterator<Item = &Path> {
        self.creations.iter().map(|c| &*c.path).chain(self.restorings.iter().map(|r| &*r.path))
    }
}
