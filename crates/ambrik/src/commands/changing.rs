//! What `set` and `seal` have in common: look, show, ask, change, tell.

mod afterwards;

use std::collections::HashSet;
use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;

use ambrik_core::audit::{Audit, AuditSetting, audit, host_findings};
use ambrik_core::change::{
    ChangeCommand, ChangeContext, Changed, HowChanged, Ledger, Outcome, Plan, Proof, StateDir, apply,
    changed_in_window, check_places, plan_module,
};
use ambrik_core::entry::Nanos;
use ambrik_core::label::{Lasting, Store};
use ambrik_core::shown::Shown;
use ambrik_core::site::{Phase, Site};
use ambrik_core::starts::find_root;

use super::audit::{FailOn, tell};
use super::pages::{Watch, settle};
use crate::ask::{can_ask, go_on, go_on_listing};
use crate::failure::{Exit, Failure, Wrong};
use crate::output::{self, json_changes::ChangedSite, report::ChangesReport};
use crate::progress::watched;
use crate::records::Records;
use crate::session::{HostView, Session, threads};
use crate::sites::Sites;

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

/// What somebody says is right though it looks otherwise.
#[derive(Clone, Copy, Debug, clap::Args)]
pub(crate) struct Insisting {
    /// The folder at the site's root is another than the last time, and it is the right one
    #[arg(long)]
    pub(crate) new_root: bool,
    /// The document root is what the site file says, though the web server's configuration says otherwise
    #[arg(long)]
    pub(crate) served_anyway: bool,
    /// Take the change back at once where a page of the site worked before it and does not after it
    #[arg(long)]
    pub(crate) or_undo: bool,
}

/// What `set` or `seal` is to do.
pub(crate) struct Job<'a> {
    pub(crate) command: ChangeCommand,
    pub(crate) plan: &'a dyn Fn(Audit, Phase) -> Plan,
    pub(crate) mode: Mode,
    /// Whether what is removed is kept.
    pub(crate) keep: bool,
    /// The phase that it brings a site into.
    pub(crate) phase: Phase,
    /// Of a window: the parts that it is for; none for all.
    pub(crate) parts: Option<&'a [String]>,
    /// What is right though it looks otherwise.
    pub(crate) insisting: Insisting,
    /// Whether labels are set whole, not their types alone.
    pub(crate) whole_label: bool,
    /// Whether a site may be sealed though its installer did not run.
    pub(crate) unfinished: bool,
    /// Of what remains after `seal`, the lowest severity that counts for the exit code.
    pub(crate) fail_on: FailOn,
}

pub(crate) fn run(job: &Job<'_>, named: &[PathBuf], session: &mut Session<'_>) -> Result<Exit, Failure> {
    let mut looked = session.look()?;
    looked.labels.whole = job.whole_label;
    let sites = if job.mode == Mode::Preview {
        session.sites(named, &looked)?
    } else {
        session.sites_to_change(named, &looked)?
    };
    let Sites { chosen: sites, neighbours, mut wrong } = sites;
    let records = session.records()?;
    looked.clean_since = records.clean_since(&sites)?;
    // A site that cannot be looked at is known before another is changed.
    let mut found = Vec::new();
    for site in sites {
        match find_root(&looked.host, &site) {
            Ok(_) => found.push(site),
            Err(error) if job.mode == Mode::Preview => {
                wrong.push(Wrong { site: site.name.clone(), says: error.to_string() });
            }
            Err(error) => return Err(error.into()),
        }
    }
    let sites = found;
    let sites: Vec<Arc<Site>> = match job.parts {
        Some(parts) => sites.iter().map(|site| Arc::new(site.open_for(parts))).collect(),
        None => sites,
    };
    session.terminal.report_wrong(&wrong);
    if sites.is_empty() {
        return Ok(Exit::Usage);
    }
    let begun = if wrong.is_empty() { Exit::Clean } else { Exit::Partial };
    let work = Work { job, looked: &looked, neighbours: &neighbours, records: &records };
    let exit = match job.mode {
        Mode::Preview => work.preview(&sites, session),
        Mode::Script => work.script(&sites, session),
        Mode::Ask | Mode::Yes => work.change(&sites, session),
    };
    Ok(exit?.max(begun))
}

/// A job, and what it is done with.
struct Work<'w> {
    job: &'w Job<'w>,
    looked: &'w HostView,
    neighbours: &'w [Arc<Site>],
    records: &'w Records,
}

impl Work<'_> {
    fn plan(&self, site: &Arc<Site>, session: &mut Session<'_>) -> Result<Plan, Failure> {
        let phase = self.records.phase_told(&site.name, &mut session.terminal)?.phase;
        let audit = self.look(site, session)?;
        tell(session, &audit);
        let mut plan = (self.job.plan)(audit, phase);
        plan.new_root = self.job.insisting.new_root;
        if let (Phase::Open, ChangeCommand::Seal, Some(ledger)) = (phase, self.job.command, &self.records.ledger)
            && let Some((_, made)) = ledger.opened(&site.name)?
        {
            plan.remove_unwritten(&made);
        }
        if self.job.phase == Phase::Sealed && self.looked.labels.are_managed() {
            // A window's labels are not for good.
            if let Some(wanted) = &plan.audit.pending.module {
                plan.module =
                    plan_module(&self.looked.host, wanted, &site.name, &self.looked.labels).unwrap_or_else(|said| {
                        session
                            .terminal
                            .warn(&format!("{}: {said}; whether its labels last cannot be told", site.name));
                        None
                    });
            }
            // Booleans concern the whole host: they are named in the site file, shown, and switched on this host only.
            if self.looked.host.is_this() {
                plan.switches.clone_from(&plan.audit.pending.switches_off);
            }
        }
        Ok(plan)
    }

    /// The policy store, where labels are used and it can be changed.
    fn store(&self) -> Option<&Store> {
        self.looked.labels.store().filter(|_| self.looked.labels.are_managed())
    }

    fn look(&self, site: &Arc<Site>, session: &Session<'_>) -> Result<Audit, Failure> {
        Ok(watched(session.terminal.quiet, "looking at", |progress| {
            // `set` and `open` neither show nor remove information pages.
            let setting = AuditSetting {
                sniff: self.job.command == ChangeCommand::Seal,
                ..self.looked.setting(self.neighbours, progress)
            };
            audit(&setting, site, self.job.phase)
        })?)
    }

    /// A look at a site after it was changed, with what is on record about it by then.
    fn look_after(&self, site: &Arc<Site>, state: &StateDir, session: &Session<'_>) -> Result<Audit, Failure> {
        let records = Records { ledger: Ledger::open(state)?, ..Records::default() };
        let clean_since = records.clean_since(std::slice::from_ref(site))?;
        let found = watched(session.terminal.quiet, "looking at", |progress| {
            let setting = AuditSetting { clean_since: &clean_since, ..self.looked.setting(self.neighbours, progress) };
            audit(&setting, site, self.job.phase)
        })?;
        records.on_code(found, &self.looked.host, jiff::Zoned::now().date())
    }

    /// Refuses what the host says otherwise than the site file. The answer are the places that are others than the last
    /// time, where only the keeper could have put them there.
    fn stands(&self, plan: &Plan) -> Result<Vec<PathBuf>, Failure> {
        let others = check_places(&plan.audit, self.records.ledger.as_ref(), plan.new_root)?;
        match plan.audit.served_differs().filter(|_| !self.job.insisting.served_anyway) {
            Some(says) => Err(Failure::usage(format!(
                "{}: {says}; nothing was changed: correct served in {}, or say --served-anyway if it is right",
                plan.audit.site.name,
                Shown(&plan.audit.site.file)
            ))),
            None => Ok(others),
        }
    }

    fn preview(&self, sites: &[Arc<Site>], session: &mut Session<'_>) -> Result<Exit, Failure> {
        let mut exit = Exit::Clean;
        let mut plans = Vec::new();
        for site in sites {
            let plan = self.plan(site, session)?;
            if session.terminal.tells() {
                output::changes_text::render(&plan, &self.looked.accounts, &mut session.terminal.out())?;
            }
            if let Err(refusal) = self.stands(&plan) {
                session.terminal.report(&refusal);
                exit = exit.max(Exit::Usage);
            }
            let by_hand = plan.module.is_none() && self.job.phase == Phase::Sealed && plan.audit.labels_do_not_last();
            if let (true, Some(Lasting::ByHand(why))) = (by_hand, &plan.audit.pending.lasting) {
                let words = format!("{}: its labels do not outlast a relabelling: {why}", site.name);
                session.terminal.warn(&words);
            }
            let nothing = plan.is_empty() && plan.passed_over().next().is_none() && !by_hand;
            exit = exit.max(match (plan.audit.is_complete(), nothing) {
                (false, _) => Exit::Partial,
                (true, true) => Exit::Clean,
                (true, false) => Exit::Findings,
            });
            plans.push(ChangedSite::planned(plan));
        }
        session.terminal.write(&ChangesReport { sites: &plans, accounts: &self.looked.accounts })?;
        Ok(exit)
    }

    fn script(&self, sites: &[Arc<Site>], session: &mut Session<'_>) -> Result<Exit, Failure> {
        let plans = sites.iter().map(|site| self.plan(site, session)).collect::<Result<Vec<_>, _>>()?;
        for plan in &plans {
            self.stands(plan)?;
        }
        let complete = plans.iter().all(|plan| plan.audit.is_complete());
        output::script::render(&plans, &self.looked.accounts, session.terminal.raw_out())?;
        Ok(if complete { Exit::Clean } else { Exit::Partial })
    }

    fn change(&self, sites: &[Arc<Site>], session: &mut Session<'_>) -> Result<Exit, Failure> {
        let state = session.state()?;
        let mut exit = Exit::Clean;
        let mut changed = Vec::new();
        for (n, site) in sites.iter().enumerate() {
            if n > 0 && session.terminal.tells() {
                session.terminal.line("")?;
            }
            let _lock = state.lock(&site.name, &format!("{} {}", self.job.command, site.name))?;
            match self.change_one(site, &state, session)? {
                Some((site_exit, of_site)) => {
                    exit = exit.max(site_exit);
                    changed.push(of_site);
                }
                // A no is a refusal, as it is one where nobody can be asked.
                None => exit = exit.max(Exit::Usage),
            }
        }
        session.terminal.write(&ChangesReport { sites: &changed, accounts: &self.looked.accounts })?;
        Ok(exit)
    }

    /// Shows, asks, changes and tells; nothing where the answer was no.
    fn change_one(
        &self,
        site: &Arc<Site>,
        state: &StateDir,
        session: &mut Session<'_>,
    ) -> Result<Option<(Exit, ChangedSite)>, Failure> {
        let text = session.terminal.tells();
        let mut plan = self.plan(site, session)?;
        for other in self.stands(&plan)? {
            session.terminal.warn(&format!(
                "{}: another folder is there than when it was changed last: a new release?",
                Shown(&other)
            ));
        }
        if text {
            output::changes_text::render(&plan, &self.looked.accounts, &mut session.terminal.out())?;
        }
        if !plan.can_be_made() {
            return Err(Failure::privilege(&format!(
                "{}: nothing of this can be changed as this user, and nothing was",
                site.name
            )));
        }
        self.take_guesses(&mut plan, session)?;
        let nothing = plan.is_empty() && plan.phase_before == Phase::Sealed && plan.window.is_none();
        self.is_finished(&plan, session)?;
        // Whatever closes a window compares first.
        let compared = plan.command == ChangeCommand::Seal
            || (self.job.phase == Phase::Sealed && plan.phase_before == Phase::Open);
        let changed = if compared { self.changed(site, &plan, session)? } else { Vec::new() };
        let approved = self.approved(site, &changed, session)?;
        let question = format!("Make these changes to {}?", site.name);
        let accounts = &self.looked.accounts;
        let list =
            |part: Option<&str>, out: &mut dyn Write| output::changes_text::each_path(&plan, accounts, part, out);
        if !nothing && !go_on_listing(session, self.job.mode == Mode::Yes, &question, &list)? {
            session.terminal.say(&format!("{}: nothing was changed", site.name));
            return Ok(None);
        }
        let unproven = || changed.iter().filter(|changed| changed.is_unproven());
        if !approved && unproven().next().is_some() {
            let paths = unproven().map(|changed| (changed.path.clone(), changed.how));
            Ledger::open_or_create(state)?.add_unproven(&site.name, paths)?;
        }
        let watch = (!nothing).then(|| Watch::begin(site, session));
        let outcome = if nothing { None } else { Some(self.make(&plan, state, session)?) };
        let broken = watch.map(|watch| watch.end(session)).unwrap_or_default();
        if !broken.is_empty()
            && let Some(outcome) = outcome
        {
            let taken_back = settle(site, outcome.id, self.job.insisting.or_undo, self.looked, state, session)?;
            if text {
                output::changes_text::outcome(&plan, &outcome, &mut session.terminal.out())?;
            }
            let outcome = Some(outcome);
            return Ok(Some((Exit::Partial, ChangedSite { plan, outcome, after: None, broken, taken_back })));
        }
        if let Some(outcome) = outcome.as_ref().filter(|_| plan.phase_before == Phase::Open && compared) {
            Ledger::open_or_create(state)?.note_written(outcome.id, changed.len())?;
        }
        if approved {
            let mut ledger = Ledger::open_or_create(state)?;
            ledger.approve(&site.name)?;
            ledger.found_clean(
                &site.name,
                Nanos::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(Nanos::MAX),
            )?;
        }
        if nothing && plan.audit.is_complete() {
            // What a stopped run was about is done, if that was the last thing that it did.
            if let Some(mut ledger) = Ledger::open(state)? {
                ledger.settle(&site.name)?;
            }
        }
        let mut exit = outcome.as_ref().map_or(Exit::Clean, Exit::of);
        exit = exit.max(self.labels_last(&plan, outcome.as_ref(), state, session)?);
        if !plan.audit.is_complete() || plan.passed_over().next().is_some() {
            exit = exit.max(Exit::Partial);
        }
        if let (true, Some(outcome)) = (text, &outcome) {
            output::changes_text::outcome(&plan, outcome, &mut session.terminal.out())?;
        }
        let mut after = None;
        if plan.command == ChangeCommand::Seal {
            let sealed = self.prove(site, changed, !nothing, state, session)?;
            let failed = |proof: &Proof| !proof.differences.is_empty() || proof.disturbed.is_some();
            if sealed.proof.as_ref().is_some_and(failed) {
                exit = exit.max(Exit::Partial);
            }
            let found = std::slice::from_ref(&sealed.audit);
            exit = exit.max(super::audit::exit(found, &host_findings(found), self.job.fail_on));
            after = Some(sealed);
        }
        Ok(Some((exit, ChangedSite { plan, outcome, after, broken, taken_back: false })))
    }

    /// What changed in a site while it was open, or since it was found clean, and what nobody has answered for yet.
    fn changed(&self, site: &Arc<Site>, plan: &Plan, session: &mut Session<'_>) -> Result<Vec<Changed>, Failure> {
        let Some(ledger) = &self.records.ledger else { return Ok(Vec::new()) };
        let mut changed = Vec::new();
        if plan.phase_before == Phase::Open {
            let host = &self.looked.host;
            match watched(session.terminal.quiet, "comparing", |progress| {
                changed_in_window(host, site, ledger, progress)
            })? {
                Some(found) => changed = found,
                None => session.terminal.warn(&format!(
                    "{}: what was there when it was opened is not on record, so what changed since is not known",
                    site.name
                )),
            }
        }
        let since_clean = plan.audit.changed().map(|path| (path, HowChanged::Changed));
        let mut known: HashSet<PathBuf> = changed.iter().map(|known| known.path.clone()).collect();
        for (path, how) in ledger.unproven(&site.name)?.into_iter().chain(since_clean) {
            let there = self.looked.host.resolve_link(&site.root.join(&path)).is_ok();
            if there && known.insert(path.clone()) {
                let kind = if ambrik_core::check::is_php_name(&path) { "PHP" } else { "file" };
                changed.push(Changed { path, how, kind, expected: false });
            }
        }
        if session.terminal.tells() {
            output::changes_text::changed_in_window(&site.name, &changed, &mut session.terminal.out())?;
        }
        Ok(changed)
    }

    /// What only looks like an installer or a left-over goes where a person says so, on a terminal; `--yes` does not.
    fn take_guesses(&self, plan: &mut Plan, session: &mut Session<'_>) -> Result<(), Failure> {
        if plan.guesses.is_empty() || self.job.mode != Mode::Ask || !can_ask() {
            return Ok(());
        }
        let question = match plan.guesses.len() {
            1 => "Remove what is marked ask, too?".to_owned(),
            many => format!("Remove the {many} that are marked ask, too?"),
        };
        if go_on(session, false, &question)? {
            plan.take_guesses();
        }
        Ok(())
    }

    /// Whether somebody says that the code that changed is right: a person, on a terminal; `--yes` does not.
    fn approved(&self, site: &Site, changed: &[Changed], session: &mut Session<'_>) -> Result<bool, Failure> {
        let code = changed.iter().any(Changed::is_unproven);
        if !code || self.job.command != ChangeCommand::Seal || self.job.mode != Mode::Ask || !can_ask() {
            return Ok(false);
        }
        go_on(session, false, &format!("Is the code of {} that changed right as it is?", site.name))
    }

    /// Refuses to seal a site whose installer did not run, unless that is said to be so.
    fn is_finished(&self, plan: &Plan, session: &mut Session<'_>) -> Result<(), Failure> {
        if plan.command != ChangeCommand::Seal || self.job.unfinished {
            return Ok(());
        }
        let settings = plan.audit.unfinished();
        if settings.is_empty() {
            return Ok(());
        }
        let name = &plan.audit.site.name;
        let what = format!("{name}: the installer did not run: {}", output::unfinished(&settings));
        let todo = format!("run it first (ambrik open {name}), or seal the site as it is with --unfinished");
        if self.job.mode == Mode::Yes || !can_ask() {
            return Err(Failure::usage(format!("{what}; nothing was changed: {todo}")));
        }
        session.terminal.warn(&what);
        if go_on(session, false, "Seal it all the same?")? { Ok(()) } else { Err(Failure::usage(todo)) }
    }

    fn make(&self, plan: &Plan, state: &StateDir, session: &mut Session<'_>) -> Result<Outcome, Failure> {
        let mut ledger = Ledger::open_or_create(state)?;
        let store = self.store();
        if plan.module.is_some() {
            session.terminal.say("the labels are made to last in the host's policy: that takes a while");
        }
        let outcome = watched(session.terminal.quiet, "changing", |progress| {
            let (host, keep) = (&self.looked.host, self.job.keep);
            apply(plan, &mut ledger, &ChangeContext { host, state, threads: threads(), store, keep, progress })
        })?;
        session.terminal.report_failures(&outcome.failures);
        if outcome.vanished > 0 {
            let gone = output::paths(outcome.vanished);
            session.terminal.say(&format!("{gone} went away before they were changed and were skipped"));
        }
        Ok(outcome)
    }
}
