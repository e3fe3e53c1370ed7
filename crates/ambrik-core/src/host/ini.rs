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
