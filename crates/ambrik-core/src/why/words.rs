//! The words in which a step says what decided it.

use rustix::io::Errno;

use super::{Act, Subject};
use crate::access::{Class, Decision, Fixed};
use crate::account::{Accounts, Uid};
use crate::audit::rights_shown;
use crate::entry::{Bar, Kind, Rights};
use crate::mode::Perm;

/// Why a link is not followed.
pub(super) const PROTECTED_LINK: &str = "a symlink in a sticky directory that everybody can write to, and neither the account nor \
    the directory's owner made it: the kernel does not follow it (fs.protected_symlinks)";

/// What keeps everybody from removing a name.
pub(super) const fn fixed(fixed: Fixed) -> &'static str {
    match fixed {
        Fixed::NamesAreOnlyAdded => "the append-only flag is set: names can be added, and none removed",
        Fixed::Immutable => Bar::Immutable.words(),
        Fixed::AppendOnly => "the append-only flag is set: it cannot be removed",
        Fixed::MountPoint => "something is mounted here: a mount point cannot be removed",
    }
}

/// Why something cannot be told.
pub(super) fn unseen(errno: Errno) -> String {
    let text = std::io::Error::from(errno).to_string();
    let text = text.split(" (os error").next().unwrap_or(&text).to_lowercase();
    let todo = if matches!(errno, Errno::ACCESS | Errno::PERM) { "; run it as root" } else { "" };
    format!("cannot tell from here: {text}{todo}")
}

/// What says who is who.
pub(super) struct Words<'w> {
    pub(super) accounts: &'w Accounts,
    pub(super) subject: &'w Subject,
}

impl Words<'_> {
    /// `root:web 0750; berths is in group web: r-x`, and what is missing.
    pub(super) fn decided(&self, kind: Kind, rights: &Rights, decision: &Decision, act: Act) -> String {
        let shown = rights_shown(self.accounts, rights, kind);
        let who = &self.subject.name;
        let (list, named) = if rights.acl.is_some() && !rights.mode.group().is_none() {
            (" nor named in its list", "its access list names")
        } else {
            ("", "")
        };
        let class = match decision.class {
            Class::Owner => format!("{who} owns it"),
            Class::NamedUser => format!("{named} {who}"),
            Class::Group => format!("{who} is in group {}", self.accounts.group_shown(rights.gid)),
            Class::NamedGroup => {
                let group = decision.group.map(|gid| self.accounts.group_shown(gid)).unwrap_or_default();
                format!("{named} group {group}, which {who} is in")
            }
            Class::Other if list.is_empty() => format!("{who} is neither its owner nor in its group, and others have"),
            Class::Other => format!("{who} is neither its owner nor in its group{list}, and others have"),
        };
        let colon = if decision.class == Class::Other { "" } else { ":" };
        let mask = match decision.mask {
            Some(mask) if !mask.covers(decision.perm) => {
                format!(", of which the mask {mask} leaves {}", decision.perm.and(mask))
            }
            _ => String::new(),
        };
        let end = match (decision.allowed, decision.power) {
            (true, None) => String::new(),
            (true, Some(power)) => format!("; {} of its process overrides that", power.names()),
            (false, _) => format!("; {} missing", missing(act, decision)),
        };
        format!("{shown}; {class}{colon} {}{mask}{end}", decision.perm)
    }

    /// Why a name in a sticky directory cannot be removed.
    pub(super) fn sticky(&self, owner: Uid, dir_owner: Uid) -> String {
        format!(
            "the directory is sticky: only the owners of the name ({}) and of the directory ({}) remove it",
            self.accounts.user_shown(owner),
            self.accounts.user_shown(dir_owner)
        )
    }
}

/// The right that a class lacks.
fn missing(act: Act, decision: &Decision) -> &'static str {
    let left = decision.mask.map_or(decision.perm, |mask| decision.perm.and(mask));
    match act {
        Act::Read => "read is",
        Act::Write => "write is",
        Act::Execute => "execute is",
        Act::Search | Act::Follow | Act::Find => "search is",
        Act::Create | Act::Delete => match (left.covers(Perm::W), left.covers(Perm::X)) {
            (true, _) => "search is",
            (false, true) => "write is",
            (false, false) => "write and search are",
        },
    }
}
