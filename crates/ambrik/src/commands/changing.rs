//! What `set` and `seal` have in common: look, show, ask, change, tell.

use std::path::PathBuf;
use std::sync::Arc;

use ambrik_core::audit::{Audit, audit, find_root};
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
    let sites = session.sites(named, &looked)?;
    let neighbours = session.neighbours(&sites, &looked);
    let records = session.records()?;
    // A site that cannot be looked at is known before another is changed.
    for site in &sites {
        find_root(&looked.host, site)?;
    }
    let work = Work { job, looked: &looked, neighbours: &neighbours, records: &records };
    match job.mode {
        Mode::Preview => work.preview(&sites, session),
        Mode::Script => work.script(&sites, session),
        Mode::Ask | Mode::Yes => work.change(&sites, session),
    }
}

/// A job, and what it is done with.
struct Work<'w> {
    job: &'w Job<'w>,
    looked: &'w Looked,
    neighbours: &'w [Arc<Site>],
    records: &'w Records,
}

impl Work<'_> {
    fn plan(&self, site: &Arc<Site>, session: &mut Session<'_>) -> Result<Plan, Failure> {
        let phase = self.records.phase(&site.name)?.phase;
        let audit = self.look(site, session)?;
        tell(session, &audit);
        Ok((self.job.plan)(audit, phase))
    }

    fn look(&self, site: &Arc<Site>, session: &Session<'_>) -> Result<Audit, Failure> {
        Ok(watched(session.quiet, "looking at", |progress| {
            audit(&self.looked.setting(self.neighbours, progress), site, Phase::Sealed)
        })?)
    }

    fn preview(&self, sites: &[Arc<Site>], session: &mut Session<'_>) -> Result<Exit, Failure> {
        let mut exit = Exit::Clean;
        let mut plans = Vec::new();
        for site in sites {
            let plan = self.plan(site, session)?;
            if session.format == Format::Text {
                output::changes_text::render(&plan, &self.looked.accounts, &mut session.out())?;
            }
            let nothing = plan.is_empty() && plan.passed_over().next().is_none();
            exit = exit.max(match (plan.audit.is_complete(), nothing) {
                (false, _) => Exit::Partial,
                (true, true) => Exit::Clean,
                (true, false) => Exit::Findings,
            });
            plans.push(Changed { plan, outcome: None });
        }
        if session.format == Format::Json {
            output::json::changes(&plans, &self.looked.accounts, session.raw_out())?;
        }
        Ok(exit)
    }

    fn script(&self, sites: &[Arc<Site>], session: &mut Session<'_>) -> Result<Exit, Failure> {
        let plans = sites.iter().map(|site| self.plan(site, session)).collect::<Result<Vec<_>, _>>()?;
        let complete = plans.iter().all(|plan| plan.audit.is_complete());
        output::script::render(&plans, &self.looked.accounts, session.raw_out())?;
        Ok(if complete { Exit::Clean } else { Exit::Partial })
    }

    fn change(&self, sites: &[Arc<Site>], session: &mut Session<'_>) -> Result<Exit, Failure> {
        let state = session.state()?;
        let mut exit = Exit::Clean;
        let mut changed = Vec::new();
        for (n, site) in sites.iter().enumerate() {
            if n > 0 && session.format == Format::Text {
                session.line("")?;
            }
            let _lock = state.lock(&site.name, &format!("{} {}", self.job.name, site.name))?;
            if let Some((site_exit, of_site)) = self.change_one(site, &state, session)? {
                exit = exit.max(site_exit);
                changed.push(of_site);
            }
        }
        if session.format == Format::Json {
            output::json::changes(&changed, &self.looked.accounts, session.raw_out())?;
        }
        Ok(exit)
    }

    /// Shows, asks, changes and tells; nothing where the answer was no.
    fn change_one(
        &self,
        site: &Arc<Site>,
        state: &StateDir,
        session: &mut Session<'_>,
    ) -> Result<Option<(Exit, Changed)>, Failure> {
        let text = session.format == Format::Text;
        let plan = self.plan(site, session)?;
        if text {
            output::changes_text::render(&plan, &self.looked.accounts, &mut session.out())?;
        }
        let nothing = plan.is_empty() && plan.phase_before == Phase::Sealed;
        let question = format!("Make these changes to {}?", site.name);
        if !nothing && !go_on(session, self.job.mode == Mode::Yes, &question)? {
            session.say(&format!("{}: nothing was changed", site.name));
            return Ok(None);
        }
        let outcome = if nothing { None } else { Some(self.make(&plan, state, session)?) };
        let mut exit = outcome.as_ref().map_or(Exit::Clean, worst);
        if !plan.audit.is_complete() || plan.passed_over().next().is_some() {
            exit = exit.max(Exit::Partial);
        }
        if let (true, Some(outcome)) = (text, &outcome) {
            output::changes_text::outcome(&plan, outcome, &mut session.out())?;
        }
        if text && self.job.look_again {
            let after = self.look(site, session)?;
            output::changes_text::closing(&after, &mut session.out())?;
        }
        Ok(Some((exit, Changed { plan, outcome })))
    }

    fn make(&self, plan: &Plan, state: &StateDir, session: &mut Session<'_>) -> Result<Outcome, Failure> {
        let mut ledger = Ledger::open_or_create(state)?;
        let outcome = watched(session.quiet, "changing", |progress| {
            let (host, keep) = (&self.looked.host, self.job.keep);
            apply(plan, &mut ledger, &Means { host, state, threads: threads(), keep, progress })
        })?;
        session.report_failures(&outcome.failures);
        if outcome.vanished > 0 {
            let gone = output::paths(outcome.vanished);
            session.say(&format!("{gone} went away before they were changed and were skipped"));
        }
        Ok(outcome)
    }
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
