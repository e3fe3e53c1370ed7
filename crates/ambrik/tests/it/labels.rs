//! SELinux labels on the demo's other host, whose kernel is a folder of recorded answers, and in a real policy store.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use rstest::rstest;

use crate::documents::{checked, document};
use crate::host::{Ran, TestHost, content, is_root};

/// The demo's other host.
struct Other {
    demo: TestHost,
    root: PathBuf,
}

impl Other {
    fn new() -> Option<Self> {
        if !is_root() {
            return None;
        }
        let demo = TestHost::empty();
        let folder = demo.at("demo");
        let built = demo.command_without_host(&["demo", "--build-only", folder.to_str().unwrap()]).output().unwrap();
        assert!(built.status.success());
        let root = folder.join("srv/images/quay-2");
        if Self::label_at(&root.join("srv/www/berths")).is_none() {
            test_support::skipped("labels cannot be set here as plain attributes");
            return None;
        }
        Some(Self { demo, root })
    }

    fn run(&self, words: &[&str]) -> Ran {
        let host = self.root.to_str().unwrap();
        self.demo.told(&self.demo.command_without_host(&[&["--host", host], words].concat()).output().unwrap())
    }

    fn at(&self, path: &str) -> PathBuf {
        self.root.join(path.trim_start_matches('/'))
    }

    fn label_at(path: &Path) -> Option<String> {
        let mut value = vec![0; 256];
        let length = rustix::fs::lgetxattr(path, "security.selinux", &mut value[..]).ok()?;
        Some(String::from_utf8_lossy(&value[..length]).trim_end_matches('\0').to_owned())
    }

    fn type_of(&self, path: &str) -> String {
        Self::label_at(&self.at(path)).unwrap_or_default().split(':').nth(2).unwrap_or_default().to_owned()
    }

    fn site(&self) -> String {
        fs::read_to_string(self.at("etc/ambrik/sites/berths.toml")).unwrap()
    }

    fn write_site(&self, text: &str) {
        fs::write(self.at("etc/ambrik/sites/berths.toml"), text).unwrap();
    }

    fn relabel(&self, path: &str, label: &str) {
        let flags = rustix::fs::XattrFlags::empty();
        rustix::fs::lsetxattr(self.at(path), "security.selinux", label.as_bytes(), flags).unwrap();
    }
}

const PATHS: [(&str, &str); 6] = [
    ("/srv/www/berths/index.php", "httpd_sys_content_t"),
    ("/srv/www/berths/lib", "httpd_sys_content_t"),
    ("/srv/www/berths/config/settings.php", "httpd_sys_content_t"),
    ("/srv/www/berths/uploads/q01.svg", "httpd_sys_rw_content_t"),
    ("/srv/www/berths/var/cache", "httpd_cache_t"),
    ("/var/log/berths/berths.log", "httpd_sys_ra_content_t"),
];

#[test]
fn each_part_gets_the_type_of_its_use_and_back() {
    let Some(host) = Other::new() else { return };
    let before: Vec<String> = PATHS.iter().map(|(path, _)| host.type_of(path)).collect();
    let audit = host.run(&["audit", "--fail-on", "never"]);
    for check in ["label-blocks", "label-too-wide"] {
        assert!(audit.out.contains(check), "{audit:?}");
    }
    let why = host.run(&["why", "/srv/www/berths/uploads"]);
    assert!(why.out.contains("its SELinux label var_t does not let httpd_t create"), "{why:?}");
    let writable = |host: &Other| {
        let told = host.run(&["why", "--writable", "berths", "--format", "json"]).out;
        let told: serde_json::Value = serde_json::from_str(&told).unwrap();
        let paths = told["everything"]["paths"]
            .as_array()
            .unwrap()
            .iter()
            .map(|able| able["path"].as_str().unwrap().to_owned());
        paths.collect::<Vec<String>>()
    };
    assert_eq!(writable(&host), Vec::<String>::new(), "no label lets PHP write what the modes let it");
    host.relabel("/srv/www/berths/uploads/q01.svg", "staff_u:object_r:var_t:s0:c1\0");
    let set = host.run(&["set", "--yes"]);
    // A disk's own rules cannot be changed from here.
    assert_eq!(set.code, 1, "{set:?}");
    assert!(
        set.err.contains("do not outlast a relabelling") && set.err.contains("on the host: semodule -i"),
        "{set:?}"
    );
    assert!(!set.out.contains("labels last"), "{set:?}");
    for (path, want) in PATHS {
        assert_eq!(host.type_of(path), want, "{path}");
    }
    assert!(writable(&host).iter().any(|path| path.ends_with("uploads/q01.svg")), "{:?}", writable(&host));
    let odd = Other::label_at(&host.at("srv/www/berths/uploads/q01.svg")).unwrap();
    assert_eq!(
        odd, "system_u:object_r:httpd_sys_rw_content_t:s0",
        "one that the policy does not know is replaced whole"
    );
    let module = fs::read_to_string(host.at("var/lib/ambrik/modules/ambrik_berths.cil")).unwrap();
    assert!(
        module.contains("(filecon \"/srv/www/berths/uploads(/.*){0,1}\" any (system_u object_r httpd_sys_rw_content_t"),
        "{module}"
    );
    let again = host.run(&["set", "--preview"]);
    assert!(again.code == 1 && again.out.contains("nothing to do"), "{again:?}");
    assert!(again.err.contains("do not outlast a relabelling"), "{again:?}");
    let audit = host.run(&["audit", "--fail-on", "never"]).out.replace("\n            ", " ");
    assert!(audit.contains("label-not-kept") && audit.contains("install it and run `ambrik set berths`"), "{audit}");
    assert_eq!(host.run(&["undo", "--yes"]).code, 0);
    let after: Vec<String> = PATHS.iter().map(|(path, _)| host.type_of(path)).collect();
    assert_eq!(after, before);
}

/// What is removed, moved and made keeps its label, or has one.
#[test]
fn keepsakes_and_moves_keep_labels() {
    let Some(host) = Other::new() else { return };
    fs::write(host.at("srv/www/berths/old.sql"), content("old.sql")).unwrap();
    std::os::unix::fs::symlink("old.sql", host.at("srv/www/berths/old.bak")).unwrap();
    for path in ["/srv/www/berths/old.sql", "/srv/www/berths/old.bak"] {
        host.relabel(path, "system_u:object_r:etc_t:s0\0");
    }
    let site = host.site();
    host.write_site(&format!("{site}\n[[part]]\npath = \"spool\"\nuse = \"store\"\ncreate = true\n"));
    let sealed = host.run(&["seal", "berths", "--yes"]);
    // A disk's own rules cannot be changed from here, so that the labels do not last remains.
    assert_eq!(sealed.code, 1, "{sealed:?}");
    assert!(host.run(&["audit"]).out.contains("label-not-kept"));
    assert!(!host.at("srv/www/berths/old.sql").exists());
    assert_eq!(host.type_of("/srv/www/berths/spool"), "httpd_sys_rw_content_t");
    let moved = host.run(&["move", "berths", "uploads", "/var/lib/berths/uploads", "--yes"]);
    assert_eq!(moved.code, 0, "{moved:?}");
    assert_eq!(host.type_of("/var/lib/berths/uploads/q01.svg"), "httpd_sys_rw_content_t");
    assert_eq!(host.run(&["undo", "--since", "1", "--yes"]).code, 0);
    assert_eq!(host.type_of("/srv/www/berths/old.sql"), "etc_t");
    assert_eq!(host.type_of("/srv/www/berths/uploads/q01.svg"), "var_t");
    assert_eq!(host.site(), format!("{site}\n[[part]]\npath = \"spool\"\nuse = \"store\"\ncreate = true\n"));
}

#[test]
fn a_label_is_set_whole_where_that_is_asked_for() {
    let Some(host) = Other::new() else { return };
    host.run(&["set", "--yes"]);
    let file = "/srv/www/berths/uploads/q01.svg";
    let other = "unconfined_u:object_r:httpd_sys_rw_content_t:s0";
    fs::write(host.at("sys/fs/selinux/context"), {
        let valid = fs::read_to_string(host.at("sys/fs/selinux/context")).unwrap();
        format!("{valid}{other}\n")
    })
    .unwrap();
    let access = fs::read_to_string(host.at("sys/fs/selinux/access")).unwrap();
    let own = access.replace("system_u:object_r:httpd_sys_rw", "unconfined_u:object_r:httpd_sys_rw");
    fs::write(host.at("sys/fs/selinux/access"), format!("{access}{own}")).unwrap();
    host.relabel(file, &format!("{other}\0"));
    assert!(host.run(&["set", "--preview"]).out.contains("nothing to do"), "the type is right");
    let set = host.run(&["set", "--whole-label", "--yes"]);
    assert!(set.code == 1 && set.out.contains("1 path changed"), "{set:?}");
    assert_eq!(Other::label_at(&host.at(file)).unwrap(), "system_u:object_r:httpd_sys_rw_content_t:s0");
}

#[test]
fn labels_stand_side_by_side() {
    let Some(host) = Other::new() else { return };
    let told = host.run(&["audit", "--labels"]);
    assert_eq!(told.code, 1, "{told:?}");
    assert!(told.out.contains("paths do not have the right labels"), "{told:?}");
    let ran = host.run(&["audit", "--labels", "--format", "json"]);
    let said = checked(&ran.out, "audit");
    assert_eq!(said["selinux"], "enforcing");
    let lines = said["sites"][0]["labels"].as_array().unwrap();
    let logs = lines.iter().find(|line| line["part"] == "/var/log/berths").unwrap();
    assert_eq!(
        (&logs["now"], &logs["relabelled"], &logs["wanted"], &logs["right"], &logs["count"]),
        (&"var_log_t".into(), &"var_log_t".into(), &"httpd_sys_ra_content_t".into(), &false.into(), &2.into())
    );
    let script = host.run(&["set", "--as-script"]);
    assert!(
        script.out.contains("enter /var/log\n") && script.out.contains("chcon -h -t httpd_sys_ra_content_t ./berths"),
        "{script:?}"
    );
    assert!(script.out.contains("semodule -i \"$modules/ambrik_berths.cil\""), "{script:?}");
    let changes = checked(&host.run(&["set", "--preview", "--format", "json"]).out, "changes");
    let labels = changes["sites"][0]["changes"].as_array().unwrap().iter().filter(|change| change["what"] == "label");
    assert!(
        labels.clone().count() > 20 && labels.clone().all(|change| change["to"].as_str().unwrap().contains("_t:s0"))
    );
}

#[rstest]
#[case::asked_for("type = \"httpd_var_lib_t\"\n", 1, "")]
#[case::useless(
    "type = \"httpd_config_t\"\n",
    2,
    "part uploads: type = \"httpd_config_t\" does not let httpd_t do there what use = \"store\" is for"
)]
#[case::unknown("type = \"harbour_t\"\n", 2, "part uploads: type = \"harbour_t\" is no type of this host's policy")]
fn a_type_of_ones_own(#[case] line: &str, #[case] code: i32, #[case] says: &str) {
    let Some(host) = Other::new() else { return };
    host.write_site(&host.site().replace("path = \"uploads\"\n", &format!("path = \"uploads\"\n{line}")));
    let set = host.run(&["set", "--yes"]);
    assert_eq!(set.code, code, "{set:?}");
    assert!(set.err.contains(says), "{set:?}");
    let want = if code == 1 { "httpd_var_lib_t" } else { "var_t" };
    assert_eq!(host.type_of("/srv/www/berths/uploads/q01.svg"), want);
}

#[rstest]
#[case::switched_off("sys/fs/selinux/enforce", "0", "permissive now, and enforcing from the next start on")]
#[case::for_good(
    "etc/selinux/config",
    "SELINUX=disabled\nSELINUXTYPE=targeted\n",
    "enforcing now, and off from the next start on"
)]
fn a_host_that_is_not_protected(#[case] file: &str, #[case] text: &str, #[case] says: &str) {
    let Some(host) = Other::new() else { return };
    fs::write(host.at(file), text).unwrap();
    let audit = host.run(&["audit", "--fail-on", "never"]);
    assert!(
        audit.out.contains("label-protection-off") && audit.out.replace("\n          ", " ").contains(says),
        "{audit:?}"
    );
}

#[test]
fn a_malformed_rule_is_named_and_nothing_else_fails() {
    let Some(host) = Other::new() else { return };
    fs::write(host.at("etc/selinux/targeted/contexts/files/file_contexts.local"), "# ours\n/srv/www\n").unwrap();
    let audit = host.run(&["audit", "--fail-on", "never"]);
    assert!(audit.err.contains("file_contexts.local:2: a rule is a path"), "{audit:?}");
    assert!(audit.out.contains("label-blocks"), "{audit:?}");
}

#[test]
fn switches_that_a_site_needs() {
    let Some(host) = Other::new() else { return };
    fs::create_dir_all(host.at("sys/fs/selinux/booleans")).unwrap();
    fs::write(host.at("sys/fs/selinux/booleans/httpd_can_network_connect_db"), "0 0").unwrap();
    host.write_site(&format!("{}\n[selinux]\nswitches = [\"httpd_can_network_connect_db\"]\n", host.site()));
    let audit = host.run(&["audit", "--fail-on", "never"]);
    assert!(audit.out.contains("switch-differs") && audit.out.contains("httpd_can_network_connect_db"), "{audit:?}");
    let right = host.site();
    host.write_site(&right.replace("connect_db", "conect_db"));
    let misspelt = host.run(&["set", "--preview"]);
    assert_eq!(misspelt.code, 2, "{misspelt:?}");
    assert!(misspelt.err.contains("it has \"httpd_can_network_connect_db\""), "{misspelt:?}");
    host.write_site(&right.replace("\"httpd_can_network_connect_db\"", "7"));
    let wrong = host.run(&["audit"]);
    assert_eq!(wrong.code, 2, "{wrong:?}");
    assert!(wrong.err.contains("this cannot stand in switches"), "{wrong:?}");
}

#[rstest]
fn denials_are_answered(#[values("1", "0")] enforce: &str) {
    let Some(host) = Other::new() else { return };
    // On a permissive host they went through, and will not.
    fs::write(host.at("sys/fs/selinux/enforce"), enforce).unwrap();
    let inode = std::os::unix::fs::MetadataExt::ino(&host.at("srv/www/berths/uploads").metadata().unwrap());
    let stamp = |serial| format!("type=AVC msg=audit(1763910000.1:{serial}): avc:  denied");
    let domain = "scontext=system_u:system_r:httpd_t:s0";
    let log = [
        format!(
            "{} {{ write }} for  pid=7 comm=\"php-fpm\" name=\"uploads\" dev=\"vda\" ino={inode} {domain} tcontext=system_u:object_r:var_t:s0 tclass=dir permissive=0",
            stamp(1)
        ),
        format!(
            "{} {{ write }} for  pid=7 comm=\"php-fpm\" path=\"/srv/www/berths/index.php\" {domain} tcontext=system_u:object_r:var_t:s0 tclass=file permissive=0",
            stamp(2)
        ),
        format!(
            "{} {{ name_connect }} for  pid=7 comm=\"php-fpm\" dest=3306 {domain} tcontext=system_u:object_r:mysqld_port_t:s0 tclass=tcp_socket permissive=0",
            stamp(3)
        ),
    ];
    let file = host.demo.write("audit.log", log.join("\n"));
    let told = host.run(&["why", "--from-log", file.to_str().unwrap()]);
    assert_eq!(told.code, 1, "{told:?}");
    let flat = told.out.split_whitespace().collect::<Vec<_>>().join(" ");
    for words in [
        "Still refused, and the site file wants it",
        "/srv/www/berths/uploads",
        "/srv/www/berths/index.php",
        "httpd_sys_rw_content_t",
        "PHP could not connect to port 3306 (mysqld_port_t)",
        "setsebool -P httpd_can_network_connect_db on",
    ] {
        assert!(flat.contains(words), "{words}: {}", told.out);
    }
    let said = checked(&host.run(&["why", "--from-log", file.to_str().unwrap(), "--format", "json"]).out, "why");
    assert_eq!(said["no_files"][0]["switch"], "httpd_can_network_connect_db");
}

/// A directory above whose label keeps PHP out is told of, with the rule that lets it through, and nothing else is proposed.
#[test]
fn the_way_to_a_site_counts() {
    let Some(host) = Other::new() else { return };
    host.run(&["set", "--yes"]);
    host.relabel("/srv", "system_u:object_r:user_home_t:s0\0");
    let audit = host.run(&["audit", "--fail-on", "never"]).out.replace("\n          ", " ");
    assert!(audit.contains("user_home_t of /srv, which httpd_t may not pass through"), "{audit}");
    let why = host.run(&["why", "/srv/www/berths/index.php"]).out;
    assert!(!why.contains("setfacl") && why.contains("/srv: user_home_t; by hand:"), "{why}");
    let set = host.run(&["set", "--yes"]);
    assert!(set.code == 1 && set.err.contains("which httpd_t may not pass through; by hand: "), "{set:?}");
}

/// Labels path by path, and an exit code by what is shown.
#[test]
fn labels_are_listed_and_the_exit_code_is_theirs() {
    let Some(host) = Other::new() else { return };
    let listed = host.run(&["audit", "--labels", "--each"]);
    assert!(listed.code == 1 && listed.out.contains("uploads/q01.svg"), "{listed:?}");
    let said = checked(&host.run(&["audit", "--labels", "--each", "--format", "json"]).out, "audit");
    let lines = said["sites"][0]["labels"].as_array().unwrap();
    assert!(lines.iter().any(|line| line["path"] == "uploads/q01.svg" && line["given"] == false), "{lines:?}");
    fs::remove_dir_all(host.at("etc/selinux/targeted/contexts/files")).unwrap();
    host.run(&["set", "--yes"]);
    fs::write(host.at("srv/www/berths/index.php"), "<?php\n").unwrap();
    fs::set_permissions(host.at("srv/www/berths/index.php"), std::os::unix::fs::PermissionsExt::from_mode(0o666))
        .unwrap();
    let labels = host.run(&["audit", "--labels"]);
    assert_eq!(labels.code, 0, "modes are no matter of labels: {labels:?}");
}

#[test]
fn a_host_without_selinux_says_so_in_a_line() {
    let host = TestHost::new();
    let told = host.run(&["audit", "--labels"]);
    assert_eq!((told.code, &*told.out), (0, "berths: no SELinux on this host: labels do nothing\n"));
    assert_eq!(document(&host, &["audit"], "audit")["selinux"], "off");
}

/// In a real policy store, in a folder: installed the rules give each part its type, and without it they are as before.
#[test]
fn the_module_makes_labels_last() {
    let store = Path::new("/var/lib/selinux/default/active");
    let has = |program: &str| Command::new(program).arg("--help").output().is_ok();
    if !store.exists() || !has("semodule") || !has("matchpathcon") {
        test_support::skipped("there is no policy store, or semodule and matchpathcon are not installed");
        return;
    }
    let Some(host) = Other::new() else { return };
    for folder in ["var/lib/selinux", "etc/selinux"] {
        fs::create_dir_all(host.at(folder)).unwrap();
        let from = Path::new("/").join(folder).join("default");
        let copied = Command::new("cp").arg("-a").arg(from).arg(host.at(folder)).status().unwrap();
        assert!(copied.success());
    }
    fs::write(host.at("etc/selinux/config"), "SELINUX=enforcing\nSELINUXTYPE=default\n").unwrap();
    let rules = host.at("etc/selinux/default/contexts/files/file_contexts");
    let system = |path: &str| {
        let output =
            Command::new("matchpathcon").args(["-n", "-m", "file", "-f"]).arg(&rules).arg(path).output().unwrap();
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        text.split(':').nth(2).unwrap_or_default().to_owned()
    };
    let probes =
        ["/srv/www/berths/x.php", "/srv/www/berths/uploads/a/b.svg", "/var/log/berths/x", "/srv/www/berthsx", "/srv"];
    let look = || probes.map(&system);
    let before = look();
    let set = host.run(&["set", "--yes"]);
    assert_eq!(set.code, 0, "{set:?}");
    assert!(set.out.contains("policy  module ambrik_berths"), "{set:?}");
    let [code, store, log, beside, above] = look();
    assert_eq!([&*code, &*store, &*log], ["httpd_sys_content_t", "httpd_sys_rw_content_t", "httpd_sys_ra_content_t"]);
    assert_eq!([&beside, &above], [&before[3], &before[4]], "what is beside it stays");
    let audit = host.run(&["audit", "--labels"]);
    assert!(audit.out.contains("labels are right, and a relabelling keeps them"), "{audit:?}");
    assert_eq!(host.run(&["set", "--preview"]).code, 0);
    // Forgotten and taken back: the rules follow.
    let forgotten = host.run(&["set", "berths", "--forget", "--yes"]);
    assert_eq!((forgotten.code, look() == before), (0, true), "{forgotten:?}");
    assert_eq!(host.run(&["undo", "--yes"]).code, 0);
    assert_eq!(look()[1], "httpd_sys_rw_content_t");
    // Another type replaces the module, and does not add one.
    host.write_site(&host.site().replace("path = \"uploads\"\n", "path = \"uploads\"\ntype = \"httpd_var_lib_t\"\n"));
    let set = host.run(&["set", "--yes"]);
    assert!(set.out.contains("policy  module"), "{set:?}");
    assert_eq!(look()[1], "httpd_var_lib_t");
    let modules = fs::read_dir(host.at("var/lib/selinux/default/active/modules/400")).unwrap();
    let names = modules.map(|module| module.unwrap().file_name().to_string_lossy().into_owned());
    assert_eq!(names.filter(|name| name.starts_with("ambrik_")).collect::<Vec<_>>(), ["ambrik_berths"]);
}
