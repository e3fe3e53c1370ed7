//! The program's own regular expressions.

/// Declares one that is built when it is first used. A test of its own builds it: a pattern that is wrong fails there, and never takes
/// evidence away without a word.
macro_rules! pattern {
    ($(#[$about:meta])* $name:ident: $kind:ty = $text:expr) => {
        $(#[$about])*
        static $name: std::sync::LazyLock<$kind> =
            std::sync::LazyLock::new(|| $crate::pattern::sound(<$kind>::new($text)));

        #[cfg(test)]
        #[expect(non_snake_case, reason = "called as what it tests")]
        mod $name {
            #[test]
            fn is_a_pattern() {
                std::sync::LazyLock::force(&super::$name);
            }
        }
    };
}

pub(crate) use pattern;

/// A pattern that a test has built.
#[expect(clippy::expect_used, reason = "each pattern has a test that builds it")]
pub(crate) fn sound<T>(built: Result<T, regex::Error>) -> T {
    built.expect("a constant pattern")
}
