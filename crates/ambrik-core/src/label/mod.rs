//! SELinux labels: what the host has, what a part's label must be, what the kernel would let PHP do with it, and what a
//! relabelling of the system would make of it.

pub mod boolean;
mod by_hand;
mod kernel;
mod module;
mod rules;
mod site_labels;
mod state;
mod store;
mod table;
mod uses;

use std::os::unix::ffi::OsStrExt as _;
use std::sync::{Arc, Mutex};

pub(crate) use by_hand::OnTheWay;
pub use kernel::{Allowed, Kernel};
pub use module::{Against, LocalRule, Module, ModuleProbe, module_name};
pub use rules::{Alike, RuleAnswer, Rules, RulesError};
pub use site_labels::SiteLabels;
pub(crate) use site_labels::{LabelVerdict, is_labelled};
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
