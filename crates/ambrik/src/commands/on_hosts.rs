//! `--on`: a command on other hosts, the answers as one.

mod changing;
mod following;

use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use ambrik_core::fleet::{
    AuditAnswer, Ended, FleetAudit, FleetSite, Lent, Limits, NoAnswer, Question, Said, Trouble, ask, for_hosts, judge,
    read_audit, sites_for, targets,
};
use ambrik_core::shown::Shown;
use ambrik_core::signals;
use sha2::Digest as _;

use super::Command;
use super::audit::{within, write_to};
use super::watch::WatchArgs;
use crate::failure::{Exit, Failure};
use crate::options::{Format, HostOptions};
use crate::output::answers::{HostAnswer, Kept};
use crate::output::count;
use crate::output::fleet::FleetReport;
use crate::session::Session;

pub(super) use changing::undo_run;

/// Answers are asked for so.
const JSON: &[&str] = &["--format", "json"];
/// So long for each host, where nothing else is said.
const LONGEST: Duration = Duration::from_secs(120);
/// No more hosts are asked at once: each takes five handles of the thousand that a process usually has.
const MOST_AT_ONCE: usize = 128;
/// No host says more, in bytes.
const MOST_BYTES: u64 = 128 << 20;

/// What is asked of hosts.
pub(crate) struct OnHosts<'o> {
    pub(crate) options: &'o HostOptions,
    pub(crate) format: Format,
    /// The words of the command line, the program's name first.
    pub(crate) words: &'o [OsString],
    /// Whether nobody is asked, and whether that is only shown.
    pub(crate) yes: bool,
    pub(crate) preview: bool,
}

/// How a command goes over hosts.
enum Way<'c> {
    /// It looks, and answers with a document of this kind.
    Looks(&'static str),
    /// It changes something, and answers so.
    Changes(&'static str),
    /// It tells what happens there until it is ended here.
    Follows(&'c WatchArgs),
    /// It does not, and why.
    Not(&'static str),
}

fn way(command: &Command) -> Way<'_> {
    match command {
        Command::Audit(args) => Way::Looks(args.document()),
        Command::Accounts(_) => Way::Looks("accounts"),
        Command::Survey(_) => Way::Looks("survey"),
        Command::Why(_) => Way::Looks("why"),
        Command::Checks(_) => Way::Looks("checks"),
        Command::Proofread(_) => Way::Looks("proofread"),
        Command::History(_) => Way::Looks("history"),
        Command::Set(_) | Command::Open(_) | Command::Seal(_) | Command::Move(_) => Way::Changes("changes"),
        Command::Unpack(_) => Way::Changes("unpack"),
        Command::Undo(_) => Way::Changes("undo"),
        Command::Accept(_) => Way::Changes("accept"),
        Command::Purge(_) => Way::Changes("purge"),
        Command::Watch(args) => Way::Follows(args),
        Command::Demo(_) | Command::Manual(_) | Command::ProveAsPhp(_) => Way::Not("this command is for this side"),
    }
}

/// Runs a command on the hosts that `--on` names.
pub(crate) fn run(command: &Command, asked: &OnHosts<'_>, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let hosts =
        targets(asked.options.on.as_deref().unwrap_or_default()).map_err(|error| Failure::usage(error.to_string()))?;
    let words = for_hosts(asked.words.get(1..).unwrap_or_default()).map_err(|word| {
        Failure::usage(format!("{}: what is not UTF-8 cannot be sent to a host", Shown(Path::new(&word))))
    })?;
    let limits = asked.limits()?;
    // With -q nothing is said where nothing is to be said.
    session.terminal.hold();
    match way(command) {
        Way::Not(why) => Err(Failure::usage(format!("--on: {why}"))),
        Way::Looks(kind) => {
            if words.iter().any(|word| word == "-") {
                return Err(Failure::usage("--on: what stands on standard input here is not sent to hosts"));
            }
            let in_text = asked.format == Format::Text && kind != "audit";
            let program = asked.program()?;
            let step: &[&str] = match (in_text, crate::plain::is_plain()) {
                (false, _) => JSON,
                (true, false) => &["--format", "text", "--color", "never"],
                (true, true) => &["--format", "text", "--color", "never", "--plain"],
            };
            let question = |host: &String| asked.question(host, &words, step, program.as_ref());
            let questions = hosts.iter().map(question).collect::<Result<Vec<_>, _>>()?;
            let kept = ask_all(&hosts, questions, Some(kind).filter(|_| !in_text), limits, session)?;
            let course = if words == ["audit"] { recorded(&kept, session) } else { Vec::new() };
            let report =
                FleetReport { words: &words, kept: &kept, run: None, course: &course, is_audit: kind == "audit" };
            let to = if let Command::Audit(args) = command { args.to() } else { None };
            match to {
                Some(path) => write_to(path, &report, session)?,
                None => session.terminal.write(&report)?,
            }
            Ok(exit(&kept))
        }
        Way::Follows(args) => following::run(args, asked, &hosts, &words, limits.within, session),
        Way::Changes(kind) => {
            let archive = if let Command::Unpack(args) = command { Some(args.archive()) } else { None };
            changing::run(asked, (kind, archive), &hosts, words, limits, session)
        }
    }
}

impl OnHosts<'_> {
    /// Whether other hosts are asked. What is for them alone is refused without any.
    pub(super) fn are_named(&self) -> Result<bool, Failure> {
        let HostOptions { on, sudo, go_on, lend, send_sites, .. } = self.options;
        let alone = [("--sudo", *sudo), ("--go-on", *go_on), ("--lend", *lend), ("--send-sites", send_sites.is_some())];
        match alone.iter().find(|(_, is)| *is && on.is_none()) {
            Some((name, _)) => Err(Failure::usage(format!("{name} is for other hosts: name them with --on"))),
            None => Ok(on.is_some()),
        }
    }

    fn limits(&self) -> Result<Limits, Failure> {
        let within = self.options.within.as_deref().map_or(Ok(LONGEST), within)?;
        let is_bounded = |n: usize| (1..=MOST_AT_ONCE).contains(&n);
        if !is_bounded(self.options.at_once) || !is_bounded(self.options.batch) {
            return Err(Failure::usage(format!("--at-once and --batch are 1 to {MOST_AT_ONCE}")));
        }
        Ok(Limits { within, at_once: self.options.at_once, bytes: MOST_BYTES })
    }

    /// This program, where it is lent.
    fn program(&self) -> Result<Option<Lent>, Failure> {
        let path = Path::new("/proc/self/exe");
        self.options.lend.then(|| lent(path, "ambrik")).transpose()
    }

    /// What a host is asked: the words of the command, and those of this step.
    fn question(
        &self,
        host: &str,
        words: &[String],
        step: &[&str],
        program: Option<&Lent>,
    ) -> Result<Question, Failure> {
        // What a step says belongs to the command: behind it, and before what is no option any more.
        let end = words.iter().position(|word| word == "--").unwrap_or(words.len());
        let (before, rest) = words.split_at(end);
        let own = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
        let words = [before.to_vec(), own(step), rest.to_vec()].concat();
        let mut sites = Vec::new();
        if let Some(dir) = &self.options.send_sites {
            let unreadable = |error: io::Error| {
                Failure::io(&format!("cannot read the site files in {}: {error}", Shown(dir)), &error)
            };
            let files = sites_for(dir, host).map_err(unreadable)?;
            let files = files.filter(|files| !files.is_empty()).ok_or_else(|| {
                Failure::usage(format!(
                    "{} has no site files for {host}: put them into {host}/ or all/ there",
                    Shown(dir)
                ))
            })?;
            for file in files {
                let name = file.file_name().and_then(|name| name.to_str()).unwrap_or_default().to_owned();
                if !name.chars().all(|sign| sign.is_ascii_alphanumeric() || "._-".contains(sign)) {
                    return Err(Failure::usage(format!(
                        "{}: letters, digits and . _ - are what a site file's name has",
                        Shown(&file)
                    )));
                }
                sites.push(lent(&file, &name)?);
            }
        }
        Ok(Question { words, sudo: self.options.sudo, program: program.cloned(), sites, alive: None, input: None })
    }
}

/// A file that is sent along.
fn lent(path: &Path, name: &str) -> Result<Lent, Failure> {
    let unreadable = |error: io::Error| Failure::io(&format!("cannot read {}: {error}", Shown(path)), &error);
    let mut file = File::open(path).map_err(unreadable)?;
    let mut sum = sha2::Sha256::new();
    let (mut bytes, mut buffer) = (0, vec![0; 1 << 16]);
    loop {
        let count = file.read(&mut buffer).map_err(unreadable)?;
        if count == 0 {
            break;
        }
        sum.update(buffer.get(..count).unwrap_or_default());
        bytes += count as u64;
    }
    let sum = sum.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
    Ok(Lent { file: Arc::new(file), bytes, sum, name: name.to_owned() })
}

/// A file for what hosts answer, which nobody else opens.
fn spool() -> Result<File, Failure> {
    tempfile::tempfile().map_err(|error| not_kept(&error))
}

fn not_kept(error: &io::Error) -> Failure {
    Failure { exit: Exit::Partial, message: format!("what hosts answer cannot be kept on this side: {error}") }
}

/// The program that makes connections.
fn client() -> &'static OsStr {
    OsStr::new(if crate::lends_rights() { "/usr/bin/ssh" } else { "ssh" })
}

/// Asks hosts, each its own question; documents of `kind` are expected, or texts where there is none.
fn ask_all(
    hosts: &[String],
    questions: Vec<Question>,
    kind: Option<&str>,
    limits: Limits,
    session: &mut Session<'_>,
) -> Result<Kept, Failure> {
    let _held = signals::hold();
    let asked: Vec<(usize, (&String, Question))> = hosts.iter().zip(questions).enumerate().collect();
    let kept = Mutex::new((Kept { spool: spool()?, hosts: Vec::new() }, Vec::new()));
    let full: Mutex<Option<io::Error>> = Mutex::default();
    let command = |(_, (host, question)): &(usize, (&String, Question))| question.command(client(), host);
    let done = |(number, (host, _)): &(usize, (&String, Question)), said: Said| {
        // One after the other: an answer is taken apart in memory.
        let mut kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
        match kept.0.take(host, &said, kind) {
            Ok(answer) => kept.1.push((*number, answer)),
            Err(error) => drop(full.lock().unwrap_or_else(PoisonError::into_inner).insert(error)),
        }
        full.lock().unwrap_or_else(PoisonError::into_inner).is_none()
    };
    session.terminal.detail(&format!("asking {} hosts, {} at once", hosts.len(), limits.at_once));
    ask(&asked, limits, &command, &done)
        .map_err(|error| Failure::io(&format!("hosts cannot be asked: {error}"), &error))?;
    if let Some(error) = full.into_inner().unwrap_or_else(PoisonError::into_inner) {
        return Err(not_kept(&error));
    }
    let (mut kept, mut answers) = kept.into_inner().unwrap_or_else(PoisonError::into_inner);
    // In the order in which they were named; whoever was not come to is named too.
    for (number, host) in hosts.iter().enumerate() {
        if answers.iter().all(|(known, _)| *known != number) {
            answers.push((number, HostAnswer::none(host, Trouble::Stopped, "")));
        }
    }
    answers.sort_by_key(|(number, _)| *number);
    kept.hosts = answers.into_iter().map(|(_, answer)| answer).collect();
    Ok(kept)
}

impl Kept {
    /// Keeps what a host said.
    fn take(&mut self, host: &str, said: &Said, kind: Option<&str>) -> io::Result<HostAnswer> {
        let answer = match (kind, &said.ended) {
            (Some(kind), _) => judge(said, kind),
            // A text is not taken apart; its code says how it went.
            (None, Ended::Exit(code @ 0..=4)) if said.bytes > 0 || *code <= 1 => {
                Ok(ambrik_core::fleet::Answer { kind: "text".into(), exit: u8::try_from(*code).unwrap_or_default() })
            }
            (None, _) => {
                Err(judge(said, "text").err().unwrap_or(NoAnswer { trouble: Trouble::Rubbish, words: String::new() }))
            }
        };
        let mut found = HostAnswer::of(host, answer, said.took);
        if found.answer.is_err() {
            return Ok(found);
        }
        let from = self.spool.seek(SeekFrom::End(0))?;
        found.place = (from, io::copy(&mut said.read()?, &mut self.spool)?);
        self.spool.flush()?;
        if kind == Some("audit") {
            match read_audit(said.read()?) {
                Ok(audit) => found.audit = Some(audit),
                Err(error) => {
                    let words = Shown(error.to_string().as_ref()).to_string();
                    found.answer = Err(NoAnswer { trouble: Trouble::Rubbish, words });
                }
            }
        }
        Ok(found)
    }
}

/// Puts an audit of whole hosts on record on this side; the answer is those that are, the oldest first.
fn recorded(kept: &Kept, session: &mut Session<'_>) -> Vec<FleetAudit> {
    let counts = |audit: &AuditAnswer| {
        let of_sites = audit.sites.iter().map(FleetSite::severities);
        of_sites.fold([0; 3], |sum: [u64; 3], of| std::array::from_fn(|n| sum[n] + count(of[n])))
    };
    let hosts = kept.hosts.iter().filter_map(|host| Some((host.host.clone(), counts(host.audit.as_ref()?)))).collect();
    let Ok(runs) = changing::runs() else { return Vec::new() };
    if let Err(error) = runs.add_audit(FleetAudit { taken: jiff::Timestamp::now().to_string(), hosts }) {
        session.terminal.detail(&format!("{error}: the course of the findings is not kept"));
    }
    runs.audits()
}

/// The exit code of all hosts: 3 where one gave no answer, else the gravest of theirs.
fn exit(kept: &Kept) -> Exit {
    let of = |host: &HostAnswer| match &host.answer {
        Err(_) => Exit::Partial,
        Ok(answer) => match answer.exit {
            0 => Exit::Clean,
            1 => Exit::Findings,
            _ => Exit::Partial,
        },
    };
    kept.hosts.iter().map(of).max().unwrap_or(Exit::Clean)
}

/// No document is longer that is held as a whole, in bytes.
const MOST_HELD: u64 = 8 << 20;

/// Reads what a host answered with, again.
fn document(kept: &Kept, host: &HostAnswer) -> Result<serde_json::Value, Failure> {
    let wrong = |why: String| Failure {
        exit: Exit::Partial,
        message: format!("{}: its answer cannot be read: {why}", host.host),
    };
    if host.place.1 > MOST_HELD {
        return Err(wrong("it is longer than any".into()));
    }
    let mut text = Vec::new();
    kept.read(host).read_to_end(&mut text).map_err(|error| wrong(error.to_string()))?;
    serde_json::from_slice(&text).map_err(|error| wrong(error.to_string()))
}
