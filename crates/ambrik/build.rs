//! Tells the program which commit it is built of, and what it is built for.

use std::path::Path;
use std::process::Command;

fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    // What is named and is not there would have it run each time.
    for changes in ["../../.git/HEAD", "../../.git/refs/heads"].into_iter().filter(|path| Path::new(path).exists()) {
        println!("cargo::rerun-if-changed={changes}");
    }
    let target = std::env::var("TARGET").unwrap_or_default();
    println!("cargo::rustc-env=AMBRIK_TARGET={target}");
    // From an archive of the source there is no commit to tell.
    let git = Command::new("git").args(["rev-parse", "--short=12", "HEAD"]).output();
    let commit = git.ok().filter(|git| git.status.success()).and_then(|git| String::from_utf8(git.stdout).ok());
    println!("cargo::rustc-env=AMBRIK_COMMIT={}", commit.as_deref().map_or("no commit", str::trim));
}
