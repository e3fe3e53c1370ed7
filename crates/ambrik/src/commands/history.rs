//! `history`: what was changed, and when.

use crate::args::Format;
use crate::failure::{Exit, Failure};
use crate::output;
use crate::session::Session;

/// List the change sets, the newest first
#[derive(Debug, clap::Args)]
pub(crate) struct HistoryArgs {
    /// Only those of this site
    #[arg(value_name = "SITE")]
    site: Option<String>,
}

pub(crate) fn run(args: &HistoryArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let mut sets = session.records()?.sets;
    if let Some(site) = &args.site {
        sets.retain(|set| set.site == *site);
    }
    match session.format {
        Format::Text => output::history_text::render(&sets, &mut session.out())?,
        Format::Json => output::json::history(&sets, session.raw_out())?,
    }
    Ok(Exit::Clean)
}
