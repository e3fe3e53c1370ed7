//! Accounts besides keeper, php and web; directories alone; what is to go.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use serde_json::Value;

use crate::host::{PHP, TestHost, is_root, picture};

fn audit(host: &TestHost) -> Value {
    let audit = host.run(&["audit", "berths", "--format", "json"]);
    serde_json::from_str(&audit.out).unwrap_or_else(|_| panic!("{audit:?}"))
}

fn checks(document: &Value) -> Vec<&str> {
    let findings = document["sites"][0]["findings"].as_array().unwrap();
    findings.iter().map(|finding| finding["check"].as_str().unwrap()).collect()
}

#[test]
fn accounts_with_access_are_told_given_and_explained() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site(
        "berths",
        "others = \"none\"\n[[part]]\npath = \"var/log\"\nuse = \"log\"\n[[part]]\npath = \"settings.php\"\nuse = \"secret\"\n\
         [[access]]\nuser = \"user\"\npath = \".\"\nmay = \"read\"\n\
         [[access]]\ngroup = \"me2\"\npath = \"var/log\"\nmay = \"read\"\n",
    );
    let groups = fs::read_to_string(host.at("etc/group")).unwrap();
    fs::write(host.at("etc/group"), format!("{groups}me2:x:61020:\n")).unwrap();
    host.file("index.php", 0, 0o644);
    host.file("settings.php", 0, 0o600);
    host.file("var/log/site.log", PHP, 0o600);

    let before = audit(&host);
    assert!(checks(&before).contains(&"access-withheld"), "{before}");
    let text = host.run(&["audit", "berths"]);
    assert!(text.out.lines().any(|line| line.contains("user") && line.contains("group me2")), "{text:?}");
    let why = host.run(&["why", "/srv/www/berths/settings.php", "--as", "user"]);
    assert!(why.out.contains("ambrik set berths"), "{why:?}");

    let set = host.run(&["set", "berths", "--yes"]);
    assert_eq!(set.code, 0, "{set:?}");
    let after = audit(&host);
    assert_eq!(checks(&after), [""; 0], "{after}");
    let parts = after["sites"][0]["parts"].as_array().unwrap();
    let log = parts.iter().find(|part| part["path"] == "var/log").unwrap();
    let access: Vec<(&str, &Value)> =
        log["access"].as_array().unwrap().iter().map(|cell| (cell["who"].as_str().unwrap(), &cell["should"])).collect();
    assert_eq!(access, [("user", &Value::from(["r"])), ("group me2", &Value::from(["r"]))]);
    let code = host.run(&["why", "/srv/www/berths/settings.php", "--as", "user"]);
    assert_eq!(code.code, 0, "{code:?}");
    assert!(!code.out.contains("should not"), "{code:?}");
    // Somebody in two roles has both's: PHP's own right is not hidden by what the web server is given besides.
    host.site(
        "berths",
        "others = \"none\"\n[[part]]\npath = \"var/log\"\nuse = \"log\"\n[[access]]\nuser = \"web\"\npath = \"var/log\"\nmay = \"read\"\n",
    );
    let both = audit(&host);
    let code = &both["sites"][0]["parts"][0];
    assert_eq!((&code["path"], &code["access"][0]["should"]), (&Value::from("."), &code["web"]["should"]), "{code}");
    // Taken out of the site file, it is a finding.
    host.site("berths", "others = \"none\"\n[[part]]\npath = \"settings.php\"\nuse = \"secret\"\n");
    assert!(checks(&audit(&host)).contains(&"secret-exposed"));
}

#[test]
fn a_directory_alone_is_made_and_what_is_in_it_is_left() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"/var/lib/berths\"\nuse = \"store\"\ncreate = true\ndeep = false\n");
    host.file("index.php", 0, 0o644);
    fs::create_dir_all(host.at("var/lib")).unwrap();
    let set = host.run(&["set", "berths", "--yes"]);
    assert_eq!(set.code, 0, "{set:?}");
    let mode = |path: &str| fs::metadata(host.at(path)).unwrap().permissions().mode() & 0o7777;
    assert_eq!(mode("var/lib/berths") & 0o777, 0o700);

    fs::create_dir(host.at("var/lib/berths/deep")).unwrap();
    fs::write(host.at("var/lib/berths/deep/file"), "x").unwrap();
    for (path, mode) in [("var/lib/berths", 0o777), ("var/lib/berths/deep", 0o777), ("var/lib/berths/deep/file", 0o666)]
    {
        fs::set_permissions(host.at(path), fs::Permissions::from_mode(mode)).unwrap();
    }
    let found = audit(&host);
    let paths = found["sites"][0]["findings"][0]["paths"].as_array().unwrap();
    assert_eq!(paths, &["/var/lib/berths"], "{found}");
    let set = host.run(&["set", "berths", "--yes"]);
    assert_eq!(set.code, 0, "{set:?}");
    assert_eq!(
        (mode("var/lib/berths") & 0o777, mode("var/lib/berths/deep"), mode("var/lib/berths/deep/file")),
        (0o700, 0o777, 0o666)
    );
}

#[test]
fn what_is_to_go_goes_when_sealed_and_comes_back() {
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    host.site(
        "berths",
        "[[part]]\npath = \"notes\"\nuse = \"remove\"\n[[part]]\npath = \"stub.html\"\nuse = \"remove\"\n",
    );
    host.file("index.php", 0, 0o644);
    host.file("stub.html", 0, 0o644);
    host.file("notes/todo.txt", 0, 0o644);
    let before = picture(&host.at("srv"));
    let found = audit(&host);
    assert_eq!(checks(&found).iter().filter(|check| **check == "unwanted-left").count(), 2, "{found}");
    let sealed = host.run(&["seal", "berths", "--yes"]);
    assert_eq!(sealed.code, 0, "{sealed:?}");
    assert!(!host.at("srv/www/berths/stub.html").exists() && !host.at("srv/www/berths/notes").exists());
    assert_eq!(checks(&audit(&host)), [""; 0]);
    let back = host.run(&["undo", "--yes"]);
    assert_eq!(back.code, 0, "{back:?}");
    assert_eq!(picture(&host.at("srv")), before);
}
