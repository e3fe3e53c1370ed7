#!/usr/bin/env bash
# Measures one question to many hosts: hosts that are folders, with ten sites each, and a stand-in for ssh that runs the real program on
# each. Prints seconds, processor time, memory of the one who asks, and bytes that came back.
#
#   fleet.sh [HOSTS [FILES]]        defaults: 200 hosts, 40 files a site
#
# Needs root (an audit of what root owns), GNU time and a dist build.
set -euo pipefail
cd "$(dirname "$0")/../../.."
hosts=${1:-200} files=${2:-40}
folder=$(mktemp -d /var/tmp/ambrik-fleet.XXXXXX)
trap 'rm -rf "$folder"' EXIT
cargo build --profile dist --quiet
ambrik=${CARGO_TARGET_DIR:-$PWD/target}/dist/ambrik
mkdir -p "$folder/bin" "$folder/there" "$folder/hosts/one/etc/ambrik/sites"
cat > "$folder/bin/ssh" <<END
#!/bin/sh
while [ "\$1" != -- ]; do shift; done
HOST_DIR=$folder/hosts/\$2 PATH=$folder/there:\$PATH exec sh -c "\$3"
END
printf '#!/bin/sh\nexec %s --host "$HOST_DIR" "$@"\n' "$ambrik" > "$folder/there/ambrik"
chmod 755 "$folder/bin/ssh" "$folder/there/ambrik"
one=$folder/hosts/one
printf 'root:x:0:0::/:/\nquay:x:61001:61001::/:/usr/sbin/nologin\nwww-data:x:33:33::/:/usr/sbin/nologin\n' > "$one/etc/passwd"
printf 'root:x:0:\nquay:x:61001:\nwww-data:x:33:\n' > "$one/etc/group"
for site in $(seq 10); do
  mkdir -p "$one/srv/www/pier-$site/lib"
  for file in $(seq "$files"); do echo '<?php // a part of the application' > "$one/srv/www/pier-$site/lib/part-$file.php"; done
  printf '[site]\nroot = "/srv/www/pier-%s"\n[accounts]\nkeeper = "root"\nphp = "quay"\nweb = "www-data"\n' "$site" \
    > "$one/etc/ambrik/sites/pier-$site.toml"
done
for host in $(seq "$hosts"); do
  cp -a "$one" "$folder/hosts/berth-$host"
  # Every fourth has code that everybody can write.
  [ $((host % 4)) != 0 ] || chmod 666 "$folder/hosts/berth-$host/srv/www/pier-3/lib/"*
done
seq "$hosts" | sed 's/^/berth-/' > "$folder/list"
export PATH="$folder/bin:$PATH" XDG_STATE_HOME="$folder/state"
for format in text json html; do
  /usr/bin/time -f "$format: %e s, %U s user and %S s system, %M KiB" -o "$folder/time" \
    "$ambrik" --on "@$folder/list" audit --format "$format" > "$folder/out" || [ $? -le 1 ]
  tail -n 1 "$folder/time"
done
echo "a host's answer: $("$ambrik" --on berth-1 audit --format json | wc -c) bytes; $(head -n 1 <("$ambrik" --on "@$folder/list" audit))"
