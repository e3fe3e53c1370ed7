//! Files with holes (lseek(2), `SEEK_DATA`): what they hold, and how an archive says so, as pax archives with the keywords
//! `GNU.sparse.*`, format 1.0, do.

use std::fs::File;
use std::io::{self, Read, Seek as _, SeekFrom as From, Write};
use std::os::fd::AsFd;

use rustix::fs::SeekFrom;
use rustix::io::Errno;

/// The lengths in bytes of blocks that an archive consists of.
pub(super) const BLOCK: u64 = 512;
/// An empty block.
pub(super) const ZEROS: [u8; 512] = [0; 512];

/// A run of data in a file: where it begins, and its length in bytes.
pub(super) type Run = (u64, u64);

/// The runs of data in the first `size` bytes of a file, in order. Where the file system does not tell, all of it is data.
/// The file's position moves.
pub(super) fn runs(file: impl AsFd, size: u64) -> Result<Vec<Run>, Errno> {
    let mut runs = Vec::new();
    let mut at = 0;
    while at < size {
        let begin = match rustix::fs::seek(&file, SeekFrom::Data(at)) {
            Ok(begin) => begin,
            // No data behind this place.
            Err(Errno::NXIO) => break,
            Err(Errno::INVAL | Errno::OPNOTSUPP) => {
                runs = vec![(0, size)];
                break;
            }
            Err(errno) => return Err(errno),
        };
        if begin >= size {
            break;
        }
        let end = rustix::fs::seek(&file, SeekFrom::Hole(begin))?.min(size);
        runs.push((begin, end - begin));
        at = end;
    }
    rustix::fs::seek(&file, SeekFrom::Start(0))?;
    Ok(runs)
}

/// How many bytes of data the runs have.
pub(super) fn data(runs: &[Run]) -> u64 {
    runs.iter().map(|(_, length)| length).sum()
}

/// The map that stands before the data of a file with holes: numbers in lines, filled up to a whole block.
pub(super) fn map(runs: &[Run], size: u64) -> Vec<u8> {
    let ends = runs.last().is_some_and(|(begin, length)| begin + length == size);
    // A hole at the end is told by an empty run there.
    let end = if ends { None } else { Some((size, 0)) };
    let runs = || runs.iter().copied().chain(end);
    let lines: String = runs().map(|(begin, length)| format!("{begin}\n{length}\n")).collect();
    let mut bytes = format!("{}\n{lines}", runs().count()).into_bytes();
    bytes.resize(bytes.len().next_multiple_of(ZEROS.len()), b'\0');
    bytes
}

/// No map of a file has more runs.
const MOST: u64 = 1 << 26;

/// Reads the map before the data. Errors where it is none, or its runs overlap or lie behind `size`.
pub(super) fn read_map(from: &mut impl Read, size: u64) -> io::Result<Vec<Run>> {
    let broken =
        || io::Error::new(io::ErrorKind::InvalidData, "the keepsake holds a file with holes that cannot be read");
    let mut taken = 0_u64;
    let mut number = |from: &mut dyn Read| -> io::Result<u64> {
        let mut digits = Vec::new();
        loop {
            let mut byte = [0];
            from.read_exact(&mut byte)?;
            taken += 1;
            match byte[0] {
                b'\n' => break,
                digit @ b'0'..=b'9' if digits.len() < 20 => digits.push(digit),
                _ => return Err(broken()),
            }
        }
        std::str::from_utf8(&digits).ok().and_then(|text| text.parse().ok()).ok_or_else(broken)
    };
    let count = number(from)?;
    if count > MOST {
        return Err(broken());
    }
    let mut runs: Vec<Run> = Vec::new();
    let mut end = 0;
    for _ in 0..count {
        let (begin, length) = (number(from)?, number(from)?);
        if begin < end || begin.checked_add(length).is_none_or(|end| end > size) {
            return Err(broken());
        }
        end = begin + length;
        runs.push((begin, length));
    }
    io::copy(&mut from.take(taken.next_multiple_of(BLOCK) - taken), &mut io::sink())?;
    Ok(runs)
}

/// Writes the runs of a file whose data stand one after the other in `from`; what lies between them stays a hole.
pub(super) fn write_runs(from: &mut impl Read, runs: &[Run], size: u64, file: &mut File) -> io::Result<()> {
    file.set_len(size)?;
    for (begin, length) in runs {
        file.seek(From::Start(*begin))?;
        if io::copy(&mut from.take(*length), file)? != *length {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
    }
    file.flush()
}

/// Whether two files hold the same: holes read as zeros, and are not read where both have one.
pub(crate) fn same_content(mut one: File, mut other: File) -> io::Result<bool> {
    let size = one.metadata()?.len();
    if other.metadata()?.len() != size {
        return Ok(false);
    }
    let mut both = runs(&one, size)?;
    both.extend(runs(&other, size)?);
    both.sort_unstable();
    let (mut left, mut right) = (vec![0; 1 << 16], vec![0; 1 << 16]);
    let mut compared = 0;
    for (begin, length) in both {
        let end = begin + length;
        let mut at = begin.max(compared);
        one.seek(From::Start(at))?;
        other.seek(From::Start(at))?;
        while at < end {
            let most = usize::try_from(end - at).unwrap_or(usize::MAX).min(left.len());
            let (left, right) = (&mut left[..most], &mut right[..most]);
            match (one.read_exact(left), other.read_exact(right)) {
                (Ok(()), Ok(())) if left == right => {}
                (Ok(()), Ok(())) => return Ok(false),
                // One of them became shorter meanwhile.
                (Err(cause), _) | (_, Err(cause)) if cause.kind() == io::ErrorKind::UnexpectedEof => return Ok(false),
                (Err(cause), _) | (_, Err(cause)) => return Err(cause),
            }
            at += most as u64;
        }
        compared = compared.max(end);
    }
    Ok(true)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::MetadataExt as _;

    use proptest::prelude::*;
    use rstest::rstest;

    fn file(runs: &[Run], size: u64, byte: u8) -> File {
        let mut file = tempfile::tempfile().unwrap();
        file.set_len(size).unwrap();
        for (begin, length) in runs {
            file.seek(From::Start(*begin)).unwrap();
            file.write_all(&vec![byte; usize::try_from(*length).unwrap()]).unwrap();
        }
        file.rewind().unwrap();
        file
    }

    /// Whole blocks of the file system, so that holes are holes.
    const K: u64 = 1 << 16;

    #[rstest]
    #[case::empty(&[], 0)]
    #[case::one_hole(&[], 1 << 40)]
    #[case::full(&[(0, K)], K)]
    #[case::hole_at_the_end(&[(0, K)], 4 * K)]
    #[case::hole_at_the_beginning(&[(3 * K, K)], 4 * K)]
    #[case::odd_end(&[(K, 3)], K + 3)]
    fn runs_come_back_through_a_map(#[case] data: &[Run], #[case] size: u64) {
        let original = file(data, size, 7);
        let found = runs(&original, size).unwrap();
        assert!(found.iter().map(|run| run.1).sum::<u64>() <= data.iter().map(|run| run.1).sum::<u64>() + K);
        let map = map(&found, size);
        assert_eq!(map.len() as u64 % BLOCK, 0);
        let mut bytes = map.clone();
        for (begin, length) in &found {
            let mut copy = original.try_clone().unwrap();
            copy.seek(From::Start(*begin)).unwrap();
            copy.take(*length).read_to_end(&mut bytes).unwrap();
        }
        let mut from = &bytes[..];
        let read = read_map(&mut from, size).unwrap();
        let mut copy = tempfile::tempfile().unwrap();
        write_runs(&mut from, &read, size, &mut copy).unwrap();
        assert!(same_content(original, copy.try_clone().unwrap()).unwrap());
        assert!(copy.metadata().unwrap().blocks() * 512 <= data.iter().map(|run| run.1).sum::<u64>() + 4 * K);
    }

    #[rstest]
    #[case::alike(&[(0, K)], &[(0, K)], true)]
    #[case::hole_against_data(&[], &[(K, K)], false)]
    #[case::data_against_hole(&[(K, 1)], &[], false)]
    fn what_differs_is_seen(#[case] one: &[Run], #[case] other: &[Run], #[case] same: bool) {
        assert_eq!(same_content(file(one, 4 * K, 7), file(other, 4 * K, 7)).unwrap(), same);
        assert!(same_content(file(one, 4 * K, 0), file(other, 4 * K, 0)).unwrap(), "zeros are as good as a hole");
    }

    #[test]
    fn another_length_is_another_file() {
        assert!(!same_content(file(&[], K, 0), file(&[], K + 1, 0)).unwrap());
    }

    proptest! {
        #[test]
        fn any_map_is_read_or_refused(bytes in proptest::collection::vec(prop_oneof![Just(b'\n'), b'0'..=b'9', any::<u8>()], 0..600)) {
            let _ = read_map(&mut &bytes[..], 1 << 20);
        }
    }
}
