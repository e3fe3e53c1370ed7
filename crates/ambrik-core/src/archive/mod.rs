//! Archives: read in order, entry by entry, and nothing of them believed. [`look`] says what is in one.

mod judge;
mod look;

use std::cell::Cell;
use std::fs::File;
use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::sync::mpsc::{Receiver, sync_channel};
use std::thread::Scope;

use rustix::fs::{Mode, OFlags};

use crate::shown::Shown;

pub use look::{ArchiveLook, Limits, PackedEntry, PackedKind, Refused, Spared, look};

/// Why an archive cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum ArchiveError {
    /// It cannot be opened, or its first bytes cannot be read.
    #[error("cannot read the archive {}: {}", Shown(.0), .1)]
    Unreadable(PathBuf, io::Error),
    /// Its first bytes are no archive's.
    #[error(
        "{} is no zip and no tar archive, packed with gzip, bzip2, xz, zstd or not at all: nothing was unpacked", Shown(.0)
    )]
    Unknown(PathBuf),
    /// It ends early, or is not what it says.
    #[error("the archive {} is broken after {read} entries: {cause}; nothing was unpacked: get it again", Shown(.path))]
    Broken {
        /// The archive.
        path: PathBuf,
        /// How many entries were read before.
        read: usize,
        /// What is wrong.
        cause: io::Error,
    },
    /// It would fill the disk, or has no end.
    #[error("the archive {}: {why}; nothing was unpacked", Shown(.path))]
    TooLarge {
        /// The archive.
        path: PathBuf,
        /// Which limit it passes.
        why: String,
    },
}

/// How a tar archive is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Packing {
    None,
    Gzip,
    Bzip2,
    Xz,
    Zstd,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Format {
    Zip,
    Tar(Packing),
}

/// The beginnings of formats (the zip specification, 4.3.7; RFC 1952, RFC 8878, and the formats' own documents).
const BEGINNINGS: [(&[u8], Format); 6] = [
    (b"PK\x03\x04", Format::Zip),
    (b"PK\x05\x06", Format::Zip),
    (b"\x1f\x8b", Format::Tar(Packing::Gzip)),
    (b"BZh", Format::Tar(Packing::Bzip2)),
    (b"\xfd7zXZ\x00", Format::Tar(Packing::Xz)),
    (b"\x28\xb5\x2f\xfd", Format::Tar(Packing::Zstd)),
];

/// No decoder may take more memory, in KiB: what the formats' own programs take at their highest usual level.
const DECODER_MEMORY: u32 = 256 << 10;

/// An archive that is open for reading.
#[derive(Debug)]
pub struct Archive {
    path: PathBuf,
    file: File,
    format: Format,
}

/// What an entry of an archive says that it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum EntryKind {
    Directory,
    File,
    Symlink(Vec<u8>),
    /// A further name of an entry before it.
    HardLink(Vec<u8>),
    /// Something else, by its name.
    Other(&'static str),
}

/// An entry of an archive, as it stands there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ArchiveEntry {
    pub(crate) name: Vec<u8>,
    pub(crate) kind: EntryKind,
    /// Permission bits, where the archive has any.
    pub(crate) mode: u32,
    /// Whether it is encrypted: then it has no content for anybody here.
    pub(crate) encrypted: bool,
}

impl ArchiveEntry {
    /// The path that its name says; none where that is no path below the folder that is unpacked into.
    pub(crate) fn path(&self) -> Option<PathBuf> {
        judge::path(&self.name).ok()
    }
}

/// What is done with each entry and its content.
type Visit<'v> = &'v mut dyn FnMut(&ArchiveEntry, &mut dyn Read) -> Result<(), ArchiveError>;

impl Archive {
    /// The archive that a file holds; `path` is what messages call it. The file must be one that can be read again from its
    /// beginning.
    pub fn new(path: &Path, file: File) -> Result<Self, ArchiveError> {
        let unreadable = |cause| ArchiveError::Unreadable(path.to_owned(), cause);
        let mut head = Vec::new();
        (&file).seek(SeekFrom::Start(0)).map_err(unreadable)?;
        (&file).take(512).read_to_end(&mut head).map_err(unreadable)?;
        let begins = BEGINNINGS.iter().find(|(beginning, _)| head.starts_with(beginning)).map(|(_, format)| *format);
        // POSIX pax: "ustar" in the header's magic field.
        let plain = (head.get(257..262) == Some(b"ustar")).then_some(Format::Tar(Packing::None));
        let format = begins.or(plain).ok_or_else(|| ArchiveError::Unknown(path.to_owned()))?;
        Ok(Self { path: path.to_owned(), file, format })
    }

    /// Opens the archive at a path of the file system that is looked at from `/`.
    pub fn open(path: &Path) -> Result<Self, ArchiveError> {
        let file = File::open(path).map_err(|cause| ArchiveError::Unreadable(path.to_owned(), cause))?;
        Self::new(path, file)
    }

    /// The archive that comes out of a stream: kept in a file without a name, or in memory, until it is read.
    pub fn from_stream(name: &Path, mut stream: impl Read) -> Result<Self, ArchiveError> {
        let unreadable = |cause| ArchiveError::Unreadable(name.to_owned(), cause);
        let flags = OFlags::TMPFILE | OFlags::RDWR | OFlags::CLOEXEC;
        let file = rustix::fs::open("/var/tmp", flags, Mode::RUSR | Mode::WUSR)
            .or_else(|_| rustix::fs::memfd_create("archive", rustix::fs::MemfdFlags::CLOEXEC));
        let mut file = File::from(file.map_err(|errno| unreadable(errno.into()))?);
        io::copy(&mut stream, &mut file).map_err(unreadable)?;
        Self::new(name, file)
    }

    /// What messages call it.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// How many bytes it has.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.file.metadata().map_or(0, |facts| facts.len())
    }

    pub(crate) fn broken(&self, read: usize, cause: io::Error) -> ArchiveError {
        ArchiveError::Broken { path: self.path.clone(), read, cause }
    }

    /// Visits each entry, in the order of the archive.
    pub(crate) fn each(&self, visit: Visit<'_>) -> Result<(), ArchiveError> {
        let begun = (&self.file).seek(SeekFrom::Start(0));
        begun.map_err(|cause| ArchiveError::Unreadable(self.path.clone(), cause))?;
        let file = BufReader::with_capacity(1 << 16, &self.file);
        match self.format {
            Format::Zip => self.each_of_zip(file, visit),
            Format::Tar(packing) => {
                let unpacked: Box<dyn Read + Send + '_> = match packing {
                    Packing::None => Box::new(file),
                    Packing::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(file)),
                    Packing::Bzip2 => Box::new(bzip2::bufread::MultiBzDecoder::new(file)),
                    Packing::Xz => Box::new(lzma_rust2::XzReader::new_mem_limit(file, true, DECODER_MEMORY)),
                    Packing::Zstd => Box::new(
                        ruzstd::decoding::StreamingDecoder::new(file)
                            .map_err(|error| self.broken(0, io::Error::other(error.to_string())))?,
                    ),
                };
                std::thread::scope(|scope| self.each_of_tar(Ahead::begin(scope, unpacked), visit))
            }
        }
    }

    fn each_of_zip(&self, file: BufReader<&File>, visit: Visit<'_>) -> Result<(), ArchiveError> {
        let broken = |read, error: zip::result::ZipError| self.broken(read, io::Error::other(error.to_string()));
        let mut zip = zip::ZipArchive::new(file).map_err(|error| broken(0, error))?;
        for number in 0..zip.len() {
            let encrypted = zip.by_index_raw(number).map_err(|error| broken(number, error))?.encrypted();
            let mut entry = if encrypted { zip.by_index_raw(number) } else { zip.by_index(number) }
                .map_err(|error| broken(number, error))?;
            let kind = if entry.is_dir() {
                EntryKind::Directory
            } else if entry.is_symlink() && !encrypted {
                let mut target = Vec::new();
                let read = (&mut entry).take(LONGEST_TARGET).read_to_end(&mut target);
                read.map_err(|cause| self.broken(number, cause))?;
                EntryKind::Symlink(target)
            } else {
                EntryKind::File
            };
            let mode = entry.unix_mode().unwrap_or(0);
            let told = ArchiveEntry { name: entry.name_raw().to_vec(), kind, mode, encrypted };
            visit(&told, &mut entry)?;
        }
        Ok(())
    }

    fn each_of_tar(&self, unpacked: impl Read, visit: Visit<'_>) -> Result<(), ArchiveError> {
        let left = Rc::new(Cell::new(LONGEST_HEADERS));
        let mut tar = tar::Archive::new(Bounded { inner: unpacked, left: Rc::clone(&left), at: 0 });
        // What is between two entries is sought past: the library would clear 32 KiB of memory for each.
        let entries = tar.entries_with_seek().map_err(|cause| self.broken(0, cause))?;
        let mut passed = vec![0; 1 << 13];
        for (number, entry) in entries.enumerate() {
            let mut entry = entry.map_err(|cause| self.broken(number, cause))?;
            let target = entry.link_name_bytes().map(std::borrow::Cow::into_owned).unwrap_or_default();
            let kind = match entry.header().entry_type() {
                tar::EntryType::Directory => EntryKind::Directory,
                tar::EntryType::Regular | tar::EntryType::Continuous | tar::EntryType::GNUSparse => EntryKind::File,
                tar::EntryType::Symlink => EntryKind::Symlink(target),
                tar::EntryType::Link => EntryKind::HardLink(target),
                tar::EntryType::Char | tar::EntryType::Block => EntryKind::Other("a device"),
                tar::EntryType::Fifo => EntryKind::Other("a FIFO"),
                // What only says something of the archive as a whole.
                tar::EntryType::XGlobalHeader => continue,
                _ => EntryKind::Other("an entry of a type that is no standard one"),
            };
            let mode = entry.header().mode().unwrap_or(0);
            let told = ArchiveEntry { name: entry.path_bytes().into_owned(), kind, mode, encrypted: false };
            left.set(u64::MAX);
            visit(&told, &mut entry)?;
            // What nobody wanted is passed over here: from its end on there are headers again.
            while entry.read(&mut passed).map_err(|cause| self.broken(number, cause))? > 0 {}
            left.set(LONGEST_HEADERS);
        }
        Ok(())
    }
}

/// A stream that a thread of its own reads ahead, some pieces: unpacking goes on while what came before is looked at or laid down.
struct Ahead {
    pieces: Receiver<io::Result<Vec<u8>>>,
    piece: io::Cursor<Vec<u8>>,
}

/// A piece's bytes, and how many pieces wait.
const PIECE: u64 = 1 << 17;
const PIECES: usize = 8;

impl Ahead {
    fn begin<'s>(scope: &'s Scope<'s, '_>, mut stream: impl Read + Send + 's) -> Self {
        let (send, pieces) = sync_channel(PIECES);
        scope.spawn(move || {
            loop {
                let mut piece = Vec::with_capacity(1 << 17);
                let read = (&mut stream).take(PIECE).read_to_end(&mut piece);
                let is_over = piece.is_empty() || read.is_err();
                // What was read before an error goes before it.
                if !piece.is_empty() && send.send(Ok(piece)).is_err() {
                    break;
                }
                if let Err(cause) = read {
                    // Where nobody reads any more nobody is to know it.
                    let _ = send.send(Err(cause));
                }
                if is_over {
                    break;
                }
            }
        });
        Self { pieces, piece: io::Cursor::default() }
    }
}

impl Read for Ahead {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            let count = self.piece.read(buffer)?;
            if count > 0 || buffer.is_empty() {
                return Ok(count);
            }
            match self.pieces.recv() {
                Ok(piece) => self.piece = io::Cursor::new(piece?),
                Err(_) => return Ok(0),
            }
        }
    }
}

/// Between the contents of two entries of a tar archive there is no more than this, in bytes: headers, and the long names and
/// records in front of them, which the library keeps in memory whatever their length says.
const LONGEST_HEADERS: u64 = 1 << 20;

/// A stream that ends with an error after so many bytes.
struct Bounded<R> {
    inner: R,
    left: Rc<Cell<u64>>,
    /// How many bytes came out of it.
    at: u64,
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let left = self.left.get();
        if left == 0 {
            return Err(io::Error::other("a header in it is longer than any"));
        }
        let most = usize::try_from(left).unwrap_or(usize::MAX).min(buffer.len());
        let count = self.inner.read(&mut buffer[..most])?;
        self.left.set(left - count as u64);
        self.at += count as u64;
        Ok(count)
    }
}

/// Forwards alone.
impl<R: Read> Seek for Bounded<R> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let SeekFrom::Current(bytes @ 0..) = to else {
            return Err(io::Error::new(io::ErrorKind::Unsupported, "a stream is read forwards"));
        };
        let mut passed = [0; 512];
        let mut left = u64::try_from(bytes).unwrap_or_default();
        while left > 0 {
            let most = usize::try_from(left).unwrap_or(usize::MAX).min(passed.len());
            match self.read(&mut passed[..most])? {
                0 => return Err(io::ErrorKind::UnexpectedEof.into()),
                count => left -= count as u64,
            }
        }
        Ok(self.at)
    }
}

/// No symlink leads further, in bytes (`PATH_MAX`: limits.h(0p)).
const LONGEST_TARGET: u64 = 4096;

#[cfg(test)]
mod tests {
    use super::*;

    /// Gives some bytes, then fails however often it is asked.
    struct Fails(usize);

    impl Read for Fails {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            if self.0 == 0 {
                return Err(io::Error::other("broken"));
            }
            let count = self.0.min(buffer.len());
            self.0 -= count;
            Ok(count)
        }
    }

    /// What fails for ever ends, whoever reads it to its end or not; what came before it comes.
    #[rstest::rstest]
    fn a_stream_that_fails_ends(#[values(0, 10, 3_000_000)] bytes: usize) {
        for is_read in [true, false] {
            std::thread::scope(|scope| {
                let mut ahead = Ahead::begin(scope, Fails(bytes));
                if is_read {
                    let mut found = Vec::new();
                    assert_eq!(ahead.read_to_end(&mut found).unwrap_err().to_string(), "broken");
                    assert_eq!(found.len(), bytes);
                }
            });
        }
    }
}
