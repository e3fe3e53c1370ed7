//! The ledger: what was there before each change, durable before the change is made (`SQLite`).

mod audits;
mod block;
mod brought;
mod changes;
mod entry;
mod invocation;
mod known;
mod proven;
mod purging;
mod rows;
mod schema;
mod told;

use std::collections::BTreeMap;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use rusqlite::{Connection, ErrorCode, OptionalExtension, Row, TransactionBehavior, params};

use super::keepsake::Successors;
use super::state::{StateDir, StateError};
use crate::account::Uid;
use crate::entry::{Identity, Nanos, TreePath};
use crate::shown::Shown;
use crate::site::{Phase, Word};
use crate::tree::sys;

pub use audits::AuditRecord;
pub(crate) use changes::RightsRows;
pub(crate) use entry::{CameOf, Recorder, TakenBack};
pub use known::HowChanged;
pub(crate) use known::Known;
pub use rows::{ChangeCommand, ChangeSet, ModuleChange, SitePhase, Window, deployments};
pub(crate) use rows::{CreationRow, MovingRow, PlaceRow, RemovalRow, RestoringRow, RightsRow};
use rows::{as_u64, change_set, identity_bytes, identity_of, kind_number, kind_of, path_of, turn_id};
use schema::{STEPS, TABLES, VERSION};
pub use told::{Did, PathChange};

/// The ledger's file in the state directory.
const FILE: &str = "ledger.sqlite3";
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

/// What archives brought.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Delivered {
    /// The newest change set that unpacked one.
    pub set: i64,
    /// When that was.
    pub when: Timestamp,
    /// Their files, by the paths below the site's root.
    pub(crate) files: BTreeMap<TreePath<'static>, DeliveredFile>,
}

/// A folder that an archive was unpacked in, before what is in it got its names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct StagingRow {
    pub(crate) path: PathBuf,
    /// Which inode it was, where the run came to record it.
    pub(crate) made: Option<Identity>,
}

/// A file that archives brought.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct DeliveredFile {
    /// The BLAKE3 sums of its versions, the newest last.
    pub(crate) sums: Vec<[u8; 32]>,
    /// When the newest was in its place for certain, in nanoseconds since 1970.
    pub(crate) there: Nanos,
}

impl Delivered {
    /// Whether a file's content is one that an archive brought there; none where none brought any.
    #[must_use]
    pub fn brought(&self, path: &Path, sum: Option<[u8; 32]>) -> Option<bool> {
        self.files.get(&TreePath::of(path)).map(|file| sum.is_some_and(|sum| file.sums.contains(&sum)))
    }
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
                STEPS
                    .iter()
                    .filter(|(version, _)| *version >= found)
                    .try_for_each(|(_, step)| step.take(&transaction))?;
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
                     THEN (SELECT coalesce(sum(count), 0) FROM rights_changes r
                             WHERE r.id >= change_set.id << 40 AND r.id < (change_set.id + 1) << 40)
                        - (SELECT count(*) FROM rights_outcome r
                             WHERE not_begun AND r.id >= change_set.id << 40 AND r.id < (change_set.id + 1) << 40)
                     ELSE 0 END, who, line, purged, written
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
        command: ChangeCommand,
        phases: (Phase, Phase),
        undoes: Option<i64>,
    ) -> Result<Recorder<'_>, LedgerError> {
        self.writing()?;
        let sql = "INSERT INTO change_set (site, command, begun, process, phase_before, phase_after, undoes, who, line) VALUES (?,?,?,?,?,?,?,?,?)";
        let (who, line) = (invocation::who(), invocation::line());
        let begun = Timestamp::now().to_string();
        let (before, after) = (phases.0.word(), phases.1.word());
        self.db
            .execute(sql, params![site, command.word(), begun, std::process::id(), before, after, undoes, who, line])
            .map_err(self.failed("write"))?;
        let id = self.db.last_insert_rowid();
        Ok(Recorder::new(id, self))
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
            set.site == site
                && set.command == ChangeCommand::Open
                && set.undone_by.is_none()
                && set.phase_before == Phase::Sealed
        });
        let Some(opened) = opened else { return Ok(None) };
        let made = self.creations(opened.id)?.into_iter().map(|creation| creation.path);
        Ok(Some((opened.begun, made.collect())))
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

    /// The SELinux booleans that a change set switched, and whether on.
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

    /// What archives brought to a site, but for what was taken back; none where it was never unpacked.
    pub fn delivered(&self, site: &str) -> Result<Option<Delivered>, LedgerError> {
        let failed = self.failed("read");
        let damaged = || self.damaged("what an archive brought");
        let sql = "SELECT id, begun, CASE WHEN settled THEN begun ELSE coalesce(ended, begun) END FROM change_set
                   WHERE site = ? AND undone_by IS NULL AND id IN (SELECT change_set FROM brought) ORDER BY id";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let text = |row: &Row<'_>, column| row.get::<_, String>(column);
        let sets = statement.query_map([site], |row| Ok((row.get::<_, i64>(0)?, text(row, 1)?, text(row, 2)?)));
        let sets = sets.and_then(Iterator::collect::<Result<Vec<_>, _>>).map_err(&failed)?;
        let mut found: Option<Delivered> = None;
        let mut statement =
            self.db.prepare("SELECT count, block FROM brought WHERE change_set = ? ORDER BY id").map_err(&failed)?;
        for (set, begun, ended) in sets {
            let when = begun.parse().map_err(|_| damaged())?;
            let ended = ended.parse::<Timestamp>().map_err(|_| damaged())?.as_nanosecond();
            let there = Nanos::try_from(ended).unwrap_or(Nanos::MAX);
            let delivered = found.get_or_insert_with(|| Delivered { set, when, files: BTreeMap::new() });
            (delivered.set, delivered.when) = (set, when);
            let mut rows = statement.query([set]).map_err(&failed)?;
            let mut files = Vec::new();
            while let Some(row) = rows.next().map_err(&failed)? {
                let (count, block) = (row.get(0).map_err(&failed)?, row.get::<_, Vec<u8>>(1).map_err(&failed)?);
                files.extend(brought::read(&block, count).ok_or_else(damaged)?);
            }
            let files = files.into_iter().map(|(path, sum)| (TreePath::from(path), sum));
            if delivered.files.is_empty() {
                // They stand in order: no place is looked for.
                delivered.files = files.map(|(path, sum)| (path, DeliveredFile { sums: vec![sum], there })).collect();
                continue;
            }
            for (path, sum) in files {
                let file = delivered.files.entry(path).or_default();
                file.sums.push(sum);
                file.there = there;
            }
        }
        Ok(found)
    }

    /// Where archives of a site were unpacked before what is in them got its names.
    pub(crate) fn stagings(&self, site: &str) -> Result<Vec<StagingRow>, LedgerError> {
        let failed = self.failed("read");
        let mut statement = self.db.prepare("SELECT path, made FROM staging WHERE site = ?").map_err(&failed)?;
        let read = |row: &Row<'_>| Ok(StagingRow { path: path_of(row, 0)?, made: identity_of(row, 1)? });
        let rows = statement.query_map([site], read).map_err(&failed)?;
        rows.map(|row| row.map_err(&failed)).collect()
    }

    /// Forgets where an archive was unpacked: nothing is there any more.
    pub(crate) fn staged(&mut self, path: &Path) -> Result<(), LedgerError> {
        self.writing()?;
        let sql = "DELETE FROM staging WHERE path = ?";
        self.db.execute(sql, params![path.as_os_str().as_bytes()]).map_err(self.failed("write")).map(|_| ())
    }

    /// What a change set made.
    pub(crate) fn creations(&self, id: i64) -> Result<Vec<CreationRow>, LedgerError> {
        let rights = self.rights_of(id)?;
        let sql = "SELECT path, kind, rights, content, above, made, sum FROM creation WHERE change_set = ?";
        let read = |row: &Row<'_>| {
            let (kind, number) = (kind_of(row.get(1)?), row.get::<_, i64>(2)?);
            let content: Option<Vec<u8>> = row.get(3)?;
            let sum = row.get::<_, Option<Vec<u8>>>(6)?.and_then(|sum| sum.try_into().ok());
            let made = kind.zip(rights.get(&number).cloned());
            let (path, above, found) = (path_of(row, 0)?, identity_of(row, 4)?, identity_of(row, 5)?);
            Ok(made.map(|(kind, rights)| {
                let content = content.unwrap_or_default();
                CreationRow { path, kind, rights, content, sum, above, made: found }
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

#[cfg(test)]
mod tests;
