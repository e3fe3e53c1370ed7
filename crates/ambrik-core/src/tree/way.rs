//! The way from `/` to a path: each directory passed, by handles, links followed one at a time and told of.

use std::collections::{BTreeMap, VecDeque};
use std::ffi::{CStr, CString, OsStr, OsString};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

use rustix::fs::{Mode as OpenMode, OFlags};
use rustix::io::Errno;

use super::{Mount, Mounts, sys};
use crate::access::loose;
use crate::account::{Gid, Uid};
use crate::entry::{Bar, Facts, Kind};
use crate::mode::Mode;
use crate::shown::Shown;

/// The host looked at: this one, or a folder that stands for its `/`.
#[derive(Debug)]
pub struct Host {
    root: PathBuf,
    handle: OwnedFd,
    itself: bool,
    mounts: OnceLock<(u64, Mounts)>,
    stand_in: Option<Arc<StandIn>>,
}

/// A folder that is looked at as if it were at another place of the host.
#[derive(Debug)]
struct StandIn {
    place: PathBuf,
    /// The directories from below `/` to the folder itself, by their paths at that place.
    way: BTreeMap<PathBuf, OwnedFd>,
}

impl StandIn {
    /// Pins `name` in `dir`, which is `path`: the folder for what is at its place, and a directory that leads there where there is none.
    fn pin(&self, dir: &OwnedFd, name: &CStr, path: &Path) -> Result<OwnedFd, Errno> {
        let found = sys::pin(dir, name);
        match self.way.get(path) {
            Some(own) if path == self.place || matches!(found, Err(Errno::NOENT)) => sys::pin(own, c"."),
            _ => found,
        }
    }
}

/// The symlinks followed on one way: as many as the kernel follows (`path_resolution(7)`).
#[derive(Debug, Default)]
pub(crate) struct Links(usize);

impl Links {
    const MOST: usize = 40;

    /// One more; `LOOP` where that is too many.
    pub(crate) fn follow(&mut self) -> Result<(), Errno> {
        self.0 += 1;
        if self.0 > Self::MOST { Err(Errno::LOOP) } else { Ok(()) }
    }
}

/// Where a symlink leads: from `/`, or from the directory that it is in, through these names.
pub(crate) struct LinkTarget {
    pub(crate) from_root: bool,
    pub(crate) names: VecDeque<OsString>,
}

impl LinkTarget {
    /// The target of the symlink `name` in `dir`; with no name, of the one that `dir` is.
    pub(crate) fn read(dir: &OwnedFd, name: &CStr) -> Result<Self, Errno> {
        let target = PathBuf::from(OsString::from_vec(sys::read_link(dir, name)?));
        Ok(Self { from_root: target.is_absolute(), names: components(&target) })
    }
}

/// A directory on the way, and what was looked up in it.
#[derive(Debug)]
pub struct Passed {
    /// The directory, from the host's `/` on.
    pub path: PathBuf,
    /// The directory's facts.
    pub facts: Facts,
    /// What was looked up in it: the next directory, a link, or the goal.
    pub entry: Facts,
}

/// The directories passed on a way, from `/` down; a directory passed twice stands twice.
pub type Way = Vec<Passed>;

/// A path, resolved once.
#[derive(Debug)]
pub struct Resolved {
    /// The path without links.
    pub path: PathBuf,
    /// A handle on it, which pins it.
    pub handle: OwnedFd,
    /// A handle on the directory that it is in, and its name there; for `/`, itself and `.`.
    pub parent: OwnedFd,
    /// Its name in `parent`.
    pub name: CString,
    /// Its facts.
    pub facts: Facts,
    /// The directories passed.
    pub way: Way,
}

/// Why a path could not be reached.
#[derive(Debug, thiserror::Error)]
pub enum WayError {
    /// Something on the way is not there.
    #[error("{} does not exist", Shown(.0))]
    Missing(PathBuf),
    /// Something on the way is no directory.
    #[error("{} is no directory", Shown(.0))]
    NoDirectory(PathBuf),
    /// Too many links.
    #[error("{}: too many symlinks on the way", Shown(.0))]
    Loop(PathBuf),
    /// A symlink on the way that others than those trusted could have put there.
    #[error("{} is a symlink that others could have put there: it, or the directory it is in, is not the keeper's alone", Shown(.0))]
    ForeignLink(PathBuf),
    /// The kernel said no.
    #[error("cannot look at {}: {}", Shown(.0), .1)]
    Failed(PathBuf, Errno),
}

impl Host {
    /// The host that this runs on.
    pub fn this() -> Result<Self, WayError> {
        Self::open(Path::new("/"), true)
    }

    /// The host whose `/` is the folder `root`.
    pub fn at(root: &Path) -> Result<Self, WayError> {
        Self::open(root, false)
    }

    fn open(root: &Path, itself: bool) -> Result<Self, WayError> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        match rustix::fs::open(root, flags, OpenMode::empty()) {
            Ok(handle) => Ok(Self::of(root, handle, itself)),
            Err(Errno::NOENT) => Err(WayError::Missing(root.to_owned())),
            Err(Errno::NOTDIR) => Err(WayError::NoDirectory(root.to_owned())),
            Err(errno) => Err(WayError::Failed(root.to_owned(), errno)),
        }
    }

    /// The folder `name` in `parent` as a host of its own: no way leads out of it.
    pub(crate) fn below(parent: &OwnedFd, name: &CStr) -> Result<Self, Errno> {
        Ok(Self::of(Path::new("/"), sys::open_directory(parent, name)?, false))
    }

    fn of(root: &Path, handle: OwnedFd, itself: bool) -> Self {
        Self { root: root.to_owned(), handle, itself, mounts: OnceLock::new(), stand_in: None }
    }

    /// The same host, with what is made below `private`, a directory, for `place`, a path without links; the answer is a handle on
    /// what is there then, too. Only ways from `/` lead there: the listing of a directory above does not tell of it.
    pub(crate) fn with_stand_in(&self, private: OwnedFd, place: &Path) -> Result<(Self, OwnedFd), Errno> {
        let (mut way, mut dir, mut path) = (BTreeMap::new(), private, PathBuf::from("/"));
        for name in place.iter().skip(1) {
            path.push(name);
            let name = CString::new(name.as_bytes()).map_err(|_| Errno::INVAL)?;
            sys::create_directory(&dir, &name)?;
            dir = sys::open_directory(&dir, &name)?;
            way.insert(path.clone(), sys::pin(&dir, c".")?);
        }
        let stand_in = StandIn { place: place.to_owned(), way };
        Ok((Self { stand_in: Some(Arc::new(stand_in)), ..self.again()? }, dir))
    }

    /// The mount that something with these facts is on. The one that a folder that stands for `/` lies on is not the
    /// host's own, and does not count.
    #[must_use]
    pub fn mount(&self, facts: &Facts) -> Option<&Mount> {
        let (own, mounts) = self
            .mounts
            .get_or_init(|| (sys::look_at(&self.handle).map_or(0, |facts| facts.mount), Mounts::of_this_thread()));
        if *own == facts.mount && !self.itself { None } else { mounts.get(facts.mount) }
    }

    /// Where file systems of these kinds are mounted on this host; nothing of one that a folder stands for.
    pub(crate) fn mount_points(&self, kinds: &[&str]) -> Vec<PathBuf> {
        if self.itself { Mounts::of_this_thread().points(kinds) } else { Vec::new() }
    }

    /// What keeps everybody from changing something with these facts (`sb_permission` and `inode_permission` in the
    /// kernel's fs/namei.c).
    #[must_use]
    pub fn bar(&self, facts: &Facts) -> Option<Bar> {
        let on_disk = matches!(facts.kind, Kind::File | Kind::Directory | Kind::Symlink);
        if facts.immutable {
            Some(Bar::Immutable)
        } else if on_disk && self.mount(facts).is_some_and(|mount| mount.read_only) {
            Some(Bar::ReadOnly)
        } else {
            None
        }
    }

    /// The same host once more.
    pub(crate) fn again(&self) -> Result<Self, Errno> {
        let handle = sys::pin(&self.handle, c".")?;
        Ok(Self { stand_in: self.stand_in.clone(), ..Self::of(&self.root, handle, self.itself) })
    }

    /// The folder that stands for `/`.
    #[must_use]
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Whether it is the host that this runs on.
    #[must_use]
    pub const fn is_this(&self) -> bool {
        self.itself
    }

    /// The facts about `/`. A folder that stands for it is not judged itself: it is not what `/` will be there.
    fn root_facts(&self) -> Result<Facts, Errno> {
        let mut facts = sys::look_whole(&self.handle)?;
        if !self.itself {
            facts.rights = crate::entry::Rights {
                uid: Uid::ROOT,
                gid: Gid(0),
                mode: Mode::of_st_mode(0o755),
                acl: None,
                default_acl: None,
                capabilities: None,
                label: None,
            };
        }
        Ok(facts)
    }

    /// A handle on `/`, and its facts.
    pub(crate) fn pin_root(&self) -> Result<(OwnedFd, Facts), Errno> {
        Ok((sys::pin(&self.handle, c".")?, self.root_facts()?))
    }

    /// Follows an absolute path to its end, through links, looking at each directory passed.
    pub fn resolve(&self, path: &Path) -> Result<Resolved, WayError> {
        self.follow(path, true, None).map_err(|stopped| stopped.error)
    }

    /// As [`Self::resolve`], but only through links that none but root, the caller and `keeper` can have made: what is
    /// found is going to be changed.
    pub fn resolve_safely(&self, path: &Path, keeper: Uid) -> Result<Resolved, WayError> {
        let trusted = [Uid::ROOT, Uid(rustix::process::geteuid().as_raw()), keeper];
        self.follow(path, true, Some(&trusted)).map_err(|stopped| stopped.error)
    }

    /// As [`Self::resolve`], but a link at the very end is what is resolved.
    pub fn resolve_link(&self, path: &Path) -> Result<Resolved, WayError> {
        self.follow(path, false, None).map_err(|stopped| stopped.error)
    }

    /// The content of the regular file at `path`, links followed inside the host; a FIFO or device is not opened.
    ///
    /// Errors: besides those of [`Self::resolve`], `FBIG` where it is longer than `longest` bytes.
    pub fn read(&self, path: &Path, longest: usize) -> Result<Vec<u8>, WayError> {
        let resolved = self.resolve(path)?;
        Self::content(&resolved, longest).map_err(|errno| WayError::Failed(path.to_owned(), errno))
    }

    /// The content of a regular file that was found; `INVAL` where it is none, or is another one by now.
    pub(crate) fn content(found: &Resolved, longest: usize) -> Result<Vec<u8>, Errno> {
        sys::content(Self::open_found(found)?, longest)
    }

    /// Opens a regular file that was found for reading; `INVAL` where it is none, or is another one by now.
    pub(crate) fn open_found(found: &Resolved) -> Result<OwnedFd, Errno> {
        if found.facts.kind != Kind::File {
            return Err(Errno::INVAL);
        }
        let file = sys::open_file(&found.parent, &found.name)?;
        if sys::look_at(&file)?.id == found.facts.id { Ok(file) } else { Err(Errno::INVAL) }
    }

    /// As [`Self::read`], but of a longer file the first `length` bytes.
    pub fn beginning(&self, path: &Path, length: usize) -> Result<Vec<u8>, WayError> {
        let resolved = self.resolve(path)?;
        let failed = |errno| WayError::Failed(path.to_owned(), errno);
        let file = Self::open_found(&resolved).map_err(failed)?;
        let mut bytes = vec![0; length];
        let read = sys::read_some(&file, &mut bytes).map_err(failed)?;
        bytes.truncate(read);
        Ok(bytes)
    }

    /// The names in the directory at `path`.
    pub fn names_in(&self, path: &Path) -> Result<Vec<OsString>, WayError> {
        let resolved = self.resolve(path)?;
        let handle = sys::reopen_directory(&resolved.handle);
        let names = handle.and_then(sys::names).map_err(|errno| WayError::Failed(path.to_owned(), errno))?;
        Ok(names.into_iter().map(|name| OsString::from_vec(name.into_bytes())).collect())
    }

    fn follow(&self, path: &Path, last_link: bool, trusted: Option<&[Uid]>) -> Result<Resolved, WayStop> {
        let mut stack = vec![self.pin_root().map_err(|errno| WayStop::by(errno, Path::new("/"), &VecDeque::new()))?];
        let mut names: Vec<OsString> = Vec::new();
        let mut ahead: VecDeque<OsString> = components(path);
        let mut way = Vec::new();
        let mut links = Links::default();
        while let Some(name) = ahead.pop_front() {
            if name == ".." {
                if stack.len() > 1 {
                    stack.pop();
                    names.pop();
                }
                continue;
            }
            let here: PathBuf = Path::new("/").join(names.iter().collect::<PathBuf>());
            let entry_path = here.join(&name);
            let Some((dir, dir_facts)) = stack.last() else { break };
            if dir_facts.kind != Kind::Directory {
                ahead.push_front(name);
                return Err(WayStop::by(Errno::NOTDIR, &here, &ahead));
            }
            let failed = |errno| WayStop::by(errno, &entry_path, &ahead);
            let c_name = CString::new(name.as_bytes()).map_err(|_| failed(Errno::NOENT))?;
            let pinned = match &self.stand_in {
                Some(stand_in) => stand_in.pin(dir, &c_name, &entry_path),
                None => sys::pin(dir, &c_name),
            };
            let pinned = pinned.map_err(failed)?;
            let facts = sys::look_whole(&pinned).map_err(failed)?;
            way.push(Passed { path: here, facts: dir_facts.clone(), entry: facts.clone() });
            if facts.kind == Kind::Symlink && (last_link || !ahead.is_empty()) {
                if trusted.is_some_and(|trusted| !is_trusted(trusted, dir_facts, &facts)) {
                    let error = WayError::ForeignLink(entry_path);
                    return Err(WayStop { goal: path.to_owned(), error });
                }
                let too_many = |_| WayStop { goal: path.to_owned(), error: WayError::Loop(path.to_owned()) };
                links.follow().map_err(too_many)?;
                let mut target = LinkTarget::read(&pinned, c"").map_err(failed)?;
                if target.from_root {
                    stack.truncate(1);
                    names.clear();
                }
                target.names.append(&mut ahead);
                ahead = target.names;
                continue;
            }
            names.push(name);
            stack.push((pinned, facts));
        }
        let path = Path::new("/").join(names.iter().collect::<PathBuf>());
        let name = names.last().and_then(|name| CString::new(name.as_bytes()).ok()).unwrap_or_else(|| c".".into());
        let failed = |errno| WayStop::by(errno, &path, &VecDeque::new());
        let (handle, facts) = stack.pop().ok_or(Errno::NOENT).map_err(failed)?;
        let parent = match stack.pop() {
            Some((parent, _)) => parent,
            None => sys::pin(&handle, c".").map_err(failed)?,
        };
        Ok(Resolved { path, handle, parent, name, facts, way })
    }

    /// Whether neither the way to a folder nor anything in it is a symlink.
    #[must_use]
    pub(crate) fn holds_no_links(&self, folder: &Path) -> bool {
        let below = folder.strip_prefix("/").unwrap_or(folder);
        let Ok(top) = sys::open_directory_beneath(&self.handle, below) else { return false };
        let mut ahead = vec![top];
        while let Some(dir) = ahead.pop() {
            let Ok(names) = sys::reopen_directory(&dir).and_then(sys::names) else { return false };
            for name in names {
                match sys::look(&dir, &name).map(|facts| facts.kind) {
                    Ok(Kind::Directory) => match sys::pin_directory(&dir, &name) {
                        Ok(below) => ahead.push(below),
                        Err(_) => return false,
                    },
                    Ok(Kind::File) => {}
                    _ => return false,
                }
            }
        }
        true
    }

    /// Where a symlink in the directory `dir` with this target leads; what is not there is taken as it stands.
    #[must_use]
    pub fn destination(&self, dir: &Path, target: &Path) -> PathBuf {
        match self.follow(&dir.join(target), true, None) {
            Ok(resolved) => resolved.path,
            Err(stopped) => stopped.goal,
        }
    }
}

/// Whether a link, and the directory it is in, belong to those trusted, and nobody else can put another in its place.
fn is_trusted(trusted: &[Uid], dir: &Facts, link: &Facts) -> bool {
    let is_trusted = |uid: Uid| trusted.contains(&uid);
    is_trusted(link.rights.uid) && loose(is_trusted, &dir.rights, link.rights.uid).is_none()
}

/// Where a way ended early, and where it would have led.
struct WayStop {
    goal: PathBuf,
    error: WayError,
}

impl WayStop {
    /// Stopped at `path` with this error, these names still ahead.
    fn by(errno: Errno, path: &Path, ahead: &VecDeque<OsString>) -> Self {
        let mut goal = path.to_owned();
        for name in ahead {
            if name == ".." {
                goal.pop();
            } else {
                goal.push(name);
            }
        }
        let path = path.to_owned();
        let error = match errno {
            Errno::NOENT => WayError::Missing(path),
            Errno::NOTDIR => WayError::NoDirectory(path),
            errno => WayError::Failed(path, errno),
        };
        Self { goal, error }
    }
}

/// The names of a path that lead somewhere, `..` as it stands.
pub(crate) fn components(path: &Path) -> VecDeque<OsString> {
    use std::path::Component;
    path.components()
        .filter_map(|component| match component {
            Component::Normal(name) => Some(name.to_owned()),
            Component::ParentDir => Some(OsStr::new("..").to_owned()),
            Component::RootDir | Component::CurDir | Component::Prefix(_) => None,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

    fn host() -> (tempfile::TempDir, Host) {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(dir.path().join("srv/www/berths")).unwrap();
        std::fs::create_dir_all(dir.path().join("var")).unwrap();
        std::fs::write(dir.path().join("srv/file"), "x").unwrap();
        symlink("/srv/www", dir.path().join("var/www")).unwrap();
        symlink("loop", dir.path().join("loop")).unwrap();
        symlink("../../../../etc", dir.path().join("srv/up")).unwrap();
        let host = Host::at(dir.path()).unwrap();
        (dir, host)
    }

    #[test]
    fn links_are_followed_inside_the_host_and_every_directory_told() {
        let (_dir, host) = host();
        let resolved = host.resolve(Path::new("/var/www/berths")).unwrap();
        assert_eq!(resolved.path, Path::new("/srv/www/berths"));
        let passed: Vec<&str> = resolved.way.iter().map(|p| p.path.to_str().unwrap()).collect();
        assert_eq!(passed, ["/", "/var", "/", "/srv", "/srv/www"]);
    }

    #[test]
    fn what_is_wrong_is_told_with_its_path() {
        let (_dir, host) = host();
        let said = |path: &str| host.resolve(Path::new(path)).unwrap_err().to_string();
        assert_eq!(said("/srv/none/x"), "/srv/none does not exist");
        assert_eq!(said("/srv/file/x"), "/srv/file is no directory");
        assert_eq!(said("/loop"), "/loop: too many symlinks on the way");
    }

    #[test]
    fn a_destination_that_is_not_there_is_still_named() {
        let (_dir, host) = host();
        let to = |target: &str| host.destination(Path::new("/srv/www/berths"), Path::new(target));
        assert_eq!(to("a/b"), Path::new("/srv/www/berths/a/b"));
        assert_eq!(to("../../up/passwd"), Path::new("/etc/passwd"));
        assert_eq!(to("/var/www/x"), Path::new("/srv/www/x"));
    }
}
