//! The calls that change something: each passes through the gate [`before_change`].

use std::ffi::CStr;
use std::os::fd::{AsFd, OwnedFd};

use rustix::fs::{AtFlags, Mode as OpenMode, OFlags, Timespec, XattrFlags};
use rustix::io::Errno;

use super::{Times, again, before_change, by_handle, look, on_handle, reopen_directory};
use crate::account::{Gid, Uid};
use crate::entry::Kind;
use crate::mode::Mode;

/// Makes the file `name` in `dir`, for nobody but the caller, and opens it for reading and writing; an existing one is
/// refused.
pub(crate) fn create_file(dir: impl AsFd, name: &CStr) -> Result<OwnedFd, Errno> {
    before_change()?;
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    again(|| rustix::fs::openat(&dir, name, flags, OpenMode::RUSR | OpenMode::WUSR))
}

/// Makes a file without a name on the file system of `dir`, for nobody but the caller, and opens it for writing: it is
/// gone with the handle unless [`give_name`] gives it a name (open(2), `O_TMPFILE`).
pub(crate) fn create_unnamed(dir: impl AsFd) -> Result<OwnedFd, Errno> {
    before_change()?;
    let flags = OFlags::RDWR | OFlags::TMPFILE | OFlags::CLOEXEC;
    again(|| rustix::fs::openat(&dir, c".", flags, OpenMode::RUSR | OpenMode::WUSR))
}

/// Gives a file without a name the name `name` in `dir`; an existing one stays (`EXIST`).
pub(crate) fn give_name(file: impl AsFd, dir: impl AsFd, name: &CStr) -> Result<(), Errno> {
    before_change()?;
    by_handle(file.as_fd(), |path| rustix::fs::linkat(rustix::fs::CWD, path, &dir, name, AtFlags::SYMLINK_FOLLOW))
}

/// Makes the directory `name` in `dir`, for nobody but the caller.
pub(crate) fn create_directory(dir: impl AsFd, name: &CStr) -> Result<(), Errno> {
    create_directory_with(dir, name, Mode::of_st_mode(0o700))
}

/// Makes the directory `name` in `dir` with this mode, or less where the umask says so.
pub(crate) fn create_directory_with(dir: impl AsFd, name: &CStr, mode: Mode) -> Result<(), Errno> {
    before_change()?;
    let mode = OpenMode::from_raw_mode(mode.bits().into());
    again(|| rustix::fs::mkdirat(&dir, name, mode))
}

/// Sets owner and group of what a handle holds; of a symlink, its own.
pub(crate) fn set_owner(handle: impl AsFd, uid: Uid, gid: Gid) -> Result<(), Errno> {
    before_change()?;
    let uid = rustix::fs::Uid::from_raw(uid.0);
    let gid = rustix::fs::Gid::from_raw(gid.0);
    // What is open has a shorter way than through a path, were it empty.
    match again(|| rustix::fs::fchown(&handle, Some(uid), Some(gid))) {
        Err(Errno::BADF) => again(|| rustix::fs::chownat(&handle, c"", Some(uid), Some(gid), AtFlags::EMPTY_PATH)),
        answer => answer,
    }
}

/// Sets the permission bits of what a handle holds, which is no symlink.
pub(crate) fn set_mode(handle: impl AsFd, mode: Mode) -> Result<(), Errno> {
    before_change()?;
    let bits = OpenMode::from_raw_mode(mode.bits().into());
    let by_path = |path: &CStr| rustix::fs::chmodat(rustix::fs::CWD, path, bits, AtFlags::empty());
    on_handle(handle.as_fd(), |open| rustix::fs::fchmod(open, bits), by_path)
}

/// Sets an extended attribute of what a handle holds, of a symlink, its own; nothing removes it.
pub(crate) fn set_attribute(handle: impl AsFd, name: &str, value: Option<&[u8]>) -> Result<(), Errno> {
    before_change()?;
    let flags = XattrFlags::empty();
    let answer = match value {
        Some(value) => on_handle(
            handle.as_fd(),
            |open| rustix::fs::fsetxattr(open, name, value, flags),
            |path| rustix::fs::setxattr(path, name, value, flags),
        ),
        None => on_handle(
            handle.as_fd(),
            |open| rustix::fs::fremovexattr(open, name),
            |path| rustix::fs::removexattr(path, name),
        ),
    };
    match (value, answer) {
        (None, Err(Errno::NODATA)) => Ok(()),
        (_, answer) => answer,
    }
}

/// Sets the times of what a handle holds; of a symlink, its own.
pub(crate) fn set_times(handle: impl AsFd, times: Times) -> Result<(), Errno> {
    before_change()?;
    let of = |(seconds, nanos): (i64, u32)| Timespec { tv_sec: seconds, tv_nsec: nanos.into() };
    let times = rustix::fs::Timestamps { last_access: of(times.accessed), last_modification: of(times.modified) };
    let by_path = |path: &CStr| rustix::fs::utimensat(rustix::fs::CWD, path, &times, AtFlags::empty());
    on_handle(handle.as_fd(), |open| rustix::fs::futimens(open, &times), by_path)
}

/// Removes the name of a file, or an empty directory.
pub(crate) fn unlink(dir: impl AsFd, name: &CStr, directory: bool) -> Result<(), Errno> {
    before_change()?;
    let flags = if directory { AtFlags::REMOVEDIR } else { AtFlags::empty() };
    again(|| rustix::fs::unlinkat(&dir, name, flags))
}

/// Gives `old` in `old_dir` the name `name` in `dir`; what is there already stays (`EXIST`).
pub(crate) fn rename_new(old_dir: impl AsFd, old: &CStr, dir: impl AsFd, name: &CStr) -> Result<(), Errno> {
    before_change()?;
    let flags = rustix::fs::RenameFlags::NOREPLACE;
    match again(|| rustix::fs::renameat_with(&old_dir, old, &dir, name, flags)) {
        // The file system does not know the flag: look first.
        Err(Errno::INVAL | Errno::NOSYS) => match look(&dir, name) {
            Ok(_) => Err(Errno::EXIST),
            Err(Errno::NOENT) => again(|| rustix::fs::renameat(&old_dir, old, &dir, name)),
            Err(errno) => Err(errno),
        },
        answer => answer,
    }
}

/// Exchanges what has one name in two directories, in one step; where the file system cannot, in three.
pub(crate) fn exchange(one: impl AsFd, other: impl AsFd, name: &CStr) -> Result<(), Errno> {
    before_change()?;
    match again(|| rustix::fs::renameat_with(&one, name, &other, name, rustix::fs::RenameFlags::EXCHANGE)) {
        Err(Errno::INVAL | Errno::NOSYS) => {
            let aside = c".ambrik-aside";
            again(|| rustix::fs::renameat(&other, name, &one, aside))?;
            rename_new(&one, name, &other, name)?;
            again(|| rustix::fs::renameat(&one, aside, &one, name))
        }
        answer => answer,
    }
}

/// Returns once the names in a directory are on the disk.
pub(crate) fn sync_names(dir: impl AsFd) -> Result<(), Errno> {
    before_change()?;
    rustix::fs::fsync(reopen_directory(dir)?)
}

/// Returns once everything written to the file system that `dir` is on is on the disk.
pub(crate) fn sync_file_system(dir: impl AsFd) -> Result<(), Errno> {
    before_change()?;
    // A pinned directory is no open file: it is opened for this.
    rustix::fs::syncfs(reopen_directory(dir)?)
}

/// Makes the symlink `name` in `dir`.
pub(crate) fn make_symlink(dir: impl AsFd, name: &CStr, target: &[u8]) -> Result<(), Errno> {
    before_change()?;
    again(|| rustix::fs::symlinkat(target, &dir, name))
}

/// Makes a FIFO, a socket that nobody listens on, or a whiteout (a character device 0:0, mknod(2)), for nobody but the
/// caller.
pub(crate) fn make_special(dir: impl AsFd, name: &CStr, kind: Kind) -> Result<(), Errno> {
    before_change()?;
    let kind = match kind {
        Kind::Fifo => rustix::fs::FileType::Fifo,
        Kind::Socket => rustix::fs::FileType::Socket,
        Kind::Device => rustix::fs::FileType::CharacterDevice,
        Kind::File | Kind::Directory | Kind::Symlink => return Err(Errno::INVAL),
    };
    again(|| rustix::fs::mknodat(&dir, name, kind, OpenMode::RUSR | OpenMode::WUSR, 0))
}
