//! Takes things out of a keepsake again: nothing that is there is overwritten.

use std::ffi::{CStr, CString, OsString};
use std::fs::File;
use std::io::{self, Read};
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

/// Puts everything of an archive that is `root` or below it back where it was; nothing that is there is overwritten.
/// That it is on the disk is the caller's to see to.
///
/// `open` gives a handle on a directory by its path. The answer is how many paths came back, and which did not.
pub(crate) fn restore(
    archive: impl Read,
    root: &Path,
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
        match kept.make(&mut entry, open) {
            Ok(folder) => {
                done += 1;
                folders.extend(folder.map(|id| (id, kept)));
            }
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

    /// Makes it, and, apart from folders, gives it all that it had. The answer is which folder it is, if it is one.
    fn make(
        &self,
        content: &mut impl Read,
        open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
    ) -> Result<Option<Identity>, Failure> {
        let (dir, name) = self.place(open)?;
        let made = |errno| match errno {
            Errno::EXIST => Failure::NotOurs("something else is there now".into()),
            errno => Failure::Os(Op::Create, errno),
        };
        // What is dressed is what was made: whoever may write to the directory can put something else there at once.
        let handle = match self.kind {
            EntryType::Directory => {
                sys::create_directory(&dir, &name).map_err(made)?;
                let handle = newly_made(&dir, &name, Kind::Directory)?;
                return sys::look_at(&handle).map(|facts| Some(facts.id)).map_err(|errno| Failure::Os(Op::Look, errno));
            }
            EntryType::Symlink => {
                sys::make_symlink(&dir, &name, self.link.as_deref().unwrap_or_default()).map_err(made)?;
                newly_made(&dir, &name, Kind::Symlink)?
            }
            EntryType::Link => {
                return self.make_link(&dir, &name, open).map(|()| None).map_err(|failure| match failure {
                    Failure::Os(_, errno) => made(errno),
                    other => other,
                });
            }
            EntryType::Fifo => {
                sys::make_special(&dir, &name, self.socket).map_err(made)?;
                newly_made(&dir, &name, if self.socket { Kind::Socket } else { Kind::Fifo })?
            }
            _ => {
                let mut file = File::from(sys::create_file(&dir, &name).map_err(made)?);
                let copied = io::copy(content, &mut file);
                copied.map_err(|cause| Failure::Os(Op::Keep, Errno::from_io_error(&cause).unwrap_or(Errno::IO)))?;
                file.into()
            }
        };
        self.dress(&handle).map(|()| None)
    }

    fn make_link(
        &self,
        dir: &OwnedFd,
        name: &CStr,
        open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
    ) -> Result<(), Failure> {
        let first = Path::new("/").join(OsString::from_vec(self.link.clone().unwrap_or_default()));
        let (above, first_name) = split(&first).ok_or(Failure::Os(Op::Create, Errno::INVAL))?;
        let first_dir = open(above)?;
        sys::make_link(&first_dir, &c_name(first_name)?, dir, name).map_err(|errno| Failure::Os(Op::Create, errno))
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

/// A handle on what was just made by its name, and is still that: of this kind, the caller's own, with no second name.
pub(crate) fn newly_made(dir: &OwnedFd, name: &CStr, kind: Kind) -> Result<OwnedFd, Failure> {
    let handle = sys::pin(dir, name).map_err(|errno| Failure::Os(Op::Open, errno))?;
    let facts = sys::look_at(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
    let own = facts.rights.uid.0 == rustix::process::geteuid().as_raw();
    let single = facts.kind == Kind::Directory || facts.links == 1;
    if facts.kind == kind && own && single { Ok(handle) } else { Err(Failure::Replaced) }
}
