//! The file-context rules, with the system's own look-up as the oracle.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::Command;

use ambrik_core::entry::Kind;
use ambrik_core::label::{RuleAnswer, Rules};
use ambrik_core::tree::Host;
use proptest::strategy::{Strategy as _, ValueTree as _};
use proptest::test_runner::TestRunner;
use rand::seq::IndexedRandom as _;
use rand::{Rng as _, SeedableRng as _};
use rstest::rstest;

const FOLDER: &str = "/etc/selinux/default/contexts/files";
const KINDS: [(Kind, &str); 5] = [
    (Kind::File, "file"),
    (Kind::Directory, "dir"),
    (Kind::Symlink, "lnk_file"),
    (Kind::Fifo, "pipe"),
    (Kind::Socket, "sock_file"),
];

/// What the system answers for these paths, as `kind`; by the rules in `file` where one is named.
fn system(file: Option<&Path>, kind: &str, paths: &[String]) -> Option<Vec<String>> {
    let mut answers = Vec::new();
    for some in paths.chunks(1_000) {
        let mut command = Command::new("matchpathcon");
        command.env("LC_ALL", "C.UTF-8").args(["-n", "-m", kind]);
        if let Some(file) = file {
            command.arg("-f").arg(file);
        }
        let output = command.args(some).output().ok()?;
        let lines = String::from_utf8(output.stdout).unwrap();
        answers.extend(lines.lines().map(str::to_owned));
    }
    assert_eq!(answers.len(), paths.len(), "an answer for each path");
    Some(answers)
}

fn is_installed() -> bool {
    let installed = Path::new(FOLDER).join("file_contexts").exists() && Command::new("matchpathcon").output().is_ok();
    if !installed {
        test_support::missing("the system's policy files or matchpathcon are not installed");
    }
    installed
}

fn shown(answer: &RuleAnswer) -> String {
    match answer {
        RuleAnswer::Context(context) => context.to_string(),
        RuleAnswer::Left | RuleAnswer::NoRule => "<<none>>".into(),
    }
}

fn differences(rules: &Rules, file: Option<&Path>, paths: &[String]) -> Vec<String> {
    let (mut found, mut at_once_known) = (Vec::new(), 0);
    for (kind, word) in KINDS {
        let answers = system(file, word, paths).unwrap();
        for (path, want) in paths.iter().zip(answers) {
            let got = shown(rules.answer(path.as_bytes(), kind));
            // What is said of all in its directory at once is said of it.
            let alike = path.rsplit_once('/').and_then(|(dir, _)| rules.below(dir.as_bytes()));
            if let Some(at_once) = alike.and_then(|alike| rules.answer_below(alike, kind)) {
                assert_eq!(shown(at_once), got, "{word} {path}");
                at_once_known += 1;
            }
            if got != want {
                let rule = rules.rule_for(path.as_bytes(), kind).map(ToString::to_string).unwrap_or_default();
                let line = rules.rule_for(path.as_bytes(), kind).and_then(|place| {
                    std::fs::read_to_string(&place.file).ok()?.lines().nth(place.line - 1).map(str::to_owned)
                });
                found.push(format!("{word} {path}: the system {want}, ambrik {got} by {rule} {line:?}"));
            }
        }
    }
    eprintln!("{at_once_known} of {} answers were known from the directory", paths.len() * KINDS.len());
    // Among made-up rules there may be none of which names make no difference.
    assert!(at_once_known > 0 || file.is_some());
    found
}

/// Paths that rules fit, and others a little beside them.
fn paths_of(texts: &[String], seed: u64, each: usize) -> Vec<String> {
    let mut runner = TestRunner::deterministic();
    let mut random = rand::rngs::StdRng::seed_from_u64(seed);
    let ends = ["/x", "/", "x", "/a/b.php", ".local", "/.htaccess", "/cache/y"];
    let mut paths = BTreeSet::new();
    for text in texts {
        let Ok(strategy) = proptest::string::string_regex(text) else { continue };
        for _ in 0..each {
            let Ok(tree) = strategy.new_tree(&mut runner) else { continue };
            // `.` yields anything: what cannot be in a path, or ends a line, is left out.
            let path: String = tree.current().chars().filter(|c| !c.is_control()).take(120).collect();
            let beside = match random.random_range(0..4) {
                0 => path.clone(),
                1 => format!("{path}{}", ends.choose(&mut random).unwrap()),
                2 => path.chars().take(path.chars().count().saturating_sub(1)).collect(),
                _ => path.replacen('/', "//", usize::from(random.random_bool(0.1))),
            };
            paths.extend([path, beside]);
        }
    }
    let sound = |path: &String| path.starts_with('/') && path.len() > 1 && !path.contains("//") && !path.ends_with('/');
    paths.into_iter().filter(sound).collect()
}

/// The patterns of a file of rules.
fn patterns(text: &str) -> Vec<String> {
    let lines = text.lines().filter(|line| !line.trim_start().starts_with('#'));
    lines.filter_map(|line| Some(line.split_ascii_whitespace().next()?.to_owned())).collect()
}

#[test]
fn every_path_gets_what_the_system_says() {
    if !is_installed() {
        return;
    }
    let rules = Rules::read(&Host::this().unwrap(), Path::new(FOLDER)).unwrap().unwrap();
    assert_eq!(rules.unclear(), [], "every rule of the system's policy is understood");
    let mut texts = Vec::new();
    for name in ["file_contexts", "file_contexts.homedirs"] {
        texts.extend(patterns(&std::fs::read_to_string(Path::new(FOLDER).join(name)).unwrap()));
    }
    let mut paths = paths_of(&texts, 71, 2);
    // Paths of the web, of home directories, and through every alias.
    let aliases = std::fs::read_to_string(Path::new(FOLDER).join("file_contexts.subs_dist")).unwrap();
    let below =
        ["", "/x", "/berths", "/berths/uploads/quay.svg", "/www/html/x.php", "/systemd/x.service", "/nginx/logs"];
    let fixed = [
        "/var/www",
        "/srv/www",
        "/srv",
        "/var/lib/berths",
        "/home/wharfinger",
        "/home/wharfinger/public_html",
        "/usr/share",
        "/root",
        "/opt/quay",
    ];
    for folder in patterns(&aliases).iter().map(String::as_str).chain(fixed) {
        paths.extend(below.iter().map(|below| format!("{folder}{below}")));
    }
    paths.sort();
    paths.dedup();
    assert!(paths.len() * KINDS.len() > 20_000, "{}", paths.len());
    let found = differences(&rules, None, &paths);
    assert!(found.is_empty(), "{} of {}: {found:#?}", found.len(), paths.len() * KINDS.len());
}

/// Rules with every kind of pattern, in files whose order counts.
#[rstest]
fn made_up_rules_count_as_they_do_for_the_system(#[values(1, 2, 3, 4, 5, 6, 7, 8)] seed: u64) {
    if !is_installed() {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let base = dir.path().join("file_contexts");
    let mut random = rand::rngs::StdRng::seed_from_u64(seed);
    let pieces = [
        "/srv",
        "/srv/www",
        "/data",
        "/berths",
        "/b\\.d",
        "/a.b",
        "/x?",
        "/[a-c]",
        "/[^/]*",
        "/.*",
        "(/.*)?",
        "/(a|b)",
        "/x+",
        "/berths(/.*)?",
        "|/data",
        "|/srv/quay",
        "|/srv/www/[ab]c",
        "|/srv/aa|/srv/bb",
        "/quay/",
        "/caf.",
        "/home/[^/]+/public_html",
        "/\\.hidden",
        "/a{2}",
        "/x\\-y",
        "/.",
        "/",
        "$",
    ];
    let types = ["a_t", "b_t", "c_t", "d_t"];
    let kinds = ["", "", "", "--", "-d", "-l"];
    let mut texts = Vec::new();
    for name in ["file_contexts", "file_contexts.homedirs", "file_contexts.local"] {
        let mut text = String::from("# made up\n");
        for _ in 0..60 {
            let count = random.random_range(1..4);
            let pattern: String = (0..count).map(|_| *pieces.choose(&mut random).unwrap()).collect();
            if !pattern.starts_with('/') {
                continue;
            }
            let (kind, type_name) = (kinds.choose(&mut random).unwrap(), types.choose(&mut random).unwrap());
            let context =
                if random.random_bool(0.05) { "<<none>>".into() } else { format!("u:object_r:{type_name}:s0") };
            text.extend([pattern.as_str(), "\t", kind, "\t", &context, "\n"]);
            texts.push(pattern);
        }
        std::fs::write(dir.path().join(name), text).unwrap();
    }
    std::fs::write(
        dir.path().join("file_contexts.subs"),
        "/alias /srv\n/alias/www /data\n/tail/ /data\n/ended /data/\n",
    )
    .unwrap();
    std::fs::write(dir.path().join("file_contexts.subs_dist"), "/srv/berths /data\n/one /two\n").unwrap();
    let files = ["file_contexts", "file_contexts.homedirs", "file_contexts.local"];
    let files: Vec<(PathBuf, Vec<u8>)> =
        files.iter().map(|name| (dir.path().join(name), std::fs::read(dir.path().join(name)).unwrap())).collect();
    let aliases =
        ["file_contexts.subs", "file_contexts.subs_dist"].map(|name| std::fs::read(dir.path().join(name)).unwrap());
    let rules = Rules::of(&files, [&aliases[0], &aliases[1]], b"").unwrap();
    let mut paths = paths_of(&texts, seed, 4);
    paths.extend(
        [
            "/alias/x",
            "/alias/www/x",
            "/alias",
            "/aliasx",
            "/tail/x",
            "/tail",
            "/ended/x",
            "/ended",
            "/ended/berths/x",
            "/srv/berths/x",
            "/srv/berths",
            "/data/x",
            "/srv/quay",
            "/srv/quax",
            "/srv/quays",
            "/srv/aa",
            "/srv/bb",
            "/srv/cc",
            "/srv/ab",
            "/srv/aax",
            "/srv/bbx",
            "/srv/www/ac",
            "/srv/www/bc",
            "/srv/www/cc",
            "/srv/ü",
            "/srv/ä",
            "/data/café",
            "/home/wharfinger/public_html/x",
        ]
        .map(str::to_owned),
    );
    let found = differences(&rules, Some(&base), &paths);
    assert!(found.is_empty(), "seed {seed}: {} of {}: {found:#?}", found.len(), paths.len() * KINDS.len());
}

/// Half a million look-ups; how long they take is printed, and judged by the benchmark.
#[test]
fn half_a_million_look_ups() {
    if !is_installed() {
        return;
    }
    let rules = Rules::read(&Host::this().unwrap(), Path::new(FOLDER)).unwrap().unwrap();
    let folders =
        ["srv/www/berths", "var/www/html", "var/lib/berths", "usr/share/notices", "home/wharfinger/public_html"];
    let begun = std::time::Instant::now();
    let mut of_web = 0_u32;
    for n in 0..500_000_u32 {
        let path = format!("/{}/d{}/f{n}.php", folders[n as usize % folders.len()], n % 100);
        let answer = rules.answer(path.as_bytes(), Kind::File);
        of_web += u32::from(answer.type_name() == Some("httpd_sys_content_t"));
    }
    eprintln!("500,000 look-ups: {:.2} s", begun.elapsed().as_secs_f64());
    assert!(of_web >= 100_000);
}
