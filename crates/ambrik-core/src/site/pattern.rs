//! The paths that a part names: literal components, `*` within one, `**` for any number of them.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use globset::{GlobBuilder, GlobMatcher};

/// One component of a pattern.
#[derive(Clone, Debug)]
pub enum Component {
    /// Exactly this name.
    Name(OsString),
    /// Any name that fits `*`, `?` or `[…]`.
    Glob(Box<GlobMatcher>),
    /// `**`: any number of components, none included.
    AnyDepth,
}

impl Component {
    /// Whether one path component fits; for `**`, every one does.
    #[must_use]
    pub fn fits(&self, name: &OsStr) -> bool {
        match self {
            Self::Name(own) => own == name,
            Self::Glob(glob) => glob.is_match(Path::new(name)),
            Self::AnyDepth => true,
        }
    }

    fn parse(text: &str) -> Result<Self, PatternError> {
        if text == "**" {
            return Ok(Self::AnyDepth);
        }
        if !text.contains(['*', '?', '[']) {
            return Ok(Self::Name(text.into()));
        }
        let braces_are_plain = text.replace('{', "[{]").replace('}', "[}]");
        let glob = GlobBuilder::new(&braces_are_plain).literal_separator(true).backslash_escape(true).build();
        match glob {
            Ok(glob) => Ok(Self::Glob(Box::new(glob.compile_matcher()))),
            Err(cause) => Err(PatternError::Glob(cause.kind().to_string())),
        }
    }
}

/// A path, possibly with wildcards.
#[derive(Clone, Debug)]
pub struct Pattern {
    components: Vec<Component>,
    text: String,
}

/// A text that is no pattern.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PatternError {
    /// It holds `..`.
    #[error("the path leads upwards with \"..\"")]
    Upwards,
    /// A wildcard is malformed.
    #[error("the wildcard is malformed: {0}")]
    Glob(String),
    /// It holds a NUL.
    #[error("the path holds a NUL character")]
    Nul,
    /// It is empty.
    #[error("the path is empty")]
    Empty,
}

impl Pattern {
    /// Reads a path with `*`, `?`, `[…]` within components and `**` for any depth; `.` components are dropped.
    pub fn parse(text: &str) -> Result<Self, PatternError> {
        if text.is_empty() {
            return Err(PatternError::Empty);
        }
        if text.contains('\0') {
            return Err(PatternError::Nul);
        }
        let mut parts: Vec<&str> = text.split('/').filter(|c| !c.is_empty() && *c != ".").collect();
        if parts.contains(&"..") {
            return Err(PatternError::Upwards);
        }
        parts.dedup_by(|a, b| *a == "**" && *b == "**");
        let components = parts.iter().map(|c| Component::parse(c)).collect::<Result<_, _>>()?;
        Ok(Self { components, text: parts.join("/") })
    }

    /// The pattern of exactly this path's names.
    #[must_use]
    pub fn literal(path: &Path) -> Self {
        let names = path.components().filter_map(|c| match c {
            std::path::Component::Normal(name) => Some(name.to_owned()),
            _ => None,
        });
        let components: Vec<Component> = names.map(Component::Name).collect();
        Self { components, text: path.to_string_lossy().trim_matches('/').to_owned() }
    }

    /// This pattern with `root`'s names before it.
    #[must_use]
    pub fn below(&self, root: &Path) -> Self {
        let mut whole = Self::literal(root);
        whole.components.extend(self.components.iter().cloned());
        whole.text =
            [&*whole.text, &*self.text].iter().filter(|t| !t.is_empty()).copied().collect::<Vec<_>>().join("/");
        whole
    }

    /// This pattern with these components after it.
    #[must_use]
    pub(crate) fn and(&self, more: &[Component]) -> Self {
        Self { components: self.components.iter().chain(more).cloned().collect(), text: String::new() }
    }

    /// The components.
    #[must_use]
    pub fn components(&self) -> &[Component] {
        &self.components
    }

    /// The text in one normal form, without a leading `/`: two patterns with the same text are the same.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The path that it names, where it holds no wildcard.
    #[must_use]
    pub fn as_path(&self) -> Option<PathBuf> {
        self.components
            .iter()
            .map(|c| match c {
                Component::Name(name) => Some(name),
                Component::Glob(_) | Component::AnyDepth => None,
            })
            .collect()
    }

    /// The names before the first wildcard.
    #[must_use]
    pub fn literal_prefix(&self) -> PathBuf {
        let names = self.components.iter().map_while(|c| match c {
            Component::Name(name) => Some(name),
            Component::Glob(_) | Component::AnyDepth => None,
        });
        names.collect()
    }

    /// How many components are plain names: the more, the more exactly it says what it names.
    #[must_use]
    pub fn literal_count(&self) -> usize {
        self.components.iter().filter(|c| matches!(c, Component::Name(_))).count()
    }

    /// Whether everything that it names is `root` or below it (from `/` on both).
    #[must_use]
    pub fn is_below(&self, root: &Path) -> bool {
        Path::new("/").join(self.literal_prefix()).starts_with(root)
    }

    /// Whether `path` (from `/` on, or relative, as the pattern) or a directory above it fits.
    #[must_use]
    pub fn covers(&self, path: &Path) -> bool {
        let names: Vec<&OsStr> = path.iter().filter(|n| n.as_bytes() != b"/").collect();
        (0..=names.len()).any(|n| fits(&self.components, &names[..n]))
    }
}

fn fits(pattern: &[Component], names: &[&OsStr]) -> bool {
    match pattern.split_first() {
        None => names.is_empty(),
        Some((Component::AnyDepth, rest)) => (0..=names.len()).any(|n| fits(rest, &names[n..])),
        Some((component, rest)) => {
            names.split_first().is_some_and(|(name, names)| component.fits(name) && fits(rest, names))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::itself("var/cache", "var/cache", true)]
    #[case::below("var/cache", "var/cache/a/b", true)]
    #[case::beside("var/cache", "var/cached", false)]
    #[case::above("var/cache", "var", false)]
    #[case::one_component("var/*/cache", "var/a/cache", true)]
    #[case::not_two("var/*/cache", "var/a/b/cache", false)]
    #[case::any_depth("var/**/cache", "var/a/b/cache/x", true)]
    #[case::none_at_all("var/**/cache", "var/cache", true)]
    #[case::in_a_name("*.log", "error.log", true)]
    #[case::braces_are_plain("{a,b}*", "{a,b}c", true)]
    #[case::brackets("[ab].txt", "b.txt", true)]
    #[case::dots_dropped("./var//cache/", "var/cache", true)]
    #[case::hidden_names_too("var/*", "var/.x", true)]
    fn covers(#[case] pattern: &str, #[case] path: &str, #[case] want: bool) {
        assert_eq!(Pattern::parse(pattern).unwrap().covers(Path::new(path)), want);
    }

    #[rstest]
    #[case("a/../b", PatternError::Upwards)]
    #[case("", PatternError::Empty)]
    #[case("a\0", PatternError::Nul)]
    fn refuses(#[case] text: &str, #[case] want: PatternError) {
        assert_eq!(Pattern::parse(text).unwrap_err(), want);
    }

    #[test]
    fn an_open_bracket_is_an_error() {
        assert!(matches!(Pattern::parse("a[b"), Err(PatternError::Glob(_))));
    }

    #[test]
    fn below_a_root() {
        let whole = Pattern::parse("var/*").unwrap().below(Path::new("/srv/www/berths"));
        assert_eq!(whole.text(), "srv/www/berths/var/*");
        assert!(whole.is_below(Path::new("/srv/www/berths")));
        assert!(!whole.is_below(Path::new("/srv/www/b")));
        assert!(whole.covers(Path::new("/srv/www/berths/var/a/b")));
    }
}
