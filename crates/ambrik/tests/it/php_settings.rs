//! PHP's own settings, as a real pool behind a real nginx has them: what `accounts --settings` says is so, and what they bar is a finding.

use rstest::rstest;
use serde_json::Value;

use crate::host::TestHost;
use crate::real;

/// A pool with settings of every origin, a page that tells what it has, and one that tries to write.
const POOL: &str = r#"
mkdir -p "$work/far" "$work/sessions"
quayside "$work/far"
chown quay: "$top/uploads" "$work/far" "$work/sessions"
cat > "$top/tell.php" <<'END'
<?php $names = explode(' ', $_GET['names']);
echo json_encode(array_combine($names, array_map('ini_get', $names)));
END
cat > "$top/write.php" <<'END'
<?php echo @file_put_contents($_GET['to'] . '/x', 'x') === false ? 'barred' : 'written';
END
mkdir -p "$fpm/conf.d"
printf 'session.cookie_httponly = On\nsession.cookie_samesite = "Lax"\n' > "$fpm/conf.d/50-quay.ini"
case $said in
  file) echo 'user_ini.filename = ".quay.ini"' >> "$fpm/conf.d/50-quay.ini" ;;
  none) echo 'user_ini.filename =' >> "$fpm/conf.d/50-quay.ini" ;;
  pool) echo 'php_admin_value[user_ini.filename] = .quay.ini' >> "$fpm/pool.d/quay.conf" ;;
esac
printf 'session.cookie_httponly = Off\nsession.save_path = "/nowhere"\nupload_tmp_dir = "/nowhere"\nopen_basedir = "/"\n' > "$top/.quay.ini"
cat >> "$fpm/pool.d/quay.conf" <<END
php_admin_value[open_basedir] = $top:$work/sessions
php_value[session.save_path] = $work/sessions
php_admin_flag[session.cookie_secure] = on
php_admin_value[disable_functions] = exec,system
END
PHP_INI_SCAN_DIR="$fpm/conf.d" "php-fpm$version" --daemonize --fpm-config "$fpm/php-fpm.conf" -c "$fpm/php.ini"
nginx
answers tell.php
said=$(ambrik accounts --format json | jq -c '[.settings[] | select(.runs == "quay")][0].settings')
echo "said: $said"
names=$(echo "$said" | jq -r '[.[].name] | join("+")')
echo "has: $(get "http://127.0.0.1:8081/tell.php?names=$names")"
for to in "$top/uploads" "$work/far"; do echo "to ${to##*/}: $(get "http://127.0.0.1:8081/write.php?to=$to")"; done
echo "findings: $(ambrik audit quayside --format json | jq -c '[.sites[0].findings[] | {check, paths, says}]' || true)"
"#;

#[rstest]
fn what_is_said_of_phps_settings_is_so(#[values("file", "pool", "none")] said_in: &str) {
    let begin = format!("said={said_in};\n");
    let Some(out) = real::run(&[&begin, real::SETUP, real::QUAYSIDE, POOL]) else { return };
    let line = |name: &str| real::line(&out, name);
    let said: Value = serde_json::from_str(&line("said")).unwrap();
    let has: Value = serde_json::from_str(&line("has")).unwrap();
    // PHP has switches as 1 and nothing, or 0.
    let plain = |value: &str| if value == "0" { String::new() } else { value.to_owned() };
    for setting in said.as_array().unwrap() {
        let name = setting["name"].as_str().unwrap();
        let (said, has) = (setting["value"].as_str().unwrap(), has[name].as_str().unwrap_or_default());
        assert_eq!(plain(said), plain(has), "{name}: {out}");
    }
    assert_eq!((&*line("to uploads"), &*line("to far")), ("written", "barred"), "{out}");
    let findings: Value = serde_json::from_str(&line("findings")).unwrap();
    let of = |check: &str| {
        findings
            .as_array()
            .unwrap()
            .iter()
            .find(|finding| finding["check"] == check)
            .map(std::string::ToString::to_string)
    };
    let barred = of("php-cannot-write").unwrap_or_else(|| panic!("{out}"));
    assert!(barred.contains("/far") && !barred.contains("uploads") && barred.contains("open_basedir"), "{out}");
    // The check's advice: with no name there is no such file.
    let heeded = said_in != "none";
    assert_eq!(of("control-file-writable").is_some_and(|found| found.contains(".quay.ini")), heeded, "{out}");
    assert_eq!(of("session-cookie-open").is_some_and(|found| found.contains(".quay.ini:1")), heeded, "{out}");
}

/// Two sites whose PHP is one account and whose sessions lie in one folder.
#[test]
fn shared_sessions_are_told_once() {
    let host = TestHost::new();
    for name in ["berths", "moorings"] {
        host.write(&format!("srv/www/{name}/index.php"), "<?php\n");
        let server = format!(
            "server {{ server_name {name}.example; root /srv/www/{name}; location ~ \\.php$ {{ fastcgi_pass unix:/run/{name}.sock; }} }}\n"
        );
        host.write(&format!("etc/nginx/conf.d/{name}.conf"), server);
        let pool = format!("[{name}]\nuser = php\nlisten = /run/{name}.sock\n");
        host.write(&format!("etc/php/8.2/fpm/pool.d/{name}.conf"), pool);
        host.site(name, "");
    }
    host.write("etc/nginx/nginx.conf", "http { include /etc/nginx/conf.d/*.conf; }\n");
    host.write("etc/php/8.2/fpm/php-fpm.conf", "include = /etc/php/8.2/fpm/pool.d/*.conf\n");
    host.write("etc/php/8.2/fpm/php.ini", "session.save_path = \"1;0600;/var/lib/quay/sessions\"\n");
    let out = host.run(&["audit"]).out;
    assert_eq!(out.matches("session-shared").count(), 1, "{out}");
    assert!(out.contains("/var/lib/quay/sessions"), "{out}");
    host.write("etc/php/8.2/fpm/pool.d/moorings.conf", "[moorings]\nuser = php\nlisten = /run/moorings.sock\nphp_admin_value[session.save_path] = /var/lib/quay/moorings\n");
    let out = host.run(&["audit"]).out;
    assert!(!out.contains("session-shared") && out.contains("upload-folder-shared"), "{out}");
}
