//! Takes a change set back: only where what is there now is what Ambrik left.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::ffi::CStr;
use std::fs::File;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::io::Errno;

use super::folder::{Folder, Opener, as_os, c_name, folder, split};
use super::keepsake::{Contents, How, Successors};
use super::ledger::{
    ChangeCommand, ChangeSet, CreationRow, Ledger, Recorder, RemovalRow, RestoringRow, RightsRow, TakenBack,
};
use super::moving::move_back;
use super::remains::pending;
use super::rights::{ChangeTime, RightsChange, facts, hold, is, is_between, is_still, pin, write};
use super::undo_plan::UndoPlan;
use super::unpacking::{has_sum, sweep_stagings};
use super::{ChangeContext, ChangeError, Job, Outcome, end, remove, run, times_of};
use crate::entry::{Identity, Kind};
use crate::shown::Shown;
use crate::signals;
use crate::tree::{Failure, Op, sys};

/// Takes a change set back; `force` also where the disk is not what Ambrik left.
pub fn undo(
    plan: &UndoPlan,
    ledger: &mut Ledger,
    means: &ChangeContext<'_>,
    force: bool,
) -> Result<Outcome, ChangeError> {
    let _held = signals::hold();
    let set = &plan.set;
    let base = means.host.resolve(Path::new("/")).map_err(|_| ChangeError::RootReplaced)?.handle;
    let bases = [base];
    let phase_now = ledger.phase(&set.site)?.phase;
    let mut entry = ledger.begin(&set.site, ChangeCommand::Undo, (phase_now, set.phase_before), Some(set.id))?;
    let made = take_all_back(plan, &bases, &mut entry, means, force);
    end(entry, made, |outcome| Some(TakenBack { set: set.id, whole: outcome.failures.is_empty() }))
}

/// Takes it back, each step recorded before.
fn take_all_back(
    plan: &UndoPlan,
    bases: &[OwnedFd],
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    force: bool,
) -> Result<Outcome, ChangeError> {
    let set = &plan.set;
    let mut outcome = Outcome { id: entry.id, ..Outcome::default() };

    let mut successors = entry.successors()?;
    // What was removed may be what something moves back to, and what was put back what it moves out of.
    let how = How { resumed: plan.interrupted || set.failed > 0, force };
    let folders = emptied(&plan.removals, bases);
    // Where one thing came in the place of another, the one makes room for the other.
    let makes_room = plan.makes_room();
    if makes_room {
        unmake(plan, &successors, bases, entry, means, force, &mut outcome)?;
        take_returned(plan, &successors, bases, entry, means, &mut outcome)?;
    }
    if set.command == ChangeCommand::Unpack {
        sweep_stagings(&set.site, entry, means)?;
    }
    let mut keepsakes = OpenKeepsakes::new();
    for removal in &plan.removals {
        outcome.go_on()?;
        restore(removal, how, bases, (&mut successors, &mut keepsakes), entry, means, &mut outcome)?;
    }
    for (dir, times) in folders {
        // Where that fails the time is that of now, which is true as well.
        let _ = sys::set_times(dir, times);
    }

    for row in &plan.movings {
        outcome.go_on()?;
        move_back(row, &mut successors, entry, means, &mut outcome)?;
    }

    if !makes_room {
        take_returned(plan, &successors, bases, entry, means, &mut outcome)?;
    }

    outcome.go_on()?;
    for change in &plan.modules {
        super::module::take_back(change, entry, means, &mut outcome)?;
    }

    let back = plan.switches.iter().rev().map(|(name, on)| (name.clone(), !on));
    super::module::switch(back, entry, means, &mut outcome)?;

    let mut last: Option<Arc<Folder>> = None;
    let mut between = Opener::new(bases);
    let mut jobs =
        plan.turns.newest_first().filter(|row| !row.failed || is_half_made(row, &successors, &mut between)).filter_map(
            |row| {
                let known = last.take().filter(|folder| *folder.path == *row.folder);
                let folder = known.unwrap_or_else(|| Arc::new(folder(&row.folder)));
                last = Some(Arc::clone(&folder));
                job(row, folder)
            },
        );
    let interrupted = plan.interrupted;
    run(
        entry,
        bases,
        &mut jobs,
        &|dir, name, turn| take_back(dir, name, turn, &successors, interrupted || set.failed > 0, force),
        means,
        &mut outcome,
    )?;

    if !makes_room {
        unmake(plan, &successors, bases, entry, means, force, &mut outcome)?;
    }
    Ok(outcome)
}

/// Removes what was put back and is still what was put back.
fn take_returned(
    plan: &UndoPlan,
    successors: &Successors,
    bases: &[OwnedFd],
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let mut returned = Vec::new();
    for row in &plan.restorings {
        match still_there(row, successors, bases) {
            Ok(()) => returned.extend(pending(&row.path, "put back by the change set taken back")),
            Err(failure) => outcome.fail(row.path.clone(), failure),
        }
    }
    remove(entry, bases, &returned, &plan.set.site, means, outcome)
}

/// Removes what was made and is still as it was made.
fn unmake(
    plan: &UndoPlan,
    successors: &Successors,
    bases: &[OwnedFd],
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    force: bool,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let resumed = plan.interrupted || plan.set.failed > 0;
    let mut gone: HashSet<&Path> = HashSet::new();
    // What was made last, and so deepest, comes first: what it was made in is then as good as empty.
    for creation in plan.creations.iter().rev() {
        // What was unpacked is recorded before it gets its name: where a run was stopped, what was there may have stayed, or be back.
        if resumed && plan.set.command == ChangeCommand::Unpack && is_another(creation, successors, bases) {
            continue;
        }
        let force = force || (plan.with_later && creation.kind == Kind::File);
        match untouched(creation, &gone, successors, bases, force) {
            Ok(()) => drop(gone.insert(&creation.path)),
            Err(failure) => outcome.fail(creation.path.clone(), failure),
        }
    }
    remove_made(entry, bases, &gone, &plan.set, means, outcome)
}

/// What was made is removed as everything is: into a keepsake.
fn remove_made(
    entry: &mut Recorder<'_>,
    bases: &[OwnedFd],
    gone: &HashSet<&Path>,
    set: &ChangeSet,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let inside_another = |path: &Path| path.ancestors().skip(1).any(|above| gone.contains(above));
    let mut tops: Vec<&Path> = gone.iter().copied().filter(|path| !inside_another(path)).collect();
    tops.sort_unstable();
    let tops =
        tops.into_iter().filter_map(|path| pending(path, "made by the change set taken back")).collect::<Vec<_>>();
    remove(entry, bases, &tops, &format!("{}-made", set.site), means, outcome)
}

/// The change that takes a recorded one back.
fn job(row: RightsRow, folder: Arc<Folder>) -> Option<Job> {
    let name = c_name(&row.name).ok()?;
    let RightsChange { id, kind, links, before, after, left, changed } = row.turn;
    Some(Job { folder, name, turn: RightsChange { id, kind, links, before: after, after: before, left, changed } })
}

/// Whether a change that failed was made in part.
fn is_half_made(row: &RightsRow, successors: &Successors, opener: &mut Opener<'_>) -> bool {
    let RightsChange { id, kind, before, after, .. } = &row.turn;
    let mut look = || {
        let dir = opener.open(&folder(&row.folder))?;
        facts(hold(dir, &c_name(&row.name)?, *kind)?)
    };
    look().is_ok_and(|now| {
        successors.is(&now.id, id)
            && now.kind == *kind
            && !is(&now.rights, before, *kind)
            && is_between(&now.rights, before, after, *kind)
    })
}

/// Gives one path back what it had: `turn.before` is what Ambrik left, `turn.after` what was there.
fn take_back(
    dir: BorrowedFd<'_>,
    name: &CStr,
    turn: &RightsChange,
    successors: &Successors,
    interrupted: bool,
    force: bool,
) -> Result<Option<ChangeTime>, Failure> {
    let handle = hold(dir, name, turn.kind)?;
    let mut now = facts(&handle)?;
    if turn.before.label.is_none() && turn.after.label.is_none() {
        // Where SELinux is not used nobody asked for labels.
        now.rights.label = None;
    }
    let rights = &now.rights;
    // Another inode is still ours where it came back out of a keepsake. For others somebody has to answer; and one with a
    // further name, which may lie anywhere, is never taken for it.
    let single = now.kind == Kind::Directory || (now.links == 1 && turn.links == 1);
    let same = successors.is(&now.id, &turn.id);
    if now.kind != turn.kind || (!same && !single) {
        return Err(Failure::NotOurs("another file is there now".into()));
    }
    if !same && !force {
        return Err(Failure::NotOurs("another file is there now; --force decides".into()));
    }
    if is(rights, &turn.after, turn.kind) {
        return Ok(None);
    }
    let left = is_still(rights, &turn.before, turn.kind)
        || (interrupted && is_between(rights, &turn.after, &turn.before, turn.kind));
    if !left && !force {
        let mut what = format!("now {}:{} {}", rights.uid, rights.gid, rights.mode);
        if rights.label != turn.before.label {
            what += &rights.label.as_ref().map_or_else(|| ", without a label".into(), |label| format!(", {label}"));
        }
        if (&rights.acl, &rights.default_acl) != (&turn.before.acl, &turn.before.default_acl) {
            what += ", another access list";
        }
        return Err(Failure::NotOurs(format!("{what}; --force decides")));
    }
    if turn.after.lend_power(turn.kind) && !force {
        // Who could write to it in between must not have it run with another's rights.
        let time = sys::change_time(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
        if turn.left != Some(time) {
            let why = "it was changed since, and had set-id bits or capabilities; --force decides";
            return Err(Failure::NotOurs(why.into()));
        }
    }
    write(&handle, turn.kind, rights, &turn.after)?;
    Ok(None)
}

/// The directories that nobody else touched since things were removed from them, with the times that they had before the
/// first of these went: once all are back, these are true again.
fn emptied(removals: &[RemovalRow], bases: &[OwnedFd]) -> Vec<(OwnedFd, sys::Times)> {
    let parent = |row: &RemovalRow| row.path.parent().unwrap_or(&row.path).to_owned();
    let mut first_and_last: BTreeMap<PathBuf, (&RemovalRow, &RemovalRow)> = BTreeMap::new();
    for row in removals {
        first_and_last.entry(parent(row)).or_insert((row, row)).1 = row;
    }
    let unchanged = first_and_last.into_iter().filter_map(|(path, (first, last))| {
        let (before, after) = (times_of(first.before_times.as_deref()?)?, times_of(last.after_times.as_deref()?)?);
        let dir = open_folder(&path, bases).ok()?;
        (sys::times(&dir).ok()?.modified == after.modified).then_some((dir, before))
    });
    unchanged.collect()
}

/// The keepsakes that things come back from, by their names; none for one that is gone.
type OpenKeepsakes = HashMap<String, Option<Contents>>;

/// Brings one path back out of its keepsake.
fn restore(
    removal: &RemovalRow,
    how: How,
    bases: &[OwnedFd],
    (successors, keepsakes): (&mut Successors, &mut OpenKeepsakes),
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let fail = |outcome: &mut Outcome, failure| {
        outcome.fail(removal.path.clone(), failure);
        Ok(())
    };
    let Some(name) = &removal.keepsake else {
        return fail(outcome, Failure::NotOurs("it was removed without a keepsake".into()));
    };
    let contents = keepsakes.entry(name.clone()).or_insert_with(|| {
        let folder = means.state.folder("keepsakes").ok()?;
        let archive = sys::open_file(&folder, &c_name(name.as_ref()).ok()?).ok()?;
        Some(Contents::of(File::from(archive)))
    });
    let Some(contents) = contents else {
        return fail(outcome, Failure::NotOurs(format!("the keepsake {name} is gone")));
    };
    let parent = removal.path.parent().unwrap_or(&removal.path);
    let dir = match same_folder(parent, removal.above.as_ref(), successors, bases) {
        Ok(dir) => dir,
        Err(failure) => return fail(outcome, failure),
    };
    let above = facts(&dir).map(|facts| facts.id);
    let above = match above {
        Ok(above) => above,
        Err(failure) => return fail(outcome, failure),
    };
    let row = entry.restoring(&removal.path, name, &above)?;
    let mut open = |path: &Path| -> Result<OwnedFd, Failure> {
        let handle = if path == parent { dir.try_clone() } else { return open_folder(path, bases) };
        handle.map_err(|_| Failure::Os(Op::Open, Errno::MFILE))
    };
    let restored = contents.restore(&removal.path, how, successors, &mut open);
    // What came back is in the keepsake still, should that fail.
    let _ = sys::sync_file_system(&dir);
    entry.succeeded(&std::mem::take(&mut successors.new))?;
    match restored {
        Ok(restored) => {
            if let Some(top) = &restored.top {
                entry.restored(row, top)?;
            }
            outcome.restored += restored.done;
            outcome.fail_all(restored.failures);
        }
        Err(cause) => {
            let errno = Errno::from_io_error(&cause).unwrap_or(Errno::IO);
            outcome.fail(removal.path.clone(), Failure::Os(Op::Keep, errno));
        }
    }
    Ok(())
}

/// A handle on a folder by its path, no link followed.
fn open_folder(path: &Path, bases: &[OwnedFd]) -> Result<OwnedFd, Failure> {
    let mut opener = Opener::new(bases);
    let dir = opener.open(&folder(path))?;
    dir.try_clone_to_owned().map_err(|_| Failure::Os(Op::Open, Errno::MFILE))
}

/// As [`open_folder`], if it is still the folder that was recorded: whoever may rename what leads there can put another
/// tree in its place.
fn same_folder(
    path: &Path,
    then: Option<&Identity>,
    successors: &Successors,
    bases: &[OwnedFd],
) -> Result<OwnedFd, Failure> {
    let dir = open_folder(path, bases)?;
    let now = facts(&dir)?.id;
    match then {
        Some(then) if !successors.is(&now, then) => {
            Err(Failure::NotOurs(format!("another folder is at {} now", Shown(path))))
        }
        _ => Ok(dir),
    }
}

/// Whether what came back out of a keepsake is still what came back.
fn still_there(row: &RestoringRow, successors: &Successors, bases: &[OwnedFd]) -> Result<(), Failure> {
    let (above, name) = split(&row.path).ok_or(Failure::Os(Op::Open, Errno::INVAL))?;
    let dir = same_folder(above, row.above.as_ref(), successors, bases)?;
    let now = facts(pin(dir.as_fd(), &c_name(name)?)?)?.id;
    match &row.made {
        Some(made) if !successors.is(&now, made) => Err(Failure::NotOurs("something else is there now".into())),
        _ => Ok(()),
    }
}

/// Whether there is something in the place of what a change set made, and it is not that.
fn is_another(creation: &CreationRow, successors: &Successors, bases: &[OwnedFd]) -> bool {
    let look = || {
        let (above, name) = split(&creation.path).ok_or(Failure::Replaced)?;
        Ok::<_, Failure>(facts(pin(open_folder(above, bases)?.as_fd(), &c_name(name)?)?)?.id)
    };
    look().is_ok_and(|now| creation.made.is_some_and(|made| !successors.is(&now, &made)))
}

/// Whether what a change set made is still as it made it, and empty but for what goes as well.
fn untouched(
    creation: &CreationRow,
    gone: &HashSet<&Path>,
    successors: &Successors,
    bases: &[OwnedFd],
    force: bool,
) -> Result<(), Failure> {
    let (above, name) = split(&creation.path).ok_or(Failure::Os(Op::Open, Errno::INVAL))?;
    let dir = same_folder(above, creation.above.as_ref(), successors, bases)?;
    let name = c_name(name)?;
    let handle = pin(dir.as_fd(), &name)?;
    let now = facts(&handle)?;
    if force {
        return Ok(());
    }
    if creation.made.is_some_and(|made| !successors.is(&now.id, &made)) {
        return Err(Failure::NotOurs("something else is there now; --force decides".into()));
    }
    let empty = match now.kind {
        Kind::Directory => {
            let names = sys::open_directory(&dir, &name).and_then(sys::names);
            let names = names.map_err(|errno| Failure::Os(Op::List, errno))?;
            names.iter().all(|name| gone.contains(&*creation.path.join(as_os(name))))
        }
        Kind::Symlink => sys::read_link(&dir, &name).is_ok_and(|target| target == creation.content),
        _ => match &creation.sum {
            Some(sum) => sys::open_file(&dir, &name).is_ok_and(|file| has_sum(file, sum)),
            None => is_as_made(dir, &name, &creation.content),
        },
    };
    // What was made without a label of its own got one from the kernel.
    let label = creation.rights.label.clone().or_else(|| now.rights.label.clone());
    let made = crate::entry::Rights { label, ..(*creation.rights).clone() };
    if now.kind != creation.kind || !is_still(&now.rights, &made, now.kind) {
        return Err(Failure::NotOurs("its owner or mode was changed; --force decides".into()));
    }
    if !empty {
        return Err(Failure::NotOurs("something was written to it since; --force decides".into()));
    }
    Ok(())
}

/// Whether a file that was made holds what was written to it then.
fn is_as_made(dir: impl AsFd, name: &CStr, content: &[u8]) -> bool {
    sys::open_file(dir, name).and_then(|file| sys::content(file, content.len())).is_ok_and(|now| now == content)
}
