//! A package for Red Hat's family.

use std::error::Error;
use std::path::{Path, PathBuf};

use rpm::{BuildConfig, CompressionWithLevel, Dependency, FileOptions, PackageBuilder};

use crate::contents::{Contents, DESCRIPTION, SUMMARY};

const AFTER: &str = "if [ -d /run/systemd/system ]; then systemctl daemon-reload || :; fi\n";

pub(crate) fn write(contents: &Contents, into: &Path) -> Result<PathBuf, Box<dyn Error>> {
    let mut package = PackageBuilder::new("ambrik", &contents.version, "MIT OR Apache-2.0", "x86_64", SUMMARY);
    package.using_config(
        BuildConfig::v4().compression(CompressionWithLevel::Gzip(6)).source_date(u32::try_from(contents.built)?),
    );
    package.release("1").description(DESCRIPTION).url("https://ambrik.invalid/");
    package.packager("The Ambrik authors <ambrik@ambrik.invalid>").group("System/Base").build_host("localhost");
    package.add_changelog_entry(
        format!("The Ambrik authors <ambrik@ambrik.invalid> - {}-1", contents.version),
        "- what changed is in CHANGELOG.md",
        u32::try_from(contents.built)?,
    );
    package.requires(Dependency::any(format!("libc.so.6(GLIBC_{})(64bit)", contents.libc)));
    for item in &contents.items {
        // Each family has a place of its own for the Z shell's completions.
        let path = format!("/{}", item.path.replace("zsh/vendor-completions", "zsh/site-functions"));
        let mut options = FileOptions::new(&path).permissions(u16::try_from(item.mode)?);
        if path.starts_with("/usr/share/doc/") || path.starts_with("/usr/share/man/") {
            options = options.doc();
        }
        package.with_file_contents(item.content.clone(), options)?;
    }
    for name in ["LICENSE-MIT", "LICENSE-APACHE"] {
        let options = FileOptions::new(format!("/usr/share/licenses/ambrik/{name}")).permissions(0o644).license();
        package.with_file_contents(Contents::licence(name)?, options)?;
    }
    for (path, mode) in &contents.folders {
        package.with_dir_entry(FileOptions::dir(format!("/{path}")).permissions(u16::try_from(*mode)?))?;
    }
    package.with_dir_entry(FileOptions::dir("/usr/share/doc/ambrik").permissions(0o755))?;
    package.post_install_script(AFTER).post_uninstall_script(AFTER);
    let built = package.build()?;
    let path = into.join(format!("ambrik-{}-1.x86_64.rpm", contents.version));
    built.write_file(&path)?;
    Ok(path)
}
