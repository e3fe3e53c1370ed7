//! What concerns several sites of a host at once: told once a run, with the sites that it concerns.

use std::collections::BTreeMap;

use super::Audit;
use crate::check::{Check, Concern, Remedy};
use crate::site::{Accept, Site};

/// A finding about the host.
#[derive(Debug)]
pub struct HostFinding {
    /// The check.
    pub check: &'static Check,
    /// What is wrong, and what that lets somebody do.
    pub says: String,
    /// The sites that it concerns, in order.
    pub sites: Vec<String>,
    /// What puts it right, where that is not what the check says.
    cure: Option<String>,
    /// The exceptions that cover it, where each site that was looked at has one.
    pub accepted: Vec<Accept>,
}

impl HostFinding {
    /// What puts it right.
    #[must_use]
    pub fn remedy(&self) -> String {
        if let Some(cure) = &self.cure {
            return cure.clone();
        }
        match self.check.remedy {
            Remedy::Hand(words) => words.to_owned(),
            Remedy::Set | Remedy::SetLabel => "ambrik set".to_owned(),
            Remedy::Seal => "ambrik seal".to_owned(),
        }
    }
}

/// What an audit of one site found out about the host.
#[derive(Debug)]
pub(super) struct OfHost {
    pub(super) check: &'static Check,
    pub(super) concern: Concern,
    pub(super) accepted: Option<Accept>,
}

/// What these audits found out about the host, in the order of the checks.
#[must_use]
pub fn host_findings(audits: &[Audit]) -> Vec<HostFinding> {
    let mut alike: BTreeMap<(usize, &str), Vec<&OfHost>> = BTreeMap::new();
    for of_host in audits.iter().flat_map(|audit| &audit.wrong.of_host) {
        alike.entry((crate::check::place(of_host.check), &of_host.concern.cause)).or_default().push(of_host);
    }
    alike.into_iter().map(|((_, cause), alike)| finding(cause, &alike)).collect()
}

/// Of so many sites it is said what each has to do with it; all of them are named beside.
const MOST_DETAILS: usize = 4;

/// One finding for all that have one cause.
fn finding(cause: &str, alike: &[&OfHost]) -> HostFinding {
    let sites: BTreeMap<&String, &String> = alike.iter().flat_map(|of_host| &of_host.concern.sites).collect();
    let details = sites.iter().filter(|(_, detail)| !detail.is_empty());
    let details: Vec<String> = details.map(|(site, detail)| format!("{site} {detail}")).collect();
    let more = details.len().saturating_sub(MOST_DETAILS);
    let more = if more > 1 { format!("; and {more} more") } else { String::new() };
    let shown = if more.is_empty() { &*details } else { &details[..MOST_DETAILS] };
    let details = if details.is_empty() { String::new() } else { format!(" ({}{more})", shown.join("; ")) };
    let check = alike[0].check;
    HostFinding {
        check,
        says: format!("{}: {cause}{details}: {}", check.wrong, check.lets),
        sites: sites.into_keys().cloned().collect(),
        cure: alike[0].concern.cure.clone(),
        accepted: alike.iter().map(|of_host| of_host.accepted.clone()).collect::<Option<_>>().unwrap_or_default(),
    }
}

impl Audit {
    /// Adds what concerns other sites as well.
    pub(super) fn add_of_host(&mut self, check: &'static Check, concern: Concern, today: jiff::civil::Date) {
        let site: &Site = &self.site;
        let holds = |accept: &&Accept| {
            accept.check == check.name && accept.holds_on(today) && accept.pattern.covers(&site.root)
        };
        let accepted = site.accepts.iter().find(holds).cloned();
        self.wrong.of_host.push(OfHost { check, concern, accepted });
    }
}
