//! What a package holds: every file with where it goes, whichever family it is for.

use std::collections::BTreeSet;
use std::error::Error;
use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use flate2::Compression;
use flate2::write::GzEncoder;

use crate::manual;

/// A file of the package.
pub(crate) struct Item {
    /// Where it goes, without the first `/`.
    pub(crate) path: String,
    pub(crate) mode: u32,
    pub(crate) content: Vec<u8>,
}

/// What a package holds and says of itself.
pub(crate) struct Contents {
    pub(crate) version: String,
    /// The oldest C library that has all that the program calls.
    pub(crate) libc: String,
    pub(crate) items: Vec<Item>,
    /// When it was built, in seconds since 1970: what the environment says, or now (reproducible-builds.org, SOURCE_DATE_EPOCH).
    pub(crate) built: u64,
    /// Folders that it makes, with their modes.
    pub(crate) folders: Vec<(&'static str, u32)>,
}

pub(crate) const SUMMARY: &str = "Sets and audits ownership, modes and access lists of deployed PHP sites";
pub(crate) const DESCRIPTION: &str = "Say what each part of a site is for; Ambrik works out the owners, modes, access\nlists and labels \
that give each account exactly that and no more, shows the\ndifference, makes it so, proves it, and can take it back.";

/// The folders for site files, outlines and drop-ins are everybody's to read; what records hold is root's alone.
const FOLDERS: [(&str, u32); 5] = [
    ("etc/ambrik", 0o755),
    ("etc/ambrik/sites", 0o755),
    ("etc/ambrik/outlines", 0o755),
    ("etc/ambrik/host.d", 0o755),
    ("var/lib/ambrik", 0o700),
];

impl Contents {
    /// Everything, with what the program says of itself.
    pub(crate) fn of(program: &Path) -> Result<Self, Box<dyn Error>> {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
        let said = Command::new(program).arg("--version").output()?;
        let said = String::from_utf8(said.stdout)?;
        let version = said.split_whitespace().nth(1).ok_or("the program says no version")?.to_owned();
        let binary = fs::read(program)?;
        let libc = libc_of(&binary).ok_or("the program calls no C library")?;
        let mut items = vec![Item { path: "usr/bin/ambrik".into(), mode: 0o755, content: binary }];

        let made = scratch()?;
        let written = Command::new(program).arg("manual").arg(&made).status()?;
        if !written.success() {
            return Err("the program could not write its manual".into());
        }
        for entry in fs::read_dir(&made)? {
            let path = entry?.path();
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let content = fs::read(&path)?;
            items.push(match &*name {
                "ambrik.bash" => Item::text("usr/share/bash-completion/completions/ambrik", content),
                "_ambrik" => Item::text("usr/share/zsh/vendor-completions/_ambrik", content),
                "ambrik.fish" => Item::text("usr/share/fish/vendor_completions.d/ambrik.fish", content),
                name => Item::text(&format!("usr/share/man/man1/{name}.gz"), packed(&content)?),
            });
        }
        fs::remove_dir_all(&made)?;
        for (page, file, says) in manual::PAGES {
            let text = fs::read_to_string(root.join("docs").join(file))?;
            let content = packed(manual::page(page, says, &text).as_bytes())?;
            items.push(Item::text(&format!("usr/share/man/man5/{page}.5.gz"), content));
        }
        for entry in fs::read_dir(root.join("packaging/systemd"))? {
            let path = entry?.path();
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            items.push(Item::text(&format!("usr/lib/systemd/system/{name}"), fs::read(&path)?));
        }
        for entry in fs::read_dir(root.join("docs"))? {
            let path = entry?.path();
            if path.extension().is_some_and(|ending| ending == "md") {
                let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
                items.push(Item::text(&format!("usr/share/doc/ambrik/{name}"), fs::read(&path)?));
            }
        }
        items.push(Item::text("usr/share/doc/ambrik/CHANGELOG.md", fs::read(root.join("CHANGELOG.md"))?));
        items.sort_by(|a, b| a.path.cmp(&b.path));
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH)?.as_secs();
        let built = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|said| said.parse().ok()).unwrap_or(now);
        Ok(Self { version, libc, items, built, folders: FOLDERS.to_vec() })
    }

    /// The text of a licence.
    pub(crate) fn licence(name: &str) -> Result<String, Box<dyn Error>> {
        Ok(fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(name))?)
    }

    /// All folders that lead to something in it, but for those that are made with modes of their own.
    pub(crate) fn leading(&self) -> BTreeSet<PathBuf> {
        let paths = self
            .items
            .iter()
            .map(|item| Path::new(&item.path))
            .chain(self.folders.iter().map(|(path, _)| Path::new(*path)));
        let above = paths.flat_map(|path| path.ancestors().skip(1).map(Path::to_owned));
        let own: Vec<PathBuf> = self.folders.iter().map(|(path, _)| PathBuf::from(path)).collect();
        above.filter(|path| !path.as_os_str().is_empty() && !own.contains(path)).collect()
    }
}

impl Item {
    pub(crate) fn text(path: &str, content: Vec<u8>) -> Self {
        Self { path: path.to_owned(), mode: 0o644, content }
    }
}

/// gzip, the same for the same content.
pub(crate) fn packed(content: &[u8]) -> std::io::Result<Vec<u8>> {
    let mut packed = GzEncoder::new(Vec::new(), Compression::best());
    packed.write_all(content)?;
    packed.finish()
}

fn scratch() -> std::io::Result<PathBuf> {
    let path = std::env::temp_dir().join(format!("ambrik-packages.{}", std::process::id()));
    fs::create_dir(&path)?;
    Ok(path)
}

/// The newest version of the C library's symbols that a program names: `2.34`.
fn libc_of(binary: &[u8]) -> Option<String> {
    const MARK: &[u8] = b"GLIBC_";
    let mut newest: Option<(u32, u32)> = None;
    for (at, window) in binary.windows(MARK.len()).enumerate() {
        if window != MARK {
            continue;
        }
        let rest = &binary[at + MARK.len()..];
        let text: String = rest
            .iter()
            .take_while(|byte| byte.is_ascii_digit() || **byte == b'.')
            .map(|byte| char::from(*byte))
            .collect();
        let mut numbers = text.split('.').map(str::parse);
        if let (Some(Ok(major)), Some(Ok(minor))) = (numbers.next(), numbers.next()) {
            newest = newest.max(Some((major, minor)));
        }
    }
    newest.map(|(major, minor)| format!("{major}.{minor}"))
}
