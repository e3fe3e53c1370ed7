//! What judges a path: who can do what, and what it should be.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use super::{DirState, NamedIds, PathJudge, Verdict, next, overrides_rights};
use crate::access::NameRule;
use crate::account::{Accounts, Powers, Uid};
use crate::check::{self, Case, PathCan, Reason};
use crate::entry::{Facts, Kind, Rights};
use crate::label::{LabelVerdict, SiteLabels, is_labelled};
use crate::mode::{Mode, Perm};
use crate::people::{People, Set};
use crate::policy::{Context, Policy, Right};
use crate::site::Use;
use crate::tree::Host;
use crate::want::{Shape, Solver};

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
            verdicts: Mutex::default(),
            named: Mutex::default(),
            next: next(host, site),
            caller: Uid(rustix::process::geteuid().as_raw()),
        }
    }

    /// All verdicts, by their numbers; they are given away.
    pub(crate) fn take_verdicts(&self) -> Vec<Arc<Verdict>> {
        std::mem::take(&mut *self.verdicts.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Gives a verdict its number.
    pub(super) fn number(&self, verdict: Verdict) -> Arc<Verdict> {
        let mut verdicts = self.verdicts.lock().unwrap_or_else(PoisonError::into_inner);
        let number = u32::try_from(verdicts.len()).unwrap_or(u32::MAX);
        let verdict = Arc::new(Verdict { number, ..verdict });
        verdicts.push(Arc::clone(&verdict));
        verdict
    }

    /// The users and groups that the rights speak of which were judged.
    pub(crate) fn named(&self) -> NamedIds {
        self.named.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    pub(super) fn name(&self, rights: &Rights) {
        self.named.lock().unwrap_or_else(PoisonError::into_inner).add(rights);
    }

    pub(super) fn intern(&self, mut state: DirState) -> Arc<DirState> {
        state.id = 0;
        let mut states = self.states.lock().unwrap_or_else(PoisonError::into_inner);
        let next = u32::try_from(states.len()).unwrap_or(u32::MAX);
        state.id = *states.entry(state.clone()).or_insert(next);
        Arc::new(state)
    }

    /// What everyone can reach and nobody can change: where judging begins.
    pub(crate) fn open_to_all(&self) -> Arc<DirState> {
        let (reach, writers) = (self.people.everyone(), self.people.no_one());
        self.intern(DirState { id: 0, reach, writers, names: NameRule::default() })
    }

    /// The state of a directory with these rights, and otherwise these facts, in one of state `above`.
    pub(crate) fn enter(&self, above: &DirState, facts: &Facts, rights: &Rights) -> Arc<DirState> {
        self.name(rights);
        let reach = above.reach.and(&self.people.permitted(Kind::Directory, rights, Perm::X));
        let writers = match self.host.bar(facts) {
            Some(_) => self.people.no_one(),
            None => above.reach.and(&self.people.permitted(Kind::Directory, rights, Perm::WX)),
        };
        let names = NameRule::with(rights, facts.append_only);
        self.intern(DirState { id: 0, reach, writers, names })
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
        if above.names.fixed(facts).next().is_some() {
            return self.people.no_one();
        }
        match above.names.owners(facts.rights.uid) {
            None => above.writers.clone(),
            Some([dir, own]) => {
                let owners = self.people.owners(own).or(&self.people.owners(dir));
                above.writers.and(&owners.or(&self.people.powerful(Powers::FOWNER)))
            }
        }
    }

    pub(super) fn can(&self, above: &DirState, facts: &Facts, rights: &Rights) -> PathCan {
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

    pub(super) fn case<'c>(
        &'c self,
        above: &DirState,
        context: &'c Context,
        facts: &'c Facts,
        shape: Shape,
    ) -> Case<'c> {
        let can = self.can(above, facts, &facts.rights);
        let label = self.labels.and_then(|labels| self.label(labels, context, facts));
        Case { people: self.people, accounts: self.accounts, context, facts, shape, can, label, next: None }
    }

    /// The judgement on a path's label, and the words for it.
    pub(super) fn label(
        &self,
        labels: &SiteLabels<'_>,
        context: &Context,
        facts: &Facts,
    ) -> Option<(LabelVerdict, Reason)> {
        if !is_labelled(facts.kind) || context.used_as == Use::Foreign {
            return None;
        }
        let label = facts.rights.label.as_ref();
        let verdict = labels.judge(self.policy, context, label, facts.kind);
        let wanted = labels.type_of(self.policy, context);
        if let (Some(label), Some(mount)) = (label.filter(|_| facts.label_given), self.host.mount(facts)) {
            let found = labels.given_by_mount(self.host, mount, label, wanted);
            return Some((verdict, Reason::by_hand(found)));
        }
        let says = match label {
            Some(label) if label.type_name() == wanted => {
                format!("{wanted}, which {} may not use so: an SELinux boolean may be off", labels.domain.type_name())
            }
            Some(label) => format!("{} instead of {wanted}", label.type_name()),
            None => format!("none instead of {wanted}"),
        };
        Some((verdict, Reason::Says(says)))
    }

    /// What `set` makes of a path's label.
    pub(super) fn label_wanted(
        &self,
        context: &Context,
        facts: &Facts,
    ) -> Option<crate::security_context::SecurityContext> {
        let now = facts.rights.label.as_ref();
        match self.labels {
            // What the mount gives cannot be set.
            Some(labels) if is_labelled(facts.kind) && !facts.label_given => {
                labels.wanted(self.policy, context, now, facts.kind)
            }
            _ => now.cloned(),
        }
    }

    /// What `set` makes of a path; nothing where it is right.
    pub(super) fn fix(
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

    pub(super) fn is_phps(&self, uid: Uid) -> bool {
        self.people.list()[self.people.php()].ids.uid == uid
    }

    /// Whether what PHP made in a writable part does nobody harm as it is: nobody gets more than the site file
    /// says, nobody less, and new files in it will be as here.
    pub(super) fn is_within(
        &self,
        planned: &DirState,
        context: &Context,
        facts: &Facts,
        shape: Shape,
        want: &Rights,
    ) -> bool {
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
