//! Ledger: everything tried.
//!
//! ```text
//! ┌ trials, 214 of 1,204, by time ↓ ─────────────────────────────┐
//! │ what is searched for and filtered                            │
//! │   climb trial  when  card  stage  settings  …  score   gain  │
//! │ ▸     3    12  …                                             │
//! ├ trial 12 of climb 3 ───────────────┬─────────────────────────┤
//! │ figures, beside those of the held  │ verdict, reason, note   │
//! └────────────────────────────────────┴─────────────────────────┘
//! ```

use jiff::Timestamp;
use jiff::tz::TimeZone;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use yard_step_core::compare::Comparison;
use yard_step_core::{Celsius, Seconds, Watt, counted, figure_in_words};
use yard_step_ledger::{ClimbLine, ClimbState, SortBy, TrialDetail, TrialLine};

use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::views::ledger::browser::List;
use crate::tui::views::ledger::state::LedgerState;
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::{cut, row, write, write_right, write_wrapped};

/// Where the parts of the view lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    /// The list with its rule, what is searched for, and the names of its columns.
    pub list: Rect,
    /// The lines of the list.
    pub lines: Rect,
    /// What is selected.
    pub detail: Rect,
}

/// Where the parts lie; a comparison takes a line for each figure, where there is room.
pub(crate) fn layout(area: Rect, compares: bool) -> Places {
    let detail = if compares && area.height >= 40 { 17 } else { 10 };
    let [list, detail] =
        Layout::vertical([Constraint::Fill(1), Constraint::Length(detail)]).areas(area);
    let lines =
        Rect { y: list.y + list.height.min(3), height: list.height.saturating_sub(3), ..list };
    Places { list, lines, detail }
}

pub(crate) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, state: &LedgerState) {
    let places = layout(area, state.held.is_some());
    draw_head(buffer, places.list, theme, state);
    match state.list() {
        List::Trials => draw_trials(buffer, places, theme, state),
        List::Climbs => draw_climbs(buffer, places, theme, state),
        // Drawn by a view of their own.
        List::Profiles => {}
    }
}

/// Draws the line in which a search is typed.
pub(crate) fn draw_typing(buffer: &mut Buffer, area: Rect, theme: Theme, text: &str) {
    let line = row(layout(area, false).list, 1);
    for position in line.intersection(buffer.area).positions() {
        buffer[position].reset();
        buffer[position].set_style(theme.ground().patch(theme.style(Role::Bar)));
    }
    let end = write(buffer, line, (line.x, line.y), " search: ", theme.style(Role::Accent));
    let end = write(buffer, line, (end, line.y), text, theme.style(Role::Title));
    let rest = Rect { x: end, width: line.right().saturating_sub(end), ..line };
    let help = "words, or figures: score>1000 hot-spot<85 climb=3    Enter done  Esc cancel ";
    write_right(buffer, rest, line.y, help, theme.style(Role::Dim));
}

/// The line of the list at a place of the screen.
pub(crate) fn line_at(area: Rect, state: &LedgerState, (x, y): (u16, u16)) -> Option<usize> {
    let lines = layout(area, state.held.is_some()).lines;
    let inside =
        (lines.left()..lines.right()).contains(&x) && (lines.top()..lines.bottom()).contains(&y);
    let place = first_shown(state, lines.height) + usize::from(y.saturating_sub(lines.y));
    (inside && place < state.total()).then_some(place)
}

/// The first line that is shown: the selected one stays in the middle, except near the ends.
fn first_shown(state: &LedgerState, height: u16) -> usize {
    let height = usize::from(height);
    let last = state.total().saturating_sub(height);
    state.place().saturating_sub(height / 2).min(last)
}

fn draw_head(buffer: &mut Buffer, area: Rect, theme: Theme, state: &LedgerState) {
    let choices = state.found.as_ref().map(|found| found.choices.clone()).unwrap_or_default();
    let order = state.order();
    let arrow = if order.descending { "↓" } else { "↑" };
    let (heading, aside) = match state.list() {
        List::Trials => {
            let all = if state.filter().removed { choices.removed } else { choices.trials };
            let aside = match state.found {
                None => "looking…".to_owned(),
                Some(_) => format!(
                    "{} of {}, by {} {arrow}",
                    thousands(state.total()),
                    thousands(all),
                    order.by.label()
                ),
            };
            ("Trials", aside)
        }
        List::Climbs => {
            let by = match order.by {
                SortBy::Length => "time under load",
                SortBy::Verdict => "failures",
                _ => "time",
            };
            ("Climbs", format!("{}, by {by} {arrow}", thousands(state.total())))
        }
        List::Profiles => ("Profiles", String::new()),
    };
    let heading =
        if state.filter().removed { format!("Deleted {heading}") } else { heading.into() };
    panel(buffer, area, theme, &heading, &aside);
    let line = row(area, 1);
    if let Some(problem) = &state.problem {
        let text = cut(problem, line.width.saturating_sub(2));
        write(buffer, line, (line.x + 2, line.y), &text, theme.style(Role::Bad));
        return;
    }
    let mut x = line.x + 2;
    let mut chip = |name: &str, value: &str, style: Style| {
        x = write(buffer, line, (x, line.y), name, theme.style(Role::Dim));
        x = write(buffer, line, (x, line.y), value, style) + 3;
    };
    let accent = theme.style(Role::Accent);
    if !state.search().is_empty() {
        chip("search ", state.search(), accent);
    }
    let chosen = state.filter_lines();
    for (name, value) in chosen.iter().filter(|(_, value)| value != "any" && value != "no") {
        let value = if *name == "deleted" { "yes" } else { value };
        chip(&format!("{name} "), value, accent);
    }
    if !state.holds() {
        let hint = match state.list() {
            List::Trials => "/ searches words and figures, f filters, o sorts",
            _ => "/ searches words, f filters, o sorts, Enter lists a climb's trials",
        };
        chip(hint, "", theme.style(Role::Dim));
    }
    if let Some(held) = &state.held {
        let text = format!("trial {} of climb {}", held.line.number, held.line.climb);
        chip("held ", &text, theme.style(Role::Clock));
    }
    if let Some(told) = &state.told {
        write_right(buffer, line, line.y, &format!(" {told}"), theme.style(Role::Good));
    }
}

/// A column of the trials' list.
struct Column {
    name: &'static str,
    /// What it sorts by.
    sorts: Option<SortBy>,
    width: u16,
    right: bool,
    /// The smaller, the sooner it is shown where there is little room.
    rank: u8,
    show: fn(&TrialLine, &TimeZone) -> String,
}

/// The columns, in their order. What is left of the width goes to the note.
const COLUMNS: [Column; 13] = [
    column("climb", Some(SortBy::Climb), 5, true, 0, |l, _| l.climb.to_string()),
    column("trial", None, 5, true, 0, |l, _| l.number.to_string()),
    column("when", Some(SortBy::Time), 12, false, 6, |l, zone| when(l.began, zone)),
    column("card", None, 17, false, 4, |l, _| format!("{} · {}", l.card, l.serial)),
    column("stage", None, 9, false, 5, |l, _| l.stage.to_string()),
    column("settings", Some(SortBy::Core), 30, false, 1, |l, _| l.what.clone()),
    column("load", None, 8, false, 8, |l, _| l.load.clone()),
    column("min", Some(SortBy::Length), 5, true, 7, |l, _| {
        l.seconds.map_or("–".into(), |s| format!("{:.1}", Seconds::value(s) / 60.0))
    }),
    column("verdict", Some(SortBy::Verdict), 15, false, 0, |l, _| verdict(l)),
    column("score", Some(SortBy::Score), 6, true, 2, |l, _| {
        l.score.map_or("–".into(), figure_in_words)
    }),
    column("gain", Some(SortBy::Gain), 7, true, 1, |l, _| {
        l.gain_percent.map_or("–".into(), |gain| format!("{gain:+.1} %"))
    }),
    column("W", Some(SortBy::Power), 4, true, 3, |l, _| {
        l.power.map_or("–".into(), |power| format!("{:.0}", Watt::value(power)))
    }),
    column("°C hot", Some(SortBy::HotSpot), 6, true, 3, |l, _| {
        l.hot_spot.map_or("–".into(), |hot| format!("{:.0}", Celsius::value(hot)))
    }),
];

const fn column(
    name: &'static str,
    sorts: Option<SortBy>,
    width: u16,
    right: bool,
    rank: u8,
    show: fn(&TrialLine, &TimeZone) -> String,
) -> Column {
    Column { name, sorts, width, right, rank, show }
}

/// The verdict with its shape; a star says that it is the user's own.
fn verdict(line: &TrialLine) -> String {
    let own = if line.by_hand { " ✎" } else { "" };
    line.verdict.map_or("… no outcome".into(), |v| format!("{} {v}{own}", glyph(v)))
}

/// The columns that fit, each with its place; and where the note begins.
fn columns_in(width: u16) -> (Vec<(u16, &'static Column)>, u16) {
    const POINTER: u16 = 3;
    let mut shown: Vec<&Column> = COLUMNS.iter().collect();
    let needed = |shown: &[&Column]| shown.iter().map(|column| column.width + 1).sum::<u16>();
    while POINTER + needed(&shown) > width {
        let Some(least) = shown.iter().map(|column| column.rank).max().filter(|rank| *rank > 0)
        else {
            break;
        };
        shown.retain(|column| column.rank != least);
    }
    let mut x = POINTER;
    let placed = shown.into_iter().map(|column| {
        let at = x;
        x += column.width + 1;
        (at, column)
    });
    let placed: Vec<_> = placed.collect();
    (placed, x)
}

fn draw_trials(buffer: &mut Buffer, places: Places, theme: Theme, state: &LedgerState) {
    let (columns, note) = columns_in(places.list.width);
    let head = row(places.list, 2);
    for (x, column) in &columns {
        let sorted = column.sorts == Some(state.order().by);
        let style = theme.style(if sorted { Role::Accent } else { Role::Dim });
        put(buffer, head, *x, column, column.name, style);
    }
    write(buffer, head, (head.x + note, head.y), "note", theme.style(Role::Dim));
    if state.total() == 0 && state.found.is_some() {
        let space = places.lines;
        let text = if state.holds() {
            "Nothing found. Esc clears the search, then the filter."
        } else {
            "No trials yet: Enter in Climb runs the first one."
        };
        write(buffer, space, (space.x + 3, space.y + 1), text, theme.style(Role::Dim));
    }
    let zone = TimeZone::system();
    let first = first_shown(state, places.lines.height);
    for index in 0..places.lines.height {
        let place = first + usize::from(index);
        if place >= state.total() {
            break;
        }
        let line = row(places.lines, index);
        let selected = place == state.place();
        if selected {
            buffer.set_style(line.intersection(buffer.area), theme.style(Role::Selected));
        }
        let Some(trial) = state.trial_at(place) else {
            write(buffer, line, (line.x + 3, line.y), "…", theme.style(Role::Faint));
            continue;
        };
        draw_trial(buffer, line, theme, state, trial, (&columns, note), &zone);
        if selected {
            write(buffer, line, (line.x, line.y), "▸", theme.style(Role::Accent));
        }
    }
    draw_detail(buffer, places.detail, theme, state, &zone);
}

fn draw_trial(
    buffer: &mut Buffer,
    line: Rect,
    theme: Theme,
    state: &LedgerState,
    trial: &TrialLine,
    (columns, note): (&[(u16, &'static Column)], u16),
    zone: &TimeZone,
) {
    let held = state.held.as_ref().is_some_and(|held| held.line.id == trial.id);
    let mark = if held {
        "◎"
    } else if trial.flagged {
        "⚑"
    } else {
        ""
    };
    let style = theme.style(if held { Role::Clock } else { Role::Accent });
    write(buffer, line, (line.x + 1, line.y), mark, style);
    for (x, column) in columns {
        let style = match (column.name, trial.verdict) {
            ("verdict", Some(verdict)) => theme.verdict(verdict),
            ("settings" | "gain" | "score" | "climb" | "trial", _) => theme.style(Role::Text),
            _ => theme.style(Role::Dim),
        };
        put(buffer, line, *x, column, &(column.show)(trial, zone), style);
    }
    let text = cut(&trial.note, line.width.saturating_sub(note));
    write(buffer, line, (line.x + note, line.y), &text, theme.style(Role::Text));
}

/// Writes a cell of a column.
fn put(buffer: &mut Buffer, line: Rect, x: u16, column: &Column, text: &str, style: Style) {
    let x = line.x + x;
    let width = column.width.min(line.right().saturating_sub(x));
    let cell = Rect { x, width, ..line };
    let text = cut(text, width);
    if column.right {
        write_right(buffer, cell, line.y, &text, style);
    } else {
        write(buffer, cell, (x, line.y), &text, style);
    }
}

fn draw_detail(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    state: &LedgerState,
    zone: &TimeZone,
) {
    let Some(line) = state.trial() else {
        panel(buffer, area, theme, "Trial", "");
        return;
    };
    let heading = format!("Trial {} of climb {}: {}", line.number, line.climb, line.what);
    let aside = format!("{} · {}, {}", line.card, line.serial, when_in_full(line.began, zone));
    let space = panel(buffer, area, theme, &heading, &aside);
    let Some(detail) = state.detail() else { return };
    let least = if space.width >= 96 { 2 * FIGURE } else { 52 };
    let left_width = (space.width * 9 / 16).max(least).min(space.width);
    let [left, _, right] = Layout::horizontal([
        Constraint::Length(left_width),
        Constraint::Length(2),
        Constraint::Fill(1),
    ])
    .areas(space);
    let held = state.held.as_deref().filter(|held| held.line.id != line.id);
    let Some(record) = &detail.record else {
        let text = "It has no outcome yet: it is running, or its machine went down in it.";
        write_wrapped(buffer, left, text, theme.style(Role::Dim));
        return;
    };
    let comparison = state.comparison();
    if let Some(comparison) = &comparison {
        draw_figures(buffer, left, theme, comparison, held);
    }
    let mut rest = right;
    let mut say = |text: &str, style: Style| {
        if text.is_empty() {
            return;
        }
        let used = write_wrapped(buffer, rest, text, style).min(rest.height);
        rest = Rect { y: rest.y + used, height: rest.height - used, ..rest };
    };
    let counts = record.verdict();
    say(&format!("{} {counts}", glyph(counts)), theme.verdict(counts));
    if record.marked.is_some() {
        say(&format!("Marked by you; it was judged {}.", record.judged), theme.style(Role::Warn));
    }
    say(&record.reason, theme.style(Role::Text));
    let purpose = match record.purpose.label() {
        same if same == record.stage.label() => String::new(),
        purpose => format!(", {purpose}"),
    };
    let run = format!("Stage {}{purpose}, under {}.", record.stage, record.scene);
    say(&run, theme.style(Role::Dim));
    say(&note_text(&line.note), theme.style(Role::Accent));
    if let Some(comparison) = comparison.filter(|_| held.is_some()) {
        say(&yard_step_words::finding(&comparison.finding), theme.style(Role::Clock));
        for (kind, one, other) in comparison.asked {
            say(&format!("{}: {one} → {other}", kind.label()), theme.style(Role::Text));
        }
    }
}

fn note_text(note: &str) -> String {
    if note.is_empty() { String::new() } else { format!("Note: {note}") }
}

/// Columns of a figure with its label.
const FIGURE: u16 = 28;

/// The figures of the selected trial, in two columns where there is room; or beside those of the held one.
fn draw_figures(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    comparison: &Comparison,
    held: Option<&TrialDetail>,
) {
    let (dim, text) = (theme.style(Role::Dim), theme.style(Role::Text));
    let cell = |buffer: &mut Buffer, line: Rect, x: u16, width: u16, text: &str, style: Style| {
        let cell = Rect { x: line.x + x, width, ..line }.intersection(line);
        write_right(buffer, cell, line.y, text, style);
    };
    if let Some(held) = held {
        let head = row(area, 0);
        let name = format!("held: {}/{}", held.line.climb, held.line.number);
        cell(buffer, head, 17, 12, &name, theme.style(Role::Clock));
        cell(buffer, head, 30, 12, "selected", theme.style(Role::Title));
        cell(buffer, head, 43, 12, "difference", dim);
    }
    let two = held.is_none() && area.width >= 2 * FIGURE;
    let pitch = (area.width / 2).clamp(FIGURE, FIGURE + 8);
    let column = if two { comparison.figures.len().div_ceil(2) } else { usize::MAX };
    for (index, figure) in comparison.figures.iter().enumerate() {
        let below = u16::from(held.is_some());
        let line = row(area, (index % column) as u16 + below);
        let x = (index / column) as u16 * pitch;
        if line.height == 0 {
            continue;
        }
        write(buffer, line, (line.x + x, line.y), figure.label, dim);
        let (one, other) = figure.shown();
        if held.is_none() {
            cell(buffer, line, x + 17, 10, &other, text);
            continue;
        }
        cell(buffer, line, 17, 12, &one, dim);
        cell(buffer, line, 30, 12, &other, text);
        let style = theme.style(match figure.is_better() {
            Some(true) => Role::Good,
            Some(false) => Role::Bad,
            None => Role::Dim,
        });
        cell(buffer, line, 43, 12, &figure.difference_shown(), style);
    }
}

fn draw_climbs(buffer: &mut Buffer, places: Places, theme: Theme, state: &LedgerState) {
    let zone = TimeZone::system();
    let (dim, text) = (theme.style(Role::Dim), theme.style(Role::Text));
    let head = row(places.list, 2);
    let end = write(buffer, head, (head.x + 3, head.y), &climb_cells(None, &zone), dim);
    write(buffer, head, (end + 1, head.y), "note", dim);
    let first = first_shown(state, places.lines.height);
    for index in 0..places.lines.height {
        let place = first + usize::from(index);
        let Some(climb) = state.climb_at(place) else { break };
        let line = row(places.lines, index);
        if place == state.place() {
            buffer.set_style(line.intersection(buffer.area), theme.style(Role::Selected));
            write(buffer, line, (line.x, line.y), "▸", theme.style(Role::Accent));
        }
        let style = if climb.state == ClimbState::GivenUp { dim } else { text };
        let end =
            write(buffer, line, (line.x + 3, line.y), &climb_cells(Some(climb), &zone), style);
        let note = cut(&climb.note, line.right().saturating_sub(end + 1));
        write(buffer, line, (end + 1, line.y), &note, theme.style(Role::Accent));
    }
    let Some(climb) = state.climb() else {
        let text =
            if state.filter().removed { "No climb was deleted." } else { "There is no climb yet." };
        write(buffer, places.lines, (places.lines.x + 3, places.lines.y + 1), text, dim);
        panel(buffer, places.detail, theme, "Climb", "");
        return;
    };
    let heading = format!("Climb {}: {} · {}", climb.id, climb.card, climb.serial);
    let space = panel(buffer, places.detail, theme, &heading, &when_in_full(climb.began, &zone));
    let mut rest = Rect { width: space.width.min(110), ..space };
    let outcome = state.found.as_ref().and_then(|found| found.outcome.clone()).unwrap_or_default();
    for (line, style) in [
        (outcome, text),
        (note_text(&climb.note), theme.style(Role::Accent)),
        (format!("Enter lists its {}.", counted(climb.trials, "trial")), dim),
    ] {
        let used = write_wrapped(buffer, rest, &line, style).min(rest.height);
        rest = Rect { y: rest.y + used, height: rest.height - used, ..rest };
    }
}

/// The cells of a climb's line, or of the head above them.
fn climb_cells(climb: Option<&ClimbLine>, zone: &TimeZone) -> String {
    let cells = match climb {
        None => ["climb", "when", "card", "state", "trials", "failed", "under load", "profiles"]
            .map(str::to_owned),
        Some(climb) => [
            climb.id.to_string(),
            when(climb.began, zone),
            format!("{} · {}", climb.card, climb.serial),
            climb.state.label().to_owned(),
            climb.trials.to_string(),
            climb.failed.to_string(),
            format!("{:.1} h", climb.under_load.value() / 3_600.0),
            cut(&climb.profiles, 18),
        ],
    };
    let [id, when, card, state, trials, failed, load, profiles] = cells;
    let card = cut(&card, 20);
    format!(
        "{id:>5}  {when:<12} {card:<20} {state:<9} {trials:>6} {failed:>6} {load:>10}  {profiles:<18}"
    )
}

/// Month, day and time of day.
pub(crate) fn when(began: i64, zone: &TimeZone) -> String {
    at(began, zone, "%m-%d %H:%M")
}

pub(crate) fn when_in_full(began: i64, zone: &TimeZone) -> String {
    at(began, zone, "%Y-%m-%d %H:%M")
}

fn at(began: i64, zone: &TimeZone, format: &str) -> String {
    let known = Timestamp::from_second(began).ok();
    known.map_or("–".into(), |time| time.to_zoned(zone.clone()).strftime(format).to_string())
}

/// A count with a comma between its thousands.
fn thousands(count: usize) -> String {
    let digits = count.to_string();
    let mut text = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{ended_trials, snapshot};
    use crate::tui::keys::action::{Action, Move};
    use crate::tui::theme::Depth;
    use crate::tui::views::ledger::browser::{Answer, Browser};
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use ratatui::crossterm::event::KeyCode;
    use rstest::rstest;
    use std::sync::mpsc::channel;
    use yard_step_ledger::{DataDir, Ledger};

    const THEME: Theme = Theme::new(Depth::None);

    /// A view on a ledger of a climb with so many trials, after these actions.
    fn state(count: u32, actions: &[Action]) -> LedgerState {
        let dir = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
        ended_trials(&ledger, count);
        ledger.note_trial(1, "very first").unwrap();
        ledger.flag_trial(1, true).unwrap();
        let (answer, answers) = channel();
        let browser = Browser::start(ledger, move |a| answer.send(a).unwrap()).unwrap();
        let mut state = LedgerState::default();
        let look = |state: &mut LedgerState| {
            let Some(ask) = state.wants(&snapshot()) else { return };
            browser.ask(ask);
            let Answer::Found(found) = answers.recv().unwrap() else { panic!() };
            state.take(found);
        };
        look(&mut state);
        for action in actions {
            state.act(*action);
            look(&mut state);
        }
        state
    }

    fn shown(width: u16, height: u16, state: &LedgerState) -> Vec<String> {
        drawn(width, height, |buffer, area| draw(buffer, area, THEME, state))
    }

    const DOWN: Action = Action::Row(Move::Down);

    #[test]
    fn every_trial_is_a_line_and_the_selected_one_is_told_below() {
        let lines = shown(159, 48, &state(6, &[DOWN]));
        assert!(lines[0].starts_with("── Trials ──") && lines[0].ends_with("6 of 6, by time ↓"));
        let columns = ["climb", "settings", "verdict", "score", "gain", "°C hot", "note"];
        assert!(columns.iter().all(|name| lines[2].contains(name)), "{}", lines[2]);
        assert!(lines[4].starts_with("▸") && lines[4].contains("core +60 MHz"), "{}", lines[4]);
        assert!(lines[6].contains("▦ artifacts"), "{}", lines[6]);
        assert!(lines[8].starts_with(" ⚑") && lines[8].ends_with("very first"));
        assert!(lines[38].starts_with("── Trial 5 of climb 1: core +60 MHz ──"), "{}", lines[38]);
        let below = lines[39..].join("\n");
        assert!(below.contains("score") && below.contains("1005") && below.contains("216 W"));
        assert!(below.contains("Something happened in it"), "{below}");
    }

    #[test]
    fn a_held_trial_stands_beside_the_selected_one() {
        let lines = shown(159, 48, &state(6, &[Action::Hold, DOWN, DOWN]));
        let below = lines[31..].join("\n");
        for part in [
            "held: 1/6",
            "selected",
            "1006",
            "1004",
            "-0.2 %",
            "core clock offset: +75 MHz → +45 MHz",
        ] {
            assert!(below.contains(part), "{part} in {below}");
        }
        assert!(lines[1].contains("held trial 6 of climb 1"), "{}", lines[1]);
        assert!(lines[3].starts_with(" ◎"), "{}", lines[3]);
    }

    #[rstest]
    #[case(159, true)]
    #[case(99, true)]
    #[case(79, false)]
    fn figures_stand_in_two_columns_where_there_is_room(#[case] width: u16, #[case] two: bool) {
        let lines = shown(width, 28, &state(6, &[]));
        let score = lines.iter().find(|line| line.starts_with("score")).unwrap();
        assert!(score.contains("1006"), "{score}");
        assert_eq!(score.contains("effective clock"), two, "{score}");
        let text = lines.join("\n");
        assert!(text.contains("wrong frames              0") || !two, "{text}");
    }

    #[test]
    fn where_there_is_little_room_the_least_needed_columns_go() {
        let lines = shown(99, 28, &state(6, &[]));
        assert!(lines[2].contains("settings") && lines[2].contains("gain"), "{}", lines[2]);
        assert!(!lines[2].contains("load") && !lines[2].contains("when"), "{}", lines[2]);
        assert!(lines.iter().all(|line| line.chars().count() <= 99));
        let (columns, note) = columns_in(20);
        assert!(columns.iter().all(|(_, column)| column.rank == 0) && note > 20);
    }

    #[test]
    fn the_selected_line_stays_in_the_middle_of_a_long_list_and_a_click_finds_its_line() {
        let state = state(60, &[Action::Row(Move::PageDown), Action::Row(Move::PageDown)]);
        let area = Rect::new(0, 0, 159, 28);
        let height = layout(area, false).lines.height;
        assert_eq!(first_shown(&state, height), 40 - usize::from(height / 2));
        let lines = shown(159, 28, &state);
        let y = lines.iter().position(|line| line.starts_with("▸")).unwrap() as u16;
        assert!(lines[usize::from(y)].contains("  20 "), "{}", lines[usize::from(y)]);
        assert_eq!(line_at(area, &state, (5, y)), Some(40));
        assert_eq!(line_at(area, &state, (5, y + 1)), Some(41));
        assert_eq!(line_at(area, &state, (5, 2)), None, "the names of the columns");
    }

    #[test]
    fn climbs_are_listed_with_what_they_came_to() {
        let lines = shown(159, 48, &state(6, &[Action::OtherList]));
        assert!(lines[0].contains("Climbs"), "{}", lines[0]);
        assert!(lines[3].contains("Test card · 7") && lines[3].contains("open"), "{}", lines[3]);
        assert!(lines[30..].join("\n").contains("Enter lists its 6 trials."));
    }

    #[test]
    fn what_is_not_there_is_said() {
        let mut empty = state(6, &[]);
        assert!(shown(99, 28, &LedgerState::default())[0].ends_with("looking…"));
        empty.type_search("speed>9");
        assert!(shown(99, 28, &empty)[1].contains("\"speed\" is not a figure of a trial"));
        let deleted = {
            let mut state = state(6, &[]);
            state.filter_key(6, KeyCode::Right);
            state
        };
        assert!(shown(99, 28, &deleted)[0].contains("Deleted Trials"));
    }

    #[test]
    fn any_size_will_do() {
        for state in
            [state(6, &[]), state(6, &[Action::OtherList]), state(3, &[Action::Hold, DOWN])]
        {
            for (width, height) in AWKWARD {
                shown(width, height, &state);
                drawn(width, height, |buffer, area| draw_typing(buffer, area, THEME, "word"));
            }
        }
    }

    #[rstest]
    #[case(0, "0")]
    #[case(999, "999")]
    #[case(1_204, "1,204")]
    #[case(100_000, "100,000")]
    #[case(1_234_567, "1,234,567")]
    fn a_large_count_has_commas(#[case] count: usize, #[case] text: &str) {
        assert_eq!(thousands(count), text);
    }

    #[test]
    fn times_are_told_in_the_zone_of_the_machine() {
        assert_eq!(when(1_760_000_000, &TimeZone::UTC), "10-09 08:53");
        assert_eq!(when_in_full(1_760_000_000, &TimeZone::UTC), "2025-10-09 08:53");
        assert_eq!(when(i64::MAX, &TimeZone::UTC), "–");
    }
}
