//! What the kernel tells of changes on the file systems that sites are on (fanotify(7), by handle and name; Linux 5.9).

use std::collections::{HashMap, HashSet};
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

use fanotify_fid::Fanotify;
use fanotify_fid::consts::{
    FAN_ATTRIB, FAN_CLASS_NOTIF, FAN_CLOEXEC, FAN_CLOSE_WRITE, FAN_CREATE, FAN_DELETE, FAN_MARK_ADD,
    FAN_MARK_FILESYSTEM, FAN_MOVED_FROM, FAN_MOVED_TO, FAN_NONBLOCK, FAN_ONDIR, FAN_REPORT_DIR_FID, FAN_REPORT_NAME,
};
use fanotify_fid::handle::{Mounts, resolve_file_handle_in};

use crate::account::Uid;

/// What is listened for: all that can make something wrong, or right again.
const MASK: u64 = FAN_CREATE | FAN_DELETE | FAN_MOVED_FROM | FAN_MOVED_TO | FAN_ATTRIB | FAN_CLOSE_WRITE | FAN_ONDIR;

/// Why nothing can be listened to.
#[derive(Debug, thiserror::Error)]
pub enum ListenError {
    /// Only root may.
    #[error("only root can listen to what is changed on a host (CAP_SYS_ADMIN)")]
    Privilege,
    /// The kernel does not give it.
    #[error("what is changed cannot be listened to here: {0}")]
    Failed(String),
}

/// Something was done to a name in a directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// The path, without links.
    pub path: PathBuf,
    /// It was made, or came from elsewhere.
    pub came: bool,
    /// Somebody who had it open for writing closed it.
    pub written: bool,
    /// It was removed, or went elsewhere.
    pub went: bool,
    /// Whether it is a directory.
    pub directory: bool,
    /// Who did it last; nothing where that process is gone.
    pub by: Option<By>,
}

/// Who did something.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct By {
    /// The process.
    pub process: i32,
    /// The account that it runs as.
    pub uid: Uid,
    /// What it calls itself.
    pub program: String,
    /// Whether it is this very program, run by root.
    pub ours: bool,
}

/// A group of the kernel's, and what its handles are resolved by.
#[derive(Debug)]
pub struct Listener {
    group: Fanotify,
    mounts: Mounts,
    /// The devices of the file systems that are listened to.
    heard: HashSet<u64>,
    own: Option<(u64, u64)>,
    buffer: Vec<u8>,
    /// Folders by their handles, as long as no folder gets another name; most of them are no site's.
    folders: HashMap<Vec<u8>, Option<PathBuf>>,
}

/// As many folders are remembered.
const MOST_FOLDERS: usize = 50_000;

/// What was heard.
#[derive(Debug, Default)]
pub struct Heard {
    /// What was done, in its order.
    pub events: Vec<Event>,
    /// Whether there was more than the kernel kept.
    pub dropped: bool,
}

impl Listener {
    /// Listens to nothing yet.
    pub fn new() -> Result<Self, ListenError> {
        if !rustix::process::geteuid().is_root() {
            return Err(ListenError::Privilege);
        }
        let flags = FAN_CLASS_NOTIF | FAN_CLOEXEC | FAN_NONBLOCK | FAN_REPORT_DIR_FID | FAN_REPORT_NAME;
        let group = Fanotify::new(flags).map_err(|error| ListenError::Failed(error.to_string()))?;
        let own = std::fs::metadata("/proc/self/exe").ok().map(|meta| (meta.dev(), meta.ino()));
        let (mounts, heard) = (Mounts::new(), HashSet::new());
        Ok(Self { group, mounts, heard, own, buffer: Vec::new(), folders: HashMap::new() })
    }

    /// Listens to the file systems that hold these places, too. The answer is the places whose file systems tell nothing, and why.
    pub fn listen_to(&mut self, places: &[PathBuf]) -> Vec<(PathBuf, io::Error)> {
        places.iter().filter_map(|place| self.mark(place).err().map(|error| (place.clone(), error))).collect()
    }

    fn mark(&mut self, place: &Path) -> io::Result<()> {
        let folder = std::fs::File::open(place)?;
        let device = folder.metadata()?.dev();
        if self.heard.contains(&device) {
            return Ok(());
        }
        let mark = self.group.mark(FAN_MARK_ADD | FAN_MARK_FILESYSTEM, MASK, place.as_os_str());
        mark.map_err(|error| io::Error::other(error.to_string()))?;
        self.mounts.add(folder)?;
        // What could not be resolved before may be now.
        self.folders.clear();
        self.heard.insert(device);
        Ok(())
    }

    /// Whether anything is listened to.
    #[must_use]
    pub fn hears(&self) -> bool {
        !self.heard.is_empty()
    }

    /// Waits until something is there to be read, or the time is over, or a signal came.
    #[must_use]
    pub fn wait(&self, time: Duration) -> bool {
        self.group.wait_readable(Some(time)).unwrap_or(false)
    }

    /// All that is there to be read.
    pub fn read(&mut self) -> io::Result<Heard> {
        let mut heard = Heard::default();
        // A process does many things.
        let mut who: HashMap<i32, Option<By>> = HashMap::new();
        loop {
            let events = match self.group.read_events(&mut self.buffer) {
                Ok(events) => events,
                Err(error) if error.is_would_block() => return Ok(heard),
                Err(error) => return Err(io::Error::other(error.to_string())),
            };
            if events.is_empty() {
                return Ok(heard);
            }
            for event in events {
                heard.dropped |= event.is_overflow();
                let (Some(fsid), Some(handle), Some(name)) =
                    (event.fsid(), event.dfid_name_handle(), event.dfid_name())
                else {
                    continue;
                };
                let is = |mask: u64| event.mask() & mask != 0;
                if self.folders.len() > MOST_FOLDERS || (is(FAN_ONDIR) && is(FAN_MOVED_FROM | FAN_MOVED_TO)) {
                    // What is in a folder has another path with it.
                    self.folders.clear();
                }
                let folder = self.folders.entry(handle.to_vec()).or_insert_with(|| {
                    let found = resolve_file_handle_in(self.mounts.candidates(), Some(fsid), handle).ok()?;
                    (!found.as_os_str().as_bytes().ends_with(b" (deleted)")).then_some(found)
                });
                let Some(folder) = folder else { continue };
                let (own, pid) = (self.own, event.pid());
                heard.events.push(Event {
                    path: if name == "." { folder.clone() } else { folder.join(name) },
                    came: is(FAN_CREATE | FAN_MOVED_TO),
                    written: is(FAN_CLOSE_WRITE),
                    went: is(FAN_DELETE | FAN_MOVED_FROM),
                    directory: is(FAN_ONDIR),
                    by: who.entry(pid).or_insert_with(|| by(pid, own)).clone(),
                });
            }
        }
    }
}

/// Who a process is; nothing where it is gone.
fn by(process: i32, own: Option<(u64, u64)>) -> Option<By> {
    let folder = Path::new("/proc").join(process.to_string());
    let meta = std::fs::metadata(&folder).ok()?;
    let program = std::fs::read_to_string(folder.join("comm")).ok()?.trim_end().to_owned();
    let file = std::fs::metadata(folder.join("exe")).ok().map(|meta| (meta.dev(), meta.ino()));
    let uid = Uid(meta.uid());
    Some(By { process, uid, program, ours: uid == Uid::ROOT && file.is_some() && file == own })
}
