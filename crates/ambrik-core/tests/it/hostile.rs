//! Trees made to lead astray, and somebody who changes them while Ambrik runs: nothing outside the site changes.

use std::fs;
use std::os::unix::fs::{chown, symlink};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use ambrik_core::change::{Ledger, Means, MoveSetting, asked, move_part, plan_move, plan_undo, undo};
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
    assert_eq!(audit.entries, 1 + 8 + 300);
    assert_eq!(found(&audit, "php-writes-code").len(), 308);
    let outcome = host.set(&site);
    assert!(outcome.failures.is_empty(), "{:?}", outcome.failures);
    let after = host.audit(&site);
    assert_eq!((after.entries, after.changes_pending()), (309, 0));
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
        eprintln!("skipped: this test may not mount");
        return;
    }
    fs::write(mounted.join("inside"), "x").unwrap();
    let before = picture(&mounted, true);
    let site = host.site(SITE);
    let audit = host.audit(&site);
    assert_eq!(audit.mounts, [Path::new("/srv/www/site/mounted")]);
    host.set(&site);
    let untouched = picture(&mounted, true) == before;
    let named = host.site(&format!("{SITE}[[part]]\npath = \"mounted\"\nuse = \"store\"\n"));
    let entered = host.audit(&named).mounts.is_empty() && host.audit(&named).entries == audit.entries + 2;
    rustix::mount::unmount(&mounted, rustix::mount::UnmountFlags::DETACH).unwrap();
    assert!(untouched && entered, "untouched {untouched}, entered {entered}");
}

/// Runs `work` again and again while php swaps what it owns for links to the outside.
fn under_attack(rounds: u32, work: impl Fn(&TestHost, u32)) {
    let host = TestHost::new(&[]);
    let outside = outside(&host);
    let before = picture(&outside, true);
    for n in 0..40 {
        host.file(format!("uploads/d{n}/file"), "php", 0o666);
        host.give(&host.site_path(format!("uploads/d{n}")), "php", 0o777);
        host.file(format!("code{n}/file.php"), "php", 0o666);
        host.give(&host.site_path(format!("code{n}")), "php", 0o777);
    }
    host.give(&host.site_path(""), "php", 0o777);
    host.give(&host.site_path("uploads"), "php", 0o777);
    let stop = Arc::new(AtomicBool::new(false));
    let swaps = Arc::new(AtomicU64::new(0));
    let attacker = {
        let (root, target, stop, swaps) = (host.site_path(""), outside.clone(), Arc::clone(&stop), Arc::clone(&swaps));
        let ids = host.accounts.account("php").unwrap().ids;
        std::thread::spawn(move || as_account(&ids, move || attack(&root, &target, &stop, &swaps)))
    };
    for round in 0..rounds {
        work(&host, round);
    }
    stop.store(true, Ordering::Relaxed);
    attacker.join().unwrap();
    assert!(swaps.load(Ordering::Relaxed) > 100, "the attacker hardly came to it");
    assert_eq!(picture(&outside, true), before);
}

/// Swaps files and folders for links, renames them away and back, until told to stop.
fn attack(root: &Path, target: &Path, stop: &AtomicBool, swaps: &AtomicU64) {
    let mut rng = StdRng::seed_from_u64(7);
    while !stop.load(Ordering::Relaxed) {
        let n = rng.random_range(0..40);
        let folder =
            if rng.random_bool(0.5) { root.join(format!("uploads/d{n}")) } else { root.join(format!("code{n}")) };
        let away = folder.with_extension("away");
        let done = match rng.random_range(0..3) {
            // A folder becomes a link to the outside, and a folder again.
            0 => fs::rename(&folder, &away)
                .and_then(|()| symlink(target, &folder))
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
                    .and_then(|()| fs::remove_file(&file))
                    .and_then(|()| fs::write(&file, "x"))
            }
        };
        if done.is_ok() {
            swaps.fetch_add(1, Ordering::Relaxed);
        }
    }
}

/// Opens everything up again, so that there is something to swap and something to set; by the test's own handles, through
/// no link that the attacker put there.
fn open_up(host: &TestHost) {
    use rustix::fs::{Mode, OFlags, ResolveFlags};
    let flags = OFlags::NOFOLLOW | OFlags::DIRECTORY;
    let root = rustix::fs::open(host.site_path(""), flags, Mode::empty()).unwrap();
    let mut folders = vec![PathBuf::from(".")];
    while let Some(folder) = folders.pop() {
        let within = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS;
        let Ok(handle) = rustix::fs::openat2(&root, &folder, flags, Mode::empty(), within) else { continue };
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
    under_attack(60, |host, round| {
        let site = host.site(SITE);
        let outcome = host.set(&site);
        if round % 3 == 0 {
            host.undo(Some(outcome.id), round % 2 == 0);
        }
        open_up(host);
    });
}

#[test]
fn seal_under_attack_removes_nothing_outside() {
    if !is_root() {
        return;
    }
    under_attack(30, |host, _| {
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
    let site = |text: &str| Arc::new(read(text, &file, &host.accounts).unwrap());
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
    let means = Means { host: &real, state: &state, threads: 2, store: None, keep: true, progress: &progress };
    let mut ledger = Ledger::open_or_create(&state).unwrap();
    let outcome = move_part(&plan, &mut ledger, &means).unwrap();
    let moved = host.real(to).exists();
    for (path, content) in contents(&host.real(to)) {
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
    let mounted = std::cell::RefCell::new(None);
    under_attack(40, |host, round| {
        let data = host.real("mnt/data");
        if round == 0 {
            fs::create_dir_all(&data).unwrap();
            let options = Some(c"mode=755");
            let tmpfs = rustix::mount::mount("none", &data, "tmpfs", rustix::mount::MountFlags::empty(), options);
            *mounted.borrow_mut() = tmpfs.is_ok().then(|| data.clone());
        }
        let to = if round % 2 == 0 { "/var/lib/uploads" } else { "/mnt/data/uploads" };
        moved.fetch_add(u64::from(there_and_back(host, Path::new(to))), Ordering::Relaxed);
        // What a round left in the new place, because something was in the old one, goes.
        for left in [host.real("var/lib/uploads"), data.join("uploads")] {
            let _ = fs::remove_dir_all(left);
        }
        fs::create_dir_all(host.site_path("uploads")).unwrap();
        open_up(host);
        if round == 39
            && let Some(data) = mounted.take()
        {
            rustix::mount::unmount(&data, rustix::mount::UnmountFlags::DETACH).unwrap();
        }
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
        let mode = std::os::unix::fs::MetadataExt::mode(&foreign.metadata().unwrap()) & 0o777;
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
