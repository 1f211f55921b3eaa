//! The last verdict and the next step, each with its reason.
//!
//! ```text
//! ● CLEAN    trial 6 at +120 MHz: No wrong pixel in 4180 frames …
//! ▹ NEXT     +180 MHz, step, 3 min 20 s. It held at +120 MHz and nothing has failed yet …
//! ```

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use yard_step_core::{Left, Purpose, Seconds, Settings, counted, in_short};
use yard_step_engine::{Activity, NextView, Restart, Snapshot};

use crate::tui::theme::{Role, Theme, glyph};
use crate::tui::widgets::{row, wrapped, write};

/// Width of the word at the left.
const WORD: u16 = 16;

struct Entry {
    glyph: &'static str,
    word: String,
    text: String,
    style: Style,
}

/// Rows it wants: two for what was, three for what is next.
pub(crate) const HEIGHT: u16 = 5;

/// Draws both entries.
pub(crate) fn draw(buffer: &mut Buffer, area: Rect, theme: Theme, snapshot: &Snapshot) {
    let first = area.height / 2;
    let second = area.height - first;
    let upper = Rect { height: first, ..area };
    let lower = Rect { y: area.y + first, height: second, ..area };
    draw_entry(buffer, upper, theme, &now(snapshot, theme));
    draw_entry(buffer, lower, theme, &next(snapshot, theme));
}

/// The settings of a trial in a few words.
fn settings_name(settings: &Settings, snapshot: &Snapshot) -> String {
    format!("at {}", in_short(settings, &snapshot.machine.card))
}

fn draw_entry(buffer: &mut Buffer, area: Rect, theme: Theme, entry: &Entry) {
    let head = row(area, 0);
    let bold = entry.style.add_modifier(Modifier::BOLD);
    write(buffer, head, (area.x + 1, area.y), entry.glyph, bold);
    write(buffer, head, (area.x + 3, area.y), &entry.word, bold);
    let indent = WORD.min(area.width);
    let text = Rect { x: area.x + indent, width: area.width - indent, ..area };
    let mut lines = wrapped(&entry.text, usize::from(text.width.max(1)));
    if lines.len() > usize::from(text.height) {
        lines.truncate(usize::from(text.height));
        if let Some(last) = lines.last_mut() {
            let keep = usize::from(text.width).saturating_sub(2);
            *last = last.chars().take(keep).collect::<String>() + " …";
        }
    }
    for (index, line) in lines.iter().enumerate() {
        write(buffer, text, (text.x, text.y + index as u16), line, theme.style(Role::Text));
    }
}

/// What is going on, or what the last verdict was.
fn now(snapshot: &Snapshot, theme: Theme) -> Entry {
    let running = snapshot.runs.activity == Activity::Running;
    if let (true, Some(run)) =
        (running || snapshot.runs.activity == Activity::Paused, &snapshot.runs.newest)
    {
        let left = Seconds(run.planned.value() - run.at.value()).in_words();
        let under = settings_name(&run.asked, snapshot);
        let warm = if run.at < run.warm_up { ", warming up" } else { "" };
        return Entry {
            glyph: if running { "▶" } else { "‖" },
            word: if running { "RUNNING" } else { "PAUSED" }.into(),
            text: format!(
                "trial {} {under}, {} under {}{warm}: {} of {}, {left} left. {} frames checked, {} wrong.",
                run.number,
                run.purpose.label(),
                run.scene,
                run.at.in_words(),
                run.planned.in_words(),
                run.seen.frames,
                run.seen.wrong_frames,
            ),
            style: theme.style(Role::Clock),
        };
    }
    if let Some(run) =
        snapshot.runs.looked_at.as_ref().filter(|run| run.climb != snapshot.climb.number)
        && let Some(judgement) = &run.judgement
    {
        return Entry {
            glyph: glyph(judgement.verdict),
            word: judgement.verdict.label().to_uppercase(),
            text: format!("{} at {}: {}", run.title, run.what, judgement.reason),
            style: theme.verdict(judgement.verdict),
        };
    }
    let trial = match snapshot.looked_here() {
        Some(number) => snapshot.climb.trials.iter().find(|trial| trial.number == number),
        None => snapshot.climb.trials.last(),
    };
    match trial {
        Some(trial) => Entry {
            glyph: glyph(trial.verdict()),
            word: trial.verdict().label().to_uppercase(),
            text: format!(
                "trial {} {}{}: {}",
                trial.number,
                settings_name(&trial.held(), snapshot),
                if trial.marked.is_some() { ", marked by hand" } else { "" },
                trial.reason
            ),
            style: theme.verdict(trial.verdict()),
        },
        None => Entry {
            glyph: "·",
            word: "NOTHING YET".into(),
            text: "No trial has been made in this climb.".into(),
            style: theme.style(Role::Dim),
        },
    }
}

fn next(snapshot: &Snapshot, theme: Theme) -> Entry {
    let accent = theme.style(Role::Accent);
    if matches!(snapshot.runs.activity, Activity::Running | Activity::Paused) {
        let what = if snapshot.runs.auto {
            "auto-climb starts the next step after this trial"
        } else {
            "after this trial"
        };
        return Entry {
            glyph: "▹",
            word: "THEN".into(),
            text: format!("{what}. {}", outlook(snapshot)),
            style: accent,
        };
    }
    if let Some(restart) = snapshot.machine.restart {
        // A card that works by the clock on the wall sits in a machine that only the user restarts.
        let is_real = snapshot.runs.pace.is_none();
        let way = match restart {
            Restart::AfterReset(_) if is_real => {
                "Restart the machine, and open Yard Step again. Enter tries the next step without \
                 a restart."
            }
            Restart::Down | Restart::CardGone if is_real => {
                "Enter looks for it again. Where that does not help, restart the machine and open \
                 Yard Step again."
            }
            Restart::Down => {
                "Enter restarts it. The trial that ran has no outcome: it counts as machine down \
                 then, and its settings are not tried again without a yes."
            }
            Restart::CardGone => "Enter restarts the machine.",
            Restart::AfterReset(_) => "R restarts it; Enter tries the next step without a restart.",
        };
        return Entry {
            glyph: "▲",
            word: "RESTART".into(),
            text: format!("{restart} {way}"),
            style: theme.style(Role::Bad),
        };
    }
    match &snapshot.climb.next {
        NextView::Trial { stage, what, purpose, seconds, reason, .. } => {
            let what = match purpose {
                Purpose::Baseline => "baseline run at stock".to_owned(),
                Purpose::Own => format!("{what}, your own"),
                other => format!("{stage}: {what}, {}", other.label()),
            };
            Entry {
                glyph: "▹",
                word: "NEXT: ENTER".into(),
                text: format!(
                    "{what}, at least {}. {} {}",
                    seconds.in_words(),
                    yard_step_words::reason(reason),
                    outlook(snapshot)
                ),
                style: accent,
            }
        }
        NextView::Ended(outcome) => Entry {
            glyph: "★",
            word: "OUTCOME".into(),
            text: format!(
                "{} {}, {} under load. Keep it with k.",
                yard_step_words::outcome(outcome),
                counted(outcome.trials, "trial"),
                outcome.test_seconds.in_words()
            ),
            style: accent,
        },
        NextView::Stuck(why) => Entry {
            glyph: "!",
            word: "STUCK".into(),
            text: format!("{} Enter tries again.", yard_step_words::stuck(why)),
            style: theme.style(Role::Bad),
        },
    }
}

fn outlook(snapshot: &Snapshot) -> String {
    let outlook = &snapshot.climb.outlook;
    match outlook.climb.trials.1 {
        0 => "That is the last step.".into(),
        _ if outlook.stage == outlook.climb => {
            format!("Left: {} ({}).", minutes_left(&outlook.climb), trials_left(&outlook.climb))
        }
        _ => format!(
            "Left: {} in {}, {} in all ({}).",
            minutes_left(&outlook.stage),
            snapshot.climb.stage,
            minutes_left(&outlook.climb),
            trials_left(&outlook.climb)
        ),
    }
}

fn range(low: String, high: String) -> String {
    if low == high { low } else { format!("{low} to {high}") }
}

/// The time that is left, as a range.
fn minutes_left(left: &Left) -> String {
    let minutes = |seconds: Seconds| (seconds.value() / 60.0).round().to_string();
    format!("{} min", range(minutes(left.seconds.0), minutes(left.seconds.1)))
}

/// The trials that are left, as a range.
fn trials_left(left: &Left) -> String {
    let (few, many) = left.trials;
    if (few, many) == (1, 1) {
        return "1 trial".into();
    }
    format!("{} trials", range(few.to_string(), many.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;
    use crate::tui::theme::Depth;
    use crate::tui::widgets::testing::{AWKWARD, drawn};

    const THEME: Theme = Theme::new(Depth::None);

    #[test]
    fn the_verdict_and_the_next_step_come_with_their_reasons() {
        let snapshot = snapshot();
        let lines = drawn(150, HEIGHT, |buffer, area| draw(buffer, area, THEME, &snapshot));
        assert!(lines[0].starts_with(" ▲ LOAD DIED    trial 3 at core +120 MHz: "), "{lines:?}");
        assert!(
            lines[2].starts_with(" ▹ NEXT: ENTER  core: core +75 MHz, step, at least 3 min 20 s."),
            "{lines:?}"
        );
        let left = "Left: 20 to 40 min in core, 60 to 90 min in all (8 to 14 trials).";
        let told = lines[2..4].join(" ").split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(told.contains(left), "{told}");
    }

    #[test]
    fn a_text_too_long_is_cut_with_a_sign() {
        let snapshot = snapshot();
        let lines = drawn(40, 2, |buffer, area| draw(buffer, area, THEME, &snapshot));
        assert!(lines.iter().all(|line| line.ends_with('…')), "{lines:?}");
    }

    #[test]
    fn any_size_will_do() {
        let mut snapshot = snapshot();
        for activity in [Activity::Waiting, Activity::Running, Activity::Paused] {
            snapshot.runs.activity = activity;
            for (width, height) in AWKWARD {
                drawn(width, height, |buffer, area| draw(buffer, area, THEME, &snapshot));
            }
        }
    }
}
