//! What is too old to be kept: for people, and as `purge/1`.

use std::collections::BTreeSet;
use std::io::{self, Write};

use jiff::tz::TimeZone;
use serde::Serialize;

use super::found::PurgeReport;
use super::json::print;
use super::table::{FAINT, HEAD, fitting, styled};
use super::{bytes, count, counted};

pub(super) fn render(report: &PurgeReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let PurgeReport { plan, is_done } = report;
    let keepsakes = counted(count(plan.keepsakes.len()), "keepsake", "keepsakes");
    let sets = counted(count(plan.sets.len()), "change set", "change sets");
    if *is_done {
        writeln!(out, "removed {keepsakes} ({}) and the record of {sets}", bytes(plan.bytes()))?;
        return named(&plan.held, "left for the next time, since another run holds", out);
    }
    if plan.is_empty() {
        writeln!(out, "nothing is older than it is kept for")?;
    } else {
        let head =
            format!("{keepsakes} ({}) and the record of {sets} are older than they are kept for", bytes(plan.bytes()));
        writeln!(out, "{}", styled(HEAD, &head))?;
        let all =
            plan.sets.iter().map(|set| (set, "its record")).chain(plan.closed.iter().map(|set| (set, "its keepsake")));
        let mut rows: Vec<(i64, Vec<String>)> = all
            .map(|(set, goes)| {
                let size = plan.keepsakes.iter().filter(|kept| kept.set == set.id).map(|kept| kept.bytes).sum();
                let size = if size == 0 { String::new() } else { bytes(size) };
                let when = set.begun.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string();
                (
                    set.id,
                    vec![set.id.to_string(), when, set.site.clone(), set.command.to_string(), goes.to_owned(), size],
                )
            })
            .collect();
        rows.sort();
        let rows: Vec<Vec<String>> = rows.into_iter().map(|(_, row)| row).collect();
        fitting(&["id", "when", "site", "command", "goes", "size"], &rows, (&[0, 5], &[3, 1]), "", out)?;
        writeln!(out, "{}", styled(FAINT, "none of these can be taken back afterwards"))?;
    }
    named(&plan.spared, "left alone, since open or stopped:", out)
}

/// The sites of which something stays, and why.
fn named(sites: &BTreeSet<String>, why: &str, out: &mut dyn Write) -> io::Result<()> {
    if sites.is_empty() {
        return Ok(());
    }
    let sites: Vec<&str> = sites.iter().map(String::as_str).collect();
    writeln!(out, "{}", styled(FAINT, &format!("{why} {}", sites.join(", "))))
}

#[derive(Serialize)]
struct Document<'d> {
    ambrik: &'static str,
    applied: bool,
    keepsakes: Vec<KeepsakeDocument<'d>>,
    change_sets: Vec<i64>,
    cannot_be_undone: Vec<i64>,
    freed: Option<u64>,
}

#[derive(Serialize)]
struct KeepsakeDocument<'d> {
    change_set: i64,
    name: &'d str,
    bytes: u64,
}

pub(super) fn json(report: &PurgeReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let PurgeReport { plan, is_done } = report;
    let keepsakes = plan.keepsakes.iter();
    let document = Document {
        ambrik: "purge/1",
        applied: *is_done,
        keepsakes: keepsakes
            .map(|kept| KeepsakeDocument { change_set: kept.set, name: &kept.name, bytes: kept.bytes })
            .collect(),
        change_sets: plan.sets.iter().map(|set| set.id).collect(),
        cannot_be_undone: plan.closed.iter().map(|set| set.id).collect(),
        freed: is_done.then(|| plan.bytes()),
    };
    print(&document, out)
}
