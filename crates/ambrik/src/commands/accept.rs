//! `accept`: an exception, written into the site file.

use std::path::{Path, PathBuf};

use ambrik_core::audit::{Audit, audit};
use ambrik_core::check::CATALOGUE;
use ambrik_core::shown::Shown;
use ambrik_core::site::{NewAccept, replace, with_accepted};
use jiff::civil::Date;

use crate::ask::go_on;
use crate::failure::{Exit, Failure};
use crate::output::report::AcceptReport;
use crate::progress::watched;
use crate::session::Session;

/// Accept a finding: write an exception into the site file, comments and order kept
///
/// A finding that is accepted stays in the report with its reason and does not count, until the day that is given is over.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  ambrik accept tidewatch link-leaves-site public/backups --because partners_fetch_them --until 2027-03-31"
)]
pub(crate) struct AcceptArgs {
    /// Name of a site, or path of a site file
    #[arg(value_name = "SITE")]
    site: PathBuf,
    /// The check whose finding is accepted; `ambrik checks` lists them
    #[arg(value_name = "CHECK")]
    check: String,
    /// The path that it is accepted for, and all below it: relative to the site's root, or absolute; . is the whole site
    #[arg(value_name = "PATH")]
    path: PathBuf,
    /// Why, for whoever reads it next
    #[arg(long, value_name = "TEXT")]
    because: String,
    /// The last day on which it holds: 2027-03-31
    #[arg(long, value_name = "DATE")]
    until: Option<String>,
    /// Only show what would be written, and what it covers
    #[arg(short = 'n', long, conflicts_with = "yes")]
    preview: bool,
    /// Do not ask
    #[arg(short = 'y', long)]
    yes: bool,
}

pub(crate) fn run(args: &AcceptArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let today = jiff::Zoned::now().date();
    if args.because.trim().is_empty() {
        return Err(Failure::usage("--because: say why it is accepted, for whoever reads it next"));
    }
    if CATALOGUE.iter().all(|check| check.name != args.check) {
        return Err(super::checks::unknown(&args.check));
    }
    let until = args.until.as_deref().map(|text| day(text, today)).transpose()?;
    let looked = session.look()?;
    let named = std::slice::from_ref(&args.site);
    let sites = if args.preview { session.sites(named, &looked)? } else { session.sites_to_change(named, &looked)? };
    let Some(site) = sites.chosen.first() else { return Ok(Exit::Usage) };
    let below = args.path.strip_prefix(&site.root).unwrap_or(&args.path);
    let below = if below.as_os_str().is_empty() { Path::new(".") } else { below };
    let path = below.to_str().ok_or_else(|| {
        Failure::usage(format!("{}: a path in a site file is UTF-8; accept the folder around it", Shown(below)))
    })?;
    let text = session.site_text(&site.file)?;
    let new = NewAccept { check: &args.check, path, reason: args.because.trim(), until };
    let changed = with_accepted(&text, &site.file, &new)?;
    let after = session.site_of(&changed, &site.file, &looked)?;
    let Some(with) = after.chosen.first() else { return Ok(Exit::Usage) };
    let same = |accept: &ambrik_core::site::Accept| {
        accept.check == args.check
            && accept.pattern.text() == with.accepts.last().map_or("", |last| last.pattern.text())
    };
    if site.accepts.iter().any(|accept| same(accept) && accept.holds_on(today)) {
        let says = format!("{}: {} is accepted for {} already", site.name, args.check, Shown(below));
        return Err(Failure::usage(format!("{says}; to change it, edit {}", Shown(&site.file))));
    }
    let phase = session.records()?.phase_told(&site.name, &mut session.terminal)?;
    let found = watched(session.terminal.quiet, "looking at", |progress| {
        audit(&looked.setting(&after.neighbours, progress), with, phase.phase)
    })?;
    let covers = covered(&found);
    let report = AcceptReport { site, new, covers, written: false };
    if args.preview {
        session.terminal.write(&report)?;
        return Ok(Exit::Findings);
    }
    if session.terminal.tells() {
        session.terminal.write(&report)?;
    }
    if !go_on(session, args.yes, &format!("Write it into {}?", Shown(&site.file)))? {
        session.terminal.say(&format!("{}: nothing was changed", site.name));
        return Ok(Exit::Usage);
    }
    // Somebody may have edited it while the question waited.
    if session.site_text(&site.file)? != text {
        let says = format!("{} was changed meanwhile; nothing was written: try again", Shown(&site.file));
        return Err(Failure::usage(says));
    }
    replace(&session.place(&site.file)?, &changed)?;
    if session.terminal.tells() {
        session.terminal.say(&format!(
            "{}: accepted; take it out of {} to have it count again",
            site.name,
            Shown(&site.file)
        ));
    } else {
        session.terminal.write(&AcceptReport { written: true, ..report })?;
    }
    Ok(Exit::Clean)
}

fn day(text: &str, today: Date) -> Result<Date, Failure> {
    let day: Date =
        text.parse().map_err(|_| Failure::usage(format!("--until {text}: write a day, such as 2027-03-31")))?;
    if day < today { Err(Failure::usage(format!("--until {text}: that day is over"))) } else { Ok(day) }
}

/// How many paths the last exception of a site covers.
fn covered(audit: &Audit) -> usize {
    let last = audit.site.accepts.len().checked_sub(1);
    audit
        .wrong
        .findings
        .iter()
        .filter(|finding| finding.accepted.is_some() && finding.accepted == last)
        .map(ambrik_core::audit::Finding::count)
        .sum()
}
