//! Records have an end: keepsakes and change sets that are older than they are kept for go, and the ledger is made smaller.

use std::collections::BTreeSet;

use jiff::{SignedDuration, Timestamp};

use super::ledger::{ChangeSet, Ledger, LedgerError};
use super::state::{StateDir, StateError};
use crate::site::Phase;

/// How long records are kept; for ever where nothing is said.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct KeptFor {
    /// What was removed.
    pub keepsakes: Option<SignedDuration>,
    /// What was changed, and audits.
    pub history: Option<SignedDuration>,
}

/// A file in which removed files are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Keepsake {
    /// The change set that removed what is in it.
    pub set: i64,
    /// The file's name.
    pub name: String,
    /// How long it is, in bytes.
    pub bytes: u64,
}

/// What a purge would remove, or did.
#[derive(Debug)]
pub struct PurgePlan {
    /// The keepsakes, those of the oldest change set first.
    pub keepsakes: Vec<Keepsake>,
    /// The change sets of which no record stays, the oldest first.
    pub sets: Vec<ChangeSet>,
    /// The change sets that can no longer be taken back, since their keepsakes go.
    pub closed: Vec<ChangeSet>,
    /// The audits before this are forgotten.
    pub audits_before: Option<Timestamp>,
    /// The sites that are open, or of which a run was stopped: nothing of theirs goes.
    pub spared: BTreeSet<String>,
    /// The sites that another run held: of theirs nothing was removed.
    pub held: BTreeSet<String>,
    ages: KeptFor,
    at: Timestamp,
}

impl PurgePlan {
    /// Whether nothing is old enough.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.keepsakes.is_empty() && self.sets.is_empty()
    }

    /// How many bytes the keepsakes take.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.keepsakes.iter().map(|keepsake| keepsake.bytes).sum()
    }

    /// The sites whose records go.
    #[must_use]
    pub fn sites(&self) -> BTreeSet<&str> {
        self.sets.iter().chain(&self.closed).map(|set| &*set.site).collect()
    }

    /// Leaves what is another's, or what was needed by the time the sites were locked.
    fn only(&mut self, held: BTreeSet<String>, now: &Self) {
        let ids = |sets: &[ChangeSet]| sets.iter().map(|set| set.id).collect::<BTreeSet<_>>();
        let (sets, closed) = (ids(&now.sets), ids(&now.closed));
        self.sets.retain(|set| sets.contains(&set.id) && !held.contains(&set.site));
        self.closed.retain(|set| closed.contains(&set.id) && !held.contains(&set.site));
        let stays = [ids(&self.sets), ids(&self.closed)];
        self.keepsakes.retain(|keepsake| stays.iter().any(|sets| sets.contains(&keepsake.set)));
        self.held = held;
    }
}

/// The keepsakes that are there, those of the oldest change set first.
///
/// # Errors
/// Where the ledger or the state directory cannot be read.
pub fn kept(ledger: &Ledger, state: &StateDir) -> Result<Vec<Keepsake>, LedgerError> {
    let mut found = Vec::new();
    for (set, name) in ledger.keepsakes()? {
        if let Some(bytes) = state.keepsake_size(&name)? {
            found.push(Keepsake { set, name, bytes });
        }
    }
    Ok(found)
}

/// What is older than it is kept for. What the newest record is of stays, and what tells audits which code archives brought; so
/// does all of a site that is open, or whose last run was stopped, and the record of a keepsake that is kept longer.
///
/// # Errors
/// Where the ledger or the state directory cannot be read.
pub fn plan_purge(ledger: &Ledger, state: &StateDir, ages: KeptFor, now: Timestamp) -> Result<PurgePlan, LedgerError> {
    let sets = ledger.change_sets()?;
    let mut spared = BTreeSet::new();
    for site in sets.iter().map(|set| &set.site).collect::<BTreeSet<_>>() {
        let stopped = sets.iter().any(|set| set.site == *site && set.ended.is_none());
        if stopped || ledger.phase(site)?.phase == Phase::Open {
            spared.insert(site.clone());
        }
    }
    let before = |time: Option<SignedDuration>| time.and_then(|time| now.checked_sub(time).ok());
    let old = |limit: Option<Timestamp>| {
        let spared = &spared;
        move |set: &&ChangeSet| {
            !spared.contains(&set.site) && set.ended.zip(limit).is_some_and(|(ended, limit)| ended < limit)
        }
    };
    let audits_before = before(ages.history);
    let needed = ledger.delivering()?;
    let without: BTreeSet<i64> = sets.iter().filter(old(before(ages.keepsakes))).map(|set| set.id).collect();
    let purged: BTreeSet<i64> = sets.iter().filter(|set| set.purged.is_some()).map(|set| set.id).collect();
    let (keepsakes, kept_on): (Vec<_>, Vec<_>) = kept(ledger, state)?
        .into_iter()
        .partition(|keepsake| without.contains(&keepsake.set) || purged.contains(&keepsake.set));
    let kept_on: BTreeSet<i64> = kept_on.iter().map(|keepsake| keepsake.set).collect();
    let newest = sets.first().map(|set| set.id);
    let mut going: BTreeSet<i64> = sets
        .iter()
        .filter(old(audits_before))
        .map(|set| set.id)
        .filter(|id| Some(*id) != newest && !needed.contains(id) && !kept_on.contains(id))
        .collect();
    // One that another stands by stays with it.
    loop {
        let stays = |set: &ChangeSet| !going.contains(&set.id);
        let bound = sets.iter().filter(|set| stays(set)).flat_map(|set| [set.undoes, set.undone_by]).flatten();
        let bound: Vec<i64> = bound.filter(|id| going.contains(id)).collect();
        if bound.is_empty() {
            break;
        }
        going.retain(|id| !bound.contains(id));
    }
    let emptied: BTreeSet<i64> = keepsakes.iter().map(|keepsake| keepsake.set).collect();
    let (mut gone, mut closed) = (Vec::new(), Vec::new());
    for set in sets.into_iter().rev() {
        if going.contains(&set.id) {
            gone.push(set);
        } else if emptied.contains(&set.id) {
            closed.push(set);
        }
    }
    Ok(PurgePlan { keepsakes, sets: gone, closed, audits_before, spared, held: BTreeSet::new(), ages, at: now })
}

/// Removes it: first the record says so, durably, then the keepsakes go, then the ledger is made as small as what is in it. Sites
/// that another run holds are left for the next time, and so is what became needed since it was planned. Answers what went.
///
/// # Errors
/// Where the ledger cannot be written, or a keepsake not be removed: what is on record as gone is removed by the next purge.
pub fn purge(mut plan: PurgePlan, ledger: &mut Ledger, state: &StateDir) -> Result<PurgePlan, LedgerError> {
    let (mut locks, mut held) = (Vec::new(), BTreeSet::new());
    for site in plan.sites() {
        match state.lock(site, "purge") {
            Ok(lock) => locks.push(lock),
            Err(StateError::Locked { .. }) => drop(held.insert(site.to_owned())),
            Err(error) => return Err(error.into()),
        }
    }
    let now = plan_purge(ledger, state, plan.ages, plan.at)?;
    plan.only(held, &now);
    let ids = |sets: &[ChangeSet]| sets.iter().map(|set| set.id).collect::<Vec<_>>();
    let (sets, closed) = (ids(&plan.sets), ids(&plan.closed));
    ledger.close(&sets)?;
    ledger.close(&closed)?;
    for keepsake in &plan.keepsakes {
        state.remove_keepsake(&keepsake.name)?;
    }
    ledger.forget(&sets, plan.audits_before)?;
    ledger.compact()?;
    Ok(plan)
}
