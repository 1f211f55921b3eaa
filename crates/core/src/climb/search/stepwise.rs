//! The stepwise policies: coarse steps until something gives, then fine steps or bisection below that,
//! back off, confirm, take the margin off, and measure what is kept.

use crate::climb::record::Purpose;
use crate::climb::search::scale::{Scale, Value};
use crate::climb::search::{Bracket, Search, SearchStep};
use crate::plan::Policy;
use crate::units::Seconds;

type Wish<V> = (V, Purpose, f64, String);

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
        let first = self.first.filter(|first| {
            floor == S::Value::default()
                && bracket.ceiling.is_none()
                && *first > floor
                && is_open(*first)
        });
        let (value, size) = match (first, self.plan.policy, bracket.ceiling) {
            (Some(first), ..) => (first, "the first step"),
            (None, Policy::Bisection, Some(failure)) => {
                let between = (failure.value - floor).units() / steps.fine.units();
                let value = floor + self.fine_steps(between / 2);
                (between >= 2 && is_open(value)).then_some((value, "halfway"))?
            }
            _ => {
                let step = [steps.coarse, steps.fine].into_iter().find(|s| is_open(floor + *s))?;
                (floor + step, if step == steps.fine { "a fine step" } else { "a coarse step" })
            }
        };
        let held = capitalised(&self.show_or_start(floor));
        let next = self.scale.show(value);
        let reason = match bracket.ceiling {
            None => format!("{held} holds and nothing has failed yet: {size} to {next}."),
            Some(failure) => format!(
                "{held} holds, {} ended in {}: {size} to {next}.",
                self.scale.show(failure.value),
                failure.verdict
            ),
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
        let (length, shown) = (Seconds(wanted).in_words(), self.scale.show(value));
        let why = match bracket.ceiling {
            Some(failure) => format!(
                "The edge lies between {} and {}, where trial {} ended in {}",
                self.show_or_start(bracket.floor),
                self.scale.show(failure.value),
                failure.trial,
                failure.verdict
            ),
            None if self.highest() < self.scale.highest() => {
                format!("{shown} holds, and what lies above took the machine down")
            }
            None if self.cap.is_some_and(|cap| cap < self.scale.highest()) => {
                format!("{shown} holds, and more brings nothing")
            }
            None => format!("{shown} holds, and the card offers no more"),
        };
        let reason = format!("{why}. Next: {length} to confirm {shown}.");
        Some((value, Purpose::Confirm, wanted, reason))
    }

    fn settle(&self, bracket: Bracket<S::Value>) -> Option<Wish<S::Value>> {
        let (confirmed, value) = (self.candidate(bracket), self.stepwise_kept(bracket));
        let (steps, wanted) = (self.steps().margin, self.steps().settle_seconds);
        let has_settled = self.has_held(value, wanted, Some(Purpose::Settle));
        if self.is_followed || value == S::Value::default() || has_settled || steps == 0 {
            return None;
        }
        let plural = if steps == 1 { "1 fine step is" } else { &format!("{steps} fine steps are") };
        let reason = format!(
            "{} held for {}, which is far from a proof for a day: {plural} taken off, and a run at \
             {} measures what is kept.",
            self.scale.show(confirmed),
            Seconds(self.steps().confirm_seconds).in_words(),
            self.scale.show(value)
        );
        Some((value, Purpose::Settle, wanted, reason))
    }

    /// What would be kept now: the candidate less the margin.
    fn stepwise_kept(&self, bracket: Bracket<S::Value>) -> S::Value {
        let margin = self.fine_steps(self.steps().margin);
        (self.candidate(bracket) - margin).max(S::Value::default())
    }
}

fn capitalised(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}
