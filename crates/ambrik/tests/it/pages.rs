//! Every command line of the README and of docs is run as it is printed, page by page, on the demo host.

use std::fs;
use std::path::{Path, PathBuf};

use crate::host::{TestHost, is_root};

/// The command lines of a page: those in code blocks that begin with the program's name, comments taken off.
fn lines(text: &str) -> Vec<String> {
    let mut fenced = false;
    let mut found = Vec::new();
    for line in text.lines() {
        if line.trim_start().starts_with("```") {
            fenced = !fenced;
            continue;
        }
        let code = if fenced { Some(line) } else { line.strip_prefix("    ") };
        let Some(code) = code else { continue };
        let command = code.trim().strip_prefix("$ ").unwrap_or(code.trim());
        if command.starts_with("ambrik ") {
            let command = command.split("   # ").next().unwrap_or(command).split("     # ").next().unwrap_or(command);
            found.push(command.trim_end().trim_end_matches(" || code=$?").to_owned());
        }
    }
    found
}

const SITE: &str = "etc/ambrik/sites/berths.toml";

/// The demo host with the archives that the pages speak of besides.
fn host() -> TestHost {
    let host = TestHost::empty();
    let built = host.command_without_host(&["demo", "--build-only"]).arg(host.at("")).output().unwrap();
    assert!(built.status.success());
    assert_eq!(host.run(&["set", "notices", "--yes"]).code, 0);
    for version in ["1.4", "1.5"] {
        let mut archive = tar::Builder::new(flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast()));
        for path in ["index.php", "lib/bootstrap.php"] {
            let content = format!("<?php // {version}\n");
            let mut header = tar::Header::new_gnu();
            header.set_size(content.len() as u64);
            header.set_mode(0o644);
            archive.append_data(&mut header, format!("berths-{version}/{path}"), content.as_bytes()).unwrap();
        }
        let packed = archive.into_inner().unwrap().finish().unwrap();
        for ending in ["zip", "tar.gz"] {
            host.write(&format!("berths-{version}.{ending}"), &packed);
        }
    }
    host
}

/// What a page may show though it cannot be done here, and why.
const NOT_HERE: &[(&str, &str)] = &[
    ("--over-http", "no web server runs for the demo host"),
    ("--host /mnt/image", "there is no such image"),
    ("watch", "it ends by a signal"),
    ("--from-log /var/log", "logs are named as this system has them"),
    ("accept notices everyone-reads", "the demo's notices have no public folder"),
    ("undo 12", "there are not so many change sets"),
    ("undo --since 9", "there are not so many change sets"),
    ("--on @", "the list of hosts is not there"),
    ("--fleet", "no run over hosts was made"),
];

/// Runs the command lines of a page on a demo host of its own; how many there were, and which were refused.
fn run(page: &Path) -> (usize, Vec<String>) {
    let (mut ran, mut wrong) = (0, Vec::new());
    let commands = lines(&fs::read_to_string(page).unwrap());
    if commands.is_empty() {
        return (0, wrong);
    }
    let host = host();
    let own = fs::read(host.at(SITE)).unwrap();
    let name = page.file_name().unwrap().to_string_lossy().into_owned();
    for command in commands.iter().filter(|command| !NOT_HERE.iter().any(|(part, _)| command.contains(part))) {
        ran += 1;
        if command.contains("--save") || command.contains("--into") {
            // What is drafted is not there yet.
            let _ = fs::remove_file(host.at(SITE));
        }
        if command.contains("move") {
            // The part that moves is one of the demo's own site file.
            fs::write(host.at(SITE), &own).unwrap();
            let _ = fs::remove_dir_all(host.at("var/log/berths"));
            fs::create_dir_all(host.at("srv/www/berths/var/log")).unwrap();
        }
        let words = command.strip_prefix("ambrik ").unwrap();
        let told = host.on_a_terminal(&[words], &format!("{}\u{4}\u{4}\u{4}", "yes\n".repeat(40)));
        // What is asked for is understood: what comes of it is the demo's affair.
        if told.code == 2 || told.code > 4 || told.code < 0 {
            wrong.push(format!("{name}: {command}\n{}", told.out));
        }
    }
    (ran, wrong)
}

#[test]
fn every_command_line_is_one() {
    if !is_root() {
        return;
    }
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut pages: Vec<PathBuf> = fs::read_dir(root.join("docs")).unwrap().map(|entry| entry.unwrap().path()).collect();
    pages.retain(|page| page.extension().is_some_and(|ending| ending == "md"));
    // That one is made by running what it shows.
    pages.retain(|page| page.file_name().unwrap() != "walkthrough.md");
    pages.push(root.join("README.md"));
    let told: Vec<(usize, Vec<String>)> = std::thread::scope(|scope| {
        let pages: Vec<_> = pages.iter().map(|page| scope.spawn(|| run(page))).collect();
        pages.into_iter().map(|page| page.join().unwrap()).collect()
    });
    let ran: usize = told.iter().map(|(ran, _)| ran).sum();
    let wrong: Vec<String> = told.into_iter().flat_map(|(_, wrong)| wrong).collect();
    assert!(ran > 40, "{ran}");
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}
