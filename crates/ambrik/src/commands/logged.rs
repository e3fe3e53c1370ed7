//! What the system's log is told of a run.

use ambrik_core::audit::{HowNew, News};
use ambrik_core::change::ChangeSet;
use ambrik_core::check::Severity;
use ambrik_core::site::Phase;

use crate::failure::{Exit, Failure};
use crate::output::{count, counted};
use crate::session::Session;
use crate::system_log::LogLine;

/// Tells of the change sets that this run made, and of what it failed at. Of another host than this one nothing is told here.
pub(super) fn tell(exit: &Result<Exit, Failure>, session: &mut Session<'_>) {
    if !session.is_this_host() {
        return;
    }
    let sets = session.records().map(|records| records.sets).unwrap_or_default();
    let own: Vec<&ChangeSet> = sets.iter().filter(|set| session.is_of_this_run(set)).collect();
    for set in own.iter().rev() {
        write(&of_set(set), session);
    }
    if let Err(failure) = exit {
        let first = failure.message.lines().next().unwrap_or_default();
        let what = if own.is_empty() { "refused, nothing was changed" } else { "ended early" };
        let line = LogLine::failed(format!("{what}: {first}"));
        write(&line.with("EVENT", "failed").with("EXIT", failure.exit.number()), session);
    }
}

fn of_set(set: &ChangeSet) -> LogLine {
    let undoes = set.undoes.map(|id| format!(" of {id}")).unwrap_or_default();
    let paths = |n: i64, what: &str| match n {
        0 => String::new(),
        n => format!(", {} {what}", counted(n.unsigned_abs(), "path", "paths")),
    };
    let changed = set.done - set.removed.min(set.done);
    let phase = match (set.phase_before, set.phase_after) {
        (Phase::Sealed, Phase::Open) => ", a window is open",
        (Phase::Open, Phase::Sealed) => ", the window is ended",
        _ => "",
    };
    let words = format!(
        "{}{undoes} {}: change set {}{}{}{}{phase}{}",
        set.command,
        set.site,
        set.id,
        paths(changed, "changed"),
        paths(set.removed, "removed"),
        paths(set.failed, "failed"),
        set.who.as_ref().map(|who| format!(", by {who}")).unwrap_or_default()
    );
    let line = if set.failed > 0 || set.ended.is_none() { LogLine::failed(words) } else { LogLine::done(words) };
    line.with("EVENT", "change")
        .with("SITE", &set.site)
        .with("COMMAND", set.command)
        .with("CHANGE_SET", set.id)
        .with("CHANGED", changed)
        .with("REMOVED", set.removed)
        .with("FAILED", set.failed)
        .with("PHASE", set.phase_after)
}

/// Tells of the high findings that are new since the last audit of the whole host.
pub(super) fn tell_news(news: &[News], session: &mut Session<'_>) {
    if !session.is_this_host() {
        return;
    }
    let is_high = |news: &&News| news.how != HowNew::Gone && news.finding.severity == Severity::High.word();
    for News { finding, .. } in news.iter().filter(is_high) {
        let paths = counted(count(usize::try_from(finding.paths).unwrap_or(usize::MAX)), "path", "paths");
        let words = format!("{}: {} in {}, {paths}: {}", finding.site, finding.check, finding.part, finding.says);
        let line = LogLine::high(words)
            .with("EVENT", "finding")
            .with("SITE", &finding.site)
            .with("CHECK", &finding.check)
            .with("SEVERITY", &finding.severity);
        write(&line, session);
    }
}

fn write(line: &LogLine, session: &mut Session<'_>) {
    let taken = line.write();
    let where_to = if taken { "in the system's log" } else { "there is no system log to take this" };
    session.terminal.detail(&format!("{where_to}: {}", line.words()));
}
