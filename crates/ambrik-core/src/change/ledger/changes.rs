//! The changes of rights of a change set, read.

use std::collections::HashMap;
use std::sync::Arc;

use rusqlite::Row;

use super::block::{BlockReader, Recorded};
use super::entry::CameOf;
use super::rows::rights_row;
use super::{Ledger, LedgerError, RightsRow, turn_id};
use crate::change::rights::RightsChange;
use crate::entry::Rights;

impl Ledger {
    /// The changes of rights of a change set, in order; those that were not begun are none.
    pub(crate) fn turns(&self, id: i64) -> Result<Vec<RightsRow>, LedgerError> {
        let failed = self.failed("read");
        let (rights, came) = (self.rights_of(id)?, self.outcomes(id)?);
        let sql = "SELECT id, count, block FROM rights_changes WHERE id BETWEEN ? AND ? ORDER BY id";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let mut rows = statement.query([turn_id(id, 0), turn_id(id + 1, 0) - 1]).map_err(&failed)?;
        let mut turns = Vec::new();
        while let Some(row) = rows.next().map_err(&failed)? {
            let read = || -> rusqlite::Result<_> {
                Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?, row.get_ref(2)?.as_blob()?))
            };
            let (first, count, block) = read().map_err(&failed)?;
            let mut in_it = 0;
            for (number, change) in (0..).zip(BlockReader::new(block)) {
                in_it += 1;
                let change = change.ok_or_else(|| self.damaged("a change"))?;
                let came = came.get(&first.wrapping_add(number));
                if matches!(came, Some(CameOf::NotBegun)) {
                    continue;
                }
                let Recorded { folder, name, sort, id } = change;
                let (Some(before), Some(after)) = (rights.get(&sort.before), rights.get(&sort.after)) else {
                    return Err(self.damaged("a change"));
                };
                let (before, after) = (Arc::clone(before), Arc::clone(after));
                let left = if let Some(CameOf::Left(time)) = came { Some(*time) } else { None };
                let failed = matches!(came, Some(CameOf::Failed(_)));
                let turn = RightsChange { id, kind: sort.kind, links: sort.links, before, after, left, changed: None };
                turns.push(RightsRow { folder, name, turn, failed });
            }
            // What is cut off between two changes would be taken back in part, and called whole.
            if in_it != count {
                return Err(self.damaged("a change"));
            }
        }
        Ok(turns)
    }

    /// What came of single changes of rights of a change set, by their rows.
    fn outcomes(&self, id: i64) -> Result<HashMap<i64, CameOf>, LedgerError> {
        let failed = self.failed("read");
        let sql = "SELECT id, not_begun, failed, left_seconds, left_nanos FROM rights_outcome WHERE id BETWEEN ? AND ?";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let read = |row: &Row<'_>| {
            let (not_begun, why): (bool, Option<String>) = (row.get(1)?, row.get(2)?);
            let left: (Option<i64>, Option<u32>) = (row.get(3)?, row.get(4)?);
            let came = match (not_begun, why, left.0.zip(left.1)) {
                (true, ..) => Some(CameOf::NotBegun),
                (_, Some(why), _) => Some(CameOf::Failed(why)),
                (_, _, left) => left.map(CameOf::Left),
            };
            Ok((row.get(0)?, came))
        };
        let rows = statement.query_map([turn_id(id, 0), turn_id(id + 1, 0) - 1], read).map_err(&failed)?;
        rows.filter_map(|row| row.map(|(id, came)| Some((id, came?))).map_err(&failed).transpose()).collect()
    }

    pub(super) fn rights_of(&self, id: i64) -> Result<HashMap<i64, Arc<Rights>>, LedgerError> {
        let failed = self.failed("read");
        let sql = "SELECT id, uid, gid, mode, acl, default_acl, capabilities, label FROM rights WHERE change_set = ?";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let rows = statement.query_map([id], rights_row).map_err(&failed)?;
        let mut found = HashMap::new();
        for row in rows {
            let (id, rights) = row.map_err(&failed)?;
            found.insert(id, Arc::new(rights.ok_or_else(|| self.damaged("owner, mode or access list"))?));
        }
        Ok(found)
    }
}
