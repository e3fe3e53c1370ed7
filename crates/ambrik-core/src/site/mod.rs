//! What a site file says: the site, its accounts, and what each of its parts is for.

mod edit;
mod host_file;
mod part;
mod pattern;
mod problem;
mod read;
mod system;

use std::fmt;
use std::path::{Path, PathBuf};

use jiff::civil::Date;

use crate::account::{Account, Gid, Ids};
use crate::mode::ModeSpec;
use crate::own::Exposed;

pub(crate) use edit::clear_beside;
pub use edit::{EditError, NewAccept, replace, save, with_accepted, with_moved};
pub use host_file::{HostFile, Source, kept_for};
pub use part::{OtherSite, Part};
pub use pattern::{Component, Pattern, PatternError};
pub use problem::{Problem, Problems};
pub use read::{
    FindOutline, NoOutline, Reading, is_name, part_paths, read, read_host_file, read_outline, read_within, root_of,
};
pub use system::is_systems;

/// One deployed PHP application, as its site file describes it.
#[derive(Clone, Debug)]
pub struct Site {
    /// The site's name: letters, digits, `.`, `_` and `-`.
    pub name: String,
    /// The site file itself.
    pub file: PathBuf,
    /// The outline that it goes by.
    pub outline: Option<String>,
    /// The application's folder: absolute, without `.` and `..`.
    pub root: PathBuf,
    /// The document root below `root`; empty where the whole root is served, absent where nothing is.
    pub served: Option<Pattern>,
    /// What the host says of what is served.
    pub serving: Serving,
    /// What the host says of how PHP makes files.
    pub making: crate::host::Making,
    /// PHP's own settings for the served folder, where they are known.
    pub php_settings: Option<crate::host::PhpSettings>,
    /// Where checks over HTTP ask.
    pub url: Option<String>,
    /// The pages below `url` that must answer after a change as they did before.
    pub pages: Vec<String>,
    /// The account that owns what must not change, with the ids that it has by itself.
    pub keeper: Account,
    /// The group that what it owns has, where no other group carries a right.
    pub keeper_group: crate::account::Gid,
    /// The account PHP code runs as.
    pub php: Account,
    /// The account the web server reads files as.
    pub web: Account,
    /// Whether all other accounts may read code.
    pub others: Others,
    /// How php gets to write.
    pub grant: Grant,
    /// The parts, in the order of the file.
    pub parts: Vec<Part>,
    /// The accounts besides keeper, php and web: those of the site file in its order, of its outline, of the host file; then those of
    /// the sites inside this one.
    pub access: Vec<Access>,
    /// The accepted exceptions, in the order of the file.
    pub accepts: Vec<Accept>,
    /// The SELinux booleans that the application needs to be on.
    pub switches: Vec<Switch>,
    /// The accounts that the file leaves out and the host told.
    pub detected: Vec<Detected>,
    /// How others than root and the caller could have written the file.
    pub exposed: Option<Exposed>,
}

/// An SELinux boolean that an application needs to be on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Switch {
    /// Its name.
    pub name: String,
    /// The file that says so.
    pub file: PathBuf,
    /// Its line, from 1.
    pub line: usize,
}

/// What a host says of what it serves of a site.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Serving {
    /// How it says otherwise than that the served folder is the document root.
    pub differs: Option<String>,
    /// What is served besides: what links in the served folder lead to, and aliases of a web server.
    pub too: Vec<ServedToo>,
    /// Archives and dumps beside the root, where a web server serves them; and what each is.
    pub beside: Vec<(PathBuf, &'static str)>,
    /// The folders around the root that a web server serves and that could not be listed.
    pub unseen: Vec<PathBuf>,
}

/// A folder of the site outside the document root that is served all the same.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServedToo {
    /// The folder, or file, from `/` on.
    pub path: PathBuf,
    /// How it is reached.
    pub because: String,
}

/// An account that the site file does not name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Detected {
    /// `php` or `web`.
    pub key: &'static str,
    /// The user.
    pub user: String,
    /// Where that was seen.
    pub because: String,
}

/// A set of words of which one stands in a site file.
pub trait Word: Copy + Sized + 'static {
    /// Every value with its word.
    const WORDS: &'static [(&'static str, Self)];

    /// The value that `word` stands for.
    #[must_use]
    fn of_word(word: &str) -> Option<Self> {
        Self::WORDS.iter().find(|(w, _)| *w == word).map(|(_, value)| *value)
    }
}

/// Declares an enum of which each variant has a word.
macro_rules! words {
    ($(#[$meta:meta])* $name:ident { $($(#[$doc:meta])* $variant:ident = $word:literal,)+ }) => {
        $(#[$meta])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum $name { $($(#[$doc])* $variant,)+ }

        impl Word for $name {
            const WORDS: &'static [(&'static str, Self)] = &[$(($word, Self::$variant)),+];
        }

        impl $name {
            /// The word for it.
            #[must_use]
            pub const fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),+ }
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.word())
            }
        }
    };
}
pub(crate) use words;

words! {
    /// What a part is for; the rights that follow are in [`crate::policy::row`].
    Use {
        /// Application code and assets.
        Code = "code",
        /// Settings with credentials, keys.
        Secret = "secret",
        /// Uploads, data the site must keep.
        Store = "store",
        /// Caches, sessions, temporary files.
        Scratch = "scratch",
        /// What the site logs.
        Log = "log",
        /// Installers.
        Setup = "setup",
        /// Stub pages, archives, notes: what goes, and nothing runs it.
        Remove = "remove",
        /// Kept, but nobody's business.
        Hidden = "hidden",
        /// Somebody else's: neither judged nor touched.
        Foreign = "foreign",
    }
}

words! {
    /// When php may write to a part.
    Write {
        /// Always.
        Always = "always",
        /// While the site is open for an install or upgrade.
        Install = "install",
        /// Never.
        Never = "never",
    }
}

words! {
    /// Whether all other accounts may read code.
    Others {
        /// They may.
        Read = "read",
        /// They may not.
        None = "none",
    }
}

words! {
    /// How php gets to write where it may.
    Grant {
        /// It owns these files.
        Owner = "owner",
        /// Through a group.
        Group = "group",
        /// Through an access list.
        Acl = "acl",
    }
}

words! {
    /// Whether a site is in its normal state.
    Phase {
        /// The normal state.
        Sealed = "sealed",
        /// In an install or upgrade window.
        Open = "open",
    }
}

impl Use {
    /// When php may write, where the site file does not say it.
    #[must_use]
    pub const fn default_write(self) -> Write {
        match self {
            Self::Store | Self::Scratch | Self::Log => Write::Always,
            Self::Code | Self::Secret | Self::Setup | Self::Remove | Self::Hidden | Self::Foreign => Write::Never,
        }
    }

    /// Whether it must be gone once the site is sealed.
    #[must_use]
    pub const fn goes(self) -> bool {
        matches!(self, Self::Setup | Self::Remove)
    }
}

words! {
    /// What an account besides keeper, php and web may do.
    May {
        /// Read.
        Read = "read",
        /// Read and write.
        Write = "write",
    }
}

/// Whom the site file gives access besides keeper, php and web.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Who {
    /// A user.
    User(Account),
    /// Whoever is in a group: its name and id.
    Group(String, Gid),
}

impl fmt::Display for Who {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::User(account) => f.write_str(&account.user),
            Self::Group(name, _) => write!(f, "group {name}"),
        }
    }
}

/// Access that keeper, php and web have nothing to do with.
#[derive(Clone, Debug)]
pub struct Access {
    /// Whose it is.
    pub who: Who,
    /// What may be done; nothing where it is only passed by, on the way to a site inside this one.
    pub may: Option<May>,
    /// Where, with everything below.
    pub patterns: Vec<Pattern>,
    /// Whether it is the whole site, absolute parts too.
    pub whole: bool,
}

/// As many accounts and groups can have access to one site.
pub const MOST_ACCESS: usize = u128::BITS as usize;

impl Access {
    /// Whether a process with these ids has it.
    #[must_use]
    pub fn is_of(&self, ids: &Ids) -> bool {
        match &self.who {
            Who::User(account) => account.ids.uid == ids.uid,
            Who::Group(_, gid) => ids.is_in(*gid),
        }
    }
}

/// What a part sets itself, for the cases that the solver does not know.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Overrides {
    /// The owner.
    pub owner: Option<crate::account::Uid>,
    /// The group.
    pub group: Option<crate::account::Gid>,
    /// Directories' mode.
    pub dir_mode: Option<ModeSpec>,
    /// Files' mode.
    pub file_mode: Option<ModeSpec>,
    /// The `SELinux` type.
    pub selinux_type: Option<String>,
}

impl Overrides {
    /// Whether they set anything of owner, group and mode.
    #[must_use]
    pub fn set_rights(&self) -> bool {
        self.owner.is_some() || self.group.is_some() || self.dir_mode.is_some() || self.file_mode.is_some()
    }
}

/// An accepted exception.
#[derive(Clone, Debug)]
pub struct Accept {
    /// The check's name.
    pub check: String,
    /// The paths, and everything below them.
    pub pattern: Pattern,
    /// Why.
    pub reason: String,
    /// The last day on which it holds.
    pub until: Option<Date>,
}

impl Accept {
    /// Whether it still holds on `day`.
    #[must_use]
    pub fn holds_on(&self, day: Date) -> bool {
        self.until.is_none_or(|until| day <= until)
    }
}

impl Site {
    /// Whether PHP runs as the account that owns what must not change, and that is not root.
    #[must_use]
    pub fn php_is_keeper(&self) -> bool {
        self.php.ids.uid == self.keeper.ids.uid && self.php.ids.uid != crate::account::Uid::ROOT
    }

    /// The site as it is in a window for these parts only: to all others php may write only what it always may, and
    /// nothing of them is made.
    #[must_use]
    pub fn open_for(&self, parts: &[String]) -> Self {
        let mut site = self.clone();
        for part in site.parts.iter_mut().filter(|part| !parts.contains(&part.shown)) {
            if part.write == Write::Install {
                part.write = Write::Never;
            }
            part.from = None;
            part.create = false;
        }
        site
    }

    /// `path` relative to the root, `.` for the root itself; unchanged where it is outside.
    #[must_use]
    pub fn relative(&self, path: &Path) -> PathBuf {
        match path.strip_prefix(&self.root) {
            Ok(rest) if rest.as_os_str().is_empty() => PathBuf::from("."),
            Ok(rest) => rest.to_owned(),
            Err(_) => path.to_owned(),
        }
    }

    /// The document root, from `/` on; nothing where nothing is served.
    #[must_use]
    pub fn served_folder(&self) -> Option<PathBuf> {
        Some(Path::new("/").join(self.served.as_ref()?.below(&self.root).as_path()?))
    }

    /// The parts that are not below the root.
    pub fn outside_parts(&self) -> impl Iterator<Item = &Part> {
        self.parts.iter().filter(|part| !part.pattern.is_below(&self.root))
    }

    /// The paths outside the root where parts begin: before the first wildcard of each, none inside another.
    #[must_use]
    pub fn outside_starts(&self) -> Vec<PathBuf> {
        let mut paths: Vec<PathBuf> =
            self.outside_parts().map(|part| Path::new("/").join(part.pattern.literal_prefix())).collect();
        paths.sort();
        paths.dedup();
        let mut starts: Vec<PathBuf> = Vec::new();
        for path in paths {
            // What is in a folder comes right behind it.
            if starts.last().is_none_or(|start| !path.starts_with(start)) && !path.starts_with(&self.root) {
                starts.push(path);
            }
        }
        starts
    }
}

/// The components of an absolute path from `/` on, `.` left out; nothing where there is a `..` or no leading `/`.
#[must_use]
pub fn absolute_components(path: &Path) -> Option<Vec<&std::ffi::OsStr>> {
    use std::path::Component;
    let mut components = path.components();
    if components.next() != Some(Component::RootDir) {
        return None;
    }
    components
        .map(|component| match component {
            Component::Normal(name) => Some(name),
            Component::CurDir | Component::RootDir | Component::ParentDir | Component::Prefix(_) => None,
        })
        .collect()
}
