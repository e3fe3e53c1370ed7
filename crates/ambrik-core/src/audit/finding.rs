//! Findings, put together out of what the inspection saw.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::civil::Date;

use super::found::{Found, FoundPaths, Times};
use super::missing::part_path;
use super::{Audit, Since};
use crate::check::{self, Check, Raised, Reason, Severity};
use crate::entry::{Identity, Kind};
use crate::inspect::{Deviation, Spot, Verdict};
use crate::people::People;
use crate::policy::Right;
use crate::shown::Shown;
use crate::tree::{Failure, Host};

/// Something that an audit found.
#[derive(Debug)]
pub struct Finding {
    /// The check.
    pub check: &'static Check,
    /// The part; none for code that no part names.
    pub part: Option<usize>,
    /// How many paths there are for each reason.
    pub reasons: BTreeMap<Reason, u64>,
    /// The accepted exception that covers it.
    pub accepted: Option<usize>,
    /// Whether it is about a directory that leads to the site, which `set` does not touch.
    pub above: bool,
    /// Since when it is there, where that was asked for.
    pub since: Option<Since>,
    pub(super) paths: FoundPaths,
}

impl Finding {
    /// How many paths it is about.
    #[must_use]
    pub const fn count(&self) -> usize {
        self.paths.len()
    }

    /// Its severity.
    #[must_use]
    pub const fn severity(&self) -> Severity {
        self.check.severity
    }
}

/// What says the same, and more, of the same paths: a check's findings, and the checks that they follow from.
const FOLLOWS: [(&str, &[&str]); 6] = [
    ("php-writes-code", &["everyone-writes"]),
    ("php-writes-secret", &["everyone-writes"]),
    ("reaches-other-site", &["everyone-writes"]),
    ("secret-exposed", &["everyone-writes"]),
    ("everyone-reads", &["everyone-writes", "secret-exposed"]),
    ("another-reads", &["secret-exposed"]),
];

/// For each finding the place of the one that it follows from: one of the same part, which is of all its paths.
pub(super) fn causes(findings: &[Finding]) -> Vec<Option<usize>> {
    let open = |finding: &Finding| finding.accepted.is_none() && !finding.above;
    let is_cause = |finding: &Finding, name: &str, cause: &Finding| {
        // That every account can read follows only from what is open to every account.
        let as_wide = finding.check.name != "everyone-reads" || cause.reasons.keys().all(|it| *it == Reason::OpenToAll);
        let same = cause.check.name == name && cause.part == finding.part && open(cause);
        same && (as_wide || name == "everyone-writes") && finding.paths.are_among(&cause.paths)
    };
    let of = |finding: &Finding| {
        let (_, names) = FOLLOWS.iter().find(|(name, _)| *name == finding.check.name).filter(|_| open(finding))?;
        names.iter().find_map(|name| findings.iter().position(|cause| is_cause(finding, name, cause)))
    };
    findings.iter().map(of).collect()
}

/// What tells one finding from another.
#[derive(Clone, Copy)]
pub(super) struct Slot {
    pub(super) check: &'static Check,
    pub(super) part: Option<usize>,
    pub(super) accepted: Option<usize>,
    pub(super) above: bool,
}

/// Findings being put together.
#[derive(Default)]
pub(super) struct Findings {
    list: Vec<Finding>,
    places: BTreeMap<(usize, bool, Option<usize>, Option<usize>), usize>,
}

impl Findings {
    /// Findings that are there already.
    pub(super) fn of(list: Vec<Finding>) -> Self {
        let key = |f: &Finding| (check::place(f.check), f.above, f.part, f.accepted);
        let places = list.iter().enumerate().map(|(place, finding)| (key(finding), place)).collect();
        Self { list, places }
    }

    /// The place in the list of the finding with this slot.
    fn place(&mut self, slot: Slot) -> usize {
        let Slot { check, part, accepted, above } = slot;
        let key = (check::place(check), above, part, accepted);
        *self.places.entry(key).or_insert_with(|| {
            self.list.push(Finding {
                check,
                part,
                reasons: BTreeMap::new(),
                accepted,
                above,
                since: None,
                paths: FoundPaths::default(),
            });
            self.list.len() - 1
        })
    }

    pub(super) fn add(&mut self, slot: Slot, reason: Reason, found: Found) {
        let place = self.place(slot);
        let finding = &mut self.list[place];
        *finding.reasons.entry(reason).or_default() += 1;
        finding.paths.push(found);
    }

    pub(super) fn sorted(mut self) -> Vec<Finding> {
        self.list.sort_by_key(|f| {
            (f.accepted.is_some(), std::cmp::Reverse(f.severity()), check::place(f.check), f.above, f.part)
        });
        self.list
    }
}

/// A verdict, and for each of its findings the place in the list and how many paths there were.
type FindingKey<'a> = (&'a Verdict, Vec<(usize, u64)>);

/// Puts what the inspection saw into findings.
pub(super) fn collect(host: &Host, audit: &Audit, people: &People, findings: &mut Findings, today: Date) {
    let site = &audit.site;
    let accepted = |check: &Check, path: &dyn Fn() -> PathBuf| {
        let mut candidates =
            site.accepts.iter().enumerate().filter(|(_, a)| a.check == check.name && a.holds_on(today));
        candidates.find(|(_, accept)| accept.pattern.covers(&path())).map(|(number, _)| number)
    };
    // Paths with the same verdict go to the same findings, unless an exception or a closed directory tells them apart.
    let mut alike: HashMap<*const Verdict, FindingKey<'_>> = HashMap::new();
    for (number, deviant) in (0..).zip(audit.seen.deviants.iter()) {
        let path = || audit.path(&deviant);
        let part = deviant.verdict.context.part;
        let found = || Found::Deviation(number, Times::of(&deviant));
        let verdict = deviant.verdict;
        let told_apart = verdict.findings.iter().any(|(check, reason)| {
            *reason == Reason::Blocked || site.accepts.iter().any(|accept| accept.check == check.name)
        });
        let single: &[Raised] = if told_apart {
            &verdict.findings
        } else {
            let (_, places) = alike.entry(Arc::as_ptr(verdict)).or_insert_with(|| {
                let mut place =
                    |(check, _): &Raised| findings.place(Slot { check, part, accepted: None, above: false });
                (&**verdict, verdict.findings.iter().map(&mut place).map(|place| (place, 0)).collect())
            });
            for (place, count) in places {
                findings.list[*place].paths.push(found());
                *count += 1;
            }
            &[]
        };
        for (check, reason) in single.iter().chain(deviant.extra) {
            let reason = match reason {
                Reason::Blocked => stopped(audit, &deviant, check),
                other => other.clone(),
            };
            findings.add(Slot { check, part, accepted: accepted(check, &path), above: false }, reason, found());
        }
    }
    for (verdict, places) in alike.into_values() {
        for ((place, count), (_, reason)) in places.into_iter().zip(&verdict.findings) {
            *findings.list[place].reasons.entry(reason.clone()).or_default() += count;
        }
    }
    let mut add = |part: Option<usize>, (check, reason): Raised, whole: PathBuf| {
        let accepted = accepted(check, &|| whole.clone());
        findings.add(Slot { check, part, accepted, above: false }, reason, Found::Path(whole));
    };
    for (check, path, reason) in check::judge_site(site, people) {
        let whole = site.root.join(&path);
        add(audit.policy.at(&whole).context.part, (check, reason), whole);
    }
    if let Some(raised) = root_as_host(audit).and_then(|root| check::served_too_wide(site, &root)) {
        add(None, raised, site.root.clone());
    }
    for &part in &audit.seen.missing {
        let whole = part_path(site, part).unwrap_or_default();
        if is_missed(audit, part, &whole) {
            add(Some(part), check::not_there(), whole);
        }
    }
    for (part, whole, says) in check::out_of_bounds(host, site, audit.phase) {
        add(Some(part), check::not_let_near(&says), whole);
    }
    for unseen in &audit.seen.unseen {
        let Some((check, reason)) = check::trouble(unseen.trouble) else { continue };
        let slot = Slot { check, part: unseen.part, accepted: None, above: false };
        findings.add(slot, reason, Found::Path(unseen.path.clone()));
    }
}

fn stopped(audit: &Audit, deviant: &Deviation<'_>, check: &Check) -> Reason {
    let (php, web) = match deviant.spot {
        Spot::Start(number) => {
            let start = &audit.seen.starts[number as usize];
            (start.php_stop.as_ref(), start.web_stop.as_ref())
        }
        Spot::In(dir, _) => (dir.data.php_stop.as_ref(), dir.data.web_stop.as_ref()),
    };
    match if check.is(&check::WEB_CANNOT_READ) { web } else { php } {
        Some(path) => Reason::Says(format!("stopped at {}", Shown(path))),
        None => Reason::Blocked,
    }
}

/// A missing part that php must be able to write to, in a directory where it cannot make it.
fn is_missed(audit: &Audit, part: usize, path: &Path) -> bool {
    let needed = audit.site.parts[part].used_as != crate::site::Use::Foreign
        && audit.policy.at(path).context.row.php == Right::Write;
    let made_by_php = path.parent().is_some_and(|above| audit.policy.at(above).context.row.php == Right::Write);
    needed && !made_by_php
}

/// The site's root as a host of its own: for looking up paths inside it without leaving it.
fn root_as_host(audit: &Audit) -> Option<Host> {
    let start = audit.seen.starts.first()?;
    Host::below(&start.parent, &start.name).ok()
}

/// Finds files with several names: what has a name that was not seen in this part is a finding where php may
/// write, and is never changed.
pub(super) fn hard_links(audit: &Audit, findings: &mut Findings) -> BTreeMap<u32, Failure> {
    if !audit.seen.deviants.have_several_names() {
        return BTreeMap::new();
    }
    let mut files: HashMap<Identity, Vec<(u32, Deviation<'_>)>> = HashMap::new();
    for (number, deviant) in (0..).zip(audit.seen.deviants.iter()) {
        if deviant.links > 1 && deviant.verdict.kind == Kind::File {
            files.entry(deviant.id).or_default().push((number, deviant));
        }
    }
    let mut left_alone = BTreeMap::new();
    for names in files.values() {
        let links = names[0].1.links;
        let seen = u32::try_from(names.len()).unwrap_or(u32::MAX);
        // A name that somebody moves about during the walk can be seen twice.
        let keepers_alone = names.iter().all(|(_, deviant)| match deviant.spot {
            Spot::Start(_) => true,
            Spot::In(dir, _) => dir.data.keepers_alone,
        });
        let two_uses = names.windows(2).any(|pair| pair[0].1.verdict.fix != pair[1].1.verdict.fix);
        for (number, deviant) in names {
            let (number, verdict) = (*number, deviant.verdict);
            let part = verdict.context.part;
            let here = names.iter().filter(|(_, other)| other.verdict.context.part == part).count();
            let elsewhere = u32::try_from(here).unwrap_or(u32::MAX) < links;
            let writable = verdict.context.row.php == Right::Write;
            if elsewhere && (writable || verdict.fix.is_some()) {
                let (check, reason) = check::hard_link_shared(links, here);
                let slot = Slot { check, part, accepted: None, above: false };
                findings.add(slot, reason, Found::Deviation(number, Times::of(deviant)));
            }
            if verdict.fix.is_none() {
                continue;
            }
            if seen < links {
                left_alone.insert(number, Failure::SecondName(links, seen));
            } else if !keepers_alone {
                left_alone.insert(number, Failure::Unsettled(links));
            } else if two_uses {
                left_alone.insert(number, Failure::TwoUses);
            }
        }
    }
    left_alone
}
