//! Somebody who changes the disk between two runs, or between a look and the change: nothing else is taken for what was
//! changed, and nothing that they planted survives.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, symlink};
use std::path::Path;

use ambrik_core::account::Uid;
use ambrik_core::acl::{ACCESS_ATTRIBUTE, Acl, DEFAULT_ATTRIBUTE};
use ambrik_core::change::{ChangeError, Ledger, PlaceError, Plan, check_places};
use ambrik_core::mode::Perm;
use ambrik_core::site::Phase;
use rstest::rstest;

use crate::attributes;
use crate::host::{TestHost, found, id, is_root, picture};

const SITE: &str = "[accounts]\nphp = \"php\"\nweb = \"web\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n[[part]]\npath = \"install\"\nuse = \"setup\"\n[[part]]\npath = \"made\"\nuse = \"store\"\ncreate = true\n";

/// A site that PHP owns, with an installer, and files with two names in it.
fn host() -> TestHost {
    let host = TestHost::new(&[]);
    host.file("index.php", "php", 0o666);
    host.file("uploads/pic", "php", 0o666);
    host.file("install/a.php", "php", 0o664);
    host.file("install/c.php", "php", 0o664);
    host.folder("install", "php", 0o775);
    host.folder("uploads", "php", 0o775);
    host.folder("", "php", 0o775);
    host
}

/// Files with two names keep their rights through seal and undo: what comes back is another inode, and the ledger knows.
#[test]
fn what_came_back_with_two_names_gets_its_rights_back() {
    if !is_root() {
        return;
    }
    let host = host();
    fs::hard_link(host.site_path("install/a.php"), host.site_path("install/b.php")).unwrap();
    let before = picture(&host.site_path("install"), false);
    let site = host.site(SITE);
    let first = host.set(&site);
    let second = host.set(&site);
    assert!(second.failures.is_empty(), "{:?}", second.failures);
    let sealed = host.seal(&site);
    assert!(!host.site_path("install").exists());
    // The numbers of the inodes that went are given to others.
    for n in 0..300 {
        host.file(format!("../fill{n}"), "root", 0o644);
    }
    for id in [sealed.id, second.id, first.id] {
        let back = host.undo(Some(id), false);
        assert!(back.failures.is_empty(), "{id}: {:?}", back.failures);
    }
    assert_eq!(picture(&host.site_path("install"), false), before);
}

/// PHP swaps its site for another one after a change: taking that back touches nothing of the other, forced or not.
#[rstest]
fn undo_gives_no_other_tree_away(#[values("set", "seal", "undo of seal")] what: &str) {
    if !is_root() {
        return;
    }
    let host = host();
    let site = host.site(SITE);
    let mut last = if what == "set" { host.set(&site).id } else { host.seal(&site).id };
    if what == "undo of seal" {
        last = host.undo(Some(last), false).id;
    }
    // The other site has the same names, and is somebody else's.
    let other = host.real("srv/www/other");
    fs::rename(host.site_path(""), host.real("srv/www/away")).unwrap();
    for path in ["index.php", "uploads/pic", "install/a.php", "install/c.php"] {
        host.file(path, "deploy", 0o640);
    }
    for folder in ["", "uploads", "install", "made"] {
        host.folder(folder, "deploy", 0o750);
    }
    fs::rename(host.site_path(""), &other).unwrap();
    fs::rename(host.real("srv/www/away"), host.site_path("")).unwrap();
    let before = picture(&other, true);
    fs::rename(host.site_path(""), host.real("srv/www/away")).unwrap();
    fs::rename(&other, host.site_path("")).unwrap();
    let mut back = host.undo(Some(last), false);
    assert!(!back.failures.is_empty());
    fs::rename(host.site_path(""), &other).unwrap();
    let after = picture(&other, true);
    for (path, text) in &before {
        // Renaming the root changes its own change time.
        if *path != other {
            assert_eq!(after.get(path), Some(text), "{}: {:?}", path.display(), back.failures);
        }
    }
    assert_eq!(after.len(), before.len());
    // Back in its place everything can be taken back.
    fs::rename(host.real("srv/www/away"), host.site_path("")).unwrap();
    back = host.undo(Some(last), false);
    assert!(back.failures.is_empty(), "{:?}", back.failures);
}

/// A root that was put in the place of the one that was changed last: followed only where root or the keeper alone can
/// have put it there, or where somebody answers for it.
#[rstest]
#[case::never_closed(false)]
#[case::always_closed(true)]
fn another_root_is_refused_unless_only_the_keeper_could_have_put_it_there(#[case] closed: bool) {
    if !is_root() {
        return;
    }
    let host = host();
    let site = host.site(SITE);
    let above = host.real("srv/www");
    host.set(&site);
    let state = host.state();
    if !closed {
        // As an ordinary user's run recorded it, who cannot be refused for that.
        let ledger = rusqlite::Connection::open(host.real("var/lib/ambrik/ledger.sqlite3")).unwrap();
        ledger.execute("UPDATE place SET closed = 0", []).unwrap();
    }
    fs::rename(host.site_path(""), above.join("old")).unwrap();
    host.folder("", "root", 0o700);
    host.file("index.php", "root", 0o600);
    let before = picture(&host.site_path(""), true);
    let ledger = Ledger::open(&state).unwrap().unwrap();
    let check = |new_root| check_places(&host.audit(&site), Some(&ledger), new_root);
    if closed {
        assert_eq!(check(false).unwrap(), [Path::new("/srv/www/site")]);
        assert!(host.set(&site).failures.is_empty());
        let ledger = Ledger::open(&state).unwrap().unwrap();
        assert!(check_places(&host.audit(&site), Some(&ledger), false).unwrap().is_empty(), "it is known now");
        return;
    }
    assert!(matches!(check(false), Err(PlaceError::NewRoot(path)) if path == Path::new("/srv/www/site")));
    let refused = host.try_apply(&Plan::set(host.audit(&site), Phase::Sealed));
    assert!(matches!(refused, Err(ChangeError::Place(PlaceError::NewRoot(_)))), "{refused:?}");
    assert_eq!(picture(&host.site_path(""), true), before);
    assert_eq!(check(true).unwrap().len(), 1);
    let plan = Plan { new_root: true, ..Plan::set(host.audit(&site), Phase::Sealed) };
    assert!(host.apply(&plan).failures.is_empty());
}

/// As long as somebody else can rename what leads to a root, root changes nothing there.
#[rstest]
#[case::owned_by_php("php", 0o755, "php", Some("chown root /srv/www"))]
#[case::open_to_all("root", 0o777, "every account", Some("chmod go-w /srv/www"))]
#[case::sticky("root", 0o1777, "php", Some("chown root /srv/www/site"))]
#[case::the_keepers("deploy", 0o755, "", None)]
fn a_way_that_others_can_rename_is_refused(
    #[case] owner: &str,
    #[case] mode: u32,
    #[case] who: &str,
    #[case] mend: Option<&str>,
) {
    if !is_root() {
        return;
    }
    let host = host();
    let site = host.site(&SITE.replace("[accounts]", "[accounts]\nkeeper = \"deploy\""));
    host.give(&host.real("srv/www"), owner, mode);
    let before = picture(&host.real("srv"), true);
    let set = host.try_apply(&Plan::set(host.audit(&site), Phase::Sealed));
    let Some(mend) = mend else {
        assert!(set.is_ok(), "{set:?}");
        return;
    };
    let Err(ChangeError::Place(PlaceError::OpenWay { way, .. })) = set else { panic!("{set:?}") };
    assert_eq!((&*way.who, &*way.mend, &*way.dir), (who, mend, Path::new("/srv/www")));
    assert_eq!(picture(&host.real("srv"), true), before);
}

/// A release layout: the link is the keeper's, and so is the folder that it is in.
#[test]
fn a_new_release_behind_the_keepers_link_is_followed() {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    for release in ["1", "2"] {
        host.file(format!("../releases/{release}/index.php"), "root", 0o600);
    }
    fs::remove_dir(host.site_path("").components().collect::<std::path::PathBuf>()).unwrap();
    let link = host.real("srv/www/site");
    symlink("releases/1", &link).unwrap();
    let site = host.site(SITE);
    assert!(host.set(&site).failures.is_empty());
    fs::remove_file(&link).unwrap();
    symlink("releases/2", &link).unwrap();
    let ledger = Ledger::open(&host.state()).unwrap().unwrap();
    assert_eq!(check_places(&host.audit(&site), Some(&ledger), false).unwrap(), [Path::new("/srv/www/site")]);
    assert!(host.set(&site).failures.is_empty());
    assert_eq!(fs::metadata(link.join("index.php")).unwrap().mode() & 0o777, 0o644);
}

fn stranger_writes() -> Vec<u8> {
    Acl::with_users(Perm::RWX, Perm::RX, Perm::NONE, &[(Uid(id("stranger")), Perm::RWX)]).to_attribute()
}

#[rstest]
#[case::code("lib", true)]
#[case::a_store_that_the_stranger_cannot_enter("uploads", false)]
fn default_lists_are_found_and_go(#[case] folder: &str, #[case] want: bool) {
    if !is_root() {
        return;
    }
    let host = host();
    let site = host.site(SITE);
    host.folder(folder, "root", 0o755);
    host.set(&site);
    attributes::set(&host.site_path(folder), DEFAULT_ATTRIBUTE, &stranger_writes());
    assert_eq!(found(&host.audit(&site), "lists-given-on").contains(&folder.to_owned()), want);
    // What root makes there is the stranger's now.
    let new = host.site_path(folder).join("new.php");
    fs::write(&new, "x").unwrap();
    assert!(!attributes::all(&new).is_empty());
    assert!(host.set(&site).failures.is_empty());
    let audit = host.audit(&site);
    assert_eq!((found(&audit, "lists-given-on").len(), audit.changes_pending()), (0, 0));
    assert!(attributes::all(&new).is_empty());
}

/// A default list that gives only what the site file gives is no finding.
#[test]
fn a_default_list_for_those_who_may_is_none() {
    if !is_root() {
        return;
    }
    let host = host();
    let site = host.site(SITE);
    host.set(&site);
    let list = Acl::with_users(Perm::RWX, Perm::NONE, Perm::NONE, &[(Uid(id("php")), Perm::RWX)]);
    attributes::set(&host.site_path("uploads"), DEFAULT_ATTRIBUTE, &list.to_attribute());
    assert_eq!(found(&host.audit(&site), "lists-given-on"), [] as [&str; 0]);
}

/// Lists that PHP plants on what it owns while the question waits do not survive the answer; a file of code that was
/// changed meanwhile, whatever it was, is named, left, and looked at anew by the next run.
#[test]
fn lists_planted_before_the_change_do_not_survive_it() {
    if !is_root() {
        return;
    }
    let host = host();
    host.folder("lib", "php", 0o755);
    host.file("lib/a.php", "php", 0o644);
    host.file("uploads/b", "php", 0o666);
    let site = host.site(SITE);
    let plan = Plan::set(host.audit(&site), Phase::Sealed);
    let access = Acl::with_users(Perm::RW, Perm::R, Perm::R, &[(Uid(id("stranger")), Perm::R)]);
    attributes::set(&host.site_path("lib"), DEFAULT_ATTRIBUTE, &stranger_writes());
    for (path, mode) in [("lib/a.php", 0o644), ("uploads/b", 0o666)] {
        attributes::set(&host.site_path(path), ACCESS_ATTRIBUTE, &access.to_attribute());
        // A list shows in the mode: as the planter puts it right.
        host.give(&host.site_path(path), "php", mode);
    }
    let outcome = host.apply(&plan);
    let failed: Vec<_> = outcome.failures.iter().map(|(path, _)| path.as_path()).collect();
    assert_eq!(failed, [Path::new("/srv/www/site/lib/a.php")]);
    assert_eq!(attributes::all(&host.site_path("lib")), []);
    assert_eq!(attributes::all(&host.site_path("uploads/b")), []);
    assert!(host.set(&site).failures.is_empty());
    assert_eq!(attributes::all(&host.site_path("lib/a.php")), []);
    assert_eq!(host.audit(&site).changes_pending(), 0);
}
