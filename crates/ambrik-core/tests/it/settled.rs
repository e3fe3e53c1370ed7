//! Whatever `set` writes an audit accepts: random site files on a tree of any rights.

use std::path::Path;
use std::sync::Arc;

use ambrik_core::change::Plan;
use ambrik_core::site::{Phase, read};
use proptest::prelude::*;
use proptest::sample::{select, subsequence};

use crate::host::{TestHost, is_root};

const PATHS: &[&str] = &[
    "config",
    "config/settings.php",
    "public/uploads",
    "public/uploads/keys",
    "var",
    "var/cache",
    "lib",
    "**/*.key",
    "public/*",
    "/var/lib/site",
];
const FILES: &[&str] = &[
    "index.php",
    "config/settings.php",
    "config/db.key",
    "public/index.php",
    "public/uploads/a.png",
    "public/uploads/keys/b.key",
    "var/cache/c",
    "var/log",
    "lib/d.php",
];

fn part() -> impl Strategy<Value = String> {
    let uses = select(vec![
        "code",
        "secret",
        "store",
        "scratch",
        "log",
        "hidden",
        "foreign",
        "remove",
        "code\"\ndeep = false #",
        "store\"\ndeep = false #",
    ]);
    let overrides = select(vec![
        "",
        "",
        "",
        "file_mode = \"0640\"\n",
        "file_mode = \"0644\"\n",
        "dir_mode = \"2750\"\n",
        "dir_mode = \"0755\"\n",
        "file_mode = \"u=rw,g=r,o=\"\ndir_mode = \"g+w\"\n",
        "owner = \"php\"\n",
        "group = \"web\"\n",
        "owner = \"stranger\"\n",
        "dir_mode = \"1770\"\n",
        "file_mode = \"0600\"\ngroup = \"php\"\n",
    ]);
    let write = select(vec!["", "", "write = \"always\"\n", "write = \"install\"\n", "write = \"never\"\n"]);
    let parts = (uses, write, overrides).prop_filter("what goes is not written", |(used_as, write, _)| {
        *used_as != "remove" || matches!(*write, "" | "write = \"never\"\n")
    });
    parts.prop_map(|(used_as, write, overrides)| format!("use = \"{used_as}\"\n{write}{overrides}"))
}

/// Who has access besides.
fn access() -> impl Strategy<Value = String> {
    let who = select(vec![
        "user = \"stranger\"",
        "user = \"outsider\"",
        "group = \"outsider\"",
        "group = \"web\"",
        "user = \"web\"",
    ]);
    let path = select(vec![".", "config", "public/uploads", "public/*", "var/cache/c", "lib"]);
    let may = select(vec!["read", "write"]);
    let one = (who, path, may)
        .prop_map(|(who, path, may)| format!("[[access]]\n{who}\npath = \"{path}\"\nmay = \"{may}\"\n"));
    proptest::collection::vec(one, 0..4).prop_map(|all| all.concat())
}

fn site_file() -> impl Strategy<Value = String> {
    let paths = subsequence(PATHS.to_vec(), 0..6);
    let head = (
        select(vec!["", "served = \"public\"\n"]),
        select(vec!["root:root", "deploy", "php"]),
        select(vec!["web", "php"]),
        select(vec!["read", "none"]),
        select(vec!["owner", "group", "acl"]),
    );
    (head, paths).prop_flat_map(|((served, keeper, web, others, grant), paths)| {
        let head = format!(
            "[site]\nroot = \"/srv/www/site\"\n{served}[accounts]\nkeeper = \"{keeper}\"\nphp = \"php\"\nweb = \"{web}\"\n\
             others = \"{others}\"\ngrant = \"{grant}\"\n"
        );
        let parts = proptest::collection::vec(part(), paths.len());
        parts.prop_map(move |parts| {
            let parts = paths.iter().zip(parts).map(|(path, part)| format!("[[part]]\npath = \"{path}\"\n{part}"));
            format!("{head}{}", parts.collect::<String>())
        })
    })
}

fn a_tree() -> impl Strategy<Value = Vec<(&'static str, u32)>> {
    let owner = select(vec!["root", "php", "web", "stranger", "deploy"]);
    let mode = select(vec![0o644_u32, 0o600, 0o666, 0o777, 0o755, 0o4755, 0o2770, 0o400, 0o1777]);
    proptest::collection::vec((owner, mode), FILES.len())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    #[test]
    fn what_set_writes_an_audit_accepts(text in site_file(), access in access(), rights in a_tree()) {
        if !is_root() {
            return Ok(());
        }
        let host = TestHost::new(&[]);
        for (path, (owner, mode)) in FILES.iter().zip(rights) {
            host.file(path, owner, mode);
            host.give(host.site_path(path).parent().unwrap(), owner, mode | 0o700);
        }
        std::fs::create_dir_all(host.real("var/lib/site/in")).unwrap();
        let text = format!("{text}{access}");
        let site = read(&text, Path::new("site.toml"), &host.accounts, &[]);
        prop_assert!(site.is_ok(), "{}\n{text}", site.unwrap_err());
        let site = Arc::new(site.unwrap());
        let outcome = host.set(&site);
        prop_assert!(outcome.failures.is_empty(), "{:?}\n{text}", outcome.failures);
        let audit = host.audit(&site);
        // What `set` is said to put right is right.
        let left: Vec<String> = audit
            .wrong.findings
            .iter()
            .filter(|finding| audit.remedy(finding).starts_with("ambrik set"))
            .map(|finding| format!("{}: {:?}", finding.check.name, audit.paths(finding).collect::<Vec<_>>()))
            .collect();
        prop_assert!(left.is_empty(), "{left:?}\n{text}");
        prop_assert!(Plan::set(audit, Phase::Sealed).is_empty(), "{text}");
    }
}
