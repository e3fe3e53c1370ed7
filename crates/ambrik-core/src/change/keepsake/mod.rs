//! The keepsake: a tar archive (POSIX.1 pax format) in the state directory that holds what was removed, with
//! owners, modes, times, access lists, extended attributes, links and holes.
//!
//! What cannot be packed leaves no trace in the archive, is named, and stays where it is; the rest of a folder goes all the
//! same. The archive is read back whole before the first name is removed ([`verify`]).

mod chain;
mod holes;
mod new_file;
mod pack;
mod records;
mod remove;
mod unpack;
mod verify;

use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::folder::as_os;
use crate::entry::{Identity, Kind, Nanos};
use crate::tree::Failure;

use chain::{Placed, Position};

pub(crate) use holes::same_content;
pub(crate) use new_file::NewFile;
pub(crate) use pack::Packer;
pub(crate) use remove::remove;
pub(crate) use unpack::{Contents, How, Successors, newly_made, restore};
pub(crate) use verify::verify;

/// A path, and why nothing could be done with it.
pub(crate) type PathFailure = (PathBuf, Failure);

/// A path that was put into a keepsake: what may be removed, if it is still that.
#[derive(Clone, Debug)]
pub(crate) struct Packed {
    /// Where it is; in no directory of the inventory, where it was asked to be packed itself.
    position: Position,
    /// The whole path of what was asked to be packed, without links, from the host's `/` on.
    top: Arc<Path>,
    pub(crate) id: Identity,
    pub(crate) kind: Kind,
    /// How many names it has anywhere.
    pub(crate) links: u32,
    /// Its length in bytes.
    pub(crate) size: u64,
    changed: Nanos,
    /// What it takes in an archive, in bytes.
    stored: u64,
    /// The checksum of what the archive holds of it.
    sum: blake3::Hash,
    /// Whether it, or something in it, is not in the archive: it stays where it is.
    stays: bool,
}

/// What was packed: folders before their content, what was asked for one after the other.
#[derive(Debug, Default)]
pub(crate) struct Inventory(Vec<Packed>);

impl Inventory {
    /// How many paths there are.
    pub(crate) const fn len(&self) -> usize {
        self.0.len()
    }

    /// Which inode a path was when it was packed, what it was, and when it was changed last.
    pub(crate) fn as_packed(&self, number: usize) -> Option<(Identity, Kind, Nanos)> {
        self.0.get(number).map(|item| (item.id, item.kind, item.changed))
    }

    /// Somebody who knows it to be as it was packed gave it another name, and with that another change time.
    pub(crate) fn renamed(&mut self, number: usize, changed: Nanos) {
        if let Some(item) = self.0.get_mut(number) {
            item.changed = changed;
        }
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = &Packed> {
        self.0.iter()
    }

    /// The whole path of the one with this number.
    pub(crate) fn path(&self, number: usize) -> PathBuf {
        let mut names = Vec::new();
        let mut at = number;
        while let Some(above) = self.0[at].position.above {
            names.push(as_os(&self.0[at].position.name));
            at = above;
        }
        std::iter::once(self.0[at].top.as_os_str()).chain(names.into_iter().rev()).collect()
    }

    /// What these paths take in an archive, in bytes.
    pub(crate) fn stored(&self, range: &Range<usize>) -> u64 {
        self.0[range.clone()].iter().map(|item| item.stored).sum()
    }

    /// How many of these paths are in the archive, with all that is in them.
    pub(crate) fn going(&self, range: &Range<usize>) -> u64 {
        self.0[range.clone()].iter().filter(|item| !item.stays).count() as u64
    }

    /// Marks a path, and all that it is in, as staying where it is.
    fn stays(&mut self, number: usize) {
        let mut at = Some(number);
        while let Some(here) = at.filter(|&here| !self.0[here].stays) {
            self.0[here].stays = true;
            at = self.0[here].position.above;
        }
    }
}

impl Placed for Packed {
    fn position(&self) -> &Position {
        &self.position
    }

    fn must_be(&self) -> Option<Identity> {
        Some(self.id)
    }
}

#[cfg(test)]
mod tests;
