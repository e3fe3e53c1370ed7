//! The labels of a whole site side by side: what paths have, what a relabelling would give them, what they are to have.

use std::collections::BTreeMap;
use std::os::unix::ffi::OsStrExt as _;
use std::path::PathBuf;
use std::sync::Arc;

use super::{Labels, RuleAnswer, SiteLabels};
use crate::policy::Policy;
use crate::site::{Phase, Site};
use crate::site_walk::{SiteSpot, SiteVisitor, walk_site};
use crate::starts::SiteError;
use crate::tree::{Host, Progress};

/// Paths of one part with the same labels.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LabelLine {
    /// The part, as an index into the site's parts; none for what no part names.
    pub part: Option<usize>,
    /// The type that they have; none where they have no label.
    pub now: Option<String>,
    /// The type that a relabelling would give them; none where it would leave them.
    pub relabelled: Option<String>,
    /// The type that `set` gives them: the one that they have where that is right.
    pub wanted: String,
    /// Whether the type that they have lets PHP do what the part needs, and no more.
    pub right: bool,
    /// Whether a mount gives it: nothing but the mount's options changes it.
    pub given: bool,
    /// How many there are.
    pub count: u64,
    /// The path, where each has a line of its own.
    pub path: Option<PathBuf>,
}

type LabelKey = (Option<usize>, Option<PathBuf>, Option<String>, Option<String>, String, bool, bool);

impl LabelLine {
    /// Whether a relabelling leaves what is to be.
    #[must_use]
    pub fn is_kept(&self) -> bool {
        let then = if self.right { self.now.as_deref() } else { Some(self.wanted.as_str()) };
        self.relabelled.is_none() || self.relabelled.as_deref() == then
    }
}

/// All labels of `site` in `phase`, by part; the most frequent first within a part, or, where `each` is asked for, path by path.
pub fn table(
    host: &Host,
    labels: &Labels,
    site: &Arc<Site>,
    phase: Phase,
    (each, threads): (bool, usize),
    progress: &Progress,
) -> Result<Vec<LabelLine>, SiteError> {
    let policy = Policy::new(Arc::clone(site), phase);
    let of_site = labels.of_site(site);
    let reader = || LabelReader { policy: &policy, labels: &of_site, rules: labels, each, found: BTreeMap::new() };
    let readers = (0..threads.max(1)).map(|_| reader()).collect();
    let mut all: BTreeMap<LabelKey, u64> = BTreeMap::new();
    for reader in walk_site(host, site, &policy, readers, progress)? {
        for (key, count) in reader.found {
            *all.entry(key).or_insert(0) += count;
        }
    }
    let line = |((part, path, now, relabelled, wanted, right, given), count)| LabelLine {
        part,
        now,
        relabelled,
        wanted,
        right,
        given,
        count,
        path,
    };
    let mut lines: Vec<LabelLine> = all.into_iter().map(line).collect();
    lines.sort_by_key(|line| (line.part, line.path.clone(), std::cmp::Reverse(line.count)));
    Ok(lines)
}

struct LabelReader<'r> {
    policy: &'r Policy,
    labels: &'r SiteLabels<'r>,
    rules: &'r Labels,
    /// Whether each path has a line of its own.
    each: bool,
    found: BTreeMap<LabelKey, u64>,
}

impl SiteVisitor for LabelReader<'_> {
    fn path(&mut self, spot: &SiteSpot<'_>) {
        let (context, kind) = (&spot.cursor.context, spot.facts.kind);
        if !context.is_managed() || !super::is_labelled(kind) {
            return;
        }
        let label = spot.facts.rights.label.as_ref();
        let right = self.labels.judge(self.policy, context, label, kind) == super::LabelVerdict::Right;
        let wanted = match label {
            Some(label) if right => label.type_name(),
            _ => self.labels.type_of(self.policy, context),
        };
        let real = spot.real_path();
        let given = spot.facts.label_given;
        let relabelled =
            self.rules.rules().map_or(&RuleAnswer::NoRule, |rules| rules.answer(real.as_os_str().as_bytes(), kind));
        let now = label.map(|label| label.type_name().to_owned());
        let relabelled = relabelled.type_name().filter(|_| !given).map(str::to_owned);
        let path = self.each.then(|| self.policy.site().relative(&spot.path()));
        let key = (context.part, path, now, relabelled, wanted.to_owned(), right, given);
        *self.found.entry(key).or_insert(0) += 1;
    }

    fn labels(&self) -> bool {
        true
    }
}
