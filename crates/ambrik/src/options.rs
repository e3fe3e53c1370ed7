//! Options that every command has.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

/// Options of every command.
#[derive(Debug, Args)]
pub(crate) struct Global {
    /// Directory of the site files [default: /etc/ambrik/sites]
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        env = "AMBRIK_SITES",
        hide_env_values = true,
        help_heading = "Options of every command"
    )]
    pub(crate) sites: Option<PathBuf>,
    /// Directory of the ledger and the keepsakes [default: /var/lib/ambrik]
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        env = "AMBRIK_STATE",
        hide_env_values = true,
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
    /// Words instead of symbols and tables: for screen readers, logs, and terminals without UTF-8 (where it is the default)
    #[arg(long, global = true, help_heading = "Options of every command")]
    pub(crate) plain: bool,
    /// Print nothing where nothing is to be said: where all is as it should be, or was done
    #[arg(short, long, global = true, conflicts_with = "verbose", help_heading = "Options of every command")]
    pub(crate) quiet: bool,
    /// Say more of what is being done
    #[arg(short, long, global = true, help_heading = "Options of every command")]
    pub(crate) verbose: bool,
    #[command(flatten)]
    pub(crate) hosts: HostOptions,
}

/// Options for other hosts.
#[derive(Debug, Default, Args)]
#[command(next_help_heading = "Options for other hosts")]
pub(crate) struct HostOptions {
    /// Run the command on these hosts instead, through ssh, and show the answers as one; @FILE or @- names one a line
    #[arg(long, global = true, value_name = "HOST[,HOST…]")]
    pub(crate) on: Option<String>,
    /// Run it there by `sudo -n`
    #[arg(long, global = true, hide_short_help = true)]
    pub(crate) sudo: bool,
    /// So long for each host, or for each site that is asked over HTTP [default: 2m for a host, 30s for a site]
    #[arg(long, global = true, value_name = "DURATION")]
    pub(crate) within: Option<String>,
    /// As many hosts are asked at once
    #[arg(long, global = true, value_name = "N", default_value = "16", hide_short_help = true)]
    pub(crate) at_once: usize,
    /// As many hosts are changed at once
    #[arg(long, global = true, value_name = "N", default_value = "1", hide_short_help = true)]
    pub(crate) batch: usize,
    /// Go on to the other hosts where one failed, or could not be asked
    #[arg(long, global = true, hide_short_help = true)]
    pub(crate) go_on: bool,
    /// Send this program along, for hosts that have none; it is removed afterwards
    #[arg(long, global = true, hide_short_help = true)]
    pub(crate) lend: bool,
    /// Use the site files of this folder there: those in DIR/HOST, else those in DIR/all; they are removed afterwards
    #[arg(long, global = true, value_name = "DIR", hide_short_help = true)]
    pub(crate) send_sites: Option<PathBuf>,
    /// What a run over hosts is known by in the records
    #[arg(long, global = true, value_name = "TOKEN", hide = true)]
    pub(crate) of_run: Option<String>,
}

/// An output form.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    Text,
    /// For programs: one JSON document, described in docs/schemas.
    Json,
    /// Audits, for spreadsheets: a line for each finding and path.
    Csv,
    /// Audits, for a collector of metrics that reads files (OpenMetrics).
    Openmetrics,
    /// Audits, for continuous integration: a suite for each site, a case for each check (JUnit's XML).
    Junit,
    /// Audits, as a page to hand on: one file that fetches nothing.
    Html,
    /// Audits, for what gathers the findings of analysers (SARIF 2.1.0).
    Sarif,
}

/// An output form that only audits have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum AuditFormat {
    Csv,
    Html,
    Junit,
    Openmetrics,
    Sarif,
}

impl Format {
    /// What only audits can be printed as.
    pub(crate) const fn of_audit(self) -> Option<AuditFormat> {
        match self {
            Self::Text | Self::Json => None,
            Self::Csv => Some(AuditFormat::Csv),
            Self::Html => Some(AuditFormat::Html),
            Self::Junit => Some(AuditFormat::Junit),
            Self::Openmetrics => Some(AuditFormat::Openmetrics),
            Self::Sarif => Some(AuditFormat::Sarif),
        }
    }
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
