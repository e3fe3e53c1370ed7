//! Audits of the whole host: how many findings each had, and what the last one found.

use jiff::Timestamp;
use rusqlite::params;

use super::{Ledger, LedgerError};
use crate::audit::RecordedFinding;

/// As many audits are kept.
const MOST: i64 = 400;

/// An audit of the whole host.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AuditRecord {
    /// When it was taken.
    pub taken: Timestamp,
    /// Whether all could be looked at.
    pub complete: bool,
    /// How many findings were high, medium and low.
    pub findings: [u64; 3],
}

impl Ledger {
    /// Notes an audit of the whole host. What sites that are not in `judged` were found with stays on record; where `all` were
    /// judged, only what was found now does.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    pub fn record_audit(
        &mut self,
        record: &AuditRecord,
        found: &[RecordedFinding],
        judged: &[&str],
        all: bool,
    ) -> Result<(), LedgerError> {
        self.writing()?;
        let failed = self.failed("write");
        let transaction = self.db.transaction().map_err(&failed)?;
        let write = || -> rusqlite::Result<()> {
            let [high, medium, low] = record.findings;
            transaction.execute(
                "INSERT INTO audit (taken, complete, high, medium, low) VALUES (?, ?, ?, ?, ?)",
                params![record.taken.to_string(), record.complete, high, medium, low],
            )?;
            transaction.execute("DELETE FROM audit WHERE id <= (SELECT max(id) FROM audit) - ?", [MOST])?;
            if all {
                transaction.execute("DELETE FROM found", [])?;
            }
            for site in judged {
                transaction.execute("DELETE FROM found WHERE site = ?", [site])?;
            }
            let sql = "INSERT OR REPLACE INTO found (site, check_name, part, severity, says, paths, sum) VALUES (?, ?, ?, ?, ?, ?, ?)";
            let mut insert = transaction.prepare(sql)?;
            for RecordedFinding { site, check, part, severity, says, paths, sum } in found {
                insert.execute(params![site, check, part, severity, says, paths, sum])?;
            }
            Ok(())
        };
        write().map_err(&failed)?;
        transaction.commit().map_err(&failed)
    }

    /// What the last audit of the whole host found; nothing where none is on record.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn last_found(&self) -> Result<Option<Vec<RecordedFinding>>, LedgerError> {
        if self.audits()?.is_empty() {
            return Ok(None);
        }
        let failed = self.failed("read");
        let sql =
            "SELECT site, check_name, part, severity, says, paths, sum FROM found ORDER BY site, check_name, part";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([], |row| {
            let (site, check, part, severity) = (row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?);
            Ok(RecordedFinding { site, check, part, severity, says: row.get(4)?, paths: row.get(5)?, sum: row.get(6)? })
        });
        rows.map_err(&failed)?.collect::<Result<Vec<_>, _>>().map(Some).map_err(&failed)
    }

    /// The audits of the whole host that are on record, the oldest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn audits(&self) -> Result<Vec<AuditRecord>, LedgerError> {
        let failed = self.failed("read");
        let sql = "SELECT taken, complete, high, medium, low FROM audit ORDER BY id";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([], |row| {
            let (taken, complete): (String, bool) = (row.get(0)?, row.get(1)?);
            Ok((taken, complete, [row.get(2)?, row.get(3)?, row.get(4)?]))
        });
        let rows = rows.map_err(&failed)?.collect::<Result<Vec<_>, _>>().map_err(&failed)?;
        let record = |(taken, complete, findings): (String, bool, [u64; 3])| {
            let taken = taken.parse().map_err(|_| self.damaged("an audit"))?;
            Ok(AuditRecord { taken, complete, findings })
        };
        rows.into_iter().map(record).collect()
    }
}
