//! `set`: brings a tree to what its site file says.

use std::path::PathBuf;

use ambrik_core::change::Plan;
use ambrik_core::site::Phase;

use super::changing::{self, Job, Mode};
use crate::failure::{Exit, Failure};
use crate::session::Session;

/// Bring a site's tree to what its site file says
///
/// Shows the changes, asks, records what was there, makes them and reads them back. `ambrik undo` takes them back.
#[derive(Debug, clap::Args)]
pub(crate) struct SetArgs {
    /// Names of sites, or paths of site files; none = every site
    #[arg(value_name = "SITE")]
    names: Vec<PathBuf>,
    /// Only show what would change; needs no privilege
    #[arg(long, conflicts_with_all = ["yes", "as_script"])]
    preview: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
    /// Print a POSIX shell script that makes the changes, for hosts where Ambrik cannot run
    #[arg(long, conflicts_with = "yes")]
    as_script: bool,
}

pub(crate) fn run(args: &SetArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let mode = match (args.preview, args.as_script, args.yes) {
        (true, _, _) => Mode::Preview,
        (_, true, _) => Mode::Script,
        (_, _, true) => Mode::Yes,
        (false, false, false) => Mode::Ask,
    };
    let (phase, plan) = (Phase::Sealed, &Plan::set);
    let job = Job { name: "set", plan, mode, keep: true, phase, parts: None, unfinished: true };
    changing::run(&job, &args.names, session)
}
