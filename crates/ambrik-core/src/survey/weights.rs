//! What each clue weighs, in one table.
//!
//! One is a hint, [`ENOUGH`] is what is proposed, [`CERTAIN`] is two kinds of evidence. They were set on nineteen real trees (six older
//! ones, thirteen as they are installed): precision and recall of what PHP writes and of secrets, and no folder with code given to
//! PHP. `evidence/tests.rs` and `tests.rs` hold what each is for.

/// What so much speaks for is proposed.
pub(super) const ENOUGH: f64 = 1.5;
/// What so much speaks for is asked.
pub(super) const ASKED: f64 = 0.9;
/// With so much, the confidence is high: two kinds of evidence, or one that was seen.
pub(super) const CERTAIN: f64 = 3.0;
/// Settings that so much speaks for are read for what they name.
pub(super) const READ_ON: f64 = 1.0;
/// Each further clue of one kind adds as much of its weight, and all of them no more than one.
pub(super) const FURTHER: f64 = 0.2;

/// `evidence/code.rs`.
pub(super) mod code {
    /// Checked to be writable beside other paths: an installer's list says what must be.
    pub(crate) const CHECKED_IN_LIST: f64 = 2.5;
    /// Checked to be writable.
    pub(crate) const CHECKED: f64 = 1.4;
    /// A file is written there.
    pub(crate) const WRITTEN: f64 = 1.6;
    /// Something is moved or copied there.
    pub(crate) const PUT: f64 = 1.6;
    /// The folder is made.
    pub(crate) const MADE: f64 = 1.6;
    /// It is made writable: others do that to what they only read, too.
    pub(crate) const OPENED: f64 = 1.2;
    /// Kept under a name that says that it is written to: by itself no more than a hint.
    pub(crate) const SET: f64 = 0.8;
    /// Sessions are kept there.
    pub(crate) const SESSIONS: f64 = 1.6;
    /// A folder called so, in an application that takes uploads.
    pub(crate) const UPLOADS: f64 = 0.8;
    /// What a library does counts as much of what the application does: it writes where it is told to.
    pub(crate) const BY_LIBRARY: f64 = 0.3;
    /// A path that is guessed from its end counts as much of one that is the code's own.
    pub(crate) const GUESSED: f64 = 0.6;
    /// Settings that are not the main ones, and that no installer writes, are secret with as much of the weight.
    pub(crate) const SOME_SETTINGS: f64 = 0.7;
    /// The file itself, and the folder above one that is made, count as much of the folder.
    pub(crate) const BESIDE: f64 = 0.5;
    /// A check of a file says as much of its folder.
    pub(crate) const CHECKED_FILE: f64 = 0.6;
}

/// `docroot.rs`.
pub(super) mod docroot {
    /// Requests to the root are sent there: more for it, less for the root.
    pub(crate) const SENT_TO: f64 = 1.5;
    /// The root, with no index in it.
    pub(crate) const ROOT_EMPTY: f64 = 0.5;
    /// The root, with a page in it.
    pub(crate) const ROOT_PAGE: f64 = 3.0;
    /// The root, with an index that says little.
    pub(crate) const ROOT_STUB: f64 = 1.0;
    /// A folder that is called as served ones are.
    pub(crate) const CALLED_SO: f64 = 1.5;
    /// Less for one below another.
    pub(crate) const DEEP: f64 = 0.7;
    /// With an index that is no PHP.
    pub(crate) const PLAIN_INDEX: f64 = 0.3;
    /// With an index that is PHP.
    pub(crate) const INDEX: f64 = 1.0;
    /// Its index loads code from above it, and it is called so.
    pub(crate) const LOADS_FROM_ABOVE: f64 = 1.5;
    /// Its index loads code from above it.
    pub(crate) const LOADS_FROM_ABOVE_ALONE: f64 = 0.5;
    /// More where the root has no index; less where the folder above has one.
    pub(crate) const NO_INDEX_ABOVE: f64 = 1.0;
    /// A web server's configuration in the tree, or words about one, names it.
    pub(crate) const CONFIGURED: f64 = 1.2;
    /// So far ahead of the next, with [`MUCH`], the served folder is certain.
    pub(crate) const SURE: f64 = 1.5;
    /// What speaks for a served folder that is certain, and how far ahead one without a rival is.
    pub(crate) const MUCH: f64 = 2.0;
    /// So far ahead, it is likely.
    pub(crate) const LIKELY: f64 = 0.5;
}

/// `evidence/ignored.rs`.
pub(super) mod ignored {
    /// A key that version control is told to leave out.
    pub(crate) const KEY: f64 = 1.2;
    /// Settings that it is told to leave out.
    pub(crate) const SETTINGS: f64 = 1.0;
    /// All that is in a folder that is called as such folders are, and is there.
    pub(crate) const ALL_OF_SUCH: f64 = 1.8;
    /// Some of it, or all of one that is not there yet.
    pub(crate) const OF_SUCH: f64 = 1.2;
    /// Something in a folder that is called so.
    pub(crate) const IN_SUCH: f64 = 0.4;
    /// A folder of no such name, near the root.
    pub(crate) const TOP: f64 = 0.6;
}

/// `evidence/installers.rs`.
pub(super) mod installers {
    /// Called as installers are.
    pub(crate) const NAME: f64 = 1.0;
    /// Does an installer's work, whatever it is called: asked.
    pub(crate) const BY_WORK: f64 = 0.9;
    /// Makes the database's tables: upgrades and plug-ins do, too.
    pub(crate) const MAKES_TABLES: f64 = 0.4;
    /// Asks for a password: so do log-in pages.
    pub(crate) const ASKS_PASSWORD: f64 = 0.4;
    /// Looks whether there are settings: so do front pages.
    pub(crate) const TESTS_SETTINGS: f64 = 0.3;
    /// Writes the settings: administration pages do, too.
    pub(crate) const WRITES_SETTINGS: f64 = 0.7;
}

/// `evidence/live.rs`.
pub(super) mod live {
    /// It belongs to PHP alone of the tree, and is called as such folders are.
    pub(crate) const PHPS: f64 = 2.0;
    /// It belongs to PHP alone of the tree, under any name: asked.
    pub(crate) const PHPS_ALONE: f64 = 1.4;
    /// Newer than the code, and called so.
    pub(crate) const NEWER: f64 = 0.8;
    /// Newer than the code.
    pub(crate) const NEWER_ALONE: f64 = 0.6;
    /// A link leads to a folder for such things: asked.
    pub(crate) const LINKED: f64 = 0.9;
    /// Settings that a link leads to; those of plug-ins are asked.
    pub(crate) const LINKED_SETTINGS: f64 = 2.0;
    /// Notes with passwords, a database of accounts, a key.
    pub(crate) const KEYS: f64 = 1.6;
}

/// `evidence/outside.rs`.
pub(super) mod outside {
    /// Settings outside the tree with credentials, called so.
    pub(crate) const SETTINGS: f64 = 2.0;
    /// Another file outside the tree with credentials.
    pub(crate) const CREDENTIALS: f64 = 1.6;
    /// Where it is loaded from: a reason to show, and no more.
    pub(crate) const LOADED: f64 = 0.1;
    /// Named by the code, and PHP's already: it gets nothing new.
    pub(crate) const NAMED_AND_PHPS: f64 = 2.0;
    /// Called as the application is, and PHP's already.
    pub(crate) const CALLED_SO_AND_PHPS: f64 = 1.6;
}

/// `evidence/packages.rs`.
pub(super) mod packages {
    /// A package makes it readable for PHP, and not for everybody.
    pub(crate) const SECRET: f64 = 1.0;
    /// A package gives it to PHP: the distribution has tried it.
    pub(crate) const WRITTEN: f64 = 2.0;
}

/// `evidence/placeholders.rs`.
pub(super) mod placeholders {
    /// Shipped empty, and what comes there is ignored.
    pub(crate) const IGNORED: f64 = 1.8;
    /// Closed to visitors, with an empty page besides, and called so.
    pub(crate) const CLOSED_WITH_PAGE: f64 = 1.2;
    /// Closed to visitors, or kept by a file, and called so.
    pub(crate) const CLOSED: f64 = 1.1;
    /// Shipped empty, and called so: asked.
    pub(crate) const EMPTY: f64 = 0.9;
    /// Kept by a file, under any name.
    pub(crate) const KEPT: f64 = 0.4;
    /// Shipped empty, under any name.
    pub(crate) const EMPTY_ALONE: f64 = 0.2;
}

/// `evidence/samples.rs`.
pub(super) mod samples {
    /// The sample has credentials to fill in, and the settings are there.
    pub(crate) const FILLED_AND_THERE: f64 = 2.4;
    /// The sample has credentials to fill in.
    pub(crate) const FILLED: f64 = 1.8;
    /// The main settings, made from a sample.
    pub(crate) const MAIN: f64 = 1.6;
    /// Other settings that are there.
    pub(crate) const OTHER: f64 = 0.8;
    /// Other settings that are not.
    pub(crate) const ABSENT: f64 = 0.4;
    /// Credentials in a file that is called as settings are.
    pub(crate) const CREDENTIALS_IN_SETTINGS: f64 = 1.7;
    /// Credentials in another file.
    pub(crate) const CREDENTIALS: f64 = 1.0;
    /// Less where it loads settings that are not there: those hold the passwords.
    pub(crate) const LOADS_OTHERS: f64 = 0.6;
    /// Less where it does more than to set, in a folder for settings.
    pub(crate) const CODE_IN_SETTINGS: f64 = 0.3;
    /// Less where it does more than to set, elsewhere: that is code.
    pub(crate) const CODE: f64 = 1.0;
    /// Less where nothing loads it.
    pub(crate) const LONELY: f64 = 0.4;
    /// Less for data of a build.
    pub(crate) const DATA: f64 = 0.8;
    /// More where it is loaded, whatever it is called.
    pub(crate) const LOADED: f64 = 0.6;
    /// Loaded by the code, and made at installation: asked.
    pub(crate) const MADE_AT_INSTALLATION: f64 = 0.9;
    /// Settings that this installation has.
    pub(crate) const OF_THIS_INSTALLATION: f64 = 0.6;
}

/// `evidence/watched.rs`.
pub(super) mod watched {
    /// PHP was seen to write there.
    pub(crate) const WRITTEN: f64 = 3.0;
}

/// `evidence/words.rs`.
pub(super) mod words {
    /// A script of the tree makes it writable.
    pub(crate) const SCRIPT: f64 = 1.6;
    /// A document says the command that makes it writable.
    pub(crate) const COMMAND: f64 = 2.0;
    /// A sentence or a list says that it must be writable.
    pub(crate) const SAID: f64 = 1.5;
    /// Named without quotes or slashes, it counts as much.
    pub(crate) const IN_PASSING: f64 = 0.7;
    /// A document says to remove it.
    pub(crate) const REMOVED: f64 = 2.0;
}
