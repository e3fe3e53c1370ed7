//! An audit for people: the verdict, the table of rights, the findings, what puts them right.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Write};

use ambrik_core::audit::{Audit, Finding, HostFinding, PutRight, Since};
use ambrik_core::check::{Check, Reason, Severity};
use ambrik_core::shown::Shown;

use super::drift_text::moment;
use super::found::AuditReport;
use super::rights_table::{is_off, rights};
use super::table::{BAD, FAINT, GOOD, HEAD, ODD, cut, styled, table, width, wrapped, write};
use super::{count, counted, number, paths};

/// In as many parts a finding is shown.
const MOST_ROWS: usize = 12;
/// As many examples are shown for each part of a finding.
const EXAMPLES: usize = 3;

/// How many sites are as they should be.
pub(super) fn totals(report: &AuditReport<'_>) -> String {
    let good = report.audits.iter().filter(|audit| counted_findings(audit).next().is_none()).count();
    let (good, bad) = (count(good), count(report.audits.len() - good));
    let total = counted(good + bad + count(report.wrong.len()), "site", "sites");
    let unjudged = if report.wrong.is_empty() { String::new() } else { format!(", {} not judged", report.wrong.len()) };
    format!("{total}: {} as they should be, {} with findings{unjudged}", number(good), number(bad))
}

/// How many findings of a site are high, medium and low.
pub(super) fn severities(audit: &Audit) -> [usize; 3] {
    [Severity::High, Severity::Medium, Severity::Low]
        .map(|severity| counted_findings(audit).filter(|finding| finding.severity() == severity).count())
}

pub(crate) fn counted_findings(audit: &Audit) -> impl Iterator<Item = &Finding> {
    audit.wrong.findings.iter().filter(|f| f.accepted.is_none())
}

/// A site whole; `legend` is told with the first table that needs it.
pub(super) fn block(
    audit: &Audit,
    of_host: &[HostFinding],
    each: bool,
    legend: &mut Option<&str>,
    out: &mut dyn Write,
) -> io::Result<()> {
    let site = &audit.site;
    let (look, mut words) = verdict(audit);
    if of_host.iter().any(|finding| finding.accepted.is_empty() && finding.sites.contains(&site.name)) {
        words.push_str("; see what is said of the host below");
    }
    let whole = format!("{}: {words}", site.name);
    for (n, line) in textwrap::wrap(&whole, textwrap::Options::new(width()).subsequent_indent("  ")).iter().enumerate()
    {
        match line.split_once(": ").filter(|_| n == 0) {
            Some((name, rest)) => writeln!(out, "{}: {}", styled(HEAD, name), styled(look, rest))?,
            None => writeln!(out, "{}", styled(look, line))?,
        }
    }
    let accounts = if site.php == site.web {
        format!("PHP and web server {}", site.php.user)
    } else {
        format!("PHP {}, web server {}", site.php.user, site.web.user)
    };
    let facts = format!(
        "{}, {}, {}{}; keeper {}, {accounts}",
        Shown(&site.root),
        paths(audit.seen.entries),
        audit.phase,
        if audit.phase_known { "" } else { " as far as is known" },
        site.keeper.user
    );
    for line in textwrap::wrap(&facts, textwrap::Options::new(width()).initial_indent("  ").subsequent_indent("  ")) {
        writeln!(out, "{}", styled(FAINT, &line))?;
    }
    writeln!(out)?;
    rights(audit, each, out)?;
    let off = audit.seen.table.iter().flat_map(|line| &line.cells).any(is_off);
    if let Some(legend) = legend.take_if(|_| off) {
        wrapped(&styled(FAINT, legend), "  ", "    ", out)?;
    }
    for cause in by_cause(audit) {
        writeln!(out)?;
        check(audit, &cause, each, out)?;
    }
    accepted(audit, out)?;
    remedies(audit, out)
}

/// Findings of one check, and what follows from them on the same paths.
pub(super) struct Cause<'a> {
    pub(super) findings: Vec<&'a Finding>,
    pub(super) implied: Vec<&'a Finding>,
}

impl Cause<'_> {
    /// What follows, in a sentence; nothing where nothing does.
    pub(super) fn so_also(&self) -> Option<String> {
        let mut checks: Vec<(&Check, u64)> = Vec::new();
        for finding in &self.implied {
            match checks.iter_mut().find(|(check, _)| check.is(finding.check)) {
                Some((_, n)) => *n += count(finding.count()),
                None => checks.push((finding.check, count(finding.count()))),
            }
        }
        let each: Vec<String> = checks.into_iter().map(|(check, n)| format!("{} ({})", check.name, paths(n))).collect();
        (!each.is_empty()).then(|| format!("so also: {}", each.join(", ")))
    }
}

/// The findings that count, those of one check together, each with what follows from it.
pub(super) fn by_cause(audit: &Audit) -> Vec<Cause<'_>> {
    let all = &audit.wrong.findings;
    let causes = audit.causes();
    let mut told: Vec<Cause<'_>> = Vec::new();
    for (finding, _) in all.iter().zip(&causes).filter(|(finding, cause)| finding.accepted.is_none() && cause.is_none())
    {
        let same = |cause: &&mut Cause<'_>| {
            cause.findings[0].check.is(finding.check) && cause.findings[0].above == finding.above
        };
        match told.iter_mut().find(same) {
            Some(cause) => cause.findings.push(finding),
            None => told.push(Cause { findings: vec![finding], implied: Vec::new() }),
        }
    }
    for (finding, cause) in all.iter().zip(&causes) {
        // What follows from something that follows is told with the first of them.
        let Some(first) = std::iter::successors(*cause, |place| causes[*place]).last() else { continue };
        let of =
            |cause: &&mut Cause<'_>| cause.findings.iter().any(|other| std::ptr::eq(*other, &raw const all[first]));
        if let Some(cause) = told.iter_mut().find(of) {
            cause.implied.push(finding);
        }
    }
    told
}

/// The checks that the first line has words of its own for.
const TOLD: [&str; 13] = [
    "window-overdue",
    "php-writes-code",
    "php-writes-secret",
    "everyone-writes",
    "php-cannot-write",
    "php-cannot-read",
    "web-cannot-read",
    "label-blocks",
    "secret-exposed",
    "php-runs-in-store",
    "secret-served",
    "installer-answers",
    "installer-left",
];

/// The first line: what matters most, in one sentence.
pub(super) fn verdict(audit: &Audit) -> (anstyle::Style, String) {
    let of = |names: &[&str]| -> u64 {
        counted_findings(audit).filter(|f| names.contains(&f.check.name)).map(|f| count(f.count())).sum()
    };
    let mut told: Vec<String> = Vec::new();
    if of(&["window-overdue"]) > 0 {
        told.push("its install window is past its end".into());
    }
    let writes = of(&["php-writes-code", "php-writes-secret"]);
    if writes > 0 {
        told.push(format!("PHP can change {} that it should only read", paths(writes)));
    }
    let everyone = of(&["everyone-writes"]);
    if everyone > 0 {
        told.push(if everyone == writes {
            "so can every account".into()
        } else {
            format!("every account can change {}", number(everyone))
        });
    }
    let broken = of(&["php-cannot-write", "php-cannot-read", "web-cannot-read"]);
    if broken > 0 {
        told.push(counted(broken, "place does not work", "places do not work"));
    }
    let blocked = of(&["label-blocks"]);
    if blocked > 0 {
        told.push(format!("SELinux labels keep PHP from {}", paths(blocked)));
    }
    if of(&["secret-exposed"]) > 0 {
        told.push("secrets are exposed".into());
    }
    if of(&["php-runs-in-store", "secret-served", "installer-answers"]) > 0 {
        told.push("visitors get what they should not".into());
    }
    let (installers, left) = (of(&["installer-left"]), of(&["leftover-served"]));
    if installers + left > 0 {
        let mut what = Vec::new();
        if installers > 0 {
            what.push(counted(installers, "installer", "installers"));
        }
        if left > 0 {
            what.push(counted(left, "left-over", "left-overs"));
        }
        let verb = if installers + left == 1 { "is" } else { "are" };
        told.push(format!("{} {verb} still there", what.join(" and ")));
    }
    // Whatever else is high is said as well.
    let is_other = |finding: &Finding| {
        finding.severity() == Severity::High && finding.accepted.is_none() && !TOLD.contains(&finding.check.name)
    };
    // What follows from what is has to be found out only where there is such a one.
    if audit.wrong.findings.iter().any(is_other) {
        for (finding, cause) in audit.wrong.findings.iter().zip(audit.causes()) {
            let words = finding.check.wrong_of(&audit.site);
            if is_other(finding) && cause.is_none() && !told.contains(&words) {
                told.push(words);
            }
        }
    }
    let worst = audit.worst();
    match (told.is_empty(), worst) {
        (true, None) => (GOOD, as_it_should_be(audit)),
        (true, Some(severity)) => {
            let findings = counted(count(counted_findings(audit).count()), "finding", "findings");
            let gravest = counted_findings(audit).find(|finding| finding.severity() == severity);
            let gravest = gravest.map(|finding| format!(" ({})", finding.check.name)).unwrap_or_default();
            (style(severity), format!("{findings}, none graver than {severity}{gravest}"))
        }
        (false, worst) => (worst.map_or(ODD, style), told.join("; ")),
    }
}

fn as_it_should_be(audit: &Audit) -> String {
    let writable: Vec<&str> = audit
        .seen
        .table
        .iter()
        .filter(|line| line.cells[1].should.iter().any(|right| right.word() == "rw"))
        .map(|line| audit.part_shown(line.part))
        .collect();
    match writable.len() {
        0 => "as it should be; PHP can write nothing".into(),
        1..=4 => format!("as it should be; PHP can write {} and nothing else", writable.join(", ")),
        n => format!("as it should be; PHP can write {n} parts and nothing else"),
    }
}

pub(super) const fn style(severity: Severity) -> anstyle::Style {
    match severity {
        Severity::High => BAD,
        Severity::Medium => ODD,
        Severity::Low => FAINT,
    }
}

/// What concerns several sites: once for all.
pub(super) fn host(of_host: &[HostFinding], out: &mut dyn Write) -> io::Result<()> {
    for (n, finding) in of_host.iter().enumerate() {
        if n == 0 {
            writeln!(out, "\n{}", styled(HEAD, "the host"))?;
        }
        let (severity, sites) = (finding.check.severity, finding.sites.join(", "));
        let name = styled(HEAD, finding.check.name);
        if let Some(accept) = finding.accepted.first() {
            wrapped(&format!("accepted: {} in {sites}: {}", finding.check.name, accept.reason), "  ", "    ", out)?;
            continue;
        }
        let head = format!("{}  {name}  {sites}", styled(style(severity), &format!("{severity:<6}")));
        wrapped(&head, "  ", "          ", out)?;
        wrapped(&finding.says, "          ", "          ", out)?;
        wrapped(&format!("→ {}", finding.remedy()), "          ", "            ", out)?;
    }
    Ok(())
}

fn check(audit: &Audit, cause: &Cause<'_>, each: bool, out: &mut dyn Write) -> io::Result<()> {
    let findings = &*cause.findings;
    let first = findings[0];
    let total: u64 = findings.iter().map(|f| count(f.count())).sum();
    let severity = styled(style(first.severity()), &format!("{:<6}", first.severity()));
    let by_hand = findings.iter().filter_map(|finding| match audit.put_right(finding) {
        PutRight::Hand(words) => Some(words),
        PutRight::Set | PutRight::Open | PutRight::Seal => None,
    });
    let by_hand: BTreeSet<String> = by_hand.collect();
    writeln!(out, "  {severity}  {}  {}", styled(HEAD, first.check.name), paths(total))?;
    wrapped(&says(audit, first.check, findings), "          ", "          ", out)?;
    if let Some(also) = cause.so_also() {
        wrapped(&also, "          ", "          ", out)?;
    }
    if let Some(words) = since(findings) {
        wrapped(&styled(FAINT, &words), "          ", "          ", out)?;
    }
    for words in by_hand {
        wrapped(&format!("→ {words}"), "          ", "            ", out)?;
    }
    for (program, lines) in findings.iter().flat_map(|finding| audit.configuration(finding)) {
        writeln!(out, "            {}", styled(FAINT, &format!("{program}:")))?;
        for line in lines.lines() {
            writeln!(out, "              {line}")?;
        }
    }
    if each {
        for path in findings.iter().flat_map(|finding| audit.paths(finding)) {
            writeln!(out, "            {}", Shown(&path))?;
        }
        return Ok(());
    }
    let mut rows = table(&[]);
    let part_of = |finding: &Finding| cut(audit.part_shown(finding.part), 26);
    let shown = || findings.iter().take(MOST_ROWS);
    let parts = shown().map(|finding| part_of(finding).chars().count()).max().unwrap_or(0);
    let numbers = shown().map(|finding| number(count(finding.count())).len()).max().unwrap_or(0);
    let room = width().saturating_sub(18 + parts + numbers).max(20);
    for finding in shown() {
        let examples = audit.paths(finding).take(EXAMPLES).map(|path| Shown(&path).to_string());
        // A part that is one path needs no example.
        let examples: Vec<String> = examples.filter(|_| !is_the_part(audit, finding)).collect();
        let more = if finding.count() > examples.len() && !examples.is_empty() { ", …" } else { "" };
        rows.add_row(vec![
            part_of(finding),
            number(count(finding.count())),
            cut(&format!("{}{more}", examples.join(", ")), room),
        ]);
    }
    write(&mut rows, &[1], "            ", out)?;
    match findings.len().saturating_sub(MOST_ROWS) {
        0 => Ok(()),
        left => writeln!(out, "            and in {} more", counted(count(left), "part", "parts")),
    }
}

/// Since when these are there at the earliest, where something is on record to hold change times against.
pub(super) fn since(findings: &[&Finding]) -> Option<String> {
    let times: Vec<&Since> = findings.iter().filter_map(|finding| finding.since.as_ref()).collect();
    let between = times.iter().filter_map(|since| match since {
        Since::Between { after: Some(after), until, owner } => Some((*after, *until, owner.as_deref())),
        _ => None,
    });
    let between: Vec<_> = between.collect();
    if let (Some(after), Some(until)) = (between.iter().map(|b| b.0).min(), between.iter().map(|b| b.1).max()) {
        let owner =
            between.first().and_then(|first| first.2).filter(|owner| between.iter().all(|b| b.2 == Some(owner)));
        let owned = owner.map(|owner| format!(", new and owned by {owner}")).unwrap_or_default();
        return Some(format!("changed between {} and {}{owned}", moment(after), moment(until)));
    }
    let right = times.iter().find_map(|since| match since {
        Since::NotThePaths { right } => Some(*right),
        Since::Between { .. } => None,
    })?;
    Some(format!(
        "the paths are as they were on {}, when all was right: something else changed (site file, accounts, configuration)",
        moment(right)
    ))
}

/// Whether a finding is about the part itself and nothing below it.
fn is_the_part(audit: &Audit, finding: &Finding) -> bool {
    finding.count() == 1 && audit.paths(finding).all(|path| path.as_os_str() == audit.part_shown(finding.part))
}

/// What the findings of one check say together.
pub(super) fn says(audit: &Audit, check: &Check, findings: &[&Finding]) -> String {
    let mut reasons: BTreeMap<Reason, u64> = BTreeMap::new();
    for (reason, n) in findings.iter().flat_map(|f| &f.reasons) {
        *reasons.entry(reason.clone()).or_default() += n;
    }
    check.says(&audit.site, &reasons)
}

fn accepted(audit: &Audit, out: &mut dyn Write) -> io::Result<()> {
    let list: Vec<&Finding> = audit.wrong.findings.iter().filter(|f| f.accepted.is_some()).collect();
    for (n, finding) in list.iter().enumerate() {
        if n == 0 {
            writeln!(out)?;
        }
        let Some(accept) = finding.accepted.and_then(|number| audit.site.accepts.get(number)) else { continue };
        let until = accept.until.map(|day| format!(" until {day}")).unwrap_or_default();
        let found = paths(count(finding.count()));
        let text = format!(
            "accepted{until}: {} in {}, {found}: {}",
            finding.check.name,
            audit.part_shown(finding.part),
            accept.reason
        );
        wrapped(&text, "  ", "    ", out)?;
    }
    Ok(())
}

/// The command that puts most right, last: it is what is done next.
fn remedies(audit: &Audit, out: &mut dyn Write) -> io::Result<()> {
    let has = |how: PutRight| counted_findings(audit).any(|finding| !finding.above && audit.put_right(finding) == how);
    let name = &audit.site.name;
    let pending = audit.changes_pending() > 0;
    let seals = has(PutRight::Seal) || has(PutRight::Open);
    let unfinished = if seals { audit.unfinished() } else { Vec::new() };
    if !unfinished.is_empty() {
        let words = format!(
            "its installer has not run ({}): ambrik open {name}, run it, then: ambrik seal {name}",
            super::unfinished(&unfinished)
        );
        writeln!(out)?;
        return wrapped(&styled(HEAD, &words), "  ", "    ", out);
    }
    let words = match (has(PutRight::Set) || pending, seals) {
        (_, true) => {
            format!("put it right: ambrik seal {name}   (first: --preview; also removes installers and left-overs)")
        }
        (true, false) if has(PutRight::Set) => format!("put it right: ambrik set {name}   (first: --preview)"),
        (true, false) => format!("harmless differences from the site file: ambrik set {name} --preview"),
        (false, false) => return Ok(()),
    };
    writeln!(out)?;
    wrapped(&styled(HEAD, &words), "  ", "    ", out)
}
