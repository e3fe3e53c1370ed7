//! `watch`: tells at once when something becomes wrong.

use std::collections::BTreeSet;
use std::io::Write as _;
use std::os::unix::fs::MetadataExt as _;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use ambrik_core::shown::Shown;
use ambrik_core::signals;
use ambrik_core::site::{Phase, Site};
use ambrik_core::tree::Progress;
use ambrik_core::watching::{Heard, InPhase, ListenError, Listener, Watch, Whereabouts};
use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::failure::{Exit, Failure};
use crate::output;
use crate::output::watch_text::Told;
use crate::session::{HostView, Session};
use crate::sites::Sites;
use crate::system_log::LogLine;

/// Tell at once when something becomes wrong: code changed or added, a right widened, an installer back
///
/// Looks once, then listens to the kernel and judges what is changed, without walking. What is wrong already is not told again. Site
/// files, outlines and the host file are read again where they change. With
/// --format json each alert is a document on a line of its own. Ends by a signal (Ctrl-C), and where nobody reads what it tells any more.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  ambrik watch\n  ambrik watch berths --run /usr/local/bin/page-somebody\n  ambrik --on berth-1,berth-2 --sudo watch"
)]
pub(crate) struct WatchArgs {
    /// Names of sites, or paths of site files; none = every site
    #[arg(value_name = "SITE")]
    names: Vec<PathBuf>,
    /// Run this with /bin/sh for each alert, the alert as JSON on its standard input
    #[arg(long, value_name = "COMMAND")]
    run: Option<String>,
}

/// So long nothing more is done before something is judged: a file that is being put in place is not half there then.
const QUIET: Duration = Duration::from_millis(100);
/// But no longer than this.
const LONGEST: Duration = Duration::from_millis(500);
/// As often signals are looked for.
const TICK: Duration = Duration::from_secs(1);
/// As many commands of `--run` are at work at once; then the oldest is waited for.
const MOST_RUNS: usize = 16;

/// What is watched, as it is described now.
struct Described {
    looked: HostView,
    sites: Sites,
    /// What that was read from, as it was then.
    read_from: Vec<FileState>,
}

/// A file or folder: which one, and when it was changed last; nothing where there is none.
type FileState = (PathBuf, Option<(u64, u64, i64, i64)>);

/// The state of what describes the sites, folders with what is in them.
fn states(described_in: &[PathBuf]) -> Vec<FileState> {
    let state = |path: PathBuf| {
        let meta = std::fs::metadata(&path).ok();
        (path, meta.map(|meta| (meta.dev(), meta.ino(), meta.ctime(), meta.ctime_nsec())))
    };
    let in_it = |path: &PathBuf| {
        let entries = std::fs::read_dir(path).into_iter().flatten();
        entries.filter_map(|entry| Some(entry.ok()?.path())).collect::<Vec<_>>()
    };
    let all = described_in.iter().flat_map(|path| [vec![path.clone()], in_it(path)].concat());
    let all: BTreeSet<PathBuf> = all.collect();
    all.into_iter().map(state).collect()
}

impl Described {
    fn read(args: &WatchArgs, session: &mut Session<'_>) -> Result<Self, Failure> {
        // Before it is read: what is changed meanwhile is read again.
        let read_from = states(&session.described_in(&args.names));
        let looked = session.look()?;
        let sites = session.sites(&args.names, &looked)?;
        session.terminal.report_wrong(&sites.wrong);
        Ok(Self { looked, sites, read_from })
    }

    /// What is described now; nothing where it cannot be read, or where sites that are watched could not be any more for what is wrong
    /// with their files, which is said.
    fn read_again(&self, args: &WatchArgs, session: &mut Session<'_>) -> Option<Self> {
        let kept = "the sites are watched as they were described before";
        match Self::read(args, session) {
            Ok(now) => {
                let is_watched = |name: &str| self.sites.chosen.iter().any(|site| site.name == name);
                if now.sites.wrong.iter().any(|wrong| is_watched(&wrong.site)) {
                    session.terminal.warn(kept);
                    return None;
                }
                Some(now)
            }
            Err(failure) => {
                session.terminal.warn(&format!("{}; {kept}", failure.message));
                None
            }
        }
    }
}

pub(crate) fn run(args: &WatchArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if !session.is_this_host() {
        return Err(Failure::usage("watch is for this host: under --host nothing runs"));
    }
    let mut described = Described::read(args, session)?;
    let mut listener = Listener::new().map_err(|error| match error {
        ListenError::Privilege => Failure::privilege(&error.to_string()),
        ListenError::Failed(_) => Failure::usage(error.to_string()),
    })?;
    let (mut watch, mut runs) = (Watch::default(), Runs::default());
    let [known, unseen] = begin(&described, args, &mut watch, &mut listener, &mut runs, session)?;
    let sites = output::counted(output::count(described.sites.chosen.len() - unseen), "site", "sites");
    let known = output::counted(output::count(known), "finding is", "findings are");
    session.terminal.say(&format!("watching {sites}; {known} known already (ambrik audit); Ctrl-C ends it"));
    if !listener.hears() && !Whereabouts::of(&described.looked.host, &described.sites.chosen).places().is_empty() {
        return Err(Failure::usage(
            "what is changed cannot be listened to here: no file system of the sites tells of it",
        ));
    }
    let _held = signals::hold();
    while signals::came().is_none() && !nobody_reads() {
        runs.reap();
        let heard = if listener.wait(TICK) { hear(&mut listener)? } else { Heard::default() };
        // What is mounted, or comes back, where a site is, is no event.
        let places = Whereabouts::of(&described.looked.host, &described.sites.chosen);
        let is_elsewhere = !watch.is_at(&places);
        if is_elsewhere {
            listen(&mut listener, &places.places(), session);
        }
        if watch.is_about(&heard) || is_elsewhere {
            let phases = phases(&described.sites.chosen, session)?;
            let progress = Progress::default();
            let setting = described.looked.setting(&described.sites.neighbours, &progress);
            for alert in watch.judge(&heard, &as_slices(&phases), places, &setting) {
                tell(&Told::here(&alert, &described.looked.accounts)?, args, &mut runs, session)?;
            }
        }
        let read_from = states(&session.described_in(&args.names));
        if read_from != described.read_from {
            // What cannot be read is told once, not each second.
            described.read_from = read_from;
            let Some(now) = described.read_again(args, session) else { continue };
            described = now;
            begin(&described, args, &mut watch, &mut listener, &mut runs, session)?;
            let sites = output::counted(output::count(described.sites.chosen.len()), "site", "sites");
            session.terminal.say(&format!("what describes them was changed and read again: watching {sites}"));
        }
    }
    runs.wait();
    Ok(Exit::Clean)
}

/// Looks at all that is watched from now on. The answer is how much is wrong already, and how many sites cannot be looked at.
fn begin(
    described: &Described,
    args: &WatchArgs,
    watch: &mut Watch,
    listener: &mut Listener,
    runs: &mut Runs,
    session: &mut Session<'_>,
) -> Result<[usize; 2], Failure> {
    let Described { looked, sites, .. } = described;
    let places = Whereabouts::of(&looked.host, &sites.chosen);
    // What is changed while all is looked at is heard.
    listen(listener, &places.places(), session);
    let phases = phases(&sites.chosen, session)?;
    let progress = Progress::default();
    let (found, alerts) = watch.look(&as_slices(&phases), places, &looked.setting(&sites.neighbours, &progress));
    for alert in alerts {
        tell(&Told::here(&alert, &looked.accounts)?, args, runs, session)?;
    }
    let [mut known, mut unseen] = [0; 2];
    for (site, found) in found {
        match found {
            Ok(audit) => known += output::audit_text::counted_findings(&audit).count(),
            Err(error) => {
                unseen += 1;
                session.terminal.warn(&format!("{site}: {error}"));
            }
        }
    }
    Ok([known, unseen])
}

fn listen(listener: &mut Listener, places: &[PathBuf], session: &mut Session<'_>) {
    for (place, cause) in listener.listen_to(places) {
        let place = Shown(&place);
        session
            .terminal
            .warn(&format!("{place}: its file system tells nothing of changes: it is not watched ({cause})"));
    }
}

/// What is heard until nothing more is done for a moment.
fn hear(listener: &mut Listener) -> Result<Heard, Failure> {
    let failed =
        |cause: std::io::Error| Failure::usage(format!("what is changed cannot be listened to any more: {cause}"));
    let began = Instant::now();
    let mut heard = listener.read().map_err(failed)?;
    while began.elapsed() < LONGEST && listener.wait(QUIET) {
        let more = listener.read().map_err(failed)?;
        heard.dropped |= more.dropped;
        heard.events.extend(more.events);
    }
    Ok(heard)
}

/// The sites, each as it is in the phase that it is in now.
fn phases(sites: &[Arc<Site>], session: &mut Session<'_>) -> Result<Vec<(Arc<Site>, Phase)>, Failure> {
    let records = session.records()?;
    let mut found = Vec::new();
    for site in sites {
        let phase = records.phase(&site.name)?;
        found.push((phase.of(site), phase.phase));
    }
    Ok(found)
}

fn as_slices(phases: &[(Arc<Site>, Phase)]) -> Vec<InPhase<'_>> {
    phases.iter().map(|(site, phase)| (site, *phase)).collect()
}

/// Tells an alert: where results go, to the system's log, and to the command of `--run`.
pub(super) fn tell(told: &Told, args: &WatchArgs, runs: &mut Runs, session: &mut Session<'_>) -> Result<(), Failure> {
    if session.terminal.is_json() {
        writeln!(session.terminal.raw_out(), "{}", told.document)?;
        session.terminal.raw_out().flush()?;
    } else {
        told.render(&mut session.terminal.out())?;
    }
    let line = if told.severity == "high" { LogLine::high(told.words()) } else { LogLine::failed(told.words()) };
    let line = line.with("EVENT", "alert").with("SITE", &told.site).with("ALARM", &told.alarm);
    let line = if let Some(host) = &told.host { line.with("HOST", host) } else { line };
    if !line.with("SEVERITY", &told.severity).write() {
        session.terminal.detail("there is no system log to take this");
    }
    if let Some(command) = &args.run
        && let Err(cause) = runs.start(command, &told.document)
    {
        session.terminal.warn(&format!("--run {command}: {cause}"));
    }
    Ok(())
}

/// Whether results go to a pipe that nobody reads any more (POLLERR, poll(2)), as when a connection to this host has ended.
pub(super) fn nobody_reads() -> bool {
    let mut out = [PollFd::from_borrowed_fd(rustix::stdio::stdout(), PollFlags::empty())];
    poll(&mut out, Some(&Timespec { tv_sec: 0, tv_nsec: 0 })).is_ok() && out[0].revents().contains(PollFlags::ERR)
}

/// The commands that are at work.
#[derive(Default)]
pub(super) struct Runs(Vec<Child>);

impl Runs {
    fn start(&mut self, command: &str, document: &str) -> std::io::Result<()> {
        if self.0.len() >= MOST_RUNS {
            // Whoever is slow is waited for: alerts are not dropped.
            self.0.remove(0).wait()?;
        }
        let mut child = Command::new("/bin/sh").args(["-c", command]).stdin(Stdio::piped()).spawn()?;
        // A command that reads nothing of it is as good.
        let _ = child.stdin.take().map(|mut to| writeln!(to, "{document}"));
        self.0.push(child);
        Ok(())
    }

    pub(super) fn reap(&mut self) {
        self.0.retain_mut(|child| matches!(child.try_wait(), Ok(None)));
    }

    pub(super) fn wait(&mut self) {
        for mut child in self.0.drain(..) {
            let _ = child.wait();
        }
    }
}
