//! Small work on text.

/// The text with its first letter as a capital.
pub(crate) fn capitalised(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}

/// Parts behind one another, with commas; `none` where there are none.
pub(crate) fn listed(parts: &[String], none: &str) -> String {
    if parts.is_empty() { none.to_owned() } else { parts.join(", ") }
}
