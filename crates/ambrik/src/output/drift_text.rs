//! What is no longer as Ambrik left it: for people, and as `drift/1`.

use std::io::{self, Write};

use ambrik_core::change::{Drifted, DriftedTo};
use ambrik_core::entry::Nanos;
use ambrik_core::shown::Shown;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;

use super::found::DriftReport;
use super::history_text::rights;
use super::json::{PathText, print};
use super::table::{FAINT, HEAD, ODD, styled, wrapped};
use super::{count, counted};

/// A moment, to the minute.
pub(super) fn clock(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
}

/// The same, of a change time.
pub(super) fn moment(at: Nanos) -> String {
    Timestamp::from_nanosecond(at.into()).map(clock).unwrap_or_default()
}

pub(super) fn render(report: &DriftReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    for (site, paths) in report.sites {
        let name = styled(HEAD, site);
        if paths.is_empty() {
            writeln!(out, "{name}: all that Ambrik changed is as it left it")?;
            continue;
        }
        let unseen = paths.iter().filter(|found| matches!(found.now, DriftedTo::Unseen { .. })).count();
        let many = |n: usize| counted(count(n), "path is", "paths are");
        let says = match (paths.len() - unseen, unseen) {
            (known, 0) => format!("{} no longer as Ambrik left it", styled(ODD, &many(known))),
            (known, unseen) => {
                format!("{} no longer as Ambrik left it, {unseen} cannot be looked at", styled(ODD, &many(known)))
            }
        };
        writeln!(out, "{name}: {says}")?;
        for found in paths {
            let Drifted { path, kind, left, set, when, .. } = found;
            writeln!(out, "  {}", Shown(path))?;
            let before =
                format!("left   {} (change set {set}, {})", rights(report.accounts, left, *kind), clock(*when));
            wrapped(&styled(FAINT, &before), "    ", "           ", out)?;
            wrapped(&format!("now    {}", now(report, found)), "    ", "           ", out)?;
        }
    }
    Ok(())
}

fn now(report: &DriftReport<'_>, found: &Drifted) -> String {
    match &found.now {
        DriftedTo::Nothing => "nothing is there".to_owned(),
        DriftedTo::Unseen { why } => format!("cannot be told: {why}"),
        DriftedTo::Rights { rights: now, changed } => {
            format!("{}, since {} at the latest", rights(report.accounts, now, found.kind), moment(*changed))
        }
        DriftedTo::Another { kind, rights: now, changed } => format!(
            "another {}, {}, since {} at the latest",
            kind.word(),
            rights(report.accounts, now, *kind),
            moment(*changed)
        ),
    }
}

#[derive(Serialize)]
struct Document<'d> {
    ambrik: &'static str,
    sites: Vec<SiteDocument<'d>>,
}

#[derive(Serialize)]
struct SiteDocument<'d> {
    name: &'d str,
    paths: Vec<DriftDocument>,
}

#[derive(Serialize)]
struct DriftDocument {
    #[serde(flatten)]
    path: PathText<'static>,
    what: &'static str,
    left: String,
    now: Option<String>,
    changed: Option<String>,
    change_set: i64,
    left_at: String,
}

pub(super) fn json(report: &DriftReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let path = |found: &Drifted| {
        let (what, now, changed) = match &found.now {
            DriftedTo::Nothing => ("gone", None, None),
            DriftedTo::Unseen { .. } => ("unseen", None, None),
            DriftedTo::Rights { rights: now, changed } => ("rights", Some((now, found.kind)), Some(*changed)),
            DriftedTo::Another { kind, rights: now, changed } => ("replaced", Some((now, *kind)), Some(*changed)),
        };
        let changed = changed.and_then(|at| Timestamp::from_nanosecond(at.into()).ok());
        DriftDocument {
            path: PathText::owned(&found.path),
            what,
            left: rights(report.accounts, &found.left, found.kind),
            now: now.map(|(now, kind)| rights(report.accounts, now, kind)),
            changed: changed.map(|at| at.to_string()),
            change_set: found.set,
            left_at: found.when.to_string(),
        }
    };
    let sites = report.sites.iter();
    let sites = sites.map(|(name, paths)| SiteDocument { name, paths: paths.iter().map(path).collect() });
    print(&Document { ambrik: "drift/1", sites: sites.collect() }, out)
}
