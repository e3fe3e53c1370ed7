//! Findings as a report of tests in JUnit's XML: a suite for each site, a case for each check.

use std::collections::BTreeMap;
use std::io::{self, Write};

use ambrik_core::check::{CATALOGUE, Severity};
use quick_xml::events::{BytesDecl, BytesText, Event};
use quick_xml::writer::Writer;

use super::found::AuditReport;
use super::shown_xml;
use super::told::{Told, of_host, of_site};

/// As many paths are named in one case.
const MOST: usize = 100;

pub(super) fn write(report: &AuditReport<'_>, fail_on: Option<Severity>, out: &mut dyn Write) -> io::Result<()> {
    let mut by_site: BTreeMap<&str, Vec<Told<'_>>> = BTreeMap::new();
    for audit in report.audits {
        by_site.entry(&audit.site.name).or_default().extend(of_site(audit));
    }
    for told in of_host(report.of_host) {
        by_site.entry(told.site).or_default().push(told);
    }
    let mut writer = Writer::new_with_indent(out, b' ', 1);
    writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    writer.create_element("testsuites").with_attribute(("name", "ambrik audit")).write_inner_content(|writer| {
        for wrong in report.wrong {
            not_judged(&wrong.site, &wrong.says, report.host, writer)?;
        }
        for (site, told) in &by_site {
            suite(site, told, report.host, fail_on, writer)?;
        }
        Ok(())
    })?;
    writeln!(writer.get_mut())
}

fn not_judged(site: &str, says: &str, host: &str, writer: &mut Writer<&mut dyn Write>) -> io::Result<()> {
    let suite = writer.create_element("testsuite");
    let counts = [("tests", "1"), ("failures", "0"), ("errors", "1"), ("skipped", "0")];
    let suite = suite.with_attributes([("name", &*shown_xml(site)), ("hostname", &*shown_xml(host))]);
    suite.with_attributes(counts).write_inner_content(|writer| {
        let case = writer.create_element("testcase");
        let case = case.with_attributes([("classname", &*shown_xml(site)), ("name", "judged")]);
        case.write_inner_content(|writer| {
            let error = writer.create_element("error").with_attributes([("message", "not judged"), ("type", "error")]);
            error.write_text_content(BytesText::new(&shown_xml(says))).map(|_| ())
        })?;
        Ok(())
    })?;
    Ok(())
}

fn suite(
    site: &str,
    told: &[Told<'_>],
    host: &str,
    fail_on: Option<Severity>,
    writer: &mut Writer<&mut dyn Write>,
) -> io::Result<()> {
    let fails = |told: &&Told<'_>| told.accepted.is_none() && fail_on.is_some_and(|limit| told.severity >= limit);
    let of = |check: &str| told.iter().filter(|told| told.check.name == check).collect::<Vec<_>>();
    let failures = CATALOGUE.iter().filter(|check| of(check.name).into_iter().any(|told| fails(&told))).count();
    let accepted = |told: &[&Told<'_>]| !told.is_empty() && told.iter().all(|told| told.accepted.is_some());
    let skipped = CATALOGUE.iter().filter(|check| accepted(&of(check.name))).count();
    let counts = [CATALOGUE.len(), failures, skipped].map(|n| n.to_string());
    let [tests, failures, skipped] = counts.each_ref().map(String::as_str);
    let suite = writer.create_element("testsuite");
    let suite = suite.with_attributes([("name", &*shown_xml(site)), ("hostname", &*shown_xml(host))]);
    let suite =
        suite.with_attributes([("tests", tests), ("failures", failures), ("errors", "0"), ("skipped", skipped)]);
    suite.write_inner_content(|writer| {
        for check in CATALOGUE {
            let told = of(check.name);
            let case = writer.create_element("testcase");
            let case = case.with_attributes([("classname", &*shown_xml(site)), ("name", check.name)]);
            if told.is_empty() {
                case.write_empty()?;
                continue;
            }
            case.write_inner_content(|writer| {
                if accepted(&told) {
                    let because = told.iter().filter_map(|told| told.accepted).map(|accept| accept.reason.clone());
                    let message = format!("accepted: {}", because.collect::<Vec<_>>().join("; "));
                    let skipped = writer.create_element("skipped");
                    skipped.with_attribute(("message", &*shown_xml(&message))).write_empty()?;
                    return Ok(());
                }
                let text = text(&told);
                if told.iter().any(fails) {
                    let first = told.iter().find(|told| fails(told)).map_or("", |told| &told.says);
                    let failure = writer.create_element("failure");
                    let severity = check.severity.word();
                    let failure = failure.with_attributes([("message", &*shown_xml(first)), ("type", severity)]);
                    failure.write_text_content(BytesText::new(&text))?;
                } else {
                    writer.create_element("system-out").write_text_content(BytesText::new(&text))?;
                }
                Ok(())
            })?;
        }
        Ok(())
    })?;
    Ok(())
}

fn text(told: &[&Told<'_>]) -> String {
    let mut lines = Vec::new();
    for told in told {
        let accepted = told.accepted.map(|accept| format!(" (accepted: {})", accept.reason)).unwrap_or_default();
        lines.push(format!("{}: {}{accepted}", told.severity, told.says));
        lines.push(format!("put it right: {}", told.remedy));
        lines.extend(told.paths().take(MOST).map(|path| format!("  {}", path.display())));
        if let Some(more) = told.count().checked_sub(MOST).filter(|more| *more > 0) {
            lines.push(format!("  and {more} more"));
        }
    }
    shown_xml(&lines.join("\n"))
}
