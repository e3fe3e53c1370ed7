//! `unpack`: lays an application's archive down.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ambrik_core::archive::{Archive, ArchiveLook, Limits, look};
use ambrik_core::change::{
    ChangeContext, Ledger, UnpackPlan, UnpackSetting, check_places, finish_unpack, free_for, plan_unpack, unpack,
};
use ambrik_core::shown::{Shown, shell_word};
use ambrik_core::site::Site;
use ambrik_core::survey::survey_archive;

use super::audit::{again, tell};
use super::pages::{Watch, settle};
use crate::ask::{can_ask, go_on};
use crate::failure::{Exit, Failure};
use crate::output::{
    self,
    report::{SurveyReport, UnpackReport},
    unpack_text,
};
use crate::progress::watched;
use crate::session::{HostView, Session, threads};
use crate::sites::Sites;

/// Lay an application's archive down with its final owners and modes; over an older version, upgrade it
///
/// The archive is looked at whole before anything is written, and refused where it would write anywhere else. What is in
/// data and settings stays, what is replaced or removed is kept, and `ambrik undo` brings the old version back.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  ambrik unpack berths-1.4.tar.gz --into /srv/www/berths --preview\n  ambrik unpack berths-1.5.tar.gz berths"
)]
pub(crate) struct UnpackArgs {
    /// The archive: zip, or tar packed with gzip, bzip2, xz, zstd or not at all; - for standard input
    #[arg(value_name = "ARCHIVE")]
    archive: PathBuf,
    /// Name of a site, or path of a site file
    #[arg(value_name = "SITE")]
    name: Option<PathBuf>,
    /// Where no site file is: draft one from what is in the archive, for this root, and lay it down by that
    #[arg(long, value_name = "DIR", conflicts_with = "name")]
    into: Option<PathBuf>,
    /// The name of the drafted site file, instead of the root's
    #[arg(long, value_name = "NAME", requires = "into")]
    save: Option<String>,
    /// Ask what is uncertain in the draft, on a terminal
    #[arg(long, requires = "into")]
    ask: bool,
    /// The folder of the archive that holds the application, where that is not plain
    #[arg(long, value_name = "PATH")]
    inner: Option<PathBuf>,
    /// Remove what the version before brought and this one has no more
    #[arg(long)]
    tidy: bool,
    /// Take it back at once where a page of the site worked before it and does not after it
    #[arg(long)]
    or_undo: bool,
    /// Only show what is in the archive and what would be done; needs no privilege
    #[arg(short = 'n', long, conflicts_with = "yes")]
    preview: bool,
    /// Do not ask
    #[arg(short = 'y', long)]
    yes: bool,
}

impl UnpackArgs {
    /// The archive, as it was named.
    pub(super) fn archive(&self) -> &Path {
        &self.archive
    }
}

pub(crate) fn run(args: &UnpackArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let archive = if args.archive == Path::new("-") {
        Archive::from_stream(Path::new("standard input"), std::io::stdin().lock())?
    } else {
        Archive::open(&args.archive)?
    };
    match (&args.into, &args.name) {
        (Some(dir), _) => {
            let root = session.on_host(dir)?;
            into(args, &archive, &root, &looked, session)
        }
        (None, Some(name)) => {
            let named = std::slice::from_ref(name);
            let sites =
                if args.preview { session.sites(named, &looked)? } else { session.sites_to_change(named, &looked)? };
            let Some(site) = sites.chosen.first() else { return Ok(Exit::Clean) };
            let served = site.served.as_ref().and_then(|served| Path::new(served.text()).iter().next());
            let served = served.filter(|first| *first != OsStr::new("."));
            let found = looked_at(args, &archive, (&site.name, &site.root), served, &looked, session)?;
            of_site(args, (&archive, &found), &sites, &looked, session, &mut |_| Ok(()))
        }
        (None, None) => Err(Failure::usage(
            "name the site that it is for, or, where there is no site file yet, its root with --into DIR",
        )),
    }
}

/// What is in the archive, looked at as it will be at `root`; refused where any of it must not be unpacked.
fn looked_at(
    args: &UnpackArgs,
    archive: &Archive,
    (name, root): (&str, &Path),
    served: Option<&OsStr>,
    looked: &HostView,
    session: &mut Session<'_>,
) -> Result<ArchiveLook, Failure> {
    let limits = Limits::usual(free_for(&looked.host, root)?);
    let found = watched(session.terminal.quiet, "reading", |_| look(archive, args.inner.as_deref(), served, limits))?;
    if let (true, true, Some(inner)) = (found.entries.is_empty(), found.refused.is_empty(), &args.inner) {
        return Err(Failure::usage(format!("--inner {}: nothing in the archive is in this folder", Shown(inner))));
    }
    if found.refused.is_empty() {
        return Ok(found);
    }
    session.terminal.write(&UnpackReport::refused((name, root), archive, &found))?;
    let them = output::counted(output::count(found.refused.len()), "entry", "entries");
    Err(Failure::usage(format!("{them} of the archive must not be unpacked; nothing was changed")))
}

/// Drafts a site file from what is in the archive, and lays it down by that.
fn into(
    args: &UnpackArgs,
    archive: &Archive,
    root: &Path,
    looked: &HostView,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let found = looked_at(args, archive, (&Shown(root).to_string(), root), None, looked, session)?;
    // Nobody else enters it, and it goes when this ends.
    let private = tempfile::Builder::new().prefix("ambrik-").tempdir_in("/var/tmp");
    let private =
        private.map_err(|error| Failure::io(&format!("cannot make a folder in /var/tmp: {error}"), &error))?;
    let others = session.grounds(looked);
    let mut survey = watched(session.terminal.quiet, "looking at", |progress| {
        let places = (&looked.host, private.path(), root);
        survey_archive((archive, &found), places, (&looked.accounts, looked.services()), &others, progress)
    })?;
    drop(private);
    if args.ask {
        super::survey::ask(&mut survey, session)?;
    }
    if session.terminal.tells() {
        session.terminal.write(&SurveyReport { found: &survey, saved: Some(""), draft: false })?;
    }
    let name = match &args.save {
        Some(name) => name.clone(),
        None => super::survey::default_name(&survey)?,
    };
    let drafted = session.site_of(&survey.draft(), &session.site_file(&name), looked).map_err(|failure| {
        let what = "the site file that was drafted from the archive cannot be used";
        Failure { message: format!("{what}: {}; nothing was changed", failure.message), ..failure }
    })?;
    // Saved once somebody said yes to what it does.
    of_site(args, (archive, &found), &drafted, looked, session, &mut |session| {
        super::survey::save(&survey, &name, false, looked, &others, session)?;
        session.sites_to_change(&[PathBuf::from(&name)], looked).map(|_| ())
    })
}

/// Unpacks for a site; `begin` is what comes between the yes and the first change.
fn of_site(
    args: &UnpackArgs,
    (archive, found): (&Archive, &ArchiveLook),
    sites: &Sites,
    looked: &HostView,
    session: &mut Session<'_>,
    begin: &mut dyn FnMut(&mut Session<'_>) -> Result<(), Failure>,
) -> Result<Exit, Failure> {
    let Some(site) = sites.chosen.first() else { return Ok(Exit::Clean) };
    let accounts = &looked.accounts;
    if args.preview {
        let plan = plan(args, (site, &sites.neighbours), found, looked, session)?;
        session.terminal.write(&UnpackReport::planned(&plan, archive, found, accounts))?;
        return Ok(if plan.is_done() { Exit::Clean } else { Exit::Findings });
    }
    let state = session.state()?;
    let _lock = state.lock(&site.name, &format!("unpack {}", site.name))?;
    let mut plan = plan(args, (site, &sites.neighbours), found, looked, session)?;
    if session.terminal.tells() || plan.is_done() {
        session.terminal.write(&UnpackReport::planned(&plan, archive, found, accounts))?;
    }
    let gone = output::count(plan.gone.len());
    if gone > 0 && !plan.tidy && !args.yes && can_ask() {
        let them = output::counted(gone, "file", "files");
        plan.tidy = go_on(session, false, &format!("Remove {them} that this version has no more (kept)?"))?;
    }
    if plan.is_done() {
        if let Some(mut ledger) = Ledger::open(&state)? {
            finish_unpack(&site.name, &mut ledger, &looked.host)?;
        }
        return Ok(Exit::Clean);
    }
    if let Some((path, _)) = plan.archive.as_ref().filter(|_| !args.yes && can_ask()) {
        let question = format!("Remove the archive {} from the served folder too (kept)?", Shown(path));
        plan.without_archive = go_on(session, false, &question)?;
    }
    if !go_on(session, args.yes, &format!("Unpack it for {}?", site.name))? {
        session.terminal.say(&format!("{}: nothing was changed", site.name));
        return Ok(Exit::Usage);
    }
    begin(session)?;
    let mut ledger = Ledger::open_or_create(&state)?;
    if !plan.is_from_nothing() {
        let now = again(site, &sites.neighbours, looked, session)?;
        check_places(&now, Some(&ledger), false).map_err(ambrik_core::change::ChangeError::from)?;
    }
    let watch = Watch::begin(site, session);
    let outcome = watched(session.terminal.quiet, "unpacking", |progress| {
        let (host, state) = (&looked.host, &state);
        let means = ChangeContext { host, state, threads: threads(), store: None, keep: true, progress };
        unpack(&plan, archive, &mut ledger, &means)
    })?;
    session.terminal.report_failures(&outcome.failures);
    let mut exit = Exit::of(&outcome);
    let broken = watch.end(session);
    let mut taken_back = false;
    if !broken.is_empty() {
        exit = Exit::Partial;
        taken_back = settle(site, outcome.id, args.or_undo, looked, &state, session)?;
    }
    let report = UnpackReport::planned(&plan, archive, found, accounts);
    session.terminal.write(&UnpackReport { outcome: Some((&outcome, taken_back)), ..report })?;
    if exit == Exit::Clean && session.terminal.tells() {
        look_again(site, &plan, looked, session)?;
    }
    if args.archive != Path::new("-") && !plan.without_archive {
        tell_served(&args.archive, sites, looked, session);
    }
    Ok(exit)
}

fn plan(
    args: &UnpackArgs,
    (site, neighbours): (&Arc<Site>, &[Arc<Site>]),
    found: &ArchiveLook,
    looked: &HostView,
    session: &mut Session<'_>,
) -> Result<UnpackPlan, Failure> {
    let records = session.records()?;
    let phase = records.phase_told(&site.name, &mut session.terminal)?.phase;
    let before = records.ledger.as_ref().map(|ledger| ledger.delivered(&site.name)).transpose()?.flatten();
    let (host, accounts, labels) = (&looked.host, &looked.accounts, Some(&looked.labels));
    let place = if args.archive == Path::new("-") { None } else { session.on_host(&args.archive).ok() };
    let (tidy, archive) = (args.tidy, place.as_deref());
    let setting = UnpackSetting { host, accounts, neighbours, labels, phase, before, tidy, archive };
    Ok(plan_unpack(setting, site, found)?)
}

/// What remains to be done is what an audit finds.
fn look_again(
    site: &Arc<Site>,
    plan: &UnpackPlan,
    looked: &HostView,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let Sites { neighbours, .. } = session.known_sites(looked);
    let after = again(site, &neighbours, looked, session)?;
    tell(session, &after);
    Ok(unpack_text::closing(plan, &after, &mut session.terminal.out())?)
}

/// An archive in a folder that a web server serves can be fetched by everybody.
fn tell_served(archive: &Path, sites: &Sites, looked: &HostView, session: &mut Session<'_>) {
    let Ok(place) = session.on_host(archive) else { return };
    let Ok(real) = looked.host.resolve(&place) else { return };
    let all = sites.chosen.iter().chain(&sites.neighbours);
    if let Some(of) = all.into_iter().find(|site| real.path.starts_with(&site.root)) {
        let words = format!(
            "the archive lies in the root of {}: whoever guesses its name may fetch it; remove it: rm {}",
            of.name,
            shell_word(archive.as_os_str())
        );
        session.terminal.warn(&words);
    }
}
