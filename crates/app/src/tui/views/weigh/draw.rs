//! Weigh: the frontier of work against watts, degrees or decibels, from every run made on the card.
//!
//! ```text
//! ┌ Frontier: work against watts ────────────────┬ on the frontier ┐
//! │              ┌────●                          │ ▸ …             │
//! │      ┌──◉────┘ •                             ├ picked ─────────┤
//! │  ●───┘  •  ▢ ▲                               │ settings, gains │
//! ├──────────────────────────────────────────────┴─────────────────┤
//! │ The knee is …                                                  │
//! └────────────────────────────────────────────────────────────────┘
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use yard_step_core::{Cost, FrontierPoint, LEAST_LONG_RUN, counted, figure_in_words};

use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::views::weigh::frontier::FrontierChart;
use crate::tui::views::weigh::state::WeighState;
use crate::tui::views::weigh::variants::VariantChart;
use crate::tui::widgets::panel::{inside, panel};
use crate::tui::widgets::{below, cut, row, write, write_right, write_wrapped};

/// Where the parts of the view lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    pub chart: Rect,
    pub list: Rect,
    pub picked: Rect,
    pub sentence: Rect,
}

pub(crate) fn layout(area: Rect) -> Places {
    let [body, sentence] =
        Layout::vertical([Constraint::Fill(1), Constraint::Length(4)]).areas(area);
    let right = (area.width * 3 / 8).clamp(38, 56);
    let [chart, _, right] =
        Layout::horizontal([Constraint::Fill(1), Constraint::Length(1), Constraint::Length(right)])
            .areas(body);
    let [list, picked] =
        Layout::vertical([Constraint::Fill(1), Constraint::Length(12)]).areas(right);
    Places { chart, list, picked, sentence }
}

pub(crate) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, state: &WeighState) {
    if state.shows_table {
        let chart = VariantChart {
            table: &state.table,
            notes: &state.notes,
            full_fan: state.full_fan,
            picked: state.point().map(|point| point.newest),
            told: state.told.as_deref(),
        };
        chart.draw(buffer, area, theme);
        return;
    }
    let places = layout(area);
    let frontier = &state.frontier;
    let load = state.load.as_deref().unwrap_or("–");
    let heading = format!("Frontier: work against {}", frontier.cost.what());
    let count = frontier.points.len();
    let runs: usize = frontier.points.iter().map(|point| point.runs).sum();
    let aside = format!("under {load}: {runs} runs at {count} settings");
    let space = panel(buffer, places.chart, theme, &heading, &aside);
    if frontier.points.is_empty() {
        let text = match (state.is_read, frontier.cost) {
            (false, _) => "Reading what was run…",
            (true, Cost::Watts | Cost::Decibels) => {
                "No run under this load has a score yet: climb, or try settings of your own."
            }
            (true, Cost::Degrees) => "No run under this load has a score and a hot spot yet.",
        };
        let place = Rect { x: space.x + 2, y: space.y + 1, ..space }.intersection(space);
        write_wrapped(buffer, place, text, theme.style(Role::Dim));
    }
    FrontierChart { frontier, picked: state.picked() }.draw(buffer, space, theme);
    draw_list(buffer, places.list, theme, state);
    draw_picked(buffer, places.picked, theme, state);
    draw_sentence(buffer, places.sentence, theme, state);
}

/// The point at a place of the screen, in the chart or in the list.
pub(crate) fn point_at(area: Rect, state: &WeighState, place: (u16, u16)) -> Option<usize> {
    let places = layout(area);
    let list = lines(places.list);
    if list.contains(place.into()) {
        let at = first_shown(state, list.height) + usize::from(place.1 - list.y);
        return state.frontier.frontier.get(at).copied();
    }
    let chart = FrontierChart { frontier: &state.frontier, picked: state.picked() };
    chart.point_at(inside(places.chart), place)
}

/// The lines of the list, below its rule and its head.
fn lines(area: Rect) -> Rect {
    inside(inside(area))
}

/// The first line that is shown, so that the picked one, or the one nearest to it, is among them.
fn first_shown(state: &WeighState, height: u16) -> usize {
    let on = &state.frontier.frontier;
    let place = state.picked().map_or(0, |picked| on.partition_point(|at| *at < picked));
    place.saturating_sub(usize::from(height) / 2).min(on.len().saturating_sub(usize::from(height)))
}

fn draw_list(buffer: &mut Buffer, area: Rect, theme: Theme, state: &WeighState) {
    let frontier = &state.frontier;
    let aside = counted(frontier.frontier.len(), "point");
    let space = panel(buffer, area, theme, "On the frontier", &aside);
    let dim = theme.style(Role::Dim);
    let unit = frontier.cost.unit();
    draw_cells(buffer, row(space, 0), [unit, "work", "", "settings"].map(str::to_owned), dim);
    let lines = lines(area);
    let stock = frontier.stock_score();
    let first = first_shown(state, lines.height);
    for (index, place) in frontier.frontier.iter().skip(first).enumerate() {
        let line = row(lines, index as u16);
        let Some(point) = frontier.point(*place).filter(|_| line.height > 0) else { break };
        let picked = Some(*place) == state.picked();
        if picked {
            buffer.set_style(line.intersection(buffer.area), theme.style(Role::Selected));
            write(buffer, line, (line.x, line.y), "▸", theme.style(Role::Accent));
        }
        let work = stock.map_or_else(
            || figure_in_words(point.score),
            |stock| format!("{:+.1} %", (point.score / stock - 1.0) * 100.0),
        );
        let mark = match (Some(*place) == frontier.knee, point.is_stock) {
            (true, _) => "◉",
            (false, true) => "▢",
            (false, false) => "",
        };
        let cost = format!("{:.*}", cost_digits(frontier.cost), point.cost);
        let style = theme.style(if picked { Role::Title } else { Role::Text });
        draw_cells(buffer, line, [cost, work, mark.into(), point.what.clone()], style);
    }
}

const fn cost_digits(cost: Cost) -> usize {
    match cost {
        Cost::Watts | Cost::Degrees => 0,
        Cost::Decibels => 1,
    }
}

/// Cost, work, mark and settings of a line, each in its column.
fn draw_cells(buffer: &mut Buffer, line: Rect, cells: [String; 4], style: Style) {
    let [cost, work, mark, what] = cells;
    let right = |x: u16, width: u16| Rect { x: line.x + x, width, ..line }.intersection(line);
    write_right(buffer, right(2, 6), line.y, &cost, style);
    write_right(buffer, right(9, 8), line.y, &work, style);
    write(buffer, line, (line.x + 18, line.y), &mark, style);
    let rest = line.width.saturating_sub(20);
    write(buffer, line, (line.x + 20, line.y), &cut(&what, rest), style);
}

fn draw_picked(buffer: &mut Buffer, area: Rect, theme: Theme, state: &WeighState) {
    let Some((place, point)) = state.picked().zip(state.point()) else {
        panel(buffer, area, theme, "Picked", "");
        return;
    };
    let aside = format!("trial {} of climb {}", point.newest.1, point.newest.0);
    let space = panel(buffer, area, theme, "Picked", &aside);
    let mut rest = Rect { x: space.x + 2, width: space.width.saturating_sub(2), ..space };
    let mut say = |text: &str, style: Style| {
        let used = write_wrapped(buffer, rest, text, style).min(rest.height);
        rest = Rect { y: rest.y + used, height: rest.height - used, ..rest };
    };
    say(&point.what, theme.style(Role::Title));
    let frontier = &state.frontier;
    let figures = format!(
        "score {} at {:.*} {} {}",
        figure_in_words(point.score),
        cost_digits(frontier.cost),
        point.cost,
        frontier.cost.unit(),
        frontier.cost.what()
    );
    say(&figures, theme.style(Role::Clock));
    if let Some(beside) = yard_step_words::beside_stock(frontier, place) {
        say(&format!("{beside}."), theme.style(Role::Text));
    }
    say(&made_of(point), theme.style(Role::Dim));
    match (point.failed, point.is_on_frontier) {
        (Some(verdict), _) => {
            let text = format!("{} It failed there: {verdict}.", glyph(verdict));
            say(&text, theme.style(Role::Bad));
        }
        (None, true) if point.is_unproven() => {
            let text = format!(
                "On the frontier, and not proven: it ran for less than {}.",
                LEAST_LONG_RUN.in_words()
            );
            say(&text, theme.style(Role::Warn));
        }
        (None, true) => say(
            "On the frontier: no settings that held do more at this cost.",
            theme.style(Role::Good),
        ),
        (None, false) if !point.is_dominated => {
            say("As good as the frontier, within what chance may bring.", theme.style(Role::Text));
        }
        (None, false) => say(
            "Dominated: a point on the frontier does as much for less, or more at this cost.",
            theme.style(Role::Dim),
        ),
    }
    if let Some(told) = &state.told {
        say(told, theme.style(Role::Accent));
    }
}

/// What a point rests on.
fn made_of(point: &FrontierPoint) -> String {
    let runs = counted(point.runs, "run");
    format!("From {runs}, {} under load.", point.seconds.in_words())
}

fn draw_sentence(buffer: &mut Buffer, area: Rect, theme: Theme, state: &WeighState) {
    let space = panel(buffer, area, theme, "What it says", "");
    let mut text = yard_step_words::frontier(&state.frontier);
    if state.frontier.cost == Cost::Decibels {
        text += match state.full_fan {
            Some(_) => " Noise is estimated from fan speed and your measurement at full fan.",
            None => {
                " Noise is relative to full fan (0 dB); enter the noise at full fan in Survey, with r."
            }
        };
    }
    let place = Rect { x: space.x + 2, width: space.width.saturating_sub(4), ..space };
    let told = state.told.as_deref().unwrap_or_default();
    let used = write_wrapped(buffer, place, told, theme.style(Role::Warn));
    write_wrapped(buffer, below(place, used), &text, theme.style(Role::Text));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{snapshot, weighed};
    use crate::tui::keys::action::Action;
    use crate::tui::theme::Depth;
    use crate::tui::views::ledger::browser::WeighedCard;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;

    const THEME: Theme = Theme::new(Depth::None);

    fn state() -> WeighState {
        let mut state = WeighState::default();
        state.wants(&snapshot());
        state.take(Ok(WeighedCard { runs: weighed(), ..WeighedCard::default() }));
        state
    }

    #[rstest]
    #[case(160, 47)]
    #[case(100, 27)]
    fn the_frontier_is_the_largest_part_and_the_knee_is_explained(
        #[case] width: u16,
        #[case] height: u16,
    ) {
        let state = state();
        let lines = drawn(width, height, |buffer, area| draw(buffer, area, THEME, &state));
        let text = lines.join("\n");
        for part in
            ["work against board power", "On the frontier", "The knee is", "score 980 at 170 W"]
        {
            assert!(text.contains(part), "{part}: {text}");
        }
        let places = layout(Rect::new(0, 0, width, height));
        for other in [places.list, places.picked, places.sentence] {
            assert!(other.area() < places.chart.area(), "{places:?}");
        }
    }

    #[test]
    fn points_are_picked_in_the_list_as_in_the_chart() {
        let state = state();
        let area = Rect::new(0, 1, 160, 47);
        let list = lines(layout(area).list);
        for (index, place) in state.frontier.frontier.iter().enumerate() {
            let at = (list.x + 3, list.y + index as u16);
            assert_eq!(point_at(area, &state, at), Some(*place));
        }
    }

    #[test]
    fn decibels_say_what_they_are_told_against() {
        let mut state = state();
        state.act(Action::OtherCost);
        state.act(Action::OtherCost);
        let lines = drawn(160, 47, |buffer, area| draw(buffer, area, THEME, &state));
        assert!(lines.join("\n").contains("relative to full fan"), "{lines:#?}");
    }

    #[test]
    fn any_size_and_nothing_at_all_will_do() {
        for state in [state(), WeighState::default()] {
            for (width, height) in AWKWARD {
                drawn(width, height, |buffer, area| draw(buffer, area, THEME, &state));
            }
        }
    }
}
