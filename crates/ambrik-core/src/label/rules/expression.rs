//! The expressions of rules, sorted by what they can fit.

use regex::bytes::{Regex, RegexBuilder};

use super::{Expression, Fits, Spec};
use crate::entry::Kind;

impl Spec {
    /// Whether it fits a path that has the directory it is listed under as its first `folder` bytes.
    pub(super) fn fits(&self, path: &[u8], folder: usize) -> bool {
        match &self.fits {
            Fits::Exact | Fits::Tree => true,
            Fits::Below => path.len() > folder,
            Fits::Regex(expression) => path.starts_with(&expression.literal) && expression.fits(path),
        }
    }
}

impl Expression {
    /// Whether paths need not be compared with its stem: not where whole patterns are alternatives, of which the stem is the
    /// first one's, and only the first and the last are tied to an end; and not where the library compares it as it is written.
    pub(super) fn is_whole(&self) -> bool {
        self.is_understood() && !has_alternatives(&self.source) && !self.stem.contains(&b'\\')
    }

    /// The expression as the library has it. `$` also matches before a line break at the end.
    pub(super) fn anchored(&self) -> String {
        format!("^{}(?:\n?\\z)", self.source)
    }

    pub(super) fn compiled(&self) -> Option<&Regex> {
        let compile = || RegexBuilder::new(&self.anchored()).unicode(false).dot_matches_new_line(true).build().ok();
        self.compiled.get_or_init(compile).as_ref()
    }

    /// Whether the expression is one; it is not compiled for that.
    pub(super) fn is_understood(&self) -> bool {
        regex_syntax::ParserBuilder::new().unicode(false).utf8(false).build().parse(&self.anchored()).is_ok()
    }

    pub(super) fn fits(&self, path: &[u8]) -> bool {
        let stem = path.iter().skip(1).position(|b| *b == b'/').map_or(0, |slash| slash + 1);
        let same_stem = self.stem.is_empty() || path[..stem] == *self.stem;
        same_stem && self.compiled().is_some_and(|regex| regex.is_match(path))
    }
}

/// What a rule's text comes to.
pub(super) enum RuleShape {
    Exact(Vec<u8>),
    Tree(Vec<u8>),
    Below(Vec<u8>),
    Regex { literal: Vec<u8>, stem: usize },
}

impl RuleShape {
    pub(super) fn of(text: &str) -> Self {
        let bytes = text.as_bytes();
        let stem = bytes.iter().skip(1).position(|b| *b == b'/').map_or(0, |slash| slash + 1);
        let plain_stem = !bytes[..stem].iter().any(|b| b".^$?*+|[({".contains(b));
        let stem = if plain_stem { stem } else { 0 };
        if bytes[..stem].contains(&b'\\') {
            // The library compares the first component as it is written.
            return Self::Regex { literal: bytes[..stem].to_vec(), stem };
        }
        if let Some(path) = unescaped(text) {
            return Self::Exact(path);
        }
        let whole = |end: &str| text.strip_suffix(end).and_then(unescaped).filter(|path| !path.ends_with(b"/"));
        // Their first component cannot be a stem that is compared by itself: `/x(/.*)?` fits `/x`.
        if let Some(path) = whole("(/.*)?").or_else(|| whole("(/.*){0,1}")) {
            return Self::Tree(path);
        }
        if let Some(path) = whole("/.*") {
            return Self::Below(path);
        }
        Self::Regex { literal: literal(text), stem }
    }
}

/// What every path that a pattern fits begins with.
pub(super) fn literal(text: &str) -> Vec<u8> {
    let mut depth = 0_u32;
    let mut found: Vec<u8> = Vec::new();
    let mut done = false;
    let mut escaped = false;
    for byte in text.bytes() {
        if escaped {
            escaped = false;
            if byte.is_ascii_alphanumeric() {
                done = true;
            } else if !done {
                found.push(byte);
            }
            continue;
        }
        match byte {
            b'\\' => escaped = true,
            b'(' => {
                depth += 1;
                done = true;
            }
            b')' => depth = depth.saturating_sub(1),
            // One of several whole patterns: they have nothing in common.
            b'|' if depth == 0 => return Vec::new(),
            b'?' | b'*' | b'+' | b'{' if !done => {
                // The character before it need not be there.
                found.pop();
                done = true;
            }
            b'.' | b'^' | b'$' | b'[' | b'?' | b'*' | b'+' | b'{' | b'|' => done = true,
            byte if !done => found.push(byte),
            _ => {}
        }
    }
    found
}

/// Whether a pattern consists of several, outside of all brackets.
pub(super) fn has_alternatives(text: &str) -> bool {
    let (mut depth, mut escaped) = (0_u32, false);
    for byte in text.bytes() {
        match byte {
            _ if escaped => escaped = false,
            b'\\' => escaped = true,
            b'(' => depth += 1,
            b')' => depth = depth.saturating_sub(1),
            b'|' if depth == 0 => return true,
            _ => {}
        }
    }
    false
}

/// A pattern's path, where it has no wildcards.
pub(super) fn unescaped(text: &str) -> Option<Vec<u8>> {
    let mut found = Vec::new();
    let mut bytes = text.bytes();
    while let Some(byte) = bytes.next() {
        match byte {
            b'\\' => found.push(bytes.next().filter(|next| !next.is_ascii_alphanumeric())?),
            b'.' | b'^' | b'$' | b'?' | b'*' | b'+' | b'|' | b'[' | b'(' | b'{' | b')' | b']' | b'}' => return None,
            byte => found.push(byte),
        }
    }
    Some(found)
}

/// Whether a pattern counts as one with wildcards.
pub(super) fn has_wildcards(text: &str) -> bool {
    let mut bytes = text.bytes();
    while let Some(byte) = bytes.next() {
        match byte {
            b'\\' => {
                bytes.next();
            }
            b'.' | b'^' | b'$' | b'?' | b'*' | b'+' | b'|' | b'[' | b'(' | b'{' => return true,
            _ => {}
        }
    }
    false
}

pub(super) const fn kind_of(word: &str) -> Option<u8> {
    match word.as_bytes() {
        [b'-', letter @ (b'-' | b'd' | b'l' | b'p' | b's' | b'b' | b'c')] => Some(*letter),
        _ => None,
    }
}

pub(super) const fn letter_of(kind: Kind) -> u8 {
    match kind {
        Kind::File => b'-',
        Kind::Directory => b'd',
        Kind::Symlink => b'l',
        Kind::Fifo => b'p',
        Kind::Socket => b's',
        Kind::Device => b'c',
    }
}
