//! `undo`: takes a change set back.

use ambrik_core::change::{Ledger, Means, Outcome, UndoPlan, plan_undo, undo};

use super::changing::worst;
use crate::args::Format;
use crate::ask::go_on;
use crate::failure::{Exit, Failure};
use crate::output;
use crate::progress::watched;
use crate::session::{Session, threads};

/// Take a change set back
///
/// Owners, modes, access lists and removed files come back as they were, each path only where what is there now is
/// what Ambrik left. Taking back is a change set itself, which can be taken back.
#[derive(Debug, clap::Args)]
pub(crate) struct UndoArgs {
    /// Number of the change set [default: the newest that is neither undone nor itself an undo]
    #[arg(value_name = "ID")]
    id: Option<i64>,
    /// Do not ask
    #[arg(long)]
    yes: bool,
    /// Only show what would come back
    #[arg(long, conflicts_with = "yes")]
    preview: bool,
    /// Also where what is there now is not what Ambrik left
    #[arg(long)]
    force: bool,
}

pub(crate) fn run(args: &UndoArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let records = session.records()?;
    let Some(mut ledger) = records.ledger else {
        return Err(Failure::usage("there is nothing to take back: no change was ever recorded here"));
    };
    let plan = plan_undo(&ledger, args.id)?;
    if session.format == Format::Text {
        output::undo_text::render(&plan, &mut session.out())?;
    }
    if args.preview {
        if session.format == Format::Json {
            output::json::undo(&plan, None, session.raw_out())?;
        }
        return Ok(Exit::Findings);
    }
    let state = session.state()?;
    let _lock = state.lock(&plan.set.site, &format!("undo {}", plan.set.id))?;
    if !go_on(session, args.yes, &format!("Take change set {} back?", plan.set.id))? {
        session.say("nothing was changed");
        return Ok(Exit::Clean);
    }
    let outcome = watched(session.quiet, "taking back", |progress| {
        let means = Means { host: &looked.host, state: &state, threads: threads(), keep: true, progress };
        take_back(&plan, &mut ledger, &means, args.force)
    })?;
    session.report_failures(&outcome.failures);
    match session.format {
        Format::Text => output::undo_text::outcome(&plan, &outcome, &mut session.out())?,
        Format::Json => output::json::undo(&plan, Some(&outcome), session.raw_out())?,
    }
    Ok(worst(&outcome))
}

fn take_back(plan: &UndoPlan, ledger: &mut Ledger, means: &Means<'_>, force: bool) -> Result<Outcome, Failure> {
    Ok(undo(plan, ledger, means, force)?)
}
