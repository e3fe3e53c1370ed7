use std::ffi::CString;
use std::fs::File;
use std::io::{self, BufReader, Read as _, Seek as _, Write as _};
use std::os::fd::{AsFd as _, OwnedFd};
use std::path::Path;

use proptest::prelude::*;
use rstest::rstest;
use tar::{EntryType, Header};

use super::records::{Records, read_time, shown_time};
use super::unpack::Restored;
use super::*;
use crate::tree::{Op, sys};

#[rstest]
#[case((0, 0), "0.000000000")]
#[case((12, 5), "12.000000005")]
#[case((-1, 750_000_000), "-0.250000000")]
#[case((-2, 0), "-2.000000000")]
fn times_are_paxs(#[case] time: (i64, u32), #[case] text: &str) {
    assert_eq!(shown_time(time), text);
    assert_eq!(read_time(text.as_bytes()), Some(time));
}

fn take_out(bytes: &[u8], root: &str) -> io::Result<Restored> {
    restore(bytes, Path::new(root), How::default(), &mut Successors::default(), &mut nowhere)
}

fn nowhere(path: &Path) -> Result<OwnedFd, Failure> {
    panic!("{} must not be opened", path.display())
}

/// An archive with one entry of these records.
fn archive(records: &[(&str, &str)], kind: EntryType) -> Vec<u8> {
    let mut written = Records::default();
    for (key, value) in records {
        written.add(key.as_bytes(), value.as_bytes());
    }
    let mut archive = tar::Builder::new(Vec::new());
    archive.append(&written.header("x").unwrap(), &*written.0).unwrap();
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
#[case::lies_in_itself(&[("path", "srv/x/y"), ("mtime", "0"), ("atime", "0"), ("AMBRIK.in", "0")])]
#[case::has_a_broken_inode(&[("path", "srv/x"), ("mtime", "0"), ("atime", "0"), ("AMBRIK.inode", "1 2")])]
fn an_archive_that_ambrik_did_not_write_is_refused(#[case] records: &[(&str, &str)]) {
    let bytes = archive(records, EntryType::Regular);
    assert!(take_out(&bytes, "/srv/x").unwrap_err().to_string().contains("does not write"));
}

#[test]
fn only_what_is_asked_for_is_restored() {
    let bytes = archive(&[("path", "srv/other"), ("mtime", "0"), ("atime", "0")], EntryType::Regular);
    assert_eq!(take_out(&bytes, "/srv/x").unwrap().done, 0);
}

#[test]
fn an_archive_that_is_cut_off_is_an_error() {
    let bytes = archive(&[("path", "srv/x"), ("mtime", "0"), ("atime", "0")], EntryType::Regular);
    assert!(take_out(&bytes[..700], "/srv/y").is_err());
}

/// A folder on disk that things are packed from, removed from and restored to.
struct Ground {
    dir: tempfile::TempDir,
}

impl Ground {
    fn new() -> Self {
        crate::tree::raise_file_limit();
        Self { dir: tempfile::tempdir().unwrap() }
    }

    fn at(&self, path: &str) -> PathBuf {
        self.dir.path().join(path)
    }

    fn file(&self, path: &str, content: &[u8]) {
        std::fs::create_dir_all(self.at(path).parent().unwrap()).unwrap();
        std::fs::write(self.at(path), content).unwrap();
    }

    fn handle(&self) -> OwnedFd {
        open(self.dir.path()).unwrap()
    }

    /// Packs `name` into an archive in memory that may take `room` bytes.
    fn pack(&self, names: &[&str], room: u64) -> (Vec<u8>, Inventory, Vec<PathFailure>) {
        let mut packer = Packer::new(Vec::new(), room);
        for name in names {
            let c_name = CString::new(*name).unwrap();
            packer.add(self.handle().as_fd(), &c_name, &self.at(name), None).unwrap();
        }
        packer.finish().unwrap()
    }

    fn remove(&self, packed: &mut Inventory) -> (u64, Vec<PathFailure>) {
        let all = 0..packed.len();
        remove(packed, all, self.handle())
    }

    fn restore(&self, archive: &[u8], name: &str, how: How) -> Restored {
        restore(archive, &self.at(name), how, &mut Successors::default(), &mut open).unwrap()
    }

    fn relative(&self, failures: &[PathFailure]) -> Vec<PathBuf> {
        failures.iter().map(|(path, _)| path.strip_prefix(self.dir.path()).unwrap().to_owned()).collect()
    }
}

fn open(path: &Path) -> Result<OwnedFd, Failure> {
    let flags = rustix::fs::OFlags::PATH | rustix::fs::OFlags::DIRECTORY;
    rustix::fs::open(path, flags, rustix::fs::Mode::empty()).map_err(|errno| Failure::Os(Op::Open, errno))
}

const PLENTY: u64 = u64::MAX;

#[test]
fn what_is_packed_is_listed_with_folders_first_and_goes_content_first() {
    let ground = Ground::new();
    ground.file("a/b/c", b"x");
    ground.file("a/d", b"x");
    let (_, mut packed, failures) = ground.pack(&["a"], PLENTY);
    let names: Vec<PathBuf> = (0..packed.len()).map(|n| packed.path(n)).collect();
    assert_eq!(names, ["a", "a/b", "a/b/c", "a/d"].map(|name| ground.at(name)));
    assert!(failures.is_empty());
    std::fs::write(ground.at("a/b/c"), "changed since").unwrap();
    let (removed, failures) = ground.remove(&mut packed);
    assert_eq!(
        (removed, ground.relative(&failures)),
        (1, vec![PathBuf::from("a/b/c")]),
        "what it is in stays silently"
    );
    assert!(ground.at("a/b/c").exists() && !ground.at("a/d").exists());
}

/// What fails while it is read leaves no trace, what comes after it is whole: a file of sysfs says that it holds more than
/// it does.
#[test]
fn what_breaks_off_while_it_is_packed_swallows_nothing() {
    let ground = Ground::new();
    ground.file("after/kept", b"content");
    let mut packer = Packer::new(Vec::new(), PLENTY);
    let sysfs = open(Path::new("/sys/kernel")).unwrap();
    packer.add(sysfs.as_fd(), c"uevent_seqnum", Path::new("/sys/kernel/uevent_seqnum"), None).unwrap();
    packer.add(ground.handle().as_fd(), c"after", &ground.at("after"), None).unwrap();
    let (archive, mut packed, failures) = packer.finish().unwrap();
    assert!(matches!(&failures[..], [(path, Failure::Differs)] if path.ends_with("uevent_seqnum")), "{failures:?}");
    assert_eq!(packed.len(), 2);
    assert!(verify(&*archive, &mut packed).is_empty());
    assert!(ground.remove(&mut packed).1.is_empty() && !ground.at("after").exists());
    let restored = ground.restore(&archive, "after", How::default());
    assert!(restored.failures.is_empty(), "{:?}", restored.failures);
    assert_eq!(std::fs::read(ground.at("after/kept")).unwrap(), b"content");
}

/// One byte that is not what was written, anywhere: nothing is removed that would not come back.
#[rstest]
fn what_does_not_read_back_is_not_removed(#[values(0, 600, 1100, 1700, 2600, 3200, 5700)] at: usize) {
    let ground = Ground::new();
    for name in ["a/one", "a/two", "a/three"] {
        ground.file(name, &[7; 700]);
    }
    let (mut archive, mut packed, _) = ground.pack(&["a"], PLENTY);
    assert!(verify(&*archive, &mut packed).is_empty());
    archive[at] ^= 1;
    let failures = verify(&*archive, &mut packed);
    assert!(!failures.is_empty());
    let named = ground.relative(&failures);
    ground.remove(&mut packed);
    for path in named {
        assert!(ground.at(path.to_str().unwrap()).exists(), "{}", path.display());
    }
    assert!(ground.at("a").exists());
    // An archive that is cut off is good up to there.
    let (archive, mut packed, _) = ground.pack(&["a"], PLENTY);
    assert!(!verify(&archive[..archive.len() / 2], &mut packed).is_empty());
}

#[test]
fn what_there_is_no_room_for_stays_and_the_rest_goes() {
    let ground = Ground::new();
    ground.file("a/big", &vec![1; 100_000]);
    ground.file("a/small", b"x");
    let (archive, mut packed, failures) = ground.pack(&["a"], 20_000);
    assert!(matches!(&failures[..], [(path, Failure::NoRoom { .. })] if path.ends_with("big")), "{failures:?}");
    assert!(archive.len() <= 20_000);
    assert!(verify(&*archive, &mut packed).is_empty());
    assert_eq!(ground.remove(&mut packed).0, 1);
    assert!(ground.at("a/big").exists() && !ground.at("a/small").exists());
    // What is listed is what it takes.
    let mut packer = Packer::listing();
    let all = packer.add(ground.handle().as_fd(), c"a", &ground.at("a"), None).unwrap();
    let (whole, ..) = ground.pack(&["a"], PLENTY);
    assert_eq!(packer.listed().0.stored(&all) + 1024, whole.len() as u64);
}

#[test]
fn holes_stay_holes_both_ways() {
    use std::os::unix::fs::MetadataExt as _;
    let ground = Ground::new();
    ground.file("a/sparse", b"");
    let mut file = File::options().write(true).open(ground.at("a/sparse")).unwrap();
    file.set_len(1 << 40).unwrap();
    file.seek(io::SeekFrom::Start(1 << 39)).unwrap();
    file.write_all(b"in the middle").unwrap();
    drop(file);
    let (archive, mut packed, failures) = ground.pack(&["a"], 1 << 20);
    assert!(failures.is_empty() && archive.len() < 1 << 16, "{failures:?} {}", archive.len());
    assert!(verify(&*archive, &mut packed).is_empty());
    ground.remove(&mut packed);
    assert!(ground.restore(&archive, "a", How::default()).failures.is_empty());
    let meta = ground.at("a/sparse").metadata().unwrap();
    assert_eq!(meta.len(), 1 << 40);
    assert!(meta.blocks() * 512 < 1 << 20);
    let mut file = File::open(ground.at("a/sparse")).unwrap();
    file.seek(io::SeekFrom::Start(1 << 39)).unwrap();
    let mut text = [0; 13];
    file.read_exact(&mut text).unwrap();
    assert_eq!(&text, b"in the middle");
}

/// Deeper than any path can say, with names as long as they can be: it goes, and comes back.
#[test]
fn any_depth_goes_and_comes_back() {
    let ground = Ground::new();
    std::fs::create_dir(ground.at("deep")).unwrap();
    let (levels, name) = (1_500, "n".repeat(255));
    let mut dir = open(&ground.at("deep")).unwrap();
    for _ in 0..levels {
        rustix::fs::mkdirat(&dir, &*name, rustix::fs::Mode::RWXU).unwrap();
        dir = rustix::fs::openat(&dir, &*name, rustix::fs::OFlags::PATH, rustix::fs::Mode::empty()).unwrap();
    }
    drop(sys::create_file(&dir, c"end").unwrap());
    drop(dir);
    let (archive, mut packed, failures) = ground.pack(&["deep"], PLENTY);
    assert_eq!((packed.len(), failures.len()), (levels + 2, 0));
    assert!(archive.len() < levels * 60_000, "not the square of the depth: {}", archive.len());
    assert!(verify(BufReader::new(&*archive), &mut packed).is_empty());
    assert_eq!(ground.remove(&mut packed), (levels as u64 + 2, Vec::new()));
    assert!(!ground.at("deep").exists());
    let restored = ground.restore(&archive, "deep", How::default());
    assert_eq!((restored.done, restored.failures.len()), (levels as u64 + 2, 0), "{:?}", restored.failures.first());
    let (_, mut packed, _) = ground.pack(&["deep"], PLENTY);
    assert_eq!(packed.len(), levels + 2);
    ground.remove(&mut packed);
}

/// Everything that anybody can make without being root, whiteouts of overlays among it.
#[test]
fn every_kind_that_anybody_can_make_goes_and_comes_back() {
    let ground = Ground::new();
    ground.file("a/file", b"x");
    std::fs::hard_link(ground.at("a/file"), ground.at("a/second")).unwrap();
    std::os::unix::fs::symlink("file", ground.at("a/link")).unwrap();
    let dir = open(&ground.at("a")).unwrap();
    for (name, kind) in [(c"pipe", Kind::Fifo), (c"socket", Kind::Socket), (c"whiteout", Kind::Device)] {
        sys::make_special(&dir, name, kind).unwrap();
    }
    let kinds = || -> Vec<(CString, Kind, u32)> {
        let mut names = sys::names(sys::reopen_directory(dir_again(&ground)).unwrap()).unwrap();
        names.sort();
        let look = |name: &CString| sys::look(dir_again(&ground), name).unwrap();
        names.into_iter().map(|name| (name.clone(), look(&name).kind, look(&name).links)).collect()
    };
    let before = kinds();
    let (archive, mut packed, failures) = ground.pack(&["a"], PLENTY);
    assert_eq!((packed.len(), failures.len()), (7, 0), "{failures:?}");
    assert!(verify(&*archive, &mut packed).is_empty());
    assert!(ground.remove(&mut packed).1.is_empty());
    assert!(ground.restore(&archive, "a", How::default()).failures.is_empty());
    assert_eq!(kinds(), before);
}

fn dir_again(ground: &Ground) -> OwnedFd {
    open(&ground.at("a")).unwrap()
}

/// What a run leaves that was stopped between making something and dressing it is gone on with, and nothing else is.
#[rstest]
fn what_was_made_and_not_dressed_is_gone_on_with(#[values(true, false)] resumed: bool) {
    let ground = Ground::new();
    std::fs::create_dir(ground.at("a")).unwrap();
    std::os::unix::fs::symlink("file", ground.at("a/link")).unwrap();
    sys::make_special(dir_again(&ground), c"pipe", Kind::Fifo).unwrap();
    let long_ago = rustix::fs::Timespec { tv_sec: 1_234, tv_nsec: 5 };
    let times = rustix::fs::Timestamps { last_access: long_ago, last_modification: long_ago };
    for name in ["link", "pipe"] {
        let flags = rustix::fs::AtFlags::SYMLINK_NOFOLLOW;
        rustix::fs::utimensat(dir_again(&ground), name, &times, flags).unwrap();
    }
    let (archive, mut packed, _) = ground.pack(&["a"], PLENTY);
    ground.remove(&mut packed);
    // The stopped run: everything made, nothing dressed.
    sys::create_directory(ground.handle(), c"a").unwrap();
    sys::make_symlink(dir_again(&ground), c"link", b"file").unwrap();
    sys::make_special(dir_again(&ground), c"pipe", Kind::Fifo).unwrap();
    let restored = ground.restore(&archive, "a", How { resumed, force: false });
    assert_eq!(restored.failures.is_empty(), resumed, "{:?}", restored.failures);
    if resumed {
        let pipe = sys::pin(dir_again(&ground), c"pipe").unwrap();
        assert_eq!(sys::times(&pipe).unwrap().modified, (1_234, 5));
    }
}

/// A folder that somebody else put there is not filled, unless somebody answers for it.
#[rstest]
fn a_foreign_folder_is_not_filled(#[values(false, true)] force: bool) {
    let ground = Ground::new();
    ground.file("a/one", b"x");
    let (archive, mut packed, _) = ground.pack(&["a"], PLENTY);
    ground.remove(&mut packed);
    std::fs::create_dir(ground.at("a")).unwrap();
    let restored = ground.restore(&archive, "a", How { resumed: false, force });
    assert_eq!((ground.at("a/one").exists(), restored.failures.len()), (force, usize::from(!force)));
}

/// On file systems that know no files without a name: what a killed run left goes, and what is there stays.
#[test]
fn a_file_gets_its_name_once_it_is_whole() {
    let ground = Ground::new();
    let top = ground.handle();
    let begin = || new_file::NewFile::begin_named(top.as_fd(), c"file").unwrap();
    let names = || sys::names(sys::reopen_directory(&top).unwrap()).unwrap();
    drop(begin());
    assert!(!ground.at("file").exists());
    begin().give_name(top.as_fd(), c"file").unwrap();
    assert_eq!(names(), [CString::from(c"file")]);
    assert_eq!(begin().give_name(top.as_fd(), c"file"), Err(rustix::io::Errno::EXIST));
    begin().discard(top.as_fd());
    assert_eq!(names(), [CString::from(c"file")]);
}

#[test]
fn successors_are_followed_from_one_to_the_next() {
    let id = |ino| Identity { dev: 1, ino, born: i64::try_from(ino).unwrap() * 10 };
    let mut successors = Successors::default();
    successors.add(id(1), id(2));
    successors.add(id(2), id(3));
    successors.add(id(4), id(4));
    assert!(successors.is(&id(3), &id(1)) && successors.is(&id(3), &id(3)));
    assert!(!successors.is(&id(1), &id(3)) && !successors.is(&id(5), &id(1)));
    assert_eq!(successors.new.len(), 2, "what is still the same is no successor");
    successors.know(id(3), id(1));
    assert!(!successors.is(&id(9), &id(1)), "a ledger that was tampered with ends as well");
}

proptest! {
    #[test]
    fn any_bytes_are_restored_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..1500)) {
        let _ = take_out(&bytes, "/nowhere");
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
    assert!(newly_made(top.as_fd(), c"folder", Kind::Directory).is_ok());
    assert!(newly_made(top.as_fd(), c"link", Kind::Symlink).is_ok());
    assert!(matches!(newly_made(top.as_fd(), c"put-there-instead", Kind::Fifo), Err(Failure::Replaced)));
    assert!(
        matches!(newly_made(top.as_fd(), c"put-there-instead", Kind::File), Err(Failure::Replaced)),
        "it has a second name"
    );
    assert!(matches!(newly_made(top.as_fd(), c"link", Kind::Directory), Err(Failure::Replaced)));
}

/// What fuzzing begins from is an archive of this format, with one object of every kind in it.
#[test]
fn the_corpus_of_the_fuzz_target_is_an_archive() {
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus/keepsake/everything");
    let mut packed = 0;
    for entry in tar::Archive::new(File::open(corpus).unwrap()).entries().unwrap().raw(true) {
        packed += usize::from(entry.unwrap().header().entry_type() != EntryType::XHeader);
    }
    assert_eq!(packed, 7);
}
