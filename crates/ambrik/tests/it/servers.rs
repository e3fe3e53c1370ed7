//! Real servers from the distribution's packages, in namespaces of their own: processes, network, file systems.

use std::path::Path;
use std::process::{Command, Stdio};

use serde_json::Value;

use crate::host::is_root;

/// Switches to configuration made here, and tells what `ambrik accounts` says at each step.
///
/// Everything is mounted over in this mount namespace only; nothing of the host is changed.
const STEPS: &str = r#"
set -eu
export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
mount --make-rprivate /
work=$(mktemp -d)
mount -t tmpfs tmpfs "$work"
cp /etc/passwd /etc/group "$work"
for n in 1 2; do
  echo "quay$n:x:6120$n:6120$n::/nonexistent:/usr/sbin/nologin" >> "$work/passwd"
  echo "quay$n:x:6120$n:" >> "$work/group"
done
mount --bind "$work/passwd" /etc/passwd
mount --bind "$work/group" /etc/group
mkdir -p "$work/nothing" "$work/www/one" "$work/www/two" "$work/www/three" "$work/log"
chmod 755 "$work"
mount -t tmpfs tmpfs /run
mkdir -p /run/php /run/apache2 /run/lock/apache2
mount -t tmpfs tmpfs /var/log
mkdir -p /var/log/apache2 /var/log/nginx

# The packages' own configuration, with our sites in the places that it has for them.
fpm=$(ls -d /etc/php/*/fpm | tail -1)
version=$(basename "$(dirname "$fpm")")
for tree in /etc/nginx /etc/apache2 "$fpm"; do
  copy="$work$tree"
  mkdir -p "$copy"
  cp -a "$tree/." "$copy"
  mount --bind "$copy" "$tree"
done
rm -f /etc/nginx/sites-enabled/* /etc/nginx/modules-enabled/* /etc/apache2/sites-enabled/* "$fpm"/pool.d/*
for n in 1 2; do
  printf '[quay%s]\nuser = quay%s\ngroup = quay%s\nlisten = /run/php/$pool.sock\nlisten.owner = www-data\nlisten.mode = 0600\npm = static\npm.max_children = 1\n' $n $n $n > "$fpm/pool.d/quay$n.conf"
done
cat > /etc/nginx/sites-enabled/one <<END
server {
    listen 8081; # ours
    root "$work/www/one";
    location ~ \.php\$ { include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/quay1.sock; }
}
END
printf 'Listen 8082\nListen 8083\n' > /etc/apache2/ports.conf
cat > /etc/apache2/sites-enabled/two.conf <<END
<VirtualHost *:8082>
    DocumentRoot $work/www/two
    <FilesMatch "\.php\$">
        SetHandler "proxy:unix:/run/php/quay2.sock|fcgi://localhost"
    </FilesMatch>
</VirtualHost>
<VirtualHost *:8083>
    DocumentRoot $work/www/three
</VirtualHost>
END
rm -f /etc/apache2/mods-enabled/mpm_*
for module in mpm_prefork proxy proxy_fcgi "php$version"; do
  for end in load conf; do
    [ ! -e /etc/apache2/mods-available/$module.$end ] || ln -sf ../mods-available/$module.$end /etc/apache2/mods-enabled/
  done
done

tell() { echo "=== $1"; "$AMBRIK" accounts --format json | sed "s|$work|WORK|g"; }
# Until so many processes of a kind have given up being root.
await() {
  for try in $(seq 2000); do
    found=$(grep -lsa "$2" /proc/[0-9]*/cmdline | sed 's/cmdline/status/' | xargs -r grep -Lsx $'Uid:\t0\t0\t0\t0' | wc -l)
    [ "$found" -lt "$1" ] || return 0
  done
  echo "waited in vain for $2" >&2
  exit 1
}

tell 'configuration alone'
"php-fpm$version" --daemonize --fpm-config "$fpm/php-fpm.conf"
nginx
apachectl start
await 2 'php-fpm: pool quay'
await 1 'nginx: worker process'
await 5 'sbin/apache2'
tell 'together'
for tree in /etc/nginx /etc/apache2 /etc/php; do mount --bind "$work/nothing" "$tree"; done
tell 'processes alone'
for tree in /etc/nginx /etc/apache2 /etc/php; do umount "$tree"; done
mv "$fpm/pool.d/quay2.conf" "$fpm/pool.d/quay3.conf"
sed -i 's/^\[quay2\]/[quay3]/; s|\$pool|quay2|' "$fpm/pool.d/quay3.conf"
tell 'renamed'
nginx -s stop
tell 'nginx stopped'
"#;

/// What is missing to run them; says so.
pub(crate) fn can_run() -> bool {
    if !is_root() {
        return false;
    }
    let there = |path: &str| Path::new(path).exists();
    let fpm =
        std::fs::read_dir("/etc/php").is_ok_and(|mut d| d.any(|e| e.is_ok_and(|e| e.path().join("fpm").exists())));
    let namespaces = Command::new("unshare").args(["-mpnf", "--mount-proc", "true"]).stderr(Stdio::null()).status();
    let missing = [
        ("nginx", there("/usr/sbin/nginx") && there("/etc/nginx/sites-enabled")),
        ("apache2", there("/usr/sbin/apache2")),
        ("php-fpm", fpm),
        ("namespaces", namespaces.is_ok_and(|status| status.success())),
    ];
    let missing: Vec<&str> = missing.iter().filter(|(_, there)| !there).map(|(name, _)| *name).collect();
    match missing.as_slice() {
        [] => {}
        ["namespaces"] => test_support::skipped("this test may not have namespaces of its own"),
        _ => test_support::missing(&missing.join(", ")),
    }
    missing.is_empty()
}

/// The documents of all steps, by their names.
fn documents() -> Vec<(String, Value)> {
    let mut command = Command::new("unshare");
    command.args(["-mpnf", "--mount-proc", "--kill-child", "bash", "-c", STEPS]);
    let output = command.env("AMBRIK", env!("CARGO_BIN_EXE_ambrik")).stdin(Stdio::null()).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success(), "{}\n{text}", String::from_utf8_lossy(&output.stderr));
    let steps = text.split("=== ").filter(|step| !step.is_empty());
    steps
        .map(|step| step.split_once('\n').unwrap())
        .map(|(n, t)| (n.to_owned(), serde_json::from_str(t).unwrap()))
        .collect()
}

fn strings(list: &Value, line: impl Fn(&Value) -> String) -> Vec<String> {
    list.as_array().unwrap().iter().map(line).collect()
}

fn served(document: &Value) -> Vec<String> {
    strings(&document["served"], |runs| {
        let users = |key: &str| strings(&runs[key], |answer| answer["user"].as_str().unwrap().to_owned()).join("+");
        format!(
            "{} {} {} {}",
            runs["path"].as_str().unwrap(),
            runs["program"].as_str().unwrap(),
            users("php"),
            users("web")
        )
    })
}

/// `role pool user from` of every service, without the program's version.
fn services(document: &Value) -> Vec<String> {
    strings(&document["services"], |service| {
        let from: std::collections::BTreeSet<String> =
            strings(&service["evidence"], |evidence| evidence["from"].as_str().unwrap().to_owned())
                .into_iter()
                .collect();
        let word = |key: &str| service[key].as_str().unwrap_or("-").to_owned();
        let program = word("program").trim_end_matches(|c: char| c.is_ascii_digit() || c == '.').to_owned();
        let from: Vec<String> = from.into_iter().collect();
        format!("{} {program} {} {}:{} {}", word("role"), word("pool"), word("user"), word("group"), from.join("+"))
    })
}

fn disagreements(document: &Value) -> String {
    strings(&document["disagreements"], |d| d["says"].as_str().unwrap().to_owned()).join("\n")
}

#[test]
fn real_servers_are_told_from_processes_from_configuration_and_from_both() {
    if !can_run() {
        return;
    }
    let documents = documents();
    let step = |name: &str| &documents.iter().find(|(step, _)| step == name).unwrap().1;
    let folders = [
        "WORK/www/one nginx quay1 www-data",
        "WORK/www/two apache2 quay2 www-data",
        "WORK/www/three apache2 www-data www-data",
    ];
    let all = |from: &str| {
        [
            "web apache - www-data:www-data",
            "web nginx - www-data:www-data",
            "php apache - www-data:www-data",
            "php php-fpm quay1 quay1:quay1",
            "php php-fpm quay2 quay2:quay2",
        ]
        .map(|service| format!("{service} {from}"))
    };

    let configured = step("configuration alone");
    assert_eq!(
        (served(configured), services(configured)),
        (folders.map(String::from).to_vec(), all("config").to_vec())
    );
    let together = step("together");
    assert_eq!(
        (served(together), services(together)),
        (folders.map(String::from).to_vec(), all("config+process").to_vec())
    );
    assert_eq!(disagreements(together), "");
    let may_connect = strings(&together["served"], |runs| runs["may_connect"].to_string());
    assert_eq!(may_connect, ["true", "true", "null"]);
    assert_eq!(services(step("processes alone")), all("process"));
    let said = disagreements(step("renamed"));
    assert!(said.contains("pool quay2 runs as quay2:quay2 and no configuration names it any more"), "{said}");
    assert!(said.contains("pool quay3 is configured"), "{said}");
    let stopped = step("nginx stopped");
    let nginx = services(stopped).into_iter().find(|service| service.contains("nginx")).unwrap();
    assert_eq!(nginx, "web nginx - www-data:www-data config");
}
