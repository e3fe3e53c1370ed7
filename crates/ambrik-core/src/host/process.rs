//! Running processes (proc(5)): which of them are web servers or run PHP, and with which ids.

use std::collections::BTreeMap;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::ini::octal;
use super::php_programs::{FPM, OWN_SERVER, is_version};
use super::program::{Family, Program};
use super::{PROGRAMS, Role};
use crate::account::{Gid, Ids, Powers, Uid};
use crate::tree::Host;

/// A process that serves the web or runs PHP.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Process {
    pub(super) pid: u32,
    pub(super) parent: u32,
    pub(super) family: Family,
    pub(super) role: Role,
    /// Its program's name, such as `php-fpm8.2`.
    pub(super) program: String,
    /// Its title or command line, word by word.
    pub(super) words: Vec<String>,
    pub(super) real: Uid,
    /// The effective ids, and the supplementary groups.
    pub(super) ids: Ids,
    /// What its new files do not get, where the kernel tells.
    pub(super) umask: Option<u16>,
    /// Whether it runs PHP inside the web server.
    pub(super) php_inside: bool,
    /// Its program file, where that belongs to somebody other than root: anybody can call a program of theirs so.
    pub(super) foreign_program: Option<(PathBuf, Uid)>,
    /// The directory that it works in, of PHP's own server.
    pub(super) works_in: Option<PathBuf>,
}

impl Process {
    /// Whether root started it, as far as it tells by itself: its real user is root, and its program is root's.
    pub(super) fn is_roots(&self) -> bool {
        self.real == Uid::ROOT && self.foreign_program.is_none()
    }

    /// Its title, as a process listing shows it.
    pub(super) fn title(&self) -> String {
        self.words.join(" ").trim_end().to_owned()
    }

    /// The pool that a php-fpm worker says it is of.
    pub(super) fn pool(&self) -> Option<String> {
        let title = self.title();
        title.split_once(": pool ").filter(|_| self.family == Family::of(&FPM)).map(|(_, pool)| pool.trim().to_owned())
    }

    /// The folder that PHP's own server serves, and the address.
    pub(super) fn own_server(&self) -> Option<(PathBuf, String)> {
        let after = |option: &str| {
            let at = self.words.iter().position(|word| word == option)?;
            self.words.get(at + 1).cloned()
        };
        let address = after("-S")?;
        let works_in = self.works_in.clone().unwrap_or_else(|| PathBuf::from("/"));
        Some((after("-t").map_or(works_in.clone(), |folder| works_in.join(folder)), address))
    }
}

/// The running processes that matter.
#[derive(Clone, Debug, Default)]
pub(super) struct Running {
    /// Whether there is anything to look at.
    pub(super) seen: bool,
    /// The workers: those that answer requests.
    pub(super) workers: Vec<Process>,
    /// What the workers were started by.
    pub(super) masters: Vec<Process>,
}

impl Running {
    /// The workers of a family.
    pub(super) fn of(&self, family: Family) -> impl Iterator<Item = &Process> {
        self.workers.iter().filter(move |process| process.family == family)
    }

    /// Whether root started a process: itself, or what it was started by, of its own kind or a web server. Anybody can give
    /// a program of theirs any title, and nobody can have another's process for a parent.
    pub(super) fn started_by_root(&self, process: &Process) -> bool {
        let parent = || self.masters.iter().chain(&self.workers).find(|parent| parent.pid == process.parent);
        let starts = |parent: &Process| parent.family == process.family || parent.role == Role::Web;
        let by_parent = || parent().is_some_and(|parent| parent.is_roots() && starts(parent));
        process.is_roots() || (process.foreign_program.is_none() && by_parent())
    }

    /// What started a worker.
    pub(super) fn master(&self, worker: &Process) -> Option<&Process> {
        self.masters.iter().find(|master| master.pid == worker.parent)
    }

    /// The configuration file that a php-fpm master names in its title.
    pub(super) fn fpm_file(master: &Process) -> Option<PathBuf> {
        let title = master.title();
        let (_, file) = title.split_once("master process (")?;
        Some(PathBuf::from(file.strip_suffix(')')?))
    }
}

/// As often, and after as long a time, it is looked again where a worker is just being started.
const LOOKS: usize = 5;
const APART: Duration = Duration::from_millis(50);

/// The processes of `host`: of this one, or of the `proc` in the folder that stands for it.
pub(super) fn read(host: &Host) -> Running {
    let (mut seen, mut processes) = listed(host);
    for _ in 0..LOOKS {
        if !host.is_this() || !one_is_being_started(&processes) {
            break;
        }
        std::thread::sleep(APART);
        (seen, processes) = listed(host);
    }
    sort(seen, &processes)
}

/// Whether there are processes at all, and those that matter.
pub(super) fn listed(host: &Host) -> (bool, Vec<Process>) {
    let names = host.names_in(Path::new("/proc")).unwrap_or_default();
    let mut pids: Vec<u32> = names.iter().filter_map(|name| name.to_str()?.parse().ok()).collect();
    pids.sort_unstable();
    let own = std::process::id();
    let processes = pids.iter().filter(|pid| !(host.is_this() && **pid == own));
    (!pids.is_empty(), processes.filter_map(|pid| process(host, *pid)).collect())
}

/// Whether a worker is still root beside others of the same master that are not: a child is what its parent was, until it gives that up.
/// One that stays so is a worker as the others are.
pub(super) fn one_is_being_started(processes: &[Process]) -> bool {
    let siblings = |one: &Process, other: &Process| (one.parent, one.family) == (other.parent, other.family);
    let of_its_kind = |child: &Process| processes.iter().any(|it| it.pid == child.parent && it.family == child.family);
    let is_root = |process: &&Process| process.ids.uid == Uid::ROOT;
    let other = |child: &Process| processes.iter().any(|it| siblings(it, child) && it.ids.uid != Uid::ROOT);
    processes.iter().filter(is_root).any(|child| of_its_kind(child) && other(child))
}

/// Tells workers from what started them.
fn sort(seen: bool, processes: &[Process]) -> Running {
    let families: BTreeMap<u32, Family> = processes.iter().map(|p| (p.pid, p.family)).collect();
    let has_workers = |p: &Process| processes.iter().any(|w| w.parent == p.pid && w.family == p.family);
    let mut running = Running { seen, ..Running::default() };
    for process in processes {
        let started_by_its_kind = families.get(&process.parent) == Some(&process.family);
        let title = process.title();
        let helper = title.contains("cache manager process") || title.contains("cache loader process");
        let says_master = title.contains(": master process");
        if says_master || (!started_by_its_kind && has_workers(process)) {
            running.masters.push(process.clone());
        } else if !helper && !title.contains("is shutting down") && !(is_root_alone(process, started_by_its_kind)) {
            running.workers.push(process.clone());
        }
    }
    running
}

/// What leaves the work to others, runs as root and has no workers is being started or asked something.
fn is_root_alone(process: &Process, started_by_its_kind: bool) -> bool {
    process.family.has_workers && !started_by_its_kind && process.ids.uid == Uid::ROOT
}

/// One process, where it is of a kind that matters.
fn process(host: &Host, pid: u32) -> Option<Process> {
    let at = |name: &str| PathBuf::from(format!("/proc/{pid}/{name}"));
    let read = |name: &str| host.read(&at(name), 1 << 22).ok();
    let status = String::from_utf8_lossy(&read("status")?).into_owned();
    let fields: BTreeMap<&str, &str> = status.lines().filter_map(|line| line.split_once(':')).collect();
    let name = fields.get("Name")?.trim();
    let words: Vec<String> = read("cmdline")?
        .split(|byte| *byte == 0)
        .filter(|word| !word.is_empty())
        .map(|word| String::from_utf8_lossy(word).into_owned())
        .collect();
    // The kernel cuts the name at 15 bytes; the first word has it whole where the title was not rewritten.
    let first = words.first().and_then(|word| word.split([':', ' ']).next()?.rsplit('/').next());
    let first = first.unwrap_or_default().to_owned();
    let link = |name: &str| {
        let resolved = host.resolve(&at(name)).ok()?;
        Some((resolved.path, resolved.facts.rights.uid))
    };
    let named = |kind: &&&'static Program| (kind.is)(name) || (first.starts_with(name) && (kind.is)(&first));
    // A process can give itself any name and title; the kernel knows which file it runs.
    let of_file = || {
        let (file, _) = link("exe")?;
        let file = file.file_name()?.to_str()?.to_owned();
        PROGRAMS.iter().find(|kind| (kind.is)(&file)).map(|kind| (*kind, file))
    };
    let (kind, program) = match PROGRAMS.iter().find(named) {
        Some(kind) => (*kind, if (kind.is)(name) { name.to_owned() } else { first }),
        None => of_file()?,
    };
    let family = Family::of(kind);
    let own_server = family == Family::of(&OWN_SERVER);
    if own_server && !words.iter().any(|word| word == "-S") {
        return None;
    }
    let numbers = |field: &str| -> Vec<u32> {
        fields.get(field).map_or(Vec::new(), |v| v.split_whitespace().filter_map(|n| n.parse().ok()).collect())
    };
    let (uids, gids) = (numbers("Uid"), numbers("Gid"));
    let groups = numbers("Groups").into_iter().map(Gid);
    let ids = Ids::new(Uid(*uids.get(1)?), Gid(*gids.get(1)?), groups);
    let maps_php = |maps: Vec<u8>| {
        let lines = maps.split(|byte| *byte == b'\n');
        lines.filter_map(|line| line.rsplit(|byte| *byte == b'/').next()).any(is_php_library)
    };
    Some(Process {
        pid,
        parent: fields.get("PPid")?.trim().parse().ok()?,
        family,
        role: kind.role,
        program,
        umask: fields.get("Umask").and_then(|mask| octal(mask.trim())),
        php_inside: family.loads_php && read("maps").is_some_and(maps_php),
        words,
        real: Uid(*uids.first()?),
        ids: match fields.get("CapEff").and_then(|mask| Powers::of_status(mask)) {
            Some(powers) => ids.with_powers(powers),
            None => ids,
        },
        foreign_program: link("exe").filter(|(_, uid)| *uid != Uid::ROOT),
        works_in: own_server.then(|| link("cwd").map(|(path, _)| path)).flatten(),
    })
}

/// `libphp.so`, `libphp8.2.so`.
fn is_php_library(file: &[u8]) -> bool {
    let name = Path::new(std::ffi::OsStr::from_bytes(file)).to_string_lossy().into_owned();
    name.strip_prefix("libphp").and_then(|rest| rest.split_once(".so")).is_some_and(|(version, _)| is_version(version))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("nginx", Some("nginx"))]
    #[case("apache2", Some("apache2"))]
    #[case("httpd", Some("apache2"))]
    #[case("httpd-prefork", Some("apache2"))]
    #[case("httpd.worker", Some("apache2"))]
    #[case("lighttpd", Some("lighttpd"))]
    #[case("caddy", Some("caddy"))]
    #[case("php-fpm", Some("php-fpm"))]
    #[case("php-fpm8.2", Some("php-fpm"))]
    #[case("php-fpm83", Some("php-fpm"))]
    #[case("php8.2-fpm", Some("php-fpm"))]
    #[case("php83-fpm", Some("php-fpm"))]
    #[case("php-cgi", Some("php-cgi"))]
    #[case("php8.2-cgi", Some("php-cgi"))]
    #[case("php8.2", Some("php"))]
    #[case("php", Some("php"))]
    #[case("phpstorm", None)]
    #[case("php-fpm-exporter", None)]
    #[case("nginx-exporter", None)]
    #[case("grep", None)]
    fn programs_are_known_by_their_names(#[case] name: &str, #[case] want: Option<&str>) {
        assert_eq!(Family::of_name(name).map(|family| family.name), want);
    }

    #[rstest]
    #[case(b"libphp.so", true)]
    #[case(b"libphp8.2.so", true)]
    #[case(b"libphp7.so.1", true)]
    #[case(b"libphpcpp.so", false)]
    #[case(b"libc.so.6", false)]
    fn php_as_a_library(#[case] file: &[u8], #[case] want: bool) {
        assert_eq!(is_php_library(file), want);
    }

    fn process(title: &str, family: &'static Program) -> Process {
        let family = Family::of(family);
        Process {
            pid: 7,
            parent: 1,
            family,
            role: Role::Php,
            program: "php".into(),
            words: title.split(' ').map(Into::into).collect(),
            real: Uid(33),
            ids: Ids::new(Uid(33), Gid(33), []),
            php_inside: false,
            umask: None,
            foreign_program: None,
            works_in: Some(PathBuf::from("/srv/quay")),
        }
    }

    #[rstest]
    #[case("php-fpm: pool berths", Some("berths"))]
    #[case("php-fpm: pool with space   ", Some("with space"))]
    #[case("php-fpm: master process (/etc/php-fpm.conf)", None)]
    fn pools_are_told_by_titles(#[case] title: &str, #[case] want: Option<&str>) {
        assert_eq!(process(title, &FPM).pool().as_deref(), want);
    }

    #[test]
    fn a_masters_title_names_its_file() {
        let master = process("php-fpm: master process (/etc/php-fpm.conf)", &FPM);
        assert_eq!(Running::fpm_file(&master), Some(PathBuf::from("/etc/php-fpm.conf")));
        assert_eq!(Running::fpm_file(&process("php-fpm: pool x", &FPM)), None);
    }

    #[rstest]
    #[case("php -S 127.0.0.1:8000 -t public", Some("/srv/quay/public 127.0.0.1:8000"))]
    #[case("php -t /opt/x -S localhost:80", Some("/opt/x localhost:80"))]
    #[case("php -S :80 router.php", Some("/srv/quay :80"))]
    #[case("php -S", None)]
    fn phps_own_server(#[case] line: &str, #[case] want: Option<&str>) {
        let served = process(line, &OWN_SERVER).own_server();
        let shown = served.map(|(folder, address)| format!("{} {address}", folder.display()));
        assert_eq!(shown.as_deref(), want);
    }
}
