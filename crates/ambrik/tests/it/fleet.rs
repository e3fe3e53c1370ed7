//! `--on`: other hosts, with real sshds that each have a folder of their own as their host, and with a stand-in for ssh where there are
//! many.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use rstest::rstest;
use serde_json::Value;

use crate::documents::checked;
use crate::host::is_root;
use crate::real;

/// Eight sshds on ports of their own; each runs what it is asked with its own `ambrik`, whose host is a folder. Of the last five, one
/// refuses, one hangs, one is of another version, one answers with rubbish without end, and one dies in the middle.
const HOSTS: &str = r#"
set -eu
export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
mount --make-rprivate /
work=$(mktemp -d)
mount -t tmpfs tmpfs "$work"
mount -t tmpfs tmpfs /run
mount -t tmpfs tmpfs /root
chmod 755 "$work"
mkdir -p /run/sshd /root/.ssh "$work/hosts"
ip link set lo up
export HOME=/root XDG_STATE_HOME="$work/state"
ssh-keygen -q -t ed25519 -N '' -f /root/.ssh/id
ssh-keygen -q -t ed25519 -N '' -f "$work/key"
cp /root/.ssh/id.pub "$work/authorized"
port=2200
for name in one two slow refuses hangs other endless dies; do
  port=$((port + 1))
  printf 'Host %s\n  HostName 127.0.0.1\n  Port %s\n  IdentityFile /root/.ssh/id\n' $name $port >> /root/.ssh/config
  [ $name != refuses ] || continue
  echo "[127.0.0.1]:$port $(cut -d' ' -f1,2 "$work/key.pub")" >> /root/.ssh/known_hosts
  mkdir -p "$work/hosts/$name/bin"
  cat > "$work/hosts/$name/sshd_config" <<END
Port $port
ListenAddress 127.0.0.1
HostKey $work/key
AuthorizedKeysFile $work/authorized
StrictModes no
UsePAM no
PidFile none
ForceCommand PATH=$work/hosts/$name/bin:\$PATH sh -c "\$SSH_ORIGINAL_COMMAND"
END
  /usr/sbin/sshd -f "$work/hosts/$name/sshd_config" -E "$work/hosts/$name/log"
  "$AMBRIK" demo --build-only "$work/hosts/$name/root" > /dev/null
  own="exec \"$AMBRIK\" --host \"$work/hosts/$name/root\" \"\$@\""
  case $name in
    slow) own="read -t 1 < /dev/zero || true; $own" ;;
    hangs) own="while :; do read line < $work/never; done" ;;
    other) own="echo '{\"ambrik\": \"audit/2\", \"sites\": []}'" ;;
    endless) own="echo '{\"ambrik\": \"audit/1\", \"sites\": ['; yes '{\"name\": \"x\", \"findings\": []},' | head -c 2000000000" ;;
    dies) own="case \" \$* \" in *' --of-run '*) setsid -w \"$AMBRIK\" --host \"$work/hosts/$name/root\" \"\$@\" & while ! [ -e \"$work/hosts/$name/root/srv/www/berths/.cut\" ] && ! \"$AMBRIK\" --host \"$work/hosts/$name/root\" history --format json 2> /dev/null | grep -q '\"set\"'; do :; done; kill -9 \$PPID; wait ;; esac; $own" ;;
  esac
  printf '#!/bin/bash\n%s\n' "$own" > "$work/hosts/$name/bin/ambrik"
  chmod +x "$work/hosts/$name/bin/ambrik"
done
mkfifo "$work/never"
ambrik() { "$AMBRIK" "$@"; }
"#;

const ASKED: &str = r#"
began=$(date +%s)
code=0
/usr/bin/time -f 'memory: %M' -o "$work/memory" "$AMBRIK" --on one,two,slow,refuses,hangs,other,endless --within 15s audit --format json > "$work/all.json" || code=$?
echo "code: $code"
echo "seconds: $(($(date +%s) - began))"
tail -n 1 "$work/memory"
echo "answered: $(jq -r '[.hosts[] | select(.exit != null) | .host] | join(" ")' "$work/all.json")"
echo "troubles: $(jq -r '[.hosts[] | select(.trouble) | "\(.host)=\(.trouble.reason)"] | join(" ")' "$work/all.json")"
echo "sites: $(jq '[.hosts[] | select(.exit != null) | .answer.sites | length] | add' "$work/all.json")"
echo "document: $(jq -c . "$work/all.json" | wc -c)"
jq -c . "$work/all.json" > "$work/one-line.json"
head -c 300 "$work/one-line.json" | tr -d '\n' | sed 's/^/begins: /'; echo
code=0; ambrik --on one,two,refuses audit > "$work/text" || code=$?
echo "first: $(head -n 1 "$work/text")"
echo "named: $(grep -c '^refuses: cannot be reached' "$work/text")"
"#;

#[test]
fn hosts_that_do_not_answer_are_named_and_the_others_answers_are_whole() {
    let Some(out) = with_sshd(&[HOSTS, ASKED]) else { return };
    let line = |name: &str| real::line(&out, name);
    assert_eq!((&*line("code"), &*line("answered")), ("3", "one two slow"), "{out}");
    assert_eq!(line("troubles"), "refuses=unreachable hangs=late other=too-new endless=too-much", "{out}");
    assert_eq!(line("sites"), "45", "{out}");
    assert!(line("memory").parse::<u64>().unwrap() < 200 << 10, "in KiB: {out}");
    assert!(line("seconds").parse::<u64>().unwrap() < 120, "{out}");
    assert!(line("first").starts_with("3 hosts, 1 gave no result; 30 sites"), "{out}");
    assert_eq!(line("named"), "1", "{out}");
}

const CHANGED: &str = r#"
picture() { for name in one two dies; do (cd "$work/hosts/$name/root/srv/www" && find . -printf "$name %p %m %U:%G\n"); done | sort; }
picture > "$work/before"
code=0; ambrik --on one,two,refuses set berths --yes > "$work/text" 2>&1 || code=$?
echo "refused: $code $(picture | diff -q "$work/before" - > /dev/null && echo unchanged)"
code=0; ambrik --on one,dies,two set berths --yes > "$work/text" 2>&1 || code=$?
echo "stopped: $code $(grep -c 'dies: begun, and what came of it is not known: went away in the middle' "$work/text") $(grep -c 'two: not begun' "$work/text") $(grep -c 'one: done' "$work/text")"
sets() { "$AMBRIK" --host "$work/hosts/$1/root" history --format json | jq -r '[.change_sets[] | "\(.command):\(.ended != null)"] | join(",")'; }
echo "one: $(sets one)"
echo "two: $(sets two)"
echo "dies: $(sets dies | cut -c1-4)"
sed -i 's/^case.*esac; exec/exec/' "$work/hosts/dies/bin/ambrik"
code=0; ambrik undo --fleet 1 --yes > "$work/text" 2>&1 || code=$?
echo "taken back: $code $(picture | diff "$work/before" - | head -n 3 | tr '\n' '|')"
"#;

#[test]
fn a_run_that_stops_in_the_middle_is_taken_back_whole() {
    let Some(out) = with_sshd(&[HOSTS, CHANGED]) else { return };
    let line = |name: &str| real::line(&out, name);
    assert_eq!(line("refused"), "3 unchanged", "{out}");
    assert_eq!(line("stopped"), "3 1 1 1", "{out}");
    assert_eq!((&*line("one"), &*line("two"), &*line("dies")), ("set:true", "", "set:"), "{out}");
    assert_eq!(line("taken back").trim(), "0", "{out}");
}

const LENT: &str = r#"
mv "$work/hosts/one/bin/ambrik" "$work/hosts/one/kept"
code=0; ambrik --on one checks > "$work/text" || code=$?
echo "without: $code $(grep -c 'one: has no Ambrik' "$work/text")"
mkdir -p "$work/tmp"
echo "SetEnv TMPDIR=$work/tmp" >> "$work/hosts/one/sshd_config"
pkill -f "$work/hosts/one/sshd_config"
while pgrep -f "$work/hosts/one/sshd_config" > /dev/null; do :; done
/usr/sbin/sshd -f "$work/hosts/one/sshd_config" -E "$work/hosts/one/log"
code=0; ambrik --on one --lend --host "$work/hosts/one/root" audit --format json > "$work/lent.json" || code=$?
echo "lent: $code $(jq -r '.hosts[0].answer.sites | length' "$work/lent.json") left: $(ls "$work/tmp" | wc -l)"
code=0; ambrik --on one --lend --host "$work/hosts/one/root" set berths > "$work/text" 2>&1 || code=$?
echo "to change: $code"
mkdir -p "$work/sent/all" "$work/sent/two"
sed "s|^root = .*|root = \"/srv/www/berths\"|" "$work/hosts/one/root/etc/ambrik/sites/berths.toml" > "$work/sent/all/quay.toml"
mv "$work/hosts/one/kept" "$work/hosts/one/bin/ambrik"
code=0; ambrik --on one --send-sites "$work/sent" audit --format json > "$work/sent.json" || code=$?
echo "sent: $code $(jq -r '[.hosts[0].answer.sites[].name] | join(" ")' "$work/sent.json") left: $(ls "$work/tmp" | wc -l)"
echo '[site]' > "$work/sent/all/quay.toml"
code=0; ambrik --on one --send-sites "$work/sent" set quay --yes > "$work/text" 2>&1 || code=$?
echo "wrong: $code $(grep -c 'nothing was changed' "$work/text")"
"#;

#[test]
fn a_host_without_the_program_is_lent_it_and_nothing_is_left() {
    let Some(out) = with_sshd(&[HOSTS, LENT]) else { return };
    let line = |name: &str| real::line(&out, name);
    assert_eq!(line("without"), "3 1", "{out}");
    assert_eq!(line("lent"), "1 15 left: 0", "{out}");
    assert_eq!(line("to change"), "2", "{out}");
    assert_eq!(line("sent"), "1 quay left: 0", "{out}");
    assert_eq!(line("wrong"), "2 1", "{out}");
}

const PAGES: &str = r#"
mkdir -p "$work/sites" "$work/tree" "$work/nginx"
echo welcome > "$work/tree/index.html"
chmod 644 "$work/tree/index.html"
cat > "$work/nginx.conf" <<END
user www-data;
pid $work/nginx/pid;
error_log $work/nginx/log;
events {}
http {
  access_log off;
  client_body_temp_path $work/nginx/a; proxy_temp_path $work/nginx/b; fastcgi_temp_path $work/nginx/c; uwsgi_temp_path $work/nginx/d; scgi_temp_path $work/nginx/e;
  server { listen 127.0.0.1:8090; root $work/tree; }
}
END
nginx -c "$work/nginx.conf"
# The site file closes what the page is.
cat > "$work/sites/berths.toml" <<END
[site]
root = "$work/tree"
url = "http://127.0.0.1:8090"
pages = ["/index.html"]
[accounts]
php = "nobody"
web = "www-data"
[[part]]
path = "index.html"
use = "secret"
END
printf '#!/bin/bash\nexec "%s" --sites "%s" --state "%s" "$@"\n' "$AMBRIK" "$work/sites" "$work/state-of-one" > "$work/hosts/one/bin/ambrik"
page() { curl -s -o /dev/null -w '%{http_code}' http://127.0.0.1:8090/index.html; }
echo "before: $(page)"
code=0; ambrik --on one,two set berths --yes > "$work/text" 2>&1 || code=$?
echo "after: $code $(page)"
grep -E '^(one|two): (failed|not begun|done)' "$work/text" | sed 's/^/of /'
code=0; ambrik undo --fleet 1 --yes > "$work/text" 2>&1 || code=$?
echo "back: $code $(page)"
nginx -c "$work/nginx.conf" -s stop
"#;

/// A page of a real server that answers no more after the change on one host: the next is not begun, and the way back is one command.
#[test]
fn a_page_that_breaks_stops_the_run() {
    let Some(out) = with_sshd(&[HOSTS, PAGES]) else { return };
    let line = |name: &str| real::line(&out, name);
    assert_eq!((&*line("before"), &*line("after"), &*line("back")), ("200", "3 403", "0 200"), "{out}");
    assert!(line("of one").starts_with("failed: "), "{out}");
    assert!(line("of one").ends_with("/index.html answered 200, and now 403"), "{out}");
    assert!(line("of two").starts_with("not begun"), "{out}");
}

const WATCHED: &str = r#"
mkdir -p "$work/sites" "$work/tree"
echo '<?php' > "$work/tree/index.php"
printf '[site]\nroot = "%s"\n[accounts]\nphp = "www-data"\n' "$work/tree" > "$work/sites/quay.toml"
ambrik --sites "$work/sites" --state "$work/state-of-one" set --yes > /dev/null
for name in one two; do
  printf '#!/bin/bash\nexec "%s" --sites "%s" --state "%s" "$@"\n' "$AMBRIK" "$work/sites" "$work/state-of-$name" > "$work/hosts/$name/bin/ambrik"
done
"$AMBRIK" --on one,two,slow,refuses,hangs --within 3s watch --format json > "$work/alerts" 2> "$work/log" &
watcher=$!
soon() { for try in $(seq 100000); do ! "$@" || return 0; done; echo "never: $*"; cat "$work/log" "$work/alerts"; return 1; }
both() { [ "$(grep -c "$1" "$2")" = 2 ]; }
soon both 'watching 1 site' "$work/log"
echo '<?php // changed' > "$work/tree/index.php"
soon both code-changed "$work/alerts"
echo "alerts: $(jq -r '"\(.host) \(.alert.alarm)"' "$work/alerts" | sort | tr '\n' ' ')"
soon grep -q 'hangs is not watched' "$work/log"
grep -o '[a-z]* is not watched: [^;]*' "$work/log" | sort | sed 's/ is not watched//; s/^/not /'
kill -TERM $watcher
code=0; wait $watcher || code=$?
gone() { ! pgrep -f "$work/state-of-.* watch" > /dev/null; }
soon gone
echo "ended: $code"
"#;

/// Over real connections: the alerts of each host, who is not watched and why, and nothing left running there.
#[test]
fn hosts_are_watched_until_it_is_ended_here() {
    let Some(out) = with_sshd(&[HOSTS, WATCHED]) else { return };
    let line = |name: &str| real::line(&out, name);
    assert_eq!(line("alerts").trim(), "one code-changed two code-changed", "{out}");
    assert_eq!(line("not refuses"), "cannot be reached", "{out}");
    assert_eq!(line("not hangs"), "did not answer in time", "{out}");
    assert_eq!(line("not slow"), "could not do it", "under --host nothing runs: {out}");
    assert_eq!(line("ended"), "0", "{out}");
}

fn with_sshd(pieces: &[&str]) -> Option<String> {
    if is_root() && !Path::new("/usr/sbin/sshd").exists() {
        test_support::missing("openssh-server");
        return None;
    }
    real::run(pieces)
}

/// Hosts that are folders, and a stand-in for ssh that runs the real program on each.
struct Fleet {
    dir: tempfile::TempDir,
    names: Vec<String>,
}

impl Fleet {
    fn of(hosts: usize) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let at = |path: &str| dir.path().join(path);
        let write = |path: &str, text: &str, mode: u32| {
            let path = at(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(&path, text).unwrap();
            fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
        };
        let (top, program) = (dir.path().display(), env!("CARGO_BIN_EXE_ambrik"));
        write(
            "bin/ssh",
            &format!(
                "#!/bin/sh\nwhile [ \"$1\" != -- ]; do shift; done\n[ -d {top}/hosts/$2 ] || {{ echo \"ssh: no $2\" >&2; exit 255; }}\n\
                 HOST_DIR={top}/hosts/$2 PATH={top}/there:$PATH exec sh -c \"$3\"\n"
            ),
            0o755,
        );
        write("there/ambrik", &format!("#!/bin/sh\nexec {program} --host \"$HOST_DIR\" \"$@\"\n"), 0o755);
        let names: Vec<String> = (1..=hosts).map(|n| format!("berth-{n:03}")).collect();
        for (n, name) in names.iter().enumerate() {
            let of = |path: &str| format!("hosts/{name}/{path}");
            write(
                &of("etc/passwd"),
                "root:x:0:0::/:/\nquay:x:61001:61001::/:/usr/sbin/nologin\nwww-data:x:33:33::/:/usr/sbin/nologin\n",
                0o644,
            );
            write(&of("etc/group"), "root:x:0:\nquay:x:61001:\nwww-data:x:33:\n", 0o644);
            for site in 0..10 {
                write(
                    &of(&format!("etc/ambrik/sites/pier-{site}.toml")),
                    &format!(
                        "[site]\nroot = \"/srv/www/pier-{site}\"\n[accounts]\nkeeper = \"root\"\nphp = \"quay\"\nweb = \"www-data\"\n"
                    ),
                    0o644,
                );
                let open = n % 4 == 0 && site == 3;
                write(&of(&format!("srv/www/pier-{site}/index.php")), "<?php\n", if open { 0o666 } else { 0o644 });
                write(&of(&format!("srv/www/pier-{site}/=lib.php")), "<?php\n", if open { 0o666 } else { 0o644 });
            }
        }
        Self { dir, names }
    }

    fn run(&self, words: &[&str]) -> Output {
        self.command(words).output().unwrap()
    }

    fn command(&self, words: &[&str]) -> Command {
        let path = format!("{}:/usr/bin:/bin", self.dir.path().join("bin").display());
        let mut command = Command::new(env!("CARGO_BIN_EXE_ambrik"));
        command
            .env_clear()
            .env("PATH", path)
            .env("TZ", "UTC")
            .env("XDG_STATE_HOME", self.at("state"))
            .stdin(Stdio::null());
        command.args(words);
        command
    }

    /// The mode of the file that is open on every fourth host.
    fn mode(&self, host: &str) -> u32 {
        let file = self.at(&format!("hosts/{host}/srv/www/pier-3/index.php"));
        fs::metadata(file).unwrap().permissions().mode() & 0o777
    }

    fn at(&self, path: &str) -> PathBuf {
        self.dir.path().join(path)
    }

    fn all(&self) -> String {
        self.names.join(",")
    }
}

fn text(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// One question to many hosts: what is wrong on some of them is told once, with how many have it.
#[test]
fn many_hosts_answer_as_one() {
    if !is_root() {
        return;
    }
    let fleet = Fleet::of(12);
    let on = format!("{},berth-999", fleet.all());
    let told = fleet.run(&["--on", &on, "audit"]);
    let out = text(&told);
    assert_eq!(told.status.code(), Some(3), "{out}");
    assert!(
        out.starts_with("13 hosts, 1 gave no result; 120 sites: 117 as they should be, 3 with findings\n"),
        "{out}"
    );
    assert!(out.contains("everyone-writes (high) on 3 of 12 hosts, 3 sites"), "{out}");
    assert!(out.contains("berth-999: cannot be reached (ssh: no berth-999)"), "{out}");
    assert!(out.lines().all(|line| line.chars().count() <= 100), "{out}");
    let listed = fleet.at("list");
    fs::write(&listed, fleet.names.join("\n")).unwrap();
    let document = fleet.run(&["audit", "--on", &format!("@{}", listed.display()), "--format", "json"]);
    let document = checked(&text(&document), "fleet");
    assert_eq!(document["hosts"].as_array().unwrap().len(), 12);
    let of_one: &Value = &document["hosts"][4]["answer"];
    checked(&of_one.to_string(), "audit");
    let cause =
        document["causes"].as_array().unwrap().iter().find(|cause| cause["check"] == "everyone-writes").unwrap();
    assert_eq!((&cause["hosts"], &cause["on"][0]), (&3.into(), &"berth-001".into()));
    // What is the same everywhere is said once.
    let told = text(&fleet.run(&["--on", &fleet.all(), "history"]));
    assert_eq!(told.matches("nothing has been changed yet").count(), 1, "{told}");
    assert!(told.starts_with("berth-001, berth-002, ") && told.contains("berth-012"), "{told}");
}

#[rstest]
#[case::csv("csv")]
#[case::junit("junit")]
#[case::sarif("sarif")]
#[case::openmetrics("openmetrics")]
#[case::html("html")]
fn every_format_has_the_hosts(#[case] format: &str) {
    if !is_root() {
        return;
    }
    let fleet = Fleet::of(5);
    let file = fleet.at("report");
    let on = format!("{},berth-999", fleet.all());
    let ran = fleet.run(&["--on", &on, "audit", "--format", format, "--to", file.to_str().unwrap()]);
    assert_eq!((ran.status.code(), ran.stdout.is_empty()), (Some(3), true), "{ran:?}");
    let found = fs::read_to_string(&file).unwrap();
    assert!(found.contains("berth-999") && found.contains("berth-005"), "{found}");
    match format {
        "csv" => {
            let mut rows = csv_rows(&found);
            let head = rows.remove(0);
            assert!(rows.iter().all(|row| row.len() == head.len()));
            let of = |host: &str| {
                rows.iter().filter(|row| row[0] == host && row[2] == "php-writes-code").collect::<Vec<_>>()
            };
            assert_eq!((of("berth-001").len(), of("berth-002").len()), (2, 0));
            assert!(of("berth-001").iter().any(|row| row[5] == "'=lib.php"), "no formula: {found}");
        }
        "junit" => {
            let page = roxmltree::Document::parse(&found).unwrap();
            let suites = page.descendants().filter(|node| node.has_tag_name("testsuite"));
            assert_eq!(suites.filter(|node| node.attribute("hostname") == Some("berth-003")).count(), 10);
            assert!(page.descendants().any(|node| node.has_tag_name("failure")));
        }
        "sarif" => {
            let found: serde_sarif::sarif::Sarif = serde_json::from_str(&found).unwrap();
            assert_eq!(found.runs.len(), 6);
        }
        "openmetrics" => {
            assert!(found.contains("ambrik_host_answered{host=\"berth-999\"} 0"), "{found}");
            assert!(found.contains(
                "ambrik_findings{host=\"berth-001\",site=\"pier-3\",check=\"php-writes-code\",severity=\"high\"} 1"
            ));
            assert!(found.ends_with("# EOF\n"));
        }
        _ => {
            assert!(!found.contains("<script") && found.contains("default-src 'none'"));
            assert!(found.contains("5 of 6 hosts gave a result"), "{found}");
        }
    }
}

/// An archive of this side is unpacked on each host through sudo, and one number takes it back everywhere.
#[test]
fn an_archive_goes_along_and_a_run_comes_back() {
    if !is_root() {
        return;
    }
    let fleet = Fleet::of(2);
    let sudo = fleet.at("there/sudo");
    fs::write(
        &sudo,
        format!(
            "#!/bin/sh\necho \"$*\" >> {}\n[ \"$1\" = -n ] || exit 1\nshift\nexec \"$@\"\n",
            fleet.at("asked").display()
        ),
    )
    .unwrap();
    fs::set_permissions(&sudo, fs::Permissions::from_mode(0o755)).unwrap();
    let mut archive = tar::Builder::new(flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast()));
    for path in ["index.php", "lib/new.php"] {
        let mut header = tar::Header::new_gnu();
        header.set_size(6);
        header.set_mode(0o644);
        archive.append_data(&mut header, format!("pier-2/{path}"), &b"<?php "[..]).unwrap();
    }
    let packed = fleet.at("pier-2.tar.gz");
    fs::write(&packed, archive.into_inner().unwrap().finish().unwrap()).unwrap();
    let there = |path: &str| {
        fleet.names.iter().filter(|name| fleet.at(&format!("hosts/{name}/srv/www/pier-0/{path}")).exists()).count()
    };
    let words = ["--on", &fleet.all(), "--sudo", "--batch", "2", "unpack", packed.to_str().unwrap(), "pier-0"];
    let ran = fleet.run(&words);
    assert_eq!((ran.status.code(), there("lib/new.php")), (Some(2), 0), "nobody was asked: {ran:?}");
    let ran = fleet.run(&[&words[..], &["--yes", "--format", "json"]].concat());
    assert_eq!((ran.status.code(), there("lib/new.php")), (Some(0), 2), "{ran:?}");
    let document = checked(&text(&ran), "fleet");
    assert_eq!(document["run"], 1);
    checked(&document["hosts"][1]["answer"].to_string(), "unpack");
    let asked = fs::read_to_string(fleet.at("asked")).unwrap();
    assert!(
        asked.lines().all(|line| line.starts_with("-n ambrik ") && line.contains(" --format json "))
            && asked.contains(" - pier-0"),
        "{asked}"
    );
    let shown = fleet.run(&["undo", "--fleet", "1", "--preview"]);
    assert_eq!((shown.status.code(), there("lib/new.php")), (Some(1), 2), "{shown:?}");
    let back = fleet.run(&["undo", "--fleet", "1", "--yes"]);
    assert_eq!((back.status.code(), there("lib/new.php"), there("=lib.php")), (Some(0), 0, 2), "{back:?}");
    let again = fleet.run(&["undo", "--fleet", "1", "--yes"]);
    assert_eq!(again.status.code(), Some(2), "{again:?}");
}

/// What a host says about itself is counted, and shown escaped: a list without end, a text of signs, numbers that are none.
#[rstest]
#[case::terminal(
    "{\"ambrik\":\"audit/1\",\"sites\":[{\"name\":\"\\u001b]0;x\\u0007\",\"findings\":[{\"check\":\"\\u202e\",\"severity\":\"high\",\"says\":\"\\u001b[2J\"}]}]}",
    0
)]
#[case::deep("[[[[[[[[", 3)]
#[case::bytes("\u{1}\u{2}\u{3}", 3)]
fn a_hostile_answer_is_only_an_answer(#[case] answer: &str, #[case] code: i32) {
    if !is_root() {
        return;
    }
    let fleet = Fleet::of(2);
    fs::write(fleet.at("answer"), answer).unwrap();
    let lies = format!(
        "#!/bin/sh\ncase $HOST_DIR in *berth-001) cat {}; printf '\\033[31m' >&2; exit 0 ;; esac\nexec {} --host \"$HOST_DIR\" \"$@\"\n",
        fleet.at("answer").display(),
        env!("CARGO_BIN_EXE_ambrik")
    );
    fs::write(fleet.at("there/ambrik"), lies).unwrap();
    for format in ["text", "json", "csv", "html", "junit", "openmetrics", "sarif"] {
        let ran = fleet.run(&["--on", &fleet.all(), "audit", "--format", format]);
        let (out, err) = (text(&ran), String::from_utf8_lossy(&ran.stderr).into_owned());
        assert_eq!(ran.status.code(), Some(if code == 0 { 1.max(code) } else { code }), "{format}: {out}{err}");
        assert!(!(out.clone() + &err).contains(['\u{1b}', '\u{7}', '\u{1}']), "{format}: {out}{err}");
        assert!(format == "json" || !out.contains('\u{202e}'), "{format}: {out}");
        assert!(out.contains("berth-001"), "{format}: {out}");
    }
}

fn csv_rows(text: &str) -> Vec<Vec<String>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(text.as_bytes());
    reader.records().map(|row| row.unwrap().iter().map(str::to_owned).collect()).collect()
}

/// Nobody is asked twice, and each host is named with what would be changed there; no is no.
#[rstest]
#[case("yes\n", 0, true)]
#[case("no\n", 0, false)]
fn one_question_is_asked(#[case] answer: &str, #[case] code: i32, #[case] changes: bool) {
    use std::io::Write as _;
    if !is_root() {
        return;
    }
    let fleet = Fleet::of(5);
    let line = format!("{} --on {} set pier-3", env!("CARGO_BIN_EXE_ambrik"), fleet.all());
    let mut command = Command::new("script");
    let path = format!("{}:/usr/bin:/bin", fleet.at("bin").display());
    command
        .args(["-qec", &line, "/dev/null"])
        .env("PATH", path)
        .env("XDG_STATE_HOME", fleet.at("state"))
        .env("TERM", "dumb");
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(answer.as_bytes()).unwrap();
    let told = child.wait_with_output().unwrap();
    let out = text(&told);
    assert_eq!(told.status.code(), Some(code), "{out}");
    assert_eq!(out.matches("Make these changes on 2 hosts? [y/N]").count(), 1, "{out}");
    assert!(out.contains("berth-001: pier-3: 2 paths") && out.contains("berth-002: nothing to do"), "{out}");
    assert_eq!(out.contains("ambrik undo --fleet 1"), changes, "{out}");
    let want = if changes { 0o644 } else { 0o666 };
    assert_eq!(
        (fleet.mode("berth-001"), fleet.mode("berth-005"), fleet.mode("berth-002")),
        (want, want, 0o644),
        "{out}"
    );
}

/// Where a page does not answer any more after a change (exit code 3 there), the hosts after that one are left alone, unless whoever asks
/// knows better; the record says how far each is.
#[rstest]
#[case::stops(&[], "not begun")]
#[case::goes_on(&["--go-on"], "done")]
fn where_a_host_breaks_it_stops(#[case] more: &[&str], #[case] last: &str) {
    if !is_root() {
        return;
    }
    let fleet = Fleet::of(9);
    let breaks = format!(
        "#!/bin/sh\ncase \" $* \" in *' --of-run '*) case $HOST_DIR in *berth-005) {0} --host \"$HOST_DIR\" \"$@\"; exit 3 ;; esac ;; esac\n\
         exec {0} --host \"$HOST_DIR\" \"$@\"\n",
        env!("CARGO_BIN_EXE_ambrik")
    );
    fs::write(fleet.at("there/ambrik"), breaks).unwrap();
    let ran = fleet.run(&[&["--on", &fleet.all(), "set", "pier-3", "--yes"][..], more].concat());
    let out = text(&ran);
    assert_eq!(ran.status.code(), Some(3), "{out}");
    for told in ["berth-001: done", "berth-005: failed: not all of it (exit code 3)", &format!("berth-009: {last}")] {
        assert!(out.contains(told), "{told}: {out}");
    }
    let record = fs::read_to_string(fleet.at("state/ambrik/fleet/1.json")).unwrap();
    assert_eq!(record.matches("\"waiting\"").count(), usize::from(more.is_empty()), "{record}");
    let back = fleet.run(&["undo", "--fleet", "1", "--yes"]);
    assert_eq!(back.status.code(), Some(0), "{back:?}");
    assert_eq!(["berth-001", "berth-005", "berth-009"].map(|name| fleet.mode(name)), [0o666; 3]);
}

/// An undo over hosts is a run as well, and what it took away comes again; what makes no change sets promises no way back.
#[test]
fn only_what_can_be_taken_back_is_said_to_be() {
    if !is_root() {
        return;
    }
    let fleet = Fleet::of(1);
    let mode = || fleet.mode("berth-001");
    let on = |words: &[&str]| fleet.run(&[&["--on", "berth-001"], words, &["--yes"]].concat());
    assert_eq!((on(&["set", "pier-3"]).status.code(), mode()), (Some(0), 0o644));
    assert_eq!((on(&["undo", "1"]).status.code(), mode()), (Some(0), 0o666));
    let again = fleet.run(&["undo", "--fleet", "2", "--yes"]);
    assert_eq!((again.status.code(), mode()), (Some(0), 0o644), "{again:?}");
    let accepted = on(&["accept", "pier-3", "everyone-writes", "index.php", "--because", "tried"]);
    let told = text(&accepted) + &String::from_utf8_lossy(&accepted.stderr);
    assert_eq!((accepted.status.code(), told.contains("--fleet")), (Some(0), false), "{told}");
    assert!(fs::read_to_string(fleet.at("hosts/berth-001/etc/ambrik/sites/pier-3.toml")).unwrap().contains("tried"));
    assert!(!fleet.at("state/ambrik/fleet/3.json").exists());
}

/// The hosts can come from standard input; nothing is said where nothing is to be said; what would be read here is not sent.
#[test]
fn a_list_of_hosts_and_silence() {
    use std::io::Write as _;
    if !is_root() {
        return;
    }
    let fleet = Fleet::of(3);
    let mut command = fleet.command(&["--on", "@-", "audit", "--format", "json"]);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(b"# quay\nberth-002\nberth-003\n").unwrap();
    let told = child.wait_with_output().unwrap();
    assert_eq!(checked(&text(&told), "fleet")["hosts"][1]["host"], "berth-003", "{told:?}");
    // One account for ten sites is a finding of medium: of the bar it is told, below it nothing is.
    let quiet = fleet.run(&["--on", "berth-002,berth-003", "audit", "--fail-on", "high", "-q"]);
    assert_eq!((quiet.status.code(), text(&quiet).as_str()), (Some(0), ""), "{quiet:?}");
    let silent = fleet.run(&["--on", "berth-002,berth-999", "audit", "--fail-on", "high", "-q"]);
    assert!(silent.status.code() == Some(3) && text(&silent).contains("berth-999: cannot be reached"), "{silent:?}");
    let here = fleet.run(&["--on", "berth-002", "why", "-", "--as", "quay"]);
    assert_eq!(here.status.code(), Some(2), "{here:?}");
    let json = fleet.run(&["--on", "berth-001,berth-999", "set", "--yes", "--format", "json"]);
    assert!(
        checked(&text(&json), "error")["error"].as_str().unwrap().starts_with("berth-999: cannot be reached"),
        "{json:?}"
    );
}

/// What is new is told by each host itself.
#[test]
fn news_of_many_hosts() {
    if !is_root() {
        return;
    }
    let fleet = Fleet::of(2);
    let told = || text(&fleet.run(&["--on", &fleet.all(), "audit", "--news"]));
    told();
    assert!(told().contains("nothing to be said"), "{}", told());
    fs::set_permissions(fleet.at("hosts/berth-002/srv/www/pier-1/index.php"), fs::Permissions::from_mode(0o666))
        .unwrap();
    let news = told();
    assert!(news.contains("berth-001\nnothing to be said") && news.contains("everyone-writes"), "{news}");
    let document = checked(&text(&fleet.run(&["--on", &fleet.all(), "audit", "--news", "--format", "json"])), "fleet");
    checked(&document["hosts"][0]["answer"].to_string(), "news");
}

/// What is for other hosts alone says so; what cannot be a host's name is none.
#[rstest]
#[case::no_hosts(&["--sudo", "audit"], "--sudo is for other hosts")]
#[case::an_option(&["--on=-oProxyCommand=x", "audit"], "is no host's name")]
#[case::this_side(&["--on", "a", "demo"], "this command is for this side")]
#[case::format(&["--on", "a", "history", "--format", "csv"], "--format csv is for audits")]
#[case::none(&["--on", ",", "audit"], "no host is named")]
#[case::no_run(&["undo", "--fleet", "7", "--yes"], "there is no run over hosts with number 7")]
fn what_cannot_be_asked_is_said(#[case] words: &[&str], #[case] says: &str) {
    let fleet = Fleet::of(0);
    let ran = fleet.run(words);
    let err = String::from_utf8_lossy(&ran.stderr).into_owned();
    assert_eq!((ran.status.code(), err.contains(says)), (Some(2), true), "{err}");
}
