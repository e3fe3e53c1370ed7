//! What a process makes next: owner, group, mode and lists of a new file or directory (open(2), mkdir(2), umask(2), acl(5)
//! "Object creation and default ACLs"), and of an upload that PHP moves to its place.

use std::sync::Arc;

use crate::account::Ids;
use crate::acl::{Acl, Tag};
use crate::entry::{Kind, Rights};
use crate::mode::{Mode, Perm};

/// The rights of what a process with these ids and this umask makes in a directory with the rights `dir`, asking for `mode`.
#[must_use]
pub fn made_in(dir: &Rights, maker: &Ids, kind: Kind, mode: u16, umask: u16) -> Rights {
    let directory = kind == Kind::Directory;
    let set_gid = dir.mode.has(Mode::SET_GID);
    let special = if directory && set_gid { Mode::SET_GID } else { 0 };
    let gid = if set_gid { dir.gid } else { maker.gid };
    let (mode, acl) = match &dir.default_acl {
        None => (Mode::of_st_mode(mode & !umask), None),
        Some(list) => {
            // The umask counts for nothing; nothing more is given than was asked for.
            let asked = Mode::of_st_mode(mode);
            let shown = list.shown_mode(Mode::of_st_mode(0));
            let both = Mode::of_st_mode(shown.bits() & asked.bits());
            let list = list.under_mode(both);
            let named =
                list.entries().iter().any(|entry| matches!(entry.tag, Tag::User(_) | Tag::Group(_) | Tag::Mask));
            (both, named.then(|| Arc::new(list)))
        }
    };
    let default_acl = dir.default_acl.clone().filter(|_| directory);
    let mode = mode.with(special);
    Rights { uid: maker.uid, gid, mode, acl, default_acl, capabilities: None, label: None }
}

/// The rights of a file that was uploaded to the folder `upload` and moved to its place by renaming: PHP makes it for itself
/// alone (mkstemp(3)), and gives it 0666 less the umask afterwards. Neither the set-gid bit nor the default ACL of the directory
/// that it comes to reaches it.
#[must_use]
pub fn uploaded(upload: &Rights, maker: &Ids, umask: u16) -> Rights {
    let made = made_in(upload, maker, Kind::File, 0o600, umask);
    let mode = Mode::of_st_mode(0o666 & !umask);
    let acl = made.acl.map(|acl| Arc::new(Acl::under_mode(&acl, mode)));
    Rights { mode, acl, ..made }
}

/// What reading takes.
#[must_use]
pub fn reading(kind: Kind) -> Perm {
    if kind == Kind::Directory { Perm::RX } else { Perm::R }
}
