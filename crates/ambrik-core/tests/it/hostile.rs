//! Trees made to lead astray, and somebody who changes them while Ambrik runs: nothing outside the site changes.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, chown, symlink};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use ambrik_core::change::{ChangeContext, Ledger, MoveSetting, Plan, asked, move_part, plan_move, plan_undo, undo};
use ambrik_core::site::{Phase, read};
use ambrik_core::tree::{Host, Progress};
use rand::rngs::StdRng;
use rand::{Rng as _, SeedableRng as _};

use crate::host::{TestHost, found, id, is_root, os, picture};
use crate::kernel::as_account;

const SITE: &str = "[accounts]\nphp = \"php\"\nweb = \"web\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n[[part]]\npath = \"install\"\nuse = \"setup\"\n";

/// Files outside the site that nothing may touch.
fn outside(host: &TestHost) -> PathBuf {
    let folder = host.real("outside");
    fs::create_dir_all(folder.join("deep")).unwrap();
    for (name, mode) in [("shadow", 0o600), ("open", 0o666), ("deep/file", 0o640)] {
        fs::write(folder.join(name), "not the site's\n").unwrap();
        host.give(&folder.join(name), "root", mode);
    }
    folder
}

#[test]
fn odd_names_and_depths_are_set_like_all_others() {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    let long = vec![b'n'; 255];
    for name in [&b"new\nline"[..], b"not\xffutf8", b"-rf", b"--", b" ", b"'\"$(x)`", b"\x1b[2J", &long] {
        let path = host.site_path(os(name));
        fs::write(&path, "x").unwrap();
        host.give(&path, "php", 0o666);
    }
    // 300 levels with long names: far over the longest path that one system call takes.
    let mut dir = rustix::fs::open(host.site_path(""), rustix::fs::OFlags::PATH, rustix::fs::Mode::empty()).unwrap();
    let name = "d".repeat(50);
    for _ in 0..300 {
        rustix::fs::mkdirat(&dir, &*name, rustix::fs::Mode::from_raw_mode(0o777)).unwrap();
        chown_at(&dir, &name);
        dir = rustix::fs::openat(&dir, &*name, rustix::fs::OFlags::PATH, rustix::fs::Mode::empty()).unwrap();
    }
    let site = host.site(SITE);
    let audit = host.audit(&site);
    assert_eq!(audit.seen.entries, 1 + 8 + 300);
    assert_eq!(found(&audit, "php-writes-code").len(), 308);
    let outcome = host.set(&site);
    assert!(outcome.failures.is_empty(), "{:?}", outcome.failures);
    let after = host.audit(&site);
    assert_eq!((after.seen.entries, after.changes_pending()), (309, 0));
    assert!(after.is_complete());
    assert!(host.undo(None, false).failures.is_empty());
    assert_eq!(found(&host.audit(&site), "php-writes-code").len(), 308);
}

fn chown_at(dir: &std::os::fd::OwnedFd, name: &str) {
    let (uid, gid) = (rustix::fs::Uid::from_raw(id("php")), rustix::fs::Gid::from_raw(id("php")));
    rustix::fs::chownat(dir, name, Some(uid), Some(gid), rustix::fs::AtFlags::SYMLINK_NOFOLLOW).unwrap();
}

#[test]
fn links_of_all_kinds_change_nothing_outside() {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    let outside = outside(&host);
    for folder in ["", "uploads", "install"] {
        host.folder(folder, "php", 0o777);
        let at = |name: &str| host.site_path(folder).join(name);
        for (name, target) in [
            ("abs", "/outside/shadow"),
            ("dir", "/outside"),
            ("up", "../../../../outside/open"),
            ("up2", "../../../../../outside/deep"),
        ] {
            symlink(target, at(name)).unwrap();
            symlink(outside.join("shadow"), at(&format!("real-{name}"))).unwrap();
        }
        fs::hard_link(outside.join("shadow"), at("hard")).unwrap();
        fs::hard_link(outside.join("open"), at("hard2")).unwrap();
    }
    let before = picture(&outside, true);
    let site = host.site(SITE);
    let set = host.set(&site);
    assert_eq!(
        set.failures.iter().filter(|(path, _)| !path.to_string_lossy().contains("hard")).count(),
        0,
        "{:?}",
        set.failures
    );
    assert_eq!(picture(&outside, true), before);
    host.seal(&site);
    let links_aside = |mut picture: std::collections::BTreeMap<PathBuf, String>| {
        picture.retain(|path, _| !path.ends_with("shadow") && !path.ends_with("open"));
        picture
    };
    assert!(!host.site_path("install").exists());
    assert_eq!(links_aside(picture(&outside, true)), links_aside(before), "their number of names is all that changed");
    assert_eq!(fs::read(outside.join("shadow")).unwrap(), b"not the site's\n");
}

#[test]
fn other_file_systems_are_not_entered() {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    let mounted = host.folder("mounted", "php", 0o777);
    let options: Option<&std::ffi::CStr> = None;
    if rustix::mount::mount("none", &mounted, "tmpfs", rustix::mount::MountFlags::empty(), options).is_err() {
        test_support::skipped("this test may not mount");
        return;
    }
    fs::write(mounted.join("inside"), "x").unwrap();
    let before = picture(&mounted, true);
    let site = host.site(SITE);
    let audit = host.audit(&site);
    assert_eq!(audit.seen.mounts, [Path::new("/srv/www/site/mounted")]);
    host.set(&site);
    let untouched = picture(&mounted, true) == before;
    let named = host.site(&format!("{SITE}[[part]]\npath = \"mounted\"\nuse = \"store\"\n"));
    let entered =
        host.audit(&named).seen.mounts.is_empty() && host.audit(&named).seen.entries == audit.seen.entries + 2;
    // A part below it is judged and set, and nothing else there is.
    fs::create_dir_all(mounted.join("uploads/2026")).unwrap();
    fs::set_permissions(mounted.join("uploads/2026"), fs::Permissions::from_mode(0o777)).unwrap();
    fs::set_permissions(mounted.join("inside"), fs::Permissions::from_mode(0o666)).unwrap();
    let below = host.site(&format!("{SITE}[[part]]\npath = \"mounted/uploads\"\nuse = \"store\"\n"));
    let judged = host.audit(&below);
    let found = judged.wrong.findings.iter().filter(|finding| finding.check.name == "everyone-writes");
    let found: Vec<PathBuf> = found.flat_map(|finding| judged.paths(finding)).collect();
    host.set(&below);
    let mode = |path: &str| fs::metadata(mounted.join(path)).unwrap().permissions().mode() & 0o7777;
    let modes = ["uploads", "uploads/2026", "inside", "."].map(mode);
    let told = judged.seen.mounts == [Path::new("/srv/www/site/mounted")];
    let anywhere = host.site(&format!("{SITE}[[part]]\npath = \"**/uploads\"\nuse = \"store\"\n"));
    let crossed = host.audit(&anywhere).seen.entries != audit.seen.entries;
    rustix::mount::unmount(&mounted, rustix::mount::UnmountFlags::DETACH).unwrap();
    assert!(untouched && entered, "untouched {untouched}, entered {entered}");
    assert!(found.contains(&PathBuf::from("mounted/uploads/2026")), "{found:?}");
    assert_eq!(judged.seen.entries, audit.seen.entries + 2);
    assert!(told && !crossed, "told {told}, crossed {crossed}");
    assert!(modes[..2].iter().all(|mode| mode.trailing_zeros() >= 3) && modes[2] == 0o666, "{modes:?}");
}

/// Somebody with php's ids who swaps what they own for links to the outside, and what lies there.
struct Attack {
    host: TestHost,
    outside: PathBuf,
    before: std::collections::BTreeMap<PathBuf, String>,
    /// A foreign file of mode 0666, so that the kernel lets anybody give it further names.
    linked: PathBuf,
    stop: Arc<AtomicBool>,
    swaps: Arc<AtomicU64>,
    attacker: Option<std::thread::JoinHandle<()>>,
}

/// As many swaps must have been made, in no more rounds than this.
const MANY: u64 = 10_000;
const MOST_ROUNDS: u32 = 3_000;

impl Drop for Attack {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(attacker) = self.attacker.take() {
            let _ = attacker.join();
        }
    }
}

impl Attack {
    /// With `above`, they own the directory that the root is in, and swap the root itself.
    fn begin(above: bool) -> Self {
        let host = TestHost::new(&[]);
        let outside = outside(&host);
        let linked = host.real("linked");
        fs::write(&linked, "not the site's\n").unwrap();
        host.give(&linked, "root", 0o666);
        let before = picture(&outside, true);
        for n in 0..40 {
            host.file(format!("uploads/d{n}/file"), "php", 0o666);
            host.give(&host.site_path(format!("uploads/d{n}")), "php", 0o777);
            host.file(format!("code{n}/file.php"), "php", 0o666);
            host.give(&host.site_path(format!("code{n}")), "php", 0o777);
        }
        host.give(&host.site_path(""), "php", 0o777);
        host.give(&host.site_path("uploads"), "php", 0o777);
        if above {
            host.give(&host.real("srv/www"), "php", 0o755);
        }
        let (stop, swaps) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
        let attacker = {
            let (root, target, linked) = (host.site_path(""), outside.clone(), linked.clone());
            let (stop, swaps) = (Arc::clone(&stop), Arc::clone(&swaps));
            let ids = host.accounts.account("php").unwrap().ids;
            std::thread::spawn(move || {
                as_account(&ids, move || attack(&root, [&target, &linked], above, &stop, &swaps));
            })
        };
        Self { host, outside, before, linked, stop, swaps, attacker: Some(attacker) }
    }

    fn swaps(&self) -> u64 {
        self.swaps.load(Ordering::Relaxed)
    }

    /// What is another than it was, outside of the site.
    fn harm(&self) -> Vec<PathBuf> {
        let now = picture(&self.outside, true);
        let mut harmed: Vec<PathBuf> = now
            .iter()
            .filter(|(path, text)| self.before.get(*path) != Some(text))
            .map(|(path, _)| path.clone())
            .collect();
        harmed.extend(self.before.keys().filter(|path| !now.contains_key(*path)).cloned());
        // How many names it has, and so its change time, is the attacker's doing.
        let meta = self.linked.metadata().unwrap();
        if (meta.mode() & 0o7777, meta.uid(), meta.gid()) != (0o666, 0, 0)
            || !crate::attributes::all(&self.linked).is_empty()
        {
            harmed.push(self.linked.clone());
        }
        harmed
    }
}

/// Runs `work` again and again under attack, as many rounds as asked for and until there were many swaps; for as long as
/// `AMBRIK_ATTACK_SECONDS` says.
fn under_attack(above: bool, rounds: u32, work: impl Fn(&TestHost, u32)) {
    let attack = Attack::begin(above);
    let seconds = std::env::var("AMBRIK_ATTACK_SECONDS").ok().and_then(|seconds| seconds.parse().ok()).unwrap_or(0);
    let end = std::time::Instant::now() + std::time::Duration::from_secs(seconds);
    let mut round = 0;
    while round < rounds || (attack.swaps() < MANY && round < MOST_ROUNDS) || std::time::Instant::now() < end {
        work(&attack.host, round);
        round += 1;
    }
    eprintln!("{round} rounds, {} swaps", attack.swaps());
    assert!(attack.swaps() >= MANY, "the attacker hardly came to it");
    assert_eq!(attack.harm(), [] as [PathBuf; 0]);
}

/// What a tool does that lists paths and then changes them by path.
fn set_by_path(root: &Path) {
    let (mut found, mut ahead) = (Vec::new(), vec![root.to_owned()]);
    while let Some(folder) = ahead.pop() {
        for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
            match entry.file_type() {
                Ok(kind) if kind.is_dir() => ahead.push(entry.path()),
                Ok(kind) if kind.is_file() => found.push(entry.path()),
                _ => {}
            }
        }
    }
    for path in found {
        let _ = chown(&path, Some(0), Some(0));
        let _ = fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o644));
    }
}

/// The attack is one: changes by path fall for it, within as many swaps.
#[test]
fn the_same_attack_harms_where_changes_go_by_path() {
    if !is_root() {
        return;
    }
    let attack = Attack::begin(false);
    let mut rounds = 0;
    while attack.harm().is_empty() && attack.swaps() < MANY {
        set_by_path(&attack.host.site_path(""));
        open_up(&attack.host);
        rounds += 1;
    }
    let harm = attack.harm();
    eprintln!("after {rounds} rounds and {} swaps: {harm:?}", attack.swaps());
    assert!(!harm.is_empty());
}

/// Swaps files and folders for links, renames them away and back, until told to stop.
fn attack(root: &Path, [target, foreign]: [&Path; 2], above: bool, stop: &AtomicBool, swaps: &AtomicU64) {
    let mut rng = StdRng::seed_from_u64(7);
    // Without the slash at its end: a link cannot be made with one.
    let root = &root.components().collect::<PathBuf>();
    while !stop.load(Ordering::Relaxed) {
        let n = rng.random_range(0..40);
        let folder =
            if rng.random_bool(0.5) { root.join(format!("uploads/d{n}")) } else { root.join(format!("code{n}")) };
        let away = folder.with_extension("away");
        let done = match rng.random_range(0..6) {
            // The root itself becomes a link to the outside.
            5 if above => {
                let away = root.with_extension("away");
                // What did not go back the last time goes back now; the folder itself is no file, and stays.
                let _ = fs::remove_file(root);
                let _ = fs::rename(&away, root);
                fs::rename(root, &away)
                    .and_then(|()| symlink(target, root))
                    .and_then(|()| fs::remove_file(root))
                    .and_then(|()| fs::rename(&away, root))
            }
            // A foreign file gets a name where php may write, and loses it.
            3 => {
                let name = root.join(format!("uploads/linked{n}"));
                fs::hard_link(foreign, &name).and_then(|()| fs::remove_file(&name))
            }
            // Between look and change another file has the name.
            4 => {
                let (file, other) = (folder.join("file"), folder.join("other"));
                fs::write(&other, "y").and_then(|()| fs::rename(&other, &file))
            }
            // A folder becomes a link to the outside, and a folder again.
            0 => fs::rename(&folder, &away)
                .and_then(|()| symlink(target, &folder))
                .map(|()| linger(&folder))
                .and_then(|()| fs::remove_file(&folder))
                .and_then(|()| fs::rename(&away, &folder)),
            1 => {
                let file = folder.join("shadow");
                symlink(target.join("shadow"), &file)
                    .and_then(|()| fs::remove_file(&file))
                    .and_then(|()| fs::write(&file, "x"))
                    .and_then(|()| fs::remove_file(&file))
            }
            _ => {
                let file = folder.join(if folder.starts_with(root.join("uploads")) { "file" } else { "file.php" });
                fs::remove_file(&file)
                    .and_then(|()| symlink(target.join("open"), &file))
                    .map(|()| linger(&file))
                    .and_then(|()| fs::remove_file(&file))
                    .and_then(|()| fs::write(&file, "x"))
            }
        };
        if done.is_ok() {
            swaps.fetch_add(1, Ordering::Relaxed);
        }
    }
}

/// Leaves a link in its place for a moment.
fn linger(link: &Path) {
    for _ in 0..100 {
        let _ = link.symlink_metadata();
    }
}

/// Opens everything up again, so that there is something to swap and something to set; by the test's own handles, through
/// no link that the attacker put there.
fn open_up(host: &TestHost) {
    use rustix::fs::{Mode, OFlags};
    let flags = OFlags::NOFOLLOW | OFlags::DIRECTORY;
    open_up_at(&rustix::fs::open(host.site_path(""), flags, Mode::empty()).unwrap());
}

fn open_up_at(root: &std::os::fd::OwnedFd) {
    use rustix::fs::{Mode, OFlags, ResolveFlags};
    let flags = OFlags::NOFOLLOW | OFlags::DIRECTORY;
    let mut folders = vec![PathBuf::from(".")];
    while let Some(folder) = folders.pop() {
        let within = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS;
        let Ok(handle) = rustix::fs::openat2(root, &folder, flags, Mode::empty(), within) else { continue };
        let _ = rustix::fs::fchown(&handle, Some(rustix::fs::Uid::from_raw(id("php"))), None);
        let _ = rustix::fs::fchmod(&handle, Mode::from_raw_mode(0o777));
        let Ok(entries) = rustix::fs::Dir::read_from(&handle) else { continue };
        let below = entries.flatten().filter(|entry| entry.file_type() == rustix::fs::FileType::Directory);
        let names = below.map(|entry| PathBuf::from(os(entry.file_name().to_bytes())));
        folders.extend(names.filter(|name| !matches!(name.to_str(), Some("." | ".."))).map(|name| folder.join(name)));
    }
}

#[test]
fn set_and_undo_under_attack_touch_nothing_outside() {
    if !is_root() {
        return;
    }
    under_attack(false, 60, |host, round| {
        let site = host.site(SITE);
        let outcome = host.set(&site);
        if round % 3 == 0 {
            host.undo(Some(outcome.id), round % 2 == 0);
        }
        open_up(host);
    });
}

/// Whoever owns the directory above can put the site away, here from the moment on at which it was looked at (before that,
/// nothing would be changed at all): then nothing is done, and nothing outside is touched.
#[test]
fn a_root_that_is_swapped_leads_nowhere() {
    if !is_root() {
        return;
    }
    let (done, refused) = (AtomicU64::new(0), AtomicU64::new(0));
    under_attack(true, 200, |host, _| {
        let site = host.site(SITE);
        host.give(&host.real("srv/www"), "root", 0o755);
        let audit = host.try_audit(&site);
        host.give(&host.real("srv/www"), "php", 0o755);
        let applied = audit.is_ok_and(|audit| host.try_apply(&Plan::set(audit, Phase::Sealed)).is_ok());
        if applied { &done } else { &refused }.fetch_add(1, Ordering::Relaxed);
        // Time for the attacker, who can do nothing while the directory is root's.
        for _ in 0..100 {
            linger(&host.real("srv/www"));
        }
        // Without a slash at its end, which would follow a link.
        let flags = rustix::fs::OFlags::NOFOLLOW | rustix::fs::OFlags::DIRECTORY;
        if let Ok(root) = rustix::fs::open(host.real("srv/www/site"), flags, rustix::fs::Mode::empty()) {
            open_up_at(&root);
        }
    });
    eprintln!("{done:?} done, {refused:?} refused");
    assert!(done.into_inner() > 0);
}

/// Folders are made, ever deeper, and moved ahead, as long as the walk goes on: it ends.
#[test]
fn a_tree_that_grows_while_it_is_walked_has_an_end() {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    for n in 0..200 {
        host.file(format!("uploads/d{n}/file"), "php", 0o600);
        host.give(&host.site_path(format!("uploads/d{n}")), "php", 0o700);
    }
    host.give(&host.site_path("uploads"), "php", 0o700);
    let stop = Arc::new(AtomicBool::new(false));
    let attacker = {
        let (root, stop) = (host.site_path("uploads"), Arc::clone(&stop));
        let ids = host.accounts.account("php").unwrap().ids;
        std::thread::spawn(move || as_account(&ids, move || grow(&root, &stop)))
    };
    for _ in 0..3 {
        let audit = host.audit(&host.site(SITE));
        assert!(audit.seen.entries > 200);
    }
    stop.store(true, Ordering::Relaxed);
    attacker.join().unwrap();
}

/// Makes a chain of folders and files in them, and moves a folder into its end, until told to stop.
fn grow(root: &Path, stop: &AtomicBool) {
    use rustix::fs::{Mode, OFlags};
    let open = |dir: &std::os::fd::OwnedFd, name: &str| {
        rustix::fs::openat(dir, name, OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW, Mode::empty())
    };
    let top = rustix::fs::open(root, OFlags::PATH, Mode::empty()).unwrap();
    let mut end = open(&top, "d0").unwrap();
    let mut number = 0_u32;
    while !stop.load(Ordering::Relaxed) {
        number += 1;
        let name = format!("n{number}");
        let made = rustix::fs::mkdirat(&end, &name, Mode::from_raw_mode(0o700)).and_then(|()| open(&end, &name));
        match made {
            // Not too deep for the file system, so that it can be removed again.
            Ok(below) if !number.is_multiple_of(500) => end = below,
            _ => end = open(&top, &format!("d{}", number % 200)).unwrap_or(end),
        }
        let moved = format!("d{}", number % 199 + 1);
        let _ = rustix::fs::renameat(&top, &moved, &end, &moved);
        let _ = rustix::fs::renameat(&end, &moved, &top, &moved);
        let _ = rustix::fs::openat(&end, "file", OFlags::CREATE | OFlags::WRONLY, Mode::from_raw_mode(0o600));
    }
}

#[test]
fn seal_under_attack_removes_nothing_outside() {
    if !is_root() {
        return;
    }
    under_attack(false, 30, |host, _| {
        for n in 0..3 {
            let _ = fs::create_dir_all(host.site_path(format!("install/s{n}")));
            let _ = fs::write(host.site_path(format!("install/s{n}/step.php")), "x");
        }
        let _ = chown(host.site_path("install"), Some(id("php")), None);
        let site = host.site(SITE);
        let outcome = host.seal(&site);
        host.undo(Some(outcome.id), false);
        open_up(host);
    });
}

/// Moves a part to `to` and back; what was changed while it was copied stays where it was.
fn there_and_back(host: &TestHost, to: &Path) -> bool {
    let file = host.real("site.toml");
    let text = format!("[site]\nroot = \"/srv/www/site\"\n{SITE}");
    fs::write(&file, &text).unwrap();
    let site = |text: &str| Arc::new(read(text, &file, &host.accounts, &[]).unwrap());
    let (real, state) = (Host::at(&host.real("")).unwrap(), host.state());
    let before = site(&text);
    let asked = asked(&before, "uploads", to, text, None).unwrap();
    let after = site(&asked.text_after);
    let setting = MoveSetting {
        host: &real,
        accounts: &host.accounts,
        neighbours: &[],
        phase: Phase::Sealed,
        link: false,
        stopped: false,
    };
    // The attacker may have something in the part that is not copied at all.
    let Ok(plan) = plan_move(&setting, &before, &after, asked) else { return false };
    let progress = Progress::default();
    let means = ChangeContext { host: &real, state: &state, threads: 2, store: None, keep: true, progress: &progress };
    let mut ledger = Ledger::open_or_create(&state).unwrap();
    let outcome = move_part(&plan, &mut ledger, &means).unwrap();
    let moved = host.real(to).exists();
    for (path, content) in contents(&host.real(to)).into_iter().filter(|_| to.starts_with("/mnt")) {
        assert_ne!(content, b"not the site's\n", "{} was copied out of somebody else's file", path.display());
    }
    let back = plan_undo(&ledger, Some(outcome.id)).unwrap();
    undo(&back, &mut ledger, &means, true).unwrap();
    moved
}

/// Every regular file at or below a path, with its content.
fn contents(path: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    let (mut found, mut ahead) = (Vec::new(), vec![path.to_owned()]);
    while let Some(path) = ahead.pop() {
        match path.symlink_metadata().map(|meta| meta.file_type()) {
            Ok(kind) if kind.is_dir() => ahead.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path())),
            Ok(kind) if kind.is_file() => found.push((path.clone(), fs::read(&path).unwrap())),
            _ => {}
        }
    }
    found
}

#[test]
fn move_under_attack_takes_nothing_from_outside() {
    if !is_root() {
        return;
    }
    let moved = AtomicU64::new(0);
    under_attack(false, 40, |host, round| {
        // Every second round goes to another file system, by copying: by renaming a foreign file's name goes along.
        let data = host.real("mnt/data");
        fs::create_dir_all(&data).unwrap();
        let options = Some(c"mode=755");
        let mount = || rustix::mount::mount("none", &data, "tmpfs", rustix::mount::MountFlags::empty(), options);
        let mounted = round % 2 == 1 && mount().is_ok();
        let to = if mounted { "/mnt/data/uploads" } else { "/var/lib/uploads" };
        moved.fetch_add(u64::from(there_and_back(host, Path::new(to))), Ordering::Relaxed);
        // What a round left in the new place, because something was in the old one, goes.
        for left in [host.real("var/lib/uploads"), data.join("uploads")] {
            let _ = fs::remove_dir_all(left);
        }
        if mounted {
            rustix::mount::unmount(&data, rustix::mount::UnmountFlags::DETACH).unwrap();
        }
        fs::create_dir_all(host.site_path("uploads")).unwrap();
        open_up(host);
    });
    assert!(moved.into_inner() > 0, "no move came to its end");
}

/// One name of a foreign file, moved about so that the walk meets it twice: as if both its names lay in the site.
#[test]
fn a_second_name_that_is_moved_about_is_not_taken_for_two() {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    let outside = outside(&host);
    let before = picture(&outside, true);
    for n in 0..60 {
        for m in 0..20 {
            host.file(format!("d{n:02}/f{m}"), "root", 0o644);
        }
        host.give(&host.site_path(format!("d{n:02}")), "php", 0o777);
    }
    let foreign = host.real("outside-open");
    fs::write(&foreign, "not the site's\n").unwrap();
    host.give(&foreign, "root", 0o666);
    fs::hard_link(&foreign, host.site_path("d00/name")).unwrap();
    let stop = Arc::new(AtomicBool::new(false));
    let mover = {
        let (root, stop) = (host.site_path(""), Arc::clone(&stop));
        let ids = host.accounts.account("php").unwrap().ids;
        std::thread::spawn(move || {
            as_account(&ids, move || {
                let (here, there) = (root.join("d00/name"), root.join("d59/name"));
                while !stop.load(Ordering::Relaxed) {
                    // While the folders are closed both fail; then it goes on from where the name was left.
                    let _ = fs::rename(&here, &there);
                    let _ = fs::rename(&there, &here);
                }
            });
        })
    };
    let site = host.site(SITE);
    let mut changed = None;
    for round in 0..150 {
        host.set(&site);
        let mode = foreign.metadata().unwrap().mode() & 0o777;
        if mode != 0o666 {
            changed = Some(round);
            break;
        }
        for n in 0..60 {
            host.give(&host.site_path(format!("d{n:02}")), "php", 0o777);
        }
    }
    stop.store(true, Ordering::Relaxed);
    mover.join().unwrap();
    assert_eq!(changed, None, "the foreign file was changed in that round");
    assert_eq!(picture(&outside, true), before);
}

#[test]
fn a_link_in_the_place_of_the_root_is_not_followed() {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    let outside = outside(&host);
    let before = picture(&outside, true);
    let site = host.site(SITE);
    // Whoever may write to the directory above puts a link where the site was.
    host.give(&host.real("srv/www"), "php", 0o755);
    fs::rename(host.site_path(""), host.real("srv/www/gone")).unwrap();
    let link = host.real("srv/www/site");
    symlink("/outside", &link).unwrap();
    std::os::unix::fs::lchown(&link, Some(id("php")), None).unwrap();
    let said = host.try_audit(&site).unwrap_err().to_string();
    assert!(said.contains("/srv/www/site is a symlink that others could have put there"), "{said}");
    // The keeper's own link in the keeper's own directory is another matter.
    host.give(&host.real("srv/www"), "root", 0o755);
    std::os::unix::fs::lchown(&link, Some(0), Some(0)).unwrap();
    assert!(host.try_audit(&site).is_ok());
    assert_eq!(picture(&outside, true), before);
}

#[test]
fn a_missing_part_is_not_made_behind_a_link_that_php_put_there() {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    let outside = outside(&host);
    let before = picture(&outside, true);
    host.give(&host.site_path(""), "php", 0o777);
    symlink("/outside", host.site_path("var")).unwrap();
    std::os::unix::fs::lchown(host.site_path("var"), Some(id("php")), None).unwrap();
    let site = host.site(&format!("{SITE}[[part]]\npath = \"var/data\"\nuse = \"store\"\ncreate = true\n"));
    let outcome = host.set(&site);
    assert!(outcome.failures.iter().any(|(path, _)| path.ends_with("var/data")), "{:?}", outcome.failures);
    assert_eq!(picture(&outside, true), before);
}
