//! An account that was seen to run PHP or to read files, and what all of them are seen in.

use std::path::PathBuf;

use super::process::Running;
use super::program::Family;
use super::units::Unit;
use super::{Evidence, Pool, Role, Server};
use crate::account::{Account, Accounts};
use crate::tree::Host;

/// All that was read.
pub(super) struct HostSeen<'s> {
    pub(super) host: &'s Host,
    pub(super) accounts: &'s Accounts,
    pub(super) running: &'s Running,
    pub(super) pools: &'s [Pool],
    pub(super) units: &'s [Unit],
    pub(super) servers: &'s [Server],
}

/// An account, and where it was seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Sighting {
    pub(super) family: Family,
    pub(super) role: Role,
    pub(super) program: String,
    pub(super) pool: Option<String>,
    /// The configuration that it belongs to, where that is known.
    pub(super) main: Option<PathBuf>,
    /// The account; the text that names none where there is none.
    pub(super) account: Result<Account, String>,
    pub(super) evidence: Evidence,
    /// Whether what it stands on could have been made by anybody: it then decides nothing.
    pub(super) weak: bool,
}

/// Whether a sighting is of this pool: of that name, under that php-fpm where it is known which.
pub(super) fn is_of_pool(sighting: &Sighting, pool: &Pool) -> bool {
    sighting.pool.as_ref() == Some(&pool.name) && sighting.main.as_ref().is_none_or(|main| *main == pool.main)
}
