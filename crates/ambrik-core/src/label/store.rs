//! The host's policy store, reached through the operating system's own command for it (`semodule(8)`).

use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::State;
use super::module::{LocalRule, mark, module_name};
use crate::shown::Shown;
use crate::tree::Host;

const MODULES: &str = "semodule";
const LOCAL_RULES: &str = "semanage";
/// Where commands are looked for, whatever the environment says.
pub(super) const SEARCHED: &str = "/usr/sbin:/usr/bin:/sbin:/bin";

/// A policy store, and the system's commands that change it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Store {
    policy: String,
    /// The folder that stands for the host's `/`, where it is not this one: its policy is built and not loaded.
    root: Option<PathBuf>,
    /// Whether modules can be installed.
    pub modules: bool,
    /// Whether local rules can be written.
    pub local_rules: bool,
}

impl Store {
    /// The store of a host's policy; nothing where there is none, or nothing that could change it.
    #[must_use]
    pub fn of(host: &Host, state: &State) -> Option<Self> {
        let policy = state.policy.clone().filter(|_| state.installed)?;
        // Where it was until 2014, and in images: below the policy itself (`semanage.conf(5)`, store-root).
        let stores = [Path::new("/var/lib/selinux").join(&policy), Path::new("/etc/selinux").join(&policy)];
        let has_store = stores.iter().any(|store| host.resolve(&store.join("active")).is_ok());
        let found = |command: &str| SEARCHED.split(':').any(|folder| Path::new(folder).join(command).exists());
        // The system's command follows links: in an image they may lead anywhere.
        if !has_store || (!host.is_this() && !stores.iter().all(|folder| host.holds_no_links(folder))) {
            return None;
        }
        let root = (!host.is_this()).then(|| host.root().to_owned());
        let (modules, local_rules) = (found(MODULES), found(LOCAL_RULES) && root.is_none());
        (modules || local_rules).then_some(Self { policy, root, modules, local_rules })
    }

    /// Installs a module, or puts it in the place of the one that has its name. `file` ends in `NAME.cil`.
    ///
    /// Errors: what the command said.
    pub fn install(&self, file: &Path) -> Result<(), String> {
        self.run(&["-i".as_ref(), file.as_os_str()])
            .map(drop)
            .map_err(|said| format!("cannot install {}: {said}", Shown(file)))
    }

    /// The name and the text of the module that a site has in the store; with no text, the first name that is nobody's.
    ///
    /// Errors: what the command said.
    pub fn of_site(&self, site: &str) -> Result<(String, Option<String>), String> {
        let listed = self.listed()?;
        let names = std::iter::once(String::new()).chain((2..).map(|number: u32| format!("_{number}")));
        for name in names.map(|end| format!("{}{end}", module_name(site))) {
            if !listed.contains(&name) {
                return Ok((name, None));
            }
            let text = self.text(&name)?;
            if text.starts_with(&mark(site)) {
                return Ok((name, Some(text)));
            }
        }
        Err(format!("no name is left for the module of {site}"))
    }

    /// The text of a module that is installed; nothing where there is none of this name.
    ///
    /// Errors: what the command said.
    pub fn installed(&self, name: &str) -> Result<Option<String>, String> {
        if self.has(name)? { self.text(name).map(Some) } else { Ok(None) }
    }

    fn text(&self, name: &str) -> Result<String, String> {
        let failed = |said: String| format!("cannot read the module {name}: {said}");
        let folder = tempfile::tempdir().map_err(|cause| failed(cause.to_string()))?;
        let mut command = self.command();
        command.current_dir(folder.path()).args(["--cil", "-E", name]);
        Self::output(command).map_err(failed)?;
        std::fs::read_to_string(folder.path().join(format!("{name}.cil"))).map_err(|cause| failed(cause.to_string()))
    }

    /// Writes and removes local file-context rules, in this order: lines `EXPRESSION TAB KIND TAB TYPE` as
    /// [`super::module::Module::local`] has them.
    ///
    /// Errors: what the command said.
    pub fn change_local_rules(&self, remove: &[LocalRule], add: &[LocalRule]) -> Result<(), String> {
        let gone = remove.iter().map(|rule| format!("fcontext -d -f {} '{}'\n", rule.kind, rule.expression));
        let made = add
            .iter()
            .map(|rule| format!("fcontext -a -f {} -t '{}' '{}'\n", rule.kind, rule.type_name, rule.expression));
        let input: String = gone.chain(made).collect();
        let mut command = Command::new(LOCAL_RULES);
        command.env_clear().env("PATH", SEARCHED).env("LC_ALL", "C").args(["-S", &self.policy, "import"]);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().map_err(|cause| format!("cannot run {LOCAL_RULES}: {cause}"))?;
        if let Some(mut stdin) = child.stdin.take() {
            stdin.write_all(input.as_bytes()).map_err(|cause| format!("cannot write to {LOCAL_RULES}: {cause}"))?;
        }
        let output = child.wait_with_output().map_err(|cause| format!("cannot run {LOCAL_RULES}: {cause}"))?;
        if output.status.success() { Ok(()) } else { Err(said(&output.stderr)) }
    }

    /// Removes a module; one that is not there is no error.
    ///
    /// Errors: what the command said.
    pub fn remove(&self, name: &str) -> Result<(), String> {
        if !self.has(name)? {
            return Ok(());
        }
        self.run(&["-r".as_ref(), name.as_ref()]).map(drop).map_err(|said| format!("cannot remove {name}: {said}"))
    }

    /// Whether a module of this name is installed.
    ///
    /// Errors: what the command said.
    pub fn has(&self, name: &str) -> Result<bool, String> {
        Ok(self.listed()?.iter().any(|listed| listed == name))
    }

    fn listed(&self) -> Result<Vec<String>, String> {
        let listed = self.run(&["-l".as_ref()]).map_err(|said| format!("cannot list the policy's modules: {said}"))?;
        Ok(listed.lines().filter_map(|line| line.split_whitespace().next().map(str::to_owned)).collect())
    }

    fn command(&self) -> Command {
        let mut command = Command::new(MODULES);
        command.env_clear().env("PATH", SEARCHED).env("LC_ALL", "C").stdin(Stdio::null());
        command.args(["-s", &self.policy]);
        if let Some(root) = &self.root {
            command.arg("-n").arg("-p").arg(root);
        }
        command
    }

    fn run(&self, arguments: &[&std::ffi::OsStr]) -> Result<String, String> {
        let mut command = self.command();
        command.args(arguments);
        Self::output(command)
    }

    fn output(mut command: Command) -> Result<String, String> {
        let output = command.output().map_err(|cause| format!("cannot run {MODULES}: {cause}"))?;
        if output.status.success() {
            return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
        }
        Err(said(&output.stderr))
    }
}

/// What a command said of why it failed: it warns of much that does no harm, and what stopped it comes last.
fn said(stderr: &[u8]) -> String {
    let said = String::from_utf8_lossy(stderr);
    let lines: Vec<&str> = said.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
    lines[lines.len().saturating_sub(4)..].join("; ")
}
