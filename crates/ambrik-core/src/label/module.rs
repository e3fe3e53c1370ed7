//! A site's labels for good: a policy module of its own, in SELinux's intermediate language (CIL), with a file-context
//! statement for each part. Installed, it makes the labels those that every relabelling gives.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use super::rules::{RuleAnswer, Rules};
use super::{Labels, SiteLabels};
use crate::entry::Kind;
use crate::host::Place;
use crate::policy::{Context, Policy};
use crate::site::{Component, Pattern, Phase, Site, Use};

/// A site's labels for good, as they should be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Module {
    /// The usual name of its module in the policy store.
    pub name: String,
    /// The module's text.
    pub text: String,
    /// The same as local rules, for where a module's do not count.
    pub local: Vec<LocalRule>,
    /// Paths, and the types that they must get by the rules.
    pub probes: Vec<ModuleProbe>,
    /// Whether the host's rules, as they are, give each probe its type.
    pub holds: bool,
    /// The rules that would beat a module's: those of home directories, and the host's own.
    pub against: Vec<Against>,
}

/// A local file-context rule (`semanage-fcontext(8)`).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LocalRule {
    /// The regular expression.
    pub expression: String,
    /// `a` for all files, `d` for directories.
    pub kind: &'static str,
    /// The type, or `<<none>>`.
    pub type_name: String,
}

impl LocalRule {
    /// Rules as one text, for the ledger.
    #[must_use]
    pub fn text(rules: &[Self]) -> String {
        let lines = rules.iter().map(|rule| format!("{}\t{}\t{}\n", rule.expression, rule.kind, rule.type_name));
        lines.collect()
    }

    /// The rules of such a text; lines that are none are left out.
    #[must_use]
    pub fn read(text: &str) -> Vec<Self> {
        let rule = |line: &str| {
            let mut fields = line.split('\t');
            let (expression, kind, type_name) = (fields.next()?, fields.next()?, fields.next()?);
            let kind = if kind == "d" { "d" } else { "a" };
            Some(Self { expression: expression.to_owned(), kind, type_name: type_name.to_owned() })
        };
        text.lines().filter_map(rule).collect()
    }
}

/// A rule that beats a module's, and what it gives.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Against {
    /// The path that it was asked for.
    pub path: PathBuf,
    /// Where the rule stands.
    pub rule: Place,
    /// The type that it gives; nothing where it leaves the label as it is.
    pub gives: Option<String>,
}

/// A path that stands for what a part names, and the type that the rules must give it; none where they must leave it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ModuleProbe {
    /// The path as the rules are matched with it.
    pub path: PathBuf,
    /// The type.
    pub type_name: Option<String>,
    /// Whether it is asked as a directory alone.
    pub directory: bool,
}

/// The mark of a site's module, in its first line.
pub(super) fn mark(site: &str) -> String {
    format!("; File contexts of the site {site}, written by ambrik")
}

/// The name that a site's module has. Module names have no other signs than letters, digits and `_`.
#[must_use]
pub fn module_name(site: &str) -> String {
    let mut name = "ambrik_".to_owned();
    for byte in site.bytes() {
        if byte.is_ascii_alphanumeric() {
            name.push(char::from(byte));
        } else {
            // `a-b` and `a.b` must not be one.
            let _ = write!(name, "_{byte:02x}");
        }
    }
    name
}

impl Module {
    /// The module of a sealed site; `real` tells where a path that the site file names really is. Nothing where the host
    /// has no rules.
    #[must_use]
    pub fn of(
        labels: &Labels,
        of_site: &SiteLabels<'_>,
        site: &Policy,
        real: &dyn Fn(&Path) -> PathBuf,
    ) -> Option<Self> {
        let rules = labels.rules()?;
        let type_of =
            |context: &Context| (context.used_as != Use::Foreign).then(|| of_site.type_of(site, context).to_owned());
        let root = Pattern::literal(&site.site().root);
        let mut places = vec![RulePlace::of(&root, type_of(&site.at(&site.site().root).context), true, rules, real)];
        // Two modules must not say different things of one expression: another site's is its own module's.
        let own = || site.site().parts.iter().enumerate().filter(|(_, part)| part.other.is_none());
        for (number, part) in own() {
            places.push(RulePlace::of(&part.pattern, type_of(&site.context_of(number)), part.deep, rules, real));
        }
        // A pattern that goes through a part is less exact than the part to the store, which sorts by what stands before the first
        // wildcard: below each part it is said once more.
        for folder in own().filter_map(|(_, part)| Some(Path::new("/").join(part.pattern.as_path()?))) {
            for (number, left) in site.left_below(&folder) {
                let part = &site.site().parts[number];
                if part.pattern.as_path().is_none() && part.other.is_none() {
                    let pattern = Pattern::literal(&folder).and(left);
                    places.push(RulePlace::of(&pattern, type_of(&site.context_of(number)), part.deep, rules, real));
                }
            }
        }
        // What is more specific comes after what is less.
        places.sort_by_key(|place| (place.stem, place.components, place.expression.len()));
        let mut known = BTreeSet::new();
        places.retain(|place| known.insert(place.expression.clone()));
        let probes = probes(site, type_of, rules, real);
        let level = if labels.state.multi_level { " ((s0) (s0))" } else { "" };
        let mut text = format!("{}: `ambrik set` replaces them.\n", mark(&site.site().name));
        for RulePlace { expression, deep, type_name, .. } in &places {
            let kind = if *deep { "any" } else { "dir" };
            let context =
                type_name.as_ref().map_or_else(|| "()".to_owned(), |name| format!("(system_u object_r {name}{level})"));
            let _ = writeln!(text, "(filecon \"{expression}\" {kind} {context})");
        }
        let local = places.into_iter().map(|place| LocalRule {
            expression: place.expression,
            kind: if place.deep { "a" } else { "d" },
            type_name: place.type_name.unwrap_or_else(|| "<<none>>".to_owned()),
        });
        let local = local.collect();
        let holds = probes.iter().all(|probe| probe.holds(rules));
        let mut against: Vec<Against> = Vec::new();
        for found in probes.iter().filter_map(|probe| probe.against(rules)) {
            if against.iter().all(|known| known.rule != found.rule) {
                against.push(found);
            }
        }
        let name = module_name(&site.site().name);
        Some(Self { name, text, local, probes, holds, against })
    }
}

/// One statement: what it is for, and where it stands among the others.
struct RulePlace {
    expression: String,
    type_name: Option<String>,
    deep: bool,
    /// How long what stands before the first wildcard is.
    stem: usize,
    components: usize,
}

impl RulePlace {
    fn of(
        pattern: &Pattern,
        type_name: Option<String>,
        deep: bool,
        rules: &Rules,
        real: &dyn Fn(&Path) -> PathBuf,
    ) -> Self {
        let stem = pattern.literal_prefix().as_os_str().len();
        // One that ends with the name is for the directory alone, so that it stands beside no other of that name.
        let below = if deep { EVERYTHING_BELOW } else { "" };
        let expression = format!("{}{below}", expression(pattern, rules, real));
        Self { expression, type_name, deep, stem, components: pattern.components().len() }
    }
}

/// Paths for everything that the parts say: each part, what is in it, and made-up names for wildcards, below every other part
/// too. What a path must get is what the site file says of it.
fn probes(
    site: &Policy,
    type_of: impl Fn(&Context) -> Option<String>,
    rules: &Rules,
    real: &dyn Fn(&Path) -> PathBuf,
) -> Vec<ModuleProbe> {
    let parts = || site.site().parts.iter().filter(|part| part.other.is_none());
    let literal = parts().filter_map(|part| Some(Path::new("/").join(part.pattern.as_path()?)));
    let tops: Vec<PathBuf> = std::iter::once(site.site().root.clone()).chain(literal).collect();
    let mut paths: BTreeSet<PathBuf> = tops.iter().cloned().collect();
    for part in parts().filter(|part| part.pattern.as_path().is_none()) {
        paths.extend(made_up(part.pattern.components()).map(|below| Path::new("/").join(below)));
    }
    for top in &tops {
        for (number, left) in site.left_below(top) {
            if site.site().parts[number].pattern.as_path().is_none() {
                paths.extend(made_up(left).map(|below| top.join(below)));
            }
        }
    }
    let mut found = Vec::new();
    for path in paths {
        for (path, directory) in [(path.clone(), true), (path.join("ambrik-probe"), false)] {
            let cursor = site.at(&path);
            // What is another site's is told by that one, and a part for the folder alone says nothing of what is in it.
            let others = site.part(&cursor.context).is_some_and(|part| part.other.is_some());
            if others || !cursor.context.ours {
                continue;
            }
            let type_name = type_of(&cursor.context);
            let path = bytes_path(rules.aliased(path_bytes(&real(&path))));
            found.push(ModuleProbe { path, type_name, directory });
        }
    }
    found
}

/// Paths that fit components: made-up names for wildcards, `**` once for nothing and once for two folders.
fn made_up(components: &[Component]) -> impl Iterator<Item = PathBuf> + use<> {
    let mut found = vec![PathBuf::new()];
    for component in components {
        found = found
            .into_iter()
            .flat_map(|path| match component {
                Component::Name(name) => vec![path.join(name)],
                Component::Glob(glob) => vec![path.join(fitting(glob.glob().glob()))],
                Component::AnyDepth => vec![path.join("ambrik-a/ambrik-b"), path],
            })
            .collect();
    }
    found.into_iter()
}

/// A name that fits `*`, `?` and `[…]`.
fn fitting(glob: &str) -> String {
    let mut name = String::new();
    let mut chars = glob.chars();
    while let Some(c) = chars.next() {
        match c {
            '*' => name.push_str("ambrik"),
            '?' => name.push('x'),
            '\\' => name.extend(chars.next()),
            '[' => {
                let set: Vec<char> = chars.by_ref().take_while(|c| *c != ']').collect();
                let not = matches!(set.first(), Some('!' | '^'));
                // One that no set leaves out by chance is tried first.
                let free = ['x', 'q', '7', 'Z'].into_iter().find(|c| !set.contains(c));
                name.extend(if not { free } else { set.first().copied() });
            }
            c => name.push(c),
        }
    }
    name
}

impl ModuleProbe {
    fn kinds(&self) -> &'static [Kind] {
        if self.directory { &[Kind::Directory] } else { &[Kind::File, Kind::Directory] }
    }

    /// Whether these rules give the path its type.
    #[must_use]
    pub fn holds(&self, rules: &Rules) -> bool {
        self.kinds().iter().all(|kind| match rules.answer(path_bytes(&self.path), *kind) {
            RuleAnswer::Context(context) => self.type_name.as_deref() == Some(context.type_name()),
            RuleAnswer::Left | RuleAnswer::NoRule => self.type_name.is_none(),
        })
    }

    /// The rule that gives it another type, where that beats a module's: what stands in the files that are read after the policy's.
    #[must_use]
    pub fn against(&self, rules: &Rules) -> Option<Against> {
        let (path, kind) = (path_bytes(&self.path), *self.kinds().first()?);
        let rule = rules.rule_for(path, kind).filter(|_| !self.holds(rules))?;
        let own = rule.file.extension().is_some_and(|end| end == "local" || end == "homedirs");
        let gives = rules.answer(path, kind).type_name().map(str::to_owned);
        own.then(|| Against { path: self.path.clone(), rule: rule.clone(), gives })
    }
}

fn path_bytes(path: &Path) -> &[u8] {
    std::os::unix::ffi::OsStrExt::as_bytes(path.as_os_str())
}

fn bytes_path(bytes: Vec<u8>) -> PathBuf {
    PathBuf::from(<std::ffi::OsString as std::os::unix::ffi::OsStringExt>::from_vec(bytes))
}

/// What a path names itself, and everything below it. Policies say that in another way: of two statements with the same
/// expression one would be dropped without a word. Being longer, this one also comes after the policy's own.
const EVERYTHING_BELOW: &str = "(/.*){0,1}";

/// A pattern as the rules' regular expression, for what it names.
fn expression(pattern: &Pattern, rules: &Rules, real: &dyn Fn(&Path) -> PathBuf) -> String {
    let prefix = real(&Path::new("/").join(pattern.literal_prefix()));
    let prefix = rules.aliased(path_bytes(&prefix));
    let mut text = escaped_bytes(&prefix);
    let literal = pattern.components().iter().take_while(|c| matches!(c, Component::Name(_))).count();
    for component in &pattern.components()[literal..] {
        match component {
            Component::Name(name) => {
                text.push('/');
                text.push_str(&escaped_bytes(name.as_encoded_bytes()));
            }
            Component::Glob(glob) => {
                text.push('/');
                text.push_str(&of_glob(glob.glob().glob()));
            }
            Component::AnyDepth => text.push_str("(/.*)?"),
        }
    }
    text
}

/// A text in which nothing is a wildcard. What would end the statement's string, and each byte that the policy's compiler does
/// not take, is any byte.
fn escaped(text: &str) -> String {
    let mut found = String::new();
    for c in text.chars() {
        match c {
            '"' | '\'' | '\n' | '\r' | '\t' | ' ' => found.push('.'),
            c if !c.is_ascii() || c.is_ascii_control() => found.extend(std::iter::repeat_n('.', c.len_utf8())),
            '.' | '^' | '$' | '?' | '*' | '+' | '|' | '[' | ']' | '(' | ')' | '{' | '}' | '\\' => {
                found.push('\\');
                found.push(c);
            }
            c => found.push(c),
        }
    }
    found
}

/// As [`escaped`]; what is no text is any bytes.
pub(super) fn escaped_bytes(bytes: &[u8]) -> String {
    let chunks = bytes.utf8_chunks();
    chunks.flat_map(|chunk| [escaped(chunk.valid()), ".".repeat(chunk.invalid().len())]).collect()
}

/// One component with `*`, `?` and `[…]`.
fn of_glob(glob: &str) -> String {
    let mut found = String::new();
    let mut chars = glob.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '*' => found.push_str("[^/]*"),
            '?' => found.push_str("[^/]"),
            '\\' => found.push_str(&escaped(&chars.next().unwrap_or('\\').to_string())),
            '[' => {
                let not = chars.next_if(|c| matches!(c, '!' | '^')).is_some();
                let set: String = chars.by_ref().take_while(|c| *c != ']').collect();
                // A set is for single bytes, and must end neither the statement nor the word of a command that it stands in.
                if set.chars().all(|c| c.is_ascii_graphic() && !matches!(c, '\\' | '[' | '"' | '\'')) {
                    found.extend([if not { "[^/" } else { "[" }, &set, "]"]);
                } else {
                    found.push_str("[^/]");
                }
            }
            c => found.push_str(&escaped(&c.to_string())),
        }
    }
    found
}

/// The site as it is when it is sealed: what its module is for.
#[must_use]
pub(super) fn sealed(site: &std::sync::Arc<Site>) -> Policy {
    Policy::new(std::sync::Arc::clone(site), Phase::Sealed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const RULES: &str = "/srv(/.*)? system_u:object_r:var_t:s0\n";

    fn module_of(parts: &str, rules: &[(&str, &str)]) -> (Module, Rules) {
        let accounts = crate::account::Accounts::from_texts(
            "root:x:0:0::/:/\nberths:x:61001:61001::/:/\n",
            "root:x:0:\nberths:x:61001:\n",
        );
        let text = format!("[site]\nroot = \"/srv/quay\"\n[accounts]\nphp = \"berths\"\n{parts}");
        let site = crate::site::read(&text, Path::new("quay.toml"), &accounts, &[]).unwrap();
        let site = std::sync::Arc::new(site);
        let dir = tempfile::tempdir().unwrap();
        let folder = dir.path().join("etc/selinux/quay/contexts/files");
        std::fs::create_dir_all(&folder).unwrap();
        std::fs::create_dir_all(dir.path().join("sys/fs/selinux")).unwrap();
        std::fs::write(dir.path().join("sys/fs/selinux/enforce"), "1").unwrap();
        std::fs::write(dir.path().join("etc/selinux/config"), "SELINUX=enforcing\nSELINUXTYPE=quay\n").unwrap();
        for (name, text) in rules {
            std::fs::write(folder.join(name), text).unwrap();
        }
        let types = ["httpd_sys_content_t", "httpd_sys_rw_content_t", "httpd_cache_t"];
        let valid = types.map(|name| format!("system_u:object_r:{name}:s0\n")).concat();
        std::fs::write(dir.path().join("sys/fs/selinux/context"), valid).unwrap();
        let host = crate::tree::Host::at(dir.path()).unwrap();
        let labels = Labels::of(&host);
        let module = labels.of_site(&site).module(&site, &Path::to_owned).unwrap();
        let rules = Rules::read(&host, Path::new("/etc/selinux/quay/contexts/files")).unwrap().unwrap();
        (module, rules)
    }

    fn part(path: &str, used_as: &str) -> String {
        format!("[[part]]\npath = \"{path}\"\nuse = \"{used_as}\"\n")
    }

    /// The statements sorted as the policy's store does: what begins with more plain signs later, then what is longer.
    fn as_stored(module: &Module) -> Rules {
        let mut lines: Vec<(usize, usize, String)> = module
            .local
            .iter()
            .map(|rule| {
                let plain = rule.expression.replace("\\.", "_");
                let stem = plain.find(|c| ".^$?*+|[({".contains(c)).unwrap_or(plain.len());
                let kind = if rule.kind == "d" { "-d" } else { "" };
                let context = match &*rule.type_name {
                    "<<none>>" => "<<none>>".to_owned(),
                    name => format!("system_u:object_r:{name}:s0"),
                };
                (stem, plain.len(), format!("{} {kind} {context}\n", rule.expression))
            })
            .collect();
        lines.sort();
        let text = lines.into_iter().map(|(.., line)| line).collect::<String>();
        Rules::of(&[(PathBuf::from("file_contexts"), format!("{RULES}{text}").into_bytes())], [b"", b""], b"").unwrap()
    }

    #[rstest]
    #[case::plain(part("uploads", "store"))]
    #[case::any_depth_through_a_part(part("vendor", "code") + &part("**/cache", "scratch") + &part("uploads", "store"))]
    #[case::one_name(part("sites/*/files", "store") + &part("sites/all", "code"))]
    #[case::one_name_in_a_part(part("sites", "code") + &part("sites/*/files", "store") + &part("sites/*/files/private", "hidden"))]
    #[case::beyond_ascii(part("Übersicht", "store") + &part("with space", "store") + &part("b[rac]d", "scratch"))]
    #[case::outside(part("/var/lib/quay", "store") + &part("/var/lib/quay/**/tmp", "scratch"))]
    #[case::foreign(part("uploads", "store") + &part("uploads/theirs", "foreign"))]
    fn what_the_store_makes_of_it_is_what_the_site_file_says(#[case] parts: String) {
        let (module, before) = module_of(&parts, &[("file_contexts", RULES)]);
        assert!(!module.holds && module.against.is_empty(), "{module:?}");
        let rules = as_stored(&module);
        let lost: Vec<_> = module.probes.iter().filter(|probe| !probe.holds(&rules)).collect();
        assert!(lost.is_empty(), "{lost:?}\n{}", module.text);
        assert!(module.text.is_ascii() && !module.probes.iter().all(|probe| probe.holds(&before)));
    }

    #[test]
    fn rules_that_beat_a_module_are_named() {
        let local = "# the host's own\n/srv/quay(/.*)? system_u:object_r:httpd_sys_rw_content_t:s0\n";
        let files = [("file_contexts", RULES), ("file_contexts.local", local)];
        let (module, rules) = module_of(&part("uploads", "store"), &files);
        let [against] = &module.against[..] else { panic!("{:?}", module.against) };
        assert_eq!(against.gives.as_deref(), Some("httpd_sys_rw_content_t"));
        assert!(against.rule.to_string().ends_with("file_contexts.local:2"), "{against:?}");
        assert_eq!(rules.local_type("/srv/quay(/.*)?").as_deref(), Some("httpd_sys_rw_content_t"));
        assert_eq!(LocalRule::read(&LocalRule::text(&module.local)), module.local);
    }

    /// Neither the statement nor the word of a command that an expression stands in ends early.
    #[rstest]
    #[case("a[x']b", "a[^/]b")]
    #[case("a[x y]b", "a[^/]b")]
    #[case("a[xy]b", "a[xy]b")]
    #[case("a[!xy]b", "a[^/xy]b")]
    #[case("it's", "it.s")]
    fn of_one_component(#[case] glob: &str, #[case] want: &str) {
        assert_eq!(of_glob(glob), want);
    }

    #[rstest]
    #[case("*", "ambrik")]
    #[case("a?.d", "ax.d")]
    #[case("[ab]c", "ac")]
    #[case("[!x]c", "qc")]
    fn made_up_names_fit(#[case] glob: &str, #[case] want: &str) {
        assert_eq!(fitting(glob), want);
        assert!(globset::Glob::new(glob).unwrap().compile_matcher().is_match(want));
    }

    #[rstest]
    #[case("berths", "ambrik_berths")]
    #[case("a-b", "ambrik_a_2db")]
    #[case("a.b_c", "ambrik_a_2eb_5fc")]
    fn names_are_kept_apart(#[case] site: &str, #[case] want: &str) {
        assert_eq!(module_name(site), want);
    }

    #[rstest]
    #[case("/srv/www/berths", "/srv/www/berths")]
    #[case("/srv/a.b/c+(d)", r"/srv/a\.b/c\+\(d\)")]
    #[case("/srv/with space", "/srv/with.space")]
    #[case("/srv/*/cache", "/srv/[^/]*/cache")]
    #[case("/srv/**/cache", "/srv(/.*)?/cache")]
    #[case("/srv/x[ab]?.d", r"/srv/x[ab][^/]\.d")]
    #[case("/srv/[!ab]", "/srv/[^/ab]")]
    #[case::aliased("/alias/x", "/srv/x")]
    fn patterns_become_expressions(#[case] pattern: &str, #[case] want: &str) {
        let rules = Rules::of(&[], [b"", b"/alias /srv\n"], b"").unwrap();
        let pattern = Pattern::parse(pattern).unwrap();
        assert_eq!(expression(&pattern, &rules, &Path::to_owned), want);
    }
}
