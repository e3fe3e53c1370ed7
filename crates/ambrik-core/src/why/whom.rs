//! Whose access is asked about: an account of the site that holds a path, or any account of the host.

use std::collections::BTreeSet;

use crate::account::{Account, Accounts, Gid, Ids, Uid, UnknownAccount};
use crate::host::{Origin, Role, Services};
use crate::site::Site;
use crate::tree::Host;

/// An account whose access is asked about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Subject {
    /// How it is called.
    pub name: String,
    /// The ids that its processes have.
    pub ids: Ids,
    /// Where these ids come from, where that is a running process.
    pub process: Option<String>,
    /// What the account database says otherwise, and what follows.
    pub stale: Option<String>,
    /// The SELinux domain that its processes run in, where that is known.
    pub domain: Option<crate::security_context::SecurityContext>,
}

/// What an account was named as.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Whom {
    /// `php` of the site that holds the path.
    Php,
    /// `web`.
    Web,
    /// `keeper`.
    Keeper,
    /// Anything else: a user's name, a uid, or `uid:gid,gid…`.
    Named(String),
}

/// An account that cannot be asked about.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WhomError {
    /// There is none.
    #[error("{0}")]
    Unknown(#[from] UnknownAccount),
    /// Its groups are no groups.
    #[error("\"{0}\" is no account: write a user's name, a uid, or uid:gid,gid,…")]
    NoAccount(String),
}

impl Whom {
    /// What `--as` was given.
    #[must_use]
    pub fn of(text: &str) -> Self {
        match text {
            "php" => Self::Php,
            "web" => Self::Web,
            "keeper" => Self::Keeper,
            text => Self::Named(text.to_owned()),
        }
    }
}

impl Subject {
    /// An account that `text` names by itself: a user's name, a uid, or `user:gid,gid…` with exactly these groups, the
    /// effective one first.
    ///
    /// Without groups they are those of a running service of that account, else those of the account database. A uid
    /// without an account is in no group.
    pub fn named(text: &str, accounts: &Accounts, services: &Services) -> Result<Self, WhomError> {
        if let Some((user, groups)) = text.split_once(':') {
            let uid = match user.parse() {
                Ok(uid) => Uid(uid),
                Err(_) => accounts.account(user)?.ids.uid,
            };
            let gid = |name: &str| accounts.gid(name).ok_or_else(|| WhomError::NoAccount(text.to_owned()));
            let groups = groups.split(',').map(gid).collect::<Result<Vec<Gid>, _>>()?;
            let ids = Ids::new(uid, groups[0], groups.iter().copied());
            return Ok(Self { name: accounts.user_shown(uid), ids, process: None, stale: None, domain: None });
        }
        match (accounts.user(text), text.parse()) {
            (Some(account), _) => Ok(Self::running(account, None, accounts, services)),
            (None, Ok(uid)) => Ok(Self {
                name: text.to_owned(),
                ids: Ids::new(Uid(uid), NO_GROUP, []),
                process: None,
                stale: Some(format!("uid {uid} has no account here: judged as in no group (name groups as {uid}:GID)")),
                domain: None,
            }),
            (None, Err(_)) => Err(match accounts.account(text) {
                Ok(_) => WhomError::NoAccount(text.to_owned()),
                Err(unknown) => unknown.into(),
            }),
        }
    }

    /// PHP's account of a site, the web server's, or the keeper.
    #[must_use]
    pub fn of_site(whom: &Whom, site: &Site, host: &Host, accounts: &Accounts, services: &Services) -> Option<Self> {
        let (account, role) = match whom {
            Whom::Php => (&site.php, Role::Php),
            Whom::Web => (&site.web, Role::Web),
            Whom::Keeper => {
                let (name, ids) = (site.keeper.user.clone(), site.keeper.ids.clone());
                return Some(Self { name, ids, process: None, stale: None, domain: None });
            }
            Whom::Named(_) => return None,
        };
        let folder = site.served_folder().unwrap_or_else(|| site.root.clone());
        let answer = services.account(host, role, &folder).ok();
        let seen = answer.filter(|a| a.account.ids.uid == account.ids.uid && a.from.contains(&Origin::Process));
        let process = seen.map(|answer| (answer.account.ids, answer.because));
        let process = process.or_else(|| process_of(services, Some(role), account.ids.uid));
        Some(Self::running(account.clone(), process, accounts, services))
    }

    /// The same, in the domain that its service runs in on a host with these labels: that of PHP or the web server of a
    /// site as is usual where none was seen, any other only as seen.
    #[must_use]
    pub fn in_domain(self, whom: &Whom, labels: &crate::label::Labels) -> Self {
        let uid = self.ids.uid;
        let of = |role: Role, usual: bool| {
            let (domain, seen) = labels.domain(role, uid);
            (seen || usual).then_some(domain)
        };
        let domain = match whom {
            _ if !labels.are_managed() => None,
            Whom::Php => of(Role::Php, true),
            Whom::Web => of(Role::Web, true),
            Whom::Keeper => None,
            Whom::Named(_) => of(Role::Php, false).or_else(|| of(Role::Web, false)),
        };
        Self { domain, ..self }
    }

    /// An account, with the ids of a process of it where one runs.
    fn running(account: Account, process: Option<(Ids, String)>, accounts: &Accounts, services: &Services) -> Self {
        let name = account.user.clone();
        let Some((ids, process)) = process.or_else(|| process_of(services, None, account.ids.uid)) else {
            return Self { name, ids: account.ids, process: None, stale: None, domain: None };
        };
        // What a process of this account with this group would get now.
        let group = accounts.group_shown(ids.gid);
        let now = accounts.account(&format!("{name}:{group}")).map_or(account.ids, |account| account.ids);
        let stale = difference(&name, accounts, &ids, &now);
        Self { name, ids, process: Some(process), stale, domain: None }
    }
}

/// A group that nobody is in.
const NO_GROUP: Gid = Gid(u32::MAX - 1);

/// The ids of the one kind of process that runs as `uid`; nothing where none does, or where they differ.
fn process_of(services: &Services, role: Option<Role>, uid: Uid) -> Option<(Ids, String)> {
    let running = services.services.iter().filter(|service| service.account.ids.uid == uid && service.runs());
    let mut running = running.filter(|service| role.is_none_or(|role| service.role == role));
    let first = running.next()?;
    let place = first.evidence.iter().find(|evidence| evidence.from == Origin::Process)?.place.clone();
    running.all(|service| service.account.ids == first.account.ids).then(|| (first.account.ids.clone(), place))
}

/// What the account database gives that the process does not have, and the other way round.
fn difference(name: &str, accounts: &Accounts, process: &Ids, now: &Ids) -> Option<String> {
    let set = |ids: &Ids| ids.groups().iter().copied().collect::<BTreeSet<Gid>>();
    let (has, gets) = (set(process), set(now));
    let shown = |gids: Vec<&Gid>| {
        let names: Vec<String> = gids.into_iter().map(|gid| accounts.group_shown(*gid)).collect();
        names.join(", ")
    };
    let (missing, extra) = (shown(gets.difference(&has).collect()), shown(has.difference(&gets).collect()));
    let what = match (missing.is_empty(), extra.is_empty()) {
        (true, true) => return None,
        (false, true) => format!("{name} was put into {missing} after its process started: that does not count yet"),
        (true, false) => format!("{name} was taken out of {extra} after its process started: that still counts"),
        (false, false) => {
            format!("{name} is now in {missing} and no longer in {extra}: its process was started before")
        }
    };
    Some(format!("{what}; restart the service"))
}
