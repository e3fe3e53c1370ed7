//! What a source is made of.

use super::super::facts::FileShape;

/// An expression.
#[derive(Debug)]
pub(crate) enum Expr<'s> {
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
pub(crate) enum Bit<'s> {
    Plain(&'s str),
    /// With its backslash.
    Escape(&'s str),
    Filled(Expr<'s>),
}

/// `key => value`
#[derive(Debug)]
pub(crate) struct Element<'s> {
    pub(crate) key: Option<Expr<'s>>,
    pub(crate) value: Expr<'s>,
    /// From 1.
    pub(crate) line: usize,
}

/// What is called.
#[derive(Debug)]
pub(crate) enum Callee<'s> {
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
pub(crate) struct Call<'s> {
    pub(crate) callee: Callee<'s>,
    pub(crate) arguments: Vec<Expr<'s>>,
    /// From 1.
    pub(crate) line: usize,
}

/// A statement, or a piece of one.
#[derive(Debug)]
pub(crate) enum Statement<'s> {
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
    pub(crate) fn name(&self) -> Option<&'s str> {
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
    pub(crate) fn expressions(&self) -> impl Iterator<Item = &Expr<'s>> {
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
pub(crate) struct Around<'s> {
    pub(crate) class: &'s str,
    pub(crate) function: &'s str,
    /// Without their `$`.
    pub(crate) parameters: Vec<&'s str>,
}

/// A file.
#[derive(Debug, Default)]
pub(crate) struct Source<'s> {
    /// What statements stand in; the first is the file itself.
    pub(crate) around: Vec<Around<'s>>,
    /// With the place in `around`, and the line.
    pub(crate) statements: Vec<(Statement<'s>, usize, usize)>,
    pub(crate) shape: FileShape,
}

impl Expr<'_> {
    /// Whether something can be put there.
    pub(super) const fn can_be_set(&self) -> bool {
        matches!(self, Self::Variable(_) | Self::Index(..) | Self::Member(..) | Self::StaticMember(..) | Self::Array(_))
    }

    /// `${name}` is `$name`, and `${name[key]}` is `$name[key]`.
    pub(super) fn of_variable(self) -> Self {
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
    pub(crate) fn bare(&self) -> &Self {
        let mut bare = self;
        while let Self::Same(inner) = bare {
            bare = inner;
        }
        bare
    }

    /// It and all that is in it, in the order of the source.
    pub(crate) fn each<'e>(&'e self, take: &mut impl FnMut(&'e Self)) {
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
