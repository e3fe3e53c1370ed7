//! What somebody is to know at once: for people a few lines, for programs `alert/1`, on one line.

use std::io::{self, Write};

use ambrik_core::account::Accounts;
use ambrik_core::check::Severity;
use ambrik_core::shown::Shown;
use ambrik_core::watching::{Alarm, Alert};
use jiff::Timestamp;
use serde::Serialize;

use super::drift_text::clock;
use super::json::PathText;
use super::table::{BAD, FAINT, HEAD, ODD, styled, wrapped};
use super::{count, number};

/// As many paths are named to people.
const MOST: usize = 5;

/// The alert in a line.
pub(crate) fn words(alert: &Alert, accounts: &Accounts) -> String {
    let what = match alert.alarm {
        Alarm::Finding(check) => check,
        _ => alert.alarm.word(),
    };
    let paths: Vec<String> = alert.paths.iter().take(MOST).map(|path| Shown(path).to_string()).collect();
    let more = alert.paths.len().saturating_sub(MOST);
    let more = if more > 0 { format!(" and {} more", number(count(more))) } else { String::new() };
    let paths = if paths.is_empty() { String::new() } else { format!(": {}{more}", paths.join(", ")) };
    format!("{}: {what}{paths} ({}){}", alert.site, alert.says, by(alert, accounts))
}

fn by(alert: &Alert, accounts: &Accounts) -> String {
    let by = alert.by.as_ref();
    by.map(|by| {
        format!(", by {} ({}, process {})", accounts.user_shown(by.uid), Shown(by.program.as_ref()), by.process)
    })
    .unwrap_or_default()
}

pub(crate) fn render(alert: &Alert, accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    let style = match alert.severity {
        Severity::High => BAD,
        Severity::Medium => ODD,
        Severity::Low => FAINT,
    };
    let what = match alert.alarm {
        Alarm::Finding(check) => check,
        _ => alert.alarm.word(),
    };
    let severity = styled(style, alert.severity.word());
    let (site, by) = (styled(HEAD, &alert.site), by(alert, accounts));
    wrapped(&format!("{}  {severity}  {site}: {what}{by}", clock(Timestamp::now())), "", "    ", out)?;
    wrapped(&alert.says, "    ", "    ", out)?;
    for path in alert.paths.iter().take(MOST) {
        writeln!(out, "    {}", Shown(path))?;
    }
    let more = alert.paths.len().saturating_sub(MOST);
    if more > 0 {
        writeln!(out, "    and {} more", number(count(more)))?;
    }
    out.flush()
}

#[derive(Serialize)]
struct Document<'d> {
    ambrik: &'static str,
    at: String,
    site: &'d str,
    alarm: &'static str,
    check: Option<&'static str>,
    severity: &'static str,
    paths: Vec<PathText<'d>>,
    says: &'d str,
    by: Option<ByDocument<'d>>,
}

#[derive(Serialize)]
struct ByDocument<'d> {
    account: String,
    program: &'d str,
    process: i32,
}

/// `alert/1`, on one line.
pub(crate) fn document(alert: &Alert, accounts: &Accounts) -> io::Result<String> {
    let document = Document {
        ambrik: "alert/1",
        at: Timestamp::now().to_string(),
        site: &alert.site,
        alarm: alert.alarm.word(),
        check: match alert.alarm {
            Alarm::Finding(check) => Some(check),
            _ => None,
        },
        severity: alert.severity.word(),
        paths: alert.paths.iter().map(|path| PathText::of(path)).collect(),
        says: &alert.says,
        by: alert.by.as_ref().map(|by| ByDocument {
            account: accounts.user_shown(by.uid),
            program: &by.program,
            process: by.process,
        }),
    };
    Ok(serde_json::to_string(&document)?)
}
