//! The clock window: how long the card ran at which clock, between the lowest and the highest it may
//! have.
//!
//! ```text
//!   share   ┊          ▂▅█▇▃     ┊
//!           ┊        ▁▃█████▆▂   ┊
//!        ───┴────────┬──────┬────┴──── MHz
//!   kiln             ━━━━━━    lowest 1800, highest 2300
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::{Channel, CurveBand, Trace};

use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::bands;
use crate::tui::widgets::bands::GUTTER;
use crate::tui::widgets::{EIGHTHS, write, write_right};

/// Stretches of a trace whose mean clock is counted.
const STRETCHES: u32 = 600;
/// What is drawn.
pub(crate) struct WindowChart<'a> {
    /// The run whose clock is counted.
    pub trace: Option<&'a Trace>,
    /// Its lowest, average and highest clock, MHz: all there is of a run without samples.
    pub line: Option<[f64; 3]>,
    /// Lowest and highest clock that is asked for, MHz.
    pub window: (f64, f64),
    /// Lowest and highest clock that can be asked for, MHz.
    pub range: (f64, f64),
    /// Where the card ran, by part of the load.
    pub bands: &'a [(&'a str, CurveBand)],
}

impl WindowChart<'_> {
    fn x(&self, field: Rect, mhz: f64) -> u16 {
        let (low, high) = self.range;
        let share = ((mhz - low) / (high - low).max(1.0)).clamp(0.0, 1.0);
        field.x + (share * f64::from(field.width - 1)).round() as u16
    }

    pub(crate) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme) {
        let Some(field) = bands::field(area, self.bands.len()) else { return };
        let inside = Rect {
            x: self.x(field, self.window.0),
            width: self.x(field, self.window.1) - self.x(field, self.window.0) + 1,
            ..field
        };
        buffer.set_style(inside.intersection(buffer.area), theme.style(Role::Band));
        self.draw_axis(buffer, area, field, theme);
        self.draw_shares(buffer, field, theme);
        for (index, (name, band)) in self.bands.iter().enumerate() {
            let (slow, fast) = (band.clock.0.value(), band.clock.1.value());
            let columns = (self.x(field, slow), self.x(field, fast));
            let (low, high) = band.voltage;
            let figures = format!("{slow:.0} to {fast:.0} MHz at {:.0} to {high}", low.value());
            bands::draw(buffer, (area, field, index), theme, name, Some(columns), &figures);
        }
    }

    /// How long the card ran at which clock: the longest fills the height.
    fn draw_shares(&self, buffer: &mut Buffer, field: Rect, theme: Theme) {
        let mut counts = vec![0_u32; usize::from(field.width)];
        if let Some(trace) = self.trace {
            let step = trace.seconds() / f64::from(STRETCHES);
            for stretch in 0..STRETCHES {
                let from = f64::from(stretch) * step;
                let Some(bucket) = trace.over(Channel::CoreClock, from, from + step) else {
                    continue;
                };
                let column = self.x(field, f64::from(bucket.mean())) - field.x;
                counts[usize::from(column)] += 1;
            }
        }
        let most = counts.iter().copied().max().filter(|most| *most > 0);
        let Some(most) = most else {
            self.draw_line(buffer, field, theme);
            return;
        };
        for (column, count) in counts.iter().enumerate() {
            let eighths =
                (u64::from(*count) * u64::from(field.height) * 8).div_ceil(u64::from(most));
            for up in 0..field.height {
                let filled = eighths.saturating_sub(u64::from(up) * 8).min(8) as usize;
                if filled > 0 {
                    let at = (field.x + column as u16, field.bottom() - 1 - up);
                    write(buffer, field, at, EIGHTHS[filled], theme.style(Role::Clock));
                }
            }
        }
    }

    /// What there is of a run without samples: from its lowest clock to its highest.
    fn draw_line(&self, buffer: &mut Buffer, field: Rect, theme: Theme) {
        let y = field.y + field.height / 2;
        let Some([lowest, average, highest]) = self.line else {
            let text = "No run yet shows the clocks of this card: Enter starts one.";
            write(buffer, field, (field.x + 2, y), text, theme.style(Role::Dim));
            return;
        };
        let style = theme.style(Role::Clock);
        let (left, right) = (self.x(field, lowest), self.x(field, highest));
        let bar = "━".repeat(usize::from(right - left + 1));
        write(buffer, field, (left, y), &bar, style);
        write(buffer, field, (self.x(field, average), y), "╋", style);
        let text =
            format!("{lowest:.0} to {highest:.0}, average {average:.0} MHz: no samples kept");
        let width = text.chars().count() as u16;
        let from = left.min(field.right().saturating_sub(width)).max(field.x);
        write(
            buffer,
            field,
            (from, (y + 1).min(field.bottom() - 1)),
            &text,
            theme.style(Role::Dim),
        );
    }

    fn draw_axis(&self, buffer: &mut Buffer, area: Rect, field: Rect, theme: Theme) {
        let (faint, dim) = (theme.style(Role::Faint), theme.style(Role::Dim));
        let y = field.bottom();
        write(buffer, area, (field.x, y), &"─".repeat(usize::from(field.width)), faint);
        write_right(buffer, Rect { width: GUTTER - 2, ..area }, y + 1, "MHz", dim);
        let ends = [self.window.0, self.window.1].map(|mhz| (self.x(field, mhz), mhz));
        let mut step = 100.0;
        while (self.range.1 - self.range.0) / step > f64::from(field.width / 8).max(1.0) {
            step *= 2.0;
        }
        let mut mhz = (self.range.0 / step).ceil() * step;
        while mhz <= self.range.1 {
            let x = self.x(field, mhz);
            // The window's own ends go before.
            if ends.iter().all(|(end, _)| end.abs_diff(x) > 5) {
                write(buffer, area, (x, y), "┬", faint);
                write(buffer, area, (x.saturating_sub(2), y + 1), &format!("{mhz:.0}"), dim);
            }
            mhz += step;
        }
        let accent = theme.style(Role::Target);
        for (x, mhz) in ends {
            for up in field.y..=y {
                write(buffer, area, (x, up), "┊", accent);
            }
            let label = format!("{mhz:.0}");
            let from = x.saturating_sub(2).min(area.right().saturating_sub(label.len() as u16));
            write(buffer, area, (from, y + 1), &label, accent);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::run_view;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use yard_step_core::{Mhz, Millivolt};

    const THEME: Theme = Theme::new(Depth::None);

    fn band() -> CurveBand {
        let clock = (Mhz(2_010.0), Mhz(2_070.0));
        CurveBand { clock, voltage: (Millivolt(950.0), Millivolt(1_000.0)) }
    }

    #[test]
    fn clocks_stand_where_the_card_ran_between_the_ends_of_the_window() {
        let run = run_view();
        let bands = [("kiln", band())];
        let chart = WindowChart {
            trace: Some(&run.trace),
            line: None,
            window: (1_800.0, 2_400.0),
            range: (500.0, 2_800.0),
            bands: &bands,
        };
        let lines = drawn(100, 12, |buffer, area| chart.draw(buffer, area, THEME));
        let text = lines.join("\n");
        assert!(lines[10].contains("1800") && lines[10].contains("2400"), "{text}");
        assert!(lines[11].contains("2010 to 2070 MHz at 950 to 1000 mV"), "{text}");
        let column = |line: &str, sign| line.chars().position(|c| c == sign);
        let (low, top) = (column(&lines[5], '┊').unwrap(), column(&lines[5], '█').unwrap());
        assert!(low < top, "{text}");
    }

    #[test]
    fn without_a_run_it_says_how_to_come_by_one() {
        let (window, range) = ((1_000.0, 2_000.0), (500.0, 2_500.0));
        let mut chart = WindowChart { trace: None, line: None, window, range, bands: &[] };
        let lines = drawn(90, 9, |buffer, area| chart.draw(buffer, area, THEME));
        assert!(lines.iter().any(|line| line.contains("Enter starts one")), "{lines:?}");
        chart.line = Some([1_200.0, 1_500.0, 1_900.0]);
        let lines = drawn(90, 9, |buffer, area| chart.draw(buffer, area, THEME));
        assert!(lines.iter().any(|line| line.contains("━╋━")), "{lines:?}");
        assert!(lines.iter().any(|line| line.contains("1200 to 1900, average 1500")), "{lines:?}");
    }

    #[test]
    fn any_size_will_do() {
        let run = run_view();
        let bands = [("kiln", band())];
        for (width, height) in AWKWARD {
            let chart = WindowChart {
                trace: Some(&run.trace),
                line: None,
                window: (1_800.0, 2_400.0),
                range: (500.0, 2_800.0),
                bands: &bands,
            };
            drawn(width, height, |buffer, area| chart.draw(buffer, area, THEME));
        }
    }
}
