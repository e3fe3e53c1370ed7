//! Samples of settings: read for a copy, and compared with what became of the copy.

use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};

use rustix::io::Errno;

use crate::audit::Audit;
use crate::entry::Kind;
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

fn root(audit: &Audit) -> Result<OwnedFd, Failure> {
    let start = audit.starts.first().ok_or(Failure::Replaced)?;
    sys::open_directory(&start.parent, &start.name).map_err(|errno| Failure::Os(Op::Open, errno))
}

impl Audit {
    /// The settings that are still empty, or as their sample is: nobody has run the installer.
    #[must_use]
    pub fn unfinished(&self) -> Vec<PathBuf> {
        let site = &self.site;
        let with_sample = site.parts.iter().filter_map(|part| Some((part, part.from.as_ref()?)));
        let untouched = with_sample.filter(|(part, sample)| {
            let path = part.pattern.as_path().map(|path| Path::new("/").join(path));
            let below = path.as_ref().and_then(|path| path.strip_prefix(&site.root).ok());
            let settings = below.and_then(|below| {
                let file = sys::open_beneath(root(self).ok()?, below).ok()?;
                content(&file).ok()
            });
            settings.is_some_and(|settings| settings.is_empty() || read(self, sample).is_ok_and(|s| s == settings))
        });
        untouched.map(|(part, _)| PathBuf::from(&part.shown)).collect()
    }
}
