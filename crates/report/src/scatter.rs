//! A scatter of points in a few series, as SVG: what policies came to over many cards.

use plotters::prelude::*;

use crate::ReportError;
use crate::chart::{Axes, FAINT, INK};
use crate::font::FONT;

const SIZE: (u32, u32) = (1200, 700);
/// Colours of the series; they differ by shape, too.
const COLOURS: [RGBColor; 4] =
    [RGBColor(24, 112, 120), RGBColor(200, 90, 20), RGBColor(110, 70, 150), RGBColor(90, 98, 106)];

/// A point of a scatter.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ScatterPoint {
    /// Which series it belongs to, counted from 0.
    pub series: usize,
    /// Across.
    pub x: f64,
    /// Up.
    pub y: f64,
    /// Whether it is drawn full; an empty one stands for something that does not hold.
    pub is_full: bool,
}

/// A scatter of points.
#[derive(Debug, Clone)]
pub struct Scatter<'a> {
    /// Heading.
    pub title: &'a str,
    /// What is across, with its unit.
    pub x: &'a str,
    /// What is up, with its unit.
    pub y: &'a str,
    /// Names of the series.
    pub series: &'a [String],
    /// What an empty point means.
    pub empty: &'a str,
    /// The points.
    pub points: &'a [ScatterPoint],
}

/// Draws a scatter as SVG.
///
/// # Errors
/// The chart cannot be drawn.
pub fn draw_scatter(scatter: &Scatter<'_>) -> Result<String, ReportError> {
    let mut svg = String::new();
    draw(&mut svg, scatter).map_err(|error| ReportError::Chart(error.to_string()))?;
    Ok(svg)
}

fn draw(svg: &mut String, scatter: &Scatter<'_>) -> Result<(), Box<dyn std::error::Error>> {
    let area = SVGBackend::with_string(svg, SIZE).into_drawing_area();
    area.fill(&WHITE)?;
    let (plot, legend) = area.split_horizontally(960);
    let range = |of: fn(&ScatterPoint) -> f64| {
        let values = || scatter.points.iter().map(of).filter(|value| value.is_finite());
        let (low, high) = (values().fold(0.0, f64::min), values().fold(1.0, f64::max));
        let room = (high - low) * 0.04;
        low - room..high + room
    };
    let axes = Axes {
        caption: scatter.title.to_owned(),
        x: (scatter.x, range(|point| point.x)),
        y: (scatter.y, range(|point| point.y)),
        x_labels: 10,
        y_label: &|y| format!("{y:.1}"),
    };
    let mut chart = axes.draw(&plot)?;
    let across = range(|point| point.x);
    chart.draw_series(LineSeries::new([(across.start, 0.0), (across.end, 0.0)], FAINT))?;
    let base = plot.get_base_pixel();
    // A range or a place without end would never be drawn to its end.
    let drawable = |point: &&ScatterPoint| point.x.is_finite() && point.y.is_finite();
    for point in scatter.points.iter().filter(drawable) {
        let (x, y) = chart.backend_coord(&(point.x, point.y));
        mark(&plot, (x - base.0, y - base.1), point.series, point.is_full)?;
    }
    let text = (FONT, 14).into_font().color(&INK);
    let mut y = 60;
    for (index, name) in scatter.series.iter().enumerate() {
        mark(&legend, (20, y), index, true)?;
        legend.draw_text(name, &text, (36, y - 8))?;
        y += 28;
    }
    mark(&legend, (20, y), 0, false)?;
    legend.draw_text(scatter.empty, &text, (36, y - 8))?;
    area.present()?;
    Ok(())
}

fn mark(
    area: &DrawingArea<SVGBackend<'_>, plotters::coord::Shift>,
    (x, y): (i32, i32),
    series: usize,
    is_full: bool,
) -> Result<(), Box<dyn std::error::Error>> {
    let colour = COLOURS[series % COLOURS.len()];
    let style = if is_full { colour.mix(0.7).filled() } else { colour.stroke_width(1) };
    match series % 3 {
        0 => area.draw(&Circle::new((x, y), 4, style))?,
        1 => area.draw(&Rectangle::new([(x - 4, y - 4), (x + 4, y + 4)], style))?,
        _ => area.draw(&TriangleMarker::new((x, y), 6, style))?,
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_point_and_every_name_is_in_the_picture() {
        let point = |series, x, is_full| ScatterPoint { series, x, y: x / 50.0, is_full };
        let svg = draw_scatter(&Scatter {
            title: "Gap against time",
            x: "minutes",
            y: "gap, %",
            series: &["one".into(), "two".into()],
            empty: "does not hold",
            points: &[point(0, 50.0, true), point(1, 80.0, false), point(0, 60.0, true)],
        })
        .unwrap();
        for text in ["Gap against time", "minutes", "one", "two", "does not hold"] {
            assert!(svg.contains(text), "{text} is missing");
        }
        assert_eq!(svg.matches("<circle").count(), 2 + 2, "two points and two of the legend");
    }
}
