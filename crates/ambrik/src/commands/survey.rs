//! `survey`: looks at a deployed tree and drafts its site file.

use std::io::{IsTerminal as _, Write as _};
use std::os::fd::AsFd as _;
use std::path::{Path, PathBuf};

use ambrik_core::nested::Ground;
use ambrik_core::shown::Shown;
use ambrik_core::site::{EditError, is_name};
use ambrik_core::survey::watch::{WatchError, Watched, watch};
use ambrik_core::survey::{Said, Survey, survey};

use crate::ask::can_ask;
use crate::failure::{Exit, Failure};
use crate::output::{self, report::SurveyReport};
use crate::progress::watched;
use crate::session::{HostView, Session};

/// Draft a site file for a deployed tree, each line with its reason
///
/// Looks at names, placeholders, PHP code, ignore files, documents, samples and installers, and at what runs here. On
/// a terminal it lists what it proposes; into a pipe or file it writes the draft. What is uncertain is drafted
/// commented out, with the question to answer. Changes nothing but the draft that --save writes.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik survey /srv/www/berths\n  ambrik survey /srv/www/berths --save --ask")]
pub(crate) struct SurveyArgs {
    /// The application's folder
    #[arg(value_name = "DIR")]
    dir: PathBuf,
    /// Put the draft into the sites directory, under this name or the folder's
    #[arg(long, value_name = "NAME", num_args = 0..=1, default_missing_value = "", group = "kept")]
    save: Option<String>,
    /// Put what other sites of the same application have too into an outline of this name; print it with --draft
    #[arg(long, value_name = "NAME", group = "kept")]
    as_outline: Option<String>,
    /// Replace a site file, or outline, of that name
    #[arg(long, requires = "kept")]
    replace: bool,
    /// Ask what is uncertain at once, on a terminal, and write the answers into the draft
    #[arg(long)]
    ask: bool,
    /// First watch for so long what PHP writes while the application is used (as root); Enter ends it
    #[arg(long, value_name = "TIME", value_parser = time)]
    watch: Option<std::time::Duration>,
    /// Print the draft itself, on a terminal too
    #[arg(long, conflicts_with = "save")]
    draft: bool,
}

pub(crate) fn run(args: &SurveyArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let dir = session.on_host(&args.dir)?;
    let services = looked.services();
    let others = session.grounds(&looked);
    let survey = |of: Option<&Watched>, quiet: bool| {
        watched(quiet, "looking at", |progress| {
            survey(&looked.host, &looked.accounts, services, &dir, &others, of, progress)
        })
    };
    let mut found = survey(None, session.terminal.quiet)?;
    if let Some(time) = args.watch {
        let seen = watch_php(time, &found, &looked, session)?;
        found = survey(Some(&seen), session.terminal.quiet)?;
        tell_watched(session, &seen, &found);
    }
    tell(session, &found);
    if args.ask {
        ask(&mut found, session)?;
    }
    if let Some(name) = &args.as_outline {
        outline(&found, name, args, session)?;
        return Ok(if found.unseen.is_empty() { Exit::Clean } else { Exit::Partial });
    }
    let mut saved = None;
    if let Some(name) = &args.save {
        let name = if name.is_empty() { default_name(&found)? } else { name.clone() };
        save(&found, &name, args.replace, &looked, &others, session)?;
        saved = Some(name);
    }
    let draft = args.save.is_none() && (args.draft || !std::io::stdout().is_terminal());
    session.terminal.write(&SurveyReport { found: &found, saved: saved.as_deref(), draft })?;
    Ok(if found.unseen.is_empty() { Exit::Clean } else { Exit::Partial })
}

fn tell(session: &mut Session<'_>, found: &Survey) {
    for path in found.unseen.iter().take(10) {
        session.terminal.warn(&format!("{}: cannot be looked at, so nothing is known of it; run as root", Shown(path)));
    }
}

/// Asks the draft's questions, one after the other.
pub(super) fn ask(found: &mut Survey, session: &mut Session<'_>) -> Result<(), Failure> {
    if !can_ask() {
        return Err(Failure::usage("--ask: there is no terminal to ask on; answer in the draft itself"));
    }
    let many = found.questions.len();
    let mut answers = Vec::new();
    for (number, question) in found.questions.iter().enumerate() {
        let part = &question.part;
        session.terminal.say(&format!(
            "{} of {many}: {} as {}: {}",
            number + 1,
            Shown(&part.path),
            part.used_as,
            question.asks
        ));
        for reason in &part.because {
            session.terminal.say(&format!("    {}: {}", reason.says, reason.seen));
        }
        match answer(session, "yes, no or later? [y/n/L] ")? {
            Some(said) => answers.push(said),
            None => break,
        }
    }
    found.answer(&answers);
    Ok(())
}

/// One answer; nothing where there are no more.
fn answer(session: &mut Session<'_>, question: &str) -> Result<Option<Said>, Failure> {
    Ok(crate::ask::line(session, question)?.map(|line| match line.as_str() {
        "y" | "yes" => Said::Yes,
        "n" | "no" => Said::No,
        _ => Said::Later,
    }))
}

/// The longest that is watched.
const LONGEST: jiff::SignedDuration = jiff::SignedDuration::from_hours(24);

fn time(text: &str) -> Result<std::time::Duration, String> {
    let right = "say for how long, as in 10m or 1h30m, up to 24h";
    let time: jiff::SignedDuration = text.parse().map_err(|_| right.to_owned())?;
    if time <= jiff::SignedDuration::ZERO || time > LONGEST {
        return Err(right.into());
    }
    std::time::Duration::try_from(time).map_err(|_| right.into())
}

/// Watches what PHP writes, until the time is over or Enter is pressed.
fn watch_php(
    time: std::time::Duration,
    found: &Survey,
    looked: &HostView,
    session: &mut Session<'_>,
) -> Result<Watched, Failure> {
    if !looked.host.is_this() {
        return Err(Failure::usage("--watch is for this host: under --host nothing runs"));
    }
    let php = found.php.as_ref().map_err(|_| {
        Failure::usage(
            "--watch: who PHP runs as is not known here, so what it writes cannot be told from what others do",
        )
    })?;
    let mut places = vec![found.root.clone(), "/var".into(), "/tmp".into()];
    places.extend(found.parts.iter().map(|part| found.root.join(&part.path)));
    let terminal = std::io::stdin().is_terminal();
    let end = if terminal { ", or until Enter is pressed" } else { "" };
    session.terminal.say(&format!(
        "watching what PHP ({}) writes for {} s{end}: use the application now",
        php.account.user,
        time.as_secs()
    ));
    let stdin = std::io::stdin();
    let seen = watch(php.account.ids.uid, &places, time, terminal.then(|| stdin.as_fd()), || false);
    seen.map_err(|error| match error {
        WatchError::Privilege => Failure::privilege(&error.to_string()),
        WatchError::Failed(_) => Failure::usage(error.to_string()),
    })
}

fn tell_watched(session: &mut Session<'_>, seen: &Watched, found: &Survey) {
    let files = output::counted(output::count(seen.files.len()), "file", "files");
    session.terminal.say(&format!(
        "{} of PHP's in {} s, to {files}",
        output::counted(seen.writes, "write", "writes"),
        seen.time.as_secs()
    ));
    if seen.missed {
        session.terminal.warn("there were more writes than the kernel kept: some are not in this");
    }
    for place in &seen.unwatched {
        session.terminal.warn(&format!("{}: what is written there cannot be watched", Shown(place)));
    }
    for path in found.never_written.iter().flatten() {
        session.terminal.say(&format!("{}: drafted, and not written in that time", Shown(path)));
    }
}

/// Names that say what a folder is to its site, and not which site it is.
const NO_SITES: &[&str] = &["current", "live", "htdocs", "httpdocs", "public_html"];

/// The root's own name, or that of the folder around it, as far as a site may be called so.
pub(super) fn default_name(found: &Survey) -> Result<String, Failure> {
    let names = found.root.ancestors().filter_map(|path| path.file_name()).map(|name| name.to_string_lossy());
    let name = names.into_iter().find(|name| !NO_SITES.contains(&&**name)).unwrap_or_default().into_owned();
    let plain = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-') { c } else { '-' };
    let name: String = name.chars().map(plain).collect();
    let name = name.trim_start_matches(['.', '-']).to_owned();
    if name.is_empty() { Err(Failure::usage("the folder has no name: give one with --save NAME")) } else { Ok(name) }
}

/// Saves the draft as an outline, or prints it.
fn outline(found: &Survey, name: &str, args: &SurveyArgs, session: &mut Session<'_>) -> Result<(), Failure> {
    if !is_name(name) {
        return Err(Failure::usage(format!("--as-outline {name}: this cannot be an outline's name; {NAMES}")));
    }
    if args.draft {
        return Ok(write!(session.terminal.out(), "{}", found.outline())?);
    }
    let file = session.beside("outlines").join(format!("{name}.toml"));
    write_new(&file, &found.outline(), args.replace, session)?;
    session
        .terminal
        .say(&format!("saved as {}; a site file goes by it with outline = \"{name}\" in [site]", Shown(&file)));
    Ok(())
}

/// What names are like.
const NAMES: &str = "use letters, digits, \".\", \"_\" and \"-\", beginning with a letter or digit";

fn write_new(file: &Path, text: &str, replace: bool, session: &Session<'_>) -> Result<(), Failure> {
    ambrik_core::site::save(&session.place(file)?, text, replace).map_err(|error| match error {
        EditError::Exists(_) => {
            Failure::usage(format!("{error}; replace it with --replace, or save under another name"))
        }
        error => Failure::from(error),
    })
}

/// Saves the draft under a name in the sites directory.
pub(super) fn save(
    found: &Survey,
    name: &str,
    replace: bool,
    looked: &HostView,
    others: &[Ground],
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    if !is_name(name) {
        return Err(Failure::usage(format!("--save {name}: this cannot be a site's name; {NAMES}")));
    }
    let file = session.site_file(name);
    if let Some(other) = others.iter().find(|other| other.file() != file && other.is_at(&looked.host, &found.root)) {
        return Err(Failure::usage(format!(
            "{} describes {} already, and two site files cannot have one root: replace it with --save {} --replace, or \
             print the draft without --save",
            Shown(other.file()),
            Shown(&found.root),
            other.name()
        )));
    }
    let file = session.site_file(name);
    write_new(&file, &found.draft(), replace, session)?;
    session.terminal.say(&format!("saved as {}", Shown(&file)));
    Ok(())
}
