//! The keepsake: a tar archive (POSIX.1 pax format) in the state directory that holds what was removed, with
//! owners, modes, times, access lists, extended attributes and links.

use std::collections::HashMap;
use std::ffi::{CStr, CString, OsString};
use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

use rustix::io::Errno;
use tar::{EntryType, Header};

use super::folder::{as_os, c_name, split};
use crate::account::{Gid, Uid};
use crate::entry::{Facts, Identity, Kind};
use crate::mode::Mode;
use crate::tree::sys::{self, Times};
use crate::tree::{Failure, Op};

/// A path that was put into a keepsake: what may be removed, if it is still that.
#[derive(Clone, Debug)]
pub(crate) struct Packed {
    /// The path without links, from the host's `/` on.
    pub(crate) path: PathBuf,
    pub(crate) id: Identity,
    pub(crate) kind: Kind,
    size: u64,
    modified: (i64, u32),
}

/// A path, and why nothing could be done with it.
pub(crate) type PathFailure = (PathBuf, Failure);

/// An archive being written.
pub(crate) struct Packer<W: Write> {
    archive: Option<tar::Builder<W>>,
    links: HashMap<Identity, PathBuf>,
    packed: Vec<Packed>,
}

impl<W: Write> Packer<W> {
    /// A packer that writes to `to`; without it, one that only lists what would be removed.
    pub(crate) fn new(to: Option<W>) -> Self {
        Self { archive: to.map(tar::Builder::new), links: HashMap::new(), packed: Vec::new() }
    }

    /// Puts `name` in `dir`, and everything below it, into the archive; `path` is its whole path.
    pub(crate) fn add(
        &mut self,
        dir: BorrowedFd<'_>,
        name: &CStr,
        path: &Path,
        id: Option<Identity>,
    ) -> Result<(), PathFailure> {
        let failed = |op| move |errno| (path.to_owned(), Failure::Os(op, errno));
        let handle = sys::pin(dir, name).map_err(failed(Op::Open))?;
        let facts = sys::look_whole(&handle).map_err(failed(Op::Look))?;
        if id.is_some_and(|id| id != facts.id) {
            return Err((path.to_owned(), Failure::Replaced));
        }
        if facts.mounted {
            return Err((path.to_owned(), Failure::Os(Op::Keep, Errno::XDEV)));
        }
        let times = sys::times(&handle).map_err(failed(Op::Look))?;
        self.write(dir, name, path, &handle, &facts, times)?;
        let Facts { id, kind, size, .. } = facts;
        self.packed.push(Packed { path: path.to_owned(), id, kind, size, modified: times.modified });
        if kind == Kind::Directory {
            let listed = sys::open_directory(dir, name).map_err(failed(Op::List))?;
            if sys::look_at(&listed).map_err(failed(Op::Look))?.id != id {
                return Err((path.to_owned(), Failure::Replaced));
            }
            let mut names = sys::names(&listed).map_err(failed(Op::List))?;
            names.sort();
            for name in names {
                self.add(listed.as_fd(), &name, &path.join(as_os(&name)), None)?;
            }
        }
        Ok(())
    }

    fn write(
        &mut self,
        dir: BorrowedFd<'_>,
        name: &CStr,
        path: &Path,
        handle: &OwnedFd,
        facts: &Facts,
        times: Times,
    ) -> Result<(), PathFailure> {
        let Some(archive) = &mut self.archive else { return Ok(()) };
        let failed = |op| move |errno| (path.to_owned(), Failure::Os(op, errno));
        let kept = |cause: io::Error| {
            (path.to_owned(), Failure::Os(Op::Keep, Errno::from_io_error(&cause).unwrap_or(Errno::IO)))
        };
        let mut records = Records::default();
        records.add(b"path", inside(path));
        records.add(b"mtime", shown_time(times.modified).as_bytes());
        records.add(b"atime", shown_time(times.accessed).as_bytes());
        let mut header = Header::new_ustar();
        header.set_mode(facts.rights.mode.bits().into());
        header.set_uid(facts.rights.uid.0.into());
        header.set_gid(facts.rights.gid.0.into());
        header.set_mtime(u64::try_from(times.modified.0).unwrap_or(0));
        let first = if facts.links > 1 && facts.kind != Kind::Directory { self.links.get(&facts.id) } else { None };
        let mut content: Box<dyn Read> = Box::new(io::empty());
        header.set_size(0);
        header.set_entry_type(match facts.kind {
            _ if first.is_some() => EntryType::Link,
            Kind::File => EntryType::Regular,
            Kind::Directory => EntryType::Directory,
            Kind::Symlink => EntryType::Symlink,
            Kind::Fifo | Kind::Socket => EntryType::Fifo,
            Kind::Device => EntryType::Char,
        });
        if let Some(first) = first {
            records.add(b"linkpath", inside(first));
        } else {
            match facts.kind {
                Kind::Symlink => records.add(b"linkpath", &sys::read_link(handle, c"").map_err(failed(Op::Read))?),
                Kind::Socket => records.add(SOCKET, b"1"),
                Kind::Device => return Err((path.to_owned(), Failure::Os(Op::Keep, Errno::NOTSUP))),
                Kind::File => {
                    let file = sys::open_file(dir, name).map_err(failed(Op::Read))?;
                    if sys::look_at(&file).map_err(failed(Op::Look))?.id != facts.id {
                        return Err((path.to_owned(), Failure::Replaced));
                    }
                    header.set_size(facts.size);
                    content = Box::new(Whole { inner: File::from(file), left: facts.size });
                }
                Kind::Directory | Kind::Fifo => {}
            }
            if facts.kind != Kind::Symlink {
                for (name, value) in sys::attributes(handle).map_err(failed(Op::Read))? {
                    records.add(&[ATTRIBUTE, &name].concat(), &value);
                }
            }
        }
        // The header's own path is only for readers that know no extended headers.
        let short = format!("ambrik/{}", self.packed.len());
        header.set_path(&short).map_err(kept)?;
        header.set_cksum();
        records.write(archive, &short).map_err(kept)?;
        archive.append(&header, &mut *content).map_err(kept)?;
        if facts.links > 1 && facts.kind != Kind::Directory {
            self.links.entry(facts.id).or_insert_with(|| path.to_owned());
        }
        Ok(())
    }

    /// Ends the archive. The answer is what it was written to, and what is in it, folders before their content.
    pub(crate) fn finish(self) -> io::Result<(Option<W>, Vec<Packed>)> {
        let to = self.archive.map(tar::Builder::into_inner).transpose()?;
        Ok((to, self.packed))
    }
}

/// The prefix of an extended attribute's record, as other archivers name it.
const ATTRIBUTE: &[u8] = b"SCHILY.xattr.";
/// Marks an entry as a socket, which tar has no type for.
const SOCKET: &[u8] = b"AMBRIK.socket";

/// Archives hold paths without the leading `/`.
fn inside(path: &Path) -> &[u8] {
    let bytes = path.as_os_str().as_bytes();
    bytes.strip_prefix(b"/").unwrap_or(bytes)
}

fn shown_time((seconds, nanos): (i64, u32)) -> String {
    match (seconds, nanos) {
        // pax times are decimal fractions: -0.25 is a quarter of a second before 1970.
        (s, n) if s < 0 && n > 0 => format!("-{}.{:09}", -(s + 1), 1_000_000_000 - n),
        (s, n) => format!("{s}.{n:09}"),
    }
}

fn read_time(text: &[u8]) -> Option<(i64, u32)> {
    let text = std::str::from_utf8(text).ok()?;
    let (negative, text) = text.strip_prefix('-').map_or((false, text), |rest| (true, rest));
    let (seconds, fraction) = text.split_once('.').unwrap_or((text, ""));
    let seconds: i64 = seconds.parse().ok()?;
    let nanos: u32 = format!("{fraction:0<9}").get(..9)?.parse().ok()?;
    match (negative, nanos) {
        (false, nanos) => Some((seconds, nanos)),
        (true, 0) => Some((-seconds, 0)),
        (true, nanos) => Some((-seconds - 1, 1_000_000_000 - nanos)),
    }
}

/// A file that must yield as much as it said it holds.
struct Whole {
    inner: File,
    left: u64,
}

impl Read for Whole {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let most = usize::try_from(self.left).unwrap_or(usize::MAX).min(buffer.len());
        if most == 0 {
            return Ok(0);
        }
        let length = self.inner.read(&mut buffer[..most])?;
        if length == 0 {
            return Err(Errno::IO.into());
        }
        self.left -= length as u64;
        Ok(length)
    }
}

/// The records of an extended header (POSIX.1 pax: "length keyword=value\n").
#[derive(Default)]
struct Records(Vec<u8>);

impl Records {
    fn add(&mut self, keyword: &[u8], value: &[u8]) {
        let rest = keyword.len() + value.len() + 3;
        let mut length = rest + 1;
        while length != rest + length.to_string().len() {
            length = rest + length.to_string().len();
        }
        self.0.extend_from_slice(format!("{length} ").as_bytes());
        self.0.extend_from_slice(keyword);
        self.0.push(b'=');
        self.0.extend_from_slice(value);
        self.0.push(b'\n');
    }

    fn write<W: Write>(&self, archive: &mut tar::Builder<W>, short: &str) -> io::Result<()> {
        let mut header = Header::new_ustar();
        header.set_entry_type(EntryType::XHeader);
        header.set_size(self.0.len() as u64);
        header.set_mode(0o600);
        header.set_path(format!("{short}.pax"))?;
        header.set_cksum();
        archive.append(&header, &*self.0)
    }

    /// The records in the bytes of an extended header; one that is cut off ends them.
    fn read(mut bytes: &[u8]) -> Vec<(Vec<u8>, Vec<u8>)> {
        let mut records = Vec::new();
        while let Some(space) = bytes.iter().position(|&b| b == b' ') {
            let length = std::str::from_utf8(&bytes[..space]).ok().and_then(|text| text.parse::<usize>().ok());
            let Some(record) = length.and_then(|length| bytes.get(space + 1..length)) else { break };
            let Some((b'\n', record)) = record.split_last() else { break };
            let Some(equals) = record.iter().position(|&b| b == b'=') else { break };
            records.push((record[..equals].to_vec(), record[equals + 1..].to_vec()));
            bytes = &bytes[space + 2 + record.len()..];
        }
        records
    }
}

/// Removes what was packed, the content before its folder, each only if it is still what was packed.
pub(crate) fn remove(packed: &[Packed], open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>) -> Vec<PathFailure> {
    let mut failures = Vec::new();
    let mut folder: Option<(PathBuf, OwnedFd)> = None;
    for item in packed.iter().rev() {
        let removed = (|| {
            let (above, name) = split(&item.path).ok_or(Failure::Os(Op::Remove, Errno::INVAL))?;
            let name = c_name(name)?;
            if folder.as_ref().is_none_or(|(path, _)| path != above) {
                folder = Some((above.to_owned(), open(above)?));
            }
            let Some((_, dir)) = &folder else { return Err(Failure::Replaced) };
            remove_one(dir, &name, item)
        })();
        if let Err(failure) = removed {
            failures.push((item.path.clone(), failure));
        }
    }
    failures
}

fn remove_one(dir: &OwnedFd, name: &CStr, item: &Packed) -> Result<(), Failure> {
    let handle = sys::pin(dir, name).map_err(|errno| Failure::Os(Op::Open, errno))?;
    let facts = sys::look_at(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
    let times = sys::times(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
    let changed = item.kind == Kind::File && (facts.size, times.modified) != (item.size, item.modified);
    if facts.id != item.id || facts.kind != item.kind || changed {
        return Err(Failure::Replaced);
    }
    sys::unlink(dir, name, item.kind == Kind::Directory).map_err(|errno| Failure::Os(Op::Remove, errno))
}

/// One entry of an archive.
struct Kept {
    path: PathBuf,
    kind: EntryType,
    socket: bool,
    uid: Uid,
    gid: Gid,
    mode: Mode,
    times: Times,
    link: Option<Vec<u8>>,
    attributes: Vec<(Vec<u8>, Vec<u8>)>,
}

/// Puts everything of an archive that is `root` or below it back where it was; nothing that is there is overwritten.
///
/// `open` gives a handle on a directory by its path. The answer is how many paths came back, and which did not.
pub(crate) fn restore(
    archive: impl Read,
    root: &Path,
    open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
) -> io::Result<(u64, Vec<PathFailure>)> {
    let mut archive = tar::Archive::new(archive);
    let mut records = Vec::new();
    let mut folders: Vec<(Identity, Kept)> = Vec::new();
    let (mut done, mut failures) = (0, Vec::new());
    for entry in archive.entries()?.raw(true) {
        let mut entry = entry?;
        if entry.header().entry_type() == EntryType::XHeader {
            let mut bytes = Vec::new();
            entry.read_to_end(&mut bytes)?;
            records = Records::read(&bytes);
            continue;
        }
        let Some(kept) = Kept::of(entry.header(), std::mem::take(&mut records)) else {
            return Err(io::Error::new(
                io::ErrorKind::InvalidData,
                "the keepsake holds an entry that Ambrik does not write",
            ));
        };
        if !kept.path.starts_with(root) {
            continue;
        }
        match kept.make(&mut entry, open) {
            Ok(folder) => {
                done += 1;
                folders.extend(folder.map(|id| (id, kept)));
            }
            Err(failure) => failures.push((kept.path, failure)),
        }
    }
    // A folder's own mode and times come last: making its content would change or need them.
    for (id, folder) in folders.into_iter().rev() {
        if let Err(failure) = folder.dress_folder(id, open) {
            failures.push((folder.path, failure));
        }
    }
    Ok((done, failures))
}

impl Kept {
    fn of(header: &Header, records: Vec<(Vec<u8>, Vec<u8>)>) -> Option<Self> {
        let record = |key: &[u8]| records.iter().find(|(k, _)| k == key).map(|(_, value)| value.clone());
        let times = Times { accessed: read_time(&record(b"atime")?)?, modified: read_time(&record(b"mtime")?)? };
        let path = Path::new("/").join(OsString::from_vec(record(b"path")?));
        super::super::site::absolute_components(&path)?;
        let (link, socket) = (record(b"linkpath"), record(SOCKET).is_some());
        let attributes =
            records.into_iter().filter_map(|(key, value)| Some((key.strip_prefix(ATTRIBUTE)?.to_vec(), value)));
        Some(Self {
            path,
            kind: header.entry_type(),
            socket,
            uid: Uid(header.uid().ok()?.try_into().ok()?),
            gid: Gid(header.gid().ok()?.try_into().ok()?),
            mode: Mode::new(header.mode().ok()?.try_into().ok()?)?,
            times,
            link,
            attributes: attributes.collect(),
        })
    }

    fn place(&self, open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>) -> Result<(OwnedFd, CString), Failure> {
        let (above, name) = split(&self.path).ok_or(Failure::Os(Op::Create, Errno::INVAL))?;
        Ok((open(above)?, c_name(name)?))
    }

    /// Makes it, and, apart from folders, gives it all that it had. The answer is which folder it is, if it is one.
    fn make(
        &self,
        content: &mut impl Read,
        open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
    ) -> Result<Option<Identity>, Failure> {
        let (dir, name) = self.place(open)?;
        let made = |errno| match errno {
            Errno::EXIST => Failure::NotOurs("something else is there now".into()),
            errno => Failure::Os(Op::Create, errno),
        };
        // What is dressed is what was made: whoever may write to the directory can put something else there at once.
        let handle = match self.kind {
            EntryType::Directory => {
                sys::create_directory(&dir, &name).map_err(made)?;
                let handle = newly_made(&dir, &name, Kind::Directory)?;
                return sys::look_at(&handle).map(|facts| Some(facts.id)).map_err(|errno| Failure::Os(Op::Look, errno));
            }
            EntryType::Symlink => {
                sys::make_symlink(&dir, &name, self.link.as_deref().unwrap_or_default()).map_err(made)?;
                newly_made(&dir, &name, Kind::Symlink)?
            }
            EntryType::Link => {
                return self.make_link(&dir, &name, open).map(|()| None).map_err(|failure| match failure {
                    Failure::Os(_, errno) => made(errno),
                    other => other,
                });
            }
            EntryType::Fifo => {
                sys::make_special(&dir, &name, self.socket).map_err(made)?;
                newly_made(&dir, &name, if self.socket { Kind::Socket } else { Kind::Fifo })?
            }
            _ => {
                let mut file = File::from(sys::create_file(&dir, &name).map_err(made)?);
                let copied = io::copy(content, &mut file).and_then(|_| file.sync_all());
                copied.map_err(|cause| Failure::Os(Op::Keep, Errno::from_io_error(&cause).unwrap_or(Errno::IO)))?;
                file.into()
            }
        };
        self.dress(&handle).map(|()| None)
    }

    fn make_link(
        &self,
        dir: &OwnedFd,
        name: &CStr,
        open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
    ) -> Result<(), Failure> {
        let first = Path::new("/").join(OsString::from_vec(self.link.clone().unwrap_or_default()));
        let (above, first_name) = split(&first).ok_or(Failure::Os(Op::Create, Errno::INVAL))?;
        let first_dir = open(above)?;
        sys::make_link(&first_dir, &c_name(first_name)?, dir, name).map_err(|errno| Failure::Os(Op::Create, errno))
    }

    /// Dresses a folder once everything is in it, if it is still the one that was made.
    fn dress_folder(
        &self,
        id: Identity,
        open: &mut dyn FnMut(&Path) -> Result<OwnedFd, Failure>,
    ) -> Result<(), Failure> {
        let (dir, name) = self.place(open)?;
        let handle = sys::pin(&dir, &name).map_err(|errno| Failure::Os(Op::Open, errno))?;
        if sys::look_at(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?.id != id {
            return Err(Failure::Replaced);
        }
        self.dress(&handle)
    }

    /// Gives what was made its owner, attributes, mode and times, in the order in which they do not undo each other.
    fn dress(&self, handle: &OwnedFd) -> Result<(), Failure> {
        sys::set_owner(handle, self.uid, self.gid).map_err(|errno| Failure::Os(Op::SetOwner, errno))?;
        if self.kind != EntryType::Symlink {
            for (attribute, value) in &self.attributes {
                let attribute = String::from_utf8_lossy(attribute);
                sys::set_attribute(handle, &attribute, Some(value)).map_err(|errno| Failure::Os(Op::SetAcl, errno))?;
            }
            sys::set_mode(handle, self.mode).map_err(|errno| Failure::Os(Op::SetMode, errno))?;
        }
        sys::set_times(handle, self.times).map_err(|errno| Failure::Os(Op::Keep, errno))
    }
}

/// A handle on what was just made by its name, and is still that: of this kind, the caller's own, with no second name.
pub(crate) fn newly_made(dir: &OwnedFd, name: &CStr, kind: Kind) -> Result<OwnedFd, Failure> {
    let handle = sys::pin(dir, name).map_err(|errno| Failure::Os(Op::Open, errno))?;
    let facts = sys::look_at(&handle).map_err(|errno| Failure::Os(Op::Look, errno))?;
    let own = facts.rights.uid.0 == rustix::process::geteuid().as_raw();
    let single = facts.kind == Kind::Directory || facts.links == 1;
    if facts.kind == kind && own && single { Ok(handle) } else { Err(Failure::Replaced) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case((0, 0), "0.000000000")]
    #[case((12, 5), "12.000000005")]
    #[case((-1, 750_000_000), "-0.250000000")]
    #[case((-2, 0), "-2.000000000")]
    fn times_are_paxs(#[case] time: (i64, u32), #[case] text: &str) {
        assert_eq!(shown_time(time), text);
        assert_eq!(read_time(text.as_bytes()), Some(time));
    }

    fn nowhere(path: &Path) -> Result<OwnedFd, Failure> {
        panic!("{} must not be opened", path.display())
    }

    /// An archive with one entry of these records.
    fn archive(records: &[(&str, &str)], kind: EntryType) -> Vec<u8> {
        let mut archive = tar::Builder::new(Vec::new());
        let mut written = Records::default();
        for (key, value) in records {
            written.add(key.as_bytes(), value.as_bytes());
        }
        written.write(&mut archive, "x").unwrap();
        let mut header = Header::new_ustar();
        header.set_entry_type(kind);
        header.set_uid(0);
        header.set_gid(0);
        header.set_mode(0o600);
        header.set_size(0);
        header.set_path("x").unwrap();
        header.set_cksum();
        archive.append(&header, io::empty()).unwrap();
        archive.into_inner().unwrap()
    }

    #[rstest]
    #[case::leads_upwards(&[("path", "srv/../etc/passwd"), ("mtime", "0"), ("atime", "0")])]
    #[case::has_no_path(&[("mtime", "0"), ("atime", "0")])]
    #[case::has_no_times(&[("path", "srv/x")])]
    #[case::has_a_broken_time(&[("path", "srv/x"), ("mtime", "soon"), ("atime", "0")])]
    fn an_archive_that_ambrik_did_not_write_is_refused(#[case] records: &[(&str, &str)]) {
        let bytes = archive(records, EntryType::Regular);
        let restored = restore(&*bytes, Path::new("/"), &mut nowhere);
        assert!(restored.unwrap_err().to_string().contains("does not write"));
    }

    #[test]
    fn only_what_is_asked_for_is_restored() {
        let bytes = archive(&[("path", "srv/other"), ("mtime", "0"), ("atime", "0")], EntryType::Regular);
        assert_eq!(restore(&*bytes, Path::new("/srv/x"), &mut nowhere).unwrap().0, 0);
    }

    #[test]
    fn an_archive_that_is_cut_off_is_an_error() {
        let bytes = archive(&[("path", "srv/x"), ("mtime", "0"), ("atime", "0")], EntryType::Regular);
        assert!(restore(&bytes[..700], Path::new("/srv/y"), &mut nowhere).is_err());
    }

    #[test]
    fn what_is_packed_is_listed_with_folders_first_and_goes_content_first() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(dir.path().join("a/b")).unwrap();
        std::fs::write(dir.path().join("a/b/c"), "x").unwrap();
        let open = |path: &Path| {
            let flags = rustix::fs::OFlags::PATH | rustix::fs::OFlags::DIRECTORY;
            rustix::fs::open(path, flags, rustix::fs::Mode::empty()).map_err(|errno| Failure::Os(Op::Open, errno))
        };
        let top = open(dir.path()).unwrap();
        let mut packer = Packer::<io::Sink>::new(None);
        packer.add(top.as_fd(), c"a", &dir.path().join("a"), None).unwrap();
        let packed = packer.finish().unwrap().1;
        let names: Vec<&Path> = packed.iter().map(|p| p.path.strip_prefix(dir.path()).unwrap()).collect();
        assert_eq!(names, [Path::new("a"), Path::new("a/b"), Path::new("a/b/c")]);

        std::fs::write(dir.path().join("a/b/c"), "changed since").unwrap();
        let failures = remove(&packed, &mut { open });
        let left: Vec<&Path> = failures.iter().map(|(path, _)| path.strip_prefix(dir.path()).unwrap()).collect();
        assert_eq!(
            left,
            [Path::new("a/b/c"), Path::new("a/b"), Path::new("a")],
            "nothing that changed goes, nor what it is in"
        );
        assert!(dir.path().join("a/b/c").exists());
    }

    proptest! {
        #[test]
        fn any_bytes_are_restored_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..1500)) {
            let _ = restore(&*bytes, Path::new("/nowhere"), &mut nowhere);
        }

        #[test]
        fn records_come_back(records in proptest::collection::vec(("[a-zA-Z.]{1,12}", proptest::collection::vec(any::<u8>(), 0..200)), 0..6)) {
            let mut written = Records::default();
            for (key, value) in &records {
                written.add(key.as_bytes(), value);
            }
            let want: Vec<_> = records.into_iter().map(|(k, v)| (k.into_bytes(), v)).collect();
            prop_assert_eq!(Records::read(&written.0), want);
        }

        #[test]
        fn times_come_back(seconds in -5_000_000_000i64..5_000_000_000, nanos in 0u32..1_000_000_000) {
            prop_assert_eq!(read_time(shown_time((seconds, nanos)).as_bytes()), Some((seconds, nanos)));
        }

        #[test]
        fn any_header_is_read_or_cut(bytes in proptest::collection::vec(any::<u8>(), 0..100)) {
            let _ = Records::read(&bytes);
        }
    }
}
