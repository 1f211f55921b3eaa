//! How what lies over a view is drawn: a box in the middle of the screen.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use strum::VariantNames as _;
use yard_step_core::Verdict;
use yard_step_engine::{KeepWhat, Snapshot};
use yard_step_report::PagePart;

use crate::tui::keys::action::Action;
use crate::tui::keys::binding::Binding;
use crate::tui::keys::moment::Moment;
use crate::tui::keys::table::{bindings, bindings_at, help_with_view, is_of};
use crate::tui::overlays::fields::Fields;
use crate::tui::overlays::limits::LimitsForm;
use crate::tui::overlays::load_list::{self, LoadList};
use crate::tui::overlays::machine::Form;
use crate::tui::overlays::settings::{SettingsForm, taken_in_words};
use crate::tui::overlays::{FileUse, Overlay, SAYABLE, stages};
use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::views::climb::panel::SettingsPanel;
use crate::tui::views::ledger::state::LedgerState;
use crate::tui::views::shape::state::ShapeState;
use crate::tui::widgets::{cut, next_step, wrapped, write};

/// Lines of an overlay with their styles.
type Lines = Vec<(String, Style)>;

/// What lies behind an overlay, and what it tells of that.
#[derive(Clone, Copy)]
pub(crate) struct Behind<'a> {
    pub moment: Moment,
    pub snapshot: &'a Snapshot,
    pub ledger: &'a LedgerState,
    pub shape: &'a ShapeState,
}

/// Draws an overlay.
pub(crate) fn draw_overlay(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    overlay: &Overlay,
    Behind { moment, snapshot, ledger, shape }: Behind<'_>,
) {
    let (heading, lines) = match overlay {
        Overlay::Keys => ("What you can do here", keys_lines(theme, moment, area.width)),
        Overlay::Help(first) => ("All keys", help_lines(theme, moment, *first, area.height)),
        Overlay::Ask(question) => ("One question", {
            let mut lines = vec![(question.what.clone(), theme.style(Role::Title))];
            lines.extend(
                wrapped(&question.consequence, 62)
                    .into_iter()
                    .map(|l| (l, theme.style(Role::Text))),
            );
            lines.push((String::new(), Style::new()));
            lines.push(("y or Enter yes   n or Esc no".into(), theme.style(Role::Accent)));
            lines
        }),
        Overlay::Mark { trial, chosen, .. } => ("Your verdict", mark_lines(theme, *trial, *chosen)),
        Overlay::Note { text, .. } => ("Note", note_lines(theme, &text.shown())),
        Overlay::Filter(chosen) => ("What is listed", filter_lines(theme, *chosen, ledger)),
        // Drawn where the list tells what it is searched for.
        Overlay::Search { .. } => return,
        Overlay::Keep { form, what } => {
            let told = match what {
                KeepWhat::Outcome => "The outcome is kept under this name and applied.",
                KeepWhat::Trial { .. } => {
                    "The trial's settings are kept under this name; the card stays as it is."
                }
                KeepWhat::Settings(_) => {
                    "The settings on screen are kept under this name; the card stays as it is."
                }
            };
            ("Keep as a profile", fields_lines(theme, form, told, "Enter keep   Esc cancel"))
        }
        Overlay::Noise(form) => {
            let told = "Measure where you sit, with the fan at that speed, or judge by ear.";
            ("How loud is the fan?", fields_lines(theme, form, told, "Enter note   Esc cancel"))
        }
        Overlay::Budget(form) => {
            let told = "Empty: as quiet as keeps the clock, in the machine's room, under the hottest load.";
            ("Noise budget", fields_lines(theme, form, told, "Enter set   Esc cancel"))
        }
        Overlay::WeighNotes(form) => {
            let told = "What energy costs, and a score of another card or of an earlier time to hold beside. \
                        A name without a score takes that one away.";
            ("Beside before and after", fields_lines(theme, form, told, "Enter note   Esc cancel"))
        }
        Overlay::Page(form) => {
            let told = format!(
                "What was changed, what it brought and how sure that is: a new file that ends in .svg, .pdf, .md, \
                 .html or .txt. Parts, in any order: {}.",
                PagePart::VARIANTS.join(", ")
            );
            ("Write the page", fields_lines(theme, form, &told, "Enter write   Esc cancel"))
        }
        Overlay::Prove { form, what } => {
            let told = format!(
                "What is proven: {what}. It runs by itself from here on. Shares: lantern:3. \
                 Reserve: what runs is bolder than what is proven."
            );
            ("Soak these settings", fields_lines(theme, form, &told, "Enter begin   Esc cancel"))
        }
        Overlay::ImportProfile(form) => {
            let told = "Each setting goes that share of its way back to stock. What its maker proved \
                        proves nothing on this card.";
            ("Import a profile", fields_lines(theme, form, told, "Enter read   Esc cancel"))
        }
        Overlay::FanValue { text, label } => (
            "A fan speed",
            vec![
                (format!("The {label}."), theme.style(Role::Text)),
                (String::new(), Style::new()),
                (text.shown(), theme.style(Role::Title)),
                ("Enter set   Esc cancel".into(), theme.style(Role::Accent)),
            ],
        ),
        Overlay::Value { text, label } => (
            "A number",
            vec![
                (format!("The {label}."), theme.style(Role::Text)),
                (String::new(), Style::new()),
                (text.shown(), theme.style(Role::Title)),
                (shape.preview(snapshot, text.text()), theme.style(Role::Warn)),
                ("Enter set   Esc cancel".into(), theme.style(Role::Accent)),
            ],
        ),
        Overlay::FreeValue { text, label } => {
            let offers = &snapshot.machine.card.offers;
            let offer = offers.iter().find(|offer| offer.kind.label() == *label);
            let typed = text.trimmed();
            let preview = match (offer, typed.parse::<f64>()) {
                _ if typed.is_empty() => String::new(),
                (Some(offer), Ok(value)) => taken_in_words(offer, value),
                _ => format!("\"{typed}\" is not a number: nothing would change."),
            };
            (
                "While the load runs",
                vec![
                    (format!("The {label}."), theme.style(Role::Text)),
                    (String::new(), Style::new()),
                    (text.shown(), theme.style(Role::Title)),
                    (preview, theme.style(Role::Warn)),
                    ("Enter apply   Esc cancel".into(), theme.style(Role::Accent)),
                ],
            )
        }
        Overlay::Loads(chosen) => ("Free run", load_lines(theme, *chosen, snapshot)),
        Overlay::LoadList(list) => {
            let heading = if matches!(list, LoadList::Add(_)) {
                "A load of your own"
            } else {
                "Loads of the climb"
            };
            (heading, load_list::lines(theme, list, snapshot, area.width))
        }
        Overlay::Path { what, text } => path_lines(theme, *what, &text.shown()),
        Overlay::Cards(chosen) => ("Cards of this machine", card_lines(theme, *chosen, snapshot)),
        Overlay::Machine(form) => ("This machine", form_lines(theme, form)),
        Overlay::Limits(form) => ("Limit table", limits_lines(theme, form, area.width)),
        Overlay::Say(chosen) => ("Your verdict", say_lines(theme, *chosen)),
        // Beside the clock line, which goes on.
        Overlay::Score { verdict, text, problem } => (
            "Figures of this run",
            vec![
                (
                    format!("You say: {verdict}. Which figures did your program give?"),
                    theme.style(Role::Text),
                ),
                (
                    "A score, as in 8120, or several with names: hammer 812, fps 61, low fps 48."
                        .into(),
                    theme.style(Role::Dim),
                ),
                (
                    "Higher is better. Leave it empty if it gave none.".into(),
                    theme.style(Role::Dim),
                ),
                (String::new(), Style::new()),
                (text.shown(), theme.style(Role::Title)),
                (problem.clone().unwrap_or_default(), theme.style(Role::Bad)),
                ("Enter end the run   Esc go on".into(), theme.style(Role::Accent)),
            ],
        ),
        Overlay::Settings(form) => return draw_settings(buffer, area, theme, form, snapshot),
        Overlay::Stages(chosen) => {
            let lines = stages::lines(theme, *chosen, snapshot, area.width);
            ("Stages of the climb", lines)
        }
    };
    let focus = lines.iter().position(|(line, _)| line.starts_with('▸')).unwrap_or(0);
    let until = match overlay {
        // What cannot be chosen stands behind the last line that can.
        Overlay::Stages(chosen) if stages::is_last(*chosen, snapshot) => lines.len(),
        _ => focus,
    };
    draw_box(buffer, area, theme, heading, &fitting(lines, area.height, focus, until));
}

/// The loads a free run can have, each with what it asks of a card.
fn load_lines(theme: Theme, chosen: usize, snapshot: &Snapshot) -> Lines {
    let line = |(index, name): (usize, &String)| {
        let pointer = if index == chosen { "▸" } else { " " };
        let what = load_list::kind_of(name).unwrap_or("a program of yours");
        let of_plan = if *name == snapshot.climb.plan.scene { "the plan's" } else { "" };
        let style = theme.style(Role::Text);
        let style = if index == chosen { style.patch(theme.style(Role::Selected)) } else { style };
        (format!("{pointer} {name:<12} {what:<44} {of_plan}"), style)
    };
    let mut lines: Lines = snapshot.runs.loads.iter().enumerate().map(line).collect();
    lines.insert(
        0,
        (
            "It runs until you stop it. You can change settings while it runs.".into(),
            theme.style(Role::Text),
        ),
    );
    lines.insert(1, (String::new(), Style::new()));
    lines.push((String::new(), Style::new()));
    lines.push(("↑ ↓ load   Enter begin   Esc cancel".into(), theme.style(Role::Accent)));
    lines
}

/// As many of the lines as fit, the focused one among them and those `until` another one as far as there is room, and
/// always the last, which tells the keys.
fn fitting(mut lines: Lines, height: u16, focus: usize, until: usize) -> Lines {
    let room = usize::from(height.saturating_sub(4)).max(2);
    if lines.len() <= room {
        return lines;
    }
    let last = lines.pop();
    let first = (until + 2).saturating_sub(room - 1).min(lines.len() - (room - 1)).min(focus);
    lines.into_iter().skip(first).take(room - 1).chain(last).collect()
}

/// A box in the middle of the screen, as large as its lines need.
fn draw_box(buffer: &mut Buffer, area: Rect, theme: Theme, heading: &str, lines: &Lines) {
    let longest = lines.iter().map(|(line, _)| line.chars().count()).max().unwrap_or(0);
    let width = (longest.max(heading.chars().count()) as u16 + 6).min(area.width);
    let height = (lines.len() as u16 + 4).min(area.height);
    let place = Rect {
        x: area.x + (area.width - width) / 2,
        y: area.y + (area.height - height) / 2,
        width,
        height,
    };
    clear(buffer, place, theme);
    let edge = theme.style(Role::Accent);
    write(buffer, place, (place.x + 3, place.y + 1), heading, edge);
    for (index, (line, style)) in lines.iter().enumerate() {
        let y = place.y + 3 + index as u16;
        if y < place.bottom() {
            write(
                buffer,
                Rect { width: width.saturating_sub(2), ..place },
                (place.x + 3, y),
                line,
                *style,
            );
        }
    }
}

fn fields_lines(theme: Theme, form: &Fields, told: &str, keys: &str) -> Lines {
    let mut lines: Lines =
        wrapped(told, 66).into_iter().map(|line| (line, theme.style(Role::Text))).collect();
    lines.push((" ".repeat(66), Style::new()));
    lines.extend(form.lines().map(|(line, chosen)| {
        let style = theme.style(if chosen { Role::Title } else { Role::Text });
        (line, style)
    }));
    lines.push((form.problem.clone().unwrap_or_default(), theme.style(Role::Bad)));
    lines.push((format!("↑ ↓ line   {keys}"), theme.style(Role::Accent)));
    lines
}

fn path_lines(theme: Theme, what: FileUse, text: &str) -> (&'static str, Lines) {
    let (heading, first, last) = match what {
        FileUse::Export => (
            "Export the trace",
            "The stretch that is shown is written as CSV, ten samples a second.",
            "Enter write   Esc cancel",
        ),
        FileUse::List => (
            "Export the list",
            "The trials that are listed are written as CSV, in their order.",
            "Enter write   Esc cancel",
        ),
        FileUse::Chart => (
            "Save the chart",
            "What is shown is drawn into a new file that ends in .svg or .pdf.",
            "Enter save   Esc cancel",
        ),
        FileUse::Profile => (
            "Export the profile",
            "Settings, purpose and evidence are written as JSON, for others to begin with.",
            "Enter write   Esc cancel",
        ),
        FileUse::Picture => (
            "Export the pictures",
            "Frame, reference and difference are written side by side as PNG.",
            "Enter write   Esc cancel",
        ),
        FileUse::Import => (
            "Import a trace",
            "A CSV file: columns are told by their headers, units converted.",
            "Enter read   Esc cancel",
        ),
    };
    let lines = vec![
        (first.to_owned(), theme.style(Role::Text)),
        (String::new(), Style::new()),
        (format!("file: {text}"), theme.style(Role::Title)),
        (String::new(), Style::new()),
        (last.to_owned(), theme.style(Role::Accent)),
    ];
    (heading, lines)
}

fn card_lines(theme: Theme, chosen: usize, snapshot: &Snapshot) -> Lines {
    let mut lines: Lines = snapshot
        .machine
        .rack
        .iter()
        .enumerate()
        .map(|(index, entry)| {
            let pointer = if index == chosen { "▸" } else { " " };
            let standing = match (index == snapshot.machine.present, entry.in_step) {
                (true, _) => "present",
                (false, true) => "in step",
                (false, false) => "",
            };
            let card = &entry.card;
            let (memory, _) = snapshot.machine.said.memory_of(card);
            let text = format!(
                "{pointer} {:<14} unit {:<6} {memory:<16} driver {:<5} {standing}",
                card.name, card.serial, card.driver
            );
            let style = theme.style(Role::Text);
            let selected = style.patch(theme.style(Role::Selected));
            (text, if index == chosen { selected } else { style })
        })
        .collect();
    lines.push((String::new(), Style::new()));
    lines.push((
        "Enter choose   i hold in step, or let go   Esc cancel".into(),
        theme.style(Role::Accent),
    ));
    lines
}

/// The form of the settings, in the right column of Climb.
fn draw_settings(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    form: &SettingsForm,
    snapshot: &Snapshot,
) {
    let keys = [
        "← → step · PgUp PgDn ten · 0-9 type",
        "s stock · c fan curve",
        "Enter try next · Esc cancel",
    ];
    let width = (area.width * 3 / 8).clamp(44, 62).min(area.width);
    let rows = snapshot.machine.card.offers.len() as u16;
    let height = (rows + 6 + keys.len() as u16).min(area.height);
    let place = Rect {
        x: area.right() - width,
        y: area.y + (next_step::HEIGHT + 1).min(area.height.saturating_sub(height)),
        width,
        height,
    };
    clear(buffer, place, theme);
    let accent = theme.style(Role::Accent);
    write(buffer, place, (place.x + 2, place.y + 1), "Settings of your own", accent);
    let space =
        Rect { x: place.x + 1, y: place.y + 2, width: width.saturating_sub(1), height: rows + 2 };
    let space = space.intersection(place);
    let asked = form.settings();
    let (held, chosen) = (snapshot.machine.held, form.chosen());
    SettingsPanel { snapshot, asked: &asked, held, chosen }.draw_lines(buffer, space, theme);
    let typed = form.typing().map_or(String::new(), |typed| format!("{typed}  {}", form.preview()));
    let below = place.y + 4 + rows;
    write(
        buffer,
        place,
        (place.x + 2, below),
        &cut(&typed, width.saturating_sub(4)),
        theme.style(Role::Warn),
    );
    for (index, line) in keys.iter().enumerate() {
        write(buffer, place, (place.x + 2, below + 1 + index as u16), line, accent);
    }
}

/// Clears the space of an overlay: what lies below must not shine through, its bold and dim included.
fn clear(buffer: &mut Buffer, place: Rect, theme: Theme) {
    for position in place.intersection(buffer.area).positions() {
        buffer[position].reset();
        buffer[position].set_style(theme.ground().patch(theme.style(Role::Bar)));
    }
    for y in place.top()..place.bottom() {
        write(buffer, place, (place.x, y), "▌", theme.style(Role::Accent));
    }
}

fn note_lines(theme: Theme, text: &str) -> Lines {
    let mut lines: Lines =
        wrapped(text, 70).into_iter().map(|line| (line, theme.style(Role::Title))).collect();
    lines.push((" ".repeat(70), Style::new()));
    lines.push(("Enter save   Esc cancel".into(), theme.style(Role::Accent)));
    lines
}

fn filter_lines(theme: Theme, chosen: usize, ledger: &LedgerState) -> Lines {
    let row = |(index, (name, value)): (usize, (&str, String))| {
        let pointer = if index == chosen { "▸" } else { " " };
        let style =
            theme.style(if value == "any" || value == "no" { Role::Text } else { Role::Clock });
        let selected = style.patch(theme.style(Role::Selected));
        let text = format!("{pointer} {name:<10} ‹ {value} ›");
        (text, if index == chosen { selected } else { style })
    };
    let mut lines: Lines = ledger.filter_lines().into_iter().enumerate().map(row).collect();
    lines.push((String::new(), Style::new()));
    let help = "↑ ↓ line   ← → choose   Backspace show all   Enter close";
    lines.push((help.into(), theme.style(Role::Accent)));
    lines
}

fn form_lines(theme: Theme, form: &Form) -> Lines {
    let mut lines: Lines = form
        .lines()
        .map(|(line, chosen)| {
            let style = theme.style(Role::Text);
            (line, if chosen { style.patch(theme.style(Role::Selected)) } else { style })
        })
        .collect();
    let problem = form.problem.clone().unwrap_or_default();
    lines.push((problem, theme.style(Role::Bad)));
    lines.push((
        "↑ ↓ line   ← → choose   Enter save   Esc cancel".into(),
        theme.style(Role::Accent),
    ));
    lines
}

/// Widest line of what is said of a limit.
const MOST_ABOUT: usize = 96;

fn limits_lines(theme: Theme, form: &LimitsForm, width: u16) -> Lines {
    let style = |is_chosen: bool| {
        let style = theme.style(Role::Text);
        if is_chosen { style.patch(theme.style(Role::Selected)) } else { style }
    };
    let mut lines: Lines =
        form.lines().into_iter().map(|(line, chosen)| (line, style(chosen))).collect();
    lines.push((String::new(), Style::new()));
    let room = usize::from(width.saturating_sub(9)).min(MOST_ABOUT);
    let about = form.about();
    let about = about.iter().flat_map(|line| wrapped(line, room));
    lines.extend(about.map(|line| (line, theme.style(Role::Dim))));
    lines.push((String::new(), Style::new()));
    for keys in [
        "↑ ↓ line   ← → 1 %   PgUp PgDn 5 %   f current follows the power",
        "m maker's table   a the one taken away last   Enter write   Esc cancel",
    ] {
        lines.push((keys.into(), theme.style(Role::Accent)));
    }
    lines
}

/// From this width on, there is room for two columns of whole sentences.
const WIDE: u16 = 150;

/// Keys that work at the moment: those of the view beside those of the climb and the card. The views'
/// own keys are in the first line of the screen.
fn keys_lines(theme: Theme, moment: Moment, width: u16) -> Lines {
    let (of_view, of_many): (Vec<&Binding>, Vec<&Binding>) = bindings_at(moment)
        .filter(|binding| !matches!(binding.action, Action::Show(_) | Action::Help))
        .partition(|binding| is_of(moment.view, binding));
    let column = usize::from(width.saturating_sub(9) / 2).min(70);
    let line = |binding: Option<&&Binding>| {
        let Some(binding) = binding else { return String::new() };
        let words = if width < WIDE { binding.label } else { binding.help };
        cut(&format!("{:<6} {words}", binding.keys_in_words()), column.saturating_sub(2) as u16)
    };
    let heading = format!("{:<column$}{}", moment.view.label(), "Climb and card");
    let mut lines: Lines = vec![(heading, theme.style(Role::Title))];
    for index in 0..of_view.len().max(of_many.len()) {
        let (left, right) = (line(of_view.get(index)), line(of_many.get(index)));
        lines.push((format!("{left:<column$}{right}"), theme.style(Role::Text)));
    }
    lines.push(("? all keys   Esc close".into(), theme.style(Role::Accent)));
    lines
}

/// As much of the table as fits from line `first` on, what can be done now before what cannot; and,
/// where that is not all, how to see more.
fn help_lines(theme: Theme, moment: Moment, first: usize, height: u16) -> Lines {
    let room = usize::from(height.saturating_sub(4)).max(2);
    let count = bindings().count();
    let fits = count <= room;
    let shown = if fits { room } else { room - 1 };
    let first = if fits { 0 } else { first.min(count - shown) };
    let applies = |binding: &&Binding| (binding.applies)(moment);
    let (now, not_now): (Vec<&Binding>, Vec<&Binding>) = bindings().partition(applies);
    let mut lines: Lines = now
        .into_iter()
        .chain(not_now)
        .skip(first)
        .take(shown)
        .map(|binding| {
            let role = if (binding.applies)(moment) { Role::Text } else { Role::Dim };
            let help = help_with_view(binding);
            (format!("{:<8} {help}", binding.keys_in_words()), theme.style(role))
        })
        .collect();
    if !fits {
        let text = format!("↑ ↓ more: {} to {} of {}", first + 1, first + shown, count);
        lines.push((text, theme.style(Role::Accent)));
    }
    lines
}

fn say_lines(theme: Theme, chosen: usize) -> Lines {
    let mut lines = vec![
        ("What did you see? Your answer ends the run.".to_owned(), theme.style(Role::Title)),
        (String::new(), Style::new()),
    ];
    for (index, verdict) in SAYABLE.into_iter().enumerate() {
        let style = theme.verdict(verdict);
        let (pointer, style) = if index == chosen {
            ("▸", style.patch(theme.style(Role::Selected)))
        } else {
            (" ", style)
        };
        lines.push((format!("{pointer} {} {verdict}", glyph(verdict)), style));
    }
    lines.push((String::new(), Style::new()));
    lines.push(("↑ ↓ choose   Enter say it   Esc cancel".into(), theme.style(Role::Accent)));
    lines
}

fn mark_lines(theme: Theme, trial: u32, chosen: usize) -> Lines {
    let mut lines = vec![
        (format!("What did you see in trial {trial}?"), theme.style(Role::Title)),
        (String::new(), Style::new()),
    ];
    let selected = |index: usize, style: Style| {
        if index == chosen { style.patch(theme.style(Role::Selected)) } else { style }
    };
    for (index, verdict) in Verdict::ALL.into_iter().enumerate() {
        let pointer = if index == chosen { "▸" } else { " " };
        let text = format!("{pointer} {} {verdict}", glyph(verdict));
        lines.push((text, selected(index, theme.verdict(verdict))));
    }
    let own = Verdict::ALL.len();
    let pointer = if chosen == own { "▸" } else { " " };
    lines.push((
        format!("{pointer}   as the tool judged it"),
        selected(own, theme.style(Role::Text)),
    ));
    lines.push((String::new(), Style::new()));
    lines.push(("↑ ↓ choose   Enter mark   Esc cancel".into(), theme.style(Role::Accent)));
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{free_snapshot, snapshot};
    use crate::tui::overlays::{free_value, score_of};
    use crate::tui::theme::Depth;
    use crate::tui::widgets::entry::Entry;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use ratatui::crossterm::event::KeyCode;
    use rstest::rstest;

    const THEME: Theme = Theme::new(Depth::None);

    fn shown(overlay: &Overlay, snapshot: &Snapshot, width: u16, height: u16) -> Vec<String> {
        let state = crate::tui::app::state::State::new(crate::tui::keys::action::View::Climb);
        let behind = Behind {
            moment: state.moment(snapshot),
            snapshot,
            ledger: &state.ledger,
            shape: &state.shape,
        };
        drawn(width, height, |buffer, area| draw_overlay(buffer, area, THEME, overlay, behind))
    }

    fn lines(count: usize) -> Lines {
        (0..count).map(|index| (index.to_string(), Style::new())).collect()
    }

    #[rstest]
    #[case::all_fit(5, 12, 0, 0, &["0", "1", "2", "3", "4"])]
    #[case::the_first(9, 8, 0, 0, &["0", "1", "2", "8"])]
    #[case::around_the_focus(9, 8, 5, 5, &["4", "5", "6", "8"])]
    #[case::the_last(9, 8, 8, 8, &["5", "6", "7", "8"])]
    #[case::what_stands_behind_the_focus(9, 8, 5, 9, &["5", "6", "7", "8"])]
    #[case::no_further_than_the_focus(12, 8, 5, 12, &["5", "6", "7", "11"])]
    #[case::hardly_any_room(9, 2, 3, 3, &["3", "8"])]
    fn as_many_lines_as_fit_with_the_focus_and_always_the_keys(
        #[case] count: usize,
        #[case] height: u16,
        #[case] focus: usize,
        #[case] until: usize,
        #[case] expected: &[&str],
    ) {
        let left: Vec<String> =
            fitting(lines(count), height, focus, until).into_iter().map(|(line, _)| line).collect();
        assert_eq!(left, expected);
    }

    fn form(keys: &[KeyCode]) -> Overlay {
        use crate::tui::overlays::settings::Chosen;
        let form = SettingsForm::of(&snapshot().machine.card, None);
        let form = keys.iter().fold(form, |form, key| match form.key(*key) {
            Chosen::NotYet(form) => form,
            Chosen::Done(settings) => panic!("done with {settings:?}"),
        });
        Overlay::Settings(Box::new(form))
    }

    #[rstest]
    #[case(160, 50, 98)]
    #[case(100, 30, 55)]
    fn the_settings_stand_in_the_right_column_and_leave_the_clock_line_free(
        #[case] width: u16,
        #[case] height: u16,
        #[case] from: usize,
    ) {
        let lines = shown(&form(&[KeyCode::Down, KeyCode::Char('7')]), &snapshot(), width, height);
        for line in &lines {
            let first = line.chars().position(|character| character != ' ').unwrap_or(from);
            assert!(first >= from, "{line}");
        }
        let text = lines.join("\n");
        assert!(
            text.contains("Settings of your own") && text.contains("▸ core clock offset"),
            "{text}"
        );
        assert!(text.contains("7▏  7 → ±0 MHz, in steps of 15 MHz"), "{text}");
        assert!(text.contains("Enter try next · Esc cancel"), "{text}");
    }

    #[rstest]
    #[case("90", "90 → +90 MHz")]
    #[case("999", "999 → +300 MHz, the card's maximum")]
    #[case("fast", "\"fast\" is not a number: nothing would change.")]
    fn what_a_free_run_would_take_is_told_before_enter(#[case] typed: &str, #[case] told: &str) {
        let Overlay::FreeValue { label, .. } = free_value("core clock offset") else { panic!() };
        let overlay = Overlay::FreeValue { text: Entry::new(typed, 10), label };
        let text = shown(&overlay, &free_snapshot(), 100, 30).join("\n");
        assert!(text.contains("While the load runs") && text.contains(told), "{text}");
    }

    #[test]
    fn the_loads_are_listed_with_what_they_ask_and_which_is_the_plans() {
        let text = shown(&Overlay::Loads(1), &snapshot(), 100, 30).join("\n");
        let line = |what: &str| text.lines().find(|line| line.contains(what)).unwrap();
        assert!(line("kiln").contains("▸ kiln") && line("kiln").contains("most heat"), "{text}");
        assert!(!line("medley").contains('▸'), "{text}");
        assert!(text.contains("Enter begin"), "{text}");
    }

    #[test]
    fn a_score_is_asked_for_with_what_was_said_and_a_wrong_one_is_named() {
        let overlay = Overlay::Score {
            verdict: Verdict::Clean,
            text: Entry::new("fast", 12),
            problem: Some("\"fast\" is not a figure".into()),
        };
        let text = shown(&overlay, &snapshot(), 100, 30).join("\n");
        for told in ["Figures of this run", "You say: clean.", "is not a figure", "Esc go on"] {
            assert!(text.contains(told), "{told}: {text}");
        }
        let fresh = shown(&score_of(Verdict::Slower), &snapshot(), 100, 30).join("\n");
        assert!(fresh.contains("You say: slower."), "{fresh}");
    }

    #[test]
    fn any_size_will_do() {
        let overlays = [
            form(&[]),
            Overlay::Loads(0),
            Overlay::LoadList(LoadList::Choose(0)),
            free_value("fan"),
            score_of(Verdict::Clean),
            Overlay::Stages(0),
            Overlay::Keys,
        ];
        for overlay in &overlays {
            for (width, height) in AWKWARD.into_iter().chain([(60, 15), (250, 80)]) {
                shown(overlay, &snapshot(), width, height);
            }
        }
    }
}
