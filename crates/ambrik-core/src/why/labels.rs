//! What a label adds to an answer: the kernel asks the modes first, and then the policy.

use super::judge::{AccessJudge, OwnStep};
use super::{Act, Subject, WhySetting};
use crate::entry::{Facts, Kind};
use crate::label::Protection;
use crate::security_context::SecurityContext as Label;

/// What the policy must allow for this, on something of this kind.
const fn permissions(act: Act, kind: Kind) -> &'static [&'static str] {
    match (act, kind) {
        (Act::Search, _) => &["search"],
        (Act::Read, Kind::Directory) => &["read", "open"],
        (Act::Read, _) => &["read", "open", "getattr"],
        (Act::Write, Kind::Directory) => &["write"],
        (Act::Write, _) => &["write", "open"],
        (Act::Execute, _) => &["execute"],
        (Act::Create, _) => &["search", "write", "add_name"],
        (Act::Delete, Kind::Directory) => &["search", "write", "remove_name"],
        (Act::Delete, _) => &["unlink"],
        (Act::Follow, _) => &["read"],
        (Act::Find, _) => &[],
    }
}

/// What the label of something says to an act of a subject; nothing where it allows it, or says nothing.
///
/// The answer is whether that counts, and the words: where the policy is only logged it does not.
pub(super) fn refuses(setting: WhySetting<'_>, subject: &Subject, facts: &Facts, act: Act) -> Option<(bool, String)> {
    let (labels, domain) = (setting.labels?, subject.domain.as_ref()?);
    let (kernel, label) = (labels.kernel()?, facts.rights.label.as_ref()?);
    let allowed = kernel.allows(domain, label, facts.kind);
    // What is made in a directory gets its label.
    let child = (act == Act::Create).then(|| kernel.allows(domain, label, Kind::File)).flatten();
    let given = allowed.as_ref().is_some_and(|allowed| allowed.all(permissions(act, facts.kind)))
        && child.as_ref().is_none_or(|child| child.all(&["create"]));
    if given {
        return None;
    }
    let permissive = allowed.as_ref().is_some_and(|allowed| allowed.permissive);
    let counts = labels.as_enforcing || (labels.state.now == Protection::Enforcing && !permissive);
    let adds = act == Act::Write && allowed.is_some_and(|allowed| allowed.all(&["append", "open"]));
    Some((counts, words(label, domain, if adds { "overwrite it, only add to it" } else { act.word() }, counts)))
}

/// Whether the label of something stops an act, as far as that counts.
pub(super) fn stops(setting: WhySetting<'_>, subject: &Subject, facts: &Facts, act: Act) -> bool {
    refuses(setting, subject, facts, act).is_some_and(|(counts, _)| counts)
}

impl AccessJudge<'_> {
    /// What the label of something says to this: see [`refuses`].
    pub(super) fn label_refuses(&self, facts: &Facts, act: Act) -> Option<(bool, String)> {
        refuses(self.setting, &self.subject, facts, act)
    }

    /// The step for a label that refuses.
    pub(super) fn label_step(&self, facts: &Facts, act: Act, of: Act, above: bool) -> Option<OwnStep> {
        let (counts, says) = self.label_refuses(facts, act)?;
        Some(OwnStep { above, act: of, says: says.into(), allows: Some(!counts) })
    }
}

fn words(label: &Label, domain: &Label, act: &str, counts: bool) -> String {
    let (label, domain) = (label.type_name(), domain.type_name());
    let tail = if counts { "" } else { " (only logged: it is permissive)" };
    format!("its SELinux label {label} does not let {domain} {act}{tail}")
}
