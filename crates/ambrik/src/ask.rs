//! Questions, which are asked on a terminal only.

use std::io::{self, BufRead as _, IsTerminal as _};

use crate::failure::Failure;
use crate::session::Session;

/// Whether there is a terminal to ask on.
pub(crate) fn can_ask() -> bool {
    io::stdin().is_terminal() && io::stderr().is_terminal()
}

/// Whether to go on: `--yes` says so, a terminal is asked, and without either nothing is done.
pub(crate) fn go_on(session: &mut Session<'_>, yes: bool, question: &str) -> Result<bool, Failure> {
    if yes {
        return Ok(true);
    }
    if !can_ask() {
        return Err(Failure::usage(
            "nothing was changed: there is no terminal to ask on; say --yes, or look first with --preview",
        ));
    }
    let answer = line(session, &format!("{question} [y/N] "))?.unwrap_or_default();
    Ok(matches!(answer.as_str(), "y" | "yes"))
}

/// A line that somebody answers with, in lower case; nothing at the end of the input.
pub(crate) fn line(session: &mut Session<'_>, question: &str) -> io::Result<Option<String>> {
    session.terminal.ask(question);
    let mut answer = String::new();
    let read = io::stdin().lock().read_line(&mut answer)?;
    Ok((read > 0).then(|| answer.trim().to_ascii_lowercase()))
}
