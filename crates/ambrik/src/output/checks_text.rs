//! The catalogue of checks for people, and as `checks/1`.

use std::io::{self, Write};

use ambrik_core::check::Check;
use serde::Serialize;

use super::audit_text::style;
use super::json::print;
use super::table::{FAINT, HEAD, styled, table, wrapped, write};
use super::told::{remedy, wrong};

/// What there is to say of checks besides their table.
const PAGE: &str = include_str!("../../../../docs/checks.md");

pub(crate) fn list(checks: &[&Check], out: &mut dyn Write) -> io::Result<()> {
    let mut rows = table(&["check", "severity", "what is wrong"]);
    for check in checks {
        let severity = styled(style(check.severity), check.severity.word());
        rows.add_row(vec![check.name.to_owned(), severity, super::table::cut(&wrong(check), 64)]);
    }
    write(&mut rows, &[], "", out)?;
    writeln!(out, "\n{}", styled(FAINT, "one of them: ambrik checks NAME"))
}

pub(crate) fn whole(check: &Check, out: &mut dyn Write) -> io::Result<()> {
    let severity = styled(style(check.severity), check.severity.word());
    writeln!(out, "{}  {severity}", styled(HEAD, check.name))?;
    let told = [("what is wrong", &*wrong(check)), ("what it lets", check.lets), ("put it right", remedy(check))];
    for (what, says) in told {
        let first = format!("  {}  ", styled(FAINT, &format!("{what:<13}")));
        wrapped(&format!("{first}{says}"), "", "                 ", out)?;
    }
    for note in notes(check.name) {
        writeln!(out)?;
        wrapped(&note, "  ", "  ", out)?;
    }
    let accept = format!("accept it for a path: ambrik accept SITE {} PATH --because TEXT", check.name);
    writeln!(out)?;
    wrapped(&styled(FAINT, &accept), "  ", "    ", out)
}

/// The paragraphs of the page that are about a check.
fn notes(name: &str) -> Vec<String> {
    let marked = format!("`{name}`");
    let list = PAGE.split("\n- ").skip(1).map(|note| note.split("\n\n").next().unwrap_or(note));
    let about = list.filter(|note| {
        note.split(':').next().unwrap_or(note).split('.').next().is_some_and(|head| head.contains(&marked))
    });
    about.map(|note| note.replace('`', "").replace("**", "").split_whitespace().collect::<Vec<_>>().join(" ")).collect()
}

#[derive(Serialize)]
struct Document {
    ambrik: &'static str,
    checks: Vec<CheckDocument>,
}

#[derive(Serialize)]
struct CheckDocument {
    name: &'static str,
    severity: &'static str,
    wrong: String,
    lets: &'static str,
    remedy: &'static str,
    notes: Vec<String>,
}

pub(crate) fn json(checks: &[&'static Check], out: &mut dyn Write) -> io::Result<()> {
    let checks = checks.iter().map(|check| CheckDocument {
        name: check.name,
        severity: check.severity.word(),
        wrong: wrong(check),
        lets: check.lets,
        remedy: remedy(check),
        notes: notes(check.name),
    });
    print(&Document { ambrik: "checks/1", checks: checks.collect() }, out)
}
