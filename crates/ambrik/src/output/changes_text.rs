//! Changes for people: those that are alike in one line.

use std::io::{self, Write};

use ambrik_core::account::Accounts;
use ambrik_core::audit::Audit;
use ambrik_core::change::{Group, Outcome, Plan};
use ambrik_core::check::Severity;
use ambrik_core::entry::{Kind, Rights};
use ambrik_core::shown::Shown;

use super::table::{GOOD, HEAD, ODD, cut, styled, table, wrapped, write};
use super::{count, counted, number, paths};

pub(crate) fn render(plan: &Plan, accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "{}: {}", styled(HEAD, &plan.audit.site.name), summary(plan))?;
    let groups = plan.groups();
    if !groups.is_empty() {
        writeln!(out)?;
        let mut rows = table(&["part", "paths", "", "owner", "mode", "for example"], &[1]);
        for group in &groups {
            rows.add_row(row(plan, group, accounts));
        }
        write(&mut rows, "  ", out)?;
    }
    if !plan.creations.is_empty() || !plan.removals.is_empty() {
        writeln!(out)?;
    }
    for creation in &plan.creations {
        let rights = ambrik_core::audit::rights_shown(accounts, &creation.rights, creation.kind);
        writeln!(out, "  make    {}  ({}, {rights})", Shown(&creation.path), creation.kind.word())?;
    }
    for removal in &plan.removals {
        let path = removal.path.strip_prefix(&plan.audit.site.root).unwrap_or(&removal.path);
        let inside = if removal.directory { format!(", {}", paths(count(removal.files))) } else { String::new() };
        writeln!(out, "  remove  {}  ({}{inside})", Shown(path), removal.reason)?;
    }
    for (path, failure) in plan.left_alone() {
        wrapped(&format!("leave   {}: {failure}", Shown(&path)), "  ", "          ", out)?;
    }
    Ok(())
}

fn summary(plan: &Plan) -> String {
    if plan.is_empty() {
        return "nothing to do".into();
    }
    let mut told = Vec::new();
    let turns = count(plan.turn_count());
    if turns > 0 {
        told.push(format!("{} {} other rights", paths(turns), if turns == 1 { "gets" } else { "get" }));
    }
    let made = count(plan.creations.len());
    if made > 0 {
        told.push(format!("{} made", counted(made, "is", "are")));
    }
    let removed: u64 = plan.removals.iter().map(|removal| count(removal.files)).sum();
    if removed > 0 {
        told.push(format!("{} removed to a keepsake", counted(removed, "is", "are")));
    }
    told.join(", ")
}

fn row(plan: &Plan, group: &Group, accounts: &Accounts) -> Vec<String> {
    let kind = match (group.kind, group.count) {
        (Kind::Directory, 1) => "directory",
        (Kind::Directory, _) => "directories",
        (Kind::Symlink, 1) => "symlink",
        (Kind::Symlink, _) => "symlinks",
        (_, 1) => "file",
        (_, _) => "files",
    };
    let (before, after) = (&*group.before, &*group.after);
    let owner = |rights: &Rights| format!("{}:{}", accounts.user_shown(rights.uid), accounts.group_shown(rights.gid));
    let owners = if (before.uid, before.gid) == (after.uid, after.gid) {
        String::new()
    } else {
        format!("{} → {}", owner(before), owner(after))
    };
    let mode = |rights: &Rights| {
        let list = if rights.acl.is_some() || rights.default_acl.is_some() { "+acl" } else { "" };
        format!("{}{list}", rights.mode)
    };
    let modes = if !group.kind.has_mode() || mode(before) == mode(after) { String::new() } else { format!("{} → {}", mode(before), mode(after)) };
    let part = cut(plan.audit.part_shown(group.part), 22);
    let used = part.chars().count() + owners.chars().count() + modes.chars().count() + kind.len() + 20;
    let example = cut(&Shown(&group.example).to_string(), 98_usize.saturating_sub(used).max(12));
    vec![part, number(count(group.count)), kind.to_owned(), owners, modes, example]
}

pub(crate) fn outcome(plan: &Plan, outcome: &Outcome, out: &mut dyn Write) -> io::Result<()> {
    let mut told = vec![format!("{} changed", paths(outcome.done))];
    if outcome.removed > 0 {
        let kept = if outcome.keepsake.is_some() { " (kept)" } else { " for good" };
        told.push(format!("{} removed{kept}", number(outcome.removed)));
    }
    let failed = count(outcome.failures.len());
    if failed > 0 {
        told.push(styled(ODD, &format!("{} not changed, see above", number(failed))));
    }
    let back = format!("change set {}, taken back by: ambrik undo {}", outcome.id, outcome.id);
    writeln!(out, "\n{}: {}; {back}", styled(HEAD, &plan.audit.site.name), told.join(", "))
}

/// The line after `seal`: what remains.
pub(crate) fn closing(audit: &Audit, out: &mut dyn Write) -> io::Result<()> {
    let name = styled(HEAD, &audit.site.name);
    let of = |severity: Severity| audit.findings.iter().filter(|f| f.accepted.is_none() && f.severity() == severity).count();
    let told: Vec<String> = [Severity::High, Severity::Medium, Severity::Low]
        .into_iter()
        .filter(|severity| of(*severity) > 0)
        .map(|severity| format!("{} {severity}", of(severity)))
        .collect();
    if told.is_empty() {
        return writeln!(out, "{name}: {}", styled(GOOD, "sealed; looked at again, nothing remains"));
    }
    let site = &audit.site.name;
    writeln!(out, "{name}: {}", styled(ODD, &format!("sealed; findings remain ({}): ambrik audit {site}", told.join(", "))))
}
