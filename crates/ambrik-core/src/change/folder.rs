//! Directories in which something is changed, opened again by handles: name by name, no link followed.

use std::ffi::{CStr, CString, OsStr};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::io::Errno;

use crate::entry::Identity;
use crate::tree::{Failure, Op, sys};

/// Where a directory's names are looked up from.
#[derive(Clone, Debug)]
pub(crate) struct Folder {
    /// Which of the bases it is below.
    pub(crate) base: usize,
    /// The names from the base down.
    pub(crate) below: PathBuf,
    /// The whole path without links, from the host's `/` on, for the ledger and for people.
    pub(crate) path: PathBuf,
    /// Which inode it was when it was judged, where that is known.
    pub(crate) id: Option<Identity>,
}

/// A folder by its path from the host's `/`.
pub(crate) fn folder(path: &Path) -> Folder {
    let below = path.strip_prefix("/").unwrap_or(path).to_owned();
    Folder { base: 0, below, path: path.to_owned(), id: None }
}

/// Opens folders one after the other, keeping the handles on what they have in common.
#[derive(Debug)]
pub(crate) struct Opener<'b> {
    bases: &'b [OwnedFd],
    base: usize,
    open: Vec<(CString, OwnedFd)>,
    /// The folder opened last, while it is.
    last: Option<Arc<Folder>>,
}

impl<'b> Opener<'b> {
    pub(crate) fn new(bases: &'b [OwnedFd]) -> Self {
        Self { bases, base: 0, open: Vec::new(), last: None }
    }

    /// As [`Self::open`]; the folder opened last is open still.
    pub(crate) fn open_again(&mut self, folder: &Arc<Folder>) -> Result<BorrowedFd<'_>, Failure> {
        if self.last.as_ref().is_some_and(|last| Arc::ptr_eq(last, folder)) {
            return self.at(self.open.len());
        }
        self.last = None;
        self.open(folder)?;
        self.last = Some(Arc::clone(folder));
        self.at(self.open.len())
    }

    /// A handle on the folder; it must be the directory that was judged.
    pub(crate) fn open(&mut self, folder: &Folder) -> Result<BorrowedFd<'_>, Failure> {
        self.last = None;
        if self.base != folder.base {
            self.open.clear();
            self.base = folder.base;
        }
        let mut depth = 0;
        for name in &folder.below {
            let name = c_name(name)?;
            if self.open.get(depth).is_none_or(|(known, _)| *known != name) {
                self.open.truncate(depth);
                let handle = sys::pin(self.at(depth)?, &name).map_err(|errno| Failure::Os(Op::Open, errno))?;
                self.open.push((name, handle));
            }
            depth += 1;
        }
        self.open.truncate(depth);
        if let Some(id) = folder.id {
            let facts = sys::look_at(self.at(depth)?).map_err(|errno| Failure::Os(Op::Look, errno))?;
            if facts.id != id {
                return Err(Failure::Replaced);
            }
        }
        self.at(depth)
    }

    fn at(&self, depth: usize) -> Result<BorrowedFd<'_>, Failure> {
        match depth.checked_sub(1) {
            Some(above) => self.open.get(above).map(|(_, handle)| handle.as_fd()),
            None => self.bases.get(self.base).map(AsFd::as_fd),
        }
        .ok_or(Failure::Os(Op::Open, Errno::BADF))
    }
}

/// A name as system calls take it.
pub(crate) fn c_name(name: &OsStr) -> Result<CString, Failure> {
    CString::new(name.as_bytes()).map_err(|_| Failure::Os(Op::Open, Errno::INVAL))
}

/// A name as a path component.
pub(crate) fn as_os(name: &CStr) -> &OsStr {
    OsStr::from_bytes(name.to_bytes())
}

/// A path as its directory and its name in it.
pub(crate) fn split(path: &Path) -> Option<(&Path, &OsStr)> {
    Some((path.parent()?, path.file_name()?))
}
