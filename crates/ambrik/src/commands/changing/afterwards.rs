//! What is looked at and told once a site was changed.

use std::sync::Arc;

use ambrik_core::change::{Changed, Outcome, Plan, StateDir, afterwards, keep_module, prove};
use ambrik_core::host::Role;
use ambrik_core::label::{Lasting, Protection};
use ambrik_core::security_context::SecurityContext;
use ambrik_core::shown::{Shown, shell_path};
use ambrik_core::site::{Phase, Site};

use super::Work;
use crate::commands::audit::ask_over_http;
use crate::commands::prove::prover;
use crate::failure::{Exit, Failure};
use crate::output;
use crate::output::json_changes::Sealed;
use crate::progress::watched;
use crate::session::Session;

impl Work<'_> {
    /// Looks once more at a site that was sealed: what PHP still holds open, whether it can do what it should and no more,
    /// what remains.
    pub(super) fn prove(
        &self,
        site: &Arc<Site>,
        changed: Vec<Changed>,
        made: bool,
        state: &StateDir,
        session: &mut Session<'_>,
    ) -> Result<Sealed, Failure> {
        let host = &self.looked.host;
        let found = watched(session.terminal.quiet, "looking at", |progress| afterwards(host, site, progress))?;
        let mut audit = self.look_after(site, state, session)?;
        for held in audit.still_open() {
            session.terminal.warn(&format!("{}: {held}", site.name));
        }
        let enforces = self.looked.labels.state.now == Protection::Enforcing && host.is_this();
        let domain = enforces.then(|| self.looked.labels.domain(Role::Php, site.php.ids.uid).0);
        let domain = domain.as_ref().map(SecurityContext::text);
        // Where nothing was changed nothing is touched.
        let proof = made.then(|| prove(host, site, &found, domain, &prover())).flatten();
        for (path, why) in proof.iter().flat_map(|proof| &proof.differences) {
            session.terminal.warn(&format!("{}: tried as {}: {why}", Shown(path), site.php.user));
        }
        if let Some(why) = proof.as_ref().and_then(|proof| proof.disturbed.as_ref()) {
            audit = audit.with_disturbed_proof(why, jiff::Zoned::now().date());
        }
        if site.url.is_some() {
            audit = ask_over_http(audit, self.looked, ambrik_core::over_http::LONGEST, session)?;
        }
        let sealed = Sealed { changed, proof, audit };
        if session.terminal.tells() {
            let mut out = session.terminal.out();
            output::changes_text::proof(site, sealed.proof.as_ref(), &mut out)?;
            output::changes_text::closing(&sealed.audit, &mut out)?;
        }
        Ok(sealed)
    }

    /// Says where labels do not outlast a relabelling, and what a person can do about it.
    pub(super) fn labels_last(
        &self,
        plan: &Plan,
        outcome: Option<&Outcome>,
        state: &StateDir,
        session: &mut Session<'_>,
    ) -> Result<Exit, Failure> {
        let (name, sealed) = (&plan.audit.site.name, self.job.phase == Phase::Sealed);
        let mut exit = Exit::Clean;
        for (says, cure) in plan.audit.labels_above() {
            session.terminal.warn(&format!("{name}: {says}; by hand: {cure}"));
            exit = Exit::Findings;
        }
        if sealed && self.looked.labels.are_managed() && self.looked.labels.problem.is_some() {
            // The reason was told already.
            exit = Exit::Findings;
        }
        let wanted = plan.audit.pending.module.as_ref().filter(|module| !module.holds && sealed);
        let Some(wanted) = wanted.filter(|_| !outcome.is_some_and(|outcome| outcome.labels_last)) else {
            return Ok(exit);
        };
        if let Some(Lasting::ByHand(why)) = &plan.audit.pending.lasting {
            let path = keep_module(wanted, state)?;
            let words = format!(
                "its labels do not outlast a relabelling: {why}; on the host: semodule -i {}",
                shell_path(&path)
            );
            session.terminal.warn(&format!("{name}: {words}"));
        } else {
            session.terminal.warn(&format!("{name}: its labels do not outlast a relabelling"));
        }
        Ok(Exit::Findings)
    }
}
