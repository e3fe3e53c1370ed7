//! One site looked at as a whole: findings, the table of what everyone can do, and what `set` would change.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::civil::Date;

use crate::account::Accounts;
use crate::check::{self, Check, Reason, Remedy, Severity};
use crate::entry::{Facts, Identity, Kind, Rights};
use crate::inspect::{Deviant, DirData, DirState, Inspector, Judge, Spot, Start, Unseen, Verdict};
use crate::people::People;
use crate::policy::{Policy, Right};
use crate::shown::Shown;
use crate::site::{Phase, Site};
use crate::tree::{Dir, Failure, Host, Op, Progress, Resolved, Trouble, WayError, walk};
use crate::want::{Shape, Solver};

/// What an audit is made with.
#[derive(Debug)]
pub struct Setting<'a> {
    /// The host looked at.
    pub host: &'a Host,
    /// Its accounts.
    pub accounts: &'a Accounts,
    /// How many threads walk.
    pub threads: usize,
    /// The day on which accepted exceptions must still hold.
    pub today: Date,
    /// How far it is.
    pub progress: &'a Progress,
}

/// Why a site cannot be looked at.
#[derive(Debug, thiserror::Error)]
pub enum AuditError {
    /// The root is not there, or cannot be reached.
    #[error("site {site}: root = \"{}\": {cause}; correct root in {}", Shown(.root), Shown(.file))]
    Root {
        /// The site's name.
        site: String,
        /// The root.
        root: PathBuf,
        /// The site file.
        file: PathBuf,
        /// Why.
        cause: WayError,
    },
    /// The root is no directory.
    #[error("site {site}: root = \"{}\" is a {}, not a directory; correct root in {}", Shown(.root), .kind.word(), Shown(.file))]
    RootIsNoDirectory {
        /// The site's name.
        site: String,
        /// The root.
        root: PathBuf,
        /// The site file.
        file: PathBuf,
        /// What it is.
        kind: Kind,
    },
}

/// A site, looked at.
#[derive(Debug)]
pub struct Audit {
    /// The site.
    pub site: Arc<Site>,
    /// The phase that it was judged for.
    pub phase: Phase,
    /// How many paths of the site there are.
    pub entries: u64,
    /// What everyone can do, a line for each part that has paths, and for code that no part names.
    pub table: Vec<PartLine>,
    /// The findings, the gravest first.
    pub findings: Vec<Finding>,
    /// Paths that went while they were looked at.
    pub vanished: u64,
    /// Where other file systems begin; they were not entered.
    pub mounts: Vec<PathBuf>,
    /// Where the root really is, if its path leads through a symlink.
    pub real_root: Option<PathBuf>,
    /// The parts without wildcards that are not on the disk.
    pub missing: Vec<usize>,
    pub(crate) policy: Policy,
    pub(crate) deviants: Vec<Deviant>,
    pub(crate) starts: Vec<Start>,
    /// The deviants that `set` must leave alone, and why.
    pub(crate) left_alone: BTreeMap<usize, Failure>,
    unseen: Vec<Unseen>,
    /// The missing parts with `create`, and the missing directories that lead there.
    pub(crate) to_make: Vec<ToMake>,
}

/// A path that is missing and to be made.
#[derive(Debug)]
pub(crate) struct ToMake {
    pub(crate) path: PathBuf,
    pub(crate) part: Option<usize>,
    pub(crate) kind: Kind,
    pub(crate) rights: Arc<Rights>,
}

/// A line of the table of rights.
#[derive(Debug)]
pub struct PartLine {
    /// The part; none for code that no part names.
    pub part: Option<usize>,
    /// How many paths there are.
    pub count: u64,
    /// What keeper, php, web and others can do, in this order.
    pub cells: [Cell; 4],
}

/// What one account can do in a part.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Cell {
    /// What it should be able to do; several where the part is served in places.
    pub should: BTreeSet<Right>,
    /// What it can do somewhere, and should not.
    pub more: BTreeSet<&'static str>,
    /// What it can do somewhere, where it should be able to do more.
    pub less: BTreeSet<&'static str>,
    /// On how many paths it can do more than it should.
    pub more_count: u64,
    /// On how many it can do less.
    pub less_count: u64,
}

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
    paths: Vec<Found>,
}

#[derive(Debug)]
enum Found {
    Deviant(u32),
    Path(PathBuf),
}

impl Finding {
    /// How many paths it is about.
    #[must_use]
    pub fn count(&self) -> usize {
        self.paths.len()
    }

    /// Its severity.
    #[must_use]
    pub const fn severity(&self) -> Severity {
        self.check.severity
    }
}

impl Audit {
    /// The paths of a finding, relative to the root, or absolute outside it; in order.
    pub fn paths<'f>(&'f self, finding: &'f Finding) -> impl Iterator<Item = PathBuf> + 'f {
        finding.paths.iter().map(|found| match found {
            Found::Deviant(number) => self.relative(&self.path(&self.deviants[*number as usize])),
            Found::Path(path) => self.relative(path),
        })
    }

    /// The line that a finding says.
    #[must_use]
    pub fn says(&self, finding: &Finding) -> String {
        finding.check.says(&self.site, &finding.reasons)
    }

    /// What puts a finding right.
    #[must_use]
    pub fn remedy(&self, finding: &Finding) -> String {
        if finding.above {
            let php = finding.check.name.starts_with("php");
            let who = if php { "PHP's account" } else { "other accounts" };
            return format!(
                "take the right to write away from {who} by hand: Ambrik changes only the site, not what leads to it"
            );
        }
        let php_is_keeper = self.site.php.ids.uid == self.site.keeper.ids.uid;
        if php_is_keeper && finding.check.name.starts_with("php-") && finding.check.remedy == Remedy::Set {
            return "keeper and PHP are one account, and nothing can be kept from it: give PHP an account of its own"
                .into();
        }
        finding.check.remedy_for(&self.site)
    }

    /// Whether there were paths that could not be looked at.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        self.unseen.is_empty()
    }

    /// The gravest severity among the findings that count.
    #[must_use]
    pub fn worst(&self) -> Option<Severity> {
        self.findings.iter().filter(|f| f.accepted.is_none()).map(Finding::severity).max()
    }

    /// How many paths `set` would change.
    #[must_use]
    pub fn changes_pending(&self) -> usize {
        self.deviants.iter().filter(|d| d.verdict.fix.is_some()).count()
    }

    /// The path of a part as shown in a report.
    #[must_use]
    pub fn part_shown(&self, part: Option<usize>) -> &str {
        self.policy.part_shown(part)
    }

    /// What a part, or code that no part names, is for.
    #[must_use]
    pub fn part_use(&self, part: Option<usize>) -> crate::site::Use {
        part.map_or(crate::site::Use::Code, |part| self.site.parts[part].used_as)
    }

    /// Whether an accepted exception covers what a check found about a deviant.
    pub(crate) fn is_accepted(&self, check: &Check, deviant: usize) -> bool {
        let of = self.findings.iter().filter(|f| std::ptr::eq(f.check, check) && f.accepted.is_some());
        of.flat_map(|f| &f.paths).any(|found| matches!(found, Found::Deviant(number) if *number as usize == deviant))
    }

    pub(crate) fn path(&self, deviant: &Deviant) -> PathBuf {
        match &deviant.spot {
            Spot::Start(number) => self.starts[*number as usize].path.clone(),
            Spot::In(dir, name) => dir.path_of(name),
        }
    }

    pub(crate) fn relative(&self, path: &Path) -> PathBuf {
        relative(&self.site.root, path)
    }
}

/// `path` relative to `root`, `.` for the root itself; unchanged where it is outside.
pub(crate) fn relative(root: &Path, path: &Path) -> PathBuf {
    match path.strip_prefix(root) {
        Ok(rest) if rest.as_os_str().is_empty() => PathBuf::from("."),
        Ok(rest) => rest.to_owned(),
        Err(_) => path.to_owned(),
    }
}

/// Looks at the whole of `site` in `phase`.
pub fn audit(setting: &Setting<'_>, site: &Arc<Site>, phase: Phase) -> Result<Audit, AuditError> {
    let root = resolve_root(setting.host, site)?;
    let policy = Policy::new(Arc::clone(site), phase);
    let solver = Solver::new(site, setting.accounts);
    let people = People::new(site, setting.accounts);
    let mut judge = Judge::new(&policy, &solver, &people, setting.accounts, setting.host);

    let mut findings = Findings::default();
    let mut starts = Vec::new();
    let mut opened = Vec::new();
    let mut unseen = Vec::new();
    let real_root = (root.path != site.root).then(|| root.path.clone());
    let mut places = vec![(site.root.clone(), root)];
    for path in outside_starts(site) {
        match setting.host.resolve(&path) {
            Ok(resolved) => places.push((path, resolved)),
            Err(WayError::Missing(_) | WayError::NoDirectory(_)) => {}
            Err(WayError::Loop(path)) => unseen.push(not_seen(&policy, path, rustix::io::Errno::LOOP)),
            Err(WayError::Failed(path, errno)) => unseen.push(not_seen(&policy, path, errno)),
        }
    }
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
    let walked = walk(dirs, inspectors, setting.progress);
    let missing = missing_parts(setting.host, site);
    let merged = Merged::of(walked.visitors);
    let wanted = missing.iter().filter(|&&part| site.parts[part].create);
    let to_make = wanted.flat_map(|&part| to_make(setting.host, &policy, &solver, part)).collect();
    unseen.extend(merged.unseen);
    let mut audit = Audit {
        site: Arc::clone(site),
        phase,
        entries: merged.table.iter().map(|line| line.count).sum(),
        table: merged.table,
        findings: Vec::new(),
        vanished: merged.vanished,
        mounts: merged.mounts,
        real_root,
        missing,
        deviants: merged.deviants,
        starts,
        left_alone: BTreeMap::new(),
        unseen,
        to_make,
        policy,
    };
    audit.sort();
    audit.left_alone = hard_links(&audit, &mut findings);
    collect(&audit, &mut findings, setting.today);
    audit.findings = findings.sorted();
    Ok(audit)
}

fn not_seen(policy: &Policy, path: PathBuf, errno: rustix::io::Errno) -> Unseen {
    let part = policy.at(&path).context.part;
    Unseen { path, part, trouble: Trouble::Failed(Op::Look, errno) }
}

fn resolve_root(host: &Host, site: &Site) -> Result<Resolved, AuditError> {
    let (name, root, file) = (site.name.clone(), site.root.clone(), site.file.clone());
    match host.resolve(&site.root) {
        Ok(resolved) if resolved.facts.kind == Kind::Directory => Ok(resolved),
        Ok(resolved) => Err(AuditError::RootIsNoDirectory { site: name, root, file, kind: resolved.facts.kind }),
        Err(cause) => Err(AuditError::Root { site: name, root, file, cause }),
    }
}

/// The paths outside the root where walks begin: before the first wildcard of each part there, none inside another.
fn outside_starts(site: &Site) -> Vec<PathBuf> {
    let mut paths: Vec<PathBuf> =
        site.outside_parts().map(|part| Path::new("/").join(part.pattern.literal_prefix())).collect();
    paths.sort();
    paths.dedup();
    let mut starts: Vec<PathBuf> = Vec::new();
    for path in paths {
        if !starts.iter().any(|start| path.starts_with(start)) && !path.starts_with(&site.root) {
            starts.push(path);
        }
    }
    starts
}

fn begin(start: &Start, data: DirData) -> Dir<DirData> {
    use std::os::unix::ffi::OsStrExt;
    let name = std::ffi::CString::new(start.path.as_os_str().as_bytes()).unwrap_or_default();
    Dir { above: None, name, id: start.facts.id, data }
}

/// Judges the directories on the way to a start.
fn start(
    judge: &Judge<'_>,
    number: u32,
    path: PathBuf,
    resolved: Resolved,
    findings: &mut Findings,
) -> (Start, OwnedFd) {
    let people = judge.people;
    let mut state: Arc<DirState> = judge.open_to_all();
    let (mut php_stop, mut web_stop) = (None, None);
    let part = judge.policy.at(&path).context.part;
    for passed in &resolved.way {
        state = judge.enter(&state, &passed.facts.rights);
        let stop = |who| (!Judge::reaches(&state, who)).then(|| Arc::from(passed.path.as_path()));
        php_stop = php_stop.or_else(|| stop(people.php()));
        web_stop = web_stop.or_else(|| stop(people.web()));
        for (check, reason) in replaced_on_the_way(judge, &state, &passed.entry) {
            findings.add(Slot { check, part, accepted: None, above: true }, reason, Found::Path(passed.path.clone()));
        }
    }
    let now = judge.without_writers(&state);
    let Resolved { handle, parent, name, facts, path: real, .. } = resolved;
    (Start { number, path, parent, name, real, facts, now, php_stop, web_stop }, handle)
}

/// Who can put something else in the place of what was passed through a directory of this state.
fn replaced_on_the_way(judge: &Judge<'_>, state: &DirState, entry: &Facts) -> Vec<(&'static Check, Reason)> {
    let people = judge.people;
    let keeper = people.owners(people.list()[people.keeper()].ids.uid);
    let able = judge.replacers(state, entry.rights.uid).without(&keeper);
    let mut found: Vec<(&'static Check, Reason)> = Vec::new();
    if able.has(people.php()) {
        found.push((&check::PHP_WRITES_CODE, Reason::Says("it can rename a directory that leads there".into())));
    }
    if able.has(people.stranger()) {
        found.push((&check::EVERYONE_WRITES, Reason::OpenToAll));
    } else {
        let others = able.without(&people.owners(people.list()[people.php()].ids.uid));
        if !others.is_empty() {
            found.push((&check::ANOTHER_WRITES, Reason::By(people.names(&others))));
        }
    }
    found
}

/// What a part without wildcards names.
pub(crate) fn part_path(site: &Site, part: usize) -> Option<PathBuf> {
    site.parts[part].pattern.as_path().map(|path| Path::new("/").join(path))
}

/// A missing part, and the missing directories above it: those of the site as the site file says, others as the
/// keeper's, which everyone can pass.
fn to_make(host: &Host, policy: &Policy, solver: &Solver, part: usize) -> Vec<ToMake> {
    let Some(path) = part_path(policy.site(), part) else { return Vec::new() };
    let is_missing = |path: &&Path| matches!(host.resolve_link(path), Err(WayError::Missing(_)));
    let above: Vec<&Path> = path.ancestors().skip(1).take_while(is_missing).collect();
    let mut made: Vec<ToMake> = above
        .into_iter()
        .rev()
        .map(|path| {
            let context = policy.at(path).context;
            let rights = if context.ours { solver.solve(policy, &context, Shape::Directory) } else { solver.way_in() };
            ToMake { path: path.to_owned(), part: context.part, kind: Kind::Directory, rights: Arc::new(rights) }
        })
        .collect();
    let of_part = &policy.site().parts[part];
    // A part that is not there yet is a file where it has a sample, or is a secret with an extension.
    let file = of_part.from.is_some() || (of_part.used_as == crate::site::Use::Secret && path.extension().is_some());
    let (kind, shape) = if file { (Kind::File, Shape::File) } else { (Kind::Directory, Shape::Directory) };
    let rights = Arc::new(solver.solve(policy, &policy.at(&path).context, shape));
    made.push(ToMake { path, part: Some(part), kind, rights });
    made
}

fn missing_parts(host: &Host, site: &Site) -> Vec<usize> {
    let is_missing = |part: &usize| {
        let found = part_path(site, *part).map(|path| host.resolve_link(&path));
        matches!(found, Some(Err(WayError::Missing(_) | WayError::NoDirectory(_))))
    };
    (0..site.parts.len()).filter(is_missing).collect()
}

/// What all threads saw.
struct Merged {
    table: Vec<PartLine>,
    deviants: Vec<Deviant>,
    unseen: Vec<Unseen>,
    vanished: u64,
    mounts: Vec<PathBuf>,
}

impl Merged {
    fn of(inspectors: Vec<Inspector<'_>>) -> Self {
        let mut lines: BTreeMap<Option<usize>, PartLine> = BTreeMap::new();
        let mut merged =
            Self { table: Vec::new(), deviants: Vec::new(), unseen: Vec::new(), vanished: 0, mounts: Vec::new() };
        for inspector in inspectors {
            for (verdict, count) in inspector.verdicts() {
                let part = verdict.context.part;
                let line = lines.entry(part).or_insert_with(|| PartLine { part, count: 0, cells: Default::default() });
                line.count += count;
                if matches!(verdict.kind, Kind::File | Kind::Directory) {
                    for (cell, ability) in line.cells.iter_mut().zip(verdict.abilities) {
                        cell.add(ability, *count);
                    }
                }
            }
            merged.deviants.extend(inspector.deviants);
            merged.unseen.extend(inspector.unseen);
            merged.vanished += inspector.vanished;
            merged.mounts.extend(inspector.mounts);
        }
        merged.mounts.sort();
        merged.unseen.sort_by(|a, b| a.path.cmp(&b.path));
        merged.table = lines.into_values().collect();
        merged
    }
}

impl Cell {
    fn add(&mut self, ability: crate::inspect::Ability, count: u64) {
        let crate::inspect::Ability { read, write, should, may } = ability;
        self.should.insert(should);
        let now = match (read, write) {
            (true, true) => "rw",
            (true, false) => "r",
            (false, true) => "w",
            (false, false) => "-",
        };
        if (read && may < Right::Read) || (write && may < Right::Write) {
            self.more.insert(now);
            self.more_count += count;
        }
        if (!read && should >= Right::Read) || (!write && should >= Right::Write) {
            self.less.insert(now);
            self.less_count += count;
        }
    }
}

impl Audit {
    /// Puts the deviants in one order, whichever thread saw them: by directory, then by name.
    fn sort(&mut self) {
        let mut ranks: HashMap<*const Dir<DirData>, u32> = HashMap::new();
        let mut dirs: Vec<(PathBuf, *const Dir<DirData>)> = Vec::new();
        for deviant in &self.deviants {
            if let Spot::In(dir, _) = &deviant.spot
                && ranks.insert(Arc::as_ptr(dir), 0).is_none()
            {
                dirs.push((dir.path(), Arc::as_ptr(dir)));
            }
        }
        dirs.sort();
        for (rank, (_, dir)) in (1..).zip(dirs) {
            ranks.insert(dir, rank);
        }
        let ranked = std::mem::take(&mut self.deviants).into_iter().map(|deviant| match &deviant.spot {
            Spot::Start(_) => (0, deviant),
            Spot::In(dir, _) => (ranks.get(&Arc::as_ptr(dir)).copied().unwrap_or(0), deviant),
        });
        let mut ranked: Vec<(u32, Deviant)> = ranked.collect();
        ranked.sort_by(|(a_rank, a), (b_rank, b)| {
            a_rank.cmp(b_rank).then_with(|| match (&a.spot, &b.spot) {
                (Spot::Start(a), Spot::Start(b)) => a.cmp(b),
                (Spot::In(_, a), Spot::In(_, b)) => a.cmp(b),
                (Spot::Start(_), Spot::In(..)) => std::cmp::Ordering::Less,
                (Spot::In(..), Spot::Start(_)) => std::cmp::Ordering::Greater,
            })
        });
        self.deviants = ranked.into_iter().map(|(_, deviant)| deviant).collect();
    }
}

/// What tells one finding from another.
#[derive(Clone, Copy)]
struct Slot {
    check: &'static Check,
    part: Option<usize>,
    accepted: Option<usize>,
    above: bool,
}

/// Findings being put together.
#[derive(Default)]
struct Findings {
    list: Vec<Finding>,
    places: BTreeMap<(usize, bool, Option<usize>, Option<usize>), usize>,
}

impl Findings {
    /// The place in the list of the finding with this slot.
    fn place(&mut self, slot: Slot) -> usize {
        let Slot { check, part, accepted, above } = slot;
        let key = (check::place(check), above, part, accepted);
        *self.places.entry(key).or_insert_with(|| {
            self.list.push(Finding { check, part, reasons: BTreeMap::new(), accepted, above, paths: Vec::new() });
            self.list.len() - 1
        })
    }

    fn add(&mut self, slot: Slot, reason: Reason, found: Found) {
        let place = self.place(slot);
        let finding = &mut self.list[place];
        *finding.reasons.entry(reason).or_default() += 1;
        finding.paths.push(found);
    }

    fn sorted(mut self) -> Vec<Finding> {
        self.list.sort_by_key(|f| {
            (f.accepted.is_some(), std::cmp::Reverse(f.severity()), check::place(f.check), f.above, f.part)
        });
        self.list
    }
}

/// A verdict, and for each of its findings the place in the list and how many paths there were.
type Alike<'a> = (&'a Verdict, Vec<(usize, u64)>);

/// Puts what the inspection saw into findings.
fn collect(audit: &Audit, findings: &mut Findings, today: Date) {
    let site = &audit.site;
    let accepted = |check: &Check, path: &dyn Fn() -> PathBuf| {
        let mut candidates =
            site.accepts.iter().enumerate().filter(|(_, a)| a.check == check.name && a.holds_on(today));
        candidates.find(|(_, accept)| accept.pattern.covers(&path())).map(|(number, _)| number)
    };
    // Paths with the same verdict go to the same findings, unless an exception or a closed directory tells them apart.
    let mut alike: HashMap<*const Verdict, Alike<'_>> = HashMap::new();
    for (number, deviant) in audit.deviants.iter().enumerate() {
        let path = || audit.path(deviant);
        let part = deviant.verdict.context.part;
        let found = || Found::Deviant(u32::try_from(number).unwrap_or(u32::MAX));
        let verdict = &deviant.verdict;
        let told_apart = verdict.findings.iter().any(|(check, reason)| {
            *reason == Reason::Blocked || site.accepts.iter().any(|accept| accept.check == check.name)
        });
        let single: &[(&'static Check, Reason)] = if told_apart {
            &verdict.findings
        } else {
            let (_, places) = alike.entry(Arc::as_ptr(verdict)).or_insert_with(|| {
                let mut place = |(check, _): &(&'static Check, Reason)| {
                    findings.place(Slot { check, part, accepted: None, above: false })
                };
                (&**verdict, verdict.findings.iter().map(&mut place).map(|place| (place, 0)).collect())
            });
            for (place, count) in places {
                findings.list[*place].paths.push(found());
                *count += 1;
            }
            &[]
        };
        for (check, reason) in single.iter().chain(&deviant.extra) {
            let reason = match reason {
                Reason::Blocked => stopped(audit, deviant, check),
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
    for (check, path, reason) in check::judge_site(site) {
        let whole = site.root.join(&path);
        let part = audit.policy.at(&whole).context.part;
        findings.add(
            Slot { check, part, accepted: accepted(check, &|| whole.clone()), above: false },
            reason,
            Found::Path(whole.clone()),
        );
    }
    if let Some((public, reason)) = served_without_need(audit) {
        let check = &check::SERVED_TOO_WIDE;
        let whole = site.root.join(&public);
        findings.add(
            Slot { check, part: None, accepted: accepted(check, &|| whole.clone()), above: false },
            reason,
            Found::Path(site.root.clone()),
        );
    }
    for &part in &audit.missing {
        let (check, whole) = (&check::PHP_CANNOT_WRITE, part_path(site, part).unwrap_or_default());
        if is_missed(audit, part, &whole) {
            let reason = Reason::Says("not there, and PHP cannot make it".into());
            findings.add(
                Slot { check, part: Some(part), accepted: accepted(check, &|| whole.clone()), above: false },
                reason,
                Found::Path(whole.clone()),
            );
        }
    }
    for unseen in &audit.unseen {
        let words = match unseen.trouble {
            Trouble::Failed(op, errno) => Failure::Os(op, errno).to_string(),
            Trouble::Replaced => Failure::Replaced.to_string(),
            Trouble::Vanished => continue,
        };
        let check = &check::COULD_NOT_LOOK;
        let slot = Slot { check, part: unseen.part, accepted: None, above: false };
        findings.add(slot, Reason::Says(words), Found::Path(unseen.path.clone()));
    }
}

fn stopped(audit: &Audit, deviant: &Deviant, check: &Check) -> Reason {
    let (php, web) = match &deviant.spot {
        Spot::Start(number) => {
            let start = &audit.starts[*number as usize];
            (start.php_stop.as_ref(), start.web_stop.as_ref())
        }
        Spot::In(dir, _) => (dir.data.php_stop.as_ref(), dir.data.web_stop.as_ref()),
    };
    match if check.name.starts_with("web") { web } else { php } {
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

/// The whole root is served, and there is a folder made to be served instead.
fn served_without_need(audit: &Audit) -> Option<(PathBuf, Reason)> {
    const PUBLIC: &[&str] = &["public", "web", "htdocs", "webroot", "public_html", "httpdocs", "www", "pub"];
    let whole_root = audit.site.served.as_ref()?.text().is_empty();
    let has = |host: &Host, path: &Path| host.resolve(path).is_ok_and(|found| found.facts.kind == Kind::File);
    let host = audit_host(audit)?;
    let own_index = has(&host, Path::new("/index.php"));
    let folder = PUBLIC.iter().find(|folder| has(&host, &Path::new("/").join(folder).join("index.php")))?;
    (whole_root && !own_index).then(|| {
        (PathBuf::from("."), Reason::Says(format!("the whole root is served, and there is {folder}/index.php")))
    })
}

/// The site's root as a host of its own: for looking up paths inside it without leaving it.
fn audit_host(audit: &Audit) -> Option<Host> {
    let start = audit.starts.first()?;
    Host::below(&start.parent, &start.name).ok()
}

/// Finds files with several names: what has a name that was not seen in this part is a finding where php may
/// write, and is never changed.
fn hard_links(audit: &Audit, findings: &mut Findings) -> BTreeMap<usize, Failure> {
    let mut files: HashMap<Identity, Vec<usize>> = HashMap::new();
    for (number, deviant) in audit.deviants.iter().enumerate() {
        if deviant.links > 1 && deviant.verdict.kind == Kind::File {
            files.entry(deviant.id).or_default().push(number);
        }
    }
    let mut left_alone = BTreeMap::new();
    for names in files.values() {
        let of = |number: usize| &audit.deviants[number];
        let links = of(names[0]).links;
        let seen = u32::try_from(names.len()).unwrap_or(u32::MAX);
        let two_uses = names.windows(2).any(|pair| of(pair[0]).verdict.fix != of(pair[1]).verdict.fix);
        for &number in names {
            let verdict = &of(number).verdict;
            let part = verdict.context.part;
            let here = names.iter().filter(|&&other| of(other).verdict.context.part == part).count();
            let elsewhere = u32::try_from(here).unwrap_or(u32::MAX) < links;
            let writable = verdict.context.row.php == Right::Write;
            if elsewhere && (writable || verdict.fix.is_some()) {
                let reason = Reason::Says(format!("{links} names, {here} of them in this part"));
                let slot = Slot { check: &check::HARD_LINK_SHARED, part, accepted: None, above: false };
                findings.add(slot, reason, Found::Deviant(u32::try_from(number).unwrap_or(u32::MAX)));
            }
            if verdict.fix.is_some() && seen < links {
                left_alone.insert(number, Failure::SecondName(links, seen));
            } else if two_uses {
                left_alone.insert(number, Failure::TwoUses);
            }
        }
    }
    left_alone
}

/// Whether a remedy is a command of Ambrik's.
#[must_use]
pub const fn is_command(remedy: Remedy) -> bool {
    matches!(remedy, Remedy::Set | Remedy::Seal)
}

/// The owner, group, mode and list in short: `www-data:web 2750 +acl`.
#[must_use]
pub fn rights_shown(accounts: &Accounts, rights: &Rights, kind: Kind) -> String {
    let owner = format!("{}:{}", accounts.user_shown(rights.uid), accounts.group_shown(rights.gid));
    let mode = if kind.has_mode() { format!(" {}", rights.mode) } else { String::new() };
    let list = if rights.acl.is_some() || rights.default_acl.is_some() { " +acl" } else { "" };
    format!("{owner}{mode}{list}")
}
