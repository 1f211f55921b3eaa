//! The curve of Shape on a sheet of its own.

use yard_step_core::{CurveKind, VfCurve};
use yard_step_engine::Snapshot;
use yard_step_report::{Plot, Range, Sheet, Stroke, Tint};

use crate::tui::views::shape::draw::{failed_at, shown_run, taken};
use crate::tui::views::shape::state::ShapeState;
use crate::tui::views::sheet::{by_meaning, facts_of, line};

/// The curve as it is shaped, beside the factory's and the one that the card holds; none for a card without.
pub(crate) fn sheet(state: &ShapeState, snapshot: &Snapshot) -> Option<Sheet> {
    let draft = state.shown(snapshot);
    let sketch = draft.sketch.as_ref()?;
    let offer = sketch.offer();
    let of = |curve: &VfCurve| -> Vec<(f64, f64)> {
        let points = curve.points().iter();
        points.map(|point| (f64::from(point.millivolt), f64::from(point.mhz))).collect()
    };
    let shaped: Vec<(f64, f64)> = sketch
        .points()
        .iter()
        .map(|(millivolt, mhz)| (f64::from(*millivolt), f64::from(*mhz)))
        .collect();
    let mut lines = vec![line("factory", Tint::Own(0), Stroke::Marked, of(&offer.factory))];
    if let Some(taken) = taken(snapshot) {
        lines.push(line("taken", Tint::Own(3), Stroke::Marked, of(&taken)));
    }
    lines.push(line("shaped", Tint::Own(1), Stroke::Marked, shaped));
    if let Some((voltage, clock, verdict)) = shown_run(snapshot).and_then(failed_at) {
        lines.extend(by_meaning(&[(verdict, (voltage.value(), clock.value()))]));
    }
    let heading = match offer.kind {
        CurveKind::Points => "Clock at each voltage, MHz",
        CurveKind::States => "Clock of each performance state, MHz",
    };
    let plot = Plot { lines, across: "core voltage, mV".into(), range: Range::Around(15.0) };
    Some(Sheet {
        title: "V/F curve".into(),
        facts: facts_of(&snapshot.machine.card),
        plots: vec![(heading.into(), plot)],
    })
}
