//! Survey: what the card is, offers and measures, and what it does at stock.
//!
//! ```text
//! ┌ verdict and next step ─────────────────────────────────────────┐
//! ├ card ──────────────┬ settings it offers ──┬ baseline ──────────┤
//! ├ sensors ───────────┤ name, range, held    │                    │
//! ├ kept, earlier ─────┼ notices ─────────────┼ plan ──────────────┤
//! ├ clock line of the newest run ─────────────────────────────────┤
//! └────────────────────────────────────────────────────────────────┘
//! ```
//! Where there is less room, the clock line is left to the view Climb.

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use yard_step_core::verdict::gain_percent;
use yard_step_core::{
    Baseline, Channel, Offer, Percent, Plan, Seconds, SettingKind, Stage, TrialRecord, Verdict,
};
use yard_step_engine::Snapshot;

use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::views::climb;
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::{next_step, row, wrapped, write, write_right, write_wrapped};

/// Where the parts of the view lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    pub next: Rect,
    pub card: Rect,
    pub sensors: Rect,
    pub settings: Rect,
    pub notices: Rect,
    pub baseline: Rect,
    pub history: Rect,
    pub plan: Rect,
    /// Only where there is room.
    pub run: Rect,
}

pub(crate) fn layout(area: Rect) -> Places {
    let roomy = area.height >= 40;
    let [next, body, run] = Layout::vertical([
        Constraint::Length(next_step::HEIGHT),
        Constraint::Fill(1),
        Constraint::Length(if roomy { 14 } else { 0 }),
    ])
    .areas(area);
    let gap = Constraint::Length(2);
    let shares = if roomy { [5, 7, 5] } else { [9, 11, 10] }.map(Constraint::Fill);
    let [left, _, middle, _, right] =
        Layout::horizontal([shares[0], gap, shares[1], gap, shares[2]]).areas(body);
    let settings = 1 + SettingKind::ALL.len() as u16;
    let [settings, notices] =
        Layout::vertical([Constraint::Length(settings), Constraint::Fill(1)]).areas(middle);
    let rows = if roomy { [11, 12] } else { [11, 40] };
    let [card, sensors, below_left] = stacked(left, rows);
    let rows = if roomy { [14, 40] } else { [9, 7] };
    let [baseline, plan, below_right] = stacked(right, rows);
    let history = if roomy { below_left } else { below_right };
    Places { next, card, sensors, settings, notices, baseline, history, plan, run }
}

/// Two parts of the given heights, as far as there is room, and the rest.
fn stacked(area: Rect, [first, second]: [u16; 2]) -> [Rect; 3] {
    Layout::vertical([Constraint::Length(first), Constraint::Max(second), Constraint::Fill(1)])
        .areas(area)
}

pub(crate) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let places = layout(area);
    next_step::draw(buffer, places.next, theme, snapshot);
    draw_card(buffer, places.card, theme, snapshot);
    draw_sensors(buffer, places.sensors, theme, snapshot);
    draw_settings(buffer, places.settings, theme, snapshot);
    draw_notices(buffer, places.notices, theme, snapshot);
    draw_baseline(buffer, places.baseline, theme, snapshot);
    draw_plan(buffer, places.plan, theme, snapshot);
    draw_history(buffer, places.history, theme, snapshot);
    draw_newest_run(buffer, places.run, theme, snapshot);
}

fn draw_newest_run(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    match climb::shown(snapshot) {
        Some(run) => climb::draw_clock(buffer, area, theme, run, climb::span(run)),
        None => {
            let space = panel(buffer, area, theme, "Clock line", "");
            let text =
                "The first run draws its clock here, against the highest the card may reach.";
            let at = (space.x + 2, space.y + space.height / 2);
            write(buffer, space, at, text, theme.style(Role::Dim));
        }
    }
}

/// Lines of a label and a value, the value at the right or, where it is long, behind the label.
fn draw_pairs(buffer: &mut Buffer, area: Rect, theme: Theme, pairs: &[(&str, String)]) {
    for (index, (label, value)) in pairs.iter().enumerate() {
        let line = row(area, index as u16);
        let end = write(buffer, line, (line.x + 1, line.y), label, theme.style(Role::Dim));
        let left = Rect { x: end + 1, width: line.right().saturating_sub(end + 2), ..line };
        let width = usize::from(left.width);
        let value: String = value.chars().take(width).collect();
        write_right(buffer, left, line.y, &value, theme.style(Role::Text));
    }
}

fn draw_card(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let card = &snapshot.card;
    let limits = &card.limits;
    let space = panel(buffer, area, theme, &card.name, &card.id);
    let pairs = [
        ("individual", card.serial.clone()),
        ("memory", format!("{} GiB", card.memory_gib)),
        ("memory type", card.memory_type.clone()),
        ("advertised boost", limits.boost_clock.to_string()),
        ("highest clock", limits.highest_clock.to_string()),
        ("boost bin", limits.clock_bin.to_string()),
        ("voltage ceiling", limits.voltage_ceiling.to_string()),
        ("stock power limit", limits.power_limit.to_string()),
        ("temperature ceiling", limits.temperature_ceiling.to_string()),
    ];
    draw_pairs(buffer, space, theme, &pairs);
}

fn draw_sensors(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "Sensors", "now");
    let run = snapshot.run.as_ref().filter(|run| run.judgement.is_none());
    let sample = run.map(|run| run.sample).or(snapshot.sensors);
    let pairs: Vec<(&str, String)> = Channel::ALL
        .into_iter()
        .map(|channel| {
            let value = sample.and_then(|sample| sample.get(channel));
            let text = match value {
                Some(value) => format!("{value:.0} {}", channel.unit()),
                None if snapshot.card.senses(channel) => "–".into(),
                None => "no such sensor".into(),
            };
            (channel.label(), text)
        })
        .collect();
    draw_pairs(buffer, space, theme, &pairs);
}

/// One line a setting: name, what is held, its range, and how it is counted.
fn draw_settings(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "Settings it offers", "held now");
    let held_at = space.x + LABEL + 1;
    let range_at = held_at + HELD + 1;
    for (index, kind) in SettingKind::ALL.into_iter().enumerate() {
        let line = row(space, index as u16);
        let offer = snapshot.card.offer(kind);
        let role = if offer.is_some() { Role::Text } else { Role::Dim };
        write(buffer, line, (line.x + 1, line.y), kind.label(), theme.style(role));
        let Some(offer) = offer else {
            let why = snapshot.card.why_not_offered(kind);
            write(buffer, line, (held_at, line.y), &format!("– {why}"), theme.style(Role::Dim));
            continue;
        };
        let held = snapshot.held.map_or_else(|| "–".into(), |held| held.show(kind));
        let cell = Rect { x: held_at, width: HELD, ..line };
        write_right(buffer, cell.intersection(line), line.y, &held, theme.style(Role::Clock));
        let counted = format!("{}, {}", offer.reading.label(), offer.show_step());
        let counted_width = if line.width >= 84 { COUNTED } else { 0 };
        let range = Rect {
            x: range_at,
            width: line.right().saturating_sub(range_at + counted_width),
            ..line
        };
        draw_range(buffer, range, theme, snapshot, offer);
        if counted_width > 0 {
            write_right(buffer, line, line.y, &counted, theme.style(Role::Dim));
        }
    }
}

/// Widths of the columns of the settings.
const LABEL: u16 = 20;
const HELD: u16 = 10;
const COUNTED: u16 = 24;
/// Width of the lowest value before a range.
const ENDS: u16 = 4;

/// The range as a line from lowest to highest, stock and the held value on it.
fn draw_range(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, offer: &Offer) {
    let (low, high) = (format!("{:.0}", offer.minimum), format!("{:.0}", offer.maximum));
    let low_end = area.x + 1 + ENDS;
    let labels = Rect { x: area.x, width: (ENDS + 1).min(area.width), ..area };
    write_right(buffer, labels, area.y, &low, theme.style(Role::Dim));
    let start = low_end + 1;
    write_right(buffer, area, area.y, &high, theme.style(Role::Dim));
    let end = area.right().saturating_sub(high.len() as u16 + 1);
    if end <= start + 2 {
        return;
    }
    let track = Rect { x: start, width: end - start, ..area };
    write(
        buffer,
        track,
        (start, area.y),
        &"╌".repeat(usize::from(track.width)),
        theme.style(Role::Faint),
    );
    let place = |value: f64| {
        let share = (value - offer.minimum) / (offer.maximum - offer.minimum).max(1e-9);
        start + (share.clamp(0.0, 1.0) * f64::from(track.width - 1)).round() as u16
    };
    if let Some(stock) = offer.stock {
        write(buffer, track, (place(stock), area.y), "┆", theme.style(Role::Text));
    }
    if let Some(held) = snapshot.held.and_then(|held| held.get(offer.kind)) {
        write(buffer, track, (place(held), area.y), "◈", theme.style(Role::Clock));
    }
}

fn draw_notices(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "What happened", "newest last");
    let width = usize::from(space.width.saturating_sub(3).max(1));
    let lines: Vec<(usize, String)> = snapshot
        .notices
        .iter()
        .flat_map(|notice| wrapped(notice, width).into_iter().enumerate())
        .collect();
    let surplus = lines.len().saturating_sub(usize::from(space.height));
    for (index, (part, text)) in lines.into_iter().skip(surplus).enumerate() {
        let line = row(space, index as u16);
        let mark = if part == 0 { "·" } else { " " };
        write(buffer, line, (line.x + 1, line.y), mark, theme.style(Role::Accent));
        write(buffer, line, (line.x + 3, line.y), &text, theme.style(Role::Text));
    }
}

fn draw_baseline(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let wanted = snapshot.plan.baseline.runs;
    let runs: Vec<&TrialRecord> =
        snapshot.trials.iter().filter(|trial| trial.stage == Stage::Baseline).collect();
    let aside = format!("{} of {wanted} runs count", snapshot.baseline_runs);
    let space = panel(buffer, area, theme, "Baseline", if runs.is_empty() { "" } else { &aside });
    let used = match snapshot.baseline {
        Some(baseline) => draw_baseline_figures(buffer, space, theme, &baseline, &runs),
        None => {
            let text = format!(
                "{wanted} runs at stock, the fan held, are what every gain is compared with. Enter \
                 makes the next one, a makes them all."
            );
            let place = Rect { x: space.x + 1, width: space.width.saturating_sub(2), ..space };
            write_wrapped(buffer, place, &text, theme.style(Role::Dim))
        }
    };
    let middle = snapshot.baseline.map(|baseline| baseline.score);
    for (index, run) in runs.iter().enumerate() {
        let line = row(space, used + index as u16);
        let verdict = run.verdict();
        let label = format!("run {}", run.number);
        write(buffer, line, (line.x + 1, line.y), &label, theme.style(Role::Dim));
        let text = format!("{} {verdict}", glyph(verdict));
        write(buffer, line, (line.x + 9, line.y), &text, theme.verdict(verdict));
        let score = match (run.score, middle) {
            (Some(score), Some(middle)) if line.width >= 36 => {
                format!("{score:.0} ({:+.2} %)", gain_percent(score, middle))
            }
            (Some(score), _) => format!("{score:.0}"),
            (None, _) => "no score".into(),
        };
        write_right(buffer, line, line.y, &score, theme.style(Role::Text));
    }
}

fn draw_baseline_figures(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    baseline: &Baseline,
    runs: &[&TrialRecord],
) -> u16 {
    let unknown = || "–".to_owned();
    let limited = runs
        .iter()
        .rev()
        .find(|run| run.verdict() == Verdict::Clean)
        .and_then(|run| run.seen.main_limiter())
        .map(|(limiter, share)| format!("{}, {}", limiter.label(), Percent(share * 100.0)));
    let pairs = [
        ("score, median", format!("{:.0}", baseline.score)),
        ("noise, 1 σ", format!("{:.2} %", baseline.noise.value())),
        ("average clock", baseline.average_clock.to_string()),
        ("average board power", baseline.average_power.map_or_else(unknown, |p| p.to_string())),
        ("hottest hot spot", baseline.hot_spot_max.map_or_else(unknown, |t| t.to_string())),
        ("clock limited by", limited.unwrap_or_else(unknown)),
    ];
    draw_pairs(buffer, area, theme, &pairs);
    pairs.len() as u16
}

fn draw_plan(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "The plan", "");
    let Plan { scene, hold, baseline, core, .. } = &*snapshot.plan;
    let words = |seconds: f64| Seconds(seconds).in_words();
    let steps =
        |count: i32| if count == 1 { "1 fine step".into() } else { format!("{count} fine steps") };
    let pairs = [
        ("scene", scene.clone()),
        ("fan held at", format!("{:.0} %", hold.fan_percent)),
        ("baseline", format!("{} × {}", baseline.runs, words(baseline.seconds))),
        ("warm-up before it", words(baseline.warm_up_seconds)),
        ("core steps", format!("{}, then {} MHz", core.coarse_step_mhz, core.fine_step_mhz)),
        ("each step", words(core.seconds)),
        ("back off", steps(core.back_off_steps)),
        ("to confirm", words(core.confirm_seconds)),
        ("margin taken off", steps(core.margin_steps)),
        ("to measure it", words(core.settle_seconds)),
    ];
    draw_pairs(buffer, space, theme, &pairs);
}

fn draw_history(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "Kept and earlier", "");
    let mut lines: Vec<(String, Role)> = Vec::new();
    for profile in &snapshot.profiles {
        let offset = profile.settings.show(SettingKind::CoreOffset);
        lines.push((format!("◈ {}: {offset}", profile.name), Role::Clock));
    }
    if snapshot.profiles.is_empty() {
        lines.push(("Nothing is kept on this card yet.".into(), Role::Dim));
    }
    for climb in &snapshot.history {
        let kept = match (climb.kept, climb.gain_percent) {
            (Some(kept), Some(gain)) => format!(": {kept}, {gain:+.1} %"),
            (Some(kept), None) => format!(": {kept}"),
            (None, _) => String::new(),
        };
        let kept = if kept.is_empty() { format!(": {} trials", climb.trials) } else { kept };
        lines.push((format!("climb {}, {}{kept}", climb.id, climb.state), Role::Text));
    }
    let mut present = format!("climb {}, now: {} trials", snapshot.climb, snapshot.trials.len());
    if space.width >= 40 {
        present += &format!(", {}", snapshot.under_load.in_words());
    }
    lines.push((present, Role::Text));
    for (index, (text, role)) in lines.iter().enumerate() {
        let line = row(space, index as u16);
        write(buffer, line, (line.x + 1, line.y), text, theme.style(*role));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;

    fn lines(width: u16, height: u16) -> Vec<String> {
        let theme = Theme::new(Depth::None);
        drawn(width, height, |buffer, area| draw(buffer, area, theme, &snapshot()))
    }

    #[rstest]
    #[case(160, 47)]
    fn offered_settings_show_their_range_and_missing_ones_why(
        #[case] width: u16,
        #[case] height: u16,
    ) {
        let text = lines(width, height).join("\n");
        assert!(text.contains("core clock offset"), "{text}");
        assert!(width < 160 || text.contains("-150 ╌"), "{text}");
        assert!(text.contains("temperature target"), "{text}");
        assert!(text.contains("– this card does not offer it"), "{text}");
        assert!(text.contains("– its driver keeps the timings to itself"), "{text}");
        assert!(text.contains("noise, 1 σ") && text.contains("0.40 %"));
    }

    #[rstest]
    fn a_missing_sensor_is_told_from_a_silent_one() {
        let text = lines(160, 47).join("\n");
        assert!(text.contains("no such sensor"), "{text}");
        let mut silent = snapshot();
        silent.run = None;
        silent.sensors = None;
        let theme = Theme::new(Depth::None);
        let text = drawn(160, 47, |buffer, area| draw(buffer, area, theme, &silent)).join("\n");
        assert_eq!(text.matches("no such sensor").count(), 1);
    }

    #[rstest]
    fn any_size_will_do() {
        for (width, height) in AWKWARD.into_iter().chain([(60, 15), (250, 80)]) {
            lines(width, height);
        }
    }
}
