//! The labels of one site: what each of its paths is to have, and what its label lets PHP do.

use std::collections::{BTreeSet, HashMap};
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use super::uses::Family;
use super::{
    Alike, Allowed, ByHand, CONTENT, Fit, Labels, Module, Need, RuleAnswer, UNIFIED, USUAL_DOMAIN, boolean, module,
    uses,
};
use crate::entry::Kind;
use crate::policy;
use crate::security_context::SecurityContext;
use crate::site::Site;

/// The labels of one site: what each of its paths is to have.
#[derive(Debug)]
pub struct SiteLabels<'l> {
    pub(super) labels: &'l Labels,
    /// The domain that its PHP runs in.
    pub domain: SecurityContext,
    /// Whether a process of it was seen.
    pub domain_seen: bool,
    /// The domain that its PHP really runs in, where that is none that confines it: what labels are for is judged by the usual one.
    pub unconfined: Option<SecurityContext>,
    pub(super) web: SecurityContext,
    /// Whether the policy lets PHP change all web content: then no type keeps it from code.
    pub(super) unified: bool,
    pub(super) family: Family,
    pub(super) types: Mutex<HashMap<(crate::site::Use, Need, bool), &'static str>>,
}

/// Whether labels of paths of this kind are judged and set.
pub(crate) const fn is_labelled(kind: Kind) -> bool {
    matches!(kind, Kind::File | Kind::Directory | Kind::Symlink)
}

/// What is to be said of a path's label.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LabelVerdict {
    /// It is as it should be, as far as that can be told.
    Right,
    /// There is none, or one that the policy does not know.
    Unknown,
    /// It keeps PHP from what the site needs.
    Blocks,
    /// It lets PHP do more.
    TooWide,
    /// Another type was asked for, or is known to be right.
    Other,
}

impl SiteLabels<'_> {
    /// The type that a path of this context is to have.
    #[must_use]
    pub fn type_of<'t>(&self, policy: &'t policy::Policy, context: &policy::Context) -> &'t str
    where
        Self: 't,
    {
        match policy.overrides(context).and_then(|o| o.selinux_type.as_deref()) {
            Some(type_name) => type_name,
            None => self.chosen(context),
        }
    }

    /// The first candidate that the policy has and that gives exactly what is needed; else the first that gives it and
    /// more; else the first that there is.
    fn chosen(&self, context: &policy::Context) -> &'static str {
        let need = Need::of(context);
        let web_reads = context.row.web > policy::Right::None;
        let key = (context.used_as, need, web_reads);
        let mut types = self.types.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = types.get(&key) {
            return known;
        }
        let candidates = uses::candidates(self.family, context.used_as, need);
        let known: Vec<&'static str> = candidates.iter().copied().filter(|name| self.labels.has_type(name)).collect();
        let fits = |exact: bool| {
            known.iter().copied().find(|name| {
                [Kind::File, Kind::Directory].into_iter().all(|kind| {
                    let label = SecurityContext::of_file(name, self.labels.state.multi_level);
                    let of_php = self.allows(&self.domain, &label, kind);
                    let web_ok = !web_reads
                        || self
                            .allows(&self.web, &label, kind)
                            .is_none_or(|a| Fit::of(&a, Need::Read, kind) != Fit::Blocks);
                    let php_ok = of_php.is_some_and(|allowed| {
                        let fits = Fit::of(&allowed, need, kind) == Fit::Exact;
                        fits && (!exact || uses::is_narrowest(&allowed, need, kind))
                    });
                    php_ok && web_ok
                })
            })
        };
        let first = known.first().or(candidates.first()).copied().unwrap_or(USUAL_DOMAIN);
        // Where a boolean widens them all, an odd type helps nothing: the boolean is what is to be told of.
        let usual = known.first().copied().filter(|_| self.unified && need == Need::Read);
        let chosen = usual.or_else(|| fits(true)).or_else(|| fits(false)).unwrap_or(first);
        types.insert(key, chosen);
        chosen
    }

    pub(super) fn allows(&self, domain: &SecurityContext, label: &SecurityContext, kind: Kind) -> Option<Allowed> {
        self.labels.kernel.as_ref()?.allows(domain, label, kind)
    }

    /// What PHP's domain may do with a label, compared with what the context needs; nothing where that cannot be told.
    #[must_use]
    pub fn fit(&self, context: &policy::Context, label: &SecurityContext, kind: Kind) -> Option<Fit> {
        let need = Need::of(context);
        let of_kind = |kind| self.allows(&self.domain, label, kind).map(|allowed| Fit::of(&allowed, need, kind));
        match kind {
            // What is made in a directory gets its label.
            Kind::Directory => Some(of_kind(kind)?.max(of_kind(Kind::File)?)),
            _ => of_kind(kind),
        }
    }

    /// Whether a label lets PHP rewrite what it is only to add to, and the type that a log is to have does not.
    fn is_wider(&self, context: &policy::Context, label: &SecurityContext, wanted: &str, kind: Kind) -> bool {
        let need = Need::of(context);
        let narrow = |label: &SecurityContext| {
            self.allows(&self.domain, label, kind).is_some_and(|allowed| uses::is_narrowest(&allowed, need, kind))
        };
        need == Need::Append && !narrow(label) && narrow(&label.with_type(wanted))
    }

    /// The judgement on a path's label.
    pub(crate) fn judge(
        &self,
        policy: &policy::Policy,
        context: &policy::Context,
        label: Option<&SecurityContext>,
        kind: Kind,
    ) -> LabelVerdict {
        let Some(label) = label else { return LabelVerdict::Unknown };
        let wanted = self.type_of(policy, context);
        let same = label.type_name() == wanted;
        let named = policy.overrides(context).is_some_and(|o| o.selinux_type.is_some());
        match self.fit(context, label, kind) {
            None if self.labels.kernel.as_ref().is_some_and(|kernel| !kernel.is_valid(label)) => LabelVerdict::Unknown,
            None if same => LabelVerdict::Right,
            None => LabelVerdict::Other,
            Some(Fit::Blocks) => LabelVerdict::Blocks,
            // No other type is narrower: that the policy is wide is told of by itself.
            Some(Fit::TooWide) if same && !named => LabelVerdict::Right,
            Some(Fit::TooWide) => LabelVerdict::TooWide,
            Some(Fit::Exact) if named && !same => LabelVerdict::Other,
            Some(Fit::Exact) if !same && self.is_wider(context, label, wanted, kind) => LabelVerdict::TooWide,
            Some(Fit::Exact) => LabelVerdict::Right,
        }
    }

    /// The label that `set` gives a path; what it has where that is right.
    #[must_use]
    pub fn wanted(
        &self,
        policy: &policy::Policy,
        context: &policy::Context,
        label: Option<&SecurityContext>,
        kind: Kind,
    ) -> Option<SecurityContext> {
        let right = label.filter(|label| self.judge(policy, context, Some(label), kind) == LabelVerdict::Right);
        if let Some(label) = right {
            let whole = SecurityContext::of_file(label.type_name(), self.labels.state.multi_level);
            return Some(if self.labels.whole { whole } else { label.clone() });
        }
        let type_name = self.type_of(policy, context);
        let known = label.filter(|label| self.labels.kernel.as_ref().is_none_or(|kernel| kernel.is_valid(label)));
        Some(match known {
            Some(label) if !self.labels.whole => label.with_type(type_name),
            _ => SecurityContext::of_file(type_name, self.labels.state.multi_level),
        })
    }

    /// The module that makes the site's labels last; `real` tells where a path that the site file names really is.
    #[must_use]
    pub fn module(&self, site: &std::sync::Arc<Site>, real: &dyn Fn(&Path) -> PathBuf) -> Option<Module> {
        Module::of(self.labels, self, &module::sealed(site), real)
    }

    /// What a relabelling makes of everything below a directory, where that is the same for all names.
    #[must_use]
    pub fn below(&self, dir: &Path) -> Option<Alike> {
        self.labels.rules.as_ref()?.below(dir.as_os_str().as_bytes())
    }

    /// What a relabelling would make of a path from `/` on, where that is another type than the one that it has and is
    /// to have; `alike` is what it makes of all in its directory, where that is known.
    #[must_use]
    pub fn relabelled(
        &self,
        alike: Option<Alike>,
        path: impl FnOnce() -> PathBuf,
        label: &SecurityContext,
        kind: Kind,
    ) -> Option<&RuleAnswer> {
        let rules = self.labels.rules.as_ref()?;
        let known = alike.and_then(|alike| rules.answer_below(alike, kind));
        let answer = known.unwrap_or_else(|| rules.answer(path().as_os_str().as_bytes(), kind));
        let another = answer.type_name().is_some_and(|name| name != label.type_name());
        (another && !rules.is_customizable(label.type_name())).then_some(answer)
    }

    /// PHP's domain, where the policy is only logged for it, and what puts that right.
    #[must_use]
    pub(crate) fn permissive_domain(&self) -> Option<ByHand> {
        let label = SecurityContext::of_file(CONTENT, self.labels.state.multi_level);
        let permissive = self.allows(&self.domain, &label, Kind::File).is_some_and(|allowed| allowed.permissive);
        let domain = self.domain.type_name();
        let says = || format!("PHP's domain {domain} is permissive");
        permissive.then(|| ByHand { says: says(), cure: format!("semanage permissive -d {domain}") })
    }

    /// What the policy lets PHP do besides what the site's labels are for: change all content, run what it writes.
    pub(crate) fn widened(&self, policy: &policy::Policy) -> Vec<ByHand> {
        let off = |name: &str| boolean::command(name, false);
        let mut found = Vec::new();
        if self.unified && self.labels.widening.contains(&UNIFIED) {
            let says = format!("{UNIFIED} is on: PHP may change web content of any type");
            found.push(ByHand { says, cure: off(UNIFIED) });
        } else if self.unified {
            let says = format!("PHP may change files of {CONTENT}, which are for reading");
            found.push(ByHand {
                says,
                cure: "no boolean is known for it: see which module allows it (sesearch -A)".into(),
            });
        }
        let parts = policy.site().parts.iter().enumerate().map(|(number, _)| policy.context_of(number));
        let written = parts.filter(|context| context.is_managed() && context.row.php == policy::Right::Write);
        let types: BTreeSet<String> = written.map(|context| self.type_of(policy, &context).to_owned()).collect();
        let runs = |type_name: &&String| {
            let label = SecurityContext::of_file(type_name, self.labels.state.multi_level);
            let allowed = self.allows(&self.domain, &label, Kind::File);
            allowed.is_some_and(|allowed| allowed.all(&["execute", "execute_no_trans"]))
        };
        let run: Vec<&str> = types.iter().filter(runs).map(String::as_str).collect();
        if !run.is_empty() {
            let run = run.join(", ");
            found.push(match &self.labels.widening[..] {
                [name] => ByHand {
                    says: format!("{name} is on: PHP may run files of {run}, which it writes"),
                    cure: off(name),
                },
                // Which of them it is the kernel does not tell.
                [_, _, ..] => {
                    let on = &self.labels.widening;
                    let each: Vec<String> = on.iter().map(|name| off(name)).collect();
                    ByHand {
                        says: format!("PHP may run files of {run}, which it writes ({} are on)", on.join(", ")),
                        cure: format!("switch off what the application does not need: {}", each.join("; ")),
                    }
                }
                [] => ByHand {
                    says: format!("PHP may run files of {run}, which it writes"),
                    cure: "no boolean is known for it: keep what PHP writes on a file system that is mounted noexec"
                        .into(),
                },
            });
        }
        found
    }
}
