//! The host's services: which accounts PHP and the web servers run as, from running processes and from configuration.
//!
//! [`look`] reads both and ties them together: served folder → web server → socket → pool → account. What it
//! could not understand it says with file and line; nothing is guessed.

mod apache;
mod caddy;
mod disagree;
mod files;
mod fpm;
mod ini;
mod lighttpd;
mod making;
mod nginx;
mod open_files;
mod php_programs;
mod php_settings;
mod process;
mod program;
mod sighting;
mod started;
mod still_open;
mod tie;
mod units;

use std::fmt;
use std::path::{Path, PathBuf};

use crate::account::{Account, Accounts};
use crate::shown::Shown;
use crate::tree::{Host, WayError};

use php_programs::{CGI, FPM, OWN_SERVER};
use program::{Family, Program};

pub use disagree::Disagreement;
pub use making::Making;
pub use open_files::{Holding, OpenFiles, open_below};
pub use php_settings::{PhpSetting, PhpSettings};
pub use program::Keep;
pub use still_open::Holder;
pub(crate) use still_open::{HeldFiles, held_by};
pub use tie::{AccountAnswer, Hint, Runs, Undecided};

/// The programs that are looked for.
static PROGRAMS: &[&Program] =
    &[&nginx::NGINX, &apache::APACHE, &lighttpd::LIGHTTPD, &caddy::CADDY, &FPM, &CGI, &OWN_SERVER];

/// Whether a program of this name serves the web.
pub(crate) fn is_web_server(name: &str) -> bool {
    Family::of_name(name).is_some_and(|family| family.role == Role::Web)
}

/// The lines of the configuration of a web server of this name that keep something from visitors; `path` is below the folder
/// `served`. Nothing for a server whose configuration is not known, and for a path with anything in it that could mean something
/// in a configuration: names on the disk may be an attacker's, and these lines are going to be pasted. The last line is a comment:
/// the command that tests the configuration and has it read again.
#[must_use]
pub fn configuration_lines(program: &str, keep: Keep, served: &Path, path: &Path) -> Option<String> {
    let Program { lines, read_again, .. } = &*Family::of_name(program)?;
    let lines = (*lines)?;
    let plain = |path: &Path| {
        let text = path.to_str()?;
        text.chars().all(|c| c.is_ascii_alphanumeric() || "/._-".contains(c)).then(|| text.to_owned())
    };
    Some(format!("{}\n# then: {read_again}", lines(keep, &plain(served)?, &plain(path)?)))
}

/// A line of a file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Place {
    /// The file, from the host's `/` on.
    pub file: PathBuf,
    /// The line, from 1; 0 for the file as a whole.
    pub line: usize,
}

impl Place {
    pub(crate) fn new(file: &Path, line: usize) -> Self {
        Self { file: file.to_owned(), line }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.line {
            0 => Shown(&self.file).fmt(f),
            line => write!(f, "{}:{line}", Shown(&self.file)),
        }
    }
}

/// Configuration that could not be understood or read.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Unclear {
    /// Where.
    pub at: Place,
    /// What, and what follows from it.
    pub says: String,
}

/// What a service does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Role {
    /// It runs PHP code.
    Php,
    /// It answers web requests.
    Web,
}

impl Role {
    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Php => "php",
            Self::Web => "web",
        }
    }
}

/// Where a piece of evidence comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Origin {
    /// A running process.
    Process,
    /// Configuration.
    Config,
}

impl Origin {
    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Process => "process",
            Self::Config => "config",
        }
    }
}

/// Why a service is said to run as an account.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Evidence {
    /// A process, or configuration.
    pub from: Origin,
    /// `process 812`, or `FILE:LINE`.
    pub place: String,
    /// What was seen there.
    pub says: String,
}

/// A web server, or something that runs PHP, under one account.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Service {
    /// The program's name.
    pub program: String,
    /// What it does.
    pub role: Role,
    /// The pool, of php-fpm.
    pub pool: Option<String>,
    /// The account, with the ids that its processes have.
    pub account: Account,
    /// All its groups' names.
    pub groups: Vec<String>,
    /// Why.
    pub evidence: Vec<Evidence>,
}

impl Service {
    /// Whether a process of it runs.
    #[must_use]
    pub fn runs(&self) -> bool {
        self.evidence.iter().any(|e| e.from == Origin::Process)
    }
}

/// Where requests for PHP are sent.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Address {
    /// A socket in the file system.
    Unix(PathBuf),
    /// A host, and its port.
    Tcp(String, u16),
}

impl Address {
    /// `/run/php.sock`, `unix:/run/php.sock`, `127.0.0.1:9000`, `[::1]:9000`, `9000`; nothing where it is none.
    fn read(text: &str) -> Option<Self> {
        let text = text.strip_prefix("unix:").unwrap_or(text);
        if text.starts_with('/') {
            // `/var/run` is `/run` on every system that has both.
            let path = text.strip_prefix("/var/run/").map_or_else(|| text.to_owned(), |rest| format!("/run/{rest}"));
            return Some(Self::Unix(PathBuf::from(path)));
        }
        let (host, port) = text.rsplit_once(':').unwrap_or(("", text));
        let host = match host {
            "" | "*" | "0.0.0.0" | "[::]" | "localhost" | "127.0.0.1" | "[::1]" => "localhost",
            host => host,
        };
        Some(Self::Tcp(host.to_owned(), port.parse().ok()?))
    }
}

impl ServedFolder {
    /// Whether the web server has PHP files at `path` run, as far as its configuration is understood.
    #[must_use]
    pub fn runs_php_at(&self, path: &Path) -> bool {
        let refuses = |folders: &[PathBuf]| folders.iter().any(|folder| path.starts_with(folder));
        path.starts_with(&self.path)
            && self.through != PhpThrough::Nothing
            && !refuses(&self.denied)
            && !refuses(&self.without_php)
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unix(path) => Shown(path).fmt(f),
            Self::Tcp(host, port) => write!(f, "{host}:{port}"),
        }
    }
}

/// How a web server has PHP run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PhpThrough {
    /// Not at all.
    Nothing,
    /// It runs PHP itself.
    Inside(Place),
    /// Whatever listens at this address.
    Socket(Address, Place),
    /// Another web server, which gets the whole request.
    Server(String, Place),
    /// Its configuration says it in a way that is not understood.
    Unclear(String, Place),
}

/// A folder that a web server serves, as its configuration says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServedFolder {
    /// The document root.
    pub path: PathBuf,
    /// The path of its addresses that leads to it; empty for a document root.
    pub url_path: String,
    /// The sites' names, and the path below them where it is not `/`.
    pub names: Vec<String>,
    /// The addresses it answers on.
    pub listens: Vec<String>,
    /// The pages that it looks for where a folder is asked for, as far as that is said there.
    pub index: Vec<String>,
    /// The web server.
    pub program: String,
    /// How PHP is run for it.
    pub through: PhpThrough,
    /// The account that answers for it, where that is not the server's own: `user[:group]`.
    pub account: Option<(String, Place)>,
    /// The folders below it that are not handed out.
    pub denied: Vec<PathBuf>,
    /// The folders below it in which PHP is not run.
    pub without_php: Vec<PathBuf>,
    /// Whether `.htaccess` files in it are heeded (Apache: `AllowOverride`).
    pub overrides: bool,
    /// What it sets of PHP's settings.
    settings: Vec<php_settings::SettingLine>,
    /// Where that is written.
    pub at: Place,
}

/// A web server's configuration.
#[derive(Clone, Debug)]
struct Server {
    family: Family,
    program: &'static str,
    /// `user[:group]` of its workers.
    account: Option<(String, Place)>,
    /// Where it would be, where it is not said.
    main: Place,
    folders: Vec<ServedFolder>,
    /// The umask that its environment sets.
    umask: Option<(u16, Place)>,
}

/// A pool of php-fpm, as its configuration says.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Pool {
    name: String,
    /// php-fpm's own configuration file.
    main: PathBuf,
    /// `user[:group]`.
    account: Option<(String, Place)>,
    listen: Option<(Address, Place)>,
    /// Who may connect: `listen.owner`, `listen.group`, `listen.mode`, `listen.acl_users`, `listen.acl_groups`.
    listen_owner: Option<String>,
    listen_group: Option<String>,
    listen_mode: Option<String>,
    listen_acl: bool,
    /// Whether it has workers only while there are requests.
    on_demand: bool,
    /// Where it keeps uploads.
    upload: Option<(PathBuf, Place)>,
    /// What it sets of PHP's settings.
    settings: Vec<php_settings::SettingLine>,
    at: Place,
}

/// Everything that is known of the host's services.
#[derive(Clone, Debug, Default)]
pub struct Services {
    /// The services, web servers and then PHP.
    pub services: Vec<Service>,
    /// The served folders, each with what runs its PHP.
    pub served: Vec<Runs>,
    /// Where evidence disagrees, or is worrying.
    pub disagreements: Vec<Disagreement>,
    /// What could not be understood.
    pub unclear: Vec<Unclear>,
    /// What only calls itself a service.
    pub hints: Vec<(Role, Hint)>,
    /// Whether processes could be looked at.
    pub processes_seen: bool,
    /// PHP's settings for each served folder whose PHP is known.
    pub settings: Vec<PhpSettings>,
    makes: Vec<making::Makes>,
}

impl Services {
    /// PHP's settings for the site that is served from `folder`; nothing where that is not known, or known of several.
    #[must_use]
    pub fn php_settings(&self, host: &Host, folder: &Path) -> Option<&PhpSettings> {
        let real = |path: &Path| host.destination(Path::new("/"), path);
        let folder = real(folder);
        let mut found = self.settings.iter().filter(|settings| real(&settings.folder) == folder);
        let first = found.next()?;
        found.all(|other| other.list == first.list).then_some(first)
    }

    /// How PHP makes files as this account.
    #[must_use]
    pub fn making(&self, uid: crate::account::Uid) -> Making {
        making::of(&self.makes, uid)
    }
}

/// Accounts that cannot be read.
#[derive(Debug, thiserror::Error)]
#[error("cannot read the accounts in {}", Shown(path))]
pub struct AccountsError {
    path: PathBuf,
    #[source]
    cause: WayError,
}

/// No file of accounts is longer, in bytes.
const LONGEST_ACCOUNTS: usize = 1 << 26;

/// The accounts of a host: those in its `etc/passwd` and `etc/group`, and, of the one that this runs on, those that its name
/// service knows besides.
///
/// Errors where one of the files cannot be read inside the host.
pub fn accounts(host: &Host) -> Result<Accounts, AccountsError> {
    let read = |path: &str| match host.read(Path::new(path), LONGEST_ACCOUNTS) {
        Ok(bytes) => Ok(String::from_utf8_lossy(&bytes).into_owned()),
        Err(cause) => Err(AccountsError { path: path.into(), cause }),
    };
    // Where there is none, the C library asks the files alone.
    let services = read("/etc/nsswitch.conf").unwrap_or_default();
    let listed = Accounts::from_texts(&read("/etc/passwd")?, &read("/etc/group")?).with_services(&services);
    Ok(if host.is_this() { listed.with_name_service() } else { listed })
}

/// Looks at the running processes of `host` and at the configuration of its web servers and of PHP.
#[must_use]
pub fn look(host: &Host, accounts: &Accounts) -> Services {
    let mut files = files::Files::new(host);
    let running = process::read(host);
    let units = units::read(&mut files);
    let launches = |program| started::launches(host, &running, &units, Family::of(program));
    let pools = fpm::read(&mut files, &launches(&FPM));
    let read = PROGRAMS.iter().filter_map(|program| Some((program.read?, launches(program))));
    let servers: Vec<Server> = read.flat_map(|(read, launches)| read(&mut files, &launches)).collect();
    let seen =
        sighting::HostSeen { host, accounts, running: &running, pools: &pools, units: &units, servers: &servers };
    let mut services = seen.tie();
    services.makes = making::read(&mut files, accounts, &making::believed(&running), (&pools, &units, &servers));
    let served = services.served.iter();
    services.settings = served
        .filter_map(|runs| {
            // Pools of several versions may have one name: then it is not known which one it is.
            let mut named = pools.iter().filter(|pool| runs.pool.as_ref() == Some(&pool.name));
            let pool = named.next().filter(|_| named.next().is_none());
            php_settings::of_folder(&mut files, &runs.folder, pool)
        })
        .collect();
    services.unclear = files.unclear();
    services
}

/// The domains (SELinux) that the services which run are in: role, uid, context.
#[must_use]
pub fn domains(host: &Host) -> Vec<(Role, crate::account::Uid, crate::security_context::SecurityContext)> {
    let running = process::read(host);
    let of = |process: &process::Process| {
        let path = PathBuf::from(format!("/proc/{}/attr/current", process.pid));
        let domain =
            crate::security_context::SecurityContext::from_attribute(host.read(&path, 4096).ok()?.trim_ascii_end())
                .ok()?;
        let roles = [Some(process.role), process.php_inside.then_some(Role::Php)];
        let uid = process.ids.uid;
        Some(roles.into_iter().flatten().map(move |role| (role, uid, domain.clone())))
    };
    running.workers.iter().filter_map(of).flatten().collect()
}

/// Names the accounts that a site file leaves out.
pub struct Detector<'h> {
    seen: Option<(&'h Host, &'h Services)>,
}

impl<'h> Detector<'h> {
    /// What the services of `host` tell.
    #[must_use]
    pub const fn new(host: &'h Host, services: &'h Services) -> Self {
        Self { seen: Some((host, services)) }
    }

    /// Nothing is known.
    #[must_use]
    pub const fn blind() -> Self {
        Self { seen: None }
    }

    /// The account that runs PHP (or reads static files) for the site served from `folder`.
    pub fn account(&self, role: Role, folder: &Path) -> Result<AccountAnswer, Undecided> {
        let (host, services) = self.seen.ok_or(Undecided::Unknown)?;
        services.account(host, role, folder)
    }
}

#[cfg(test)]
mod tests;
