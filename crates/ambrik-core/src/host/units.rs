//! Service units (systemd.unit(5)): the accounts that they start web servers and PHP as.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::files::Files;
use super::ini::{self, UNIT};
use super::{PROGRAMS, Place};

/// Where units are, the strongest first.
const FOLDERS: &[&str] =
    &["/etc/systemd/system", "/run/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system"];

/// A unit that starts something that matters.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Unit {
    /// The name of the program that it starts.
    pub(super) program: String,
    /// Its arguments.
    pub(super) arguments: Vec<String>,
    /// `user[:group]`, where it sets one.
    pub(super) account: Option<(String, Place)>,
    pub(super) works_in: Option<String>,
    /// `UMask=` (systemd.exec(5)).
    pub(super) umask: Option<(u16, Place)>,
    pub(super) at: Place,
}

/// The units that start a web server or PHP.
pub(super) fn read(files: &mut Files<'_>) -> Vec<Unit> {
    let mut names: BTreeMap<String, PathBuf> = BTreeMap::new();
    for folder in FOLDERS {
        // A link to nowhere counts as well: it masks the unit of that name.
        let units = files.in_folder(Path::new(folder)).into_iter();
        for path in units.filter(|path| path.extension().is_some_and(|kind| kind == "service")) {
            let Some(name) = path.file_name() else { continue };
            names.entry(name.to_string_lossy().into_owned()).or_insert(path);
        }
    }
    names.retain(|name, _| PROGRAMS.iter().flat_map(|program| program.in_units).any(|word| name.contains(word)));
    names.iter().filter_map(|(name, path)| unit(files, name, path)).collect()
}

fn unit(files: &mut Files<'_>, name: &str, path: &Path) -> Option<Unit> {
    // One that is masked is a link to /dev/null, which is no regular file and so has no text.
    let mut texts = vec![(path.to_owned(), files.text(path)?)];
    for folder in FOLDERS.iter().rev() {
        for path in files.matching(&Path::new(folder).join(format!("{name}.d/*.conf"))) {
            texts.extend(files.text(&path).map(|text| (path.clone(), text)));
        }
    }
    let mut said: BTreeMap<String, (String, Place)> = BTreeMap::new();
    for (path, text) in &texts {
        let (lines, _) = ini::read(text, UNIT);
        for line in lines.into_iter().filter(|line| line.section == "Service") {
            if line.value.is_empty() {
                said.remove(&line.key);
            } else if line.key != "ExecStart" || !said.contains_key("ExecStart") {
                said.insert(line.key, (line.value, Place::new(path, line.line)));
            }
        }
    }
    let (command, at) = said.get("ExecStart")?;
    let mut words = command.split_whitespace().map(|word| word.trim_matches(['"', '\'']).to_owned());
    let program = words.next()?;
    let program = program.trim_start_matches(['-', '@', ':', '+', '!']).rsplit('/').next()?.to_owned();
    let account = said.get("User").map(|(user, at)| {
        let group = said.get("Group").map(|(group, _)| format!(":{group}")).unwrap_or_default();
        (format!("{user}{group}"), at.clone())
    });
    let works_in = said.get("WorkingDirectory").map(|(folder, _)| folder.clone());
    let umask = said.get("UMask").and_then(|(text, at)| Some((ini::octal(text)?, at.clone())));
    Some(Unit { program, arguments: words.collect(), account, works_in, umask, at: at.clone() })
}
