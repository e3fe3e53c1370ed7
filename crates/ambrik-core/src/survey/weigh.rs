//! From clues to parts: least in doubt.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::clue::{Clues, Seen, Tells};
use super::deployed::Deployed;
use super::evidence::{OWNER_AND_NAME, PACKAGES, is_of_one_application};
use super::names::{Aside, is_drop_in, lower_name, trade};
use super::php::Location;
use super::placeholder::{is_placeholder, is_stub};
use super::weights::{ASKED, CERTAIN, ENOUGH};
use super::{Confidence, DraftPart, DraftReason, Question};
use crate::access::permits;
use crate::account::{Ids, Uid};
use crate::check::is_php_name;
use crate::entry::Kind;
use crate::mode::Perm;
use crate::site::{Pattern, Use, Write};
use crate::tree::Host;

/// What is asked of a folder that is written to and holds code.
const HOLDS_CODE: &str =
    "it holds code, so php does not get to write to it; must it all the same, while it is installed or upgraded?";
/// So many reasons are told of a part.
const REASONS: usize = 3;

/// The parts that the clues are enough for, and the questions that are left.
pub(super) struct Weighed {
    pub(super) parts: Vec<DraftPart>,
    pub(super) questions: Vec<Question>,
}

pub(super) struct Scales<'s> {
    pub(super) host: &'s Host,
    pub(super) deployed: &'s Deployed,
    pub(super) clues: &'s Clues,
    pub(super) php: Option<Uid>,
    /// The ids that it has.
    pub(super) php_ids: Option<&'s Ids>,
    /// The document root, relative to the root.
    pub(super) served: &'s Path,
    /// The places outside the tree that code is loaded from.
    pub(super) loaded: &'s BTreeSet<PathBuf>,
    /// The texts of this installation's own settings files: what they name outside the tree is meant.
    pub(super) settings: &'s [String],
    /// The PHP files that set something and do nothing else.
    pub(super) settings_files: &'s BTreeSet<PathBuf>,
}

/// Outside the tree it is looked so deep for code, and at as many paths.
const OUTSIDE_DEEP: usize = 4;
const OUTSIDE_MOST: usize = 4_000;
/// A PHP file of so many bytes does nothing but bar listing.
const STUB: u64 = 160;

impl Scales<'_> {
    pub(super) fn weigh(&self) -> Weighed {
        let mut weighed = Weighed { parts: Vec::new(), questions: Vec::new() };
        self.secrets(&mut weighed);
        self.installers(&mut weighed);
        self.written(&mut weighed);
        self.hidden(&mut weighed);
        self.several_sites(&mut weighed);
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
            let (Location::Inside(path) | Location::Outside(path)) = spot;
            let mut because = self.reasons(spot, &[Tells::Secret, Tells::WrittenByInstaller]);
            let sample = self.clues.samples.get(path).cloned();
            because.truncate(REASONS);
            let part = DraftPart {
                path: path.clone(),
                pattern: false,
                used_as: Use::Secret,
                write: if by_installer >= ASKED { Write::Install } else { Write::Never },
                from: sample,
                create: false,
                confidence: confidence(weight),
                because,
            };
            // To read is what a secret gives php: outside the tree it must be able to already.
            let given = matches!(spot, Location::Outside(path) if self.host.resolve(path).is_ok() && !self.php_may(path, Perm::R));
            if given {
                let asks = "is it this installation's? php cannot read it now, and would get to";
                weighed.questions.push(Question { asks: asks.into(), part });
            } else if weight >= ENOUGH && !self.is_kept_elsewhere(spot) {
                weighed.parts.push(part);
            } else {
                weighed.questions.push(Question { asks: "does it hold credentials or keys?".into(), part });
            }
        }
    }

    /// Whether settings that are not there are kept outside the tree, under the same name.
    fn is_kept_elsewhere(&self, spot: &Location) -> bool {
        let Location::Inside(path) = spot else { return false };
        let same = |other: &Location| {
            matches!(other, Location::Outside(other) if other.file_name() == path.file_name())
                && self.clues.weight(other, Tells::Secret) >= ENOUGH
        };
        !self.deployed.has(path) && self.clues.spots().any(same)
    }

    fn installers(&self, weighed: &mut Weighed) {
        let mut taken: Vec<PathBuf> = Vec::new();
        for spot in self.clues.spots() {
            let Location::Inside(path) = spot else { continue };
            let weight = self.clues.weight(spot, Tells::Installer);
            if weight < ASKED || !self.deployed.has(path) || taken.iter().any(|other| path.starts_with(other)) {
                continue;
            }
            let needed = self.clues.of(spot, Tells::StillNeeded);
            taken.push(path.clone());
            let part = DraftPart {
                path: path.clone(),
                pattern: false,
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
                Location::Outside(path) => outside.push((path.clone(), weight)),
                Location::Inside(path)
                    if weighed.parts.iter().any(|part| part.used_as == Use::Setup && path.starts_with(&part.path)) => {}
                Location::Inside(path)
                    if weighed.parts.iter().any(|part| part.used_as == Use::Secret && part.path == *path) => {}
                Location::Inside(path) if self.holds_code(path) => {
                    if weight >= ENOUGH {
                        let mut part = self.part(spot, path, weight, Use::Code);
                        part.write = Write::Install;
                        weighed.questions.push(Question { asks: HOLDS_CODE.into(), part });
                    }
                }
                Location::Inside(path) if weight >= ENOUGH && self.will_be(spot, path) => {
                    proposed.insert(path.clone(), weight);
                }
                Location::Inside(path) => {
                    let part = self.part(spot, path, weight, self.used_as(spot, path));
                    weighed.questions.push(Question { asks: "does the application write there?".into(), part });
                }
            }
        }
        self.together(&mut proposed);
        for (path, weight) in &proposed {
            let spot = Location::Inside(path.clone());
            let used_as = self.used_as(&spot, path);
            let inside_same = proposed.keys().any(|other| {
                other != path
                    && path.starts_with(other)
                    && self.used_as(&Location::Inside(other.clone()), other) == used_as
            });
            if !inside_same {
                weighed.parts.push(self.part(&spot, path, *weight, used_as));
            }
        }
        let parts: Vec<PathBuf> = weighed.parts.iter().map(|part| part.path.clone()).collect();
        // What was found in its place is not asked for in another.
        let secrets: Vec<PathBuf> =
            weighed.parts.iter().filter(|part| part.used_as == Use::Secret).map(|part| part.path.clone()).collect();
        weighed.questions.retain(|question| {
            let path = &question.part.path;
            let found =
                secrets.iter().any(|secret| secret.file_name() == path.file_name() && path.extension().is_some());
            !found && !parts.iter().any(|part| path.starts_with(part))
        });
        self.outside(outside, weighed);
    }

    /// Whether a path is there, or somebody says that it will be, where code is not loaded from.
    fn will_be(&self, spot: &Location, path: &Path) -> bool {
        let loaded = path.iter().any(|name| {
            let name = name.to_string_lossy().to_ascii_lowercase();
            is_drop_in(&name) && trade(&name).is_none()
        });
        let library = self.deployed.aside(&path.join("x")).is_some_and(|aside| aside == Aside::Library);
        // Beside code, deep in the tree, nothing is made unless a document or a package says so.
        let above = path.parent().unwrap_or(Path::new(""));
        let front = above.as_os_str().is_empty() || above == self.served;
        let among_code =
            !front && self.deployed.inside(above).any(|(path, _)| is_php_name(path) && !is_stub(self.deployed, path));
        let by_code = self.clues.of(spot, Tells::Made).iter().all(|clue| clue.kind == "code");
        // That code makes a folder, and nothing that is seen comes into it, is not enough.
        let used = self.clues.of(spot, Tells::Written).len() > 1;
        let made = used
            && self.clues.weight(spot, Tells::Made) > 0.0
            && !self.keeps_all_elsewhere()
            && !(among_code && by_code);
        !loaded && !library && (self.deployed.has(path) || made)
    }

    /// Whether the folders that the code writes to were put outside the tree, as distributions do: then none is made in it.
    fn keeps_all_elsewhere(&self) -> bool {
        let outside = self.clues.spots().filter(|spot| matches!(spot, Location::Outside(_)));
        let mut kept = outside.flat_map(|spot| self.clues.of(spot, Tells::Written));
        kept.any(|clue| clue.kind == OWNER_AND_NAME)
    }

    /// Where a folder that is called as such folders are holds nothing but what is proposed, it is itself what is
    /// written to.
    fn together(&self, proposed: &mut BTreeMap<PathBuf, f64>) {
        let above: BTreeSet<PathBuf> =
            proposed.keys().flat_map(|path| path.ancestors().skip(1)).map(Path::to_owned).collect();
        for dir in above.into_iter().filter(|dir| !dir.as_os_str().is_empty() && self.deployed.is_directory(dir)) {
            let inside: Vec<f64> =
                proposed.iter().filter(|(path, _)| path.starts_with(&dir)).map(|(_, weight)| *weight).collect();
            let covered =
                self.deployed.below(&dir).filter(|(_, entry)| entry.kind != Kind::Directory).all(|(path, _)| {
                    path.ancestors().any(|above| proposed.contains_key(above))
                        || is_placeholder(self.deployed, path).is_some()
                });
            // What is in a folder called `var` is for different uses.
            let name = lower_name(&dir);
            if covered && trade(&name).is_some() && name != "var" && inside.len() > 1 && !proposed.contains_key(&dir) {
                proposed.insert(dir, inside.into_iter().fold(0.0, f64::max));
            }
        }
    }

    /// What is outside the tree: code and links can name anything on the host, so it is proposed only where it gives
    /// php nothing that it does not have, or makes something new.
    fn outside(&self, found: Vec<(PathBuf, f64)>, weighed: &mut Weighed) {
        let mut taken = BTreeSet::new();
        for (named, weight) in found {
            let spot = Location::Outside(named.clone());
            let path = self.where_php_begins(&named);
            if !taken.insert(path.clone()) {
                continue;
            }
            let text = path.to_string_lossy().into_owned();
            let meant = self.settings.iter().any(|settings| settings.contains(&text));
            let for_data = ["/var", "/srv", "/home", "/opt", "/data", "/mnt"].iter().any(|top| path.starts_with(top));
            let there = self.host.resolve(&path).is_ok();
            let made = self.clues.weight(&spot, Tells::Made) > 0.0;
            let by_package = self.clues.of(&spot, Tells::Written).iter().any(|clue| clue.kind == PACKAGES);
            let allowed =
                if there { self.php_may(&path, Perm::W) || by_package } else { (meant || by_package) && made };
            if there && weight >= ENOUGH && self.runs_from(&path) {
                let mut part = self.part(&spot, &path, weight, Use::Code);
                part.write = Write::Install;
                weighed.questions.push(Question { asks: HOLDS_CODE.into(), part });
                continue;
            }
            if path.components().count() <= 3 {
                continue;
            }
            let mut part = self.part(&spot, &path, weight, self.used_as(&spot, &path));
            part.create = !there;
            let in_a_part = weighed.parts.iter().any(|whole| path.starts_with(&whole.path));
            if weight >= ENOUGH && for_data && allowed {
                weighed.parts.push(part);
            } else if !in_a_part {
                weighed.questions.push(Question { asks: "does this installation keep files there?".into(), part });
            }
        }
    }

    /// The outermost folder around a path outside the tree that PHP may write to and that is the application's: what lies in it PHP
    /// could put another thing in the place of.
    fn where_php_begins(&self, path: &Path) -> PathBuf {
        let own = |above: &&Path| {
            is_of_one_application(above) && self.php_may(above, Perm::W) && !self.deployed.root.starts_with(above)
        };
        let around = path.ancestors().skip(1).take_while(|above| own(above) && !self.runs_from(above));
        around.last().unwrap_or(path).to_owned()
    }

    /// Whether code runs from a folder outside the tree: it is loaded from there, or lies there, and the folder is not one that PHP
    /// makes code in by itself.
    fn runs_from(&self, dir: &Path) -> bool {
        let name = lower_name(dir);
        if trade(&name) == Some(Use::Scratch) {
            return false;
        }
        // What PHP made itself, or is yet to make, is no code that anybody brought.
        let brought = |path: &Path| self.host.resolve(path).is_ok_and(|found| self.php != Some(found.facts.rights.uid));
        let loaded = self.loaded.iter().any(|path| path.starts_with(dir) && brought(path));
        let called_so = is_drop_in(&name) && trade(&name).is_none();
        loaded || called_so || self.holds_code_outside(dir, OUTSIDE_DEEP, &mut { OUTSIDE_MOST })
    }

    fn holds_code_outside(&self, dir: &Path, deep: usize, left: &mut usize) -> bool {
        for name in self.host.names_in(dir).unwrap_or_default() {
            *left = left.saturating_sub(1);
            let path = dir.join(name);
            if *left == 0 || trade(&lower_name(&path)) == Some(Use::Scratch) {
                continue;
            }
            let Ok(found) = self.host.resolve_link(&path) else { continue };
            let code = match found.facts.kind {
                Kind::Directory => deep > 0 && self.holds_code_outside(&path, deep - 1, left),
                // Settings that PHP wrote are no code that anybody brought.
                Kind::File => is_php_name(&path) && found.facts.size > STUB && self.php != Some(found.facts.rights.uid),
                _ => false,
            };
            if code {
                return true;
            }
        }
        false
    }

    /// Whether php has a right on a path outside the tree already, every directory on the way counted.
    fn php_may(&self, path: &Path, right: Perm) -> bool {
        let (Some(php), Ok(resolved)) = (self.php_ids, self.host.resolve(path)) else { return false };
        let reached = resolved.way.iter().all(|passed| permits(php, Kind::Directory, &passed.facts.rights, Perm::X));
        reached && permits(php, resolved.facts.kind, &resolved.facts.rights, right)
    }

    fn hidden(&self, weighed: &mut Weighed) {
        for spot in self.clues.spots() {
            let Location::Inside(path) = spot else { continue };
            let weight = self.clues.weight(spot, Tells::Hidden);
            if weight >= ENOUGH && !weighed.parts.iter().any(|part| part.path == *path) {
                let mut part = self.part(spot, path, weight, Use::Hidden);
                part.because = self.reasons(spot, &[Tells::Hidden]);
                part.write = Write::Never;
                weighed.parts.push(part);
            }
        }
    }

    fn part(&self, spot: &Location, path: &Path, weight: f64, used_as: Use) -> DraftPart {
        let mut because = self.reasons(spot, &[Tells::Written]);
        if because.is_empty() {
            because.push(DraftReason { says: "all that is in it is written to".into(), seen: Seen::at(path, 0) });
        }
        DraftPart {
            path: path.to_owned(),
            pattern: false,
            used_as,
            write: used_as.default_write(),
            from: None,
            create: matches!(spot, Location::Inside(_)) && !self.deployed.has(path),
            confidence: confidence(weight),
            because,
        }
    }

    /// The weightiest reasons, each kind of evidence once.
    fn reasons(&self, spot: &Location, tells: &[Tells]) -> Vec<DraftReason> {
        let mut kinds = BTreeSet::new();
        let all = tells.iter().flat_map(|tells| self.clues.of(spot, *tells)).filter(|clue| clue.weight > 0.0);
        let each = all.filter(|clue| kinds.insert((clue.kind, clue.says.clone())));
        let reasons = each.map(|clue| DraftReason { says: clue.says.clone(), seen: clue.seen.clone() });
        reasons.take(REASONS).collect()
    }

    /// Where the same path is there in folder after folder, as with several sites in one code base, the pattern stands for all of
    /// them, and for those to come.
    fn several_sites(&self, weighed: &mut Weighed) {
        let mut patterns: Vec<DraftPart> = Vec::new();
        for part in &weighed.parts {
            let is_one = matches!(part.used_as, Use::Secret | Use::Store | Use::Scratch | Use::Log) && !part.create;
            let Some(pattern) = self.pattern(&part.path).filter(|_| is_one && part.path.is_relative()) else {
                continue;
            };
            if !patterns.iter().any(|known| known.path == pattern && known.used_as == part.used_as) {
                patterns.push(DraftPart { path: pattern, pattern: true, from: None, ..part.clone() });
            }
        }
        for pattern in patterns {
            let Ok(named) = Pattern::parse(&pattern.path.to_string_lossy()) else { continue };
            let covers = |path: &Path| path.is_relative() && named.covers(path);
            weighed.parts.retain(|part| part.used_as != pattern.used_as || !covers(&part.path));
            weighed
                .questions
                .retain(|question| question.part.used_as != pattern.used_as || !covers(&question.part.path));
            weighed.parts.push(pattern);
        }
    }

    /// A path with a wildcard for the one of its folders beside which others hold the same.
    fn pattern(&self, path: &Path) -> Option<PathBuf> {
        let names: Vec<&std::ffi::OsStr> = path.iter().collect();
        // A name with a wildcard in it would name more than itself.
        if path.to_str().is_none_or(|text| text.contains(['*', '?', '[', '\\'])) {
            return None;
        }
        (1..names.len().saturating_sub(1)).find_map(|at| {
            let above: PathBuf = names[..at].iter().collect();
            let rest: PathBuf = names[at + 1..].iter().collect();
            // Where plug-ins and libraries lie side by side, each is a thing of its own.
            let one_each = self.deployed.aside(&above.join("x/y")).is_some() || is_drop_in(&lower_name(&above));
            let beside = self.deployed.inside(&above).filter(|(dir, entry)| {
                entry.kind == Kind::Directory
                    && self.deployed.has(&dir.join(&rest))
                    && dir.file_name() != Some(names[at])
            });
            let called_so =
                matches!(&*lower_name(&above), "sites" | "instances" | "tenants" | "vhosts" | "domains" | "hosts");
            (!one_each && called_so && beside.count() > 0).then(|| above.join("*").join(rest))
        })
    }

    /// What a written folder is for: by its clues, its name, and the names above it.
    fn used_as(&self, spot: &Location, path: &Path) -> Use {
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
        // In a folder of data, a file that only sets something is data; in one of settings it is what the server runs.
        let data = trade(&lower_name(dir)).is_some();
        let only_sets = |path: &PathBuf| data && self.settings_files.contains(path);
        self.deployed.below(dir).any(|(path, entry)| {
            let made = scratch && self.php == Some(entry.uid) && self.php != Some(self.deployed.owner);
            entry.kind == Kind::File
                && is_php_name(path)
                && !made
                && entry.size > 0
                && !only_sets(path)
                && !is_stub(self.deployed, path)
        })
    }
}

const fn confidence(weight: f64) -> Confidence {
    if weight >= CERTAIN {
        Confidence::High
    } else if weight >= ENOUGH {
        Confidence::Medium
    } else {
        Confidence::Low
    }
}

/// Secrets first, then what is written to, then what goes.
fn order(part: &DraftPart) -> (u8, PathBuf) {
    let rank = match part.used_as {
        Use::Secret => 0,
        Use::Setup | Use::Remove => 2,
        Use::Hidden => 3,
        Use::Code | Use::Store | Use::Scratch | Use::Log | Use::Foreign => 1,
    };
    (rank, part.path.clone())
}
