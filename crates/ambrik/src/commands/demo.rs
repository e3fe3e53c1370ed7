//! `demo`: builds the demo host and runs a whole deployment on it.

use std::ffi::OsString;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use anstyle::Style;

use crate::failure::{Exit, Failure};
use crate::session::Session;

/// Build a made-up host in a folder and run a whole deployment on it
///
/// Every command line is printed before its output; the folder stays, so that they can be tried again by hand.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik demo\n  ambrik demo /tmp/quay-1 --build-only")]
pub(crate) struct DemoArgs {
    /// Folder to build it in, empty or not there yet [default: a new one for temporary files]
    #[arg(value_name = "DIR")]
    folder: Option<PathBuf>,
    /// Only build the host, and run nothing on it
    #[arg(long)]
    build_only: bool,
}

/// The steps: what they show, and the command line.
const STEPS: &[(&str, &[&str])] = &[
    ("Who PHP and the web server run as here, from processes and from configuration.", &["accounts"]),
    (
        "What a tree needs, drafted with reasons. (--save puts it into the sites directory.)",
        &["survey", "/srv/www/berths"],
    ),
    (
        "Three sites, looked at: one just unpacked, one that drifted, one nearly right.",
        &["audit", "berths", "tidewatch", "notices"],
    ),
    (
        "Why PHP cannot write what it should, step by step, and the smallest change that helps.",
        &["why", "/srv/www/tidewatch/data/lock"],
    ),
    ("And what an intruder in PHP could change.", &["why", "--writable", "berths"]),
    (
        "The first one is opened for its installer, and all else put right: recorded, changed, read back.",
        &["open", "berths", "--for", "45m", "--yes"],
    ),
    (
        "The installer was run. Left-overs go into a keepsake; then PHP's own account tries what it can.",
        &["seal", "berths", "--yes"],
    ),
    ("The settings are closed to PHP now: refused, and rightly.", &["why", "/srv/www/berths/config/settings.php"]),
    (
        "The logs lie where the web server serves: they move out, and the site file says so.",
        &["move", "berths", "var/log", "/var/log/berths", "--yes"],
    ),
    ("The other two at once.", &["set", "tidewatch", "notices", "--yes"]),
    ("Looked at again: what remains is for people to decide.", &["audit", "berths", "tidewatch", "notices"]),
    ("The files of the host themselves: what is wrong in them, or doubtful.", &["proofread"]),
    ("All fifteen sites. Twelve go by one outline, and lack the same thing.", &["audit"]),
    ("It is put right at once; with --quiet nothing is printed where all was done.", &["set", "--yes", "--quiet"]),
    ("Everything that was changed is on record …", &["history"]),
    ("… and can be taken back, removed files included.", &["undo", "2", "--yes"]),
    ("The installer is back, and with it the finding.", &["audit", "berths"]),
];

/// The steps on the other host's disk.
const OTHER_STEPS: &[(&str, &[&str])] = &[
    (
        "A disk of another host, where SELinux enforces: modes are right, and labels keep PHP out.",
        &["audit", "--labels"],
    ),
    ("Each part is labelled by its use, asked of that host's kernel.", &["set", "--yes"]),
];

pub(crate) fn run(args: &DemoArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let folder = match &args.folder {
        Some(folder) => folder.clone(),
        None => std::env::temp_dir().join(format!("ambrik-demo-{}", std::process::id())),
    };
    let shown = folder.display().to_string();
    if std::fs::read_dir(&folder).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(Failure::usage(format!("{shown} is not empty; name a folder that is, or that does not exist yet")));
    }
    let failed = |cause| Failure::usage(format!("cannot build the demo host in {shown}: {cause}"));
    let files = crate::demo::build(&folder).map_err(failed)?;
    session.terminal.line(&format!(
        "The host quay-1 of the Saltmarsh Harbour Trust, {} files, in {shown}",
        crate::output::number(crate::output::count(files))
    ))?;
    if args.build_only {
        return Ok(Exit::Clean);
    }
    if !rustix::process::geteuid().is_root() {
        session
            .terminal
            .line("You are not root: changes of owner will be refused and listed; everything else is real.")?;
    }
    for (what, words) in STEPS {
        step(session, &folder, what, words)?;
    }
    let other = folder.join(crate::demo::OTHER_HOST);
    for (what, words) in OTHER_STEPS {
        step(session, &other, what, words)?;
    }
    session.terminal.line(&format!("\nTry more of it:  ambrik --host {shown} audit tidewatch --each"))?;
    Ok(Exit::Clean)
}

fn step(session: &mut Session<'_>, folder: &Path, what: &str, words: &[&str]) -> Result<(), Failure> {
    let bold = Style::new().bold();
    let faint = Style::new().dimmed();
    {
        let mut out = session.terminal.out();
        writeln!(out, "\n{faint}# {what}{faint:#}")?;
        writeln!(out, "{bold}$ ambrik --host {} {}{bold:#}", folder.display(), words.join(" "))?;
    }
    let mut line: Vec<OsString> = vec!["ambrik".into(), "--host".into(), folder.into()];
    line.extend(session.terminal.color_arguments());
    line.extend(words.iter().map(Into::into));
    session.terminal.run_again(line);
    Ok(())
}
