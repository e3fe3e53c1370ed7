//! Extended attributes of a path, as the tests see them.

use std::path::Path;

/// Every extended attribute with its value, sorted.
pub(crate) fn all(path: &Path) -> Vec<(String, Vec<u8>)> {
    let mut names = vec![0; 1 << 16];
    let Ok(length) = rustix::fs::llistxattr(path, &mut names[..]) else { return Vec::new() };
    let names = names[..length].split(|&b| b == 0).filter(|n| !n.is_empty());
    let mut found: Vec<(String, Vec<u8>)> = names
        .map(|name| {
            let name = String::from_utf8_lossy(name).into_owned();
            let mut value = vec![0; 1 << 16];
            let length = rustix::fs::lgetxattr(path, &*name, &mut value[..]).unwrap();
            (name, value[..length].to_vec())
        })
        .collect();
    found.sort();
    found
}

/// Sets an extended attribute.
pub(crate) fn set(path: &Path, name: &str, value: &[u8]) {
    rustix::fs::setxattr(path, name, value, rustix::fs::XattrFlags::empty()).unwrap();
}
