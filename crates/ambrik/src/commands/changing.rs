//! What `set` and `seal` have in common: look, show, ask, change, tell.

use std::path::PathBuf;
use std::sync::Arc;

use ambrik_core::audit::{Audit, audit};
use ambrik_core::change::{Ledger, Means, Outcome, Plan, StateDir, apply};
use ambrik_core::site::{Phase, Site};

use super::audit::tell;
use crate::args::Format;
use crate::ask::go_on;
use crate::failure::{Exit, Failure};
use crate::output::{self, json::Changed};
use crate::progress::watched;
use crate::session::{Looked, Records, Session, threads};

/// How much is really done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Mode {
    /// Only shown.
    Preview,
    /// Printed as a shell script.
    Script,
    /// Done, after a question.
    Ask,
    /// Done.
    Yes,
}

/// What `set` or `seal` is to do.
pub(crate) struct Job<'a> {
    pub(crate) name: &'static str,
    pub(crate) plan: &'a dyn Fn(Audit, Phase) -> Plan,
    pub(crate) mode: Mode,
    /// Whether what is removed is kept.
    pub(crate) keep: bool,
    /// Whether the site is looked at once more afterwards.
    pub(crate) look_again: bool,
}

pub(crate) fn run(job: &Job<'_>, named: &[PathBuf], session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let sites = session.sites(named, &looked.accounts)?;
    let records = session.records()?;
    match job.mode {
        Mode::Preview => preview(job, &sites, &looked, &records, session),
        Mode::Script => script(job, &sites, &looked, &records, session),
        Mode::Ask | Mode::Yes => change(job, &sites, &looked, &records, session),
    }
}

fn plan(
    job: &Job<'_>,
    site: &Arc<Site>,
    looked: &Looked,
    records: &Records,
    session: &mut Session<'_>,
) -> Result<Plan, Failure> {
    let phase = records.phase(&site.name)?.phase;
    let audit = watched(session.quiet, "looking at", |progress| audit(&looked.setting(progress), site, Phase::Sealed))?;
    tell(session, &audit);
    Ok((job.plan)(audit, phase))
}

fn preview(
    job: &Job<'_>,
    sites: &[Arc<Site>],
    looked: &Looked,
    records: &Records,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let mut exit = Exit::Clean;
    let mut plans = Vec::new();
    for site in sites {
        let plan = plan(job, site, looked, records, session)?;
        if session.format == Format::Text {
            output::changes_text::render(&plan, &looked.accounts, &mut session.out())?;
        }
        let here = if !plan.audit.is_complete() {
            Exit::Partial
        } else if plan.is_empty() {
            Exit::Clean
        } else {
            Exit::Findings
        };
        exit = exit.max(here);
        plans.push(Changed { plan, outcome: None });
    }
    if session.format == Format::Json {
        output::json::changes(&plans, &looked.accounts, session.raw_out())?;
    }
    Ok(exit)
}

fn script(
    job: &Job<'_>,
    sites: &[Arc<Site>],
    looked: &Looked,
    records: &Records,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let mut plans = Vec::new();
    for site in sites {
        plans.push(plan(job, site, looked, records, session)?);
    }
    let complete = plans.iter().all(|plan| plan.audit.is_complete());
    output::script::render(&plans, &looked.accounts, session.raw_out())?;
    Ok(if complete { Exit::Clean } else { Exit::Partial })
}

fn change(
    job: &Job<'_>,
    sites: &[Arc<Site>],
    looked: &Looked,
    records: &Records,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let state = session.state()?;
    let mut exit = Exit::Clean;
    let mut changed = Vec::new();
    let text = session.format == Format::Text;
    for (n, site) in sites.iter().enumerate() {
        let _lock = state.lock(&site.name, &format!("{} {}", job.name, site.name))?;
        let plan = plan(job, site, looked, records, session)?;
        if text {
            if n > 0 {
                session.line("")?;
            }
            output::changes_text::render(&plan, &looked.accounts, &mut session.out())?;
        }
        let nothing = plan.is_empty() && (job.name == "set" || plan.phase_before == Phase::Sealed);
        let question = format!("Make these changes to {}?", site.name);
        if !nothing && !go_on(session, job.mode == Mode::Yes, &question)? {
            session.say(&format!("{}: nothing was changed", site.name));
            continue;
        }
        let outcome = if nothing { None } else { Some(make(job, &plan, &state, looked, session)?) };
        exit = exit.max(outcome.as_ref().map_or(Exit::Clean, worst));
        if !plan.audit.is_complete() || plan.left_alone().next().is_some() {
            exit = exit.max(Exit::Partial);
        }
        if text {
            if let Some(outcome) = &outcome {
                output::changes_text::outcome(&plan, outcome, &mut session.out())?;
            }
            if job.look_again {
                let after = watched(session.quiet, "looking at", |p| audit(&looked.setting(p), site, Phase::Sealed))?;
                output::changes_text::closing(&after, &mut session.out())?;
            }
        }
        changed.push(Changed { plan, outcome });
    }
    if !text {
        output::json::changes(&changed, &looked.accounts, session.raw_out())?;
    }
    Ok(exit)
}

fn make(
    job: &Job<'_>,
    plan: &Plan,
    state: &StateDir,
    looked: &Looked,
    session: &mut Session<'_>,
) -> Result<Outcome, Failure> {
    let mut ledger = Ledger::open_or_create(state)?;
    let outcome = watched(session.quiet, "changing", |progress| {
        let means = Means { host: &looked.host, state, threads: threads(), keep: job.keep, progress };
        apply(plan, &mut ledger, &means)
    })?;
    session.report_failures(&outcome.failures);
    if outcome.vanished > 0 {
        session
            .say(&format!("{} went away before they were changed and were skipped", output::paths(outcome.vanished)));
    }
    Ok(outcome)
}

/// The exit code that an outcome calls for.
pub(crate) fn worst(outcome: &Outcome) -> Exit {
    let nothing = outcome.done + outcome.removed + outcome.restored == 0;
    match outcome.failures.is_empty() {
        true => Exit::Clean,
        false if nothing && outcome.failures.iter().all(|(_, failure)| failure.is_privilege()) => Exit::Privilege,
        false => Exit::Partial,
    }
}
