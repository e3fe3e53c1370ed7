//! A move carried out, step by step, and taken back.

use std::path::Path;

use rustix::io::Errno;

use super::super::keepsake::Successors;
use super::super::ledger::{MovingRow, Recorder};
use super::super::remains::remove_remains;
use super::super::{ChangeContext, ChangeError, Outcome, create};
use super::passage;
use super::relocate::{Endpoint, relocate};
use super::{MovePlan, MoveState, links_to};
use crate::entry::Identity;
use crate::own;
use crate::shown::Shown;
use crate::site;
use crate::tree::{Failure, Host, Op, WayError, sys};

/// Moves it, each step recorded before.
pub(super) fn make_move(
    plan: &MovePlan,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
) -> Result<Outcome, ChangeError> {
    let MovePlan { site, asked, .. } = plan;
    let keeper = site.keeper.ids.uid;
    let mut outcome = Outcome { id: entry.id, ..Outcome::default() };
    let row = MovingRow {
        part: site.parts[asked.part].shown.clone(),
        root: site.root.clone(),
        from: asked.from.clone(),
        to: asked.to.clone(),
        link: plan.link,
        file: site.file.clone(),
        text_before: asked.text_before.clone(),
        text_after: asked.text_after.clone(),
        keeper,
        moved: None,
    };
    // A run that is finished named its part by the old path.
    let row = if asked.written { MovingRow { part: Shown(&asked.from).to_string(), ..row } } else { row };
    let number = entry.moving(&row)?;
    for creation in &plan.creations {
        match create(creation, keeper, means.host, entry)? {
            Ok(()) => outcome.done += 1,
            Err(failure) => outcome.fail(creation.path.clone(), failure),
        }
    }
    if outcome.failures.is_empty() {
        passage::open(&plan.passages, entry, means, &mut outcome)?;
    }
    outcome.go_on()?;
    if outcome.failures.is_empty() {
        carry_out(&row, number, plan.state, entry, means, &mut outcome)?;
    }
    if outcome.moved == 0 {
        // What was being copied is gone again.
        outcome.go_on()?;
    }
    Ok(outcome)
}

/// The steps of a move from `row.from` to `row.to`, but for the way there: the data, the link, the site file.
pub(super) fn carry_out(
    row: &MovingRow,
    number: i64,
    state: MoveState,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let find = |path: &Path| Endpoint::find(means.host, path, row.keeper).map_err(|error| way_failure(&error));
    let (from, to) = match (find(&row.from), find(&row.to)) {
        (Ok(from), Ok(to)) => (from, to),
        (from, to) => {
            let paths = [(&row.from, from.err()), (&row.to, to.err())];
            for (path, failure) in paths.into_iter().filter_map(|(path, failure)| Some((path, failure?))) {
                outcome.failures.push((path.clone(), failure));
            }
            return Ok(());
        }
    };
    if state == MoveState::Both {
        // Copied whole and not yet removed whole: what is left here goes into a keepsake.
        remove_remains(entry, &row.from, "what a stopped move left in the old place", means, outcome)?;
    } else if state == MoveState::Old {
        let mut unrecorded = None;
        let done = (|| {
            let one = |failure| vec![(from.path.clone(), failure)];
            let facts = from.look().map_err(one)?.ok_or_else(|| one(Failure::Os(Op::Move, Errno::NOENT)))?;
            let paths = from.list().map_err(|failure| vec![failure])?.len();
            let mut record = |copies: &[(Identity, Identity)]| {
                entry.succeeded(copies).map_err(|error| {
                    unrecorded = Some(error);
                    Failure::Says("the ledger cannot be written".into())
                })
            };
            relocate(&from, &to, facts.id, &mut record).map(|left| (paths, left))
        })();
        if let Some(error) = unrecorded {
            return Err(error.into());
        }
        match done {
            Ok((paths, left)) => {
                outcome.moved += paths as u64;
                outcome.failures.extend(left);
            }
            Err(failures) => {
                outcome.failures.extend(failures);
                return Ok(());
            }
        }
    }
    if let Ok(Some(facts)) = to.look() {
        entry.moved(number, &facts.id)?;
    }
    if row.link
        && let Err(failure) = leave_link(&from, &row.to)
    {
        outcome.failures.push((row.from.clone(), failure));
    }
    if let Err(failure) = write_site_file(row, means.host) {
        outcome.failures.push((row.file.clone(), failure));
    }
    Ok(())
}

pub(super) fn way_failure(error: &WayError) -> Failure {
    match error {
        WayError::Failed(_, errno) => Failure::Os(Op::Move, *errno),
        WayError::Missing(_) => Failure::Os(Op::Move, Errno::NOENT),
        WayError::ForeignLink(_) => Failure::ForeignLink,
        WayError::NoDirectory(_) | WayError::Loop(_) => Failure::Os(Op::Move, Errno::NOTDIR),
    }
}

/// A symlink in the old place, unless it is there.
pub(super) fn leave_link(from: &Endpoint, to: &Path) -> Result<(), Failure> {
    use std::os::unix::ffi::OsStrExt as _;
    match sys::make_symlink(&from.dir, &from.name, to.as_os_str().as_bytes()) {
        Err(Errno::EXIST) if links_to(from, to) => Ok(()),
        Err(Errno::EXIST) => Err(Failure::NotOurs("something is in the old place; no symlink was left".into())),
        Err(errno) => Err(Failure::Os(Op::Create, errno)),
        Ok(()) => Ok(()),
    }
}

/// Brings the site file to say where the part is now: as it was recorded, or, where it was changed since, in that one path.
pub(super) fn write_site_file(row: &MovingRow, host: &Host) -> Result<(), Failure> {
    let said = |error: &dyn std::fmt::Display| Failure::Says(error.to_string());
    let place = own::OwnPlace::of(host, &row.file).map_err(|error| said(&error))?;
    let (now, exposed) = place.read().map_err(|error| said(&format!("cannot read the site file: {error}")))?;
    if let Some(exposed) = exposed {
        return Err(said(&format!("{}: {}; {}", Shown(&exposed.path), exposed.why, exposed.mend)));
    }
    let text = if now == row.text_before {
        row.text_after.clone()
    } else {
        site::with_moved(&now, &row.file, &row.root, &row.from, &row.to).map_err(|error| said(&error))?
    };
    let written = if text == now { site::clear_beside(&place) } else { site::replace(&place, &text) };
    written.map_err(|error| said(&error))
}

/// Moves what a change set moved back, with what is in it now; the site file says so again.
pub(in crate::change) fn move_back(
    row: &MovingRow,
    successors: &mut Successors,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let back = MovingRow {
        from: row.to.clone(),
        to: row.from.clone(),
        link: false,
        text_before: row.text_after.clone(),
        text_after: row.text_before.clone(),
        moved: None,
        ..row.clone()
    };
    let find = |path: &Path| Endpoint::find(means.host, path, row.keeper).ok();
    let exists = |place: &Option<Endpoint>| place.as_ref().is_some_and(|place| matches!(place.look(), Ok(Some(_))));
    let (new, old) = (find(&back.from), find(&back.to));
    if let Some(new) = &new {
        // A copy that was not finished.
        if let Err((path, failure)) = new.clear_beside() {
            outcome.fail(path, failure);
        }
    }
    if let (Some(then), Some(Ok(Some(now)))) = (&row.moved, new.as_ref().map(Endpoint::look))
        && !successors.is(&now.id, then)
    {
        // Whoever may rename what leads there can put another tree in its place.
        let why = "something else than what was moved there is there now";
        outcome.failures.push((row.to.clone(), Failure::NotOurs(why.into())));
        return Ok(());
    }
    let link = old.as_ref().filter(|old| row.link && links_to(old, &back.from));
    if let Some(Err(errno)) = link.map(|old| sys::unlink(&old.dir, &old.name, false)) {
        outcome.fail(row.from.clone(), Failure::Os(Op::Remove, errno));
    }
    let state = match (exists(&new), exists(&old)) {
        (false, true) => {
            // It was never moved, or is back already.
            entry.moving(&back)?;
            if let Err(failure) = write_site_file(&back, means.host) {
                outcome.failures.push((back.file, failure));
            }
            return Ok(());
        }
        (_, false) => MoveState::Old,
        (true, true) => {
            // Moved to another file system and not yet removed whole in the old place.
            let why = "left in the old place by a move that was taken back";
            remove_remains(entry, &back.to, why, means, outcome)?;
            MoveState::Old
        }
    };
    let number = entry.moving(&back)?;
    carry_out(&back, number, state, entry, means, outcome)?;
    *successors = entry.successors()?;
    Ok(())
}
