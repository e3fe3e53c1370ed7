//! What is kept outside the tree: settings that are linked or loaded, and folders that its code or settings name and that are
//! PHP's already.

use std::collections::BTreeMap;
use std::path::Path;

use super::Scene;
use super::samples::{real_name, sample_beside};
use crate::access::permits;
use crate::check::is_php_name;
use crate::credentials::credentials;
use crate::entry::{Kind, Rights};
use crate::mode::Perm;
use crate::shown::Shown;
use crate::survey::clue::{Clues, Seen, Tells};
use crate::survey::names::{application_names, is_settings_name, lower_name};
use crate::survey::php::{Location, Sink, Touched, Whole};
use crate::survey::weights::outside;

/// What this kind of evidence is called.
pub(crate) const OWNER_AND_NAME: &str = "owner and name";

pub(super) fn gather(scene: &Scene<'_>, clues: &mut Clues) {
    settings(scene, clues);
    clues.of_kind("named in code");
    missing_settings(scene, clues);
    clues.of_kind(OWNER_AND_NAME);
    named_and_phps(scene, clues);
    called_so_and_phps(scene, clues);
}

/// Settings outside the tree are secret where they hold credentials.
fn settings(scene: &Scene<'_>, clues: &mut Clues) {
    for linked in scene.linked {
        let name = lower_name(&linked.path);
        let given = linked.path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        if real_name(&given).is_some() {
            continue;
        }
        let Some(line) = credentials(&linked.text, is_php_name(&linked.path), false) else { continue };
        // Of all that lies in a folder of settings that is secret which is called so, or which PHP may read and others may not.
        if linked.by_folder && !is_settings_name(&name) && !is_for_php(scene, &linked.path) {
            continue;
        }
        let weight = if is_settings_name(&name) { outside::SETTINGS } else { outside::CREDENTIALS };
        let spot = Location::Outside(linked.path.clone());
        clues.add(
            spot.clone(),
            Tells::Secret,
            weight,
            "settings with credentials or keys",
            Seen::at(&linked.path, line),
        );
        clues.add(spot, Tells::Secret, outside::LOADED, "linked or loaded by the code", linked.seen.clone());
    }
}

/// Whether a file can be read by PHP, and not by everybody.
fn is_for_php(scene: &Scene<'_>, path: &Path) -> bool {
    let (Some(php), Ok(found)) = (scene.php_ids, scene.host.resolve(path)) else { return false };
    let rights = &found.facts.rights;
    permits(php, Kind::File, rights, Perm::R) && !rights.mode.has(0o004)
}

/// Settings that the code names, that are not there yet, and whose sample lies where they will be.
fn missing_settings(scene: &Scene<'_>, clues: &mut Clues) {
    for touched in scene.named.iter().chain(scene.touched.iter().filter(|touched| touched.sink == Sink::Load)) {
        let Location::Outside(path) = &touched.spot else { continue };
        if touched.whole != Whole::Known || !is_settings_name(&lower_name(path)) || scene.host.resolve(path).is_ok() {
            continue;
        }
        if let Some(sample) = sample_beside(scene.host, path) {
            let seen = Seen::at(&touched.file, touched.line);
            let says = format!("named by the code, and made from {}", Shown(&sample));
            clues.add(touched.spot.clone(), Tells::Secret, outside::SETTINGS, says, seen);
        }
    }
}

/// Folders that code or settings name, and that PHP owns or may write through its group.
fn named_and_phps(scene: &Scene<'_>, clues: &mut Clues) {
    let mut seen: BTreeMap<&Location, &Touched> = BTreeMap::new();
    for touched in scene.named.iter().chain(scene.touched) {
        if matches!(&touched.spot, Location::Outside(path) if is_of_one_application(path)) {
            seen.entry(&touched.spot).or_insert(touched);
        }
    }
    for (spot, touched) in seen {
        let Some(how) = is_phps(scene, spot) else { continue };
        let says = format!("{how}, and the code names it");
        clues.add(spot.clone(), Tells::Written, outside::NAMED_AND_PHPS, says, Seen::at(&touched.file, touched.line));
    }
}

/// Folders for state that are called as the application is, or lie in one that is, and that are PHP's.
fn called_so_and_phps(scene: &Scene<'_>, clues: &mut Clues) {
    for name in application_names(&scene.deployed.root) {
        for top in ["/var/lib", "/var/cache", "/var/log", "/var/spool"] {
            let dir = Path::new(top).join(&name);
            let inside = scene.host.names_in(&dir).unwrap_or_default();
            for path in std::iter::once(dir.clone()).chain(inside.into_iter().map(|name| dir.join(name))) {
                let own = scene.deployed.root.starts_with(&path) || path.starts_with(&scene.deployed.root);
                let spot = Location::Outside(path.clone());
                if let Some(how) = is_phps(scene, &spot).filter(|_| !own && is_of_one_application(&path)) {
                    let says = format!("{how}, and is called as the application is");
                    clues.add(spot, Tells::Written, outside::CALLED_SO_AND_PHPS, says, Seen::at(&path, 0));
                }
            }
        }
    }
}

/// How a folder is PHP's: nothing where it is not, or is open to every account.
fn is_phps(scene: &Scene<'_>, spot: &Location) -> Option<&'static str> {
    let php = scene.php_ids?;
    let rights: Rights = match spot {
        Location::Outside(path) => {
            let resolved = scene.host.resolve(path).ok().filter(|resolved| resolved.facts.kind == Kind::Directory)?;
            resolved.facts.rights
        }
        Location::Inside(_) => return None,
    };
    let writes = permits(php, Kind::Directory, &rights, Perm::W);
    match (rights.uid == php.uid, writes && !rights.mode.has(0o002)) {
        (true, true) => Some("it belongs to php"),
        (false, true) => Some("php may write there"),
        _ => None,
    }
}

/// Whether a folder is of one application: deep enough, and not one that servers and PHP itself share.
pub(crate) fn is_of_one_application(path: &Path) -> bool {
    let shared = [
        "/tmp",
        "/var/tmp",
        "/dev",
        "/proc",
        "/sys",
        "/run/php",
        "/var/lib/php",
        "/var/lib/apache2",
        "/var/lib/nginx",
        "/var/log/apache2",
        "/var/log/nginx",
        "/var/log/httpd",
        "/var/log/php",
        "/var/cache/apache2",
    ];
    path.components().count() > 3 && !shared.iter().any(|shared| path.starts_with(shared))
}
