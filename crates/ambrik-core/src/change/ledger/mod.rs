//! The ledger: what was there before each change, durable before the change is made (`SQLite`).

mod entry;
mod known;

use std::collections::{BTreeMap, HashMap};
use std::ffi::OsString;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use rusqlite::{Connection, ErrorCode, OptionalExtension, Row, TransactionBehavior, params};

use super::keepsake::Successors;
use super::rights::RightsChange;
use super::state::{StateDir, StateError};
use crate::account::{Gid, Uid};
use crate::acl::Acl;
use crate::entry::{Identity, Kind, Nanos, Rights};
use crate::mode::Mode;
use crate::shown::Shown;
use crate::site::{Phase, Site, Word};
use crate::tree::sys;

pub(crate) use entry::{Entry, TakenBack};
pub use known::HowChanged;
pub(crate) use known::Known;

/// The ledger's file in the state directory.
const FILE: &str = "ledger.sqlite3";
/// The version of the tables below.
const VERSION: i64 = 5;
const TABLES: &str = "
CREATE TABLE change_set (
  id INTEGER PRIMARY KEY, site TEXT NOT NULL, command TEXT NOT NULL, begun TEXT NOT NULL, ended TEXT,
  process INTEGER NOT NULL, phase_before TEXT NOT NULL, phase_after TEXT NOT NULL,
  undoes INTEGER REFERENCES change_set(id), undone_by INTEGER REFERENCES change_set(id),
  done INTEGER NOT NULL DEFAULT 0, failed INTEGER NOT NULL DEFAULT 0, until TEXT, parts TEXT);
CREATE TABLE folder (id INTEGER PRIMARY KEY, path BLOB NOT NULL);
CREATE TABLE rights (
  id INTEGER PRIMARY KEY, uid INTEGER NOT NULL, gid INTEGER NOT NULL, mode INTEGER NOT NULL,
  acl BLOB, default_acl BLOB, capabilities BLOB);
CREATE TABLE turn (
  id INTEGER PRIMARY KEY, folder INTEGER NOT NULL, name BLOB NOT NULL,
  kind INTEGER NOT NULL, dev INTEGER NOT NULL, ino INTEGER NOT NULL, links INTEGER NOT NULL,
  before INTEGER NOT NULL, after INTEGER NOT NULL, failed TEXT, left_seconds INTEGER, left_nanos INTEGER);
CREATE TABLE creation (
  change_set INTEGER NOT NULL, path BLOB NOT NULL, kind INTEGER NOT NULL, rights INTEGER NOT NULL, content BLOB);
CREATE TABLE removal (
  change_set INTEGER NOT NULL, path BLOB NOT NULL, reason TEXT NOT NULL, keepsake TEXT, files INTEGER NOT NULL,
  before_times BLOB, after_times BLOB);
CREATE TABLE restoring (
  change_set INTEGER NOT NULL, path BLOB NOT NULL, keepsake TEXT NOT NULL);
CREATE TABLE site (name TEXT PRIMARY KEY, phase TEXT NOT NULL, until TEXT, parts TEXT) WITHOUT ROWID;
";
/// What came with version 5: which inodes things were and are, by device, number and time of birth;
/// and which change sets were stopped.
const IDENTITIES: &str = "
ALTER TABLE change_set ADD COLUMN settled INTEGER NOT NULL DEFAULT 0;
ALTER TABLE turn ADD COLUMN born INTEGER NOT NULL DEFAULT 0;
ALTER TABLE creation ADD COLUMN above BLOB;
ALTER TABLE creation ADD COLUMN made BLOB;
ALTER TABLE removal ADD COLUMN above BLOB;
ALTER TABLE restoring ADD COLUMN above BLOB;
ALTER TABLE restoring ADD COLUMN made BLOB;
ALTER TABLE moving ADD COLUMN moved BLOB;
CREATE TABLE successor (change_set INTEGER NOT NULL, old BLOB NOT NULL, new BLOB NOT NULL);
CREATE TABLE place (
  site TEXT NOT NULL, path BLOB NOT NULL, identity BLOB NOT NULL, closed INTEGER NOT NULL, PRIMARY KEY (site, path)) WITHOUT ROWID;
CREATE TABLE window_state (
  site TEXT NOT NULL, path BLOB NOT NULL, identity BLOB NOT NULL, size INTEGER NOT NULL, modified INTEGER NOT NULL, sum BLOB);
CREATE INDEX window_state_of_site ON window_state (site);
CREATE TABLE unproven (
  site TEXT NOT NULL, path BLOB NOT NULL, how TEXT NOT NULL, PRIMARY KEY (site, path)) WITHOUT ROWID;
CREATE TABLE clean (site TEXT PRIMARY KEY, taken INTEGER NOT NULL) WITHOUT ROWID;
";
/// What came with version 4.
const LABELS: &str = "ALTER TABLE rights ADD COLUMN label TEXT;
CREATE TABLE module (change_set INTEGER NOT NULL, name TEXT NOT NULL, before TEXT, after TEXT);
CREATE TABLE switch (change_set INTEGER NOT NULL, name TEXT NOT NULL, switched_on INTEGER NOT NULL);";
/// What came with version 3.
const MOVING: &str = "
CREATE TABLE moving (
  change_set INTEGER NOT NULL, part TEXT NOT NULL, root BLOB NOT NULL, path_from BLOB NOT NULL, path_to BLOB NOT NULL,
  link INTEGER NOT NULL, file BLOB NOT NULL, text_before TEXT NOT NULL, text_after TEXT NOT NULL,
  keeper INTEGER NOT NULL);
";
/// What makes tables of a version those of the next one; the tables above are of version 2.
const STEPS: [(i64, &str); 4] = [(1, FROM_1), (2, MOVING), (3, LABELS), (4, IDENTITIES)];
/// What makes tables of version 1 those of version 2.
const FROM_1: &str = "
ALTER TABLE change_set ADD COLUMN until TEXT;
ALTER TABLE change_set ADD COLUMN parts TEXT;
ALTER TABLE creation ADD COLUMN content BLOB;
ALTER TABLE site ADD COLUMN parts TEXT;
";

/// The ledger.
#[derive(Debug)]
pub struct Ledger {
    db: Connection,
    path: PathBuf,
}

/// Why the ledger cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum LedgerError {
    /// The state directory cannot be used.
    #[error(transparent)]
    State(#[from] StateError),
    /// A newer Ambrik wrote it.
    #[error("the ledger {} was written by a newer Ambrik (its version is {found}, this one knows {VERSION}); use that one", Shown(.path))]
    Newer {
        /// The ledger.
        path: PathBuf,
        /// Its version.
        found: i64,
    },
    /// `SQLite` said no.
    #[error("cannot {op} the ledger {}: {}", Shown(.path), said(.cause))]
    Failed {
        /// What was being done.
        op: &'static str,
        /// The ledger.
        path: PathBuf,
        /// Why it failed.
        cause: rusqlite::Error,
    },
    /// A row holds what no Ambrik writes.
    #[error("the ledger {} holds a record that cannot be read ({what}); it was changed by something else", Shown(.path))]
    Damaged {
        /// The ledger.
        path: PathBuf,
        /// What cannot be read.
        what: &'static str,
    },
}

/// The system's words for what stands behind `SQLite`'s, and what to do.
fn said(cause: &rusqlite::Error) -> String {
    match cause.sqlite_error_code() {
        Some(ErrorCode::DiskFull) => "no space left on device; make room".into(),
        Some(ErrorCode::ReadOnly) => "read-only file system; remount it for writing".into(),
        Some(ErrorCode::SystemIoFailure) => "input/output error; look at the disk".into(),
        _ => cause.to_string(),
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
    pub command: String,
    /// When it began.
    pub begun: Timestamp,
    /// When it ended; none if it was stopped in the middle, or still runs.
    pub ended: Option<Timestamp>,
    /// Whether it was stopped in the middle, and a later run found nothing left to do.
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
}

/// The deployment that each change set is part of, by the number of the `open` that began it: from there to the change
/// set that sealed the site again. Those that belong to none are left out.
#[must_use]
pub fn deployments(sets: &[ChangeSet]) -> HashMap<i64, i64> {
    let mut open: HashMap<&str, i64> = HashMap::new();
    let mut found = HashMap::new();
    for set in sets.iter().rev() {
        if set.command == "open" && set.phase_before == Phase::Sealed {
            open.insert(&set.site, set.id);
        }
        if let Some(began) = open.get(&*set.site) {
            found.insert(set.id, *began);
        }
        if set.phase_after == Phase::Sealed {
            open.remove(&*set.site);
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
    pub(crate) folder: PathBuf,
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

impl Ledger {
    /// Opens the ledger, making it where it is missing.
    pub fn open_or_create(state: &StateDir) -> Result<Self, LedgerError> {
        state.ensure_file(FILE)?;
        Self::at(state)
    }

    /// Opens the ledger where there is one.
    pub fn open(state: &StateDir) -> Result<Option<Self>, LedgerError> {
        if state.has(FILE)? { Self::at(state).map(Some) } else { Ok(None) }
    }

    fn at(state: &StateDir) -> Result<Self, LedgerError> {
        let path = state.path().join(FILE);
        let failed = |op| {
            let path = path.clone();
            move |cause| LedgerError::Failed { op, path, cause }
        };
        for beside in ["-wal", "-shm", "-journal"] {
            // SQLite would follow a link there.
            state.has(&format!("{FILE}{beside}"))?;
        }
        // Two first runs make the tables one after the other.
        let _opening = state.opening()?;
        let mut db = Connection::open(state.pinned(FILE)).map_err(failed("open"))?;
        db.busy_timeout(std::time::Duration::from_secs(10)).map_err(failed("open"))?;
        let version = |db: &Connection| db.query_row("PRAGMA user_version", [], |row| row.get::<_, i64>(0));
        let found = version(&db).map_err(failed("read"))?;
        if found > VERSION {
            return Err(LedgerError::Newer { path, found });
        }
        // Full: a commit is on the disk when it returns. In memory: no file where the environment says.
        db.execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON; PRAGMA temp_store = MEMORY;")
            .map_err(failed("write"))?;
        if found < VERSION {
            let transaction = db.transaction_with_behavior(TransactionBehavior::Immediate).map_err(failed("write"))?;
            let steps = || -> rusqlite::Result<()> {
                let mut found = found;
                if found == 0 {
                    transaction.execute_batch(TABLES)?;
                    found = 2;
                }
                for (_, step) in STEPS.iter().filter(|(version, _)| *version >= found) {
                    transaction.execute_batch(step)?;
                }
                transaction.execute_batch(&format!("PRAGMA user_version = {VERSION};"))
            };
            steps().map_err(failed("write"))?;
            transaction.commit().map_err(failed("write"))?;
        }
        Ok(Self { db, path })
    }

    fn failed(&self, op: &'static str) -> impl Fn(rusqlite::Error) -> LedgerError + use<> {
        let path = self.path.clone();
        move |cause| LedgerError::Failed { op, path: path.clone(), cause }
    }

    /// Called before each write.
    fn writing(&self) -> Result<(), LedgerError> {
        let full = |_| rusqlite::Error::SqliteFailure(rusqlite::ffi::Error::new(rusqlite::ffi::SQLITE_FULL), None);
        sys::before_change().map_err(|errno| self.failed("write")(full(errno)))
    }

    fn damaged(&self, what: &'static str) -> LedgerError {
        LedgerError::Damaged { path: self.path.clone(), what }
    }

    /// All change sets, the newest first.
    pub fn change_sets(&self) -> Result<Vec<ChangeSet>, LedgerError> {
        let failed = self.failed("read");
        let sql = "SELECT id, site, command, begun, ended, process, phase_before, phase_after, undoes, undone_by, done, failed,
                   (SELECT coalesce(sum(files), 0) FROM removal WHERE change_set = id), settled,
                   CASE WHEN ended IS NULL AND done = 0
                     THEN (SELECT count(*) FROM turn WHERE turn.id >= change_set.id << 40 AND turn.id < (change_set.id + 1) << 40)
                     ELSE 0 END
                   FROM change_set ORDER BY id DESC";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([], change_set).map_err(&failed)?;
        rows.map(|row| row.map_err(&failed)?.ok_or_else(|| self.damaged("a change set"))).collect()
    }

    /// A site's phase.
    pub fn phase(&self, site: &str) -> Result<SitePhase, LedgerError> {
        let sql = "SELECT phase, until, parts FROM site WHERE name = ?";
        let text = |row: &Row<'_>, column: usize| row.get::<_, Option<String>>(column);
        let read = |row: &Row<'_>| Ok((row.get::<_, String>(0)?, text(row, 1)?, text(row, 2)?));
        let found = self.db.query_row(sql, [site], read).optional().map_err(self.failed("read"))?;
        let Some((phase, until, parts)) = found else { return Ok(SitePhase::default()) };
        let phase = Phase::of_word(&phase).ok_or_else(|| self.damaged("a site's phase"))?;
        let until = until.map(|text| text.parse()).transpose().map_err(|_| self.damaged("a window's end"))?;
        let parts = parts.map(|parts| parts.lines().map(str::to_owned).collect());
        Ok(SitePhase { phase, until, parts })
    }

    /// Begins a change set; what it is to change is recorded in it before it is changed.
    pub(crate) fn begin(
        &mut self,
        site: &str,
        command: &str,
        phases: (Phase, Phase),
        undoes: Option<i64>,
    ) -> Result<Entry<'_>, LedgerError> {
        self.writing()?;
        let sql = "INSERT INTO change_set (site, command, begun, process, phase_before, phase_after, undoes) VALUES (?,?,?,?,?,?,?)";
        let begun = Timestamp::now().to_string();
        let (before, after) = (phases.0.word(), phases.1.word());
        self.db
            .execute(sql, params![site, command, begun, std::process::id(), before, after, undoes])
            .map_err(self.failed("write"))?;
        let id = self.db.last_insert_rowid();
        Ok(Entry::new(id, self))
    }

    /// Ends what stopped runs left of a site on which nothing is left to do.
    pub fn settle(&mut self, site: &str) -> Result<(), LedgerError> {
        let sql = "UPDATE change_set SET ended = ?, settled = 1 WHERE site = ? AND ended IS NULL";
        self.writing()?;
        self.db.execute(sql, params![Timestamp::now().to_string(), site]).map_err(self.failed("write")).map(|_| ())
    }

    /// When the window that a site is in was opened, extending it left aside, and what was made then.
    pub fn opened(&self, site: &str) -> Result<Option<(Timestamp, Vec<PathBuf>)>, LedgerError> {
        let sets = self.change_sets()?;
        let opened = sets.iter().find(|set| {
            set.site == site && set.command == "open" && set.undone_by.is_none() && set.phase_before == Phase::Sealed
        });
        let Some(opened) = opened else { return Ok(None) };
        let made = self.creations(opened.id)?.into_iter().map(|creation| creation.path);
        Ok(Some((opened.begun, made.collect())))
    }

    /// The changes of rights of a change set, in order.
    pub(crate) fn turns(&self, id: i64) -> Result<Vec<RightsRow>, LedgerError> {
        let failed = self.failed("read");
        let rights = self.rights_of(id)?;
        let sql = "SELECT folder.path, name, kind, dev, ino, links, before, after, turn.failed IS NOT NULL, left_seconds, left_nanos, born
                   FROM turn JOIN folder ON folder.id = folder WHERE turn.id BETWEEN ? AND ? ORDER BY turn.id";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let mut rows = statement.query([turn_id(id, 0), turn_id(id + 1, 0) - 1]).map_err(&failed)?;
        let mut turns = Vec::new();
        while let Some(row) = rows.next().map_err(&failed)? {
            let read = || -> rusqlite::Result<_> {
                let kind = kind_of(row.get(2)?);
                let (before, after): (i64, i64) = (row.get(6)?, row.get(7)?);
                let (before, after) = (rights.get(&before).cloned(), rights.get(&after).cloned());
                let (seconds, nanos): (Option<i64>, Option<u32>) = (row.get(9)?, row.get(10)?);
                let left = seconds.zip(nanos);
                let id = Identity { dev: as_u64(row.get(3)?), ino: as_u64(row.get(4)?), born: row.get(11)? };
                Ok((
                    path_of(row, 0)?,
                    path_of(row, 1)?,
                    kind,
                    id,
                    row.get::<_, u32>(5)?,
                    before,
                    after,
                    row.get(8)?,
                    left,
                ))
            };
            let (folder, name, kind, id, links, before, after, failed, left) = read().map_err(&failed)?;
            let (Some(kind), Some(before), Some(after)) = (kind, before, after) else {
                return Err(self.damaged("a change"));
            };
            let turn = RightsChange { id, kind, links, before, after, left, changed: None };
            turns.push(RightsRow { folder, name: name.into_os_string(), turn, failed });
        }
        Ok(turns)
    }

    fn rights_of(&self, id: i64) -> Result<HashMap<i64, Arc<Rights>>, LedgerError> {
        let failed = self.failed("read");
        let sql = "SELECT id, uid, gid, mode, acl, default_acl, capabilities, label FROM rights WHERE id IN
                   (SELECT before FROM turn WHERE id BETWEEN ?2 AND ?3 UNION SELECT after FROM turn WHERE id BETWEEN ?2 AND ?3
                    UNION SELECT rights FROM creation WHERE change_set = ?1)";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([id, turn_id(id, 0), turn_id(id + 1, 0) - 1], rights_row).map_err(&failed)?;
        let mut found = HashMap::new();
        for row in rows {
            let (id, rights) = row.map_err(&failed)?;
            found.insert(id, Arc::new(rights.ok_or_else(|| self.damaged("owner, mode or access list"))?));
        }
        Ok(found)
    }

    /// The removals of a change set.
    pub(crate) fn removals(&self, id: i64) -> Result<Vec<RemovalRow>, LedgerError> {
        let sql = "SELECT path, keepsake, before_times, after_times, above FROM removal WHERE change_set = ?";
        self.list(sql, id, |row| {
            Ok(RemovalRow {
                path: path_of(row, 0)?,
                keepsake: row.get(1)?,
                before_times: row.get(2)?,
                after_times: row.get(3)?,
                above: identity_of(row, 4)?,
            })
        })
    }

    /// What a change set put back out of keepsakes.
    pub(crate) fn restorings(&self, id: i64) -> Result<Vec<RestoringRow>, LedgerError> {
        let sql = "SELECT path, above, made FROM restoring WHERE change_set = ?";
        self.list(sql, id, |row| {
            let (above, made) = (identity_of(row, 1)?, identity_of(row, 2)?);
            Ok(RestoringRow { path: path_of(row, 0)?, above, made })
        })
    }

    /// Which inodes stand for which since things came back out of keepsakes, or were copied to another file system.
    pub(crate) fn successors(&self) -> Result<Successors, LedgerError> {
        let failed = self.failed("read");
        let mut statement = self.db.prepare("SELECT old, new FROM successor ORDER BY rowid").map_err(&failed)?;
        let rows = statement.query_map([], |row| Ok((identity_of(row, 0)?, identity_of(row, 1)?))).map_err(&failed)?;
        let mut successors = Successors::default();
        for row in rows {
            let (Some(old), Some(new)) = row.map_err(&failed)? else { return Err(self.damaged("what came back")) };
            successors.know(old, new);
        }
        Ok(successors)
    }

    /// What was there when a site was opened, by its paths; nothing where that is not on record.
    pub(super) fn window_state(&self, site: &str) -> Result<Option<BTreeMap<PathBuf, Known>>, LedgerError> {
        let failed = self.failed("read");
        let sql = "SELECT path, identity, size, modified, sum FROM window_state WHERE site = ?";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([site], |row| {
            let sum: Option<Vec<u8>> = row.get(4)?;
            let sum = sum.and_then(|sum| sum.try_into().ok());
            let (size, modified) = (as_u64(row.get(2)?), row.get(3)?);
            Ok((path_of(row, 0)?, identity_of(row, 1)?.map(|id| Known { id, size, modified, sum })))
        });
        let mut found = BTreeMap::new();
        for row in rows.map_err(&failed)? {
            let (path, Some(known)) = row.map_err(&failed)? else { return Err(self.damaged("what was there")) };
            found.insert(path, known);
        }
        // The root itself is no file: an empty site is on record as well.
        Ok((!found.is_empty()).then_some(found))
    }

    /// When the last change set of a site that is in a window ended; none where one was stopped.
    pub(super) fn settled_at(&self, site: &str) -> Result<Option<Timestamp>, LedgerError> {
        let sets = self.change_sets()?;
        Ok(sets.iter().find(|set| set.site == site).and_then(|set| set.ended))
    }

    /// The code of a site that changed and that nobody has answered for: paths, and how they changed.
    pub fn unproven(&self, site: &str) -> Result<Vec<(PathBuf, HowChanged)>, LedgerError> {
        let failed = self.failed("read");
        let mut statement =
            self.db.prepare("SELECT path, how FROM unproven WHERE site = ? ORDER BY path").map_err(&failed)?;
        let rows = statement.query_map([site], |row| Ok((path_of(row, 0)?, row.get::<_, String>(1)?)));
        let mut found = Vec::new();
        for row in rows.map_err(&failed)? {
            let (path, how) = row.map_err(&failed)?;
            let how = HowChanged::of_words(&how).ok_or_else(|| self.damaged("code that changed"))?;
            found.push((path, how));
        }
        Ok(found)
    }

    /// Puts code that changed on record, until somebody answers for it.
    pub fn add_unproven<'c>(
        &mut self,
        site: &str,
        changed: impl Iterator<Item = (&'c Path, HowChanged)>,
    ) -> Result<(), LedgerError> {
        let mut changed = changed.peekable();
        if changed.peek().is_none() {
            return Ok(());
        }
        self.writing()?;
        let failed = self.failed("write");
        let transaction = self.db.transaction().map_err(&failed)?;
        for (path, how) in changed {
            let sql = "INSERT OR IGNORE INTO unproven (site, path, how) VALUES (?,?,?)";
            let values = params![site, path.as_os_str().as_bytes(), how.words()];
            transaction.prepare_cached(sql).and_then(|mut s| s.execute(values)).map_err(&failed)?;
        }
        transaction.commit().map_err(&failed)
    }

    /// Somebody has answered for the code of a site as it is now.
    pub fn approve(&mut self, site: &str) -> Result<(), LedgerError> {
        self.writing()?;
        self.db.execute("DELETE FROM unproven WHERE site = ?", [site]).map_err(self.failed("write")).map(|_| ())
    }

    /// When an audit found a site clean last, or Ambrik changed it after that.
    pub fn clean_since(&self, site: &str) -> Result<Option<Nanos>, LedgerError> {
        let sql = "SELECT taken FROM clean WHERE site = ?";
        self.db.query_row(sql, [site], |row| row.get(0)).optional().map_err(self.failed("read"))
    }

    /// An audit that began then found a site clean.
    pub fn found_clean(&mut self, site: &str, taken: Nanos) -> Result<(), LedgerError> {
        self.writing()?;
        let sql = "INSERT INTO clean (site, taken) VALUES (?1, ?2) ON CONFLICT (site) DO UPDATE SET taken = ?2";
        self.db.execute(sql, params![site, taken]).map_err(self.failed("write")).map(|_| ())
    }

    /// Where a site's tree begins at `path`, as it was when it was changed last.
    pub(crate) fn place(&self, site: &str, path: &Path) -> Result<Option<PlaceRow>, LedgerError> {
        let sql = "SELECT identity, closed FROM place WHERE site = ? AND path = ?";
        let read = |row: &Row<'_>| Ok((identity_of(row, 0)?, row.get::<_, bool>(1)?));
        let found = self.db.query_row(sql, params![site, path.as_os_str().as_bytes()], read).optional();
        match found.map_err(self.failed("read"))? {
            None => Ok(None),
            Some((Some(identity), closed)) => Ok(Some(PlaceRow { identity, closed })),
            Some((None, _)) => Err(self.damaged("where a site's tree begins")),
        }
    }

    /// The text of the policy module that a site has in the store; none where it has none.
    pub fn module(&self, site: &str) -> Result<Option<String>, LedgerError> {
        let sql = "SELECT after FROM module JOIN change_set ON change_set.id = change_set WHERE site = ?
                   ORDER BY module.rowid DESC LIMIT 1";
        let found = self.db.query_row(sql, [site], |row| row.get(0)).optional().map_err(self.failed("read"))?;
        Ok(found.flatten())
    }

    /// The policy switches that a change set switched, and whether on.
    pub(crate) fn switches(&self, id: i64) -> Result<Vec<(String, bool)>, LedgerError> {
        let sql = "SELECT name, switched_on FROM switch WHERE change_set = ?";
        self.list(sql, id, |row| Ok((row.get(0)?, row.get(1)?)))
    }

    /// The policy modules that a change set put in place, took away or changed.
    pub(crate) fn modules(&self, id: i64) -> Result<Vec<ModuleChange>, LedgerError> {
        let sql = "SELECT name, before, after FROM module WHERE change_set = ?";
        self.list(sql, id, |row| Ok(ModuleChange { name: row.get(0)?, before: row.get(1)?, after: row.get(2)? }))
    }

    /// What a change set moved.
    pub(crate) fn movings(&self, id: i64) -> Result<Vec<MovingRow>, LedgerError> {
        let sql = "SELECT part, root, path_from, path_to, link, file, text_before, text_after, keeper, moved
                   FROM moving WHERE change_set = ?";
        self.list(sql, id, |row| {
            Ok(MovingRow {
                part: row.get(0)?,
                root: path_of(row, 1)?,
                from: path_of(row, 2)?,
                to: path_of(row, 3)?,
                link: row.get(4)?,
                file: path_of(row, 5)?,
                text_before: row.get(6)?,
                text_after: row.get(7)?,
                keeper: Uid(row.get(8)?),
                moved: identity_of(row, 9)?,
            })
        })
    }

    /// What a change set made.
    pub(crate) fn creations(&self, id: i64) -> Result<Vec<CreationRow>, LedgerError> {
        let rights = self.rights_of(id)?;
        let sql = "SELECT path, kind, rights, content, above, made FROM creation WHERE change_set = ?";
        let read = |row: &Row<'_>| {
            let (kind, number) = (kind_of(row.get(1)?), row.get::<_, i64>(2)?);
            let content: Option<Vec<u8>> = row.get(3)?;
            let made = kind.zip(rights.get(&number).cloned());
            let (path, above, found) = (path_of(row, 0)?, identity_of(row, 4)?, identity_of(row, 5)?);
            Ok(made.map(|(kind, rights)| {
                let content = content.unwrap_or_default();
                CreationRow { path, kind, rights, content, above, made: found }
            }))
        };
        let rows = self.list(sql, id, read)?;
        rows.into_iter().map(|found| found.ok_or_else(|| self.damaged("a path that was made"))).collect()
    }

    fn list<T>(
        &self,
        sql: &str,
        id: i64,
        read: impl Fn(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, LedgerError> {
        let failed = self.failed("read");
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([id], |row| read(row)).map_err(&failed)?;
        rows.map(|row| row.map_err(&failed)).collect()
    }
}

/// The row of a change set's change with this number: those of one set stand together, in their order.
const fn turn_id(set: i64, number: i64) -> i64 {
    (set << 40) + number
}

const KINDS: [Kind; 6] = [Kind::File, Kind::Directory, Kind::Symlink, Kind::Fifo, Kind::Socket, Kind::Device];

fn kind_number(kind: Kind) -> i64 {
    KINDS.iter().position(|k| *k == kind).and_then(|n| i64::try_from(n).ok()).unwrap_or_default()
}

fn kind_of(number: i64) -> Option<Kind> {
    KINDS.get(usize::try_from(number).ok()?).copied()
}

const fn as_u64(number: i64) -> u64 {
    number.cast_unsigned()
}

/// An identity as a row holds it.
fn identity_bytes(id: &Identity) -> [u8; 24] {
    let mut bytes = [0; 24];
    let numbers = [id.dev.to_le_bytes(), id.ino.to_le_bytes(), id.born.to_le_bytes()];
    bytes.chunks_exact_mut(8).zip(numbers).for_each(|(to, number)| to.copy_from_slice(&number));
    bytes
}

/// The identity in a column; none where there is none, or none that can be read.
fn identity_of(row: &Row<'_>, column: usize) -> rusqlite::Result<Option<Identity>> {
    let bytes: Option<Vec<u8>> = row.get(column)?;
    let number = |bytes: &[u8], at: usize| Some(u64::from_le_bytes(bytes.get(at..at + 8)?.try_into().ok()?));
    Ok(bytes.and_then(|bytes| {
        let (dev, ino, born) = (number(&bytes, 0)?, number(&bytes, 8)?, number(&bytes, 16)?.cast_signed());
        Some(Identity { dev, ino, born })
    }))
}

fn path_of(row: &Row<'_>, column: usize) -> rusqlite::Result<PathBuf> {
    row.get::<_, Vec<u8>>(column).map(|bytes| PathBuf::from(OsString::from_vec(bytes)))
}

fn rights_row(row: &Row<'_>) -> rusqlite::Result<(i64, Option<Rights>)> {
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

fn change_set(row: &Row<'_>) -> rusqlite::Result<Option<ChangeSet>> {
    let begun: String = row.get(3)?;
    let ended: Option<String> = row.get(4)?;
    let (before, after): (String, String) = (row.get(6)?, row.get(7)?);
    let (id, site, command, process) = (row.get(0)?, row.get(1)?, row.get(2)?, row.get(5)?);
    let (undoes, undone_by, done, failed, removed) =
        (row.get(8)?, row.get(9)?, row.get(10)?, row.get(11)?, row.get(12)?);
    let (settled, recorded) = (row.get(13)?, row.get(14)?);
    let read = || {
        let ended = match ended {
            Some(text) => Some(text.parse().ok()?),
            None => None,
        };
        let (phase_before, phase_after) = (Phase::of_word(&before)?, Phase::of_word(&after)?);
        let begun = begun.parse().ok()?;
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
        })
    };
    Ok(read())
}

#[cfg(test)]
mod tests;
