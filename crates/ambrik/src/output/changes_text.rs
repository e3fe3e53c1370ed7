//! Changes for people: those that are alike in one line.

use std::collections::HashMap;
use std::io::{self, Write};

use ambrik_core::account::Accounts;
use ambrik_core::audit::{Audit, Finding, host_findings};
use ambrik_core::change::{ChangeCommand, Changed, Group, Outcome, Plan, Proof};
use ambrik_core::check::{Remedy, Severity};
use ambrik_core::entry::{Kind, Rights};
use ambrik_core::shown::Shown;
use ambrik_core::site::Site;

use super::table::{BAD, GOOD, HEAD, ODD, cut, styled, table, width, wrapped, wrapped_once, write};
use super::{count, counted, history_text, number, paths};

pub(crate) fn render(plan: &Plan, accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    let groups = plan.groups();
    wrapped(&format!("{}: {}", styled(HEAD, &plan.audit.site.name), summary(plan, &groups)), "", "  ", out)?;
    let rows = rows(plan, &groups, accounts);
    if !rows.is_empty() {
        writeln!(out)?;
        changes(rows, out)?;
    }
    if !plan.creations.is_empty() || !plan.removals.is_empty() || plan.module.is_some() || !plan.switches.is_empty() {
        writeln!(out)?;
    }
    if let Some(module) = &plan.module {
        let what = if module.is_local() { "local rules".to_owned() } else { format!("module {}", module.name) };
        writeln!(out, "  policy  {what}: the labels become those that a relabelling gives")?;
        let against = plan.audit.pending.module.iter().flat_map(|wanted| &wanted.against).take(3);
        for against in against.filter(|_| module.is_local()) {
            let gives = against.gives.as_deref().unwrap_or("no label");
            let words = format!("beats   {}, which gives {gives} to {}", against.rule, Shown(&against.path));
            wrapped(&words, "  ", "          ", out)?;
        }
    }
    for name in &plan.switches {
        writeln!(out, "  boolean {name} on, for the whole host")?;
    }
    for creation in &plan.creations {
        let rights = ambrik_core::audit::rights_shown(accounts, &creation.rights, creation.kind);
        let from = creation.from.as_ref().map(|from| format!(", copied from {}", Shown(from))).unwrap_or_default();
        let words = format!("make    {}  ({}, {rights}{from})", Shown(&creation.path), creation.kind.word());
        wrapped_once(&words, "  ", "          ", out)?;
    }
    for removal in &plan.removals {
        let path = removal.path.strip_prefix(&plan.audit.site.root).unwrap_or(&removal.path);
        let inside = if removal.directory { format!(", {}", paths(removal.files)) } else { String::new() };
        let words = format!("remove  {}  ({}{inside})", Shown(path), removal.reason);
        wrapped_once(&words, "  ", "          ", out)?;
    }
    for (path, failure) in plan.passed_over() {
        wrapped(&format!("leave   {}: {failure}", Shown(&path)), "  ", "          ", out)?;
    }
    left_to_a_person(plan, out)
}

/// What looks like an installer or a left-over, and is not removed unless somebody says so.
fn left_to_a_person(plan: &Plan, out: &mut dyn Write) -> io::Result<()> {
    let shown = |path: &std::path::Path| Shown(path.strip_prefix(&plan.audit.site.root).unwrap_or(path)).to_string();
    for guess in &plan.guesses {
        let inside = if guess.directory { format!(", {}", paths(guess.files)) } else { String::new() };
        let words = format!("ask     {}  (by its name: {}{inside})", shown(&guess.path), guess.reason);
        wrapped_once(&words, "  ", "          ", out)?;
    }
    for (path, why) in &plan.needed {
        wrapped(&format!("keep    {}  (by its name: {why})", shown(path)), "  ", "          ", out)?;
    }
    let mut words = Vec::new();
    if !plan.guesses.is_empty() {
        words.push("what is marked ask is removed on your yes, or by a part of its own (use = \"remove\")");
    }
    if !plan.needed.is_empty() {
        words.push("what is marked keep is removed by a part of its own only (use = \"setup\")");
    }
    if words.is_empty() { Ok(()) } else { wrapped(&words.join("; "), "  ", "  ", out) }
}

fn summary(plan: &Plan, groups: &[Group]) -> String {
    if plan.is_empty() {
        return "nothing to do".into();
    }
    let mut told = Vec::new();
    let turns = count(groups.iter().map(|group| group.count).sum());
    if turns > 0 {
        let relabelled = |group: &Group| Rights { label: group.after.label.clone(), ..(*group.before).clone() };
        let only_labels = groups.iter().all(|group| relabelled(group) == *group.after);
        let what = if only_labels { "labels" } else { "rights" };
        told.push(format!("{} {} other {what}", paths(turns), if turns == 1 { "gets" } else { "get" }));
    }
    let made = count(plan.creations.len());
    if made > 0 {
        told.push(counted(made, "path is made", "paths are made"));
    }
    if !plan.switches.is_empty() {
        told.push(counted(
            count(plan.switches.len()),
            "SELinux boolean is turned on",
            "SELinux booleans are turned on",
        ));
    }
    if plan.module.is_some() {
        told.push("the labels are made to last".into());
    }
    let removed: u64 = plan.removals.iter().map(|removal| removal.files).sum();
    if removed > 0 {
        told.push(format!("{} to a keepsake", counted(removed, "path is removed", "paths are removed")));
    }
    told.join(", ")
}

/// The table of changes; an example stands in each line where there is room for one.
fn changes(rows: Vec<[String; 6]>, out: &mut dyn Write) -> io::Result<()> {
    const INDENT: usize = 2;
    const GAP: usize = 2;
    const SHORTEST_EXAMPLE: usize = 14;
    let widest = |column: usize| rows.iter().map(|row| row[column].chars().count()).max().unwrap_or(0);
    // Labels have a column where some change, and then there is no room for owners that do not.
    let labels = rows.iter().any(|row| !row[4].is_empty());
    let owners = !labels || rows.iter().any(|row| !row[2].is_empty());
    let columns: Vec<usize> = (0..5).filter(|column| (*column != 4 || labels) && (*column != 2 || owners)).collect();
    let taken: usize = INDENT + columns.iter().map(|column| widest(*column).max(5) + GAP).sum::<usize>();
    let room = width().saturating_sub(taken);
    let examples = room >= SHORTEST_EXAMPLE;
    let names = ["part", "paths", "owner", "mode", "SELinux type"];
    let mut heading: Vec<&str> = columns.iter().map(|column| names[*column]).collect();
    if examples {
        heading.push("for example");
    }
    let mut shown = table(&heading);
    for row in rows {
        let mut cells: Vec<String> = columns.iter().map(|column| row[*column].clone()).collect();
        let [.., example] = row;
        if examples {
            cells.push(cut(&example, room));
        }
        shown.add_row(cells);
    }
    write(&mut shown, &[1], "  ", out)
}

/// Part, number and kind of paths, owner, mode and an example, a line for what looks alike.
fn rows(plan: &Plan, groups: &[Group], accounts: &Accounts) -> Vec<[String; 6]> {
    // Groups that differ only in what an access list says look alike here.
    let mut rows: Vec<([String; 4], Kind, usize, String)> = Vec::new();
    let mut places: HashMap<([String; 4], Kind), usize> = HashMap::new();
    for group in groups {
        let part = cut(plan.audit.part_shown(group.part), 22);
        let looks = [part, owners(group, accounts), modes(group), types(group)];
        let place = *places.entry((looks.clone(), group.kind)).or_insert(rows.len());
        match rows.get_mut(place) {
            Some((.., count, _)) => *count += group.count,
            None => rows.push((looks, group.kind, group.count, Shown(&group.example).to_string())),
        }
    }
    rows.into_iter()
        .map(|([part, owners, modes, types], kind, n, example)| [part, kinds(kind, n), owners, modes, types, example])
        .collect()
}

fn kinds(kind: Kind, n: usize) -> String {
    match kind {
        Kind::Directory => counted(count(n), "directory  ", "directories"),
        Kind::Symlink => counted(count(n), "symlink    ", "symlinks   "),
        Kind::File | Kind::Fifo | Kind::Socket | Kind::Device => counted(count(n), "file       ", "files      "),
    }
}

fn owners(group: &Group, accounts: &Accounts) -> String {
    let (before, after) = (&*group.before, &*group.after);
    if (before.uid, before.gid) == (after.uid, after.gid) {
        return String::new();
    }
    let owner = |rights: &Rights| accounts.owner_shown(rights.uid, rights.gid);
    format!("{} → {}", owner(before), owner(after))
}

fn modes(group: &Group) -> String {
    let mode = |rights: &Rights| {
        let list = if rights.acl.is_some() || rights.default_acl.is_some() { "+acl" } else { "" };
        let capabilities = if rights.capabilities.is_some() { "+cap" } else { "" };
        format!("{}{list}{capabilities}", rights.mode)
    };
    let (before, after) = (mode(&group.before), mode(&group.after));
    let lists_differ = group.before.acl != group.after.acl || group.before.default_acl != group.after.default_acl;
    let differ = before != after || lists_differ;
    if group.kind.has_mode() && differ { format!("{before} → {after}") } else { String::new() }
}

/// The type that a group gets.
fn types(group: &Group) -> String {
    match &group.after.label {
        Some(label) if group.before.label != group.after.label => format!("→ {}", label.type_name()),
        _ => String::new(),
    }
}

pub(crate) fn outcome(plan: &Plan, outcome: &Outcome, out: &mut dyn Write) -> io::Result<()> {
    let mut told = Vec::new();
    if outcome.done > 0 || outcome.removed == 0 {
        told.push(format!("{} changed", paths(outcome.done)));
    }
    if outcome.removed > 0 {
        let kept = if outcome.keepsake.is_some() { " (kept)" } else { " for good" };
        told.push(format!("{} removed{kept}", paths(outcome.removed)));
    }
    if outcome.labels_last && plan.audit.labels_above().next().is_none() {
        told.push("its labels last".into());
    }
    if !outcome.switched.is_empty() {
        told.push(counted(count(outcome.switched.len()), "SELinux boolean turned", "SELinux booleans turned"));
    }
    let failed = count(outcome.failures.len());
    if failed > 0 {
        told.push(format!("{} not changed, see above", number(failed)));
    }
    let back = format!("change set {}, taken back by: ambrik undo {}", outcome.id, outcome.id);
    writeln!(out)?;
    let told = format!("{}: {}; {back}", plan.audit.site.name, told.join(", "));
    wrapped(&told, "", "  ", out)?;
    still_there(plan, out)
}

/// What `set` leaves for `seal`.
fn still_there(plan: &Plan, out: &mut dyn Write) -> io::Result<()> {
    let site = &plan.audit.site;
    let left = plan.audit.wrong.findings.iter().filter(|f| f.accepted.is_none() && f.check.remedy == Remedy::Seal);
    let left: u64 = left.map(|finding| count(finding.count())).sum();
    if left == 0 || plan.command != ChangeCommand::Set {
        return Ok(());
    }
    let what = counted(left, "installer or left-over is", "installers and left-overs are");
    writeln!(
        out,
        "{}: {}",
        styled(HEAD, &site.name),
        styled(ODD, &format!("{what} still there: ambrik seal {}", site.name))
    )
}

/// Every path with what it has and what it gets; of one part, where that is named.
pub(crate) fn each_path(plan: &Plan, accounts: &Accounts, part: Option<&str>, out: &mut dyn Write) -> io::Result<()> {
    let named = |of: Option<usize>| part.is_none_or(|part| plan.audit.part_shown(of).eq_ignore_ascii_case(part));
    let mut count = 0_u64;
    let mut line = |words: String| {
        count += 1;
        writeln!(out, "{words}")
    };
    for made in plan.creations.iter().filter(|made| named(made.part)) {
        let with = history_text::rights(accounts, &made.rights, made.kind);
        line(format!("{}  made, {} {with}", Shown(&made.path), made.kind.word()))?;
    }
    for (path, kind, _, before, after) in plan.changed_paths().filter(|(_, _, of, ..)| named(*of)) {
        let (before, after) =
            (history_text::rights(accounts, &before, kind), history_text::rights(accounts, &after, kind));
        line(format!("{}  {before} → {after}", Shown(&path)))?;
    }
    for removal in plan.removals.iter().filter(|removal| named(removal.part)) {
        line(format!("{}  removed ({})", Shown(&removal.path), removal.reason))?;
    }
    match (count, part) {
        (0, Some(part)) => writeln!(out, "nothing of {part} is changed; its parts are named in the table above"),
        _ => Ok(()),
    }
}

/// The line after `seal`: what remains.
pub(crate) fn closing(audit: &Audit, out: &mut dyn Write) -> io::Result<()> {
    let name = styled(HEAD, &audit.site.name);
    let of_host = host_findings(std::slice::from_ref(audit));
    let of_host = of_host.iter().filter(|finding| finding.accepted.is_empty()).map(|finding| finding.check.severity);
    let of_site = audit.wrong.findings.iter().filter(|f| f.accepted.is_none()).map(Finding::severity);
    let remain: Vec<Severity> = of_site.chain(of_host).collect();
    let of = |severity: Severity| remain.iter().filter(|other| **other == severity).count();
    let told: Vec<String> = [Severity::High, Severity::Medium, Severity::Low]
        .into_iter()
        .filter(|severity| of(*severity) > 0)
        .map(|severity| format!("{} {severity}", of(severity)))
        .collect();
    if told.is_empty() {
        return writeln!(out, "{name}: {}", styled(GOOD, "sealed; looked at again, nothing remains"));
    }
    let site = &audit.site.name;
    let over_http = if audit.site.url.is_some() { " --over-http" } else { "" };
    let words = format!("sealed; findings remain ({}): ambrik audit {site}{over_http}", told.join(", "));
    writeln!(out, "{name}: {}", styled(ODD, &words))
}

/// The lines after `open`: what PHP may write until when, and what to do next. `missing` are parts that are not there and that
/// PHP cannot make.
pub(crate) fn opened(site: &Site, missing: &[usize], until: jiff::Timestamp, out: &mut dyn Write) -> io::Result<()> {
    let name = styled(HEAD, &site.name);
    writeln!(out, "{name}: {}", styled(GOOD, &super::open_until(until)))?;
    let of = |when: ambrik_core::site::Write, there: bool| -> Vec<&str> {
        let parts = site.parts.iter().enumerate().filter(|(_, part)| part.write == when);
        parts.filter(|(number, _)| missing.contains(number) != there).map(|(_, part)| part.shown.as_str()).collect()
    };
    let (install, always) = (ambrik_core::site::Write::Install, ambrik_core::site::Write::Always);
    let (now, as_always) = (of(install, true), of(always, true));
    let listed = |names: &[&str]| if names.is_empty() { "nothing".to_owned() } else { names.join(", ") };
    let php = &site.php.user;
    if now.is_empty() {
        let why = "no part that is there has write = \"install\", so PHP may write no more than always";
        wrapped(&styled(ODD, &format!("nothing opens: {why}")), "  ", "    ", out)?;
    } else {
        wrapped(&format!("PHP ({php}) may write until then: {}", listed(&now)), "  ", "    ", out)?;
    }
    wrapped(&format!("as always: {}", listed(&as_always)), "  ", "    ", out)?;
    let not_there = [of(install, false), of(always, false)].concat();
    if !not_there.is_empty() {
        let how = "give it a sample (from), or create = true, in the site file";
        let words = format!("not there, and PHP cannot make it: {}; {how}", not_there.join(", "));
        wrapped(&styled(ODD, &words), "  ", "    ", out)?;
    }
    let browser = match installer(site) {
        Some(address) => format!("open {address} in a browser"),
        None => "run the installer".to_owned(),
    };
    wrapped(&format!("next: {browser}, then: ambrik seal {}", site.name), "  ", "    ", out)
}

/// The installer's address, where the site file tells one.
pub(super) fn installer(site: &Site) -> Option<String> {
    let url = site.url.as_ref()?;
    let served = site.served.as_ref()?.text();
    let setup = site.parts.iter().find(|part| part.used_as == ambrik_core::site::Use::Setup)?;
    let below = setup.shown.strip_prefix(served)?.trim_start_matches('/');
    let end = if below.contains('.') { "" } else { "/" };
    Some(format!("{}/{below}{end}", url.trim_end_matches('/')))
}

/// As many paths that changed are shown.
const SHOWN: usize = 20;

/// What changed while a site was open, before anything is changed about it.
pub(crate) fn changed_in_window(site: &str, changed: &[Changed], out: &mut dyn Write) -> io::Result<()> {
    if changed.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    let (expected, code): (Vec<&Changed>, Vec<&Changed>) = changed.iter().partition(|changed| changed.expected);
    let name = styled(HEAD, site);
    if !expected.is_empty() {
        let names: Vec<String> = expected.iter().map(|changed| Shown(&changed.path).to_string()).collect();
        wrapped(&format!("{name}: written while it was open, as it should be: {}", names.join(", ")), "", "  ", out)?;
    }
    if code.is_empty() {
        return Ok(());
    }
    let told = counted(count(code.len()), "path changed", "paths changed");
    writeln!(out, "{name}: {told} outside the parts that PHP always writes, since it was opened or found clean:")?;
    for changed in code.iter().take(SHOWN) {
        let kind = if changed.kind == "file" { String::new() } else { format!("  ({})", changed.kind) };
        writeln!(out, "  {:<8}  {}{}", changed.how.words(), Shown(&changed.path), styled(ODD, &kind))?;
    }
    if code.len() > SHOWN {
        writeln!(out, "  and {} more", number(count(code.len() - SHOWN)))?;
    }
    Ok(())
}

/// What a process of PHP's account found when it tried.
pub(crate) fn proof(site: &Site, proof: Option<&Proof>, out: &mut dyn Write) -> io::Result<()> {
    let Some(proof) = proof else { return Ok(()) };
    let name = styled(HEAD, &site.name);
    let (files, folders) = (count(proof.opened), count(proof.made));
    let tried = format!(
        "{} tried to write to {} and to make a file in {}",
        site.php.user,
        counted(files, "closed file", "closed files"),
        counted(folders, "writable directory", "writable directories")
    );
    if let Some(why) = &proof.disturbed {
        let result = styled(BAD, &format!("it did not come to its end ({why}); nothing is proved"));
        return wrapped(&format!("{name}: {} was to try what it can write: {result}", site.php.user), "", "  ", out);
    }
    let result = match proof.differences.len() {
        0 => styled(GOOD, "refused and made, as it should be"),
        n => {
            styled(BAD, &format!("{} not as it should be, see above", counted(count(n), "answer was", "answers were")))
        }
    };
    wrapped(&format!("{name}: {tried}: {result}"), "", "  ", out)
}
