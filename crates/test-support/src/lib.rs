//! What the tests of both crates have in common.

use std::fs::OpenOptions;
use std::io::Write as _;

/// Set by `.ci/run`: a test that lacks what is installed there, or is not root, fails.
const ALL: &str = "AMBRIK_TESTS";
/// A file that gets a line for each test that was skipped, in whole or in part.
const SKIPPED: &str = "AMBRIK_SKIPPED";

/// Says that a test, or a part of it, is skipped, because this machine cannot do what it needs: not captured by the test runner.
pub fn skipped(why: &str) {
    let line = format!("skipped: {why}\n");
    let _ = std::io::stderr().write_all(line.as_bytes());
    if let Some(mut file) =
        std::env::var_os(SKIPPED).and_then(|path| OpenOptions::new().create(true).append(true).open(path).ok())
    {
        let _ = file.write_all(line.as_bytes());
    }
}

/// Says that a test is skipped, because something is missing that can be installed, or that only root may do.
///
/// # Panics
///
/// With `AMBRIK_TESTS=all`.
pub fn missing(what: &str) {
    assert!(std::env::var_os(ALL).is_none_or(|value| value != "all"), "missing: {what} ({ALL}=all)");
    skipped(what);
}

/// Whether the test may give files to other accounts; says so where not.
#[must_use]
pub fn is_root() -> bool {
    let root = rustix::process::geteuid().is_root();
    if !root {
        missing("only root can give files to other accounts");
    }
    root
}
