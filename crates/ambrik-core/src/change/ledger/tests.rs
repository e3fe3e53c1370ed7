use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;
use std::sync::Arc;

use super::*;
use crate::account::Gid;
use crate::acl::Acl;
use crate::audit::RecordedFinding;
use crate::change::rights::RightsChange;
use crate::entry::{Kind, Rights};
use crate::mode::Mode;
use rstest::rstest;

fn ledger() -> (tempfile::TempDir, StateDir, Ledger) {
    let dir = tempfile::tempdir().unwrap();
    let state = StateDir::open_or_create(&dir.path().join("state")).unwrap();
    let ledger = Ledger::open_or_create(&state).unwrap();
    (dir, state, ledger)
}

fn turn() -> RightsChange {
    let acl = Acl::with_users(crate::mode::Perm::RW, crate::mode::Perm::R, crate::mode::Perm::NONE, &[]);
    let before = Rights {
        uid: Uid(u32::MAX - 2),
        gid: Gid(5),
        mode: Mode::of_st_mode(0o4755),
        acl: Some(Arc::new(acl)),
        default_acl: None,
        capabilities: Some([1, 2, 0, 3][..].into()),
        label: Some("system_u:object_r:usr_t:s0".parse().unwrap()),
    };
    let after = Rights { uid: Uid(0), acl: None, capabilities: None, ..before.clone() };
    let id = Identity { dev: u64::MAX, ino: 7, born: 12 };
    RightsChange {
        id,
        kind: Kind::File,
        links: 1,
        before: Arc::new(before),
        after: Arc::new(after),
        left: None,
        changed: None,
    }
}

#[test]
fn what_is_recorded_comes_back() {
    let (_dir, state, mut ledger) = ledger();
    let turn = turn();
    let name = OsStr::from_bytes(b"new\nline\xff");
    let mut entry = ledger.begin("berths", ChangeCommand::Seal, (Phase::Open, Phase::Sealed), None).unwrap();
    entry.record([(Path::new("/srv/www"), name, &turn)].into_iter()).unwrap();
    entry
        .record(
            [(Path::new("/srv/www"), OsStr::new("b"), &turn), (Path::new("/srv"), OsStr::new("c"), &turn)].into_iter(),
        )
        .unwrap();
    entry.came_of(&[(0, CameOf::Failed("why".into())), (1, CameOf::NotBegun), (2, CameOf::Left((-5, 7)))]).unwrap();
    let id = entry.end(0, 1, None).unwrap();
    drop(ledger);
    let ledger = Ledger::open(&state).unwrap().unwrap();
    let [row, other] = &ledger.turns(id).unwrap().iter().collect::<Vec<_>>()[..] else { panic!("two turns") };
    assert_eq!((&*row.folder, &*row.name, row.failed), (Path::new("/srv/www"), name, true));
    assert_eq!((&*other.folder, other.failed, other.turn.left), (Path::new("/srv"), false, Some((-5, 7))));
    assert_eq!((&row.turn.before, &row.turn.after, row.turn.id), (&turn.before, &turn.after, turn.id));
    assert_eq!(ledger.phase("berths").unwrap().phase, Phase::Sealed);
    let set = &ledger.change_sets().unwrap()[0];
    assert_eq!((set.command, set.failed, set.ended.is_some()), (ChangeCommand::Seal, 1, true));
}

#[test]
fn a_newer_ledger_is_left_alone() {
    let (_dir, state, ledger) = ledger();
    ledger.db.execute_batch("PRAGMA user_version = 99").unwrap();
    drop(ledger);
    let said = Ledger::open(&state).unwrap_err().to_string();
    assert!(said.contains("was written by a newer Ambrik (its version is 99"), "{said}");
}

#[test]
fn a_damaged_row_is_an_error_not_a_panic() {
    let (_dir, _state, mut ledger) = ledger();
    let mut entry = ledger.begin("berths", ChangeCommand::Set, (Phase::Sealed, Phase::Sealed), None).unwrap();
    entry.record([(Path::new("/srv"), OsStr::new("a"), &turn())].into_iter()).unwrap();
    let id = entry.id;
    let damaged = |ledger: &Ledger| matches!(ledger.turns(id), Err(LedgerError::Damaged { .. }));
    assert!(!damaged(&ledger));
    // Cut off between two changes, and in one.
    for damage in ["count = 2", "block = substr(block, 1, 9)"] {
        ledger.db.execute_batch(&format!("SAVEPOINT whole; UPDATE rights_changes SET {damage}")).unwrap();
        assert!(damaged(&ledger), "{damage}");
        ledger.db.execute_batch("ROLLBACK TO whole; RELEASE whole").unwrap();
    }
    ledger.db.execute_batch("UPDATE rights SET mode = 99999; UPDATE change_set SET begun = 'never'").unwrap();
    assert!(matches!(ledger.turns(id), Err(LedgerError::Damaged { .. })));
    assert!(matches!(ledger.change_sets(), Err(LedgerError::Damaged { .. })));
}

#[test]
fn the_files_are_for_the_owner_alone() {
    use std::os::unix::fs::MetadataExt;
    let (dir, _state, ledger) = ledger();
    for file in std::fs::read_dir(dir.path().join("state")).unwrap() {
        let file = file.unwrap();
        assert_eq!(file.metadata().unwrap().mode() & 0o077, 0, "{:?}", file.path());
    }
    drop(ledger);
}

#[rstest]
fn an_older_ledger_is_brought_up_to_date(#[values(1, 2, 3, 4, 5, 6, 7, 8)] version: i64) {
    let dir = tempfile::tempdir().unwrap();
    let state = StateDir::open_or_create(&dir.path().join("state")).unwrap();
    state.ensure_file(FILE).unwrap();
    let db = Connection::open(state.pinned(FILE)).unwrap();
    db.execute_batch(TABLES).unwrap();
    for (_, step) in STEPS.iter().filter(|(from, _)| (2..version).contains(from)) {
        step.take(&db).unwrap();
    }
    if version == 1 {
        db.execute_batch(
            "ALTER TABLE change_set DROP COLUMN until; ALTER TABLE change_set DROP COLUMN parts;
             ALTER TABLE creation DROP COLUMN content; ALTER TABLE site DROP COLUMN parts;",
        )
        .unwrap();
    }
    db.execute_batch(&format!(
        "INSERT INTO change_set (site, command, begun, ended, process, phase_before, phase_after)
         VALUES ('berths', 'set', '2026-11-23T14:00:00Z', '2026-11-23T14:00:01Z', 7, 'open', 'sealed');
         INSERT INTO folder VALUES (1, CAST('/srv/www' AS BLOB)), (2, CAST('/srv/www/a' AS BLOB));
         INSERT INTO rights (id, uid, gid, mode) VALUES (1, 5, 6, 511), (2, 0, 6, 416), (3, 9, 9, 511), (4, 0, 0, 420);
         INSERT INTO creation (change_set, path, kind, rights) VALUES (1, CAST('/srv/www/b' AS BLOB), 0, 4);
         PRAGMA user_version = {version};"
    ))
    .unwrap();
    // As they stood in the version before: number 2 was not begun.
    let rows = [(0, 1, "a", 1, None), (1, 2, "x.php", 0, Some("why")), (3, 2, "y.php", 0, None)];
    for (number, folder, name, kind, failed) in rows {
        let sql = "INSERT INTO turn (id, folder, name, kind, dev, ino, links, before, after, failed) VALUES (?,?,?,?,-1,?,1,1,2,?)";
        db.execute(sql, params![turn_id(1, number), folder, name.as_bytes(), kind, number + 40, failed]).unwrap();
    }
    if version >= 6 {
        let sql = "INSERT INTO delivered (change_set, path, sum) VALUES (1, ?, ?)";
        for (path, sum) in [("lib/b.php", [2_u8; 32]), ("index.php", [1; 32])] {
            db.execute(sql, params![path.as_bytes(), sum]).unwrap();
        }
    }
    drop(db);
    let mut ledger = Ledger::open(&state).unwrap().unwrap();
    assert_eq!(ledger.change_sets().unwrap().len(), 1);
    let brought = ledger.delivered("berths").unwrap();
    let has = |path: &str, sum| brought.as_ref().and_then(|it| it.brought(Path::new(path), Some([sum; 32])));
    let want = if version >= 6 { [Some(true), Some(true), Some(false)] } else { [None; 3] };
    assert_eq!([has("index.php", 1), has("lib/b.php", 2), has("lib/b.php", 1)], want);
    let turns = ledger.turns(1).unwrap();
    let read: Vec<RightsRow> = turns.iter().collect();
    let of = |row: &RightsRow| (row.folder.join(&row.name), row.turn.kind, row.turn.id.ino, row.failed);
    assert_eq!(
        read.iter().map(of).collect::<Vec<_>>(),
        [
            ("/srv/www/a".into(), Kind::Directory, 40, false),
            ("/srv/www/a/x.php".into(), Kind::File, 41, true),
            ("/srv/www/a/y.php".into(), Kind::File, 43, false),
        ]
    );
    assert!(
        read.iter().all(|row| (row.turn.id.dev, row.turn.before.uid, row.turn.after.uid) == (u64::MAX, Uid(5), Uid(0)))
    );
    let [made] = &ledger.creations(1).unwrap()[..] else { panic!("what was made") };
    assert_eq!(made.rights.mode, Mode::of_st_mode(0o644));
    let rights: i64 = ledger.db.query_row("SELECT count(*) FROM rights", [], |row| row.get(0)).unwrap();
    assert_eq!(rights, 3, "what nothing has goes");
    assert_eq!((ledger.movings(1).unwrap().len(), ledger.last_found().unwrap()), (0, None));
    let until = "2026-11-23T15:00:00Z".parse().unwrap();
    let mut entry = ledger.begin("berths", ChangeCommand::Open, (Phase::Sealed, Phase::Open), None).unwrap();
    entry.window(&Window { until, parts: Some(vec!["a".into(), "b c".into()]) }).unwrap();
    let opened = ledger.phase("berths").unwrap();
    assert_eq!((opened.phase, opened.until), (Phase::Open, Some(until)), "before anything was granted");
    assert_eq!(opened.parts, Some(vec!["a".into(), "b c".into()]));
    assert!(opened.is_overdue(until) && !opened.is_overdue(until - jiff::SignedDuration::from_secs(1)));
}

/// The first runs of all, at once: one makes the tables, the others wait.
#[test]
fn first_runs_at_once_all_open_it() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("state");
    let begin = std::sync::Barrier::new(16);
    std::thread::scope(|scope| {
        for _ in 0..16 {
            scope.spawn(|| {
                begin.wait();
                let state = StateDir::open_or_create(&path).unwrap();
                let mut ledger = Ledger::open_or_create(&state).unwrap();
                ledger
                    .begin("berths", ChangeCommand::Set, (Phase::Sealed, Phase::Sealed), None)
                    .unwrap()
                    .end(0, 0, None)
                    .unwrap();
            });
        }
    });
    let state = StateDir::open(&path).unwrap();
    assert_eq!(Ledger::open(&state).unwrap().unwrap().change_sets().unwrap().len(), 16);
}

#[test]
fn a_seal_that_is_taken_back_leads_into_the_same_window() {
    let (_dir, _state, mut ledger) = ledger();
    let until = "2026-11-23T15:00:00Z".parse().unwrap();
    let mut open = ledger.begin("berths", ChangeCommand::Open, (Phase::Sealed, Phase::Open), None).unwrap();
    open.window(&Window { until, parts: None }).unwrap();
    open.end(1, 0, None).unwrap();
    let seal = ledger
        .begin("berths", ChangeCommand::Seal, (Phase::Open, Phase::Sealed), None)
        .unwrap()
        .end(1, 0, None)
        .unwrap();
    assert_eq!(ledger.phase("berths").unwrap(), SitePhase::default());
    let undo = ledger.begin("berths", ChangeCommand::Undo, (Phase::Sealed, Phase::Open), Some(seal)).unwrap();
    undo.end(1, 0, Some(TakenBack { set: seal, whole: true })).unwrap();
    assert_eq!(ledger.phase("berths").unwrap().until, Some(until));
    let stories = deployments(&ledger.change_sets().unwrap());
    assert_eq!((stories.get(&1), stories.get(&2), stories.get(&3)), (Some(&1), Some(&1), None));
}

/// What belongs together is told by what began it: `u` unpack, `o` open, `s` set, `x` seal, `-` a day later; each with the number of
/// what it belongs to, 0 for nothing.
#[rstest]
#[case::opened("os x", &[1, 1, 1])]
#[case::unpacked_and_opened("uox", &[1, 1, 1])]
#[case::set_in_between("usox", &[1, 1, 1, 1])]
#[case::unpacked_alone("us", &[0, 0])]
#[case::another_day("u-ox", &[0, 2, 2])]
#[case::upgraded("uoxuox", &[1, 1, 1, 4, 4, 4])]
#[case::unpacked_twice("uuox", &[0, 2, 2, 2])]
#[case::unpacked_while_open("ouxs", &[1, 1, 1, 0])]
fn what_is_one_deployment(#[case] course: &str, #[case] want: &[i64]) {
    let (mut phase, mut begun) = (Phase::Sealed, jiff::Timestamp::UNIX_EPOCH);
    let mut sets = Vec::new();
    for step in course.chars() {
        let (command, then) = match step {
            'u' => (ChangeCommand::Unpack, phase),
            'o' => (ChangeCommand::Open, Phase::Open),
            's' => (ChangeCommand::Set, phase),
            'x' => (ChangeCommand::Seal, Phase::Sealed),
            '-' => {
                begun += jiff::SignedDuration::from_hours(25);
                continue;
            }
            _ => continue,
        };
        sets.insert(
            0,
            ChangeSet {
                id: i64::try_from(sets.len()).unwrap() + 1,
                site: "berths".into(),
                command,
                begun,
                ended: Some(begun),
                settled: false,
                process: 1,
                phase_before: phase,
                phase_after: then,
                undoes: None,
                undone_by: None,
                done: 1,
                failed: 0,
                removed: 0,
                recorded: 0,
                who: None,
                line: None,
                purged: None,
                written: None,
            },
        );
        phase = then;
    }
    let found = deployments(&sets);
    let told: Vec<i64> = sets.iter().rev().map(|set| found.get(&set.id).copied().unwrap_or(0)).collect();
    assert_eq!(told, want);
}

/// What the last audit found is on record, of sites that were not judged what was found before; and no more than a bound.
#[test]
fn audits_are_kept_within_a_bound() {
    let (_dir, _state, mut ledger) = ledger();
    let finding = |site: &str| RecordedFinding {
        site: site.into(),
        check: "everyone-writes".into(),
        part: ".".into(),
        severity: "high".into(),
        says: "says".into(),
        paths: 3,
        sum: vec![1],
    };
    let record = AuditRecord { taken: jiff::Timestamp::UNIX_EPOCH, complete: true, findings: [1, 2, 3] };
    let (a, b) = (finding("a"), finding("b"));
    ledger.record_audit(&record, &[a.clone(), b.clone()], &["a", "b"], true).unwrap();
    assert_eq!(ledger.last_found().unwrap().unwrap(), [a, b.clone()]);
    ledger.record_audit(&AuditRecord { complete: false, ..record }, &[], &["a"], false).unwrap();
    assert_eq!(ledger.last_found().unwrap().unwrap(), [b]);
    for _ in 0..410 {
        ledger.record_audit(&record, &[], &[], true).unwrap();
    }
    assert_eq!((ledger.audits().unwrap().len(), ledger.last_found().unwrap().unwrap().len()), (400, 0));
    assert_eq!(ledger.audits().unwrap()[0], record);
}
