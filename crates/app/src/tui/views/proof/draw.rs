//! Proof: the soak over time, what it proves, and what can be proven.
//!
//! ```text
//! ┌ next step ───────────────────────────────────────────────────┐
//! ├ Soak of profile "quiet" ───────────────── 3 h 40 min left ───┤
//! │ kiln      ▓▓▓        ▓▓▓▓▓                1 h 20 min  < 2/h  │
//! ├ What can be proven ─────────────┬ How sure ──────────────────┤
//! │ ▸ profile "quiet"  97 %  6 h    │ a day    97.4 %            │
//! │   what the card holds           │ what would raise it        │
//! └─────────────────────────────────┴────────────────────────────┘
//! ```

use jiff::tz::TimeZone;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use yard_step_core::{Assurance, BOUND_CONFIDENCE, LoadKind, Proof, SPANS, Seconds, Soaked};
use yard_step_engine::{Candidate, Snapshot, SoakWhat};
use yard_step_scenes::section_of;

use crate::tui::theme::{Role, Theme};
use crate::tui::views::ledger::draw::when;
use crate::tui::views::proof::chart;
use crate::tui::views::proof::state::ProofState;
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::{below, cut, next_step, row, write, write_right, write_wrapped};

/// Faults that have a line.
const MOST_FAULTS: usize = 4;
/// Columns of the list: what it is, chance of a day, hours, proof.
const COLUMNS: [(&str, u16); 4] =
    [("settings", 30), ("a day", 9), ("under load", 12), ("at a start", 30)];

/// Where the parts of the view lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    pub next: Rect,
    pub soak: Rect,
    pub list: Rect,
    pub sure: Rect,
}

pub(crate) fn layout(area: Rect) -> Places {
    let soak = if area.height >= 40 { 24 } else { 11 };
    let [next, soak, below] = Layout::vertical([
        Constraint::Length(next_step::HEIGHT),
        Constraint::Length(soak),
        Constraint::Fill(1),
    ])
    .areas(area);
    let [list, _, sure] = Layout::horizontal([
        Constraint::Fill(1),
        Constraint::Length(1),
        Constraint::Length((area.width * 2 / 5).clamp(42, 64)),
    ])
    .areas(below);
    Places { next, soak, list, sure }
}

pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    state: &ProofState,
) {
    let places = layout(area);
    next_step::draw(buffer, places.next, theme, snapshot);
    match (state.soaked(snapshot), state.selected(snapshot)) {
        (Some(soaked), _) => {
            draw_soak(buffer, places.soak, theme, soaked);
            draw_sure(buffer, places.sure, theme, &soaked.assurance, &soaked.soak.of);
        }
        (_, Some(candidate)) => {
            draw_candidate(buffer, places.soak, theme, candidate);
            draw_sure(buffer, places.sure, theme, &candidate.assurance, &candidate.name);
        }
        (_, None) => {
            let space = panel(buffer, places.soak, theme, "Soak", "");
            let text = "Nothing can be proven yet: the card's settings are not known.";
            write_wrapped(buffer, space, text, theme.style(Role::Text));
            panel(buffer, places.sure, theme, "How sure", "");
        }
    }
    draw_list(buffer, places.list, theme, snapshot, state);
}

fn draw_soak(buffer: &mut Buffer, area: Rect, theme: Theme, soaked: &Soaked) {
    let aside = format!("{} under load and at rest", soaked.spent.in_words());
    let heading = format!("Soak of {}", soaked.soak.of);
    let space = panel(buffer, area, theme, &heading, &aside);
    let used = chart::draw(buffer, space, theme, soaked);
    let mut line = used;
    let role = if soaked.is_clean() { Role::Good } else { Role::Warn };
    if space.height > used + 2 {
        write_right(
            buffer,
            row(space, line),
            row(space, line).y,
            &chart::legend(),
            theme.style(Role::Dim),
        );
        line += 1;
    }
    line += write_wrapped(
        buffer,
        below(space, line),
        &yard_step_words::soaked(soaked),
        theme.style(role),
    );
    let newest = soaked.faults.iter().rev().take(MOST_FAULTS);
    for (at, fault) in newest.enumerate() {
        let section = fault.frame.and_then(|frame| section_of(&fault.load, frame));
        let text = yard_step_words::soak_fault(fault, section);
        let back = match fault.back_to.as_str() {
            "" => String::new(),
            back => format!(" It went on at {back}."),
        };
        let asks = match (at, fault.domain, soaked.end) {
            (0, None, None) => " u finds out which setting it was; then the soak goes on.",
            _ => "",
        };
        let text = format!("{text}{back}{asks}");
        line += write_wrapped(buffer, below(space, line), &text, theme.style(Role::Bad));
    }
}

fn draw_candidate(buffer: &mut Buffer, area: Rect, theme: Theme, candidate: &Candidate) {
    let total = candidate.assurance.exposure().total();
    let aside = format!("{} under load", total.in_words());
    let heading = format!("Evidence for {}", candidate.name);
    let space = panel(buffer, area, theme, &heading, &aside);
    let used = chart::draw_kinds(buffer, space, theme, &candidate.assurance);
    let facts = below(space, used);
    let what = format!("{}. {}", candidate.view.what, candidate.view.why());
    let lines = write_wrapped(buffer, facts, &what, theme.style(Role::Text));
    let due = candidate
        .due
        .as_ref()
        .map(|due| yard_step_words::check_due(&candidate.view.profile.name, due));
    let checked = candidate.checked.as_ref().map(|(at, answer)| {
        let zone = TimeZone::system();
        format!("Checked {}: {}", when(*at, &zone), yard_step_words::check(answer))
    });
    if let Some(text) = due.or(checked) {
        write_wrapped(buffer, below(facts, lines), &text, theme.style(Role::Accent));
    }
}

fn draw_sure(buffer: &mut Buffer, area: Rect, theme: Theme, assurance: &Assurance, of: &str) {
    let space = panel(buffer, area, theme, "How sure", &cut(of, area.width.saturating_sub(16)));
    let (text, dim) = (theme.style(Role::Text), theme.style(Role::Dim));
    let confidence = BOUND_CONFIDENCE * 100.0;
    let heading = format!("{:<9}{:>10}{:>14}", "holds", "believed", "hours alone");
    write(buffer, space, (space.x, space.y), &heading, dim);
    let mut line = 1;
    for (name, span) in SPANS {
        let chances = assurance.chances(span);
        let alone = chances.by_hours.map_or("–".into(), yard_step_words::percent);
        let shown = format!(
            "{:<9}{:>10}{:>14}",
            format!("a {name}"),
            yard_step_words::percent(chances.believed),
            alone
        );
        let style = if name == "day" { theme.style(Role::Title) } else { text };
        let place = row(space, line);
        write(buffer, place, (place.x, place.y), &shown, style);
        line += 1;
    }
    let proven = match assurance.proven_for() {
        Some(("hour", _)) => "Proven for an hour, not for daily use yet.".to_owned(),
        Some((name, _)) => format!("Proven for daily use: for a {name}."),
        None => "Not proven for daily use yet.".to_owned(),
    };
    let raise = yard_step_words::to_raise(assurance, SPANS[0].1);
    let meaning = format!(
        "Time under load, in days made of {}. Hours alone: at least this with {confidence:.0} %, whatever the edges. Believed: with the climb's edges and what else fails cards.",
        made_of(assurance)
    );
    for (said, style) in [(proven, theme.style(Role::Accent)), (raise, text), (meaning, dim)] {
        line += write_wrapped(buffer, below(space, line), &said, style);
    }
}

/// What a day of use is made of, in words.
fn made_of(assurance: &Assurance) -> String {
    let parts = LoadKind::ALL.into_iter().filter(|kind| assurance.share(*kind) > 0.0);
    let parts: Vec<String> = parts
        .map(|kind| format!("{:.0} % {}", assurance.share(kind) * 100.0, kind.label()))
        .collect();
    parts.join(", ")
}

fn draw_list(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    state: &ProofState,
) {
    let candidates = &snapshot.machine.candidates;
    let space = panel(buffer, area, theme, "What can be proven", "");
    let dim = theme.style(Role::Dim);
    draw_cells(buffer, row(space, 0), |column| (COLUMNS[column].0.to_owned(), dim));
    let selected = state.place(snapshot);
    let lines = space.height.saturating_sub(1);
    let first = selected.saturating_sub(usize::from(lines.saturating_sub(1)));
    for (index, candidate) in candidates.iter().enumerate().skip(first).take(lines.into()) {
        let line = row(space, (index - first) as u16 + 1);
        if index == selected {
            buffer.set_style(line.intersection(buffer.area), theme.style(Role::Selected));
            write(buffer, line, (line.x, line.y), "▸", theme.style(Role::Accent));
        }
        draw_cells(buffer, line, |column| cell(candidate, column, theme));
    }
}

fn cell(candidate: &Candidate, column: usize, theme: Theme) -> (String, ratatui::style::Style) {
    let total: Seconds = candidate.assurance.exposure().total();
    let proof = &candidate.view.proof;
    match column {
        0 => (candidate.name.clone(), theme.style(Role::Text)),
        1 => {
            let chance = candidate.assurance.chances(SPANS[0].1).believed;
            (yard_step_words::percent(chance), theme.style(Role::Title))
        }
        2 => (total.in_words(), theme.style(Role::Text)),
        _ => {
            let due = if candidate.due.is_some() { ", check due" } else { "" };
            let label = match (proof, &candidate.what) {
                (Proof::Failed { .. }, _) => "failed",
                (_, SoakWhat::Profile(_)) if proof.is_proven() => "applied when in use",
                (_, SoakWhat::Profile(_)) => "not yet: run it for an hour",
                _ if total.value() == 0.0 => "never ran",
                _ => "no profile: keep it with k",
            };
            let role = if candidate.due.is_some() { Role::Accent } else { Role::Dim };
            (format!("{label}{due}"), theme.style(role))
        }
    }
}

/// The settings in the line at a place of the screen.
pub(crate) fn line_at(
    area: Rect,
    snapshot: &Snapshot,
    state: &ProofState,
    (x, y): (u16, u16),
) -> Option<usize> {
    let list = layout(area).list;
    if !list.contains((x, y).into()) {
        return None;
    }
    let lines = usize::from(list.height.saturating_sub(2));
    let first = state.place(snapshot).saturating_sub(lines.saturating_sub(1));
    let at = first + usize::from(y.checked_sub(list.y + 2)?);
    (at < snapshot.machine.candidates.len()).then_some(at)
}

fn draw_cells(
    buffer: &mut Buffer,
    line: Rect,
    cell: impl Fn(usize) -> (String, ratatui::style::Style),
) {
    let mut x = line.x + 2;
    for (index, (_, width)) in COLUMNS.iter().enumerate() {
        let room = line.right().saturating_sub(x).min(*width);
        let place = Rect { x, width: room, ..line };
        let (text, style) = cell(index);
        write(buffer, place, (x, line.y), &cut(&text, room), style);
        x += width + 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{proof_snapshot, soaked};
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use std::sync::Arc;

    const THEME: Theme = Theme::new(Depth::None);

    fn shown(width: u16, height: u16, with_soak: bool) -> String {
        let mut snapshot = proof_snapshot();
        if with_soak {
            snapshot.climb.soaked = Some(Arc::new(soaked()));
        }
        let state = ProofState::default();
        drawn(width, height, |buffer, area| draw(buffer, area, THEME, &snapshot, &state)).join("\n")
    }

    #[test]
    fn without_a_soak_the_evidence_of_the_selected_settings_is_shown() {
        let text = shown(160, 48, false);
        for part in [
            "Evidence for profile \"last autumn\"",
            "light load",
            "a day",
            "hours alone",
            "▸ profile \"last autumn\"",
            "what the card holds",
            "never ran",
            "Not proven for daily use",
        ] {
            assert!(text.contains(part), "{part}:\n{text}");
        }
    }

    #[test]
    fn a_soak_is_shown_with_its_fault_and_what_came_of_it() {
        let text = shown(160, 48, true);
        for part in [
            "Soak of profile \"last autumn\"",
            "squall, cold",
            "under doldrums",
            "load died",
            "It went on at core +75 MHz",
            "hot spot ░",
        ] {
            assert!(text.contains(part), "{part}:\n{text}");
        }
    }

    #[test]
    fn a_click_selects_and_any_size_will_do() {
        let snapshot = proof_snapshot();
        let (area, state) = (Rect::new(0, 0, 160, 47), ProofState::default());
        let list = layout(area).list;
        let at = |y| line_at(area, &snapshot, &state, (list.x + 3, list.y + y));
        assert_eq!([at(0), at(1), at(2), at(3), at(4)], [None, None, Some(0), Some(1), None]);
        for (width, height) in AWKWARD {
            shown(width, height, true);
            shown(width, height, false);
        }
        assert!(shown(99, 27, true).contains("How sure"));
    }
}
