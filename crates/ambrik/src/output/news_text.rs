//! What is new since the last audit: for people, and as `news/1`.

use std::io::{self, Write};
use std::path::Path;

use ambrik_core::audit::{HowNew, News};
use ambrik_core::shown::Shown;
use serde::Serialize;

use super::found::NewsReport;
use super::json::print;
use super::table::{BAD, FAINT, GOOD, ODD, styled, wrapped};
use super::{number, paths};

pub(super) fn render(report: &NewsReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    if report.news.is_empty() {
        return Ok(());
    }
    let since = report.since.map_or_else(
        || "no audit of the whole host is on record before this one".to_owned(),
        |since| format!("since {}", since.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M")),
    );
    writeln!(out, "{}: {}", report.host, styled(FAINT, &since))?;
    for News { finding, how } in report.news {
        let style = match (&*finding.severity, how) {
            (_, HowNew::Gone) => GOOD,
            ("high", _) => BAD,
            _ => ODD,
        };
        let word = match how {
            HowNew::New => "new",
            HowNew::Other(_) => "other",
            HowNew::Gone => "gone",
        };
        let part =
            if finding.part.is_empty() { String::new() } else { format!(" in {}", Shown(Path::new(&finding.part))) };
        let count = match how {
            HowNew::Other(before) => format!(", {} → {}", number(*before), paths(finding.paths)),
            HowNew::New | HowNew::Gone if finding.paths > 0 => format!(", {}", paths(finding.paths)),
            HowNew::New | HowNew::Gone => String::new(),
        };
        let head = format!("{}  {}  {}{part}{count}", finding.site, finding.severity, finding.check);
        writeln!(out, "  {}  {head}", styled(style, &format!("{word:<5}")))?;
        if *how != HowNew::Gone {
            wrapped(&finding.says, "         ", "         ", out)?;
        }
    }
    Ok(())
}

#[derive(Serialize)]
struct Document<'d> {
    ambrik: &'static str,
    host: &'d str,
    since: Option<String>,
    news: Vec<NewsDocument<'d>>,
}

#[derive(Serialize)]
struct NewsDocument<'d> {
    how: &'static str,
    site: &'d str,
    check: &'d str,
    severity: &'d str,
    part: &'d str,
    says: &'d str,
    paths: u64,
    paths_before: Option<u64>,
}

pub(super) fn json(report: &NewsReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let news = report.news.iter().map(|News { finding, how }| {
        let (how, paths_before) = match how {
            HowNew::New => ("new", None),
            HowNew::Other(before) => ("other", Some(*before)),
            HowNew::Gone => ("gone", None),
        };
        NewsDocument {
            how,
            site: &finding.site,
            check: &finding.check,
            severity: &finding.severity,
            part: &finding.part,
            says: &finding.says,
            paths: finding.paths,
            paths_before,
        }
    });
    let since = report.since.map(|since| since.to_string());
    print(&Document { ambrik: "news/1", host: report.host, since, news: news.collect() }, out)
}
