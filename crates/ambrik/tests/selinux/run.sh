#!/bin/sh
# The labels on a real kernel that enforces SELinux. AMBRIK_SELINUX_RUNNER names a command that runs another as root on
# such a system, with a web server and PHP confined there:
#   RUNNER --share DIR -- COMMAND...     DIR is /share in it
# Without it this is skipped. AMBRIK names the program (default: target/dist/ambrik).
set -eu
here=$(cd "$(dirname "$0")" && pwd)
if [ -z "${AMBRIK_SELINUX_RUNNER:-}" ]; then
    echo 'skipped: AMBRIK_SELINUX_RUNNER names no system that enforces SELinux' >&2
    exit 0
fi
share=$(mktemp -d)
trap 'rm -rf "$share"' EXIT
cp "${AMBRIK:-$here/../../../../target/dist/ambrik}" "$share/ambrik"
cp "$here/lib.sh" "$here/inside.sh" "$here/edges.sh" "$share/"
"$AMBRIK_SELINUX_RUNNER" --timeout 1500 --share "$share" -- sh /share/inside.sh "${AMBRIK_LABEL_KILLS:-4}"
echo '== in a system of its own: the edges'
"$AMBRIK_SELINUX_RUNNER" --timeout 1500 --share "$share" -- sh /share/edges.sh
