//! `history`: what was changed, and when.

use ambrik_core::change::Ledger;

use crate::failure::{Exit, Failure};
use crate::output::report::{HistoryReport, SetReport};
use crate::session::Session;

/// List the change sets, the newest first; or what one of them did, path by path
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  ambrik history\n  ambrik history berths\n  ambrik history 3\n  ambrik history 3 --format html"
)]
pub(crate) struct HistoryArgs {
    /// Only those of this site; or a change set's number: every path of it, before and after
    #[arg(value_name = "SITE|ID")]
    what: Option<String>,
}

impl HistoryArgs {
    /// Whether it is about one change set.
    pub(crate) fn is_of_one(&self) -> bool {
        self.id().is_some()
    }

    fn id(&self) -> Option<i64> {
        self.what.as_deref()?.parse().ok()
    }
}

pub(crate) fn run(args: &HistoryArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let records = session.records()?.readable()?;
    let all = &records.sets;
    let what = args.what.as_deref();
    let is_site = |name: &str| all.iter().any(|set| set.site == name);
    if let Some(id) = args.id().filter(|_| what.is_none_or(|what| !is_site(what))) {
        let set = all.iter().find(|set| set.id == id);
        let set =
            set.ok_or_else(|| Failure::usage(format!("there is no change set {id}: ambrik history lists them")))?;
        let paths = records.ledger.as_ref().map(|ledger: &Ledger| ledger.path_changes(id)).transpose()?;
        let accounts = session.look()?.accounts;
        let report = SetReport { all, set, paths: &paths.unwrap_or_default(), accounts: &accounts };
        session.terminal.write(&report)?;
        return Ok(Exit::Clean);
    }
    if let Some(site) = what.filter(|what| !is_site(what)) {
        session.is_a_site(site)?;
    }
    let kept = session.kept(records.ledger.as_ref())?;
    session.terminal.write(&HistoryReport { all, site: what, kept: &kept })?;
    super::purge::tell_size(session);
    Ok(Exit::Clean)
}
