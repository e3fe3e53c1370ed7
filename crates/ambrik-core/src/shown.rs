//! Names on disk are bytes chosen by strangers: how they look where a person reads them.

use std::fmt;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

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

/// Characters that are not seen, or that change the direction of what is beside them (Unicode UAX #9).
pub(crate) const fn misleads(c: char) -> bool {
    matches!(c, '\u{ad}' | '\u{61c}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}')
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
    fn shows(#[case] bytes: &[u8], #[case] want: &str) {
        assert_eq!(Shown(Path::new(OsStr::from_bytes(bytes))).to_string(), want);
    }
}
