//! Facts about one path, as the kernel tells them.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::account::{Gid, Uid};
use crate::acl::Acl;
use crate::mode::Mode;
use crate::security_context::SecurityContext as Label;

/// A path without `.`, `..` and doubled slashes, in the order in which a tree is walked: a directory, all that is in it, and then what is
/// beside it. That is the order of [`Path`] as well, which takes both paths apart for each comparison: in maps of many that is most of the
/// work.
#[derive(Clone, Debug)]
pub struct TreePath<'p>(Cow<'p, Path>);

impl<'p> TreePath<'p> {
    /// A path to look up.
    #[must_use]
    pub const fn of(path: &'p Path) -> Self {
        Self(Cow::Borrowed(path))
    }

    fn bytes(&self) -> &[u8] {
        self.0.as_os_str().as_bytes()
    }
}

impl From<PathBuf> for TreePath<'_> {
    fn from(path: PathBuf) -> Self {
        Self(Cow::Owned(path))
    }
}

impl AsRef<Path> for TreePath<'_> {
    fn as_ref(&self) -> &Path {
        &self.0
    }
}

impl PartialEq for TreePath<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.bytes() == other.bytes()
    }
}

impl Eq for TreePath<'_> {}

impl PartialOrd for TreePath<'_> {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for TreePath<'_> {
    fn cmp(&self, other: &Self) -> Ordering {
        let (one, two) = (self.bytes(), other.bytes());
        // A slash ends a name, which goes before whatever is longer.
        let weight = |byte: u8| if byte == b'/' { 0 } else { byte };
        match one.iter().zip(two).find(|(a, b)| a != b) {
            Some((a, b)) => weight(*a).cmp(&weight(*b)),
            None => one.len().cmp(&two.len()),
        }
    }
}

/// What a path is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// A regular file.
    File,
    /// A directory.
    Directory,
    /// A symbolic link.
    Symlink,
    /// A FIFO.
    Fifo,
    /// A socket.
    Socket,
    /// A block or character device.
    Device,
}

impl Kind {
    /// The kind in a `st_mode` (inode(7)).
    #[must_use]
    pub const fn of_st_mode(st_mode: u16) -> Self {
        match st_mode & 0o170_000 {
            0o040_000 => Self::Directory,
            0o120_000 => Self::Symlink,
            0o010_000 => Self::Fifo,
            0o140_000 => Self::Socket,
            0o020_000 | 0o060_000 => Self::Device,
            _ => Self::File,
        }
    }

    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::File => "file",
            Self::Directory => "directory",
            Self::Symlink => "symlink",
            Self::Fifo => "FIFO",
            Self::Socket => "socket",
            Self::Device => "device",
        }
    }

    /// Whether it has permission bits that count.
    #[must_use]
    pub const fn has_mode(self) -> bool {
        !matches!(self, Self::Symlink)
    }
}

/// A time in nanoseconds since 1970 (64 bits reach to 2262).
pub type Nanos = i64;

/// Which inode a path is: what a name swapped under the run, or between two runs, does not share with what was judged.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Identity {
    /// The file system's device number.
    pub dev: u64,
    /// The inode number.
    pub ino: u64,
    /// When the inode was made (`stx_btime` of statx(2)), which nobody can set: the number of one that is gone is given out
    /// again. 0 where the file system does not tell.
    pub born: Nanos,
}

impl Identity {
    /// Whether this is the inode that was recorded as `then`, perhaps before the last start of the system. Device numbers
    /// are given out anew with each mount, so they count only where the file system keeps no times of birth.
    #[must_use]
    pub const fn is_still(&self, then: &Self) -> bool {
        self.ino == then.ino
            && if self.born != 0 && then.born != 0 { self.born == then.born } else { self.dev == then.dev }
    }
}

/// Who owns a path and what its bits and lists say: all that decides access, and all that `set` changes.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Rights {
    /// The owner.
    pub uid: Uid,
    /// The group.
    pub gid: Gid,
    /// The permission bits; under an access list the group's are its mask.
    pub mode: Mode,
    /// The access list, where there is one beyond the bits.
    pub acl: Option<Arc<Acl>>,
    /// A directory's default access list.
    pub default_acl: Option<Arc<Acl>>,
    /// File capabilities, as the attribute `security.capability` holds them (capabilities(7)).
    pub capabilities: Option<Arc<[u8]>>,
    /// The SELinux label, as the attribute `security.selinux` holds it.
    pub label: Option<Label>,
}

impl Rights {
    /// Whether a file with these rights runs with rights that whoever runs it does not have.
    #[must_use]
    pub fn lend_power(&self, kind: Kind) -> bool {
        kind == Kind::File && (self.mode.has(Mode::SET_UID | Mode::SET_GID) || self.capabilities.is_some())
    }
}

/// What keeps everybody from changing a path, whatever its rights say.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Bar {
    /// The immutable flag.
    Immutable,
    /// Its file system is mounted read-only.
    ReadOnly,
}

impl Bar {
    /// The words for it.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Immutable => "the immutable flag is set",
            Self::ReadOnly => "its file system is mounted read-only",
        }
    }

    /// What takes it away, by hand.
    #[must_use]
    pub const fn remedy(self) -> &'static str {
        match self {
            Self::Immutable => "chattr -i takes the immutable flag away",
            Self::ReadOnly => "mount -o remount,rw takes the read-only option away",
        }
    }
}

/// Everything that one look at a path tells.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Facts {
    /// What it is.
    pub kind: Kind,
    /// Which inode.
    pub id: Identity,
    /// Who may do what.
    pub rights: Rights,
    /// The number of names that the inode has.
    pub links: u32,
    /// When it was changed last in any way (`st_ctime`, which nobody can set).
    pub changed: Nanos,
    /// Length in bytes.
    pub size: u64,
    /// Whether another file system begins here.
    pub mounted: bool,
    /// The mount that it is on, as mountinfo numbers them (`proc_pid_mountinfo(5)`).
    pub mount: u64,
    /// Whether the immutable flag is set (`FS_IOC_SETFLAGS(2const)`): nobody changes it, root neither.
    pub immutable: bool,
    /// Whether the append-only flag is set: nothing that is there can be changed or removed.
    pub append_only: bool,
    /// Whether its SELinux label comes with the mount (`context=`, or a file system without labels): nobody can set another.
    pub label_given: bool,
}

/// Whether the first bytes of a file are a program's: `#!`, or an ELF binary's (execve(2)).
pub(crate) fn begins_as_program(head: &[u8]) -> bool {
    head.starts_with(b"#!") || head.starts_with(b"\x7fELF")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    proptest::proptest! {
        /// The order of the library's paths.
        #[test]
        fn paths_are_ordered_as_a_tree_is_walked(one in "[a-c-][a-c.-]?(/[a-c-][a-c.-]?){0,3}", two in "[a-c-][a-c.-]?(/[a-c-][a-c.-]?){0,3}") {
            let [one, two] = [Path::new(&one), Path::new(&two)];
            let compared = TreePath::of(one).cmp(&TreePath::of(two));
            proptest::prop_assert_eq!(compared, one.cmp(two));
            proptest::prop_assert_eq!(compared.is_eq(), TreePath::of(one) == TreePath::of(two));
        }
    }

    #[rstest]
    #[case::same((1, 7, 5), (1, 7, 5), true)]
    #[case::mounted_again((1, 7, 5), (2, 7, 5), true)]
    #[case::number_given_out_again((1, 7, 5), (1, 7, 6), false)]
    #[case::another((1, 7, 5), (1, 8, 5), false)]
    #[case::no_births((1, 7, 0), (1, 7, 0), true)]
    #[case::no_births_on_another_device((1, 7, 0), (2, 7, 0), false)]
    #[case::recorded_without_a_birth((1, 7, 5), (1, 7, 0), true)]
    fn an_inode_is_known_again(#[case] now: (u64, u64, i64), #[case] then: (u64, u64, i64), #[case] want: bool) {
        let of = |(dev, ino, born)| Identity { dev, ino, born };
        assert_eq!(of(now).is_still(&of(then)), want);
    }
}
