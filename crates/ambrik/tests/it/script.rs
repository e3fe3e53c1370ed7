//! `set --as-script`: the script does what `set` does.

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt as _;
use std::path::PathBuf;
use std::process::Command;

use crate::host::{PHP, TestHost, give, is_root, picture};

const PARTS: &str = "others = \"none\"\n[[part]]\npath = \"up loads\"\nuse = \"store\"\n[[part]]\npath = \"data\"\nuse = \"store\"\ncreate = true\n[[part]]\npath = \"key.php\"\nuse = \"secret\"\n";

fn host() -> TestHost {
    let host = TestHost::new();
    host.site("berths", PARTS);
    for name in
        ["index.php", "it's.php", "-rf", "a$(touch x)b", "new\nline.php", "up loads/pic ture", "key.php", "\"quoted\""]
    {
        host.file(name, PHP, 0o666);
    }
    let odd = host.at("srv/www/berths").join(std::ffi::OsStr::from_bytes(b"\xff\xfe"));
    fs::write(&odd, "x").unwrap();
    give(&odd, PHP, 0o6777);
    give(&host.at("srv/www/berths/up loads"), PHP, 0o2777);
    std::os::unix::fs::symlink("index.php", host.at("srv/www/berths/link")).unwrap();
    host
}

#[test]
fn it_is_a_shell_script_that_sh_accepts() {
    let host = host();
    let output = host.command(&["set", "--as-script"]).output().unwrap();
    assert!(output.status.success());
    let script = host.at("script.sh");
    fs::write(&script, &output.stdout).unwrap();
    assert!(output.stdout.starts_with(b"#!/bin/sh\n"));
    assert!(String::from_utf8_lossy(&output.stdout).contains("\nset -eu\n"));
    assert!(Command::new("sh").arg("-n").arg(&script).status().unwrap().success());
}

/// The script that is printed for a host, made to run in the test's folder, where its paths lie.
fn script(host: &TestHost) -> PathBuf {
    let text = host.command(&["set", "--as-script"]).output().unwrap().stdout;
    let below = host.at("").to_string_lossy().trim_end_matches('/').to_owned();
    // In the test's folder `enter` finds the host's paths; the accounts have numbers here.
    let text = String::from_utf8(text).unwrap();
    let text = text.replace("enter /", &format!("enter {below}/")).replace("enter '/", &format!("enter '{below}/"));
    let text = text.replace("(printf '/srv", &format!("(printf '{below}/srv"));
    let text: String = text.lines().map(|line| format!("{}\n", numbered(line))).collect();
    host.write("script.sh", &text)
}

/// A line with the accounts that this system does not have by their numbers.
fn numbered(line: &str) -> String {
    let number = |name: &str| match name {
        "php" => PHP.to_string(),
        "web" => "61002".to_owned(),
        name => name.to_owned(),
    };
    let words = line.split(' ').map(|word| word.split(':').map(number).collect::<Vec<_>>().join(":"));
    let is_command = line.trim_start().starts_with("chown ") || line.trim_start().starts_with("setfacl ");
    if is_command { words.collect::<Vec<_>>().join(" ") } else { line.to_owned() }
}

fn can_run() -> bool {
    let acl = Command::new("setfacl").arg("--version").output().is_ok();
    if !acl {
        test_support::missing("there is no setfacl here");
    }
    is_root() && acl
}

#[test]
fn it_does_what_set_does() {
    if !can_run() {
        return;
    }
    let (by_set, by_script) = (host(), host());
    assert_eq!(by_set.run(&["set", "--yes"]).code, 0);
    let ran = Command::new("sh").arg(script(&by_script)).output().unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    assert_eq!(picture(&by_script.at("srv")), picture(&by_set.at("srv")));
}

/// What is another than it was when the script was printed is left alone: no link is followed, by file or by folder.
#[test]
fn it_follows_no_link_that_came_later() {
    if !can_run() {
        return;
    }
    let host = host();
    host.file("lib/code.php", PHP, 0o666);
    give(&host.at("srv/www/berths/lib"), PHP, 0o777);
    let script = script(&host);
    let outside = host.at("outside");
    fs::create_dir(&outside).unwrap();
    fs::write(outside.join("code.php"), "x").unwrap();
    give(&outside.join("code.php"), PHP, 0o666);
    let before = picture(&outside);
    let at = |path: &str| host.at("srv/www/berths").join(path);
    fs::rename(at("lib"), at("away")).unwrap();
    std::os::unix::fs::symlink(&outside, at("lib")).unwrap();
    fs::remove_file(at("index.php")).unwrap();
    std::os::unix::fs::symlink(outside.join("code.php"), at("index.php")).unwrap();
    fs::remove_file(at("it's.php")).unwrap();
    host.file("it's.php", 61_009, 0o666);
    let ran = Command::new("sh").arg(&script).output().unwrap();
    let said = String::from_utf8_lossy(&ran.stderr);
    assert_eq!(ran.status.code(), Some(3), "{said}");
    for left in [
        "/lib: it is not there, or a link leads elsewhere",
        "./index.php: it was a file of",
        "./it's.php: it was a file of",
    ] {
        assert!(said.contains(left), "{said}");
    }
    assert_eq!(picture(&outside), before);
    assert!(fs::metadata(at("key.php")).unwrap().mode() & 0o777 == 0o640, "the rest is done");
}

/// Names of accounts that would be commands: they stand by their numbers, in the script and in what is printed to be pasted.
#[test]
fn names_of_accounts_are_no_commands() {
    if !can_run() {
        return;
    }
    let host = TestHost::new();
    let evil = "x$(touch${IFS}made);touch made2 #";
    host.write("etc/passwd", format!("root:x:0:0::/:/\n{evil}:x:{PHP}:{PHP}::/:/\nweb:x:61002:61002::/:/\n"));
    host.write("etc/group", format!("root:x:0:\n{evil}:x:{PHP}:\nweb:x:61002:\n"));
    host.write(
        "etc/ambrik/sites/berths.toml",
        format!("[site]\nroot = \"/srv/www/berths\"\n[accounts]\nphp = \"{PHP}\"\nweb = \"web\"\ngrant = \"acl\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n"),
    );
    host.file("index.php", PHP, 0o666);
    host.file("uploads/$(touch made3)", 0, 0o600);
    fs::create_dir(host.at("cwd")).unwrap();
    let script = script(&host);
    let ran = Command::new("sh").arg(&script).current_dir(host.at("cwd")).output().unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    // The commands that `why` prints, run as they are pasted.
    let path = "/srv/www/berths/uploads/$(touch made3)";
    give(&host.at(&path[1..]), 0, 0o600);
    let why = host.run(&["why", path, "--as", &PHP.to_string(), "--format", "json"]);
    let why: serde_json::Value = serde_json::from_str(&why.out).unwrap();
    let command = why["answers"][0]["wanted"]["smallest"]["command"].as_str().map(str::to_owned);
    for command in command.iter().chain([&host.run(&["why", path, "--as", &PHP.to_string()]).out]) {
        for line in command.lines().filter(|line| line.contains("setfacl") || line.contains("chmod")) {
            let line = &line[line.find("setfacl").or_else(|| line.find("chmod")).unwrap()..];
            let _ = Command::new("sh").arg("-c").arg(line).current_dir(host.at("cwd")).output().unwrap();
        }
    }
    assert_eq!(fs::read_dir(host.at("cwd")).unwrap().count(), 0, "nothing was made by a name");
    for entry in fs::read_dir(host.at("srv/www/berths")).unwrap() {
        assert!(!entry.unwrap().file_name().to_string_lossy().starts_with("made"));
    }
}
