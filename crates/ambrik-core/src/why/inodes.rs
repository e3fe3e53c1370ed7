//! Finds files by their inode numbers.

use std::collections::HashSet;
use std::ffi::CStr;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::entry::{Facts, Kind};
use crate::site::Site;
use crate::starts::places;
use crate::tree::{Dir, Host, Look, Progress, Trouble, Visitor, walk};

/// Where is looked.
#[derive(Clone, Copy)]
pub(super) enum Place<'p> {
    /// In these sites.
    Sites(&'p [Arc<Site>]),
    /// On the whole host: on file systems that are its own.
    Host,
}

/// On the whole host no more folders are looked into.
const MOST: u64 = 400_000;
/// Kinds of file systems that hold files of the host's own.
const OWN: &[&str] = &["ext2", "ext3", "ext4", "xfs", "btrfs", "tmpfs", "f2fs", "zfs", "overlay"];

/// The paths there that have one of the inodes. Inodes of several file systems can be the same: whoever asks compares the
/// name as well.
pub(super) fn find(host: &Host, place: Place<'_>, wanted: &HashSet<u64>, progress: &Progress) -> Vec<(u64, PathBuf)> {
    let starts = match place {
        Place::Sites(sites) => sites.iter().filter_map(|site| places(host, site).ok()).flatten().collect(),
        Place::Host => {
            let tops = std::iter::once(PathBuf::from("/")).chain(host.mount_points(OWN));
            let found: Vec<_> = tops.filter_map(|path| Some((path.clone(), host.resolve(&path).ok()?))).collect();
            found
        }
    };
    let mut found = Vec::new();
    let mut dirs = Vec::new();
    for (path, resolved) in starts {
        if wanted.contains(&resolved.facts.id.ino) {
            found.push((resolved.facts.id.ino, path.clone()));
        }
        if resolved.facts.kind == Kind::Directory {
            dirs.push((resolved.handle, Arc::new(Dir::top(&path, resolved.facts.id, ()))));
        }
    }
    let seen = AtomicU64::new(0);
    let seeker = || InodeSeeker { wanted, seen: &seen, found: Vec::new() };
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    for seeker in walk(dirs, (0..threads).map(|_| seeker()).collect(), progress).visitors {
        found.extend(seeker.found);
    }
    found.sort();
    found.dedup();
    found
}

struct InodeSeeker<'w> {
    wanted: &'w HashSet<u64>,
    seen: &'w AtomicU64,
    found: Vec<(u64, PathBuf)>,
}

impl Visitor for InodeSeeker<'_> {
    type Data = ();

    fn entry(&mut self, dir: &Arc<Dir<()>>, look: &Look<'_>, facts: &Facts) -> Option<()> {
        if self.wanted.contains(&facts.id.ino) {
            self.found.push((facts.id.ino, dir.path_of(look.name)));
        }
        let enters = facts.kind == Kind::Directory && !facts.mounted;
        (enters && self.seen.fetch_add(1, Ordering::Relaxed) < MOST).then_some(())
    }

    fn labels(&self) -> bool {
        false
    }

    fn trouble(&mut self, _dir: &Arc<Dir<()>>, _name: Option<&CStr>, _trouble: Trouble) {
        // What cannot be looked at cannot be found.
    }
}
