//! The files of a tree together: symbols become paths.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::{Component, Path, PathBuf};
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use regex::Regex;

use super::super::deployed::Deployed;
use super::super::names::{Aside, is_settings_name, lower_name, trade};
use super::facts::{Call, Facts, Piece, ROOT, Sink, Touch, Value, Values};

/// Stands for what is not known in a path.
const HOLE: char = '\u{2}';
/// As many values of one symbol are taken; what has more says nothing.
const ALTERNATIVES: usize = 6;
/// What has more than so much kept under its name is not even looked at.
const MOST_KEPT: usize = 96;
/// As many paths one expression may become.
const PATHS: usize = 48;
/// Symbols are followed so deep.
const DEEPEST: usize = 12;
/// Parameters are followed through so many calls.
const HOPS: usize = 1;
/// So many symbols are looked up for one expression.
const BUDGET: usize = 400;

/// Names that everything is kept under: what one file keeps there says nothing about another.
const COMMON: &[&str] = &[
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

/// Whether a path is known to its end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Whole {
    /// It is.
    Known,
    /// Something in it is not known; the path is that of the folder before it.
    FolderOnly,
}

/// Where a path is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Spot {
    /// In the tree, relative to its root.
    Inside(PathBuf),
    /// Elsewhere on the host.
    Outside(PathBuf),
}

/// A path that code touches.
#[derive(Clone, Debug)]
pub(crate) struct Touched {
    pub(crate) sink: Sink,
    pub(crate) spot: Spot,
    pub(crate) whole: Whole,
    pub(crate) file: PathBuf,
    pub(crate) line: usize,
    pub(crate) call: String,
    /// Whether the path is the code's own, and not guessed from its end.
    pub(crate) sure: bool,
}

/// All files of a tree.
pub(crate) struct Code<'c> {
    deployed: &'c Deployed,
    facts: &'c [Facts],
    /// The document root, relative to the root.
    served: PathBuf,
    constants: BTreeMap<&'c str, Kept<'c>>,
    class_constants: BTreeMap<(&'c str, &'c str), Kept<'c>>,
    entries: BTreeMap<&'c str, Kept<'c>>,
    properties: BTreeMap<&'c str, Vec<(&'c str, &'c Values)>>,
    returns: BTreeMap<&'c str, Kept<'c>>,
    calls: BTreeMap<&'c str, Vec<(&'c Call, &'c Path)>>,
    /// The classes that define a method of this name.
    definers: BTreeMap<&'c str, BTreeSet<&'c str>>,
    /// What follows each constant in paths.
    tails: BTreeMap<&'c str, BTreeSet<&'c str>>,
    /// The names of the links that lead out of the tree.
    leading_out: Option<Regex>,
}

/// All that is kept under a name, each thing once.
#[derive(Default)]
struct Kept<'c> {
    values: Vec<&'c Values>,
    known: HashSet<&'c Values>,
}

impl<'c> Kept<'c> {
    fn add(&mut self, values: &'c Values) {
        if self.values.len() <= MOST_KEPT && self.known.insert(values) {
            self.values.push(values);
        }
    }

    /// Nothing, where there is so much that it says nothing.
    fn values(&self) -> &[&'c Values] {
        if self.values.len() > MOST_KEPT { &[] } else { &self.values }
    }
}

/// Several texts that one thing may be.
type Texts = Rc<Vec<String>>;

/// Turns symbols into paths, and keeps what it found out.
struct Resolver<'r, 'c> {
    code: &'r Code<'c>,
    left: Cell<usize>,
    /// What symbols were found to be, so that each is followed once.
    known: RefCell<HashMap<Piece, Texts>>,
    /// What functions were handed in the calls that are looked at, the innermost last.
    bound: RefCell<Vec<(String, Arc<Vec<Values>>)>>,
    /// How many calls a parameter is followed through.
    hops: Cell<usize>,
}

impl<'c> Code<'c> {
    pub(crate) fn new(deployed: &'c Deployed, facts: &'c [Facts], served: &Path) -> Self {
        let mut code = Self {
            deployed,
            facts,
            served: served.to_owned(),
            constants: BTreeMap::new(),
            class_constants: BTreeMap::new(),
            entries: BTreeMap::new(),
            properties: BTreeMap::new(),
            returns: BTreeMap::new(),
            calls: BTreeMap::new(),
            definers: BTreeMap::new(),
            tails: BTreeMap::new(),
            leading_out: leading_out(deployed),
        };
        // What tests and tools set is not what the application uses.
        for file in facts.iter().filter(|file| deployed.aside(&file.file) != Some(Aside::Development)) {
            code.take(file);
        }
        code
    }

    fn take(&mut self, file: &'c Facts) {
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
            self.constants.entry(name).or_default().add(values);
        }
        for ((class, name), values) in &file.class_constants {
            self.class_constants.entry((class, name)).or_default().add(values);
        }
        for (name, values, _) in &file.entries {
            self.entries.entry(name).or_default().add(values);
        }
        for ((class, name), values) in &file.properties {
            self.properties.entry(name).or_default().push((class, values));
        }
        for (name, values) in &file.returns {
            self.returns.entry(name).or_default().add(values);
        }
        for call in &file.calls {
            self.calls.entry(&call.name).or_default().push((call, &file.file));
        }
        for name in &file.functions {
            let (class, method) = name.split_once("::").unwrap_or(("", name));
            self.definers.entry(method).or_default().insert(class);
        }
    }

    /// The files that are loaded.
    pub(crate) fn loaded(&self) -> Vec<Touched> {
        self.on_all_cores(|resolver, file| {
            let loads = file.touches.iter().filter(|touch| touch.sink == Sink::Load);
            loads.flat_map(|touch| resolver.touched(file, touch)).collect()
        })
    }

    /// Every path that is touched, once for each place where it is. What a function does with a parameter is evidence where the
    /// function is called, and with what.
    pub(crate) fn touched(&self) -> Vec<Touched> {
        self.on_all_cores(|resolver, file| {
            file.touches.iter().flat_map(|touch| resolver.touched(file, touch)).collect()
        })
    }

    /// The places outside the tree that are kept under names, or written out: by itself that says nothing.
    pub(crate) fn named_outside(&self) -> Vec<Touched> {
        self.on_all_cores(|resolver, file| match self.deployed.aside(&file.file) {
            None => resolver.named_outside(file),
            Some(_) => Vec::new(),
        })
    }

    /// What is found in each file, in their order.
    fn on_all_cores(&self, find: impl Fn(&Resolver<'_, 'c>, &'c Facts) -> Vec<Touched> + Sync) -> Vec<Touched> {
        let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
        let next = AtomicUsize::new(0);
        let work = || {
            let resolver = Resolver::new(self);
            let mut found = Vec::new();
            loop {
                let at = next.fetch_add(1, Ordering::Relaxed);
                let Some(file) = self.facts.get(at) else { break found };
                found.push((at, find(&resolver, file)));
            }
        };
        let mut all: Vec<(usize, Vec<Touched>)> = std::thread::scope(|scope| {
            let handles: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
            handles.into_iter().flat_map(|handle| handle.join().unwrap_or_default()).collect()
        });
        all.sort_by_key(|(at, _)| *at);
        all.into_iter().flat_map(|(_, found)| found).collect()
    }

    /// The calls of a function, where it is known which function a call means.
    fn callers(&self, function: &str) -> &[(&'c Call, &'c Path)] {
        let (_, method) = function.split_once("::").unwrap_or(("", function));
        let is_constructor = method == "__construct";
        let name = if is_constructor { function } else { method };
        let shared = !is_constructor && self.definers.get(method).is_some_and(|classes| classes.len() > 2);
        let calls = self.calls.get(name).map(Vec::as_slice).unwrap_or_default();
        if shared || calls.len() > ALTERNATIVES * 8 { &[] } else { calls }
    }

    /// Whether what is kept under a name is a path, and no other setting.
    fn looks_like_a_path(&self, text: &str) -> bool {
        text.contains(['/', ROOT]) || self.deployed.is_directory(Path::new(text.trim_matches(HOLE)))
    }

    /// Of several places that a constant may name, each with a fall-back, the one that has what the code looks for below it.
    fn one_root(&self, name: &str, texts: Vec<String>) -> Vec<String> {
        let Some(tails) = self.tails.get(name).filter(|_| texts.len() > 1) else { return texts };
        let has = |text: &String| {
            let base = text.strip_prefix(ROOT).or_else(|| text.strip_prefix(self.deployed.root.to_str()?));
            let Some(base) = base else { return 0 };
            let there = |tail: &&&str| inside(&format!("{base}/{tail}")).is_some_and(|path| self.deployed.has(&path));
            tails.iter().filter(|tail| tail.len() > 1).filter(there).count()
        };
        let most = texts.iter().map(&has).max().unwrap_or(0);
        if most == 0 {
            return texts;
        }
        texts.into_iter().filter(|text| has(text) == most).take(1).collect()
    }

    /// Where a text leads, taken as a path in `file`.
    fn spot(&self, text: &str, file: &Path) -> Option<(Spot, Whole, bool)> {
        let usual =
            |c: char| c.is_alphanumeric() || matches!(c, '/' | '.' | '_' | '-' | '+' | '@' | '~' | ' ' | ROOT | HOLE);
        // A whole path after something else is none.
        let begins_anew = text.rfind(ROOT).is_some_and(|at| at > 0);
        if begins_anew || text.len() > 300 || !text.chars().all(usual) || text.trim().is_empty() {
            return None;
        }
        let (known, whole) = match text.split_once(HOLE) {
            Some((before, _)) => (self.folder_before(before)?, Whole::FolderOnly),
            None => (text, Whole::Known),
        };
        // What begins with something unknown could be anywhere.
        if text.starts_with(HOLE) {
            return None;
        }
        if known.chars().all(|c| matches!(c, '/' | '.' | ROOT)) {
            return None;
        }
        if let Some(path) = known.strip_prefix(ROOT) {
            return Some((self.through_links(inside(path)?)?, whole, true));
        }
        if known.starts_with('/') {
            return self.absolute(Path::new(known)).map(|spot| (spot, whole, true));
        }
        let dir = file.parent().unwrap_or(Path::new(""));
        // A path that begins nowhere begins where the page lies that was asked for: for a file deep in the tree that
        // is another folder than its own.
        let near = dir == self.served || dir.as_os_str().is_empty() || self.deployed.is_file(&dir.join("index.php"));
        let bases = if near { [dir, Path::new(""), &self.served] } else { [Path::new(""), &self.served, dir] };
        let named: Vec<PathBuf> = bases
            .iter()
            .filter_map(|base| inside(&format!("{}/{}", base.display(), known.trim_start_matches('/'))))
            .collect();
        let there = named.iter().find(|path| !path.as_os_str().is_empty() && self.deployed.has(path));
        if let Some(path) = there {
            return Some((self.through_links(path.clone())?, whole, true));
        }
        // What is not there yet is believed where the folder it would be in is, or where it is called as such
        // folders are.
        let named_so =
            |path: &Path| path.iter().any(|name| trade(&name.to_string_lossy().to_ascii_lowercase()).is_some());
        let in_a_folder = |path: &Path| {
            path.parent().is_some_and(|above| !above.as_os_str().is_empty() && self.deployed.is_directory(above))
        };
        let is_file = whole == Whole::Known && Path::new(known).extension().is_some();
        let would_be = named.iter().find(|path| in_a_folder(path) && (is_file || named_so(path)));
        let at_root = || named.iter().find(|path| named_so(path) && !in_a_folder(path));
        // Settings that are not made yet: an application keeps them in its root where nothing else is known.
        let settings =
            || named.iter().find(|path| path.components().count() == 1 && is_settings_name(&lower_name(path)));
        let sure = near || at_root().is_some();
        let path = would_be.or_else(at_root).or_else(settings)?;
        Some((self.through_links(path.clone())?, whole, sure))
    }

    /// The folder that something unknown is in: the text before it where that is a folder, else without the name that it goes on.
    fn folder_before<'t>(&self, before: &'t str) -> Option<&'t str> {
        let (folder, begun) = before.rsplit_once('/').unwrap_or(("", before));
        let whole = before.strip_prefix(ROOT).and_then(inside);
        let is_folder = whole.is_some_and(|path| !path.as_os_str().is_empty() && self.deployed.is_directory(&path));
        match begun {
            // What `..` goes on with decides where it is.
            "." | ".." => None,
            "" => Some(folder),
            _ if is_folder => Some(before),
            _ => Some(folder),
        }
    }

    /// Where a path of the tree leads, its links followed; nothing below what is a file.
    fn through_links(&self, path: PathBuf) -> Option<Spot> {
        if path.ancestors().skip(1).any(|above| self.deployed.is_file(above)) {
            return None;
        }
        match self.deployed.destination(&path) {
            Some(goal) => self.absolute(&goal),
            None => Some(Spot::Inside(path)),
        }
    }

    fn absolute(&self, path: &Path) -> Option<Spot> {
        let path: PathBuf = path.components().collect();
        if let Ok(below) = path.strip_prefix(&self.deployed.root) {
            return (!below.as_os_str().is_empty()).then(|| Spot::Inside(below.to_owned()));
        }
        let strange = ["/dev", "/proc", "/sys", "/tmp", "/var/tmp", "/bin", "/usr/bin", "/sbin"];
        (path.components().count() > 2 && !strange.iter().any(|dir| path.starts_with(dir)))
            .then_some(Spot::Outside(path))
    }

    /// Whether a text is a place outside the tree, or goes through a link that leads out.
    fn leads_out(&self, text: &str) -> bool {
        text.starts_with('/') || self.leading_out.as_ref().is_some_and(|links| links.is_match(text))
    }
}

impl<'r, 'c> Resolver<'r, 'c> {
    fn new(code: &'r Code<'c>) -> Self {
        Self {
            code,
            left: Cell::new(0),
            known: RefCell::default(),
            bound: RefCell::default(),
            hops: Cell::new(0),
        }
    }

    /// Where a path is touched: where the touch stands, and where the paths come from.
    fn touched(&self, file: &'c Facts, touch: &'c Touch) -> Vec<Touched> {
        let mut all = Vec::new();
        let mut add = |at: &Path, line: usize, in_file: &Path| {
            let mut known = BTreeSet::new();
            for (spot, whole, sure) in self.spots(&touch.paths, in_file) {
                if known.insert((spot.clone(), whole)) {
                    let (file, call) = (at.to_owned(), touch.call.clone());
                    all.push(Touched { sink: touch.sink, spot, whole, file, line, call, sure });
                }
            }
            !known.is_empty()
        };
        let Some(function) = touch.paths.iter().flatten().find_map(parameter_of) else {
            add(&file.file, touch.line, &file.file);
            return all;
        };
        let bind = |handed: Arc<Vec<Values>>| self.bound.borrow_mut().push((function.to_owned(), handed));
        let mut found = false;
        for (call, from) in self.code.callers(function) {
            bind(Arc::clone(&call.arguments));
            found |= add(from, call.line, from);
            self.bound.borrow_mut().pop();
        }
        // The folder may be known whatever is handed.
        if !found {
            bind(Arc::default());
            add(&file.file, touch.line, &file.file);
            self.bound.borrow_mut().pop();
        }
        all
    }

    fn named_outside(&self, file: &'c Facts) -> Vec<Touched> {
        let constants = file.constants.iter().map(|(_, values)| (values, 0));
        let entries = file.entries.iter().map(|(_, values, line)| (values, *line));
        let properties = file.properties.iter().map(|(_, values)| (values, 0));
        let kept = constants.chain(entries).chain(properties).flat_map(|(values, line)| {
            let leads_out = values.iter().filter(|value| self.may_lead_out(value));
            leads_out.flat_map(|value| self.spots_of(value, &file.file)).map(move |found| (found, line))
        });
        let literals =
            file.literals.iter().filter_map(|(text, line)| Some((self.code.spot(text, &file.file)?, *line)));
        let outside = kept.chain(literals).filter(|((spot, _, sure), _)| *sure && matches!(spot, Spot::Outside(_)));
        let named = outside.map(|((spot, whole, sure), line)| {
            let (file, call) = (file.file.clone(), String::new());
            Touched { sink: Sink::Named, spot, whole, file, line, call, sure }
        });
        named.collect()
    }

    /// Whether a value may be a place outside the tree: by what it begins with. What begins with a function's answer or parameter
    /// is evidence where that is used.
    fn may_lead_out(&self, value: &'c Value) -> bool {
        let leads_out = |piece: &Piece| matches!(piece, Piece::Text(text) if self.code.leads_out(text));
        match value.first() {
            Some(Piece::Returned(..) | Piece::Parameter(..) | Piece::Hole) | None => false,
            Some(Piece::Text(_)) => value.iter().any(leads_out),
            Some(symbol) => {
                self.left.set(BUDGET);
                value.iter().any(leads_out) || self.piece(symbol, 0).iter().any(|text| self.code.leads_out(text))
            }
        }
    }

    /// The paths that values in `file` may be.
    fn spots(&self, values: &'c Values, file: &Path) -> Vec<(Spot, Whole, bool)> {
        values.iter().flat_map(|value| self.spots_of(value, file)).collect()
    }

    fn spots_of(&self, value: &'c Value, file: &Path) -> Vec<(Spot, Whole, bool)> {
        self.left.set(BUDGET);
        self.texts(value, 0).iter().filter_map(|text| self.code.spot(text, file)).collect()
    }

    /// The texts that a value may be, [`HOLE`]s in the places of what is not known.
    fn texts(&self, value: &Value, deep: usize) -> Texts {
        if let [only] = value.as_slice() {
            return self.piece(only, deep);
        }
        let mut whole = vec![String::new()];
        for piece in value {
            match piece {
                Piece::Text(text) => whole.iter_mut().for_each(|head| head.push_str(text)),
                Piece::Hole => whole.iter_mut().for_each(|head| head.push(HOLE)),
                symbol => match self.piece(symbol, deep).as_slice() {
                    [only] => whole.iter_mut().for_each(|head| head.push_str(only)),
                    parts => {
                        let all = whole.iter().flat_map(|head| parts.iter().map(move |part| format!("{head}{part}")));
                        whole = all.take(PATHS).collect();
                    }
                },
            }
        }
        Rc::new(whole)
    }

    fn piece(&self, piece: &Piece, deep: usize) -> Texts {
        let hole = || Rc::new(vec![HOLE.to_string()]);
        match piece {
            Piece::Text(text) => return Rc::new(vec![text.clone()]),
            Piece::Hole => return hole(),
            _ if deep > DEEPEST || self.left.get() == 0 => return hole(),
            // What is handed is another thing each time.
            Piece::Parameter(..) | Piece::Returned(..) | Piece::EntryOf(_) => {}
            symbol => {
                if let Some(known) = self.known.borrow().get(symbol) {
                    return Rc::clone(known);
                }
            }
        }
        self.left.set(self.left.get() - 1);
        let code = self.code;
        let found = match piece {
            Piece::Text(_) | Piece::Hole => Vec::new(),
            Piece::Served => vec![format!("{ROOT}/{}", code.served.display())],
            Piece::Constant(name) => code.one_root(name, self.all(kept(code.constants.get(&**name)), deep)),
            Piece::EntryOf(key) => {
                let keys: BTreeSet<String> =
                    self.texts(key, deep + 1).iter().map(|key| key.to_ascii_lowercase()).collect();
                let known = keys.into_iter().filter(|key| !key.contains(HOLE)).take(ALTERNATIVES);
                let entries = known.map(|key| self.piece(&Piece::Entry(key), deep + 1));
                entries.flat_map(|texts| texts.to_vec()).collect()
            }
            Piece::ClassConstant(class, name) => {
                self.all(kept(code.class_constants.get(&(&**class, &**name))), deep)
            }
            Piece::Entry(name) if COMMON.contains(&&**name) => Vec::new(),
            Piece::Entry(name) => {
                let mut texts = self.all(kept(code.entries.get(&**name)), deep);
                texts.retain(|text| code.looks_like_a_path(text));
                texts
            }
            Piece::Property(class, name) => {
                let known = code.properties.get(&**name).map(Vec::as_slice).unwrap_or_default();
                let own: Vec<&Values> = known.iter().filter(|(c, _)| c == class).map(|(_, values)| *values).collect();
                // One that is inherited stands in another class.
                let inherited = || known.iter().map(|(_, values)| *values).collect();
                let found = if own.is_empty() && !COMMON.contains(&&**name) { inherited() } else { own };
                self.all(&found, deep)
            }
            Piece::Parameter(function, place) => self.arguments(function, *place, deep),
            Piece::Returned(name, handed) => self.returned(name, handed, deep),
            Piece::Above(inner, levels) => {
                self.texts(inner, deep + 1).iter().map(|text| above(text, *levels)).collect()
            }
        };
        let found = if found.is_empty() { hole() } else { Rc::new(found) };
        // What was cut short for its depth is not the whole answer.
        let lasts = matches!(
            piece,
            Piece::Constant(_) | Piece::ClassConstant(..) | Piece::Entry(_) | Piece::Property(..) | Piece::Served
        );
        if deep <= DEEPEST / 2 && self.left.get() > 0 && lasts {
            self.known.borrow_mut().insert(piece.clone(), Rc::clone(&found));
        }
        found
    }

    fn all(&self, found: &[&Values], deep: usize) -> Vec<String> {
        let mut texts: Vec<String> = Vec::new();
        for values in found {
            for value in *values {
                for text in self.texts(value, deep + 1).iter() {
                    if text.chars().any(|c| c != HOLE) && !texts.contains(text) {
                        texts.push(text.clone());
                    }
                }
            }
            if texts.len() > ALTERNATIVES * 2 {
                return Vec::new();
            }
        }
        texts.truncate(ALTERNATIVES);
        texts
    }

    /// What a function returns for what it is handed.
    fn returned(&self, name: &str, handed: &[Values], deep: usize) -> Vec<String> {
        let plain = name.rsplit("::").next().unwrap_or(name);
        let few = self.code.definers.get(plain).is_some_and(|classes| classes.len() <= 2);
        let full = if self.code.returns.contains_key(name) {
            vec![name.to_owned()]
        } else if few {
            let named = self.code.definers.get(plain).into_iter().flatten();
            named.map(|class| if class.is_empty() { plain.to_owned() } else { format!("{class}::{plain}") }).collect()
        } else {
            Vec::new()
        };
        let handed = Arc::new(handed.to_vec());
        let mut texts = Vec::new();
        for function in full {
            let Some(values) = self.code.returns.get(&*function) else { continue };
            self.bound.borrow_mut().push((function.clone(), Arc::clone(&handed)));
            texts.extend(self.all(values.values(), deep));
            self.bound.borrow_mut().pop();
        }
        texts
    }

    /// What the callers of a function hand it.
    fn arguments(&self, function: &str, place: usize, deep: usize) -> Vec<String> {
        let known =
            self.bound.borrow().iter().rev().find(|(name, _)| name == function).map(|(_, handed)| Arc::clone(handed));
        let (is_known, is_constructor) = (known.is_some(), function.ends_with("::__construct"));
        let handed = match known {
            Some(handed) => vec![handed],
            // The callers' own parameters are what their callers hand them, and there it ends.
            None if is_constructor || self.hops.get() < HOPS => {
                self.code.callers(function).iter().map(|(call, _)| Arc::clone(&call.arguments)).collect()
            }
            None => Vec::new(),
        };
        // What an object is made with is its own, and what is handed in the call that is looked at is known.
        let hop = usize::from(!is_constructor && !is_known);
        self.hops.set(self.hops.get() + hop);
        let mut texts: Vec<String> = Vec::new();
        for values in handed.iter().filter_map(|arguments| arguments.get(place)) {
            for value in values {
                for text in self.texts(value, deep + 1).iter() {
                    if (text.is_empty() || text.chars().any(|c| c != HOLE)) && !texts.contains(text) {
                        texts.push(text.clone());
                    }
                }
            }
        }
        self.hops.set(self.hops.get() - hop);
        texts.truncate(ALTERNATIVES * 4);
        texts
    }
}

/// A pattern of the names of all links that lead out of the tree.
fn leading_out(deployed: &Deployed) -> Option<Regex> {
    let outward = deployed.links.iter().filter(|(_, goal)| !goal.starts_with(&deployed.root));
    let names: BTreeSet<String> = outward.filter_map(|(link, _)| Some(regex::escape(link.file_name()?.to_str()?))).collect();
    let names: Vec<String> = names.into_iter().collect();
    if names.is_empty() { None } else { Regex::new(&names.join("|")).ok() }
}

fn kept<'k, 'c>(found: Option<&'k Kept<'c>>) -> &'k [&'c Values] {
    found.map(Kept::values).unwrap_or_default()
}

/// A path so many levels up.
fn above(text: &str, levels: usize) -> String {
    let mut text = text.trim_end_matches('/').to_owned();
    for _ in 0..levels {
        match text.rsplit_once('/') {
            Some((folder, _)) => text = folder.to_owned(),
            None if text.starts_with(HOLE) || text.is_empty() => return HOLE.to_string(),
            // Above a name alone is where it is.
            None => return ".".to_owned(),
        }
    }
    text
}

/// A path below the root without `.` and `..`; nothing where it leads out, or is the root.
fn inside(path: &str) -> Option<PathBuf> {
    let mut found = PathBuf::new();
    for component in Path::new(path.trim()).components() {
        match component {
            Component::Normal(name) => found.push(name),
            Component::ParentDir => {
                if !found.pop() {
                    return None;
                }
            }
            Component::RootDir | Component::CurDir | Component::Prefix(_) => {}
        }
    }
    Some(found)
}

/// The function whose parameter a piece is.
fn parameter_of(piece: &Piece) -> Option<&str> {
    match piece {
        Piece::Parameter(function, _) => Some(function),
        Piece::Above(inner, _) => inner.iter().find_map(parameter_of),
        _ => None,
    }
}
