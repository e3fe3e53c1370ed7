//! Which code is not what an archive brought.

use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::super::folder::{c_name, split};
use super::super::ledger::Delivered;
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
    let policy = Policy::new(Arc::clone(site), Phase::Sealed);
    let mut last: Option<(&Path, Option<OwnedFd>)> = None;
    let mut found = Vec::new();
    for (path, file) in &delivered.files {
        let Some((above, name)) = split(path) else { continue };
        if last.as_ref().is_none_or(|(known, _)| *known != above) {
            last = Some((above, open_below(&root.handle, above).ok()));
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
            found.push(path.clone());
        }
    }
    found
}
