//! The command-line tool: it parses, asks and prints; all computation is in `ambrik_core`.

mod args;
mod ask;
mod commands;
mod demo;
mod failure;
mod output;
mod progress;
mod session;

use std::ffi::OsString;
use std::io::Write;

use clap::Parser;

use args::Cli;
pub use failure::Exit;
use session::Session;

/// Runs the tool with these arguments (the program's name first). Data goes to `out`, talk to `err`.
pub fn run(args: impl IntoIterator<Item = OsString>, out: &mut dyn Write, err: &mut dyn Write) -> Exit {
    let cli = match Cli::try_parse_from(args) {
        Ok(cli) => cli,
        Err(error) => {
            let help = !error.use_stderr();
            let to: &mut dyn Write = if help { out } else { err };
            // Where even that cannot be written there is nobody to tell.
            let _ = write!(to, "{}", error.render());
            return if help { Exit::Clean } else { Exit::Usage };
        }
    };
    let mut session = Session::new(&cli.global, out, err);
    let result = commands::run(cli.command, &mut session);
    match result {
        Ok(exit) => exit,
        Err(failure) if failure.is_closed_pipe() => Exit::Clean,
        Err(failure) => session.report(&failure),
    }
}
