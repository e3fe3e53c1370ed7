//! The ledger: what was there before each change, durable before the change is made (`SQLite`).

use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension, Row, params};

use super::rights::Turn;
use super::state::{StateDir, StateError};
use crate::account::{Gid, Uid};
use crate::acl::Acl;
use crate::entry::{Identity, Kind, Rights};
use crate::mode::Mode;
use crate::shown::Shown;
use crate::site::{Phase, Word};

/// The ledger's file in the state directory.
const FILE: &str = "ledger.sqlite3";
/// The version of the tables below.
const VERSION: i64 = 1;
const TABLES: &str = "
CREATE TABLE change_set (
  id INTEGER PRIMARY KEY, site TEXT NOT NULL, command TEXT NOT NULL, begun TEXT NOT NULL, ended TEXT,
  process INTEGER NOT NULL, phase_before TEXT NOT NULL, phase_after TEXT NOT NULL,
  undoes INTEGER REFERENCES change_set(id), undone_by INTEGER REFERENCES change_set(id),
  done INTEGER NOT NULL DEFAULT 0, failed INTEGER NOT NULL DEFAULT 0);
CREATE TABLE folder (id INTEGER PRIMARY KEY, path BLOB NOT NULL UNIQUE);
CREATE TABLE rights (
  id INTEGER PRIMARY KEY, uid INTEGER NOT NULL, gid INTEGER NOT NULL, mode INTEGER NOT NULL,
  acl BLOB, default_acl BLOB, capabilities BLOB);
CREATE TABLE turn (
  change_set INTEGER NOT NULL, number INTEGER NOT NULL, folder INTEGER NOT NULL, name BLOB NOT NULL,
  kind INTEGER NOT NULL, dev INTEGER NOT NULL, ino INTEGER NOT NULL, links INTEGER NOT NULL,
  before INTEGER NOT NULL, after INTEGER NOT NULL, failed TEXT,
  PRIMARY KEY (change_set, number)) WITHOUT ROWID;
CREATE TABLE creation (
  change_set INTEGER NOT NULL, path BLOB NOT NULL, kind INTEGER NOT NULL, rights INTEGER NOT NULL);
CREATE TABLE removal (
  change_set INTEGER NOT NULL, path BLOB NOT NULL, reason TEXT NOT NULL, keepsake TEXT, files INTEGER NOT NULL,
  before_times BLOB, after_times BLOB);
CREATE TABLE restoring (
  change_set INTEGER NOT NULL, path BLOB NOT NULL, keepsake TEXT NOT NULL);
CREATE TABLE site (name TEXT PRIMARY KEY, phase TEXT NOT NULL, until TEXT) WITHOUT ROWID;
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
    #[error("cannot {op} the ledger {}: {cause}", Shown(.path))]
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
}

/// A site's phase, and until when it holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SitePhase {
    /// The phase.
    pub phase: Phase,
    /// When a window ends.
    pub until: Option<Timestamp>,
}

impl Default for SitePhase {
    fn default() -> Self {
        Self { phase: Phase::Sealed, until: None }
    }
}

/// A change of rights as the ledger holds it.
#[derive(Clone, Debug)]
pub(crate) struct TurnRow {
    pub(crate) folder: PathBuf,
    pub(crate) name: OsString,
    pub(crate) turn: Turn,
    pub(crate) failed: bool,
}

/// A removal as the ledger holds it.
#[derive(Clone, Debug)]
pub(crate) struct RemovalRow {
    pub(crate) path: PathBuf,
    pub(crate) keepsake: Option<String>,
    pub(crate) before_times: Option<Vec<u8>>,
    pub(crate) after_times: Option<Vec<u8>>,
}

/// A path that was made.
#[derive(Clone, Debug)]
pub(crate) struct CreationRow {
    pub(crate) path: PathBuf,
    pub(crate) kind: Kind,
    pub(crate) rights: Arc<Rights>,
}

/// Something that came back out of a keepsake.
#[derive(Clone, Debug)]
pub(crate) struct RestoringRow {
    pub(crate) path: PathBuf,
}

/// A change set being written.
#[derive(Debug)]
pub(crate) struct Entry<'l> {
    pub(crate) id: i64,
    ledger: &'l mut Ledger,
    rights: HashMap<Rights, i64>,
    folders: HashMap<PathBuf, i64>,
    number: i64,
}

impl Ledger {
    /// Opens the ledger, making it where it is missing.
    pub fn open_or_create(state: &StateDir) -> Result<Self, LedgerError> {
        state.ensure_file(FILE)?;
        Self::at(state)
    }

    /// Opens the ledger where there is one.
    pub fn open(state: &StateDir) -> Result<Option<Self>, LedgerError> {
        if state.has(FILE) { Self::at(state).map(Some) } else { Ok(None) }
    }

    fn at(state: &StateDir) -> Result<Self, LedgerError> {
        let path = state.path().join(FILE);
        let failed = |op| {
            let path = path.clone();
            move |cause| LedgerError::Failed { op, path, cause }
        };
        let db = Connection::open(state.pinned(FILE)).map_err(failed("open"))?;
        db.busy_timeout(std::time::Duration::from_secs(10)).map_err(failed("open"))?;
        let found: i64 = db.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(failed("read"))?;
        if found > VERSION {
            return Err(LedgerError::Newer { path, found });
        }
        // Full: a commit is on the disk when it returns.
        db.execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON;")
            .map_err(failed("write"))?;
        if found == 0 {
            db.execute_batch(&format!("BEGIN IMMEDIATE; {TABLES} PRAGMA user_version = {VERSION}; COMMIT;"))
                .map_err(failed("write"))?;
        }
        Ok(Self { db, path })
    }

    fn failed(&self, op: &'static str) -> impl Fn(rusqlite::Error) -> LedgerError + use<> {
        let path = self.path.clone();
        move |cause| LedgerError::Failed { op, path: path.clone(), cause }
    }

    fn damaged(&self, what: &'static str) -> LedgerError {
        LedgerError::Damaged { path: self.path.clone(), what }
    }

    /// All change sets, the newest first.
    pub fn change_sets(&self) -> Result<Vec<ChangeSet>, LedgerError> {
        let failed = self.failed("read");
        let sql = "SELECT id, site, command, begun, ended, process, phase_before, phase_after, undoes, undone_by, done, failed,
                   (SELECT coalesce(sum(files), 0) FROM removal WHERE change_set = id) FROM change_set ORDER BY id DESC";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([], change_set).map_err(&failed)?;
        rows.map(|row| row.map_err(&failed)?.ok_or_else(|| self.damaged("a change set"))).collect()
    }

    /// A site's phase.
    pub fn phase(&self, site: &str) -> Result<SitePhase, LedgerError> {
        let sql = "SELECT phase, until FROM site WHERE name = ?";
        let read = |row: &Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, Option<String>>(1)?));
        let found = self.db.query_row(sql, [site], read).optional().map_err(self.failed("read"))?;
        let Some((phase, until)) = found else { return Ok(SitePhase::default()) };
        let phase = Phase::of_word(&phase).ok_or_else(|| self.damaged("a site's phase"))?;
        let until = until.map(|text| text.parse()).transpose().map_err(|_| self.damaged("a window's end"))?;
        Ok(SitePhase { phase, until })
    }

    /// Begins a change set; what it is to change is recorded in it before it is changed.
    pub(crate) fn begin(
        &mut self,
        site: &str,
        command: &str,
        phases: (Phase, Phase),
        undoes: Option<i64>,
    ) -> Result<Entry<'_>, LedgerError> {
        let sql = "INSERT INTO change_set (site, command, begun, process, phase_before, phase_after, undoes) VALUES (?,?,?,?,?,?,?)";
        let begun = Timestamp::now().to_string();
        let (before, after) = (phases.0.word(), phases.1.word());
        self.db
            .execute(sql, params![site, command, begun, std::process::id(), before, after, undoes])
            .map_err(self.failed("write"))?;
        let id = self.db.last_insert_rowid();
        Ok(Entry { id, ledger: self, rights: HashMap::new(), folders: HashMap::new(), number: 0 })
    }

    /// The changes of rights of a change set, in order.
    pub(crate) fn turns(&self, id: i64) -> Result<Vec<TurnRow>, LedgerError> {
        let failed = self.failed("read");
        let rights = self.rights_of(id)?;
        let sql = "SELECT folder.path, name, kind, dev, ino, links, before, after, turn.failed IS NOT NULL
                   FROM turn JOIN folder ON folder.id = folder WHERE change_set = ? ORDER BY number";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let mut rows = statement.query([id]).map_err(&failed)?;
        let mut turns = Vec::new();
        while let Some(row) = rows.next().map_err(&failed)? {
            let read = || -> rusqlite::Result<_> {
                let kind = kind_of(row.get(2)?);
                let (before, after): (i64, i64) = (row.get(6)?, row.get(7)?);
                let (before, after) = (rights.get(&before).cloned(), rights.get(&after).cloned());
                let id = Identity { dev: as_u64(row.get(3)?), ino: as_u64(row.get(4)?) };
                Ok((path_of(row, 0)?, path_of(row, 1)?, kind, id, row.get::<_, u32>(5)?, before, after, row.get(8)?))
            };
            let (folder, name, kind, id, links, before, after, failed) = read().map_err(&failed)?;
            let (Some(kind), Some(before), Some(after)) = (kind, before, after) else {
                return Err(self.damaged("a change"));
            };
            let turn = Turn { id, kind, links, before, after };
            turns.push(TurnRow { folder, name: name.into_os_string(), turn, failed });
        }
        Ok(turns)
    }

    fn rights_of(&self, id: i64) -> Result<HashMap<i64, Arc<Rights>>, LedgerError> {
        let failed = self.failed("read");
        let sql = "SELECT id, uid, gid, mode, acl, default_acl, capabilities FROM rights WHERE id IN
                   (SELECT before FROM turn WHERE change_set = ?1 UNION SELECT after FROM turn WHERE change_set = ?1
                    UNION SELECT rights FROM creation WHERE change_set = ?1)";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([id], rights_row).map_err(&failed)?;
        let mut found = HashMap::new();
        for row in rows {
            let (id, rights) = row.map_err(&failed)?;
            found.insert(id, Arc::new(rights.ok_or_else(|| self.damaged("owner, mode or access list"))?));
        }
        Ok(found)
    }

    /// The removals of a change set.
    pub(crate) fn removals(&self, id: i64) -> Result<Vec<RemovalRow>, LedgerError> {
        let sql = "SELECT path, keepsake, before_times, after_times FROM removal WHERE change_set = ?";
        self.list(sql, id, |row| {
            Ok(RemovalRow {
                path: path_of(row, 0)?,
                keepsake: row.get(1)?,
                before_times: row.get(2)?,
                after_times: row.get(3)?,
            })
        })
    }

    /// What a change set put back out of keepsakes.
    pub(crate) fn restorings(&self, id: i64) -> Result<Vec<RestoringRow>, LedgerError> {
        let sql = "SELECT path FROM restoring WHERE change_set = ?";
        self.list(sql, id, |row| Ok(RestoringRow { path: path_of(row, 0)? }))
    }

    /// What a change set made.
    pub(crate) fn creations(&self, id: i64) -> Result<Vec<CreationRow>, LedgerError> {
        let rights = self.rights_of(id)?;
        let sql = "SELECT path, kind, rights FROM creation WHERE change_set = ?";
        let rows = self.list(sql, id, |row| Ok((path_of(row, 0)?, kind_of(row.get(1)?), row.get::<_, i64>(2)?)))?;
        let row = |(path, kind, id): (PathBuf, Option<Kind>, i64)| {
            Some(CreationRow { path, kind: kind?, rights: Arc::clone(rights.get(&id)?) })
        };
        rows.into_iter().map(|found| row(found).ok_or_else(|| self.damaged("a path that was made"))).collect()
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

impl Entry<'_> {
    fn failed(&self) -> impl Fn(rusqlite::Error) -> LedgerError + use<> {
        self.ledger.failed("write")
    }

    /// Records changes of rights, durably. The answer is the number of the first.
    pub(crate) fn record<'t>(
        &mut self,
        turns: impl Iterator<Item = (&'t Path, &'t OsStr, &'t Turn)>,
    ) -> Result<i64, LedgerError> {
        let failed = self.failed();
        let first = self.number;
        self.ledger.db.execute_batch("BEGIN IMMEDIATE").map_err(&failed)?;
        let recorded = self.record_in_transaction(turns);
        let end = if recorded.is_ok() { "COMMIT" } else { "ROLLBACK" };
        let ended = self.ledger.db.execute_batch(end).map_err(&failed);
        recorded?;
        ended?;
        Ok(first)
    }

    fn record_in_transaction<'t>(
        &mut self,
        turns: impl Iterator<Item = (&'t Path, &'t OsStr, &'t Turn)>,
    ) -> Result<(), LedgerError> {
        let failed = self.failed();
        for (folder, name, turn) in turns {
            let folder = self.folder(folder)?;
            let (before, after) = (self.rights(&turn.before)?, self.rights(&turn.after)?);
            let sql = "INSERT INTO turn (change_set, number, folder, name, kind, dev, ino, links, before, after) VALUES (?,?,?,?,?,?,?,?,?,?)";
            let mut statement = self.ledger.db.prepare_cached(sql).map_err(&failed)?;
            statement
                .execute(params![
                    self.id,
                    self.number,
                    folder,
                    name.as_bytes(),
                    kind_number(turn.kind),
                    turn.id.dev.cast_signed(),
                    turn.id.ino.cast_signed(),
                    turn.links,
                    before,
                    after
                ])
                .map_err(&failed)?;
            self.number += 1;
        }
        Ok(())
    }

    fn folder(&mut self, path: &Path) -> Result<i64, LedgerError> {
        if let Some(&id) = self.folders.get(path) {
            return Ok(id);
        }
        let failed = self.failed();
        let db = &self.ledger.db;
        let bytes = path.as_os_str().as_bytes();
        db.prepare_cached("INSERT OR IGNORE INTO folder (path) VALUES (?)")
            .and_then(|mut s| s.execute([bytes]))
            .map_err(&failed)?;
        let id = db
            .prepare_cached("SELECT id FROM folder WHERE path = ?")
            .and_then(|mut s| s.query_row([bytes], |row| row.get(0)))
            .map_err(&failed)?;
        self.folders.insert(path.to_owned(), id);
        Ok(id)
    }

    fn rights(&mut self, rights: &Rights) -> Result<i64, LedgerError> {
        if let Some(&id) = self.rights.get(rights) {
            return Ok(id);
        }
        let failed = self.failed();
        let bytes = |acl: &Option<Arc<Acl>>| acl.as_ref().map(|acl| acl.to_attribute());
        let values = params![
            rights.uid.0,
            rights.gid.0,
            rights.mode.bits(),
            bytes(&rights.acl),
            bytes(&rights.default_acl),
            rights.capabilities.as_deref()
        ];
        let sql = "INSERT INTO rights (uid, gid, mode, acl, default_acl, capabilities) VALUES (?,?,?,?,?,?)";
        self.ledger.db.execute(sql, values).map_err(&failed)?;
        let id = self.ledger.db.last_insert_rowid();
        self.rights.insert(rights.clone(), id);
        Ok(id)
    }

    /// Records that a change was not made.
    pub(crate) fn failed_turns(&mut self, turns: &[(i64, String)]) -> Result<(), LedgerError> {
        let failed = self.failed();
        let transaction = self.ledger.db.transaction().map_err(&failed)?;
        for (number, why) in turns {
            let sql = "UPDATE turn SET failed = ? WHERE change_set = ? AND number = ?";
            transaction
                .prepare_cached(sql)
                .and_then(|mut s| s.execute(params![why, self.id, number]))
                .map_err(&failed)?;
        }
        transaction.commit().map_err(&failed)
    }

    /// Records a path that is about to be made.
    pub(crate) fn creation(&mut self, path: &Path, kind: Kind, rights: &Rights) -> Result<(), LedgerError> {
        let failed = self.failed();
        let rights = self.rights(rights)?;
        let sql = "INSERT INTO creation (change_set, path, kind, rights) VALUES (?,?,?,?)";
        let values = params![self.id, path.as_os_str().as_bytes(), kind_number(kind), rights];
        self.ledger.db.execute(sql, values).map_err(failed).map(|_| ())
    }

    /// Records a path that is about to be removed, with the number of paths in it and where they are kept.
    pub(crate) fn removal(
        &mut self,
        path: &Path,
        reason: &str,
        keepsake: Option<&str>,
        files: usize,
        times: &[u8],
    ) -> Result<(), LedgerError> {
        let sql = "INSERT INTO removal (change_set, path, reason, keepsake, files, before_times) VALUES (?,?,?,?,?,?)";
        let files = i64::try_from(files).unwrap_or(i64::MAX);
        let values = params![self.id, path.as_os_str().as_bytes(), reason, keepsake, files, times];
        self.ledger.db.execute(sql, values).map_err(self.failed()).map(|_| ())
    }

    /// Records the times that the directory of a removed path was left with.
    pub(crate) fn removed(&mut self, path: &Path, times: &[u8]) -> Result<(), LedgerError> {
        let sql = "UPDATE removal SET after_times = ? WHERE change_set = ? AND path = ?";
        let values = params![times, self.id, path.as_os_str().as_bytes()];
        self.ledger.db.execute(sql, values).map_err(self.failed()).map(|_| ())
    }

    /// Records a path that is about to be put back.
    pub(crate) fn restoring(&mut self, path: &Path, keepsake: &str) -> Result<(), LedgerError> {
        let sql = "INSERT INTO restoring (change_set, path, keepsake) VALUES (?,?,?)";
        let values = params![self.id, path.as_os_str().as_bytes(), keepsake];
        self.ledger.db.execute(sql, values).map_err(self.failed()).map(|_| ())
    }

    /// Ends the change set: the site's phase, the counts, and, of one that takes another back, the mark on that.
    pub(crate) fn end(self, done: u64, failed: u64, takes_back: Option<TakenBack>) -> Result<i64, LedgerError> {
        let error = self.failed();
        let id = self.id;
        let count = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
        let transaction = self.ledger.db.transaction().map_err(&error)?;
        let steps = || -> rusqlite::Result<()> {
            let sql = "UPDATE change_set SET ended = ?, done = ?, failed = ? WHERE id = ?";
            transaction.execute(sql, params![Timestamp::now().to_string(), count(done), count(failed), id])?;
            let sql = "INSERT INTO site (name, phase) SELECT site, phase_after FROM change_set WHERE id = ?1 AND phase_after <> phase_before
                       ON CONFLICT (name) DO UPDATE SET phase = excluded.phase, until = NULL";
            transaction.execute(sql, [id])?;
            if let Some(TakenBack { set, whole }) = takes_back {
                // What it had taken back itself is in force again.
                transaction.execute("UPDATE change_set SET undone_by = NULL WHERE undone_by = ?", [set])?;
                if whole {
                    transaction.execute("UPDATE change_set SET undone_by = ? WHERE id = ?", [id, set])?;
                }
            }
            Ok(())
        };
        steps().map_err(&error)?;
        transaction.commit().map_err(&error)?;
        Ok(id)
    }
}

/// The change set that another takes back.
#[derive(Clone, Copy, Debug)]
pub(crate) struct TakenBack {
    pub(crate) set: i64,
    /// Whether all of it was.
    pub(crate) whole: bool,
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
    let rights = (|| {
        Some(Rights {
            uid: Uid(row.get(1).ok()?),
            gid: Gid(row.get(2).ok()?),
            mode: Mode::new(row.get(3).ok()?)?,
            acl: acl?,
            default_acl: default_acl?,
            capabilities: capabilities.map(Into::into),
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
            process,
            phase_before,
            phase_after,
            undoes,
            undone_by,
            done,
            failed,
            removed,
        })
    };
    Ok(read())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ledger() -> (tempfile::TempDir, StateDir, Ledger) {
        let dir = tempfile::tempdir().unwrap();
        let state = StateDir::open_or_create(&dir.path().join("state")).unwrap();
        let ledger = Ledger::open_or_create(&state).unwrap();
        (dir, state, ledger)
    }

    fn turn() -> Turn {
        let acl = Acl::with_users(crate::mode::Perm::RW, crate::mode::Perm::R, crate::mode::Perm::NONE, &[]);
        let before = Rights {
            uid: Uid(u32::MAX - 2),
            gid: Gid(5),
            mode: Mode::of_st_mode(0o4755),
            acl: Some(Arc::new(acl)),
            default_acl: None,
            capabilities: Some([1, 2, 0, 3][..].into()),
        };
        let after = Rights { uid: Uid(0), acl: None, capabilities: None, ..before.clone() };
        let id = Identity { dev: u64::MAX, ino: 7 };
        Turn { id, kind: Kind::File, links: 1, before: Arc::new(before), after: Arc::new(after) }
    }

    #[test]
    fn what_is_recorded_comes_back() {
        let (_dir, state, mut ledger) = ledger();
        let turn = turn();
        let name = OsStr::from_bytes(b"new\nline\xff");
        let mut entry = ledger.begin("berths", "seal", (Phase::Open, Phase::Sealed), None).unwrap();
        entry.record([(Path::new("/srv/www"), name, &turn)].into_iter()).unwrap();
        entry.failed_turns(&[(0, "why".into())]).unwrap();
        let id = entry.end(0, 1, None).unwrap();
        drop(ledger);
        let ledger = Ledger::open(&state).unwrap().unwrap();
        let [row] = &ledger.turns(id).unwrap()[..] else { panic!("one turn") };
        assert_eq!((&*row.folder, &*row.name, row.failed), (Path::new("/srv/www"), name, true));
        assert_eq!((&row.turn.before, &row.turn.after, row.turn.id), (&turn.before, &turn.after, turn.id));
        assert_eq!(ledger.phase("berths").unwrap().phase, Phase::Sealed);
        let set = &ledger.change_sets().unwrap()[0];
        assert_eq!((&*set.command, set.failed, set.ended.is_some()), ("seal", 1, true));
    }

    #[test]
    fn a_newer_ledger_is_left_alone() {
        let (_dir, state, ledger) = ledger();
        ledger.db.execute_batch("PRAGMA user_version = 99").unwrap();
        drop(ledger);
        let said = Ledger::open(&state).unwrap_err().to_string();
        assert!(said.contains("was written by a newer Ambrik (its version is 99"), "{said}");
    }

    #[test]
    fn a_damaged_row_is_an_error_not_a_panic() {
        let (_dir, _state, mut ledger) = ledger();
        let mut entry = ledger.begin("berths", "set", (Phase::Sealed, Phase::Sealed), None).unwrap();
        entry.record([(Path::new("/srv"), OsStr::new("a"), &turn())].into_iter()).unwrap();
        let id = entry.id;
        ledger.db.execute_batch("UPDATE rights SET mode = 99999; UPDATE change_set SET begun = 'never'").unwrap();
        assert!(matches!(ledger.turns(id), Err(LedgerError::Damaged { .. })));
        assert!(matches!(ledger.change_sets(), Err(LedgerError::Damaged { .. })));
    }

    #[test]
    fn the_files_are_for_the_owner_alone() {
        use std::os::unix::fs::MetadataExt;
        let (dir, _state, ledger) = ledger();
        for file in std::fs::read_dir(dir.path().join("state")).unwrap() {
            let file = file.unwrap();
            assert_eq!(file.metadata().unwrap().mode() & 0o077, 0, "{:?}", file.path());
        }
        drop(ledger);
    }
}
