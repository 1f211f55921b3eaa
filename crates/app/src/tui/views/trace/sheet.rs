//! The strips of Trace on a sheet of their own.

use yard_step_core::{Channel, Trace};
use yard_step_engine::{MarkKind, Snapshot};
use yard_step_report::{Plot, PlotLine, Range, Sheet, Stroke, Tint};

use crate::tui::views::sheet::{facts_of, line};
use crate::tui::views::trace::draw::{RISE, STRIPS, title};
use crate::tui::views::trace::state::{Shown, TraceState};

/// Parts into which the stretch is cut: of each the lowest and the highest reading are drawn.
const PARTS: usize = 500;

/// The stretch that is shown; none where nothing is.
pub(crate) fn sheet(state: &TraceState, snapshot: &Snapshot) -> Option<Sheet> {
    let shown = state.shown(snapshot)?;
    let (from, to) = state.window(shown);
    // The rise from the idle clock would set the range.
    let window = (if to > 2.0 * RISE { from.max(RISE) } else { from }, to);
    let clock = ("Clock, MHz", &[Channel::EffectiveClock, Channel::CoreClock][..], false);
    let strips = STRIPS.iter().map(|strip| (strip.heading, strip.channels, strip.from_zero));
    let plots =
        std::iter::once(clock).chain(strips).filter_map(|(heading, channels, from_zero)| {
            let mut lines: Vec<PlotLine> = channels
                .iter()
                .enumerate()
                .map(|(at, channel)| {
                    // The last one is the main one.
                    let tint = Tint::Own(channels.len() - at);
                    let points = readings(shown.trace, *channel, window);
                    line(channel.label(), tint, Stroke::Line, points)
                })
                .filter(|line| line.points.iter().any(|(_, value)| value.is_finite()))
                .collect();
            if lines.is_empty() {
                return None;
            }
            if heading == clock.0 {
                lines.extend(faults(shown, window));
            }
            let range = if from_zero { Range::FromZero(1.0) } else { Range::Around(1.0) };
            Some((heading.to_owned(), Plot { lines, across: "seconds".into(), range }))
        });
    let facts = match shown.run {
        Some(run) => {
            let mut facts = facts_of(&snapshot.machine.card);
            facts.insert(1, format!("climb {}", run.climb));
            facts
        }
        None => Vec::new(),
    };
    Some(Sheet { title: title(shown), facts, plots: plots.collect() })
}

/// Lowest and highest reading of each part of a stretch, in the order of time; where nothing was read, a gap.
fn readings(trace: &Trace, channel: Channel, (from, to): (f64, f64)) -> Vec<(f64, f64)> {
    let part = (to - from) / PARTS as f64;
    let mut points = Vec::new();
    for index in 0..PARTS {
        let begins = from + part * index as f64;
        match trace.over(channel, begins, begins + part) {
            Some(bucket) => {
                let (low, high) = (f64::from(bucket.lowest), f64::from(bucket.highest));
                points.push((begins, low));
                points.extend((high > low).then_some((begins + part / 2.0, high)));
            }
            // Samples are farther apart than the parts of a short stretch: no gap.
            None if part < 0.2 => {}
            None => points.push((begins, f64::NAN)),
        }
    }
    points
}

/// Where something failed within the stretch, on the clock line.
fn faults(shown: Shown<'_>, (from, to): (f64, f64)) -> Option<PlotLine> {
    let marks = shown.run.map_or(&[][..], |run| &run.marks);
    let points = marks.iter().filter(|mark| mark.kind == MarkKind::Fault).filter_map(|mark| {
        let at = mark.at.value();
        let clock = shown.trace.over(Channel::CoreClock, (at - 1.0).max(0.0), at + 0.1)?;
        (from..=to).contains(&at).then(|| (at, f64::from(clock.lowest)))
    });
    let points: Vec<(f64, f64)> = points.collect();
    (!points.is_empty()).then(|| line("failed", Tint::Bad, Stroke::Marks, points))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;
    use yard_step_core::{Limiter, Mhz, Sample, Seconds};

    #[test]
    fn every_strip_that_has_readings_is_drawn_over_the_stretch_that_is_shown() {
        let snapshot = snapshot();
        let mut state = TraceState::default();
        let whole = sheet(&state, &snapshot).unwrap();
        assert_eq!(whole.plots[0].0, "Clock, MHz");
        assert!(whole.plots.iter().any(|(heading, _)| heading == "Power, W"));
        assert!(whole.facts[0].contains("unit"), "{:?}", whole.facts);
        let span = |sheet: &Sheet| {
            let points = &sheet.plots[0].1.lines[0].points;
            points.last().unwrap().0 - points[0].0
        };
        let shown = state.shown(&snapshot).unwrap();
        let mut nearer = state.clone();
        nearer.zoom(shown, 0.5);
        state = nearer;
        assert!(span(&sheet(&state, &snapshot).unwrap()) < span(&whole));
    }

    #[test]
    fn a_spike_of_one_sample_is_on_the_sheet() {
        let mut run = crate::tui::fixtures::run_view();
        let last = run.sample;
        let high = Mhz(9_999.0);
        let at = Seconds(run.trace.seconds() + 1.0);
        let spike = Sample { at, core_clock: Some(high), ..last };
        run.trace.push(&spike, Limiter::Load);
        let points = readings(&run.trace, Channel::CoreClock, (0.0, run.trace.seconds() + 1.0));
        assert!(points.iter().any(|(_, clock)| *clock == 9_999.0));
    }
}
