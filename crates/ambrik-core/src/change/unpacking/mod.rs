//! Lays an application down from its archive: whole and with its final rights in a folder that only the caller can enter,
//! then name by name in its place. Over an older version it is an upgrade; what it replaces is kept.

mod below;
mod delivered;
mod lay;
mod plan;
mod wanted;

use std::ffi::CStr;
use std::os::fd::OwnedFd;
use std::panic::resume_unwind;
use std::path::Path;
use std::sync::Arc;

use super::folder::{Folder, c_name, split};
use super::ledger::{ChangeCommand, CreationRow, Ledger, Recorder};
use super::removal::{Kept, OUT_OF_HANDLES, PendingRemoval};
use super::rights::facts;
use super::{ChangeContext, ChangeError, Outcome, create, end};
use crate::archive::{Archive, PackedKind};
use crate::entry::{Identity, Kind, Nanos};
use crate::signals;
use crate::tree::{Failure, Host, Op, sys};

pub(super) use below::has_sum;
use below::{open_below, sum_of};
pub use delivered::not_as_delivered;
use lay::{Staging, sweep};
pub use plan::{LaidPart, Replaced, UnpackError, UnpackPlan, UnpackSetting, free_for, plan_unpack};

/// Lays down what a plan says, from the archive that it was made from.
///
/// Errors where nothing, or nothing more, can be changed; what failed on single paths is in the outcome.
pub fn unpack(
    plan: &UnpackPlan,
    archive: &Archive,
    ledger: &mut Ledger,
    means: &ChangeContext<'_>,
) -> Result<Outcome, ChangeError> {
    let _held = signals::hold();
    let mut entry = ledger.begin(&plan.site.name, ChangeCommand::Unpack, (plan.phase, plan.phase), None)?;
    let made = lay_down(plan, archive, &mut entry, means);
    end(entry, made, |_| None)
}

/// Ends what stopped runs left of a site for which nothing is left to unpack.
pub fn finish_unpack(site: &str, ledger: &mut Ledger, host: &Host) -> Result<(), ChangeError> {
    for staging in ledger.stagings(site)? {
        if sweep(host, &staging) {
            ledger.staged(&staging.path)?;
        }
    }
    Ok(ledger.settle(site)?)
}

fn lay_down(
    plan: &UnpackPlan,
    archive: &Archive,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
) -> Result<Outcome, ChangeError> {
    let mut outcome = Outcome { id: entry.id, ..Outcome::default() };
    sweep_stagings(&plan.site.name, entry, means)?;
    for creation in &plan.creations {
        match create(creation, plan.site.keeper.ids.uid, means.host, entry)? {
            Ok(()) => outcome.done += 1,
            Err(failure) => outcome.fail(creation.path.clone(), failure),
        }
    }
    let root = match plan.root_now(means.host) {
        Ok(root) => root,
        Err(failure) => {
            outcome.failures.push((plan.site.root.clone(), failure));
            return Ok(outcome);
        }
    };
    if !outcome.failures.is_empty() {
        return Ok(outcome);
    }
    let staging = Staging::begin(plan, &root, entry)?;
    let staged = match staging {
        Ok(staging) => staging.fill(plan, archive, means).map(|made| (staging, made)),
        Err(failure) => Err((plan.site.root.clone(), failure)),
    };
    match staged {
        Ok((staging, made)) => switch(plan, &root, &staging, &made, entry, means, &mut outcome)?,
        Err((path, failure)) => outcome.failures.push((path, failure)),
    }
    sweep_stagings(&plan.site.name, entry, means)?;
    outcome.go_on()?;
    Ok(outcome)
}

/// Gives everything its name, and keeps what had it before.
fn switch(
    plan: &UnpackPlan,
    root: &OwnedFd,
    staging: &Staging,
    made: &[Option<Identity>],
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    outcome.go_on()?;
    let bases = [root.try_clone().map_err(|_| ChangeError::RootReplaced)?];
    let pending: Vec<PendingRemoval> = plan
        .replaced
        .iter()
        .map(|old| going(plan, &old.path, old.id, "replaced by what the archive has"))
        .chain(plan.going().map(|(path, id, why)| going(plan, path, id, why)))
        .collect::<Option<_>>()
        .unwrap_or_default();
    let (recorded, durable) = std::thread::scope(|scope| {
        let durable = scope.spawn(|| staging.sync());
        let mut record = || -> Result<_, ChangeError> {
            let kept = Kept::keep(entry, &bases, &pending, &plan.site.name, means, outcome)?;
            entry.laid(&creations(plan, root, made), &plan.sums)?;
            Ok(kept)
        };
        let recorded = record();
        (recorded, durable.join().unwrap_or_else(|panic| resume_unwind(panic)))
    });
    let mut kept = recorded?;
    if let Err(failure) = durable {
        // Nothing of it gets its name.
        for unit in &plan.units {
            entry.not_laid(&plan.real_root.join(unit))?;
        }
        outcome.failures.push((staging.path.clone(), failure));
        return Ok(());
    }
    // From here on the new version comes into its place; each name is the old one's or the new one's.
    for (number, unit) in plan.units.iter().enumerate() {
        outcome.go_on()?;
        let mut placed = false;
        let failed_before = outcome.failures.len();
        let ways = split(unit)
            .ok_or(Failure::Replaced)
            .and_then(|(above, name)| Ok((staging.unit(number)?, open_below(root, above)?, c_name(name)?)));
        let done = match ways {
            Err(failure) => Err(failure),
            Ok((from, to, name)) => match plan.replaced_at(unit) {
                None => sys::rename_new(&from, &name, &to, &name).map_err(|errno| Failure::Os(Op::Create, errno)),
                Some(old) if kept.going(old) == 0 => Err(Failure::NotKept("what is there could not be kept".into())),
                Some(old) => {
                    let mut exchanged = false;
                    kept.remove(old, &pending[old], &to, entry, outcome, |packed, number| {
                        let again = from.try_clone().map_err(|_| OUT_OF_HANDLES)?;
                        let then = packed.as_packed(number).ok_or(Failure::Replaced)?;
                        let before = as_kept(&to, &name, then)?;
                        sys::exchange(&from, &to, &name).map_err(|errno| Failure::Os(Op::Create, errno))?;
                        exchanged = true;
                        // Another name is another change time: what it holds says whether it is the same.
                        let (after, changed) = content(&from, &name, then)?;
                        if after != before {
                            return Err(Failure::Replaced);
                        }
                        packed.renamed(number, changed);
                        placed = true;
                        Ok(again)
                    })?;
                    let whole = placed && outcome.failures.len() == failed_before;
                    if !whole && exchanged && sys::exchange(&from, &to, &name).is_err() {
                        // What came out of its place is not what was kept, and cannot go back: nobody may remove it.
                        entry.staged(&staging.path)?;
                    }
                    if whole { Ok(()) } else { Err(Failure::Replaced) }
                }
            },
        };
        match done {
            Ok(()) => outcome.done += plan.paths_of(unit),
            Err(failure) => {
                // Said once; what was there before and went away is not in its place either.
                let path = plan.real_root.join(unit);
                if outcome.failures.iter().all(|(told, _)| *told != path) {
                    outcome.failures.push((path.clone(), failure));
                }
                entry.not_laid(&path)?;
            }
        }
    }
    for (number, item) in pending.iter().enumerate().skip(plan.replaced.len()) {
        outcome.go_on()?;
        let dir = open_below(root, &item.folder.below);
        match dir.and_then(|dir| Ok((dir.try_clone().map_err(|_| OUT_OF_HANDLES)?, dir))) {
            Ok((again, dir)) => kept.remove(number, item, &dir, entry, outcome, |_, _| Ok(again))?,
            Err(failure) => outcome.fail(plan.site.root.join(&item.folder.below), failure),
        }
    }
    // What is in its place is durable where the system says so; where it does not the next run finds it out.
    let _ = sys::sync_file_system(root);
    Ok(())
}

/// What was packed into a keepsake: which inode, of which kind, and when it was changed last.
type AsPacked = (Identity, Kind, Nanos);

/// The sum of what has a name, which must be what was kept: by its change time, which nobody can set.
fn as_kept(dir: &OwnedFd, name: &CStr, then: AsPacked) -> Result<Option<[u8; 32]>, Failure> {
    let (sum, changed) = content(dir, name, then)?;
    if changed == then.2 { Ok(sum) } else { Err(Failure::Replaced) }
}

/// The sum of what has a name, where that is what was packed, whatever happened to it since; and when it was changed last.
fn content(dir: &OwnedFd, name: &CStr, (id, kind, _): AsPacked) -> Result<(Option<[u8; 32]>, Nanos), Failure> {
    let read = |_| Failure::Os(Op::Read, rustix::io::Errno::IO);
    let sum = match kind {
        Kind::File => {
            let file = sys::open_file(dir, name).map_err(|errno| Failure::Os(Op::Open, errno))?;
            Some(sum_of(file).map_err(read)?)
        }
        _ => None,
    };
    let now = facts(sys::pin(dir, name).map_err(|errno| Failure::Os(Op::Open, errno))?)?;
    if now.id == id && now.kind == kind { Ok((sum, now.changed)) } else { Err(Failure::Replaced) }
}

/// A path that goes into the keepsake, below the root.
fn going(plan: &UnpackPlan, path: &Path, id: Identity, reason: &str) -> Option<PendingRemoval> {
    let (above, name) = split(path)?;
    let whole = plan.real_root.join(above);
    let folder = Arc::new(Folder { base: 0, below: above.to_owned(), path: whole, id: None });
    Some(PendingRemoval { folder, name: c_name(name).ok()?, id: Some(id), reason: reason.to_owned() })
}

/// What the ledger says of everything that is about to get its name.
fn creations(plan: &UnpackPlan, root: &OwnedFd, made: &[Option<Identity>]) -> Vec<CreationRow> {
    let mut last: Option<(&Path, Option<Identity>)> = None;
    let mut rows = Vec::new();
    for ((path, laid), id) in plan.laid.iter().zip(made) {
        let parent = path.parent().unwrap_or(Path::new(""));
        // They come by folders.
        let in_it = match &last {
            Some((known, id)) if *known == parent => *id,
            _ => {
                let made = plan.laid_at(parent).ok().and_then(|at| made[at]);
                made.or_else(|| facts(open_below(root, parent).ok()?).ok().map(|facts| facts.id))
            }
        };
        last = Some((parent, in_it));
        let (kind, content, sum) = match &laid.kind {
            PackedKind::Directory => (Kind::Directory, Vec::new(), None),
            PackedKind::File { sum, .. } => (Kind::File, Vec::new(), Some(*sum)),
            PackedKind::Symlink(target) => {
                (Kind::Symlink, std::os::unix::ffi::OsStrExt::as_bytes(target.as_os_str()).to_vec(), None)
            }
        };
        let path = plan.real_root.join(path);
        rows.push(CreationRow { path, kind, rights: Arc::clone(&laid.rights), content, sum, above: in_it, made: *id });
    }
    rows
}

/// Takes away what stopped runs left of archives that they unpacked: copies of what is in the archive, or of what is in a
/// keepsake.
pub(super) fn sweep_stagings(
    site: &str,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
) -> Result<(), ChangeError> {
    for staging in entry.stagings(site)? {
        if sweep(means.host, &staging) {
            entry.staged(&staging.path)?;
        }
    }
    Ok(())
}
