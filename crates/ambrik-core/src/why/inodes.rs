//! Finds files of sites by their inode numbers.

use std::collections::HashSet;
use std::ffi::CStr;
use std::path::PathBuf;
use std::sync::Arc;

use crate::entry::{Facts, Kind};
use crate::site::Site;
use crate::starts::places;
use crate::tree::{Dir, Host, Look, Progress, Trouble, Visitor, walk};

/// The paths in these sites that have one of the inodes. Inodes of several file systems can be the same: whoever asks
/// compares the name as well.
pub(super) fn find(
    host: &Host,
    sites: &[Arc<Site>],
    wanted: &HashSet<u64>,
    progress: &Progress,
) -> Vec<(u64, PathBuf)> {
    let mut found = Vec::new();
    let mut dirs = Vec::new();
    for (path, resolved) in sites.iter().filter_map(|site| places(host, site).ok()).flatten() {
        if wanted.contains(&resolved.facts.id.ino) {
            found.push((resolved.facts.id.ino, path.clone()));
        }
        if resolved.facts.kind == Kind::Directory {
            dirs.push((resolved.handle, Arc::new(Dir::top(&path, resolved.facts.id, ()))));
        }
    }
    for seeker in walk(dirs, vec![InodeSeeker { wanted, found: Vec::new() }], progress).visitors {
        found.extend(seeker.found);
    }
    found
}

struct InodeSeeker<'w> {
    wanted: &'w HashSet<u64>,
    found: Vec<(u64, PathBuf)>,
}

impl Visitor for InodeSeeker<'_> {
    type Data = ();

    fn entry(&mut self, dir: &Arc<Dir<()>>, look: &Look<'_>, facts: &Facts) -> Option<()> {
        if self.wanted.contains(&facts.id.ino) {
            self.found.push((facts.id.ino, dir.path_of(look.name)));
        }
        (facts.kind == Kind::Directory && !facts.mounted).then_some(())
    }

    fn trouble(&mut self, _dir: &Arc<Dir<()>>, _name: Option<&CStr>, _trouble: Trouble) {
        // What cannot be looked at cannot be found.
    }
}
