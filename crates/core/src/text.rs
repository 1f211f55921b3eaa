//! Text from outside: what files, loads and other programs say, made fit for a terminal.

/// Most characters of a foreign text that a message quotes.
pub const MOST_QUOTED: usize = 80;

/// Characters that change how a terminal or a reader takes what stands around them: controls, marks
/// of the bidirectional algorithm (Unicode Standard Annex 9), and others without a width.
fn is_unprintable(c: char) -> bool {
    c.is_control()
        || matches!(
            c,
            '\u{061c}'
                | '\u{200b}'..='\u{200f}'
                | '\u{2028}'..='\u{202e}'
                | '\u{2060}'..='\u{206f}'
                | '\u{feff}'
                | '\u{fff9}'..='\u{fffb}'
        )
}

/// The text without what must not reach a terminal: control characters, escape sequences' first
/// byte among them, and bidirectional marks. Line ends and tabs become spaces.
#[must_use]
pub fn printable(text: &str) -> String {
    let line = |c: char| if matches!(c, '\n' | '\r' | '\t') { ' ' } else { c };
    text.chars().map(line).filter(|c| !is_unprintable(*c)).collect()
}

/// The same, with its line ends kept.
#[must_use]
pub fn printable_lines(text: &str) -> String {
    text.split('\n').map(printable).collect::<Vec<_>>().join("\n")
}

/// A foreign text in quotation marks, made printable and cut to [`MOST_QUOTED`] characters.
#[must_use]
pub fn quoted(text: &str) -> String {
    let clean = printable(text);
    match clean.char_indices().nth(MOST_QUOTED) {
        Some((end, _)) => format!("\"{}…\"", &clean[..end]),
        None => format!("\"{clean}\""),
    }
}

/// A name that somebody typed or that stood in a file.
///
/// # Errors
/// It is empty, longer than `most` characters, or holds characters that cannot be printed.
pub fn checked_name(text: &str, most: usize) -> Result<String, String> {
    let name = text.trim();
    let length = name.chars().count();
    if name.is_empty() {
        return Err("the name is empty".into());
    }
    if length > most {
        return Err(format!("the name has {length} characters, and {most} are the most"));
    }
    if name.chars().any(is_unprintable) {
        return Err(format!("the name {} has characters that cannot be printed", quoted(name)));
    }
    Ok(name.to_owned())
}

/// What something states about itself, where it does.
#[must_use]
pub fn stated(what: Option<impl std::fmt::Display>) -> String {
    what.map_or_else(|| "not stated".into(), |what| what.to_string())
}

/// A number of things.
#[must_use]
pub fn counted(count: usize, thing: &str) -> String {
    if count == 1 { format!("1 {thing}") } else { format!("{count} {thing}s") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::{prop_assert, proptest};
    use rstest::rstest;

    #[rstest]
    #[case::plain("Kern +90 MHz — ok", "Kern +90 MHz — ok")]
    #[case::escape("\u{1b}[31mred\u{1b}[0m", "[31mred[0m")]
    #[case::title("\u{1b}]0;owned\u{7}", "]0;owned")]
    #[case::eight_bit("\u{9b}2J", "2J")]
    #[case::bidi("abc\u{202e}gpj.exe", "abcgpj.exe")]
    #[case::isolate("\u{2066}a\u{2069}", "a")]
    #[case::lines("one\r\ntwo\tthree", "one  two three")]
    fn nothing_that_steers_a_terminal_is_left(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(printable(text), expected);
    }

    #[test]
    fn a_quote_is_cut_at_eighty_characters() {
        let long = "ä".repeat(200);
        assert_eq!(quoted(&long).chars().count(), MOST_QUOTED + 3);
        assert_eq!(quoted("short"), "\"short\"");
    }

    #[rstest]
    #[case("  dome shows ", Ok("dome shows"))]
    #[case("", Err("the name is empty"))]
    #[case("   ", Err("the name is empty"))]
    #[case("123456789012345678901", Err("21 characters"))]
    #[case("a\u{1b}[2Jb", Err("cannot be printed"))]
    fn a_name_is_short_printable_and_not_empty(
        #[case] text: &str,
        #[case] expected: Result<&str, &str>,
    ) {
        match (checked_name(text, 20), expected) {
            (Ok(name), Ok(wanted)) => assert_eq!(name, wanted),
            (Err(why), Err(part)) => assert!(why.contains(part), "{why}"),
            (got, _) => panic!("{got:?}"),
        }
    }

    proptest! {
        #[test]
        fn whatever_comes_in_what_goes_out_can_be_printed(text in "\\PC*|.*") {
            prop_assert!(!printable(&text).chars().any(is_unprintable));
            prop_assert!(quoted(&text).chars().count() <= MOST_QUOTED + 3);
        }
    }
}
