//! Words instead of symbols and tables, where these could not be read.

use std::sync::OnceLock;

static PLAIN: OnceLock<bool> = OnceLock::new();

/// Whether words are wanted: somebody asks for them, or the locale has no UTF-8 (locale(7): the first of `LC_ALL`, `LC_CTYPE` and
/// `LANG` that is set decides).
pub(crate) fn decide(asked: bool) {
    let said = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let locale = said("LC_ALL").or_else(|| said("LC_CTYPE")).or_else(|| said("LANG"));
    let utf_8 = locale.is_none_or(|locale| {
        let locale = locale.to_ascii_lowercase();
        locale.contains("utf-8") || locale.contains("utf8")
    });
    let _ = PLAIN.set(asked || !utf_8);
}

/// As it was decided.
pub(crate) fn is_plain() -> bool {
    PLAIN.get().copied().unwrap_or(false)
}

/// A text with words for its symbols.
pub(crate) fn in_words(text: &str) -> String {
    let words = [
        ("          → ", "          put it right: "),
        (" → ", " to "),
        ("→", "to"),
        ("…", "..."),
        ("–", "-"),
        ("—", "-"),
    ];
    words.iter().fold(text.to_owned(), |text, (symbol, word)| text.replace(symbol, word))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case("0660 → 0640", "0660 to 0640")]
    #[case("          → reload it", "          put it right: reload it")]
    #[case("a/rat…h.php", "a/rat...h.php")]
    fn symbols_have_words(#[case] text: &str, #[case] want: &str) {
        assert_eq!(super::in_words(text), want);
    }
}
