//! Access lists (POSIX.1e draft 17, section 23) in the kernel's extended-attribute format.

use crate::account::{Gid, Uid};
use crate::mode::{Mode, Perm};

/// The attribute of the list that rules access to a file.
pub const ACCESS_ATTRIBUTE: &str = "system.posix_acl_access";
/// The attribute of the list that new files in a directory start from.
pub const DEFAULT_ATTRIBUTE: &str = "system.posix_acl_default";

/// Whom an entry speaks of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Tag {
    /// The file's owner.
    Owner,
    /// One user, by name.
    User(Uid),
    /// The file's group.
    OwningGroup,
    /// One group, by name.
    Group(Gid),
    /// The most that named users and all groups get.
    Mask,
    /// Everybody else.
    Other,
}

/// One line of an access list.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AclEntry {
    /// Whom it speaks of.
    pub tag: Tag,
    /// What these get.
    pub perm: Perm,
}

/// A valid access list: each of owner, owning group and others once, no name twice, a mask where there are names.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Acl(Vec<AclEntry>);

/// Bytes, or entries, that are no valid access list.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AclError {
    /// The length is not a header and whole entries.
    #[error("the access list is cut off")]
    Length,
    /// The header names another version than 2.
    #[error("the access list has an unknown version")]
    Version,
    /// A tag or right that `linux/posix_acl_xattr.h` does not know.
    #[error("the access list has an unknown entry")]
    Entry,
    /// Required entries are missing, or one stands twice.
    #[error("the access list is not valid: an entry is missing or stands twice")]
    Shape,
}

/// `POSIX_ACL_XATTR_VERSION` (`linux/posix_acl_xattr.h`).
const VERSION: u32 = 2;
/// `ACL_UNDEFINED_ID`: the id of entries that name nobody.
const NO_ID: u32 = u32::MAX;

impl Acl {
    /// The list of these entries, put in order.
    pub fn new(entries: impl IntoIterator<Item = AclEntry>) -> Result<Self, AclError> {
        let mut entries: Vec<AclEntry> = entries.into_iter().collect();
        entries.sort_unstable();
        let unique = entries.windows(2).all(|pair| pair[0].tag != pair[1].tag);
        let has = |tag| entries.iter().any(|e| e.tag == tag);
        let named = entries.iter().any(|e| matches!(e.tag, Tag::User(_) | Tag::Group(_)));
        let complete = has(Tag::Owner) && has(Tag::OwningGroup) && has(Tag::Other) && (!named || has(Tag::Mask));
        if unique && complete { Ok(Self(entries)) } else { Err(AclError::Shape) }
    }

    /// The list that says these three classes and these users, with the narrowest mask that holds them.
    #[must_use]
    pub fn with_users(owner: Perm, group: Perm, other: Perm, users: &[(Uid, Perm)]) -> Self {
        Self::with_named(owner, group, other, users, &[])
    }

    /// As [`Self::with_users`], with groups besides.
    #[must_use]
    pub fn with_named(owner: Perm, group: Perm, other: Perm, users: &[(Uid, Perm)], groups: &[(Gid, Perm)]) -> Self {
        let users = users.iter().map(|&(uid, perm)| AclEntry { tag: Tag::User(uid), perm });
        let mut entries: Vec<AclEntry> =
            users.chain(groups.iter().map(|&(gid, perm)| AclEntry { tag: Tag::Group(gid), perm })).collect();
        let mask = entries.iter().fold(group, |mask, entry| mask.or(entry.perm));
        entries.sort_unstable();
        entries.dedup_by_key(|entry| entry.tag);
        entries.extend([
            AclEntry { tag: Tag::Owner, perm: owner },
            AclEntry { tag: Tag::OwningGroup, perm: group },
            AclEntry { tag: Tag::Mask, perm: mask },
            AclEntry { tag: Tag::Other, perm: other },
        ]);
        entries.sort_unstable();
        Self(entries)
    }

    /// Reads an extended attribute's value.
    pub fn from_attribute(bytes: &[u8]) -> Result<Self, AclError> {
        let (header, rest) = bytes.split_first_chunk::<4>().ok_or(AclError::Length)?;
        if u32::from_le_bytes(*header) != VERSION {
            return Err(AclError::Version);
        }
        let (entries, cut) = rest.as_chunks::<8>();
        if !cut.is_empty() {
            return Err(AclError::Length);
        }
        Self::new(entries.iter().map(|entry| read_entry(*entry)).collect::<Result<Vec<_>, _>>()?)
    }

    /// The extended attribute's value.
    #[must_use]
    pub fn to_attribute(&self) -> Vec<u8> {
        let entries = self.0.iter().flat_map(|entry| {
            let (tag, id) = match entry.tag {
                Tag::Owner => (0x01, NO_ID),
                Tag::User(uid) => (0x02, uid.0),
                Tag::OwningGroup => (0x04, NO_ID),
                Tag::Group(gid) => (0x08, gid.0),
                Tag::Mask => (0x10, NO_ID),
                Tag::Other => (0x20, NO_ID),
            };
            let tag: u16 = tag;
            tag.to_le_bytes().into_iter().chain(entry.perm.bits().to_le_bytes()).chain(id.to_le_bytes())
        });
        VERSION.to_le_bytes().into_iter().chain(entries).collect()
    }

    /// The entries: owner, users by id, owning group, groups by id, mask, others.
    #[must_use]
    pub fn entries(&self) -> &[AclEntry] {
        &self.0
    }

    /// What the entry with this tag gives, before the mask.
    #[must_use]
    pub fn perm(&self, tag: Tag) -> Option<Perm> {
        self.0.iter().find(|e| e.tag == tag).map(|e| e.perm)
    }

    /// The permission bits that a file with this list shows: its group class is the mask (POSIX.1e 23.1.2).
    #[must_use]
    pub fn shown_mode(&self, special: Mode) -> Mode {
        let of = |tag| self.perm(tag).unwrap_or(Perm::NONE);
        let group = self.perm(Tag::Mask).unwrap_or_else(|| of(Tag::OwningGroup));
        Mode::of_classes(of(Tag::Owner), group, of(Tag::Other)).with(special.bits() & 0o7000)
    }

    /// This list as it is on a file with these bits: owner, mask and others follow the mode.
    #[must_use]
    pub fn under_mode(&self, mode: Mode) -> Self {
        let has_mask = self.perm(Tag::Mask).is_some();
        let entries = self.0.iter().map(|&AclEntry { tag, perm }| {
            let perm = match tag {
                Tag::Owner => mode.user(),
                Tag::Other => mode.other(),
                Tag::Mask => mode.group(),
                Tag::OwningGroup if !has_mask => mode.group(),
                Tag::OwningGroup | Tag::User(_) | Tag::Group(_) => perm,
            };
            AclEntry { tag, perm }
        });
        Self(entries.collect())
    }
}

fn read_entry(bytes: [u8; 8]) -> Result<AclEntry, AclError> {
    let [t0, t1, p0, p1, id @ ..] = bytes;
    let id = u32::from_le_bytes(id);
    let tag = match u16::from_le_bytes([t0, t1]) {
        0x01 => Tag::Owner,
        0x02 => Tag::User(Uid(id)),
        0x04 => Tag::OwningGroup,
        0x08 => Tag::Group(Gid(id)),
        0x10 => Tag::Mask,
        0x20 => Tag::Other,
        _ => return Err(AclError::Entry),
    };
    match u16::from_le_bytes([p0, p1]) {
        bits @ 0..=7 => Ok(AclEntry { tag, perm: Perm::from_low_bits(bits) }),
        _ => Err(AclError::Entry),
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const BASE: [AclEntry; 3] = [
        AclEntry { tag: Tag::Owner, perm: Perm::RW },
        AclEntry { tag: Tag::OwningGroup, perm: Perm::R },
        AclEntry { tag: Tag::Other, perm: Perm::NONE },
    ];

    #[test]
    fn bytes_are_the_kernels() {
        let acl = Acl::with_users(Perm::RW, Perm::NONE, Perm::NONE, &[(Uid(33), Perm::R)]);
        let want: Vec<u8> = [
            &[2u8, 0, 0, 0][..],
            &[1, 0, 6, 0, 255, 255, 255, 255],
            &[2, 0, 4, 0, 33, 0, 0, 0],
            &[4, 0, 0, 0, 255, 255, 255, 255],
            &[16, 0, 4, 0, 255, 255, 255, 255],
            &[32, 0, 0, 0, 255, 255, 255, 255],
        ]
        .concat();
        assert_eq!(acl.to_attribute(), want);
        assert_eq!(acl.shown_mode(Mode::of_st_mode(0o2000)).bits(), 0o2640);
    }

    #[rstest]
    #[case::empty(&[], AclError::Length)]
    #[case::version(&[1, 0, 0, 0], AclError::Version)]
    #[case::header_alone(&[2, 0, 0, 0], AclError::Shape)]
    #[case::cut(&[2, 0, 0, 0, 1, 0], AclError::Length)]
    #[case::tag(&[2, 0, 0, 0, 3, 0, 0, 0, 0, 0, 0, 0], AclError::Entry)]
    #[case::perm(&[2, 0, 0, 0, 1, 0, 8, 0, 0, 0, 0, 0], AclError::Entry)]
    fn refuses(#[case] bytes: &[u8], #[case] want: AclError) {
        assert_eq!(Acl::from_attribute(bytes), Err(want));
    }

    #[test]
    fn names_need_a_mask_and_stand_once() {
        let user = AclEntry { tag: Tag::User(Uid(5)), perm: Perm::R };
        let mask = AclEntry { tag: Tag::Mask, perm: Perm::R };
        assert!(Acl::new(BASE).is_ok());
        assert_eq!(Acl::new(BASE.into_iter().chain([user])), Err(AclError::Shape));
        assert!(Acl::new(BASE.into_iter().chain([user, mask])).is_ok());
        assert_eq!(Acl::new(BASE.into_iter().chain([user, user, mask])), Err(AclError::Shape));
    }

    prop_compose! {
        pub(crate) fn any_acl()(
            users in proptest::collection::btree_map(0u32..9, 0u16..8, 0..4),
            groups in proptest::collection::btree_map(0u32..9, 0u16..8, 0..4),
            base in [0u16..8, 0u16..8, 0u16..8, 0u16..8],
        ) -> Acl {
            let perm = Perm::from_low_bits;
            let mut entries = vec![
                AclEntry { tag: Tag::Owner, perm: perm(base[0]) },
                AclEntry { tag: Tag::OwningGroup, perm: perm(base[1]) },
                AclEntry { tag: Tag::Mask, perm: perm(base[2]) },
                AclEntry { tag: Tag::Other, perm: perm(base[3]) },
            ];
            entries.extend(users.into_iter().map(|(id, p)| AclEntry { tag: Tag::User(Uid(id)), perm: perm(p) }));
            entries.extend(groups.into_iter().map(|(id, p)| AclEntry { tag: Tag::Group(Gid(id)), perm: perm(p) }));
            Acl::new(entries).unwrap()
        }
    }

    proptest! {
        #[test]
        fn bytes_and_back(acl in any_acl()) {
            prop_assert_eq!(Acl::from_attribute(&acl.to_attribute()), Ok(acl));
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..64)) {
            let _ = Acl::from_attribute(&bytes);
        }
    }
}
