//! An audit as a page to hand on: one file, without a script, that fetches nothing and can be read on paper.

use std::collections::BTreeMap;
use std::io::{self, Write};
use std::path::Path;

use ambrik_core::audit::{Audit, Cell, Finding, HostFinding};
use ambrik_core::change::{AuditRecord, ChangeSet};
use ambrik_core::check::Severity;
use ambrik_core::shown::Shown;
use base64::Engine as _;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use sha2::Digest as _;

use super::audit_text::severities;
use super::found::AuditReport;
use super::{audit_text, count, number, paths};

const STYLE: &str = include_str!("report.css");
/// As many paths are named of a finding in one part.
const MOST_PATHS: usize = 5;
/// As many audits are drawn, and as high.
const MOST_RECORDS: usize = 120;
const HEIGHT: u64 = 80;
/// As many change sets are told of a site.
const MOST_SETS: usize = 8;
const ROLES: [&str; 4] = ["keeper", "PHP", "web server", "all others"];

pub(super) fn write(report: &AuditReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let sites = by_worst(report);
    let took = format!("in {:.1} seconds", report.took.as_secs_f64());
    let content = html! {
        (overview(report, &sites))
        @if report.course.len() > 1 { (course(report.course)) }
        @if !report.of_host.is_empty() { (of_host(report.of_host)) }
        @for (audit, until) in &sites { (site(audit, *until, report.history)) }
    };
    page(&format!("Audit of {}", report.host), &took, &audit_text::totals(report), &content, out)
}

/// A page that fetches nothing: what it is about, how it came about, the verdict, and what it holds.
pub(super) fn page(title: &str, how: &str, verdict: &str, content: &Markup, out: &mut dyn Write) -> io::Result<()> {
    let hash = base64::engine::general_purpose::STANDARD.encode(sha2::Sha256::digest(STYLE));
    let policy = format!("default-src 'none'; style-src 'sha256-{hash}'; base-uri 'none'; form-action 'none'");
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta http-equiv="Content-Security-Policy" content=(policy);
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="referrer" content="no-referrer";
                title { (title) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                header {
                    h1 { (title) }
                    p.soft { (clock(Timestamp::now())) ", by Ambrik " (env!("CARGO_PKG_VERSION")) ", " (how) }
                    p.verdict { (verdict) }
                }
                main { (content) }
            }
        }
    };
    writeln!(out, "{}", page.into_string())
}

/// The sites with what is gravest first.
fn by_worst<'r>(report: &AuditReport<'r>) -> Vec<(&'r Audit, Option<Timestamp>)> {
    let mut sites: Vec<_> = report.audits.iter().zip(report.until.iter().copied()).collect();
    sites.sort_by_key(|(audit, _)| std::cmp::Reverse(severities(audit)));
    sites
}

fn overview(report: &AuditReport<'_>, sites: &[(&Audit, Option<Timestamp>)]) -> Markup {
    html! {
        div.wide {
            table {
                caption { "Sites, those with the gravest findings first" }
                thead { tr {
                    th scope="col" { "Site" }
                    th.number scope="col" { "High" }
                    th.number scope="col" { "Medium" }
                    th.number scope="col" { "Low" }
                    th scope="col" { "What matters most" }
                    th scope="col" { "Phase" }
                } }
                tbody {
                    @for wrong in report.wrong {
                        tr {
                            th scope="row" { (wrong.site) }
                            td.high colspan="5" { "not judged: " (wrong.says) }
                        }
                    }
                    @for (audit, until) in sites {
                        @let [high, medium, low] = severities(audit);
                        tr {
                            th scope="row" { a href={ "#" (audit.site.name) } { (audit.site.name) } }
                            td.number.high[high > 0] data-label="High" { (number(count(high))) }
                            td.number.medium[medium > 0] data-label="Medium" { (number(count(medium))) }
                            td.number data-label="Low" { (number(count(low))) }
                            td data-label="What matters most" { (audit_text::verdict(audit).1) }
                            td data-label="Phase" { (phase(audit, *until)) }
                        }
                    }
                }
            }
        }
    }
}

/// How many findings there were in the audits of the host, as a picture and in words.
fn course(records: &[AuditRecord]) -> Markup {
    let shown = &records[records.len().saturating_sub(MOST_RECORDS)..];
    let most = shown.iter().map(|record| record.findings.iter().sum::<u64>()).max().unwrap_or(0).max(1);
    let width = 600 / shown.len().max(1);
    let bars = shown.iter().enumerate().flat_map(|(n, record)| {
        let mut top = HEIGHT;
        ["high", "medium", "low"].into_iter().zip(record.findings).map(move |(look, count)| {
            let height = count * HEIGHT / most;
            top -= height;
            (look, n * width, top, height)
        })
    });
    let bars: Vec<_> = bars.filter(|(.., height)| *height > 0).collect();
    let (first, last) = (shown.first(), shown.last());
    let says = |record: &AuditRecord| {
        let [high, medium, low] = record.findings.map(number);
        format!("{}: {high} high, {medium} medium, {low} low", clock(record.taken))
    };
    let words: Vec<String> = first.into_iter().chain(last).map(says).collect();
    html! {
        h3 { "Findings over time" }
        svg width="600" height=(HEIGHT) viewBox={ "0 0 600 " (HEIGHT) } role="img" aria-label=(words.join("; ")) {
            @for (look, left, top, height) in bars {
                rect class={ "bar-" (look) } x=(left) y=(top) width=(width.saturating_sub(1).max(1)) height=(height) {}
            }
        }
        p.soft { (words.join(" — ")) }
    }
}

fn phase(audit: &Audit, until: Option<Timestamp>) -> String {
    match until {
        Some(until) if until <= Timestamp::now() => format!("open, and past its end ({})", clock(until)),
        Some(until) => format!("open until {}", clock(until)),
        None if audit.phase_known => audit.phase.to_string(),
        None => format!("{} as far as is known", audit.phase),
    }
}

pub(super) fn clock(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M %Z").to_string()
}

fn badge(severity: Severity) -> Markup {
    html! { span class={ "badge " (severity) } { (severity) } }
}

fn of_host(findings: &[HostFinding]) -> Markup {
    html! {
        section {
            h2 { "The host" }
            @for finding in findings {
                div class={ "finding " (finding.check.severity) } {
                    h4 { (badge(finding.check.severity)) (finding.check.name) }
                    @if let Some(accept) = finding.accepted.first() { p { "Accepted: " (accept.reason) } }
                    p { (finding.says) }
                    p { "Put it right: " (finding.remedy()) }
                    p.soft { "Sites: " (finding.sites.join(", ")) }
                }
            }
        }
    }
}

fn site(audit: &Audit, until: Option<Timestamp>, history: &[ChangeSet]) -> Markup {
    let site = &audit.site;
    let verdict = audit_text::verdict(audit).1;
    let look = audit.worst().map_or("good", Severity::word);
    let sets: Vec<&ChangeSet> = history.iter().filter(|set| set.site == site.name).take(MOST_SETS).collect();
    html! {
        section id=(site.name) {
            h2 { (site.name) }
            p class={ "verdict " (look) } { (verdict) }
            p.soft {
                (Shown(&site.root)) ", " (paths(audit.seen.entries)) ", " (phase(audit, until))
                "; keeper " (site.keeper.user) ", PHP " (site.php.user) ", web server " (site.web.user)
            }
            @if !audit.is_complete() { p.high { "Not all of it could be looked at." } }
            (rights(audit))
            (findings(audit))
            (accepted(audit))
            @if !sets.is_empty() { (changes(&sets)) }
        }
    }
}

/// Who can do what in each part: what is too much and what is too little stands out.
fn rights(audit: &Audit) -> Markup {
    let besides: Vec<String> = audit.besides().map(|access| access.who.to_string()).collect();
    html! {
        h3 { "Who can do what" }
        div.wide {
            table {
                caption {
                    "What each account can do in each part. "
                    span.can { "read" } " is as it should be, "
                    span.can.much { "write: too much" } " is more than that, "
                    span.can.little { "read: missing" } " is less."
                }
                thead { tr {
                    th scope="col" { "Part" }
                    th scope="col" { "Use" }
                    th.number scope="col" { "Paths" }
                    @for role in ROLES { th scope="col" { (role) } }
                    @for who in &besides { th scope="col" { (who) } }
                } }
                tbody {
                    @for line in &audit.seen.table {
                        tr {
                            th scope="row" { (part_name(audit, line.part)) }
                            td data-label="Use" { (audit.part_use(line.part)) }
                            td.number data-label="Paths" { (number(line.count)) }
                            @for (cell, who) in line.cells.iter().zip(ROLES.into_iter().chain(besides.iter().map(String::as_str))) {
                                td data-label=(who) { (pills(cell, line.count)) }
                            }
                        }
                    }
                    @for part in &audit.seen.missing {
                        tr {
                            th scope="row" { (Shown(Path::new(audit.part_shown(Some(*part))))) }
                            td { (audit.part_use(Some(*part))) }
                            td.soft colspan=(ROLES.len() + besides.len() + 1) { "not there" }
                        }
                    }
                }
            }
        }
    }
}

fn part_name(audit: &Audit, part: Option<usize>) -> String {
    part.map_or_else(|| "everything else".to_owned(), |_| Shown(Path::new(audit.part_shown(part))).to_string())
}

/// What an account can do, a word for each right.
fn pills(cell: &Cell, all: u64) -> Markup {
    let should = |right: char| cell.should.iter().any(|should| should.word().contains(right));
    let more = |right: char| !should(right) && cell.more.iter().any(|now| now.contains(right));
    let less = |right: char| should(right) && cell.less.iter().any(|now| !now.contains(right));
    let some = |wrong: u64| if wrong < all { format!(" in {}", number(wrong)) } else { String::new() };
    let rights = [('r', "read"), ('w', "write")];
    html! {
        @for (right, word) in rights {
            @if more(right) { span.can.much { (word) ": too much" (some(cell.more_count)) } }
            @else if less(right) { span.can.little { (word) ": missing" (some(cell.less_count)) } }
            @else if should(right) { span.can { (word) } }
        }
        @if rights.iter().all(|(right, _)| !should(*right) && !more(*right)) { span.none { "nothing" } }
    }
}

fn findings(audit: &Audit) -> Markup {
    let causes = audit_text::by_cause(audit);
    html! {
        @if !causes.is_empty() { h3 { "Findings" } }
        @for cause in &causes {
            @let of = &cause.findings;
            @let total: usize = of.iter().map(|finding| finding.count()).sum();
            div class={ "finding " (of[0].severity()) } {
                h4 { (badge(of[0].severity())) (of[0].check.name) ", " (paths(count(total))) }
                p { (audit_text::says(audit, of[0].check, of)) "." }
                @if let Some(also) = cause.so_also() { p { (also) "." } }
                @if let Some(since) = audit_text::since(of) { p.soft { (since) "." } }
                @for remedy in of.iter().map(|finding| audit.remedy(finding)).collect::<std::collections::BTreeSet<_>>() {
                    p { "Put it right: " code { (remedy) } }
                }
                @for (program, lines) in of.iter().flat_map(|finding| audit.configuration(finding)) {
                    p.soft { (program) ":" }
                    pre { (lines) }
                }
                ul {
                    @for (part, all) in by_part(of) {
                        @let total = all.iter().map(|finding| finding.count()).sum::<usize>();
                        li {
                            (part_name(audit, part)) ", " (paths(count(total))) ": "
                            @for (n, path) in all.iter().flat_map(|finding| audit.paths(finding)).take(MOST_PATHS).enumerate() {
                                @if n > 0 { ", " }
                                code { (Shown(&path)) }
                            }
                            @if total > MOST_PATHS { span.soft { " and " (number(count(total - MOST_PATHS))) " more" } }
                        }
                    }
                }
            }
        }
    }
}

fn by_part<'f>(findings: &[&'f Finding]) -> BTreeMap<Option<usize>, Vec<&'f Finding>> {
    let mut parts: BTreeMap<Option<usize>, Vec<&Finding>> = BTreeMap::new();
    for &finding in findings {
        parts.entry(finding.part).or_default().push(finding);
    }
    parts
}

fn accepted(audit: &Audit) -> Markup {
    let list: Vec<_> = audit
        .wrong
        .findings
        .iter()
        .filter_map(|finding| Some((finding, audit.site.accepts.get(finding.accepted?)?)))
        .collect();
    html! {
        @if !list.is_empty() {
            h3 { "Accepted" }
            ul {
                @for (finding, accept) in list {
                    li {
                        (finding.check.name) " in " (audit.part_shown(finding.part)) ", " (paths(count(finding.count()))) ": "
                        (accept.reason)
                        @if let Some(until) = accept.until { span.soft { " (until " (until) ")" } }
                    }
                }
            }
        }
    }
}

fn changes(sets: &[&ChangeSet]) -> Markup {
    html! {
        h3 { "Latest changes" }
        div.wide {
            table {
                caption { "Change sets, the newest first" }
                thead { tr {
                    th.number scope="col" { "Id" }
                    th scope="col" { "When" }
                    th scope="col" { "Command" }
                    th.number scope="col" { "Paths" }
                    th scope="col" { "State" }
                } }
                tbody {
                    @for set in sets {
                        tr {
                            td.number data-label="Id" { (set.id) }
                            td data-label="When" { (clock(set.begun)) }
                            td data-label="Command" { (set.command) @if let Some(id) = set.undoes { " of " (id) } }
                            td.number data-label="Paths" { (number(set.done.unsigned_abs())) }
                            td data-label="State" { (super::history_text::state_word(set)) }
                        }
                    }
                }
            }
        }
    }
}
