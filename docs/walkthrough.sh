#!/bin/sh
# The deployment of the README and the guide, run for real on the demo host: PHP's own server runs the web installer as
# the account that PHP has there. Prints what is typed and what comes back. Needs root, php, curl and setpriv.
#   docs/walkthrough.sh > out.txt
set -eu
here=$(cd "$(dirname "$0")/.." && pwd)
work=$(mktemp -d)
host=$work/quay-1
server=
trap '[ -z "$server" ] || kill "$server" 2> /dev/null; rm -rf "$work"' EXIT
chmod 755 "$work"
program=${AMBRIK:-$here/target/dist/ambrik}
"$program" demo --build-only "$host" > /dev/null 2>&1
# Inside the folder that stands for the host the paths are those of the host.
sed -i 's|^root .*|&\nurl    = "http://127.0.0.1:8080/"|' "$host/etc/ambrik/sites/berths.toml"

typed() {
    printf '\n$ %s\n' "$*"
}
ambrik() {
    typed ambrik "$@"
    "$program" --host "$host" --color never "$@" 2>&1 | sed "s|ambrik --host $host |ambrik |g; s|$host||g"
}
web() {
    typed curl "$@"
    curl -s "$@" 2>&1 || true
    echo
}

setpriv --reuid 4101 --regid 4101 --clear-groups \
    php -q -S 127.0.0.1:8080 -t "$host/srv/www/berths" > "$work/php.log" 2>&1 &
server=$!
until curl -s -o /dev/null http://127.0.0.1:8080/; do kill -0 "$server"; done

web http://127.0.0.1:8080/install/
ambrik open berths --for 45m --yes
web http://127.0.0.1:8080/install/
web -d password=made-up http://127.0.0.1:8080/install/
ambrik seal berths --yes
ambrik audit berths --over-http || true
ambrik move berths var/log /var/log/berths --yes
ambrik history
ambrik undo --since 1 --yes
