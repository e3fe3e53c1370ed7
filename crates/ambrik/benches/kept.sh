#!/usr/bin/env bash
# Fails where a command takes more than a quarter more processor time, beside the operating system's own commands in the same run, than
# benches/kept-ratios says. Processor time and not the clock's, and the least of several runs: both are the same on a busy machine.
#
#   kept.sh AMBRIK [ENTRIES [RUNS]]        defaults: 30000 entries, 7 runs
#
# With KEEP=1 it writes benches/kept-ratios anew. Needs root; prints a line for each ratio.
set -euo pipefail
ambrik=$(realpath "$1") entries=${2:-30000} runs=${3:-7}
cd "$(dirname "$0")"
folder=$(mktemp -d /var/tmp/ambrik-kept.XXXXXX)
trap 'rm -rf "$folder"' EXIT
host=$folder/host site=$folder/host/srv/www/site log=$folder/log
mkdir "$host"
rustc -O --edition 2024 -o "$folder/make_tree" make_tree.rs
"$folder/make_tree" "$host" "$entries" > /dev/null

# took NAME COMMAND...: the processor time of one run goes to the log, in seconds.
took() {
  local name=$1 status=0 TIMEFORMAT='%3U %3S'; shift
  { time "$@" > "$folder/out" 2> "$folder/err" || status=$?; } 2> "$folder/time"
  [ "$status" -le 1 ] || { cat "$folder/err" >&2; exit 1; }
  awk -v n="$name" '{ print n, $1 + $2 }' "$folder/time" >> "$log"
}
wrong() { took chown chown -R 33:33 "$site"; took chmod chmod -R 0777 "$site"; }
all() {
  rm -rf "$host/var/lib/ambrik"
  wrong
  took listing find "$site" -printf '%m %U %G %y %p\n'
  took deviating "$ambrik" --host "$host" audit site --quiet
  took json "$ambrik" --host "$host" audit site --format json
  took set "$ambrik" --host "$host" set site --yes --quiet
  took audit "$ambrik" --host "$host" audit site --quiet
  took idle "$ambrik" --host "$host" set site --yes --quiet
  took undo "$ambrik" --host "$host" undo --yes --quiet
}
ratios() {
  awk '!($1 in least) || $2 < least[$1] { least[$1] = $2 }
    function line(name, a, b) { printf "%s %.2f\n", name, a / b }
    END {
      line("audit/listing", least["audit"], least["listing"])
      line("idle-set/audit", least["idle"], least["audit"])
      line("audit-of-wrong/listing", least["deviating"], least["listing"])
      line("json-of-wrong/listing", least["json"], least["listing"])
      line("set/chown+chmod", least["set"], least["chown"] + least["chmod"])
      line("undo/set", least["undo"], least["set"])
    }' "$log"
}
# What is worse than it is kept: it is measured three times as often before that is said.
for _ in 1 2 3; do
  for _ in $(seq "$runs"); do all; done
  ratios > "$folder/ratios"
  [ -z "${KEEP:-}" ] || { cp "$folder/ratios" kept-ratios; cat kept-ratios; exit; }
  awk 'NR == FNR { kept[$1] = $2; next }
    { worse = $2 > 1.25 * kept[$1]; bad += worse; printf "%-24s %.2f, kept %.2f%s\n", $1, $2, kept[$1], worse ? ": a quarter worse" : "" }
    END { exit bad > 0 }' kept-ratios "$folder/ratios" > "$folder/said" && { cat "$folder/said"; exit; }
done
cat "$folder/said"
exit 1
