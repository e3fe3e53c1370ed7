//! `survey`: looks at a deployed tree and drafts its site file.

use std::io::IsTerminal as _;
use std::path::PathBuf;

use ambrik_core::nested::Ground;
use ambrik_core::shown::Shown;
use ambrik_core::site::EditError;
use ambrik_core::survey::{Survey, survey};

use crate::args::Format;
use crate::failure::{Exit, Failure};
use crate::output;
use crate::progress::watched;
use crate::session::{Looked, Session};

/// Draft a site file for a deployed tree, each line with its reason
///
/// Looks at names, placeholders, PHP code, ignore files, documents, samples and installers, and at what runs here. On
/// a terminal it lists what it proposes; into a pipe or file it writes the draft. What is uncertain is drafted
/// commented out, with the question to answer. Changes nothing but the draft that --save writes.
#[derive(Debug, clap::Args)]
pub(crate) struct SurveyArgs {
    /// The application's folder
    #[arg(value_name = "DIR")]
    dir: PathBuf,
    /// Put the draft into the sites directory, under this name or the folder's
    #[arg(long, value_name = "NAME", num_args = 0..=1, default_missing_value = "")]
    save: Option<String>,
    /// Replace a site file of that name
    #[arg(long, requires = "save")]
    replace: bool,
    /// Print the draft itself, on a terminal too
    #[arg(long, conflicts_with = "save")]
    draft: bool,
}

pub(crate) fn run(args: &SurveyArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let dir = session.on_host(&args.dir)?;
    let services = looked.services();
    let others = session.grounds(&looked);
    let found = watched(session.quiet, "looking at", |progress| {
        survey(&looked.host, &looked.accounts, services, &dir, &others, progress)
    })?;
    tell(session, &found);
    let mut saved = None;
    if let Some(name) = &args.save {
        let name = if name.is_empty() { default_name(&found)? } else { name.clone() };
        save(&found, &name, args.replace, &looked, &others, session)?;
        saved = Some(name);
    }
    match session.format {
        Format::Json => output::json_survey::survey(&found, session.raw_out())?,
        Format::Text if args.save.is_none() && (args.draft || !std::io::stdout().is_terminal()) => {
            write!(session.raw_out(), "{}", found.draft())?;
        }
        Format::Text => output::survey_text::render(&found, saved.as_deref(), &mut session.out())?,
    }
    Ok(if found.unseen.is_empty() { Exit::Clean } else { Exit::Partial })
}

fn tell(session: &mut Session<'_>, found: &Survey) {
    for path in found.unseen.iter().take(10) {
        session.warn(&format!("{}: cannot be looked at, so nothing is known of it; run as root", Shown(path)));
    }
}

/// Names that say what a folder is to its site, and not which site it is.
const NO_SITES: &[&str] = &["current", "live", "htdocs", "httpdocs", "public_html"];

/// The root's own name, or that of the folder around it, as far as a site may be called so.
fn default_name(found: &Survey) -> Result<String, Failure> {
    let names = found.root.ancestors().filter_map(|path| path.file_name()).map(|name| name.to_string_lossy());
    let name = names.into_iter().find(|name| !NO_SITES.contains(&&**name)).unwrap_or_default().into_owned();
    let plain = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-') { c } else { '-' };
    let name: String = name.chars().map(plain).collect();
    let name = name.trim_start_matches(['.', '-']).to_owned();
    if name.is_empty() { Err(Failure::usage("the folder has no name: give one with --save NAME")) } else { Ok(name) }
}

fn save(
    found: &Survey,
    name: &str,
    replace: bool,
    looked: &Looked,
    others: &[Ground],
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-');
    if !name.chars().all(plain) || name.starts_with(['.', '-']) || name.len() > 100 {
        let right = "use letters, digits, \".\", \"_\" and \"-\", beginning with a letter or digit";
        return Err(Failure::usage(format!("--save {name}: this cannot be a site's name; {right}")));
    }
    let file = session.site_file(name);
    if let Some(other) = others.iter().find(|other| other.file() != file && other.is_at(&looked.host, &found.root)) {
        return Err(Failure::usage(format!(
            "{} describes {} already, and two site files of one root are none: replace it with --save {} --replace, or \
             print the draft without --save",
            Shown(other.file()),
            Shown(&found.root),
            other.name()
        )));
    }
    let file = session.site_file(name);
    ambrik_core::site::save(&session.place(&file)?, &found.draft(), replace).map_err(|error| match error {
        EditError::Exists(_) => {
            Failure::usage(format!("{error}; replace it with --replace, or save under another name"))
        }
        error => Failure::from(error),
    })?;
    session.say(&format!("saved as {}", Shown(&file)));
    Ok(())
}
