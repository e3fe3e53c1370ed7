//! What looks like credentials or keys in a text.

use crate::pattern::pattern;
use regex::Regex;

pattern!(CREDENTIALS: Regex = r#"(?xim)
        ^(?P<before>[^\n]*?['"\$\[>_\s.:-]?)
        (?:\w*(?:passw(?:or)?d|passphrase|secret|api_?key|auth_?key|private_?key|access_?key|encryption_?key|hash_?key|crypt_?key|security_?key|salt|blowfish|db_?pw|db_?pass|dbpass|pass|pwd|dsn|auth_?token|access_?token)\w*|key)
        (?:['"\]\s]*(?:=>|=|:)|['"]\s*,)\s*
        "#);

/// The line (from 1) on which a settings file holds what looks like credentials or keys.
///
/// In a sample, a line that is commented out counts: it is there to be filled in.
pub(crate) fn credentials(text: &str, is_php: bool, is_sample: bool) -> Option<usize> {
    for captured in CREDENTIALS.captures_iter(text) {
        let Some(found) = captured.get(0) else { continue };
        // A comma is between a name and its value only where something is defined.
        let before = captured.name("before").map_or("", |before| before.as_str());
        let called = before.trim_end_matches(['"', '\'', ' ']).trim_end_matches('(').trim_end();
        if found.as_str().trim_end().ends_with(',') && !called.to_ascii_lowercase().ends_with("define") {
            continue;
        }
        let rest = &text[found.end()..];
        let value = rest.lines().next().unwrap_or_default().trim();
        let comment = found.as_str().trim_start().starts_with(['#', ';']) || (is_php && found.as_str().contains(" * "));
        let value = ["hex2bin(", "base64_decode("].iter().find_map(|call| value.strip_prefix(call)).unwrap_or(value);
        let literal = value.starts_with(['"', '\'']);
        let asked = value.contains("getenv") || value.contains("env(") || value.starts_with("$_");
        if (!comment || is_sample) && !asked && (literal || (!is_php && !value.starts_with(['{', '[']))) {
            return Some(text[..found.end()].matches('\n').count() + 1);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("'admin_password' => 'change-me',", true, Some(1))]
    #[case("<?php\ndefine('DB_PASS', '');", true, Some(2))]
    #[case("$db['default']['password'] = \"\";", true, Some(1))]
    #[case("$cfg['secret'] = getenv('SECRET');", true, None)]
    #[case("; password = none yet", false, None)]
    #[case("[feed]\nkey = \"made-up\"", false, Some(2))]
    #[case("DB_PASSWORD=", false, Some(1))]
    #[case("$needed = array('DB_TYPE', 'DB_PASS', 'X');", true, None)]
    #[case("'title' => 'Harbour'", true, None)]
    fn credentials_are_seen(#[case] text: &str, #[case] is_php: bool, #[case] want: Option<usize>) {
        assert_eq!(credentials(text, is_php, false), want);
    }
}
