//! A small chart inside a page or on a sheet of its own: lines and marks over two axes.

use crate::svg::{Drawing, Palette};

/// Size of its letters.
const SMALL: f64 = 11.0;
/// Height of the chart itself, of what is written below it, and width of what is written left of it.
const HEIGHT: f64 = 120.0;
const BELOW: f64 = 52.0;
const LEFT: f64 = 46.0;
/// Half the width of a mark.
const MARK: f64 = 3.0;

/// Colour of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tint {
    /// One of those by which settings are told apart; the first is that of stock.
    Own(usize),
    /// That of the text.
    Ink,
    /// Less than that.
    Dim,
    /// Of what failed.
    Bad,
}

impl Tint {
    fn colour(self, palette: Palette) -> &'static str {
        match self {
            Self::Own(index) => palette.bars[index % palette.bars.len()],
            Self::Ink => palette.ink,
            Self::Dim => palette.dim,
            Self::Bad => palette.bad,
        }
    }
}

/// How the points of a line are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stroke {
    /// Joined.
    Line,
    /// Joined, each with a mark.
    Marked,
    /// Marks only.
    Marks,
}

/// A line of a plot, or points that belong together.
#[derive(Debug, Clone, PartialEq)]
pub struct PlotLine {
    /// What it is called below the plot; nothing where that is empty.
    pub name: String,
    /// Its colour.
    pub tint: Tint,
    /// How it is drawn.
    pub stroke: Stroke,
    /// Its points, across and up.
    pub points: Vec<(f64, f64)>,
}

/// Lines over two axes.
#[derive(Debug, Clone, PartialEq)]
pub struct Plot {
    /// What is drawn, in this order.
    pub lines: Vec<PlotLine>,
    /// What is across, with its unit.
    pub across: String,
    /// What is up, from the foot to the head of the plot.
    pub range: Range,
}

/// What a plot shows of what is up.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Range {
    /// All that there is, and so much more below and above, in its unit.
    Around(f64),
    /// From zero to what there is and so much more.
    FromZero(f64),
    /// Always the same.
    Fixed(f64, f64),
}

impl Plot {
    /// Draws it from `(x, top)` on; returns where the next begins. Nothing is drawn without a point.
    pub(crate) fn draw(&self, drawing: &mut Drawing, at: (f64, f64), width: f64) -> f64 {
        self.draw_high(drawing, at, (width, HEIGHT))
    }

    /// Draws it in another height than the usual one.
    pub(crate) fn draw_high(
        &self,
        drawing: &mut Drawing,
        (x, top): (f64, f64),
        (width, height): (f64, f64),
    ) -> f64 {
        let colours = drawing.palette;
        let all = || {
            let points = self.lines.iter().flat_map(|line| &line.points).copied();
            points.filter(|(x, y)| x.is_finite() && y.is_finite())
        };
        if all().next().is_none() {
            return top;
        }
        let ends = |values: &mut dyn Iterator<Item = f64>| {
            values.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| {
                (low.min(value), high.max(value))
            })
        };
        let (first, last) = ends(&mut all().map(|point| point.0));
        let (low, high) = ends(&mut all().map(|point| point.1));
        let (low, high) = match self.range {
            Range::Around(room) => ((low - room).floor(), (high + room).ceil()),
            Range::FromZero(room) => (low.min(0.0).floor(), (high + room).ceil()),
            Range::Fixed(low, high) => (low, high),
        };
        let span = (last - first).max(1e-9);
        let (left, wide) = (x + LEFT, width - LEFT);
        // Marks at the very edge stay inside.
        let place = |(across, up): (f64, f64)| {
            let across = left + MARK + (across - first) / span * (wide - 2.0 * MARK);
            (across, top + height * (1.0 - (up - low) / (high - low).max(1e-9)))
        };
        for share in [0.0, 0.5, 1.0] {
            let y = top + height * (1.0 - share);
            drawing.line((left, y), (x + width, y), colours.faint, 1.0);
            let value = format!("{:.0}", low + (high - low) * share);
            drawing.text((x, y + 4.0), LEFT - 2.0, SMALL, colours.dim, &value);
        }
        let mark = |drawing: &mut Drawing, point: (f64, f64), colour: &str| {
            let (at, y) = place(point);
            drawing.rect((at - MARK, y - MARK), (2.0 * MARK, 2.0 * MARK), colour);
        };
        for line in &self.lines {
            let colour = line.tint.colour(colours);
            if line.stroke != Stroke::Marks {
                // Where nothing was measured, there is a gap.
                for part in line.points.split(|(_, y)| !y.is_finite()).filter(|p| !p.is_empty()) {
                    let points: Vec<(f64, f64)> = part.iter().copied().map(place).collect();
                    drawing.path(&points, colour, 1.4);
                }
            }
            if line.stroke != Stroke::Line {
                let seen = line.points.iter().filter(|(_, y)| y.is_finite());
                seen.for_each(|point| mark(drawing, *point, colour));
            }
        }
        let foot = top + height + 16.0;
        drawing.text((left, foot), wide / 2.0, SMALL, colours.dim, &format!("{first:.0}"));
        let end = format!("{last:.0}");
        let end_width = end.chars().count() as f64 * SMALL * 0.61 + 2.0;
        drawing.text((x + width - end_width, foot), end_width, SMALL, colours.dim, &end);
        let middle = left + wide / 2.0;
        drawing.text((middle, foot), wide / 2.0 - end_width, SMALL, colours.dim, &self.across);
        let named: Vec<&PlotLine> =
            self.lines.iter().filter(|line| !line.name.is_empty()).collect();
        let share = wide / named.len().max(1) as f64;
        for (index, line) in named.into_iter().enumerate() {
            let at = left + share * index as f64;
            let colour = line.tint.colour(colours);
            drawing.text((at, foot + 16.0), share - 10.0, SMALL, colour, &line.name);
        }
        top + height + BELOW
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::svg::LIGHT;

    fn line(name: &str, tint: Tint, stroke: Stroke, points: &[(f64, f64)]) -> PlotLine {
        PlotLine { name: name.into(), tint, stroke, points: points.to_vec() }
    }

    fn drawn(lines: Vec<PlotLine>) -> String {
        let mut drawing = Drawing::new(LIGHT);
        let plot = Plot { lines, across: "watts".into(), range: Range::Around(1.0) };
        let foot = plot.draw(&mut drawing, (20.0, 100.0), 400.0);
        drawing.finished((500.0, 400.0), foot)
    }

    #[test]
    fn every_point_is_marked_and_the_ends_are_named() {
        let svg = drawn(vec![
            line("", Tint::Bad, Stroke::Marks, &[(5.0, 7.0)]),
            line("stock", Tint::Own(1), Stroke::Marked, &[(0.0, 5.0), (10.0, 9.0)]),
        ]);
        assert_eq!(svg.matches(LIGHT.bars[1]).count(), 1 + 2 + 1, "line, marks, name: {svg}");
        assert_eq!(svg.matches(LIGHT.bad).count(), 1, "a mark, and no name");
        for text in [">0<", ">10<", ">watts<", ">4<", ">7<", ">stock<"] {
            assert!(svg.contains(text), "{text}: {svg}");
        }
    }

    #[test]
    fn a_gap_in_a_line_stays_a_gap() {
        let points = [(0.0, 5.0), (1.0, 6.0), (2.0, f64::NAN), (3.0, 6.0), (4.0, 5.0)];
        let svg = drawn(vec![line("", Tint::Own(1), Stroke::Line, &points)]);
        assert_eq!(svg.matches(LIGHT.bars[1]).count(), 2);
        assert!(!svg.contains("NaN"), "{svg}");
    }

    #[test]
    fn nothing_and_a_single_value_can_be_drawn() {
        let mut drawing = Drawing::new(LIGHT);
        let empty = Plot { lines: Vec::new(), across: "W".into(), range: Range::Around(0.0) };
        assert_eq!(empty.draw(&mut drawing, (0.0, 7.0), 100.0), 7.0);
        let one = line("", Tint::Ink, Stroke::Marks, &[(3.0, 3.0)]);
        let foot = Plot { lines: vec![one], ..empty }.draw(&mut drawing, (0.0, 0.0), 100.0);
        assert!(!drawing.finished((100.0, 200.0), foot).contains("NaN"));
    }
}
