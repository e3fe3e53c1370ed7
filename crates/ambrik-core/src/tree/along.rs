//! Looking at some paths as a walk would come to them, without listing the folders on the way.

use std::collections::BTreeMap;
use std::ffi::{CString, OsStr};
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::io::Errno;

use super::near::Near;
use super::walk::{Dir, Look, Trouble, Visitor};
use super::{Op, sys};

/// Paths below one folder, each with whether all below it is meant.
pub(crate) type Below = BTreeMap<PathBuf, bool>;

/// Where a walk can go on: a handle on the directory above, and the directory.
pub(crate) type Ahead<D> = (OwnedFd, Arc<Dir<D>>);

/// Looks at `paths` below a directory that is held open, and at each directory on the way to them. The answer is where all below is
/// meant: for a walk.
pub(crate) fn look_along<V: Visitor>(
    handle: &OwnedFd,
    dir: &Arc<Dir<V::Data>>,
    paths: &Below,
    visitor: &mut V,
) -> Vec<Ahead<V::Data>> {
    let mut near = Near::through_proc().with_labels(visitor.labels());
    let mut ahead = Vec::new();
    look_in(handle, dir, paths, visitor, &mut near, &mut ahead);
    ahead
}

fn look_in<V: Visitor>(
    handle: &OwnedFd,
    dir: &Arc<Dir<V::Data>>,
    paths: &Below,
    visitor: &mut V,
    near: &mut Near,
    ahead: &mut Vec<Ahead<V::Data>>,
) {
    let mut names: BTreeMap<&OsStr, (bool, Below)> = BTreeMap::new();
    for (path, whole) in paths {
        let mut components = path.components();
        let Some(first) = components.next() else { continue };
        let (of_name, below) = names.entry(first.as_os_str()).or_default();
        match components.as_path() {
            rest if rest == Path::new("") => *of_name |= *whole,
            rest => drop(below.insert(rest.to_owned(), *whole)),
        }
    }
    for (name, (whole, below)) in names {
        let Ok(name) = CString::new(name.as_bytes()) else { continue };
        near.stand_in(handle);
        let facts = match near.look(handle, &name) {
            Ok(facts) => facts,
            Err(Errno::NOENT) => {
                visitor.trouble(dir, Some(&name), Trouble::Vanished);
                continue;
            }
            Err(errno) => {
                visitor.trouble(dir, Some(&name), Trouble::Failed(Op::Look, errno));
                continue;
            }
        };
        let Some(data) = visitor.entry(dir, &Look::at(handle, &name), &facts) else { continue };
        let next = Arc::new(Dir::below(dir, &name, facts.id, false, data));
        if whole {
            ahead.extend(handle.as_fd().try_clone_to_owned().map(|above| (above, next)));
            continue;
        }
        // What is another directory by now, or none, is told of by the event that made it so.
        if let Ok(opened) = sys::open_directory(handle, &name)
            && sys::look_at(&opened).is_ok_and(|facts| facts.id == next.id)
        {
            look_in(&opened, &next, &below, visitor, near, ahead);
        }
    }
}
