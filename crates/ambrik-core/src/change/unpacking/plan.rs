//! What unpacking an archive would do: compared with what is there, path by path.

use std::collections::BTreeMap;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::io::Errno;

use super::super::folder::{c_name, split};
use super::super::ledger::Delivered;
use super::super::plan::Creation;
use super::below::{open_below, sum_of};
use super::wanted::Wanted;
use crate::account::Accounts;
use crate::archive::{ArchiveLook, PackedEntry, PackedKind};
use crate::audit::open_way;
use crate::check::{Guess, guess};
use crate::entry::{Facts, Identity, Kind, Rights, TreePath};
use crate::label::Labels;
use crate::policy::Policy;
use crate::shown::Shown;
use crate::site::{Phase, Site, Use, is_systems};
use crate::tree::{Failure, Host, Op, WayError, sys};
use crate::want::{Shape, Solver};

/// A path that is laid down.
#[derive(Debug)]
pub(super) struct Laid {
    pub(super) kind: PackedKind,
    /// The archive's name for what has its content.
    pub(super) content: PathBuf,
    pub(super) rights: Arc<Rights>,
    part: Option<usize>,
    /// The unit that it is in, as an index into the plan's.
    pub(super) unit: usize,
}

/// A file or symlink that another comes in the place of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Replaced {
    /// Its path below the root.
    pub path: PathBuf,
    /// Whether somebody changed it since it was unpacked; none where it is not known how it was unpacked.
    pub changed_since: Option<bool>,
    pub(super) id: Identity,
}

/// What is laid down in one part: how many of each kind, and their rights.
#[derive(Debug, Default)]
pub struct LaidPart {
    /// The part, as an index into the site's parts.
    pub part: Option<usize>,
    /// Files that are no programs.
    pub files: Option<(usize, Arc<Rights>)>,
    /// Programs.
    pub programs: Option<(usize, Arc<Rights>)>,
    /// Directories.
    pub directories: Option<(usize, Arc<Rights>)>,
}

/// What unpacking an archive would do.
#[derive(Debug)]
pub struct UnpackPlan {
    /// The site.
    pub site: Arc<Site>,
    /// The phase that it is in.
    pub phase: Phase,
    /// The missing directories that lead to the root, and the root.
    pub creations: Vec<Creation>,
    /// What is there and replaced.
    pub replaced: Vec<Replaced>,
    /// How many files are there already, as the archive has them.
    pub same: usize,
    /// What is there and stays, though the archive has it too, and why.
    pub stays: Vec<(PathBuf, &'static str)>,
    /// What earlier versions brought and this one has no more.
    pub gone: Vec<(PathBuf, Identity)>,
    /// Whether that is removed.
    pub tidy: bool,
    /// The archive itself, where it lies below the root, in what is no data: whoever guesses its name may fetch it.
    pub archive: Option<(PathBuf, Identity)>,
    /// Whether that is removed too.
    pub without_archive: bool,
    /// What earlier archives brought; where none is on record, nothing is known of what is gone, and by whom what is replaced was
    /// changed.
    pub before: Option<Delivered>,
    /// The root, without links.
    pub(super) real_root: PathBuf,
    root_id: Option<Identity>,
    /// What is laid down, by its path below the root, in order.
    pub(super) laid: Vec<(PathBuf, Laid)>,
    /// The uppermost paths of what is laid down: each gets its name at once, with all that is in it.
    pub(super) units: Vec<PathBuf>,
    /// The sums of what the archive brings, for the ledger.
    pub(super) sums: Vec<(PathBuf, [u8; 32])>,
}

/// Why an archive cannot be unpacked.
#[derive(Debug, thiserror::Error)]
pub enum UnpackError {
    /// What is in it must not be unpacked.
    #[error("{0} of what is in the archive must not be unpacked: nothing was changed")]
    Refused(usize),
    /// There is nothing in it.
    #[error("nothing in the archive is to be unpacked: nothing was changed")]
    Nothing,
    /// The site's root cannot be used.
    #[error("{}: {why}; nothing was changed", Shown(.root))]
    Root {
        /// The root.
        root: PathBuf,
        /// Why.
        why: String,
    },
    /// What is there is of another kind than what the archive has.
    #[error("{}: {why}; nothing was changed: look at it, and move it out of the way", Shown(.path))]
    InTheWay {
        /// The path.
        path: PathBuf,
        /// What it is.
        why: &'static str,
    },
    /// Something cannot be looked at.
    #[error("{}: {failure}; nothing was changed", Shown(.path))]
    Unseen {
        /// The path.
        path: PathBuf,
        /// Why.
        failure: Failure,
    },
    /// The root cannot be judged.
    #[error(transparent)]
    Site(#[from] crate::starts::SiteError),
}

/// What an archive is looked at with.
#[derive(Debug)]
pub struct UnpackSetting<'a> {
    /// The host.
    pub host: &'a Host,
    /// Its accounts.
    pub accounts: &'a Accounts,
    /// The host's other sites.
    pub neighbours: &'a [Arc<Site>],
    /// Its labels, where it has any.
    pub labels: Option<&'a Labels>,
    /// The phase that the site is in.
    pub phase: Phase,
    /// What archives brought before.
    pub before: Option<Delivered>,
    /// Whether what is gone in this version is removed.
    pub tidy: bool,
    /// Where the archive lies on the host, if it is a file there.
    pub archive: Option<&'a Path>,
}

/// How many bytes are free where a root is, or will be, for the caller.
pub fn free_for(host: &Host, root: &Path) -> Result<u64, UnpackError> {
    let nearest = root.ancestors().find_map(|above| host.resolve(above).ok());
    let free = nearest.and_then(|found| sys::free(&found.handle).ok());
    free.ok_or_else(|| UnpackError::Root {
        root: root.to_owned(),
        why: "how much is free there cannot be found out".into(),
    })
}

/// What unpacking would do.
pub fn plan_unpack(
    setting: UnpackSetting<'_>,
    site: &Arc<Site>,
    found: &ArchiveLook,
) -> Result<UnpackPlan, UnpackError> {
    if !found.refused.is_empty() {
        return Err(UnpackError::Refused(found.refused.len()));
    }
    if found.entries.is_empty() {
        return Err(UnpackError::Nothing);
    }
    let UnpackSetting { host, accounts, neighbours, labels, phase, before, tidy, archive } = setting;
    let labels = labels.filter(|labels| labels.are_managed()).map(|labels| labels.of_site(site));
    let policy = Policy::new(Arc::clone(site), phase);
    let mut wanted = Wanted::new(policy, Solver::new(site, accounts), labels);
    let unusable = |why: String| UnpackError::Root { root: site.root.clone(), why };
    let (real_root, root, creations) = match host.resolve_safely(&site.root, site.keeper.ids.uid) {
        Ok(found) if found.facts.kind == Kind::Directory => {
            if rustix::process::geteuid().is_root()
                && let Some(way) = open_way(host, site, accounts, neighbours)?
            {
                let error = super::super::PlaceError::OpenWay { start: site.root.clone(), way };
                return Err(unusable(error.to_string()));
            }
            let handle = sys::open_directory(&found.handle, c".");
            let handle = handle.map_err(|errno| unusable(Failure::Os(Op::Open, errno).to_string()))?;
            (found.path, Some((handle, found.facts.id)), Vec::new())
        }
        Ok(_) => return Err(unusable("it is no directory".into())),
        Err(WayError::Missing(_)) => {
            let parent = site.root.parent().unwrap_or(&site.root);
            let real = host.destination(parent, Path::new(site.root.file_name().unwrap_or_default()));
            (real, None, wanted.creations(host, site))
        }
        Err(error) => return Err(unusable(error.to_string())),
    };
    if is_systems(&real_root) {
        return Err(unusable(format!("it is really {}, which is the operating system's own", Shown(&real_root))));
    }
    let mut plan = UnpackPlan {
        site: Arc::clone(site),
        phase,
        creations,
        replaced: Vec::new(),
        same: 0,
        stays: Vec::new(),
        gone: Vec::new(),
        tidy,
        archive: None,
        without_archive: false,
        before,
        real_root,
        root_id: root.as_ref().map(|(_, id)| *id),
        laid: Vec::new(),
        units: Vec::new(),
        sums: Vec::new(),
    };
    let root = root.map(|(handle, _)| handle);
    for (path, entry) in &found.entries {
        plan.take(root.as_ref(), &mut wanted, path.as_ref(), entry)?;
    }
    if let Some(root) = &root {
        plan.find_gone(root, &wanted.policy, found)?;
        plan.archive = archive.and_then(|archive| plan.below_the_root(host, &wanted.policy, archive));
    }
    Ok(plan)
}

impl UnpackPlan {
    /// Decides on one path of the archive.
    fn take(
        &mut self,
        root: Option<&OwnedFd>,
        wanted: &mut Wanted<'_>,
        path: &Path,
        entry: &PackedEntry,
    ) -> Result<(), UnpackError> {
        let context = wanted.context(&self.site.root, path);
        if !context.is_managed() {
            self.stays.push((path.to_owned(), "not this application's, as the site file or another site's says"));
            return Ok(());
        }
        if context.used_as == Use::Remove {
            self.stays.push((path.to_owned(), "the site file has it removed when the site is sealed"));
            return Ok(());
        }
        let inside = self.units.last().is_some_and(|unit| path.starts_with(unit));
        let now = match root.filter(|_| !inside) {
            Some(root) => look(root, path).map_err(|failure| self.unseen(path, failure))?,
            None => None,
        };
        let (kind, program) = match &entry.kind {
            PackedKind::Directory => (Kind::Directory, false),
            PackedKind::File { program, .. } => (Kind::File, *program),
            PackedKind::Symlink(_) => (Kind::Symlink, false),
        };
        if let PackedKind::File { sum, .. } = &entry.kind {
            self.sums.push((path.to_owned(), *sum));
        }
        if let Some((dir, now)) = now {
            let data = matches!(context.used_as, Use::Store | Use::Scratch | Use::Log | Use::Secret);
            match (&entry.kind, now.kind) {
                (PackedKind::Directory, Kind::Directory) => return Ok(()),
                (PackedKind::Directory, _) => return Err(self.in_the_way(path, "the archive has a directory there")),
                (_, Kind::Directory) => {
                    return Err(self.in_the_way(path, "a directory, and the archive has none there"));
                }
                _ if data => {
                    self.sums.pop_if(|(of, _)| of == path);
                    self.stays.push((path.to_owned(), "data of the site"));
                    return Ok(());
                }
                _ => {}
            }
            let compared = compare(&dir, path, &now, &entry.kind).map_err(|failure| self.unseen(path, failure))?;
            let Compared::Other(sum) = compared else {
                self.same += 1;
                return Ok(());
            };
            let brought = self.before.as_ref().and_then(|before| before.brought(path, sum));
            let changed_since = brought.map(|brought| !brought);
            self.replaced.push(Replaced { path: path.to_owned(), changed_since, id: now.id });
        }
        if !inside {
            self.units.push(path.to_owned());
        }
        let rights = wanted.rights(&context, Shape::of(kind, program), kind);
        let (kind, content, unit) = (entry.kind.clone(), entry.content.clone(), self.units.len() - 1);
        self.laid.push((path.to_owned(), Laid { kind, content, rights, part: context.part, unit }));
        Ok(())
    }

    /// What the version before brought, is still there as code, and is not in this one.
    fn find_gone(&mut self, root: &OwnedFd, policy: &Policy, found: &ArchiveLook) -> Result<(), UnpackError> {
        let Some(before) = &self.before else { return Ok(()) };
        let mut gone = Vec::new();
        for path in before.files.keys().filter(|path| !found.entries.contains_key(*path)).map(AsRef::as_ref) {
            if !self.is_of_code(policy, path) {
                continue;
            }
            // What is no file any more is somebody else's by now.
            match look(root, path).map_err(|failure| self.unseen(path, failure))? {
                Some((_, now)) if now.kind == Kind::File => gone.push((path.to_owned(), now.id)),
                _ => {}
            }
        }
        self.gone = gone;
        Ok(())
    }

    /// Whether a path below the root is code, or of what comes and goes with it.
    fn is_of_code(&self, policy: &Policy, path: &Path) -> bool {
        let context = policy.at(&self.site.root.join(path)).context;
        context.is_managed() && matches!(context.used_as, Use::Code | Use::Hidden | Use::Setup)
    }

    /// The archive below the root, where it lies there.
    fn below_the_root(&self, host: &Host, policy: &Policy, archive: &Path) -> Option<(PathBuf, Identity)> {
        let found = host.resolve(archive).ok().filter(|found| found.facts.kind == Kind::File)?;
        let below = found.path.strip_prefix(&self.real_root).ok()?;
        let is_brought = self.laid_at(below).is_ok();
        (!is_brought && self.is_of_code(policy, below)).then(|| (below.to_owned(), found.facts.id))
    }

    fn unseen(&self, path: &Path, failure: Failure) -> UnpackError {
        UnpackError::Unseen { path: self.site.root.join(path), failure }
    }

    fn in_the_way(&self, path: &Path, why: &'static str) -> UnpackError {
        UnpackError::InTheWay { path: self.site.root.join(path), why }
    }

    /// A handle on the root as it is now; another one than the plan was made with is refused.
    pub(super) fn root_now(&self, host: &Host) -> Result<OwnedFd, Failure> {
        let found = host.resolve_safely(&self.site.root, self.site.keeper.ids.uid).map_err(|_| Failure::Replaced)?;
        if self.root_id.is_some_and(|id| id != found.facts.id) || found.path != self.real_root {
            return Err(Failure::Replaced);
        }
        sys::open_directory(&found.handle, c".").map_err(|errno| Failure::Os(Op::Open, errno))
    }

    /// Which of the replaced paths this is; they stand in order.
    pub(super) fn replaced_at(&self, path: &Path) -> Option<usize> {
        self.replaced.binary_search_by(|old| old.path.as_path().cmp(path)).ok()
    }

    /// How many paths get their names with one unit.
    pub(super) fn paths_of(&self, unit: &Path) -> u64 {
        let (Ok(first) | Err(first)) = self.laid_at(unit);
        self.laid.iter().skip(first).take_while(|(path, _)| path.starts_with(unit)).count() as u64
    }

    /// Where a path stands in what is laid down, or would stand.
    pub(super) fn laid_at(&self, path: &Path) -> Result<usize, usize> {
        self.laid.binary_search_by(|(laid, _)| TreePath::of(laid).cmp(&TreePath::of(path)))
    }

    /// The files and symlinks that are new, by their paths below the root.
    pub fn new_paths(&self) -> impl Iterator<Item = &Path> {
        let old = |path: &Path| self.replaced_at(path).is_some();
        let laid = self.laid.iter().filter(|(_, laid)| laid.kind != PackedKind::Directory);
        laid.map(|(path, _)| path.as_path()).filter(move |path| !old(path))
    }

    /// What is laid down, part by part.
    #[must_use]
    pub fn by_part(&self) -> Vec<LaidPart> {
        let mut found: BTreeMap<Option<usize>, LaidPart> = BTreeMap::new();
        for (_, laid) in &self.laid {
            let part = laid.part;
            let of = found.entry(part).or_insert_with(|| LaidPart { part, ..LaidPart::default() });
            let alike = match laid.kind {
                PackedKind::Directory => &mut of.directories,
                PackedKind::File { program: false, .. } => &mut of.files,
                PackedKind::File { .. } => &mut of.programs,
                PackedKind::Symlink(_) => continue,
            };
            alike.get_or_insert_with(|| (0, Arc::clone(&laid.rights))).0 += 1;
        }
        found.into_values().collect()
    }

    /// Whether nothing is there yet.
    #[must_use]
    pub fn is_new(&self) -> bool {
        self.root_id.is_none() || (self.replaced.is_empty() && self.same == 0 && self.before.is_none())
    }

    /// What is laid down as code and is called as backups, dumps, archives and pages that tell of PHP are, and what that is.
    #[must_use]
    pub fn left_overs(&self) -> Vec<(PathBuf, &'static str)> {
        let code = self.laid.iter().filter(|(_, laid)| laid.part.is_none());
        let left = code.filter_map(|(path, laid)| {
            let is_file = matches!(laid.kind, PackedKind::File { .. });
            match guess(path.file_name()?, Kind::File).filter(|_| is_file) {
                Some(Guess::Leftover(what)) => Some((path.clone(), what)),
                _ => None,
            }
        });
        left.collect()
    }

    /// Whether not even the root is there.
    #[must_use]
    pub const fn is_from_nothing(&self) -> bool {
        self.root_id.is_none()
    }

    /// What goes besides what is replaced: its path, what is there, and why.
    pub(super) fn going(&self) -> impl Iterator<Item = (&Path, Identity, &'static str)> {
        let gone = self.gone.iter().filter(|_| self.tidy).map(|it| (it, "gone in the version that was unpacked"));
        let archive =
            self.archive.iter().filter(|_| self.without_archive).map(|it| (it, "the archive that was unpacked"));
        gone.chain(archive).map(|((path, id), why)| (&**path, *id, why))
    }

    /// Whether nothing is to be done.
    #[must_use]
    pub fn is_done(&self) -> bool {
        self.laid.is_empty() && self.going().next().is_none()
    }
}

/// What is at a path below the root now, and the directory that it is in.
fn look(root: &OwnedFd, path: &Path) -> Result<Option<(OwnedFd, Facts)>, Failure> {
    let Some((above, name)) = split(path) else { return Ok(None) };
    let dir = match open_below(root, above) {
        Err(Failure::Os(_, Errno::NOENT)) => return Ok(None),
        Err(Failure::Os(_, Errno::LOOP | Errno::NOTDIR)) => {
            return Err(Failure::Says("a symlink or a file leads there; Ambrik follows none".into()));
        }
        dir => dir?,
    };
    match sys::look(&dir, &c_name(name)?) {
        Ok(facts) => Ok(Some((dir, facts))),
        Err(Errno::NOENT) => Ok(None),
        Err(errno) => Err(Failure::Os(Op::Look, errno)),
    }
}

/// How what is there compares with what the archive has.
enum Compared {
    Same,
    /// It differs; this is the sum of what it holds, where it is a file.
    Other(Option<[u8; 32]>),
}

fn compare(dir: &OwnedFd, path: &Path, now: &Facts, packed: &PackedKind) -> Result<Compared, Failure> {
    let name = c_name(path.file_name().unwrap_or_default())?;
    match (packed, now.kind) {
        (PackedKind::Symlink(target), Kind::Symlink) => {
            let there = sys::read_link(dir, &name).map_err(|errno| Failure::Os(Op::Read, errno))?;
            Ok(if target.as_os_str().as_bytes() == there { Compared::Same } else { Compared::Other(None) })
        }
        (_, Kind::File) => {
            let file = sys::open_file(dir, &name).map_err(|errno| Failure::Os(Op::Open, errno))?;
            let found = sum_of(file).map_err(|_| Failure::Os(Op::Read, Errno::IO))?;
            let same = matches!(packed, PackedKind::File { sum, .. } if *sum == found);
            Ok(if same { Compared::Same } else { Compared::Other(Some(found)) })
        }
        _ => Ok(Compared::Other(None)),
    }
}
