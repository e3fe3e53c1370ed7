//! Removes what was packed, each path only if it is still that.

use std::ffi::CStr;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};

use rustix::io::Errno;

use super::{Packed, PathFailure};
use crate::change::folder::{c_name, split};
use crate::entry::Kind;
use crate::tree::{Failure, Op, sys};

/// Removes what was packed, the content before its folder, each only if it is still what was packed.
pub(crate) fn remove(packed: &[Packed], open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>) -> Vec<PathFailure> {
    let mut failures = Vec::new();
    let mut folder: Option<(PathBuf, OwnedFd)> = None;
    for item in packed.iter().rev() {
        let removed = (|| {
            let (above, name) = split(&item.path).ok_or(Failure::Os(Op::Remove, Errno::INVAL))?;
            let name = c_name(name)?;
            if folder.as_ref().is_none_or(|(path, _)| path != above) {
                folder = Some((above.to_owned(), open(above)?));
            }
            let Some((_, dir)) = &folder else { return Err(Failure::Replaced) };
            remove_one(dir, &name, item)
        })();
        if let Err(failure) = removed {
            failures.push((item.path.clone(), failure));
        }
    }
    failures
}

fn remove_one(dir: &OwnedFd, name: &CStr, item: &Packed) -> Result<(), Failure> {
    let handle = sys::pin(dir, name).map_err(|errno| Failure::Os(Op::Open, errno))?;
    let facts = sys::look_at(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
    let times = sys::times(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
    let changed = item.kind == Kind::File && (facts.size, times.modified) != (item.size, item.modified);
    if facts.id != item.id || facts.kind != item.kind || changed {
        return Err(Failure::Replaced);
    }
    sys::unlink(dir, name, item.kind == Kind::Directory).map_err(|errno| Failure::Os(Op::Remove, errno))
}
