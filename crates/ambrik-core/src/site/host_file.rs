//! What stands behind the site files of a host: the host file with its drop-ins, and outlines.

use std::path::PathBuf;

use jiff::{SignedDuration, Span, SpanRelativeTo};

/// A file with its text.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Source {
    /// The file.
    pub file: PathBuf,
    /// What stands in it.
    pub text: String,
}

/// What holds for all sites of a host: `host.toml`, and what `host.d/*.toml` add to it, each instead of those before it.
///
/// What it says of sites is read again with each of them: paths in it are below their roots.
#[derive(Clone, Debug, Default)]
pub struct HostFile {
    /// The last first: what it says holds.
    pub(super) sources: Vec<Source>,
    /// How long keepsakes are kept; for ever where it does not say.
    pub keepsakes: Option<SignedDuration>,
    /// How long what was changed is on record; for ever where it does not say.
    pub history: Option<SignedDuration>,
    /// The lowest severity of a finding that makes an audit's exit code 1: `high`, `medium`, `low`, or `never`.
    pub fail_on: Option<String>,
}

impl HostFile {
    /// The files that it was read from.
    pub fn files(&self) -> impl Iterator<Item = &PathBuf> {
        self.sources.iter().rev().map(|source| &source.file)
    }
}

/// How long something is kept, as in `90d`, `12w` or `36h`; days are 24 hours. Nothing where it is no such time, or a negative one.
#[must_use]
pub fn kept_for(text: &str) -> Option<SignedDuration> {
    let span: Span = text.parse().ok()?;
    let time = span.to_duration(SpanRelativeTo::days_are_24_hours()).ok()?;
    (time >= SignedDuration::ZERO).then_some(time)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("90d", Some(90 * 24))]
    #[case("2w", Some(14 * 24))]
    #[case("36h", Some(36))]
    #[case("400 days", Some(400 * 24))]
    #[case("1y", None)]
    #[case("0d", Some(0))]
    #[case("-3d", None)]
    #[case("soon", None)]
    fn times_are_of_days(#[case] text: &str, #[case] hours: Option<i64>) {
        assert_eq!(kept_for(text), hours.map(SignedDuration::from_hours));
    }
}
