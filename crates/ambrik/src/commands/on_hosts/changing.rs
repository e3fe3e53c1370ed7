//! Changes of many hosts: shown together, asked once, made a batch after the other, and taken back by one number.

use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ambrik_core::fleet::{
    FleetRecord, FleetRuns, Lent, Limits, NoAnswer, Question, StepState, Trouble, broken_pages, previewed,
};
use ambrik_core::shown::Shown;
use serde_json::Value;

use super::{JSON, OnHosts, ask_all, document, exit, lent, spool};
use crate::ask::go_on;
use crate::failure::{Exit, Failure};
use crate::options::HostOptions;
use crate::output::answers::{HostAnswer, Kept};
use crate::output::fleet::FleetReport;
use crate::output::{self, count, counted};
use crate::session::Session;

/// Where what was done on other hosts is on record: with the caller's own state (the XDG base directory specification), or, where the
/// environment is somebody else's, with the host's.
pub(super) fn runs() -> Result<FleetRuns, Failure> {
    if crate::lends_rights() {
        return Ok(FleetRuns::at(Path::new("/var/lib/ambrik")));
    }
    let home = || std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".local/state"));
    let named = std::env::var_os("XDG_STATE_HOME").map(PathBuf::from).filter(|path| path.is_absolute());
    let base = named.or_else(home).ok_or_else(|| {
        Failure::usage("there is no HOME to keep the records of runs over hosts in; nothing was changed")
    })?;
    Ok(FleetRuns::at(&base.join("ambrik")))
}

/// Whether a preview says that nothing is to be done.
fn is_nothing(answer: &HostAnswer) -> bool {
    answer.answer.as_ref().is_ok_and(|answer| answer.exit == 0)
}

/// What is changed on hosts.
struct Change<'c> {
    asked: &'c OnHosts<'c>,
    kind: &'c str,
    words: Vec<String>,
    program: Option<Lent>,
    /// An archive of this side.
    input: Option<Lent>,
    limits: Limits,
}

impl Change<'_> {
    fn question(&self, host: &str, words: &[String], step: &[&str]) -> Result<Question, Failure> {
        let mut question = self.asked.question(host, words, step, self.program.as_ref())?;
        question.input = self.input.as_ref().map(|lent| Arc::clone(&lent.file));
        Ok(question)
    }

    /// Whether it makes change sets, which are taken back by one number.
    fn is_recorded(&self) -> bool {
        !matches!(self.kind, "accept" | "purge")
    }

    fn report<'r>(&'r self, kept: &'r Kept, run: Option<u64>) -> FleetReport<'r> {
        FleetReport { words: &self.words, kept, run, course: &[], is_audit: false }
    }
}

pub(super) fn run(
    asked: &OnHosts<'_>,
    (kind, archive): (&str, Option<&Path>),
    hosts: &[String],
    words: Vec<String>,
    limits: Limits,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    if asked.options.lend && !asked.preview && !asked.yes {
        let says = "--lend is for looking; with --yes a program that is lent may change something, too";
        return Err(Failure::usage(says));
    }
    let (words, input) = match archive {
        Some(archive) => with_archive(words, archive)?,
        None => (words, None),
    };
    let change = Change { asked, kind, words, program: asked.program()?, input, limits };
    if asked.options.send_sites.is_some() {
        validate(asked, hosts, limits, session)?;
    }
    let previews = hosts.iter().map(|host| change.question(host, &change.words, &["--format", "json", "--preview"]));
    let mut kept = ask_all(hosts, previews.collect::<Result<_, _>>()?, Some(kind), limits, session)?;
    only_what_can_be_told(kind, &mut kept);
    if session.terminal.tells() {
        show(kind, &kept, session)?;
    } else if asked.preview {
        session.terminal.write(&change.report(&kept, None))?;
    }
    if asked.preview {
        return Ok(exit(&kept));
    }
    let silent: Vec<&HostAnswer> = kept.hosts.iter().filter(|host| !can_say(host)).collect();
    if !silent.is_empty() && !asked.options.go_on {
        let named = silent.iter().map(|host| format!("{}: {}", host.host, why_not(host)));
        let named: Vec<String> = named.filter(|_| !session.terminal.tells()).collect();
        let many = counted(count(silent.len()), "host", "hosts");
        let says = format!(
            "{many} cannot say what would be changed there; nothing was changed: put that right, or say --go-on for the others"
        );
        return Err(Failure { exit: Exit::Partial, message: [named, vec![says]].concat().join("\n") });
    }
    let some_silent = !silent.is_empty();
    let to_change: Vec<String> =
        kept.hosts.iter().filter(|host| can_say(host) && !is_nothing(host)).map(|host| host.host.clone()).collect();
    if to_change.is_empty() {
        let which = if some_silent { "on the hosts that answered nothing" } else { "nothing" };
        session.terminal.say(&format!("{which} is to be changed"));
        if !session.terminal.tells() {
            session.terminal.write(&change.report(&kept, None))?;
        }
        return Ok(if some_silent { Exit::Partial } else { Exit::Clean });
    }
    drop(kept);
    let many = counted(count(to_change.len()), "host", "hosts");
    if !go_on(session, asked.yes, &format!("Make these changes on {many}?"))? {
        session.terminal.say("nothing was changed");
        return Ok(Exit::Clean);
    }
    make(&change, &to_change, some_silent, session)
}

/// Makes a change on hosts, and tells what came of it.
fn make(change: &Change<'_>, hosts: &[String], some_silent: bool, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let (words, sudo) = (&change.words, change.asked.options.sudo);
    let (runs, mut record) = if change.is_recorded() {
        let runs = runs()?;
        let record = runs.begin(words, sudo, hosts);
        (Some(runs), record.map_err(|error| Failure::usage(format!("{error}; nothing was changed")))?)
    } else {
        (None, FleetRecord::of(0, words, sudo, hosts))
    };
    let run = runs.as_ref().map(|_| record.id);
    // In front: of a very long command line the beginning is on record there.
    let token = run.map(|_| vec!["--of-run".to_owned(), record.token.clone()]).unwrap_or_default();
    let words = [token, words.clone()].concat();
    let kept = step_by_step(change, &words, runs.as_ref(), &mut record, session)?;
    tell(&kept, &record, "done", session)?;
    if !session.terminal.tells() {
        session.terminal.write(&change.report(&kept, run))?;
    }
    if let Some(id) = run {
        session.terminal.say(&format!("run {id} over hosts, taken back by: ambrik undo --fleet {id}"));
    }
    let failed = record.hosts.iter().any(|host| host.state != StepState::Done);
    Ok(if failed || some_silent { Exit::Partial } else { exit(&kept) })
}

/// Whether a host said what would be changed there.
fn can_say(host: &HostAnswer) -> bool {
    host.answer.as_ref().is_ok_and(|answer| answer.exit <= 1)
}

/// Why a host did not do, or say, what it was asked.
fn why_not(host: &HostAnswer) -> String {
    match &host.answer {
        Ok(answer) => format!("not all of it (exit code {})", answer.exit),
        Err(no) if no.words.is_empty() => no.trouble.says().to_owned(),
        Err(no) => format!("{} ({})", no.trouble.says(), no.words),
    }
}

/// The words with standard input in the place of an archive of this side, and that.
fn with_archive(mut words: Vec<String>, archive: &Path) -> Result<(Vec<String>, Option<Lent>), Failure> {
    if !archive.is_file() {
        let says = format!("unpack --on: {} is no file on this side, which the archive must be", Shown(archive));
        return Err(Failure::usage(says));
    }
    let lent = lent(archive, "archive")?;
    if let Some(word) = words.iter_mut().find(|word| Path::new(word) == archive) {
        "-".clone_into(word);
    }
    Ok((words, Some(lent)))
}

/// Site files that are sent along must be right on each host before anything is done.
fn validate(asked: &OnHosts<'_>, hosts: &[String], limits: Limits, session: &mut Session<'_>) -> Result<(), Failure> {
    let words = ["proofread".to_owned()];
    let program = asked.program()?;
    let questions =
        hosts.iter().map(|host| asked.question(host, &words, JSON, program.as_ref())).collect::<Result<Vec<_>, _>>()?;
    let kept = ask_all(hosts, questions, Some("proofread"), limits, session)?;
    let mut wrong = Vec::new();
    for host in &kept.hosts {
        if let Err(no) = &host.answer {
            wrong.push(format!("{}: {} {}", host.host, no.trouble.says(), no.words));
            continue;
        }
        let document = document(&kept, host)?;
        let remarks = document["remarks"].as_array().into_iter().flatten();
        let says = remarks.filter(|it| it["kind"] == "wrong").filter_map(|wrong| wrong["says"].as_str());
        wrong.extend(says.map(|says| format!("{}: {}", host.host, Shown(says.as_ref()))));
    }
    if !wrong.is_empty() && !asked.options.go_on {
        wrong.push("the site files that were sent are not right everywhere; nothing was changed".into());
        return Err(Failure::usage(wrong.join("\n")));
    }
    for wrong in &wrong {
        session.terminal.warn(wrong);
    }
    Ok(())
}

/// Goes on batch by batch; what is begun is on record before it is.
fn step_by_step(
    change: &Change<'_>,
    words: &[String],
    runs: Option<&FleetRuns>,
    record: &mut FleetRecord,
    session: &mut Session<'_>,
) -> Result<Kept, Failure> {
    let write = |record: &FleetRecord| {
        let written = runs.map_or(Ok(()), |runs| runs.write(record));
        written.map_err(|error| Failure { exit: Exit::Partial, message: error.to_string() })
    };
    let HostOptions { batch, go_on, .. } = *change.asked.options;
    let hosts: Vec<String> = record.hosts.iter().map(|host| host.host.clone()).collect();
    let mut all = Kept { spool: spool()?, hosts: Vec::new() };
    for batch in hosts.chunks(batch) {
        mark(record, batch, StepState::Begun, "");
        write(record)?;
        let questions = batch.iter().map(|host| change.question(host, words, &["--format", "json", "--yes"]));
        let at_once = Limits { at_once: batch.len(), ..change.limits };
        let kept = ask_all(batch, questions.collect::<Result<_, _>>()?, Some(change.kind), at_once, session)?;
        let mut stop = false;
        for host in &kept.hosts {
            let (state, says) = came_of(host, &kept);
            if state != StepState::Done {
                stop = true;
                session.terminal.warn(&format!("{}: {says}", host.host));
            }
            mark(record, std::slice::from_ref(&host.host), state, &says);
        }
        all.extend(&kept)?;
        write(record)?;
        if stop && !go_on {
            let left = record.hosts.iter().filter(|host| host.state == StepState::Waiting).count();
            if left > 0 {
                let left = counted(count(left), "host was", "hosts were");
                session.terminal.warn(&format!("stopped there: {left} not begun; --go-on goes on to the others"));
            }
            break;
        }
        if ambrik_core::signals::came().is_some() {
            break;
        }
    }
    Ok(all)
}

/// How far a host is after a step. Where nothing answers any more, what was begun there may still go on.
fn came_of(host: &HostAnswer, kept: &Kept) -> (StepState, String) {
    // What the pages say goes before all else.
    let broken = host.answer.is_ok().then(|| broken_pages(kept.read(host)).ok()).flatten().unwrap_or_default();
    if !broken.is_empty() {
        return (StepState::Failed, broken.join("; "));
    }
    match &host.answer {
        Ok(answer) if answer.exit == 0 => (StepState::Done, String::new()),
        // What is left to be found is no failure.
        Ok(answer) if answer.exit == 1 => {
            (StepState::Done, format!("findings remain: ambrik --on {} audit", host.host))
        }
        Err(no) if no.trouble.leaves_open() => (StepState::Begun, why_not(host)),
        _ => (StepState::Failed, why_not(host)),
    }
}

fn mark(record: &mut FleetRecord, hosts: &[String], state: StepState, says: &str) {
    for of in record.hosts.iter_mut().filter(|of| hosts.contains(&of.host)) {
        (of.state, of.says) = (state, says.to_owned());
    }
}

impl Kept {
    /// Takes over what other hosts answered.
    fn extend(&mut self, other: &Self) -> std::io::Result<()> {
        use std::io::Seek as _;
        for mut host in other.hosts.clone() {
            if host.answer.is_ok() {
                let from = self.spool.seek(std::io::SeekFrom::End(0))?;
                let length = std::io::copy(&mut other.read(&host), &mut self.spool)?;
                host.place = (from, length);
            }
            self.hosts.push(host);
        }
        Ok(())
    }
}

/// A preview that does not say what would be changed is none: nobody is asked to say yes to it.
fn only_what_can_be_told(kind: &str, kept: &mut Kept) {
    for number in 0..kept.hosts.len() {
        let host = &kept.hosts[number];
        if !can_say(host) || is_nothing(host) {
            continue;
        }
        if let Err(error) = previewed(kind, kept.read(host)) {
            let words = Shown(error.to_string().as_ref()).to_string();
            kept.hosts[number].answer = Err(NoAnswer { trouble: Trouble::Rubbish, words });
        }
    }
}

/// What would be changed, host by host.
fn show(kind: &str, kept: &Kept, session: &mut Session<'_>) -> Result<(), Failure> {
    let mut lines = Vec::new();
    for host in &kept.hosts {
        let line = match &host.answer {
            Err(_) => continue,
            Ok(_) if is_nothing(host) => format!("{}: nothing to do", host.host),
            Ok(_) if !can_say(host) => format!("{}: {}", host.host, why_not(host)),
            Ok(_) => format!("{}: {}", host.host, previewed(kind, kept.read(host)).unwrap_or_default()),
        };
        lines.push(line);
    }
    let mut out = session.terminal.out();
    for line in lines {
        writeln!(out, "{line}")?;
    }
    output::fleet::unanswered(kept, &mut out)?;
    Ok(())
}

fn tell(kept: &Kept, record: &FleetRecord, done: &str, session: &mut Session<'_>) -> Result<(), Failure> {
    if !session.terminal.tells() {
        return Ok(());
    }
    let mut out = session.terminal.out();
    for host in &record.hosts {
        let state = match host.state {
            StepState::Waiting => "not begun".to_owned(),
            StepState::Begun => format!("begun, and what came of it is not known: {}", host.says),
            StepState::Done if host.says.is_empty() => done.to_owned(),
            StepState::Done => format!("{done}; {}", host.says),
            StepState::Failed => format!("failed: {}", host.says),
            StepState::TakenBack => "taken back".to_owned(),
        };
        writeln!(out, "{}: {state}", host.host)?;
    }
    output::fleet::unanswered(kept, &mut out)?;
    Ok(())
}

/// `undo --fleet ID`: takes back what a run did, on each host what its own records say.
pub(crate) fn undo_run(
    id: u64,
    yes: bool,
    preview: bool,
    asked: &OnHosts<'_>,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let runs = runs()?;
    let mut record = runs.read(id).map_err(|error| Failure::usage(error.to_string()))?;
    let limits = asked.limits()?;
    let begun: Vec<String> = record
        .hosts
        .iter()
        .rev()
        .filter(|host| matches!(host.state, StepState::Begun | StepState::Done | StepState::Failed))
        .map(|host| host.host.clone())
        .collect();
    if begun.is_empty() {
        return Err(Failure::usage(format!("run {id}: nothing of it is to be taken back")));
    }
    let sudo = record.sudo || asked.options.sudo;
    let place = place_words(&record.words);
    let program = asked.program()?;
    let ask = |words: &[&str]| {
        let words: Vec<String> = place.iter().cloned().chain(words.iter().map(|word| (*word).to_owned())).collect();
        Question { words, sudo, program: program.clone(), ..Question::default() }
    };
    let histories = begun.iter().map(|_| ask(&["--format", "json", "history"])).collect();
    let kept = ask_all(&begun, histories, Some("history"), limits, session)?;
    let mut todo: Vec<(String, Vec<i64>)> = Vec::new();
    let mut failed = kept.unanswered().next().is_some();
    for host in kept.hosts.iter().filter(|host| host.answer.is_ok()) {
        match document(&kept, host) {
            Ok(history) => todo.push((host.host.clone(), sets_of(&history, &record.token))),
            Err(failure) => {
                failed = true;
                session.terminal.warn(&failure.message);
            }
        }
    }
    if session.terminal.tells() {
        let mut out = session.terminal.out();
        for (host, sets) in &todo {
            match sets.len() {
                0 => writeln!(out, "{host}: nothing of run {id} is there to be taken back")?,
                n => writeln!(out, "{host}: {} to be taken back", counted(count(n), "change set", "change sets"))?,
            }
        }
        output::fleet::unanswered(&kept, &mut out)?;
    }
    if preview {
        return Ok(if failed { Exit::Partial } else { Exit::Findings });
    }
    if !go_on(session, yes, &format!("Take run {id} back?"))? {
        session.terminal.say("nothing was changed");
        return Ok(Exit::Clean);
    }
    for (host, sets) in todo {
        let mut whole = true;
        for set in sets {
            let number = set.to_string();
            let question = ask(&["--format", "json", "undo", &number, "--yes"]);
            let one = ask_all(std::slice::from_ref(&host), vec![question], Some("undo"), limits, session)?;
            let is_done = one.hosts.iter().all(|host| host.answer.as_ref().is_ok_and(|answer| answer.exit == 0));
            if !is_done {
                whole = false;
                session.terminal.warn(&format!("{host}: change set {set} was not taken back, or in part"));
                output::fleet::unanswered(&one, &mut session.terminal.out())?;
                break;
            }
        }
        failed |= !whole;
        if whole {
            mark(&mut record, std::slice::from_ref(&host), StepState::TakenBack, "");
            runs.write(&record).map_err(|error| Failure { exit: Exit::Partial, message: error.to_string() })?;
        }
    }
    tell(&Kept { spool: spool()?, hosts: Vec::new() }, &record, "done, and not taken back", session)?;
    Ok(if failed { Exit::Partial } else { Exit::Clean })
}

/// The options of the run's own line that say where records are, there.
fn place_words(words: &[String]) -> Vec<String> {
    let mut found = Vec::new();
    let mut words = words.iter();
    while let Some(word) = words.next() {
        let is_place = |name: &str| ["--state", "--host", "--sites"].contains(&name);
        match word.split_once('=') {
            Some((name, _)) if is_place(name) => found.push(word.clone()),
            None if is_place(word) => found.extend([word.clone()].into_iter().chain(words.next().cloned())),
            _ => {}
        }
    }
    found
}

/// The change sets of a run, the newest first: by what stands in their command line.
fn sets_of(history: &Value, token: &str) -> Vec<i64> {
    let sets = history["change_sets"].as_array().into_iter().flatten();
    let is_of_it = |set: &&Value| {
        let line = set["command_line"].as_str().unwrap_or_default();
        set["undone_by"].is_null() && line.split(' ').any(|word| word == token)
    };
    let mut found: Vec<i64> = sets.filter(is_of_it).filter_map(|set| set["id"].as_i64()).collect();
    found.sort_unstable_by_key(|id| std::cmp::Reverse(*id));
    found
}
