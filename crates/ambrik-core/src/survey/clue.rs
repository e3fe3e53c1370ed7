//! A clue: something seen in a tree that tells what a path is for, with its weight and its place.

use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};

use super::deployed::Deployed;
use super::php::Location;
use super::weights;
use crate::shown::Shown;

/// Where something was seen: a path of the tree (or elsewhere on the host), and a line where there is one.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Seen {
    /// Relative to the root, or absolute outside it.
    pub path: PathBuf,
    /// From 1; 0 for all of it.
    pub line: usize,
}

impl Seen {
    pub(crate) fn at(path: &Path, line: usize) -> Self {
        Self { path: path.to_owned(), line }
    }
}

impl fmt::Display for Seen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.line {
            0 => Shown(&self.path).fmt(f),
            line => write!(f, "{}:{line}", Shown(&self.path)),
        }
    }
}

/// What a clue tells of a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Tells {
    /// PHP writes there.
    Written,
    /// Somebody will make it: a document says so, an installer's list does, or code makes it itself.
    Made,
    /// PHP writes there while it is installed.
    WrittenByInstaller,
    /// What is kept there can be lost: caches, sessions.
    Scratch,
    /// Logs are kept there.
    Log,
    /// It holds credentials or keys.
    Secret,
    /// It installs the application.
    Installer,
    /// The application itself still uses it.
    StillNeeded,
    /// It is nobody's business.
    Hidden,
}

/// One clue.
#[derive(Clone, Debug)]
pub(crate) struct Clue {
    pub(crate) tells: Tells,
    /// One is a hint, two are enough; negative speaks against it.
    pub(crate) weight: f64,
    pub(crate) says: String,
    pub(crate) seen: Seen,
    /// Which kind of evidence it is.
    pub(crate) kind: &'static str,
}

/// All clues, by path.
#[derive(Default)]
pub(crate) struct Clues {
    by_spot: BTreeMap<Location, Vec<Clue>>,
    kind: &'static str,
    /// The sample that each settings file is made from.
    pub(crate) samples: BTreeMap<PathBuf, PathBuf>,
}

impl Clues {
    /// What follows is evidence of this kind.
    pub(crate) const fn of_kind(&mut self, kind: &'static str) {
        self.kind = kind;
    }

    pub(crate) fn add(&mut self, spot: Location, tells: Tells, weight: f64, says: impl Into<String>, seen: Seen) {
        // The root itself is never a part.
        if spot == Location::Inside(PathBuf::new()) || weight == 0.0 {
            return;
        }
        let clue = Clue { tells, weight, says: says.into(), seen, kind: self.kind };
        self.by_spot.entry(spot).or_default().push(clue);
    }

    /// A clue about a path of the tree.
    pub(crate) fn inside(&mut self, path: &Path, tells: Tells, weight: f64, says: impl Into<String>, seen: Seen) {
        self.add(Location::Inside(path.to_owned()), tells, weight, says, seen);
    }

    /// What is said of a path that leads through a link is said of where that leads: a link itself is no place to write to.
    pub(crate) fn follow_links(&mut self, deployed: &Deployed) {
        for (spot, clues) in std::mem::take(&mut self.by_spot) {
            let goal = match &spot {
                Location::Inside(path) => deployed.destination(path),
                Location::Outside(_) => None,
            };
            let spot = match goal.as_deref().map(|goal| (goal, goal.strip_prefix(&deployed.root))) {
                None => spot,
                Some((_, Ok(below))) => Location::Inside(below.to_owned()),
                Some((goal, Err(_))) => Location::Outside(goal.to_owned()),
            };
            if spot != Location::Inside(PathBuf::new()) {
                self.by_spot.entry(spot).or_default().extend(clues);
            }
        }
    }

    pub(crate) fn spots(&self) -> impl Iterator<Item = &Location> {
        self.by_spot.keys()
    }

    /// The clues of a path that tell this, the weightiest first.
    pub(crate) fn of(&self, spot: &Location, tells: Tells) -> Vec<&Clue> {
        let all = self.by_spot.get(spot).into_iter().flatten();
        let mut clues: Vec<&Clue> = all.filter(|clue| clue.tells == tells).collect();
        clues.sort_by(|a, b| b.weight.total_cmp(&a.weight));
        clues
    }

    /// How much speaks for it: each kind of evidence by its weightiest clue, and a little for each further one.
    pub(crate) fn weight(&self, spot: &Location, tells: Tells) -> f64 {
        let mut kinds: BTreeMap<&str, (f64, f64)> = BTreeMap::new();
        for clue in self.of(spot, tells) {
            let (most, further) = kinds.entry(clue.kind).or_default();
            if clue.weight < 0.0 || *most == 0.0 {
                *most += clue.weight;
            } else {
                *further += clue.weight * weights::FURTHER;
            }
        }
        kinds.values().map(|(most, further)| most + further.min(1.0)).sum()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn weight(clues: &[(&'static str, f64)]) -> f64 {
        let mut all = Clues::default();
        for (kind, weight) in clues {
            all.of_kind(kind);
            all.inside(Path::new("tides"), Tells::Written, *weight, "x", Seen::at(Path::new("a.php"), 1));
        }
        all.weight(&Location::Inside(PathBuf::from("tides")), Tells::Written)
    }

    /// Ten of a kind are little more than one; two kinds are twice as much.
    #[test]
    fn kinds_count_and_not_numbers() {
        let near = |a: f64, b: f64| (a - b).abs() < 1e-9;
        assert!(near(weight(&[("code", 1.0)]), 1.0));
        assert!(near(weight(&[("code", 1.0), ("code", 1.0)]), 1.2));
        assert!(near(weight(&[("code", 1.0); 40]), 2.0));
        assert!(near(weight(&[("code", 1.0), ("words", 1.0)]), 2.0));
        assert!(near(weight(&[("code", 0.4), ("code", 1.4)]), 1.48));
        assert!(near(weight(&[]), 0.0));
    }

    #[test]
    fn the_root_gets_no_clues() {
        let mut clues = Clues::default();
        clues.inside(Path::new(""), Tells::Written, 9.0, "x", Seen::at(Path::new("a"), 0));
        assert_eq!(clues.spots().count(), 0);
    }

    #[test]
    fn the_weightiest_comes_first() {
        let mut clues = Clues::default();
        let path = Path::new("tides");
        for (weight, says) in [(0.5, "little"), (2.0, "most"), (1.0, "more")] {
            clues.inside(path, Tells::Written, weight, says, Seen::at(path, 0));
        }
        let found = clues.of(&Location::Inside(path.to_owned()), Tells::Written);
        assert_eq!(found.iter().map(|clue| clue.says.as_str()).collect::<Vec<_>>(), ["most", "more", "little"]);
    }

    #[test]
    fn places_are_shown_with_their_line() {
        assert_eq!(Seen::at(Path::new("a.php"), 7).to_string(), "a.php:7");
        assert_eq!(Seen::at(Path::new("a\n.php"), 0).to_string(), "a\\n.php");
    }
}
