//! Sites of other shapes on real servers, nginx and Apache httpd with php-fpm: each works before, after `set` and after `seal`,
//! and accounts can do what the table of rights says and no more.

use std::collections::BTreeMap;

use rstest::rstest;

use crate::real;

/// A small application of one page, a picture and settings, instead of the bookings; the server's document root below it.
const SHAPES: &str = r#"
say() { printf '%s: ' "$1"; tr '\n' ' '; echo; }
code() { get -o /dev/null -w '%{http_code}' "$url/$1"; }
as() { user=$1; shift; setpriv --reuid="$user" --regid="$user" --clear-groups "$@" 2> /dev/null && printf yes || printf no; }
page() { # FOLDER SAYS SETTINGS
  mkdir -p "$1"
  printf '<?php $settings = require "%s"; echo "%s ", $settings["key"];' "$3" "$2" > "$1/index.php"
  echo 'h1 { color: navy }' > "$1/style.css"
}
settings() { mkdir -p "$(dirname "$1")"; echo "<?php return ['key' => 'made-up'];" > "$1"; }
root_of() { # NAME BELOW
  sed -i "s|www/$1\";|www/$1/$2\";|" "/etc/nginx/sites-enabled/$1" 2> /dev/null || true
  sed -i "s|\(DocumentRoot .*www/$1\)\$|\1/$2|; s|\(<Directory .*www/$1\)>|\1>|" "/etc/apache2/sites-enabled/$1.conf" 2> /dev/null || true
}
site_file() { printf '[site]\nroot = "%s"\nserved = "%s"\nurl = "http://127.0.0.1:%s/"\npages = ["/"]\n[accounts]\nphp = "quay"\nweb = "www-data"\nothers = "none"\n' "$2" "$3" "$port"; shift; cat; }
"#;

/// The bookings, and in a folder of theirs the notices; each with its own site file.
const NESTED: &str = r#"
top="$work/www/$name"; rm -rf "$top"
page "$top" outer "$top/config/settings.php"; settings "$top/config/settings.php"
page "$top/notices" inner "$top/notices/settings.php"; settings "$top/notices/settings.php"
mkdir -p "$top/uploads" "$top/notices/uploads"; echo pic > "$top/notices/uploads/pic.svg"; echo pic > "$top/uploads/pic.svg"
printf '[[part]]\npath = "config/settings.php"\nuse = "secret"\n[[part]]\npath = "uploads"\nuse = "store"\n' | site_file x "$top" . > "$work/sites/$name.toml"
printf '[[part]]\npath = "settings.php"\nuse = "secret"\n[[part]]\npath = "uploads"\nuse = "store"\n' | site_file x "$top/notices" . > "$work/sites/notices.toml"
given="$top"; sites="$name notices"; pages="index.php notices/index.php uploads/pic.svg notices/uploads/pic.svg"
secrets="$top/config/settings.php $top/notices/settings.php"; written="$top/uploads $top/notices/uploads"
"#;

/// Releases side by side, what they share beside them, and a link to the one that is served.
const RELEASES: &str = r#"
top="$work/www/$name"; rm -rf "$top"
for release in 1 2; do
  page "$top/releases/$release" "release $release" "$top/releases/$release/settings.php"
  ln -s ../../shared/settings.php "$top/releases/$release/settings.php"; ln -s ../../shared/uploads "$top/releases/$release/uploads"
done
settings "$top/shared/settings.php"; mkdir -p "$top/shared/uploads"; echo pic > "$top/shared/uploads/pic.svg"
ln -s releases/1 "$top/current"; root_of "$name" current
# PHP would remember for two minutes where the link led.
printf 'realpath_cache_ttl = 0\nrealpath_cache_size = 0\nopcache.enable = 0\n' > "$fpm/conf.d/99-story.ini"
printf '[[part]]\npath = "%s/shared/settings.php"\nuse = "secret"\n[[part]]\npath = "%s/shared/uploads"\nuse = "store"\n' "$top" "$top" | site_file x "$top/current" . > "$work/sites/$name.toml"
given="$top/releases/1 $top/shared/uploads $top/shared/settings.php"; sites="$name"; pages="index.php uploads/pic.svg"; secrets="$top/shared/settings.php"; written="$top/shared/uploads"
"#;

/// A public folder, with a link to the folder in which what visitors may see is stored.
const FRAMEWORK: &str = r#"
top="$work/www/$name"; rm -rf "$top"
page "$top/public" framework "$top/config/settings.php"; settings "$top/config/settings.php"
mkdir -p "$top/storage/app/public" "$top/storage/sessions"; echo pic > "$top/storage/app/public/pic.svg"; echo x > "$top/storage/sessions/one"
ln -s ../storage/app/public "$top/public/storage"; root_of "$name" public
printf '[[part]]\npath = "config/settings.php"\nuse = "secret"\n[[part]]\npath = "storage"\nuse = "scratch"\n[[part]]\npath = "storage/app"\nuse = "store"\n' | site_file x "$top" public > "$work/sites/$name.toml"
given="$top"; sites="$name"; pages="index.php storage/pic.svg"; secrets="$top/config/settings.php $top/storage/sessions/one"; written="$top/storage/app/public"
"#;

/// What visitors get, and what accounts can do.
const LOOK: &str = r#"
url=http://127.0.0.1:$port
look() {
  for page in $pages; do code "$page"; printf ' '; done
  for secret in $secrets; do printf '%s%s%s ' "$(as quay test -r "$secret")" "$(as www-data test -r "$secret")" "$(as nobody test -r "$secret")"; done
  for folder in $written; do printf '%s%s ' "$(as quay test -w "$folder")" "$(as www-data test -w "$folder")"; done
  as quay test -w "$top"; echo
}
"#;

const STORY: &str = r#"
await "$url/index.php"
chown -R quay:quay $given
chmod -R u=rwX,go=rX "$work/www/$name"
look | say before
for site in $sites; do { ambrik set "$site" --yes 2>&1 && echo "exit 0" || echo "exit $?"; } | say "set $site"; done
look | say 'after set'
for site in $sites; do { ambrik seal "$site" --yes --unfinished --fail-on never 2>&1 && echo "exit 0" || echo "exit $?"; } | say "seal $site"; done
look | say 'after seal'
{ ambrik set --preview 2>&1 || true; } | say again
{ ambrik audit 2>&1 || true; } | say audit
"#;

fn told(pieces: &[&str]) -> Option<BTreeMap<String, String>> {
    let text = real::run(pieces)?;
    let lines = text.lines().filter_map(|line| line.split_once(": "));
    Some(lines.map(|(what, answer)| (what.to_owned(), answer.trim().to_owned())).collect())
}

fn serve(server: &str) -> &'static str {
    match server {
        "nginx" => "name=quay-site\nport=8081\nnginx_site $name $port none\n",
        _ => "name=quay-site\nport=8083\napache_site $name $port none\n",
    }
}

/// PHP reads secrets and the web server and others do not; PHP writes stores and the web server does not; code is nobody's.
#[rstest]
#[case::nested(NESTED, "200 200 200 200", "yesnono yesnono", "yesno yesno")]
#[case::releases(RELEASES, "200 200", "yesnono", "yesno")]
#[case::framework(FRAMEWORK, "200 200", "yesnono yesnono", "yesno")]
fn works_before_and_after(
    #[case] shape: &str,
    #[case] pages: &str,
    #[case] secrets: &str,
    #[case] written: &str,
    #[values("nginx", "apache2")] server: &str,
) {
    let pieces = [real::SETUP, SHAPES, serve(server), shape, real::SERVE, LOOK, STORY];
    let Some(told) = told(&pieces) else { return };
    let step = |what: &str| told.get(what).map_or("", String::as_str);
    assert!(step("before").starts_with(pages), "it does not even work before: {told:#?}");
    for after in ["after set", "after seal"] {
        assert_eq!(step(after), format!("{pages} {secrets} {written} no"), "{told:#?}");
    }
    let runs = told.iter().filter(|(what, _)| what.starts_with("set ") || what.starts_with("seal "));
    assert!(runs.clone().count() >= 2 && { runs }.all(|(_, answer)| answer.ends_with("exit 0")), "{told:#?}");
    assert!(!step("again").contains("get other rights") && !step("audit").contains("high"), "{told:#?}");
}

const NEW_RELEASE: &str = r#"
await "$url/index.php"
ambrik survey "$top/current" | grep '^root' | say survey
ambrik set "$name" --yes > /dev/null
ln -s releases/2 "$top/new"; mv -T "$top/new" "$top/current"
chown -R quay:quay "$top/releases/2"; chmod -R go=rwX "$top/releases/2"
{ ambrik set "$name" --yes 2>&1 && echo "exit 0" || echo "exit $?"; } | say set
get "$url/index.php" | say page
as quay test -w "$top/releases/2/index.php" | say writable
"#;

/// The link is the root: a new release is one `set`, and that it is one is said.
#[test]
fn a_new_release_is_one_set() {
    let pieces = [real::SETUP, SHAPES, serve("nginx"), RELEASES, real::SERVE, LOOK, NEW_RELEASE];
    let Some(told) = told(&pieces) else { return };
    let has = |what: &str, want: &str| assert!(told[what].contains(want), "{what}: {told:#?}");
    has("survey", "/current\"");
    has("set", "another folder is there than when it was changed last: a new release?");
    has("set", "exit 0");
    has("page", "release 2 made-up");
    assert_eq!(told["writable"], "no", "{told:#?}");
}

/// The demo's bookings, made to work as practitioners do; then a site file that would break them.
const BREAKS: &str = r#"
url=http://127.0.0.1:$port
top="$work/www/$name"
await "$url/assets/style.css"
mkdir -p "$top/uploads" "$top/var/cache" "$top/var/log"
chmod -R 777 "$top"
get -d password=made-up "$url/install/index.php" > /dev/null
rm -rf "$top/install"
cp "$work/sites/$name.toml" "$work/right.toml"
code '' | say before
{ sed 's|^url = .*|&\npages = ["/", "/missing.php"]|' "$work/right.toml"; printf '[[part]]\npath = "lib"\nuse = "hidden"\n'; } > "$work/sites/$name.toml"
find "$top" -printf '%p %U:%G %m\n' | sort > "$work/before"
{ ambrik set "$name" --yes --or-undo 2>&1 && echo "exit 0" || echo "exit $?"; } | say or-undo
code '' | say 'after or-undo'
find "$top" -printf '%p %U:%G %m\n' | sort | diff "$work/before" - | say differences
{ ambrik set "$name" --yes --format json 2> "$work/err" || echo "exit $?" > "$work/exit"; } | jq -c '.sites[0].broken' | say json
cat "$work/err" "$work/exit" | say told
code '' | say broken
ambrik undo --yes > /dev/null
code '' | say 'after undo'
cp "$work/right.toml" "$work/sites/$name.toml"
{ ambrik set "$name" --yes 2>&1 && echo "exit 0" || echo "exit $?"; } | say right
code '' | say after
"#;

/// A change that breaks a page is told at once, and taken back where that is asked for.
#[rstest]
fn what_breaks_a_page_is_told_and_taken_back(#[values("nginx", "apache2")] server: &str) {
    let Some(told) = told(&[real::SETUP, SHAPES, serve(server), real::SERVE, BREAKS]) else { return };
    let has = |what: &str, want: &str| assert!(told[what].contains(want), "{what}: {told:#?}");
    has("or-undo", "/ answered before the change (200), and does not any more: ");
    has("or-undo", "the change was taken back");
    has("or-undo", "exit 3");
    has("told", "take the change back with: ambrik undo");
    has("told", "exit 3");
    has("json", "\"before\":\"200\",\"after\":");
    assert!(!told["or-undo"].contains("missing.php"), "it did not work before: {told:#?}");
    assert_eq!(told["differences"], "", "{told:#?}");
    let pages = ["before", "after or-undo", "after undo", "after"].map(|when| told[when].as_str());
    assert!(pages == ["200"; 4] && told["broken"] != "200", "{told:#?}");
    has("right", "exit 0");
}
