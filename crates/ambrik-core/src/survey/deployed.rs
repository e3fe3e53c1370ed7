//! A deployed tree as it lies on disk: an index of its paths, and their contents on demand.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::ffi::{CStr, CString, OsStr, OsString};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::names::{self, Aside};
use crate::account::Uid;
use crate::entry::{Facts, Kind};
use crate::mode::Mode;
use crate::tree::{Dir, Host, Look, Progress, Trouble, Visitor, WayError, sys, walk};

/// One path of the tree.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct TreeEntry {
    pub(crate) kind: Kind,
    pub(crate) uid: Uid,
    pub(crate) mode: Mode,
    pub(crate) size: u64,
    /// When its content was changed last, in seconds since 1970.
    pub(crate) modified: i64,
}

/// The tree: every path below the root, relative to it, in order.
pub(crate) struct Deployed {
    /// The root, without links on the way.
    pub(crate) root: PathBuf,
    /// The owner of the root itself.
    pub(crate) owner: Uid,
    handle: OwnedFd,
    pub(crate) entries: BTreeMap<PathBuf, TreeEntry>,
    /// Its symlinks, and where on the host each leads.
    pub(crate) links: BTreeMap<PathBuf, PathBuf>,
    /// What could not be looked at.
    pub(crate) unseen: Vec<PathBuf>,
    /// Folders that are somebody else's library.
    libraries: BTreeSet<PathBuf>,
}

impl Deployed {
    /// Walks the tree at `root` on `host`; the folders `left_out`, relative to it, are not looked at.
    pub(crate) fn read(
        host: &Host,
        root: &Path,
        left_out: BTreeSet<PathBuf>,
        progress: &Progress,
    ) -> Result<Self, WayError> {
        let resolved = host.resolve(root)?;
        if resolved.facts.kind != Kind::Directory {
            return Err(WayError::NoDirectory(root.to_owned()));
        }
        let failed = |errno| WayError::Failed(root.to_owned(), errno);
        let start = sys::reopen_directory(&resolved.handle).map_err(failed)?;
        let top = Dir::top(Path::new(OsStr::from_bytes(resolved.name.to_bytes())), resolved.facts.id, PathBuf::new());
        let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
        let left_out = Arc::new(left_out);
        let index = || Index { left_out: Arc::clone(&left_out), entries: Vec::new(), unseen: Vec::new() };
        let visitors = (0..threads).map(|_| index()).collect();
        let walked = walk(vec![(start, Arc::new(top))], visitors, progress);
        let mut deployed = Self {
            root: resolved.path,
            owner: resolved.facts.rights.uid,
            handle: resolved.handle,
            entries: BTreeMap::new(),
            links: BTreeMap::new(),
            unseen: Vec::new(),
            libraries: BTreeSet::new(),
        };
        for visitor in walked.visitors {
            deployed.entries.extend(visitor.entries);
            deployed.unseen.extend(visitor.unseen);
        }
        deployed.unseen.sort();
        deployed.links = deployed.find_links(host);
        deployed.libraries = names::libraries(deployed.files().map(|(path, _)| path));
        Ok(deployed)
    }

    /// A regular file's content, where it is at most `longest` bytes; no link on the way is followed.
    pub(crate) fn content(&self, path: &Path, longest: usize) -> Option<Vec<u8>> {
        let entry = self.entries.get(path)?;
        if entry.kind != Kind::File || entry.size > u64::try_from(longest).ok()? {
            return None;
        }
        let file = sys::open_beneath(&self.handle, path).ok()?;
        sys::content(&file, longest).ok()
    }

    /// As [`Self::content`], as text; what is not UTF-8 is replaced.
    pub(crate) fn text(&self, path: &Path, longest: usize) -> Option<String> {
        self.content(path, longest).map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
    }

    fn find_links(&self, host: &Host) -> BTreeMap<PathBuf, PathBuf> {
        let links = self.entries.iter().filter(|(_, entry)| entry.kind == Kind::Symlink);
        let found = links.filter_map(|(path, _)| {
            let dir = self.root.join(path.parent()?);
            Some((path.clone(), host.destination(&dir, &self.target(path)?)))
        });
        found.collect()
    }

    /// Where on the host a path of the tree really is, where a link is on the way to it, or it is one.
    pub(crate) fn destination(&self, path: &Path) -> Option<PathBuf> {
        let link = path.ancestors().find_map(|above| Some((above, self.links.get(above)?)));
        let (link, goal) = link?;
        let below = path.strip_prefix(link).ok()?;
        Some(if below.as_os_str().is_empty() { goal.clone() } else { goal.join(below) })
    }

    /// Where a symlink of the tree leads.
    fn target(&self, path: &Path) -> Option<PathBuf> {
        let parent = sys::open_directory_beneath(&self.handle, path.parent()?).ok()?;
        let name = CString::new(path.file_name()?.as_bytes()).ok()?;
        let target = sys::read_link(&parent, &name).ok()?;
        Some(PathBuf::from(OsString::from_vec(target)))
    }

    /// The names of the folders in the root.
    pub(crate) fn top_folders(&self) -> HashSet<String> {
        let tops = self.entries.iter().filter(|(path, entry)| {
            entry.kind == Kind::Directory && path.parent().is_some_and(|above| above.as_os_str().is_empty())
        });
        tops.filter_map(|(path, _)| path.to_str().map(str::to_owned)).collect()
    }

    /// Where a path stands beside the application itself.
    pub(crate) fn aside(&self, path: &Path) -> Option<Aside> {
        let in_library = || path.ancestors().skip(1).any(|dir| self.libraries.contains(dir));
        names::aside(path).or_else(|| in_library().then_some(Aside::Library))
    }

    /// Whether the file system holds access lists.
    pub(crate) fn holds_acls(&self) -> bool {
        sys::holds_acls(&self.handle)
    }

    pub(crate) fn is_directory(&self, path: &Path) -> bool {
        path.as_os_str().is_empty() || self.entries.get(path).is_some_and(|entry| entry.kind == Kind::Directory)
    }

    pub(crate) fn is_file(&self, path: &Path) -> bool {
        self.entries.get(path).is_some_and(|entry| entry.kind == Kind::File)
    }

    pub(crate) fn has(&self, path: &Path) -> bool {
        path.as_os_str().is_empty() || self.entries.contains_key(path)
    }

    /// Everything below a directory.
    pub(crate) fn below<'d>(&'d self, dir: &'d Path) -> impl Iterator<Item = (&'d PathBuf, &'d TreeEntry)> {
        let from = (std::ops::Bound::Excluded(dir.to_owned()), std::ops::Bound::Unbounded);
        self.entries.range(from).take_while(move |(path, _)| path.starts_with(dir))
    }

    /// What is directly in a directory.
    pub(crate) fn inside<'d>(&'d self, dir: &'d Path) -> impl Iterator<Item = (&'d PathBuf, &'d TreeEntry)> {
        self.below(dir).filter(move |(path, _)| path.parent() == Some(dir))
    }

    /// The regular files.
    pub(crate) fn files(&self) -> impl Iterator<Item = (&PathBuf, &TreeEntry)> {
        self.entries.iter().filter(|(_, entry)| entry.kind == Kind::File)
    }

    /// The directories, without the root.
    pub(crate) fn directories(&self) -> impl Iterator<Item = &PathBuf> {
        self.entries.iter().filter(|(_, entry)| entry.kind == Kind::Directory).map(|(path, _)| path)
    }
}

/// Notes every path.
struct Index {
    left_out: Arc<BTreeSet<PathBuf>>,
    entries: Vec<(PathBuf, TreeEntry)>,
    unseen: Vec<PathBuf>,
}

impl Visitor for Index {
    type Data = PathBuf;

    fn entry(&mut self, dir: &Arc<Dir<PathBuf>>, look: &Look<'_>, facts: &Facts) -> Option<PathBuf> {
        let path = dir.data.join(look.os_name());
        if self.left_out.contains(&path) {
            return None;
        }
        let rights = &facts.rights;
        let modified = look.modified().unwrap_or_default() / 1_000_000_000;
        let entry = TreeEntry { kind: facts.kind, uid: rights.uid, mode: rights.mode, size: facts.size, modified };
        self.entries.push((path.clone(), entry));
        // What another file system holds is looked at too: a mounted upload folder is part of the application.
        (facts.kind == Kind::Directory).then_some(path)
    }

    fn trouble(&mut self, dir: &Arc<Dir<PathBuf>>, name: Option<&CStr>, trouble: Trouble) {
        if !matches!(trouble, Trouble::Vanished) {
            let name = name.map(|name| Path::new(OsStr::from_bytes(name.to_bytes())));
            self.unseen.push(name.map_or_else(|| dir.data.clone(), |name| dir.data.join(name)));
        }
    }
}
