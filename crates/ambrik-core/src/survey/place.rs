//! Which folder is the application, and which of it is served.

use std::path::{Path, PathBuf};

use super::clue::Seen;
use super::deployed::Deployed;
use super::{Confidence, DraftReason};
use super::{docroot, names, weights};
use crate::entry::Kind;
use crate::host::Services;
use crate::tree::Host;

/// Where the application lies, where it is not the folder that was named: behind the link to the release that is served, or in the
/// one folder that an archive laid down, and why.
pub(super) fn application(host: &Host, services: &Services, root: &Path) -> Option<(PathBuf, String)> {
    const DEEPEST: usize = 3;
    // What a server serves is the application, whatever it looks like.
    if services.served_in(host, root).is_some_and(|(below, _)| below.as_os_str().is_empty()) {
        return None;
    }
    let kind = |path: &Path| host.resolve(path).ok().map(|found| found.facts.kind);
    let is_link = |path: &Path| host.resolve_link(path).is_ok_and(|found| found.facts.kind == Kind::Symlink);
    let mut dir = root.to_owned();
    let mut why = None;
    for _ in 0..DEEPEST {
        let names = host.names_in(&dir).ok()?;
        let seen = names.iter().filter(|name| !name.to_string_lossy().starts_with('.'));
        let inside: Vec<PathBuf> = seen.map(|name| dir.join(name)).collect();
        let current = dir.join("current");
        let releases =
            ["releases", "versions", "shared"].iter().any(|name| kind(&dir.join(name)) == Some(Kind::Directory));
        if releases && is_link(&current) && kind(&current) == Some(Kind::Directory) {
            return Some((current, "the release that is served: the folder around it holds all of them".into()));
        }
        let folders: Vec<&PathBuf> = inside.iter().filter(|path| kind(path) == Some(Kind::Directory)).collect();
        let papers = |path: &PathBuf| {
            let name = names::lower_name(path);
            names::ends_in(&name, &[".txt", ".md", ".html", ".pdf"]) || matches!(&*name, "license" | "readme")
        };
        let others = inside.iter().filter(|path| kind(path) != Some(Kind::Directory)).any(|path| !papers(path));
        let [only] = folders.as_slice() else { break };
        // A folder that is served is a part of an application, and not the application.
        if others || names::is_public(&names::lower_name(only)) {
            break;
        }
        dir.clone_from(only);
        let code = host.names_in(&dir).ok()?.iter().any(|name| crate::check::is_php_name(Path::new(name)));
        if code {
            why =
                Some((dir.clone(), "the application lies in this folder, alone in the one that was named".to_owned()));
            break;
        }
    }
    why
}

/// The document root: what a running server serves wins over what the tree looks like.
pub(super) fn served(
    host: &Host,
    deployed: &Deployed,
    services: &Services,
    texts: &[(PathBuf, String)],
) -> (PathBuf, Vec<DraftReason>, Confidence) {
    if let Some((path, place)) = services.served_in(host, &deployed.root) {
        let seen = Seen::at(&place.file, place.line);
        let because = vec![DraftReason { says: "served by a web server here".into(), seen }];
        return (path, because, Confidence::High);
    }
    let candidates = docroot::candidates(deployed, texts);
    let margin = match candidates.as_slice() {
        [first, second, ..] => first.weight - second.weight,
        _ => weights::docroot::MUCH,
    };
    let Some(best) = candidates.into_iter().next() else { return (PathBuf::new(), Vec::new(), Confidence::Low) };
    let confidence = if margin >= weights::docroot::SURE && best.weight >= weights::docroot::MUCH {
        Confidence::High
    } else if margin >= weights::docroot::LIKELY {
        Confidence::Medium
    } else {
        Confidence::Low
    };
    let because = best.because.into_iter().map(|(says, seen)| DraftReason { says, seen }).collect();
    (best.path, because, confidence)
}
