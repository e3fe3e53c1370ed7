use std::path::Path;

use rstest::rstest;

use super::*;
use crate::site::Phase;

/// php 33, web 101, keeper deploy 1000; `groups` are further lines of the group file.
fn solved(keys: &str, groups: &str, part: &str, path: &str, shape: Shape) -> String {
    let passwd = "root:x:0:0::/:/\nphp:x:33:33::/:/\nweb:x:101:101::/:/\ndeploy:x:1000:1000::/:/\n";
    let accounts = Accounts::from_texts(passwd, &format!("root:x:0:\nphp:x:33:\nweb:x:101:\ndeploy:x:1000:\n{groups}"));
    let text = format!("[site]\nroot = \"/srv/x\"\nserved = \"public\"\n[accounts]\nphp = \"php\"\n{keys}\n{part}");
    let site =
        crate::site::read(&text, Path::new("x.toml"), &accounts, &[]).unwrap_or_else(|problems| panic!("{problems}"));
    let policy = Policy::new(Arc::new(site), Phase::Sealed);
    let solver = Solver::new(policy.site(), &accounts);
    let rights = solver.solve(&policy, &policy.at(&Path::new("/srv/x").join(path)).context, shape);
    let list = |acl: &Option<Arc<Acl>>| {
        let users = acl.iter().flat_map(|acl| acl.entries()).filter_map(|entry| match entry.tag {
            crate::acl::Tag::User(uid) => Some(format!("{}={}", accounts.user_shown(uid), entry.perm)),
            _ => None,
        });
        users.collect::<Vec<_>>().join(",")
    };
    let (uid, gid) = (accounts.user_shown(rights.uid), accounts.group_shown(rights.gid));
    let (acl, default_acl) = (list(&rights.acl), list(&rights.default_acl));
    let shown = format!("{uid}:{gid} {} [{acl}] [{default_acl}]", rights.mode);
    shown.replace(" [] []", "")
}

const UPLOADS: &str = "[[part]]\npath = \"public/uploads\"\nuse = \"store\"";
const CACHE: &str = "[[part]]\npath = \"cache\"\nuse = \"scratch\"";
const KEY: &str = "[[part]]\npath = \"key.php\"\nuse = \"secret\"";
const WEB: &str = "web = \"web\"";

#[rstest]
#[case::code("", "", "", "lib", Shape::Directory, "root:root 0755")]
#[case::code_file("", "", "", "lib/a.php", Shape::File, "root:root 0644")]
#[case::program("", "", "", "bin/tool", Shape::Program, "root:root 0755")]
#[case::program_of_one_account("others = \"none\"", "", "", "bin/tool", Shape::Program, "root:php 0750")]
#[case::program_of_two_accounts(&"web = \"web\"\nothers = \"none\"", "", "", "public/tool", Shape::Program, "root:php 0750 [web=r-x] []")]
#[case::program_that_php_made("", "", CACHE, "cache/tool", Shape::Program, "php:php 0700")]
#[case::secret_program("", "", KEY, "key.php", Shape::Program, "root:php 0750")]
#[case::the_designs_example(WEB, "", UPLOADS, "public/uploads", Shape::Directory, "php:web 2750")]
#[case::the_designs_example_file(WEB, "", UPLOADS, "public/uploads/a", Shape::File, "php:web 0640")]
#[case::nobody_else_needs_it("", "", CACHE, "cache", Shape::Directory, "php:php 0700")]
#[case::secret("", "", KEY, "key.php", Shape::File, "root:php 0640")]
#[case::closed_code_one_account("others = \"none\"", "", "", "lib", Shape::Directory, "root:php 0750")]
#[case::closed_code_not_served(&"web = \"web\"\nothers = \"none\"", "", "", "lib/a.php", Shape::File, "root:php 0640")]
#[case::closed_code_two_accounts(&"web = \"web\"\nothers = \"none\"", "", "", "public/a.php", Shape::File, "root:php 0640 [web=r--] []")]
#[case::closed_code_group_in_common(&"web = \"web\"\nothers = \"none\"", "site:x:50:php,web\n", "", "public/a.php", Shape::File, "root:site 0640")]
#[case::a_group_with_outsiders_carries_nothing(&"web = \"web\"\nothers = \"none\"", "site:x:50:php,web,deploy\n", "", "public/a.php", Shape::File, "root:php 0640 [web=r--] []")]
#[case::by_group("grant = \"group\"", "", CACHE, "cache", Shape::Directory, "root:php 2770")]
#[case::by_list("grant = \"acl\"", "", CACHE, "cache", Shape::Directory, "root:root 0770 [php=rwx] [php=rwx]")]
#[case::by_list_file("grant = \"acl\"", "", CACHE, "cache/a", Shape::File, "root:root 0660 [php=rw-] []")]
#[case::keeper_that_is_not_root("keeper = \"deploy\"", "", CACHE, "cache", Shape::Directory, "php:deploy 2770")]
#[case::keepers_own_group("keeper = \"deploy:php\"", "", "", "lib", Shape::Directory, "deploy:php 0755")]
#[case::keeper_and_web(&"keeper = \"deploy\"\nweb = \"web\"", "", UPLOADS, "public/uploads", Shape::Directory, "php:web 2770 [deploy=rwx] [deploy=rwx]")]
#[case::way_through_for_the_web_server(&"web = \"web\"\nothers = \"none\"", "", "", "", Shape::Directory, "root:php 0750 [web=--x] []")]
#[case::symlink("", "", "", "public/link", Shape::Symlink, "root:root 0644")]
fn the_narrowest(
    #[case] keys: &str,
    #[case] groups: &str,
    #[case] part: &str,
    #[case] path: &str,
    #[case] shape: Shape,
    #[case] want: &str,
) {
    assert_eq!(solved(keys, groups, part, path, shape), want);
}

#[rstest]
#[case::octal("file_mode = \"0604\"", Shape::File, "php:php 0604")]
#[case::symbolic_from_the_solvers("file_mode = \"g+r\"", Shape::File, "php:php 0640")]
#[case::capital_x_on_folders("dir_mode = \"u=rwX,g=rX,o=\"", Shape::Directory, "php:php 0750")]
#[case::owner("owner = \"web\"", Shape::File, "web:php 0660")]
#[case::group("group = \"web\"", Shape::Directory, "php:web 0700")]
fn overrides(#[case] line: &str, #[case] shape: Shape, #[case] want: &str) {
    let part = format!("{CACHE}\n{line}\n");
    let path = if shape == Shape::Directory { "cache" } else { "cache/a" };
    assert_eq!(solved("", "", &part, path, shape), want);
}

#[test]
fn nothing_is_ever_set_uid_or_open_for_others_to_write() {
    for grant in ["owner", "group", "acl"] {
        for (part, path) in [(UPLOADS, "public/uploads"), (CACHE, "cache"), (KEY, "key.php"), ("", "lib")] {
            for shape in [Shape::Directory, Shape::File, Shape::Program] {
                let text = solved(&format!("{WEB}\ngrant = \"{grant}\""), "", part, path, shape);
                let mode: Mode = text.split(' ').nth(1).unwrap().parse().unwrap();
                assert!(!mode.has(Mode::SET_UID | 0o002), "{text}");
                assert!(shape == Shape::Directory || !mode.has(0o7000), "{text}");
                assert!(shape != Shape::File || !mode.has(0o111), "{text}");
            }
        }
    }
}

#[test]
fn a_guarded_directory_is_the_keepers_and_sticky() {
    let part = format!("{CACHE}\n[[part]]\npath = \"cache/key.php\"\nuse = \"secret\"");
    assert_eq!(solved("", "", &part, "cache", Shape::Directory), "root:php 3770");
    assert_eq!(solved("", "", &part, "cache/session", Shape::File), "php:php 0600");
    assert_eq!(solved("grant = \"group\"", "", &part, "cache/session", Shape::File), "php:php 0600");
    assert_eq!(solved("", "", &part, "cache/key.php", Shape::File), "root:php 0640");
}
