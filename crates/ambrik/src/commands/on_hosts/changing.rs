//! Changes of many hosts: shown together, asked once, made a batch after the other, and taken back by one number.

use std::io::Write as _;
use std::path::PathBuf;

use ambrik_core::fleet::{FleetRecord, FleetRuns, Limits, Question, StepState, read_changes};
use serde_json::Value;

use super::{JSON, OnHosts, ask_all, document, exit, lent};
use crate::ask::go_on;
use crate::failure::{Exit, Failure};
use crate::output::answers::{HostAnswer, Kept};
use crate::output::fleet::FleetReport;
use crate::output::{self, count, counted};
use crate::session::Session;

/// Where what was done on other hosts is on record: with the caller's own state (the XDG base directory specification).
pub(super) fn runs() -> Result<FleetRuns, Failure> {
    let home = || std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".local/state"));
    let named = std::env::var_os("XDG_STATE_HOME").map(PathBuf::from).filter(|path| path.is_absolute());
    let base = named
        .or_else(home)
        .ok_or_else(|| Failure::usage("there is no HOME to keep the records of runs over hosts in"))?;
    Ok(FleetRuns::at(&base.join("ambrik")))
}

/// Whether a preview says that nothing is to be done.
fn is_nothing(answer: &HostAnswer) -> bool {
    answer.answer.as_ref().is_ok_and(|answer| answer.exit == 0)
}

pub(super) fn run(
    asked: &OnHosts<'_>,
    kind: &str,
    hosts: &[String],
    words: &[String],
    limits: Limits,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let said = |long: &str, letter: char| {
        asked.words.iter().filter_map(|word| word.to_str()).any(|word| {
            word == long
                || word.strip_prefix('-').is_some_and(|it| {
                    !it.starts_with('-') && it.chars().all(|c| "ynqv".contains(c)) && it.contains(letter)
                })
        })
    };
    let (yes, preview) = (said("--yes", 'y'), said("--preview", 'n'));
    if asked.options.lend && !preview && !yes {
        return Err(Failure::usage(
            "--lend is for looking; with --yes a program that is lent may change something, too",
        ));
    }
    let (words, input) = archive(kind, words)?;
    let program = asked.program()?;
    let question = |host: &String, words: &[String], step: &[&str]| -> Result<Question, Failure> {
        let mut question = asked.question(host, words, step, program.as_ref())?;
        question.input = input.as_ref().map(|lent| std::sync::Arc::clone(&lent.file));
        Ok(question)
    };
    if asked.options.send_sites.is_some() {
        validate(asked, hosts, limits, session)?;
    }
    let previews = hosts
        .iter()
        .map(|host| question(host, &words, &["--format", "json", "--preview"]))
        .collect::<Result<Vec<_>, _>>()?;
    let kept = ask_all(hosts, previews, Some(kind), limits, session)?;
    if preview {
        if session.terminal.tells() {
            show(&kept, session)?;
        } else {
            session.terminal.write(&FleetReport {
                words: &words,
                kept: &kept,
                run: None,
                course: &[],
                is_audit: false,
            })?;
        }
        return Ok(exit(&kept));
    }
    if session.terminal.tells() {
        show(&kept, session)?;
    }
    let silent = kept.hosts.iter().filter(|host| host.answer.as_ref().map_or(true, |answer| answer.exit > 1)).count();
    if silent > 0 && !asked.options.go_on {
        return Err(Failure {
            exit: Exit::Partial,
            message: format!(
                "{} cannot say what would be changed there; nothing was changed: put that right, or say --go-on for the others",
                counted(count(silent), "host", "hosts")
            ),
        });
    }
    let able = |host: &&HostAnswer| host.answer.as_ref().is_ok_and(|answer| answer.exit <= 1) && !is_nothing(host);
    let to_change: Vec<String> = kept.hosts.iter().filter(able).map(|host| host.host.clone()).collect();
    if to_change.is_empty() {
        let which = if silent > 0 { "on the hosts that answered nothing" } else { "nothing" };
        session.terminal.say(&format!("{which} is to be changed"));
        return Ok(if silent > 0 { Exit::Partial } else { Exit::Clean });
    }
    drop(kept);
    let many = counted(count(to_change.len()), "host", "hosts");
    if !go_on(session, yes, &format!("Make these changes on {many}?"))? {
        session.terminal.say("nothing was changed");
        return Ok(Exit::Clean);
    }
    let runs = runs()?;
    let mut record = runs
        .begin(&words, asked.options.sudo, &to_change)
        .map_err(|error| Failure::usage(format!("{error}; nothing was changed")))?;
    // In front: of a very long command line the beginning is on record there.
    let with_token = [vec!["--of-run".to_owned(), record.token.clone()], words.clone()].concat();
    let ask = |host: &String| question(host, &with_token, &["--format", "json", "--yes"]);
    let steps = Steps { kind, runs, limits, batch: asked.options.batch, go_on: asked.options.go_on };
    let kept = step_by_step(&steps, &to_change, &ask, &mut record, session)?;
    tell(&kept, &record, "done", session)?;
    if !session.terminal.tells() {
        session.terminal.write(&FleetReport {
            words: &words,
            kept: &kept,
            run: Some(record.id),
            course: &[],
            is_audit: false,
        })?;
    }
    session
        .terminal
        .say(&format!("run {} over hosts; all of it is taken back by: ambrik undo --fleet {}", record.id, record.id));
    let failed = record.hosts.iter().any(|host| host.state != StepState::Done);
    Ok(if failed || silent > 0 { Exit::Partial } else { exit(&kept) })
}

/// An archive of this side goes to the hosts' standard input.
fn archive(kind: &str, words: &[String]) -> Result<(Vec<String>, Option<ambrik_core::fleet::Lent>), Failure> {
    if kind != "unpack" {
        return Ok((words.to_vec(), None));
    }
    let mut words = words.to_vec();
    // The first word behind the command that is a file here.
    let at = words.iter().position(|word| word == "unpack").unwrap_or(0) + 1;
    let place = words
        .iter()
        .enumerate()
        .skip(at)
        .find(|(_, word)| !word.starts_with('-') && std::path::Path::new(word).is_file());
    let Some((place, _)) = place else {
        return Err(Failure::usage("unpack --on: name an archive that is a file on this side"));
    };
    let lent = lent(std::path::Path::new(&words[place]), "archive")?;
    if let Some(word) = words.get_mut(place) {
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
        wrong.extend(says.map(|says| format!("{}: {}", host.host, ambrik_core::shown::Shown(says.as_ref()))));
    }
    if wrong.is_empty() || asked.options.go_on {
        return Ok(());
    }
    wrong.push("the site files that were sent are not right everywhere; nothing was changed".into());
    Err(Failure::usage(wrong.join("\n")))
}

/// How a run goes on.
struct Steps<'s> {
    kind: &'s str,
    runs: FleetRuns,
    limits: Limits,
    batch: usize,
    go_on: bool,
}

/// Goes on batch by batch; what is begun is on record before it is.
fn step_by_step(
    steps: &Steps<'_>,
    hosts: &[String],
    question: &dyn Fn(&String) -> Result<Question, Failure>,
    record: &mut FleetRecord,
    session: &mut Session<'_>,
) -> Result<Kept, Failure> {
    let Steps { kind, ref runs, limits, batch, go_on } = *steps;
    let failed = |error: ambrik_core::fleet::RunError| Failure { exit: Exit::Partial, message: error.to_string() };
    let spool = tempfile::tempfile()
        .map_err(|error| Failure::io(&format!("cannot keep what hosts answer: {error}"), &error))?;
    let mut all = Kept { spool, hosts: Vec::new() };
    for batch in hosts.chunks(batch) {
        mark(record, batch, |_| (StepState::Begun, String::new()));
        runs.write(record).map_err(failed)?;
        let questions = batch.iter().map(question).collect::<Result<Vec<_>, _>>()?;
        let at_once = Limits { at_once: batch.len(), ..limits };
        let kept = ask_all(batch, questions, Some(kind), at_once, session)?;
        let mut stop = false;
        for host in &kept.hosts {
            // Findings that are left are no failure.
            let is_done = host.answer.as_ref().is_ok_and(|answer| answer.exit <= 1);
            let says = match &host.answer {
                Ok(answer) if answer.exit <= 1 => String::new(),
                Ok(answer) => format!("exit code {}", answer.exit),
                Err(no) => format!("{} {}", no.trouble.says(), no.words).trim().to_owned(),
            };
            if !is_done {
                stop = true;
                session.terminal.warn(&format!("{}: {says}", host.host));
            }
            let state = if is_done { StepState::Done } else { StepState::Failed };
            mark(record, std::slice::from_ref(&host.host), |_| (state, says.clone()));
        }
        all.extend(&kept)?;
        runs.write(record).map_err(failed)?;
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

fn mark(record: &mut FleetRecord, hosts: &[String], state: impl Fn(&str) -> (StepState, String)) {
    for of in record.hosts.iter_mut().filter(|of| hosts.contains(&of.host)) {
        (of.state, of.says) = state(&of.host);
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

/// What would be changed, host by host.
fn show(kept: &Kept, session: &mut Session<'_>) -> Result<(), Failure> {
    let mut lines = Vec::new();
    for host in &kept.hosts {
        let line = match &host.answer {
            Err(_) => continue,
            Ok(_) if is_nothing(host) => format!("{}: nothing to do", host.host),
            Ok(_) => {
                let of = read_changes(kept.read(host)).unwrap_or_default();
                let told = of.iter().filter(|(_, n)| *n > 0).map(|(name, n)| format!("{name}: {}", output::paths(*n)));
                let told = told.collect::<Vec<_>>().join(", ");
                let told = if told.is_empty() { "to be changed".to_owned() } else { told };
                format!("{}: {}", host.host, ambrik_core::shown::Shown(told.as_ref()))
            }
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
            StepState::Begun => "begun, and what came of it is not known".to_owned(),
            StepState::Done => done.to_owned(),
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
            mark(&mut record, std::slice::from_ref(&host), |_| (StepState::TakenBack, String::new()));
            runs.write(&record).map_err(|error| Failure { exit: Exit::Partial, message: error.to_string() })?;
        }
    }
    tell(&Kept { spool: tempfile::tempfile()?, hosts: Vec::new() }, &record, "done, and not taken back", session)?;
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
        let open = set["undone_by"].is_null() && set["undoes"].is_null();
        open && line.split(' ').any(|word| word == token)
    };
    let mut found: Vec<i64> = sets.filter(is_of_it).filter_map(|set| set["id"].as_i64()).collect();
    found.sort_unstable_by_key(|id| std::cmp::Reverse(*id));
    found
}
