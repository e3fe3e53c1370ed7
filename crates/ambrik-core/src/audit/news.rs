//! What is new since the last audit.

use std::os::unix::ffi::OsStrExt as _;

use super::{Audit, HostFinding};

/// A finding, in short.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RecordedFinding {
    /// The site.
    pub site: String,
    /// The check's name.
    pub check: String,
    /// The part, as it is shown; empty where it is about the host.
    pub part: String,
    /// How much it matters.
    pub severity: String,
    /// What it says.
    pub says: String,
    /// How many paths it is about.
    pub paths: u64,
    /// The sum of these paths: whether they are the same ones.
    pub sum: Vec<u8>,
}

impl RecordedFinding {
    /// Whether another says the same thing, of whichever paths.
    #[must_use]
    pub fn is_same(&self, other: &Self) -> bool {
        (&self.site, &self.check, &self.part) == (&other.site, &other.check, &other.part)
    }
}

/// What is otherwise than the last time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct News {
    /// The finding, as it is; of what is gone as it was.
    pub finding: RecordedFinding,
    /// How.
    pub how: HowNew,
}

/// In which way a finding is news.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HowNew {
    /// It was not there.
    New,
    /// It is of other paths: so many were it before.
    Other(u64),
    /// It is not there any more.
    Gone,
}

/// The findings that count of audits, in short.
#[must_use]
pub fn recorded(audits: &[Audit], of_host: &[HostFinding]) -> Vec<RecordedFinding> {
    let mut found = Vec::new();
    for audit in audits {
        for finding in audit.wrong.findings.iter().filter(|finding| finding.accepted.is_none()) {
            let mut sum = blake3::Hasher::new();
            let Ok(()) = audit.each_path(finding, |path| {
                sum.update(path.as_os_str().as_bytes());
                sum.update(&[0]);
                Ok::<_, std::convert::Infallible>(())
            });
            let new = RecordedFinding {
                site: audit.site.name.clone(),
                check: finding.check.name.to_owned(),
                part: audit.part_shown(finding.part).to_owned(),
                severity: finding.severity().word().to_owned(),
                says: audit.says(finding),
                paths: u64::try_from(finding.count()).unwrap_or(u64::MAX),
                sum: sum.finalize().as_bytes()[..16].to_vec(),
            };
            // What is about the way to the site has a finding of its own.
            match found.iter_mut().find(|other: &&mut RecordedFinding| other.is_same(&new)) {
                Some(other) => {
                    other.paths += new.paths;
                    other.sum.iter_mut().zip(&new.sum).for_each(|(a, b)| *a ^= b);
                }
                None => found.push(new),
            }
        }
    }
    for finding in of_host.iter().filter(|finding| finding.accepted.is_empty()) {
        found.extend(finding.sites.iter().map(|site| RecordedFinding {
            site: site.clone(),
            check: finding.check.name.to_owned(),
            part: String::new(),
            severity: finding.check.severity.word().to_owned(),
            says: finding.says.clone(),
            paths: 0,
            sum: Vec::new(),
        }));
    }
    found
}

/// What is new, what is gone, and what is of other paths than before; of sites that were not judged nothing is gone.
#[must_use]
pub fn news(before: &[RecordedFinding], now: &[RecordedFinding], not_judged: &[&str]) -> Vec<News> {
    let fresh = now.iter().filter_map(|finding| {
        let how = match before.iter().find(|old| old.is_same(finding)) {
            None => HowNew::New,
            Some(old) if old.sum != finding.sum => HowNew::Other(old.paths),
            Some(_) => return None,
        };
        Some(News { finding: finding.clone(), how })
    });
    let gone = before
        .iter()
        .filter(|old| !not_judged.contains(&&*old.site) && !now.iter().any(|finding| finding.is_same(old)));
    fresh.chain(gone.map(|old| News { finding: old.clone(), how: HowNew::Gone })).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn finding(text: &str) -> RecordedFinding {
        let words: Vec<&str> = text.split(' ').collect();
        RecordedFinding {
            site: words[0].into(),
            check: words[1].into(),
            part: ".".into(),
            severity: "high".into(),
            says: String::new(),
            paths: words[2].parse().unwrap(),
            sum: words[2].as_bytes().to_vec(),
        }
    }

    #[rstest]
    #[case::nothing(&["a x 1"], &["a x 1"], &[], &[])]
    #[case::new(&[], &["a x 1"], &[], &["New a x"])]
    #[case::gone(&["a x 1"], &[], &[], &["Gone a x"])]
    #[case::not_judged(&["a x 1"], &[], &["a"], &[])]
    #[case::of_another_site(&["a x 1"], &["b x 1"], &[], &["New b x", "Gone a x"])]
    #[case::of_other_paths(&["a x 1"], &["a x 2"], &[], &["Other(1) a x"])]
    fn what_is_news(#[case] before: &[&str], #[case] now: &[&str], #[case] not_judged: &[&str], #[case] want: &[&str]) {
        let all = |texts: &[&str]| texts.iter().map(|text| finding(text)).collect::<Vec<_>>();
        let found = news(&all(before), &all(now), not_judged);
        let told: Vec<String> =
            found.iter().map(|news| format!("{:?} {} {}", news.how, news.finding.site, news.finding.check)).collect();
        assert_eq!(told, want);
    }
}
