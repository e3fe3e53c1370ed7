//! What PHP makes next, with the umask that it runs with: whether who should can read it, and nobody else.

use super::{Case, Check, Judge, Reason, Remedy, Severity};
use crate::account::{Ids, Uid};
use crate::created::{made_in, reading, uploaded};
use crate::entry::{Kind, Rights};
use crate::mode::Perm;
use crate::people::Set;
use crate::policy::Right;
use crate::site::Use;

pub(crate) static NEXT_FILES_CLOSED: Check = Check {
    name: "next-files-closed",
    severity: Severity::High,
    wrong: "what PHP ({php}) makes next cannot be read by who should",
    lets: "today's files are right, and tomorrow's uploads give visitors errors",
    remedy: Remedy::Hand(
        "give PHP another umask (UMask=0022 under [Service] of its unit, then restart it); where only uploads are meant, a folder \
         for uploads with the store's group and lists does it too (upload_tmp_dir), unless the umask takes the group's read",
    ),
    judge: Judge::Rights(|case| told(case, closed)),
};

pub(crate) static NEXT_FILES_OPEN: Check = Check {
    name: "next-files-open",
    severity: Severity::Medium,
    wrong: "what PHP ({php}) makes next can be read or changed by who should not",
    lets: "today's files are right, and tomorrow's are anybody's who gets there",
    remedy: Remedy::Hand(
        "give PHP a narrower umask (UMask=0027 under [Service] of its unit, then restart it), or close the directories",
    ),
    judge: Judge::Rights(|case| told(case, open)),
};

/// What is known of how PHP makes files.
#[derive(Clone, Debug)]
pub(crate) struct Next {
    /// The umasks, and where each was seen.
    pub(crate) umasks: Vec<(u16, String)>,
    /// The folder that uploads are kept in until they are moved: its rights and its device.
    pub(crate) upload: Option<(Rights, u64)>,
}

/// Something that PHP makes.
struct New {
    kind: Kind,
    how: &'static str,
    rights: Rights,
}

fn news(case: &Case<'_>, next: &Next, php: &Ids, dir: &Rights, umask: u16) -> Vec<New> {
    let made = |kind, mode, how| New { kind, how, rights: made_in(dir, php, kind, mode, umask) };
    let mut news =
        vec![made(Kind::File, 0o666, "files made there"), made(Kind::Directory, 0o777, "folders made there")];
    // Renamed on one file system; else it is a copy, made there.
    let renamed = next.upload.as_ref().filter(|(_, device)| *device == case.facts.id.dev);
    if let Some((upload, _)) = renamed.filter(|_| case.context.used_as == Use::Store) {
        news.push(New { kind: Kind::File, how: "uploads", rights: uploaded(upload, php, umask) });
    }
    news
}

/// What is wrong with what is made in a directory: as it is now and, where that is mended by its rights alone, so.
fn told(case: &Case<'_>, wrong: fn(&Case<'_>, &Set, &New) -> Set) -> Option<Reason> {
    let (next, want) = case.next?;
    if case.facts.kind != Kind::Directory || case.context.row.php != Right::Write {
        return None;
    }
    let people = case.people;
    let php = &people.list()[people.php()].ids;
    let found = |dir: &Rights| {
        let inside = case.can.reach.and(&people.permitted(Kind::Directory, dir, Perm::X));
        next.umasks.iter().find_map(|(umask, seen)| {
            news(case, next, php, dir, *umask).iter().find_map(|new| {
                let who = wrong(case, &inside, new);
                (!who.is_empty()).then(|| {
                    let who = if who.has(people.stranger()) { "every account".into() } else { people.names(&who) };
                    format!("{} with umask {umask:04o} ({seen}): {who}", new.how)
                })
            })
        })
    };
    let now = found(&case.facts.rights)?;
    // By the rights that `set` gives it may be right.
    Some(if *want != case.facts.rights && found(want).is_none() { Reason::Itself } else { Reason::Says(now) })
}

/// Who gets there, should read it, and cannot.
fn closed(case: &Case<'_>, inside: &Set, new: &New) -> Set {
    let people = case.people;
    let row = case.context.row;
    let roles = [(people.keeper(), row.keeper), (people.web(), row.web)];
    let given = people.given(case.context).map(|(_, right, place)| (place, right));
    let php = people.list()[people.php()].ids.uid;
    let should = roles.into_iter().chain(given).filter(|(place, right)| {
        let uid = people.list()[*place].ids.uid;
        *right >= Right::Read && uid != Uid::ROOT && uid != php
    });
    let places: Vec<usize> = should.map(|(place, _)| place).collect();
    inside.and(&people.at(&places)).without(&people.permitted(new.kind, &new.rights, reading(new.kind)))
}

/// Who gets there, and can read or change it, and should not.
fn open(case: &Case<'_>, inside: &Set, new: &New) -> Set {
    let people = case.people;
    let able =
        |perm, right| people.permitted(new.kind, &new.rights, perm).without(&people.allowed(case.context, right));
    let php = people.owners(people.list()[people.php()].ids.uid);
    inside.and(&able(Perm::R, Right::Read).or(&able(Perm::W, Right::Write))).without(&php)
}
