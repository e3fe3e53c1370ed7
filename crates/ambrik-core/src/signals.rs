//! Signals that end a run (SIGINT, SIGTERM, SIGHUP): noted while something is being changed, so that the run ends between
//! two changes; else they do what they always do.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock};

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

struct Signals {
    /// The signal that came, or 0.
    came: Arc<AtomicUsize>,
    /// Whether the next one ends the process at once: while nobody holds them, and once one has come.
    at_once: Arc<AtomicBool>,
    /// How many hold them.
    holders: AtomicUsize,
}

static SIGNALS: LazyLock<Signals> = LazyLock::new(|| {
    let came = Arc::new(AtomicUsize::new(0));
    let at_once = Arc::new(AtomicBool::new(true));
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        // Where a signal cannot be caught it ends the run as ever; what that leaves is on record.
        let _ = signal_hook::flag::register_conditional_default(signal, Arc::clone(&at_once));
        let _ = signal_hook::flag::register(signal, Arc::clone(&at_once));
        let number = usize::try_from(signal).unwrap_or(0);
        let _ = signal_hook::flag::register_usize(signal, Arc::clone(&came), number);
    }
    Signals { came, at_once, holders: AtomicUsize::new(0) }
});

/// As long as this is there signals are noted.
#[derive(Debug)]
pub struct Held(());

/// Notes signals from now on.
#[must_use]
pub fn hold() -> Held {
    SIGNALS.holders.fetch_add(1, Ordering::SeqCst);
    if came().is_none() {
        SIGNALS.at_once.store(false, Ordering::SeqCst);
    }
    Held(())
}

impl Drop for Held {
    fn drop(&mut self) {
        if SIGNALS.holders.fetch_sub(1, Ordering::SeqCst) == 1 {
            SIGNALS.at_once.store(true, Ordering::SeqCst);
        }
    }
}

/// The name of the signal that came while it was noted.
#[must_use]
pub fn came() -> Option<&'static str> {
    match i32::try_from(SIGNALS.came.load(Ordering::SeqCst)) {
        Ok(SIGINT) => Some("SIGINT"),
        Ok(SIGTERM) => Some("SIGTERM"),
        Ok(SIGHUP) => Some("SIGHUP"),
        _ => None,
    }
}
