//! Names on disk are bytes chosen by strangers: how they look where a person reads them.

use std::ffi::OsStr;
use std::fmt;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use crate::pattern::pattern;
use regex::Regex;

/// A path as shown to a person: control, direction-changing and non-UTF-8 characters escaped.
///
/// A backslash is doubled, so that two different paths never look alike.
#[derive(Clone, Copy, Debug)]
pub struct Shown<'a>(pub &'a Path);

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let bytes = self.0.as_os_str().as_bytes();
        if bytes.iter().all(|b| matches!(b, b' '..=b'~') && *b != b'\\') {
            return f.write_str(&String::from_utf8_lossy(bytes));
        }
        for chunk in bytes.utf8_chunks() {
            for c in chunk.valid().chars() {
                write_char(f, c)?;
            }
            for byte in chunk.invalid() {
                write!(f, "\\x{byte:02x}")?;
            }
        }
        Ok(())
    }
}

/// What the system said, without the name of a temporary file that nobody knows.
#[must_use]
pub fn cause(error: &std::io::Error) -> String {
    // The library puts it behind what the system said, and keeps nothing else of that.
    error.to_string().split(" at path \"").next().unwrap_or_default().to_owned()
}

fn write_char(f: &mut fmt::Formatter<'_>, c: char) -> fmt::Result {
    match c {
        '\\' => f.write_str("\\\\"),
        '\n' => f.write_str("\\n"),
        '\t' => f.write_str("\\t"),
        '\r' => f.write_str("\\r"),
        c if c.is_control() || misleads(c) => write!(f, "\\u{{{:x}}}", c as u32),
        c => fmt::Write::write_char(f, c),
    }
}

pattern!(UNSEEN: Regex = r"^[\p{Cf}\p{Cn}\p{Co}\p{Zl}\p{Zp}\p{Default_Ignorable_Code_Point}]$");

/// Characters that are not seen, that change the direction of what is beside them (Unicode UAX #9), or that no version of
/// Unicode knows: of the general categories Cf, Cn, Co, Cs, Zl and Zp, and all that a reader is free to show as nothing
/// (`Default_Ignorable_Code_Point`; Unicode UAX #44).
pub(crate) fn misleads(c: char) -> bool {
    let mut buffer = [0; 4];
    !c.is_ascii() && UNSEEN.is_match(c.encode_utf8(&mut buffer))
}

/// A text of bytes as one word of a POSIX shell (XCU 2.2), such as a command to be pasted holds it: what cannot be seen, or
/// is no UTF-8, is made by printf(1) there.
#[must_use]
pub fn shell_word(text: &OsStr) -> String {
    let bytes = text.as_bytes();
    let seen = text.to_str().is_some_and(|text| !text.chars().any(|c| c.is_control() || misleads(c)));
    if let (true, Ok(quoted)) = (seen, shlex::bytes::try_quote(bytes)) {
        return String::from_utf8_lossy(&quoted).into_owned();
    }
    let safe = |byte: &u8| byte.is_ascii_alphanumeric() || b"/._+,:@=".contains(byte);
    let octal = |byte: u8| if safe(&byte) { char::from(byte).to_string() } else { format!("\\{byte:03o}") };
    // The shell takes line breaks at the end away: any one character stands for each.
    let end = bytes.iter().rev().take_while(|byte| **byte == b'\n').count();
    let text: String = bytes[..bytes.len() - end].iter().map(|byte| octal(*byte)).collect();
    format!("\"$(printf '{text}')\"{}", "?".repeat(end))
}

/// As [`shell_word`], of a path.
#[must_use]
pub fn shell_path(path: &Path) -> String {
    shell_word(path.as_os_str())
}

/// An account's or group's name in a command: its number where the name is not plain (useradd(8)), or looks like a number.
#[must_use]
pub fn shell_name(name: &str, id: u32) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.');
    let begins = name.chars().next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_');
    if begins && name.chars().all(plain) { name.to_owned() } else { id.to_string() }
}

/// A number of bytes, in words: `34 bytes`, `1.5 MiB`.
#[must_use]
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 5] = ["bytes", "KiB", "MiB", "GiB", "TiB"];
    if bytes < 1024 {
        return format!("{bytes} bytes");
    }
    let unit = (bytes.ilog2() / 10).min(4);
    let tenths = (u128::from(bytes) * 10) >> (10 * unit);
    format!("{}.{} {}", tenths / 10, tenths % 10, UNITS[unit as usize])
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain(b"a/b.php", "a/b.php")]
    #[case::newline(b"a\nb", "a\\nb")]
    #[case::escape(b"\x1b[31m", "\\u{1b}[31m")]
    #[case::not_utf8(b"a\xff", "a\\xff")]
    #[case::backslash(b"a\\nb", "a\\\\nb")]
    #[case::direction("a\u{202e}b".as_bytes(), "a\\u{202e}b")]
    #[case::letters("zélie".as_bytes(), "zélie")]
    #[case::tag("\u{e0041}".as_bytes(), "\\u{e0041}")]
    #[case::not_assigned("\u{e0000}".as_bytes(), "\\u{e0000}")]
    #[case::music("\u{1d173}x\u{1d17a}".as_bytes(), "\\u{1d173}x\\u{1d17a}")]
    #[case::soft_hyphen("\u{ad}".as_bytes(), "\\u{ad}")]
    #[case::filler("\u{3164}".as_bytes(), "\\u{3164}")]
    #[case::selector("\u{fe0f}".as_bytes(), "\\u{fe0f}")]
    #[case::private("\u{e000}".as_bytes(), "\\u{e000}")]
    #[case::scripts("мол 码头 مرفأ ⚓".as_bytes(), "мол 码头 مرفأ ⚓")]
    fn shows(#[case] bytes: &[u8], #[case] want: &str) {
        assert_eq!(Shown(Path::new(OsStr::from_bytes(bytes))).to_string(), want);
    }

    #[rstest]
    #[case(0, "0 bytes")]
    #[case(1023, "1023 bytes")]
    #[case(1024, "1.0 KiB")]
    #[case(1_600_000, "1.5 MiB")]
    #[case(5 << 40, "5.0 TiB")]
    #[case(5 << 52, "20480.0 TiB")]
    fn sizes_in_words(#[case] bytes: u64, #[case] want: &str) {
        assert_eq!(size(bytes), want);
    }

    #[rstest]
    #[case("wharf", 7, "wharf")]
    #[case("wharf-1.x", 7, "wharf-1.x")]
    #[case("a b", 7, "7")]
    #[case("x;reboot", 7, "7")]
    #[case("12", 7, "7")]
    #[case("-rf", 7, "7")]
    #[case("", 7, "7")]
    fn names_in_commands(#[case] name: &str, #[case] id: u32, #[case] want: &str) {
        assert_eq!(shell_name(name, id), want);
    }

    /// What the shell makes of a word.
    fn by_shell(word: &str) -> Vec<u8> {
        let script = format!("set -f; printf %s {word}");
        std::process::Command::new("sh").arg("-c").arg(script).output().unwrap().stdout
    }

    #[rstest]
    #[case(b"/srv/www/berths", "/srv/www/berths")]
    #[case(b"/a b", "'/a b'")]
    #[case(b"/a\nb", "\"$(printf '/a\\012b')\"")]
    fn words_are_as_plain_as_can_be(#[case] text: &[u8], #[case] want: &str) {
        assert_eq!(shell_word(OsStr::from_bytes(text)), want);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]
        /// The shell is the oracle: it reads one word, which is the text. Nothing in it is unseen, or done.
        #[test]
        fn a_word_is_the_text_to_the_shell(text in proptest::collection::vec(prop_oneof![1u8..=255, Just(b'\''), Just(b'$'), Just(b'\n'), Just(b' ')], 1..40)) {
            let word = shell_word(OsStr::from_bytes(&text));
            prop_assert!(word.chars().all(|c| !c.is_control() && !misleads(c)), "{}", word);
            let end = text.iter().rev().take_while(|byte| **byte == b'\n').count();
            let mut want = text[..text.len() - end].to_vec();
            want.extend(std::iter::repeat_n(b'?', end));
            prop_assert_eq!(by_shell(&word), want);
        }
    }
}
