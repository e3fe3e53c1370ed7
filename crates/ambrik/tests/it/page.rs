//! The pages of an audit and of a change set, in a real browser: they fetch nothing, fit, can be read, and say what happened.

use std::path::Path;
use std::process::{Command, Stdio};

use html5ever::tendril::TendrilSink as _;
use markup5ever_rcdom::RcDom;
use serde_json::Value;

use crate::documents::document;
use crate::host::{TestHost, give, is_root};

/// What is looked at in the page: the least contrast of text with what is behind it (WCAG 2.2, 1.4.3), what is wider than the window,
/// what was fetched, and whether the style was let in by the page's own policy.
const LOOK: &str = r"
const channel = (c) => (c /= 255) <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4;
const rgb = (text) => text.match(/[\d.]+/g).map(Number);
const luminance = ([r, g, b]) => 0.2126 * channel(r) + 0.7152 * channel(g) + 0.0722 * channel(b);
const behind = (e) => { for (; e; e = e.parentElement) { const c = rgb(getComputedStyle(e).backgroundColor); if (c.length < 4 || c[3] > 0) return c; } return [255, 255, 255]; };
const texts = [...document.body.querySelectorAll('*')].filter((e) => [...e.childNodes].some((n) => n.nodeType === 3 && n.data.trim()));
const contrast = (e) => { const [a, b] = [rgb(getComputedStyle(e).color), behind(e)].map(luminance).sort(); return (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05); };
return {
  contrast: Math.min(...texts.map(contrast)),
  wide: document.documentElement.scrollWidth - innerWidth,
  fetched: performance.getEntriesByType('resource').length,
  scripts: document.scripts.length + document.querySelectorAll('[onclick],[onload],[onerror]').length,
  styled: getComputedStyle(document.querySelector('.verdict')).fontWeight === '600',
  headers: [...document.querySelectorAll('td')].every((e) => e.closest('table').querySelector('th[scope]')),
  title: document.title,
  text: document.body.innerText,
};
";

/// Asks a browser's driver; prints what it found for each size and scheme of colours, a line each.
const DRIVE: &str = r#"
set -eu
export HOME=$(mktemp -d)
chromedriver --port=9515 --log-level=SEVERE > "$HOME/log" 2>&1 &
driver=$!
trap 'kill $driver; wait $driver 2> /dev/null || true; rm -rf "$HOME"' EXIT
ask() { curl -sS --noproxy '*' -m 60 --retry 20 --retry-connrefused --retry-delay 1 -H 'Content-Type: application/json' "$@"; }
base=http://127.0.0.1:9515/session
session=$(ask "$base" -d '{"capabilities":{"alwaysMatch":{"browserName":"chrome","goog:chromeOptions":{"args":["--headless","--no-sandbox","--disable-gpu","--disable-quic","--no-first-run","--disable-background-networking","--disable-component-update","--disable-sync"]}}}}' | jq -r .value.sessionId)
for size in '1280 800' '500 844'; do
  for scheme in light dark; do
    set -- $size
    ask "$base/$session/window/rect" -d "{\"width\":$1,\"height\":$2}" > /dev/null
    ask "$base/$session/goog/cdp/execute" -d "{\"cmd\":\"Emulation.setEmulatedMedia\",\"params\":{\"features\":[{\"name\":\"prefers-color-scheme\",\"value\":\"$scheme\"}]}}" > /dev/null
    ask "$base/$session/url" -d "{\"url\":\"file://$PAGE\"}" > /dev/null
    jq -n --arg script "$LOOK" '{script: $script, args: []}' | ask "$base/$session/execute/sync" -d @- | jq -c .value
  done
done
ask -X DELETE "$base/$session" > /dev/null
"#;

/// What a browser finds in a page, in two sizes and two schemes of colours; nothing where there is none. What holds of every page
/// is asserted.
fn looks(page: &Path) -> Vec<Value> {
    let html = std::fs::read_to_string(page).unwrap();
    let parsed = html5ever::parse_document(RcDom::default(), html5ever::ParseOpts::default()).one(&*html);
    assert_eq!(*parsed.errors.borrow(), [""; 0], "{html}");
    if Command::new("chromedriver").arg("--version").stdout(Stdio::null()).status().is_err() {
        test_support::missing("chromedriver");
        return Vec::new();
    }
    let mut command = Command::new("unshare");
    command.args(["-mpnf", "--mount-proc", "--kill-child", "bash", "-c", &format!("ip link set lo up\n{DRIVE}")]);
    let output = command.env("PAGE", page).env("LOOK", LOOK).stdin(Stdio::null()).output().unwrap();
    let out = String::from_utf8_lossy(&output.stdout);
    let looks: Vec<Value> = out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(looks.len(), 4, "{out}\n{}", String::from_utf8_lossy(&output.stderr));
    for look in &looks {
        assert!(look["contrast"].as_f64().unwrap() >= 4.5, "{look:#}");
        assert!(look["wide"].as_i64().unwrap() <= 0, "{look:#}");
        assert_eq!((&look["fetched"], &look["scripts"]), (&0.into(), &0.into()), "{look:#}");
        assert_eq!((&look["styled"], &look["headers"]), (&true.into(), &true.into()), "{look:#}");
    }
    looks
}

#[test]
fn a_browser_shows_them_and_fetches_nothing() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"uploads\"\nuse = \"store\"\n");
    give(&host.at("srv/www/berths"), 0, 0o755);
    host.file("index.php", 0, 0o644);
    let hostile = "<script>document.title='mine'<b onclick=x>\"'&amp;.php".replace('/', "");
    host.file(&hostile, 0, 0o666);
    host.file(&"long".repeat(60), 0, 0o666);
    let page = host.at("page.html");
    let ran = host.run(&["audit", "--format", "html", "--to", page.to_str().unwrap()]);
    assert_eq!(ran.code, 1, "{ran:?}");
    let audit = document(&host, &["audit", "--fail-on", "never"], "audit");
    for look in looks(&page) {
        let text = look["text"].as_str().unwrap();
        assert!(look["title"].as_str().unwrap().starts_with("Audit of ") && text.contains(&hostile), "{look:#}");
        for finding in audit["sites"][0]["findings"].as_array().unwrap() {
            assert!(text.contains(finding["check"].as_str().unwrap()), "{finding}");
        }
    }

    assert_eq!(host.run(&["set", "--yes"]).code, 0);
    std::fs::write(&page, host.run(&["history", "1", "--format", "html"]).out).unwrap();
    for look in looks(&page) {
        let text = look["text"].as_str().unwrap();
        assert_eq!(look["title"], "Change set 1 of berths");
        for said in [&hostile, "ambrik undo 1", "Before: root:root 0666", "After: root:root 0644", "--yes"] {
            assert!(text.contains(said), "{said}: {text}");
        }
    }
    let refused = host.run(&["history", "--format", "html"]);
    assert!(refused.code == 2 && refused.err.contains("change set"), "{refused:?}");
}
