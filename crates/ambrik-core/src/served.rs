//! What of a site is really served: the document root of web servers against the site file's, and what is served besides it.

use std::collections::{BTreeMap, VecDeque};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::check::{Guess, guess};
use crate::entry::Kind;
use crate::host::Services;
use crate::nested::Ground;
use crate::policy::{Context, Policy};
use crate::shown::Shown;
use crate::site::{Phase, ServedToo, Serving, Site, Write};
use crate::tree::{Host, WayError, sys};

/// As deep below the document root are links looked for beforehand, and no folder more once so many entries were looked at:
/// an audit sees all links, and looks again where there are more of them.
const DEEPEST: usize = 2;
const MOST_LOOKED_AT: usize = 60;

/// What the host says of what it serves of `site`; what lies in one of `others`, the host's other sites, is theirs to tell.
#[must_use]
pub fn serving(host: &Host, services: &Services, site: &Site, others: &[Ground]) -> Serving {
    let (Some(folder), Ok(root)) = (site.served_folder(), host.resolve(&site.root)) else { return Serving::default() };
    let places = places(host, site);
    let (beside, unseen) = beside(host, services, &root.path, others);
    let nothing = |differs: String| Serving { differs: Some(differs), ..Serving::default() };
    let found = match host.resolve(&folder) {
        Ok(found) if found.facts.kind == Kind::Directory => found,
        Ok(found) => return nothing(format!("{} is a {}, no folder", Shown(&folder), found.facts.kind.word())),
        Err(WayError::Missing(_) | WayError::NoDirectory(_)) => {
            return nothing(format!("{} is not there", Shown(&folder)));
        }
        // What cannot be looked at from here is not said to be missing: the audit tells of it.
        Err(_) => return Serving { beside, unseen, ..Serving::default() },
    };
    let mut too: BTreeMap<PathBuf, String> = BTreeMap::new();
    for served in folders(host, services, &places) {
        let Served { named, real, says, .. } = served;
        if let Some(named) = named.filter(|_| !real.starts_with(&found.path)) {
            too.entry(named).or_insert(says);
        }
    }
    for (link, goal) in links(host, site, &folder, &places) {
        too.entry(goal).or_insert_with(|| through(&link));
    }
    Serving {
        differs: differs(host, services, &places, &found.path),
        too: too.into_iter().map(|(path, because)| ServedToo { path, because }).collect(),
        beside,
        unseen,
    }
}

/// An archive or dump, and what it is.
type Archive = (PathBuf, &'static str);

/// The archives and dumps in the folders around the root that a web server serves, and those of these that cannot be listed.
fn beside(host: &Host, services: &Services, root: &Path, others: &[Ground]) -> (Vec<Archive>, Vec<PathBuf>) {
    let served: Vec<PathBuf> =
        services.configured().map(|folder| host.destination(Path::new("/"), &folder.path)).collect();
    let around = root.ancestors().skip(1).filter(|folder| served.iter().any(|served| folder.starts_with(served)));
    let own = around.filter(|folder| !others.iter().any(|other| other.holds(folder)));
    let (mut found, mut unseen) = (Vec::new(), Vec::new());
    for folder in own {
        let Ok(names) = host.names_in(folder) else {
            unseen.push(folder.to_owned());
            continue;
        };
        for name in names {
            let Some(Guess::Leftover(kind)) = guess(&name, Kind::File).filter(Guess::is_archive_or_dump) else {
                continue;
            };
            let path = folder.join(name);
            if host.resolve_link(&path).is_ok_and(|found| found.facts.kind == Kind::File) {
                found.push((path, kind));
            }
        }
    }
    found.sort();
    (found, unseen)
}

/// The site's root and its parts outside it, as they are named and as they really are; those that are there.
fn places(host: &Host, site: &Site) -> Vec<(PathBuf, PathBuf)> {
    let named = std::iter::once(site.root.clone()).chain(site.outside_starts());
    named.filter_map(|path| Some((path.clone(), host.resolve(&path).ok()?.path))).collect()
}

/// A folder of the site that a web server's configuration names.
struct Served {
    /// By the site's names, where it is not the root itself.
    named: Option<PathBuf>,
    real: PathBuf,
    /// Whether it is a document root, not an alias below one.
    is_root: bool,
    says: String,
}

/// What web servers serve of the site, as their configuration says.
fn folders(host: &Host, services: &Services, places: &[(PathBuf, PathBuf)]) -> Vec<Served> {
    let mut found = Vec::new();
    for folder in services.configured() {
        let real = host.destination(Path::new("/"), &folder.path);
        let inside =
            places.iter().enumerate().find_map(|(n, (named, place))| Some((n, named, real.strip_prefix(place).ok()?)));
        let Some((number, place, below)) = inside else { continue };
        let is_site = number == 0 && below.as_os_str().is_empty();
        let named = place.join(below).components().collect();
        found.push(Served {
            named: (!is_site).then_some(named),
            is_root: folder.url_path.is_empty() || is_site,
            says: format!("{} serves {} ({})", folder.program, Shown(&folder.path), folder.at),
            real,
        });
    }
    found
}

/// How the web servers' configuration says otherwise than that the folder `served` is the document root.
fn differs(host: &Host, services: &Services, places: &[(PathBuf, PathBuf)], served: &Path) -> Option<String> {
    let (_, root) = places.first()?;
    let mut found = folders(host, services, places);
    found.retain(|folder| folder.real.starts_with(root));
    if found.iter().any(|folder| folder.real == served) {
        return None;
    }
    // What lies in a document root around the whole site is served with it, whatever aliases there are besides.
    let mut around = services.configured().map(|folder| host.destination(Path::new("/"), &folder.path));
    let is_around = around.any(|path| root.starts_with(&path) && path != *root);
    let other = found.iter().find(|folder| folder.is_root).or_else(|| found.first().filter(|_| !is_around))?;
    Some(other.says.clone())
}

/// The links in the served folder that lead to what is the site's own and not served: each, and where it leads by the site's
/// names.
fn links(host: &Host, site: &Site, folder: &Path, places: &[(PathBuf, PathBuf)]) -> Vec<(PathBuf, PathBuf)> {
    let policy = Policy::new(Arc::new(site.clone()), Phase::Sealed);
    let Ok(found) = host.resolve(folder) else { return Vec::new() };
    let mut ahead: VecDeque<_> =
        sys::reopen_directory(&found.handle).map(|top| (top, folder.to_owned(), 0)).into_iter().collect();
    let (mut links, mut left) = (Vec::new(), MOST_LOOKED_AT);
    while let Some((dir, path, depth)) = ahead.pop_front() {
        let mut names = sys::names(&dir).unwrap_or_default();
        names.sort();
        let mut no_links = Vec::new();
        for name in names.into_iter().take(left) {
            left -= 1;
            let below = path.join(OsStr::from_bytes(name.to_bytes()));
            if !tells(&policy.at(&below).context) {
                continue;
            }
            match sys::read_link(&dir, &name) {
                Ok(target) => links.push((below, PathBuf::from(OsStr::from_bytes(&target)))),
                // It is no link.
                Err(_) => no_links.push((name, below)),
            }
        }
        if depth < DEEPEST && left > 0 {
            let folders =
                no_links.into_iter().filter_map(|(name, below)| Some((sys::open_directory(&dir, &name).ok()?, below)));
            ahead.extend(folders.map(|(dir, below)| (dir, below, depth + 1)));
        }
    }
    let leads = |(link, target): (PathBuf, PathBuf)| {
        let goal = leads_to(host, &policy, places, &link, &target)?;
        Some((link, goal))
    };
    links.into_iter().filter_map(leads).collect()
}

/// Where a link in the served folder leads, by the site's names, if that is the site's own and not served.
fn leads_to(
    host: &Host,
    policy: &Policy,
    places: &[(PathBuf, PathBuf)],
    link: &Path,
    target: &Path,
) -> Option<PathBuf> {
    let goal = host.destination(link.parent()?, target);
    let named = places.iter().find_map(|(named, real)| Some(named.join(goal.strip_prefix(real).ok()?)))?;
    let named: PathBuf = named.components().collect();
    may_be(policy, &named).then_some(named)
}

/// Whether a link in a place of this context says what is served: the folder is, and PHP may not make links there.
pub(crate) fn tells(context: &Context) -> bool {
    context.is_managed() && context.served && context.write != Write::Always
}

/// Whether a path can be served besides the document root: the site's own, but not the root itself, and not served already.
pub(crate) fn may_be(policy: &Policy, path: &Path) -> bool {
    let context = policy.at(path).context;
    context.is_managed() && !context.served && path != policy.site().root
}

/// How what a link leads to is reached.
pub(crate) fn through(link: &Path) -> String {
    format!("{} leads there", Shown(link))
}
