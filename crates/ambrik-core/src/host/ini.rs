//! Files of `key = value` lines under `[section]`s, as php-fpm and service units have them.

/// One line that says something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Line {
    /// The section that it is in; empty before the first.
    pub(super) section: String,
    pub(super) key: String,
    pub(super) value: String,
    /// From 1.
    pub(super) line: usize,
}

/// Which signs a format knows.
#[derive(Clone, Copy, Debug)]
pub(super) struct Signs {
    /// What begins a comment at the start of a line.
    pub(super) comment: &'static [char],
    /// What begins a comment after a value.
    pub(super) trailing: Option<char>,
    /// Whether a backslash at the end of a line goes on in the next.
    pub(super) continued: bool,
}

/// PHP's own format.
pub(super) const PHP: Signs = Signs { comment: &[';', '#'], trailing: Some(';'), continued: false };
/// That of service units (systemd.syntax(7)).
pub(super) const UNIT: Signs = Signs { comment: &[';', '#'], trailing: None, continued: true };

/// A file mode in octal digits.
pub(super) fn octal(text: &str) -> Option<u16> {
    u16::from_str_radix(text.trim(), 8).ok().filter(|bits| *bits <= 0o777)
}

/// The lines of a text; the second list has the numbers of those that are none of these.
pub(super) fn read(text: &str, signs: Signs) -> (Vec<Line>, Vec<usize>) {
    let (mut lines, mut strange) = (Vec::new(), Vec::new());
    let mut section = String::new();
    let mut rest = text.lines().enumerate();
    while let Some((number, line)) = rest.next() {
        let mut line = line.trim().to_owned();
        if line.is_empty() || line.starts_with(signs.comment) {
            continue;
        }
        while signs.continued && line.ends_with('\\') {
            line.pop();
            let Some((_, next)) = rest.next() else { break };
            if next.trim_start().starts_with(signs.comment) {
                line.push('\\');
                continue;
            }
            line = format!("{} {}", line.trim_end(), next.trim());
        }
        if let Some(name) = line.strip_prefix('[').and_then(|l| l.split_once(']')).map(|(name, _)| name) {
            name.trim().clone_into(&mut section);
        } else if let Some((key, value)) = line.split_once('=') {
            let value = value_of(value.trim(), signs);
            lines.push(Line { section: section.clone(), key: key.trim().to_owned(), value, line: number + 1 });
        } else {
            strange.push(number + 1);
        }
    }
    (lines, strange)
}

/// A value without its quotes, and without the comment after it.
fn value_of(value: &str, signs: Signs) -> String {
    for quote in ['"', '\''] {
        if let Some((inner, _)) = value.strip_prefix(quote).and_then(|rest| rest.split_once(quote)) {
            return inner.to_owned();
        }
    }
    let bare = match signs.trailing {
        Some(sign) => value.split(sign).next().unwrap_or(value),
        None => value,
    };
    bare.trim().to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("[a]\nb = c", PHP, &["a b c 2"])]
    #[case::without_spaces("[a]\nb=c", PHP, &["a b c 2"])]
    #[case::before_any_section("b = c", PHP, &[" b c 1"])]
    #[case::quoted("[a]\nb = \"c ; d\" ; e", PHP, &["a b c ; d 2"])]
    #[case::quoted_once("[a]\nb = 'c'", PHP, &["a b c 2"])]
    #[case::comments("; x\n# y\n[a] ; z\nb = c ; d", PHP, &["a b c 4"])]
    #[case::an_equals_sign_in_the_value("[a]\nb = c=d", PHP, &["a b c=d 2"])]
    #[case::a_semicolon_in_a_unit("[Service]\nExecStart=/bin/a; /bin/b", UNIT, &["Service ExecStart /bin/a; /bin/b 2"])]
    #[case::continued("[Service]\nExecStart=/bin/a \\\n  -b \\\n# between\n  -c\nUser=d", UNIT, &["Service ExecStart /bin/a -b -c 2", "Service User d 6"])]
    #[case::continued_at_the_end("[Service]\nExecStart=/bin/a \\", UNIT, &["Service ExecStart /bin/a 2"])]
    #[case::emptied("[Service]\nUser=", UNIT, &["Service User  2"])]
    #[case::other_line_ends("[a]\r\nb = c\r\n", PHP, &["a b c 2"])]
    fn lines_are_read(#[case] text: &str, #[case] signs: Signs, #[case] want: &[&str]) {
        let (lines, strange) = read(text, signs);
        let shown: Vec<String> =
            lines.iter().map(|line| format!("{} {} {} {}", line.section, line.key, line.value, line.line)).collect();
        assert_eq!((shown, strange), (want.iter().map(|line| (*line).to_owned()).collect(), vec![]));
    }

    #[test]
    fn what_is_no_line_is_told_with_its_number() {
        assert_eq!(read("[a]\nb\n\nc = d\n[e\n", PHP).1, [2, 5]);
    }
}
