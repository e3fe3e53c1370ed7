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

/// The changes of rights of a change set, as the ledger holds them: a row of many is taken apart when it is asked for, as of a large tree
/// they would take a gigabyte for each few million.
#[derive(Debug)]
pub(crate) struct RightsRows {
    /// The number of the first change of each row, and the row.
    blocks: Vec<(i64, Vec<u8>)>,
    rights: HashMap<i64, Arc<Rights>>,
    came: HashMap<i64, CameOf>,
    made: usize,
}

impl RightsRows {
    /// How many of them did not fail.
    pub(crate) const fn made(&self) -> usize {
        self.made
    }

    /// In the order in which they were recorded; those that were not begun are none.
    pub(crate) fn iter(&self) -> impl Iterator<Item = RightsRow> {
        self.blocks.iter().flat_map(|block| self.taken_apart(block))
    }

    /// The last one first.
    pub(crate) fn newest_first(&self) -> impl Iterator<Item = RightsRow> {
        self.blocks.iter().rev().flat_map(|block| self.taken_apart(block).collect::<Vec<_>>().into_iter().rev())
    }

    fn taken_apart<'r>(&'r self, (first, block): &'r (i64, Vec<u8>)) -> impl Iterator<Item = RightsRow> {
        let numbered = (0..).map(move |number| first.wrapping_add(number)).zip(BlockReader::new(block).flatten());
        numbered.filter_map(|(number, change)| self.row(number, change))
    }

    /// A change; none where it was not begun, or where rights of it are not there.
    fn row(&self, number: i64, change: Recorded) -> Option<RightsRow> {
        let came = self.came.get(&number);
        if matches!(came, Some(CameOf::NotBegun)) {
            return None;
        }
        let Recorded { folder, name, sort, id } = change;
        let (before, after) = (Arc::clone(self.rights.get(&sort.before)?), Arc::clone(self.rights.get(&sort.after)?));
        let left = if let Some(CameOf::Left(time)) = came { Some(*time) } else { None };
        let failed = matches!(came, Some(CameOf::Failed(_)));
        let turn = RightsChange { id, kind: sort.kind, links: sort.links, before, after, left, changed: None };
        Some(RightsRow { folder, name, turn, failed })
    }

    /// Adds a row that has so many changes; whether it is whole. What is cut off between two changes would be taken back in part, and
    /// called whole.
    fn add(&mut self, first: i64, count: i64, block: &[u8]) -> bool {
        let mut in_it = 0;
        for (number, change) in (0..).zip(BlockReader::new(block)) {
            in_it += 1;
            let known = |rights: i64| self.rights.contains_key(&rights);
            if change.is_none_or(|change| !known(change.sort.before) || !known(change.sort.after)) {
                return false;
            }
            let came = self.came.get(&first.wrapping_add(number));
            self.made += usize::from(!matches!(came, Some(CameOf::NotBegun | CameOf::Failed(_))));
        }
        self.blocks.push((first, block.to_owned()));
        in_it == count
    }
}

impl Ledger {
    /// The changes of rights of a change set.
    pub(crate) fn turns(&self, id: i64) -> Result<RightsRows, LedgerError> {
        let failed = self.failed("read");
        let (rights, came) = (self.rights_of(id)?, self.outcomes(id)?);
        let mut turns = RightsRows { blocks: Vec::new(), rights, came, made: 0 };
        let sql = "SELECT id, count, block FROM rights_changes WHERE id BETWEEN ? AND ? ORDER BY id";
        let mut statement = self.db.prepare(sql).map_err(&failed)?;
        let mut rows = statement.query([turn_id(id, 0), turn_id(id + 1, 0) - 1]).map_err(&failed)?;
        while let Some(row) = rows.next().map_err(&failed)? {
            let mut add =
                || -> rusqlite::Result<_> { Ok(turns.add(row.get(0)?, row.get(1)?, row.get_ref(2)?.as_blob()?)) };
            if !add().map_err(&failed)? {
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
