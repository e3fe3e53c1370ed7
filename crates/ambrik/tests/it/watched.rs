//! `survey --watch`: a real nginx and php-fpm, a visit that writes, and what is drafted of it.

use crate::real;

const VISIT: &str = r#"
mkdir -p "$top/kept/deep" "$top/lib" "$top/cache"
cat > "$top/lib/tides.php" <<'END'
<?php function tides() { return 'high water'; }
END
cat > "$top/page.php" <<'END'
<?php require 'lib/tides.php';
$f = base64_decode('ZmlsZV9wdXRfY29udGVudHM=');
$f(__DIR__ . base64_decode('L2tlcHQvZGVlcC9yb3c=') . $_GET['n'], tides());
END
printf '*\n!.gitignore\n' > "$top/cache/.gitignore"
chown -R quay: "$top/kept"
chown root: "$top/kept/deep/.." "$top"
"php-fpm$version" --daemonize --fpm-config "$fpm/php-fpm.conf"
nginx
answers page.php?n=0
echo "before: $(ambrik survey "$top" --format json | jq -c '[.parts[] | .path]')"
before=$(find "$top" -printf '%p %m %u\n' | grep -v /kept/deep/ | sort)
"$AMBRIK" --sites "$work/sites" --state "$work/state" survey "$top" --watch 1h --format json > "$work/out" 2> "$work/err" &
watcher=$!
for try in $(seq 20000); do grep -q watching "$work/err" && break; done
for n in $(seq 60); do get "http://127.0.0.1:8081/page.php?n=$n"; done
echo "others" > "$top/lib/others"
kill -INT $watcher
wait $watcher || echo "code: $?"
echo "after: $(jq -c '[.parts[] | {path, use, says: .because[0].says}]' "$work/out")"
echo "err: $(tr '\n' '|' < "$work/err")"
after=$(find "$top" -printf '%p %m %u\n' | grep -v /kept/deep/ | grep -v others | sort)
[ "$before" = "$after" ] && echo "unchanged: yes"
"#;

#[test]
fn what_php_writes_while_it_is_watched_is_drafted() {
    let Some(out) = real::run(&[real::SETUP, real::QUAYSIDE, VISIT]) else { return };
    let line = |name: &str| real::line(&out, name);
    assert!(!line("before").contains("kept/deep"), "{out}");
    let after = line("after");
    assert!(after.contains("\"kept/deep\"") && after.contains("times while it was watched"), "{out}");
    assert!(!after.contains("\"lib\"") && !after.contains("page.php"), "{out}");
    let err = line("err");
    assert!(err.contains("writes of PHP's in ") && err.contains("cache: drafted, and not written"), "{out}");
    assert_eq!(line("unchanged"), "yes", "{out}");
}
