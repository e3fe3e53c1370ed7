//! `watch` on this host, with real processes: what becomes wrong is told at once, and what is done by Ambrik, or is nobody's matter,
//! is not.

use std::fs;
use std::io::{BufRead as _, BufReader};
use std::os::unix::fs::{PermissionsExt as _, chown};
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::documents::checked;
use crate::host::{Mounted, is_root};
use crate::real;

/// A site of this host in a folder of its own, watched.
struct Watching {
    dir: tempfile::TempDir,
    child: Child,
    alerts: Receiver<Value>,
}

const PHP: u32 = 33;

impl Watching {
    fn start(more: &[&str]) -> Self {
        Self::through(|dir| ambrik(dir, &["watch"]), more, |line| checked(line, "alert"))
    }

    /// The same by `--on` two hosts, of which one is this, and there is no other.
    fn from_afar(more: &[&str]) -> Self {
        let through = |dir: &Path| {
            let bin = dir.join("bin");
            fs::create_dir(&bin).unwrap();
            let ssh = "#!/bin/sh\nwhile [ \"$1\" != -- ]; do shift; done\n[ \"$2\" = berth-1 ] || exit 255\nexec sh -c \"$3\"\n";
            fs::write(bin.join("ssh"), ssh).unwrap();
            fs::set_permissions(bin.join("ssh"), fs::Permissions::from_mode(0o755)).unwrap();
            std::os::unix::fs::symlink(env!("CARGO_BIN_EXE_ambrik"), bin.join("ambrik")).unwrap();
            let mut command = ambrik(dir, &["--on", "berth-1,berth-2", "watch"]);
            command.env("PATH", format!("{}:/usr/bin:/bin", bin.display()));
            command
        };
        Self::through(through, more, |line| {
            let mut document = checked(line, "fleet-alert");
            assert_eq!(document["host"], "berth-1");
            checked(&document["alert"].to_string(), "alert");
            document["alert"].take()
        })
    }

    fn through(watch: impl Fn(&Path) -> Command, more: &[&str], read: fn(&str) -> Value) -> Self {
        let dir = tempfile::tempdir_in("/var/tmp").unwrap();
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let root = dir.path().join("berths");
        for (path, owner, mode) in [
            ("index.php", 0, 0o644),
            ("lib/tides.php", 0, 0o644),
            ("settings.php", 0, 0o640),
            ("uploads/a.png", PHP, 0o640),
            ("log/site.log", PHP, 0o640),
        ] {
            let file = root.join(path);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(&file, "<?php\n").unwrap();
            chown(&file, Some(owner), Some(owner)).unwrap();
            fs::set_permissions(&file, fs::Permissions::from_mode(mode)).unwrap();
        }
        let text = format!(
            "[site]\nroot = \"{}\"\n[accounts]\nphp = \"www-data\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n[[part]]\npath = \"log\"\nuse = \"log\"\n\
             [[part]]\npath = \"settings.php\"\nuse = \"secret\"\n",
            root.display()
        );
        fs::create_dir(dir.path().join("sites")).unwrap();
        fs::write(dir.path().join("sites/berths.toml"), text).unwrap();
        let set = ambrik(dir.path(), &["set", "--yes", "--quiet"]).status().unwrap();
        assert!(set.success());
        let mut child = watch(dir.path())
            .args(["--format", "json"])
            .args(more)
            .current_dir(dir.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut said = BufReader::new(child.stderr.take().unwrap()).lines();
        let mut remarks = Vec::new();
        let begun = said.find(|line| {
            remarks.extend(line.as_ref().ok().cloned());
            line.as_ref().is_ok_and(|line| line.contains("watching 1 site"))
        });
        assert!(begun.is_some(), "{remarks:#?}");
        std::thread::spawn(move || said.for_each(drop));
        let (to, alerts) = channel();
        let told = BufReader::new(child.stdout.take().unwrap());
        std::thread::spawn(move || {
            for line in told.lines().map_while(Result::ok) {
                let _ = to.send(read(&line));
            }
        });
        Self { dir, child, alerts }
    }

    fn at(&self, path: &str) -> PathBuf {
        self.dir.path().join("berths").join(path)
    }

    /// Waits for an alert of this kind, or check, about a path that ends so.
    fn told(&self, alarm: &str, path: &str) -> Value {
        let mut others = Vec::new();
        loop {
            let Ok(alert) = self.alerts.recv_timeout(Duration::from_secs(20)) else {
                panic!("no {alarm} of {path}: {others:#?}")
            };
            let paths = alert["paths"].as_array().unwrap();
            let is_it = paths.iter().any(|found| found["path"].as_str().unwrap().ends_with(path)) || paths.is_empty();
            if (alert["alarm"] == alarm || alert["check"] == alarm) && is_it {
                return alert;
            }
            others.push(alert);
        }
    }

    /// All that was told until something else is done that is told.
    fn quiet(&self, mark: &str) -> Vec<String> {
        fs::write(self.at(mark), "<?php\n").unwrap();
        let mut told = Vec::new();
        loop {
            let alert = self.alerts.recv_timeout(Duration::from_secs(20)).unwrap();
            let text = alert["paths"].to_string();
            if text.contains(mark) {
                return told;
            }
            told.push(format!("{}{} {text}", alert["alarm"].as_str().unwrap(), alert["check"]));
        }
    }

    fn end(self) {
        self.end_and(|| ());
    }

    fn end_and(mut self, then: impl FnOnce()) {
        kill_process(Pid::from_child(&self.child), Signal::TERM).unwrap();
        assert_eq!(self.child.wait().unwrap().code(), Some(0), "Ctrl-C ends it cleanly");
        then();
    }
}

fn ambrik(dir: &Path, words: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_ambrik"));
    command.env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").env("TZ", "UTC");
    command
        .arg("--sites")
        .arg(dir.join("sites"))
        .arg("--state")
        .arg(dir.join("state"))
        .args(words)
        .stdin(Stdio::null());
    command
}

/// Something that an account does.
fn does(uid: u32, script: &str) {
    let status = Command::new("sh").args(["-c", script]).uid(uid).gid(uid).status().unwrap();
    assert!(status.success(), "{script}");
}

#[test]
fn what_becomes_wrong_is_told_at_once() {
    if !is_root() {
        return;
    }
    let watching = Watching::start(&[]);
    fs::write(watching.at("index.php"), "<?php // changed\n").unwrap();
    let changed = watching.told("code-changed", "/index.php");
    assert_eq!((&changed["severity"], &changed["by"]["account"]), (&"high".into(), &"root".into()), "{changed:#}");
    fs::write(watching.at("lib/new.php"), "<?php\n").unwrap();
    watching.told("code-added", "/lib/new.php");
    fs::remove_file(watching.at("lib/tides.php")).unwrap();
    watching.told("code-removed", "/lib/tides.php");
    fs::set_permissions(watching.at("settings.php"), fs::Permissions::from_mode(0o644)).unwrap();
    watching.told("secret-exposed", "/settings.php");
    // An upload, by PHP's account: a picture is nobody's matter, a program of PHP's is.
    let upload = watching.at("uploads");
    does(PHP, &format!("cp /dev/null {0}/b.png; echo '<?php' > {0}/evil.php", upload.display()));
    let php = watching.told("php-served", "/uploads/evil.php");
    assert_eq!(php["paths"].as_array().unwrap().len(), 1, "{php:#}");
    // A folder that comes from elsewhere is looked at whole.
    let made = watching.dir.path().join("made");
    fs::create_dir_all(made.join("deep")).unwrap();
    fs::write(made.join("deep/open.php"), "<?php\n").unwrap();
    fs::set_permissions(made.join("deep/open.php"), fs::Permissions::from_mode(0o666)).unwrap();
    fs::rename(&made, watching.at("lib/made")).unwrap();
    watching.told("php-writes-code", "/lib/made/deep/open.php");

    // What Ambrik does itself is none; nor is a log that is rotated, nor what was told before.
    assert!(ambrik(watching.dir.path(), &["set", "--yes", "--quiet"]).status().unwrap().success());
    does(PHP, &format!("cd {} && mv site.log site.log.1 && echo x > site.log", watching.at("log").display()));
    fs::set_permissions(watching.at("uploads/a.png"), fs::Permissions::from_mode(0o640)).unwrap();
    let told = watching.quiet("mark-1.php");
    assert_eq!(told, [""; 0]);
    // Wrong again is told again.
    fs::set_permissions(watching.at("settings.php"), fs::Permissions::from_mode(0o644)).unwrap();
    watching.told("secret-exposed", "/settings.php");

    // The root goes, and another comes.
    fs::rename(watching.at(""), watching.dir.path().join("away")).unwrap();
    watching.told("gone", "");
    fs::rename(watching.dir.path().join("away"), watching.at("")).unwrap();
    fs::write(watching.at("index.php"), "<?php // again\n").unwrap();
    watching.told("code-changed", "/index.php");
    watching.end();
}

/// A whole tree changed at once: nothing is lost, or it is said that something was, and then all is looked at.
#[test]
fn many_changes_are_kept_up_with() {
    if !is_root() {
        return;
    }
    let watching = Watching::start(&["--run", "cat >> \"$PWD/ran\""]);
    let folder = watching.at("lib/many");
    fs::create_dir(&folder).unwrap();
    for n in 0..20_000 {
        fs::write(folder.join(format!("f{n}.php")), "<?php\n").unwrap();
    }
    let open = folder.join("last.php");
    fs::write(&open, "<?php\n").unwrap();
    fs::set_permissions(&open, fs::Permissions::from_mode(0o666)).unwrap();
    watching.told("php-writes-code", "/last.php");
    let ran = watching.dir.path().join("ran");
    watching.end_and(|| {
        let lines = fs::read_to_string(&ran).unwrap();
        assert!(lines.lines().any(|line| checked(line, "alert")["check"] == "php-writes-code"), "{lines}");
    });
}

/// Another host's alerts come with its name, to the command on this side too; what is run there ends with what asked for it.
#[test]
fn another_host_is_watched_from_here() {
    if !is_root() {
        return;
    }
    let watching = Watching::from_afar(&["--run", "cat >> \"$PWD/ran\""]);
    fs::write(watching.at("index.php"), "<?php // changed\n").unwrap();
    watching.told("code-changed", "/index.php");
    let (ran, sites) = (watching.dir.path().join("ran"), watching.dir.path().join("sites"));
    let sites = sites.to_str().unwrap().to_owned();
    let is_there = || {
        let all =
            fs::read_dir("/proc").unwrap().filter_map(|entry| fs::read(entry.unwrap().path().join("cmdline")).ok());
        all.filter(|line| String::from_utf8_lossy(line).contains(&sites)).count()
    };
    assert!(is_there() > 1, "the one here, and what it runs there");
    watching.end_and(|| {
        let lines = fs::read_to_string(&ran).unwrap();
        assert!(lines.lines().any(|line| checked(line, "fleet-alert")["alert"]["alarm"] == "code-changed"), "{lines}");
        // It was killed; when it is gone is the kernel's matter.
        assert!((0..10_000).any(|_| is_there() == 0));
    });
}

/// A connection that has ended leaves nothing running on a host: what nobody reads any more is not told.
#[test]
fn what_nobody_reads_ends() {
    if !is_root() {
        return;
    }
    let watching = Watching::start(&[]);
    let mut child = ambrik(watching.dir.path(), &["watch"]).stdout(Stdio::piped()).spawn().unwrap();
    drop(child.stdout.take());
    assert_eq!(child.wait().unwrap().code(), Some(0));
    watching.end();
}

/// A root that is another file system from one moment to the next is no event on the one before: it is found, and heard from then on.
#[test]
fn a_root_on_another_file_system_is_watched() {
    if !is_root() {
        return;
    }
    let watching = Watching::start(&[]);
    let Some(mounted) = Mounted::tmpfs(&watching.at("")) else { return };
    watching.told("back", "");
    fs::create_dir(watching.at("lib")).unwrap();
    fs::write(watching.at("lib/new.php"), "<?php\n").unwrap();
    watching.told("code-added", "/lib/new.php");
    drop(mounted);
    watching.told("back", "");
    fs::write(watching.at("index.php"), "<?php // changed\n").unwrap();
    watching.told("code-changed", "/index.php");
    watching.end();
}

/// What is watched is what the site files say now; one that cannot be read takes nothing away.
#[test]
fn site_files_are_read_again_where_they_change() {
    if !is_root() {
        return;
    }
    let watching = Watching::start(&[]);
    let sites = watching.dir.path().join("sites");
    let other = watching.dir.path().join("tidewatch");
    fs::create_dir(&other).unwrap();
    fs::write(other.join("index.php"), "<?php\n").unwrap();
    let text = fs::read_to_string(sites.join("berths.toml")).unwrap();
    fs::write(sites.join("berths.toml"), "[site]\nroot = 7\n").unwrap();
    fs::write(
        sites.join("tidewatch.toml"),
        format!("[site]\nroot = \"{}\"\n[accounts]\nphp = \"www-data\"\n", other.display()),
    )
    .unwrap();
    fs::write(watching.at("index.php"), "<?php // changed\n").unwrap();
    watching.told("code-changed", "berths/index.php");
    // What was code is a store from now on; and the other site is watched.
    fs::write(
        sites.join("berths.toml"),
        text.replace("path = \"log\"\nuse = \"log\"", "path = \"lib\"\nuse = \"store\""),
    )
    .unwrap();
    watching.told("php-cannot-write", "/lib");
    fs::write(other.join("index.php"), "<?php // changed\n").unwrap();
    watching.told("code-changed", "tidewatch/index.php");
    watching.end();
}

const UPLOAD: &str = r#"
quayside
chown quay: "$top/uploads"
cat > "$top/upload.php" <<'END'
<?php echo move_uploaded_file($_FILES['file']['tmp_name'], __DIR__ . '/uploads/' . $_POST['name']) ? 'moved' : 'not moved';
END
"php-fpm$version" --daemonize --fpm-config "$fpm/php-fpm.conf"
nginx
answers upload.php
ambrik set quayside --yes > /dev/null
mkfifo "$work/said"
"$AMBRIK" --sites "$work/sites" --state "$work/state" watch quayside --format json > "$work/alerts" 2> "$work/said" &
watcher=$!
grep -m 1 -q watching "$work/said"
echo '<?php' > "$work/picture"
echo "upload: $(get -F "file=@$work/picture" -F name=picture.php http://127.0.0.1:8081/upload.php)"
for try in $(seq 20000); do grep -q php-served "$work/alerts" && break; done
kill -TERM $watcher
wait $watcher || echo "code: $?"
jq -r 'select(.alarm == "php-served") | "told: \(.by.account) \(.by.program) \(.paths[0].path)"' "$work/alerts"
"#;

/// An upload through a real nginx to a real php-fpm: who put it there is the account that PHP runs as.
#[test]
fn an_upload_through_a_server_is_told() {
    let Some(out) = real::run(&[real::SETUP, real::QUAYSIDE, UPLOAD]) else { return };
    assert_eq!(real::line(&out, "upload"), "moved", "{out}");
    let told = real::line(&out, "told");
    assert!(told.starts_with("quay php-fpm") && told.ends_with("/uploads/picture.php"), "{out}");
    assert!(!out.contains("code:"), "{out}");
}
