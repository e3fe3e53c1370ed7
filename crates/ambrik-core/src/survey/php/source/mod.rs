//! PHP source as far as a survey needs it: its expressions, and the classes and functions that they stand in.
//!
//! Statements are kept one after the other, however they are nested: what a branch does counts whether it is taken or not. No recursion
//! goes deeper than [`DEEPEST`], and every step takes a token: the time is linear in the length of the source.
//!
//! Source: the PHP manual, "Language Reference" (operator precedence as of PHP 8).

mod expressions;
mod lex;
mod statements;
mod texts;
mod tree;

use lex::{Lexer, Token};

pub(crate) use tree::{Around, Bit, Call, Callee, Expr, Source, Statement};

const DEEPEST: usize = 64;
/// `$a->b()->c()`, or `$a ? b : c ? d : e`, is one expression for so many links; what is before them is one of its own.
const LINKS: usize = 24;

/// Reads a file.
pub(crate) fn source(text: &str) -> Source<'_> {
    let mut parser = Parser::new(text, Lexer::of_file(text), 0);
    while parser.token != Token::End {
        parser.statement();
    }
    parser.outermost_ends();
    parser.source
}

/// What a brace opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Block {
    /// A namespace: what is in it is as outermost as the rest.
    Namespace,
    /// `{`
    Braces,
    /// `:`, up to `endif` and the like.
    Colon,
    /// A class or a function, with the place in [`Source::around`] of what was around it.
    Class(usize),
    Function(usize),
}

/// What an outermost statement does, as it begins.
#[derive(Clone, Copy)]
enum Outermost {
    Sets,
    Defines,
    Other,
    /// `if`, which may be a guard.
    If,
    /// An expression: what it is shows when it is read.
    Expression,
}

struct Parser<'s> {
    text: &'s str,
    lexer: Lexer<'s>,
    /// What stands next, where it begins, and its line.
    token: Token<'s>,
    begins: usize,
    line: usize,
    /// Where the last token that was taken ends.
    ended: usize,
    deep: usize,
    blocks: Vec<Block>,
    /// Whether what comes is the one statement of a condition or loop, and whether of an `else`.
    headed: bool,
    is_else: bool,
    /// The outermost statement that is read, and where it begins.
    outermost: Option<(Outermost, usize)>,
    /// What statements stand in now.
    around: usize,
    source: Source<'s>,
}

impl<'s> Parser<'s> {
    fn new(text: &'s str, lexer: Lexer<'s>, deep: usize) -> Self {
        let mut parser = Self {
            text,
            lexer,
            token: Token::End,
            begins: 0,
            line: 1,
            ended: 0,
            deep,
            blocks: Vec::new(),
            headed: false,
            is_else: false,
            outermost: None,
            around: 0,
            source: Source { around: vec![Around::default()], ..Source::default() },
        };
        parser.next();
        parser
    }

    fn next(&mut self) {
        self.ended = self.lexer.at();
        self.token = self.lexer.token();
        (self.begins, self.line) = self.lexer.began();
    }

    fn is(&self, sign: &str) -> bool {
        matches!(self.token, Token::Sign(found) if found == sign)
    }

    fn is_one_of(&self, signs: &[&str]) -> bool {
        matches!(self.token, Token::Sign(found) if signs.contains(&found))
    }

    /// Takes a sign, where it stands next.
    fn take(&mut self, sign: &str) -> bool {
        let is = self.is(sign);
        if is {
            self.next();
        }
        is
    }

    /// Takes a word, where one stands next.
    fn take_word(&mut self) -> Option<&'s str> {
        let Token::Word(word) = self.token else { return None };
        self.next();
        Some(word)
    }

    fn is_word(&self, word: &str) -> bool {
        matches!(self.token, Token::Word(found) if found.eq_ignore_ascii_case(word))
    }

    /// What stands after the next token.
    fn after(&self) -> Token<'s> {
        self.lexer.clone().token()
    }

    /// Whether what is read ends here, whatever was expected.
    fn ends(&self) -> bool {
        matches!(self.token, Token::End | Token::Page | Token::PageValue) || self.is_one_of(&[";", "}"])
    }

    /// Steps over what an opening sign opens, up to the end of it.
    fn skip_brackets(&mut self) {
        let mut open = 0_usize;
        while self.token != Token::End {
            if self.is_one_of(&["(", "[", "{"]) || self.token == Token::Attribute {
                open += 1;
            } else if self.is_one_of(&[")", "]", "}"]) {
                open = open.saturating_sub(1);
            }
            self.next();
            if open == 0 {
                return;
            }
        }
    }

    fn add(&mut self, statement: Statement<'s>, line: usize) {
        self.source.statements.push((statement, self.around, line));
    }

    /// An expression that does nothing by itself.
    fn add_expression(&mut self, least: u8) {
        let line = self.line;
        let expression = self.expression(least);
        self.add(Statement::Expression(expression), line);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    /// Where the statements of a file stand, and what is called in each.
    fn called(text: &str) -> Vec<String> {
        let source = source(text);
        let mut all = Vec::new();
        for (statement, around, line) in &source.statements {
            let around = source.around.get(*around).unwrap();
            for expression in statement.expressions() {
                expression.each(&mut |expression| {
                    if let Expr::Call(call) = expression {
                        let place = [around.class, around.function].join("::");
                        let name = call.name().unwrap_or("?");
                        all.push(format!("{line} {place} {name}/{}", call.arguments.len()));
                    }
                });
            }
        }
        all
    }

    #[rstest]
    #[case::blocks("if (a()) { b(); } elseif (c()) d(); else { e(); }", "a b c d e")]
    #[case::colons("if (a()): b(); elseif (c()): d(); else: e(); endif; f();", "a b c d e f")]
    #[case::loops("for (a(); b(); c()) d(); while (e()) { f(); } do { g(); } while (h());", "a b c d e f g h")]
    #[case::foreach("foreach (a() as $k => [$v, $w]) { b($v); }", "a b")]
    #[case::switch("switch (a()) { case b(): c(); break; default: d(); }", "a b c d")]
    #[case::tries("try { a(); } catch (A | B $e) { b(); } finally { c(); }", "a b c")]
    #[case::match_("$x = match (a()) { b(), c() => d(), default => e() };", "a b c d e")]
    #[case::closures("a(function () use ($x): int { b(); }, fn ($y) => c(), static fn () => d());", "b a c d")]
    #[case::chains("a()->b(c())::d($e->f())[g()]->{h()}();", "? d b a c f g h")]
    #[case::texts("$x = \"{$a->b(c())} $d[e] ${f}\" . <<<X\n {$g->h()}\nX;", "b c h")]
    #[case::named_arguments("a(b: c(), d: e(...));", "a c e")]
    #[case::operators("$x = !a() && -b() . c() ?? d() ?: e() <=> f() instanceof G;", "a b c d e f")]
    #[case::casts("(string) @a((int) b());", "a b")]
    #[case::static_variables("static $x = [a(), 'b' => c()], $y;", "a c")]
    #[case::pages("?> <?= a() ?> <p> <?php b() ?>", "a b")]
    #[case::defaults("function f($x = A, int ...$y) { a(); } function g(): static { b(); }", "a b")]
    #[case::attributes("#[A(b())] function f(#[C] $d) { e(); }", "e")]
    #[case::old_ways("$a = &new B(c()); $d{0} = e();", "B c e")]
    #[case::labels("again: a(); goto again;", "a")]
    #[case::members("class A { const int B = 1, C = 2; use D { e as f; } public ?int $g = 3 { get => a(); } }", "a")]
    #[case::nested("class A { function b() { return new class(a()) { function c() { d(); } }; } }", "d a")]
    #[case::the_end("a(); __halt_compiler(); b();", "a")]
    fn statements_are_found(#[case] code: &str, #[case] want: &str) {
        let found = called(&format!("<?php {code}"));
        let names: Vec<&str> = found.iter().filter_map(|call| call.rsplit(' ').next()?.split('/').next()).collect();
        assert_eq!(names.join(" "), want);
    }

    #[test]
    fn what_is_called_stands_in_a_class_and_a_function_on_a_line() {
        let code = "<?php\na(1);\nclass B {\n  function c() {\n    d(1, 2);\n  }\n}\nfunction e() { f(); }";
        assert_eq!(called(code), ["2 :: a/1", "5 B::c d/2", "8 ::e f/0"]);
    }

    #[rstest]
    #[case::brackets("(", 100_000)]
    #[case::arrays("[", 100_000)]
    #[case::blocks("{", 100_000)]
    #[case::links("$a->b()", 50_000)]
    #[case::choices("$a ? b : ", 50_000)]
    #[case::values_in_texts("\"{$a", 50_000)]
    #[case::functions("function () {", 50_000)]
    #[case::classes("new class {", 50_000)]
    #[case::prefixes("!", 100_000)]
    #[case::dollars("$", 100_000)]
    #[case::assignments("$a=", 100_000)]
    #[case::ends(")", 100_000)]
    #[case::conditions("if(a)else ", 50_000)]
    fn what_is_deep_ends(#[case] piece: &str, #[case] times: usize) {
        source(&format!("<?php {}", piece.repeat(times)));
    }

    /// Chains of calls, each the argument of the first call of the next: what is deep in both ways ends, too, and loses nothing.
    #[test]
    fn chains_in_chains_end() {
        let links = "->m(1)".repeat(300);
        let mut code = "f(0)".to_owned();
        for _ in 0..80 {
            code = format!("f({code}){links}");
        }
        source(&format!("<?php {code};"));
        let one = called(&format!("<?php f(0){links};"));
        assert_eq!(one.len(), 301);
    }

    proptest! {
        /// Whatever a file holds, it is read to its end, and nothing of what follows is lost for good.
        #[test]
        fn every_text_is_read(pieces in proptest::collection::vec(0..PIECES.len(), 0..80)) {
            let text: String = pieces.into_iter().filter_map(|at| PIECES.get(at)).copied().collect();
            source(&text);
        }
    }

    const PIECES: &[&str] = &[
        "<?php ",
        "?>",
        "<?=",
        "$a",
        "$",
        "b",
        "C\\d",
        "1",
        ".5",
        "'e'",
        "\"f $g[h] {$i->j} ${k}\"",
        "<<<L\n$m\nL\n",
        "(",
        ")",
        "[",
        "]",
        "{",
        "}",
        ";",
        ",",
        ":",
        "=",
        "=>",
        "->",
        "::",
        "?",
        "??",
        ".",
        "...",
        "&",
        "@",
        "!",
        "-",
        "++",
        "if ",
        "else ",
        "foreach (",
        " as ",
        "function ",
        "fn ",
        "class ",
        "new ",
        "match ",
        "return ",
        "use ",
        "static ",
        "const ",
        "public ",
        "case ",
        "include ",
        "yield ",
        "#[",
        "// n\n",
        "/*",
        "*/",
        "'",
        "\"",
        "\\",
        "ö",
        "\n",
        "(int)",
        "namespace ",
        "endif",
        "abstract ",
        "<<<'X'\ny\nX\n",
        "`z`",
        "instanceof ",
        "print ",
        "list(",
        "array(",
    ];
}
