//! Changes as a plain POSIX shell script, for hosts where Ambrik cannot run.

use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use ambrik_core::account::Accounts;
use ambrik_core::change::{Creation, Plan};
use ambrik_core::entry::{Kind, Rights};
use ambrik_core::mode::{Mode, Perm};
use ambrik_core::shown::Shown;

use super::acl_text;

pub(crate) fn render(plans: &[Plan], accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "#!/bin/sh")?;
    writeln!(out, "# Written by ambrik: brings these sites to what their site files say.")?;
    writeln!(out, "# Run it as root, with nobody else changing the tree: unlike ambrik itself it works by path.")?;
    writeln!(out, "set -eu")?;
    for plan in plans {
        let site = &plan.audit.site;
        writeln!(out, "\n# {}: {}", site.name, Shown(&site.root))?;
        for creation in &plan.creations {
            create(creation, accounts, out)?;
        }
        let mut last = None;
        for (path, kind, part, before, after) in plan.changed_paths() {
            if last != Some(part) {
                let used_as = plan.audit.part_use(part);
                writeln!(out, "\n# {}: {used_as}", Shown(Path::new(plan.audit.part_shown(part))))?;
                last = Some(part);
            }
            change(&path, kind, &before, &after, accounts, out)?;
        }
        if let Some(module) = plan.audit.module.as_ref().filter(|module| module.needed) {
            let name = &module.name;
            writeln!(out, "\n# labels that outlast a relabelling")?;
            writeln!(out, "modules=$(mktemp -d)")?;
            writeln!(out, "cat > \"$modules/{name}.cil\" << 'END'\n{}END", module.text)?;
            writeln!(out, "semodule -i \"$modules/{name}.cil\"\nrm -r \"$modules\"")?;
        }
        for (path, failure) in plan.left_alone() {
            writeln!(out, "# left alone: {}: {failure}", Shown(&path))?;
        }
    }
    Ok(())
}

fn create(creation: &Creation, accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "\n# missing, and to be made")?;
    let path = &creation.path;
    match creation.kind {
        Kind::Directory => line(&[b"mkdir -p", &quoted(path)], out)?,
        _ => line(&[b"touch", &quoted(path)], out)?,
    }
    let rights = &creation.rights;
    let nothing = Rights { mode: Mode::of_st_mode(0o7777), acl: None, default_acl: None, ..(**rights).clone() };
    owner(path, creation.kind, rights, accounts, out)?;
    label(path, rights, out)?;
    lists_and_mode(path, creation.kind, &nothing, rights, accounts, out)
}

fn change(
    path: &Path,
    kind: Kind,
    before: &Rights,
    after: &Rights,
    accounts: &Accounts,
    out: &mut dyn Write,
) -> io::Result<()> {
    let new_owner = (before.uid, before.gid) != (after.uid, after.gid);
    if new_owner {
        owner(path, kind, after, accounts, out)?;
    }
    if before.label != after.label {
        label(path, after, out)?;
    }
    if kind.has_mode() { lists_and_mode(path, kind, before, after, accounts, out) } else { Ok(()) }
}

/// Only the type is named: user, role and level stay as they are.
fn label(path: &Path, rights: &Rights, out: &mut dyn Write) -> io::Result<()> {
    match &rights.label {
        Some(label) => line(&[b"chcon -h -t", label.type_name().as_bytes(), &quoted(path)], out),
        None => Ok(()),
    }
}

fn owner(path: &Path, kind: Kind, rights: &Rights, accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    let names = accounts.owner_shown(rights.uid, rights.gid);
    let command: &[u8] = if kind == Kind::Symlink { b"chown -h" } else { b"chown" };
    line(&[command, names.as_bytes(), &quoted(path)], out)
}

fn lists_and_mode(
    path: &Path,
    kind: Kind,
    before: &Rights,
    after: &Rights,
    accounts: &Accounts,
    out: &mut dyn Write,
) -> io::Result<()> {
    if before.acl != after.acl || before.default_acl != after.default_acl {
        if before.acl.is_some() || before.default_acl.is_some() {
            line(&[b"setfacl -b", &quoted(path)], out)?;
        }
        if let Some(acl) = &after.acl {
            line(&[b"setfacl -m", acl_text(accounts, acl, "").as_bytes(), &quoted(path)], out)?;
        }
        if let Some(acl) = &after.default_acl {
            line(&[b"setfacl -m", acl_text(accounts, acl, "default:").as_bytes(), &quoted(path)], out)?;
        }
    }
    // A new owner takes capabilities away by itself.
    if before.capabilities.is_some() && (before.uid, before.gid) == (after.uid, after.gid) {
        line(&[b"setcap -r", &quoted(path)], out)?;
    }
    let same =
        before.mode == after.mode && before.acl == after.acl && (before.uid, before.gid) == (after.uid, after.gid);
    if same { Ok(()) } else { line(&[b"chmod", mode_argument(kind, after.mode).as_bytes(), &quoted(path)], out) }
}

/// Octal digits leave a directory's set-id bits alone in some implementations, so there it is said in letters.
fn mode_argument(kind: Kind, mode: Mode) -> String {
    if kind != Kind::Directory && !mode.has(0o7000) {
        return mode.to_string();
    }
    let letters = |perm: Perm| perm.to_string().replace('-', "");
    let sign = |bit, letter: &str| format!("{}{letter}", if mode.has(bit) { '+' } else { '-' });
    format!(
        "u={},g={},o={},u{},g{},{}",
        letters(mode.user()),
        letters(mode.group()),
        letters(mode.other()),
        sign(Mode::SET_UID, "s"),
        sign(Mode::SET_GID, "s"),
        sign(Mode::STICKY, "t"),
    )
}

/// A path in single quotes: nothing in it means anything to the shell. It is absolute, so it is no option either.
fn quoted(path: &Path) -> Vec<u8> {
    let mut quoted = vec![b'\''];
    for &byte in path.as_os_str().as_bytes() {
        match byte {
            b'\'' => quoted.extend_from_slice(b"'\\''"),
            byte => quoted.push(byte),
        }
    }
    quoted.push(b'\'');
    quoted
}

fn line(words: &[&[u8]], out: &mut dyn Write) -> io::Result<()> {
    out.write_all(&words.join(&b' '))?;
    out.write_all(b"\n")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::ffi::OsStr;

    #[rstest]
    #[case(b"/a b", b"'/a b'")]
    #[case(b"/it's", b"'/it'\\''s'")]
    #[case(b"/$x\n\xff", b"'/$x\n\xff'")]
    fn quotes(#[case] path: &[u8], #[case] want: &[u8]) {
        assert_eq!(quoted(Path::new(OsStr::from_bytes(path))), want);
    }

    #[rstest]
    #[case(Kind::File, 0o640, "0640")]
    #[case(Kind::Directory, 0o2750, "u=rwx,g=rx,o=,u-s,g+s,-t")]
    #[case(Kind::Directory, 0o755, "u=rwx,g=rx,o=rx,u-s,g-s,-t")]
    #[case(Kind::Directory, 0o3770, "u=rwx,g=rwx,o=,u-s,g+s,+t")]
    fn modes(#[case] kind: Kind, #[case] mode: u16, #[case] want: &str) {
        assert_eq!(mode_argument(kind, Mode::of_st_mode(mode)), want);
    }
}
