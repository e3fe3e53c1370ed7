//! A package for Debian's family (deb(5)): an archive of two archives.

use std::error::Error;
use std::fs::File;
use std::path::{Path, PathBuf};

use tar::{EntryType, Header};

use crate::contents::{Contents, DESCRIPTION, Item, SUMMARY, packed};

/// Nothing is started and no file of a site is touched: the service manager is told that there are new units.
const AFTER: &str = "#!/bin/sh\nset -e\nif [ -d /run/systemd/system ]; then\n    systemctl daemon-reload || true\nfi\n";
/// Records and keepsakes go when the package is purged and somebody said so; else they stay: they are the way back.
const GONE: &str = r#"#!/bin/sh
set -e
if [ -d /run/systemd/system ]; then
    systemctl daemon-reload || true
fi
if [ "$1" = purge ] && [ -d /var/lib/ambrik ]; then
    if [ "${AMBRIK_PURGE_STATE:-}" = yes ]; then
        rm -rf /var/lib/ambrik
    else
        echo "ambrik: /var/lib/ambrik (records and removed files) was left; AMBRIK_PURGE_STATE=yes removes it on purge" >&2
    fi
fi
"#;

const MAINTAINER: &str = "The Ambrik authors <ambrik@ambrik.invalid>";
/// What lintian takes for mistakes, and is meant.
const OVERRIDES: &str = "# Which files come from packages is asked by the survey; the database is read, never written.\n\
ambrik: uses-dpkg-database-directly [usr/bin/ambrik]\n\
# What was removed from sites is kept there: root's alone.\n\
ambrik: non-standard-dir-perm 0700 != 0755 [var/lib/ambrik/]\n";

pub(crate) fn write(contents: &Contents, into: &Path) -> Result<PathBuf, Box<dyn Error>> {
    let mut items: Vec<(String, u32, Vec<u8>)> =
        contents.items.iter().map(|Item { path, mode, content }| (path.clone(), *mode, content.clone())).collect();
    let mit: String = Contents::licence("LICENSE-MIT")?.lines().map(|line| format!(" {}\n", paragraph(line))).collect();
    let licences = format!(
        "Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/\n\nFiles: *\nCopyright: 2026 the Ambrik authors\n\
         License: Expat or Apache-2.0\n\nLicense: Expat\n{mit}\nLicense: Apache-2.0\n The whole text of this license is in \
         /usr/share/common-licenses/Apache-2.0.\n"
    );
    items.push(("usr/share/doc/ambrik/copyright".into(), 0o644, licences.into_bytes()));
    let changelog = format!(
        "ambrik ({}) unstable; urgency=medium\n\n  * What changed is in CHANGELOG.md.\n\n -- {MAINTAINER}  Thu, 01 Jan 2026 00:00:00 +0000\n",
        contents.version
    );
    items.push(("usr/share/doc/ambrik/changelog.gz".into(), 0o644, packed(changelog.as_bytes())?));
    items.push(("usr/share/lintian/overrides/ambrik".into(), 0o644, OVERRIDES.as_bytes().to_vec()));
    items.sort();

    let mut data = tar::Builder::new(Vec::new());
    let lintian = ["usr/share/lintian", "usr/share/lintian/overrides"].map(PathBuf::from);
    let leading = contents.leading().into_iter().chain(lintian);
    let mut folders: Vec<(PathBuf, u32)> = leading.map(|path| (path, 0o755)).collect();
    folders.extend(contents.folders.iter().map(|(path, mode)| (PathBuf::from(path), *mode)));
    folders.sort();
    for (path, mode) in &folders {
        append(&mut data, contents.built, &format!("./{}/", path.display()), (EntryType::Directory, *mode), &[])?;
    }
    for (path, mode, content) in &items {
        append(&mut data, contents.built, &format!("./{path}"), (EntryType::Regular, *mode), content)?;
    }
    let size: usize = items.iter().map(|(_, _, content)| content.len().div_ceil(1024)).sum();
    let description: String = DESCRIPTION.lines().map(|line| format!(" {line}\n")).collect();
    let control_file = format!(
        "Package: ambrik\nVersion: {}\nArchitecture: amd64\nMaintainer: {MAINTAINER}\n\
         Installed-Size: {size}\nDepends: libc6 (>= {})\nSection: admin\nPriority: optional\nDescription: {SUMMARY}\n{description}",
        contents.version, contents.libc
    );
    let mut control = tar::Builder::new(Vec::new());
    for (name, mode, text) in [("control", 0o644, &*control_file), ("postinst", 0o755, AFTER), ("postrm", 0o755, GONE)]
    {
        append(&mut control, contents.built, &format!("./{name}"), (EntryType::Regular, mode), text.as_bytes())?;
    }

    let path = into.join(format!("ambrik_{}_amd64.deb", contents.version));
    let mut archive = ar::Builder::new(File::create(&path)?);
    let parts = [
        ("debian-binary", b"2.0\n".to_vec()),
        ("control.tar.gz", packed(&control.into_inner()?)?),
        ("data.tar.gz", packed(&data.into_inner()?)?),
    ];
    for (name, content) in parts {
        let mut header = ar::Header::new(name.as_bytes().to_vec(), content.len() as u64);
        header.set_mode(0o100_644);
        archive.append(&header, &*content)?;
    }
    Ok(path)
}

/// A line of a paragraph in a control file: an empty one is a full stop (deb822(5)).
fn paragraph(line: &str) -> &str {
    if line.trim().is_empty() { "." } else { line }
}

fn append(
    to: &mut tar::Builder<Vec<u8>>,
    built: u64,
    path: &str,
    (kind, mode): (EntryType, u32),
    content: &[u8],
) -> std::io::Result<()> {
    let mut header = Header::new_gnu();
    header.set_entry_type(kind);
    header.set_mode(mode);
    header.set_uid(0);
    header.set_gid(0);
    header.set_username("root")?;
    header.set_groupname("root")?;
    header.set_mtime(built);
    header.set_size(content.len() as u64);
    // As it is: the way that leads to it begins with "./", as dpkg writes it.
    let name = path.as_bytes();
    header.as_gnu_mut().ok_or_else(|| std::io::Error::other("no header of the kind"))?.name[..name.len()]
        .copy_from_slice(name);
    header.set_cksum();
    to.append(&header, content)
}
