//! The stepwise policies: coarse steps until something gives, then fine steps or bisection below that,
//! back off, confirm, take the margin off, and measure what is kept.

use crate::climb::reason::{Above, Reason, StepSize};
use crate::climb::record::Purpose;
use crate::climb::search::scale::{Scale, Value};
use crate::climb::search::{Bracket, Failure, Search, SearchStep};
use crate::plan::Policy;
use crate::units::Seconds;

type Wish<V> = (V, Purpose, f64, Reason);

impl<S: Scale> Search<'_, S> {
    pub(in crate::climb) fn next_stepwise(&self, ended: bool) -> SearchStep<S::Value> {
        let bracket = self.bracket();
        if ended {
            return SearchStep::Kept(self.stepwise_kept(bracket));
        }
        if bracket.ceiling.is_some_and(|failure| failure.value <= S::Value::default()) {
            return SearchStep::Kept(S::Value::default());
        }
        let step = self
            .step_up(bracket)
            .or_else(|| self.confirm(bracket))
            .or_else(|| self.settle(bracket));
        match step {
            None => SearchStep::Kept(self.stepwise_kept(bracket)),
            Some((value, purpose, seconds, reason)) => {
                let seconds = Seconds(seconds);
                self.unless_stuck(SearchStep::Try { value, purpose, seconds, reason })
            }
        }
    }

    /// The next value between what held and what failed, by the policy.
    fn step_up(&self, bracket: Bracket<S::Value>) -> Option<Wish<S::Value>> {
        let (floor, steps) = (bracket.floor, self.steps());
        let is_open = |value: S::Value| {
            value <= self.highest()
                && self.cap.is_none_or(|cap| value <= cap)
                && bracket.ceiling.is_none_or(|failure| value < failure.value)
        };
        let begins = self.begins_at();
        let first = begins.or(self.first).filter(|first| {
            floor == S::Value::default()
                && bracket.ceiling.is_none()
                && *first > floor
                && is_open(*first)
        });
        let (value, size) = match (first, self.plan.policy, bracket.ceiling) {
            (Some(first), ..) => (first, StepSize::First),
            (None, Policy::Bisection, Some(failure)) => {
                let between = (failure.value - floor).units() / steps.fine.units();
                let value = floor + self.fine_steps(between / 2);
                (between >= 2 && is_open(value)).then_some((value, StepSize::Half))?
            }
            _ => {
                let step = [steps.coarse, steps.fine].into_iter().find(|s| is_open(floor + *s))?;
                (floor + step, if step == steps.fine { StepSize::Fine } else { StepSize::Coarse })
            }
        };
        if let (Some(_), Some(_), Some(known)) = (begins, first, self.known()) {
            let (known, at) = (self.scale.show(known), self.scale.show(value));
            return Some((value, Purpose::Step, steps.seconds, Reason::TowardsKnown { known, at }));
        }
        let show_failure = |failure: Failure<_>| (self.scale.show(failure.value), failure.verdict);
        let reason = Reason::StepUp {
            from: self.show_or_start(floor),
            failed: bracket.ceiling.map(show_failure),
            size,
            to: self.scale.show(value),
        };
        Some((value, Purpose::Step, steps.seconds, reason))
    }

    fn show_or_start(&self, value: S::Value) -> String {
        match value == S::Value::default() {
            true => self.scale.start().to_owned(),
            false => self.scale.show(value),
        }
    }

    /// The value to be confirmed: what held, but at least the back-off below what failed.
    fn candidate(&self, bracket: Bracket<S::Value>) -> S::Value {
        let back_off = self.fine_steps(self.steps().back_off);
        let value = match bracket.ceiling {
            Some(failure) => bracket.floor.min(failure.value - back_off),
            None => bracket.floor,
        };
        self.capped(value)
    }

    fn confirm(&self, bracket: Bracket<S::Value>) -> Option<Wish<S::Value>> {
        let value = self.candidate(bracket);
        let wanted = self.steps().confirm_seconds;
        if value == S::Value::default() || self.has_held(value, wanted, None) {
            return None;
        }
        let above = match bracket.ceiling {
            Some(failure) => Above::Failed {
                floor: self.show_or_start(bracket.floor),
                at: self.scale.show(failure.value),
                trial: failure.trial,
                verdict: failure.verdict,
            },
            None if self.highest() < self.scale.highest() => Above::TookMachineDown,
            None if self.cap.is_some_and(|cap| cap < self.scale.highest()) => Above::BringsNothing,
            None => Above::CardEnds,
        };
        let (at, length) = (self.scale.show(value), Seconds(wanted));
        Some((value, Purpose::Confirm, wanted, Reason::Confirm { at, above, length }))
    }

    fn settle(&self, bracket: Bracket<S::Value>) -> Option<Wish<S::Value>> {
        let (confirmed, value) = (self.candidate(bracket), self.stepwise_kept(bracket));
        let (steps, wanted) = (self.steps().margin, self.steps().settle_seconds);
        let has_settled = self.has_held(value, wanted, Some(Purpose::Settle));
        if self.is_followed || value == S::Value::default() || has_settled || steps == 0 {
            return None;
        }
        let reason = Reason::Settle {
            confirmed: self.scale.show(confirmed),
            held_for: Seconds(self.steps().confirm_seconds),
            fine_steps: steps,
            at: self.scale.show(value),
        };
        Some((value, Purpose::Settle, wanted, reason))
    }

    /// What would be kept now: the candidate less the margin.
    fn stepwise_kept(&self, bracket: Bracket<S::Value>) -> S::Value {
        let margin = self.fine_steps(self.steps().margin);
        (self.candidate(bracket) - margin).max(S::Value::default())
    }
}
