//! The V/F curve: the shape that is asked for drawn large, the factory's behind it, and below both,
//! on the same axis of voltage, where the card really ran in each part of the load.
//!
//! ```text
//!   2085 │                 ●──●──●──●
//!   1950 │        ●──●──●──┘     ·
//!   1815 │  ●──●──┘   · ·  ╋ now
//!        └──┬────────┬────────┬──────
//!          800      900     1000 mV
//!   kiln        ━━━━━━  1905 to 1965 MHz
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use yard_step_core::{CurveBand, Mhz, Millivolt, Sketch, VfCurve};

use super::plot::set_dot;
use super::{row, write, write_right};
use crate::tui::theme::{Depth, Role, Theme};

/// Width of the labels at the left: the name of a scene must fit.
const GUTTER: u16 = 10;
/// Rows of the axis of voltage.
const AXIS: u16 = 2;

/// What is drawn.
pub(crate) struct CurveChart<'a> {
    pub sketch: &'a Sketch,
    /// The curve that the card holds.
    pub taken: Option<&'a VfCurve>,
    /// The point that is picked.
    pub point: usize,
    /// Where the card is now.
    pub now: Option<(Millivolt, Mhz)>,
    /// Where it ran, by part of the load.
    pub bands: &'a [(&'a str, CurveBand)],
    /// How many times nearer than the whole curve one looks.
    pub zoom: u16,
}

/// Where things lie.
struct Places {
    field: Rect,
    millivolt: (f64, f64),
    mhz: (f64, f64),
}

impl Places {
    fn x(&self, millivolt: f64) -> Option<u16> {
        let share = share(self.millivolt, millivolt)?;
        Some(self.field.x + (share * f64::from(self.field.width - 1)).round() as u16)
    }

    fn y(&self, mhz: f64) -> Option<u16> {
        let share = share(self.mhz, mhz)?;
        Some(self.field.bottom() - 1 - (share * f64::from(self.field.height - 1)).round() as u16)
    }

    /// First and last column of the voltages of a band, as far as they are shown.
    fn columns(&self, band: &CurveBand) -> Option<(u16, u16)> {
        let (low, high) = self.millivolt;
        let (from, to) = (band.voltage.0.value(), band.voltage.1.value());
        if to < low || from > high {
            return None;
        }
        self.x(from.max(low)).zip(self.x(to.min(high)))
    }

    /// Height of a clock in dots from the top, kept inside the field.
    fn dot(&self, mhz: f64) -> u16 {
        let (low, high) = self.mhz;
        let share = ((mhz - low) / (high - low)).clamp(0.0, 1.0);
        // The middle of a cell is where a point of that clock is drawn.
        let rows = f64::from(self.field.height - 1);
        (((1.0 - share) * rows + 0.5) * 4.0) as u16
    }

    /// Voltage and clock at a cell.
    fn at(&self, (x, y): (u16, u16)) -> Option<(f64, f64)> {
        if !self.field.contains((x, y).into()) {
            return None;
        }
        let along = |(low, high): (f64, f64), cells: u16, of: u16| {
            low + f64::from(cells) / f64::from(of.max(2) - 1) * (high - low)
        };
        let millivolt = along(self.millivolt, x - self.field.x, self.field.width);
        let up = self.field.bottom() - 1 - y;
        Some((millivolt, along(self.mhz, up, self.field.height)))
    }
}

fn share((low, high): (f64, f64), value: f64) -> Option<f64> {
    let share = (value - low) / (high - low);
    (0.0..=1.0).contains(&share).then_some(share)
}

impl CurveChart<'_> {
    fn places(&self, area: Rect) -> Option<Places> {
        let below = AXIS + self.bands.len() as u16;
        let field = Rect {
            x: area.x + GUTTER.min(area.width),
            width: area.width.checked_sub(GUTTER)?,
            height: area.height.checked_sub(below)?,
            ..area
        };
        if field.width < 2 || field.height < 2 {
            return None;
        }
        let points = self.sketch.points();
        let factory = self.sketch.offer().factory;
        let volts = points
            .iter()
            .map(|point| point.0)
            .chain([factory.first().millivolt, factory.last().millivolt]);
        let clocks =
            points.iter().map(|point| point.1).chain([factory.first().mhz, factory.last().mhz]);
        let (low_mv, high_mv) = extent(volts)?;
        let (low_mhz, high_mhz) = extent(clocks)?;
        // Room above the curve, so that a point can be dragged there.
        let above = (high_mhz - low_mhz) * 0.08;
        let whole = Places {
            field,
            millivolt: (low_mv - 8.0, high_mv + 8.0),
            mhz: (low_mhz - 15.0, high_mhz + above),
        };
        Some(self.nearer(whole))
    }

    /// The part of the curve around the picked point, where one looks nearer.
    fn nearer(&self, whole: Places) -> Places {
        let Some(&(millivolt, mhz)) = self.sketch.points().get(self.point) else { return whole };
        let cut = |(low, high): (f64, f64), middle: f64| {
            let span = (high - low) / f64::from(self.zoom.max(1));
            let from = (middle - span / 2.0).clamp(low, high - span);
            (from, from + span)
        };
        Places {
            millivolt: cut(whole.millivolt, f64::from(millivolt)),
            mhz: cut(whole.mhz, f64::from(mhz)),
            ..whole
        }
    }

    /// Voltage and clock at a place of the screen, mV and MHz; none outside the chart.
    pub(crate) fn at(&self, area: Rect, place: (u16, u16)) -> Option<(f64, f64)> {
        self.places(area)?.at(place)
    }

    pub(crate) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme) {
        let Some(places) = self.places(area) else { return };
        self.draw_axes(buffer, area, &places, theme);
        self.draw_ground(buffer, &places, theme);
        let factory: Vec<(u16, u16)> = self.sketch.offer().factory.into();
        let shaped = self.sketch.points();
        draw_line(buffer, &places, &factory, theme.style(Role::Faint));
        for point in &factory {
            draw_point(buffer, &places, *point, "·", theme.style(Role::Dim));
        }
        if let Some(taken) = self.taken {
            let taken: Vec<(u16, u16)> = (*taken).into();
            if taken != shaped && taken != factory {
                draw_line(buffer, &places, &taken, theme.style(Role::Target));
            }
        }
        draw_line(buffer, &places, shaped, theme.style(Role::Clock));
        for point in shaped {
            draw_point(buffer, &places, *point, "●", theme.style(Role::Clock));
        }
        self.draw_now(buffer, &places, theme);
        self.draw_picked(buffer, &places, theme);
        self.draw_bands(buffer, area, &places, theme);
    }

    /// The part of the chart in which the card ran, as a ground.
    fn draw_ground(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        if theme.depth() != Depth::True {
            return;
        }
        for (_, band) in self.bands {
            let Some((left, right)) = places.columns(band) else { continue };
            let (low, high) = places.mhz;
            let (slow, fast) = (band.clock.0.value(), band.clock.1.value());
            if fast < low || slow > high {
                continue;
            }
            let (Some(bottom), Some(top)) = (places.y(slow.max(low)), places.y(fast.min(high)))
            else {
                continue;
            };
            let ground =
                Rect { x: left, y: top, width: right - left + 1, height: bottom - top + 1 };
            buffer.set_style(ground.intersection(buffer.area), theme.style(Role::Band));
        }
    }

    fn draw_axes(&self, buffer: &mut Buffer, area: Rect, places: &Places, theme: Theme) {
        let (faint, dim) = (theme.style(Role::Faint), theme.style(Role::Dim));
        let field = places.field;
        for y in field.y..field.bottom() {
            write(buffer, area, (field.x - 1, y), "│", faint);
        }
        let labels = Rect { width: GUTTER - 2, ..area };
        let ticks = (field.height / 4).clamp(2, 8);
        for tick in 0..=ticks {
            let y = field.bottom() - 1 - tick * (field.height - 1) / ticks;
            let up = f64::from(field.bottom() - 1 - y) / f64::from(field.height - 1);
            let mhz = places.mhz.0 + up * (places.mhz.1 - places.mhz.0);
            write_right(buffer, labels, y, &format!("{mhz:.0}"), dim);
        }
        let axis = Rect { y: field.bottom(), height: 1, ..field }.intersection(area);
        let line = format!("└{}", "─".repeat(usize::from(field.width)));
        write(buffer, area, (field.x - 1, axis.y), &line, faint);
        let step = tick_step(places.millivolt, field.width);
        let mut millivolt = (places.millivolt.0 / step).ceil() * step;
        while let Some(x) = places.x(millivolt) {
            write(buffer, area, (x, axis.y), "┬", faint);
            let label = format!("{millivolt:.0}");
            let from = x.saturating_sub(label.len() as u16 / 2);
            write(buffer, area, (from, axis.y + 1), &label, dim);
            millivolt += step;
        }
        write_right(buffer, labels, axis.y + 1, "mV", dim);
    }

    /// Where the card is now: a cross with its figures beside it.
    fn draw_now(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let Some((millivolt, mhz)) = self.now else { return };
        let (Some(x), Some(y)) = (places.x(millivolt.value()), places.y(mhz.value())) else {
            return;
        };
        let style = theme.style(Role::Accent);
        write(buffer, places.field, (x, y), "╋", style);
        let text = format!("now {mhz} at {millivolt}");
        let right =
            Rect { width: places.field.right().saturating_sub(x + 2), x: x + 2, ..places.field };
        // Below the curve, where nothing else is.
        let below = (y + 1).min(places.field.bottom() - 1);
        write(buffer, right, (x + 2, below), &text, style);
    }

    fn draw_picked(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let Some(&(millivolt, mhz)) = self.sketch.points().get(self.point) else { return };
        let (Some(x), Some(y)) = (places.x(f64::from(millivolt)), places.y(f64::from(mhz))) else {
            return;
        };
        let style = theme.style(Role::Title).patch(theme.style(Role::Selected));
        let field = places.field;
        for guide in y + 1..field.bottom() {
            let is_free = buffer.cell((x, guide)).is_some_and(|cell| cell.symbol() == " ");
            if is_free {
                write(buffer, field, (x, guide), "╎", theme.style(Role::Faint));
            }
        }
        if x > field.x {
            write(buffer, field, (x - 1, y), "▐", theme.style(Role::Title));
        }
        write(buffer, field, (x, y), "●", style);
        write(buffer, field, (x + 1, y), "▌", theme.style(Role::Title));
        let text = format!(" {mhz} MHz at {millivolt} mV ");
        let width = text.chars().count() as u16;
        let from = x.saturating_sub(width + 1).max(field.x);
        let above = if y > field.y { y - 1 } else { y + 1 };
        write(buffer, field, (from, above), &text, style);
    }

    /// A line for each part of the load, on the axis of voltage.
    fn draw_bands(&self, buffer: &mut Buffer, area: Rect, places: &Places, theme: Theme) {
        let dim = theme.style(Role::Dim);
        for (index, (name, band)) in self.bands.iter().enumerate() {
            let line = row(area, places.field.height + AXIS + index as u16);
            write_right(buffer, Rect { width: GUTTER - 2, ..line }, line.y, name, dim);
            let Some((left, right)) = places.columns(band) else { continue };
            let bar = "━".repeat(usize::from(right - left + 1));
            write(buffer, line, (left, line.y), &bar, theme.style(Role::Accent));
            let (slow, fast) = band.clock;
            let text = format!("{:.0} to {:.0} MHz", slow.value(), fast.value());
            let width = text.chars().count() as u16;
            let behind = right + 2;
            let from = if behind + width <= line.right() {
                behind
            } else {
                left.saturating_sub(width + 1)
            };
            write(buffer, line, (from.max(places.field.x), line.y), &text, dim);
        }
    }
}

fn extent(values: impl Iterator<Item = u16> + Clone) -> Option<(f64, f64)> {
    Some((f64::from(values.clone().min()?), f64::from(values.max()?)))
}

/// Distance of two labels of the axis of voltage, so that they do not touch, mV.
fn tick_step((low, high): (f64, f64), width: u16) -> f64 {
    let most = f64::from(width / 7).max(1.0);
    let steps = [5.0, 10.0, 20.0, 50.0, 100.0, 200.0, 500.0];
    steps.into_iter().find(|step| (high - low) / step <= most).unwrap_or(1_000.0)
}

/// Draws a curve as dots, its points joined by straight lines.
fn draw_line(buffer: &mut Buffer, places: &Places, points: &[(u16, u16)], style: Style) {
    let columns = places.field.width * 2;
    let (low, high) = places.millivolt;
    let mut before: Option<u16> = None;
    for column in 0..columns {
        let share = (f64::from(column) - 0.5) / f64::from(columns.max(3) - 2);
        let millivolt = low + share * (high - low);
        let Some(mhz) = on_line(points, millivolt) else { continue };
        if share_is_outside(places.mhz, mhz) {
            before = None;
            continue;
        }
        let dot = places.dot(mhz);
        let from = before.unwrap_or(dot);
        for between in from.min(dot)..=from.max(dot) {
            set_dot(buffer, places.field, column, between, style);
        }
        before = Some(dot);
    }
}

fn share_is_outside(range: (f64, f64), value: f64) -> bool {
    share(range, value).is_none()
}

/// Clock on the lines between points that may also fall, MHz.
fn on_line(points: &[(u16, u16)], millivolt: f64) -> Option<f64> {
    points.windows(2).find_map(|pair| {
        let ((from, low), (to, high)) = (pair[0], pair[1]);
        let [from, to] = [from, to].map(f64::from);
        let inside = from <= millivolt && millivolt <= to && to > from;
        let share = (millivolt - from) / (to - from).max(1e-9);
        inside.then(|| f64::from(low) + (f64::from(high) - f64::from(low)) * share)
    })
}

fn draw_point(
    buffer: &mut Buffer,
    places: &Places,
    (millivolt, mhz): (u16, u16),
    symbol: &str,
    style: Style,
) {
    if let (Some(x), Some(y)) = (places.x(f64::from(millivolt)), places.y(f64::from(mhz))) {
        write(buffer, places.field, (x, y), symbol, style);
    }
}

#[cfg(test)]
mod tests {
    use super::super::testing::{AWKWARD, drawn};
    use super::*;
    use crate::tui::fixtures::curve_offer;
    use rstest::rstest;

    const THEME: Theme = Theme::new(Depth::None);

    fn sketch() -> Sketch {
        let offer = curve_offer();
        let mut sketch = Sketch::new(offer, &offer.factory);
        sketch.pin(4, 1_995.0);
        sketch
    }

    fn chart<'a>(sketch: &'a Sketch, bands: &'a [(&'a str, CurveBand)]) -> CurveChart<'a> {
        let now = Some((Millivolt(905.0), Mhz(1_950.0)));
        CurveChart { sketch, taken: None, point: 4, now, bands, zoom: 1 }
    }

    fn band() -> CurveBand {
        CurveBand {
            clock: (Mhz(1_905.0), Mhz(1_965.0)),
            voltage: (Millivolt(880.0), Millivolt(910.0)),
        }
    }

    #[rstest]
    fn points_are_drawn_with_the_picked_one_named_and_the_bands_below() {
        let sketch = sketch();
        let bands = [("kiln", band())];
        let chart = chart(&sketch, &bands);
        let lines = drawn(70, 18, |buffer, area| chart.draw(buffer, area, THEME));
        let text = lines.join("\n");
        let points = text.matches('●').count();
        assert_eq!(points, sketch.points().len(), "{text}");
        assert!(text.contains("1995 MHz at 900 mV"), "{text}");
        assert!(text.contains("now 1950 MHz at 905 mV"), "{text}");
        assert!(lines[16].contains("800") && lines[16].contains("1000"), "{text}");
        assert!(lines[17].contains("kiln") && lines[17].contains("1905 to 1965 MHz"), "{text}");
    }

    #[rstest]
    #[case(1)]
    #[case(4)]
    fn a_place_of_the_screen_is_a_voltage_and_a_clock(#[case] zoom: u16) {
        let sketch = sketch();
        let chart = CurveChart { zoom, ..chart(&sketch, &[]) };
        let area = Rect::new(0, 0, 80, 30);
        let lines = drawn(80, 30, |buffer, area| chart.draw(buffer, area, THEME));
        let y = lines.iter().position(|line| line.contains("▐●▌")).unwrap();
        let x = lines[y].chars().position(|c| c == '▐').unwrap() + 1;
        let (millivolt, mhz) = chart.at(area, (x as u16, y as u16)).unwrap();
        assert!((millivolt - 900.0).abs() < 4.0, "{millivolt}");
        assert!((mhz - 1_995.0).abs() < 15.0, "{mhz}");
        assert_eq!(chart.at(area, (2, 2)), None);
    }

    #[rstest]
    fn any_size_will_do() {
        let sketch = sketch();
        let bands = [("kiln", band()), ("squall", band())];
        for zoom in [1, 8] {
            let chart = CurveChart { zoom, ..chart(&sketch, &bands) };
            for (width, height) in AWKWARD {
                drawn(width, height, |buffer, area| chart.draw(buffer, area, THEME));
            }
        }
    }
}
