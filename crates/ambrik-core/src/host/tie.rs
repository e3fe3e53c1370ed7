//! What processes and configuration say, tied together: served folder → web server → socket → pool → account.

use std::path::{Path, PathBuf};

use super::php_programs::{FPM, OWN_SERVER};
use super::process::{Process, Running};
use super::program::Family;
use super::sighting::{HostSeen, Sighting, is_of_pool};
use super::units::Unit;
use super::{
    Address, Evidence, Origin, PhpThrough, Place, Pool, Role, ServedFolder, Server, Service, Services, disagree,
};
use crate::access::permits;
use crate::account::{Account, Accounts, Ids};
use crate::entry::{Kind, Rights};
use crate::mode::{Mode, Perm};
use crate::tree::Host;

/// What runs PHP and what reads static files for a served folder.
#[derive(Clone, Debug)]
pub struct Runs {
    /// The folder, as the web server's configuration has it.
    pub folder: ServedFolder,
    /// The pool that its PHP requests go to; where several listen on the socket, `a or b`.
    pub pool: Option<String>,
    /// The accounts that its PHP runs as: one, none, or as many as there are contradictions.
    pub php: Vec<AccountAnswer>,
    /// The accounts that its static files are read as.
    pub web: Vec<AccountAnswer>,
    /// Whether the web server may connect to the socket; nothing where there is none or it is not known.
    pub may_connect: Option<bool>,
}

/// An account with the reason why it is the one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AccountAnswer {
    /// The account, with the ids that its processes have.
    pub account: Account,
    /// Where that was seen.
    pub because: String,
    /// Whether processes, configuration or both say so.
    pub from: Vec<Origin>,
}

/// What a process says of itself that anybody could have started: it decides nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hint {
    /// The user.
    pub user: String,
    /// What was seen.
    pub says: String,
}

/// Why there is no one account.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Undecided {
    /// Nothing on the host runs as one.
    #[error("nothing here tells: no process and no configuration of it was found")]
    Unknown,
    /// Something says so itself, and neither did root start it nor does root's configuration name it.
    #[error(
        "nothing that root started or configured tells; {}: if that is right, say so yourself",
        .0.iter().map(|hint| format!("{} (as {})", hint.says, hint.user)).collect::<Vec<_>>().join("; ")
    )]
    OnlyHints(Vec<Hint>),
    /// Several could be meant.
    #[error("several could be meant: {}", .0.iter().map(|a| format!("{} ({})", a.account.user, a.because)).collect::<Vec<_>>().join("; "))]
    Several(Vec<AccountAnswer>),
}

impl HostSeen<'_> {
    pub(super) fn tie(&self) -> Services {
        let sightings = self.sightings();
        let own = self.own_servers();
        let folders = self.servers.iter().flat_map(|server| server.folders.iter().map(move |f| (Some(server), f)));
        let served: Vec<Runs> =
            folders.chain(own.iter().map(|f| (None, f))).map(|(server, f)| self.runs(server, f, &sightings)).collect();
        let disagreements = disagree::all(self, &sightings, &served);
        let services = services(sightings.iter().filter(|sighting| !sighting.weak), self.accounts);
        let hints = sightings.iter().filter(|sighting| sighting.weak).filter_map(|sighting| {
            let user = sighting.account.as_ref().ok()?.user.clone();
            let says = format!("{}: {}", sighting.evidence.place, sighting.evidence.says);
            Some((sighting.role, Hint { user, says }))
        });
        let hints = hints.collect();
        Services {
            services,
            served,
            disagreements,
            unclear: Vec::new(),
            hints,
            processes_seen: self.running.seen,
            settings: Vec::new(),
            makes: Vec::new(),
        }
    }

    fn sightings(&self) -> Vec<Sighting> {
        let mut sightings: Vec<Sighting> = Vec::new();
        for worker in &self.running.workers {
            sightings.push(self.of_process(worker, worker.role));
            if worker.php_inside {
                sightings.push(self.of_process(worker, Role::Php));
            }
        }
        for server in self.servers {
            sightings.extend(self.of_server(server));
        }
        sightings.extend(self.pools.iter().filter_map(|pool| self.of_pool(pool)));
        for unit in self.units {
            sightings.extend(self.of_unit(unit));
        }
        sightings
    }

    fn of_process(&self, process: &Process, role: Role) -> Sighting {
        let master = self.running.master(process);
        let mut says =
            format!("\"{}\" runs as {}", process.title(), self.accounts.owner_shown(process.ids.uid, process.ids.gid));
        if process.real != process.ids.uid {
            says = format!("{says} (real uid {})", self.accounts.user_shown(process.real));
        }
        if role == Role::Php && process.php_inside {
            says = format!("{says}, with PHP inside");
        }
        Sighting {
            family: process.family,
            role,
            program: process.program.clone(),
            pool: process.pool(),
            main: master.and_then(Running::fpm_file),
            account: Ok(self.account_of(&process.ids)),
            evidence: Evidence { from: Origin::Process, place: format!("process {}", process.pid), says },
            weak: !self.is_believed(process),
        }
    }

    /// Whether a process's word counts: root started it, or root's unit of its program does as that account.
    pub(super) fn is_believed(&self, process: &Process) -> bool {
        let of_unit = |unit: &Unit| {
            let account = unit.account.as_ref().and_then(|(text, _)| self.accounts.account(text).ok());
            unit.program == process.program && account.is_some_and(|account| account.ids.uid == process.ids.uid)
        };
        self.running.started_by_root(process) || (process.foreign_program.is_none() && self.units.iter().any(of_unit))
    }

    fn account_of(&self, ids: &Ids) -> Account {
        Account { user: self.accounts.user_shown(ids.uid), group: self.accounts.group_shown(ids.gid), ids: ids.clone() }
    }

    /// What a web server's own configuration says of its workers; a unit that starts all of it as somebody beats it.
    fn of_server(&self, server: &Server) -> Vec<Sighting> {
        let unit = self.units.iter().find(|unit| unit.program == server.program && unit.account.is_some());
        let Some((text, at)) = unit.and_then(|unit| unit.account.clone()).or_else(|| server.account.clone()) else {
            return Vec::new();
        };
        let inside = server.folders.iter().find_map(|folder| match &folder.through {
            PhpThrough::Inside(at) => Some(at.clone()),
            _ => None,
        });
        let whole = if server.family.brings_group && !text.contains(':') && self.accounts.gid(&text).is_some() {
            format!("{text}:{text}")
        } else {
            text.clone()
        };
        let sighting = |role: Role, at: &Place, says: String| Sighting {
            family: server.family,
            role,
            program: server.program.to_owned(),
            pool: None,
            main: Some(server.main.file.clone()),
            account: self.accounts.account(&whole).map_err(|_| text.clone()),
            evidence: Evidence { from: Origin::Config, place: at.to_string(), says },
            weak: false,
        };
        let web = sighting(Role::Web, &at, format!("its workers are to run as {text}"));
        let php = inside
            .map(|inside| sighting(Role::Php, &at, format!("its workers run PHP themselves ({inside}), as {text}")));
        [Some(web), php].into_iter().flatten().collect()
    }

    fn of_pool(&self, pool: &Pool) -> Option<Sighting> {
        let (text, at) = pool.account.as_ref().filter(|(text, _)| !text.is_empty() && !text.starts_with(':'))?;
        Some(Sighting {
            family: Family::of(&FPM),
            role: Role::Php,
            program: "php-fpm".into(),
            pool: Some(pool.name.clone()),
            main: Some(pool.main.clone()),
            account: self.accounts.account(text).map_err(|_| text.clone()),
            evidence: Evidence {
                from: Origin::Config,
                place: at.to_string(),
                says: format!("pool {} is to run as {text}", pool.name),
            },
            weak: false,
        })
    }

    /// What a unit says of a program whose own configuration is not read, or has no account.
    fn of_unit(&self, unit: &Unit) -> Option<Sighting> {
        let (text, at) = unit.account.as_ref()?;
        let family = Family::of_name(&unit.program)?;
        let tells = match family.role {
            Role::Web => family.read.is_none(),
            Role::Php => family == Family::of(&OWN_SERVER) && unit.arguments.iter().any(|word| word == "-S"),
        };
        if !tells {
            return None;
        }
        Some(Sighting {
            family,
            role: family.role,
            program: unit.program.clone(),
            pool: None,
            main: None,
            account: self.accounts.account(text).map_err(|_| text.clone()),
            evidence: Evidence {
                from: Origin::Config,
                place: at.to_string(),
                says: format!("it is started as {text}"),
            },
            weak: false,
        })
    }

    /// The folders that PHP's own server serves: running, or as a unit says.
    fn own_servers(&self) -> Vec<ServedFolder> {
        let running = self.running.of(Family::of(&OWN_SERVER)).filter_map(|process| {
            let (path, listen) = process.own_server()?;
            Some((
                path,
                listen,
                process.program.clone(),
                Place::new(&PathBuf::from(format!("/proc/{}", process.pid)), 0),
            ))
        });
        let units = self.units.iter().filter(|unit| unit.program.starts_with("php")).filter_map(|unit| {
            let after = |option: &str| {
                let at = unit.arguments.iter().position(|word| word == option)?;
                unit.arguments.get(at + 1).cloned()
            };
            let works_in = PathBuf::from(unit.works_in.as_deref().unwrap_or("/"));
            let listen = after("-S")?;
            Some((works_in.join(after("-t").unwrap_or_default()), listen, unit.program.clone(), unit.at.clone()))
        });
        let mut folders: Vec<ServedFolder> = Vec::new();
        for (path, listen, program, at) in running.chain(units) {
            let path = PathBuf::from(path.to_string_lossy().trim_end_matches('/'));
            if folders.iter().any(|folder| folder.path == path && folder.listens == [listen.clone()]) {
                continue;
            }
            folders.push(ServedFolder {
                path,
                url_path: String::new(),
                names: Vec::new(),
                listens: vec![listen],
                index: Vec::new(),
                program,
                through: PhpThrough::Inside(at.clone()),
                account: None,
                denied: Vec::new(),
                overrides: false,
                settings: Vec::new(),
                without_php: Vec::new(),
                at,
            });
        }
        folders
    }

    fn runs(&self, server: Option<&Server>, folder: &ServedFolder, sightings: &[Sighting]) -> Runs {
        let family = server.map_or(Family::of(&OWN_SERVER), |server| server.family);
        let own = folder.account.as_ref().and_then(|(text, at)| {
            let account = self.accounts.account(text).ok()?;
            Some(AccountAnswer { account, because: at.to_string(), from: vec![Origin::Config] })
        });
        let of_server = |role: Role| match &own {
            Some(own) => vec![own.clone()],
            None => answers(sightings.iter().filter(|s| s.family == family && s.role == role)),
        };
        let role = family.role;
        let web = of_server(role);
        let mut runs = Runs { folder: folder.clone(), pool: None, php: Vec::new(), web, may_connect: None };
        match &folder.through {
            PhpThrough::Inside(_) => runs.php = of_server(Role::Php),
            PhpThrough::Socket(address, _) => {
                let pools: Vec<&Pool> =
                    self.pools.iter().filter(|pool| pool.listen.as_ref().is_some_and(|(a, _)| a == address)).collect();
                for pool in &pools {
                    for answer in answers(sightings.iter().filter(|s| is_of_pool(s, pool))) {
                        add(&mut runs.php, answer);
                    }
                }
                let names: Vec<&str> = pools.iter().map(|pool| pool.name.as_str()).collect();
                runs.pool = (!names.is_empty()).then(|| names.join(" or "));
                runs.may_connect = self.may_connect(address, pools.first().copied(), &runs.web);
            }
            PhpThrough::Nothing | PhpThrough::Server(..) | PhpThrough::Unclear(..) => {}
        }
        runs
    }

    /// Whether the web server's account may connect: write on the socket, search on the way to it (unix(7)). What is
    /// on disk decides; before the pool was started, what it is going to make.
    fn may_connect(&self, address: &Address, pool: Option<&Pool>, web: &[AccountAnswer]) -> Option<bool> {
        let Address::Unix(path) = address else { return None };
        let [web] = web else { return None };
        let ids = &web.account.ids;
        if let Ok(resolved) = self.host.resolve(path)
            && resolved.facts.kind == Kind::Socket
        {
            let reached =
                resolved.way.iter().all(|passed| permits(ids, Kind::Directory, &passed.facts.rights, Perm::X));
            return Some(reached && permits(ids, Kind::Socket, &resolved.facts.rights, Perm::W));
        }
        let pool = pool.filter(|pool| !pool.listen_acl)?;
        let owner = pool.listen_owner.as_deref().unwrap_or("root");
        let owner = self.accounts.user(owner)?.ids;
        let group = match &pool.listen_group {
            Some(group) => self.accounts.gid(group)?,
            None => owner.gid,
        };
        let mode = pool.listen_mode.as_deref().unwrap_or("0660");
        let mode = Mode::new(u16::from_str_radix(mode, 8).ok()?)?;
        let rights =
            Rights { uid: owner.uid, gid: group, mode, acl: None, default_acl: None, capabilities: None, label: None };
        Some(permits(ids, Kind::Socket, &rights, Perm::W))
    }
}

/// The accounts that sightings name, each once, with all their evidence; those that anybody could have made left out.
fn answers<'s>(sightings: impl Iterator<Item = &'s Sighting>) -> Vec<AccountAnswer> {
    let mut found: Vec<AccountAnswer> = Vec::new();
    for sighting in sightings.filter(|sighting| !sighting.weak) {
        if let Ok(account) = &sighting.account {
            let from = vec![sighting.evidence.from];
            add(&mut found, AccountAnswer { account: account.clone(), because: sighting.evidence.place.clone(), from });
        }
    }
    found
}

/// Adds an answer, or its evidence to that of the same ids.
fn add(answers: &mut Vec<AccountAnswer>, answer: AccountAnswer) {
    let same = |a: &&mut AccountAnswer| {
        a.account.ids.uid == answer.account.ids.uid && a.account.ids.gid == answer.account.ids.gid
    };
    let Some(known) = answers.iter_mut().find(same) else { return answers.push(answer) };
    for from in answer.from {
        if !known.from.contains(&from) {
            known.from.push(from);
            known.because = format!("{}, {}", known.because, answer.because);
        }
    }
}

/// The sightings of the same program, role, pool and account as one service with all its evidence.
fn services<'s>(sightings: impl Iterator<Item = &'s Sighting>, accounts: &Accounts) -> Vec<Service> {
    let mut services: Vec<(Family, Ids, Service)> = Vec::new();
    for sighting in sightings {
        let Ok(account) = &sighting.account else { continue };
        let ids = &account.ids;
        let known = services.iter_mut().find(|(family, known, service)| {
            *family == sighting.family
                && (known.uid, known.gid) == (ids.uid, ids.gid)
                && service.role == sighting.role
                && service.pool == sighting.pool
        });
        if let Some((_, _, service)) = known {
            let from_process = sighting.evidence.from == Origin::Process;
            // One worker stands for all that are alike.
            if !(from_process && service.evidence.iter().any(|e| e.says == sighting.evidence.says)) {
                service.evidence.push(sighting.evidence.clone());
            }
            continue;
        }
        let groups = ids.groups().iter().map(|gid| accounts.group_shown(*gid)).collect();
        let service = Service {
            program: sighting.program.clone(),
            role: sighting.role,
            pool: sighting.pool.clone(),
            account: account.clone(),
            groups,
            evidence: vec![sighting.evidence.clone()],
        };
        services.push((sighting.family, ids.clone(), service));
    }
    let mut services: Vec<Service> = services.into_iter().map(|(_, _, service)| service).collect();
    services.sort_by(|a, b| {
        (b.role, &a.program, &a.pool, &a.account.user).cmp(&(a.role, &b.program, &b.pool, &b.account.user))
    });
    services
}

impl Services {
    /// The folders that web servers' configuration serves. Anybody can start a server of PHP's own: what a process serves says
    /// nothing.
    pub fn configured(&self) -> impl Iterator<Item = &ServedFolder> {
        self.served.iter().map(|runs| &runs.folder).filter(|folder| !folder.at.file.starts_with("/proc"))
    }

    /// The served folders that tell about `folder`: the folder itself, else the nearest one around it, else those
    /// inside it. Symlinks on the way are followed.
    fn about(&self, host: &Host, folder: &Path) -> Vec<&Runs> {
        let real = |path: &Path| host.destination(Path::new("/"), path);
        let folder = real(folder);
        let known: Vec<(PathBuf, &Runs)> = self.served.iter().map(|runs| (real(&runs.folder.path), runs)).collect();
        let around = known.iter().filter(|(path, _)| folder.starts_with(path));
        if let Some(nearest) = around.map(|(path, _)| path.components().count()).max() {
            let is_nearest = |path: &Path| folder.starts_with(path) && path.components().count() == nearest;
            return known.iter().filter(|(path, _)| is_nearest(path)).map(|(_, runs)| *runs).collect();
        }
        known.iter().filter(|(path, _)| path.starts_with(&folder)).map(|(_, runs)| *runs).collect()
    }

    /// The document root inside `root` that a web server serves, with where that is written; nothing where none or
    /// several do.
    #[must_use]
    pub fn served_in(&self, host: &Host, root: &Path) -> Option<(PathBuf, Place)> {
        let root = host.destination(Path::new("/"), root);
        let mut found: Vec<(PathBuf, Place)> = Vec::new();
        for runs in &self.served {
            let path = host.destination(Path::new("/"), &runs.folder.path);
            if let Ok(below) = path.strip_prefix(&root)
                && found.iter().all(|(known, _)| known != below)
            {
                found.push((below.to_owned(), runs.folder.at.clone()));
            }
        }
        let outermost = found.iter().min_by_key(|(path, _)| path.components().count())?.clone();
        found.iter().all(|(path, _)| path.starts_with(&outermost.0)).then_some(outermost)
    }

    /// The account that runs PHP (or reads static files) for the site served from `folder`.
    pub fn account(&self, host: &Host, role: Role, folder: &Path) -> Result<AccountAnswer, Undecided> {
        let of = |runs: &'_ Runs| match role {
            Role::Php => runs.php.clone(),
            Role::Web => runs.web.clone(),
        };
        let mut found: Vec<AccountAnswer> = Vec::new();
        for runs in self.about(host, folder) {
            for answer in of(runs) {
                let because =
                    format!("{} serves {}: {}", runs.folder.program, runs.folder.path.display(), answer.because);
                add(&mut found, AccountAnswer { because, ..answer.clone() });
            }
        }
        // Where no server says that it serves the folder, an account that is the only one is the one.
        if found.is_empty() {
            for service in self.services.iter().filter(|service| service.role == role) {
                let Some(evidence) = service.evidence.first() else { continue };
                let account = service.account.clone();
                let because = format!("the only {} here: {}", service.program, evidence.place);
                add(&mut found, AccountAnswer { account, because, from: vec![evidence.from] });
            }
        }
        match found.as_slice() {
            [] => {
                let hints = self.hints.iter().filter(|(of, _)| *of == role).map(|(_, hint)| hint.clone());
                let hints: Vec<Hint> = hints.collect();
                Err(if hints.is_empty() { Undecided::Unknown } else { Undecided::OnlyHints(hints) })
            }
            [one] => Ok(one.clone()),
            _ => Err(Undecided::Several(found)),
        }
    }
}
