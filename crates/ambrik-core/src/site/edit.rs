//! Changes a site file's text, comments and order kept, and puts it in the file's place whole or not at all.

use std::ffi::{CString, OsStr};
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};

use rustix::io::Errno;
use toml_edit::{ArrayOfTables, Datetime, DocumentMut, Item, Table, TableLike, Value, value};

use crate::mode::Mode;
use crate::own::{OwnError, OwnPlace};
use crate::shown::Shown;
use crate::tree::{WayError, sys};

/// Why a site file cannot be changed.
#[derive(Debug, thiserror::Error)]
pub enum EditError {
    /// It is not TOML any more.
    #[error("the site file {} cannot be changed: it is not TOML; correct it first", Shown(.0))]
    NotToml(PathBuf),
    /// The new path cannot stand in a site file.
    #[error("{} cannot stand in a site file: a path there is UTF-8, without * ? [ and line breaks", Shown(.0))]
    Path(PathBuf),
    /// The kernel said no.
    #[error("cannot {op} the site file {}: {}", Shown(.path), std::io::Error::from(*.errno))]
    Failed {
        /// What was being done.
        op: &'static str,
        /// The site file.
        path: PathBuf,
        /// Why it failed.
        errno: Errno,
    },
    /// It, or where it is to be, cannot be reached.
    #[error(transparent)]
    Own(#[from] OwnError),
    /// Something is there already.
    #[error("there is a site file {} already", Shown(.0))]
    Exists(PathBuf),
}

impl EditError {
    /// Whether privilege was missing.
    #[must_use]
    pub fn is_privilege(&self) -> bool {
        let denied = |errno: &Errno| matches!(*errno, Errno::PERM | Errno::ACCESS);
        match self {
            Self::Failed { errno, .. } | Self::Own(OwnError::Way(WayError::Failed(_, errno))) => denied(errno),
            _ => false,
        }
    }
}

/// The text of the site file `file` for a site at `root`, the paths of parts and exceptions that are `from` or below it
/// moved to `to`. Paths below the root are written relative to it, others absolute.
pub fn with_moved(text: &str, file: &Path, root: &Path, from: &Path, to: &Path) -> Result<String, EditError> {
    let mut document: DocumentMut = text.parse().map_err(|_| EditError::NotToml(file.to_owned()))?;
    for section in ["part", "accept"] {
        match document.get_mut(section) {
            Some(Item::ArrayOfTables(tables)) => {
                for table in tables.iter_mut() {
                    move_path(table, root, from, to)?;
                }
            }
            Some(Item::Value(Value::Array(array))) => {
                for table in array.iter_mut().filter_map(Value::as_inline_table_mut) {
                    move_path(table, root, from, to)?;
                }
            }
            _ => {}
        }
    }
    Ok(document.to_string())
}

/// The text of the site file `file` with one more accepted exception, after those that are there.
pub fn with_accepted(text: &str, file: &Path, new: &NewAccept<'_>) -> Result<String, EditError> {
    let mut document: DocumentMut = text.parse().map_err(|_| EditError::NotToml(file.to_owned()))?;
    let mut table = Table::new();
    table.insert("check", value(new.check));
    table.insert("path", value(new.path));
    table.insert("reason", value(new.reason));
    if let Some(until) = new.until {
        let (year, month, day) = (until.year(), until.month(), until.day());
        let date = toml_edit::Date {
            year: u16::try_from(year).unwrap_or_default(),
            month: u8::try_from(month).unwrap_or_default(),
            day: u8::try_from(day).unwrap_or_default(),
        };
        table.insert("until", value(Datetime { date: Some(date), time: None, offset: None }));
    }
    match document.entry("accept").or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new())) {
        Item::ArrayOfTables(tables) => {
            table.decor_mut().set_prefix("\n");
            tables.push(table);
        }
        Item::Value(Value::Array(array)) => array.push(table.into_inline_table()),
        _ => return Err(EditError::NotToml(file.to_owned())),
    }
    Ok(document.to_string())
}

/// An exception that is to be written into a site file.
#[derive(Clone, Copy, Debug)]
pub struct NewAccept<'a> {
    /// The check's name.
    pub check: &'a str,
    /// The path, as it stands in the file: relative to the root, or absolute outside it.
    pub path: &'a str,
    /// Why.
    pub reason: &'a str,
    /// The last day on which it holds.
    pub until: Option<jiff::civil::Date>,
}

fn move_path(table: &mut dyn TableLike, root: &Path, from: &Path, to: &Path) -> Result<(), EditError> {
    let Some(value) = table.get_mut("path").and_then(Item::as_value_mut) else { return Ok(()) };
    let Some(path) = value.as_str().map(|text| root.join(text)) else { return Ok(()) };
    // Without `.` components and doubled slashes, as the reader takes it.
    let path: PathBuf = path.components().collect();
    let Ok(below) = path.strip_prefix(from) else { return Ok(()) };
    let moved = if below.as_os_str().is_empty() { to.to_owned() } else { to.join(below) };
    let shown = moved.strip_prefix(root).unwrap_or(&moved);
    // What is below `to` is a pattern already; `to` itself is a path, and must not become one.
    let plain = |text: &str| !text.contains(['*', '?', '[']) && !text.contains(char::is_control);
    let text = shown.to_str().filter(|_| to.to_str().is_some_and(plain));
    let text = text.ok_or_else(|| EditError::Path(to.to_owned()))?;
    let decor = value.decor().clone();
    *value = Value::from(text);
    *value.decor_mut() = decor;
    Ok(())
}

/// Where a site file is: its directory, its name there, and the name beside it that a new one is written under.
struct Beside {
    file: PathBuf,
    dir: OwnedFd,
    name: CString,
    beside: CString,
}

impl Beside {
    /// Where the site file is, through links.
    fn of(place: &OwnPlace) -> Result<Self, EditError> {
        let (host, path) = place.within();
        let found = host.resolve(path).map_err(OwnError::from)?;
        Self::at(place.shown().to_owned(), found.parent, found.name)
    }

    fn at(file: PathBuf, dir: OwnedFd, name: CString) -> Result<Self, EditError> {
        let failed = |errno| EditError::Failed { op: "change", path: file.clone(), errno };
        let beside = CString::new([b".", name.to_bytes(), b".new"].concat()).map_err(|_| failed(Errno::INVAL))?;
        let dir = sys::reopen_directory(dir).map_err(failed)?;
        Ok(Self { file, dir, name, beside })
    }

    /// Removes what a killed run left beside it.
    fn clear(&self) -> Result<(), EditError> {
        match sys::unlink(&self.dir, &self.beside, false) {
            Ok(()) | Err(Errno::NOENT) => Ok(()),
            Err(errno) => Err(EditError::Failed { op: "write beside", path: self.file.clone(), errno }),
        }
    }
}

/// Removes what a run that was killed while it wrote the site file left beside it.
pub(crate) fn clear_beside(place: &OwnPlace) -> Result<(), EditError> {
    Beside::of(place)?.clear()
}

/// Writes a new site file, readable by all and written by the caller alone, with the folders that lead to it; what is there
/// already is replaced only with `replace`.
///
/// Errors where others could put something else there, too.
pub fn save(place: &OwnPlace, text: &str, replace: bool) -> Result<(), EditError> {
    let (host, path) = place.within();
    let shown = || place.shown().to_owned();
    let failed = |op: &'static str| move |errno| EditError::Failed { op, path: shown(), errno };
    let (Some(above), Some(name)) = (path.parent(), path.file_name()) else {
        return Err(failed("write")(Errno::INVAL));
    };
    let dir = place.folder(above, Mode::of_st_mode(0o755))?;
    let name = c_name(name).map_err(failed("write"))?;
    if let Some(exposed) = host.resolve(above).ok().and_then(|found| place.exposed(&found)) {
        return Err(OwnError::Exposed(exposed).into());
    }
    let beside = Beside::at(shown(), dir, name)?;
    beside.clear()?;
    let new = sys::create_file(&beside.dir, &beside.beside).map_err(failed("write beside"))?;
    let written = (|| {
        sys::write_all(&new, text.as_bytes())?;
        sys::set_mode(&new, Mode::of_st_mode(0o644))?;
        rustix::fs::fsync(&new)?;
        if replace {
            rustix::fs::renameat(&beside.dir, &beside.beside, &beside.dir, &beside.name)?;
        } else {
            sys::rename_new(&beside.dir, &beside.beside, &beside.dir, &beside.name)?;
        }
        rustix::fs::fsync(&beside.dir)
    })();
    if written.is_err() {
        let _ = sys::unlink(&beside.dir, &beside.beside, false);
    }
    written.map_err(|errno| match errno {
        Errno::EXIST => EditError::Exists(place.shown().to_owned()),
        errno => failed("write")(errno),
    })
}

/// Puts `text` in the place of the site file's content, whole or not at all; owner, mode and attributes stay.
pub fn replace(place: &OwnPlace, text: &str) -> Result<(), EditError> {
    let place = Beside::of(place)?;
    let Beside { file, dir, name, beside } = &place;
    let failed = |op| move |errno| EditError::Failed { op, path: file.clone(), errno };
    let old = sys::open_file(dir, name).map_err(failed("open"))?;
    let facts = sys::look_at(&old).map_err(failed("look at"))?;
    let attributes = sys::attributes(&old).map_err(failed("look at"))?;
    place.clear()?;
    let new = sys::create_file(dir, beside).map_err(failed("write beside"))?;
    let written = (|| {
        sys::write_all(&new, text.as_bytes())?;
        let own = sys::look_at(&new)?.rights;
        if (own.uid, own.gid) != (facts.rights.uid, facts.rights.gid) {
            sys::set_owner(&new, facts.rights.uid, facts.rights.gid)?;
        }
        sys::set_mode(&new, facts.rights.mode)?;
        for (attribute, value) in &attributes {
            let attribute = String::from_utf8_lossy(attribute);
            sys::set_attribute(&new, &attribute, Some(value))?;
        }
        sys::before_change()?;
        rustix::fs::fsync(&new)?;
        rustix::fs::renameat(dir, beside, dir, name)?;
        rustix::fs::fsync(dir)
    })();
    if written.is_err() {
        // It is told that the file was not written; that a copy stays beside it changes nothing.
        let _ = sys::unlink(dir, beside, false);
    }
    written.map_err(failed("write"))
}

fn c_name(name: &OsStr) -> Result<CString, Errno> {
    CString::new(std::os::unix::ffi::OsStrExt::as_bytes(name)).map_err(|_| Errno::INVAL)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};

    fn place(path: &Path) -> OwnPlace {
        OwnPlace::of(&crate::tree::Host::this().unwrap(), path).unwrap()
    }

    #[test]
    fn a_new_file_overwrites_nothing_unless_that_is_said() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("etc/ambrik/sites/berths.toml");
        save(&place(&path), "one", false).unwrap();
        assert!(matches!(save(&place(&path), "two", false), Err(EditError::Exists(_))));
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "one");
        save(&place(&path), "two", true).unwrap();
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "two");
        assert_eq!(path.metadata().unwrap().mode() & 0o777, 0o644);
        assert_eq!(std::fs::read_dir(path.parent().unwrap()).unwrap().count(), 1);
    }

    fn moved(text: &str, from: &str, to: &str) -> Result<String, EditError> {
        with_moved(text, Path::new("berths.toml"), Path::new("/srv/berths"), Path::new(from), Path::new(to))
    }

    #[rstest]
    #[case::alone(
        "[[part]]\npath = \"data\" # photographs\nuse = \"store\"\n",
        "[[part]]\npath = \"/var/lib/b\" # photographs\nuse = \"store\"\n"
    )]
    #[case::what_is_inside_too(
        "[[part]]\npath = \"./data/*/cache\"\n[[accept]]\npath=\"data/x\"\n",
        "[[part]]\npath = \"/var/lib/b/*/cache\"\n[[accept]]\npath=\"/var/lib/b/x\"\n"
    )]
    #[case::others_stay(
        "[[part]]\npath = 'database'\n[[part]]\npath = \"/data\"\n",
        "[[part]]\npath = 'database'\n[[part]]\npath = \"/data\"\n"
    )]
    #[case::tables_in_a_line(
        "part = [ { path = \"/srv/berths/data/\", use = \"store\" }, # one\n]\n",
        "part = [ { path = \"/var/lib/b\", use = \"store\" }, # one\n]\n"
    )]
    fn paths_move_and_all_else_stays(#[case] text: &str, #[case] want: &str) {
        assert_eq!(moved(text, "/srv/berths/data", "/var/lib/b").unwrap(), want);
    }

    #[test]
    fn back_below_the_root_it_is_relative_again() {
        let text = "[[part]]\npath = \"/var/lib/b\"\n";
        assert_eq!(moved(text, "/var/lib/b", "/srv/berths/data").unwrap(), "[[part]]\npath = \"data\"\n");
    }

    #[rstest]
    #[case::wildcard("/var/lib/b*")]
    #[case::line_break("/var/lib/b\nuse = \"code\"")]
    fn a_path_that_would_read_differently_is_refused(#[case] to: &str) {
        let said = moved("[[part]]\npath = \"data\"\n", "/srv/berths/data", to).unwrap_err().to_string();
        assert!(said.contains("cannot stand in a site file"), "{said}");
    }

    #[test]
    fn what_is_no_toml_is_refused() {
        assert!(moved("[[part", "/srv/berths/data", "/x").unwrap_err().to_string().contains("not TOML"));
    }

    #[test]
    fn a_file_is_replaced_whole_with_its_mode_and_through_a_link() {
        let dir = tempfile::tempdir().unwrap();
        let (file, link) = (dir.path().join("real.toml"), dir.path().join("berths.toml"));
        std::fs::write(&file, "old").unwrap();
        symlink("real.toml", &link).unwrap();
        std::fs::write(dir.path().join(".real.toml.new"), "left by a killed run").unwrap();
        let handle = std::fs::File::open(&file).unwrap();
        handle.set_permissions(std::fs::Permissions::from_mode(0o640)).unwrap();
        replace(&place(&link), "new").unwrap();
        assert_eq!(std::fs::read_to_string(&file).unwrap(), "new");
        assert!(link.symlink_metadata().unwrap().is_symlink());
        assert_eq!(file.metadata().unwrap().mode() & 0o7777, 0o640);
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 2);
        let said = replace(&place(&dir.path().join("none.toml")), "x").unwrap_err().to_string();
        assert!(said.contains("none.toml does not exist"), "{said}");
    }
}
