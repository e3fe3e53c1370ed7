//! What is known while one file is read.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};

use super::facts::{FileFacts, Values};
use super::source::{Around, Expr};

/// Where an expression stands.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Scope {
    /// The class around it, in lower case.
    pub(super) class: String,
    /// The function around it, in lower case: `name`, or `class::name`; empty outside of all.
    pub(super) function: String,
    /// Its parameters.
    pub(super) parameters: Vec<String>,
}

impl Scope {
    pub(super) fn of(around: &Around<'_>) -> Self {
        let class = around.class.to_ascii_lowercase();
        let name = around.function.to_ascii_lowercase();
        let function = if class.is_empty() || name.is_empty() { name } else { format!("{class}::{name}") };
        let parameters = around.parameters.iter().map(|name| (*name).to_owned()).collect();
        Self { class, function, parameters }
    }

    /// A parameter's place.
    pub(super) fn place(&self, name: &str) -> Option<usize> {
        self.parameters.iter().position(|parameter| parameter == name)
    }
}

/// What is asked of a file.
#[derive(Clone, Copy)]
pub(super) enum AskedCalls<'s> {
    /// All that it says.
    All,
    /// All but the calls of the code's own functions: most of them matter to no path.
    NoCalls,
    /// The calls of these, and nothing else.
    OnlyCalls(&'s HashSet<String>),
}

pub(super) struct Reader<'s> {
    pub(super) asked: AskedCalls<'s>,
    pub(super) folders: &'s HashSet<String>,
    /// `__FILE__` and `__DIR__`.
    pub(super) file: String,
    pub(super) dir: String,
    /// What variables are given, by function and name.
    pub(super) assigned: HashMap<(&'s str, &'s str), Vec<GivenValue<'s>>>,
    /// What variables may be, by function, name and depth: each is followed once.
    pub(super) followed: RefCell<HashMap<(&'s str, &'s str, usize), Values>>,
    pub(super) facts: FileFacts,
}

/// What a variable is given.
#[derive(Clone, Copy)]
pub(super) enum GivenValue<'s> {
    /// This expression.
    All(&'s Expr<'s>),
    /// Each element of this array, or its keys.
    Elements(&'s Expr<'s>),
    Keys(&'s Expr<'s>),
}
