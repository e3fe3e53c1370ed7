//! The package database of rpm, as far as it tells who owns the files of a package (rpm: `docs/manual/format_header.md`).

use std::collections::BTreeMap;
use std::os::fd::AsRawFd as _;
use std::path::{Path, PathBuf};

use rusqlite::{Connection, OpenFlags};

use super::clue::Seen;
use super::packaged::PackageFact;
use crate::tree::Host;

/// Where the database is: today's place, and the one before.
const DATABASES: [&str; 2] = ["/usr/lib/sysimage/rpm/rpmdb.sqlite", "/var/lib/rpm/rpmdb.sqlite"];

const FILE_MODES: u32 = 1030;
const FILE_USER: u32 = 1039;
const FILE_GROUP: u32 = 1040;
const DIR_INDEXES: u32 = 1116;
const BASE_NAMES: u32 = 1117;
const DIR_NAMES: u32 = 1118;

/// The folders of the packages that hold something below `root`, with their owners and modes.
pub(super) fn given(host: &Host, root: &Path) -> Vec<PackageFact> {
    DATABASES.iter().find_map(|place| read(host, Path::new(place), root)).unwrap_or_default()
}

fn read(host: &Host, place: &Path, root: &Path) -> Option<Vec<PackageFact>> {
    let found = host.resolve(place).ok()?;
    // By its handle: nobody can put another file there meanwhile. Immutable: no journal of it is looked for, or written.
    let name = format!("file:/proc/self/fd/{}?immutable=1", found.handle.as_raw_fd());
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
    let database = Connection::open_with_flags(name, flags).ok()?;
    let mut query = database.prepare("SELECT blob FROM Packages").ok()?;
    let blobs = query.query_map([], |row| row.get::<_, Vec<u8>>(0)).ok()?;
    let mut given = Vec::new();
    for blob in blobs.flatten() {
        let Some(header) = Header::parse(&blob) else { continue };
        let files = header.files();
        if files.iter().any(|file| file.path.starts_with(root)) {
            given.extend(files.into_iter().map(|file| PackageFact { seen: Seen::at(place, 0), ..file }));
        }
    }
    Some(given)
}

/// A package's header: its tags, each with its kind, its place in the data, and how many there are.
struct Header<'b> {
    tags: BTreeMap<u32, (u32, usize, usize)>,
    data: &'b [u8],
}

fn number(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

impl<'b> Header<'b> {
    fn parse(blob: &'b [u8]) -> Option<Self> {
        const ENTRY: usize = 16;
        let count = usize::try_from(number(blob, 0)?).ok()?;
        let data = blob.get(8 + count.checked_mul(ENTRY)?..)?;
        let entry = |n: usize| {
            let at = 8 + n * ENTRY;
            let place = usize::try_from(number(blob, at + 8)?).ok()?;
            let items = usize::try_from(number(blob, at + 12)?).ok()?;
            Some((number(blob, at)?, (number(blob, at + 4)?, place, items)))
        };
        Some(Self { tags: (0..count).filter_map(entry).collect(), data })
    }

    fn texts(&self, tag: u32) -> Vec<String> {
        let Some(&(_, place, items)) = self.tags.get(&tag) else { return Vec::new() };
        let texts = self.data.get(place..).unwrap_or_default().split(|byte| *byte == 0).take(items);
        texts.map(|text| String::from_utf8_lossy(text).into_owned()).collect()
    }

    fn numbers(&self, tag: u32) -> Vec<u32> {
        const OF_16_BITS: u32 = 3;
        let Some(&(kind, place, items)) = self.tags.get(&tag) else { return Vec::new() };
        let data = self.data.get(place..).unwrap_or_default();
        let short = |n: usize| Some(u32::from(u16::from_be_bytes(data.get(n * 2..n * 2 + 2)?.try_into().ok()?)));
        let items = items.min(data.len());
        (0..items).map_while(|n| if kind == OF_16_BITS { short(n) } else { number(data, n * 4) }).collect()
    }

    fn files(&self) -> Vec<PackageFact> {
        let (dirs, bases) = (self.texts(DIR_NAMES), self.texts(BASE_NAMES));
        let (users, groups) = (self.texts(FILE_USER), self.texts(FILE_GROUP));
        let (indexes, modes) = (self.numbers(DIR_INDEXES), self.numbers(FILE_MODES));
        let file = |(n, base): (usize, &String)| {
            let dir = dirs.get(usize::try_from(*indexes.get(n)?).ok()?)?;
            Some(PackageFact {
                path: PathBuf::from(dir).join(base),
                user: users.get(n)?.clone(),
                group: groups.get(n)?.clone(),
                mode: Some(modes.get(n)? & 0o7777),
                made: false,
                says: "its package's list gives it".into(),
                seen: Seen::at(Path::new(""), 0),
            })
        };
        bases.iter().enumerate().filter_map(file).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A tag, its kind, how many there are of it, and its bytes.
    type Tag = (u32, (u32, usize, Vec<u8>));

    /// A header as rpm writes it: numbers of 16 and 32 bits, and texts that end with a zero.
    fn header(dirs: &[&str], files: &[(u32, &str, &str, &str, u16)]) -> Vec<u8> {
        let texts =
            |all: Vec<&str>| (8_u32, all.len(), all.iter().flat_map(|t| [t.as_bytes(), b"\0"].concat()).collect());
        let tags: Vec<Tag> = vec![
            (FILE_MODES, (3, files.len(), files.iter().flat_map(|f| f.4.to_be_bytes()).collect())),
            (FILE_USER, texts(files.iter().map(|f| f.2).collect())),
            (FILE_GROUP, texts(files.iter().map(|f| f.3).collect())),
            (DIR_INDEXES, (4, files.len(), files.iter().flat_map(|f| f.0.to_be_bytes()).collect())),
            (BASE_NAMES, texts(files.iter().map(|f| f.1).collect())),
            (DIR_NAMES, texts(dirs.to_vec())),
        ];
        let (mut entries, mut data) = (Vec::new(), Vec::new());
        for (tag, (kind, items, bytes)) in &tags {
            let place = u32::try_from(data.len()).unwrap();
            let items = u32::try_from(*items).unwrap();
            entries.extend([*tag, *kind, place, items].iter().flat_map(|n| n.to_be_bytes()));
            data.extend(bytes);
        }
        let counts = [u32::try_from(tags.len()).unwrap(), u32::try_from(data.len()).unwrap()];
        [counts.iter().flat_map(|n| n.to_be_bytes()).collect::<Vec<u8>>(), entries, data].concat()
    }

    #[test]
    fn the_database_tells_whose_files_are() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("usr/lib/sysimage/rpm/rpmdb.sqlite");
        std::fs::create_dir_all(file.parent().unwrap()).unwrap();
        let database = Connection::open(&file).unwrap();
        database.execute("CREATE TABLE Packages (hnum INTEGER PRIMARY KEY, blob BLOB NOT NULL)", []).unwrap();
        let dirs = ["/usr/share/quay/", "/var/lib/quay/"];
        let own =
            header(&dirs, &[(0, "index.php", "root", "root", 0o100_644), (1, "tides", "apache", "apache", 0o40_755)]);
        let other = header(&["/usr/share/mole/"], &[(0, "a", "root", "root", 0o100_644)]);
        for blob in [own, other, vec![0, 0, 0, 9]] {
            database.execute("INSERT INTO Packages (blob) VALUES (?)", [blob]).unwrap();
        }
        drop(database);
        let host = Host::at(dir.path()).unwrap();
        let found = given(&host, Path::new("/usr/share/quay"));
        let shown: Vec<String> =
            found.iter().map(|g| format!("{} {} {:o}", g.path.display(), g.user, g.mode.unwrap())).collect();
        assert_eq!(shown, ["/usr/share/quay/index.php root 644", "/var/lib/quay/tides apache 755"]);
        assert_eq!(given(&host, Path::new("/usr/share/berths")), []);
    }

    /// Whatever is in a blob, nothing goes wrong.
    #[test]
    fn cut_off_headers_are_none() {
        let whole = header(&["/a/"], &[(0, "b", "c", "d", 0o755)]);
        for length in 0..whole.len() {
            if let Some(header) = Header::parse(&whole[..length]) {
                assert!(header.files().len() <= 1);
            }
        }
    }
}
