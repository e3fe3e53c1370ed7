//! Users and groups: who they are on the host looked at, and the ids that their processes carry.

mod database;
mod ids;
mod name_service;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use database::{GroupLine, User, group_line, user_line};

pub use ids::{Gid, Ids, Powers, Uid};
pub use name_service::Unanswered;

/// A user with the ids that a process started for it gets.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Account {
    /// The user's name.
    pub user: String,
    /// The effective group's name.
    pub group: String,
    /// The ids.
    pub ids: Ids,
}

impl fmt::Display for Account {
    /// Writes `user:group`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.user, self.group)
    }
}

/// Where names that the files do not hold are asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Beyond {
    /// The host's name service (nsswitch.conf(5)), so that accounts of a directory server count.
    NameService,
    /// Nowhere: the files are all there is (`--host`, tests).
    Nothing,
}

/// As many users and groups are asked for of the name service: access lists can name any number.
const MOST_ASKED: usize = 4096;

/// The accounts of the host looked at.
#[derive(Clone, Debug)]
pub struct Accounts {
    users: Vec<User>,
    groups: Vec<GroupLine>,
    beyond: Beyond,
    /// The services of nsswitch.conf(5) that know accounts besides those of the files.
    services: Vec<String>,
}

impl Accounts {
    /// The accounts in the text of a passwd(5) and a group(5) file. Lines that are none are left out.
    #[must_use]
    pub fn from_texts(passwd: &str, group: &str) -> Self {
        Self {
            users: passwd.lines().filter_map(user_line).collect(),
            groups: group.lines().filter_map(group_line).collect(),
            beyond: Beyond::Nothing,
            services: Vec::new(),
        }
    }

    /// The same, with what an nsswitch.conf(5) says who knows accounts besides those of the files.
    #[must_use]
    pub fn with_services(self, nsswitch: &str) -> Self {
        Self { services: name_service::beyond_files(nsswitch), ..self }
    }

    /// The same, and for names that they do not hold those of this host's name service (nsswitch.conf(5)).
    #[must_use]
    pub fn with_name_service(self) -> Self {
        Self { beyond: Beyond::NameService, ..self }
    }

    /// The ids of the user that `name` names: a name, or a uid in digits.
    #[must_use]
    pub fn user(&self, name: &str) -> Option<Account> {
        let user = self.user_by_name(name).or_else(|| self.user_by_uid(Uid(name.parse().ok()?)))?;
        let groups = self.groups_of(&user);
        Some(Account { group: self.group_shown(user.gid), ids: Ids::new(user.uid, user.gid, groups), user: user.name })
    }

    /// The ids that `user[:group]` names.
    ///
    /// With a group, that is the effective one and the supplementary ones are those of initgroups(3) with it, as
    /// a service started with these settings gets; without one it is the user's own.
    pub fn account(&self, text: &str) -> Result<Account, UnknownAccount> {
        let (user, group) = match text.split_once(':') {
            Some((user, group)) => (user, Some(group)),
            None => (text, None),
        };
        let account = self.user(user).ok_or_else(|| self.unknown("user", user, self.users.iter().map(|u| &*u.name)))?;
        let Some(group) = group else { return Ok(account) };
        let gid = self.gid(group).ok_or_else(|| self.unknown("group", group, self.groups.iter().map(|g| &*g.name)))?;
        let listed = self.listed_groups(&account.user);
        Ok(Account { group: self.group_shown(gid), ids: Ids::new(account.ids.uid, gid, listed), user: account.user })
    }

    fn unknown<'a>(&self, what: &'static str, name: &str, known: impl Iterator<Item = &'a str>) -> UnknownAccount {
        let place = match self.beyond {
            Beyond::NameService => "on this host",
            Beyond::Nothing => "in the account files of the host looked at",
        };
        UnknownAccount { what, name: name.into(), place, nearest: crate::nearest::nearest(name, known).map(Into::into) }
    }

    /// The gid of the group that `name` names: a name, or a gid in digits.
    #[must_use]
    pub fn gid(&self, name: &str) -> Option<Gid> {
        if let Some(group) = self.groups.iter().find(|g| g.name == name) {
            return Some(group.gid);
        }
        let found = self.ask(|| name_service::group_by_name(name));
        found.map(|group| group.gid).or_else(|| name.parse().ok().map(Gid))
    }

    /// The name of the user with this id, where there is one.
    #[must_use]
    pub fn user_name(&self, uid: Uid) -> Option<String> {
        self.user_by_uid(uid).map(|user| user.name)
    }

    /// The login shell of the user with this id (passwd(5)): nothing where there is no such user, or where what stands
    /// there lets nobody in.
    #[must_use]
    pub fn login_shell(&self, uid: Uid) -> Option<String> {
        let shell = self.user_by_uid(uid)?.shell;
        let shell = if shell.is_empty() { "/bin/sh".to_owned() } else { shell };
        shell.rsplit('/').next().is_some_and(|name| name.ends_with("sh")).then_some(shell)
    }

    /// The name of the group with this id, where there is one.
    #[must_use]
    pub fn group_name(&self, gid: Gid) -> Option<String> {
        if let Some(group) = self.groups.iter().find(|g| g.gid == gid) {
            return Some(group.name.clone());
        }
        self.ask(|| name_service::group_by_gid(gid)).map(|group| group.name)
    }

    /// The user's name, or its id in digits where it has none.
    #[must_use]
    pub fn user_shown(&self, uid: Uid) -> String {
        self.user_name(uid).unwrap_or_else(|| uid.to_string())
    }

    /// The group's name, or its id in digits where it has none.
    #[must_use]
    pub fn group_shown(&self, gid: Gid) -> String {
        self.group_name(gid).unwrap_or_else(|| gid.to_string())
    }

    /// `user:group`, as chown(1) takes it.
    #[must_use]
    pub fn owner_shown(&self, uid: Uid, gid: Gid) -> String {
        format!("{}:{}", self.user_shown(uid), self.group_shown(gid))
    }

    /// Every user that the host's files list, with the groups that files and name service give them. Users whom only the name
    /// service knows are not among them: it can be asked for one, and not for all.
    #[must_use]
    pub fn all(&self) -> Vec<Account> {
        self.users.iter().filter_map(|user| self.user(&user.name)).collect()
    }

    /// The ids of everyone in `group`: those it lists, and those whose own group it is.
    #[must_use]
    pub fn members(&self, group: Gid) -> BTreeSet<Uid> {
        let own = self.users.iter().filter(|u| u.gid == group).map(|u| u.uid);
        let listed = self.groups.iter().filter(|g| g.gid == group).flat_map(|g| &g.members);
        let mut members: BTreeSet<Uid> =
            own.chain(listed.filter_map(|name| self.user_by_name(name).map(|u| u.uid))).collect();
        let found = self.ask(|| name_service::group_by_gid(group)).map(|group| group.members).unwrap_or_default();
        members.extend(found.iter().filter_map(|name| Some(self.user_by_name(name)?.uid)));
        members
    }

    /// The accounts that only the name service knows, of those with these ids and of the members of these groups; and what
    /// could not be asked. Each is asked for by itself: nothing lists all accounts of a directory server.
    #[must_use]
    pub fn beyond_files(&self, uids: &BTreeSet<Uid>, gids: &BTreeSet<Gid>) -> (Vec<Account>, Vec<Unanswered>) {
        let mut found: BTreeMap<Uid, Account> = BTreeMap::new();
        let mut unanswered = Vec::new();
        if self.beyond == Beyond::Nothing {
            return (Vec::new(), unanswered);
        }
        if uids.len() + gids.len() > MOST_ASKED {
            return (Vec::new(), vec![Unanswered::TooMany(uids.len() + gids.len())]);
        }
        let in_files = |user: &User| self.users.iter().any(|known| known.uid == user.uid);
        let mut learn = |answer: Result<Option<User>, Unanswered>, unanswered: &mut Vec<Unanswered>| match answer {
            Ok(Some(user)) if !in_files(&user) && !found.contains_key(&user.uid) => {
                match name_service::groups_of(&user) {
                    Ok(groups) => {
                        let group = self.group_shown(user.gid);
                        let ids =
                            Ids::new(user.uid, user.gid, self.listed_groups(&user.name).into_iter().chain(groups));
                        found.insert(user.uid, Account { user: user.name, group, ids });
                    }
                    Err(error) => unanswered.push(error),
                }
            }
            Ok(_) => {}
            Err(error) => unanswered.push(error),
        };
        for &uid in uids.iter().filter(|uid| self.users.iter().all(|user| user.uid != **uid)) {
            learn(name_service::user_by_uid(uid), &mut unanswered);
        }
        for &gid in gids {
            match name_service::group_by_gid(gid) {
                Ok(group) => {
                    let named = group.map(|group| group.members).unwrap_or_default();
                    for name in named.iter().filter(|name| self.users.iter().all(|user| user.name != **name)) {
                        learn(name_service::user_by_name(name), &mut unanswered);
                    }
                }
                Err(error) => unanswered.push(error),
            }
        }
        (found.into_values().collect(), unanswered)
    }

    /// What nobody can be asked about the accounts of this host without listing them all; nothing where the files hold all.
    #[must_use]
    pub fn not_asked(&self) -> Option<String> {
        let services = (!self.services.is_empty()).then(|| self.services.join(", "))?;
        Some(match self.beyond {
            Beyond::NameService => format!(
                "accounts that only {services} (/etc/nsswitch.conf) knows are asked for as owners, in access lists and as listed \
                 members of groups; whether more of them have one of these groups as their own was not asked"
            ),
            Beyond::Nothing => format!(
                "accounts that only {services} (/etc/nsswitch.conf of the host looked at) knows were not asked for"
            ),
        })
    }

    fn groups_of(&self, user: &User) -> Vec<Gid> {
        let mut groups = self.listed_groups(&user.name);
        groups.extend(self.ask(|| name_service::groups_of(user).map(Some)).unwrap_or_default());
        groups
    }

    /// What the name service answers, where it is to be asked; nothing where it does not answer.
    fn ask<T>(&self, question: impl FnOnce() -> Result<Option<T>, Unanswered>) -> Option<T> {
        match self.beyond {
            Beyond::NameService => question().ok().flatten(),
            Beyond::Nothing => None,
        }
    }

    fn listed_groups(&self, user: &str) -> Vec<Gid> {
        self.groups.iter().filter(|g| g.members.iter().any(|m| m == user)).map(|g| g.gid).collect()
    }

    fn user_by_name(&self, name: &str) -> Option<User> {
        if let Some(user) = self.users.iter().find(|u| u.name == name) {
            return Some(user.clone());
        }
        self.ask(|| name_service::user_by_name(name))
    }

    fn user_by_uid(&self, uid: Uid) -> Option<User> {
        if let Some(user) = self.users.iter().find(|u| u.uid == uid) {
            return Some(user.clone());
        }
        self.ask(|| name_service::user_by_uid(uid))
    }
}

/// A user or group that the host does not have.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("there is no {what} \"{name}\" {place}{}", nearest.as_ref().map(|n| format!("; did you mean \"{n}\"?")).unwrap_or_default())]
pub struct UnknownAccount {
    what: &'static str,
    name: String,
    place: &'static str,
    nearest: Option<String>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn accounts() -> Accounts {
        Accounts::from_texts(
            "root:x:0:0:root:/root:/bin/sh\n# a comment\nwww-data:x:33:33::/var/www:/usr/sbin/nologin\n\
             berths:x:4101:4101::/:/bin/false\nbroken:line\n",
            "root:x:0:\nwww-data:x:33:\nberths:x:4101:www-data\nstaff:x:50:berths, root\n",
        )
    }

    #[rstest]
    #[case::own_group("www-data", 33, 33, &[33, 4101])]
    #[case::by_number("33", 33, 33, &[33, 4101])]
    #[case::other_group("berths:www-data", 4101, 33, &[33, 50])]
    #[case::group_by_number("berths:33", 4101, 33, &[33, 50])]
    fn finds(#[case] text: &str, #[case] uid: u32, #[case] gid: u32, #[case] groups: &[u32]) {
        let ids = accounts().account(text).unwrap().ids;
        let groups: Vec<Gid> = groups.iter().copied().map(Gid).collect();
        assert_eq!((ids.uid, ids.gid, ids.groups()), (Uid(uid), Gid(gid), &groups[..]));
    }

    #[rstest]
    #[case(
        "www-date",
        "there is no user \"www-date\" in the account files of the host looked at; did you mean \"www-data\"?"
    )]
    #[case(
        "root:staf",
        "there is no group \"staf\" in the account files of the host looked at; did you mean \"staff\"?"
    )]
    #[case("", "there is no user \"\" in the account files of the host looked at")]
    fn says_what_is_missing(#[case] text: &str, #[case] want: &str) {
        assert_eq!(accounts().account(text).unwrap_err().to_string(), want);
    }

    #[test]
    fn members_are_listed_ones_and_those_whose_own_group_it_is() {
        assert_eq!(accounts().members(Gid(4101)), [Uid(33), Uid(4101)].into());
        assert_eq!(accounts().members(Gid(33)), [Uid(33)].into());
    }

    #[test]
    fn this_host_has_root() {
        let accounts = crate::host::accounts(&crate::tree::Host::this().unwrap()).unwrap();
        assert_eq!(accounts.user_name(Uid::ROOT).as_deref(), Some("root"));
        assert!(accounts.user_name(Uid(4_000_000_001)).is_none());
    }
}
