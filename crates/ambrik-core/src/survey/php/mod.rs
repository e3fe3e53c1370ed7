//! PHP code as far as a survey needs it: which paths it checks, makes and writes to.
//!
//! [`mod@read`] goes through one parsed file and keeps what it says as [`facts`], in symbols; [`resolve`] puts the files together, and turns the
//! symbols into paths as far as constants, settings and one level of functions go. No code is run.

mod facts;
mod lex;
mod read;
mod resolve;
mod tree;
mod values;

use std::path::{Path, PathBuf};
use std::sync::LazyLock;
use std::sync::atomic::{AtomicUsize, Ordering};

use regex::bytes::Regex;

use super::deployed::Deployed;
use super::names::{Aside, ends_in, is_settings_name, lower_name};
use crate::check::is_php_name;
use crate::tree::Progress;

pub(crate) use facts::{Facts, Piece, Sink};
pub(crate) use resolve::{Code, Spot, Touched, Whole};

/// Longer files are made by machines; they are not parsed.
const LONGEST: usize = 1 << 20;

/// What a file must hold to be worth parsing: a call that touches files, or a name that paths are kept under.
static TELLING: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(
        r"(?i-u)is_writ|mkdir|file_put_contents|fopen|gzopen|move_uploaded_file|touch|rename|copy|tempnam|chmod|symlink|error_log|session|sqlite|image(?:png|jpeg|gif|webp)|extractTo|SplFileObject|define\s*\(|\bconst\b|(?:dir|path|folder|root|file|cache|log|tmp|temp|upload|data|storage)\w*['\x22\]\s]*(?:=|=>)|install|writ|require|include|parse_ini|file_exists|is_file|is_readable|__DIR__",
    )
    .ok()
});

/// The same for somebody else's library.
static LIBRARY_TELLING: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r"(?i-u)is_writ|\bdefine\s*\(|session_save_path").ok());

/// Reads the PHP of a tree, on all cores, each file by itself.
///
/// Tests are left out, and of libraries all but what checks paths or sets constants: they write where the application
/// tells them.
pub(crate) fn read(deployed: &Deployed, passed_over: impl Fn(&Path) -> bool + Sync, progress: &Progress) -> Vec<Facts> {
    let files: Vec<&PathBuf> = deployed
        .files()
        .filter(|(path, _)| (is_php_name(path) || is_php_by_other_name(path)) && !passed_over(path))
        .filter(|(path, _)| deployed.aside(path) != Some(Aside::Development))
        .map(|(path, _)| path)
        .collect();
    let next = AtomicUsize::new(0);
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let mut all: Vec<Facts> = std::thread::scope(|scope| {
        let work = || {
            let mut found = Vec::new();
            while let Some(path) = files.get(next.fetch_add(1, Ordering::Relaxed)) {
                progress.read.fetch_add(1, Ordering::Relaxed);
                let Some(bytes) = deployed.content(path, LONGEST) else { continue };
                let library = deployed.aside(path) == Some(Aside::Library);
                let skip = library && LIBRARY_TELLING.as_ref().is_some_and(|telling| !telling.is_match(&bytes));
                if !skip && tells(path, &bytes) {
                    found.extend(one(path, &bytes));
                }
            }
            found
        };
        let handles: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
        handles.into_iter().flat_map(|handle| handle.join().unwrap_or_default()).collect()
    });
    all.sort_by(|a, b| a.file.cmp(&b.file));
    all
}

/// Samples of settings and modules are PHP under other names.
fn is_php_by_other_name(path: &Path) -> bool {
    let name = path.file_name().map(|name| name.to_string_lossy().to_ascii_lowercase()).unwrap_or_default();
    name.contains(".php") || ends_in(&name, &[".module", ".install", ".class"])
}

/// Whether a file is worth parsing: settings are, whatever they set.
fn tells(path: &Path, bytes: &[u8]) -> bool {
    let settings = bytes.len() < 2048 || is_settings_name(&lower_name(path));
    settings || TELLING.as_ref().is_none_or(|telling| telling.is_match(bytes))
}

/// One file's facts; nothing where it is no PHP.
pub(crate) fn one(path: &Path, bytes: &[u8]) -> Option<Facts> {
    let is_php = memchr::memmem::find(bytes, b"<?").is_some() && !bytes.contains(&0);
    is_php.then(|| Facts::of(path, &String::from_utf8_lossy(bytes)))
}

#[cfg(test)]
mod tests;
