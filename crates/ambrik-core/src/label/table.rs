//! The labels of a whole site side by side: what paths have, what a relabelling would give them, what they are to have.

use std::collections::BTreeMap;
use std::ffi::CStr;
use std::path::Path;
use std::sync::Arc;

use super::{Labels, RuleAnswer, SiteLabels};
use crate::entry::{Facts, Kind};
use crate::policy::{Cursor, Policy};
use crate::site::{Phase, Site};
use crate::starts::{SiteError, places};
use crate::tree::{Dir, Host, Look, Progress, Trouble, Visitor, walk};

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
    /// How many there are.
    pub count: u64,
}

type LabelKey = (Option<usize>, Option<String>, Option<String>, String, bool);

/// All labels of `site` in `phase`, by part; the most frequent first within a part.
pub fn table(
    host: &Host,
    labels: &Labels,
    site: &Arc<Site>,
    phase: Phase,
    threads: usize,
    progress: &Progress,
) -> Result<Vec<LabelLine>, SiteError> {
    let policy = Policy::new(Arc::clone(site), phase);
    let of_site = labels.of_site(site);
    let reader = || LabelReader { policy: &policy, labels: &of_site, rules: labels, found: BTreeMap::new() };
    let mut readers: Vec<LabelReader<'_>> = (0..threads.max(1)).map(|_| reader()).collect();
    let mut dirs = Vec::new();
    for (path, resolved) in places(host, site)? {
        let cursor = policy.at(&path);
        if let Some(first) = readers.first_mut() {
            first.add(&cursor, &resolved.path, &resolved.facts);
        }
        if resolved.facts.kind == Kind::Directory {
            let real = (path != resolved.path).then(|| (path.as_path().into(), resolved.path.into()));
            dirs.push((resolved.handle, Arc::new(Dir::top(&path, resolved.facts.id, LabelledDir { cursor, real }))));
        }
    }
    let mut all: BTreeMap<LabelKey, u64> = BTreeMap::new();
    for reader in walk(dirs, readers, progress).visitors {
        for (key, count) in reader.found {
            *all.entry(key).or_insert(0) += count;
        }
    }
    let line =
        |((part, now, relabelled, wanted, right), count)| LabelLine { part, now, relabelled, wanted, right, count };
    let mut lines: Vec<LabelLine> = all.into_iter().map(line).collect();
    lines.sort_by_key(|line| (line.part, std::cmp::Reverse(line.count)));
    Ok(lines)
}

struct LabelledDir {
    cursor: Arc<Cursor>,
    /// The start's path and where it really is, where these differ.
    real: Option<(Arc<Path>, Arc<Path>)>,
}

struct LabelReader<'r> {
    policy: &'r Policy,
    labels: &'r SiteLabels<'r>,
    rules: &'r Labels,
    found: BTreeMap<LabelKey, u64>,
}

impl LabelReader<'_> {
    fn add(&mut self, cursor: &Cursor, real: &Path, facts: &Facts) {
        let context = &cursor.context;
        if !context.is_managed() || !super::is_labelled(facts.kind) {
            return;
        }
        let label = facts.rights.label.as_ref();
        let right = self.labels.judge(self.policy, context, label, facts.kind) == super::Verdict::Right;
        let wanted = match label {
            Some(label) if right => label.type_name(),
            _ => self.labels.type_of(self.policy, context),
        };
        let relabelled = self.rules.rules().map_or(&RuleAnswer::NoRule, |rules| {
            rules.answer(std::os::unix::ffi::OsStrExt::as_bytes(real.as_os_str()), facts.kind)
        });
        let owned = |name: &str| name.to_owned();
        let now = label.map(|label| owned(label.type_name()));
        let key = (context.part, now, relabelled.type_name().map(owned), owned(wanted), right);
        *self.found.entry(key).or_insert(0) += 1;
    }
}

impl Visitor for LabelReader<'_> {
    type Data = LabelledDir;

    fn entry(&mut self, dir: &Arc<Dir<LabelledDir>>, look: &Look<'_>, facts: &Facts) -> Option<LabelledDir> {
        let cursor = self.policy.enter(&dir.data.cursor, look.os_name(), facts.mounted)?;
        let path = dir.path_of(look.name);
        let moved = dir.data.real.as_ref().and_then(|(start, real)| Some(real.join(path.strip_prefix(start).ok()?)));
        self.add(&cursor, moved.as_deref().unwrap_or(&path), facts);
        let enters = facts.kind == Kind::Directory && (cursor.context.ours || cursor.leads_on());
        enters.then(|| LabelledDir { cursor, real: dir.data.real.clone() })
    }

    fn trouble(&mut self, _dir: &Arc<Dir<LabelledDir>>, _name: Option<&CStr>, _trouble: Trouble) {
        // The audit tells what could not be looked at.
    }
}
