//! Climb: the live run and the staircase.
//!
//! ```text
//! ┌ verdict and next step ───────────────────────────────────────┐
//! ├ clock line against target ───────────┬ staircase ────────────┤
//! │                                      │                       │
//! │ limiter lane                         ├ asked / taken / seen ─┤
//! ├ power ───────────────────────────────┤                       │
//! ├ temperature ─────────────────────────┼ scene ────────────────┤
//! ├ fan ─────────────────────────────────┤                       │
//! └──────────────────────────────────────┴───────────────────────┘
//! ```

use std::sync::Arc;

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use yard_step_core::{Axis, Channel, Policy, Seconds, Settings, Stage};
use yard_step_engine::{Activity, NextView, RunView, Snapshot};
use yard_step_scenes::SizedScene;

use crate::tui::theme::{Role, Theme};
use crate::tui::views::artifacts::picture;
use crate::tui::views::climb::facts;
use crate::tui::views::climb::map::Chart;
use crate::tui::views::climb::staircase::{Staircase, short};
use crate::tui::widgets::panel::{inside, panel};
use crate::tui::widgets::plot::{Guide, Plot, Series, field};
use crate::tui::widgets::{lane, next_step, row, write, write_right, write_wrapped};

/// Seconds in which a card comes up from its idle clock; they do not set the range of a plot.
const RISE: f64 = 5.0;

/// Where the parts of the view lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    pub next: Rect,
    pub clock: Rect,
    pub power: Rect,
    pub temperature: Rect,
    pub fan: Rect,
    pub stairs: Rect,
    pub facts: Rect,
    pub scene: Rect,
}

pub(crate) fn layout(area: Rect, run: Option<&RunView>) -> Places {
    let roomy = area.height >= 40;
    let [next, body] =
        Layout::vertical([Constraint::Length(next_step::HEIGHT), Constraint::Fill(1)]).areas(area);
    let right = (area.width * 3 / 8).clamp(44, 62);
    let [left, _, right] =
        Layout::horizontal([Constraint::Fill(1), Constraint::Length(1), Constraint::Length(right)])
            .areas(body);
    let strip = if roomy { 6 } else { 3 };
    let of_fan = if run.is_some_and(|run| steady_fan(run).is_some()) { 1 } else { strip };
    let [clock, power, temperature, fan] = Layout::vertical([
        Constraint::Fill(1),
        Constraint::Length(strip),
        Constraint::Length(strip),
        Constraint::Length(of_fan),
    ])
    .areas(left);
    let (facts_height, of_scene) = if roomy { (14, 15) } else { (9, 6) };
    // Without a picture the staircase has its room.
    let scene_height = if run.is_some_and(has_no_picture) { 0 } else { of_scene };
    let [stairs, facts, scene] = Layout::vertical([
        Constraint::Fill(1),
        Constraint::Length(facts_height),
        Constraint::Length(scene_height),
    ])
    .areas(right);
    Places { next, clock, power, temperature, fan, stairs, facts, scene }
}

pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    chart: ChartKind,
) {
    let places = layout(area, snapshot.shown().map(Arc::as_ref));
    next_step::draw(buffer, places.next, theme, snapshot);
    draw_stairs(buffer, places.stairs, theme, snapshot, chart);
    match snapshot.shown() {
        Some(run) => draw_run(buffer, &places, theme, run, snapshot),
        None => draw_no_run(buffer, &places, theme),
    }
}

fn draw_no_run(buffer: &mut Buffer, places: &Places, theme: Theme) {
    let dim = theme.style(Role::Dim);
    let empty = [
        (places.clock, "Clock line", "The first run draws its clock here, against its target."),
        (places.power, "Power", ""),
        (places.temperature, "Temperature", ""),
        (places.fan, "Fan", ""),
        (
            places.facts,
            "Asked / taken / seen",
            "What was asked, what the card took, what was seen.",
        ),
        (places.scene, "Scene", "The scene is shown while it runs."),
    ];
    for (area, heading, text) in empty {
        let space = panel(buffer, area, theme, heading, "");
        write(buffer, space, (space.x + 2, space.y + space.height / 2), text, dim);
    }
}

fn draw_run(
    buffer: &mut Buffer,
    places: &Places,
    theme: Theme,
    run: &RunView,
    snapshot: &Snapshot,
) {
    let span = span(run);
    draw_clock(buffer, places.clock, theme, run, span);
    draw_power(buffer, places.power, theme, run, span);
    draw_temperature(buffer, places.temperature, theme, run, span);
    if let Some(speed) = steady_fan(run) {
        panel(buffer, places.fan, theme, "Fan", &format!("{speed:.0} % throughout"));
    } else {
        draw_fan(buffer, places.fan, theme, run, span);
    }

    let heading = format!("Asked / taken / seen: {}", run.title);
    let space = panel(buffer, places.facts, theme, &heading, "");
    let stock = facts::Stock::of(snapshot, run);
    facts::draw(buffer, space, theme, run, &stock);
    draw_scene(buffer, places.scene, theme, run);
}

/// Whether no picture of the run is to come: it has ended, or its load draws elsewhere.
fn has_no_picture(run: &RunView) -> bool {
    let is_ours = run.scene.parse::<SizedScene>().is_ok();
    run.picture.is_none() && (run.judgement.is_some() || !is_ours)
}

/// The speed of a fan that never changed, in percent.
fn steady_fan(run: &RunView) -> Option<f32> {
    let bucket = run.trace.over(Channel::Fan, 0.0, run.trace.seconds())?;
    (bucket.highest - bucket.lowest < 1.0).then_some(bucket.highest)
}

fn draw_fan(buffer: &mut Buffer, area: Rect, theme: Theme, run: &RunView, span: f64) {
    let now = reading(run, Channel::Fan);
    let space = panel(buffer, area, theme, "Fan", &format!("now {now}"));
    let series = [series(run, Channel::Fan, theme.style(Role::Clock))];
    Plot { series: &series, guides: &[], range: (0.0, 100.0), window: (0.0, span) }
        .draw(buffer, space, theme);
}

/// Time from the left to the right edge: the planned length, halved as often as the run still fits.
pub(crate) fn span(run: &RunView) -> f64 {
    let mut span = run.planned.value().max(1.0);
    while span / 2.0 >= run.at.value().max(30.0) && run.judgement.is_none() {
        span /= 2.0;
    }
    if run.judgement.is_some() { run.at.value().max(1.0) } else { span }
}

/// The clock line of a run with its limiter lane and its axis.
pub(crate) fn draw_clock(buffer: &mut Buffer, area: Rect, theme: Theme, run: &RunView, span: f64) {
    let now = reading(run, Channel::CoreClock);
    let heading = format!("Clock line, MHz: {}", run.title);
    let space = panel(buffer, area, theme, &heading, &format!("now {now}"));
    let plot_height = space.height.saturating_sub(2);
    let plot_area = Rect { height: plot_height, ..space };
    let target = run.target.value();
    let lowest = run
        .trace
        .over(Channel::CoreClock, RISE, run.trace.seconds())
        .map_or(target - 100.0, |bucket| f64::from(bucket.lowest));
    let range = (rounded_down(lowest.min(target - 90.0)), rounded_down(target) + 30.0);
    let label = format!("target {}", run.target);
    let guides = [Guide { value: target, label: &label, style: theme.style(Role::Target) }];
    let series = [series(run, Channel::CoreClock, theme.style(Role::Clock))];
    let window = (0.0, span);
    Plot { series: &series, guides: &guides, range, window }.draw(buffer, plot_area, theme);
    draw_faults(buffer, plot_area, theme, run, span);
    let lane_row = row(space, plot_height);
    lane::draw(buffer, lane_row, theme, &run.trace, window);
    draw_axis(buffer, row(space, plot_height + 1), theme, run, span);
}

fn rounded_down(value: f64) -> f64 {
    (value / 15.0).floor() * 15.0
}

fn series(run: &RunView, channel: Channel, style: Style) -> Series<'_> {
    Series { trace: &run.trace, channel, style, envelope: true }
}

/// Highest reading of a whole run.
fn highest(run: &RunView, channel: Channel) -> Option<f64> {
    let extent = run.trace.over(channel, 0.0, run.trace.seconds());
    extent.map(|bucket| f64::from(bucket.highest))
}

/// The axis of time, with the warm-up and the faults on it.
fn draw_axis(buffer: &mut Buffer, area: Rect, theme: Theme, run: &RunView, span: f64) {
    let field = field(area);
    if field.width == 0 {
        return;
    }
    let dim = theme.style(Role::Dim);
    let x = |seconds: f64| {
        field.x + ((seconds / span * f64::from(field.width)) as u16).min(field.width - 1)
    };
    if run.warm_up.value() > 0.0 && run.judgement.is_none() {
        let end = x(run.warm_up.value().min(span));
        for column in field.x..end {
            write(buffer, field, (column, field.y), "┄", theme.style(Role::Faint));
        }
        if end - field.x > 9 {
            write(buffer, field, (field.x, field.y), "warm-up ", dim);
        }
    } else {
        write(buffer, field, (field.x, field.y), "0", dim);
    }
    let middle = Seconds(span / 2.0).in_words();
    write(
        buffer,
        field,
        (x(span / 2.0).saturating_sub(middle.len() as u16 / 2), field.y),
        &middle,
        dim,
    );
    write_right(buffer, field, field.y, &Seconds(span).in_words(), dim);
}

/// A mark above the clock line for everything that went wrong.
fn draw_faults(buffer: &mut Buffer, area: Rect, theme: Theme, run: &RunView, span: f64) {
    let field = field(row(area, 0));
    for fault in &run.faults {
        let x = (fault.at.value() / span * f64::from(field.width)) as u16;
        let x = field.x + x.min(field.width.saturating_sub(1));
        write(buffer, field, (x, field.y), "▼", theme.style(Role::Bad));
    }
}

fn draw_power(buffer: &mut Buffer, area: Rect, theme: Theme, run: &RunView, span: f64) {
    let now = reading(run, Channel::BoardPower);
    let space = panel(buffer, area, theme, "Board power, W", &format!("now {now}"));
    let limit = run.power_limit;
    let high = highest(run, Channel::BoardPower).unwrap_or(0.0).max(limit.unwrap_or(0.0));
    let label = limit.map_or(String::new(), |limit| format!("limit {limit:.0} W"));
    let guides: Vec<Guide<'_>> = limit
        .map(|value| Guide { value, label: &label, style: theme.style(Role::Target) })
        .into_iter()
        .collect();
    let series = [series(run, Channel::BoardPower, theme.style(Role::Clock))];
    let range = (0.0, (high / 20.0).ceil() * 20.0);
    Plot { series: &series, guides: &guides, range, window: (0.0, span) }
        .draw(buffer, space, theme);
}

/// Least upper end of the temperatures that are shown, °C.
const COOL: f64 = 60.0;

fn draw_temperature(buffer: &mut Buffer, area: Rect, theme: Theme, run: &RunView, span: f64) {
    let aside = format!(
        "core {}, hot spot {}",
        reading(run, Channel::CoreTemperature),
        reading(run, Channel::HotSpot)
    );
    let space = panel(buffer, area, theme, "Temperature, °C", &aside);
    let highest = [Channel::HotSpot, Channel::CoreTemperature]
        .into_iter()
        .filter_map(|channel| highest(run, channel))
        .chain(run.temperature_target)
        .fold(COOL, f64::max);
    let label =
        run.temperature_target.map_or(String::new(), |target| format!("target {target:.0} °C"));
    let guides: Vec<Guide<'_>> = run
        .temperature_target
        .map(|value| Guide { value, label: &label, style: theme.style(Role::Target) })
        .into_iter()
        .collect();
    let series = [
        series(run, Channel::HotSpot, theme.style(Role::Second)),
        series(run, Channel::CoreTemperature, theme.style(Role::Clock)),
    ];
    let range = (20.0, (highest / 10.0).ceil() * 10.0);
    Plot { series: &series, guides: &guides, range, window: (0.0, span) }
        .draw(buffer, space, theme);
}

/// The newest reading of a run with its unit, or a dash for a sensor that is missing.
fn reading(run: &RunView, channel: Channel) -> String {
    run.sample
        .get(channel)
        .map_or_else(|| "–".into(), |value| format!("{value:.0} {}", channel.unit()))
}

pub(crate) fn draw_scene(buffer: &mut Buffer, area: Rect, theme: Theme, run: &RunView) {
    if area.height == 0 {
        return;
    }
    let Some(shown) = &run.picture else {
        panel(buffer, area, theme, &format!("Scene {}", run.scene), "");
        return;
    };
    let heading = format!("Scene {}, frame {}", run.scene, shown.number);
    let aside = match shown.wrong_pixels {
        0 => "no wrong pixel".to_owned(),
        1 => "1 wrong pixel".to_owned(),
        count => format!("{count} wrong pixels"),
    };
    let space = panel(buffer, area, theme, &heading, &aside);
    picture::draw(buffer, space, theme, shown);
}

/// Which chart of the climb is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum ChartKind {
    /// That of the present stage.
    #[default]
    OfStage,
    /// The staircase of the core clock.
    Core,
    /// The staircase of the memory clock.
    Memory,
    /// The staircase of the voltage.
    Voltage,
    /// Core against memory.
    Map,
}

/// What is drawn: a staircase of a clock by its place among the snapshot's, a walk down in voltage by
/// its place, or the map.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Drawn {
    Clock(usize),
    Voltage(usize),
    Map,
}

impl ChartKind {
    /// The chart after this one; that of the voltage only where the climb walks it down.
    pub(crate) fn next(self, snapshot: &Snapshot) -> Self {
        match self {
            Self::OfStage => Self::Core,
            Self::Core => Self::Memory,
            Self::Memory if !snapshot.climb.descents.is_empty() => Self::Voltage,
            Self::Memory | Self::Voltage => Self::Map,
            Self::Map => Self::OfStage,
        }
    }

    pub(super) fn drawn(self, snapshot: &Snapshot) -> Drawn {
        let stage = match (snapshot.runs.activity, &snapshot.runs.newest) {
            (Activity::Running | Activity::Paused, Some(run)) => run.stage,
            _ => snapshot.climb.stage,
        };
        let descents = &snapshot.climb.descents;
        let of_stage = |stage| descents.iter().position(|(strategy, _)| *strategy == stage);
        match self {
            Self::Core => Drawn::Clock(0),
            Self::Memory => Drawn::Clock(1),
            Self::Map => Drawn::Map,
            // That of the present stage, else the last that was begun.
            Self::Voltage => of_stage(stage)
                .or_else(|| descents.iter().rposition(|(_, descent)| !descent.trials.is_empty()))
                .or((!descents.is_empty()).then_some(0))
                .map_or(Drawn::Map, Drawn::Voltage),
            Self::OfStage => match (stage, of_stage(stage)) {
                (_, Some(place)) => Drawn::Voltage(place),
                (Stage::Memory, _) => Drawn::Clock(1),
                (Stage::Together, _) => Drawn::Map,
                _ => Drawn::Clock(0),
            },
        }
    }
}

/// Settings that run or come next.
fn settings_next(snapshot: &Snapshot) -> Option<&Settings> {
    let running = matches!(snapshot.runs.activity, Activity::Running | Activity::Paused);
    match (&snapshot.climb.next, &snapshot.runs.newest) {
        (_, Some(run)) if running => Some(&run.asked),
        (NextView::Trial { asked, .. }, _) => Some(asked),
        _ => None,
    }
}

/// A staircase of a clock as it stands in a snapshot; none for one the climb does not climb.
pub(super) fn stairs(snapshot: &Snapshot, place: usize) -> Option<Staircase> {
    let stairs = snapshot.climb.stairs.get(place)?.as_deref()?;
    let axis = Axis::of(&snapshot.machine.card, stairs.domain)?;
    let running = matches!(snapshot.runs.activity, Activity::Running | Activity::Paused);
    let next = if running {
        settings_next(snapshot).map(|settings| axis.read(settings))
    } else {
        stairs.next
    };
    Some(Staircase::of_clock(stairs, next, snapshot.looked_here()))
}

/// A walk down in voltage as it stands in a snapshot.
pub(super) fn descent(snapshot: &Snapshot, place: usize) -> Option<Staircase> {
    let (_, descent) = snapshot.climb.descents.get(place)?;
    let running = matches!(snapshot.runs.activity, Activity::Running | Activity::Paused);
    let next = if running {
        let asked = settings_next(snapshot).and_then(|settings| descent.depth.read(settings));
        asked.map(|(depth, _)| depth)
    } else {
        descent.next
    };
    Some(Staircase::of_descent(descent, next, snapshot.looked_here()))
}

fn map(snapshot: &Snapshot) -> Chart<'_> {
    let selected = snapshot.looked_here();
    Chart { map: &snapshot.climb.map, selected }
}

fn draw_stairs(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    chart: ChartKind,
) {
    let policy = snapshot.climb.plan.policy;
    match chart.drawn(snapshot) {
        Drawn::Map => {
            let heading = "Map: core against memory, MHz from stock";
            let space = panel(buffer, area, theme, heading, &format!("{policy}"));
            map(snapshot).draw(buffer, space, theme);
        }
        Drawn::Clock(place) => draw_clock_stairs(buffer, area, theme, snapshot, place),
        Drawn::Voltage(place) => {
            let Some(staircase) = descent(snapshot, place) else { return };
            let stage = snapshot
                .climb
                .descents
                .get(place)
                .map_or(Stage::UndervoltQuiet, |(stage, _)| *stage);
            let edge = staircase.band.map_or(String::new(), |(low, high)| {
                format!(": edge {} to {}", short(high), short(low))
            });
            let heading = format!("Staircase: {stage}, mV");
            let space = panel(buffer, area, theme, &heading, &format!("{policy}{edge}"));
            staircase.draw(buffer, space, theme);
        }
    }
}

fn draw_clock_stairs(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    place: usize,
) {
    let policy = snapshot.climb.plan.policy;
    let name = if place == 0 { "core" } else { "memory" };
    let found = snapshot.climb.stairs.get(place).and_then(|stairs| stairs.as_deref());
    let Some((staircase, found)) = stairs(snapshot, place).zip(found) else {
        let space = panel(buffer, area, theme, &format!("Staircase: {name}"), "");
        let text = format!("This climb does not look for the edge of the {name} clock.");
        write_wrapped(buffer, space, &text, theme.style(Role::Dim));
        return;
    };
    let (floor, ceiling) = (found.bracket.floor.0, found.bracket.ceiling);
    let aside = match (found.band, ceiling) {
        (Some((low, high)), _) if policy == Policy::Bayesian => {
            format!("{policy}: edge {} to {}", short(low.0), short(high.0))
        }
        (_, Some(failure)) => {
            format!("{policy}: edge {} to {}", short(floor), short(failure.value.0))
        }
        _ if !found.trials.is_empty() => format!("{policy}: edge above {}", short(floor)),
        _ => format!("{policy}"),
    };
    let heading = format!("Staircase: {name}, MHz");
    let space = panel(buffer, area, theme, &heading, &aside);
    staircase.draw(buffer, space, theme);
}

/// Number of the trial that lies at a place of the view.
pub(crate) fn trial_at(
    area: Rect,
    snapshot: &Snapshot,
    chart: ChartKind,
    (x, y): (u16, u16),
) -> Option<u32> {
    let space = inside(layout(area, snapshot.shown().map(Arc::as_ref)).stairs);
    if !space.contains((x, y).into()) {
        return None;
    }
    match chart.drawn(snapshot) {
        Drawn::Clock(place) => stairs(snapshot, place)?.trial_at(space, x),
        Drawn::Voltage(place) => descent(snapshot, place)?.trial_at(space, x),
        Drawn::Map => map(snapshot).trial_at(space, (x, y)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;

    #[rstest]
    #[case(160, 47)]
    #[case(100, 27)]
    fn the_clock_line_is_the_largest_part(#[case] width: u16, #[case] height: u16) {
        let places = layout(Rect::new(0, 0, width, height), None);
        let others = [
            places.next,
            places.power,
            places.temperature,
            places.fan,
            places.stairs,
            places.facts,
            places.scene,
        ];
        assert!(others.iter().all(|other| other.area() < places.clock.area()), "{places:?}");
        assert!(others.iter().all(|other| other.height >= 3 && other.width >= 36), "{places:?}");
    }

    #[test]
    fn the_lane_lies_right_below_the_clock_line() {
        let snapshot = snapshot();
        let theme = Theme::new(Depth::None);
        let lines =
            drawn(160, 47, |buffer, area| draw(buffer, area, theme, &snapshot, ChartKind::OfStage));
        let lane = lines.iter().position(|line| line.contains(" limit  power")).unwrap();
        assert!(lines[5].contains("Clock line, MHz: trial 4"), "{}", lines[5]);
        assert!(lines[lane + 1].contains("warm-up") || lines[lane + 1].contains("10 min"));
        assert!(lines.iter().any(|line| line.contains("edge +60 to +120")));
        assert!(lines.iter().any(|line| line.contains("1 wrong pixel")));
    }

    #[test]
    fn a_step_of_the_staircase_can_be_picked() {
        let snapshot = snapshot();
        let area = Rect::new(0, 1, 160, 47);
        let stairs = inside(layout(area, snapshot.shown().map(Arc::as_ref)).stairs);
        assert_eq!(
            trial_at(area, &snapshot, ChartKind::Core, (stairs.x + 8, stairs.y + 2)),
            Some(1)
        );
        assert_eq!(trial_at(area, &snapshot, ChartKind::Core, (2, 20)), None);
    }

    #[test]
    fn any_size_and_any_moment_will_do() {
        let mut snapshot = snapshot();
        for round in 0..3 {
            if round == 1 {
                snapshot.runs.activity = Activity::Running;
            }
            if round == 2 {
                snapshot.runs.newest = None;
                snapshot.climb.trials = std::sync::Arc::default();
            }
            for (width, height) in AWKWARD.into_iter().chain([(100, 27), (60, 15), (250, 80)]) {
                drawn(width, height, |buffer, area| {
                    draw(buffer, area, Theme::new(Depth::True), &snapshot, ChartKind::Map);
                    draw(buffer, area, Theme::new(Depth::True), &snapshot, ChartKind::OfStage);
                });
            }
        }
    }
}
