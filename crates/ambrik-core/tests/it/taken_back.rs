//! What was changed comes back exactly, and only where nobody else was there since.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

use ambrik_core::account::Uid;
use ambrik_core::acl::{ACCESS_ATTRIBUTE, Acl, DEFAULT_ATTRIBUTE};
use ambrik_core::change::{Plan, plan_undo};
use ambrik_core::mode::Perm;
use ambrik_core::site::Phase;

use crate::attributes;
use crate::host::{TestHost, id, is_root, os, picture};

const SITE: &str = "[accounts]\nphp = \"php\"\nweb = \"web\"\n[[part]]\npath = \"install\"\nuse = \"setup\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n[[part]]\npath = \"data\"\nuse = \"store\"\ncreate = true\n";

/// A site with everything that must come back: modes, owners, lists, times, links, odd names.
fn rich() -> TestHost {
    let host = TestHost::new(&[]);
    let list = Acl::with_users(Perm::RW, Perm::R, Perm::NONE, &[(Uid(id("stranger")), Perm::RW)]);
    for folder in ["", "install/", "uploads/"] {
        host.file(format!("{folder}plain.php"), "php", 0o666);
        host.file(format!("{folder}program.sh"), "deploy", 0o6755);
        let listed = host.file(format!("{folder}listed.php"), "stranger", 0o640);
        attributes::set(&listed, ACCESS_ATTRIBUTE, &list.to_attribute());
        attributes::set(&listed, "user.note", b"line\nline\0end");
        host.file(Path::new(folder).join(os(b"odd \xff\nname")), "php", 0o600);
        host.file(format!("{folder}-rf"), "php", 0o777);
        let inner = host.folder(format!("{folder}inner"), "php", 0o1777);
        attributes::set(&inner, DEFAULT_ATTRIBUTE, &list.to_attribute());
        symlink("../plain.php", inner.join("link")).unwrap();
        symlink("/etc/passwd", inner.join("out")).unwrap();
        let closed = host.folder(format!("{folder}closed"), "root", 0o755);
        fs::hard_link(host.site_path(format!("{folder}plain.php")), closed.join("second")).unwrap();
        rustix::fs::mknodat(rustix::fs::CWD, inner.join("pipe"), rustix::fs::FileType::Fifo, rustix::fs::Mode::RUSR, 0)
            .unwrap();
        let time = std::time::SystemTime::UNIX_EPOCH + std::time::Duration::new(1_000_000_000, 123_456_789);
        fs::File::open(host.site_path(format!("{folder}program.sh"))).unwrap().set_modified(time).unwrap();
        fs::File::open(&inner).unwrap().set_modified(time).unwrap();
    }
    host
}

#[test]
fn set_and_undo_leave_no_trace() {
    if !is_root() {
        return;
    }
    let host = rich();
    let site = host.site(SITE);
    let before = picture(&host.site_path(""), false);
    let outcome = host.set(&site);
    assert!(outcome.failures.is_empty(), "{:?}", outcome.failures);
    let after = picture(&host.site_path(""), false);
    assert_ne!(before, after);
    let back = host.undo(None, false);
    assert!(back.failures.is_empty(), "{:?}", back.failures);
    let mut now = picture(&host.site_path(""), false);
    // Making and removing data/ moved the root's own time.
    now.remove(&host.site_path(""));
    let mut wanted = before.clone();
    wanted.remove(&host.site_path(""));
    assert_eq!(now, wanted);

    // Taking back is a change set: taken back itself, the changes are there again.
    let again = host.undo(Some(back.id), false);
    assert!(again.failures.is_empty(), "{:?}", again.failures);
    assert_eq!(host.audit(&site).changes_pending(), 0);
}

#[test]
fn seal_and_undo_bring_removed_files_back_exactly() {
    if !is_root() {
        return;
    }
    let host = rich();
    let site = host.site(SITE);
    host.set(&site);
    let before = picture(&host.site_path(""), false);
    let outcome = host.seal(&site);
    assert!(outcome.failures.is_empty(), "{:?}", outcome.failures);
    assert!(!host.site_path("install").exists());
    assert!(outcome.removed >= 11);
    let back = host.undo(None, false);
    assert!(back.failures.is_empty(), "{:?}", back.failures);
    assert_eq!(picture(&host.site_path(""), false), before, "the directory's own time as well");

    let again = host.undo(Some(back.id), false);
    assert!(again.failures.is_empty(), "{:?}", again.failures);
    assert!(!host.site_path("install").exists(), "removed once more, into another keepsake");
    host.undo(Some(again.id), false);
    assert_eq!(picture(&host.site_path(""), false), before);
}

#[test]
fn the_keepsake_is_an_archive_for_its_owner_alone() {
    use std::os::unix::fs::MetadataExt;
    if !is_root() {
        return;
    }
    let host = rich();
    let outcome = host.seal(&host.site(SITE));
    let keepsake = outcome.keepsake.unwrap();
    assert_eq!(keepsake.metadata().unwrap().mode() & 0o7777, 0o600);
    let mut names = Vec::new();
    for entry in tar::Archive::new(fs::File::open(keepsake).unwrap()).entries().unwrap() {
        names.push(entry.unwrap().path().unwrap().into_owned());
    }
    assert!(names.contains(&"srv/www/site/install/plain.php".into()), "{names:?}");
}

#[test]
fn what_somebody_changed_since_is_left_unless_forced() {
    if !is_root() {
        return;
    }
    let host = rich();
    let site = host.site(SITE);
    host.set(&site);
    host.give(&host.site_path("plain.php"), "root", 0o600);
    fs::remove_file(host.site_path("uploads/listed.php")).unwrap();
    fs::create_dir(host.site_path("uploads/listed.php")).unwrap();
    fs::write(host.site_path("data/kept"), "x").unwrap();
    let back = host.undo(None, false);
    let mut failed: Vec<_> =
        back.failures.iter().map(|(path, _)| path.file_name().unwrap().to_str().unwrap().to_owned()).collect();
    failed.sort();
    assert_eq!(failed, ["data", "listed.php", "plain.php", "second"]);
    assert!(host.site_path("data/kept").exists());

    let forced = host.undo(None, true);
    let failed: Vec<_> = forced.failures.iter().map(|(path, _)| path.file_name().unwrap().to_str().unwrap()).collect();
    assert_eq!(failed, ["listed.php"], "what is something else altogether is never forced");
    let mode = |path: &str| std::os::unix::fs::MetadataExt::mode(&host.site_path(path).metadata().unwrap()) & 0o777;
    assert_eq!(mode("plain.php"), 0o666);
    assert!(!host.site_path("data").exists());
}

#[test]
fn nothing_is_restored_over_what_is_there() {
    if !is_root() {
        return;
    }
    let host = rich();
    host.seal(&host.site(SITE));
    host.file("install/plain.php", "php", 0o644);
    fs::write(host.site_path("install/plain.php"), "newer").unwrap();
    let back = host.undo(None, false);
    assert!(!back.failures.is_empty());
    assert_eq!(fs::read(host.site_path("install/plain.php")).unwrap(), b"newer");
}

#[test]
fn a_run_that_did_not_end_is_taken_back() {
    if !is_root() {
        return;
    }
    let host = rich();
    let site = host.site(SITE);
    let before = picture(&host.site_path("uploads"), false);
    let outcome = host.set(&site);
    // As a killed run leaves it: recorded, made in part, never ended.
    let ledger = rusqlite::Connection::open(host.real("var/lib/ambrik/ledger.sqlite3")).unwrap();
    ledger.execute("UPDATE change_set SET ended = NULL WHERE id = ?", [outcome.id]).unwrap();
    drop(ledger);
    std::os::unix::fs::chown(host.site_path("uploads/plain.php"), Some(id("php")), Some(id("php"))).unwrap();
    host.give(&host.site_path("uploads/program.sh"), "deploy", 0o6755);
    let state = host.state();
    let ledger = ambrik_core::change::Ledger::open(&state).unwrap().unwrap();
    assert!(plan_undo(&ledger, None).unwrap().interrupted);
    let back = host.undo(None, false);
    assert!(back.failures.is_empty(), "{:?}", back.failures);
    assert_eq!(picture(&host.site_path("uploads"), false), before);
}

#[test]
fn a_second_set_finds_nothing_and_moves_no_time() {
    if !is_root() {
        return;
    }
    let host = rich();
    let site = host.site(SITE);
    host.set(&site);
    let before = picture(&host.site_path(""), true);
    let plan = Plan::set(host.audit(&site), Phase::Sealed);
    assert!(plan.is_empty(), "{:?}", plan.groups());
    assert_eq!(picture(&host.site_path(""), true), before);
}

#[test]
fn a_file_that_went_away_is_skipped_and_counted() {
    if !is_root() {
        return;
    }
    let host = rich();
    let plan = Plan::set(host.audit(&host.site(SITE)), Phase::Sealed);
    fs::remove_file(host.site_path("listed.php")).unwrap();
    fs::remove_dir_all(host.site_path("install/inner")).unwrap();
    fs::rename(host.site_path("uploads/plain.php"), host.site_path("uploads/elsewhere.php")).unwrap();
    fs::write(host.site_path("uploads/plain.php"), "another").unwrap();
    let outcome = host.apply(&plan);
    assert!(outcome.vanished >= 2, "{}", outcome.vanished);
    let failed: Vec<_> =
        outcome.failures.iter().map(|(path, why)| (path.file_name().unwrap().to_owned(), why.to_string())).collect();
    let replaced = failed.iter().any(|(name, why)| name == "plain.php" && why.contains("replaced"));
    assert!(replaced, "{failed:?}");
}

#[test]
fn a_file_with_two_names_waits_until_nobody_can_move_them() {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    host.file("lib/one.php", "php", 0o666);
    host.give(&host.site_path("lib"), "php", 0o777);
    fs::hard_link(host.site_path("lib/one.php"), host.site_path("lib/two.php")).unwrap();
    let site = host.site(SITE);
    let first = host.set(&site);
    let left: Vec<_> = first.failures.iter().map(|(path, _)| path.file_name().unwrap()).collect();
    assert_eq!(left, ["one.php", "two.php"]);
    let second = host.set(&site);
    assert!(second.failures.is_empty(), "{:?}", second.failures);
    assert_eq!(host.audit(&site).changes_pending(), 0);
}

#[test]
fn power_is_not_lent_again_to_what_somebody_wrote_to() {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    let kept = host.file("uploads/kept", "root", 0o4755);
    let written = host.file("uploads/written", "root", 0o4755);
    let replaced = host.file("uploads/replaced", "root", 0o4755);
    let site = host.site(SITE);
    assert!(host.set(&site).failures.is_empty());
    let mode = |path: &Path| std::os::unix::fs::MetadataExt::mode(&path.metadata().unwrap()) & 0o7777;
    assert_eq!(mode(&kept), 0o640);
    // PHP puts its own program there, and the old times back.
    let times = written.metadata().unwrap().modified().unwrap();
    fs::write(&written, "evil").unwrap();
    fs::File::open(&written).unwrap().set_modified(times).unwrap();
    fs::rename(&replaced, host.real("srv/aside")).unwrap();
    fs::write(&replaced, "evil").unwrap();
    std::os::unix::fs::chown(&replaced, Some(id("php")), Some(id("web"))).unwrap();
    fs::set_permissions(&replaced, std::os::unix::fs::PermissionsExt::from_mode(0o640)).unwrap();
    let back = host.undo(None, false);
    let mut left: Vec<_> = back.failures.iter().map(|(path, _)| path.file_name().unwrap().to_str().unwrap()).collect();
    left.sort_unstable();
    assert_eq!(left, ["replaced", "written"]);
    assert_eq!((mode(&kept), mode(&written), mode(&replaced)), (0o4755, 0o640, 0o640));
}
