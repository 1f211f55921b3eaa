//! Asked, taken, seen: three columns side by side, and what else a run showed.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::verdict::gain_percent;
use yard_step_core::{Percent, SettingKind, Settings, SubScoreBaseline, figure_in_words};
use yard_step_engine::{RunView, Snapshot};

use crate::tui::theme::{Role, Theme};
use crate::tui::widgets::{row, write};

/// A line of the table.
struct Fact {
    label: String,
    asked: String,
    taken: String,
    seen: String,
    /// The card does not hold what was asked.
    differs: bool,
}

/// What a run is held against.
#[derive(Default)]
pub(crate) struct Stock<'a> {
    /// The score at stock; none where it is not known.
    score: Option<f64>,
    /// The load's sub-scores at stock.
    sub_scores: &'a [SubScoreBaseline],
}

impl<'a> Stock<'a> {
    /// The baseline of a run's climb, once it is complete.
    pub(crate) fn of(snapshot: &'a Snapshot, run: &RunView) -> Self {
        let score = snapshot.baseline_for(run);
        let is_known = score.is_some() && run.scene == snapshot.climb.plan.scene;
        Self { score, sub_scores: if is_known { &snapshot.climb.sub_scores } else { &[] } }
    }
}

/// Draws the table.
pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    run: &RunView,
    stock: &Stock<'_>,
) {
    let (label, column) = columns(area.width);
    let head = row(area, 0);
    for (index, name) in ["asked", "taken", "seen"].into_iter().enumerate() {
        let x = area.x.saturating_add(label + index as u16 * column);
        write(buffer, head, (x, head.y), name, theme.style(Role::Title));
    }
    let facts = settings(run).into_iter().chain(in_step(run)).chain(others(run, stock));
    for (index, fact) in facts.enumerate() {
        let line = row(area, index as u16 + 1);
        let text = theme.style(Role::Text);
        let taken = if fact.differs { theme.style(Role::Bad) } else { text };
        let cells =
            [(&fact.asked, text), (&fact.taken, taken), (&fact.seen, theme.style(Role::Clock))];
        write(buffer, line, (line.x, line.y), &fact.label, theme.style(Role::Dim));
        for (place, (value, style)) in cells.into_iter().enumerate() {
            let x = area.x.saturating_add(label + place as u16 * column);
            // The last column may be as long as there is room.
            let width = if place == 2 { area.right().saturating_sub(x) } else { column - 1 };
            let cell = Rect { x, width: width.min(area.right().saturating_sub(x)), ..line };
            write(buffer, cell, (x, line.y), value, style);
        }
    }
}

/// Width of the label, and of asked and taken; seen has the rest.
fn columns(width: u16) -> (u16, u16) {
    if width >= 50 { (15, 11) } else { (13, 9) }
}

fn settings(run: &RunView) -> Vec<Fact> {
    SettingKind::ALL
        .into_iter()
        .filter(|kind| is_moved(run, *kind) || is_held_always(run, *kind))
        .map(|kind| {
            let taken = run.taken.map(|taken| shown(&taken, kind));
            let asked = shown(&run.asked, kind);
            Fact {
                label: short_label(kind).into(),
                differs: taken.as_ref().is_some_and(|taken| *taken != asked)
                    && run.asked.says(kind),
                taken: taken.unwrap_or_else(|| "–".into()),
                asked,
                seen: seen(run, kind),
            }
        })
        .collect()
}

/// A setting as short as its column: of a curve its top, in MHz and mV.
fn shown(settings: &Settings, kind: SettingKind) -> String {
    let top = settings.curve.filter(|_| kind == SettingKind::Curve).map(|curve| curve.flat_from());
    top.map_or_else(|| settings.show(kind), |top| format!("{}/{}", top.mhz, top.millivolt))
}

/// Whether a setting is asked for, or held, otherwise than as an offset of nothing.
fn is_moved(run: &RunView, kind: SettingKind) -> bool {
    let moved = |settings: &Settings| match kind {
        SettingKind::Curve => settings.curve.is_some(),
        _ => settings.get(kind).is_some_and(|value| value != 0.0),
    };
    moved(&run.asked) || run.taken.as_ref().is_some_and(moved)
}

/// What every card steers by is shown whether or not it was asked for.
fn is_held_always(run: &RunView, kind: SettingKind) -> bool {
    let held = run.taken.is_some_and(|taken| taken.get(kind).is_some());
    match kind {
        SettingKind::PowerLimit | SettingKind::TemperatureTarget | SettingKind::CoreOffset => held,
        SettingKind::Fan => run.taken.is_some(),
        _ => false,
    }
}

const fn short_label(kind: SettingKind) -> &'static str {
    match kind {
        SettingKind::PowerLimit => "power limit",
        SettingKind::TemperatureTarget => "temp. target",
        SettingKind::CoreOffset => "core offset",
        SettingKind::MemoryOffset => "mem. offset",
        SettingKind::ClockMinimum => "lowest clock",
        SettingKind::ClockMaximum => "highest clock",
        SettingKind::VoltageOffset => "volt. offset",
        SettingKind::MemoryVoltage => "mem. voltage",
        SettingKind::MemoryTiming => "mem. timing",
        SettingKind::Fan => "fan",
        SettingKind::FrameCap => "frame cap",
        SettingKind::Curve => "V/F curve",
    }
}

/// What was observed of a setting. During a run the clock is that of the newest sample, in the end
/// it is the average.
fn seen(run: &RunView, kind: SettingKind) -> String {
    let seen = &run.seen;
    let text = match kind {
        SettingKind::CoreOffset => match &seen.clock_line {
            Some(line) => Some(format!("{} avg", line.average)),
            None => run.sample.core_clock.map(|clock| format!("{clock} now")),
        },
        SettingKind::PowerLimit => seen.average_power.map(|power| format!("{power} avg")),
        SettingKind::TemperatureTarget => {
            seen.core_temperature_max.map(|temperature| format!("{temperature} max"))
        }
        SettingKind::Fan => seen.fan.map(|fan| fan.to_string()),
        SettingKind::ClockMinimum => {
            seen.clock_line.as_ref().map(|line| format!("{} lowest", line.lowest))
        }
        SettingKind::ClockMaximum => {
            seen.clock_line.as_ref().map(|line| format!("{} highest", line.highest))
        }
        SettingKind::MemoryOffset => run.sample.memory_clock.map(|clock| format!("{clock} actual")),
        SettingKind::VoltageOffset => run.sample.voltage.map(|volts| format!("{volts} now")),
        SettingKind::FrameCap => seen.frame_rate.map(|rate| format!("{rate:.1} fps")),
        SettingKind::Curve => run
            .sample
            .core_clock
            .zip(run.sample.voltage)
            .map(|(clock, volts)| format!("{clock} at {volts}")),
        SettingKind::MemoryVoltage | SettingKind::MemoryTiming => None,
    };
    text.unwrap_or_else(|| "–".into())
}

/// A line for each card held in step: what it took of the core offset, and what is seen of it.
fn in_step(run: &RunView) -> Vec<Fact> {
    let kind = SettingKind::CoreOffset;
    run.in_step
        .iter()
        .map(|other| {
            let asked = run.asked.show(kind);
            let taken = other.taken.map(|taken| taken.show(kind));
            let sample = other.sample.unwrap_or_default();
            let seen = match (other.verdict, sample.core_clock) {
                (Some(verdict), _) => match other.score {
                    Some(score) => format!("{verdict}, score {}", figure_in_words(score)),
                    None => verdict.to_string(),
                },
                (None, Some(clock)) => format!("{clock}, {} wrong", other.wrong_frames),
                (None, None) => "–".into(),
            };
            Fact {
                label: format!("in step: {}", other.serial),
                differs: taken.as_ref().is_some_and(|taken| *taken != asked),
                taken: taken.unwrap_or_else(|| "–".into()),
                asked,
                seen,
            }
        })
        .collect()
}

fn others(run: &RunView, stock: &Stock<'_>) -> Vec<Fact> {
    let seen = &run.seen;
    let fact = |label: &str, seen: Option<String>| Fact {
        label: label.into(),
        asked: String::new(),
        taken: String::new(),
        seen: seen.unwrap_or_else(|| "–".into()),
        differs: false,
    };
    let against = |score: f64, stock: Option<f64>| match stock {
        Some(stock) => format!("{} ({:+.1} %)", figure_in_words(score), gain_percent(score, stock)),
        None => figure_in_words(score),
    };
    let score = run.score.map(|score| against(score, stock.score));
    let sub_scores = seen.told.sub_scores.iter().map(|part| {
        let at_stock = stock.sub_scores.iter().find(|at_stock| at_stock.name == part.name);
        let value = against(part.value, at_stock.map(|at_stock| at_stock.value));
        let noise = at_stock.and_then(|at_stock| at_stock.noise);
        let noise = noise.map_or(String::new(), |noise| format!(", noise {:.1} %", noise.value()));
        fact(&part.name, Some(value + &noise))
    });
    let rate = seen.frame_rate.map(|rate| match seen.frame_rate_low {
        Some(low) => format!("{rate:.1} fps, low {low:.1}"),
        None => format!("{rate:.1} fps"),
    });
    let flat = seen.clock_line.as_ref().map(|line| match line.dips.len() {
        0 => format!("{} flat", line.flatness),
        1 => format!("{}, 1 dip", line.flatness),
        dips => format!("{}, {dips} dips", line.flatness),
    });
    let limiter = seen
        .main_limiter()
        .map(|(limiter, share)| format!("{} {}", limiter.label(), Percent(share * 100.0)));
    let first = [fact("score", score)].into_iter().chain(sub_scores);
    first
        .chain([
            fact("clock line", flat),
            fact("limited by", limiter),
            fact("hot spot", seen.hot_spot_max.map(|hot| format!("{hot} max"))),
            fact("load", seen.load.map(|load| load.to_string())),
            fact("frame rate", rate),
            fact("wrong frames", Some(format!("{} of {}", seen.wrong_frames, seen.frames))),
        ])
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::run_view;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};
    use yard_step_core::MhzOffset;

    #[test]
    fn asked_taken_and_seen_stand_side_by_side() {
        let mut run = run_view();
        run.taken = run.taken.map(|mut taken| {
            taken.core_offset = Some(MhzOffset::STOCK);
            taken
        });
        let theme = Theme::new(Depth::None);
        let lines = drawn(59, 12, |buffer, area| {
            let stock = Stock { score: Some(1_000.0), sub_scores: &[] };
            draw(buffer, area, theme, &run, &stock);
        });
        assert_eq!(lines[0], "               asked      taken      seen");
        assert_eq!(lines[3], "core offset    +60 MHz    ±0 MHz     2010 MHz avg");
        assert!(lines[5].starts_with("score") && lines[5].ends_with("1010 (+1.0 %)"), "{lines:?}");
        assert!(lines[11].ends_with("0 of 3600"), "{lines:?}");
    }

    #[test]
    fn sub_scores_stand_below_the_score_each_with_its_own_gain_and_noise() {
        let mut run = run_view();
        run.seen.told = yard_step_core::Told::parse("hammer 812, anvil 640").unwrap();
        let sub_scores =
            [SubScoreBaseline { name: "hammer".into(), value: 800.0, noise: Some(Percent(0.42)) }];
        let stock = Stock { score: Some(1_000.0), sub_scores: &sub_scores };
        let theme = Theme::new(Depth::None);
        let lines = drawn(62, 16, |buffer, area| draw(buffer, area, theme, &run, &stock));
        let at = lines.iter().position(|line| line.starts_with("score")).unwrap();
        assert!(lines[at + 1].starts_with("hammer "), "{lines:#?}");
        assert!(lines[at + 1].ends_with("812 (+1.5 %), noise 0.4 %"), "{lines:#?}");
        assert!(lines[at + 2].starts_with("anvil ") && lines[at + 2].ends_with(" 640"));
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD {
            drawn(width, height, |buffer, area| {
                draw(buffer, area, Theme::new(Depth::True), &run_view(), &Stock::default());
            });
        }
    }

    #[test]
    fn a_card_in_step_has_its_own_line() {
        let mut run = run_view();
        run.in_step = vec![yard_step_engine::InStepView {
            card: "standin:test#8".into(),
            serial: "8".into(),
            taken: Some(Settings::default()),
            sample: None,
            wrong_frames: 0,
            score: Some(1_004.0),
            verdict: Some(yard_step_core::Verdict::NotTaken),
            reason: String::new(),
        }];
        let theme = Theme::new(Depth::None);
        let lines =
            drawn(62, 16, |buffer, area| draw(buffer, area, theme, &run, &Stock::default()));
        let line = lines.iter().find(|line| line.starts_with("in step: 8")).unwrap();
        let words: Vec<&str> = line.split_whitespace().collect();
        let expected = "in step: 8 +60 MHz stock not taken, score 1004";
        assert_eq!(words.join(" "), expected);
    }
}
