//! Hosts that are listened to until somebody ends it: what each says comes as it says it, and who goes away is asked again.

use std::io;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, SyncSender, sync_channel};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use serde::{Deserialize, Serialize, Serializer};

use super::answer::{NoAnswer, Trouble, shown, why_ended};
use super::ask::{Ended, Hearer, Input, TICK, run};
use super::audits::{clean, first};
use crate::signals;

/// What somebody on another host is to know at once: `alert/1`, fit to be shown.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct FleetAlert {
    ambrik: String,
    /// When, by that host's clock (RFC 3339).
    pub at: Timestamp,
    /// The site.
    pub site: String,
    /// What it is.
    pub alarm: String,
    /// The check, of a finding.
    pub check: Option<String>,
    /// `high`, `medium` or `low`.
    pub severity: String,
    /// The paths, and how many there are besides these.
    #[serde(deserialize_with = "first::<_, _, MOST_PATHS>", serialize_with = "first_alone")]
    pub paths: (Vec<FleetPath>, u64),
    /// What it says.
    pub says: String,
    /// Who did it, as far as that could be seen.
    pub by: Option<FleetBy>,
}

/// So many paths of an alert are kept.
const MOST_PATHS: usize = 1000;

fn first_alone<S: Serializer>(paths: &(Vec<FleetPath>, u64), to: S) -> Result<S::Ok, S::Error> {
    paths.0.serialize(to)
}

/// A path as a document has it.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct FleetPath {
    /// It, lossy.
    pub path: String,
    /// In base64, where it is not UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path_bytes: Option<String>,
}

/// Who did something.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct FleetBy {
    /// The account.
    pub account: String,
    /// The program.
    pub program: String,
    /// The process.
    pub process: i32,
}

/// Reads a line that a host said; nothing where it is no alert.
#[must_use]
fn read_alert(line: &str) -> Option<FleetAlert> {
    let mut alert: FleetAlert = serde_json::from_str(line).ok()?;
    if alert.ambrik != "alert/1" || !["high", "medium", "low"].contains(&&*alert.severity) {
        return None;
    }
    let by = alert.by.iter_mut().flat_map(|by| [&mut by.account, &mut by.program]);
    let paths = alert.paths.0.iter_mut().flat_map(|path| [Some(&mut path.path), path.path_bytes.as_mut()]).flatten();
    let own = [&mut alert.site, &mut alert.alarm, &mut alert.says].into_iter().chain(alert.check.as_mut());
    own.chain(by).chain(paths).for_each(clean);
    Some(alert)
}

/// What comes of a host.
#[derive(Debug)]
pub enum Heard {
    /// An alert.
    Alert(Box<FleetAlert>),
    /// What it said besides, fit to be shown.
    Remark(String),
    /// It is not listened to any more, and why; it is asked again.
    Ended(NoAnswer),
}

/// What was told of a host, so that the same is not told each time it is asked again.
#[derive(Debug, Default)]
pub struct Standing {
    /// Since when something came of it this time.
    since: Option<Instant>,
    /// What it said this time, and the last time where it was not watched then.
    now: Vec<String>,
    before: Vec<String>,
    trouble: Option<Trouble>,
}

/// Who goes on for so long after the first that it said was listened to.
const STEADY: Duration = Duration::from_secs(30);
/// So much of what it says is compared.
const MOST_REMARKS: usize = 100;

impl Standing {
    /// An alert came at this time.
    pub fn alerted(&mut self, at: Instant) {
        self.since.get_or_insert(at);
    }

    /// It said something; whether that is new.
    pub fn remarks(&mut self, words: &str, at: Instant) -> bool {
        self.since.get_or_insert(at);
        if self.now.len() < MOST_REMARKS {
            self.now.push(words.to_owned());
        }
        self.before.iter().all(|before| before != words)
    }

    /// It is not listened to any more; whether that is new.
    pub fn ended(&mut self, trouble: Trouble, at: Instant) -> bool {
        let was_watched = self.since.take().is_some_and(|since| at.duration_since(since) >= STEADY);
        let now = std::mem::take(&mut self.now);
        self.before = if was_watched { Vec::new() } else { now };
        self.trouble.replace(trouble) != Some(trouble) || was_watched
    }
}

/// No line is longer, in bytes: an alert has a path for each of the files that were changed at once.
const LONGEST: usize = 8 << 20;
/// No more lines come from a host in a minute.
const MOST: usize = 1000;
const MINUTE: Duration = Duration::from_secs(60);

/// A host, while it is listened to.
struct Follows<'f> {
    host: usize,
    to: SyncSender<(usize, io::Result<Heard>)>,
    within: Duration,
    over: &'f AtomicBool,
    /// When it said how many lines.
    lines: (Instant, usize),
    run: OneRun,
}

/// What came of one run of its command.
#[derive(Default)]
struct OneRun {
    /// Lines that do not end yet, of its standard output and of its standard error.
    begun: [Vec<u8>; 2],
    spoke: bool,
    alerted: bool,
    /// The last line of its standard error.
    last: Vec<u8>,
}

impl Follows<'_> {
    fn is_over(&self) -> bool {
        self.over.load(Ordering::SeqCst) || signals::came().is_some()
    }

    /// Runs its command, says how that ended, and waits; whether it is to be begun anew.
    fn once(&mut self, (command, input): (Command, Input), again: Duration) -> bool {
        self.run = OneRun::default();
        let ended = run(command, &input, self);
        let OneRun { alerted, last, .. } = &self.run;
        let told = ended.map(|ended| Heard::Ended(why_ended(&ended, *alerted, last)));
        let ended = Instant::now();
        if self.is_over() || self.to.send((self.host, told)).is_err() {
            return false;
        }
        while ended.elapsed() < again && !self.is_over() {
            std::thread::park_timeout(TICK);
        }
        true
    }

    /// Hands a line on. The answer is why it is to be ended: there are too many, or nobody takes them.
    fn take(&mut self, is_error: bool, line: &[u8]) -> Option<Ended> {
        let (since, lines) = self.lines;
        self.lines = if since.elapsed() > MINUTE { (Instant::now(), 1) } else { (since, lines + 1) };
        if self.lines.1 > MOST {
            return Some(Ended::TooMuch);
        }
        let text = String::from_utf8_lossy(line);
        let heard = if is_error {
            self.run.last = line.to_vec();
            Heard::Remark(shown(text.trim()))
        } else if let Some(alert) = read_alert(&text) {
            self.run.alerted = true;
            Heard::Alert(Box::new(alert))
        } else if text.contains("\"alert/") {
            Heard::Remark("an alert came that cannot be read here: audit that host".to_owned())
        } else {
            // A login script may say something in front, and an error is a document of several lines.
            return None;
        };
        self.to.send((self.host, Ok(heard))).is_err().then_some(Ended::Stopped)
    }
}

impl Hearer for Follows<'_> {
    fn hears(&mut self, is_error: bool, piece: &[u8]) -> io::Result<Option<Ended>> {
        self.run.spoke = true;
        let mut line = std::mem::take(&mut self.run.begun[usize::from(is_error)]);
        for part in piece.split_inclusive(|byte| *byte == b'\n') {
            line.extend(part);
            if line.len() > LONGEST {
                return Ok(Some(Ended::TooMuch));
            }
            if part.ends_with(b"\n") {
                if let Some(why) = self.take(is_error, &line) {
                    return Ok(Some(why));
                }
                line.clear();
            }
        }
        self.run.begun[usize::from(is_error)] = line;
        Ok(None)
    }

    /// Silence is what is hoped for, but not before it said that it listens.
    fn is_late(&self, after: Duration) -> bool {
        self.is_over() || !self.run.spoke && after >= self.within
    }
}

/// Runs a command for each of `hosts` at once, which is not meant to end, and hands out what comes, until a signal comes, or it is enough, or `tell`
/// fails. A /// command that says nothing at all `within` this time is ended; whichever ends is begun anew `again` later.
///
/// # Errors
/// Where a process cannot be listened to, or what came cannot be told.
pub fn follow<T: Sync, E: From<io::Error>>(
    hosts: &[T],
    [within, again]: [Duration; 2],
    command: &(dyn Fn(&T) -> (Command, Input) + Sync),
    is_enough: &dyn Fn() -> bool,
    tell: &mut dyn FnMut(&T, Heard) -> Result<(), E>,
) -> Result<(), E> {
    let (to, from) = sync_channel(hosts.len().max(1));
    let over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        for (host, of) in hosts.iter().enumerate() {
            let (to, over) = (to.clone(), &over);
            scope.spawn(move || {
                let lines = (Instant::now(), 0);
                let mut follows = Follows { host, to, within, over, lines, run: OneRun::default() };
                while !follows.is_over() && follows.once(command(of), again) {}
            });
        }
        drop(to);
        let mut take = || {
            while signals::came().is_none() && !is_enough() {
                match from.recv_timeout(TICK) {
                    Ok((number, heard)) => hosts.get(number).map_or(Ok(()), |host| tell(host, heard?))?,
                    Err(RecvTimeoutError::Timeout) => {}
                    Err(RecvTimeoutError::Disconnected) => break,
                }
            }
            Ok(())
        };
        let taken = take();
        over.store(true, Ordering::SeqCst);
        // Whoever waits to say something more is not waited for.
        drop(from);
        taken
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const ALERT: &str = r#"{"ambrik":"alert/1","at":"2026-11-29T01:02:03Z","site":"berths","alarm":"finding","check":"php-writes-code","severity":"high","paths":[{"path":"a"}],"says":"x","by":{"account":"www-data","program":"sh","process":7}}"#;

    #[rstest]
    #[case::whole(ALERT.to_owned(), true)]
    #[case::another_kind(ALERT.replace("alert/1", "audit/1"), false)]
    #[case::newer(ALERT.replace("alert/1", "alert/2"), false)]
    #[case::no_severity(ALERT.replace("\"high\"", "\"worst\""), false)]
    #[case::no_time(ALERT.replace("2026", "soon"), false)]
    #[case::cut_off(ALERT[..80].to_owned(), false)]
    #[case::words("welcome".to_owned(), false)]
    fn a_line_is_an_alert_or_nothing(#[case] line: String, #[case] is: bool) {
        assert_eq!(read_alert(&line).is_some(), is);
    }

    #[test]
    fn nothing_of_an_alert_is_shown_as_it_came() {
        let line =
            ALERT.replace("\"a\"", "\"\\u001b[2J\"").replace("\"sh\"", "\"\\u202e\"").replace("\"x\"", "\"\\r\"");
        let text = format!("{:?}", read_alert(&line).unwrap());
        assert_eq!(text.matches('\u{fffd}').count(), 3, "{text}");
    }

    #[test]
    fn what_a_host_says_each_minute_is_told_once_and_what_is_new_again() {
        let (mut host, mut at) = (Standing::default(), Instant::now());
        let mut run = |remark: &str, seconds: u64, trouble: Trouble| {
            let said = host.remarks(remark, at);
            at += Duration::from_secs(seconds);
            let told = (said, host.ended(trouble, at));
            at += MINUTE;
            told
        };
        assert_eq!(run("no route", 0, Trouble::Unreachable), (true, true));
        assert_eq!(run("no route", 0, Trouble::Unreachable), (false, false));
        assert_eq!(run("no root", 0, Trouble::Refused), (true, true));
        assert_eq!(run("no route", 0, Trouble::Unreachable), (true, true));
        // It is watched for an hour, and goes away as before: twice.
        assert_eq!(run("watching", 3600, Trouble::Unreachable), (true, true));
        assert_eq!(run("watching", 3600, Trouble::Unreachable), (true, true));
        assert_eq!(run("no route", 0, Trouble::Unreachable), (true, false));
        assert_eq!(run("no route", 0, Trouble::Unreachable), (false, false));
    }

    /// Whatever many files were changed at once, that is told.
    #[test]
    fn of_very_many_paths_the_first_are_kept() {
        let paths = vec![r#"{"path":"a"}"#; 60_000].join(",");
        let alert = read_alert(&ALERT.replace(r#"{"path":"a"}"#, &paths)).unwrap();
        assert_eq!((alert.paths.0.len(), alert.paths.1), (MOST_PATHS, 60_000 - MOST_PATHS as u64));
        let document = serde_json::to_value(&alert).unwrap();
        assert_eq!(document["paths"].as_array().unwrap().len(), MOST_PATHS);
    }

    /// All that is heard of a host until `enough`, shortly.
    fn heard(script: &str, within: Duration, enough: impl Fn(&str) -> bool) -> Vec<String> {
        let mut found = Vec::new();
        let command = |script: &&str| {
            let mut command = Command::new("sh");
            command.args(["-c", *script]);
            (command, Vec::new())
        };
        let mut tell = |_: &&str, heard: Heard| {
            let words = match heard {
                Heard::Alert(alert) => format!("alert {}", alert.site),
                Heard::Remark(words) => format!("remark {words}"),
                Heard::Ended(no) => format!("{} {}", no.trouble.word(), no.words),
            };
            let is_enough = enough(&words);
            found.push(words);
            if is_enough { Err(io::Error::other("enough")) } else { Ok(()) }
        };
        assert!(follow(&[script], [within, Duration::ZERO], &command, &|| false, &mut tell).is_err());
        found
    }

    const LONG: Duration = Duration::from_secs(60);

    #[rstest]
    #[case::alerts(
        &format!("echo welcome; printf '%s' '{}'; echo '{}'; exec sleep 600", &ALERT[..50], &ALERT[50..]),
        "alert berths", &["alert berths"]
    )]
    #[case::remarks("echo watching >&2; exec sleep 600", "remark watching", &["remark watching"])]
    #[case::unreachable("echo refused >&2; exit 255", "unreachable refused", &["remark refused", "unreachable refused"])]
    #[case::refused("echo '{'; echo no root >&2; exit 4", "refused no root", &["remark no root", "refused no root"])]
    #[case::ended_there("exit 0", "died ", &["died "])]
    #[case::without_a_line_end("head -c 9000000 /dev/zero; exec sleep 600", "too-much ", &["too-much "])]
    #[case::newer(
        &format!("echo '{}'; exec sleep 600", ALERT.replace("alert/1", "alert/2")),
        "remark an alert came that cannot be read here: audit that host", &["remark an alert came that cannot be read here: audit that host"]
    )]
    fn what_comes_of_a_host(#[case] script: &str, #[case] last: &str, #[case] want: &[&str]) {
        // Which of the two outputs is heard first is not said.
        let mut found = heard(script, LONG, |words| words == last);
        found.sort_by_key(|words| !words.starts_with("remark"));
        assert_eq!(found, want);
    }

    #[test]
    fn a_silent_host_is_named_and_asked_again() {
        let mut troubles = heard("exec sleep 600", Duration::from_millis(1), |_| true);
        assert_eq!(troubles.pop().unwrap(), "late ");
        let times = std::cell::Cell::new(0);
        let twice = heard("exit 255", LONG, |_| times.replace(times.get() + 1) == 1);
        assert_eq!(twice, ["unreachable ", "unreachable "]);
    }

    #[test]
    fn a_host_that_says_very_much_is_not_listened_to() {
        let script = format!("while :; do echo '{ALERT}'; done");
        let found = heard(&script, LONG, |words| words.starts_with("too"));
        assert_eq!(found.len(), MOST + 1);
    }
}
