//! Moves a part to another place: its data, the way there, the site file, and, where that is asked for, a symlink in its
//! old place. Each step sees for itself whether it was done already, so that a stopped move can be finished or taken back.

mod carry;

mod passage;
mod relocate;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::keepsake::Inventory;
use super::ledger::{ChangeCommand, ChangeSet, Ledger, MovingRow};
use super::plan::Creation;
use super::{ChangeContext, ChangeError, Outcome, PlaceError, end};
use crate::account::Accounts;
use crate::audit::{missing_above, open_way};
use crate::entry::Kind;
use crate::host::{OpenFiles, open_below};
use crate::policy::Policy;
use crate::shown::Shown;
use crate::signals;
use crate::site::{self, EditError, Phase, Site, Use, Write, absolute_components, is_systems};
use crate::tree::{Host, WayError, sys};
use crate::want::Solver;

use carry::make_move;
pub(super) use carry::move_back;
pub use passage::PassageGrant;
use relocate::Endpoint;

/// A move that was asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MoveAsked {
    /// The part, as an index into the site's parts.
    pub part: usize,
    /// Where it is.
    pub from: PathBuf,
    /// Where it is to be.
    pub to: PathBuf,
    /// The site file's text now.
    pub text_before: String,
    /// The site file's text afterwards.
    pub text_after: String,
    /// Whether the site file says so already: a run was stopped at its very end.
    pub written: bool,
}

/// What moving a part would do.
#[derive(Debug)]
pub struct MovePlan {
    /// The site as it is now.
    pub site: Arc<Site>,
    /// What was asked for.
    pub asked: MoveAsked,
    /// The phase that the site is in.
    pub phase: Phase,
    /// Whether what moves is a directory or a file.
    pub kind: Kind,
    /// How many paths move; none where they are there already.
    pub paths: usize,
    /// How many bytes are in them.
    pub bytes: u64,
    /// Whether the new place is on another file system: then they are copied, compared, and removed here.
    pub across: bool,
    /// The missing directories that lead there.
    pub creations: Vec<Creation>,
    /// The directories there that php cannot pass yet.
    pub passages: Vec<PassageGrant>,
    /// Whether a symlink is left in the old place.
    pub link: bool,
    /// Who has files open there.
    pub open: OpenFiles,
    /// How far a run that was stopped came.
    state: MoveState,
}

/// Why a part cannot be moved.
#[derive(Debug, thiserror::Error)]
pub enum MoveError {
    /// No part is called so.
    #[error("{site}: no part is called {asked}; its parts are: {known}")]
    NoPart {
        /// The site.
        site: String,
        /// What was asked for.
        asked: String,
        /// The parts.
        known: String,
    },
    /// The part cannot be moved.
    #[error("{}: part {part}: {why}", .site)]
    Part {
        /// The site.
        site: String,
        /// The part.
        part: String,
        /// Why.
        why: String,
    },
    /// The new place cannot be used.
    #[error("{}: {why}", Shown(.to))]
    Place {
        /// The new place.
        to: PathBuf,
        /// Why.
        why: String,
    },
    /// The site file cannot be changed.
    #[error(transparent)]
    Edit(#[from] EditError),
    /// The site has no root.
    #[error(transparent)]
    Root(#[from] crate::starts::SiteError),
}

/// How far a move is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum MoveState {
    /// Everything is in the old place.
    Old,
    /// Everything is in the new one, and something is left in the old one.
    Both,
    /// Everything is in the new place.
    New,
}

/// A move that was stopped in the middle, or done in part.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stopped {
    /// The part as it was named.
    pub part: String,
    /// Where it was.
    pub from: PathBuf,
    /// Where it was to be.
    pub to: PathBuf,
}

impl Ledger {
    /// The move of a site that was stopped in the middle, or done in part, where that was the last thing that was done to
    /// it.
    pub fn stopped_move(&self, site: &str) -> Result<Option<Stopped>, super::LedgerError> {
        let sets = self.change_sets()?;
        let last = sets.iter().find(|set| set.site == site);
        let unfinished =
            |set: &&ChangeSet| set.command == ChangeCommand::Move && (set.ended.is_none() || set.failed > 0);
        let Some(last) = last.filter(unfinished).filter(|set| set.undone_by.is_none()) else { return Ok(None) };
        let row = self.movings(last.id)?.into_iter().next();
        Ok(row.map(|MovingRow { part, from, to, .. }| Stopped { part, from, to }))
    }
}

/// What a request means: which part, from where, to where, and what the site file says then. `text` is the site file's.
pub fn asked(
    site: &Site,
    part: &str,
    new_path: &Path,
    text: String,
    stopped: Option<&Stopped>,
) -> Result<MoveAsked, MoveError> {
    let to: PathBuf = site.root.join(new_path).components().collect();
    let unusable = |why: &str| MoveError::Place { to: to.clone(), why: why.into() };
    if absolute_components(&to).is_none() {
        return Err(unusable("the new path leads upwards with \"..\": write it without"));
    }
    let place_of = |number: usize| crate::audit::part_path(site, number);
    let whole: PathBuf = site.root.join(part).components().collect();
    let named = (0..site.parts.len()).find(|&n| site.parts[n].shown == part || place_of(n).as_ref() == Some(&whole));
    let Some(number) = named else {
        // The site file was changed last: nothing but the end of the record is missing.
        let finished = stopped.filter(|stopped| stopped.part == part && stopped.to == to);
        let there = finished.zip((0..site.parts.len()).find(|&n| place_of(n).as_ref() == Some(&to)));
        let Some((stopped, part)) = there else {
            let known: Vec<&str> = site.parts.iter().map(|part| part.shown.as_str()).collect();
            let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            return Err(MoveError::NoPart { site: site.name.clone(), asked: part.to_owned(), known });
        };
        let from = stopped.from.clone();
        let text_before = site::with_moved(&text, &site.file, &site.root, &to, &from)?;
        return Ok(MoveAsked { part, from, to, text_before, text_after: text, written: true });
    };
    let of = &site.parts[number];
    let refuse = |why: &str| Err(MoveError::Part { site: site.name.clone(), part: part.to_owned(), why: why.into() });
    let Some(from) = place_of(number) else {
        return refuse("it has wildcards: give each folder that it names a part of its own, and move these");
    };
    let movable = of.write != Write::Never || matches!(of.used_as, Use::Secret | Use::Hidden);
    if !movable || of.used_as.goes() || of.used_as == Use::Foreign {
        return refuse(
            "only what PHP writes to, and what is kept from others, is moved: store, scratch, log, secret, hidden",
        );
    }
    if of.file != site.file {
        return refuse("it stands in the outline, which holds for other sites too: write it into the site file first");
    }
    if !of.deep {
        return refuse("the part is the directory alone (deep = false), and what is in it belongs to other parts");
    }
    if to.starts_with(&from) {
        return Err(unusable("this is the part itself, or inside it: name a place outside"));
    }
    if let Some(served) = &site.served
        && to.starts_with(site.root.join(served.text()))
    {
        return Err(unusable("this is in the folder that the web server serves: name a place outside of it"));
    }
    let text_after = site::with_moved(&text, &site.file, &site.root, &from, &to)?;
    Ok(MoveAsked { part: number, from, to, text_before: text, text_after, written: false })
}

/// What a move is looked at with.
#[derive(Debug)]
pub struct MoveSetting<'a> {
    /// The host.
    pub host: &'a Host,
    /// Its accounts.
    pub accounts: &'a Accounts,
    /// The host's other sites.
    pub neighbours: &'a [Arc<Site>],
    /// The phase that the site is in.
    pub phase: Phase,
    /// Whether a symlink is left behind.
    pub link: bool,
    /// Whether an earlier run of the same move was stopped.
    pub stopped: bool,
}

/// What the move would do; `after` is the site as its file says then.
pub fn plan_move(
    setting: &MoveSetting<'_>,
    site: &Arc<Site>,
    after: &Arc<Site>,
    asked: MoveAsked,
) -> Result<MovePlan, MoveError> {
    let host = setting.host;
    let part = &site.parts[asked.part];
    let refused = |why: String| MoveError::Part { site: site.name.clone(), part: part.shown.clone(), why };
    let unusable = |why: String| MoveError::Place { to: asked.to.clone(), why };
    if let Some(way) =
        open_way(host, site, setting.accounts, setting.neighbours)?.filter(|_| rustix::process::geteuid().is_root())
    {
        let error = PlaceError::OpenWay { start: site.root.clone(), way };
        return Err(refused(error.to_string()));
    }
    let keeper = site.keeper.ids.uid;
    let at = |path: &Path| match Endpoint::find(host, path, keeper) {
        Ok(place) => place.look().map(|facts| facts.map(|facts| (place, facts))).map_err(|failure| failure.to_string()),
        Err(WayError::Missing(_)) => Ok(None),
        Err(error) => Err(error.to_string()),
    };
    let here = at(&asked.from).map_err(refused)?;
    let there = at(&asked.to).map_err(unusable)?;
    for path in [&asked.from, &asked.to] {
        let real = host.destination(path.parent().unwrap_or(path), Path::new(path.file_name().unwrap_or_default()));
        if is_systems(&real) {
            return Err(unusable(format!("this is really {}, which is the operating system's own", Shown(&real))));
        }
    }
    let is_link = |facts: &crate::entry::Facts| facts.kind == Kind::Symlink;
    let ours = here.as_ref().is_some_and(|(place, facts)| is_link(facts) && links_to(place, &asked.to));
    let (state, old) = match (here, there, setting.stopped) {
        (Some((_, facts)), _, _) if is_link(&facts) && !ours => {
            return Err(refused("a symlink is in its place: move what it leads to by hand, and name that".into()));
        }
        (Some((place, facts)), None, _) if !ours => (MoveState::Old, Some((place, facts))),
        (Some((place, facts)), Some(_), true) if !ours => (MoveState::Both, Some((place, facts))),
        (_, Some(_), true) => (MoveState::New, None),
        (_, Some(_), false) => {
            return Err(unusable("something is there already: name a path that is not there yet".into()));
        }
        (_, None, _) => return Err(refused(format!("{} is not there", Shown(&asked.from)))),
    };
    if let Some(other) = setting.neighbours.iter().find(|other| other.name != site.name && holds(other, &asked.to)) {
        return Err(unusable(format!("this is in site {}: name another place", other.name)));
    }
    let packed = match &old {
        Some((place, _)) => place.list().map_err(|(path, failure)| refused(format!("{}: {failure}", Shown(&path))))?,
        None => Inventory::default(),
    };
    if !asked.written {
        same_parts(site, after, &asked, &packed).map_err(refused)?;
    }
    let passages = passage::passages(host, site, &asked.to).map_err(unusable)?;
    let across = old.as_ref().is_some_and(|(_, facts)| nearest(host, &asked.to).is_some_and(|m| m != facts.mount));
    if let Some((path, failure)) = relocate::second_names(&packed).filter(|_| across) {
        return Err(refused(format!("{}: {failure}", Shown(&path))));
    }
    let policy = Policy::new(Arc::clone(after), setting.phase);
    let solver = Solver::new(after, setting.accounts);
    let creations = missing_above(host, &policy, &solver, &asked.to).into_iter().map(|made| {
        let (path, kind, part, rights) = (made.path, made.kind, made.part, made.rights);
        Creation { path, kind, part, rights, from: None, content: Vec::new() }
    });
    let open = old.as_ref().map_or_else(OpenFiles::default, |(place, _)| open_below(host, &place.path));
    Ok(MovePlan {
        site: Arc::clone(site),
        phase: setting.phase,
        kind: old.as_ref().map_or(Kind::Directory, |(_, facts)| facts.kind),
        paths: packed.len(),
        bytes: packed.iter().filter(|item| item.kind == Kind::File).map(|item| item.size).sum(),
        across,
        creations: creations.collect(),
        passages,
        link: setting.link,
        open,
        state,
        asked,
    })
}

/// The mount that the nearest directory above a path is on.
fn nearest(host: &Host, path: &Path) -> Option<u64> {
    path.ancestors().skip(1).find_map(|above| host.resolve(above).ok()).map(|resolved| resolved.facts.mount)
}

/// Whether a path is another site's.
fn holds(other: &Arc<Site>, path: &Path) -> bool {
    Policy::new(Arc::clone(other), Phase::Sealed).at(path).context.is_managed()
}

/// Each path must be of the same part in its new place: a part with wildcards can name it in one and not in the other.
fn same_parts(site: &Arc<Site>, after: &Arc<Site>, asked: &MoveAsked, packed: &Inventory) -> Result<(), String> {
    if packed.len() == 0 {
        return Ok(());
    }
    let top = packed.path(0);
    let (before, then) = (Policy::new(Arc::clone(site), Phase::Sealed), Policy::new(Arc::clone(after), Phase::Sealed));
    for path in (0..packed.len()).map(|number| packed.path(number)) {
        let below = path.strip_prefix(&top).unwrap_or(&path);
        let [old, new] =
            [(&before, &asked.from), (&then, &asked.to)].map(|(policy, base)| policy.at(&base.join(below)));
        let (old, new) = (old.context.part, new.context.part);
        if old != new {
            let (old, new) = (before.part_shown(old), then.part_shown(new));
            return Err(format!(
                "{} is of part {old} here and would be of part {new} there: name what moves without wildcards first",
                Shown(below)
            ));
        }
    }
    Ok(())
}

/// Whether what is at a place is a symlink to `to`.
fn links_to(place: &Endpoint, to: &Path) -> bool {
    use std::os::unix::ffi::OsStrExt as _;
    sys::read_link(&place.dir, &place.name).is_ok_and(|target| target == to.as_os_str().as_bytes())
}

/// Moves a part.
///
/// Errors where nothing, or nothing more, can be changed; what failed on single paths is in the outcome.
pub fn move_part(plan: &MovePlan, ledger: &mut Ledger, means: &ChangeContext<'_>) -> Result<Outcome, ChangeError> {
    let _held = signals::hold();
    let mut entry = ledger.begin(&plan.site.name, ChangeCommand::Move, (plan.phase, plan.phase), None)?;
    let made = make_move(plan, &mut entry, means);
    end(entry, made, |_| None)
}

impl MovePlan {
    /// The part's name in the site file, and what it is for.
    #[must_use]
    pub fn part(&self) -> (&str, Use) {
        let part = &self.site.parts[self.asked.part];
        (&part.shown, part.used_as)
    }

    /// The site file's name for the new place.
    #[must_use]
    pub fn new_name(&self) -> &Path {
        self.asked.to.strip_prefix(&self.site.root).unwrap_or(&self.asked.to)
    }

    /// Whether the web server serves its files now, and will not in the new place.
    #[must_use]
    pub fn was_served(&self) -> bool {
        let part = |path: &Path| Policy::new(Arc::clone(&self.site), Phase::Sealed).at(path).context;
        part(&self.asked.from).row.web > crate::policy::Right::None
    }

    /// Whether the part's data has to be moved still.
    #[must_use]
    pub fn moves_data(&self) -> bool {
        self.state == MoveState::Old
    }
}
