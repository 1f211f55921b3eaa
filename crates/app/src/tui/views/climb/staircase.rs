//! The staircase: trial after trial, each at the value it tried, marked by its verdict, with the
//! band in which the edge is believed to lie. A walk down in voltage is one that leads below stock.
//!
//! ```text
//!  +180          ┌▲┐
//!  +120      ┌●──┘ └──┐░░ edge ░░
//!   +60  ┌●──┘        └▹
//!    ±0 ●┘
//!        1 2  3   4
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::{Descent, MhzOffset, Stairs, Verdict};

use crate::tui::theme::{Depth, Role, Theme, glyph};
use crate::tui::widgets::{write, write_right};

const GUTTER: u16 = 7;
/// Rows below which the staircase shows only what is near the edge.
const CROWDED: u16 = 9;
/// How far below the edge that reaches, in MHz.
const NEAR: f64 = 60.0;

/// A trial on the staircase.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Step {
    pub number: u32,
    pub verdict: Verdict,
    /// Whether the climb learns from it.
    pub counts: bool,
    /// The value it tried: MHz or mV from stock.
    pub value: i32,
}

/// What the staircase shows.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Staircase {
    pub trials: Vec<Step>,
    /// The band in which the edge lies: as it is believed, else as it was seen.
    pub band: Option<(i32, i32)>,
    /// What would be kept now; none at stock.
    pub kept: Option<i32>,
    /// Value proposed next, or running.
    pub next: Option<i32>,
    /// Number of the trial looked at.
    pub selected: Option<u32>,
}

impl Staircase {
    /// The staircase of a clock.
    pub(crate) fn of_clock(
        stairs: &Stairs,
        next: Option<MhzOffset>,
        selected: Option<u32>,
    ) -> Self {
        let bracket = stairs.bracket;
        let seen = bracket.ceiling.map(|failure| (bracket.floor, failure.value));
        let band = stairs.band.or(seen);
        Self {
            trials: stairs
                .trials
                .iter()
                .map(|trial| Step {
                    number: trial.number,
                    verdict: trial.verdict,
                    counts: trial.counts,
                    value: stairs.value(trial).0,
                })
                .collect(),
            band: band.map(|(low, high)| (low.0.max(0), high.0)),
            kept: stairs.kept.map(|kept| kept.0).filter(|kept| *kept > 0),
            next: next.map(|next| next.0),
            selected,
        }
    }

    /// The staircase of a walk down in voltage: what is taken off leads down.
    pub(crate) fn of_descent(descent: &Descent, next: Option<i32>, selected: Option<u32>) -> Self {
        let seen = descent.failed.map(|failed| (descent.held, failed));
        Self {
            trials: descent
                .trials
                .iter()
                .map(|trial| Step {
                    number: trial.number,
                    verdict: trial.verdict,
                    counts: true,
                    value: -trial.depth,
                })
                .collect(),
            band: descent.band.or(seen).map(|(low, high)| (-high, -low)),
            kept: descent.kept.map(|kept| -kept).filter(|kept| *kept < 0),
            next: next.map(|next| -next),
            selected,
        }
    }
}

/// Where things lie.
struct Places {
    field: Rect,
    /// Width of a step.
    step: u16,
    /// Index of the first trial that is shown.
    first: usize,
    lowest: f64,
    highest: f64,
}

impl Staircase {
    fn places(&self, area: Rect) -> Option<Places> {
        let gutter = GUTTER.min(area.width);
        let field = Rect {
            x: area.x + gutter,
            width: area.width - gutter,
            height: area.height.checked_sub(1)?,
            ..area
        };
        let count = (self.trials.len() + usize::from(self.next.is_some())).max(1);
        let room = usize::from(field.width / 3);
        if room == 0 || field.height == 0 {
            return None;
        }
        let shown = count.min(room);
        let step = (usize::from(field.width) / shown).clamp(3, 8) as u16;
        let values = self.trials.iter().map(|trial| trial.value).chain(self.next);
        let ends = self.band.into_iter().flat_map(|(low, high)| [low, high]);
        let all: Vec<f64> = values.chain(ends).map(f64::from).collect();
        let mut lowest = all.iter().copied().fold(0.0, f64::min);
        let leads_down = lowest < 0.0 && self.band.is_some_and(|(low, _)| low < 0);
        let floor = f64::from(self.band.map_or(0, |band| band.0));
        if field.height < CROWDED && !leads_down {
            // In few rows the steps near the edge matter more than the way up to it: what lies far
            // below is drawn at the bottom.
            lowest = lowest.max(floor - NEAR);
        }
        let least = if leads_down { 0.0 } else { 60.0 };
        let highest = all.iter().copied().fold(least, f64::max);
        Some(Places { field, step, first: count - shown, lowest, highest })
    }

    /// Number of the trial drawn at a place, for picking with the mouse.
    pub(crate) fn trial_at(&self, area: Rect, x: u16) -> Option<u32> {
        let places = self.places(area)?;
        let column = x.checked_sub(places.field.x)? / places.step;
        self.trials.get(places.first + usize::from(column)).map(|trial| trial.number)
    }

    pub(crate) fn draw(&self, buffer: &mut Buffer, area: Rect, theme: Theme) {
        let Some(places) = self.places(area) else { return };
        self.draw_band(buffer, &places, theme);
        self.draw_labels(buffer, area, &places, theme);
        let (every, from) = self.numbered(&places);
        let mut before: Option<u16> = None;
        for (index, trial) in self.trials.iter().enumerate().skip(places.first) {
            let x = places.x(index);
            let y = places.y(trial.value);
            let line = theme.style(Role::Faint);
            rise(buffer, &places, (x, before, y), theme);
            for step in 1..places.step {
                write(buffer, places.field, (x + step, y), "─", line);
            }
            // What was the user's own says nothing of the edge.
            let mut style = match trial.counts {
                true => theme.verdict(trial.verdict),
                false => theme.style(Role::Dim),
            };
            if self.selected == Some(trial.number) {
                style = style.patch(theme.style(Role::Selected));
                write(buffer, places.field, (x + places.step / 2 - 1, y), " ", style);
                write(buffer, places.field, (x + places.step / 2 + 1, y), " ", style);
            }
            write(buffer, places.field, (x + places.step / 2, y), glyph(trial.verdict), style);
            if index.abs_diff(from).is_multiple_of(every) {
                self.draw_number(buffer, area, &places, (x, trial), theme);
            }
            before = Some(y);
        }
        if let Some(kept) = self.kept {
            // What would be kept now, at the right margin.
            let style = theme.style(Role::Good);
            // The word gives way to a step that is drawn there.
            let is_taken = self.next.or(self.trials.last().map(|trial| trial.value)) == Some(kept);
            let mark = if is_taken { "★" } else { "best ★" };
            write_right(buffer, places.field, places.y(kept), mark, style);
        }
        if let Some(value) = self.next {
            let (x, y) = (places.x(self.trials.len()), places.y(value));
            rise(buffer, &places, (x, before, y), theme);
            let style = theme.style(Role::Accent);
            write(buffer, places.field, (x + 1, y), "▹", style);
            let label = short(value);
            let width = label.chars().count() as u16;
            // Where the edge of the chart would cut it, it stands before its mark.
            let before = (x + 2 + width > places.field.right()).then(|| x.saturating_sub(width));
            write(buffer, places.field, (before.unwrap_or(x + 2), y), &label, style);
        }
    }

    /// Which numbers are drawn: every so many, counted from one trial's place. Where they are as wide as a step it is every
    /// second one, the selected trial's or the newest one's among them.
    fn numbered(&self, places: &Places) -> (usize, usize) {
        let widest = self.trials.last().map_or(0, |trial| trial.number.to_string().len());
        let every = if widest < usize::from(places.step) { 1 } else { 2 };
        let selected = self.trials.iter().position(|trial| self.selected == Some(trial.number));
        (every, selected.unwrap_or(self.trials.len().saturating_sub(1)))
    }

    fn draw_number(
        &self,
        buffer: &mut Buffer,
        area: Rect,
        places: &Places,
        (x, trial): (u16, &Step),
        theme: Theme,
    ) {
        let selected = self.selected == Some(trial.number);
        let style = theme.style(if selected { Role::Accent } else { Role::Dim });
        let number = trial.number.to_string();
        let middle = x + (places.step / 2).saturating_sub(number.len() as u16 / 2);
        write(buffer, area, (middle, area.bottom() - 1), &number, style);
    }

    fn draw_band(&self, buffer: &mut Buffer, places: &Places, theme: Theme) {
        let Some((low, high)) = self.band else { return };
        let (top, bottom) = (places.y(high), places.y(low));
        let band = Rect { y: top, height: bottom.saturating_sub(top) + 1, ..places.field };
        let band = band.intersection(buffer.area);
        buffer.set_style(band, theme.style(Role::Band));
        if theme.depth() != Depth::True {
            for position in band.positions() {
                buffer[position].set_symbol("░").set_style(theme.style(Role::Faint));
            }
        }
        if band.height > 2 {
            write_right(buffer, band, band.y, "edge ", theme.style(Role::Dim));
        }
    }

    /// Labels of the values that were tried, the newest first, as far as they do not collide.
    fn draw_labels(&self, buffer: &mut Buffer, area: Rect, places: &Places, theme: Theme) {
        let labels = Rect { width: GUTTER.min(area.width).saturating_sub(1), ..area };
        let mut taken: Vec<u16> = Vec::new();
        let edge = self.band.into_iter().flat_map(|(low, high)| [low, high]);
        let tried = self.trials.iter().rev().map(|trial| trial.value);
        let marked = self.next.into_iter().chain([0]).chain(self.kept).chain(edge);
        for value in marked.chain(tried) {
            let y = places.y(value);
            if !taken.contains(&y) {
                taken.push(y);
                write_right(buffer, labels, y, &short(value), theme.style(Role::Dim));
            }
        }
    }
}

/// The upright of a step, from the height before to its own.
fn rise(
    buffer: &mut Buffer,
    places: &Places,
    (x, before, y): (u16, Option<u16>, u16),
    theme: Theme,
) {
    let style = theme.style(Role::Faint);
    let Some(before) = before else {
        write(buffer, places.field, (x, y), "─", style);
        return;
    };
    for between in y.min(before)..=y.max(before) {
        let symbol = match (between == y, between == before) {
            (true, true) => "─",
            (true, false) if y < before => "┌",
            (true, false) => "└",
            (false, true) if y < before => "┘",
            (false, true) => "┐",
            (false, false) => "│",
        };
        write(buffer, places.field, (x, between), symbol, style);
    }
}

impl Places {
    fn x(&self, index: usize) -> u16 {
        self.field.x + (index - self.first) as u16 * self.step
    }

    fn y(&self, value: i32) -> u16 {
        let share = (self.highest - f64::from(value)) / (self.highest - self.lowest).max(1.0);
        let rows = f64::from(self.field.height - 1);
        self.field.y + (share.clamp(0.0, 1.0) * rows).round() as u16
    }
}

/// A value without its unit, for an axis.
pub(crate) fn short(value: i32) -> String {
    MhzOffset(value).to_string().trim_end_matches(" MHz").to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{chart_trial, stairs};
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;
    use yard_step_core::ChartTrial;

    const THEME: Theme = Theme::new(Depth::None);

    fn shown(trials: Vec<ChartTrial>, next: Option<i32>) -> Staircase {
        let stairs = Stairs { trials, ..stairs(60, Some(120)) };
        Staircase::of_clock(&stairs, next.map(MhzOffset), None)
    }

    fn trials() -> Vec<ChartTrial> {
        vec![
            chart_trial(1, 0, Verdict::Clean),
            chart_trial(2, 60, Verdict::Clean),
            chart_trial(3, 120, Verdict::LoadDied),
        ]
    }

    #[test]
    fn each_trial_is_a_step_marked_by_its_verdict() {
        let shown = shown(trials(), Some(75));
        let lines = drawn(39, 6, |buffer, area| shown.draw(buffer, area, THEME));
        assert_eq!(lines[0], "  +120 ░░░░░░░░░░░░░░░░┌───▲───┐░░edge");
        assert_eq!(lines[2], "   +75 ░░░░░░░░┌───●───┘░░░░░░░└▹+75░░░");
        assert_eq!(lines[4], "    ±0 ────●───┘");
        assert_eq!(lines[5], "           1       2       3");
    }

    #[test]
    fn what_is_believed_of_the_edge_goes_before_what_was_seen_of_it() {
        let mut stairs = Stairs { trials: trials(), ..stairs(60, Some(120)) };
        stairs.band = Some((MhzOffset(90), MhzOffset(120)));
        stairs.kept = Some(MhzOffset(60));
        let shown = Staircase::of_clock(&stairs, None, None);
        let lines = drawn(32, 10, |buffer, area| shown.draw(buffer, area, THEME));
        let banded = lines.iter().filter(|line| line.contains('░')).count();
        assert_eq!(banded, 3, "{lines:#?}");
        assert!(lines[4].starts_with("   +60") && lines[4].ends_with('★'), "{lines:#?}");
    }

    #[test]
    fn a_walk_down_in_voltage_leads_below_stock() {
        let step = |number, value, verdict| Step { number, verdict, counts: true, value };
        let shown = Staircase {
            trials: vec![step(4, -25, Verdict::Clean), step(5, -50, Verdict::Artifacts)],
            band: Some((-50, -25)),
            kept: Some(-15),
            next: Some(-30),
            selected: None,
        };
        let lines = drawn(39, 12, |buffer, area| shown.draw(buffer, area, THEME));
        let row = |sign: char| lines.iter().position(|line| line.contains(sign)).unwrap();
        assert!(row('★') < row('●') && row('●') < row('▦'), "{lines:#?}");
        assert!(lines[0].starts_with("    ±0") && lines[10].starts_with("   −50"), "{lines:#?}");
    }

    #[test]
    fn when_there_are_too_many_the_newest_are_shown() {
        let trials = (1..=40).map(|number| chart_trial(number, 60, Verdict::Clean)).collect();
        let shown = shown(trials, None);
        let lines = drawn(37, 5, |buffer, area| shown.draw(buffer, area, THEME));
        assert!(lines[4].contains("40") && !lines[4].contains(" 1 "), "{lines:?}");
        let area = Rect::new(0, 0, 37, 5);
        assert_eq!(shown.trial_at(area, 36), Some(40));
        assert_eq!(shown.trial_at(area, 7), Some(31));
        assert_eq!(shown.trial_at(area, 2), None);
    }

    #[rstest]
    #[case::the_newest(None, &["112", "114", "116", "118", "120"])]
    #[case::the_selected(Some(117), &["111", "113", "115", "117", "119"])]
    fn numbers_as_wide_as_a_step_do_not_run_into_one_another(
        #[case] selected: Option<u32>,
        #[case] numbers: &[&str],
    ) {
        let trials = (90..=120).map(|number| chart_trial(number, 60, Verdict::Clean)).collect();
        let shown = Staircase { selected, ..shown(trials, None) };
        let lines = drawn(37, 5, |buffer, area| shown.draw(buffer, area, THEME));
        assert_eq!(lines[4].split_whitespace().collect::<Vec<_>>(), numbers, "{lines:#?}");
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD {
            for trials in [trials(), vec![]] {
                let shown = Staircase { selected: Some(2), ..shown(trials, Some(-45)) };
                drawn(width, height, |buffer, area| shown.draw(buffer, area, THEME));
            }
        }
    }
}
