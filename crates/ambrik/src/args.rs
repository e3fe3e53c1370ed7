//! The command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

use crate::commands::{
    accounts::AccountsArgs, audit::AuditArgs, demo::DemoArgs, history::HistoryArgs, open::OpenArgs, prove::ProveArgs,
    relocate::MoveArgs, seal::SealArgs, set::SetArgs, survey::SurveyArgs, undo::UndoArgs, why::WhyArgs,
};

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

/// Options of every command.
#[derive(Debug, Args)]
pub(crate) struct Global {
    /// Directory of the site files [default: /etc/ambrik/sites]
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        env = "AMBRIK_SITES",
        hide_env = true,
        help_heading = "Options of every command"
    )]
    pub(crate) sites: Option<PathBuf>,
    /// Directory of the ledger and the keepsakes [default: /var/lib/ambrik]
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        env = "AMBRIK_STATE",
        hide_env = true,
        help_heading = "Options of every command"
    )]
    pub(crate) state: Option<PathBuf>,
    /// Treat a folder as the root of the host looked at
    #[arg(long, global = true, value_name = "DIR", help_heading = "Options of every command")]
    pub(crate) host: Option<PathBuf>,
    /// How results are printed
    #[arg(long, global = true, value_enum, default_value = "text", help_heading = "Options of every command")]
    pub(crate) format: Format,
    /// When to use colours
    #[arg(
        long,
        global = true,
        value_enum,
        default_value = "auto",
        value_name = "WHEN",
        help_heading = "Options of every command"
    )]
    pub(crate) color: When,
    /// Print results and errors only
    #[arg(short, long, global = true, conflicts_with = "verbose", help_heading = "Options of every command")]
    pub(crate) quiet: bool,
    /// Say more of what is being done
    #[arg(short, long, global = true, help_heading = "Options of every command")]
    pub(crate) verbose: bool,
}

/// An output form.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    Text,
    /// For programs: one JSON document, described in docs/schemas.
    Json,
}

/// When colours are used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum When {
    /// On a terminal.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Accounts(AccountsArgs),
    Survey(SurveyArgs),
    Audit(AuditArgs),
    Set(SetArgs),
    Open(OpenArgs),
    Seal(SealArgs),
    Move(MoveArgs),
    Why(WhyArgs),
    History(HistoryArgs),
    Undo(UndoArgs),
    Demo(DemoArgs),
    #[command(hide = true)]
    ProveAsPhp(ProveArgs),
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    #[test]
    fn the_command_line_is_sound() {
        super::Cli::command().debug_assert();
    }
}
