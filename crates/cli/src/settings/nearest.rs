//! What somebody perhaps meant.

/// The name that is most like another one.
pub(crate) fn nearest<'k>(name: &str, keys: impl Iterator<Item = &'k String>) -> Option<&'k String> {
    keys.map(|k| (strsim::jaro_winkler(k, name), k))
        .filter(|(score, _)| *score > 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, k)| k)
}
