//! The files of a tree together: what is kept under which name, and who calls whom.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use foldhash::fast::RandomState;
use regex::Regex;

use super::super::deployed::Deployed;
use super::super::names::Aside;
use super::facts::{FileFacts, KeptCall, Piece, ROOT, Value, Values, hash_of};

/// Stands for what is not known in a path.
pub(super) const HOLE: char = '\u{2}';
/// Begins what stands in no path.
pub(super) const SENTENCE: char = '\u{3}';
/// As many values of one symbol are taken; what has more says nothing.
pub(super) const ALTERNATIVES: usize = 6;
/// What is called in more places than so many is handed too many things.
pub(super) const MOST_CALLS: usize = ALTERNATIVES * 8;
/// What has more than so much kept under its name is not even looked at.
const MOST_KEPT: usize = 96;
/// As many paths one expression may become.
pub(super) const PATHS: usize = 48;
/// Symbols are followed so deep.
pub(super) const DEEPEST: usize = 12;
/// Parameters are followed through so many calls.
pub(super) const HOPS: usize = 1;
/// What the name of a method that makes an object ends with.
pub(super) const CONSTRUCTOR: &str = "::__construct";
/// So many symbols are looked up for one expression.
pub(super) const BUDGET: usize = 400;

/// Names that everything is kept under: what one file keeps there says nothing about another.
pub(super) const COMMON: &[&str] = &[
    "path",
    "paths",
    "file",
    "files",
    "filename",
    "dir",
    "dirs",
    "directory",
    "folder",
    "name",
    "value",
    "key",
    "type",
    "id",
    "url",
    "uri",
    "src",
    "source",
    "dest",
    "destination",
    "target",
    "output",
    "input",
    "out",
    "in",
    "i",
    "f",
    "p",
    "x",
    "fn",
    "tmp_name",
    "basename",
    "ext",
    "title",
    "item",
    "row",
    "entry",
    "line",
    "content",
    "text",
    "prefix",
    "suffix",
    "base",
    "location",
    "filepath",
    "file_name",
    "dirname",
    "fname",
    "to",
    "from",
    "pathname",
    "realpath",
];

/// The functions of which it was asked what they are handed.
#[derive(Debug, Default)]
pub(crate) struct Callees {
    pub(super) known: HashSet<String>,
    /// Those whose calls are not all known: nothing is said of what these are handed.
    pub(super) left_out: HashSet<String>,
}

pub(super) type ByName<N, T> = HashMap<N, T, RandomState>;

/// All files of a tree.
pub(crate) struct Code<'c> {
    pub(super) deployed: &'c Deployed,
    pub(super) facts: &'c [FileFacts],
    /// The document root, relative to the root.
    pub(super) served: PathBuf,
    pub(super) constants: ByName<&'c str, Kept<'c>>,
    pub(super) class_constants: ByName<(&'c str, &'c str), Kept<'c>>,
    pub(super) entries: ByName<&'c str, Kept<'c>>,
    pub(super) properties: ByName<&'c str, Vec<(&'c str, &'c Values)>>,
    pub(super) returns: ByName<&'c str, Kept<'c>>,
    pub(super) calls: ByName<&'c str, Vec<(&'c KeptCall, &'c Path)>>,
    /// The classes that define a method of this name.
    pub(super) definers: ByName<&'c str, BTreeSet<&'c str>>,
    /// What follows each constant in paths.
    pub(super) tails: ByName<&'c str, BTreeSet<&'c str>>,
    /// The names of the links that lead out of the tree.
    pub(super) leading_out: Option<Regex>,
    /// What can be no path, by the hash of the name that it is kept under.
    pub(super) words: ByName<u64, BTreeSet<u64>>,
}

/// All that is kept under a name.
pub(super) type Kept<'c> = Vec<&'c Values>;

/// Each thing once; nothing, where there is so much that it says nothing.
fn once(kept: &mut Kept<'_>) {
    if kept.len() > 1 {
        let mut known: HashSet<&Values, RandomState> = HashSet::default();
        kept.retain(|values| known.len() <= MOST_KEPT && known.insert(values));
        if known.len() > MOST_KEPT {
            kept.clear();
        }
    }
}

/// Several texts that one thing may be.
pub(super) type Texts = Rc<Vec<String>>;

impl<'c> Code<'c> {
    pub(crate) fn new(deployed: &'c Deployed, facts: &'c [FileFacts], served: &Path, callees: &Callees) -> Self {
        let mut code = Self {
            deployed,
            facts,
            served: served.to_owned(),
            constants: HashMap::default(),
            class_constants: HashMap::default(),
            entries: HashMap::default(),
            properties: HashMap::default(),
            returns: HashMap::default(),
            calls: HashMap::default(),
            definers: HashMap::default(),
            tails: HashMap::default(),
            leading_out: leading_out(deployed),
            words: HashMap::default(),
        };
        // What tests and tools set is not what the application uses.
        for file in facts.iter().filter(|file| deployed.aside(&file.file) != Some(Aside::Development)) {
            code.take(file);
        }
        code.calls.retain(|name, _| !callees.left_out.contains(*name));
        let kept = code.constants.values_mut().chain(code.class_constants.values_mut());
        kept.chain(code.entries.values_mut()).chain(code.returns.values_mut()).for_each(once);
        code
    }

    fn take(&mut self, file: &'c FileFacts) {
        let touched = file.touches.iter().map(|touch| &touch.paths);
        let kept = file.entries.iter().map(|(_, values, _)| values);
        for value in touched.chain(kept).flatten() {
            for pair in value.windows(2) {
                if let [Piece::Constant(name), Piece::Text(tail)] = pair {
                    self.tails.entry(name).or_default().insert(tail);
                }
            }
        }
        for (name, values) in &file.constants {
            self.constants.entry(name).or_default().push(values);
        }
        for ((class, name), values) in &file.class_constants {
            self.class_constants.entry((class, name)).or_default().push(values);
        }
        for (name, value) in &file.words {
            let known = self.words.entry(*name).or_default();
            if known.len() <= ALTERNATIVES * 2 {
                known.insert(*value);
            }
        }
        for (name, values, _) in &file.entries {
            self.entries.entry(name).or_default().push(values);
        }
        for ((class, name), values) in &file.properties {
            self.properties.entry(name).or_default().push((class, values));
        }
        for (name, values) in &file.returns {
            self.returns.entry(name).or_default().push(values);
        }
        for call in &file.calls {
            self.calls.entry(&call.name).or_default().push((call, &file.file));
        }
        for name in &file.functions {
            let (class, method) = name.split_once("::").unwrap_or(("", name));
            self.definers.entry(method).or_default().insert(class);
        }
    }

    /// The calls of a function, where it is known which function a call means.
    pub(super) fn callers(&self, function: &str) -> &[(&'c KeptCall, &'c Path)] {
        let name = called_as(function);
        let shared = self.definers.get(name).is_some_and(|classes| classes.len() > 2);
        let calls = self.calls.get(name).map(Vec::as_slice).unwrap_or_default();
        if shared || calls.len() > MOST_CALLS { &[] } else { calls }
    }

    /// Whether so much that is no path is kept under a name that it says nothing.
    pub(super) fn is_a_word(&self, name: &str) -> bool {
        self.words.get(&hash_of(name)).is_some_and(|words| words.len() > ALTERNATIVES * 2)
    }

    /// The functions whose parameters are in paths that are touched, by the names that their calls are kept under.
    pub(super) fn asked(&self) -> HashSet<String> {
        let mut asked = HashSet::new();
        let mut known: HashSet<&Piece, RandomState> = HashSet::default();
        let touched = self.facts.iter().flat_map(|file| &file.touches).flat_map(|touch| &touch.paths);
        // With the function whose answer they are: what it was handed is known where it is called.
        let mut waiting: Vec<(&Value, &str)> = touched.map(|value| (value, "")).collect();
        while let Some((value, answers)) = waiting.pop() {
            for piece in value {
                match piece {
                    Piece::Parameter(function, _) if **function == *answers => continue,
                    Piece::Parameter(function, _) => {
                        asked.insert(called_as(function).to_owned());
                    }
                    _ => {}
                }
                if known.insert(piece) {
                    waiting.extend(self.behind(piece, answers));
                }
            }
        }
        asked
    }

    /// What a piece may be, each with the function whose answer it is.
    fn behind<'p>(&'p self, piece: &'p Piece, answers: &'p str) -> Vec<(&'p Value, &'p str)> {
        let all =
            |found: &[&'p Values]| found.iter().flat_map(|values| values.iter()).map(|value| (value, "")).collect();
        match piece {
            Piece::Text(_) | Piece::Hole | Piece::Sentence(_) | Piece::Served => Vec::new(),
            Piece::Entry(name) if COMMON.contains(&&**name) => Vec::new(),
            Piece::Entry(name) => all(kept(self.entries.get(&**name))),
            Piece::Constant(name) => all(kept(self.constants.get(&**name))),
            Piece::ClassConstant(class, name) => all(kept(self.class_constants.get(&(&**class, &**name)))),
            Piece::Property(_, name) => {
                let all = self.properties.get(&**name).into_iter().flatten();
                all.flat_map(|(_, values)| values.iter()).map(|value| (value, "")).collect()
            }
            Piece::Parameter(function, _) => {
                let handed = self.callers(function).iter().flat_map(|(call, _)| call.arguments.iter());
                handed.flatten().map(|value| (value, "")).collect()
            }
            Piece::EntryOf(inner) | Piece::Above(inner, _) => vec![(inner, answers)],
            Piece::Returned(name, handed) => {
                let mut found: Vec<(&Value, &str)> = handed.iter().flatten().map(|value| (value, answers)).collect();
                // What is handed may be the name that the answer is kept under.
                found.extend(handed.iter().flatten().flat_map(|value| all(self.kept_under(value))));
                for function in self.functions_called(name) {
                    let Some((function, values)) = self.returns.get_key_value(&*function) else { continue };
                    let answers = values.iter().flat_map(|values| values.iter());
                    found.extend(answers.map(|value| (value, *function)));
                }
                found
            }
        }
    }

    /// What is kept under a name that stands there as it is.
    fn kept_under(&self, name: &Value) -> &[&'c Values] {
        let [Piece::Text(name)] = &**name else { return &[] };
        let name = name.to_ascii_lowercase();
        if COMMON.contains(&&*name) { &[] } else { kept(self.entries.get(&*name)) }
    }

    /// The functions that a call may mean.
    pub(super) fn functions_called(&self, name: &str) -> Vec<String> {
        let plain = name.rsplit("::").next().unwrap_or(name);
        if self.returns.contains_key(name) {
            return vec![name.to_owned()];
        }
        let few = self.definers.get(plain).filter(|classes| classes.len() <= 2).into_iter().flatten();
        few.map(|class| if class.is_empty() { plain.to_owned() } else { format!("{class}::{plain}") }).collect()
    }

    /// Whether what is kept under a name is a path, and no other setting.
    pub(super) fn looks_like_a_path(&self, text: &str) -> bool {
        text.contains(['/', ROOT]) || self.deployed.is_directory(Path::new(text.trim_matches(HOLE)))
    }
}

/// A pattern of the names of all links that lead out of the tree.
fn leading_out(deployed: &Deployed) -> Option<Regex> {
    let outward = deployed.links.iter().filter(|(_, goal)| !goal.starts_with(&deployed.root));
    let names: BTreeSet<String> =
        outward.filter_map(|(link, _)| Some(regex::escape(link.file_name()?.to_str()?))).collect();
    let names: Vec<String> = names.into_iter().collect();
    if names.is_empty() { None } else { Regex::new(&names.join("|")).ok() }
}

/// The name that calls of a function are kept under: a method's class is not known where it is called.
pub(super) fn called_as(function: &str) -> &str {
    match function.split_once("::") {
        Some((_, "__construct")) | None => function,
        Some((_, method)) => method,
    }
}

pub(super) fn kept<'k, 'c>(found: Option<&'k Kept<'c>>) -> &'k [&'c Values] {
    found.map(Vec::as_slice).unwrap_or_default()
}
