//! Results for programs: structs of their own, so that the inner ones can change; described in docs/schemas.
//! Long lists are written as they are walked, never held.

use std::borrow::Cow;
use std::collections::HashMap;
use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::rc::Rc;

use ambrik_core::account::Accounts;
use ambrik_core::audit::{Audit, Cell, Finding, HostFinding};
use ambrik_core::change::{ChangeSet, MovePlan, Outcome, Plan, Proof, UndoPlan, deployments};
use ambrik_core::entry::{Kind, Rights};
use ambrik_core::label::{LabelLine, Labels};
use ambrik_core::over_http::Page;
use ambrik_core::site::Accept;
use base64::Engine as _;
use serde::ser::SerializeSeq as _;
use serde::{Serialize, Serializer};

use super::acl_text;
use crate::failure::Wrong;

/// A list that is made while it is written.
pub(super) struct Each<F>(pub(super) F);

impl<I, T, F> Serialize for Each<F>
where
    F: Fn() -> I,
    I: Iterator<Item = T>,
    T: Serialize,
{
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(None)?;
        for item in (self.0)() {
            list.serialize_element(&item)?;
        }
        list.end()
    }
}

pub(super) fn print(document: &impl Serialize, out: &mut dyn Write) -> io::Result<()> {
    let mut buffered = io::BufWriter::with_capacity(1 << 16, out);
    serde_json::to_writer_pretty(&mut buffered, document).map_err(io::Error::from)?;
    writeln!(buffered)?;
    buffered.flush()
}

/// A path: as text, and, where that loses something, its bytes in base64.
#[derive(Serialize)]
pub(super) struct PathText<'p> {
    path: Cow<'p, str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_bytes: Option<String>,
}

impl<'p> PathText<'p> {
    pub(super) fn of(path: &'p Path) -> Self {
        let path_bytes = match path.to_str() {
            Some(_) => None,
            None => Some(base64::engine::general_purpose::STANDARD.encode(path.as_os_str().as_bytes())),
        };
        Self { path: path.to_string_lossy(), path_bytes }
    }

    /// As [`Self::of`], of a path that does not last.
    pub(super) fn owned(path: &Path) -> PathText<'static> {
        let PathText { path, path_bytes } = PathText::of(path);
        PathText { path: Cow::Owned(path.into_owned()), path_bytes }
    }
}

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
    phase: &'static str,
    phase_known: bool,
    entries: u64,
    complete: bool,
    changes_pending: usize,
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
pub(crate) struct OfHost<'h> {
    pub(crate) name: &'h str,
    pub(crate) labels: &'h Labels,
    pub(crate) accounts: &'h Accounts,
}

/// Writes `audit/1`.
pub(crate) fn audit(
    host: &OfHost<'_>,
    (audits, of_host): (&[Audit], &[HostFinding]),
    wrong: &[Wrong],
    tables: &[Vec<LabelLine>],
    out: &mut dyn Write,
) -> io::Result<()> {
    let taken = jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
    let sites = Each(|| audits.iter().enumerate().map(|(n, audit)| site_audit(audit, tables.get(n))));
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
    now: Option<&'l str>,
    relabelled: Option<&'l str>,
    wanted: &'l str,
    right: bool,
    count: u64,
}

fn label_line<'l>(audit: &Audit, line: &'l LabelLine) -> LabelDocument<'l> {
    let LabelLine { now, relabelled, wanted, right, count, .. } = line;
    let part = audit.part_shown(line.part).to_owned();
    let (now, relabelled) = (now.as_deref(), relabelled.as_deref());
    LabelDocument { part, now, relabelled, wanted, right: *right, count: *count }
}

fn site_audit<'a>(audit: &'a Audit, table: Option<&'a Vec<LabelLine>>) -> impl Serialize + use<'a> {
    let site = &audit.site;
    let parts = audit.table.iter().map(|line| {
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
        phase: audit.phase.word(),
        phase_known: audit.phase_known,
        entries: audit.entries,
        complete: audit.is_complete(),
        changes_pending: audit.changes_pending(),
        accounts: AccountNames {
            keeper: site.keeper.to_string(),
            php: site.php.to_string(),
            web: site.web.to_string(),
        },
        parts: parts.collect(),
        labels: table.map(|lines| lines.iter().map(|line| label_line(audit, line)).collect::<Vec<_>>()),
        findings: Each(move || audit.findings.iter().map(move |finding| finding_document(audit, finding))),
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

fn finding_document<'a>(audit: &'a Audit, finding: &'a Finding) -> impl Serialize + use<'a> {
    let accepted = finding.accepted.and_then(|number| audit.site.accepts.get(number));
    let lossy = audit.paths(finding).any(|path| path.to_str().is_none());
    FindingDocument {
        check: finding.check.name,
        severity: finding.severity().word(),
        part: audit.part_shown(finding.part).to_owned(),
        count: finding.count(),
        paths: Each(move || audit.paths(finding).map(|path| path.to_string_lossy().into_owned())),
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
    }
}

fn accept(accept: &Accept) -> Accepted {
    Accepted { reason: accept.reason.clone(), until: accept.until.map(|day| day.to_string()) }
}

/// A site's plan, and what came of it.
pub(crate) struct ChangedSite {
    pub(crate) plan: Plan,
    pub(crate) outcome: Option<Outcome>,
    /// What a look afterwards found, of a site that was sealed.
    pub(crate) after: Option<Sealed>,
    /// The pages that worked before the change and do not after it: each before and after.
    pub(crate) broken: Vec<(Page, Page)>,
    /// Whether the change was taken back for that.
    pub(crate) taken_back: bool,
}

impl ChangedSite {
    /// A plan of which nothing was made.
    pub(crate) const fn planned(plan: Plan) -> Self {
        Self { plan, outcome: None, after: None, broken: Vec::new(), taken_back: false }
    }
}

/// A sealed site, looked at and tried.
pub(crate) struct Sealed {
    /// What changed since it was opened, or found clean.
    pub(crate) changed: Vec<ambrik_core::change::Changed>,
    /// What a process of PHP's account could do.
    pub(crate) proof: Option<Proof>,
    /// What remains.
    pub(crate) audit: Audit,
}

#[derive(Serialize)]
struct AfterDocument<F> {
    appeared: Vec<ChangedPath>,
    tried: Option<TriedDocument>,
    findings: F,
}

#[derive(Serialize)]
struct ChangedPath {
    #[serde(flatten)]
    path: PathText<'static>,
    kind: &'static str,
    how: &'static str,
    expected: bool,
}

#[derive(Serialize)]
struct TriedDocument {
    closed_files: usize,
    writable_directories: usize,
    failures: Vec<FailedPath>,
    disturbed: Option<String>,
}

fn after_document(after: &Sealed) -> impl Serialize + use<'_> {
    let path = |path: &Path| PathText::owned(path);
    let failed = |(at, error): &(PathBuf, String)| FailedPath { path: path(at), error: error.clone() };
    let tried = after.proof.as_ref().map(|proof| TriedDocument {
        closed_files: proof.opened,
        writable_directories: proof.made,
        failures: proof.differences.iter().map(failed).collect(),
        disturbed: proof.disturbed.clone(),
    });
    AfterDocument {
        appeared: {
            let of = |changed: &ambrik_core::change::Changed| ChangedPath {
                path: path(&changed.path),
                kind: changed.kind,
                how: changed.how.words(),
                expected: changed.expected,
            };
            after.changed.iter().map(of).collect()
        },
        tried,
        findings: Each(move || after.audit.findings.iter().map(move |finding| finding_document(&after.audit, finding))),
    }
}

#[derive(Serialize)]
struct ChangesDocument<S> {
    ambrik: &'static str,
    sites: S,
}

#[derive(Serialize)]
struct SiteChanges<C, A> {
    name: String,
    id: Option<i64>,
    applied: bool,
    changes: C,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    guesses: Vec<GuessDocument>,
    #[serde(skip_serializing_if = "Option::is_none")]
    after: Option<A>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    broken: Vec<BrokenPage>,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    taken_back: bool,
}

/// What looks like an installer or a left-over, and was left for a person to decide.
#[derive(Serialize)]
struct GuessDocument {
    #[serde(flatten)]
    path: PathText<'static>,
    says: String,
    /// Whether other code needs it.
    needed: bool,
}

fn guesses(plan: &Plan) -> Vec<GuessDocument> {
    let guess =
        |path: &Path, says: &str, needed| GuessDocument { path: PathText::owned(path), says: says.to_owned(), needed };
    let looks = plan.guesses.iter().map(|removal| guess(&removal.path, &removal.reason, false));
    looks.chain(plan.needed.iter().map(|(path, says)| guess(path, says, true))).collect()
}

/// A page that worked before a change.
#[derive(Serialize)]
struct BrokenPage {
    address: String,
    before: String,
    after: String,
}

#[derive(Serialize)]
struct Change {
    #[serde(flatten)]
    path: PathText<'static>,
    what: &'static str,
    from: Option<String>,
    to: Option<String>,
    part: String,
    done: bool,
    error: Option<String>,
}

/// Writes `changes/1`.
pub(crate) fn changes(changed: &[ChangedSite], accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    let sites = Each(|| changed.iter().map(|each| site_changes(each, accounts)));
    print(&ChangesDocument { ambrik: "changes/1", sites }, out)
}

fn site_changes<'a>(changed: &'a ChangedSite, accounts: &'a Accounts) -> impl Serialize + use<'a> {
    let ChangedSite { plan, outcome, after, broken, taken_back } = changed;
    let audit = &plan.audit;
    let failures = outcome.iter().flat_map(|o| &o.failures);
    let failed: HashMap<PathBuf, String> =
        failures.map(|(path, failure)| (path.clone(), failure.to_string())).collect();
    let failed = Rc::new(failed);
    let applied = outcome.is_some();
    let real = |path: &Path| match (&audit.real_root, path.strip_prefix(&audit.site.root)) {
        (Some(real), Ok(rest)) => real.join(rest),
        _ => path.to_owned(),
    };
    let list = move || {
        let failed = Rc::clone(&failed);
        let state = Rc::new(move |path: &Path| {
            let error = failed.get(&real(path)).or_else(|| failed.get(path)).cloned();
            (applied && error.is_none(), error)
        });
        let (of_made, of_removed) = (Rc::clone(&state), Rc::clone(&state));
        let turns = plan.changed_paths().flat_map(move |(path, kind, part, before, after)| {
            let (done, error) = state(&path);
            let part = audit.part_shown(part).to_owned();
            let differences = differences(accounts, kind, &before, &after).into_iter();
            differences.map(move |(what, from, to)| Change {
                path: PathText::owned(&path),
                what,
                from,
                to,
                part: part.clone(),
                done,
                error: error.clone(),
            })
        });
        let made = plan.creations.iter().map(move |creation| {
            let (done, error) = of_made(&creation.path);
            let to = ambrik_core::audit::rights_shown(accounts, &creation.rights, creation.kind);
            let part = audit.part_shown(creation.part).to_owned();
            Change {
                path: PathText::owned(&creation.path),
                what: "create",
                from: None,
                to: Some(to),
                part,
                done,
                error,
            }
        });
        let removed = plan.removals.iter().map(move |removal| {
            let (done, error) = of_removed(&removal.path);
            let part = audit.part_shown(removal.part).to_owned();
            let from = Some(removal.reason.clone());
            Change { path: PathText::owned(&removal.path), what: "remove", from, to: None, part, done, error }
        });
        let alone = plan.left_alone().map(move |(path, failure)| {
            let error = Some(failure.to_string());
            Change {
                path: PathText::owned(&path),
                what: "owner",
                from: None,
                to: None,
                part: ".".into(),
                done: false,
                error,
            }
        });
        let kept = plan.kept.iter().map(move |(path, failure)| {
            let error = Some(failure.to_string());
            Change {
                path: PathText::owned(path),
                what: "remove",
                from: None,
                to: None,
                part: ".".into(),
                done: false,
                error,
            }
        });
        made.chain(turns).chain(removed).chain(alone).chain(kept)
    };
    let (name, id) = (audit.site.name.clone(), outcome.as_ref().map(|o| o.id));
    let (changes, after, taken_back) = (Each(list), after.as_ref().map(after_document), *taken_back);
    SiteChanges { name, id, applied, changes, guesses: guesses(plan), after, broken: broken_pages(broken), taken_back }
}

/// What came of a move.
pub(crate) struct Moved<'m> {
    pub(crate) outcome: &'m Outcome,
    /// The pages that worked before it and do not after it.
    pub(crate) broken: &'m [(Page, Page)],
    pub(crate) taken_back: bool,
}

fn broken_pages(broken: &[(Page, Page)]) -> Vec<BrokenPage> {
    let page =
        |(was, is): &(Page, Page)| BrokenPage { address: was.address.clone(), before: was.says(), after: is.says() };
    broken.iter().map(page).collect()
}

/// Writes `changes/1` for a move: the part with its old and its new place, what is made and what is passed on the way, the
/// symlink.
pub(crate) fn moved(
    plan: &MovePlan,
    done: Option<Moved<'_>>,
    accounts: &Accounts,
    out: &mut dyn Write,
) -> io::Result<()> {
    let outcome = done.as_ref().map(|done| done.outcome);
    let part = plan.part().0.to_owned();
    let change = |path: &Path, what, from, to| {
        let error = outcome.iter().flat_map(|outcome| &outcome.failures).find(|(failed, _)| failed == path);
        let error = error.map(|(_, failure)| failure.to_string());
        let done = outcome.is_some() && error.is_none();
        Change { path: PathText::owned(path), what, from, to, part: part.clone(), done, error }
    };
    let text = |path: &Path| Some(path.to_string_lossy().into_owned());
    let made = plan.creations.iter().map(|creation| {
        let to = ambrik_core::audit::rights_shown(accounts, &creation.rights, creation.kind);
        change(&creation.path, "create", None, Some(to))
    });
    let passed = plan.passages.iter().flat_map(|passage| {
        let differences = differences(accounts, Kind::Directory, &passage.before, &passage.after).into_iter();
        differences.map(|(what, from, to)| change(&passage.path, what, from, to))
    });
    let (from, to) = (&plan.asked.from, &plan.asked.to);
    let moved = plan.moves_data().then(|| change(from, "move", text(from), text(to)));
    let link = plan.link.then(|| change(from, "create", None, text(to)));
    let changes: Vec<Change> = made.chain(passed).chain(moved).chain(link).collect();
    let (name, id) = (plan.site.name.clone(), outcome.map(|outcome| outcome.id));
    let broken = done.as_ref().map(|done| broken_pages(done.broken)).unwrap_or_default();
    let (applied, taken_back) = (outcome.is_some(), done.is_some_and(|done| done.taken_back));
    let sites =
        [SiteChanges { name, id, applied, changes, guesses: Vec::new(), after: None::<()>, broken, taken_back }];
    print(&ChangesDocument { ambrik: "changes/1", sites }, out)
}

type Difference = (&'static str, Option<String>, Option<String>);

/// What changes between two sets of rights, one line each.
fn differences(accounts: &Accounts, kind: Kind, before: &Rights, after: &Rights) -> Vec<Difference> {
    let mut found: Vec<Difference> = Vec::new();
    let owner = |rights: &Rights| accounts.owner_shown(rights.uid, rights.gid);
    if (before.uid, before.gid) != (after.uid, after.gid) {
        found.push(("owner", Some(owner(before)), Some(owner(after))));
    }
    if before.label != after.label {
        let label = |rights: &Rights| rights.label.as_ref().map(ToString::to_string);
        found.push(("label", label(before), label(after)));
    }
    if !kind.has_mode() {
        return found;
    }
    if before.mode != after.mode {
        found.push(("mode", Some(before.mode.to_string()), Some(after.mode.to_string())));
    }
    let list = |rights: &Rights| {
        let access = rights.acl.as_ref().map(|acl| acl_text(accounts, acl, ""));
        let default = rights.default_acl.as_ref().map(|acl| acl_text(accounts, acl, "default:"));
        let both: Vec<String> = access.into_iter().chain(default).collect();
        (!both.is_empty()).then(|| both.join(","))
    };
    if before.acl != after.acl || before.default_acl != after.default_acl {
        found.push(("acl", list(before), list(after)));
    }
    found
}

#[derive(Serialize)]
struct HistoryDocument {
    ambrik: &'static str,
    change_sets: Vec<SetDocument>,
}

#[derive(Serialize)]
struct SetDocument {
    id: i64,
    site: String,
    command: String,
    begun: String,
    ended: Option<String>,
    changed: i64,
    removed: i64,
    failed: i64,
    undoes: Option<i64>,
    undone_by: Option<i64>,
    deployment: Option<i64>,
}

/// Writes `history/1`.
pub(crate) fn history(all: &[ChangeSet], site: Option<&str>, out: &mut dyn Write) -> io::Result<()> {
    let stories = deployments(all);
    let sets = all.iter().filter(|set| site.is_none_or(|site| set.site == site));
    let change_sets = sets.map(|set| SetDocument {
        deployment: stories.get(&set.id).copied(),
        id: set.id,
        site: set.site.clone(),
        command: set.command.clone(),
        begun: set.begun.to_string(),
        ended: set.ended.map(|time| time.to_string()),
        changed: set.done - set.removed.min(set.done),
        removed: set.removed,
        failed: set.failed,
        undoes: set.undoes,
        undone_by: set.undone_by,
    });
    print(&HistoryDocument { ambrik: "history/1", change_sets: change_sets.collect() }, out)
}

#[derive(Serialize)]
struct UndoDocument {
    ambrik: &'static str,
    site: String,
    id: Option<i64>,
    applied: bool,
    undoes: i64,
    changed: u64,
    restored: u64,
    removed: u64,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    moved: Vec<MovedPath>,
    failures: Vec<FailedPath>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    also: Vec<UndoDocument>,
}

/// What moves back.
#[derive(Serialize)]
struct MovedPath {
    from: String,
    to: String,
}

#[derive(Serialize)]
struct FailedPath {
    #[serde(flatten)]
    path: PathText<'static>,
    error: String,
}

/// Writes `undo/1`: the newest change set that is taken back, and, with it, those before it.
pub(crate) fn undo(taken: &[(&UndoPlan, Option<&Outcome>)], out: &mut dyn Write) -> io::Result<()> {
    let mut documents = taken.iter().map(|(plan, outcome)| undo_document(plan, *outcome));
    let Some(mut newest) = documents.next() else { return Ok(()) };
    newest.also = documents.collect();
    print(&newest, out)
}

fn undo_document(plan: &UndoPlan, outcome: Option<&Outcome>) -> UndoDocument {
    let failures = outcome
        .map_or(&[][..], |outcome| &outcome.failures)
        .iter()
        .map(|(path, failure)| FailedPath { path: PathText::owned(path), error: failure.to_string() });
    UndoDocument {
        ambrik: "undo/1",
        site: plan.set.site.clone(),
        id: outcome.map(|outcome| outcome.id),
        applied: outcome.is_some(),
        undoes: plan.set.id,
        changed: outcome.map_or(super::count(plan.turn_count()), |outcome| outcome.done),
        restored: outcome.map_or(super::count(plan.comes_back().count()), |outcome| outcome.restored),
        removed: outcome.map_or(super::count(plan.goes().count()), |outcome| outcome.removed),
        moved: {
            let text = |path: &Path| path.to_string_lossy().into_owned();
            plan.moves_back().map(|(from, to)| MovedPath { from: text(from), to: text(to) }).collect()
        },
        failures: failures.collect(),
        also: Vec::new(),
    }
}
