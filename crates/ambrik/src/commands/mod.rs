//! One file a command: its arguments and what it does.

pub(crate) mod accounts;
pub(crate) mod audit;
mod changing;
pub(crate) mod demo;
pub(crate) mod history;
pub(crate) mod open;
mod pages;
pub(crate) mod prove;
pub(crate) mod relocate;
pub(crate) mod seal;
pub(crate) mod set;
pub(crate) mod survey;
pub(crate) mod undo;
pub(crate) mod why;

use crate::args::Command;
use crate::failure::{Exit, Failure};
use crate::session::Session;

/// Runs a command.
pub(crate) fn run(command: Command, session: &mut Session<'_>) -> Result<Exit, Failure> {
    match command {
        Command::Accounts(args) => accounts::run(&args, session),
        Command::Survey(args) => survey::run(&args, session),
        Command::Audit(args) => audit::run(&args, session),
        Command::Set(args) => set::run(&args, session),
        Command::Open(args) => open::run(&args, session),
        Command::Seal(args) => seal::run(&args, session),
        Command::Move(args) => relocate::run(&args, session),
        Command::Why(args) => why::run(&args, session),
        Command::History(args) => history::run(&args, session),
        Command::Undo(args) => undo::run(&args, session),
        Command::Demo(args) => demo::run(&args, session),
        Command::ProveAsPhp(_) => prove::run(session),
    }
}
