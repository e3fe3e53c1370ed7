//! What the ledger tells of sites.

use std::collections::HashMap;
use std::sync::Arc;

use ambrik_core::audit::{Audit, KnownRight};
use ambrik_core::change::{ChangeCommand, ChangeSet, Ledger, SitePhase, not_as_delivered};
use ambrik_core::entry::Nanos;
use ambrik_core::site::{Phase, Site};
use ambrik_core::tree::Host;
use jiff::civil::Date;

use crate::failure::Failure;
use crate::terminal::Terminal;

/// What the ledger tells, where it can be read.
#[derive(Default)]
pub(crate) struct Records {
    pub(crate) ledger: Option<Ledger>,
    pub(crate) sets: Vec<ChangeSet>,
    /// Why this user may not read them.
    pub(crate) unreadable: Option<String>,
}

impl Records {
    /// The same, for what cannot do without them.
    pub(crate) fn readable(self) -> Result<Self, Failure> {
        match self.unreadable {
            Some(why) => Err(Failure::privilege(&why)),
            None => Ok(self),
        }
    }

    /// A site's phase, and, where it is open, a word about until when.
    pub(crate) fn phase_told(&self, site: &str, terminal: &mut Terminal<'_>) -> Result<SitePhase, Failure> {
        let phase = self.phase(site)?;
        if let (Phase::Open, Some(until)) = (phase.phase, phase.until) {
            terminal.say(&format!("{site}: {}", crate::output::open_until(until)));
        }
        Ok(phase)
    }

    /// When these sites were found clean last.
    pub(crate) fn clean_since(&self, sites: &[Arc<Site>]) -> Result<HashMap<String, Nanos>, Failure> {
        let mut found = HashMap::new();
        for site in sites {
            if let Some(since) =
                self.ledger.as_ref().map(|ledger| ledger.clean_since(&site.name)).transpose()?.flatten()
            {
                found.insert(site.name.clone(), since);
            }
        }
        Ok(found)
    }

    /// When a site was known to be right.
    pub(crate) fn known_right(&self, site: &str) -> Result<KnownRight, Failure> {
        let Some(ledger) = &self.ledger else { return Ok(KnownRight::default()) };
        let nanos = |at: jiff::Timestamp| Nanos::try_from(at.as_nanosecond()).ok();
        let last = self.sets.iter().find(|set| set.site == site && set.ended.is_some());
        let ended = last.and_then(|set| set.ended).and_then(nanos);
        let brings =
            |set: &&ChangeSet| matches!(set.command, ChangeCommand::Set | ChangeCommand::Seal) && set.failed == 0;
        let set = ended.filter(|_| last.as_ref().is_some_and(brings));
        // What Ambrik changes itself moves the time of the clean audit on: an undo does, and leaves what was wrong before.
        let clean_audit =
            ledger.clean_since(site)?.filter(|clean| set.is_some() || ended.is_none_or(|ended| *clean > ended));
        Ok(KnownRight { clean_audit, set })
    }

    /// Notes that a site was found clean by an audit that began then; where that cannot be written nothing else depends on it.
    pub(crate) fn found_clean(&mut self, site: &str, begun: jiff::Timestamp) {
        if let (Some(ledger), Ok(begun)) = (&mut self.ledger, Nanos::try_from(begun.as_nanosecond())) {
            let _ = ledger.found_clean(site, begun);
        }
    }

    /// Adds to an audit what is on record of the site's code: what changed, and what is not what an archive brought.
    pub(crate) fn on_code(&self, audit: Audit, host: &Host, today: Date) -> Result<Audit, Failure> {
        let Some(ledger) = &self.ledger else { return Ok(audit) };
        let site = Arc::clone(&audit.site);
        let unproven = ledger.unproven(&site.name)?.into_iter().map(|(path, how)| (path, how.words()));
        let audit = audit.with_unproven(host, unproven, today);
        let Some(delivered) = ledger.delivered(&site.name)? else { return Ok(audit) };
        let day = delivered.when.to_zoned(jiff::tz::TimeZone::system()).date();
        Ok(audit.with_not_as_unpacked(not_as_delivered(host, &site, &delivered), day, today))
    }

    /// A site's phase.
    pub(crate) fn phase(&self, site: &str) -> Result<SitePhase, Failure> {
        match &self.ledger {
            Some(ledger) => Ok(ledger.phase(site)?),
            None => Ok(SitePhase::default()),
        }
    }
}
