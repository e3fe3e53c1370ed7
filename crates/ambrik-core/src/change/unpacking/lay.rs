//! The folder that an archive is unpacked into before anything of it gets its name: below the root, so that renaming is
//! enough, and entered by nobody but the caller.

use std::collections::BTreeMap;
use std::ffi::CString;
use std::io::Read;
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use rustix::io::Errno;

use super::super::ChangeContext;
use super::super::creating::dress;
use super::super::folder::{c_name, split};
use super::super::keepsake::{self, Packer};
use super::super::ledger::{LedgerError, Recorder, StagingRow};
use super::super::removal::OUT_OF_HANDLES;
use super::super::rights::facts;
use super::below::open_below;
use super::plan::{Laid, UnpackPlan};
use crate::archive::{Archive, PackedKind};
use crate::entry::{Identity, Kind};
use crate::mode::Mode;
use crate::signals;
use crate::tree::{Failure, Host, Op, sys};

/// What its name begins with.
const NAME: &str = ".ambrik-unpack-";

/// The folder.
pub(super) struct Staging {
    dir: OwnedFd,
    pub(super) path: PathBuf,
}

/// A path, and what went wrong with it.
type PathFailure = (PathBuf, Failure);

impl Staging {
    /// Makes it; where it is to be is recorded first.
    pub(super) fn begin(
        plan: &UnpackPlan,
        root: &OwnedFd,
        entry: &mut Recorder<'_>,
    ) -> Result<Result<Self, Failure>, LedgerError> {
        let name = format!("{NAME}{}", entry.id);
        let path = plan.real_root.join(&name);
        let row = entry.staging(&plan.site.name, &path)?;
        let make = || {
            let name = c_name(name.as_ref())?;
            let failed = |errno| Failure::Os(Op::Create, errno);
            sys::create_directory_with(root, &name, Mode::of_st_mode(0o700)).map_err(failed)?;
            // By its handle from here on: who may write to the root can give the name to another.
            let made = keepsake::newly_made(root.as_fd(), &name, Kind::Directory)?;
            let dir = sys::reopen_directory(&made).map_err(failed)?;
            Ok((facts(&dir)?.id, dir))
        };
        let (id, dir) = match make() {
            Ok(made) => made,
            Err(failure) => return Ok(Err(failure)),
        };
        entry.staging_made(row, &id)?;
        Ok(Ok(Self { dir, path }))
    }

    /// The folder that a unit is in, under its own name.
    pub(super) fn unit(&self, number: usize) -> Result<OwnedFd, Failure> {
        let name = c_name(number.to_string().as_ref())?;
        sys::open_directory(&self.dir, &name).map_err(|errno| Failure::Os(Op::Open, errno))
    }

    /// Unpacks everything that the plan lays down; the answer is which inode each path is. The first failure ends it: half a
    /// version is none.
    pub(super) fn fill(
        &self,
        plan: &UnpackPlan,
        archive: &Archive,
        means: &ChangeContext<'_>,
    ) -> Result<BTreeMap<PathBuf, Identity>, PathFailure> {
        let mut made = BTreeMap::new();
        let fail = |path: &Path, failure| (plan.site.root.join(path), failure);
        for number in 0..plan.units.len() {
            let name = CString::new(number.to_string()).unwrap_or_default();
            sys::create_directory_with(&self.dir, &name, Mode::of_st_mode(0o700))
                .map_err(|errno| fail(Path::new(""), Failure::Os(Op::Create, errno)))?;
        }
        // Directories first, from the uppermost down; symlinks lead nowhere before all is there.
        for (path, laid) in plan.laid.iter().filter(|(_, laid)| !matches!(laid.kind, PackedKind::File { .. })) {
            let id = self.directory_or_link(plan, path, laid).map_err(|failure| fail(path, failure))?;
            made.insert(path.clone(), id);
        }
        let mut by_content: BTreeMap<&Path, Vec<&Path>> = BTreeMap::new();
        for (path, laid) in plan.laid.iter().filter(|(_, laid)| matches!(laid.kind, PackedKind::File { .. })) {
            by_content.entry(&laid.content).or_default().push(path);
        }
        let mut stopped = None;
        let read = archive.each(&mut |entry, content| {
            if stopped.is_some() || signals::came().is_some() {
                return Ok(());
            }
            let name = entry.path();
            let Some(paths) = name.as_deref().and_then(|name| by_content.remove(name)) else { return Ok(()) };
            match self.files(plan, &paths, content) {
                Ok(ids) => made.extend(paths.iter().map(|path| (*path).to_owned()).zip(ids)),
                Err(failure) => stopped = Some(fail(paths[0], failure)),
            }
            means.progress.entries.fetch_add(paths.len() as u64, std::sync::atomic::Ordering::Relaxed);
            Ok(())
        });
        if let Some(failure) = stopped {
            return Err(failure);
        }
        read.map_err(|error| fail(Path::new(""), Failure::Says(error.to_string())))?;
        if let Some((_, paths)) = by_content.first_key_value().filter(|_| signals::came().is_none()) {
            return Err(fail(paths[0], CHANGED));
        }
        sys::sync_file_system(&self.dir).map_err(|errno| fail(Path::new(""), Failure::Os(Op::Create, errno)))?;
        Ok(made)
    }

    /// The directory that a path of the site is in here, and its name there.
    fn place(&self, plan: &UnpackPlan, laid: &Laid, path: &Path) -> Result<(OwnedFd, CString), Failure> {
        let parent = |path: &Path| path.parent().map(Path::to_owned).unwrap_or_default();
        let (above, of) = (parent(path), parent(&plan.units[laid.unit]));
        let below_unit = above.strip_prefix(of).unwrap_or(Path::new(""));
        let folder = Path::new(&laid.unit.to_string()).join(below_unit);
        let name = c_name(path.file_name().unwrap_or_default())?;
        Ok((open_below(&self.dir, &folder)?, name))
    }

    fn directory_or_link(&self, plan: &UnpackPlan, path: &Path, laid: &Laid) -> Result<Identity, Failure> {
        let (dir, name) = self.place(plan, laid, path)?;
        let made = |errno| Failure::Os(Op::Create, errno);
        let kind = if let PackedKind::Symlink(target) = &laid.kind {
            sys::make_symlink(&dir, &name, target.as_os_str().as_bytes()).map_err(made)?;
            Kind::Symlink
        } else {
            sys::create_directory_with(&dir, &name, Mode::of_st_mode(0o700)).map_err(made)?;
            Kind::Directory
        };
        let handle = keepsake::newly_made(dir.as_fd(), &name, kind)?;
        dress(&handle, &laid.rights)
    }

    /// Makes the files that have one entry's content, each with its rights before it has a name.
    fn files(&self, plan: &UnpackPlan, paths: &[&Path], content: &mut dyn Read) -> Result<Vec<Identity>, Failure> {
        let made = |errno| Failure::Os(Op::Create, errno);
        let mut new = Vec::new();
        let (mut left, mut sum) = (0, [0; 32]);
        for path in paths {
            let laid = &plan.laid[*path];
            let (dir, name) = self.place(plan, laid, path)?;
            let file = keepsake::NewFile::begin(dir.as_fd(), &name).map_err(made)?;
            if let PackedKind::File { size, sum: want, .. } = &laid.kind {
                (left, sum) = (*size, *want);
            }
            new.push((file, dir, name, &laid.rights));
        }
        let mut hasher = blake3::Hasher::new();
        let mut buffer = [0; 1 << 13];
        loop {
            let count = content.read(&mut buffer).map_err(|cause| Failure::Says(format!("the archive: {cause}")))?;
            if count == 0 {
                break;
            }
            // Whoever can write to the archive can make another of it after it was looked at.
            left = left.checked_sub(count as u64).ok_or(CHANGED)?;
            hasher.update(&buffer[..count]);
            for (file, ..) in &new {
                sys::write_all(&file.handle, &buffer[..count]).map_err(made)?;
            }
        }
        if hasher.finalize() != sum {
            return Err(CHANGED);
        }
        new.into_iter()
            .map(|(file, dir, name, rights)| {
                let id = dress(&file.handle, rights)?;
                file.give_name(dir.as_fd(), &name).map_err(made).map(|()| id)
            })
            .collect()
    }
}

const CHANGED: Failure = Failure::Differs;

/// Removes what a run left of an archive that it unpacked; the answer is whether nothing is there any more.
pub(super) fn sweep(host: &Host, staging: &StagingRow) -> bool {
    let StagingRow { path, made } = staging;
    let swept = || -> Result<(), Failure> {
        let (above, name) = split(path).ok_or(Failure::Replaced)?;
        let parent = match host.resolve_link(above) {
            Ok(parent) => parent,
            Err(crate::tree::WayError::Missing(_)) => return Ok(()),
            Err(_) => return Err(Failure::Replaced),
        };
        let name = c_name(name)?;
        let dir = match sys::open_directory(&parent.handle, &name) {
            Err(Errno::NOENT) => return Ok(()),
            dir => dir.map_err(|errno| Failure::Os(Op::Open, errno))?,
        };
        // Whoever may write to the root can put another folder there under this name. Where the run ended before it could record
        // which one it made, that one is empty.
        let now = facts(&dir)?;
        let Some(made) = made else {
            return sys::unlink(&parent.handle, &name, true).map_err(|errno| Failure::Os(Op::Remove, errno));
        };
        if now.id != *made {
            return Err(Failure::Replaced);
        }
        let mut packer = Packer::listing();
        let range = packer.add(parent.handle.as_fd(), &name, path, Some(now.id)).map_err(|_| Failure::Replaced)?;
        let (mut packed, _) = packer.listed();
        let base = parent.handle.try_clone().map_err(|_| OUT_OF_HANDLES)?;
        let (_, failures) = keepsake::remove(&mut packed, range, base);
        failures.into_iter().next().map_or(Ok(()), |(_, failure)| Err(failure))
    };
    swept().is_ok()
}
