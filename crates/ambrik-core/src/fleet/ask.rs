//! One process for each host, within bounds: so many at once, so long, so much output. Whatever a host does, the others are asked.

use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, Read, Seek as _, SeekFrom, Write as _};
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::os::unix::fs::FileExt as _;
use std::os::unix::process::{CommandExt as _, ExitStatusExt as _};
use std::process::{Child, ChildStdin, Command, ExitStatus, Stdio};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, PidfdFlags, Signal, kill_process_group, pidfd_open};

use crate::signals;

/// What asking may take.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// So long for each host.
    pub within: Duration,
    /// So many hosts at once.
    pub at_once: usize,
    /// So many bytes from each host.
    pub bytes: u64,
}

/// What goes to a host's standard input: files one after the other, each from its beginning.
pub type Input = Vec<Arc<File>>;

/// How a process ended.
#[derive(Debug)]
pub enum Ended {
    /// With this exit code.
    Exit(i32),
    /// By this signal.
    Signal(i32),
    /// It took longer than it may.
    Late,
    /// It said more than it may.
    TooMuch,
    /// It could not be started.
    NotStarted(io::Error),
    /// A signal came to this side before it ended.
    Stopped,
}

/// What a host said.
#[derive(Debug)]
pub struct Said {
    /// Its standard output, kept in a file without a name.
    pub out: File,
    /// How many bytes that are.
    pub bytes: u64,
    /// The end of its standard error.
    pub err: Vec<u8>,
    /// How it ended.
    pub ended: Ended,
    /// How long it took.
    pub took: Duration,
}

impl Said {
    /// Its standard output from the beginning.
    ///
    /// # Errors
    /// Where the file cannot be read any more.
    pub fn read(&self) -> io::Result<impl Read + '_> {
        let mut out = &self.out;
        out.seek(SeekFrom::Start(0))?;
        Ok(io::BufReader::with_capacity(1 << 16, out))
    }
}

/// As much is kept of what a host says to its standard error, in bytes.
const ERRORS: usize = 1 << 13;
/// As often a signal to this side is looked for.
pub(super) const TICK: Duration = Duration::from_millis(250);

/// Runs a command for each of `hosts` and hands out what each said, in the order in which they end; `done` answers whether those that were
/// not begun yet are to be begun.
///
/// Errors where there is no file to keep answers in.
pub fn ask<T: Sync>(
    hosts: &[T],
    limits: Limits,
    command: &(dyn Fn(&T) -> (Command, Input) + Sync),
    done: &(dyn Fn(&T, Said) -> bool + Sync),
) -> io::Result<()> {
    let (next, go_on) = (AtomicUsize::new(0), AtomicBool::new(true));
    let failed: Mutex<Option<io::Error>> = Mutex::default();
    std::thread::scope(|scope| {
        for _ in 0..limits.at_once.clamp(1, hosts.len().max(1)) {
            scope.spawn(|| {
                while go_on.load(Ordering::SeqCst) && signals::came().is_none() {
                    let Some(host) = hosts.get(next.fetch_add(1, Ordering::SeqCst)) else { break };
                    let (command, input) = command(host);
                    match one(command, &input, limits) {
                        Ok(said) => {
                            if !done(host, said) {
                                go_on.store(false, Ordering::SeqCst);
                            }
                        }
                        Err(error) => {
                            failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
                            go_on.store(false, Ordering::SeqCst);
                        }
                    }
                }
            });
        }
    });
    failed.into_inner().unwrap_or_else(PoisonError::into_inner).map_or(Ok(()), Err)
}

/// A file for what a host says, which nobody else can open.
fn spool() -> io::Result<File> {
    let flags = rustix::fs::OFlags::TMPFILE | rustix::fs::OFlags::RDWR | rustix::fs::OFlags::CLOEXEC;
    let mode = rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR;
    let file = rustix::fs::open("/var/tmp", flags, mode)
        .or_else(|_| rustix::fs::memfd_create("answer", rustix::fs::MemfdFlags::CLOEXEC))?;
    Ok(File::from(file))
}

/// Who hears what a process says.
pub(super) trait Hearer {
    /// A piece of its standard output, or of its standard error; the answer is why it is to be ended.
    fn hears(&mut self, is_error: bool, piece: &[u8]) -> io::Result<Option<Ended>>;

    /// Whether it has taken too long by now.
    fn is_late(&self, after: Duration) -> bool;
}

/// All that is said within bounds.
struct Keeps {
    said: Said,
    errors: VecDeque<u8>,
    limits: Limits,
}

impl Hearer for Keeps {
    fn hears(&mut self, is_error: bool, piece: &[u8]) -> io::Result<Option<Ended>> {
        if is_error {
            self.errors.extend(piece);
            self.errors.drain(..self.errors.len().saturating_sub(ERRORS));
            return Ok(None);
        }
        self.said.bytes += piece.len() as u64;
        if self.said.bytes > self.limits.bytes {
            return Ok(Some(Ended::TooMuch));
        }
        self.said.out.write_all(piece)?;
        Ok(None)
    }

    fn is_late(&self, after: Duration) -> bool {
        after >= self.limits.within
    }
}

fn one(command: Command, input: &Input, limits: Limits) -> io::Result<Said> {
    let began = Instant::now();
    let said = Said { out: spool()?, bytes: 0, err: Vec::new(), ended: Ended::Stopped, took: Duration::ZERO };
    let mut keeps = Keeps { said, errors: VecDeque::new(), limits };
    let ended = run(command, input, &mut keeps)?;
    Ok(Said { err: keeps.errors.into(), ended, took: began.elapsed(), ..keeps.said })
}

/// Runs a command to its end, or until it must end.
pub(super) fn run(mut command: Command, input: &Input, hearer: &mut dyn Hearer) -> io::Result<Ended> {
    let began = Instant::now();
    let stdin = if input.is_empty() { Stdio::null() } else { Stdio::piped() };
    // A group of its own: what it starts goes with it, and keys pressed here do not reach it.
    command.stdin(stdin).stdout(Stdio::piped()).stderr(Stdio::piped()).process_group(0);
    let mut child = match command.spawn() {
        Ok(child) => child,
        Err(error) => return Ok(Ended::NotStarted(error)),
    };
    let to = child.stdin.take();
    std::thread::scope(|scope| {
        if let Some(to) = to {
            scope.spawn(move || feed(to, input));
        }
        let listened = listen(&mut child, hearer, began);
        if listened.is_err() {
            // Whoever writes to it would wait for ever.
            let _ = kill_process_group(Pid::from_child(&child), Signal::KILL);
            let _ = child.wait();
        }
        listened
    })
}

/// Writes what is to be read there; whoever does not read it is no error here.
fn feed(mut to: ChildStdin, input: &Input) {
    let mut buffer = vec![0; 1 << 16];
    for file in input {
        let mut at = 0;
        while let Ok(count @ 1..) = file.read_at(&mut buffer, at) {
            if to.write_all(buffer.get(..count).unwrap_or_default()).is_err() {
                return;
            }
            at += count as u64;
        }
    }
}

/// Reads what a process says until it ends, or must.
fn listen(child: &mut Child, hearer: &mut dyn Hearer, began: Instant) -> io::Result<Ended> {
    let pid = Pid::from_child(child);
    let whole = pidfd_open(pid, PidfdFlags::empty())?;
    let mut out = child.stdout.take().map(OwnedFd::from).map(File::from);
    let mut err = child.stderr.take().map(OwnedFd::from).map(File::from);
    let mut ended = None;
    let mut buffer = vec![0; 1 << 16];
    let found = 'listens: loop {
        if hearer.is_late(began.elapsed()) {
            break Ended::Late;
        }
        if signals::came().is_some() {
            break Ended::Stopped;
        }
        // Once it has ended, what it said before is read, and nothing is waited for: what it left running may hold its pipes open.
        let wait = if ended.is_some() { Duration::ZERO } else { TICK };
        let ready = ready([out.as_ref().map(File::as_fd), err.as_ref().map(File::as_fd), Some(whole.as_fd())], wait)?;
        let mut read = false;
        for (is_error, from) in [(false, &mut out), (true, &mut err)] {
            let Some(pipe) = from.as_mut().filter(|_| ready[usize::from(is_error)]) else { continue };
            let count = pipe.read(&mut buffer)?;
            if count == 0 {
                *from = None;
                continue;
            }
            read = true;
            if let Some(why) = hearer.hears(is_error, buffer.get(..count).unwrap_or_default())? {
                break 'listens why;
            }
        }
        if let Some(status) = ended.filter(|_| !read) {
            return Ok(how(status));
        }
        if ready[2] && ended.is_none() {
            ended = Some(child.wait()?);
        }
    };
    // All that it started too. Where it is gone already, that is what was wanted.
    let _ = kill_process_group(pid, Signal::KILL);
    child.wait()?;
    Ok(found)
}

/// Which of these can be read now, or within a time.
fn ready(handles: [Option<BorrowedFd<'_>>; 3], wait: Duration) -> io::Result<[bool; 3]> {
    let there: Vec<(usize, BorrowedFd<'_>)> =
        handles.iter().enumerate().filter_map(|(n, handle)| Some((n, (*handle)?))).collect();
    let mut polled: Vec<PollFd<'_>> =
        there.iter().map(|(_, handle)| PollFd::from_borrowed_fd(*handle, PollFlags::IN)).collect();
    let time =
        Timespec { tv_sec: i64::try_from(wait.as_secs()).unwrap_or(i64::MAX), tv_nsec: wait.subsec_nanos().into() };
    match poll(&mut polled, Some(&time)) {
        Err(rustix::io::Errno::INTR) => return Ok([false; 3]),
        polled => polled.map(|_| ())?,
    }
    let mut found = [false; 3];
    for ((n, _), polled) in there.iter().zip(&polled) {
        if let Some(found) = found.get_mut(*n) {
            *found = !polled.revents().is_empty();
        }
    }
    Ok(found)
}

fn how(status: ExitStatus) -> Ended {
    match (status.code(), status.signal()) {
        (Some(code), _) => Ended::Exit(code),
        (None, signal) => Ended::Signal(signal.unwrap_or_default()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const LIMITS: Limits = Limits { within: Duration::from_secs(30), at_once: 4, bytes: 1 << 20 };

    fn said(script: &str, input: &Input, limits: Limits) -> (String, String, String) {
        let found = Mutex::new(None);
        let command = |script: &&str| {
            let mut command = Command::new("sh");
            command.args(["-c", script]);
            (command, input.clone())
        };
        ask(&[script], limits, &command, &|_, said| {
            *found.lock().unwrap() = Some(said);
            true
        })
        .unwrap();
        let said = found.into_inner().unwrap().unwrap();
        let mut out = String::new();
        said.read().unwrap().read_to_string(&mut out).unwrap();
        (format!("{:?}", said.ended), out, String::from_utf8(said.err).unwrap())
    }

    #[rstest]
    #[case::well("echo a; echo b >&2; exit 3", "Exit(3)", "a\n", "b\n")]
    #[case::by_a_signal("echo a; kill -9 $$", "Signal(9)", "a\n", "")]
    #[case::with_something_left("sleep 600 & echo a", "Exit(0)", "a\n", "")]
    fn what_it_said_and_how_it_ended(#[case] script: &str, #[case] ended: &str, #[case] out: &str, #[case] err: &str) {
        assert_eq!(said(script, &Vec::new(), LIMITS), (ended.to_owned(), out.to_owned(), err.to_owned()));
    }

    #[test]
    fn what_takes_long_is_ended() {
        let limits = Limits { within: Duration::from_millis(300), ..LIMITS };
        assert_eq!(said("echo a; sleep 600", &Vec::new(), limits).0, "Late");
    }

    #[test]
    fn what_says_much_is_ended() {
        let (ended, out, _) = said("yes", &Vec::new(), LIMITS);
        assert_eq!((&*ended, out.len() <= 1 << 20), ("TooMuch", true));
        let (ended, _, err) = said("yes | head -c 300000 >&2; echo end >&2", &Vec::new(), LIMITS);
        assert_eq!((&*ended, err.len(), err.ends_with("end\n")), ("Exit(0)", ERRORS, true));
    }

    #[test]
    fn what_cannot_be_started_is_told() {
        let command = |(): &()| (Command::new("/nonexistent/ssh"), Vec::new());
        let ended = Mutex::new(String::new());
        let done = |(): &(), said: Said| {
            *ended.lock().unwrap() = format!("{:?}", said.ended);
            true
        };
        ask(&[()], LIMITS, &command, &done).unwrap();
        assert!(ended.into_inner().unwrap().starts_with("NotStarted"));
    }

    #[test]
    fn files_go_in_one_after_the_other_and_need_not_be_read() {
        let dir = tempfile::tempdir().unwrap();
        let file = |name: &str, text: &[u8]| {
            std::fs::write(dir.path().join(name), text).unwrap();
            Arc::new(File::open(dir.path().join(name)).unwrap())
        };
        let (one, two) = (file("one", b"first "), file("two", b"second"));
        assert_eq!(said("cat", &vec![one, two], LIMITS).1, "first second");
        let large = file("large", &vec![b'x'; 1 << 20]);
        assert_eq!(said("head -c 3", &vec![large], LIMITS).1, "xxx");
    }

    /// Never more at once than that, each once, and none after it was said that it is enough.
    #[rstest]
    fn so_many_at_once(#[values(1, 3)] at_once: usize) {
        let (now, most, asked) = (AtomicUsize::new(0), AtomicUsize::new(0), AtomicUsize::new(0));
        let command = |_: &u8| {
            most.fetch_max(now.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
            (Command::new("true"), Vec::new())
        };
        let done = |_: &u8, _: Said| {
            now.fetch_sub(1, Ordering::SeqCst);
            asked.fetch_add(1, Ordering::SeqCst) < 9
        };
        ask(&[0; 30], Limits { at_once, ..LIMITS }, &command, &done).unwrap();
        let (most, asked) = (most.into_inner(), asked.into_inner());
        assert!(most <= at_once && (10..10 + at_once).contains(&asked), "{most} {asked}");
    }
}
