//! The paths that findings are about.

use std::ffi::OsStr;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::finding::Found;
use super::{Audit, Finding};
use crate::inspect::{Deviation, DirData, Spot};
use crate::tree::Dir;

impl Audit {
    /// The paths of a finding, relative to the root, or absolute outside it; in order.
    pub fn paths<'f>(&'f self, finding: &'f Finding) -> impl Iterator<Item = PathBuf> + 'f {
        // They come by folders: what a folder is called is put together once.
        let mut folder: Option<(&Arc<Dir<DirData>>, PathBuf)> = None;
        finding.paths.iter().map(move |found| match found {
            Found::Path(path) => self.relative(path),
            Found::Deviation(number) => match &self.seen.deviants[*number as usize].spot {
                Spot::Start(number) => self.relative(&self.seen.starts[*number as usize].path),
                Spot::In(dir, name) => {
                    let known = folder.take().filter(|(known, _)| Arc::ptr_eq(known, dir));
                    let (dir, path) = known.unwrap_or_else(|| (dir, self.relative(&dir.path())));
                    let name = OsStr::from_bytes(name.to_bytes());
                    let found = if path == Path::new(".") { PathBuf::from(name) } else { path.join(name) };
                    folder = Some((dir, path));
                    found
                }
            },
        })
    }

    /// As [`Self::paths`], of very many: each is lent for as long as it is told.
    ///
    /// # Errors
    /// The first one of `tell`; nothing is told after that.
    pub fn each_path<E>(&self, finding: &Finding, mut tell: impl FnMut(&Path) -> Result<(), E>) -> Result<(), E> {
        let mut known: Option<&Arc<Dir<DirData>>> = None;
        let (mut path, mut folder_ends) = (Vec::new(), 0);
        for found in &finding.paths {
            let spot = match found {
                Found::Path(path) => {
                    tell(&self.relative(path))?;
                    continue;
                }
                Found::Deviation(number) => &self.seen.deviants[*number as usize].spot,
            };
            let Spot::In(dir, name) = spot else {
                tell(&self.spot_path(spot))?;
                continue;
            };
            if !known.is_some_and(|known| Arc::ptr_eq(known, dir)) {
                path = self.spot_path(spot).into_os_string().into_vec();
                folder_ends = path.len() - name.to_bytes().len();
                known = Some(dir);
            }
            path.truncate(folder_ends);
            path.extend_from_slice(name.to_bytes());
            tell(Path::new(OsStr::from_bytes(&path)))?;
        }
        Ok(())
    }

    fn spot_path(&self, spot: &Spot) -> PathBuf {
        self.relative(&self.whole_path(spot))
    }

    pub(crate) fn path(&self, deviant: &Deviation) -> PathBuf {
        self.whole_path(&deviant.spot)
    }

    fn whole_path(&self, spot: &Spot) -> PathBuf {
        match spot {
            Spot::Start(number) => self.seen.starts[*number as usize].path.clone(),
            Spot::In(dir, name) => dir.path_of(name),
        }
    }
}
