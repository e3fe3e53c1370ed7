//! From clues to parts: least in doubt.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::clue::{Clues, Seen, Tells};
use super::deployed::Deployed;
use super::names::{is_placeholder, is_stub, lower_name, trade};
use super::php::Spot;
use super::{Confidence, Part, Question, Reason};
use crate::account::Uid;
use crate::check::is_php_name;
use crate::entry::Kind;
use crate::site::{Use, Write};
use crate::tree::Host;

/// What so much speaks for is proposed; what is left above half of it is asked.
const ENOUGH: f64 = 1.5;
const ASKED: f64 = 0.9;
/// So many reasons are told of a part.
const REASONS: usize = 4;

/// The parts that the clues are enough for, and the questions that are left.
pub(super) struct Weighed {
    pub(super) parts: Vec<Part>,
    pub(super) questions: Vec<Question>,
}

pub(super) struct Scales<'s> {
    pub(super) host: &'s Host,
    pub(super) deployed: &'s Deployed,
    pub(super) clues: &'s Clues,
    pub(super) php: Option<Uid>,
    /// The texts of this installation's own settings files: what they name outside the tree is meant.
    pub(super) settings: &'s [String],
}

impl Scales<'_> {
    pub(super) fn weigh(&self) -> Weighed {
        let mut weighed = Weighed { parts: Vec::new(), questions: Vec::new() };
        self.secrets(&mut weighed);
        self.installers(&mut weighed);
        self.written(&mut weighed);
        self.hidden(&mut weighed);
        weighed.parts.sort_by_key(order);
        weighed.questions.sort_by(|a, b| a.part.path.cmp(&b.part.path));
        weighed
    }

    fn secrets(&self, weighed: &mut Weighed) {
        for spot in self.clues.spots() {
            let weight = self.clues.weight(spot, Tells::Secret);
            let by_installer = self.clues.weight(spot, Tells::WrittenByInstaller);
            if weight < ASKED {
                continue;
            }
            let (Spot::Inside(path) | Spot::Outside(path)) = spot;
            let mut because = self.reasons(spot, &[Tells::Secret, Tells::WrittenByInstaller]);
            let sample = self.clues.samples.get(path).cloned();
            because.truncate(REASONS);
            let part = Part {
                path: path.clone(),
                used_as: Use::Secret,
                write: if by_installer >= 1.0 { Write::Install } else { Write::Never },
                from: sample,
                create: false,
                confidence: confidence(weight),
                because,
            };
            if weight >= ENOUGH {
                weighed.parts.push(part);
            } else {
                weighed.questions.push(Question { asks: "does it hold credentials or keys?".into(), part });
            }
        }
    }

    fn installers(&self, weighed: &mut Weighed) {
        let mut taken: Vec<PathBuf> = Vec::new();
        for spot in self.clues.spots() {
            let Spot::Inside(path) = spot else { continue };
            let weight = self.clues.weight(spot, Tells::Installer);
            if weight < ASKED || !self.deployed.has(path) || taken.iter().any(|other| path.starts_with(other)) {
                continue;
            }
            let needed = self.clues.of(spot, Tells::StillNeeded);
            taken.push(path.clone());
            let part = Part {
                path: path.clone(),
                used_as: Use::Setup,
                write: Write::Never,
                from: None,
                create: false,
                confidence: confidence(weight),
                because: self.reasons(spot, &[Tells::Installer]),
            };
            if let Some(need) = needed.first() {
                let asks = format!("an installer that the application still needs ({}): may it stay?", need.says);
                weighed.questions.push(Question { asks, part });
            } else if weight >= ENOUGH {
                weighed.parts.push(part);
            } else {
                weighed.questions.push(Question { asks: "is it an installer, to be removed afterwards?".into(), part });
            }
        }
    }

    fn written(&self, weighed: &mut Weighed) {
        let mut proposed: BTreeMap<PathBuf, f64> = BTreeMap::new();
        let mut outside = Vec::new();
        for spot in self.clues.spots() {
            let weight = self.clues.weight(spot, Tells::Written);
            if weight < ASKED {
                continue;
            }
            match spot {
                Spot::Outside(path) => outside.push((path.clone(), weight)),
                Spot::Inside(path)
                    if weighed.parts.iter().any(|part| part.used_as == Use::Setup && path.starts_with(&part.path)) => {}
                Spot::Inside(path)
                    if weighed.parts.iter().any(|part| part.used_as == Use::Secret && part.path == *path) => {}
                Spot::Inside(path) if self.holds_code(path) => {
                    if weight >= ENOUGH {
                        let asks = "it holds code, so php does not get to write to it; must it all the same, while it is installed or upgraded?";
                        let mut part = self.part(spot, path, weight, Use::Code);
                        part.write = Write::Install;
                        weighed.questions.push(Question { asks: asks.into(), part });
                    }
                }
                Spot::Inside(path) if weight >= ENOUGH => {
                    proposed.insert(path.clone(), weight);
                }
                Spot::Inside(path) => {
                    let part = self.part(spot, path, weight, self.used_as(spot, path));
                    weighed.questions.push(Question { asks: "does the application write there?".into(), part });
                }
            }
        }
        self.together(&mut proposed);
        for (path, weight) in &proposed {
            let spot = Spot::Inside(path.clone());
            let used_as = self.used_as(&spot, path);
            let inside_same = proposed.keys().any(|other| {
                other != path && path.starts_with(other) && self.used_as(&Spot::Inside(other.clone()), other) == used_as
            });
            if !inside_same {
                weighed.parts.push(self.part(&spot, path, *weight, used_as));
            }
        }
        let parts: Vec<PathBuf> = weighed.parts.iter().map(|part| part.path.clone()).collect();
        weighed.questions.retain(|question| !parts.iter().any(|part| question.part.path.starts_with(part)));
        self.outside(outside, weighed);
    }

    /// Where a folder holds nothing but what is proposed, it is itself what is written to.
    fn together(&self, proposed: &mut BTreeMap<PathBuf, f64>) {
        let above: BTreeSet<PathBuf> = proposed.keys().filter_map(|path| path.parent().map(Path::to_owned)).collect();
        for dir in above.into_iter().filter(|dir| !dir.as_os_str().is_empty()) {
            let inside: Vec<&PathBuf> = proposed.keys().filter(|path| path.parent() == Some(&dir)).collect();
            let rest = self.deployed.inside(&dir).all(|(path, entry)| match entry.kind {
                Kind::Directory => proposed.contains_key(path),
                _ => is_placeholder(self.deployed, path).is_some(),
            });
            let named = trade(&lower_name(&dir)).is_some_and(|used_as| used_as != Use::Store);
            if rest && named && inside.len() > 1 && !proposed.contains_key(&dir) && self.deployed.is_directory(&dir) {
                let weight = inside.iter().filter_map(|path| proposed.get(*path)).copied().fold(0.0, f64::max);
                proposed.insert(dir, weight);
            }
        }
    }

    fn outside(&self, found: Vec<(PathBuf, f64)>, weighed: &mut Weighed) {
        for (path, weight) in found {
            let spot = Spot::Outside(path.clone());
            let there = self.host.resolve(&path).is_ok_and(|resolved| resolved.facts.kind == Kind::Directory);
            let text = path.to_string_lossy().into_owned();
            let meant = self.settings.iter().any(|settings| settings.contains(&text));
            let own = path.components().count() > 3;
            let mut part = self.part(&spot, &path, weight, self.used_as(&spot, &path));
            part.create = true;
            if weight >= ENOUGH && own && (there || meant) {
                weighed.parts.push(part);
            } else if own {
                weighed.questions.push(Question { asks: "does this installation keep files there?".into(), part });
            }
        }
    }

    fn hidden(&self, weighed: &mut Weighed) {
        for spot in self.clues.spots() {
            let Spot::Inside(path) = spot else { continue };
            let weight = self.clues.weight(spot, Tells::Hidden);
            if weight >= ENOUGH && !weighed.parts.iter().any(|part| part.path == *path) {
                let mut part = self.part(spot, path, weight, Use::Hidden);
                part.because = self.reasons(spot, &[Tells::Hidden]);
                part.write = Write::Never;
                weighed.parts.push(part);
            }
        }
    }

    fn part(&self, spot: &Spot, path: &Path, weight: f64, used_as: Use) -> Part {
        let mut because = self.reasons(spot, &[Tells::Written]);
        if because.is_empty() {
            because.push(Reason { says: "all that is in it is written to".into(), seen: Seen::at(path, 0) });
        }
        Part {
            path: path.to_owned(),
            used_as,
            write: used_as.default_write(),
            from: None,
            create: matches!(spot, Spot::Inside(_)) && !self.deployed.has(path),
            confidence: confidence(weight),
            because,
        }
    }

    /// The weightiest reasons, each kind of evidence once.
    fn reasons(&self, spot: &Spot, tells: &[Tells]) -> Vec<Reason> {
        let mut kinds = BTreeSet::new();
        let all = tells.iter().flat_map(|tells| self.clues.of(spot, *tells)).filter(|clue| clue.weight > 0.0);
        let each = all.filter(|clue| kinds.insert((clue.kind, clue.says.clone())));
        let reasons = each.map(|clue| Reason { says: clue.says.clone(), seen: clue.seen.clone() });
        reasons.take(REASONS).collect()
    }

    /// What a written folder is for: by its clues, its name, and the names above it.
    fn used_as(&self, spot: &Spot, path: &Path) -> Use {
        if self.clues.weight(spot, Tells::Log) > 0.0 {
            return Use::Log;
        }
        if self.clues.weight(spot, Tells::Scratch) > 0.0 {
            return Use::Scratch;
        }
        let mut near = path;
        loop {
            match trade(&lower_name(near)) {
                Some(Use::Store) | None => {}
                Some(used_as) => return used_as,
            }
            // `/var/log/app`, `/var/cache/app`
            match near.parent() {
                Some(above) if !above.as_os_str().is_empty() => near = above,
                _ => return Use::Store,
            }
        }
    }

    /// Whether the server runs code from a folder: PHP that php itself did not make.
    fn holds_code(&self, dir: &Path) -> bool {
        if self.deployed.is_file(dir) {
            return is_php_name(dir);
        }
        let scratch = trade(&lower_name(dir)) == Some(Use::Scratch);
        self.deployed.below(dir).any(|(path, entry)| {
            let made = scratch && self.php == Some(entry.uid) && self.php != Some(self.deployed.owner);
            entry.kind == Kind::File && is_php_name(path) && !made && entry.size > 0 && !is_stub(self.deployed, path)
        })
    }
}

const fn confidence(weight: f64) -> Confidence {
    if weight >= 3.0 {
        Confidence::High
    } else if weight >= ENOUGH {
        Confidence::Medium
    } else {
        Confidence::Low
    }
}

/// Secrets first, then what is written to, then what goes.
fn order(part: &Part) -> (u8, PathBuf) {
    let rank = match part.used_as {
        Use::Secret => 0,
        Use::Setup => 2,
        Use::Hidden => 3,
        Use::Code | Use::Store | Use::Scratch | Use::Log | Use::Foreign => 1,
    };
    (rank, part.path.clone())
}
