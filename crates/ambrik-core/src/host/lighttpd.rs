//! lighttpd: its processes, and the account that a unit starts it as. Its configuration is not read.

use super::Role;
use super::program::Program;

pub(super) static LIGHTTPD: Program =
    Program { in_units: &["lighttpd"], ..Program::named("lighttpd", Role::Web, |name| name == "lighttpd") };
