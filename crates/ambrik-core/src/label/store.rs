//! The host's policy store, reached through the operating system's own command for it (`semodule(8)`).

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::State;
use crate::shown::Shown;
use crate::tree::Host;

const COMMAND: &str = "semodule";
/// Where the command is looked for, whatever the environment says.
pub(super) const SEARCHED: &str = "/usr/sbin:/usr/bin:/sbin:/bin";

/// A policy store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Store {
    policy: String,
    /// The folder that stands for the host's `/`, where it is not this one: its policy is built and not loaded.
    root: Option<PathBuf>,
}

impl Store {
    /// The store of a host's policy; nothing where there is none, or nothing that could change it.
    #[must_use]
    pub fn of(host: &Host, state: &State) -> Option<Self> {
        let policy = state.policy.clone().filter(|_| state.installed)?;
        host.resolve(&Path::new("/var/lib/selinux").join(&policy).join("active")).ok()?;
        let found = SEARCHED.split(':').any(|folder| Path::new(folder).join(COMMAND).exists());
        // The system's command follows links: in an image they may lead anywhere.
        let folders = [Path::new("/var/lib/selinux").join(&policy), Path::new("/etc/selinux").join(&policy)];
        if !host.is_this() && !folders.iter().all(|folder| host.holds_no_links(folder)) {
            return None;
        }
        let root = (!host.is_this()).then(|| host.root().to_owned());
        found.then_some(Self { policy, root })
    }

    /// Installs a module, or puts it in the place of the one that has its name. `file` ends in `NAME.cil`.
    ///
    /// Errors: what the command said.
    pub fn install(&self, file: &Path) -> Result<(), String> {
        self.run(&["-i".as_ref(), file.as_os_str()])
            .map(drop)
            .map_err(|said| format!("cannot install {}: {said}", Shown(file)))
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
        let listed = self.run(&["-l".as_ref()]).map_err(|said| format!("cannot list the policy's modules: {said}"))?;
        Ok(listed.lines().any(|line| line.split_whitespace().next() == Some(name)))
    }

    fn run(&self, arguments: &[&std::ffi::OsStr]) -> Result<String, String> {
        let mut command = Command::new(COMMAND);
        command.env_clear().env("PATH", SEARCHED).env("LC_ALL", "C").stdin(Stdio::null());
        command.args(["-s", &self.policy]);
        if let Some(root) = &self.root {
            command.arg("-n").arg("-p").arg(root);
        }
        let output = command.args(arguments).output().map_err(|cause| format!("cannot run {COMMAND}: {cause}"))?;
        if output.status.success() {
            return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
        }
        // It warns of much that does no harm; what stopped it comes last.
        let said = String::from_utf8_lossy(&output.stderr);
        let lines: Vec<&str> = said.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
        Err(lines[lines.len().saturating_sub(4)..].join("; "))
    }
}
