//! The host's policy store, reached through the operating system's own command for it (`semodule(8)`).

use std::io::{Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::State;
use super::module::{LocalRule, mark, module_name};
use crate::shown::Shown;
use crate::tree::{Host, WayError};

const MODULES: &str = "semodule";
const LOCAL_RULES: &str = "semanage";
/// Where commands are looked for, whatever the environment says.
pub(super) const SEARCHED: &str = "/usr/sbin:/usr/bin:/sbin:/bin";

/// A policy store, and the system's commands that change it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Store {
    policy: String,
    /// Where it keeps its modules, from the host's `/` on.
    folder: PathBuf,
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
        let store = stores.iter().find(|store| host.resolve(&store.join("active")).is_ok());
        let found = |command: &str| SEARCHED.split(':').any(|folder| Path::new(folder).join(command).exists());
        // The system's command follows links: in an image they may lead anywhere.
        let folder = store?.join("active/modules");
        if !host.is_this() && !stores.iter().all(|folder| host.holds_no_links(folder)) {
            return None;
        }
        let root = (!host.is_this()).then(|| host.root().to_owned());
        let (modules, local_rules) = (found(MODULES), found(LOCAL_RULES) && root.is_none());
        (modules || local_rules).then_some(Self { policy, folder, root, modules, local_rules })
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
    /// Errors: what cannot be read of the store.
    pub fn of_site(&self, host: &Host, site: &str) -> Result<(String, Option<String>), String> {
        let names = std::iter::once(String::new()).chain((2..1_000).map(|number: u32| format!("_{number}")));
        for name in names.map(|end| format!("{}{end}", module_name(site))) {
            match self.installed(host, &name)? {
                None => return Ok((name, None)),
                Some(text) if text.starts_with(&mark(site)) => return Ok((name, Some(text))),
                Some(_) => {}
            }
        }
        Err(format!("no name is left for the module of {site}"))
    }

    /// The text of a module that is installed, of the highest priority that has it; nothing where there is none of this name.
    ///
    /// Errors: what cannot be read of the store.
    pub fn installed(&self, host: &Host, name: &str) -> Result<Option<String>, String> {
        let failed = |error: &WayError| format!("cannot read the host's policy store: {error}");
        let mut priorities = host.names_in(&self.folder).map_err(|error| failed(&error))?;
        priorities.sort_by_key(|name| std::cmp::Reverse(name.to_str().and_then(|text| text.parse::<u32>().ok())));
        for priority in priorities {
            match host.read(&self.folder.join(priority).join(name).join("cil"), LONGEST) {
                Ok(bytes) => return Ok(Some(unpacked(&bytes)?)),
                Err(WayError::Missing(_) | WayError::NoDirectory(_)) => {}
                Err(error) => return Err(failed(&error)),
            }
        }
        Ok(None)
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
        command.env_clear().env("PATH", SEARCHED).env("LC_ALL", "C").args(["import", "-S", &self.policy]);
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
    pub fn remove(&self, host: &Host, name: &str) -> Result<(), String> {
        if self.installed(host, name)?.is_none() {
            return Ok(());
        }
        self.run(&["-r".as_ref(), name.as_ref()]).map(drop).map_err(|said| format!("cannot remove {name}: {said}"))
    }

    fn run(&self, arguments: &[&std::ffi::OsStr]) -> Result<String, String> {
        let mut command = Command::new(MODULES);
        command.env_clear().env("PATH", SEARCHED).env("LC_ALL", "C").stdin(Stdio::null());
        command.args(["-s", &self.policy]);
        if let Some(root) = &self.root {
            command.arg("-n").arg("-p").arg(root);
        }
        let output = command.args(arguments).output().map_err(|cause| format!("cannot run {MODULES}: {cause}"))?;
        if output.status.success() {
            return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
        }
        Err(said(&output.stderr))
    }
}

/// No module of a site's is longer, packed or not.
const LONGEST: usize = 16 << 20;

/// A module's text, which the store keeps packed by bzip2 or as it is (`semanage.conf(5)`, bzip-blocksize).
fn unpacked(bytes: &[u8]) -> Result<String, String> {
    let mut text = Vec::new();
    if bytes.starts_with(b"BZh") {
        let longest = u64::try_from(LONGEST).unwrap_or(u64::MAX);
        let packed = bzip2::read::BzDecoder::new(bytes);
        packed.take(longest).read_to_end(&mut text).map_err(|cause| format!("cannot unpack a module: {cause}"))?;
    } else {
        text.extend_from_slice(bytes);
    }
    Ok(String::from_utf8_lossy(&text).into_owned())
}

/// What a command said of why it failed: it warns of much that does no harm, and what stopped it comes last.
fn said(stderr: &[u8]) -> String {
    let said = String::from_utf8_lossy(stderr);
    let lines: Vec<&str> = said.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
    lines[lines.len().saturating_sub(4)..].join("; ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn packed(text: &str) -> Vec<u8> {
        let mut packed = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::best());
        packed.write_all(text.as_bytes()).unwrap();
        packed.finish().unwrap()
    }

    /// Somebody else's module stays, whatever it is called; the site's own is known by its mark, packed or not.
    #[test]
    fn a_site_s_module_is_known_by_what_is_in_it() {
        let dir = tempfile::tempdir().unwrap();
        let host = Host::at(dir.path()).unwrap();
        let folder = PathBuf::from("/var/lib/selinux/quay/active/modules");
        let store =
            Store { policy: "quay".into(), folder: folder.clone(), root: None, modules: true, local_rules: false };
        let put = |priority: &str, name: &str, bytes: &[u8]| {
            let place = dir.path().join(folder.strip_prefix("/").unwrap()).join(priority).join(name);
            std::fs::create_dir_all(&place).unwrap();
            std::fs::write(place.join("cil"), bytes).unwrap();
        };
        put("100", "base", b"(handleunknown allow)");
        assert_eq!(store.of_site(&host, "berths"), Ok(("ambrik_berths".into(), None)));
        put("400", "ambrik_berths", &packed("(filecon \"/srv/theirs\" any ())\n"));
        assert_eq!(store.of_site(&host, "berths"), Ok(("ambrik_berths_2".into(), None)));
        let own = format!("{}: `ambrik set` replaces them.\n", mark("berths"));
        put("400", "ambrik_berths_2", &packed(&own));
        assert_eq!(store.of_site(&host, "berths"), Ok(("ambrik_berths_2".into(), Some(own.clone()))));
        put("100", "ambrik_berths_2", b"an older one");
        assert_eq!(store.installed(&host, "ambrik_berths_2"), Ok(Some(own)), "the highest priority counts");
        put("400", "ambrik_berths_2", b"BZh but no bzip2");
        assert!(store.of_site(&host, "berths").unwrap_err().contains("cannot unpack a module"));
    }
}
