//! An audit: `audit/1`.

use std::io::{self, Write};

use ambrik_core::account::Accounts;
use ambrik_core::audit::{Audit, Cell, Finding, HostFinding, Since};
use ambrik_core::entry::Nanos;
use ambrik_core::label::{LabelLine, Labels};
use ambrik_core::site::Accept;
use serde::ser::SerializeSeq as _;
use serde::{Serialize, Serializer};

use super::json::{Each, PathText, print};
use crate::failure::Wrong;

#[derive(Serialize)]
struct AuditDocument<'w, S> {
    ambrik: &'static str,
    taken: String,
    host: String,
    selinux: &'static str,
    host_findings: Vec<HostFindingDocument<'w>>,
    not_judged: Vec<NotJudged<'w>>,
    not_asked: Option<String>,
    sites: S,
}

/// What concerns several sites of the host.
#[derive(Serialize)]
struct HostFindingDocument<'f> {
    check: &'static str,
    severity: &'static str,
    sites: &'f [String],
    says: &'f str,
    remedy: String,
    accepted: Vec<Accepted>,
}

/// A site that could not be judged.
#[derive(Serialize)]
struct NotJudged<'w> {
    name: &'w str,
    says: &'w str,
}

#[derive(Serialize)]
struct SiteAudit<'a, F> {
    name: String,
    root: String,
    /// The outline that it goes by.
    outline: Option<String>,
    phase: &'static str,
    phase_known: bool,
    /// When its window ends.
    until: Option<String>,
    entries: u64,
    complete: bool,
    changes_pending: u64,
    accounts: AccountNames,
    parts: Vec<PartRights>,
    #[serde(skip_serializing_if = "Option::is_none")]
    labels: Option<Vec<LabelDocument<'a>>>,
    findings: F,
}

#[derive(Serialize)]
struct AccountNames {
    keeper: String,
    php: String,
    web: String,
}

#[derive(Serialize)]
struct PartRights {
    path: String,
    r#use: &'static str,
    paths: u64,
    keeper: RightsCell,
    php: RightsCell,
    web: RightsCell,
    others: RightsCell,
    /// Who has access besides, by name.
    access: Vec<AccessCell>,
}

#[derive(Serialize)]
struct AccessCell {
    who: String,
    #[serde(flatten)]
    rights: RightsCell,
}

#[derive(Default, Serialize)]
struct RightsCell {
    should: Vec<&'static str>,
    more: Vec<&'static str>,
    less: Vec<&'static str>,
    paths_more: u64,
    paths_less: u64,
}

#[derive(Serialize)]
struct FindingDocument<P, B> {
    check: &'static str,
    severity: &'static str,
    part: String,
    count: usize,
    paths: P,
    #[serde(skip_serializing_if = "Option::is_none")]
    not_utf8: Option<B>,
    says: String,
    remedy: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    configuration: Vec<ConfigurationLines>,
    accepted: Option<Accepted>,
    /// The check that it follows from on the same paths.
    implied_by: Option<&'static str>,
    since: Option<SinceDocument>,
}

/// When the paths became what they are.
#[derive(Serialize)]
struct SinceDocument {
    /// When all was right still; null where that is not on record.
    after: Option<String>,
    /// When the last of the paths was changed; null where they are as they were then.
    until: Option<String>,
    by: Option<String>,
}

fn since(since: &Since) -> SinceDocument {
    let time = |at: Nanos| jiff::Timestamp::from_nanosecond(at.into()).ok().map(|at| at.to_string());
    match since {
        Since::Between { after, until, owner } => {
            SinceDocument { after: after.and_then(time), until: time(*until), by: owner.clone() }
        }
        Since::NotThePaths { right } => SinceDocument { after: time(*right), until: None, by: None },
    }
}

#[derive(Serialize)]
struct ConfigurationLines {
    program: String,
    lines: String,
}

#[derive(Serialize)]
struct Accepted {
    reason: String,
    until: Option<String>,
}

/// The host of an audit.
pub(crate) struct HostHeader<'h> {
    pub(crate) name: &'h str,
    pub(crate) labels: &'h Labels,
    pub(crate) accounts: &'h Accounts,
}

/// Writes `audit/1`.
pub(crate) fn audit(
    host: &HostHeader<'_>,
    (audits, of_host): (&[Audit], &[HostFinding]),
    until: &[Option<jiff::Timestamp>],
    wrong: &[Wrong],
    tables: &[Vec<LabelLine>],
    out: &mut dyn Write,
) -> io::Result<()> {
    let taken = jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
    let sites = Each(|| {
        audits.iter().enumerate().map(|(n, audit)| site_audit(audit, until.get(n).copied().flatten(), tables.get(n)))
    });
    let selinux = host.labels.state.now.word();
    let not_asked = host.accounts.not_asked();
    let not_judged = wrong.iter().map(|Wrong { site, says }| NotJudged { name: site, says }).collect();
    let host_findings = of_host.iter().map(|finding| HostFindingDocument {
        check: finding.check.name,
        severity: finding.check.severity.word(),
        sites: &finding.sites,
        says: &finding.says,
        remedy: finding.remedy(),
        accepted: finding.accepted.iter().map(accept).collect(),
    });
    let (host, host_findings) = (host.name.to_owned(), host_findings.collect());
    print(&AuditDocument { ambrik: "audit/1", taken, host, selinux, host_findings, not_judged, not_asked, sites }, out)
}

/// Paths with the same labels.
#[derive(Serialize)]
struct LabelDocument<'l> {
    part: String,
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    path: Option<PathText<'l>>,
    now: Option<&'l str>,
    relabelled: Option<&'l str>,
    wanted: &'l str,
    right: bool,
    /// Whether a mount gives it.
    given: bool,
    count: u64,
}

fn label_line<'l>(audit: &Audit, line: &'l LabelLine) -> LabelDocument<'l> {
    let LabelLine { now, relabelled, wanted, right, given, count, .. } = line;
    let path = line.path.as_deref().map(PathText::of);
    let part = audit.part_shown(line.part).to_owned();
    let (now, relabelled) = (now.as_deref(), relabelled.as_deref());
    LabelDocument { part, path, now, relabelled, wanted, right: *right, given: *given, count: *count }
}

fn site_audit<'a>(
    audit: &'a Audit,
    until: Option<jiff::Timestamp>,
    table: Option<&'a Vec<LabelLine>>,
) -> impl Serialize + use<'a> {
    let site = &audit.site;
    let parts = audit.seen.table.iter().map(|line| {
        let mut cells = line.cells.iter();
        let mut next = || cells.next().map(rights_cell).unwrap_or_default();
        let [keeper, php, web, others] = [next(), next(), next(), next()];
        let access = audit
            .besides()
            .zip(cells)
            .map(|(access, cell)| AccessCell { who: access.who.to_string(), rights: rights_cell(cell) });
        PartRights {
            path: audit.part_shown(line.part).to_owned(),
            r#use: audit.part_use(line.part).word(),
            paths: line.count,
            keeper,
            php,
            web,
            others,
            access: access.collect(),
        }
    });
    SiteAudit {
        name: site.name.clone(),
        root: site.root.to_string_lossy().into_owned(),
        outline: site.outline.clone(),
        phase: audit.phase.word(),
        phase_known: audit.phase_known,
        until: until.map(|until| until.to_string()),
        entries: audit.seen.entries,
        complete: audit.is_complete(),
        changes_pending: audit.changes_pending(),
        accounts: AccountNames {
            keeper: site.keeper.to_string(),
            php: site.php.to_string(),
            web: site.web.to_string(),
        },
        parts: parts.collect(),
        labels: table.map(|lines| lines.iter().map(|line| label_line(audit, line)).collect::<Vec<_>>()),
        findings: findings(audit),
    }
}

fn rights_cell(cell: &Cell) -> RightsCell {
    RightsCell {
        should: cell.should.iter().map(|right| right.word()).collect(),
        more: cell.more.iter().copied().collect(),
        less: cell.less.iter().copied().collect(),
        paths_more: cell.more_count,
        paths_less: cell.less_count,
    }
}

/// All findings of an audit, each with what it follows from.
pub(super) fn findings(audit: &Audit) -> impl Serialize + use<'_> {
    let causes = audit.causes();
    Each(move || {
        let each = audit.wrong.findings.iter().zip(causes.clone());
        each.map(move |(finding, cause)| {
            let cause = cause.and_then(|place| audit.wrong.findings.get(place));
            finding_document(audit, finding, cause.map(|cause| cause.check.name))
        })
    })
}

/// The paths of a finding as texts, made while they are written.
struct EachPath<'a> {
    audit: &'a Audit,
    finding: &'a Finding,
}

impl Serialize for EachPath<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(Some(self.finding.count()))?;
        self.audit.each_path(self.finding, |path| match path.to_str() {
            Some(text) => list.serialize_element(text),
            None => list.serialize_element(&*path.to_string_lossy()),
        })?;
        list.end()
    }
}

fn finding_document<'a>(
    audit: &'a Audit,
    finding: &'a Finding,
    implied_by: Option<&'static str>,
) -> impl Serialize + use<'a> {
    let accepted = finding.accepted.and_then(|number| audit.site.accepts.get(number));
    let lossy = audit.each_path(finding, |path| path.to_str().map(|_| ()).ok_or(())).is_err();
    FindingDocument {
        check: finding.check.name,
        severity: finding.severity().word(),
        part: audit.part_shown(finding.part).to_owned(),
        count: finding.count(),
        paths: EachPath { audit, finding },
        not_utf8: lossy.then_some({
            Each(move || audit.paths(finding).filter(|path| path.to_str().is_none()).map(|path| PathText::owned(&path)))
        }),
        says: audit.says(finding),
        remedy: audit.remedy(finding),
        configuration: {
            let lines = audit.configuration(finding).into_iter();
            lines.map(|(program, lines)| ConfigurationLines { program, lines }).collect()
        },
        accepted: accepted.map(accept),
        implied_by,
        since: finding.since.as_ref().map(since),
    }
}

fn accept(accept: &Accept) -> Accepted {
    Accepted { reason: accept.reason.clone(), until: accept.until.map(|day| day.to_string()) }
}
