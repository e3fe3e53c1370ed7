//! One look at a site: the walk, what each thread found put together, and what was learnt for the next look.

use std::collections::BTreeMap;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::finding::{Findings, collect, hard_links};
use super::missing::{NotThere, ToMake, not_there, to_make};
use super::start::{begin, not_seen, start};
use super::table::{Cell, PartLine};
use super::{Audit, AuditSetting, Judgement, Observation, ToChange, Touched};
use crate::account::{Account, Accounts, Uid};
use crate::check::{self, Pages, Reason, Sniffing};
use crate::entry::{Kind, Rights};
use crate::host::{HeldFiles, held_by};
use crate::inspect::{Deviations, Inspector, NamedIds, PathJudge, SiteDir, Start, Unseen};
use crate::label::SiteLabels;
use crate::named::{Sought, named};
use crate::people::People;
use crate::policy::Policy;
use crate::shown::Shown;
use crate::site::{Part, Phase, ServedToo, Site};
use crate::starts::{SiteError, find_root, not_the_systems};
use crate::tree::along::{Below, look_along};
use crate::tree::{Host, Op, Progress, Resolved, Trouble, WayError, sys, walk};
use crate::want::Solver;

/// As many short PHP files are opened to know what they are.
const MOST_SNIFFED: i64 = 60_000;

/// As often is a site looked at again because of links that lead from what only links lead to.
pub(super) const MOST_TIMES: usize = 3;

/// What a look taught besides, for the next one to know from the start.
pub(super) struct Learnt {
    /// What is served through links.
    pub(super) served: Vec<ServedToo>,
    /// Whom rights speak of though no file lists them.
    pub(super) accounts: Vec<Account>,
    /// What was not answered.
    pub(super) unanswered: Vec<String>,
}

impl Learnt {
    fn of(served: Vec<ServedToo>, accounts: &Accounts, people: &People, named: &NamedIds) -> Self {
        let (found, unanswered) = accounts.beyond_files(&named.uids, &named.gids);
        let unanswered = unanswered.iter().map(ToString::to_string).collect();
        Self { served, accounts: people.missing(found), unanswered }
    }
}

/// One look, with the accounts that are known of besides those of the files.
pub(super) fn look(
    setting: &AuditSetting<'_>,
    site: &Arc<Site>,
    beyond_files: &[Account],
    phase: Phase,
) -> Result<(Audit, Learnt), SiteError> {
    let root = find_root(setting.host, site)?;
    let NotThere { missing, below_a_file } = not_there(setting.host, site);
    if let Some((part, above)) = below_a_file {
        let part = &site.parts[part];
        let (file, line, part) = (part.file.clone(), part.line, part.shown.clone());
        return Err(SiteError::BelowFile { file, line, part, above });
    }
    let policy = Policy::new(Arc::clone(site), phase);
    let solver = Solver::new(site, setting.accounts);
    let people = People::new(site, setting.accounts, beyond_files, setting.neighbours);
    let labels = setting.labels.filter(|labels| labels.are_managed()).map(|labels| labels.of_site(site));
    let mut judge = PathJudge::new(&policy, &solver, &people, setting.accounts, setting.host, labels.as_ref());

    let held = if setting.only.is_none() { held(setting, site) } else { HeldFiles::default() };
    judge.held = held.files;
    if setting.sniff {
        judge.sniffing = Some(Sniffing::new(MOST_SNIFFED));
        judge.pages = Some(Pages::new());
    }
    judge.clean_since = setting.clean_since.get(&site.name).copied().filter(|_| phase == Phase::Sealed);
    let mut findings = Findings::default();
    let mut starts = Vec::new();
    let mut opened = Vec::new();
    let real_root = (root.path != site.root).then(|| root.path.clone());
    let mut unseen = Vec::new();
    let places = places_of(setting, &policy, root, &mut unseen)?;
    judge.aliases = places
        .iter()
        .filter(|(path, found)| found.path != *path)
        .map(|(path, found)| (found.path.clone(), path.clone()))
        .collect();
    for (number, (path, resolved)) in places.into_iter().enumerate() {
        let (start, handle) = start(&judge, u32::try_from(number).unwrap_or(u32::MAX), path, resolved, &mut findings);
        starts.push(start);
        opened.push(handle);
    }

    let mut inspectors: Vec<Inspector<'_>> = (0..setting.threads.max(1)).map(|_| Inspector::new(&judge)).collect();
    let mut dirs = Vec::new();
    for (start, handle) in starts.iter().zip(opened) {
        if let Some(data) = inspectors[0].start(start) {
            dirs.push((handle, Arc::new(begin(start, data))));
        }
    }
    let inspectors = match setting.only {
        None => walk(dirs, inspectors, setting.progress).visitors,
        Some(only) => {
            let real: Vec<&Path> = dirs.iter().map(|(_, dir)| real_of(&starts, dir)).collect();
            let below = real.iter().map(|real| below(real, only)).collect();
            narrow(&dirs, below, inspectors, setting.progress)
        }
    };
    let merged = Merged::of(inspectors, &judge);
    let to_make = all_to_make(setting.host, &policy, &solver, labels.as_ref(), &missing);
    unseen.extend(merged.unseen);
    let together = judge.pages.as_ref().map(Pages::together).unwrap_or_default();
    let real = |path: &Path| {
        let places = starts.iter().filter_map(|start| Some((start, path.strip_prefix(&start.path).ok()?)));
        let nearest = places.max_by_key(|(start, _)| start.path.as_os_str().len());
        nearest.map_or_else(|| path.to_owned(), |(start, below)| start.real.join(below).components().collect())
    };
    let module = labels.as_ref().and_then(|labels| labels.module(site, &real));
    let learnt = Learnt::of(merged.served_too, setting.accounts, &people, &judge.named());
    let seen = Observation {
        entries: merged.table.iter().map(|line| line.count).sum(),
        table: merged.table,
        vanished: merged.vanished,
        not_opened: judge.sniffing.as_ref().map_or(0, Sniffing::passed_over),
        mounts: merged.mounts,
        real_root,
        missing,
        starts,
        deviants: merged.deviants,
        to_change: merged.to_change,
        unseen,
        all_asked: true,
    };
    let lasting = setting.labels.zip(module.as_ref()).map(|(labels, module)| labels.lasting(module));
    let (wrong, pending) = (Judgement::default(), ToChange { module, lasting, to_make, ..ToChange::default() });
    let mut audit = Audit { site: Arc::clone(site), phase, phase_known: true, policy, solver, seen, wrong, pending };
    if setting.sniff {
        what_code_names(setting, &mut audit);
    }
    audit.pending.left_alone = hard_links(&audit, &mut findings);
    collect(setting.host, &audit, &people, &mut findings, setting.today);
    audit.wrong.findings = findings.sorted();
    let served = site.served_folder().unwrap_or_else(|| site.root.clone());
    for (below, raised) in together {
        audit = audit.with(raised, served.join(below), setting.today);
    }
    if held.unseen > 0 {
        let says = "what processes of PHP's account hold open for writing: that needs CAP_SYS_PTRACE";
        // Where that is how the host is, an exception can say so.
        audit = audit.with(check::could_not_look(says), site.root.clone(), setting.today);
    }
    let open_folder = check::open_folder(site);
    for (check, concern) in check::judge_host(site, &people).into_iter().chain(open_folder) {
        audit.add_of_host(check, concern, setting.today);
    }
    Ok((audit.with_selinux(setting, labels.as_ref()), learnt))
}

/// Where the directory that a walk begins with really is.
fn real_of<'s>(starts: &'s [Start], dir: &SiteDir) -> &'s Path {
    let found = starts.iter().find(|start| start.facts.id == dir.id);
    found.map_or(Path::new(""), |start| &start.real)
}

/// Those of the paths that are below a folder, by what they are called from there on.
fn below(folder: &Path, only: &[Touched]) -> Below {
    let below = |touched: &Touched| Some((touched.path.strip_prefix(folder).ok()?.to_owned(), touched.whole));
    let mut found = Below::new();
    for (path, whole) in only.iter().filter_map(below) {
        *found.entry(path).or_default() |= whole;
    }
    found
}

/// Looks at some paths alone, with the folders that lead there; at all below them where that is meant.
fn narrow<'j>(
    dirs: &[(OwnedFd, Arc<SiteDir>)],
    below: Vec<Below>,
    mut inspectors: Vec<Inspector<'j>>,
    progress: &Progress,
) -> Vec<Inspector<'j>> {
    let Some(first) = inspectors.first_mut() else { return inspectors };
    let mut ahead = Vec::new();
    for ((handle, dir), paths) in dirs.iter().zip(below) {
        // A handle that only pins can be asked about names in it, not listed.
        ahead.extend(look_along(handle, dir, &paths, first));
    }
    if ahead.is_empty() { inspectors } else { walk(ahead, inspectors, progress).visitors }
}

/// What looks like a left-over and is named by the site's code is none; an installer that other code loads is needed.
fn what_code_names(setting: &AuditSetting<'_>, audit: &mut Audit) {
    let mut sought = Vec::new();
    let mut whose = Vec::new();
    for (number, deviant) in audit.seen.deviants.with_extra() {
        for (check, reason) in deviant.extra {
            let loaded = check.is(&check::INSTALLER_LEFT) && matches!(reason, Reason::Looks(_));
            // What version control keeps is never code, whoever speaks of it.
            let left_over = check.is(&check::LEFTOVER_SERVED) && deviant.verdict.kind == Kind::File;
            if loaded || left_over {
                sought.push(Sought { path: audit.path(&deviant), loaded });
                whose.push(number);
            }
        }
    }
    if sought.is_empty() {
        return;
    }
    let starts = audit.seen.starts.iter().filter(|start| start.facts.kind == Kind::Directory).filter_map(|start| {
        let opened = sys::open_directory(&start.parent, &start.name).ok()?;
        (sys::look_at(&opened).ok()?.id == start.facts.id).then(|| (start.path.clone(), opened, start.facts.id))
    });
    let named = named(&audit.policy, starts.collect(), &sought, setting.threads);
    for (number, deviant) in whose.iter().enumerate() {
        let place = named.places.get(&number);
        let says = place.map(|place| format!("{}:{}", Shown(&audit.relative(&place.file)), place.line));
        let Some(mut extra) = audit.seen.deviants.get(*deviant).map(|deviant| deviant.extra.to_vec()) else { continue };
        match says {
            Some(says) if sought[number].loaded => {
                for (_, reason) in extra.iter_mut().filter(|(check, _)| check.is(&check::INSTALLER_LEFT)) {
                    *reason = Reason::Needed(format!("{}, which {says} loads", reason.like()));
                }
            }
            Some(_) => extra.retain(|(check, _)| !check.is(&check::LEFTOVER_SERVED)),
            // Where not all was read, nothing is proven.
            None if !named.whole => {
                for (_, reason) in extra.iter_mut().filter(|(check, _)| check.is(&check::LEFTOVER_SERVED)) {
                    *reason = Reason::Looks(reason.like().to_owned());
                }
            }
            None => {}
        }
        audit.seen.deviants.set_extra(*deviant, extra);
    }
}

/// What PHP holds open for writing, where that can be seen and its account is one of its own.
fn held(setting: &AuditSetting<'_>, site: &Site) -> HeldFiles {
    let php = site.php.ids.uid;
    let own = ![Uid::ROOT, site.keeper.ids.uid].contains(&php);
    let seen = setting.host.is_this() && rustix::process::geteuid().is_root();
    if own && seen { held_by(php) } else { HeldFiles::default() }
}

/// What is made of the missing parts, and of what leads there, with its label.
fn all_to_make(
    host: &Host,
    policy: &Policy,
    solver: &Solver,
    labels: Option<&SiteLabels<'_>>,
    missing: &[usize],
) -> Vec<ToMake> {
    let parts = &policy.site().parts;
    // Samples are copied, and settings made for an installer to write, for a window only.
    let for_window = |part: &Part| part.from.is_some() || (part.is_installers() && part.is_file());
    let is_wanted = |part: &Part| part.create || (policy.phase() == Phase::Open && for_window(part));
    let wanted = missing.iter().filter(|&&part| is_wanted(&parts[part]));
    let made = wanted.flat_map(|&part| to_make(host, policy, solver, part)).map(|mut made| {
        let context = policy.at(&made.path).context;
        if let Some(labels) = labels.filter(|_| context.ours) {
            let label = labels.wanted(policy, &context, None, made.kind);
            made.rights = Arc::new(Rights { label, ..(*made.rights).clone() });
        }
        made
    });
    made.collect()
}

/// The site's root and the parts outside it, each with where it really is; those that could not be reached are `unseen`.
fn places_of(
    setting: &AuditSetting<'_>,
    policy: &Policy,
    root: Resolved,
    unseen: &mut Vec<Unseen>,
) -> Result<Vec<(PathBuf, Resolved)>, SiteError> {
    let site = policy.site();
    let mut places = vec![(site.root.clone(), root)];
    for path in site.outside_starts() {
        let (path, why) = match setting.host.resolve_safely(&path, site.keeper.ids.uid) {
            Ok(resolved) => {
                not_the_systems(site, &path, &resolved)?;
                places.push((path, resolved));
                continue;
            }
            Err(WayError::Missing(_) | WayError::NoDirectory(_)) => continue,
            Err(WayError::Loop(path)) => (path, Trouble::Failed(Op::Look, rustix::io::Errno::LOOP)),
            Err(WayError::ForeignLink(path)) => (path, Trouble::ForeignLink),
            Err(WayError::Failed(path, errno)) => (path, Trouble::Failed(Op::Look, errno)),
        };
        unseen.push(not_seen(policy, path, why));
    }
    Ok(places)
}

/// What all threads saw.
struct Merged {
    table: Vec<PartLine>,
    deviants: Deviations,
    to_change: u64,
    unseen: Vec<Unseen>,
    vanished: u64,
    mounts: Vec<PathBuf>,
    served_too: Vec<ServedToo>,
}

impl Merged {
    fn of(inspectors: Vec<Inspector<'_>>, judge: &PathJudge<'_>) -> Self {
        let mut gathered = Vec::new();
        let mut lines: BTreeMap<Option<usize>, PartLine> = BTreeMap::new();
        let mut merged = Self {
            table: Vec::new(),
            deviants: Deviations::default(),
            to_change: 0,
            unseen: Vec::new(),
            vanished: 0,
            mounts: Vec::new(),
            served_too: Vec::new(),
        };
        for inspector in inspectors {
            for (verdict, count) in inspector.verdicts() {
                let part = verdict.context.part;
                let line = lines.entry(part).or_insert_with(|| PartLine { part, count: 0, cells: Vec::new() });
                line.cells.resize(verdict.abilities.len(), Cell::default());
                line.count += count;
                merged.to_change += if verdict.fix.is_some() { *count } else { 0 };
                if matches!(verdict.kind, Kind::File | Kind::Directory) {
                    for (cell, &ability) in line.cells.iter_mut().zip(&verdict.abilities) {
                        cell.add(ability, *count);
                    }
                }
            }
            gathered.push(inspector.deviants);
            merged.unseen.extend(inspector.unseen);
            merged.vanished += inspector.vanished;
            merged.mounts.extend(inspector.mounts);
            merged.served_too.extend(inspector.served_too);
        }
        merged.deviants = Deviations::of(gathered, judge.take_verdicts());
        merged.mounts.sort();
        merged.unseen.sort_by(|a, b| a.path.cmp(&b.path));
        merged.table = lines.into_values().collect();
        merged
    }
}
