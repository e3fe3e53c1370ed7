//! What is really served, against what the site file says: another document root, links and aliases that lead out of it.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};

use rstest::rstest;

use crate::host::{PHP, TestHost, give, is_root, picture};

/// The web server's own account in the tests' host.
const WEB: u32 = 61_002;

const APACHE: &str = "etc/apache2/apache2.conf";
const NGINX: &str = "etc/nginx/nginx.conf";

/// A host on which a web server serves what its configuration says; the site file says what is served.
fn served(file: &str, configuration: &str, says: &str) -> TestHost {
    let host = TestHost::new();
    host.write(file, configuration);
    site(&host, says, "");
    for path in ["index.php", "public/index.php", "public/style.css", "web/index.php"] {
        host.file(path, PHP, 0o644);
    }
    host
}

fn site(host: &TestHost, says: &str, parts: &str) {
    host.write(
        "etc/ambrik/sites/berths.toml",
        format!(
            "[site]\nroot = \"/srv/www/berths\"\n{says}\n[accounts]\nphp = \"php\"\nweb = \"web\"\nothers = \"none\"\n{parts}"
        ),
    );
}

fn nginx(inside: &str) -> String {
    format!("user web;\nhttp {{ server {{ listen 80;\n{inside}\n}} }}\n")
}

/// Where the host says otherwise than the site file, nothing is changed, and the audit says so.
#[rstest]
#[case::typing_error(NGINX, &nginx("root /srv/www/berths/public;"), "served = \"pubic\"", "pubic is not there")]
#[case::typing_error_and_no_server("etc/motd", "", "served = \"pubic\"", "pubic is not there")]
#[case::a_file("etc/motd", "", "served = \"index.php\"", "index.php is a file, no folder")]
#[case::another_folder(NGINX, &nginx("root /srv/www/berths/web;"), "served = \"public\"", "nginx serves /srv/www/berths/web")]
#[case::left_out(NGINX, &nginx("root /srv/www/berths/public;"), "", "nginx serves /srv/www/berths/public")]
#[case::all_of_it(NGINX, &nginx("root /srv/www/berths;"), "served = \"public\"", "nginx serves /srv/www/berths (")]
#[case::by_another_server(
    APACHE,
    "<VirtualHost *:80>\nDocumentRoot /srv/www/berths/web\n</VirtualHost>\n",
    "served = \"public\"",
    "serves /srv/www/berths/web"
)]
fn another_document_root_is_settled_first(
    #[case] file: &str,
    #[case] configuration: &str,
    #[case] says: &str,
    #[case] why: &str,
) {
    if !is_root() {
        return;
    }
    let host = served(file, configuration, says);
    let before = picture(&host.at("srv"));
    let flat = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    for words in [
        &["set", "berths", "--yes"][..],
        &["set", "--as-script"],
        &["set", "--preview"],
        &["open", "berths", "--yes"],
        &["seal", "berths", "--yes", "--unfinished"],
    ] {
        let ran = host.run(words);
        assert_eq!(ran.code, 2, "{words:?}: {ran:?}");
        assert!(flat(&ran.err).contains(why) && ran.err.contains("--served-anyway"), "{words:?}: {ran:?}");
    }
    assert_eq!(picture(&host.at("srv")), before);
    let audit = host.run(&["audit"]);
    assert_eq!(audit.code, 1, "{audit:?}");
    assert!(audit.out.contains("served-differs") && flat(&audit.out).contains(why), "{audit:?}");
    let ran = host.run(&["set", "berths", "--yes", "--served-anyway"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(host.run(&["audit"]).out.contains("served-differs"), "it still differs");
}

/// What the configuration says as well is no reason to stop.
#[rstest]
#[case::the_same(&nginx("root /srv/www/berths/public;"), "served = \"public\"")]
#[case::one_of_several(&nginx("root /srv/www/berths/public;\n} server { listen 81; root /srv/www/berths/web;"), "served = \"public\"")]
#[case::below_a_served_folder(&nginx("root /srv/www;"), "")]
#[case::as_an_alias(&nginx("root /var/www;\nlocation /berths { alias /srv/www/berths/public; }"), "served = \"public\"")]
#[case::another_site(&nginx("root /srv/www/tidewatch;"), "served = \"public\"")]
fn the_document_root_may_be_served_in_many_ways(#[case] configuration: &str, #[case] says: &str) {
    if !is_root() {
        return;
    }
    let host = served(NGINX, configuration, says);
    let ran = host.run(&["set", "berths", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(!host.run(&["audit"]).out.contains("served-differs"));
}

/// What a link of the application, an alias of the server or the site file says to be served, visitors get; what PHP can
/// link does not count.
#[rstest]
#[case::linked("storage/files", Some("public/storage"), "", true)]
#[case::linked_deep("storage/files", Some("public/a/b/c/storage"), "", true)]
#[case::linked_deeper_than_is_looked_before("storage/files", Some("public/a/b/c/d/e/f/storage"), "", true)]
#[case::linked_outside("/var/lib/berths/files", Some("public/storage"), "", true)]
#[case::alias("storage/files", None, "location /files { alias /srv/www/berths/storage/files; }", true)]
#[case::said_by_hand("storage/files", None, "by hand", true)]
#[case::nothing_leads_there("storage/files", None, "", false)]
#[case::linked_by_php("storage/files", Some("public/uploads/storage"), "", false)]
fn what_is_served_besides_is_readable(
    #[case] store: &str,
    #[case] link: Option<&str>,
    #[case] inside: &str,
    #[case] want: bool,
) {
    if !is_root() {
        return;
    }
    let by_hand = inside == "by hand";
    let inside = if by_hand { "" } else { inside };
    let host = served(NGINX, &nginx(&format!("root /srv/www/berths/public;\n{inside}")), "");
    let said = if by_hand { "served = true\n" } else { "" };
    let parts = format!(
        "[[part]]\npath = \"{store}\"\nuse = \"store\"\n{said}[[part]]\npath = \"public/uploads\"\nuse = \"store\"\n\
         [[part]]\npath = \"storage/sessions\"\nuse = \"scratch\"\n"
    );
    site(&host, "served = \"public\"", &parts);
    let at =
        |path: &str| host.at("srv/www/berths").join(path.strip_prefix('/').map_or(path.into(), |below| host.at(below)));
    for file in [format!("{store}/map.svg"), "storage/sessions/one".into(), "public/uploads/a.svg".into()] {
        fs::create_dir_all(at(&file).parent().unwrap()).unwrap();
        fs::write(at(&file), "").unwrap();
        give(&at(&file), PHP, 0o600);
    }
    if let Some(link) = link {
        fs::create_dir_all(at(link).parent().unwrap()).unwrap();
        let target = if store.starts_with('/') { store.to_owned() } else { format!("/srv/www/berths/{store}") };
        symlink(target, at(link)).unwrap();
    }
    let before = host.run(&["audit", "--fail-on", "never"]);
    let ran = host.run(&["set", "berths", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?} {before:?}");
    let reads = |path: &str| {
        let meta = fs::metadata(at(path)).unwrap();
        meta.gid() == WEB && meta.mode() & 0o040 != 0
    };
    assert_eq!(
        reads(&format!("{store}/map.svg")),
        want,
        "{:?}",
        fs::metadata(at(&format!("{store}/map.svg"))).unwrap()
    );
    assert!(reads("public/uploads/a.svg") && !reads("storage/sessions/one"));
    assert_eq!(host.run(&["set", "--preview"]).code, 0, "it is as it should be");
    // Where the web server cannot read it the audit says so.
    give(&at(&format!("{store}/map.svg")), PHP, 0o600);
    assert_eq!(host.run(&["audit"]).out.contains("web-cannot-read"), want);
}

/// What lies around the site and is served with it is told of, and left to whoever put it there.
#[rstest]
#[case::archive("srv/www/berths.zip", &["srv/www"], true)]
#[case::dump_further_up("srv/berths.sql.gz", &["srv"], true)]
#[case::beside_what_is_served("srv/www/berths.zip", &["srv/www/berths"], false)]
#[case::no_archive("srv/www/berths.html", &["srv/www"], false)]
#[case::in_another_site("srv/www/berths.zip", &["srv/www", "a site"], false)]
fn archives_beside_the_site_are_found(#[case] path: &str, #[case] roots: &[&str], #[case] want: bool) {
    let host = served(NGINX, &nginx(&format!("root /{};", roots[0])), "");
    host.write(path, "PK");
    if roots.len() > 1 {
        host.write("etc/ambrik/sites/all.toml", "[site]\nroot = \"/srv/www\"\n[accounts]\nphp = \"php\"\n");
    }
    let before = picture(&host.at("srv"));
    let audit = host.run(&["audit", "berths"]);
    assert_eq!(audit.out.contains("archive-beside"), want, "{audit:?}");
    assert!(!want || audit.out.contains(&format!("/{path}")), "{audit:?}");
    assert_eq!(picture(&host.at("srv")), before);
}

/// A served folder that cannot be listed may hold archives: that is said.
#[test]
fn a_folder_that_cannot_be_listed_is_not_said_to_hold_nothing() {
    if !is_root() {
        return;
    }
    let mut host = served("etc/nginx/nginx.conf", "http { server { root /srv/www; } }", "");
    host.run_as = Some(61_009);
    let told =
        |host: &TestHost| host.run(&["audit", "berths"]).out.contains("archives in a served folder around the site");
    assert!(!told(&host));
    fs::set_permissions(host.at("srv/www"), fs::Permissions::from_mode(0o711)).unwrap();
    assert!(told(&host));
}

/// An installer under another name is an installer, whatever the name; what is none is not.
#[rstest]
fn installers_are_known_by_what_they_do(
    #[values(
        "install_",
        "_install.old",
        "old-install",
        "install2",
        "installbak",
        "disabled",
        "done",
        "INSTALL",
        "x",
        "setup-done",
        "install.done",
        "zz/installer-off"
    )]
    name: &str,
) {
    let host = served("etc/motd", "", "");
    let page = include_str!("../../demo/berths/install/index.php");
    host.write(&format!("srv/www/berths/{name}/index.php"), page);
    host.write(&format!("srv/www/berths/{name}-page.php"), page);
    host.write("srv/www/berths/admin/settings.php", "<?php // edits the settings\n$_POST; is_writable('x'); ?><form>");
    let audit = host.run(&["audit", "--each"]);
    let known = audit.out.contains("installer-left") && !audit.out.contains(&format!("{name}/index.php"));
    assert!(known || audit.out.contains(&format!("{name}/index.php")), "{audit:?}");
    assert!(audit.out.contains("installer-renamed") && audit.out.contains(&format!("{name}-page.php")), "{audit:?}");
    let flat = audit.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(flat.contains("writes the settings, checks what is writable"), "{audit:?}");
    let (_, renamed) = flat.split_once("installer-renamed").unwrap();
    assert!(!renamed.split("medium").next().unwrap().contains("admin/"), "{audit:?}");
}

/// The draft knows the address, and the pages, that a web server's configuration names.
#[rstest]
#[case::by_name(NGINX, "listen 8080; server_name berths.example *.example; root /srv/www/berths/public; index start.php;", "http://berths.example:8080/", &["/", "/start.php"])]
#[case::by_address(NGINX, "listen 127.0.0.1:80; root /srv/www/berths/public;", "http://127.0.0.1/", &["/", "/index.php"])]
#[case::tls(NGINX, "listen 443 ssl; server_name berths.example; root /srv/www/berths/public;", "https://berths.example/", &["/", "/index.php"])]
#[case::alias(NGINX, "listen 80; server_name h.example; root /var/www; location /b { alias /srv/www/berths/public; }", "http://h.example/b/", &["/", "/index.php"])]
#[case::another_server(
    APACHE,
    "<VirtualHost *:80>\nServerName berths.example\nDirectoryIndex style.css\nDocumentRoot /srv/www/berths/public\n</VirtualHost>\n",
    "http://berths.example/",
    &["/", "/style.css"]
)]
fn the_address_is_drafted(#[case] file: &str, #[case] inside: &str, #[case] url: &str, #[case] pages: &[&str]) {
    let configuration = match file {
        NGINX => format!("user web;\nhttp {{ server {{ {inside} }} }}\n"),
        _ => inside.to_owned(),
    };
    let host = served(file, &configuration, "");
    host.write("srv/www/berths/public/start.php", "<?php");
    let draft = host.run(&["survey", "/srv/www/berths"]);
    assert!(draft.out.contains(&format!("url    = \"{url}\"")), "{draft:?}");
    let json: serde_json::Value =
        serde_json::from_str(&host.run(&["survey", "/srv/www/berths", "--format", "json"]).out).unwrap();
    assert_eq!((&json["url"], &json["pages"]), (&url.into(), &serde_json::json!(pages)));
}
