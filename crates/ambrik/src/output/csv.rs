//! Findings as CSV (RFC 4180): a line for each finding and path.

use std::io::{self, Write};

use super::found::AuditReport;
use super::told::{Told, of_host, of_site};

pub(super) const HEAD: [&str; 11] =
    ["host", "site", "check", "severity", "part", "path", "says", "remedy", "accepted", "accepted_until", "complete"];

pub(super) fn write(report: &AuditReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let mut writer = csv::Writer::from_writer(out);
    writer.write_record(HEAD)?;
    for wrong in report.wrong {
        let row = [report.host, &wrong.site, "", "", "", "", &wrong.says, "", "", "", "no"];
        writer.write_record(row.map(cell))?;
    }
    for audit in report.audits {
        for told in of_site(audit) {
            rows(report.host, &told, audit.is_complete(), &mut writer)?;
        }
    }
    for told in of_host(report.of_host) {
        rows(report.host, &told, true, &mut writer)?;
    }
    writer.flush()
}

fn rows(host: &str, told: &Told<'_>, complete: bool, writer: &mut csv::Writer<&mut dyn Write>) -> io::Result<()> {
    let until = told.accepted.and_then(|accept| accept.until).map(|day| day.to_string()).unwrap_or_default();
    let because = told.accepted.map_or("", |accept| &accept.reason);
    let mut row = |path: &str| {
        let complete = if complete { "yes" } else { "no" };
        let (check, severity) = (told.check.name, told.severity.word());
        let row =
            [host, told.site, check, severity, told.part, path, &told.says, &told.remedy, because, &until, complete];
        writer.write_record(row.map(cell)).map_err(io::Error::from)
    };
    if told.count() == 0 {
        return row("");
    }
    told.paths().try_for_each(|path| row(&path.to_string_lossy()))
}

/// A cell that no spreadsheet takes for a formula: names on a disk are a stranger's.
pub(super) fn cell(text: &str) -> String {
    if text.starts_with(['=', '+', '-', '@', '\t', '\r', '\n']) { format!("'{text}") } else { text.to_owned() }
}
