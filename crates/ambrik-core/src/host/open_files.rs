//! Which processes hold files open below a directory (`proc_pid_fd(5)`).

use std::ffi::OsString;
use std::os::unix::ffi::OsStringExt as _;
use std::path::{Path, PathBuf};

use crate::tree::{Host, WayError, sys};

/// A process that holds something open.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holding {
    /// Its number.
    pub pid: u32,
    /// Its program's name, as the kernel has it.
    pub program: String,
    /// What it holds open; the first of them.
    pub path: PathBuf,
}

/// What a look at all processes found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OpenFiles {
    /// The processes that hold files open, or work, in the directory; in the order of their numbers.
    pub holding: Vec<Holding>,
    /// How many processes could not be looked at.
    pub unseen: usize,
}

/// The processes of `host` that hold `path`, or something below it, open, or have it as their working directory.
#[must_use]
pub fn open_below(host: &Host, path: &Path) -> OpenFiles {
    let names = host.names_in(Path::new("/proc")).unwrap_or_default();
    let mut pids: Vec<u32> = names.iter().filter_map(|name| name.to_str()?.parse().ok()).collect();
    pids.sort_unstable();
    let own = std::process::id();
    let mut found = OpenFiles::default();
    for pid in pids.into_iter().filter(|pid| !(host.is_this() && *pid == own)) {
        match held(host, pid, path) {
            Ok(Some(held)) => {
                let name = host.read(Path::new(&format!("/proc/{pid}/comm")), 1 << 10).unwrap_or_default();
                let program = String::from_utf8_lossy(&name).trim().to_owned();
                found.holding.push(Holding { pid, program, path: held });
            }
            // Gone meanwhile, or of the kernel.
            Ok(None) | Err(WayError::Missing(_) | WayError::NoDirectory(_)) => {}
            Err(_) => found.unseen += 1,
        }
    }
    found
}

/// The first thing at or below `path` that a process holds.
fn held(host: &Host, pid: u32, path: &Path) -> Result<Option<PathBuf>, WayError> {
    let process = PathBuf::from(format!("/proc/{pid}"));
    let folder = host.resolve(&process)?.handle;
    let target = |name: &std::ffi::CStr| {
        let bytes = sys::read_link(&folder, name).ok()?;
        Some(PathBuf::from(OsString::from_vec(bytes))).filter(|target| target.starts_with(path))
    };
    if let Some(works_in) = target(c"cwd") {
        return Ok(Some(works_in));
    }
    for name in host.names_in(&process.join("fd"))? {
        let way = std::ffi::CString::new([b"fd/", name.into_vec().as_slice()].concat()).unwrap_or_default();
        if let Some(open) = target(&way) {
            return Ok(Some(open));
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_process_holds_is_found_and_nothing_beside_it() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("data/ledger.db");
        std::fs::create_dir_all(file.parent().unwrap()).unwrap();
        std::fs::write(&file, "x").unwrap();
        let host = Host::this().unwrap();
        let held = |path: &Path| open_below(&host, path).holding;
        assert_eq!(held(dir.path()), []);
        // It waits on its input.
        let waiting = std::process::Command::new("cat")
            .stdin(std::process::Stdio::piped())
            .stdout(std::fs::OpenOptions::new().append(true).open(&file).unwrap())
            .spawn();
        let mut waiting = waiting.unwrap();
        let found = held(&dir.path().join("data"));
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!((found[0].pid, &*found[0].path), (waiting.id(), &*file));
        assert_eq!(held(&dir.path().join("dat")), []);
        drop(waiting.stdin.take());
        waiting.wait().unwrap();
        assert_eq!(held(dir.path()), []);
    }
}
