//! What ends a command early, and the exit code that follows.

use std::io;
use std::process::ExitCode;

use ambrik_core::archive::ArchiveError;
use ambrik_core::change::{
    ChangeError, LedgerError, MoveError, Outcome, PlaceError, StateError, UndoError, UnpackError, WindowError,
};
use ambrik_core::host::AccountsError;
use ambrik_core::site::EditError;
use ambrik_core::starts::SiteError;
use ambrik_core::survey::PackedError;
use ambrik_core::tree::WayError;

impl Exit {
    /// Its number.
    pub(crate) const fn number(self) -> u8 {
        match self {
            Self::Clean => 0,
            Self::Findings => 1,
            Self::Usage => 2,
            Self::Partial => 3,
            Self::Privilege => 4,
        }
    }

    /// The exit code that an outcome calls for.
    pub(crate) fn of(outcome: &Outcome) -> Self {
        let nothing = outcome.done + outcome.removed + outcome.restored == 0;
        match outcome.failures.is_empty() {
            true => Self::Clean,
            false if nothing && outcome.failures.iter().all(|(_, failure)| failure.is_privilege()) => Self::Privilege,
            false => Self::Partial,
        }
    }
}

/// A site that cannot be judged.
#[derive(Debug)]
pub(crate) struct Wrong {
    /// Its name, or its file's.
    pub(crate) site: String,
    /// What is wrong, which file it is in, and what to do.
    pub(crate) says: String,
}

/// The exit codes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Exit {
    /// Nothing to report.
    Clean,
    /// Findings, or changes pending.
    Findings,
    /// Usage or site file wrong, nothing done.
    Usage,
    /// Done in part.
    Partial,
    /// Privilege missing, nothing done.
    Privilege,
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.number())
    }
}

/// Why a command ended early: nothing, or nothing more, was done.
#[derive(Debug)]
pub(crate) struct Failure {
    pub(crate) exit: Exit,
    pub(crate) message: String,
}

impl Failure {
    /// Something that the caller can put right.
    pub(crate) fn usage(message: impl Into<String>) -> Self {
        Self { exit: Exit::Usage, message: message.into() }
    }

    /// Something that the caller may not do: nothing was done.
    pub(crate) fn privilege(message: &str) -> Self {
        Self { exit: Exit::Privilege, message: format!("{message}; run it as root") }
    }

    /// Something on disk that cannot be read or written.
    pub(crate) fn io(message: &str, cause: &io::Error) -> Self {
        let exit = if cause.kind() == io::ErrorKind::PermissionDenied { Exit::Privilege } else { Exit::Usage };
        Self { exit, message: message.to_owned() }
    }

    /// The same for programs: `error/1`.
    pub(crate) fn document(&self) -> serde_json::Value {
        serde_json::json!({ "ambrik": "error/1", "error": self.message, "exit": self.exit.number() })
    }

    fn privilege_or(privilege: bool, otherwise: Exit, message: &str) -> Self {
        let exit = if privilege { Exit::Privilege } else { otherwise };
        let hint = if privilege { "; run it as root, or name a state directory of your own with --state" } else { "" };
        Self { exit, message: format!("{message}{hint}") }
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        Self { exit: Exit::Partial, message: format!("cannot write the output: {error}") }
    }
}

impl From<StateError> for Failure {
    fn from(error: StateError) -> Self {
        Self::privilege_or(error.is_privilege(), Exit::Usage, &error.to_string())
    }
}

impl From<LedgerError> for Failure {
    fn from(error: LedgerError) -> Self {
        match error {
            LedgerError::State(error) => error.into(),
            error => Self::privilege_or(false, Exit::Usage, &error.to_string()),
        }
    }
}

impl From<ChangeError> for Failure {
    fn from(error: ChangeError) -> Self {
        match error {
            ChangeError::State(error) => error.into(),
            ChangeError::Place(error) => error.into(),
            ChangeError::Ledger(error) => {
                let what = format!("{error}; nothing more was changed, and what was is on record (ambrik history)");
                Self::privilege_or(false, Exit::Partial, &what)
            }
            error @ (ChangeError::RootReplaced
            | ChangeError::Store(_)
            | ChangeError::Keepsake { .. }
            | ChangeError::Stopped { .. }) => Self::privilege_or(false, Exit::Partial, &error.to_string()),
        }
    }
}

impl From<PlaceError> for Failure {
    fn from(error: PlaceError) -> Self {
        match error {
            PlaceError::Ledger(error) => error.into(),
            error => Self::usage(error.to_string()),
        }
    }
}

impl From<WindowError> for Failure {
    fn from(error: WindowError) -> Self {
        match error {
            WindowError::Ledger(error) => error.into(),
            WindowError::Audit(error) => error.into(),
        }
    }
}

impl From<UndoError> for Failure {
    fn from(error: UndoError) -> Self {
        match error {
            UndoError::Ledger(error) => error.into(),
            error => Self::usage(error.to_string()),
        }
    }
}

impl From<MoveError> for Failure {
    fn from(error: MoveError) -> Self {
        Self::usage(error.to_string())
    }
}

impl From<ArchiveError> for Failure {
    fn from(error: ArchiveError) -> Self {
        let denied =
            matches!(&error, ArchiveError::Unreadable(_, cause) if cause.kind() == io::ErrorKind::PermissionDenied);
        if denied { Self::privilege(&error.to_string()) } else { Self::usage(error.to_string()) }
    }
}

impl From<PackedError> for Failure {
    fn from(error: PackedError) -> Self {
        match error {
            PackedError::Archive(error) => error.into(),
            error => Self::usage(error.to_string()),
        }
    }
}

impl From<UnpackError> for Failure {
    fn from(error: UnpackError) -> Self {
        let denied = matches!(&error, UnpackError::Unseen { failure, .. } if failure.is_privilege());
        if denied { Self::privilege(&error.to_string()) } else { Self::usage(error.to_string()) }
    }
}

impl From<EditError> for Failure {
    fn from(error: EditError) -> Self {
        let hint = if error.is_privilege() { "; run it as root, or name another --sites" } else { "" };
        let exit = if error.is_privilege() { Exit::Privilege } else { Exit::Usage };
        Self { exit, message: format!("{error}{hint}") }
    }
}

impl From<SiteError> for Failure {
    fn from(error: SiteError) -> Self {
        Self::usage(error.to_string())
    }
}

impl From<WayError> for Failure {
    fn from(error: WayError) -> Self {
        Self::usage(error.to_string())
    }
}

impl From<AccountsError> for Failure {
    fn from(error: AccountsError) -> Self {
        let cause = std::error::Error::source(&error).map(|c| format!(": {c}")).unwrap_or_default();
        Self::usage(format!("{error}{cause}"))
    }
}
