//! A survey as a site file: each line with its reason, what is uncertain commented out with its question.

use std::fmt::{self, Write as _};
use std::path::{Path, PathBuf};

use super::{Confidence, DraftPart, DraftReason, Question, Readers, SiteAddress, Survey};
use crate::host::{AccountAnswer, Undecided};
use crate::shown::Shown;
use crate::site::Write;

/// Comments begin here where the line before is short.
const COLUMN: usize = 26;
/// Lines are no longer where that can be helped.
const WIDTH: usize = 100;

impl Survey {
    /// The draft of the site file, valid as it is.
    #[must_use]
    pub fn draft(&self) -> String {
        let mut text = String::new();
        // Writing to a text cannot fail.
        let _ = self.write(&mut text);
        text
    }

    /// The draft of an outline: what of it other sites of the same application have too. Parts outside the root are a site's own.
    #[must_use]
    pub fn outline(&self) -> String {
        let mut text = String::new();
        // Writing to a text cannot fail.
        let _ = self.write_outline(&mut text);
        text
    }

    fn write_outline(&self, out: &mut String) -> fmt::Result {
        writeln!(
            out,
            "# Drafted by `ambrik survey` of {}: what all sites of this application have in common.",
            Shown(&self.root)
        )?;
        writeln!(
            out,
            "# A site file that goes by it has root and outline in [site]; its own parts replace those of the same path here."
        )?;
        writeln!(out, "\n[defaults]")?;
        self.write_served(out)?;
        for (path, item) in self.parts.iter().map(|item| (&item.path, item)) {
            if path.is_absolute() || path.to_str().is_none() {
                writeln!(out, "\n# {} is of this site alone: it stays in its site file", Shown(path))?;
                continue;
            }
            writeln!(out)?;
            part(out, item, "")?;
        }
        self.write_questions(out)
    }

    fn write_served(&self, out: &mut String) -> fmt::Result {
        let served = if self.served.as_os_str().is_empty() { Path::new(".") } else { &self.served };
        let mut why = self.served_because.first().map(reason).unwrap_or_default();
        if self.served_confidence == Confidence::Low {
            why = format!("uncertain: is this the document root? {why}");
        }
        line(out, &format!("served = {}", quoted(served)), &why)
    }

    fn write_questions(&self, out: &mut String) -> fmt::Result {
        for Question { asks, part: item } in &self.refused {
            let shown = Shown(&item.path);
            writeln!(out, "\n# {shown} as {}: answered no ({asks})", item.used_as)?;
        }
        for Question { asks, part: item } in &self.questions {
            writeln!(out, "\n# Question: {asks}")?;
            part(out, item, "# ")?;
        }
        Ok(())
    }

    fn write(&self, out: &mut String) -> fmt::Result {
        writeln!(out, "# Drafted by `ambrik survey`: read it, answer what it asks, and correct it where it is wrong.")?;
        writeln!(out, "[site]")?;
        let why = self.root_because.as_deref().unwrap_or_default();
        line(out, &format!("root   = {}", quoted(&self.root)), why)?;
        self.write_served(out)?;
        if let Some(SiteAddress { url, pages, program, at }) = &self.address {
            line(out, &format!("url    = {}", toml(url)), &format!("{program} serves it: {at}"))?;
            let pages: Vec<String> = pages.iter().map(|page| toml(page)).collect();
            line(out, &format!("pages  = [{}]", pages.join(", ")), "asked before and after each change")?;
        }
        for (path, site) in &self.others {
            writeln!(out, "# {} is of site {site}, which its own site file describes: left to that", Shown(path))?;
        }
        writeln!(out, "\n[accounts]")?;
        if let Some(keeper) = &self.keeper {
            line(out, &format!("keeper = {}", toml(keeper)), "owns the tree")?;
        }
        if let Some((grant, why)) = &self.grant {
            line(out, &format!("grant  = \"{grant}\""), why)?;
        }
        account(out, "php", self.php.as_ref(), self.php_usual.as_deref())?;
        account(out, "web", self.web.as_ref(), None)?;
        for item in &self.parts {
            writeln!(out)?;
            if item.path.to_str().is_some() {
                part(out, item, "")?;
            } else {
                writeln!(
                    out,
                    "# Question: its name is not UTF-8, which a site file cannot hold: which pattern names it?"
                )?;
                part(out, item, "# ")?;
            }
        }
        for Readers { group, path } in &self.readers {
            writeln!(out, "\n[[access]]")?;
            line(out, &format!("group = {}", toml(group)), "reads these logs now, as it reads the host's")?;
            line(out, &format!("path  = {}", quoted(&literal(path))), "")?;
            line(out, "may   = \"read\"", "")?;
        }
        self.write_questions(out)
    }
}

/// A line for an account that is known. For one of several, the first stands; where none is known, the usual one.
fn account(out: &mut String, key: &str, found: Result<&AccountAnswer, &Undecided>, usual: Option<&str>) -> fmt::Result {
    let name = |answer: &AccountAnswer| {
        let account = &answer.account;
        toml(&if account.user == account.group { account.user.clone() } else { account.to_string() })
    };
    match (found, usual) {
        (Ok(answer), _) => line(out, &format!("{key:<6} = {}", name(answer)), &evidence(answer)),
        (Err(Undecided::Several(answers)), _) => {
            writeln!(out, "# Question: which of these accounts is {key}?")?;
            for (n, answer) in answers.iter().enumerate() {
                let lead = if n == 0 { "" } else { "# " };
                line(out, &format!("{lead}{key:<6} = {}", name(answer)), &evidence(answer))?;
            }
            Ok(())
        }
        (Err(Undecided::Unknown | Undecided::OnlyHints(_)), Some(usual)) => {
            let why = "Question: is it this one? Nothing on this host tells; it is the usual one";
            line(out, &format!("{key:<6} = {}", toml(usual)), why)
        }
        (Err(Undecided::Unknown | Undecided::OnlyHints(_)), None) if key == "web" => {
            line(out, "# web  = \"…\"", "left out: the same as php")
        }
        (Err(Undecided::OnlyHints(hints)), None) => {
            let said: Vec<&str> = hints.iter().map(|hint| hint.says.as_str()).collect();
            let why = format!("Question: which account? Root started nothing that tells; seen: {}", said.join("; "));
            line(out, &format!("# {key:<4} = \"…\""), &why)
        }
        (Err(Undecided::Unknown), None) => {
            line(out, &format!("# {key:<4} = \"…\""), "Question: which account? Nothing on this host tells")
        }
    }
}

fn part(out: &mut String, part: &DraftPart, lead: &str) -> fmt::Result {
    writeln!(out, "{lead}[[part]]")?;
    let mut reasons = part.because.iter();
    let first = reasons.next().map(reason).unwrap_or_default();
    let path = if part.pattern { part.path.clone() } else { literal(&part.path) };
    line(out, &format!("{lead}path  = {}", quoted(&path)), &first)?;
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
    if let Some(from) = part.from.as_ref().filter(|_| literal(&part.path) == part.path) {
        line(out, &format!("{lead}from  = {}", quoted(from)), "its sample")?;
    }
    if part.create && literal(&part.path) == part.path {
        line(out, &format!("{lead}create = true"), "made where it is missing")?;
    }
    Ok(())
}

/// Where an account was seen, without the folder that it is for.
fn evidence(answer: &AccountAnswer) -> String {
    one_line(answer.because.split_once(": ").map_or(&*answer.because, |(_, seen)| seen))
}

fn reason(reason: &DraftReason) -> String {
    one_line(&format!("{}: {}", reason.says, reason.seen))
}

/// A line with its comment after it, or above it where both would be too long.
fn line(out: &mut String, text: &str, comment: &str) -> fmt::Result {
    if comment.is_empty() {
        return writeln!(out, "{text}");
    }
    let whole = format!("{text:<COLUMN$} # {comment}");
    if whole.chars().count() <= WIDTH {
        return writeln!(out, "{whole}");
    }
    writeln!(out, "# {comment}\n{text}")
}

/// A path as a pattern that names it alone: in names that hold wildcards these stand in brackets.
fn literal(path: &Path) -> PathBuf {
    let Some(text) = path.to_str() else { return path.to_owned() };
    let wild = |c: char| matches!(c, '*' | '?' | '[');
    let plain = |c: char| match c {
        '\\' => "\\\\".to_owned(),
        c if wild(c) => format!("[{c}]"),
        c => c.to_string(),
    };
    let name = |name: &str| if name.contains(wild) { name.chars().map(plain).collect() } else { name.to_owned() };
    PathBuf::from(text.split('/').map(name).collect::<Vec<String>>().join("/"))
}

/// A path as TOML has it. Names that are not UTF-8 cannot stand in a site file; they are shown escaped.
fn quoted(path: &Path) -> String {
    match path.to_str() {
        Some(text) => toml(text),
        None => toml(&Shown(path).to_string()),
    }
}

/// A text as a basic string of TOML, on one line whatever is in it.
fn toml(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            c if c.is_control() || crate::shown::misleads(c) => {
                // Writing to a text cannot fail.
                let _ = write!(quoted, "\\U{:08X}", u32::from(c));
            }
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

/// Comments end with the line, and a stranger's names stand in them.
fn one_line(text: &str) -> String {
    Shown(Path::new(text)).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Whatever is in a text, it is read again as what it was, and stands on one line.
    #[rstest]
    #[case("berths")]
    #[case("with \"quotes\" and \\ backslashes")]
    #[case("two\nlines\tand tabs")]
    #[case("\u{1b}[2J and \u{202e} and \u{7f}")]
    #[case("häfen/ünïcode")]
    fn texts_are_quoted(#[case] text: &str) {
        let line = format!("a = {}", toml(text));
        assert_eq!(line.lines().count(), 1);
        assert!(!line.contains('\u{1b}') && !line.contains('\u{202e}'));
        let table: toml::Table = line.parse().unwrap();
        assert_eq!(table["a"].as_str(), Some(text));
    }

    #[rstest]
    #[case("a/b", "a/b")]
    #[case("a*/b", "a[*]/b")]
    #[case("a[1]?", "a[[]1][?]")]
    #[case("a\\b", "a\\b")]
    #[case("a\\b*", "a\\\\b[*]")]
    fn wild_names_are_named_alone(#[case] path: &str, #[case] want: &str) {
        assert_eq!(literal(Path::new(path)), Path::new(want));
        let pattern = crate::site::Pattern::parse(want).unwrap();
        let names = Path::new(path).components().map(|name| name.as_os_str().to_owned());
        for (component, name) in pattern.components().iter().zip(names) {
            assert!(component.fits(&name), "{name:?}");
            assert!(!component.fits(std::ffi::OsStr::new("axx")), "{name:?}");
        }
    }

    #[test]
    fn a_long_reason_stands_above_its_line() {
        let mut short = String::new();
        line(&mut short, "use = \"store\"", "why").unwrap();
        assert_eq!(short, format!("{:<COLUMN$} # why\n", "use = \"store\""));
        let mut long = String::new();
        line(&mut long, "use = \"store\"", &"why ".repeat(30)).unwrap();
        assert!(long.starts_with("# why why") && long.ends_with("\nuse = \"store\"\n"));
        let mut bare = String::new();
        line(&mut bare, "use = \"store\"", "").unwrap();
        assert_eq!(bare, "use = \"store\"\n");
    }
}
