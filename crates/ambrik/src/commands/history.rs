//! `history`: what was changed, and when.

use crate::failure::{Exit, Failure};
use crate::output::report::HistoryReport;
use crate::session::Session;

/// List the change sets, the newest first
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik history\n  ambrik history berths")]
pub(crate) struct HistoryArgs {
    /// Only those of this site
    #[arg(value_name = "SITE")]
    site: Option<String>,
}

pub(crate) fn run(args: &HistoryArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let all = session.records()?.readable()?.sets;
    let site = args.site.as_deref();
    if let Some(site) = site.filter(|site| all.iter().all(|set| set.site != *site)) {
        session.is_a_site(site)?;
    }
    session.terminal.write(&HistoryReport { all: &all, site })?;
    Ok(Exit::Clean)
}
