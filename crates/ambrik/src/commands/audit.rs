//! `audit`: looks, judges, reports; changes nothing.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use ambrik_core::audit::{Audit, AuditSetting, HostFinding, HowNew, News, audit, host_findings, news, recorded};
use ambrik_core::change::{AuditRecord, Ledger, drift};
use ambrik_core::check::Severity;
use ambrik_core::label::{LabelLine, table};
use ambrik_core::over_http;
use ambrik_core::shown::{Shown, cause};
use ambrik_core::site::{Phase, Site};
use ambrik_core::why::{Subject, Whom};
use clap::ValueEnum;

use crate::failure::{Exit, Failure, Wrong};
use crate::output::{
    self,
    report::{AuditReport, DriftReport, NewsReport, Report},
};
use crate::progress::watched;
use crate::records::Records;
use crate::session::{HostView, Session, threads};
use crate::sites::Sites;

/// Report what a site's tree allows that its site file does not
///
/// Judges what each account can do, as the kernel would answer: owners, groups, modes, access lists and every
/// directory from / on. Changes nothing.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  ambrik audit berths\n  ambrik audit --format html --to audit.html\n  ambrik audit berths --drift"
)]
pub(crate) struct AuditArgs {
    /// Names of sites, or paths of site files; none = every site
    #[arg(value_name = "SITE")]
    names: Vec<PathBuf>,
    /// Lowest severity that makes the exit code 1 [default: what the host file says, else medium]
    #[arg(long, value_enum, value_name = "SEVERITY")]
    fail_on: Option<FailOn>,
    /// Also ask the web server, at the url of the site file, for what it must not serve
    #[arg(long)]
    over_http: bool,
    /// List every path, not only examples
    #[arg(long)]
    each: bool,
    /// Show SELinux labels instead of findings: what paths have, what a relabelling would give, what they should have
    #[arg(long)]
    labels: bool,
    /// Of the whole host, tell only what is new or gone since the last such audit, and nothing where nothing is
    #[arg(long, conflicts_with_all = ["names", "labels", "over_http", "each"])]
    news: bool,
    /// Instead of findings, name each path that is no longer as Ambrik left it, and what it was
    #[arg(long, conflicts_with_all = ["labels", "over_http", "each", "news"])]
    drift: bool,
    /// Write the report to this file instead, at once or not at all
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
}

/// A severity, or none at all.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum FailOn {
    /// High ones only.
    High,
    /// Medium ones and above.
    Medium,
    /// All findings.
    Low,
    /// None.
    Never,
}

impl FailOn {
    /// The one that was asked for; else the host file's, else medium.
    fn or_of_host(asked: Option<Self>, looked: &HostView, session: &Session<'_>) -> Result<Self, Failure> {
        let said = session.behind(looked)?.host_file.fail_on.as_deref();
        let said = said.and_then(|word| Self::from_str(word, false).ok());
        Ok(asked.or(said).unwrap_or(Self::Medium))
    }

    const fn severity(self) -> Option<Severity> {
        match self {
            Self::High => Some(Severity::High),
            Self::Medium => Some(Severity::Medium),
            Self::Low => Some(Severity::Low),
            Self::Never => None,
        }
    }
}

/// An audit of one site as it is now, with what is on record about its code: what was changed is looked at again.
pub(super) fn again(
    site: &Arc<Site>,
    neighbours: &[Arc<Site>],
    looked: &HostView,
    session: &mut Session<'_>,
) -> Result<Audit, Failure> {
    let records = session.records()?;
    let phase = records.phase(&site.name)?;
    let now = phase.of(site);
    let clean_since = records.clean_since(std::slice::from_ref(&now))?;
    let found = watched(session.terminal.quiet, "looking at", |progress| {
        let setting = AuditSetting { clean_since: &clean_since, ..looked.setting(neighbours, progress) };
        audit(&setting, &now, phase.phase)
    })?;
    records.on_code(found, &looked.host, jiff::Zoned::now().date())
}

impl AuditArgs {
    /// The kind of document that it answers with.
    pub(super) const fn document(&self) -> &'static str {
        match (self.news, self.drift) {
            (true, _) => "news",
            (_, true) => "drift",
            _ => "audit",
        }
    }

    /// Where the report goes.
    pub(super) fn to(&self) -> Option<&Path> {
        self.to.as_deref()
    }
}

pub(crate) fn run(args: &AuditArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if (args.labels || args.news || args.drift) && session.terminal.format_of_audit().is_some() {
        let says = "--labels, --news and --drift have text and json; the other formats are of all findings";
        return Err(Failure::usage(says));
    }
    if args.drift {
        return tell_drift(args, session);
    }
    let started = std::time::Instant::now();
    // Whoever asks for news alone is told nothing else.
    session.terminal.quiet |= args.news;
    let mut looked = session.look()?;
    let Sites { chosen: sites, neighbours, mut wrong } = session.sites(&args.names, &looked)?;
    let fail_on = FailOn::or_of_host(args.fail_on, &looked, session)?;
    session.terminal.report_wrong(&wrong);
    let mut records = session.records()?;
    looked.clean_since = records.clean_since(&sites)?;
    session.terminal.detail(&format!("SELinux is {} here", looked.labels.state.now.word()));
    let longest = session.within.as_deref().map_or(Ok(over_http::LONGEST), within)?;
    let (mut audits, mut tables, mut until) = (Vec::new(), Vec::new(), Vec::new());
    for site in &sites {
        tell_stale(site, &looked, session);
        let phase = records.phase_told(&site.name, &mut session.terminal)?;
        let site = phase.of(site);
        let begun = jiff::Timestamp::now();
        let judged = watched(session.terminal.quiet, "looking at", |progress| {
            audit(&looked.setting(&neighbours, progress), &site, phase.phase)
        });
        let mut audit = match judged {
            Ok(audit) => audit,
            Err(error) => {
                let unjudged = Wrong { site: site.name.clone(), says: error.to_string() };
                session.terminal.report_wrong(std::slice::from_ref(&unjudged));
                wrong.push(unjudged);
                continue;
            }
        };
        audit.phase_known = records.unreadable.is_none();
        audit = records.on_code(audit, &looked.host, jiff::Zoned::now().date())?;
        if let (true, Some(until)) = (phase.is_overdue(jiff::Timestamp::now()), phase.until) {
            audit = audit.overdue_since(until, jiff::Zoned::now().date());
        }
        if args.over_http && site.url.is_none() && args.names.is_empty() {
            session.terminal.say(&format!("{}: its site file has no url: not asked over HTTP", site.name));
        } else if args.over_http {
            audit = ask_over_http(audit, &looked, longest, session)?;
        }
        audit = audit.with_times(&looked.host, &looked.accounts, records.known_right(&site.name)?);
        tell(session, &audit);
        tell_accepts(session, &audit);
        if phase.phase == Phase::Sealed && audit.is_complete() && audit.worst() < Some(Severity::Medium) {
            records.found_clean(&site.name, begun);
        }
        if args.labels {
            let lines = labels_of(&site, phase.phase, args.each, &looked, session)?;
            tables.push(lines);
        }
        audits.push(audit);
        until.push(phase.until);
    }
    if audits.is_empty() {
        return Ok(Exit::Usage);
    }
    if let Some(words) = looked.accounts.not_asked() {
        session.terminal.say(&words);
    }
    let of_host = host_findings(&audits);
    let whole = args.names.is_empty() && !args.labels && !args.over_http;
    if args.news {
        return tell_news((args.to.as_deref(), fail_on), (&audits, &of_host, &wrong), records, session);
    }
    if whole && let Some(ledger) = &mut records.ledger {
        // Where that cannot be written, by who may not, the audit is none the worse.
        if let Ok(news) = record(ledger, &audits, &of_host, &wrong) {
            super::logged::tell_news(&news, session);
        }
    }
    let course = records.ledger.as_ref().and_then(|ledger| ledger.audits().ok()).unwrap_or_default();
    let report = AuditReport {
        host: &session.host_name(),
        accounts: &looked.accounts,
        labels: &looked.labels,
        audits: &audits,
        of_host: &of_host,
        wrong: &wrong,
        tables: args.labels.then_some(&*tables),
        each: args.each,
        quiet: session.terminal.quiet,
        until: &until,
        took: started.elapsed(),
        history: &records.sets,
        course: &course,
        fail_on: fail_on.severity(),
    };
    match &args.to {
        None => session.terminal.write(&report)?,
        Some(file) => write_to(file, &report, session)?,
    }
    if !wrong.is_empty() {
        return Ok(Exit::Partial);
    }
    Ok(if args.labels { exit_of_labels(&audits, &tables, fail_on) } else { exit(&audits, &of_host, fail_on) })
}

/// Says where what runs has not got what is configured yet.
fn tell_stale(site: &Arc<Site>, looked: &HostView, session: &mut Session<'_>) {
    let services = looked.services();
    for whom in [Whom::Php, Whom::Web] {
        let subject = Subject::of_site(&whom, site, &looked.host, &looked.accounts, services);
        if let Some(stale) = subject.and_then(|subject| subject.stale) {
            session.terminal.warn(&format!("{}: {stale}; this audit judges what is then", site.name));
        }
    }
}

/// Puts an audit of the whole host on record; the answer is what is new since the last one.
fn record<'a>(
    ledger: &mut Ledger,
    audits: &'a [Audit],
    of_host: &[HostFinding],
    wrong: &[Wrong],
) -> Result<Vec<News>, Failure> {
    let found = recorded(audits, of_host);
    let before = ledger.last_found()?.unwrap_or_default();
    // Of what could not be looked at nothing is gone.
    let (whole, in_part): (Vec<&Audit>, Vec<&Audit>) = audits.iter().partition(|audit| audit.is_complete());
    let name = |audit: &&'a Audit| audit.site.name.as_str();
    let not_judged: Vec<&str> = wrong.iter().map(|wrong| &*wrong.site).chain(in_part.iter().map(name)).collect();
    let news = news(&before, &found, &not_judged);
    let of = |severity: Severity| output::count(found.iter().filter(|one| one.severity == severity.word()).count());
    let complete = not_judged.is_empty();
    let findings = [of(Severity::High), of(Severity::Medium), of(Severity::Low)];
    let judged: Vec<&str> = whole.iter().map(name).collect();
    let taken = jiff::Timestamp::now();
    ledger.record_audit(&AuditRecord { taken, complete, findings }, &found, &judged, complete)?;
    Ok(news)
}

/// The labels of a site's paths; none where the host does not use SELinux.
fn labels_of(
    site: &Arc<Site>,
    phase: Phase,
    each: bool,
    looked: &HostView,
    session: &Session<'_>,
) -> Result<Vec<LabelLine>, Failure> {
    if !looked.labels.are_managed() {
        return Ok(Vec::new());
    }
    let lines = watched(session.terminal.quiet, "looking at", |progress| {
        table(&looked.host, &looked.labels, site, phase, (each, threads()), progress)
    });
    Ok(lines?)
}

/// Tells what is no longer as Ambrik left it.
fn tell_drift(args: &AuditArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let Sites { chosen: sites, wrong, .. } = session.sites(&args.names, &looked)?;
    session.terminal.report_wrong(&wrong);
    let Some(ledger) = session.records()?.readable()?.ledger else {
        return Err(Failure::usage("nothing is on record yet: Ambrik has changed nothing here"));
    };
    let mut found = Vec::new();
    for site in &sites {
        found.push((&*site.name, drift(&ledger, &looked.host, site)?));
    }
    let nothing = found.iter().all(|(_, paths)| paths.is_empty());
    let report = DriftReport { sites: &found, accounts: &looked.accounts };
    match &args.to {
        Some(file) => write_to(file, &report, session)?,
        None if nothing && session.terminal.quiet => {}
        None => session.terminal.write(&report)?,
    }
    Ok(match (wrong.is_empty(), nothing) {
        (false, _) => Exit::Partial,
        (true, true) => Exit::Clean,
        (true, false) => Exit::Findings,
    })
}

/// Tells what is new; its severity decides the exit code.
fn tell_news(
    (to, fail_on): (Option<&Path>, FailOn),
    (audits, of_host, wrong): (&[Audit], &[HostFinding], &[Wrong]),
    records: Records,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let mut ledger = match records.readable()?.ledger {
        Some(ledger) => ledger,
        None => Ledger::open_or_create(&session.state()?)?,
    };
    // What is gone is news as well, and no reason for another exit code.
    session.terminal.release(Exit::Findings)?;
    let since = ledger.audits()?.last().map(|record| record.taken);
    let found = record(&mut ledger, audits, of_host, wrong)?;
    super::logged::tell_news(&found, session);
    let report = NewsReport { host: &session.host_name(), since, news: &found };
    match to {
        None => session.terminal.write(&report)?,
        Some(file) => write_to(file, &report, session)?,
    }
    if !wrong.is_empty() || audits.iter().any(|audit| !audit.is_complete()) {
        return Ok(Exit::Partial);
    }
    let counts = |news: &News| {
        let here = news.how != HowNew::Gone;
        here && fail_on.severity().is_some_and(|limit| severity_of(&news.finding.severity) >= Some(limit))
    };
    Ok(if found.iter().any(counts) { Exit::Findings } else { Exit::Clean })
}

fn severity_of(word: &str) -> Option<Severity> {
    [Severity::Low, Severity::Medium, Severity::High].into_iter().find(|severity| severity.word() == word)
}

pub(super) fn write_to(file: &Path, report: &dyn Report, session: &Session<'_>) -> Result<(), Failure> {
    session.terminal.write_to(file, report).map_err(|error| {
        let what =
            format!("cannot write the report to {}: {}; what was there is there still", Shown(file), cause(&error));
        Failure::io(&what, &error)
    })
}

/// As labels are: what else is wrong a plain audit tells.
fn exit_of_labels(audits: &[Audit], tables: &[Vec<LabelLine>], fail_on: FailOn) -> Exit {
    let sound = |line: &LabelLine| line.right && line.is_kept();
    match (audits.iter().all(Audit::is_complete), tables.iter().flatten().all(sound) || fail_on == FailOn::Never) {
        (false, _) => Exit::Partial,
        (true, false) => Exit::Findings,
        (true, true) => Exit::Clean,
    }
}

/// How long something may take.
pub(super) fn within(text: &str) -> Result<Duration, Failure> {
    let duration: Option<Duration> = text.parse::<jiff::SignedDuration>().ok().and_then(|d| d.try_into().ok());
    duration
        .filter(|duration| !duration.is_zero())
        .ok_or_else(|| Failure::usage(format!("--within {text}: write a duration, such as 30s or 2m")))
}

/// Adds what a visitor gets and should not.
pub(crate) fn ask_over_http(
    audit: Audit,
    looked: &HostView,
    longest: Duration,
    session: &mut Session<'_>,
) -> Result<Audit, Failure> {
    let asked = over_http::ask(&looked.host, &audit, looked.services(), longest)
        .map_err(|error| Failure::usage(error.to_string()))?;
    let name = audit.site.name.clone();
    for why in &asked.unanswered {
        session.terminal.warn(&format!("{name}: could not be asked: {why}"));
    }
    let addresses = output::counted(output::count(asked.addresses), "address", "addresses");
    session.terminal.detail(&format!("{name}: {addresses} asked for over HTTP"));
    Ok(audit.with_asked(asked, jiff::Zoned::now().date()))
}

/// Says which exceptions are over, and which cover nothing; only a whole audit knows.
fn tell_accepts(session: &mut Session<'_>, audit: &Audit) {
    let name = &audit.site.name;
    let today = jiff::Zoned::now().date();
    for accept in audit.site.accepts.iter().filter(|accept| !accept.holds_on(today)) {
        let until = accept.until.map(|day| day.to_string()).unwrap_or_default();
        session.terminal.say(&format!(
            "{name}: the exception for {} in {} ended on {until}: what it covered counts again",
            accept.check,
            Shown(&audit.site.relative(&Path::new("/").join(accept.pattern.text())))
        ));
    }
    for accept in audit.idle_accepts().filter(|accept| accept.holds_on(today)) {
        session.terminal.say(&format!(
            "{name}: the exception for {} in {} covers nothing now: if nothing of it comes back, take it out of the site file",
            accept.check,
            Shown(&audit.site.relative(&Path::new("/").join(accept.pattern.text())))
        ));
    }
}

/// What is worth knowing about the audit itself.
pub(crate) fn tell(session: &mut Session<'_>, audit: &Audit) {
    let name = &audit.site.name;
    for ambrik_core::site::Detected { key, user, because } in &audit.site.detected {
        session.terminal.say(&format!("{name}: {key} is left out of the site file; found {user} ({because})"));
    }
    for part in &audit.site.parts {
        if let Some(other) = &part.other {
            let path = ambrik_core::shown::Shown(std::path::Path::new(&part.shown));
            session.terminal.say(&format!(
                "{name}: {path} is of site {}, which its own site file describes: left to that",
                other.name
            ));
        }
    }
    if let Some(real) = &audit.seen.real_root {
        session.terminal.say(&format!(
            "{name}: root {} leads through a symlink to {}",
            audit.site.root.display(),
            real.display()
        ));
    }
    for mount in &audit.seen.mounts {
        session.terminal.say(&format!(
            "{name}: another file system begins at {}; only what parts name there is looked at",
            ambrik_core::shown::Shown(mount)
        ));
    }
    if audit.seen.not_opened > 0 {
        let files = output::counted(audit.seen.not_opened, "short PHP file", "short PHP files");
        session
            .terminal
            .say(&format!("{name}: {files} deep in this large tree were not opened to look for PHP information pages"));
    }
    if audit.seen.vanished > 0 {
        session
            .terminal
            .say(&format!("{name}: {} went away during the run and were skipped", output::paths(audit.seen.vanished)));
    }
}

/// The exit code of an audit that found this.
pub(crate) fn exit(audits: &[Audit], of_host: &[HostFinding], fail_on: FailOn) -> Exit {
    if audits.iter().any(|audit| !audit.is_complete()) {
        return Exit::Partial;
    }
    let of_host = of_host.iter().filter(|finding| finding.accepted.is_empty()).map(|finding| finding.check.severity);
    let worst = audits.iter().filter_map(Audit::worst).chain(of_host).max();
    match (worst, fail_on.severity()) {
        (Some(worst), Some(limit)) if worst >= limit => Exit::Findings,
        _ => Exit::Clean,
    }
}
