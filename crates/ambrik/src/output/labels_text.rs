//! Labels for people: what paths have, what a relabelling would give, what they are to have, side by side.

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use ambrik_core::audit::Audit;
use ambrik_core::host::Role;
use ambrik_core::label::{LabelLine, Labels};
use ambrik_core::shown::Shown;

use super::table::{BAD, GOOD, HEAD, ODD, cut, styled, table, width, wrapped, write};
use super::{counted, number};

pub(crate) fn render(audit: &Audit, labels: &Labels, lines: &[LabelLine], out: &mut dyn Write) -> io::Result<()> {
    let site = &audit.site;
    let name = styled(HEAD, &site.name);
    let state = &labels.state;
    if !labels.are_managed() {
        let words = if state.installed {
            "SELinux is installed and not used on this host: labels do nothing"
        } else {
            "no SELinux on this host: labels do nothing"
        };
        return writeln!(out, "{name}: {words}");
    }
    let wrong: u64 = lines.iter().filter(|line| !line.right).map(|line| line.count).sum();
    let lost: u64 = lines.iter().filter(|line| !line.is_kept()).map(|line| line.count).sum();
    let first = match (wrong, lost) {
        (0, 0) => styled(GOOD, "labels are right, and a relabelling keeps them"),
        (0, n) => {
            let words = counted(n, "path would get another label", "paths would get other labels");
            styled(ODD, &format!("labels are right, and {words} by a relabelling"))
        }
        (n, _) => styled(BAD, &counted(n, "path does not have the right label", "paths do not have the right labels")),
    };
    writeln!(out, "{name}: {first}")?;
    let (domain, seen) = labels.domain(Role::Php, site.php.ids.uid);
    let seen = if seen { "" } else { " (as is usual: no process of it runs)" };
    let policy = state.policy.as_deref().map(|policy| format!(", policy {policy}")).unwrap_or_default();
    let words = format!("SELinux {}{policy}; PHP in {}{seen}", state.now.word(), domain.type_name());
    wrapped(&words, "  ", "  ", out)?;
    writeln!(out)?;
    let mut rows = table(&["part", "paths", "now", "a relabelling gives", "should be"]);
    for line in lines {
        let now = line.now.as_deref().unwrap_or("none");
        // What is wrong is what it has, and not what it should have.
        let now = if line.right { now.to_owned() } else { styled(BAD, now) };
        let wanted = if line.right { styled(GOOD, "as now") } else { line.wanted.clone() };
        let relabelled = match &line.relabelled {
            None if line.given => "from its mount".to_owned(),
            None => "as it is".to_owned(),
            Some(name) if line.is_kept() => name.clone(),
            Some(name) => styled(ODD, name),
        };
        rows.add_row(vec![
            line.path
                .as_ref()
                .map_or_else(|| cut(audit.part_shown(line.part), width() / 4), |path| Shown(path).to_string()),
            number(line.count),
            now,
            relabelled,
            wanted,
        ]);
    }
    write(&mut rows, &[1], "  ", out)?;
    if wrong > 0 {
        writeln!(out, "\n  put it right: ambrik set {}   (first: --preview)", site.name)?;
    } else if lost > 0 {
        writeln!(out, "\n  make them last: ambrik set {}   (first: --preview)", site.name)?;
    }
    if let Some(rules) = labels.rules() {
        let root = site.root.as_os_str().as_bytes();
        let stands_for = rules.aliased(root);
        if stands_for != root {
            let path = Shown(Path::new(std::ffi::OsStr::from_bytes(&stands_for))).to_string();
            let words = format!("an equivalence rule has the site labelled as {path} (semanage fcontext -l -C)");
            wrapped(&words, "  ", "    ", out)?;
        }
        let left: BTreeSet<&str> = lines.iter().filter_map(|line| line.now.as_deref()).collect();
        let left: Vec<&str> = left.into_iter().filter(|name| rules.is_customizable(name)).collect();
        if !left.is_empty() {
            let words =
                format!("a relabelling leaves {} as it is unless it is forced (customizable_types)", left.join(", "));
            wrapped(&words, "  ", "    ", out)?;
        }
    }
    for unclear in labels.rules().iter().flat_map(|rules| rules.unclear()).take(5) {
        wrapped(&format!("{}: {}", unclear.at, unclear.says), "  ", "    ", out)?;
    }
    Ok(())
}
