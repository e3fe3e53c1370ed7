//! A site's labels for good: a policy module of its own, in SELinux's intermediate language (CIL), with a file-context
//! statement for each part. Installed, it makes the labels those that every relabelling gives.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use super::rules::{RuleAnswer, Rules};
use super::{Labels, SiteLabels};
use crate::entry::Kind;
use crate::policy::Policy;
use crate::site::{Component, Pattern, Phase, Site, Use};

/// A site's module, as it should be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Module {
    /// Its name in the policy store.
    pub name: String,
    /// Its text.
    pub text: String,
    /// Paths, and the types that they must get by the rules once it is installed.
    pub probes: Vec<ModuleProbe>,
    /// Whether the host's rules, as they are, give another type to one of them.
    pub needed: bool,
    /// Whether the host's rules, as they are, give each probe its type.
    pub holds: bool,
}

/// A path that stands for a part, and the type that the rules must give it; none where they must leave it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ModuleProbe {
    /// The path as the rules are matched with it.
    pub path: PathBuf,
    /// The type.
    pub type_name: Option<String>,
    /// Whether it goes for what is in it too; else for a directory alone.
    pub deep: bool,
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
        let mut places: Vec<(Pattern, Option<String>, bool)> = Vec::new();
        let mut add = |pattern: Pattern, context: &crate::policy::Context, deep: bool| {
            let type_name = (context.used_as != Use::Foreign).then(|| of_site.type_of(site, context).to_owned());
            places.push((pattern, type_name, deep));
        };
        let root = &site.site().root;
        add(Pattern::literal(root), &site.at(root).context, true);
        let sealed = site;
        // Two modules must not say different things of one expression: another site's is its own module's.
        for (number, part) in sealed.site().parts.iter().enumerate().filter(|(_, part)| part.other.is_none()) {
            add(part.pattern.clone(), &sealed.context_of(number), part.deep);
        }
        // What is more specific comes after what is less.
        places.sort_by_key(|(pattern, ..)| pattern.components().len());
        let level = if labels.state.multi_level { " ((s0) (s0))" } else { "" };
        let mut text = format!(
            "; File contexts of the site {}, written by ambrik: `ambrik set` replaces them.\n",
            site.site().name
        );
        let mut probes = Vec::new();
        for (pattern, type_name, deep) in &places {
            let deep = *deep;
            let expression = expression(pattern, rules, real);
            // One that ends with the name is for the directory alone, so that it stands beside no other of that name.
            let (below, kind) = if deep { (EVERYTHING_BELOW, "any") } else { ("", "dir") };
            let context =
                type_name.as_ref().map_or_else(|| "()".to_owned(), |name| format!("(system_u object_r {name}{level})"));
            let _ = writeln!(text, "(filecon \"{expression}{below}\" {kind} {context})");
            if let Some(path) = pattern.as_path() {
                let path = bytes_path(rules.aliased(path_bytes(&real(&Path::new("/").join(path)))));
                probes.push(ModuleProbe { path, type_name: type_name.clone(), deep });
            }
        }
        let holds = probes.iter().all(|probe| probe.holds(rules));
        let needed = probes.len() < places.len() || !holds;
        Some(Self { name: module_name(&site.site().name), text, probes, needed, holds })
    }
}

impl ModuleProbe {
    /// Whether these rules give the path, and what is in it where that is its own, its type.
    #[must_use]
    pub fn holds(&self, rules: &Rules) -> bool {
        let inside = self.path.join("ambrik-probe");
        let asked = [(&self.path, Kind::Directory), (&self.path, Kind::File), (&inside, Kind::File)];
        asked.into_iter().take(if self.deep { 3 } else { 1 }).all(|(path, kind)| {
            match rules.answer(path_bytes(path), kind) {
                RuleAnswer::Context(context) => self.type_name.as_deref() == Some(context.type_name()),
                RuleAnswer::Left | RuleAnswer::NoRule => self.type_name.is_none(),
            }
        })
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
    let mut text = escaped(&String::from_utf8_lossy(&prefix));
    let literal = pattern.components().iter().take_while(|c| matches!(c, Component::Name(_))).count();
    for component in &pattern.components()[literal..] {
        match component {
            Component::Name(name) => {
                text.push('/');
                text.push_str(&escaped(&name.to_string_lossy()));
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

/// A text in which nothing is a wildcard; what would end the statement's string is any character.
pub(super) fn escaped(text: &str) -> String {
    let mut found = String::new();
    for c in text.chars() {
        match c {
            '"' | '\n' | '\r' | '\t' | ' ' => found.push('.'),
            '.' | '^' | '$' | '?' | '*' | '+' | '|' | '[' | ']' | '(' | ')' | '{' | '}' | '\\' => {
                found.push('\\');
                found.push(c);
            }
            c => found.push(c),
        }
    }
    found
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
                found.push('[');
                if chars.next_if(|c| matches!(c, '!' | '^')).is_some() {
                    found.push_str("^/");
                }
                for c in chars.by_ref() {
                    match c {
                        ']' => break,
                        '\\' | '[' | '"' => {}
                        c => found.push(c),
                    }
                }
                found.push(']');
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
