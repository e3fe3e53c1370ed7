use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{MetadataExt, symlink};

use rstest::rstest;

use super::*;
use crate::acl::ACCESS_ATTRIBUTE;
use crate::entry::Kind;

/// Notes every path with its kind, size and whether it has an access list.
#[derive(Default)]
struct Notes {
    seen: BTreeMap<PathBuf, (Kind, u64, bool)>,
    troubles: Vec<(PathBuf, Trouble)>,
    closed: Option<&'static str>,
}

impl Visitor for Notes {
    type Data = ();

    fn entry(&mut self, dir: &Arc<Dir<()>>, look: &Look<'_>, facts: &Facts) -> Option<()> {
        let path = dir.path_of(look.name);
        let known = self.seen.insert(path, (facts.kind, facts.size, facts.rights.acl.is_some()));
        assert!(known.is_none(), "seen twice");
        let closed = self.closed.is_some_and(|name| look.os_name() == name);
        (facts.kind == Kind::Directory && !closed).then_some(())
    }

    fn trouble(&mut self, dir: &Arc<Dir<()>>, name: Option<&CStr>, trouble: Trouble) {
        let path = name.map_or_else(|| dir.path(), |name| dir.path_of(name));
        self.troubles.push((path, trouble));
    }
}

fn all(root: &Path, threads: usize, asking: fn() -> Near) -> Notes {
    let handle = rustix::fs::open(root, rustix::fs::OFlags::PATH, rustix::fs::Mode::empty()).unwrap();
    let id = sys::look_at(&handle).unwrap().id;
    let start = Arc::new(Dir::top(root, id, ()));
    let progress = Progress::default();
    let visitors = (0..threads).map(|_| Notes::default()).collect();
    let walked = walk_asking(vec![(handle, start)], visitors, &progress, asking, Bounds::now());
    let mut notes = Notes::default();
    for visitor in walked.visitors {
        notes.seen.extend(visitor.seen);
        notes.troubles.extend(visitor.troubles);
    }
    assert_eq!(progress.entries.into_inner(), u64::try_from(notes.seen.len()).unwrap());
    notes
}

/// The slow, plain way to the same answer.
fn plainly(root: &Path) -> BTreeMap<PathBuf, (Kind, u64)> {
    let mut found = BTreeMap::new();
    let mut folders = vec![root.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let meta = path.symlink_metadata().unwrap();
            if meta.is_dir() {
                folders.push(path.clone());
            }
            let mode = u16::try_from(meta.mode()).unwrap();
            found.insert(path, (Kind::of_st_mode(mode), meta.size()));
        }
    }
    found
}

/// Wide, deep, empty and linked folders.
fn tree() -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    let at = |path: &str| dir.path().join(path);
    fs::create_dir_all(at("wide")).unwrap();
    for n in 0..3 * BATCH + 7 {
        fs::write(at(&format!("wide/{n}")), vec![b'x'; n % 5]).unwrap();
    }
    for n in 0..40 {
        fs::create_dir_all(at(&format!("many/{n}/a/b"))).unwrap();
        fs::write(at(&format!("many/{n}/a/file")), "x").unwrap();
    }
    fs::create_dir_all(at(&"deep/".repeat(200))).unwrap();
    symlink("..", at("many/up")).unwrap();
    symlink("nowhere", at("many/dangling")).unwrap();
    let acl = crate::acl::Acl::with_users(
        crate::mode::Perm::RW,
        crate::mode::Perm::NONE,
        crate::mode::Perm::NONE,
        &[(crate::account::Uid(5), crate::mode::Perm::R)],
    );
    let listed = at("many/7/a/file");
    rustix::fs::setxattr(&listed, ACCESS_ATTRIBUTE, &acl.to_attribute(), rustix::fs::XattrFlags::empty()).unwrap();
    dir
}

#[rstest]
fn every_path_is_seen_once_whoever_sees_it(
    #[values(1, 2, 5)] threads: usize,
    #[values(Near::on_own_thread as fn() -> Near, Near::through_proc)] asking: fn() -> Near,
) {
    let dir = tree();
    let notes = all(dir.path(), threads, asking);
    let seen: BTreeMap<PathBuf, (Kind, u64)> =
        notes.seen.iter().map(|(path, (kind, size, _))| (path.clone(), (*kind, *size))).collect();
    assert_eq!(seen, plainly(dir.path()));
    let listed: Vec<&PathBuf> = notes.seen.iter().filter(|(_, (.., acl))| *acl).map(|(path, _)| path).collect();
    assert_eq!(listed, [&dir.path().join("many/7/a/file")]);
    assert_eq!(notes.troubles, []);
}

#[test]
fn a_folder_that_is_not_entered_stays_closed() {
    let dir = tree();
    let handle = rustix::fs::open(dir.path(), rustix::fs::OFlags::PATH, rustix::fs::Mode::empty()).unwrap();
    let id = sys::look_at(&handle).unwrap().id;
    let start = Arc::new(Dir::top(Path::new("/made-up"), id, ()));
    let closed = Notes { closed: Some("wide"), ..Notes::default() };
    let walked = walk(vec![(handle, start)], vec![closed], &Progress::default());
    let seen = &walked.visitors[0].seen;
    assert!(seen.contains_key(Path::new("/made-up/wide")) && !seen.contains_key(Path::new("/made-up/wide/1")));
}

#[test]
fn a_start_that_is_another_directory_by_now_is_trouble() {
    let dir = tree();
    let handle = rustix::fs::open(dir.path(), rustix::fs::OFlags::PATH, rustix::fs::Mode::empty()).unwrap();
    let start = Arc::new(Dir::top(Path::new("/x"), Identity { dev: 0, ino: 0, born: 0 }, ()));
    let walked = walk(vec![(handle, start)], vec![Notes::default()], &Progress::default());
    assert_eq!(walked.visitors[0].troubles, [(PathBuf::from("/x"), Trouble::Replaced)]);
}

/// A chain of folders, and folders that somebody changes meanwhile: the walk has an end.
#[rstest]
#[case::deep(Bounds { deepest: 7, began: i64::MAX, restless: 0 }, Trouble::TooDeep, 8)]
#[case::changed(Bounds { deepest: 100, began: 0, restless: 3 }, Trouble::Restless, 5)]
#[case::quiet(Bounds { deepest: 100, began: i64::MAX, restless: 3 }, Trouble::Vanished, 20)]
fn a_walk_is_bounded(#[case] bounds: Bounds, #[case] trouble: Trouble, #[case] seen: usize) {
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("d/".repeat(20))).unwrap();
    let handle = rustix::fs::open(dir.path(), rustix::fs::OFlags::PATH, rustix::fs::Mode::empty()).unwrap();
    let start = Arc::new(Dir::top(dir.path(), sys::look_at(&handle).unwrap().id, ()));
    let walked =
        walk_asking(vec![(handle, start)], vec![Notes::default()], &Progress::default(), Near::through_proc, bounds);
    let notes = &walked.visitors[0];
    let troubles: Vec<Trouble> = notes.troubles.iter().map(|(_, trouble)| *trouble).collect();
    assert_eq!(notes.seen.len(), seen);
    assert_eq!(troubles, if trouble == Trouble::Vanished { vec![] } else { vec![trouble] });
}

#[test]
fn a_very_long_chain_of_directories_is_taken_apart_without_a_deep_stack() {
    let id = Identity { dev: 0, ino: 0, born: 0 };
    let mut dir = Arc::new(Dir::top(Path::new("/"), id, ()));
    for _ in 0..200_000 {
        dir = Arc::new(Dir::below(&dir, c"d", id, false, ()));
    }
    assert_eq!(dir.path().iter().count(), 200_001);
    drop(dir);
}

#[test]
fn a_closer_look_reads_what_is_asked_for_and_no_more() {
    let dir = tempfile::tempdir().unwrap();
    fs::write(dir.path().join("program"), "#!/bin/sh\nexit\n").unwrap();
    symlink("program", dir.path().join("link")).unwrap();
    fs::create_dir(dir.path().join("folder")).unwrap();
    fs::write(dir.path().join("folder/inner"), "").unwrap();
    let handle = rustix::fs::open(dir.path(), rustix::fs::OFlags::PATH, rustix::fs::Mode::empty()).unwrap();
    let mut buffer = [0; 2];
    assert_eq!(Look::at(&handle, c"program").first_bytes(&mut buffer), Ok(&b"#!"[..]));
    let mut buffer = [0; 100];
    assert_eq!(Look::at(&handle, c"program").first_bytes(&mut buffer), Ok(&b"#!/bin/sh\nexit\n"[..]));
    assert_eq!(Look::at(&handle, c"link").first_bytes(&mut buffer), Err(Errno::LOOP));
    assert_eq!(Look::at(&handle, c"link").target(), Ok(b"program".to_vec()));
    assert_eq!(Look::at(&handle, c"folder").names_in_it(), ["inner"]);
    assert!(Look::at(&handle, c"program").names_in_it().is_empty());
}

#[rstest]
#[case::at_the_top("/", &[], "/")]
#[case::below_the_top("/", &["srv", "x"], "/srv/x")]
#[case::elsewhere("/srv/x", &[], "/srv/x")]
#[case::deep("/srv/x", &["a", "b c", "d"], "/srv/x/a/b c/d")]
fn a_directory_says_its_path(#[case] top: &str, #[case] names: &[&str], #[case] want: &str) {
    let id = Identity { dev: 1, ino: 2, born: 3 };
    let top = Arc::new(Dir::top(Path::new(top), id, ()));
    let dir = names
        .iter()
        .fold(top, |above, name| Arc::new(Dir::below(&above, &CString::new(*name).unwrap(), id, false, ())));
    assert_eq!(dir.path(), Path::new(want));
    assert_eq!(dir.path_of(c"last"), Path::new(want).join("last"));
}

/// A plain listing would set them: they are older than a day.
#[test]
fn who_only_looks_leaves_the_access_times_of_directories() {
    let dir = tempfile::tempdir().unwrap();
    let below = dir.path().join("below");
    fs::create_dir(&below).unwrap();
    fs::write(below.join("file"), "").unwrap();
    let long_ago = rustix::fs::Timespec { tv_sec: 1, tv_nsec: 0 };
    let times = rustix::fs::Timestamps { last_access: long_ago, last_modification: long_ago };
    for path in [dir.path(), &below] {
        rustix::fs::utimensat(rustix::fs::CWD, path, &times, rustix::fs::AtFlags::empty()).unwrap();
    }
    assert_eq!(all(dir.path(), 2, Near::on_own_thread).seen.len(), 2);
    assert_eq!([dir.path(), &below].map(|path| fs::metadata(path).unwrap().atime()), [1, 1]);
}
