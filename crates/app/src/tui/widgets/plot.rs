//! A plot of a trace's channels over time in braille dots, two by four to a cell, with guides behind.
//!
//! ```text
//!  2145 ╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌╌ target
//!       ⠤⠒⠒⠤⠤⠒⠉⠉⠒⠤⠤⠒
//!  1995
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Style};
use yard_step_core::{Bucket, Channel, Trace};

use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::{write, write_right};

/// Width of the labels at the left.
pub(crate) const GUTTER: u16 = 7;

/// A value to hold the series against.
pub(crate) struct Guide<'a> {
    pub value: f64,
    pub label: &'a str,
    pub style: Style,
}

/// One channel of a trace.
#[derive(Clone, Copy)]
pub(crate) struct Series<'a> {
    pub trace: &'a Trace,
    pub channel: Channel,
    pub style: Style,
    /// Whether to show how far it strays from its mean, too.
    pub envelope: bool,
}

/// One or more channels on common axes.
pub(crate) struct Plot<'a> {
    pub series: &'a [Series<'a>],
    pub guides: &'a [Guide<'a>],
    /// Lowest and highest value shown.
    pub range: (f64, f64),
    /// Time at the left and at the right edge, in seconds.
    pub window: (f64, f64),
}

/// The space of the dots, beside the labels.
pub(crate) fn field(area: Rect) -> Rect {
    let gutter = GUTTER.min(area.width);
    Rect { x: area.x + gutter, width: area.width - gutter, ..area }
}

impl Plot<'_> {
    pub(crate) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme) {
        let field = field(area);
        if area.height == 0 || self.range.1 <= self.range.0 {
            return;
        }
        self.draw_labels(buffer, area, theme);
        for guide in self.guides {
            self.draw_guide(buffer, area, field, guide);
        }
        for series in self.series {
            self.draw_series(buffer, field, theme, *series);
        }
        for guide in self.guides {
            self.draw_guide_label(buffer, area, field, guide);
        }
    }

    fn draw_labels(&self, buffer: &mut Buffer, area: Rect, theme: Theme) {
        let labels = Rect { width: GUTTER.min(area.width).saturating_sub(1), ..area };
        let dim = theme.style(Role::Dim);
        write_right(buffer, labels, area.y, &format!("{:.0}", self.range.1), dim);
        if area.height > 1 {
            write_right(buffer, labels, area.bottom() - 1, &format!("{:.0}", self.range.0), dim);
        }
    }

    fn draw_guide(&self, buffer: &mut Buffer, area: Rect, field: Rect, guide: &Guide<'_>) {
        let Some(dot) = self.dot(guide.value, area.height) else { return };
        let y = area.y + dot / 4;
        for x in field.left()..field.right() {
            write(buffer, field, (x, y), "╌", guide.style);
        }
    }

    /// Over the series: a label that cannot be read is none.
    fn draw_guide_label(&self, buffer: &mut Buffer, area: Rect, field: Rect, guide: &Guide<'_>) {
        let Some(dot) = self.dot(guide.value, area.height) else { return };
        let y = area.y + dot / 4;
        let labels = Rect { width: GUTTER.min(area.width).saturating_sub(1), ..area };
        if y > area.y && y + 1 < area.bottom() {
            write_right(buffer, labels, y, &format!("{:.0}", guide.value), guide.style);
        }
        if !guide.label.is_empty() {
            write_right(buffer, field, y, &format!(" {}", guide.label), guide.style);
        }
    }

    /// Row of dots, from the top, of a value inside the range.
    fn dot(&self, value: f64, height: u16) -> Option<u16> {
        let (low, high) = self.range;
        let share = (high - value) / (high - low);
        let dots = f64::from(height) * 4.0;
        (0.0..=1.0).contains(&share).then(|| (share * dots).min(dots - 1.0) as u16)
    }

    /// Draws how far a series strays in each column, and its mean as a line over that.
    fn draw_series(&self, buffer: &mut Buffer, field: Rect, theme: Theme, series: Series<'_>) {
        let columns = usize::from(field.width) * 2;
        let (from, to) = self.window;
        let width = (to - from) / columns.max(1) as f64;
        let over = |column: usize| {
            let start = from + column as f64 * width;
            series.trace.over(series.channel, start, start + width)
        };
        let buckets: Vec<Option<Bucket>> = (0..columns).map(over).collect();
        if series.envelope {
            let straying = buckets.iter().map(|bucket| bucket.map(|b| (b.highest, b.lowest)));
            self.draw_stretches(buffer, field, theme.style(Role::Envelope), straying);
        }
        let means = buckets.iter().map(|bucket| bucket.map(|b| (b.mean(), b.mean())));
        self.draw_stretches(buffer, field, series.style, means);
    }

    /// Draws an upright stretch in every column of dots, from its higher to its lower value.
    fn draw_stretches(
        &self,
        buffer: &mut Buffer,
        field: Rect,
        style: Style,
        stretches: impl Iterator<Item = Option<(f32, f32)>>,
    ) {
        let (low, high) = self.range;
        let at = |value: f32| self.dot(f64::from(value).clamp(low, high), field.height);
        let mut before: Option<(u16, u16)> = None;
        for (column, stretch) in stretches.enumerate() {
            let place = stretch.and_then(|(top, bottom)| at(top).zip(at(bottom)));
            let Some((mut top, mut bottom)) = place else {
                before = None;
                continue;
            };
            let drawn = (top, bottom);
            // Neighbouring columns are joined, so that a step is a line and not two islands.
            if let Some((old_top, old_bottom)) = before {
                if bottom < old_top {
                    bottom = old_top - 1;
                } else if top > old_bottom {
                    top = old_bottom + 1;
                }
            }
            for dot in top..=bottom {
                set_dot(buffer, field, column as u16, dot, style);
            }
            before = Some(drawn);
        }
    }
}

/// Sets one dot of a braille cell. Bits as in the Unicode block "Braille Patterns".
fn set_dot(buffer: &mut Buffer, field: Rect, column: u16, dot: u16, style: Style) {
    const BITS: [[u32; 4]; 2] = [[0x01, 0x02, 0x04, 0x40], [0x08, 0x10, 0x20, 0x80]];
    let (x, y) = (field.x + column / 2, field.y + dot / 4);
    if x >= field.right() || y >= field.bottom() {
        return;
    }
    let Some(cell) = buffer.cell_mut((x, y)) else { return };
    let present = cell.symbol().chars().next().map_or(0, u32::from);
    // A cell has one colour: dots of another series give way, or they would take on this one's.
    let ours = cell.fg == style.fg.unwrap_or(Color::Reset) && cell.modifier == style.add_modifier;
    let present = if ours && (0x2800..0x2900).contains(&present) { present } else { 0x2800 };
    let bit = BITS[usize::from(column % 2)][usize::from(dot % 4)];
    if let Some(symbol) = char::from_u32(present | bit) {
        cell.modifier = style.add_modifier;
        cell.set_char(symbol).set_style(style);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use yard_step_core::{Limiter, Mhz, Sample, Seconds};

    const THEME: Theme = Theme::new(Depth::None);

    /// A sample a second, standing for the second before it.
    fn trace(values: &[f64]) -> Trace {
        let mut trace = Trace::new();
        for (second, value) in values.iter().enumerate() {
            push(&mut trace, second as f64 + 1.0, *value);
        }
        trace
    }

    fn push(trace: &mut Trace, at: f64, value: f64) {
        let clock = Some(Mhz(value));
        let sample = Sample { at: Seconds(at), core_clock: clock, ..Sample::default() };
        trace.push(&sample, Limiter::Unknown);
    }

    fn series(trace: &Trace, style: Style) -> Series<'_> {
        Series { trace, channel: Channel::CoreClock, style, envelope: true }
    }

    fn plot(trace: &Trace, width: u16, height: u16) -> Vec<String> {
        let series = [series(trace, Style::new())];
        let guides = [Guide { value: 100.0, label: "target", style: Style::new() }];
        let window = (0.0, trace.seconds());
        let plot = Plot { series: &series, guides: &guides, range: (0.0, 100.0), window };
        drawn(width, height, |buffer, area| plot.draw(buffer, area, THEME))
    }

    #[test]
    fn a_flat_line_lies_at_its_height_below_the_guide() {
        let lines = plot(&trace(&[50.0; 20]), 17, 4);
        assert_eq!(lines[0], "   100 ╌╌╌ target");
        assert_eq!(lines[2], "       ⠉⠉⠉⠉⠉⠉⠉⠉⠉⠉");
        assert_eq!(lines[3], "     0");
    }

    #[test]
    fn a_spike_of_one_sample_reaches_its_depth() {
        let mut values = vec![100.0; 200];
        values[77] = 0.0;
        let lines = plot(&trace(&values), 17, 4);
        assert!(lines[3].chars().any(|c| ('\u{2801}'..='\u{28ff}').contains(&c)), "{lines:?}");
    }

    #[test]
    fn the_mean_is_a_line_and_what_strays_from_it_lies_around_it() {
        let values: Vec<f64> =
            (0..400).map(|second| if second % 2 == 0 { 0.0 } else { 100.0 }).collect();
        let trace = trace(&values);
        let theme = Theme::new(Depth::True);
        let area = Rect::new(0, 0, 17, 4);
        let mut buffer = Buffer::empty(area);
        let style = theme.style(Role::Clock);
        let series = [series(&trace, style)];
        let window = (0.0, 400.0);
        Plot { series: &series, guides: &[], range: (0.0, 100.0), window }.draw(
            &mut buffer,
            area,
            theme,
        );
        let colours: Vec<Color> = (0..4).map(|y| buffer[(10, y)].fg).collect();
        let envelope = theme.style(Role::Envelope).fg.unwrap();
        assert_eq!(colours, [envelope, envelope, style.fg.unwrap(), envelope]);
        assert_eq!(buffer[(10, 2)].symbol(), "⠉", "a thin line, not a block");
        assert_eq!(buffer[(10, 0)].symbol(), "⣿");
    }

    #[test]
    fn a_gap_stays_empty() {
        let mut trace = trace(&[50.0; 4]);
        push(&mut trace, 17.0, 50.0);
        push(&mut trace, 22.0, 50.0);
        let lines = plot(&trace, 17, 4);
        assert_eq!(lines[2], "       ⠉⠉     ⠉ ⠈");
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD {
            plot(&trace(&[1.0, 99.0, 40.0]), width, height);
            plot(&trace(&[]), width, height);
        }
    }
}
