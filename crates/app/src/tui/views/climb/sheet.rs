//! The charts of Climb on a sheet of their own: the clock of the run that is shown, and below it the staircase or the map.

use yard_step_core::{Channel, Map};
use yard_step_engine::Snapshot;
use yard_step_report::{Plot, PlotLine, Range, Sheet, Stroke, Tint};

use crate::tui::views::climb::draw::{ChartKind, Drawn, descent, stairs};
use crate::tui::views::climb::staircase::Staircase;
use crate::tui::views::sheet::{by_meaning, facts_of, line};
use crate::tui::views::trace::draw::RISE;

/// What is shown.
pub(crate) fn sheet(snapshot: &Snapshot, kind: ChartKind) -> Sheet {
    let climb = &snapshot.climb;
    let chart = match kind.drawn(snapshot) {
        Drawn::Map => Some(("Core against memory, MHz from stock".to_owned(), of_map(&climb.map))),
        Drawn::Clock(place) => stairs(snapshot, place).map(|stairs| {
            let what = if place == 0 { "Core" } else { "Memory" };
            (format!("{what} clock of each trial, MHz from stock"), of_stairs(&stairs))
        }),
        Drawn::Voltage(place) => descent(snapshot, place)
            .map(|stairs| ("Voltage of each trial, mV from stock".to_owned(), of_stairs(&stairs))),
    };
    let mut facts = facts_of(&snapshot.machine.card);
    facts.insert(1, climb.plan.policy.to_string());
    Sheet {
        title: format!("Climb {}", climb.number),
        facts,
        plots: clock_line(snapshot).into_iter().chain(chart).collect(),
    }
}

fn clock_line(snapshot: &Snapshot) -> Option<(String, Plot)> {
    let run = snapshot.shown()?;
    // The rise from the idle clock would set the range.
    let first = if run.trace.seconds() > 2.0 * RISE { RISE as usize } else { 0 };
    let points: Vec<(f64, f64)> = (first..run.trace.seconds() as usize)
        .filter_map(|second| {
            let at = second as f64;
            Some((at, f64::from(run.trace.over(Channel::CoreClock, at, at + 1.0)?.lowest)))
        })
        .collect();
    let (first, last) = (points.first()?.0, points.last()?.0);
    let target = vec![(first, run.target.value()), (last, run.target.value())];
    let lines = vec![
        line("target", Tint::Dim, Stroke::Line, target),
        line("reported, lowest of each second", Tint::Own(1), Stroke::Line, points),
    ];
    let heading = format!("Core clock of {}, MHz", run.title);
    Some((heading, Plot { lines, across: "seconds".into(), range: Range::Around(15.0) }))
}

fn of_stairs(stairs: &Staircase) -> Plot {
    let at = |number: u32, value: i32| (f64::from(number), f64::from(value));
    let steps: Vec<(f64, f64)> =
        stairs.trials.iter().map(|step| at(step.number, step.value)).collect();
    let ends = stairs.trials.first().zip(stairs.trials.last());
    let level = |name: &str, tint, value: Option<i32>| {
        let points = ends
            .zip(value)
            .map(|((first, last), value)| vec![at(first.number, value), at(last.number, value)]);
        points.map(|points| line(name, tint, Stroke::Line, points))
    };
    let mut lines = vec![line("", Tint::Dim, Stroke::Line, steps)];
    lines.extend(level("edge, at least", Tint::Own(3), stairs.band.map(|(low, _)| low)));
    lines.extend(level("edge, at most", Tint::Own(2), stairs.band.map(|(_, high)| high)));
    lines.extend(level("kept", Tint::Own(4), stairs.kept));
    let runs: Vec<_> =
        stairs.trials.iter().map(|step| (step.verdict, at(step.number, step.value))).collect();
    lines.extend(by_meaning(&runs));
    Plot { lines, across: "trial".into(), range: Range::Around(5.0) }
}

fn of_map(map: &Map) -> Plot {
    let at = |pair: &yard_step_core::Pair| (f64::from(pair.memory.0), f64::from(pair.core.0));
    let believed: Vec<(f64, f64)> = map.frontier.iter().map(at).collect();
    let mut lines: Vec<PlotLine> = Vec::new();
    if !believed.is_empty() {
        lines.push(line("believed to hold", Tint::Own(3), Stroke::Line, believed));
    }
    let runs: Vec<_> = map.trials.iter().map(|trial| (trial.verdict, at(&trial.place))).collect();
    lines.extend(by_meaning(&runs));
    lines.push(line("kept", Tint::Own(4), Stroke::Marks, vec![at(&map.kept)]));
    Plot { lines, across: "memory, MHz from stock".into(), range: Range::Around(5.0) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::{map, snapshot};
    use std::sync::Arc;

    fn named<'a>(plot: &'a Plot, name: &str) -> Option<&'a PlotLine> {
        plot.lines.iter().find(|line| line.name == name)
    }

    #[test]
    fn the_staircase_has_each_trial_at_its_value_and_the_clock_of_the_run_above_it() {
        let sheet = sheet(&snapshot(), ChartKind::Core);
        assert!(sheet.plots[0].0.starts_with("Core clock of trial"), "{}", sheet.plots[0].0);
        let (heading, plot) = &sheet.plots[1];
        assert!(heading.contains("Core clock of each trial"), "{heading}");
        let stairs = stairs(&snapshot(), 0).unwrap();
        let marks = plot.lines.iter().filter(|line| line.stroke == Stroke::Marks);
        assert_eq!(marks.map(|line| line.points.len()).sum::<usize>(), stairs.trials.len());
    }

    #[test]
    fn the_map_has_what_failed_apart_from_what_held() {
        let mut snapshot = snapshot();
        snapshot.climb.map = Arc::new(map());
        let sheet = sheet(&snapshot, ChartKind::Map);
        let (_, plot) = sheet.plots.last().unwrap();
        let failed = named(plot, "too much").unwrap();
        assert!(!failed.points.is_empty() && failed.tint == Tint::Bad);
        assert!(named(plot, "believed to hold").is_some() && named(plot, "kept").is_some());
    }
}
