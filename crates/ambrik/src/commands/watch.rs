//! `watch`: tells at once when something becomes wrong.

use std::io::Write as _;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use ambrik_core::audit::AuditSetting;
use ambrik_core::check::Severity;
use ambrik_core::shown::Shown;
use ambrik_core::signals;
use ambrik_core::site::{Phase, Site};
use ambrik_core::tree::Progress;
use ambrik_core::watching::{Alert, Heard, InPhase, ListenError, Listener, Watch};

use crate::failure::{Exit, Failure};
use crate::output::{self, watch_text};
use crate::session::{HostView, Session};
use crate::sites::Sites;
use crate::system_log::LogLine;

/// Tell at once when something becomes wrong: code changed or added, a right widened, an installer back
///
/// Looks once, then listens to the kernel and judges what is changed, without walking. What is wrong already is not told again. With
/// --format json each alert is a document on a line of its own. Ends by a signal (Ctrl-C).
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik watch\n  ambrik watch berths --run /usr/local/bin/page-somebody")]
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

pub(crate) fn run(args: &WatchArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if !session.is_this_host() {
        return Err(Failure::usage("watch is for this host: under --host nothing runs"));
    }
    let looked = session.look()?;
    let Sites { chosen, neighbours, wrong } = session.sites(&args.names, &looked)?;
    session.terminal.report_wrong(&wrong);
    let progress = Progress::default();
    let setting = looked.setting(&neighbours, &progress);
    let phases = phases(&chosen, session)?;
    let mut watch = Watch::of(&looked.host, &as_slices(&phases));
    // What is changed while all is looked at is heard.
    let mut listener = listen(&watch, session)?;
    let (mut known, mut looked_at) = (0, 0);
    for (site, found) in watch.look(&as_slices(&phases), &setting) {
        match found {
            Ok(audit) => {
                looked_at += 1;
                known += output::audit_text::counted_findings(&audit).count();
            }
            Err(error) => session.terminal.warn(&format!("{site}: {error}")),
        }
    }
    let sites = output::counted(looked_at, "site", "sites");
    let known = output::counted(output::count(known), "finding is", "findings are");
    session.terminal.say(&format!("watching {sites}; {known} known already (ambrik audit); a signal ends it"));
    let held = signals::hold();
    let mut runs = Runs::default();
    while signals::came().is_none() {
        runs.reap();
        if !listener.wait(TICK) {
            continue;
        }
        let heard = hear(&mut listener)?;
        for alert in judged(&mut watch, &heard, &chosen, &setting, session)? {
            tell(&alert, args, &looked, &mut runs, session)?;
        }
    }
    drop(held);
    runs.wait();
    Ok(Exit::Clean)
}

fn listen(watch: &Watch, session: &mut Session<'_>) -> Result<Listener, Failure> {
    let (listener, unheard) = Listener::on(&watch.places()).map_err(|error| match error {
        ListenError::Privilege => Failure::privilege(&error.to_string()),
        ListenError::Failed(_) => Failure::usage(error.to_string()),
    })?;
    for place in unheard {
        session
            .terminal
            .warn(&format!("{}: its file system tells nothing of changes: it is not watched", Shown(&place)));
    }
    Ok(listener)
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

fn judged(
    watch: &mut Watch,
    heard: &Heard,
    sites: &[Arc<Site>],
    setting: &AuditSetting<'_>,
    session: &mut Session<'_>,
) -> Result<Vec<Alert>, Failure> {
    // A window may have been opened, or ended, since.
    let phases = phases(sites, session)?;
    Ok(watch.judge(heard, &as_slices(&phases), setting))
}

fn tell(
    alert: &Alert,
    args: &WatchArgs,
    looked: &HostView,
    runs: &mut Runs,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let document = watch_text::document(alert, &looked.accounts)?;
    if session.terminal.is_json() {
        writeln!(session.terminal.raw_out(), "{document}")?;
        session.terminal.raw_out().flush()?;
    } else {
        watch_text::render(alert, &looked.accounts, &mut session.terminal.out())?;
    }
    let words = watch_text::words(alert, &looked.accounts);
    let line = if alert.severity == Severity::High { LogLine::high(words) } else { LogLine::failed(words) };
    let line = line.with("EVENT", "alert").with("SITE", &alert.site).with("ALARM", alert.alarm.word());
    if !line.with("SEVERITY", alert.severity.word()).write() {
        session.terminal.detail("there is no system log to take this");
    }
    if let Some(command) = &args.run
        && let Err(cause) = runs.start(command, &document)
    {
        session.terminal.warn(&format!("--run {command}: {cause}"));
    }
    Ok(())
}

/// The commands that are at work.
#[derive(Default)]
struct Runs(Vec<Child>);

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

    fn reap(&mut self) {
        self.0.retain_mut(|child| matches!(child.try_wait(), Ok(None)));
    }

    fn wait(&mut self) {
        for mut child in self.0.drain(..) {
            let _ = child.wait();
        }
    }
}
