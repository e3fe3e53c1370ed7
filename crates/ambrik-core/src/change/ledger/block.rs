//! Changes of rights as the ledger holds them: many in one row, each as it differs from the one before it.
//!
//! A plan goes through a tree folder by folder, and most paths of a folder go from the same rights to the same rights, on
//! the same device, with inodes and times of birth close together.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::Path;
use std::sync::Arc;

use super::rows::{kind_number, kind_of};
use crate::bytes::{ByteReader, ByteWriter};
use crate::entry::{Identity, Kind};

/// As many changes stand in one row.
pub(super) const CHANGES: usize = 4096;

/// The folder is that of the change before.
const SAME_FOLDER: u8 = 1;
/// Kind, links, device and both rights are those of the change before.
const SAME_SORT: u8 = 2;

/// What most changes of a folder have in common; the rights by their rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Sort {
    pub(super) kind: Kind,
    pub(super) links: u32,
    pub(super) dev: u64,
    pub(super) before: i64,
    pub(super) after: i64,
}

/// One change, read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Recorded {
    pub(super) folder: Arc<Path>,
    pub(super) name: OsString,
    pub(super) sort: Sort,
    pub(super) id: Identity,
}

/// A row being written.
#[derive(Debug, Default)]
pub(super) struct BlockWriter {
    bytes: ByteWriter,
    count: usize,
    folder: Vec<u8>,
    sort: Option<Sort>,
    ino: u64,
    born: i64,
}

impl BlockWriter {
    pub(super) fn push(&mut self, folder: &Path, name: &OsStr, sort: Sort, id: &Identity) {
        let folder = folder.as_os_str().as_bytes();
        let same_folder = self.count > 0 && self.folder == folder;
        let same_sort = self.sort == Some(sort);
        let flag = |is: bool, flag: u8| if is { flag } else { 0 };
        self.bytes.0.push(flag(same_folder, SAME_FOLDER) | flag(same_sort, SAME_SORT));
        if !same_folder {
            self.bytes.after(&mut self.folder, folder);
        }
        if !same_sort {
            self.bytes.number(kind_number(sort.kind));
            self.bytes.number(sort.links);
            self.bytes.number(sort.dev);
            self.bytes.number(sort.before);
            self.bytes.number(sort.after);
            self.sort = Some(sort);
        }
        self.bytes.text(name.as_bytes());
        self.bytes.number(id.ino.wrapping_sub(self.ino).cast_signed());
        self.bytes.number(id.born.wrapping_sub(self.born));
        (self.ino, self.born) = (id.ino, id.born);
        self.count += 1;
    }

    /// How many changes are in it.
    pub(super) const fn len(&self) -> usize {
        self.count
    }

    pub(super) fn bytes(&self) -> &[u8] {
        &self.bytes.0
    }
}

/// Reads a row. Each item is a change, or none where the row is not one that [`BlockWriter`] wrote; nothing follows that.
pub(super) struct BlockReader<'b> {
    bytes: ByteReader<'b>,
    folder: Arc<Path>,
    sort: Option<Sort>,
    ino: u64,
    born: i64,
}

impl<'b> BlockReader<'b> {
    pub(super) fn new(bytes: &'b [u8]) -> Self {
        Self { bytes: ByteReader(bytes), folder: Path::new("").into(), sort: None, ino: 0, born: 0 }
    }

    fn change(&mut self) -> Option<Recorded> {
        let [flags] = *self.bytes.take(1)? else { return None };
        if flags & !(SAME_FOLDER | SAME_SORT) != 0 {
            return None;
        }
        if flags & SAME_FOLDER == 0 {
            let folder = self.bytes.after(self.folder.as_os_str().as_bytes())?;
            self.folder = Path::new(OsStr::from_bytes(&folder)).into();
        }
        if flags & SAME_SORT == 0 {
            let bytes = &mut self.bytes;
            let (kind, links, dev) = (kind_of(bytes.number()?)?, bytes.number()?, bytes.number()?);
            self.sort = Some(Sort { kind, links, dev, before: bytes.number()?, after: bytes.number()? });
        }
        let sort = self.sort?;
        let name = OsString::from_vec(self.bytes.text()?.to_owned());
        self.ino = self.ino.wrapping_add(self.bytes.number::<i64>()?.cast_unsigned());
        self.born = self.born.wrapping_add(self.bytes.number()?);
        let id = Identity { dev: sort.dev, ino: self.ino, born: self.born };
        Some(Recorded { folder: Arc::clone(&self.folder), name, sort, id })
    }
}

impl Iterator for BlockReader<'_> {
    type Item = Option<Recorded>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.bytes.0.is_empty() {
            return None;
        }
        let change = self.change();
        if change.is_none() {
            self.bytes.0 = &[];
        }
        Some(change)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Changes of few folders and sorts, as a plan has them, with any numbers in them.
    fn changes() -> impl Strategy<Value = Vec<Recorded>> {
        let folders = prop::sample::select(vec!["", "/", "/srv/www", "/srv/www/a", "/srv/wwa\n/\u{e9}"]);
        let kinds = prop::sample::select(vec![Kind::File, Kind::Directory, Kind::Symlink, Kind::Device]);
        let numbers = (prop::sample::select(vec![0, 1, u32::MAX]), any::<bool>(), 1..3_i64, 1..3_i64);
        let sort = (kinds, numbers).prop_map(|(kind, (links, far, before, after))| Sort {
            kind,
            links,
            dev: if far { u64::MAX } else { 5 },
            before,
            after,
        });
        let name = prop::collection::vec(any::<u8>(), 0..20);
        let change = (folders, sort, name, any::<u64>(), any::<i64>()).prop_map(|(folder, sort, name, ino, born)| {
            let id = Identity { dev: sort.dev, ino, born };
            Recorded { folder: Path::new(folder).into(), name: OsString::from_vec(name), sort, id }
        });
        prop::collection::vec(change, 0..40)
    }

    fn written(changes: &[Recorded]) -> Vec<u8> {
        let mut block = BlockWriter::default();
        for change in changes {
            block.push(&change.folder, &change.name, change.sort, &change.id);
        }
        assert_eq!(block.len(), changes.len());
        block.bytes().to_owned()
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(changes in changes()) {
            let bytes = written(&changes);
            let read: Option<Vec<_>> = BlockReader::new(&bytes).collect();
            prop_assert_eq!(read, Some(changes));
        }

        /// Whatever is in it, reading ends, and says where it is no block.
        #[test]
        fn what_is_damaged_is_read_to_an_end(changes in changes(), at in any::<prop::sample::Index>(), byte in any::<u8>()) {
            let mut bytes = written(&changes);
            prop_assume!(!bytes.is_empty());
            let at = at.index(bytes.len());
            bytes[at] = byte;
            prop_assert!(BlockReader::new(&bytes).count() <= bytes.len());
            bytes.truncate(at);
            let read: Vec<_> = BlockReader::new(&bytes).collect();
            prop_assert!(read.iter().rev().skip(1).all(Option::is_some));
        }
    }

    /// A third of the 115 bytes that a row for each path took.
    #[test]
    fn a_path_takes_few_bytes() {
        let sort = Sort { kind: Kind::File, links: 1, dev: 64_769, before: 700, after: 701 };
        let mut block = BlockWriter::default();
        for n in 0..4000_u32 {
            let folder = format!("/srv/www/pierhead/app/modules/m{:03}", n / 10);
            let id = Identity {
                dev: sort.dev,
                ino: 1_300_000 + u64::from(n),
                born: 1_790_000_000_000_000_000 + i64::from(n) * 40_000,
            };
            block.push(Path::new(&folder), OsStr::new(&format!("page-{n:06}.php")), sort, &id);
        }
        assert!(block.bytes().len() < 26 * block.len(), "{}", block.bytes().len());
    }
}
