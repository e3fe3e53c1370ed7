//! Who may do what: the kernel's algorithm on facts (`generic_permission` and `acl_permission_check` in the kernel's
//! fs/namei.c, `posix_acl_permission` in `fs/posix_acl.c`; POSIX.1e draft 17, section 23.1.5).

use crate::account::{Gid, Ids, Powers, Uid};
use crate::acl::{Acl, Tag};
use crate::entry::{Facts, Kind, Rights};
use crate::mode::{Mode, Perm};

/// The one class of bits or entries that applies to an account.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Class {
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

/// An answer, and what decides it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Decision {
    /// Whether all that was wanted is given.
    pub allowed: bool,
    /// The class that applies.
    pub class: Class,
    /// What that class has by itself.
    pub perm: Perm,
    /// What an access list's mask leaves of it, where it has one and the class is under it.
    pub mask: Option<Perm>,
    /// The group that a named entry names.
    pub group: Option<Gid>,
    /// The capability that gives what the class does not.
    pub power: Option<Powers>,
}

/// Whether a process with `ids` gets all of `want` at once on something of this kind with `rights`.
///
/// Reaching the path is another question: search on each directory above it.
#[must_use]
pub fn permits(ids: &Ids, kind: Kind, rights: &Rights, want: Perm) -> bool {
    decide(ids, kind, rights, want).allowed
}

/// What `permits` answers, and what decides it.
#[must_use]
pub fn decide(ids: &Ids, kind: Kind, rights: &Rights, want: Perm) -> Decision {
    let decision = by_class(ids, rights, want);
    if decision.allowed {
        return decision;
    }
    let power = overriding(ids, kind, rights, want);
    Decision { allowed: power.is_some(), power, ..decision }
}

/// The capability that gives `want` whatever the class says (`generic_permission`).
fn overriding(ids: &Ids, kind: Kind, rights: &Rights, want: Perm) -> Option<Powers> {
    let directory = kind == Kind::Directory;
    let only_looks = if directory { !want.covers(Perm::W) } else { want == Perm::R };
    let executable = directory || !want.covers(Perm::X) || rights.mode.has(0o111);
    let candidates = [(Powers::DAC_READ_SEARCH, only_looks), (Powers::DAC_OVERRIDE, executable)];
    candidates.into_iter().find(|(power, does)| *does && ids.powers.has(*power)).map(|(power, _)| power)
}

fn by_class(ids: &Ids, rights: &Rights, want: Perm) -> Decision {
    let mode = rights.mode;
    if ids.uid == rights.uid {
        return plain(Class::Owner, mode.user(), want);
    }
    // The kernel looks at the list only where the group bits (its mask) leave something.
    if let Some(acl) = &rights.acl
        && !mode.group().is_none()
    {
        return by_list(acl, ids, rights, want);
    }
    if ids.is_in(rights.gid) {
        plain(Class::Group, mode.group(), want)
    } else {
        plain(Class::Other, mode.other(), want)
    }
}

const fn plain(class: Class, perm: Perm, want: Perm) -> Decision {
    Decision { allowed: perm.covers(want), class, perm, mask: None, group: None, power: None }
}

/// The list's first entry that names the user; else any group entry that gives all of `want`; else others.
fn by_list(acl: &Acl, ids: &Ids, rights: &Rights, want: Perm) -> Decision {
    // A list without a mask entry has only the three classes; then the group bits are the entry itself.
    let mask = acl.perm(Tag::Mask).map(|_| rights.mode.group());
    let masked = |class: Class, perm: Perm, group: Option<Gid>| {
        let left = mask.map_or(perm, |mask| perm.and(mask));
        Decision { allowed: left.covers(want), class, perm, mask, group, power: None }
    };
    let mut in_a_group = None;
    for entry in acl.entries() {
        let (class, group) = match entry.tag {
            Tag::User(uid) if uid == ids.uid => return masked(Class::NamedUser, entry.perm, None),
            Tag::OwningGroup if ids.is_in(rights.gid) => (Class::Group, None),
            Tag::Group(gid) if ids.is_in(gid) => (Class::NamedGroup, Some(gid)),
            Tag::Owner | Tag::User(_) | Tag::OwningGroup | Tag::Group(_) | Tag::Mask | Tag::Other => continue,
        };
        let decision = masked(class, entry.perm, group);
        if entry.perm.covers(want) {
            return decision;
        }
        in_a_group = in_a_group.or(Some(Decision { allowed: false, ..decision }));
    }
    in_a_group.unwrap_or_else(|| plain(Class::Other, rights.mode.other(), want))
}

/// The rights among read, write and execute that `ids` gets one at a time.
#[must_use]
pub fn each(ids: &Ids, kind: Kind, rights: &Rights) -> Perm {
    [Perm::R, Perm::W, Perm::X].into_iter().filter(|&perm| permits(ids, kind, rights, perm)).fold(Perm::NONE, Perm::or)
}

/// What a directory says of the names in it: which of those that can write to it and search it can also remove, rename or
/// replace one (`may_delete` in the kernel's fs/namei.c).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct NameRule {
    /// The directory's owner, where only owners remove names (sticky).
    sticky: Option<Uid>,
    /// Whether names can only be added (the append-only flag).
    append_only: bool,
}

/// What keeps everybody from removing, renaming or replacing a name, root too.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fixed {
    /// The directory's append-only flag.
    NamesAreOnlyAdded,
    /// Its own immutable flag.
    Immutable,
    /// Its own append-only flag.
    AppendOnly,
    /// Another file system begins there.
    MountPoint,
}

impl NameRule {
    /// The rule of a directory with these facts.
    #[must_use]
    pub fn of(dir: &Facts) -> Self {
        Self::with(&dir.rights, dir.append_only)
    }

    /// The rule of a directory with these rights, and this append-only flag.
    #[must_use]
    pub fn with(rights: &Rights, append_only: bool) -> Self {
        Self { sticky: rights.mode.has(Mode::STICKY).then_some(rights.uid), append_only }
    }

    /// Those one of whom an account must be, or have `CAP_FOWNER`: the owners of the directory and of what has the name; nothing
    /// where it need not.
    #[must_use]
    pub fn owners(self, entry: Uid) -> Option<[Uid; 2]> {
        self.sticky.map(|dir| [dir, entry])
    }

    /// All that keeps everybody from it.
    pub fn fixed(self, entry: &Facts) -> impl Iterator<Item = Fixed> {
        let each = [
            (self.append_only, Fixed::NamesAreOnlyAdded),
            (entry.immutable, Fixed::Immutable),
            (entry.append_only, Fixed::AppendOnly),
            (entry.mounted, Fixed::MountPoint),
        ];
        each.into_iter().filter(|(set, _)| *set).map(|(_, fixed)| fixed)
    }

    /// Whether the rule lets an account that can write to the directory and search it remove something.
    #[must_use]
    pub fn lets(self, ids: &Ids, entry: &Facts) -> bool {
        let owns = |owners: [Uid; 2]| owners.contains(&ids.uid) || ids.powers.has(Powers::FOWNER);
        self.owners(entry.rights.uid).is_none_or(owns) && self.fixed(entry).next().is_none()
    }
}

/// How others than those trusted can put something else under a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Loose {
    /// The directory is somebody else's.
    Owner,
    /// Others can write to the directory, and it is not sticky, or the name is somebody else's.
    Mode,
}

/// Whether others than those trusted can put something else under a name of a directory, as far as its mode tells: an access
/// list that gives more has its mask in the group bits.
pub fn loose(trusted: impl Fn(Uid) -> bool, dir: &Rights, entry: Uid) -> Option<Loose> {
    if !trusted(dir.uid) {
        return Some(Loose::Owner);
    }
    let held = NameRule::with(dir, false).owners(entry).is_some_and(|owners| owners.into_iter().all(&trusted));
    (dir.mode.has(0o022) && !held).then_some(Loose::Mode)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::acl::AclEntry;
    use rstest::rstest;
    use std::sync::Arc;

    fn rights(mode: u16, named: &[(Tag, u16)]) -> Rights {
        let mode = Mode::of_st_mode(mode);
        let entries = named.iter().map(|&(tag, bits)| AclEntry { tag, perm: Perm::from_low_bits(bits) });
        let acl = Acl::new(entries.chain([
            AclEntry { tag: Tag::Owner, perm: mode.user() },
            AclEntry { tag: Tag::OwningGroup, perm: Perm::R },
            AclEntry { tag: Tag::Mask, perm: mode.group() },
            AclEntry { tag: Tag::Other, perm: mode.other() },
        ]));
        let acl = (!named.is_empty()).then(|| Arc::new(acl.unwrap()));
        Rights { uid: Uid(10), gid: Gid(10), mode, acl, default_acl: None, capabilities: None, label: None }
    }

    fn user(uid: u32, groups: &[u32]) -> Ids {
        Ids::new(Uid(uid), Gid(99), groups.iter().copied().map(Gid))
    }

    #[rstest]
    #[case::root_passes(user(0, &[]), 0o000, Class::Other, 0o6)]
    #[case::root_executes_what_somebody_may(user(0, &[]), 0o010, Class::Other, 0o7)]
    #[case::owner_first(user(10, &[10]), 0o077, Class::Owner, 0)]
    #[case::group_before_others(user(11, &[10]), 0o707, Class::Group, 0)]
    #[case::others(user(11, &[]), 0o774, Class::Other, 4)]
    fn bits(#[case] ids: Ids, #[case] mode: u16, #[case] class: Class, #[case] want: u16) {
        let rights = rights(mode, &[]);
        assert_eq!(decide(&ids, Kind::File, &rights, Perm::R).class, class);
        assert_eq!(each(&ids, Kind::File, &rights).bits(), want);
    }

    #[rstest]
    #[case::nothing(Powers::NONE, Kind::Directory, 0)]
    #[case::searches(Powers::DAC_READ_SEARCH, Kind::Directory, 5)]
    #[case::reads(Powers::DAC_READ_SEARCH, Kind::File, 4)]
    #[case::overrides(Powers::DAC_OVERRIDE, Kind::Directory, 7)]
    #[case::overrides_but_does_not_execute(Powers::DAC_OVERRIDE, Kind::File, 6)]
    #[case::owners_only(Powers::FOWNER, Kind::Directory, 0)]
    fn capabilities(#[case] powers: Powers, #[case] kind: Kind, #[case] want: u16) {
        let root = user(0, &[]).with_powers(powers);
        assert_eq!(each(&root, kind, &rights(0o000, &[])).bits(), want, "root is nothing without them");
        assert_eq!(each(&user(11, &[]).with_powers(powers), kind, &rights(0o000, &[])).bits(), want);
    }

    #[rstest]
    #[case::named_user_through_mask(user(11, &[]), 0o750, &[(Tag::User(Uid(11)), 7)], 5)]
    #[case::named_user_before_group(user(11, &[10]), 0o770, &[(Tag::User(Uid(11)), 0)], 0)]
    #[case::any_group_that_gives_it(user(11, &[10, 12]), 0o770, &[(Tag::Group(Gid(12)), 2)], 6)]
    #[case::in_a_group_never_others(user(11, &[12]), 0o777, &[(Tag::Group(Gid(12)), 0)], 0)]
    #[case::empty_mask_hides_the_list(user(11, &[]), 0o704, &[(Tag::User(Uid(11)), 0)], 4)]
    #[case::others_without_mask(user(11, &[]), 0o717, &[(Tag::User(Uid(12)), 0)], 7)]
    fn lists(#[case] ids: Ids, #[case] mode: u16, #[case] named: &[(Tag, u16)], #[case] want: u16) {
        assert_eq!(each(&ids, Kind::File, &rights(mode, named)).bits(), want);
    }

    #[test]
    fn two_groups_do_not_add_up() {
        let rights = rights(0o770, &[(Tag::Group(Gid(12)), 2)]);
        let ids = user(11, &[10, 12]);
        assert_eq!(each(&ids, Kind::File, &rights), Perm::RW);
        assert!(!permits(&ids, Kind::File, &rights, Perm::RW));
    }

    #[test]
    fn an_answer_tells_what_decided_it() {
        let list = rights(0o750, &[(Tag::User(Uid(11)), 6), (Tag::Group(Gid(12)), 3)]);
        let of = |ids: &Ids, want| decide(ids, Kind::File, &list, want);
        let named = of(&user(11, &[12]), Perm::W);
        assert_eq!(
            (named.class, named.perm, named.mask, named.allowed),
            (Class::NamedUser, Perm::RW, Some(Perm::RX), false)
        );
        let group = of(&user(13, &[12]), Perm::X);
        assert_eq!((group.class, group.group, group.allowed), (Class::NamedGroup, Some(Gid(12)), true));
        let root = of(&user(0, &[]), Perm::W);
        assert_eq!((root.class, root.power), (Class::Other, Some(Powers::DAC_OVERRIDE)));
    }
}
