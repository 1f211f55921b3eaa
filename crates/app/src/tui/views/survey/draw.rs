//! Survey: the card, the settings it offers, its sensors, what should be in order before the first
//! change, the machine around it, and the baseline.
//!
//! ```text
//! ┌ verdict and next step ─────────────────────────────────────────┐
//! ├ card ──────────┬ before the first change ──┬ baseline ─────────┤
//! │                ├ settings it offers ───────┤                   │
//! ├ sensors ───────┤                           ├ this machine ─────┤
//! │                ├ what happened ────────────┼ plan ─────────────┤
//! └ kept, earlier ─┴───────────────────────────┴───────────────────┘
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use yard_step_core::verdict::gain_percent;
use yard_step_core::{
    AlarmOn, Axis, Baseline, CardDescription, Channel, CurveKind, CurveOffer, Domain, Offer,
    Percent, Plan, Policy, Prerequisite, Seconds, SettingKind, Settings, Stage, Standing,
    StockReport, TrialRecord, Verdict, Watt, counted, figure_in_words, makers_maximum, stated,
};
use yard_step_engine::{Activity, Snapshot};

use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::widgets::panel::panel;
use crate::tui::widgets::{below, cut, next_step, row, wrapped, write, write_right, write_wrapped};

/// Where the parts of the view lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    next: Rect,
    card: Rect,
    sensors: Rect,
    history: Rect,
    prerequisites: Rect,
    settings: Rect,
    notices: Rect,
    baseline: Rect,
    machine: Rect,
    plan: Rect,
    roomy: bool,
}

/// Rows of the settings, their rule included.
const SETTINGS: u16 = SettingKind::ALL.len() as u16 + 1;

pub(crate) fn layout(area: Rect) -> Places {
    let roomy = area.height >= 40 && area.width >= 130;
    let [next, body] =
        Layout::vertical([Constraint::Length(next_step::HEIGHT), Constraint::Fill(1)]).areas(area);
    if roomy { wide(next, body) } else { narrow(next, body) }
}

fn wide(next: Rect, body: Rect) -> Places {
    let gap = Constraint::Length(2);
    let [left, _, middle, _, right] = Layout::horizontal([
        Constraint::Fill(5),
        gap,
        Constraint::Fill(8),
        gap,
        Constraint::Fill(5),
    ])
    .areas(body);
    let [card, sensors, history] = stacked(left, [15, 15]);
    let [prerequisites, settings, notices] = stacked(middle, [14, SETTINGS + 1]);
    let [baseline, machine, plan] = stacked(right, [15, 10]);
    Places {
        next,
        card,
        sensors,
        history,
        prerequisites,
        settings,
        notices,
        baseline,
        machine,
        plan,
        roomy: true,
    }
}

/// Two columns, and only what the first change needs.
fn narrow(next: Rect, body: Rect) -> Places {
    let [left, _, right] =
        Layout::horizontal([Constraint::Fill(10), Constraint::Length(1), Constraint::Fill(9)])
            .areas(body);
    let [prerequisites, settings, notices] = stacked(left, [11, SETTINGS]);
    let [card, sensors, baseline] = stacked(right, [6, 8]);
    let none = Rect { width: 0, height: 0, ..body };
    Places {
        next,
        card,
        sensors,
        history: none,
        prerequisites,
        settings,
        notices,
        baseline,
        machine: none,
        plan: none,
        roomy: false,
    }
}

/// Two parts of the given heights, as far as there is room, and the rest.
fn stacked(area: Rect, [first, second]: [u16; 2]) -> [Rect; 3] {
    Layout::vertical([Constraint::Length(first), Constraint::Max(second), Constraint::Fill(1)])
        .areas(area)
}

pub(crate) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let places = layout(area);
    next_step::draw(buffer, places.next, theme, snapshot);
    draw_card(buffer, places.card, theme, snapshot, places.roomy);
    draw_sensors(buffer, places.sensors, theme, snapshot, places.roomy);
    draw_prerequisites(buffer, places.prerequisites, theme, snapshot, places.roomy);
    draw_settings(buffer, places.settings, theme, snapshot);
    draw_notices(buffer, places.notices, theme, snapshot);
    draw_baseline(buffer, places.baseline, theme, snapshot);
    if places.roomy {
        draw_machine(buffer, places.machine, theme, snapshot);
        draw_plan(buffer, places.plan, theme, snapshot);
        draw_history(buffer, places.history, theme, snapshot);
    }
}

/// Settings the card holds: those of the run while there is one.
fn held(snapshot: &Snapshot) -> Option<Settings> {
    let running = matches!(snapshot.runs.activity, Activity::Running | Activity::Paused);
    let of_run = snapshot.runs.newest.as_ref().filter(|_| running).and_then(|run| run.taken);
    of_run.or(snapshot.machine.held)
}

/// Lines of a label and a value, the value at the right or, where it is long, behind the label.
fn draw_pairs(buffer: &mut Buffer, area: Rect, theme: Theme, pairs: &[(&str, String)]) {
    for (index, (label, value)) in pairs.iter().enumerate() {
        let line = row(area, index as u16);
        let end = write(buffer, line, (line.x + 1, line.y), label, theme.style(Role::Dim));
        let left = Rect { x: end + 1, width: line.right().saturating_sub(end + 2), ..line };
        let value = cut(value, left.width);
        write_right(buffer, left, line.y, &value, theme.style(Role::Text));
    }
}

fn draw_card(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, roomy: bool) {
    let card = &snapshot.machine.card;
    let limits = &card.limits;
    let many = if snapshot.machine.rack.len() > 1 {
        format!("{} of {} cards", snapshot.machine.present + 1, snapshot.machine.rack.len())
    } else {
        card.id.clone()
    };
    let space = panel(buffer, area, theme, &card.name, &many);
    let (memory, wiring) = snapshot.machine.said.memory_of(card);
    let unit = ("unit", format!("{}, driver {}", card.serial, card.driver));
    let say = || "unknown: press r".to_owned();
    let rates = [
        card.memory_clock.to_string(),
        wiring.effective(card.memory_clock).map_or_else(say, |rate| rate.to_string()),
        wiring.bandwidth(card.memory_clock).map_or_else(say, |bandwidth| bandwidth.to_string()),
    ];
    let ceiling = match limits.temperature_ceiling {
        Some(ceiling) => ceiling.to_string(),
        None => format!("not stated, {} assumed", limits.stops_at()),
    };
    if roomy {
        let [actual, effective, bandwidth] = rates;
        let mut pairs = vec![
            unit,
            ("memory", memory),
            ("memory clock, actual", actual),
            ("memory rate, effective", effective),
            ("memory bandwidth", bandwidth),
            ("advertised boost", limits.boost_clock.to_string()),
            ("highest clock", limits.highest_clock.to_string()),
            ("boost bin", limits.clock_bin.to_string()),
            ("voltage ceiling", stated(limits.voltage_ceiling)),
            ("current limit", stated(limits.current)),
            ("stock power limit", stated(limits.power_limit)),
            ("temperature ceiling", ceiling),
        ];
        pairs.extend(limit_rows(snapshot));
        draw_pairs(buffer, space, theme, &pairs);
    } else {
        let its_rate = match rates[1] == rates[2] {
            true => rates[1].clone(),
            false => format!("{}, {}", rates[1], rates[2]),
        };
        let pairs = [
            unit,
            ("memory", memory),
            ("its rate", its_rate),
            ("boost, highest", format!("{}, {}", limits.boost_clock, limits.highest_clock)),
            ("limit, ceiling", format!("{}, {ceiling}", stated(limits.power_limit))),
        ];
        draw_pairs(buffer, space, theme, &pairs);
    }
}

/// Whose limits are in force, and what is read at the next start where that is another table.
fn limit_rows(snapshot: &Snapshot) -> Vec<(&'static str, String)> {
    let card = &snapshot.machine.card;
    let record = snapshot.machine.ceiling.as_ref().map(|ceiling| &ceiling.record);
    let wanted = record.and_then(|record| record.wanted.as_ref());
    let (Some(tables), Some(record)) = (&card.limit_tables, record) else {
        let told = yard_step_words::limits_in_force(card, "");
        return told.map(|told| ("limit table", told)).into_iter().collect();
    };
    let by = wanted.map_or("", |wanted| wanted.by.as_str());
    let is_in_force = *record.next() == tables.in_force;
    let now = yard_step_words::limits_in_force(card, if is_in_force { by } else { "" });
    let pending = yard_step_words::limits_pending(tables, record.next(), by);
    let rows = [("limit table", now), ("at next start", pending)];
    rows.into_iter().filter_map(|(label, told)| Some((label, told?))).collect()
}

fn draw_sensors(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, roomy: bool) {
    let space = panel(buffer, area, theme, "Sensors", "now");
    let sample = snapshot.sample();
    let pairs: Vec<(&str, String)> = Channel::ALL
        .into_iter()
        .map(|channel| {
            let text = match sample.and_then(|sample| sample.get(channel)) {
                Some(value) => format!("{value:.0} {}", channel.unit()),
                None if snapshot.machine.card.senses(channel) => "–".into(),
                None if roomy => snapshot.machine.card.why_not_sensed(channel).to_owned(),
                None => "none".into(),
            };
            (if roomy { channel.label() } else { short(channel) }, text)
        })
        .collect();
    if roomy {
        draw_pairs(buffer, space, theme, &pairs);
        return;
    }
    let [left, right] = Layout::horizontal([Constraint::Fill(1), Constraint::Fill(1)]).areas(space);
    let (first, second) = pairs.split_at(pairs.len().div_ceil(2));
    draw_pairs(buffer, left, theme, first);
    draw_pairs(buffer, right, theme, second);
}

/// A line for each thing that should be in order; where there is room, all of its words.
fn draw_prerequisites(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    roomy: bool,
) {
    const WHAT: u16 = 16;
    let list = &snapshot.machine.prerequisites;
    let met = list.iter().filter(|line| line.standing() == Standing::Met).count();
    let aside = format!("{met} of {} in order", list.len());
    let space = panel(buffer, area, theme, "Before the first change", &aside);
    let mut line = 0;
    let mut items: Vec<&Prerequisite> = list.iter().collect();
    if !roomy {
        // What wants doing first, where not all may fit.
        items.sort_by_key(|item| match item.standing() {
            Standing::Concern => 0,
            Standing::Open => 1,
            Standing::Met => 2,
        });
    }
    for item in items {
        let (shape, role) = match item.standing() {
            Standing::Met => ("✓", Role::Good),
            Standing::Open => ("?", Role::Warn),
            Standing::Concern => ("!", Role::Bad),
        };
        let head = row(space, line);
        write(buffer, head, (head.x + 1, head.y), shape, theme.style(role));
        write(buffer, head, (head.x + 3, head.y), item.label(), theme.style(Role::Text));
        let x = head.x + 3 + WHAT;
        let width = space.right().saturating_sub(x);
        let mut words = wrapped(&yard_step_words::prerequisite(item), usize::from(width.max(1)));
        // Where there is little room, what is in order needs no more than a line; a warning is whole.
        let most = match (roomy, item.standing()) {
            (true, _) | (false, Standing::Concern) => words.len(),
            (false, Standing::Met) => 1,
            (false, Standing::Open) => 2,
        };
        if words.len() > most {
            let rest = words.split_off(most.saturating_sub(1)).join(" ");
            words.push(cut(&rest, width));
        }
        for (index, text) in words.iter().enumerate() {
            let place = row(space, line + index as u16);
            write(buffer, place, (x, place.y), text, theme.style(Role::Dim));
        }
        line += words.len().max(1) as u16;
    }
}

/// One line a setting: name, what is held, its range, and how it is counted.
fn draw_settings(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "Settings it offers", "held now");
    let held_at = space.x + LABEL + 1;
    let range_at = held_at + HELD + 1;
    let held_now = held(snapshot);
    for (index, kind) in SettingKind::ALL.into_iter().enumerate() {
        let line = row(space, index as u16);
        let offer = snapshot.machine.card.offer(kind);
        let role = if snapshot.machine.card.offers(kind) { Role::Text } else { Role::Dim };
        write(buffer, line, (line.x + 1, line.y), kind.label(), theme.style(role));
        if let Some(curve) = snapshot.machine.card.curve.filter(|_| kind == SettingKind::Curve) {
            draw_curve(buffer, line, theme, held_now, &curve);
            continue;
        }
        let Some(offer) = offer else {
            let why = snapshot.machine.card.why_not_offered(kind);
            let text = cut(&format!("– {why}"), line.right().saturating_sub(held_at));
            write(buffer, line, (held_at, line.y), &text, theme.style(Role::Dim));
            continue;
        };
        let held = held_now.map_or_else(|| "–".into(), |held| shown(held, offer));
        let cell = Rect { x: held_at, width: HELD, ..line };
        let held = cut(&held, HELD);
        write_right(buffer, cell.intersection(line), line.y, &held, theme.style(Role::Clock));
        let (counted, role) = match makers_maximum(&snapshot.machine.card, kind) {
            Some(_) => ("beyond maker's".to_owned(), Role::Warn),
            None => (format!("{}, {}", offer.reading.label(), offer.show_step()), Role::Dim),
        };
        let counted_width = if line.width >= 66 { COUNTED } else { 0 };
        if line.right() < range_at + 2 * ENDS + 8 {
            continue;
        }
        let range = Rect {
            x: range_at,
            width: line.right().saturating_sub(range_at + counted_width),
            ..line
        };
        draw_range(buffer, range, theme, held_now.and_then(|held| held.get(kind)), offer);
        if counted_width > 0 {
            write_right(buffer, line, line.y, &counted, theme.style(role));
        }
    }
}

/// The V/F curve in one line: what is held, and within which ranges it is shaped.
fn draw_curve(
    buffer: &mut Buffer,
    line: Rect,
    theme: Theme,
    held: Option<Settings>,
    offer: &CurveOffer,
) {
    let held_at = line.x + LABEL + 1;
    let moved = held.map_or_else(
        || "–".to_owned(),
        |held| {
            held.curve.map_or("factory".into(), |curve| format!("{} moved", offer.moved(&curve)))
        },
    );
    let cell = Rect { x: held_at, width: HELD, ..line };
    write_right(buffer, cell.intersection(line), line.y, &moved, theme.style(Role::Clock));
    let what = match offer.kind {
        CurveKind::Points => "points",
        CurveKind::States => "states",
    };
    let CurveOffer { voltages, factory, .. } = offer;
    let (count, low, high) = (factory.points().len(), voltages.lowest, voltages.highest);
    let told = format!("{count} {what}, {low} to {high} mV");
    let x = held_at + HELD + 1;
    let told = cut(&told, line.right().saturating_sub(x));
    write(buffer, line, (x, line.y), &told, theme.style(Role::Dim));
}

/// A held value as its card counts it.
fn shown(held: Settings, offer: &Offer) -> String {
    held.get(offer.kind).map_or_else(|| held.show(offer.kind), |value| offer.show(value))
}

/// Widths of the columns of the settings.
const LABEL: u16 = 20;
const HELD: u16 = 12;
const COUNTED: u16 = 18;
/// Width of the lowest value before a range.
const ENDS: u16 = 4;

/// The range as a line from lowest to highest, stock and the held value on it.
fn draw_range(buffer: &mut Buffer, area: Rect, theme: Theme, held: Option<f64>, offer: &Offer) {
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
    if let Some(held) = held {
        write(buffer, track, (place(held), area.y), "◈", theme.style(Role::Clock));
    }
}

/// What the user said of the machine.
fn draw_machine(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "This machine", "r changes it");
    let machine = &snapshot.machine.said;
    let unsaid = || "not said yet".to_owned();
    let watts = |watt: Option<Watt>| watt.map_or_else(unsaid, |watt| watt.to_string());
    let mut pairs = vec![
        ("room", machine.room.map_or_else(unsaid, |room| room.to_string())),
        ("power supply", watts(machine.supply)),
        ("rest of the machine", watts(machine.rest)),
        (
            "noise at full fan",
            machine.full_fan.map_or_else(|| "–".into(), |noise| format!("{noise}(A)")),
        ),
    ];
    if machine.alarms.is_empty() {
        pairs.push(("alarms", "none".into()));
    }
    for alarm in &machine.alarms {
        let label = match alarm.on {
            AlarmOn::CoreTemperature => "alarm, core temp.",
            AlarmOn::HotSpot => "alarm, hot spot",
            AlarmOn::MemoryTemperature => "alarm, memory",
            AlarmOn::RegulatorTemperature => "alarm, regulator",
            AlarmOn::TemperatureRise => "alarm, heat rise",
            AlarmOn::FanShortfall => "alarm, fan slow",
            AlarmOn::BoardPower => "alarm, board power",
            AlarmOn::Artifacts => "alarm, artifacts",
        };
        let (unit, act) = (alarm.on.unit(), alarm.act.label());
        pairs.push((label, format!("above {:.0} {unit}: {act}", alarm.above)));
    }
    let in_step = snapshot.machine.rack.iter().filter(|card| card.in_step).count();
    if in_step > 0 {
        pairs.push(("held in step", format!("{in_step} more")));
    }
    draw_pairs(buffer, space, theme, &pairs);
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
    let wanted: u32 = snapshot.climb.baselines.iter().map(|of| of.wanted).sum();
    let runs: Vec<&TrialRecord> =
        snapshot.climb.trials.iter().filter(|trial| trial.stage == Stage::Baseline).collect();
    let aside = format!("{} of {wanted} runs count", snapshot.climb.baseline_runs);
    let space = panel(buffer, area, theme, "Baseline", if runs.is_empty() { "" } else { &aside });
    let mut used = match snapshot.climb.baseline {
        Some(baseline) => {
            let stock = snapshot.climb.stock.as_ref();
            draw_baseline_figures(buffer, space, theme, &baseline, &runs, stock)
        }
        None => {
            let text = match wanted {
                1 => "Every gain is compared with one run at stock, the fan held. Enter makes it."
                    .to_owned(),
                _ => format!(
                    "Every gain is compared with {wanted} runs at stock, the fan held. Enter makes the \
                     next one, a makes them all."
                ),
            };
            let place = Rect { x: space.x + 1, width: space.width.saturating_sub(2), ..space };
            write_wrapped(buffer, place, &text, theme.style(Role::Dim))
        }
    };
    if let Some(text) = warming(snapshot) {
        let place = below(space, used);
        let place = Rect { x: space.x + 1, width: space.width.saturating_sub(2), ..place };
        used += write_wrapped(buffer, place, &text, theme.style(Role::Warn));
    }
    for run in &runs {
        let of_load = snapshot.climb.baselines.iter().find(|of| of.load == run.scene);
        let middle = of_load.and_then(|of| of.baseline).map(|baseline| baseline.score);
        used += draw_baseline_run(buffer, space, theme, used, run, middle);
    }
}

/// How the warm-up before a baseline run stands.
fn warming(snapshot: &Snapshot) -> Option<String> {
    let run = snapshot.runs.newest.as_ref()?;
    let is_warming = run.judgement.is_none()
        && run.stage == Stage::Baseline
        && run.at < run.warm_up
        && snapshot.runs.activity != Activity::Waiting;
    if !is_warming {
        return None;
    }
    let now = run.sample.chip_temperature()?;
    Some(match run.plateau {
        Some(plateau) => format!(
            "Warming up: {:.1} °C, plateau {:.1} °C in about {}.",
            now.value(),
            plateau.temperature.value(),
            plateau.reached_in().in_words()
        ),
        None => format!("Warming up: {:.1} °C, plateau not known yet.", now.value()),
    })
}

/// One run, and why it does not count, if it does not; returns the rows it took.
fn draw_baseline_run(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    first: u16,
    run: &TrialRecord,
    middle: Option<f64>,
) -> u16 {
    let line = row(area, first);
    let verdict = run.verdict();
    let label = format!("run {}", run.number);
    write(buffer, line, (line.x + 1, line.y), &label, theme.style(Role::Dim));
    let text = format!("{} {verdict}", glyph(verdict));
    write(buffer, line, (line.x + 9, line.y), &text, theme.verdict(verdict));
    let score = match (run.score, middle) {
        (Some(score), Some(middle)) if line.width >= 36 => {
            format!("{} ({:+.2} %)", figure_in_words(score), gain_percent(score, middle))
        }
        (Some(score), _) => figure_in_words(score),
        (None, _) => "no score".into(),
    };
    write_right(buffer, line, line.y, &score, theme.style(Role::Text));
    if verdict == Verdict::Clean {
        return 1;
    }
    let below = first + 1;
    let place = Rect {
        x: area.x + 9,
        y: area.y + below.min(area.height),
        width: area.width.saturating_sub(10),
        height: area.height.saturating_sub(below),
    };
    1 + write_wrapped(buffer, place, &run.reason, theme.style(Role::Dim))
}

fn draw_baseline_figures(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    baseline: &Baseline,
    runs: &[&TrialRecord],
    stock: Option<&StockReport>,
) -> u16 {
    let unknown = || "–".to_owned();
    let limited = runs
        .iter()
        .rev()
        .find(|run| run.verdict() == Verdict::Clean)
        .and_then(|run| run.seen.main_limiter())
        .map(|(limiter, share)| format!("{}, {}", limiter.label(), Percent(share * 100.0)));
    let percent = |share: Percent| format!("{:.2} %", share.value());
    let cure = stock.and_then(yard_step_words::cure_in_short).map(|cure| ("to advertised", cure));
    let pairs: Vec<(&str, String)> = [
        match baseline.by_clock {
            true => ("no figures", "judged by the clock".to_owned()),
            false => ("score, median", figure_in_words(baseline.score)),
        },
        ("noise, 1 σ", percent(baseline.noise)),
        ("a gain is real above", baseline.noise_floor.map_or_else(unknown, percent)),
        ("average clock", baseline.average_clock.to_string()),
        ("average board power", baseline.average_power.map_or_else(unknown, |p| p.to_string())),
        ("hottest hot spot", baseline.hot_spot_max.map_or_else(unknown, |t| t.to_string())),
        ("core plateau", baseline.plateau.map_or_else(unknown, |t| t.to_string())),
        ("clock limited by", limited.unwrap_or_else(unknown)),
    ]
    .into_iter()
    .chain(cure)
    .collect();
    draw_pairs(buffer, area, theme, &pairs);
    pairs.len() as u16
}

/// A channel's name for narrow columns.
pub(crate) fn short(channel: Channel) -> &'static str {
    match channel {
        Channel::EffectiveClock => "effective",
        Channel::CoreTemperature => "core temp.",
        Channel::MemoryTemperature => "memory temp.",
        Channel::RegulatorTemperature => "regulator temp.",
        Channel::Background => "background",
        other => other.label(),
    }
}

fn draw_plan(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "The plan", "");
    let Plan { scene, hold, baseline, core, bayesian, policy, margin, .. } = &*snapshot.climb.plan;
    let words = |seconds: f64| Seconds(seconds).in_words();
    let steps =
        |count: i32| if count == 1 { "1 fine step".into() } else { format!("{count} fine steps") };
    let chance = margin.chance() * 100.0;
    let mut pairs = vec![
        ("scene", scene.clone()),
        ("fan held at", format!("{:.0} %", hold.fan_percent)),
        ("baseline", format!("{} × {}", baseline.runs, words(baseline.seconds))),
        ("warm-up before it", format!("{} at most", words(baseline.warm_up_seconds))),
        ("policy", policy.to_string()),
    ];
    // Each policy goes by its own part of the plan.
    pairs.extend(match policy {
        Policy::Bayesian => vec![
            ("machine down", format!("{} % at most", bayesian.most_machine_down_percent)),
            ("least gain per minute", format!("{} %", bayesian.worth_percent_per_minute)),
        ],
        Policy::FixedStep | Policy::Bisection => vec![
            ("core steps", core_steps(&snapshot.climb.plan, &snapshot.machine.card)),
            ("each step", words(core.seconds)),
            ("back off", steps(core.back_off_steps)),
            ("to confirm", words(core.confirm_seconds)),
            ("taken off", steps(margin.fine_steps(core.margin_steps))),
        ],
    });
    if let Some(from) = yard_step_words::learnt_from(&snapshot.climb.experience) {
        let of = &snapshot.climb.experience;
        pairs.push(("learnt from", from));
        pairs.push(("core edge", yard_step_words::expected_edge(of, Domain::Core)));
        pairs.push(("core e-fold", yard_step_words::expected_e_fold(of, Domain::Core)));
        pairs.push(("memory edge", yard_step_words::expected_edge(of, Domain::Memory)));
        pairs.push(("memory e-fold", yard_step_words::expected_e_fold(of, Domain::Memory)));
    }
    let starts = yard_step_words::starts(&snapshot.climb.plan, &snapshot.machine.card);
    if !starts.is_empty() {
        pairs.push(("starts from", starts.join(", ")));
    }
    pairs.push(("good for", margin.purpose().into()));
    if *policy == Policy::Bayesian {
        let span = words(margin.span().value());
        pairs.push(("must hold for", format!("{span} with {chance:.0} %")));
    }
    pairs.push(("final run", words(core.settle_seconds)));
    draw_pairs(buffer, space, theme, &pairs);
}

/// The coarse and the fine step of the core in whole bins of the card.
fn core_steps(plan: &Plan, card: &CardDescription) -> String {
    Axis::of(card, Domain::Core).map_or("the card offers none".into(), |axis| {
        format!("{}, then {} MHz", axis.coarse_step(plan).0, axis.fine_step(plan).0)
    })
}

fn draw_history(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let space = panel(buffer, area, theme, "Kept and earlier", "");
    let mut lines: Vec<(String, Role)> = Vec::new();
    for profile in &snapshot.machine.profiles {
        let mark = if profile.profile.in_use { "◈" } else { "◇" };
        let text = format!("{mark} {}: {}", profile.profile.name, profile.what);
        lines.push((text, Role::Clock));
    }
    if snapshot.machine.profiles.is_empty() {
        lines.push(("Nothing is kept on this card yet.".into(), Role::Dim));
    }
    let count = counted(snapshot.climb.trials.len(), "trial");
    let mut present = format!("climb {}, now: {count}", snapshot.climb.number);
    if space.width >= 40 {
        present += &format!(", {}", snapshot.climb.under_load.in_words());
    }
    lines.push((present, Role::Text));
    for climb in &snapshot.climb.history {
        let kept = match (&climb.kept, climb.gain_percent) {
            (Some(kept), Some(gain)) => format!(": {kept}, {gain:+.1} %"),
            (Some(kept), None) => format!(": {kept}"),
            (None, _) => String::new(),
        };
        let kept =
            if kept.is_empty() { format!(": {}", counted(climb.trials, "trial")) } else { kept };
        lines.push((format!("climb {}, {}{kept}", climb.id, climb.state), Role::Text));
    }
    if snapshot.climb.older_climbs > 0 {
        lines.push((format!("and {} more in Ledger: 8", snapshot.climb.older_climbs), Role::Dim));
    }
    for (index, (text, role)) in lines.iter().enumerate() {
        let line = row(space, index as u16);
        let text = cut(text, line.width.saturating_sub(1));
        write(buffer, line, (line.x + 1, line.y), &text, theme.style(*role));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{limit_tables, snapshot, snapshot_with_limits};
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;
    use yard_step_core::{LimitField, WantedLimits};

    fn lines(width: u16, height: u16) -> Vec<String> {
        let theme = Theme::new(Depth::None);
        drawn(width, height, |buffer, area| draw(buffer, area, theme, &snapshot()))
    }

    #[rstest]
    #[case(Policy::Bayesian, &["machine down", "3 % at most", "daily use", "24 h with 99 %"], "back off")]
    #[case(Policy::FixedStep, &["60, then 15 MHz", "back off", "1 fine step", "daily use"], "machine down")]
    fn the_plan_is_told_by_what_its_policy_goes_by(
        #[case] policy: Policy,
        #[case] told: &[&str],
        #[case] untold: &str,
    ) {
        let mut snapshot = snapshot();
        snapshot.climb.plan = Plan { policy, ..Plan::default() }.into();
        let theme = Theme::new(Depth::None);
        let lines = drawn(160, 47, |buffer, area| draw(buffer, area, theme, &snapshot));
        let from = lines.iter().position(|line| line.contains("The plan")).unwrap();
        let text = lines[from..].join("\n");
        assert!(told.iter().all(|part| text.contains(part)), "{text}");
        assert!(!text.contains(untold), "{text}");
    }

    #[test]
    fn earlier_climbs_are_told_of_and_where_the_others_are() {
        let text = lines(160, 47).join("\n");
        let parts = ["climb 2, now: 3 trials", "climb 1, ended", "and 3 more in Ledger: 8"];
        assert!(parts.iter().all(|part| text.contains(part)), "{text}");
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
        assert!(width < 160 || text.contains("-150 ╌"), "{text}");
        assert!(text.contains("temperature target"), "{text}");
        assert!(text.contains("– this card does not"), "{text}");
        assert!(text.contains("– its driver keeps the tim"), "{text}");
        assert!(text.contains("noise, 1 σ") && text.contains("0.40 %"));
        assert!(text.contains("a gain is real above"), "{text}");
    }

    #[test]
    fn a_missing_sensor_is_told_from_a_silent_one() {
        let text = lines(160, 47).join("\n");
        assert!(text.contains("no such sensor"), "{text}");
        let mut silent = snapshot();
        silent.runs.newest = None;
        silent.machine.sensors = None;
        let theme = Theme::new(Depth::None);
        let text = drawn(160, 47, |buffer, area| draw(buffer, area, theme, &silent)).join("\n");
        assert_eq!(text.matches("no such sensor").count(), 1);
    }

    #[test]
    fn the_memory_is_told_as_the_user_said_where_the_card_does_not_state_it() {
        let mut snapshot = snapshot();
        let card = std::sync::Arc::make_mut(&mut snapshot.machine.card);
        card.memory_wiring = yard_step_core::MemoryWiring::default();
        card.memory_type = "of a kind not stated".into();
        card.memory_clock = yard_step_core::Mhz(875.0);
        let key = card.key();
        let shown = |snapshot: &Snapshot| {
            let theme = Theme::new(Depth::None);
            drawn(160, 47, |buffer, area| draw(buffer, area, theme, snapshot)).join("\n")
        };
        let text = shown(&snapshot);
        assert_eq!(text.matches("unknown: press r").count(), 2, "{text}");
        std::sync::Arc::make_mut(&mut snapshot.machine.said).memories.push(
            yard_step_core::CardMemory {
                card: key,
                kind: yard_step_core::MemoryKind::Gddr6,
                bus_bits: Some(256),
            },
        );
        let text = shown(&snapshot);
        for told in ["GiB GDDR6", "14000 MT/s", "448 GB/s"] {
            assert!(text.contains(told), "{told}\n{text}");
        }
    }

    #[test]
    fn limits_beyond_the_makers_are_marked() {
        let shown = |snapshot: &Snapshot| {
            let theme = Theme::new(Depth::None);
            drawn(160, 47, |buffer, area| draw(buffer, area, theme, snapshot)).join("\n")
        };
        assert!(!shown(&snapshot()).contains("limit table"), "where it cannot be read");
        let highest = snapshot().machine.card.offer(SettingKind::PowerLimit).unwrap().maximum;
        let (makers, raised) = ((highest - 30.0, 250.0), (highest, 250.0));
        let text = shown(&snapshot_with_limits(limit_tables(makers, raised)));
        assert!(text.contains("1 field changed") && text.contains("beyond maker's"), "{text}");
        let mut maker = snapshot_with_limits(limit_tables(raised, raised));
        let text = shown(&maker);
        assert!(text.contains("the maker's") && !text.contains("beyond maker's"), "{text}");
        assert!(!text.contains("next start"), "{text}");
        let ceiling = std::sync::Arc::make_mut(maker.machine.ceiling.as_mut().unwrap());
        let table = ceiling.record.makers.table.with(LimitField::PowerLimit, highest + 9.0);
        let wanted = WantedLimits { table, reason: String::new() };
        ceiling.record.want(wanted.by("rowan", "1.0", 0));
        assert!(shown(&maker).contains("1 field changed by rowan"), "{}", shown(&maker));
    }

    #[test]
    fn limits_that_a_card_does_not_state_are_named_as_missing() {
        let mut snapshot = snapshot();
        let limits = &mut std::sync::Arc::make_mut(&mut snapshot.machine.card).limits;
        (limits.power_limit, limits.current, limits.voltage_ceiling) = (None, None, None);
        limits.temperature_ceiling = None;
        for (width, height, count) in [(160, 47, 4), (100, 27, 2)] {
            let theme = Theme::new(Depth::None);
            let draw = |buffer: &mut Buffer, area| draw(buffer, area, theme, &snapshot);
            let text = drawn(width, height, draw).join("\n");
            assert_eq!(text.matches("not stated").count(), count, "{text}");
        }
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD.into_iter().chain([(60, 15), (250, 80)]) {
            lines(width, height);
        }
    }

    #[test]
    fn what_should_be_in_order_is_listed_with_its_reason() {
        let wide = lines(160, 47).join("\n");
        assert!(wide.contains("Before the first change") && wide.contains("1 of 3 in order"));
        assert!(wide.contains("✓ factory state") && wide.contains("? power supply"), "{wide}");
        assert!(wide.contains("! profile") && wide.contains("would prove"), "{wide}");
        let narrow = lines(100, 27).join("\n");
        assert!(
            narrow.contains("? power supply") && narrow.contains("Enter the power of"),
            "{narrow}"
        );
    }

    #[test]
    fn a_memory_rate_is_told_as_actual_effective_and_bandwidth() {
        let text = lines(160, 47).join("\n");
        for told in ["memory clock, actual", "1750 MHz", "14000 MT/s", "560 GB/s"] {
            assert!(text.contains(told), "{told}\n{text}");
        }
    }

    #[test]
    fn a_warm_up_shows_where_the_heat_is_going() {
        let mut snapshot = snapshot();
        snapshot.runs.activity = Activity::Running;
        snapshot.climb.baseline = None;
        let mut run = crate::tui::fixtures::run_view();
        run.stage = Stage::Baseline;
        run.warm_up = Seconds(900.0);
        run.plateau = Some(yard_step_core::Plateau {
            temperature: yard_step_core::Celsius(71.0),
            now: yard_step_core::Celsius(68.0),
            time_constant: Seconds(130.0),
            residual: yard_step_core::Celsius(0.2),
        });
        snapshot.runs.newest = Some(std::sync::Arc::new(run));
        let theme = Theme::new(Depth::None);
        let text = drawn(160, 47, |buffer, area| draw(buffer, area, theme, &snapshot)).join(" ");
        let words: Vec<&str> = text.split_whitespace().collect();
        let text = words.join(" ");
        assert!(text.contains("Warming up: 68.0 °C"), "{text}");
        assert!(text.contains("71.0 °C"), "{text}");
    }
}
