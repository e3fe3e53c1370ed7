//! SELinux labels: what the host has, what a part's label must be, what the kernel would let PHP do with it, and what a
//! relabelling of the system would make of it.

pub mod boolean;
mod by_hand;
mod kernel;
mod module;
mod rules;
mod state;
mod store;
mod table;
mod uses;

use std::collections::{BTreeSet, HashMap};
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

pub(crate) use by_hand::OnTheWay;
pub use kernel::{Allowed, Kernel};
pub use module::{Against, LocalRule, Module, ModuleProbe, module_name};
pub use rules::{Alike, RuleAnswer, Rules, RulesError};
pub use state::{Protection, State};
pub use store::Store;
pub use table::{LabelLine, table};
use uses::Family;
pub use uses::{Fit, Need};

use crate::account::Uid;
use crate::entry::Kind;
use crate::host::{Role, domains};
use crate::nearest::nearest;
use crate::policy;
use crate::security_context::SecurityContext;
use crate::site::{Part, Problem, Problems, Site, Switch};
use crate::tree::Host;

/// The domain that web servers and PHP run in by the trade's common policy, where no process is there to ask.
const USUAL_DOMAIN: &str = "httpd_t";
/// The usual type of what it only reads.
const CONTENT: &str = "httpd_sys_content_t";

/// Domains that confine nothing: of what was started from a login, or by no unit that the policy knows.
pub(crate) const UNCONFINED: &[&str] = &["unconfined_t", "unconfined_service_t", "initrc_t"];
/// The domain of what runs in a container.
const CONTAINER: &str = "container_t";
/// The boolean that makes all web content one.
const UNIFIED: &str = "httpd_unified";
/// Why nothing can be made to last.
const NO_COMMAND: &str = "this host has no command that changes its policy (semodule, semanage)";
/// Booleans that let PHP run what it can write.
const EXECUTING: &[&str] = &["httpd_tmp_exec", UNIFIED, "httpd_enable_cgi"];

/// SELinux on one host.
#[derive(Debug)]
pub struct Labels {
    /// Whether it protects.
    pub state: State,
    kernel: Option<Kernel>,
    rules: Option<Rules>,
    /// Role, uid and domain of the services that run.
    domains: Vec<(Role, Uid, SecurityContext)>,
    /// Why the rules cannot be used.
    pub problem: Option<String>,
    /// Whether answers are those of an enforcing host, though it is permissive.
    pub as_enforcing: bool,
    /// Whether `set` also gives user, role and level what files of the system have.
    pub whole: bool,
    /// The policy store, and what changes it.
    store: Option<Store>,
    /// The booleans that the loaded policy has; none where the host does not tell.
    booleans: Vec<String>,
    /// Those that are on of the booleans that widen what PHP may do with files.
    widening: Vec<&'static str>,
}

/// What is wrong, and what a person must do about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ByHand {
    pub(crate) says: String,
    pub(crate) cure: String,
}

/// How a site's labels are made to last.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Lasting {
    /// By a policy module.
    Module,
    /// By local rules: others of the host's would beat a module's.
    LocalRules,
    /// Only by hand: here is no command that changes the policy, and why.
    ByHand(&'static str),
}

impl Labels {
    /// SELinux on `host`; one that does not use it has a state, and nothing more.
    #[must_use]
    pub fn of(host: &Host) -> Self {
        let state = State::of(host);
        if !state.is_used() {
            return Self {
                state,
                kernel: None,
                rules: None,
                domains: Vec::new(),
                problem: None,
                as_enforcing: false,
                whole: false,
                store: None,
                booleans: Vec::new(),
                widening: Vec::new(),
            };
        }
        let rules = state.rules_folder().map_or(Ok(None), |folder| Rules::read(host, &folder));
        let (rules, problem) = match rules {
            Ok(rules) => (rules, None),
            Err(error) => (None, Some(error.to_string())),
        };
        Self {
            kernel: Kernel::of(host),
            rules,
            domains: domains(host),
            store: Store::of(host, &state),
            booleans: boolean::names(host),
            widening: EXECUTING.iter().copied().filter(|name| boolean::is_on(host, name) == Some(true)).collect(),
            state,
            problem,
            as_enforcing: false,
            whole: false,
        }
    }

    /// Whether labels are judged and set on this host: it uses them, and its rules, or its kernel, tell which there are.
    #[must_use]
    pub const fn are_managed(&self) -> bool {
        self.kernel.is_some() || self.rules.is_some()
    }

    /// The host's rules.
    #[must_use]
    pub const fn rules(&self) -> Option<&Rules> {
        self.rules.as_ref()
    }

    /// The host's kernel.
    #[must_use]
    pub const fn kernel(&self) -> Option<&Kernel> {
        self.kernel.as_ref()
    }

    /// The host's policy store, where it can be changed.
    #[must_use]
    pub const fn store(&self) -> Option<&Store> {
        self.store.as_ref()
    }

    /// How a site's labels are made to last here.
    #[must_use]
    pub fn lasting(&self, module: &Module) -> Lasting {
        let Some(store) = &self.store else {
            return Lasting::ByHand(NO_COMMAND);
        };
        match (module.against.is_empty(), store.modules, store.local_rules) {
            (true, true, _) => Lasting::Module,
            (_, _, true) => Lasting::LocalRules,
            (false, ..) => Lasting::ByHand(
                "other rules of this host beat a module's, and semanage is not there to write local ones",
            ),
            (true, false, false) => Lasting::ByHand(NO_COMMAND),
        }
    }

    /// Whether the host's policy has a type: by its kernel, else by its rules.
    #[must_use]
    pub fn has_type(&self, type_name: &str) -> bool {
        let context = SecurityContext::of_file(type_name, self.state.multi_level);
        match (&self.kernel, &self.rules) {
            (Some(kernel), _) => kernel.is_valid(&context),
            (None, Some(rules)) => rules.mentions(type_name),
            (None, None) => false,
        }
    }

    /// The domain that the service of an account runs in, and whether that was seen.
    #[must_use]
    pub fn domain(&self, role: Role, uid: Uid) -> (SecurityContext, bool) {
        let seen = self.domains.iter().find(|(of, account, _)| (*of, *account) == (role, uid));
        if let Some((_, _, domain)) = seen {
            return (domain.clone(), true);
        }
        (SecurityContext::of_domain(USUAL_DOMAIN, self.state.multi_level), false)
    }

    /// The types that a site file names and this host's policy does not have.
    ///
    /// Errors: each of them, with its line.
    pub fn check_types(&self, site: &Site) -> Result<(), Problems> {
        if !self.are_managed() {
            return Ok(());
        }
        let named = site.parts.iter().filter_map(|part| Some((part, part.overrides.selinux_type.as_deref()?)));
        let unknown = named.filter(|(_, type_name)| !self.has_type(type_name));
        let mut problems: Vec<Problem> = unknown
            .map(|(part, type_name)| Problem {
                file: part.file.clone(),
                line: part.line,
                column: 1,
                what: format!("part {}: type = \"{type_name}\" is no type of this host's policy", part.shown),
                right: "name one that it has (`seinfo -t` or the policy's documentation lists them), or leave it out"
                    .into(),
            })
            .collect();
        problems.extend(self.useless_types(site));
        problems.extend(site.switches.iter().filter_map(|switch| self.unknown_boolean(switch)));
        if problems.is_empty() { Ok(()) } else { Err(Problems { list: problems }) }
    }

    /// The types that a site file names and that do not let PHP do there what the part is for; one that a boolean governs may
    /// wait for that.
    fn useless_types(&self, site: &Site) -> Vec<Problem> {
        let site = Arc::new(site.clone());
        let policy = module::sealed(&site);
        let labels = self.of_site(&site);
        let named = site.parts.iter().enumerate().filter_map(|(number, part)| {
            Some((number, part, part.overrides.selinux_type.as_deref().filter(|name| self.has_type(name))?))
        });
        let blocks = |context: &policy::Context, type_name: &str| {
            let label = SecurityContext::of_file(type_name, self.state.multi_level);
            labels.fit(context, &label, Kind::File) == Some(Fit::Blocks) && !boolean::governs_type(type_name)
        };
        let useless = named.filter(|(number, _, type_name)| blocks(&policy.context_of(*number), type_name));
        let problem = |(_, part, type_name): (usize, &Part, &str)| Problem {
            file: part.file.clone(),
            line: part.line,
            column: 1,
            what: format!(
                "part {}: type = \"{type_name}\" does not let {} do there what use = \"{}\" is for",
                part.shown,
                labels.domain.type_name(),
                part.used_as
            ),
            right: "leave type out, and the usual one is taken (ambrik audit --labels shows it)".into(),
        };
        useless.map(problem).collect()
    }

    /// What is to be said of a boolean that the site file names and this host's policy does not have.
    fn unknown_boolean(&self, switch: &Switch) -> Option<Problem> {
        let Switch { name, file, line } = switch;
        if self.booleans.is_empty() || self.booleans.contains(name) {
            return None;
        }
        let near = nearest(name, self.booleans.iter().map(String::as_str));
        let right = near.map_or_else(
            || "name one that it has (getsebool -a lists them), or leave it out".to_owned(),
            |near| format!("it has \"{near}\": write that (getsebool -a lists them all)"),
        );
        let what = format!("[selinux] switches: \"{name}\" is no SELinux boolean of this host's policy");
        Some(Problem { file: file.clone(), line: *line, column: 1, what, right })
    }

    /// Whether a domain may change what has the usual type of web content.
    fn may_change_content(&self, domain: &SecurityContext) -> bool {
        let content = SecurityContext::of_file(CONTENT, self.state.multi_level);
        let allowed = self.kernel.as_ref().and_then(|kernel| kernel.allows(domain, &content, Kind::File));
        allowed.is_some_and(|allowed| Fit::of(&allowed, Need::Read, Kind::File) == Fit::TooWide)
    }

    /// The labels of one site.
    #[must_use]
    pub fn of_site(&self, site: &Site) -> SiteLabels<'_> {
        let (seen, domain_seen) = self.domain(Role::Php, site.php.ids.uid);
        let (domain, unconfined) = if UNCONFINED.contains(&seen.type_name()) {
            (SecurityContext::of_domain(USUAL_DOMAIN, self.state.multi_level), Some(seen))
        } else {
            (seen, None)
        };
        let (web, _) = self.domain(Role::Web, site.web.ids.uid);
        let unified = self.may_change_content(&domain);
        let given = self.rules.as_ref().map(|rules| rules.answer(site.root.as_os_str().as_bytes(), Kind::Directory));
        let family = match given.and_then(RuleAnswer::type_name) {
            _ if domain.type_name() == CONTAINER => Family::Container,
            Some(type_name) if type_name.starts_with("httpd_user_") => Family::Home,
            _ => Family::System,
        };
        SiteLabels { labels: self, domain, domain_seen, unconfined, web, unified, family, types: Mutex::default() }
    }
}

/// The labels of one site: what each of its paths is to have.
#[derive(Debug)]
pub struct SiteLabels<'l> {
    labels: &'l Labels,
    /// The domain that its PHP runs in.
    pub domain: SecurityContext,
    /// Whether a process of it was seen.
    pub domain_seen: bool,
    /// The domain that its PHP really runs in, where that is none that confines it: what labels are for is judged by the usual one.
    pub unconfined: Option<SecurityContext>,
    web: SecurityContext,
    /// Whether the policy lets PHP change all web content: then no type keeps it from code.
    unified: bool,
    family: Family,
    types: Mutex<HashMap<(crate::site::Use, Need, bool), &'static str>>,
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

    fn allows(&self, domain: &SecurityContext, label: &SecurityContext, kind: Kind) -> Option<Allowed> {
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
