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

/// Whether a difference of `percent` is more than chance may bring, which is up to `bound` percent.
pub(crate) fn against_chance(percent: f64, bound: f64) -> String {
    let more = if percent.abs() > bound { "more" } else { "no more" };
    format!("{more} than chance (±{bound:.1} %)")
}

/// A share from 0 to 1 in whole percent.
pub(crate) fn percent(share: f64) -> String {
    format!("{:.0} %", share * 100.0)
}

/// How many dips a clock line has, to be put behind a clause; nothing for none.
pub(crate) fn with_dips(dips: usize) -> String {
    match dips {
        0 => String::new(),
        1 => ", with 1 dip".into(),
        dips => format!(", with {dips} dips"),
    }
}
