//! Lets php pass the directories that lead to a new place: search, and no more, for php's account alone.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::access::{each, permits};
use crate::account::Ids;
use crate::acl::{Acl, AclEntry, Tag};
use crate::change::folder::{c_name, folder, split};
use crate::change::ledger::Recorder;
use crate::change::rights::{self, RightsChange};
use crate::change::{ChangeContext, ChangeError, Job, Outcome, run};
use crate::entry::{Facts, Kind, Rights};
use crate::mode::{Mode, Perm};
use crate::shown::Shown;
use crate::site::{Site, is_systems};
use crate::tree::{Host, WayError};

/// A directory that php is to pass.
#[derive(Clone, Debug)]
pub struct PassageGrant {
    /// The directory, without links.
    pub path: PathBuf,
    /// What it has.
    pub before: Arc<Rights>,
    /// What it gets.
    pub after: Arc<Rights>,
    turn: RightsChange,
}

/// The existing directories above `to` that php cannot search. Errors, in words, where that cannot or must not be mended.
pub(super) fn passages(host: &Host, site: &Site, to: &Path) -> Result<Vec<PassageGrant>, String> {
    let above = to.ancestors().skip(1).find_map(|above| match host.resolve_safely(above, site.keeper.ids.uid) {
        Err(WayError::Missing(_)) => None,
        found => Some(found),
    });
    let Some(resolved) = above else { return Ok(Vec::new()) };
    let resolved = resolved.map_err(|error| error.to_string())?;
    if resolved.facts.kind != Kind::Directory {
        return Err(format!("{} is no directory", Shown(&resolved.path)));
    }
    let mut found: Vec<PassageGrant> = Vec::new();
    let passed = resolved.way.into_iter().map(|passed| (passed.path, passed.facts));
    for (path, facts) in passed.chain([(resolved.path, resolved.facts)]) {
        if permits(&site.php.ids, Kind::Directory, &facts.rights, Perm::X) || found.iter().any(|p| p.path == path) {
            continue;
        }
        if is_systems(&path) {
            let php = &site.php.user;
            return Err(format!(
                "{} is closed to PHP's account {php}, and is the host's own: name another place",
                Shown(&path)
            ));
        }
        found.push(PassageGrant::new(path, &facts, &site.php.ids));
    }
    Ok(found)
}

impl PassageGrant {
    fn new(path: PathBuf, facts: &Facts, php: &Ids) -> Self {
        let before = Arc::new(facts.rights.clone());
        let after = Arc::new(with_search(&facts.rights, php));
        let (kind, left) = (Kind::Directory, None);
        let turn = RightsChange {
            id: facts.id,
            kind,
            links: facts.links,
            before: Arc::clone(&before),
            after: Arc::clone(&after),
            left,
            changed: None,
        };
        Self { path, before, after, turn }
    }
}

/// Changes the directories.
pub(super) fn open(
    passages: &[PassageGrant],
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let root = means.host.resolve(Path::new("/")).map_err(|_| ChangeError::RootReplaced)?;
    let jobs = passages.iter().filter_map(|passage| {
        let (above, name) = split(&passage.path)?;
        Some(Job { folder: Arc::new(folder(above)), name: c_name(name).ok()?, turn: passage.turn.clone() })
    });
    let batch: Vec<Job> = jobs.collect();
    run(entry, &[root.handle], &mut batch.into_iter(), &rights::change, means, outcome)
}

/// These rights, and search for one account besides; nobody else gets anything.
///
/// The account gets an entry of its own in the directory's list, made where there is none. Its entry has what the account could do
/// so far, too: a named entry stands before groups and others (acl(5), access check), so without them it would lose rights. The mask
/// must let search through, and a wider mask would wake up what it held back of other entries: these are cut to the old mask
/// first. Where the account is the owner its own class gets the bit, and no list is needed.
fn with_search(rights: &Rights, account: &Ids) -> Rights {
    let mode = rights.mode;
    let own = each(account, Kind::Directory, rights).or(Perm::X);
    if account.uid == rights.uid {
        let mode = Mode::of_classes(own, mode.group(), mode.other()).with(mode.bits() & 0o7000);
        let acl = rights.acl.as_ref().map(|acl| Arc::new(acl.under_mode(mode)));
        return Rights { mode, acl, ..rights.clone() };
    }
    // The kernel does not look at a list whose mask leaves nothing.
    let plain = Acl::with_users(mode.user(), mode.group(), mode.other(), &[]);
    let list = rights.acl.as_deref().filter(|_| !mode.group().is_none()).unwrap_or(&plain);
    let mask = list.perm(Tag::Mask).unwrap_or_else(|| mode.group());
    let entries =
        list.entries().iter().filter(|entry| !matches!(entry.tag, Tag::Mask) && entry.tag != Tag::User(account.uid));
    let entries = entries.map(|&AclEntry { tag, perm }| match tag {
        // What the mask holds back stays held back though the mask grows.
        Tag::User(_) | Tag::Group(_) | Tag::OwningGroup => AclEntry { tag, perm: perm.and(mask) },
        Tag::Owner | Tag::Other | Tag::Mask => AclEntry { tag, perm },
    });
    let extra = [AclEntry { tag: Tag::User(account.uid), perm: own }, AclEntry { tag: Tag::Mask, perm: mask.or(own) }];
    let Ok(list) = Acl::new(entries.chain(extra)) else { return rights.clone() };
    let mode = list.shown_mode(mode);
    Rights { mode, acl: Some(Arc::new(list)), ..rights.clone() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::{Gid, Uid};
    use crate::acl::tests::any_acl;
    use proptest::prelude::*;

    proptest! {
        /// Whatever a directory has: the account can search it, and nobody else can do more or less than before.
        #[test]
        fn one_account_gets_search_and_nobody_anything_else(
            owner in 0_u32..4, group in 0_u32..4, bits in 0_u16..0o1000, list in proptest::option::of(any_acl()),
            php in 1_u32..6, other in 1_u32..6, php_group in 1_u32..6, other_group in 1_u32..6,
        ) {
            let mode = Mode::of_st_mode(bits);
            let mode = list.as_ref().map_or(mode, |list| list.shown_mode(mode));
            let acl = list.map(Arc::new);
            let rights = Rights { uid: Uid(owner), gid: Gid(group), mode, acl, default_acl: None, capabilities: None, label: None };
            let ids = |uid, gid| Ids::new(Uid(uid), Gid(gid), []);
            let (php, other) = (ids(php, php_group), ids(other, other_group));
            prop_assume!(php.uid != other.uid && !permits(&php, Kind::Directory, &rights, Perm::X));
            let after = with_search(&rights, &php);
            let can = |ids: &Ids, rights: &Rights| each(ids, Kind::Directory, rights);
            prop_assert_eq!(can(&other, &after), can(&other, &rights));
            prop_assert_eq!(can(&php, &after), can(&php, &rights).or(Perm::X));
        }
    }
}
