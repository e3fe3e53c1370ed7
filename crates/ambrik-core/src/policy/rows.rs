//! Rows of rights: what each account may do in a part.

use std::hash::Hash;

use crate::mode::Perm;
use crate::site::{Others, Use};

/// What an account may do: `r` on a directory means read and search, `rw` read, write and search.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Right {
    /// Nothing.
    #[default]
    None,
    /// Read.
    Read,
    /// Read and write.
    Write,
}

impl Right {
    /// The permission bits that give this right on a file, or on a directory.
    #[must_use]
    pub const fn perm(self, directory: bool) -> Perm {
        match (self, directory) {
            (Self::None, _) => Perm::NONE,
            (Self::Read, false) => Perm::R,
            (Self::Read, true) => Perm::RX,
            (Self::Write, false) => Perm::RW,
            (Self::Write, true) => Perm::RWX,
        }
    }

    /// The word for it: `-`, `r` or `rw`.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::None => "-",
            Self::Read => "r",
            Self::Write => "rw",
        }
    }
}

/// One row of the table of rights: what each account may do with a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Row {
    /// The keeper's right.
    pub keeper: Right,
    /// php's.
    pub php: Right,
    /// The web server's.
    pub web: Right,
    /// Everybody else's.
    pub others: Right,
}

/// The table of rights: what each use means, for a path that is served or not, while php may write or not.
#[must_use]
pub const fn row(used_as: Use, php_may_write: bool, served: bool, others: Others) -> Row {
    let if_served = if served { Right::Read } else { Right::None };
    let as_others = match others {
        Others::Read => Right::Read,
        Others::None => Right::None,
    };
    let (php, web, others) = match used_as {
        Use::Code | Use::Setup => (Right::Read, if_served, as_others),
        Use::Secret => (Right::Read, Right::None, Right::None),
        Use::Store | Use::Scratch => (Right::Read, if_served, Right::None),
        Use::Log => (Right::Read, Right::None, Right::None),
        Use::Remove => (Right::None, if_served, Right::None),
        Use::Hidden => (Right::None, Right::None, Right::None),
        Use::Foreign => (Right::Write, Right::Write, Right::Write),
    };
    let php = if php_may_write { Right::Write } else { php };
    Row { keeper: Right::Write, php, web, others }
}
