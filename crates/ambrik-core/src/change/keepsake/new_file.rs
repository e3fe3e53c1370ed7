//! Files that have no name before they are whole.

use std::ffi::{CStr, CString};
use std::os::fd::{BorrowedFd, OwnedFd};

use rustix::io::Errno;

use crate::tree::sys;

/// A new file for nobody but the caller, which gets its name once it is whole: until then it has none, or, on file systems
/// that know no files without one, another.
pub(crate) struct NewFile {
    pub(crate) handle: OwnedFd,
    part: Option<CString>,
}

impl NewFile {
    /// Begins the file that is to be `name` in `dir`.
    pub(crate) fn begin(dir: BorrowedFd<'_>, name: &CStr) -> Result<Self, Errno> {
        match sys::create_unnamed(dir) {
            Ok(handle) => Ok(Self { handle, part: None }),
            Err(Errno::OPNOTSUPP | Errno::ISDIR | Errno::NOENT | Errno::INVAL) => Self::begin_named(dir, name),
            Err(errno) => Err(errno),
        }
    }

    pub(super) fn begin_named(dir: BorrowedFd<'_>, name: &CStr) -> Result<Self, Errno> {
        // As long as names may be, there is room for this one.
        let sum = blake3::hash(name.to_bytes()).to_hex();
        let part = CString::new(format!(".ambrik-new-{}", &sum[..16])).unwrap_or_default();
        let handle = match sys::create_file(dir, &part) {
            Err(Errno::EXIST) => {
                // Left by a run that was killed.
                sys::unlink(dir, &part, false)?;
                sys::create_file(dir, &part)?
            }
            made => made?,
        };
        Ok(Self { handle, part: Some(part) })
    }

    /// Gives it its name; an existing one stays (`EXIST`).
    pub(crate) fn give_name(self, dir: BorrowedFd<'_>, name: &CStr) -> Result<(), Errno> {
        let Some(part) = &self.part else { return sys::give_name(&self.handle, dir, name) };
        let renamed = sys::rename_new(dir, part, dir, name);
        if renamed.is_err() {
            self.discard(dir);
        }
        renamed
    }

    /// Takes it away again.
    pub(crate) fn discard(self, dir: BorrowedFd<'_>) {
        if let Some(part) = self.part {
            // What went wrong before is told; the next run takes this away.
            let _ = sys::unlink(dir, &part, false);
        }
    }
}
