//! How long the kernel takes for the calls alone, on all cores: what no audit and no change can be faster than.
//!
//! `bare_calls DIR CALLS…` prints the seconds; benches/run.sh calls it. CALLS is a list of:
//! - `look`: statx of each name, always made;
//! - `lists`: llistxattr of each name, which tells of access lists and capabilities;
//! - `labels`: lgetxattr of each name's SELinux label;
//! - `programs`: open, read and close of each file, which tells whether it is a program;
//! - `change`: open, statx, fchmod, fchown, statx, flistxattr and close of each name, which gives it to root with mode 0755 or 0644.

use std::ffi::CStr;
use std::fs;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Instant;

use rustix::fs::{AtFlags, FileType, Gid, Mode, OFlags, RawDir, StatxFlags, Uid};

#[derive(Clone, Copy)]
struct Calls {
    lists: bool,
    labels: bool,
    programs: bool,
    change: bool,
}

const FLAGS: OFlags = OFlags::RDONLY.union(OFlags::NOFOLLOW).union(OFlags::NONBLOCK).union(OFlags::CLOEXEC);

fn main() -> io::Result<()> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let Some((dir, calls)) = words.split_first() else {
        return Err(io::Error::other("usage: bare_calls DIR CALLS…"));
    };
    let has = |word: &str| calls.iter().any(|call| call == word);
    let calls = Calls { lists: has("lists"), labels: has("labels"), programs: has("programs"), change: has("change") };
    let mut dirs = vec![PathBuf::from(dir)];
    let mut seen = 0;
    while let Some(dir) = dirs.get(seen) {
        seen += 1;
        let below: Vec<_> =
            fs::read_dir(dir)?.flatten().filter(|it| it.file_type().is_ok_and(|it| it.is_dir())).collect();
        dirs.extend(below.iter().map(fs::DirEntry::path));
    }
    let next = AtomicUsize::new(0);
    let began = Instant::now();
    std::thread::scope(|scope| {
        let threads = std::thread::available_parallelism().map_or(1, Into::into);
        let running: Vec<_> = (0..threads).map(|_| scope.spawn(|| work(&dirs, &next, calls))).collect();
        running.into_iter().try_for_each(|thread| thread.join().map_err(|_| io::Error::other("a thread panicked"))?)
    })?;
    writeln!(io::stdout(), "{:.4}", began.elapsed().as_secs_f64())
}

fn work(dirs: &[PathBuf], next: &AtomicUsize, calls: Calls) -> io::Result<()> {
    #[expect(deprecated, reason = "unsafe only for the descriptor table, which stays shared here")]
    rustix::thread::unshare(rustix::thread::UnshareFlags::FS)?;
    while let Some(dir) = dirs.get(next.fetch_add(1, Ordering::Relaxed)) {
        each(dir, calls)?;
    }
    Ok(())
}

fn each(dir: &Path, calls: Calls) -> io::Result<()> {
    let handle = rustix::fs::open(dir, FLAGS | OFlags::DIRECTORY, Mode::empty())?;
    rustix::process::fchdir(&handle)?;
    let mut listing = Vec::with_capacity(1 << 15);
    let mut entries = RawDir::new(&handle, listing.spare_capacity_mut());
    while let Some(entry) = entries.next() {
        let entry = entry?;
        let name = entry.file_name();
        if !matches!(name.to_bytes(), b"." | b"..") {
            one(name, calls)?;
        }
    }
    Ok(())
}

fn one(name: &CStr, calls: Calls) -> io::Result<()> {
    let wanted = StatxFlags::BASIC_STATS | StatxFlags::BTIME;
    let facts = rustix::fs::statx(rustix::fs::CWD, name, AtFlags::SYMLINK_NOFOLLOW, wanted)?;
    let kind = FileType::from_raw_mode(facts.stx_mode.into());
    let mut buffer = [0_u8; 256];
    if calls.lists {
        rustix::fs::llistxattr(name, &mut buffer)?;
    }
    if calls.labels {
        let _none = rustix::fs::lgetxattr(name, c"security.selinux", &mut buffer);
    }
    if calls.programs && kind == FileType::RegularFile {
        let file = rustix::fs::open(name, FLAGS | OFlags::NOATIME, Mode::empty())?;
        rustix::io::read(file, &mut buffer[..4])?;
    }
    if calls.change {
        let (flags, mode) =
            if kind == FileType::Directory { (OFlags::DIRECTORY, 0o755) } else { (OFlags::empty(), 0o644) };
        let file = rustix::fs::open(name, FLAGS | flags, Mode::empty())?;
        rustix::fs::statx(&file, c"", AtFlags::EMPTY_PATH, wanted)?;
        rustix::fs::fchmod(&file, Mode::from_raw_mode(mode))?;
        rustix::fs::fchown(&file, Some(Uid::ROOT), Some(Gid::ROOT))?;
        rustix::fs::statx(&file, c"", AtFlags::EMPTY_PATH, wanted)?;
        rustix::fs::flistxattr(&file, &mut buffer)?;
    }
    Ok(())
}
