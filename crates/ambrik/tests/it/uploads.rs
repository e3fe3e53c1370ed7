//! Uploads through a real nginx to a real php-fpm, with each umask: what the audit says of tomorrow's files is so.

use rstest::rstest;

use crate::real;

/// The site: code, a page that takes uploads, where they go, and a folder of the site's own for uploads in progress.
const SITE: &str = r#"
mkdir -p "$top/incoming" "$work/incoming"
cat > "$top/upload.php" <<'END'
<?php $to = __DIR__ . '/uploads/' . $_POST['name'];
file_put_contents("$to.made", 'made');
echo move_uploaded_file($_FILES['file']['tmp_name'], "$to.moved") ? 'moved' : 'not moved';
END
chmod 1777 "$work/incoming"
quayside incoming
case $folder in
  own) upload="$top/incoming" ;;
  *) upload="$work/incoming" ;;
esac
echo "php_admin_value[upload_tmp_dir] = $upload" >> "$fpm/pool.d/quay.conf"
(umask "$mask"; "php-fpm$version" --daemonize --fpm-config "$fpm/php-fpm.conf")
nginx
answers upload.php
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
    let Some(out) = real::run(&[&begin, real::SETUP, real::QUAYSIDE, SITE]) else { return };
    let line = |name: &str| real::line(&out, name);
    assert_eq!(line("upload"), "moved", "{out}");
    assert_eq!(line("chart.made"), "200", "{out}");
    let holds = umask == "0022" || (umask == "0027" && folder == "own");
    assert_eq!(line("chart.moved"), if holds { "200" } else { "403" }, "{out}");
    let said = out.lines().find_map(|line| line.strip_prefix("said:")).unwrap().trim();
    assert_eq!(said.is_empty(), holds, "{out}");
    assert!(holds || (said.contains(&format!("umask {umask} (process ")) && said.contains("uploads")), "{out}");
}
