//! What the packages that the tree came in give to PHP's account: folders to write to, settings to read.

use std::path::Path;

use super::Scene;
use super::outside::is_of_one_application;
use crate::entry::Kind;
use crate::survey::clue::{Clues, Tells};
use crate::survey::names::{is_settings_name, lower_name};
use crate::survey::packaged::PackageFact;
use crate::survey::php::Location;
use crate::survey::weights::packages;

/// What this kind of evidence is called.
pub(crate) const PACKAGES: &str = "packages";

pub(super) fn gather(scene: &Scene<'_>, clues: &mut Clues) {
    let Some((user, group)) = scene.php_names else { return };
    for given in scene.given {
        let Some(spot) = spot(scene, &given.path) else { continue };
        let kind = kind(scene, &spot);
        let by_group = given.group == group && given.mode.is_some_and(|mode| mode & 0o020 != 0);
        let to_php = given.user == user || by_group;
        let says = format!("{} to php", given.says);
        match kind {
            Some(Kind::File)
                if is_settings_name(&lower_name(&given.path)) && (given.user == user || given.group == group) =>
            {
                clues.add(spot, Tells::Secret, packages::SECRET, says, given.seen.clone());
            }
            Some(Kind::Directory) | None if to_php && is_folder(given, kind) => {
                if given.made {
                    clues.add(spot.clone(), Tells::Made, 1.0, says.clone(), given.seen.clone());
                }
                clues.add(spot, Tells::Written, packages::WRITTEN, says, given.seen.clone());
            }
            _ => {}
        }
    }
}

/// What is not there and has an ending would be a file.
fn is_folder(given: &PackageFact, kind: Option<Kind>) -> bool {
    kind.is_some() || given.path.extension().is_none()
}

fn spot(scene: &Scene<'_>, path: &Path) -> Option<Location> {
    let real = scene.host.destination(Path::new("/"), path);
    if let Ok(below) = real.strip_prefix(&scene.deployed.root) {
        (!below.as_os_str().is_empty()).then(|| Location::Inside(below.to_owned()))
    } else {
        let own = is_of_one_application(&real) && !scene.deployed.root.starts_with(&real);
        own.then_some(Location::Outside(real))
    }
}

fn kind(scene: &Scene<'_>, spot: &Location) -> Option<Kind> {
    match spot {
        Location::Inside(path) => scene.deployed.entries.get(path).map(|entry| entry.kind),
        Location::Outside(path) => scene.host.resolve(path).ok().map(|found| found.facts.kind),
    }
}
