//! What PHP's processes write while the application is used, as the kernel tells it (fanotify(7)): the strongest evidence that
//! there is. Nothing is changed, and nobody is held up.

use std::collections::{BTreeMap, VecDeque};
use std::ffi::OsStr;
use std::io;
use std::os::fd::{AsFd, AsRawFd as _, BorrowedFd};
use std::os::unix::ffi::OsStrExt as _;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use nix::sys::fanotify::{EventFFlags, Fanotify, FanotifyEvent, InitFlags, MarkFlags, MaskFlags};
use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::account::Uid;

/// So many written files are held open, so that where they were renamed to is seen.
const HELD: usize = 256;
/// As many different paths are kept; a site that writes more is known well enough.
const MOST: usize = 100_000;

/// Why nothing can be watched.
#[derive(Debug, thiserror::Error)]
pub enum WatchError {
    /// Only root may.
    #[error("only root can watch what is written on a host (CAP_SYS_ADMIN)")]
    Privilege,
    /// The kernel or the file system does not give it.
    #[error("what is written cannot be watched here: {0}")]
    Failed(io::Error),
}

impl From<nix::errno::Errno> for WatchError {
    fn from(errno: nix::errno::Errno) -> Self {
        match errno {
            nix::errno::Errno::EPERM => Self::Privilege,
            other => Self::Failed(other.into()),
        }
    }
}

/// What was written while it was watched.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Watched {
    /// The files, and how often each was written, by their names at the end.
    pub files: BTreeMap<PathBuf, u64>,
    /// How many writes there were altogether.
    pub writes: u64,
    /// How long it was watched.
    pub time: Duration,
    /// Whether there were more than the kernel kept.
    pub missed: bool,
    /// The places whose file systems cannot be watched.
    pub unwatched: Vec<PathBuf>,
}

/// Watches the file systems that hold `places` for what processes of `php` write: until `time` is over, or something can be read
/// from `end`, or `stop` says so.
///
/// Errors where the caller is not root, or the kernel cannot do it.
pub fn watch(
    php: Uid,
    places: &[PathBuf],
    time: Duration,
    end: Option<BorrowedFd<'_>>,
    stop: impl Fn() -> bool,
) -> Result<Watched, WatchError> {
    let class = InitFlags::FAN_CLASS_NOTIF | InitFlags::FAN_CLOEXEC | InitFlags::FAN_NONBLOCK;
    let group = Fanotify::init(class, EventFFlags::O_RDONLY | EventFFlags::O_CLOEXEC | EventFFlags::O_LARGEFILE)?;
    let mut found = Watched::default();
    let there: Vec<&PathBuf> = places.iter().filter(|place| place.exists()).collect();
    for place in &there {
        let add = MarkFlags::FAN_MARK_ADD | MarkFlags::FAN_MARK_FILESYSTEM;
        match group.mark(add, MaskFlags::FAN_CLOSE_WRITE, rustix::fs::CWD, Some(place.as_path())) {
            Ok(()) => {}
            Err(nix::errno::Errno::EPERM) => return Err(WatchError::Privilege),
            // Some file systems tell nothing.
            Err(errno) if found.unwatched.len() + 1 == there.len() => return Err(errno.into()),
            Err(_) => found.unwatched.push((*place).clone()),
        }
    }
    // A signal ends it as Enter does: what was seen until then is told.
    let _held = crate::signals::hold();
    let began = Instant::now();
    let mut watching = Watching { php, found, held: VecDeque::new() };
    loop {
        let left = time.saturating_sub(began.elapsed());
        if left.is_zero() || stop() || crate::signals::came().is_some() {
            break;
        }
        // Signals are looked for now and then.
        let wait = left.min(Duration::from_millis(500));
        let wait = Timespec { tv_sec: 0, tv_nsec: i64::from(wait.subsec_nanos()) };
        let mut ready = vec![PollFd::from_borrowed_fd(group.as_fd(), PollFlags::IN)];
        ready.extend(end.map(|end| PollFd::from_borrowed_fd(end, PollFlags::IN)));
        match poll(&mut ready, Some(&wait)) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(errno) => return Err(WatchError::Failed(errno.into())),
        }
        let ended = ready.get(1).is_some_and(|end| !end.revents().is_empty());
        watching.read(&group)?;
        if ended {
            break;
        }
    }
    watching.read(&group)?;
    Ok(watching.end(began.elapsed()))
}

struct Watching {
    php: Uid,
    found: Watched,
    held: VecDeque<FanotifyEvent>,
}

impl Watching {
    fn read(&mut self, group: &Fanotify) -> Result<(), WatchError> {
        loop {
            let events = match group.read_events() {
                Ok(events) if events.is_empty() => return Ok(()),
                Ok(events) => events,
                Err(nix::errno::Errno::EAGAIN | nix::errno::Errno::EINTR) => return Ok(()),
                Err(errno) => return Err(errno.into()),
            };
            for event in events {
                self.take(event);
            }
        }
    }

    fn take(&mut self, event: FanotifyEvent) {
        self.found.missed |= event.mask().contains(MaskFlags::FAN_Q_OVERFLOW);
        // Asked each time: a number is another process's later. One that is gone already leaves the file's owner to tell: PHP owns
        // what it makes.
        let php = match account_of(event.pid()) {
            Some(uid) => uid == self.php,
            None => {
                event.fd().and_then(|fd| rustix::fs::fstat(fd).ok()).is_some_and(|stat| Uid(stat.st_uid) == self.php)
            }
        };
        if !php {
            return;
        }
        self.found.writes += 1;
        self.held.push_back(event);
        if self.held.len() > HELD
            && let Some(oldest) = self.held.pop_front()
        {
            self.note(&oldest);
        }
    }

    fn note(&mut self, event: &FanotifyEvent) {
        let Some(path) = event.fd().and_then(path_of) else { return };
        if self.found.files.len() < MOST || self.found.files.contains_key(&path) {
            *self.found.files.entry(path).or_default() += 1;
        }
    }

    fn end(mut self, time: Duration) -> Watched {
        while let Some(event) = self.held.pop_front() {
            self.note(&event);
        }
        Watched { time, ..self.found }
    }
}

/// Whose a process is (`proc_pid_status(5)`: the effective uid).
fn account_of(pid: i32) -> Option<Uid> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).ok()?;
    let line = status.lines().find_map(|line| line.strip_prefix("Uid:"))?;
    line.split_whitespace().nth(1)?.parse().ok().map(Uid)
}

/// What an open file is called now, or was called when it was removed.
fn path_of(fd: BorrowedFd<'_>) -> Option<PathBuf> {
    let path = std::fs::read_link(format!("/proc/self/fd/{}", fd.as_raw_fd())).ok()?;
    let bytes = path.as_os_str().as_bytes();
    let named = PathBuf::from(OsStr::from_bytes(bytes.strip_suffix(b" (deleted)").unwrap_or(bytes)));
    named.is_absolute().then_some(named)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    #[test]
    fn what_others_write_is_not_noted() {
        let me = Uid(rustix::process::geteuid().as_raw());
        if me != Uid::ROOT {
            return;
        }
        let dir = tempfile::tempdir().unwrap();
        let write = |names: &[&str]| {
            for name in names {
                std::fs::write(dir.path().join(name), "x").unwrap();
            }
            std::fs::rename(dir.path().join(names[0]), dir.path().join("last")).unwrap();
        };
        let seen = |php: Uid, names: &'static [&'static str]| {
            // The end is said before it begins: what was written until the watch ends is noted all the same.
            let done = std::cell::Cell::new(false);
            let stop = || {
                let was = done.replace(true);
                if !was {
                    write(names);
                }
                was
            };
            watch(php, &[dir.path().to_owned()], Duration::from_secs(60), None, stop).unwrap()
        };
        let first = watch(me, &[], Duration::ZERO, None, || true);
        if matches!(first, Err(WatchError::Privilege)) {
            return;
        }
        let own = seen(me, &["first", "second"]);
        let of_folder: Vec<_> = own.files.keys().filter_map(|path| path.strip_prefix(dir.path()).ok()).collect();
        assert_eq!(of_folder, [Path::new("last"), Path::new("second")]);
        let others = seen(Uid(61_234), &["third", "fourth"]);
        assert!(others.files.keys().all(|path| !path.starts_with(dir.path())), "{others:?}");
    }
}
