//! A change set as a page, for a change record: who made it, with what command, and every path before and after.

use std::collections::BTreeMap;
use std::io::{self, Write};
use std::path::Path;

use ambrik_core::change::{Did, PathChange};
use ambrik_core::shown::Shown;
use maud::{Markup, html};

use super::found::SetReport;
use super::history_text::{rights, state_word};
use super::html::{clock, page};
use super::{count, paths};

/// What was done, before, and after; by this the paths are told.
type How = (&'static str, String, String);

pub(super) fn write(report: &SetReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let set = report.set;
    let undoes = set.undoes.map(|id| format!(" of change set {id}")).unwrap_or_default();
    let verdict = format!("{}{undoes}: {}, {}", set.command, paths(count(report.paths.len())), state_word(set));
    let content = html! {
        (facts(report))
        @if report.paths.is_empty() { p { "No path was changed." } } @else { (changes(report)) }
    };
    page(&format!("Change set {} of {}", set.id, set.site), "from the records of this host", &verdict, &content, out)
}

fn facts(report: &SetReport<'_>) -> Markup {
    let set = report.set;
    let phases = (set.phase_before, set.phase_after);
    html! {
        table {
            caption { "How it came about" }
            tbody {
                tr { th scope="row" { "Begun" } td { (clock(set.begun)) } }
                tr { th scope="row" { "Ended" } td { @match set.ended { Some(at) => (clock(at)), None => "it was stopped in the middle" } } }
                @if let Some(who) = &set.who { tr { th scope="row" { "By" } td { (who) } } }
                @if let Some(line) = &set.line { tr { th scope="row" { "Command" } td { code { (line) } } } }
                tr { th scope="row" { "Phase" } td { (phases.0) @if phases.0 != phases.1 { ", then " (phases.1) } } }
                @if let Some(by) = set.undone_by { tr { th scope="row" { "Taken back" } td { "by change set " (by) } } }
                @else { tr { th scope="row" { "To take it back" } td { code { "ambrik undo " (set.id) } } } }
            }
        }
    }
}

/// What was done, alike things once, each with all of its paths.
fn changes(report: &SetReport<'_>) -> Markup {
    let mut alike: BTreeMap<(bool, How), Vec<&Path>> = BTreeMap::new();
    for change in report.paths {
        alike.entry((!change.failed, how(report, change))).or_default().push(&change.path);
    }
    html! {
        h3 { "What was changed" }
        @for ((done, (what, before, after)), paths) in &alike {
            div class={ "finding " (if *done { "low" } else { "high" }) } {
                h4 { (what) ", " (super::paths(count(paths.len()))) @if !done { " (could not be done)" } }
                @if !before.is_empty() { p { "Before: " code { (before) } } }
                @if !after.is_empty() { p { "After: " code { (after) } } }
                ul { @for path in paths { li { code { (Shown(path)) } } } }
            }
        }
    }
}

fn how(report: &SetReport<'_>, change: &PathChange) -> How {
    let shown = |of, kind| rights(report.accounts, of, kind);
    match &change.what {
        Did::Rights { kind, before, after } => ("Owner, mode, lists, label", shown(before, *kind), shown(after, *kind)),
        Did::Made { kind, rights } => ("Made", String::new(), format!("{} {}", kind.word(), shown(rights, *kind))),
        Did::Removed(Some(keepsake)) => ("Removed", String::new(), format!("kept in {keepsake}")),
        Did::Removed(None) => ("Removed", String::new(), "not kept".to_owned()),
        Did::CameBack => ("Came back", String::new(), String::new()),
        Did::Moved(to) => ("Moved", String::new(), Shown(to).to_string()),
    }
}
