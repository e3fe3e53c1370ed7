//! The units for systemd: they are right, as closed as they say, and what they start does its work with the capabilities they leave.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use rstest::rstest;
use serde_json::Value;

use crate::host::{PHP, Ran, TestHost, is_root};

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packaging/systemd")
}

/// A unit's values of a key.
fn values(unit: &str, key: &str) -> Vec<String> {
    let text = fs::read_to_string(folder().join(unit)).unwrap();
    let lines = text.lines().filter_map(|line| Some(line.strip_prefix(key)?.strip_prefix('=')?.to_owned()));
    lines.collect()
}

/// Runs what a unit starts, one line after the other, with no more capabilities than it leaves; `without` one of them.
fn start(host: &TestHost, unit: &str, without: &str) -> Vec<Ran> {
    let left = values(unit, "CapabilityBoundingSet").join(" ").to_lowercase();
    let left = left.split_whitespace().filter(|name| *name != without).map(|name| name.trim_start_matches("cap_"));
    let set = format!("-all{}", left.map(|name| format!(",+{name}")).collect::<String>());
    let metrics = host.at("metrics.prom");
    let lines = values(unit, "ExecStart")
        .into_iter()
        .map(|line| line.replace("/run/ambrik/findings.prom", &metrics.to_string_lossy()));
    lines
        .map(|line| {
            let words: Vec<&str> = line.split_whitespace().collect();
            assert_eq!(words[0].trim_start_matches('-'), "/usr/bin/ambrik");
            let mut command = Command::new("setpriv");
            command.args(["--bounding-set", &set, "--no-new-privs"]).arg(env!("CARGO_BIN_EXE_ambrik"));
            command.args(["--host", &host.at("").to_string_lossy()]).args(&words[1..]);
            host.told(&command.stdin(Stdio::null()).output().unwrap())
        })
        .collect()
}

#[test]
fn systemd_finds_them_right_and_closed() {
    if Command::new("systemd-analyze").arg("--version").stdout(Stdio::null()).status().is_err() {
        test_support::missing("systemd-analyze");
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let mut units = Vec::new();
    for entry in fs::read_dir(folder()).unwrap() {
        let path = entry.unwrap().path();
        let text = fs::read_to_string(&path).unwrap().replace("/usr/bin/ambrik", env!("CARGO_BIN_EXE_ambrik"));
        let unit = dir.path().join(path.file_name().unwrap());
        fs::write(&unit, text).unwrap();
        units.push(unit);
    }
    assert_eq!(units.len(), 7);
    let verified = Command::new("systemd-analyze").args(["verify", "--man=no"]).args(&units).output().unwrap();
    let said = String::from_utf8_lossy(&verified.stderr);
    let ours: Vec<&str> = said.lines().filter(|line| line.contains("ambrik")).collect();
    assert!(verified.status.success() && ours.is_empty(), "{said}");
    for unit in units.iter().filter(|unit| unit.extension().is_some_and(|ending| ending == "service")) {
        // Of ten: what only reads is closed further than what changes sites, or listens to the kernel.
        let bar = if unit.to_string_lossy().contains("audit") || unit.to_string_lossy().contains("proofread") {
            "30"
        } else {
            "45"
        };
        let mut command = Command::new("systemd-analyze");
        let closed = command.args(["security", "--offline=true", "--threshold", bar]).arg(unit).output().unwrap();
        assert!(closed.status.success(), "{}", String::from_utf8_lossy(&closed.stdout));
    }
}

/// An audit with the two capabilities sees what root sees; without the one that reads, it does not.
#[test]
fn the_audit_sees_what_root_sees() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"uploads\"\nuse = \"store\"\n");
    fs::create_dir_all(host.at("srv/www/berths/uploads/closed")).unwrap();
    host.file("uploads/closed/a.php", PHP, 0o600);
    for path in ["uploads/closed", "uploads"] {
        crate::host::give(&host.at(format!("srv/www/berths/{path}")), PHP, 0o700);
    }
    host.file("index.php", PHP, 0o666);
    let metrics = |without: &str| {
        let ran = start(&host, "ambrik-audit.service", without);
        assert!(ran.iter().all(|ran| ran.code == 0 || !without.is_empty()), "{ran:?}");
        assert!(!without.is_empty() || ran[0].out.contains("php-writes-code"), "{ran:?}");
        let text = fs::read_to_string(host.at("metrics.prom")).unwrap();
        let counted =
            text.lines().filter(|line| line.starts_with("ambrik_findings") || line.starts_with("ambrik_paths"));
        let counted: Vec<String> = counted.map(str::to_owned).collect();
        assert!(!counted.is_empty(), "{text}");
        counted
    };
    let whole = metrics("");
    let root = host.run(&["audit", "--format", "openmetrics", "--fail-on", "never"]).out;
    assert!(whole.iter().all(|line| root.contains(line)), "{whole:?}\n{root}");
    let _ = fs::remove_dir_all(host.at("var/lib/ambrik"));
    assert_ne!(metrics("cap_dac_read_search"), whole);
}

/// A window that is past its end is ended, with the installer left where it is; one that is not, and what is sealed, are left alone.
#[rstest]
#[case::overdue(-1, true)]
#[case::open(1, false)]
fn windows_are_ended(#[case] hours: i64, #[case] ended: bool) {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"settings.php\"\nuse = \"secret\"\nwrite = \"install\"\n[[part]]\npath = \"install\"\nuse = \"setup\"\n");
    host.site("tidewatch", "");
    host.file("settings.php", 0, 0o600);
    host.file("install/index.php", 0, 0o644);
    host.write("srv/www/tidewatch/index.php", "<?php\n");
    fs::set_permissions(host.at("srv/www/tidewatch/index.php"), std::os::unix::fs::PermissionsExt::from_mode(0o666))
        .unwrap();
    assert_eq!(host.run(&["open", "berths", "--for", "30m", "--yes"]).code, 0);
    let db = rusqlite::Connection::open(host.at("var/lib/ambrik/ledger.sqlite3")).unwrap();
    let until = (jiff::Timestamp::now() + jiff::SignedDuration::from_hours(hours)).to_string();
    assert_eq!(db.execute("UPDATE site SET until = ?", [until]).unwrap(), 1);
    drop(db);
    let ran = start(&host, "ambrik-windows.service", "");
    assert!(ran.iter().all(|ran| ran.code == 0 && ran.out.is_empty()), "{ran:?}");
    let audit: Value = serde_json::from_str(&host.run(&["audit", "--format", "json"]).out).unwrap();
    let phases: Vec<&str> =
        audit["sites"].as_array().unwrap().iter().map(|site| site["phase"].as_str().unwrap()).collect();
    assert_eq!(phases, [if ended { "sealed" } else { "open" }, "sealed"]);
    let settings = fs::metadata(host.at("srv/www/berths/settings.php")).unwrap();
    assert_eq!(std::os::unix::fs::MetadataExt::mode(&settings) & 0o020 == 0, ended, "{settings:?}");
    assert!(host.at("srv/www/berths/install/index.php").exists());
    let other = fs::metadata(host.at("srv/www/tidewatch/index.php")).unwrap();
    assert_eq!(std::os::unix::fs::MetadataExt::mode(&other) & 0o777, 0o666, "a site without a window is left alone");
}

/// Without the capability that looks into processes it is said that what they hold open is not known.
#[test]
fn what_processes_hold_is_not_said_unseen() {
    if !is_root() {
        return;
    }
    let dir = tempfile::tempdir_in("/var/tmp").unwrap();
    let at = |path: &str| dir.path().join(path);
    fs::set_permissions(dir.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    fs::create_dir_all(at("site")).unwrap();
    fs::create_dir(at("sites")).unwrap();
    fs::write(at("site/index.php"), "<?php\n").unwrap();
    let text = format!("[site]\nroot = \"{}\"\n[accounts]\nphp = \"www-data\"\n", at("site").display());
    fs::write(at("sites/berths.toml"), text).unwrap();
    let mut php =
        Command::new("setpriv").args(["--reuid", "33", "--clear-groups", "cat"]).stdin(Stdio::piped()).spawn().unwrap();
    // It is PHP's own once it has given up being root.
    let uid = || std::os::unix::fs::MetadataExt::uid(&fs::metadata(format!("/proc/{}", php.id())).unwrap());
    while uid() != 33 {
        std::thread::yield_now();
    }
    let checks = |set: &str| {
        let mut command = Command::new("setpriv");
        command.args(["--bounding-set", set, "--no-new-privs"]).arg(env!("CARGO_BIN_EXE_ambrik"));
        command.arg("--sites").arg(at("sites")).arg("--state").arg(at("state")).args(["audit", "--format", "json"]);
        String::from_utf8_lossy(&command.output().unwrap().stdout).into_owned()
    };
    assert!(checks("-all,+dac_read_search").contains("CAP_SYS_PTRACE"));
    assert!(!checks("-all,+dac_read_search,+sys_ptrace").contains("CAP_SYS_PTRACE"));
    drop(php.stdin.take());
    php.wait().unwrap();
}
