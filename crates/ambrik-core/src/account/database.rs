//! Users and groups as passwd(5) and group(5) hold them.

use std::path::Path;

use super::ids::{Gid, Uid};

/// One user of the account database (passwd(5)).
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct User {
    pub(crate) name: String,
    pub(crate) uid: Uid,
    pub(crate) gid: Gid,
    pub(crate) shell: String,
}

/// One group of the account database (group(5)).
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct GroupLine {
    pub(crate) name: String,
    pub(crate) gid: Gid,
    pub(crate) members: Vec<String>,
}

/// A name as it can be shown: what is not seen, or moves what is beside it, is escaped.
pub(crate) fn plain(name: &str) -> String {
    if name.chars().any(|c| c.is_control() || crate::shown::misleads(c)) {
        return crate::shown::Shown(Path::new(name)).to_string();
    }
    name.to_owned()
}

/// `name:password:uid:gid:…` (passwd(5)).
pub(crate) fn user_line(line: &str) -> Option<User> {
    let mut fields = line.split(':');
    let name = fields.next().filter(|n| !n.is_empty() && !n.starts_with(['#', '+', '-']))?;
    fields.next()?;
    let uid = fields.next()?.parse().ok()?;
    let gid = fields.next()?.parse().ok()?;
    let shell = fields.nth(2).unwrap_or_default().to_owned();
    Some(User { name: plain(name), uid: Uid(uid), gid: Gid(gid), shell })
}

/// `name:password:gid:member,member` (group(5)).
pub(crate) fn group_line(line: &str) -> Option<GroupLine> {
    let mut fields = line.split(':');
    let name = fields.next().filter(|n| !n.is_empty() && !n.starts_with(['#', '+', '-']))?;
    fields.next()?;
    let gid = fields.next()?.parse().ok()?;
    let members = fields.next().unwrap_or_default();
    let members = members.split(',').map(str::trim).filter(|m| !m.is_empty());
    Some(GroupLine { name: plain(name), gid: Gid(gid), members: members.map(plain).collect() })
}
