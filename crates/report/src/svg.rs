//! A small drawing as SVG: rectangles, lines and texts that never run over their place.

use std::fmt::Write as _;

use crate::font::FONT;

/// Width of a character of the font, as a share of its size: it is of fixed width.
const CHARACTER: f64 = 0.602;

/// Colours of a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Palette {
    pub ground: &'static str,
    pub ink: &'static str,
    pub dim: &'static str,
    pub faint: &'static str,
    pub bars: [&'static str; 6],
    pub bad: &'static str,
}

pub(crate) const LIGHT: Palette = Palette {
    ground: "#ffffff",
    ink: "#262e36",
    dim: "#68747c",
    faint: "#d8dce0",
    bars: ["#9aa4aa", "#187078", "#b25420", "#6a5a9c", "#4a7f3c", "#a0406a"],
    bad: "#be3c3c",
};
pub(crate) const DARK: Palette = Palette {
    ground: "#0e1318",
    ink: "#d4d9d8",
    dim: "#869296",
    faint: "#3e4a50",
    bars: ["#76848a", "#68d6c4", "#e88a58", "#a898e0", "#8fca7e", "#e07cae"],
    bad: "#f06058",
};

/// A drawing.
pub(crate) struct Drawing {
    body: String,
    pub palette: Palette,
}

/// How many characters of a size fit into a width.
pub(crate) fn columns(width: f64, size: f64) -> usize {
    (width / (size * CHARACTER)).floor().max(0.0) as usize
}

/// As much of a text as fits into so many columns, with a sign where that is not all.
pub(crate) fn cut(text: &str, columns: usize) -> String {
    if text.chars().count() <= columns {
        return text.to_owned();
    }
    text.chars().take(columns.saturating_sub(1)).chain(['…']).collect()
}

/// A text for markup.
pub(crate) fn escaped(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for letter in text.chars() {
        match letter {
            '&' => safe += "&amp;",
            '<' => safe += "&lt;",
            '>' => safe += "&gt;",
            '"' => safe += "&quot;",
            letter if letter.is_control() => {}
            letter => safe.push(letter),
        }
    }
    safe
}

impl Drawing {
    pub(crate) fn new(palette: Palette) -> Self {
        Self { body: String::new(), palette }
    }

    /// A text whose foot lies at `y`, cut to `width`.
    pub(crate) fn text(
        &mut self,
        (x, y): (f64, f64),
        width: f64,
        size: f64,
        colour: &str,
        text: &str,
    ) {
        let text = escaped(&cut(text, columns(width, size)));
        // Writing to a string cannot fail.
        let _ = writeln!(
            self.body,
            "<text x=\"{x:.1}\" y=\"{y:.1}\" font-family=\"{FONT}, monospace\" font-size=\"{size}\" fill=\"{colour}\" xml:space=\"preserve\">{text}</text>"
        );
    }

    pub(crate) fn rect(&mut self, (x, y): (f64, f64), (width, height): (f64, f64), colour: &str) {
        let (width, height) = (width.max(0.0), height.max(0.0));
        let _ = writeln!(
            self.body,
            "<rect x=\"{x:.1}\" y=\"{y:.1}\" width=\"{width:.1}\" height=\"{height:.1}\" fill=\"{colour}\"/>"
        );
    }

    pub(crate) fn line(&mut self, from: (f64, f64), to: (f64, f64), colour: &str, width: f64) {
        self.path(&[from, to], colour, width);
    }

    pub(crate) fn path(&mut self, points: &[(f64, f64)], colour: &str, width: f64) {
        let points: Vec<String> = points.iter().map(|(x, y)| format!("{x:.1},{y:.1}")).collect();
        let _ = writeln!(
            self.body,
            "<polyline points=\"{}\" fill=\"none\" stroke=\"{colour}\" stroke-width=\"{width}\"/>",
            points.join(" ")
        );
    }

    /// The whole drawing, of this size. What is longer than that is made smaller as a whole, so that the sheet keeps its form.
    pub(crate) fn finished(self, (width, height): (f64, f64), foot: f64) -> String {
        let shrunk = (foot / height).max(1.0);
        let (across, down) = (width * shrunk, height * shrunk);
        let left = (width - across) / 2.0;
        format!(
            "<svg width=\"{width:.0}\" height=\"{height:.0}\" viewBox=\"{left:.0} 0 {across:.0} {down:.0}\" xmlns=\"http://www.w3.org/2000/svg\">\n<rect x=\"{left:.0}\" width=\"{across:.0}\" height=\"{down:.0}\" fill=\"{}\"/>\n{}</svg>\n",
            self.palette.ground, self.body
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_is_cut_to_its_place_and_harmless_as_markup() {
        let mut drawing = Drawing::new(LIGHT);
        drawing.text((0.0, 10.0), 60.0, 10.0, "#000", "a <very> long \"name\" & more");
        let svg = drawing.finished((100.0, 20.0), 40.0);
        assert!(svg.contains("a &lt;very") && svg.contains('…'), "{svg}");
        assert!(svg.contains("viewBox=\"-50 0 200 40\""), "twice as much is half as large: {svg}");
        assert_eq!(columns(60.2, 10.0), 10);
        assert_eq!(escaped("a\u{1b}[31m<"), "a[31m&lt;");
    }
}
