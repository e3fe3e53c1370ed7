//! Parts that are not there, and what they would be made with.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::entry::{Kind, Rights};
use crate::policy::{Policy, Right};
use crate::site::{Phase, Site};
use crate::tree::{Host, WayError};
use crate::want::{Shape, Solver};

/// A path that is missing and to be made.
#[derive(Debug)]
pub(crate) struct ToMake {
    pub(crate) path: PathBuf,
    pub(crate) part: Option<usize>,
    pub(crate) kind: Kind,
    pub(crate) rights: Arc<Rights>,
    /// The sample that it is copied from, relative to the root.
    pub(crate) sample: Option<PathBuf>,
}

/// What a part without wildcards names.
pub(crate) fn part_path(site: &Site, part: usize) -> Option<PathBuf> {
    site.parts[part].pattern.as_path().map(|path| Path::new("/").join(path))
}

/// The missing directories above a path, from the uppermost down: those of the site as the site file says, others as
/// the keeper's, which everyone can pass.
pub(crate) fn above(host: &Host, policy: &Policy, solver: &Solver, path: &Path) -> Vec<ToMake> {
    let is_missing = |path: &&Path| matches!(host.resolve_link(path), Err(WayError::Missing(_)));
    let above: Vec<&Path> = path.ancestors().skip(1).take_while(is_missing).collect();
    let made = above.into_iter().rev().map(|path| {
        let context = policy.at(path).context;
        let rights = if context.ours { solver.solve(policy, &context, Shape::Directory) } else { solver.way_in() };
        let (path, part) = (path.to_owned(), context.part);
        ToMake { path, part, kind: Kind::Directory, rights: Arc::new(rights), sample: None }
    });
    made.collect()
}

/// A missing part, and the missing directories above it.
pub(super) fn to_make(host: &Host, policy: &Policy, solver: &Solver, part: usize) -> Vec<ToMake> {
    let Some(path) = part_path(policy.site(), part) else { return Vec::new() };
    let mut made = above(host, policy, solver, &path);
    let of_part = &policy.site().parts[part];
    let (kind, shape) = if of_part.is_file() { (Kind::File, Shape::File) } else { (Kind::Directory, Shape::Directory) };
    let rights = Arc::new(solver.solve(policy, &policy.at(&path).context, shape));
    made.push(ToMake { path, part: Some(part), kind, rights, sample: of_part.from.clone() });
    made
}

/// What is not there of the parts without wildcards.
#[derive(Debug, Default)]
pub(super) struct NotThere {
    /// The parts, as indices into the site's parts.
    pub(super) missing: Vec<usize>,
    /// The first that lies below what is a file on the disk, or by another part of the site file; and that file.
    pub(super) below_a_file: Option<(usize, PathBuf)>,
}

pub(super) fn not_there(host: &Host, site: &Site) -> NotThere {
    let files =
        (0..site.parts.len()).filter(|&part| site.parts[part].is_file()).filter_map(|part| part_path(site, part));
    let files: HashSet<PathBuf> = files.collect();
    let is_file = |above: &&Path| {
        files.contains(*above) && !host.resolve(above).is_ok_and(|found| found.facts.kind == Kind::Directory)
    };
    let mut found = NotThere::default();
    for part in 0..site.parts.len() {
        let Some(path) = part_path(site, part) else { continue };
        let below_a_file = match host.resolve_link(&path) {
            Err(WayError::NoDirectory(file)) => Some(file),
            Err(WayError::Missing(_)) => {
                found.missing.push(part);
                path.ancestors().skip(1).find(is_file).map(Path::to_owned)
            }
            _ => None,
        };
        found.below_a_file = found.below_a_file.or_else(|| Some((part, below_a_file?)));
    }
    found
}

/// The parts without wildcards that are not there, as indices into the site's parts, and PHP cannot make in this phase: the
/// directory that they would be in is not one that it may write to.
#[must_use]
pub fn cannot_be_made(host: &Host, site: &Arc<Site>, phase: Phase) -> Vec<usize> {
    let policy = Policy::new(Arc::clone(site), phase);
    let made_by_php = |part: &usize| {
        let above = part_path(site, *part).and_then(|path| Some(path.parent()?.to_owned()));
        above.is_some_and(|above| policy.at(&above).context.row.php == Right::Write && host.resolve(&above).is_ok())
    };
    not_there(host, site).missing.into_iter().filter(|part| !made_by_php(part)).collect()
}
