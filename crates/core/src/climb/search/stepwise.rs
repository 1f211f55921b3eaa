//! The stepwise policies: up in coarse steps until something gives, then in fine steps or by bisection
//! below that, back off, confirm, take the margin off, and measure what is kept.

use crate::climb::record::Purpose;
use crate::climb::search::{Bracket, Search, SearchStep};
use crate::plan::Policy;
use crate::units::{MhzOffset, Seconds};

type Wish = (MhzOffset, Purpose, f64, String);

impl Search<'_> {
    pub(in crate::climb) fn next_stepwise(&self, ended: bool) -> SearchStep {
        let bracket = self.bracket();
        if ended {
            return SearchStep::Kept(self.stepwise_kept(bracket));
        }
        if bracket.ceiling.is_some_and(|failure| failure.value <= MhzOffset::STOCK) {
            return SearchStep::Kept(MhzOffset::STOCK);
        }
        let step = self
            .step_up(bracket)
            .or_else(|| self.confirm(bracket))
            .or_else(|| self.settle(bracket));
        match step {
            None => SearchStep::Kept(self.stepwise_kept(bracket)),
            Some((value, purpose, seconds, reason)) => self.unless_stuck(SearchStep::Try {
                value,
                purpose,
                seconds: Seconds(seconds),
                reason,
            }),
        }
    }

    fn coarse(&self) -> MhzOffset {
        self.axis.in_bins(self.steps().coarse_step_mhz).max(self.fine())
    }

    /// The next value between what held and what failed, by the policy.
    fn step_up(&self, bracket: Bracket) -> Option<Wish> {
        let (floor, fine) = (bracket.floor, self.fine());
        let (step, size) = match (self.plan.policy, bracket.ceiling) {
            (Policy::Bisection, Some(failure)) => {
                let bins = (failure.value - floor).0 / fine.0;
                let step = MhzOffset(bins / 2 * fine.0);
                (bins >= 2 && floor + step <= self.highest()).then_some((step, "bisection"))?
            }
            _ => {
                let below = |value: MhzOffset| {
                    value <= self.highest()
                        && bracket.ceiling.is_none_or(|failure| value < failure.value)
                };
                let step = [self.coarse(), fine].into_iter().find(|s| below(floor + *s))?;
                (step, if step == fine { "fine" } else { "coarse" })
            }
        };
        let held = if floor == MhzOffset::STOCK { "Stock holds" } else { "It held at" };
        let place = match floor {
            MhzOffset::STOCK => String::new(),
            _ => format!(" {}", self.axis.show(floor)),
        };
        let reason = match bracket.ceiling {
            None => format!(
                "{held}{place} and nothing has failed yet: a {size} step of {} MHz up.",
                step.0
            ),
            Some(failure) => format!(
                "{held}{place}, and {} ended in {}: a {size} step of {} MHz towards it.",
                self.axis.show(failure.value),
                failure.verdict,
                step.0
            ),
        };
        Some((floor + step, Purpose::Step, self.steps().seconds, reason))
    }

    /// The value to be confirmed: what held, but at least the back-off below what failed.
    fn candidate(&self, bracket: Bracket) -> MhzOffset {
        let back_off = MhzOffset(self.steps().back_off_steps * self.fine().0);
        let value = match bracket.ceiling {
            Some(failure) => bracket.floor.min(failure.value - back_off),
            None => bracket.floor,
        };
        self.capped(value)
    }

    fn confirm(&self, bracket: Bracket) -> Option<Wish> {
        let value = self.candidate(bracket);
        let wanted = self.steps().confirm_seconds;
        let has_confirmed =
            self.clean_at(value).any(|trial| trial.record.seconds.value() >= wanted);
        if value == MhzOffset::STOCK || has_confirmed {
            return None;
        }
        let (length, shown) = (Seconds(wanted).in_words(), self.axis.show(value));
        let reason = match bracket.ceiling {
            Some(failure) => format!(
                "The edge lies between {} and {}, where trial {} ended in {}: {length} without a \
                 fault is to confirm {shown}.",
                self.axis.show(bracket.floor),
                self.axis.show(failure.value),
                failure.trial,
                failure.verdict
            ),
            None if self.highest() < self.axis.highest() => format!(
                "{shown} held, and what lies above took the machine down: {length} without a fault \
                 is to confirm it."
            ),
            None => format!(
                "{shown} is all the card offers and it held: {length} without a fault is to \
                 confirm it."
            ),
        };
        Some((value, Purpose::Confirm, wanted, reason))
    }

    fn settle(&self, bracket: Bracket) -> Option<Wish> {
        let confirmed = self.candidate(bracket);
        let value = self.stepwise_kept(bracket);
        let wanted = self.steps().settle_seconds;
        let measured = self.clean_at(value).any(|trial| {
            trial.record.purpose == Purpose::Settle && trial.record.seconds.value() >= wanted
        });
        let steps = self.margin_steps();
        if value == MhzOffset::STOCK || measured || steps == 0 {
            return None;
        }
        let plural = if steps == 1 { "one fine step is" } else { "fine steps are" };
        let count = if steps == 1 { String::new() } else { format!("{steps} ") };
        let reason = format!(
            "{} held for {}, which is far from a proof for a day: {count}{plural} taken off, and a \
             run at {} measures what is kept.",
            self.axis.show(confirmed),
            Seconds(self.steps().confirm_seconds).in_words(),
            self.axis.show(value)
        );
        Some((value, Purpose::Settle, wanted, reason))
    }

    /// Fine steps that the margin takes off.
    pub(in crate::climb) fn margin_steps(&self) -> i32 {
        self.plan.margin.fine_steps(self.steps().margin_steps)
    }

    /// What would be kept now: the candidate less the margin.
    fn stepwise_kept(&self, bracket: Bracket) -> MhzOffset {
        let margin = MhzOffset(self.margin_steps() * self.fine().0);
        (self.candidate(bracket) - margin).max(MhzOffset::STOCK)
    }
}
