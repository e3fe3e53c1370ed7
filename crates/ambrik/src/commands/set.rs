//! `set`: brings a tree to what its site file says.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use ambrik_core::change::{ChangeCommand, ChangeContext, Ledger, Plan, forget};
use ambrik_core::label::Module;
use ambrik_core::site::{Phase, Site};
use jiff::Timestamp;

use super::audit::FailOn;
use super::changing::{self, Insisting, Job, Mode};
use crate::ask::go_on;
use crate::failure::{Exit, Failure};
use crate::progress::watched;
use crate::session::{HostView, Session, threads};

/// Bring a site's tree to what its site file says
///
/// Shows the changes, asks, records what was there, makes them and reads them back. `ambrik undo` takes them back.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik set berths --preview\n  ambrik set\n  ambrik set --overdue --yes --quiet")]
pub(crate) struct SetArgs {
    /// Names of sites, or paths of site files; none = every site
    #[arg(value_name = "SITE")]
    names: Vec<PathBuf>,
    /// Only show what would change; needs no privilege
    #[arg(short = 'n', long, conflicts_with_all = ["yes", "as_script"])]
    preview: bool,
    /// Do not ask
    #[arg(short = 'y', long)]
    yes: bool,
    /// Print a POSIX shell script that makes the changes, for hosts where Ambrik cannot run
    #[arg(long, conflicts_with = "yes")]
    as_script: bool,
    /// Set user, role and level of SELinux labels too, not the type alone
    #[arg(long)]
    whole_label: bool,
    #[command(flatten)]
    insisting: Insisting,
    /// Only sites whose window is past its end, if there are any: ends these windows, for timers
    #[arg(long, conflicts_with = "forget")]
    overdue: bool,
    /// Take the policy module of these sites out of the host's SELinux policy, and change nothing else
    #[arg(long, requires = "names", conflicts_with_all = ["preview", "as_script"])]
    forget: bool,
}

impl SetArgs {
    /// Whether a script is printed instead.
    pub(super) const fn is_script(&self) -> bool {
        self.as_script
    }
}

pub(crate) fn run(args: &SetArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if args.forget {
        return forget_modules(args, session);
    }
    let mode = match (args.preview, args.as_script, args.yes) {
        (true, _, _) => Mode::Preview,
        (_, true, _) => Mode::Script,
        (_, _, true) => Mode::Yes,
        (false, false, false) => Mode::Ask,
    };
    let (phase, plan) = (Phase::Sealed, &Plan::set);
    let job = Job {
        command: ChangeCommand::Set,
        plan,
        mode,
        keep: true,
        phase,
        parts: None,
        insisting: args.insisting,
        whole_label: args.whole_label,
        unfinished: true,
        fail_on: FailOn::Never,
    };
    if args.overdue {
        let names = overdue(&args.names, session)?;
        return if names.is_empty() { Ok(Exit::Clean) } else { changing::run(&job, &names, session) };
    }
    changing::run(&job, &args.names, session)
}

/// The files of the sites whose window is past its end.
fn overdue(named: &[PathBuf], session: &mut Session<'_>) -> Result<Vec<PathBuf>, Failure> {
    let looked = session.look()?;
    let sites = session.sites(named, &looked)?;
    // A window that could be told of and is not is worse than one more line in a log.
    session.terminal.report_wrong(&sites.wrong);
    let records = session.records()?.readable()?;
    let mut files = Vec::new();
    for site in &sites.chosen {
        if records.phase(&site.name)?.is_overdue(Timestamp::now()) {
            files.push(site.file.clone());
        }
    }
    Ok(files)
}

/// Takes the modules of the sites named out of the host's policy.
fn forget_modules(args: &SetArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let sites = session.sites_to_change(&args.names, &looked)?.chosen;
    let state = session.state()?;
    let store = looked.labels.store();
    let mut exit = Exit::Clean;
    for site in sites {
        let _lock = state.lock(&site.name, &format!("set --forget {}", site.name))?;
        let mut ledger = Ledger::open_or_create(&state)?;
        let wanted = wanted(&looked, &site);
        let question = format!("Take the rules for the labels of {} out of the host's policy?", site.name);
        if !go_on(session, args.yes, &question)? {
            session.terminal.say(&format!("{}: nothing was changed", site.name));
            exit = exit.max(Exit::Usage);
            continue;
        }
        let outcome = watched(session.terminal.quiet, "changing", |progress| {
            let means =
                ChangeContext { host: &looked.host, state: &state, threads: threads(), store, keep: true, progress };
            forget(&site.name, wanted.as_ref(), &looked.labels, &mut ledger, &means)
        })?;
        let Some(outcome) = outcome else {
            session.terminal.line(&format!("{}: nothing of it is in the host's policy", site.name))?;
            continue;
        };
        session.terminal.report_failures(&outcome.failures);
        exit = exit.max(if outcome.module { Exit::Clean } else { Exit::Partial });
        if outcome.module {
            let id = outcome.id;
            let words = "its rules are out of the host's policy: a relabelling gives other labels now";
            session
                .terminal
                .line(&format!("{}: {words}; change set {id}, taken back by: ambrik undo {id}", site.name))?;
        }
    }
    Ok(exit)
}

/// What makes a site's labels last, as its parts are named.
fn wanted(looked: &HostView, site: &Arc<Site>) -> Option<Module> {
    let real = |path: &Path| looked.host.destination(Path::new("/"), path);
    looked.labels.of_site(site).module(site, &real)
}
