//! `move`: brings a part's data to another place.

use std::path::PathBuf;
use std::sync::Arc;

use ambrik_core::change::{ChangeContext, Ledger, MoveAsked, MovePlan, MoveSetting, asked, move_part, plan_move};
use ambrik_core::shown::Shown;
use ambrik_core::site::Site;

use super::audit::{again, tell};
use super::pages::{Watch, settle};
use crate::ask::go_on;
use crate::failure::{Exit, Failure};
use crate::output::json_changes::Moved;
use crate::output::{self, report::MoveReport};
use crate::progress::watched;
use crate::session::{HostView, Session, threads};
use crate::sites::Sites;

/// Move a part's data to another place, such as out of the folder that the web server serves
///
/// Owners, modes, access lists, labels, times and links stay as they are; to another file system everything is copied,
/// compared, and then removed in the old place. Missing directories are made, the site file says the new path
/// afterwards, and `ambrik undo` brings everything back with what is in it by then.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik move berths var/log /var/log/berths --preview")]
pub(crate) struct MoveArgs {
    /// Name of a site, or path of a site file
    #[arg(value_name = "SITE")]
    name: PathBuf,
    /// The part, as the site file names it
    #[arg(value_name = "PART")]
    part: String,
    /// Where it is to be: absolute, or relative to the root; nothing may be there yet
    #[arg(value_name = "NEWPATH")]
    to: PathBuf,
    /// Leave a symlink in the old place, for an application that cannot be told the new one
    #[arg(long)]
    link: bool,
    /// Also while processes hold files open there
    #[arg(long)]
    though_open: bool,
    /// Take the move back at once where a page of the site worked before it and does not after it
    #[arg(long)]
    or_undo: bool,
    /// Only show what would be done; needs no privilege
    #[arg(short = 'n', long, conflicts_with = "yes")]
    preview: bool,
    /// Do not ask
    #[arg(short = 'y', long)]
    yes: bool,
}

pub(crate) fn run(args: &MoveArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let sites = if args.preview {
        session.sites(std::slice::from_ref(&args.name), &looked)?
    } else {
        session.sites_to_change(std::slice::from_ref(&args.name), &looked)?
    };
    let Some(site) = sites.chosen.first() else { return Ok(Exit::Clean) };
    if args.preview {
        let plan = plan(args, (site, &sites.neighbours), &looked, session)?;
        session.terminal.write(&MoveReport { plan: &plan, moved: None, accounts: &looked.accounts })?;
        return Ok(Exit::Findings);
    }
    let state = session.state()?;
    let _lock = state.lock(&site.name, &format!("move {}", site.name))?;
    let plan = plan(args, (site, &sites.neighbours), &looked, session)?;
    if session.terminal.tells() {
        session.terminal.write(&MoveReport { plan: &plan, moved: None, accounts: &looked.accounts })?;
    }
    refuse_while_open(args, &plan, session)?;
    let part = plan.part().0.to_owned();
    if !go_on(session, args.yes, &format!("Move {part} of {}?", site.name))? {
        session.terminal.say(&format!("{}: nothing was changed", site.name));
        return Ok(Exit::Usage);
    }
    let mut ledger = Ledger::open_or_create(&state)?;
    let watch = Watch::begin(site, session);
    let outcome = watched(session.terminal.quiet, "moving", |progress| {
        let (host, state) = (&looked.host, &state);
        let means = ChangeContext { host, state, threads: threads(), store: None, keep: true, progress };
        move_part(&plan, &mut ledger, &means)
    })?;
    session.terminal.report_failures(&outcome.failures);
    let mut exit = Exit::of(&outcome);
    let broken = watch.end(session);
    let mut taken_back = false;
    if !broken.is_empty() {
        exit = Exit::Partial;
        taken_back = settle(site, outcome.id, args.or_undo, &looked, &state, session)?;
    }
    let moved = Moved { outcome: &outcome, broken: &broken, taken_back };
    session.terminal.write(&MoveReport { plan: &plan, moved: Some(&moved), accounts: &looked.accounts })?;
    if exit == Exit::Clean && session.terminal.tells() {
        look_again(site, &plan, &looked, session)?;
    }
    Ok(exit)
}

fn plan(
    args: &MoveArgs,
    (site, neighbours): (&Arc<Site>, &[Arc<Site>]),
    looked: &HostView,
    session: &mut Session<'_>,
) -> Result<MovePlan, Failure> {
    let records = session.records()?;
    let stopped = match &records.ledger {
        Some(ledger) => ledger.stopped_move(&site.name)?,
        None => None,
    };
    let text = session.site_text(&site.file)?;
    let asked: MoveAsked = asked(site, &args.part, &args.to, text, stopped.as_ref())?;
    let stopped = stopped.is_some_and(|stopped| stopped.from == asked.from && stopped.to == asked.to);
    let after = session.site_of(&asked.text_after, &site.file, looked)?.chosen;
    let phase = records.phase_told(&site.name, &mut session.terminal)?.phase;
    let (host, accounts) = (&looked.host, &looked.accounts);
    let setting = MoveSetting { host, accounts, neighbours, phase, link: args.link, stopped };
    Ok(plan_move(&setting, site, &after[0], asked)?)
}

fn refuse_while_open(args: &MoveArgs, plan: &MovePlan, session: &mut Session<'_>) -> Result<(), Failure> {
    let open = &plan.open;
    if open.unseen > 0 {
        let those = output::counted(output::count(open.unseen), "process", "processes");
        session
            .terminal
            .say(&format!("whether {those} of others hold files open there cannot be seen; run it as root"));
    }
    let Some(first) = open.holding.first() else { return Ok(()) };
    let more = match open.holding.len() {
        1 => String::new(),
        n => format!(", and {} more", output::counted(output::count(n - 1), "process", "processes")),
    };
    let who = format!("process {} ({}) has {} open{more}", first.pid, first.program, Shown(&first.path));
    if args.though_open {
        session.terminal.warn(&format!("{who}: what it writes there from now on may stay behind"));
        return Ok(());
    }
    Err(Failure::usage(format!("{who}; nothing was changed: stop it first, or move all the same with --though-open")))
}

/// What remains to be done is what an audit of the site as its file is now finds.
fn look_again(site: &Arc<Site>, plan: &MovePlan, looked: &HostView, session: &mut Session<'_>) -> Result<(), Failure> {
    let Sites { chosen, neighbours, .. } = session.site_of(&plan.asked.text_after, &site.file, looked)?;
    let now = &chosen[0];
    let after = again(now, &neighbours, looked, session)?;
    tell(session, &after);
    Ok(output::move_text::closing(&after, &mut session.terminal.out())?)
}
