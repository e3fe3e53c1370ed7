//! Configuration as blocks of directives, with what it includes.

use std::path::Path;

use super::super::Place;
use super::super::files::Files;
use super::{DEEPEST, Directive};

/// Reads directives, and the files that they include.
pub(super) struct NginxReader<'f, 'h> {
    pub(super) files: &'f mut Files<'h>,
    /// What includes are relative to.
    pub(super) base: &'f Path,
    pub(super) deep: usize,
}

impl NginxReader<'_, '_> {
    pub(super) fn directives(&mut self, text: &str, file: &Path) -> Vec<Directive> {
        let mut words = NginxWords { rest: text.chars().peekable(), line: 1 };
        let (directives, end) = self.block(&mut words, file, DEEPEST);
        if end == End::Close {
            self.files.note(&Place::new(file, words.line), "a } too many; the rest of the file is left out");
        }
        directives
    }

    /// Directives up to the end of the block, or of the file.
    pub(super) fn block(&mut self, words: &mut NginxWords<'_>, file: &Path, deep: usize) -> (Vec<Directive>, End) {
        let mut directives = Vec::new();
        let mut said: Vec<String> = Vec::new();
        let mut line = 1;
        loop {
            let token = words.next_token();
            if said.is_empty() {
                line = words.line;
            }
            let at = Place::new(file, line);
            match token {
                NginxToken::Word(word) => said.push(word),
                NginxToken::End if !said.is_empty() => {
                    let mut arguments = std::mem::take(&mut said).into_iter();
                    let name = arguments.next().unwrap_or_default();
                    let directive = Directive { name, arguments: arguments.collect(), block: None, at };
                    if directive.name == "include" {
                        self.include(&directive, &mut directives);
                    } else {
                        directives.push(directive);
                    }
                }
                NginxToken::End => {}
                NginxToken::Open => {
                    let mut arguments = std::mem::take(&mut said).into_iter();
                    let name = arguments.next().unwrap_or_default();
                    let arguments = arguments.collect();
                    if name.ends_with("_by_lua_block") {
                        words.skip_block();
                        self.files.note(&at, format!("{name}: a program that can answer anything; not followed"));
                        continue;
                    }
                    if deep == 0 {
                        self.files.note(&at, "blocks too deep; not followed");
                        words.skip_block();
                        continue;
                    }
                    let (block, end) = self.block(words, file, deep - 1);
                    if end == End::Over {
                        self.files.note(&at, format!("{name} {{ is not ended by a }}"));
                    }
                    directives.push(Directive { name, arguments, block: Some(block), at });
                }
                token @ (NginxToken::Close | NginxToken::Over) => {
                    if !said.is_empty() {
                        self.files.note(&at, format!("\"{}\" is not ended by a \";\"; left out", said.join(" ")));
                    }
                    let end = if matches!(token, NginxToken::Close) { End::Close } else { End::Over };
                    return (directives, end);
                }
            }
        }
    }

    pub(super) fn include(&mut self, directive: &Directive, directives: &mut Vec<Directive>) {
        let Some(pattern) = directive.arguments.first() else { return };
        if self.deep == 0 {
            return self.files.note(&directive.at, "an include too deep; not followed");
        }
        let pattern = self.base.join(pattern);
        let paths = self.files.matching(&pattern);
        if paths.is_empty() && !pattern.to_string_lossy().contains(['*', '?', '[']) {
            self.files.note(&directive.at, format!("it includes {}, which is not there", pattern.display()));
        }
        for path in paths {
            let Some(text) = self.files.text(&path) else { continue };
            let mut deeper = NginxReader { files: &mut *self.files, base: self.base, deep: self.deep - 1 };
            directives.extend(deeper.directives(&text, &path));
        }
    }
}

/// What ended a block.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum End {
    /// `}`
    Close,
    /// The end of the file.
    Over,
}

pub(super) enum NginxToken {
    Word(String),
    /// `;`
    End,
    /// `{`
    Open,
    /// `}`
    Close,
    /// The end of the file.
    Over,
}

/// The words of a text: quotes, backslashes and comments as nginx has them.
pub(super) struct NginxWords<'t> {
    pub(super) rest: std::iter::Peekable<std::str::Chars<'t>>,
    pub(super) line: usize,
}

impl NginxWords<'_> {
    pub(super) fn next(&mut self) -> Option<char> {
        let c = self.rest.next();
        self.line += usize::from(c == Some('\n'));
        c
    }

    pub(super) fn next_token(&mut self) -> NginxToken {
        loop {
            match self.rest.peek() {
                None => return NginxToken::Over,
                Some(c) if c.is_whitespace() => {
                    self.next();
                }
                Some('#') => while self.next().is_some_and(|c| c != '\n') {},
                Some(';') => return self.sign(NginxToken::End),
                Some('{') => return self.sign(NginxToken::Open),
                Some('}') => return self.sign(NginxToken::Close),
                Some('"' | '\'') => return NginxToken::Word(self.quoted()),
                Some(_) => return NginxToken::Word(self.bare()),
            }
        }
    }

    pub(super) fn sign(&mut self, token: NginxToken) -> NginxToken {
        self.next();
        token
    }

    pub(super) fn quoted(&mut self) -> String {
        let quote = self.next();
        let mut word = String::new();
        while let Some(c) = self.next() {
            match c {
                '\\' => word.extend(self.next()),
                c if Some(c) == quote => break,
                c => word.push(c),
            }
        }
        word
    }

    pub(super) fn bare(&mut self) -> String {
        let mut word = String::new();
        while let Some(&c) = self.rest.peek() {
            match c {
                // `${name}` is part of a word.
                '{' if word.ends_with('$') => {
                    while self.next().is_some_and(|c| {
                        word.push(c);
                        c != '}'
                    }) {}
                }
                c if c.is_whitespace() || matches!(c, ';' | '{') => break,
                '\\' => {
                    word.extend(self.next());
                    word.extend(self.next());
                }
                c => {
                    self.next();
                    word.push(c);
                }
            }
        }
        word
    }

    /// Passes over what is in braces, whatever it is.
    pub(super) fn skip_block(&mut self) {
        let mut open = 1_usize;
        while open > 0 {
            match self.next() {
                Some('{') => open += 1,
                Some('}') => open -= 1,
                None => return,
                Some(_) => {}
            }
        }
    }
}
