//! Reads an archive back, as taking things out of it will: what is not there just as it was written is not removed.

use std::io::{self, Read};

use tar::EntryType;

use super::{Inventory, PathFailure};
use crate::tree::Failure;

/// Compares an archive with what was packed into it: number, paths, lengths and checksums of the entries. What does not
/// read back stays; the answer names it.
pub(crate) fn verify(archive: impl Read, packed: &mut Inventory) -> Vec<PathFailure> {
    let mut good = 0;
    // An archive that cannot be read any further holds nothing behind that.
    let read = read_back(archive, packed, &mut good);
    let why = match read {
        Ok(()) => "it does not read back as it was written".to_owned(),
        Err(cause) => format!("it does not read back: {cause}"),
    };
    let mut failures = Vec::new();
    for number in good..packed.len() {
        failures.push((packed.path(number), Failure::NotKept(why.clone())));
        packed.stays(number);
    }
    failures
}

/// Counts the entries, from the first on, that are as they were written.
fn read_back(archive: impl Read, packed: &Inventory, good: &mut usize) -> io::Result<()> {
    let mut archive = tar::Archive::new(archive);
    let mut records = Vec::new();
    let mut buffer = vec![0; 1 << 17];
    for entry in archive.entries()?.raw(true) {
        let mut entry = entry?;
        if entry.header().entry_type() == EntryType::XHeader {
            records.clear();
            entry.read_to_end(&mut records)?;
            continue;
        }
        let Some(item) = packed.0.get(*good) else { return Err(io::ErrorKind::InvalidData.into()) };
        let mut sum = blake3::Hasher::new();
        sum.update(&records);
        sum.update(entry.header().as_bytes());
        loop {
            match entry.read(&mut buffer)? {
                0 => break,
                length => sum.update(&buffer[..length]),
            };
        }
        if sum.finalize() != item.sum {
            return Ok(());
        }
        *good += 1;
    }
    Ok(())
}
