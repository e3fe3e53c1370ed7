//! Users and groups: who they are on the host looked at, and the ids that their processes carry.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::fmt;
use std::path::Path;

/// A user id.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Uid(pub u32);

/// A group id.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Gid(pub u32);

impl Uid {
    /// The superuser, whom permission bits do not bind (capabilities(7)).
    pub const ROOT: Self = Self(0);
}

impl fmt::Display for Uid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl fmt::Display for Gid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// Capabilities by which a process passes over what modes and lists say (capabilities(7)).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Powers(u8);

impl Powers {
    /// None of them.
    pub const NONE: Self = Self(0);
    /// `CAP_DAC_OVERRIDE`: reads, writes and searches everything, executes what anybody may.
    pub const DAC_OVERRIDE: Self = Self(1 << 1);
    /// `CAP_DAC_READ_SEARCH`: reads everything, searches every directory.
    pub const DAC_READ_SEARCH: Self = Self(1 << 2);
    /// `CAP_FOWNER`: does what else only a file's owner may.
    pub const FOWNER: Self = Self(1 << 3);
    /// What root has where nobody took it away.
    pub const ALL: Self = Self(0b1110);

    /// What a hexadecimal mask of a process's status says (`CapEff` in `proc_pid_status(5)`); nothing where it is none.
    #[must_use]
    pub fn of_status(mask: &str) -> Option<Self> {
        let mask = u64::from_str_radix(mask.trim(), 16).ok()?;
        u8::try_from(mask & u64::from(Self::ALL.0)).ok().map(Self)
    }

    /// Whether all of `other` are among them.
    #[must_use]
    pub const fn has(self, other: Self) -> bool {
        self.0 & other.0 == other.0
    }

    /// Their names, as the kernel's documentation has them.
    #[must_use]
    pub fn names(self) -> String {
        let all = [
            (Self::DAC_OVERRIDE, "CAP_DAC_OVERRIDE"),
            (Self::DAC_READ_SEARCH, "CAP_DAC_READ_SEARCH"),
            (Self::FOWNER, "CAP_FOWNER"),
        ];
        all.iter().filter(|(power, _)| self.has(*power)).map(|(_, name)| *name).collect::<Vec<_>>().join(", ")
    }
}

/// The ids that a process carries (credentials(7)): what the kernel compares with a file's.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Ids {
    /// The effective (file-system) user id.
    pub uid: Uid,
    /// The effective (file-system) group id.
    pub gid: Gid,
    /// The supplementary groups, sorted, `gid` included.
    groups: Vec<Gid>,
    /// The effective capabilities that bear on files.
    pub powers: Powers,
}

impl Ids {
    /// Ids with these supplementary groups; `gid` counts among them in any case. Root gets its capabilities, others
    /// get none.
    #[must_use]
    pub fn new(uid: Uid, gid: Gid, groups: impl IntoIterator<Item = Gid>) -> Self {
        let groups: BTreeSet<Gid> = groups.into_iter().chain([gid]).collect();
        let powers = if uid == Uid::ROOT { Powers::ALL } else { Powers::NONE };
        Self { uid, gid, groups: groups.into_iter().collect(), powers }
    }

    /// The same ids with these capabilities.
    #[must_use]
    pub fn with_powers(self, powers: Powers) -> Self {
        Self { powers, ..self }
    }

    /// Whether the process is in `group`.
    #[must_use]
    pub fn is_in(&self, group: Gid) -> bool {
        self.groups.binary_search(&group).is_ok()
    }

    /// All groups, sorted, the effective one included.
    #[must_use]
    pub fn groups(&self) -> &[Gid] {
        &self.groups
    }
}

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

/// One user of the account database (passwd(5)).
#[derive(Clone, Debug, PartialEq, Eq)]
struct User {
    name: String,
    uid: Uid,
    gid: Gid,
    shell: String,
}

/// One group of the account database (group(5)).
#[derive(Clone, Debug, PartialEq, Eq)]
struct Group {
    name: String,
    gid: Gid,
    members: Vec<String>,
}

/// Where names that the files do not hold are asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Beyond {
    /// The host's name service (nsswitch.conf(5)), so that accounts of a directory server count.
    NameService,
    /// Nowhere: the files are all there is (`--host`, tests).
    Nothing,
}

/// The accounts of the host looked at.
#[derive(Clone, Debug)]
pub struct Accounts {
    users: Vec<User>,
    groups: Vec<Group>,
    beyond: Beyond,
}

impl Accounts {
    /// The accounts in the text of a passwd(5) and a group(5) file. Lines that are none are left out.
    #[must_use]
    pub fn from_texts(passwd: &str, group: &str) -> Self {
        Self {
            users: passwd.lines().filter_map(user_line).collect(),
            groups: group.lines().filter_map(group_line).collect(),
            beyond: Beyond::Nothing,
        }
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
        if self.beyond == Beyond::NameService
            && let Some(group) = uzers::get_group_by_name(name)
        {
            return Some(Gid(group.gid()));
        }
        name.parse().ok().map(Gid)
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
        match self.beyond {
            Beyond::NameService => uzers::get_group_by_gid(gid.0).map(|g| lossy(g.name())),
            Beyond::Nothing => None,
        }
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

    /// Every account that the files list, and those that the name service lists as members of `groups`.
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
        if self.beyond == Beyond::NameService
            && let Some(found) = uzers::get_group_by_gid(group.0)
        {
            use uzers::os::unix::GroupExt as _;
            members.extend(found.members().iter().filter_map(|name| Some(self.user_by_name(&lossy(name))?.uid)));
        }
        members
    }

    fn groups_of(&self, user: &User) -> Vec<Gid> {
        let mut groups = self.listed_groups(&user.name);
        if self.beyond == Beyond::NameService {
            let found = uzers::get_user_groups(&user.name, user.gid.0).unwrap_or_default();
            groups.extend(found.iter().map(|g| Gid(g.gid())));
        }
        groups
    }

    fn listed_groups(&self, user: &str) -> Vec<Gid> {
        self.groups.iter().filter(|g| g.members.iter().any(|m| m == user)).map(|g| g.gid).collect()
    }

    fn user_by_name(&self, name: &str) -> Option<User> {
        if let Some(user) = self.users.iter().find(|u| u.name == name) {
            return Some(user.clone());
        }
        match self.beyond {
            Beyond::NameService => uzers::get_user_by_name(name).map(|u| of_uzers(&u)),
            Beyond::Nothing => None,
        }
    }

    fn user_by_uid(&self, uid: Uid) -> Option<User> {
        if let Some(user) = self.users.iter().find(|u| u.uid == uid) {
            return Some(user.clone());
        }
        match self.beyond {
            Beyond::NameService => uzers::get_user_by_uid(uid.0).map(|u| of_uzers(&u)),
            Beyond::Nothing => None,
        }
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

fn of_uzers(user: &uzers::User) -> User {
    use uzers::os::unix::UserExt as _;
    let shell = user.shell().to_string_lossy().into_owned();
    User { name: lossy(user.name()), uid: Uid(user.uid()), gid: Gid(user.primary_group_id()), shell }
}

fn lossy(name: &OsStr) -> String {
    name.to_string_lossy().into_owned()
}

/// A name as it can be shown: what is not seen, or moves what is beside it, is escaped.
fn plain(name: &str) -> String {
    if name.chars().any(|c| c.is_control() || crate::shown::misleads(c)) {
        return crate::shown::Shown(Path::new(name)).to_string();
    }
    name.to_owned()
}

/// `name:password:uid:gid:…` (passwd(5)).
fn user_line(line: &str) -> Option<User> {
    let mut fields = line.split(':');
    let name = fields.next().filter(|n| !n.is_empty() && !n.starts_with(['#', '+', '-']))?;
    fields.next()?;
    let uid = fields.next()?.parse().ok()?;
    let gid = fields.next()?.parse().ok()?;
    let shell = fields.nth(2).unwrap_or_default().to_owned();
    Some(User { name: plain(name), uid: Uid(uid), gid: Gid(gid), shell })
}

/// `name:password:gid:member,member` (group(5)).
fn group_line(line: &str) -> Option<Group> {
    let mut fields = line.split(':');
    let name = fields.next().filter(|n| !n.is_empty() && !n.starts_with(['#', '+', '-']))?;
    fields.next()?;
    let gid = fields.next()?.parse().ok()?;
    let members = fields.next().unwrap_or_default();
    let members = members.split(',').map(str::trim).filter(|m| !m.is_empty());
    Some(Group { name: plain(name), gid: Gid(gid), members: members.map(plain).collect() })
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

    #[rstest]
    #[case::none("0000000000000000", Some(Powers::NONE))]
    #[case::everything("000001ffffffffff", Some(Powers::ALL))]
    #[case::others_only("0000000000000c00", Some(Powers::NONE))]
    #[case::one("0000000000000004", Some(Powers::DAC_READ_SEARCH))]
    #[case::nonsense("x", None)]
    fn capabilities_are_read_from_a_status(#[case] mask: &str, #[case] want: Option<Powers>) {
        assert_eq!(Powers::of_status(mask), want);
    }

    #[test]
    fn root_has_its_capabilities_until_they_are_taken() {
        let root = Ids::new(Uid::ROOT, Gid(0), []);
        assert_eq!(root.powers.names(), "CAP_DAC_OVERRIDE, CAP_DAC_READ_SEARCH, CAP_FOWNER");
        assert_eq!(root.with_powers(Powers::FOWNER).powers.names(), "CAP_FOWNER");
        assert_eq!(Ids::new(Uid(33), Gid(0), []).powers.names(), "");
    }

    #[test]
    fn this_host_has_root() {
        let accounts = crate::host::accounts(&crate::tree::Host::this().unwrap()).unwrap();
        assert_eq!(accounts.user_name(Uid::ROOT).as_deref(), Some("root"));
        assert!(accounts.user_name(Uid(4_000_000_001)).is_none());
    }
}
