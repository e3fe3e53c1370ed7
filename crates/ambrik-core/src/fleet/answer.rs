//! What a host's answer is: a document, or why there is none, and what to do.

use std::io::{self, Read};

use serde::Deserialize;

use super::ask::{Ended, Said};
use crate::shown::Shown;

/// A document that a host answered with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// Its kind, such as `audit/1`.
    pub kind: String,
    /// The exit code.
    pub exit: u8,
}

/// Why a host gave no answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Trouble {
    /// No connection.
    Unreachable,
    /// Its key is not the one that is known, or none is.
    HostKey,
    /// It lets this account in by no key.
    LoginRefused,
    /// sudo asks for a password, or does not allow it.
    SudoRefused,
    /// There is no Ambrik.
    NoAmbrik,
    /// The program does not run there.
    CannotRun,
    /// Its Ambrik does not know what was asked.
    TooOld,
    /// Its Ambrik answers in a way that this one does not know.
    TooNew,
    /// It answered something else than was asked for.
    Rubbish,
    /// It said more than it may.
    TooMuch,
    /// It took longer than it may.
    Late,
    /// The connection, or the program there, ended in the middle.
    Died,
    /// Its Ambrik said that it cannot do it.
    Refused,
    /// There is no ssh on this side.
    NoClient,
    /// A signal came to this side.
    Stopped,
}

impl Trouble {
    /// A word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Unreachable => "unreachable",
            Self::HostKey => "host-key",
            Self::LoginRefused => "login-refused",
            Self::SudoRefused => "sudo-refused",
            Self::NoAmbrik => "no-ambrik",
            Self::CannotRun => "cannot-run",
            Self::TooOld => "too-old",
            Self::TooNew => "too-new",
            Self::Rubbish => "rubbish",
            Self::TooMuch => "too-much",
            Self::Late => "late",
            Self::Died => "died",
            Self::Refused => "refused",
            Self::NoClient => "no-client",
            Self::Stopped => "stopped",
        }
    }

    /// What it is, in words.
    #[must_use]
    pub const fn says(self) -> &'static str {
        match self {
            Self::Unreachable => "cannot be reached",
            Self::HostKey => "its key is not known here, or another one is",
            Self::LoginRefused => "lets this account in by no key",
            Self::SudoRefused => "sudo did not allow it",
            Self::NoAmbrik => "has no Ambrik",
            Self::CannotRun => "the program does not run there",
            Self::TooOld => "its Ambrik is too old for this",
            Self::TooNew => "its Ambrik is newer than this one",
            Self::Rubbish => "answered something that is no answer",
            Self::TooMuch => "said more than an answer may have",
            Self::Late => "did not answer in time",
            Self::Died => "went away in the middle",
            Self::Refused => "could not do it",
            Self::NoClient => "there is no ssh on this side",
            Self::Stopped => "was not waited for: a signal came",
        }
    }

    /// Whether what was asked may have been begun there, and even go on.
    #[must_use]
    pub const fn leaves_open(self) -> bool {
        matches!(self, Self::Rubbish | Self::TooMuch | Self::TooNew | Self::Late | Self::Died | Self::Stopped)
    }

    /// What to do.
    #[must_use]
    pub const fn todo(self) -> &'static str {
        match self {
            Self::Unreachable => "see that `ssh HOST true` works",
            Self::HostKey => "compare its key by another way, then `ssh HOST` once by hand",
            Self::LoginRefused => "put this account's key there; nobody is asked for a password",
            Self::SudoRefused => "allow `sudo -n ambrik` for this account there (docs/many-hosts.md)",
            Self::NoAmbrik => "install it there, or ask with --lend",
            Self::CannotRun => "install the package for its processor and C library there",
            Self::TooOld => "install this version there, or ask with --lend",
            Self::TooNew => "install its version on this side",
            Self::Rubbish => {
                "look at what `ssh HOST ambrik --version` prints; a login script that prints something is one cause"
            }
            Self::TooMuch => "look at the host: no answer is that long",
            Self::Late => "see what keeps it, or give it longer with --within",
            Self::Died => "see what was done there: ambrik --on HOST history",
            Self::Refused => "put that right there",
            Self::NoClient => "install OpenSSH's client",
            Self::Stopped => "ask again",
        }
    }
}

/// Why a host gave no answer, with the end of what it said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoAnswer {
    /// What is the trouble.
    pub trouble: Trouble,
    /// What was said of it, fit to be shown; empty where nothing was.
    pub words: String,
}

/// So much of what a host says is repeated, in characters.
const MOST_WORDS: usize = 300;

/// What stands in front of every document.
#[derive(Deserialize)]
struct Head {
    ambrik: String,
    error: Option<String>,
}

/// What a host's answer is. `kind` is what was asked for, without its version: `audit`.
///
/// # Errors
/// Why it is no answer.
pub fn judge(said: &Said, kind: &str) -> Result<Answer, NoAnswer> {
    let words = last_line(&said.err);
    let no = |trouble| Err(NoAnswer { trouble, words: words.clone() });
    let exit = by_itself(&said.ended, &said.err)?;
    let head = said.read().and_then(head);
    match head {
        Ok(Head { ambrik, error: Some(error) }) if ambrik == "error/1" => {
            let trouble = if is_unknown(&error) { Trouble::TooOld } else { Trouble::Refused };
            Err(NoAnswer { trouble, words: shown(&error) })
        }
        // ssh's own code says that the connection broke, whatever came before.
        Ok(_) if exit == CONNECTION => no(Trouble::Died),
        Ok(Head { ambrik, .. }) if ambrik.split('/').next() == Some(kind) => {
            match (ambrik.ends_with("/1"), u8::try_from(exit)) {
                (true, Ok(exit)) if exit <= 4 => Ok(Answer { kind: ambrik, exit }),
                (true, _) => no(Trouble::Died),
                (false, _) => no(Trouble::TooNew),
            }
        }
        Ok(_) => no(Trouble::Rubbish),
        Err(_) if said.bytes > 0 && is_cut_off(said) && exit != CONNECTION => no(Trouble::Died),
        Err(_) => no(without_answer(exit, said.bytes > 0, &said.err)),
    }
}

/// Why what has no end ended. `spoke` is whether anything came, `err` the end of what it said to its standard error.
#[must_use]
pub(super) fn why_ended(ended: &Ended, spoke: bool, err: &[u8]) -> NoAnswer {
    match by_itself(ended, err) {
        Err(no) => no,
        Ok(0) => NoAnswer { trouble: Trouble::Died, words: last_line(err) },
        Ok(exit) => NoAnswer { trouble: without_answer(exit, spoke, err), words: last_line(err) },
    }
}

/// The exit code of what ended by itself.
fn by_itself(ended: &Ended, err: &[u8]) -> Result<i32, NoAnswer> {
    let no = |trouble| Err(NoAnswer { trouble, words: last_line(err) });
    match ended {
        Ended::NotStarted(error) => Err(NoAnswer { trouble: Trouble::NoClient, words: error.to_string() }),
        Ended::Late => no(Trouble::Late),
        Ended::TooMuch => no(Trouble::TooMuch),
        Ended::Stopped => no(Trouble::Stopped),
        Ended::Signal(_) => no(Trouble::Died),
        Ended::Exit(exit) => Ok(*exit),
    }
}

/// ssh(1): "255 if an error occurred".
const CONNECTION: i32 = 255;

/// What is the trouble where there is no document.
fn without_answer(exit: i32, spoke: bool, err: &[u8]) -> Trouble {
    let err = String::from_utf8_lossy(err);
    let has = |words: &str| err.contains(words);
    match exit {
        CONNECTION if spoke => Trouble::Died,
        CONNECTION if has("Host key verification failed") || has("HOST IDENTIFICATION HAS CHANGED") => Trouble::HostKey,
        CONNECTION if has("Permission denied (") || has("Too many authentication failures") => Trouble::LoginRefused,
        CONNECTION => Trouble::Unreachable,
        // The shell's codes (POSIX, 2.8.2).
        127 => Trouble::NoAmbrik,
        126 => Trouble::CannotRun,
        _ if err.lines().any(|line| line.starts_with("sudo: ")) => Trouble::SudoRefused,
        _ if has("GLIBC_") || has("Exec format error") => Trouble::CannotRun,
        _ if is_unknown(&err) => Trouble::TooOld,
        0..=4 if !spoke && !err.is_empty() => Trouble::Refused,
        _ => Trouble::Rubbish,
    }
}

/// Whether a command line was not understood.
fn is_unknown(words: &str) -> bool {
    ["unexpected argument", "unrecognized subcommand", "invalid value", "other commands have text and json"]
        .iter()
        .any(|unknown| words.contains(unknown))
}

/// Whether a document begins and does not end.
fn is_cut_off(said: &Said) -> bool {
    said.read().and_then(|out| head(out).map(drop)).is_err_and(|error| error.kind() == io::ErrorKind::UnexpectedEof)
}

/// Reads a whole document, of which nothing but its head is kept.
fn head(out: impl Read) -> io::Result<Head> {
    serde_json::from_reader(out).map_err(io::Error::from)
}

/// The last line that says something, escaped: nothing that a host says reaches the terminal as it is.
fn last_line(err: &[u8]) -> String {
    let text = String::from_utf8_lossy(err);
    shown(text.lines().rev().map(str::trim).find(|line| !line.is_empty()).unwrap_or_default())
}

pub(super) fn shown(words: &str) -> String {
    let words: String = words.chars().take(MOST_WORDS).collect();
    Shown(words.as_ref()).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Write as _;
    use std::time::Duration;

    fn said(exit: i32, out: &str, err: &str) -> Said {
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(out.as_bytes()).unwrap();
        let (bytes, err) = (out.len() as u64, err.as_bytes().to_vec());
        Said { out: file, bytes, err, ended: Ended::Exit(exit), took: Duration::ZERO }
    }

    #[rstest]
    #[case::clean(0, "{\"ambrik\": \"audit/1\", \"sites\": []}", "", "audit/1 0")]
    #[case::findings(1, "{\"sites\": [], \"ambrik\": \"audit/1\"}", "some remark", "audit/1 1")]
    #[case::unreachable(255, "", "ssh: connect to host x port 22: Connection refused", "unreachable")]
    #[case::key(255, "", "No ED25519 host key is known\nHost key verification failed.", "host-key")]
    #[case::login(255, "", "root@x: Permission denied (publickey).", "login-refused")]
    #[case::no_program(127, "", "bash: line 1: ambrik: command not found", "no-ambrik")]
    #[case::sudo(1, "", "sudo: a password is required", "sudo-refused")]
    #[case::old(2, "", "error: unexpected argument '--x' found", "too-old")]
    #[case::old_in_words(
        2,
        "{\"ambrik\":\"error/1\",\"error\":\"unexpected argument '--x'\",\"exit\":2}",
        "",
        "too-old"
    )]
    #[case::newer(0, "{\"ambrik\": \"audit/2\"}", "", "too-new")]
    #[case::refused(4, "{\"ambrik\":\"error/1\",\"error\":\"run it as root\",\"exit\":4}", "", "refused")]
    #[case::refused_early(2, "", "ambrik: there is no site", "refused")]
    #[case::library(1, "", "/tmp/x: version `GLIBC_2.38' not found", "cannot-run")]
    #[case::another(0, "{\"ambrik\": \"history/1\"}", "", "rubbish")]
    #[case::words(0, "hello\n{\"ambrik\": \"audit/1\"}", "", "rubbish")]
    #[case::behind_it(0, "{\"ambrik\": \"audit/1\"} {\"ambrik\": \"audit/1\"}", "", "rubbish")]
    #[case::deep(0, &"[".repeat(100_000), "", "rubbish")]
    #[case::nothing(0, "", "", "rubbish")]
    #[case::cut_off(1, "{\"ambrik\": \"audit/1\", \"sites\": [", "", "died")]
    #[case::broken_off(255, "{\"ambrik\": \"audit/1\", \"sites\": [", "Connection closed", "died")]
    #[case::broken_off_behind(255, "{\"ambrik\": \"audit/1\"}", "Connection closed", "died")]
    #[case::odd_code(77, "{\"ambrik\": \"audit/1\"}", "", "died")]
    fn an_answer_or_why_there_is_none(#[case] exit: i32, #[case] out: &str, #[case] err: &str, #[case] want: &str) {
        let found = match judge(&said(exit, out, err), "audit") {
            Ok(answer) => format!("{} {}", answer.kind, answer.exit),
            Err(no) => no.trouble.word().to_owned(),
        };
        assert_eq!(found, want);
    }

    #[test]
    fn what_a_host_says_is_shown_escaped_and_short() {
        let no =
            judge(&said(255, "", &format!("\x1b]0;title\x07\u{202e}{}\n\n", "x".repeat(9000))), "audit").unwrap_err();
        assert!(!no.words.contains(['\x1b', '\x07', '\u{202e}']) && no.words.len() < 400, "{}", no.words);
    }
}
