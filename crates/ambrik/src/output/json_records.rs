//! What was changed: `history/1` and `undo/1`.

use std::io::{self, Write};
use std::path::Path;

use ambrik_core::change::{ChangeSet, Did, Outcome, PathChange, UndoPlan, deployments};
use serde::Serialize;

use super::found::{HistoryReport, SetReport};
use super::history_text;
use super::json::{FailedPath, PathText, print};

#[derive(Serialize)]
struct HistoryDocument {
    ambrik: &'static str,
    change_sets: Vec<SetDocument>,
}

#[derive(Serialize)]
struct SetDocument {
    id: i64,
    site: String,
    command: &'static str,
    begun: String,
    ended: Option<String>,
    changed: i64,
    removed: i64,
    failed: i64,
    undoes: Option<i64>,
    undone_by: Option<i64>,
    deployment: Option<i64>,
    /// Who made it; null where an older Ambrik did.
    by: Option<String>,
    command_line: Option<String>,
    /// How long the keepsakes of what it removed are.
    kept_bytes: Option<u64>,
    /// When these were purged: it cannot be taken back any more.
    purged: Option<String>,
    /// How many paths were written in the window that it ended.
    written: Option<i64>,
    /// Of one change set that was asked for, what it did.
    #[serde(skip_serializing_if = "Option::is_none")]
    paths: Option<Vec<PathDocument>>,
}

#[derive(Serialize)]
struct PathDocument {
    #[serde(flatten)]
    path: PathText<'static>,
    what: &'static str,
    from: Option<String>,
    to: Option<String>,
    failed: bool,
}

/// Writes `history/1` of one change set, with its paths.
pub(crate) fn one(report: &SetReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let shown = |rights, kind| Some(history_text::rights(report.accounts, rights, kind));
    let paths = report.paths.iter().map(|PathChange { path, what, failed }| {
        let (what, from, to) = match what {
            Did::Rights { kind, before, after } => ("rights", shown(before, *kind), shown(after, *kind)),
            Did::Made { kind, rights } => ("create", None, shown(rights, *kind)),
            Did::Removed(keepsake) => ("remove", None, keepsake.clone()),
            Did::CameBack => ("restore", None, None),
            Did::Moved(to) => ("move", None, Some(to.to_string_lossy().into_owned())),
        };
        PathDocument { path: PathText::owned(path), what, from, to, failed: *failed }
    });
    let stories = deployments(report.all);
    let set = set_document(report.set, stories.get(&report.set.id).copied(), Some(paths.collect()));
    print(&HistoryDocument { ambrik: "history/1", change_sets: vec![set] }, out)
}

fn set_document(set: &ChangeSet, deployment: Option<i64>, paths: Option<Vec<PathDocument>>) -> SetDocument {
    SetDocument {
        deployment,
        id: set.id,
        site: set.site.clone(),
        command: set.command.word(),
        begun: set.begun.to_string(),
        ended: set.ended.map(|time| time.to_string()),
        changed: set.done - set.removed.min(set.done),
        removed: set.removed,
        failed: set.failed,
        undoes: set.undoes,
        undone_by: set.undone_by,
        by: set.who.clone(),
        command_line: set.line.clone(),
        kept_bytes: None,
        purged: set.purged.map(|time| time.to_string()),
        written: set.written,
        paths,
    }
}

/// Writes `history/1`.
pub(super) fn history(report: &HistoryReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let &HistoryReport { all, site, .. } = report;
    let stories = deployments(all);
    let sets = all.iter().filter(|set| site.is_none_or(|site| set.site == site));
    let change_sets = sets.map(|set| SetDocument {
        kept_bytes: report.kept_of(set.id),
        ..set_document(set, stories.get(&set.id).copied(), None)
    });
    print(&HistoryDocument { ambrik: "history/1", change_sets: change_sets.collect() }, out)
}

#[derive(Serialize)]
struct UndoDocument {
    ambrik: &'static str,
    site: String,
    id: Option<i64>,
    applied: bool,
    undoes: i64,
    changed: u64,
    restored: u64,
    removed: u64,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    moved: Vec<MovedPath>,
    failures: Vec<FailedPath>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    also: Vec<UndoDocument>,
}

/// What moves back.
#[derive(Serialize)]
struct MovedPath {
    from: String,
    to: String,
}

/// Writes `undo/1`: the newest change set that is taken back, and, with it, those before it.
pub(crate) fn undo(taken: &[(&UndoPlan, Option<&Outcome>)], out: &mut dyn Write) -> io::Result<()> {
    let mut documents = taken.iter().map(|(plan, outcome)| undo_document(plan, *outcome));
    let Some(mut newest) = documents.next() else { return Ok(()) };
    newest.also = documents.collect();
    print(&newest, out)
}

fn undo_document(plan: &UndoPlan, outcome: Option<&Outcome>) -> UndoDocument {
    let failures = outcome
        .map_or(&[][..], |outcome| &outcome.failures)
        .iter()
        .map(|(path, failure)| FailedPath { path: PathText::owned(path), error: failure.to_string() });
    UndoDocument {
        ambrik: "undo/1",
        site: plan.set.site.clone(),
        id: outcome.map(|outcome| outcome.id),
        applied: outcome.is_some(),
        undoes: plan.set.id,
        changed: outcome.map_or(super::count(plan.turn_count()), |outcome| outcome.done),
        restored: outcome.map_or(super::count(plan.comes_back().count()), |outcome| outcome.restored),
        removed: outcome.map_or(super::count(plan.goes().count()), |outcome| outcome.removed),
        moved: {
            let text = |path: &Path| path.to_string_lossy().into_owned();
            plan.moves_back().map(|(from, to)| MovedPath { from: text(from), to: text(to) }).collect()
        },
        failures: failures.collect(),
        also: Vec::new(),
    }
}
