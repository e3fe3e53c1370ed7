//! x
use crate::failure::{Exit, Failure};
use crate::session::Session;

/// Demo
#[derive(Debug, clap::Args)]
pub(crate) struct DemoArgs {}
pub(crate) fn run(_args: &DemoArgs, _session: &mut Session<'_>) -> Result<Exit, Failure> {
    Ok(Exit::Clean)
}
