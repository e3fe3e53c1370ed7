//! What is known to be right, what changed since, and who has answered for it.

use std::os::unix::ffi::OsStrExt as _;
use std::path::PathBuf;

use rusqlite::{OptionalExtension as _, params};

use super::rows::path_of;
use super::{HowChanged, Ledger, LedgerError};
use crate::entry::Nanos;

impl Ledger {
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
    pub fn add_unproven(
        &mut self,
        site: &str,
        changed: impl Iterator<Item = (PathBuf, HowChanged)>,
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

    /// Notes how many paths were written in the window that a change set ended.
    pub fn note_written(&mut self, id: i64, paths: usize) -> Result<(), LedgerError> {
        self.writing()?;
        let paths = i64::try_from(paths).unwrap_or(i64::MAX);
        let sql = "UPDATE change_set SET written = ? WHERE id = ?";
        self.db.execute(sql, params![paths, id]).map_err(self.failed("write")).map(|_| ())
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
}
