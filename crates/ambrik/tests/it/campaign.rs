//! Campaigns at random: what somebody does between two runs never leads Ambrik elsewhere, and however often its runs are
//! killed, all of it can be taken back.
//!
//! Both print their seed. How long they go on is a variable: `AMBRIK_CAMPAIGN_SECONDS`, `AMBRIK_KILLS`; `AMBRIK_SEED` is
//! where they begin.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::os::unix::process::{CommandExt as _, ExitStatusExt as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rand::rngs::StdRng;
use rand::seq::IndexedRandom as _;
use rand::{Rng as _, SeedableRng as _};

use crate::every_step::site_of_everything;
use crate::host::{Mounted, PHP, Ran, TestHost, give, is_root};
use crate::kept::traced;
use crate::moved::whole;

const USER: u32 = 61_009;
const OTHER: u32 = 61_010;

fn variable(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

fn seed(name: &str) -> u64 {
    let seed = variable("AMBRIK_SEED").unwrap_or_else(rand::random);
    eprintln!("{name}: AMBRIK_SEED={seed}");
    seed
}

/// A site, and everything around it that PHP and a local user would like Ambrik to change, show or remove for them.
struct World {
    host: TestHost,
    /// Device and inode of all that is root's or another account's: never to be changed, wherever it turns up.
    precious: BTreeSet<(u64, u64)>,
    rng: StdRng,
    log: Vec<String>,
    /// How often a command ended with an exit code.
    ends: BTreeMap<(&'static str, i32), u32>,
}

/// What the site's description names: changed by right.
const SITES_OWN: [&str; 3] = ["srv/www/berths", "var/lib/berths", "var/lib/store"];

impl World {
    fn new(seed: u64) -> Self {
        let mut rng = StdRng::seed_from_u64(seed);
        let host = site_of_everything();
        for (path, owner, mode) in [
            ("outside/shadow", 0, 0o600),
            ("outside/deep/er/readable", 0, 0o644),
            ("outside/install/step.php", 0, 0o644),
            ("outside/settings.php", 0, 0o640),
            ("srv/www/tolls/index.php", OTHER, 0o644),
            ("srv/www/tolls/settings.php", OTHER, 0o600),
            ("srv/www/tolls/install/step.php", OTHER, 0o644),
            ("srv/www/tolls/uploads/one", OTHER, 0o644),
            ("home/other/mail", OTHER, 0o600),
            ("outside/open", 0, 0o666),
        ] {
            give(&host.write(path, "not the site's\n"), owner, mode);
        }
        for (path, owner, mode) in [
            ("outside/install", 0, 0o755),
            ("outside/deep", 0, 0o700),
            ("home/other", OTHER, 0o700),
            ("srv/www/tolls", OTHER, 0o755),
            ("srv/www/tolls/install", OTHER, 0o755),
            ("srv/www/tolls/uploads", OTHER, 0o755),
        ] {
            give(&host.at(path), owner, mode);
        }
        let mut precious = BTreeSet::new();
        for folder in ["outside", "srv/www/tolls", "home", "etc"] {
            let found = whole(&host.at(folder)).into_keys();
            precious.extend(found.map(|below| inode(&host.at(folder).join(below)).unwrap()));
        }
        // A move writes the site file.
        precious.retain(|inode| Some(*inode) != self::inode(&host.at("etc/ambrik/sites/berths.toml")));
        for (path, owner) in [("home/php", PHP), ("home/user", USER)] {
            give(&host.write(&format!("{path}/own"), "its own\n"), owner, 0o666);
            give(&host.at(path), owner, 0o755);
        }
        fs::create_dir_all(host.at("tmp")).unwrap();
        give(&host.at("tmp"), 0, 0o1777);
        let (owner, mode) =
            *[(0, 0o755), (0, 0o755), (0, 0o755), (PHP, 0o755), (0, 0o1777), (0, 0o777)].choose(&mut rng).unwrap();
        give(&host.at("srv/www"), owner, mode);
        if rng.random_bool(0.6) {
            for below in whole(&host.at("srv/www/berths")).into_keys() {
                let path = host.at("srv/www/berths").join(below);
                std::os::unix::fs::lchown(path, Some(PHP), Some(PHP)).unwrap();
            }
        }
        Self { host, precious, rng, log: Vec::new(), ends: BTreeMap::new() }
    }

    /// One deed of PHP or of the local user; most of what is tried, the kernel refuses.
    fn deed(&mut self) {
        let site = self.host.at("srv/www/berths");
        let is_there = site.symlink_metadata().is_ok();
        let below: Vec<PathBuf> = if is_there { whole(&site).into_keys().collect() } else { Vec::new() };
        let root = site.to_string_lossy().into_owned();
        let top = self.host.at("").to_string_lossy().trim_end_matches('/').to_owned();
        let mut pick = || {
            let below =
                below.choose(&mut self.rng).map_or_else(String::new, |path| path.to_string_lossy().into_owned());
            if below.is_empty() { root.clone() } else { format!("{root}/{below}") }
        };
        let (one, two) = (pick(), pick());
        let folder = match self.rng.random_range(0..4) {
            0 => root.clone(),
            1 => format!("{root}/uploads"),
            _ => one.clone(),
        };
        let targets = [
            "/outside/shadow",
            "/outside/deep",
            "/outside/open",
            "/outside",
            "/outside/settings.php",
            "/srv/www/tolls",
            "/home/other",
            "/etc",
            "/etc/passwd",
            "/",
            "/dev/zero",
            "/outside/install",
            "/srv/www/tolls/uploads",
        ];
        let target = *targets.choose(&mut self.rng).unwrap();
        // In the image a link leads from the image's root; a real path leads there too, where it is followed by mistake.
        let link = if self.rng.random_bool(0.5) { target.to_owned() } else { format!("{top}{target}") };
        let n = self.rng.random_range(0..5);
        let script = match self.rng.random_range(0..18) {
            0 => format!("mv {one} {one}.away && ln -s {link} {one}"),
            1 => format!("mv {root} {root}.away && ln -s {link} {root}"),
            2 => format!("mv {root} {root}.away && mv {top}/srv/www/tolls {root}"),
            3 => format!("mv {one} {root}.swap && mv {two} {one} && mv {root}.swap {two}"),
            4 => format!("ln {top}{target} {folder}/hard{n}"),
            5 => format!("mkfifo {folder}/fifo{n}; mkdir -p {folder}/a/b/c; echo '<?php' > {folder}/a/b/c/new{n}.php"),
            6 => format!("chmod {} {one}", ["777", "4755", "0", "1777", "2770", "666"].choose(&mut self.rng).unwrap()),
            7 => format!("setfacl -m d:u:{USER}:rwx,u:{USER}:rwx {folder}"),
            8 => format!("rm -rf {one}"),
            9 => format!("[ -p {one} ] || echo '<?php changed();' > {one}"),
            10 => format!("mv {top}/home/php/own {folder}/moved-in{n}"),
            11 => format!("mv {one} {top}/home/php/taken{n} && ln -s {top}/home/php/taken{n} {one}"),
            12 => format!("mv {top}/var/lib/berths {top}/tmp/away{n}; ln -s {link} {top}/var/lib/berths"),
            13 => format!(
                "ln -s {link} {folder}/link{n}; ln -s {link} {folder}/install; ln -s {link} {folder}/settings.php"
            ),
            14 => format!("rm -rf {one}; cp -r {two} {one}"),
            15 => format!("rm {root}; mv {root} {top}/srv/www/tolls; mv {root}.away {root}"),
            16 => format!("mv {one} {one}.was; mkdir {one}; mv {one}.was {one}/inner"),
            _ => format!("ln {one} {folder}/name{n}.php; mv {folder} {root}/uploads/folder{n}"),
        };
        let uid = if self.rng.random_bool(0.75) { PHP } else { USER };
        // Who writes into a FIFO that nobody reads waits for good.
        let mut command = Command::new("timeout");
        command
            .args(["10", "sh", "-c", &script])
            .uid(uid)
            .gid(uid)
            .current_dir("/")
            .stdin(Stdio::null())
            .stderr(Stdio::null());
        let done = command.status().unwrap().success();
        self.log.push(format!("{uid}: {script}{}", if done { "" } else { " (refused)" }));
    }

    /// Everything that must be after a run what it was before, by its inode: what is precious, and what lies outside of
    /// what the site names.
    fn not_the_sites(&self) -> BTreeMap<(u64, u64), String> {
        let top = self.host.at("");
        let own: Vec<PathBuf> = SITES_OWN.iter().map(PathBuf::from).collect();
        let (mut found, mut named) = (BTreeMap::<(u64, u64), String>::new(), BTreeSet::new());
        for (below, text) in whole(&top) {
            if below.starts_with("var/lib/ambrik") || below == Path::new("etc/ambrik/sites/berths.toml") {
                continue;
            }
            let Some(inode) = inode(&top.join(&below)) else { continue };
            let is_own = own.iter().any(|own| below.starts_with(own));
            // Folders around what is made and moved get new times.
            let text = if text.starts_with('4') { rights(&text) } else { without_names(&text) };
            if is_own && !self.precious.contains(&inode) {
                named.insert(inode);
            } else {
                // That it is left with its name outside is no loss: it may have had one more, in a folder that goes.
                let known = found.entry(inode).or_insert_with(|| text.clone());
                if !is_own && !known.ends_with(OUTSIDE) {
                    *known = text + OUTSIDE;
                }
            }
        }
        // What has a name in the site too is the site's.
        found.retain(|inode, _| self.precious.contains(inode) || !named.contains(inode));
        found
    }

    fn command(&mut self) {
        let commands: [&[&str]; 10] = [
            &["set", "--yes", "-q"],
            &["set", "--yes", "-q"],
            &["open", "berths", "--for", "1h", "--yes", "-q"],
            &["seal", "berths", "--unfinished", "--yes", "-q"],
            &["undo", "--yes", "-q"],
            &["undo", "--since", "1", "--yes", "-q"],
            &["undo", "--force", "--yes", "-q"],
            &["audit", "-q"],
            &["move", "berths", "uploads", "/var/lib/store/uploads", "--yes", "-q"],
            &["move", "berths", "/var/lib/store/uploads", "/srv/www/berths/uploads", "--yes", "-q"],
        ];
        let words = *commands.choose(&mut self.rng).unwrap();
        let before = self.not_the_sites();
        let ran = self.host.run(words);
        self.log.push(format!("root: {words:?}: {} {}", ran.code, ran.err.lines().next().unwrap_or_default()));
        *self.ends.entry((words[0], ran.code)).or_default() += 1;
        assert!((0..=3).contains(&ran.code), "{:#?}: {ran:?}", self.log);
        let harm = self.harm(&before);
        assert!(harm.is_empty(), "{harm:#?}: {:#?}: {ran:?}", self.log);
    }

    /// What is another than it was.
    fn harm(&self, before: &BTreeMap<(u64, u64), String>) -> Vec<(String, Option<String>)> {
        let after = self.not_the_sites();
        let changed = before.iter().filter(|(inode, text)| after.get(inode) != Some(text));
        changed.map(|(inode, text)| (text.clone(), after.get(inode).cloned())).collect()
    }
}

fn inode(path: &Path) -> Option<(u64, u64)> {
    let meta = path.symlink_metadata().ok()?;
    Some((meta.dev(), meta.ino()))
}

/// Stands behind what has a name outside of the site.
const OUTSIDE: &str = " outside";

/// All but times and the number of names.
fn rights(text: &str) -> String {
    let (rights, rest) = text.split_once(" (").unwrap();
    format!("{rights} {}", &rest[rest.find('{').unwrap()..])
}

/// Without how many names it has.
fn without_names(text: &str) -> String {
    let (before, after) = text.split_once(") ").unwrap();
    format!("{before}) {}", &after[after.find('{').unwrap()..])
}

/// What PHP or a local user does between two runs leads none of them to what is not the site's.
#[test]
fn nothing_outside_is_changed_whatever_is_done_between_two_runs() {
    if !is_root() {
        return;
    }
    let seconds = variable("AMBRIK_CAMPAIGN_SECONDS").unwrap_or(30);
    let end = Instant::now() + Duration::from_secs(seconds);
    let seed = seed("between runs");
    let (mut worlds, mut deeds, mut done) = (0, 0, 0);
    let mut ends: BTreeMap<_, u32> = BTreeMap::new();
    while Instant::now() < end {
        let mut world = World::new(seed.wrapping_add(worlds));
        worlds += 1;
        for _ in 0..8 {
            for _ in 0..world.rng.random_range(0..4) {
                world.deed();
                deeds += 1;
                done += u64::from(!world.log.last().unwrap().ends_with("(refused)"));
            }
            world.command();
        }
        for (end, times) in world.ends {
            *ends.entry(end).or_default() += times;
        }
    }
    eprintln!("{worlds} worlds, {deeds} deeds of which {done} were possible; runs by exit code: {ends:?}");
    assert!(done > 0, "nothing was done between the runs");
}

/// The deeds are attacks: who looks at what lies at the site's paths and then changes them by path harms what is not its.
#[test]
fn the_same_deeds_harm_where_changes_go_by_path() {
    if !is_root() {
        return;
    }
    let seed = seed("by path");
    let harmed = (0..200).any(|number| {
        let mut world = World::new(seed.wrapping_add(number));
        let paths: Vec<PathBuf> = whole(&world.host.at("srv/www/berths")).into_keys().collect();
        (0..8).for_each(|_| world.deed());
        let before = world.not_the_sites();
        for path in paths {
            let path = world.host.at("srv/www/berths").join(path);
            let _ = fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(0o751));
        }
        !world.harm(&before).is_empty()
    });
    assert!(harmed);
}

/// What of a site must be the same again: all but the times of folders, which go with what is made in them.
fn to_come_back(host: &TestHost) -> BTreeMap<PathBuf, String> {
    let mut found = BTreeMap::new();
    for folder in ["srv", "etc", "mnt", "var/lib"] {
        found.extend(whole(&host.at(folder)).into_iter().map(|(below, text)| {
            // The site file is written anew.
            let text = if text.starts_with('4') || folder == "etc" { rights(&text) } else { text };
            (Path::new(folder).join(below), text)
        }));
    }
    found.retain(|path, _| !path.starts_with("var/lib/ambrik"));
    found
}

/// The calls at which runs are killed.
const CALLS: [&str; 14] = [
    "openat",
    "openat2",
    "fchownat",
    "fchmodat",
    "fsetxattr",
    "renameat2",
    "unlinkat",
    "mkdirat",
    "linkat",
    "fdatasync",
    "pwrite64",
    "write",
    "fsync",
    "utimensat",
];
const COMMANDS: [&[&str]; 4] = [
    &["open", "berths", "--for", "1h", "--yes", "-q"],
    &["seal", "berths", "--unfinished", "--yes", "-q"],
    &["move", "berths", "uploads", "/mnt/data/uploads", "--yes", "-q"],
    &["set", "--yes", "-q"],
];
const UNDO: &[&str] = &["undo", "--since", "1", "--yes", "-q"];

/// Kills of runs at random system calls, and of taking them back too: in the end everything is what it was.
#[test]
fn all_is_taken_back_however_often_runs_were_killed() {
    if !is_root() {
        return;
    }
    let wanted = variable("AMBRIK_KILLS").unwrap_or(20);
    let seed = seed("kills");
    let (mut rounds, mut kills) = (0, 0);
    while kills < wanted {
        let mut rng = StdRng::seed_from_u64(seed.wrapping_add(rounds));
        rounds += 1;
        let host = site_of_everything();
        fs::create_dir_all(host.at("mnt/data")).unwrap();
        let Some(_mounted) = Mounted::tmpfs(&host.at("mnt/data")) else { return };
        let before = to_come_back(&host);
        let mut log = Vec::new();
        let mut run = |words: &[&str], is_killed: bool, rng: &mut StdRng| -> Option<Ran> {
            let output = if is_killed {
                let (call, when) = (CALLS.choose(rng).unwrap(), 1 << rng.random_range(0..5_u32));
                let when = rng.random_range(1..=when);
                let (trace, inject) = (format!("trace={call}"), format!("inject={call}:signal=SIGKILL:when={when}"));
                traced(&host, &["--seccomp-bpf", "-e", &trace, "-e", &inject], words)?
            } else {
                host.command(words).output().unwrap()
            };
            let killed = output.status.signal() == Some(9) || output.status.code() == Some(137);
            kills += u64::from(killed);
            let ran = host.told(&output);
            log.push(format!("{}: {} {}", words[0], if killed { 137 } else { ran.code }, ran.err.replace('\n', "; ")));
            Some(ran)
        };
        for words in COMMANDS {
            for _ in 0..rng.random_range(0..4) {
                if run(words, true, &mut rng).is_none() {
                    return;
                }
            }
            if rng.random_bool(0.7) {
                run(words, false, &mut rng);
            }
        }
        for _ in 0..rng.random_range(0..4) {
            run(UNDO, true, &mut rng);
        }
        // A run that was finished after it had been killed may be one more change set to take back.
        for _ in 0..3 {
            let ran = run(UNDO, false, &mut rng).unwrap();
            if ran.code == 0 || ran.code == 2 {
                break;
            }
        }
        let after = to_come_back(&host);
        for (path, text) in &before {
            assert_eq!(after.get(path), Some(text), "{}: {log:#?}", path.display());
        }
        let new: Vec<_> = after.keys().filter(|path| !before.contains_key(*path)).collect();
        assert!(new.is_empty(), "{new:?}: {log:#?}");
    }
    eprintln!("{rounds} rounds, {kills} kills");
}
