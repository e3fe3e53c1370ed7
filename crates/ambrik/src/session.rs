//! What every command needs: where the host, its site files and its records are, and a terminal.

use std::cell::OnceCell;
use std::collections::HashMap;
use std::ffi::OsStr;
use std::io::Write;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ambrik_core::account::Accounts;
use ambrik_core::audit::AuditSetting;
use ambrik_core::change::{
    ChangeCommand, ChangeSet, Keepsake, Ledger, LedgerError, StateDir, StateError, StateSize, kept,
};
use ambrik_core::entry::Nanos;
use ambrik_core::host::Services;
use ambrik_core::label::Labels;
use ambrik_core::own::{Exposed, OwnPlace};
use ambrik_core::shown::Shown;
use ambrik_core::site::{HostFile, Site};
use ambrik_core::tree::{Host, Progress};

use crate::failure::Failure;
use crate::options::Global;
use crate::records::Records;
use crate::terminal::Terminal;

/// One run of the tool.
pub(crate) struct Session<'s> {
    sites: PathBuf,
    /// Where sites directory, host file and outlines are if nothing else is said.
    usual: PathBuf,
    state: PathBuf,
    /// The folder that stands for the host, as it was named.
    host: Option<PathBuf>,
    /// The same without links of its own: absolute.
    host_folder: Option<PathBuf>,
    /// Whether runs that were stopped have been told of.
    told_of_stopped: bool,
    began: jiff::Timestamp,
    /// How long a site, or a host, may be asked.
    pub(crate) within: Option<String>,
    /// Where results and remarks go.
    pub(crate) terminal: Terminal<'s>,
}

/// The host looked at, with its accounts.
pub(crate) struct HostView {
    pub(crate) host: Host,
    pub(crate) accounts: Accounts,
    pub(crate) labels: Labels,
    /// When sites were found clean last, as far as that is on record.
    pub(crate) clean_since: HashMap<String, Nanos>,
    services: OnceCell<Services>,
    /// What holds for all its sites; or what is wrong with that.
    pub(crate) behind: OnceCell<Result<Behind, String>>,
}

/// What holds for all sites of the host.
#[derive(Debug, Default)]
pub(crate) struct Behind {
    pub(crate) host_file: HostFile,
    /// How others could have written it.
    pub(crate) exposed: Option<Exposed>,
}

impl HostView {
    /// Its web servers and PHP: looked at once, where something asks for them.
    pub(crate) fn services(&self) -> &Services {
        self.services.get_or_init(|| ambrik_core::host::look(&self.host, &self.accounts))
    }

    /// What an audit is made with that is to tell of everything.
    pub(crate) fn setting<'a>(&'a self, neighbours: &'a [Arc<Site>], progress: &'a Progress) -> AuditSetting<'a> {
        let today = jiff::Zoned::now().date();
        let (host, accounts, labels) = (&self.host, &self.accounts, Some(&self.labels));
        let clean_since = &self.clean_since;
        AuditSetting {
            host,
            accounts,
            neighbours,
            labels,
            sniff: true,
            threads: threads(),
            clean_since,
            only: None,
            today,
            progress,
        }
    }
}

/// As many threads as there are cores.
pub(crate) fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, std::num::NonZero::get)
}

impl<'s> Session<'s> {
    pub(crate) fn new(global: &Global, out: &'s mut dyn Write, err: &'s mut dyn Write) -> Self {
        let below = |path: &str| match &global.host {
            Some(host) => host.join(path.trim_start_matches('/')),
            None => PathBuf::from(path),
        };
        Self {
            sites: global.sites.clone().unwrap_or_else(|| below("/etc/ambrik/sites")),
            usual: below("/etc/ambrik"),
            state: global.state.clone().unwrap_or_else(|| below("/var/lib/ambrik")),
            host: global.host.clone(),
            host_folder: global
                .host
                .as_ref()
                .map(|host| std::path::absolute(host).unwrap_or_else(|_| host.clone()).components().collect()),
            told_of_stopped: false,
            began: jiff::Timestamp::now(),
            within: global.hosts.within.clone(),
            terminal: Terminal::new(global, out, err),
        }
    }

    fn open_host(&self) -> Result<Host, Failure> {
        Ok(match &self.host {
            Some(folder) => Host::at(folder)?,
            None => Host::this()?,
        })
    }

    /// A place for files of Ambrik's own: inside the host looked at, where it lies there.
    pub(crate) fn place(&self, path: &Path) -> Result<OwnPlace, Failure> {
        Ok(OwnPlace::of(&self.open_host()?, path)?)
    }

    /// The host looked at.
    pub(crate) fn look(&mut self) -> Result<HostView, Failure> {
        let host = self.open_host()?;
        let accounts = ambrik_core::host::accounts(&host)?;
        let labels = Labels::of(&host);
        if let Some(problem) = &labels.problem {
            self.terminal.warn(problem);
        }
        let (services, behind) = (OnceCell::new(), OnceCell::new());
        Ok(HostView { host, accounts, labels, clean_since: HashMap::new(), services, behind })
    }

    /// A folder that was named on the command line, as a path from the host's `/` on: under `--host` such a path is
    /// inside it, unless it names a folder below it as this system does.
    pub(crate) fn on_host(&self, dir: &Path) -> Result<PathBuf, Failure> {
        let clean = if is_clean(dir) {
            dir.to_owned()
        } else {
            let absolute = std::path::absolute(dir)
                .map_err(|cause| Failure::usage(format!("cannot tell where {} is: {cause}", Shown(dir))))?;
            absolute.components().collect()
        };
        let below = self.host_folder.as_ref().and_then(|host| {
            let below = clean.as_os_str().as_bytes().strip_prefix(host.as_os_str().as_bytes())?;
            matches!(below.first(), None | Some(b'/')).then(|| Path::new("/").join(OsStr::from_bytes(below)))
        });
        Ok(below.unwrap_or(clean))
    }

    /// Whether this run made a change set: process numbers are given out again.
    pub(crate) fn is_of_this_run(&self, set: &ChangeSet) -> bool {
        set.process == i64::from(std::process::id()) && set.begun >= self.began
    }

    /// Whether this run made a change set.
    pub(crate) fn has_changed(&mut self) -> Result<bool, Failure> {
        let sets = self.records()?.sets;
        Ok(sets.iter().any(|set| self.is_of_this_run(set)))
    }

    /// Whether it is this host that is looked at.
    pub(crate) const fn is_this_host(&self) -> bool {
        self.host.is_none()
    }

    /// The options that lead another run to the same sites and the same state directory.
    pub(crate) fn place_arguments(&self) -> Vec<String> {
        let absolute = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        [("--sites", &self.sites), ("--state", &self.state)]
            .into_iter()
            .flat_map(|(option, path)| [option.to_owned(), absolute(path).display().to_string()])
            .collect()
    }

    /// The sites directory.
    pub(crate) fn sites_directory(&self) -> &Path {
        &self.sites
    }

    /// The site file of this name in the sites directory.
    pub(crate) fn site_file(&self, name: &str) -> PathBuf {
        self.sites.join(format!("{name}.toml"))
    }

    /// Where Ambrik's own files are that are no site files: beside the sites directory, where there is such a file or folder, else
    /// where they usually are.
    pub(crate) fn beside(&self, name: &str) -> PathBuf {
        let sites = std::path::absolute(&self.sites).unwrap_or_else(|_| self.sites.clone());
        let beside = sites.parent().unwrap_or(&sites).join(name);
        let is_there = self.place(&beside).is_ok_and(|place| place.is_there());
        if is_there { beside } else { self.usual.join(name) }
    }

    /// Where the sites that the arguments name, their accounts, and what holds for all are described: files and folders.
    pub(crate) fn described_in(&self, named: &[PathBuf]) -> Vec<PathBuf> {
        let mut found: Vec<PathBuf> = named.iter().map(|name| self.file(name)).collect();
        found.extend(["host.toml", "host.d", "outlines"].map(|name| self.beside(name)));
        found.extend([self.sites.clone(), "/etc/passwd".into(), "/etc/group".into()]);
        found
    }

    /// How the host is called in a report.
    pub(crate) fn host_name(&self) -> String {
        let read = |host: Host| host.read(Path::new("/etc/hostname"), 1 << 10).ok();
        let name = self.open_host().ok().and_then(read).unwrap_or_default();
        let name = String::from_utf8_lossy(&name).trim().to_owned();
        match (name.is_empty(), &self.host) {
            (false, _) => Shown(Path::new(&name)).to_string(),
            (true, Some(folder)) => folder.display().to_string(),
            (true, None) => rustix::system::uname().nodename().to_string_lossy().into_owned(),
        }
    }

    /// The state directory, made where it is missing.
    pub(crate) fn state(&self) -> Result<StateDir, Failure> {
        Ok(StateDir::at(&self.place(&self.state)?, true)?)
    }

    /// What the state directory takes, where it is there and can be looked at.
    pub(crate) fn state_size(&self) -> Option<StateSize> {
        StateDir::at(&self.place(&self.state).ok()?, false).ok()?.size().ok()
    }

    /// The files in which removed things are kept.
    pub(crate) fn kept(&self, ledger: Option<&Ledger>) -> Result<Vec<Keepsake>, Failure> {
        let Some(ledger) = ledger else { return Ok(Vec::new()) };
        Ok(kept(ledger, &StateDir::at(&self.place(&self.state)?, false)?)?)
    }

    /// The ledger as far as there is one that can be read: what only looks must work without.
    pub(crate) fn records(&mut self) -> Result<Records, Failure> {
        let state = match StateDir::at(&self.place(&self.state)?, false) {
            Ok(state) => state,
            Err(StateError::None(_)) => return Ok(Records::default()),
            Err(error) if error.is_privilege() => return Ok(self.no_records(&error)),
            Err(error) => return Err(error.into()),
        };
        match Ledger::open(&state) {
            Ok(Some(ledger)) => {
                let sets = ledger.change_sets()?;
                self.warn_of_stopped_runs(&state, &ledger, &sets);
                Ok(Records { ledger: Some(ledger), sets, unreadable: None })
            }
            Ok(None) => Ok(Records::default()),
            Err(LedgerError::State(error)) if error.is_privilege() => Ok(self.no_records(&error)),
            Err(error) => Err(error.into()),
        }
    }

    /// What stands for records that this user may not read.
    fn no_records(&mut self, why: &StateError) -> Records {
        if !std::mem::replace(&mut self.told_of_stopped, true) {
            self.terminal.say(&format!("{why}: which phase sites are in is not known; they are judged as sealed"));
        }
        Records { unreadable: Some(why.to_string()), ..Records::default() }
    }

    /// A run that was killed left a change set without an end; a later one of the same site has settled it.
    fn warn_of_stopped_runs(&mut self, state: &StateDir, ledger: &Ledger, sets: &[ChangeSet]) {
        if std::mem::replace(&mut self.told_of_stopped, true) {
            return;
        }
        let settled = |set: &ChangeSet| sets.iter().any(|s| s.id > set.id && s.site == set.site && s.ended.is_some());
        for set in sets.iter().filter(|set| set.ended.is_none() && !settled(set)) {
            if state.is_locked(&set.site) {
                continue;
            }
            let ChangeSet { id, site, command, .. } = set;
            let words = match (command, ledger.stopped_move(site), set.undoes) {
                (ChangeCommand::Move, Ok(Some(moved)), _) => {
                    format!("{command} {site} {} {}", moved.part, Shown(&moved.to))
                }
                (ChangeCommand::Undo, _, Some(undoes)) => format!("{command} {undoes}"),
                (ChangeCommand::Unpack, ..) => format!("unpack ARCHIVE {site}"),
                (ChangeCommand::Forget, ..) => format!("set {site} --forget"),
                _ => format!("{command} {site}"),
            };
            self.terminal.warn(&format!(
                "change set {id} ({command} {site}) was stopped in the middle; finish it with `ambrik {words}`, or take it back with `ambrik undo {id}`"
            ));
        }
    }
}

/// Whether a path is absolute, with nothing in it that could be left out.
fn is_clean(path: &Path) -> bool {
    let bytes = path.as_os_str().as_bytes();
    bytes.first() == Some(&b'/') && !bytes.ends_with(b"/") && !bytes.windows(2).any(|two| two == b"//" || two == b"/.")
}
