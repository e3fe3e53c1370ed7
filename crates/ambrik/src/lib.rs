//! The command-line tool: it parses, asks, sees that things are done in order, and prints; what is computed is in `ambrik_core`.

mod args;
mod ask;
mod commands;
mod completing;
mod demo;
mod failure;
mod options;
mod output;
mod pasted;
mod plain;
mod progress;
mod records;
mod session;
mod sites;
mod system_log;
mod terminal;

use std::cell::Cell;
use std::ffi::OsString;
use std::io::{self, Write};

use clap::builder::Resettable;
use clap::{CommandFactory as _, FromArgMatches as _};

use args::Cli;
use commands::on_hosts::OnHosts;
pub use failure::Exit;
use failure::Failure;
use session::Session;

/// The options that name Ambrik's folders, and the environment variables that do where they may.
const FOLDERS: [(&str, &str); 2] = [("sites", "AMBRIK_SITES"), ("state", "AMBRIK_STATE")];

/// Whether the program has rights that its caller does not have: by a set-id bit or capabilities of its file (`AT_SECURE`,
/// getauxval(3)), or by sudo. The environment is then the caller's, and decides nothing.
pub(crate) fn lends_rights() -> bool {
    let secure = || {
        // Pairs of words as wide as a pointer, native order; the number of AT_SECURE is 23.
        let words = std::fs::read("/proc/self/auxv").unwrap_or_default();
        let word = |bytes: &[u8]| bytes.try_into().map_or(0, usize::from_ne_bytes);
        let mut pairs = words.chunks_exact(2 * size_of::<usize>()).map(|pair| pair.split_at(size_of::<usize>()));
        pairs.any(|(key, value)| word(key) == 23 && word(value) != 0)
    };
    let process = rustix::process::geteuid() != rustix::process::getuid()
        || rustix::process::getegid() != rustix::process::getgid();
    process || secure() || std::env::var_os("SUDO_UID").is_some_and(|uid| uid != "0")
}

/// Where a shell asks what could be typed next it is answered, and the process ends.
pub fn answer_shell() {
    if !lends_rights() {
        completing::answer(Cli::command);
    }
}

/// Runs the tool with these arguments (the program's name first). Data goes to `out`, talk to `err`.
pub fn run(args: impl IntoIterator<Item = OsString>, out: &mut dyn Write, err: &mut dyn Write) -> Exit {
    let lent = lends_rights();
    let mut command = Cli::command();
    if lent {
        for (id, _) in FOLDERS {
            command = command.mut_arg(id, |arg| arg.env(Resettable::<clap::builder::OsStr>::Reset));
        }
    }
    pasted::know(command.get_subcommands().map(|sub| sub.get_name().to_owned()).collect());
    let args: Vec<OsString> = args.into_iter().collect();
    let for_a_program = args.windows(2).any(|two| two[0] == "--format" && two[1] == "json")
        || args.iter().any(|word| word == "--format=json");
    let parsed =
        command.try_get_matches_from(&args).and_then(|matches| Ok((Cli::from_arg_matches(&matches)?, matches)));
    let (cli, matches) = match parsed {
        Ok(parsed) => parsed,
        Err(error) => {
            let help = !error.use_stderr();
            let to: &mut dyn Write = if help { out } else { err };
            // Where even that cannot be written there is nobody to tell.
            let _ = write!(to, "{}", error.render());
            if for_a_program && !help {
                let said = error.render().to_string();
                let says = said.split("\n\n").next().unwrap_or_default().trim_start_matches("error: ");
                let _ = writeln!(out, "{:#}", Failure::usage(says.trim()).document());
            }
            return if help { Exit::Clean } else { Exit::Usage };
        }
    };
    plain::decide(cli.global.plain);
    let wrote = Cell::new(false);
    let mut out = UntilClosed { to: out, closed: false, wrote: &wrote };
    let mut session = Session::new(&cli.global, &mut out, err);
    for (id, name) in FOLDERS.iter().filter(|(_, name)| lent && std::env::var_os(name).is_some()) {
        session
            .terminal
            .warn(&format!("{name} is not followed where somebody else's rights are used (sudo, set-uid); use --{id}"));
    }
    // What commands call so means the same with all of them.
    let says = |id: &str| {
        let of_command = matches.subcommand().and_then(|(_, command)| command.try_get_one::<bool>(id).ok().flatten());
        of_command.is_some_and(|says| *says)
    };
    let (yes, preview) = (says("yes"), says("preview"));
    let hosts = OnHosts { options: &cli.global.hosts, format: cli.global.format, words: &args, yes, preview };
    let exit = match commands::run(cli.command, Cli::command, &hosts, &mut session) {
        Ok(exit) => exit,
        Err(failure) => {
            // A program that waits for a document gets one.
            if session.terminal.is_json() && !wrote.get() {
                let _ = session.terminal.report_document(&failure);
            }
            session.terminal.report(&failure)
        }
    };
    match session.terminal.release(exit) {
        Ok(()) => exit,
        Err(error) => session.terminal.report(&error.into()),
    }
}

/// Where results go, until whoever reads them goes away: what is done goes on, and its exit code is what it is.
struct UntilClosed<'o> {
    to: &'o mut dyn Write,
    closed: bool,
    /// Whether anything came.
    wrote: &'o Cell<bool>,
}

impl UntilClosed<'_> {
    fn unless_closed<T>(&mut self, instead: T, write: impl FnOnce(&mut dyn Write) -> io::Result<T>) -> io::Result<T> {
        if self.closed {
            return Ok(instead);
        }
        match write(self.to) {
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => {
                self.closed = true;
                Ok(instead)
            }
            done => done,
        }
    }
}

impl Write for UntilClosed<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.wrote.set(true);
        self.unless_closed(bytes.len(), |to| to.write(bytes))
    }

    fn flush(&mut self) -> io::Result<()> {
        self.unless_closed((), |to| to.flush())
    }
}
