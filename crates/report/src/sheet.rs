//! A chart on a sheet of its own: plots below one another on one axis, as a view shows them.
//!
//! ```text
//!   title
//!   facts
//!   heading ┌ plot ┐
//!   heading ┌ plot ┐
//! ```

use crate::frontier::broken;
use crate::plot::Plot;
use crate::svg::{Drawing, LIGHT, columns};

/// Width of the sheet, and its least height, in pixels of 1/96 inch.
const WIDTH: f64 = 1_123.0;
const LEAST_HEIGHT: f64 = 200.0;
const MARGIN: f64 = 34.0;
const SMALL: f64 = 11.0;
/// Height of a plot that is alone, of each of two, and of one among more.
const ALONE: f64 = 420.0;
const OF_TWO: f64 = 230.0;
const AMONG: f64 = 96.0;

/// What is drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct Sheet {
    /// Its title.
    pub title: String,
    /// Facts in a line below it.
    pub facts: Vec<String>,
    /// The plots, each with its heading, which tells the unit of what is up.
    pub plots: Vec<(String, Plot)>,
}

impl Sheet {
    /// The sheet as SVG, as high as its plots need.
    #[must_use]
    pub fn to_svg(&self) -> String {
        let mut drawing = Drawing::new(LIGHT);
        let whole = WIDTH - 2.0 * MARGIN;
        drawing.text((MARGIN, 46.0), whole, 20.0, LIGHT.ink, &self.title);
        let mut y = 68.0;
        for line in broken(&self.facts.join(" · "), columns(whole, SMALL)) {
            drawing.text((MARGIN, y), whole, SMALL, LIGHT.dim, &line);
            y += 16.0;
        }
        y += 18.0;
        let height = match self.plots.len() {
            0 | 1 => ALONE,
            2 => OF_TWO,
            _ => AMONG,
        };
        for (heading, plot) in &self.plots {
            drawing.text((MARGIN, y), whole, 13.0, LIGHT.ink, heading);
            y = plot.draw_high(&mut drawing, (MARGIN, y + 12.0), (whole, height)) + 10.0;
        }
        if self.plots.is_empty() {
            drawing.text((MARGIN, y), whole, 13.0, LIGHT.dim, "There is nothing to be drawn.");
        }
        let foot = (y + MARGIN).max(LEAST_HEIGHT);
        drawing.finished((WIDTH, foot), foot)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plot::{PlotLine, Range, Stroke, Tint};

    fn plot(high: f64) -> Plot {
        let points = vec![(0.0, 10.0), (5.0, high)];
        let name = "reported".into();
        let line = PlotLine { name, tint: Tint::Own(1), stroke: Stroke::Line, points };
        Plot { lines: vec![line], across: "seconds".into(), range: Range::Around(1.0) }
    }

    #[test]
    fn plots_lie_below_one_another_and_the_sheet_is_as_high_as_they_need() {
        let sheet = |plots| Sheet { title: "Trial 7".into(), facts: vec!["a card".into()], plots };
        let one = vec![("Clock, MHz".to_owned(), plot(90.0))];
        let mut two = one.clone();
        two.push(("Power, W".to_owned(), plot(300.0)));
        let svg = sheet(two).to_svg();
        let at = |text: &str| {
            let line = svg.lines().find(|line| line.contains(text)).unwrap();
            let (_, rest) = line.split_once(" y=\"").unwrap();
            rest.split('"').next().unwrap().parse::<f64>().unwrap()
        };
        assert!(at(">Trial 7<") < at(">Clock, MHz<") && at(">Clock, MHz<") < at(">Power, W<"));
        assert!(at(">Power, W<") > at(">91<") + AMONG, "the first plot ends before the second");
        assert!(sheet(one).to_svg().contains(">91<"));
        assert!(sheet(Vec::new()).to_svg().contains("nothing to be drawn"));
    }
}
