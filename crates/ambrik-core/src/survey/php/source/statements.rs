//! Statements, classes and functions.

use super::expressions::ASSIGNING;
use super::lex::Token;
use super::tree::{Around, Expr, Statement};
use super::{Block, Outermost, Parser};

impl<'s> Parser<'s> {
    /// An outermost statement begins, where none is open around it.
    pub(super) fn outermost(&mut self, does: Outermost) {
        if !self.headed && self.blocks.iter().all(|block| *block == Block::Namespace) {
            self.outermost_ends();
            self.outermost = Some((does, self.begins));
        }
    }

    pub(super) fn outermost_ends(&mut self) {
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

    pub(super) fn open(&mut self, block: Block) {
        self.blocks.push(block);
        self.headed = false;
    }

    pub(super) fn close(&mut self, block: Block) {
        if let Block::Class(around) | Block::Function(around) = block {
            self.around = around;
        }
    }

    pub(super) fn statement(&mut self) {
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

    pub(super) fn keyword(&mut self, word: &'s str) {
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

    pub(super) fn expression_statement(&mut self) {
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
    pub(super) fn list(&mut self) {
        loop {
            self.add_expression(0);
            if !self.take(",") {
                return;
            }
        }
    }

    pub(super) fn static_variables(&mut self) {
        while matches!(self.token, Token::Variable(_)) {
            self.next();
            if self.take("=") {
                self.add_expression(ASSIGNING);
            }
            self.take(",");
        }
    }

    /// What stands in brackets after `if`, `while`, `for` and the like.
    pub(super) fn head(&mut self, is_else: bool) {
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

    pub(super) fn foreach(&mut self) {
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

    pub(super) fn returns(&mut self) {
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
    pub(super) fn constants(&mut self) {
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

    pub(super) fn namespace(&mut self) {
        self.outermost_ends();
        self.next();
        self.take_word();
        if self.take("{") {
            self.open(Block::Namespace);
        }
    }

    /// `use A\B;`, `use A\{B, C};`, and in a class `use A { b as c; }`.
    pub(super) fn skip_use(&mut self) {
        while !self.ends() {
            if self.is("{") {
                return self.skip_brackets();
            }
            self.next();
        }
    }

    pub(super) fn class(&mut self) {
        self.outermost(Outermost::Defines);
        self.next();
        let name = self.take_word().unwrap_or_default();
        self.class_body(name);
    }

    /// What a class extends, and the beginning of its body.
    pub(super) fn class_body(&mut self, class: &'s str) {
        while !self.is("{") && !self.ends() {
            self.next();
        }
        if self.take("{") {
            self.open(Block::Class(self.around));
            self.around = self.new_around(Around { class, ..Around::default() });
        }
    }

    pub(super) fn new_around(&mut self, around: Around<'s>) -> usize {
        self.source.around.push(around);
        self.source.around.len() - 1
    }

    /// One piece of a class.
    pub(super) fn member(&mut self) {
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
    pub(super) fn is_declaration(&self) -> bool {
        let mut ahead = self.lexer.clone();
        match ahead.token() {
            Token::Word(_) => true,
            Token::Sign("&") => matches!(ahead.token(), Token::Word(_)),
            _ => false,
        }
    }

    pub(super) fn function(&mut self) {
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
    pub(super) fn parameters(&mut self) -> Vec<&'s str> {
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
}
