//! The table of rights against the kernel: after `set`, a process with an account's real ids can do exactly what
//! the row says, for every use, both settings of others, all grants and constellations of accounts.

use std::path::PathBuf;

use ambrik_core::account::{Gid, Ids, Uid};
use ambrik_core::site::Phase;
use rstest::rstest;

use crate::host::{TestHost, id, is_root};
use crate::kernel::{Can, asks};

/// A right as the table writes it.
type Right = &'static str;

/// The table of the design, section 4: path, keeper, php, web, others; `o` stands for what `others` says.
const SEALED: &[(&str, Right, Right, Right, Right)] = &[
    ("", "rw", "r", "o", "o"),
    ("code", "rw", "r", "o", "o"),
    ("public", "rw", "r", "r", "o"),
    ("public/page.php", "rw", "r", "r", "o"),
    ("code/lib.php", "rw", "r", "o", "o"),
    ("config/settings.php", "rw", "r", "-", "-"),
    ("public/hidden.key", "rw", "r", "-", "-"),
    ("store", "rw", "rw", "-", "-"),
    ("store/a/deep", "rw", "rw", "-", "-"),
    ("store/a/deep/file", "rw", "rw", "-", "-"),
    ("public/uploads", "rw", "rw", "r", "-"),
    ("public/uploads/b", "rw", "rw", "r", "-"),
    ("public/uploads/b/picture", "rw", "rw", "r", "-"),
    ("cache/x", "rw", "rw", "-", "-"),
    ("log/site.log", "rw", "rw", "-", "-"),
    ("install/index.php", "rw", "r", "o", "o"),
    ("public/setup/index.php", "rw", "r", "r", "o"),
    ("backups", "rw", "-", "-", "-"),
    ("backups/dump.sql", "rw", "-", "-", "-"),
    ("backups/live/data", "rw", "rw", "-", "-"),
    ("plugins/one.php", "rw", "r", "o", "o"),
    ("store/guarded/key.php", "rw", "r", "-", "-"),
    ("store/guarded/beside", "rw", "rw", "-", "-"),
];

/// What lies in a directory that php may write to, so that it can remove it.
const INSIDE_WRITABLE: &[&str] = &[
    "store/a/deep",
    "store/a/deep/file",
    "public/uploads/b",
    "public/uploads/b/picture",
    "cache/x",
    "log/site.log",
    "backups/live/data",
    "store/guarded/beside",
];

/// What is different while the site is open.
const OPEN: &[(&str, Right)] = &[("config/settings.php", "rw"), ("plugins/one.php", "rw"), ("plugins", "rw")];

const PARTS: &str = r#"
[[part]]
path = "config/settings.php"
use = "secret"
write = "install"
[[part]]
path = "public/*.key"
use = "secret"
[[part]]
path = "store"
use = "store"
[[part]]
path = "store/guarded/key.php"
use = "secret"
[[part]]
path = "public/uploads"
use = "store"
[[part]]
path = "cache"
use = "scratch"
[[part]]
path = "log"
use = "log"
[[part]]
path = "install"
use = "setup"
[[part]]
path = "public/setup"
use = "setup"
[[part]]
path = "backups"
use = "hidden"
[[part]]
path = "backups/live"
use = "store"
[[part]]
path = "plugins"
use = "code"
write = "install"
"#;

/// Who is in which group, and who php and web are.
#[derive(Clone, Copy, Debug)]
enum Accounts {
    One,
    NothingInCommon,
    WebInPhpsGroup,
    PhpInWebsGroup,
    OwnGroupTogether,
    GroupWithOutsider,
}

impl Accounts {
    fn groups(self) -> Vec<(&'static str, u32, &'static str)> {
        match self {
            Self::One | Self::NothingInCommon => vec![],
            Self::WebInPhpsGroup => vec![("php", id("php"), "web")],
            Self::PhpInWebsGroup => vec![("web", id("web"), "php")],
            Self::OwnGroupTogether => vec![("site", 61_050, "php,web")],
            Self::GroupWithOutsider => vec![("site", 61_050, "php,web,outsider"), ("php", id("php"), "outsider")],
        }
    }
}

#[rstest]
fn after_set_the_kernel_agrees(
    #[values(
        Accounts::One,
        Accounts::NothingInCommon,
        Accounts::WebInPhpsGroup,
        Accounts::PhpInWebsGroup,
        Accounts::OwnGroupTogether,
        Accounts::GroupWithOutsider
    )]
    accounts: Accounts,
    #[values("root:root", "deploy", "deploy:php")] keeper: &str,
    #[values("read", "none")] others: &str,
    #[values("owner", "group", "acl")] grant: &str,
    #[values(Phase::Sealed, Phase::Open)] phase: Phase,
) {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&accounts.groups());
    let web = if matches!(accounts, Accounts::One) { "php" } else { "web" };
    let text = format!(
        "served = \"public\"\n[accounts]\nkeeper = \"{keeper}\"\nphp = \"php\"\nweb = \"{web}\"\nothers = \"{others}\"\ngrant = \"{grant}\"\n{PARTS}"
    );
    let site = host.site(&text);
    let paths: Vec<PathBuf> = SEALED.iter().map(|row| host.site_path(row.0)).collect();
    for (n, row) in SEALED.iter().enumerate() {
        let (owner, mode) = [("php", 0o777), ("root", 0o600), ("stranger", 0o444), ("root", 0o1777)][n % 4];
        if row.0.contains('.')
            || matches!(
                row.0,
                "store/a/deep/file"
                    | "public/uploads/b/picture"
                    | "cache/x"
                    | "backups/live/data"
                    | "store/guarded/beside"
            )
        {
            host.file(row.0, owner, mode);
        } else {
            host.folder(row.0, owner, mode | 0o700);
        }
    }
    let outcome = host.set_in(&site, phase);
    assert!(outcome.failures.is_empty(), "{:?}", outcome.failures);

    for who in ["php", "web", "deploy", "stranger", "outsider"] {
        if who == "web" && matches!(accounts, Accounts::One) {
            continue;
        }
        let ids = ids(&host, who);
        for (row, can) in SEALED.iter().zip(asks(&ids, &paths)) {
            let as_others = if others == "read" { "r" } else { "-" };
            let said = |right: Right| if right == "o" { as_others } else { right };
            let mut php = said(row.2);
            if phase == Phase::Open
                && let Some((_, open)) = OPEN.iter().find(|(path, _)| *path == row.0)
            {
                php = open;
            }
            let want = match who {
                "php" if matches!(accounts, Accounts::One) => php.max(said(row.3)),
                "php" => php,
                "web" => said(row.3),
                "deploy" if keeper.starts_with("deploy") => said(row.1),
                _ => said(row.4),
            };
            let Can { read, write, replace } = can;
            let want = (want.contains('r'), want.contains('w'));
            assert_eq!((read, write), want, "{who} and {} ({:?})", row.0, paths[0]);
            assert!(!replace || want.1, "{who} can replace {}", row.0);
            let may_remove = match who {
                "php" => INSIDE_WRITABLE.contains(&row.0),
                _ => want.1 && !row.0.is_empty(),
            };
            assert!(replace || !may_remove, "{who} cannot remove {}", row.0);
        }
    }

    let again = host.audit_in(&site, phase);
    let of_the_site_file = ["installer-left", "served-too-wide"];
    let names: Vec<&str> =
        again.wrong.findings.iter().map(|f| f.check.name).filter(|n| !of_the_site_file.contains(n)).collect();
    assert!(names.is_empty(), "{names:?}");
    assert_eq!(again.changes_pending(), 0);
}

fn ids(host: &TestHost, who: &str) -> Ids {
    let account = host.accounts.account(who).unwrap();
    assert_eq!(account.ids.uid, Uid(id(who)));
    Ids::new(account.ids.uid, account.ids.gid, account.ids.groups().iter().copied().chain([Gid(id(who))]))
}

/// What `[[access]]` adds: `stranger` backs up the whole site, `outsider` is one of the editors. Path, keeper, php, web, others,
/// stranger, outsider.
const WITH_ACCESS: &[(&str, [Right; 6])] = &[
    ("", ["rw", "r", "o", "o", "r", "o"]),
    ("code", ["rw", "r", "o", "o", "r", "rw"]),
    ("code/lib.php", ["rw", "r", "o", "o", "r", "rw"]),
    ("public/page.php", ["rw", "r", "r", "o", "r", "o"]),
    ("public/stub.html", ["rw", "-", "r", "-", "r", "-"]),
    ("config/settings.php", ["rw", "r", "-", "-", "r", "-"]),
    ("public/uploads", ["rw", "rw", "r", "-", "r", "rw"]),
    ("public/uploads/b", ["rw", "rw", "r", "-", "r", "rw"]),
    ("public/uploads/b/picture", ["rw", "rw", "r", "-", "r", "rw"]),
    ("log", ["rw", "rw", "-", "-", "r", "r"]),
    ("log/site.log", ["rw", "rw", "-", "-", "r", "r"]),
    ("backups/dump.sql", ["rw", "-", "-", "-", "r", "-"]),
    ("box", ["rw", "rw", "-", "-", "r", "-"]),
    ("box/inside.php", ["rw", "r", "o", "o", "r", "o"]),
];

const ACCESS: &str = r#"
[[part]]
path = "public/stub.html"
use = "remove"
[[part]]
path = "box"
use = "store"
deep = false
[[access]]
user = "stranger"
path = "."
may = "read"
[[access]]
group = "editors"
path = "code"
may = "write"
[[access]]
group = "editors"
path = "public/uploads"
may = "write"
[[access]]
group = "editors"
path = "log"
may = "read"
"#;

#[rstest]
fn with_access_besides_the_kernel_agrees(
    #[values(Accounts::One, Accounts::NothingInCommon, Accounts::WebInPhpsGroup, Accounts::OwnGroupTogether)]
    accounts: Accounts,
    #[values("root:root", "deploy")] keeper: &str,
    #[values("read", "none")] others: &str,
    #[values("owner", "group", "acl")] grant: &str,
) {
    if !is_root() {
        return;
    }
    let groups: Vec<_> = accounts.groups().into_iter().chain([("editors", 61_060, "outsider")]).collect();
    let host = TestHost::new(&groups);
    let web = if matches!(accounts, Accounts::One) { "php" } else { "web" };
    let site = host.site(&format!(
        "served = \"public\"\n[accounts]\nkeeper = \"{keeper}\"\nphp = \"php\"\nweb = \"{web}\"\nothers = \"{others}\"\ngrant = \"{grant}\"\n{PARTS}{ACCESS}"
    ));
    let paths: Vec<PathBuf> = WITH_ACCESS.iter().map(|row| host.site_path(row.0)).collect();
    for (n, (path, _)) in WITH_ACCESS.iter().enumerate() {
        let (owner, mode) = [("php", 0o777), ("root", 0o600), ("stranger", 0o444)][n % 3];
        if path.contains('.') || path.ends_with("picture") {
            host.file(path, owner, mode);
        } else {
            host.folder(path, owner, mode | 0o700);
        }
    }
    for path in ["store", "cache", "backups/live"] {
        host.folder(path, "root", 0o700);
    }
    let outcome = host.set(&site);
    assert!(outcome.failures.is_empty(), "{:?}", outcome.failures);
    let as_others = if others == "read" { "r" } else { "-" };
    let who = |name: &str| match name {
        "deploy" if keeper == "deploy" => 0,
        "php" => 1,
        "web" => 2,
        "stranger" => 4,
        "outsider" => 5,
        _ => 3,
    };
    let wanted = |name: &str, row: &[Right; 6]| {
        let said = |right: Right| if right == "o" { as_others } else { right };
        let right = said(row[who(name)]);
        let right = if name == "php" && matches!(accounts, Accounts::One) { right.max(said(row[2])) } else { right };
        (right.contains('r'), right.contains('w'))
    };
    let everybody: Vec<&str> = ["php", "web", "deploy", "stranger", "outsider", "visitor"]
        .into_iter()
        .filter(|who| *who != "web" || !matches!(accounts, Accounts::One))
        .collect();
    for name in &everybody {
        for ((path, row), can) in WITH_ACCESS.iter().zip(asks(&ids(&host, name), &paths)) {
            assert_eq!((can.read, can.write), wanted(name, row), "{name} and {path}");
            assert!(!can.replace || can.write || wanted(name, row).1, "{name} can replace {path}");
        }
    }
    let again = host.audit(&site);
    let of_the_site_file = ["installer-left", "served-too-wide", "unwanted-left"];
    let names: Vec<&str> =
        again.wrong.findings.iter().map(|f| f.check.name).filter(|n| !of_the_site_file.contains(n)).collect();
    assert!(names.is_empty(), "{names:?}");
    assert!(again.wrong.findings.iter().any(|finding| finding.check.name == "unwanted-left"));
    assert_eq!(again.changes_pending(), 0);

    // What one of them makes next, whatever the umask, the others get as well.
    let made: Vec<PathBuf> = ["php", "outsider"]
        .into_iter()
        .map(|name| {
            let path = host.site_path("public/uploads/b").join(name);
            let new = path.clone();
            crate::kernel::as_account(&ids(&host, name), move || {
                std::process::Command::new("sh").arg("-c").arg(r#"umask 077; echo > "$0""#).arg(new).status().unwrap()
            });
            path
        })
        .collect();
    let (_, row) = WITH_ACCESS.iter().find(|(path, _)| path.ends_with("picture")).unwrap();
    for name in everybody {
        for (can, path) in asks(&ids(&host, name), &made).into_iter().zip(&made) {
            assert_eq!((can.read, can.write), wanted(name, row), "{name} and {path:?}");
        }
    }
}
