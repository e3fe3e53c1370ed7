//! A change set being written: everything is recorded before it is changed.

use std::collections::{BTreeMap, HashMap};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use foldhash::fast::RandomState;
use jiff::Timestamp;
use rusqlite::params;

use super::block::{BlockWriter, CHANGES, Sort};
use super::known::{HowChanged, Known};
use super::{
    CreationRow, Ledger, LedgerError, ModuleChange, MovingRow, PlaceRow, StagingRow, Window, identity_bytes,
    kind_number, turn_id,
};
use crate::acl::Acl;
use crate::change::keepsake::Successors;
use crate::change::rights::{ChangeTime, RightsChange};
use crate::entry::{Identity, Kind, Nanos, Rights};

/// Puts a site into the phase that a change set leaves it in; a window ends as the last one opened says.
const PHASE: &str = "
WITH opened AS (SELECT site, until, parts FROM change_set WHERE command = 'open' AND until IS NOT NULL ORDER BY id DESC)
INSERT INTO site (name, phase, until, parts)
SELECT c.site, c.phase_after,
  CASE c.phase_after WHEN 'open' THEN (SELECT until FROM opened WHERE site = c.site LIMIT 1) END,
  CASE c.phase_after WHEN 'open' THEN (SELECT parts FROM opened WHERE site = c.site LIMIT 1) END
FROM change_set c WHERE c.id = ?1 AND (c.phase_after <> c.phase_before OR c.command = 'open')
ON CONFLICT (name) DO UPDATE SET phase = excluded.phase, until = excluded.until, parts = excluded.parts";

/// A change set being written.
#[derive(Debug)]
pub(crate) struct Recorder<'l> {
    pub(crate) id: i64,
    ledger: &'l mut Ledger,
    rights: HashMap<Rights, i64, RandomState>,
    number: i64,
}

impl<'l> Recorder<'l> {
    pub(super) fn new(id: i64, ledger: &'l mut Ledger) -> Self {
        Self { id, ledger, rights: HashMap::default(), number: 0 }
    }

    /// Which inodes stand for which: see [`Ledger::successors`].
    pub(crate) fn successors(&self) -> Result<Successors, LedgerError> {
        self.ledger.successors()
    }

    /// Whether another change set is of the same site.
    pub(crate) fn is_of_same_site(&self, other: i64) -> bool {
        let sql = "SELECT count(*) FROM change_set a JOIN change_set b ON a.site = b.site WHERE a.id = ? AND b.id = ?";
        let found: rusqlite::Result<i64> = self.ledger.db.query_row(sql, [self.id, other], |row| row.get(0));
        found.is_ok_and(|found| found > 0)
    }

    fn failed(&self) -> impl Fn(rusqlite::Error) -> LedgerError + use<> {
        self.ledger.failed("write")
    }

    /// Records changes of rights, durably. The answer is the number of the first.
    pub(crate) fn record<'t>(
        &mut self,
        turns: impl Iterator<Item = (&'t Path, &'t OsStr, &'t RightsChange)>,
    ) -> Result<i64, LedgerError> {
        self.ledger.writing()?;
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
        turns: impl Iterator<Item = (&'t Path, &'t OsStr, &'t RightsChange)>,
    ) -> Result<(), LedgerError> {
        let mut block = BlockWriter::default();
        // Most have the rights of the one before: these are compared by their place alone.
        let mut last: Option<([&Arc<Rights>; 2], [i64; 2])> = None;
        for (folder, name, turn) in turns {
            let both = [&turn.before, &turn.after];
            let rows = match last {
                Some((known, rows)) if known.iter().zip(both).all(|(one, other)| Arc::ptr_eq(one, other)) => rows,
                _ => [self.rights(&turn.before)?, self.rights(&turn.after)?],
            };
            last = Some((both, rows));
            let [before, after] = rows;
            let sort = Sort { kind: turn.kind, links: turn.links, dev: turn.id.dev, before, after };
            block.push(folder, name, sort, &turn.id);
            if block.len() == CHANGES {
                self.put(&std::mem::take(&mut block))?;
            }
        }
        if block.len() > 0 { self.put(&block) } else { Ok(()) }
    }

    fn put(&mut self, block: &BlockWriter) -> Result<(), LedgerError> {
        let first = turn_id(self.id, self.number);
        let count = i64::try_from(block.len()).unwrap_or(i64::MAX);
        let sql = "INSERT INTO rights_changes (id, count, block) VALUES (?,?,?)";
        let values = params![first, count, block.bytes()];
        self.ledger.db.prepare_cached(sql).and_then(|mut s| s.execute(values)).map_err(self.failed())?;
        self.number += count;
        Ok(())
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
            rights.capabilities.as_deref(),
            rights.label.as_ref().map(crate::security_context::SecurityContext::text),
            self.id
        ];
        let sql = "INSERT INTO rights (uid, gid, mode, acl, default_acl, capabilities, label, change_set)
                   VALUES (?,?,?,?,?,?,?,?)";
        self.ledger.db.execute(sql, values).map_err(&failed)?;
        let id = self.ledger.db.last_insert_rowid();
        self.rights.insert(rights.clone(), id);
        Ok(id)
    }

    /// Records what came of single changes of rights.
    pub(crate) fn came_of(&mut self, outcomes: &[(i64, CameOf)]) -> Result<(), LedgerError> {
        if outcomes.is_empty() {
            return Ok(());
        }
        self.ledger.writing()?;
        let failed = self.failed();
        let transaction = self.ledger.db.transaction().map_err(&failed)?;
        for (number, came) in outcomes {
            let (not_begun, why, left) = match came {
                CameOf::NotBegun => (true, None, None),
                CameOf::Failed(why) => (false, Some(why), None),
                CameOf::Left(time) => (false, None, Some(time)),
            };
            let sql = "INSERT INTO rights_outcome (id, not_begun, failed, left_seconds, left_nanos) VALUES (?,?,?,?,?)";
            let (seconds, nanos) = left.copied().unzip();
            let values = params![turn_id(self.id, *number), not_begun, why, seconds, nanos];
            transaction.prepare_cached(sql).and_then(|mut s| s.execute(values)).map_err(&failed)?;
        }
        transaction.commit().map_err(&failed)
    }

    /// Records how many paths were changed when a signal stopped the run.
    pub(crate) fn stopped(&self, done: u64) -> Result<(), LedgerError> {
        let done = i64::try_from(done).unwrap_or(i64::MAX);
        self.insert("UPDATE change_set SET done = ? WHERE id = ?", params![done, self.id]).map(|_| ())
    }

    /// Records a path that is about to be made in the directory `above`. The answer is for [`Self::made`].
    pub(crate) fn creation(
        &mut self,
        path: &Path,
        kind: Kind,
        rights: &Rights,
        content: &[u8],
        above: &Identity,
    ) -> Result<i64, LedgerError> {
        let rights = self.rights(rights)?;
        let sql = "INSERT INTO creation (change_set, path, kind, rights, content, above) VALUES (?,?,?,?,?,?)";
        let values =
            params![self.id, path.as_os_str().as_bytes(), kind_number(kind), rights, content, identity_bytes(above)];
        self.insert(sql, values)
    }

    /// Records what is about to get its names, whole already, and what the archive it is from has.
    pub(crate) fn laid(
        &mut self,
        creations: &[CreationRow],
        delivered: &[(PathBuf, [u8; 32])],
    ) -> Result<(), LedgerError> {
        self.ledger.writing()?;
        let rights = creations.iter().map(|row| self.rights(&row.rights)).collect::<Result<Vec<_>, _>>()?;
        let failed = self.failed();
        let transaction = self.ledger.db.transaction().map_err(&failed)?;
        let steps = || -> rusqlite::Result<()> {
            let sql = "INSERT INTO creation (change_set, path, kind, rights, content, above, made, sum) VALUES (?,?,?,?,?,?,?,?)";
            let mut made = transaction.prepare(sql)?;
            for (row, rights) in creations.iter().zip(rights) {
                let (path, kind) = (row.path.as_os_str().as_bytes(), kind_number(row.kind));
                let [above, id] = [&row.above, &row.made].map(|id| id.as_ref().map(identity_bytes));
                let sum = row.sum.as_ref().map(<[u8; 32]>::as_slice);
                made.execute(params![self.id, path, kind, rights, row.content, above, id, sum])?;
            }
            super::brought::write(&transaction, self.id, delivered)
        };
        steps().map_err(&failed)?;
        transaction.commit().map_err(&failed)
    }

    /// Takes what did not get its name out of the record, with what is in it.
    pub(crate) fn not_laid(&mut self, path: &Path) -> Result<(), LedgerError> {
        let below: Vec<u8> = [path.as_os_str().as_bytes(), b"/"].concat();
        let sql = "DELETE FROM creation WHERE change_set = ?1 AND (path = ?2 OR substr(path, 1, length(?3)) = ?3)";
        self.insert(sql, params![self.id, path.as_os_str().as_bytes(), below]).map(|_| ())
    }

    /// Records where an archive is about to be unpacked before what is in it gets its names.
    /// The answer is for [`Self::staging_made`].
    pub(crate) fn staging(&mut self, site: &str, path: &Path) -> Result<i64, LedgerError> {
        let sql = "INSERT INTO staging (change_set, site, path) VALUES (?,?,?)";
        self.insert(sql, params![self.id, site, path.as_os_str().as_bytes()])
    }

    /// Records which inode was made for that.
    pub(crate) fn staging_made(&mut self, staging: i64, made: &Identity) -> Result<(), LedgerError> {
        self.insert("UPDATE staging SET made = ? WHERE rowid = ?", params![identity_bytes(made), staging]).map(|_| ())
    }

    /// As [`Ledger::stagings`].
    pub(crate) fn stagings(&self, site: &str) -> Result<Vec<StagingRow>, LedgerError> {
        self.ledger.stagings(site)
    }

    /// As [`Ledger::staged`].
    pub(crate) fn staged(&mut self, path: &Path) -> Result<(), LedgerError> {
        self.ledger.staged(path)
    }

    /// Records which inode was made.
    pub(crate) fn made(&mut self, creation: i64, made: &Identity) -> Result<(), LedgerError> {
        self.insert("UPDATE creation SET made = ? WHERE rowid = ?", params![identity_bytes(made), creation]).map(|_| ())
    }

    /// Records a path that is about to be removed from the directory `above`, with the number of paths in it and where
    /// they are kept.
    pub(crate) fn removal(
        &mut self,
        path: &Path,
        above: &Identity,
        reason: &str,
        keepsake: Option<&str>,
        files: u64,
        times: &[u8],
    ) -> Result<i64, LedgerError> {
        let sql = "INSERT INTO removal (change_set, path, reason, keepsake, files, before_times, above) VALUES (?,?,?,?,?,?,?)";
        let files = i64::try_from(files).unwrap_or(i64::MAX);
        let path = path.as_os_str().as_bytes();
        self.insert(sql, params![self.id, path, reason, keepsake, files, times, identity_bytes(above)])
    }

    /// Makes one change to the ledger. The answer is the row that was inserted last.
    fn insert(&self, sql: &str, values: impl rusqlite::Params) -> Result<i64, LedgerError> {
        self.ledger.writing()?;
        self.ledger.db.execute(sql, values).map_err(self.failed())?;
        Ok(self.ledger.db.last_insert_rowid())
    }

    /// Records how many paths went, and the times that the directory of a removed path was left with.
    pub(crate) fn removed(&mut self, removal: i64, files: u64, times: &[u8]) -> Result<(), LedgerError> {
        let files = i64::try_from(files).unwrap_or(i64::MAX);
        let sql = "UPDATE removal SET files = ?, after_times = ? WHERE rowid = ?";
        self.insert(sql, params![files, times, removal]).map(|_| ())
    }

    /// Records a path that is about to be put back into the directory `above`. The answer is for [`Self::restored`].
    pub(crate) fn restoring(&mut self, path: &Path, keepsake: &str, above: &Identity) -> Result<i64, LedgerError> {
        let sql = "INSERT INTO restoring (change_set, path, keepsake, above) VALUES (?,?,?,?)";
        self.insert(sql, params![self.id, path.as_os_str().as_bytes(), keepsake, identity_bytes(above)])
    }

    /// Records which inode came back.
    pub(crate) fn restored(&mut self, restoring: i64, made: &Identity) -> Result<(), LedgerError> {
        let sql = "UPDATE restoring SET made = ? WHERE rowid = ?";
        self.insert(sql, params![identity_bytes(made), restoring]).map(|_| ())
    }

    /// Records which inodes stand for which from now on.
    pub(crate) fn succeeded(&mut self, successors: &[(Identity, Identity)]) -> Result<(), LedgerError> {
        if successors.is_empty() {
            return Ok(());
        }
        self.ledger.writing()?;
        let failed = self.failed();
        let transaction = self.ledger.db.transaction().map_err(&failed)?;
        for (old, new) in successors {
            let sql = "INSERT INTO successor (change_set, old, new) VALUES (?,?,?)";
            let values = params![self.id, identity_bytes(old), identity_bytes(new)];
            transaction.prepare_cached(sql).and_then(|mut s| s.execute(values)).map_err(&failed)?;
        }
        transaction.commit().map_err(&failed)
    }

    /// Records where a site's tree begins.
    pub(crate) fn place(&mut self, site: &str, path: &Path, place: &PlaceRow) -> Result<(), LedgerError> {
        let sql = "INSERT INTO place (site, path, identity, closed) VALUES (?1,?2,?3,?4)
                   ON CONFLICT (site, path) DO UPDATE SET identity = ?3, closed = ?4";
        let values = params![site, path.as_os_str().as_bytes(), identity_bytes(&place.identity), place.closed];
        self.insert(sql, values).map(|_| ())
    }

    /// Records an SELinux boolean that is about to be switched.
    pub(crate) fn switch(&mut self, name: &str, on: bool) -> Result<(), LedgerError> {
        let sql = "INSERT INTO switch (change_set, name, switched_on) VALUES (?,?,?)";
        self.insert(sql, params![self.id, name, on]).map(|_| ())
    }

    /// Records a policy module that is about to be changed.
    pub(crate) fn module(&mut self, change: &ModuleChange) -> Result<(), LedgerError> {
        let sql = "INSERT INTO module (change_set, name, before, after) VALUES (?,?,?,?)";
        self.insert(sql, params![self.id, change.name, change.before, change.after]).map(|_| ())
    }

    /// Records a part that is about to be moved. The answer is for [`Self::moved`].
    pub(crate) fn moving(&mut self, row: &MovingRow) -> Result<i64, LedgerError> {
        let sql = "INSERT INTO moving (change_set, part, root, path_from, path_to, link, file, text_before, text_after, keeper)
                   VALUES (?,?,?,?,?,?,?,?,?,?)";
        let [root, from, to, file] = [&row.root, &row.from, &row.to, &row.file].map(|p| p.as_os_str().as_bytes());
        let (before, after) = (&row.text_before, &row.text_after);
        self.insert(sql, params![self.id, row.part, root, from, to, row.link, file, before, after, row.keeper.0])
    }

    /// Records what is in the new place.
    pub(crate) fn moved(&mut self, moving: i64, moved: &Identity) -> Result<(), LedgerError> {
        self.insert("UPDATE moving SET moved = ? WHERE rowid = ?", params![identity_bytes(moved), moving]).map(|_| ())
    }

    /// Records what is there before a window begins, in the place of what an earlier one began with.
    pub(crate) fn window_state(&mut self, site: &str, state: &BTreeMap<PathBuf, Known>) -> Result<(), LedgerError> {
        self.ledger.writing()?;
        let failed = self.failed();
        let transaction = self.ledger.db.transaction().map_err(&failed)?;
        let steps = || -> rusqlite::Result<()> {
            transaction.execute("DELETE FROM window_state WHERE site = ?", [site])?;
            let sql = "INSERT INTO window_state (site, path, identity, size, modified, sum) VALUES (?,?,?,?,?,?)";
            let mut statement = transaction.prepare(sql)?;
            for (path, known) in state {
                let (id, size) = (identity_bytes(&known.id), known.size.cast_signed());
                let sum = known.sum.as_ref().map(<[u8; 32]>::as_slice);
                statement.execute(params![site, path.as_os_str().as_bytes(), id, size, known.modified, sum])?;
            }
            Ok(())
        };
        steps().map_err(&failed)?;
        transaction.commit().map_err(&failed)
    }

    /// Whether what was there when the site was opened is on record.
    pub(crate) fn has_window_state(&self, site: &str) -> Result<bool, LedgerError> {
        let sql = "SELECT EXISTS (SELECT 1 FROM window_state WHERE site = ?)";
        self.ledger.db.query_row(sql, [site], |row| row.get(0)).map_err(self.ledger.failed("read"))
    }

    /// As [`Ledger::add_unproven`].
    pub(crate) fn add_unproven(
        &mut self,
        site: &str,
        changed: impl Iterator<Item = (PathBuf, HowChanged)>,
    ) -> Result<(), LedgerError> {
        self.ledger.add_unproven(site, changed)
    }

    /// Records, before anything is granted, that a window begins or goes on.
    pub(crate) fn window(&mut self, window: &Window) -> Result<(), LedgerError> {
        self.ledger.writing()?;
        let error = self.failed();
        let transaction = self.ledger.db.transaction().map_err(&error)?;
        let parts = window.parts.as_ref().map(|parts| parts.join("\n"));
        let sql = "UPDATE change_set SET until = ?, parts = ? WHERE id = ?";
        transaction.execute(sql, params![window.until.to_string(), parts, self.id]).map_err(&error)?;
        transaction.execute(PHASE, [self.id]).map_err(&error)?;
        transaction.commit().map_err(&error)
    }

    /// Ends the change set: the site's phase, the counts, and, of one that takes another back, the mark on that.
    pub(crate) fn end(self, done: u64, failed: u64, takes_back: Option<TakenBack>) -> Result<i64, LedgerError> {
        self.ledger.writing()?;
        let error = self.failed();
        let id = self.id;
        let count = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
        let transaction = self.ledger.db.transaction().map_err(&error)?;
        let steps = || -> rusqlite::Result<()> {
            let sql = "UPDATE change_set SET ended = ?, done = ?, failed = ? WHERE id = ?";
            let now = Timestamp::now();
            transaction.execute(sql, params![now.to_string(), count(done), count(failed), id])?;
            transaction.execute(PHASE, [id])?;
            // What was changed just now was changed by Ambrik, and each path was as it had been looked at.
            let sql = "UPDATE clean SET taken = ? WHERE site = (SELECT site FROM change_set WHERE id = ?)";
            transaction.execute(sql, params![Nanos::try_from(now.as_nanosecond()).unwrap_or(Nanos::MAX), id])?;
            // A window that was closed needs no record of what was there.
            let sql = "DELETE FROM window_state WHERE site IN (SELECT site FROM change_set WHERE id = ? AND phase_after = 'sealed')";
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

/// What came of a change of rights, where more is to be told than that it was made.
#[derive(Clone, Debug)]
pub(crate) enum CameOf {
    /// A signal came before.
    NotBegun,
    /// It was not made, and why.
    Failed(String),
    /// A file that lent power was left with this change time.
    Left(ChangeTime),
}
