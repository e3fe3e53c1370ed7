//! What programs read: every document is as docs/schemas says.

use std::fs;
use std::path::Path;

use rstest::rstest;
use serde_json::Value;

use crate::host::{PHP, TestHost, is_root};

/// Checks a document against the parts of JSON Schema that docs/schemas uses.
fn check(value: &Value, schema: &Value, root: &Value, at: &str) {
    let known = [
        "$schema",
        "$id",
        "title",
        "description",
        "type",
        "const",
        "enum",
        "properties",
        "required",
        "items",
        "additionalProperties",
        "$ref",
        "$defs",
        "pattern",
        "minimum",
    ];
    for key in schema.as_object().unwrap().keys() {
        assert!(known.contains(&&**key), "{at}: the test does not know \"{key}\"");
    }
    if let Some(reference) = schema.get("$ref").and_then(Value::as_str) {
        let name = reference.strip_prefix("#/$defs/").unwrap();
        return check(value, &root["$defs"][name], root, at);
    }
    if let Some(types) = schema.get("type") {
        let types: Vec<&str> = types
            .as_array()
            .map_or_else(|| vec![types.as_str().unwrap()], |list| list.iter().map(|t| t.as_str().unwrap()).collect());
        let is = match value {
            Value::Null => "null",
            Value::Bool(_) => "boolean",
            Value::Number(number) if number.is_f64() => "number",
            Value::Number(_) => "integer",
            Value::String(_) => "string",
            Value::Array(_) => "array",
            Value::Object(_) => "object",
        };
        assert!(types.contains(&is), "{at}: {is} where {types:?} is expected");
    }
    if let Some(wanted) = schema.get("const") {
        assert_eq!(value, wanted, "{at}");
    }
    if let Some(list) = schema.get("enum").and_then(Value::as_array) {
        assert!(list.contains(value), "{at}: {value}");
    }
    if let Some(object) = value.as_object() {
        for key in schema.get("required").and_then(Value::as_array).into_iter().flatten() {
            assert!(object.contains_key(key.as_str().unwrap()), "{at}: no {key}");
        }
        let properties = schema.get("properties").and_then(Value::as_object);
        for (key, value) in object {
            match properties.and_then(|p| p.get(key)) {
                Some(schema) => check(value, schema, root, &format!("{at}.{key}")),
                None => {
                    assert_ne!(schema.get("additionalProperties"), Some(&Value::Bool(false)), "{at}: unexpected {key}");
                }
            }
        }
    }
    if let (Some(list), Some(items)) = (value.as_array(), schema.get("items")) {
        for (n, value) in list.iter().enumerate() {
            check(value, items, root, &format!("{at}[{n}]"));
        }
    }
}

pub(crate) fn document(host: &TestHost, words: &[&str], name: &str) -> Value {
    let ran = host.run(&[words, &["--format", "json"]].concat());
    checked(&ran.out, name)
}

/// A document that is as its schema says.
pub(crate) fn checked(text: &str, name: &str) -> Value {
    let value: Value = serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"));
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../docs/schemas/{name}-1.json"));
    let schema: Value = serde_json::from_slice(&fs::read(file).unwrap()).unwrap();
    check(&value, &schema, &schema, name);
    value
}

fn host() -> TestHost {
    let host = TestHost::new();
    host.site("berths", "[[part]]\npath = \"install\"\nuse = \"setup\"\n[[part]]\npath = \"data\"\nuse = \"store\"\ncreate = true\n[[accept]]\ncheck = \"everyone-writes\"\npath = \"open.php\"\nreason = \"r\"\nuntil = 2099-01-01\n");
    host.file("open.php", PHP, 0o666);
    host.file("install/index.php", PHP, 0o666);
    let odd =
        host.at("srv/www/berths").join(<std::ffi::OsStr as std::os::unix::ffi::OsStrExt>::from_bytes(b"odd\xff.php"));
    fs::write(&odd, "x").unwrap();
    crate::host::give(&odd, PHP, 0o666);
    host
}

#[test]
fn audit_is_as_described() {
    let audit = document(&host(), &["audit"], "audit");
    assert_eq!(audit["host"], "quay-1");
    let site = &audit["sites"][0];
    assert_eq!((&site["name"], &site["phase"]), (&"berths".into(), &"sealed".into()));
    let findings = site["findings"].as_array().unwrap();
    assert!(findings.iter().any(|f| f["accepted"]["reason"] == "r"));
    assert!(findings.iter().any(|f| f["not_utf8"][0]["path_bytes"] == "b2Rk/y5waHA="));
    for finding in findings {
        assert_eq!(finding["count"], finding["paths"].as_array().unwrap().len());
    }
}

#[test]
fn changes_are_as_described_before_and_after() {
    let host = host();
    let preview = document(&host, &["seal", "berths", "--preview"], "changes");
    assert_eq!(preview["sites"][0]["applied"], false);
    assert!(preview["sites"][0]["changes"].as_array().unwrap().iter().all(|c| c["done"] == false));
    if !is_root() {
        return;
    }
    let applied = document(&host, &["seal", "berths", "--yes"], "changes");
    assert_eq!((&applied["sites"][0]["applied"], &applied["sites"][0]["id"]), (&true.into(), &1.into()));
    let changes = applied["sites"][0]["changes"].as_array().unwrap();
    assert!(changes.iter().all(|c| c["done"] == true && c["error"].is_null()), "{applied:#}");
    for what in ["owner", "mode", "remove", "create"] {
        assert!(changes.iter().any(|c| c["what"] == what), "no {what}");
    }
    assert!(changes.iter().any(|c| c["path_bytes"].is_string()));
    let after = &applied["sites"][0]["after"];
    assert_eq!(after["tried"]["failures"], serde_json::json!([]), "{after:#}");
    assert_eq!(after["tried"]["writable_directories"], 1);
    assert_eq!(after["findings"], serde_json::json!([]), "{after:#}");
    document(&host, &["history"], "history");
    let preview = document(&host, &["undo", "--preview"], "undo");
    assert_eq!((&preview["applied"], &preview["id"]), (&false.into(), &Value::Null));
    let undone = document(&host, &["undo", "--yes"], "undo");
    assert_eq!(undone["undoes"], 1);
}

#[test]
fn what_is_known_of_services_and_trees_is_as_described() {
    let host = TestHost::empty();
    let built = host.command_without_host(&["demo", "--build-only"]).arg(host.at("")).output().unwrap();
    assert!(built.status.success());
    let accounts = document(&host, &["accounts"], "accounts");
    let services = accounts["services"].as_array().unwrap();
    assert!(services.iter().any(|s| s["role"] == "php" && s["pool"] == "berths" && s["user"] == "berths"));
    let from =
        |name: &str| services.iter().any(|s| s["evidence"].as_array().unwrap().iter().any(|e| e["from"] == name));
    assert!(from("process") && from("config"));
    assert_eq!(accounts["disagreements"].as_array().unwrap().len(), 2);
    let survey = document(&host, &["survey", "/srv/www/berths"], "survey");
    assert_eq!((&survey["root"], &survey["served"]), (&"/srv/www/berths".into(), &".".into()));
    let parts = survey["parts"].as_array().unwrap();
    let settings = parts.iter().find(|part| part["path"] == "config/settings.php").unwrap();
    assert_eq!((&settings["use"], &settings["write"]), (&"secret".into(), &"install".into()));
    assert!(settings["because"][0]["where"].as_str().unwrap().contains("settings.sample.php:"));
}

/// What has one format says so, in the one that was asked for.
#[rstest]
#[case(&["set", "--as-script", "--format", "json"], "--as-script prints a shell script: it has no other format")]
#[case(&["demo", "/nowhere", "--format", "json"], "the demo is told for people: it has no other format")]
fn what_has_one_format_says_so(#[case] words: &[&str], #[case] says: &str) {
    let host = TestHost::new();
    let ran = host.run(words);
    assert_eq!((ran.code, &checked(&ran.out, "error")["error"]), (2, &says.into()), "{ran:?}");
}
