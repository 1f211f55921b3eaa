//! Asked, taken, seen: three columns side by side, and what else a run showed.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use yard_step_core::verdict::gain_percent;
use yard_step_core::{Percent, SettingKind, Settings};
use yard_step_engine::RunView;

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

/// Draws the table; `baseline` is the score to compare with.
pub(crate) fn draw(
    buffer: &mut Buffer,
    area: Rect,
    theme: Theme,
    run: &RunView,
    baseline: Option<f64>,
) {
    let (label, column) = columns(area.width);
    let head = row(area, 0);
    for (index, name) in ["asked", "taken", "seen"].into_iter().enumerate() {
        let x = area.x.saturating_add(label + index as u16 * column);
        write(buffer, head, (x, head.y), name, theme.style(Role::Title));
    }
    let facts = settings(run).into_iter().chain(in_step(run)).chain(others(run, baseline));
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
                    Some(score) => format!("{verdict}, score {score:.0}"),
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

fn others(run: &RunView, baseline: Option<f64>) -> Vec<Fact> {
    let seen = &run.seen;
    let fact = |label: &str, seen: Option<String>| Fact {
        label: label.into(),
        asked: String::new(),
        taken: String::new(),
        seen: seen.unwrap_or_else(|| "–".into()),
        differs: false,
    };
    let score = run.score.map(|score| match baseline {
        Some(baseline) => format!("{score:.0} ({:+.1} %)", gain_percent(score, baseline)),
        None => format!("{score:.0}"),
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
    vec![
        fact("score", score),
        fact("clock line", flat),
        fact("limited by", limiter),
        fact("hot spot", seen.hot_spot_max.map(|hot| format!("{hot} max"))),
        fact("load", seen.load.map(|load| load.to_string())),
        fact("frame rate", rate),
        fact("wrong frames", Some(format!("{} of {}", seen.wrong_frames, seen.frames))),
    ]
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
        let lines = drawn(59, 12, |buffer, area| draw(buffer, area, theme, &run, Some(1_000.0)));
        assert_eq!(lines[0], "               asked      taken      seen");
        assert_eq!(lines[3], "core offset    +60 MHz    ±0 MHz     2010 MHz avg");
        assert!(lines[5].starts_with("score") && lines[5].ends_with("1010 (+1.0 %)"), "{lines:?}");
        assert!(lines[11].ends_with("0 of 3600"), "{lines:?}");
    }

    #[test]
    fn any_size_will_do() {
        for (width, height) in AWKWARD {
            drawn(width, height, |buffer, area| {
                draw(buffer, area, Theme::new(Depth::True), &run_view(), None);
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
        let lines = drawn(62, 16, |buffer, area| draw(buffer, area, theme, &run, None));
        let line = lines.iter().find(|line| line.starts_with("in step: 8")).unwrap();
        let words: Vec<&str> = line.split_whitespace().collect();
        let expected = "in step: 8 +60 MHz stock not taken, score 1004";
        assert_eq!(words.join(" "), expected);
    }
}
