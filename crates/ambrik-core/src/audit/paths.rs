//! The paths that findings are about.

use std::ffi::OsStr;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::found::Met;
use super::{Audit, Finding};
use crate::inspect::{Deviation, SiteDir, Spot};

/// Puts the paths of findings together. They come by folders: what a folder is called is put together once.
struct Speller<'a> {
    audit: &'a Audit,
    /// The folder of the last one.
    folder: Option<&'a Arc<SiteDir>>,
    path: Vec<u8>,
    /// Where the folder's part of it ends.
    folder_ends: usize,
}

impl<'a> Speller<'a> {
    const fn new(audit: &'a Audit) -> Self {
        Self { audit, folder: None, path: Vec::new(), folder_ends: 0 }
    }

    fn spell(&mut self, found: &Met<'a>) -> &Path {
        let whole = match found {
            Met::Path(path) => {
                self.folder = None;
                self.audit.relative(path)
            }
            Met::Deviation(deviant) => {
                match deviant.spot {
                    Spot::In(dir, name) if self.folder.is_some_and(|known| Arc::ptr_eq(known, dir)) => {
                        self.path.truncate(self.folder_ends);
                        self.path.extend_from_slice(name.to_bytes());
                        return self.spelt();
                    }
                    Spot::In(dir, _) => self.folder = Some(dir),
                    Spot::Start(_) => self.folder = None,
                }
                self.audit.relative(&self.audit.path(deviant))
            }
        };
        let name = whole.file_name().map_or(0, OsStr::len);
        self.path = whole.into_os_string().into_vec();
        self.folder_ends = self.path.len() - name;
        self.spelt()
    }

    fn spelt(&self) -> &Path {
        Path::new(OsStr::from_bytes(&self.path))
    }
}

impl Audit {
    /// The paths of a finding, relative to the root, or absolute outside it; in order.
    pub fn paths<'f>(&'f self, finding: &'f Finding) -> impl Iterator<Item = PathBuf> + 'f {
        let mut speller = Speller::new(self);
        finding.paths.of(&self.seen.deviants).map(move |found| speller.spell(&found).to_owned())
    }

    /// As [`Self::paths`], of very many: each is lent for as long as it is told.
    ///
    /// # Errors
    /// The first one of `tell`; nothing is told after that.
    pub fn each_path<E>(&self, finding: &Finding, mut tell: impl FnMut(&Path) -> Result<(), E>) -> Result<(), E> {
        let mut speller = Speller::new(self);
        finding.paths.of(&self.seen.deviants).try_for_each(|found| tell(speller.spell(&found)))
    }

    pub(crate) fn path(&self, deviant: &Deviation<'_>) -> PathBuf {
        match deviant.spot {
            Spot::Start(number) => self.seen.starts[number as usize].path.clone(),
            Spot::In(dir, name) => dir.path_of(name),
        }
    }
}
