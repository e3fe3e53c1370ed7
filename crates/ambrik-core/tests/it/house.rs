//! The house is built as `docs/architecture.md` says: no room uses one on its own floor or above, and no files of one folder go round in
//! a circle.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use regex::Regex;
use rstest::rstest;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// A file's code: no comments, no tests.
fn code(path: &Path) -> String {
    let text = fs::read_to_string(path).unwrap();
    let text = text.split("\n#[cfg(test)]\nmod tests").next().unwrap_or_default().to_owned();
    text.lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n")
}

/// The Rust files below a folder, tests aside.
fn files(dir: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(dir).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.extend(files(&path));
        } else if path.extension().is_some_and(|end| end == "rs") && !path.ends_with("tests.rs") {
            found.push(path);
        }
    }
    found.sort();
    found
}

/// The floors that the page lists for a crate, the top one first.
fn floors(name: &str) -> Vec<Vec<String>> {
    let page = fs::read_to_string(root().join("docs/architecture.md")).unwrap();
    let begins = format!("```floors {name}\n");
    let block = page.split(&begins).nth(1).unwrap().split("```").next().unwrap_or_default();
    block.lines().map(|line| line.split_whitespace().map(str::to_owned).collect()).collect()
}

#[rstest]
#[case("ambrik-core")]
#[case("ambrik")]
fn no_room_uses_one_above_it(#[case] name: &str) {
    let src = root().join("crates").join(name).join("src");
    let floors = floors(name);
    let floor = |room: &str| floors.iter().position(|rooms| rooms.iter().any(|other| other == room));
    let used = Regex::new(r"\bcrate::(\w+)").unwrap();
    let mut wrong = Vec::new();
    let mut rooms = BTreeSet::new();
    for path in files(&src) {
        let first = path.strip_prefix(&src).unwrap().iter().next().unwrap();
        let room = Path::new(first).file_stem().unwrap().to_str().unwrap().to_owned();
        if matches!(room.as_str(), "lib" | "main") {
            continue;
        }
        let code = code(&path);
        assert!(!code.contains("use crate::{"), "{}: one line for each room that is used", path.display());
        let Some(here) = floor(&room) else { panic!("docs/architecture.md has no floor for {room}") };
        for used in used.captures_iter(&code).filter_map(|found| found.get(1)).map(|found| found.as_str()) {
            if used != room && floor(used).is_some_and(|there| there <= here) {
                wrong.push(format!("{} uses {used}", path.strip_prefix(&src).unwrap().display()));
            }
        }
        rooms.insert(room);
    }
    assert_eq!(wrong, [] as [String; 0]);
    let listed: BTreeSet<String> = floors.into_iter().flatten().collect();
    assert_eq!(listed, rooms, "docs/architecture.md lists the rooms that there are");
}

/// A file is one that a reader can hold in mind.
#[test]
fn no_file_is_long() {
    const MOST_LINES: usize = 500;
    let without_tests = |path: &Path| {
        let text = fs::read_to_string(path).unwrap();
        text.split("\n#[cfg(test)]\nmod tests").next().map_or(0, |code| code.lines().count())
    };
    let all = ["ambrik-core", "ambrik"].iter().flat_map(|name| files(&root().join("crates").join(name).join("src")));
    let long: Vec<PathBuf> = all.filter(|path| without_tests(path) > MOST_LINES).collect();
    assert_eq!(long, [] as [PathBuf; 0]);
}

/// The files that each file of a folder uses in it.
fn siblings(dir: &Path, src: &Path) -> BTreeMap<String, BTreeSet<String>> {
    let name_of = |path: &Path| match path.file_name()?.to_str()? {
        "mod.rs" | "lib.rs" | "main.rs" | "tests.rs" => None,
        name => Some(name.trim_end_matches(".rs").to_owned()),
    };
    let entries: Vec<PathBuf> = fs::read_dir(dir).unwrap().map(|entry| entry.unwrap().path()).collect();
    let names: BTreeSet<String> = entries.iter().filter_map(|path| name_of(path)).collect();
    let above: Vec<&str> = dir.strip_prefix(src).unwrap().iter().filter_map(|name| name.to_str()).collect();
    let mut uses = BTreeMap::new();
    for path in entries.iter().filter(|path| name_of(path).is_some()) {
        let (inside, deep) = if path.is_dir() { (files(path), 2) } else { (vec![path.clone()], 1) };
        let mut used = BTreeSet::new();
        for file in inside {
            // From a file of a folder in it, its neighbours are one step further up; the folder's own `mod.rs` is beside them.
            let steps = if deep == 2 && !file.ends_with("mod.rs") { 2 } else { 1 };
            let way = format!(
                r"(?:{}|\bcrate::{})",
                "super::".repeat(steps),
                above.iter().map(|name| format!("{name}::")).collect::<String>()
            );
            let found = Regex::new(&format!(r"{way}(\w+|\{{[^}}]*\}})")).unwrap();
            for text in found
                .captures_iter(&code(&file))
                .filter_map(|found| found.get(1))
                .map(|found| found.as_str().to_owned())
            {
                let words = text.split(|c: char| !(c.is_alphanumeric() || c == '_')).map(str::to_owned);
                used.extend(words.filter(|word| names.contains(word)));
            }
        }
        let name = name_of(path).unwrap();
        used.remove(&name);
        uses.insert(name, used);
    }
    uses
}

/// What one can get to from a place.
fn reached<'u>(uses: &'u BTreeMap<String, BTreeSet<String>>, from: &str, found: &mut BTreeSet<&'u str>) {
    for name in uses.get(from).into_iter().flatten() {
        if found.insert(name) {
            reached(uses, name, found);
        }
    }
}

#[rstest]
#[case("ambrik-core")]
#[case("ambrik")]
fn no_files_of_a_folder_go_round_in_a_circle(#[case] name: &str) {
    let src = root().join("crates").join(name).join("src");
    let folders: BTreeSet<PathBuf> = files(&src).iter().filter_map(|path| path.parent().map(Path::to_owned)).collect();
    let mut circles = Vec::new();
    for dir in folders {
        let uses = siblings(&dir, &src);
        for name in uses.keys() {
            let mut found = BTreeSet::new();
            reached(&uses, name, &mut found);
            if found.contains(name.as_str()) {
                circles.push(format!("{}/{name}", dir.strip_prefix(&src).unwrap().display()));
            }
        }
    }
    assert_eq!(circles, [] as [String; 0]);
}

/// Whether one of the licences that a package may be taken under is among those that are allowed (SPDX, annex D).
fn is_allowed(licence: &str, allowed: &[&str]) -> bool {
    let licence = licence.replace('/', " OR ").replace(['(', ')'], " ");
    // No package here has an `OR` inside an `AND` that matters: each `AND` is a condition of its own.
    licence.split(" AND ").all(|all| all.split(" OR ").any(|one| allowed.contains(&one.trim())))
}

#[test]
fn what_is_built_in_may_be() {
    let rules: toml::Table = fs::read_to_string(root().join("deny.toml")).unwrap().parse().unwrap();
    let list = |table: &str, key: &str| -> Vec<String> {
        let found = rules[table][key].as_array().unwrap();
        found.iter().map(|name| name.as_str().unwrap().to_owned()).collect()
    };
    let (licences, skipped) = (list("licenses", "allow"), list("bans", "skip"));
    let licences: Vec<&str> = licences.iter().map(String::as_str).collect();
    let mut run = std::process::Command::new(env!("CARGO"));
    run.args([
        "metadata",
        "--format-version",
        "1",
        "--locked",
        "--offline",
        "--filter-platform",
        "x86_64-unknown-linux-gnu",
    ]);
    let output = run.current_dir(root()).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let found: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let text = |package: &serde_json::Value, key: &str| package[key].as_str().unwrap_or_default().to_owned();
    let resolved: BTreeSet<String> =
        found["resolve"]["nodes"].as_array().unwrap().iter().map(|node| text(node, "id")).collect();
    let mut versions: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    let mut wrong = Vec::new();
    for package in
        found["packages"].as_array().unwrap().iter().filter(|package| resolved.contains(&text(package, "id")))
    {
        let (name, version) = (text(package, "name"), text(package, "version"));
        let source = package["source"].as_str();
        if source.is_some() && !is_allowed(&text(package, "license"), &licences) {
            wrong.push(format!("{name}: {}", text(package, "license")));
        }
        if source.is_some_and(|source| !source.starts_with("registry+")) {
            wrong.push(format!("{name}: not from the registry"));
        }
        if !skipped.contains(&format!("{name}@{version}")) {
            versions.entry(name).or_default().insert(version);
        }
    }
    wrong.extend(versions.into_iter().filter(|(_, all)| all.len() > 1).map(|(name, all)| format!("{name}: {all:?}")));
    assert_eq!(wrong, [] as [String; 0]);
}
