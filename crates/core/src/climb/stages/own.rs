//! Settings of the user's own, beside every plan: no stage of any climb. Only the segments of free runs are
//! evidence, where they moved nothing but what the climb moves.

use crate::card::description::CardDescription;
use crate::climb::stages::rules::{NudgeBy, StageRules, ToGo};
use crate::climb::{Climb, Next, Purpose, TrialRecord};
use crate::judge::verdict::Meaning;

/// The stage.
pub(in crate::climb) struct Own;

impl StageRules for Own {
    fn missing(&self, _card: &CardDescription) -> Option<&'static str> {
        Some("a plan of its own")
    }

    fn next(&self, _climb: &Climb) -> Option<Next> {
        None
    }

    fn to_go(&self, _climb: &Climb, _done: f64) -> ToGo {
        ToGo { trials: 0.0, seconds: 0.0 }
    }

    fn nudge_by(&self) -> Option<NudgeBy> {
        None
    }
}

impl Climb {
    /// Segments of free runs that prove something of the clocks: all but core and memory clock, and the fan,
    /// was as the climb has it.
    pub(in crate::climb) fn segments(&self) -> impl Iterator<Item = &TrialRecord> {
        self.trials.iter().filter(|trial| {
            trial.purpose == Purpose::Segment
                && trial.verdict().meaning() != Meaning::ProvesNothing
                && self.moves_clocks_alone(trial)
        })
    }

    fn moves_clocks_alone(&self, trial: &TrialRecord) -> bool {
        let held = trial.held();
        let mut same = self.settings_of(self.place(trial));
        same.fan = held.fan;
        same == held
    }
}
