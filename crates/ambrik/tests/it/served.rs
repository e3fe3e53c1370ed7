//! A whole deployment of the demo's `berths`, through HTTP, on nginx and on Apache httpd, each with php-fpm under an account
//! of its own; with others reading code, and not.

use std::collections::BTreeMap;

use crate::real;

const SITES: &str = "
nginx_site nginx-read 8081 read
nginx_site nginx-none 8082 none
apache_site apache-read 8083 read
apache_site apache-none 8084 none
";

/// Deploys each site, and prints what visitors get at each step, a line each: `SITE what: answer`.
const STEPS: &str = r#"
deploy() { # NAME PORT SERVER
  url=http://127.0.0.1:$2
  await "$url/assets/style.css"
  say() { printf '%s %s: %s\n' "$1" "$2" "$(tr '\n' ' ' | head -c 4000)"; }
  get "$url/install/" | say "$1" 'before open'
  { ambrik open "$1" --for 10m --yes 2>&1; echo "exit $?"; } | say "$1" open
  get "$url/install/" | say "$1" 'while open'
  get -d password=made-up "$url/install/index.php" | say "$1" installed
  { ambrik seal "$1" --yes 2>&1 && echo "exit 0" || echo "exit $?"; } | say "$1" seal
  get -o /dev/null -w '%{http_code}' "$url/install/" | say "$1" installer
  get -w ' %{http_code}' "$url/" | say "$1" page
  printf '<svg xmlns="http://www.w3.org/2000/svg"/>' > "$work/north.svg"
  get -o /dev/null -w '%{http_code}' -F "picture=@$work/north.svg" "$url/upload.php" | say "$1" upload
  get -w ' %{http_code}' "$url/uploads/north.svg" | say "$1" picture
  get "$url/attempt.php" | say "$1" attempt
  get -w ' %{http_code}' "$url/config/settings.php" | say "$1" settings
  echo '<?php echo "run", "ning";' > "$work/evil.php"
  get -o /dev/null -F "picture=@$work/evil.php" "$url/upload.php"
  get -w ' %{http_code}' "$url/uploads/evil.php" | say "$1" 'uploaded PHP'
  ambrik audit "$1" --over-http --format json > "$work/audit.json" 2> "$work/audit.err" || true
  jq -r '.sites[0].findings[].check' < "$work/audit.json" | say "$1" findings
  jq -r --arg program "$3" '.sites[0].findings[].configuration[]? | select(.program == $program) | .lines' < "$work/audit.json" > "$work/lines/$1.conf"
  if [ "$3" = nginx ]; then nginx -t 2>&1 | say "$1" configuration; nginx -s reload; else apachectl configtest 2>&1 | say "$1" configuration; apachectl graceful; fi
  for try in $(seq 2000); do
    answer=$(get -w ' %{http_code}' "$url/uploads/evil.php")
    case $answer in *running*) ;; *) break ;; esac
  done
  echo "$answer" | say "$1" 'with the lines'
  ambrik audit "$1" --over-http --format json < /dev/null 2> "$work/audit.err" | jq -r '.sites[0].findings[].check' | say "$1" 'findings then'
  ls -A "$work/www/$1/uploads" | say "$1" left
}
# A service manager that only writes down what it is asked for.
mkdir -p /run/systemd/system "$work/bin"
for program in systemd-run systemctl; do
  printf '#!/bin/sh\necho "%s $*" >> %s/armed\n' $program "$work" > "$work/bin/$program"
  chmod 755 "$work/bin/$program"
done
{ PATH="$work/bin:$PATH" ambrik open nginx-read --for 10m --yes --arm 2>&1; cat "$work/armed"; } | { printf 'nginx-read armed: '; tr '\n' ' '; echo; }
rm -rf /run/systemd
ambrik undo --yes > /dev/null

deploy nginx-read 8081 nginx
deploy nginx-none 8082 nginx
deploy apache-read 8083 apache2
deploy apache-none 8084 apache2
"#;

fn steps() -> Option<BTreeMap<(String, String), String>> {
    let text = real::run(&[real::SETUP, SITES, real::SERVE, STEPS])?;
    let lines = text.lines().filter_map(|line| line.split_once(": "));
    let lines = lines.filter_map(|(what, answer)| Some((what.split_once(' ')?, answer)));
    Some(lines.map(|((site, what), answer)| ((site.to_owned(), what.to_owned()), answer.trim().to_owned())).collect())
}

#[test]
fn a_deployment_on_real_servers() {
    let Some(steps) = steps() else { return };
    let armed = &steps[&("nginx-read".to_owned(), "armed".to_owned())];
    assert!(armed.contains("closed by itself: timer ambrik-close-nginx-read"), "{armed}");
    assert!(armed.contains("systemd-run --unit ambrik-close-nginx-read --on-active=600s /"), "{armed}");
    assert!(armed.contains("/sites/nginx-read.toml --yes"), "{armed}");
    for site in ["nginx-read", "nginx-none", "apache-read", "apache-none"] {
        let step = |what: &str| {
            let answer = steps.get(&(site.to_owned(), what.to_owned()));
            answer.unwrap_or_else(|| panic!("{site} {what}: {steps:#?}")).as_str()
        };
        let has =
            |what: &str, want: &str| assert!(step(what).contains(want), "{site} {what}: {}\n{steps:#?}", step(what));
        has("before open", "These cannot be written: <ul><li>config/settings.php");
        has("open", "exit 0");
        has("open", "next: open http://127.0.0.1:808");
        has("while open", "<form method=\"post\"><h1>Install</h1>");
        has("installed", "<h1>Installed</h1>");
        has("seal", "as it should be");
        // Until the lines below are there the servers run what is uploaded: sealed, and not as it should be.
        has("seal", "findings remain (2 high");
        has("seal", "exit 1");
        assert_eq!(step("installer"), "404", "{site}");
        has("page", " 200");
        assert_eq!(step("upload"), "302", "{site}");
        assert_eq!(step("picture"), "<svg xmlns=\"http://www.w3.org/2000/svg\"/> 200", "{site}");
        assert_eq!(step("attempt"), "000", "{site}: nothing of its code or settings");
        assert_eq!(step("settings"), "200", "{site}: run, and not handed out");
        has("uploaded PHP", "running 200");
        has("findings", "php-runs-in-store");
        assert!(!step("with the lines").contains("running"), "{site}: {}", step("with the lines"));
        assert!(!step("findings then").contains("php-runs-in-store"), "{site}: {steps:#?}");
        assert_eq!(
            step("left"),
            "bookings.json evil.php north.svg".trim_start_matches("bookings.json "),
            "{site}: no probe"
        );
    }
}
