//! What PHP really wrote while it was watched.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::Scene;
use super::outside::is_of_one_application;
use crate::entry::Kind;
use crate::survey::clue::{Clues, Seen, Tells};
use crate::survey::names::{is_settings_name, lower_name, trade};
use crate::survey::php::Location;
use crate::survey::weights::watched;

pub(super) fn gather(scene: &Scene<'_>, clues: &mut Clues) {
    let Some(watched) = scene.watched else { return };
    let mut folders: BTreeMap<Location, (u64, PathBuf)> = BTreeMap::new();
    for (file, times) in &watched.files {
        let spot = match file.strip_prefix(&scene.deployed.root) {
            Ok(below) => Location::Inside(written_in(scene, below)),
            Err(_) => match file.parent().filter(|folder| is_of_one_application(folder)) {
                Some(folder) => Location::Outside(folder.to_owned()),
                None => continue,
            },
        };
        let known = folders.entry(spot).or_insert_with(|| (0, file.clone()));
        known.0 += times;
    }
    for (spot, (times, example)) in folders {
        let says = match times {
            1 => "php wrote there while it was watched".to_owned(),
            times => format!("php wrote there {times} times while it was watched"),
        };
        clues.add(spot, Tells::Written, watched::WRITTEN, says, Seen::at(&example, 0));
    }
}

/// What a written file of the tree speaks for: itself where it is settings or lies at the front; else its folder, and of folders in
/// folders the outermost that is called as such folders are.
fn written_in(scene: &Scene<'_>, below: &Path) -> PathBuf {
    let folder = below.parent().unwrap_or(Path::new(""));
    let front = folder.as_os_str().is_empty() || folder == scene.served.as_path();
    let file = scene.deployed.entries.get(below).is_some_and(|entry| entry.kind == Kind::File);
    if file && (front || is_settings_name(&lower_name(below))) {
        return below.to_owned();
    }
    let called_so = folder.ancestors().filter(|above| trade(&lower_name(above)).is_some()).last();
    called_so.unwrap_or(folder).to_owned()
}
