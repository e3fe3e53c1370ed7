//! The command line.

use clap::Parser;

use crate::commands::Command;
use crate::options::Global;

/// Say what each part of a PHP site is for; Ambrik works out who may do what, makes it so, proves it, and takes it back
#[derive(Debug, Parser)]
#[command(name = "ambrik", version = VERSION, propagate_version = true, max_term_width = 100, after_help = EXIT_CODES)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) command: Command,
    #[command(flatten)]
    pub(crate) global: Global,
}

/// The version, the commit that it was built of, and what it was built for.
const VERSION: &str = concat!(env!("CARGO_PKG_VERSION"), " (", env!("AMBRIK_COMMIT"), ", ", env!("AMBRIK_TARGET"), ")");

const EXIT_CODES: &str = "Exit codes: 0 nothing to report; 1 findings, or changes pending under --preview; \
2 usage or site file wrong, nothing done; 3 done in part; 4 privilege missing, nothing done.";

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    #[test]
    fn the_command_line_is_sound() {
        super::Cli::command().debug_assert();
    }

    /// Each command shows how it is called, as it can be called.
    #[test]
    fn the_examples_are_command_lines() {
        let command = super::Cli::command();
        for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
            let help = sub.get_after_help().map(ToString::to_string).unwrap_or_default();
            let lines: Vec<&str> = help.lines().skip(1).map(str::trim).collect();
            assert!(!lines.is_empty(), "{}", sub.get_name());
            for line in lines {
                let parsed = super::Cli::command().try_get_matches_from(line.split_whitespace());
                assert!(parsed.is_ok_and(|found| found.subcommand_name() == Some(sub.get_name())), "{line}");
            }
        }
    }
}
