//! The map of core against memory: every trial where it lies, with the frontier up to which both
//! are believed to hold together.
//!
//! ```text
//! +180 │▲
//!      │● ▲
//!  +90 │╌╌╌╌╮   ▚
//!      │  ● ╰╌╮ ★
//!   ±0 │●─────┴────●─────
//!       ±0   +60  +120     memory
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::{Map, MhzOffset, Pair};

use crate::tui::theme::{Depth, Role, Theme, glyph};
use crate::tui::views::climb::staircase::short;
use crate::tui::widgets::{row, write, write_right};

const GUTTER: u16 = 7;

/// What the map shows.
pub(crate) struct Chart<'a> {
    pub map: &'a Map,
    /// Number of the trial looked at.
    pub selected: Option<u32>,
}

struct Places {
    field: Rect,
    core: (f64, f64),
    memory: (f64, f64),
}

impl Places {
    fn x(&self, value: MhzOffset) -> u16 {
        let share = (f64::from(value.0) - self.memory.0) / (self.memory.1 - self.memory.0);
        let columns = f64::from(self.field.width.saturating_sub(2));
        self.field.x + (share.clamp(0.0, 1.0) * columns).round() as u16
    }

    fn y(&self, value: MhzOffset) -> u16 {
        let share = (self.core.1 - f64::from(value.0)) / (self.core.1 - self.core.0);
        let rows = f64::from(self.field.height - 1);
        self.field.y + (share.clamp(0.0, 1.0) * rows).round() as u16
    }
}

impl Chart<'_> {
    fn places(&self, area: Rect) -> Option<Places> {
        let gutter = GUTTER.min(area.width);
        let field = Rect {
            x: area.x + gutter,
            width: area.width.checked_sub(gutter + 2)?,
            height: area.height.checked_sub(2)?,
            ..area
        };
        if field.width < 4 || field.height < 2 {
            return None;
        }
        let Map { trials, frontier, next, kept, .. } = self.map;
        let all = || {
            let tried = trials.iter().map(|trial| trial.place);
            tried.chain(frontier.iter().copied()).chain(*next).chain([*kept])
        };
        let range = |of: fn(Pair) -> MhzOffset| {
            let values = || all().map(|pair| f64::from(of(pair).0));
            (values().fold(0.0, f64::min), values().fold(60.0, f64::max) * 1.08)
        };
        Some(Places { field, core: range(|pair| pair.core), memory: range(|pair| pair.memory) })
    }

    /// The newest trial drawn at a place, for picking with the mouse.
    pub(crate) fn trial_at(&self, area: Rect, (x, y): (u16, u16)) -> Option<u32> {
        let places = self.places(area)?;
        let near = |trial: &&yard_step_core::ChartTrial| {
            places.x(trial.place.memory).abs_diff(x) <= 1 && places.y(trial.place.core) == y
        };
        self.map.trials.iter().rev().find(near).map(|trial| trial.number)
    }

    pub(crate) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme) {
        let Some(places) = self.places(area) else { return };
        let dim = theme.style(Role::Dim);
        let faint = theme.style(Role::Faint);
        self.draw_frontier(buffer, &places, theme);
        for y in places.field.y..places.field.bottom() {
            write(buffer, area, (places.field.x.saturating_sub(1), y), "│", faint);
        }
        let stock = places.y(MhzOffset::STOCK);
        let ground = "─".repeat(usize::from(places.field.width));
        write(buffer, places.field, (places.field.x, stock), &ground, faint);
        let labels = Rect { width: GUTTER.min(area.width).saturating_sub(2), ..area };
        let mut taken = Vec::new();
        let Map { next, kept, best, .. } = self.map;
        let marked: Vec<Pair> = [Some(*kept), *best, *next, Some(Pair::default())]
            .into_iter()
            .flatten()
            .chain([Pair {
                core: MhzOffset(places.core.1 as i32),
                memory: MhzOffset(places.memory.1 as i32),
            }])
            .collect();
        for pair in &marked {
            let y = places.y(pair.core);
            if !taken.contains(&y) {
                taken.push(y);
                write_right(buffer, labels, y, &short(pair.core.0), dim);
            }
        }
        self.draw_memory_axis(buffer, area, &places, &marked, theme);
        for trial in &self.map.trials {
            let at = (places.x(trial.place.memory), places.y(trial.place.core));
            let mut style = match trial.counts {
                true => theme.verdict(trial.verdict),
                false => dim,
            };
            if self.selected == Some(trial.number) {
                style = style.patch(theme.style(Role::Selected));
            }
            write(buffer, places.field, at, glyph(trial.verdict), style);
        }
        if let Some(next) = next {
            let at = (places.x(next.memory), places.y(next.core));
            write(buffer, places.field, at, "▹", theme.style(Role::Accent));
        }
        if *kept != Pair::default() {
            let at = (places.x(kept.memory), places.y(kept.core));
            write(buffer, places.field, at, "★", theme.style(Role::Good));
        }
    }

    fn draw_memory_axis(
        &self,
        buffer: &mut Buffer,
        area: Rect,
        places: &Places,
        marked: &[Pair],
        theme: Theme,
    ) {
        let dim = theme.style(Role::Dim);
        let axis = row(area, area.height.saturating_sub(2));
        let mut free_from = 0;
        let mut by_place: Vec<(u16, String)> =
            marked.iter().map(|pair| (places.x(pair.memory), short(pair.memory.0))).collect();
        by_place.sort();
        for (x, label) in by_place {
            let from = x.saturating_sub(label.chars().count() as u16 / 2);
            if from >= free_from {
                write(buffer, axis, (from, axis.y), &label, dim);
                free_from = from + label.chars().count() as u16 + 1;
            }
        }
        let legend = row(area, area.height.saturating_sub(1));
        let text = "★ kept  ▹ next  ┈ believed to hold  memory →";
        write(buffer, legend, (area.x, legend.y), text, dim);
    }

    /// The frontier, and what lies within it.
    fn draw_frontier(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let frontier = &self.map.frontier;
        let style = theme.style(Role::Target);
        let mut last: Option<u16> = None;
        for x in places.field.x..places.field.right() {
            let share = f64::from(x - places.field.x)
                / f64::from(places.field.width.saturating_sub(2).max(1));
            let memory = places.memory.0 + share * (places.memory.1 - places.memory.0);
            let Some(core) = between(frontier, memory) else { break };
            let y = places.y(MhzOffset(core.round() as i32));
            if theme.depth() == Depth::True {
                let within = Rect {
                    x,
                    y,
                    width: 1,
                    height: places.y(MhzOffset::STOCK).saturating_sub(y) + 1,
                };
                buffer.set_style(within.intersection(buffer.area), theme.style(Role::Band));
            }
            let from = last.unwrap_or(y);
            for between in from.min(y)..=from.max(y) {
                write(buffer, places.field, (x, between), "┈", style);
            }
            last = Some(y);
        }
    }
}

/// Core clock of the frontier at a memory clock.
fn between(frontier: &[Pair], memory: f64) -> Option<f64> {
    let at = |pair: &Pair| (f64::from(pair.memory.0), f64::from(pair.core.0));
    frontier.windows(2).find_map(|pair| {
        let (low, high) = (at(&pair[0]), at(&pair[1]));
        let inside = low.0 <= memory && memory <= high.0;
        let share = (memory - low.0) / (high.0 - low.0).max(1e-9);
        inside.then(|| low.1 + (high.1 - low.1) * share.clamp(0.0, 1.0))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::map;
    use crate::tui::widgets::testing::{AWKWARD, drawn};

    const THEME: Theme = Theme::new(Depth::None);

    #[test]
    fn every_trial_lies_where_it_was_tried_and_the_frontier_bounds_what_holds() {
        let map = map();
        let chart = Chart { map: &map, selected: None };
        let area = Rect::new(0, 0, 50, 14);
        let lines = drawn(50, 14, |buffer, area| chart.draw(buffer, area, THEME));
        let text = lines.join("\n");
        assert!(text.contains('▲') && text.contains('★') && text.contains('┈'), "{text}");
        assert!(lines[12].contains("±0") && lines[12].contains("+60"), "{text}");
        let row = lines.iter().position(|line| line.contains('▲')).unwrap();
        let column = lines[row].chars().position(|c| c == '▲').unwrap();
        assert_eq!(chart.trial_at(area, (column as u16, row as u16)), Some(3));
        assert_eq!(chart.trial_at(area, (49, 0)), None);
    }

    #[test]
    fn any_size_will_do() {
        for map in [map(), Map::default()] {
            let chart = Chart { map: &map, selected: Some(2) };
            for (width, height) in AWKWARD {
                drawn(width, height, |buffer, area| chart.draw(buffer, area, THEME));
            }
        }
    }
}
