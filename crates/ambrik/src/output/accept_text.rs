//! An exception that is written into a site file: for people, and as `accept/1`.

use std::io::{self, Write};
use std::path::Path;

use ambrik_core::shown::Shown;
use serde::Serialize;

use super::found::AcceptReport;
use super::json::print;
use super::table::{HEAD, ODD, styled, wrapped};
use super::{count, paths};

pub(super) fn render(report: &AcceptReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let AcceptReport { site, new, covers, .. } = report;
    let until = new.until.map(|day| format!(" until {day}; then it counts again")).unwrap_or_default();
    let head =
        format!("{}: {} is accepted for {}{until}", styled(HEAD, &site.name), new.check, Shown(Path::new(new.path)));
    wrapped(&head, "", "  ", out)?;
    wrapped(&format!("because  {}", new.reason), "  ", "           ", out)?;
    match covers {
        0 => {
            let words = "nothing of that is found there now: it covers nothing, as far as this audit looks";
            wrapped(&styled(ODD, words), "  ", "    ", out)
        }
        n => writeln!(out, "  covers   {}", paths(count(*n))),
    }
}

#[derive(Serialize)]
struct Document<'d> {
    ambrik: &'static str,
    site: &'d str,
    file: String,
    check: &'d str,
    path: &'d str,
    reason: &'d str,
    until: Option<String>,
    covers: usize,
    written: bool,
}

pub(super) fn json(report: &AcceptReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let AcceptReport { site, new, covers, written } = report;
    let document = Document {
        ambrik: "accept/1",
        site: &site.name,
        file: site.file.to_string_lossy().into_owned(),
        check: new.check,
        path: new.path,
        reason: new.reason,
        until: new.until.map(|day| day.to_string()),
        covers: *covers,
        written: *written,
    };
    print(&document, out)
}
