//! What processes of an account hold open for writing, or mapped so (`proc_pid_fd(5)`, `proc_pid_fdinfo(5)`,
//! `proc_pid_map_files(5)`): rights that are taken away later do not close it.

use std::collections::HashMap;
use std::ffi::CString;
use std::fmt;
use std::os::fd::OwnedFd;

use crate::account::Uid;
use crate::entry::{Identity, Kind};
use crate::shown::Shown;
use crate::tree::sys;

/// A process that holds a file open for writing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holder {
    /// Its number.
    pub pid: u32,
    /// Its program's name, as the kernel has it.
    pub program: String,
    /// Its pool, of php-fpm.
    pub pool: Option<String>,
    /// Whether it has the file mapped, not opened.
    pub mapped: bool,
    /// The command that ends it gently.
    pub ends: String,
}

impl fmt::Display for Holder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let pool = self.pool.as_ref().map(|pool| format!(", pool {pool}")).unwrap_or_default();
        let how = if self.mapped { ", mapped" } else { "" };
        write!(f, "process {} ({}{pool}{how}); {} ends it", self.pid, self.program, self.ends)
    }
}

/// The files that processes of `uid` on this system hold open for writing, or have mapped shared and writable, by their
/// inodes: a path means nothing where a process has mounts of its own.
#[must_use]
pub(crate) fn held_by(uid: Uid) -> HeldFiles {
    let mut found = HeldFiles::default();
    let Ok(proc) = rustix::fs::open("/proc", rustix::fs::OFlags::DIRECTORY, rustix::fs::Mode::empty()) else {
        return found;
    };
    let own = std::process::id();
    for name in sys::names(&proc).unwrap_or_default() {
        let pid = name.to_str().ok().and_then(|name| name.parse::<u32>().ok()).filter(|pid| *pid != own);
        let Some(pid) = pid else { continue };
        let Ok(folder) = sys::open_directory(&proc, &name) else { continue };
        if let Some(process) = HoldingProcess::of(folder, pid, uid) {
            process.add_to(&mut found.files);
            found.unseen += usize::from(process.is_closed());
        }
    }
    found
}

/// What processes hold open for writing.
#[derive(Debug, Default)]
pub(crate) struct HeldFiles {
    /// By inode.
    pub(crate) files: HashMap<Identity, Holder>,
    /// How many of the processes could not be looked into.
    pub(crate) unseen: usize,
}

struct HoldingProcess {
    folder: OwnedFd,
    pid: u32,
    parent: u32,
    program: String,
}

/// The content of a small file of proc(5).
fn text(folder: &OwnedFd, name: &str) -> Option<String> {
    let file = sys::open_file(folder, &CString::new(name).ok()?).ok()?;
    Some(String::from_utf8_lossy(&sys::content(&file, 1 << 20).ok()?).into_owned())
}

impl HoldingProcess {
    /// The process, where one of its user ids is `uid`.
    fn of(folder: OwnedFd, pid: u32, uid: Uid) -> Option<Self> {
        let status = text(&folder, "status")?;
        let field = |name: &str| status.lines().find_map(|line| line.strip_prefix(name)).map(str::trim);
        let is = |id: &str| id.parse() == Ok(uid.0);
        field("Uid:")?.split_whitespace().any(is).then_some(())?;
        let parent = field("PPid:")?.parse().ok()?;
        let program = field("Name:")?.to_owned();
        Some(Self { folder, pid, parent, program })
    }

    fn add_to(&self, found: &mut HashMap<Identity, Holder>) {
        for (id, mapped) in
            self.opened().into_iter().map(|id| (id, false)).chain(self.mapped().into_iter().map(|id| (id, true)))
        {
            found.entry(id).or_insert_with(|| self.holder(mapped));
        }
    }

    /// Whether it is there, and what it has open cannot be seen.
    fn is_closed(&self) -> bool {
        use rustix::io::Errno;
        let refused = |errno: &Errno| matches!(*errno, Errno::ACCESS | Errno::PERM);
        // The names can be listed by who may read folders; what is behind them is another right (ptrace(2), PTRACE_MODE_READ).
        let behind = sys::open_directory(&self.folder, c"fd").and_then(|handles| {
            let names = sys::names(&handles)?;
            names.iter().try_for_each(|name| match sys::look_behind(&handles, name) {
                Err(errno) if refused(&errno) => Err(errno),
                _ => Ok(()),
            })
        });
        behind.is_err_and(|errno| refused(&errno))
    }

    /// The regular files that it has open for writing.
    fn opened(&self) -> Vec<Identity> {
        let folder = |name| sys::open_directory(&self.folder, name).ok();
        let (Some(handles), Some(infos)) = (folder(c"fd"), folder(c"fdinfo")) else { return Vec::new() };
        let names = sys::names(&handles).unwrap_or_default();
        let for_writing = |name: &CString| {
            let info = text(&infos, name.to_str().ok()?)?;
            let flags = info.lines().find_map(|line| line.strip_prefix("flags:"))?;
            let flags = u32::from_str_radix(flags.trim(), 8).ok()?;
            // O_WRONLY or O_RDWR (open(2)); a handle that only pins (O_PATH) writes nothing.
            (flags & 0o3 != 0 && flags & 0o10_000_000 == 0).then_some(())
        };
        let opened = names.iter().filter(|name| for_writing(name).is_some());
        opened.filter_map(|name| file_behind(&handles, name)).collect()
    }

    /// The regular files that it has mapped shared and writable.
    fn mapped(&self) -> Vec<Identity> {
        let Some(maps) = text(&self.folder, "maps") else { return Vec::new() };
        let Ok(links) = sys::open_directory(&self.folder, c"map_files") else { return Vec::new() };
        let shared = maps.lines().filter_map(|line| {
            let mut words = line.split_whitespace();
            let (range, rights) = (words.next()?, words.next()?.as_bytes());
            (rights.get(1) == Some(&b'w') && rights.get(3) == Some(&b's')).then_some(range)
        });
        // The links leave the zeros out that the list begins its addresses with.
        let plain = |range: &str| {
            let ends = range.split('-').map(|end| u64::from_str_radix(end, 16).ok().map(|end| format!("{end:x}")));
            CString::new(ends.collect::<Option<Vec<_>>>()?.join("-")).ok()
        };
        shared.filter_map(|range| file_behind(&links, &plain(range)?)).collect()
    }

    fn holder(&self, mapped: bool) -> Holder {
        let line = text(&self.folder, "cmdline").unwrap_or_default();
        let pool = line.split_once(": pool ").map(|(_, pool)| pool.trim_end_matches(['\0', ' ']).to_owned());
        let unit = text(&self.folder, "cgroup").unwrap_or_default();
        let unit = unit.lines().find_map(|line| line.rsplit('/').next().filter(|name| name.ends_with(".service")));
        let ends = match (unit, &pool) {
            (Some(unit), _) => format!("systemctl reload-or-restart {unit}"),
            (None, Some(_)) => format!("kill -USR2 {}", self.parent),
            (None, None) => format!("kill {}", self.pid),
        };
        let shown = |text: &str| Shown(std::path::Path::new(text)).to_string();
        let pool = pool.as_deref().map(shown);
        Holder { pid: self.pid, program: shown(&self.program), pool, mapped, ends: shown(&ends) }
    }
}

/// Which regular file a link of proc(5) leads to, if it still has a name.
fn file_behind(folder: &OwnedFd, name: &CString) -> Option<Identity> {
    let facts = sys::look_behind(folder, name).ok()?;
    (facts.kind == Kind::File && facts.links > 0).then_some(facts.id)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::{Command, Stdio};

    /// A child that waits with a file open in some way, whatever account the test runs as.
    fn waiting(stdout: Stdio) -> std::process::Child {
        Command::new("cat").stdin(Stdio::piped()).stdout(stdout).spawn().unwrap()
    }

    #[test]
    fn what_is_open_for_writing_is_found_and_what_is_read_is_not() {
        let dir = tempfile::tempdir().unwrap();
        let at = |name: &str| {
            let path = dir.path().join(name);
            std::fs::write(&path, "x").unwrap();
            path
        };
        let (written, read) = (at("written"), at("read"));
        let me = Uid(rustix::process::geteuid().as_raw());
        let mut one = waiting(std::fs::OpenOptions::new().append(true).open(&written).unwrap().into());
        let mut other = waiting(std::fs::File::open(&read).unwrap().into());
        let id = |path: &std::path::Path| {
            let file: OwnedFd = std::fs::File::open(path).unwrap().into();
            sys::look_at(&file).unwrap().id
        };
        let found = held_by(me);
        let found = found.files;
        let holder = found.get(&id(&written)).unwrap();
        assert_eq!((holder.pid, &*holder.program, holder.mapped), (one.id(), "cat", false));
        assert!(!found.contains_key(&id(&read)));
        assert!(!held_by(Uid(u32::MAX - 5)).files.contains_key(&id(&written)));
        for child in [&mut one, &mut other] {
            drop(child.stdin.take());
            child.wait().unwrap();
        }
        assert!(!held_by(me).files.contains_key(&id(&written)));
    }
}
