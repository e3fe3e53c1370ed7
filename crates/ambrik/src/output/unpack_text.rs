//! What unpacking an archive does, for people.

use std::io::{self, Write};
use std::path::Path;

use ambrik_core::account::Accounts;
use ambrik_core::archive::{Archive, ArchiveLook};
use ambrik_core::audit::{Audit, rights_shown};
use ambrik_core::change::{LaidPart, Outcome, Replaced, UnpackPlan};
use ambrik_core::entry::Kind;
use ambrik_core::shown::{Shown, size};
use ambrik_core::site::Use;

use super::table::{HEAD, ODD, styled, wrapped};
use super::{changes_text, count, counted, move_text, number, paths};

/// So many paths are named of those that are told of together.
const NAMED: usize = 5;
/// Where what is told of stands.
const INDENT: &str = "            ";

fn line(word: &str, text: &str, out: &mut dyn Write) -> io::Result<()> {
    wrapped(&format!("{word:<10}{text}"), "  ", INDENT, out)
}

/// The first of several paths, and how many more.
fn named<'p>(all: impl Iterator<Item = &'p Path>) -> String {
    let all: Vec<String> = all.map(|path| Shown(path).to_string()).collect();
    let more = all.len().saturating_sub(NAMED);
    let first = all.into_iter().take(NAMED).collect::<Vec<_>>().join(", ");
    if more == 0 { first } else { format!("{first} and {} more", number(count(more))) }
}

fn name_of(archive: &Archive) -> String {
    Shown(Path::new(archive.path().file_name().unwrap_or(archive.path().as_os_str()))).to_string()
}

/// Why nothing of an archive is unpacked.
pub(crate) fn refused(site: &str, archive: &Archive, found: &ArchiveLook, out: &mut dyn Write) -> io::Result<()> {
    let them = counted(count(found.refused.len()), "entry", "entries");
    let head = format!("{them} of {} must not be unpacked, so nothing is", name_of(archive));
    writeln!(out, "{}: {}", styled(HEAD, site), styled(ODD, &head))?;
    for refused in &found.refused {
        wrapped(&format!("{}: {}", refused.name, refused.why), "  ", "    ", out)?;
    }
    Ok(())
}

pub(crate) fn render(
    plan: &UnpackPlan,
    archive: &Archive,
    found: &ArchiveLook,
    accounts: &Accounts,
    out: &mut dyn Write,
) -> io::Result<()> {
    let (name, site) = (name_of(archive), styled(HEAD, &plan.site.name));
    let (files, ..) = found.counts();
    let new = plan.new_paths().count();
    let changed: Vec<&Replaced> = plan.replaced.iter().filter(|old| old.changed_since == Some(true)).collect();
    if plan.is_done() {
        let same = counted(count(plan.same), "path is as it has it", "paths are as it has them");
        let more = match plan.gone.len() {
            0 => String::new(),
            n => format!("; {} of older versions", counted(count(n), "file stays", "files stay")),
        };
        writeln!(out, "{site}: nothing of {name} is to be laid down: {same}{more}")?;
    } else if plan.is_new() {
        let of = format!("{}, {}", counted(count(files), "file", "files"), size(found.bytes));
        writeln!(out, "{site}: new from {name}: {of}, into {}", Shown(&plan.site.root))?;
    } else {
        let counts = format!(
            "{} new, {} changed, {} gone, {} as they are",
            number(count(new)),
            number(count(plan.replaced.len())),
            number(count(plan.gone.len())),
            number(count(plan.same))
        );
        let odd = match changed.len() {
            0 => String::new(),
            n => format!("; {}", styled(ODD, &format!("{} not as unpacked", number(count(n))))),
        };
        wrapped(&format!("{site}: upgrade from {name}: {counts}{odd}"), "", "  ", out)?;
    }
    if !found.inner.as_os_str().is_empty() {
        line("inside", &format!("{}  (the archive's folder that holds the application)", Shown(&found.inner)), out)?;
    }
    for laid in plan.by_part() {
        line("rights", &part_line(plan, &laid, accounts), out)?;
    }
    if let (false, Some(before)) = (changed.is_empty(), &plan.before) {
        let day = before.when.to_zoned(jiff::tz::TimeZone::system()).date();
        let them = counted(count(changed.len()), "file that is replaced is", "files that are replaced are");
        let text = format!("{them} not what was unpacked on {day}: {}", named(changed.iter().map(|old| &*old.path)));
        line("changed", &styled(ODD, &format!("{text} (kept; look at what was changed, and by whom)")), out)?;
    }
    if !plan.is_new() {
        if new > 0 {
            line("new", &named(plan.new_paths()), out)?;
        }
        if !plan.replaced.is_empty() {
            line(
                "replaces",
                &format!("{} (the old ones are kept)", named(plan.replaced.iter().map(|old| &*old.path))),
                out,
            )?;
        }
    }
    if !plan.gone.is_empty() {
        let how = if plan.tidy { "removed, and kept" } else { "stays: --tidy removes it" };
        line("gone", &format!("{} ({how})", named(plan.gone.iter().map(|(path, _)| &**path))), out)?;
    }
    if plan.before.is_none() && !plan.is_new() {
        line("unknown", "what an older version brought that this one has no more: it was not unpacked by Ambrik", out)?;
    }
    for (why, all) in by_reason(&plan.stays) {
        line("stays", &format!("{} ({why})", named(all.into_iter())), out)?;
    }
    let spared: Vec<_> = found.spared.iter().map(|spared| (spared.path.clone(), spared.why)).collect();
    for (why, all) in by_reason(&spared) {
        line("left out", &format!("{} ({why})", named(all.into_iter())), out)?;
    }
    for (what, all) in by_reason(&plan.left_overs()) {
        let names = format!("{} ({what}: no application needs it where it is served)", named(all.into_iter()));
        line("look at", &styled(ODD, &names), out)?;
    }
    let mut modes = Vec::new();
    if found.open > 0 {
        modes.push(format!("write access for every account on {}", paths(count(found.open))));
    }
    if found.special > 0 {
        modes.push(format!("set-id bits on {}", paths(count(found.special))));
    }
    if !modes.is_empty() {
        line("modes", &format!("the archive's count for nothing: {}", modes.join(", ")), out)?;
    }
    Ok(())
}

fn part_line(plan: &UnpackPlan, laid: &LaidPart, accounts: &Accounts) -> String {
    let (part, used_as) = match laid.part {
        Some(part) => (plan.site.parts[part].shown.clone(), plan.site.parts[part].used_as.to_string()),
        None => ("everything else".to_owned(), "code".to_owned()),
    };
    let kinds = [
        (&laid.files, "file", "files", Kind::File),
        (&laid.programs, "program", "programs", Kind::File),
        (&laid.directories, "directory", "directories", Kind::Directory),
    ];
    let told = kinds.into_iter().filter_map(|(of, one, several, kind)| {
        let (of, rights) = of.as_ref()?;
        Some(format!("{} {}", counted(count(*of), one, several), rights_shown(accounts, rights, kind)))
    });
    format!("{part} ({used_as}): {}", told.collect::<Vec<_>>().join(", "))
}

fn by_reason<'p>(all: &'p [(std::path::PathBuf, &'static str)]) -> Vec<(&'static str, Vec<&'p Path>)> {
    let mut found: Vec<(&'static str, Vec<&Path>)> = Vec::new();
    for (path, why) in all {
        match found.iter_mut().find(|(known, _)| known == why) {
            Some((_, paths)) => paths.push(path),
            None => found.push((why, vec![path])),
        }
    }
    found
}

pub(crate) fn outcome(plan: &UnpackPlan, outcome: &Outcome, out: &mut dyn Write) -> io::Result<()> {
    let mut told = vec![format!("{} laid down", paths(outcome.done))];
    if outcome.removed > 0 {
        told.push(format!("{} replaced or removed (kept)", paths(outcome.removed)));
    }
    if !outcome.failures.is_empty() {
        told.push(format!("{} not done, see above", number(count(outcome.failures.len()))));
    }
    let back = format!("change set {}, taken back by: ambrik undo {}", outcome.id, outcome.id);
    writeln!(out)?;
    wrapped(&format!("{}: {}; {back}", plan.site.name, told.join(", ")), "", "  ", out)
}

/// The line at the end: what stays of older versions, and what comes next.
pub(crate) fn closing(plan: &UnpackPlan, audit: &Audit, out: &mut dyn Write) -> io::Result<()> {
    let name = &plan.site.name;
    if !plan.gone.is_empty() && !plan.tidy {
        let them = counted(count(plan.gone.len()), "file", "files");
        let says = format!("{them} that this version has no more stay: the same with --tidy removes them");
        writeln!(out, "{}: {}", styled(HEAD, name), styled(ODD, &says))?;
    }
    if audit.unfinished().is_empty() {
        return move_text::closing(audit, out);
    }
    let page = plan.site.parts.iter().find(|part| part.used_as == Use::Setup);
    let at = |part: &str| changes_text::installer(&plan.site).unwrap_or_else(|| part.to_owned());
    let visit = page.map(|part| format!(", then visit its installer ({})", at(&part.shown))).unwrap_or_default();
    writeln!(out, "{}: next: ambrik open {name} --for 30m{visit}", styled(HEAD, name))
}
