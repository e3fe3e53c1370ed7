//! What an audit finds, check by check, on small trees.

use std::fs;
use std::os::unix::fs::symlink;

use ambrik_core::account::Uid;
use ambrik_core::acl::{ACCESS_ATTRIBUTE, Acl, Tag};
use ambrik_core::mode::Perm;
use rstest::rstest;

use crate::attributes;
use crate::host::{TestHost, found, id, is_root};
use crate::kernel::as_account;

const SITE: &str = r#"served = "public"
[accounts]
php = "php"
web = "web"
[[part]]
path = "config/settings.php"
use = "secret"
[[part]]
path = "var/cache"
use = "scratch"
[[part]]
path = "public/uploads"
use = "store"
[[part]]
path = "backups"
use = "hidden"
[[part]]
path = "other"
use = "foreign"
"#;

/// A site that is as it should be.
fn sound() -> TestHost {
    let host = TestHost::new(&[]);
    for folder in ["public/assets", "lib", "config", "var"] {
        host.folder(folder, "root", 0o755);
    }
    for file in ["public/index.php", "public/assets/style.css", "lib/site.php"] {
        host.file(file, "root", 0o644);
    }
    host.file("config/settings.php", "root", 0o640);
    host.folder("var/cache", "php", 0o700);
    host.folder("public/uploads", "php", 0o2750);
    host.folder("backups", "root", 0o700);
    if is_root() {
        let chown = |path: &str, user: &str, group: &str| {
            std::os::unix::fs::chown(host.site_path(path), Some(id(user)), Some(id(group))).unwrap();
        };
        chown("config/settings.php", "root", "php");
        chown("public/uploads", "php", "web");
        host.give_mode("public/uploads", 0o2750);
    }
    host
}

impl TestHost {
    fn give_mode(&self, path: &str, mode: u32) {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(self.site_path(path), fs::Permissions::from_mode(mode)).unwrap();
    }
}

fn names(host: &TestHost) -> Vec<(&'static str, Vec<String>)> {
    let audit = host.audit(&host.site(SITE));
    audit
        .wrong
        .findings
        .iter()
        .map(|f| (f.check.name, audit.paths(f).map(|p| p.display().to_string()).collect()))
        .collect()
}

#[test]
fn a_sound_site_has_no_findings() {
    if is_root() {
        assert_eq!(names(&sound()), []);
        assert_eq!(sound().audit(&sound().site(SITE)).changes_pending(), 0);
    }
}

/// Each case breaks one thing; the first check is found with exactly this path.
#[rstest]
#[case::open_code("lib/site.php", "root", 0o646, "php-writes-code")]
#[case::open_to_all("lib/site.php", "root", 0o646, "everyone-writes")]
#[case::phps_own("lib/site.php", "php", 0o644, "php-writes-code")]
#[case::phps_own_but_closed("lib/site.php", "php", 0o444, "php-owns-code")]
#[case::secret_of_php("config/settings.php", "php", 0o600, "php-writes-secret")]
#[case::secret_read_by_all("config/settings.php", "root", 0o644, "secret-exposed")]
#[case::secret_read_by_all_is_read_by_all("config/settings.php", "root", 0o644, "everyone-reads")]
#[case::secret_of_another("config/settings.php", "stranger", 0o640, "secret-exposed")]
#[case::code_of_another("lib/site.php", "stranger", 0o644, "another-writes")]
#[case::closed_to_php("lib/site.php", "root", 0o600, "php-cannot-read")]
#[case::closed_to_web("public/assets/style.css", "php", 0o640, "web-cannot-read")]
#[case::closed_cache("var/cache", "root", 0o755, "php-cannot-write")]
#[case::set_uid("lib/site.php", "root", 0o4644, "special-bits")]
#[case::set_gid("lib/site.php", "root", 0o2644, "special-bits")]
#[case::executable("lib/site.php", "root", 0o744, "program-bit")]
fn breaks(#[case] path: &str, #[case] owner: &str, #[case] mode: u32, #[case] check: &str) {
    if !is_root() {
        return;
    }
    let host = sound();
    host.give(&host.site_path(path), owner, mode);
    let audit = host.audit(&host.site(SITE));
    assert_eq!(found(&audit, check), [path], "{:?}", names(&host));
}

#[test]
fn who_may_write_a_directory_may_replace_what_is_in_it() {
    if !is_root() {
        return;
    }
    let host = sound();
    host.give(&host.site_path("lib"), "root", 0o777);
    let audit = host.audit(&host.site(SITE));
    assert_eq!(found(&audit, "php-writes-code"), ["lib", "lib/site.php"]);
    host.give(&host.site_path("lib"), "root", 0o1777);
    let audit = host.audit(&host.site(SITE));
    assert_eq!(found(&audit, "php-writes-code"), ["lib"], "sticky: only the owner removes");
}

#[test]
fn a_directory_above_that_stops_is_named() {
    if !is_root() {
        return;
    }
    let host = sound();
    host.give(&host.site_path("lib"), "root", 0o700);
    let audit = host.audit(&host.site(SITE));
    let finding = audit.wrong.findings.iter().find(|f| f.check.name == "php-cannot-read").unwrap();
    assert!(audit.says(finding).contains("stopped at /srv/www/site/lib"), "{}", audit.says(finding));
    assert_eq!(found(&audit, "php-cannot-read"), ["lib", "lib/site.php"]);
}

#[test]
fn directories_above_the_root_count_as_well() {
    if !is_root() {
        return;
    }
    let host = sound();
    host.give(&host.real("srv/www"), "php", 0o755);
    let audit = host.audit(&host.site(SITE));
    assert_eq!(found(&audit, "php-writes-code"), ["/srv/www"]);
    assert_eq!(audit.changes_pending(), 0, "what leads to a site is not the site's to change");
    host.give(&host.real("srv/www"), "root", 0o1777);
    assert_eq!(names(&host), [], "sticky, and the site is root's");
    host.give(&host.real("srv"), "root", 0o700);
    let audit = host.audit(&host.site(SITE));
    let finding = audit.wrong.findings.iter().find(|f| f.check.name == "php-cannot-read").unwrap();
    assert!(audit.says(finding).contains("stopped at /srv"), "{}", audit.says(finding));
}

#[test]
fn access_lists_count_with_their_mask() {
    if !is_root() {
        return;
    }
    let host = sound();
    let path = host.site_path("lib/site.php");
    let list = |perm| Acl::with_users(Perm::RW, Perm::R, Perm::R, &[(Uid(id("php")), perm)]);
    attributes::set(&path, ACCESS_ATTRIBUTE, &list(Perm::RW).to_attribute());
    assert_eq!(found(&host.audit(&host.site(SITE)), "php-writes-code"), ["lib/site.php"]);
    let masked = Acl::new(list(Perm::RW).entries().iter().map(|e| match e.tag {
        Tag::Mask => ambrik_core::acl::AclEntry { perm: Perm::R, ..*e },
        _ => *e,
    }));
    attributes::set(&path, ACCESS_ATTRIBUTE, &masked.unwrap().to_attribute());
    let audit = host.audit(&host.site(SITE));
    assert_eq!(found(&audit, "php-writes-code"), Vec::<String>::new());
    assert_eq!(audit.changes_pending(), 1, "a list that the site file does not ask for still goes");
}

#[test]
fn file_capabilities_are_found_and_go() {
    if !is_root() {
        return;
    }
    let host = sound();
    let path = host.site_path("lib/site.php");
    // cap_net_raw, permitted and effective: struct vfs_cap_data, revision 2.
    let value = [1, 0, 0, 2, 0, 0x20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    attributes::set(&path, "security.capability", &value);
    assert_eq!(found(&host.audit(&host.site(SITE)), "special-bits"), ["lib/site.php"]);
    assert!(host.set(&host.site(SITE)).failures.is_empty());
    assert_eq!(attributes::all(&path), []);
    host.undo(None, false);
    assert_eq!(attributes::all(&path), [("security.capability".to_owned(), value.to_vec())]);
}

#[test]
fn what_php_made_at_run_time_is_nobodys_business() {
    if !is_root() {
        return;
    }
    let host = sound();
    host.file("var/cache/session", "php", 0o666);
    host.folder("var/cache/sub", "php", 0o777);
    host.file("var/cache/sub/private", "php", 0o600);
    let audit = host.audit(&host.site(SITE));
    assert_eq!(names(&host), []);
    assert_eq!(audit.changes_pending(), 0);
}

#[test]
fn strangers_ids_are_found() {
    if !is_root() {
        return;
    }
    let host = sound();
    std::os::unix::fs::chown(host.site_path("lib/site.php"), Some(77_777), None).unwrap();
    assert_eq!(found(&host.audit(&host.site(SITE)), "unknown-owner"), ["lib/site.php"]);
}

#[test]
fn special_files_are_found_and_left() {
    let host = sound();
    rustix::fs::mknodat(
        rustix::fs::CWD,
        host.site_path("lib/pipe"),
        rustix::fs::FileType::Fifo,
        rustix::fs::Mode::RWXU,
        0,
    )
    .unwrap();
    let audit = host.audit(&host.site(SITE));
    assert_eq!(found(&audit, "special-file"), ["lib/pipe"]);
}

#[rstest]
#[case::out("../../../../etc/passwd", true)]
#[case::absolute_out("/etc/passwd", true)]
#[case::inside("../lib/site.php", false)]
#[case::absolute_inside("/srv/www/site/lib/site.php", false)]
#[case::dangling_inside("nothing", false)]
fn links_out_of_the_site(#[case] target: &str, #[case] out: bool) {
    let host = sound();
    symlink(target, host.site_path("public/link")).unwrap();
    let want: &[&str] = if out { &["public/link"] } else { &[] };
    assert_eq!(found(&host.audit(&host.site(SITE)), "link-leaves-site"), want);
}

#[test]
fn a_second_name_elsewhere_is_found_and_never_changed() {
    if !is_root() {
        return;
    }
    let host = sound();
    let victim = host.real("etc/shadow");
    fs::write(&victim, "secret\n").unwrap();
    host.give(&victim, "root", 0o600);
    fs::hard_link(&victim, host.site_path("var/cache/innocent")).unwrap();
    fs::hard_link(&victim, host.site_path("lib/innocent.php")).unwrap();
    let site = host.site(SITE);
    assert_eq!(found(&host.audit(&site), "hard-link-shared"), ["lib/innocent.php", "var/cache/innocent"]);
    let before = crate::host::picture(&host.real("etc"), true);
    let outcome = host.set(&site);
    assert_eq!(outcome.failures.len(), 2, "{:?}", outcome.failures);
    assert_eq!(crate::host::picture(&host.real("etc"), true), before);
}

#[test]
fn names_of_one_file_in_one_part_are_no_matter() {
    if !is_root() {
        return;
    }
    let host = sound();
    let path = host.file("lib/one.php", "php", 0o666);
    fs::hard_link(&path, host.site_path("lib/two.php")).unwrap();
    let site = host.site(SITE);
    assert_eq!(found(&host.audit(&site), "hard-link-shared"), Vec::<String>::new());
    assert!(host.set(&site).failures.is_empty());
    assert_eq!(names(&host), []);
}

#[test]
fn what_is_foreign_is_neither_judged_nor_touched() {
    let host = sound();
    host.file("other/thing.php", "stranger", 0o666);
    let before = crate::host::picture(&host.site_path("other"), true);
    let site = host.site(SITE);
    let audit = host.audit(&site);
    assert!(audit.wrong.findings.iter().all(|f| audit.paths(f).all(|p| !p.starts_with("other"))));
    host.set(&site);
    assert_eq!(crate::host::picture(&host.site_path("other"), true), before);
}

#[rstest]
#[case::archive("public/site.tar.gz", "x", "leftover-served")]
#[case::dump("public/dump.sql", "-- SQL dump\nINSERT INTO berths VALUES (1);", "leftover-served")]
#[case::dump_by_content(
    "public/data/rows.sql",
    "-- SQL dump of quay\nINSERT INTO berths VALUES (1);",
    "leftover-served"
)]
#[case::editor("public/index.php~", "x", "leftover-served")]
#[case::backup("public/index.php.bak", "x", "leftover-served")]
#[case::version_control("public/.git/config", "x", "leftover-served")]
#[case::information_among_code("public/lib/info.php", "<?php phpinfo();", "leftover-served")]
#[case::information("public/deep/down/status.php", "<?php\n// who looks here\nphpinfo();\n", "leftover-served")]
#[case::installer_folder("public/install/index.php", "<?php", "installer-left")]
#[case::installer_file("public/install.php", "<?php", "installer-left")]
#[case::installer_file_capital("public/Setup.php", "<?php", "installer-left")]
fn is_recognised(#[case] path: &str, #[case] content: &str, #[case] check: &str) {
    let host = sound();
    host.file(path, "root", 0o644);
    fs::write(host.site_path(path), content).unwrap();
    let audit = host.audit(&host.site(SITE));
    let paths = found(&audit, check);
    assert_eq!(paths.len(), 1, "{paths:?}");
    assert!(path.starts_with(&paths[0]), "{paths:?}");
}

#[rstest]
#[case::not_served("lib/site.tar.gz", "x")]
#[case::a_piece_of_a_page("public/templates/test/version.inc", "<?php phpinfo(); ?>")]
#[case::an_asset("public/style.css.gz", "x")]
#[case::a_class("public/classes/tide_backup.php", "<?php class TideBackup {}")]
#[case::in_a_store("public/uploads/site.tar.gz", "x")]
#[case::schema_at_the_top("public/backup.sql", "CREATE TABLE berths (id INTEGER);")]
#[case::first_rows("public/first.sql", "CREATE TABLE a (b int);\nINSERT INTO a VALUES (1);")]
#[case::schema("public/data/schema.sql", "CREATE TABLE berths (id INTEGER);")]
#[case::a_librarys_own("public/vendor/tool/install.php", "<?php")]
#[case::a_class("public/src/Setup/Index.php", "<?php class Index {}")]
#[case::documentation_of_it("public/install/readme.txt", "how to")]
#[case::says_the_word("public/help.php", "<?php echo 'phpinfo()';")]
fn is_not_recognised(#[case] path: &str, #[case] content: &str) {
    let host = sound();
    host.file(path, "root", 0o644);
    fs::write(host.site_path(path), content).unwrap();
    let audit = host.audit(&host.site(SITE));
    assert_eq!(found(&audit, "leftover-served"), Vec::<String>::new());
    assert_eq!(found(&audit, "installer-left"), Vec::<String>::new());
}

#[test]
fn what_is_declared_wins_over_what_is_guessed() {
    let host = sound();
    host.file("public/install/index.php", "root", 0o644);
    host.file("public/old.zip", "root", 0o644);
    let text = format!(
        "{SITE}[[part]]\npath = \"public/install\"\nuse = \"code\"\n[[part]]\npath = \"public/old.zip\"\nuse = \"store\"\n"
    );
    let audit = host.audit(&host.site(&text));
    assert_eq!(found(&audit, "leftover-served"), Vec::<String>::new());
}

#[rstest]
#[case::whole_root_with_public(".", "public/index.php", "", true)]
#[case::whole_root_flat(".", "index.php", "", false)]
#[case::log_in_public("public", "public/index.php", "[[part]]\npath = \"public/log\"\nuse = \"log\"\n", true)]
#[case::store_in_public("public", "public/index.php", "[[part]]\npath = \"public/pics\"\nuse = \"store\"\n", false)]
#[case::secret_in_flat(".", "index.php", "[[part]]\npath = \"settings.php\"\nuse = \"secret\"\n", false)]
#[case::log_that_cannot_be_closed(".", "index.php", "[[part]]\npath = \"log\"\nuse = \"log\"\n", true)]
fn served_too_wide(#[case] served: &str, #[case] file: &str, #[case] part: &str, #[case] want: bool) {
    let host = TestHost::new(&[]);
    host.file(file, "root", 0o644);
    let site = host.site(&format!("served = \"{served}\"\n[accounts]\nphp = \"php\"\n{part}"));
    assert_eq!(!found(&host.audit(&site), "served-too-wide").is_empty(), want);
}

#[test]
fn php_as_root_is_said() {
    let host = sound();
    let site = host.site("[accounts]\nphp = \"root\"\n");
    assert_eq!(found(&host.audit(&site), "php-is-root"), ["."]);
}

#[test]
fn accepted_exceptions_are_listed_and_not_counted() {
    if !is_root() {
        return;
    }
    let host = sound();
    host.give(&host.site_path("config/settings.php"), "root", 0o644);
    host.give(&host.site_path("lib/site.php"), "root", 0o666);
    let accept = |check: &str, path: &str, until: &str| {
        format!("{SITE}[[accept]]\ncheck = \"{check}\"\npath = \"{path}\"\nreason = \"r\"\n{until}")
    };
    let worst = |text: String| {
        let audit = host.audit(&host.site(&text));
        (found(&audit, "secret-exposed").len(), audit.wrong.findings.iter().filter(|f| f.accepted.is_some()).count())
    };
    assert_eq!(worst(accept("secret-exposed", "config", "")), (0, 1));
    assert_eq!(worst(accept("secret-exposed", "lib", "")), (1, 0));
    assert_eq!(worst(accept("secret-exposed", "config", "until = 2026-11-22\n")), (1, 0), "it has run out");
    assert_eq!(worst(accept("secret-exposed", "config", "until = 2026-11-23\n")), (0, 1), "its last day");
}

#[test]
fn a_missing_part_that_php_cannot_make_is_said_and_made() {
    let host = sound();
    let text = format!(
        "{SITE}[[part]]\npath = \"var/sessions/web\"\nuse = \"scratch\"\ncreate = true\n[[part]]\npath = \"var/cache/images\"\nuse = \"scratch\"\n"
    );
    let site = host.site(&text);
    let missed = found(&host.audit(&site), "php-cannot-write");
    assert!(missed.contains(&"var/sessions/web".to_owned()), "{missed:?}");
    assert!(!missed.contains(&"var/cache/images".to_owned()), "PHP makes that itself");
    let outcome = host.set(&site);
    if is_root() {
        assert!(outcome.failures.is_empty(), "{:?}", outcome.failures);
        assert_eq!(host.audit(&site).changes_pending(), 0);
        assert!(host.site_path("var/sessions/web").is_dir());
    }
    host.undo(None, false);
    assert!(!host.site_path("var/sessions").exists());
}

#[test]
fn the_owners_execute_bit_stays_on_programs_and_only_there() {
    if !is_root() {
        return;
    }
    let host = sound();
    let write = |path: &str, content: &[u8], mode: u32| {
        let whole = host.file(path, "root", 0o644);
        fs::write(&whole, content).unwrap();
        host.give_mode(path, mode);
    };
    write("lib/script", b"#!/bin/sh\n", 0o755);
    write("lib/binary", b"\x7fELF\x02\x01", 0o775);
    write("lib/text", b"#! is not at the beginning of a line like this", 0o644);
    write("lib/others-only", b"#!/bin/sh\n", 0o655);
    write("lib/data", b"plain", 0o755);
    let site = host.site(SITE);
    assert_eq!(found(&host.audit(&site), "program-bit"), ["lib/data"]);
    assert!(host.set(&site).failures.is_empty());
    let mode = |path: &str| std::os::unix::fs::MetadataExt::mode(&host.site_path(path).metadata().unwrap()) & 0o777;
    let modes = ["lib/script", "lib/binary", "lib/text", "lib/others-only", "lib/data"].map(mode);
    assert_eq!(modes, [0o755, 0o755, 0o644, 0o644, 0o644]);
    // Cron runs it as PHP's account.
    let ids = host.accounts.account("php").unwrap().ids;
    let script = host.site_path("lib/script");
    assert!(as_account(&ids, move || std::process::Command::new(script).status().is_ok_and(|status| status.success())));
}
