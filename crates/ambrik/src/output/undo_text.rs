//! Taking back, for people.

use std::io::{self, Write};
use std::path::Path;

use ambrik_core::change::{Outcome, UndoPlan};
use ambrik_core::shown::Shown;

use super::table::{HEAD, styled, wrapped};
use super::{count, counted, number, paths};

pub(crate) fn render(plan: &UndoPlan, out: &mut dyn Write) -> io::Result<()> {
    let set = &plan.set;
    let turns = count(plan.turn_count());
    let stopped = if plan.interrupted { ", which was stopped in the middle" } else { "" };
    let name = styled(HEAD, &set.site);
    let rights = if turns > 0 {
        let up_to = if set.recorded > 0 { "up to " } else { "" };
        format!(": {up_to}{} rights back", counted(turns, "path gets its", "paths get their"))
    } else {
        String::new()
    };
    writeln!(out, "{name}: take back change set {} ({}{stopped}){rights}", set.id, set.command)?;
    for module in plan.modules() {
        let what = if module.before.is_some() { "is as before in" } else { "goes out of" };
        let name = if module.is_local() { "the local rules".to_owned() } else { format!("module {}", module.name) };
        writeln!(out, "  policy  {name} {what} the host's policy")?;
    }
    for (name, on) in plan.switches() {
        writeln!(out, "  boolean {name} {}", if *on { "off" } else { "on" })?;
    }
    for (from, to) in plan.moves_back() {
        writeln!(out, "  moves back  {} → {}", Shown(from), Shown(to))?;
    }
    list("comes back", plan.comes_back(), out)?;
    list("goes", plan.goes_whole(), out)?;
    list("cannot come back, it was removed without a keepsake:", plan.is_lost(), out)
}

fn list<'p>(what: &str, of: impl Iterator<Item = &'p Path>, out: &mut dyn Write) -> io::Result<()> {
    for path in of {
        writeln!(out, "  {what}  {}", Shown(path))?;
    }
    Ok(())
}

pub(crate) fn outcome(plan: &UndoPlan, outcome: &Outcome, out: &mut dyn Write) -> io::Result<()> {
    let mut told = Vec::new();
    if outcome.done > 0 {
        told.push(format!("{} as before", paths(outcome.done)));
    }
    if outcome.moved > 0 {
        told.push(format!("{} moved back", paths(outcome.moved)));
    }
    if outcome.module {
        told.push("the host's policy as before".to_owned());
    }
    if outcome.restored > 0 {
        told.push(format!("{} came back", paths(outcome.restored)));
    }
    if outcome.removed > 0 {
        told.push(format!("{} removed (kept)", paths(outcome.removed)));
    }
    if !outcome.failures.is_empty() {
        told.push(format!("{} not taken back, see above", number(count(outcome.failures.len()))));
    }
    let id = outcome.id;
    writeln!(out)?;
    let told = format!("{}: {}; change set {id}, taken back by: ambrik undo {id}", plan.set.site, told.join(", "));
    wrapped(&told, "", "  ", out)
}
