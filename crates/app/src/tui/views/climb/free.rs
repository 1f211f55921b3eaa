//! A free run: the clock line with its changes, the present segment beside the one before, and the settings,
//! which change while the load runs.
//!
//! ```text
//! ┌ what runs, and what would help ──────────────────────────────┐
//! ├ clock line, all segments ────────────┬ settings ─────────────┤
//! │                                      │                       │
//! │ limiter lane                         ├ segments ─────────────┤
//! ├ this segment against the one before ─┤                       │
//! │                                      ├ scene ────────────────┤
//! └──────────────────────────────────────┴───────────────────────┘
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Modifier;
use yard_step_core::{Channel, Limiter, Mhz, Seconds, in_short};
use yard_step_engine::{Activity, Figure, FigureChange, FreeView, SegmentView, Snapshot};

use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::views::climb::draw::draw_scene;
use crate::tui::views::climb::panel::{self, Hit, SettingsPanel};
use crate::tui::views::climb::state::FreeState;
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::plot::{Guide, Plot, Series, field};
use crate::tui::widgets::{cut, lane, row, wrapped, write, write_right};

/// Rows of what runs and what would help.
const HEAD: u16 = 4;
/// Rows of the comparison: its rule, the names of its columns, the figures, and what limited the clock.
const COMPARED: u16 = 3 + Figure::ALL.len() as u16;
/// Seconds in which a card comes up from its idle clock; they do not set the range.
const RISE: f64 = 8.0;
/// The advertised clock is drawn where the line comes so near to it, MHz.
const NEAR: f64 = 90.0;
/// Seconds of the clock line that are shown at most.
const SHOWN: f64 = 300.0;

/// Where the parts lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    head: Rect,
    clock: Rect,
    compared: Rect,
    settings: Rect,
    segments: Rect,
    scene: Rect,
}

fn layout(area: Rect, snapshot: &Snapshot) -> Places {
    let [head, body] =
        Layout::vertical([Constraint::Length(HEAD), Constraint::Fill(1)]).areas(area);
    let right = (area.width * 7 / 16).clamp(40, 72);
    let [left, _, right] =
        Layout::horizontal([Constraint::Fill(1), Constraint::Length(1), Constraint::Length(right)])
            .areas(body);
    let [clock, compared] =
        Layout::vertical([Constraint::Fill(1), Constraint::Length(COMPARED)]).areas(left);
    let has_picture = snapshot.runs.newest.as_ref().is_some_and(|run| run.picture.is_some());
    let of_scene = if area.height >= 40 && has_picture { 15 } else { 0 };
    let [settings, segments, scene] = Layout::vertical([
        Constraint::Length(panel::height(snapshot)),
        Constraint::Fill(1),
        Constraint::Length(of_scene),
    ])
    .areas(right);
    Places { head, clock, compared, settings, segments, scene }
}

/// Whether a free run is shown: one that goes on, or the last one until it is put away.
pub(crate) fn is_shown(snapshot: &Snapshot, state: &FreeState) -> bool {
    let Some(free) = &snapshot.runs.free else { return false };
    snapshot.runs.looked_at.is_none() && !state.is_away(free)
}

/// What lies in the settings at a place of the screen.
pub(crate) fn hit(area: Rect, snapshot: &Snapshot, place: (u16, u16)) -> Option<Hit> {
    panel::hit(layout(area, snapshot).settings, snapshot, place)
}

pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    free: &FreeView,
    state: &FreeState,
) {
    let places = layout(area, snapshot);
    draw_head(buffer, places.head, theme, snapshot, free);
    draw_clock(buffer, places.clock, theme, snapshot, free);
    draw_comparison(buffer, places.compared, theme, free);
    let asked = state.asked(snapshot);
    let of_segment = free.segments.last().and_then(|segment| segment.taken);
    let held = if free.ended.is_some() { snapshot.machine.held } else { of_segment };
    SettingsPanel { snapshot, asked: &asked, held, chosen: state.chosen }.draw(
        buffer,
        places.settings,
        theme,
    );
    draw_segments(buffer, places.segments, theme, free);
    if let Some(run) = &snapshot.runs.newest {
        draw_scene(buffer, places.scene, theme, run);
    }
}

/// Two entries of two lines: what runs, or how it ended; and what is asked, or would help.
fn draw_head(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, free: &FreeView) {
    let card = &snapshot.machine.card;
    let count = free.segments.len();
    let (mark, word, text, role) = match (&free.ended, free.segments.last()) {
        (Some(ended), _) => {
            let back = match &ended.back_to {
                Some((trial, settings)) => format!(
                    " The card is back at the settings of trial {trial}, {}.",
                    in_short(settings, card)
                ),
                None => String::new(),
            };
            let role = if ended.verdict.is_fault() { Role::Bad } else { Role::Good };
            let text = format!("trial {}: {}{back}", ended.trial, ended.reason);
            (glyph(ended.verdict), "RUN ENDED", text, role)
        }
        (None, Some(now)) => {
            let paused = snapshot.runs.activity == Activity::Paused;
            let notes = free.told.join(" ");
            let text = format!(
                "{}, segment {count} for {}: {}. {} frames checked, {} wrong. {notes}",
                free.load,
                now.seconds.in_words(),
                in_short(&now.asked, card),
                now.seen.frames,
                now.seen.wrong_frames
            );
            if paused {
                ("‖", "PAUSED", text, Role::Clock)
            } else {
                ("▶", "FREE RUN", text, Role::Clock)
            }
        }
        (None, None) => ("▶", "FREE RUN", free.load.clone(), Role::Clock),
    };
    draw_entry(buffer, area, theme, 0, (mark, word, &text), role);
    let (mark, word, text, role) = match (&free.asks, &free.suggestion, &free.ended) {
        (_, _, Some(_)) => (
            "▹",
            "THEN",
            "F runs a load again; Esc returns to the climb, which has learnt from the segments."
                .to_owned(),
            Role::Accent,
        ),
        (Some((settings, risk)), ..) => {
            let text = format!(
                "{}. {} y applies it anyway.",
                in_short(settings, card),
                yard_step_words::risk(risk)
            );
            ("▲", "NEEDS A YES", text, Role::Bad)
        }
        (None, Some(suggestion), _) => {
            ("▹", "G APPLIES", yard_step_words::suggestion(suggestion), Role::Accent)
        }
        (None, None, None) => match free.advice.first() {
            Some(advice) => {
                let (what, why) = yard_step_words::advice(advice);
                ("▹", "WOULD HELP", format!("{what}. {why}"), Role::Accent)
            }
            None => ("·", "LOOKING", "A few seconds tell what limits the clock.".into(), Role::Dim),
        },
    };
    draw_entry(buffer, area, theme, 2, (mark, word, &text), role);
}

fn draw_entry(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    first: u16,
    (mark, word, text): (&str, &str, &str),
    role: Role,
) {
    const WORD: u16 = 16;
    let head = row(area, first);
    let bold = theme.style(role).add_modifier(Modifier::BOLD);
    write(buffer, head, (head.x + 1, head.y), mark, bold);
    write(buffer, head, (head.x + 3, head.y), word, bold);
    let width = area.width.saturating_sub(WORD).max(1);
    let mut lines = wrapped(text, usize::from(width));
    if lines.len() > 2 {
        let rest = lines.split_off(1).join(" ");
        lines.push(cut(&rest, width));
    }
    for (index, line) in lines.iter().enumerate() {
        let place = row(area, first + index as u16);
        write(buffer, place, (place.x + WORD, place.y), line, theme.style(Role::Text));
    }
}

/// The clock over all segments, its newest minutes, with a mark at each change.
fn draw_clock(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, free: &FreeView) {
    let card = &snapshot.machine.card;
    let aside = clock_now(free).map_or(String::new(), |clock| {
        let short = card.limits.boost_clock.value() - clock.value();
        let side = if short > 0.5 { "below" } else { "above" };
        format!("{clock} now, {:.0} {side} advertised", short.abs())
    });
    let space = panel(buffer, area, theme, "Clock line, MHz", &aside);
    let plot_height = space.height.saturating_sub(2);
    let plot = Rect { height: plot_height, ..space };
    let end = free.at.value().max(30.0);
    let window = ((end - SHOWN).max(0.0), end);
    let advertised = card.limits.boost_clock;
    let extent = free.trace.over(Channel::CoreClock, window.0.max(RISE), window.1);
    let (low, high) = extent.map_or((advertised.value() - NEAR, advertised.value()), |bucket| {
        (f64::from(bucket.lowest), f64::from(bucket.highest))
    });
    // Far away, the advertised clock would press the line flat; the heading tells it then.
    let is_near = (low - NEAR..=high + NEAR).contains(&advertised.value());
    let (low, high) = match is_near {
        true => (low.min(advertised.value()), high.max(advertised.value())),
        false => (low.min(high - NEAR / 2.0), high),
    };
    let range = (((low - 15.0) / 15.0).floor() * 15.0, (high / 15.0).ceil() * 15.0 + 15.0);
    let label = format!("advertised {advertised}");
    let guide =
        Guide { value: advertised.value(), label: &label, style: theme.style(Role::Target) };
    let guides = if is_near { vec![guide] } else { Vec::new() };
    let series = [Series {
        trace: &free.trace,
        channel: Channel::CoreClock,
        style: theme.style(Role::Clock),
        envelope: true,
    }];
    Plot { series: &series, guides: &guides, range, window }.draw(buffer, plot, theme);
    let field = field(plot);
    let column = |at: Seconds| {
        let share = (at.value() - window.0) / (window.1 - window.0);
        (0.0..=1.0)
            .contains(&share)
            .then(|| field.x + (share * f64::from(field.width.saturating_sub(1))) as u16)
    };
    for (index, at) in free.changes.iter().enumerate() {
        let Some(x) = column(*at) else { continue };
        write(buffer, plot, (x, plot.y), "┆", theme.style(Role::Accent));
        let number = (index + 2).to_string();
        write(buffer, plot, (x + 1, plot.y), &number, theme.style(Role::Accent));
    }
    lane::draw(buffer, row(space, plot_height), theme, &free.trace, window);
    let axis = row(space, plot_height + 1);
    let dim = theme.style(Role::Dim);
    write(buffer, axis, (field.x, axis.y), &Seconds(window.0).in_words(), dim);
    write_right(buffer, axis, axis.y, &Seconds(window.1).in_words(), dim);
}

/// Mean clock of the present segment.
fn clock_now(free: &FreeView) -> Option<Mhz> {
    let clock = free.comparison.iter().find(|change| change.figure == Figure::Clock);
    clock.and_then(|change| change.now).map(Mhz)
}

/// The figures of the present segment and the one before, with what the change brought.
fn draw_comparison(buffer: &mut Buffer, area: Rect, theme: Theme, free: &FreeView) {
    let count = free.segments.len();
    let heading = match count {
        0 | 1 => "This segment".to_owned(),
        _ => format!("Segment {count} against {}", count - 1),
    };
    // Where there is little room, units stand with the names.
    let is_roomy = area.width >= 70;
    let aside = if is_roomy { "drift taken out, ± 95 %" } else { "± 95 %, ? too early to tell" };
    let space = panel(buffer, area, theme, &heading, aside);
    let columns = if is_roomy { [14, 29, 43] } else { [17, 24, 31] }.map(|x| space.x + x);
    let head = row(space, 0);
    for (x, name) in columns.into_iter().zip(["before", "now", "change"]) {
        write(buffer, head, (x, head.y), name, theme.style(Role::Dim));
    }
    for (index, change) in free.comparison.iter().enumerate() {
        let line = row(space, index as u16 + 1);
        let figure = change.figure;
        let label = match (is_roomy, figure.unit()) {
            (true, _) | (_, "") => figure.label().to_owned(),
            (false, unit) => format!("{}, {unit}", figure.label()),
        };
        write(buffer, line, (line.x + 1, line.y), &label, theme.style(Role::Dim));
        let told =
            |value: Option<f64>| value.map_or("–".into(), |value| shown(figure, value, is_roomy));
        write(buffer, line, (columns[0], line.y), &told(change.before), theme.style(Role::Text));
        write(buffer, line, (columns[1], line.y), &told(change.now), theme.style(Role::Clock));
        let (text, role) = brought(change, is_roomy);
        let width = line.right().saturating_sub(columns[2]);
        write(buffer, line, (columns[2], line.y), &cut(&text, width), theme.style(role));
    }
    let line = row(space, free.comparison.len() as u16 + 1);
    write(buffer, line, (line.x + 1, line.y), "limited by", theme.style(Role::Dim));
    let segments = free.segments.iter().rev();
    for (segment, x) in segments.take(2).zip([columns[0] + 15, columns[0]]) {
        let cell = Rect { x, width: line.right().saturating_sub(x).min(14), ..line };
        write(buffer, cell, (x, line.y), &limited(segment), theme.style(Role::Text));
    }
}

fn limited(segment: &SegmentView) -> String {
    let main = segment.seen.main_limiter();
    main.map_or("–".into(), |(limiter, share)| {
        let label = if limiter == Limiter::Unknown { "not known" } else { limiter.label() };
        format!("{label} {:.0} %", share * 100.0)
    })
}

fn shown(figure: Figure, value: f64, with_unit: bool) -> String {
    let number = match figure {
        Figure::FrameRate => format!("{value:.1}"),
        _ => format!("{value:.0}"),
    };
    match figure.unit() {
        "" => number,
        _ if !with_unit => number,
        unit => format!("{number} {unit}"),
    }
}

/// A difference that nobody would act on, in the figure's unit.
fn slight(change: &FigureChange) -> f64 {
    match change.figure {
        Figure::Clock | Figure::Power => 2.0,
        Figure::CoreTemperature | Figure::HotSpot => 0.5,
        Figure::FrameRate | Figure::Score => 0.003 * change.before.unwrap_or(0.0),
    }
}

/// What a change brought, in a few words.
fn brought(change: &FigureChange, is_roomy: bool) -> (String, Role) {
    let Some(step) = change.change else { return (String::new(), Role::Dim) };
    let (by, bound, unit) = match (change.figure.is_in_percent(), change.before) {
        (true, Some(before)) if before.abs() > 1e-9 => {
            (step.by / before * 100.0, step.uncertainty() / before * 100.0, "%")
        }
        _ => (step.by, step.uncertainty(), change.figure.unit()),
    };
    let by = format!("{by:+.1}").replace('-', "−");
    let text = format!("{by} {unit} ± {bound:.1}");
    match step.is_clear() {
        true => (text, Role::Title),
        // As sure as anybody wants it, and nothing to see.
        false if step.uncertainty() <= slight(change) => (format!("{text}: no change"), Role::Dim),
        false if is_roomy => (format!("{text}: too early to tell"), Role::Dim),
        false => (format!("{text} ?"), Role::Dim),
    }
}

/// The segments, the newest first.
fn draw_segments(buffer: &mut Buffer, area: Rect, theme: Theme, free: &FreeView) {
    let count = free.segments.len();
    let total = Seconds(free.segments.iter().map(|segment| segment.seconds.value()).sum());
    let aside = format!("{}, newest first", total.in_words());
    let space = panel(buffer, area, theme, "Segments", &aside);
    let now = clock_now(free);
    for (index, segment) in free.segments.iter().rev().enumerate() {
        if index as u16 >= space.height {
            break;
        }
        let line = row(space, index as u16);
        let (mark, style) = match segment.verdict {
            Some(verdict) => (glyph(verdict), theme.verdict(verdict)),
            None => ("▶", theme.style(Role::Clock)),
        };
        let number = format!("{:>3}", count - index);
        write(buffer, line, (line.x, line.y), &number, theme.style(Role::Dim));
        write(buffer, line, (line.x + 4, line.y), mark, style);
        let clock = match segment.verdict {
            None => now,
            Some(_) => segment.seen.average_clock(),
        };
        let clock = clock.map_or("–".into(), |clock| clock.to_string());
        let length = segment.seconds.in_words();
        let figures = if area.width >= 60 { format!("{clock}  {length}") } else { length };
        let width = line.width.saturating_sub(8 + figures.chars().count() as u16);
        let changed = match segment.changed.as_slice() {
            [] => "stock".to_owned(),
            changed => changed.join(", "),
        };
        let style = theme.style(Role::Text);
        write(buffer, line, (line.x + 6, line.y), &cut(&changed, width), style);
        write_right(buffer, line, line.y, &figures, theme.style(Role::Dim));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{down, ended_free_view, free_snapshot, snapshot};
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;
    use std::sync::Arc;

    const THEME: Theme = Theme::new(Depth::None);

    fn text(snapshot: &Snapshot, width: u16, height: u16) -> String {
        let free = Arc::clone(snapshot.runs.free.as_ref().unwrap());
        let state = FreeState::default();
        let draw = |buffer: &mut Buffer, area| draw(buffer, area, THEME, snapshot, &free, &state);
        drawn(width, height, draw).join("\n")
    }

    #[rstest]
    #[case(160, 47)]
    #[case(100, 27)]
    fn the_clock_line_is_the_largest_part_and_nothing_lies_over_it(
        #[case] width: u16,
        #[case] height: u16,
    ) {
        let places = layout(Rect::new(0, 0, width, height), &free_snapshot());
        let others = [places.head, places.compared, places.settings, places.segments, places.scene];
        assert!(others.iter().all(|other| other.area() < places.clock.area()), "{places:?}");
        assert!(others.iter().all(|other| !other.intersects(places.clock)), "{places:?}");
    }

    #[test]
    fn a_change_is_told_with_its_uncertainty_and_what_cannot_be_told_yet_says_so() {
        let wide = text(&free_snapshot(), 160, 47);
        for told in [
            "FREE RUN",
            "kiln, segment 3 for 42 s: core +75 MHz",
            "asked +80 MHz, rounded to +75 MHz",
            "G APPLIES",
            "More core clock, +90 MHz",
            "Segment 3 against 2",
            "+14.0 MHz ± 3.0",
            "−6.0 W ± 2.0",
            "+0.4 % ± 0.9: too early to tell",
            "+0.1 °C ± 0.2: no change",
            "1994 MHz now, 91 below advertised",
        ] {
            assert!(wide.contains(told), "{told}: {wide}");
        }
        let narrow = text(&free_snapshot(), 100, 27);
        assert!(
            narrow.contains("+14.0 MHz ± 3.0") && narrow.contains("+0.4 % ± 0.9 ?"),
            "{narrow}"
        );
    }

    #[rstest]
    #[case(160, 47)]
    #[case(100, 27)]
    fn the_settings_stand_beside_the_line_with_what_was_tried(
        #[case] width: u16,
        #[case] height: u16,
    ) {
        let text = text(&free_snapshot(), width, height);
        let line =
            text.lines().find(|line| line.contains("core clock offset") && line.contains('◈'));
        let line = line.unwrap();
        assert!(line.contains("+75 MHz") && line.contains('▲'), "{line}");
        let places = ["offset +75 MHz", "offset +60 MHz", "offset +45 MHz"]
            .map(|what| text.lines().position(|line| line.contains(what) && line.contains("42 s")));
        assert!(places.iter().all(Option::is_some), "{text}");
        assert!(places[0] < places[1] && places[1] < places[2], "the newest first: {places:?}");
    }

    #[test]
    fn what_needs_a_yes_says_why_and_which_key_says_it() {
        let mut snapshot = free_snapshot();
        let mut free = (**snapshot.runs.free.as_ref().unwrap()).clone();
        free.asks = Some((yard_step_core::Settings::stock(&snapshot.machine.card), down()));
        snapshot.runs.free = Some(Arc::new(free));
        let text = text(&snapshot, 160, 47);
        assert!(text.contains("NEEDS A YES") && text.contains("applies it anyway."), "{text}");
        assert!(!text.contains("G APPLIES"), "one thing at a time");
    }

    #[test]
    fn an_ended_run_says_how_and_where_the_card_is_now_until_it_is_put_away() {
        let mut snapshot = snapshot();
        snapshot.runs.free = Some(Arc::new(ended_free_view()));
        let text = text(&snapshot, 160, 47);
        assert!(text.contains("▲ RUN ENDED"), "{text}");
        assert!(text.contains("back at the settings of trial 4, core +45 MHz"), "{text}");
        let mut state = FreeState::default();
        assert!(is_shown(&snapshot, &state));
        state.put_away(snapshot.runs.free.as_ref().unwrap());
        assert!(!is_shown(&snapshot, &state));
        snapshot.runs.free = free_snapshot().runs.free;
        assert!(is_shown(&snapshot, &state), "a run that goes on is never away");
    }

    #[test]
    fn an_advertised_clock_far_away_does_not_press_the_line_flat() {
        let mut snapshot = free_snapshot();
        let near = text(&snapshot, 160, 47);
        assert!(near.contains("advertised 2085 MHz"), "{near}");
        let card = Arc::make_mut(&mut snapshot.machine.card);
        card.limits.boost_clock = Mhz(1_500.0);
        let far = text(&snapshot, 160, 47);
        assert!(!far.contains("advertised 1500 MHz"), "{far}");
        assert!(far.contains("494 above advertised"), "{far}");
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD.into_iter().chain([(60, 15), (100, 27), (250, 80)]) {
            text(&free_snapshot(), width, height);
        }
    }
}
