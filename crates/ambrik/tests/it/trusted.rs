//! Who is believed: site files that others can write, links that lead to the system's own, images full of hostile links.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};

use rstest::rstest;

use crate::host::{Mounted, PHP, TestHost, give, is_root, picture};

const FILE: &str = "etc/ambrik/sites/berths.toml";

/// A site file that somebody else could have written is told of, and nothing is changed by it.
#[rstest]
#[case::phps_own(FILE, PHP, 0o644, "it belongs to uid 61001, who can write to it")]
#[case::open_to_its_group(FILE, 0, 0o664, "its mode 0664 lets others write to it")]
#[case::folder("etc/ambrik/sites", 0, 0o777, "its mode 0777 lets others put something else into it")]
#[case::folder_above(
    "etc",
    PHP,
    0o755,
    "it belongs to uid 61001, who can put something else in the place of what is in it"
)]
fn a_site_file_that_others_can_write_decides_nothing(
    #[case] path: &str,
    #[case] owner: u32,
    #[case] mode: u32,
    #[case] says: &str,
) {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.file("index.php", PHP, 0o666);
    give(&host.at(path), owner, mode);
    let before = picture(&host.at("srv"));
    for words in [
        &["set", "berths", "--yes"][..],
        &["open", "berths", "--yes"],
        &["seal", "berths", "--yes"],
        &["set", "--as-script"],
        &["move", "berths", "uploads", "/var/lib/x", "--yes"],
    ] {
        let ran = host.run(words);
        assert_eq!(ran.code, 2, "{words:?}: {ran:?}");
        assert!(ran.err.contains(says) && ran.err.contains("Put it right: ch"), "{ran:?}");
    }
    assert_eq!(picture(&host.at("srv")), before);
    let audit = host.run(&["audit", "berths"]);
    assert_eq!(audit.code, 1, "{audit:?}");
    assert!(audit.out.contains("site-file-open") && audit.out.contains("php-writes-code"), "{audit:?}");
    // What the finding names puts it right.
    give(&host.at(path), 0, if host.at(path).is_dir() { 0o755 } else { 0o644 });
    assert_eq!(host.run(&["set", "berths", "--yes"]).code, 0);
}

/// Nothing hangs, and nothing is filled, by what is no site file.
#[test]
fn what_is_no_file_is_no_site_file() {
    let host = TestHost::new();
    let at = |name: &str| host.at("etc/ambrik/sites").join(name);
    rustix::fs::mknodat(rustix::fs::CWD, at("fifo.toml"), rustix::fs::FileType::Fifo, rustix::fs::Mode::RUSR, 0)
        .unwrap();
    fs::write(at("long.toml"), vec![b'#'; (1 << 20) + 1]).unwrap();
    symlink("/dev/zero", at("zero.toml")).unwrap();
    for (name, says) in [
        ("fifo", "is a FIFO, and must be a regular file"),
        ("long", "longer than 1 MiB"),
        ("zero", "there is no site file"),
    ] {
        let ran = host.run(&["audit", name]);
        assert_eq!(ran.code, 2, "{ran:?}");
        assert!(ran.err.contains(says), "{ran:?}");
    }
    for name in ["fifo.toml", "long.toml", "zero.toml"] {
        fs::remove_file(at(name)).unwrap();
    }
    for name in [".#berths.toml", ".berths.toml"] {
        fs::write(at(name), "not = a site file").unwrap();
    }
    assert_eq!(host.run(&["audit", "--fail-on", "never"]).code, 0, "editors' files are none");
}

/// Where a path really is decides, not how it is written.
#[rstest]
#[case::root("/srv/www/berths", "", "srv/www/berths", "/etc")]
#[case::root_of_all("/srv/www/berths", "", "srv/www/berths", "/")]
#[case::part("/srv/www/tidewatch", "[[part]]\npath = \"/var/lib/keys\"\nuse = \"store\"\n", "var/lib/keys", "/etc/ssh")]
#[case::folder_above("/srv/www/berths/deep", "", "srv/www/berths", "/usr")]
fn a_link_to_the_systems_own_is_refused(
    #[case] root: &str,
    #[case] part: &str,
    #[case] link: &str,
    #[case] target: &str,
) {
    let host = TestHost::new();
    for folder in ["etc/ssh", "usr/deep", "var/lib", "srv/www/tidewatch"] {
        fs::create_dir_all(host.at(folder)).unwrap();
    }
    host.write("etc/ssh/key", "secret");
    fs::remove_dir(host.at("srv/www/berths")).unwrap();
    symlink(target, host.at(link)).unwrap();
    host.write(FILE, format!("[site]\nroot = \"{root}\"\n[accounts]\nphp = \"php\"\nweb = \"web\"\n{part}"));
    let before = picture(&host.at("etc"));
    for words in [&["audit", "berths"][..], &["set", "berths", "--yes"], &["seal", "berths", "--yes"]] {
        let ran = host.run(words);
        assert_eq!(ran.code, 2, "{words:?}: {ran:?}");
        assert!(ran.err.contains("which is the operating system's own: nothing there is a site's"), "{ran:?}");
    }
    assert_eq!(picture(&host.at("etc")), before);
}

#[test]
fn nothing_moves_to_the_systems_own() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"uploads\"\nuse = \"store\"\n");
    host.file("uploads/pic", PHP, 0o640);
    fs::create_dir_all(host.at("etc/cron.d")).unwrap();
    fs::create_dir_all(host.at("opt")).unwrap();
    symlink("/etc/cron.d", host.at("opt/data")).unwrap();
    for (to, says) in [
        ("/opt/data/uploads", "this is really /etc/cron.d/uploads, which is the operating system's own"),
        ("/etc/sudoers.d/uploads", "is the operating system's own"),
    ] {
        let ran = host.run(&["move", "berths", "uploads", to, "--yes"]);
        assert_eq!(ran.code, 2, "{ran:?}");
        assert!(ran.err.contains(says), "{ran:?}");
    }
    assert!(host.at("srv/www/berths/uploads/pic").exists());
}

/// An image in which everything that Ambrik reads or writes is a link to the outside.
struct Image {
    host: TestHost,
    outside: TestHost,
}

impl Image {
    fn new() -> Self {
        let (host, outside) = (TestHost::new(), TestHost::new());
        host.file("index.php", PHP, 0o666);
        host.site(
            "berths",
            "[[part]]\npath = \"install\"\nuse = \"setup\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n",
        );
        host.file("install/step.php", PHP, 0o664);
        host.file("uploads/pic", PHP, 0o664);
        outside.write("etc/hostname", "outside-host\n");
        outside.write("etc/passwd", "root:x:0:0::/:/\noutside-user:x:61001:61001::/:/\n");
        outside.write("etc/group", "root:x:0:\noutside-group:x:61001:\n");
        outside.write("log", "outside-log\n");
        Self { host, outside }
    }

    /// Puts a link to the same path outside in the place of something.
    fn link(&self, path: &str) {
        let (here, there) = (self.host.at(path), self.outside.at(path));
        fs::create_dir_all(here.parent().unwrap()).unwrap();
        fs::create_dir_all(there.parent().unwrap()).unwrap();
        match here.symlink_metadata() {
            Ok(meta) if meta.is_dir() => fs::rename(&here, self.host.at("aside")).unwrap(),
            Ok(_) => fs::remove_file(&here).unwrap(),
            Err(_) => {}
        }
        symlink(there, here).unwrap();
    }
}

const COMMANDS: &[&[&str]] = &[
    &["accounts"],
    &["audit", "--fail-on", "never"],
    &["audit", "--format", "json"],
    &["why", "/srv/www/berths/index.php"],
    &["survey", "/srv/www/berths"],
    &["survey", "/srv/www/berths", "--save", "new"],
    &["set", "--preview"],
    &["set", "--as-script"],
    &["set", "--yes"],
    &["open", "berths", "--yes"],
    &["seal", "berths", "--yes", "--unfinished"],
    &["move", "berths", "uploads", "/var/lib/uploads", "--yes"],
    &["history"],
    &["undo", "--yes"],
];

#[rstest]
fn nothing_outside_an_image_is_read_or_written(
    #[values(
        "var",
        "var/lib",
        "var/lib/ambrik",
        "var/lib/ambrik/ledger.sqlite3",
        "var/lib/ambrik/ledger.sqlite3-wal",
        "var/lib/ambrik/keepsakes",
        "var/lib/ambrik/locks",
        "var/lib/ambrik/opening.lock",
        "etc",
        "etc/ambrik",
        "etc/ambrik/sites",
        "etc/ambrik/sites/berths.toml",
        "etc/ambrik/sites/new.toml",
        "etc/hostname",
        "etc/passwd",
        "etc/group",
        "etc/nginx",
        "etc/selinux",
        "srv",
        "srv/www",
        "srv/www/berths",
        "srv/www/berths/install",
        "srv/www/berths/index.php",
        "proc",
        "sys"
    )]
    path: &str,
) {
    if !is_root() {
        return;
    }
    let image = Image::new();
    if path.starts_with("var/lib/ambrik/") {
        fs::create_dir_all(image.host.at("var/lib/ambrik")).unwrap();
        fs::set_permissions(image.host.at("var/lib/ambrik"), fs::Permissions::from_mode(0o700)).unwrap();
    }
    image.link(path);
    let before = whole_picture(&image.outside);
    for words in COMMANDS {
        let ran = image.host.run(words);
        assert!(ran.code >= 0, "{words:?}: {ran:?}");
        for text in [&ran.out, &ran.err] {
            assert!(!text.contains("outside-") && !text.contains("panicked"), "{words:?}: {ran:?}");
        }
    }
    assert_eq!(whole_picture(&image.outside), before);
}

/// Owner, mode, times and content of everything that is outside.
fn whole_picture(host: &TestHost) -> Vec<(PathBuf, String)> {
    let paths = picture(&host.at(""));
    let of = |path: &Path| {
        let meta = host.at(path).symlink_metadata().unwrap();
        let content = if meta.is_file() { fs::read(host.at(path)).unwrap() } else { Vec::new() };
        format!("{}.{} {} {content:?}", meta.ctime(), meta.ctime_nsec(), meta.nlink())
    };
    paths.iter().map(|(path, text)| (path.clone(), format!("{text} {}", of(path)))).collect()
}

/// A log named inside the image is read inside it.
#[test]
fn a_log_in_an_image_is_read_there() {
    let image = Image::new();
    image.link("log");
    let ran = image.host.run(&["why", "--from-log", image.host.at("log").to_str().unwrap()]);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains("does not exist") && !ran.out.contains("outside"), "{ran:?}");
}

/// The image on a file system of its own: what is below it is inside as well.
#[test]
fn an_image_that_is_mounted_is_an_image() {
    if !is_root() {
        return;
    }
    let host = TestHost::empty();
    let image = host.at("image");
    let Some(_mounted) = Mounted::tmpfs(&image) else { return };
    fs::create_dir_all(image.join("etc")).unwrap();
    for name in ["passwd", "group"] {
        symlink(Path::new("/etc").join(name), image.join("etc").join(name)).unwrap();
    }
    let ran = host.told(&host.command_without_host(&["--host", image.to_str().unwrap(), "accounts"]).output().unwrap());
    assert_eq!(ran.code, 2, "a link to itself is none: {ran:?}");
    assert!(ran.err.contains("cannot read the accounts in /etc/passwd"), "{ran:?}");
}
