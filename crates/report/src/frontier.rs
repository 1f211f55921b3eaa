//! The frontier of work against its cost as SVG: what nothing beats, what is dominated, what failed,
//! and the knee.

use plotters::prelude::*;
use yard_step_core::{CardDescription, Frontier};

use crate::ReportError;
use crate::chart::{Area, Axes, Chart, FAINT, INK};
use crate::font::{FONT, in_any_fixed_width};

const SIZE: (u32, u32) = (1200, 760);
const LINE: RGBColor = RGBColor(24, 112, 120);
const KNEE: RGBColor = RGBColor(178, 84, 32);
const DIM: RGBColor = RGBColor(170, 178, 184);
const BAD: RGBColor = RGBColor(190, 60, 60);
/// Points that are named in the picture beside the knee and stock: more would lie over one another.
const MOST_NAMED: usize = 5;

/// Draws a frontier as SVG. `load` is what ran.
///
/// # Errors
/// The chart cannot be drawn.
pub fn draw_frontier(
    card: &CardDescription,
    load: &str,
    frontier: &Frontier,
) -> Result<String, ReportError> {
    let mut svg = String::new();
    draw(&mut svg, card, load, frontier).map_err(|error| ReportError::Chart(error.to_string()))?;
    Ok(in_any_fixed_width(&svg))
}

/// Work of a score as it is drawn: percent against stock, where stock was run.
fn work(frontier: &Frontier) -> impl Fn(f64) -> f64 + use<> {
    let stock = frontier.stock_score();
    move |score| stock.map_or(score, |stock| (score / stock - 1.0) * 100.0)
}

fn draw(
    svg: &mut String,
    card: &CardDescription,
    load: &str,
    frontier: &Frontier,
) -> Result<(), Box<dyn std::error::Error>> {
    let root = SVGBackend::with_string(svg, SIZE).into_drawing_area();
    root.fill(&WHITE)?;
    let (head, body) = root.split_vertically(96);
    let title = format!("{} · unit {} · {load}", card.name, card.serial);
    head.draw_text(&title, &(FONT, 24).into_font().color(&INK), (30, 18))?;
    for (index, line) in broken(&yard_step_words::frontier(frontier), 130).into_iter().enumerate() {
        let at = (30, 54 + 18 * index as i32);
        head.draw_text(&line, &(FONT, 14).into_font().color(&INK), at)?;
    }
    let work = work(frontier);
    let range = |values: Vec<f64>| {
        let low = values.iter().copied().fold(f64::INFINITY, f64::min);
        let high = values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let (low, high) = if low <= high { (low, high) } else { (0.0, 1.0) };
        let room = ((high - low) * 0.06).max(0.5);
        low - room..high + room
    };
    let costs = frontier.points.iter().map(|point| point.cost).collect();
    let works = frontier.points.iter().map(|point| work(point.score)).collect();
    let cost = format!("{}, {}", frontier.cost.what(), frontier.cost.unit());
    let axes = Axes {
        caption: String::new(),
        x: (&cost, range(costs)),
        y: (if frontier.stock.is_some() { "work against stock, %" } else { "score" }, range(works)),
        x_labels: 12,
        y_label: &|y| format!("{y:.1}"),
    };
    let (plot, legend) = body.split_vertically(SIZE.1 as i32 - 96 - 40);
    let mut chart = axes.draw(&plot)?;
    draw_steps(&mut chart, frontier, &work)?;
    for (place, point) in frontier.points.iter().enumerate() {
        draw_point(&mut chart, frontier, place, (point.cost, work(point.score)))?;
    }
    name_points(&mut chart, frontier, &work)?;
    draw_legend(&legend)?;
    root.present()?;
    Ok(())
}

/// From each point level to where the next one costs more, then up to it.
fn draw_steps(
    chart: &mut Chart<'_, '_>,
    frontier: &Frontier,
    work: &dyn Fn(f64) -> f64,
) -> Result<(), Box<dyn std::error::Error>> {
    let on = frontier.frontier.iter().filter_map(|at| frontier.point(*at));
    let mut steps: Vec<(f64, f64)> = Vec::new();
    for point in on {
        if let Some((_, before)) = steps.last().copied() {
            steps.push((point.cost, before));
        }
        steps.push((point.cost, work(point.score)));
    }
    chart.draw_series(LineSeries::new(steps, LINE.stroke_width(2)))?;
    Ok(())
}

fn draw_point(
    chart: &mut Chart<'_, '_>,
    frontier: &Frontier,
    place: usize,
    at: (f64, f64),
) -> Result<(), Box<dyn std::error::Error>> {
    let Some(point) = frontier.point(place) else { return Ok(()) };
    let area = chart.plotting_area();
    if point.failed.is_some() {
        area.draw(&Cross::new(at, 4, BAD.mix(0.6).stroke_width(1)))?;
    } else if Some(place) == frontier.knee {
        let diamond = [(0, -8), (8, 0), (0, 8), (-8, 0)];
        let shape = EmptyElement::at(at) + Polygon::new(diamond.to_vec(), KNEE.filled());
        area.draw(&shape)?;
    } else if point.is_stock {
        let square = EmptyElement::at(at) + Rectangle::new([(-6, -6), (6, 6)], INK.stroke_width(2));
        area.draw(&square)?;
    } else if point.is_on_frontier {
        area.draw(&Circle::new(at, 5, LINE.filled()))?;
    } else {
        area.draw(&Circle::new(at, 3, DIM.filled()))?;
    }
    Ok(())
}

/// Names the ends of the frontier, the knee and stock, and a few between.
fn name_points(
    chart: &mut Chart<'_, '_>,
    frontier: &Frontier,
    work: &dyn Fn(f64) -> f64,
) -> Result<(), Box<dyn std::error::Error>> {
    let on = &frontier.frontier;
    let every = on.len().div_ceil(MOST_NAMED).max(1);
    let is_named = |index: usize| index.is_multiple_of(every) || index + 1 == on.len();
    let mut named: Vec<usize> =
        on.iter().enumerate().filter(|(index, _)| is_named(*index)).map(|(_, at)| *at).collect();
    named.extend(frontier.knee.into_iter().chain(frontier.stock));
    named.sort_unstable();
    named.dedup();
    let style = (FONT, 12).into_font().color(&INK);
    let mut taken: Vec<(i32, i32, i32)> = Vec::new();
    for point in named.into_iter().filter_map(|at| frontier.point(at)) {
        let at = (point.cost, work(point.score));
        let text = point.what.clone();
        let (x, y) = chart.backend_coord(&at);
        // Hack at this size is some 7 pixels a character; what reaches beyond the edge goes left.
        let width = text.chars().count() as i32 * 7 + 14;
        let left = x + width > SIZE.0 as i32 - 20;
        let start = if left { x - width } else { x };
        let mut down = 10;
        while taken.iter().any(|(from, to, row)| {
            start < *to && start + width > *from && (row - (y + down)).abs() < 15
        }) {
            down += 15;
        }
        taken.push((start, start + width, y + down));
        let across = if left { 10 - width } else { 10 };
        let name = EmptyElement::at(at) + Text::new(text, (across, down), style.clone());
        chart.plotting_area().draw(&name)?;
    }
    Ok(())
}

fn draw_legend(area: &Area<'_>) -> Result<(), Box<dyn std::error::Error>> {
    let style = (FONT, 13).into_font().color(&INK);
    let diamond: Vec<(i32, i32)> =
        [(0, -6), (6, 0), (0, 6), (-6, 0)].into_iter().map(|(x, y)| (210 + x, 14 + y)).collect();
    area.draw(&Circle::new((86, 14), 5, LINE.filled()))?;
    area.draw_text("frontier", &style, (100, 7))?;
    area.draw(&Polygon::new(diamond, KNEE.filled()))?;
    area.draw_text("knee", &style, (224, 7))?;
    area.draw(&Rectangle::new([(294, 9), (304, 19)], INK.stroke_width(2)))?;
    area.draw_text("stock", &style, (314, 7))?;
    area.draw(&Circle::new((400, 14), 3, DIM.filled()))?;
    area.draw_text("dominated", &style, (412, 7))?;
    area.draw(&Cross::new((530, 14), 4, BAD.stroke_width(1)))?;
    area.draw_text("failed at these settings", &style, (544, 7))?;
    area.draw(&PathElement::new(vec![(30, 1), (1_170, 1)], FAINT))?;
    Ok(())
}

/// A text broken at spaces into lines of at most `width` characters.
pub(crate) fn broken(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split_whitespace() {
        match lines.last_mut() {
            Some(line)
                if line.is_empty() || line.chars().count() + word.chars().count() < width =>
            {
                if !line.is_empty() {
                    line.push(' ');
                }
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use yard_step_card::{Card, CardChoice};
    use yard_step_core::{
        Celsius, Cost, MhzOffset, Percent, Seconds, Settings, Verdict, Watt, Weighed,
    };

    fn runs(card: &CardDescription) -> Vec<Weighed> {
        let at = |offset, score, watts, verdict| Weighed {
            climb: 1,
            trial: 1,
            asked: Settings { core_offset: Some(MhzOffset(offset)), ..Settings::stock(card) },
            load: "medley".into(),
            seconds: Seconds(720.0),
            verdict,
            score: Some(score),
            watts: Some(Watt(watts)),
            hot_spot: Some(Celsius(70.0)),
            fan: Some(Percent(100.0)),
        };
        vec![
            at(-90, 900.0, 150.0, Verdict::Slower),
            at(-30, 990.0, 170.0, Verdict::Clean),
            at(0, 1_000.0, 200.0, Verdict::Clean),
            at(15, 985.0, 210.0, Verdict::Clean),
            at(60, 1_020.0, 230.0, Verdict::Clean),
            at(90, 1_060.0, 190.0, Verdict::Artifacts),
        ]
    }

    #[test]
    fn knee_stock_and_names_are_in_the_picture_as_text() {
        let card = CardChoice::all()[0].open(3, 0).unwrap().description().clone();
        let frontier = Frontier::of(&runs(&card), &card, Cost::Watts, None);
        let svg = draw_frontier(&card, "medley", &frontier).unwrap();
        for text in [
            "The knee is core",
            "board power, W",
            "work against stock, %",
            "core +60 MHz",
            "dominated",
        ] {
            assert!(svg.contains(text), "{text} is missing");
        }
        assert!(svg.matches("<polygon").count() >= 2, "the knee, and that of the legend");
        let pdf = crate::to_pdf(&svg).unwrap();
        assert!(pdf.starts_with(b"%PDF"));
    }

    #[test]
    fn nothing_measured_is_an_empty_chart_that_says_so() {
        let card = CardChoice::all()[0].open(3, 0).unwrap().description().clone();
        let frontier = Frontier::of(&[], &card, Cost::Degrees, None);
        let svg = draw_frontier(&card, "kiln", &frontier).unwrap();
        assert!(svg.contains("Nothing that held was measured yet."));
    }
}
