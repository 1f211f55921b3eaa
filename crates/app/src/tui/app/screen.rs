//! The whole screen: header, view, footer, and what lies over them.
//!
//! ```text
//!  Yard Step  1 Survey  2 Climb          Test card · unit 7 · climb 2 · 60×
//!  ...
//!  ▲ Alarm: hot spot 91 °C is above the alarm at 90 °C.
//!  Enter try it  a auto-climb  ↑ higher  …
//! ```

use ratatui::buffer::Buffer;
use ratatui::crossterm::event::KeyCode;
use ratatui::layout::Rect;
use yard_step_core::printable;
use yard_step_engine::{Activity, Restart, Snapshot};

use crate::tui::app::state::State;
use crate::tui::keys::action::{Action, View};
use crate::tui::keys::binding::{Binding, key_name};
use crate::tui::keys::moment::Moment;
use crate::tui::keys::table::bindings_at;
use crate::tui::overlays::Overlay;
use crate::tui::overlays::draw::{Behind, draw_overlay};
use crate::tui::theme::{Role, Theme};
use crate::tui::views::climb::panel::Hit;
use crate::tui::views::ledger::browser::List;
use crate::tui::views::{
    air, artifacts, climb, ledger, profiles, proof, shape, survey, trace, weigh,
};
use crate::tui::widgets::{row, wrapped, write, write_right, write_wrapped};

/// Least size at which the views can be read.
pub const LEAST: (u16, u16) = (80, 24);

const NAME: &str = " Yard Step ";

/// From this width on, the header has room for a space before each tab.
const ROOMY: u16 = 120;

/// The space of the view: what header, message line and footer leave, less a margin at the right.
fn body(area: Rect) -> Rect {
    Rect {
        y: area.y + 1,
        width: area.width.saturating_sub(1),
        height: area.height.saturating_sub(3),
        ..area
    }
}

/// Most lines of a message.
const MOST_MESSAGE: usize = 4;

/// The line above the footer says, in whichever view the user is, what must not be missed: an alarm
/// as long as it lasts, else what became of a file, else the answer to the last command.
fn draw_message(buffer: &mut Buffer, line: Rect, theme: Theme, snapshot: &Snapshot, state: &State) {
    let (text, role) = match (snapshot.machine.alarms.as_slice(), &state.message, &snapshot.answer)
    {
        ([first, rest @ ..], ..) => {
            let more = match rest.len() {
                0 => String::new(),
                count => format!(" And {count} more."),
            };
            (format!("▲ Alarm: {first}.{more}"), Role::Bad)
        }
        ([], Some(message), _) => (message.clone(), Role::Accent),
        ([], None, Some(answer)) => (answer.clone(), Role::Good),
        ([], None, None) => return,
    };
    // One that needs more than the line takes some of the view's, until the next key.
    let lines = wrapped(&printable(&text), line.width.saturating_sub(2).into());
    let lines = &lines[..lines.len().min(MOST_MESSAGE)];
    for (up, text) in lines.iter().rev().enumerate() {
        let line = Rect { y: line.y.saturating_sub(up as u16), ..line };
        for position in line.intersection(buffer.area).positions() {
            buffer[position].reset();
            buffer[position].set_style(theme.ground());
        }
        write(buffer, line, (line.x + 1, line.y), text, theme.style(role));
    }
}

/// Draws everything.
pub fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, state: &State) {
    buffer.set_style(area, theme.ground());
    if area.width < LEAST.0 || area.height < LEAST.1 {
        draw_too_small(buffer, area, theme);
        return;
    }
    draw_header(buffer, row(area, 0), theme, snapshot, state.view);
    let moment = state.moment(snapshot);
    match state.view {
        View::Survey => survey::draw(buffer, body(area), theme, snapshot),
        View::Climb => match &snapshot.runs.free {
            Some(free) if climb::free::is_shown(snapshot, &state.free) => {
                climb::free::draw(buffer, body(area), theme, snapshot, free, &state.free);
            }
            _ => climb::draw(buffer, body(area), theme, snapshot, state.chart),
        },
        View::Trace => trace::draw(buffer, body(area), theme, snapshot, &state.trace),
        View::Artifacts => artifacts::draw(buffer, body(area), theme, snapshot, &state.artifacts),
        View::Proof => proof::draw(buffer, body(area), theme, snapshot, &state.proof),
        View::Weigh => weigh::draw(buffer, body(area), theme, &state.weigh),
        View::Air => air::draw(buffer, body(area), theme, snapshot, &state.air),
        View::Shape => shape::draw(buffer, body(area), theme, snapshot, &state.shape),
        View::Ledger if state.ledger.list() == List::Profiles => {
            let states = (&state.profiles, &state.ledger);
            profiles::draw(buffer, body(area), theme, snapshot, states);
        }
        View::Ledger => ledger::draw(buffer, body(area), theme, &state.ledger),
    }
    draw_message(buffer, row(area, area.height - 2), theme, snapshot, state);
    draw_footer(buffer, row(area, area.height - 1), theme, moment);
    if let Some(Overlay::Search { text, .. }) = &state.overlay {
        ledger::draw_typing(buffer, body(area), theme, &text.shown());
    } else if let Some(overlay) = &state.overlay {
        let behind = Behind { moment, snapshot, ledger: &state.ledger, shape: &state.shape };
        draw_overlay(buffer, area, theme, overlay, behind);
    }
}

fn draw_too_small(buffer: &mut Buffer, area: Rect, theme: Theme) {
    let text = format!(
        "Yard Step needs more room: {} columns and {} rows at least, and this terminal has {} and \
         {}. Make it larger, or leave with q.",
        LEAST.0, LEAST.1, area.width, area.height
    );
    let place = Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area };
    write_wrapped(buffer, place, &text, theme.style(Role::Text));
}

/// Where each view's tab lies in the header.
fn tabs(area: Rect) -> impl Iterator<Item = (View, u16, String)> {
    let mut x = area.x + NAME.len() as u16 + 1;
    View::ALL.into_iter().map(move |view| {
        let gap = if area.width < ROOMY { "" } else { " " };
        let text = format!("{gap}{} {} ", view.key(), view.label());
        let at = x;
        x += text.len() as u16;
        (view, at, text)
    })
}

fn draw_header(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, view: View) {
    buffer.set_style(area, theme.style(Role::Bar));
    write(
        buffer,
        area,
        (area.x, area.y),
        NAME,
        theme.style(Role::Accent).patch(theme.style(Role::Title)),
    );
    let mut end = area.x;
    for (tab, x, text) in tabs(area) {
        let style = if tab == view {
            theme.style(Role::Title).patch(theme.style(Role::Selected))
        } else {
            theme.style(Role::Dim)
        };
        end = write(buffer, area, (x, area.y), &text, style);
    }
    let doing = match (snapshot.runs.activity, snapshot.runs.auto) {
        (Activity::Waiting, _) if snapshot.machine.restart == Some(Restart::Down) => "machine down",
        (Activity::Waiting, false) => "waiting",
        (Activity::Waiting | Activity::Running, true) if snapshot.is_soaking() => "soaking",
        (Activity::Waiting, true) | (Activity::Running, true) => "auto-climb",
        (Activity::Running, false) => "running",
        (Activity::Paused, _) => "paused",
        (Activity::Gone, _) => "engine gone",
    };
    let card = &snapshot.machine.card;
    // A card that works by the clock on the wall has no pace.
    let pace = snapshot.runs.pace.map_or_else(String::new, |pace| format!(" · pace {pace}"));
    let long = format!(
        "{} · unit {} · climb {}{pace} · {doing} ",
        card.name, card.serial, snapshot.climb.number
    );
    let short = format!("{}{pace} · {doing} ", card.name);
    let shorter = format!("{} · {doing} ", card.name);
    let shortest = format!("{doing} ");
    let left = Rect { x: end, width: area.right().saturating_sub(end), ..area };
    let fits = |text: &String| text.chars().count() < usize::from(left.width);
    let text = [long, short, shorter].into_iter().find(fits).unwrap_or(shortest);
    write_right(buffer, left, area.y, &text, theme.style(Role::Text));
}

/// What the footer shows at a moment, with the place of each entry. Where there is too little room
/// the last entries go first, but never the way to all keys and the way out.
fn footer(area: Rect, moment: Moment) -> Vec<(u16, &'static Binding)> {
    let mut shown: Vec<&Binding> =
        bindings_at(moment).filter(|binding| binding.in_footer).collect();
    // What Enter does stands first.
    shown.sort_by_key(|binding| !binding.keys.contains(&KeyCode::Enter));
    let room = area.width.saturating_sub(1);
    while shown.iter().map(|binding| footer_width(binding)).sum::<u16>() > room + 2 {
        let dispensable = |b: &&Binding| !matches!(b.action, Action::Help | Action::Quit);
        let Some(last) = shown.iter().rposition(dispensable) else { break };
        shown.remove(last);
    }
    let mut x = area.x + 1;
    let place = |binding: &'static Binding| {
        let at = x;
        x += footer_width(binding);
        (at, binding)
    };
    shown.into_iter().map(place).collect()
}

fn footer_width(binding: &Binding) -> u16 {
    let key = binding.keys.first().map_or(0, |code| key_name(*code).chars().count());
    (key + 1 + binding.label.chars().count() + 2) as u16
}

fn draw_footer(buffer: &mut Buffer, area: Rect, theme: Theme, moment: Moment) {
    buffer.set_style(area, theme.style(Role::Bar));
    for (x, binding) in footer(area, moment) {
        let key = binding.keys.first().map_or(String::new(), |code| key_name(*code));
        let end = write(buffer, area, (x, area.y), &key, theme.style(Role::Accent));
        write(buffer, area, (end + 1, area.y), binding.label, theme.style(Role::Text));
    }
}

/// The action whose tab or footer entry lies at a place.
#[must_use]
pub fn action_at(
    area: Rect,
    state: &State,
    snapshot: &Snapshot,
    (x, y): (u16, u16),
) -> Option<Action> {
    let header = row(area, 0);
    if y == header.y {
        return tabs(header)
            .find(|(_, start, text)| (*start..*start + text.len() as u16).contains(&x))
            .map(|(view, ..)| Action::Show(view));
    }
    if y + 1 != area.bottom() {
        return None;
    }
    footer(row(area, area.height.saturating_sub(1)), state.moment(snapshot))
        .into_iter()
        .find(|(start, binding)| (*start..start + footer_width(binding)).contains(&x))
        .map(|(_, binding)| binding.action)
}

/// The line of Ledger's list at a place.
#[must_use]
pub fn line_at(area: Rect, state: &State, place: (u16, u16)) -> Option<usize> {
    ledger::line_at(body(area), &state.ledger, place)
}

/// The settings of Proof in the line at a place.
#[must_use]
pub fn candidate_at(
    area: Rect,
    state: &State,
    snapshot: &Snapshot,
    place: (u16, u16),
) -> Option<usize> {
    proof::draw::line_at(body(area), snapshot, &state.proof, place)
}

/// The profile in Ledger at a place.
#[must_use]
pub fn profile_at(area: Rect, snapshot: &Snapshot, place: (u16, u16)) -> Option<usize> {
    profiles::line_at(body(area), snapshot, place)
}

/// Voltage and clock in Shape's chart at a place, mV and MHz.
#[must_use]
pub fn shape_at(
    area: Rect,
    state: &State,
    snapshot: &Snapshot,
    place: (u16, u16),
) -> Option<(f64, f64)> {
    shape::at(body(area), snapshot, &state.shape, place)
}

/// Temperature and fan speed in Air's chart at a place, °C and %.
#[must_use]
pub fn air_at(
    area: Rect,
    state: &State,
    snapshot: &Snapshot,
    place: (u16, u16),
) -> Option<(f64, f64)> {
    air::at(body(area), snapshot, &state.air, place)
}

/// The point of the frontier in Weigh at a place.
#[must_use]
pub fn point_at(area: Rect, state: &State, place: (u16, u16)) -> Option<usize> {
    weigh::point_at(body(area), &state.weigh, place)
}

/// The value beside Shape's chart at a place.
#[must_use]
pub fn value_at(area: Rect, place: (u16, u16)) -> Option<usize> {
    shape::value_at(body(area), place)
}

/// Share of the time shown in Trace at a place of the screen, if it lies in its strips.
#[must_use]
pub fn share_at(area: Rect, place: (u16, u16)) -> Option<f64> {
    trace::share_at(body(area), place)
}

/// Share of the time shown in Trace that one column of the screen is.
#[must_use]
pub fn column_share(area: Rect) -> f64 {
    trace::column_share(body(area))
}

/// What lies in the settings of a free run at a place.
pub(crate) fn free_setting_at(
    area: Rect,
    state: &State,
    snapshot: &Snapshot,
    place: (u16, u16),
) -> Option<Hit> {
    let is_there = state.view == View::Climb && climb::free::is_shown(snapshot, &state.free);
    is_there.then(|| climb::free::hit(body(area), snapshot, place)).flatten()
}

/// The trial whose step lies at a place.
#[must_use]
pub fn trial_at(area: Rect, state: &State, snapshot: &Snapshot, place: (u16, u16)) -> Option<u32> {
    let is_shown = state.view == View::Climb;
    is_shown.then(|| climb::trial_at(body(area), snapshot, state.chart, place)).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{limit_tables, snapshot, snapshot_with_limits};
    use crate::tui::keys::table::{bindings, help_with_view};
    use crate::tui::overlays::limits::LimitsForm;
    use crate::tui::overlays::machine::Form;
    use crate::tui::overlays::profile_forms::keep_form;
    use crate::tui::overlays::settings::SettingsForm;
    use crate::tui::overlays::{FileUse, path_of};
    use crate::tui::theme::Depth;
    use crate::tui::widgets::entry::Entry;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;
    use yard_step_engine::KeepWhat;

    const THEME: Theme = Theme::new(Depth::None);

    fn shown(width: u16, height: u16, state: &State) -> Vec<String> {
        let snapshot = snapshot();
        drawn(width, height, |buffer, area| draw(buffer, area, THEME, &snapshot, state))
    }

    #[test]
    fn header_and_footer_tell_where_one_is_and_what_can_be_done() {
        let lines = shown(160, 50, &State::new(View::Climb));
        assert!(
            lines[0].starts_with(
                " Yard Step   1 Survey  2 Climb  3 Trace  4 Shape  5 Air  6 Proof  7 Weigh  8 Ledger"
            ),
            "{}",
            lines[0]
        );
        assert!(lines[0].ends_with("Test card · unit 7 · climb 2 · pace 60× · waiting"));
        assert!(lines[49].starts_with(" Enter try it  a auto-climb  ↑ higher"), "{}", lines[49]);
        assert!(lines[49].ends_with("q quit"), "{}", lines[49]);
    }

    #[rstest]
    #[case(100)]
    #[case(80)]
    fn a_narrow_footer_still_shows_the_way_to_all_keys_and_the_way_out(#[case] width: u16) {
        let lines = shown(width, 30, &State::new(View::Climb));
        assert!(lines[29].starts_with(" Enter try it"), "{}", lines[29]);
        assert!(lines[29].ends_with("? keys  q quit"), "{}", lines[29]);
    }

    #[rstest]
    #[case(60, 15)]
    #[case(79, 50)]
    #[case(160, 23)]
    fn a_terminal_too_small_is_asked_to_grow(#[case] width: u16, #[case] height: u16) {
        let lines = shown(width, height, &State::new(View::Climb));
        let text = lines.iter().map(|line| line.trim()).collect::<Vec<_>>().join(" ");
        assert!(text.contains("needs more room: 80 columns and 24 rows"), "{text}");
        assert!(text.contains(&format!("this terminal has {width} and")), "{text}");
    }

    #[test]
    fn the_keys_of_a_view_stand_under_its_name_and_the_others_beside_them() {
        let mut snapshot = snapshot();
        let mut card = (*snapshot.machine.card).clone();
        card.curve = Some(crate::tui::fixtures::curve_offer());
        snapshot.machine.card = std::sync::Arc::new(card);
        let state = State { overlay: Some(Overlay::Keys), ..State::new(View::Shape) };
        let lines = drawn(160, 50, |buffer, area| draw(buffer, area, THEME, &snapshot, &state));
        let column = |text: &str| lines.iter().find_map(|line| line.find(text)).unwrap();
        let heading = lines.iter().find(|line| line.contains("Climb and card")).unwrap();
        let middle = heading.find("Climb and card").unwrap();
        assert!(column("flatten everything to the right") < middle, "{lines:#?}");
        assert!(column("choose another card of this machine") >= middle, "{lines:#?}");
    }

    #[test]
    fn the_keys_that_work_here_are_all_on_one_screen_in_every_view() {
        for (view, (width, height)) in
            View::ALL.into_iter().flat_map(|view| [(view, (160, 50)), (view, (100, 30))])
        {
            let state = State { overlay: Some(Overlay::Keys), ..State::new(view) };
            let text = shown(width, height, &state).join("\n");
            assert!(text.contains("? all keys   Esc close"), "{view:?} {width}: {text}");
            let moment = state.moment(&snapshot());
            for binding in bindings_at(moment) {
                let is_told = text.contains(&key_name(binding.keys[0]));
                assert!(is_told, "{view:?} {width}: {}", binding.label);
            }
        }
    }

    #[test]
    fn help_lists_every_action_of_the_table() {
        for (width, height) in [(160, 50), (100, 30), (80, 26)] {
            let from = |first| {
                let overlay = Some(Overlay::Help(first));
                shown(width, height, &State { overlay, ..State::new(View::Climb) }).join("\n")
            };
            let text = (0..bindings().count()).map(from).collect::<String>();
            for binding in bindings() {
                let words: String = help_with_view(binding).chars().take(40).collect();
                assert!(text.contains(&words), "{width}x{height}: {words}");
            }
        }
    }

    #[test]
    fn overlays_fit_any_screen() {
        let with_limits = snapshot_with_limits(limit_tables((300.0, 250.0), (330.0, 275.0)));
        let overlays = [
            Overlay::Help(0),
            Overlay::Mark { climb: 1, trial: 2, chosen: 9 },
            keep_form("a name".into(), KeepWhat::Outcome),
            keep_form("a name".into(), KeepWhat::Trial { climb: 1, trial: 2 }),
            Overlay::Value { text: Entry::new("2010", 9), label: "clock at 900 mV".into() },
            path_of(FileUse::Export, "a.csv".into()),
            Overlay::Cards(1),
            Overlay::Machine(Form::of(&snapshot().machine.said, &snapshot().machine.card, 700)),
            Overlay::Settings(Box::new(SettingsForm::of(&snapshot().machine.card, None))),
            Overlay::Limits(Box::new(LimitsForm::of(&with_limits).unwrap())),
            Overlay::Say(3),
            path_of(FileUse::Picture, "a.png".into()),
        ];
        for overlay in overlays {
            let state = State { overlay: Some(overlay), ..State::new(View::Survey) };
            for (width, height) in AWKWARD.into_iter().chain([(80, 24), (160, 50)]) {
                shown(width, height, &state);
            }
        }
    }
}
