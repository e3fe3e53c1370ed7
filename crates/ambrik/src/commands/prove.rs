//! The process that `seal` starts to try what PHP's account can do; nobody calls it by hand.

use std::path::PathBuf;

use ambrik_core::change::{Prover, answer};

use crate::failure::{Exit, Failure};
use crate::session::Session;

/// The command's name.
const NAME: &str = "prove-as-php";

/// Try what PHP's account can write, as `seal` asks on standard input
#[derive(Debug, clap::Args)]
pub(crate) struct ProveArgs {}

/// How it is started: the program that runs now, whatever has its name by now.
pub(crate) fn prover() -> Prover {
    Prover { program: PathBuf::from("/proc/self/exe"), arguments: vec![NAME.into()] }
}

pub(crate) fn run(session: &mut Session<'_>) -> Result<Exit, Failure> {
    answer(std::io::stdin().lock(), session.terminal.raw_out())?;
    Ok(Exit::Clean)
}
