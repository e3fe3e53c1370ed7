//! Files that hold a folder's place, or close it, and pages with nothing on them.

use std::path::Path;

use regex::Regex;

use super::deployed::Deployed;
use super::names::{is_control_file, lower_name};
use crate::check::is_php_name;
use crate::pattern::pattern;

/// Files that only hold a folder's place, or close it.
pub(crate) fn is_placeholder(deployed: &Deployed, path: &Path) -> Option<Placeholder> {
    let name = lower_name(path);
    let size = deployed.entries.get(path)?.size;
    match name.as_str() {
        name if is_control_file(name) => (size < 4096).then_some(Placeholder::Deny),
        "index.html" | "index.htm" | "index.php" | "index.txt" => {
            (size < 1024 && is_stub(deployed, path)).then_some(Placeholder::Stub)
        }
        ".gitignore" => Some(Placeholder::Ignore),
        ".gitkeep" | ".keep" | ".keepme" | ".empty" | ".dummy" | ".placeholder" | "empty" | "keep" | "placeholder"
        | ".svnkeep" | ".hgkeep" | "dummy.txt" | "_dummy" | "placeholder.txt" | "empty.txt" | "delete.me"
        | ".donotdelete" | ".exists" | ".nothing" | ".cvsignore" | ".hgignore" | "remove.txt" | "dummy" => {
            (size < 512).then_some(Placeholder::Keep)
        }
        name if name.starts_with("readme") => (size < 2048).then_some(Placeholder::Note),
        _ => None,
    }
}

/// What holds a folder's place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Placeholder {
    /// The web server is told to refuse what is there.
    Deny,
    /// An index page with nothing on it.
    Stub,
    /// Version control is told to leave out what comes there.
    Ignore,
    /// A file so that the folder is not empty.
    Keep,
    /// A few words.
    Note,
}

pattern!(ANY_CODE: Regex = r"(?i)\b(function|class|require|include|require_once|include_once|new|foreach|echo|return\s+[^\d;\s])|\$\w+[^;=\n]*=");
pattern!(COMMENTS: Regex = r"(?s)/\*.*?\*/|//[^\n]*|#[^\n]*|<!--.*?-->");

/// Whether a PHP or HTML file does nothing but end, send away, or stay empty.
pub(crate) fn is_stub(deployed: &Deployed, path: &Path) -> bool {
    let Some(text) = deployed.text(path, 4096) else { return false };
    let bare = COMMENTS.replace_all(&text, " ");
    if is_php_name(path) || bare.contains("<?php") {
        !ANY_CODE.is_match(&bare)
    } else {
        !bare.contains("<script") && !bare.contains("<form") && bare.len() < 600
    }
}
