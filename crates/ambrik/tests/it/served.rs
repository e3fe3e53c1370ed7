//! A whole deployment of the demo's `berths`, through HTTP, on nginx and on Apache httpd, each with php-fpm under an account
//! of its own; with others reading code, and not.

use std::collections::BTreeMap;
use std::process::{Command, Stdio};

use crate::servers::can_run;

/// Deploys each site, and prints what visitors get at each step, a line each: `SITE what: answer`.
///
/// Everything is in namespaces of its own; nothing of the host is changed, and no address outside them is asked.
const STEPS: &str = r#"
set -eu
export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
ip link set lo up
mount --make-rprivate /
work=$(mktemp -d)
mount -t tmpfs tmpfs "$work"
chmod 755 "$work"
cp /etc/passwd /etc/group "$work"
echo "quay:x:61201:61201::/nonexistent:/usr/sbin/nologin" >> "$work/passwd"
echo "quay:x:61201:" >> "$work/group"
mount --bind "$work/passwd" /etc/passwd
mount --bind "$work/group" /etc/group
mount -t tmpfs tmpfs /run
mkdir -p /run/php /run/apache2 /run/lock/apache2 "$work/www" "$work/sites" "$work/lines"
mount -t tmpfs tmpfs /var/log
mkdir -p /var/log/apache2 /var/log/nginx
fpm=$(ls -d /etc/php/*/fpm | tail -1)
version=$(basename "$(dirname "$fpm")")
for tree in /etc/nginx /etc/apache2 "$fpm"; do
  copy="$work$tree"
  mkdir -p "$copy"
  cp -a "$tree/." "$copy"
  mount --bind "$copy" "$tree"
done
rm -f /etc/nginx/sites-enabled/* /etc/nginx/modules-enabled/* /etc/apache2/sites-enabled/* "$fpm"/pool.d/*
printf '[quay]\nuser = quay\ngroup = quay\nlisten = /run/php/quay.sock\nlisten.owner = www-data\nlisten.mode = 0600\npm = static\npm.max_children = 2\n' > "$fpm/pool.d/quay.conf"
rm -f /etc/apache2/mods-enabled/mpm_* /etc/apache2/mods-enabled/php*
for module in mpm_prefork proxy proxy_fcgi; do
  for end in load conf; do
    [ ! -e /etc/apache2/mods-available/$module.$end ] || ln -sf ../mods-available/$module.$end /etc/apache2/mods-enabled/
  done
done
printf 'Listen 8083\nListen 8084\n' > /etc/apache2/ports.conf
"$AMBRIK" demo --build-only "$work/demo" > /dev/null

site() { # NAME PORT OTHERS
  cp -r "$work/demo/srv/www/berths" "$work/www/$1"
  rm -rf "$work/www/$1/config/settings.php" "$work/www/$1/uploads" "$work/www/$1/var/cache" "$work/www/$1/var/log" "$work/www/$1/assets/charts"
  chown -R root:root "$work/www/$1"
  chmod -R u=rwX,go=rX "$work/www/$1"
  cat > "$work/www/$1/attempt.php" <<'END'
<?php foreach (['index.php', 'lib/page.php', 'config/settings.php'] as $file) { echo (int) (@file_put_contents(__DIR__ . "/$file", ' ', FILE_APPEND) !== false); }
END
  cat > "$work/sites/$1.toml" <<END
[site]
root = "$work/www/$1"
served = "."
url = "http://127.0.0.1:$2/"
[accounts]
php = "quay"
web = "www-data"
others = "$3"
[[part]]
path = "config/settings.php"
use = "secret"
write = "install"
from = "config/settings.sample.php"
[[part]]
path = "uploads"
use = "store"
create = true
[[part]]
path = "var/cache"
use = "scratch"
create = true
[[part]]
path = "var/log"
use = "log"
create = true
[[part]]
path = "install"
use = "setup"
END
}
nginx_site() {
  site "$1" "$2" "$3"
  cat > "/etc/nginx/sites-enabled/$1" <<END
server {
    listen 127.0.0.1:$2;
    root "$work/www/$1";
    index index.php;
    location ~ \.php\$ { include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/quay.sock; }
    include $work/lines/$1*.conf;
}
END
}
apache_site() {
  site "$1" "$2" "$3"
  cat > "/etc/apache2/sites-enabled/$1.conf" <<END
<VirtualHost 127.0.0.1:$2>
    DocumentRoot $work/www/$1
    DirectoryIndex index.php
    <Directory $work/www/$1>
        Require all granted
    </Directory>
    <FilesMatch "\.php\$">
        SetHandler "proxy:unix:/run/php/quay.sock|fcgi://localhost"
    </FilesMatch>
    IncludeOptional $work/lines/$1*.conf
</VirtualHost>
END
}
nginx_site nginx-read 8081 read
nginx_site nginx-none 8082 none
apache_site apache-read 8083 read
apache_site apache-none 8084 none
"php-fpm$version" --daemonize --fpm-config "$fpm/php-fpm.conf"
nginx
apachectl start

ambrik() { "$AMBRIK" --sites "$work/sites" --state "$work/state" "$@"; }
get() { curl -sS --noproxy '*' -m 20 "$@" || echo "curl $?"; }
# Until a page is there.
await() {
  for try in $(seq 2000); do
    [ "$(curl -s --noproxy '*' -o /dev/null -w '%{http_code}' "$1")" = 000 ] || return 0
  done
  echo "waited in vain for $1" >&2
  exit 1
}
deploy() { # NAME PORT SERVER
  url=http://127.0.0.1:$2
  await "$url/assets/style.css"
  say() { printf '%s %s: %s\n' "$1" "$2" "$(tr '\n' ' ' | head -c 4000)"; }
  get "$url/install/" | say "$1" 'before open'
  { ambrik open "$1" --for 10m --yes 2>&1; echo "exit $?"; } | say "$1" open
  get "$url/install/" | say "$1" 'while open'
  get -d password=made-up "$url/install/index.php" | say "$1" installed
  { ambrik seal "$1" --yes 2>&1 && echo "exit 0" || echo "exit $?"; } | say "$1" seal
  get -o /dev/null -w '%{http_code}' "$url/install/" | say "$1" installer
  get -w ' %{http_code}' "$url/" | say "$1" page
  printf '<svg xmlns="http://www.w3.org/2000/svg"/>' > "$work/north.svg"
  get -o /dev/null -w '%{http_code}' -F "picture=@$work/north.svg" "$url/upload.php" | say "$1" upload
  get -w ' %{http_code}' "$url/uploads/north.svg" | say "$1" picture
  get "$url/attempt.php" | say "$1" attempt
  get -w ' %{http_code}' "$url/config/settings.php" | say "$1" settings
  echo '<?php echo "run", "ning";' > "$work/evil.php"
  get -o /dev/null -F "picture=@$work/evil.php" "$url/upload.php"
  get -w ' %{http_code}' "$url/uploads/evil.php" | say "$1" 'uploaded PHP'
  ambrik audit "$1" --over-http --format json > "$work/audit.json" 2> "$work/audit.err" || true
  jq -r '.sites[0].findings[].check' < "$work/audit.json" | say "$1" findings
  jq -r --arg program "$3" '.sites[0].findings[].configuration[]? | select(.program == $program) | .lines' < "$work/audit.json" > "$work/lines/$1.conf"
  if [ "$3" = nginx ]; then nginx -t 2>&1 | say "$1" configuration; nginx -s reload; else apachectl configtest 2>&1 | say "$1" configuration; apachectl graceful; fi
  for try in $(seq 2000); do
    answer=$(get -w ' %{http_code}' "$url/uploads/evil.php")
    case $answer in *running*) ;; *) break ;; esac
  done
  echo "$answer" | say "$1" 'with the lines'
  ambrik audit "$1" --over-http --format json < /dev/null 2> "$work/audit.err" | jq -r '.sites[0].findings[].check' | say "$1" 'findings then'
  ls -A "$work/www/$1/uploads" | say "$1" left
}
# A service manager that only writes down what it is asked for.
mkdir -p /run/systemd/system "$work/bin"
for program in systemd-run systemctl; do
  printf '#!/bin/sh\necho "%s $*" >> %s/armed\n' $program "$work" > "$work/bin/$program"
  chmod 755 "$work/bin/$program"
done
{ PATH="$work/bin:$PATH" ambrik open nginx-read --for 10m --yes --arm 2>&1; cat "$work/armed"; } | { printf 'nginx-read armed: '; tr '\n' ' '; echo; }
rm -rf /run/systemd
ambrik undo --yes > /dev/null

deploy nginx-read 8081 nginx
deploy nginx-none 8082 nginx
deploy apache-read 8083 apache2
deploy apache-none 8084 apache2
"#;

fn steps() -> BTreeMap<(String, String), String> {
    let mut command = Command::new("unshare");
    command.args(["-mpnf", "--mount-proc", "--kill-child", "bash", "-c", STEPS]);
    let output = command.env("AMBRIK", env!("CARGO_BIN_EXE_ambrik")).stdin(Stdio::null()).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success(), "{}\n{text}", String::from_utf8_lossy(&output.stderr));
    let lines = text.lines().filter_map(|line| line.split_once(": "));
    let lines = lines.filter_map(|(what, answer)| Some((what.split_once(' ')?, answer)));
    lines.map(|((site, what), answer)| ((site.to_owned(), what.to_owned()), answer.trim().to_owned())).collect()
}

#[test]
fn a_deployment_on_real_servers() {
    if !can_run() {
        return;
    }
    for program in ["curl", "jq", "ip"] {
        if Command::new(program).arg("--version").output().is_err() {
            eprintln!("skipped: missing for it: {program}");
            return;
        }
    }
    let steps = steps();
    let armed = &steps[&("nginx-read".to_owned(), "armed".to_owned())];
    assert!(armed.contains("closed by itself: timer ambrik-close-nginx-read"), "{armed}");
    assert!(armed.contains("systemd-run --unit ambrik-close-nginx-read --on-active=600s /"), "{armed}");
    assert!(armed.contains("/sites/nginx-read.toml --yes"), "{armed}");
    for site in ["nginx-read", "nginx-none", "apache-read", "apache-none"] {
        let step = |what: &str| {
            let answer = steps.get(&(site.to_owned(), what.to_owned()));
            answer.unwrap_or_else(|| panic!("{site} {what}: {steps:#?}")).as_str()
        };
        let has =
            |what: &str, want: &str| assert!(step(what).contains(want), "{site} {what}: {}\n{steps:#?}", step(what));
        has("before open", "These cannot be written: <ul><li>config/settings.php");
        has("open", "exit 0");
        has("open", "next: open http://127.0.0.1:808");
        has("while open", "<form method=\"post\"><h1>Install</h1>");
        has("installed", "<h1>Installed</h1>");
        has("seal", "as it should be");
        // Until the lines below are there the servers run what is uploaded: sealed, and not as it should be.
        has("seal", "findings remain (2 high");
        has("seal", "exit 1");
        assert_eq!(step("installer"), "404", "{site}");
        has("page", " 200");
        assert_eq!(step("upload"), "302", "{site}");
        assert_eq!(step("picture"), "<svg xmlns=\"http://www.w3.org/2000/svg\"/> 200", "{site}");
        assert_eq!(step("attempt"), "000", "{site}: nothing of its code or settings");
        assert_eq!(step("settings"), "200", "{site}: run, and not handed out");
        has("uploaded PHP", "running 200");
        has("findings", "php-runs-in-store");
        assert!(!step("with the lines").contains("running"), "{site}: {}", step("with the lines"));
        assert!(!step("findings then").contains("php-runs-in-store"), "{site}: {steps:#?}");
        assert_eq!(
            step("left"),
            "bookings.json evil.php north.svg".trim_start_matches("bookings.json "),
            "{site}: no probe"
        );
    }
}
