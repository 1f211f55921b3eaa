//! The fan of Air on a sheet of its own.

use yard_step_core::Celsius;
use yard_step_engine::Snapshot;
use yard_step_report::{Plot, PlotLine, Range, Sheet, Stroke, Tint};

use crate::tui::views::air::chart::AXIS;
use crate::tui::views::air::state::AirState;
use crate::tui::views::sheet::{facts_of, line};

/// Loads whose runs are drawn.
const MOST_LOADS: usize = 4;

/// The fan over the core's temperature, and where runs settled; none for a card whose fan cannot be set.
pub(crate) fn sheet(state: &AirState, snapshot: &Snapshot) -> Option<Sheet> {
    let draft = state.shown(snapshot)?;
    let fan = draft.sketch.fan();
    let (cool, hot) = AXIS;
    let speeds: Vec<(f64, f64)> = (cool as u32..=hot as u32)
        .filter_map(|at| {
            let at = f64::from(at);
            Some((at, fan.speed_at(Celsius(at))?.value()))
        })
        .collect();
    let mut lines: Vec<PlotLine> = Vec::new();
    if !speeds.is_empty() {
        lines.push(line("fan", Tint::Own(1), Stroke::Line, speeds));
    }
    if let Some(curve) = draft.sketch.curve() {
        lines.push(line("", Tint::Own(1), Stroke::Marks, curve.points().to_vec()));
    }
    let heat = snapshot.machine.air.as_deref().and_then(|air| air.heat.as_ref());
    let loads = heat.map_or(&[][..], |heat| &heat.loads).iter().take(MOST_LOADS);
    lines.extend(loads.enumerate().map(|(index, load)| {
        let seen = load.seen.iter().map(|(fan, core)| (core.value(), fan.value())).collect();
        line(&format!("{} settled", load.load), Tint::Own(index + 2), Stroke::Marks, seen)
    }));
    let plot =
        Plot { lines, across: "core temperature, °C".into(), range: Range::Fixed(0.0, 100.0) };
    Some(Sheet {
        title: "Fan".into(),
        facts: facts_of(&snapshot.machine.card),
        plots: vec![("Fan speed, %".into(), plot)],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::views::air::state::tests::moment;

    #[test]
    fn the_fan_is_drawn_over_the_whole_axis_and_runs_lie_where_they_settled() {
        let snapshot = moment();
        let sheet = sheet(&AirState::default(), &snapshot).unwrap();
        let plot = &sheet.plots[0].1;
        let fan = plot.lines.iter().find(|line| line.name == "fan").unwrap();
        assert_eq!((fan.points[0].0, fan.points.last().unwrap().0), AXIS);
        let heat = snapshot.machine.air.as_ref().unwrap().heat.as_ref().unwrap();
        let settled = plot.lines.iter().filter(|line| line.name.ends_with("settled")).count();
        assert_eq!(settled, heat.loads.len().min(MOST_LOADS));
    }
}
