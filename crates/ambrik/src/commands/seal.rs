//! `seal`: ends a deployment.

use std::path::PathBuf;

use ambrik_core::audit::Audit;
use ambrik_core::change::{ChangeCommand, Plan};
use ambrik_core::site::Phase;

use super::audit::FailOn;
use super::changing::{self, Insisting, Job, Mode};
use crate::failure::{Exit, Failure};
use crate::session::Session;

/// End a deployment: set all rights, take installers and left-overs away, look again
///
/// What is removed goes into a keepsake in the state directory first; `ambrik undo` puts it back. Afterwards a process
/// of PHP's account tries to write where it must not, and where it must, and what appeared in the tree since `open` is
/// listed.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik seal berths --preview\n  ambrik seal berths")]
pub(crate) struct SealArgs {
    /// Names of sites, or paths of site files
    #[arg(value_name = "SITE", required = true)]
    names: Vec<PathBuf>,
    /// Only show what would change; needs no privilege
    #[arg(short = 'n', long, conflicts_with = "yes")]
    preview: bool,
    /// Do not ask
    #[arg(short = 'y', long)]
    yes: bool,
    /// Leave this path where it is, though it looks like an installer or a left-over (relative to the root)
    #[arg(long, value_name = "PATH")]
    leave: Vec<PathBuf>,
    /// Seal it though the installer did not run: its settings are empty, or as their sample is
    #[arg(long)]
    unfinished: bool,
    /// Lowest severity of what remains that makes the exit code 1
    #[arg(long, value_enum, default_value = "medium", value_name = "SEVERITY")]
    fail_on: FailOn,
    #[command(flatten)]
    insisting: Insisting,
    /// Remove without a keepsake: what is removed cannot come back
    #[arg(long)]
    keep_nothing: bool,
}

pub(crate) fn run(args: &SealArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let mode = match (args.preview, args.yes) {
        (true, _) => Mode::Preview,
        (false, true) => Mode::Yes,
        (false, false) => Mode::Ask,
    };
    let plan = |audit: Audit, phase: Phase| Plan::seal(audit, phase, &args.leave);
    let (keep, unfinished) = (!args.keep_nothing, args.unfinished);
    let job = Job {
        command: ChangeCommand::Seal,
        plan: &plan,
        mode,
        keep,
        phase: Phase::Sealed,
        parts: None,
        insisting: args.insisting,
        whole_label: false,
        unfinished,
        fail_on: args.fail_on,
    };
    changing::run(&job, &args.names, session)
}
