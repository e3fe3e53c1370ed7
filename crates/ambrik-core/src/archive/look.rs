//! What is in an archive, found out before anything of it is written.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::ffi::{OsStr, OsString};
use std::io::Read;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use foldhash::fast::RandomState;

use super::judge::{is_no_part, is_to_be_read, path, stays};
use super::{Archive, ArchiveEntry, ArchiveError, EntryKind};
use crate::entry::{TreePath, begins_as_program};
use crate::shown::{Shown, size};

/// How much may come out of an archive.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// So many bytes are free where it is unpacked to.
    pub free: u64,
    /// So many times its own size may come out of it.
    pub ratio: u64,
    /// Below so many bytes the ratio is not looked at: small files of one sign pack well.
    pub small: u64,
    /// So many entries.
    pub entries: usize,
}

impl Limits {
    /// The usual ones, for so many free bytes.
    #[must_use]
    pub const fn usual(free: u64) -> Self {
        Self { free, ratio: 100, small: 64 << 20, entries: 2_000_000 }
    }
}

/// What an entry is laid down as.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PackedKind {
    /// A directory.
    Directory,
    /// A file.
    File {
        /// Its size in bytes.
        size: u64,
        /// Its BLAKE3 sum.
        sum: [u8; 32],
        /// Whether it begins as programs do and the archive says that it is one.
        program: bool,
    },
    /// A symlink to somewhere in the tree.
    Symlink(PathBuf),
}

/// An entry that is laid down.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PackedEntry {
    /// What it is.
    pub kind: PackedKind,
    /// The name in the archive that has its content; of a further name that of the first.
    pub(crate) content: PathBuf,
}

/// An entry that must not be unpacked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refused {
    /// Its name, fit to be shown.
    pub name: String,
    /// Why.
    pub why: &'static str,
}

/// An entry that is left in the archive.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Spared {
    /// Its path in the archive.
    pub path: PathBuf,
    /// Why.
    pub why: &'static str,
}

/// Entries by their paths, in no order: paths are told apart by their bytes, which is what they are compared by most.
type Entries = HashMap<OsString, PackedEntry, RandomState>;

/// An archive that is being read.
struct Reading<'r> {
    archive: &'r Archive,
    limits: Limits,
    /// How many entries were begun.
    number: usize,
    buffer: Box<[u8]>,
}

/// What is in an archive.
#[derive(Debug, Default)]
pub struct ArchiveLook {
    /// The archive's folder that is laid down; empty for all of it.
    pub inner: PathBuf,
    /// What is laid down, by its path below the site's root.
    pub entries: BTreeMap<TreePath<'static>, PackedEntry>,
    /// What is left in the archive: with a folder all that is in it.
    pub spared: Vec<Spared>,
    /// What must not be unpacked; with any of them nothing is.
    pub refused: Vec<Refused>,
    /// How many bytes its files have, and how many the archive.
    pub bytes: u64,
    /// How many bytes the archive has.
    pub packed: u64,
    /// How many entries have set-user-id or set-group-id bits there, and how many let every account write.
    pub special: usize,
    /// How many entries let every account write.
    pub open: usize,
}

/// Looks at an archive, whole. `inner` is the folder of it that is laid down, where somebody said so; `served` is the first
/// folder of the site's document root, which is then no wrapping.
///
/// Errors where it cannot be read, is broken, or passes a limit.
pub fn look(
    archive: &Archive,
    inner: Option<&Path>,
    served: Option<&OsStr>,
    limits: Limits,
) -> Result<ArchiveLook, ArchiveError> {
    let mut found = ArchiveLook { packed: archive.bytes(), ..ArchiveLook::default() };
    let mut entries = Entries::default();
    let mut reading = Reading { archive, limits, number: 0, buffer: vec![0; 1 << 14].into() };
    archive.each(&mut |entry, content| {
        reading.number += 1;
        if reading.number > limits.entries {
            return Err(too_large(archive, format!("it has more than {} entries", limits.entries)));
        }
        let refused = found.take(&mut reading, &mut entries, entry, content)?;
        // What is refused counts for the limits all the same.
        found.read(&mut reading, content, &mut |_| {})?;
        found.refused.extend(refused.map(|why| Refused { name: shown(&entry.name), why }));
        Ok(())
    })?;
    found.settle(entries, inner, served);
    Ok(found)
}

fn too_large(archive: &Archive, why: String) -> ArchiveError {
    ArchiveError::TooLarge { path: archive.path().to_owned(), why }
}

fn shown(name: &[u8]) -> String {
    Shown(Path::new(OsStr::from_bytes(name))).to_string()
}

impl ArchiveLook {
    /// Takes one entry; the answer is why it must not be unpacked.
    fn take(
        &mut self,
        reading: &mut Reading<'_>,
        entries: &mut Entries,
        entry: &ArchiveEntry,
        content: &mut dyn Read,
    ) -> Result<Option<&'static str>, ArchiveError> {
        let path = match path(&entry.name) {
            Ok(path) => path,
            Err(why) => return Ok(Some(why)),
        };
        if entry.encrypted {
            return Ok(Some("it is encrypted"));
        }
        // What archives say of links is nothing.
        if !matches!(entry.kind, EntryKind::Symlink(_)) {
            self.special += usize::from(entry.mode & 0o6000 != 0);
            self.open += usize::from(entry.mode & 0o002 != 0);
        }
        let (kind, of) = match &entry.kind {
            EntryKind::Other(what) => return Ok(Some(what)),
            EntryKind::Directory => (PackedKind::Directory, path.clone()),
            EntryKind::Symlink(target) => (PackedKind::Symlink(PathBuf::from(OsStr::from_bytes(target))), path.clone()),
            EntryKind::HardLink(target) => {
                let first = super::judge::path(target).ok().and_then(|target| entries.get(target.as_os_str()));
                match first {
                    Some(first) if matches!(first.kind, PackedKind::File { .. }) => {
                        (first.kind.clone(), first.content.clone())
                    }
                    _ => return Ok(Some("it is a further name of a file that is not before it in the archive")),
                }
            }
            EntryKind::File => {
                let kind = self.file(reading, entry, content)?;
                (kind, path.clone())
            }
        };
        if path.as_os_str().is_empty() {
            return Ok((kind != PackedKind::Directory).then_some("it has no name"));
        }
        match entries.get(path.as_os_str()) {
            Some(known) if known.kind == PackedKind::Directory && kind == PackedKind::Directory => return Ok(None),
            Some(_) => return Ok(Some("it is in the archive twice")),
            None => {}
        }
        entries.insert(path.into_os_string(), PackedEntry { kind, content: of });
        Ok(None)
    }

    fn file(
        &mut self,
        reading: &mut Reading<'_>,
        entry: &ArchiveEntry,
        content: &mut dyn Read,
    ) -> Result<PackedKind, ArchiveError> {
        let mut hasher = blake3::Hasher::new();
        let mut head = Vec::new();
        let length = self.read(reading, content, &mut |piece| {
            if head.len() < 4 {
                head.extend_from_slice(&piece[..piece.len().min(4)]);
            }
            hasher.update(piece);
        })?;
        let program = entry.mode & 0o111 != 0 && begins_as_program(&head);
        Ok(PackedKind::File { size: length, sum: *hasher.finalize().as_bytes(), program })
    }

    /// Reads an entry to its end, within the limits; the answer is how many bytes that were.
    fn read(
        &mut self,
        reading: &mut Reading<'_>,
        content: &mut dyn Read,
        each: &mut dyn FnMut(&[u8]),
    ) -> Result<u64, ArchiveError> {
        let Reading { archive, limits, number, buffer } = reading;
        let mut length = 0;
        loop {
            let count = content.read(buffer).map_err(|cause| archive.broken(*number, cause))?;
            if count == 0 {
                return Ok(length);
            }
            length += count as u64;
            self.bytes += count as u64;
            if self.bytes > limits.free {
                let why =
                    format!("more than the {} that are free comes out of its {}", size(limits.free), size(self.packed));
                return Err(too_large(archive, why));
            }
            if self.bytes > limits.small && self.bytes / limits.ratio > self.packed {
                let why = format!(
                    "more than {} times its {} comes out of it (more than {} is free, but no application packs so well)",
                    limits.ratio,
                    size(self.packed),
                    size(limits.free)
                );
                return Err(too_large(archive, why));
            }
            each(&buffer[..count]);
        }
    }

    /// Finds the folder that is laid down, and judges what is in it as the tree that it will be.
    fn settle(&mut self, entries: Entries, inner: Option<&Path>, served: Option<&OsStr>) {
        let (mut whole, mut spared) = (Vec::new(), BTreeMap::<PathBuf, _>::new());
        for (path, entry) in entries.into_iter().map(|(path, entry)| (PathBuf::from(path), entry)) {
            match is_no_part(&path) {
                Some(why) => drop(spared.insert(path, why)),
                None => whole.push((path, entry)),
            }
        }
        self.inner = inner.map_or_else(|| wrapping(&whole, served), |inner| inner.components().collect());
        let mut inside = Vec::new();
        if self.inner.as_os_str().is_empty() {
            inside = std::mem::take(&mut whole);
        }
        for (path, entry) in whole {
            match path.strip_prefix(&self.inner) {
                Ok(below) if below.as_os_str().is_empty() => {}
                Ok(below) => inside.push((below.to_owned(), entry)),
                Err(_) if self.inner.starts_with(&path) => {}
                Err(_) => drop(spared.insert(path, "it lies beside the application's folder")),
            }
        }
        self.entries = inside.into_iter().map(|(path, entry)| (path.into(), entry)).collect();
        let tops = spared.iter().filter(|(path, _)| !path.ancestors().skip(1).any(|above| spared.contains_key(above)));
        self.spared = tops.map(|(path, why)| Spared { path: path.clone(), why }).collect();
        self.judge();
    }

    /// What is below a file or a symlink, and symlinks that lead out; directories that only names say are added.
    fn judge(&mut self) {
        let links = |path: &Path| match &self.entries.get(&TreePath::of(path))?.kind {
            PackedKind::Symlink(target) => Some(target.clone()),
            _ => None,
        };
        let mut refuse: Vec<(PathBuf, &'static str)> = Vec::new();
        let mut above: BTreeMap<TreePath<'static>, PackedEntry> = BTreeMap::new();
        let kinds: HashMap<&OsStr, &PackedKind, RandomState> =
            self.entries.iter().map(|(path, entry)| (path.as_ref().as_os_str(), &entry.kind)).collect();
        // Directories that have nothing but directories above them.
        let mut sound: HashSet<&OsStr, RandomState> = HashSet::default();
        for (path, entry) in self.entries.iter().map(|(path, entry)| (path.as_ref(), entry)) {
            let refused_before = refuse.len();
            for over in path.ancestors().skip(1).filter(|over| !over.as_os_str().is_empty()) {
                if sound.contains(over.as_os_str()) {
                    break;
                }
                match kinds.get(over.as_os_str()) {
                    None => {
                        let (kind, content) = (PackedKind::Directory, self.inner.join(over));
                        above.insert(over.to_owned().into(), PackedEntry { kind, content });
                    }
                    Some(PackedKind::Directory) => {}
                    Some(PackedKind::Symlink(_)) => {
                        refuse.push((path.to_owned(), "it lies below a symlink of the archive"));
                    }
                    Some(PackedKind::File { .. }) => {
                        refuse.push((path.to_owned(), "it lies below a file of the archive"));
                    }
                }
            }
            if refuse.len() == refused_before {
                sound.extend(path.parent().map(Path::as_os_str));
            }
            if let PackedKind::Symlink(target) = &entry.kind
                && let Err(why) = stays(&links, path, target)
            {
                refuse.push((path.to_owned(), why));
            }
        }
        let told =
            refuse.into_iter().map(|(path, why)| Refused { name: Shown(&self.inner.join(path)).to_string(), why });
        self.refused.extend(told);
        self.entries.extend(above);
    }

    /// How many files, directories and symlinks are laid down.
    #[must_use]
    pub fn counts(&self) -> (usize, usize, usize) {
        let count = |is: fn(&PackedKind) -> bool| self.entries.values().filter(|entry| is(&entry.kind)).count();
        (
            count(|kind| matches!(kind, PackedKind::File { .. })),
            count(|kind| *kind == PackedKind::Directory),
            count(|kind| matches!(kind, PackedKind::Symlink(_))),
        )
    }
}

/// The folder that wraps the application: the only one, with nothing beside it but what is to be read; again inside.
fn wrapping(entries: &[(PathBuf, PackedEntry)], served: Option<&OsStr>) -> PathBuf {
    let mut inner = PathBuf::new();
    loop {
        let mut folders = std::collections::BTreeSet::new();
        let mut others = false;
        for (path, entry) in entries {
            let Ok(below) = path.strip_prefix(&inner) else { continue };
            let Some(first) = below.iter().next() else { continue };
            let alone = below.iter().count() == 1;
            if !alone || entry.kind == PackedKind::Directory {
                folders.insert(first.to_owned());
            } else {
                others |= !is_to_be_read(Path::new(first));
            }
        }
        match folders.first() {
            Some(only) if folders.len() == 1 && !others && Some(only.as_os_str()) != served => inner.push(only),
            _ => return inner,
        }
    }
}

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
