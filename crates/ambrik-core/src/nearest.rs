//! The known word that somebody probably meant.

/// The word of `known` nearest to `word`, where one is near enough to be a typing error.
#[must_use]
pub fn nearest<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let near = known.into_iter().map(|k| (strsim::damerau_levenshtein(word, k), k));
    let (distance, nearest) = near.min_by_key(|(distance, _)| *distance)?;
    let limit = word.chars().count().min(nearest.chars().count()).div_ceil(3);
    (distance <= limit && distance < word.chars().count()).then_some(nearest)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("wirte", Some("write"))]
    #[case("pathh", Some("path"))]
    #[case("zebra", None)]
    #[case("", None)]
    fn finds(#[case] word: &str, #[case] want: Option<&str>) {
        assert_eq!(nearest(word, ["path", "use", "write", "from"]), want);
    }
}
