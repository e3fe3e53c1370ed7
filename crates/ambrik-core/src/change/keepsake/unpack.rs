//! Takes things out of a keepsake again: nothing that is there is overwritten.

use std::ffi::{CStr, CString, OsString};
use std::fs::File;
use std::io::{self, Read, Seek as _};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStringExt;
use std::path::{Path, PathBuf};

use rustix::io::Errno;
use tar::{EntryType, Header};

use super::PathFailure;
use super::records::{ATTRIBUTE, Records, SOCKET, read_time};
use crate::account::{Gid, Uid};
use crate::change::folder::{c_name, split};
use crate::entry::{Identity, Kind};
use crate::mode::Mode;
use crate::site::absolute_components;
use crate::tree::sys::{self, Times};
use crate::tree::{Failure, Op};

/// One entry of an archive.
struct Kept {
    path: PathBuf,
    kind: EntryType,
    socket: bool,
    uid: Uid,
    gid: Gid,
    mode: Mode,
    times: Times,
    link: Option<Vec<u8>>,
    attributes: Vec<(Vec<u8>, Vec<u8>)>,
}

/// Puts everything of an archive that is `root` or below it back where it was; nothing that is there is overwritten, and
/// what is there just as it was kept is as good as put back. With `resumed`, folders that a stopped run left or made are
/// filled. That it is on the disk is the caller's to see to.
///
/// `open` gives a handle on a directory by its path. The answer is how many paths came back, and which did not.
pub(crate) fn restore(
    archive: impl Read,
    root: &Path,
    resumed: bool,
    open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
) -> io::Result<(u64, Vec<PathFailure>)> {
    let mut archive = tar::Archive::new(archive);
    let mut records = Vec::new();
    let mut folders: Vec<(Identity, Kept)> = Vec::new();
    let (mut done, mut failures) = (0, Vec::new());
    for entry in archive.entries()?.raw(true) {
        let mut entry = entry?;
        if entry.header().entry_type() == EntryType::XHeader {
            let mut bytes = Vec::new();
            entry.read_to_end(&mut bytes)?;
            records = Records::read(&bytes);
            continue;
        }
        let Some(kept) = Kept::of(entry.header(), std::mem::take(&mut records)) else {
            return Err(io::Error::new(
                io::ErrorKind::InvalidData,
                "the keepsake holds an entry that Ambrik does not write",
            ));
        };
        if !kept.path.starts_with(root) {
            continue;
        }
        match kept.make(&mut entry, resumed, open) {
            Ok(Made::Is(handle)) if kept.is_at(&handle, resumed) => {}
            Ok(Made::Is(_)) => failures.push((kept.path, Failure::NotOurs("something else is there now".into()))),
            Ok(Made::Folder(id)) => {
                done += 1;
                folders.push((id, kept));
            }
            Ok(Made::New) => done += 1,
            Ok(Made::Filled) => {}
            Err(failure) => failures.push((kept.path, failure)),
        }
    }
    // A folder's own mode and times come last: making its content would change or need them.
    for (id, folder) in folders.into_iter().rev() {
        if let Err(failure) = folder.dress_folder(id, open) {
            failures.push((folder.path, failure));
        }
    }
    Ok((done, failures))
}

impl Kept {
    fn of(header: &Header, records: Vec<(Vec<u8>, Vec<u8>)>) -> Option<Self> {
        let record = |key: &[u8]| records.iter().find(|(k, _)| k == key).map(|(_, value)| value.clone());
        let times = Times { accessed: read_time(&record(b"atime")?)?, modified: read_time(&record(b"mtime")?)? };
        let path = Path::new("/").join(OsString::from_vec(record(b"path")?));
        absolute_components(&path)?;
        let (link, socket) = (record(b"linkpath"), record(SOCKET).is_some());
        let attributes =
            records.into_iter().filter_map(|(key, value)| Some((key.strip_prefix(ATTRIBUTE)?.to_vec(), value)));
        Some(Self {
            path,
            kind: header.entry_type(),
            socket,
            uid: Uid(header.uid().ok()?.try_into().ok()?),
            gid: Gid(header.gid().ok()?.try_into().ok()?),
            mode: Mode::new(header.mode().ok()?.try_into().ok()?)?,
            times,
            link,
            attributes: attributes.collect(),
        })
    }

    fn place(&self, open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>) -> Result<(OwnedFd, CString), Failure> {
        let (above, name) = split(&self.path).ok_or(Failure::Os(Op::Create, Errno::INVAL))?;
        Ok((open(above)?, c_name(name)?))
    }

    /// Makes it, and, apart from folders, gives it all that it had.
    fn make(
        &self,
        content: &mut impl Read,
        resumed: bool,
        open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
    ) -> Result<Made, Failure> {
        let (dir, name) = self.place(open)?;
        let there = || sys::pin(&dir, &name).map(Made::Is).map_err(|errno| Failure::Os(Op::Open, errno));
        // What is dressed is what was made: whoever may write to the directory can put something else there at once.
        let made = match self.kind {
            EntryType::Directory => match sys::create_directory(&dir, &name) {
                Err(Errno::EXIST) if resumed => return self.go_on_with(&dir, &name),
                made => made.map(|()| Kind::Directory),
            },
            EntryType::Symlink => {
                sys::make_symlink(&dir, &name, self.link.as_deref().unwrap_or_default()).map(|()| Kind::Symlink)
            }
            EntryType::Link => return self.make_link(&dir, &name, open),
            EntryType::Fifo => {
                let kind = if self.socket { Kind::Socket } else { Kind::Fifo };
                sys::make_special(&dir, &name, self.socket).map(|()| kind)
            }
            _ => return self.make_file(&dir, &name, content),
        };
        match made {
            Ok(kind) => {
                let handle = newly_made(&dir, &name, kind)?;
                if kind == Kind::Directory {
                    let facts = sys::look_at(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
                    return Ok(Made::Folder(facts.id));
                }
                self.dress(&handle).map(|()| Made::New)
            }
            Err(Errno::EXIST) if self.kind != EntryType::Directory => there(),
            Err(errno) => Err(not_made(errno)),
        }
    }

    /// A folder that a stopped run left, or made and did not dress.
    fn go_on_with(&self, dir: &OwnedFd, name: &CStr) -> Result<Made, Failure> {
        let handle = sys::pin(dir, name).map_err(|errno| Failure::Os(Op::Open, errno))?;
        let facts = sys::look_whole(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
        let rights = &facts.rights;
        let me = Uid(rustix::process::geteuid().as_raw());
        let own = [me, self.uid].contains(&rights.uid) && rights.mode.bits() & 0o777 == 0o700;
        let as_kept = (rights.uid, rights.gid, rights.mode) == (self.uid, self.gid, self.mode);
        match facts.kind {
            Kind::Directory if own || as_kept => Ok(Made::Folder(facts.id)),
            // Its rights were taken back further already.
            Kind::Directory => Ok(Made::Filled),
            _ => Err(not_made(Errno::EXIST)),
        }
    }

    /// Makes a file; it gets its name once it is whole, where the file system knows files without one.
    fn make_file(&self, dir: &OwnedFd, name: &CStr, content: &mut impl Read) -> Result<Made, Failure> {
        let (handle, named) = new_file(dir, name).map_err(not_made)?;
        let mut file = File::from(handle);
        sys::before_change().map_err(|errno| Failure::Os(Op::Keep, errno))?;
        let copied = io::copy(content, &mut file);
        copied.map_err(|cause| Failure::Os(Op::Keep, Errno::from_io_error(&cause).unwrap_or(Errno::IO)))?;
        let handle = OwnedFd::from(file);
        self.dress(&handle)?;
        if named {
            return Ok(Made::New);
        }
        match sys::give_name(&handle, dir, name) {
            Ok(()) => Ok(Made::New),
            Err(Errno::EXIST) if same_content(&handle, dir, name) => {
                sys::pin(dir, name).map(Made::Is).map_err(|errno| Failure::Os(Op::Open, errno))
            }
            Err(errno) => Err(not_made(errno)),
        }
    }

    /// Whether what a handle holds is as it was kept; of a file, but for its content; with `resumed`, but for its rights,
    /// which a stopped run may have taken back further.
    fn is_at(&self, handle: &OwnedFd, resumed: bool) -> bool {
        let Ok(facts) = sys::look_at(handle) else { return false };
        let kind = match self.kind {
            EntryType::Symlink => Kind::Symlink,
            EntryType::Fifo if self.socket => Kind::Socket,
            EntryType::Fifo => Kind::Fifo,
            _ => Kind::File,
        };
        if kind == Kind::Symlink {
            let target = sys::read_link(handle, c"").ok();
            return facts.kind == kind && facts.rights.uid == self.uid && target == self.link;
        }
        let mut attributes = self.attributes.clone();
        attributes.sort();
        let rights = &facts.rights;
        let same_rights = (rights.uid, rights.gid, rights.mode) == (self.uid, self.gid, self.mode)
            && sys::attributes(handle).is_ok_and(|now| now == attributes);
        facts.kind == kind
            && (same_rights || resumed)
            && sys::times(handle).is_ok_and(|now| now.modified == self.times.modified)
    }

    fn make_link(
        &self,
        dir: &OwnedFd,
        name: &CStr,
        open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
    ) -> Result<Made, Failure> {
        let first = Path::new("/").join(OsString::from_vec(self.link.clone().unwrap_or_default()));
        let (above, first_name) = split(&first).ok_or(Failure::Os(Op::Create, Errno::INVAL))?;
        let (first_dir, first_name) = (open(above)?, c_name(first_name)?);
        match sys::make_link(&first_dir, &first_name, dir, name) {
            Ok(()) => Ok(Made::New),
            Err(Errno::EXIST) => {
                let id = |dir, name: &CStr| sys::look(dir, name).map(|facts| facts.id).ok();
                let same = id(dir, name).is_some_and(|here| id(&first_dir, &first_name) == Some(here));
                if same { Ok(Made::New) } else { Err(not_made(Errno::EXIST)) }
            }
            Err(errno) => Err(not_made(errno)),
        }
    }

    /// Dresses a folder once everything is in it, if it is still the one that was made.
    fn dress_folder(
        &self,
        id: Identity,
        open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
    ) -> Result<(), Failure> {
        let (dir, name) = self.place(open)?;
        let handle = sys::pin(&dir, &name).map_err(|errno| Failure::Os(Op::Open, errno))?;
        if sys::look_at(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?.id != id {
            return Err(Failure::Replaced);
        }
        self.dress(&handle)
    }

    /// Gives what was made its owner, attributes, mode and times, in the order in which they do not undo each other.
    fn dress(&self, handle: &OwnedFd) -> Result<(), Failure> {
        sys::set_owner(handle, self.uid, self.gid).map_err(|errno| Failure::Os(Op::SetOwner, errno))?;
        for (attribute, value) in &self.attributes {
            let attribute = String::from_utf8_lossy(attribute);
            sys::set_attribute(handle, &attribute, Some(value)).map_err(|errno| Failure::Os(Op::SetAcl, errno))?;
        }
        if self.kind != EntryType::Symlink {
            sys::set_mode(handle, self.mode).map_err(|errno| Failure::Os(Op::SetMode, errno))?;
        }
        sys::set_times(handle, self.times).map_err(|errno| Failure::Os(Op::Keep, errno))
    }
}

/// What came of making something.
enum Made {
    /// It was made.
    New,
    /// It is a folder, to be dressed in the end.
    Folder(Identity),
    /// It is a folder that is as it is to be, and is filled.
    Filled,
    /// Something is there, perhaps just what was kept.
    Is(OwnedFd),
}

fn not_made(errno: Errno) -> Failure {
    match errno {
        Errno::EXIST => Failure::NotOurs("something else is there now".into()),
        errno => Failure::Os(Op::Create, errno),
    }
}

/// A new file for nobody but the caller, and whether it has the name `name` in `dir` already: on file systems that know
/// no files without one.
pub(crate) fn new_file(dir: &OwnedFd, name: &CStr) -> Result<(OwnedFd, bool), Errno> {
    match sys::create_unnamed(dir) {
        Ok(handle) => Ok((handle, false)),
        Err(Errno::OPNOTSUPP | Errno::ISDIR | Errno::NOENT | Errno::INVAL) => {
            sys::create_file(dir, name).map(|handle| (handle, true))
        }
        Err(errno) => Err(errno),
    }
}

/// Whether the regular file `name` in `dir` holds what the file at hand holds.
fn same_content(handle: &OwnedFd, dir: &OwnedFd, name: &CStr) -> bool {
    let (Ok(mut here), Ok(there)) = (handle.try_clone().map(File::from), sys::open_file(dir, name)) else {
        return false;
    };
    let regular = sys::look_at(&there).is_ok_and(|facts| facts.kind == Kind::File);
    regular && here.rewind().is_ok() && super::same_content(here, File::from(there)).unwrap_or(false)
}

/// A handle on what was just made by its name, and is still that: of this kind, the caller's own, with no second name.
pub(crate) fn newly_made(dir: &OwnedFd, name: &CStr, kind: Kind) -> Result<OwnedFd, Failure> {
    let handle = sys::pin(dir, name).map_err(|errno| Failure::Os(Op::Open, errno))?;
    let facts = sys::look_at(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
    let own = facts.rights.uid.0 == rustix::process::geteuid().as_raw();
    let single = facts.kind == Kind::Directory || facts.links == 1;
    if facts.kind == kind && own && single { Ok(handle) } else { Err(Failure::Replaced) }
}
