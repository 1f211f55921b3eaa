//! The frontier: all settings that were run, work over cost, those that nothing beats joined by a
//! staircase, the others dimmed, what failed marked by its verdict.
//!
//! ```text
//!   +4 │              ┌────●
//!   +2 │      ┌──◉────┘ •
//!   ±0 │  ●───┘  •  ▢ ▲
//!      └──┬──────┬──────┬──
//!        150    200    250 W
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::{Frontier, FrontierPoint};

use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::widgets::axes::Axes;
use crate::tui::widgets::write;

/// Width of the labels at the left.
const GUTTER: u16 = 9;
/// Rows of the axis and the legend.
const BELOW: u16 = 3;

/// What is drawn.
pub(crate) struct FrontierChart<'a> {
    pub frontier: &'a Frontier,
    /// Place of the picked point.
    pub picked: Option<usize>,
}

struct Places {
    field: Rect,
    cost: (f64, f64),
    work: (f64, f64),
    /// Score of stock, which work is told against; none where it was never run.
    stock: Option<f64>,
}

impl Places {
    fn x(&self, cost: f64) -> u16 {
        let (low, high) = self.cost;
        let share = ((cost - low) / (high - low)).clamp(0.0, 1.0);
        self.field.x + (share * f64::from(self.field.width - 1)).round() as u16
    }

    fn y(&self, score: f64) -> u16 {
        let (low, high) = self.work;
        let share = ((score - low) / (high - low)).clamp(0.0, 1.0);
        self.field.bottom() - 1 - (share * f64::from(self.field.height - 1)).round() as u16
    }

    fn at(&self, point: &FrontierPoint) -> (u16, u16) {
        (self.x(point.cost), self.y(point.score))
    }
}

impl FrontierChart<'_> {
    fn places(&self, area: Rect) -> Option<Places> {
        let field = Rect {
            x: area.x + GUTTER.min(area.width),
            width: area.width.checked_sub(GUTTER)?,
            height: area.height.checked_sub(BELOW)?,
            ..area
        };
        if field.width < 4 || field.height < 3 || self.frontier.points.is_empty() {
            return None;
        }
        let range = |of: fn(&FrontierPoint) -> f64, least: f64| {
            let values = || self.frontier.points.iter().map(of);
            let (low, high) = (
                values().fold(f64::INFINITY, f64::min),
                values().fold(f64::NEG_INFINITY, f64::max),
            );
            let room = ((high - low) * 0.05).max(least);
            (low - room, high + room)
        };
        Some(Places {
            field,
            cost: range(|point| point.cost, 0.5),
            work: range(|point| point.score, 1.0),
            stock: self.frontier.stock_score(),
        })
    }

    /// Place of the point nearest to a place of the screen, if one lies there.
    pub(crate) fn point_at(&self, area: Rect, (x, y): (u16, u16)) -> Option<usize> {
        let places = self.places(area)?;
        let away = |point: &FrontierPoint| {
            let (px, py) = places.at(point);
            // A cell is twice as high as it is wide.
            u32::from(px.abs_diff(x)) + 2 * u32::from(py.abs_diff(y))
        };
        let points = self.frontier.points.iter().enumerate();
        let nearest = points.min_by_key(|(_, point)| (away(point), !point.is_on_frontier))?;
        (away(nearest.1) <= 4).then_some(nearest.0)
    }

    pub(crate) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme) {
        let Some(places) = self.places(area) else { return };
        self.draw_axes(buffer, area, &places, theme);
        self.draw_steps(buffer, &places, theme);
        let field = places.field;
        // What matters most is drawn last.
        let rank = |place: &usize| {
            let point = &self.frontier.points[*place];
            (point.is_on_frontier, point.is_stock, Some(*place) == self.frontier.knee)
        };
        let mut order: Vec<usize> = (0..self.frontier.points.len()).collect();
        order.sort_by_key(rank);
        for place in order {
            let point = &self.frontier.points[place];
            let at = places.at(point);
            let (symbol, style) = match point.failed {
                Some(verdict) => (glyph(verdict), theme.verdict(verdict)),
                None if Some(place) == self.frontier.knee => ("◉", theme.style(Role::Accent)),
                None if point.is_stock => ("▢", theme.style(Role::Title)),
                None if point.is_on_frontier && point.is_unproven() => {
                    ("○", theme.style(Role::Clock))
                }
                None if point.is_on_frontier => ("●", theme.style(Role::Clock)),
                None if point.is_dominated => ("•", theme.style(Role::Dim)),
                None => ("◦", theme.style(Role::Text)),
            };
            if point.is_on_frontier {
                // How far chance alone may have moved it.
                let (top, foot) =
                    (places.y(point.score + point.error), places.y(point.score - point.error));
                for y in (top..=foot).filter(|y| *y != at.1) {
                    write(buffer, field, (at.0, y), "┆", theme.style(Role::Dim));
                }
            }
            write(buffer, field, at, symbol, style);
        }
        if let Some((place, point)) =
            self.picked.and_then(|at| Some((at, self.frontier.point(at)?)))
        {
            let (x, y) = places.at(point);
            let mark = theme.style(Role::Title).patch(theme.style(Role::Selected));
            if x > field.x {
                write(buffer, field, (x - 1, y), "▐", theme.style(Role::Title));
            }
            let symbol = match (point.failed, Some(place) == self.frontier.knee) {
                (Some(verdict), _) => glyph(verdict),
                (None, true) => "◉",
                (None, false) if point.is_stock => "▢",
                (None, false) => "●",
            };
            write(buffer, field, (x, y), symbol, mark);
            write(buffer, field, (x + 1, y), "▌", theme.style(Role::Title));
        }
        let legend =
            "● frontier  ○ not proven  ◉ knee  ▢ stock  ┆ error  ◦ as good  • dominated  ▲ failed";
        let line = Rect { y: area.bottom() - 1, height: 1, ..area };
        write(buffer, line, (field.x, line.y), legend, theme.style(Role::Dim));
    }

    /// The frontier as a staircase: from each point level to where the next one costs more.
    fn draw_steps(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let style = theme.style(Role::Target);
        let points: Vec<(u16, u16)> =
            self.frontier.frontier.iter().map(|at| places.at(&self.frontier.points[*at])).collect();
        for pair in points.windows(2) {
            let ((from, y), (to, top)) = (pair[0], pair[1]);
            for x in from + 1..to {
                write(buffer, places.field, (x, y), "─", style);
            }
            if top < y {
                write(buffer, places.field, (to, y), "┘", style);
                for between in top + 1..y {
                    write(buffer, places.field, (to, between), "│", style);
                }
            }
        }
    }

    fn draw_axes(&self, buffer: &mut Buffer, area: Rect, places: &Places, theme: Theme) {
        let field = places.field;
        let mut axes = Axes::draw(buffer, (area, field), theme);
        // Work in percent of stock, where stock was run; else as it is.
        let base = places.stock.unwrap_or(1.0);
        let (low, high) = match places.stock {
            Some(stock) => {
                ((places.work.0 / stock - 1.0) * 100.0, (places.work.1 / stock - 1.0) * 100.0)
            }
            None => places.work,
        };
        let step = step((low, high), field.height / 3);
        let mut value = (low / step).ceil() * step;
        while value <= high {
            let score = places.stock.map_or(value, |_| base * (1.0 + value / 100.0));
            let y = places.y(score);
            let text = match places.stock {
                Some(_) if value.abs() < step / 2.0 => "stock".to_owned(),
                Some(_) => format!("{value:+.*} %", digits(step)),
                None => format!("{value:.*}", digits(step)),
            };
            axes.up(y, &text);
            value += step;
        }
        let step = self::step(places.cost, field.width / 8);
        let mut cost = (places.cost.0 / step).ceil() * step;
        while cost <= places.cost.1 {
            axes.along(places.x(cost), &format!("{cost:.*}", digits(step)));
            cost += step;
        }
        axes.unit(self.frontier.cost.unit());
    }
}

/// Distance of two labels of an axis that has room for `most`.
fn step((low, high): (f64, f64), most: u16) -> f64 {
    let wanted = (high - low).max(1e-6) / f64::from(most.max(1));
    let power = 10.0_f64.powf(wanted.log10().floor());
    let nice = [1.0, 2.0, 5.0, 10.0].into_iter().map(|by| by * power);
    nice.into_iter().find(|step| *step >= wanted).unwrap_or(10.0 * power)
}

/// Digits after the point that tell two labels apart.
fn digits(step: f64) -> usize {
    if step >= 1.0 { 0 } else { (-step.log10().floor()) as usize }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{card, weighed};
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;
    use yard_step_core::{Cost, Weighed};

    const THEME: Theme = Theme::new(Depth::None);

    fn frontier() -> Frontier {
        let runs: Vec<Weighed> =
            weighed().into_iter().filter(|run| run.load == "lantern").collect();
        Frontier::of(&runs, &card(), Cost::Watts, None)
    }

    #[test]
    fn every_point_lies_at_its_work_and_cost_and_can_be_picked_there() {
        let frontier = frontier();
        let chart = FrontierChart { frontier: &frontier, picked: None };
        let area = Rect::new(0, 0, 80, 24);
        let lines = drawn(80, 24, |buffer, area| chart.draw(buffer, area, THEME));
        let text = lines[..21].join("\n");
        for (symbol, count) in [("◉", 1), ("▢", 1), ("●", 2), ("▲", 1), ("◦", 1)] {
            assert_eq!(text.matches(symbol).count(), count, "{symbol}: {text}");
        }
        assert!(text.contains("stock") && text.contains('┘'), "{text}");
        let places = chart.places(area).unwrap();
        for (place, point) in frontier.points.iter().enumerate() {
            assert_eq!(chart.point_at(area, places.at(point)), Some(place));
        }
        assert_eq!(chart.point_at(area, (1, 1)), None);
    }

    #[rstest]
    #[case((0.0, 10.0), 5, 2.0, 0)]
    #[case((-1.3, 2.1), 7, 0.5, 1)]
    #[case((150.0, 250.0), 10, 10.0, 0)]
    fn labels_are_round_numbers(
        #[case] range: (f64, f64),
        #[case] most: u16,
        #[case] expected: f64,
        #[case] after_the_point: usize,
    ) {
        let step = step(range, most);
        assert!((step - expected).abs() < 1e-9, "{step}");
        assert_eq!(digits(step), after_the_point);
    }

    #[test]
    fn any_size_will_do() {
        for frontier in [frontier(), Frontier::default()] {
            let chart = FrontierChart { frontier: &frontier, picked: Some(1) };
            for (width, height) in AWKWARD {
                drawn(width, height, |buffer, area| chart.draw(buffer, area, THEME));
            }
        }
    }
}
