//! Records have an end: what is old goes, what is needed stays, and what cannot be taken back any more says so.

use std::fs;

use rstest::rstest;
use rusqlite::Connection;

use crate::documents::document;
use crate::host::{TestHost, is_root};

const LEDGER: &str = "var/lib/ambrik/ledger.sqlite3";

/// A site of which something was removed, then changed, then changed again; each so many days ago.
fn host(days: [i64; 3]) -> TestHost {
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"install\"\nuse = \"setup\"\n");
    host.file("index.php", 0, 0o644);
    host.file("install/index.php", 0, 0o644);
    assert_eq!(host.run(&["seal", "berths", "--yes", "--fail-on", "never", "--unfinished"]).code, 0);
    for mode in [0o666, 0o600] {
        host.file("index.php", 0, mode);
        assert_eq!(host.run(&["set", "berths", "--yes"]).code, 0);
    }
    age(&host, days);
    host
}

fn age(host: &TestHost, days: [i64; 3]) {
    let db = Connection::open(host.at(LEDGER)).unwrap();
    for (id, days) in (1..).zip(days) {
        let then = (jiff::Timestamp::now() - jiff::SignedDuration::from_hours(24 * days)).to_string();
        let changed = db.execute("UPDATE change_set SET begun = ?1, ended = ?1 WHERE id = ?2", (then, id)).unwrap();
        assert_eq!(changed, 1);
    }
}

fn ids(host: &TestHost) -> Vec<i64> {
    let found = document(host, &["history"], "history");
    found["change_sets"].as_array().unwrap().iter().map(|set| set["id"].as_i64().unwrap()).collect()
}

fn keepsakes(host: &TestHost) -> usize {
    fs::read_dir(host.at("var/lib/ambrik/keepsakes")).unwrap().count()
}

#[test]
fn what_is_old_goes_and_says_so() {
    if !is_root() {
        return;
    }
    let host = host([100, 90, 1]);
    assert_eq!((ids(&host), keepsakes(&host)), (vec![3, 2, 1], 1));
    let kept = document(&host, &["history"], "history")["change_sets"][2]["kept_bytes"].as_u64().unwrap();
    assert!(kept > 0);

    let nothing = host.run(&["purge"]);
    assert!(nothing.code == 2 && nothing.err.contains("[keep]"), "{nothing:?}");
    host.write("etc/ambrik/host.toml", "[keep]\nkeepsakes = \"95d\"\n");
    let preview = document(&host, &["purge", "--preview"], "purge");
    assert_eq!((&preview["cannot_be_undone"], &preview["change_sets"]), (&vec![1].into(), &Vec::<i64>::new().into()));
    assert_eq!(keepsakes(&host), 1, "a preview removes nothing");
    assert_eq!(host.run(&["purge"]).code, 2, "without a terminal --yes is needed");
    let purged = host.run(&["purge", "--yes"]);
    assert!(purged.code == 0 && purged.out.contains("1 keepsake"), "{purged:?}");
    assert_eq!((ids(&host), keepsakes(&host)), (vec![3, 2, 1], 0));
    let undo = host.run(&["undo", "1", "--yes"]);
    assert!(undo.code == 2 && undo.err.contains("change set 1 is too old to be taken back"), "{undo:?}");
    assert!(host.run(&["history"]).out.contains("done, purged"));

    // The record goes as well, but for the newest; the ledger gets smaller, and what is left works.
    let size = || fs::metadata(host.at(LEDGER)).unwrap().len();
    let before = size();
    let all = host.run(&["purge", "--history", "0d", "--yes"]);
    assert_eq!(all.code, 0, "{all:?}");
    assert_eq!(ids(&host), [3]);
    assert!(size() <= before);
    assert_eq!(host.run(&["undo", "3", "--yes"]).code, 0);
    let unknown = host.run(&["undo", "2", "--yes"]);
    assert!(unknown.code == 2 && unknown.err.contains("purged"), "{unknown:?}");
    assert_eq!(host.run(&["purge", "--history", "1d", "--yes"]).out, "nothing is older than it is kept for\n");
}

/// A site that is open is left alone, and so is one of which a run was stopped; what took another back stays with it.
#[test]
fn what_is_needed_stays() {
    if !is_root() {
        return;
    }
    let host = host([100, 100, 100]);
    assert_eq!(host.run(&["open", "berths", "--for", "30m", "--yes"]).code, 0);
    let spared = host.run(&["purge", "--history", "1d", "--keepsakes", "1d", "--yes"]);
    assert!(spared.code == 0 && spared.out.contains("left alone, since open or stopped: berths"), "{spared:?}");
    assert_eq!(ids(&host).len(), 4);
    assert_eq!(host.run(&["seal", "berths", "--yes", "--fail-on", "never", "--unfinished"]).code, 0);
    assert_eq!(host.run(&["undo", "3", "--yes"]).code, 0);
    assert_eq!(host.run(&["purge", "--history", "1d", "--keepsakes", "1d", "--yes"]).code, 0);
    assert!(ids(&host).contains(&3) && !ids(&host).contains(&2), "{:?}", ids(&host));
}

/// The host file's times hold at the end of what changes something, without a question.
#[test]
fn what_changes_something_purges_by_the_host_file() {
    if !is_root() {
        return;
    }
    let host = host([100, 90, 1]);
    host.write("etc/ambrik/host.toml", "[keep]\nkeepsakes = \"95d\"\nhistory = \"80d\"\n");
    for nothing_to_do in [&["set", "--preview"][..], &["set", "--yes"]] {
        assert_eq!(host.run(nothing_to_do).code, 0);
        assert_eq!((ids(&host), keepsakes(&host)), (vec![3, 2, 1], 1), "{nothing_to_do:?} changed nothing");
    }
    host.file("index.php", 0, 0o666);
    assert_eq!(host.run(&["set", "--preview"]).code, 1);
    assert_eq!(ids(&host), [3, 2, 1], "what only looks purges nothing");
    let set = host.run(&["set", "--yes", "-v"]);
    assert!(set.code == 0 && set.err.contains("purged by the host file: 1 keepsake, 2 change sets"), "{set:?}");
    assert_eq!((ids(&host), keepsakes(&host)), (vec![4, 3], 0));
}

/// What was removed is kept as long as that was said, whatever is said of the history: for ever where nothing is.
#[rstest]
#[case::for_ever(&["--history", "1d"], &[3, 1])]
#[case::longer(&["--history", "1d", "--keepsakes", "200d"], &[3, 1])]
#[case::as_long(&["--history", "1d", "--keepsakes", "1d"], &[3])]
fn a_keepsake_that_stays_keeps_its_record(#[case] ages: &[&str], #[case] left: &[i64]) {
    if !is_root() {
        return;
    }
    let host = host([100, 90, 1]);
    assert_eq!(host.run(&[&["purge", "--yes"], ages].concat()).code, 0);
    assert_eq!((ids(&host), keepsakes(&host)), (left.to_vec(), usize::from(left.contains(&1))));
    if left.contains(&1) {
        assert_eq!(host.run(&["undo", "1", "--yes"]).code, 0);
        assert!(host.at("srv/www/berths/install/index.php").exists());
    }
}

/// Of a site that another run holds nothing is removed, and the report does not say so.
#[test]
fn what_another_run_holds_is_left() {
    if !is_root() {
        return;
    }
    let host = host([100, 90, 1]);
    let lock = host.at("var/lib/ambrik/locks/berths.lock");
    let lock = fs::File::open(&lock).unwrap_or_else(|cause| panic!("{}: {cause}", lock.display()));
    lock.lock().unwrap();
    let purged = host.run(&["purge", "--history", "1d", "--keepsakes", "1d", "--yes"]);
    let held = "removed 0 keepsakes (0 B) and the record of 0 change sets\nleft for the next time, since another run holds berths";
    assert!(purged.code == 0 && purged.out.contains(held), "{purged:?}");
    assert_eq!((ids(&host), keepsakes(&host)), (vec![3, 2, 1], 1));
}

/// Killed anywhere, a purge is finished by the next one: no keepsake is left that nothing is on record of.
#[test]
fn killed_anywhere_it_is_finished() {
    if !is_root() {
        return;
    }
    let words = ["purge", "--history", "1d", "--keepsakes", "1d", "--yes"];
    let steps = host([100, 90, 1]).changes(&words);
    assert!(steps >= 4, "{steps}");
    for n in 1..=steps {
        let host = host([100, 90, 1]);
        host.killed_at(&words, n);
        let again = host.run(&words);
        assert_eq!(again.code, 0, "{n}: {again:?}");
        assert_eq!((ids(&host), keepsakes(&host)), (vec![3], 0), "{n}");
    }
}
