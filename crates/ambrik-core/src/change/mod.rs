//! Changes: planned from an audit, recorded in the ledger, made through handles, read back, and taken back.

mod creating;

mod afterwards;
mod drift;
mod folder;
mod keepsake;
mod ledger;
mod module;
mod moving;
mod places;
mod plan;
mod proof;
mod purge;
mod remains;
mod removal;
mod rights;
mod sample;
mod state;
mod undo;
mod undo_plan;
mod unpacking;
mod window;

use std::ffi::CString;
use std::io;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError, mpsc};

use rustix::io::Errno;

use crate::audit::Audit;
use crate::inspect::{Deviation, SiteDir, Spot, Start};
use crate::shown::Shown;
use crate::signals;
use crate::site::Phase;
use crate::tree::{Failure, Host, Op, Progress, sys};

use creating::create;
use folder::{Folder, Opener, as_os};
use ledger::{CameOf, Recorder, TakenBack};
use removal::{PendingRemoval, remove};
use rights::{ChangeTime, RightsChange};

pub use afterwards::{Afterwards, afterwards};
pub use drift::{Drifted, DriftedTo, drift};
pub use ledger::{
    AuditRecord, ChangeCommand, ChangeSet, Delivered, Did, HowChanged, Ledger, LedgerError, ModuleChange, PathChange,
    SitePhase, Window, deployments,
};
pub use module::{forget, keep_module, plan_module};
pub use moving::{MoveAsked, MoveError, MovePlan, MoveSetting, PassageGrant, Stopped, asked, move_part, plan_move};
pub use places::{PlaceError, check_places};
pub use plan::{Change, Creation, Group, Plan, Removal};
pub use proof::{Proof, Prover, answer, prove};
pub use purge::{Keepsake, KeptFor, PurgePlan, kept, plan_purge, purge};
pub use sample::Unfinished;
pub use state::{SiteLock, StateDir, StateError, StateSize};
pub use undo::undo;
pub use undo_plan::{UndoError, UndoPlan, plan_undo, since};
pub use unpacking::{
    LaidPart, Replaced, UnpackError, UnpackPlan, UnpackSetting, finish_unpack, free_for, not_as_delivered, plan_unpack,
    unpack,
};
pub use window::{Changed, WindowError, changed_in_window};

/// What is needed to change a disk.
#[derive(Debug)]
pub struct ChangeContext<'a> {
    /// The host.
    pub host: &'a Host,
    /// The state directory.
    pub state: &'a StateDir,
    /// How many threads change.
    pub threads: usize,
    /// The policy store that modules are installed in.
    pub store: Option<&'a crate::label::Store>,
    /// Whether what is removed is kept.
    pub keep: bool,
    /// How far it is.
    pub progress: &'a Progress,
}

/// What came of a change.
#[derive(Debug, Default)]
pub struct Outcome {
    /// The change set's number.
    pub id: i64,
    /// How many paths were changed or made.
    pub done: u64,
    /// How many were removed.
    pub removed: u64,
    /// How many were moved to another place.
    pub moved: u64,
    /// How many came back.
    pub restored: u64,
    /// What was not done, and why.
    pub failures: Vec<(PathBuf, Failure)>,
    /// How many had gone before they were changed.
    pub vanished: u64,
    /// The keepsake.
    pub keepsake: Option<PathBuf>,
    /// Whether the host's policy was changed: the site's module, or local rules.
    pub module: bool,
    /// Whether the host's rules then gave every part its label.
    pub labels_last: bool,
    /// The SELinux booleans that were switched, and whether on.
    pub switched: Vec<(String, bool)>,
}

impl Outcome {
    /// Goes on unless a signal came.
    fn go_on(&self) -> Result<(), ChangeError> {
        match signals::came() {
            None => Ok(()),
            Some(signal) => Err(ChangeError::Stopped { signal, id: self.id, done: self.all() }),
        }
    }

    /// How many paths were changed in any way.
    const fn all(&self) -> u64 {
        self.done + self.removed + self.moved + self.restored
    }

    fn fail_all(&mut self, failures: Vec<(PathBuf, Failure)>) {
        for (path, failure) in failures {
            self.fail(path, failure);
        }
    }

    fn fail(&mut self, path: PathBuf, failure: Failure) {
        if failure.is_vanished() {
            self.vanished += 1;
        } else {
            self.failures.push((path, failure));
        }
    }
}

/// Why a change set could not be begun, or was broken off.
#[derive(Debug, thiserror::Error)]
pub enum ChangeError {
    /// The state directory cannot be used.
    #[error(transparent)]
    State(#[from] StateError),
    /// The ledger cannot be written: nothing more is changed.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The tree is not the one to be changed, or not only root and the keeper decide which one that is.
    #[error(transparent)]
    Place(#[from] PlaceError),
    /// The policy store does not answer: nothing of it is changed.
    #[error("the host's policy store does not answer: {0}")]
    Store(String),
    /// The site's root went away.
    #[error("the site's root was replaced while Ambrik ran; nothing was changed")]
    RootReplaced,
    /// A signal came: nothing more is changed.
    #[error(
        "stopped by {signal} after {done} changes, which are on record: the same command goes on from there, `ambrik undo \
         {id}` takes them back"
    )]
    Stopped {
        /// The signal.
        signal: &'static str,
        /// The change set.
        id: i64,
        /// How many changes were made before.
        done: u64,
    },
    /// The keepsake cannot be written: nothing is removed.
    #[error("cannot write the keepsake {}: {cause}; nothing was removed", Shown(.path))]
    Keepsake {
        /// The keepsake.
        path: PathBuf,
        /// Why.
        cause: io::Error,
    },
}

/// As many changes are recorded at once, durably, before the first of them is made. The first batches are smaller, so
/// that nobody waits long for them.
const BATCH: usize = 1 << 16;
const FIRST_BATCH: usize = 1 << 12;
/// As many of them a thread makes in one go.
const SHARE: usize = 1024;

/// Makes the changes of a plan.
///
/// Errors where nothing, or nothing more, can be changed; what failed on single paths is in the outcome.
pub fn apply(plan: &Plan, ledger: &mut Ledger, means: &ChangeContext<'_>) -> Result<Outcome, ChangeError> {
    let _held = signals::hold();
    check_places(&plan.audit, Some(ledger), plan.new_root)?;
    let bases = bases(&plan.audit.seen.starts).map_err(|_| ChangeError::RootReplaced)?;
    let mut entry = ledger.begin(&plan.audit.site.name, plan.command, (plan.phase_before, plan.audit.phase), None)?;
    let made = make_all(plan, &bases, &mut entry, means);
    end(entry, made, |_| None)
}

/// Ends a change set as what came of it says; where a signal stopped it, how far it came.
fn end(
    entry: Recorder<'_>,
    made: Result<Outcome, ChangeError>,
    takes_back: impl Fn(&Outcome) -> Option<TakenBack>,
) -> Result<Outcome, ChangeError> {
    match &made {
        Ok(outcome) => {
            entry.end(outcome.all(), outcome.failures.len() as u64, takes_back(outcome))?;
        }
        Err(ChangeError::Stopped { done, .. }) => entry.stopped(*done)?,
        Err(_) => {}
    }
    made
}

/// Makes the changes, each recorded before.
///
/// Before, and not after: a run can end between any two calls (a signal, the power, a full disk). What is on record and was not
/// done is found to be as it was when it is taken back, and left; what was done and is not on record would stay for ever. So a
/// batch of rows is on the disk before the first of its changes is made, and the ledger's word is "may have been changed".
fn make_all(
    plan: &Plan,
    bases: &[OwnedFd],
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
) -> Result<Outcome, ChangeError> {
    let mut outcome = Outcome { id: entry.id, ..Outcome::default() };
    places::record(&plan.audit, entry)?;
    let (site, name) = (&plan.audit.site, &plan.audit.site.name);
    entry.add_unproven(name, plan.audit.changed_since_clean().map(|path| (path, HowChanged::Changed)))?;
    if let Some(window) = &plan.window {
        // Before PHP gets to write anything.
        if plan.phase_before == Phase::Sealed || !entry.has_window_state(name)? {
            let state = window::state(means.host, site, means.progress).map_err(|_| ChangeError::RootReplaced)?;
            entry.window_state(name, &state)?;
        }
        entry.window(window)?;
    }
    for creation in &plan.creations {
        outcome.go_on()?;
        match create(creation, plan.audit.site.keeper.ids.uid, means.host, entry)? {
            Ok(()) => outcome.done += 1,
            Err(failure) => outcome.fail(creation.path.clone(), failure),
        }
    }
    for (path, failure) in plan.left_alone() {
        outcome.failures.push((path, failure.clone()));
    }
    let mut folders = Places::new(&plan.audit);
    let mut jobs = plan.turns().map(|(deviant, turn)| {
        let (folder, name) = folders.place(&deviant);
        Job { folder, name, turn }
    });
    run(entry, bases, &mut jobs, &rights::change, means, &mut outcome)?;
    outcome.go_on()?;
    if let Some(change) = &plan.module {
        module::change(change, &plan.audit, entry, means, &mut outcome)?;
    }
    let switches = plan.switches.iter().map(|name| (name.clone(), true));
    module::switch(switches, entry, means, &mut outcome)?;
    outcome.go_on()?;
    // What stays in a folder that is removed is told of as that is done.
    let in_removed = |path: &Path| plan.removals.iter().any(|removal| path.starts_with(&removal.path));
    for (path, failure) in plan.kept.iter().filter(|(path, _)| !in_removed(path)) {
        outcome.fail(path.clone(), failure.clone());
    }
    let removals = plan.removals.iter().filter_map(|removal| {
        let (folder, name) = place(&plan.audit, &plan.audit.seen.deviants.get(removal.deviant)?);
        Some(PendingRemoval { folder, name, id: Some(removal.id), reason: removal.reason.clone() })
    });
    remove(entry, bases, &removals.collect::<Vec<_>>(), &plan.audit.site.name, means, &mut outcome)?;
    Ok(outcome)
}

/// Handles on where the walks began: for each start, the directory that it is in, and itself.
pub(crate) fn bases(starts: &[Start]) -> Result<Vec<OwnedFd>, Failure> {
    let mut bases = Vec::new();
    for start in starts {
        let failed = |errno| Failure::Os(Op::Open, errno);
        bases.push(start.parent.try_clone().map_err(|_| Failure::Os(Op::Open, Errno::MFILE))?);
        let itself = sys::pin(&start.parent, &start.name).map_err(failed)?;
        if sys::look_at(&itself).map_err(failed)?.id != start.facts.id {
            return Err(Failure::Replaced);
        }
        bases.push(itself);
    }
    Ok(bases)
}

/// Where a deviant is, for opening it again.
pub(crate) fn place(audit: &Audit, deviant: &Deviation<'_>) -> (Arc<Folder>, CString) {
    Places::new(audit).place(deviant)
}

/// Finds the folders of deviants; those of one directory share theirs.
struct Places<'a> {
    audit: &'a Audit,
    last: Option<(*const SiteDir, Arc<Folder>)>,
}

impl<'a> Places<'a> {
    const fn new(audit: &'a Audit) -> Self {
        Self { audit, last: None }
    }

    fn place(&mut self, deviant: &Deviation<'_>) -> (Arc<Folder>, CString) {
        match deviant.spot {
            Spot::Start(number) => {
                let start = &self.audit.seen.starts[number as usize];
                let path = start.real.parent().unwrap_or(Path::new("/")).to_owned();
                let folder = Folder { base: number as usize * 2, below: PathBuf::new(), path, id: None };
                (Arc::new(folder), start.name.clone())
            }
            Spot::In(dir, name) => {
                let known = self.last.as_ref().filter(|(last, _)| std::ptr::eq(*last, Arc::as_ptr(dir)));
                let folder = match known {
                    Some((_, folder)) => Arc::clone(folder),
                    None => self.folder(dir),
                };
                self.last = Some((Arc::as_ptr(dir), Arc::clone(&folder)));
                (folder, name.to_owned())
            }
        }
    }

    fn folder(&self, dir: &Arc<SiteDir>) -> Arc<Folder> {
        let path = dir.path();
        let starts = self.audit.seen.starts.iter().enumerate();
        let start = starts
            .filter(|(_, start)| path.starts_with(&start.path))
            .max_by_key(|(_, start)| start.path.as_os_str().len());
        let (number, below, path) = match start {
            Some((number, start)) => {
                let below = path.strip_prefix(&start.path).map(Path::to_owned).unwrap_or_default();
                (number, below.clone(), start.real.join(&below))
            }
            None => (0, PathBuf::new(), path),
        };
        Arc::new(Folder { base: number * 2 + 1, below, path, id: Some(dir.id) })
    }
}

/// One change of rights, ready to be made.
struct Job {
    folder: Arc<Folder>,
    name: CString,
    turn: RightsChange,
}

/// How one change of rights is made.
type Maker<'m> =
    &'m (dyn Fn(BorrowedFd<'_>, &std::ffi::CStr, &RightsChange) -> Result<Option<ChangeTime>, Failure> + Sync);

/// Records each batch durably, then lets the threads make it while the next one is recorded.
fn run(
    entry: &mut Recorder<'_>,
    bases: &[OwnedFd],
    jobs: &mut dyn Iterator<Item = Job>,
    make: Maker<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    // Few batches wait: what is recorded is not far ahead of what is made.
    let (send, receive) = mpsc::sync_channel::<(i64, Vec<Job>)>(means.threads * 2);
    let receive = Mutex::new(receive);
    let failed: Mutex<Vec<(i64, PathBuf, Failure)>> = Mutex::default();
    let came: Mutex<Vec<(i64, CameOf)>> = Mutex::default();
    let tell = |number, what| came.lock().unwrap_or_else(PoisonError::into_inner).push((number, what));
    let done = std::sync::atomic::AtomicU64::new(0);
    let recorded = std::thread::scope(|scope| {
        for _ in 0..means.threads.max(1) {
            scope.spawn(|| {
                sys::stand_among_handles();
                let mut opener = Opener::new(bases);
                loop {
                    let next = receive.lock().unwrap_or_else(PoisonError::into_inner).recv();
                    let Ok((first, jobs)) = next else { break };
                    for (number, job) in (first..).zip(&jobs) {
                        if signals::came().is_some() {
                            // What was recorded and not begun is no part of what was done.
                            tell(number, CameOf::NotBegun);
                            continue;
                        }
                        let made = opener.open_again(&job.folder).and_then(|dir| make(dir, &job.name, &job.turn));
                        match made {
                            Ok(time) => {
                                if let Some(time) = time {
                                    tell(number, CameOf::Left(time));
                                }
                                done.fetch_add(1, Ordering::Relaxed)
                            }
                            Err(failure) => {
                                let path = job.folder.path.join(as_os(&job.name));
                                failed.lock().unwrap_or_else(PoisonError::into_inner).push((number, path, failure));
                                0
                            }
                        };
                    }
                    means.progress.entries.fetch_add(jobs.len() as u64, Ordering::Relaxed);
                }
            });
        }
        let recorded = record(entry, jobs, &send);
        drop(send);
        recorded
    });
    outcome.done += done.into_inner();
    let failed = failed.into_inner().unwrap_or_else(PoisonError::into_inner);
    recorded?;
    let mut came = came.into_inner().unwrap_or_else(PoisonError::into_inner);
    came.extend(failed.iter().map(|(number, _, failure)| (*number, CameOf::Failed(failure.to_string()))));
    entry.came_of(&came)?;
    for (_, path, failure) in failed {
        outcome.fail(path, failure);
    }
    outcome.go_on()
}

fn record(
    entry: &mut Recorder<'_>,
    jobs: &mut dyn Iterator<Item = Job>,
    send: &mpsc::SyncSender<(i64, Vec<Job>)>,
) -> Result<(), LedgerError> {
    let mut length = FIRST_BATCH;
    loop {
        let batch: Vec<Job> = jobs.take(length).collect();
        if batch.is_empty() || signals::came().is_some() {
            return Ok(());
        }
        length = (length * 4).min(BATCH);
        let mut first = entry.record(batch.iter().map(|job| (&*job.folder.path, as_os(&job.name), &job.turn)))?;
        let mut rest = batch.into_iter();
        while rest.len() > 0 {
            let share: Vec<Job> = rest.by_ref().take(SHARE).collect();
            let length = i64::try_from(share.len()).unwrap_or(0);
            // The threads end only after the sender: nobody is gone.
            let _ = send.send((first, share));
            first += length;
        }
    }
}

/// Times as the ledger holds them.
fn times_bytes(times: Option<sys::Times>) -> Vec<u8> {
    let Some(sys::Times { accessed, modified }) = times else { return Vec::new() };
    [accessed, modified].iter().flat_map(|(s, n)| s.to_le_bytes().into_iter().chain(n.to_le_bytes())).collect()
}

fn times_of(bytes: &[u8]) -> Option<sys::Times> {
    let pair = |at: usize| -> Option<(i64, u32)> {
        let seconds = i64::from_le_bytes(bytes.get(at..at + 8)?.try_into().ok()?);
        Some((seconds, u32::from_le_bytes(bytes.get(at + 8..at + 12)?.try_into().ok()?)))
    };
    Some(sys::Times { accessed: pair(0)?, modified: pair(12)? })
}
