//! What changed while a site was open: what was there is recorded before PHP gets to write, and compared before anything is
//! sealed. Times of birth alone would miss what was moved in, and what was overwritten in place.

use std::collections::{BTreeMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;

use super::ledger::{HowChanged, Known, Ledger, LedgerError};
use crate::entry::{Kind, Nanos};
use crate::policy::{Policy, Right};
use crate::site::{Phase, Site, Use, Write};
use crate::site_walk::{SiteSpot, SiteVisitor, walk_site};
use crate::starts::SiteError;
use crate::tree::{Host, Progress};

/// A path that is not what it was when the site was opened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Changed {
    /// Relative to the root, or absolute outside it.
    pub path: PathBuf,
    /// How.
    pub how: HowChanged,
    /// What makes it worth a look, the worst first: a program, PHP, or neither.
    pub kind: &'static str,
    /// Whether it is what the window was for: settings, or what `open` made.
    pub expected: bool,
}

impl Changed {
    /// Whether it is code that nobody has answered for.
    #[must_use]
    pub fn is_unproven(&self) -> bool {
        !self.expected && self.how != HowChanged::Gone
    }
}

/// A file as a walk finds it.
struct WindowFile {
    known: Known,
    changed: Nanos,
    kind: &'static str,
    settings: bool,
}

/// What is there now of everything that a window makes writable, and of all code beside it, by the site's paths.
pub(super) fn state(host: &Host, site: &Arc<Site>, progress: &Progress) -> Result<BTreeMap<PathBuf, Known>, SiteError> {
    Ok(look(host, site, progress)?.into_iter().map(|(path, found)| (path, found.known)).collect())
}

/// What changed since the site was opened, the gravest first; nothing where what was there then is not on record.
pub fn changed_in_window(
    host: &Host,
    site: &Arc<Site>,
    ledger: &Ledger,
    progress: &Progress,
) -> Result<Option<Vec<Changed>>, WindowError> {
    let Some((opened, made)) = ledger.opened(&site.name)? else { return Ok(None) };
    let Some(before) = ledger.window_state(&site.name)? else { return Ok(None) };
    let now = look(host, site, progress)?;
    let (begun, settled) = (nanos(opened), ledger.settled_at(&site.name)?.map_or(Nanos::MAX, nanos));
    let ids: HashSet<(u64, Nanos)> = before.values().map(|known| (known.id.ino, known.id.born)).collect();
    let how = |path: &PathBuf, found: &WindowFile| match before.get(path) {
        Some(then) if found.known.id.is_still(&then.id) => {
            let same = (found.known.size, found.known.modified) == (then.size, then.modified)
                && found.known.sum == then.sum
                // Nobody can set a change time. What PHP may write has a checksum instead.
                && (then.sum.is_some() || found.changed <= settled);
            (!same).then_some(HowChanged::Changed)
        }
        Some(_) => Some(HowChanged::Replaced),
        None if ids.contains(&(found.known.id.ino, found.known.id.born)) => Some(HowChanged::MovedIn),
        None if found.known.id.born == 0 || found.known.id.born >= begun => Some(HowChanged::Added),
        None => Some(HowChanged::MovedIn),
    };
    let mut changed: Vec<Changed> = Vec::new();
    for (path, found) in &now {
        let Some(how) = how(path, found) else { continue };
        let expected = found.settings || made.contains(path);
        changed.push(Changed { path: site.relative(path), how, kind: found.kind, expected });
    }
    for path in before.keys().filter(|path| !now.contains_key(*path)) {
        let kind = if crate::check::is_php_name(path) { "PHP" } else { "file" };
        changed.push(Changed { path: site.relative(path), how: HowChanged::Gone, kind, expected: false });
    }
    changed.sort_by_cached_key(|one| (one.expected, one.how == HowChanged::Gone, rank(one.kind), one.path.clone()));
    Ok(Some(changed))
}

/// Why it cannot be told what changed.
#[derive(Debug, thiserror::Error)]
pub enum WindowError {
    /// The ledger cannot be read.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The site cannot be looked at.
    #[error(transparent)]
    Audit(#[from] SiteError),
}

fn nanos(time: Timestamp) -> Nanos {
    Nanos::try_from(time.as_nanosecond()).unwrap_or(Nanos::MAX)
}

/// Programs, then PHP, then the rest.
fn rank(kind: &str) -> usize {
    ["program", "PHP"].iter().position(|known| *known == kind).unwrap_or(2)
}

fn look(host: &Host, site: &Arc<Site>, progress: &Progress) -> Result<BTreeMap<PathBuf, WindowFile>, SiteError> {
    let policy = Policy::new(Arc::clone(site), Phase::Open);
    let seekers = walk_site(host, site, &policy, vec![WindowSeeker::default()], progress)?;
    Ok(seekers.into_iter().flat_map(|seeker| seeker.found).collect())
}

#[derive(Default)]
struct WindowSeeker {
    found: BTreeMap<PathBuf, WindowFile>,
}

impl SiteVisitor for WindowSeeker {
    fn path(&mut self, spot: &SiteSpot<'_>) {
        let (context, look, facts) = (&spot.cursor.context, spot.look, spot.facts);
        // What PHP always writes is its own; installers go.
        let watched = context.write != Write::Always && !context.used_as.goes();
        if facts.kind == Kind::Directory || !context.is_managed() || !watched {
            return;
        }
        let name = Path::new(look.os_name());
        let kind = match (facts.kind == Kind::File && facts.rights.mode.has(0o111), crate::check::is_php_name(name)) {
            (true, _) => "program",
            (false, true) => "PHP",
            (false, false) => "file",
        };
        let sum = (context.row.php == Right::Write && facts.kind == Kind::File).then(|| look.checksum(facts.id).ok());
        let modified = look.modified().unwrap_or(0);
        let known = Known { id: facts.id, size: facts.size, modified, sum: sum.flatten() };
        let settings = context.used_as == Use::Secret && context.write == Write::Install;
        self.found.insert(spot.path(), WindowFile { known, changed: facts.changed, kind, settings });
    }
}
