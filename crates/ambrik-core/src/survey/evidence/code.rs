//! What the PHP code checks, makes and writes.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::Scene;
use super::samples::is_main;
use crate::survey::clue::{Clues, Seen, Tells};
use crate::survey::names::{
    Aside, is_control_file, is_drop_in, is_installers, is_key_name, is_settings_name, lower_name,
};
use crate::survey::php::{Location, Sink, Touched, Whole};
use crate::survey::weights::code;

/// A file that checks so many paths is an installer's list of what must be writable.
const LIST: usize = 3;

pub(super) fn gather(scene: &Scene<'_>, clues: &mut Clues) {
    let mut checked: Checked<'_> = BTreeMap::new();
    for touched in scene.touched.iter().filter(|touched| touched.sink == Sink::Check) {
        checked.entry(&touched.file).or_default().insert((touched.line, &touched.spot));
    }
    let command_line: BTreeSet<&Path> =
        scene.facts.iter().filter(|facts| facts.command_line).map(|facts| facts.file.as_path()).collect();
    for touched in scene.touched {
        let counts = match scene.deployed.aside(&touched.file) {
            Some(Aside::Development | Aside::CommandLine) => 0.0,
            Some(Aside::Library) => code::BY_LIBRARY,
            None => 1.0,
        };
        if touched.sink == Sink::Check && is_above_another(&checked, touched) {
            continue;
        }
        // A check counts wherever it is made: it says what the application needs.
        let script = command_line.contains(touched.file.as_path()) && touched.sink != Sink::Check;
        if counts > 0.0 && !script && !matches!(touched.sink, Sink::Load | Sink::Look | Sink::Named) {
            let is_list = checked.get(touched.file.as_path()).is_some_and(|paths| paths.len() >= LIST);
            judge(scene, clues, touched, counts, is_list);
        }
    }
    uploads(scene, clues);
}

/// Where code takes uploads, a folder that it names for them is for them.
fn uploads(scene: &Scene<'_>, clues: &mut Clues) {
    let of_application = scene.facts.iter().filter(|facts| scene.deployed.aside(&facts.file).is_none());
    let takes = of_application.flat_map(|facts| facts.touches.iter().map(move |touch| (facts, touch)));
    let Some((facts, touch)) = takes.into_iter().find(|(_, touch)| touch.call == "move_uploaded_file") else { return };
    let seen = Seen::at(&facts.file, touch.line);
    let named = clues.spots().filter(|spot| match spot {
        Location::Inside(path) => matches!(lower_name(path).as_str(), "upload" | "uploads"),
        Location::Outside(_) => false,
    });
    let named: Vec<Location> = named.filter(|spot| !clues.of(spot, Tells::Written).is_empty()).cloned().collect();
    clues.of_kind("uploads");
    for spot in named {
        clues.add(spot, Tells::Written, code::UPLOADS, "the code takes uploads (move_uploaded_file)", seen.clone());
    }
    clues.of_kind("code");
}

/// The paths that each file checks, with the lines.
type Checked<'t> = BTreeMap<&'t Path, BTreeSet<(usize, &'t Location)>>;

/// Whether the same line checks something inside this path: where that is missing, the folder is looked at instead,
/// and the evidence is for what is inside.
fn is_above_another(checked: &Checked<'_>, touched: &Touched) -> bool {
    let Location::Inside(path) = &touched.spot else { return false };
    checked.get(touched.file.as_path()).into_iter().flatten().any(|(line, spot)| {
        *line == touched.line && matches!(spot, Location::Inside(other) if other != path && other.starts_with(path))
    })
}

/// What a place where a path is touched tells; `counts` is how much its file says about the application.
fn judge(scene: &Scene<'_>, clues: &mut Clues, touched: &Touched, counts: f64, is_list: bool) {
    let (weight, does) = match touched.sink {
        Sink::Check if is_list => (code::CHECKED_IN_LIST, "in a list of checks for writing"),
        Sink::Check => (code::CHECKED, "checked to be writable"),
        Sink::Write => (code::WRITTEN, "written"),
        Sink::MoveTo => (code::PUT, "something is put there"),
        Sink::MakeDirectory => (code::MADE, "made"),
        Sink::Open => (code::OPENED, "made writable"),
        Sink::Setting => (code::SET, "set to be written to"),
        Sink::Session => (code::SESSIONS, "sessions are kept there"),
        Sink::Load | Sink::Look | Sink::Named => return,
    };
    let weight = weight * counts * if touched.sure { 1.0 } else { code::GUESSED };
    let says = format!("{does} ({})", touched.call);
    let seen = Seen::at(&touched.file, touched.line);
    let installs = is_installers(&touched.file);
    let (Location::Inside(path) | Location::Outside(path)) = &touched.spot;
    let name = lower_name(path);
    // What closes a folder, or keeps a list of it from being shown, is not why the folder is written to.
    if is_control_file(&name) || matches!(&*name, "index.html" | "index.htm") {
        return;
    }
    // What a plug-in makes for itself is not what the application will have.
    let plugs_in = touched.file.parent().is_some_and(|above| above.iter().any(|n| is_drop_in(&n.to_string_lossy())));
    let asks = touched.sink == Sink::Check && (is_list || installs);
    let makes = !plugs_in && (touched.sink == Sink::MakeDirectory || asks);
    let Location::Inside(path) = &touched.spot else {
        if makes && touched.sure {
            clues.add(outside_target(touched), Tells::Made, 1.0, says.clone(), seen.clone());
        }
        clues.add(outside_target(touched), Tells::Written, weight, says, seen);
        return;
    };
    if is_installers(path) {
        return;
    }
    let is_file = touched.whole == Whole::Known && is_a_file(scene, path, touched.sink);
    if is_file && (is_settings_name(&name) || is_key_name(&name)) {
        let says_secret =
            if is_key_name(&name) { "a key or password file that code makes" } else { "settings that code makes" };
        let writes = !matches!(touched.sink, Sink::Check | Sink::Setting);
        if writes {
            let certain = if installs || is_main(&name) { 1.0 } else { code::SOME_SETTINGS };
            clues.inside(path, Tells::Secret, weight * certain, says_secret, seen.clone());
        } else if touched.sink == Sink::Check && (installs || is_list) && is_settings_name(&name) {
            clues.inside(path, Tells::Secret, counts, "settings that the installer looks for", seen.clone());
        }
        let tells = if installs || writes || is_list { Tells::WrittenByInstaller } else { return };
        clues.inside(path, tells, weight, says, seen);
        return;
    }
    if touched.sink == Sink::Session {
        clues.inside(path, Tells::Scratch, 1.0, "sessions", seen.clone());
    }
    let target = if is_file { path.parent().unwrap_or(Path::new("")).to_owned() } else { path.clone() };
    let target = topmost_missing(scene, target);
    if is_file && (scene.deployed.is_file(path) || target.as_os_str().is_empty()) && touched.sink != Sink::Check {
        // A file among code that is written itself.
        clues.inside(path, Tells::Written, weight * code::BESIDE, says.clone(), seen.clone());
    }
    let weight = if is_file && touched.sink == Sink::Check { weight * code::CHECKED_FILE } else { weight };
    if makes && touched.sure {
        clues.inside(&target, Tells::Made, 1.0, says.clone(), seen.clone());
    }
    clues.inside(&target, Tells::Written, weight, says.clone(), seen.clone());
    if touched.sink == Sink::MakeDirectory && touched.whole == Whole::Known && !scene.deployed.has(&target) {
        // To make a folder, the one above must be writable.
        if let Some(above) = target.parent() {
            clues.inside(
                above,
                Tells::Written,
                weight * code::BESIDE,
                format!("{} is made in it", target.display()),
                seen,
            );
        }
    }
}

/// What is missing is made from its topmost missing folder on.
fn topmost_missing(scene: &Scene<'_>, path: PathBuf) -> PathBuf {
    let mut top = path;
    while !scene.deployed.has(&top)
        && let Some(above) = top.parent().filter(|above| !scene.deployed.has(above))
    {
        top = above.to_owned();
    }
    top
}

/// Whether a path names a file: it is one, or is none yet and looks like one.
fn is_a_file(scene: &Scene<'_>, path: &Path, sink: Sink) -> bool {
    if scene.deployed.has(path) {
        return scene.deployed.is_file(path);
    }
    match sink {
        Sink::MakeDirectory | Sink::Session | Sink::Setting => false,
        Sink::Write => true,
        Sink::Check | Sink::MoveTo | Sink::Open | Sink::Load | Sink::Look | Sink::Named => path.extension().is_some(),
    }
}

fn outside_target(touched: &Touched) -> Location {
    let Location::Outside(path) = &touched.spot else { return touched.spot.clone() };
    let is_file = touched.whole == Whole::Known && (touched.sink == Sink::Write || path.extension().is_some());
    let folder: PathBuf = if is_file { path.parent().unwrap_or(path).to_owned() } else { path.clone() };
    Location::Outside(folder)
}
