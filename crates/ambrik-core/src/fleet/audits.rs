//! Audits of many hosts as one: a site a line, the worst first, and findings by cause.

use std::collections::BTreeMap;
use std::fmt;
use std::io::{self, Read};
use std::marker::PhantomData;

use serde::de::{Deserializer, Error as _, SeqAccess, Visitor};
use serde::{Deserialize, Serialize};

/// What is read of `audit/1`, whatever else is in it.
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
pub struct AuditAnswer<const PATHS: usize = FEW> {
    /// When it was taken.
    #[serde(default)]
    pub taken: String,
    /// What concerns several of its sites.
    #[serde(default, deserialize_with = "capped")]
    pub host_findings: Vec<OfHost>,
    /// Sites that could not be judged.
    #[serde(default, deserialize_with = "capped")]
    pub not_judged: Vec<NotJudged>,
    /// Its sites.
    #[serde(deserialize_with = "capped")]
    pub sites: Vec<FleetSite<PATHS>>,
}

/// What concerns several sites of a host.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct OfHost {
    /// The check.
    pub check: String,
    /// How grave it is.
    pub severity: String,
    /// The sites.
    #[serde(default, deserialize_with = "capped")]
    pub sites: Vec<String>,
    /// What it says.
    pub says: String,
    /// What puts it right.
    #[serde(default)]
    pub remedy: String,
}

/// A site that could not be judged.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct NotJudged {
    /// Its name.
    pub name: String,
    /// Why.
    pub says: String,
}

/// A site of a host.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct FleetSite<const PATHS: usize = FEW> {
    /// Its name.
    pub name: String,
    /// Its root.
    #[serde(default)]
    pub root: String,
    /// Its phase.
    #[serde(default)]
    pub phase: String,
    /// When its window ends.
    #[serde(default)]
    pub until: Option<String>,
    /// How many paths were looked at.
    #[serde(default)]
    pub entries: u64,
    /// Whether all of it was.
    #[serde(default)]
    pub complete: bool,
    /// What was found.
    #[serde(deserialize_with = "capped")]
    pub findings: Vec<FleetFinding<PATHS>>,
}

/// A finding.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct FleetFinding<const PATHS: usize = FEW> {
    /// The check.
    pub check: String,
    /// `high`, `medium` or `low`.
    pub severity: String,
    /// The part.
    #[serde(default)]
    pub part: String,
    /// How many paths it is about.
    #[serde(default)]
    pub count: u64,
    /// The paths; of very many the first.
    #[serde(default, deserialize_with = "first_paths::<_, PATHS>")]
    pub paths: Vec<String>,
    /// What it says.
    #[serde(default)]
    pub says: String,
    /// What puts it right.
    #[serde(default)]
    pub remedy: String,
    /// The exception that covers it.
    #[serde(default)]
    pub accepted: Option<FleetAccepted>,
    /// The check that it follows from.
    #[serde(default)]
    pub implied_by: Option<String>,
}

/// An accepted exception.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct FleetAccepted {
    /// Why.
    pub reason: String,
    /// Until when.
    #[serde(default)]
    pub until: Option<String>,
}

/// So many paths of each finding are kept, where nobody asks for more.
const FEW: usize = 20;
/// No list in an answer has more items: a host that says otherwise says nonsense.
const MOST: usize = 20_000;
/// No text in an answer is kept longer, in characters.
const LONGEST: usize = 4000;

/// Reads a list of bounded length.
pub(super) fn capped<'de, D: Deserializer<'de>, T: Deserialize<'de>>(from: D) -> Result<Vec<T>, D::Error> {
    struct List<T>(PhantomData<T>);
    impl<'de, T: Deserialize<'de>> Visitor<'de> for List<T> {
        type Value = Vec<T>;

        fn expecting(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
            write!(to, "a list of no more than {MOST} items")
        }

        fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Self::Value, A::Error> {
            let mut found = Vec::new();
            while let Some(item) = list.next_element()? {
                if found.len() >= MOST {
                    return Err(A::Error::custom("a list is longer than any answer's"));
                }
                found.push(item);
            }
            Ok(found)
        }
    }
    from.deserialize_seq(List(PhantomData))
}

/// The first of a list of paths.
fn first_paths<'de, D: Deserializer<'de>, const PATHS: usize>(from: D) -> Result<Vec<String>, D::Error> {
    first::<D, String, PATHS>(from).map(|(paths, _)| paths)
}

/// The first of a list, and how many more there are.
pub(super) fn first<'de, D: Deserializer<'de>, T: Deserialize<'de>, const MOST: usize>(
    from: D,
) -> Result<(Vec<T>, u64), D::Error> {
    struct First<T, const MOST: usize>(PhantomData<T>);
    impl<'de, T: Deserialize<'de>, const MOST: usize> Visitor<'de> for First<T, MOST> {
        type Value = (Vec<T>, u64);

        fn expecting(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
            to.write_str("a list")
        }

        fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Self::Value, A::Error> {
            let mut found = Vec::new();
            while found.len() < MOST {
                match list.next_element()? {
                    Some(item) => found.push(item),
                    None => return Ok((found, 0)),
                }
            }
            let mut more = 0;
            while list.next_element::<serde::de::IgnoredAny>()?.is_some() {
                more += 1;
            }
            Ok((found, more))
        }
    }
    from.deserialize_seq(First::<T, MOST>(PhantomData))
}

/// Reads an `audit/1`, with everything in it made fit to be shown.
///
/// # Errors
/// Where it is none, or has more in it than any has.
pub fn read_audit<const PATHS: usize>(out: impl Read) -> io::Result<AuditAnswer<PATHS>> {
    let mut answer: AuditAnswer<PATHS> = serde_json::from_reader(out).map_err(io::Error::from)?;
    let total: usize = answer.sites.iter().map(|site| site.findings.len()).sum();
    if total > MOST {
        return Err(io::Error::other("it has more findings than any answer"));
    }
    answer.clean();
    Ok(answer)
}

/// Control characters, and those that turn the direction of writing, have no business in an answer.
pub(super) fn clean(text: &mut String) {
    let is_odd = |c: char| c.is_control() || crate::shown::misleads(c);
    if text.contains(is_odd) || text.len() > LONGEST {
        *text = text.chars().take(LONGEST).map(|c| if is_odd(c) { '\u{fffd}' } else { c }).collect();
    }
}

impl<const PATHS: usize> AuditAnswer<PATHS> {
    fn clean(&mut self) {
        clean(&mut self.taken);
        for found in &mut self.host_findings {
            [&mut found.check, &mut found.severity, &mut found.says, &mut found.remedy].into_iter().for_each(clean);
            found.sites.iter_mut().for_each(clean);
        }
        for NotJudged { name, says } in &mut self.not_judged {
            [name, says].into_iter().for_each(clean);
        }
        for site in &mut self.sites {
            [&mut site.name, &mut site.root, &mut site.phase].into_iter().chain(&mut site.until).for_each(clean);
            site.findings.iter_mut().for_each(FleetFinding::clean);
        }
    }
}

impl<const PATHS: usize> FleetFinding<PATHS> {
    fn clean(&mut self) {
        let texts = [&mut self.check, &mut self.severity, &mut self.part, &mut self.says, &mut self.remedy];
        texts.into_iter().chain(&mut self.paths).chain(&mut self.implied_by).for_each(clean);
        if let Some(FleetAccepted { reason, until }) = &mut self.accepted {
            clean(reason);
            until.iter_mut().for_each(clean);
        }
    }

    /// Whether it counts: no exception covers it.
    #[must_use]
    pub const fn counts(&self) -> bool {
        self.accepted.is_none()
    }

    /// How grave it is: 0 high, 1 medium, 2 low.
    #[must_use]
    pub fn rank(&self) -> usize {
        rank(&self.severity)
    }
}

/// How grave a severity is: 0 high, 1 medium, 2 low, and what is none counts as high.
fn rank(severity: &str) -> usize {
    match severity {
        "medium" => 1,
        "low" => 2,
        _ => 0,
    }
}

impl<const PATHS: usize> FleetSite<PATHS> {
    /// How many findings count, by severity: high, medium, low. Those that follow from others are told with these.
    #[must_use]
    pub fn severities(&self) -> [usize; 3] {
        let mut found = [0; 3];
        for finding in self.findings.iter().filter(|finding| finding.counts() && finding.implied_by.is_none()) {
            found[finding.rank()] += 1;
        }
        found
    }

    /// The gravest finding that counts, and follows from no other.
    #[must_use]
    pub fn worst(&self) -> Option<&FleetFinding<PATHS>> {
        let told = |finding: &&FleetFinding<PATHS>| finding.counts() && finding.implied_by.is_none();
        self.findings.iter().filter(told).min_by_key(|finding| finding.rank())
    }
}

/// What was found by one check, over hosts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Cause {
    /// The check.
    pub check: String,
    /// How grave it is at the worst.
    pub severity: String,
    /// On how many hosts.
    pub hosts: usize,
    /// In how many sites of them.
    pub sites: usize,
    /// What it says of the first.
    pub says: String,
    /// Hosts that have it, the first of them.
    pub on: Vec<String>,
}

/// So many hosts of a cause are named.
const MOST_NAMED: usize = 50;

/// What was found, by check: the gravest first, and of these what most hosts have.
#[must_use]
pub fn causes(answers: &[(&str, &AuditAnswer)]) -> Vec<Cause> {
    let mut found: BTreeMap<&str, (usize, &str, Vec<&str>, usize)> = BTreeMap::new();
    for (host, answer) in answers {
        let of_sites = answer.sites.iter().flat_map(|site| {
            let told = site.findings.iter().filter(|finding| finding.counts() && finding.implied_by.is_none());
            // A check once for each site.
            let each: BTreeMap<&str, (usize, &str)> =
                told.map(|finding| (finding.check.as_str(), (finding.rank(), finding.says.as_str()))).collect();
            each
        });
        let of_host = answer
            .host_findings
            .iter()
            .map(|found| (found.check.as_str(), (rank(&found.severity), found.says.as_str())));
        for (check, (rank, says)) in of_sites.chain(of_host) {
            let (worst, _, hosts, sites) = found.entry(check).or_insert((rank, says, Vec::new(), 0));
            *worst = rank.min(*worst);
            *sites += 1;
            if hosts.last() != Some(host) {
                hosts.push(host);
            }
        }
    }
    let mut causes: Vec<(usize, Cause)> = found
        .into_iter()
        .map(|(check, (rank, says, hosts, sites))| {
            let severity = ["high", "medium", "low"][rank].to_owned();
            let on = hosts.iter().take(MOST_NAMED).map(|host| (*host).to_owned()).collect();
            (rank, Cause { check: check.to_owned(), severity, hosts: hosts.len(), sites, says: says.to_owned(), on })
        })
        .collect();
    causes.sort_by_key(|(rank, cause)| (*rank, std::cmp::Reverse((cause.hosts, cause.sites)), cause.check.clone()));
    causes.into_iter().map(|(_, cause)| cause).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn finding(check: &str, severity: &str) -> String {
        format!(
            "{{\"check\":\"{check}\",\"severity\":\"{severity}\",\"says\":\"says of {check}\",\"paths\":[\"a\"],\"count\":1}}"
        )
    }

    fn audit(sites: &[(&str, &[String])]) -> AuditAnswer {
        let each =
            sites.iter().map(|(name, found)| format!("{{\"name\":\"{name}\",\"findings\":[{}]}}", found.join(",")));
        let text = format!("{{\"ambrik\":\"audit/1\",\"sites\":[{}]}}", each.collect::<Vec<_>>().join(","));
        read_audit::<FEW>(text.as_bytes()).unwrap()
    }

    #[test]
    fn what_most_hosts_have_comes_first_among_the_gravest() {
        let (high, also, low) = (finding("b", "high"), finding("a", "high"), finding("c", "low"));
        let one = audit(&[("x", &[high.clone(), low.clone()]), ("y", &[high.clone(), also])]);
        let two = audit(&[("x", &[high, low])]);
        let found = causes(&[("one", &one), ("two", &two)]);
        let told: Vec<_> = found.iter().map(|cause| (&*cause.check, cause.hosts, cause.sites)).collect();
        assert_eq!(told, [("b", 2, 3), ("a", 1, 1), ("c", 2, 2)]);
        assert_eq!(found[0].on, ["one", "two"]);
        assert_eq!(one.sites[0].severities(), [1, 0, 1]);
        assert_eq!(one.sites[0].worst().unwrap().check, "b");
    }

    #[test]
    fn what_a_host_writes_cannot_reach_the_terminal() {
        let text = "{\"sites\":[{\"name\":\"a\\u001b[31m\",\"findings\":[{\"check\":\"c\\u202e\",\"severity\":\"?\",\"paths\":[\"\\u0007\"]}]}]}";
        let found = format!("{:?}", read_audit::<FEW>(text.as_bytes()).unwrap());
        assert!(!found.contains("\\u{1b}") && !found.contains("\\u{202e}") && !found.contains("\\u{7}"), "{found}");
    }

    #[rstest]
    #[case::no_sites("{}")]
    #[case::other_types("{\"sites\":[{\"name\":7,\"findings\":[]}]}")]
    #[case::endless(&format!("{{\"sites\":[{}{{\"name\":\"a\",\"findings\":[]}}]}}", "{\"name\":\"a\",\"findings\":[]},".repeat(MOST)))]
    fn what_is_no_audit_is_none(#[case] text: &str) {
        assert!(read_audit::<FEW>(text.as_bytes()).is_err());
    }

    #[test]
    fn of_very_many_paths_the_first_are_kept() {
        let paths = vec!["\"p\""; 100_000].join(",");
        let text = format!(
            "{{\"sites\":[{{\"name\":\"a\",\"findings\":[{{\"check\":\"c\",\"severity\":\"low\",\"paths\":[{paths}],\"count\":100000}}]}}]}}"
        );
        let found = read_audit::<FEW>(text.as_bytes()).unwrap();
        assert_eq!((found.sites[0].findings[0].paths.len(), found.sites[0].findings[0].count), (FEW, 100_000));
    }
}
