//! An application surveyed before it is unpacked: laid out for the caller alone, in a folder that stands for the host.

use std::collections::BTreeMap;
use std::ffi::CString;
use std::io::Read;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use rustix::io::Errno;

use super::{Survey, survey};
use crate::account::Accounts;
use crate::archive::{Archive, ArchiveError, ArchiveLook, PackedKind};
use crate::entry::TreePath;
use crate::host::Services;
use crate::nested::Ground;
use crate::shown::Shown;
use crate::tree::{Host, Progress, WayError, sys};

/// Why an archive cannot be surveyed.
#[derive(Debug, thiserror::Error)]
pub enum PackedError {
    /// It cannot be read.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
    /// It cannot be laid out.
    #[error("cannot lay {} out to look at it: {}", Shown(.0), .1)]
    LaidOut(PathBuf, Errno),
    /// What was laid out cannot be looked at.
    #[error(transparent)]
    Way(#[from] WayError),
}

/// Surveys what is in an archive as if it were unpacked at `root` of a host. `private` is an empty folder of the caller's alone, which
/// it is laid out in; `accounts`, `services` and `others` are those of the host.
pub fn survey_archive(
    (archive, found): (&Archive, &ArchiveLook),
    (host, private, root): (&Host, &Path, &Path),
    (accounts, services): (&Accounts, &Services),
    others: &[Ground],
    progress: &Progress,
) -> Result<Survey, PackedError> {
    let place = host.destination(Path::new("/"), root);
    let private = Host::at(private)?.resolve(Path::new("/"))?.handle;
    let laid_out = |errno| PackedError::LaidOut(root.to_owned(), errno);
    let (host, dir) = host.with_stand_in(private, &place).map_err(laid_out)?;
    lay_out(archive, found, &dir)?;
    Ok(survey(&host, accounts, services, root, others, None, progress)?)
}

fn lay_out(archive: &Archive, found: &ArchiveLook, dir: &OwnedFd) -> Result<(), PackedError> {
    let failed = |path: &Path| {
        let path = path.to_owned();
        move |errno| PackedError::LaidOut(path, errno)
    };
    let mut by_content: BTreeMap<&Path, Vec<&Path>> = BTreeMap::new();
    for (path, entry) in found.entries.iter().map(|(path, entry)| (path.as_ref(), entry)) {
        match &entry.kind {
            PackedKind::File { .. } => by_content.entry(&entry.content).or_default().push(path),
            PackedKind::Directory => {
                in_place(dir, path, |dir, name| sys::create_directory(dir, name)).map_err(failed(path))?;
            }
            PackedKind::Symlink(target) => {
                let target = target.as_os_str().as_bytes();
                in_place(dir, path, |dir, name| sys::make_symlink(dir, name, target)).map_err(failed(path))?;
            }
        }
    }
    let mut stopped = None;
    archive.each(&mut |entry, content| {
        let paths = entry.path().and_then(|name| by_content.remove(&*name)).unwrap_or_default();
        if stopped.is_none() && !paths.is_empty() {
            let size = match found.entries.get(&TreePath::of(paths[0])).map(|entry| &entry.kind) {
                Some(PackedKind::File { size, .. }) => *size,
                _ => 0,
            };
            stopped = write(dir, &paths, size, content).err();
        }
        Ok(())
    })?;
    stopped.map_or(Ok(()), Err)
}

/// Does something in the directory that a path is in, with its name there.
fn in_place<T>(
    dir: &OwnedFd,
    path: &Path,
    what: impl FnOnce(&OwnedFd, &std::ffi::CStr) -> Result<T, Errno>,
) -> Result<T, Errno> {
    let name = CString::new(path.file_name().unwrap_or_default().as_bytes()).map_err(|_| Errno::INVAL)?;
    match path.parent().filter(|above| !above.as_os_str().is_empty()) {
        None => what(dir, &name),
        Some(above) => what(&sys::open_directory_beneath(dir, above)?, &name),
    }
}

fn write(dir: &OwnedFd, paths: &[&Path], size: u64, content: &mut dyn Read) -> Result<(), PackedError> {
    let failed = |errno| PackedError::LaidOut(paths[0].to_owned(), errno);
    let files: Vec<OwnedFd> = paths
        .iter()
        .map(|path| in_place(dir, path, |dir, name| sys::create_file(dir, name)))
        .collect::<Result<_, _>>()
        .map_err(failed)?;
    let mut buffer = vec![0; 1 << 16];
    let mut content = content.take(size);
    loop {
        let count =
            content.read(&mut buffer).map_err(|cause| failed(Errno::from_io_error(&cause).unwrap_or(Errno::IO)))?;
        if count == 0 {
            return Ok(());
        }
        for file in &files {
            sys::write_all(file, &buffer[..count]).map_err(failed)?;
        }
    }
}
