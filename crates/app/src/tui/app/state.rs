//! What the interface itself knows: which view is shown, and what is asked of the user. It turns
//! keys and clicks into commands for the engine.

use yard_step_core::{Meaning, printable};
use yard_step_engine::{Activity, FreeView, NextView, Restart, Snapshot};

use crate::tui::keys::action::View;
use crate::tui::keys::moment::Moment;
use crate::tui::overlays::Overlay;
use crate::tui::views::air::state::AirState;
use crate::tui::views::artifacts::state::ArtifactState;
use crate::tui::views::climb;
use crate::tui::views::climb::draw::ChartKind;
use crate::tui::views::climb::state::FreeState;
use crate::tui::views::ledger::browser::List;
use crate::tui::views::ledger::state::LedgerState;
use crate::tui::views::profiles::state::ProfilesState;
use crate::tui::views::proof::state::ProofState;
use crate::tui::views::shape::state::{ShapeState, is_asked};
use crate::tui::views::trace::state::TraceState;
use crate::tui::views::weigh::state::WeighState;

/// The state.
#[derive(Debug, Clone, PartialEq)]
pub struct State {
    /// View that is shown.
    pub view: View,
    /// Which chart of the climb is shown in it.
    pub(crate) chart: ChartKind,
    /// What lies over it.
    pub overlay: Option<Overlay>,
    /// What there is to say, in whichever view the user is; until the next key.
    pub message: Option<String>,
    /// Whether a file is being read.
    pub(crate) is_reading: bool,
    /// What the view Trace knows of itself.
    pub trace: TraceState,
    /// What the view Artifacts knows of itself.
    pub artifacts: ArtifactState,
    /// What the view Shape knows of itself.
    pub shape: ShapeState,
    /// What the view Air knows of itself.
    pub air: AirState,
    /// What the view Proof knows of itself.
    pub proof: ProofState,
    /// What Climb knows of a free run.
    pub(crate) free: FreeState,
    /// What the view Weigh knows of itself.
    pub weigh: WeighState,
    /// What the view Ledger knows of itself.
    pub ledger: LedgerState,
    /// What it knows of profiles.
    pub profiles: ProfilesState,
}

impl State {
    /// What is shown first.
    #[must_use]
    pub fn new(view: View) -> Self {
        Self {
            view,
            overlay: None,
            message: None,
            is_reading: false,
            trace: TraceState::default(),
            artifacts: ArtifactState::default(),
            shape: ShapeState::default(),
            air: AirState::default(),
            proof: ProofState::default(),
            free: FreeState::default(),
            weigh: WeighState::default(),
            ledger: LedgerState::default(),
            profiles: ProfilesState::default(),
            chart: ChartKind::default(),
        }
    }

    /// Says something, in whichever view the user is.
    pub fn told(&mut self, text: String) {
        self.message = Some(printable(&text));
    }

    /// Says how far the reading of a file has come.
    pub fn reads(&mut self, text: String) {
        self.is_reading = true;
        self.told(text);
    }

    /// The reading of a file is over, and why it came to nothing, if it did.
    pub fn has_read(&mut self, why_not: Option<String>) {
        self.is_reading = false;
        self.message = why_not.map(|why| printable(&why));
    }

    /// The moment a snapshot shows.
    #[must_use]
    pub fn moment(&self, snapshot: &Snapshot) -> Moment {
        let view = self.view;
        Moment {
            view,
            running: matches!(snapshot.runs.activity, Activity::Running | Activity::Paused),
            gone: snapshot.runs.activity == Activity::Gone,
            has_pace: snapshot.runs.pace.is_some(),
            has_next: matches!(snapshot.climb.next, NextView::Trial { .. }),
            has_outcome: matches!(snapshot.climb.next, NextView::Ended(_)),
            is_stuck: matches!(snapshot.climb.next, NextView::Stuck(_)),
            has_trials: !snapshot.climb.trials.is_empty(),
            has_baseline: snapshot.climb.baseline.is_some(),
            has_failure: snapshot
                .climb
                .trials
                .iter()
                .any(|trial| trial.verdict().meaning() == Meaning::TooMuch),
            looking: snapshot.runs.looked_at.is_some(),
            has_run: view == View::Trace && self.trace.shown(snapshot).is_some(),
            many_cards: snapshot.machine.rack.len() > 1,
            holding: (view == View::Trace && self.trace.holds())
                || (view == View::Artifacts && self.artifacts.holds())
                || (view == View::Ledger && self.ledger.holds()),
            has_spoilt: snapshot.shown().is_some_and(|run| !run.spoilt.is_empty()),
            down: matches!(snapshot.machine.restart, Some(Restart::Down | Restart::CardGone)),
            wants_restart: snapshot.machine.restart.is_some(),
            is_manual: snapshot.runs.is_manual,
            free: is_free(snapshot),
            free_over: !is_free(snapshot) && climb::free::is_shown(snapshot, &self.free),
            has_suggestion: free_of(snapshot).is_some_and(|free| free.suggestion.is_some()),
            asks: free_of(snapshot).is_some_and(|free| free.asks.is_some()),
            has_curve: view == View::Shape && snapshot.machine.card.curve.is_some(),
            shape_is_next: view == View::Shape && self.shape.shown(snapshot).is_next(snapshot),
            has_limits: snapshot.machine.ceiling.is_some(),
            has_fan: view == View::Air
                && snapshot.machine.air.is_some()
                && self.air.shown(snapshot).is_some(),
            air_is_next: view == View::Air && self.air.is_next(snapshot),
            has_candidate: view == View::Proof && self.proof.selected(snapshot).is_some(),
            has_checkable: view == View::Proof && self.proof.is_checkable(snapshot),
            soaking: snapshot.is_soaking(),
            has_soak: view == View::Proof && self.proof.soaked(snapshot).is_some(),
            has_point: view == View::Weigh && self.weigh.point().is_some(),
            point_is_next: view == View::Weigh
                && self.weigh.point().is_some_and(|point| is_asked(snapshot, &point.settings)),
            in_profiles: view == View::Ledger && self.ledger.list() == List::Profiles,
            has_profile: self.lists_profiles() && self.profiles.selected(snapshot).is_some(),
            on_no_profile: self.lists_profiles()
                && !snapshot.machine.profiles.is_empty()
                && self.profiles.selected(snapshot).is_none(),
            has_row: view == View::Ledger && self.ledger.has_row(),
            has_removed: view == View::Ledger && self.ledger.has_removed(),
        }
    }

    /// Whether profiles are listed.
    pub(super) fn lists_profiles(&self) -> bool {
        self.view == View::Ledger && self.ledger.list() == List::Profiles
    }
}

/// Whether a free run goes on.
pub(crate) fn is_free(snapshot: &Snapshot) -> bool {
    snapshot.is_free()
}

fn free_of(snapshot: &Snapshot) -> Option<&FreeView> {
    snapshot.runs.free.as_deref().filter(|_| is_free(snapshot))
}
