//! Results that several formats write, as they are handed to these.

use std::time::Duration;

use ambrik_core::account::Accounts;
use ambrik_core::audit::{Audit, HostFinding, News};
use ambrik_core::change::{AuditRecord, ChangeSet, Drifted, Keepsake, PathChange, PurgePlan};
use ambrik_core::check::Severity;
use ambrik_core::label::{LabelLine, Labels};
use ambrik_core::proofread::Remark;
use ambrik_core::site::{NewAccept, Site};

use crate::failure::Wrong;

/// `audit`.
pub(crate) struct AuditReport<'r> {
    pub(crate) host: &'r str,
    pub(crate) accounts: &'r Accounts,
    pub(crate) labels: &'r Labels,
    pub(crate) audits: &'r [Audit],
    pub(crate) of_host: &'r [HostFinding],
    pub(crate) wrong: &'r [Wrong],
    /// The labels of each site, where it was asked for them.
    pub(crate) tables: Option<&'r [Vec<LabelLine>]>,
    /// Whether every path is named.
    pub(crate) each: bool,
    /// Whether only sites with findings are told of.
    pub(crate) quiet: bool,
    /// When the window of each site ends, where it has one.
    pub(crate) until: &'r [Option<jiff::Timestamp>],
    pub(crate) took: Duration,
    /// What was changed, the newest first.
    pub(crate) history: &'r [ChangeSet],
    /// The audits of the whole host that are on record, the oldest first.
    pub(crate) course: &'r [AuditRecord],
    /// What makes the exit code 1.
    pub(crate) fail_on: Option<Severity>,
}

impl AuditReport<'_> {
    /// Whether all that was asked for could be judged.
    pub(super) fn is_complete(&self) -> bool {
        self.wrong.is_empty() && self.audits.iter().all(Audit::is_complete)
    }
}

/// `audit --news`.
pub(crate) struct NewsReport<'r> {
    pub(crate) host: &'r str,
    /// When the audit before was taken.
    pub(crate) since: Option<jiff::Timestamp>,
    pub(crate) news: &'r [News],
}

/// `history ID`.
pub(crate) struct SetReport<'r> {
    /// All change sets: to which deployment it belongs.
    pub(crate) all: &'r [ChangeSet],
    pub(crate) set: &'r ChangeSet,
    pub(crate) paths: &'r [PathChange],
    pub(crate) accounts: &'r Accounts,
}

/// `accept`, to be written or written.
#[derive(Clone, Copy)]
pub(crate) struct AcceptReport<'r> {
    pub(crate) site: &'r Site,
    pub(crate) new: NewAccept<'r>,
    /// How many paths it covers now.
    pub(crate) covers: usize,
    pub(crate) written: bool,
}

/// How many files were read.
pub(crate) struct FilesRead {
    pub(crate) sites: usize,
    pub(crate) outlines: usize,
    pub(crate) host: usize,
}

/// `proofread`.
pub(crate) struct ProofReport<'r> {
    pub(crate) read: FilesRead,
    /// What keeps files from being read, or sites from being judged.
    pub(crate) wrong: &'r [Wrong],
    pub(crate) remarks: &'r [Remark],
}

/// `purge`, planned or done.
pub(crate) struct PurgeReport<'r> {
    pub(crate) plan: &'r PurgePlan,
    /// Whether that went, or would go.
    pub(crate) is_done: bool,
}

/// `history`.
pub(crate) struct HistoryReport<'r> {
    pub(crate) all: &'r [ChangeSet],
    /// Only those of this site.
    pub(crate) site: Option<&'r str>,
    /// The files in which what they removed is kept.
    pub(crate) kept: &'r [Keepsake],
}

impl HistoryReport<'_> {
    /// What is kept of a change set, in bytes.
    pub(super) fn kept_of(&self, id: i64) -> Option<u64> {
        let sizes: Vec<u64> = self.kept.iter().filter(|kept| kept.set == id).map(|kept| kept.bytes).collect();
        (!sizes.is_empty()).then(|| sizes.iter().sum())
    }
}

/// `audit --drift`.
pub(crate) struct DriftReport<'r> {
    /// Each site with what is no longer as it was left.
    pub(crate) sites: &'r [(&'r str, Vec<Drifted>)],
    pub(crate) accounts: &'r Accounts,
}
