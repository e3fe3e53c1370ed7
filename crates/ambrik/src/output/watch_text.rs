//! What somebody is to know at once: for people a few lines, for programs `alert/1`, on one line.

use std::io::{self, Write};

use ambrik_core::account::Accounts;
use ambrik_core::fleet::{FleetAlert, FleetBy};
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

/// An alert as it is told, of this host or of another.
pub(crate) struct Told {
    /// Where, if not here.
    pub(crate) host: Option<String>,
    pub(crate) at: Timestamp,
    pub(crate) site: String,
    pub(crate) alarm: String,
    pub(crate) check: Option<String>,
    pub(crate) severity: String,
    /// The paths as they are shown, and how many there are besides.
    pub(crate) paths: Vec<String>,
    pub(crate) more: u64,
    pub(crate) says: String,
    pub(crate) by: Option<FleetBy>,
    /// `alert/1`, or `fleet-alert/1`, on one line.
    pub(crate) document: String,
}

impl Told {
    pub(crate) fn here(alert: &Alert, accounts: &Accounts) -> io::Result<Self> {
        let check = match alert.alarm {
            Alarm::Finding(check) => Some(check),
            _ => None,
        };
        let by = alert.by.as_ref().map(|by| FleetBy {
            account: accounts.user_shown(by.uid),
            program: by.program.clone(),
            process: by.process,
        });
        let at = Timestamp::now();
        let document = Document {
            ambrik: "alert/1",
            at,
            site: &alert.site,
            alarm: alert.alarm.word(),
            check,
            severity: alert.severity.word(),
            paths: alert.paths.iter().map(|path| PathText::of(path)).collect(),
            says: &alert.says,
            by: by.as_ref(),
        };
        Ok(Self {
            document: serde_json::to_string(&document)?,
            host: None,
            at,
            site: alert.site.clone(),
            alarm: alert.alarm.word().to_owned(),
            check: check.map(str::to_owned),
            severity: alert.severity.word().to_owned(),
            paths: alert.paths.iter().map(|path| Shown(path).to_string()).collect(),
            more: 0,
            says: alert.says.clone(),
            by,
        })
    }

    pub(crate) fn of(host: &str, alert: FleetAlert) -> io::Result<Self> {
        let paths_left_out = alert.paths.1;
        let document = FleetDocument { ambrik: "fleet-alert/1", host, paths_left_out, alert: &alert };
        let document = serde_json::to_string(&document)?;
        let FleetAlert { at, site, alarm, check, severity, paths: (paths, more), says, by, .. } = alert;
        let paths = paths.into_iter().map(|path| path.path).collect();
        Ok(Self { host: Some(host.to_owned()), at, site, alarm, check, severity, paths, more, says, by, document })
    }

    fn what(&self) -> &str {
        self.check.as_ref().unwrap_or(&self.alarm)
    }

    fn by(&self) -> String {
        let by = self.by.as_ref();
        by.map(|by| format!(", by {} ({}, process {})", by.account, Shown(by.program.as_ref()), by.process))
            .unwrap_or_default()
    }

    fn more(&self) -> Option<String> {
        let more = count(self.paths.len().saturating_sub(MOST)) + self.more;
        (more > 0).then(|| format!("and {} more", number(more)))
    }

    /// In a line.
    pub(crate) fn words(&self) -> String {
        let mut paths = self.paths.iter().take(MOST).cloned().collect::<Vec<_>>().join(", ");
        if !paths.is_empty() {
            paths.insert_str(0, ": ");
        }
        let more = self.more().map(|more| format!(" {more}")).unwrap_or_default();
        let host = self.host.as_ref().map(|host| format!("{host}: ")).unwrap_or_default();
        format!("{host}{}: {}{paths}{more} ({}){}", self.site, self.what(), self.says, self.by())
    }

    pub(crate) fn render(&self, out: &mut dyn Write) -> io::Result<()> {
        let style = match &*self.severity {
            "high" => BAD,
            "medium" => ODD,
            _ => FAINT,
        };
        let severity = styled(style, &self.severity);
        let host = self.host.as_ref().map(|host| format!("{}  ", styled(HEAD, host))).unwrap_or_default();
        let site = styled(HEAD, &self.site);
        let head = format!("{}  {severity}  {host}{site}: {}{}", clock(self.at), self.what(), self.by());
        wrapped(&head, "", "    ", out)?;
        wrapped(&self.says, "    ", "    ", out)?;
        for line in self.paths.iter().take(MOST).cloned().chain(self.more()) {
            writeln!(out, "    {line}")?;
        }
        out.flush()
    }
}

#[derive(Serialize)]
struct Document<'d> {
    ambrik: &'static str,
    at: Timestamp,
    site: &'d str,
    alarm: &'static str,
    check: Option<&'static str>,
    severity: &'static str,
    paths: Vec<PathText<'d>>,
    says: &'d str,
    by: Option<&'d FleetBy>,
}

#[derive(Serialize)]
struct FleetDocument<'d> {
    ambrik: &'static str,
    host: &'d str,
    paths_left_out: u64,
    alert: &'d FleetAlert,
}
