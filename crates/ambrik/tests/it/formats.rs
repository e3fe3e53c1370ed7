//! Audits in the formats of others: each is read by a reader that is not ours, and says what `audit/1` says.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::process::{Command, Stdio};

use rstest::rstest;
use serde_json::Value;

use crate::documents::document;
use crate::host::{PHP, TestHost, give, is_root};

/// A site with findings, one that is accepted, one site that cannot be judged, and names on the disk that are a stranger's.
fn host() -> TestHost {
    let host = TestHost::new();
    host.site(
        "berths",
        "[[part]]\npath = \"uploads\"\nuse = \"store\"\n\
         [[accept]]\ncheck = \"program-bit\"\npath = \"tool.php\"\nreason = \"it is <run> & \\\"asked\\\" for\"\n",
    );
    host.write("etc/ambrik/sites/broken.toml", "[site]\nroot = \"/srv/<nothing>\"\n");
    give(&host.at("srv/www/berths"), 0, 0o755);
    for name in ["=HYPERLINK(1)", "+1", "-1", "@x", "<b>&\"'.php", "two\nlines.php", "tab\t.php", "bell\u{7}.php"] {
        host.file(name, 0, 0o666);
    }
    let strange = host.at("srv/www/berths").join(std::ffi::OsStr::from_bytes(b"not\xff.php"));
    fs::write(&strange, "x").unwrap();
    give(&strange, PHP, 0o666);
    host.file("tool.php", 0, 0o755);
    host.file("index.php", 0, 0o644);
    host
}

/// Of each finding that is not accepted: site, check and part; and how many paths.
fn findings(host: &TestHost, accepted: bool) -> Vec<(String, String, String, usize)> {
    let audit = document(host, &["audit", "--fail-on", "never"], "audit");
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let of = audit["sites"].as_array().unwrap().iter().flat_map(|site| {
        let all = site["findings"].as_array().unwrap().iter();
        all.filter(|finding| finding["accepted"].is_null() != accepted).map(|finding| {
            let count = usize::try_from(finding["count"].as_u64().unwrap()).unwrap();
            (text(&site["name"]), text(&finding["check"]), text(&finding["part"]), count)
        })
    });
    of.collect()
}

fn printed(host: &TestHost, format: &str) -> String {
    let ran = host.run(&["audit", "--format", format, "--fail-on", "never"]);
    assert_eq!(ran.code, 3, "a site is not judged: {ran:?}");
    ran.out
}

#[test]
fn csv_has_a_line_for_each_path_and_no_formula() {
    if !is_root() {
        return;
    }
    let host = host();
    let printed = printed(&host, "csv");
    let mut reader = csv::Reader::from_reader(printed.as_bytes());
    let rows: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
    assert!(rows.iter().flatten().all(|cell| !cell.starts_with(['=', '+', '-', '@', '\t', '\r'])), "{rows:?}");
    let all = findings(&host, false).into_iter().chain(findings(&host, true));
    for (site, check, part, count) in all {
        let of = rows.iter().filter(|row| (&row[1], &row[2], &row[4]) == (&*site, &*check, &*part));
        assert_eq!(of.count(), count, "{site} {check} {part}");
    }
    let wrong = rows.iter().find(|row| &row[1] == "broken").unwrap();
    assert!(wrong[6].contains("broken.toml") && &wrong[10] == "no", "{wrong:?}");
    assert!(rows.iter().any(|row| row[8].starts_with("it is <run>")), "accepted: {rows:?}");
}

#[test]
fn junit_has_a_suite_for_each_site_and_a_case_for_each_check() {
    if !is_root() {
        return;
    }
    let host = host();
    let printed = printed(&host, "junit");
    let document = roxmltree::Document::parse(&printed).unwrap();
    let named = |node: &roxmltree::Node<'_, '_>, name: &str| node.attribute(name).unwrap().to_owned();
    let suites: Vec<_> = document.root_element().children().filter(|node| node.has_tag_name("testsuite")).collect();
    let names: BTreeSet<String> = suites.iter().map(|suite| named(suite, "name")).collect();
    assert_eq!(names.into_iter().collect::<Vec<_>>(), ["berths", "broken"]);
    for suite in suites {
        let cases: Vec<_> = suite.children().filter(|node| node.has_tag_name("testcase")).collect();
        let with = |tag: &'static str| -> Vec<String> {
            let has = cases.iter().filter(|case| case.children().any(|node| node.has_tag_name(tag)));
            has.map(|case| named(case, "name")).collect()
        };
        for (count, tag) in [("failures", "failure"), ("errors", "error"), ("skipped", "skipped")] {
            assert_eq!(named(&suite, count), with(tag).len().to_string(), "{printed}");
        }
        assert_eq!(named(&suite, "tests"), cases.len().to_string());
        if named(&suite, "name") == "berths" {
            let told: BTreeSet<String> = with("failure").into_iter().chain(with("system-out")).collect();
            let want: BTreeSet<String> = findings(&host, false).into_iter().map(|(_, check, ..)| check).collect();
            assert_eq!((told, with("skipped")), (want, vec!["program-bit".to_owned()]));
        }
    }
}

/// What counts as a failure is what makes the exit code 1.
#[rstest]
#[case("high", false)]
#[case("never", false)]
#[case("low", true)]
fn junit_fails_as_the_exit_code_does(#[case] fail_on: &str, #[case] fails: bool) {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "");
    give(&host.at("srv/www/berths"), 0, 0o755);
    host.file("index.php", 0, 0o755);
    let ran = host.run(&["audit", "--format", "junit", "--fail-on", fail_on]);
    assert_eq!((ran.code, ran.out.contains("<failure ")), (i32::from(fails), fails), "{ran:?}");
    assert!(ran.out.contains("program-bit"));
}

#[test]
fn sarif_has_a_result_for_each_finding() {
    if !is_root() {
        return;
    }
    let host = host();
    let printed = printed(&host, "sarif");
    let log: serde_sarif::sarif::Sarif = serde_json::from_str(&printed).unwrap();
    let run = &log.runs[0];
    let rules = run.tool.driver.rules.as_ref().unwrap();
    let results = run.results.as_ref().unwrap();
    let wanted: Vec<_> = findings(&host, false).into_iter().chain(findings(&host, true)).collect();
    assert_eq!(results.len(), wanted.len());
    for result in results {
        let id = result.rule_id.as_ref().unwrap();
        assert_eq!(&rules[usize::try_from(result.rule_index.unwrap()).unwrap()].id, id);
        let locations = result.locations.as_ref().unwrap();
        assert!(wanted.iter().any(|(_, check, _, count)| (check, *count) == (id, locations.len())), "{id}");
        for location in locations {
            let artifact = location.physical_location.as_ref().unwrap().artifact_location.as_ref().unwrap();
            let uri = artifact.uri.as_ref().unwrap();
            assert!(uri.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"/-._~%:".contains(&byte)), "{uri}");
        }
    }
    let suppressed = results.iter().filter(|result| !result.suppressions.as_ref().unwrap().is_empty());
    assert_eq!(suppressed.map(|result| result.rule_id.as_deref().unwrap()).collect::<Vec<_>>(), ["program-bit"]);
    assert!(!run.invocations.as_ref().unwrap()[0].execution_successful);
    // The same findings are known again in the next run.
    let prints = |text: &str| {
        let value: Value = serde_json::from_str(text).unwrap();
        let all = value["runs"][0]["results"].as_array().unwrap().clone();
        all.into_iter().map(|result| result["partialFingerprints"].to_string()).collect::<BTreeSet<_>>()
    };
    assert_eq!(prints(&printed).len(), results.len());
    host.file("another.php", 0, 0o666);
    assert_eq!(prints(&printed), prints(&self::printed(&host, "sarif")));
}

/// The names of the families that a collector's own reader finds in a text; nothing where it is not installed.
fn read_by_a_collector(text: &str) -> Option<String> {
    const READ: &str = "import sys
from prometheus_client.openmetrics.parser import text_string_to_metric_families
for family in text_string_to_metric_families(sys.stdin.read()): print(family.name)";
    let python = |code: &str| {
        let mut command = Command::new("/usr/bin/python3");
        command.args(["-c", code]).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        command.spawn()
    };
    let there = python("import prometheus_client").and_then(std::process::Child::wait_with_output);
    if !there.is_ok_and(|output| output.status.success()) {
        test_support::missing("python3-prometheus-client");
        return None;
    }
    let mut child = python(READ).unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), text.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success(), "{}\n{text}", String::from_utf8_lossy(&output.stderr));
    Some(String::from_utf8_lossy(&output.stdout).into_owned())
}

#[test]
fn openmetrics_counts_findings() {
    if !is_root() {
        return;
    }
    let host = host();
    let printed = printed(&host, "openmetrics");
    if let Some(names) = read_by_a_collector(&printed) {
        assert!(names.lines().any(|name| name == "ambrik_audit_duration_seconds"), "{names}");
    }
    assert!(!printed.contains("complete_timestamp"), "it is not complete: {printed}");
    let count = |name: &str| printed.lines().filter(|line| line.starts_with(&format!("{name}{{"))).count();
    let kinds = |accepted| {
        let all = findings(&host, accepted).into_iter().map(|(site, check, ..)| (site, check));
        all.collect::<BTreeSet<_>>().len()
    };
    assert_eq!((count("ambrik_findings"), count("ambrik_findings_accepted")), (kinds(false), kinds(true)));
    assert!(printed.contains("ambrik_site_judged{site=\"broken\"} 0"), "{printed}");
}

/// A file is written at once or not at all, and others' formats are refused before anything is done.
#[test]
fn to_a_file_and_what_is_refused() {
    if !is_root() {
        return;
    }
    let host = host();
    let file = host.write("report.xml", "the one before");
    let ran = host.run(&["audit", "--format", "junit", "--to", file.to_str().unwrap()]);
    assert_eq!((ran.code, &*ran.out), (3, ""), "{ran:?}");
    assert!(roxmltree::Document::parse(&fs::read_to_string(&file).unwrap()).is_ok());
    let none = host.run(&["audit", "--to", host.at("no/such/folder/x").to_str().unwrap()]);
    assert!(none.code == 2 && none.err.contains("cannot write the report to"), "{none:?}");
    let set = host.run(&["set", "berths", "--yes", "--format", "csv"]);
    assert!(set.code == 2 && set.err.contains("--format csv is for audits"), "{set:?}");
    let labels = host.run(&["audit", "--labels", "--format", "sarif"]);
    assert_eq!(labels.code, 2, "{labels:?}");
}
