//! What is made: with its rights before it has its name.

use std::os::fd::{AsFd as _, OwnedFd};

use rustix::io::Errno;

use super::folder::{c_name, split};
use super::ledger::LedgerError;
use super::ledger::Recorder;
use super::plan::Creation;
use super::{keepsake, rights};
use crate::account::Uid;
use crate::entry::{Identity, Kind, Rights};
use crate::mode::Mode;
use crate::shown::Shown;
use crate::site::is_systems;
use crate::tree::{Failure, Host, Op, WayError, sys};

/// Makes a missing path; what it is made with is recorded first.
pub(super) fn create(
    creation: &Creation,
    keeper: Uid,
    host: &Host,
    entry: &mut Recorder<'_>,
) -> Result<Result<(), Failure>, LedgerError> {
    let Some((above, name)) = split(&creation.path) else { return Ok(Err(Failure::Os(Op::Create, Errno::INVAL))) };
    let parent = match host.resolve_safely(above, keeper) {
        Ok(parent) => parent,
        Err(WayError::Failed(_, errno)) => return Ok(Err(Failure::Os(Op::Create, errno))),
        Err(WayError::Missing(_)) => return Ok(Err(Failure::Os(Op::Create, Errno::NOENT))),
        Err(WayError::ForeignLink(_)) => return Ok(Err(Failure::ForeignLink)),
        Err(WayError::NoDirectory(_) | WayError::Loop(_)) => return Ok(Err(Failure::Os(Op::Create, Errno::NOTDIR))),
    };
    let path = parent.path.join(name);
    if is_systems(&path) {
        return Ok(Err(Failure::Says(format!("it is really {}, which is the operating system's own", Shown(&path)))));
    }
    let (kind, rights) = (creation.kind, &creation.rights);
    let row = entry.creation(&path, kind, rights, &creation.content, &parent.facts.id)?;
    match make(&parent.handle, name, creation) {
        Ok(made) => entry.made(row, &made).map(Ok),
        Err(failure) => Ok(Err(failure)),
    }
}

/// Makes it. The answer is which inode it is.
pub(super) fn make(parent: &OwnedFd, name: &std::ffi::OsStr, creation: &Creation) -> Result<Identity, Failure> {
    let name = c_name(name)?;
    let made = |errno| Failure::Os(Op::Create, errno);
    if creation.kind != Kind::Directory {
        let new = keepsake::NewFile::begin(parent.as_fd(), &name).map_err(made)?;
        // Nobody but the caller can open it before it is dressed.
        let filled = sys::write_all(&new.handle, &creation.content).map_err(made);
        return match filled.and_then(|()| dress(&new.handle, &creation.rights)) {
            Ok(id) => new.give_name(parent.as_fd(), &name).map_err(made).map(|()| id),
            Err(failure) => {
                new.discard(parent.as_fd());
                Err(failure)
            }
        };
    }
    // One that stays the caller's is whole at once, should the run end here.
    let own = creation.rights.uid.0 == rustix::process::geteuid().as_raw() && creation.rights.acl.is_none();
    let mode = if own { creation.rights.mode } else { Mode::of_st_mode(0o700) };
    sys::create_directory_with(parent, &name, mode).map_err(made)?;
    let dressed = keepsake::newly_made(parent.as_fd(), &name, Kind::Directory)
        .and_then(|handle| dress(&handle, &creation.rights));
    if dressed.is_err() {
        // Half made is worse than missing. It is empty; if it cannot go either, the failure told is the first.
        let _ = sys::unlink(parent, &name, true);
    }
    dressed
}

/// Gives what was just made its rights. The answer is which inode it is.
pub(super) fn dress(handle: &OwnedFd, rights: &Rights) -> Result<Identity, Failure> {
    let facts = rights::facts(handle)?;
    let wanted = Rights { label: rights.label.clone().or_else(|| facts.rights.label.clone()), ..rights.clone() };
    rights::write(handle, facts.kind, &facts.rights, &wanted)?;
    Ok(facts.id)
}
