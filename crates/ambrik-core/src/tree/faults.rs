//! Faults for tests: the n-th change fails, is the last one before the process is killed, or meets a signal.
//!
//! Built only with the feature `faults`, which nothing but tests turns on; a released program has none of this. What is
//! to happen stands in [`VARIABLE`]: `kill:7`, `SIGTERM:7`, `EIO:7` (the seventh change), `ENOSPC:7+` (it and all after
//! it); with `count:FOLDER` each change adds a byte to a file there that has the process's number for a name. Changes are the calls of `sys` that change something, and the writes of the ledger.

use std::io::Write as _;
use std::path::PathBuf;
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU64, Ordering};

use rustix::io::Errno;
use rustix::process::{Signal, getpid, kill_process};

/// The environment variable that says what is to happen.
const VARIABLE: &str = "AMBRIK_FAULT";

enum What {
    Fail(Errno),
    Signal(Signal),
}

struct Fault {
    what: What,
    at: u64,
    from_then_on: bool,
}

impl Fault {
    fn of(text: &str) -> Option<Self> {
        let (what, at) = text.split_once(':')?;
        let what = match what {
            "kill" => What::Signal(Signal::KILL),
            "SIGTERM" => What::Signal(Signal::TERM),
            "SIGINT" => What::Signal(Signal::INT),
            "EIO" => What::Fail(Errno::IO),
            "ENOSPC" => What::Fail(Errno::NOSPC),
            "EROFS" => What::Fail(Errno::ROFS),
            _ => return None,
        };
        Some(Self { what, at: at.trim_end_matches('+').parse().ok()?, from_then_on: at.ends_with('+') })
    }
}

static COUNTED: LazyLock<Option<PathBuf>> = LazyLock::new(|| {
    let text = std::env::var(VARIABLE).ok()?;
    Some(PathBuf::from(text.strip_prefix("count:")?).join(std::process::id().to_string()))
});
static FAULT: LazyLock<Option<Fault>> = LazyLock::new(|| Fault::of(&std::env::var(VARIABLE).ok()?));
static CHANGES: AtomicU64 = AtomicU64::new(0);

/// Called before each change.
pub(crate) fn before_change() -> Result<(), Errno> {
    if let Some(file) = &*COUNTED {
        let file = std::fs::File::options().create(true).append(true).open(file);
        file.and_then(|mut file| file.write_all(b".")).map_err(|_| Errno::IO)?;
    }
    let Some(fault) = &*FAULT else { return Ok(()) };
    let number = CHANGES.fetch_add(1, Ordering::SeqCst) + 1;
    if number != fault.at && !(fault.from_then_on && number > fault.at) {
        return Ok(());
    }
    match fault.what {
        What::Fail(errno) => Err(errno),
        What::Signal(signal) => kill_process(getpid(), signal),
    }
}
