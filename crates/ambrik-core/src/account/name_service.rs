//! The host's name service (nsswitch.conf(5)): users and groups that stand in no file, asked for one by one.

use std::ffi::CString;
use std::fmt::Display;

use nix::errno::Errno;

use super::database::{GroupLine, User, plain};
use super::ids::{Gid, Uid};

/// A question that the name service did not answer. That it knows no such account is an answer: the C library then returns no
/// error, whatever getpwnam(3) allows others.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Unanswered {
    /// It failed.
    #[error(
        "the name service did not answer for {about}: {cause}; see that the services named in /etc/nsswitch.conf run"
    )]
    Failed {
        /// The user or group.
        about: String,
        /// Why.
        cause: &'static str,
    },
    /// There was too much to ask.
    #[error("{0} users and groups own or are given something here, too many to ask the name service who they are")]
    TooMany(usize),
}

fn unanswered(what: &str, which: impl Display) -> impl FnOnce(Errno) -> Unanswered {
    move |errno| Unanswered::Failed { about: format!("{what} {which}"), cause: errno.desc() }
}

/// `getpwnam_r(3)`.
pub(crate) fn user_by_name(name: &str) -> Result<Option<User>, Unanswered> {
    nix::unistd::User::from_name(name).map(|user| user.as_ref().map(of_user)).map_err(unanswered("user", name))
}

/// `getpwuid_r(3)`.
pub(crate) fn user_by_uid(uid: Uid) -> Result<Option<User>, Unanswered> {
    nix::unistd::User::from_uid(uid.0.into()).map(|user| user.as_ref().map(of_user)).map_err(unanswered("user", uid))
}

/// `getgrnam_r(3)`.
pub(crate) fn group_by_name(name: &str) -> Result<Option<GroupLine>, Unanswered> {
    nix::unistd::Group::from_name(name).map(|group| group.as_ref().map(of_group)).map_err(unanswered("group", name))
}

/// `getgrgid_r(3)`, with the members that it lists: not those whose own group it is.
pub(crate) fn group_by_gid(gid: Gid) -> Result<Option<GroupLine>, Unanswered> {
    nix::unistd::Group::from_gid(gid.0.into())
        .map(|group| group.as_ref().map(of_group))
        .map_err(unanswered("group", gid))
}

/// getgrouplist(3): all groups of a user.
pub(crate) fn groups_of(user: &User) -> Result<Vec<Gid>, Unanswered> {
    // A name with a NUL in it is nobody's.
    let Ok(name) = CString::new(user.name.as_str()) else { return Ok(Vec::new()) };
    let groups = nix::unistd::getgrouplist(&name, user.gid.0.into());
    groups
        .map(|groups| groups.into_iter().map(|gid| Gid(gid.as_raw())).collect())
        .map_err(unanswered("groups of", &user.name))
}

fn of_user(user: &nix::unistd::User) -> User {
    let shell = user.shell.to_string_lossy().into_owned();
    User { name: plain(&user.name), uid: Uid(user.uid.as_raw()), gid: Gid(user.gid.as_raw()), shell }
}

fn of_group(group: &nix::unistd::Group) -> GroupLine {
    GroupLine {
        name: plain(&group.name),
        gid: Gid(group.gid.as_raw()),
        members: group.mem.iter().map(|name| plain(name)).collect(),
    }
}

/// The services that know accounts besides those of the files: those of `passwd` and `group` in an nsswitch.conf(5), but for
/// what is this host's own (nss-systemd(8) makes up users for services that run).
pub(crate) fn beyond_files(nsswitch: &str) -> Vec<String> {
    let mut services: Vec<String> = Vec::new();
    for line in nsswitch.lines() {
        let line = line.split('#').next().unwrap_or_default();
        let Some((database, rest)) = line.split_once(':') else { continue };
        if !["passwd", "group"].contains(&database.trim()) {
            continue;
        }
        let rest = rest.replace(['[', ']'], " ");
        let words = rest.split_whitespace().filter(|word| !word.contains('='));
        for word in words.filter(|word| !["files", "systemd"].contains(word)) {
            let word = plain(word);
            if !services.contains(&word) {
                services.push(word);
            }
        }
    }
    services
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::files_alone("passwd: files systemd\ngroup: files\nhosts: files dns\n", &[])]
    #[case::a_directory_server("passwd: files [!NOTFOUND=return] sss\ngroup:files sss # and ldap\n", &["sss"])]
    #[case::several("passwd:\tcompat\ngroup: files [SUCCESS=merge] ldap\n", &["compat", "ldap"])]
    #[case::nothing("", &[])]
    fn services_besides_the_files(#[case] nsswitch: &str, #[case] want: &[&str]) {
        assert_eq!(beyond_files(nsswitch), want);
    }
}
