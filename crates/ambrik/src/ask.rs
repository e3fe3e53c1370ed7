//! Questions, which are asked on a terminal only.

use std::io::{self, BufRead as _, IsTerminal as _, Write};
use std::process::{Command, Stdio};

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

/// What lists every path of what is asked about, those of one part where it is named.
pub(crate) type Lists<'l> = dyn Fn(Option<&str>, &mut dyn Write) -> io::Result<()> + 'l;

/// As [`go_on`], where `list` is an answer too: it shows every path, `list PART` those of a part, and asks again.
pub(crate) fn go_on_listing(
    session: &mut Session<'_>,
    yes: bool,
    question: &str,
    list: &Lists<'_>,
) -> Result<bool, Failure> {
    if yes || !can_ask() {
        return go_on(session, yes, question);
    }
    loop {
        let answer = line(session, &format!("{question} [y/N/list] "))?.unwrap_or_default();
        let mut words = answer.splitn(2, ' ');
        match words.next() {
            Some("l" | "list") => {
                let mut text = Vec::new();
                list(words.next().map(str::trim), &mut text)?;
                page(session, &text)?;
            }
            answer => return Ok(matches!(answer, Some("y" | "yes"))),
        }
    }
}

/// Shows a long text a screen at a time, where there is something that does.
fn page(session: &mut Session<'_>, text: &[u8]) -> Result<(), Failure> {
    let term = std::env::var_os("TERM").filter(|term| !term.is_empty() && term != "dumb");
    if let Some(term) = term.filter(|_| io::stdout().is_terminal()) {
        // Not what the environment names, and without it: this may run as root for somebody else.
        let mut pager = Command::new("/usr/bin/less");
        pager.args(["-FRX"]).env_clear().envs([("LESSSECURE", "1"), ("LESSCHARSET", "utf-8")]).env("TERM", term);
        if let Ok(mut pager) = pager.stdin(Stdio::piped()).spawn() {
            // Whoever has seen enough closes it.
            let _ = pager.stdin.take().map(|mut to| to.write_all(text));
            pager.wait()?;
            return Ok(());
        }
    }
    session.terminal.out().write_all(text)?;
    Ok(())
}

/// A line that somebody answers with, in lower case; nothing at the end of the input.
pub(crate) fn line(session: &mut Session<'_>, question: &str) -> io::Result<Option<String>> {
    session.terminal.ask(question);
    let mut answer = String::new();
    let read = io::stdin().lock().read_line(&mut answer)?;
    Ok((read > 0).then(|| answer.trim().to_ascii_lowercase()))
}
