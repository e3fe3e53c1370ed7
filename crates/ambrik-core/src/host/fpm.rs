//! The configuration of php-fpm: its pools, their accounts and sockets.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use super::files::Files;
use super::ini::{self, Line, PHP};
use super::program::Launches;
use super::{Address, Place, Pool};

/// Where distributions keep php-fpm's own file.
const FILES: &[&str] = &[
    "/etc/php-fpm.conf",
    "/etc/php*/php-fpm.conf",
    "/etc/php*/fpm/php-fpm.conf",
    "/etc/php/*/fpm/php-fpm.conf",
    "/etc/php/*/php-fpm.conf",
    "/etc/opt/*/php*/php-fpm.conf",
    "/etc/opt/*/*/php-fpm.conf",
    "/usr/local/etc/php-fpm.conf",
];

/// Includes are followed so deep.
const DEEPEST: usize = 8;

/// The pools of every php-fpm on the host: in the usual places, and those that `started` ones read.
pub(super) fn read(files: &mut Files<'_>, launches: &Launches) -> Vec<Pool> {
    let mut mains: BTreeSet<PathBuf> = FILES.iter().flat_map(|pattern| files.matching(Path::new(pattern))).collect();
    mains.extend(launches.mains.iter().map(|(main, _)| main.clone()));
    mains.iter().flat_map(|main| pools(files, main)).collect()
}

fn pools(files: &mut Files<'_>, main: &Path) -> Vec<Pool> {
    let mut lines = Vec::new();
    collect(files, main, main, "", DEEPEST, &mut lines);
    let mut pools: Vec<Pool> = Vec::new();
    for (place, line) in lines {
        if line.section.is_empty() || line.section == "global" {
            continue;
        }
        let at = pools.iter().position(|pool| pool.name == line.section).unwrap_or_else(|| {
            pools.push(Pool::new(&line.section, main, &place));
            pools.len() - 1
        });
        pools[at].take(files, &line, place);
    }
    pools
}

/// The lines of a file and, in their place, of those that it includes.
fn collect(
    files: &mut Files<'_>,
    main: &Path,
    file: &Path,
    section: &str,
    deep: usize,
    lines: &mut Vec<(Place, Line)>,
) {
    let Some(text) = files.text(file) else { return };
    let (found, strange) = ini::read(&text, PHP);
    for number in strange {
        files.note(&Place::new(file, number), "not a line of php-fpm's configuration; left out");
    }
    let mut last = section.to_owned();
    for mut line in found {
        if line.section.is_empty() {
            section.clone_into(&mut line.section);
        }
        last.clone_from(&line.section);
        let place = Place::new(file, line.line);
        if line.key != "include" {
            lines.push((place, line));
            continue;
        }
        let pattern = main.parent().unwrap_or(Path::new("/")).join(&line.value);
        if deep == 0 {
            files.note(&place, "an include too deep; not followed");
            continue;
        }
        for path in files.matching(&pattern) {
            collect(files, main, &path, &last, deep - 1, lines);
        }
    }
}

impl Pool {
    fn new(name: &str, main: &Path, at: &Place) -> Self {
        Self {
            name: name.to_owned(),
            main: main.to_owned(),
            account: None,
            listen: None,
            listen_owner: None,
            listen_group: None,
            listen_mode: None,
            listen_acl: false,
            on_demand: false,
            upload: None,
            settings: Vec::new(),
            at: at.clone(),
        }
    }

    /// Takes what a line of the pool says; a later line beats an earlier one.
    fn take(&mut self, files: &mut Files<'_>, line: &Line, place: Place) {
        let value = line.value.replace("$pool", &self.name);
        self.settings.extend(super::php_settings::SettingLine::of_pool(&line.key, &value, &place));
        match line.key.as_str() {
            "user" => {
                let group = self.account.as_ref().and_then(|(account, _)| account.split_once(':').map(|(_, g)| g));
                let account = group.map_or_else(|| value.clone(), |group| format!("{value}:{group}"));
                self.account = Some((account, place));
            }
            "group" => {
                let (user, at) = self.account.take().unwrap_or((String::new(), place));
                let user = user.split(':').next().unwrap_or_default();
                self.account = Some((format!("{user}:{value}"), at));
            }
            "listen" => match Address::read(&value) {
                Some(address) => self.listen = Some((address, place)),
                None => files.note(&place, format!("listen = {value}: not an address that is understood")),
            },
            "listen.owner" => self.listen_owner = Some(value),
            "listen.group" => self.listen_group = Some(value),
            "listen.mode" => self.listen_mode = Some(value),
            "listen.acl_users" | "listen.acl_groups" => self.listen_acl |= !value.is_empty(),
            // An address in the environment comes after what PHP itself is told.
            "php_admin_value[upload_tmp_dir]" | "php_value[upload_tmp_dir]" => {
                self.upload = Some((PathBuf::from(value), place));
            }
            "env[TMPDIR]" => self.upload = self.upload.take().or(Some((PathBuf::from(value), place))),
            "pm" => self.on_demand = value == "ondemand",
            "chroot" => files.note(
                &place,
                format!("pool {} sees {value} as /: paths in its code and settings begin there", self.name),
            ),
            _ => {}
        }
    }
}
