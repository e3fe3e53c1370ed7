//! `watch` over hosts: each is listened to at the same time, and who goes away is asked again.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use ambrik_core::fleet::{Heard, NoAnswer, Question, Standing, Trouble, follow};
use ambrik_core::signals;

use super::{JSON, MOST_AT_ONCE, OnHosts, client};
use crate::commands::watch::{self, Runs, WatchArgs, nobody_reads};
use crate::failure::{Exit, Failure};
use crate::output::watch_text::Told;
use crate::output::{count, counted};
use crate::session::Session;

/// A host that went away is asked again after this time.
const AGAIN: Duration = Duration::from_secs(60);
/// A connection over which nothing comes is asked for a sign of life so often, in seconds; without three of them it has ended.
const ALIVE: u32 = 15;

pub(super) fn run(
    args: &WatchArgs,
    asked: &OnHosts<'_>,
    hosts: &[String],
    words: &[String],
    within: Duration,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    if hosts.len() > MOST_AT_ONCE {
        return Err(Failure::usage(format!("--on: {MOST_AT_ONCE} hosts at most are watched by one run")));
    }
    let program = asked.program()?;
    let mut questions = Vec::new();
    for host in hosts {
        let question = asked.question(host, words, JSON, program.as_ref())?;
        questions.push((host, Question { alive: Some(ALIVE), ..question }));
    }
    let _held = signals::hold();
    let asking = counted(count(hosts.len()), "host", "hosts");
    session.terminal.say(&format!("asking {asking}; each says what it watches; Ctrl-C ends it"));
    let mut runs = Runs::default();
    // What a host says each time that it is asked, and why it is not watched, is told once.
    let mut standing: HashMap<String, Standing> = HashMap::new();
    let command = |(host, question): &(&String, Question)| question.command(client(), host);
    let mut tell = |(host, _): &(&String, Question), heard: Heard| {
        runs.reap();
        let (known, at) = (standing.entry((*host).clone()).or_default(), Instant::now());
        match heard {
            Heard::Alert(alert) => {
                known.alerted(at);
                watch::tell(&Told::of(host, *alert)?, args, &mut runs, session)?;
            }
            Heard::Remark(words) => {
                if known.remarks(&words, at) {
                    session.terminal.say(&format!("{host}: {words}"));
                }
            }
            Heard::Ended(NoAnswer { trouble, .. }) => {
                if known.ended(trouble, at) {
                    let todo = if trouble == Trouble::Died { "" } else { trouble.todo() }.replace("HOST", host);
                    let todo = if todo.is_empty() { todo } else { format!("{todo}; ") };
                    let says = trouble.says();
                    session
                        .terminal
                        .warn(&format!("{host} is not watched: {says}; {todo}it is asked again each minute"));
                }
            }
        }
        Ok::<(), Failure>(())
    };
    follow(&questions, [within, AGAIN], &command, &nobody_reads, &mut tell)?;
    runs.wait();
    Ok(Exit::Clean)
}
