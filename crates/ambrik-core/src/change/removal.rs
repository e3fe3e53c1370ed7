//! Removes paths: into a keepsake, which is on the disk and read back before the first of them goes.

use std::ffi::CString;
use std::fs::File;
use std::io::{self, BufReader, BufWriter};
use std::ops::Range;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::io::Errno;

use super::folder::{Folder, Opener, as_os};
use super::keepsake::{self, Inventory, Packer, verify};
use super::ledger::Recorder;
use super::{ChangeContext, ChangeError, Outcome, times_bytes};
use crate::entry::Identity;
use crate::tree::{Failure, sys};

/// A path that is to be removed.
pub(super) struct PendingRemoval {
    pub(super) folder: Arc<Folder>,
    pub(super) name: CString,
    pub(super) id: Option<Identity>,
    pub(super) reason: String,
}

impl PendingRemoval {
    fn path(&self) -> PathBuf {
        self.folder.path.join(as_os(&self.name))
    }
}

/// What a keepsake leaves free where the ledger is, in bytes: to take anything back takes records too.
const RESERVE: u64 = 16 << 20;

/// Paths that are kept: on the disk, read back, and not removed yet.
pub(super) struct Kept {
    packed: Inventory,
    ranges: Vec<Range<usize>>,
    /// The keepsake's name; none where nothing is kept.
    keepsake: Option<String>,
}

impl Kept {
    /// Puts paths into a keepsake, syncs it, and reads it back. `name` is what it is called beside its number.
    pub(super) fn keep(
        entry: &Recorder<'_>,
        bases: &[OwnedFd],
        pending: &[PendingRemoval],
        name: &str,
        means: &ChangeContext<'_>,
        outcome: &mut Outcome,
    ) -> Result<Self, ChangeError> {
        if !means.keep || pending.is_empty() {
            let (packed, ranges) = list(bases, pending, outcome)?;
            return Ok(Self { packed, ranges, keepsake: None });
        }
        let name = format!("{name}-{}.tar", entry.id);
        let keepsake = NewKeepsake::begin(&name, entry, means)?;
        let kept = keepsake.fill(bases, pending, outcome);
        if kept.is_err() {
            // Half an archive is of no use, and takes room.
            keepsake.discard();
        }
        let (packed, ranges) = kept?;
        Ok(Self { packed, ranges, keepsake: Some(name) })
    }

    /// How many paths there are in one of them that are kept and can go.
    pub(super) fn going(&self, number: usize) -> u64 {
        self.ranges.get(number).map_or(0, |range| self.packed.going(range))
    }

    /// Records that one of them is about to go from the directory `dir`, then calls `take`, which brings it there where it goes
    /// from, and removes it there.
    pub(super) fn remove(
        &mut self,
        number: usize,
        item: &PendingRemoval,
        dir: &OwnedFd,
        entry: &mut Recorder<'_>,
        outcome: &mut Outcome,
        take: impl FnOnce(&mut Inventory, usize) -> Result<OwnedFd, Failure>,
    ) -> Result<(), ChangeError> {
        let files = self.going(number);
        if files == 0 {
            return Ok(());
        }
        let times = |dir: &OwnedFd| times_bytes(sys::times(dir).ok());
        let above = match super::rights::facts(dir) {
            Ok(facts) => facts.id,
            Err(failure) => {
                outcome.fail(item.path(), failure);
                return Ok(());
            }
        };
        let row = entry.removal(&item.path(), &above, &item.reason, self.keepsake.as_deref(), files, &times(dir))?;
        let removed = match take(&mut self.packed, self.ranges[number].start) {
            Ok(base) => {
                let (removed, failures) = keepsake::remove(&mut self.packed, self.ranges[number].clone(), base);
                outcome.fail_all(failures);
                removed
            }
            Err(failure) => {
                outcome.fail(item.path(), failure);
                0
            }
        };
        outcome.removed += removed;
        entry.removed(row, removed, &times(dir))?;
        Ok(())
    }
}

/// Puts paths into a keepsake, which is read back and recorded, and only then removes what is in it.
pub(super) fn remove(
    entry: &mut Recorder<'_>,
    bases: &[OwnedFd],
    pending: &[PendingRemoval],
    name: &str,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    if pending.is_empty() {
        return Ok(());
    }
    let mut kept = Kept::keep(entry, bases, pending, name, means, outcome)?;
    let mut opener = Opener::new(bases);
    for (number, item) in pending.iter().enumerate() {
        outcome.go_on()?;
        if kept.going(number) == 0 {
            continue;
        }
        let dir = opener.open(&item.folder).and_then(|dir| dir.try_clone_to_owned().map_err(|_| OUT_OF_HANDLES));
        match dir {
            Ok(dir) => {
                kept.remove(number, item, &dir, entry, outcome, |_, _| dir.try_clone().map_err(|_| OUT_OF_HANDLES))?;
            }
            Err(failure) => outcome.fail(item.path(), failure),
        }
    }
    Ok(())
}

/// A handle cannot be had twice.
pub(super) const OUT_OF_HANDLES: Failure = Failure::Os(crate::tree::Op::Open, Errno::MFILE);

/// What would be removed without a keepsake.
fn list(
    bases: &[OwnedFd],
    pending: &[PendingRemoval],
    outcome: &mut Outcome,
) -> Result<(Inventory, Vec<Range<usize>>), ChangeError> {
    let mut packer = Packer::listing();
    let mut opener = Opener::new(bases);
    let mut ranges = Vec::new();
    for item in pending {
        outcome.go_on()?;
        let added = opener.open(&item.folder).map(|dir| packer.add(dir, &item.name, &item.path(), item.id));
        ranges.push(match added {
            Ok(range) => {
                outcome.go_on()?;
                range.unwrap_or_default()
            }
            Err(failure) => {
                outcome.fail(item.path(), failure);
                0..0
            }
        });
    }
    let (packed, failures) = packer.listed();
    outcome.fail_all(failures);
    Ok((packed, ranges))
}

fn keepsake_error(means: &ChangeContext<'_>, name: &str, cause: io::Error) -> ChangeError {
    ChangeError::Keepsake { path: means.state.path().join("keepsakes").join(name), cause }
}

/// A keepsake that is being written, under a name that says so.
struct NewKeepsake<'k> {
    means: &'k ChangeContext<'k>,
    folder: OwnedFd,
    name: &'k str,
    part: CString,
}

impl<'k> NewKeepsake<'k> {
    /// What ends the name of a keepsake that is not whole yet.
    const PART: &'static str = ".part";

    /// Makes the folder ready; what killed runs for the same site left half written goes.
    fn begin(name: &'k str, entry: &Recorder<'_>, means: &'k ChangeContext<'k>) -> Result<Self, ChangeError> {
        let folder = means.state.folder("keepsakes")?;
        let failed = |errno: Errno| keepsake_error(means, name, errno.into());
        for left in sys::open_directory(&folder, c".").and_then(sys::names).map_err(failed)? {
            let text = left.to_string_lossy().into_owned();
            let id = text.strip_suffix(".tar.part").and_then(|name| name.rsplit('-').next()?.parse().ok());
            if id.is_some_and(|id| entry.is_of_same_site(id)) {
                sys::unlink(&folder, &left, false).map_err(failed)?;
            }
        }
        let part = CString::new(format!("{name}{}", Self::PART)).unwrap_or_default();
        Ok(Self { means, folder, name, part })
    }

    fn failed(&self, cause: impl Into<io::Error>) -> ChangeError {
        keepsake_error(self.means, self.name, cause.into())
    }

    fn discard(&self) {
        // It is named as half written: the next run tries again.
        let _ = sys::unlink(&self.folder, &self.part, false);
    }

    /// Packs what there is room for, and reads it back. The answer is what is kept, and which of it is whose.
    fn fill(
        &self,
        bases: &[OwnedFd],
        pending: &[PendingRemoval],
        outcome: &mut Outcome,
    ) -> Result<(Inventory, Vec<Range<usize>>), ChangeError> {
        let file = sys::create_file(&self.folder, &self.part).map_err(|errno| self.failed(errno))?;
        let room = sys::free(&self.folder).map_err(|errno| self.failed(errno))?.saturating_sub(RESERVE);
        let mut packer = Packer::new(BufWriter::with_capacity(1 << 18, File::from(file)), room);
        let mut opener = Opener::new(bases);
        let mut ranges = Vec::new();
        let mut left = room;
        for item in pending {
            outcome.go_on()?;
            let whole = item.path();
            let added = opener.open(&item.folder).and_then(|dir| {
                let needed = needed(dir, item, &whole).map_err(|_| Failure::Os(crate::tree::Op::Keep, Errno::INTR))?;
                if needed > left {
                    return Err(Failure::NoRoom { needed, free: left });
                }
                left -= needed;
                Ok(packer.add(dir, &item.name, &whole, item.id))
            });
            outcome.go_on()?;
            ranges.push(match added {
                Ok(range) => range.map_err(|cause| self.failed(cause))?,
                Err(failure) => {
                    outcome.fail(whole, failure);
                    0..0
                }
            });
        }
        outcome.go_on()?;
        let (file, mut packed, failures) = packer.finish().map_err(|cause| self.failed(cause))?;
        let file = file.into_inner().map_err(|error| self.failed(error.into_error()))?;
        sys::before_change().map_err(|errno| self.failed(errno))?;
        file.sync_all().map_err(|cause| self.failed(cause))?;
        let mut failures = failures;
        failures.extend(self.read_back(&mut packed)?);
        outcome.fail_all(failures);
        let name = CString::new(self.name).unwrap_or_default();
        sys::rename_new(&self.folder, &self.part, &self.folder, &name).map_err(|errno| self.failed(errno))?;
        sys::sync_names(&self.folder).map_err(|errno| self.failed(errno))?;
        outcome.keepsake = Some(self.means.state.path().join("keepsakes").join(self.name));
        Ok((packed, ranges))
    }

    fn read_back(&self, packed: &mut Inventory) -> Result<Vec<keepsake::PathFailure>, ChangeError> {
        let file = sys::open_file(&self.folder, &self.part).map_err(|errno| self.failed(errno))?;
        sys::forget_cached(&file);
        Ok(verify(BufReader::with_capacity(1 << 18, File::from(file)), packed))
    }
}

/// What a path, and everything below it, takes in a keepsake, in bytes.
fn needed(dir: std::os::fd::BorrowedFd<'_>, item: &PendingRemoval, path: &Path) -> io::Result<u64> {
    let mut packer = Packer::listing();
    let range = packer.add(dir, &item.name, path, item.id)?;
    Ok(packer.listed().0.stored(&range))
}
