//! The panel of the climb's stages: where each stands and what it found, how steps are chosen, what
//! the settings are to be good for, and what there is to say of the gain.

use ratatui::crossterm::event::KeyCode;
use ratatui::style::Style;
use yard_step_core::{ClimbError, Margin, Policy, StageOrder};
use yard_step_engine::{Command, Snapshot, StageStanding};
use yard_step_scenes::sections_of;

use crate::tui::overlays::found;
use crate::tui::theme::{Role, Theme};
use crate::tui::views::ledger::state::beside;
use crate::tui::widgets::wrapped;

/// Most columns of the text beside a stage's name.
const TEXT: usize = 84;

/// Columns before that text, and of the box around it.
const BEFORE: usize = 36;

/// What a line of the panel is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Row {
    Stage(usize),
    /// One that the climb has not.
    Other(usize),
    Policy,
    Margin,
}

fn rows(snapshot: &Snapshot) -> Vec<Row> {
    let stages = (0..snapshot.climb.progress.len()).map(Row::Stage);
    let others = (0..snapshot.climb.other_stages.len()).map(Row::Other);
    stages.chain(others).chain([Row::Policy, Row::Margin]).collect()
}

/// What a key does in the panel: the row that is chosen then, and a command.
pub(crate) fn key(chosen: usize, code: KeyCode, snapshot: &Snapshot) -> (usize, Option<Command>) {
    let rows = rows(snapshot);
    let last = rows.len() - 1;
    let chosen = chosen.min(last);
    let command = match (rows[chosen], code) {
        (_, KeyCode::Up) => return (chosen.saturating_sub(1), None),
        (_, KeyCode::Down) => return ((chosen + 1).min(last), None),
        (_, KeyCode::Char('o')) => Some(Command::SwapStages),
        (Row::Other(index), KeyCode::Char('a')) => {
            let Some((stage, why_not)) = snapshot.climb.other_stages.get(index) else {
                return (chosen, None);
            };
            // The stage goes behind the others, and the choice with it.
            let place = if why_not.is_none() { snapshot.climb.progress.len() } else { chosen };
            return (place, Some(Command::AddStage(*stage)));
        }
        (Row::Stage(index), KeyCode::Char(character)) => {
            let order = match character {
                'e' => Some(StageOrder::End),
                's' => Some(StageOrder::Skip),
                'r' => Some(StageOrder::Repeat),
                _ => None,
            };
            let stage = snapshot.climb.progress.get(index).map(|view| view.stage);
            stage.zip(order).map(|(stage, order)| Command::Direct(stage, order))
        }
        (row, KeyCode::Left | KeyCode::Right) => {
            let on = code == KeyCode::Right;
            let (policy, margin) = (snapshot.climb.plan.policy, snapshot.climb.plan.margin);
            match row {
                Row::Policy => Some(Command::Replan(beside(&Policy::ALL, policy, on), margin)),
                Row::Margin => Some(Command::Replan(policy, beside(&Margin::ALL, margin, on))),
                Row::Stage(_) | Row::Other(_) => None,
            }
        }
        _ => None,
    };
    (chosen, command)
}

/// Whether the chosen row is the last that can be.
pub(crate) fn is_last(chosen: usize, snapshot: &Snapshot) -> bool {
    chosen + 1 >= rows(snapshot).len()
}

/// The lines of the panel for a screen of so many columns.
pub(crate) fn lines(
    theme: Theme,
    chosen: usize,
    snapshot: &Snapshot,
    columns: u16,
) -> Vec<(String, Style)> {
    let room = usize::from(columns).saturating_sub(BEFORE).clamp(20, TEXT);
    let rows = rows(snapshot);
    let chosen = chosen.min(rows.len() - 1);
    let mut lines = Vec::new();
    let text = theme.style(Role::Text);
    let mut push = |row: Option<Row>, name: &str, standing: &str, what: &str, style: Style| {
        let mut shown = wrapped(what, room);
        if shown.is_empty() {
            shown.push(String::new());
        }
        for (index, line) in shown.iter().enumerate() {
            let is_chosen = row.is_some_and(|row| rows[chosen] == row);
            let pointer = if is_chosen && index == 0 { "▸" } else { " " };
            let (name, standing) = if index == 0 { (name, standing) } else { ("", "") };
            let style = if is_chosen { style.patch(theme.style(Role::Selected)) } else { style };
            lines.push((format!("{pointer} {name:<15} {standing:<10} {line}"), style));
        }
    };
    for (index, view) in snapshot.climb.progress.iter().enumerate() {
        let (standing, role) = match view.standing {
            StageStanding::ToCome => ("○ to come", Role::Dim),
            StageStanding::Present => ("▶ present", Role::Clock),
            StageStanding::Done => ("● done", Role::Text),
            StageStanding::Skipped => ("╌ skipped", Role::Dim),
        };
        let name = view.stage.label();
        // Before it has found anything, what it is for.
        let found = view.found.as_ref().map(|found| found::in_words(found, &snapshot.machine.card));
        let found = found.unwrap_or_else(|| view.stage.statement().to_owned());
        push(Some(Row::Stage(index)), name, standing, &found, theme.style(role));
    }
    for (index, (stage, why)) in snapshot.climb.other_stages.iter().enumerate() {
        let (standing, what) = match why {
            None => ("+ a adds", stage.statement().to_owned()),
            Some(ClimbError::NotOffered { setting, card, .. }) => {
                ("– not here", format!("{card} offers no {setting}"))
            }
            Some(why) => ("– not here", why.to_string()),
        };
        let row = Some(Row::Other(index));
        push(row, stage.label(), standing, &what, theme.style(Role::Dim));
    }
    let (policy, margin) = (snapshot.climb.plan.policy, snapshot.climb.plan.margin);
    push(Some(Row::Policy), "policy", "", &format!("‹ {policy} › {}", policy.how()), text);
    let claim =
        format!("‹ {margin} › for {}: {}", margin.purpose(), yard_step_words::margin_claim(margin));
    push(Some(Row::Margin), "margin", "", &claim, text);
    if let Some(claim) = &snapshot.climb.claim {
        let under = yard_step_words::conditions(&snapshot.climb.conditions).unwrap_or_default();
        let claim = format!("{} {under}", yard_step_words::claim(claim));
        push(None, "claim", "", claim.trim_end(), text);
    }
    if let Some(surprise) = &snapshot.climb.surprise {
        push(None, "unexpected", "", &yard_step_words::surprise(surprise), text);
    }
    let faults = snapshot.climb.fault_places.as_ref();
    let faults = faults.and_then(|of| yard_step_words::fault_places(of, sections_of(&of.load)));
    if let Some(faults) = faults {
        push(None, "faults", "", &faults, text);
    }
    for advice in snapshot.climb.advice.iter().take(2) {
        let (what, why) = yard_step_words::advice(advice);
        push(None, "pays next", "", &format!("{what}. {why}"), text);
    }
    for (index, part) in snapshot.climb.parts.iter().enumerate() {
        let how = if part.is_measured { "measured by leaving it out" } else { "estimated" };
        let name = if index == 0 { "brought" } else { "" };
        let what = format!("{}: {:+.1} ± {:.1} %, {how}", part.name, part.percent, part.error);
        push(None, name, "", &what, text);
    }
    if let Some((trial, culprits)) = &snapshot.climb.culprits {
        let answer = yard_step_words::culprits(culprits);
        let answer = answer.map_or("not known yet".to_owned(), |it| format!("it was {it}"));
        push(None, "which one", "", &format!("trial {trial}: {answer}"), text);
    }
    lines.push((String::new(), Style::new()));
    let keys =
        "↑ ↓ line   e end   s skip   r repeat   a add   o memory first   ← → change   Esc close";
    lines.push((keys.into(), theme.style(Role::Accent)));
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;
    use crate::tui::theme::Depth;
    use rstest::rstest;
    use yard_step_core::Stage;

    #[rstest]
    #[case(1, KeyCode::Char('e'), Some(Command::Direct(Stage::Core, StageOrder::End)))]
    #[case(1, KeyCode::Char('s'), Some(Command::Direct(Stage::Core, StageOrder::Skip)))]
    #[case(0, KeyCode::Char('r'), Some(Command::Direct(Stage::Baseline, StageOrder::Repeat)))]
    #[case(0, KeyCode::Char('o'), Some(Command::SwapStages))]
    #[case(2, KeyCode::Char('a'), Some(Command::AddStage(Stage::UndervoltClock)))]
    #[case(2, KeyCode::Char('e'), None)]
    #[case(4, KeyCode::Right, Some(Command::Replan(Policy::FixedStep, Margin::Daily)))]
    #[case(4, KeyCode::Left, Some(Command::Replan(Policy::Bisection, Margin::Daily)))]
    #[case(5, KeyCode::Right, Some(Command::Replan(Policy::Bayesian, Margin::Gift)))]
    #[case(5, KeyCode::Char('e'), None)]
    #[case(0, KeyCode::Left, None)]
    fn every_key_means_what_stands_below(
        #[case] row: usize,
        #[case] code: KeyCode,
        #[case] command: Option<Command>,
    ) {
        assert_eq!(key(row, code, &snapshot()), (row, command));
    }

    #[test]
    fn the_panel_tells_where_stages_stand_and_what_pays_next() {
        let mut snapshot = snapshot();
        let load = snapshot.climb.plan.scene.clone();
        let sections = vec![(2, 4), (0, 1)];
        snapshot.climb.fault_places = Some(yard_step_core::FaultPlaces { load, sections });
        let lines = lines(Theme::new(Depth::None), 1, &snapshot, 160);
        let text: Vec<&str> = lines.iter().map(|(line, _)| line.as_str()).collect();
        assert!(text[0].contains("baseline        ● done     Score 1000"), "{text:#?}");
        assert!(text[1].starts_with("▸ core            ▶ present"), "{text:#?}");
        let text = text.join("\n");
        assert!(text.contains("undervolt-clock + a adds   less voltage"), "{text}");
        assert!(text.contains("window          – not here "), "{text}");
        assert!(text.contains("offers no lowest and highest clock"), "{text}");
        assert!(text.contains("‹ bayesian ›") && text.contains("for daily use"), "{text}");
        assert!(text.contains("pays next                  power limit up, to 286 W."), "{text}");
        assert!(text.contains("core clock: +3.1 ± 0.3 %, estimated"), "{text}");
        assert!(text.contains("faults                     5 runs failed under "), "{text}");
    }
}
