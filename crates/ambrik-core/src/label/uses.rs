//! Which type a part's files are to have: for each use, types of the trade's common web policy in the order of preference,
//! of which the first is taken that the host's policy has and that gives PHP's domain exactly what it needs.

use super::kernel::{Allowed, Permissions};
use crate::entry::Kind;
use crate::policy::{Context, Right};
use crate::site::Use;

/// What PHP's domain must be able to do with a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Need {
    /// Nothing.
    Nothing,
    /// Read.
    Read,
    /// Make files and add to them: logs.
    Append,
    /// Read, make, change, remove.
    Write,
}

impl Need {
    /// What a context's row asks for.
    pub(super) const fn of(context: &Context) -> Self {
        match (context.row.php, context.used_as) {
            (Right::None, _) => Self::Nothing,
            (Right::Read, _) => Self::Read,
            (Right::Write, Use::Log) => Self::Append,
            (Right::Write, _) => Self::Write,
        }
    }

    /// The words for it.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Nothing => "nothing",
            Self::Read => "read",
            Self::Append => "add to",
            Self::Write => "write",
        }
    }

    const fn permissions(self, kind: Kind) -> Permissions {
        match (self, kind) {
            (Self::Nothing, _) => &[],
            (_, Kind::Symlink) => &["read", "getattr"],
            (Self::Read, Kind::Directory) => &["search", "read", "open", "getattr"],
            (Self::Read, _) => &["read", "open", "getattr"],
            (Self::Append, Kind::Directory) => &["search", "open", "getattr", "write", "add_name"],
            (Self::Append, _) => &["open", "getattr", "append", "create"],
            (Self::Write, Kind::Directory) => {
                &["search", "read", "open", "getattr", "write", "add_name", "remove_name", "create", "rmdir"]
            }
            (Self::Write, _) => &["read", "open", "getattr", "write", "create", "unlink", "rename"],
        }
    }
}

/// What changes something of this kind.
const fn changing(kind: Kind) -> Permissions {
    match kind {
        Kind::Directory => &["add_name", "remove_name", "rmdir"],
        _ => &["write", "append", "unlink", "rename", "create"],
    }
}

/// What does more than add to something of this kind.
const fn rewriting(kind: Kind) -> Permissions {
    match kind {
        Kind::Directory => &["remove_name", "rmdir"],
        _ => &["write", "unlink", "rename"],
    }
}

/// What a label lets PHP do, compared with what it needs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Fit {
    /// Exactly that.
    Exact,
    /// Less: PHP cannot do what the site needs.
    Blocks,
    /// More: PHP could change what it must not, or read what nobody shall.
    TooWide,
}

impl Fit {
    /// How what is allowed compares with what is needed.
    pub(super) fn of(allowed: &Allowed, need: Need, kind: Kind) -> Self {
        if !allowed.all(need.permissions(kind)) {
            return Self::Blocks;
        }
        let too_much = match need {
            Need::Nothing => kind != Kind::Directory && allowed.all(Need::Read.permissions(kind)),
            Need::Read => allowed.any(changing(kind)) && kind != Kind::Symlink,
            Need::Append | Need::Write => false,
        };
        if too_much { Self::TooWide } else { Self::Exact }
    }
}

/// Whether a type is also not wider than what is needed where several would do.
pub(super) fn is_narrowest(allowed: &Allowed, need: Need, kind: Kind) -> bool {
    Fit::of(allowed, need, kind) == Fit::Exact && !(need == Need::Append && allowed.any(rewriting(kind)))
}

/// The types for a use, the best first.
pub(super) const fn candidates(used_as: Use, need: Need) -> &'static [&'static str] {
    match (used_as, need) {
        (_, Need::Nothing) => &["backup_store_t", "var_t", "default_t"],
        (_, Need::Read) => &["httpd_sys_content_t", "httpd_config_t", "usr_t"],
        (_, Need::Append) => &["httpd_sys_ra_content_t", "httpd_log_t", "httpd_sys_rw_content_t"],
        (Use::Scratch, Need::Write) => &["httpd_cache_t", "httpd_sys_rw_content_t", "httpd_var_lib_t"],
        (_, Need::Write) => &["httpd_sys_rw_content_t", "httpd_var_lib_t"],
    }
}
