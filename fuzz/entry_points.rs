//! What reads bytes that somebody else wrote: one function each, for the fuzz targets here and for the bounded run among
//! the core's tests (`tests/it/fuzzed.rs`). Nothing may panic, hang or take memory without bound, whatever the bytes.

use std::fs;
use std::io::Read as _;
use std::path::{Path, PathBuf};

use ambrik_core::account::Accounts;
use ambrik_core::acl::Acl;
use ambrik_core::archive::{Archive, Limits, PackedKind, look};
use ambrik_core::change::{ChangeContext, Ledger, StateDir, deployments, plan_undo, since, undo};
use ambrik_core::entry::Kind;
use ambrik_core::host::Services;
use ambrik_core::label::Rules;
use ambrik_core::security_context::SecurityContext;
use ambrik_core::survey::{survey, survey_archive};
use ambrik_core::tree::{Host, Progress};
use ambrik_core::why::Refusals;

/// Reads bytes that somebody else wrote.
pub(crate) type EntryPoint = fn(&[u8]);

/// Every entry point, by its name.
pub(crate) const ENTRY_POINTS: [(&str, EntryPoint); 11] = [
    ("site_file", site_file),
    ("access_list", access_list),
    ("label", label),
    ("file_contexts", file_contexts),
    ("server_config", server_config),
    ("log_line", log_line),
    ("account_files", account_files),
    ("ledger_rows", ledger_rows),
    ("php_source", php_source),
    ("keepsake", keepsake),
    ("archive", archive),
];

/// A site file.
pub(crate) fn site_file(bytes: &[u8]) {
    let accounts = Accounts::from_texts("root:x:0:0::/:/\nphp:x:33:33::/:/\n", "root:x:0:\nphp:x:33:\n");
    let text = String::from_utf8_lossy(bytes);
    if let Err(problems) =
        ambrik_core::site::read(&text, Path::new("site.toml"), &accounts, &ambrik_core::check::names())
    {
        assert!(!problems.to_string().is_empty(), "what is refused is told why");
    }
}

/// The attribute of an access list; what is read is written again just so, but for its order.
pub(crate) fn access_list(bytes: &[u8]) {
    if let Ok(acl) = Acl::from_attribute(bytes) {
        assert_eq!(Acl::from_attribute(&acl.to_attribute()), Ok(acl));
    }
}

/// The attribute of a security label.
pub(crate) fn label(bytes: &[u8]) {
    if let Ok(context) = SecurityContext::from_attribute(bytes) {
        assert_eq!(SecurityContext::from_attribute(&context.to_attribute()), Ok(context.clone()));
        assert_eq!(context.with_type(context.type_name()), context);
    }
}

/// File-context rules, asked about a few paths; what is said of a whole directory is said of what is in it.
pub(crate) fn file_contexts(bytes: &[u8]) {
    let Ok(rules) = Rules::of(&[(PathBuf::from("file_contexts"), bytes.to_vec())], [bytes, b""], bytes) else { return };
    for (dir, path) in [("", "/srv"), ("/srv", "/srv/x"), ("/srv/www", "/srv/www/x"), ("/a/b", "/a/b/c")] {
        for kind in [Kind::File, Kind::Directory, Kind::Symlink, Kind::Fifo] {
            let answer = rules.answer(path.as_bytes(), kind);
            let alike = rules.below(dir.as_bytes()).and_then(|alike| rules.answer_below(alike, kind));
            assert!(alike.is_none_or(|alike| alike == answer), "{path}");
        }
    }
}

/// The configuration of web servers, PHP and service units.
pub(crate) fn server_config(bytes: &[u8]) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    for file in
        ["etc/nginx/nginx.conf", "etc/apache2/apache2.conf", "etc/php-fpm.conf", "etc/systemd/system/nginx.service"]
    {
        let path = folder.path().join(file);
        fs::create_dir_all(path.parent().expect("it is in a folder")).expect("a folder is made");
        fs::write(path, bytes).expect("a file is written");
    }
    let accounts = Accounts::from_texts("root:x:0:0::/:/\nphp:x:33:33::/:/\n", "root:x:0:\nphp:x:33:\n");
    let _ = ambrik_core::host::look(&Host::at(folder.path()).expect("the folder is there"), &accounts);
}

/// Lines of logs: of PHP, of web servers, of the audit system.
pub(crate) fn log_line(bytes: &[u8]) {
    let mut refusals = Refusals::new("2026-11-23".parse().expect("it is a date"));
    // Bytes that begin as a compressed log does and are none are an error, and what came before it counts.
    let _ = refusals.read(bytes);
    assert!(refusals.list().iter().all(|refusal| refusal.path.is_absolute()));
}

/// `/etc/passwd` and `/etc/group`, the latter after the first NUL.
pub(crate) fn account_files(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    let (passwd, group) = text.split_once('\0').unwrap_or((&text, &text));
    let accounts = Accounts::from_texts(passwd, group);
    for account in accounts.all() {
        let _ = (accounts.owner_shown(account.ids.uid, account.ids.gid), accounts.members(account.ids.gid));
    }
    let _ = (accounts.account("php"), accounts.account("33"), accounts.account("0:33"));
}

/// A PHP source, as a survey of the application reads it.
pub(crate) fn php_source(bytes: &[u8]) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let root = folder.path().join("srv/quay");
    fs::create_dir_all(root.join("install")).expect("a folder is made");
    // What begins the file decides what it is called: settings, an installer and modules are read in their own ways.
    let names = ["index.php", "config.sample.php", "install/index.php", "quay.module"];
    let name = names[usize::from(bytes.first().copied().unwrap_or(0)) % names.len()];
    fs::write(root.join(name), [b"<?php\n", bytes].concat()).expect("a file is written");
    let accounts = Accounts::from_texts("root:x:0:0::/:/\n", "root:x:0:\n");
    let host = Host::at(folder.path()).expect("the folder is there");
    let found = survey(&host, &accounts, &Services::default(), Path::new("/srv/quay"), &[], None, &Progress::default());
    let found = found.expect("there is a tree");
    assert!(!found.draft().is_empty());
}

/// An archive of what was removed, as taking the removal back reads it.
pub(crate) fn keepsake(bytes: &[u8]) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let at = |path: &str| folder.path().join(path);
    fs::create_dir_all(at("srv/quay")).expect("a folder is made");
    let state = StateDir::open_or_create(&at("state")).expect("a state directory");
    fs::create_dir(at("state/keepsakes")).expect("a folder is made");
    fs::write(at("state/keepsakes/quay-1.tar"), bytes).expect("a file is written");
    let mut ledger = Ledger::open_or_create(&state).expect("a new ledger");
    let db = rusqlite::Connection::open(at("state/ledger.sqlite3")).expect("the ledger is there");
    db.execute_batch(
        "PRAGMA synchronous = OFF;
         INSERT INTO change_set (site, command, begun, ended, process, phase_before, phase_after)
         VALUES ('quay', 'seal', '2026-11-23T10:00:00Z', '2026-11-23T10:00:00Z', 1, 'sealed', 'sealed');
         INSERT INTO removal (change_set, path, reason, keepsake, files) VALUES (1, CAST('/srv/quay/x' AS BLOB), '', 'quay-1.tar', 1);",
    )
    .expect("it is SQLite");
    drop(db);
    let host = Host::at(folder.path()).expect("the folder is there");
    let progress = Progress::default();
    let means = ChangeContext { host: &host, state: &state, threads: 1, store: None, keep: true, progress: &progress };
    let plan = plan_undo(&ledger, Some(1)).expect("it can be taken back");
    let outcome = undo(&plan, &mut ledger, &means, false).expect("the ledger is sound");
    let there: Vec<_> =
        fs::read_dir(at("")).expect("it is a folder").map(|entry| entry.expect("a name").file_name()).collect();
    assert!(there.len() == 2, "nothing is made beside what was removed: {there:?}");
    let there: Vec<_> =
        fs::read_dir(at("srv/quay")).expect("it is a folder").map(|entry| entry.expect("a name").file_name()).collect();
    assert!(there.is_empty() || there == ["x"], "{there:?}");
    assert!(outcome.restored == 0 || there == ["x"]);
}

/// Rows of the ledger as no Ambrik writes them: numbers, texts and bytes in any column.
pub(crate) fn ledger_rows(bytes: &[u8]) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let state = StateDir::open_or_create(&folder.path().join("state")).expect("a state directory");
    drop(Ledger::open_or_create(&state).expect("a new ledger"));
    let db = rusqlite::Connection::open(folder.path().join("state/ledger.sqlite3")).expect("the ledger is there");
    db.execute_batch("PRAGMA synchronous = OFF; PRAGMA foreign_keys = OFF; BEGIN;").expect("it is SQLite");
    let mut rest = bytes;
    for table in [
        "change_set",
        "rights",
        "rights_changes",
        "rights_outcome",
        "removal",
        "creation",
        "restoring",
        "moving",
        "module",
        "switch",
        "site",
        "successor",
        "place",
        "window_state",
        "unproven",
        "clean",
        "brought",
        "staging",
        "audit",
        "found",
    ] {
        let columns = db.prepare(&format!("SELECT * FROM {table}")).expect("the table is there").column_count();
        let values: Vec<rusqlite::types::Value> = (0..columns).map(|_| value(&mut rest)).collect();
        let marks = vec!["?"; columns].join(",");
        // What the table itself refuses cannot be in it.
        let _ = db.execute(&format!("INSERT INTO {table} VALUES ({marks})"), rusqlite::params_from_iter(values));
    }
    db.execute_batch("COMMIT").expect("it is SQLite");
    drop(db);
    let Ok(Some(ledger)) = Ledger::open(&state) else { return };
    if let Ok(sets) = ledger.change_sets() {
        let _ = deployments(&sets);
        for set in &sets {
            let _ = (plan_undo(&ledger, Some(set.id)), since(&ledger, set.id), ledger.stopped_move(&set.site));
            let _ = (ledger.phase(&set.site), ledger.opened(&set.site));
            let _ = (ledger.unproven(&set.site), ledger.clean_since(&set.site));
        }
    }
    let _ = (plan_undo(&ledger, None), ledger.phase("berths"));
}

/// One value out of the bytes: a small or any number, nothing, a text, or bytes.
fn value(rest: &mut &[u8]) -> rusqlite::types::Value {
    use rusqlite::types::Value;
    let mut take = |length: usize| {
        let mut taken = vec![0; length.min(rest.len())];
        rest.read_exact(&mut taken).expect("as many bytes are left");
        taken
    };
    let kind = take(1).first().copied().unwrap_or(0);
    match kind % 8 {
        0 => Value::Integer(1),
        1 => Value::Integer(i64::from(take(1).first().copied().unwrap_or(0))),
        2 => Value::Integer(take(8).iter().fold(0, |number, byte| number << 8 | i64::from(*byte))),
        3 => Value::Null,
        4 => Value::Text(String::from_utf8_lossy(&take(usize::from(kind / 8))).into_owned()),
        5 => Value::Text(
            ["berths", "set", "open", "sealed", "2026-11-23T10:00:00Z", "undo"][usize::from(kind / 8) % 6].into(),
        ),
        6 => Value::Blob([&b"/srv/"[..], &take(usize::from(kind / 8))].concat()),
        _ => Value::Blob(take(usize::from(kind / 4))),
    }
}

/// An application's archive: what is laid out of it stays in the folder.
pub(crate) fn archive(bytes: &[u8]) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let private = folder.path().join("private");
    fs::create_dir(&private).expect("a folder is made");
    let Ok(archive) = Archive::from_stream(Path::new("archive"), bytes) else { return };
    let Ok(found) = look(&archive, None, None, Limits { free: 1 << 22, ratio: 100, small: 1 << 20, entries: 200 })
    else {
        return;
    };
    let plain = |path: &Path| path.components().all(|name| matches!(name, std::path::Component::Normal(_)));
    assert!(found.entries.keys().all(|path| plain(path.as_ref())), "{found:?}");
    if !found.refused.is_empty() {
        return;
    }
    let links = found.entries.values().filter_map(|entry| match &entry.kind {
        PackedKind::Symlink(target) => Some(target),
        PackedKind::Directory | PackedKind::File { .. } => None,
    });
    assert!(links.into_iter().all(|target| target.is_relative()), "{found:?}");
    let accounts = Accounts::from_texts("root:x:0:0::/:/\n", "root:x:0:\n");
    let services = Services::default();
    let empty = tempfile::tempdir().expect("a temporary folder");
    let host = Host::at(empty.path()).expect("a folder is a host");
    let places = (&host, private.as_path(), Path::new("/srv/quay"));
    let _ = survey_archive((&archive, &found), places, (&accounts, &services), &[], &Progress::default());
    let names = |path: &Path| -> Vec<_> {
        fs::read_dir(path).expect("it is a folder").map(|entry| entry.expect("a name").file_name()).collect()
    };
    assert_eq!((names(folder.path()), names(&private)), (vec!["private".into()], vec!["srv".into()]));
}
