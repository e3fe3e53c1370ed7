//! A made-up host in a temporary folder, and runs of the program on it.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

pub(crate) const PHP: u32 = 61_001;

pub(crate) use test_support::is_root;

pub(crate) struct TestHost {
    dir: tempfile::TempDir,
    /// The uid that the program runs as, where it is another one.
    pub(crate) run_as: Option<u32>,
}

/// What a run said, and its exit code.
#[derive(Debug)]
pub(crate) struct Ran {
    pub(crate) code: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl TestHost {
    pub(crate) fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let me = rustix::process::geteuid().as_raw();
        let host = Self { dir, run_as: None };
        host.write("etc/passwd", format!("root:x:0:0::/:/\nphp:x:{PHP}:{PHP}::/:/\nweb:x:61002:61002::/:/\nme:x:{me}:{me}::/:/\nuser:x:61009:61009::/:/\n"));
        host.write("etc/group", format!("root:x:0:\nphp:x:{PHP}:\nweb:x:61002:\nme:x:{me}:\nuser:x:61009:\n"));
        host.write("etc/hostname", "quay-1\n");
        fs::create_dir_all(host.at("srv/www/berths")).unwrap();
        host.site("berths", "");
        host
    }

    /// An empty folder.
    pub(crate) fn empty() -> Self {
        let dir = tempfile::tempdir().unwrap();
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
        Self { dir, run_as: None }
    }

    pub(crate) fn at(&self, path: impl AsRef<Path>) -> PathBuf {
        self.dir.path().join(path)
    }

    pub(crate) fn write(&self, path: &str, content: impl AsRef<[u8]>) -> PathBuf {
        let whole = self.at(path);
        fs::create_dir_all(whole.parent().unwrap()).unwrap();
        fs::write(&whole, content).unwrap();
        whole
    }

    /// Writes the site file of `name`, with these lines after its accounts.
    pub(crate) fn site(&self, name: &str, lines: &str) {
        self.write(
            &format!("etc/ambrik/sites/{name}.toml"),
            format!("[site]\nroot = \"/srv/www/{name}\"\n[accounts]\nphp = \"php\"\nweb = \"web\"\n{lines}"),
        );
    }

    /// A file of the site `berths`.
    pub(crate) fn file(&self, path: &str, owner: u32, mode: u32) -> PathBuf {
        let whole = self.write(&format!("srv/www/berths/{path}"), content(path));
        give(&whole, owner, mode);
        whole
    }

    pub(crate) fn command_without_host(&self, words: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_ambrik"));
        command.env_clear().env("LC_ALL", "C.UTF-8").env("TZ", "UTC").env("TMPDIR", self.at("tmp"));
        command.args(words).stdin(Stdio::null());
        command
    }

    pub(crate) fn command(&self, words: &[&str]) -> Command {
        let mut command = self.command_without_host(&[]);
        command.arg("--host").arg(self.dir.path()).args(words);
        if let Some(uid) = self.run_as {
            command.uid(uid).gid(uid);
        }
        command
    }

    pub(crate) fn run(&self, words: &[&str]) -> Ran {
        self.told(&self.command(words).current_dir(self.dir.path()).output().unwrap())
    }

    /// The same on a terminal, where somebody types this; all that it prints is in `out`.
    pub(crate) fn on_a_terminal(&self, words: &[&str], typed: &str) -> Ran {
        use std::io::Write as _;
        let line = format!("{} --host {} {}", env!("CARGO_BIN_EXE_ambrik"), self.dir.path().display(), words.join(" "));
        let mut command = Command::new("script");
        command
            .args(["-qec", &line, "/dev/null"])
            .env("NO_COLOR", "1")
            .env("TERM", "dumb")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped());
        let mut child = command.current_dir(self.dir.path()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(typed.as_bytes()).unwrap();
        self.told(&child.wait_with_output().unwrap())
    }

    /// Runs a command to its end and counts the changes that it makes.
    pub(crate) fn changes(&self, words: &[&str]) -> u64 {
        let counts = tempfile::tempdir().unwrap();
        let mut command = self.command(words);
        command.env("AMBRIK_FAULT", format!("count:{}", counts.path().display()));
        let child = command.current_dir(self.dir.path()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        let number = child.id();
        let ran = self.told(&child.wait_with_output().unwrap());
        assert_eq!(ran.code, 0, "{words:?}: {ran:?}");
        fs::metadata(counts.path().join(number.to_string())).unwrap().len()
    }

    /// Runs a command that is killed at the n-th change that it makes.
    pub(crate) fn killed_at(&self, words: &[&str], n: u64) {
        use std::os::unix::process::ExitStatusExt as _;
        let output = self.command(words).env("AMBRIK_FAULT", format!("kill:{n}")).output().unwrap();
        assert_eq!(output.status.signal(), Some(9), "{words:?} at {n}: {:?}", self.told(&output));
    }

    /// What a run said, `[HOST]` for the host's folder, and the commands in it without that.
    pub(crate) fn told(&self, output: &Output) -> Ran {
        let text = |bytes: &[u8]| {
            let text = String::from_utf8_lossy(bytes).replace(&*self.dir.path().to_string_lossy(), "[HOST]");
            text.replace("ambrik --host [HOST] ", "ambrik ")
        };
        Ran { code: output.status.code().unwrap_or(-1), out: text(&output.stdout), err: text(&output.stderr) }
    }
}

pub(crate) fn give(path: &Path, owner: u32, mode: u32) {
    if rustix::process::geteuid().is_root() {
        std::os::unix::fs::chown(path, Some(owner), Some(owner)).unwrap();
    }
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
}

/// A file system of its own for a test, taken away in the end.
pub(crate) struct Mounted(PathBuf);

impl Mounted {
    /// An empty one in memory; nothing, said so, where the test may not mount.
    pub(crate) fn tmpfs(path: &Path) -> Option<Self> {
        Self::of("tmpfs", path, c"mode=755")
    }

    pub(crate) fn of(kind: &str, path: &Path, options: &std::ffi::CStr) -> Option<Self> {
        fs::create_dir_all(path).unwrap();
        let mounted = rustix::mount::mount("none", path, kind, rustix::mount::MountFlags::empty(), options);
        if mounted.is_err() {
            test_support::skipped("this test may not mount");
        }
        mounted.ok().map(|()| Self(path.to_owned()))
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = rustix::mount::unmount(&self.0, rustix::mount::UnmountFlags::DETACH);
    }
}

/// Owner, mode, change time and content of everything below a folder.
pub(crate) fn picture(folder: &Path) -> BTreeMap<PathBuf, String> {
    let mut pictures = BTreeMap::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(dir) = folders.pop() {
        for entry in fs::read_dir(&dir).unwrap() {
            let path = entry.unwrap().path();
            let meta = path.symlink_metadata().unwrap();
            let mut lists = vec![0; 4096];
            let length = rustix::fs::llistxattr(&path, &mut lists[..]).unwrap_or(0);
            let text = format!("{:o} {}:{} {:?}", meta.mode(), meta.uid(), meta.gid(), &lists[..length]);
            pictures.insert(path.strip_prefix(folder).unwrap().to_owned(), text);
            if meta.is_dir() {
                folders.push(path);
            }
        }
    }
    pictures
}

/// What a file of this name holds: archives, dumps and copies what proves that they are.
pub(crate) fn content(name: &str) -> Vec<u8> {
    let ends = |ending: &str| name.ends_with(ending);
    let rows = b"-- SQL dump\nINSERT INTO berths VALUES (1);\n";
    if ends(".zip") {
        let entry = b"lib/index.php";
        return [&b"PK\x03\x04"[..], &[0; 22], &[13, 0, 0, 0], entry].concat();
    }
    if ends(".gz") {
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::none());
        let inner = if ends(".sql.gz") { &rows[..] } else { b"<?php // what was here\n" };
        packed.write_all(inner).unwrap();
        return packed.finish().unwrap();
    }
    if ends(".sql") {
        return rows.to_vec();
    }
    if ends(".bak") { b"<?php // what was here\n".to_vec() } else { b"content\n".to_vec() }
}
