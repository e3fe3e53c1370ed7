//! Who can read what is closed to them.

use super::{Case, Check, Judge, Reason, Remedy, Severity, is_secret, is_symlink};
use crate::people::Set;
use crate::policy::Right;

pub(crate) static SECRET_EXPOSED: Check = Check {
    name: "secret-exposed",
    severity: Severity::High,
    wrong: "accounts besides keeper and PHP can read settings with credentials",
    lets: "they can log in to the site's database and read its keys",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| {
        let readers = if is_secret(case.context) { readers_too_many(case) } else { case.people.no_one() };
        by(case, &readers)
    }),
};

pub(crate) static EVERYONE_READS: Check = Check {
    name: "everyone-reads",
    severity: Severity::Medium,
    wrong: "every account of this host can read what is closed to others",
    lets: "any program on this host, other sites' PHP too, can copy it",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| readers_too_many(case).has(case.people.stranger()).then_some(Reason::OpenToAll)),
};

pub(crate) static ANOTHER_READS: Check = Check {
    name: "another-reads",
    severity: Severity::Medium,
    wrong: "accounts can read what the site file closes to them",
    lets: "they can copy it",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| {
        let readers = readers_too_many(case);
        if is_secret(case.context) || readers.has(case.people.stranger()) {
            return None;
        }
        by(case, &readers)
    }),
};

fn readers_too_many(case: &Case<'_>) -> Set {
    if is_symlink(case.facts) {
        return case.people.no_one();
    }
    case.can.read.without(&case.people.allowed(case.context, Right::Read))
}

fn by(case: &Case<'_>, readers: &Set) -> Option<Reason> {
    if readers.has(case.people.stranger()) {
        return Some(Reason::OpenToAll);
    }
    (!readers.is_empty()).then(|| Reason::By(case.people.names(readers)))
}
