//! Since when, at the earliest, something is wrong: change times, which nobody can set, against when it was known to be right.

use std::path::Path;

use super::found::{FoundPaths, Times};
use super::{Audit, Finding, PutRight};
use crate::account::{Accounts, Uid};
use crate::entry::Nanos;
use crate::tree::Host;

/// As many paths of a finding are looked at again, where the walk did not keep when they were changed.
const MOST_ASKED: usize = 200;

/// When a site was known to be right, in nanoseconds since 1970.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct KnownRight {
    /// When an audit that found nothing began.
    pub clean_audit: Option<Nanos>,
    /// When the last `set` or `seal` ended that did all it had to.
    pub set: Option<Nanos>,
}

/// When the paths of a finding became what they are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Since {
    /// Some time after the one, where that is known, and not after the other.
    Between {
        /// When it was right still.
        after: Option<Nanos>,
        /// When the last of the paths was changed last.
        until: Nanos,
        /// Who owns all of them, where all are new since.
        owner: Option<String>,
    },
    /// The paths are as they were when all was right: what changed is something else (the site file, accounts, configuration).
    NotThePaths {
        /// When all was right.
        right: Nanos,
    },
}

impl Audit {
    /// Adds to the findings since when, at the earliest, they are there.
    #[must_use]
    pub fn with_times(mut self, host: &Host, accounts: &Accounts, known: KnownRight) -> Self {
        let times: Vec<Option<Since>> =
            self.wrong.findings.iter().map(|finding| self.since(finding, host, accounts, known)).collect();
        for (finding, since) in self.wrong.findings.iter_mut().zip(times) {
            finding.since = since;
        }
        self
    }

    fn since(&self, finding: &Finding, host: &Host, accounts: &Accounts, known: KnownRight) -> Option<Since> {
        let of_set = known.set.filter(|_| self.put_right(finding) == PutRight::Set);
        let after = known.clean_audit.max(of_set);
        let of_all = times_of(&finding.paths, host)?;
        let until = of_all.changed;
        if let Some(right) = after.filter(|right| until < *right) {
            return Some(Since::NotThePaths { right });
        }
        // Who made something new owns it, unless root gave it away since.
        let all_new = after.is_some_and(|after| of_all.born > after);
        let owner = of_all.owner.filter(|owner| all_new && *owner != self.site.keeper.ids.uid && *owner != Uid(0));
        Some(Since::Between { after, until, owner: owner.map(|owner| accounts.user_shown(owner)) })
    }
}

/// The times of all paths of a finding; nothing where they would be known of some of them only.
fn times_of(paths: &FoundPaths, host: &Host) -> Option<Times> {
    if paths.of_their_own().count() > MOST_ASKED {
        return None;
    }
    let of = |path: &Path| {
        let facts = host.resolve_link(path).ok()?.facts;
        Some(Times { changed: facts.changed, born: facts.id.born, owner: Some(facts.rights.uid) })
    };
    let others: Vec<Times> = paths.of_their_own().map(of).collect::<Option<_>>()?;
    paths.times().into_iter().chain(others).reduce(Times::and)
}
