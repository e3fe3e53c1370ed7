//! The kinds of evidence, each in a file of its own, in one table.

mod code;
mod ignored;
mod installers;
mod live;
mod outside;
mod packages;
mod placeholders;
mod samples;
mod watched;
mod words;

pub(super) use outside::{OWNER_AND_NAME, is_of_one_application};
pub(super) use packages::PACKAGES;

use std::path::PathBuf;

use super::clue::Clues;
use super::deployed::Deployed;
use super::linked::Linked;
use super::packaged::PackageFact;
use super::php::{FileFacts, Touched};
use super::watch::Watched;
use crate::account::{Ids, Uid};
use crate::tree::Host;

/// What evidence is looked for in.
pub(crate) struct Scene<'s> {
    pub(crate) host: &'s Host,
    pub(crate) deployed: &'s Deployed,
    pub(crate) facts: &'s [FileFacts],
    /// The paths that the code touches.
    pub(crate) touched: &'s [Touched],
    /// The paths that are kept under names, or written out.
    pub(crate) named: &'s [Touched],
    /// The files outside the tree that are settings of what is in it.
    pub(crate) linked: &'s [Linked],
    /// What PHP wrote while it was watched.
    pub(crate) watched: Option<&'s Watched>,
    /// What packages say of paths.
    pub(crate) given: &'s [PackageFact],
    /// The names of PHP's account and group.
    pub(crate) php_names: Option<(&'s str, &'s str)>,
    /// The ids of the account that PHP runs as, where it is known.
    pub(crate) php_ids: Option<&'s Ids>,
    /// The document root, relative to the root.
    pub(crate) served: &'s PathBuf,
    /// The account that PHP runs as, where it is known.
    pub(crate) php: Option<Uid>,
    /// The tree's own texts: documents and scripts.
    pub(crate) texts: &'s [(PathBuf, String)],
}

/// A kind of evidence.
pub(crate) struct EvidenceKind {
    /// What it is called in a draft's reasons.
    pub(crate) name: &'static str,
    pub(crate) gather: fn(&Scene<'_>, &mut Clues),
}

/// Every kind, in the order in which they are gathered.
pub(crate) const KINDS: &[EvidenceKind] = &[
    EvidenceKind { name: "placeholders", gather: placeholders::gather },
    EvidenceKind { name: "code", gather: code::gather },
    EvidenceKind { name: "ignored", gather: ignored::gather },
    EvidenceKind { name: "words", gather: words::gather },
    EvidenceKind { name: "samples", gather: samples::gather },
    EvidenceKind { name: "installers", gather: installers::gather },
    EvidenceKind { name: "live", gather: live::gather },
    EvidenceKind { name: "split layout", gather: outside::gather },
    EvidenceKind { name: "watched", gather: watched::gather },
    EvidenceKind { name: PACKAGES, gather: packages::gather },
];

#[cfg(test)]
mod tests;
