//! A survey as a site file: each line with its reason, what is uncertain commented out with its question.

use std::fmt::{self, Write as _};
use std::path::Path;

use super::{Confidence, Part, Question, Reason, Survey};
use crate::host::Undecided;
use crate::shown::Shown;
use crate::site::Write;

/// Comments begin here where the line before is short.
const COLUMN: usize = 32;

impl Survey {
    /// The draft of the site file, valid as it is.
    #[must_use]
    pub fn draft(&self) -> String {
        let mut text = String::new();
        // Writing to a text cannot fail.
        let _ = self.write(&mut text);
        text
    }

    fn write(&self, out: &mut String) -> fmt::Result {
        writeln!(out, "# Drafted by `ambrik survey`: read it, answer what it asks, and correct it where it is wrong.")?;
        writeln!(out, "[site]")?;
        line(out, &format!("root   = {}", quoted(&self.root)), "")?;
        let served = if self.served.as_os_str().is_empty() { Path::new(".") } else { &self.served };
        let mut why = self.served_because.first().map(reason).unwrap_or_default();
        if self.served_confidence == Confidence::Low {
            why = format!("uncertain: is this the document root? {why}");
        }
        line(out, &format!("served = {}", quoted(served)), &why)?;
        writeln!(out, "\n[accounts]")?;
        if let Some(keeper) = &self.keeper {
            line(out, &format!("keeper = {}", toml(keeper)), "owns the tree")?;
        }
        account(out, "php", self.php.as_ref())?;
        account(out, "web", self.web.as_ref())?;
        for item in &self.parts {
            writeln!(out)?;
            part(out, item, "")?;
        }
        for Question { asks, part: item } in &self.questions {
            writeln!(out, "\n# Question: {asks}")?;
            part(out, item, "# ")?;
        }
        Ok(())
    }
}

fn account(out: &mut String, key: &str, found: Result<&crate::host::Answer, &Undecided>) -> fmt::Result {
    match found {
        Ok(answer) => {
            let account = &answer.account;
            let name = if account.user == account.group { account.user.clone() } else { account.to_string() };
            line(out, &format!("{key:<6} = {}", toml(&name)), &one_line(&answer.because))
        }
        Err(Undecided::Unknown) => {
            line(out, &format!("# {key} = \"…\""), "Question: which account? nothing on this host tells")
        }
        Err(Undecided::Several(answers)) => {
            writeln!(out, "# Question: which of these accounts?")?;
            for answer in answers {
                line(out, &format!("# {key} = {}", toml(&answer.account.user)), &one_line(&answer.because))?;
            }
            Ok(())
        }
    }
}

fn part(out: &mut String, part: &Part, lead: &str) -> fmt::Result {
    writeln!(out, "{lead}[[part]]")?;
    let mut reasons = part.because.iter();
    let first = reasons.next().map(reason).unwrap_or_default();
    line(out, &format!("{lead}path  = {}", quoted(&part.path)), &first)?;
    let second = reasons.next().map(reason).unwrap_or_default();
    line(out, &format!("{lead}use   = \"{}\"", part.used_as), &second)?;
    if part.write != part.used_as.default_write() {
        let why = match part.write {
            Write::Install => "only the installer writes it",
            Write::Always => "php writes it all the time",
            Write::Never => "",
        };
        line(out, &format!("{lead}write = \"{}\"", part.write), why)?;
    }
    if let Some(from) = &part.from {
        line(out, &format!("{lead}from  = {}", quoted(from)), "its sample")?;
    }
    if part.create {
        line(out, &format!("{lead}create = true"), "made where it is missing")?;
    }
    Ok(())
}

fn reason(reason: &Reason) -> String {
    one_line(&format!("{}: {}", reason.says, reason.seen))
}

fn line(out: &mut String, text: &str, comment: &str) -> fmt::Result {
    if comment.is_empty() { writeln!(out, "{text}") } else { writeln!(out, "{text:<COLUMN$} # {comment}") }
}

/// A path as TOML has it. Names that are not UTF-8 cannot stand in a site file; they are shown escaped.
fn quoted(path: &Path) -> String {
    match path.to_str() {
        Some(text) => toml(text),
        None => toml(&Shown(path).to_string()),
    }
}

fn toml(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

/// Comments end with the line, and a stranger's names stand in them.
fn one_line(text: &str) -> String {
    Shown(Path::new(text)).to_string()
}
