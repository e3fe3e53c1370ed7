//! `undo`: takes a change set back.

use ambrik_core::change::{ChangeContext, Ledger, Outcome, StateDir, UndoPlan, plan_undo, since, undo};

use crate::ask::go_on;
use crate::failure::{Exit, Failure};
use crate::output::{self, report::UndoReport};
use crate::progress::watched;
use crate::session::{HostView, Session, threads};

/// Take a change set back
///
/// Owners, modes, access lists and removed files come back as they were, each path only where what is there now is
/// what Ambrik left. Taking back is a change set itself, which can be taken back.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik undo --preview\n  ambrik undo 3")]
pub(crate) struct UndoArgs {
    /// Number of the change set [default: the newest that is neither undone nor itself an undo]
    #[arg(value_name = "ID")]
    id: Option<i64>,
    /// Take back this change set and all later ones of its site, the newest first: a whole deployment
    #[arg(long, value_name = "ID", conflicts_with = "id")]
    since: Option<i64>,
    /// Take back what a run over hosts did, on each of them (the number that it was given on this side)
    #[arg(long, value_name = "ID", conflicts_with_all = ["id", "since"])]
    fleet: Option<u64>,
    /// Do not ask
    #[arg(short = 'y', long)]
    yes: bool,
    /// Only show what would come back
    #[arg(short = 'n', long, conflicts_with = "yes")]
    preview: bool,
    /// Also where what is there now is not what Ambrik left
    #[arg(long)]
    force: bool,
}

impl UndoArgs {
    /// The run over hosts that is to be taken back; whether nobody is asked, and whether that is only shown.
    pub(super) fn of_fleet(&self) -> Option<(u64, bool, bool)> {
        self.fleet.map(|id| (id, self.yes, self.preview))
    }
}

pub(crate) fn run(args: &UndoArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let records = session.records()?.readable()?;
    let Some(mut ledger) = records.ledger else {
        return Err(Failure::usage("there is nothing to take back: no change was ever recorded here"));
    };
    let ids: Vec<Option<i64>> = match args.since {
        Some(first) => since(&ledger, first)?.into_iter().map(Some).collect(),
        None => vec![args.id],
    };
    let whole = args.since.is_some();
    let plan_of = |ledger: &Ledger, id: Option<i64>| -> Result<UndoPlan, Failure> {
        let mut plan = plan_undo(ledger, id)?;
        plan.with_later = whole;
        Ok(plan)
    };
    let plans = ids.iter().map(|id| plan_of(&ledger, *id)).collect::<Result<Vec<_>, _>>()?;
    if session.terminal.tells() {
        for plan in &plans {
            output::undo_text::render(plan, &mut session.terminal.out())?;
        }
    }
    if args.preview {
        session.terminal.write(&UndoReport { plans: &plans.iter().map(|plan| (plan, None)).collect::<Vec<_>>() })?;
        return Ok(Exit::Findings);
    }
    let Some(newest) = plans.first() else { return Ok(Exit::Clean) };
    let (site, number) = (newest.set.site.clone(), newest.set.id);
    let state = session.state()?;
    let _lock = state.lock(&site, &format!("undo {number}"))?;
    let question = match plans.len() {
        1 => format!("Take change set {number} back?"),
        n => format!("Take these {n} change sets of {site} back?"),
    };
    if !go_on(session, args.yes, &question)? {
        session.terminal.say("nothing was changed");
        return Ok(Exit::Usage);
    }
    let store = looked.labels.store();
    let mut exit = Exit::Clean;
    let mut done = Vec::new();
    for id in ids {
        // Each is looked up again: taking back the one before may have concerned it.
        let plan = plan_of(&ledger, id)?;
        let outcome = watched(session.terminal.quiet, "taking back", |progress| {
            let host = &looked.host;
            let means = ChangeContext { host, state: &state, threads: threads(), store, keep: true, progress };
            take_back(&plan, &mut ledger, &means, args.force)
        })?;
        session.terminal.report_failures(&outcome.failures);
        if session.terminal.tells() {
            output::undo_text::outcome(&plan, &outcome, &mut session.terminal.out())?;
        }
        exit = exit.max(Exit::of(&outcome));
        done.push((plan, outcome));
    }
    session
        .terminal
        .write(&UndoReport { plans: &done.iter().map(|(plan, outcome)| (plan, Some(outcome))).collect::<Vec<_>>() })?;
    Ok(exit)
}

/// Takes a change set back that was just made, under the lock that its run holds.
pub(crate) fn take_back_now(
    id: i64,
    looked: &HostView,
    state: &StateDir,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let mut ledger = Ledger::open_or_create(state)?;
    let plan = plan_undo(&ledger, Some(id))?;
    let store = looked.labels.store();
    let outcome = watched(session.terminal.quiet, "taking back", |progress| {
        let host = &looked.host;
        take_back(
            &plan,
            &mut ledger,
            &ChangeContext { host, state, threads: threads(), store, keep: true, progress },
            false,
        )
    })?;
    session.terminal.report_failures(&outcome.failures);
    Ok(Exit::of(&outcome))
}

fn take_back(plan: &UndoPlan, ledger: &mut Ledger, means: &ChangeContext<'_>, force: bool) -> Result<Outcome, Failure> {
    Ok(undo(plan, ledger, means, force)?)
}
