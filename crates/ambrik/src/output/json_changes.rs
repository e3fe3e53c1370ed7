//! What was or would be changed: `changes/1`.

use std::collections::HashMap;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use ambrik_core::account::Accounts;
use ambrik_core::audit::Audit;
use ambrik_core::change::{MovePlan, Outcome, Plan, Proof};
use ambrik_core::entry::{Kind, Rights};
use ambrik_core::over_http::Page;
use serde::Serialize;

use super::acl_text;
use super::json::{Each, FailedPath, PathText, print};
use super::json_audit::findings;

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
        findings: findings(&after.audit),
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
    let real = |path: &Path| match (&audit.seen.real_root, path.strip_prefix(&audit.site.root)) {
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
    done: Option<&Moved<'_>>,
    accounts: &Accounts,
    out: &mut dyn Write,
) -> io::Result<()> {
    let outcome = done.map(|done| done.outcome);
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
