//! What decides whether an action applies.

use crate::tui::keys::action::View;

/// What the moment is like: all that decides whether an action applies.
#[derive(Debug, Clone, Copy)]
pub struct Moment {
    pub(crate) view: View,
    pub(crate) running: bool,
    pub(crate) gone: bool,
    /// Whether the card's clock can run faster than the one on the wall.
    pub(crate) has_pace: bool,
    pub(crate) has_next: bool,
    pub(crate) has_outcome: bool,
    /// The climb cannot go on by itself.
    pub(crate) is_stuck: bool,
    pub(crate) has_trials: bool,
    pub(crate) has_baseline: bool,
    pub(crate) has_failure: bool,
    pub(crate) looking: bool,
    pub(crate) has_run: bool,
    pub(crate) many_cards: bool,
    /// Something in the view is held still, picked or narrowed down.
    pub(crate) holding: bool,
    pub(crate) has_spoilt: bool,
    /// The machine is down, or its card gone.
    pub(crate) down: bool,
    pub(crate) wants_restart: bool,
    pub(crate) is_manual: bool,
    /// A free run goes on.
    pub(crate) free: bool,
    /// A free run has ended, and is still shown in Climb.
    pub(crate) free_over: bool,
    /// In a free run, a move is suggested.
    pub(crate) has_suggestion: bool,
    /// In a free run, settings wait for a yes.
    pub(crate) asks: bool,
    /// In Shape, the card lets a curve be shaped.
    pub(crate) has_curve: bool,
    /// In Shape, what is shaped is what the next trial asks for.
    pub(crate) shape_is_next: bool,
    /// The card's limit table can be read.
    pub(crate) has_limits: bool,
    /// In Air, the card's fan can be set, and what was noted of it is known.
    pub(crate) has_fan: bool,
    /// In Air, the fan that is drawn is what the next trial asks for.
    pub(crate) air_is_next: bool,
    /// In Proof, settings are selected that can be soaked.
    pub(crate) has_candidate: bool,
    /// In Proof, a profile is selected that can be checked.
    pub(crate) has_checkable: bool,
    /// A soak goes on.
    pub(crate) soaking: bool,
    /// A soak is shown in Proof.
    pub(crate) has_soak: bool,
    /// In Weigh, a point is picked.
    pub(crate) has_point: bool,
    /// In Weigh, the picked point is what the next trial asks for.
    pub(crate) point_is_next: bool,
    /// In Ledger, profiles are listed.
    pub(crate) in_profiles: bool,
    /// In Ledger, a profile is selected.
    pub(crate) has_profile: bool,
    /// In Ledger, the line for no profile is selected.
    pub(crate) on_no_profile: bool,
    /// In Ledger, something is selected.
    pub(crate) has_row: bool,
    /// In Ledger, something was deleted that can be brought back.
    pub(crate) has_removed: bool,
}

impl Moment {
    pub(crate) fn in_ledger(self) -> bool {
        self.view == View::Ledger
    }

    pub(crate) fn in_weigh(self) -> bool {
        self.view == View::Weigh
    }

    pub(crate) fn in_shape(self) -> bool {
        self.view == View::Shape
    }

    /// Whether trials or climbs are listed.
    pub(crate) fn in_lists(self) -> bool {
        self.in_ledger() && !self.in_profiles
    }

    /// Whether the settings of one trial can be kept: of the selected one in Ledger, of the run that
    /// is shown in Shape, of the trial looked at elsewhere.
    pub(crate) fn has_trial_to_keep(self) -> bool {
        match self.view {
            View::Ledger => self.has_row,
            View::Shape => true,
            View::Climb | View::Trace => self.looking,
            View::Weigh => self.has_point,
            View::Proof => self.has_soak,
            View::Survey | View::Artifacts | View::Air => false,
        }
    }

    /// Whether Enter stands for the next step, and not for something of the view.
    pub(crate) fn enter_is_free(self) -> bool {
        match self.view {
            View::Ledger => false,
            View::Shape => self.shape_is_next,
            View::Air => self.air_is_next || !self.has_fan,
            View::Proof => self.soaking || !self.has_candidate,
            View::Weigh => self.point_is_next || !self.has_point,
            _ => true,
        }
    }

    pub(crate) fn waits(self) -> bool {
        !self.running && !self.gone
    }
}
