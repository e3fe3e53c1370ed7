//! What an account can do with one path, the way there left aside: rights, flags, mounts, sticky directories and what
//! the running kernel protects.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use foldhash::fast::RandomState;

use super::words::Words;
use super::{Act, Can, Subject, WhySetting};
use crate::access::{Fixed, NameRule, decide, permits};
use crate::account::{Powers, Uid};
use crate::entry::{Bar, Facts, Kind, Rights};
use crate::mode::{Mode, Perm};
use crate::tree::Host;
use crate::want::Shape;

/// A step about the path itself, or about the directory that it is in.
#[derive(Clone, Debug)]
pub(super) struct OwnStep {
    /// Whether it is about the directory.
    pub(super) above: bool,
    pub(super) act: Act,
    pub(super) says: Arc<str>,
    pub(super) allows: Option<bool>,
}

/// What follows from the facts about a path and the directory that it is in.
#[derive(Debug)]
pub(super) struct Target {
    pub(super) can: Can,
    pub(super) steps: Arc<[OwnStep]>,
}

/// The facts that decide, of a path or a directory.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Traits {
    kind: Kind,
    rights: Rights,
    bar: Option<Bar>,
    append_only: bool,
    mounted: bool,
    mount: u64,
}

/// What the running kernel protects (`proc_sys_fs(5)`).
#[derive(Clone, Copy, Debug)]
struct Protected {
    symlinks: bool,
    hard_links: bool,
}

impl Protected {
    /// As `host` has it set; a folder that stands for one, without a `/proc`, has what this kernel has.
    fn of(host: &Host) -> Self {
        let is_set = |name: &str| {
            let path = Path::new("/proc/sys/fs").join(name);
            let text = host.read(&path, 64).or_else(|_| std::fs::read(&path));
            text.is_ok_and(|text| !text.trim_ascii().is_empty() && text.trim_ascii() != b"0")
        };
        Self { symlinks: is_set("protected_symlinks"), hard_links: is_set("protected_hardlinks") }
    }
}

/// As many different cases are remembered.
const REMEMBERED: usize = 1 << 14;

/// What is worked out once for paths that are alike.
#[derive(Default)]
pub(super) struct Remembered {
    pub(super) shown: HashMap<(Rights, Kind), Arc<str>, RandomState>,
    pub(super) solved: HashMap<(String, u32, Shape), Arc<Rights>, RandomState>,
}

/// Judges for one account.
pub(super) struct AccessJudge<'s> {
    pub(super) setting: WhySetting<'s>,
    pub(super) subject: Subject,
    protected: Protected,
    pub(super) known: Remembered,
    /// Paths that are alike, in one directory: judged once.
    targets: HashMap<(Traits, u64, Option<Traits>), Arc<Target>, RandomState>,
}

impl<'s> AccessJudge<'s> {
    pub(super) fn new(setting: WhySetting<'s>, subject: Subject) -> Self {
        Self {
            setting,
            subject,
            protected: Protected::of(setting.host),
            known: Remembered::default(),
            targets: HashMap::default(),
        }
    }

    fn words(&self) -> Words<'_> {
        Words { accounts: self.setting.accounts, subject: &self.subject }
    }

    /// Whether the account passes through a directory, and why.
    pub(super) fn search(&self, facts: &Facts) -> (bool, Arc<str>) {
        let decision = decide(&self.subject.ids, Kind::Directory, &facts.rights, Perm::X);
        let says = self.words().decided(facts.kind, &facts.rights, &decision, Act::Search);
        match self.label_refuses(facts, Act::Search) {
            Some((true, label)) if decision.allowed => (false, label.into()),
            Some((true, label)) => (false, format!("{says}; besides, {label}").into()),
            _ => (decision.allowed, says.into()),
        }
    }

    /// Whether a symlink at the end of a path is followed (`may_follow_link` in the kernel's fs/namei.c).
    pub(super) fn follow(&self, dir: &Facts, link: &Facts) -> (bool, Arc<str>) {
        let own = link.rights.uid == self.subject.ids.uid || link.rights.uid == dir.rights.uid;
        let mode = dir.rights.mode;
        let allows = !self.protected.symlinks || own || !(mode.has(Mode::STICKY) && mode.other().covers(Perm::W));
        let says = if allows { "a symlink" } else { super::words::PROTECTED_LINK };
        (allows, says.into())
    }

    /// Whether the account can make names in a directory, and why.
    pub(super) fn create_in(&self, dir: &Facts) -> (bool, Vec<OwnStep>) {
        let decision = decide(&self.subject.ids, Kind::Directory, &dir.rights, Perm::WX);
        let says = self.words().decided(dir.kind, &dir.rights, &decision, Act::Create);
        let mut steps = vec![own(true, Act::Create, says, decision.allowed)];
        let bar = self.setting.host.bar(dir);
        steps.extend(bar.map(|bar| own(true, Act::Create, bar.words().to_owned(), false)));
        let label = self.label_step(dir, Act::Create, Act::Create, true);
        let refused = label.as_ref().is_some_and(|step| step.allows == Some(false));
        steps.extend(label);
        (decision.allowed && bar.is_none() && !refused, steps)
    }

    /// What the account can do with something, in a directory; where a link led there, the link is what is removed.
    pub(super) fn target(&mut self, facts: &Facts, dir: (u64, &Facts), link: Option<&Facts>) -> Arc<Target> {
        let key = (self.traits(facts), dir.0, link.map(|link| self.traits(link)));
        if let Some(target) = self.targets.get(&key) {
            return Arc::clone(target);
        }
        let target = Arc::new(self.judge(facts, dir.1, link));
        if self.targets.len() >= REMEMBERED {
            self.targets.clear();
        }
        self.targets.insert(key, Arc::clone(&target));
        target
    }

    fn traits(&self, facts: &Facts) -> Traits {
        Traits {
            kind: facts.kind,
            rights: facts.rights.clone(),
            bar: self.setting.host.bar(facts),
            append_only: facts.append_only,
            mounted: facts.mounted,
            mount: facts.mount,
        }
    }

    fn judge(&self, facts: &Facts, dir: &Facts, link: Option<&Facts>) -> Target {
        let mut steps = Vec::new();
        let directory = facts.kind == Kind::Directory;
        let bar = self.setting.host.bar(facts);
        let mut asked = |act: Act, want: Perm| {
            let decision = decide(&self.subject.ids, facts.kind, &facts.rights, want);
            let says = self.words().decided(facts.kind, &facts.rights, &decision, act);
            steps.push(own(false, act, says, decision.allowed));
            let label = self.label_step(facts, act, act, false);
            let refused = label.as_ref().is_some_and(|step| step.allows == Some(false));
            steps.extend(label);
            decision.allowed && !refused
        };
        let read = asked(Act::Read, Perm::R);
        let writes = asked(Act::Write, Perm::W);
        let mut search = asked(if directory { Act::Search } else { Act::Execute }, Perm::X);
        let makes = directory.then(|| asked(Act::Create, Perm::WX));
        if let Some(bar) = bar {
            steps.push(own(false, Act::Write, bar.words().to_owned(), false));
        } else if facts.append_only {
            let says = "the append-only flag is set: something can be added, and nothing overwritten";
            steps.push(own(false, Act::Write, says.to_owned(), true));
        }
        let no_exec = self.setting.host.mount(facts).is_some_and(|mount| mount.no_exec);
        if no_exec && facts.kind == Kind::File {
            search = false;
            steps.push(own(false, Act::Execute, "its file system is mounted noexec".to_owned(), false));
        }
        if facts.rights.lend_power(facts.kind) && search {
            steps.push(own(false, Act::Execute, self.lent(facts), true));
        }
        let write = writes && bar.is_none();
        let create = match makes {
            Some(makes) => makes && bar.is_none(),
            None => self.create_in(dir).0,
        };
        let (delete, of_delete) = self.delete(link.unwrap_or(facts), dir);
        steps.extend(of_delete);
        let owns = self.is_owner(facts.rights.uid);
        let can = Can {
            read: Some(read),
            write: Some(write),
            search: Some(search),
            create: Some(create),
            delete: Some(delete),
            link: Some(self.link(facts, owns)),
            chmod: Some(owns && bar.is_none() && !facts.append_only),
        };
        Target { can, steps: steps.into() }
    }

    /// What a program with special bits runs as.
    fn lent(&self, facts: &Facts) -> String {
        if self.setting.host.mount(facts).is_some_and(|mount| mount.no_suid) {
            return "it has special bits, and its file system is mounted nosuid: they count for nothing".to_owned();
        }
        let rights = &facts.rights;
        let accounts = self.setting.accounts;
        let mut whose = Vec::new();
        if rights.mode.has(Mode::SET_UID) {
            whose.push(format!("user {}", accounts.user_shown(rights.uid)));
        }
        if rights.mode.has(Mode::SET_GID) {
            whose.push(format!("group {}", accounts.group_shown(rights.gid)));
        }
        if rights.capabilities.is_some() {
            whose.push("capabilities of its own".to_owned());
        }
        format!("whoever executes it gets the rights of {}", whose.join(", "))
    }

    /// Whether it owns something with this owner, or has the capability that stands for that.
    fn is_owner(&self, uid: Uid) -> bool {
        self.subject.ids.uid == uid || self.subject.ids.powers.has(Powers::FOWNER)
    }

    /// Whether a path can be removed or renamed in its directory (`may_delete` in the kernel's fs/namei.c).
    pub(super) fn delete(&self, facts: &Facts, dir: &Facts) -> (bool, Vec<OwnStep>) {
        let decision = decide(&self.subject.ids, Kind::Directory, &dir.rights, Perm::WX);
        let says = self.words().decided(dir.kind, &dir.rights, &decision, Act::Create);
        let mut steps = vec![own(true, Act::Delete, says, decision.allowed)];
        let bar = self.setting.host.bar(dir);
        steps.extend(bar.map(|bar| own(true, Act::Delete, bar.words().to_owned(), false)));
        steps.extend(self.label_step(dir, Act::Delete, Act::Delete, true));
        if facts.kind != Kind::Directory {
            steps.extend(self.label_step(facts, Act::Delete, Act::Delete, false));
        }
        let names = NameRule::of(dir);
        if names.owners(facts.rights.uid).is_some_and(|owners| !owners.iter().any(|&owner| self.is_owner(owner))) {
            steps.push(own(true, Act::Delete, self.words().sticky(facts.rights.uid, dir.rights.uid), false));
        }
        steps.extend(names.fixed(facts).map(|fixed| {
            let above = fixed == Fixed::NamesAreOnlyAdded;
            own(above, Act::Delete, super::words::fixed(fixed).to_owned(), false)
        }));
        (steps.iter().all(|step| step.allows != Some(false)), steps)
    }

    /// Whether a file can be given a further name (`may_linkat` in the kernel's fs/namei.c).
    fn link(&self, facts: &Facts, owns: bool) -> bool {
        let mode = facts.rights.mode;
        let special = mode.has(Mode::SET_UID) || (mode.has(Mode::SET_GID) && mode.group().covers(Perm::X));
        // Both rights at once: two groups, or a capability and a class, do not add up.
        let safe =
            facts.kind == Kind::File && !special && permits(&self.subject.ids, facts.kind, &facts.rights, Perm::RW);
        let fixed = self.setting.host.bar(facts).is_some() || facts.append_only;
        facts.kind != Kind::Directory && !fixed && (!self.protected.hard_links || owns || safe)
    }
}

fn own(above: bool, act: Act, says: String, allows: bool) -> OwnStep {
    OwnStep { above, act, says: says.into(), allows: Some(allows) }
}
