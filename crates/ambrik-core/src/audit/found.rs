//! What a finding keeps of its paths.

use std::ops::Range;
use std::path::{Path, PathBuf};

use crate::account::Uid;
use crate::entry::Nanos;
use crate::inspect::{Deviation, Deviations};

/// A path that a finding is about.
#[derive(Debug)]
pub(super) enum Found {
    /// The deviation with this number.
    Deviation(u32, Times),
    Path(PathBuf),
}

/// What tells when paths became what they are.
#[derive(Clone, Copy, Debug)]
pub(super) struct Times {
    /// When the last of them was changed.
    pub(super) changed: Nanos,
    /// When the first of them was made.
    pub(super) born: Nanos,
    /// Whose all of them are.
    pub(super) owner: Option<Uid>,
}

impl Times {
    pub(super) fn of(deviation: &Deviation<'_>) -> Self {
        let owner = Some(deviation.verdict.rights.uid);
        Self { changed: deviation.changed, born: deviation.id.born, owner }
    }

    /// Those of both.
    pub(super) fn and(self, other: Self) -> Self {
        Self {
            changed: self.changed.max(other.changed),
            born: self.born.min(other.born),
            owner: self.owner.filter(|_| self.owner == other.owner),
        }
    }
}

/// A path that a finding is about, as it is met.
pub(super) enum Met<'a> {
    Deviation(Deviation<'a>),
    Path(&'a Path),
}

/// The paths that a finding is about, in the order in which they were found. Deviations one after the other take one place together: where
/// everything is wrong, that is all of them.
#[derive(Debug, Default)]
pub(super) struct FoundPaths {
    runs: Vec<Run>,
    count: usize,
    /// The times of the deviations among them.
    times: Option<Times>,
}

#[derive(Debug)]
enum Run {
    Deviations(Range<u32>),
    Path(PathBuf),
}

impl FoundPaths {
    pub(super) fn push(&mut self, found: Found) {
        self.count += 1;
        match found {
            Found::Path(path) => self.runs.push(Run::Path(path)),
            Found::Deviation(number, times) => {
                self.times = Some(self.times.map_or(times, |known| known.and(times)));
                match self.runs.last_mut() {
                    Some(Run::Deviations(run)) if run.end == number => run.end += 1,
                    _ => self.runs.push(Run::Deviations(number..number + 1)),
                }
            }
        }
    }

    pub(super) const fn len(&self) -> usize {
        self.count
    }

    /// The times of the deviations among them.
    pub(super) const fn times(&self) -> Option<Times> {
        self.times
    }

    /// Those that are no deviations.
    pub(super) fn of_their_own(&self) -> impl Iterator<Item = &Path> {
        self.runs.iter().filter_map(|run| if let Run::Path(path) = run { Some(&**path) } else { None })
    }

    /// Whether all are deviations, and are among these.
    pub(super) fn are_among(&self, others: &Self) -> bool {
        let others = others.spans();
        // They are in order and apart: the last one that begins before a span's end is the only one that can hold it.
        let last =
            |span: &Range<u32>| others.get(others.partition_point(|other| other.start < span.end).checked_sub(1)?);
        let within =
            |span: &Range<u32>| last(span).is_some_and(|other| other.start <= span.start && span.end <= other.end);
        self.of_their_own().next().is_none() && self.spans().iter().all(within)
    }

    /// The numbers of deviations, as few ranges as can be, in order.
    fn spans(&self) -> Vec<Range<u32>> {
        let mut runs: Vec<Range<u32>> = self.runs.iter().filter_map(Run::deviations).collect();
        runs.sort_unstable_by_key(|run| run.start);
        runs.dedup_by(|next, span| {
            let joined = next.start <= span.end;
            if joined {
                span.end = span.end.max(next.end);
            }
            joined
        });
        runs
    }

    /// Whether a deviation is among them.
    pub(super) fn has(&self, number: u32) -> bool {
        self.runs.iter().filter_map(Run::deviations).any(|run| run.contains(&number))
    }

    pub(super) fn of<'a>(&'a self, deviations: &'a Deviations) -> impl Iterator<Item = Met<'a>> {
        self.runs.iter().flat_map(|run| {
            let path = if let Run::Path(path) = run { Some(Met::Path(path)) } else { None };
            let numbers = run.deviations().unwrap_or_default();
            deviations.range(numbers).map(Met::Deviation).chain(path)
        })
    }
}

impl Run {
    fn deviations(&self) -> Option<Range<u32>> {
        if let Self::Deviations(numbers) = self { Some(numbers.clone()) } else { None }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    fn found(numbers: &[u32], own: bool) -> FoundPaths {
        let mut found = FoundPaths::default();
        for number in numbers {
            let times = Times { changed: i64::from(*number), born: i64::from(*number), owner: Some(Uid(number % 2)) };
            found.push(Found::Deviation(*number, times));
        }
        if own {
            found.push(Found::Path("/srv/x".into()));
        }
        found
    }

    proptest! {
        /// Runs say what single numbers say, in any order and twice.
        #[test]
        fn runs_are_their_numbers(one in prop::collection::vec(0..12_u32, 0..12), two in prop::collection::vec(0..12_u32, 0..20), own in any::<bool>()) {
            let (few, many) = (found(&one, own), found(&two, false));
            let [one_set, two_set] = [&one, &two].map(|numbers| numbers.iter().copied().collect::<BTreeSet<u32>>());
            prop_assert_eq!(few.len(), one.len() + usize::from(own));
            prop_assert_eq!(few.are_among(&many), !own && one_set.is_subset(&two_set));
            prop_assert!((0..12).all(|number| few.has(number) == one_set.contains(&number)));
            prop_assert_eq!(few.times().map(|times| (times.born, times.changed)), one.iter().min().zip(one.iter().max()).map(|(a, b)| (i64::from(*a), i64::from(*b))));
            let owners: BTreeSet<u32> = one.iter().map(|number| number % 2).collect();
            prop_assert_eq!(few.times().and_then(|times| times.owner).is_some(), owners.len() == 1);
        }
    }
}
