//! Every system call that touches a tree: on handles, wrapped safely, deciding nothing.

mod attributes;

mod change;

use std::cell::Cell;
use std::ffi::CStr;
use std::io::Write as _;

use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::path::PathBuf;

use rustix::fs::{AtFlags, Mode as OpenMode, OFlags, Statx, StatxAttributes, StatxFlags};
use rustix::io::Errno;

use crate::account::{Gid, Uid};
use crate::entry::{Facts, Identity, Kind, Nanos, Rights};
use crate::mode::Mode;
use attributes::{get_at, list_at};
pub(crate) use attributes::{holds_acls, label_at, read_attributes};
pub(crate) use change::{
    create_directory, create_directory_with, create_file, create_unnamed, exchange, give_name, make_special,
    make_symlink, rename_new, set_attribute, set_mode, set_owner, set_times, sync_file_system, sync_names, unlink,
};

/// The attribute that holds file capabilities (capabilities(7)).
pub(crate) const CAPABILITIES: &str = "security.capability";
/// The attribute that holds the SELinux label.
pub(crate) const LABEL: &str = "security.selinux";

/// What one statx(2) asks for.
const ASKED: StatxFlags = StatxFlags::TYPE
    .union(StatxFlags::MODE)
    .union(StatxFlags::NLINK)
    .union(StatxFlags::UID)
    .union(StatxFlags::GID)
    .union(StatxFlags::INO)
    .union(StatxFlags::SIZE)
    .union(StatxFlags::CTIME)
    .union(StatxFlags::BTIME)
    .union(StatxFlags::MNT_ID);

#[cfg(feature = "faults")]
pub(crate) use super::faults::before_change;

/// Tests make changes fail here.
#[cfg(not(feature = "faults"))]
#[expect(clippy::unnecessary_wraps, reason = "with the feature `faults` it fails")]
pub(crate) const fn before_change() -> Result<(), Errno> {
    Ok(())
}

/// Repeats a call that a signal interrupted.
fn again<T>(mut call: impl FnMut() -> rustix::io::Result<T>) -> rustix::io::Result<T> {
    loop {
        match call() {
            Err(Errno::INTR) => {}
            answer => return answer,
        }
    }
}

/// The most that fits, for times that no file system of today has.
fn nanos(time: rustix::fs::StatxTimestamp) -> Nanos {
    time.tv_sec.saturating_mul(1_000_000_000).saturating_add(time.tv_nsec.into())
}

fn facts(stat: &Statx) -> Facts {
    Facts {
        kind: Kind::of_st_mode(stat.stx_mode),
        id: Identity {
            dev: rustix::fs::makedev(stat.stx_dev_major, stat.stx_dev_minor),
            ino: stat.stx_ino,
            born: if stat.stx_mask & StatxFlags::BTIME.bits() == 0 { 0 } else { nanos(stat.stx_btime) },
        },
        rights: Rights {
            uid: Uid(stat.stx_uid),
            gid: Gid(stat.stx_gid),
            mode: Mode::of_st_mode(stat.stx_mode),
            acl: None,
            default_acl: None,
            capabilities: None,
            label: None,
        },
        links: stat.stx_nlink,
        changed: nanos(stat.stx_ctime),
        size: stat.stx_size,
        mounted: stat.stx_attributes.contains(StatxAttributes::MOUNT_ROOT),
        mount: stat.stx_mnt_id,
        immutable: stat.stx_attributes.contains(StatxAttributes::IMMUTABLE),
        append_only: stat.stx_attributes.contains(StatxAttributes::APPEND),
        label_given: false,
    }
}

/// The facts about `name` in `dir`, without attributes; a symlink is not followed, a mount not triggered.
pub(crate) fn look(dir: impl AsFd, name: &CStr) -> Result<Facts, Errno> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
    again(|| rustix::fs::statx(&dir, name, flags, ASKED)).map(|stat| facts(&stat))
}

/// As [`look`], but of what a link of proc(5) leads to, whatever its path is now.
pub(crate) fn look_behind(dir: impl AsFd, name: &CStr) -> Result<Facts, Errno> {
    again(|| rustix::fs::statx(&dir, name, AtFlags::NO_AUTOMOUNT, ASKED)).map(|stat| facts(&stat))
}

/// The facts about what a handle holds, without attributes.
pub(crate) fn look_at(handle: impl AsFd) -> Result<Facts, Errno> {
    again(|| rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, ASKED)).map(|stat| facts(&stat))
}

/// The facts about what a handle holds, access lists and capabilities included.
pub(crate) fn look_whole(handle: impl AsFd) -> Result<Facts, Errno> {
    let mut facts = look_at(&handle)?;
    let handle = handle.as_fd();
    match read_attributes(
        &mut facts,
        true,
        |buffer| list_at(handle, buffer),
        |name, buffer| get_at(handle, name, buffer),
    ) {
        // The file system holds no attributes at all.
        Err(Errno::OPNOTSUPP) => Ok(facts),
        answer => answer.map(|()| facts),
    }
}

/// The way to what a handle holds that reaches the inode whatever its name is now (`proc_pid_fd(5)`).
pub(crate) fn proc_path(handle: BorrowedFd<'_>) -> PathBuf {
    PathBuf::from(format!("/proc/self/fd/{}", handle.as_raw_fd()))
}

thread_local! {
    /// Whether this thread's working directory is `/proc/self/fd`.
    static AMONG_HANDLES: Cell<bool> = const { Cell::new(false) };
}

/// Gives the calling thread a working directory of its own, `/proc/self/fd`, from where a handle's number is the
/// shortest way to what it holds. Where the system does not allow that the whole way is taken.
pub(crate) fn stand_among_handles() {
    let there = own_working_directory() && rustix::process::chdir("/proc/self/fd").is_ok();
    AMONG_HANDLES.set(there);
}

/// Takes the calling thread's working directory out of what it shares with the others (unshare(2), `CLONE_FS`).
pub(crate) fn own_working_directory() -> bool {
    #[expect(deprecated, reason = "unsafe only for the descriptor table, which stays shared here")]
    let unshared = rustix::thread::unshare(rustix::thread::UnshareFlags::FS);
    unshared.is_ok()
}

/// Makes a call on what a handle holds; where the handle only pins it, on the way to that.
fn on_handle<T>(
    handle: BorrowedFd<'_>,
    mut open: impl FnMut(BorrowedFd<'_>) -> Result<T, Errno>,
    pinned: impl FnMut(&CStr) -> Result<T, Errno>,
) -> Result<T, Errno> {
    match again(|| open(handle)) {
        Err(Errno::BADF) => by_handle(handle, pinned),
        answer => answer,
    }
}

/// Makes a call on the way to what a handle holds.
fn by_handle<T>(handle: BorrowedFd<'_>, mut call: impl FnMut(&CStr) -> Result<T, Errno>) -> Result<T, Errno> {
    let way = if AMONG_HANDLES.get() { "" } else { "/proc/self/fd/" };
    let mut buffer = [0_u8; 32];
    let mut rest = &mut buffer[..];
    // The buffer holds the way and any descriptor's digits.
    write!(rest, "{way}{}\0", handle.as_raw_fd()).map_err(|_| Errno::NAMETOOLONG)?;
    let path = CStr::from_bytes_until_nul(&buffer).map_err(|_| Errno::INVAL)?;
    again(|| call(path))
}

/// Pins `name` in `dir`: the link itself if it is one. Nothing of it is opened.
pub(crate) fn pin(dir: impl AsFd, name: &CStr) -> Result<OwnedFd, Errno> {
    open(dir, name, OFlags::PATH | OFlags::NOFOLLOW)
}

/// A handle on `name` in `dir`, for changing its rights: opened where it is a file or directory, which spares the way
/// through `/proc` with each call; else, and where it cannot be opened, pinned.
pub(crate) fn hold(dir: impl AsFd, name: &CStr, kind: Kind) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::NOCTTY;
    let opened = match kind {
        Kind::File => open(&dir, name, flags),
        Kind::Directory => open(&dir, name, flags | OFlags::DIRECTORY),
        Kind::Symlink | Kind::Fifo | Kind::Socket | Kind::Device => return pin(dir, name),
    };
    // It may have been replaced, or be one that its owner does not let us open now.
    opened.or_else(|_| pin(dir, name))
}

/// Opens the directory `name` in `dir` for listing; a symlink is refused.
pub(crate) fn open_directory(dir: impl AsFd, name: &CStr) -> Result<OwnedFd, Errno> {
    open_quietly(dir, name, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW)
}

/// Opens a pinned directory for listing.
pub(crate) fn reopen_directory(handle: impl AsFd) -> Result<OwnedFd, Errno> {
    open_quietly(handle, c".", OFlags::RDONLY | OFlags::DIRECTORY)
}

/// Opens the file `name` in `dir` for reading; a symlink is refused, a FIFO does not block.
pub(crate) fn open_file(dir: impl AsFd, name: &CStr) -> Result<OwnedFd, Errno> {
    open_quietly(dir, name, OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::NOCTTY)
}

/// Opens something for reading so that its access time stays, where that is allowed (`O_NOATIME`, open(2)): who only looks leaves no
/// trace, and after a change of rights each first reading would be written to the disk.
fn open_quietly(dir: impl AsFd, name: &CStr, flags: OFlags) -> Result<OwnedFd, Errno> {
    match open(&dir, name, flags | OFlags::NOATIME) {
        Err(Errno::PERM) => open(&dir, name, flags),
        opened => opened,
    }
}

/// Opens the file at `path` below `dir` for reading; no symlink on the way is followed, a FIFO does not block.
pub(crate) fn open_beneath(dir: impl AsFd, path: &std::path::Path) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    again(|| rustix::fs::openat2(&dir, path, flags, OpenMode::empty(), BENEATH))
}

/// Pins the directory at `path` below `dir`; no symlink on the way is followed.
pub(crate) fn open_directory_beneath(dir: impl AsFd, path: &std::path::Path) -> Result<OwnedFd, Errno> {
    let path = if path.as_os_str().is_empty() { std::path::Path::new(".") } else { path };
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    again(|| rustix::fs::openat2(&dir, path, flags, OpenMode::empty(), BENEATH))
}

/// Pins what is at `path` below `dir`; symlinks are followed as long as they stay below it (openat2(2)).
pub(crate) fn pin_within(dir: impl AsFd, path: &std::path::Path) -> Result<OwnedFd, Errno> {
    let path = if path.as_os_str().is_empty() { std::path::Path::new(".") } else { path };
    let within = rustix::fs::ResolveFlags::BENEATH | rustix::fs::ResolveFlags::NO_MAGICLINKS;
    again(|| rustix::fs::openat2(&dir, path, OFlags::PATH | OFlags::CLOEXEC, OpenMode::empty(), within))
}

/// Opens a pinned regular file for reading.
pub(crate) fn reopen_file(handle: impl AsFd) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    by_handle(handle.as_fd(), |path| rustix::fs::openat(rustix::fs::CWD, path, flags, OpenMode::empty()))
}

/// No way leads out, and none through a symlink (openat2(2)).
const BENEATH: rustix::fs::ResolveFlags =
    rustix::fs::ResolveFlags::BENEATH.union(rustix::fs::ResolveFlags::NO_SYMLINKS);

fn open(dir: impl AsFd, name: &CStr, flags: OFlags) -> Result<OwnedFd, Errno> {
    again(|| rustix::fs::openat(&dir, name, flags | OFlags::CLOEXEC, OpenMode::empty()))
}

/// Up to `buffer.len()` bytes from the beginning of what was a regular file a moment ago.
pub(crate) fn first_bytes(dir: impl AsFd, name: &CStr, buffer: &mut [u8]) -> Result<usize, Errno> {
    read_some(open_file(dir, name)?, buffer)
}

/// Up to `buffer.len()` bytes from the end of a regular file.
pub(crate) fn last_bytes(dir: impl AsFd, name: &CStr, buffer: &mut [u8]) -> Result<usize, Errno> {
    let file = open_file(dir, name)?;
    let length = i64::try_from(buffer.len()).unwrap_or(i64::MAX);
    // A file that is shorter is read from its beginning.
    if rustix::fs::seek(&file, rustix::fs::SeekFrom::End(-length)).is_err() {
        rustix::fs::seek(&file, rustix::fs::SeekFrom::Start(0))?;
    }
    read_some(file, buffer)
}

/// Up to `buffer.len()` bytes of an opened regular file, from where it stands.
pub(crate) fn read_some(file: impl AsFd, buffer: &mut [u8]) -> Result<usize, Errno> {
    // A regular file gives all that there is at once.
    again(|| rustix::io::read(&file, &mut *buffer))
}

/// All that an opened regular file holds; `FBIG` where that is more than `longest` bytes.
pub(crate) fn content(file: impl AsFd, longest: usize) -> Result<Vec<u8>, Errno> {
    let mut bytes = Vec::new();
    let mut buffer = [0; 1 << 14];
    loop {
        match again(|| rustix::io::read(&file, &mut buffer))? {
            0 => return Ok(bytes),
            length if bytes.len() + length > longest => return Err(Errno::FBIG),
            length => bytes.extend_from_slice(&buffer[..length]),
        }
    }
}

/// Writes all of `bytes` to a file opened for writing; nothing where there are none.
pub(crate) fn write_all(file: impl AsFd, mut bytes: &[u8]) -> Result<(), Errno> {
    before_change()?;
    while !bytes.is_empty() {
        let written = again(|| rustix::io::write(&file, bytes))?;
        bytes = &bytes[written..];
    }
    Ok(())
}

/// Writes a question to a file of the kernel's interface and reads the answer from the same handle.
pub(crate) fn ask_kernel(file: &std::path::Path, question: &[u8]) -> Result<Vec<u8>, Errno> {
    let flags = OFlags::RDWR | OFlags::CLOEXEC;
    let handle = again(|| rustix::fs::open(file, flags, OpenMode::empty()))?;
    again(|| rustix::io::write(&handle, question))?;
    let mut answer = vec![0; 4096];
    let length = again(|| rustix::io::read(&handle, &mut answer))?;
    answer.truncate(length);
    Ok(answer)
}

/// The target of the symlink `name` in `dir`.
pub(crate) fn read_link(dir: impl AsFd, name: &CStr) -> Result<Vec<u8>, Errno> {
    again(|| rustix::fs::readlinkat(&dir, name, Vec::new())).map(std::ffi::CString::into_bytes)
}

/// An extended attribute's name and value.
pub(crate) type Attribute = (Vec<u8>, Vec<u8>);

/// Every extended attribute of what a handle holds, with its value, sorted.
pub(crate) fn attributes(handle: impl AsFd) -> Result<Vec<Attribute>, Errno> {
    let handle = handle.as_fd();
    let mut names = vec![0_u8; 1 << 16];
    let length = match list_at(handle, &mut names) {
        Ok(length) => length,
        Err(Errno::OPNOTSUPP) => 0,
        Err(error) => return Err(error),
    };
    let mut found = Vec::new();
    for name in names[..length].split_inclusive(|&b| b == 0) {
        let Ok(name) = CStr::from_bytes_with_nul(name) else { continue };
        let mut value = vec![0_u8; 1 << 16];
        match get_at(handle, name, &mut value) {
            Ok(length) => found.push((name.to_bytes().to_vec(), value[..length].to_vec())),
            Err(Errno::NODATA) => {}
            Err(error) => return Err(error),
        }
    }
    found.sort();
    Ok(found)
}

/// Access and modification time, in seconds and nanoseconds since 1970.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Times {
    pub(crate) accessed: (i64, u32),
    pub(crate) modified: (i64, u32),
}

/// When the content of `name` in `dir` was changed last.
pub(crate) fn modified(dir: impl AsFd, name: &CStr) -> Result<Nanos, Errno> {
    let stat = again(|| rustix::fs::statx(&dir, name, AtFlags::SYMLINK_NOFOLLOW, StatxFlags::MTIME))?;
    Ok(nanos(stat.stx_mtime))
}

/// Opens the file at `path` below `dir` for writing, and writes nothing; no symlink on the way is followed.
pub(crate) fn open_for_writing(dir: impl AsFd, path: &std::path::Path) -> Result<OwnedFd, Errno> {
    let flags = OFlags::WRONLY | OFlags::APPEND | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    again(|| rustix::fs::openat2(&dir, path, flags, OpenMode::empty(), BENEATH))
}

/// Makes a new file at `path` below `dir`, for nobody but the caller; no symlink on the way is followed.
pub(crate) fn create_beneath(dir: impl AsFd, path: &std::path::Path) -> Result<OwnedFd, Errno> {
    before_change()?;
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC;
    again(|| rustix::fs::openat2(&dir, path, flags, OpenMode::RUSR | OpenMode::WUSR, BENEATH))
}

/// The times of what a handle holds.
pub(crate) fn times(handle: impl AsFd) -> Result<Times, Errno> {
    let asked = StatxFlags::ATIME | StatxFlags::MTIME;
    let stat = again(|| rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, asked))?;
    let of = |time: rustix::fs::StatxTimestamp| (time.tv_sec, time.tv_nsec);
    Ok(Times { accessed: of(stat.stx_atime), modified: of(stat.stx_mtime) })
}

/// When what a handle holds was last changed in any way (`st_ctime`): nobody can set that.
pub(crate) fn change_time(handle: impl AsFd) -> Result<(i64, u32), Errno> {
    let stat = again(|| rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, StatxFlags::CTIME))?;
    Ok((stat.stx_ctime.tv_sec, stat.stx_ctime.tv_nsec))
}

/// The names in a directory that was opened for listing, `.` and `..` left out, in no order.
pub(crate) fn names(dir: impl AsFd) -> Result<Vec<std::ffi::CString>, Errno> {
    let mut buffer = Vec::with_capacity(1 << 15);
    let mut entries = rustix::fs::RawDir::new(dir, buffer.spare_capacity_mut());
    let mut names = Vec::new();
    while let Some(entry) = entries.next() {
        let name = entry?.file_name().to_owned();
        if !matches!(name.to_bytes(), b"." | b"..") {
            names.push(name);
        }
    }
    Ok(names)
}

/// The major and minor number of the character device that a handle holds; nothing where it is none.
pub(crate) fn device_number(handle: impl AsFd) -> Result<Option<(u32, u32)>, Errno> {
    let stat = again(|| rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, StatxFlags::TYPE))?;
    let character = stat.stx_mode & 0o170_000 == 0o020_000;
    Ok(character.then_some((stat.stx_rdev_major, stat.stx_rdev_minor)))
}

/// How many bytes the file system has set aside for what a handle holds.
pub(crate) fn allocated(handle: impl AsFd) -> Result<u64, Errno> {
    let stat = again(|| rustix::fs::statx(&handle, c"", AtFlags::EMPTY_PATH, StatxFlags::BLOCKS))?;
    // Counted in units of 512 bytes, whatever the file system's blocks are (statx(2)).
    Ok(stat.stx_blocks.saturating_mul(512))
}

/// How many bytes can still be written to the file system that a handle is on, by others than root too.
pub(crate) fn free(handle: impl AsFd) -> Result<u64, Errno> {
    let stat = again(|| rustix::fs::fstatvfs(&handle))?;
    Ok(stat.f_bavail.saturating_mul(stat.f_frsize))
}

/// How many bytes the file system that a handle is on holds, used and free.
pub(crate) fn capacity(handle: impl AsFd) -> Result<u64, Errno> {
    let stat = again(|| rustix::fs::fstatvfs(&handle))?;
    Ok(stat.f_blocks.saturating_mul(stat.f_frsize))
}

/// Lets the kernel forget what it holds of a file, so that reading it asks the disk; where it does not, that is its affair.
pub(crate) fn forget_cached(file: impl AsFd) {
    let _ = rustix::fs::fadvise(file, 0, None, rustix::fs::Advice::DontNeed);
}

/// Pins the directory `name` in `dir`; a symlink is refused.
pub(crate) fn pin_directory(dir: impl AsFd, name: &CStr) -> Result<OwnedFd, Errno> {
    open(dir, name, OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW)
}
