//! What the ledger holds of files while a site is open, and of code that nobody answered for.

use crate::entry::{Identity, Nanos};

/// How a path is not what it was.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum HowChanged {
    /// The same file holds something else, or was touched in another way.
    Changed,
    /// Another file has its name.
    Replaced,
    /// It is older than the window, and was not there.
    MovedIn,
    /// It was made in the window.
    Added,
    /// It is not there any more.
    Gone,
}

impl HowChanged {
    const ALL: [Self; 5] = [Self::Changed, Self::Replaced, Self::MovedIn, Self::Added, Self::Gone];

    /// The words for it.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Changed => "changed",
            Self::Replaced => "replaced",
            Self::MovedIn => "moved in",
            Self::Added => "added",
            Self::Gone => "gone",
        }
    }

    /// What these words mean.
    pub(crate) fn of_words(words: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|how| how.words() == words)
    }
}

/// What is known of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Known {
    pub(crate) id: Identity,
    pub(crate) size: u64,
    pub(crate) modified: Nanos,
    /// The checksum of what PHP may write.
    pub(crate) sum: Option<[u8; 32]>,
}
