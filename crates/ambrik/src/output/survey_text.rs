//! A survey for people: what is proposed and why, what is left to answer, what to do next.

use std::io::{self, Write};
use std::path::Path;

use ambrik_core::shown::Shown;
use ambrik_core::site::Use;
use ambrik_core::survey::{Confidence, Found, Part, Reason, Survey};

use super::table::{FAINT, GOOD, HEAD, ODD, cut, styled, table, wrapped, write};
use super::{count, counted, number, paths};

pub(crate) fn render(found: &Survey, saved: bool, out: &mut dyn Write) -> io::Result<()> {
    verdict(found, out)?;
    let mut lines = table(&["path", "use", "php writes", "sure", "because"]);
    for part in &found.parts {
        for (n, reason) in part.because.iter().take(2).enumerate() {
            lines.add_row(if n == 0 { row(part, reason) } else { further(reason) });
        }
    }
    if !lines.is_empty() {
        writeln!(out)?;
        write(&mut lines, &[], "  ", out)?;
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
    if !saved {
        let next = "--save puts the draft into the sites directory; --draft prints it with all its reasons";
        writeln!(out, "\n{}", styled(FAINT, next))?;
    } else if let Some(name) = found.root.file_name().map(|name| Path::new(name).to_owned()) {
        let next = format!("Read it, answer what it asks; then: ambrik audit {}", Shown(&name));
        writeln!(out, "\n{}", styled(FAINT, &next))?;
    }
    Ok(())
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
    let served = if found.served.as_os_str().is_empty() {
        "the whole root is served".to_owned()
    } else {
        format!("{} is served", Shown(&found.served))
    };
    let sure = if found.served_confidence == Confidence::Low { " (uncertain)" } else { "" };
    let because = found.served_because.first().map(|reason| format!(" ({})", said(reason))).unwrap_or_default();
    let account = |who: &str, found: &Found| match found {
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

fn row(part: &Part, reason: &Reason) -> Vec<String> {
    let sure = match part.confidence {
        Confidence::High => GOOD,
        Confidence::Medium | Confidence::Low => ODD,
    };
    let create = if part.create { " (new)" } else { "" };
    vec![
        format!("{}{create}", cut(&Shown(&part.path).to_string(), 26)),
        part.used_as.to_string(),
        part.write.to_string(),
        styled(sure, part.confidence.word()),
        cut(&said(reason), 46),
    ]
}

fn further(reason: &Reason) -> Vec<String> {
    vec![String::new(), String::new(), String::new(), String::new(), styled(FAINT, &cut(&said(reason), 46))]
}

fn said(reason: &Reason) -> String {
    format!("{}: {}", reason.seen, reason.says)
}
