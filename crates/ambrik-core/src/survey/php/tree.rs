//! PHP source as far as a survey needs it: its expressions, and the classes and functions that they stand in.
//!
//! Statements are kept one after the other, however they are nested: what a branch does counts whether it is taken or not. No recursion
//! goes deeper than [`DEEPEST`], and every step takes a token: the time is linear in the length of the source.
//!
//! Source: the PHP manual, "Language Reference" (operator precedence as of PHP 8).

use super::facts::Shape;
use super::lex::{Lexer, Token, filled};

/// Expressions are read so deep; what is deeper is stepped over.
const DEEPEST: usize = 64;
/// `$a->b()->c()`, or `$a ? b : c ? d : e`, is followed through so many links.
const LINKS: usize = 256;

/// An expression.
#[derive(Debug)]
pub(super) enum Expr<'s> {
    /// A text, with what is filled in, and the line.
    Text(Vec<Bit<'s>>, usize),
    Number(&'s str),
    /// A constant, or a class or function that is named.
    Word(&'s str),
    /// Without its `$`.
    Variable(&'s str),
    Array(Vec<Element<'s>>),
    /// `$a[b]`, `$a[]`
    Index(Box<Self>, Option<Box<Self>>),
    /// `$a->b`; no name where that is a value.
    Member(Box<Self>, Option<&'s str>),
    /// `A::$b`, the name without its `$`.
    StaticMember(Box<Self>, &'s str),
    /// `A::B`
    ClassConstant(Box<Self>, &'s str),
    Call(Box<Call<'s>>),
    /// `a . b . c`
    Join(Vec<Self>),
    /// `$x ? a : b`, `a ?: b`, `a ?? b`: with what is asked, where it is no value itself.
    Either(Option<Box<Self>>, Box<(Self, Self)>),
    /// `a = b`
    Assign(Box<(Self, Self)>, usize),
    /// `require a`, `include a`, with the line.
    Load(&'s str, Box<Self>, usize),
    /// What hands its value on: `(a)`, `@a`, `(string) a`.
    Same(Box<Self>),
    /// A function without a name, with what it answers where that is all; its statements are among the others.
    Function(Option<Box<Self>>),
    /// Anything else, with what is in it.
    Other(Vec<Self>),
}

/// A piece of a text.
#[derive(Debug)]
pub(super) enum Bit<'s> {
    Plain(&'s str),
    /// With its backslash.
    Escape(&'s str),
    Filled(Expr<'s>),
}

/// `key => value`
#[derive(Debug)]
pub(super) struct Element<'s> {
    pub(super) key: Option<Expr<'s>>,
    pub(super) value: Expr<'s>,
    /// From 1.
    pub(super) line: usize,
}

/// What is called.
#[derive(Debug)]
pub(super) enum Callee<'s> {
    Function(&'s str),
    /// `$a->b()`
    Method(Expr<'s>, &'s str),
    /// `A::b()`
    Static(Expr<'s>, &'s str),
    New(&'s str),
    /// What a value names.
    Unknown(Expr<'s>),
}

/// A call, or an object that is made.
#[derive(Debug)]
pub(super) struct Call<'s> {
    pub(super) callee: Callee<'s>,
    pub(super) arguments: Vec<Expr<'s>>,
    /// From 1.
    pub(super) line: usize,
}

/// A statement, or a piece of one.
#[derive(Debug)]
pub(super) enum Statement<'s> {
    Expression(Expr<'s>),
    Return(Expr<'s>),
    /// What is gone through, the key and the value of each.
    Foreach(Expr<'s>, Option<Expr<'s>>, Expr<'s>),
    /// A constant of the class that it stands in, or of the program.
    Constant(&'s str, Expr<'s>),
    /// A class's own variable (without its `$`) and what it is given first.
    Property(&'s str, Expr<'s>),
    /// A parameter that is a property.
    Promoted(&'s str),
    /// A function begins here.
    Function,
}

impl<'s> Call<'s> {
    /// What is called, without its namespace; nothing where a value names it.
    pub(super) fn name(&self) -> Option<&'s str> {
        let (Callee::Function(name) | Callee::Method(_, name) | Callee::Static(_, name) | Callee::New(name)) =
            &self.callee
        else {
            return None;
        };
        name.rsplit('\\').next()
    }
}

impl<'s> Statement<'s> {
    /// The expressions that it is made of.
    pub(super) fn expressions(&self) -> impl Iterator<Item = &Expr<'s>> {
        let (first, second, third) = match self {
            Self::Expression(one) | Self::Return(one) | Self::Constant(_, one) | Self::Property(_, one) => {
                (Some(one), None, None)
            }
            Self::Foreach(list, key, value) => (Some(list), key.as_ref(), Some(value)),
            Self::Promoted(_) | Self::Function => (None, None, None),
        };
        [first, second, third].into_iter().flatten()
    }
}

/// Where a statement stands.
#[derive(Clone, Debug, Default)]
pub(super) struct Around<'s> {
    pub(super) class: &'s str,
    pub(super) function: &'s str,
    /// Without their `$`.
    pub(super) parameters: Vec<&'s str>,
}

/// A file.
#[derive(Debug, Default)]
pub(super) struct Source<'s> {
    /// What statements stand in; the first is the file itself.
    pub(super) around: Vec<Around<'s>>,
    /// With the place in `around`, and the line.
    pub(super) statements: Vec<(Statement<'s>, usize, usize)>,
    pub(super) shape: Shape,
}

/// Reads a file.
pub(super) fn source(text: &str) -> Source<'_> {
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

    // Statements.

    /// An outermost statement begins, where none is open around it.
    fn outermost(&mut self, does: Outermost) {
        if !self.headed && self.blocks.iter().all(|block| *block == Block::Namespace) {
            self.outermost_ends();
            self.outermost = Some((does, self.begins));
        }
    }

    fn outermost_ends(&mut self) {
        let Some((does, from)) = self.outermost.take() else { return };
        let text = self.text.get(from..self.ended).unwrap_or_default().trim_start_matches('\\');
        let begins = |words: &[&str]| words.iter().any(|word| text.starts_with(word));
        let shape = &mut self.source.shape;
        match does {
            Outermost::Sets => shape.settings += 1,
            Outermost::Defines => shape.definitions += 1,
            Outermost::Expression if begins(&["define(", "define ("]) => shape.settings += 1,
            Outermost::Expression if begins(&["defined", "ini_set", "error_reporting"]) => {}
            // A guard against direct calls.
            Outermost::If if text.len() < 160 && text.contains("defined") => {}
            Outermost::Other | Outermost::Expression | Outermost::If => shape.others += 1,
        }
    }

    fn open(&mut self, block: Block) {
        self.blocks.push(block);
        self.headed = false;
    }

    fn close(&mut self, block: Block) {
        if let Block::Class(around) | Block::Function(around) = block {
            self.around = around;
        }
    }

    fn statement(&mut self) {
        if matches!(self.blocks.last(), Some(Block::Class(_))) && !self.is("}") {
            return self.member();
        }
        match self.token {
            Token::End => {}
            Token::Page => {
                self.next();
                self.headed = false;
            }
            Token::PageValue => {
                self.outermost(Outermost::Other);
                self.next();
                self.list();
            }
            Token::Attribute => self.skip_brackets(),
            Token::Sign(";") => {
                self.next();
                self.headed = false;
            }
            Token::Sign("{") => {
                self.outermost(Outermost::Other);
                self.next();
                self.open(Block::Braces);
            }
            Token::Sign("}") => {
                self.next();
                // What `:` opened ends with the braces around it.
                while let Some(block) = self.blocks.pop() {
                    self.close(block);
                    if block != Block::Colon {
                        break;
                    }
                }
            }
            Token::Sign(":") => {
                self.next();
                let goes_on = self.is_else && self.blocks.last() == Some(&Block::Colon);
                if self.headed && !goes_on {
                    self.open(Block::Colon);
                }
                self.headed = false;
            }
            Token::Word(word) => self.keyword(word),
            _ => self.expression_statement(),
        }
    }

    fn keyword(&mut self, word: &'s str) {
        match word.to_ascii_lowercase().as_str() {
            "if" => {
                self.outermost(Outermost::If);
                self.head(false);
            }
            "while" | "for" | "switch" => {
                self.outermost(Outermost::Other);
                self.head(false);
            }
            "elseif" | "catch" => self.head(true),
            "declare" => {
                self.outermost_ends();
                self.head(false);
            }
            "foreach" => self.foreach(),
            "else" | "finally" => {
                self.next();
                (self.headed, self.is_else) = (true, true);
            }
            "do" | "try" => {
                self.outermost(Outermost::Other);
                self.next();
                (self.headed, self.is_else) = (true, false);
            }
            "endif" | "endwhile" | "endfor" | "endforeach" | "endswitch" | "enddeclare" => {
                self.next();
                if self.blocks.last() == Some(&Block::Colon) {
                    self.blocks.pop();
                }
            }
            "case" => {
                self.next();
                self.add_expression(0);
            }
            "default" | "break" | "continue" | "goto" => {
                self.outermost(Outermost::Other);
                self.next();
            }
            "echo" => {
                self.outermost(Outermost::Other);
                self.next();
                self.list();
            }
            "return" => self.returns(),
            "global" => {
                self.outermost(Outermost::Sets);
                self.next();
                self.list();
            }
            "const" => {
                self.outermost(Outermost::Sets);
                self.constants();
            }
            "static" if matches!(self.after(), Token::Variable(_)) => {
                self.outermost(Outermost::Other);
                self.next();
                self.static_variables();
            }
            "namespace" => self.namespace(),
            "use" => {
                self.outermost_ends();
                self.skip_use();
            }
            "abstract" | "final" | "readonly" if matches!(self.after(), Token::Word(_)) => {
                self.outermost(Outermost::Defines);
                self.next();
                // The class that follows is the same statement.
                (self.headed, self.is_else) = (true, false);
            }
            "class" | "interface" | "trait" | "enum" if matches!(self.after(), Token::Word(_)) => self.class(),
            "function" if self.is_declaration() => self.function(),
            "__halt_compiler" => {
                self.lexer.end();
                self.token = Token::End;
            }
            _ => self.expression_statement(),
        }
    }

    fn expression_statement(&mut self) {
        self.outermost(Outermost::Expression);
        let (line, from) = (self.line, self.begins);
        let expression = self.expression(0);
        if self.begins == from {
            // Nothing that PHP would have here.
            self.next();
        }
        if let (Expr::Assign(..), Some((does, began))) = (&expression, &mut self.outermost)
            && *began == from
        {
            *does = Outermost::Sets;
        }
        self.add(Statement::Expression(expression), line);
    }

    /// Expressions with commas between them.
    fn list(&mut self) {
        loop {
            self.add_expression(0);
            if !self.take(",") {
                return;
            }
        }
    }

    fn static_variables(&mut self) {
        while matches!(self.token, Token::Variable(_)) {
            self.next();
            if self.take("=") {
                self.add_expression(ASSIGNING);
            }
            self.take(",");
        }
    }

    /// What stands in brackets after `if`, `while`, `for` and the like.
    fn head(&mut self, is_else: bool) {
        self.next();
        if self.take("(") {
            while !self.take(")") && self.token != Token::End && !self.is("}") {
                let from = self.begins;
                self.add_expression(0);
                if !self.take(";") && !self.take(",") && self.begins == from {
                    self.next();
                }
            }
        }
        (self.headed, self.is_else) = (true, is_else);
    }

    fn foreach(&mut self) {
        self.outermost(Outermost::Other);
        let line = self.line;
        self.next();
        if self.take("(") {
            let list = self.expression(0);
            if self.is_word("as") {
                self.next();
                let first = self.expression(0);
                if self.take("=>") {
                    let value = self.expression(0);
                    self.add(Statement::Foreach(list, Some(first), value), line);
                } else {
                    self.add(Statement::Foreach(list, None, first), line);
                }
            }
            self.take(")");
        }
        (self.headed, self.is_else) = (true, false);
    }

    fn returns(&mut self) {
        let line = self.line;
        self.outermost(Outermost::Other);
        let began = self.begins;
        self.next();
        if self.ends() {
            return;
        }
        let value = self.expression(0);
        if let (Expr::Array(_), Some((does, from))) = (&value, &mut self.outermost)
            && *from == began
        {
            *does = Outermost::Sets;
        }
        self.add(Statement::Return(value), line);
    }

    /// `const A = 1, B = 2`, in a class with modifiers and a type before.
    fn constants(&mut self) {
        self.next();
        let mut name = None;
        while !self.ends() {
            let line = self.line;
            match self.token {
                Token::Word(word) => name = Some(word),
                Token::Sign("=") => {
                    self.next();
                    let value = self.expression(ASSIGNING);
                    self.add(Statement::Constant(name.take().unwrap_or_default(), value), line);
                    continue;
                }
                _ => {}
            }
            self.next();
        }
    }

    fn namespace(&mut self) {
        self.outermost_ends();
        self.next();
        self.take_word();
        if self.take("{") {
            self.open(Block::Namespace);
        }
    }

    /// `use A\B;`, `use A\{B, C};`, and in a class `use A { b as c; }`.
    fn skip_use(&mut self) {
        while !self.ends() {
            if self.is("{") {
                return self.skip_brackets();
            }
            self.next();
        }
    }

    fn class(&mut self) {
        self.outermost(Outermost::Defines);
        self.next();
        let name = self.take_word().unwrap_or_default();
        self.class_body(name);
    }

    /// What a class extends, and the beginning of its body.
    fn class_body(&mut self, class: &'s str) {
        while !self.is("{") && !self.ends() {
            self.next();
        }
        if self.take("{") {
            self.open(Block::Class(self.around));
            self.around = self.new_around(Around { class, ..Around::default() });
        }
    }

    fn new_around(&mut self, around: Around<'s>) -> usize {
        self.source.around.push(around);
        self.source.around.len() - 1
    }

    /// One piece of a class.
    fn member(&mut self) {
        let line = self.line;
        match self.token {
            Token::Attribute => self.skip_brackets(),
            // What reads and sets a property.
            Token::Sign("{") => {
                self.next();
                self.open(Block::Braces);
            }
            Token::Variable(name) => {
                self.next();
                if self.take("=") {
                    let value = self.expression(ASSIGNING);
                    self.add(Statement::Property(name, value), line);
                }
            }
            Token::Word(word) if word.eq_ignore_ascii_case("const") => self.constants(),
            Token::Word(word) if word.eq_ignore_ascii_case("use") => self.skip_use(),
            Token::Word(word) if word.eq_ignore_ascii_case("function") => self.function(),
            Token::Word(word) if word.eq_ignore_ascii_case("case") => {
                self.next();
                self.take_word();
                if self.take("=") {
                    self.add_expression(ASSIGNING);
                }
            }
            _ => self.next(),
        }
    }

    /// Whether `function` names one, and is no value.
    fn is_declaration(&self) -> bool {
        let mut ahead = self.lexer.clone();
        match ahead.token() {
            Token::Word(_) => true,
            Token::Sign("&") => matches!(ahead.token(), Token::Word(_)),
            _ => false,
        }
    }

    fn function(&mut self) {
        self.outermost(Outermost::Defines);
        let (line, outside) = (self.line, self.around);
        self.next();
        self.take("&");
        let function = self.take_word().unwrap_or_default();
        let class = self.source.around.get(outside).map(|around| around.class).unwrap_or_default();
        self.around = self.new_around(Around { class, function, parameters: Vec::new() });
        self.add(Statement::Function, line);
        let parameters = self.parameters();
        if let Some(around) = self.source.around.get_mut(self.around) {
            around.parameters = parameters;
        }
        while !self.is("{") && !self.ends() {
            self.next();
        }
        if self.take("{") {
            self.open(Block::Function(outside));
        } else {
            self.around = outside;
        }
    }

    /// A function's parameters.
    fn parameters(&mut self) -> Vec<&'s str> {
        let mut names = Vec::new();
        if !self.take("(") {
            return names;
        }
        let mut promoted = false;
        while !self.take(")") && !self.ends() {
            let line = self.line;
            match self.token {
                Token::Attribute | Token::Sign("{") => self.skip_brackets(),
                Token::Sign(",") => {
                    promoted = false;
                    self.next();
                }
                Token::Sign("=") => {
                    self.next();
                    self.add_expression(ASSIGNING);
                }
                Token::Variable(name) => {
                    names.push(name);
                    if promoted {
                        self.add(Statement::Promoted(name), line);
                    }
                    self.next();
                }
                Token::Word(word) => {
                    let modifiers = ["public", "protected", "private", "readonly"];
                    promoted |= modifiers.iter().any(|modifier| word.eq_ignore_ascii_case(modifier));
                    self.next();
                }
                _ => self.next(),
            }
        }
        names
    }

    // Expressions.

    /// An expression of operators that bind at least so strongly.
    fn expression(&mut self, least: u8) -> Expr<'s> {
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
            if links > LINKS {
                left = Expr::Other(Vec::new());
            }
            left = self.joined(left, sign, binds, line);
        }
        self.deep -= 1;
        left
    }

    /// The operator that stands next, and how strongly it binds.
    fn operator(&self) -> Option<(&'s str, u8)> {
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
    fn joined(&mut self, left: Expr<'s>, sign: &str, binds: u8, line: usize) -> Expr<'s> {
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

    /// What is nested too deep to be read.
    fn skip_operand(&mut self) {
        if self.is_one_of(&["(", "[", "{"]) {
            self.skip_brackets();
        } else if !self.ends() && !self.is_one_of(&[")", "]", ","]) {
            self.next();
        }
    }

    /// What stands between operators.
    fn operand(&mut self) -> Expr<'s> {
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

    fn word(&mut self, word: &'s str) -> Expr<'s> {
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
    fn links(&mut self, first: Expr<'s>, line: usize) -> Expr<'s> {
        let mut left = first;
        for links in 0.. {
            if links > LINKS {
                left = Expr::Other(Vec::new());
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

    fn member_of(&mut self, object: Expr<'s>, line: usize) -> Expr<'s> {
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

    fn static_of(&mut self, class: Expr<'s>, line: usize) -> Expr<'s> {
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

    fn call(&mut self, callee: Callee<'s>, line: usize) -> Expr<'s> {
        let arguments = self.arguments();
        Expr::Call(Box::new(Call { callee, arguments, line }))
    }

    fn arguments(&mut self) -> Vec<Expr<'s>> {
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
    fn elements(&mut self, end: &str) -> Vec<Element<'s>> {
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
    fn new_object(&mut self, line: usize) -> Expr<'s> {
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
    fn unnamed_function(&mut self, word: &str) -> Expr<'s> {
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
    fn statements_of(&mut self, depth: usize) {
        // In an expression, nothing is outermost.
        let outermost = self.outermost.take();
        while self.blocks.len() > depth && self.token != Token::End {
            self.statement();
        }
        self.outermost = outermost;
    }

    /// `match (…) { a, b => c }`, or a function of that name.
    fn matching(&mut self, line: usize) -> Expr<'s> {
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

/// How strongly `=` binds, `?`, `.`, and what stands before a value.
const ASSIGNING: u8 = 4;
const CHOOSING: u8 = 5;
const JOINING: u8 = 15;
const PREFIXED: u8 = 20;

/// The pieces of what stands between single quotes.
fn quoted_bits(text: &str) -> Vec<Bit<'_>> {
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
fn template_bits(text: &str, line: usize, deep: usize) -> Vec<Bit<'_>> {
    let bytes = text.as_bytes();
    let mut bits = Vec::new();
    let (mut at, mut plain) = (0, 0);
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
                let lines = bytecount(bytes.get(..at));
                (Bit::Filled(code(inner, line + lines, deep).of_variable()), long + 1)
            }
            b'{' if after == b'$' => {
                let long = filled(bytes.get(at..).unwrap_or_default(), 0);
                let inner = text.get(at + 1..at + long - 1).unwrap_or_default();
                let lines = bytecount(bytes.get(..at));
                (Bit::Filled(code(inner, line + lines, deep)), long)
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

fn bytecount(bytes: Option<&[u8]>) -> usize {
    bytes.map_or(0, |bytes| memchr::memchr_iter(b'\n', bytes).count())
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

impl<'s> Expr<'s> {
    /// Whether something can be put there.
    const fn can_be_set(&self) -> bool {
        matches!(self, Self::Variable(_) | Self::Index(..) | Self::Member(..) | Self::StaticMember(..) | Self::Array(_))
    }

    /// `${name}` is `$name`, and `${name[key]}` is `$name[key]`.
    fn of_variable(self) -> Self {
        match self {
            Self::Word(name) => Self::Variable(name),
            Self::Index(array, key) => match *array {
                Self::Word(name) => Self::Index(Box::new(Self::Variable(name)), key),
                _ => Self::Other(Vec::new()),
            },
            _ => Self::Other(Vec::new()),
        }
    }

    /// The expression without the brackets and casts around it.
    pub(super) fn bare(&self) -> &Self {
        let mut bare = self;
        while let Self::Same(inner) = bare {
            bare = inner;
        }
        bare
    }

    /// It and all that is in it, in the order of the source.
    pub(super) fn each<'e>(&'e self, take: &mut impl FnMut(&'e Self)) {
        take(self);
        match self {
            Self::Number(_) | Self::Word(_) | Self::Variable(_) | Self::Function(None) => {}
            Self::Text(bits, _) => {
                for bit in bits {
                    if let Bit::Filled(inner) = bit {
                        inner.each(take);
                    }
                }
            }
            Self::Array(elements) => {
                for element in elements {
                    if let Some(key) = &element.key {
                        key.each(take);
                    }
                    element.value.each(take);
                }
            }
            Self::Index(array, key) => {
                array.each(take);
                if let Some(key) = key {
                    key.each(take);
                }
            }
            Self::Member(inner, _)
            | Self::StaticMember(inner, _)
            | Self::ClassConstant(inner, _)
            | Self::Load(_, inner, _)
            | Self::Same(inner)
            | Self::Function(Some(inner)) => inner.each(take),
            Self::Call(call) => {
                if let Callee::Method(of, _) | Callee::Static(of, _) | Callee::Unknown(of) = &call.callee {
                    of.each(take);
                }
                for argument in &call.arguments {
                    argument.each(take);
                }
            }
            Self::Join(parts) | Self::Other(parts) => {
                for part in parts {
                    part.each(take);
                }
            }
            Self::Either(asked, either) => {
                if let Some(asked) = asked {
                    asked.each(take);
                }
                either.0.each(take);
                either.1.each(take);
            }
            Self::Assign(both, _) => {
                both.0.each(take);
                both.1.each(take);
            }
        }
    }
}
