//! Findings as documents other than `audit/1` tell them: each by itself, with the site's or the host's words.

use std::path::PathBuf;

use ambrik_core::audit::{Audit, Finding, HostFinding};
use ambrik_core::check::{Check, Severity};
use ambrik_core::site::Accept;

/// A finding of a site, or one of the host for each of its sites.
pub(super) struct Told<'t> {
    pub(super) site: &'t str,
    pub(super) check: &'static Check,
    pub(super) severity: Severity,
    pub(super) part: &'t str,
    pub(super) says: String,
    pub(super) remedy: String,
    pub(super) accepted: Option<&'t Accept>,
    at: Option<(&'t Audit, &'t Finding)>,
}

impl<'t> Told<'t> {
    /// The paths, relative to the root, or absolute outside it; none where it is about no path.
    pub(super) fn paths(&self) -> impl Iterator<Item = PathBuf> + use<'t> {
        self.at.into_iter().flat_map(|(audit, finding)| audit.paths(finding))
    }

    /// How many that are.
    pub(super) fn count(&self) -> usize {
        self.at.map_or(0, |(_, finding)| finding.count())
    }
}

/// What was found about a site itself.
pub(super) fn of_site(audit: &Audit) -> impl Iterator<Item = Told<'_>> {
    audit.wrong.findings.iter().map(|finding| Told {
        site: &audit.site.name,
        check: finding.check,
        severity: finding.severity(),
        part: audit.part_shown(finding.part),
        says: audit.says(finding),
        remedy: audit.remedy(finding),
        accepted: finding.accepted.and_then(|number| audit.site.accepts.get(number)),
        at: Some((audit, finding)),
    })
}

/// What was found about the host, told for each site that it concerns.
pub(super) fn of_host(findings: &[HostFinding]) -> impl Iterator<Item = Told<'_>> {
    findings.iter().flat_map(|finding| {
        finding.sites.iter().map(move |site| Told {
            site,
            check: finding.check,
            severity: finding.check.severity,
            part: "",
            says: finding.says.clone(),
            remedy: finding.remedy(),
            accepted: finding.accepted.first(),
            at: None,
        })
    })
}

/// What a check is about, without the names of a site's accounts.
pub(super) fn wrong(check: &Check) -> String {
    let named = [("{php}", "its account"), ("{web}", "its account"), ("{keeper}", "its account")];
    named.iter().fold(check.wrong.to_owned(), |text, (name, says)| text.replace(name, says))
}

/// What puts the findings of a check right, whichever site they are of.
pub(super) fn remedy(check: &Check) -> &'static str {
    use ambrik_core::check::Remedy;
    match check.remedy {
        Remedy::Set | Remedy::SetLabel => "ambrik set",
        Remedy::Seal => "ambrik seal",
        Remedy::Hand(words) => words,
    }
}
