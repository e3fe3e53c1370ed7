//! Parts that are not there, and what they would be made with.

use std::collections::{HashMap, HashSet};
use std::ffi::OsString;
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
    let mut by_folder: HashMap<PathBuf, Vec<(usize, PathBuf)>> = HashMap::new();
    for (part, path) in (0..site.parts.len()).filter_map(|part| Some((part, part_path(site, part)?))) {
        by_folder.entry(path.parent().unwrap_or(&path).to_owned()).or_default().push((part, path));
    }
    let mut missing = Vec::new();
    let mut below_a_file: Option<(usize, PathBuf)> = None;
    for (folder, parts) in by_folder {
        let names = (parts.len() > MANY).then(|| host.names_in(&folder));
        let names = names.map(|names| names.map(|names| names.into_iter().collect::<HashSet<OsString>>()));
        for (part, path) in parts {
            let there = match &names {
                Some(Ok(names)) if path.file_name().is_some_and(|name| names.contains(name)) => Ok(()),
                Some(Ok(_) | Err(WayError::Missing(_))) => Err(WayError::Missing(path.clone())),
                _ => host.resolve_link(&path).map(|_| ()),
            };
            let file = match there {
                Err(WayError::NoDirectory(file)) => Some(file),
                Err(WayError::Missing(_)) => {
                    missing.push(part);
                    path.ancestors().skip(1).find(is_file).map(Path::to_owned)
                }
                _ => None,
            };
            if let Some(file) = file.filter(|_| below_a_file.as_ref().is_none_or(|(first, _)| part < *first)) {
                below_a_file = Some((part, file));
            }
        }
    }
    missing.sort_unstable();
    NotThere { missing, below_a_file }
}

/// Where more parts than this are in one folder, its names are asked for once.
const MANY: usize = 8;

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
