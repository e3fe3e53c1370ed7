//! What is too old goes.

use std::collections::BTreeSet;

use jiff::Timestamp;
use rusqlite::params;

use super::{Ledger, LedgerError, turn_id};

/// The tables whose rows are of one change set. Which inodes stand for which stays: others go by it.
const OF_A_SET: [&str; 8] = ["rights", "creation", "removal", "restoring", "moving", "switch", "module", "brought"];
/// Those whose rows stand in the order of change sets.
const IN_ORDER: [&str; 2] = ["rights_changes", "rights_outcome"];

impl Ledger {
    /// The keepsakes that are on record, by change set and name, the oldest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn keepsakes(&self) -> Result<Vec<(i64, String)>, LedgerError> {
        let failed = self.failed("read");
        let sql = "SELECT DISTINCT change_set, keepsake FROM removal WHERE keepsake IS NOT NULL ORDER BY change_set";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?))).map_err(&failed)?;
        rows.map(|row| row.map_err(&failed)).collect()
    }

    /// The change sets that tell which code archives brought.
    pub(crate) fn delivering(&self) -> Result<BTreeSet<i64>, LedgerError> {
        let failed = self.failed("read");
        let sql = "SELECT DISTINCT change_set.id FROM brought JOIN change_set ON change_set.id = change_set WHERE undone_by IS NULL";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([], |row| row.get(0)).map_err(&failed)?;
        rows.map(|row| row.map_err(&failed)).collect()
    }

    /// Notes that change sets cannot be taken back any more: their keepsakes go.
    pub(crate) fn close(&mut self, sets: &[i64]) -> Result<(), LedgerError> {
        self.writing()?;
        let failed = self.failed("write");
        let now = Timestamp::now().to_string();
        let transaction = self.db.transaction().map_err(&failed)?;
        for set in sets {
            let sql = "UPDATE change_set SET purged = ? WHERE id = ? AND purged IS NULL";
            transaction.execute(sql, params![now, set]).map_err(&failed)?;
        }
        transaction.commit().map_err(&failed)
    }

    /// Removes all that is on record of change sets, and of audits before a time.
    pub(crate) fn forget(&mut self, sets: &[i64], audits_before: Option<Timestamp>) -> Result<(), LedgerError> {
        self.writing()?;
        let failed = self.failed("write");
        let transaction = self.db.transaction().map_err(&failed)?;
        let write = || -> rusqlite::Result<()> {
            transaction.execute_batch("PRAGMA defer_foreign_keys = ON")?;
            for set in sets {
                for table in IN_ORDER {
                    let rows = params![turn_id(*set, 0), turn_id(*set + 1, 0) - 1];
                    transaction.execute(&format!("DELETE FROM {table} WHERE id BETWEEN ? AND ?"), rows)?;
                }
                for table in OF_A_SET {
                    transaction.execute(&format!("DELETE FROM {table} WHERE change_set = ?"), [set])?;
                }
                transaction.execute("DELETE FROM change_set WHERE id = ?", [set])?;
            }
            let Some(before) = audits_before else { return Ok(()) };
            // The last one is what the next is compared with.
            let sql = "DELETE FROM audit WHERE taken < ? AND id < (SELECT max(id) FROM audit)";
            transaction.execute(sql, [before.to_string()]).map(|_| ())
        };
        write().map_err(&failed)?;
        transaction.commit().map_err(&failed)
    }

    /// Makes the file as small as what is in it.
    pub(crate) fn compact(&mut self) -> Result<(), LedgerError> {
        self.writing()?;
        self.db.execute_batch("VACUUM; PRAGMA wal_checkpoint(TRUNCATE);").map_err(self.failed("compact"))
    }
}
