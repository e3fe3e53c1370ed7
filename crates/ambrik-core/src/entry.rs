//! Facts about one path, as the kernel tells them.

use std::sync::Arc;

use crate::account::{Gid, Uid};
use crate::acl::Acl;
use crate::label::Context as Label;
use crate::mode::Mode;

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

/// Which inode a path is: what a name swapped under the run does not share with what was judged.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Identity {
    /// The file system's device number.
    pub dev: u64,
    /// The inode number.
    pub ino: u64,
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
    /// When it was changed last in any way (`st_ctime`, which nobody can set), in seconds since 1970.
    pub changed: i64,
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
}
