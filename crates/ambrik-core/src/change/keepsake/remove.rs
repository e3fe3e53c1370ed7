//! Removes what was packed, each path only if it is still that.

use std::collections::{HashMap, HashSet};
use std::ops::Range;
use std::os::fd::{BorrowedFd, OwnedFd};

use rustix::io::Errno;

use super::chain::Chain;
use super::{Inventory, Packed, PathFailure};
use crate::entry::{Identity, Kind, Nanos};
use crate::tree::{Failure, Op, sys};

/// Removes what was packed of one folder, the content before it, each path only if it is still what was packed; `base` is
/// the directory that it is in. What stays keeps all that it is in. The answer is how many went, and which did not.
pub(crate) fn remove(packed: &mut Inventory, range: Range<usize>, base: OwnedFd) -> (u64, Vec<PathFailure>) {
    let mut removal = RemovalJob::default();
    let mut removed = 0;
    let mut chain = Chain::at(base);
    for number in range.rev() {
        if packed.0[number].stays {
            continue;
        }
        match removal.one(packed, number, &mut chain) {
            Ok(()) => removed += 1,
            Err(failure) => {
                removal.failures.extend(failure.map(|failure| (packed.path(number), failure)));
                packed.stays(number);
            }
        }
    }
    (removed, removal.failures)
}

#[derive(Default)]
struct RemovalJob {
    /// Files of which one name could not be removed: the names that are left stay, the first among them, so that what comes
    /// back is another name of it again.
    named: HashSet<Identity>,
    /// When files with several names were changed last, once one of their names was removed here.
    left: HashMap<Identity, Nanos>,
    /// Directories that could not be entered, and were named.
    closed: HashSet<usize>,
    failures: Vec<PathFailure>,
}

impl RemovalJob {
    /// Removes one path. An error without words: what it is in was named already.
    fn one(&mut self, packed: &Inventory, number: usize, chain: &mut Chain) -> Result<(), Option<Failure>> {
        let above = packed.0[number].position.above;
        let is_closed =
            std::iter::successors(above, |&at| packed.0[at].position.above).any(|at| self.closed.contains(&at));
        if !self.closed.is_empty() && is_closed {
            return Err(None);
        }
        if let Err((at, failure)) = chain.go_to(&packed.0, above) {
            let Some(at) = at else { return Err(Some(failure)) };
            self.closed.insert(at);
            self.failures.push((packed.path(at), failure));
            return Err(None);
        }
        let item = &packed.0[number];
        if self.named.contains(&item.id) {
            return Err(None);
        }
        let removed = self.unlink(chain.dir().map_err(Some)?, item);
        if removed.is_err() && item.links > 1 && item.kind != Kind::Directory {
            self.named.insert(item.id);
        }
        removed.map_err(Some)
    }

    fn unlink(&mut self, dir: BorrowedFd<'_>, item: &Packed) -> Result<(), Failure> {
        let handle = sys::pin(dir, &item.position.name).map_err(|errno| Failure::Os(Op::Open, errno))?;
        let looked = |errno| Failure::Os(Op::Look, errno);
        let facts = sys::look_at(&handle).map_err(looked)?;
        // A directory changes as it is emptied. All else must not have: nobody can set a change time.
        let changed = self.left.get(&item.id).copied().unwrap_or(item.changed);
        let as_packed = item.kind == Kind::Directory || facts.changed == changed;
        if facts.id != item.id || facts.kind != item.kind || !as_packed {
            return Err(Failure::Replaced);
        }
        sys::unlink(dir, &item.position.name, item.kind == Kind::Directory).map_err(|errno| match errno {
            Errno::NOTEMPTY | Errno::EXIST => Failure::NotOurs("something came into it meanwhile".into()),
            errno => Failure::Os(Op::Remove, errno),
        })?;
        if facts.links > 1 && item.kind != Kind::Directory {
            self.left.insert(item.id, sys::look_at(&handle).map_err(looked)?.changed);
        }
        Ok(())
    }
}
