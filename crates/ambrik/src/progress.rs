//! How far a run is: shown on a terminal, for work that takes over a second.

use std::io::{self, IsTerminal as _};
use std::sync::atomic::Ordering;
use std::sync::mpsc;
use std::time::Duration;

use ambrik_core::tree::Progress;
use indicatif::{ProgressBar, ProgressStyle};

/// Does `work`, and shows its progress where somebody watches.
pub(crate) fn watched<T>(quiet: bool, what: &'static str, work: impl FnOnce(&Progress) -> T) -> T {
    let progress = Progress::default();
    if quiet || !io::stderr().is_terminal() {
        return work(&progress);
    }
    let (done, wait) = mpsc::channel::<()>();
    std::thread::scope(|scope| {
        let seen = &progress;
        scope.spawn(move || show(seen, what, &wait));
        let result = work(&progress);
        drop(done);
        result
    })
}

fn show(progress: &Progress, what: &'static str, wait: &mpsc::Receiver<()>) {
    let ended = |time| !matches!(wait.recv_timeout(time), Err(mpsc::RecvTimeoutError::Timeout));
    if ended(Duration::from_secs(1)) {
        return;
    }
    let bar = ProgressBar::new_spinner();
    if let Ok(style) = ProgressStyle::with_template("{spinner} {msg} {human_pos} paths ({per_sec}, {elapsed})") {
        bar.set_style(style);
    }
    bar.set_message(what);
    while !ended(Duration::from_millis(100)) {
        bar.set_position(progress.entries.load(Ordering::Relaxed));
        let read = progress.read.load(Ordering::Relaxed);
        if read > 0
            && let Ok(style) = ProgressStyle::with_template("{spinner} reading PHP code: {msg} files ({elapsed})")
        {
            bar.set_style(style);
            bar.set_message(read.to_string());
        }
    }
    bar.finish_and_clear();
}
