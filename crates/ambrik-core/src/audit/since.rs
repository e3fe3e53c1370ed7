//! Since when, at the earliest, something is wrong: change times, which nobody can set, against when it was known to be right.

use super::finding::Found;
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
        let facts = self.facts_of(finding, host)?;
        let until = facts.iter().map(|facts| facts.changed).max()?;
        if let Some(right) = after.filter(|right| until < *right) {
            return Some(Since::NotThePaths { right });
        }
        let owner = facts.first().map(|facts| facts.owner)?;
        // Who made something new owns it, unless root gave it away since.
        let made_since = |born: Nanos| after.is_some_and(|after| born > after);
        let all_his = facts.iter().all(|facts| facts.owner == owner && made_since(facts.born));
        let owned =
            (all_his && owner != self.site.keeper.ids.uid && owner != Uid(0)).then(|| accounts.user_shown(owner));
        Some(Since::Between { after, until, owner: owned })
    }

    /// When each path of a finding was changed last; nothing where that would be known of some of them only.
    fn facts_of(&self, finding: &Finding, host: &Host) -> Option<Vec<TimedPath>> {
        let asked = finding.paths.iter().filter(|found| matches!(found, Found::Path(_))).count();
        if asked > MOST_ASKED {
            return None;
        }
        let facts = |found: &Found| match found {
            Found::Deviation(number) => {
                let deviant = &self.seen.deviants[*number as usize];
                let owner = deviant.verdict.rights.uid;
                Some(TimedPath { changed: deviant.changed, born: deviant.id.born, owner })
            }
            Found::Path(path) => {
                let facts = host.resolve_link(path).ok()?.facts;
                Some(TimedPath { changed: facts.changed, born: facts.id.born, owner: facts.rights.uid })
            }
        };
        finding.paths.iter().map(facts).collect()
    }
}

/// What tells when a path became what it is.
struct TimedPath {
    changed: Nanos,
    born: Nanos,
    owner: Uid,
}
