//! Hostile archives: each is refused with its reason, and nothing is written anywhere.

use std::fs;
use std::io::Write as _;

use crate::host::{TestHost, give, is_root};
use crate::moved::whole;

/// What is in an archive beside what is harmless: the name, what it is, and where it leads.
struct Hostile<'h>(&'h [u8], Is<'h>);

#[derive(Clone, Copy)]
enum Is<'h> {
    File,
    Symlink(&'h str),
    Another(&'h str),
    Special(tar::EntryType),
}
use Is::{Another, File, Special, Symlink};

const UPWARDS: &str = "its name leads upwards (..)";
const ABSOLUTE: &str = "its name begins at /";
const LEADS_OUT: &str = "it is a symlink that leads out of the tree";
const TO_THE_HOST: &str = "it is a symlink with an absolute path, which leads to the host's own files";
const CONTROL: &str = "its name has control characters in it";
const NOT_BEFORE: &str = "it is a further name of a file that is not before it in the archive";

/// What tar archives can hold.
const TAR: &[(&[Hostile<'_>], &str)] = &[
    (&[Hostile(b"../evil.php", File)], UPWARDS),
    (&[Hostile(b"../../../../../../../../../etc/cron.d/evil", File)], UPWARDS),
    (&[Hostile(b"lib/../../evil.php", File)], UPWARDS),
    (&[Hostile(b"lib/../evil.php", File)], UPWARDS),
    (&[Hostile(b"./..", File)], UPWARDS),
    (&[Hostile(b"/evil.php", File)], ABSOLUTE),
    (&[Hostile(b"//evil.php", File)], ABSOLUTE),
    (&[Hostile(b"evil\xff.php", File)], "its name is not UTF-8"),
    (&[Hostile(b"\xc0\xae\xc0\xae/evil.php", File)], "its name is not UTF-8"),
    (&[Hostile(b"evil\n.php", File)], CONTROL),
    (&[Hostile(b"evil\x1b[2J.php", File)], CONTROL),
    (&[Hostile(b"evil\x7f.php", File)], CONTROL),
    (&[Hostile(b"..\\evil.php", File)], "its name has a backslash in it"),
    (&[Hostile(b"null", Special(tar::EntryType::Char))], "a device"),
    (&[Hostile(b"disk", Special(tar::EntryType::Block))], "a device"),
    (&[Hostile(b"pipe", Special(tar::EntryType::Fifo))], "a FIFO"),
    (&[Hostile(b"index.php", File)], "it is in the archive twice"),
    (&[Hostile(b".//index.php", File)], "it is in the archive twice"),
    (&[Hostile(b"index.php", Symlink("lib/a.php"))], "it is in the archive twice"),
    (&[Hostile(b"link", Symlink("/etc"))], TO_THE_HOST),
    (&[Hostile(b"link", Symlink("/"))], TO_THE_HOST),
    (&[Hostile(b"link", Symlink("../../../etc"))], LEADS_OUT),
    (&[Hostile(b"a/b/link", Symlink("../../../evil"))], LEADS_OUT),
    (&[Hostile(b"a/up", Symlink(".")), Hostile(b"link", Symlink("a/up/../../evil"))], LEADS_OUT),
    (&[Hostile(b"a/b/top", Symlink("../..")), Hostile(b"link", Symlink("a/b/top/../evil"))], LEADS_OUT),
    (
        &[Hostile(b"one", Symlink("two")), Hostile(b"two", Symlink("one"))],
        "it is a symlink that goes round in a circle",
    ),
    (&[Hostile(b"link", Symlink("link"))], "it is a symlink that goes round in a circle"),
    (&[Hostile(b"link", Symlink(""))], "it is a symlink to nothing"),
    (&[Hostile(b"link", Symlink("lib")), Hostile(b"link/evil.php", File)], "it lies below a symlink of the archive"),
    (&[Hostile(b"link/evil.php", File), Hostile(b"link", Symlink("lib"))], "it lies below a symlink of the archive"),
    (&[Hostile(b"index.php/evil.php", File)], "it lies below a file of the archive"),
    (&[Hostile(b"shadow", Another("/etc/shadow"))], NOT_BEFORE),
    (&[Hostile(b"shadow", Another("../../../etc/shadow"))], NOT_BEFORE),
    (&[Hostile(b"early", Another("late")), Hostile(b"late", File)], NOT_BEFORE),
    (&[Hostile(b"./", File)], "it has no name"),
];

/// What zip archives can hold: names of eleven bytes, so that they can be written over others.
const ZIP: &[(&[u8; 11], &str)] = &[
    (b"../evil.php", UPWARDS),
    (b"lib/../../e", UPWARDS),
    (b"lib/../evil", UPWARDS),
    (b"/evil11.php", ABSOLUTE),
    (b"//evil1.php", ABSOLUTE),
    (b"evil\xff22.php", "its name is not UTF-8"),
    (b"evil\n22.php", CONTROL),
    (b"evil\x1b[2.php", CONTROL),
    (b"..\\evil.php", "its name has a backslash in it"),
    (b"C:\\evil.php", "its name has a backslash in it"),
    (b"index.php/e", "it lies below a file of the archive"),
];

fn tarred(hostile: &[Hostile<'_>]) -> Vec<u8> {
    let harmless = [Hostile(b"index.php", File), Hostile(b"lib/a.php", File)];
    let mut out = Vec::new();
    for Hostile(name, is) in harmless.iter().chain(hostile) {
        let mut header = tar::Header::new_ustar();
        let (kind, target) = match is {
            File => (tar::EntryType::Regular, ""),
            Symlink(target) => (tar::EntryType::Symlink, *target),
            Another(target) => (tar::EntryType::Link, *target),
            Special(kind) => (*kind, ""),
        };
        let old = header.as_old_mut();
        old.name[..name.len()].copy_from_slice(name);
        old.linkname[..target.len()].copy_from_slice(target.as_bytes());
        header.set_entry_type(kind);
        header.set_size(0);
        header.set_mode(0o6777);
        header.set_cksum();
        out.extend_from_slice(header.as_bytes());
    }
    out.resize(out.len() + 1024, 0);
    out
}

fn zipped(name: &[u8; 11]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for name in ["index.php", "lib/a.php", "xxxxxxxxxxx"] {
        writer.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        writer.write_all(b"<?php").unwrap();
    }
    let mut bytes = writer.finish().unwrap().into_inner();
    for at in 0..bytes.len() - name.len() {
        if bytes[at..].starts_with(b"xxxxxxxxxxx") {
            bytes[at..at + name.len()].copy_from_slice(name);
        }
    }
    bytes
}

fn gzipped(bytes: &[u8]) -> Vec<u8> {
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(bytes).unwrap();
    gzip.finish().unwrap()
}

#[test]
fn a_hostile_archive_writes_nothing() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "");
    give(&host.at("srv/www/berths"), 0, 0o755);
    host.file("index.php", 0, 0o644);
    let tars = TAR.iter().flat_map(|(hostile, why)| {
        let bytes = tarred(hostile);
        [(gzipped(&bytes), *why), (bytes, *why)]
    });
    let zips = ZIP.iter().map(|(name, why)| (zipped(name), *why));
    let corpus: Vec<(Vec<u8>, &str)> = tars.chain(zips).collect();
    assert!(corpus.len() > 60);
    for (bytes, why) in corpus {
        fs::write(host.at("bad"), &bytes).unwrap();
        let before = whole(&host.at(""));
        for words in [&["unpack", "bad", "berths", "--preview"][..], &["unpack", "bad", "berths", "--yes"]] {
            let ran = host.run(words);
            assert_eq!(ran.code, 2, "{why}: {ran:?}");
            let said = ran.out.split_whitespace().collect::<Vec<_>>().join(" ");
            assert!(said.contains(why) && ran.err.contains("nothing was changed"), "{why}: {ran:?}");
            assert!(!ran.out.contains(['\u{1b}', '\u{7f}']), "{why}: {ran:?}");
        }
        assert_eq!(whole(&host.at("")), before, "{why}");
    }
}
