//! `accounts`: what it says where there is much, little or nothing to see.

use crate::host::TestHost;

fn with(files: &[(&str, &str)]) -> TestHost {
    let host = TestHost::new();
    for (path, text) in files {
        host.write(path, text);
    }
    host
}

const NGINX: (&str, &str) = (
    "etc/nginx/nginx.conf",
    "user web;\nhttp { server { root /srv/www/berths; location ~ \\.php$ { fastcgi_pass unix:/run/berths.sock; } } }\n",
);
const POOL: (&str, &str) =
    ("etc/php-fpm.conf", "[berths]\nuser = php\nlisten = /run/berths.sock\nlisten.owner = web\n");

#[test]
fn nothing_to_see_is_said_first() {
    let ran = with(&[]).run(&["accounts"]);
    assert_eq!((ran.code, &*ran.err), (0, ""));
    let mut lines = ran.out.lines();
    assert_eq!(
        lines.next().unwrap(),
        "quay-1: no web server and no PHP service was found, neither running nor configured"
    );
    assert_eq!(lines.next().unwrap(), "  no processes could be looked at: this is what the configuration says");
    assert_eq!(lines.next(), None);
}

#[test]
fn configured_and_not_running_is_said_first() {
    let ran = with(&[NGINX, POOL]).run(&["accounts"]);
    let first = ran.out.lines().next().unwrap();
    assert_eq!(first, "quay-1: PHP runs as php; static files: web (configured; nothing of it runs)");
    let row: Vec<&str> =
        ran.out.lines().find(|line| line.contains("/srv/www/berths")).unwrap().split_whitespace().collect();
    assert_eq!(row, ["/srv/www/berths", "nginx", "pool", "berths", "php", "web", "config"]);
    assert!(!ran.out.contains("Disagreements"), "{}", ran.out);
}

#[test]
fn what_is_not_understood_stands_below_with_its_line() {
    let broken = ("etc/nginx/conf.d/x.conf", "");
    let including =
        ("etc/nginx/nginx.conf", "user web;\nhttp {\n include conf.d/none.conf;\n server { root $where; }\n}\n");
    let ran = with(&[including, broken]).run(&["accounts"]);
    let below = ran.out.split("Not understood\n").nth(1).unwrap();
    assert!(
        below.contains("/etc/nginx/nginx.conf:3: it includes /etc/nginx/conf.d/none.conf, which is not there"),
        "{below}"
    );
    assert!(below.contains("/etc/nginx/nginx.conf:4: root $where: made of variables"), "{below}");
}

#[test]
fn several_candidates_are_named_in_the_row() {
    let second = ("etc/php/8.2/fpm/php-fpm.conf", "[other]\nuser = user\nlisten = /run/berths.sock\n");
    let ran = with(&[NGINX, POOL, second]).run(&["accounts"]);
    assert!(ran.out.contains("user or php") && ran.out.contains("of pool other or berths"), "{}", ran.out);
    let words: Vec<&str> = ran.out.split_whitespace().collect();
    assert!(words.join(" ").contains("listen on one socket, /run/berths.sock"), "{}", ran.out);
}

#[test]
fn nothing_is_wider_than_a_hundred_columns() {
    let long = "server_name a; root /srv/www/a-very-long-name-of-a-folder/that-goes-on/and-on/and-on; ";
    let config = format!(
        "user web;\nhttp {{ server {{ {long} location ~ \\.php$ {{ fastcgi_pass unix:/run/{}.sock; }} }} }}\n",
        "x".repeat(60)
    );
    let ran = with(&[("etc/nginx/nginx.conf", &config)]).run(&["accounts"]);
    let widest = ran.out.lines().map(|line| line.chars().count()).max().unwrap();
    assert!(widest <= 100, "{widest}: {}", ran.out);
}

#[test]
fn a_configuration_that_cannot_be_read_is_said() {
    let mut host = with(&[NGINX, POOL]);
    if !crate::host::is_root() {
        return;
    }
    crate::host::give(&host.at("etc/php-fpm.conf"), 0, 0o600);
    host.run_as = Some(61_009);
    let ran = host.run(&["accounts"]);
    assert_eq!(ran.code, 0);
    assert!(ran.out.contains("/etc/php-fpm.conf: not read ("), "{}", ran.out);
}

#[test]
fn web_is_found_and_php_named() {
    let host = with(&[NGINX]);
    host.write("etc/ambrik/sites/berths.toml", "[site]\nroot = \"/srv/www/berths\"\n[accounts]\nphp = \"php\"\n");
    let ran = host.run(&["audit", "berths", "--format", "json"]);
    let audit: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
    assert_eq!(audit["sites"][0]["accounts"]["web"], "web:web");
    assert!(ran.err.contains("berths: web is left out of the site file; found web (nginx serves"), "{}", ran.err);
}

#[test]
fn without_anything_to_go_by_php_must_be_named() {
    let host = with(&[]);
    host.write("etc/ambrik/sites/berths.toml", "[site]\nroot = \"/srv/www/berths\"\n");
    let ran = host.run(&["audit", "berths"]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("[accounts] does not name php, and nothing here tells"), "{}", ran.err);
    assert!(ran.err.contains("`ambrik accounts` lists those of this host"), "{}", ran.err);
}
