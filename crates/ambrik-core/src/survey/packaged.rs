//! What the distribution knows of a tree: the packages that it came in, and whom their scripts and databases give what.
//! Files are read, under another host's root too; nothing of a package is run.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::clue::Seen;
use crate::tree::Host;

/// What a package's script or database says of a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct PackageFact {
    pub(crate) path: PathBuf,
    /// Who it is given to, by name; empty where only the mode is said.
    pub(crate) user: String,
    pub(crate) group: String,
    /// Its mode, where that is said.
    pub(crate) mode: Option<u32>,
    /// Whether it is made there, too.
    pub(crate) made: bool,
    /// What says so.
    pub(crate) says: String,
    pub(crate) seen: Seen,
}

const INFO: &str = "/var/lib/dpkg/info";
/// Longer files of a package are no lists or scripts.
const LONGEST: usize = 16 << 20;

/// What the packages of dpkg's that `root` came in say of paths, in the order in which they say it.
pub(crate) fn given(host: &Host, root: &Path) -> Vec<PackageFact> {
    let mut given = Vec::new();
    for package in dpkg_packages(host, root) {
        for script in ["preinst", "postinst", "config"] {
            let file = Path::new(INFO).join(format!("{package}.{script}"));
            if let Ok(text) = host.read(&file, LONGEST) {
                given.extend(script_gives(&String::from_utf8_lossy(&text), &file));
            }
        }
    }
    given.extend(overrides(host));
    given
}

/// The packages that hold the tree's root or what is in it (dpkg: `info/NAME.list`).
fn dpkg_packages(host: &Host, root: &Path) -> BTreeSet<String> {
    let below = regex::escape(&format!("{}/", root.display()));
    let Ok(below) = regex::bytes::Regex::new(&below) else { return BTreeSet::new() };
    let names = host.names_in(Path::new(INFO)).unwrap_or_default();
    let lists = names.iter().filter_map(|name| name.to_str()?.strip_suffix(".list"));
    let held = lists.filter(|package| {
        let text = host.read(&Path::new(INFO).join(format!("{package}.list")), LONGEST).unwrap_or_default();
        below.is_match(&text)
    });
    held.map(str::to_owned).collect()
}

/// `dpkg-statoverride(1)`'s list: user, group, mode and path.
fn overrides(host: &Host) -> Vec<PackageFact> {
    let file = Path::new("/var/lib/dpkg/statoverride");
    let text = host.read(file, LONGEST).unwrap_or_default();
    let text = String::from_utf8_lossy(&text).into_owned();
    let lines = text.lines().enumerate().filter_map(|(number, line)| {
        let mut fields = line.splitn(4, ' ');
        let (user, group, mode, path) = (fields.next()?, fields.next()?, fields.next()?, fields.next()?);
        Some(PackageFact {
            path: PathBuf::from(path),
            user: user.to_owned(),
            group: group.to_owned(),
            mode: u32::from_str_radix(mode, 8).ok(),
            made: false,
            says: "the host's list of overrides gives it".into(),
            seen: Seen::at(file, number + 1),
        })
    });
    lines.collect()
}

/// What a maintainer script gives away: `chown`, `chgrp`, `chmod`, `install -d` and `dpkg-statoverride --add`, with the
/// variables and lists that are written out in it.
fn script_gives(text: &str, file: &Path) -> Vec<PackageFact> {
    let mut variables: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut given = Vec::new();
    let mut number = 0;
    // A line goes on where it ends in a backslash.
    let joined = text.replace("\\\n", "\u{0}");
    for line in joined.lines() {
        number += 1 + line.matches('\0').count();
        let at = number - line.matches('\0').count();
        let line = line.replace('\0', " ");
        for command in line.split([';', '|', '&']) {
            let Some(words) = shlex::split(command) else { continue };
            take(&words, &mut variables, &mut given, &Seen::at(file, at));
        }
    }
    given
}

/// Takes what one simple command of a script says.
fn take(words: &[String], variables: &mut BTreeMap<String, Vec<String>>, given: &mut Vec<PackageFact>, seen: &Seen) {
    let words: Vec<&str> = words
        .iter()
        .map(String::as_str)
        .skip_while(|word| matches!(*word, "do" | "then" | "else" | "if" | "!" | "{" | "(" | "local" | "export"))
        .collect();
    let Some((command, arguments)) = words.split_first() else { return };
    if let Some((name, value)) = command.split_once('=').filter(|_| arguments.is_empty()) {
        let values = expanded(value, variables);
        variables.insert(name.to_owned(), values);
        return;
    }
    if let (&"for", [name, "in", list @ ..]) = (command, arguments) {
        let values = list.iter().flat_map(|word| expanded(word, variables)).collect();
        variables.insert((*name).to_owned(), values);
        return;
    }
    let command = command.rsplit('/').next().unwrap_or(command);
    let (options, plain): (Vec<&str>, Vec<&str>) = arguments.iter().partition(|word| word.starts_with('-'));
    let one = |word: &str| expanded(word, variables).into_iter().next().unwrap_or_default();
    let owner = |word: &str| {
        let word = one(word);
        let (user, group) = word.split_once([':', '.']).unwrap_or((&word, ""));
        (user.to_owned(), group.to_owned())
    };
    let mode_of = |word: &str| u32::from_str_radix(&one(word), 8).ok();
    let (user, group, mode, paths, made) = match (command, plain.as_slice()) {
        ("chown", [who, paths @ ..]) => {
            let (user, group) = owner(who);
            (user, group, None, paths, false)
        }
        ("chgrp", [group, paths @ ..]) => (String::new(), one(group), None, paths, false),
        ("chmod", [mode, paths @ ..]) => (String::new(), String::new(), mode_of(mode), paths, false),
        ("dpkg-statoverride", [user, group, mode, paths @ ..]) if options.contains(&"--add") => {
            (one(user), one(group), mode_of(mode), paths, false)
        }
        ("install", _) if options.iter().any(|option| option.contains('d')) => {
            let after = |wanted: &str| {
                let at = arguments.iter().position(|word| *word == wanted)?;
                arguments.get(at + 1).map(|word| one(word))
            };
            let mode = after("-m").and_then(|mode| u32::from_str_radix(&mode, 8).ok());
            (after("-o").unwrap_or_default(), after("-g").unwrap_or_default(), mode, &plain[..], true)
        }
        _ => return,
    };
    for path in paths.iter().flat_map(|word| expanded(word, variables)).filter(|path| path.starts_with('/')) {
        let path: PathBuf = Path::new(path.trim_end_matches("/*")).components().collect();
        let (user, group, says) = (user.clone(), group.clone(), "its package's script gives it".to_owned());
        given.push(PackageFact { path, user, group, mode, made, says, seen: seen.clone() });
    }
}

/// A word with its variables filled in: nothing where one is not known.
fn expanded(word: &str, variables: &BTreeMap<String, Vec<String>>) -> Vec<String> {
    const MOST: usize = 64;
    let Some(at) = word.find('$') else { return vec![word.to_owned()] };
    let rest = &word[at + 1..];
    let is_name = |c: char| c.is_ascii_alphanumeric() || c == '_';
    let (name, after) = match rest.strip_prefix('{') {
        Some(inner) => {
            let Some((name, after)) = inner.split_once('}') else { return Vec::new() };
            // `${NAME:-default}`
            (name.split(':').next().unwrap_or(name), after)
        }
        None => rest.split_at(rest.find(|c| !is_name(c)).unwrap_or(rest.len())),
    };
    let Some(values) = variables.get(name) else { return Vec::new() };
    let words = values.iter().flat_map(|value| value.split_whitespace()).map(|v| format!("{}{v}{after}", &word[..at]));
    words.take(MOST).flat_map(|word| expanded(&word, variables)).take(MOST).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("chown www-data:www-data /var/lib/quay", &["/var/lib/quay www-data:www-data"])]
    #[case("chown -R www-data /var/lib/quay/a /var/lib/quay/b", &["/var/lib/quay/a www-data:", "/var/lib/quay/b www-data:"])]
    #[case("D=/var/lib/quay\nU=www-data\nchown \"$U:$U\" ${D}/x", &["/var/lib/quay/x www-data:www-data"])]
    #[case("for d in cache logs; do\n  chown www-data /var/quay/$d\ndone", &["/var/quay/cache www-data:", "/var/quay/logs www-data:"])]
    #[case("install -d -o www-data -g adm -m 2750 /var/log/quay", &["/var/log/quay www-data:adm 2750 made"])]
    #[case("dpkg-statoverride --update --add www-data www-data 0755 /var/lib/quay", &["/var/lib/quay www-data:www-data 755"])]
    #[case("if [ -d /var/lib/quay ]; then chgrp www-data /var/lib/quay; chmod 2775 /var/lib/quay; fi", &["/var/lib/quay :www-data", "/var/lib/quay : 2775"])]
    #[case("chown \\\n  www-data \\\n  /var/lib/quay", &["/var/lib/quay www-data:"])]
    #[case("chown www-data $UNKNOWN/x", &[])]
    #[case("echo chown www-data /x", &[])]
    fn scripts_are_read(#[case] text: &str, #[case] want: &[&str]) {
        let shown = |given: &PackageFact| {
            let mode = given.mode.map(|mode| format!(" {mode:o}")).unwrap_or_default();
            let made = if given.made { " made" } else { "" };
            format!("{} {}:{}{mode}{made}", given.path.display(), given.user, given.group)
        };
        let given = script_gives(text, Path::new("/x"));
        assert_eq!(given.iter().map(shown).collect::<Vec<_>>(), want);
    }

    #[test]
    fn lines_are_counted_as_they_are_written() {
        let given = script_gives("set -e\nchown \\\n www-data /a/b\nchown www-data /a/c\n", Path::new("/x"));
        assert_eq!(given.iter().map(|given| given.seen.line).collect::<Vec<_>>(), [2, 4]);
    }
}
