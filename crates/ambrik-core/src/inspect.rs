//! One look at every path of a site: what is found wrong with it, and what it should be.
//!
//! Paths that are alike (same part, owner, bits, lists and way in) are judged once; the rest is counting.

use std::cell::OnceCell;
use std::collections::{BTreeSet, HashMap};
use std::ffi::{CStr, CString, OsStr};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use foldhash::fast::RandomState;

use crate::account::{Accounts, Gid, Powers, Uid};
use crate::acl::Tag;
use crate::check::{self, Case, Check, Next, Pages, PathCan, PathCase, Reason, Remedy, Sniffing};
use crate::entry::{Bar, Facts, Identity, Kind, Nanos, Rights};
use crate::host::{Holder, Making};
use crate::label::{Alike, SiteLabels, Verdict as LabelVerdict, is_labelled};
use crate::mode::{Mode, Perm};
use crate::people::{People, Set};
use crate::policy::{Context, Cursor, Policy, Right};
use crate::served;
use crate::shown::Shown;
use crate::site::{Overrides, ServedToo, Site, Use, Write};
use crate::tree::{Dir, Host, Look, Trouble, Visitor};
use crate::want::{Shape, Solver, Wants};

/// Who can get into a directory, and who can make and remove names in it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct DirState {
    /// A small number, the same for equal states.
    id: u32,
    reach: Set,
    writers: Set,
    /// The directory's owner, where only owners remove names (sticky).
    sticky: Option<Uid>,
    /// Whether names can be added only (the append-only flag).
    append_only: bool,
}

/// What the inspection attaches to each directory.
#[derive(Debug)]
pub(crate) struct DirData {
    pub(crate) cursor: Arc<Cursor>,
    now: Arc<DirState>,
    /// As it will be once `set` was run, with the site's root reached by everyone.
    planned: Arc<DirState>,
    /// The directory at which php, and the web server, are stopped.
    pub(crate) php_stop: Option<Arc<Path>>,
    pub(crate) web_stop: Option<Arc<Path>>,
    /// Whether only root and the keeper can move names about, here and in the directories of the site above.
    pub(crate) settled: bool,
    /// What a relabelling makes of everything below, where that is the same for all names.
    relabelled: Option<Alike>,
}

/// Everything that judging takes; shared by the threads.
pub(crate) struct PathJudge<'a> {
    pub(crate) policy: &'a Policy,
    pub(crate) solver: &'a Solver,
    pub(crate) people: &'a People,
    pub(crate) accounts: &'a Accounts,
    pub(crate) host: &'a Host,
    /// The site's labels, on hosts that use them.
    pub(crate) labels: Option<&'a SiteLabels<'a>>,
    /// The served folder, from `/` on.
    pub(crate) served: Option<PathBuf>,
    /// Where a path that the site file names really is, and the path that it names.
    pub(crate) aliases: Vec<(PathBuf, PathBuf)>,
    /// Where information pages are asked for.
    pub(crate) sniffing: Option<Sniffing>,
    /// The pages that were read, where installers are asked for.
    pub(crate) pages: Option<Pages>,
    /// What processes of PHP's account hold open for writing.
    pub(crate) held: HashMap<Identity, Holder>,
    /// When the site was found clean last: code must not have changed since.
    pub(crate) clean_since: Option<Nanos>,
    states: Mutex<HashMap<DirState, u32>>,
    named: Mutex<Named>,
    /// How PHP makes files, where that is known.
    next: Option<Next>,
    /// Who runs this: somebody who is not root changes only what is theirs.
    caller: Uid,
}

/// The users and groups that rights speak of.
#[derive(Clone, Debug, Default)]
pub(crate) struct Named {
    pub(crate) uids: BTreeSet<Uid>,
    pub(crate) gids: BTreeSet<Gid>,
}

impl Named {
    fn add(&mut self, rights: &Rights) {
        self.uids.insert(rights.uid);
        self.gids.insert(rights.gid);
        for entry in rights.acl.iter().chain(&rights.default_acl).flat_map(|acl| acl.entries()) {
            match entry.tag {
                Tag::User(uid) => drop(self.uids.insert(uid)),
                Tag::Group(gid) => drop(self.gids.insert(gid)),
                _ => {}
            }
        }
    }
}

impl<'a> PathJudge<'a> {
    pub(crate) fn new(
        policy: &'a Policy,
        solver: &'a Solver,
        people: &'a People,
        accounts: &'a Accounts,
        host: &'a Host,
        labels: Option<&'a SiteLabels<'a>>,
    ) -> Self {
        let site = policy.site();
        let served = site.served_folder();
        Self {
            policy,
            solver,
            people,
            accounts,
            host,
            labels,
            served,
            aliases: Vec::new(),
            sniffing: None,
            pages: None,
            held: HashMap::new(),
            clean_since: None,
            states: Mutex::default(),
            named: Mutex::default(),
            next: next(host, site),
            caller: Uid(rustix::process::geteuid().as_raw()),
        }
    }

    /// The users and groups that the rights speak of which were judged.
    pub(crate) fn named(&self) -> Named {
        self.named.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn name(&self, rights: &Rights) {
        self.named.lock().unwrap_or_else(PoisonError::into_inner).add(rights);
    }

    fn intern(&self, mut state: DirState) -> Arc<DirState> {
        state.id = 0;
        let mut states = self.states.lock().unwrap_or_else(PoisonError::into_inner);
        let next = u32::try_from(states.len()).unwrap_or(u32::MAX);
        state.id = *states.entry(state.clone()).or_insert(next);
        Arc::new(state)
    }

    /// What everyone can reach and nobody can change: where judging begins.
    pub(crate) fn open_to_all(&self) -> Arc<DirState> {
        let (reach, writers) = (self.people.everyone(), self.people.no_one());
        self.intern(DirState { id: 0, reach, writers, sticky: None, append_only: false })
    }

    /// The state of a directory with these rights, and otherwise these facts, in one of state `above`.
    pub(crate) fn enter(&self, above: &DirState, facts: &Facts, rights: &Rights) -> Arc<DirState> {
        self.name(rights);
        let reach = above.reach.and(&self.people.permitted(Kind::Directory, rights, Perm::X));
        let writers = match self.host.bar(facts) {
            Some(_) => self.people.no_one(),
            None => above.reach.and(&self.people.permitted(Kind::Directory, rights, Perm::WX)),
        };
        let sticky = rights.mode.has(Mode::STICKY).then_some(rights.uid);
        self.intern(DirState { id: 0, reach, writers, sticky, append_only: facts.append_only })
    }

    /// The same state, apart from who can make and remove names.
    pub(crate) fn without_writers(&self, state: &DirState) -> Arc<DirState> {
        self.intern(DirState { writers: self.people.no_one(), ..state.clone() })
    }

    /// Whether the account at this place of the list gets into a directory of this state.
    pub(crate) fn reaches(state: &DirState, who: usize) -> bool {
        state.reach.has(who)
    }

    /// Who can remove or rename something with these facts in a directory of this state.
    pub(crate) fn replacers(&self, above: &DirState, facts: &Facts) -> Set {
        if above.append_only || facts.append_only || facts.immutable || facts.mounted {
            return self.people.no_one();
        }
        match above.sticky {
            None => above.writers.clone(),
            Some(dir_owner) => {
                let owners = self.people.owners(facts.rights.uid).or(&self.people.owners(dir_owner));
                above.writers.and(&owners.or(&self.people.powerful(Powers::FOWNER)))
            }
        }
    }

    fn can(&self, above: &DirState, facts: &Facts, rights: &Rights) -> PathCan {
        let directory = facts.kind == Kind::Directory;
        let write = if directory { Perm::WX } else { Perm::W };
        let reached = |want: Perm| above.reach.and(&self.people.permitted(facts.kind, rights, want));
        PathCan {
            read: reached(Perm::R),
            search: reached(Perm::X),
            write: reached(write),
            replace: self.replacers(above, facts),
            reach: above.reach.clone(),
            bar: self.host.bar(facts),
        }
    }

    fn case<'c>(&'c self, above: &DirState, context: &'c Context, facts: &'c Facts, shape: Shape) -> Case<'c> {
        let can = self.can(above, facts, &facts.rights);
        let label = self.labels.and_then(|labels| self.label(labels, context, facts));
        Case { people: self.people, accounts: self.accounts, context, facts, shape, can, label, next: None }
    }

    /// The judgement on a path's label, and the words for it.
    fn label(&self, labels: &SiteLabels<'_>, context: &Context, facts: &Facts) -> Option<(LabelVerdict, String)> {
        if !is_labelled(facts.kind) || context.used_as == Use::Foreign {
            return None;
        }
        let label = facts.rights.label.as_ref();
        let verdict = labels.judge(self.policy, context, label, facts.kind);
        let wanted = labels.type_of(self.policy, context);
        let says = match label {
            Some(label) if label.type_name() == wanted => {
                format!("{wanted}, which {} may not use so: a policy switch may be off", labels.domain.type_name())
            }
            Some(label) => format!("{} instead of {wanted}", label.type_name()),
            None => format!("none instead of {wanted}"),
        };
        Some((verdict, says))
    }

    /// What `set` makes of a path's label.
    fn label_wanted(&self, context: &Context, facts: &Facts) -> Option<crate::security_context::SecurityContext> {
        let now = facts.rights.label.as_ref();
        match self.labels {
            Some(labels) if is_labelled(facts.kind) => labels.wanted(self.policy, context, now, facts.kind),
            _ => now.cloned(),
        }
    }

    /// What `set` makes of a path; nothing where it is right.
    fn fix(
        &self,
        planned: &DirState,
        context: &Context,
        facts: &Facts,
        shape: Shape,
        want: &Arc<Rights>,
    ) -> Option<Arc<Rights>> {
        if !context.is_managed() {
            return None;
        }
        match facts.kind {
            Kind::Fifo | Kind::Socket | Kind::Device => None,
            Kind::Symlink => {
                let label = self.label_wanted(context, facts);
                let has = (facts.rights.uid, facts.rights.gid);
                let phps = context.row.php == Right::Write && self.is_phps(facts.rights.uid);
                let owner = if phps { has } else { (want.uid, want.gid) };
                let right = has == owner && label == facts.rights.label;
                (!right).then(|| Arc::new(Rights { uid: owner.0, gid: owner.1, label, ..facts.rights.clone() }))
            }
            Kind::File | Kind::Directory => {
                let label = self.label_wanted(context, facts);
                let want = Rights { label: label.clone(), ..(**want).clone() };
                if facts.rights == want {
                    return None;
                }
                let kept = context.row.php == Right::Write && self.is_within(planned, context, facts, shape, &want);
                match kept {
                    true if label == facts.rights.label => None,
                    true => Some(Arc::new(Rights { label, ..facts.rights.clone() })),
                    false => Some(Arc::new(want)),
                }
            }
        }
    }

    fn is_phps(&self, uid: Uid) -> bool {
        self.people.list()[self.people.php()].ids.uid == uid
    }

    /// Whether what PHP made in a writable part does nobody harm as it is: nobody gets more than the site file
    /// says, nobody less, and new files in it will be as here.
    fn is_within(&self, planned: &DirState, context: &Context, facts: &Facts, shape: Shape, want: &Rights) -> bool {
        let rights = &facts.rights;
        if !self.is_phps(rights.uid) || self.policy.overrides(context).is_some_and(overrides_rights) {
            return false;
        }
        let special = Mode::SET_UID | if shape == Shape::Directory { 0 } else { Mode::SET_GID | Mode::STICKY };
        if rights.mode.has(special) || rights.capabilities.is_some() {
            return false;
        }
        if shape == Shape::Directory {
            // The group is passed on with the set-gid bit only.
            let group = |r: &Rights| r.mode.has(Mode::SET_GID).then_some(r.gid);
            let passes_on =
                |r: &Rights| (group(r), r.mode.bits() & (Mode::SET_GID | Mode::STICKY), r.default_acl.clone());
            if context.guarded || passes_on(rights) != passes_on(want) {
                return false;
            }
        }
        if shape == Shape::File && facts.kind == Kind::File && rights.mode.has(0o111) {
            return false;
        }
        // Labels are set by themselves.
        let case = Case { label: None, ..self.case(planned, context, facts, shape) };
        // What PHP made so that the keeper cannot write to it, a caller who is not root cannot change either.
        let is_anothers = ![Uid::ROOT, rights.uid].contains(&self.caller);
        (is_anothers || check::keeper_can_write(&case)) && check::judge_rights(&case).is_empty()
    }
}

fn overrides_rights(overrides: &crate::site::Overrides) -> bool {
    *overrides != crate::site::Overrides { selinux_type: overrides.selinux_type.clone(), ..Default::default() }
}

/// What decides the judgement on a path: paths with the same key are alike.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct VerdictKey {
    context: u32,
    now: u32,
    planned: u32,
    kind: Kind,
    program: bool,
    rights: Rights,
    bar: Option<Bar>,
    /// Whether it can be removed at all, as far as its flags and mounts go.
    stuck: bool,
}

/// The judgement on all paths of one key.
#[derive(Debug)]
pub(crate) struct Verdict {
    pub(crate) context: Context,
    pub(crate) kind: Kind,
    pub(crate) rights: Arc<Rights>,
    pub(crate) findings: Vec<(&'static Check, Reason)>,
    /// Whether the label is as it should be.
    label_right: bool,
    pub(crate) fix: Option<Arc<Rights>>,
    /// What keeper, php, web, others and whoever has access besides can do now, and what they should be able to.
    pub(crate) abilities: Box<[Ability]>,
}

/// What one account can do with a path, and should be able to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Ability {
    pub(crate) read: bool,
    pub(crate) write: bool,
    pub(crate) should: Right,
    /// What it may do beyond that without harm: an account in several roles gets the widest.
    pub(crate) may: Right,
}

/// Where a deviant is.
#[derive(Clone, Debug)]
pub(crate) enum Spot {
    /// It is the start with this number.
    Start(u32),
    /// It has this name in this directory.
    In(Arc<Dir<DirData>>, Box<CStr>),
}

/// A path that is not as it should be, or that has several names.
#[derive(Debug)]
pub(crate) struct Deviation {
    pub(crate) spot: Spot,
    pub(crate) id: Identity,
    pub(crate) links: u32,
    /// When it was changed last.
    pub(crate) changed: Nanos,
    pub(crate) verdict: Arc<Verdict>,
    /// What its name or content gave rise to.
    pub(crate) extra: Vec<(&'static Check, Reason)>,
}

/// A path that could not be looked at.
#[derive(Debug)]
pub(crate) struct Unseen {
    pub(crate) path: PathBuf,
    pub(crate) part: Option<usize>,
    pub(crate) trouble: Trouble,
}

/// What decides a directory's state: that of the one above, its rights, what bars changes, the append-only flag.
type DirKey = (u32, Rights, Option<Bar>, bool);

/// One thread's inspection.
pub(crate) struct Inspector<'j> {
    judge: &'j PathJudge<'j>,
    wants: Wants,
    verdicts: HashMap<VerdictKey, (Arc<Verdict>, u64), RandomState>,
    states: HashMap<DirKey, Arc<DirState>, RandomState>,
    pub(crate) deviants: Vec<Deviation>,
    pub(crate) unseen: Vec<Unseen>,
    pub(crate) vanished: u64,
    pub(crate) mounts: Vec<PathBuf>,
    /// What links in the served folder lead to though it is not served by the site file.
    pub(crate) served_too: Vec<ServedToo>,
}

impl<'j> Inspector<'j> {
    pub(crate) fn new(judge: &'j PathJudge<'j>) -> Self {
        Self {
            judge,
            wants: Wants::default(),
            verdicts: HashMap::default(),
            states: HashMap::default(),
            deviants: Vec::new(),
            unseen: Vec::new(),
            vanished: 0,
            mounts: Vec::new(),
            served_too: Vec::new(),
        }
    }

    /// The judgements, with the number of paths of each.
    pub(crate) fn verdicts(&self) -> impl Iterator<Item = &(Arc<Verdict>, u64)> {
        self.verdicts.values()
    }

    /// Judges where a walk begins. The answer is what to attach to it, where it is a directory to be entered.
    pub(crate) fn start(&mut self, start: &Start) -> Option<DirData> {
        let cursor = self.judge.policy.at(&start.path);
        let look = Look::at(&start.parent, &start.name);
        let planned = self.judge.open_to_all();
        let place = PathPlace { at: At::Start(start), now: &start.now, planned: &planned };
        self.inspect(&place, &cursor, &look, &start.facts)
    }

    fn inspect(
        &mut self,
        place: &PathPlace<'_>,
        cursor: &Arc<Cursor>,
        look: &Look<'_>,
        facts: &Facts,
    ) -> Option<DirData> {
        let context = &cursor.context;
        let judged = context.is_managed();
        let directory = facts.kind == Kind::Directory;
        let mut planned_rights = None;
        if judged {
            let program = is_program(look, facts);
            let verdict = self.verdict(place, context, facts, program);
            planned_rights.clone_from(&verdict.fix);
            let mut extra = self.look_closer(place, cursor, look, facts);
            if facts.kind == Kind::Symlink && served::tells(context) {
                self.served_too.extend(self.leads_to_served(place, look));
            }
            if verdict.label_right {
                extra.extend(self.not_kept(place, context, look, facts));
            }
            extra.extend(self.still_open(context, facts));
            extra.extend(self.changed(context, facts));
            let shared = facts.kind == Kind::File && facts.links > 1;
            if shared || !extra.is_empty() || verdict.fix.is_some() || !verdict.findings.is_empty() {
                let spot = match place.at {
                    At::Start(start) => Spot::Start(start.number),
                    At::In(dir) => Spot::In(Arc::clone(dir), look.name.into()),
                };
                let (id, links, changed) = (facts.id, facts.links, facts.changed);
                self.deviants.push(Deviation { spot, id, links, changed, verdict, extra });
            }
        }
        (directory && (judged || cursor.leads_on()))
            .then(|| self.descend(place, cursor, look, facts, planned_rights.as_deref()))
    }

    fn descend(
        &mut self,
        place: &PathPlace<'_>,
        cursor: &Arc<Cursor>,
        look: &Look<'_>,
        facts: &Facts,
        fix: Option<&Rights>,
    ) -> DirData {
        let now = self.state(place.now, facts, &facts.rights);
        let planned = self.state(place.planned, facts, fix.unwrap_or(&facts.rights));
        let people = self.judge.people;
        let stop = |known: Option<&Arc<Path>>, who: usize| -> Option<Arc<Path>> {
            match known {
                Some(path) => Some(Arc::clone(path)),
                None if now.reach.has(who) => None,
                None => Some(place.path_of(look.name).into()),
            }
        };
        let (php, web, above_settled) = match place.at {
            At::Start(start) => (start.php_stop.as_ref(), start.web_stop.as_ref(), true),
            At::In(dir) => (dir.data.php_stop.as_ref(), dir.data.web_stop.as_ref(), dir.data.settled),
        };
        let (php_stop, web_stop) = (stop(php, people.php()), stop(web, people.web()));
        let rights = &facts.rights;
        let keeper = people.list()[people.keeper()].ids.uid;
        // Under an access list the group's bits are its mask: without write there, no entry gives it.
        let settled = above_settled && [Uid::ROOT, keeper].contains(&rights.uid) && !rights.mode.has(0o022);
        let labels = self.judge.labels;
        let relabelled = place.relabelled().or_else(|| labels?.below(&place.path_of(look.name)));
        DirData { cursor: Arc::clone(cursor), now, planned, php_stop, web_stop, settled, relabelled }
    }

    fn state(&mut self, above: &Arc<DirState>, facts: &Facts, rights: &Rights) -> Arc<DirState> {
        let judge = self.judge;
        let key = (above.id, rights.clone(), judge.host.bar(facts), facts.append_only);
        Arc::clone(self.states.entry(key).or_insert_with(|| judge.enter(above, facts, rights)))
    }

    fn verdict(&mut self, place: &PathPlace<'_>, context: &Context, facts: &Facts, program: bool) -> Arc<Verdict> {
        let key = VerdictKey {
            context: context.id,
            now: place.now.id,
            planned: place.planned.id,
            kind: facts.kind,
            program,
            rights: facts.rights.clone(),
            bar: self.judge.host.bar(facts),
            stuck: facts.append_only || facts.mounted,
        };
        if let Some((verdict, count)) = self.verdicts.get_mut(&key) {
            *count += 1;
            return Arc::clone(verdict);
        }
        let verdict = Arc::new(self.judge_anew(place, context, facts, program));
        self.verdicts.insert(key, (Arc::clone(&verdict), 1));
        verdict
    }

    fn judge_anew(&mut self, place: &PathPlace<'_>, context: &Context, facts: &Facts, program: bool) -> Verdict {
        let judge = self.judge;
        judge.name(&facts.rights);
        let shape = Shape::of(facts.kind, program);
        // The owner's execute bit is kept, not given: a program without it is to be as other files are.
        let wanted_shape = Shape::of(facts.kind, program && facts.rights.mode.user().covers(Perm::X));
        let want = self.wants.get(judge.solver, judge.policy, context, wanted_shape);
        let fix = judge.fix(place.planned, context, facts, shape, &want);
        let next = judge.next.as_ref().map(|next| (next, &*want));
        let case = Case { next, ..judge.case(place.now, context, facts, shape) };
        let mut findings = check::judge_rights(&case);
        if fix.is_none() && judge.policy.overrides(context).is_some_and(Overrides::set_rights) {
            // What the site file sets by hand is what it wants, wider or narrower than its use.
            findings.retain(|(check, _)| check.remedy != Remedy::Set || check.name.starts_with("label-"));
        }
        let label_right = matches!(case.label, Some((LabelVerdict::Right, _)));
        let abilities = abilities(judge, context, &case.can);
        Verdict {
            label_right,
            context: *context,
            kind: facts.kind,
            rights: Arc::new(facts.rights.clone()),
            findings,
            fix,
            abilities,
        }
    }

    /// Whether code changed since the site was found clean.
    fn changed(&self, context: &Context, facts: &Facts) -> Option<(&'static Check, Reason)> {
        let since = self.judge.clean_since?;
        let code = facts.kind == Kind::File && context.used_as == Use::Code && context.write == Write::Never;
        (code && facts.changed > since)
            .then(|| (&check::CHANGED_IN_WINDOW, Reason::Says("changed since it was last found clean".into())))
    }

    /// Whether PHP holds something open for writing that is closed to it.
    fn still_open(&self, context: &Context, facts: &Facts) -> Option<(&'static Check, Reason)> {
        if self.judge.held.is_empty() || facts.kind != Kind::File || context.row.php == Right::Write {
            return None;
        }
        let holder = self.judge.held.get(&facts.id)?;
        Some((&check::STILL_OPEN, Reason::Says(holder.to_string())))
    }

    /// Whether a relabelling of the system would make another label of a right one.
    fn not_kept(
        &self,
        place: &PathPlace<'_>,
        context: &Context,
        look: &Look<'_>,
        facts: &Facts,
    ) -> Option<(&'static Check, Reason)> {
        let (labels, label) = (self.judge.labels?, facts.rights.label.as_ref()?);
        // A window's labels are not for good.
        if self.judge.policy.phase() == crate::site::Phase::Open && context.write == crate::site::Write::Install {
            return None;
        }
        let made =
            labels.relabelled(place.relabelled(), || place.path_of(look.name), label, facts.kind)?.type_name()?;
        Some((&check::LABEL_NOT_KEPT, Reason::Says(format!("{} would become {made}", label.type_name()))))
    }

    /// What a path's name, content or target give rise to.
    fn look_closer(
        &self,
        place: &PathPlace<'_>,
        cursor: &Cursor,
        look: &Look<'_>,
        facts: &Facts,
    ) -> Vec<(&'static Check, Reason)> {
        let context = &cursor.context;
        if facts.kind == Kind::Symlink {
            return self.leads_out(place, look).map(|reason| (&check::LINK_LEAVES_SITE, reason)).into_iter().collect();
        }
        if !(context.used_as.goes() || (context.served && context.used_as == Use::Code))
            || matches!(place.at, At::Start(_))
        {
            return Vec::new();
        }
        let below_served = || {
            let dir = place.dir_path();
            let served = self.judge.served.as_deref().unwrap_or(Path::new("/"));
            dir.strip_prefix(served).map(Path::to_owned).unwrap_or(dir)
        };
        check::judge_path(&PathCase {
            context,
            phase: self.judge.policy.phase(),
            facts,
            look,
            named: cursor.named,
            below_served: &below_served,
            sniffing: self.judge.sniffing.as_ref(),
            pages: self.judge.pages.as_ref(),
            guess: OnceCell::new(),
        })
    }

    /// Where a link leads, by the site's names.
    fn goal(&self, place: &PathPlace<'_>, look: &Look<'_>) -> Option<PathBuf> {
        let target = look.target().ok()?;
        let goal = self.judge.host.destination(&place.dir_path(), Path::new(OsStr::from_bytes(&target)));
        let as_named =
            self.judge.aliases.iter().find_map(|(real, named)| Some(named.join(goal.strip_prefix(real).ok()?)));
        Some(as_named.map_or(goal, |named| named.components().collect()))
    }

    fn leads_out(&self, place: &PathPlace<'_>, look: &Look<'_>) -> Option<Reason> {
        let goal = self.goal(place, look)?;
        let context = self.judge.policy.at(&goal).context;
        let others = self.judge.policy.part(&context).is_some_and(|part| part.other.is_some());
        (!context.ours || others).then(|| Reason::Says(format!("to {}", Shown(&goal))))
    }

    /// What is served through a link though it is not in the served folder.
    fn leads_to_served(&self, place: &PathPlace<'_>, look: &Look<'_>) -> Option<ServedToo> {
        let path = self.goal(place, look)?;
        let link = place.dir_path().join(look.os_name());
        served::may_be(self.judge.policy, &path).then(|| ServedToo { path, because: served::through(&link) })
    }
}

/// A file that begins with `#!` or as an ELF binary does (execve(2)); asked only where there is an execute bit.
fn is_program(look: &Look<'_>, facts: &Facts) -> bool {
    if facts.kind != Kind::File || !facts.rights.mode.has(0o111) || facts.size < 3 {
        return false;
    }
    let mut buffer = [0; 4];
    look.first_bytes(&mut buffer).is_ok_and(|head| head.starts_with(b"#!") || head == b"\x7fELF")
}

/// How PHP makes files for a site.
fn next(host: &Host, site: &Site) -> Option<Next> {
    let Making { umasks, upload } = &site.making;
    let upload = || host.resolve(upload).ok().map(|found| (found.facts.rights, found.facts.id.dev));
    (!umasks.is_empty()).then(|| Next { umasks: umasks.clone(), upload: upload() })
}

fn abilities(judge: &PathJudge<'_>, context: &Context, can: &PathCan) -> Box<[Ability]> {
    let people = judge.people;
    let row = context.row;
    let roles = [
        (people.keeper(), row.keeper),
        (people.php(), row.php),
        (people.web(), row.web),
        (people.stranger(), row.others),
    ];
    let given: Vec<(usize, Right)> = people.given(context).map(|(_, right, place)| (place, right)).collect();
    let besides = people.access().map(|(_, place)| {
        // An account that is one of the roles as well has both's.
        let rights = given.iter().chain(&roles).filter(|(of, _)| *of == place).map(|(_, right)| *right);
        (place, rights.max().unwrap_or(Right::None))
    });
    let allowed = [Right::Read, Right::Write].map(|right| judge.people.allowed(context, right));
    let abilities = roles.into_iter().chain(besides).map(|(who, should)| Ability {
        read: can.read.has(who),
        write: (can.write.has(who) && can.bar.is_none()) || can.replace.has(who),
        should: should.max(row.others),
        may: match (allowed[1].has(who), allowed[0].has(who)) {
            (true, _) => Right::Write,
            (false, true) => Right::Read,
            (false, false) => Right::None,
        },
    });
    abilities.collect()
}

/// Where a walk begins: a site's root, or a part outside it.
#[derive(Debug)]
pub(crate) struct Start {
    /// Its place in the list of starts.
    pub(crate) number: u32,
    /// The path as the site file names it.
    pub(crate) path: PathBuf,
    /// The directory that it really is in, and its name there.
    pub(crate) parent: OwnedFd,
    pub(crate) name: CString,
    /// The path without links.
    pub(crate) real: PathBuf,
    pub(crate) facts: Facts,
    /// The state of the directory that it is in, by the whole way from `/`.
    pub(crate) now: Arc<DirState>,
    /// Where php, and the web server, are stopped on the way.
    pub(crate) php_stop: Option<Arc<Path>>,
    pub(crate) web_stop: Option<Arc<Path>>,
    /// The first directory on the way in which somebody besides root and the keeper can put another in its place.
    pub(crate) open_way: Option<OpenWay>,
}

/// A directory on the way to a site's tree in which others than root and the keeper can rename what leads there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenWay {
    /// The directory.
    pub dir: PathBuf,
    /// Who can.
    pub who: String,
    /// The commands that take the right away.
    pub mend: String,
}

/// Where a path is.
struct PathPlace<'p> {
    at: At<'p>,
    now: &'p Arc<DirState>,
    planned: &'p Arc<DirState>,
}

#[derive(Clone, Copy)]
enum At<'p> {
    Start(&'p Start),
    In(&'p Arc<Dir<DirData>>),
}

impl PathPlace<'_> {
    fn path_of(&self, name: &CStr) -> PathBuf {
        match self.at {
            At::Start(start) => start.path.clone(),
            At::In(dir) => dir.path_of(name),
        }
    }

    fn relabelled(&self) -> Option<Alike> {
        match self.at {
            At::Start(_) => None,
            At::In(dir) => dir.data.relabelled,
        }
    }

    fn dir_path(&self) -> PathBuf {
        match self.at {
            At::Start(start) => start.path.parent().map(Path::to_owned).unwrap_or_default(),
            At::In(dir) => dir.path(),
        }
    }
}

impl Visitor for Inspector<'_> {
    type Data = DirData;

    fn entry(&mut self, dir: &Arc<Dir<DirData>>, look: &Look<'_>, facts: &Facts) -> Option<DirData> {
        let cursor = self.judge.policy.enter(&dir.data.cursor, look.os_name(), facts.mounted);
        if facts.mounted && dir.data.cursor.context.ours && cursor.as_ref().is_none_or(|cursor| !cursor.named) {
            self.mounts.push(dir.path_of(look.name));
        }
        let cursor = cursor?;
        if facts.kind != Kind::Directory && !cursor.context.ours {
            return None;
        }
        let place = PathPlace { at: At::In(dir), now: &dir.data.now, planned: &dir.data.planned };
        self.inspect(&place, &cursor, look, facts)
    }

    fn labels(&self) -> bool {
        self.judge.labels.is_some()
    }

    fn trouble(&mut self, dir: &Arc<Dir<DirData>>, name: Option<&CStr>, trouble: Trouble) {
        if trouble == Trouble::Vanished {
            self.vanished += 1;
            return;
        }
        let path = name.map_or_else(|| dir.path(), |name| dir.path_of(name));
        let part = dir.data.cursor.context.part;
        self.unseen.push(Unseen { path, part, trouble });
    }
}
