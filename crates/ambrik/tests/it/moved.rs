//! `move`: a part's data in another place, and back.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{MetadataExt as _, symlink};
use std::path::{Path, PathBuf};
use std::process::Stdio;

use rstest::rstest;

use crate::documents::document;
use crate::host::{Mounted, PHP, Ran, TestHost, give, is_root};

const PARTS: &str = "\
# Where things are.
[[part]]
path = \"uploads\"   # pictures of berths
use = \"store\"

[[part]]
path = \"uploads/cache\"
use = \"scratch\"

[[part]]
path = \"assets\"
use = \"code\"

[[part]]
path = \"var/*/tmp\"
use = \"scratch\"

[[part]]
path = \"var/one\"
use = \"store\"

[[part]]
path = \"elsewhere\"
use = \"log\"
";

/// A site with pictures: hard and symbolic links, an access list, odd names and times.
fn host() -> TestHost {
    let host = TestHost::new();
    host.site("berths", PARTS);
    host.site("tidewatch", "");
    fs::create_dir_all(host.at("srv/www/tidewatch")).unwrap();
    host.file("index.php", 0, 0o644);
    host.file("assets/a.css", 0, 0o644);
    host.file("uploads/quay.svg", PHP, 0o640);
    host.file("uploads/cache/thumb", PHP, 0o600);
    host.file("uploads/odd \n name", PHP, 0o600);
    host.file("var/one/tmp/x", PHP, 0o600);
    fs::hard_link(host.at("srv/www/berths/uploads/quay.svg"), host.at("srv/www/berths/uploads/again.svg")).unwrap();
    symlink("quay.svg", host.at("srv/www/berths/uploads/link")).unwrap();
    symlink("uploads", host.at("srv/www/berths/elsewhere")).unwrap();
    give(&host.at("srv/www/berths/uploads/cache"), PHP, 0o2750);
    let list: &[u8] = &[
        2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 50, 238, 0, 0, 4, 0, 4, 0, 255, 255, 255, 255, 16, 0,
        4, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255,
    ];
    let flags = rustix::fs::XattrFlags::empty();
    rustix::fs::setxattr(host.at("srv/www/berths/uploads/quay.svg"), "system.posix_acl_access", list, flags).unwrap();
    rustix::fs::setxattr(host.at("srv/www/berths/uploads/cache"), "user.note", b"kept", flags).unwrap();
    let long_ago = fs::FileTimes::new().set_modified(std::time::UNIX_EPOCH + std::time::Duration::new(1_234, 567));
    for path in ["uploads/quay.svg", "uploads/cache", "uploads"] {
        fs::File::open(host.at("srv/www/berths").join(path)).unwrap().set_times(long_ago).unwrap();
    }
    fs::create_dir_all(host.at("var/lib")).unwrap();
    host
}

/// Everything about a path and what is below it but the change times.
pub(crate) fn whole(path: &Path) -> BTreeMap<PathBuf, String> {
    let mut found = BTreeMap::new();
    let mut ahead = vec![PathBuf::new()];
    while let Some(below) = ahead.pop() {
        let path = if below.as_os_str().is_empty() { path.to_owned() } else { path.join(&below) };
        let meta = path.symlink_metadata().unwrap();
        let mut names = vec![0; 4096];
        let length = rustix::fs::llistxattr(&path, &mut names[..]).unwrap_or(0);
        let attributes = names[..length].split(|b| *b == 0).filter(|name| !name.is_empty()).map(|name| {
            let mut value = vec![0; 4096];
            let length = rustix::fs::lgetxattr(&path, name, &mut value[..]).unwrap();
            (String::from_utf8_lossy(name).into_owned(), value[..length].to_vec())
        });
        let attributes: BTreeMap<String, Vec<u8>> = attributes.collect();
        let content = match meta.file_type() {
            kind if kind.is_dir() => {
                ahead.extend(fs::read_dir(&path).unwrap().map(|entry| below.join(entry.unwrap().file_name())));
                String::new()
            }
            kind if kind.is_symlink() => fs::read_link(&path).unwrap().display().to_string(),
            kind if !kind.is_file() => format!("{}", meta.rdev()),
            _ => String::from_utf8_lossy(&fs::read(&path).unwrap()).into_owned(),
        };
        let time = if meta.is_symlink() { (0, 0) } else { (meta.mtime(), meta.mtime_nsec()) };
        let names = meta.nlink() * u64::from(!meta.is_dir());
        found.insert(
            below,
            format!("{:o} {}:{} {time:?} {names} {attributes:?} {content}", meta.mode(), meta.uid(), meta.gid()),
        );
    }
    found
}

fn site_file(host: &TestHost) -> String {
    fs::read_to_string(host.at("etc/ambrik/sites/berths.toml")).unwrap()
}

/// Moves the pictures and back, in between something is added to them.
fn there_and_back(host: &TestHost, to: &str) {
    let (old, new) = (host.at("srv/www/berths/uploads"), host.at(to));
    let (before, text) = (whole(&old), site_file(host));
    let name = format!("/{to}");
    let preview = host.run(&["move", "berths", "uploads", &name, "--preview"]);
    assert_eq!((preview.code, whole(&old) == before, new.exists()), (1, true, false), "{preview:?}");
    let ran = host.run(&["move", "berths", "uploads", &name, "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(ran.out.contains("7 paths moved, 1 path made or changed on the way; change set 1"), "{ran:?}");
    assert_eq!(whole(&new), before);
    assert!(!old.exists());
    assert_eq!(
        site_file(host),
        text.replace("\"uploads\"", &format!("\"{name}\"")).replace("\"uploads/cache\"", &format!("\"{name}/cache\""))
    );
    let audit = host.run(&["audit", "berths", "--fail-on", "never"]);
    assert!(audit.out.contains(&format!("{name}/cache")), "the part is found there: {audit:?}");
    fs::write(new.join("new.svg"), "a new picture").unwrap();
    give(&new.join("new.svg"), PHP, 0o640);

    let undone = host.run(&["undo", "--yes"]);
    assert_eq!(undone.code, 0, "{undone:?}");
    assert_eq!(fs::read(old.join("new.svg")).unwrap(), b"a new picture", "what came in between came along");
    fs::remove_file(old.join("new.svg")).unwrap();
    let mut after = whole(&old);
    // The folder's own time is that of the picture that was added and taken away.
    after.insert(PathBuf::new(), before[Path::new("")].clone());
    assert_eq!(after, before);
    assert_eq!(site_file(host), text);
    assert!(!new.parent().unwrap().exists(), "the folder made for it is gone");
    let again = host.run(&["undo", "2", "--yes"]);
    assert_eq!((again.code, new.join("quay.svg").exists(), old.exists()), (0, true, false), "{again:?}");
}

#[test]
fn everything_is_kept_and_comes_back() {
    if is_root() {
        there_and_back(&host(), "var/lib/berths/uploads");
    }
}

#[test]
fn to_another_file_system_it_is_copied_compared_and_removed() {
    if !is_root() {
        return;
    }
    let host = host();
    let Some(_mounted) = Mounted::tmpfs(&host.at("mnt/data")) else { return };
    let said = host.run(&["move", "berths", "uploads", "/mnt/data/b/uploads", "--preview"]);
    assert!(said.out.contains("another file system: copied, compared, then removed here"), "{said:?}");
    there_and_back(&host, "mnt/data/b/uploads");
    let inside = fs::read_dir(host.at("mnt/data/b")).unwrap().count();
    assert_eq!(inside, 1, "no copy is left beside it");
}

/// A file with a name elsewhere would become a file of its own, and could be given to PHP.
#[test]
fn a_file_that_has_a_name_elsewhere_is_not_copied() {
    if !is_root() {
        return;
    }
    let host = host();
    let Some(_mounted) = Mounted::tmpfs(&host.at("mnt/data")) else { return };
    fs::hard_link(host.at("etc/passwd"), host.at("srv/www/berths/uploads/stolen")).unwrap();
    let ran = host.run(&["move", "berths", "uploads", "/mnt/data/uploads", "--yes"]);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains("uploads/stolen: it has 2 names and 1 of them lie in this site"), "{ran:?}");
    assert!(!host.at("mnt/data/uploads").exists());
}

#[rstest]
#[case::no_such_part(
    "quays",
    "/var/lib/b",
    "berths: no part is called quays; its parts are: uploads, uploads/cache, assets,"
)]
#[case::code("assets", "/var/lib/b", "only what PHP writes to, and what is kept from others, is moved")]
#[case::wildcard("var/*/tmp", "/var/lib/b", "it has wildcards")]
#[case::another_parts_wildcard(
    "var/one",
    "/var/lib/b",
    "tmp is of part var/*/tmp here and would be of part /var/lib/b there"
)]
#[case::symlink("elsewhere", "/var/lib/b", "a symlink is in its place")]
#[case::there_already("uploads", "/var/lib", "\"/var/lib\" is the operating system's own")]
#[case::something_there("uploads", "/etc/hostname", "something is there already: name a path that is not there yet")]
#[case::inside_itself("uploads", "uploads/deep", "this is the part itself, or inside it")]
#[case::served("uploads", "pictures", "this is in the folder that the web server serves")]
#[case::another_site("uploads", "/srv/www/tidewatch/x", "this is in site tidewatch")]
#[case::upwards("uploads", "../x", "leads upwards")]
#[case::no_path_of_a_site_file("uploads", "/var/lib/b[1]", "cannot stand in a site file")]
fn what_cannot_be_moved_is_told(#[case] part: &str, #[case] to: &str, #[case] says: &str) {
    let host = if rustix::process::geteuid().is_root() { host() } else { return };
    let file = host.at("etc/ambrik/sites/berths.toml");
    fs::write(&file, site_file(&host).replacen("root =", "served = \".\"\nroot =", 1)).unwrap();
    let (tree, text) = (whole(&host.at("srv")), site_file(&host));
    let ran = host.run(&["move", "berths", part, to, "--yes"]);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains(says), "{ran:?}");
    assert_eq!((whole(&host.at("srv")), site_file(&host)), (tree, text));
}

#[test]
fn it_asks_first() {
    if is_root() {
        let host = host();
        let ran = host.run(&["move", "berths", "uploads", "/var/lib/b"]);
        assert_eq!((ran.code, host.at("var/lib/b").exists()), (2, false), "{ran:?}");
    }
}

#[test]
fn a_symlink_is_left_where_that_is_asked_for() {
    if !is_root() {
        return;
    }
    let host = host();
    let old = host.at("srv/www/berths/uploads");
    let said = document(&host, &["move", "berths", "uploads", "/var/lib/b", "--link", "--yes"], "changes");
    let changes = said["sites"][0]["changes"].as_array().unwrap();
    let whats: Vec<&str> = changes.iter().map(|change| change["what"].as_str().unwrap()).collect();
    assert_eq!(whats, ["move", "create"]);
    assert_eq!(changes[0]["to"], "/var/lib/b");
    assert_eq!(fs::read_link(&old).unwrap(), Path::new("/var/lib/b"));
    let undone = document(&host, &["undo", "--yes"], "undo");
    assert_eq!(undone["moved"][0]["to"], "/srv/www/berths/uploads");
    assert!(old.symlink_metadata().unwrap().is_dir());
}

/// The directories that lead there are opened to PHP's account for passing, and to nobody else.
#[test]
fn the_way_there_is_opened_to_php_alone() {
    if !is_root() {
        return;
    }
    let host = host();
    fs::create_dir_all(host.at("var/lib/closed/deep")).unwrap();
    give(&host.at("var/lib/closed"), 0, 0o700);
    let closed = whole(&host.at("var/lib/closed"));
    let ran = host.run(&["move", "berths", "uploads", "/var/lib/closed/deep/b", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(
        ran.out
            .contains("pass    /var/lib/closed  (php may pass it, and no more: root:root 0700 → root:root 0710 +acl)"),
        "{ran:?}"
    );
    let can = |account: &str| host.run(&["why", "/var/lib/closed/deep/b", "--as", account, "--brief"]).out;
    assert!(can("php").contains("write"), "{}", can("php"));
    assert!(can("user").contains("no    no     no      no      no"), "{}", can("user"));
    assert_eq!(host.run(&["undo", "--yes"]).code, 0);
    let mut after = whole(&host.at("var/lib/closed"));
    let time_apart = |picture: &mut BTreeMap<PathBuf, String>| picture.insert("deep".into(), String::new());
    let mut before = closed;
    time_apart(&mut after);
    time_apart(&mut before);
    assert_eq!(after, before);
}

#[test]
fn where_files_are_held_open_it_is_refused() {
    if !is_root() {
        return;
    }
    let host = host();
    // A process of the host that is looked at, as its /proc shows it.
    let process = host.at("proc/71");
    fs::create_dir_all(process.join("fd")).unwrap();
    fs::write(process.join("comm"), "php-fpm\n").unwrap();
    symlink("/srv/www/berths/uploads/quay.svg", process.join("fd/1")).unwrap();
    symlink("/", process.join("cwd")).unwrap();
    let ran = host.run(&["move", "berths", "uploads", "/var/lib/b", "--yes"]);
    assert_eq!((ran.code, host.at("var/lib/b").exists()), (2, false), "{ran:?}");
    assert!(ran.err.contains("process 71 (php-fpm) has /srv/www/berths/uploads/quay.svg open"), "{ran:?}");
    assert!(ran.err.contains("--though-open"), "{ran:?}");
    let ran = host.run(&["move", "berths", "uploads", "/var/lib/b", "--yes", "--though-open"]);
    assert_eq!(ran.code, 0, "{ran:?}");
}

/// Starts a move to another file system and kills it as soon as `seen` holds.
fn killed_when(host: &TestHost, seen: impl Fn() -> bool) -> Ran {
    let words = ["move", "berths", "uploads", "/mnt/data/uploads", "--yes", "-q"];
    let mut child = host.command(&words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    while !seen() && child.try_wait().unwrap().is_none() {}
    child.kill().unwrap();
    child.wait().unwrap();
    host.run(&["history"])
}

/// Killed while it copies, or while it removes what was copied: the same move again finishes it, and `undo` takes it back.
#[rstest]
fn a_killed_move_is_finished_or_taken_back(#[values(false, true)] removing: bool, #[values(false, true)] finish: bool) {
    if !is_root() {
        return;
    }
    let host = host();
    let Some(_mounted) = Mounted::tmpfs(&host.at("mnt/data")) else { return };
    for n in 0..3_000 {
        host.file(&format!("uploads/p{n}"), PHP, 0o640);
    }
    let (old, new) = (host.at("srv/www/berths/uploads"), host.at("mnt/data/uploads"));
    let (before, text) = (whole(&old), site_file(&host));
    let beside = host.at("mnt/data/.uploads.ambrik-moving");
    let history =
        killed_when(&host, || if removing { new.exists() } else { beside.join("p1").exists() || new.exists() });
    assert!(history.out.contains("stopped in the middle"), "it ended before it could be killed: {history:?}");
    let words = "finish it with `ambrik move berths uploads /mnt/data/uploads`, or take it back with `ambrik undo 1`";
    assert!(history.err.contains(words), "{history:?}");
    let same_but_folder = |mut picture: BTreeMap<PathBuf, String>| {
        // What was put back into a folder has left its time there.
        picture.insert(PathBuf::new(), String::new());
        picture
    };
    if finish {
        let ran = host.run(&["move", "berths", "uploads", "/mnt/data/uploads", "--yes"]);
        assert_eq!(ran.code, 0, "{ran:?}");
        assert_eq!(same_but_folder(whole(&new)), same_but_folder(before));
        assert!(!old.exists());
        assert!(site_file(&host).contains("\"/mnt/data/uploads/cache\""));
    } else {
        let ran = host.run(&["undo", "--yes"]);
        assert_eq!(ran.code, 0, "{ran:?}");
        assert_eq!(same_but_folder(whole(&old)), same_but_folder(before));
        assert_eq!(site_file(&host), text);
        assert!(!new.exists());
    }
    assert!(!beside.exists());
    assert_eq!(host.run(&["audit", "berths", "--fail-on", "never"]).err, "");
}
