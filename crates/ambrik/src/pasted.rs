//! Commands that are printed for somebody to paste: they carry the places that the run was given.

use std::io::{self, Write};
use std::path::Path;
use std::sync::OnceLock;

use ambrik_core::shown::shell_word;

use crate::options::Global;
use crate::plain::{in_words, is_plain};

/// What the commands of this program are called by in texts.
const PROGRAM: &str = "ambrik ";

static COMMANDS: OnceLock<Vec<String>> = OnceLock::new();

/// Tells which commands there are.
pub(crate) fn know(commands: Vec<String>) {
    let _ = COMMANDS.set(commands);
}

/// Makes commands in texts those of the same places.
#[derive(Clone, Debug, Default)]
pub(crate) struct Pasted {
    /// The options, with a space behind; nothing where the run was given none.
    options: String,
    commands: Vec<String>,
}

impl Pasted {
    pub(crate) fn of(global: &Global) -> Self {
        let Global { host, sites, state, .. } = global;
        let absolute = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let given = [("--host", host), ("--sites", sites), ("--state", state)];
        let options = given.iter().filter_map(|(option, path)| {
            let path = absolute(path.as_deref()?);
            Some(format!("{option} {} ", shell_word(path.as_os_str())))
        });
        Self { options: options.collect(), commands: COMMANDS.get().cloned().unwrap_or_default() }
    }

    /// Whether there is anything to carry.
    fn is_nothing(&self) -> bool {
        self.options.is_empty()
    }

    /// A text whose commands carry the options. What stands in backticks is a command's name, and none to paste.
    pub(crate) fn in_text(&self, text: &str) -> String {
        if self.is_nothing() {
            return text.to_owned();
        }
        let (mut done, mut rest) = (String::with_capacity(text.len()), text);
        while let Some(at) = rest.find(PROGRAM) {
            let (before, from) = rest.split_at(at);
            let behind = &from[PROGRAM.len()..];
            let word = behind.split(|c: char| !c.is_ascii_alphanumeric() && c != '-').next().unwrap_or_default();
            let apart = before.chars().next_back().or(done.chars().next_back());
            let is_word = apart.is_none_or(|c| !c.is_alphanumeric() && !matches!(c, '`' | '/' | '-' | '_'));
            done.push_str(before);
            done.push_str(PROGRAM);
            if is_word && self.commands.iter().any(|command| command == word) {
                done.push_str(&self.options);
            }
            rest = behind;
        }
        done.push_str(rest);
        done
    }
}

/// A stream whose lines carry the options.
pub(crate) struct Lines<'s> {
    to: Box<dyn Write + 's>,
    pasted: &'s Pasted,
    line: Vec<u8>,
}

impl<'s> Lines<'s> {
    pub(crate) fn new(to: Box<dyn Write + 's>, pasted: &'s Pasted) -> Self {
        Self { to, pasted, line: Vec::new() }
    }

    fn pass_on(&mut self, bytes: &[u8]) -> io::Result<()> {
        match std::str::from_utf8(bytes) {
            Ok(text) if is_plain() => self.to.write_all(in_words(&self.pasted.in_text(text)).as_bytes()),
            Ok(text) => self.to.write_all(self.pasted.in_text(text).as_bytes()),
            Err(_) => self.to.write_all(bytes),
        }
    }
}

impl Write for Lines<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.pasted.is_nothing() && !is_plain() {
            self.to.write_all(bytes)?;
            return Ok(bytes.len());
        }
        self.line.extend_from_slice(bytes);
        if let Some(end) = self.line.iter().rposition(|byte| *byte == b'\n') {
            let rest = self.line.split_off(end + 1);
            let whole = std::mem::replace(&mut self.line, rest);
            self.pass_on(&whole)?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        let line = std::mem::take(&mut self.line);
        self.pass_on(&line)?;
        self.to.flush()
    }
}

impl Drop for Lines<'_> {
    fn drop(&mut self) {
        // Whoever wants to know whether it came out flushes it before.
        let _ = self.flush();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("taken back by: ambrik undo 3", "taken back by: ambrik --host /h undo 3")]
    #[case("ambrik open x, then: ambrik seal x", "ambrik --host /h open x, then: ambrik --host /h seal x")]
    #[case("`ambrik seal` or `ambrik set` closes it", "`ambrik seal` or `ambrik set` closes it")]
    #[case("an ambrik that is old", "an ambrik that is old")]
    #[case("/etc/ambrik set", "/etc/ambrik set")]
    #[case("ambrik settle", "ambrik settle")]
    fn commands_carry_the_options(#[case] text: &str, #[case] want: &str) {
        let commands = ["undo", "open", "seal", "set"].map(str::to_owned).to_vec();
        let pasted = Pasted { options: "--host /h ".into(), commands };
        assert_eq!(pasted.in_text(text), want);
        assert_eq!(Pasted::default().in_text(text), text);
        // However it is cut into pieces.
        let mut out = Vec::new();
        let mut lines = Lines::new(Box::new(&mut out), &pasted);
        for piece in text.as_bytes().chunks(3) {
            lines.write_all(piece).unwrap();
        }
        drop(lines);
        assert_eq!(out, want.as_bytes());
    }
}
