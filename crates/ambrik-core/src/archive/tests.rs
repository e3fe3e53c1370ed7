use std::io::Write as _;

use rstest::rstest;

use super::super::{Archive, ArchiveError};
use super::*;

/// A tar entry as a header may say it, whatever that is.
struct Entry<'e>(&'e [u8], tar::EntryType, &'e [u8], &'e [u8], u32);

const fn file<'e>(name: &'e str, content: &'e str) -> Entry<'e> {
    Entry(name.as_bytes(), tar::EntryType::Regular, content.as_bytes(), b"", 0o644)
}

const fn link<'e>(name: &'e str, target: &'e str) -> Entry<'e> {
    Entry(name.as_bytes(), tar::EntryType::Symlink, b"", target.as_bytes(), 0o777)
}

fn packed(entries: &[Entry<'_>]) -> Vec<u8> {
    let mut out = Vec::new();
    for Entry(name, kind, content, target, mode) in entries {
        let mut header = tar::Header::new_ustar();
        let old = header.as_old_mut();
        old.name[..name.len()].copy_from_slice(name);
        old.linkname[..target.len()].copy_from_slice(target);
        header.set_entry_type(*kind);
        header.set_size(content.len() as u64);
        header.set_mode(*mode);
        header.set_cksum();
        out.extend_from_slice(header.as_bytes());
        out.extend_from_slice(content);
        out.resize(out.len().next_multiple_of(512), 0);
    }
    out.resize(out.len() + 1024, 0);
    out
}

fn archive(bytes: &[u8]) -> Result<Archive, ArchiveError> {
    let mut file = tempfile::tempfile().unwrap();
    file.write_all(bytes).unwrap();
    Archive::new(Path::new("berths.tar"), file)
}

fn looked(entries: &[Entry<'_>], served: Option<&str>) -> ArchiveLook {
    let archive = archive(&packed(entries)).unwrap();
    look(&archive, None, served.map(OsStr::new), Limits::usual(1 << 30)).unwrap()
}

fn laid(found: &ArchiveLook) -> Vec<&str> {
    found.entries.keys().map(|path| path.as_ref().to_str().unwrap()).collect()
}

/// Each is refused with its reason; what is harmless beside it is not.
#[rstest]
#[case::absolute(&[file("/etc/passwd", "")], "its name begins at /")]
#[case::upwards(&[file("a/../../x", "")], "its name leads upwards (..)")]
#[case::upwards_in_the_middle(&[file("a/../b", "")], "its name leads upwards (..)")]
#[case::only_upwards(&[file("..", "")], "its name leads upwards (..)")]
#[case::not_utf_8(&[Entry(b"a\xff", tar::EntryType::Regular, b"", b"", 0o644)], "its name is not UTF-8")]
#[case::control(&[file("a\nb", "")], "its name has control characters in it")]
#[case::escape(&[file("a\u{1b}[2J", "")], "its name has control characters in it")]
#[case::backslash(&[file("a\\..\\b", "")], "its name has a backslash in it: a program that separates folders so made the archive")]
#[case::device(&[Entry(b"null", tar::EntryType::Char, b"", b"", 0o666)], "a device")]
#[case::disk(&[Entry(b"sda", tar::EntryType::Block, b"", b"", 0o666)], "a device")]
#[case::fifo(&[Entry(b"pipe", tar::EntryType::Fifo, b"", b"", 0o666)], "a FIFO")]
#[case::twice(&[file("a", "1"), file("a", "2")], "it is in the archive twice")]
#[case::twice_on_the_disk(&[file("a/b", "1"), file("./a//b", "2")], "it is in the archive twice")]
#[case::file_and_link(&[file("a", "1"), link("a", "b")], "it is in the archive twice")]
#[case::link_to_the_host(&[link("a", "/etc")], "it is a symlink with an absolute path, which leads to the host's own files")]
#[case::link_out(&[link("a", "../x")], "it is a symlink that leads out of the tree")]
#[case::link_out_from_deep(&[link("d/e/a", "../../../x")], "it is a symlink that leads out of the tree")]
#[case::link_out_through_another(&[link("d/up", "."), link("a", "d/up/../../x")], "it is a symlink that leads out of the tree")]
#[case::link_out_by_one_that_stays(&[link("d/e/here", "../.."), link("a", "d/e/here/../x")], "it is a symlink that leads out of the tree")]
#[case::links_in_a_circle(&[link("a", "b"), link("b", "a")], "it is a symlink that goes round in a circle")]
#[case::link_to_nothing(&[link("a", "")], "it is a symlink to nothing")]
#[case::below_a_link(&[link("a", "b"), file("a/x", "")], "it lies below a symlink of the archive")]
#[case::below_a_link_before_it(&[file("a/x", ""), link("a", "b")], "it lies below a symlink of the archive")]
#[case::below_a_file(&[file("a", ""), file("a/x", "")], "it lies below a file of the archive")]
#[case::second_name_of_nothing(&[Entry(b"a", tar::EntryType::Link, b"", b"b", 0o644)], "it is a further name of a file that is not before it in the archive")]
#[case::second_name_of_the_host(&[Entry(b"a", tar::EntryType::Link, b"", b"/etc/shadow", 0o644)], "it is a further name of a file that is not before it in the archive")]
#[case::second_name_upwards(&[file("s", ""), Entry(b"a", tar::EntryType::Link, b"", b"../s", 0o644)], "it is a further name of a file that is not before it in the archive")]
#[case::no_name(&[Entry(b"./", tar::EntryType::Regular, b"", b"", 0o644)], "it has no name")]
fn what_must_not_be_unpacked(#[case] entries: &[Entry<'_>], #[case] why: &str) {
    let harmless = [file("index.php", "<?php"), file("lib/a.php", "")];
    let all: Vec<Entry<'_>> =
        harmless.iter().chain(entries).map(|Entry(a, b, c, d, e)| Entry(a, *b, c, d, *e)).collect();
    let found = looked(&all, None);
    assert!(!found.refused.is_empty(), "{found:?}");
    assert!(found.refused.iter().all(|refused| refused.why == why), "{:?}", found.refused);
    assert!(found.refused.iter().all(|refused| !refused.name.contains(['\n', '\u{1b}'])), "{:?}", found.refused);
}

#[rstest]
#[case::beside(&[link("a", "lib")])]
#[case::up_and_down(&[link("d/e/a", "../../lib/x")])]
#[case::through_another(&[link("d/up", ".."), link("a", "d/up/lib")])]
#[case::to_what_is_not_there(&[link("a", "uploads/later")])]
fn links_that_stay(#[case] entries: &[Entry<'_>]) {
    let all: Vec<Entry<'_>> =
        [file("index.php", "")].iter().chain(entries).map(|Entry(a, b, c, d, e)| Entry(a, *b, c, d, *e)).collect();
    assert_eq!(looked(&all, None).refused, []);
}

#[rstest]
#[case::none(&["index.php", "lib/a.php"], None, "", &["index.php", "lib", "lib/a.php"], &[])]
#[case::one(&["berths-1.4/index.php", "berths-1.4/lib/a.php"], None, "berths-1.4", &["index.php", "lib", "lib/a.php"], &[])]
#[case::to_be_read(&["README.md", "licence.txt", "upload/index.php"], None, "upload", &["index.php"], &["README.md", "licence.txt"])]
#[case::both(&["b/docs.txt", "b/upload/index.php"], None, "b/upload", &["index.php"], &["b/docs.txt"])]
#[case::the_document_root(&["public/index.php"], Some("public"), "", &["public", "public/index.php"], &[])]
#[case::above_the_document_root(&["b/public/index.php"], Some("public"), "b", &["public", "public/index.php"], &[])]
#[case::two(&["a/index.php", "b/index.php"], None, "", &["a", "a/index.php", "b", "b/index.php"], &[])]
#[case::version_control(&["b/.git/config", "b/index.php", "__MACOSX/b/._index.php"], None, "b", &["index.php"], &["__MACOSX/b/._index.php", "b/.git/config"])]
fn what_is_laid_down(
    #[case] names: &[&str],
    #[case] served: Option<&str>,
    #[case] inner: &str,
    #[case] want: &[&str],
    #[case] spared: &[&str],
) {
    let entries: Vec<Entry<'_>> = names.iter().map(|name| file(name, "x")).collect();
    let found = looked(&entries, served);
    assert_eq!(found.refused, []);
    assert_eq!((found.inner.to_str().unwrap(), laid(&found)), (inner, want.to_vec()));
    let left: Vec<&str> = found.spared.iter().map(|spared| spared.path.to_str().unwrap()).collect();
    assert_eq!(left, spared);
}

#[test]
fn a_second_name_has_the_content_of_the_first() {
    let found = looked(
        &[file("b/one.php", "<?php"), Entry(b"b/two.php", tar::EntryType::Link, b"", b"b/one.php", 0o644)],
        None,
    );
    let [one, two] = ["one.php", "two.php"].map(|name| &found.entries[&TreePath::of(Path::new(name))]);
    assert_eq!((one, one.content.to_str()), (two, Some("b/one.php")));
}

#[test]
fn modes_are_counted_and_programs_known() {
    let program = Entry(b"bin/tool", tar::EntryType::Regular, b"#!/bin/sh\n", b"", 0o6777);
    let found = looked(&[program, Entry(b"x.php", tar::EntryType::Regular, b"<?php", b"", 0o777)], None);
    assert_eq!((found.special, found.open), (1, 2));
    let is_program = |name: &str| {
        matches!(found.entries[&TreePath::of(Path::new(name))].kind, PackedKind::File { program: true, .. })
    };
    assert!(is_program("bin/tool") && !is_program("x.php"));
}

fn zipped(entries: &[(&str, &[u8])]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, content) in entries {
        writer.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        writer.write_all(content).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

/// However it is packed, the same is in it.
#[test]
fn formats() {
    let plain = packed(&[file("b/index.php", "<?php echo 12;"), file("b/lib/a.php", "")]);
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    gzip.write_all(&plain).unwrap();
    let mut bzip2 = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::default());
    bzip2.write_all(&plain).unwrap();
    let mut xz = lzma_rust2::XzWriter::new(Vec::new(), lzma_rust2::XzOptions::default()).unwrap();
    xz.write_all(&plain).unwrap();
    let zstd = ruzstd::encoding::compress_to_vec(&plain[..], ruzstd::encoding::CompressionLevel::Fastest);
    let zip = zipped(&[("b/index.php", b"<?php echo 12;"), ("b/lib/a.php", b"")]);
    let of = |bytes: &[u8]| look(&archive(bytes).unwrap(), None, None, Limits::usual(1 << 30)).unwrap().entries;
    let want = of(&plain);
    assert_eq!(want.len(), 3);
    for bytes in [gzip.finish().unwrap(), bzip2.finish().unwrap(), xz.finish().unwrap(), zstd, zip] {
        assert_eq!(of(&bytes), want);
    }
}

#[rstest]
#[case::nothing(b"", "is no zip and no tar archive")]
#[case::text(b"<?php", "is no zip and no tar archive")]
#[case::cut_short(b"\x1f\x8b\x08\x00", "is broken after 0 entries")]
fn what_is_no_archive(#[case] bytes: &[u8], #[case] why: &str) {
    let error = archive(bytes).and_then(|archive| look(&archive, None, None, Limits::usual(1 << 30)).map(|_| ()));
    assert!(error.unwrap_err().to_string().contains(why));
}

/// Long names and records are kept in memory by who reads tar archives: one without end is no archive.
#[rstest]
#[case::name(tar::EntryType::GNULongName)]
#[case::target(tar::EntryType::GNULongLink)]
#[case::records(tar::EntryType::XHeader)]
fn headers_have_an_end(#[case] kind: tar::EntryType) {
    let long = vec![b'a'; 8 << 20];
    let bytes = packed(&[Entry(b"././@LongLink", kind, &long, b"", 0o644), file("index.php", "")]);
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    gzip.write_all(&bytes).unwrap();
    let archive = archive(&gzip.finish().unwrap()).unwrap();
    let error = look(&archive, None, None, Limits::usual(1 << 30)).unwrap_err().to_string();
    assert!(error.contains("a header in it is longer than any"), "{error}");
}

/// What is refused is not read without end either.
#[test]
fn what_is_refused_counts() {
    let long = vec![0; 3 << 20];
    let bytes = packed(&[Entry(b"../x", tar::EntryType::Regular, &long, b"", 0o644), file("index.php", "")]);
    let archive = archive(&bytes).unwrap();
    let error = look(&archive, None, None, Limits::usual(1 << 20)).unwrap_err().to_string();
    assert!(error.contains("more than the 1.0 MiB that are free"), "{error}");
    let found = look(&archive, None, None, Limits::usual(1 << 30)).unwrap();
    assert_eq!(found.refused.len(), 1);
}

#[test]
fn what_would_fill_the_disk_ends_early() {
    let zeros = vec![0; 80 << 20];
    let bomb = zipped(&[("a", &zeros)]);
    let said = |limits| look(&archive(&bomb).unwrap(), None, None, limits).unwrap_err().to_string();
    let free = said(Limits::usual(1 << 20));
    assert!(free.contains("more than the 1.0 MiB that are free"), "{free}");
    let ratio = said(Limits::usual(1 << 40));
    assert!(ratio.contains("more than 100 times its") && ratio.contains("TiB is free"), "{ratio}");
}
