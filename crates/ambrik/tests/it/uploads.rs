//! Uploads through a real nginx to a real php-fpm, with each umask: what the audit says of tomorrow's files is so.

use rstest::rstest;

use crate::real;

/// The site: code, a page that takes uploads, where they go, and a folder of the site's own for uploads in progress.
const SITE: &str = r#"
top="$work/www/quayside"
mkdir -p "$top/uploads" "$top/incoming" "$work/incoming"
cat > "$top/upload.php" <<'END'
<?php $to = __DIR__ . '/uploads/' . $_POST['name'];
file_put_contents("$to.made", 'made');
echo move_uploaded_file($_FILES['file']['tmp_name'], "$to.moved") ? 'moved' : 'not moved';
END
chmod 1777 "$work/incoming"
cat > /etc/nginx/sites-enabled/quayside <<END
server {
    listen 127.0.0.1:8081;
    root "$top";
    location ~ \.php\$ { include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/quay.sock; }
}
END
cat > "$work/sites/quayside.toml" <<END
[site]
root = "$top"
[accounts]
php = "quay"
web = "www-data"
[[part]]
path = "uploads"
use = "store"
[[part]]
path = "incoming"
use = "store"
END
case $folder in
  own) upload="$top/incoming" ;;
  *) upload="$work/incoming" ;;
esac
echo "php_admin_value[upload_tmp_dir] = $upload" >> "$fpm/pool.d/quay.conf"
ambrik() { "$AMBRIK" --sites "$work/sites" --state "$work/state" "$@"; }
(umask "$mask"; "php-fpm$version" --daemonize --fpm-config "$fpm/php-fpm.conf")
nginx
get() { curl -sS --noproxy '*' -m 20 "$@" || echo "curl $?"; }
for try in $(seq 2000); do
  [ "$(get -o /dev/null -w '%{http_code}' http://127.0.0.1:8081/upload.php 2> /dev/null)" = 000 ] || break
done
ambrik set quayside --yes > /dev/null
audit() { ambrik audit quayside --format json | jq -r '[.sites[0].findings[] | select(.check == "next-files-closed") | .says] | join(" | ")' || true; }
echo "said: $(audit)"
echo chart > "$work/chart"
echo "upload: $(get -F "file=@$work/chart" -F name=chart http://127.0.0.1:8081/upload.php)"
for file in chart.made chart.moved; do
  echo "$file: $(get -o /dev/null -w '%{http_code}' "http://127.0.0.1:8081/uploads/$file")"
done
stat -c '%a %n' "$top/uploads/"*
"#;

#[rstest]
fn uploads_are_as_the_audit_says(
    #[values("0022", "0027", "0077")] umask: &str,
    #[values("others", "own")] folder: &str,
) {
    let begin = format!("mask={umask}; folder={folder};\n");
    let Some(out) = real::run(&[&begin, real::SETUP, SITE]) else { return };
    let line = |name: &str| {
        let line = out.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(": "));
        line.unwrap_or_else(|| panic!("{name}: {out}")).to_owned()
    };
    assert_eq!(line("upload"), "moved", "{out}");
    assert_eq!(line("chart.made"), "200", "{out}");
    let holds = umask == "0022" || (umask == "0027" && folder == "own");
    assert_eq!(line("chart.moved"), if holds { "200" } else { "403" }, "{out}");
    let said = out.lines().find_map(|line| line.strip_prefix("said:")).unwrap().trim();
    assert_eq!(said.is_empty(), holds, "{out}");
    assert!(holds || (said.contains(&format!("umask {umask} (process ")) && said.contains("uploads")), "{out}");
}
