//! Which code is not what an archive brought.

use std::num::NonZero;
use std::os::fd::OwnedFd;
use std::panic::resume_unwind;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread::available_parallelism;

use super::super::folder::{c_name, split};
use super::super::ledger::{Delivered, DeliveredFile};
use super::below::{open_below, sum_of};
use crate::entry::Kind;
use crate::policy::Policy;
use crate::site::{Phase, Site, Use};
use crate::tree::{Host, sys};

/// The files of a site's code that an archive brought, are still there, and hold something else now; by their paths below the root.
///
/// Only what was changed since in any way is read: nobody can set a change time.
#[must_use]
pub fn not_as_delivered(host: &Host, site: &Arc<Site>, delivered: &Delivered) -> Vec<PathBuf> {
    let Ok(root) = host.resolve(&site.root) else { return Vec::new() };
    let threads = available_parallelism().map_or(1, NonZero::get);
    let files: Vec<_> = delivered.files.iter().map(|(path, file)| (path.as_ref(), file)).collect();
    std::thread::scope(|scope| {
        let of_one = |files| {
            let root = &root.handle;
            scope.spawn(move || changed_of(files, root, site, delivered))
        };
        let all: Vec<_> = files.chunks(files.len().div_ceil(threads).max(1)).map(of_one).collect();
        // A thread that cannot say what it saw ends the run as any other.
        all.into_iter().flat_map(|thread| thread.join().unwrap_or_else(|panic| resume_unwind(panic))).collect()
    })
}

fn changed_of(
    files: &[(&Path, &DeliveredFile)],
    root: &OwnedFd,
    site: &Arc<Site>,
    delivered: &Delivered,
) -> Vec<PathBuf> {
    let policy = Policy::new(Arc::clone(site), Phase::Sealed);
    let mut last: Option<(&Path, Option<OwnedFd>)> = None;
    let mut found = Vec::new();
    for (path, file) in files.iter().copied() {
        let Some((above, name)) = split(path) else { continue };
        if last.as_ref().is_none_or(|(known, _)| *known != above) {
            last = Some((above, open_below(root, above).ok()));
        }
        let (Some((_, Some(dir))), Ok(name)) = (&last, c_name(name)) else { continue };
        // What is gone, or no file any more, is seen by who looks at the tree.
        let Ok(facts) = sys::look(dir, &name) else { continue };
        if facts.kind != Kind::File || facts.changed <= file.there {
            continue;
        }
        let context = policy.at(&site.root.join(path)).context;
        if !context.is_managed() || !matches!(context.used_as, Use::Code | Use::Hidden) {
            continue;
        }
        let sum = sys::open_file(dir, &name).ok().and_then(|file| sum_of(file).ok());
        if sum.is_some() && delivered.brought(path, sum) == Some(false) {
            found.push(path.to_owned());
        }
    }
    found
}
