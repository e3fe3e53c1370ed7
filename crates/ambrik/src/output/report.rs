//! What commands find and do, in every format. A further format is a variant of `Format`, a method of [`Report`], and a file that
//! writes it: the compiler names each result that lacks it.

use std::io::{self, Write};
use std::path::Path;

use ambrik_core::account::Accounts;
use ambrik_core::archive::{Archive, ArchiveLook};
use ambrik_core::change::{MovePlan, Outcome, UndoPlan, UnpackPlan};
use ambrik_core::check::Check;
use ambrik_core::host::Services;
use ambrik_core::survey::Survey;
use ambrik_core::why::{Everything, NoFile, Review};

pub(crate) use super::found::{
    AcceptReport, AuditReport, DriftReport, FilesRead, HistoryReport, NewsReport, ProofReport, PurgeReport, SetReport,
};
use super::json_audit::HostHeader;
use super::json_changes::{ChangedSite, Moved};
use super::{
    accept_text, accounts_text, audit_overview, checks_text, csv, drift_text, history_text, html, html_history,
    json_audit, json_changes, json_host, json_records, json_survey, json_unpack, json_why, junit, labels_text,
    move_text, news_text, openmetrics, proofread_text, purge_text, sarif, survey_text, unpack_text, why_text,
};
use crate::options::AuditFormat;

/// A result.
pub(crate) trait Report {
    /// For people; what they were told while the work was done is not said again.
    fn text(&self, out: &mut dyn Write) -> io::Result<()>;

    /// One JSON document.
    fn json(&self, out: &mut dyn Write) -> io::Result<()>;

    /// In a format that audits have, and change sets one of them; other commands refuse it before they do anything.
    fn of_audit(&self, _: AuditFormat, _: &mut dyn Write) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }
}

/// `accounts`.
pub(crate) struct AccountsReport<'r> {
    pub(crate) host: &'r str,
    pub(crate) services: &'r Services,
    pub(crate) settings: bool,
}

impl Report for AccountsReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        accounts_text::render(self.host, self.services, out)?;
        if self.settings { accounts_text::settings(self.services, out) } else { Ok(()) }
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        json_host::accounts(self.host, self.services, out)
    }
}

impl Report for AuditReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        let Some(tables) = self.tables else {
            return audit_overview::render(self, out);
        };
        for (n, (audit, lines)) in self.audits.iter().zip(tables).enumerate() {
            if n > 0 {
                writeln!(out)?;
            }
            labels_text::render(audit, self.labels, lines, out)?;
        }
        Ok(())
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        let host = HostHeader { name: self.host, labels: self.labels, accounts: self.accounts };
        json_audit::audit(
            &host,
            (self.audits, self.of_host),
            self.until,
            self.wrong,
            self.tables.unwrap_or_default(),
            out,
        )
    }

    fn of_audit(&self, format: AuditFormat, out: &mut dyn Write) -> io::Result<()> {
        match format {
            AuditFormat::Csv => csv::write(self, out),
            AuditFormat::Html => html::write(self, out),
            AuditFormat::Junit => junit::write(self, self.fail_on, out),
            AuditFormat::Openmetrics => openmetrics::write(self, out),
            AuditFormat::Sarif => sarif::write(self, out),
        }
    }
}

impl Report for NewsReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        news_text::render(self, out)
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        news_text::json(self, out)
    }
}

/// `survey`.
pub(crate) struct SurveyReport<'r> {
    pub(crate) found: &'r Survey,
    /// The site file that it was saved as.
    pub(crate) saved: Option<&'r str>,
    /// Whether the draft alone is wanted.
    pub(crate) draft: bool,
}

impl Report for SurveyReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        if self.draft {
            write!(out, "{}", self.found.draft())
        } else {
            survey_text::render(self.found, self.saved, out)
        }
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        json_survey::survey(self.found, out)
    }
}

impl Report for HistoryReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        history_text::render(self, out)
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        json_records::history(self, out)
    }
}

impl Report for SetReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        history_text::one(self, out)
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        json_records::one(self, out)
    }

    fn of_audit(&self, format: AuditFormat, out: &mut dyn Write) -> io::Result<()> {
        match format {
            AuditFormat::Html => html_history::write(self, out),
            _ => Err(io::ErrorKind::Unsupported.into()),
        }
    }
}

impl Report for AcceptReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        accept_text::render(self, out)
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        accept_text::json(self, out)
    }
}

impl Report for DriftReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        drift_text::render(self, out)
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        drift_text::json(self, out)
    }
}

impl Report for PurgeReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        purge_text::render(self, out)
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        purge_text::json(self, out)
    }
}

impl Report for ProofReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        proofread_text::render(self, out)
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        proofread_text::json(self, out)
    }
}

/// `checks`.
pub(crate) struct ChecksReport<'r> {
    pub(crate) checks: &'r [&'static Check],
    /// Whether all there is to say of it is asked for: then it is one.
    pub(crate) whole: bool,
}

impl Report for ChecksReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        match self.checks {
            [check] if self.whole => checks_text::whole(check, out),
            checks => checks_text::list(checks, out),
        }
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        checks_text::json(self.checks, out)
    }
}

/// `why --all`.
pub(crate) struct EverythingReport<'r> {
    pub(crate) found: &'r Everything,
    /// The account's name, and the same with its role.
    pub(crate) account: &'r str,
    pub(crate) in_role: &'r str,
}

impl Report for EverythingReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        why_text::everything(self.found, self.in_role, out)
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        json_why::everything(self.found, self.account, out)
    }
}

/// `why --from-log`.
pub(crate) struct ReviewsReport<'r> {
    pub(crate) reviews: &'r [Review],
    /// What is no matter of files.
    pub(crate) others: &'r [NoFile],
    /// How many logs were read.
    pub(crate) logs: u64,
    pub(crate) without_path: u64,
}

impl Report for ReviewsReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        why_text::reviews(self.reviews, self.others, self.logs, self.without_path, out)
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        json_why::reviews(self.reviews, self.others, self.without_path, out)
    }
}

/// `set`, `open` and `seal`: people read along while it is done.
pub(crate) struct ChangesReport<'r> {
    pub(crate) sites: &'r [ChangedSite],
    pub(crate) accounts: &'r Accounts,
}

impl Report for ChangesReport<'_> {
    fn text(&self, _: &mut dyn Write) -> io::Result<()> {
        Ok(())
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        json_changes::changes(self.sites, self.accounts, out)
    }
}

/// `undo`: people read along while it is done.
pub(crate) struct UndoReport<'r> {
    pub(crate) plans: &'r [(&'r UndoPlan, Option<&'r Outcome>)],
}

impl Report for UndoReport<'_> {
    fn text(&self, _: &mut dyn Write) -> io::Result<()> {
        Ok(())
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        json_records::undo(self.plans, out)
    }
}

/// `move`, planned or done.
pub(crate) struct MoveReport<'r> {
    pub(crate) plan: &'r MovePlan,
    pub(crate) moved: Option<&'r Moved<'r>>,
    pub(crate) accounts: &'r Accounts,
}

impl Report for MoveReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        match self.moved {
            None => move_text::render(self.plan, self.accounts, out),
            Some(moved) => move_text::outcome(self.plan, moved.outcome, out),
        }
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        json_changes::moved(self.plan, self.moved, self.accounts, out)
    }
}

/// `unpack`, refused, planned or done.
pub(crate) struct UnpackReport<'r> {
    /// The site's name and root.
    pub(crate) site: (&'r str, &'r Path),
    pub(crate) archive: &'r Archive,
    pub(crate) found: &'r ArchiveLook,
    /// What would be done, for these accounts.
    pub(crate) planned: Option<(&'r UnpackPlan, &'r Accounts)>,
    /// What came of it, and whether it was taken back.
    pub(crate) outcome: Option<(&'r Outcome, bool)>,
}

impl<'r> UnpackReport<'r> {
    pub(crate) const fn refused(site: (&'r str, &'r Path), archive: &'r Archive, found: &'r ArchiveLook) -> Self {
        Self { site, archive, found, planned: None, outcome: None }
    }

    pub(crate) fn planned(
        plan: &'r UnpackPlan,
        archive: &'r Archive,
        found: &'r ArchiveLook,
        accounts: &'r Accounts,
    ) -> Self {
        Self {
            site: (&plan.site.name, &plan.site.root),
            archive,
            found,
            planned: Some((plan, accounts)),
            outcome: None,
        }
    }
}

impl Report for UnpackReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        match (self.planned, self.outcome) {
            (None, _) => unpack_text::refused(self.site.0, self.archive, self.found, out),
            (Some((plan, _)), Some((outcome, _))) => unpack_text::outcome(plan, outcome, out),
            (Some((plan, accounts)), None) => unpack_text::render(plan, self.archive, self.found, accounts, out),
        }
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        let plan = self.planned.map(|(plan, _)| plan);
        json_unpack::unpacked((self.site, self.archive, self.found), plan, self.outcome, out)
    }
}
