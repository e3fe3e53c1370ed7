//! The keepsake: a tar archive (POSIX.1 pax format) in the state directory that holds what was removed, with
//! owners, modes, times, access lists, extended attributes and links.

mod records;
mod remove;
mod unpack;

use std::collections::HashMap;
use std::ffi::CStr;
use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::io::Errno;
use tar::{EntryType, Header};

use super::folder::as_os;
use crate::entry::{Facts, Identity, Kind};
use crate::tree::sys::{self, Times};
use crate::tree::{Failure, Op};

use records::{ATTRIBUTE, Records, SOCKET, inside, shown_time};

pub(crate) use remove::remove;
pub(crate) use unpack::{new_file, newly_made, restore};

/// A path that was put into a keepsake: what may be removed, if it is still that.
#[derive(Clone, Debug)]
pub(crate) struct Packed {
    /// The path without links, from the host's `/` on.
    pub(crate) path: PathBuf,
    pub(crate) id: Identity,
    pub(crate) kind: Kind,
    /// How many names it has anywhere.
    pub(crate) links: u32,
    pub(crate) size: u64,
    pub(crate) modified: (i64, u32),
}

/// A path, and why nothing could be done with it.
pub(crate) type PathFailure = (PathBuf, Failure);

/// An archive being written.
pub(crate) struct Packer<W: Write> {
    archive: Option<tar::Builder<W>>,
    links: HashMap<Identity, PathBuf>,
    packed: Vec<Packed>,
    depth: usize,
}

/// Nothing deeper is packed, and so nothing deeper removed: each level takes a handle and its share of the stack.
const DEEPEST: usize = 200;

impl<W: Write> Packer<W> {
    /// A packer that writes to `to`; without it, one that only lists what would be removed.
    pub(crate) fn new(to: Option<W>) -> Self {
        Self { archive: to.map(tar::Builder::new), links: HashMap::new(), packed: Vec::new(), depth: 0 }
    }

    /// Puts `name` in `dir`, and everything below it, into the archive; `path` is its whole path.
    pub(crate) fn add(
        &mut self,
        dir: BorrowedFd<'_>,
        name: &CStr,
        path: &Path,
        id: Option<Identity>,
    ) -> Result<(), PathFailure> {
        let failed = |op| move |errno| (path.to_owned(), Failure::Os(op, errno));
        // What is packed and not yet removed, or copied and not yet in its place, can be left at any moment.
        if crate::signals::came().is_some() {
            return Err(failed(Op::Keep)(Errno::INTR));
        }
        let handle = sys::pin(dir, name).map_err(failed(Op::Open))?;
        let facts = sys::look_whole(&handle).map_err(failed(Op::Look))?;
        if id.is_some_and(|id| id != facts.id) {
            return Err((path.to_owned(), Failure::Replaced));
        }
        if facts.kind == Kind::Device {
            return Err((path.to_owned(), Failure::Os(Op::Keep, Errno::NOTSUP)));
        }
        if facts.mounted {
            return Err((path.to_owned(), Failure::Os(Op::Keep, Errno::XDEV)));
        }
        let times = sys::times(&handle).map_err(failed(Op::Look))?;
        self.write(dir, name, path, &handle, &facts, times)?;
        let Facts { id, kind, links, size, .. } = facts;
        self.packed.push(Packed { path: path.to_owned(), id, kind, links, size, modified: times.modified });
        if kind == Kind::Directory {
            if self.depth == DEEPEST {
                return Err((path.to_owned(), Failure::Os(Op::Keep, Errno::NAMETOOLONG)));
            }
            let listed = sys::open_directory(dir, name).map_err(failed(Op::List))?;
            if sys::look_at(&listed).map_err(failed(Op::Look))?.id != id {
                return Err((path.to_owned(), Failure::Replaced));
            }
            let mut names = sys::names(&listed).map_err(failed(Op::List))?;
            names.sort();
            self.depth += 1;
            let added = names.iter().try_for_each(|name| self.add(listed.as_fd(), name, &path.join(as_os(name)), None));
            self.depth -= 1;
            added?;
        }
        Ok(())
    }

    fn write(
        &mut self,
        dir: BorrowedFd<'_>,
        name: &CStr,
        path: &Path,
        handle: &OwnedFd,
        facts: &Facts,
        times: Times,
    ) -> Result<(), PathFailure> {
        let Some(archive) = &mut self.archive else { return Ok(()) };
        let failed = |op| move |errno| (path.to_owned(), Failure::Os(op, errno));
        let kept = |cause: io::Error| {
            (path.to_owned(), Failure::Os(Op::Keep, Errno::from_io_error(&cause).unwrap_or(Errno::IO)))
        };
        let mut records = Records::default();
        records.add(b"path", inside(path));
        records.add(b"mtime", shown_time(times.modified).as_bytes());
        records.add(b"atime", shown_time(times.accessed).as_bytes());
        let mut header = Header::new_ustar();
        header.set_mode(facts.rights.mode.bits().into());
        header.set_uid(facts.rights.uid.0.into());
        header.set_gid(facts.rights.gid.0.into());
        header.set_mtime(u64::try_from(times.modified.0).unwrap_or(0));
        let first = if facts.links > 1 && facts.kind != Kind::Directory { self.links.get(&facts.id) } else { None };
        let mut content: Box<dyn Read> = Box::new(io::empty());
        header.set_size(0);
        header.set_entry_type(match facts.kind {
            _ if first.is_some() => EntryType::Link,
            Kind::File => EntryType::Regular,
            Kind::Directory => EntryType::Directory,
            Kind::Symlink => EntryType::Symlink,
            Kind::Fifo | Kind::Socket => EntryType::Fifo,
            Kind::Device => EntryType::Char,
        });
        if let Some(first) = first {
            records.add(b"linkpath", inside(first));
        } else {
            match facts.kind {
                Kind::Symlink => records.add(b"linkpath", &sys::read_link(handle, c"").map_err(failed(Op::Read))?),
                Kind::Socket => records.add(SOCKET, b"1"),
                Kind::File => {
                    let file = sys::open_file(dir, name).map_err(failed(Op::Read))?;
                    if sys::look_at(&file).map_err(failed(Op::Look))?.id != facts.id {
                        return Err((path.to_owned(), Failure::Replaced));
                    }
                    header.set_size(facts.size);
                    content = Box::new(Whole { inner: File::from(file), left: facts.size });
                }
                Kind::Directory | Kind::Fifo | Kind::Device => {}
            }
            for (name, value) in sys::attributes(handle).map_err(failed(Op::Read))? {
                records.add(&[ATTRIBUTE, &name].concat(), &value);
            }
        }
        // The header's own path is only for readers that know no extended headers.
        let short = format!("ambrik/{}", self.packed.len());
        header.set_path(&short).map_err(kept)?;
        header.set_cksum();
        records.write(archive, &short).map_err(kept)?;
        archive.append(&header, &mut *content).map_err(kept)?;
        if facts.links > 1 && facts.kind != Kind::Directory {
            self.links.entry(facts.id).or_insert_with(|| path.to_owned());
        }
        Ok(())
    }

    /// Ends the archive. The answer is what it was written to, and what is in it, folders before their content.
    pub(crate) fn finish(self) -> io::Result<(Option<W>, Vec<Packed>)> {
        let to = self.archive.map(tar::Builder::into_inner).transpose()?;
        Ok((to, self.packed))
    }
}

/// A file that must yield as much as it said it holds.
struct Whole {
    inner: File,
    left: u64,
}

impl Read for Whole {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let most = usize::try_from(self.left).unwrap_or(usize::MAX).min(buffer.len());
        if most == 0 {
            return Ok(0);
        }
        let length = self.inner.read(&mut buffer[..most])?;
        if length == 0 {
            return Err(Errno::IO.into());
        }
        self.left -= length as u64;
        Ok(length)
    }
}

/// Whether two files hold the same from where they stand on.
pub(crate) fn same_content(mut one: File, mut other: File) -> io::Result<bool> {
    let (mut left, mut right) = (vec![0; 1 << 16], vec![0; 1 << 16]);
    loop {
        let length = one.read(&mut left)?;
        if length == 0 {
            return Ok(other.read(&mut right)? == 0);
        }
        let right = &mut right[..length];
        match other.read_exact(right) {
            Ok(()) if left[..length] == *right => {}
            Ok(()) => return Ok(false),
            Err(cause) if cause.kind() == io::ErrorKind::UnexpectedEof => return Ok(false),
            Err(cause) => return Err(cause),
        }
    }
}

#[cfg(test)]
mod tests;
