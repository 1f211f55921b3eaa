//! Profiles of the present card, in Ledger.
//!
//! ```text
//! ┌ Profiles of Tarn 310 · 29 ───────────────────────────────────┐
//! │   name  in use  proof  settings  good for  kept              │
//! │ ▸ ◈ last autumn   ● proven   core +90 MHz  …                 │
//! ├ last autumn ─────────────────────────────────────────────────┤
//! │ purpose, evidence, drift                                     │
//! └──────────────────────────────────────────────────────────────┘
//! ```

use jiff::tz::TimeZone;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use yard_step_core::{Proof, counted};
use yard_step_engine::{ProfileView, Snapshot};

use crate::tui::theme::{Role, Theme};
use crate::tui::views::ledger::draw as ledger;
use crate::tui::views::ledger::draw::{when, when_in_full};
use crate::tui::views::ledger::state::LedgerState;
use crate::tui::views::profiles::state::ProfilesState;
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::{cut, row, write, write_right, write_wrapped};

/// Columns: name, proof, settings, good for, kept.
const COLUMNS: [(&str, u16); 5] =
    [("name", 24), ("proof", 14), ("good for", 9), ("kept", 12), ("settings", 60)];

pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    (state, ledger): (&ProfilesState, &LedgerState),
) {
    let places = ledger::layout(area, false);
    let card = &snapshot.machine.card;
    let heading = format!("Profiles of {} · {}", card.name, card.serial);
    let count = counted(snapshot.machine.profiles.len(), "profile");
    panel(buffer, places.list, theme, &heading, &count);
    let line = row(places.list, 1);
    let hint = "◈ in use    Tab lists trials and climbs";
    write(buffer, line, (line.x + 2, line.y), hint, theme.style(Role::Dim));
    if let Some(told) = &ledger.told {
        write_right(buffer, line, line.y, &format!(" {told}"), theme.style(Role::Good));
    }
    draw_cells(buffer, row(places.list, 2), |index| {
        (COLUMNS[index].0.to_owned(), theme.style(Role::Dim))
    });
    let zone = TimeZone::system();
    let selected = state.place(snapshot);
    let first = selected.saturating_sub(usize::from(places.lines.height.saturating_sub(1)));
    for (index, (at, view)) in snapshot
        .machine
        .profiles
        .iter()
        .enumerate()
        .skip(first)
        .enumerate()
        .take(usize::from(places.lines.height))
    {
        let line = row(places.lines, index as u16);
        if at == selected {
            buffer.set_style(line.intersection(buffer.area), theme.style(Role::Selected));
            write(buffer, line, (line.x, line.y), "▸", theme.style(Role::Accent));
        }
        draw_cells(buffer, line, |column| cell(view, column, theme, &zone));
    }
    draw_no_profile(buffer, places.lines, theme, snapshot, (selected, first));
    match state.selected(snapshot) {
        Some(view) => draw_detail(buffer, places.detail, theme, view, &zone),
        None if !snapshot.machine.profiles.is_empty() => {
            let space = panel(buffer, places.detail, theme, NO_PROFILE, "");
            let place = Rect { x: space.x + 2, width: space.width.saturating_sub(3), ..space };
            let text = "The card is at its factory settings and starts there, whatever was in use \
                        before. The profiles stay kept.";
            write_wrapped(buffer, place, text, theme.style(Role::Text));
        }
        None => {
            let text = "Nothing is kept on this card yet. A climb's outcome is kept with k in \
                        Climb, any trial with k where it is looked at, and i reads one from a file.";
            let space = places.lines;
            let place = Rect { x: space.x + 3, y: space.y + 1, ..space };
            let place = place.intersection(space);
            write_wrapped(buffer, place, text, theme.style(Role::Dim));
            panel(buffer, places.detail, theme, "Profile", "");
        }
    }
}

/// The line after the last profile: none of them.
const NO_PROFILE: &str = "no profile";

fn draw_no_profile(
    buffer: &mut Buffer,
    lines: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    (selected, first): (usize, usize),
) {
    let count = snapshot.machine.profiles.len();
    let line = row(lines, (count - first.min(count)) as u16);
    if count == 0 || line.is_empty() {
        return;
    }
    if selected == count {
        buffer.set_style(line.intersection(buffer.area), theme.style(Role::Selected));
        write(buffer, line, (line.x, line.y), "▸", theme.style(Role::Accent));
    }
    let is_used = snapshot.machine.profiles.iter().all(|view| !view.profile.in_use);
    let mark = if is_used { "◈" } else { " " };
    draw_cells(buffer, line, |column| match column {
        0 => (format!("{mark} {NO_PROFILE}"), theme.style(Role::Title)),
        4 => ("stock".to_owned(), theme.style(Role::Text)),
        _ => ("–".to_owned(), theme.style(Role::Dim)),
    });
}

/// The profile in the line at a place of the screen.
pub(crate) fn line_at(area: Rect, snapshot: &Snapshot, (x, y): (u16, u16)) -> Option<usize> {
    let lines = ledger::layout(area, false).lines;
    let place = usize::from(y.checked_sub(lines.y)?);
    let count = snapshot.machine.profiles.len();
    (lines.contains((x, y).into()) && count > 0 && place <= count).then_some(place)
}

/// Writes the cells of a line, each in its column, as far as there is room.
fn draw_cells(buffer: &mut Buffer, line: Rect, cell: impl Fn(usize) -> (String, Style)) {
    let mut x = line.x + 2;
    for (index, (_, width)) in COLUMNS.iter().enumerate() {
        let room = line.right().saturating_sub(x).min(*width);
        let place = Rect { x, width: room, ..line };
        let (text, style) = cell(index);
        write(buffer, place, (x, line.y), &cut(&text, room), style);
        x += width + 1;
    }
}

fn proof_style(proof: &Proof, theme: Theme) -> Style {
    theme.style(match proof {
        Proof::Proven(_) => Role::Good,
        Proof::Open { .. } => Role::Warn,
        Proof::Failed { .. } => Role::Bad,
    })
}

const fn proof_mark(proof: &Proof) -> &'static str {
    match proof {
        Proof::Proven(_) => "●",
        Proof::Open { .. } => "○",
        Proof::Failed { .. } => "✗",
    }
}

fn cell(view: &ProfileView, column: usize, theme: Theme, zone: &TimeZone) -> (String, Style) {
    let (profile, text) = (&view.profile, theme.style(Role::Text));
    match column {
        0 => {
            let mark = if profile.in_use { "◈" } else { " " };
            (format!("{mark} {}", profile.name), theme.style(Role::Title))
        }
        1 => {
            let label = format!("{} {}", proof_mark(&view.proof), view.proof.label());
            (label, proof_style(&view.proof, theme))
        }
        2 => (profile.margin.map_or("–".into(), |margin| margin.label().into()), text),
        3 => (when(profile.kept, zone), theme.style(Role::Dim)),
        _ => (view.what.clone(), text),
    }
}

fn draw_detail(buffer: &mut Buffer, area: Rect, theme: Theme, view: &ProfileView, zone: &TimeZone) {
    let profile = &view.profile;
    let driver =
        profile.driver.as_ref().map_or(String::new(), |driver| format!(", driver {driver}"));
    let aside = format!(
        "{}, {}{driver}",
        yard_step_words::origin(profile),
        when_in_full(profile.kept, zone)
    );
    let space = panel(buffer, area, theme, &profile.name, &aside);
    let mut rest = Rect { x: space.x + 2, width: space.width.saturating_sub(3).min(116), ..space };
    let mut say = |text: &str, style: Style| {
        let used = write_wrapped(buffer, rest, text, style).min(rest.height);
        rest = Rect { y: rest.y + used, height: rest.height - used, ..rest };
    };
    if !profile.purpose.is_empty() {
        say(&format!("For {}.", profile.purpose.trim_end_matches('.')), theme.style(Role::Accent));
    }
    say(&view.what, theme.style(Role::Clock));
    let proof = format!("{} {}: {}", proof_mark(&view.proof), view.proof.label(), view.why());
    say(&proof, proof_style(&view.proof, theme));
    let claimed = profile.margin.zip(profile.claimed);
    if let Some((margin, chance)) = claimed {
        say(&yard_step_words::kept_claim(margin, chance), theme.style(Role::Text));
    }
    match &view.drift {
        Some(drift) => say(
            &yard_step_words::drift(drift),
            theme.style(if drift.is_drifted { Role::Bad } else { Role::Good }),
        ),
        None => say(
            "Not run again since it was kept: r tries it again and shows any drift.",
            theme.style(Role::Dim),
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;

    const THEME: Theme = Theme::new(Depth::None);

    #[rstest]
    #[case(160, 47)]
    #[case(100, 27)]
    fn a_profile_is_shown_with_what_it_stands_on(#[case] width: u16, #[case] height: u16) {
        let (snapshot, states) = (snapshot(), (ProfilesState::default(), LedgerState::default()));
        let states = (&states.0, &states.1);
        let lines =
            drawn(width, height, |buffer, area| draw(buffer, area, THEME, &snapshot, states));
        let text = lines.join("\n");
        for part in ["◈ last autumn", "○ not proven", "core +45", "driver 0.9", "For winter."] {
            assert!(text.contains(part), "{part}: {text}");
        }
        let area = Rect::new(0, 0, width, height);
        assert_eq!(line_at(area, &snapshot, (5, 3)), Some(0));
        assert_eq!(line_at(area, &snapshot, (5, 4)), Some(1), "no profile");
        assert!(text.contains("no profile"), "{text}");
        assert_eq!(line_at(area, &snapshot, (5, 5)), None);
    }

    #[test]
    fn without_any_it_says_how_to_come_by_one_at_any_size() {
        let mut snapshot = snapshot();
        snapshot.machine.profiles.clear();
        let (state, ledger) = (ProfilesState::default(), LedgerState::default());
        for (width, height) in AWKWARD.into_iter().chain([(160, 47)]) {
            let lines = drawn(width, height, |buffer, area| {
                draw(buffer, area, THEME, &snapshot, (&state, &ledger));
            });
            assert_eq!(width == 160, lines.join("").contains("k where it is looked at"));
        }
    }
}
