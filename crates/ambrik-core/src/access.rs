//! Who may do what: the kernel's algorithm on facts (`acl_permission_check` in the kernel's fs/namei.c and
//! `posix_acl_permission` in `fs/posix_acl.c`; POSIX.1e draft 17, section 23.1.5).

use crate::account::{Ids, Uid};
use crate::acl::{Acl, Tag};
use crate::entry::Rights;
use crate::mode::Perm;

/// What decides an account's access to one path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Class {
    /// It is root, whom bits do not bind.
    Root,
    /// It owns the path.
    Owner,
    /// An access-list entry names it.
    NamedUser,
    /// It is in the path's group.
    Group,
    /// It is in a group that an access-list entry names.
    NamedGroup,
    /// None of these: the bits for all others.
    Other,
}

/// Whether a process with `ids` gets all of `want` at once on a path with `rights`.
///
/// Reaching the path is another question: search on each directory above it.
#[must_use]
pub fn permits(ids: &Ids, rights: &Rights, want: Perm) -> bool {
    decide(ids, rights, want).1
}

/// What `permits` answers, and what decides it.
#[must_use]
pub fn decide(ids: &Ids, rights: &Rights, want: Perm) -> (Class, bool) {
    if ids.uid == Uid::ROOT {
        return (Class::Root, true);
    }
    let mode = rights.mode;
    if ids.uid == rights.uid {
        return (Class::Owner, mode.user().covers(want));
    }
    // The kernel looks at the list only where the group bits (its mask) leave something.
    if let Some(acl) = &rights.acl
        && !mode.group().is_none()
    {
        return by_list(acl, ids, rights, want);
    }
    if ids.is_in(rights.gid) {
        (Class::Group, mode.group().covers(want))
    } else {
        (Class::Other, mode.other().covers(want))
    }
}

/// The list's first entry that names the user; else any group entry that gives all of `want`; else others.
fn by_list(acl: &Acl, ids: &Ids, rights: &Rights, want: Perm) -> (Class, bool) {
    let mask = rights.mode.group();
    let mut in_a_group = None;
    for entry in acl.entries() {
        let class = match entry.tag {
            Tag::User(uid) if uid == ids.uid => {
                return (Class::NamedUser, entry.perm.and(mask).covers(want));
            }
            Tag::OwningGroup if ids.is_in(rights.gid) => Class::Group,
            Tag::Group(gid) if ids.is_in(gid) => Class::NamedGroup,
            Tag::Owner | Tag::User(_) | Tag::OwningGroup | Tag::Group(_) | Tag::Mask | Tag::Other => continue,
        };
        if entry.perm.covers(want) {
            return (class, mask_of(acl, entry.perm, mask).covers(want));
        }
        in_a_group = in_a_group.or(Some(class));
    }
    match in_a_group {
        Some(class) => (class, false),
        None => (Class::Other, rights.mode.other().covers(want)),
    }
}

/// A list without a mask entry has only the three classes; then the group bits are the entry itself.
fn mask_of(acl: &Acl, perm: Perm, mask: Perm) -> Perm {
    if acl.perm(Tag::Mask).is_some() { perm.and(mask) } else { perm }
}

/// The rights among read, write and execute that `ids` gets one at a time.
#[must_use]
pub fn each(ids: &Ids, rights: &Rights) -> Perm {
    [Perm::R, Perm::W, Perm::X].into_iter().filter(|&perm| permits(ids, rights, perm)).fold(Perm::NONE, Perm::or)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::Gid;
    use crate::acl::Entry;
    use crate::mode::Mode;
    use rstest::rstest;
    use std::sync::Arc;

    fn rights(mode: u16, named: &[(Tag, u16)]) -> Rights {
        let mode = Mode::of_st_mode(mode);
        let entries = named.iter().map(|&(tag, bits)| Entry { tag, perm: Perm::from_low_bits(bits) });
        let acl = Acl::new(entries.chain([
            Entry { tag: Tag::Owner, perm: mode.user() },
            Entry { tag: Tag::OwningGroup, perm: Perm::R },
            Entry { tag: Tag::Mask, perm: mode.group() },
            Entry { tag: Tag::Other, perm: mode.other() },
        ]));
        let acl = (!named.is_empty()).then(|| Arc::new(acl.unwrap()));
        Rights { uid: Uid(10), gid: Gid(10), mode, acl, default_acl: None, capabilities: None }
    }

    fn user(uid: u32, groups: &[u32]) -> Ids {
        Ids::new(Uid(uid), Gid(99), groups.iter().copied().map(Gid))
    }

    #[rstest]
    #[case::root_passes(user(0, &[]), 0o000, Class::Root, 0o7)]
    #[case::owner_first(user(10, &[10]), 0o077, Class::Owner, 0)]
    #[case::group_before_others(user(11, &[10]), 0o707, Class::Group, 0)]
    #[case::others(user(11, &[]), 0o774, Class::Other, 4)]
    fn bits(#[case] ids: Ids, #[case] mode: u16, #[case] class: Class, #[case] want: u16) {
        let rights = rights(mode, &[]);
        assert_eq!(decide(&ids, &rights, Perm::R).0, class);
        assert_eq!(each(&ids, &rights).bits(), want);
    }

    #[rstest]
    #[case::named_user_through_mask(user(11, &[]), 0o750, &[(Tag::User(Uid(11)), 7)], 5)]
    #[case::named_user_before_group(user(11, &[10]), 0o770, &[(Tag::User(Uid(11)), 0)], 0)]
    #[case::any_group_that_gives_it(user(11, &[10, 12]), 0o770, &[(Tag::Group(Gid(12)), 2)], 6)]
    #[case::in_a_group_never_others(user(11, &[12]), 0o777, &[(Tag::Group(Gid(12)), 0)], 0)]
    #[case::empty_mask_hides_the_list(user(11, &[]), 0o704, &[(Tag::User(Uid(11)), 0)], 4)]
    #[case::others_without_mask(user(11, &[]), 0o717, &[(Tag::User(Uid(12)), 0)], 7)]
    fn lists(#[case] ids: Ids, #[case] mode: u16, #[case] named: &[(Tag, u16)], #[case] want: u16) {
        assert_eq!(each(&ids, &rights(mode, named)).bits(), want);
    }

    #[test]
    fn two_groups_do_not_add_up() {
        let rights = rights(0o770, &[(Tag::Group(Gid(12)), 2)]);
        let ids = user(11, &[10, 12]);
        assert_eq!(each(&ids, &rights), Perm::RW);
        assert!(!permits(&ids, &rights, Perm::RW));
    }
}
