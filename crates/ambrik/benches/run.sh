#!/usr/bin/env bash
# Measures audit, set, idle set and undo on a made-up tree, each beside the operating system's own commands on the
# same tree in the same run, and prints a table (Markdown) of medians.
#
#   run.sh [ENTRIES [RUNS [FOLDER]]]        defaults: 500000 entries, 5 runs, a new folder below /var/tmp
#
# Needs root (owners are changed), GNU time and a release build; the folder is removed afterwards.
set -euo pipefail
cd "$(dirname "$0")/../../.."
entries=${1:-500000} runs=${2:-5} folder=${3:-$(mktemp -d /var/tmp/ambrik-bench.XXXXXX)}
[ "$(id -u)" = 0 ] || { echo "run.sh: owners are changed: run it as root" >&2; exit 2; }
command -v /usr/bin/time > /dev/null || { echo "run.sh: needs GNU time (the package \"time\")" >&2; exit 2; }
cargo build --release --quiet
ambrik=${CARGO_TARGET_DIR:-$PWD/target}/release/ambrik
host=$folder/host site=$folder/host/srv/www/site log=$folder/log
trap 'rm -rf "$folder"' EXIT
mkdir -p "$host"
: > "$log"
echo "making $entries entries in $host …" >&2
cargo bench --quiet --bench make_tree -- "$host" "$entries" > /dev/null

# measure NAME COMMAND...: seconds and peak memory (KiB) of one run go to the log.
measure() {
  local name=$1; shift
  /usr/bin/time -f "$name %e %M" -a -o "$log" "$@" > "$folder/out" 2> "$folder/err" ||
    [ $? -le 1 ] || { cat "$folder/err" >&2; exit 1; }
}
median() { awk -v n="$1" -v f="$2" '$1 == n { print $f }' "$log" | sort -n | awk '{ v[NR] = $1 } END { print v[int((NR + 1) / 2)] }'; }

# why OPTION...: asks about the paths in the file for them.
why() { measure "why_${*: -1}" bash -c '"$0" --host "$1" why "${@:3}" - < "$2"' "$ambrik" "$host" "$folder/paths" "$@"; }

open_up() { chown -R 33:33 "$site"; chmod -R 0777 "$site"; }
for run in $(seq "$runs"); do
  echo "run $run of $runs" >&2
  measure chown chown -R 33:33 "$site"
  measure chmod chmod -R 0777 "$site"
  sync
  measure deviating "$ambrik" --host "$host" audit site --quiet
  measure set "$ambrik" --host "$host" set site --yes --quiet
  sync
  measure listing find "$site" -printf '%m %U %G %y %p\n'
  measure audit "$ambrik" --host "$host" audit site --quiet
  measure idle "$ambrik" --host "$host" set site --yes --quiet
  measure listing find "$site" -printf '%m %U %G %y %p\n'
  # A folder with its share of the paths, so that the walk beside it is of the same paths.
  find "$site/lib" > "$folder/paths"
  measure walk find "$site/lib" -printf '%m %U %G %y %p\n'
  why --brief
  why --format json
  measure undo "$ambrik" --host "$host" undo --yes --quiet
  sync
  rm -rf "$host/var/lib/ambrik"
done

ratio() { awk -v a="$1" -v b="$2" 'BEGIN { printf "%.2f", a / b }'; }
mib() { awk -v k="$1" 'BEGIN { printf "%.0f MiB", k / 1024 }'; }
listing=$(median listing 2) chown=$(median chown 2) chmod=$(median chmod 2)
both=$(awk -v a="$chown" -v b="$chmod" 'BEGIN { print a + b }')
row() { printf '| %s | %s s | %s | %s | %s |\n' "$1" "$(median "$2" 2)" "$(mib "$(median "$2" 3)")" "$3" "$(ratio "$(median "$2" 2)" "$4")"; }
cat <<END

$(find "$site" | wc -l) entries, $(find "$site" -type d | wc -l) of them folders; $runs runs, medians; $(nproc) cores;
Linux $(uname -r), $(stat -f -c %T "$folder"); $(date +%F)

| what | time | memory | beside | ratio |
|---|---|---|---|---|
| \`find ROOT -printf '%m %U %G %y %p\n'\` | $listing s | $(mib "$(median listing 3)") | | 1.00 |
| \`chown -R\` | $chown s | | | |
| \`chmod -R\` | $chmod s | | | |
$(row "audit, all as it should be" audit listing "$listing")
$(row "audit, every entry wrong" deviating listing "$listing")
$(row "set, nothing to do" idle audit "$(median audit 2)")
$(row "set, every owner and mode" set "chown + chmod" "$both")
$(row "undo of that" undo set "$(median set 2)")
$(row "why --brief, $(wc -l < "$folder/paths") paths" why_--brief "their listing" "$(median walk 2)")
$(row "why --format json, the same" why_json "their listing" "$(median walk 2)")
END
