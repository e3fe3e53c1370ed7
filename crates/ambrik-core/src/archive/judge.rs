//! Names and links of an archive, judged without a disk.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Component, Path, PathBuf};

/// No name on a disk is longer, in bytes (`NAME_MAX`), no path (`PATH_MAX`, with room for where it is unpacked), and no
/// application is deeper.
const LONGEST_NAME: usize = 255;
const LONGEST_PATH: usize = 3072;
const DEEPEST: usize = 100;

/// The path below the folder that is unpacked into, which an entry's name says; empty for that folder itself. Errors say
/// what is wrong with it.
pub(super) fn path(name: &[u8]) -> Result<PathBuf, &'static str> {
    let Ok(text) = std::str::from_utf8(name) else { return Err("its name is not UTF-8") };
    if text.contains(|sign: char| sign.is_control()) {
        return Err("its name has control characters in it");
    }
    if text.starts_with('/') {
        return Err("its name begins at /");
    }
    if text.contains('\\') {
        return Err("its name has a backslash in it: a program that separates folders so made the archive");
    }
    let mut path = PathBuf::new();
    for component in Path::new(text).components() {
        match component {
            Component::CurDir => {}
            Component::Normal(name) if name.len() > LONGEST_NAME => return Err("its name is longer than names may be"),
            Component::Normal(name) => path.push(name),
            Component::ParentDir | Component::RootDir | Component::Prefix(_) => {
                return Err("its name leads upwards (..)");
            }
        }
    }
    if path.as_os_str().len() > LONGEST_PATH || path.iter().count() > DEEPEST {
        return Err("its path is longer or deeper than any application's");
    }
    Ok(path)
}

/// As many symlinks are followed on one way (`path_resolution(7)`).
const MOST_LINKS: usize = 40;

/// Whether a symlink stays in the tree, through whatever other symlinks of it; `links` says where these lead. Errors say where
/// it leads.
pub(super) fn stays(links: &impl Fn(&Path) -> Option<PathBuf>, link: &Path, target: &Path) -> Result<(), &'static str> {
    let mut at: PathBuf = link.parent().unwrap_or(Path::new("")).to_owned();
    let mut names: Vec<OsString> = Vec::new();
    let mut followed = 0;
    let mut next = target.to_owned();
    loop {
        if next.as_os_str().is_empty() || next.as_os_str().as_bytes().contains(&0) {
            return Err("it is a symlink to nothing");
        }
        if next.is_absolute() {
            return Err("it is a symlink with an absolute path, which leads to the host's own files");
        }
        names.extend(next.components().rev().map(|component| component.as_os_str().to_owned()));
        next = loop {
            let Some(name) = names.pop() else { return Ok(()) };
            match Path::new(&name).components().next() {
                Some(Component::ParentDir) if !at.pop() => return Err("it is a symlink that leads out of the tree"),
                Some(Component::Normal(name)) => at.push(name),
                _ => {}
            }
            if let Some(further) = links(&at) {
                followed += 1;
                if followed > MOST_LINKS {
                    return Err("it is a symlink that goes round in a circle");
                }
                at.pop();
                break further;
            }
        };
    }
}

/// Folders of version control, and what other systems put beside files: no part of an application.
pub(super) fn is_no_part(path: &Path) -> Option<&'static str> {
    path.as_os_str().as_bytes().split(|byte| *byte == b'/').find_map(|name| match name {
        b".git" | b".svn" | b".hg" | b".bzr" | b"CVS" => Some("version control"),
        b"__MACOSX" | b".DS_Store" | b"Thumbs.db" | b"desktop.ini" => Some("what another system put beside the files"),
        _ => None,
    })
}

/// Whether a file beside the application's folder is there to be read only.
pub(super) fn is_to_be_read(name: &Path) -> bool {
    let lower = name.as_os_str().to_string_lossy().to_lowercase();
    let stems = [
        "readme",
        "license",
        "licence",
        "copying",
        "changelog",
        "changes",
        "install",
        "upgrade",
        "copyright",
        "history",
    ];
    let (stem, end) = lower.rsplit_once('.').unwrap_or((&lower, ""));
    match end {
        "txt" | "pdf" => true,
        "" | "md" | "html" | "htm" | "rst" => stems.iter().any(|known| stem.starts_with(known)),
        _ => false,
    }
}
