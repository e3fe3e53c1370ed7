//! `purge`: removes keepsakes and records that are older than they are kept for.

use ambrik_core::change::{KeptFor, PurgePlan, plan_purge, purge};
use ambrik_core::site::kept_for;
use jiff::{SignedDuration, Timestamp};

use crate::ask::go_on;
use crate::failure::{Exit, Failure};
use crate::output::report::PurgeReport;
use crate::session::Session;

/// Remove keepsakes and records that are older than the host file says
///
/// What is removed cannot be taken back any more. The newest change set stays, what tells which code archives brought, and all of a
/// site that is open.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik purge --preview\n  ambrik purge --keepsakes 90d --history 400d")]
pub(crate) struct PurgeArgs {
    /// How long removed files are kept [default: keepsakes in the host file's [keep], else for ever]
    #[arg(long, value_name = "TIME", value_parser = days)]
    keepsakes: Option<SignedDuration>,
    /// How long change sets and audits stay on record [default: history in the host file's [keep], else for ever]
    #[arg(long, value_name = "TIME", value_parser = days)]
    history: Option<SignedDuration>,
    /// Do not ask
    #[arg(short = 'y', long)]
    yes: bool,
    /// Only show what would go
    #[arg(short = 'n', long, conflicts_with = "yes")]
    preview: bool,
}

fn days(text: &str) -> Result<SignedDuration, String> {
    kept_for(text).ok_or_else(|| "say for how many days or weeks, as in 90d".into())
}

pub(crate) fn run(args: &PurgeArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let said = session.behind(&looked)?.host_file.clone();
    let ages = KeptFor { keepsakes: args.keepsakes.or(said.keepsakes), history: args.history.or(said.history) };
    if ages == KeptFor::default() {
        return Err(Failure::usage(
            "nothing says how long records are kept: write [keep] with keepsakes = \"90d\" and history = \"400d\" into the host \
             file, or say it: ambrik purge --keepsakes 90d --history 400d",
        ));
    }
    let Some(mut ledger) = session.records()?.readable()?.ledger else {
        session.terminal.say("nothing is on record yet");
        return Ok(Exit::Clean);
    };
    let state = session.state()?;
    let plan = plan_purge(&ledger, &state, ages, Timestamp::now())?;
    let planned = PurgeReport { plan: &plan, is_done: false };
    if plan.is_empty() || args.preview {
        session.terminal.write(&planned)?;
        return Ok(if plan.is_empty() { Exit::Clean } else { Exit::Findings });
    }
    if session.terminal.tells() {
        session.terminal.write(&planned)?;
    }
    if !go_on(session, args.yes, "Remove them for good?")? {
        session.terminal.say("nothing was removed");
        return Ok(Exit::Usage);
    }
    let plan = purge(plan, &mut ledger, &state)?;
    session.terminal.write(&PurgeReport { plan: &plan, is_done: true })?;
    Ok(Exit::Clean)
}

/// What the host file says goes at the end of a run that changed something; that it could not is told with `-v`, and stops nothing.
pub(crate) fn by_host_file(session: &mut Session<'_>) {
    match purge_by_host_file(session) {
        Ok(Some(plan)) => session.terminal.detail(&format!(
            "purged by the host file: {}, {}",
            crate::output::counted(crate::output::count(plan.keepsakes.len()), "keepsake", "keepsakes"),
            crate::output::counted(crate::output::count(plan.sets.len()), "change set", "change sets")
        )),
        Ok(None) => {}
        Err(failure) => session.terminal.detail(&format!("could not purge: {}", failure.message)),
    }
}

fn purge_by_host_file(session: &mut Session<'_>) -> Result<Option<PurgePlan>, Failure> {
    if !session.has_host_file() || !session.has_changed()? {
        return Ok(None);
    }
    let looked = session.look()?;
    let said = &session.behind(&looked)?.host_file;
    let ages = KeptFor { keepsakes: said.keepsakes, history: said.history };
    let Some(mut ledger) = session.records()?.ledger.filter(|_| ages != KeptFor::default()) else { return Ok(None) };
    let state = session.state()?;
    let plan = plan_purge(&ledger, &state, ages, Timestamp::now())?;
    if plan.is_empty() {
        return Ok(None);
    }
    Ok(Some(purge(plan, &mut ledger, &state)?))
}

/// Says that the state directory is large, where it is.
pub(crate) fn tell_size(session: &mut Session<'_>) {
    let Some(size) = session.state_size().filter(ambrik_core::change::StateSize::is_large) else { return };
    let words = format!(
        "the state directory {} takes {}: ambrik purge removes what is old",
        ambrik_core::shown::Shown(&size.path),
        crate::output::bytes(size.bytes)
    );
    session.terminal.say(&words);
}
