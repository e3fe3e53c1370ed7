//! A part of a site: paths with one use.

use std::path::PathBuf;

use super::{Overrides, Pattern, Use, Write};

/// A path of the site with one use.
#[derive(Clone, Debug)]
pub struct Part {
    /// The path as the site file gives it.
    pub shown: String,
    /// The paths that it names, from `/` on.
    pub pattern: Pattern,
    /// What it is for.
    pub used_as: Use,
    /// When php may write.
    pub write: Write,
    /// The sample below the root that is copied here on `open`.
    pub from: Option<PathBuf>,
    /// Whether it is made where it is missing.
    pub create: bool,
    /// Whether what is in it is its own too; else it is a directory alone, and that belongs to what is around it.
    pub deep: bool,
    /// Whether the web server may read it though it lies outside the document root.
    pub served: bool,
    /// What the site file sets instead of the solver.
    pub overrides: Overrides,
    /// Where it stands: the site file, or its outline.
    pub file: PathBuf,
    /// The line there where it begins, from 1; 0 where it is another site's.
    pub line: usize,
    /// The site whose folder it is, where that is another one: nothing in it is this site's, whatever other parts say.
    pub other: Option<OtherSite>,
}

/// A site inside another one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OtherSite {
    /// Its name.
    pub name: String,
    /// Whether accounts that the site around it does not have must get there.
    pub passed_by_others: bool,
}

/// Endings of names that files have and folders do not.
const FILES_END: &[&str] = &[
    "php",
    "phtml",
    "inc",
    "ini",
    "conf",
    "cfg",
    "cnf",
    "env",
    "yml",
    "yaml",
    "json",
    "xml",
    "toml",
    "neon",
    "properties",
    "txt",
    "log",
    "key",
    "pem",
    "crt",
    "sqlite",
    "sqlite3",
    "db",
    "lock",
    "html",
    "htm",
    "css",
    "js",
];
/// Names that files have and folders do not.
const FILES: &[&str] = &[".htaccess", ".htpasswd", ".env", ".user.ini", "php.ini", ".my.cnf", ".maintenance"];

impl Part {
    /// Whether what it names would be a file, as far as the site file tells: it has a sample, or a name as files have.
    #[must_use]
    pub fn is_file(&self) -> bool {
        let name =
            self.pattern.as_path().and_then(|path| path.file_name().map(|name| name.to_string_lossy().into_owned()));
        let name = name.unwrap_or_default().to_ascii_lowercase();
        let ends = name.rsplit_once('.').is_some_and(|(stem, end)| !stem.is_empty() && FILES_END.contains(&end));
        self.from.is_some() || ends || FILES.contains(&&*name) || name.starts_with(".env.")
    }

    /// Whether it is settings that an installer writes.
    #[must_use]
    pub fn is_installers(&self) -> bool {
        self.used_as == Use::Secret && self.write == Write::Install
    }
}
