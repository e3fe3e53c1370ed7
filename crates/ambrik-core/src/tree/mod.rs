//! Trees on disk: every system call that touches one (`sys`), the way to a site's root (`way`), and the
//! parallel walk (`walk`).

pub(crate) mod along;
#[cfg(feature = "faults")]
mod faults;
mod mounts;
pub(crate) mod near;
pub(crate) mod sys;
mod walk;
pub(crate) mod way;

pub use mounts::{Mount, Mounts};
pub(crate) use walk::raise_file_limit;
pub use walk::{Dir, Look, Progress, Trouble, Visitor, Walked, walk};
pub use way::{Host, Passed, Resolved, Way, WayError};

/// What was being done to a path when it failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Op {
    /// Opening it.
    Open,
    /// Asking what it is and who owns it.
    Look,
    /// Listing a directory.
    List,
    /// Reading it.
    Read,
    /// Setting owner and group.
    SetOwner,
    /// Setting the mode.
    SetMode,
    /// Setting the access list.
    SetAcl,
    /// Setting the label.
    SetLabel,
    /// Making it.
    Create,
    /// Removing it.
    Remove,
    /// Giving it another name.
    Move,
    /// Reading back what was set.
    ReadBack,
    /// Putting it into the keepsake, or taking it out.
    Keep,
}

impl Op {
    /// The words after "cannot".
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Look => "look at",
            Self::List => "list",
            Self::Read => "read",
            Self::SetOwner => "set the owner of",
            Self::SetMode => "set the mode of",
            Self::SetAcl => "set the access list of",
            Self::SetLabel => "set the label of",
            Self::Create => "make",
            Self::Remove => "remove",
            Self::Move => "move",
            Self::ReadBack => "read back",
            Self::Keep => "keep a copy of",
        }
    }
}

/// Why something could not be done to a path.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Failure {
    /// The kernel said no.
    #[error("cannot {}: {}", .0.words(), errno_text(*.1))]
    Os(Op, rustix::io::Errno),
    /// The path is another one than what was judged.
    #[error("it was replaced or changed while Ambrik ran; left alone: the next run looks at it anew")]
    Replaced,
    /// It has names that were not seen inside the site.
    #[error("it has {0} names and {1} of them lie in this site; a change would reach the other; left alone")]
    SecondName(u32, u32),
    /// Its names can be moved about while they are looked at.
    #[error(
        "it has {0} names, where others than the keeper can move names about; left alone: once `set` has closed the \
         directories, run it again"
    )]
    Unsettled(u32),
    /// What leads there is a symlink that others could have made.
    #[error("a symlink that others could have made leads there; left alone")]
    ForeignLink,
    /// One of its names is in a part with another use.
    #[error("its names lie in parts with different rights; left alone")]
    TwoUses,
    /// The file system answered "done" and did not do it.
    #[error("the file system said done, and {0} is still {1}")]
    NotDone(&'static str, String),
    /// It changed while it was copied.
    #[error("it was changed while it was copied; stop what writes there, and try again")]
    Differs,
    /// The keepsake has no room for it.
    #[error(
        "it takes {} in the keepsake, and {} are free there; make room, or take it away by hand",
        crate::shown::size(*needed), crate::shown::size(*free)
    )]
    NoRoom {
        /// How many bytes it takes.
        needed: u64,
        /// How many may be written.
        free: u64,
    },
    /// It is not in the keepsake as it was written.
    #[error("the keepsake is not good ({0}), so it was not removed; look at the disk that holds it")]
    NotKept(String),
    /// Something else, in words.
    #[error("{0}")]
    Says(String),
    /// It is not what Ambrik left.
    #[error("it is not what Ambrik left ({0}); left alone")]
    NotOurs(String),
}

impl Failure {
    /// Whether privilege was missing.
    #[must_use]
    pub fn is_privilege(&self) -> bool {
        matches!(self, Self::Os(_, rustix::io::Errno::PERM | rustix::io::Errno::ACCESS))
    }

    /// Whether the path had gone.
    #[must_use]
    pub fn is_vanished(&self) -> bool {
        matches!(self, Self::Os(op, rustix::io::Errno::NOENT) if *op != Op::Create)
    }
}

/// The system's words for an error, and for the common ones what to do.
fn errno_text(errno: rustix::io::Errno) -> String {
    use rustix::io::Errno;
    let text = std::io::Error::from(errno).to_string();
    let text = text.split(" (os error").next().unwrap_or(&text).to_lowercase();
    let todo = match errno {
        Errno::PERM if rustix::process::geteuid().is_root() => "; it may be immutable (lsattr shows it)",
        Errno::PERM | Errno::ACCESS => "; run as root",
        Errno::ROFS => "; remount it for writing",
        Errno::NOSPC | Errno::DQUOT => "; make room",
        Errno::OPNOTSUPP => "; this file system cannot hold it",
        Errno::MFILE | Errno::NFILE => "; raise the limit of open files",
        _ => "",
    };
    format!("{text}{todo}")
}
