//! PHP source as tokens.
//!
//! Source: the PHP manual, "Basic syntax", "Strings" and "List of Parser Tokens". What is no PHP is stepped over: a survey reads what other
//! people wrote for other versions, and one strange line must not hide the rest.

/// What stands next in a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Token<'s> {
    /// The file, or the piece of it that is read, ends.
    End,
    /// `?>`, what a page says, and `<?php`: a statement ends there.
    Page,
    /// `<?=`: the same, and the page then says a value.
    PageValue,
    /// `$name`, without its `$`.
    Variable(&'s str),
    /// A word: a keyword, a constant, a function, with the namespaces before it.
    Word(&'s str),
    Number(&'s str),
    /// What stands between single quotes.
    Quoted(&'s str),
    /// What stands between double quotes, or in a heredoc: with values to fill in.
    Template(&'s str),
    /// A text that is no path: a nowdoc, a command in backticks.
    OtherText,
    /// `(string)`
    Cast,
    /// `#[`
    Attribute,
    /// Anything else: `.`, `=`, `->`.
    Sign(&'s str),
}

/// Signs of more than one character, the longest first.
const SIGNS: &[&str] = &[
    "<<=", ">>=", "**=", "...", "<=>", "===", "!==", "??=", "?->", "&&", "||", "??", "=>", "->", "::", "==", "!=",
    "<>", "<=", ">=", "+=", "-=", "*=", "/=", ".=", "%=", "&=", "|=", "^=", "++", "--", "<<", ">>", "**", "|>",
];

/// What may stand in a cast's brackets.
const CASTS: &[&str] =
    &["string", "int", "integer", "bool", "boolean", "float", "double", "real", "array", "object", "binary", "unset"];

/// Values in texts in values are followed so deep.
const DEEPEST: usize = 8;

/// Reads tokens one by one.
#[derive(Clone)]
pub(super) struct Lexer<'s> {
    text: &'s str,
    at: usize,
    /// The line of `at`, from 1.
    line: usize,
    /// Where the last token begins, and its line.
    began: (usize, usize),
}

impl<'s> Lexer<'s> {
    /// At the beginning of a file, which is a page until PHP begins.
    pub(super) fn of_file(text: &'s str) -> Self {
        let mut lexer = Self { text, at: 0, line: 1, began: (0, 1) };
        lexer.page();
        lexer
    }

    /// In PHP, in the middle of a file.
    pub(super) const fn of_code(text: &'s str, line: usize) -> Self {
        Self { text, at: 0, line, began: (0, line) }
    }

    /// How far it has come, in bytes.
    pub(super) const fn at(&self) -> usize {
        self.at
    }

    /// Where the last token begins, in bytes, and its line.
    pub(super) const fn began(&self) -> (usize, usize) {
        self.began
    }

    /// Nothing more is read.
    pub(super) const fn end(&mut self) {
        self.at = self.text.len();
    }

    fn rest(&self) -> &'s [u8] {
        self.text.as_bytes().get(self.at..).unwrap_or_default()
    }

    /// A piece of the text; nothing where its ends are in the middle of a character.
    fn piece(&self, from: usize, to: usize) -> &'s str {
        self.text.get(from..to).unwrap_or_default()
    }

    fn step(&mut self, bytes: usize) {
        let to = (self.at + bytes).min(self.text.len());
        self.line += self.text.as_bytes().get(self.at..to).map_or(0, lines);
        self.at = to;
    }

    /// Goes to where PHP begins; tells whether the page says a value there.
    fn page(&mut self) -> bool {
        let rest = self.rest();
        let mut from = 0;
        while let Some(found) = memchr::memmem::find(rest.get(from..).unwrap_or_default(), b"<?") {
            let begins = from + found + 2;
            let after = rest.get(begins..).unwrap_or_default();
            if after.get(..3).is_some_and(|word| word.eq_ignore_ascii_case(b"php")) {
                self.step(begins + 3);
                return false;
            }
            match after.first() {
                Some(b'=') => {
                    self.step(begins + 1);
                    return true;
                }
                // `<?` alone, as old pages have it.
                Some(byte) if byte.is_ascii_whitespace() => {
                    self.step(begins);
                    return false;
                }
                None => break,
                Some(_) => from = begins,
            }
        }
        self.step(rest.len());
        false
    }

    /// Steps over space and comments.
    fn space(&mut self) {
        loop {
            let rest = self.rest();
            match rest {
                [b' ' | b'\t' | b'\r' | b'\n' | 0x0b | 0x0c, ..] => {
                    let long = rest.iter().position(|byte| !byte.is_ascii_whitespace() && *byte != 0x0b);
                    self.step(long.unwrap_or(rest.len()));
                }
                [b'#', b'[', ..] => return,
                [b'#', ..] | [b'/', b'/', ..] => {
                    // A page goes on after `?>`, in a comment too.
                    let end = rest.iter().position(|byte| *byte == b'\n').unwrap_or(rest.len());
                    let page = rest.get(..end).and_then(|line| memchr::memmem::find(line, b"?>"));
                    self.step(page.unwrap_or(end));
                }
                [b'/', b'*', ..] => {
                    let end = memchr::memmem::find(rest.get(2..).unwrap_or_default(), b"*/");
                    self.step(end.map_or(rest.len(), |end| end + 4));
                }
                _ => return,
            }
        }
    }

    /// The next token.
    pub(super) fn token(&mut self) -> Token<'s> {
        self.space();
        self.began = (self.at, self.line);
        let (from, rest) = (self.at, self.rest());
        let Some(first) = rest.first() else { return Token::End };
        match first {
            b'$' if rest.get(1).is_some_and(|byte| begins_word(*byte)) => {
                self.at += 1 + word(rest.get(1..).unwrap_or_default(), false);
                Token::Variable(self.piece(from + 1, self.at))
            }
            byte if begins_word(*byte) || (*byte == b'\\' && rest.get(1).is_some_and(|next| begins_word(*next))) => {
                self.at += word(rest, true);
                Token::Word(self.piece(from, self.at))
            }
            b'0'..=b'9' => self.number(),
            b'.' if rest.get(1).is_some_and(u8::is_ascii_digit) => self.number(),
            b'\'' => {
                let end = quoted(rest, b'\'', 0);
                self.step(end);
                Token::Quoted(self.piece(from + 1, (self.at - 1).max(from + 1)))
            }
            b'"' => {
                let end = quoted(rest, b'"', 0);
                self.step(end);
                Token::Template(self.piece(from + 1, (self.at - 1).max(from + 1)))
            }
            b'`' => {
                self.step(quoted(rest, b'`', 0));
                Token::OtherText
            }
            b'<' if rest.starts_with(b"<<<") => self.heredoc(),
            b'?' if rest.starts_with(b"?>") => {
                self.step(2);
                if self.page() { Token::PageValue } else { Token::Page }
            }
            b'#' if rest.starts_with(b"#[") => {
                self.at += 2;
                Token::Attribute
            }
            b'(' => match cast(rest) {
                Some(long) => {
                    self.step(long);
                    Token::Cast
                }
                None => self.sign(),
            },
            _ => self.sign(),
        }
    }

    fn number(&mut self) -> Token<'s> {
        let (from, rest) = (self.at, self.rest());
        let in_number = |byte: &u8| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'.');
        let mut long = rest.iter().position(|byte| !in_number(byte)).unwrap_or(rest.len());
        // `1 .. 'x'` is no number, `1...$x` neither.
        if let Some(dots) = rest.get(..long).and_then(|number| memchr::memmem::find(number, b"..")) {
            long = dots;
        }
        self.at += long.max(1);
        Token::Number(self.piece(from, self.at))
    }

    fn sign(&mut self) -> Token<'s> {
        let (from, rest) = (self.at, self.rest());
        let long = SIGNS.iter().find(|sign| rest.starts_with(sign.as_bytes())).map(|sign| sign.len());
        // What is no ASCII stands in words alone; a stray piece of it is stepped over whole.
        let one = self.text.get(self.at..).and_then(|rest| rest.chars().next()).map_or(1, char::len_utf8);
        self.at += long.unwrap_or(one);
        Token::Sign(self.piece(from, self.at))
    }

    /// `<<<END`, `<<<"END"`, `<<<'END'`, up to the line that begins with the same word.
    fn heredoc(&mut self) -> Token<'s> {
        let rest = self.rest();
        let after = rest.get(3..).unwrap_or_default();
        let space = after.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count();
        let quote = after.get(space).copied().filter(|byte| matches!(byte, b'\'' | b'"'));
        let begins = 3 + space + usize::from(quote.is_some());
        let long = word(rest.get(begins..).unwrap_or_default(), false);
        let line_ends = rest.iter().position(|byte| *byte == b'\n');
        let (Some(line_ends), true) = (line_ends, long > 0) else {
            self.at += 3;
            return Token::Sign("<<");
        };
        let name = rest.get(begins..begins + long).unwrap_or_default();
        let mut line = line_ends + 1;
        let (ends, last) = loop {
            let here = rest.get(line..).unwrap_or_default();
            if here.is_empty() {
                break (rest.len(), rest.len());
            }
            let indented = here.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count();
            let bare = here.get(indented..).unwrap_or_default();
            let goes_on = bare.get(long).is_some_and(|byte| begins_word(*byte) || byte.is_ascii_digit());
            if bare.starts_with(name) && !goes_on {
                break (line - 1, line + indented + long);
            }
            line += memchr::memchr(b'\n', here).map_or(here.len(), |end| end + 1);
        };
        let body = self.piece(self.at + line_ends + 1, (self.at + ends).max(self.at + line_ends + 1));
        self.step(last);
        if quote == Some(b'\'') { Token::OtherText } else { Token::Template(body) }
    }
}

pub(super) fn lines(bytes: &[u8]) -> usize {
    memchr::memchr_iter(b'\n', bytes).count()
}

const fn begins_word(byte: u8) -> bool {
    byte.is_ascii_alphabetic() || byte == b'_' || byte >= 0x80
}

/// How long a word is, with its namespaces where they belong to it.
fn word(bytes: &[u8], namespaces: bool) -> usize {
    let goes_on = |byte: &u8| begins_word(*byte) || byte.is_ascii_digit() || (namespaces && *byte == b'\\');
    bytes.iter().position(|byte| !goes_on(byte)).unwrap_or(bytes.len())
}

/// How long a text in quotes is, its quotes included; what is filled in may hold the same quotes.
fn quoted(bytes: &[u8], quote: u8, deep: usize) -> usize {
    let mut at = 1;
    while let Some(byte) = bytes.get(at) {
        match byte {
            b'\\' => at += 1,
            b'{' if quote != b'\'' && bytes.get(at + 1) == Some(&b'$') && deep < DEEPEST => {
                at += filled(bytes.get(at..).unwrap_or_default(), deep) - 1;
            }
            byte if *byte == quote => return at + 1,
            _ => {}
        }
        at += 1;
    }
    bytes.len()
}

/// How long what stands in `{…}` is, its braces included, with the texts in it.
pub(super) fn filled(bytes: &[u8], deep: usize) -> usize {
    let (mut at, mut open) = (0, 0_usize);
    while let Some(byte) = bytes.get(at) {
        match byte {
            b'{' => open += 1,
            b'}' if open <= 1 => return at + 1,
            b'}' => open -= 1,
            b'\'' | b'"' => {
                at += quoted(bytes.get(at..).unwrap_or_default(), *byte, deep + 1);
                continue;
            }
            _ => {}
        }
        at += 1;
    }
    bytes.len()
}

/// How long a cast is: `( string )`.
fn cast(bytes: &[u8]) -> Option<usize> {
    let end = bytes.iter().take(16).position(|byte| *byte == b')')?;
    let inner = std::str::from_utf8(bytes.get(1..end)?).ok()?.trim();
    CASTS.iter().any(|cast| inner.eq_ignore_ascii_case(cast)).then_some(end + 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// The tokens of a file, one after the other.
    fn shown(text: &str) -> String {
        let mut lexer = Lexer::of_file(text);
        let mut all = Vec::new();
        loop {
            all.push(match lexer.token() {
                Token::End => break all.join(" "),
                Token::Page => "page".to_owned(),
                Token::PageValue => "page=".to_owned(),
                Token::Variable(text) => format!("${text}"),
                Token::Word(text) | Token::Number(text) | Token::Sign(text) => text.to_owned(),
                Token::Quoted(text) => format!("'{text}'"),
                Token::Template(text) => format!("\"{text}\""),
                Token::OtherText => "text".to_owned(),
                Token::Cast => "cast".to_owned(),
                Token::Attribute => "#[".to_owned(),
            });
        }
    }

    #[rstest]
    #[case::a_page("<p><?php $a ?> <?= 1 ?>", "$a page= 1 page")]
    #[case::an_xml_page("<?xml version='1'?><?php a", "a")]
    #[case::an_old_page("<? $a", "$a")]
    #[case::comments("<?php a // b\n# c\n/* d */ e", "a e")]
    #[case::a_page_after_a_comment("<?php a // b ?> c <?php d", "a page d")]
    #[case::attributes("<?php #[A] b", "#[ A ] b")]
    #[case::words("<?php \\A\\b c_1 äö", "\\A\\b c_1 äö")]
    #[case::numbers("<?php 0x1F 1_000 1.5 .5 $a.1", "0x1F 1_000 1.5 .5 $a .1")]
    #[case::single(r"<?php 'a\'b' 'c'", r"'a\'b' 'c'")]
    #[case::double(r#"<?php "a\"b" "c""#, r#""a\"b" "c""#)]
    #[case::double_with_the_same_quotes(r#"<?php "a{$b["c"]}d" e"#, r#""a{$b["c"]}d" e"#)]
    #[case::heredoc("<?php a(<<<X\n b\n c\n  X, d", "a ( \" b\n c\" , d")]
    #[case::heredoc_that_is_empty("<?php <<<X\nX; a", "\"\" ; a")]
    #[case::nowdoc("<?php <<<'X'\n$b\nX; a", "text ; a")]
    #[case::a_longer_word_ends_no_heredoc("<?php <<<X\nXY\nX;", "\"XY\" ;")]
    #[case::casts("<?php (string) ( INT )(a)", "cast cast ( a )")]
    #[case::signs("<?php a?->b ?? c <=> d", "a ?-> b ?? c <=> d")]
    #[case::shifts("<?php a << b", "a << b")]
    #[case::no_end("<?php 'a", "''")]
    fn tokens(#[case] text: &str, #[case] want: &str) {
        assert_eq!(shown(text), want);
    }

    #[test]
    fn lines_are_counted() {
        let mut lexer = Lexer::of_file("<p>\n<?php\n'a\nb'\n/*\n*/ $c");
        let mut last = 0;
        while lexer.token() != Token::End {
            last = lexer.began().1;
        }
        assert_eq!(last, 6);
    }
}
