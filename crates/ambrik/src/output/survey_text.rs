//! A survey for people: what is proposed and why, what is left to answer, what to do next.

use std::io::{self, Write};

use ambrik_core::shown::Shown;
use ambrik_core::site::{Use, Write as When};
use ambrik_core::survey::{Confidence, DraftPart, DraftReason, FoundAccount, Survey};

use super::table::{FAINT, GOOD, HEAD, ODD, cut, styled, wrapped};
use super::{count, counted, number, paths};

pub(crate) fn render(found: &Survey, saved: Option<&str>, out: &mut dyn Write) -> io::Result<()> {
    verdict(found, out)?;
    let width = found.parts.iter().map(|part| name(part).chars().count()).max().unwrap_or_default();
    for part in &found.parts {
        writeln!(out)?;
        block(part, width, out)?;
    }
    for readers in &found.readers {
        wrapped(
            &format!("{}: group {} reads it, and goes on to", Shown(&readers.path), readers.group),
            "  ",
            "    ",
            out,
        )?;
    }
    for (path, site) in &found.others {
        wrapped(&format!("{} is of site {site}: left to its own site file", Shown(path)), "", "  ", out)?;
    }
    if !found.questions.is_empty() {
        writeln!(out, "\n{}", styled(HEAD, "To be answered (drafted commented out)"))?;
    }
    for question in &found.questions {
        let part = &question.part;
        let line = format!("{} as {}: {}", Shown(&part.path), part.used_as, question.asks);
        wrapped(&line, "  - ", "    ", out)?;
        if let Some(reason) = part.because.first() {
            wrapped(&styled(FAINT, &said(reason)), "    ", "    ", out)?;
        }
    }
    let next = match saved {
        // What comes next is said by who asked for the survey.
        Some("") => return Ok(()),
        Some(name) => format!("Read it, answer what it asks; then: ambrik audit {name}"),
        None => "--save puts the draft into the sites directory; --draft prints it with all its reasons".to_owned(),
    };
    writeln!(out, "\n{}", styled(FAINT, &next))
}

fn verdict(found: &Survey, out: &mut dyn Write) -> io::Result<()> {
    let of = |uses: &[Use]| count(found.parts.iter().filter(|part| uses.contains(&part.used_as)).count());
    let says = [
        counted(of(&[Use::Store, Use::Scratch, Use::Log]), "part that PHP writes to", "parts that PHP writes to"),
        counted(of(&[Use::Secret]), "secret", "secrets"),
        counted(of(&[Use::Setup]), "installer", "installers"),
    ];
    let mut line = format!("{}: {}", styled(HEAD, &Shown(&found.root).to_string()), styled(GOOD, &says.join(", ")));
    if !found.questions.is_empty() {
        let open = counted(count(found.questions.len()), "question", "questions");
        line = format!("{line}; {}", styled(ODD, &format!("{open} to answer")));
    }
    wrapped(&line, "", "  ", out)?;
    if let Some(why) = &found.root_because {
        wrapped(&styled(FAINT, why), "  ", "  ", out)?;
    }
    let served = if found.served.as_os_str().is_empty() {
        "the whole root is served".to_owned()
    } else {
        format!("{} is served", Shown(&found.served))
    };
    let sure = if found.served_confidence == Confidence::Low { " (uncertain)" } else { "" };
    let because = found.served_because.first().map(|reason| format!(" ({})", said(reason))).unwrap_or_default();
    let account = |who: &str, found: &FoundAccount| match found {
        Ok(answer) => format!("{who} {}", answer.account.user),
        Err(undecided) => format!("{who} not known: {undecided}"),
    };
    let facts = format!(
        "{served}{sure}{because}; {}, {}; {}, {} PHP files read",
        account("PHP", &found.php),
        account("web server", &found.web),
        paths(count(found.paths)),
        number(count(found.php_files))
    );
    wrapped(&styled(FAINT, &facts), "  ", "  ", out)
}

/// A part and what speaks for it.
fn block(part: &DraftPart, width: usize, out: &mut dyn Write) -> io::Result<()> {
    let sure = match part.confidence {
        Confidence::High => GOOD,
        Confidence::Medium | Confidence::Low => ODD,
    };
    let writes = match part.write {
        When::Always => "php writes",
        When::Install => "php writes during an install",
        When::Never => "php never writes",
    };
    let name = format!("{:<width$}", name(part));
    let facts = format!("{:<8}{writes:<30}", part.used_as.word());
    writeln!(
        out,
        "  {}  {facts}{}",
        styled(HEAD, &name),
        styled(sure, &format!("confidence {}", part.confidence.word()))
    )?;
    for reason in &part.because {
        let says = cut(&reason.says, 54);
        let place = cut(&reason.seen.to_string(), 36);
        writeln!(out, "{}", styled(FAINT, &format!("      {says:<54}  {place}")))?;
    }
    Ok(())
}

fn name(part: &DraftPart) -> String {
    let create = if part.create { " (new)" } else { "" };
    format!("{}{create}", cut(&Shown(&part.path).to_string(), 44))
}

fn said(reason: &DraftReason) -> String {
    format!("{}: {}", reason.says, reason.seen)
}
