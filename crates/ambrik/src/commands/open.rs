//! `open`: begins an install or upgrade window.

use std::path::PathBuf;
use std::process::{Command, Stdio};

use ambrik_core::audit::{Audit, cannot_be_made};
use ambrik_core::change::{ChangeCommand, Plan, Window};
use ambrik_core::shown::shell_word;
use ambrik_core::site::{Phase, Site};
use jiff::{SignedDuration, Timestamp};

use super::audit::FailOn;
use super::changing::{self, Insisting, Job, Mode};
use crate::failure::{Exit, Failure};
use crate::output;
use crate::session::Session;

/// Begin an install or upgrade window: PHP may write what the installer needs, for a limited time
///
/// Copies samples of settings where they are missing, makes missing directories, and lets PHP write to the parts with
/// write = "install". Opening an open site extends its window. `ambrik seal` ends it, and so does `ambrik set`.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik open berths --for 45m\n  ambrik open berths --part plugins")]
pub(crate) struct OpenArgs {
    /// Names of sites, or paths of site files
    #[arg(value_name = "SITE", required = true)]
    names: Vec<PathBuf>,
    /// How long, at most 24 hours: 30m, 2h, 1h 30m
    #[arg(long = "for", value_name = "DURATION", default_value = "30m")]
    duration: String,
    /// Only this part, as the site file names it, of those with write = "install"; may be given several times
    #[arg(long = "part", value_name = "PATH")]
    parts: Vec<String>,
    /// Have the host's service manager close the window when its time is over
    #[arg(long)]
    arm: bool,
    #[command(flatten)]
    insisting: Insisting,
    /// Only show what would change; needs no privilege
    #[arg(short = 'n', long, conflicts_with_all = ["yes", "arm"])]
    preview: bool,
    /// Do not ask
    #[arg(short = 'y', long)]
    yes: bool,
}

/// No window is longer.
const LONGEST: SignedDuration = SignedDuration::from_hours(24);

pub(crate) fn run(args: &OpenArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let duration = duration(&args.duration)?;
    if args.arm && !has_timers(session) {
        return Err(Failure::usage(
            "--arm: no systemd runs here that could close the window, so nothing was opened; without --arm close it with `ambrik seal`",
        ));
    }
    let looked = session.look()?;
    let sites = session.sites_to_change(&args.names, &looked)?.chosen;
    for site in &sites {
        check_parts(site, &args.parts)?;
    }
    let mode = match (args.preview, args.yes) {
        (true, _) => Mode::Preview,
        (false, true) => Mode::Yes,
        (false, false) => Mode::Ask,
    };
    let until = Timestamp::now() + duration;
    let parts = (!args.parts.is_empty()).then(|| args.parts.clone());
    let plan = |audit: Audit, phase: Phase| Plan::open(audit, phase, Window { until, parts: parts.clone() });
    let parts_of = parts.as_deref();
    let job = Job {
        command: ChangeCommand::Open,
        plan: &plan,
        mode,
        keep: true,
        phase: Phase::Open,
        parts: parts_of,
        insisting: args.insisting,
        whole_label: false,
        unfinished: true,
        fail_on: FailOn::Never,
    };
    let mut exit = changing::run(&job, &args.names, session)?;
    let opened = session.records()?;
    for site in &sites {
        let phase = opened.phase(&site.name)?;
        if mode == Mode::Preview || phase.phase != Phase::Open || phase.until != Some(until) {
            continue;
        }
        if session.terminal.tells() {
            let site = phase.of(site);
            let missing = cannot_be_made(&looked.host, &site, Phase::Open);
            output::changes_text::opened(&site, &missing, until, &mut session.terminal.out())?;
        }
        if !timer(args, site, duration, session) {
            exit = exit.max(Exit::Partial);
        }
    }
    Ok(exit)
}

fn duration(text: &str) -> Result<SignedDuration, Failure> {
    let duration: Result<SignedDuration, _> = text.parse();
    match duration {
        Ok(duration) if duration > SignedDuration::ZERO && duration <= LONGEST => Ok(duration),
        Ok(_) => Err(Failure::usage(format!("--for {text}: a window is longer than nothing and at most 24 hours"))),
        Err(_) => Err(Failure::usage(format!("--for {text}: write a duration, such as 30m, 2h or 1h 30m"))),
    }
}

fn check_parts(site: &Site, named: &[String]) -> Result<(), Failure> {
    use ambrik_core::site::Write;
    let known = || site.parts.iter().filter(|part| part.write == Write::Install).map(|part| part.shown.as_str());
    match named.iter().find(|name| !known().any(|known| known == name.as_str())) {
        None => Ok(()),
        Some(name) => {
            let known: Vec<&str> = known().collect();
            let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            Err(Failure::usage(format!(
                "{}: no part with write = \"install\" is called {name}; those are: {known}",
                site.name
            )))
        }
    }
}

/// Whether there is a service manager whose timers could close a window.
fn has_timers(session: &Session<'_>) -> bool {
    std::path::Path::new("/run/systemd/system").is_dir() && session.is_this_host()
}

/// The one-shot timer that closes the window: shown, or, where that is asked for, installed. Whether what was asked for is
/// there.
fn timer(args: &OpenArgs, site: &Site, duration: SignedDuration, session: &mut Session<'_>) -> bool {
    let runs = has_timers(session);
    let unit = format!("ambrik-close-{}", site.name);
    let program = std::env::current_exe().unwrap_or_else(|_| "ambrik".into());
    let mut words = vec![
        "--unit".to_owned(),
        unit.clone(),
        format!("--on-active={}s", duration.as_secs()),
        program.display().to_string(),
    ];
    words.extend(session.place_arguments());
    // The timer runs from another directory.
    let file = std::path::absolute(&site.file).unwrap_or_else(|_| site.file.clone());
    words.extend(["set".to_owned(), file.display().to_string(), "--yes".to_owned()]);
    if !args.arm {
        if runs {
            session.terminal.say(&format!(
                "nothing closes it by itself; --arm does, or: systemd-run {}",
                words.iter().map(|word| shell_word(word.as_ref())).collect::<Vec<_>>().join(" ")
            ));
        } else {
            session.terminal.say("nothing closes it by itself: every later command tells how long is left");
        }
        return true;
    }
    let quietly = |program: &str, words: &[String]| {
        Command::new(program).args(words).stdin(Stdio::null()).stdout(Stdio::null()).output()
    };
    // An earlier timer of the same window.
    let _ = quietly("systemctl", &["stop".to_owned(), format!("{unit}.timer")]);
    match quietly("systemd-run", &words) {
        Ok(done) if done.status.success() => {
            session.terminal.say(&format!("closed by itself: timer {unit}"));
            return true;
        }
        Ok(failed) => {
            let why = String::from_utf8_lossy(&failed.stderr).trim().to_owned();
            session.terminal.warn(&format!("--arm: systemd-run failed ({why}): close the window with `ambrik seal`"));
        }
        Err(cause) => {
            session
                .terminal
                .warn(&format!("--arm: cannot run systemd-run ({cause}): close the window with `ambrik seal`"));
        }
    }
    false
}
