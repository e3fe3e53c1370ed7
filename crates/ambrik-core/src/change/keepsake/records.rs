//! The records of the archive's extended headers (POSIX.1 pax), and what stands in them.

use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use tar::{EntryType, Header};

/// The prefix of an extended attribute's record, as other archivers name it.
pub(super) const ATTRIBUTE: &[u8] = b"SCHILY.xattr.";
/// Marks an entry as a socket, which tar has no type for.
pub(super) const SOCKET: &[u8] = b"AMBRIK.socket";
/// The number of the entry, from 0, that holds the directory that this one is in.
pub(super) const IN: &[u8] = b"AMBRIK.in";
/// The number of the entry that this one is another name of.
pub(super) const LINK: &[u8] = b"AMBRIK.link";
/// Which inode it was: device, number, time of birth.
pub(super) const INODE: &[u8] = b"AMBRIK.inode";
/// The length of a file with holes.
pub(super) const REAL_SIZE: &[u8] = b"GNU.sparse.realsize";
/// Entries deeper than this tell their names only.
pub(super) const WHOLE_PATHS: usize = 200;

/// Archives hold paths without the leading `/`.
pub(super) fn inside(path: &Path) -> &[u8] {
    let bytes = path.as_os_str().as_bytes();
    bytes.strip_prefix(b"/").unwrap_or(bytes)
}

pub(super) fn shown_time((seconds, nanos): (i64, u32)) -> String {
    match (seconds, nanos) {
        // pax times are decimal fractions: -0.25 is a quarter of a second before 1970.
        (s, n) if s < 0 && n > 0 => format!("-{}.{:09}", -(s + 1), 1_000_000_000 - n),
        (s, n) => format!("{s}.{n:09}"),
    }
}

pub(super) fn read_time(text: &[u8]) -> Option<(i64, u32)> {
    let text = std::str::from_utf8(text).ok()?;
    let (negative, text) = text.strip_prefix('-').map_or((false, text), |rest| (true, rest));
    let (seconds, fraction) = text.split_once('.').unwrap_or((text, ""));
    let seconds: i64 = seconds.parse().ok()?;
    let nanos: u32 = format!("{fraction:0<9}").get(..9)?.parse().ok()?;
    match (negative, nanos) {
        (false, nanos) => Some((seconds, nanos)),
        (true, 0) => Some((-seconds, 0)),
        (true, nanos) => Some((-seconds - 1, 1_000_000_000 - nanos)),
    }
}

/// The records of an extended header (POSIX.1 pax: "length keyword=value\n").
#[derive(Default)]
pub(super) struct Records(pub(super) Vec<u8>);

impl Records {
    pub(super) fn add(&mut self, keyword: &[u8], value: &[u8]) {
        let rest = keyword.len() + value.len() + 3;
        let mut length = rest + 1;
        while length != rest + length.to_string().len() {
            length = rest + length.to_string().len();
        }
        self.0.extend_from_slice(format!("{length} ").as_bytes());
        self.0.extend_from_slice(keyword);
        self.0.push(b'=');
        self.0.extend_from_slice(value);
        self.0.push(b'\n');
    }

    /// The header that they stand behind.
    pub(super) fn header(&self, short: &str) -> io::Result<Header> {
        let mut header = Header::new_ustar();
        header.set_entry_type(EntryType::XHeader);
        header.set_size(self.0.len() as u64);
        header.set_mode(0o600);
        header.set_path(format!("{short}.pax"))?;
        header.set_cksum();
        Ok(header)
    }

    /// The records in the bytes of an extended header; one that is cut off ends them.
    pub(super) fn read(mut bytes: &[u8]) -> Vec<(Vec<u8>, Vec<u8>)> {
        let mut records = Vec::new();
        while let Some(space) = bytes.iter().position(|&b| b == b' ') {
            let length = std::str::from_utf8(&bytes[..space]).ok().and_then(|text| text.parse::<usize>().ok());
            let Some(record) = length.and_then(|length| bytes.get(space + 1..length)) else { break };
            let Some((b'\n', record)) = record.split_last() else { break };
            let Some(equals) = record.iter().position(|&b| b == b'=') else { break };
            records.push((record[..equals].to_vec(), record[equals + 1..].to_vec()));
            bytes = &bytes[space + 2 + record.len()..];
        }
        records
    }
}
