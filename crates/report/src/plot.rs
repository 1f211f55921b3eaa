//! A small chart inside a page: lines and marks over two axes.

use crate::svg::Drawing;

/// Size of its letters.
const SMALL: f64 = 11.0;
/// Height of the chart itself, of what is written below it, and width of what is written left of it.
const HEIGHT: f64 = 120.0;
const BELOW: f64 = 52.0;
const LEFT: f64 = 46.0;
/// Half the width of a mark.
const MARK: f64 = 3.0;

/// A line with its name and its colour.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct PlotLine<'a> {
    pub name: &'a str,
    pub colour: &'static str,
    pub points: Vec<(f64, f64)>,
    /// Whether every point is marked, and not only joined to the next.
    pub is_marked: bool,
}

/// What is drawn.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Plot<'a> {
    pub lines: Vec<PlotLine<'a>>,
    /// Points that belong to no line, with their colours.
    pub marks: Vec<((f64, f64), &'static str)>,
    /// What is across, with its unit.
    pub across: &'a str,
    /// Room below the lowest and above the highest value, at least.
    pub room: f64,
}

impl Plot<'_> {
    /// Draws it from `(x, top)` on; returns where the next begins. Nothing is drawn without a point.
    pub(crate) fn draw(&self, drawing: &mut Drawing, (x, top): (f64, f64), width: f64) -> f64 {
        let colours = drawing.palette;
        let all = || {
            let of_lines = self.lines.iter().flat_map(|line| &line.points);
            let points = of_lines.chain(self.marks.iter().map(|(point, _)| point));
            points.copied().filter(|(x, y)| x.is_finite() && y.is_finite())
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
        let (low, high) = ((low - self.room).floor(), (high + self.room).ceil());
        let span = (last - first).max(1e-9);
        let (left, wide) = (x + LEFT, width - LEFT);
        // Marks at the very edge stay inside.
        let place = |(across, up): (f64, f64)| {
            let across = left + MARK + (across - first) / span * (wide - 2.0 * MARK);
            (across, top + HEIGHT * (1.0 - (up - low) / (high - low).max(1e-9)))
        };
        for share in [0.0, 0.5, 1.0] {
            let y = top + HEIGHT * (1.0 - share);
            drawing.line((left, y), (x + width, y), colours.faint, 1.0);
            let value = format!("{:.0}", low + (high - low) * share);
            drawing.text((x, y + 4.0), LEFT - 2.0, SMALL, colours.dim, &value);
        }
        let mark = |drawing: &mut Drawing, point: (f64, f64), colour: &str| {
            let (at, y) = place(point);
            drawing.rect((at - MARK, y - MARK), (2.0 * MARK, 2.0 * MARK), colour);
        };
        for (point, colour) in &self.marks {
            mark(drawing, *point, colour);
        }
        for line in &self.lines {
            let points: Vec<(f64, f64)> = line.points.iter().copied().map(place).collect();
            drawing.path(&points, line.colour, 1.4);
            if line.is_marked {
                line.points.iter().for_each(|point| mark(drawing, *point, line.colour));
            }
        }
        let foot = top + HEIGHT + 16.0;
        drawing.text((left, foot), wide / 2.0, SMALL, colours.dim, &format!("{first:.0}"));
        let end = format!("{last:.0} {}", self.across);
        let end_width = end.chars().count() as f64 * SMALL * 0.61 + 2.0;
        drawing.text((x + width - end_width, foot), end_width, SMALL, colours.dim, &end);
        let share = wide / self.lines.len().max(1) as f64;
        for (index, line) in self.lines.iter().enumerate() {
            let at = left + share * index as f64;
            drawing.text((at, foot + 16.0), share - 10.0, SMALL, line.colour, line.name);
        }
        top + HEIGHT + BELOW
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::svg::LIGHT;

    fn plot(points: Vec<(f64, f64)>) -> Plot<'static> {
        let line = PlotLine { name: "stock", colour: "#123456", points, is_marked: true };
        Plot { lines: vec![line], marks: vec![((5.0, 7.0), "#abcdef")], across: "W", room: 1.0 }
    }

    #[test]
    fn every_point_is_marked_and_the_ends_are_named() {
        let mut drawing = Drawing::new(LIGHT);
        let foot = plot(vec![(0.0, 5.0), (10.0, 9.0)]).draw(&mut drawing, (20.0, 100.0), 400.0);
        let svg = drawing.finished((500.0, 400.0), foot);
        assert_eq!(svg.matches("#123456").count(), 1 + 2 + 1, "line, marks, name: {svg}");
        assert_eq!(svg.matches("#abcdef").count(), 1);
        for text in [">0<", ">10 W<", ">4<", ">7<", ">10<", ">stock<"] {
            assert!(svg.contains(text), "{text}: {svg}");
        }
    }

    #[test]
    fn nothing_and_a_single_value_can_be_drawn() {
        let mut drawing = Drawing::new(LIGHT);
        let empty = Plot { lines: Vec::new(), marks: Vec::new(), across: "W", room: 0.0 };
        assert_eq!(empty.draw(&mut drawing, (0.0, 7.0), 100.0), 7.0);
        let same = Plot { marks: vec![((3.0, 3.0), "#abcdef")], ..empty };
        let foot = same.draw(&mut drawing, (0.0, 0.0), 100.0);
        assert!(!drawing.finished((100.0, 200.0), foot).contains("NaN"));
    }
}
