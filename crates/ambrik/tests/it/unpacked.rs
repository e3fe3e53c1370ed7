//! `unpack`: from an archive to a site with its final rights, over an older version, and back.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::PathBuf;

use rstest::rstest;

use crate::documents::checked;
use crate::host::{PHP, Ran, TestHost, give, is_root};
use crate::moved::whole;
use crate::real;

/// An archive of files by their content; what begins with `->` is a symlink.
pub(crate) fn packed(entries: &[(&str, &str)]) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    for (name, content) in entries {
        let mut header = tar::Header::new_gnu();
        header.set_mode(0o777);
        header.set_uid(4_242);
        if let Some(target) = content.strip_prefix("->") {
            header.set_entry_type(tar::EntryType::Symlink);
            header.set_size(0);
            builder.append_link(&mut header, name, target).unwrap();
        } else {
            header.set_size(content.len() as u64);
            builder.append_data(&mut header, name, content.as_bytes()).unwrap();
        }
    }
    builder.into_inner().unwrap()
}

const PARTS: &str = "\
[[part]]
path = \"uploads\"
use = \"store\"
[[part]]
path = \"config/settings.php\"
use = \"secret\"
write = \"install\"
from = \"config/settings.sample.php\"
[[part]]
path = \"install\"
use = \"setup\"
[[part]]
path = \"notes\"
use = \"foreign\"
";

const FIRST: &[(&str, &str)] = &[
    ("README.md", "Bookings of berths"),
    ("berths-1.4/index.php", "<?php echo 'one';"),
    ("berths-1.4/lib/a.php", "<?php // a"),
    ("berths-1.4/lib/b.php", "<?php // b"),
    ("berths-1.4/lib/tool.sh", "#!/bin/sh\n"),
    ("berths-1.4/config/settings.sample.php", "<?php return ['secret_key' => ''];"),
    ("berths-1.4/uploads/index.html", ""),
    ("berths-1.4/install/index.php", "<?php // step one"),
    ("berths-1.4/link.php", "->index.php"),
];
const SECOND: &[(&str, &str)] = &[
    ("berths-1.5/index.php", "<?php echo 'two';"),
    ("berths-1.5/lib/a.php", "<?php // a, better"),
    ("berths-1.5/lib/c/d.php", "<?php // d"),
    ("berths-1.5/lib/tool.sh", "#!/bin/sh\n"),
    ("berths-1.5/config/settings.sample.php", "<?php return ['secret_key' => '', 'more' => 1];"),
    ("berths-1.5/config/settings.php", "<?php return [];"),
    ("berths-1.5/uploads/index.html", "other"),
    ("berths-1.5/notes/mine", "theirs"),
    ("berths-1.5/install/index.php", "<?php // step one"),
];

/// A host with a site file, two archives, and no root.
fn host() -> TestHost {
    let host = TestHost::new();
    host.site("berths", PARTS);
    fs::remove_dir_all(host.at("srv/www/berths")).unwrap();
    fs::write(host.at("first.tar"), packed(FIRST)).unwrap();
    fs::write(host.at("second.tar"), packed(SECOND)).unwrap();
    host
}

fn site(host: &TestHost) -> BTreeMap<PathBuf, String> {
    let all = whole(&host.at("srv/www"));
    // Times are those of the run.
    all.into_iter().map(|(path, text)| (path, without_times(&text))).collect()
}

fn without_times(text: &str) -> String {
    let Some((before, rest)) = text.split_once('(') else { return text.to_owned() };
    format!("{before}{}", rest.split_once(')').map_or("", |(_, rest)| rest))
}

fn unpack(host: &TestHost, words: &[&str]) -> Ran {
    host.run(&[&["unpack"], words, &["berths", "--yes"]].concat())
}

#[test]
fn a_new_site_has_its_final_rights() {
    if !is_root() {
        return;
    }
    let host = host();
    let preview = host.run(&["unpack", "first.tar", "berths", "--preview"]);
    assert_eq!(preview.code, 1, "{preview:?}");
    assert!(preview.out.starts_with("berths: new from first.tar: 7 files"), "{preview:?}");
    assert!(preview.out.contains("README.md (it lies beside the application's folder)"), "{preview:?}");
    assert!(!host.at("srv/www/berths").exists(), "a preview changes nothing");
    let ran = unpack(&host, &["first.tar"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(ran.out.contains("next: ambrik open berths --for 30m, then visit its installer (install)"), "{ran:?}");
    let root = host.at("srv/www/berths");
    assert!(!root.join("README.md").exists() && !root.join("berths-1.4").exists());
    let left: Vec<_> = fs::read_dir(&root).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!(left.iter().all(|name| !name.to_string_lossy().starts_with('.')), "{left:?}");
    let mode = |path: &str| fs::metadata(root.join(path)).unwrap().permissions().mode() & 0o7777;
    assert_eq!([mode("index.php"), mode("lib/tool.sh"), mode("uploads"), mode("lib")], [0o644, 0o755, 0o2750, 0o755]);
    // What is left to do is what no archive has: nothing that is there gets other rights.
    let preview = host.run(&["set", "berths", "--preview", "--format", "json"]);
    let changes: serde_json::Value = serde_json::from_str(&preview.out).unwrap();
    assert_eq!(changes["sites"][0]["changes"].as_array().map(Vec::len), Some(0), "{preview:?}");
    assert_eq!(unpack(&host, &["first.tar"]).code, 0);
    let back = host.run(&["undo", "--yes"]);
    assert_eq!(back.code, 0, "{back:?}");
    assert!(!root.exists(), "{back:?}");
}

#[test]
fn an_upgrade_keeps_data_names_what_was_changed_and_comes_back() {
    if !is_root() {
        return;
    }
    let host = host();
    assert_eq!(unpack(&host, &["first.tar"]).code, 0);
    let root = host.at("srv/www/berths");
    fs::write(root.join("lib/a.php"), "<?php evil();").unwrap();
    fs::write(root.join("config/settings.php"), "<?php return ['secret_key' => 'x'];").unwrap();
    fs::write(root.join("uploads/photo"), "a photo").unwrap();
    fs::create_dir(root.join("notes")).unwrap();
    fs::write(root.join("notes/mine"), "mine").unwrap();
    fs::write(root.join("plugin.php"), "<?php // somebody's").unwrap();
    give(&root.join("uploads/photo"), PHP, 0o640);
    let audit = host.run(&["audit", "berths", "--fail-on", "never"]);
    assert!(audit.out.contains("not-as-unpacked  1 path\n"), "{audit:?}");
    assert!(audit.out.contains(".  1  lib/a.php"), "{audit:?}");
    let before = site(&host);
    let preview = host.run(&["unpack", "second.tar", "berths", "--preview", "--format", "json"]);
    let said = checked(&preview.out, "unpack");
    let paths = |key: &str| -> Vec<&str> {
        said[key].as_array().unwrap().iter().map(|path| path["path"].as_str().unwrap()).collect()
    };
    assert_eq!(said["ambrik"], "unpack/1");
    assert_eq!(paths("new"), ["lib/c/d.php"]);
    assert_eq!(paths("replaced"), ["config/settings.sample.php", "index.php", "lib/a.php"]);
    assert_eq!(paths("gone"), ["lib/b.php"]);
    assert_eq!(paths("stays"), ["config/settings.php", "notes", "notes/mine", "uploads/index.html"]);
    let changed = said["replaced"].as_array().unwrap().iter().filter(|old| old["changed_since"] == true);
    assert_eq!(changed.map(|old| old["path"].as_str().unwrap()).collect::<Vec<_>>(), ["lib/a.php"]);
    assert_eq!(site(&host), before, "a preview changes nothing");

    let ran = unpack(&host, &["second.tar"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(ran.out.contains("1 file that is replaced is not what was unpacked"), "{ran:?}");
    assert!(ran.out.contains("lib/b.php (stays: --tidy removes it)"), "{ran:?}");
    let audit = host.run(&["audit", "berths", "--fail-on", "never"]);
    assert!(!audit.out.contains("not-as-unpacked"), "{audit:?}");
    let now = |path: &str| fs::read_to_string(root.join(path)).unwrap();
    assert_eq!([now("index.php"), now("lib/a.php")], ["<?php echo 'two';", "<?php // a, better"]);
    assert_eq!(
        [now("uploads/photo"), now("notes/mine"), now("plugin.php")],
        ["a photo", "mine", "<?php // somebody's"]
    );
    assert_eq!(now("config/settings.php"), "<?php return ['secret_key' => 'x'];");
    assert!(root.join("lib/b.php").exists());
    let back = host.run(&["undo", "--yes"]);
    assert_eq!(back.code, 0, "{back:?}");
    assert_eq!(site(&host), before);

    let ran = unpack(&host, &["second.tar", "--tidy"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(!root.join("lib/b.php").exists());
    assert_eq!(host.run(&["undo", "--yes"]).code, 0);
    assert_eq!(site(&host), before);
    // And forward again, by taking that back.
    let sets = host.run(&["history"]).out;
    let newest = sets.lines().nth(1).and_then(|line| line.split_whitespace().next()).unwrap().to_owned();
    assert_eq!(host.run(&["undo", &newest, "--yes"]).code, 0);
    assert_eq!(fs::read_to_string(root.join("index.php")).unwrap(), "<?php echo 'two';");
}

#[rstest]
#[case::no_archive("none.tar", "cannot read the archive none.tar")]
#[case::no_format("passwd", "is no zip and no tar archive")]
fn what_cannot_be_read_is_said(#[case] archive: &str, #[case] says: &str) {
    if !is_root() {
        return;
    }
    let host = host();
    fs::write(host.at("passwd"), "root:x:0:0::/:/").unwrap();
    let ran = unpack(&host, &[archive]);
    assert!(ran.code == 2 && ran.err.contains(says), "{ran:?}");
}

/// What is in the way is named, and nothing is changed.
#[test]
fn a_directory_in_a_files_place_is_in_the_way() {
    if !is_root() {
        return;
    }
    let host = host();
    assert_eq!(unpack(&host, &["first.tar"]).code, 0);
    let root = host.at("srv/www/berths");
    fs::remove_file(root.join("index.php")).unwrap();
    fs::create_dir(root.join("index.php")).unwrap();
    let before = site(&host);
    let ran = unpack(&host, &["second.tar"]);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains("index.php: a directory, and the archive has none there"), "{ran:?}");
    assert_eq!(site(&host), before);
}

/// An archive comes through a pipe as well, and one in the served folder is told of.
#[test]
fn from_standard_input_and_from_a_served_folder() {
    if !is_root() {
        return;
    }
    let host = host();
    let mut command = host.command(&["unpack", "-", "berths", "--yes", "-q"]);
    let output = command.stdin(fs::File::open(host.at("first.tar")).unwrap()).output().unwrap();
    assert_eq!(output.status.code(), Some(0), "{output:?}");
    let inside = host.at("srv/www/berths/second.tar");
    fs::copy(host.at("second.tar"), &inside).unwrap();
    let ran = host.run(&["unpack", "/srv/www/berths/second.tar", "berths", "--yes"]);
    assert_eq!(ran.code, 2, "the archive is named as it is from here: {ran:?}");
    let ran = host.run(&["unpack", inside.to_str().unwrap(), "berths", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(ran.err.contains("whoever guesses its name may fetch it") && inside.exists(), "{ran:?}");
    // On a terminal it is asked, and what goes is kept.
    fs::copy(host.at("first.tar"), &inside).unwrap();
    let asked = host.on_a_terminal(&["unpack", inside.to_str().unwrap(), "berths"], "y\ny\ny\n");
    assert!(asked.out.contains("Remove the archive second.tar from the served folder too (kept)?"), "{asked:?}");
    assert_eq!((asked.code, inside.exists()), (0, false), "{asked:?}");
    assert_eq!(host.run(&["undo", "--yes"]).code, 0);
    assert_eq!(fs::read(&inside).unwrap(), fs::read(host.at("first.tar")).unwrap());
}

/// From the archive alone: the site file is drafted from it, for the root that it will be in, with who serves that.
#[test]
fn without_a_site_file_one_is_drafted_from_the_archive() {
    if !is_root() {
        return;
    }
    let host = TestHost::empty();
    let built = host.command_without_host(&["demo", "--build-only"]).arg(host.at("")).output().unwrap();
    assert!(built.status.success());
    let (root, file) = (host.at("srv/www/berths"), host.at("etc/ambrik/sites/berths.toml"));
    fs::remove_file(root.join("config/settings.php")).unwrap();
    let mut builder = tar::Builder::new(Vec::new());
    builder.append_dir_all("berths-1.4", &root).unwrap();
    fs::write(host.at("berths.tar"), builder.into_inner().unwrap()).unwrap();
    fs::remove_dir_all(&root).unwrap();
    fs::remove_file(&file).unwrap();
    let preview = host.run(&["unpack", "berths.tar", "--into", "/srv/www/berths", "--preview"]);
    assert_eq!(preview.code, 1, "{preview:?}");
    assert!(preview.out.contains("PHP berths, web server www-data"), "{preview:?}");
    assert!(preview.out.contains("uploads (store): 40 files berths:www-data 0640"), "{preview:?}");
    assert!(!root.exists() && !file.exists(), "a preview changes nothing");
    let ran = host.run(&["unpack", "berths.tar", "--into", "/srv/www/berths", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    let installer = "then visit its installer (http://berths.quay-1.example/install/)";
    assert!(ran.out.contains(&format!("next: ambrik open berths --for 30m, {installer}")), "{ran:?}");
    let open = host.run(&["open", "berths", "--for", "30m", "--yes"]);
    assert_eq!(open.code, 0, "{open:?}");
    fs::write(root.join("config/settings.php"), "<?php return ['key' => 'made by the installer'];").unwrap();
    let sealed = host.run(&["seal", "berths", "--yes", "--fail-on", "never"]);
    assert!(sealed.out.contains("refused and made, as it should be"), "{sealed:?}");
    assert!(!root.join("install").exists(), "{sealed:?}");
    // And all of it back: not even the root was there.
    let back = host.run(&["undo", "--since", "1", "--yes"]);
    assert_eq!((back.code, root.exists()), (0, false), "{back:?}");
    let again = host.run(&["unpack", "berths.tar", "--into", "/srv/www/berths", "--yes"]);
    assert!(again.code == 2 && again.err.contains("berths"), "the site file is there: {again:?}");
}

/// Two versions of the bookings in archives, and no site.
const ARCHIVES: &str = r#"
url=http://127.0.0.1:$port
top="$work/www/$name"
mkdir "$work/archive"
mv "$top" "$work/archive/berths-1.4"
rm "$work/sites/$name.toml"
rm -rf "$work/archive/berths-1.4/info.php" "$work/archive/berths-1.4/berths-1.4.zip"
# As archives come: everything is everybody's.
chmod -R 777 "$work/archive/berths-1.4"; chown -R 4242:4242 "$work/archive"
mkdir -p "$work/archive/berths-1.4/uploads" "$work/archive/berths-1.4/var/cache" "$work/archive/berths-1.4/var/log"
echo 'read me' > "$work/archive/README.txt"
tar -C "$work/archive" -czf "$work/berths-1.4.tar.gz" README.txt berths-1.4
mv "$work/archive/berths-1.4" "$work/archive/berths-1.5"
echo '<?php echo "version two";' > "$work/archive/berths-1.5/version.php"
rm -rf "$work/archive/berths-1.5/install"
(cd "$work/archive" && jar=$work/berths-1.5.tar.gz && tar -czf "$jar" berths-1.5)
say() { printf '%s: ' "$1"; tr '\n' ' ' | head -c 8000; echo; }
did() { "$@" > "$work/said" 2>&1 && echo "exit 0" || echo "exit $?"; cat "$work/said"; }
as() { user=$1; shift; setpriv --reuid="$user" --regid="$user" --clear-groups "$@" 2> /dev/null && printf yes || printf no; }
rights() { for path in index.php config/settings.php uploads; do printf '%s%s%s%s ' "$(as quay test -r "$top/$path")" "$(as quay test -w "$top/$path")" "$(as www-data test -r "$top/$path")" "$(as nobody test -w "$top/$path")"; done; }
await "$url/"
"#;

/// From the archive to the sealed site with three commands and no editor, on a real server; then an upgrade over it, and back.
const STORY: &str = r#"
did ambrik unpack "$work/berths-1.4.tar.gz" --into "$top" --save "$name" --yes | say unpacked
get "$url/install/" | say 'before open'
did ambrik open "$name" --for 10m --yes | say opened
get -d password=made-up "$url/install/index.php" | say installed
did ambrik seal "$name" --yes --fail-on never | say sealed
get -o /dev/null -w '%{http_code}' "$url/install/" | say installer
get -o /dev/null -w '%{http_code}' "$url/" | say page
printf '<svg xmlns="http://www.w3.org/2000/svg"/>' > "$work/north.svg"
get -o /dev/null -w '%{http_code}' -F "picture=@$work/north.svg" "$url/upload.php" | say upload
get -o /dev/null -w '%{http_code}' "$url/uploads/north.svg" | say picture
get "$url/attempt.php" | say attempt
rights | say rights
echo '<?php /* evil */' >> "$top/lib/page.php"
sha1sum < "$top/lib/page.php" | say changed
did ambrik unpack "$work/berths-1.5.tar.gz" "$name" --yes | say upgraded
get "$url/version.php" | say version
get -o /dev/null -w '%{http_code}' "$url/uploads/north.svg" | say 'picture then'
get -o /dev/null -w '%{http_code}' "$url/" | say 'page then'
rights | say 'rights then'
did ambrik undo --yes | say undone
# Not over HTTP: PHP remembers for two seconds what it compiled.
ls "$top" | say 'names undone'
sha1sum < "$top/lib/page.php" | say 'changed undone'
"#;

#[rstest]
#[case::nginx("name=quay-site\nport=8081\nnginx_site $name $port none\n")]
#[case::apache("name=quay-site\nport=8083\napache_site $name $port none\n")]
fn from_the_archive_to_the_sealed_site_on_a_real_server(#[case] server: &str) {
    let Some(out) = real::run(&[real::SETUP, server, real::SERVE, ARCHIVES, STORY]) else { return };
    let line = |name: &str| real::line(&out, name).split_whitespace().collect::<Vec<_>>().join(" ");
    let has = |name: &str, want: &str| assert!(line(name).contains(want), "{name}, {want}: {out}");
    has("unpacked", "exit 0");
    has("unpacked", "PHP quay, web server www-data");
    has("unpacked", "next: ambrik open quay-site --for 30m, then visit its installer (http://127.0.0.1:808");
    has("before open", "These cannot be written");
    has("opened", "exit 0");
    has("installed", "<h1>Installed</h1>");
    has("sealed", "refused and made, as it should be");
    let codes = ["installer", "page", "upload", "picture"].map(line);
    assert_eq!(codes.each_ref().map(String::as_str), ["404", "200", "302", "200"], "{out}");
    assert_eq!(line("attempt"), "000", "nothing of its code or settings: {out}");
    assert_eq!(line("rights"), "yesnoyesno yesnonono yesyesyesno", "{out}");
    has("upgraded", "exit 0");
    has("upgraded", "1 file that is replaced is not what was unpacked");
    has("upgraded", "lib/page.php");
    has("version", "version two");
    let codes = ["picture then", "page then"].map(line);
    assert_eq!(codes.each_ref().map(String::as_str), ["200", "200"], "{out}");
    assert_eq!(line("rights then"), line("rights"));
    has("undone", "exit 0");
    assert!(!line("names undone").contains("version.php"), "{out}");
    assert_eq!(line("changed undone"), line("changed"), "even what somebody had changed comes back");
}

/// The guide's script does what the guide says.
#[test]
fn the_script_of_the_guide() {
    let guide = include_str!("../../../../docs/guide.md");
    let script = guide.split_once("### All of it in a script").and_then(|(_, rest)| rest.split_once("```sh\n"));
    let script = script.and_then(|(_, rest)| rest.split_once("```")).unwrap().0;
    assert!(script.lines().count() <= 10, "{script}");
    let places = [
        ("berths-1.4.tar.gz", "\"$work/berths-1.4.tar.gz\""),
        ("/srv/www/berths", "\"$top\""),
        ("http://berths.quay-1.example", "$url"),
        ("installed.html", "\"$work/installed.html\""),
    ];
    let script = places.into_iter().fold(script.to_owned(), |script, (from, to)| script.replace(from, to));
    let server = "name=berths\nport=8081\nnginx_site $name $port none\n";
    let run = format!(
        "( {script} ) > \"$work/said\" 2>&1; echo \"script: $?\"; cat \"$work/said\" \"$work/installed.html\"\n"
    );
    let Some(out) = real::run(&[real::SETUP, server, real::SERVE, ARCHIVES, &run]) else { return };
    assert_eq!(real::line(&out, "script"), "0", "{out}");
    let out = out.split_whitespace().collect::<Vec<_>>().join(" ");
    for step in ["paths laid down", "berths: open until", "<h1>Installed</h1>", "refused and made, as it should be"] {
        assert!(out.contains(step), "{step}: {out}");
    }
}

/// Somebody who may write to the root puts a folder where the archive is to be unpacked first: nothing goes in there, and it stays.
#[test]
fn a_folder_of_somebody_else_is_not_unpacked_into() {
    if !is_root() {
        return;
    }
    let host = host();
    let root = host.at("srv/www/berths");
    fs::create_dir_all(root.join(".ambrik-unpack-1")).unwrap();
    fs::write(root.join(".ambrik-unpack-1/trap"), "").unwrap();
    give(&root, 0, 0o755);
    give(&root.join(".ambrik-unpack-1"), PHP, 0o700);
    let before = site(&host);
    let ran = unpack(&host, &["first.tar"]);
    assert!(ran.code == 3 && ran.err.contains("cannot make: file exists"), "{ran:?}");
    assert_eq!(site(&host), before);
    // The next run takes another name, and takes nothing away that is not its own.
    let ran = unpack(&host, &["first.tar"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(root.join(".ambrik-unpack-1/trap").exists() && root.join("index.php").exists());
    assert!(!root.join(".ambrik-unpack-2").exists());
}

/// What an archive brings along and nobody should be able to fetch is named before it is there.
#[test]
fn left_overs_in_an_archive_are_named() {
    let host = host();
    let packed = packed(&[
        ("app/index.php", "<?php"),
        ("app/config.php.bak", "<?php"),
        ("app/dump.sql.gz", "x"),
        ("app/old.zip", "x"),
        ("app/.git/config", "x"),
        ("app/uploads/mine.zip", "x"),
    ]);
    fs::write(host.at("left.tar"), packed).unwrap();
    let preview = host.run(&["unpack", "left.tar", "berths", "--preview", "--format", "json"]);
    let document = checked(&preview.out, "unpack");
    let left = document["left_overs"].as_array().unwrap();
    let left: Vec<&str> = left.iter().map(|one| one["path"].as_str().unwrap()).collect();
    assert_eq!(left, ["config.php.bak", "dump.sql.gz", "old.zip"], "{document:#}");
    let text = host.run(&["unpack", "left.tar", "berths", "--preview"]);
    assert!(text.out.contains("look at") && text.out.contains("old.zip (archive:"), "{text:?}");
}
