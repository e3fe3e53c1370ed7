//! The state directory: the ledger, the keepsakes and the locks; root's alone.

use std::ffi::CString;
use std::io::{Read as _, Seek as _, Write as _};
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::{FlockOperation, Mode as OpenMode, OFlags};
use rustix::io::Errno;

use crate::entry::Kind;
use crate::mode::Mode;
use crate::own::{OwnError, OwnPlace};
use crate::shown::Shown;
use crate::tree::{Host, WayError, sys};

/// The state directory, opened and found to be safe.
#[derive(Debug)]
pub struct StateDir {
    path: PathBuf,
    handle: OwnedFd,
}

/// Why the state directory cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum StateError {
    /// It is not there, and is not to be made for reading only.
    #[error("there is no state directory {} yet: nothing has been changed with it", Shown(.0))]
    None(PathBuf),
    /// Others could write to it.
    #[error("the state directory {} is not safe: {why}; put it right, or name another with --state", Shown(.path))]
    Unsafe {
        /// The directory.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// It cannot be reached.
    #[error("the state directory cannot be used: {0}")]
    Way(OwnError),
    /// The kernel said no.
    #[error("cannot {op} {}: {}", Shown(.path), std::io::Error::from(*.errno))]
    Failed {
        /// What was being done.
        op: &'static str,
        /// To which path.
        path: PathBuf,
        /// Why it failed.
        errno: Errno,
    },
    /// Another run holds the site.
    #[error("site {site} is being changed by another run ({holder}); wait for it to end")]
    Locked {
        /// The site.
        site: String,
        /// Who holds the lock.
        holder: String,
    },
}

impl StateError {
    /// Whether privilege was missing.
    #[must_use]
    pub fn is_privilege(&self) -> bool {
        let denied = |errno: &Errno| matches!(*errno, Errno::PERM | Errno::ACCESS);
        match self {
            Self::Failed { errno, .. } | Self::Way(OwnError::Way(WayError::Failed(_, errno))) => denied(errno),
            _ => false,
        }
    }
}

/// What the state directory takes on the disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StateSize {
    /// The directory.
    pub path: PathBuf,
    /// What it takes, in bytes.
    pub bytes: u64,
    /// What its file system holds, in bytes.
    pub of: u64,
}

/// From so many bytes on a state directory is large; from a tenth of its file system on, too.
const LARGE: u64 = 1 << 30;

impl StateSize {
    /// Whether it is worth being told.
    #[must_use]
    pub const fn is_large(&self) -> bool {
        self.bytes > LARGE || self.bytes > self.of / 10
    }
}

/// The last name of what is on record as a keepsake's name: nothing else is looked at or removed.
fn keepsake_name(name: &str) -> CString {
    let last = Path::new(name).file_name().unwrap_or_default();
    CString::new(last.as_encoded_bytes()).unwrap_or_default()
}

/// A site's lock; given back when it is dropped or the process ends.
#[derive(Debug)]
pub struct SiteLock {
    _file: std::fs::File,
}

impl StateDir {
    /// Opens the directory at `path` of this system, making it where it is missing.
    pub fn open_or_create(path: &Path) -> Result<Self, StateError> {
        Self::of_this_system(path, true)
    }

    /// Opens the directory at `path` of this system, where there is one.
    pub fn open(path: &Path) -> Result<Self, StateError> {
        Self::of_this_system(path, false)
    }

    fn of_this_system(path: &Path, create: bool) -> Result<Self, StateError> {
        let place =
            Host::this().and_then(|host| OwnPlace::of(&host, path)).map_err(|error| StateError::Way(error.into()))?;
        Self::at(&place, create)
    }

    /// Opens the directory at a place; with `create`, making it where it is missing.
    pub fn at(place: &OwnPlace, create: bool) -> Result<Self, StateError> {
        let (host, path) = place.within();
        let shown = place.shown();
        let (Some(above), Some(name)) = (path.parent(), path.file_name()) else {
            return Err(StateError::Unsafe { path: shown.to_owned(), why: "it is / itself".into() });
        };
        let none = || StateError::None(shown.to_owned());
        if create {
            // What leads there is everybody's to pass; it is the caller's alone.
            let above = place.folder(above, Mode::of_st_mode(0o755)).map_err(StateError::Way)?;
            let failed = |errno| StateError::Failed { op: "make the state directory", path: shown.to_owned(), errno };
            match sys::create_directory(&above, &super::folder::c_name(name).map_err(|_| none())?) {
                Ok(()) | Err(Errno::EXIST) => {}
                Err(errno) => return Err(failed(errno)),
            }
        }
        // Links above are the host's own affair; the directory itself must be one.
        let found = match host.resolve_link(path) {
            Ok(found) => found,
            Err(WayError::Missing(_)) => return Err(none()),
            Err(error) => return Err(StateError::Way(error.into())),
        };
        let unsafe_as = |why: String| StateError::Unsafe { path: shown.to_owned(), why };
        if found.facts.kind != Kind::Directory {
            return Err(unsafe_as("it is a link or a file".into()));
        }
        if let Some(exposed) = place.exposed(&found) {
            let of = if exposed.path == *shown { String::new() } else { format!("{}: ", Shown(&exposed.path)) };
            return Err(unsafe_as(format!("{of}{} ({})", exposed.why, exposed.mend)));
        }
        if found.facts.rights.acl.is_some() {
            return Err(unsafe_as("it has an access list (setfacl -b)".into()));
        }
        Ok(Self { path: shown.to_owned(), handle: found.handle })
    }

    fn failed(&self, op: &'static str, errno: Errno) -> StateError {
        StateError::Failed { op, path: self.path.clone(), errno }
    }

    /// The directory's path.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The path of a file in it, by the handle: no link above leads elsewhere.
    pub(crate) fn pinned(&self, name: &str) -> PathBuf {
        sys::proc_path(self.handle.as_fd()).join(name)
    }

    /// A handle on a directory in it, which is made where it is missing.
    pub(crate) fn folder(&self, name: &str) -> Result<OwnedFd, StateError> {
        let c_name = CString::new(name).unwrap_or_default();
        match sys::open_directory(&self.handle, &c_name) {
            Err(Errno::NOENT) => {}
            opened => return opened.map_err(|errno| self.failed("open a directory in", errno)),
        }
        match sys::create_directory(&self.handle, &c_name) {
            Ok(()) | Err(Errno::EXIST) => {}
            Err(errno) => return Err(self.failed("make a directory in", errno)),
        }
        sys::open_directory(&self.handle, &c_name).map_err(|errno| self.failed("open a directory in", errno))
    }

    /// Makes an empty file for nobody but the caller, where there is none.
    pub(crate) fn ensure_file(&self, name: &str) -> Result<(), StateError> {
        let c_name = CString::new(name).unwrap_or_default();
        match sys::create_file(&self.handle, &c_name) {
            Ok(_) => Ok(()),
            Err(Errno::EXIST) => self.has(name).map(|_| ()),
            Err(errno) => Err(self.failed("write to", errno)),
        }
    }

    /// Whether it holds a file of this name, which must be one of its own: no link to another.
    pub(crate) fn has(&self, name: &str) -> Result<bool, StateError> {
        match sys::look(&self.handle, &CString::new(name).unwrap_or_default()) {
            Ok(facts) if facts.kind == Kind::File && facts.links == 1 => Ok(true),
            Ok(_) => {
                let why = "it is a link, or has a second name";
                Err(StateError::Unsafe { path: self.path.join(name), why: why.into() })
            }
            Err(Errno::NOENT) => Ok(false),
            Err(errno) => Err(self.failed("look into", errno)),
        }
    }

    /// Waits until no other run is opening the ledger, and keeps others from it until the answer is dropped. Nothing where
    /// nothing can be written.
    pub(crate) fn opening(&self) -> Result<Option<std::fs::File>, StateError> {
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let opened = rustix::fs::openat(&self.handle, "opening.lock", flags, OpenMode::RUSR | OpenMode::WUSR);
        let file = match opened {
            Err(Errno::ROFS | Errno::NOSPC | Errno::DQUOT) => return Ok(None),
            opened => std::fs::File::from(opened.map_err(|errno| self.failed("open a lock in", errno))?),
        };
        rustix::fs::flock(&file, FlockOperation::LockExclusive)
            .map_err(|errno| self.failed("take a lock in", errno))?;
        Ok(Some(file))
    }

    /// How long the keepsake of this name is, in bytes; nothing where it is gone.
    pub(crate) fn keepsake_size(&self, name: &str) -> Result<Option<u64>, StateError> {
        let found =
            sys::open_directory(&self.handle, c"keepsakes").and_then(|dir| sys::look(dir, &keepsake_name(name)));
        match found {
            Ok(facts) => Ok(Some(facts.size)),
            Err(Errno::NOENT) => Ok(None),
            Err(errno) => Err(self.failed("look at a keepsake in", errno)),
        }
    }

    /// Removes the keepsake of this name, if it is there: what is in it cannot come back.
    pub(crate) fn remove_keepsake(&self, name: &str) -> Result<(), StateError> {
        let (folder, name) = (self.folder("keepsakes")?, keepsake_name(name));
        match sys::unlink(&folder, &name, false) {
            Ok(()) | Err(Errno::NOENT) => Ok(()),
            Err(errno) => Err(self.failed("remove a keepsake from", errno)),
        }
    }

    /// What it takes on the disk, as far as that can be found out, and how much its file system holds, in bytes.
    pub fn size(&self) -> Result<StateSize, StateError> {
        let failed = |errno| self.failed("look into", errno);
        let sizes = |dir: &OwnedFd| -> Result<u64, Errno> {
            let names = sys::names(sys::open_directory(dir, c".")?)?;
            Ok(names.iter().filter_map(|name| Some(sys::look(dir, name).ok()?.size)).sum())
        };
        let keepsakes = sys::open_directory(&self.handle, c"keepsakes").and_then(|dir| sizes(&dir)).unwrap_or(0);
        let bytes = sizes(&self.handle).map_err(failed)? + keepsakes;
        let of = sys::capacity(&self.handle).map_err(failed)?;
        Ok(StateSize { path: self.path.clone(), bytes, of })
    }

    /// Takes a site's lock: one run a site at a time.
    pub fn lock(&self, site: &str, what: &str) -> Result<SiteLock, StateError> {
        let folder = self.folder("locks")?;
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let name = format!("{site}.lock");
        let file = rustix::fs::openat(&folder, &*name, flags, OpenMode::RUSR | OpenMode::WUSR)
            .map_err(|errno| self.failed("open a lock in", errno))?;
        let mut file = std::fs::File::from(file);
        match rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => {}
            Err(Errno::WOULDBLOCK) => {
                let mut holder = String::new();
                let read = file.read_to_string(&mut holder);
                let holder = if read.is_ok() && !holder.is_empty() { holder } else { "unknown".into() };
                return Err(StateError::Locked { site: site.into(), holder });
            }
            Err(errno) => return Err(self.failed("take a lock in", errno)),
        }
        // The text only tells the next one who it is: that it cannot be written stops nothing.
        let _ = file.set_len(0);
        let _ = file.rewind();
        let _ = write!(file, "process {}, ambrik {what}", std::process::id());
        Ok(SiteLock { _file: file })
    }

    /// Whether a run holds a site's lock now.
    #[must_use]
    pub fn is_locked(&self, site: &str) -> bool {
        matches!(self.lock(site, "history"), Err(StateError::Locked { .. }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt, symlink};

    #[test]
    fn it_is_made_for_its_owner_alone() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("var/lib/ambrik");
        let state = StateDir::open_or_create(&path).unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o700);
        let above = std::fs::metadata(dir.path().join("var/lib")).unwrap().permissions().mode();
        assert_eq!(above & 0o005, 0o005, "others have files there as well");
        let _lock = state.lock("berths", "set").unwrap();
        let second = StateDir::open(&path).unwrap().lock("berths", "seal").unwrap_err().to_string();
        assert!(second.contains(&format!("process {}, ambrik set", std::process::id())), "{second}");
        assert!(state.lock("tidewatch", "set").is_ok());
    }

    #[test]
    #[expect(clippy::disallowed_methods, reason = "the test makes a directory unsafe")]
    fn one_that_others_write_to_is_refused() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("state");
        std::fs::create_dir(&path).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o777)).unwrap();
        let said = StateDir::open(&path).unwrap_err().to_string();
        assert!(said.contains("its mode 0777 lets others write to it (chmod go-w "), "{said}");
    }

    #[test]
    fn a_link_in_its_place_is_refused() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir(dir.path().join("elsewhere")).unwrap();
        symlink("elsewhere", dir.path().join("state")).unwrap();
        assert!(matches!(StateDir::open(&dir.path().join("state")), Err(StateError::Unsafe { .. })));
        assert!(matches!(StateDir::open(&dir.path().join("none")), Err(StateError::None(_))));
    }
}
