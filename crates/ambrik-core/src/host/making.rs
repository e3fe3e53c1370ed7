//! With which umask PHP makes files here, and where it keeps uploads until they are moved.

use std::path::{Path, PathBuf};

use super::files::Files;
use super::ini::{self, PHP};
use super::php_programs::FPM;
use super::process::{Process, Running};
use super::program::Family;
use super::units::Unit;
use super::{Place, Pool, Role, Server};
use crate::account::{Accounts, Uid};

/// How PHP makes files.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Making {
    /// The umasks that it runs with, as far as they are known, and where each was seen.
    pub umasks: Vec<(u16, String)>,
    /// Where it keeps uploads until they are moved.
    pub upload: PathBuf,
}

/// What one PHP makes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Makes {
    uid: Uid,
    umask: Option<(u16, String)>,
    upload: Option<(PathBuf, Place)>,
}

/// What the PHP of each account makes, by the workers that run, else by configuration.
pub(super) fn read(
    files: &mut Files<'_>,
    accounts: &Accounts,
    workers: &[&Process],
    (pools, units, servers): (&[Pool], &[Unit], &[Server]),
) -> Vec<Makes> {
    let set_for = |process: &Process| {
        let unit = units.iter().find(|unit| unit.program == process.program);
        let server = servers.iter().find(|server| process.family.loads_php && server.family.loads_php);
        let line = unit.and_then(|unit| unit.umask.clone());
        line.or_else(|| server.and_then(|server| server.umask.clone()))
    };
    let running = workers.iter().filter(|process| process.role == Role::Php || process.php_inside);
    let running = running.map(|process| {
        let says = |umask: u16| match set_for(process).filter(|(line, _)| *line == umask) {
            Some((_, at)) => format!("process {}, as {at} says", process.pid),
            None => format!("process {}", process.pid),
        };
        Makes { uid: process.ids.uid, umask: process.umask.map(|umask| (umask, says(umask))), upload: None }
    });
    let mut found: Vec<Makes> = running.collect();
    let unit = units.iter().find(|unit| Family::of_name(&unit.program) == Some(Family::of(&FPM)));
    for pool in pools {
        let Some((text, _)) = &pool.account else { continue };
        let Ok(account) = accounts.account(text) else { continue };
        let uid = account.ids.uid;
        let runs = found.iter().any(|makes| makes.uid == uid && makes.umask.is_some());
        let line = unit.and_then(|unit| unit.umask.clone()).filter(|_| !runs);
        let umask = line.map(|(umask, at)| (umask, at.to_string()));
        let upload = pool.upload.clone().or_else(|| of_ini(files, pool.main.parent()?));
        found.push(Makes { uid, umask, upload });
    }
    for server in servers.iter().filter(|server| server.family.loads_php) {
        let account = server.account.as_ref().and_then(|(text, _)| accounts.account(text).ok());
        let uid = account.map(|account| account.ids.uid);
        if let (Some(uid), Some((umask, at))) = (uid, &server.umask)
            && found.iter().all(|makes| makes.uid != uid)
        {
            found.push(Makes { uid, umask: Some((*umask, at.to_string())), upload: None });
        }
    }
    found
}

/// The folder for uploads that PHP's own files beside a php-fpm's name.
fn of_ini(files: &mut Files<'_>, folder: &Path) -> Option<(PathBuf, Place)> {
    let mut found = None;
    let more = files.matching(&folder.join("conf.d/*.ini"));
    for file in std::iter::once(folder.join("php.ini")).chain(more) {
        let Some(text) = files.text(&file) else { continue };
        let (lines, _) = ini::read(&text, PHP);
        for line in lines.into_iter().filter(|line| line.key == "upload_tmp_dir" && !line.value.is_empty()) {
            found = Some((PathBuf::from(line.value), Place::new(&file, line.line)));
        }
    }
    found
}

/// The workers whose word counts.
pub(super) fn believed(running: &Running) -> Vec<&Process> {
    running.workers.iter().filter(|process| running.started_by_root(process)).collect()
}

/// What PHP makes as this account.
pub(super) fn of(makes: &[Makes], uid: Uid) -> Making {
    let of = || makes.iter().filter(|makes| makes.uid == uid);
    let mut umasks: Vec<(u16, String)> = Vec::new();
    for (umask, says) in of().filter_map(|makes| makes.umask.clone()) {
        if umasks.iter().all(|(known, _)| *known != umask) {
            umasks.push((umask, says));
        }
    }
    let upload = of().find_map(|makes| makes.upload.clone()).map(|(path, _)| path);
    Making { umasks, upload: upload.unwrap_or_else(|| PathBuf::from("/tmp")) }
}
