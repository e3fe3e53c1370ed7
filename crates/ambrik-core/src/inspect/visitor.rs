//! The walk's visitor: each path is judged, like ones once.

use std::cell::OnceCell;
use std::collections::HashMap;
use std::ffi::{CStr, OsStr};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::{
    DirData, DirState, Gathered, Inspector, PathJudge, SiteDir, Spot, Start, Unseen, Verdict, VerdictKey, abilities,
    is_program,
};
use crate::account::Uid;
use crate::check::{self, Case, PathCase, Raised, Remedy};
use crate::entry::{Facts, Kind, Rights};
use crate::label::{Alike, LabelVerdict};
use crate::mode::Perm;
use crate::policy::{Context, Cursor, Right};
use crate::served;
use crate::site::{Overrides, ServedToo, Use, Write};
use crate::tree::{Look, Trouble, Visitor};
use crate::want::{Shape, Wants};

impl<'j> Inspector<'j> {
    pub(crate) fn new(judge: &'j PathJudge<'j>) -> Self {
        Self {
            judge,
            wants: Wants::default(),
            verdicts: HashMap::default(),
            states: HashMap::default(),
            attached: None,
            deviants: Gathered::default(),
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
    pub(crate) fn start(&mut self, start: &Start) -> Option<Arc<DirData>> {
        let cursor = self.judge.policy.at(&start.path);
        let look = Look::at(&start.parent, &start.name);
        let planned = self.judge.open_to_all();
        let place = PathPlace { at: At::Start(start), now: &start.now, planned: &planned };
        self.inspect(&place, &cursor, &look, &start.facts)
    }

    pub(super) fn inspect(
        &mut self,
        place: &PathPlace<'_>,
        cursor: &Arc<Cursor>,
        look: &Look<'_>,
        facts: &Facts,
    ) -> Option<Arc<DirData>> {
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
                    At::In(dir) => Spot::In(dir, look.name),
                };
                self.deviants.push(spot, facts, &verdict, extra);
            }
        }
        (directory && (judged || cursor.leads_on()))
            .then(|| self.descend(place, cursor, look, facts, planned_rights.as_deref()))
    }

    pub(super) fn descend(
        &mut self,
        place: &PathPlace<'_>,
        cursor: &Arc<Cursor>,
        look: &Look<'_>,
        facts: &Facts,
        fix: Option<&Rights>,
    ) -> Arc<DirData> {
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
        let (php, web, above_alone) = match place.at {
            At::Start(start) => (start.php_stop.as_ref(), start.web_stop.as_ref(), true),
            At::In(dir) => (dir.data.php_stop.as_ref(), dir.data.web_stop.as_ref(), dir.data.keepers_alone),
        };
        let (php_stop, web_stop) = (stop(php, people.php()), stop(web, people.web()));
        let rights = &facts.rights;
        let keeper = people.list()[people.keeper()].ids.uid;
        // Under an access list the group's bits are its mask: without write there, no entry gives it.
        let keepers_alone = above_alone && [Uid::ROOT, keeper].contains(&rights.uid) && !rights.mode.has(0o022);
        let labels = self.judge.labels;
        let relabelled = place.relabelled().or_else(|| labels?.below(&place.path_of(look.name)));
        let data = DirData { cursor: Arc::clone(cursor), now, planned, php_stop, web_stop, keepers_alone, relabelled };
        match &self.attached {
            Some(known) if known.is(&data) => Arc::clone(known),
            _ => Arc::clone(self.attached.insert(Arc::new(data))),
        }
    }

    pub(super) fn state(&mut self, above: &Arc<DirState>, facts: &Facts, rights: &Rights) -> Arc<DirState> {
        let judge = self.judge;
        let key = (above.id, rights.clone(), judge.host.bar(facts), facts.append_only);
        Arc::clone(self.states.entry(key).or_insert_with(|| judge.enter(above, facts, rights)))
    }

    pub(super) fn verdict(
        &mut self,
        place: &PathPlace<'_>,
        context: &Context,
        facts: &Facts,
        program: bool,
    ) -> Arc<Verdict> {
        let key = VerdictKey {
            context: context.id,
            now: place.now.id,
            planned: place.planned.id,
            kind: facts.kind,
            program,
            rights: facts.rights.clone(),
            bar: self.judge.host.bar(facts),
            stuck: facts.append_only || facts.mounted,
            given_by: facts.label_given.then_some(facts.mount),
        };
        if let Some((verdict, count)) = self.verdicts.get_mut(&key) {
            *count += 1;
            return Arc::clone(verdict);
        }
        let verdict = self.judge.number(self.judge_anew(place, context, facts, program));
        self.verdicts.insert(key, (Arc::clone(&verdict), 1));
        verdict
    }

    pub(super) fn judge_anew(
        &mut self,
        place: &PathPlace<'_>,
        context: &Context,
        facts: &Facts,
        program: bool,
    ) -> Verdict {
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
            findings.retain(|(check, _)| check.remedy != Remedy::Set);
        }
        let label_right = matches!(case.label, Some((LabelVerdict::Right, _)));
        let abilities = abilities(judge, context, &case.can);
        Verdict {
            number: 0,
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
    pub(super) fn changed(&self, context: &Context, facts: &Facts) -> Option<Raised> {
        let since = self.judge.clean_since?;
        let code = facts.kind == Kind::File && context.used_as == Use::Code && context.write == Write::Never;
        (code && facts.changed > since).then(|| check::changed("changed since it was last found clean"))
    }

    /// Whether PHP holds something open for writing that is closed to it.
    pub(super) fn still_open(&self, context: &Context, facts: &Facts) -> Option<Raised> {
        if self.judge.held.is_empty() || facts.kind != Kind::File || context.row.php == Right::Write {
            return None;
        }
        self.judge.held.get(&facts.id).map(check::still_open)
    }

    /// Whether a relabelling of the system would make another label of a right one.
    pub(super) fn not_kept(
        &self,
        place: &PathPlace<'_>,
        context: &Context,
        look: &Look<'_>,
        facts: &Facts,
    ) -> Option<Raised> {
        let (labels, label) = (self.judge.labels?, facts.rights.label.as_ref()?);
        // What a mount gives no relabelling changes; a window's labels are not for good.
        if facts.label_given {
            return None;
        }
        if self.judge.policy.phase() == crate::site::Phase::Open && context.write == crate::site::Write::Install {
            return None;
        }
        let made =
            labels.relabelled(place.relabelled(), || place.path_of(look.name), label, facts.kind)?.type_name()?;
        // One that is right as well does no harm.
        let then = labels.judge(self.judge.policy, context, Some(&label.with_type(made)), facts.kind);
        (then != LabelVerdict::Right).then(|| check::label_not_kept(label, made))
    }

    /// What a path's name, content or target give rise to.
    pub(super) fn look_closer(
        &self,
        place: &PathPlace<'_>,
        cursor: &Cursor,
        look: &Look<'_>,
        facts: &Facts,
    ) -> Vec<Raised> {
        let context = &cursor.context;
        if facts.kind == Kind::Symlink {
            return self.leads_out(place, look).into_iter().collect();
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
    pub(super) fn goal(&self, place: &PathPlace<'_>, look: &Look<'_>) -> Option<PathBuf> {
        let target = look.target().ok()?;
        let goal = self.judge.host.destination(&place.dir_path(), Path::new(OsStr::from_bytes(&target)));
        let as_named =
            self.judge.aliases.iter().find_map(|(real, named)| Some(named.join(goal.strip_prefix(real).ok()?)));
        Some(as_named.map_or(goal, |named| named.components().collect()))
    }

    pub(super) fn leads_out(&self, place: &PathPlace<'_>, look: &Look<'_>) -> Option<Raised> {
        let goal = self.goal(place, look)?;
        let context = self.judge.policy.at(&goal).context;
        let others = self.judge.policy.part(&context).is_some_and(|part| part.other.is_some());
        (!context.ours || others).then(|| check::link_leaves_site(&goal))
    }

    /// What is served through a link though it is not in the served folder.
    pub(super) fn leads_to_served(&self, place: &PathPlace<'_>, look: &Look<'_>) -> Option<ServedToo> {
        let path = self.goal(place, look)?;
        let link = place.dir_path().join(look.os_name());
        served::may_be(self.judge.policy, &path).then(|| ServedToo { path, because: served::through(&link) })
    }
}

/// Where a path is.
pub(super) struct PathPlace<'p> {
    pub(super) at: At<'p>,
    pub(super) now: &'p Arc<DirState>,
    pub(super) planned: &'p Arc<DirState>,
}

#[derive(Clone, Copy)]
pub(super) enum At<'p> {
    Start(&'p Start),
    In(&'p Arc<SiteDir>),
}

impl PathPlace<'_> {
    pub(super) fn path_of(&self, name: &CStr) -> PathBuf {
        match self.at {
            At::Start(start) => start.path.clone(),
            At::In(dir) => dir.path_of(name),
        }
    }

    pub(super) fn relabelled(&self) -> Option<Alike> {
        match self.at {
            At::Start(_) => None,
            At::In(dir) => dir.data.relabelled,
        }
    }

    pub(super) fn dir_path(&self) -> PathBuf {
        match self.at {
            At::Start(start) => start.path.parent().map(Path::to_owned).unwrap_or_default(),
            At::In(dir) => dir.path(),
        }
    }
}

impl Visitor for Inspector<'_> {
    type Data = Arc<DirData>;

    fn entry(&mut self, dir: &Arc<SiteDir>, look: &Look<'_>, facts: &Facts) -> Option<Arc<DirData>> {
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

    fn trouble(&mut self, dir: &Arc<SiteDir>, name: Option<&CStr>, trouble: Trouble) {
        if trouble == Trouble::Vanished {
            self.vanished += 1;
            return;
        }
        let path = name.map_or_else(|| dir.path(), |name| dir.path_of(name));
        let part = dir.data.cursor.context.part;
        self.unseen.push(Unseen { path, part, trouble });
    }
}
