//! After an install or upgrade: what appeared in the tree meanwhile, and the proof on disk that PHP can write where it
//! should and nowhere else.

use std::ffi::CStr;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use rustix::io::Errno;
use rustix::thread::{set_thread_groups, set_thread_res_gid, set_thread_res_uid};

use crate::account::{Ids, Uid};
use crate::audit::{AuditError, places};
use crate::entry::{Facts, Kind};
use crate::policy::{Cursor, Policy, Right};
use crate::signals;
use crate::site::{Phase, Site, Use, Write};
use crate::tree::{Dir, Host, Look, Progress, Trouble, Visitor, sys, walk};

/// A file that was not there when the window was opened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Appeared {
    /// Relative to the root, or absolute outside it.
    pub path: PathBuf,
    /// What makes it worth a look, the worst first: a program, PHP, or neither.
    pub kind: &'static str,
}

/// What a look afterwards found.
#[derive(Debug, Default)]
pub struct Afterwards {
    /// The files that appeared outside the parts that php may always write to: programs and PHP files first.
    pub appeared: Vec<Appeared>,
    /// Settings that php must not write to.
    settings: Vec<Spot>,
    /// Some of the other files that it must not write to.
    closed: Vec<Spot>,
    /// The directories that php must be able to write to.
    writable: Vec<Spot>,
}

/// A path, below a place where a walk began.
#[derive(Clone, Debug)]
struct Spot {
    start: PathBuf,
    below: PathBuf,
}

/// Of as many files that php must not write to it is tried whether it can.
const TRIED: usize = 200;

/// Looks at a sealed site once more; what was made at or after `since` appeared.
pub fn afterwards(
    host: &Host,
    site: &Arc<Site>,
    since: Option<Timestamp>,
    progress: &Progress,
) -> Result<Afterwards, AuditError> {
    let policy = Policy::new(Arc::clone(site), Phase::Sealed);
    let mut seeker = Seeker { policy: &policy, since: since.map(parts), found: Afterwards::default() };
    let mut dirs = Vec::new();
    for (path, resolved) in places(host, site)? {
        let cursor = policy.at(&path);
        if resolved.facts.kind == Kind::Directory {
            seeker.directory(&cursor, &path, Path::new(""));
            let data = Data { cursor, start: path.as_path().into() };
            dirs.push((resolved.handle, Arc::new(Dir::top(&path, resolved.facts.id, data))));
        }
    }
    let mut found = Afterwards::default();
    for seeker in walk(dirs, vec![seeker], progress).visitors {
        found = seeker.found;
    }
    for appeared in &mut found.appeared {
        appeared.path = crate::audit::relative(&site.root, &appeared.path);
    }
    found.appeared.sort_by(|a, b| (rank(a.kind), &a.path).cmp(&(rank(b.kind), &b.path)));
    Ok(found)
}

/// Seconds and nanoseconds since 1970.
fn parts(time: Timestamp) -> (i64, u32) {
    (time.as_second(), u32::try_from(time.subsec_nanosecond()).unwrap_or(0))
}

/// Programs, then PHP, then the rest.
fn rank(kind: &str) -> usize {
    ["program", "PHP"].iter().position(|known| *known == kind).unwrap_or(2)
}

struct Data {
    cursor: Arc<Cursor>,
    start: Arc<Path>,
}

struct Seeker<'p> {
    policy: &'p Policy,
    since: Option<(i64, u32)>,
    found: Afterwards,
}

impl Seeker<'_> {
    fn directory(&mut self, cursor: &Cursor, start: &Path, below: &Path) {
        let context = &cursor.context;
        if cursor.named && context.row.php == Right::Write && context.used_as != Use::Foreign {
            self.found.writable.push(Spot { start: start.to_owned(), below: below.to_owned() });
        }
    }

    fn file(&mut self, dir: &Dir<Data>, cursor: &Cursor, look: &Look<'_>, facts: &Facts) {
        let context = &cursor.context;
        let path = || dir.path_of(look.name);
        // Settings come first: there are few of them, and they must not be missed among much code.
        let tried = match context.used_as {
            Use::Secret => &mut self.found.settings,
            _ => &mut self.found.closed,
        };
        if context.row.php < Right::Write && facts.kind == Kind::File && tried.len() < TRIED {
            let below = path().strip_prefix(&dir.data.start).map(Path::to_owned).unwrap_or_default();
            tried.push(Spot { start: dir.data.start.to_path_buf(), below });
        }
        let new = self.since.is_some_and(|since| look.born().is_ok_and(|born| born >= since));
        if new && context.write != Write::Always {
            let program = facts.rights.mode.has(0o111);
            let php = crate::check::is_php_name(Path::new(look.os_name()));
            let kind = match (program, php) {
                (true, _) => "program",
                (false, true) => "PHP",
                (false, false) => "file",
            };
            self.found.appeared.push(Appeared { path: path(), kind });
        }
    }
}

impl Visitor for Seeker<'_> {
    type Data = Data;

    fn entry(&mut self, dir: &Arc<Dir<Data>>, look: &Look<'_>, facts: &Facts) -> Option<Data> {
        let cursor = self.policy.step(&dir.data.cursor, look.os_name());
        let ours = cursor.context.ours && cursor.context.used_as != Use::Foreign;
        if facts.mounted && !cursor.named {
            return None;
        }
        if facts.kind != Kind::Directory {
            if ours {
                self.file(dir, &cursor, look, facts);
            }
            return None;
        }
        if ours && cursor.named {
            let path = dir.path_of(look.name);
            let below = path.strip_prefix(&dir.data.start).unwrap_or(&path);
            self.directory(&cursor, &dir.data.start, below);
        }
        let start = Arc::clone(&dir.data.start);
        (ours || cursor.leads_on()).then_some(Data { cursor, start })
    }

    fn trouble(&mut self, _dir: &Arc<Dir<Data>>, _name: Option<&CStr>, _trouble: Trouble) {
        // The audit tells what could not be looked at.
    }
}

/// What the kernel answered to a process of PHP's account.
#[derive(Debug, Default)]
pub struct Proof {
    /// How many files it tried to open for writing.
    pub opened: usize,
    /// In how many directories it made and removed a file.
    pub made: usize,
    /// What was not as it should be.
    pub differences: Vec<(PathBuf, String)>,
}

/// Becomes PHP's account, on a thread that ends with it, and tries: files that it must not write to are opened for
/// writing (nothing is written), and in each directory that it must write to a file is made and removed.
///
/// Nothing where this process may not become that account, or where nothing can be kept from PHP: it is root, or the keeper.
#[must_use]
pub fn prove(host: &Host, site: &Site, found: &Afterwards) -> Option<Proof> {
    let ids = &site.php.ids;
    if !rustix::process::geteuid().is_root() || ids.uid == Uid::ROOT || ids.uid == site.keeper.ids.uid {
        return None;
    }
    // From the starts on by handles: that the account reaches these the audit has judged, from the host's `/`.
    let mut starts: Vec<(&Path, OwnedFd)> = Vec::new();
    let closed = || found.settings.iter().chain(&found.closed);
    for spot in closed().chain(&found.writable) {
        if starts.iter().all(|(path, _)| *path != spot.start)
            && let Ok(resolved) = host.resolve_safely(&spot.start, site.keeper.ids.uid)
        {
            starts.push((&spot.start, resolved.handle));
        }
    }
    let _held = signals::hold();
    let handle = |spot: &Spot| starts.iter().find(|(path, _)| *path == spot.start).map(|(_, handle)| handle);
    // What is made and removed leaves its time on the directory: it goes back.
    let folders = found.writable.iter().filter_map(|spot| {
        let folder = sys::open_directory_beneath(handle(spot)?, &spot.below).ok()?;
        let times = sys::times(&folder).ok()?;
        Some((folder, times))
    });
    let folders: Vec<(OwnedFd, sys::Times)> = folders.collect();
    let proof = std::thread::scope(|scope| {
        let proof = scope.spawn(|| {
            become_account(ids).ok()?;
            let mut proof = Proof::default();
            for spot in closed() {
                let Some(start) = handle(spot) else { continue };
                proof.opened += 1;
                if sys::open_for_writing(start, &spot.below).is_ok() {
                    proof.differences.push((spot.start.join(&spot.below), "it can be opened for writing".into()));
                }
            }
            for spot in &found.writable {
                let Some(start) = handle(spot) else { continue };
                proof.made += 1;
                if let Err(errno) = make_and_remove(start, &spot.below) {
                    let why = std::io::Error::from(errno).to_string();
                    let why = why.split(" (os error").next().unwrap_or(&why).to_lowercase();
                    proof.differences.push((spot.start.join(&spot.below), format!("no file can be made in it: {why}")));
                }
            }
            Some(proof)
        });
        proof.join().ok().flatten()
    });
    for (folder, times) in folders {
        // Where that fails the time is that of now, which is true as well.
        let _ = sys::set_times(&folder, times);
    }
    proof
}

/// Gives the calling thread, and no other, the ids of an account for good.
fn become_account(ids: &Ids) -> Result<(), Errno> {
    let group = rustix::process::Gid::from_raw(ids.gid.0);
    let user = rustix::process::Uid::from_raw(ids.uid.0);
    let groups: Vec<_> = ids.groups().iter().map(|gid| rustix::process::Gid::from_raw(gid.0)).collect();
    set_thread_groups(&groups)?;
    set_thread_res_gid(group, group, group)?;
    set_thread_res_uid(user, user, user)
}

/// Makes a file in a folder and removes it: where the file system knows files without a name, one that never has any.
fn make_and_remove(start: &OwnedFd, folder: &Path) -> Result<(), Errno> {
    match sys::create_unnamed(sys::open_directory_beneath(start, folder)?) {
        Err(Errno::OPNOTSUPP | Errno::ISDIR | Errno::NOENT | Errno::INVAL) => {}
        made => return made.map(drop),
    }
    let name = format!(".ambrik-proof-{}", std::process::id());
    let path = folder.join(&name);
    sys::create_beneath(start, &path)?;
    let dir = sys::open_directory_beneath(start, folder)?;
    let name = std::ffi::CString::new(name).unwrap_or_default();
    sys::unlink(&dir, &name, false)
}
