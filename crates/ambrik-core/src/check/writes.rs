//! Who can change what must not change.

use std::sync::Arc;

use super::{Case, Check, Judge, Raised, Reason, Remedy, Severity, is_secret, is_symlink, php_must_not_write};
use crate::access::{Class, decide};
use crate::account::{Gid, Uid};
use crate::entry::{Kind, Rights};
use crate::host::Holder;
use crate::mode::{Mode, Perm};
use crate::people::{People, Set};
use crate::policy::Right;

pub(crate) static PHP_WRITES_CODE: Check = Check {
    name: "php-writes-code",
    severity: Severity::High,
    wrong: "PHP ({php}) can change what it should only run",
    lets: "whoever gets into PHP can plant code that runs for every visitor",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| if is_secret(case.context) { None } else { php_writes(case) }),
};

pub(crate) static PHP_WRITES_SECRET: Check = Check {
    name: "php-writes-secret",
    severity: Severity::High,
    wrong: "PHP ({php}) can change settings of a sealed site",
    lets: "whoever gets into PHP can point the site at another database or switch its guards off",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| if is_secret(case.context) { php_writes(case) } else { None }),
};

pub(crate) static PHP_OWNS_CODE: Check = Check {
    name: "php-owns-code",
    severity: Severity::Medium,
    wrong: "PHP ({php}) owns what it should only read",
    lets: "it cannot write there now, and can give itself the right at any time",
    remedy: Remedy::Set,
    judge: Judge::Rights(php_owns),
};

pub(crate) static EVERYONE_WRITES: Check = Check {
    name: "everyone-writes",
    severity: Severity::High,
    wrong: "every account of this host can write here",
    lets: "any program on this host, other sites' PHP too, can change this site",
    remedy: Remedy::Set,
    judge: Judge::Rights(everyone_writes),
};

pub(crate) static ANOTHER_WRITES: Check = Check {
    name: "another-writes",
    severity: Severity::High,
    wrong: "accounts that are neither keeper nor PHP can write here",
    lets: "they can change this site",
    remedy: Remedy::Set,
    judge: Judge::Rights(another_writes),
};

pub(crate) static LISTS_GIVEN_ON: Check = Check {
    name: "lists-given-on",
    severity: Severity::High,
    wrong: "a default ACL gives new files to accounts that may not have them",
    lets: "whatever is unpacked or made there next is theirs too, whatever its mode",
    remedy: Remedy::Set,
    judge: Judge::Rights(lists_given_on),
};

pub(crate) static STILL_OPEN: Check = Check {
    name: "still-open",
    severity: Severity::High,
    wrong: "a process of PHP's account ({php}) holds open for writing what is closed to it",
    lets: "it can change that as long as it runs, whatever owner and mode say",
    remedy: Remedy::Hand("end the process, or reload PHP, which ends its workers: the command stands beside each"),
    judge: Judge::Audit,
};

/// This process holds it open.
pub(crate) fn still_open(holder: &Holder) -> Raised {
    (&STILL_OPEN, Reason::Says(holder.to_string()))
}

/// Those able to put another directory in the place of one that leads to the site.
pub(crate) fn replaced_above(people: &People, able: &Set) -> Vec<Raised> {
    let mut found: Vec<Raised> = Vec::new();
    if able.has(people.php()) {
        found.push((&PHP_WRITES_CODE, Reason::Says("it can rename a directory that leads there".into())));
    }
    if able.has(people.stranger()) {
        found.push((&EVERYONE_WRITES, Reason::OpenToAll));
    } else {
        let others = able.without(&people.owners(people.list()[people.php()].ids.uid));
        if !others.is_empty() {
            found.push((&ANOTHER_WRITES, Reason::By(people.names(&others))));
        }
    }
    found
}

/// Whom a new file in a directory would be given to through the directory's default ACL (acl(5), "Object creation and
/// default ACLs"): as its owner nobody in particular, as its group the directory's where that is passed on.
fn lists_given_on(case: &Case<'_>) -> Option<Reason> {
    let rights = &case.facts.rights;
    let list = rights.default_acl.as_ref()?;
    let gid = if rights.mode.has(Mode::SET_GID) { rights.gid } else { Gid(u32::MAX) };
    let mode = list.shown_mode(Mode::of_st_mode(0));
    let new = Rights { uid: Uid(u32::MAX), gid, mode, acl: Some(Arc::clone(list)), ..rights.clone() };
    let given = |perm: Perm, right: Right| {
        let able = case.can.search.and(&case.people.permitted(Kind::File, &new, perm));
        able.without(&case.people.allowed(case.context, right))
    };
    let able = given(Perm::R, Right::Read).or(&given(Perm::W, Right::Write));
    if able.has(case.people.stranger()) {
        return Some(Reason::OpenToAll);
    }
    (!able.is_empty()).then(|| Reason::By(case.people.names(&able)))
}

fn php_writes(case: &Case<'_>) -> Option<Reason> {
    let php = case.people.php();
    // Root writes everywhere; that PHP is root is a finding of its own.
    if !php_must_not_write(case) || case.people.list()[php].ids.uid == Uid::ROOT {
        return None;
    }
    if !is_symlink(case.facts) && case.can.change(php) {
        return Some(class_reason(case, php));
    }
    case.can.replace.has(php).then_some(Reason::Above)
}

/// Which class or entry lets the account write.
fn class_reason(case: &Case<'_>, place: usize) -> Reason {
    match decide(&case.people.list()[place].ids, case.facts.kind, &case.facts.rights, Perm::W).class {
        Class::Owner => Reason::Owned,
        Class::NamedUser | Class::NamedGroup => Reason::List,
        Class::Group => Reason::Group,
        Class::Other => Reason::OpenToAll,
    }
}

fn php_owns(case: &Case<'_>) -> Option<Reason> {
    let php = case.people.php();
    let owns = case.people.list()[php].ids.uid == case.facts.rights.uid;
    let root = case.facts.rights.uid == Uid::ROOT;
    let could = owns && !root && !is_symlink(case.facts) && php_must_not_write(case) && case.can.reach.has(php);
    (could && !case.can.write.has(php)).then_some(Reason::Owned)
}

fn everyone_writes(case: &Case<'_>) -> Option<Reason> {
    let stranger = case.people.stranger();
    if !is_symlink(case.facts) && case.can.change(stranger) {
        return Some(Reason::OpenToAll);
    }
    case.can.replace.has(stranger).then_some(Reason::Above)
}

fn another_writes(case: &Case<'_>) -> Option<Reason> {
    if everyone_writes(case).is_some() {
        return None;
    }
    let allowed = case.people.allowed(case.context, Right::Write);
    let mut able = case.can.replace.clone();
    if !is_symlink(case.facts) && case.can.bar.is_none() {
        able = able.or(&case.can.write);
    }
    // What PHP can change, the checks named after it tell.
    let php = case.people.list()[case.people.php()].ids.uid;
    let able = able.without(&allowed).without(&case.people.owners(php));
    (!able.is_empty()).then(|| Reason::By(case.people.names(&able)))
}
