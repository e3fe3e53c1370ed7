use super::super::tests::Quay;
use crate::survey::Confidence;
use rstest::rstest;

/// The reasons of one part, or of a question about it: `says | place`.
fn reasons(files: &[(&str, &str)], path: &str) -> Vec<String> {
    let found = Quay::new(files).survey();
    let questions = found.questions.iter().map(|question| &question.part);
    let part = found.parts.iter().chain(questions).find(|part| part.path.to_str() == Some(path));
    let because = part.map(|part| part.because.clone()).unwrap_or_default();
    because.iter().map(|reason| format!("{} | {}", reason.says, reason.seen)).collect()
}

const INDEX: (&str, &str) = ("index.php", "<?php require 'lib/quay.php'; show();");

/// Each kind of evidence says what it saw and where.
#[rstest]
#[case::placeholder(&[INDEX, ("cache/.htaccess", "Deny from all"), ("cache/index.html", "")], "cache", "shipped with nothing but what keeps its place | cache/.htaccess")]
#[case::empty(&[INDEX, ("uploads/", ""), (".gitignore", "/uploads\n")], "uploads", "shipped empty | uploads")]
#[case::check(&[INDEX, ("a.php", "<?php\n\nis_writable(__DIR__ . '/tides');"), ("tides/x", "")], "tides", "checked to be writable (is_writable) | a.php:3")]
#[case::list(&[INDEX, ("a.php", "<?php foreach (['tides', 'ropes', 'buoys'] as $p)\nis_writable(__DIR__ . \"/$p\");"), ("tides/x", ""), ("ropes/x", ""), ("buoys/x", "")], "tides", "in a list of checks for writing (is_writable) | a.php:2")]
#[case::ignored(&[INDEX, (".gitignore", "# what runs\n/logs/*\n!/logs/.gitkeep\n"), ("logs/.gitkeep", "")], "logs", "what comes there is left out of version control | .gitignore:2")]
#[case::sentence(&[INDEX, ("README.md", "Notes\n\nThe folder `tides` must be writable.\n"), ("tides/x", "")], "tides", "must be writable, says its own text | README.md:3")]
#[case::list_of_words(&[INDEX, ("README.md", "These must be writable:\n\n* `tides`\n"), ("tides/x", "")], "tides", "in a list of what must be writable | README.md:3")]
#[case::command(&[INDEX, ("INSTALL", "    $ chmod -R g+w tides\n"), ("tides/x", "")], "tides", "made writable by its own instructions | INSTALL:1")]
#[case::recipe(&[INDEX, ("Dockerfile", "FROM x\nRUN chown -R www-data /app/tides\n"), ("tides/x", "")], "tides", "made writable by its own instructions | Dockerfile:2")]
#[case::sample(&[INDEX, ("settings.sample.php", "<?php\n$password = '';\n")], "settings.php", "its sample has a place for credentials | settings.sample.php:2")]
#[case::in_place(&[INDEX, ("config/database.php", "<?php\n\n$db['password'] = 'x';\n")], "config/database.php", "settings with credentials or keys | config/database.php:3")]
#[case::removal(&[INDEX, ("setup/index.php", "<?php echo 1;"), ("README", "1. Run it.\n2. Delete the setup folder.\n")], "setup", "its own text asks to remove it | README:2")]
#[case::names_of_php(&[INDEX, ("kept/d41d8cd98f00b204e9800998ecf8427e", ""), ("kept/0cc175b9c0f1b6a831c399e269772661", ""), ("kept/92eb5ffee6ae2fec3ad71c777531578f", ""), ("a.php", "<?php touch(__DIR__ . '/kept/x');")], "kept", "holds 3 files with names that PHP gives | kept/0cc175b9c0f1b6a831c399e269772661")]
fn evidence_names_its_place(#[case] files: &[(&str, &str)], #[case] path: &str, #[case] want: &str) {
    let found = reasons(files, path);
    assert!(found.iter().any(|reason| reason == want), "{found:?}");
}

/// What is no evidence: nothing is proposed, nothing asked.
#[rstest]
#[case::a_word_alone(&[("README", "The tides rise. Everything is writable prose.\n"), ("tides/x", "")])]
#[case::closing(&[("INSTALL", "chmod -R 755 tides\nchmod 644 tides/x\n"), ("tides/x", "")])]
#[case::of_another_account(&[("INSTALL", "chown -R root:root tides\n"), ("tides/x", "")])]
#[case::the_hosts_own(&[("INSTALL", "chmod 1777 /tmp\n")])]
#[case::another_program(&[(".gitignore", "/node_modules\n/vendor\n*.log\n/.idea/\n"), ("vendor/x/a.php", "<?php")])]
#[case::development(&[("tests/cache/.gitignore", "*\n"), ("docs/tmp/.gitkeep", "")])]
#[case::drop_ins(&[("plugins/.gitkeep", ""), ("themes/index.html", ""), ("lang/local/.gitkeep", "")])]
#[case::a_template_of_pages(&[("templates/page.template.php", "<?php $password = 'x';")])]
#[case::a_sample_of_tests(&[("tests/config.sample.php", "<?php $password = 'x';")])]
#[case::a_picture(&[("files/", ""), ("assets/a.svg", "<svg/>")])]
fn what_is_no_evidence(#[case] files: &[(&str, &str)]) {
    let quay = Quay::new(&[&[INDEX], files].concat());
    let found = quay.survey();
    assert!(found.parts.is_empty(), "{:?}", found.parts);
    let asked: Vec<_> = found.questions.iter().filter(|q| q.part.confidence != Confidence::Low).collect();
    assert!(asked.is_empty(), "{asked:?}");
}

/// The more kinds of evidence agree, the surer it is.
#[test]
fn kinds_that_agree_make_it_sure() {
    let mut files = vec![INDEX, ("cache/.gitkeep", "")];
    let sure = |files: &[(&str, &str)]| {
        let found = Quay::new(files).survey();
        let questions = found.questions.iter().map(|question| &question.part);
        let parts = found.parts.iter().chain(questions);
        parts.map(|part| part.confidence).max()
    };
    assert_eq!(sure(&files), Some(Confidence::Low));
    files.push((".gitignore", "/cache/*\n"));
    assert_eq!(sure(&files), Some(Confidence::Medium));
    files.push(("README", "`cache` must be writable.\n"));
    assert_eq!(sure(&files), Some(Confidence::High));
}

/// A question says what to answer, and the part that it would be.
#[rstest]
#[case(&[("INSTALL", "chmod -R 777 lib\n"), ("lib/quay.php", "<?php function show() { echo 1; }")], "lib", "it holds code")]
#[case(&[("setup/index.php", "<?php echo 'boats';")], "setup", "is it an installer")]
#[case(&[("cache/.gitkeep", "")], "cache", "does the application write there?")]
#[case(&[("lib/quay.php", "<?php require __DIR__ . '/../settings.local.php';")], "settings.local.php", "does it hold credentials")]
fn questions_are_asked(#[case] files: &[(&str, &str)], #[case] path: &str, #[case] asks: &str) {
    let found = Quay::new(&[&[INDEX], files].concat()).survey();
    let question = found.questions.iter().find(|question| question.part.path.to_str() == Some(path)).unwrap();
    assert!(question.asks.contains(asks), "{}", question.asks);
    let draft = found.draft();
    assert!(draft.contains(&format!("# Question: {}", question.asks)), "{draft}");
    assert!(draft.contains(&format!("# path  = \"{path}\"")), "{draft}");
}
