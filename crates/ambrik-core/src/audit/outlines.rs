//! What sites of one outline have in common: one mend in the outline may put all of them right.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use super::Audit;
use crate::check::Check;

/// The findings that several sites of one outline have.
#[derive(Debug)]
pub struct OutlineFindings<'a> {
    /// The outline's name.
    pub outline: &'a str,
    /// How many sites go by it.
    pub sites: usize,
    /// The checks, each with how many of these sites it is found in; the gravest first, then the most frequent.
    pub checks: Vec<(&'static Check, usize)>,
}

/// The findings that at least two sites of an outline have, by outline. What is accepted is left out, and what follows from another
/// finding on the same paths.
#[must_use]
pub fn by_outline(audits: &[Audit]) -> Vec<OutlineFindings<'_>> {
    let mut outlines: BTreeMap<&str, Vec<&Audit>> = BTreeMap::new();
    for audit in audits {
        if let Some(outline) = &audit.site.outline {
            outlines.entry(outline).or_default().push(audit);
        }
    }
    let found = outlines.into_iter().map(|(outline, audits)| {
        let mut checks: BTreeMap<&str, (&'static Check, usize)> = BTreeMap::new();
        for audit in &audits {
            let causes = audit.causes();
            let own = audit
                .wrong
                .findings
                .iter()
                .zip(causes)
                .filter(|(found, cause)| found.accepted.is_none() && cause.is_none());
            let names: BTreeMap<&str, &'static Check> = own.map(|(found, _)| (found.check.name, found.check)).collect();
            for (name, check) in names {
                checks.entry(name).or_insert((check, 0)).1 += 1;
            }
        }
        let mut checks: Vec<_> = checks.into_values().filter(|(_, sites)| *sites > 1).collect();
        checks.sort_by_key(|(check, sites)| Reverse((check.severity, *sites)));
        OutlineFindings { outline, sites: audits.len(), checks }
    });
    found.filter(|found| !found.checks.is_empty()).collect()
}
