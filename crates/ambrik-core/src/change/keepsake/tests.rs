use super::records::read_time;
use super::*;
use proptest::prelude::*;
use rstest::rstest;

#[rstest]
#[case((0, 0), "0.000000000")]
#[case((12, 5), "12.000000005")]
#[case((-1, 750_000_000), "-0.250000000")]
#[case((-2, 0), "-2.000000000")]
fn times_are_paxs(#[case] time: (i64, u32), #[case] text: &str) {
    assert_eq!(shown_time(time), text);
    assert_eq!(read_time(text.as_bytes()), Some(time));
}

fn nowhere(path: &Path) -> Result<OwnedFd, Failure> {
    panic!("{} must not be opened", path.display())
}

/// An archive with one entry of these records.
fn archive(records: &[(&str, &str)], kind: EntryType) -> Vec<u8> {
    let mut archive = tar::Builder::new(Vec::new());
    let mut written = Records::default();
    for (key, value) in records {
        written.add(key.as_bytes(), value.as_bytes());
    }
    written.write(&mut archive, "x").unwrap();
    let mut header = Header::new_ustar();
    header.set_entry_type(kind);
    header.set_uid(0);
    header.set_gid(0);
    header.set_mode(0o600);
    header.set_size(0);
    header.set_path("x").unwrap();
    header.set_cksum();
    archive.append(&header, io::empty()).unwrap();
    archive.into_inner().unwrap()
}

#[rstest]
#[case::leads_upwards(&[("path", "srv/../etc/passwd"), ("mtime", "0"), ("atime", "0")])]
#[case::has_no_path(&[("mtime", "0"), ("atime", "0")])]
#[case::has_no_times(&[("path", "srv/x")])]
#[case::has_a_broken_time(&[("path", "srv/x"), ("mtime", "soon"), ("atime", "0")])]
fn an_archive_that_ambrik_did_not_write_is_refused(#[case] records: &[(&str, &str)]) {
    let bytes = archive(records, EntryType::Regular);
    let restored = restore(&*bytes, Path::new("/"), false, &mut nowhere);
    assert!(restored.unwrap_err().to_string().contains("does not write"));
}

#[test]
fn only_what_is_asked_for_is_restored() {
    let bytes = archive(&[("path", "srv/other"), ("mtime", "0"), ("atime", "0")], EntryType::Regular);
    assert_eq!(restore(&*bytes, Path::new("/srv/x"), false, &mut nowhere).unwrap().0, 0);
}

#[test]
fn an_archive_that_is_cut_off_is_an_error() {
    let bytes = archive(&[("path", "srv/x"), ("mtime", "0"), ("atime", "0")], EntryType::Regular);
    assert!(restore(&bytes[..700], Path::new("/srv/y"), false, &mut nowhere).is_err());
}

#[test]
fn what_is_packed_is_listed_with_folders_first_and_goes_content_first() {
    let dir = tempfile::tempdir().unwrap();
    std::fs::create_dir_all(dir.path().join("a/b")).unwrap();
    std::fs::write(dir.path().join("a/b/c"), "x").unwrap();
    let open = |path: &Path| {
        let flags = rustix::fs::OFlags::PATH | rustix::fs::OFlags::DIRECTORY;
        rustix::fs::open(path, flags, rustix::fs::Mode::empty()).map_err(|errno| Failure::Os(Op::Open, errno))
    };
    let top = open(dir.path()).unwrap();
    let mut packer = Packer::<io::Sink>::new(None);
    packer.add(top.as_fd(), c"a", &dir.path().join("a"), None).unwrap();
    let packed = packer.finish().unwrap().1;
    let names: Vec<&Path> = packed.iter().map(|p| p.path.strip_prefix(dir.path()).unwrap()).collect();
    assert_eq!(names, [Path::new("a"), Path::new("a/b"), Path::new("a/b/c")]);

    std::fs::write(dir.path().join("a/b/c"), "changed since").unwrap();
    let failures = remove(&packed, &mut { open });
    let left: Vec<&Path> = failures.iter().map(|(path, _)| path.strip_prefix(dir.path()).unwrap()).collect();
    assert_eq!(
        left,
        [Path::new("a/b/c"), Path::new("a/b"), Path::new("a")],
        "nothing that changed goes, nor what it is in"
    );
    assert!(dir.path().join("a/b/c").exists());
}

/// A folder that is too deep is refused, and only that one.
#[test]
fn what_is_too_deep_keeps_nothing_else_from_being_packed() {
    let dir = tempfile::tempdir().unwrap();
    for folder in ["deep/".to_owned() + &"d/".repeat(DEEPEST + 1), "other/folder".into()] {
        std::fs::create_dir_all(dir.path().join(folder)).unwrap();
    }
    crate::tree::raise_file_limit();
    let top = rustix::fs::open(dir.path(), rustix::fs::OFlags::PATH, rustix::fs::Mode::empty()).unwrap();
    let mut packer = Packer::<std::io::Sink>::new(None);
    let refused = packer.add(top.as_fd(), c"deep", Path::new("/deep"), None);
    assert!(matches!(refused, Err((_, Failure::Os(Op::Keep, rustix::io::Errno::NAMETOOLONG)))), "{refused:?}");
    assert!(packer.add(top.as_fd(), c"other", Path::new("/other"), None).is_ok());
}

proptest! {
    #[test]
    fn any_bytes_are_restored_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..1500)) {
        let _ = restore(&*bytes, Path::new("/nowhere"), false, &mut nowhere);
    }

    #[test]
    fn records_come_back(records in proptest::collection::vec(("[a-zA-Z.]{1,12}", proptest::collection::vec(any::<u8>(), 0..200)), 0..6)) {
        let mut written = Records::default();
        for (key, value) in &records {
            written.add(key.as_bytes(), value);
        }
        let want: Vec<_> = records.into_iter().map(|(k, v)| (k.into_bytes(), v)).collect();
        prop_assert_eq!(Records::read(&written.0), want);
    }

    #[test]
    fn times_come_back(seconds in -5_000_000_000i64..5_000_000_000, nanos in 0u32..1_000_000_000) {
        prop_assert_eq!(read_time(shown_time((seconds, nanos)).as_bytes()), Some((seconds, nanos)));
    }

    #[test]
    fn any_header_is_read_or_cut(bytes in proptest::collection::vec(any::<u8>(), 0..100)) {
        let _ = Records::read(&bytes);
    }
}

#[test]
fn only_what_was_just_made_is_dressed() {
    let dir = tempfile::tempdir().unwrap();
    let at = |name: &str| dir.path().join(name);
    std::fs::write(at("foreign"), "x").unwrap();
    std::fs::hard_link(at("foreign"), at("put-there-instead")).unwrap();
    std::os::unix::fs::symlink("foreign", at("link")).unwrap();
    std::fs::create_dir(at("folder")).unwrap();
    let flags = rustix::fs::OFlags::PATH | rustix::fs::OFlags::DIRECTORY;
    let top = rustix::fs::open(dir.path(), flags, rustix::fs::Mode::empty()).unwrap();
    assert!(newly_made(&top, c"folder", Kind::Directory).is_ok());
    assert!(newly_made(&top, c"link", Kind::Symlink).is_ok());
    assert!(matches!(newly_made(&top, c"put-there-instead", Kind::Fifo), Err(Failure::Replaced)));
    assert!(
        matches!(newly_made(&top, c"put-there-instead", Kind::File), Err(Failure::Replaced)),
        "it has a second name"
    );
    assert!(matches!(newly_made(&top, c"link", Kind::Directory), Err(Failure::Replaced)));
}
