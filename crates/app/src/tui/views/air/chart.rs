//! The fan over the core's temperature as a slope that is filled to its speed, and below it, on the same axis, where the
//! card really ran under each load.
//!
//! ```text
//!   100 │                      ▄▄████
//!    60 │              ▂▄▆█████████▼█     ▼ a point, ┊ where it is foretold to settle
//!    30 │  ▃▃▃▃▃▅▆███████████████┊███
//!       └──┬───────┬───────┬───────┬──
//!          30      50      70      90 °C
//!  medley            ━━━━━━━━    60 to 78 °C
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::{Celsius, FanCurve, Percent};

use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::axes::Axes;
use crate::tui::widgets::{EIGHTHS, bands, write};

/// Coolest and hottest place of the axis, °C.
pub(super) const AXIS: (f64, f64) = (20.0, 100.0);

/// Where the card ran under a load.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Ran {
    pub load: String,
    pub cool: Celsius,
    pub hot: Celsius,
    pub figures: String,
}

/// What is drawn.
pub(crate) struct FanChart<'a> {
    /// The curve; none where the fan is driven in another way.
    pub curve: Option<FanCurve>,
    /// The one speed, where it is fixed.
    pub fixed: Option<Percent>,
    /// The temperature that the fan keeps to, where it does.
    pub target: Option<Celsius>,
    /// The point that is picked.
    pub point: usize,
    /// The speed that the card is at now, and its temperature.
    pub now: Option<(Celsius, Percent)>,
    /// Where it is foretold to settle.
    pub settles: Option<Celsius>,
    /// Temperature at which the load is stopped.
    pub ceiling: Celsius,
    pub ran: &'a [Ran],
}

struct Places {
    field: Rect,
}

impl Places {
    fn x(&self, celsius: f64) -> u16 {
        let (low, high) = AXIS;
        let share = ((celsius - low) / (high - low)).clamp(0.0, 1.0);
        self.field.x + (share * f64::from(self.field.width - 1)).round() as u16
    }

    fn celsius(&self, x: u16) -> f64 {
        let (low, high) = AXIS;
        let share = f64::from(x - self.field.x) / f64::from(self.field.width.max(2) - 1);
        low + share * (high - low)
    }

    /// Height of a speed above the foot of the field, in eighths of a row.
    fn eighths(&self, percent: f64) -> u16 {
        let share = (percent / 100.0).clamp(0.0, 1.0);
        (share * f64::from(self.field.height) * 8.0).round() as u16
    }

    /// Row in which a speed ends.
    fn y(&self, percent: f64) -> u16 {
        self.field.bottom() - 1 - self.eighths(percent).saturating_sub(1) / 8
    }

    fn percent(&self, y: u16) -> f64 {
        let up = f64::from(self.field.bottom() - y) - 0.5;
        up / f64::from(self.field.height) * 100.0
    }
}

impl FanChart<'_> {
    fn places(&self, area: Rect) -> Option<Places> {
        bands::field(area, self.ran.len()).map(|field| Places { field })
    }

    /// Temperature and speed at a place of the screen, °C and %; none outside the chart.
    pub(crate) fn at(&self, area: Rect, (x, y): (u16, u16)) -> Option<(f64, f64)> {
        let places = self.places(area)?;
        places.field.contains((x, y).into()).then(|| (places.celsius(x), places.percent(y)))
    }

    pub(crate) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme) {
        let Some(places) = self.places(area) else { return };
        self.draw_axes(buffer, area, &places, theme);
        self.draw_slope(buffer, &places, theme);
        self.draw_upright(buffer, &places, theme);
        self.draw_points(buffer, &places, theme);
        self.draw_now(buffer, &places, theme);
        for (index, ran) in self.ran.iter().enumerate() {
            let columns = (places.x(ran.cool.value()), places.x(ran.hot.value()));
            let place = (area, places.field, index);
            bands::draw(buffer, place, theme, &ran.load, Some(columns), &ran.figures);
        }
    }

    fn draw_axes(&self, buffer: &mut Buffer, area: Rect, places: &Places, theme: Theme) {
        let field = places.field;
        let mut axes = Axes::draw(buffer, (area, field), theme);
        let step = if field.height >= 16 { 10 } else { 20 };
        for percent in (0..=100).step_by(step).skip(1) {
            axes.up(places.y(f64::from(percent)), &format!("{percent} %"));
        }
        for celsius in (20..=100).step_by(10) {
            axes.along(places.x(f64::from(celsius)), &celsius.to_string());
        }
        axes.unit("core °C");
    }

    fn speed(&self, celsius: f64) -> Option<f64> {
        match (self.curve, self.fixed) {
            (Some(curve), _) => Some(curve.speed_at(Celsius(celsius)).value()),
            (None, fixed) => fixed.map(Percent::value),
        }
    }

    fn draw_slope(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let field = places.field;
        for x in field.x..field.right() {
            let Some(speed) = self.speed(places.celsius(x)) else { continue };
            let eighths = places.eighths(speed);
            let top = eighths.saturating_sub(1) / 8;
            for up in 0..=top {
                let filled = usize::from(eighths.saturating_sub(up * 8).min(8));
                let role = if up == top { Role::Clock } else { Role::Envelope };
                let at = (x, field.bottom() - 1 - up);
                write(buffer, field, at, EIGHTHS[filled], theme.style(role));
            }
        }
    }

    /// What is upright: the target of the fan, the foretold plateau, the ceiling.
    fn draw_upright(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let field = places.field;
        let lines = [
            (self.target, "┃", Role::Clock, "target"),
            (self.settles, "┊", Role::Title, "settles"),
            (Some(self.ceiling), "┊", Role::Warn, "stop"),
        ];
        for (row, (at, symbol, role, name)) in lines.into_iter().enumerate() {
            let Some(at) = at.filter(|at| (AXIS.0..=AXIS.1).contains(&at.value())) else {
                continue;
            };
            let x = places.x(at.value());
            for y in field.y..field.bottom() {
                write(buffer, field, (x, y), symbol, theme.style(role));
            }
            let text = format!(" {name} {at} ");
            let width = text.chars().count() as u16;
            let left = x.saturating_sub(width).max(field.x);
            write(buffer, field, (left, field.y + row as u16), &text, theme.style(role));
        }
    }

    /// The points sit on the slope; the picked one says where.
    fn draw_points(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let Some(curve) = self.curve else { return };
        for (at, (celsius, percent)) in curve.points().iter().enumerate() {
            let (x, y) = (places.x(*celsius), places.y(*percent));
            let above = y.saturating_sub(1).max(places.field.y);
            let role = if at == self.point { Role::Accent } else { Role::Dim };
            write(buffer, places.field, (x, above), "▼", theme.style(role));
            if at != self.point {
                continue;
            }
            let text = format!(" {celsius:.0} °C → {percent:.0} % ");
            let width = text.chars().count() as u16;
            let left = x.saturating_sub(width / 2).max(places.field.x);
            let left = left.min(places.field.right().saturating_sub(width));
            let style = theme.style(Role::Title).patch(theme.style(Role::Selected));
            let line = above.saturating_sub(1).max(places.field.y);
            write(buffer, places.field, (left, line), &text, style);
        }
    }

    fn draw_now(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let Some((celsius, percent)) = self.now else { return };
        let (x, y) = (places.x(celsius.value()), places.y(percent.value()));
        let style = theme.style(Role::Bar).patch(theme.style(Role::Accent));
        write(buffer, places.field, (x, y), "╋", style);
        let text = format!(" now {percent} at {celsius} ");
        let width = text.chars().count() as u16;
        let left = (x + 2).min(places.field.right().saturating_sub(width)).max(places.field.x);
        let below = (y + 1).min(places.field.bottom() - 1);
        write(buffer, places.field, (left, below), &text, style);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};

    const THEME: Theme = Theme::new(Depth::None);

    fn ran() -> Vec<Ran> {
        vec![Ran {
            load: "medley".into(),
            cool: Celsius(60.0),
            hot: Celsius(70.0),
            figures: "60 to 70 °C".into(),
        }]
    }

    fn chart(ran: &[Ran]) -> FanChart<'_> {
        FanChart {
            curve: Some(FanCurve::new(&[(40.0, 30.0), (80.0, 100.0)]).unwrap()),
            fixed: None,
            target: None,
            point: 1,
            now: Some((Celsius(60.0), Percent(65.0))),
            settles: Some(Celsius(66.0)),
            ceiling: Celsius(93.0),
            ran,
        }
    }

    fn shown(width: u16, height: u16) -> Vec<String> {
        let ran = ran();
        drawn(width, height, |buffer, area| chart(&ran).draw(buffer, area, THEME))
    }

    #[test]
    fn the_slope_rises_to_the_speed_of_each_temperature() {
        let lines = shown(91, 25);
        let filled = |column: usize| {
            lines.iter().take(22).filter(|line| line.chars().nth(column) == Some('█')).count()
        };
        assert!(filled(20) < filled(50) && filled(50) < filled(66), "{lines:#?}");
        let text = lines.join("\n");
        for part in ["80 °C → 100 %", "now 65 % at 60 °C", "settles 66 °C", "stop 93 °C"] {
            assert!(text.contains(part), "{part}: {text}");
        }
        assert!(lines[24].contains("medley") && lines[24].contains("60 to 70 °C"), "{lines:#?}");
        assert!(lines[23].contains("20") && lines[23].contains("100"), "{}", lines[23]);
    }

    #[test]
    fn a_place_on_the_screen_is_a_temperature_and_a_speed() {
        let (ran, area) = (ran(), Rect::new(0, 0, 91, 25));
        let chart = chart(&ran);
        let (celsius, percent) = chart.at(area, (10, 21)).unwrap();
        assert!((celsius - 20.0).abs() < 0.1 && percent < 5.0, "{celsius} {percent}");
        let (celsius, percent) = chart.at(area, (90, 0)).unwrap();
        assert!((celsius - 100.0).abs() < 0.1 && percent > 95.0);
        assert_eq!(chart.at(area, (5, 5)), None);
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD {
            shown(width, height);
        }
    }
}
