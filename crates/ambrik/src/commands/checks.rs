//! `checks`: the catalogue.

use ambrik_core::check::{CATALOGUE, Check};
use ambrik_core::nearest::nearest;

use crate::failure::{Exit, Failure};
use crate::output::report::ChecksReport;
use crate::session::Session;

/// List what an audit looks for; of one check: what it means, what somebody makes of it, what puts it right
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik checks\n  ambrik checks php-writes-code")]
pub(crate) struct ChecksArgs {
    /// Only this one, and all that there is to say of it
    #[arg(value_name = "CHECK")]
    name: Option<String>,
}

pub(crate) fn run(args: &ChecksArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let one = match &args.name {
        None => None,
        Some(name) => Some(CATALOGUE.iter().copied().find(|check| check.name == *name).ok_or_else(|| unknown(name))?),
    };
    let checks: Vec<&Check> = one.map_or_else(|| CATALOGUE.to_vec(), |check| vec![check]);
    session.terminal.write(&ChecksReport { checks: &checks, whole: one.is_some() })?;
    Ok(Exit::Clean)
}

pub(super) fn unknown(name: &str) -> Failure {
    let near = match nearest(name, CATALOGUE.iter().map(|check| check.name)) {
        Some(near) => format!("did you mean {near}?"),
        None => "ambrik checks lists them".to_owned(),
    };
    Failure::usage(format!("there is no check {name}; {near}"))
}
