//! Refusals out of logs, and what is known of them now.

use std::io::{self, Write};

use ambrik_core::label::boolean::command;
use ambrik_core::shown::Shown;
use ambrik_core::why::{Act, NoFile, Now, Review};

use super::super::table::{BAD, FAINT, HEAD, ODD, styled, wrapped};
use super::super::{count, counted, number, paths};
use super::{compared, counts, mends};

/// Writes what is known now of what logs say was refused.
pub(crate) fn reviews(
    reviews: &[Review],
    others: &[NoFile],
    logs: u64,
    without_path: u64,
    out: &mut dyn Write,
) -> io::Result<()> {
    let all: u64 = reviews.iter().map(|review| review.refusal.count).sum::<u64>() + without_path;
    let of = |now: Now| count(reviews.iter().filter(|review| review.now == now).count());
    if reviews.is_empty() {
        let denied: u64 = others.iter().map(|denied| denied.other.count).sum();
        let refused = match (without_path, denied) {
            (0, 0) => "nothing was refused".to_owned(),
            (0, denied) => format!("{}, see below", counted(denied, "denial by SELinux", "denials by SELinux")),
            (_, 0) => format!("{}, none with a path", counted(all, "refusal", "refusals")),
            (_, denied) => format!(
                "{}, none with a path, and {}, see below",
                counted(all, "refusal", "refusals"),
                counted(denied, "denial by SELinux", "denials by SELinux")
            ),
        };
        writeln!(out, "{}: {refused}", counted(logs, "log", "logs"))?;
        return no_files(others, out);
    }
    let says = [
        (Now::Wanted, "refused and wanted by its site file"),
        (Now::Opened, "opened against its site file"),
        (Now::Unwanted, "refused as its site file says"),
        (Now::NoSite, "refused, of no site"),
        (Now::ReadsOnly, "readable"),
        (Now::Works, "working by now"),
        (Now::Unknown, "not known"),
    ];
    let counts: Vec<String> = says
        .iter()
        .filter(|(now, _)| of(*now) > 0)
        .map(|(now, words)| format!("{} {words}", number(of(*now))))
        .collect();
    let style = if of(Now::Wanted) + of(Now::Opened) > 0 { BAD } else { ODD };
    let head = format!(
        "{} of {} in {}:",
        counted(all, "refusal", "refusals"),
        paths(count(reviews.len())),
        counted(logs, "log", "logs")
    );
    wrapped(&format!("{} {}", styled(HEAD, &head), styled(style, &counts.join(", "))), "", "  ", out)?;
    let mut last = None;
    for review in reviews {
        if last.replace(review.now) != Some(review.now) {
            writeln!(out)?;
            wrapped(&styled(HEAD, meaning(review.now)), "", "  ", out)?;
        }
        self::review(review, out)?;
    }
    if without_path > 0 {
        let words = counted(without_path, "refusal does not name a path", "refusals do not name a path");
        writeln!(out, "\n{}", styled(FAINT, &words))?;
    }
    no_files(others, out)
}

/// Denials that no label mends, with the smallest change that does.
pub(super) fn no_files(others: &[NoFile], out: &mut dyn Write) -> io::Result<()> {
    if others.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{}", styled(HEAD, "Denied by SELinux"))?;
    for NoFile { other, advice, switch } in others {
        let often = styled(FAINT, &counted(other.count, "time", "times"));
        wrapped(&format!("{}: {}  {often}", advice.tried, advice.says), "  ", "    ", out)?;
        if let Some(switch) = switch.as_ref().filter(|switch| advice.open && switch.on.is_some()) {
            let words = format!("the SELinux boolean {} governs it, and is off", switch.name);
            wrapped(&styled(FAINT, &words), "    ", "    ", out)?;
        }
    }
    Ok(())
}

pub(super) const fn meaning(now: Now) -> &'static str {
    match now {
        Now::Wanted => "Still refused, and the site file wants it",
        Now::Opened => "Works by now, and the site file does not want it: somebody granted too much",
        Now::Unwanted => "Refused, and rightly: find out what asked for it; nothing is granted",
        Now::NoSite => "Refused, and no site file holds it; nothing is granted",
        Now::ReadsOnly => "Readable; if it was to be written, that stays refused, as the site file says",
        Now::Works => "Works by now",
        Now::Unknown => "Cannot be told from here: run it as root, or name the account with --as",
    }
}

pub(super) fn review(review: &Review, out: &mut dyn Write) -> io::Result<()> {
    let refusal = &review.refusal;
    let account = review.told.as_ref().map_or("?", |told| &told.account);
    let act = refusal.act.map_or("open", Act::word);
    let day = |time: Option<jiff::civil::DateTime>| time.map(|time| time.strftime("%Y-%m-%d %H:%M").to_string());
    let when = match (day(refusal.first), day(refusal.last)) {
        (Some(first), Some(last)) if first == last => format!(", {first}"),
        (Some(first), Some(last)) => format!(", {first} to {last}"),
        _ => String::new(),
    };
    let times = counted(refusal.count, "time", "times");
    let line =
        format!("{}  {}", styled(HEAD, &Shown(&refusal.path).to_string()), styled(FAINT, &format!("{times}{when}")));
    wrapped(&line, "  ", "    ", out)?;
    let script = refusal.script.as_ref().map(|path| format!(" in {}", Shown(path))).unwrap_or_default();
    wrapped(&format!("{account} wanted to {act} it ({}{script})", refusal.call), "    ", "    ", out)?;
    let off = review.switch.as_ref().filter(|switch| switch.on == Some(false) && review.now < Now::ReadsOnly);
    if let Some(switch) = off {
        let words = format!(
            "the SELinux boolean {} governs it, and is off; if the application needs it: {}",
            switch.name,
            command(&switch.name, true)
        );
        wrapped(&words, "    ", "      ", out)?;
    }
    let Some(told) = &review.told else { return Ok(()) };
    if matches!(review.now, Now::Works | Now::ReadsOnly) {
        return Ok(());
    }
    for step in told.answer.steps().iter().filter(|step| step.allows != Some(true) && counts(step, refusal.act)) {
        wrapped(&format!("{}: {}", Shown(&step.path), step.says), "    ", "      ", out)?;
    }
    if let Some(wanted) = &told.answer.wanted {
        wrapped(&compared(&told.account, wanted), "    ", "      ", out)?;
        if matches!(review.now, Now::Wanted | Now::Opened) {
            mends(Some(wanted), true, out)?;
        }
    }
    Ok(())
}
