//! Caddy: its processes, and the account that a unit starts it as. Its configuration is not read.

use super::Role;
use super::program::Program;

pub(super) static CADDY: Program =
    Program { in_units: &["caddy"], ..Program::named("caddy", Role::Web, |name| name == "caddy") };
