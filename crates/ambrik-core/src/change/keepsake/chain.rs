//! Goes up and down in a tree by handles, however deep it is: the handles of a few levels are held, and a level above is
//! opened again through `..`, if it is still the directory that it was.

use std::ffi::CString;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::io::Errno;

use crate::entry::Identity;
use crate::tree::{Failure, Op, sys};

/// Directories by their numbers, each in another or in the base.
pub(super) trait Tree {
    /// The directory that this one is in; none for the base.
    fn above(&self, number: usize) -> Option<usize>;
    /// How many directories of the tree it is in.
    fn depth(&self, number: usize) -> usize;
    /// Its name there.
    fn name(&self, number: usize) -> &CString;
    /// Which inode it must be, where that is known.
    fn id(&self, number: usize) -> Option<Identity>;
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
    pub(super) fn go_to(&mut self, tree: &impl Tree, goal: Option<usize>) -> Result<(), (Option<usize>, Failure)> {
        let mut down = Vec::new();
        let mut at = goal;
        while let Some(number) = at
            && self.levels.get(tree.depth(number)).is_none_or(|level| level.number != number)
        {
            down.push(number);
            at = tree.above(number);
        }
        let stay = at.map_or(0, |number| tree.depth(number) + 1);
        while self.levels.len() > stay {
            self.leave().map_err(|failure| (at, failure))?;
        }
        for number in down.into_iter().rev() {
            self.enter(number, tree.name(number), tree.id(number)).map_err(|failure| (Some(number), failure))?;
        }
        Ok(())
    }
}
