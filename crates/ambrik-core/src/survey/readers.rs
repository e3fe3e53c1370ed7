//! Who reads a site's logs besides: the host's log group, where a log folder lets it now.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use super::DraftPart;
use crate::account::{Accounts, Gid, Ids};
use crate::entry::Rights;
use crate::mode::Perm;
use crate::site::Use;
use crate::tree::Host;

/// A group that reads a part of the site.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Readers {
    /// The group.
    pub group: String,
    /// The part.
    pub path: PathBuf,
}

/// Where a host keeps its logs (Filesystem Hierarchy Standard).
const LOGS: &str = "/var/log";

/// The groups that read the logs of `parts` below `root`, but for those that PHP is in: what these may is said by the parts.
pub(super) fn readers(
    host: &Host,
    accounts: &Accounts,
    root: &Path,
    parts: &[DraftPart],
    php: Option<&Ids>,
) -> Vec<Readers> {
    let mut logs = parts.iter().filter(|part| part.used_as == Use::Log).peekable();
    if logs.peek().is_none() {
        return Vec::new();
    }
    let rights = |path: &Path| host.resolve_link(path).ok().map(|found| found.facts.rights);
    let read_by_group =
        |rights: &Rights| (rights.mode.group().covers(Perm::R) && rights.gid != Gid(0)).then_some(rights.gid);
    let names = host.names_in(Path::new(LOGS)).unwrap_or_default();
    let of_host: BTreeSet<Gid> = names
        .into_iter()
        .filter_map(|name| read_by_group(&rights(&Path::new(LOGS).join(name))?))
        .filter(|gid| php.is_none_or(|php| !php.is_in(*gid)))
        .collect();
    let reads = |part: &DraftPart| {
        let gid = read_by_group(&rights(&root.join(&part.path))?).filter(|gid| of_host.contains(gid))?;
        Some(Readers { group: accounts.group_name(gid)?, path: part.path.clone() })
    };
    logs.filter_map(reads).collect()
}
