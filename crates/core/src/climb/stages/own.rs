//! Settings of the user's own, beside every plan: no stage of any climb, and evidence for none.

use crate::card::description::CardDescription;
use crate::climb::stages::rules::{NudgeBy, StageRules, ToGo};
use crate::climb::{Climb, Next};

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
