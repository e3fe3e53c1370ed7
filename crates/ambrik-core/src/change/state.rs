//! The state directory: the ledger, the keepsakes and the locks; root's alone.

use std::ffi::{CString, OsStr};
use std::io::{Read as _, Seek as _, Write as _};
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Component, Path, PathBuf};

use rustix::fs::{FlockOperation, Mode as OpenMode, OFlags};
use rustix::io::Errno;

use crate::entry::Kind;
use crate::shown::Shown;
use crate::tree::sys;

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
    pub const fn is_privilege(&self) -> bool {
        matches!(self, Self::Failed { errno: Errno::PERM | Errno::ACCESS, .. })
    }
}

/// A site's lock; given back when it is dropped or the process ends.
#[derive(Debug)]
pub struct SiteLock {
    _file: std::fs::File,
}

impl StateDir {
    /// Opens the directory, making it where it is missing.
    pub fn open_or_create(path: &Path) -> Result<Self, StateError> {
        Self::at(path, true)
    }

    /// Opens the directory where there is one.
    pub fn open(path: &Path) -> Result<Self, StateError> {
        Self::at(path, false)
    }

    fn at(path: &Path, create: bool) -> Result<Self, StateError> {
        let failed = |op: &'static str, path: &Path| {
            let path = path.to_owned();
            move |errno| StateError::Failed { op, path, errno }
        };
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let start = if path.is_absolute() { "/" } else { "." };
        let mut handle = rustix::fs::open(start, flags, OpenMode::empty()).map_err(failed("open", Path::new(start)))?;
        let mut so_far = PathBuf::from(start);
        let names = path.components().filter_map(|c| match c {
            Component::Normal(name) => Some(name),
            Component::ParentDir => Some(OsStr::new("..")),
            Component::RootDir | Component::CurDir | Component::Prefix(_) => None,
        });
        let names: Vec<&OsStr> = names.collect();
        for (n, name) in names.iter().enumerate() {
            so_far.push(name);
            let c_name = super::folder::c_name(name).map_err(|_| StateError::None(path.to_owned()))?;
            // Links above are the host's own affair; the directory itself must be one.
            let open = |flags| rustix::fs::openat(&handle, &c_name, flags, OpenMode::empty());
            let no_link = if n + 1 == names.len() { flags | OFlags::NOFOLLOW } else { flags };
            handle = match open(no_link) {
                Err(Errno::NOENT) if create => {
                    // What leads there is everybody's to pass; it is the caller's alone.
                    let made = if n + 1 == names.len() {
                        sys::create_directory(&handle, &c_name)
                    } else {
                        rustix::fs::mkdirat(&handle, &c_name, OpenMode::from_raw_mode(0o755))
                    };
                    match made {
                        Ok(()) | Err(Errno::EXIST) => {}
                        Err(errno) => return Err(failed("make the state directory", &so_far)(errno)),
                    }
                    rustix::fs::openat(&handle, &c_name, no_link, OpenMode::empty()).map_err(failed("open", &so_far))?
                }
                Err(Errno::NOENT) => return Err(StateError::None(path.to_owned())),
                Err(Errno::NOTDIR | Errno::LOOP) => {
                    return Err(StateError::Unsafe { path: so_far, why: "it is a link or a file".into() });
                }
                opened => opened.map_err(failed("open the state directory", &so_far))?,
            };
        }
        let state = Self { path: path.to_owned(), handle };
        state.check()?;
        Ok(state)
    }

    fn check(&self) -> Result<(), StateError> {
        let facts = sys::look_whole(&self.handle).map_err(|errno| self.failed("look at", errno))?;
        let me = rustix::process::geteuid().as_raw();
        let owner = facts.rights.uid.0;
        let why = if facts.kind != Kind::Directory {
            "it is no directory".to_owned()
        } else if owner != 0 && owner != me {
            format!("it belongs to uid {owner}, who could change the records")
        } else if facts.rights.mode.has(0o022) {
            format!("its mode {} lets others write to it (chmod go-w)", facts.rights.mode)
        } else if facts.rights.acl.is_some() {
            "it has an access list (setfacl -b)".to_owned()
        } else {
            return Ok(());
        };
        Err(StateError::Unsafe { path: self.path.clone(), why })
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
        assert!(said.contains("its mode 0777 lets others write to it"), "{said}");
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
