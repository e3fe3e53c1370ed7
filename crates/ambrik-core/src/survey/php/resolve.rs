//! Symbols become paths.

use std::cell::{Cell, RefCell};
use std::collections::BTreeSet;
use std::path::Path;
use std::rc::Rc;
use std::sync::Arc;

use super::code::{
    ALTERNATIVES, BUDGET, ByName, COMMON, CONSTRUCTOR, Code, DEEPEST, HOLE, HOPS, PATHS, SENTENCE, Texts, kept,
};
use super::cores::on_all_cores;
use super::facts::{FileFacts, Piece, ROOT, Sink, Touch, Value, Values};
use super::spots::{Location, Touched, Whole};

/// Turns symbols into paths, and keeps what it found out.
struct Resolver<'r, 'c> {
    code: &'r Code<'c>,
    left: Cell<usize>,
    /// What symbols were found to be, so that each is followed once.
    known: RefCell<ByName<Piece, Texts>>,
    /// What functions were handed in the calls that are looked at, the innermost last.
    bound: RefCell<Vec<(String, Arc<Vec<Values>>)>>,
    /// How many calls a parameter is followed through.
    hops: Cell<usize>,
}

impl<'c> Code<'c> {
    /// The files that are loaded.
    pub(crate) fn loaded(&self) -> Vec<Touched> {
        self.in_each(|resolver, file| {
            let loads = file.touches.iter().filter(|touch| touch.sink == Sink::Load);
            loads.flat_map(|touch| resolver.touched(file, touch)).collect()
        })
    }

    /// Every path that is touched, once for each place where it is. What a function does with a parameter is evidence where the
    /// function is called, and with what.
    pub(crate) fn touched(&self) -> Vec<Touched> {
        self.in_each(|resolver, file| file.touches.iter().flat_map(|touch| resolver.touched(file, touch)).collect())
    }

    /// The places outside the tree that are kept under names, or written out: by itself that says nothing.
    pub(crate) fn named_outside(&self) -> Vec<Touched> {
        self.in_each(|resolver, file| match self.deployed.aside(&file.file) {
            None => resolver.named_outside(file),
            Some(_) => Vec::new(),
        })
    }

    /// What is found in each file.
    fn in_each(&self, find: impl Fn(&Resolver<'_, 'c>, &'c FileFacts) -> Vec<Touched> + Sync) -> Vec<Touched> {
        let found = on_all_cores(self.facts, || Resolver::new(self), |resolver, file| Some(find(resolver, file)));
        found.into_iter().flatten().collect()
    }
}

impl<'r, 'c> Resolver<'r, 'c> {
    fn new(code: &'r Code<'c>) -> Self {
        Self { code, left: Cell::new(0), known: RefCell::default(), bound: RefCell::default(), hops: Cell::new(0) }
    }

    /// Where a path is touched: where the touch stands, and where the paths come from.
    fn touched(&self, file: &'c FileFacts, touch: &'c Touch) -> Vec<Touched> {
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

    fn named_outside(&self, file: &'c FileFacts) -> Vec<Touched> {
        let constants = file.constants.iter().map(|(_, values)| (values, 0));
        let entries = file.entries.iter().map(|(_, values, line)| (values, *line));
        let properties = file.properties.iter().map(|(_, values)| (values, 0));
        let kept = constants.chain(entries).chain(properties).flat_map(|(values, line)| {
            let leads_out = values.iter().filter(|value| self.may_lead_out(value));
            leads_out.flat_map(|value| self.spots_of(value, &file.file)).map(move |found| (found, line))
        });
        let literals = file.literals.iter().filter_map(|(text, line)| Some((self.code.spot(text, &file.file)?, *line)));
        let outside = kept.chain(literals).filter(|((spot, _, sure), _)| *sure && matches!(spot, Location::Outside(_)));
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
    fn spots(&self, values: &'c Values, file: &Path) -> Vec<(Location, Whole, bool)> {
        values.iter().flat_map(|value| self.spots_of(value, file)).collect()
    }

    fn spots_of(&self, value: &'c Value, file: &Path) -> Vec<(Location, Whole, bool)> {
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
            Piece::Text(text) => return Rc::new(vec![text.to_string()]),
            Piece::Hole => return hole(),
            Piece::Sentence(hash) => return Rc::new(vec![format!("{SENTENCE}{hash:x}")]),
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
            Piece::Text(_) | Piece::Hole | Piece::Sentence(_) => Vec::new(),
            Piece::Served => vec![format!("{ROOT}/{}", code.served.display())],
            Piece::Constant(name) => code.one_root(name, self.all(kept(code.constants.get(&**name)), deep)),
            Piece::EntryOf(key) => {
                let keys: BTreeSet<String> =
                    self.texts(key, deep + 1).iter().map(|key| key.to_ascii_lowercase()).collect();
                let known = keys.into_iter().filter(|key| !key.contains(HOLE)).take(ALTERNATIVES);
                let entries = known.map(|key| self.piece(&Piece::Entry(key.into()), deep + 1));
                entries.flat_map(|texts| texts.to_vec()).collect()
            }
            Piece::ClassConstant(class, name) => self.all(kept(code.class_constants.get(&(&**class, &**name))), deep),
            Piece::Entry(name) if COMMON.contains(&&**name) || code.is_a_word(name) => Vec::new(),
            Piece::Entry(name) => {
                let mut texts = self.all(kept(code.entries.get(&**name)), deep);
                texts.retain(|text| code.looks_like_a_path(text));
                texts
            }
            Piece::Property(class, name) => {
                let known = code.properties.get(&**name).map(Vec::as_slice).unwrap_or_default();
                let own: Vec<&Values> =
                    known.iter().filter(|(c, _)| *c == &**class).map(|(_, values)| *values).collect();
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
        let handed = Arc::new(handed.to_vec());
        let mut texts = Vec::new();
        for function in self.code.functions_called(name) {
            let Some(values) = self.code.returns.get(&*function) else { continue };
            self.bound.borrow_mut().push((function.clone(), Arc::clone(&handed)));
            let answers = self.all(values, deep);
            // A fall-back for what is not known is likely; one of several answers, the right one not among them, is not.
            let unknown = |value: &Value| self.texts(value, deep + 1).iter().any(|text| text.starts_with(HOLE));
            if answers.len() < 2 || !values.iter().any(|values| values.iter().any(unknown)) {
                texts.extend(answers);
            }
            self.bound.borrow_mut().pop();
        }
        texts
    }

    /// What the callers of a function hand it.
    fn arguments(&self, function: &str, place: usize, deep: usize) -> Vec<String> {
        let known =
            self.bound.borrow().iter().rev().find(|(name, _)| name == function).map(|(_, handed)| Arc::clone(handed));
        let (is_known, is_constructor) = (known.is_some(), function.ends_with(CONSTRUCTOR));
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

/// The function whose parameter a piece is.
fn parameter_of(piece: &Piece) -> Option<&str> {
    match piece {
        Piece::Parameter(function, _) => Some(function),
        Piece::Above(inner, _) => inner.iter().find_map(parameter_of),
        _ => None,
    }
}
