//! `unpack/1`.

use std::io::{self, Write};
use std::path::Path;

use ambrik_core::archive::{Archive, ArchiveLook};
use ambrik_core::change::{Outcome, UnpackPlan};
use serde::Serialize;

use super::json::{FailedPath, PathText, print};

#[derive(Serialize)]
struct UnpackDocument<'d> {
    ambrik: &'static str,
    site: &'d str,
    root: PathText<'d>,
    archive: PathText<'d>,
    inner: PathText<'d>,
    bytes: u64,
    applied: bool,
    id: Option<i64>,
    taken_back: bool,
    new: Vec<PathText<'d>>,
    replaced: Vec<ReplacedPath<'d>>,
    gone: Vec<PathText<'d>>,
    same: usize,
    stays: Vec<Told<'d>>,
    left_out: Vec<Told<'d>>,
    left_overs: Vec<Told<'d>>,
    refused: Vec<RefusedEntry<'d>>,
    failed: Vec<FailedPath>,
}

#[derive(Serialize)]
struct ReplacedPath<'d> {
    #[serde(flatten)]
    path: PathText<'d>,
    changed_since: Option<bool>,
}

#[derive(Serialize)]
struct Told<'d> {
    #[serde(flatten)]
    path: PathText<'d>,
    why: &'static str,
}

#[derive(Serialize)]
struct RefusedEntry<'d> {
    name: &'d str,
    why: &'static str,
}

/// Writes what is in an archive, what would be done with it, and what was.
pub(crate) fn unpacked(
    ((site, root), archive, found): ((&str, &Path), &Archive, &ArchiveLook),
    plan: Option<&UnpackPlan>,
    outcome: Option<(&Outcome, bool)>,
    out: &mut dyn Write,
) -> io::Result<()> {
    let all = |paths: &mut dyn Iterator<Item = &'_ Path>| paths.map(PathText::owned).collect::<Vec<_>>();
    let told = |(path, why): (&Path, &'static str)| Told { path: PathText::owned(path), why };
    let replaced = plan.iter().flat_map(|plan| &plan.replaced);
    let failures = outcome.iter().flat_map(|(outcome, _)| &outcome.failures);
    let document = UnpackDocument {
        ambrik: "unpack/1",
        site,
        root: PathText::owned(root),
        archive: PathText::owned(archive.path()),
        inner: PathText::owned(&found.inner),
        bytes: found.bytes,
        applied: outcome.is_some(),
        id: outcome.map(|(outcome, _)| outcome.id),
        taken_back: outcome.is_some_and(|(_, taken_back)| taken_back),
        new: all(&mut plan.iter().flat_map(|plan| plan.new_paths())),
        replaced: replaced
            .map(|old| ReplacedPath { path: PathText::owned(&old.path), changed_since: old.changed_since })
            .collect(),
        gone: all(&mut plan.iter().flat_map(|plan| &plan.gone).map(|(path, _)| &**path)),
        same: plan.map_or(0, |plan| plan.same),
        stays: plan.iter().flat_map(|plan| &plan.stays).map(|(path, why)| told((path, why))).collect(),
        left_out: found.spared.iter().map(|spared| told((&spared.path, spared.why))).collect(),
        left_overs: plan
            .iter()
            .flat_map(|plan| plan.left_overs())
            .map(|(path, why)| Told { path: PathText::owned(&path), why })
            .collect(),
        refused: found.refused.iter().map(|refused| RefusedEntry { name: &refused.name, why: refused.why }).collect(),
        failed: failures
            .map(|(path, failure)| FailedPath { path: PathText::owned(path), error: failure.to_string() })
            .collect(),
    };
    print(&document, out)
}
