//! Shape: the V/F curve, the performance states or the clock window, and the voltages beside them.
//!
//! ```text
//! ┌ next step ───────────────────────────────────────────────────┐
//! ├ V/F curve ────────────────────────────┬ points ──────────────┤
//! │                       ●──●──●         │ mV  shaped  taken  … │
//! │             ●──●──●──┘   ·            ├ beside it ───────────┤
//! │    ●──●──●┘   ·   ╋ now               │ ▸ voltage offset …   │
//! │  kiln       ━━━━━                     ├ asked against taken ─┤
//! └───────────────────────────────────────┴──────────────────────┘
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use yard_step_core::{
    CardDescription, CurveBand, CurveKind, Mhz, Millivolt, SettingKind, Sight, Sketch, Stage,
    Verdict, VfCurve, counted, figure_in_words, sight,
};
use yard_step_engine::{Activity, RunView, Snapshot};
use yard_step_scenes::sections_of;

use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::views::shape::curve::CurveChart;
use crate::tui::views::shape::state::{BESIDE, Draft, Focus, ShapeState};
use crate::tui::views::shape::window::WindowChart;
use crate::tui::widgets::panel::{inside, panel};
use crate::tui::widgets::{cut, next_step, row, write, write_right, write_wrapped};

/// Where the parts of the view lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    pub next: Rect,
    pub chart: Rect,
    pub points: Rect,
    pub beside: Rect,
    pub told: Rect,
}

pub(crate) fn layout(area: Rect) -> Places {
    let roomy = area.height >= 40;
    let [next, body] =
        Layout::vertical([Constraint::Length(next_step::HEIGHT), Constraint::Fill(1)]).areas(area);
    let right = (area.width * 3 / 8).clamp(40, 56);
    let [chart, _, right] =
        Layout::horizontal([Constraint::Fill(1), Constraint::Length(1), Constraint::Length(right)])
            .areas(body);
    let (beside, told) = if roomy { (10, 13) } else { (7, 6) };
    let [points, beside, told] = Layout::vertical([
        Constraint::Fill(1),
        Constraint::Length(beside),
        Constraint::Length(told),
    ])
    .areas(right);
    Places { next, chart, points, beside, told }
}

pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    state: &ShapeState,
) {
    let places = layout(area);
    let draft = state.shown(snapshot);
    next_step::draw(buffer, places.next, theme, snapshot);
    let run = shown_run(snapshot);
    let seen = seen(snapshot, run, &draft);
    match &draft.sketch {
        Some(sketch) => {
            draw_curve(buffer, places.chart, theme, snapshot, &draft, sketch, state.zoom);
            draw_points(buffer, places.points, theme, snapshot, &draft, sketch);
        }
        None => {
            draw_window(buffer, places.chart, theme, snapshot, &draft);
            draw_windows_tried(buffer, places.points, theme, snapshot);
        }
    }
    draw_beside(buffer, places.beside, theme, snapshot, &draft);
    draw_told(buffer, places.told, theme, &draft, state, &seen);
}

/// Voltage and clock at a place of the screen, mV and MHz; none outside the curve's chart.
pub(crate) fn at(
    area: Rect,
    snapshot: &Snapshot,
    state: &ShapeState,
    place: (u16, u16),
) -> Option<(f64, f64)> {
    let draft = state.shown(snapshot);
    let sketch = draft.sketch.as_ref()?;
    let bands = bands(shown_run(snapshot));
    chart(snapshot, &draft, sketch, &bands, state.zoom).at(inside(layout(area).chart), place)
}

/// The value beside the curve that lies at a place of the screen.
pub(crate) fn value_at(area: Rect, (x, y): (u16, u16)) -> Option<usize> {
    let lines = inside(layout(area).beside);
    lines.contains((x, y).into()).then(|| usize::from(y - lines.y)).filter(|at| *at < BESIDE.len())
}

/// The run whose bands are drawn: the one looked at, as far as it is of this climb and so of this
/// card; else the present or last one.
pub(super) fn shown_run(snapshot: &Snapshot) -> Option<&RunView> {
    let looked =
        snapshot.runs.looked_at.as_deref().filter(|run| run.climb == snapshot.climb.number);
    looked.or(snapshot.runs.newest.as_deref())
}

fn is_running(snapshot: &Snapshot) -> bool {
    matches!(snapshot.runs.activity, Activity::Running | Activity::Paused)
}

/// What there is to say of what was asked and taken: by the run that is shown, and before one by
/// what the card holds.
fn seen(snapshot: &Snapshot, run: Option<&RunView>, draft: &Draft) -> Sight {
    let card = &snapshot.machine.card;
    match run {
        Some(run) => sight(card, &run.asked, run.taken.as_ref(), Some(&run.sample)),
        None => {
            let asked = draft.settings().unwrap_or(draft.values);
            sight(card, &asked, snapshot.machine.held.as_ref(), snapshot.machine.sensors.as_ref())
        }
    }
}

/// By how much clock and voltage of a run lie off the curve it held, MHz and mV.
fn offsets(run: &RunView) -> (f64, f64) {
    let held = run.taken.unwrap_or(run.asked);
    let of = |kind| held.get(kind).unwrap_or(0.0);
    (of(SettingKind::CoreOffset), of(SettingKind::VoltageOffset))
}

/// Where the card ran in each part of the load.
fn bands(run: Option<&RunView>) -> Vec<(&'static str, CurveBand)> {
    let Some(run) = run else { return Vec::new() };
    let names = sections_of(&run.scene);
    let named =
        |section: &yard_step_core::SectionSeen| Some((*names.get(section.section)?, section.band?));
    run.seen.sections.iter().filter_map(named).collect()
}

/// The curve that the card holds: in the run that is shown, else now.
pub(super) fn taken(snapshot: &Snapshot) -> Option<VfCurve> {
    let held = match shown_run(snapshot) {
        // A trial without an outcome never told.
        Some(run) => run.taken.or(snapshot.machine.held),
        None => snapshot.machine.held,
    };
    held?.curve.or(snapshot.machine.card.curve.map(|offer| offer.factory))
}

fn chart<'a>(
    snapshot: &Snapshot,
    draft: &'a Draft,
    sketch: &'a Sketch,
    bands: &'a [(&'a str, CurveBand)],
    zoom: u16,
) -> CurveChart<'a> {
    let run = shown_run(snapshot);
    let live = run.filter(|_| is_running(snapshot));
    let now = live.and_then(|run| run.sample.voltage.zip(run.sample.core_clock));
    let off = run.map_or((0.0, 0.0), offsets);
    let failed = run.and_then(failed_at);
    CurveChart { sketch, taken: None, point: draft.point, now, failed, bands, zoom, off }
}

/// Where a run was when it failed: its last reading.
pub(super) fn failed_at(run: &RunView) -> Option<(Millivolt, Mhz, Verdict)> {
    let verdict = run.judgement.as_ref()?.verdict;
    let (voltage, clock) = run.sample.voltage.zip(run.sample.core_clock)?;
    verdict.is_fault().then_some((voltage, clock, verdict))
}

fn draw_curve(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    draft: &Draft,
    sketch: &Sketch,
    zoom: u16,
) {
    let factory = sketch.offer().factory;
    let pairs = sketch.points().iter().zip(factory.points());
    let moved = pairs.filter(|(at, from)| **at != (from.millivolt, from.mhz)).count();
    let near = if zoom > 1 { format!(", {zoom}× nearer") } else { String::new() };
    let moved = match moved {
        0 => "as from the factory".to_owned(),
        count => format!("{} moved", counted(count, "point")),
    };
    let on_top = [SettingKind::CoreOffset, SettingKind::VoltageOffset]
        .into_iter()
        .filter(|kind| draft.values.get(*kind).is_some_and(|offset| offset != 0.0))
        .map(|kind| format!(", {} {} on top", kind.label(), draft.values.show(kind)))
        .collect::<String>();
    let ceiling = draft.ceiling_clock().map_or(String::new(), |mhz| format!(", ceiling {mhz} MHz"));
    let aside = format!("{moved}{ceiling}{on_top}{near}");
    let heading = match sketch.offer().kind {
        CurveKind::Points => "V/F curve, MHz",
        CurveKind::States => "Performance states, MHz",
    };
    let space = panel(buffer, area, theme, heading, &aside);
    let bands = bands(shown_run(snapshot));
    let held = taken(snapshot);
    let chart = CurveChart { taken: held.as_ref(), ..chart(snapshot, draft, sketch, &bands, zoom) };
    chart.draw(buffer, space, theme);
}

/// The points around the picked one: voltage, and clock as shaped, as taken and from the factory.
fn draw_points(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    draft: &Draft,
    sketch: &Sketch,
) {
    let (offer, points) = (sketch.offer(), sketch.points());
    let is_states = offer.kind == CurveKind::States;
    let (heading, what) = if is_states { ("States", "state") } else { ("Points", "point") };
    let aside = format!("{what} {} of {}", draft.point + 1, points.len());
    let space = panel(buffer, area, theme, heading, &aside);
    let dim = theme.style(Role::Dim);
    // Voltages of states may differ from those shaped, and are shown then, where there is room.
    let has_room = space.width >= 50;
    let columns = match has_room {
        true => [(2, 6), (9, 8), (18, 15), (34, 16)],
        false => [(2, 6), (9, 7), (17, 7), (25, 8)],
    };
    let cell = |buffer: &mut Buffer, line: Rect, index: usize, text: &str, style: Style| {
        let (x, width) = columns[index];
        let cell = Rect { x: line.x + x, width, ..line }.intersection(line);
        write_right(buffer, cell, line.y, text, style);
    };
    let head = row(space, 0);
    for (index, name) in ["mV", "shaped", "taken", "factory"].into_iter().enumerate() {
        cell(buffer, head, index, name, dim);
    }
    // The head and the ceiling take a line each.
    let room = usize::from(space.height.saturating_sub(2));
    draw_ceiling(buffer, row(space, space.height.saturating_sub(1)), theme, draft);
    let first = draft.point.saturating_sub(room / 2).min(points.len().saturating_sub(room));
    let (held, factory) = (taken(snapshot), offer.factory);
    let shown = |curve: &VfCurve, at: usize, millivolt: u16| {
        curve.points().get(at).map_or("–".into(), |point| {
            match point.millivolt == millivolt || !has_room {
                true => point.mhz.to_string(),
                false => format!("{} at {} mV", point.mhz, point.millivolt),
            }
        })
    };
    for (index, at) in (first..points.len()).take(room).enumerate() {
        let line = row(space, index as u16 + 1);
        let (millivolt, sketched) = points[at];
        let ceiling = draft.ceiling_clock().filter(|_| at > draft.point);
        let mhz = ceiling.map_or(sketched, |ceiling| sketched.min(ceiling));
        let picked = at == draft.point;
        if picked {
            buffer.set_style(line.intersection(buffer.area), theme.style(Role::Selected));
            write(buffer, line, (line.x, line.y), "▸", theme.style(Role::Accent));
        }
        let moves = |focus| if picked && draft.focus == focus { Role::Accent } else { Role::Text };
        let falls = at > 0 && sketched < points[at - 1].1;
        let clock = if falls { Role::Bad } else { moves(Focus::Clocks) };
        cell(buffer, line, 0, &millivolt.to_string(), theme.style(moves(Focus::Voltages)));
        cell(buffer, line, 1, &mhz.to_string(), theme.style(clock));
        let there = held.map_or("–".into(), |held| shown(&held, at, millivolt));
        let same = there == mhz.to_string();
        cell(buffer, line, 2, &there, theme.style(if same { Role::Dim } else { Role::Target }));
        cell(buffer, line, 3, &shown(&factory, at, millivolt), dim);
    }
}

/// Whether the picked point is a ceiling.
fn draw_ceiling(buffer: &mut Buffer, line: Rect, theme: Theme, draft: &Draft) {
    let focused = draft.focus == Focus::Ceiling;
    let text = match draft.ceiling_clock() {
        Some(mhz) => format!("ceiling {mhz} MHz, at the picked point"),
        None if focused => "ceiling none: ↑ sets it at the picked point".into(),
        None => "ceiling none".into(),
    };
    let style = theme.style(if draft.ceiling { Role::Clock } else { Role::Dim });
    let style = if focused { style.patch(theme.style(Role::Selected)) } else { style };
    let pointer = if focused { "▸" } else { " " };
    write(buffer, line, (line.x, line.y), &cut(&format!("{pointer} {text}"), line.width), style);
}

fn draw_window(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, draft: &Draft) {
    let (low, high) = (SettingKind::ClockMinimum, SettingKind::ClockMaximum);
    let card = &snapshot.machine.card;
    let ends = [low, high].map(|kind| {
        let offer = card.offer(kind);
        draft.values.get(kind).or_else(|| offer.and_then(|offer| offer.stock))
    });
    let [Some(least), Some(most)] = ends else {
        let space = panel(buffer, area, theme, "Clock window", "");
        write_wrapped(buffer, space, &lacks(card, low), theme.style(Role::Dim));
        return;
    };
    let lowest = card.offer(low).map_or(least, |offer| offer.minimum);
    let highest = card.offer(high).map_or(most, |offer| offer.maximum);
    let bands = bands(shown_run(snapshot));
    let run = shown_run(snapshot);
    let average = run.and_then(|run| run.seen.average_clock());
    let aside = average.map_or(String::new(), |clock| format!("average {clock}"));
    let space = panel(buffer, area, theme, "Clock window: time at each clock", &aside);
    // The clocks that matter, the far ends of what could be asked left out.
    let seen = run.and_then(|run| run.seen.clock_line.as_ref());
    let from = seen.map_or(least, |line| line.lowest.value().min(least.max(lowest)));
    let range = ((from - 150.0).max(lowest), (most + 100.0).min(highest));
    let line = seen.map(|line| [line.lowest, line.average, line.highest].map(|c| c.value()));
    let trace = run.map(|run| &run.trace);
    WindowChart { trace, line, window: (least, most), range, bands: &bands }
        .draw(buffer, space, theme);
}

/// The windows that the climb has tried, each with what came of it.
fn draw_windows_tried(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let tried = || snapshot.climb.trials.iter().filter(|trial| trial.stage == Stage::Window);
    let space = panel(buffer, area, theme, "Windows tried", &format!("{} trials", tried().count()));
    let dim = theme.style(Role::Dim);
    if tried().next().is_none() {
        let planned = snapshot.climb.stages.contains(&Stage::Window);
        let text = if planned {
            "The stage window runs the card unbounded, sees its average clock, and then tries \
             narrower and wider windows about it."
        } else {
            "This climb has no stage window: g adds it, and it looks for the best window by itself. \
             Here you may set one by hand and try it."
        };
        write_wrapped(buffer, space, text, dim);
        return;
    }
    let head = row(space, 0);
    let columns = [(2, 13), (16, 8), (25, 8), (34, 14)];
    let put = |buffer: &mut Buffer, line: Rect, index: usize, text: &str, style: Style| {
        let (x, width) = columns[index];
        let cell = Rect { x: line.x + x, width, ..line }.intersection(line);
        write(buffer, cell, (cell.x, cell.y), &cut(text, width), style);
    };
    for (index, name) in ["window", "average", "score", "verdict"].into_iter().enumerate() {
        put(buffer, head, index, name, dim);
    }
    let room = usize::from(space.height.saturating_sub(1));
    let skip = tried().count().saturating_sub(room);
    for (index, trial) in tried().skip(skip).enumerate() {
        let line = row(space, index as u16 + 1);
        let ends = [trial.asked.clock_minimum, trial.asked.clock_maximum]
            .map(|end| end.map_or("–".into(), |end| format!("{:.0}", end.value())));
        let average = trial.seen.average_clock().map_or("–".into(), |clock| clock.to_string());
        let score = trial.score.map_or("–".into(), figure_in_words);
        let verdict = trial.verdict();
        let text = theme.style(Role::Text);
        put(buffer, line, 0, &ends.join(" to "), text);
        put(buffer, line, 1, &average, text);
        put(buffer, line, 2, &score, text);
        put(buffer, line, 3, &format!("{} {verdict}", glyph(verdict)), theme.verdict(verdict));
    }
}

/// What a card lacks, with the reason.
fn lacks(card: &CardDescription, kind: SettingKind) -> String {
    format!("{}: {}", kind.label(), card.why_not_offered(kind))
}

/// The values beside the curve, those that the card lacks with the reason.
fn draw_beside(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, draft: &Draft) {
    let space = panel(buffer, area, theme, "Beside it", "");
    let card = &snapshot.machine.card;
    let room = usize::from(space.height);
    let lacking = BESIDE.len() > room;
    // In few rows what the card lacks gives way.
    let shown = BESIDE.iter().enumerate().filter(|(_, kind)| !lacking || card.offers(**kind));
    for (index, (at, kind)) in shown.enumerate() {
        let line = row(space, index as u16);
        let Some(offer) = card.offer(*kind) else {
            let text = cut(&format!("  {}", lacks(card, *kind)), line.width);
            write(buffer, line, (line.x, line.y), &text, theme.style(Role::Dim));
            continue;
        };
        let focused = draft.focus == Focus::Value(at);
        let value = draft.values.get(*kind);
        let moved = value.is_some() && value != offer.stock;
        let style = theme.style(if moved { Role::Clock } else { Role::Text });
        let style = if focused { style.patch(theme.style(Role::Selected)) } else { style };
        let pointer = if focused { "▸" } else { " " };
        let text = format!("{pointer} {:<20}", kind.label());
        let end = write(buffer, line, (line.x, line.y), &text, style);
        let shown = value.map_or_else(|| draft.values.show(*kind), |value| offer.show(value));
        let end = write(buffer, line, (end, line.y), &format!("{shown:<10}"), style);
        let range = format!("{} to {}", offer.show(offer.minimum), offer.show(offer.maximum));
        let rest = Rect { x: end, width: line.right().saturating_sub(end), ..line };
        write_right(buffer, rest, line.y, &range, theme.style(Role::Dim));
    }
    if !lacking && let Some(kind) = Some(SettingKind::Curve).filter(|_| card.curve.is_none()) {
        let line = row(space, BESIDE.len() as u16);
        let text = cut(&format!("  {}", lacks(card, kind)), line.width);
        write(buffer, line, (line.x, line.y), &text, theme.style(Role::Dim));
    }
}

/// Asked against taken, what the last smoothing changed, and what became of the last wish.
fn draw_told(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    draft: &Draft,
    state: &ShapeState,
    seen: &Sight,
) {
    let space = panel(buffer, area, theme, "Asked against taken", "");
    let mut rest = Rect { x: space.x + 2, width: space.width.saturating_sub(2), ..space };
    let mut say = |text: &str, style: Style| {
        let used = write_wrapped(buffer, rest, text, style).min(rest.height);
        rest = Rect { y: rest.y + used, height: rest.height - used, ..rest };
    };
    if let Some(told) = &state.told {
        say(told, theme.style(Role::Accent));
    }
    let text = theme.style(Role::Text);
    if let Some((first, others)) = draft.changes.split_first() {
        let count = others.len() + 1;
        let heading = counted(count, "point");
        let last = others.last().unwrap_or(first);
        say(&format!("Smoothing moved {heading}:"), theme.style(Role::Clock));
        say(&first.in_words(), text);
        if count > 2 {
            let most =
                draft.changes.iter().max_by_key(|change| change.from.1.abs_diff(change.to.1));
            let most = most.filter(|most| *most != first && *most != last);
            if let Some(most) = most {
                say(&format!("… at most {}", most.in_words()), text);
            }
        }
        if count > 1 {
            say(&format!("… {}", last.in_words()), text);
        }
    }
    if let Err(error) = draft.settings()
        && state.told.is_none()
    {
        say(&format!("Cannot be asked for yet: {error}."), theme.style(Role::Warn));
    }
    let sentences = yard_step_words::sight(seen);
    let is_nothing = sentences.is_empty() && state.told.is_none();
    if is_nothing && draft.changes.is_empty() {
        say("The card holds what was asked.", theme.style(Role::Dim));
    }
    for sentence in &sentences {
        say(sentence, text);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{curve_offer, snapshot};
    use crate::tui::keys::action::Action;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;
    use std::sync::Arc;
    use yard_step_core::{CurveOffer, Mhz, Millivolt, Offer, Reading, SectionSeen, Settings};

    const THEME: Theme = Theme::new(Depth::None);

    fn moment(change: impl Fn(&mut CardDescription)) -> Snapshot {
        let mut snapshot = snapshot();
        let mut card = (*snapshot.machine.card).clone();
        change(&mut card);
        snapshot.machine.card = Arc::new(card);
        snapshot.machine.held = Some(Settings::stock(&snapshot.machine.card));
        let band = CurveBand {
            clock: (Mhz(1_860.0), Mhz(1_905.0)),
            voltage: (Millivolt(920.0), Millivolt(950.0)),
        };
        let run = snapshot.runs.newest.take().unwrap();
        let mut run = (*run).clone();
        run.seen.sections = vec![SectionSeen {
            section: 1,
            frame_rate: 20.0,
            frame_rate_low: 18.0,
            band: Some(band),
        }];
        snapshot.runs.newest = Some(Arc::new(run));
        snapshot
    }

    fn shaped(kind: CurveKind) -> Snapshot {
        moment(|card| card.curve = Some(CurveOffer { kind, ..curve_offer() }))
    }

    /// A card with a clock window and a voltage offset, and no curve.
    fn windowed() -> Snapshot {
        moment(|card| {
            for (kind, minimum, maximum, step, stock) in [
                (SettingKind::ClockMinimum, 500.0, 2_500.0, 5.0, 500.0),
                (SettingKind::ClockMaximum, 500.0, 2_800.0, 5.0, 2_400.0),
                (SettingKind::VoltageOffset, -100.0, 0.0, 5.0, 0.0),
            ] {
                let (reading, stock) = (Reading::Absolute, Some(stock));
                card.offers.push(Offer {
                    kind,
                    reading,
                    minimum,
                    maximum,
                    step,
                    stock,
                    makers_maximum: None,
                });
            }
        })
    }

    fn text(snapshot: &Snapshot, state: &ShapeState, (width, height): (u16, u16)) -> String {
        let shown = |buffer: &mut Buffer, area| draw(buffer, area, THEME, snapshot, state);
        drawn(width, height, shown).join("\n")
    }

    #[rstest]
    #[case(160, 47)]
    #[case(100, 27)]
    fn the_curve_is_the_largest_part(#[case] width: u16, #[case] height: u16) {
        let places = layout(Rect::new(0, 0, width, height));
        for other in [places.next, places.points, places.beside, places.told] {
            assert!(other.area() < places.chart.area() && other.height >= 5, "{places:?}");
        }
        let text = text(&shaped(CurveKind::Points), &ShapeState::default(), (width, height));
        assert!(text.contains("V/F curve, MHz") && text.contains("as from the factory"), "{text}");
        assert!(text.contains("first lanterns") || text.contains("1860 to 1905 MHz"), "{text}");
    }

    #[test]
    fn states_are_rows_of_voltage_and_clock() {
        let snapshot = shaped(CurveKind::States);
        let mut state = ShapeState::default();
        state.act(Action::ShapeFocus, &snapshot);
        state.act(Action::ShapeDown, &snapshot);
        let text = text(&snapshot, &state, (160, 47));
        assert!(text.contains("Performance states, MHz"), "{text}");
        assert!(text.contains("state 7 of 9") && text.contains("1905 at 950 mV"), "{text}");
    }

    #[rstest]
    #[case((160, 47))]
    #[case((100, 27))]
    fn every_column_of_the_points_has_its_name(#[case] size: (u16, u16)) {
        let text = text(&shaped(CurveKind::Points), &ShapeState::default(), size);
        let head = text.lines().find(|line| line.contains("shaped ") && line.contains("mV"));
        let head = head.unwrap_or_default();
        assert!(head.contains("taken") && head.contains("factory"), "{text}");
    }

    #[test]
    fn what_smoothing_changed_and_what_stands_in_the_way_is_told() {
        let snapshot = shaped(CurveKind::Points);
        let mut state = ShapeState::default();
        state.act(Action::ShapeMuchUp, &snapshot);
        let raised = text(&snapshot, &state, (160, 47));
        assert!(raised.contains("Cannot be asked for yet"), "{raised}");
        state.act(Action::Flatten, &snapshot);
        state.act(Action::Smooth, &snapshot);
        let smoothed = text(&snapshot, &state, (160, 47));
        assert!(smoothed.contains("Smoothing moved 5 points"), "{smoothed}");
        assert!(!smoothed.contains("Cannot be asked for yet"), "{smoothed}");
    }

    #[test]
    fn a_card_without_a_curve_shows_its_window_and_says_why() {
        let text = text(&windowed(), &ShapeState::default(), (160, 47));
        for part in
            ["Clock window: time at each clock", "Windows tried", "lowest clock", "2400 MHz"]
        {
            assert!(text.contains(part), "{part}: {text}");
        }
        assert!(text.contains("V/F curve: "), "what it lacks: {text}");
        assert!(text.contains("memory timing: its driver keeps the timings to itself"), "{text}");
    }

    #[test]
    fn a_place_of_the_chart_is_a_point_and_a_line_beside_it_a_value() {
        let snapshot = shaped(CurveKind::Points);
        let area = Rect::new(0, 1, 160, 47);
        let chart = inside(layout(area).chart);
        let state = ShapeState::default();
        let middle = (chart.x + chart.width / 2, chart.y + chart.height / 2);
        let (millivolt, mhz) = at(area, &snapshot, &state, middle).unwrap();
        assert!((850.0..950.0).contains(&millivolt) && (1_600.0..2_000.0).contains(&mhz));
        let beside = inside(layout(area).beside);
        assert_eq!(value_at(area, (beside.x + 3, beside.y + 1)), Some(1));
        assert_eq!(value_at(area, middle), None);
    }

    #[test]
    fn any_size_and_any_card_will_do() {
        let state = ShapeState::default();
        for snapshot in [shaped(CurveKind::States), windowed(), moment(|_| ())] {
            for size in AWKWARD.into_iter().chain([(100, 27), (60, 15), (250, 80)]) {
                text(&snapshot, &state, size);
            }
        }
    }
}
