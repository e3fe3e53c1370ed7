//! Takes things out of a keepsake again: nothing that is there is overwritten.

mod entry;

use std::collections::HashMap;
use std::ffi::{CStr, CString, OsString};
use std::fs::File;
use std::io::{self, Read, Seek as _};
use std::os::fd::{BorrowedFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};

use rustix::io::Errno;
use tar::EntryType;

use super::PathFailure;
use super::chain::{Chain, Placed, Position};
use super::records::Records;
use crate::account::{Gid, Uid};
use crate::change::folder::{as_os, c_name, split};
use crate::entry::{Facts, Identity, Kind};
use crate::mode::Mode;
use crate::tree::sys::{self, Times};
use crate::tree::{Failure, Op};

/// No extended header is longer, in bytes.
const LONGEST_RECORDS: u64 = 1 << 26;

/// How things are taken out.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct How {
    /// A run before was stopped: what it left half made is gone on with, folders that it left are filled.
    pub(crate) resumed: bool,
    /// Folders are filled though they are not those that were kept.
    pub(crate) force: bool,
}

/// Which inode stands for which since things came back out of keepsakes.
#[derive(Debug, Default)]
pub(crate) struct Successors {
    known: HashMap<(u64, i64), Identity>,
    /// Those that were found in this run.
    pub(crate) new: Vec<(Identity, Identity)>,
}

impl Successors {
    /// Notes that `new` came back for `old`.
    pub(crate) fn add(&mut self, old: Identity, new: Identity) {
        if !new.is_still(&old) {
            self.know(old, new);
            self.new.push((old, new));
        }
    }

    /// As [`Self::add`], of an earlier run.
    pub(crate) fn know(&mut self, old: Identity, new: Identity) {
        self.known.insert((old.ino, old.born), new);
    }

    /// Whether `now` is the inode `then`, or came back for it.
    pub(crate) fn is(&self, now: &Identity, then: &Identity) -> bool {
        let mut at = *then;
        // An inode comes back as another one each time: there is no circle, but in a ledger that was tampered with.
        for _ in 0..=self.known.len() {
            if now.is_still(&at) {
                return true;
            }
            match self.known.get(&(at.ino, at.born)) {
                Some(next) => at = *next,
                None => return false,
            }
        }
        false
    }
}

/// What came of taking things out.
#[derive(Debug, Default)]
pub(crate) struct Restored {
    /// How many paths came back.
    pub(crate) done: u64,
    /// Which did not.
    pub(crate) failures: Vec<PathFailure>,
    /// What was asked for, as it is now.
    pub(crate) top: Option<Identity>,
}

/// One entry of an archive.
struct UnpackedEntry {
    path: PathBuf,
    /// The entry that holds the directory that it is in.
    above: Option<usize>,
    kind: EntryType,
    socket: bool,
    uid: Uid,
    gid: Gid,
    mode: Mode,
    times: Times,
    link: Option<Vec<u8>>,
    /// The entry that it is another name of.
    link_entry: Option<usize>,
    /// The length, of a file with holes.
    real_size: Option<u64>,
    inode: Option<Identity>,
    attributes: Vec<(Vec<u8>, Vec<u8>)>,
}

/// What is known of an entry that was met.
struct Node {
    position: Position,
    state: UnpackState,
}

/// What became of an entry.
#[derive(Clone, Copy)]
enum UnpackState {
    /// It was not asked for.
    Outside,
    /// It is there.
    There(Identity),
    /// It could not be made: nothing is put into it.
    Missing,
}

impl Placed for Node {
    fn position(&self) -> &Position {
        &self.position
    }

    fn must_be(&self) -> Option<Identity> {
        match self.state {
            UnpackState::There(id) => Some(id),
            UnpackState::Outside | UnpackState::Missing => None,
        }
    }
}

/// Where what was packed begins in an archive, so that it is not read from its beginning for each.
#[derive(Debug)]
pub(crate) struct Contents {
    archive: File,
    /// By its path: the offset of its first header, and the number of its entry.
    tops: HashMap<PathBuf, (u64, usize)>,
}

impl Contents {
    /// Looks through an archive, as far as it can be read.
    pub(crate) fn of(archive: File) -> Self {
        let mut tops = HashMap::new();
        // What is not found is read for from the beginning, and the error is met again there.
        let _ = Self::find(&archive, &mut tops);
        Self { archive, tops }
    }

    fn find(archive: &File, tops: &mut HashMap<PathBuf, (u64, usize)>) -> io::Result<()> {
        let mut archive = tar::Archive::new(io::BufReader::new(archive));
        let (mut records, mut begins, mut number) = (Vec::new(), None, 0);
        for entry in archive.entries_with_seek()?.raw(true) {
            let mut entry = entry?;
            let at = *begins.get_or_insert(entry.raw_header_position());
            if entry.header().entry_type() == EntryType::XHeader {
                records = records_of(&mut entry)?;
                continue;
            }
            let kept = UnpackedEntry::of(entry.header(), &std::mem::take(&mut records)).ok_or_else(broken)?;
            if kept.above.is_none() {
                tops.entry(kept.path).or_insert((at, number));
            }
            (begins, number) = (None, number + 1);
        }
        Ok(())
    }

    /// As [`restore`].
    pub(crate) fn restore(
        &self,
        root: &Path,
        how: How,
        successors: &mut Successors,
        open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
    ) -> io::Result<Restored> {
        let (offset, first) = self.tops.get(root).copied().unwrap_or_default();
        let mut archive = io::BufReader::new(&self.archive);
        archive.seek(io::SeekFrom::Start(offset))?;
        restore_from(archive, first, root, how, successors, open)
    }
}

/// The records of an extended header.
fn records_of(entry: &mut tar::Entry<'_, impl Read>) -> io::Result<Vec<(Vec<u8>, Vec<u8>)>> {
    if entry.size() > LONGEST_RECORDS {
        return Err(broken());
    }
    let mut bytes = Vec::new();
    entry.read_to_end(&mut bytes)?;
    Ok(Records::read(&bytes))
}

/// Puts everything of an archive that is `root` or below it back where it was; nothing that is there is overwritten, and
/// what is there just as it was kept is as good as put back. That it is on the disk is the caller's to see to.
///
/// `open` gives a handle on a directory by its path; only that of `root`, and those of first names elsewhere, are asked for.
pub(crate) fn restore(
    archive: impl Read,
    root: &Path,
    how: How,
    successors: &mut Successors,
    open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
) -> io::Result<Restored> {
    restore_from(archive, 0, root, how, successors, open)
}

fn broken() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "the keepsake holds an entry that Ambrik does not write")
}

/// As [`restore`]; the archive is read from entry number `first` on, which is what `root` is or stands before it, and not beyond
/// what is in `root`.
fn restore_from(
    archive: impl Read,
    first: usize,
    root: &Path,
    how: How,
    successors: &mut Successors,
    open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
) -> io::Result<Restored> {
    let mut archive = tar::Archive::new(archive);
    let mut restoring = Restoring {
        root,
        first,
        met: false,
        how,
        successors,
        open,
        chain: None,
        nodes: Vec::new(),
        by_path: HashMap::new(),
        folders: Vec::new(),
        restored: Restored::default(),
    };
    let mut records = Vec::new();
    for entry in archive.entries()?.raw(true) {
        let mut entry = entry?;
        if entry.header().entry_type() == EntryType::XHeader {
            records = records_of(&mut entry)?;
            continue;
        }
        let kept = UnpackedEntry::of(entry.header(), &std::mem::take(&mut records)).ok_or_else(broken)?;
        let asked_for = restoring.entry(kept, &mut entry).ok_or_else(broken)?;
        // What was asked for when it was packed stands together: behind it is another's.
        if restoring.met && !asked_for {
            break;
        }
        restoring.met |= asked_for;
    }
    restoring.dress_folders();
    Ok(restoring.restored)
}

struct Restoring<'r> {
    root: &'r Path,
    /// The number of the first entry that is read; `nodes` begins with it.
    first: usize,
    /// Whether `root` was met.
    met: bool,
    how: How,
    successors: &'r mut Successors,
    open: &'r mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
    /// Begins at the directory that `root` is in.
    chain: Option<Chain>,
    nodes: Vec<Node>,
    /// Directories by their paths, of archives whose entries do not tell what they are in.
    by_path: HashMap<PathBuf, usize>,
    /// The directories to be dressed once everything is in them.
    folders: Vec<(usize, UnpackedEntry)>,
    restored: Restored,
}

impl Restoring<'_> {
    /// Puts one entry back, where it was asked for; nothing where no such entry can be. The answer is whether it was.
    fn entry(&mut self, kept: UnpackedEntry, content: &mut impl Read) -> Option<bool> {
        let number = self.nodes.len();
        let is_top = kept.above.is_none() && kept.path == self.root;
        let above = match kept.above.map(|above| above.checked_sub(self.first)) {
            _ if is_top => None,
            None => kept.path.parent().and_then(|above| self.by_path.get(above)).copied(),
            Some(Some(above)) if above < number => Some(above),
            Some(_) => return None,
        };
        let name = CString::new(kept.path.file_name()?.as_bytes()).ok()?;
        let (depth, asked_for) = match above.map(|above| &self.nodes[above]) {
            None => (0, is_top),
            Some(node) => (node.position.depth + 1, !matches!(node.state, UnpackState::Outside)),
        };
        let directory = kept.kind == EntryType::Directory;
        if directory && kept.inode.is_none() {
            self.by_path.insert(kept.path.clone(), number);
        }
        let state = if asked_for { UnpackState::Missing } else { UnpackState::Outside };
        self.nodes.push(Node { position: Position { above, depth, name }, state });
        // What it is in could not be made, and was named.
        let in_missing = above.is_some_and(|above| matches!(self.nodes[above].state, UnpackState::Missing));
        if !asked_for || in_missing {
            return Some(asked_for);
        }
        match self.put(number, above, &kept, content) {
            Ok((id, made)) => {
                self.nodes[number].state = UnpackState::There(id);
                self.restored.done += u64::from(made != Made::Was);
                if is_top {
                    self.restored.top = Some(id);
                }
                if let Some(old) = kept.inode {
                    self.successors.add(old, id);
                }
                if directory && made != Made::Filled {
                    self.folders.push((number, kept));
                }
            }
            Err(failure) => {
                let path = self.path(number);
                self.restored.failures.push((path, failure));
            }
        }
        Some(true)
    }

    fn path(&self, number: usize) -> PathBuf {
        let mut names = vec![as_os(&self.nodes[number].position.name)];
        let mut at = number;
        while let Some(above) = self.nodes[at].position.above {
            names.push(as_os(&self.nodes[above].position.name));
            at = above;
        }
        // The last one is the name of the root itself.
        names.pop();
        std::iter::once(self.root.as_os_str()).chain(names.into_iter().rev()).collect()
    }

    /// Goes to a directory below the one that the root is in.
    fn go_to(&mut self, goal: Option<usize>) -> Result<BorrowedFd<'_>, Failure> {
        let chain = match &mut self.chain {
            Some(chain) => chain,
            none => {
                let above = self.root.parent().ok_or(Failure::Os(Op::Create, Errno::INVAL))?;
                none.insert(Chain::at((self.open)(above)?))
            }
        };
        chain.go_to(&self.nodes, goal).map_err(|(_, failure)| failure)?;
        chain.dir()
    }

    /// Puts one entry into its directory. The answer is what is there then, and whether it was made.
    fn put(
        &mut self,
        number: usize,
        above: Option<usize>,
        kept: &UnpackedEntry,
        content: &mut impl Read,
    ) -> Result<(Identity, Made), Failure> {
        let name = self.nodes[number].position.name.clone();
        if kept.kind == EntryType::Link {
            let first = self.first_name(kept)?;
            let dir = self.go_to(above)?;
            return make_link(&first, dir, &name);
        }
        let how = self.how;
        let (handle, made) = kept.make(self.go_to(above)?, &name, content, how)?;
        Ok((looked(&handle)?.id, made))
    }

    /// A handle on the file that an entry is another name of.
    fn first_name(&mut self, kept: &UnpackedEntry) -> Result<OwnedFd, Failure> {
        let gone = || Failure::NotOurs("the file that it was another name of is not there".into());
        let there = kept
            .link_entry
            .and_then(|first| first.checked_sub(self.first))
            .filter(|&first| first < self.nodes.len())
            .filter(|&first| self.nodes[first].must_be().is_some());
        let handle = if let Some(first) = there {
            let (above, name) = (self.nodes[first].position.above, self.nodes[first].position.name.clone());
            let dir = self.go_to(above)?;
            pinned(dir, &name)?
        } else {
            let first = Path::new("/").join(OsString::from_vec(kept.link.clone().unwrap_or_default()));
            let (above, name) = split(&first).ok_or(Failure::Os(Op::Create, Errno::INVAL))?;
            let dir = (self.open)(above)?;
            pinned(std::os::fd::AsFd::as_fd(&dir), &c_name(name)?)?
        };
        let facts = looked(&handle)?;
        let is_it = kept.inode.is_none_or(|old| self.successors.is(&facts.id, &old));
        if facts.kind == Kind::Directory || !is_it { Err(gone()) } else { Ok(handle) }
    }

    /// A folder's own mode and times come last: making its content would change or need them.
    fn dress_folders(&mut self) {
        for (number, folder) in std::mem::take(&mut self.folders).into_iter().rev() {
            let UnpackState::There(id) = self.nodes[number].state else { continue };
            let (above, name) = (self.nodes[number].position.above, self.nodes[number].position.name.clone());
            let dressed = self.go_to(above).and_then(|dir| {
                let handle = pinned(dir, &name)?;
                if looked(&handle)?.id != id {
                    return Err(Failure::Replaced);
                }
                folder.dress(&handle)
            });
            if let Err(failure) = dressed {
                let path = self.path(number);
                self.restored.failures.push((path, failure));
            }
        }
    }
}

fn pinned(dir: BorrowedFd<'_>, name: &CStr) -> Result<OwnedFd, Failure> {
    sys::pin(dir, name).map_err(|errno| Failure::Os(Op::Open, errno))
}

fn looked(handle: &OwnedFd) -> Result<Facts, Failure> {
    sys::look_at(handle).map_err(|errno| Failure::Os(Op::Look, errno))
}

/// Whether something was made.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Made {
    /// It was made; a folder is to be dressed in the end.
    New,
    /// It is a folder that is there, and is filled.
    Filled,
    /// It was there just as it was kept.
    Was,
}

/// Gives a file a further name; as good as done where it has that name.
fn make_link(first: &OwnedFd, dir: BorrowedFd<'_>, name: &CStr) -> Result<(Identity, Made), Failure> {
    let id = looked(first)?.id;
    match sys::give_name(first, dir, name) {
        Ok(()) => Ok((id, Made::New)),
        Err(Errno::EXIST) if sys::look(dir, name).is_ok_and(|here| here.id == id) => Ok((id, Made::New)),
        Err(errno) => Err(not_made(errno)),
    }
}

/// `DEVICE NUMBER BIRTH`.
fn inode(text: &str) -> Option<Identity> {
    let mut words = text.split(' ');
    let id = Identity {
        dev: words.next()?.parse().ok()?,
        ino: words.next()?.parse().ok()?,
        born: words.next()?.parse().ok()?,
    };
    words.next().is_none().then_some(id)
}

fn not_made(errno: Errno) -> Failure {
    match errno {
        Errno::EXIST => Failure::NotOurs("something else is there now".into()),
        errno => Failure::Os(Op::Create, errno),
    }
}

/// Whether the regular file `name` in `dir` holds what the file at hand holds.
fn same_content(handle: &OwnedFd, dir: BorrowedFd<'_>, name: &CStr) -> bool {
    let (Ok(mut here), Ok(there)) = (handle.try_clone().map(File::from), sys::open_file(dir, name)) else {
        return false;
    };
    let regular = sys::look_at(&there).is_ok_and(|facts| facts.kind == Kind::File);
    regular && here.rewind().is_ok() && super::same_content(here, File::from(there)).unwrap_or(false)
}

/// A handle on what was just made by its name, and is still that: of this kind, the caller's own, with no second name.
pub(crate) fn newly_made(dir: BorrowedFd<'_>, name: &CStr, kind: Kind) -> Result<OwnedFd, Failure> {
    let handle = pinned(dir, name)?;
    let facts = looked(&handle)?;
    let own = facts.rights.uid.0 == rustix::process::geteuid().as_raw();
    let single = facts.kind == Kind::Directory || facts.links == 1;
    if facts.kind == kind && own && single { Ok(handle) } else { Err(Failure::Replaced) }
}
