//! Air: the fan over temperature, where the card ran, and what each speed means in degrees, decibels and clock.
//!
//! ```text
//! ┌ next step ───────────────────────────────────────────────────┐
//! ├ Fan over core temperature ─────────────┬ fan ────────────────┤
//! │                   ▂▄▆████              │ drawn, asked, seen  │
//! │  ▃▃▃▃▃▃▃▅▆██████████████              ├ what a speed means ─┤
//! │                                        │ fan  noise  core …  │
//! │  medley    ━━━━━━━━━━                  ├ quietest curve ─────┤
//! └────────────────────────────────────────┴─────────────────────┘
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Rect};
use yard_step_core::{
    Celsius, Decibel, Drawing, Fan, HeatModel, LoadHeat, MOST_NOISE_NOTES, Percent, SUMMER,
    SettingKind, Settings, counted,
};
use yard_step_engine::{AirView, Snapshot};

use crate::tui::theme::{Role, Theme};
use crate::tui::views::air::chart::{FanChart, Ran};
use crate::tui::views::air::state::{AirState, Draft};
use crate::tui::widgets::panel::{inside, panel};
use crate::tui::widgets::{next_step, row, write, write_right, write_wrapped};

/// Speeds of the table, percent.
const SPEEDS: [f64; 8] = [100.0, 90.0, 80.0, 70.0, 60.0, 50.0, 40.0, 30.0];
/// Loads that have a line below the chart.
const MOST_LOADS: usize = 6;
/// Loads whose time to settle is told.
const MOST_SETTLING: usize = 2;

/// Where the parts of the view lie.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Places {
    pub next: Rect,
    pub chart: Rect,
    pub fan: Rect,
    pub speeds: Rect,
    pub budget: Rect,
}

pub(crate) fn layout(area: Rect) -> Places {
    let roomy = area.height >= 40;
    let [next, body] =
        Layout::vertical([Constraint::Length(next_step::HEIGHT), Constraint::Fill(1)]).areas(area);
    let right = (area.width * 3 / 8).clamp(44, 60);
    let [chart, _, right] =
        Layout::horizontal([Constraint::Fill(1), Constraint::Length(1), Constraint::Length(right)])
            .areas(body);
    let (fan, budget) = if roomy { (10, 13) } else { (8, 8) };
    let [fan, speeds, budget] = Layout::vertical([
        Constraint::Length(fan),
        Constraint::Fill(1),
        Constraint::Length(budget),
    ])
    .areas(right);
    Places { next, chart, fan, speeds, budget }
}

pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    state: &AirState,
) {
    let places = layout(area);
    next_step::draw(buffer, places.next, theme, snapshot);
    let draft = state.shown(snapshot);
    let air = snapshot.machine.air.as_deref();
    match &draft {
        Some(draft) => {
            draw_chart(buffer, places.chart, theme, snapshot, draft);
            draw_fan(buffer, places.fan, theme, snapshot, draft);
        }
        None => {
            let space = panel(buffer, places.chart, theme, "Fan", "");
            let why = snapshot.machine.card.why_not_offered(SettingKind::Fan);
            let text = format!("The fan of this card cannot be set: {why}.");
            write_wrapped(buffer, space, &text, theme.style(Role::Text));
            panel(buffer, places.fan, theme, "Fan", "not offered");
        }
    }
    if let Some(air) = air {
        draw_speeds(buffer, places.speeds, theme, snapshot, air);
        draw_budget(buffer, places.budget, theme, snapshot, air, state);
    }
}

/// Temperature and speed at a place of the screen, °C and %; none outside the chart.
pub(crate) fn at(
    area: Rect,
    snapshot: &Snapshot,
    state: &AirState,
    place: (u16, u16),
) -> Option<(f64, f64)> {
    let draft = state.shown(snapshot)?;
    let ran = ran(snapshot);
    chart(snapshot, &draft, &ran).at(inside(layout(area).chart), place)
}

/// Where the card ran under each load, the hottest first.
fn ran(snapshot: &Snapshot) -> Vec<Ran> {
    let heat = snapshot.machine.air.as_deref().and_then(|air| air.heat.as_ref());
    let loads = heat.map_or(&[][..], |heat| &heat.loads);
    loads.iter().take(MOST_LOADS).filter_map(ran_under).collect()
}

fn ran_under(load: &LoadHeat) -> Option<Ran> {
    let by_heat =
        |a: &&(Percent, Celsius), b: &&(Percent, Celsius)| a.1.value().total_cmp(&b.1.value());
    let (cool, hot) = (load.seen.iter().min_by(by_heat)?, load.seen.iter().max_by(by_heat)?);
    let degrees = match (hot.1 - cool.1).value() < 0.5 {
        true => format!("{}", hot.1),
        false => format!("{:.0} to {}", cool.1.value(), hot.1),
    };
    // What the model says of the newest run beside what that came to.
    let (newest, told) = (load.seen.last()?.1, load.newest_foretold);
    let figures = format!("{degrees}, last {:.0} (foretold {:.0})", newest.value(), told.value());
    Some(Ran { load: load.load.clone(), cool: cool.1, hot: hot.1, figures })
}

fn chart<'a>(snapshot: &Snapshot, draft: &Draft, ran: &'a [Ran]) -> FanChart<'a> {
    let fan = draft.sketch.fan();
    let now = snapshot.sample().and_then(|sample| sample.chip_temperature().zip(sample.fan));
    FanChart {
        curve: draft.sketch.curve(),
        fixed: if let Fan::Fixed(speed) = fan { Some(speed) } else { None },
        target: if let Fan::Target(target) = fan { Some(target.core) } else { None },
        point: draft.point,
        now,
        settles: settles(snapshot, &fan),
        ceiling: snapshot.machine.card.limits.stops_at(),
        ran,
    }
}

/// Where the card is foretold to settle with a fan under the hottest load that is meant.
fn settles(snapshot: &Snapshot, fan: &Fan) -> Option<Celsius> {
    let air = snapshot.machine.air.as_deref()?;
    let (heat, wish) = (air.heat.as_ref()?, air.wish?);
    let speed = |at| fan.speed_at(at);
    speed(wish.room)?;
    let under = heat.plateau_under(wish.power, wish.room, |at| speed(at).unwrap_or_default());
    Some(Celsius(under.0.value))
}

fn draw_chart(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, draft: &Draft) {
    let fan = draft.sketch.fan();
    let aside = Settings { fan: Some(fan), ..Settings::default() }.show(SettingKind::Fan);
    let space = panel(buffer, area, theme, "Fan over core temperature", &aside);
    let ran = ran(snapshot);
    chart(snapshot, draft, &ran).draw(buffer, space, theme);
    if fan == Fan::Automatic {
        let text = "The card drives its fan by itself. Tab: fixed speed, then a curve. d: the quietest curve for your noise budget.";
        let place = Rect {
            x: space.x + 12,
            y: space.y + 2,
            width: space.width.saturating_sub(14),
            height: space.height.saturating_sub(4),
        };
        write_wrapped(buffer, place, text, theme.style(Role::Text));
    }
}

/// The fan as it is drawn, asked, taken and seen.
fn draw_fan(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, draft: &Draft) {
    let fan = draft.sketch.fan();
    let point = draft.sketch.curve().map_or(String::new(), |curve| {
        format!("point {} of {}", draft.point + 1, curve.points().len())
    });
    let space = panel(buffer, area, theme, "Fan", &point);
    let show = |fan: Option<Fan>| {
        Settings { fan: Some(fan.unwrap_or(Fan::Automatic)), ..Settings::default() }
            .show(SettingKind::Fan)
    };
    let chosen = snapshot.machine.air.as_ref().and_then(|air| air.notes.chosen);
    // One that is not proven is not put on the card.
    let used =
        snapshot.machine.profiles.iter().find(|view| view.profile.in_use && view.proof.is_proven());
    let asked = match (snapshot.running(), used) {
        (Some(run), _) => run.asked.fan,
        (None, Some(view)) => view.profile.settings.fan,
        (None, None) => chosen,
    };
    let taken = snapshot.machine.held.and_then(|held| held.fan);
    let seen = snapshot.sample().map_or_else(
        || "–".to_owned(),
        |sample| match (sample.fan, sample.chip_temperature()) {
            (Some(fan), Some(at)) => format!("{fan} at {at}"),
            (Some(fan), None) => fan.to_string(),
            (None, _) => "no fan sensor".to_owned(),
        },
    );
    let is_same = asked.unwrap_or(Fan::Automatic) == taken.unwrap_or(Fan::Automatic);
    let taken_role = if is_same { Role::Text } else { Role::Warn };
    let lines = [
        ("drawn", show(Some(fan)), Role::Accent),
        ("asked", show(asked), Role::Text),
        ("taken", show(taken), taken_role),
        ("seen", seen, Role::Text),
    ];
    for (index, (name, text, role)) in lines.into_iter().enumerate() {
        let line = row(space, index as u16);
        write(buffer, line, (line.x + 1, line.y), name, theme.style(Role::Dim));
        write(buffer, line, (line.x + 8, line.y), &text, theme.style(role));
    }
    let more = details(&fan, snapshot);
    let rest = Rect {
        x: space.x + 1,
        y: space.y + 4,
        width: space.width.saturating_sub(1),
        height: space.height.saturating_sub(4),
    };
    write_wrapped(buffer, rest, &more, theme.style(Role::Dim));
}

/// Fan stop and hysteresis, and who drives the fan.
fn details(fan: &Fan, snapshot: &Snapshot) -> String {
    let mut text = match fan {
        Fan::Curve(curve) => {
            let stop =
                curve.stops_below().map_or("never stops".into(), |at| format!("stops below {at}"));
            format!("{stop}, hysteresis {:.0} K.", curve.hysteresis())
        }
        Fan::Target(_) => "The card keeps to the target by itself.".into(),
        Fan::Fixed(_) => "One speed at every temperature.".into(),
        Fan::Automatic => String::new(),
    };
    if let Some(who) = yard_step_words::who_drives(fan, snapshot.machine.card.fan) {
        text = format!("{text} {who}");
    }
    text
}

/// A table of what each speed means under the hottest load: noise, temperature here and in summer, clock.
fn draw_speeds(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot, air: &AirView) {
    let runs = air.heat.as_ref().map_or("no run yet".to_owned(), |heat| {
        format!("{}, case {}", counted(heat.runs, "run"), heat.case.label())
    });
    let space = panel(buffer, area, theme, "What a speed means", &runs);
    let dim = theme.style(Role::Dim);
    let room = air.room(&snapshot.machine.said);
    let columns = [(0, 5), (6, 9), (16, 12), (29, 6), (36, 8)];
    let cell = |buffer: &mut Buffer, line: Rect, index: usize, text: &str, style| {
        let (x, width) = columns[index];
        let cell = Rect { x: line.x + x, width, ..line }.intersection(line);
        write_right(buffer, cell, line.y, text, style);
    };
    let head = row(space, 0);
    let summer = room + Celsius(SUMMER);
    let heads = [
        "fan".to_owned(),
        "noise".into(),
        format!("core at {:.0}°", room.value()),
        format!("{:.0}°", summer.value()),
        "clock".into(),
    ];
    for (index, name) in heads.iter().enumerate() {
        cell(buffer, head, index, name, dim);
    }
    let is_short = space.height < 12;
    let notes = foot(snapshot, air, is_short);
    let card = &snapshot.machine.card;
    let held = snapshot.machine.held.and_then(|held| held.temperature_target);
    let target = card.limits.held_back_at(held).value();
    let foot_rows = if is_short { 1 } else { 4 };
    let rows = usize::from(space.height.saturating_sub(1 + foot_rows));
    let offer = card.offer(SettingKind::Fan);
    let least = offer.map_or(0.0, |offer| offer.minimum);
    let speeds: Vec<f64> = SPEEDS.into_iter().filter(|speed| *speed >= least).collect();
    // Where not all fit, every other one does.
    let every = if speeds.len() > rows { 2 } else { 1 };
    for (index, speed) in speeds.into_iter().step_by(every).take(rows).enumerate() {
        let line = row(space, index as u16 + 1);
        let (percent, level) = (Percent(speed), air.noise.at(Percent(speed)));
        cell(buffer, line, 0, &percent.to_string(), theme.style(Role::Text));
        cell(buffer, line, 1, &level.to_string(), theme.style(Role::Text));
        let Some((heat, wish)) = air.heat.as_ref().zip(air.wish) else { continue };
        let now = heat.plateau(wish.power, percent, room);
        let then = heat.plateau(wish.power, percent, summer).value;
        // At its target a card drops its clock to stay there.
        let role = |at: f64| if at >= target { Role::Warn } else { Role::Text };
        let text = match now.value >= target {
            true => format!("held at {target:.0}"),
            false => format!("{:.0} ± {:.0}", now.value, now.error.max(1.0)),
        };
        cell(buffer, line, 2, &text, theme.style(role(now.value)));
        cell(buffer, line, 3, &format!("{:.0}", then.min(target)), theme.style(role(then)));
        let lost = Drawing { card, heat, noise: &air.noise }.lost(&wish, now.value);
        let text = match lost.clock.value() {
            _ if now.value >= target => "falls".to_owned(),
            lost if lost < 0.5 => "±0".into(),
            lost => format!("−{lost:.0} MHz"),
        };
        cell(buffer, line, 4, &text, theme.style(Role::Text));
    }
    let rest = Rect {
        x: space.x + 1,
        y: space.bottom().saturating_sub(foot_rows),
        width: space.width.saturating_sub(1),
        height: foot_rows,
    };
    write_wrapped(buffer, rest, &notes, dim);
}

/// What the table stands on.
fn foot(snapshot: &Snapshot, air: &AirView, is_short: bool) -> String {
    let noise = match air.noise.notes {
        0 => "Noise is assumed: N notes how loud the fan is.".to_owned(),
        count => format!(
            "Noise from {}, ± {:.1} dB; inaudible up to {}.",
            counted(count.min(MOST_NOISE_NOTES), "note"),
            air.noise.full.error,
            air.noise.inaudible_up_to()
        ),
    };
    if is_short && air.heat.is_some() {
        return match air.noise.notes {
            0 => "Noise is assumed: N notes it.".into(),
            count => format!("Noise from {}.", counted(count, "note")),
        };
    }
    let heat = air.heat.as_ref().map_or_else(
        || "No run was long enough to tell how warm the card becomes.".to_owned(),
        |heat| heat_in_words(heat, snapshot),
    );
    format!("{heat} {noise}")
}

fn heat_in_words(heat: &HeatModel, snapshot: &Snapshot) -> String {
    let full = heat.resistance(Percent(100.0));
    let time = settling_times(heat);
    let by_heat = heat.clock_by_heat;
    let limits = &snapshot.machine.card.limits;
    let target =
        limits.temperature_target.map_or(String::new(), |target| format!(", target {target}"));
    format!(
        "{:.3} ± {:.3} K/W at full speed{time}. {:.1} ± {:.1} MHz lost per K{target}.",
        full.value,
        full.error,
        by_heat.value.max(0.0),
        by_heat.error
    )
}

/// The time in which the core settles under each load, of the hottest that told.
fn settling_times(heat: &HeatModel) -> String {
    let told = heat.loads.iter().filter_map(|load| Some((&load.load, load.settles_in?)));
    let told: Vec<String> = told
        .take(MOST_SETTLING)
        .map(|(load, time)| format!("{} under {load}", time.in_words()))
        .collect();
    if told.is_empty() { String::new() } else { format!(", settles in {}", told.join(", ")) }
}

/// The budget, and the curve that comes of it.
fn draw_budget(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    snapshot: &Snapshot,
    air: &AirView,
    state: &AirState,
) {
    let wish = &air.notes.wish;
    let keep = match wish.lose_percent {
        None => "keeps the clock".to_owned(),
        Some(percent) => format!("loses {percent} % at most"),
    };
    let noise =
        wish.most_noise.map_or(String::new(), |level: Decibel| format!(", at most {level}"));
    let loads = match wish.loads.as_slice() {
        [] => String::new(),
        loads => format!(", {}", loads.join(", ")),
    };
    let aside = format!("{keep}{noise}{loads}");
    let space = panel(buffer, area, theme, "Quietest curve", &aside);
    let space = Rect { x: space.x + 1, width: space.width.saturating_sub(1), ..space };
    let (text, role) = match (&state.told, &air.drawn, &air.wish) {
        (Some(told), ..) => (told.clone(), Role::Warn),
        (None, Some(drawn), Some(wish)) => (yard_step_words::drawn_curve(drawn, wish), Role::Text),
        _ => {
            let why = match snapshot.climb.trials.is_empty() {
                true => {
                    "Run a load for some minutes: then it can be told which fan speed keeps which temperature."
                }
                false => {
                    "No run of the loads you named was long enough to tell how warm the card becomes."
                }
            };
            (why.to_owned(), Role::Dim)
        }
    };
    let used = write_wrapped(buffer, space, &text, theme.style(role));
    let hint = "d draws it   Enter asks for it   k keeps it   w budget";
    if used + 1 < space.height {
        let line = row(space, used + 1);
        write(buffer, line, (line.x, line.y), hint, theme.style(Role::Dim));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::theme::Depth;
    use crate::tui::views::air::state::tests::moment;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use rstest::rstest;
    use std::sync::Arc;
    use yard_step_core::Seconds;

    const THEME: Theme = Theme::new(Depth::None);

    fn shown(width: u16, height: u16, snapshot: &Snapshot) -> String {
        let state = AirState::default();
        drawn(width, height, |buffer, area| draw(buffer, area, THEME, snapshot, &state)).join("\n")
    }

    #[rstest]
    #[case(159, 47)]
    #[case(99, 27)]
    fn curve_heat_noise_and_budget_are_on_one_screen(#[case] width: u16, #[case] height: u16) {
        let text = shown(width, height, &moment());
        for part in [
            "Fan over core temperature",
            "45 °C → 30 %",
            "drawn",
            "taken",
            "What a speed means",
            "100 %",
            "dB",
            "Quietest curve",
            "dB quieter",
            "medley",
        ] {
            assert!(text.contains(part), "{part}:\n{text}");
        }
    }

    #[test]
    fn before_a_run_and_without_a_fan_it_says_what_is_missing() {
        let mut snapshot = moment();
        let mut air = (**snapshot.machine.air.as_ref().unwrap()).clone();
        (air.heat, air.drawn, air.wish) = (None, None, None);
        snapshot.machine.air = Some(Arc::new(air));
        assert!(shown(159, 47, &snapshot).contains("No run was long enough"));
        let mut card = (*snapshot.machine.card).clone();
        card.offers.retain(|offer| offer.kind != SettingKind::Fan);
        snapshot.machine.card = Arc::new(card);
        assert!(shown(159, 47, &snapshot).contains("The fan of this card cannot be set"));
    }

    #[test]
    fn the_time_in_which_the_core_settles_is_told_for_each_of_the_hottest_loads() {
        let snapshot = moment();
        let mut heat = snapshot.machine.air.as_ref().unwrap().heat.clone().unwrap();
        let one = heat.loads[0].clone();
        let load = |name: &str, settles_in: Option<Seconds>| LoadHeat {
            load: name.into(),
            settles_in,
            ..one.clone()
        };
        let told = Some(Seconds(100.0));
        let loads = [load("kiln", told), load("loom", None), load("medley", Some(Seconds(40.0)))];
        heat.loads = loads.to_vec();
        assert_eq!(settling_times(&heat), ", settles in 1 min 40 s under kiln, 40 s under medley");
        heat.loads = vec![load("loom", None)];
        assert_eq!(settling_times(&heat), "");
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD {
            shown(width, height, &moment());
        }
    }
}
