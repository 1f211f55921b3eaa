//! Survey: what the card is, offers and measures, and what it does at stock.
//!
//! ```text
//! ┌ verdict and next step ─────────────────────────────────────────┐
//! ├ card ──────────────┬ settings it offers ──┬ baseline ──────────┤
//! ├ sensors ───────────┤ name, range, held    ├ kept, earlier ─────┤
//! │                    ├ notices ─────────────┤                    │
//! └────────────────────┴──────────────────────┴────────────────────┘
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use yard_step_core::{Channel, Offer, Seconds, SettingKind, Stage};
use yard_step_engine::Snapshot;

use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::{next_step, row, wrapped, write, write_right};

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
}

pub(crate) fn layout(area: Rect) -> Places {
    let [next, body] = Layout::vertical([Constraint::Length(4), Constraint::Fill(1)]).areas(area);
    let gap = Constraint::Length(2);
    let [left, _, middle, _, right] = Layout::horizontal([
        Constraint::Fill(5),
        gap,
        Constraint::Fill(7),
        gap,
        Constraint::Fill(5),
    ])
    .areas(body);
    let [card, sensors] =
        Layout::vertical([Constraint::Length(11), Constraint::Fill(1)]).areas(left);
    let each = if area.height >= 40 { 4 } else { 3 };
    let settings = 1 + each * SettingKind::ALL.len() as u16;
    let [settings, notices] =
        Layout::vertical([Constraint::Length(settings), Constraint::Fill(1)]).areas(middle);
    let [baseline, history] =
        Layout::vertical([Constraint::Length(10), Constraint::Fill(1)]).areas(right);
    Places { next, card, sensors, settings, notices, baseline, history }
}

pub(crate) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let places = layout(area);
    next_step::draw(buffer, places.next, theme, snapshot);
    draw_card(buffer, places.card, theme, snapshot);
    draw_sensors(buffer, places.sensors, theme, snapshot);
    draw_settings(buffer, places.settings, theme, snapshot);
    draw_notices(buffer, places.notices, theme, snapshot);
    draw_baseline(buffer, places.baseline, theme, snapshot);
    draw_history(buffer, places.history, theme, snapshot);
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
        ("highest stock clock", limits.highest_clock.to_string()),
        ("boost bin", limits.clock_bin.to_string()),
        ("voltage ceiling", limits.voltage_ceiling.to_string()),
        ("power limit at stock", limits.power_limit.to_string()),
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

fn draw_settings(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "Settings it offers", "held now");
    let each = space.height / SettingKind::ALL.len() as u16;
    for (index, kind) in SettingKind::ALL.into_iter().enumerate() {
        let place = Rect {
            y: space.y + index as u16 * each,
            height: each.min(space.height.saturating_sub(index as u16 * each)),
            ..space
        };
        match snapshot.card.offer(kind) {
            Some(offer) => draw_offer(buffer, place, theme, snapshot, offer),
            None => {
                let line = row(place, 0);
                write(buffer, line, (line.x + 1, line.y), kind.label(), theme.style(Role::Dim));
                let why = row(place, 1);
                let text = "this card does not offer it";
                write(buffer, why, (why.x + 1, why.y), text, theme.style(Role::Dim));
            }
        }
    }
}

fn draw_offer(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, offer: &Offer) {
    let kind = offer.kind;
    let held = snapshot.held.map(|held| held.show(kind));
    let line = row(area, 0);
    write(buffer, line, (line.x + 1, line.y), kind.label(), theme.style(Role::Text));
    let held_text = held.unwrap_or_else(|| "–".into());
    write_right(buffer, line, line.y, &held_text, theme.style(Role::Clock));
    draw_range(buffer, row(area, 1), theme, snapshot, offer);
    let stock =
        offer.stock.map_or("automatic".into(), |stock| format!("{stock:.0} {}", kind.unit()));
    let text = format!(
        "{} in steps of {:.0} {}, stock {stock}",
        kind.reading().label(),
        offer.step,
        kind.unit()
    );
    let line = row(area, 2);
    write(buffer, line, (line.x + 1, line.y), &text, theme.style(Role::Dim));
}

/// The range as a line from lowest to highest, stock and the held value on it.
fn draw_range(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, offer: &Offer) {
    let (low, high) = (format!("{:.0}", offer.minimum), format!("{:.0}", offer.maximum));
    let start = write(buffer, area, (area.x + 1, area.y), &low, theme.style(Role::Dim)) + 1;
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
    let runs = snapshot.trials.iter().filter(|trial| trial.stage == Stage::Baseline).count();
    let aside = match runs {
        0 => String::new(),
        1 => "1 run made".into(),
        runs => format!("{runs} runs made"),
    };
    let space = panel(buffer, area, theme, "Baseline", &aside);
    let Some(baseline) = snapshot.baseline else {
        let text = format!(
            "{} runs at stock, the fan held, are to be compared with. Enter makes the next one, a \
             makes them all.",
            snapshot.baseline_runs
        );
        for (index, line) in
            wrapped(&text, usize::from(space.width.saturating_sub(2).max(1))).iter().enumerate()
        {
            let place = row(space, index as u16);
            write(buffer, place, (place.x + 1, place.y), line, theme.style(Role::Dim));
        }
        return;
    };
    let unknown = || "–".to_owned();
    let pairs = [
        ("runs that count", baseline.runs.to_string()),
        ("score, median", format!("{:.0}", baseline.score)),
        ("noise, 1 σ", format!("{:.2} %", baseline.noise.value())),
        ("average clock", baseline.average_clock.to_string()),
        ("average board power", baseline.average_power.map_or_else(unknown, |p| p.to_string())),
        ("hottest hot spot", baseline.hot_spot_max.map_or_else(unknown, |t| t.to_string())),
    ];
    draw_pairs(buffer, space, theme, &pairs);
}

fn draw_history(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "Kept and earlier", "");
    let mut lines: Vec<(String, Role)> = Vec::new();
    for profile in &snapshot.profiles {
        let offset = profile.settings.show(SettingKind::CoreOffset);
        let from = profile.climb.map_or(String::new(), |climb| format!(", climb {climb}"));
        lines.push((format!("◈ {}: {offset}{from}", profile.name), Role::Clock));
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
        let text = format!("climb {}, {}, {} trials{kept}", climb.id, climb.state, climb.trials);
        lines.push((text, Role::Text));
    }
    let made: f64 = snapshot.trials.iter().map(|trial| trial.seconds.value()).sum();
    let present = format!(
        "climb {}, now: {} trials, {} under load",
        snapshot.climb,
        snapshot.trials.len(),
        Seconds(made).in_words()
    );
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
    #[case(100, 27)]
    fn offered_settings_show_their_range_and_missing_ones_why(
        #[case] width: u16,
        #[case] height: u16,
    ) {
        let text = lines(width, height).join("\n");
        assert!(text.contains("core clock offset"), "{text}");
        assert!(text.contains("-150 ╌") && text.contains("offset in steps of 15 MHz, stock 0 MHz"));
        assert!(
            text.contains("temperature target") && text.contains("this card does not offer it")
        );
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
