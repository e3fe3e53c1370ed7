//! A move, for people.

use std::io::{self, Write};

use ambrik_core::account::Accounts;
use ambrik_core::audit::{Audit, rights_shown};
use ambrik_core::change::{MovePlan, Outcome};
use ambrik_core::entry::Kind;
use ambrik_core::shown::Shown;

use super::table::{GOOD, HEAD, ODD, styled, wrapped};
use super::{count, number, paths};

pub(crate) fn render(plan: &MovePlan, accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    let (part, used_as) = plan.part();
    let what = if plan.moves_data() {
        format!("{}, {}", paths(count(plan.paths)), ambrik_core::shown::size(plan.bytes))
    } else {
        "its data is there already".to_owned()
    };
    writeln!(out, "{}: {part} ({used_as}, {what}) moves", styled(HEAD, &plan.site.name))?;
    let how = if plan.across { "  (another file system: copied, compared, then removed here)" } else { "" };
    writeln!(out, "  from    {}", Shown(&plan.asked.from))?;
    writeln!(out, "  to      {}{how}", Shown(&plan.asked.to))?;
    for creation in &plan.creations {
        let rights = rights_shown(accounts, &creation.rights, creation.kind);
        writeln!(out, "  make    {}  (directory, {rights})", Shown(&creation.path))?;
    }
    for passage in &plan.passages {
        let rights = |rights| rights_shown(accounts, rights, Kind::Directory);
        let (before, after) = (rights(&passage.before), rights(&passage.after));
        let php = &plan.site.php.user;
        wrapped(
            &format!("pass    {}  ({php} may pass it, and no more: {before} → {after})", Shown(&passage.path)),
            "  ",
            "          ",
            out,
        )?;
    }
    if plan.was_served() {
        let web = &plan.site.web.user;
        let words = format!(
            "serve   no longer: {web} has no right in the new place; what visitors fetch must come through the application"
        );
        wrapped(&words, "  ", "          ", out)?;
    }
    if plan.link {
        writeln!(out, "  link    {} → {}", Shown(&plan.asked.from), Shown(&plan.asked.to))?;
    }
    if !plan.asked.written {
        let file = Shown(&plan.site.file);
        let words = format!("write   {file}  (path = \"{part}\" becomes \"{}\")", Shown(plan.new_name()));
        super::table::wrapped(&words, "  ", "          ", out)?;
    }
    Ok(())
}

pub(crate) fn outcome(plan: &MovePlan, outcome: &Outcome, out: &mut dyn Write) -> io::Result<()> {
    let mut told = vec![format!("{} moved", paths(outcome.moved))];
    if outcome.done > 0 {
        told.push(format!("{} made or changed on the way", paths(outcome.done)));
    }
    if outcome.removed > 0 {
        told.push(format!("{} removed in the old place (kept)", paths(outcome.removed)));
    }
    if !outcome.failures.is_empty() {
        told.push(format!("{} not done, see above", number(count(outcome.failures.len()))));
    }
    let back = format!("change set {}, taken back by: ambrik undo {}", outcome.id, outcome.id);
    writeln!(out)?;
    wrapped(&format!("{}: {}; {back}", plan.site.name, told.join(", ")), "", "  ", out)?;
    if !outcome.failures.is_empty() {
        return Ok(());
    }
    let (from, to) = (Shown(&plan.asked.from), Shown(&plan.asked.to));
    if plan.link {
        let served = "the web server may still follow the symlink in the old place";
        wrapped(
            &format!("next: tell the application that {from} is {to} now, if it can be told; {served}"),
            "  ",
            "    ",
            out,
        )
    } else {
        wrapped(&format!("next: tell the application, in its settings, that {from} is {to} now"), "  ", "    ", out)
    }
}

/// The line at the end: what remains to be done.
pub(crate) fn closing(audit: &Audit, out: &mut dyn Write) -> io::Result<()> {
    let name = &audit.site.name;
    let counted = audit.wrong.findings.iter().filter(|finding| finding.accepted.is_none()).count();
    let words = match (audit.changes_pending(), counted) {
        (0, 0) => styled(GOOD, "looked at again, nothing remains"),
        (0, n) => styled(
            ODD,
            &format!("{}: ambrik audit {name}", super::counted(count(n), "finding remains", "findings remain")),
        ),
        (n, _) => styled(ODD, &format!("{} to be set still: ambrik set {name}", paths(n))),
    };
    writeln!(out, "{}: {words}", styled(HEAD, name))
}
