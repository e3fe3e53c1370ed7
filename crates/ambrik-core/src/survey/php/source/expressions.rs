//! Expressions.

use super::lex::Token;
use super::texts::{quoted_bits, template_bits};
use super::tree::{Call, Callee, Element, Expr, Statement};
use super::{Block, DEEPEST, LINKS, Parser};

/// How strongly `=` binds, `?`, `.`, and what stands before a value.
pub(super) const ASSIGNING: u8 = 4;
const CHOOSING: u8 = 5;
const JOINING: u8 = 15;
const PREFIXED: u8 = 20;

impl<'s> Parser<'s> {
    /// An expression of operators that bind at least so strongly.
    pub(super) fn expression(&mut self, least: u8) -> Expr<'s> {
        if self.deep >= DEEPEST {
            self.skip_operand();
            return Expr::Other(Vec::new());
        }
        self.deep += 1;
        let line = self.line;
        let mut left = self.operand();
        for links in 0.. {
            let Some((sign, binds)) = self.operator() else { break };
            if binds < least && !(binds == ASSIGNING && left.can_be_set()) {
                break;
            }
            self.next();
            if links > 0 && links % LINKS == 0 {
                left = self.apart(left, line);
            }
            left = self.joined(left, sign, binds, line);
        }
        self.deep -= 1;
        left
    }

    /// The operator that stands next, and how strongly it binds.
    pub(super) fn operator(&self) -> Option<(&'s str, u8)> {
        let sign = match self.token {
            Token::Sign(sign) => sign,
            Token::Word(word) if word.len() <= 10 => word,
            _ => return None,
        };
        let binds = match sign {
            "=" | "+=" | "-=" | "*=" | "/=" | ".=" | "%=" | "&=" | "|=" | "^=" | "<<=" | ">>=" | "**=" | "??=" => {
                ASSIGNING
            }
            "?" => CHOOSING,
            "??" => 6,
            "||" => 7,
            "&&" => 8,
            "|" => 9,
            "^" => 10,
            "&" => 11,
            "==" | "!=" | "===" | "!==" | "<>" | "<=>" => 12,
            "<" | "<=" | ">" | ">=" | "|>" => 13,
            "." => JOINING,
            "<<" | ">>" => 16,
            "+" | "-" => 17,
            "*" | "/" | "%" => 18,
            "**" => 21,
            word if word.eq_ignore_ascii_case("or") => 1,
            word if word.eq_ignore_ascii_case("xor") => 2,
            word if word.eq_ignore_ascii_case("and") => 3,
            word if word.eq_ignore_ascii_case("instanceof") => 19,
            _ => return None,
        };
        Some((sign, binds))
    }

    /// What an operator makes of what stands before it and what comes.
    pub(super) fn joined(&mut self, left: Expr<'s>, sign: &str, binds: u8, line: usize) -> Expr<'s> {
        match sign {
            "=" if self.take("&") => {
                let right = self.expression(ASSIGNING);
                Expr::Other(vec![left, right])
            }
            "=" => Expr::Assign(Box::new((left, self.expression(ASSIGNING))), line),
            "?" if self.take(":") => Expr::Either(None, Box::new((left, self.expression(CHOOSING + 1)))),
            "?" => {
                let first = self.expression(ASSIGNING);
                self.take(":");
                let second = self.expression(CHOOSING + 1);
                Expr::Either(Some(Box::new(left)), Box::new((first, second)))
            }
            "??" => Expr::Either(None, Box::new((left, self.expression(binds)))),
            "." => {
                let right = self.expression(binds + 1);
                match left {
                    Expr::Join(mut parts) => {
                        parts.push(right);
                        Expr::Join(parts)
                    }
                    left => Expr::Join(vec![left, right]),
                }
            }
            _ => {
                let right = self.expression(if binds == ASSIGNING { binds } else { binds + 1 });
                match left {
                    Expr::Other(mut parts) => {
                        parts.push(right);
                        Expr::Other(parts)
                    }
                    left => Expr::Other(vec![left, right]),
                }
            }
        }
    }

    /// The beginning of a long chain is taken by itself, so that no expression is deeper than the stack.
    fn apart(&mut self, left: Expr<'s>, line: usize) -> Expr<'s> {
        // A sum is no chain: its parts stand side by side.
        if matches!(left, Expr::Join(_)) {
            return left;
        }
        self.add(Statement::Expression(left), line);
        Expr::Other(Vec::new())
    }

    /// What is nested too deep to be read.
    pub(super) fn skip_operand(&mut self) {
        if self.is_one_of(&["(", "[", "{"]) {
            self.skip_brackets();
        } else if !self.ends() && !self.is_one_of(&[")", "]", ","]) {
            self.next();
        }
    }

    /// What stands between operators.
    pub(super) fn operand(&mut self) -> Expr<'s> {
        let line = self.line;
        let found = match self.token {
            Token::End | Token::Page | Token::PageValue => return Expr::Other(Vec::new()),
            Token::Variable(name) => {
                self.next();
                Expr::Variable(name)
            }
            Token::Word(word) => return self.word(word),
            Token::Number(number) => {
                self.next();
                Expr::Number(number)
            }
            Token::Quoted(text) => {
                self.next();
                Expr::Text(quoted_bits(text), line)
            }
            Token::Template(text) => {
                self.next();
                Expr::Text(template_bits(text, line, self.deep), line)
            }
            Token::OtherText => {
                self.next();
                Expr::Other(Vec::new())
            }
            Token::Cast => {
                self.next();
                return Expr::Same(Box::new(self.expression(PREFIXED)));
            }
            Token::Attribute => {
                self.skip_brackets();
                return self.expression(PREFIXED);
            }
            Token::Sign("(") => {
                self.next();
                let inner = self.expression(0);
                self.take(")");
                Expr::Same(Box::new(inner))
            }
            Token::Sign("[") => {
                self.next();
                Expr::Array(self.elements("]"))
            }
            Token::Sign("@" | "&") => {
                self.next();
                return Expr::Same(Box::new(self.expression(PREFIXED)));
            }
            Token::Sign("!") => {
                self.next();
                return Expr::Other(vec![self.expression(PREFIXED - 1)]);
            }
            Token::Sign("-" | "+" | "~" | "++" | "--" | "...") => {
                self.next();
                return Expr::Other(vec![self.expression(PREFIXED)]);
            }
            // `$$name`, `${name}`
            Token::Sign("$") => {
                self.next();
                let inner = if self.take("{") {
                    let inner = self.expression(0);
                    self.take("}");
                    inner
                } else if self.deep < DEEPEST && (self.is("$") || matches!(self.token, Token::Variable(_))) {
                    self.deep += 1;
                    let inner = self.operand();
                    self.deep -= 1;
                    inner
                } else {
                    Expr::Other(Vec::new())
                };
                Expr::Other(vec![inner])
            }
            Token::Sign(")" | "]" | "}" | ";" | "," | ":" | "=>" | "{") => return Expr::Other(Vec::new()),
            Token::Sign(_) => {
                self.next();
                return Expr::Other(Vec::new());
            }
        };
        self.links(found, line)
    }

    pub(super) fn word(&mut self, word: &'s str) -> Expr<'s> {
        let line = self.line;
        self.next();
        let found = match word.to_ascii_lowercase().as_str() {
            "new" => self.new_object(line),
            "clone" => return Expr::Same(Box::new(self.expression(PREFIXED))),
            "print" | "throw" => return Expr::Other(vec![self.expression(ASSIGNING)]),
            "yield" => {
                if self.is_word("from") {
                    self.next();
                }
                let mut parts = vec![self.expression(ASSIGNING)];
                if self.take("=>") {
                    parts.push(self.expression(ASSIGNING));
                }
                return Expr::Other(parts);
            }
            "include" | "include_once" | "require" | "require_once" => {
                return Expr::Load(word, Box::new(self.expression(ASSIGNING)), line);
            }
            "array" | "list" if self.take("(") => Expr::Array(self.elements(")")),
            "static" if self.is_word("function") || self.is_word("fn") => {
                let word = self.take_word().unwrap_or_default();
                self.unnamed_function(word)
            }
            "function" | "fn" if self.is_one_of(&["(", "&"]) => self.unnamed_function(word),
            "match" if self.is("(") => self.matching(line),
            _ => Expr::Word(word),
        };
        self.links(found, line)
    }

    /// What is read and called of a value, link by link.
    pub(super) fn links(&mut self, first: Expr<'s>, line: usize) -> Expr<'s> {
        let mut left = first;
        for links in 0.. {
            if links > 0 && links % LINKS == 0 {
                left = self.apart(left, line);
            }
            left = match self.token {
                Token::Sign("[") => {
                    self.next();
                    let key = (!self.is("]")).then(|| Box::new(self.expression(0)));
                    self.take("]");
                    Expr::Index(Box::new(left), key)
                }
                Token::Sign("->" | "?->") => {
                    self.next();
                    self.member_of(left, line)
                }
                Token::Sign("::") => {
                    self.next();
                    self.static_of(left, line)
                }
                Token::Sign("(") => {
                    let callee = match left {
                        Expr::Word(word) => Callee::Function(word),
                        left => Callee::Unknown(left),
                    };
                    self.call(callee, line)
                }
                Token::Sign("++" | "--") => {
                    self.next();
                    Expr::Other(vec![left])
                }
                _ => return left,
            };
        }
        left
    }

    pub(super) fn member_of(&mut self, object: Expr<'s>, line: usize) -> Expr<'s> {
        match self.token {
            Token::Word(name) => {
                self.next();
                if self.is("(") {
                    self.call(Callee::Method(object, name), line)
                } else {
                    Expr::Member(Box::new(object), Some(name))
                }
            }
            Token::Variable(_) => {
                self.next();
                Expr::Member(Box::new(object), None)
            }
            Token::Sign("{") => {
                self.next();
                let name = self.expression(0);
                self.take("}");
                Expr::Other(vec![object, name])
            }
            _ => Expr::Member(Box::new(object), None),
        }
    }

    pub(super) fn static_of(&mut self, class: Expr<'s>, line: usize) -> Expr<'s> {
        match self.token {
            Token::Variable(name) => {
                self.next();
                Expr::StaticMember(Box::new(class), name)
            }
            Token::Word(name) => {
                self.next();
                if self.is("(") {
                    self.call(Callee::Static(class, name), line)
                } else {
                    Expr::ClassConstant(Box::new(class), name)
                }
            }
            Token::Sign("{") => {
                self.next();
                let name = self.expression(0);
                self.take("}");
                Expr::Other(vec![class, name])
            }
            _ => Expr::Other(vec![class]),
        }
    }

    pub(super) fn call(&mut self, callee: Callee<'s>, line: usize) -> Expr<'s> {
        let arguments = self.arguments();
        Expr::Call(Box::new(Call { callee, arguments, line }))
    }

    pub(super) fn arguments(&mut self) -> Vec<Expr<'s>> {
        let mut arguments = Vec::new();
        if !self.take("(") {
            return arguments;
        }
        while !self.take(")") && !self.ends() {
            let from = self.begins;
            let mut argument = self.expression(0);
            // `name: value`
            if matches!(argument, Expr::Word(_)) && self.take(":") {
                argument = self.expression(0);
            }
            if self.begins != from {
                arguments.push(argument);
            }
            if !self.take(",") && !self.is(")") && self.begins == from {
                self.next();
            }
        }
        arguments
    }

    /// The elements of an array or a list.
    pub(super) fn elements(&mut self, end: &str) -> Vec<Element<'s>> {
        let mut elements = Vec::new();
        while !self.take(end) && !self.ends() {
            let (from, line) = (self.begins, self.line);
            let value = self.expression(0);
            if self.take("=>") {
                let (key, value) = (Some(value), self.expression(0));
                elements.push(Element { key, value, line });
            } else if self.begins != from {
                elements.push(Element { key: None, value, line });
            }
            if !self.take(",") && !self.is(end) && self.begins == from {
                self.next();
            }
        }
        elements
    }

    /// What `new` makes.
    pub(super) fn new_object(&mut self, line: usize) -> Expr<'s> {
        if self.token == Token::Attribute {
            self.skip_brackets();
        }
        match self.token {
            Token::Word(word) if word.eq_ignore_ascii_case("class") => {
                self.next();
                let arguments = self.arguments();
                let depth = self.blocks.len();
                self.class_body("");
                self.statements_of(depth);
                Expr::Other(arguments)
            }
            Token::Word(word) => {
                self.next();
                let arguments = if self.is("(") { self.arguments() } else { Vec::new() };
                Expr::Call(Box::new(Call { callee: Callee::New(word), arguments, line }))
            }
            Token::Variable(_) | Token::Sign("(" | "$") => {
                let class = self.expression(PREFIXED);
                Expr::Other(vec![class])
            }
            _ => Expr::Other(Vec::new()),
        }
    }

    /// `function () { … }`, `fn () => …`
    pub(super) fn unnamed_function(&mut self, word: &str) -> Expr<'s> {
        self.take("&");
        self.parameters();
        while !self.is_one_of(&["{", "=>", ")", ","]) && !self.ends() {
            if self.is("(") {
                // What it uses of what is around it.
                self.skip_brackets();
            } else {
                self.next();
            }
        }
        if word.eq_ignore_ascii_case("fn") {
            let answer = self.take("=>").then(|| Box::new(self.expression(ASSIGNING)));
            return Expr::Function(answer);
        }
        let (depth, headed) = (self.blocks.len(), (self.headed, self.is_else));
        if self.take("{") {
            self.open(Block::Braces);
            self.statements_of(depth);
        }
        (self.headed, self.is_else) = headed;
        Expr::Function(None)
    }

    /// Statements, until no more than so many blocks are open.
    pub(super) fn statements_of(&mut self, depth: usize) {
        // In an expression, nothing is outermost.
        let outermost = self.outermost.take();
        while self.blocks.len() > depth && self.token != Token::End {
            self.statement();
        }
        self.outermost = outermost;
    }

    /// `match (…) { a, b => c }`, or a function of that name.
    pub(super) fn matching(&mut self, line: usize) -> Expr<'s> {
        let mut parts = self.arguments();
        if !self.take("{") {
            return Expr::Call(Box::new(Call { callee: Callee::Function("match"), arguments: parts, line }));
        }
        while !self.take("}") && self.token != Token::End && !self.is(";") {
            let from = self.begins;
            parts.push(self.expression(0));
            if !self.take(",") && !self.take("=>") && self.begins == from {
                self.next();
            }
        }
        Expr::Other(parts)
    }
}
