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

/// A part that lies below what is a file on the disk, or by another part of the site file: where, and what the file is.
pub(super) fn below_a_file(host: &Host, site: &Site) -> Option<(usize, PathBuf)> {
    let files: HashSet<PathBuf> = (0..site.parts.len())
        .filter(|&part| site.parts[part].is_file())
        .filter_map(|part| part_path(site, part))
        .collect();
    (0..site.parts.len()).find_map(|part| {
        let path = part_path(site, part)?;
        let is_file = |above: &&Path| {
            files.contains(*above) && !host.resolve(above).is_ok_and(|found| found.facts.kind == Kind::Directory)
        };
        if let Some(above) = path.ancestors().skip(1).find(is_file) {
            return Some((part, above.to_owned()));
        }
        match host.resolve_link(&path) {
            Err(WayError::NoDirectory(file)) => Some((part, file)),
            _ => None,
        }
    })
}

pub(super) fn missing_parts(host: &Host, site: &Site) -> Vec<usize> {
    let is_missing = |part: &usize| {
        let found = part_path(site, *part).map(|path| host.resolve_link(&path));
        matches!(found, Some(Err(WayError::Missing(_) | WayError::NoDirectory(_))))
    };
    (0..site.parts.len()).filter(is_missing).collect()
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
    missing_parts(host, site).into_iter().filter(|part| !made_by_php(part)).collect()
}
