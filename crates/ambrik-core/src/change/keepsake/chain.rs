//! Goes up and down in a tree by handles, however deep it is: the handles of a few levels are held, and a level above is
//! opened again through `..`, if it is still the directory that it was.

use std::ffi::CString;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::io::Errno;

use crate::entry::Identity;
use crate::tree::{Failure, Op, sys};

/// Where an entry is in a tree, whose entries have numbers.
#[derive(Clone, Debug)]
pub(super) struct Position {
    /// The directory that it is in; none for the base.
    pub(super) above: Option<usize>,
    /// How many directories of the tree it is in.
    pub(super) depth: usize,
    /// Its name there.
    pub(super) name: CString,
}

/// An entry of a tree.
pub(super) trait Placed {
    /// Where it is.
    fn position(&self) -> &Position;
    /// Which inode it must be, where that is known.
    fn must_be(&self) -> Option<Identity>;
}

/// As many handles are held: a limit of open files is no limit of depth.
const HELD: usize = 64;

struct Level {
    number: usize,
    id: Identity,
    handle: Option<OwnedFd>,
}

/// Where one stands, and the way there from the base.
pub(super) struct Chain {
    base: OwnedFd,
    levels: Vec<Level>,
}

impl Chain {
    /// Stands in `base`.
    pub(super) const fn at(base: OwnedFd) -> Self {
        Self { base, levels: Vec::new() }
    }

    /// The directory in which one stands.
    pub(super) fn dir(&self) -> Result<BorrowedFd<'_>, Failure> {
        match self.levels.last() {
            None => Ok(self.base.as_fd()),
            Some(level) => level.handle.as_ref().map(AsFd::as_fd).ok_or(Failure::Os(Op::Open, Errno::BADF)),
        }
    }

    /// Goes down into the directory `name`, which must be `id` where that is known.
    pub(super) fn enter(&mut self, number: usize, name: &CString, id: Option<Identity>) -> Result<(), Failure> {
        let handle = sys::pin_directory(self.dir()?, name).map_err(|errno| match errno {
            Errno::NOTDIR | Errno::LOOP => Failure::Replaced,
            errno => Failure::Os(Op::Open, errno),
        })?;
        let is = sys::look_at(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?.id;
        if id.is_some_and(|id| id != is) {
            return Err(Failure::Replaced);
        }
        if let Some(old) = self.levels.len().checked_sub(HELD) {
            self.levels[old].handle = None;
        }
        self.levels.push(Level { number, id: is, handle: Some(handle) });
        Ok(())
    }

    /// Goes up by one. Where that fails the base is where one stands: the way from there is gone again.
    pub(super) fn leave(&mut self) -> Result<(), Failure> {
        let Some(left) = self.levels.pop() else { return Ok(()) };
        let Some(above) = self.levels.last_mut().filter(|above| above.handle.is_none()) else { return Ok(()) };
        let opened = left.handle.ok_or(Errno::BADF).and_then(|left| sys::pin_directory(left, c".."));
        let is = |handle: &OwnedFd| sys::look_at(handle).is_ok_and(|facts| facts.id == above.id);
        match opened {
            Ok(handle) if is(&handle) => {
                above.handle = Some(handle);
                Ok(())
            }
            _ => {
                self.levels.clear();
                Err(Failure::Replaced)
            }
        }
    }

    /// Goes to a directory of `tree`, or to the base: up to what leads to both, and down from there. Where a directory on
    /// the way cannot be entered the answer is its number.
    pub(super) fn go_to(&mut self, tree: &[impl Placed], goal: Option<usize>) -> Result<(), (Option<usize>, Failure)> {
        let mut down = Vec::new();
        let mut at = goal;
        while let Some(number) = at
            && self.levels.get(tree[number].position().depth).is_none_or(|level| level.number != number)
        {
            down.push(number);
            at = tree[number].position().above;
        }
        let stay = at.map_or(0, |number| tree[number].position().depth + 1);
        while self.levels.len() > stay {
            self.leave().map_err(|failure| (at, failure))?;
        }
        for number in down.into_iter().rev() {
            let entry = &tree[number];
            self.enter(number, &entry.position().name, entry.must_be()).map_err(|failure| (Some(number), failure))?;
        }
        Ok(())
    }
}
