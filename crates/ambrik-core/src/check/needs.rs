//! Who lacks what a part needs.

use super::{Case, Check, Judge, Raised, Reason, Remedy, Severity, is_symlink};
use crate::policy::Right;

pub(crate) static PHP_CANNOT_WRITE: Check = Check {
    name: "php-cannot-write",
    severity: Severity::High,
    wrong: "PHP ({php}) cannot write where the site needs it",
    lets: "the site is broken there",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| {
        let must = case.context.row.php == Right::Write;
        let barred = || case.can.bar.filter(|_| !is_symlink(case.facts)).map(Reason::Barred);
        must.then(|| lacks(case, case.people.php(), Right::Write).or_else(barred)).flatten()
    }),
};

/// A part is not there, and PHP cannot make it.
pub(crate) fn not_there() -> Raised {
    (&PHP_CANNOT_WRITE, Reason::Says("not there, and PHP cannot make it".into()))
}

/// PHP's own settings keep it away, in these words.
pub(crate) fn not_let_near(says: &str) -> Raised {
    (&PHP_CANNOT_WRITE, Reason::Says(format!("PHP cannot get there: {says}")))
}

pub(crate) static PHP_CANNOT_READ: Check = Check {
    name: "php-cannot-read",
    severity: Severity::High,
    wrong: "PHP ({php}) cannot read what the site needs",
    lets: "the site is broken there",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| {
        let must = case.context.row.php >= Right::Read;
        must.then(|| lacks(case, case.people.php(), Right::Read)).flatten()
    }),
};

pub(crate) static WEB_CANNOT_READ: Check = Check {
    name: "web-cannot-read",
    severity: Severity::High,
    wrong: "the web server ({web}) cannot read what it serves",
    lets: "visitors get errors there",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| {
        let must = case.context.row.web >= Right::Read;
        must.then(|| lacks(case, case.people.web(), Right::Read)).flatten()
    }),
};

pub(crate) static KEEPER_CANNOT_WRITE: Check = Check {
    name: "keeper-cannot-write",
    severity: Severity::Low,
    wrong: "the keeper ({keeper}) cannot write here",
    lets: "the next deployment fails there",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| {
        // What PHP makes at run time is its own affair.
        let must = case.context.row.php < Right::Write;
        must.then(|| lacks(case, case.people.keeper(), Right::Write)).flatten()
    }),
};

pub(crate) static ACCESS_WITHHELD: Check = Check {
    name: "access-withheld",
    severity: Severity::Medium,
    wrong: "accounts that the site file gives access do not have it",
    lets: "a backup misses it, or whoever should work there cannot",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| {
        let lacking = case.people.given(case.context).filter(|(_, right, place)| lacks(case, *place, *right).is_some());
        let mut names: Vec<String> = lacking.map(|(access, ..)| access.who.to_string()).collect();
        names.dedup();
        (!names.is_empty()).then(|| Reason::By(names.join(", ")))
    }),
};

/// Whether the keeper has what it must have.
pub(crate) fn keeper_can_write(case: &Case<'_>) -> bool {
    lacks(case, case.people.keeper(), Right::Write).is_none()
}

fn lacks(case: &Case<'_>, place: usize, right: Right) -> Option<Reason> {
    if is_symlink(case.facts) {
        return None;
    }
    let directory = case.facts.kind == crate::entry::Kind::Directory;
    let can = &case.can;
    let has = match right {
        Right::None => true,
        Right::Read => can.read.has(place),
        Right::Write => can.write.has(place),
    } && (!directory || can.search.has(place));
    match (has, can.reach.has(place)) {
        (true, _) => None,
        (false, true) => Some(Reason::Itself),
        (false, false) => Some(Reason::Blocked),
    }
}
