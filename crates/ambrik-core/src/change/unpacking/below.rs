//! What lies below a root, by handles.

use std::fs::File;
use std::os::fd::OwnedFd;
use std::path::Path;

use crate::tree::{Failure, Op, sys};

/// A handle on a directory below the root, no link followed.
pub(super) fn open_below(root: &OwnedFd, below: &Path) -> Result<OwnedFd, Failure> {
    let failed = |errno| Failure::Os(Op::Open, errno);
    if below.as_os_str().is_empty() {
        return sys::open_directory(root, c".").map_err(failed);
    }
    sys::open_directory_beneath(root, below).map_err(failed)
}

/// Whether a file holds what its sum says.
pub(in crate::change) fn has_sum(file: OwnedFd, sum: &[u8; 32]) -> bool {
    sum_of(file).is_ok_and(|found| found == *sum)
}

/// The BLAKE3 sum of a file's content.
pub(super) fn sum_of(file: OwnedFd) -> std::io::Result<[u8; 32]> {
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(File::from(file))?;
    Ok(*hasher.finalize().as_bytes())
}
