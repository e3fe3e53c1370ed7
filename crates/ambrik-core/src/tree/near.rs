//! Looking at names in a directory, access lists and capabilities included, the cheap way round: from a working
//! directory that follows the work, where attributes are asked for by bare name.
//!
//! `statx` takes a directory's handle and a name; `lgetxattr` and `llistxattr` take a path only (`getxattrat` came with Linux 6.13).
//! A path from `/` would be looked up anew for every entry and could lead elsewhere by now; one through `/proc/self/fd/N/` is safe
//! and costs three more look-ups. A bare name is looked up in the working directory, which fchdir(2) pins to the very directory
//! that the walk holds open, whatever it is renamed to. Threads share one working directory, so each takes its own first
//! (unshare(2), `CLONE_FS`): a thread that did so can never share it again, which is why the process's first thread must not.

use std::ffi::CStr;
use std::os::fd::{AsFd, AsRawFd};

use rustix::io::Errno;

use super::sys;
use crate::entry::Facts;

/// A thread's way to look at names.
#[derive(Debug)]
pub(crate) struct Near {
    /// Whether the thread has a working directory of its own (unshare(2), `CLONE_FS`).
    moves: bool,
    /// Whether it stands in the directory at hand.
    here: bool,
    /// A file system that answered that it holds no attributes.
    no_attributes: Option<u64>,
    /// Whether labels are asked for.
    labels: bool,
}

impl Near {
    /// Takes the calling thread, which must not be the process's first, a working directory of its own. Where the system
    /// does not allow that, names are reached through `/proc/self/fd`.
    pub(crate) fn on_own_thread() -> Self {
        Self { moves: sys::own_working_directory(), ..Self::through_proc() }
    }

    /// Reaches names through `/proc/self/fd`.
    pub(crate) const fn through_proc() -> Self {
        Self { moves: false, here: false, no_attributes: None, labels: true }
    }

    /// Looks at labels as well, or not.
    pub(crate) const fn with_labels(self, labels: bool) -> Self {
        Self { labels, ..self }
    }

    /// The names that are looked at from now on are in `dir`.
    pub(crate) fn stand_in(&mut self, dir: impl AsFd) {
        self.here = self.moves && rustix::process::fchdir(dir).is_ok();
    }

    /// The facts about `name` in `dir`, in which this stands.
    pub(crate) fn look(&mut self, dir: impl AsFd, name: &CStr) -> Result<Facts, Errno> {
        let mut facts = sys::look(&dir, name)?;
        if self.no_attributes == Some(facts.id.dev) {
            return Ok(facts);
        }
        let answer = if self.here {
            sys::read_attributes(
                &mut facts,
                self.labels,
                |buffer| rustix::fs::llistxattr(name, buffer),
                |attribute, buffer| rustix::fs::lgetxattr(name, attribute, buffer),
            )
        } else {
            let bytes = [format!("/proc/self/fd/{}/", dir.as_fd().as_raw_fd()).as_bytes(), name.to_bytes()].concat();
            sys::read_attributes(
                &mut facts,
                self.labels,
                |buffer| rustix::fs::llistxattr(&*bytes, buffer),
                |attribute, buffer| rustix::fs::lgetxattr(&*bytes, attribute, buffer),
            )
        };
        match answer {
            Err(Errno::OPNOTSUPP) => self.no_attributes = Some(facts.id.dev),
            answer => answer?,
        }
        Ok(facts)
    }
}
