#!/usr/bin/env bash
# Makes the pictures of each command's output from the demo host, in a terminal window under Xvfb.
# Needs root, and Debian's packages xvfb, xterm, imagemagick, fonts-dejavu-core and chromium.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
cd "$here/../.."
cargo build --profile dist --quiet
work=$(mktemp -d)
display=:97
Xvfb $display -screen 0 1280x1000x24 > /dev/null 2>&1 & server=$!
trap 'kill $server 2>/dev/null || true; rm -rf "$work"' EXIT
export DISPLAY=$display PATH=$PWD/target/dist:$PATH
for _ in $(seq 50); do xdpyinfo > /dev/null 2>&1 && break; sleep 0.1; done
demo=/tmp/quay-1
rm -rf $demo
ambrik demo $demo > "$work/demo.txt" --color always 2>&1

# picture NAME ROWS SCRIPT: the terminal after the script, as NAME.png.
picture() {
  cat > "$work/script" <<S
printf '\033[?25l'
$3
touch "$work/shown"
exec sleep 60
S
  rm -f "$work/shown"
  xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry "120x$2+0+0" -bg '#10171c' -fg '#d5dde3' -xrm 'xterm*color1: #ff7b72' -xrm 'xterm*color2: #7ee787' -xrm 'xterm*color3: #e3b341' -b 12 +sb -T ambrik \
    -xrm 'xterm*allowBoldFonts: true' -xrm 'xterm*boldColors: false' -e bash "$work/script" & local window=$!
  for _ in $(seq 100); do [ -e "$work/shown" ] && break; sleep 0.1; done
  sleep 0.5
  import -window root "$work/root.png"
  convert "$work/root.png" -trim +repage -strip -define png:compression-level=9 -colors 64 "$here/$1.png"
  kill $window; wait $window 2> /dev/null || true
}
prompt() { printf "printf '\\\\033[1m\$ %s\\\\033[0m\\\\n'; %s --color always" "$1" "$1"; }

# Three of its steps, whole.
picture demo 51 "awk '/# Why PHP cannot/ { p = 1 } /# The installer was run/ { exit } p' $work/demo.txt"
rm -rf $demo
ambrik demo $demo --build-only > /dev/null
picture accounts 26 "$(prompt "ambrik --host $demo accounts")"
picture survey 32 "$(prompt "ambrik --host $demo survey /srv/www/berths")"
# Fifteen sites, of which most were put right.
cp -a $demo "$work/fifteen"
ambrik --host "$work/fifteen" set tidewatch notices pier-03 pier-07 pier-11 --yes > /dev/null
ambrik --host "$work/fifteen" seal berths --yes > /dev/null
mv $demo "$work/demo"; mv "$work/fifteen" $demo
picture sites 44 "$(prompt "ambrik --host $demo audit")"
rm -rf $demo; mv "$work/demo" $demo
picture audit 33 "$(prompt "ambrik --host $demo audit notices")"
picture why 31 "$(prompt "ambrik --host $demo why /srv/www/tidewatch/data/lock"); echo; $(prompt "ambrik --host $demo why --writable tidewatch")"
picture set-preview 22 "$(prompt "ambrik --host $demo set berths --preview")"
picture open 26 "$(prompt "ambrik --host $demo open berths --yes --for 45m")"
picture move 7 "$(prompt "ambrik --host $demo move berths var/log /var/log/berths --preview")"
picture labels 30 "$(prompt "ambrik --host $demo/srv/images/quay-2 audit --labels"); echo; $(prompt "ambrik --host $demo/srv/images/quay-2 set --preview")"
picture seal 18 "$(prompt "ambrik --host $demo seal berths --yes")"
ambrik --host $demo set tidewatch notices --yes > /dev/null
ambrik --host $demo undo 2 --yes > /dev/null
picture history 12 "$(prompt "ambrik --host $demo history")"
picture undo 12 "$(prompt "ambrik --host $demo undo 5 --yes")"
ambrik --host $demo audit --format html --to "$work/page.html" --quiet > /dev/null || true
chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --hide-scrollbars \
  --user-data-dir="$work/browser" --window-size=1280,800 --screenshot="$work/page.png" "file://$work/page.html" > /dev/null 2>&1
convert "$work/page.png" -strip -define png:compression-level=9 -colors 64 "$here/page.png"
# Three hosts, one of which cannot be reached; a stand-in for ssh runs the program on a folder for each.
mkdir -p "$work/bin" "$work/there"
for name in quay-1 quay-2; do ambrik demo "$work/hosts/$name" --build-only > /dev/null; done
ambrik --host "$work/hosts/quay-2" set tidewatch --yes > /dev/null
cat > "$work/bin/ssh" <<S
#!/bin/sh
while [ "\$1" != -- ]; do shift; done
[ -d $work/hosts/\$2 ] || { echo "ssh: connect to host \$2 port 22: No route to host" >&2; exit 255; }
HOST_DIR=$work/hosts/\$2 PATH=$work/there:\$PATH exec sh -c "\$3"
S
printf '#!/bin/sh\nexec %s --host "$HOST_DIR" "$@"\n' "$(command -v ambrik)" > "$work/there/ambrik"
chmod 755 "$work/bin/ssh" "$work/there/ambrik"
export XDG_STATE_HOME=$work/state
picture hosts 27 "export PATH=$work/bin:\$PATH; $(prompt "ambrik --on quay-1,quay-2,quay-3 audit tidewatch notices")"
# An upgrade of the bookings; one file was changed since the version before was unpacked.
rm -rf $demo
ambrik demo $demo --build-only > /dev/null
mv $demo/srv/www/berths "$work/berths-1.4"
rm -rf "$work/berths-1.4/berths-1.4.zip" "$work/berths-1.4/info.php" "$work/berths-1.4/config/settings.php"
tar -C "$work" -czf "$work/berths-1.4.tar.gz" berths-1.4
mv "$work/berths-1.4" "$work/berths-1.5"
rm "$work/berths-1.5/upload.php"
for file in lib/Bookings.php lib/page.php templates/list.html; do echo >> "$work/berths-1.5/$file"; done
mkdir "$work/berths-1.5/lib/tides"
echo '<?php' > "$work/berths-1.5/lib/tides/Table.php"
echo 'Bookings, version 1.5' > "$work/README.txt"
tar -C "$work" -czf "$work/berths-1.5.tar.gz" README.txt berths-1.5
cd "$work"
ambrik --host $demo unpack berths-1.4.tar.gz berths --yes > /dev/null
echo '<?php // ?' >> $demo/srv/www/berths/lib/page.php
picture unpack 17 "cd $work; $(prompt "ambrik --host $demo unpack berths-1.5.tar.gz berths --preview")"
rm -rf $demo
