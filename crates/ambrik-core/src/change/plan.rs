//! What is to be changed, before anything is: the turns that an audit calls for, what is made, what is removed.

use std::collections::HashMap;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::keepsake::{Packer, PathFailure};
use super::rights::RightsChange;
use super::{ChangeCommand, ModuleChange, Window};
use crate::account::Uid;
use crate::audit::Audit;
use crate::check::{Check, Reason};
use crate::entry::{Identity, Kind, Rights};
use crate::inspect::{Deviation, Verdict};
use crate::policy::Right;
use crate::site::Phase;
use crate::tree::Failure;

/// What `set` or `seal` would do to one site.
#[derive(Debug)]
pub struct Plan {
    /// What was looked at.
    pub audit: Audit,
    /// The command, for the ledger.
    pub command: ChangeCommand,
    /// The site's phase now.
    pub phase_before: Phase,
    /// The window that it opens or extends.
    pub window: Option<Window>,
    /// Whether it was said that another folder than the last time is the right one.
    pub new_root: bool,
    /// The policy module that makes the labels last, where it changes.
    pub module: Option<ModuleChange>,
    /// The SELinux booleans that are turned on.
    pub switches: Vec<String>,
    /// What is made.
    pub creations: Vec<Creation>,
    /// What is removed: what parts name, and what is certain by its content.
    pub removals: Vec<Removal>,
    /// What looks like an installer or a left-over and is not certain: removed on a person's yes only.
    pub guesses: Vec<Removal>,
    /// What looks like an installer and is needed by other code, with the reason: only a part has it removed.
    pub needed: Vec<(PathBuf, String)>,
    /// What should be removed, and cannot be put into a keepsake; what should be made, and has no sample.
    pub kept: Vec<(PathBuf, Failure)>,
}

/// A path that is made.
#[derive(Debug)]
pub struct Creation {
    /// The path.
    pub path: PathBuf,
    /// A directory or a file.
    pub kind: Kind,
    /// Its part.
    pub part: Option<usize>,
    /// What it is made with.
    pub rights: Arc<Rights>,
    /// The sample that it is copied from, relative to the root.
    pub from: Option<PathBuf>,
    /// What is written to it.
    pub(crate) content: Vec<u8>,
}

/// A path that is removed, with everything in it.
#[derive(Debug)]
pub struct Removal {
    /// The path as the site file's root names it.
    pub path: PathBuf,
    /// Its part.
    pub part: Option<usize>,
    /// The check that found it.
    pub check: &'static Check,
    /// Why it is removed.
    pub reason: String,
    /// Whether it is a directory.
    pub directory: bool,
    /// How many paths there are in it, itself included.
    pub files: u64,
    /// What it takes in a keepsake, in bytes.
    pub bytes: u64,
    pub(crate) id: Identity,
    pub(crate) deviant: u32,
}

/// One path's change.
#[derive(Debug)]
pub struct Change<'p> {
    /// What it is.
    pub kind: Kind,
    /// Its part.
    pub part: Option<usize>,
    /// What it has.
    pub before: &'p Rights,
    /// What it gets.
    pub after: Arc<Rights>,
}

/// Paths of one part that change alike.
#[derive(Debug)]
pub struct Group {
    /// The part.
    pub part: Option<usize>,
    /// What they are.
    pub kind: Kind,
    /// What they have.
    pub before: Arc<Rights>,
    /// What they get.
    pub after: Arc<Rights>,
    /// How many there are.
    pub count: usize,
    /// The first of them, relative to the root.
    pub example: PathBuf,
}

impl Plan {
    /// What `set` would do.
    #[must_use]
    pub fn set(audit: Audit, phase_before: Phase) -> Self {
        let (creations, kept) = creations(&audit);
        Self {
            audit,
            command: ChangeCommand::Set,
            phase_before,
            window: None,
            new_root: false,
            module: None,
            switches: Vec::new(),
            creations,
            removals: Vec::new(),
            guesses: Vec::new(),
            needed: Vec::new(),
            kept,
        }
    }

    /// What `open` would do, by an audit for an open site: what is missing is made, samples are copied, and php gets to
    /// write what the window is for.
    #[must_use]
    pub fn open(audit: Audit, phase_before: Phase, window: Window) -> Self {
        Self { command: ChangeCommand::Open, window: Some(window), ..Self::set(audit, phase_before) }
    }

    /// What `seal` would do: `set`, and installers and left-overs removed, but for what `leave` names.
    #[must_use]
    pub fn seal(audit: Audit, phase_before: Phase, leave: &[PathBuf]) -> Self {
        let mut plan = Self { command: ChangeCommand::Seal, ..Self::set(audit, phase_before) };
        removals(&mut plan, leave);
        plan
    }

    /// Removes what is not certain, too: a person looked at the list and said yes.
    pub fn take_guesses(&mut self) {
        self.removals.append(&mut self.guesses);
    }

    /// Also removes the files among these that hold nothing: settings made for an installer that did not write them.
    pub fn remove_unwritten(&mut self, made: &[PathBuf]) {
        for (number, deviant) in (0..).zip(self.audit.seen.deviants.iter()) {
            let path = self.audit.path(&deviant);
            let part = deviant.verdict.context.part;
            let settings = part.is_some_and(|part| self.audit.site.parts[part].is_installers());
            if deviant.verdict.kind != Kind::File || !settings || !made.contains(&path) {
                continue;
            }
            // An empty file takes its header alone.
            let Ok((1, bytes, _)) = measure(&self.audit, &deviant, &path) else { continue };
            if super::sample::is_empty(&self.audit, &path) {
                self.removals.push(Removal {
                    part,
                    check: &crate::check::INSTALLER_LEFT,
                    reason: "made for the installer, which did not write it".into(),
                    directory: false,
                    files: 1,
                    bytes,
                    id: deviant.id,
                    deviant: number,
                    path,
                });
            }
        }
    }

    /// Whether somebody who is not root can make any of it: what is the caller's own, and stays so.
    #[must_use]
    pub fn can_be_made(&self) -> bool {
        let caller = Uid(rustix::process::geteuid().as_raw());
        let own = |deviant: &Deviation<'_>| deviant.verdict.rights.uid == caller;
        caller == Uid::ROOT
            || self.is_empty()
            || self
                .changing()
                .any(|deviant| own(&deviant) && deviant.verdict.fix.as_ref().is_some_and(|fix| fix.uid == caller))
            || self.creations.iter().any(|creation| creation.rights.uid == caller)
            || self
                .removals
                .iter()
                .filter_map(|removal| self.audit.seen.deviants.get(removal.deviant))
                .any(|deviant| own(&deviant))
    }

    /// Whether there is nothing to do.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.module.is_none()
            && self.switches.is_empty()
            && self.creations.is_empty()
            && self.removals.is_empty()
            && self.changing().next().is_none()
    }

    /// How many paths get other rights.
    #[must_use]
    pub fn turn_count(&self) -> usize {
        self.changing().count()
    }

    /// The paths that get other rights, with what they have and get.
    pub fn changed_paths(&self) -> impl Iterator<Item = (PathBuf, Kind, Option<usize>, Arc<Rights>, Arc<Rights>)> + '_ {
        self.turns().map(|(deviant, turn)| {
            (self.audit.path(&deviant), turn.kind, deviant.verdict.context.part, turn.before, turn.after)
        })
    }

    /// As [`Self::changed_paths`], each with the directory that it really is in, links followed, and its name there.
    pub fn changed_places(&self) -> impl Iterator<Item = (PathBuf, OsString, Change<'_>)> + '_ {
        let mut places = super::Places::new(&self.audit);
        self.turns().map(move |(deviant, turn)| {
            let (folder, name) = places.place(&deviant);
            let name = super::folder::as_os(&name).to_owned();
            let part = deviant.verdict.context.part;
            (
                folder.path.components().collect(),
                name,
                Change { kind: turn.kind, part, before: &deviant.verdict.rights, after: turn.after },
            )
        })
    }

    /// The paths that should change and are left alone, with the reason; what is removed is not.
    pub fn left_alone(&self) -> impl Iterator<Item = (PathBuf, &Failure)> + '_ {
        let left = self.audit.pending.left_alone.iter();
        let left = left.filter_map(|(number, failure)| Some((self.audit.seen.deviants.get(*number)?, failure)));
        left.filter(|(deviant, _)| !self.goes(deviant)).map(|(deviant, failure)| (self.audit.path(&deviant), failure))
    }

    /// Everything that is left alone though it should change or go, with the reason.
    pub fn passed_over(&self) -> impl Iterator<Item = (PathBuf, &Failure)> + '_ {
        self.left_alone().chain(self.kept.iter().map(|(path, failure)| (path.clone(), failure)))
    }

    /// The changes of rights, paths that change alike together, in the order of their parts.
    #[must_use]
    pub fn groups(&self) -> Vec<Group> {
        // Paths with the same verdict change alike; different verdicts may.
        let mut verdicts: HashMap<*const Verdict, (Deviation<'_>, usize)> = HashMap::new();
        for deviant in self.changing() {
            verdicts.entry(Arc::as_ptr(deviant.verdict)).or_insert((deviant, 0)).1 += 1;
        }
        let mut found: Vec<Group> = Vec::new();
        let mut places: HashMap<GroupKey, usize> = HashMap::new();
        for (deviant, count) in verdicts.into_values() {
            let Some(RightsChange { kind, before, after, .. }) = turn(&deviant) else { continue };
            let part = deviant.verdict.context.part;
            let example = self.audit.relative(&self.audit.path(&deviant));
            let place = *places.entry((part, kind, Arc::clone(&before), Arc::clone(&after))).or_insert(found.len());
            match found.get_mut(place) {
                Some(group) => {
                    group.count += count;
                    group.example = example.min(std::mem::take(&mut group.example));
                }
                None => found.push(Group { part, kind, before, after, count, example }),
            }
        }
        found.sort_by(|a, b| {
            (a.part, a.kind, std::cmp::Reverse(a.count), &a.example).cmp(&(
                b.part,
                b.kind,
                std::cmp::Reverse(b.count),
                &b.example,
            ))
        });
        found
    }

    /// What changes, in the audit's order.
    pub(crate) fn turns(&self) -> impl Iterator<Item = (Deviation<'_>, RightsChange)> + '_ {
        self.changing().filter_map(|deviant| turn(&deviant).map(|turn| (deviant, turn)))
    }

    /// The deviants that get other rights.
    fn changing(&self) -> impl Iterator<Item = Deviation<'_>> + '_ {
        let deviants = (0..).zip(self.audit.seen.deviants.iter());
        let to_change = deviants.filter(|(number, deviant)| {
            deviant.verdict.fix.is_some() && !self.audit.pending.left_alone.contains_key(number)
        });
        to_change.map(|(_, deviant)| deviant).filter(|deviant| !self.goes(deviant))
    }

    /// Whether a deviant is removed, or lies in what is.
    fn goes(&self, deviant: &Deviation<'_>) -> bool {
        if self.removals.is_empty() {
            return false;
        }
        let path = self.audit.path(deviant);
        self.removals.iter().any(|removal| path.starts_with(&removal.path))
    }
}

/// What paths have in common that change alike: their part, what they are, what they have, and what they get.
type GroupKey = (Option<usize>, Kind, Arc<Rights>, Arc<Rights>);

/// What a deviant has, and what it is to get.
fn turn(deviant: &Deviation<'_>) -> Option<RightsChange> {
    let Deviation { id, links, verdict, changed, .. } = *deviant;
    let after = Arc::clone(verdict.fix.as_ref()?);
    // Another name of a file that is changed before this one changes it as well.
    let still = verdict.kind == Kind::File && links == 1 && verdict.context.row.php < Right::Write;
    let (kind, before) = (verdict.kind, Arc::clone(&verdict.rights));
    Some(RightsChange { id, kind, links, before, after, left: None, changed: still.then_some(changed) })
}

/// The missing parts that are to be made, and the directories that lead there, the upper ones first; and those whose
/// sample cannot be read.
fn creations(audit: &Audit) -> (Vec<Creation>, Vec<(PathBuf, Failure)>) {
    let mut creations: Vec<Creation> = Vec::new();
    let mut without_sample = Vec::new();
    for made in &audit.pending.to_make {
        let from = made.sample.clone();
        let content = match &from {
            None => Ok(Vec::new()),
            Some(sample) => super::sample::read(audit, sample),
        };
        match content {
            Ok(content) => creations.push(Creation {
                path: made.path.clone(),
                kind: made.kind,
                part: made.part,
                rights: Arc::clone(&made.rights),
                from,
                content,
            }),
            Err(failure) => without_sample.push((made.path.clone(), failure)),
        }
    }
    creations.sort_by(|a, b| a.path.cmp(&b.path));
    creations.dedup_by(|a, b| a.path == b.path);
    (creations, without_sample)
}

fn removals(plan: &mut Plan, leave: &[PathBuf]) {
    let audit = &plan.audit;
    for (number, deviant) in audit.seen.deviants.with_extra() {
        let mut found = deviant.extra.iter().filter(|(check, _)| check.remedy == crate::check::Remedy::Seal);
        let Some((check, reason)) = found.next() else { continue };
        let path = audit.path(&deviant);
        let is_left = leave.iter().any(|left| path.starts_with(audit.site.root.join(left)));
        let goes_with = plan.removals.iter().chain(&plan.guesses).any(|removal| path.starts_with(&removal.path));
        if is_left || audit.is_accepted(check, number) || goes_with {
            continue;
        }
        let reason = match reason {
            Reason::Needed(words) => {
                plan.needed.push((path, words.clone()));
                continue;
            }
            other => other,
        };
        let (files, bytes, failures) = match measure(audit, &deviant, &path) {
            Ok(found) => found,
            Err(failure) => {
                plan.kept.push(failure);
                continue;
            }
        };
        let certain = !matches!(reason, Reason::Looks(_));
        if certain {
            plan.kept.extend(failures);
        }
        if files == 0 {
            continue;
        }
        let list = if certain { &mut plan.removals } else { &mut plan.guesses };
        list.push(Removal {
            part: deviant.verdict.context.part,
            check,
            reason: reason.like().to_owned(),
            directory: deviant.verdict.kind == Kind::Directory,
            files,
            bytes,
            id: deviant.id,
            deviant: number,
            path,
        });
    }
}

/// How many paths at and below a deviant would be removed, what they take in a keepsake, and what would stay.
fn measure(audit: &Audit, deviant: &Deviation<'_>, path: &Path) -> Result<(u64, u64, Vec<PathFailure>), PathFailure> {
    let failed = |failure| (path.to_owned(), failure);
    let bases = super::bases(&audit.seen.starts).map_err(failed)?;
    let mut opener = super::folder::Opener::new(&bases);
    let (folder, name) = super::place(audit, deviant);
    let dir = opener.open(&folder).map_err(failed)?;
    let mut packer = Packer::listing();
    let range = packer.add(dir, &name, path, Some(deviant.id)).map_err(|_| failed(Failure::Replaced))?;
    let (packed, failures) = packer.listed();
    Ok((packed.going(&range), packed.stored(&range), failures))
}
