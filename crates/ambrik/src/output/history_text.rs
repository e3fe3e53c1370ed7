//! Change sets for people.

use std::io::{self, Write};

use ambrik_core::account::Accounts;
use ambrik_core::change::{ChangeSet, Did, PathChange, deployments};
use ambrik_core::entry::{Kind, Rights};
use ambrik_core::shown::Shown;
use jiff::tz::TimeZone;

use super::found::{HistoryReport, SetReport};
use super::table::{FAINT, HEAD, ODD, fitting, styled, table, wrapped, write};
use super::{bytes, number};

pub(super) fn render(report: &HistoryReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let &HistoryReport { all, site, .. } = report;
    let sets: Vec<&ChangeSet> = all.iter().filter(|set| site.is_none_or(|site| set.site == site)).collect();
    if sets.is_empty() {
        return writeln!(out, "nothing has been changed yet");
    }
    let stories = deployments(all);
    let mut rows: Vec<Vec<String>> = Vec::new();
    for &set in &sets {
        let when = set.begun.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string();
        let command = set.undoes.map_or_else(|| set.command.to_string(), |id| format!("undo {id}"));
        let count = |n: i64| number(n.unsigned_abs());
        rows.push(vec![
            set.id.to_string(),
            when,
            set.site.clone(),
            command,
            match set.recorded {
                0 => count(set.done - set.removed.min(set.done)),
                recorded => format!("up to {}", count(recorded)),
            },
            count(set.removed),
            count(set.failed),
            report.kept_of(set.id).map(bytes).unwrap_or_default(),
            stories.get(&set.id).map(|began| format!("since {began}")).unwrap_or_default(),
            state(set),
        ]);
        // What happened between the opening and this, as the story has it: newest first.
        if let Some(written) = set.written.filter(|written| *written > 0) {
            let (none, says) = (String::new, "by the installer, or by others who could write");
            rows.push(vec![
                none(),
                none(),
                set.site.clone(),
                "(written)".to_owned(),
                count(written),
                none(),
                none(),
                none(),
                none(),
                says.to_owned(),
            ]);
        }
    }
    let heads = ["id", "when", "site", "command", "changed", "removed", "failed", "kept", "deployment", "state"];
    fitting(&heads, &rows, (&[0, 4, 5, 6, 7], &[6, 5, 8, 7, 4]), "", out)?;
    let newest = sets.iter().filter(|set| set.undone_by.is_none()).find_map(|set| stories.get(&set.id));
    writeln!(out, "\n{}", styled(FAINT, "one of them, path by path: ambrik history ID"))?;
    let Some(began) = newest else { return Ok(()) };
    writeln!(out, "{}", styled(FAINT, &format!("a whole deployment is taken back by: ambrik undo --since {began}")))
}

/// What one change set did, path by path.
pub(crate) fn one(report: &SetReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let SetReport { set, paths, accounts, .. } = report;
    let when = set.begun.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string();
    let undoes = set.undoes.map(|id| format!(" of {id}")).unwrap_or_default();
    let name = styled(HEAD, &format!("{}: {}{undoes}", set.site, set.command));
    writeln!(out, "{name}, {when}, change set {}, {}", set.id, state(set))?;
    if let (Some(who), Some(line)) = (&set.who, &set.line) {
        wrapped(&styled(FAINT, &format!("by {who}: {line}")), "  ", "    ", out)?;
    }
    if let Some(written) = set.written.filter(|written| *written > 0) {
        let words = format!("  in the window that it ended {} were written", super::paths(written.unsigned_abs()));
        writeln!(out, "{}", styled(FAINT, &words))?;
    }
    let mut rows = table(&[]);
    for PathChange { path, what, failed } in *paths {
        let failed = if *failed { styled(ODD, "  not done") } else { String::new() };
        let (what, how) = match what {
            Did::Rights { kind, before, after } => {
                ("rights", format!("{} → {}", rights(accounts, before, *kind), rights(accounts, after, *kind)))
            }
            Did::Made { kind, rights: with } => ("made", format!("{} {}", kind.word(), rights(accounts, with, *kind))),
            Did::Removed(Some(keepsake)) => ("removed", format!("kept in {keepsake}")),
            Did::Removed(None) => ("removed", "not kept".to_owned()),
            Did::CameBack => ("came back", String::new()),
            Did::Moved(to) => ("moved", format!("to {}", Shown(to))),
        };
        rows.add_row(vec![what.to_owned(), Shown(path).to_string(), format!("{how}{failed}")]);
    }
    write(&mut rows, &[], "  ", out)?;
    if set.undone_by.is_none() {
        writeln!(out, "{}", styled(FAINT, &format!("taken back by: ambrik undo {}", set.id)))?;
    }
    Ok(())
}

/// Owner, group, mode, who is named in lists, and the label.
pub(super) fn rights(accounts: &Accounts, rights: &Rights, kind: Kind) -> String {
    let mut words = vec![accounts.owner_shown(rights.uid, rights.gid)];
    if kind.has_mode() {
        words.push(rights.mode.to_string());
    }
    for (acl, prefix) in [(&rights.acl, ""), (&rights.default_acl, "default:")] {
        words.extend(acl.as_ref().map(|acl| super::acl_text(accounts, acl, prefix)));
    }
    words.extend(rights.label.as_ref().map(ToString::to_string));
    words.join(" ")
}

fn state(set: &ChangeSet) -> String {
    let word = state_word(set);
    let is_odd = set.undone_by.is_none() && (set.ended.is_none() || set.failed > 0);
    if is_odd { styled(ODD, &word) } else { word }
}

/// What became of a change set.
pub(super) fn state_word(set: &ChangeSet) -> String {
    match (set.undone_by, set.ended) {
        (Some(by), _) => format!("taken back by {by}"),
        (None, None) => "stopped in the middle".into(),
        (None, Some(_)) if set.purged.is_some() => "done, purged".into(),
        (None, Some(_)) if set.failed > 0 => "done in part".into(),
        (None, Some(_)) => "done".into(),
    }
}
