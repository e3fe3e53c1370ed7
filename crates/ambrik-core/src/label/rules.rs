//! The host's file-context rules: which label a relabelling of the whole system gives to a path
//! (`file_contexts(5)`, `selabel_file(5)`; order and matching as the system's library has them).

mod expression;

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use foldhash::fast::RandomState;
use regex::bytes::{Regex, RegexSet, RegexSetBuilder};

use crate::entry::Kind;
use crate::host::{Place, Unclear};
use crate::security_context::{NoContext, SecurityContext};
use crate::tree::{Host, WayError};
use expression::{RuleShape, has_wildcards, kind_of, letter_of};

/// No file of rules is longer.
const LONGEST: usize = 64 << 20;
/// The files of the set, in the order in which they count: what stands later wins.
const FILES: [&str; 3] = ["file_contexts", "file_contexts.homedirs", "file_contexts.local"];

/// Rules that cannot be used: then the system's own commands fail as well.
#[derive(Debug, thiserror::Error)]
pub enum RulesError {
    /// A line is malformed.
    #[error("{0}: {1}; while it stands there every look-up on this host fails")]
    LabelLine(Place, String),
    /// The rules cannot be read.
    #[error("cannot read the file-context rules: {0}")]
    Unread(WayError),
}

/// What the rules say of a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RuleAnswer {
    /// It gets this context.
    Context(SecurityContext),
    /// It is left as it is: `<<none>>`.
    Left,
    /// No rule is for it.
    NoRule,
}

impl RuleAnswer {
    /// The type that it gets.
    #[must_use]
    pub fn type_name(&self) -> Option<&str> {
        match self {
            Self::Context(context) => Some(context.type_name()),
            Self::Left | Self::NoRule => None,
        }
    }
}

/// What the rules say of everything below a directory, where names make no difference: a rule's number for files,
/// directories and symlinks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Alike([Option<u32>; 3]);

const ALIKE: [Kind; 3] = [Kind::File, Kind::Directory, Kind::Symlink];

/// A host's file-context rules, ready to be asked.
#[derive(Debug, Default)]
pub struct Rules {
    specs: Vec<Spec>,
    /// By the directory that every path they fit is at or below: the numbers of the rules, the last ones first.
    by_folder: HashMap<Box<[u8]>, RuleFolder, RandomState>,
    /// Rules for exactly one path.
    exact: HashMap<Box<[u8]>, Vec<u32>, RandomState>,
    /// The directories below which rules are listed.
    above: HashSet<Box<[u8]>, RandomState>,
    /// Paths that stand for others: `file_contexts.subs`, then `file_contexts.subs_dist`.
    aliases: [Vec<(Vec<u8>, Vec<u8>)>; 2],
    /// The types that rules give.
    types: BTreeSet<String>,
    customizable: BTreeSet<String>,
    unclear: Vec<Unclear>,
}

/// The rules of one folder.
#[derive(Debug, Default)]
struct RuleFolder {
    /// Those that are matched one by one, the last ones first.
    single: Vec<u32>,
    /// Regular expressions that are matched all at once, in their order: where there are many.
    together: Vec<u32>,
    compiled: OnceLock<Option<RegexSet>>,
}

/// As many regular expressions in a folder are matched one by one.
const FEW: usize = 8;

impl RuleFolder {
    /// The expressions as one, each with its stem before it.
    fn set(&self, specs: &[Spec]) -> Option<&RegexSet> {
        let compile = || {
            let sources = self.together.iter().filter_map(|number| match &specs[*number as usize].fits {
                Fits::Regex(expression) => Some(expression.anchored()),
                Fits::Exact | Fits::Tree | Fits::Below => None,
            });
            let mut builder = RegexSetBuilder::new(sources);
            builder.unicode(false).dot_matches_new_line(true).size_limit(1 << 28).dfa_size_limit(1 << 26);
            builder.build().ok()
        };
        self.compiled.get_or_init(compile).as_ref()
    }
}

#[derive(Debug)]
struct Spec {
    kind: Option<u8>,
    answer: RuleAnswer,
    fits: Fits,
    place: Place,
    /// The rule as it is written.
    text: Box<str>,
}

/// How a rule is matched.
#[derive(Debug)]
enum Fits {
    /// Exactly what it is listed under.
    Exact,
    /// What it is listed under, and everything below it: `…(/.*)?`.
    Tree,
    /// Everything below what it is listed under: `…/.*`.
    Below,
    /// A regular expression. What it begins with is compared first: that is cheap.
    Regex(Box<Expression>),
}

#[derive(Debug)]
struct Expression {
    /// What every path that it fits begins with.
    literal: Box<[u8]>,
    /// Its first component, where that is plain: paths must have the same.
    stem: Box<[u8]>,
    source: Box<str>,
    compiled: OnceLock<Option<Regex>>,
}

impl Rules {
    /// The rules below `folder` (`/etc/selinux/NAME/contexts/files`); nothing where there are none.
    pub fn read(host: &Host, folder: &Path) -> Result<Option<Self>, RulesError> {
        let text = |path: &Path| match host.read(path, LONGEST) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(WayError::Missing(_) | WayError::NoDirectory(_)) => Ok(None),
            Err(error) => Err(RulesError::Unread(error)),
        };
        let mut files = Vec::new();
        for name in FILES {
            let path = folder.join(name);
            match text(&path)? {
                Some(bytes) => files.push((path, bytes)),
                None if name == FILES[0] => return Ok(None),
                None => {}
            }
        }
        let aliases = ["file_contexts.subs", "file_contexts.subs_dist"];
        let [own, dist] = aliases.map(|name| text(&folder.join(name)));
        let list =
            folder.parent().map_or_else(|| folder.join("customizable_types"), |above| above.join("customizable_types"));
        let customizable = text(&list)?.unwrap_or_default();
        Self::of(&files, [&own?.unwrap_or_default(), &dist?.unwrap_or_default()], &customizable).map(Some)
    }

    /// The rules that these files hold, in their order; the path substitutions; the types that a relabelling leaves.
    pub fn of(files: &[(PathBuf, Vec<u8>)], aliases: [&[u8]; 2], customizable: &[u8]) -> Result<Self, RulesError> {
        let mut rules = Self { aliases: aliases.map(read_aliases), ..Self::default() };
        let types = String::from_utf8_lossy(customizable).into_owned();
        rules.customizable = types.lines().map(str::trim).filter(|line| !line.is_empty()).map(str::to_owned).collect();
        let mut contexts: HashMap<String, RuleAnswer, RandomState> = HashMap::default();
        for (path, bytes) in files {
            for (number, line) in (1..).zip(bytes.split(|b| *b == b'\n')) {
                rules.line(Place::new(path, number), line, &mut contexts)?;
            }
        }
        rules.index();
        Ok(rules)
    }

    fn line(
        &mut self,
        place: Place,
        line: &[u8],
        contexts: &mut HashMap<String, RuleAnswer, RandomState>,
    ) -> Result<(), RulesError> {
        let Ok(line) = std::str::from_utf8(line) else {
            return Err(RulesError::LabelLine(place, "this line is not text".into()));
        };
        let words: Vec<&str> = line.split_ascii_whitespace().collect();
        let (pattern, kind, context) = match words[..] {
            [] => return Ok(()),
            [first, ..] if first.starts_with('#') => return Ok(()),
            // The library takes none of its rules then.
            ref words if words.iter().any(|word| !word.is_ascii()) => {
                return Err(RulesError::LabelLine(place, "this line has signs beyond ASCII".into()));
            }
            [pattern, context] => (pattern, None, context),
            [pattern, kind, context] => {
                let Some(kind) = kind_of(kind) else {
                    let what = format!("\"{kind}\" is no type of file (--, -d, -l, -p, -s, -b, -c)");
                    return Err(RulesError::LabelLine(place, what));
                };
                (pattern, Some(kind), context)
            }
            _ => {
                let what = "a rule is a path, perhaps a type of file, and a context".to_owned();
                return Err(RulesError::LabelLine(place, what));
            }
        };
        let known = contexts.get(context).cloned();
        let answer = match (known, context) {
            (Some(answer), _) => answer,
            (None, "<<none>>") => RuleAnswer::Left,
            (None, text) => {
                let context: SecurityContext = text.parse().map_err(|error: NoContext| {
                    RulesError::LabelLine(place.clone(), format!("\"{text}\" is no context: {error}"))
                })?;
                self.types.insert(context.type_name().to_owned());
                contexts.insert(text.to_owned(), RuleAnswer::Context(context.clone()));
                RuleAnswer::Context(context)
            }
        };
        self.specs.push(Spec { kind, answer, fits: Fits::Exact, place, text: pattern.into() });
        Ok(())
    }

    /// Puts the rules in the order in which they win and makes them quick to find.
    fn index(&mut self) {
        // Rules without wildcards win over those with them; else what stands later.
        let (mut plain, mut wild): (Vec<Spec>, Vec<Spec>) = (Vec::new(), Vec::new());
        for spec in std::mem::take(&mut self.specs) {
            if has_wildcards(&spec.text) { wild.push(spec) } else { plain.push(spec) }
        }
        wild.append(&mut plain);
        self.specs = wild;
        for (number, spec) in (0_u32..).zip(&mut self.specs) {
            let shape = RuleShape::of(&spec.text);
            let (folder, fits) = match shape {
                RuleShape::Exact(path) => {
                    self.exact.entry(path.into()).or_default().push(number);
                    continue;
                }
                RuleShape::Tree(path) => (path, Fits::Tree),
                RuleShape::Below(path) => (path, Fits::Below),
                RuleShape::Regex { literal, stem } => {
                    let folder = literal.iter().rposition(|b| *b == b'/').map_or(0, |slash| slash);
                    let expression = Expression {
                        literal: literal.clone().into(),
                        stem: spec.text.as_bytes()[..stem].into(),
                        source: spec.text.clone(),
                        compiled: OnceLock::new(),
                    };
                    (literal[..folder].to_vec(), Fits::Regex(Box::new(expression)))
                }
            };
            spec.fits = fits;
            self.by_folder.entry(folder.into()).or_default().single.push(number);
        }
        for list in self.exact.values_mut() {
            list.reverse();
        }
        for listed in self.by_folder.keys().chain(self.exact.keys()) {
            let ends = listed.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(end, _)| end);
            self.above.extend(ends.map(|end| listed[..end].into()));
        }
        for folder in self.by_folder.values_mut() {
            folder.single.reverse();
            let specs = &self.specs;
            let whole = |number: &u32| matches!(&specs[*number as usize].fits, Fits::Regex(e) if e.is_whole());
            if folder.single.iter().filter(|number| whole(number)).count() > FEW {
                folder.together = folder.single.iter().copied().filter(|number| whole(number)).collect();
                folder.single.retain(|number| !whole(number));
                folder.together.reverse();
            }
        }
        for spec in &self.specs {
            if let Fits::Regex(expression) = &spec.fits
                && !expression.is_understood()
            {
                let says = format!("the rule \"{}\" is not understood, and left out", spec.text);
                self.unclear.push(Unclear { at: spec.place.clone(), says });
            }
        }
    }

    /// The rules that were not understood.
    #[must_use]
    pub fn unclear(&self) -> &[Unclear] {
        &self.unclear
    }

    /// The type that the host's own rule with this expression gives; nothing where there is none.
    #[must_use]
    pub fn local_type(&self, expression: &str) -> Option<String> {
        let local =
            |spec: &&Spec| &*spec.text == expression && spec.place.file.extension().is_some_and(|end| end == "local");
        let spec = self.specs.iter().rev().find(local)?;
        Some(spec.answer.type_name().unwrap_or("<<none>>").to_owned())
    }

    /// Whether some rule gives this type.
    #[must_use]
    pub fn mentions(&self, type_name: &str) -> bool {
        self.types.contains(type_name)
    }

    /// Whether a type is one that a relabelling leaves as it is unless it is forced (`customizable_types(5)`).
    #[must_use]
    pub fn is_customizable(&self, type_name: &str) -> bool {
        self.customizable.contains(type_name)
    }

    /// The path that the rules are matched with: what it stands for where it, or a directory above it, is an alias.
    #[must_use]
    pub fn aliased(&self, path: &[u8]) -> Vec<u8> {
        let mut path = path.to_vec();
        for aliases in &self.aliases {
            if let Some(found) = substitute(aliases, &path) {
                path = found;
            }
        }
        path
    }

    /// What a relabelling gives to a path from `/` on.
    #[must_use]
    pub fn answer(&self, path: &[u8], kind: Kind) -> &RuleAnswer {
        self.of_number(self.best(path, kind))
    }

    /// Where the rule stands that gives a path its label; nothing where none does.
    #[must_use]
    pub fn rule_for(&self, path: &[u8], kind: Kind) -> Option<&Place> {
        self.best(path, kind).map(|number| &self.specs[number as usize].place)
    }

    fn best(&self, path: &[u8], kind: Kind) -> Option<u32> {
        let aliased;
        let path = if self.aliases.iter().any(|list| substitute(list, path).is_some()) {
            aliased = self.aliased(path);
            &aliased[..]
        } else {
            path
        };
        let mut best: Option<u32> = None;
        let consider = |best: &mut Option<u32>, list: &[u32], fits: &dyn Fn(&Spec) -> bool| {
            let better = list.iter().take_while(|number| best.is_none_or(|best| **number > best));
            let fits = |number: &u32| self.is_for(*number, kind) && fits(&self.specs[*number as usize]);
            *best = { better }.find(|number| fits(number)).copied().or(*best);
        };
        if let Some(list) = self.exact.get(path) {
            consider(&mut best, list, &|_| true);
        }
        let mut end = path.len();
        loop {
            if let Some(folder) = self.by_folder.get(&path[..end]) {
                consider(&mut best, &folder.single, &|spec| spec.fits(path, end));
                if folder.together.last().is_some_and(|last| best.is_none_or(|best| *last > best)) {
                    let fitting = self.together(folder, path, kind);
                    best = best.max(fitting);
                }
            }
            match path[..end].iter().rposition(|b| *b == b'/') {
                Some(slash) if end > 0 => end = slash,
                _ => break,
            }
        }
        best
    }

    fn of_number(&self, number: Option<u32>) -> &RuleAnswer {
        const NO_RULE: &RuleAnswer = &RuleAnswer::NoRule;
        number.map_or(NO_RULE, |number| &self.specs[number as usize].answer)
    }

    /// What the rules say of everything below a directory (a path from `/` on without `/` at its end), where that is the
    /// same whatever the names there are.
    #[must_use]
    pub fn below(&self, dir: &[u8]) -> Option<Alike> {
        let inside = [dir, b"/"].concat();
        let about_it = |alias: &[u8]| alias.starts_with(&inside) || inside.starts_with(&[alias, b"/"].concat());
        if self.above.contains(dir) || self.aliases.iter().flatten().any(|(alias, _)| about_it(alias)) {
            return None;
        }
        let mut best = [None; 3];
        let mut depends: Vec<u32> = Vec::new();
        for end in (0..inside.len()).filter(|end| inside[*end] == b'/') {
            let Some(folder) = self.by_folder.get(&inside[..end]) else { continue };
            for number in folder.single.iter().chain(&folder.together) {
                match &self.specs[*number as usize].fits {
                    Fits::Regex(expression) => {
                        let literal = &*expression.literal;
                        if inside.starts_with(literal) || literal.starts_with(&inside) {
                            depends.push(*number);
                        }
                    }
                    Fits::Tree | Fits::Below | Fits::Exact => {
                        for (best, kind) in best.iter_mut().zip(ALIKE) {
                            *best = (*best).max(self.is_for(*number, kind).then_some(*number));
                        }
                    }
                }
            }
        }
        let loses = |number: &u32| {
            best.iter().zip(ALIKE).all(|(best, kind)| !self.is_for(*number, kind) || Some(*number) < *best)
        };
        depends.iter().all(loses).then_some(Alike(best))
    }

    /// What a relabelling gives to something of this kind in such a directory; nothing for kinds that are not labelled.
    #[must_use]
    pub fn answer_below(&self, alike: Alike, kind: Kind) -> Option<&RuleAnswer> {
        let place = ALIKE.iter().position(|known| *known == kind)?;
        Some(self.of_number(alike.0[place]))
    }

    fn is_for(&self, number: u32, kind: Kind) -> bool {
        self.specs[number as usize].kind.is_none_or(|wanted| wanted == letter_of(kind))
    }
}

impl Rules {
    /// The last of a folder's many expressions that fits.
    fn together(&self, folder: &RuleFolder, path: &[u8], kind: Kind) -> Option<u32> {
        let fits = |number: &u32| self.is_for(*number, kind);
        if let Some(set) = folder.set(&self.specs) {
            return set.matches(path).iter().map(|place| folder.together[place]).filter(fits).max();
        }
        let mut one_by_one = folder.together.iter().rev().copied().filter(fits);
        one_by_one.find(|number| self.specs[*number as usize].fits(path, 0))
    }
}

/// Lines `ALIAS PATH`; the last ones come first.
fn read_aliases(bytes: &[u8]) -> Vec<(Vec<u8>, Vec<u8>)> {
    let lines = bytes.split(|b| *b == b'\n');
    let words = |line: &[u8]| {
        let mut words = line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
        Some((words.next()?.to_vec(), words.next()?.to_vec()))
    };
    let mut found: Vec<_> = lines.filter_map(words).filter(|(alias, _)| alias.first() != Some(&b'#')).collect();
    found.reverse();
    found
}

fn substitute(aliases: &[(Vec<u8>, Vec<u8>)], path: &[u8]) -> Option<Vec<u8>> {
    aliases.iter().find_map(|(alias, stands_for)| {
        let rest = path.strip_prefix(&**alias)?;
        match rest.first() {
            None | Some(b'/') => {
                let rest = if stands_for == b"/" && !rest.is_empty() { &rest[1..] } else { rest };
                Some([stands_for, rest].concat())
            }
            Some(_) => None,
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn rules(text: &str) -> Rules {
        Rules::of(&[(PathBuf::from("file_contexts"), text.into())], [b"", b""], b"").unwrap()
    }

    #[rstest]
    #[case::subtree("/srv(/.*)? u:r:a_t\n", "/srv/x/y", Some("a_t"))]
    #[case::subtree_itself("/srv(/.*)? u:r:a_t\n", "/srv", Some("a_t"))]
    #[case::not_beside_it("/srv(/.*)? u:r:a_t\n", "/srvx", None)]
    #[case::below("/srv/.* u:r:a_t\n", "/srv", None)]
    #[case::below("/srv/.* u:r:a_t\n", "/srv/x", Some("a_t"))]
    #[case::later_wins("/srv(/.*)? u:r:a_t\n/.* u:r:b_t\n", "/srv/x", Some("b_t"))]
    #[case::plain_wins("/srv/x u:r:a_t\n/srv(/.*)? u:r:b_t\n", "/srv/x", Some("a_t"))]
    #[case::escaped("/srv/a\\.b u:r:a_t\n", "/srv/a.b", Some("a_t"))]
    #[case::dot_is_any("/srv/a.b u:r:a_t\n", "/srv/axb", Some("a_t"))]
    #[case::may_be_missing("/srv/ab? u:r:a_t\n", "/srv/a", Some("a_t"))]
    #[case::of_a_kind("/srv -d u:r:a_t\n", "/srv", None)]
    #[case::left("/srv(/.*)? u:r:a_t\n/srv/x <<none>>\n", "/srv/x", Some("<<none>>"))]
    #[case::comments("# /srv u:r:a_t\n\n  /srv\tu:r:b_t  \n", "/srv", Some("b_t"))]
    fn which_rule_counts(#[case] text: &str, #[case] path: &str, #[case] want: Option<&str>) {
        let rules = rules(text);
        let got = match rules.answer(path.as_bytes(), Kind::File) {
            RuleAnswer::Context(context) => Some(context.type_name()),
            RuleAnswer::Left => Some("<<none>>"),
            RuleAnswer::NoRule => None,
        };
        assert_eq!(got, want);
    }

    #[rstest]
    #[case("/srv\n", "file_contexts:1: a rule is a path, perhaps a type of file, and a context")]
    #[case("/ u:r:t\n/srv -x u:r:t\n", "file_contexts:2: \"-x\" is no type of file")]
    #[case("/srv u:r\n", "file_contexts:1: \"u:r\" is no context")]
    fn a_malformed_line_is_named(#[case] text: &str, #[case] says: &str) {
        let files = [(PathBuf::from("file_contexts"), text.into())];
        let said = Rules::of(&files, [b"", b""], b"").unwrap_err().to_string();
        assert!(said.contains(says), "{said}");
        assert!(said.contains("every look-up on this host fails"), "{said}");
    }

    #[test]
    fn what_is_not_understood_is_told_and_left_out() {
        let rules = rules("/srv(/.*)? u:r:a_t\n/srv/(?=x).* u:r:b_t\n");
        assert_eq!(rules.unclear().len(), 1);
        assert_eq!(rules.answer(b"/srv/x", Kind::File).type_name(), Some("a_t"));
    }

    #[test]
    fn aliases_are_followed_once_each_the_hosts_own_first() {
        let files = [(PathBuf::from("file_contexts"), b"/srv/www(/.*)? u:r:a_t\n".to_vec())];
        let own: &[u8] = b"# comment\n/data /var/www\n";
        let rules = Rules::of(&files, [own, b"/var/www /srv/www\n"], b"a_t\n").unwrap();
        assert_eq!(rules.answer(b"/data/x", Kind::File).type_name(), Some("a_t"));
        assert_eq!(rules.answer(b"/datax", Kind::File), &RuleAnswer::NoRule);
        assert_eq!(rules.aliased(b"/data"), b"/srv/www");
        assert!(rules.is_customizable("a_t") && !rules.is_customizable("b_t"));
    }
}
