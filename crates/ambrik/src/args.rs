//! The command line.

use clap::Parser;

use crate::commands::Command;
use crate::options::Global;

/// Say what each part of a PHP site is for; Ambrik works out who may do what, makes it so, proves it, and takes it back
#[derive(Debug, Parser)]
#[command(name = "ambrik", version, propagate_version = true, max_term_width = 100, after_help = EXIT_CODES)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) command: Command,
    #[command(flatten)]
    pub(crate) global: Global,
}

const EXIT_CODES: &str = "Exit codes: 0 nothing to report; 1 findings, or changes pending under --preview; \
2 usage or site file wrong, nothing done; 3 done in part; 4 privilege missing, nothing done.";

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    #[test]
    fn the_command_line_is_sound() {
        super::Cli::command().debug_assert();
    }
}
