//! Samples of settings: read for a copy, and compared with what became of the copy.

use std::os::fd::OwnedFd;
use std::path::Path;

use regex::bytes::Regex;
use rustix::io::Errno;

use crate::audit::Audit;
use crate::entry::Kind;
use crate::pattern::pattern;
use crate::site::Part;
use crate::tree::{Failure, Op, sys};

/// No sample of settings is longer.
const LONGEST: usize = 1 << 20;

/// What a sample holds. It is read as root and then given to PHP: no link on the way is followed, and a file that has
/// another name elsewhere is refused.
pub(super) fn read(audit: &Audit, sample: &Path) -> Result<Vec<u8>, Failure> {
    let failed = |errno| Failure::Os(Op::Read, errno);
    let file = sys::open_beneath(root(audit)?, sample).map_err(failed)?;
    content(&file)
}

fn content(file: &OwnedFd) -> Result<Vec<u8>, Failure> {
    let failed = |errno| Failure::Os(Op::Read, errno);
    let facts = sys::look_at(file).map_err(failed)?;
    if facts.kind != Kind::File {
        return Err(failed(Errno::INVAL));
    }
    if facts.links > 1 {
        return Err(Failure::SecondName(facts.links, 1));
    }
    sys::content(file, LONGEST).map_err(failed)
}

/// Whether a file of the site holds nothing.
pub(super) fn is_empty(audit: &Audit, path: &Path) -> bool {
    let below = path.strip_prefix(&audit.site.root).ok();
    let file = below.and_then(|below| sys::open_beneath(root(audit).ok()?, below).ok());
    file.and_then(|file| content(&file).ok()).is_some_and(|content| content.is_empty())
}

fn root(audit: &Audit) -> Result<OwnedFd, Failure> {
    let start = audit.seen.starts.first().ok_or(Failure::Replaced)?;
    sys::open_directory(&start.parent, &start.name).map_err(|errno| Failure::Os(Op::Open, errno))
}

pattern!(
/// A key that installers make, or the mark that one ran, still without a value.
WITHOUT_VALUE: Regex = &{
    let key = r"\w*(?:secret|salt|(?:app|auth|encryption|security|crypt|cookie|hash|nonce)_?key)\w*";
    let nothing = r#"(?:''|""|['"](?:change[ _-]?me|put your[^'"\n]*|your[ _-][^'"\n]*here)['"])"#;
    let unmade = format!(r#"['"]?\b{key}['"]?\s*\]?\s*(?:=>|=|,|:)\s*(?:{nothing}|$)"#);
    let mark = r#"['"]?\b(?:is_?)?installed['"]?\s*\]?\s*(?:=>|=|,|:)\s*['"]?(?:false|no|0)\b"#;
    format!("(?im){unmade}|{mark}")
});

/// Why settings look as if no installer had run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unfinished {
    /// The settings, as the site file names them.
    pub part: String,
    /// What is wrong with them.
    pub why: &'static str,
}

impl Audit {
    /// The settings of a site whose installer has not run: missing, empty, as their sample is, or without the values that
    /// installers fill in.
    #[must_use]
    pub fn unfinished(&self) -> Vec<Unfinished> {
        let has_installer = self.has_installer();
        let site = &self.site;
        let settings = site.parts.iter().filter(|part| part.from.is_some() || (has_installer && part.is_installers()));
        let why = |part: &Part| self.why_unfinished(part, has_installer);
        settings.filter_map(|part| Some(Unfinished { part: part.shown.clone(), why: why(part)? })).collect()
    }

    fn why_unfinished(&self, part: &Part, has_installer: bool) -> Option<&'static str> {
        let path = Path::new("/").join(part.pattern.as_path()?);
        let below = path.strip_prefix(&self.site.root).ok()?;
        let file = match sys::open_beneath(root(self).ok()?, below) {
            Err(Errno::NOENT) => return has_installer.then_some("is not there"),
            file => file.ok()?,
        };
        let settings = content(&file).ok()?;
        if settings.trim_ascii().is_empty() {
            return Some("is empty");
        }
        if part.from.as_ref().is_some_and(|sample| read(self, sample).is_ok_and(|sample| sample == settings)) {
            return Some("is as its sample is");
        }
        let without = WITHOUT_VALUE.is_match(&settings);
        (has_installer && without).then_some("is without a value that installers fill in")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::key("'secret_key' => '',", true)]
    #[case::environment("APP_KEY=\nDEBUG=0\n", true)]
    #[case::constant("define('AUTH_SALT', 'put your unique phrase here');", true)]
    #[case::mark("$config['installed'] = false;", true)]
    #[case::filled_in("'secret_key' => 'x', 'password' => '', 'prefix' => ''", false)]
    #[case::environment_filled_in("APP_KEY=base64:x\nMAIL=\n", false)]
    #[case::mark_set("'installed' => true", false)]
    fn what_installers_fill_in(#[case] text: &str, #[case] want: bool) {
        assert_eq!(WITHOUT_VALUE.is_match(text.as_bytes()), want);
    }
}
