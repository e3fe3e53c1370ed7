//! The packages: built, looked at by the families' own checkers, installed into a scratch root, used there, and removed.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// The program as it is shipped; without it nothing is tested, and that is said (or, where all is to be tested, a failure).
fn program() -> Option<PathBuf> {
    let found = std::env::var_os("AMBRIK").map(PathBuf::from).filter(|path| path.is_file());
    let all = std::env::var_os("AMBRIK_TESTS").is_some_and(|said| said == "all");
    assert!(found.is_some() || !all, "AMBRIK names no program");
    if found.is_none() {
        eprintln!("skipped: AMBRIK names no program");
    }
    found
}

fn run(program: &str, args: &[&str]) -> Output {
    Command::new(program)
        .args(args)
        .env("LC_ALL", "C.UTF-8")
        .output()
        .unwrap_or_else(|error| panic!("{program}: {error}"))
}

fn done(program: &str, args: &[&str]) -> String {
    let output = run(program, args);
    assert!(output.status.success(), "{program} {args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn mode(path: &Path) -> u32 {
    fs::metadata(path).unwrap_or_else(|error| panic!("{}: {error}", path.display())).permissions().mode() & 0o7777
}

/// What both packages bring.
fn is_whole(root: &Path, completions: &str) {
    let at = |path: &str| root.join(path);
    assert_eq!(
        (mode(&at("usr/bin/ambrik")), mode(&at("var/lib/ambrik")), mode(&at("etc/ambrik/sites"))),
        (0o755, 0o700, 0o755)
    );
    for path in [
        "usr/lib/systemd/system/ambrik-audit.timer",
        "usr/share/man/man1/ambrik-seal.1.gz",
        "usr/share/man/man5/ambrik-site.5.gz",
        "usr/share/man/man5/ambrik-outline.5.gz",
        "usr/share/bash-completion/completions/ambrik",
        "usr/share/fish/vendor_completions.d/ambrik.fish",
        completions,
    ] {
        assert_eq!(mode(&at(path)), 0o644, "{path}");
    }
    let said = done(&at("usr/bin/ambrik").to_string_lossy(), &["--version"]);
    assert!(said.starts_with("ambrik "), "{said}");
    // Each page is one that man can show.
    for page in ["man1/ambrik.1.gz", "man1/ambrik-audit.1.gz", "man5/ambrik-site.5.gz", "man5/ambrik-host.5.gz"] {
        let path = at("usr/share/man").join(page);
        let shown = run("man", &["--warnings", "-l", &path.to_string_lossy()]);
        assert!(
            shown.status.success() && shown.stderr.is_empty(),
            "{page}: {}",
            String::from_utf8_lossy(&shown.stderr)
        );
        assert!(String::from_utf8_lossy(&shown.stdout).lines().count() > 20, "{page}");
    }
}

#[test]
fn both_families_take_them() {
    let Some(program) = program() else { return };
    let dir = tempfile::tempdir().unwrap();
    let into = dir.path().join("packages");
    let (program, into) = (program.to_string_lossy().into_owned(), into.to_string_lossy().into_owned());
    let built = done(env!("CARGO_BIN_EXE_ambrik-packages"), &[&program, &into]);
    let built: Vec<&str> = built.lines().collect();
    let [deb, red_hat] = built[..] else { panic!("{built:?}") };

    let said = run("lintian", &["--allow-root", "--fail-on", "none", deb]);
    let said = String::from_utf8_lossy(&said.stdout).into_owned();
    assert_eq!(
        said.lines().filter(|line| line.starts_with("E:") || line.starts_with("W:")).collect::<Vec<_>>(),
        [""; 0]
    );
    let root = dir.path().join("deb");
    fs::create_dir_all(root.join("var/lib/dpkg")).unwrap();
    fs::write(root.join("var/lib/dpkg/status"), "").unwrap();
    let dpkg = |args: &[&str]| {
        let within = format!("--root={}", root.display());
        // There is no shell in there for its scripts.
        let script = "--force-script-chrootless";
        done("dpkg", &[&[&*within, script, "--force-depends", "--no-triggers"], args].concat())
    };
    dpkg(&["-i", deb]);
    is_whole(&root, "usr/share/zsh/vendor-completions/_ambrik");
    fs::write(root.join("var/lib/ambrik/ledger.sqlite3"), "records").unwrap();
    dpkg(&["-r", "ambrik"]);
    assert!(!root.join("usr/bin/ambrik").exists() && root.join("var/lib/ambrik/ledger.sqlite3").exists());

    // As rpm says of itself: not signed here, and a folder that is root's alone.
    let meant = [
        "no-signature",
        "non-standard-dir-perm",
        "manpage-not-compressed",
        "no-manual-page-for-binary",
        "only-non-binary-in-usr-lib",
        "invalid-license",
    ];
    let said = run("rpmlint", &[red_hat]);
    let said = String::from_utf8_lossy(&said.stdout).into_owned();
    let told = said.lines().filter(|line| line.contains(": E: ") || line.contains(": W: "));
    assert_eq!(told.filter(|line| !meant.iter().any(|meant| line.contains(meant))).collect::<Vec<_>>(), [""; 0]);
    let root = dir.path().join("rpm");
    fs::create_dir(&root).unwrap();
    let within = root.to_string_lossy().into_owned();
    done("rpm", &["--root", &within, "--nodeps", "--noscripts", "-i", red_hat]);
    is_whole(&root, "usr/share/zsh/site-functions/_ambrik");
    done("rpm", &["--root", &within, "--nodeps", "--noscripts", "-e", "ambrik"]);
    assert!(!root.join("usr/bin/ambrik").exists());
}

/// What is typed is completed by what is there.
#[test]
fn shells_complete_names() {
    let Some(program) = program() else { return };
    let dir = tempfile::tempdir().unwrap();
    let at = |path: &str| dir.path().join(path);
    fs::create_dir(at("sites")).unwrap();
    let text = "[site]\nroot = \"/srv/www/berths\"\n[[part]]\npath = \"var/log\"\nuse = \"log\"\n";
    fs::write(at("sites/berths.toml"), text).unwrap();
    fs::write(at("sites/tidewatch.toml"), text).unwrap();
    assert!(Command::new(&program).arg("manual").arg(at("made")).status().unwrap().success());
    fs::create_dir(at("bin")).unwrap();
    std::os::unix::fs::symlink(&program, at("bin/ambrik")).unwrap();
    let typed = |words: &[&str]| {
        let script = format!(
            "source {0}/made/ambrik.bash; COMP_WORDS=({1}); COMP_CWORD={2}; COMP_TYPE=9; COMP_LINE=\"{1}\"; COMP_POINT=${{#COMP_LINE}}; \
             $(complete -p ambrik | sed 's/.*-F \\([^ ]*\\) .*/\\1/') ambrik '{3}' ''; printf '%s\\n' \"${{COMPREPLY[@]}}\"",
            dir.path().display(),
            words.join(" "),
            words.len() - 1,
            words.last().unwrap()
        );
        let mut bash = Command::new("bash");
        bash.args(["-c", &script])
            .env("PATH", format!("{}:/usr/bin:/bin", at("bin").display()))
            .env("AMBRIK_SITES", at("sites"));
        let output = bash.output().unwrap();
        String::from_utf8_lossy(&output.stdout).split_whitespace().map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(typed(&["ambrik", "audit", "tide"]), ["tidewatch"]);
    assert_eq!(typed(&["ambrik", "move", "berths", "var"]), ["var/log"]);
    assert!(typed(&["ambrik", "checks", "php-writes"]).contains(&"php-writes-code".to_owned()));
    assert_eq!(typed(&["ambrik", "proof"]), ["proofread"]);
}
