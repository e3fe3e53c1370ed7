#!/usr/bin/env bash
# Measures audit, set, idle set and undo on a made-up tree, each beside the operating system's own commands on the
# same tree in the same run, and prints a table (Markdown) of medians, with the bars that are kept, the aims, and what the calls alone
# take that the answer needs (src/bin/bare_calls.rs of test-support). The host has labels:
# a policy of 5,000 rules, and the kernel's recorded answers of the demo.
#
#   run.sh [ENTRIES [RUNS [FOLDER]]]        defaults: 500000 entries, 5 runs, a new folder below /var/tmp
#
# With CHART=FILE it draws the ratios beside their bars (SVG). With GROWTH=1 it measures audits of trees from 5,000 to 5,000,000 entries on a tmpfs as well (10 GiB of memory).
# Needs root (owners are changed), GNU time and a dist build; the folder is removed afterwards.
set -euo pipefail
cd "$(dirname "$0")/../../.."
entries=${1:-500000} runs=${2:-5} folder=${3:-$(mktemp -d /var/tmp/ambrik-bench.XXXXXX)}
[ "$(id -u)" = 0 ] || { echo "run.sh: owners are changed: run it as root" >&2; exit 2; }
command -v /usr/bin/time > /dev/null || { echo "run.sh: needs GNU time (the package \"time\")" >&2; exit 2; }
cargo build --profile dist --workspace --quiet
ambrik=${CARGO_TARGET_DIR:-$PWD/target}/dist/ambrik bare=${CARGO_TARGET_DIR:-$PWD/target}/dist/bare_calls
host=$folder/host site=$folder/host/srv/www/site log=$folder/log
trap 'umount "$folder/growth" 2> /dev/null || true; rm -rf "$folder"' EXIT
mkdir -p "$host"
: > "$log"
rustc -O --edition 2024 -o "$folder/make_tree" crates/ambrik/benches/make_tree.rs
echo "making $entries entries in $host …" >&2
"$folder/make_tree" "$host" "$entries" > /dev/null

# A policy: the demo's, 5,000 rules for other paths, and rules of the host's own that keep the site's labels.
"$ambrik" demo --build-only "$folder/demo" > /dev/null
cp -a "$folder/demo/srv/images/quay-2/etc/selinux" "$host/etc/"
cp -a "$folder/demo/srv/images/quay-2/sys" "$host/"
rules=$host/etc/selinux/targeted/contexts/files/file_contexts
for n in $(seq 5000); do echo "/usr/lib/program-$n(/.*)? system_u:object_r:usr_t:s0"; done >> "$rules"
cat > "$rules.local" <<'END'
/srv/www/site(/.*)?	system_u:object_r:httpd_sys_content_t:s0
/srv/www/site/var/cache(/.*)?	system_u:object_r:httpd_cache_t:s0
/srv/www/site/public/uploads(/.*)?	system_u:object_r:httpd_sys_rw_content_t:s0
END
chcon system_u:object_r:var_t:s0 "$host" "$host/srv" "$host/srv/www"
old=system_u:object_r:user_home_t:s0

# measure NAME COMMAND...: seconds and peak memory (KiB) of one run go to the log.
measure() {
  local name=$1 began=$EPOCHREALTIME; shift
  /usr/bin/time -q -f %M -o "$folder/memory" "$@" > "$folder/out" 2> "$folder/err" ||
    [ $? -le 1 ] || { cat "$folder/err" >&2; exit 1; }
  awk -v n="$name" -v a="$began" -v b="$EPOCHREALTIME" '{ printf "%s %.4f %s\n", n, b - a, $1 }' "$folder/memory" >> "$log"
}
median() { awk -v n="$1" -v f="$2" '$1 == n { print $f }' "$log" | sort -n | awk '{ v[NR] = $1 } END { print v[int((NR + 1) / 2)] }'; }

# why OPTION...: asks about the paths in the file for them.
why() { measure "why_${*: -1}" bash -c '"$0" --host "$1" why "${@:3}" - < "$2"' "$ambrik" "$host" "$folder/paths" "$@"; }

audit() { measure "$1" "${@:2}" "$ambrik" --host "$host" audit site --quiet; }
without_labels() { mv "$host/etc/selinux" "$host/etc/selinux.off"; mv "$host/sys" "$host/sys.off"; }
with_labels() { mv "$host/etc/selinux.off" "$host/etc/selinux"; mv "$host/sys.off" "$host/sys"; }
# An archive of the same size as a tree of 40,000 files at most, laid down with and without.
mkdir -p "$folder/new"
"$folder/make_tree" "$folder/new" "$((entries < 40000 ? entries : 40000))" > /dev/null
tar -C "$folder/new/srv/www/site" -czf "$folder/site.tar.gz" .
by_hand='mkdir "$0"; tar -C "$0" -xzf "$1"; chown -R 0:0 "$0"; find "$0" -type d -exec chmod 755 {} +; find "$0" -type f -exec chmod 644 {} +'
# bare NAME CALLS...: the calls alone on the site, whose seconds go to the log.
bare() { printf '%s %s 0\n' "$1" "$("$bare" "$site" "${@:2}")" >> "$log"; }
# What practitioners do.
recipe='chown -R 0:0 "$0"; find "$0" -type d -exec chmod 755 {} +; find "$0" -type f -exec chmod 644 {} +; chcon -R "$1" "$0"'
for run in $(seq "$runs"); do
  echo "run $run of $runs" >&2
  measure recipe bash -c "$recipe" "$site" system_u:object_r:httpd_sys_content_t:s0
  measure chown chown -R 33:33 "$site"
  measure chmod chmod -R 0777 "$site"
  measure chcon chcon -R "$old" "$site"
  sync
  bare calls_deviating lists labels programs
  audit deviating
  measure json "$ambrik" --host "$host" audit site --format json
  measure set "$ambrik" --host "$host" set site --yes --quiet
  sync
  measure listing find "$site" -printf '%m %U %G %y %p\n'
  bare calls_labels lists labels
  audit audit
  measure idle "$ambrik" --host "$host" set site --yes --quiet
  measure undo "$ambrik" --host "$host" undo --yes --quiet
  sync
  # The same without labels: as on a host that does not use SELinux, and that nobody found clean before it was changed by hand.
  rm -rf "$host/var/lib/ambrik"
  without_labels
  measure chown chown -R 33:33 "$site"
  measure chmod chmod -R 0777 "$site"
  sync
  bare calls_programs lists programs
  bare calls_look look
  bare calls_change look change
  chown -R 33:33 "$site"
  chmod -R 0777 "$site"
  sync
  measure set_plain "$ambrik" --host "$host" set site --yes --quiet
  sync
  measure listing find "$site" -printf '%m %U %G %y %p\n'
  bare calls lists
  audit audit_plain
  audit one_core taskset -c 0
  measure idle_plain "$ambrik" --host "$host" set site --yes --quiet
  # A folder with its share of the paths, so that the walk beside it is of the same paths.
  find "$site/lib" > "$folder/paths"
  measure walk find "$site/lib" -printf '%m %U %G %y %p\n'
  why --brief
  why --format json
  measure undo_plain "$ambrik" --host "$host" undo --yes --quiet
  sync
  with_labels
  rm -rf "$host/var/lib/ambrik"
  # Nothing of it is removed in between: ext4 looks long for an inode among those that went in the last minutes.
  sed "s|^root = .*|root = \"/srv/www/laid-$run\"|" "$host/etc/ambrik/sites/site.toml" > "$folder/new/etc/ambrik/sites/laid-$run.toml"
  measure unpack "$ambrik" --host "$folder/new" unpack "$folder/site.tar.gz" "laid-$run" --yes --quiet
  sync
  measure by_hand bash -c "$by_hand" "$folder/new/srv/www/by-hand-$run" "$folder/site.tar.gz"
  sync
done

ratio() { awk -v a="$1" -v b="$2" 'BEGIN { printf "%.2f", a / b }'; }
mib() { awk -v k="$1" 'BEGIN { printf "%.0f MiB", k / 1024 }'; }
m() { median "$1" 2; }
sum() { awk 'BEGIN { for (i = 1; i < ARGC; i++) s += ARGV[i]; print s }' "$@"; }
# row WHAT NAME BESIDE ITS-SECONDS BAR AIM CALLS: the bar is kept, the aim is where it is to go, the calls alone take so many seconds.
s() { awk -v s="$(m "$1")" 'BEGIN { printf "%.2f", s }'; }
row() {
  printf '| %s | %s s | %s | %s | %s | %s | %s | %s |\n' "$1" "$(s "$2")" "$(mib "$(median "$2" 3)")" "$3" "$(ratio "$(m "$2")" "$4")" \
    "${5:-}" "${6:-}" "${7:+$(ratio "$7" "$4")}"
}
three=$(sum "$(m chown)" "$(m chmod)" "$(m chcon)") two=$(sum "$(m chown)" "$(m chmod)")
# A change looks at all, and then makes each change.
changing=$(awk -v a="$(m calls_programs)" -v b="$(m calls_look)" -v c="$(m calls_change)" 'BEGIN { print a + c - b }')
cat <<END

$(find "$site" | wc -l) entries, $(find "$site" -type d | wc -l) of them folders; $runs runs, medians; $(nproc) cores;
Linux $(uname -r), $(stat -f -c %T "$folder"), warm cache; $(date +%F)

| what | time | memory | beside | ratio | bar | aim | the calls alone |
|---|---|---|---|---|---|---|---|
| \`find ROOT -printf '%m %U %G %y %p\n'\` | $(s listing) s | $(mib "$(median listing 3)") | | 1.00 | | | |
| \`chown -R\`, \`chmod -R\`, \`chcon -R\` | $(s chown) s, $(s chmod) s, $(s chcon) s | | | | | | |
| \`chown -R\`, \`find -type d -exec chmod +\`, \`find -type f -exec chmod +\`, \`chcon -R\` | $(s recipe) s | | | | | | |
$(row "audit, all as it should be" audit_plain listing "$(m listing)" 0.70 0.52 "$(m calls)")
$(row "the same with one core" one_core "two cores" "$(m audit_plain)" "at least 1.60")
$(row "set, nothing to do" idle_plain audit "$(m audit_plain)" 1.10)
$(row "set, every owner and mode" set_plain "chown + chmod" "$two" "" 0.80 "$changing")
$(row "undo of that" undo_plain set "$(m set_plain)" 1.20 1.00)
$(row "with labels: audit, all as it should be" audit listing "$(m listing)" "" 0.62 "$(m calls_labels)")
$(row "with labels: audit, every entry wrong" deviating listing "$(m listing)" "" 1.20 "$(m calls_deviating)")
$(row "with labels: the same in JSON, every path" json listing "$(m listing)" "" 2.00)
$(row "with labels: set, nothing to do" idle audit "$(m audit)" 1.10)
$(row "with labels: set, every owner, mode and label" set "chown + chmod + chcon" "$three" 1.00 0.70)
$(row "with labels: undo of that" undo set "$(m set)" 1.20 1.00)
$(row "unpack, $(tar -tzf "$folder/site.tar.gz" | wc -l) paths" unpack "tar + chown + 2 find" "$(m by_hand)" 1.00 1.00)
$(row "why --brief, $(wc -l < "$folder/paths") paths" why_--brief "their listing" "$(m walk)")
$(row "why --format json, the same" why_json "their listing" "$(m walk)")
END

if [ -n "${CHART:-}" ]; then
  # Name, ratio, bar; the line is where the bar is.
  printf '%s\t%s\t%s\n' \
    'audit / listing' "$(ratio "$(m audit_plain)" "$(m listing)")" 0.70 \
    'idle set / audit' "$(ratio "$(m idle_plain)" "$(m audit_plain)")" 1.10 \
    'set / (chown + chmod + chcon)' "$(ratio "$(m set)" "$three")" 1.00 \
    'undo / set' "$(ratio "$(m undo)" "$(m set)")" 1.20 |
    awk -F '\t' -f crates/ambrik/benches/chart.awk > "$CHART"
fi

if [ -n "${GROWTH:-}" ]; then
  printf '\n| entries (tmpfs) | audit | an entry | memory |\n|---|---|---|---|\n'
  mkdir -p "$folder/growth"
  for size in 5000 50000 500000 5000000; do
    mount -t tmpfs -o nr_inodes=6m,size=30G none "$folder/growth"
    "$folder/make_tree" "$folder/growth" "$size" > /dev/null
    "$ambrik" --host "$folder/growth" set site --yes --quiet > /dev/null 2>&1
    for _ in 1 2 3; do measure "growth_$size" "$ambrik" --host "$folder/growth" audit site --quiet; done
    # GNU time counts hundredths: a small tree is audited often enough in one go.
    times=$((size < 500000 ? 500000 / size : 1))
    measure "many_$size" bash -c 'for _ in $(seq "$1"); do "$0" --host "$2" audit site --quiet > /dev/null || [ $? -eq 1 ]; done' "$ambrik" "$times" "$folder/growth"
    awk -v n="$size" -v t="$(m "many_$size")" -v k="$(median "growth_$size" 3)" -v c="$times" \
      'BEGIN { printf "| %d | %.3f s | %.2f µs | %.0f MiB |\n", n, t / c, t / c / n * 1e6, k / 1024 }'
    umount "$folder/growth"
  done
fi
