//! What the ledger's rows say.

use std::collections::HashMap;
use std::ffi::OsString;
use std::os::unix::ffi::OsStringExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use rusqlite::Row;

use super::super::rights::RightsChange;
use crate::account::{Gid, Uid};
use crate::acl::Acl;
use crate::entry::{Identity, Kind, Rights};
use crate::mode::Mode;
use crate::site::{Phase, Site, Word, words};

words! {
    /// What makes a change set.
    ChangeCommand {
        /// `set`.
        Set = "set",
        /// `open`.
        Open = "open",
        /// `seal`.
        Seal = "seal",
        /// `undo`.
        Undo = "undo",
        /// `move`.
        Move = "move",
        /// `set --forget`.
        Forget = "forget",
        /// `unpack`.
        Unpack = "unpack",
    }
}

/// One change set, as `history` lists it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChangeSet {
    /// Its number.
    pub id: i64,
    /// The site.
    pub site: String,
    /// The command that made it.
    pub command: ChangeCommand,
    /// When it began.
    pub begun: Timestamp,
    /// When it ended; none if it was stopped in the middle, or still runs.
    pub ended: Option<Timestamp>,
    /// Whether it was stopped in the middle, and a later run found nothing left to do: it is no longer told of, and can still be
    /// taken back, from where it began.
    pub settled: bool,
    /// The process that made it.
    pub process: i64,
    /// The site's phase before.
    pub phase_before: Phase,
    /// The site's phase after.
    pub phase_after: Phase,
    /// The change set that it took back.
    pub undoes: Option<i64>,
    /// The change set that took it back.
    pub undone_by: Option<i64>,
    /// How many paths were changed.
    pub done: i64,
    /// How many could not be.
    pub failed: i64,
    /// How many paths were removed, those inside removed folders included.
    pub removed: i64,
    /// Of a run that was killed: how many paths it may have changed.
    pub recorded: i64,
    /// Who made it: the account, and who logged in as another before.
    pub who: Option<String>,
    /// The command line.
    pub line: Option<String>,
    /// When what it removed was purged: it cannot be taken back any more.
    pub purged: Option<Timestamp>,
    /// Of one that ended a window: how many paths were written in it, by the installer or whoever else.
    pub written: Option<i64>,
}

/// What is unpacked and opened within this time is one deployment: as long as a window lasts at most.
const UNPACKED_FOR_IT: jiff::SignedDuration = jiff::SignedDuration::from_hours(24);

/// The deployment that each change set is part of, by the number of the `open` that began it, or of the `unpack` before that: from
/// there to the change set that sealed the site again. Those that belong to none are left out.
#[must_use]
pub fn deployments(sets: &[ChangeSet]) -> HashMap<i64, i64> {
    let mut open: HashMap<&str, i64> = HashMap::new();
    let mut unpacked: HashMap<&str, Vec<&ChangeSet>> = HashMap::new();
    let mut found = HashMap::new();
    for set in sets.iter().rev() {
        let site = &*set.site;
        if set.command == ChangeCommand::Open && set.phase_before == Phase::Sealed {
            let mut story = unpacked.remove(site).unwrap_or_default();
            if story.first().is_some_and(|first| set.begun.duration_since(first.begun) > UNPACKED_FOR_IT) {
                story.clear();
            }
            let began = story.first().map_or(set.id, |first| first.id);
            found.extend(story.iter().map(|set| (set.id, began)));
            open.insert(site, began);
        }
        if let Some(began) = open.get(site) {
            found.insert(set.id, *began);
        } else if set.command == ChangeCommand::Unpack && set.undone_by.is_none() {
            unpacked.insert(site, vec![set]);
        } else if let Some(story) = unpacked.get_mut(site) {
            story.push(set);
        }
        if set.phase_after == Phase::Sealed {
            open.remove(site);
        }
    }
    found
}

/// A site's phase, and until when it holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SitePhase {
    /// The phase.
    pub phase: Phase,
    /// When a window ends.
    pub until: Option<Timestamp>,
    /// The parts that a window is for, as the site file names them; none for all.
    pub parts: Option<Vec<String>>,
}

impl Default for SitePhase {
    fn default() -> Self {
        Self { phase: Phase::Sealed, until: None, parts: None }
    }
}

impl SitePhase {
    /// The site as its window has it: parts that it is not for are as sealed ones.
    #[must_use]
    pub fn of(&self, site: &Arc<Site>) -> Arc<Site> {
        match (self.phase, &self.parts) {
            (Phase::Open, Some(parts)) => Arc::new(site.open_for(parts)),
            _ => Arc::clone(site),
        }
    }

    /// Whether it is a window that is past its end.
    #[must_use]
    pub fn is_overdue(&self, now: Timestamp) -> bool {
        self.phase == Phase::Open && self.until.is_some_and(|until| until <= now)
    }
}

/// An install or upgrade window.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Window {
    /// When it ends.
    pub until: Timestamp,
    /// The parts that it is for, as the site file names them; none for all.
    pub parts: Option<Vec<String>>,
}

/// A change of rights as the ledger holds it.
#[derive(Clone, Debug)]
pub(crate) struct RightsRow {
    pub(crate) folder: Arc<Path>,
    pub(crate) name: OsString,
    pub(crate) turn: RightsChange,
    pub(crate) failed: bool,
}

/// A removal as the ledger holds it.
#[derive(Clone, Debug)]
pub(crate) struct RemovalRow {
    pub(crate) path: PathBuf,
    pub(crate) keepsake: Option<String>,
    pub(crate) before_times: Option<Vec<u8>>,
    pub(crate) after_times: Option<Vec<u8>>,
    /// The directory that it was in.
    pub(crate) above: Option<Identity>,
}

/// A path that was made.
#[derive(Clone, Debug)]
pub(crate) struct CreationRow {
    pub(crate) path: PathBuf,
    pub(crate) kind: Kind,
    pub(crate) rights: Arc<Rights>,
    /// What was written to it.
    pub(crate) content: Vec<u8>,
    /// Of a file out of an archive, whose content is not on record, the sum of that.
    pub(crate) sum: Option<[u8; 32]>,
    /// The directory that it was made in.
    pub(crate) above: Option<Identity>,
    /// What was made, where the run came to record it.
    pub(crate) made: Option<Identity>,
}

/// Something that came back out of a keepsake.
#[derive(Clone, Debug)]
pub(crate) struct RestoringRow {
    pub(crate) path: PathBuf,
    /// The directory that it was put into.
    pub(crate) above: Option<Identity>,
    /// What came back, where the run came to record it.
    pub(crate) made: Option<Identity>,
}

/// A policy module before and after a change; none where there is none.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ModuleChange {
    /// Its name.
    pub name: String,
    /// Its text before.
    pub before: Option<String>,
    /// Its text afterwards.
    pub after: Option<String>,
}

/// A part that was moved.
#[derive(Clone, Debug)]
pub(crate) struct MovingRow {
    /// The part as it was named.
    pub(crate) part: String,
    /// The site's root.
    pub(crate) root: PathBuf,
    pub(crate) from: PathBuf,
    pub(crate) to: PathBuf,
    /// Whether a symlink was left in the old place.
    pub(crate) link: bool,
    /// The site file, and its text before and after.
    pub(crate) file: PathBuf,
    pub(crate) text_before: String,
    pub(crate) text_after: String,
    /// Who may have made the symlinks that lead there, besides root.
    pub(crate) keeper: Uid,
    /// What is in the new place.
    pub(crate) moved: Option<Identity>,
}

/// Where the tree of a site begins, as it was when it was changed last.
#[derive(Clone, Copy, Debug)]
pub(crate) struct PlaceRow {
    /// Which inode it was.
    pub(crate) identity: Identity,
    /// Whether only root and the keeper could put another in its place.
    pub(crate) closed: bool,
}

/// The row of a change set's change with this number: those of one set stand together, in their order.
pub(super) const fn turn_id(set: i64, number: i64) -> i64 {
    (set << 40) + number
}

const KINDS: [Kind; 6] = [Kind::File, Kind::Directory, Kind::Symlink, Kind::Fifo, Kind::Socket, Kind::Device];

pub(super) fn kind_number(kind: Kind) -> i64 {
    KINDS.iter().position(|k| *k == kind).and_then(|n| i64::try_from(n).ok()).unwrap_or_default()
}

pub(super) fn kind_of(number: i64) -> Option<Kind> {
    KINDS.get(usize::try_from(number).ok()?).copied()
}

pub(super) const fn as_u64(number: i64) -> u64 {
    number.cast_unsigned()
}

/// An identity as a row holds it.
pub(super) fn identity_bytes(id: &Identity) -> [u8; 24] {
    let mut bytes = [0; 24];
    let numbers = [id.dev.to_le_bytes(), id.ino.to_le_bytes(), id.born.to_le_bytes()];
    bytes.chunks_exact_mut(8).zip(numbers).for_each(|(to, number)| to.copy_from_slice(&number));
    bytes
}

/// The identity in a column; none where there is none, or none that can be read.
pub(super) fn identity_of(row: &Row<'_>, column: usize) -> rusqlite::Result<Option<Identity>> {
    let bytes: Option<Vec<u8>> = row.get(column)?;
    let number = |bytes: &[u8], at: usize| Some(u64::from_le_bytes(bytes.get(at..at + 8)?.try_into().ok()?));
    Ok(bytes.and_then(|bytes| {
        let (dev, ino, born) = (number(&bytes, 0)?, number(&bytes, 8)?, number(&bytes, 16)?.cast_signed());
        Some(Identity { dev, ino, born })
    }))
}

pub(super) fn path_of(row: &Row<'_>, column: usize) -> rusqlite::Result<PathBuf> {
    row.get::<_, Vec<u8>>(column).map(|bytes| PathBuf::from(OsString::from_vec(bytes)))
}

pub(super) fn rights_row(row: &Row<'_>) -> rusqlite::Result<(i64, Option<Rights>)> {
    let list = |column| -> rusqlite::Result<Option<Option<Arc<Acl>>>> {
        let bytes: Option<Vec<u8>> = row.get(column)?;
        Ok(match bytes {
            None => Some(None),
            Some(bytes) => Acl::from_attribute(&bytes).ok().map(|acl| Some(Arc::new(acl))),
        })
    };
    let (acl, default_acl) = (list(4)?, list(5)?);
    let capabilities: Option<Vec<u8>> = row.get(6)?;
    let label: Option<String> = row.get(7)?;
    let label = label.map(|text| text.parse()).transpose().ok();
    let rights = (|| {
        Some(Rights {
            uid: Uid(row.get(1).ok()?),
            gid: Gid(row.get(2).ok()?),
            mode: Mode::new(row.get(3).ok()?)?,
            acl: acl?,
            default_acl: default_acl?,
            capabilities: capabilities.map(Into::into),
            label: label?,
        })
    })();
    Ok((row.get(0)?, rights))
}

pub(super) fn change_set(row: &Row<'_>) -> rusqlite::Result<Option<ChangeSet>> {
    let begun: String = row.get(3)?;
    let ended: Option<String> = row.get(4)?;
    let (before, after): (String, String) = (row.get(6)?, row.get(7)?);
    let (id, site, command, process): (_, _, String, _) = (row.get(0)?, row.get(1)?, row.get(2)?, row.get(5)?);
    let (undoes, undone_by, done, failed, removed) =
        (row.get(8)?, row.get(9)?, row.get(10)?, row.get(11)?, row.get(12)?);
    let (settled, recorded) = (row.get(13)?, row.get(14)?);
    let (who, line, purged) = (row.get(15)?, row.get(16)?, row.get::<_, Option<String>>(17)?);
    let written = row.get(18)?;
    let read = || {
        let time = |text: Option<String>| text.map_or(Some(None), |text| text.parse().ok().map(Some));
        let (ended, purged) = (time(ended)?, time(purged)?);
        let (phase_before, phase_after) = (Phase::of_word(&before)?, Phase::of_word(&after)?);
        let (begun, command) = (begun.parse().ok()?, ChangeCommand::of_word(&command)?);
        Some(ChangeSet {
            id,
            site,
            command,
            begun,
            ended,
            settled,
            process,
            phase_before,
            phase_after,
            undoes,
            undone_by,
            done,
            failed,
            removed,
            recorded,
            who,
            line,
            purged,
            written,
        })
    };
    Ok(read())
}
