//! Names on disk are bytes chosen by strangers: how they look where a person reads them.

use std::fmt;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::LazyLock;

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

/// Characters that are not seen, that change the direction of what is beside them (Unicode UAX #9), or that no version of
/// Unicode knows: of the general categories Cf, Cn, Co, Cs, Zl and Zp, and all that a reader is free to show as nothing
/// (`Default_Ignorable_Code_Point`; Unicode UAX #44).
pub(crate) fn misleads(c: char) -> bool {
    static UNSEEN: LazyLock<Option<Regex>> =
        LazyLock::new(|| Regex::new(r"^[\p{Cf}\p{Cn}\p{Co}\p{Zl}\p{Zp}\p{Default_Ignorable_Code_Point}]$").ok());
    let mut buffer = [0; 4];
    !c.is_ascii() && UNSEEN.as_ref().is_none_or(|unseen| unseen.is_match(c.encode_utf8(&mut buffer)))
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
    use rstest::rstest;
    use std::ffi::OsStr;

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
}
