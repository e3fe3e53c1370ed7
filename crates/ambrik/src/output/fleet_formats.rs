//! The audits of many hosts in the formats that audits have; each host's document is read again, and written before the next.

use std::collections::BTreeMap;
use std::io::{self, Write};

use ambrik_core::check::CATALOGUE;
use ambrik_core::fleet::{FleetAudit, FleetFinding, FleetSite, causes};
use maud::{Markup, html};
use quick_xml::events::{BytesDecl, BytesText, Event};
use quick_xml::writer::Writer;
use serde_json::{Value, json};

use super::answers::{HostAnswer, Kept};
use super::csv::{HEAD, cell};
use super::json::{Each, print};
use super::openmetrics::gauge;
use super::sarif::{encoded, rule};
use super::{count, html, number, shown_xml};
use crate::options::AuditFormat;

type WholeFinding = FleetFinding<{ usize::MAX }>;
type WholeSite = FleetSite<{ usize::MAX }>;

pub(super) fn write(kept: &Kept, course: &[FleetAudit], format: AuditFormat, out: &mut dyn Write) -> io::Result<()> {
    match format {
        AuditFormat::Csv => csv(kept, out),
        AuditFormat::Html => page(kept, course, out),
        AuditFormat::Junit => junit(kept, out),
        AuditFormat::Openmetrics => metrics(kept, out),
        AuditFormat::Sarif => sarif(kept, out),
    }
}

fn csv(kept: &Kept, out: &mut dyn Write) -> io::Result<()> {
    let mut writer = csv::Writer::from_writer(out);
    writer.write_record(HEAD)?;
    for (host, no) in kept.unanswered() {
        let says = format!("{}: {}", no.trouble.says(), no.words);
        let row = [&*host.host, "", no.trouble.word(), "", "", "", &says, no.trouble.todo(), "", "", "no"];
        writer.write_record(row.map(cell))?;
    }
    for host in kept.hosts.iter().filter(|host| host.audit.is_some()) {
        let audit = kept.whole_audit(host)?;
        for wrong in &audit.not_judged {
            let row = [&*host.host, &wrong.name, "", "", "", "", &wrong.says, "", "", "", "no"];
            writer.write_record(row.map(cell))?;
        }
        for site in &audit.sites {
            let complete = if site.complete { "yes" } else { "no" };
            for finding in &site.findings {
                let (reason, until) = accepted(finding);
                let nothing = [String::new()];
                let paths = if finding.paths.is_empty() { &nothing[..] } else { &finding.paths };
                for path in paths {
                    let FleetFinding { check, severity, part, says, remedy, .. } = finding;
                    let row =
                        [&host.host, &site.name, check, severity, part, path, says, remedy, reason, until, complete];
                    writer.write_record(row.map(cell))?;
                }
            }
        }
        for found in &audit.host_findings {
            for site in &found.sites {
                let (check, says) = (&*found.check, &*found.says);
                let row = [&*host.host, site, check, &found.severity, "", "", says, &found.remedy, "", "", "yes"];
                writer.write_record(row.map(cell))?;
            }
        }
    }
    writer.flush()
}

fn accepted(finding: &WholeFinding) -> (&str, &str) {
    finding
        .accepted
        .as_ref()
        .map_or(("", ""), |accepted| (&*accepted.reason, accepted.until.as_deref().unwrap_or_default()))
}

fn metrics(kept: &Kept, out: &mut dyn Write) -> io::Result<()> {
    let audits = kept.audits();
    let sites = || audits.iter().flat_map(|(host, audit)| audit.sites.iter().map(move |site| (*host, site)));
    let answered =
        kept.hosts.iter().map(|host| (vec![("host", &*host.host)], u8::from(host.answer.is_ok()).to_string()));
    gauge("ambrik_host_answered", "", "Whether a host answered: 1, or 0.", answered.collect(), out)?;
    let mut kinds: BTreeMap<(&str, &str, &str, &str, bool), usize> = BTreeMap::new();
    for (host, site) in sites() {
        for found in &site.findings {
            *kinds.entry((host, &site.name, &found.check, &found.severity, found.counts())).or_default() += 1;
        }
    }
    let of = |counts: bool| {
        let kinds = kinds.iter().filter(move |((.., is), _)| *is == counts);
        let sample = |((host, site, check, severity, _), n): (&(_, _, _, _, _), &usize)| {
            (vec![("host", *host), ("site", *site), ("check", *check), ("severity", *severity)], n.to_string())
        };
        kinds.map(sample).collect()
    };
    let help = "Findings by host, site, check and severity, accepted ones left out.";
    gauge("ambrik_findings", "", help, of(true), out)?;
    gauge("ambrik_findings_accepted", "", "Findings that the site file accepts.", of(false), out)?;
    let by_severity = sites().flat_map(|(host, site)| {
        let of =
            |severity: &str| site.findings.iter().filter(|found| found.counts() && found.severity == severity).count();
        ["high", "medium", "low"].map(|severity| {
            (vec![("host", host), ("site", &*site.name), ("severity", severity)], of(severity).to_string())
        })
    });
    let help = "Findings of a site by severity, accepted ones left out; 0 where there are none.";
    gauge("ambrik_site_findings", "", help, by_severity.collect(), out)?;
    let labels = |host, site| vec![("host", host), ("site", site)];
    let paths = sites().map(|(host, site)| (labels(host, &*site.name), site.entries.to_string()));
    gauge("ambrik_site_paths", "", "Paths of a site that were looked at.", paths.collect(), out)?;
    let judged = sites().map(|(host, site)| (labels(host, &*site.name), u8::from(site.complete).to_string()));
    let not_judged = audits.iter().flat_map(|(host, audit)| {
        audit.not_judged.iter().map(move |wrong| (vec![("host", *host), ("site", &*wrong.name)], "0".to_owned()))
    });
    let help = "Whether all of a site could be looked at: 1, or 0.";
    gauge("ambrik_site_judged", "", help, judged.chain(not_judged).collect(), out)?;
    let took = kept.hosts.iter().map(|host| (vec![("host", &*host.host)], format!("{:.3}", host.took.as_secs_f64())));
    gauge("ambrik_host_answer_seconds", "seconds", "How long a host took to answer.", took.collect(), out)?;
    writeln!(out, "# EOF")
}

fn junit(kept: &Kept, out: &mut dyn Write) -> io::Result<()> {
    let mut writer = Writer::new_with_indent(out, b' ', 1);
    writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    writer.create_element("testsuites").with_attribute(("name", "ambrik audit")).write_inner_content(|writer| {
        for (host, no) in kept.unanswered() {
            let says = format!("{}: {}; {}", no.trouble.says(), no.words, no.trouble.todo());
            error_suite(&host.host, &host.host, "answered", &says, writer)?;
        }
        for host in kept.hosts.iter().filter(|host| host.audit.is_some()) {
            let audit = kept.whole_audit(host)?;
            for wrong in &audit.not_judged {
                error_suite(&host.host, &wrong.name, "judged", &wrong.says, writer)?;
            }
            for site in &audit.sites {
                suite(&host.host, site, writer)?;
            }
        }
        Ok(())
    })?;
    writeln!(writer.get_mut())
}

fn error_suite(host: &str, name: &str, case: &str, says: &str, writer: &mut Writer<&mut dyn Write>) -> io::Result<()> {
    let counts = [("tests", "1"), ("failures", "0"), ("errors", "1"), ("skipped", "0")];
    let suite = writer.create_element("testsuite");
    let suite = suite.with_attributes([("name", &*shown_xml(name)), ("hostname", &*shown_xml(host))]);
    suite.with_attributes(counts).write_inner_content(|writer| {
        let of_case = writer.create_element("testcase");
        let of_case = of_case.with_attributes([("classname", &*shown_xml(name)), ("name", case)]);
        of_case.write_inner_content(|writer| {
            let error = writer.create_element("error").with_attributes([("message", says), ("type", "error")]);
            error.write_text_content(BytesText::new(&shown_xml(says))).map(|_| ())
        })?;
        Ok(())
    })?;
    Ok(())
}

fn suite(host: &str, site: &WholeSite, writer: &mut Writer<&mut dyn Write>) -> io::Result<()> {
    let failures: Vec<&WholeFinding> = site.findings.iter().filter(|found| found.counts()).collect();
    let skipped = site.findings.len() - failures.len();
    let counts = [site.findings.len(), failures.len(), skipped].map(|n| n.to_string());
    let [tests, failed, skipped] = counts.each_ref().map(String::as_str);
    let suite = writer.create_element("testsuite");
    let suite = suite.with_attributes([("name", &*shown_xml(&site.name)), ("hostname", &*shown_xml(host))]);
    let suite = suite.with_attributes([("tests", tests), ("failures", failed), ("errors", "0"), ("skipped", skipped)]);
    suite.write_inner_content(|writer| {
        for found in &site.findings {
            let name = format!("{} {}", found.check, found.part);
            let case = writer.create_element("testcase");
            let case =
                case.with_attributes([("classname", &*shown_xml(&site.name)), ("name", &*shown_xml(name.trim()))]);
            case.write_inner_content(|writer| {
                let (reason, _) = accepted(found);
                if !found.counts() {
                    let message = shown_xml(&format!("accepted: {reason}"));
                    writer.create_element("skipped").with_attribute(("message", &*message)).write_empty()?;
                    return Ok(());
                }
                let failure = writer.create_element("failure");
                let failure =
                    failure.with_attributes([("message", &*shown_xml(&found.says)), ("type", &*found.severity)]);
                let mut lines = vec![format!("put it right: {}", found.remedy)];
                lines.extend(found.paths.iter().take(100).map(|path| format!("  {path}")));
                failure.write_text_content(BytesText::new(&shown_xml(&lines.join("\n"))))?;
                Ok(())
            })?;
        }
        Ok(())
    })?;
    Ok(())
}

#[derive(serde::Serialize)]
struct Sarif<R> {
    #[serde(rename = "$schema")]
    schema: &'static str,
    version: &'static str,
    runs: R,
}

fn sarif(kept: &Kept, out: &mut dyn Write) -> io::Result<()> {
    let runs = Each(|| kept.hosts.iter().map(|host| sarif_run(kept, host)));
    print(&Sarif { schema: "https://json.schemastore.org/sarif-2.1.0.json", version: "2.1.0", runs }, out)
}

/// A run for each host, by its name.
fn sarif_run(kept: &Kept, host: &HostAnswer) -> Value {
    let rules: Vec<Value> = CATALOGUE.iter().map(|check| rule(check)).collect();
    let tool = json!({ "driver": { "name": "Ambrik", "version": env!("CARGO_PKG_VERSION"), "rules": rules } });
    let mut notes = Vec::new();
    if let Err(no) = &host.answer {
        notes.push(format!("{}: {}; {}", no.trouble.says(), no.words, no.trouble.todo()));
    }
    let audit = host.audit.as_ref().and_then(|_| kept.whole_audit(host).ok()).unwrap_or_default();
    notes.extend(audit.not_judged.iter().map(|wrong| format!("{} was not judged: {}", wrong.name, wrong.says)));
    let whole = notes.is_empty() && audit.sites.iter().all(|site| site.complete);
    let notes: Vec<Value> = notes.iter().map(|text| json!({ "level": "error", "message": { "text": text } })).collect();
    let base = |site: &WholeSite| format!("ROOT-{}", site.name);
    let folder = |site: &WholeSite| format!("file://{}/", encoded(site.root.as_ref()).trim_end_matches('/'));
    let roots: BTreeMap<String, Value> =
        audit.sites.iter().map(|site| (base(site), json!({ "uri": folder(site) }))).collect();
    let results: Vec<Value> = audit
        .sites
        .iter()
        .flat_map(|site| site.findings.iter().map(move |found| (site, found)))
        .filter_map(|(site, found)| {
            // A check that this side does not know has no rule here.
            let index = CATALOGUE.iter().position(|check| check.name == found.check)?;
            let level = ["error", "warning", "note"][found.rank()];
            let what = [&*host.host, &site.name, &found.check, &found.part].join("\0");
            let fingerprint = blake3::hash(what.as_bytes()).to_hex()[..32].to_owned();
            let suppressions: Vec<Value> = found
                .accepted
                .iter()
                .map(|it| json!({ "kind": "external", "status": "accepted", "justification": it.reason }))
                .collect();
            let locations: Vec<Value> = found
                .paths
                .iter()
                .map(|path| {
                    let path: &std::path::Path = path.as_ref();
                    let artifact = if path.is_absolute() {
                        json!({ "uri": format!("file://{}", encoded(path)) })
                    } else {
                        json!({ "uri": encoded(path), "uriBaseId": base(site) })
                    };
                    json!({ "physicalLocation": { "artifactLocation": artifact } })
                })
                .collect();
            Some(json!({
                "ruleId": found.check,
                "ruleIndex": index,
                "level": level,
                "message": { "text": format!("{} {}: {}. Put it right: {}", host.host, site.name, found.says, found.remedy) },
                "locations": locations,
                "partialFingerprints": { "hostSiteCheckPart/v1": fingerprint },
                "suppressions": suppressions,
                "properties": { "host": host.host, "site": site.name, "part": found.part, "count": found.count },
            }))
        })
        .collect();
    json!({
        "tool": tool,
        "invocations": [{ "executionSuccessful": whole, "machine": host.host, "toolExecutionNotifications": notes }],
        "originalUriBaseIds": roots,
        "results": results,
    })
}

fn page(kept: &Kept, course: &[FleetAudit], out: &mut dyn Write) -> io::Result<()> {
    let audits = kept.audits();
    let sites: usize = audits.iter().map(|(_, audit)| audit.sites.len()).sum();
    let bad = audits.iter().flat_map(|(_, audit)| &audit.sites).filter(|site| site.worst().is_some()).count();
    let silent = kept.unanswered().count();
    let verdict = format!(
        "{} of {} hosts gave a result; {sites} sites: {} as they should be, {bad} with findings",
        kept.hosts.len() - silent,
        kept.hosts.len(),
        sites - bad
    );
    let content = html! {
        @if silent > 0 { (silent_hosts(kept)) }
        (host_table(kept, course))
        (cause_table(kept))
        @for (host, audit) in &audits {
            @for site in audit.sites.iter().filter(|site| site.worst().is_some()) { (site_block(host, site)) }
        }
    };
    html::page(&format!("Audit of {} hosts", kept.hosts.len()), "over ssh", &verdict, &content, out)
}

fn silent_hosts(kept: &Kept) -> Markup {
    html! {
        div.wide { table {
            caption { "Hosts that gave no result: nothing is known of them" }
            thead { tr { th scope="col" { "Host" } th scope="col" { "Why" } th scope="col" { "What to do" } } }
            tbody { @for (host, no) in kept.unanswered() {
                tr {
                    th scope="row" { (host.host) }
                    td.high data-label="Why" { (no.trouble.says()) @if !no.words.is_empty() { ": " (no.words) } }
                    td data-label="What to do" { (no.trouble.todo().replace("HOST", &host.host)) }
                }
            } }
        } }
    }
}

fn host_table(kept: &Kept, course: &[FleetAudit]) -> Markup {
    let mut hosts: Vec<_> = kept.audits();
    let sum = |audit: &ambrik_core::fleet::AuditAnswer| {
        audit.sites.iter().fold([0; 3], |sum: [usize; 3], site| {
            let found = site.severities();
            [sum[0] + found[0], sum[1] + found[1], sum[2] + found[2]]
        })
    };
    hosts.sort_by_key(|(_, audit)| std::cmp::Reverse(sum(audit)));
    html! {
        div.wide { table {
            caption { "Hosts, those with the gravest findings first" }
            thead { tr {
                th scope="col" { "Host" } th.number scope="col" { "Sites" } th.number scope="col" { "High" }
                th.number scope="col" { "Medium" } th.number scope="col" { "Low" }
                @if course.len() > 1 { th scope="col" { "Course" } }
            } }
            tbody { @for (host, audit) in hosts {
                @let [high, medium, low] = sum(audit);
                tr {
                    th scope="row" { (host) }
                    td.number data-label="Sites" { (number(count(audit.sites.len()))) }
                    td.number.high[high > 0] data-label="High" { (number(count(high))) }
                    td.number.medium[medium > 0] data-label="Medium" { (number(count(medium))) }
                    td.number data-label="Low" { (number(count(low))) }
                    @if course.len() > 1 { td data-label="Course" { (course_of(host, course)) } }
                }
            } }
        } }
    }
}

/// So many audits of a host are drawn, and as high.
const MOST_DRAWN: usize = 30;
const HEIGHT: u64 = 24;

/// How many findings a host had in the audits that are on record, as a picture and in words.
fn course_of(host: &str, course: &[FleetAudit]) -> Markup {
    let of: Vec<[u64; 3]> = course.iter().filter_map(|audit| audit.hosts.get(host).copied()).collect();
    let of = &of[of.len().saturating_sub(MOST_DRAWN)..];
    let most = of.iter().map(|counts| counts.iter().sum::<u64>()).max().unwrap_or(0).max(1);
    let bars = of.iter().enumerate().flat_map(|(n, counts)| {
        let mut top = HEIGHT;
        ["high", "medium", "low"].into_iter().zip(*counts).map(move |(look, count)| {
            let height = count * HEIGHT / most;
            top -= height;
            (look, n * 6, top, height)
        })
    });
    let bars: Vec<_> = bars.filter(|(.., height)| *height > 0).collect();
    let sum = |counts: Option<&[u64; 3]>| counts.map_or(0, |counts| counts.iter().sum::<u64>());
    let says = format!("{} findings in the first of {} audits, {} now", sum(of.first()), of.len(), sum(of.last()));
    html! {
        svg width=(of.len() * 6) height=(HEIGHT) role="img" aria-label=(says) {
            @for (look, x, y, height) in bars { rect class={ "bar-" (look) } x=(x) y=(y) width="5" height=(height) {} }
        }
    }
}

fn cause_table(kept: &Kept) -> Markup {
    let audits = kept.audits();
    html! {
        div.wide { table {
            caption { "What was found, the gravest first" }
            thead { tr {
                th scope="col" { "Check" } th scope="col" { "Severity" } th.number scope="col" { "Hosts" }
                th.number scope="col" { "Sites" } th scope="col" { "What it says" }
            } }
            tbody { @for cause in causes(&audits) {
                tr {
                    th scope="row" { (cause.check) }
                    td.high[cause.severity == "high"] data-label="Severity" { (cause.severity) }
                    td.number data-label="Hosts" { (cause.hosts) }
                    td.number data-label="Sites" { (cause.sites) }
                    td data-label="What it says" { (cause.says) }
                }
            } }
        } }
    }
}

fn site_block(host: &str, site: &FleetSite) -> Markup {
    html! {
        section {
            h2 { (host) ": " (site.name) }
            p.soft { (site.root) }
            ul { @for found in site.findings.iter().filter(|found| found.counts()) {
                li {
                    strong { (found.check) } " (" (found.severity) ", " (number(found.count)) "): " (found.says)
                    @if !found.paths.is_empty() { br; code { (found.paths.iter().take(5).cloned().collect::<Vec<_>>().join(", ")) } }
                    br; "Put it right: " (found.remedy)
                }
            } }
        }
    }
}
