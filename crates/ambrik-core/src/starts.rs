//! Where the walks over a site begin: its root, and its parts outside it.

use std::path::{Path, PathBuf};

use crate::entry::Kind;
use crate::shown::Shown;
use crate::site::{Site, is_systems};
use crate::tree::{Host, Resolved, WayError};

/// Why a site cannot be looked at.
#[derive(Debug, thiserror::Error)]
pub enum SiteError {
    /// The root is not there, or cannot be reached.
    #[error("site {site}: root = \"{}\": {cause}; correct root in {}", Shown(.root), Shown(.file))]
    Root {
        /// The site's name.
        site: String,
        /// The root.
        root: PathBuf,
        /// The site file.
        file: PathBuf,
        /// Why.
        cause: WayError,
    },
    /// The root, or a part, is really the operating system's.
    #[error(
        "site {site}: {} is really {}, which is the operating system's own: nothing there is a site's; correct {}",
        Shown(.path), Shown(.real), Shown(.file)
    )]
    Systems {
        /// The site's name.
        site: String,
        /// As the site file names it.
        path: PathBuf,
        /// Where it is, links followed.
        real: PathBuf,
        /// The site file.
        file: PathBuf,
    },
    /// A part lies below a file.
    #[error(
        "{}:{line}: path = \"{part}\" lies below {}, which is a file: nothing can be there; correct the path, or the other part",
        Shown(.file), Shown(.above)
    )]
    BelowFile {
        /// The site file.
        file: PathBuf,
        /// The part's line.
        line: usize,
        /// The part.
        part: String,
        /// The file.
        above: PathBuf,
    },
    /// The root is no directory.
    #[error("site {site}: root = \"{}\" is a {}, not a directory; correct root in {}", Shown(.root), .kind.word(), Shown(.file))]
    RootIsNoDirectory {
        /// The site's name.
        site: String,
        /// The root.
        root: PathBuf,
        /// The site file.
        file: PathBuf,
        /// What it is.
        kind: Kind,
    },
}

/// Follows a site's root to its end, once. Errors where there is none, or it is no directory.
pub fn find_root(host: &Host, site: &Site) -> Result<Resolved, SiteError> {
    let (name, root, file) = (site.name.clone(), site.root.clone(), site.file.clone());
    match host.resolve_safely(&site.root, site.keeper.ids.uid) {
        Ok(resolved) if resolved.facts.kind == Kind::Directory => {
            not_the_systems(site, &site.root, &resolved)?;
            Ok(resolved)
        }
        Ok(resolved) => Err(SiteError::RootIsNoDirectory { site: name, root, file, kind: resolved.facts.kind }),
        Err(cause) => Err(SiteError::Root { site: name, root, file, cause }),
    }
}

/// Refuses what is really the operating system's, whatever links lead there.
pub(crate) fn not_the_systems(site: &Site, path: &Path, found: &Resolved) -> Result<(), SiteError> {
    if !is_systems(&found.path) {
        return Ok(());
    }
    let (site, file, real) = (site.name.clone(), site.file.clone(), found.path.clone());
    Err(SiteError::Systems { site, path: path.to_owned(), real, file })
}

/// The root of a site and its parts outside it, followed to their ends; parts that cannot be reached are left out: an
/// audit tells of them. Errors where there is no root.
pub(crate) fn places(host: &Host, site: &Site) -> Result<Vec<(PathBuf, Resolved)>, SiteError> {
    let outside = site.outside_starts().into_iter().filter_map(|path| {
        let resolved = host.resolve_safely(&path, site.keeper.ids.uid).ok()?;
        not_the_systems(site, &path, &resolved).ok()?;
        Some((path, resolved))
    });
    Ok(std::iter::once((site.root.clone(), find_root(host, site)?)).chain(outside).collect())
}
