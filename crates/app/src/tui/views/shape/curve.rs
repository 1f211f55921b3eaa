//! The V/F curve as a skyline: a pillar for each point, as high as its clock, so that a bin more or
//! less is seen; the factory's clock a notch in it; and below, on the same axis of voltage, where the
//! card really ran in each part of the load.
//!
//! ```text
//!   2100 │                  ▆▆ ▆▆ ▆▆ ▆▆
//!   1950 │         ▂▂ ▅▅ ██ ██ ██ ╌╌ ╌╌
//!   1800 │   ▃▃ ▆▆ ██ ██ ╋█ ██ ╌╌ ██ ██
//!        └───┬────────┬────────┬─────────
//!           850      950     1050 mV
//!   kiln        ━━━━━━  1905 to 1965 MHz
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use yard_step_core::{CurveBand, Mhz, Millivolt, Sketch, Verdict, VfCurve};

use crate::tui::theme::{Depth, Role, Theme, glyph};
use crate::tui::widgets::axes::Axes;
use crate::tui::widgets::bands;
use crate::tui::widgets::{EIGHTHS, write};

/// What is drawn.
pub(crate) struct CurveChart<'a> {
    pub sketch: &'a Sketch,
    /// The curve that the card holds.
    pub taken: Option<&'a VfCurve>,
    /// The point that is picked.
    pub point: usize,
    /// Where the card is now.
    pub now: Option<(Millivolt, Mhz)>,
    /// Where the run that is shown failed, and how.
    pub failed: Option<(Millivolt, Mhz, Verdict)>,
    /// Where it ran, by part of the load.
    pub bands: &'a [(&'a str, CurveBand)],
    /// How many times nearer than the whole curve one looks.
    pub zoom: u16,
    /// By how much clock and voltage of the run lie off its curve, MHz and mV: what moves it as a
    /// whole is taken off before a place is drawn.
    pub off: (f64, f64),
}

/// Where things lie.
struct Places {
    field: Rect,
    millivolt: (f64, f64),
    mhz: (f64, f64),
    /// As in the [chart](CurveChart::off).
    off: (f64, f64),
}

impl Places {
    fn x(&self, millivolt: f64) -> Option<u16> {
        let share = share(self.millivolt, millivolt)?;
        Some(self.field.x + (share * f64::from(self.field.width - 1)).round() as u16)
    }

    /// Row in which the top of a pillar of that clock lies; none outside the field.
    fn y(&self, mhz: f64) -> Option<u16> {
        share(self.mhz, mhz)?;
        let up = self.eighths(mhz).saturating_sub(1) / 8;
        Some(self.field.bottom() - 1 - up)
    }

    /// First and last column of the voltages of a band, as far as they are shown.
    fn columns(&self, band: &CurveBand) -> Option<(u16, u16)> {
        let (low, high) = self.millivolt;
        let (from, to) = (band.voltage.0.value() - self.off.1, band.voltage.1.value() - self.off.1);
        if to < low || from > high {
            return None;
        }
        self.x(from.max(low)).zip(self.x(to.min(high)))
    }

    /// Height of a clock above the foot of the field, in eighths of a row.
    fn eighths(&self, mhz: f64) -> u16 {
        let (low, high) = self.mhz;
        let share = ((mhz - low) / (high - low)).clamp(0.0, 1.0);
        (share * f64::from(self.field.height) * 8.0).round() as u16
    }

    /// Columns of the pillar of the point at a voltage, as far as it is shown.
    fn pillar(&self, millivolt: u16, width: u16) -> Option<std::ops::Range<u16>> {
        let middle = self.x(f64::from(millivolt))?;
        let from = middle.saturating_sub((width - 1) / 2).max(self.field.x);
        Some(from..(from + width).min(self.field.right()))
    }

    /// Voltage and clock at a cell.
    fn at(&self, (x, y): (u16, u16)) -> Option<(f64, f64)> {
        if !self.field.contains((x, y).into()) {
            return None;
        }
        let part = |(low, high): (f64, f64), share: f64| low + share * (high - low);
        let across = f64::from(x - self.field.x) / f64::from(self.field.width.max(2) - 1);
        // The upper half of a row: a pillar that is drawn there ends in it.
        let up = f64::from(self.field.bottom() - y) - 0.25;
        let millivolt = part(self.millivolt, across);
        Some((millivolt, part(self.mhz, up / f64::from(self.field.height))))
    }
}

fn share((low, high): (f64, f64), value: f64) -> Option<f64> {
    let share = (value - low) / (high - low);
    (0.0..=1.0).contains(&share).then_some(share)
}

impl CurveChart<'_> {
    fn places(&self, area: Rect) -> Option<Places> {
        let field = bands::field(area, self.bands.len())?;
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
            off: self.off,
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
        let factory = self.sketch.offer().factory;
        let width = self.pillar_width(&places);
        for (at, (millivolt, mhz)) in self.sketch.points().iter().copied().enumerate() {
            let Some(columns) = places.pillar(millivolt, width) else { continue };
            let style = theme.style(if at == self.point { Role::Accent } else { Role::Envelope });
            draw_pillar(buffer, &places, columns.clone(), mhz, style, theme);
            let held = self.taken.and_then(|taken| taken.points().get(at));
            let notches = [(factory.points().get(at), "╌", Role::Title), (held, "━", Role::Target)];
            for (point, symbol, role) in notches {
                let Some(point) = point.filter(|point| point.mhz != mhz) else { continue };
                let Some(y) = places.y(f64::from(point.mhz)) else { continue };
                for x in columns.clone() {
                    notch(buffer, (x, y), symbol, theme.style(role));
                }
            }
        }
        let legend = "█ shaped  ━ taken  ╌ factory";
        write(
            buffer,
            places.field,
            (places.field.x + 1, places.field.y),
            legend,
            theme.style(Role::Dim),
        );
        self.draw_failed(buffer, &places, theme);
        self.draw_now(buffer, &places, theme);
        self.draw_picked(buffer, &places, theme);
        self.draw_bands(buffer, area, &places, theme);
    }

    /// Columns that a pillar may take, so that neighbours stay apart where there is room.
    fn pillar_width(&self, places: &Places) -> u16 {
        let points = self.sketch.points();
        let columns = points.windows(2).filter_map(|pair| {
            let (left, right) = (places.x(f64::from(pair[0].0))?, places.x(f64::from(pair[1].0))?);
            Some(right.saturating_sub(left))
        });
        columns.min().unwrap_or(6).saturating_sub(1).clamp(1, 6)
    }

    /// The part of the chart in which the card ran, as a ground.
    fn draw_ground(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        if theme.depth() != Depth::True {
            return;
        }
        for (_, band) in self.bands {
            let Some((left, right)) = places.columns(band) else { continue };
            let (low, high) = places.mhz;
            let off = places.off.0;
            let (slow, fast) = (band.clock.0.value() - off, band.clock.1.value() - off);
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
        let field = places.field;
        let mut axes = Axes::draw(buffer, (area, field), theme);
        let step = tick_step(places.mhz, field.height / 3);
        let mut mhz = (places.mhz.0 / step).ceil() * step;
        while let Some(y) = places.y(mhz) {
            axes.up(y, &format!("{mhz:.0}"));
            mhz += step;
        }
        let step = tick_step(places.millivolt, field.width / 7);
        let mut millivolt = (places.millivolt.0 / step).ceil() * step;
        while let Some(x) = places.x(millivolt) {
            axes.along(x, &format!("{millivolt:.0}"));
            millivolt += step;
        }
        axes.unit("mV");
    }

    /// Where the run failed: the mark of its verdict with its figures beside it.
    fn draw_failed(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let Some((voltage, clock, verdict)) = self.failed else { return };
        let text = format!(" {verdict} at {clock}, {voltage} ");
        let (low, high) = places.mhz;
        let clock = (clock.value() - self.off.0).clamp(low, high);
        let (Some(x), Some(y)) = (places.x(voltage.value() - self.off.1), places.y(clock)) else {
            return;
        };
        let style = theme.style(Role::Bar).patch(theme.verdict(verdict));
        write(buffer, places.field, (x, y), glyph(verdict), style);
        let width = text.chars().count() as u16;
        let from = (x + 2).min(places.field.right().saturating_sub(width)).max(places.field.x);
        let below = (y + 3).min(places.field.bottom() - 1);
        write(buffer, places.field, (from, below), &text, style);
    }

    /// Where the card is now: a cross with its figures beside it.
    fn draw_now(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let Some((voltage, clock)) = self.now else { return };
        let text = format!(" now {clock} at {voltage} ");
        let (low, high) = places.mhz;
        let clock = (clock.value() - self.off.0).clamp(low, high);
        let voltage = voltage.value() - self.off.1;
        let (Some(x), Some(y)) = (places.x(voltage), places.y(clock)) else { return };
        let style = theme.style(Role::Bar).patch(theme.style(Role::Accent));
        write(buffer, places.field, (x, y), "╋", style);
        let width = text.chars().count() as u16;
        // Below the top of the pillars, where it hides nothing that is moved.
        let from = (x + 2).min(places.field.right().saturating_sub(width)).max(places.field.x);
        let below = (y + 2).min(places.field.bottom() - 1);
        write(buffer, places.field, (from, below), &text, style);
    }

    fn draw_picked(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let Some(&(millivolt, mhz)) = self.sketch.points().get(self.point) else { return };
        let (Some(x), Some(y)) = (places.x(f64::from(millivolt)), places.y(f64::from(mhz))) else {
            return;
        };
        let text = format!(" ▸ {mhz} MHz at {millivolt} mV ");
        let width = text.chars().count() as u16;
        let field = places.field;
        let from = x.saturating_sub(width).max(field.x);
        let style = theme.style(Role::Title).patch(theme.style(Role::Selected));
        write(buffer, field, (from, y.saturating_sub(2).max(field.y)), &text, style);
    }

    /// A line for each part of the load, on the axis of voltage.
    fn draw_bands(&self, buffer: &mut Buffer, area: Rect, places: &Places, theme: Theme) {
        for (index, (name, band)) in self.bands.iter().enumerate() {
            let (slow, fast) = band.clock;
            // The axis is that of the curve: an offset lies on top of it.
            let offset = match self.off.0 {
                0.0 => String::new(),
                off => format!(", of which {off:+.0} MHz offset"),
            };
            let figures = format!("{:.0} to {:.0} MHz{offset}", slow.value(), fast.value());
            let place = (area, places.field, index);
            bands::draw(buffer, place, theme, name, places.columns(band), &figures);
        }
    }
}

fn extent(values: impl Iterator<Item = u16> + Clone) -> Option<(f64, f64)> {
    Some((f64::from(values.clone().min()?), f64::from(values.max()?)))
}

/// Distance of two labels of an axis that has room for `most`, in its unit.
fn tick_step((low, high): (f64, f64), most: u16) -> f64 {
    let most = f64::from(most).max(1.0);
    let steps = [5.0, 10.0, 20.0, 50.0, 100.0, 200.0, 500.0];
    steps.into_iter().find(|step| (high - low) / step <= most).unwrap_or(1_000.0)
}

/// A pillar up to a clock, its top brighter than its shaft.
fn draw_pillar(
    buffer: &mut Buffer,
    places: &Places,
    columns: std::ops::Range<u16>,
    mhz: u16,
    shaft: Style,
    theme: Theme,
) {
    let eighths = places.eighths(f64::from(mhz));
    let top = eighths.saturating_sub(1) / 8;
    for up in 0..=top {
        let filled = usize::from(eighths.saturating_sub(up * 8).min(8));
        let style = if up + 1 >= top { shaft.patch(theme.style(Role::Clock)) } else { shaft };
        for x in columns.clone() {
            write(
                buffer,
                places.field,
                (x, places.field.bottom() - 1 - up),
                EIGHTHS[filled],
                style,
            );
        }
    }
}

/// A mark in a cell: on the pillar's own colour where one stands there. The top of a pillar is not
/// hidden by what is less than a row away.
fn notch(buffer: &mut Buffer, place: (u16, u16), symbol: &str, style: Style) {
    let Some(cell) = buffer.cell_mut(place) else { return };
    let style = match cell.symbol() {
        "█" => style.bg(cell.fg),
        top if EIGHTHS[1..].contains(&top) => return,
        _ => style,
    };
    cell.set_symbol(symbol).set_style(style);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::curve_offer;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
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
        CurveChart {
            sketch,
            taken: None,
            point: 4,
            now,
            failed: None,
            bands,
            zoom: 1,
            off: (0.0, 0.0),
        }
    }

    fn band() -> CurveBand {
        CurveBand {
            clock: (Mhz(1_905.0), Mhz(1_965.0)),
            voltage: (Millivolt(880.0), Millivolt(910.0)),
        }
    }

    #[test]
    fn a_run_that_failed_is_marked_where_it_was() {
        let sketch = sketch();
        let failed = Some((Millivolt(905.0), Mhz(1_950.0), Verdict::LoadDied));
        let chart = CurveChart { now: None, failed, ..chart(&sketch, &[]) };
        let text = drawn(120, 30, |buffer, area| chart.draw(buffer, area, THEME)).join("\n");
        assert!(text.contains("load died at 1950 MHz, 905 mV") && text.contains("▲"), "{text}");
    }

    #[test]
    fn clocks_beyond_the_axis_are_told_to_come_of_the_offset() {
        let sketch = sketch();
        let bands = [("kiln", band())];
        let chart = CurveChart { off: (90.0, 0.0), ..chart(&sketch, &bands) };
        let text = drawn(120, 30, |buffer, area| chart.draw(buffer, area, THEME)).join("\n");
        assert!(text.contains("MHz, of which +90 MHz offset"), "{text}");
    }

    #[test]
    fn the_picked_point_is_named_and_the_bands_stand_below_on_its_axis() {
        let sketch = sketch();
        let bands = [("kiln", band())];
        let chart = chart(&sketch, &bands);
        let lines = drawn(70, 18, |buffer, area| chart.draw(buffer, area, THEME));
        let text = lines.join("\n");
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
        let places = chart.places(area).unwrap();
        for (millivolt, mhz) in [(900.0, 1_995.0), (875.0, 1_950.0)] {
            let place = (places.x(millivolt).unwrap(), places.y(mhz).unwrap());
            let (there, clock) = chart.at(area, place).unwrap();
            assert!((there - millivolt).abs() < 4.0, "{there} for {millivolt}");
            assert!((clock - mhz).abs() < 15.0, "{clock} for {mhz}");
        }
        assert_eq!(chart.at(area, (2, 2)), None);
    }

    #[test]
    fn a_bin_more_is_seen_and_the_factory_stays_a_notch() {
        let offer = curve_offer();
        let before = Sketch::new(offer, &offer.factory);
        let mut raised = before.clone();
        raised.raise(4, 1);
        let shown = |sketch: &Sketch| {
            let chart = CurveChart { now: None, ..chart(sketch, &[]) };
            drawn(90, 30, |buffer, area| chart.draw(buffer, area, THEME)).join("\n")
        };
        let (before, after) = (shown(&before), shown(&raised));
        assert_ne!(before.replace("1815 MHz", ""), after.replace("1830 MHz", ""));
        raised.raise(4, 4);
        assert_eq!(shown(&raised).matches('╌').count(), 6 + 1, "{}", shown(&raised));
        assert_eq!(before.matches('╌').count(), 1, "that of the legend");
    }

    #[test]
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
