//! What is kept of one PHP file: what it defines and which paths it touches, in symbols that [`super::resolve`] fills in.

use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hash, Hasher as _};
use std::path::PathBuf;
use std::sync::Arc;

/// Stands at the beginning of a path for the application's root.
pub(crate) const ROOT: char = '\u{1}';

/// A piece of a value; a value is pieces one after the other.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Piece {
    Text(Box<str>),
    /// Not known.
    Hole,
    /// A text that stands in no path, by its hash: most texts are sentences and queries.
    Sentence(u64),
    /// A constant.
    Constant(Box<str>),
    /// A class's constant.
    ClassConstant(Box<str>, Box<str>),
    /// Something kept under a name in an array, an object or a variable of the whole program.
    Entry(Box<str>),
    /// A class's own variable.
    Property(Box<str>, Box<str>),
    /// A function's parameter, by its place.
    Parameter(Box<str>, usize),
    /// What is kept under a name that is itself a value: `$settings[$name]`.
    EntryOf(Box<Value>),
    /// What a function returns for these arguments.
    Returned(Box<str>, Box<[Values]>),
    /// So many levels above a path.
    Above(Box<Value>, usize),
    /// The web server's document root.
    Served,
}

/// Pieces one after the other.
pub(crate) type Value = Vec<Piece>;
/// All that an expression may be.
pub(crate) type Values = Vec<Value>;

/// What is done with a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Sink {
    /// It is asked whether it can be written.
    Check,
    /// A file is written there.
    Write,
    /// A directory is made there.
    MakeDirectory,
    /// Something is moved there.
    MoveTo,
    /// It is kept under a name that says that PHP writes there.
    Setting,
    /// Sessions are kept there.
    Session,
    /// It is made writable.
    Open,
    /// Another PHP file, or settings, are loaded from there.
    Load,
    /// It is asked whether there is such a file.
    Look,
    /// It is kept under some name: that says nothing by itself.
    Named,
}

/// A place where a path is touched.
#[derive(Clone, Debug)]
pub(crate) struct Touch {
    pub(crate) sink: Sink,
    pub(crate) paths: Values,
    /// From 1.
    pub(crate) line: usize,
    /// What does it.
    pub(crate) call: String,
}

/// A call with arguments that may be paths.
#[derive(Clone, Debug)]
pub(crate) struct KeptCall {
    pub(crate) name: String,
    pub(crate) arguments: Arc<Vec<Values>>,
    /// From 1.
    pub(crate) line: usize,
}

/// What one file says.
#[derive(Debug, Default)]
pub(crate) struct FileFacts {
    pub(crate) file: PathBuf,
    pub(crate) touches: Vec<Touch>,
    pub(crate) calls: Vec<KeptCall>,
    /// What else it hands something to, as hashes of the names, and how often.
    pub(crate) called: BTreeMap<u64, usize>,
    pub(crate) constants: Vec<(String, Values)>,
    pub(crate) class_constants: Vec<((String, String), Values)>,
    /// Names in arrays, objects and global variables, with the line.
    pub(crate) entries: Vec<(String, Values, usize)>,
    /// Names that what can be no path is kept under, and that, as hashes: what has many values says nothing.
    pub(crate) words: Vec<(u64, u64)>,
    pub(crate) properties: Vec<((String, String), Values)>,
    pub(crate) returns: Vec<(String, Values)>,
    /// Absolute paths that are written out, with the line.
    pub(crate) literals: Vec<(String, usize)>,
    /// The functions that it defines: `name`, or `class::name`.
    pub(crate) functions: Vec<String>,
    /// What its outermost statements do.
    pub(crate) shape: FileShape,
    /// Whether it is for the command line only.
    pub(crate) command_line: bool,
}

/// The same for the same thing, in one run of the program.
pub(crate) fn hash_of(thing: &(impl Hash + ?Sized)) -> u64 {
    let mut hasher = DefaultHasher::new();
    thing.hash(&mut hasher);
    hasher.finish()
}

/// What the outermost statements of a file do, guards against direct calls left out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct FileShape {
    /// They set variables and constants, or return an array.
    pub(crate) settings: usize,
    /// They define classes and functions.
    pub(crate) definitions: usize,
    /// They do something else.
    pub(crate) others: usize,
}

impl FileShape {
    /// Whether it sets, and does little else.
    pub(crate) const fn is_settings(self) -> bool {
        self.settings > 0 && self.definitions == 0 && self.others * 2 <= self.settings
    }

    /// Whether it defines classes or functions, and does nothing when it is asked for.
    pub(crate) const fn only_defines(self) -> bool {
        self.definitions > 0 && self.others == 0
    }
}
