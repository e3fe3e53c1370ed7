//! `set --as-script`: the script does what `set` does.

use std::fs;
use std::os::unix::ffi::OsStrExt;
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

#[test]
fn it_does_what_set_does() {
    if !is_root() {
        return;
    }
    if Command::new("setfacl").arg("--version").output().is_err() {
        eprintln!("skipped: there is no setfacl here");
        return;
    }
    let (by_set, by_script) = (host(), host());
    assert_eq!(by_set.run(&["set", "--yes"]).code, 0);
    let script = by_script.command(&["set", "--as-script"]).output().unwrap().stdout;
    // The script is for the host itself: here its paths lie below the test's folder, and its accounts have numbers.
    let mut text = script.split(|&b| b == b'\n').map(<[u8]>::to_vec).collect::<Vec<_>>().join(&b'\n');
    let below = by_script.at("").to_string_lossy().trim_end_matches('/').to_owned();
    for (from, to) in [("'/srv", format!("'{below}/srv")), ("php", PHP.to_string()), ("web", "61002".into())] {
        text = replace_words(&text, from.as_bytes(), to.as_bytes());
    }
    let file = by_script.at("script.sh");
    fs::write(&file, text).unwrap();
    let ran = Command::new("sh").arg(&file).output().unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    assert_eq!(picture(&by_script.at("srv")), picture(&by_set.at("srv")));
}

/// Replaces `from` where it is a word of its own or begins a path: accounts' names, not file names' endings.
fn replace_words(text: &[u8], from: &[u8], to: &[u8]) -> Vec<u8> {
    let mut replaced = Vec::new();
    let mut at = 0;
    while at < text.len() {
        let before = at.checked_sub(1).map_or(b' ', |n| text[n]);
        let after = text.get(at + from.len()).copied().unwrap_or(b' ');
        let word = from.starts_with(b"'") || (matches!(before, b' ' | b':') && matches!(after, b' ' | b':'));
        if text[at..].starts_with(from) && word {
            replaced.extend_from_slice(to);
            at += from.len();
        } else {
            replaced.push(text[at]);
            at += 1;
        }
    }
    replaced
}
