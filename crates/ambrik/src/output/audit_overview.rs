//! An audit for people as a whole: many sites at a glance, then those that are told whole.

use std::io::{self, Write};

use ambrik_core::audit::{Audit, OutlineFindings, by_outline};
use ambrik_core::check::Severity;

use super::audit_text::{block, host, severities, totals, verdict};
use super::found::AuditReport;
use super::table::{BAD, FAINT, HEAD, ODD, cut, styled, table, wrapped, write};
use super::{count, number};

/// Of more sites than these not every one is told whole.
const FEW: usize = 3;
/// So few sites that are as they should be are named.
const FEW_NAMES: usize = 24;

pub(super) fn render(report: &AuditReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let AuditReport { audits, of_host, each, .. } = *report;
    let all = audits.len() + report.wrong.len();
    let many = all > FEW && !each;
    if many {
        overview(report, out)?;
    }
    let is_told = |audit: &&Audit| match audit.worst() {
        None => !report.quiet && !many,
        Some(worst) => !many || worst == Severity::High,
    };
    // In words it says so itself.
    let legend = "rw → r: it can read and write, and should read alone; in 4: of so many paths";
    let mut legend = Some(legend).filter(|_| !crate::plain::is_plain());
    for (n, audit) in audits.iter().filter(is_told).enumerate() {
        if n > 0 || many {
            writeln!(out)?;
        }
        block(audit, of_host, each, &mut legend, out)?;
    }
    host(of_host, out)?;
    match all {
        0 | 1 => Ok(()),
        _ if many => writeln!(out, "\n{}", styled(FAINT, "one site whole: ambrik audit SITE; all of them: --each")),
        _ => writeln!(out, "\n{}", totals(report)),
    }
}

/// A line for each site that is not as it should be, the worst first; the others in one.
fn overview(report: &AuditReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "{}\n", styled(HEAD, &totals(report)))?;
    let mut sites: Vec<(&Audit, Option<jiff::Timestamp>)> =
        report.audits.iter().zip(report.until.iter().copied()).collect();
    sites.sort_by_key(|(audit, _)| std::cmp::Reverse(severities(audit)));
    let (bad, good): (Vec<_>, Vec<_>) = sites.into_iter().partition(|(audit, _)| audit.worst().is_some());
    let is_open = |until: &Option<jiff::Timestamp>| until.is_some();
    let (open, room) = if bad.iter().any(|(_, until)| is_open(until)) { (true, 42) } else { (false, 58) };
    let heads = ["site", "high", "medium", "low", "what matters most", "window"];
    let mut rows = table(&heads[..if open { 6 } else { 5 }]);
    for wrong in report.wrong {
        rows.add_row([
            cut(&wrong.site, 24),
            String::new(),
            String::new(),
            String::new(),
            styled(BAD, "not judged, see above"),
        ]);
    }
    for (audit, until) in bad {
        let [high, medium, low] = severities(audit).map(|n| if n == 0 { String::new() } else { number(count(n)) });
        let (look, words) = verdict(audit);
        let first = words.split("; ").next().unwrap_or_default();
        let mut row = vec![
            cut(&audit.site.name, 24),
            styled(BAD, &high),
            styled(ODD, &medium),
            low,
            styled(look, &cut(first, room)),
        ];
        if open {
            row.push(until.map(left).unwrap_or_default());
        }
        rows.add_row(row);
    }
    write(&mut rows, &[1, 2, 3], "  ", out)?;
    for OutlineFindings { outline, sites, checks } in by_outline(report.audits) {
        let each = checks.iter().map(|(check, of)| format!("{of} of its {sites} sites: {}", check.name));
        let words = format!("outline {outline}: {}", each.collect::<Vec<_>>().join("; "));
        wrapped(&words, "  ", "    ", out)?;
    }
    let names: Vec<&str> = good.iter().map(|(audit, _)| &*audit.site.name).collect();
    match names.len() {
        0 => Ok(()),
        1..=FEW_NAMES => wrapped(&format!("as they should be: {}", names.join(", ")), "  ", "    ", out),
        n => writeln!(out, "  {} more are as they should be", number(count(n))),
    }
}

/// How long a window is open still.
fn left(until: jiff::Timestamp) -> String {
    let minutes = (until.as_second() - jiff::Timestamp::now().as_second() + 59) / 60;
    if minutes > 0 { format!("{minutes} min left") } else { styled(BAD, "past its end") }
}
