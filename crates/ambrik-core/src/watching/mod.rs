//! Sites watched: what becomes wrong is told at once, by judging what was changed, not by walking.

mod events;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::audit::{Audit, AuditSetting, Touched, audit};
use crate::check::{CHANGED_IN_WINDOW, Severity};
use crate::entry::Identity;
use crate::policy::{Context, Policy, Right};
use crate::site::{Phase, Site, Use, Write};
use crate::starts::{SiteError, places};
use crate::tree::Host;

pub use events::{By, Event, Heard, ListenError, Listener};

/// What becomes wrong.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Alarm {
    /// A finding of this check is new.
    Finding(&'static str),
    /// Code of a sealed site was written to.
    CodeChanged,
    /// Code of a sealed site was added.
    CodeAdded,
    /// Code of a sealed site was removed.
    CodeRemoved,
    /// A PHP file came where PHP may write and the web server serves.
    PhpServed,
    /// The kernel dropped events: all was looked at again.
    Dropped,
    /// The site cannot be looked at.
    Gone,
    /// The site can be looked at again, and was.
    Back,
}

impl Alarm {
    /// A word for it.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Finding(_) => "finding",
            Self::CodeChanged => "code-changed",
            Self::CodeAdded => "code-added",
            Self::CodeRemoved => "code-removed",
            Self::PhpServed => "php-served",
            Self::Dropped => "events-dropped",
            Self::Gone => "gone",
            Self::Back => "back",
        }
    }
}

/// Something that somebody is to know at once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Alert {
    /// The site.
    pub site: String,
    /// What it is.
    pub alarm: Alarm,
    /// How grave it is.
    pub severity: Severity,
    /// The paths, from the host's `/` on as the site file names them; not empty but where it is about the site as a whole.
    pub paths: Vec<PathBuf>,
    /// What it says.
    pub says: String,
    /// Who did it, as far as that could be seen.
    pub by: Option<By>,
}

/// Where a walk over a site begins.
#[derive(Clone, Debug, PartialEq, Eq)]
struct WatchedStart {
    /// Without links.
    real: PathBuf,
    /// As the site file names it.
    named: PathBuf,
    id: Identity,
}

/// Where the walks over sites begin, by the sites' names; nothing while a site cannot be looked at.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Whereabouts(BTreeMap<String, Vec<WatchedStart>>);

impl Whereabouts {
    /// Where these sites are now.
    #[must_use]
    pub fn of(host: &Host, sites: &[Arc<Site>]) -> Self {
        Self(sites.iter().map(|site| (site.name.clone(), starts_of(host, site))).collect())
    }

    /// The folders and files, without links.
    #[must_use]
    pub fn places(&self) -> Vec<PathBuf> {
        let all: BTreeSet<&PathBuf> = self.0.values().flatten().map(|start| &start.real).collect();
        all.into_iter().cloned().collect()
    }
}

/// What is known to be wrong with a site: check and path.
type KnownWrong = HashSet<(&'static str, PathBuf)>;

/// The sites that are watched.
#[derive(Debug, Default)]
pub struct Watch {
    places: Whereabouts,
    known: BTreeMap<String, KnownWrong>,
}

/// A site's name, and what was found in it as it came to be watched.
pub type FirstLook = (String, Result<Audit, SiteError>);

/// A site with the phase that it is in.
pub type InPhase<'s> = (&'s Arc<Site>, Phase);

impl Watch {
    /// Looks at these sites once, from now on the ones that are watched. The answer is what was found in those that were not watched
    /// before, where it is no news; and what is wrong with the others and was not before.
    pub fn look(
        &mut self,
        sites: &[InPhase<'_>],
        places: Whereabouts,
        setting: &AuditSetting<'_>,
    ) -> (Vec<FirstLook>, Vec<Alert>) {
        let before = std::mem::take(&mut self.known);
        self.places = places;
        let (mut found, mut alerts) = (Vec::new(), Vec::new());
        for (site, phase) in sites {
            let looked = audit(setting, site, *phase);
            let mut known = before.get(&site.name).cloned().unwrap_or_default();
            if let Ok(looked) = &looked {
                let news = news(&mut known, looked, &[], true);
                alerts.extend(before.contains_key(&site.name).then_some(news).into_iter().flatten());
            }
            self.known.insert(site.name.clone(), known);
            if !before.contains_key(&site.name) {
                found.push((site.name.clone(), looked));
            }
        }
        (found, alerts)
    }

    /// Whether anything of what was heard was done in a site: what reads records makes files beside them, which is heard too.
    #[must_use]
    pub fn is_about(&self, heard: &Heard) -> bool {
        let reals: HashSet<&Path> = self.places.0.values().flatten().map(|start| &*start.real).collect();
        heard.dropped || heard.events.iter().any(|event| event.path.ancestors().any(|above| reals.contains(above)))
    }

    /// Whether sites are where they were.
    #[must_use]
    pub fn is_at(&self, places: &Whereabouts) -> bool {
        self.places == *places
    }

    /// Judges what was heard, with the sites where they are now. Where the kernel dropped something, and where a site is another one
    /// than before, all of it.
    pub fn judge(
        &mut self,
        heard: &Heard,
        sites: &[InPhase<'_>],
        places: Whereabouts,
        setting: &AuditSetting<'_>,
    ) -> Vec<Alert> {
        let mut alerts = Vec::new();
        let (before, nowhere) = (std::mem::replace(&mut self.places, places), Vec::new());
        for (site, phase) in sites {
            let Some(known) = self.known.get_mut(&site.name) else { continue };
            let [before, starts] = [&before, &self.places].map(|places| places.0.get(&site.name).unwrap_or(&nowhere));
            let of_site = |alarm: Alarm, severity: Severity, says: String| Alert {
                site: site.name.clone(),
                alarm,
                severity,
                paths: Vec::new(),
                says,
                by: None,
            };
            let own: Vec<(&Event, PathBuf)> =
                heard.events.iter().filter_map(|event| Some((event, named(starts, &event.path)?))).collect();
            let is_another = before != starts;
            if own.is_empty() && !is_another && !heard.dropped {
                continue;
            }
            if starts.is_empty() {
                if !before.is_empty() {
                    let says = "its root cannot be reached any more: nothing of it is watched until it is back";
                    alerts.push(of_site(Alarm::Gone, Severity::High, says.into()));
                }
                continue;
            }
            if heard.dropped {
                let says = "there were more changes than the kernel kept: all of the site is looked at again";
                alerts.push(of_site(Alarm::Dropped, Severity::Low, says.into()));
            } else if is_another {
                let says =
                    "its root, or a part outside it, is another folder than before: all of it is looked at again";
                alerts.push(of_site(Alarm::Back, Severity::Medium, says.into()));
            }
            let whole = heard.dropped || is_another;
            alerts.extend(code(site, *phase, &own));
            let touched = touched(&own);
            let only = (!whole).then_some(&*touched);
            match audit(&AuditSetting { only, ..*setting }, site, *phase) {
                Ok(found) => alerts.extend(news(known, &found, &own, whole)),
                Err(error) => alerts.push(of_site(Alarm::Gone, Severity::High, error.to_string())),
            }
        }
        alerts
    }
}

/// What is wrong and was not before.
fn news(known: &mut KnownWrong, found: &Audit, own: &[(&Event, PathBuf)], whole: bool) -> Vec<Alert> {
    let wrong = wrong_of(found);
    // What is right again is news when it is wrong again.
    let paths: HashSet<&Path> = own.iter().map(|(_, path)| &**path).collect();
    known.retain(|key| wrong.contains_key(key) || !(whole || paths.contains(&*key.1)));
    let mut new: BTreeMap<NewKey, NewFinding> = BTreeMap::new();
    for ((check, path), number) in wrong {
        if !known.insert((check, path.clone())) {
            continue;
        }
        let by = own.iter().rev().find(|(_, own)| *own == path).and_then(|(event, _)| event.by.clone());
        new.entry((check, by)).or_insert_with(|| NewFinding { number, paths: BTreeSet::new() }).paths.insert(path);
    }
    let mut alerts = Vec::new();
    for ((check, by), NewFinding { number, paths }) in new {
        let Some(finding) = found.wrong.findings.get(number) else { continue };
        let (site, says) = (found.site.name.clone(), found.says(finding));
        let (severity, paths) = (finding.severity(), paths.into_iter().collect());
        alerts.push(Alert { site, alarm: Alarm::Finding(check), severity, paths, says, by });
    }
    alerts
}

/// A check, and who did what it found.
type NewKey = (&'static str, Option<By>);

/// What is wrong and was not before.
struct NewFinding {
    /// The place of the finding.
    number: usize,
    paths: BTreeSet<PathBuf>,
}

/// What is wrong with a site, and by which of its findings: all but what is low, accepted, or told by the events themselves.
fn wrong_of(audit: &Audit) -> HashMap<(&'static str, PathBuf), usize> {
    let mut wrong = HashMap::new();
    for (number, finding) in audit.wrong.findings.iter().enumerate() {
        let told = finding.accepted.is_some() || finding.severity() < Severity::Medium;
        if told || finding.check.is(&CHANGED_IN_WINDOW) {
            continue;
        }
        for path in audit.paths(finding) {
            wrong.insert((finding.check.name, audit.site.root.join(path)), number);
        }
    }
    wrong
}

/// Where the walks over a site begin, without links and as the site file names them; nothing where its root cannot be reached.
fn starts_of(host: &Host, site: &Site) -> Vec<WatchedStart> {
    let found = places(host, site).unwrap_or_default();
    let start = |(named, resolved): (PathBuf, crate::tree::Resolved)| WatchedStart {
        real: resolved.path,
        named,
        id: resolved.facts.id,
    };
    found.into_iter().map(start).collect()
}

/// What the site file calls a path; nothing where it is in none of these places.
fn named(starts: &[WatchedStart], path: &Path) -> Option<PathBuf> {
    let around = starts.iter().filter(|start| path.starts_with(&start.real));
    let start = around.max_by_key(|start| start.real.as_os_str().len())?;
    Some(start.named.join(path.strip_prefix(&start.real).ok()?).components().collect())
}

/// What is to be looked at: a folder that came from elsewhere with all that is in it.
fn touched(own: &[(&Event, PathBuf)]) -> Vec<Touched> {
    let mut found: BTreeMap<PathBuf, bool> = BTreeMap::new();
    for (event, _) in own {
        *found.entry(event.path.clone()).or_default() |= event.directory && event.came;
    }
    found.into_iter().map(|(path, whole)| Touched { path, whole }).collect()
}

/// What was done to code of a sealed site, and PHP files where PHP may write and the web server serves; by whom, each kind once.
fn code(site: &Arc<Site>, phase: Phase, own: &[(&Event, PathBuf)]) -> Vec<Alert> {
    let policy = Policy::new(Arc::clone(site), phase);
    let mut found: BTreeMap<(Alarm, Option<By>), BTreeSet<PathBuf>> = BTreeMap::new();
    for (event, path) in own {
        if event.by.as_ref().is_some_and(|by| by.ours) {
            continue;
        }
        let context = policy.at(path).context;
        let Some(alarm) = alarm(&context, phase, event, path) else { continue };
        found.entry((alarm, event.by.clone())).or_default().insert(path.clone());
    }
    // What is new is not told to be changed as well.
    let added: BTreeSet<PathBuf> = found
        .iter()
        .filter(|((alarm, _), _)| *alarm == Alarm::CodeAdded)
        .flat_map(|(_, paths)| paths.clone())
        .collect();
    let alert = |((alarm, by), mut paths): ((Alarm, Option<By>), BTreeSet<PathBuf>)| {
        if alarm == Alarm::CodeChanged {
            paths.retain(|path| !added.contains(path));
        }
        let says = match alarm {
            Alarm::CodeAdded => "code was added to a sealed site",
            Alarm::CodeRemoved => "code was removed from a sealed site",
            Alarm::PhpServed => {
                "a PHP file came where PHP may write and the web server serves: whoever put it there may run it"
            }
            _ => "code of a sealed site was changed",
        };
        let severity = if alarm == Alarm::CodeRemoved { Severity::Medium } else { Severity::High };
        let (site, paths) = (site.name.clone(), paths.into_iter().collect::<Vec<_>>());
        (!paths.is_empty()).then(|| Alert { site, alarm, severity, paths, says: says.into(), by })
    };
    found.into_iter().filter_map(alert).collect()
}

fn alarm(context: &Context, phase: Phase, event: &Event, path: &Path) -> Option<Alarm> {
    if !context.is_managed() {
        return None;
    }
    let is_php = path.extension().is_some_and(|ending| {
        let ending = ending.to_string_lossy().to_ascii_lowercase();
        ending.starts_with("php") || ending == "phar" || ending == "phtml"
    });
    if context.row.php == Right::Write {
        let came = event.came || event.written;
        return (came && is_php && !event.directory && context.served).then_some(Alarm::PhpServed);
    }
    let is_code = phase == Phase::Sealed && context.used_as == Use::Code && context.write == Write::Never;
    match event {
        _ if !is_code => None,
        Event { went: true, came: false, .. } => Some(Alarm::CodeRemoved),
        Event { came: true, .. } => Some(Alarm::CodeAdded),
        Event { written: true, directory: false, .. } => Some(Alarm::CodeChanged),
        _ => None,
    }
}
