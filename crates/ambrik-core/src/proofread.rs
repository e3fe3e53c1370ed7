//! What is doubtful of site files, outlines and the host file, though they can be read: held against what is on the host.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::civil::Date;

use crate::host::Services;
use crate::nested::Ground;
use crate::policy::Policy;
use crate::shown::Shown;
use crate::site::{Part, Phase, Site};
use crate::site_walk::{SiteSpot, SiteVisitor, walk_site};
use crate::starts::find_root;
use crate::tree::{Host, Progress, WayError};

/// Something to be looked at.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Remark {
    /// The file that it is about; where no file is, the folder.
    pub file: PathBuf,
    /// Its line, from 1, where it is one.
    pub line: Option<usize>,
    /// Whether nothing can be done as long as it is so; else it may be meant.
    pub is_wrong: bool,
    /// What it is.
    pub says: String,
    /// What to do.
    pub right: String,
}

/// What is wrong or doubtful of a site: its root, parts that match nothing, exceptions that are over, whether it is served.
#[must_use]
pub fn of_site(host: &Host, services: &Services, site: &Arc<Site>, today: Date, threads: usize) -> Vec<Remark> {
    let remark = |is_wrong, says: String, right: &str| Remark {
        file: site.file.clone(),
        line: None,
        is_wrong,
        says,
        right: right.to_owned(),
    };
    if let Err(error) = find_root(host, site) {
        return vec![remark(true, error.to_string(), "correct root, or take the site file away")];
    }
    let mut found = Vec::new();
    if let Some(differs) = &site.serving.differs {
        let right = "correct served, or the web server's configuration: nothing is changed until they agree";
        found.push(remark(true, format!("served is not what the web server serves: {differs}"), right));
    } else if services.configured().next().is_some() && !is_served(host, services, site) {
        let right = "write served = the folder that is, or take the site file away where the site is gone";
        found.push(remark(false, "no web server of this host serves it".to_owned(), right));
    }
    let (unmatched, is_whole) = unmatched(host, site, threads);
    if !is_whole {
        let says =
            format!("not all of site {} can be looked at: which of its parts match something is not known", site.name);
        found.push(remark(false, says, "run it as root; an audit names what cannot be looked at"));
    }
    for part in unmatched {
        let of_part = |says: String, right: &str| Remark {
            file: part.file.clone(),
            line: Some(part.line),
            is_wrong: false,
            says,
            right: right.to_owned(),
        };
        let says = format!("part {} matches nothing of site {}", part.shown, site.name);
        found.push(of_part(says, "correct its path, or take the part out; create = true makes it where it is missing"));
    }
    for accept in site.accepts.iter().filter(|accept| !accept.holds_on(today)) {
        let until = accept.until.map(|day| day.to_string()).unwrap_or_default();
        let says = format!("the exception for {} ended on {until}: its finding counts again", accept.check);
        found.push(remark(false, says, "take it out, or give it another end"));
    }
    found
}

/// Whether a web server's configuration names a folder around the site's served folder, or in the site.
fn is_served(host: &Host, services: &Services, site: &Site) -> bool {
    let real = |path: &Path| host.destination(Path::new("/"), path);
    let folder = real(&site.served_folder().unwrap_or_else(|| site.root.clone()));
    let root = real(&site.root);
    services
        .configured()
        .map(|served| real(&served.path))
        .any(|path| folder.starts_with(&path) || path.starts_with(&root))
}

/// The parts that match nothing, but for those that are to be gone, are made, or are another site's; and whether that is known of
/// those with wildcards.
fn unmatched<'s>(host: &Host, site: &'s Arc<Site>, threads: usize) -> (Vec<&'s Part>, bool) {
    let expected = |part: &Part| !part.used_as.goes() && !part.create && part.from.is_none() && part.other.is_none();
    let of_one_path = |part: &Part| part.pattern.as_path().map(|path| Path::new("/").join(path));
    let Matching { parts: matched, is_partial } =
        if site.parts.iter().any(|part| expected(part) && of_one_path(part).is_none()) {
            matched(host, site, threads)
        } else {
            Matching::default()
        };
    let is_there = |number: usize, part: &Part| match of_one_path(part) {
        Some(path) => !matches!(host.resolve_link(&path), Err(WayError::Missing(_) | WayError::NoDirectory(_))),
        None => is_partial || matched.contains(&number),
    };
    let parts = site.parts.iter().enumerate();
    let unmatched = parts.filter(|(number, part)| expected(part) && !is_there(*number, part));
    (unmatched.map(|(_, part)| part).collect(), !is_partial)
}

/// The parts that the paths of a site belong to.
#[derive(Clone, Default)]
struct Matching {
    /// Their numbers.
    parts: BTreeSet<usize>,
    /// Whether not all paths could be looked at.
    is_partial: bool,
}

impl SiteVisitor for Matching {
    fn path(&mut self, spot: &SiteSpot<'_>) {
        self.parts.extend(spot.cursor.context.part);
    }

    fn unseen(&mut self) {
        self.is_partial = true;
    }
}

/// The parts that a walk through the site finds paths of.
fn matched(host: &Host, site: &Arc<Site>, threads: usize) -> Matching {
    let policy = Policy::new(Arc::clone(site), Phase::Sealed);
    let visitors = vec![Matching::default(); threads.max(1)];
    // Where there is no root, that was said before.
    let walked = walk_site(host, site, &policy, visitors, &Progress::default()).unwrap_or_default();
    walked.into_iter().fold(Matching::default(), |mut all, one| {
        all.parts.extend(one.parts);
        all.is_partial |= one.is_partial;
        all
    })
}

/// The folders that web servers serve, that are there, and that no site file describes: neither they themselves nor what is around
/// or in them.
#[must_use]
pub fn undescribed(host: &Host, services: &Services, grounds: &[Ground]) -> Vec<Remark> {
    let mut found = BTreeSet::new();
    for served in services.configured().filter(|served| served.url_path.is_empty()) {
        let real = host.destination(Path::new("/"), &served.path);
        let described = |ground: &Ground| ground.holds(&real) || ground.inside(host, &real).is_some();
        if host.resolve(&real).is_err() || grounds.iter().any(described) {
            continue;
        }
        found.insert(Remark {
            file: served.path.clone(),
            line: None,
            is_wrong: false,
            says: format!("{} serves it ({}), and no site file describes it", served.program, served.at),
            right: format!("ambrik survey {} --save drafts one", crate::shown::shell_path(&served.path)),
        });
    }
    found.into_iter().collect()
}

/// An outline that no site goes by.
#[must_use]
pub fn unused(outline: &Path) -> Remark {
    Remark {
        file: outline.to_owned(),
        line: None,
        is_wrong: false,
        says: format!("no site goes by the outline {}", Shown(Path::new(outline.file_stem().unwrap_or_default()))),
        right: "take it away, or name it in a site file: outline = \"…\" in [site]".to_owned(),
    }
}
