//! What is to be changed, before anything is: the turns that an audit calls for, what is made, what is removed.

use std::collections::BTreeMap;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::keepsake::Packer;
use super::rights::Turn;
use crate::audit::{Audit, part_path};
use crate::check::{Check, Reason};
use crate::entry::{Identity, Kind, Rights};
use crate::inspect::Deviant;
use crate::site::{Phase, Use};
use crate::tree::Failure;

/// What `set` or `seal` would do to one site.
#[derive(Debug)]
pub struct Plan {
    /// What was looked at.
    pub audit: Audit,
    /// The command, for the ledger.
    pub command: &'static str,
    /// The site's phase now.
    pub phase_before: Phase,
    /// What is made.
    pub creations: Vec<Creation>,
    /// What is removed.
    pub removals: Vec<Removal>,
    /// What should be removed, and cannot be put into a keepsake.
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
    pub files: usize,
    pub(crate) id: Identity,
    pub(crate) deviant: usize,
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
        let creations = creations(&audit);
        Self { audit, command: "set", phase_before, creations, removals: Vec::new(), kept: Vec::new() }
    }

    /// What `seal` would do: `set`, and installers and left-overs removed, but for what `leave` names.
    #[must_use]
    pub fn seal(audit: Audit, phase_before: Phase, leave: &[PathBuf]) -> Self {
        let mut plan = Self { command: "seal", ..Self::set(audit, phase_before) };
        let (removals, kept) = removals(&plan.audit, leave);
        plan.removals = removals;
        plan.kept = kept;
        plan
    }

    /// Whether there is nothing to do.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.creations.is_empty() && self.removals.is_empty() && self.turns().next().is_none()
    }

    /// How many paths get other rights.
    #[must_use]
    pub fn turn_count(&self) -> usize {
        self.turns().count()
    }

    /// The paths that get other rights, with what they have and get.
    pub fn changed_paths(&self) -> impl Iterator<Item = (PathBuf, Kind, Option<usize>, Arc<Rights>, Arc<Rights>)> + '_ {
        self.turns().map(|(deviant, turn)| {
            (self.audit.path(deviant), turn.kind, deviant.verdict.context.part, turn.before, turn.after)
        })
    }

    /// The paths that should change and are left alone, with the reason.
    pub fn left_alone(&self) -> impl Iterator<Item = (PathBuf, &Failure)> + '_ {
        let deviant = |(number, failure)| (self.audit.path(&self.audit.deviants[number]), failure);
        self.audit.left_alone.iter().map(move |(number, failure)| deviant((*number, failure)))
    }

    /// The changes of rights, paths that change alike together, in the order of their parts.
    #[must_use]
    pub fn groups(&self) -> Vec<Group> {
        type Alike = (Option<usize>, Kind, [u32; 3], [u32; 3], usize, usize);
        let mut groups: BTreeMap<Alike, Group> = BTreeMap::new();
        for (deviant, turn) in self.turns() {
            let part = deviant.verdict.context.part;
            let numbers = |rights: &Rights| [rights.uid.0, rights.gid.0, rights.mode.bits().into()];
            // Lists are told apart by their place in memory: alike ones of one part are shared.
            let lists = |rights: &Rights| rights.acl.as_ref().map_or(0, |acl| acl.entries().len());
            let key = (part, turn.kind, numbers(&turn.before), numbers(&turn.after), lists(&turn.before), lists(&turn.after));
            let group = groups.entry(key).or_insert_with(|| Group {
                part,
                kind: turn.kind,
                before: turn.before,
                after: turn.after,
                count: 0,
                example: self.audit.relative(&self.audit.path(deviant)),
            });
            group.count += 1;
        }
        groups.into_values().collect()
    }

    /// What changes, in the audit's order.
    pub(crate) fn turns(&self) -> impl Iterator<Item = (&Deviant, Turn)> + '_ {
        let gone: Vec<PathBuf> = self.removals.iter().map(|r| r.path.clone()).collect();
        let deviants = self.audit.deviants.iter().enumerate();
        deviants.filter(|(number, _)| !self.audit.left_alone.contains_key(number)).filter_map(move |(_, deviant)| {
            let after = deviant.verdict.fix.as_ref()?;
            if !gone.is_empty() {
                let path = self.audit.path(deviant);
                if gone.iter().any(|removed| path.starts_with(removed)) {
                    return None;
                }
            }
            let Deviant { id, links, verdict, .. } = deviant;
            let turn = Turn {
                id: *id,
                kind: verdict.kind,
                links: *links,
                before: Arc::clone(&verdict.rights),
                after: Arc::clone(after),
            };
            Some((deviant, turn))
        })
    }
}

/// The parts with `create` that are missing, and the directories that lead there.
fn creations(audit: &Audit) -> Vec<Creation> {
    let mut creations: Vec<Creation> = Vec::new();
    for (part, directory, file) in &audit.wants_of_missing {
        let of_part = &audit.site.parts[*part];
        let Some(path) = part_path(&audit.site, *part).filter(|_| of_part.create) else { continue };
        let (kind, rights) = if is_file_part(of_part.used_as, &path, of_part.from.is_some()) {
            (Kind::File, file)
        } else {
            (Kind::Directory, directory)
        };
        creations.push(Creation { path, kind, part: Some(*part), rights: Arc::clone(rights) });
    }
    creations.sort_by(|a, b| a.path.cmp(&b.path));
    creations
}

/// Whether a part that is not there yet is a file: it is copied from a sample, or it is a secret with an extension.
fn is_file_part(used_as: Use, path: &Path, has_sample: bool) -> bool {
    has_sample || (used_as == Use::Secret && path.extension().is_some())
}

fn removals(audit: &Audit, leave: &[PathBuf]) -> (Vec<Removal>, Vec<(PathBuf, Failure)>) {
    let mut removals: Vec<Removal> = Vec::new();
    let mut kept = Vec::new();
    for (number, deviant) in audit.deviants.iter().enumerate() {
        let mut found = deviant.extra.iter().filter(|(check, _)| check.remedy == crate::check::Remedy::Seal);
        let Some((check, reason)) = found.next() else { continue };
        let path = audit.path(deviant);
        let is_left = leave.iter().any(|left| path.starts_with(audit.site.root.join(left)));
        if is_left || audit.is_accepted(check, number) || removals.iter().any(|r| path.starts_with(&r.path)) {
            continue;
        }
        match count(audit, deviant, &path) {
            Ok(files) => removals.push(Removal {
                part: deviant.verdict.context.part,
                check,
                reason: match reason {
                    Reason::Says(words) => words.clone(),
                    other => format!("{other:?}"),
                },
                directory: deviant.verdict.kind == Kind::Directory,
                files,
                id: deviant.id,
                deviant: number,
                path,
            }),
            Err((path, failure)) => kept.push((path, failure)),
        }
    }
    (removals, kept)
}

/// How many paths there are at and below a deviant.
fn count(audit: &Audit, deviant: &Deviant, path: &Path) -> Result<usize, (PathBuf, Failure)> {
    let failed = |failure| (path.to_owned(), failure);
    let bases = super::bases(&audit.starts).map_err(failed)?;
    let mut opener = super::folder::Opener::new(&bases);
    let (folder, name) = super::place(audit, deviant);
    let dir = opener.open(&folder).map_err(failed)?;
    let mut packer = Packer::<std::io::Sink>::new(None);
    packer.add(dir.as_fd(), &name, path, Some(deviant.id))?;
    packer.finish().map(|(_, packed)| packed.len()).map_err(|_| failed(Failure::Replaced))
}
