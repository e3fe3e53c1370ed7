//! The folder that an archive is unpacked into before anything of it gets its name: below the root, so that renaming is
//! enough, and entered by nobody but the caller.

use std::collections::{BTreeMap, HashMap};
use std::ffi::{CString, OsStr};
use std::io::Read;
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::ffi::OsStrExt as _;
use std::panic::resume_unwind;
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError, mpsc};

use foldhash::fast::RandomState;
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
use crate::archive::{Archive, ArchiveError, PackedKind};
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

    /// Waits until what is in it is on the disk.
    pub(super) fn sync(&self) -> Result<(), Failure> {
        sys::sync_file_system(&self.dir).map_err(|errno| Failure::Os(Op::Create, errno))
    }

    /// The folder that a unit is in, under its own name.
    pub(super) fn unit(&self, number: usize) -> Result<OwnedFd, Failure> {
        let name = c_name(number.to_string().as_ref())?;
        sys::open_directory(&self.dir, &name).map_err(|errno| Failure::Os(Op::Open, errno))
    }

    /// Unpacks everything that the plan lays down; the answer is which inode each path is, in the plan's order. The first failure ends
    /// it: half a version is none.
    pub(super) fn fill(
        &self,
        plan: &UnpackPlan,
        archive: &Archive,
        means: &ChangeContext<'_>,
    ) -> Result<Vec<Option<Identity>>, PathFailure> {
        let mut made = vec![None; plan.laid.len()];
        let fail = |path: &Path, failure| (plan.site.root.join(path), failure);
        for number in 0..plan.units.len() {
            let name = CString::new(number.to_string()).unwrap_or_default();
            sys::create_directory_with(&self.dir, &name, Mode::of_st_mode(0o700))
                .map_err(|errno| fail(Path::new(""), Failure::Os(Op::Create, errno)))?;
        }
        // Directories first, from the uppermost down: those of one depth do not need each other. Symlinks lead nowhere before all is there.
        let mut by_content = ByContent::default();
        let mut levels: BTreeMap<usize, Vec<LaidPath<'_>>> = BTreeMap::new();
        for (at, (path, laid)) in plan.laid.iter().enumerate() {
            if matches!(laid.kind, PackedKind::File { .. }) {
                by_content.entry(laid.content.as_os_str()).or_default().push((at, path, laid));
            } else {
                levels.entry(path.iter().count()).or_default().push((at, path, laid));
            }
        }
        for level in levels.values() {
            self.level(plan, level, means.threads, &mut made)?;
        }
        let filling = Filling { staging: self, plan, made: Mutex::new(made), failed: Mutex::default() };
        let read = filling.each(archive, &mut by_content, means);
        let Filling { made, failed, .. } = filling;
        if let Some(failure) = failed.into_inner().unwrap_or_else(PoisonError::into_inner) {
            return Err(failure);
        }
        read.map_err(|error| fail(Path::new(""), Failure::Says(error.to_string())))?;
        if let Some(files) = by_content.values().next().filter(|_| signals::came().is_none()) {
            return Err(fail(files[0].1, CHANGED));
        }
        Ok(made.into_inner().unwrap_or_else(PoisonError::into_inner))
    }

    /// Makes directories and symlinks of one depth.
    fn level(
        &self,
        plan: &UnpackPlan,
        level: &[LaidPath<'_>],
        threads: usize,
        made: &mut [Option<Identity>],
    ) -> Result<(), PathFailure> {
        let make = &|paths: &[LaidPath<'_>]| -> Result<Vec<_>, PathFailure> {
            let one = |(at, path, laid): &LaidPath<'_>| {
                let id = self.directory_or_link(plan, path, laid);
                id.map(|id| (*at, id)).map_err(|failure| (plan.site.root.join(path), failure))
            };
            paths.iter().map(one).collect()
        };
        let all: Vec<_> = std::thread::scope(|scope| {
            let threads = level.chunks(level.len().div_ceil(threads.max(1)).max(FEWEST));
            let threads: Vec<_> = threads.map(|paths| scope.spawn(move || make(paths))).collect();
            threads.into_iter().map(|thread| thread.join().unwrap_or_else(|panic| resume_unwind(panic))).collect()
        });
        for ids in all {
            ids?.into_iter().for_each(|(at, id)| made[at] = Some(id));
        }
        Ok(())
    }

    /// The directory that a path of the site is in here, below the folder.
    fn folder(plan: &UnpackPlan, laid: &Laid, path: &Path) -> PathBuf {
        let parent = |path: &Path| path.parent().map(Path::to_owned).unwrap_or_default();
        let (above, of) = (parent(path), parent(&plan.units[laid.unit]));
        let below_unit = above.strip_prefix(of).unwrap_or(Path::new(""));
        Path::new(&laid.unit.to_string()).join(below_unit)
    }

    fn directory_or_link(&self, plan: &UnpackPlan, path: &Path, laid: &Laid) -> Result<Identity, Failure> {
        let dir = open_below(&self.dir, &Self::folder(plan, laid, path))?;
        let name = c_name(path.file_name().unwrap_or_default())?;
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
}

/// What is no longer than this, in bytes, is read ahead, so that others can be read while it is laid down.
const READ_AHEAD: u64 = 256 << 10;
/// Files are handed on this many at once, or as many as have the bytes that are read ahead: a thread is woken once for all of them, and those
/// of one folder are made by one thread.
const AT_ONCE: usize = 64;
/// As often a thread may be handed files before it is done with others.
const WAITING: usize = 4;
/// More threads would wait for the one that reads; what waits for them takes 16 MiB at most.
const MOST_THREADS: usize = 8;

/// For fewer directories than this another thread is not worth it.
const FEWEST: usize = 64;

/// Something that is laid down, with its place in the plan.
type LaidPath<'p> = (usize, &'p Path, &'p Laid);
/// The files that have one entry's content, by the archive's name for that.
type ByContent<'p> = HashMap<&'p OsStr, Vec<LaidPath<'p>>, RandomState>;
/// The same with what the content is.
type Content<'p> = (Vec<LaidPath<'p>>, Vec<u8>);

/// Files being laid down: one thread reads the archive, others make what is read.
struct Filling<'f> {
    staging: &'f Staging,
    plan: &'f UnpackPlan,
    made: Mutex<Vec<Option<Identity>>>,
    /// What failed first: half a version is none.
    failed: Mutex<Option<PathFailure>>,
}

impl Filling<'_> {
    fn each<'p>(
        &self,
        archive: &Archive,
        by_content: &mut ByContent<'p>,
        means: &ChangeContext<'_>,
    ) -> Result<(), ArchiveError> {
        let threads = means.threads.clamp(1, MOST_THREADS);
        let (send, receive) = mpsc::sync_channel::<Vec<Content<'p>>>(threads * WAITING);
        let receive = Mutex::new(receive);
        let done = |count: usize| means.progress.entries.fetch_add(count as u64, Ordering::Relaxed);
        std::thread::scope(|scope| {
            for _ in 0..threads {
                scope.spawn(|| {
                    let mut maker = FileMaker::new(self);
                    loop {
                        let next = receive.lock().unwrap_or_else(PoisonError::into_inner).recv();
                        let Ok(handed) = next else { break };
                        for (files, content) in handed.into_iter().take_while(|_| self.goes_on()) {
                            self.take(maker.files(&files, &mut &*content), &files);
                            done(files.len());
                        }
                    }
                });
            }
            let mut maker = FileMaker::new(self);
            let (mut handed, mut bytes) = (Vec::new(), 0);
            let read = archive.each(&mut |entry, content| {
                if !self.goes_on() {
                    return Ok(());
                }
                let name = entry.path();
                let files = name.as_deref().and_then(|name| by_content.remove(name.as_os_str()));
                let Some(files) = files else { return Ok(()) };
                if matches!(files[0].2.kind, PackedKind::File { size, .. } if size > READ_AHEAD) {
                    self.take(maker.files(&files, content), &files);
                    done(files.len());
                    return Ok(());
                }
                let mut whole = Vec::new();
                // Whoever can write to the archive can make another of it after it was looked at: no more is read than was.
                match content.take(READ_AHEAD + 1).read_to_end(&mut whole) {
                    Ok(_) => {
                        bytes += whole.len() as u64;
                        handed.push((files, whole));
                        if handed.len() >= AT_ONCE || bytes > READ_AHEAD {
                            // The threads end only after the sender: nobody is gone.
                            let _ = send.send(std::mem::take(&mut handed));
                            bytes = 0;
                        }
                    }
                    Err(cause) => self.take(Err(Failure::Says(format!("the archive: {cause}"))), &files),
                }
                Ok(())
            });
            let _ = send.send(handed);
            drop(send);
            read
        })
    }

    fn goes_on(&self) -> bool {
        signals::came().is_none() && self.failed.lock().unwrap_or_else(PoisonError::into_inner).is_none()
    }

    fn take(&self, made: Result<Vec<Identity>, Failure>, files: &[LaidPath<'_>]) {
        match made {
            Ok(ids) => {
                let mut made = self.made.lock().unwrap_or_else(PoisonError::into_inner);
                files.iter().zip(ids).for_each(|((at, ..), id)| made[*at] = Some(id));
            }
            Err(failure) => {
                let path = self.plan.site.root.join(files[0].1);
                self.failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert((path, failure));
            }
        }
    }
}

/// Makes files; those of one folder come one after the other.
struct FileMaker<'m, 'f> {
    filling: &'m Filling<'f>,
    folder: Option<(PathBuf, Arc<OwnedFd>)>,
    buffer: Box<[u8]>,
}

impl<'m, 'f> FileMaker<'m, 'f> {
    fn new(filling: &'m Filling<'f>) -> Self {
        Self { filling, folder: None, buffer: vec![0; 1 << 16].into() }
    }
}

impl FileMaker<'_, '_> {
    fn folder(&mut self, path: PathBuf) -> Result<Arc<OwnedFd>, Failure> {
        if let Some((known, dir)) = &self.folder
            && *known == path
        {
            return Ok(Arc::clone(dir));
        }
        let dir = Arc::new(open_below(&self.filling.staging.dir, &path)?);
        self.folder = Some((path, Arc::clone(&dir)));
        Ok(dir)
    }

    /// Makes the files that have one entry's content. They have names from the beginning: nobody but the caller enters the folder.
    fn files(&mut self, files: &[LaidPath<'_>], content: &mut dyn Read) -> Result<Vec<Identity>, Failure> {
        let made = |errno| Failure::Os(Op::Create, errno);
        let plan = self.filling.plan;
        let mut new = Vec::new();
        let (mut left, mut sum) = (0, [0; 32]);
        for (_, path, laid) in files {
            let dir = self.folder(Staging::folder(plan, laid, path))?;
            let name = c_name(path.file_name().unwrap_or_default())?;
            let file = sys::create_file(dir.as_fd(), &name).map_err(made)?;
            if let PackedKind::File { size, sum: want, .. } = &laid.kind {
                (left, sum) = (*size, *want);
            }
            new.push((file, &laid.rights));
        }
        let mut hasher = blake3::Hasher::new();
        loop {
            let count =
                content.read(&mut self.buffer).map_err(|cause| Failure::Says(format!("the archive: {cause}")))?;
            if count == 0 {
                break;
            }
            // Whoever can write to the archive can make another of it after it was looked at.
            left = left.checked_sub(count as u64).ok_or(CHANGED)?;
            hasher.update(&self.buffer[..count]);
            for (file, _) in &new {
                sys::write_all(file, &self.buffer[..count]).map_err(made)?;
            }
        }
        if hasher.finalize() != sum {
            return Err(CHANGED);
        }
        new.iter().map(|(file, rights)| dress(file, rights)).collect()
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
