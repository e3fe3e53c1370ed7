//! Puts paths into an archive, each only whole: what fails leaves no trace in it.

use std::collections::HashMap;
use std::ffi::{CStr, CString};
use std::fs::File;
use std::io::{self, BufWriter, Read, Seek as _, SeekFrom, Write};
use std::ops::Range;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::path::Path;
use std::sync::Arc;

use rustix::io::Errno;
use tar::{EntryType, Header};

use super::chain::{Chain, Position};
use super::holes::{self, BLOCK, ZEROS};
use super::records::{self, Records, inside, shown_time};
use super::{Inventory, Packed, PathFailure};
use crate::entry::{Facts, Identity, Kind};
use crate::tree::sys;
use crate::tree::{Failure, Op};

/// What an archive is written to.
pub(crate) trait PackSink: Write {
    /// Cuts off what was written behind this length.
    fn cut_back(&mut self, length: u64) -> io::Result<()>;
}

impl PackSink for BufWriter<File> {
    fn cut_back(&mut self, length: u64) -> io::Result<()> {
        self.flush()?;
        self.get_mut().set_len(length)?;
        self.get_mut().seek(SeekFrom::Start(length)).map(|_| ())
    }
}

/// What goes to another thread cannot be had back: there the first failure ends the whole.
impl PackSink for BufWriter<io::PipeWriter> {
    fn cut_back(&mut self, _length: u64) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }
}

/// An archive in memory.
impl PackSink for Vec<u8> {
    fn cut_back(&mut self, length: u64) -> io::Result<()> {
        self.truncate(usize::try_from(length).unwrap_or(usize::MAX));
        Ok(())
    }
}

/// An archive that is written, with the checksum of the entry at hand.
struct PackedTar<W> {
    to: W,
    written: u64,
    sum: blake3::Hasher,
}

impl<W: PackSink> PackedTar<W> {
    /// Writes what counts for the checksum.
    fn put(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.sum.update(bytes);
        self.put_silently(bytes)
    }

    fn put_silently(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.to.write_all(bytes)?;
        self.written += bytes.len() as u64;
        Ok(())
    }

    /// Fills up to a whole block.
    fn fill(&mut self) -> io::Result<()> {
        let rest = usize::try_from(self.written.next_multiple_of(BLOCK) - self.written).unwrap_or(0);
        self.put_silently(&ZEROS[..rest])
    }
}

/// What went wrong with one path, or with the archive as a whole.
enum PackTrouble {
    Path(Failure),
    PackedTar(io::Error),
}

impl From<io::Error> for PackTrouble {
    fn from(cause: io::Error) -> Self {
        Self::PackedTar(cause)
    }
}

impl From<Failure> for PackTrouble {
    fn from(failure: Failure) -> Self {
        Self::Path(failure)
    }
}

fn os(op: Op) -> impl Fn(Errno) -> Failure {
    move |errno| Failure::Os(op, errno)
}

/// An archive being written.
pub(crate) struct Packer<W> {
    archive: Option<PackedTar<W>>,
    /// How many bytes it may take.
    room: u64,
    /// Files with several names, by the number of the first.
    links: HashMap<Identity, usize>,
    packed: Inventory,
    failures: Vec<PathFailure>,
}

/// A directory whose names are being packed.
struct PackedFolder {
    number: Option<usize>,
    /// The names still to come, the last one first.
    names: Vec<CString>,
}

impl Packer<Vec<u8>> {
    /// A packer that only lists what would be packed.
    pub(crate) fn listing() -> Self {
        Self {
            archive: None,
            room: u64::MAX,
            links: HashMap::new(),
            packed: Inventory::default(),
            failures: Vec::new(),
        }
    }

    /// What would be packed, and what could not be.
    pub(crate) fn listed(self) -> (Inventory, Vec<PathFailure>) {
        (self.packed, self.failures)
    }
}

impl<W: PackSink> Packer<W> {
    /// A packer that writes to `to`, at most `room` bytes.
    pub(crate) fn new(to: W, room: u64) -> Self {
        let archive = Some(PackedTar { to, written: 0, sum: blake3::Hasher::new() });
        Self { archive, room, links: HashMap::new(), packed: Inventory::default(), failures: Vec::new() }
    }

    /// Puts `name` in `dir`, and everything below it, into the archive; `path` is its whole path. The answer is which
    /// numbers they have; what could not be packed is among the failures, and so not in the archive.
    ///
    /// Errors where the archive itself cannot be written: then none of it is good.
    pub(crate) fn add(
        &mut self,
        dir: BorrowedFd<'_>,
        name: &CStr,
        path: &Path,
        id: Option<Identity>,
    ) -> io::Result<Range<usize>> {
        let first = self.packed.len();
        let top: Arc<Path> = path.into();
        let mut chain = Chain::at(dir.try_clone_to_owned()?);
        let mut levels = vec![PackedFolder { number: None, names: vec![name.to_owned()] }];
        while let Some(level) = levels.last_mut() {
            // What is packed and not yet removed, or copied and not yet in its place, can be left at any moment.
            if crate::signals::came().is_some() {
                return Err(Errno::INTR.into());
            }
            let above = level.number;
            let Some(name) = level.names.pop() else {
                levels.pop();
                if above.is_some()
                    && let Err(failure) = chain.leave()
                {
                    // Nobody knows where one stands: what was to come of it stays.
                    for number in levels.iter().filter_map(|level| level.number) {
                        self.packed.stays(number);
                    }
                    self.failures.push((self.path_of(above, &top), failure));
                    break;
                }
                continue;
            };
            let id = if above.is_none() { id } else { None };
            let added = self.add_one(&chain, above, levels.len() - 1, &name, &top, id);
            let entered = match added {
                Ok((number, None)) => Ok((number, None)),
                Ok((number, Some(names))) => chain
                    .enter(number, &name, Some(self.packed.0[number].id))
                    .map(|()| (number, Some(names)))
                    .map_err(|failure| {
                        self.packed.stays(number);
                        PackTrouble::Path(failure)
                    }),
                Err(trouble) => Err(trouble),
            };
            match entered {
                Ok((_, None)) => {}
                Ok((number, Some(names))) => levels.push(PackedFolder { number: Some(number), names }),
                Err(PackTrouble::Path(failure)) => {
                    let path = match above {
                        None => path.to_owned(),
                        Some(above) => self.packed.path(above).join(super::as_os(&name)),
                    };
                    self.failures.push((path, failure));
                    if let Some(above) = above {
                        self.packed.stays(above);
                    }
                }
                Err(PackTrouble::PackedTar(cause)) => return Err(cause),
            }
        }
        Ok(first..self.packed.len())
    }

    fn path_of(&self, number: Option<usize>, top: &Path) -> std::path::PathBuf {
        number.map_or_else(|| top.to_owned(), |number| self.packed.path(number))
    }

    /// Packs one path. The answer is its number, and, for a directory, the names in it, the last one first.
    fn add_one(
        &mut self,
        chain: &Chain,
        above: Option<usize>,
        depth: usize,
        name: &CString,
        top: &Arc<Path>,
        id: Option<Identity>,
    ) -> Result<(usize, Option<Vec<CString>>), PackTrouble> {
        let dir = chain.dir()?;
        let handle = sys::pin(dir, name).map_err(os(Op::Open))?;
        let facts = sys::look_whole(&handle).map_err(os(Op::Look))?;
        if id.is_some_and(|id| id != facts.id) {
            return Err(Failure::Replaced.into());
        }
        if facts.mounted {
            return Err(Failure::Os(Op::Keep, Errno::XDEV).into());
        }
        // Anybody can make a whiteout, a character device 0:0 (mknod(2)): it is kept. Other devices are not.
        if facts.kind == Kind::Device && sys::device_number(&handle).map_err(os(Op::Look))? != Some((0, 0)) {
            return Err(Failure::Os(Op::Keep, Errno::NOTSUP).into());
        }
        let names = if facts.kind == Kind::Directory { Some(names(dir, name, facts.id)?) } else { None };
        let number = self.packed.len();
        let Facts { id, kind, links, size, changed, .. } = facts;
        let sum = blake3::Hash::from_bytes([0; 32]);
        let top = Arc::clone(top);
        let item = Packed {
            position: Position { above, depth, name: name.clone() },
            top,
            id,
            kind,
            links,
            size,
            changed,
            stored: 0,
            sum,
            stays: false,
        };
        self.packed.0.push(item);
        let start = self.archive.as_ref().map_or(0, |archive| archive.written);
        match self.write(dir, number, &handle, &facts) {
            Ok((stored, sum)) => {
                let item = &mut self.packed.0[number];
                (item.stored, item.sum) = (stored, sum);
            }
            Err(trouble) => {
                self.packed.0.pop();
                if let (PackTrouble::Path(_), Some(archive)) = (&trouble, &mut self.archive) {
                    archive.to.cut_back(start)?;
                    archive.written = start;
                }
                return Err(trouble);
            }
        }
        if facts.links > 1 && facts.kind != Kind::Directory {
            self.links.entry(facts.id).or_insert(number);
        }
        Ok((number, names))
    }

    /// Writes one entry; where there is no archive, only reckons what it takes. The answer is that, and its checksum.
    fn write(
        &mut self,
        dir: BorrowedFd<'_>,
        number: usize,
        handle: &OwnedFd,
        facts: &Facts,
    ) -> Result<(u64, blake3::Hash), PackTrouble> {
        let first = if facts.links > 1 && facts.kind != Kind::Directory { self.links.get(&facts.id) } else { None };
        let content = match (first, facts.kind) {
            (None, Kind::File) => {
                Some(Content::of(dir, &self.packed.0[number].position.name, handle, facts, self.archive.is_some())?)
            }
            _ => None,
        };
        let mut records = self.records(number, handle, facts, first.copied())?;
        if let Some(content) = content.as_ref().filter(|content| content.has_holes()) {
            content.tell(&mut records);
        }
        let length = content.as_ref().map_or(0, Content::stored);
        let stored = 2 * BLOCK + (records.0.len() as u64).next_multiple_of(BLOCK) + length.next_multiple_of(BLOCK);
        let Some(archive) = &mut self.archive else { return Ok((stored, blake3::Hash::from_bytes([0; 32]))) };
        let left = self.room.saturating_sub(archive.written);
        if stored > left {
            return Err(Failure::NoRoom { needed: stored, free: left }.into());
        }
        archive.sum.reset();
        let short = format!("ambrik/{number}");
        let header = header(facts, first.is_some(), length, &short)?;
        archive.put_silently(records.header(&short)?.as_bytes())?;
        archive.put(&records.0)?;
        archive.fill()?;
        archive.put(header.as_bytes())?;
        if let Some(content) = content {
            content.write(archive)?;
        }
        archive.fill()?;
        Ok((stored, archive.sum.finalize()))
    }

    /// What the extended header says.
    fn records(
        &self,
        number: usize,
        handle: &OwnedFd,
        facts: &Facts,
        first: Option<usize>,
    ) -> Result<Records, Failure> {
        let mut records = Records::default();
        let item = &self.packed.0[number];
        match item.position.above {
            // Paths longer than any call takes would make an archive grow with the square of the depth.
            Some(above) if item.position.depth > records::WHOLE_PATHS => {
                records.add(b"path", item.position.name.as_bytes());
                records.add(records::IN, above.to_string().as_bytes());
            }
            Some(above) => {
                records.add(b"path", inside(&self.packed.path(number)));
                records.add(records::IN, above.to_string().as_bytes());
            }
            None => records.add(b"path", inside(&item.top)),
        }
        let times = sys::times(handle).map_err(os(Op::Look))?;
        records.add(b"mtime", shown_time(times.modified).as_bytes());
        records.add(b"atime", shown_time(times.accessed).as_bytes());
        let Identity { dev, ino, born } = facts.id;
        records.add(records::INODE, format!("{dev} {ino} {born}").as_bytes());
        if let Some(first) = first {
            records.add(b"linkpath", inside(&self.packed.path(first)));
            records.add(records::LINK, first.to_string().as_bytes());
            return Ok(records);
        }
        match facts.kind {
            Kind::Symlink => records.add(b"linkpath", &sys::read_link(handle, c"").map_err(os(Op::Read))?),
            Kind::Socket => records.add(records::SOCKET, b"1"),
            Kind::File | Kind::Directory | Kind::Fifo | Kind::Device => {}
        }
        for (name, value) in sys::attributes(handle).map_err(os(Op::Read))? {
            records.add(&[records::ATTRIBUTE, &name].concat(), &value);
        }
        Ok(records)
    }

    /// What failed first.
    pub(crate) fn first_failure(&self) -> Option<&PathFailure> {
        self.failures.first()
    }

    /// Ends the archive. The answer is what it was written to, what is in it, and what is not.
    pub(crate) fn finish(self) -> io::Result<(W, Inventory, Vec<PathFailure>)> {
        let mut archive = self.archive.ok_or(io::ErrorKind::Unsupported)?;
        // Two blocks of zeros end an archive.
        archive.put_silently(&[ZEROS, ZEROS].concat())?;
        Ok((archive.to, self.packed, self.failures))
    }
}

/// The names in a directory, which must be `id`, the last one first.
fn names(dir: BorrowedFd<'_>, name: &CStr, id: Identity) -> Result<Vec<CString>, Failure> {
    let listed = sys::open_directory(dir, name).map_err(os(Op::List))?;
    if sys::look_at(&listed).map_err(os(Op::Look))?.id != id {
        return Err(Failure::Replaced);
    }
    let mut names = sys::names(&listed).map_err(os(Op::List))?;
    names.sort_unstable_by(|a, b| b.cmp(a));
    Ok(names)
}

fn header(facts: &Facts, is_link: bool, length: u64, short: &str) -> io::Result<Header> {
    let mut header = Header::new_ustar();
    header.set_mode(facts.rights.mode.bits().into());
    header.set_uid(facts.rights.uid.0.into());
    header.set_gid(facts.rights.gid.0.into());
    header.set_size(length);
    header.set_entry_type(match facts.kind {
        _ if is_link => EntryType::Link,
        Kind::File => EntryType::Regular,
        Kind::Directory => EntryType::Directory,
        Kind::Symlink => EntryType::Symlink,
        Kind::Fifo | Kind::Socket => EntryType::Fifo,
        Kind::Device => EntryType::Char,
    });
    if facts.kind == Kind::Device {
        header.set_device_major(0)?;
        header.set_device_minor(0)?;
    }
    // The header's own path is only for readers that know no extended headers.
    header.set_path(short)?;
    header.set_cksum();
    Ok(header)
}

/// What a file holds: its runs of data.
struct Content {
    file: Option<File>,
    runs: Vec<holes::Run>,
    size: u64,
}

impl Content {
    /// The content of the file `name`, which `handle` pins; opened only where it is to be read, or may have holes.
    fn of(dir: BorrowedFd<'_>, name: &CStr, handle: &OwnedFd, facts: &Facts, read: bool) -> Result<Self, Failure> {
        let size = facts.size;
        let full = sys::allocated(handle).map_err(os(Op::Look))? >= size;
        if full && !read {
            return Ok(Self { file: None, runs: vec![(0, size)], size });
        }
        let file = sys::open_file(dir, name).map_err(os(Op::Read))?;
        let opened = sys::look_at(&file).map_err(os(Op::Look))?;
        // Its name may have gone, and come again, since it was pinned.
        if (opened.id, opened.links) != (facts.id, facts.links) {
            return Err(Failure::Replaced);
        }
        let runs = if full { vec![(0, size)] } else { holes::runs(&file, size).map_err(os(Op::Read))? };
        Ok(Self { file: Some(file.into()), runs, size })
    }

    fn has_holes(&self) -> bool {
        holes::data(&self.runs) < self.size
    }

    /// Says in an extended header that it has holes.
    fn tell(&self, records: &mut Records) {
        records.add(b"GNU.sparse.major", b"1");
        records.add(b"GNU.sparse.minor", b"0");
        records.add(records::REAL_SIZE, self.size.to_string().as_bytes());
    }

    /// How many bytes it takes in the archive.
    fn stored(&self) -> u64 {
        let map = if self.has_holes() { holes::map(&self.runs, self.size).len() as u64 } else { 0 };
        map + holes::data(&self.runs)
    }

    /// Writes it; it must yield as much as it said that it holds.
    fn write<W: PackSink>(self, archive: &mut PackedTar<W>) -> Result<(), PackTrouble> {
        if self.has_holes() {
            archive.put(&holes::map(&self.runs, self.size))?;
        }
        let Some(mut file) = self.file else { return Ok(()) };
        let failed = |cause: &io::Error| Failure::Os(Op::Read, Errno::from_io_error(cause).unwrap_or(Errno::IO));
        let mut buffer = vec![0; 1 << 17];
        for (begin, length) in &self.runs {
            if *begin > 0 {
                file.seek(SeekFrom::Start(*begin)).map_err(|cause| failed(&cause))?;
            }
            let mut left = *length;
            while left > 0 {
                let most = usize::try_from(left).unwrap_or(usize::MAX).min(buffer.len());
                let read = match file.read(&mut buffer[..most]) {
                    Err(cause) if cause.kind() == io::ErrorKind::Interrupted => continue,
                    read => read.map_err(|cause| failed(&cause))?,
                };
                if read == 0 {
                    // It was cut off while it was read.
                    return Err(Failure::Differs.into());
                }
                archive.put(&buffer[..read])?;
                left -= read as u64;
            }
        }
        Ok(())
    }
}
