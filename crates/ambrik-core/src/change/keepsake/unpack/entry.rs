//! One entry of a keepsake put back.

use std::ffi::{CStr, OsString};
use std::fs::File;
use std::io::{self, Read};
use std::os::fd::{BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStringExt as _;
use std::path::Path;

use rustix::io::Errno;
use tar::{EntryType, Header};

use super::super::holes;
use super::super::records::{ATTRIBUTE, IN, INODE, LINK, REAL_SIZE, SOCKET, read_time};
use super::{How, Made, UnpackedEntry, inode, looked, newly_made, not_made, pinned, same_content};
use crate::account::{Gid, Uid};
use crate::change::keepsake::NewFile;
use crate::entry::Kind;
use crate::mode::Mode;
use crate::site::absolute_components;
use crate::tree::sys::{self, Times};
use crate::tree::{Failure, Op};

impl UnpackedEntry {
    pub(super) fn of(header: &Header, records: &[(Vec<u8>, Vec<u8>)]) -> Option<Self> {
        let record = |key: &[u8]| records.iter().find(|(k, _)| k == key).map(|(_, value)| &value[..]);
        let text = |key: &[u8]| record(key).map(std::str::from_utf8);
        let number = |key: &[u8]| -> Option<Option<u64>> {
            text(key).map(|text| text.ok()?.parse().ok()).map_or(Some(None), |number: Option<u64>| number.map(Some))
        };
        let times = Times { accessed: read_time(record(b"atime")?)?, modified: read_time(record(b"mtime")?)? };
        let path = Path::new("/").join(OsString::from_vec(record(b"path")?.to_vec()));
        absolute_components(&path)?;
        let entry = |key: &[u8]| -> Option<Option<usize>> {
            Some(match number(key)? {
                Some(number) => Some(usize::try_from(number).ok()?),
                None => None,
            })
        };
        let inode = match text(INODE) {
            Some(text) => Some(inode(text.ok()?)?),
            None => None,
        };
        let (above, link_entry, real_size) = (entry(IN)?, entry(LINK)?, number(REAL_SIZE)?);
        let (link, socket) = (record(b"linkpath").map(<[u8]>::to_vec), record(SOCKET).is_some());
        let attributes =
            records.iter().filter_map(|(key, value)| Some((key.strip_prefix(ATTRIBUTE)?.to_vec(), value.clone())));
        let mut attributes: Vec<_> = attributes.collect();
        attributes.sort();
        Some(Self {
            path,
            above,
            kind: header.entry_type(),
            socket,
            uid: Uid(header.uid().ok()?.try_into().ok()?),
            gid: Gid(header.gid().ok()?.try_into().ok()?),
            mode: Mode::new(header.mode().ok()?.try_into().ok()?)?,
            times,
            link,
            link_entry,
            real_size,
            inode,
            attributes,
        })
    }

    /// What it was.
    pub(super) const fn was(&self) -> Kind {
        match self.kind {
            EntryType::Directory => Kind::Directory,
            EntryType::Symlink => Kind::Symlink,
            EntryType::Fifo if self.socket => Kind::Socket,
            EntryType::Fifo => Kind::Fifo,
            EntryType::Char => Kind::Device,
            _ => Kind::File,
        }
    }

    /// Makes it, and, apart from folders, gives it all that it had.
    pub(super) fn make(
        &self,
        dir: BorrowedFd<'_>,
        name: &CStr,
        content: &mut impl Read,
        how: How,
    ) -> Result<(OwnedFd, Made), Failure> {
        let kind = self.was();
        let made = match kind {
            Kind::Directory => sys::create_directory(dir, name),
            Kind::Symlink => sys::make_symlink(dir, name, self.link.as_deref().unwrap_or_default()),
            Kind::Fifo | Kind::Socket | Kind::Device => sys::make_special(dir, name, kind),
            Kind::File => return self.make_file(dir, name, content, how),
        };
        match made {
            Ok(()) => {
                // What is dressed is what was made: whoever may write to the directory can put something else there at once.
                let handle = newly_made(dir, name, kind)?;
                if kind != Kind::Directory {
                    self.dress(&handle)?;
                }
                Ok((handle, Made::New))
            }
            Err(Errno::EXIST) if kind == Kind::Directory => self.fill(dir, name, how),
            Err(Errno::EXIST) => self.is_there(dir, name, how),
            Err(errno) => Err(not_made(errno)),
        }
    }

    /// A folder that is there: it was never removed, or a stopped run left it, or made and did not dress it.
    pub(super) fn fill(&self, dir: BorrowedFd<'_>, name: &CStr, how: How) -> Result<(OwnedFd, Made), Failure> {
        let handle = pinned(dir, name)?;
        let facts = looked(&handle)?;
        let rights = &facts.rights;
        let own = how.resumed
            && [Uid(rustix::process::geteuid().as_raw()), self.uid].contains(&rights.uid)
            && rights.mode.bits() & 0o777 == 0o700;
        let as_kept = (rights.uid, rights.gid, rights.mode) == (self.uid, self.gid, self.mode);
        let ours = how.resumed || how.force || self.inode.is_some_and(|kept| facts.id.is_still(&kept));
        match facts.kind {
            Kind::Directory if ours && (own || as_kept) => Ok((handle, Made::New)),
            // Its rights were taken back further already, or are somebody's wish.
            Kind::Directory if ours => Ok((handle, Made::Filled)),
            _ => Err(not_made(Errno::EXIST)),
        }
    }

    /// Something else than a folder or a file that is there: just as it was kept, or what a stopped run made and did not
    /// dress, or not whole.
    pub(super) fn is_there(&self, dir: BorrowedFd<'_>, name: &CStr, how: How) -> Result<(OwnedFd, Made), Failure> {
        let handle = pinned(dir, name)?;
        if self.is_at(&handle, how.resumed)? {
            return Ok((handle, Made::Was));
        }
        let facts = looked(&handle)?;
        let own = [Uid(rustix::process::geteuid().as_raw()), self.uid].contains(&facts.rights.uid) && facts.links == 1;
        if how.resumed && own && facts.kind == self.was() && self.leads_as_kept(&handle) {
            self.dress(&handle)?;
            return Ok((handle, Made::New));
        }
        Err(not_made(Errno::EXIST))
    }

    /// Whether a symlink leads where it led; anything else does.
    pub(super) fn leads_as_kept(&self, handle: &OwnedFd) -> bool {
        self.kind != EntryType::Symlink || sys::read_link(handle, c"").ok() == self.link
    }

    /// Makes a file; it gets its name once it is whole.
    pub(super) fn make_file(
        &self,
        dir: BorrowedFd<'_>,
        name: &CStr,
        content: &mut impl Read,
        how: How,
    ) -> Result<(OwnedFd, Made), Failure> {
        let new = NewFile::begin(dir, name).map_err(not_made)?;
        let filled = self.fill_file(&new.handle, content).and_then(|()| self.dress(&new.handle));
        if let Err(failure) = filled {
            new.discard(dir);
            return Err(failure);
        }
        let handle = new.handle.try_clone().map_err(|_| Failure::Os(Op::Create, Errno::MFILE))?;
        match new.give_name(dir, name) {
            Ok(()) => Ok((handle, Made::New)),
            Err(Errno::EXIST) if same_content(&handle, dir, name) => {
                let there = pinned(dir, name)?;
                if self.is_at(&there, how.resumed)? { Ok((there, Made::Was)) } else { Err(not_made(Errno::EXIST)) }
            }
            Err(errno) => Err(not_made(errno)),
        }
    }

    pub(super) fn fill_file(&self, handle: &OwnedFd, content: &mut impl Read) -> Result<(), Failure> {
        let kept = |cause: io::Error| Failure::Os(Op::Keep, Errno::from_io_error(&cause).unwrap_or(Errno::IO));
        let mut file = File::from(handle.try_clone().map_err(kept)?);
        sys::before_change().map_err(|errno| Failure::Os(Op::Keep, errno))?;
        match self.real_size {
            Some(size) => {
                let runs = holes::read_map(content, size).map_err(kept)?;
                holes::write_runs(content, &runs, size, &mut file).map_err(kept)
            }
            None => io::copy(content, &mut file).map(|_| ()).map_err(kept),
        }
    }

    /// Whether what a handle holds is as it was kept; of a file, but for its content; with `resumed`, but for its rights,
    /// which a stopped run may have taken back further.
    pub(super) fn is_at(&self, handle: &OwnedFd, resumed: bool) -> Result<bool, Failure> {
        let facts = looked(handle)?;
        if self.was() == Kind::Symlink {
            return Ok(facts.kind == Kind::Symlink && facts.rights.uid == self.uid && self.leads_as_kept(handle));
        }
        let rights = &facts.rights;
        let same_rights = (rights.uid, rights.gid, rights.mode) == (self.uid, self.gid, self.mode)
            && sys::attributes(handle).is_ok_and(|now| now == self.attributes);
        let same_time = sys::times(handle).is_ok_and(|now| now.modified == self.times.modified);
        Ok(facts.kind == self.was() && (same_rights || resumed) && same_time)
    }

    /// Gives what was made its owner, attributes, mode and times, in the order in which they do not undo each other.
    pub(super) fn dress(&self, handle: &OwnedFd) -> Result<(), Failure> {
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
