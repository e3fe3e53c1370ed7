//! Findings as SARIF 2.1.0 (OASIS): a rule for each check, a result for each finding of a part.

use std::collections::BTreeMap;
use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use ambrik_core::check::{CATALOGUE, Check, Severity};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_encode};
use serde::Serialize;
use serde_json::{Value, json};

use super::found::AuditReport;
use super::json::{Each, print};
use super::told::{Told, of_host, of_site, remedy, wrong};

/// What stands in the path of a URI as it is (RFC 3986, section 3.3).
const IN_PATHS: &AsciiSet = &NON_ALPHANUMERIC.remove(b'/').remove(b'-').remove(b'.').remove(b'_').remove(b'~');

#[derive(Serialize)]
struct Document<R> {
    #[serde(rename = "$schema")]
    schema: &'static str,
    version: &'static str,
    runs: [Run<R>; 1],
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Run<R> {
    tool: Value,
    invocations: Value,
    original_uri_base_ids: BTreeMap<String, Value>,
    results: R,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct ResultOf<L> {
    rule_id: &'static str,
    rule_index: usize,
    level: &'static str,
    message: Value,
    locations: L,
    partial_fingerprints: Value,
    suppressions: Vec<Value>,
    properties: Value,
}

pub(super) fn write(report: &AuditReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let roots = report.audits.iter().map(|audit| (base(&audit.site.name), json!({ "uri": folder(&audit.site.root) })));
    let all = || report.audits.iter().flat_map(of_site).chain(of_host(report.of_host));
    print(
        &Document {
            schema: "https://json.schemastore.org/sarif-2.1.0.json",
            version: "2.1.0",
            runs: [Run {
                tool: json!({ "driver": {
                    "name": "Ambrik",
                    "version": env!("CARGO_PKG_VERSION"),
                    "rules": CATALOGUE.iter().map(|check| rule(check)).collect::<Vec<_>>(),
                }}),
                invocations: invocation(report),
                original_uri_base_ids: roots.collect(),
                results: Each(|| all().map(result)),
            }],
        },
        out,
    )
}

pub(super) fn rule(check: &Check) -> Value {
    json!({
        "id": check.name,
        "shortDescription": { "text": wrong(check) },
        "fullDescription": { "text": format!("{}: {}.", wrong(check), check.lets) },
        "help": { "text": format!("Put it right: {}", remedy(check)) },
        "defaultConfiguration": { "level": level(check.severity) },
        "properties": { "tags": ["security"], "security-severity": score(check.severity) },
    })
}

const fn level(severity: Severity) -> &'static str {
    match severity {
        Severity::High => "error",
        Severity::Medium => "warning",
        Severity::Low => "note",
    }
}

/// For viewers that sort by a number from 0 to 10.
const fn score(severity: Severity) -> &'static str {
    match severity {
        Severity::High => "8.0",
        Severity::Medium => "5.0",
        Severity::Low => "2.0",
    }
}

fn invocation(report: &AuditReport<'_>) -> Value {
    let not_judged = report.wrong.iter().map(|wrong| {
        json!({ "level": "error", "message": { "text": format!("{} was not judged: {}", wrong.site, wrong.says) } })
    });
    json!([{
        "executionSuccessful": report.is_complete(),
        "endTimeUtc": jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string(),
        "machine": report.host,
        "toolExecutionNotifications": not_judged.collect::<Vec<_>>(),
    }])
}

fn result(told: Told<'_>) -> impl Serialize {
    let site = told.site;
    let suppressions = told.accepted.map(|accept| {
        let until = accept.until.map(|day| format!(" (until {day})")).unwrap_or_default();
        json!({ "kind": "external", "status": "accepted", "justification": format!("{}{until}", accept.reason) })
    });
    // The same finding has the same one from run to run, however many paths it is of.
    let what = [told.site, told.check.name, told.part].join("\0");
    let fingerprint = blake3::hash(what.as_bytes()).to_hex()[..32].to_owned();
    ResultOf {
        rule_id: told.check.name,
        rule_index: CATALOGUE.iter().position(|check| check.name == told.check.name).unwrap_or_default(),
        level: level(told.severity),
        message: json!({ "text": format!("{}: {}. Put it right: {}", told.site, told.says, told.remedy) }),
        partial_fingerprints: json!({ "siteCheckPart/v1": fingerprint }),
        suppressions: suppressions.into_iter().collect(),
        properties: json!({ "site": told.site, "part": told.part, "count": told.count() }),
        locations: Each(move || told.paths().map(move |path| location(site, &path))),
    }
}

fn location(site: &str, path: &Path) -> Value {
    let artifact = if path.is_absolute() {
        json!({ "uri": format!("file://{}", encoded(path)) })
    } else {
        json!({ "uri": encoded(path), "uriBaseId": base(site) })
    };
    json!({ "physicalLocation": { "artifactLocation": artifact } })
}

fn base(site: &str) -> String {
    format!("ROOT-{site}")
}

/// A folder's URI ends with a stroke (SARIF, section 3.14.14).
fn folder(path: &Path) -> String {
    format!("file://{}/", encoded(path).trim_end_matches('/'))
}

pub(super) fn encoded(path: &Path) -> String {
    percent_encode(path.as_os_str().as_bytes(), IN_PATHS).to_string()
}
