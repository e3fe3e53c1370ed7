//! Real web servers and PHP from the distribution's packages, in namespaces of their own: nothing of the host is changed, and no
//! address outside them is asked.

use std::process::{Command, Stdio};

use crate::servers::can_run;

/// Configuration of nginx, of Apache httpd and of php-fpm with a pool of the account `quay`; functions that make the demo's
/// bookings a site of one of them.
pub(crate) const SETUP: &str = r#"
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
# A child that was just forked is root still: none is forked while something looks.
sed -i -E 's/^([[:space:]]*(StartServers|MinSpareServers)[[:space:]]+).*/\11/' /etc/apache2/mods-available/mpm_prefork.conf
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
"#;

/// After the set-up: a site that nginx serves from `$top`, with the pool `quay`; `get` asks, `answers` waits until a page does, `ambrik`
/// knows where its sites and records are.
pub(crate) const QUAYSIDE: &str = r#"
top="$work/www/quayside"
mkdir -p "$top"
cat > /etc/nginx/sites-enabled/quayside <<END
server {
    listen 127.0.0.1:8081;
    root "$top";
    location ~ \.php\$ { include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/quay.sock; }
}
END
get() { curl -sS --noproxy '*' -m 20 "$@" || echo "curl $?"; }
answers() {
  for try in $(seq 2000); do
    [ "$(get -o /dev/null -w '%{http_code}' "http://127.0.0.1:8081/$1" 2> /dev/null)" = 000 ] || break
  done
}
ambrik() { "$AMBRIK" --sites "$work/sites" --state "$work/state" "$@"; }
# A site file with a folder for uploads, and with stores besides.
quayside() { # STORE...
  mkdir -p "$top/uploads"
  printf '[site]\nroot = "%s"\n[accounts]\nphp = "quay"\nweb = "www-data"\n' "$top" > "$work/sites/quayside.toml"
  for store in uploads "$@"; do printf '[[part]]\npath = "%s"\nuse = "store"\n' "$store"; done >> "$work/sites/quayside.toml"
}
"#;

/// Starts them; functions to ask.
pub(crate) const SERVE: &str = r#"
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
"#;

/// Runs these pieces of a script one after the other. The answer is what it printed; nothing where this host lacks what it
/// needs, which is said.
pub(crate) fn run(pieces: &[&str]) -> Option<String> {
    if !can_run() {
        return None;
    }
    for program in ["curl", "jq", "ip"] {
        if Command::new(program).arg("--version").output().is_err() {
            test_support::missing(program);
            return None;
        }
    }
    let mut command = Command::new("unshare");
    command.args(["-mpnf", "--mount-proc", "--kill-child", "bash", "-c", &pieces.concat()]);
    let output = command.env("AMBRIK", env!("CARGO_BIN_EXE_ambrik")).stdin(Stdio::null()).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{}\n{text}", String::from_utf8_lossy(&output.stderr));
    Some(without_places(&text))
}

/// What was printed, the commands in it without the places that the run was given.
fn without_places(text: &str) -> String {
    let mut pieces = text.split("ambrik --sites ");
    let first = pieces.next().unwrap_or_default().to_owned();
    let rest = pieces.map(|piece| piece.splitn(4, ' ').nth(3).unwrap_or(piece));
    rest.fold(first, |text, piece| format!("{text}ambrik {piece}"))
}

/// What stands behind `name: ` in what such a run printed.
pub(crate) fn line(out: &str, name: &str) -> String {
    let line = out.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(": "));
    line.unwrap_or_else(|| panic!("{name}: {out}")).to_owned()
}
