//! The walk: down by directory handles, each name opened without following, on all cores.
//!
//! A directory is a task; one with very many names is split into several. Idle threads steal tasks. Each thread
//! has a working directory of its own, so that it can ask for attributes by bare name.

use std::ffi::{CStr, CString, OsStr, OsString};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use crossbeam_deque::{Steal, Stealer, Worker};
use rustix::io::Errno;

use super::near::Near;
use super::{Op, sys};
use crate::entry::{Facts, Identity, Nanos};

/// A directory that the walk went through, with what the visitor attached to it.
#[derive(Debug)]
pub struct Dir<D> {
    /// The directory above; none for the one where the walk began.
    pub above: Option<Arc<Dir<D>>>,
    /// Its name in the directory above; where the walk began, the whole path.
    pub name: CString,
    /// Which inode it was.
    pub id: Identity,
    /// What the visitor attached.
    pub data: D,
    /// How many directories of the walk are above it.
    depth: u32,
    /// Whether it, or one above it, was changed since the walk began.
    restless: bool,
}

impl<D> Dir<D> {
    /// The directory at `path`, where a walk begins.
    #[must_use]
    pub(crate) fn top(path: &Path, id: Identity, data: D) -> Self {
        // A path that came from the system holds no NUL.
        let name = CString::new(path.as_os_str().as_bytes()).unwrap_or_default();
        Self { above: None, name, id, data, depth: 0, restless: false }
    }

    /// The directory `name` in `above`.
    pub(super) fn below(above: &Arc<Self>, name: &CStr, id: Identity, restless: bool, data: D) -> Self {
        let restless = restless || above.restless;
        Self { above: Some(Arc::clone(above)), name: name.to_owned(), id, data, depth: above.depth + 1, restless }
    }

    /// The path of the directory.
    #[must_use]
    pub fn path(&self) -> PathBuf {
        self.spelt(None)
    }

    /// The path of `name` in the directory.
    #[must_use]
    pub fn path_of(&self, name: &CStr) -> PathBuf {
        self.spelt(Some(name))
    }

    /// The names from the top on, and this one, put together in one piece of memory.
    fn spelt(&self, name: Option<&CStr>) -> PathBuf {
        let mut dirs = vec![self];
        while let Some(above) = dirs.last().and_then(|dir| dir.above.as_deref()) {
            dirs.push(above);
        }
        let names = || dirs.iter().rev().map(|dir| &*dir.name).chain(name);
        let mut path = Vec::with_capacity(names().map(|name| name.count_bytes() + 1).sum());
        for name in names() {
            if path.last().is_some_and(|last| *last != b'/') {
                path.push(b'/');
            }
            path.extend_from_slice(name.to_bytes());
        }
        OsString::from_vec(path).into()
    }
}

impl<D> Drop for Dir<D> {
    /// Takes a long chain apart link by link: a tree of any depth must not fill the stack.
    fn drop(&mut self) {
        let mut above = self.above.take();
        while let Some(mut dir) = above.and_then(Arc::into_inner) {
            above = dir.above.take();
        }
    }
}

/// What the walk could not do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Trouble {
    /// The name had gone when the walk came to it.
    Vanished,
    /// Something else stood there than a moment before.
    Replaced,
    /// It is a symlink that others could have put on the way to the site.
    ForeignLink,
    /// It lies deeper than anything that has a path.
    TooDeep,
    /// It was changed faster than the walk could look.
    Restless,
    /// The kernel said no.
    Failed(Op, Errno),
}

/// What is done with each entry. Each thread has a visitor of its own.
pub trait Visitor: Send {
    /// What is attached to the directories.
    type Data: Send + Sync;

    /// One entry of `dir`. For a directory that is to be entered, the answer is what is attached to it.
    fn entry(&mut self, dir: &Arc<Dir<Self::Data>>, look: &Look<'_>, facts: &Facts) -> Option<Self::Data>;

    /// Whether labels are told with the facts: one call fewer for each entry where nobody uses them.
    fn labels(&self) -> bool {
        true
    }

    /// Something in `dir` (or the directory itself, where there is no name) could not be looked at.
    fn trouble(&mut self, dir: &Arc<Dir<Self::Data>>, name: Option<&CStr>, trouble: Trouble);
}

/// A closer look at one entry, by its name in the directory that the walk holds.
#[derive(Debug)]
pub struct Look<'a> {
    dir: BorrowedFd<'a>,
    /// The entry's name.
    pub name: &'a CStr,
}

impl Look<'_> {
    /// The name as a path component.
    #[must_use]
    pub fn os_name(&self) -> &OsStr {
        OsStr::from_bytes(self.name.to_bytes())
    }

    /// A look at `name` in `dir`.
    pub(crate) fn at<'l>(dir: &'l OwnedFd, name: &'l CStr) -> Look<'l> {
        Look { dir: dir.as_fd(), name }
    }

    /// The first bytes of a regular file.
    pub fn first_bytes<'b>(&self, buffer: &'b mut [u8]) -> Result<&'b [u8], Errno> {
        let length = sys::first_bytes(self.dir, self.name, buffer)?;
        Ok(&buffer[..length])
    }

    /// The last bytes of a regular file, and how many they are.
    pub(crate) fn last_bytes(&self, buffer: &mut [u8]) -> Result<usize, Errno> {
        sys::last_bytes(self.dir, self.name, buffer)
    }

    /// The names in a directory; none where it cannot be listed.
    #[must_use]
    pub fn names_in_it(&self) -> Vec<std::ffi::OsString> {
        let names = sys::open_directory(self.dir, self.name).and_then(sys::names).unwrap_or_default();
        names.iter().map(|name| OsStr::from_bytes(name.to_bytes()).to_owned()).collect()
    }

    /// When its content was changed last.
    pub(crate) fn modified(&self) -> Result<Nanos, Errno> {
        sys::modified(self.dir, self.name)
    }

    /// The checksum (BLAKE3) of a regular file that must be `id`.
    pub(crate) fn checksum(&self, id: Identity) -> Result<[u8; 32], Errno> {
        let file = sys::open_file(self.dir, self.name)?;
        if sys::look_at(&file)?.id != id {
            return Err(Errno::STALE);
        }
        let mut sum = blake3::Hasher::new();
        let mut buffer = vec![0; 1 << 16];
        loop {
            match sys::read_some(&file, &mut buffer)? {
                0 => return Ok(*sum.finalize().as_bytes()),
                length => sum.update(&buffer[..length]),
            };
        }
    }

    /// A symlink's target.
    pub fn target(&self) -> Result<Vec<u8>, Errno> {
        sys::read_link(self.dir, self.name)
    }
}

/// How far a walk is, for whoever watches.
#[derive(Debug, Default)]
pub struct Progress {
    /// The entries looked at so far.
    pub entries: AtomicU64,
    /// The files read so far, where a survey reads them.
    pub read: AtomicU64,
}

/// What is left of a walk.
#[derive(Debug)]
pub struct Walked<V> {
    /// The threads' visitors.
    pub visitors: Vec<V>,
}

/// So many bytes of names the kernel lists at once.
const LISTING: usize = 1 << 15;

/// Names that are looked at in one go; a directory with more is shared between the threads.
const BATCH: usize = 1024;
/// As many batches wait before a thread looks at its own directory's names itself.
const WAITING: usize = 64;

/// What keeps a walk from going on for ever while somebody makes and moves directories under it.
#[derive(Clone, Copy, Debug)]
struct Bounds {
    /// No directory deeper than this is entered: twice what a path can name (`PATH_MAX`).
    deepest: u32,
    /// When the walk began.
    began: Nanos,
    /// As many entries are looked at below directories that were changed since.
    restless: u64,
}

impl Bounds {
    fn now() -> Self {
        let began = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(0, |since| since.as_nanos());
        let began = i64::try_from(began).unwrap_or(i64::MAX);
        Self { deepest: 4_096, began, restless: 8_000_000 }
    }
}

enum Task<D> {
    /// A directory, by its name in the one above.
    Enter(Arc<OwnedFd>, Arc<Dir<D>>),
    /// Some names of a directory, each ended by a NUL.
    Names(Arc<OwnedFd>, Arc<Dir<D>>, Vec<u8>),
}

/// Walks the trees at `starts` with one visitor for each thread.
///
/// Each start is a pinned or opened directory that has been judged already; the visitors see what is in it.
pub fn walk<V: Visitor>(starts: Vec<(OwnedFd, Arc<Dir<V::Data>>)>, visitors: Vec<V>, progress: &Progress) -> Walked<V> {
    walk_asking(starts, visitors, progress, Near::on_own_thread, Bounds::now())
}

/// As [`walk`], each thread asking for attributes in the way that `near` finds.
fn walk_asking<V: Visitor>(
    starts: Vec<(OwnedFd, Arc<Dir<V::Data>>)>,
    visitors: Vec<V>,
    progress: &Progress,
    near: fn() -> Near,
    bounds: Bounds,
) -> Walked<V> {
    raise_file_limit();
    let queues: Vec<Worker<Task<V::Data>>> = visitors.iter().map(|_| Worker::new_lifo()).collect();
    let pool = WorkerPool {
        stealers: queues.iter().map(Worker::stealer).collect(),
        pending: AtomicUsize::new(0),
        idle: Mutex::new(0),
        wake: Condvar::new(),
        progress,
        bounds,
        restless: AtomicU64::new(0),
    };
    let mut first = starts.into_iter();
    std::thread::scope(|scope| {
        let mut handles = Vec::new();
        let mut waiting: Vec<Vec<Task<V::Data>>> = queues.iter().map(|_| Vec::new()).collect();
        for (n, start) in first.by_ref().enumerate() {
            pool.pending.fetch_add(1, Ordering::SeqCst);
            let slot = n % waiting.len();
            waiting[slot].push(Task::Enter(Arc::new(start.0), start.1));
        }
        for ((queue, visitor), tasks) in queues.into_iter().zip(visitors).zip(waiting) {
            let pool = &pool;
            handles.push(scope.spawn(move || {
                let near = near().with_labels(visitor.labels());
                let mut thread =
                    Thread { queue, visitor, pool, near, names: Vec::new(), listing: Vec::with_capacity(LISTING) };
                for task in tasks {
                    thread.queue.push(task);
                }
                thread.run();
                thread.visitor
            }));
        }
        let visitors = handles.into_iter().map(|handle| match handle.join() {
            Ok(visitor) => visitor,
            Err(panic) => std::panic::resume_unwind(panic),
        });
        Walked { visitors: visitors.collect() }
    })
}

/// A directory that waits holds the one above open: take as many handles as the system lets us.
pub(crate) fn raise_file_limit() {
    use rustix::process::{Resource, getrlimit, setrlimit};
    let mut limit = getrlimit(Resource::Nofile);
    limit.current = limit.maximum;
    // Where this is refused the old limit holds, and a tree that needs more says so.
    let _ = setrlimit(Resource::Nofile, limit);
}

struct WorkerPool<'p, D> {
    stealers: Vec<Stealer<Task<D>>>,
    /// Tasks that are waiting or being done.
    pending: AtomicUsize,
    /// How many threads sleep.
    idle: Mutex<usize>,
    wake: Condvar,
    progress: &'p Progress,
    bounds: Bounds,
    /// The entries looked at below directories that were changed since the walk began.
    restless: AtomicU64,
}

impl<D> WorkerPool<'_, D> {
    fn steal(&self) -> Option<Task<D>> {
        loop {
            let mut busy = false;
            for stealer in &self.stealers {
                match stealer.steal() {
                    Steal::Success(task) => return Some(task),
                    Steal::Retry => busy = true,
                    Steal::Empty => {}
                }
            }
            if !busy {
                return None;
            }
        }
    }

    fn finished(&self) {
        if self.pending.fetch_sub(1, Ordering::SeqCst) == 1 {
            self.wake.notify_all();
        }
    }

    /// Waits for a task; none once all are done.
    fn wait(&self) -> Option<Task<D>> {
        loop {
            if let Some(task) = self.steal() {
                return Some(task);
            }
            if self.pending.load(Ordering::SeqCst) == 0 {
                return None;
            }
            let mut idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner);
            *idle += 1;
            // A wake-up that came before the lock is made good by the time limit.
            let (mut idle, _) =
                self.wake.wait_timeout(idle, Duration::from_millis(1)).unwrap_or_else(PoisonError::into_inner);
            *idle -= 1;
        }
    }
}

struct Thread<'p, V: Visitor> {
    queue: Worker<Task<V::Data>>,
    visitor: V,
    pool: &'p WorkerPool<'p, V::Data>,
    near: Near,
    /// The names of the directory at hand, each ended by a NUL; kept for its memory.
    names: Vec<u8>,
    /// What the kernel lists into; kept for its memory.
    listing: Vec<u8>,
}

impl<V: Visitor> Thread<'_, V> {
    fn run(&mut self) {
        while let Some(task) = self.queue.pop().or_else(|| self.pool.wait()) {
            match task {
                Task::Enter(above, dir) => self.enter(&above, &dir),
                Task::Names(handle, dir, names) => self.look_at_names(&handle, &dir, &names),
            }
            self.pool.finished();
        }
    }

    fn push(&self, task: Task<V::Data>) {
        self.pool.pending.fetch_add(1, Ordering::SeqCst);
        self.queue.push(task);
        let idle = self.pool.idle.lock().unwrap_or_else(PoisonError::into_inner);
        if *idle > 0 {
            self.pool.wake.notify_one();
        }
    }

    fn enter(&mut self, above: &OwnedFd, dir: &Arc<Dir<V::Data>>) {
        if dir.depth > self.pool.bounds.deepest {
            return self.visitor.trouble(dir, None, Trouble::TooDeep);
        }
        if dir.restless && self.pool.restless.load(Ordering::Relaxed) > self.pool.bounds.restless {
            return self.visitor.trouble(dir, None, Trouble::Restless);
        }
        let opened =
            if dir.above.is_some() { sys::open_directory(above, &dir.name) } else { sys::reopen_directory(above) };
        let handle = match opened {
            Ok(handle) => handle,
            Err(Errno::NOENT) => return self.visitor.trouble(dir, None, Trouble::Vanished),
            Err(Errno::NOTDIR | Errno::LOOP) => return self.visitor.trouble(dir, None, Trouble::Replaced),
            Err(errno) => return self.visitor.trouble(dir, None, Trouble::Failed(Op::List, errno)),
        };
        match sys::look_at(&handle) {
            Ok(facts) if facts.id == dir.id => self.list(handle, dir),
            Ok(_) => self.visitor.trouble(dir, None, Trouble::Replaced),
            Err(errno) => self.visitor.trouble(dir, None, Trouble::Failed(Op::Look, errno)),
        }
    }

    fn list(&mut self, handle: OwnedFd, dir: &Arc<Dir<V::Data>>) {
        let handle = Arc::new(handle);
        let mut listing = std::mem::take(&mut self.listing);
        let mut names = std::mem::take(&mut self.names);
        names.clear();
        let mut count = 0;
        let mut entries = rustix::fs::RawDir::new(&*handle, listing.spare_capacity_mut());
        loop {
            match entries.next() {
                None => break,
                Some(Ok(entry)) => {
                    let name = entry.file_name();
                    if matches!(name.to_bytes(), b"." | b"..") {
                        continue;
                    }
                    if count == BATCH {
                        count = 0;
                        if self.queue.len() < WAITING {
                            let full = std::mem::take(&mut names);
                            self.push(Task::Names(Arc::clone(&handle), Arc::clone(dir), full));
                        } else {
                            self.look_at_names(&handle, dir, &names);
                            names.clear();
                        }
                    }
                    names.extend_from_slice(name.to_bytes_with_nul());
                    count += 1;
                }
                Some(Err(Errno::INTR)) => {}
                Some(Err(errno)) => {
                    self.visitor.trouble(dir, None, Trouble::Failed(Op::List, errno));
                    break;
                }
            }
        }
        self.look_at_names(&handle, dir, &names);
        (self.names, self.listing) = (names, listing);
    }

    fn look_at_names(&mut self, handle: &Arc<OwnedFd>, dir: &Arc<Dir<V::Data>>, names: &[u8]) {
        let mut count = 0;
        self.near.stand_in(handle);
        let mut rest = names;
        while let Ok(name) = CStr::from_bytes_until_nul(rest) {
            rest = &rest[name.count_bytes() + 1..];
            count += 1;
            self.look_at_name(handle, dir, name);
        }
        self.pool.progress.entries.fetch_add(count, Ordering::Relaxed);
        if dir.restless {
            self.pool.restless.fetch_add(count, Ordering::Relaxed);
        }
    }

    fn look_at_name(&mut self, handle: &Arc<OwnedFd>, dir: &Arc<Dir<V::Data>>, name: &CStr) {
        let facts = match self.near.look(handle, name) {
            Ok(facts) => facts,
            Err(Errno::NOENT) => return self.visitor.trouble(dir, Some(name), Trouble::Vanished),
            Err(errno) => return self.visitor.trouble(dir, Some(name), Trouble::Failed(Op::Look, errno)),
        };
        let look = Look { dir: handle.as_fd(), name };
        if let Some(data) = self.visitor.entry(dir, &look, &facts) {
            let below = Dir::below(dir, name, facts.id, facts.changed > self.pool.bounds.began, data);
            self.push(Task::Enter(Arc::clone(handle), Arc::new(below)));
        }
    }
}

#[cfg(test)]
mod tests;
