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
use yard_step_core::{Channel, Limiter, Mhz, Seconds, Settings, in_short};
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
    let right = (area.width * 7 / 16).clamp(46, 72);
    let [left, _, right] =
        Layout::horizontal([Constraint::Fill(1), Constraint::Length(1), Constraint::Length(right)])
            .areas(body);
    let [clock, compared] =
        Layout::vertical([Constraint::Fill(1), Constraint::Length(COMPARED)]).areas(left);
    let of_scene = if area.height >= 40 { 15 } else { 0 };
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

/// What is asked for, or would be with the next key.
pub(crate) fn asked(snapshot: &Snapshot, state: &FreeState) -> Settings {
    let of_segment = snapshot.runs.free.as_ref().and_then(|free| free.segments.last());
    state
        .wanted
        .or_else(|| of_segment.map(|segment| segment.asked))
        .unwrap_or_else(|| Settings::stock(&snapshot.machine.card))
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
    let asked = asked(snapshot, state);
    let held = free.segments.last().and_then(|segment| segment.taken);
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
                now.what,
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
                "{}. {} y applies it all the same.",
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
        format!("{clock} in this segment, {:.0} {side} advertised", short.abs())
    });
    let space = panel(buffer, area, theme, "Clock line, MHz", &aside);
    let plot_height = space.height.saturating_sub(2);
    let plot = Rect { height: plot_height, ..space };
    let end = free.at.value().max(30.0);
    let window = ((end - SHOWN).max(0.0), end);
    let target = card.limits.boost_clock.value();
    let extent = free.trace.over(Channel::CoreClock, window.0.max(RISE), window.1);
    let (low, high) = extent.map_or((target - 90.0, target), |bucket| {
        (f64::from(bucket.lowest).min(target), f64::from(bucket.highest).max(target))
    });
    let range = (((low - 15.0) / 15.0).floor() * 15.0, (high / 15.0).ceil() * 15.0 + 15.0);
    let label = format!("advertised {}", card.limits.boost_clock);
    let guides = [Guide { value: target, label: &label, style: theme.style(Role::Target) }];
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
    let space = panel(buffer, area, theme, &heading, "drift taken out, ± 95 %");
    let columns = [14, 27, 40].map(|x| space.x + x);
    let head = row(space, 0);
    for (x, name) in columns.into_iter().zip(["before", "now", "change"]) {
        write(buffer, head, (x, head.y), name, theme.style(Role::Dim));
    }
    for (index, change) in free.comparison.iter().enumerate() {
        let line = row(space, index as u16 + 1);
        write(buffer, line, (line.x + 1, line.y), change.figure.label(), theme.style(Role::Dim));
        let figure =
            |value: Option<f64>| value.map_or("–".into(), |value| shown(change.figure, value));
        write(buffer, line, (columns[0], line.y), &figure(change.before), theme.style(Role::Text));
        write(buffer, line, (columns[1], line.y), &figure(change.now), theme.style(Role::Clock));
        let (text, role) = brought(change);
        let width = line.right().saturating_sub(columns[2]);
        write(buffer, line, (columns[2], line.y), &cut(&text, width), theme.style(role));
    }
    let line = row(space, free.comparison.len() as u16 + 1);
    write(buffer, line, (line.x + 1, line.y), "limited by", theme.style(Role::Dim));
    let segments = free.segments.iter().rev();
    for (segment, x) in segments.take(2).zip([columns[1], columns[0]]) {
        let width = if x == columns[0] { 12 } else { line.right().saturating_sub(x) };
        let cell = Rect { x, width, ..line };
        write(buffer, cell, (x, line.y), &cut(&limited(segment), width), theme.style(Role::Text));
    }
}

fn limited(segment: &SegmentView) -> String {
    let main = segment.seen.main_limiter();
    main.map_or("–".into(), |(limiter, share)| {
        let label = if limiter == Limiter::Unknown { "not known" } else { limiter.label() };
        format!("{label} {:.0} %", share * 100.0)
    })
}

fn shown(figure: Figure, value: f64) -> String {
    match figure {
        Figure::FrameRate => format!("{value:.1} {}", figure.unit()),
        Figure::Score => format!("{value:.0}"),
        _ => format!("{value:.0} {}", figure.unit()),
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
fn brought(change: &FigureChange) -> (String, Role) {
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
        false => (format!("{text}: too early to tell"), Role::Dim),
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
        let figures = format!("{clock}  {}", segment.seconds.in_words());
        let width = line.width.saturating_sub(8 + figures.chars().count() as u16);
        write(
            buffer,
            line,
            (line.x + 6, line.y),
            &cut(&segment.what, width),
            theme.style(Role::Text),
        );
        write_right(buffer, line, line.y, &figures, theme.style(Role::Dim));
    }
}
