//! The files that an archive brought, with their sums: many in one row, each path as it differs from the one before it.

use std::ffi::OsString;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};

use rusqlite::{Connection, params};

use crate::bytes::{ByteReader, ByteWriter};

/// As many files stand in one row.
const FILES: usize = 4096;

/// A BLAKE3 sum.
type Sum = [u8; 32];

/// Records what a change set brought.
pub(super) fn write(db: &Connection, set: i64, files: &[(impl AsRef<Path>, Sum)]) -> rusqlite::Result<()> {
    let mut insert = db.prepare("INSERT INTO brought (change_set, count, block) VALUES (?,?,?)")?;
    for files in files.chunks(FILES) {
        insert.execute(params![set, i64::try_from(files.len()).unwrap_or(i64::MAX), block(files)])?;
    }
    Ok(())
}

fn block(files: &[(impl AsRef<Path>, Sum)]) -> Vec<u8> {
    let (mut bytes, mut before) = (ByteWriter::default(), Vec::new());
    for (path, sum) in files {
        bytes.after(&mut before, path.as_ref().as_os_str().as_bytes());
        bytes.0.extend_from_slice(sum);
    }
    bytes.0
}

/// Reads a row of so many files; nothing where it is not one that [`write()`] wrote.
pub(super) fn read(block: &[u8], count: usize) -> Option<Vec<(PathBuf, Sum)>> {
    let (mut bytes, mut files) = (ByteReader(block), Vec::new());
    let mut path = Vec::new();
    while !bytes.0.is_empty() {
        path = bytes.after(&path)?;
        files.push((PathBuf::from(OsString::from_vec(path.clone())), bytes.take(32)?.try_into().ok()?));
    }
    (files.len() == count).then_some(files)
}

/// Brings what version 9 held, a row each, into blocks.
pub(super) fn into_blocks(db: &Connection) -> rusqlite::Result<()> {
    db.execute_batch(
        "CREATE TABLE brought (id INTEGER PRIMARY KEY, change_set INTEGER NOT NULL, count INTEGER NOT NULL, block BLOB NOT NULL);",
    )?;
    let mut sets = db.prepare("SELECT DISTINCT change_set FROM delivered ORDER BY change_set")?;
    let sets = sets.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<Vec<i64>>>()?;
    for set in sets {
        let mut rows = db.prepare("SELECT path, sum FROM delivered WHERE change_set = ? ORDER BY path")?;
        let of = |row: &rusqlite::Row<'_>| {
            let path = PathBuf::from(OsString::from_vec(row.get(0)?));
            Ok((path, row.get::<_, Sum>(1)?))
        };
        let files = rows.query_map([set], of)?.collect::<rusqlite::Result<Vec<_>>>()?;
        write(db, set, &files)?;
    }
    db.execute_batch("DROP TABLE delivered;")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn files() -> impl Strategy<Value = Vec<(PathBuf, Sum)>> {
        let name = prop::collection::vec(any::<u8>(), 0..12);
        let path = (prop::sample::select(vec!["", "lib/", "lib/deep/"]), name)
            .prop_map(|(folder, name)| PathBuf::from(OsString::from_vec([folder.as_bytes(), &name].concat())));
        prop::collection::vec((path, any::<Sum>()), 0..20)
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(files in files()) {
            prop_assert_eq!(read(&block(&files), files.len()), Some(files.clone()));
            prop_assert_eq!(read(&block(&files), files.len() + 1), None);
        }

        /// Whatever is in it, reading ends.
        #[test]
        fn what_is_damaged_is_read_to_an_end(files in files(), at in any::<prop::sample::Index>(), byte in any::<u8>()) {
            let mut bytes = block(&files);
            prop_assume!(!bytes.is_empty());
            let at = at.index(bytes.len());
            bytes[at] = byte;
            let _ = read(&bytes, files.len());
            bytes.truncate(at);
            prop_assert_eq!(read(&bytes, files.len()), None);
        }
    }
}
