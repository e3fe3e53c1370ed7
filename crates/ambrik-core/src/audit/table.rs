//! The table of rights: what everyone can do in each part, and what they should be able to do.

use std::collections::BTreeSet;

use crate::inspect::Ability;
use crate::policy::Right;

/// A line of the table of rights.
#[derive(Debug)]
pub struct PartLine {
    /// The part; none for code that no part names.
    pub part: Option<usize>,
    /// How many paths there are.
    pub count: u64,
    /// What keeper, php, web and others can do, in this order; then those who have access besides.
    pub cells: Vec<Cell>,
}

/// What one account can do in a part.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Cell {
    /// What it should be able to do; several where the part is served in places.
    pub should: BTreeSet<Right>,
    /// What it can do somewhere, and should not.
    pub more: BTreeSet<&'static str>,
    /// What it can do somewhere, where it should be able to do more.
    pub less: BTreeSet<&'static str>,
    /// On how many paths it can do more than it should.
    pub more_count: u64,
    /// On how many it can do less.
    pub less_count: u64,
}

impl Cell {
    pub(super) fn add(&mut self, ability: Ability, count: u64) {
        let Ability { read, write, should, may } = ability;
        self.should.insert(should);
        let now = match (read, write) {
            (true, true) => "rw",
            (true, false) => "r",
            (false, true) => "w",
            (false, false) => "-",
        };
        if (read && may < Right::Read) || (write && may < Right::Write) {
            self.more.insert(now);
            self.more_count += count;
        }
        if (!read && should >= Right::Read) || (!write && should >= Right::Write) {
            self.less.insert(now);
            self.less_count += count;
        }
    }
}
