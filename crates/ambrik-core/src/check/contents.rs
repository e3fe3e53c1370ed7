//! What the first blocks of a file prove: an archive by its listing, a dump by its rows, a copy by the code in it.

use std::ffi::OsStr;
use std::io::Read as _;
use std::path::{Path, PathBuf};

use memchr::memmem;
use regex::bytes::Regex;

use super::is_php_name;
use crate::credentials::credentials;
use crate::pattern::pattern;
use crate::shown::Shown;

/// What was read tells about a left-over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum ContentsTell {
    /// It is one, by this.
    Proven(String),
    /// It is none.
    Other,
    /// Neither can be said.
    Unknown,
}

/// Of a packed file so much is unpacked, in bytes.
const UNPACKED: u64 = 1 << 18;

/// What an archive or a packed file holds, by its first blocks and, of a zip file, its directory at the end.
pub(super) fn packed(head: &[u8], whole: bool, tail: impl FnOnce() -> Option<Vec<u8>>) -> ContentsTell {
    if head.starts_with(b"PK") {
        let end = if whole { Some(head.to_vec()) } else { tail() };
        return zip(head, end.as_deref());
    }
    if head.starts_with(&[0x1f, 0x8b]) {
        let mut inner = Vec::new();
        // What is cut off in the middle ends with an error: what was unpacked until then counts.
        let _ = flate2::read::MultiGzDecoder::new(head).take(UNPACKED).read_to_end(&mut inner);
        let whole = whole && u64::try_from(inner.len()).is_ok_and(|length| length < UNPACKED);
        return if is_tar(&inner) { tar(&inner, whole) } else { single(&inner, whole) };
    }
    if is_tar(head) { tar(head, whole) } else { ContentsTell::Unknown }
}

/// A single file that was packed: source, or rows of data.
fn single(inner: &[u8], whole: bool) -> ContentsTell {
    if inner.is_empty() {
        return ContentsTell::Unknown;
    }
    match sql(inner) {
        ContentsTell::Proven(by) => ContentsTell::Proven(by),
        ContentsTell::Other | ContentsTell::Unknown if has_source(inner) => {
            ContentsTell::Proven("holds PHP source".into())
        }
        // Text without rows or source is neither.
        ContentsTell::Other | ContentsTell::Unknown if whole && is_text(inner) => ContentsTell::Other,
        ContentsTell::Other | ContentsTell::Unknown => ContentsTell::Unknown,
    }
}

fn is_text(bytes: &[u8]) -> bool {
    !bytes.contains(&0) && std::str::from_utf8(bytes).is_ok()
}

fn is_tar(bytes: &[u8]) -> bool {
    bytes.get(257..262) == Some(b"ustar")
}

fn tar(bytes: &[u8], whole: bool) -> ContentsTell {
    let mut names = Vec::new();
    let mut archive = tar::Archive::new(bytes);
    for entry in archive.entries().into_iter().flatten() {
        let Ok(path) = entry.and_then(|entry| entry.path().map(std::borrow::Cow::into_owned)) else {
            return listing(&names, false);
        };
        names.push(path);
    }
    listing(&names, whole)
}

/// The names in a zip file: in the headers of its first blocks, and in the directory at its end (APPNOTE 4.3.7, 4.3.12).
fn zip(head: &[u8], end: Option<&[u8]>) -> ContentsTell {
    let names_at = |bytes: &[u8], mark: &[u8], length_at: usize, name_at: usize| -> Vec<PathBuf> {
        let starts = bytes.windows(mark.len()).enumerate().filter(|(_, window)| *window == mark);
        let names = starts.filter_map(|(at, _)| {
            let length = bytes.get(at + length_at..at + length_at + 2)?;
            let length = usize::from(u16::from_le_bytes([length[0], length[1]]));
            let name = bytes.get(at + name_at..at + name_at + length)?;
            (!name.is_empty()).then(|| PathBuf::from(String::from_utf8_lossy(name).into_owned()))
        });
        names.collect()
    };
    let mut names = names_at(head, b"PK\x03\x04", 26, 30);
    let listed = end.map(|end| names_at(end, b"PK\x01\x02", 28, 46)).unwrap_or_default();
    // The record at the very end says how many entries there are.
    let count = end.and_then(|end| {
        let at = end.windows(4).rposition(|window| window == b"PK\x05\x06")?;
        let count = end.get(at + 10..at + 12)?;
        Some(usize::from(u16::from_le_bytes([count[0], count[1]])))
    });
    let whole = count == Some(listed.len());
    names.extend(listed);
    listing(&names, whole)
}

/// What a listing says: an archive of an application's files, or of other things.
fn listing(names: &[PathBuf], whole: bool) -> ContentsTell {
    let telling = names.iter().find(|name| is_applications(name));
    match telling {
        Some(name) => ContentsTell::Proven(format!("holds {}", Shown(name))),
        None if whole && !names.is_empty() => ContentsTell::Other,
        None => ContentsTell::Unknown,
    }
}

/// Whether a name is that of an application's code, settings or data.
fn is_applications(path: &Path) -> bool {
    let name = path.file_name().map(|name| name.to_string_lossy().to_ascii_lowercase()).unwrap_or_default();
    is_php_name(path)
        || matches!(&*name, ".htaccess" | ".htpasswd" | ".env" | "composer.json")
        || [".sql", ".sqlite"].iter().any(|ending| name.ends_with(ending))
}

pattern!(ROWS: Regex = r"(?i-u)\binsert\s+(?:ignore\s+)?into\b|\breplace\s+into\b");
pattern!(FURTHER: Regex = r"(?-u)\)\s*,\s*\(");
pattern!(COPIED: Regex = r"(?im-u)^copy\s+\S[^;\n]*\bfrom\s+stdin\s*;\s*\n(?P<row>[^\\\n][^\n]*)");
pattern!(MARKED: Regex = r"(?i-u)^[-#/*\s!]*(?:\w+ )*(?:database dump|sql dump|dump \d|dump of)|-- dumped from|^-- dump completed|/\*!40\d{3}");

/// So many statements that put rows in are an installation's data; the few first rows that an installer puts in are not.
const MANY: usize = 25;

/// What an SQL file is, by its first blocks: a dump where a dump's marks stand above rows of data, or where there are many rows; a
/// schema, the steps of an upgrade and an installer's first rows are none.
pub(super) fn sql(head: &[u8]) -> ContentsTell {
    let inserted = ROWS.find_iter(head).count();
    let copied = COPIED.is_match(head);
    let marked = MARKED.is_match(head);
    // Several rows in one statement are rows too; columns of a table are none.
    let further = FURTHER.find_iter(head).count();
    let tuples = if inserted > 0 { further } else { 0 };
    let changes =
        ["ALTER TABLE", "alter table"].iter().map(|word| memmem::find_iter(head, word).count()).sum::<usize>();
    let rows = inserted + tuples;
    if copied || (marked && rows > 0) {
        ContentsTell::Proven("holds rows of data".into())
    } else if rows >= MANY && changes <= inserted {
        ContentsTell::Proven(format!("holds {rows} rows of data or more"))
    } else {
        ContentsTell::Other
    }
}

/// What a copy that an editor or a person made holds: a web server sends it as text.
pub(super) fn copy(name: &OsStr, head: &[u8]) -> ContentsTell {
    if head.starts_with(b"b0VIM") {
        return ContentsTell::Proven("an editor's swap file".into());
    }
    let is_php = is_php_name(Path::new(name));
    let text = String::from_utf8_lossy(head);
    let secret = || credentials(&text, false, false).is_some();
    match (is_php, has_source(head)) {
        (false, true) => ContentsTell::Proven("holds PHP source".into()),
        (false, false) if secret() => ContentsTell::Proven("holds what looks like credentials".into()),
        _ => ContentsTell::Unknown,
    }
}

fn has_source(bytes: &[u8]) -> bool {
    let opens = |mark: &[u8]| bytes.windows(mark.len()).any(|window| window.eq_ignore_ascii_case(mark));
    opens(b"<?php") || opens(b"<?=")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Write as _;

    fn tarred(names: &[&str]) -> Vec<u8> {
        let mut builder = tar::Builder::new(Vec::new());
        for name in names {
            let mut header = tar::Header::new_ustar();
            header.set_size(3);
            header.set_cksum();
            builder.append_data(&mut header, name, &b"abc"[..]).unwrap();
        }
        builder.into_inner().unwrap()
    }

    fn gzipped(bytes: &[u8]) -> Vec<u8> {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(bytes).unwrap();
        encoder.finish().unwrap()
    }

    /// A zip file with stored entries of nothing.
    fn zipped(names: &[&str]) -> Vec<u8> {
        let (mut bytes, mut directory) = (Vec::new(), Vec::new());
        for name in names {
            let length = u16::try_from(name.len()).unwrap().to_le_bytes();
            bytes.extend([&b"PK\x03\x04"[..], &[0; 22], &length, &[0, 0], name.as_bytes()].concat());
            directory.extend([&b"PK\x01\x02"[..], &[0; 24], &length, &[0; 16], name.as_bytes()].concat());
        }
        let count = u16::try_from(names.len()).unwrap().to_le_bytes();
        bytes.extend(directory);
        bytes.extend([&b"PK\x05\x06"[..], &[0; 4], &count, &count, &[0; 10]].concat());
        bytes
    }

    fn is_proven(told: &ContentsTell) -> bool {
        matches!(told, ContentsTell::Proven(_))
    }

    #[rstest]
    #[case(&["board/", "board/index.php"], Some(true))]
    #[case(&["board/.env"], Some(true))]
    #[case(&["berths/map.png", "berths/note.txt"], Some(false))]
    #[case(&[], None)]
    fn archives_are_told_by_their_listing(#[case] names: &[&str], #[case] application: Option<bool>) {
        for bytes in [tarred(names), gzipped(&tarred(names)), zipped(names)] {
            let told = packed(&bytes, true, || None);
            assert_eq!(is_proven(&told), application == Some(true), "{told:?}");
            assert_eq!(told == ContentsTell::Other, application == Some(false), "{told:?}");
        }
    }

    /// What was not read to its end proves nothing by what was not seen.
    #[test]
    fn half_an_archive_is_no_other_thing() {
        let names = ["berths/map.png", "berths/note.txt"];
        for bytes in [tarred(&names), zipped(&names)] {
            let half = &bytes[..bytes.len() / 2];
            assert_eq!(packed(half, false, || None), ContentsTell::Unknown);
        }
        assert_eq!(packed(b"7z\xbc\xaf", true, || None), ContentsTell::Unknown);
        let many: Vec<String> = (0..40).map(|n| format!("a/{n}.png")).chain(["a/index.php".to_owned()]).collect();
        let bytes = zipped(&many.iter().map(String::as_str).collect::<Vec<_>>());
        let told = packed(&bytes[..200], false, || Some(bytes[bytes.len() / 2..].to_vec()));
        assert_eq!(told, ContentsTell::Proven("holds a/index.php".into()));
    }

    #[rstest]
    #[case("CREATE TABLE berths (id int);", false)]
    #[case("CREATE TABLE a (b int);\nINSERT INTO a VALUES (1);", false)]
    #[case("-- MySQL dump 10.13\nINSERT INTO a VALUES (1),(2);", true)]
    #[case("--\n-- PostgreSQL database dump\n--\nCOPY a (b) FROM stdin;\n1\n\\.\n", true)]
    #[case("COPY a (b) FROM stdin;\n\\.\n", false)]
    #[case("-- PostgreSQL database dump\nCREATE TABLE a (b int);", false)]
    #[case("ALTER TABLE a ADD b int;\nUPDATE a SET b = 1;", false)]
    fn dumps_are_told_by_their_rows(#[case] text: &str, #[case] dump: bool) {
        assert_eq!(is_proven(&sql(text.as_bytes())), dump);
        assert_eq!(is_proven(&packed(&gzipped(text.as_bytes()), true, || None)), dump);
    }

    /// A schema with many columns and a first row is no dump.
    #[test]
    fn columns_are_no_rows() {
        let columns: String = (0..60).map(|n| format!("  c{n} varchar(20),\n")).collect();
        let text = format!("CREATE TABLE a (\n{columns}  z int);\nINSERT INTO a VALUES (1);\n");
        assert_eq!(sql(text.as_bytes()), ContentsTell::Other);
    }

    #[test]
    fn many_rows_are_data() {
        let rows = |n: usize| "INSERT INTO berths VALUES (1, 'a');\n".repeat(n);
        assert!(!is_proven(&sql(rows(MANY - 1).as_bytes())));
        assert!(is_proven(&sql(rows(MANY).as_bytes())));
    }

    #[rstest]
    #[case("settings.php.bak", "<?php $a = 1;", true)]
    #[case("settings.ini.old", "[db]\npassword = made-up", true)]
    #[case("berths.txt~", "low water", false)]
    #[case(".index.php.swp", "b0VIM 9.0", true)]
    fn copies_are_told_by_what_is_in_them(#[case] name: &str, #[case] text: &str, #[case] proven: bool) {
        assert_eq!(is_proven(&copy(OsStr::new(name), text.as_bytes())), proven);
    }
}
