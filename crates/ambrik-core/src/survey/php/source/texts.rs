//! What stands in quotes.

use super::lex::{Lexer, filled, lines};
use super::tree::{Bit, Expr};
use super::{DEEPEST, Parser};

/// The pieces of what stands between single quotes.
pub(super) fn quoted_bits(text: &str) -> Vec<Bit<'_>> {
    let mut bits = Vec::new();
    let mut rest = text;
    while let Some(at) = rest.find(r"\'").into_iter().chain(rest.find(r"\\")).min() {
        let (before, after) = rest.split_at(at);
        let (escape, after) = after.split_at(2);
        bits.extend((!before.is_empty()).then_some(Bit::Plain(before)));
        bits.push(Bit::Escape(escape));
        rest = after;
    }
    bits.extend((!rest.is_empty()).then_some(Bit::Plain(rest)));
    bits
}

/// The pieces of a text with values to fill in, which begins in this line.
pub(super) fn template_bits(text: &str, line: usize, deep: usize) -> Vec<Bit<'_>> {
    let bytes = text.as_bytes();
    let mut bits = Vec::new();
    let (mut at, mut plain) = (0, 0);
    let (mut line, mut counted) = (line, 0);
    while let Some(byte) = bytes.get(at) {
        let after = bytes.get(at + 1).copied().unwrap_or_default();
        let is_name = after.is_ascii_alphabetic() || after == b'_' || after >= 0x80;
        let (bit, long) = match byte {
            b'\\' => {
                let long = escape(bytes.get(at..).unwrap_or_default());
                (Bit::Escape(text.get(at..at + long).unwrap_or_default()), long)
            }
            b'$' if is_name => {
                let (filled, long) = simple(text.get(at..).unwrap_or_default());
                (Bit::Filled(filled), long)
            }
            b'$' if after == b'{' => {
                let long = filled(bytes.get(at + 1..).unwrap_or_default(), 0);
                let inner = text.get(at + 2..at + long).unwrap_or_default();
                line += lines(bytes.get(counted..at).unwrap_or_default());
                counted = at;
                (Bit::Filled(code(inner, line, deep).of_variable()), long + 1)
            }
            b'{' if after == b'$' => {
                let long = filled(bytes.get(at..).unwrap_or_default(), 0);
                let inner = text.get(at + 1..at + long - 1).unwrap_or_default();
                line += lines(bytes.get(counted..at).unwrap_or_default());
                counted = at;
                (Bit::Filled(code(inner, line, deep)), long)
            }
            _ => {
                at += 1;
                continue;
            }
        };
        bits.extend(text.get(plain..at).filter(|text| !text.is_empty()).map(Bit::Plain));
        bits.push(bit);
        at += long.max(1);
        plain = at;
    }
    bits.extend(text.get(plain..).filter(|text| !text.is_empty()).map(Bit::Plain));
    bits
}

/// An expression in a text.
fn code(text: &str, line: usize, deep: usize) -> Expr<'_> {
    if deep >= DEEPEST {
        return Expr::Other(Vec::new());
    }
    Parser::new(text, Lexer::of_code(text, line), deep + 1).expression(0)
}

/// How long an escape is: `\n`, `\x41`, `\101`, `\u{e4}`.
fn escape(bytes: &[u8]) -> usize {
    let run = |from: usize, most: usize, fits: fn(&u8) -> bool| {
        bytes.iter().skip(from).take(most).take_while(|byte| fits(byte)).count()
    };
    match bytes.get(1) {
        Some(b'x') => 2 + run(2, 2, u8::is_ascii_hexdigit),
        Some(b'0'..=b'7') => 1 + run(1, 3, |byte| matches!(byte, b'0'..=b'7')),
        Some(b'u') if bytes.get(2) == Some(&b'{') => 3 + run(3, 8, |byte| *byte != b'}') + 1,
        // A character of more than one byte is no escape.
        Some(byte) if byte.is_ascii() => 2,
        Some(_) | None => 1,
    }
    .min(bytes.len())
}

/// `$a`, `$a[b]` or `$a->b` in a text, and how long it is.
fn simple(text: &str) -> (Expr<'_>, usize) {
    let name = |from: usize| {
        let rest = text.get(from..).unwrap_or_default();
        let ends = |c: char| !(c.is_ascii_alphanumeric() || c == '_' || !c.is_ascii());
        rest.split(ends).next().unwrap_or_default()
    };
    let variable = name(1);
    let end = 1 + variable.len();
    let rest = text.get(end..).unwrap_or_default();
    if let Some(key) = rest.strip_prefix('[').and_then(|rest| rest.split_once(']')).map(|(key, _)| key) {
        let index = match (key.strip_prefix('$'), key.bytes().all(|byte| byte.is_ascii_digit() || byte == b'-')) {
            (Some(variable), _) => Expr::Variable(variable),
            (None, true) => Expr::Number(key),
            (None, false) => Expr::Word(key),
        };
        return (Expr::Index(Box::new(Expr::Variable(variable)), Some(Box::new(index))), end + key.len() + 2);
    }
    let member = if rest.starts_with("->") { name(end + 2) } else { "" };
    if !member.is_empty() {
        return (Expr::Member(Box::new(Expr::Variable(variable)), Some(member)), end + 2 + member.len());
    }
    (Expr::Variable(variable), end)
}
