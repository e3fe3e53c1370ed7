//! Brings something to another place: by renaming, and to another file system by copying, comparing, switching and
//! removing. All through handles; nothing that is there is overwritten.

use std::ffi::{CString, OsStr};
use std::fs::File;
use std::io::{self, BufReader, BufWriter, Write as _};
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use rustix::io::Errno;

use crate::change::folder::{Folder, Opener, as_os, c_name, split};
use crate::change::keepsake::{self, How, Inventory, Packer, PathFailure, Successors};
use crate::change::rights::pin;
use crate::entry::{Facts, Identity, Kind};
use crate::tree::{Failure, Host, Op, WayError, sys};

/// A name in a directory.
#[derive(Debug)]
pub(super) struct Endpoint {
    pub(super) dir: OwnedFd,
    pub(super) name: CString,
    /// The whole path without links, from the host's `/` on.
    pub(super) path: PathBuf,
}

impl Endpoint {
    /// The place of `path`; no link on the way that others than root, the caller and the keeper can have made is
    /// followed, and none at its end.
    pub(super) fn find(host: &Host, path: &Path, keeper: crate::account::Uid) -> Result<Self, WayError> {
        let (above, name) = split(path).ok_or_else(|| WayError::Missing(path.to_owned()))?;
        let above = host.resolve_safely(above, keeper)?;
        let name_here = c_name(name).map_err(|_| WayError::Missing(path.to_owned()))?;
        Ok(Self { path: above.path.join(name), dir: above.handle, name: name_here })
    }

    /// What is there; nothing where nothing is.
    pub(super) fn look(&self) -> Result<Option<Facts>, Failure> {
        match sys::look(&self.dir, &self.name) {
            Ok(facts) => Ok(Some(facts)),
            Err(Errno::NOENT) => Ok(None),
            Err(errno) => Err(Failure::Os(Op::Look, errno)),
        }
    }

    /// Everything that is there, folders before their content.
    pub(super) fn list(&self) -> Result<Inventory, PathFailure> {
        let mut packer = Packer::listing();
        packer
            .add(self.dir.as_fd(), &self.name, &self.path, None)
            .map_err(|cause| (self.path.clone(), keep_failure(&cause)))?;
        let (packed, failures) = packer.listed();
        failures.into_iter().next().map_or(Ok(packed), Err)
    }

    fn fail(&self, failure: Failure) -> PathFailure {
        (self.path.clone(), failure)
    }

    /// Removes everything that was packed from here.
    fn remove(&self, mut packed: Inventory) -> Vec<PathFailure> {
        let all = 0..packed.len();
        match self.dir.try_clone() {
            Ok(dir) => keepsake::remove(&mut packed, all, dir).1,
            Err(_) => vec![self.fail(Failure::Os(Op::Open, Errno::MFILE))],
        }
    }

    /// A handle on a folder that is at or below this place, or above it.
    fn open(&self, folder: &Path) -> Result<OwnedFd, Failure> {
        let above = self.path.parent().unwrap_or(Path::new("/"));
        let below = folder.strip_prefix(above).map_err(|_| Failure::Replaced)?;
        let base = self.dir.try_clone().map_err(|_| Failure::Os(Op::Open, Errno::MFILE))?;
        let folder = Folder { base: 0, below: below.to_owned(), path: folder.to_owned(), id: None };
        let bases = [base];
        let mut opener = Opener::new(&bases);
        opener.open(&folder)?.try_clone_to_owned().map_err(|_| Failure::Os(Op::Open, Errno::MFILE))
    }

    /// The place beside this one where a copy is made.
    fn beside(&self) -> Result<Self, PathFailure> {
        let name = [b".", self.name.to_bytes(), b".ambrik-moving"].concat();
        let path = self.path.with_file_name(OsStr::from_bytes(&name));
        let dir = self.dir.try_clone().map_err(|_| self.fail(Failure::Os(Op::Open, Errno::MFILE)))?;
        Ok(Self { dir, name: CString::new(name).unwrap_or_default(), path })
    }

    /// Removes the copy beside this place that a killed run left.
    pub(super) fn clear_beside(&self) -> Result<(), PathFailure> {
        let beside = self.beside()?;
        if beside.look().map_err(|failure| beside.fail(failure))?.is_none() {
            return Ok(());
        }
        beside.remove(beside.list()?).into_iter().next().map_or(Ok(()), Err)
    }
}

fn keep_failure(cause: &io::Error) -> Failure {
    Failure::Os(Op::Keep, Errno::from_io_error(cause).unwrap_or(Errno::IO))
}

/// Brings what is at `from`, if it is still `id`, to `to`, where nothing is. The answer is what could not be removed
/// from `from` after it was copied.
pub(super) fn relocate(
    from: &Endpoint,
    to: &Endpoint,
    id: Identity,
    record: Record<'_>,
) -> Result<Vec<PathFailure>, Vec<PathFailure>> {
    match rename(from, to, id) {
        Ok(()) => Ok(Vec::new()),
        Err(Failure::Os(Op::Move, Errno::XDEV)) => copy_over(from, to, id, record),
        Err(failure) => Err(vec![from.fail(failure)]),
    }
}

/// Puts on record which copies stand for which inodes, before they do.
type Record<'r> = &'r mut dyn FnMut(&[(Identity, Identity)]) -> Result<(), Failure>;

/// Renames, if what comes to be there is `id`.
fn rename(from: &Endpoint, to: &Endpoint, id: Identity) -> Result<(), Failure> {
    let is_it = |place: &Endpoint| place.look().map(|facts| facts.is_some_and(|facts| facts.id == id));
    if !is_it(from)? {
        return Err(Failure::Replaced);
    }
    sys::rename_new(&from.dir, &from.name, &to.dir, &to.name).map_err(|errno| match errno {
        Errno::EXIST => Failure::NotOurs(format!("something is at {} now", crate::shown::Shown(&to.path))),
        errno => Failure::Os(Op::Move, errno),
    })?;
    if is_it(to)? {
        // The names are on the disk before what follows is.
        let _ = sys::sync_names(&to.dir);
        let _ = sys::sync_names(&from.dir);
        return Ok(());
    }
    // Something else was put at `from` in between: it goes back there.
    let _ = sys::rename_new(&to.dir, &to.name, &from.dir, &from.name);
    Err(Failure::Replaced)
}

fn copy_over(
    from: &Endpoint,
    to: &Endpoint,
    id: Identity,
    record: Record<'_>,
) -> Result<Vec<PathFailure>, Vec<PathFailure>> {
    let one = |failure: PathFailure| vec![failure];
    to.clear_beside().map_err(one)?;
    let beside = to.beside().map_err(one)?;
    let copied = copy(from, &beside, id).and_then(|(packed, successors)| {
        compare(from, &beside).map_err(one)?;
        let facts = beside.look().map_err(|failure| one(beside.fail(failure)))?;
        let copy = facts.ok_or_else(|| one(beside.fail(Failure::Replaced)))?.id;
        sys::sync_file_system(&to.dir).map_err(|errno| one(to.fail(Failure::Os(Op::Keep, errno))))?;
        record(&successors.new).map_err(|failure| one(to.fail(failure)))?;
        rename(&beside, to, copy).map_err(|failure| one(to.fail(failure)))?;
        Ok(packed)
    });
    match copied {
        Ok(packed) => Ok(from.remove(packed)),
        Err(mut failures) => {
            failures.extend(to.clear_beside().err());
            Err(failures)
        }
    }
}

/// `path.join(below)`, without the slash at the end where `below` is empty.
fn join(path: &Path, below: &Path) -> PathBuf {
    if below.as_os_str().is_empty() { path.to_owned() } else { path.join(below) }
}

/// Copies: one thread packs, the other unpacks. The answer lists what was packed, and which copies stand for which.
fn copy(from: &Endpoint, to: &Endpoint, id: Identity) -> Result<(Inventory, Successors), Vec<PathFailure>> {
    let (reader, writer) = io::pipe().map_err(|cause| vec![from.fail(keep_failure(&cause))])?;
    let pack = || -> Result<Inventory, PathFailure> {
        let mut packer = Packer::new(BufWriter::with_capacity(1 << 18, writer), u64::MAX);
        let failed = |cause: io::Error| from.fail(keep_failure(&cause));
        // The first failure ends the whole: half a copy is none.
        let added = packer.add(from.dir.as_fd(), &from.name, &to.path, Some(id));
        let first = packer.first_failure().map(|(path, failure)| {
            let below = path.strip_prefix(&to.path).map(Path::to_owned).unwrap_or_default();
            (join(&from.path, &below), failure.clone())
        });
        if let Some(failure) = first {
            return Err(failure);
        }
        added.map_err(failed)?;
        let (mut writer, packed, _) = packer.finish().map_err(failed)?;
        writer.flush().map_err(failed)?;
        Ok(packed)
    };
    let mut successors = Successors::default();
    let (packed, restored) = std::thread::scope(|scope| {
        let packing = scope.spawn(pack);
        let mut reader = BufReader::with_capacity(1 << 18, reader);
        let mut open = |folder: &Path| to.open(folder);
        let restored = keepsake::restore(&mut reader, &to.path, How::default(), &mut successors, &mut open);
        // What was not taken holds the other thread up.
        drop(reader);
        (packing.join(), restored)
    });
    let failures = match restored {
        Ok(restored) => restored.failures,
        Err(cause) => vec![to.fail(keep_failure(&cause))],
    };
    // A copy that could not be written is why packing failed, not the other way round.
    let out_of_pipe = |failure: &PathFailure| matches!(failure.1, Failure::Os(Op::Keep, Errno::PIPE));
    let packed = match packed {
        Ok(Ok(packed)) => packed,
        Ok(Err(failure)) if failures.is_empty() || !out_of_pipe(&failure) => return Err(vec![failure]),
        Ok(Err(_)) => return Err(failures),
        Err(_) => return Err(vec![from.fail(Failure::Replaced)]),
    };
    if !failures.is_empty() {
        return Err(failures);
    }
    match second_names(&packed) {
        None => Ok((packed, successors)),
        Some(failure) => Err(vec![failure]),
    }
}

/// A file that has names besides those among `packed`. A copy of it would be a file of its own, which could then be given
/// to somebody.
pub(super) fn second_names(packed: &Inventory) -> Option<PathFailure> {
    let mut names: std::collections::HashMap<Identity, u32> = std::collections::HashMap::new();
    let many = || packed.iter().enumerate().filter(|(_, item)| item.kind != Kind::Directory && item.links > 1);
    for (_, item) in many() {
        *names.entry(item.id).or_default() += 1;
    }
    many().find_map(|(number, item)| {
        let here = names.get(&item.id).copied().unwrap_or(0);
        (here < item.links).then(|| (packed.path(number), Failure::SecondName(item.links, here)))
    })
}

/// Compares two places whole: kinds, rights, attributes, times, content, links. Errors name the first difference.
fn compare(one: &Endpoint, other: &Endpoint) -> Result<(), PathFailure> {
    same(&one.dir, &one.name, &other.dir, &other.name, &one.path)
}

fn same(
    dir: &OwnedFd,
    name: &std::ffi::CStr,
    other_dir: &OwnedFd,
    other_name: &std::ffi::CStr,
    path: &Path,
) -> Result<(), PathFailure> {
    let fail = |failure| (path.to_owned(), failure);
    let look = |dir: &OwnedFd, name| -> Result<_, Failure> {
        let handle = pin(dir.as_fd(), name)?;
        let facts = sys::look_whole(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
        let times = sys::times(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
        let attributes = sys::attributes(&handle).map_err(|errno| Failure::Os(Op::Read, errno))?;
        let mut target = Vec::new();
        if facts.kind == Kind::Symlink {
            target = sys::read_link(&handle, c"").map_err(|errno| Failure::Os(Op::Read, errno))?;
        }
        let size = if facts.kind == Kind::File { facts.size } else { 0 };
        // A name elsewhere would be one more here than there.
        let links = if facts.kind == Kind::Directory { 1 } else { facts.links };
        Ok((facts.kind, facts.rights, times.modified, size, links, attributes, target))
    };
    let (here, there) = (look(dir, name).map_err(fail)?, look(other_dir, other_name).map_err(fail)?);
    if here != there {
        return Err(fail(Failure::Differs));
    }
    match here.0 {
        Kind::File => {
            let open = |dir: &OwnedFd, name| sys::open_file(dir, name).map(File::from);
            let failed = |errno| fail(Failure::Os(Op::Read, errno));
            let (one, other) = (open(dir, name).map_err(failed)?, open(other_dir, other_name).map_err(failed)?);
            let alike = keepsake::same_content(one, other).map_err(|cause| fail(keep_failure(&cause)))?;
            if alike { Ok(()) } else { Err(fail(Failure::Differs)) }
        }
        Kind::Directory => {
            let open = |dir: &OwnedFd, name| -> Result<_, Failure> {
                let listed = sys::open_directory(dir, name).map_err(|errno| Failure::Os(Op::List, errno))?;
                let mut names = sys::names(&listed).map_err(|errno| Failure::Os(Op::List, errno))?;
                names.sort();
                Ok((listed, names))
            };
            let (here, names) = open(dir, name).map_err(fail)?;
            let (there, other_names) = open(other_dir, other_name).map_err(fail)?;
            if names != other_names {
                return Err(fail(Failure::Differs));
            }
            names.iter().try_for_each(|name| same(&here, name, &there, name, &path.join(as_os(name))))
        }
        Kind::Symlink | Kind::Fifo | Kind::Socket | Kind::Device => Ok(()),
    }
}
