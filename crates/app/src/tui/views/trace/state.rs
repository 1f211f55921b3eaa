//! What the view Trace knows of itself: the stretch of time shown, the cursor, since when figures
//! are taken, and what is held still or was read from a file.

use std::sync::Arc;

use yard_step_core::Trace;
use yard_step_engine::{RunView, Snapshot};

use crate::tui::views::climb::draw::span;

/// Shortest stretch that can be shown, s: at ten samples a second, every one has room.
const SHORTEST: f64 = 2.0;

/// A trace made elsewhere.
#[derive(Debug, Clone, PartialEq)]
pub struct Imported {
    /// Name of its file.
    pub name: String,
    /// Its samples.
    pub trace: Trace,
    /// What there is to say about how it was read.
    pub told: Vec<String>,
}

/// What the view shows.
#[derive(Clone, Copy)]
pub struct Shown<'a> {
    /// Its samples.
    pub trace: &'a Trace,
    /// The run they are of; none for a trace made elsewhere.
    pub run: Option<&'a RunView>,
    /// Name of the file they are from.
    pub file: Option<&'a Imported>,
}

/// The state of the view.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct TraceState {
    /// First and last second shown; none is all there is, and follows what comes.
    window: Option<(f64, f64)>,
    /// Time the cursor is at.
    pub cursor: Option<f64>,
    /// Since when lowest, mean and highest are taken, s.
    pub since: f64,
    frozen: Option<Arc<RunView>>,
    imported: Option<Arc<Imported>>,
    /// What came of the last export or import.
    pub told: Option<String>,
}

impl TraceState {
    /// What is shown, if there is anything.
    #[must_use]
    pub fn shown<'a>(&'a self, snapshot: &'a Snapshot) -> Option<Shown<'a>> {
        if let Some(file) = &self.imported {
            return Some(Shown { trace: &file.trace, run: None, file: Some(file) });
        }
        let run = self.frozen.as_ref().or_else(|| snapshot.shown())?;
        Some(Shown { trace: &run.trace, run: Some(run), file: None })
    }

    /// First and last second to be shown.
    #[must_use]
    pub fn window(&self, shown: Shown<'_>) -> (f64, f64) {
        self.window.unwrap_or_else(|| {
            let whole = shown.run.map_or(shown.trace.seconds(), span);
            // A fault comes after the last sample, and must not be out of sight.
            let last = shown.run.and_then(|run| run.marks.last()).map_or(0.0, |m| m.at.value());
            (0.0, whole.max(last).max(SHORTEST))
        })
    }

    /// Whether something is held still, picked or narrowed down that Esc would let go.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.is_frozen()
            || self.imported.is_some()
            || self.window.is_some()
            || self.cursor.is_some()
    }

    /// Whether the picture is held still.
    #[must_use]
    pub fn is_frozen(&self) -> bool {
        self.frozen.is_some()
    }

    /// Lets go of what is held, one thing after the other.
    pub fn let_go(&mut self) {
        if self.cursor.take().is_some() || self.window.take().is_some() {
            return;
        }
        if self.imported.take().is_none() {
            self.frozen = None;
        }
        self.since = 0.0;
    }

    /// Holds the picture still while data goes on arriving, or lets it go.
    pub fn toggle_freeze(&mut self, snapshot: &Snapshot) {
        self.frozen = match self.frozen.take() {
            Some(_) => None,
            None => snapshot.shown().cloned(),
        };
    }

    /// Shows a trace made elsewhere.
    pub fn import(&mut self, imported: Imported) {
        let told = imported.told.first().cloned();
        *self = Self { imported: Some(Arc::new(imported)), told, ..Self::default() };
    }

    /// Another run is shown: what was set for the one before no longer fits.
    pub fn begin_anew(&mut self) {
        (self.window, self.cursor, self.since) = (None, None, 0.0);
    }

    /// Shows a `factor` of the present stretch, around the cursor or, without one, its end.
    pub fn zoom(&mut self, shown: Shown<'_>, factor: f64) {
        let (from, to) = self.window(shown);
        let whole = shown.trace.seconds().max(SHORTEST);
        let span = ((to - from) * factor).clamp(SHORTEST, whole);
        if span >= whole {
            self.window = None;
            return;
        }
        let anchor = self.cursor.unwrap_or(to.min(shown.trace.seconds()));
        let share = ((anchor - from) / (to - from)).clamp(0.0, 1.0);
        self.show(shown, anchor - share * span, span);
    }

    /// Moves the stretch by a share of its length.
    pub fn scroll(&mut self, shown: Shown<'_>, share: f64) {
        let (from, to) = self.window(shown);
        self.show(shown, from + (to - from) * share, to - from);
    }

    /// Moves the cursor by a share of the stretch; the stretch follows it out of sight.
    pub fn move_cursor(&mut self, shown: Shown<'_>, share: f64) {
        let (from, to) = self.window(shown);
        let end = shown.trace.seconds();
        let present = self.cursor.unwrap_or(to.min(end));
        let at = (present + (to - from) * share).clamp(0.0, end);
        self.cursor = Some(at);
        if at < from {
            self.show(shown, at, to - from);
        } else if at > to {
            self.show(shown, at - (to - from), to - from);
        }
    }

    /// Puts the cursor to a share of the stretch.
    pub fn put_cursor(&mut self, shown: Shown<'_>, share: f64) {
        let (from, to) = self.window(shown);
        self.cursor = Some((from + (to - from) * share).clamp(0.0, shown.trace.seconds()));
    }

    /// Takes lowest, mean and highest from the newest sample on.
    pub fn reset_figures(&mut self, shown: Shown<'_>) {
        self.since = shown.trace.seconds();
    }

    fn show(&mut self, shown: Shown<'_>, from: f64, span: f64) {
        let last = (shown.trace.seconds() - span).max(0.0);
        let from = from.clamp(0.0, last);
        self.window = Some((from, from + span));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;

    fn whole(state: &TraceState, snapshot: &Snapshot) -> (f64, f64) {
        state.window(state.shown(snapshot).unwrap())
    }

    #[test]
    fn zooming_in_and_out_comes_back_to_the_whole() {
        let snapshot = snapshot();
        let shown = TraceState::default();
        let shown = shown.shown(&snapshot).unwrap();
        let mut state = TraceState::default();
        for _ in 0..20 {
            state.zoom(shown, 0.5);
        }
        let (from, to) = state.window(shown);
        assert!((to - from - SHORTEST).abs() < 1e-9 && to <= 600.0, "{from} {to}");
        for _ in 0..20 {
            state.zoom(shown, 2.0);
        }
        assert_eq!(state, TraceState::default(), "it follows again");
    }

    #[test]
    fn zooming_keeps_the_cursor_where_it_is_on_the_screen() {
        let snapshot = snapshot();
        let shown = TraceState::default();
        let shown = shown.shown(&snapshot).unwrap();
        let mut state = TraceState::default();
        state.put_cursor(shown, 0.25);
        let at = state.cursor.unwrap();
        let share = |state: &TraceState| {
            let (from, to) = state.window(shown);
            (at - from) / (to - from)
        };
        let before = share(&state);
        state.zoom(shown, 0.5);
        state.zoom(shown, 0.5);
        assert!((share(&state) - before).abs() < 1e-9);
    }

    #[test]
    fn scrolling_stops_at_both_ends_and_the_cursor_takes_the_stretch_along() {
        let snapshot = snapshot();
        let shown = TraceState::default();
        let shown = shown.shown(&snapshot).unwrap();
        let mut state = TraceState::default();
        state.zoom(shown, 0.1);
        for _ in 0..40 {
            state.scroll(shown, -0.5);
        }
        assert_eq!(state.window(shown).0, 0.0);
        for _ in 0..40 {
            state.scroll(shown, 0.5);
        }
        assert_eq!(state.window(shown).1, 600.0);
        for _ in 0..200 {
            state.move_cursor(shown, -0.1);
        }
        assert_eq!((state.cursor, state.window(shown).0), (Some(0.0), 0.0));
    }

    #[test]
    fn escape_lets_go_of_one_thing_after_the_other() {
        let snapshot = snapshot();
        let mut state = TraceState::default();
        state.toggle_freeze(&snapshot);
        let frozen = state.clone();
        let shown = frozen.shown(&snapshot).unwrap();
        state.zoom(shown, 0.5);
        state.put_cursor(shown, 0.5);
        for _ in 0..3 {
            assert!(state.holds());
            state.let_go();
        }
        assert!(!state.holds());
        assert_eq!(whole(&state, &snapshot), (0.0, 620.0));
    }

    #[test]
    fn a_fault_after_the_last_sample_is_in_sight() {
        let mut snapshot = snapshot();
        let mut run = crate::tui::fixtures::ended_run_view();
        run.marks.push(yard_step_engine::Mark {
            at: yard_step_core::Seconds(600.1),
            kind: yard_step_engine::MarkKind::Fault,
            text: "load died".into(),
        });
        snapshot.runs.newest = Some(Arc::new(run));
        assert_eq!(whole(&TraceState::default(), &snapshot), (0.0, 600.1));
    }

    #[test]
    fn a_frozen_picture_stays_while_the_run_goes_on() {
        let mut snapshot = snapshot();
        let mut state = TraceState::default();
        state.toggle_freeze(&snapshot);
        snapshot.runs.newest = None;
        assert_eq!(state.shown(&snapshot).unwrap().trace.len(), 6_000);
        state.toggle_freeze(&snapshot);
        assert!(state.shown(&snapshot).is_none());
    }

    #[test]
    fn a_trace_made_elsewhere_takes_the_place_of_the_run() {
        let snapshot = snapshot();
        let mut state = TraceState { since: 33.0, ..TraceState::default() };
        state.import(Imported {
            name: "old.csv".into(),
            trace: Trace::new(),
            told: vec!["12 rows.".into()],
        });
        let shown = state.shown(&snapshot).unwrap();
        assert!(shown.run.is_none() && shown.trace.is_empty());
        assert_eq!((state.since, state.told.as_deref()), (0.0, Some("12 rows.")));
        assert_eq!(whole(&state, &snapshot), (0.0, SHORTEST));
    }
}
