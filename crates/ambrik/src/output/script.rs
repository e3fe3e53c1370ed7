//! Changes as a plain POSIX shell script, for hosts where Ambrik cannot run.
//!
//! It goes into each directory and makes sure that it is there, no link having led it astray; each path must still be of
//! the kind and owner that were judged. Accounts are named by number where their names are not plain.

use std::ffi::OsStr;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use ambrik_core::account::Accounts;
use ambrik_core::change::{Change, Creation, Plan};
use ambrik_core::entry::{Kind, Rights};
use ambrik_core::mode::{Mode, Perm};
use ambrik_core::shown::{Shown, shell_name, shell_path, shell_word};

use super::acl_text_named;

/// What the script begins with: `enter` a directory; whether a path is `still` what was judged; whether nothing is there.
const HEAD: &str = r#"#!/bin/sh
# Written by ambrik: brings these sites to what their site files say.
# Run it as root, with nobody else changing the tree: unlike ambrik itself it works by name.
set -eu
umask 077
failed=0

say() {
  printf '%s: %s; left alone\n' "$1" "$2" >&2
  failed=3
}

enter() {
  here=no
  if cd -P -- "$1" 2> /dev/null && [ "$(pwd -P; echo .)" = "$1
." ]; then
    here=yes
  else
    say "$1" 'it is not there, or a link leads elsewhere'
  fi
}

still() {
  [ "$here" = yes ] || return 1
  found=other
  if [ -L "$3" ]; then
    found=symlink
  elif [ -f "$3" ]; then
    found=file
  elif [ -d "$3" ]; then
    found=directory
  fi
  owner=$(ls -nd -- "$3" 2> /dev/null | awk 'NR == 1 { print $3 ":" $4 }')
  if [ "$found $owner" = "$1 $2" ]; then
    return 0
  fi
  say "$3" "it was a $1 of $2 and is not any more"
  return 1
}

missing() {
  [ "$here" = yes ] || return 1
  if [ -e "$1" ] || [ -L "$1" ]; then
    say "$1" 'it is there already'
    return 1
  fi
}
"#;

pub(crate) fn render(plans: &[Plan], accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    out.write_all(HEAD.as_bytes())?;
    for plan in plans {
        let site = &plan.audit.site;
        writeln!(out, "\n# {}: {}", site.name, Shown(&site.root))?;
        for creation in &plan.creations {
            create(creation, accounts, out)?;
        }
        let mut last: Option<PathBuf> = None;
        for (folder, name, change) in plan.changed_places() {
            if last.as_ref() != Some(&folder) {
                let (part, used_as) = (plan.audit.part_shown(change.part), plan.audit.part_use(change.part));
                writeln!(out, "\n# {}: {used_as}", Shown(Path::new(part)))?;
                writeln!(out, "enter {}", shell_path(&folder))?;
                last = Some(folder);
            }
            one(&name, &change, accounts, out)?;
        }
        if let Some(module) = plan.audit.pending.module.as_ref().filter(|module| !module.holds) {
            let name = &module.name;
            writeln!(out, "\n# labels that outlast a relabelling")?;
            writeln!(out, "modules=$(mktemp -d)")?;
            writeln!(out, "cat > \"$modules/{name}.cil\" << 'END'\n{}END", module.text)?;
            writeln!(out, "semodule -i \"$modules/{name}.cil\"\nrm -r \"$modules\"")?;
        }
        for (path, failure) in plan.left_alone() {
            writeln!(out, "# left alone: {}: {}", Shown(&path), failure.to_string().replace(char::is_control, " "))?;
        }
    }
    writeln!(out, "\nexit \"$failed\"")
}

/// A name in the directory that the script is in: no option, whatever it begins with.
fn here(name: &OsStr) -> String {
    shell_path(&Path::new(".").join(name))
}

fn create(creation: &Creation, accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    let (Some(above), Some(name)) = (creation.path.parent(), creation.path.file_name()) else { return Ok(()) };
    writeln!(out, "\n# missing, and to be made\nenter {}", shell_path(above))?;
    let name = here(name);
    let make = if creation.kind == Kind::Directory { format!("mkdir {name}") } else { format!(": > {name}") };
    let rights = &*creation.rights;
    let nothing = Rights { mode: Mode::of_st_mode(0o7777), acl: None, default_acl: None, ..rights.clone() };
    let mut commands = vec![make, owner(&name, rights, accounts)];
    commands.extend(label(&name, rights));
    commands.extend(lists_and_mode(&name, creation.kind, &nothing, rights, accounts));
    block(&format!("missing {name}"), &commands, out)
}

fn one(name: &OsStr, change: &Change<'_>, accounts: &Accounts, out: &mut dyn Write) -> io::Result<()> {
    let Change { kind, before, after, .. } = change;
    let name = here(name);
    let mut commands = Vec::new();
    if (before.uid, before.gid) != (after.uid, after.gid) {
        commands.push(owner(&name, after, accounts));
    }
    if before.label != after.label {
        commands.extend(label(&name, after));
    }
    if kind.has_mode() {
        commands.extend(lists_and_mode(&name, *kind, before, after, accounts));
    }
    block(&format!("still {} {}:{} {name}", kind.word(), before.uid, before.gid), &commands, out)
}

/// Commands that are run if a test holds.
fn block(test: &str, commands: &[String], out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "if {test}; then")?;
    for command in commands {
        writeln!(out, "  {command}")?;
    }
    writeln!(out, "fi")
}

/// Only the type is named: user, role and level stay as they are.
fn label(name: &str, rights: &Rights) -> Option<String> {
    rights.label.as_ref().map(|label| format!("chcon -h -t {} {name}", shell_word(label.type_name().as_ref())))
}

/// A link itself, should one be there by now.
fn owner(name: &str, rights: &Rights, accounts: &Accounts) -> String {
    let user = shell_name(&accounts.user_shown(rights.uid), rights.uid.0);
    let group = shell_name(&accounts.group_shown(rights.gid), rights.gid.0);
    format!("chown -h {user}:{group} {name}")
}

fn lists_and_mode(name: &str, kind: Kind, before: &Rights, after: &Rights, accounts: &Accounts) -> Vec<String> {
    let mut commands = Vec::new();
    let text = |acl, prefix| {
        let user = |uid| shell_name(&accounts.user_shown(uid), uid.0);
        let group = |gid| shell_name(&accounts.group_shown(gid), gid.0);
        acl_text_named(acl, prefix, &user, &group)
    };
    if before.acl != after.acl || before.default_acl != after.default_acl {
        if before.acl.is_some() || before.default_acl.is_some() {
            commands.push(format!("setfacl -P -b {name}"));
        }
        let lists = [(&after.acl, ""), (&after.default_acl, "default:")];
        for (acl, prefix) in lists.into_iter().filter_map(|(acl, prefix)| Some((acl.as_ref()?, prefix))) {
            commands.push(format!("setfacl -P -m {} {name}", text(acl, prefix)));
        }
    }
    let same_owner = (before.uid, before.gid) == (after.uid, after.gid);
    // A new owner takes capabilities away by itself.
    if before.capabilities.is_some() && same_owner {
        commands.push(format!("setcap -r {name}"));
    }
    if before.mode != after.mode || before.acl != after.acl || !same_owner {
        commands.push(format!("chmod {} {name}", mode_argument(kind, after.mode)));
    }
    commands
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Kind::File, 0o640, "0640")]
    #[case(Kind::Directory, 0o2750, "u=rwx,g=rx,o=,u-s,g+s,-t")]
    #[case(Kind::Directory, 0o755, "u=rwx,g=rx,o=rx,u-s,g-s,-t")]
    #[case(Kind::Directory, 0o3770, "u=rwx,g=rwx,o=,u-s,g+s,+t")]
    fn modes(#[case] kind: Kind, #[case] mode: u16, #[case] want: &str) {
        assert_eq!(mode_argument(kind, Mode::of_st_mode(mode)), want);
    }
}
