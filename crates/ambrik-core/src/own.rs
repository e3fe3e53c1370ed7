//! Files of Ambrik's own: what stands in them decides what root does, so nobody else may be able to write them, nor to put
//! others in their place. Under `--host` they are found inside the folder that stands for the host, whatever links lie there.

use std::ffi::{CString, OsString};
use std::fs::File;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use rustix::io::Errno;

use crate::access::{Loose, loose};
use crate::account::Uid;
use crate::entry::{Facts, Kind};
use crate::mode::Mode;
use crate::shown::{Shown, shell_path};
use crate::tree::{Host, Passed, Resolved, WayError, sys};

/// No file of Ambrik's own is longer, in bytes.
pub const LONGEST: usize = 1 << 20;

/// A place for files of Ambrik's own: on this system, or inside the folder that stands for the host.
#[derive(Debug)]
pub struct OwnPlace {
    host: Host,
    /// From the host's `/` on.
    path: PathBuf,
    /// As this system names it.
    shown: PathBuf,
}

/// Others than root and the caller can change what decides what root does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Exposed {
    /// The file, or a folder above it.
    pub path: PathBuf,
    /// What is wrong with it.
    pub why: String,
    /// The command that puts it right.
    pub mend: String,
}

/// Why a file of Ambrik's own cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum OwnError {
    /// It is not there, or cannot be reached.
    #[error(transparent)]
    Way(#[from] WayError),
    /// It is no regular file.
    #[error("{} is a {}, and must be a regular file", Shown(.0), .1.word())]
    Kind(PathBuf, Kind),
    /// Others than root and the caller could change it.
    #[error("{}: {}; put that right first: {}", Shown(&.0.path), .0.why, .0.mend)]
    Exposed(Exposed),
    /// It is too long.
    #[error("{} is longer than 1 MiB: that is no file of Ambrik's", Shown(.0))]
    Long(PathBuf),
    /// It is not text.
    #[error("{} is not UTF-8 text", Shown(.0))]
    NoText(PathBuf),
}

impl OwnError {
    /// Whether nothing is there.
    #[must_use]
    pub const fn is_missing(&self) -> bool {
        matches!(self, Self::Way(WayError::Missing(_) | WayError::NoDirectory(_)))
    }
}

impl OwnPlace {
    /// What this system names `shown`: inside `host` where it lies below the folder that stands for that.
    ///
    /// Errors where this system's `/` cannot be opened.
    pub fn of(host: &Host, shown: &Path) -> Result<Self, WayError> {
        let shown = std::path::absolute(shown).unwrap_or_else(|_| shown.to_owned());
        let root = std::path::absolute(host.root()).unwrap_or_else(|_| host.root().to_owned());
        match shown.strip_prefix(&root) {
            Ok(below) if !host.is_this() => {
                let path = Path::new("/").join(below);
                Ok(Self { host: host.again().map_err(|errno| WayError::Failed(root, errno))?, path, shown })
            }
            _ => Ok(Self { host: Host::this()?, path: shown.clone(), shown }),
        }
    }

    /// As this system names it.
    #[must_use]
    pub fn shown(&self) -> &Path {
        &self.shown
    }

    /// Whether there is anything; what cannot be looked at counts, since reading it will say why.
    #[must_use]
    pub fn is_there(&self) -> bool {
        !matches!(self.host.resolve(&self.path), Err(WayError::Missing(_) | WayError::NoDirectory(_)))
    }

    /// The names in it, where it is a directory, sorted; hidden ones, and the lock files of editors, left out.
    pub fn names(&self) -> Result<Vec<OsString>, OwnError> {
        let mut names = self.host.names_in(&self.path).map_err(|error| self.named(error))?;
        names.retain(|name| !matches!(name.as_bytes().first(), Some(b'.' | b'#')));
        names.sort();
        Ok(names)
    }

    /// The text of the file, and, where others could have written it, how.
    pub fn read(&self) -> Result<(String, Option<Exposed>), OwnError> {
        let resolved = self.host.resolve(&self.path).map_err(|error| self.named(error))?;
        if resolved.facts.kind != Kind::File {
            return Err(OwnError::Kind(self.shown.clone(), resolved.facts.kind));
        }
        let bytes = Host::content(&resolved, LONGEST).map_err(|errno| match errno {
            Errno::FBIG => OwnError::Long(self.shown.clone()),
            errno => OwnError::Way(WayError::Failed(self.shown.clone(), errno)),
        })?;
        let text = String::from_utf8(bytes).map_err(|_| OwnError::NoText(self.shown.clone()))?;
        Ok((text, self.exposed(&resolved)))
    }

    /// Opens a regular file that lies inside the folder that stands for the host, no way leading out of it; nothing where
    /// it lies on this system.
    pub fn open_inside(&self) -> Result<Option<File>, OwnError> {
        if self.host.is_this() {
            return Ok(None);
        }
        let found = self.host.resolve(&self.path).map_err(|error| self.named(error))?;
        let opened = Host::open_found(&found).map_err(|errno| WayError::Failed(self.shown.clone(), errno));
        Ok(Some(opened?.into()))
    }

    /// Whether others than root and the caller can write something, or put another in its place.
    pub(crate) fn exposed(&self, found: &Resolved) -> Option<Exposed> {
        let Exposed { path, why, mend } = exposed(found)?;
        let path = self.on_this_system(&path);
        Some(Exposed { mend: format!("{mend} {}", shell_path(&path)), path, why })
    }

    /// A path of the host as this system names it.
    fn on_this_system(&self, path: &Path) -> PathBuf {
        if self.host.is_this() {
            path.to_owned()
        } else {
            self.host.root().join(path.strip_prefix("/").unwrap_or(path))
        }
    }

    /// An error with the path as this system names it.
    fn named(&self, error: WayError) -> WayError {
        let on = |path: PathBuf| self.on_this_system(&path);
        match error {
            WayError::Missing(path) => WayError::Missing(on(path)),
            WayError::NoDirectory(path) => WayError::NoDirectory(on(path)),
            WayError::Loop(path) => WayError::Loop(on(path)),
            WayError::ForeignLink(path) => WayError::ForeignLink(on(path)),
            WayError::Failed(path, errno) => WayError::Failed(on(path), errno),
        }
    }

    /// A handle on the folder at `path` of its host; what is missing of the way there is made with this mode.
    pub(crate) fn folder(&self, path: &Path, mode: Mode) -> Result<OwnedFd, OwnError> {
        let found = path.ancestors().find_map(|above| match self.host.resolve(above) {
            Err(WayError::Missing(_)) => None,
            found => Some((above, found)),
        });
        let Some((above, found)) = found else { return Err(WayError::Missing(path.to_owned()).into()) };
        let mut handle = found.map_err(|error| self.named(error))?.handle;
        let mut so_far = above.to_owned();
        for name in path.strip_prefix(above).unwrap_or(Path::new("")) {
            so_far.push(name);
            let failed = |errno| WayError::Failed(self.on_this_system(&so_far), errno);
            let name = CString::new(name.as_bytes()).map_err(|_| failed(Errno::INVAL))?;
            match sys::create_directory_with(&handle, &name, mode) {
                // Whatever the umask says.
                Ok(()) => sys::set_mode(sys::pin_directory(&handle, &name).map_err(failed)?, mode).map_err(failed)?,
                Err(Errno::EXIST) => {}
                Err(errno) => return Err(failed(errno).into()),
            }
            handle = sys::pin_directory(&handle, &name).map_err(failed)?;
        }
        Ok(handle)
    }

    /// The host that it is in, and its path there.
    pub(crate) const fn within(&self) -> (&Host, &PathBuf) {
        (&self.host, &self.path)
    }
}

/// Whether others than root and the caller can write something that was found, or put another in its place: the path as the
/// host names it, and the command that puts it right without the path.
pub(crate) fn exposed(found: &Resolved) -> Option<Exposed> {
    let of = |path: &PathBuf, why: Option<String>, facts: &Facts| {
        let mend = if facts.rights.mode.has(0o022) { "chmod go-w" } else { "chown root" };
        why.map(|why| Exposed { path: path.clone(), why, mend: mend.to_owned() })
    };
    let on_the_way = found.way.iter().find_map(|passed| of(&passed.path, above(passed), &passed.facts));
    on_the_way.or_else(|| of(&found.path, itself(&found.facts), &found.facts))
}

fn trusted(uid: Uid) -> bool {
    uid == Uid::ROOT || uid.0 == rustix::process::geteuid().as_raw()
}

/// What lets others put something else in the place of what was passed.
fn above(passed: &Passed) -> Option<String> {
    let rights = &passed.facts.rights;
    Some(match loose(trusted, rights, passed.entry.rights.uid)? {
        Loose::Owner => {
            format!("it belongs to uid {}, who can put something else in the place of what is in it", rights.uid)
        }
        Loose::Mode => format!("its mode {} lets others put something else into it", rights.mode),
    })
}

/// What lets others write to it.
fn itself(facts: &Facts) -> Option<String> {
    let rights = &facts.rights;
    if !trusted(rights.uid) {
        return Some(format!("it belongs to uid {}, who can write to it", rights.uid));
    }
    // Under an access list the group's bits are its mask: no entry gives more.
    rights.mode.has(0o022).then(|| format!("its mode {} lets others write to it", rights.mode))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

    use rstest::rstest;

    fn place(dir: &tempfile::TempDir, name: &str) -> OwnPlace {
        let host = Host::at(dir.path()).unwrap();
        OwnPlace::of(&host, &dir.path().join(name)).unwrap()
    }

    #[rstest]
    #[case::its_own(0o644, 0o755, None)]
    #[case::file_open_to_its_group(0o664, 0o755, Some("its mode 0664 lets others write to it"))]
    #[case::folder_open_to_all(0o644, 0o777, Some("its mode 0777 lets others put something else into it"))]
    #[case::sticky_folder(0o644, 0o1777, None)]
    fn what_others_can_write_is_said(#[case] file: u32, #[case] folder: u32, #[case] want: Option<&str>) {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir(dir.path().join("sites")).unwrap();
        std::fs::write(dir.path().join("sites/a.toml"), "x").unwrap();
        for (name, mode) in [("sites/a.toml", file), ("sites", folder)] {
            rustix::fs::chmod(dir.path().join(name), rustix::fs::Mode::from_raw_mode(mode)).unwrap();
        }
        let (text, exposed) = place(&dir, "sites/a.toml").read().unwrap();
        assert_eq!((&*text, exposed.map(|exposed| exposed.why).as_deref()), ("x", want));
    }

    #[test]
    fn only_regular_files_of_a_megabyte_are_read() {
        let dir = tempfile::tempdir().unwrap();
        let fifo = dir.path().join("fifo.toml");
        rustix::fs::mknodat(rustix::fs::CWD, &fifo, rustix::fs::FileType::Fifo, rustix::fs::Mode::RUSR, 0).unwrap();
        std::fs::write(dir.path().join("long.toml"), vec![b'#'; LONGEST + 1]).unwrap();
        std::fs::write(dir.path().join("bytes.toml"), b"\xff").unwrap();
        symlink("/dev/zero", dir.path().join("zero.toml")).unwrap();
        let said = |name: &str| place(&dir, name).read().unwrap_err().to_string();
        assert!(said("fifo.toml").contains("is a FIFO, and must be a regular file"));
        assert!(said("long.toml").contains("is longer than 1 MiB"));
        assert!(said("bytes.toml").contains("is not UTF-8 text"));
        assert!(said("zero.toml").contains("does not exist"), "the link leads inside the folder");
        assert!(place(&dir, "none.toml").read().unwrap_err().is_missing());
    }

    #[test]
    fn hidden_files_and_editors_locks_are_left_out() {
        let dir = tempfile::tempdir().unwrap();
        for name in [".hidden.toml", "#a.toml#", ".#a.toml", "a.toml", "b.toml"] {
            std::fs::write(dir.path().join(name), "x").unwrap();
        }
        assert_eq!(place(&dir, "").names().unwrap(), ["a.toml", "b.toml"]);
    }

    #[test]
    fn links_in_an_image_stay_inside() {
        let (dir, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        std::fs::write(outside.path().join("a.toml"), "outside").unwrap();
        symlink(outside.path(), dir.path().join("sites")).unwrap();
        assert!(place(&dir, "sites/a.toml").read().unwrap_err().is_missing());
        assert!(place(&dir, "sites").names().is_err());
    }
}
