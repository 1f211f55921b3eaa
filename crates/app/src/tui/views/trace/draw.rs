//! Trace: everything that was measured, strip below strip on one axis of time.
//!
//! ```text
//! ┌ what is shown, which stretch of it ──────────────────────────┐
//! ├ clock: reported, effective, target ──┬ figures ──────────────┤
//! │ limiter lane, marks                  │ at the cursor, lowest,│
//! ├ power ───────────────────────────────┤ mean, highest         │
//! ├ temperature ─────────────────────────┤                       │
//! ├ voltage · fan · load · frame rate ───┼ what happened ────────┤
//! └ axis ────────────────────────────────┴───────────────────────┘
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::Style;
use yard_step_core::Channel;
use yard_step_engine::{Mark, MarkKind, RunView, Snapshot};

use crate::tui::theme::{Role, Theme};
use crate::tui::views::survey::draw::short;
use crate::tui::views::trace::state::{Shown, TraceState};
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::plot::{Guide, Plot, Series, field};
use crate::tui::widgets::{lane, row, wrapped, write, write_right, write_wrapped};

/// Seconds in which a card comes up from its idle clock; they do not set the range of a plot.
pub(crate) const RISE: f64 = 5.0;

/// The strips below the clock line.
pub(super) const STRIPS: [Strip; 6] = [
    Strip {
        heading: "Power, W",
        channels: &[Channel::ChipPower, Channel::BoardPower],
        from_zero: false,
    },
    Strip {
        heading: "Temperature, °C",
        channels: &[Channel::MemoryTemperature, Channel::HotSpot, Channel::CoreTemperature],
        from_zero: false,
    },
    Strip { heading: "Voltage, mV", channels: &[Channel::Voltage], from_zero: false },
    Strip { heading: "Fan, %", channels: &[Channel::Fan], from_zero: true },
    Strip { heading: "Load, %", channels: &[Channel::Background, Channel::Load], from_zero: true },
    Strip { heading: "Frame rate, fps", channels: &[Channel::FrameRate], from_zero: true },
];

pub(super) struct Strip {
    pub heading: &'static str,
    /// The last one is the main one.
    pub channels: &'static [Channel],
    pub from_zero: bool,
}

/// Where the parts of the view lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    head: Rect,
    clock: Rect,
    lane: Rect,
    marks: Rect,
    strips: [Rect; STRIPS.len()],
    axis: Rect,
    figures: Rect,
    events: Rect,
}

pub(crate) fn layout(area: Rect) -> Places {
    let roomy = area.height >= 40;
    let [head, body] =
        Layout::vertical([Constraint::Length(if roomy { 2 } else { 1 }), Constraint::Fill(1)])
            .areas(area);
    let right = if area.width >= 150 { 52 } else { 47 };
    let [left, _, right] =
        Layout::horizontal([Constraint::Fill(1), Constraint::Length(1), Constraint::Length(right)])
            .areas(body);
    let heights: [u16; STRIPS.len()] = if roomy { [5, 7, 4, 3, 3, 4] } else { [3, 3, 2, 2, 2, 2] };
    let [clock, lane, marks, a, b, c, d, e, f, axis] = Layout::vertical([
        Constraint::Fill(1),
        Constraint::Length(1),
        Constraint::Length(1),
        Constraint::Length(heights[0]),
        Constraint::Length(heights[1]),
        Constraint::Length(heights[2]),
        Constraint::Length(heights[3]),
        Constraint::Length(heights[4]),
        Constraint::Length(heights[5]),
        Constraint::Length(1),
    ])
    .areas(left);
    let table = Channel::ALL.len() as u16 + 2;
    let [figures, events] =
        Layout::vertical([Constraint::Length(table), Constraint::Fill(1)]).areas(right);
    Places { head, clock, lane, marks, strips: [a, b, c, d, e, f], axis, figures, events }
}

/// Share of the shown stretch at a column of the screen, if the column lies in the strips.
pub(crate) fn share_at(area: Rect, (x, y): (u16, u16)) -> Option<f64> {
    let places = layout(area);
    let left = Rect { height: places.axis.bottom().saturating_sub(places.clock.y), ..places.clock };
    let field = field(left);
    field
        .contains((x, y).into())
        .then(|| (f64::from(x - field.x) + 0.5) / f64::from(field.width.max(1)))
}

/// Share of the stretch that one column of the screen is.
pub(crate) fn column_share(area: Rect) -> f64 {
    1.0 / f64::from(field(layout(area).clock).width.max(1))
}

pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    state: &TraceState,
) {
    let places = layout(area);
    let Some(shown) = state.shown(snapshot) else {
        let space = panel(buffer, area, theme, "Trace", "");
        let text = "Nothing has run yet. Enter makes the next trial and its trace is drawn here; i \
                    reads one that was made elsewhere.";
        let place = Rect {
            x: space.x + 2,
            y: space.y + space.height / 2,
            width: space.width.saturating_sub(4),
            height: space.height / 2,
        };
        write_wrapped(buffer, place, text, theme.style(Role::Dim));
        return;
    };
    let view = View {
        shown,
        over: snapshot.runs.laid_over.as_deref(),
        window: state.window(shown),
        theme,
    };
    view.draw_head(buffer, places.head, state);
    view.draw_clock(buffer, places.clock);
    lane::draw(buffer, places.lane, theme, shown.trace, view.window);
    view.draw_marks(buffer, places.marks);
    for (strip, place) in STRIPS.iter().zip(places.strips) {
        view.draw_strip(buffer, place, strip);
    }
    view.draw_axis(buffer, places.axis);
    if let Some(cursor) = state.cursor {
        view.draw_cursor(buffer, &places, cursor);
    }
    view.draw_figures(buffer, places.figures, state, snapshot);
    view.draw_events(buffer, places.events, state.cursor);
}

/// What is shown, in a line.
pub(super) fn title(shown: Shown<'_>) -> String {
    match (shown.run, shown.file) {
        (Some(run), _) => {
            let verdict = run
                .judgement
                .as_ref()
                .map_or("running".to_owned(), |judgement| judgement.verdict.to_string());
            let what = &run.what;
            let stage = run.stage.label();
            let purpose = match run.purpose.label() {
                same if same == stage => String::new(),
                purpose => format!(", {purpose}"),
            };
            let number = run.title.strip_prefix("trial ").unwrap_or(&run.title);
            format!("Trial {number} at {what}, {stage}{purpose}, {}: {verdict}", run.scene)
        }
        (None, Some(file)) => format!("{}: {} samples", file.name, file.trace.len()),
        (None, None) => String::new(),
    }
}

/// What is needed to draw every part.
struct View<'a> {
    shown: Shown<'a>,
    over: Option<&'a RunView>,
    window: (f64, f64),
    theme: Theme,
}

impl<'a> View<'a> {
    fn draw_head(&self, buffer: &mut Buffer, area: Rect, state: &TraceState) {
        let line = row(area, 0);
        let title = title(self.shown);
        let end = write(buffer, line, (line.x + 1, line.y), &title, self.theme.style(Role::Title));
        let (from, to) = self.window;
        let mut aside = format!(
            "{} to {} of {}",
            clock_time(from, to - from),
            clock_time(to, to - from),
            clock_time(self.shown.trace.seconds(), to - from)
        );
        if state.is_frozen() {
            aside = format!("held still · {aside}");
        }
        if let Some(over) = self.over {
            aside = format!("laid over: trial {} · {aside}", over.number);
        }
        let left = Rect { x: end, width: line.right().saturating_sub(end), ..line };
        write_right(buffer, left, line.y, &aside, self.theme.style(Role::Dim));
        if let Some(told) = &state.told {
            let line = row(area, 1);
            write(buffer, line, (line.x + 1, line.y), told, self.theme.style(Role::Warn));
        }
    }

    fn series(&self, channel: Channel, style: Style) -> Series<'a> {
        Series { trace: self.shown.trace, channel, style, envelope: true }
    }

    fn line(&self, channel: Channel, style: Style) -> Series<'a> {
        Series { envelope: false, ..self.series(channel, style) }
    }

    /// The same channel of the trial laid over, thin and grey.
    fn over(&self, channel: Channel) -> Option<Series<'a>> {
        let style = self.theme.style(Role::Dim);
        self.over.map(|run| Series { trace: &run.trace, channel, style, envelope: false })
    }

    /// Lowest and highest reading shown of some channels, the card's rise left out.
    fn extent(&self, channels: &[Channel]) -> Option<(f64, f64)> {
        let (from, to) = self.window;
        let from = if to > RISE * 2.0 { from.max(RISE) } else { from };
        let traces = [Some(self.shown.trace), self.over.map(|run| &run.trace)];
        traces
            .into_iter()
            .flatten()
            .flat_map(|trace| channels.iter().filter_map(move |c| trace.over(*c, from, to)))
            .map(|bucket| (f64::from(bucket.lowest), f64::from(bucket.highest)))
            .reduce(|(low, high), (l, h)| (low.min(l), high.max(h)))
    }

    fn draw_clock(&self, buffer: &mut Buffer, area: Rect) {
        let theme = self.theme;
        let space = panel(buffer, area, theme, "Clock, MHz", "");
        self.draw_legend(buffer, area, &[("reported", Role::Clock), ("effective", Role::Second)]);
        let target = self.shown.run.map(|run| run.target.value());
        let (low, high) =
            self.extent(&[Channel::CoreClock, Channel::EffectiveClock]).unwrap_or((0.0, 1.0));
        let high = target.map_or(high, |target| target.max(high));
        let range = padded(low, high, 15.0);
        let label = target.map_or(String::new(), |target| format!("target {target:.0} MHz"));
        let guides: Vec<Guide<'_>> = target
            .map(|value| Guide { value, label: &label, style: theme.style(Role::Target) })
            .into_iter()
            .collect();
        let series: Vec<Series<'_>> = [
            self.over(Channel::CoreClock),
            Some(self.line(Channel::EffectiveClock, theme.style(Role::Second))),
            Some(self.series(Channel::CoreClock, theme.style(Role::Clock))),
        ]
        .into_iter()
        .flatten()
        .collect();
        Plot { series: &series, guides: &guides, range, window: self.window }
            .draw(buffer, space, theme);
    }

    fn draw_strip(&self, buffer: &mut Buffer, area: Rect, strip: &Strip) {
        let theme = self.theme;
        let space = panel(buffer, area, theme, strip.heading, "");
        self.draw_legend(buffer, area, &names(strip));
        let Some((low, high)) = self.extent(strip.channels) else {
            let text = "no reading";
            write(buffer, space, (space.x + 8, space.y), text, theme.style(Role::Dim));
            return;
        };
        let guides = self.guides(strip);
        let high = guides.iter().map(|guide| guide.value).fold(high, f64::max);
        let range = if strip.from_zero {
            (0.0, (high / 10.0).ceil().max(1.0) * 10.0)
        } else {
            padded(low, high, 5.0)
        };
        let main = strip.channels.len() - 1;
        let mut series: Vec<Series<'_>> = Vec::new();
        series.extend(strip.channels.last().and_then(|channel| self.over(*channel)));
        for (index, channel) in strip.channels.iter().enumerate() {
            series.push(if index == main {
                self.series(*channel, theme.style(Role::Clock))
            } else {
                self.line(*channel, theme.style(beside(*channel)))
            });
        }
        Plot { series: &series, guides: &guides, range, window: self.window }
            .draw(buffer, space, theme);
    }

    /// The lines of a strip by name, each in its colour, at the right of its rule.
    fn draw_legend(&self, buffer: &mut Buffer, area: Rect, names: &[(&str, Role)]) {
        let rule = row(area, 0);
        let width: usize = names.iter().map(|(name, _)| name.len() + 3).sum();
        if names.len() < 2 || width + 30 > usize::from(area.width) {
            return;
        }
        let mut x = rule.right().saturating_sub(width as u16);
        for (name, role) in names {
            let text = format!(" ━ {name}");
            x = write(buffer, rule, (x, rule.y), &text, self.theme.style(*role));
        }
    }

    fn guides(&self, strip: &Strip) -> Vec<Guide<'a>> {
        let Some(run) = self.shown.run else { return Vec::new() };
        let style = self.theme.style(Role::Target);
        match strip.channels.last() {
            Some(Channel::BoardPower) => {
                let limit = run.power_limit.map(|value| Guide { value, label: "limit", style });
                limit.into_iter().collect()
            }
            Some(Channel::CoreTemperature) => {
                let target = run.temperature_target;
                let target = target.map(|value| Guide { value, label: "target", style });
                let ceiling = Guide {
                    value: run.temperature_ceiling,
                    label: "ceiling",
                    style: self.theme.style(Role::Bad),
                };
                target.into_iter().chain([ceiling]).collect()
            }
            _ => Vec::new(),
        }
    }

    /// Column of a time in a field, if it is shown.
    fn column(&self, at: f64, field: Rect) -> Option<u16> {
        let (from, to) = self.window;
        let share = (at - from) / (to - from);
        let inside = (0.0..=1.0).contains(&share) && field.width > 0;
        inside.then(|| field.x + ((share * f64::from(field.width)) as u16).min(field.width - 1))
    }

    fn draw_marks(&self, buffer: &mut Buffer, area: Rect) {
        let field = field(area);
        let labels = Rect { width: area.width.min(6), ..area };
        write_right(buffer, labels, area.y, "marks", self.theme.style(Role::Dim));
        for mark in self.marks() {
            if let Some(x) = self.column(mark.at.value(), field) {
                let (shape, role) = shape(mark.kind);
                write(buffer, field, (x, field.y), shape, self.theme.style(role));
            }
        }
    }

    fn marks(&self) -> &'a [Mark] {
        self.shown.run.map_or(&[], |run| &run.marks)
    }

    fn draw_axis(&self, buffer: &mut Buffer, area: Rect) {
        let field = field(area);
        let (from, to) = self.window;
        let dim = self.theme.style(Role::Dim);
        for quarter in 0..=4_u16 {
            let text = clock_time(from + (to - from) * f64::from(quarter) / 4.0, to - from);
            let width = text.chars().count() as u16;
            let x = field.x + (u32::from(field.width) * u32::from(quarter) / 4) as u16;
            let x = match quarter {
                0 => x,
                4 => x.saturating_sub(width),
                _ => x.saturating_sub(width / 2),
            };
            write(buffer, field, (x, field.y), &text, dim);
        }
    }

    /// The ground of the cursor's column, through all strips.
    fn draw_cursor(&self, buffer: &mut Buffer, places: &Places, cursor: f64) {
        let field = field(places.clock);
        let Some(x) = self.column(cursor, field) else { return };
        let style = self.theme.style(Role::Selected);
        for y in places.clock.y + 1..places.axis.y {
            if let Some(cell) = buffer.cell_mut((x, y)) {
                cell.set_style(style);
            }
        }
    }

    fn draw_figures(
        &self,
        buffer: &mut Buffer,
        area: Rect,
        state: &TraceState,
        snapshot: &Snapshot,
    ) {
        let end = self.shown.trace.seconds();
        let aside = format!("since {}", clock_time(state.since, end));
        let space = panel(buffer, area, self.theme, "Figures", &aside);
        let columns = Columns::of(space);
        let head = row(space, 0);
        let at = match state.cursor {
            Some(at) => clock_time(at, self.window.1 - self.window.0),
            None => "now".into(),
        };
        let dim = self.theme.style(Role::Dim);
        columns.write(buffer, head, [&at, "low", "mean", "high"], [dim; 4]);
        let sample = self.shown.trace.at(state.cursor.unwrap_or(end)).map(|(sample, _)| sample);
        for (index, channel) in Channel::ALL.into_iter().enumerate() {
            let line = row(space, index as u16 + 1);
            let label = format!("{}, {}", short(channel), channel.unit());
            write(buffer, line, (line.x + 1, line.y), &label, dim);
            let Some(all) = self.shown.trace.over(channel, state.since - 0.05, end + 0.05) else {
                let sensed = self.shown.run.is_none() || snapshot.machine.card.senses(channel);
                let why = if sensed { "–" } else { "no such sensor" };
                write_right(buffer, line, line.y, why, dim);
                continue;
            };
            let now = sample.and_then(|sample| sample.get(channel));
            let text = |value: f64| number(channel, value);
            let cells = [
                now.map_or_else(|| "–".into(), text),
                text(f64::from(all.lowest)),
                text(f64::from(all.mean())),
                text(f64::from(all.highest)),
            ];
            let body = self.theme.style(Role::Text);
            let styles = [self.theme.style(Role::Clock), body, body, body];
            columns.write(buffer, line, [&cells[0], &cells[1], &cells[2], &cells[3]], styles);
        }
    }

    fn draw_events(&self, buffer: &mut Buffer, area: Rect, cursor: Option<f64>) {
        let space = panel(buffer, area, self.theme, "What happened", "");
        let dim = self.theme.style(Role::Dim);
        let told = self.shown.file.map_or(&[][..], |file| &file.told);
        let mut line = 0;
        for text in told {
            line += self.draw_event(buffer, space, line, ("", dim), text);
        }
        let (from, to) = self.window;
        let shown: Vec<&Mark> =
            self.marks().iter().filter(|m| (from..=to).contains(&m.at.value())).collect();
        if shown.is_empty() && told.is_empty() {
            let place = Rect { x: space.x + 1, width: space.width.saturating_sub(2), ..space };
            write_wrapped(buffer, place, "No events in this stretch.", dim);
            return;
        }
        // Those around the cursor, or else the newest.
        let near = cursor.map_or(shown.len(), |at| shown.partition_point(|m| m.at.value() <= at));
        let first = near.saturating_sub(usize::from(space.height) / 2);
        for mark in &shown[first.min(shown.len())..] {
            let (shape, role) = shape(mark.kind);
            let text = format!("{} {}", clock_time(mark.at.value(), to - from), mark.text);
            line += self.draw_event(buffer, space, line, (shape, self.theme.style(role)), &text);
        }
    }

    /// One event over as many rows as it needs; returns how many.
    fn draw_event(
        &self,
        buffer: &mut Buffer,
        area: Rect,
        first: u16,
        (shape, style): (&str, Style),
        text: &str,
    ) -> u16 {
        let lines = wrapped(text, usize::from(area.width.saturating_sub(4).max(1)));
        for (index, text) in lines.iter().enumerate() {
            let line = row(area, first + index as u16);
            if index == 0 {
                write(buffer, line, (line.x + 1, line.y), shape, style);
            }
            write(buffer, line, (line.x + 3, line.y), text, self.theme.style(Role::Text));
        }
        lines.len() as u16
    }
}

/// Right edges of the four columns of figures.
struct Columns {
    ends: [u16; 4],
    width: u16,
}

impl Columns {
    fn of(area: Rect) -> Self {
        let width = if area.width >= 48 { 8 } else { 7 };
        let last = area.right();
        Self { ends: [3, 2, 1, 0].map(|place| last.saturating_sub(place * width)), width }
    }

    fn write(&self, buffer: &mut Buffer, line: Rect, cells: [&str; 4], styles: [Style; 4]) {
        for ((end, cell), style) in self.ends.into_iter().zip(cells).zip(styles) {
            let x = end.saturating_sub(self.width).max(line.x);
            let place = Rect { x, width: end.saturating_sub(x), ..line };
            write_right(buffer, place.intersection(line), line.y, cell, style);
        }
    }
}

/// The channels of a strip with their colours, the main one first.
fn names(strip: &Strip) -> Vec<(&'static str, Role)> {
    let main = strip.channels.len() - 1;
    let named = |(index, channel): (usize, &Channel)| {
        (short(*channel), if index == main { Role::Clock } else { beside(*channel) })
    };
    strip.channels.iter().enumerate().rev().map(named).collect()
}

const fn beside(channel: Channel) -> Role {
    match channel {
        Channel::HotSpot => Role::Second,
        Channel::MemoryTemperature | Channel::RegulatorTemperature => Role::Warn,
        _ => Role::Second,
    }
}

const fn shape(kind: MarkKind) -> (&'static str, Role) {
    match kind {
        MarkKind::Applied => ("▹", Role::Accent),
        MarkKind::Dip => ("∨", Role::Warn),
        MarkKind::Fault => ("▼", Role::Bad),
        MarkKind::Alarm => ("!", Role::Bad),
        MarkKind::Restart => ("↻", Role::Warn),
        MarkKind::Note => ("·", Role::Dim),
    }
}

/// A reading with the digits that mean something.
fn number(channel: Channel, value: f64) -> String {
    match channel {
        Channel::CoreClock | Channel::EffectiveClock | Channel::MemoryClock | Channel::Voltage => {
            format!("{value:.0}")
        }
        _ => format!("{value:.1}"),
    }
}

/// A range with a little room around it, in whole steps.
fn padded(low: f64, high: f64, step: f64) -> (f64, f64) {
    let room = ((high - low) * 0.06).max(step / 2.0);
    (((low - room) / step).floor() * step, ((high + room) / step).ceil() * step)
}

/// A time of a run, as fine as the stretch shown wants it: `12.4 s`, `3:25`, `7:03:25`.
fn clock_time(seconds: f64, span: f64) -> String {
    if span < 60.0 && seconds < 600.0 {
        return format!("{seconds:.1} s");
    }
    let whole = seconds.max(0.0);
    let (hours, minutes) = ((whole / 3_600.0) as u64, (whole / 60.0) as u64 % 60);
    let rest = whole % 60.0;
    let rest = if span < 60.0 { format!("{rest:04.1}") } else { format!("{:02}", rest as u64) };
    if hours > 0 { format!("{hours}:{minutes:02}:{rest}") } else { format!("{minutes}:{rest}") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{run_view, snapshot};
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;
    use std::sync::Arc;

    fn lines(width: u16, height: u16, snapshot: &Snapshot, state: &TraceState) -> Vec<String> {
        let theme = Theme::new(Depth::None);
        drawn(width, height, |buffer, area| draw(buffer, area, theme, snapshot, state))
    }

    #[rstest]
    #[case(160, 47)]
    #[case(100, 27)]
    fn every_strip_has_its_place_and_the_clock_the_largest(
        #[case] width: u16,
        #[case] height: u16,
    ) {
        let places = layout(Rect::new(0, 0, width, height));
        assert!(places.strips.iter().all(|strip| strip.height >= 2));
        assert!(places.strips.iter().all(|strip| strip.height < places.clock.height));
        let text = lines(width, height, &snapshot(), &TraceState::default()).join("\n");
        for strip in &STRIPS {
            assert!(text.contains(strip.heading), "{}\n{text}", strip.heading);
        }
        assert!(text.contains("Trial 4 at core +60 MHz, core, step, lantern: running"), "{text}");
        assert!(text.contains("target 2205 MHz") && text.contains("ceiling"), "{text}");
        assert!(text.contains(" limit  power"), "{text}");
    }

    #[test]
    fn figures_are_of_the_time_since_the_reset_and_at_the_cursor() {
        let snapshot = snapshot();
        let mut state = TraceState::default();
        let text = |state: &TraceState| lines(160, 47, &snapshot, state);
        let row = |state: &TraceState, label: &str| {
            let lines = text(state);
            let line = lines.iter().find(|line| line.contains(label)).unwrap();
            line.split(label).last().unwrap().split_whitespace().map(str::to_owned).collect()
        };
        let whole: Vec<String> = row(&state, "core temp., °C");
        assert_eq!(whole, ["68.0", "38.0", "63.5", "68.0"]);
        let none: Vec<String> = row(&state, "memory clock, MHz");
        assert_eq!(none, ["no", "such", "sensor"], "{none:?}");
        state.since = 300.0;
        state.cursor = Some(90.0);
        let later: Vec<String> = row(&state, "core temp., °C");
        assert_eq!(later[0], "57.0", "at the cursor: 68 less 30 / e");
        assert_eq!(later[1], "66.9", "since then");
        assert!(text(&state).iter().any(|line| line.contains("since 5:00")));
    }

    #[test]
    fn events_are_marked_and_told_where_they_are_shown() {
        let snapshot = snapshot();
        let mut state = TraceState::default();
        let all = lines(160, 47, &snapshot, &state);
        assert!(all.iter().any(|line| line.contains("marks ▹") && line.contains('∨')), "{all:?}");
        assert!(all.iter().any(|line| line.contains("5:10 dip of 90 MHz")));
        state.zoom(state.clone().shown(&snapshot).unwrap(), 0.01);
        let narrow = lines(160, 47, &snapshot, &state).join("\n");
        assert!(narrow.contains("No events in this stretch."), "{narrow}");
    }

    #[test]
    fn another_trial_is_laid_over_and_said_to_be() {
        let mut snapshot = snapshot();
        snapshot.runs.laid_over = Some(Arc::new(RunView { number: 2, ..run_view() }));
        let text = lines(160, 47, &snapshot, &TraceState::default()).join("\n");
        assert!(text.contains("laid over: trial 2 · 0:00 to 10:20 of 10:00"), "{text}");
    }

    #[rstest]
    #[case(12.34, 30.0, "12.3 s")]
    #[case(205.0, 600.0, "3:25")]
    #[case(25_405.5, 86_400.0, "7:03:25")]
    #[case(25_405.5, 10.0, "7:03:25.5")]
    fn times_are_as_fine_as_the_stretch(#[case] at: f64, #[case] span: f64, #[case] text: &str) {
        assert_eq!(clock_time(at, span), text);
    }

    #[test]
    fn any_size_and_any_moment_will_do() {
        let mut snapshot = snapshot();
        let mut state = TraceState::default();
        state.cursor = Some(100.0);
        for round in 0..3 {
            if round == 1 {
                state.zoom(state.clone().shown(&snapshot).unwrap(), 0.001);
            }
            if round == 2 {
                snapshot.runs.newest = None;
            }
            for (width, height) in AWKWARD.into_iter().chain([(100, 27), (60, 15), (250, 80)]) {
                lines(width, height, &snapshot, &state);
            }
        }
    }

    #[test]
    fn a_click_in_the_strips_has_its_share_of_the_time() {
        let area = Rect::new(0, 1, 160, 47);
        let field = field(layout(area).clock);
        let left = share_at(area, (field.x, 20)).unwrap();
        let right = share_at(area, (field.right() - 1, 20)).unwrap();
        assert!(left < 0.01 && right > 0.99, "{left} {right}");
        assert_eq!(share_at(area, (2, 20)), None);
        assert_eq!(share_at(area, (150, 20)), None);
    }
}
