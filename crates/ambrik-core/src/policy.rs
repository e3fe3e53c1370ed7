//! From a path to its part and from there to rights: matched step by step while a walk descends.

mod rows;

use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::hash::Hash;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use crate::site::{Access, Component, May, Overrides, Part, Pattern, Phase, Site, Use, Write};
pub use rows::{Right, Row, row};

/// Who must be able to pass through a directory to parts below it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Passage {
    /// php.
    pub php: bool,
    /// The web server.
    pub web: bool,
    /// Everybody.
    pub others: bool,
}

impl Passage {
    fn add(&mut self, row: Row) {
        self.php |= row.php > Right::None;
        self.web |= row.web > Right::None;
        self.others |= row.others > Right::None;
    }
}

/// Everything that the site file says about one path, apart from what the path is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Context {
    /// A small number, the same for equal contexts of one policy.
    pub id: u32,
    /// The part, as an index into the site's parts; none for what no part names.
    pub part: Option<usize>,
    /// Whether the path is the site's at all: its root, a part, or below one.
    pub ours: bool,
    /// Whether the web server serves it.
    pub served: bool,
    /// What it is for.
    pub used_as: Use,
    /// When php may write to it.
    pub write: Write,
    /// The rights that follow in the present phase.
    pub row: Row,
    /// Of a directory: who must pass.
    pub passage: Passage,
    /// Of a directory: php may write to it but not to a part below it, so it must not be able to replace that.
    pub guarded: bool,
    /// The directory above is guarded: what php may write to here is its own, else it could not remove it.
    pub in_guarded: bool,
    /// Who besides keeper, php and web has access here, as places in the site's list (a bit each).
    pub access: u128,
    /// Of a directory: who of them must pass to what is below.
    pub access_below: u128,
}

impl Context {
    /// Whether rights here are the site's to give: it is the site's, and no foreign part's.
    #[must_use]
    pub fn is_managed(&self) -> bool {
        self.ours && self.used_as != Use::Foreign
    }

    /// Whether php may write here whatever the phase.
    #[must_use]
    pub fn php_always_writes(&self) -> bool {
        self.write == Write::Always
    }
}

/// The bits of [`Context::access`], one for each of the site's list.
fn bits() -> impl Iterator<Item = u128> {
    (0..u128::BITS).map(|place| 1 << place)
}

impl Context {
    /// Those of a site's list who have access here, with what they may.
    pub fn given<'a>(&self, access: &'a [Access]) -> impl Iterator<Item = (usize, &'a Access, Right)> + use<'a> {
        let here = self.access;
        let given = bits().zip(access.iter().enumerate()).filter(move |(bit, _)| here & bit != 0);
        given.filter_map(|(_, (number, access))| {
            let right = match access.may? {
                May::Read => Right::Read,
                May::Write => Right::Write,
            };
            Some((number, access, right))
        })
    }

    /// Those who must pass through this directory to what is below it.
    pub fn passing<'a>(&self, access: &'a [Access]) -> impl Iterator<Item = &'a Access> + use<'a> {
        let below = self.access_below;
        bits().zip(access).filter(move |(bit, _)| below & bit != 0).map(|(_, access)| access)
    }
}

/// A place in a pattern, or the end of one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct PolicyNode {
    pattern: usize,
    next: usize,
}

/// What a directory hands down to what is in it, where no part says otherwise.
#[derive(Clone, Copy, Debug)]
struct Inherited {
    part: Option<usize>,
    ours: bool,
    served: bool,
    used_as: Use,
    write: Write,
    guarded: bool,
    access: u128,
}

impl Inherited {
    /// Outside of the site.
    const NOTHING: Self = Self {
        part: None,
        ours: false,
        served: false,
        used_as: Use::Foreign,
        write: Write::Never,
        guarded: false,
        access: 0,
    };

    const fn of(context: &Context) -> Self {
        let &Context { part, ours, served, used_as, write, guarded, access, .. } = context;
        Self { part, ours, served, used_as, write, guarded, access }
    }
}

/// Where the walk stands: the path's context, and the patterns that something below may still fit.
#[derive(Debug)]
pub struct Cursor {
    /// The path's context.
    pub context: Context,
    inherited: Inherited,
    /// Whether a part names this very path.
    pub named: bool,
    open: Vec<PolicyNode>,
    /// `open` by how it goes on.
    next: OnceLock<NextNode>,
    /// The cursors below whose names are plain in every pattern that they fit.
    children: Mutex<HashMap<OsString, Arc<Cursor>>>,
    /// The cursor of every name below that fits no pattern's next component.
    plain_child: OnceLock<Arc<Cursor>>,
}

/// Places by how they go on.
#[derive(Debug, Default)]
struct NextNode {
    /// With a plain name.
    plain: HashMap<OsString, Vec<PolicyNode>>,
    /// With a wildcard within one name.
    wild: Vec<PolicyNode>,
    /// With `**`, which stays.
    stays: Vec<PolicyNode>,
}

impl Cursor {
    /// Whether something below may be a part's.
    #[must_use]
    pub fn leads_on(&self) -> bool {
        !self.open.is_empty()
    }

    /// Whether a directory here is entered: it is the site's, or leads to what is.
    #[must_use]
    pub fn is_entered(&self) -> bool {
        self.context.is_managed() || self.leads_on()
    }
}

/// A site file's parts, ready to be matched.
#[derive(Debug)]
pub struct Policy {
    site: Arc<Site>,
    phase: Phase,
    /// The parts', then those of what is served besides, then the document root's, then the site root's, then those of the
    /// accounts that have access besides.
    patterns: Vec<Pattern>,
    /// The place of the site root's.
    root_pattern: usize,
    /// Whose each of the last ones is, a bit of [`Context::access`].
    access_bits: Vec<u128>,
    /// The bits of those who have access to the whole site.
    access_everywhere: u128,
    rows: Vec<Row>,
    known: Mutex<HashMap<Context, u32>>,
    start: OnceLock<Arc<Cursor>>,
}

impl Policy {
    /// The policy of `site` in `phase`.
    #[must_use]
    pub fn new(site: Arc<Site>, phase: Phase) -> Self {
        let mut patterns: Vec<Pattern> = site.parts.iter().map(|part| part.pattern.clone()).collect();
        patterns.extend(site.serving.too.iter().map(|too| Pattern::literal(&too.path)));
        // Absent a document root, nothing is ever at the place that stands for it.
        let nowhere = || Pattern::literal(std::path::Path::new("\0"));
        patterns.push(site.served.as_ref().map_or_else(nowhere, |served| served.below(&site.root)));
        let root_pattern = patterns.len();
        patterns.push(Pattern::literal(&site.root));
        let (mut access_bits, mut access_everywhere) = (Vec::new(), 0);
        for (bit, access) in bits().zip(&site.access) {
            access_bits.extend(std::iter::repeat_n(bit, access.patterns.len()));
            patterns.extend(access.patterns.iter().cloned());
            access_everywhere |= if access.whole { bit } else { 0 };
        }
        let mut policy = Self {
            site,
            phase,
            patterns,
            root_pattern,
            access_bits,
            access_everywhere,
            rows: Vec::new(),
            known: Mutex::default(),
            start: OnceLock::new(),
        };
        policy.rows = policy.site.parts.iter().map(|part| policy.part_row(part, policy.may_be_served(part))).collect();
        policy
    }

    /// The site.
    #[must_use]
    pub fn site(&self) -> &Arc<Site> {
        &self.site
    }

    /// The phase for which it was made.
    #[must_use]
    pub const fn phase(&self) -> Phase {
        self.phase
    }

    /// The part of a context, if a part names it.
    #[must_use]
    pub fn part(&self, context: &Context) -> Option<&Part> {
        context.part.map(|index| &self.site.parts[index])
    }

    /// What a context's part sets itself.
    #[must_use]
    pub fn overrides(&self, context: &Context) -> Option<&Overrides> {
        self.part(context).map(|part| &part.overrides)
    }

    /// The path of a context's part as the site file gives it; `.` for what no part names.
    #[must_use]
    pub fn part_shown(&self, part: Option<usize>) -> &str {
        part.map_or(".", |index| &self.site.parts[index].shown)
    }

    /// What holds for a part, wherever its pattern fits.
    pub(crate) fn context_of(&self, part: usize) -> Context {
        let nothing = self.start().context;
        let of = &self.site.parts[part];
        let (used_as, write, row) = (of.used_as, of.write, self.rows[part]);
        Context { part: Some(part), ours: true, used_as, write, row, ..nothing }
    }

    fn may_be_served(&self, part: &Part) -> bool {
        let prefix = part.pattern.literal_prefix();
        let has_wildcards = part.pattern.as_path().is_none();
        let may_be_in = |served: &Pattern| {
            let folder = served.literal_prefix();
            prefix.starts_with(&folder) || (has_wildcards && folder.starts_with(&prefix))
        };
        part.served || self.patterns[self.site.parts.len()..self.root_pattern].iter().any(may_be_in)
    }

    fn php_may_write(&self, write: Write) -> bool {
        write == Write::Always || (write == Write::Install && self.phase == Phase::Open)
    }

    fn part_row(&self, part: &Part, served: bool) -> Row {
        row(part.used_as, self.php_may_write(part.write), served, self.site.others)
    }

    /// Where every walk begins: at `/`, of which no part says anything.
    #[must_use]
    pub fn start(&self) -> Arc<Cursor> {
        Arc::clone(self.start.get_or_init(|| self.at_first()))
    }

    fn at_first(&self) -> Arc<Cursor> {
        let places = (0..self.patterns.len()).map(|pattern| PolicyNode { pattern, next: 0 }).collect();
        self.arrive(places, &Inherited::NOTHING)
    }

    /// The cursor of `path`, from `/` on.
    #[must_use]
    pub fn at(&self, path: &std::path::Path) -> Arc<Cursor> {
        let names = path.components().filter_map(|component| match component {
            std::path::Component::Normal(name) => Some(name),
            _ => None,
        });
        names.fold(self.start(), |cursor, name| self.step(&cursor, name))
    }

    /// What of the parts' patterns is left below a path that they may lead through: the part, and the components still to come.
    pub(crate) fn left_below(&self, path: &std::path::Path) -> Vec<(usize, &[Component])> {
        let cursor = self.at(path);
        let of_parts = cursor.open.iter().filter(|place| place.pattern < self.site.parts.len());
        of_parts.map(|place| (place.pattern, &self.patterns[place.pattern].components()[place.next..])).collect()
    }

    /// The cursor of `name` in the directory of `above`.
    #[must_use]
    pub fn step(&self, above: &Arc<Cursor>, name: &OsStr) -> Arc<Cursor> {
        let NextNode { plain, wild, stays } = above.next.get_or_init(|| self.sorted(&above.open));
        let plain = plain.get(name).map_or(&[][..], Vec::as_slice);
        let fits = |place: &&PolicyNode| self.next(place).is_some_and(|component| component.fits(name));
        let wild: Vec<PolicyNode> = wild.iter().filter(fits).copied().collect();
        if plain.is_empty() && wild.is_empty() {
            return Arc::clone(above.plain_child.get_or_init(|| self.arrive(stays.clone(), &above.inherited)));
        }
        let children = || above.children.lock().unwrap_or_else(PoisonError::into_inner);
        if wild.is_empty()
            && let Some(known) = children().get(name)
        {
            return Arc::clone(known);
        }
        let onwards = plain.iter().chain(&wild).map(|place| PolicyNode { next: place.next + 1, ..*place });
        let cursor = self.arrive(stays.iter().copied().chain(onwards).collect(), &above.inherited);
        // Any number of names may fit a wildcard: they are not kept.
        if wild.is_empty() {
            children().insert(name.to_owned(), Arc::clone(&cursor));
        }
        cursor
    }

    /// As [`Self::step`], for an entry that may be where another file system begins: of one that no part names only what parts
    /// name below it is the site's, and nothing where they name nothing there.
    #[must_use]
    pub fn enter(&self, above: &Arc<Cursor>, name: &OsStr, mounted: bool) -> Option<Arc<Cursor>> {
        let cursor = self.step(above, name);
        if !mounted || cursor.named {
            return Some(cursor);
        }
        // A wildcard names no file system.
        let literal = |place: &&PolicyNode| {
            let names = &self.patterns[place.pattern].components()[..=place.next];
            names.iter().all(|name| matches!(name, Component::Name(_)))
        };
        let below: Vec<PolicyNode> = cursor.open.iter().filter(literal).copied().collect();
        let Context { served, access, .. } = cursor.context;
        let nothing = Inherited { served, access, ..Inherited::NOTHING };
        below.iter().any(|place| place.pattern < self.site.parts.len()).then(|| self.arrive(below, &nothing))
    }

    /// The component with which a place goes on.
    fn next(&self, place: &PolicyNode) -> Option<&Component> {
        self.patterns[place.pattern].components().get(place.next)
    }

    /// Places by how they go on.
    fn sorted(&self, open: &[PolicyNode]) -> NextNode {
        let mut next = NextNode::default();
        for place in open {
            match self.next(place) {
                Some(Component::Name(name)) => next.plain.entry(name.clone()).or_default().push(*place),
                Some(Component::Glob(_)) => next.wild.push(*place),
                Some(Component::AnyDepth) => next.stays.push(*place),
                None => {}
            }
        }
        next
    }

    /// The cursor at these places, in a directory that hands down `above`.
    fn arrive(&self, mut places: Vec<PolicyNode>, above: &Inherited) -> Arc<Cursor> {
        if above.part.is_some_and(|part| self.is_others(part)) {
            places.clear();
        }
        // `**` also stands for nothing: the place behind it is reached as well.
        let mut at = 0;
        while let Some(&place) = places.get(at) {
            if let Some(Component::AnyDepth) = self.patterns[place.pattern].components().get(place.next) {
                let behind = PolicyNode { next: place.next + 1, ..place };
                if !places.contains(&behind) {
                    places.push(behind);
                }
            }
            at += 1;
        }
        let (done, mut open): (Vec<PolicyNode>, Vec<PolicyNode>) =
            places.into_iter().partition(|place| place.next == self.patterns[place.pattern].components().len());
        let reached = |pattern: usize| done.iter().any(|place| place.pattern == pattern);
        let parts = done.iter().map(|place| place.pattern).filter(|&pattern| pattern < self.site.parts.len());
        let best = parts
            .min_by_key(|&pattern| (!self.is_others(pattern), std::cmp::Reverse(self.exactness(pattern)), pattern));
        if best.is_some_and(|part| self.is_others(part)) {
            open.clear();
        }
        let served = above.served || (self.site.parts.len()..self.root_pattern).any(reached);
        let access = above.access | self.access_of(&done);
        // What would hold here if no part named it.
        let around = if reached(self.root_pattern) && !above.ours {
            Inherited { ours: true, served, used_as: Use::Code, access, ..Inherited::NOTHING }
        } else {
            Inherited { served, access, ..*above }
        };
        let (context, inherited) = self.context(best, &around, &open);
        let (next, children, plain_child) = (OnceLock::new(), Mutex::default(), OnceLock::new());
        Arc::new(Cursor { context, inherited, named: best.is_some(), open, next, children, plain_child })
    }

    /// Whether a part is another site's.
    fn is_others(&self, part: usize) -> bool {
        self.site.parts[part].other.is_some()
    }

    /// Literal beats glob at the same depth; among globs, the one with more literal names.
    fn exactness(&self, pattern: usize) -> (bool, usize) {
        let pattern = &self.patterns[pattern];
        (pattern.as_path().is_some(), pattern.literal_count())
    }

    /// Who has access by patterns at these places.
    fn access_of(&self, places: &[PolicyNode]) -> u128 {
        let of = |place: &PolicyNode| self.access_bits.get(place.pattern.checked_sub(self.root_pattern + 1)?);
        places.iter().filter_map(of).fold(0, |all, bit| all | bit)
    }

    /// The context at a place that this part names, if any, and what it hands down; `open` is what goes on below.
    fn context(&self, best: Option<usize>, around: &Inherited, open: &[PolicyNode]) -> (Context, Inherited) {
        let in_guarded = around.guarded;
        let named = best.map(|index| (index, &self.site.parts[index]));
        let here = named.map_or(*around, |(index, part)| Inherited {
            part: Some(index),
            ours: true,
            served: around.served || part.served,
            used_as: part.used_as,
            write: part.write,
            guarded: false,
            access: around.access,
        });
        let row_of =
            |place: &Inherited| row(place.used_as, self.php_may_write(place.write), place.served, self.site.others);
        let row = row_of(&here);
        let mut passage = Passage::default();
        let mut guarded = false;
        for place in open {
            if let Some(&below) = self.rows.get(place.pattern) {
                let part = &self.site.parts[place.pattern];
                if let Some(other) = &part.other {
                    passage.others |= other.passed_by_others;
                    guarded |= row.php == Right::Write;
                } else if part.used_as != Use::Foreign {
                    passage.add(below);
                    guarded |= row.php == Right::Write && below.php < Right::Write;
                }
            } else if here.ours && place.pattern <= self.root_pattern {
                passage.add(self::row(Use::Code, false, true, self.site.others));
            }
        }
        let shallow = named.is_some_and(|(_, part)| !part.deep);
        if shallow && around.ours {
            let below = row_of(around);
            passage.add(below);
            guarded |= row.php == Right::Write && below.php < Right::Write;
        }
        let Inherited { part, ours, served, used_as, write, .. } = here;
        let access = around.access | if ours { self.access_everywhere } else { 0 };
        let access_below = if ours { self.access_of(open) & !access } else { 0 };
        let new = Context {
            id: 0,
            part,
            ours,
            served,
            used_as,
            write,
            row,
            passage,
            guarded,
            in_guarded,
            access,
            access_below,
        };
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let next = u32::try_from(known.len()).unwrap_or(u32::MAX);
        let context = Context { id: *known.entry(new).or_insert(next), ..new };
        let handed_down = if shallow { Inherited { guarded, access, ..*around } } else { Inherited::of(&context) };
        (context, handed_down)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::Accounts;
    use crate::site::Others;
    use rstest::rstest;
    use std::path::Path;

    fn policy(parts: &str, phase: Phase) -> Policy {
        let accounts = Accounts::from_texts("root:x:0:0::/:/\nwww:x:33:33::/:/\n", "root:x:0:\nwww:x:33:\n");
        let head = "[site]\nroot = \"/srv/x\"\nserved = \"public\"\n[accounts]\nphp = \"www\"\nothers = \"none\"\n";
        let parts: String = parts
            .split_whitespace()
            .map(|p| {
                let mut fields = p.split('=');
                let (path, used_as) = (fields.next().unwrap(), fields.next().unwrap());
                let write = fields.next().map(|w| format!("write = \"{w}\"\n")).unwrap_or_default();
                format!("[[part]]\npath = \"{path}\"\nuse = \"{used_as}\"\n{write}")
            })
            .collect();
        let site = crate::site::read(&format!("{head}{parts}"), Path::new("x.toml"), &accounts, &[]).unwrap();
        Policy::new(Arc::new(site), phase)
    }

    #[rstest]
    #[case::default_is_code("a/b", Use::Code)]
    #[case::inherited("var/x/cache/y", Use::Scratch)]
    #[case::deepest_wins("var/x/cache/keep", Use::Store)]
    #[case::literal_beats_glob("var/lib/cache", Use::Log)]
    #[case::any_depth("var/q/r/s.key", Use::Secret)]
    #[case::any_depth_of_none("var/s.key", Use::Secret)]
    #[case::the_glob_alone_is_not_the_middle("var/x", Use::Code)]
    fn finds_the_part(#[case] path: &str, #[case] want: Use) {
        let policy =
            policy("var/*/cache=scratch var/lib/cache=log var/*/cache/keep=store var/**/*.key=secret", Phase::Sealed);
        assert_eq!(policy.at(&Path::new("/srv/x").join(path)).context.used_as, want);
    }

    #[test]
    fn served_and_ours_begin_where_they_begin() {
        let policy = policy("/var/lib/x=store", Phase::Sealed);
        let at = |path: &str| policy.at(Path::new(path)).context;
        assert!(!at("/srv").ours && at("/srv/x").ours && at("/var/lib/x/a").ours && !at("/var/lib/y").ours);
        assert!(!at("/srv/x").served && at("/srv/x/public/a").served && !at("/var/lib/x").served);
        assert_eq!(at("/var/lib/x/a").used_as, Use::Store);
    }

    #[test]
    fn the_way_to_a_part_is_open_for_search() {
        let policy = policy("hidden=hidden hidden/a/up=store", Phase::Sealed);
        let passage = |path: &str| policy.at(&Path::new("/srv/x").join(path)).context.passage;
        assert!(passage("hidden").php && passage("hidden/a").php && !passage("hidden/b").php);
        assert!(!passage("hidden/a").web && passage("").web, "web passes the root to what is served");
        assert!(!passage("hidden/a/up").php);
    }

    #[test]
    fn a_writable_directory_with_a_part_that_is_not_is_guarded() {
        let policy = policy("data=store data/conf/key.php=secret", Phase::Sealed);
        let at = |path: &str| policy.at(&Path::new("/srv/x").join(path)).context;
        assert!(at("data").guarded && at("data/conf").guarded && !at("data/other").guarded);
        assert!(at("data/other").in_guarded && !at("data/other/x").in_guarded && at("data/conf/key.php").in_guarded);
    }

    #[rstest]
    #[case(Phase::Sealed, Right::Read)]
    #[case(Phase::Open, Right::Write)]
    fn install_means_while_open(#[case] phase: Phase, #[case] want: Right) {
        let policy = policy("plugins=code=install", phase);
        assert_eq!(policy.at(Path::new("/srv/x/plugins/a")).context.row.php, want);
    }

    #[rstest]
    #[case(Use::Code, true, "rw r r r")]
    #[case(Use::Code, false, "rw r - r")]
    #[case(Use::Secret, true, "rw r - -")]
    #[case(Use::Store, true, "rw rw r -")]
    #[case(Use::Scratch, false, "rw rw - -")]
    #[case(Use::Log, true, "rw rw - -")]
    #[case(Use::Setup, true, "rw r r r")]
    #[case(Use::Remove, true, "rw - r -")]
    #[case(Use::Remove, false, "rw - - -")]
    #[case(Use::Hidden, true, "rw - - -")]
    fn the_table_is_the_designs(#[case] used_as: Use, #[case] served: bool, #[case] want: &str) {
        let row = row(used_as, used_as.default_write() == Write::Always, served, Others::Read);
        let words = [row.keeper, row.php, row.web, row.others].map(Right::word);
        assert_eq!(words.join(" "), want);
    }

    /// The slow, plain way: of all parts whose pattern fits the path or a directory above, the deepest, then the
    /// plain one, then the one with more plain names, then the first.
    fn plainly(policy: &Policy, path: &Path) -> Option<usize> {
        let depth = |part: &Part| {
            let fits = |above: &&Path| {
                part.pattern.covers(above) && {
                    let upper = above.parent();
                    // It fits here by itself, not only because it fits further up.
                    upper.is_none_or(|upper| !part.pattern.covers(upper)) || ends_in_any_depth(part)
                }
            };
            path.ancestors().find(fits).map(|found| found.components().count())
        };
        let candidates = policy.site().parts.iter().enumerate().filter_map(|(n, part)| {
            let plain = part.pattern.as_path().is_some();
            Some((depth(part)?, plain, part.pattern.literal_count(), std::cmp::Reverse(n)))
        });
        candidates.max().map(|(.., std::cmp::Reverse(n))| n)
    }

    fn ends_in_any_depth(part: &Part) -> bool {
        matches!(part.pattern.components().last(), Some(Component::AnyDepth))
    }

    proptest::proptest! {
        #[test]
        fn step_by_step_is_the_same_as_all_at_once(
            parts in proptest::collection::btree_set("(a|b|\\*|\\*\\*)(/(a|b|c\\*|\\*|\\*\\*)){0,3}", 1..6),
            path in "(a|b|ca)(/(a|b|ca|cb)){0,5}",
        ) {
            let normal: std::collections::BTreeSet<String> = parts.iter().map(|p| Pattern::parse(p).unwrap().text().to_owned()).collect();
            let text: Vec<String> = normal.iter().map(|p| format!("{p}=store")).collect();
            let policy = policy(&text.join(" "), Phase::Sealed);
            let whole = Path::new("/srv/x").join(&path);
            let inside_any_depth = normal.iter().any(|p| p.contains("**/"));
            let stepped = policy.at(&whole).context.part;
            if inside_any_depth {
                // There a pattern may fit at several depths; that it fits at all is the same.
                let any = policy.site().parts.iter().any(|part| part.pattern.covers(&whole));
                proptest::prop_assert_eq!(stepped.is_some(), any);
            } else {
                proptest::prop_assert_eq!(stepped, plainly(&policy, &whole));
            }
        }
    }
}
