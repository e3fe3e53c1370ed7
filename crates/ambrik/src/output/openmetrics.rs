//! Findings as metrics (the OpenMetrics text format 1.0), for a collector that reads files.

use std::collections::BTreeMap;
use std::io::{self, Write};

use ambrik_core::audit::Audit;
use ambrik_core::check::Severity;

use super::found::AuditReport;
use super::told::{Told, of_host, of_site};

/// A metric's labels, and its value.
type Sample<'s> = (Vec<(&'static str, &'s str)>, String);

pub(super) fn write(report: &AuditReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let all = || report.audits.iter().flat_map(of_site).chain(of_host(report.of_host));
    let of_site = |audit| vec![("site", name(audit))];
    let help = "Findings by site, check and severity, accepted ones left out.";
    gauge("ambrik_findings", "", help, counts(all(), false), out)?;
    gauge("ambrik_findings_accepted", "", "Findings that the site file accepts.", counts(all(), true), out)?;
    let by_severity = report.audits.iter().flat_map(|audit| {
        [Severity::High, Severity::Medium, Severity::Low].map(|severity| {
            let is_one =
                |told: &Told<'_>| told.site == audit.site.name && told.severity == severity && told.accepted.is_none();
            let labels = vec![("site", name(audit)), ("severity", severity.word())];
            (labels, all().filter(is_one).count().to_string())
        })
    });
    let help = "Findings of a site by severity, accepted ones left out; 0 where there are none.";
    gauge("ambrik_site_findings", "", help, by_severity.collect(), out)?;
    let paths = report.audits.iter().map(|audit| (of_site(audit), audit.seen.entries.to_string()));
    gauge("ambrik_site_paths", "", "Paths of a site that were looked at.", paths.collect(), out)?;
    let judged = report.audits.iter().map(|audit| (of_site(audit), u8::from(audit.is_complete()).to_string()));
    let not_judged = report.wrong.iter().map(|wrong| (vec![("site", &*wrong.site)], "0".to_owned()));
    let help = "Whether all of a site could be looked at: 1, or 0.";
    gauge("ambrik_site_judged", "", help, judged.chain(not_judged).collect(), out)?;
    let windows = report
        .audits
        .iter()
        .zip(report.until)
        .filter_map(|(audit, until)| Some((of_site(audit), until.as_ref()?.as_second().to_string())));
    let help = "When the install window of an open site ends.";
    gauge("ambrik_window_end_timestamp_seconds", "seconds", help, windows.collect(), out)?;
    let took = vec![(Vec::new(), format!("{:.3}", report.took.as_secs_f64()))];
    gauge("ambrik_audit_duration_seconds", "seconds", "How long the audit took.", took, out)?;
    // What is not whole is no sign of life: whoever waits for a new time is warned.
    let now = report.is_complete().then(|| (Vec::new(), jiff::Timestamp::now().as_second().to_string()));
    let help = "When a complete audit of what was asked for ended.";
    gauge("ambrik_audit_complete_timestamp_seconds", "seconds", help, now.into_iter().collect(), out)?;
    writeln!(out, "# EOF")
}

fn name(audit: &Audit) -> &str {
    &audit.site.name
}

/// How many findings there are of each kind.
fn counts<'t>(told: impl Iterator<Item = Told<'t>>, accepted: bool) -> Vec<Sample<'t>> {
    let mut kinds: BTreeMap<(&str, &str, &str), usize> = BTreeMap::new();
    for told in told.filter(|told| told.accepted.is_some() == accepted) {
        *kinds.entry((told.site, told.check.name, told.severity.word())).or_default() += 1;
    }
    let samples = kinds.into_iter().map(|((site, check, severity), n)| {
        (vec![("site", site), ("check", check), ("severity", severity)], n.to_string())
    });
    samples.collect()
}

/// A family of metrics; nothing where it has none.
pub(super) fn gauge(
    name: &str,
    unit: &str,
    help: &str,
    samples: Vec<Sample<'_>>,
    out: &mut dyn Write,
) -> io::Result<()> {
    if samples.is_empty() {
        return Ok(());
    }
    writeln!(out, "# TYPE {name} gauge")?;
    if !unit.is_empty() {
        writeln!(out, "# UNIT {name} {unit}")?;
    }
    writeln!(out, "# HELP {name} {help}")?;
    for (labels, value) in samples {
        let labels: Vec<String> = labels.iter().map(|(key, value)| format!("{key}=\"{}\"", escaped(value))).collect();
        let labels = if labels.is_empty() { String::new() } else { format!("{{{}}}", labels.join(",")) };
        writeln!(out, "{name}{labels} {value}")?;
    }
    Ok(())
}

/// As the value of a label is written.
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}
