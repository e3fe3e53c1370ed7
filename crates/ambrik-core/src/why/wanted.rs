//! What the site file wants of a path, how the answer differs, and the smallest change that makes it right.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::judge::AccessJudge;
use super::way::{self, SeenDir};
use super::{Act, Answer, Subject};
use crate::access::{Class, decide};
use crate::account::{Accounts, Ids, Uid};
use crate::audit::rights_shown;
use crate::entry::{Facts, Kind, Rights};
use crate::label::OnTheWay;
use crate::mode::Perm;
use crate::policy::{Context, Cursor, Policy, Right};
use crate::shown::{Shown, shell_name, shell_path};
use crate::site::{Phase, Site, Use, Write};
use crate::tree::Host;
use crate::want::{Shape, Solver};

/// A site that may hold paths that are asked about.
#[derive(Debug)]
pub struct PolicySite {
    policy: Policy,
    solver: Solver,
    /// Where its root really is, if its path leads through a symlink.
    real_root: Option<PathBuf>,
}

impl PolicySite {
    /// `site` in `phase`.
    #[must_use]
    pub fn new(site: &Arc<Site>, phase: Phase, host: &Host, accounts: &Accounts) -> Self {
        let real_root = host.resolve(&site.root).ok().map(|found| found.path).filter(|path| *path != site.root);
        Self { policy: Policy::new(Arc::clone(site), phase), solver: Solver::new(site, accounts), real_root }
    }

    /// The site.
    #[must_use]
    pub fn site(&self) -> &Arc<Site> {
        self.policy.site()
    }

    pub(super) const fn policy(&self) -> &Policy {
        &self.policy
    }

    /// Where a real path stands, as the site file names it.
    fn cursor(&self, path: &Path) -> Arc<Cursor> {
        let below = self.real_root.as_ref().and_then(|real| path.strip_prefix(real).ok());
        match below {
            Some(below) => self.policy.at(&self.site().root.join(below)),
            None => self.policy.at(path),
        }
    }

    /// Whether a path is the site's.
    #[must_use]
    pub fn holds(&self, path: &Path) -> bool {
        is_held(&self.cursor(path).context)
    }

    /// The rights that a subject should have, and those that it may have without harm.
    pub(super) fn rights(&self, context: &Context, ids: &Ids) -> (Right, Right) {
        let (site, row, uid) = (self.site(), context.row, ids.uid);
        let roles = [(&site.keeper, row.keeper), (&site.php, row.php), (&site.web, row.web)];
        let should = roles.iter().filter(|(account, _)| account.ids.uid == uid).map(|(_, right)| *right).max();
        let given = context.given(&site.access).filter(|(_, access, _)| access.is_of(ids) && uid != site.php.ids.uid);
        let given = given.map(|(.., right)| right).max().unwrap_or(Right::None);
        let should = should.unwrap_or(Right::None).max(row.others).max(given);
        (should, if uid == Uid::ROOT { Right::Write } else { should })
    }

    /// Whether a subject must be able to pass through a directory to parts below it.
    fn passes(&self, context: &Context, ids: &Ids) -> bool {
        let (site, passage, uid) = (self.site(), context.passage, ids.uid);
        passage.others
            || (passage.php && site.php.ids.uid == uid)
            || (passage.web && site.web.ids.uid == uid)
            || (site.keeper.ids.uid == uid && context.ours)
            || context.passing(&site.access).any(|access| access.is_of(ids))
    }
}

impl PolicySite {
    /// Whether the site file does not give an account this on what is of this context.
    fn denies(&self, context: &Context, ids: &Ids, want: Perm) -> bool {
        let (should, _) = self.rights(context, ids);
        let reaches = should >= Right::Read || self.passes(context, ids);
        is_held(context)
            && ((want.covers(Perm::W) && should < Right::Write)
                || (want.covers(Perm::R) && should < Right::Read)
                || (want.covers(Perm::X) && !reaches))
    }
}

const fn is_held(context: &Context) -> bool {
    context.ours && !matches!(context.used_as, Use::Foreign)
}

/// How an answer compares with what the site file wants.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Match {
    /// They agree.
    AsWanted,
    /// The account lacks these.
    TooLittle(Vec<Act>),
    /// It can do these, and should not.
    TooMuch(Vec<Act>),
    /// It cannot be told.
    Unknown,
}

/// What makes something right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Cure {
    /// `ambrik set SITE`.
    Set,
    /// Something to be done by hand: a command, or words.
    Hand(String),
}

/// One change that is needed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mend {
    /// The path to be changed.
    pub path: Arc<Path>,
    /// What it is now.
    pub from: Arc<str>,
    /// What it should be, where the site file says that.
    pub to: Option<Arc<str>>,
    /// What does it.
    pub remedy: Cure,
}

/// What the site file says about a path and an account.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// The site.
    pub site: Arc<Site>,
    /// The phase that it is in.
    pub phase: Phase,
    /// The part, as a place in the site's list; none for what no part names.
    pub part: Option<usize>,
    /// What the part is for.
    pub used_as: Use,
    /// The account's right.
    pub right: Right,
    /// Whether PHP may write here while the site is open for an install or upgrade.
    pub in_window: bool,
    /// What keeps PHP itself from opening it, whatever its account may do (`open_basedir`).
    pub barred: Option<String>,
    /// How the answer compares.
    pub is: Match,
    /// What makes it right.
    pub mends: Vec<Mend>,
}

impl Wanted {
    /// The part's path; `.` for what no part names.
    #[must_use]
    pub fn part_shown(&self) -> &str {
        self.part.map_or(".", |part| &self.site.parts[part].shown)
    }

    /// Whether the same is said, the changes left aside.
    pub(super) fn is_like(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.site, &other.site)
            && (self.phase, self.part, self.used_as, self.right)
                == (other.phase, other.part, other.used_as, other.right)
            && (self.in_window, &self.is, &self.barred) == (other.in_window, &other.is, &other.barred)
    }

    /// Whether the answer is not what the site file wants.
    #[must_use]
    pub const fn differs(&self) -> bool {
        matches!(self.is, Match::TooLittle(_) | Match::TooMuch(_))
    }

    /// Whether the site file wants the account to do this.
    #[must_use]
    pub fn wants(&self, act: Act) -> bool {
        match act {
            Act::Read | Act::Search | Act::Follow | Act::Find => self.right >= Right::Read,
            Act::Write | Act::Create | Act::Delete => self.right == Right::Write,
            Act::Execute => false,
        }
    }
}

impl AccessJudge<'_> {
    /// What the site that holds a path wants, by where it stands in each site's policy.
    ///
    /// `facts` are those of what the path leads to, none where nothing is there; `dir` is the directory that its name is in.
    pub(super) fn wanted(
        &mut self,
        answer: &Answer,
        cursors: &[Arc<Cursor>],
        facts: Option<&Facts>,
        dir: &SeenDir,
    ) -> Option<Wanted> {
        let real = answer.leads_to.as_deref().unwrap_or(&answer.path);
        let as_named = self.setting.holders.iter().zip(cursors.iter().cloned());
        let as_named = as_named.filter(|(_, cursor)| is_held(&cursor.context));
        let deepest = |(holder, _): &(&PolicySite, Arc<Cursor>)| holder.site().root.components().count();
        let held = as_named.max_by_key(deepest).or_else(|| {
            answer.leads_to.as_ref()?;
            let by_real = self.setting.holders.iter().map(|holder| (holder, holder.cursor(real)));
            by_real.filter(|(_, cursor)| is_held(&cursor.context)).max_by_key(deepest)
        });
        let (holder, cursor) = held?;
        let context = &cursor.context;
        let ids = &self.subject.ids;
        let uid = ids.uid;
        let (should, may) = holder.rights(context, ids);
        let mut is = compare(answer, should, may, holder.passes(context, ids));
        if let (Match::TooLittle(acts), Some(facts)) = (&mut is, facts)
            && self.adds_to_log(holder, context, facts)
        {
            // What is logged is added to: that a label lets nothing be overwritten is how it should be.
            acts.retain(|act| !matches!(act, Act::Write | Act::Delete));
            if acts.is_empty() {
                is = Match::AsWanted;
            }
        }
        let mut lack =
            |lacks: bool, acts: &[Act]| self.mends(&Lack { holder, context, answer, facts, lacks }, dir, acts);
        let mends = match &is {
            Match::TooLittle(acts) => lack(true, acts),
            Match::TooMuch(acts) => lack(false, acts),
            Match::AsWanted | Match::Unknown => Vec::new(),
        };
        let site = holder.site();
        Some(Wanted {
            site: Arc::clone(site),
            phase: holder.policy.phase(),
            part: context.part,
            used_as: context.used_as,
            right: should,
            in_window: context.write == Write::Install && site.php.ids.uid == uid,
            barred: site
                .php_settings
                .as_ref()
                .filter(|_| site.php.ids.uid == uid)
                .and_then(|settings| settings.bar(self.setting.host, &answer.path)),
            is,
            mends,
        })
    }

    /// Whether something is a log whose label lets PHP add to it.
    fn adds_to_log(&self, holder: &PolicySite, context: &Context, facts: &Facts) -> bool {
        let of_log = || {
            let labels = self.setting.labels.filter(|labels| labels.are_managed())?;
            labels.of_site(holder.site()).fit(context, facts.rights.label.as_ref()?, facts.kind)
        };
        context.used_as == Use::Log && of_log() == Some(crate::label::Fit::Exact)
    }

    fn mends(&mut self, lack: &Lack<'_>, dir: &SeenDir, acts: &[Act]) -> Vec<Mend> {
        let Lack { answer, facts, lacks, .. } = lack;
        let mut mends: Vec<Mend> = Vec::new();
        if *lacks {
            for dir in way::obstacles(answer.way.as_ref()) {
                mends.push(self.mend(lack, &dir.path, &dir.facts, Perm::X));
            }
        }
        let itself = |act: &Act| match act {
            Act::Read => Perm::R,
            Act::Write => Perm::W,
            Act::Search | Act::Execute => Perm::X,
            Act::Create if facts.is_some_and(|facts| facts.kind == Kind::Directory) => Perm::WX,
            Act::Create | Act::Delete | Act::Follow | Act::Find => Perm::NONE,
        };
        let of_itself = acts.iter().map(itself).fold(Perm::NONE, Perm::or);
        let refuses =
            |step: &super::judge::OwnStep| !step.above && step.allows == Some(false) && acts.contains(&step.act);
        if let Some(facts) = facts
            && !of_itself.is_none()
            && (!lacks || answer.own.iter().any(refuses))
        {
            mends.push(self.mend(lack, &answer.at.itself, facts, of_itself));
        }
        let makes = acts.contains(&Act::Create) && facts.is_none();
        if makes || acts.contains(&Act::Delete) {
            mends.push(self.mend(lack, &dir.path, &dir.facts, Perm::WX));
        }
        let mut known: Vec<Arc<Path>> = Vec::new();
        mends.retain(|mend| {
            let new = !known.contains(&mend.path);
            known.push(Arc::clone(&mend.path));
            new
        });
        mends
    }

    /// What changes one path so that the account gets, or loses, what it should.
    fn mend(&mut self, lack: &Lack<'_>, path: &Arc<Path>, facts: &Facts, want: Perm) -> Mend {
        let from = self.shown(&facts.rights, facts.kind);
        let path = Arc::clone(path);
        if let Some(bar) = self.setting.host.bar(facts)
            && lack.lacks
            && want.covers(Perm::W)
        {
            return Mend { path, from: bar.words().into(), to: None, remedy: Cure::Hand(bar.remedy().to_owned()) };
        }
        let itself = path == lack.answer.at.itself;
        let context = if itself { *lack.context } else { lack.holder.cursor(&path).context };
        let modes_give = decide(&self.subject.ids, facts.kind, &facts.rights, want).allowed;
        let of_label = lack.lacks.then(|| self.label_cure(lack, &context, &path, facts, want)).flatten();
        if let Some(cure) = of_label.as_ref().filter(|_| modes_give || facts.label_given) {
            // An access list gives nothing that a label refuses.
            let from = facts.rights.label.as_ref().map_or(from, |label| label.type_name().into());
            return Mend { path, from, to: None, remedy: Cure::Hand(cure.clone()) };
        }
        if let (true, Some(cure)) = (is_held(&context), self.left_alone(lack, &context, &path, facts)) {
            return Mend { path, from, to: None, remedy: Cure::Hand(cure) };
        }
        if is_held(&context) {
            let program = facts.kind == Kind::File && facts.rights.mode.has(0o100);
            let wanted = self.solved(lack.holder, &context, Shape::of(facts.kind, program));
            let now = facts.rights.label.as_ref();
            let labels = self.setting.labels.filter(|labels| labels.are_managed());
            let label = match labels.map(|labels| labels.of_site(lack.holder.site())) {
                Some(labels) if !facts.label_given => labels.wanted(&lack.holder.policy, &context, now, facts.kind),
                _ => now.cloned(),
            };
            let wanted = Rights { label, ..(*wanted).clone() };
            if wanted != facts.rights {
                let to = self.shown(&wanted, facts.kind);
                let (from, to) = match (now, &wanted.label) {
                    (now, Some(then)) if now != wanted.label.as_ref() => {
                        let now = now.map_or("no label", |label| label.type_name());
                        (format!("{from} {now}").into(), format!("{to} {}", then.type_name()).into())
                    }
                    _ => (from, to),
                };
                return Mend { path, from, to: Some(to), remedy: Cure::Set };
            }
        }
        if lack.lacks && lack.holder.denies(&context, &self.subject.ids, want) {
            return Mend { path, from, to: None, remedy: Cure::Hand(lack.in_site_file()) };
        }
        let by_hand = if lack.lacks { give } else { take };
        let remedy = by_hand(&self.subject, &path, facts, want);
        let remedy = of_label.map_or(remedy.clone(), |cure| format!("{remedy} && {cure}"));
        Mend { path, from, to: None, remedy: Cure::Hand(remedy) }
    }

    /// What puts right, by hand, what `set` leaves alone: pipes, sockets and devices.
    fn left_alone(&self, lack: &Lack<'_>, context: &Context, path: &Path, facts: &Facts) -> Option<String> {
        if !matches!(facts.kind, Kind::Fifo | Kind::Socket | Kind::Device) || !lack.lacks {
            return None;
        }
        let path = shell_path(path);
        let labels = self.setting.labels.filter(|labels| labels.are_managed());
        let label = labels.map(|labels| {
            let type_name = labels.of_site(lack.holder.site()).type_of(&lack.holder.policy, context).to_owned();
            format!("chcon -t {type_name} {path}")
        });
        let php = &lack.holder.site().php;
        let owner =
            (facts.rights.uid != php.ids.uid).then(|| format!("chown {} {path}", shell_name(&php.user, php.ids.uid.0)));
        let commands: Vec<String> = label.into_iter().chain(owner).collect();
        (!commands.is_empty())
            .then(|| format!("{} (ambrik leaves a {} alone)", commands.join(" && "), facts.kind.word()))
    }

    /// What puts a label right that refuses this, where `set` does not: of a directory that leads to the site, or from a mount.
    fn label_cure(&self, lack: &Lack<'_>, context: &Context, path: &Path, facts: &Facts, want: Perm) -> Option<String> {
        let directory = facts.kind == Kind::Directory;
        let act = match (want.covers(Perm::W), want.covers(Perm::R)) {
            (true, _) if directory => Act::Create,
            (true, _) => Act::Write,
            (false, true) => Act::Read,
            (false, false) => Act::Search,
        };
        self.label_refuses(facts, act).filter(|(counts, _)| *counts)?;
        let (host, label) = (self.setting.host, facts.rights.label.as_ref()?);
        let labels = self.setting.labels?.of_site(lack.holder.site());
        if is_held(context) {
            let mount = host.mount(facts).filter(|_| facts.label_given)?;
            return Some(labels.given_by_mount(host, mount, label, labels.type_of(&lack.holder.policy, context)).cure);
        }
        match labels.on_the_way(host, path, facts)? {
            OnTheWay::Blocks(found) => Some(found.cure),
            OnTheWay::NotKept(_) => None,
        }
    }
}

impl AccessJudge<'_> {
    fn shown(&mut self, rights: &Rights, kind: Kind) -> Arc<str> {
        let accounts = self.setting.accounts;
        let shown = self.known.shown.entry((rights.clone(), kind));
        Arc::clone(shown.or_insert_with(|| rights_shown(accounts, rights, kind).into()))
    }

    fn solved(&mut self, holder: &PolicySite, context: &Context, shape: Shape) -> Arc<Rights> {
        let solved = self.known.solved.entry((holder.site().name.clone(), context.id, shape));
        Arc::clone(solved.or_insert_with(|| Arc::new(holder.solver.solve(&holder.policy, context, shape))))
    }
}

/// An answer that is not what its site wants.
struct Lack<'a> {
    holder: &'a PolicySite,
    /// What the site file says of the path that was asked about.
    context: &'a Context,
    answer: &'a Answer,
    facts: Option<&'a Facts>,
    /// Whether the account has too little, not too much.
    lacks: bool,
}

impl Lack<'_> {
    /// The line for the site file that lets the path be what the site file wants of it.
    fn in_site_file(&self) -> String {
        let site = self.holder.site();
        let (file, name) = (Shown(&site.file), &site.name);
        let part = self.context.part.map(|part| &site.parts[part]);
        match part.filter(|part| part.pattern.as_path().is_some()) {
            Some(part) if self.facts.is_none() => {
                format!("in {file}, create = true for the part {} has it made; then: ambrik set {name}", part.shown)
            }
            _ => {
                let path = site.relative(&self.answer.at.itself);
                let folder = path.parent().filter(|_| self.facts.is_none()).unwrap_or(&path);
                format!("in {file}, a [[part]] for {} that PHP may write to; then: ambrik set {name}", Shown(folder))
            }
        }
    }
}

/// The narrowest change by hand that gives a right: an entry for this one account.
fn give(subject: &Subject, path: &Path, facts: &Facts, want: Perm) -> String {
    let path = shell_path(path);
    if facts.rights.uid == subject.ids.uid {
        return format!("chmod u+{} {path}", letters(want));
    }
    format!("setfacl -m u:{}:{want} {path}", shell_name(&subject.name, subject.ids.uid.0))
}

/// The narrowest change by hand that takes a right.
fn take(subject: &Subject, path: &Path, facts: &Facts, want: Perm) -> String {
    let path = shell_path(path);
    let letters = letters(want.without(Perm::X));
    match decide(&subject.ids, facts.kind, &facts.rights, want).class {
        Class::Owner => format!("chown root {path}"),
        Class::Group => format!("chmod g-{letters} {path}"),
        Class::NamedUser => format!("setfacl -x u:{} {path}", shell_name(&subject.name, subject.ids.uid.0)),
        Class::NamedGroup => format!("setfacl -b {path}"),
        Class::Other => format!("chmod o-{letters} {path}"),
    }
}

fn letters(perm: Perm) -> String {
    perm.to_string().replace('-', "")
}

const fn can(answer: &Answer, act: Act) -> Option<bool> {
    match act {
        Act::Read => answer.can.read,
        Act::Write => answer.can.write,
        Act::Search | Act::Execute => answer.can.search,
        Act::Create => answer.can.create,
        Act::Delete => answer.can.delete,
        Act::Follow | Act::Find => None,
    }
}

/// How an answer compares with the right that the account should have, and the one that it may have.
fn compare(answer: &Answer, should: Right, may: Right, passes: bool) -> Match {
    if !answer.is_complete() {
        return Match::Unknown;
    }
    let directory = answer.kind == Some(Kind::Directory);
    let lacks = |act: Act, wanted: bool| wanted && can(answer, act) == Some(false);
    let has = |act: Act, may: bool| !may && can(answer, act) == Some(true);
    let nothing_there = answer.missing;
    let little = [
        (Act::Read, should >= Right::Read && !nothing_there),
        (Act::Write, should == Right::Write && !nothing_there),
        (Act::Search, directory && (should >= Right::Read || passes)),
        (Act::Create, should == Right::Write && (directory || answer.could_be_made)),
    ];
    let little: Vec<Act> = little.into_iter().filter(|&(act, wanted)| lacks(act, wanted)).map(|(act, _)| act).collect();
    if !little.is_empty() {
        return Match::TooLittle(little);
    }
    let much = [
        (Act::Read, may >= Right::Read),
        (Act::Write, may == Right::Write),
        (Act::Create, may == Right::Write || !nothing_there),
        (Act::Delete, may == Right::Write),
    ];
    let much: Vec<Act> = much.into_iter().filter(|&(act, may)| has(act, may)).map(|(act, _)| act).collect();
    if much.is_empty() { Match::AsWanted } else { Match::TooMuch(much) }
}
