//! What a path is: links, special files, special bits, owners that nobody knows.

use std::path::Path;

use super::{Case, Check, Judge, Raised, Reason, Remedy, Severity};
use crate::entry::Kind;
use crate::mode::Mode;
use crate::shown::Shown;
use crate::want::Shape;

pub(crate) static HARD_LINK_SHARED: Check = Check {
    name: "hard-link-shared",
    severity: Severity::High,
    wrong: "files have a second name outside this part",
    lets: "a change here changes the file there, and giving it away here gives it away there",
    remedy: Remedy::Hand("copy the file and put the copy in its place, then run `ambrik set` again"),
    judge: Judge::Audit,
};

/// A file has so many names, of which `here` are in its part.
pub(crate) fn hard_link_shared(names: u32, here: usize) -> Raised {
    (&HARD_LINK_SHARED, Reason::Says(format!("{names} names, {here} of them in this part")))
}

pub(crate) static LINK_LEAVES_SITE: Check = Check {
    name: "link-leaves-site",
    severity: Severity::Medium,
    wrong: "symlinks lead out of the site",
    lets: "what they lead to is served or written under rules that this site file does not make",
    remedy: Remedy::Hand("make what the link leads to a part of the site, or remove the link"),
    judge: Judge::Audit,
};

/// A symlink leads to `goal`, out of the site.
pub(crate) fn link_leaves_site(goal: &Path) -> Raised {
    (&LINK_LEAVES_SITE, Reason::Says(format!("to {}", Shown(goal))))
}

pub(crate) static SPECIAL_BITS: Check = Check {
    name: "special-bits",
    severity: Severity::Medium,
    wrong: "files run with another account's rights",
    lets: "whoever runs them gets these rights",
    remedy: Remedy::Set,
    judge: Judge::Rights(special_bits),
};

pub(crate) static SPECIAL_FILE: Check = Check {
    name: "special-file",
    severity: Severity::Medium,
    wrong: "there are special files",
    lets: "a web application has no use for them; a device gives access to what is behind it",
    remedy: Remedy::Hand("find out who made it, then remove it"),
    judge: Judge::Rights(|case| match case.facts.kind {
        kind @ (Kind::Fifo | Kind::Socket | Kind::Device) => Some(Reason::Says(format!("a {}", kind.word()))),
        Kind::File | Kind::Directory | Kind::Symlink => None,
    }),
};

pub(crate) static PROGRAM_BIT: Check = Check {
    name: "program-bit",
    severity: Severity::Low,
    wrong: "files that are no programs can be executed",
    lets: "an uploaded file could be started as a program",
    remedy: Remedy::Set,
    judge: Judge::Rights(|case| {
        let executable = case.facts.kind == Kind::File && case.facts.rights.mode.has(0o111);
        (executable && case.shape == Shape::File).then_some(Reason::Says("neither #! nor ELF".into()))
    }),
};

pub(crate) static UNKNOWN_OWNER: Check = Check {
    name: "unknown-owner",
    severity: Severity::Medium,
    wrong: "the owner or group is no account of this host",
    lets: "whoever gets that number next gets these files",
    remedy: Remedy::Set,
    judge: Judge::Rights(unknown_owner),
};

fn special_bits(case: &Case<'_>) -> Option<Reason> {
    if case.facts.kind != Kind::File {
        return None;
    }
    let mode = case.facts.rights.mode;
    let mut found = Vec::new();
    if mode.has(Mode::SET_UID) {
        found.push("set-uid");
    }
    if mode.has(Mode::SET_GID) {
        found.push("set-gid");
    }
    if case.facts.rights.capabilities.is_some() {
        found.push("file capabilities");
    }
    (!found.is_empty()).then(|| Reason::Says(found.join(", ")))
}

fn unknown_owner(case: &Case<'_>) -> Option<Reason> {
    let rights = &case.facts.rights;
    if case.accounts.user_name(rights.uid).is_none() {
        return Some(Reason::Says(format!("uid {}", rights.uid)));
    }
    let unknown = case.accounts.group_name(rights.gid).is_none();
    unknown.then(|| Reason::Says(format!("gid {}", rights.gid)))
}
