//! PHP code as far as a survey needs it: which paths it checks, makes and writes to.
//!
//! [`mod@read`] goes through one parsed file and keeps what it says as [`facts`], in symbols; [`resolve`] puts the files together, and turns the
//! symbols into paths as far as constants, settings and one level of functions go. No code is run.

mod code;
mod cores;
mod facts;
mod functions;
mod read;
mod reader;
mod resolve;
mod source;
mod spots;
mod values;

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;

use regex::bytes::Regex;

use super::deployed::Deployed;
use super::names::{Aside, ends_in, is_settings_name, lower_name};
use crate::check::is_php_name;
use crate::pattern::pattern;
use crate::tree::Progress;

use code::{CONSTRUCTOR, HOPS, MOST_CALLS};
use cores::on_all_cores;
use facts::hash_of;
use reader::AskedCalls;

pub(crate) use code::{Callees, Code};
pub(crate) use facts::{FileFacts, Piece, Sink};
pub(crate) use spots::{Location, Touched, Whole};

/// Longer files are made by machines; they are not parsed.
const LONGEST: usize = 1 << 20;

pattern!(
/// What a file must hold to be worth parsing: a call that touches files, or a name that paths are kept under.
TELLING: Regex = r"(?i-u)is_writ|mkdir|file_put_contents|fopen|gzopen|move_uploaded_file|touch|rename|copy|tempnam|chmod|symlink|error_log|session|sqlite|image(?:png|jpeg|gif|webp)|extractTo|SplFileObject|define\s*\(|\bconst\b|(?:dir|path|folder|root|file|cache|log|tmp|temp|upload|data|storage)\w*['\x22\]\s]*(?:=|=>)|install|writ|require|include|parse_ini|file_exists|is_file|is_readable|__DIR__");

pattern!(
/// The same for somebody else's library.
LIBRARY_TELLING: Regex = r"(?i-u)is_writ|\bdefine\s*\(|session_save_path");

/// Reads the PHP of a tree, on all cores, each file by itself.
///
/// Tests are left out, and of libraries all but what checks paths or sets constants: they write where the application
/// tells them.
pub(crate) fn read(
    deployed: &Deployed,
    passed_over: impl Fn(&Path) -> bool + Sync,
    progress: &Progress,
) -> Vec<FileFacts> {
    let files: Vec<&PathBuf> = deployed
        .files()
        .filter(|(path, _)| (is_php_name(path) || is_php_by_other_name(path)) && !passed_over(path))
        .filter(|(path, _)| deployed.aside(path) != Some(Aside::Development))
        .map(|(path, _)| path)
        .collect();
    let folders = deployed.top_folders();
    let mut all = on_all_cores(
        &files,
        || (),
        |(), path| {
            progress.read.fetch_add(1, Ordering::Relaxed);
            let bytes = deployed.content(path, LONGEST)?;
            let library = deployed.aside(path) == Some(Aside::Library);
            let skip = library && !LIBRARY_TELLING.is_match(&bytes);
            let is_read = !skip && tells(path, &bytes);
            if is_read { facts(path, &bytes, &folders, AskedCalls::NoCalls) } else { None }
        },
    );
    all.sort_by(|a, b| a.file.cmp(&b.file));
    all
}

/// Adds the calls that matter for a path: of functions whose parameters are in it. Most calls matter to none, and are not kept.
pub(crate) fn add_calls(deployed: &Deployed, facts_of: &mut [FileFacts], served: &Path, callees: &mut Callees) {
    let folders = deployed.top_folders();
    for round in 0..=HOPS + 1 {
        let mut asked = Code::new(deployed, facts_of, served, callees).asked();
        asked.retain(|name| callees.known.insert(name.clone()));
        let mut times: HashMap<u64, usize> = asked.iter().map(|name| (hash_of(name), 0)).collect();
        for (called, here) in facts_of.iter().flat_map(|facts| &facts.called) {
            times.entry(*called).and_modify(|all| *all += here);
        }
        // What one hands on was handed to it, so many times; what an object is made with is its own. What is called everywhere is
        // handed too many things, even where not all of them may be paths.
        let followed = |name: &String| round <= HOPS || name.ends_with(CONSTRUCTOR);
        let few = |name: &String| times.get(&hash_of(name)).is_some_and(|times| *times <= MOST_CALLS * 2);
        callees.left_out.extend(asked.extract_if(|name| !followed(name) || !few(name)));
        if asked.is_empty() {
            return;
        }
        let hashes: HashSet<u64> = asked.iter().map(hash_of).collect();
        let calls_one = |facts: &FileFacts| facts.called.keys().any(|called| hashes.contains(called));
        let places: Vec<usize> =
            (0..).zip(&*facts_of).filter(|(_, facts)| calls_one(facts)).map(|(at, _)| at).collect();
        let found = on_all_cores(
            &places,
            || (),
            |(), at| {
                let file = &facts_of.get(*at)?.file;
                Some((
                    *at,
                    facts(file, &deployed.content(file, LONGEST)?, &folders, AskedCalls::OnlyCalls(&asked))?.calls,
                ))
            },
        );
        let mut times: HashMap<String, usize> = HashMap::new();
        for call in found.iter().flat_map(|(_, calls)| calls) {
            *times.entry(call.name.clone()).or_default() += 1;
        }
        callees.left_out.extend(times.into_iter().filter(|(_, calls)| *calls > MOST_CALLS).map(|(name, _)| name));
        for (at, calls) in found {
            if let Some(facts) = facts_of.get_mut(at) {
                facts.calls.extend(calls.into_iter().filter(|call| !callees.left_out.contains(&call.name)));
            }
        }
    }
}

/// Samples of settings and modules are PHP under other names.
fn is_php_by_other_name(path: &Path) -> bool {
    let name = path.file_name().map(|name| name.to_string_lossy().to_ascii_lowercase()).unwrap_or_default();
    name.contains(".php") || ends_in(&name, &[".module", ".install", ".class"])
}

/// Whether a file is worth parsing: settings are, whatever they set.
fn tells(path: &Path, bytes: &[u8]) -> bool {
    let settings = bytes.len() < 2048 || is_settings_name(&lower_name(path));
    settings || TELLING.is_match(bytes)
}

/// All that one file says, beside a tree with these folders in its root; nothing where it is no PHP.
pub(crate) fn one(path: &Path, bytes: &[u8], folders: &HashSet<String>) -> Option<FileFacts> {
    facts(path, bytes, folders, AskedCalls::All)
}

fn facts(path: &Path, bytes: &[u8], folders: &HashSet<String>, asked: AskedCalls<'_>) -> Option<FileFacts> {
    let is_php = memchr::memmem::find(bytes, b"<?").is_some() && !bytes.contains(&0);
    is_php.then(|| FileFacts::of(path, &String::from_utf8_lossy(bytes), folders, asked))
}

#[cfg(test)]
mod tests;
