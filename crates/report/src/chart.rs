//! The chart of a climb: its staircase, and the clock line of the trial that shows what is kept.
//!
//! ```text
//!   title, outcome
//!   ┌ staircase: offset over trial, verdicts, band of the edge ┐
//!   ┌ clock line of the kept trial against its target          ┐
//! ```

use std::ops::Range;

use plotters::coord::Shift;
use plotters::coord::types::RangedCoordf64;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use yard_step_core::{
    Channel, Climb, Domain, Mhz, MhzOffset, Next, Sample, Strip, Verdict, in_short,
};
use yard_step_ledger::ClimbEntry;

use crate::ReportError;
use crate::font::{FONT, in_any_fixed_width};

const SIZE: (u32, u32) = (1200, 900);
/// Characters of the font, at 14 pixels, that fit across the page.
const HEAD_COLUMNS: usize = 132;
pub(crate) const INK: RGBColor = RGBColor(38, 46, 54);
pub(crate) const FAINT: RGBColor = RGBColor(216, 220, 224);
const BAND: RGBColor = RGBColor(246, 228, 190);
const LINE: RGBColor = RGBColor(24, 112, 120);
const TARGET: RGBColor = RGBColor(178, 84, 32);
/// Columns into which a clock line is drawn.
const COLUMNS: usize = 900;
/// Seconds in which a card comes up from its idle clock.
const RISE_SECONDS: f64 = 5.0;

/// The trial whose clock line is drawn.
#[derive(Debug, Clone)]
pub struct KeptRun {
    /// Number of the trial.
    pub number: u32,
    /// Its samples.
    pub samples: Vec<Sample>,
}

pub(crate) type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;

/// Number of the trial that shows what a climb keeps, or would keep if it ended now.
///
/// # Errors
/// The climb cannot be laid out again.
pub fn kept_trial(entry: &ClimbEntry) -> Result<Option<u32>, ReportError> {
    Ok(entry.lay_out()?.outcome().kept_trial)
}

/// Draws the chart of a climb as SVG. Without a run there is only the staircase.
///
/// # Errors
/// The climb cannot be laid out again, or the chart cannot be drawn.
pub fn draw_svg(entry: &ClimbEntry, kept: Option<&KeptRun>) -> Result<String, ReportError> {
    let climb = entry.lay_out()?;
    let mut svg = String::new();
    draw(&mut svg, entry.id, &climb, kept)
        .map_err(|error| ReportError::Chart(error.to_string()))?;
    Ok(in_any_fixed_width(&svg))
}

fn draw(
    svg: &mut String,
    id: i64,
    climb: &Climb,
    kept: Option<&KeptRun>,
) -> Result<(), Box<dyn std::error::Error>> {
    let root = SVGBackend::with_string(svg, SIZE).into_drawing_area();
    root.fill(&WHITE)?;
    let (head, body) = root.split_vertically(90);
    draw_head(&head, id, climb)?;
    let (stairs, line) = body.split_vertically(470);
    draw_stairs(&stairs, climb)?;
    match kept.filter(|kept| !kept.samples.is_empty()) {
        Some(kept) => draw_clock_line(&line, climb, kept)?,
        None => {
            let style = (FONT, 15).into_font().color(&INK);
            line.draw_text("No trial with these settings was recorded.", &style, (90, 40))?;
        }
    }
    root.present()?;
    Ok(())
}

/// A pair of axes with their names and a heading: the same look for every chart.
pub(crate) struct Axes<'a> {
    pub caption: String,
    pub x: (&'a str, Range<f64>),
    pub y: (&'a str, Range<f64>),
    pub x_labels: usize,
    pub y_label: &'a dyn Fn(&f64) -> String,
}

pub(crate) type Chart<'a, 'b> =
    ChartContext<'a, SVGBackend<'b>, Cartesian2d<RangedCoordf64, RangedCoordf64>>;

impl Axes<'_> {
    pub(crate) fn draw<'a, 'b>(
        self,
        area: &'a Area<'b>,
    ) -> Result<Chart<'a, 'b>, Box<dyn std::error::Error>> {
        let mut chart = ChartBuilder::on(area)
            .caption(self.caption, (FONT, 16).into_font().color(&INK))
            .margin(14)
            .x_label_area_size(44)
            .y_label_area_size(72)
            .build_cartesian_2d(self.x.1, self.y.1)?;
        chart
            .configure_mesh()
            .bold_line_style(FAINT)
            .light_line_style(TRANSPARENT)
            .axis_style(INK)
            .label_style((FONT, 13).into_font().color(&INK))
            .x_labels(self.x_labels)
            .x_label_formatter(&|x| format!("{x:.0}"))
            .y_label_formatter(self.y_label)
            .x_desc(self.x.0)
            .y_desc(self.y.0)
            .draw()?;
        Ok(chart)
    }
}

fn draw_head(area: &Area<'_>, id: i64, climb: &Climb) -> Result<(), Box<dyn std::error::Error>> {
    let card = climb.card();
    let title = format!("{} · unit {} · climb {id}", card.name, card.serial);
    area.draw_text(&title, &(FONT, 24).into_font().color(&INK), (30, 20))?;
    let told = match climb.next() {
        Next::Ended(outcome) => format!(
            "{} {} trials, {} under load.",
            yard_step_words::outcome(&outcome),
            outcome.trials,
            outcome.test_seconds.in_words()
        ),
        Next::Trial(proposal) => {
            format!("Not ended yet. Next: {}", yard_step_words::reason(&proposal.reason))
        }
        Next::Stuck(why) => yard_step_words::stuck(&why),
    };
    for (line, y) in textwrap::wrap(&told, HEAD_COLUMNS).iter().zip([52, 70]) {
        area.draw_text(line, &(FONT, 14).into_font().color(&INK), (30, y))?;
    }
    Ok(())
}

/// Colour of a verdict on paper; its shape is drawn by [`draw_mark`].
fn colour(verdict: Verdict) -> RGBColor {
    match verdict {
        Verdict::Clean => RGBColor(24, 128, 96),
        Verdict::Slower | Verdict::Throttled => RGBColor(150, 110, 20),
        Verdict::Void | Verdict::NotTaken => RGBColor(120, 128, 136),
        Verdict::Artifacts | Verdict::LoadDied => RGBColor(200, 90, 20),
        Verdict::DriverReset | Verdict::MachineDown => RGBColor(176, 32, 64),
    }
}

fn draw_stairs(area: &Area<'_>, climb: &Climb) -> Result<(), Box<dyn std::error::Error>> {
    let offsets: Vec<f64> =
        climb.trials().iter().map(|t| f64::from(climb.place(t).core.0)).collect();
    let top = offsets.iter().copied().fold(60.0, f64::max) + 30.0;
    let bottom = offsets.iter().copied().fold(0.0, f64::min) - 30.0;
    let count = offsets.len().max(1) as f64;
    let (plot, legend) = area.split_horizontally(1_000);
    let axes = Axes {
        caption: "Staircase".into(),
        x: ("trial", 0.5..count + 0.5),
        y: ("core clock, MHz from stock", bottom..top),
        x_labels: offsets.len().clamp(2, 24),
        y_label: &|y| MhzOffset(y.round() as i32).to_string().replace(" MHz", ""),
    };
    let mut chart = axes.draw(&plot)?;
    if let Some((low, high)) =
        climb.stairs(Domain::Core, &climb.next()).and_then(|stairs| stairs.band)
    {
        let (floor, ceiling) = (f64::from(low.0).max(bottom), f64::from(high.0).min(top));
        let band = Rectangle::new([(0.5, floor), (count + 0.5, ceiling)], BAND.mix(0.6).filled());
        chart.draw_series([band])?;
    }
    let points: Vec<(f64, f64)> =
        offsets.iter().enumerate().map(|(i, y)| (i as f64 + 1.0, *y)).collect();
    chart.draw_series(LineSeries::new(steps(&points), INK.mix(0.4).stroke_width(1)))?;
    for (trial, point) in climb.trials().iter().zip(&points) {
        let at = chart.backend_coord(point);
        draw_mark(&plot, at, trial.verdict())?;
    }
    draw_legend(&legend, climb)
}

/// Points joined as stairs: level, then up or down.
fn steps(points: &[(f64, f64)]) -> Vec<(f64, f64)> {
    let mut line = Vec::new();
    for (x, y) in points {
        line.extend([(x - 0.5, *y), (x + 0.5, *y)]);
    }
    line
}

fn draw_mark(
    area: &Area<'_>,
    (x, y): (i32, i32),
    verdict: Verdict,
) -> Result<(), Box<dyn std::error::Error>> {
    let base = area.get_base_pixel();
    let (x, y) = (x - base.0, y - base.1);
    let style = colour(verdict).filled();
    let polygon = |points: &[(i32, i32)]| {
        Polygon::new(points.iter().map(|(dx, dy)| (x + dx, y + dy)).collect::<Vec<_>>(), style)
    };
    match verdict {
        Verdict::Clean => area.draw(&Circle::new((x, y), 7, style))?,
        Verdict::Void => area.draw(&Circle::new((x, y), 6, colour(verdict).stroke_width(2)))?,
        Verdict::Slower => area.draw(&polygon(&[(-8, -6), (8, -6), (0, 8)]))?,
        Verdict::Throttled => area.draw(&polygon(&[(-8, -7), (8, -7), (8, -2), (-8, -2)]))?,
        Verdict::NotTaken => {
            let ring = [(0, -8), (8, 0), (0, 8), (-8, 0), (0, -8)].map(|(a, b)| (x + a, y + b));
            area.draw(&PathElement::new(ring.to_vec(), colour(verdict).stroke_width(2)))?;
        }
        Verdict::Artifacts => {
            for (dx, dy) in [(-7, -7), (1, -7), (-7, 1), (1, 1)] {
                let corners = [(x + dx, y + dy), (x + dx + 6, y + dy + 6)];
                area.draw(&Rectangle::new(corners, style))?;
            }
        }
        Verdict::LoadDied => area.draw(&polygon(&[(-8, 7), (8, 7), (0, -8)]))?,
        Verdict::DriverReset => area.draw(&polygon(&[(0, -9), (9, 0), (0, 9), (-9, 0)]))?,
        Verdict::MachineDown => area.draw(&polygon(&[(-8, -8), (8, -8), (8, 8), (-8, 8)]))?,
    }
    Ok(())
}

fn draw_legend(area: &Area<'_>, climb: &Climb) -> Result<(), Box<dyn std::error::Error>> {
    let text = (FONT, 13).into_font().color(&INK).pos(Pos::new(HPos::Left, VPos::Center));
    let mut y = 60;
    let base = area.get_base_pixel();
    for verdict in Verdict::ALL.into_iter().rev() {
        let count = climb.trials().iter().filter(|trial| trial.verdict() == verdict).count();
        if count > 0 {
            draw_mark(area, (base.0 + 20, base.1 + y), verdict)?;
            area.draw_text(&format!("{verdict}: {count}"), &text, (40, y))?;
            y += 28;
        }
    }
    area.draw(&Rectangle::new([(12, y - 8), (30, y + 8)], BAND.filled()))?;
    area.draw_text("the edge", &text, (40, y))?;
    Ok(())
}

fn draw_clock_line(
    area: &Area<'_>,
    climb: &Climb,
    kept: &KeptRun,
) -> Result<(), Box<dyn std::error::Error>> {
    let mut strip = Strip::new(COLUMNS, 0.1);
    for sample in &kept.samples {
        strip.reading((sample.at.value() - 0.05).max(0.0), sample.get(Channel::CoreClock));
    }
    let record = climb.trials().iter().find(|trial| trial.number == kept.number);
    let offset = record.map_or(MhzOffset::STOCK, |record| climb.place(record).core);
    let target = Mhz(climb.card().limits.highest_clock.value()) + offset;
    let seconds = strip.seconds();
    // The climb out of idle in the first seconds would squeeze all that matters into a line.
    let lowest = strip
        .buckets()
        .iter()
        .skip((RISE_SECONDS / strip.bucket_seconds()).ceil() as usize)
        .flatten()
        .map(|bucket| f64::from(bucket.lowest))
        .fold(target.value() - 150.0, f64::min);
    let (low, high) = (lowest - 30.0, target.value() + 30.0);
    let axes = Axes {
        caption: format!(
            "Clock line of trial {}, {}",
            kept.number,
            record.map_or(String::new(), |record| in_short(&record.held(), climb.card()))
        ),
        x: ("seconds", 0.0..seconds),
        y: ("core clock, MHz", low..high),
        x_labels: 10,
        y_label: &|y| format!("{y:.0}"),
    };
    let mut chart = axes.draw(area)?;
    let width = strip.bucket_seconds();
    let columns = strip.buckets().iter().enumerate().filter_map(|(index, bucket)| {
        let bucket = (*bucket)?;
        let (from, half) = (index as f64 * width, 2.0);
        let bottom = (f64::from(bucket.lowest) - half).max(low);
        let top = (f64::from(bucket.highest) + half).clamp(low, high);
        Some(Rectangle::new([(from, bottom), (from + width, top)], LINE.filled()))
    });
    chart.draw_series(columns)?;
    let goal = [(0.0, target.value()), (seconds, target.value())];
    chart.draw_series(LineSeries::new(goal, TARGET.stroke_width(2)))?;
    let (x, y) = chart.backend_coord(&(seconds, target.value()));
    let base = area.get_base_pixel();
    let style = (FONT, 13).into_font().color(&TARGET).pos(Pos::new(HPos::Right, VPos::Bottom));
    area.draw_text(&format!("target {target}"), &style, (x - base.0 - 6, y - base.1 - 4))?;
    Ok(())
}
