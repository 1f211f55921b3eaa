//! The pieces of the screen, a file each. Every one draws into any area, down to none at all.

pub(crate) mod axes;
pub(crate) mod bands;
pub mod entry;
pub(crate) mod lane;
pub(crate) mod next_step;
pub(crate) mod panel;
pub(crate) mod plot;

use std::borrow::Cow;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Blocks that fill a cell from below, by eighths of it.
pub(crate) const EIGHTHS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// Writes a line at a place inside an area, cut at its right edge; returns where it ended.
pub(crate) fn write(
    buffer: &mut Buffer,
    area: Rect,
    (x, y): (u16, u16),
    text: &str,
    style: Style,
) -> u16 {
    let area = area.intersection(buffer.area);
    if y < area.top() || y >= area.bottom() || x < area.left() || x >= area.right() {
        return x;
    }
    buffer.set_stringn(x, y, text, usize::from(area.right() - x), style).0
}

/// Writes a line that ends at the right edge of an area, if it fits.
pub(crate) fn write_right(buffer: &mut Buffer, area: Rect, y: u16, text: &str, style: Style) {
    let width = text.chars().count() as u16;
    if width <= area.width {
        write(buffer, area, (area.right() - width, y), text, style);
    }
}

/// The given row of an area, empty when there is no such row.
pub(crate) fn row(area: Rect, index: u16) -> Rect {
    if index < area.height {
        Rect { y: area.y + index, height: 1, ..area }
    } else {
        Rect { height: 0, ..area }
    }
}

/// What lies below so many rows of an area.
pub(crate) fn below(area: Rect, rows: u16) -> Rect {
    let used = rows.min(area.height);
    Rect { y: area.y + used, height: area.height - used, ..area }
}

/// Breaks a text into lines of at most `width` cells, at spaces where there are any.
pub(crate) fn wrapped(text: &str, width: usize) -> Vec<String> {
    let words: Vec<&str> = text.split_whitespace().collect();
    if words.is_empty() {
        return Vec::new();
    }
    let options = textwrap::Options::new(width)
        .break_words(false)
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::wrap(&words.join(" "), options).into_iter().map(Cow::into_owned).collect()
}

/// As much of a text as fits into `width`, with a sign where that is not all.
pub(crate) fn cut(text: &str, width: u16) -> String {
    let width = usize::from(width);
    if text.chars().count() <= width {
        return text.to_owned();
    }
    let kept: String = text.chars().take(width.saturating_sub(1)).collect();
    kept.trim_end().to_owned() + "…"
}

/// Writes a text over as many lines as it needs at the width of an area; returns how many.
pub(crate) fn write_wrapped(buffer: &mut Buffer, area: Rect, text: &str, style: Style) -> u16 {
    let lines = wrapped(text, usize::from(area.width.max(1)));
    for (index, line) in lines.iter().enumerate() {
        let place = row(area, index as u16);
        write(buffer, place, (place.x, place.y), line, style);
    }
    lines.len() as u16
}

#[cfg(test)]
pub(crate) mod testing {
    //! Buffers as text.

    use ratatui::buffer::Buffer;
    use ratatui::layout::Rect;

    /// Draws into a buffer of the given size and returns its lines, trailing blanks cut.
    pub(crate) fn drawn(
        width: u16,
        height: u16,
        draw: impl FnOnce(&mut Buffer, Rect),
    ) -> Vec<String> {
        let area = Rect::new(0, 0, width, height);
        let mut buffer = Buffer::empty(area);
        draw(&mut buffer, area);
        lines(&buffer)
    }

    /// The lines of a buffer.
    pub(crate) fn lines(buffer: &Buffer) -> Vec<String> {
        let area = buffer.area;
        (area.top()..area.bottom())
            .map(|y| {
                let line: String =
                    (area.left()..area.right()).map(|x| buffer[(x, y)].symbol()).collect();
                line.trim_end().to_owned()
            })
            .collect()
    }

    /// Sizes at which a widget must not panic.
    pub(crate) const AWKWARD: [(u16, u16); 8] =
        [(0, 0), (1, 1), (1, 9), (9, 1), (2, 2), (7, 3), (300, 2), (3, 90)];
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("one two three", 7, &["one two", "three"])]
    #[case("unbreakable", 4, &["unbreakable"])]
    #[case("", 4, &[])]
    #[case("a  b", 1, &["a", "b"])]
    fn text_is_broken_at_spaces(#[case] text: &str, #[case] width: usize, #[case] lines: &[&str]) {
        assert_eq!(wrapped(text, width), lines);
    }

    #[rstest]
    #[case("fits", 4, "fits")]
    #[case("does not fit", 9, "does not…")]
    #[case("does not fit", 6, "does…")]
    #[case("no room", 0, "…")]
    fn what_does_not_fit_is_cut_with_a_sign(
        #[case] text: &str,
        #[case] width: u16,
        #[case] expected: &str,
    ) {
        assert_eq!(cut(text, width), expected);
    }

    #[test]
    fn what_lies_outside_is_not_written() {
        let lines = testing::drawn(6, 2, |buffer, area| {
            write(buffer, area, (4, 0), "abcdef", Style::new());
            write(buffer, area, (9, 9), "out", Style::new());
            write_right(buffer, area, 1, "too long to fit", Style::new());
        });
        assert_eq!(lines, ["    ab", ""]);
    }
}
