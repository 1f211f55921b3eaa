//! The ladder: up in coarse steps until something gives, up in fine steps below that, back off,
//! confirm, take the margin off, and measure what is kept.
//!
//! Everything is derived from the trials made, so a value marked otherwise by the user, an own
//! wish in between, or a resumed climb need no special care.

use crate::card::{Offer, SettingKind};
use crate::plan::CorePlan;
use crate::units::{MhzOffset, Seconds};
use crate::verdict::{Meaning, Verdict};

use super::{Climb, Next, Proposal, Purpose, Stage, TrialRecord, TrialRequest};

/// A value that was too much.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Failure {
    /// The value.
    pub value: MhzOffset,
    /// The trial that showed it.
    pub trial: u32,
    /// How.
    pub verdict: Verdict,
}

/// Where the edge is believed to lie: at or above `floor`, below `ceiling`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bracket {
    /// Highest value that held, below everything that failed; stock counts as held.
    pub floor: MhzOffset,
    /// Lowest value that failed, if any has.
    pub ceiling: Option<Failure>,
}

/// The rules of a ladder in the steps of one card.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Ladder {
    steps: [MhzOffset; 2],
    highest: MhzOffset,
    plan: CorePlan,
    retries: u32,
}

/// What a ladder wants next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LadderStep {
    /// A trial at this value.
    Try {
        /// The value.
        value: MhzOffset,
        /// What for.
        purpose: Purpose,
        /// Why.
        reason: String,
    },
    /// This value is to be kept.
    Kept(MhzOffset),
    /// Runs at this value prove nothing again and again.
    Stuck(String),
}

impl Ladder {
    /// A ladder for a card's offer. Step sizes are raised to whole bins of the card.
    #[must_use]
    pub fn new(plan: CorePlan, retries: u32, offer: &Offer) -> Self {
        let in_bins = |step: i32| {
            let bins = (f64::from(step) / offer.step).round().max(1.0);
            MhzOffset((bins * offer.step).round() as i32)
        };
        let fine = in_bins(plan.fine_step_mhz);
        let coarse = in_bins(plan.coarse_step_mhz).max(fine);
        let highest = MhzOffset(offer.maximum as i32);
        Self { steps: [coarse, fine], highest, plan, retries }
    }

    /// The fine step.
    #[must_use]
    pub fn fine(&self) -> MhzOffset {
        self.steps[1]
    }

    /// Reads floor and ceiling off the trials.
    #[must_use]
    pub fn bracket(&self, trials: &[TrialRecord]) -> Bracket {
        let core = || trials.iter().filter(|trial| trial.stage == Stage::Core);
        let refused = core().filter(|trial| self.is_refused(trials, trial));
        let ceiling = core()
            .filter(|trial| trial.verdict().meaning() == Meaning::TooMuch)
            .chain(refused)
            .min_by_key(|trial| trial.offset())
            .map(|trial| Failure {
                value: trial.offset(),
                trial: trial.number,
                verdict: trial.verdict(),
            });
        let floor = core()
            .filter(|trial| trial.verdict() == Verdict::Clean)
            .map(TrialRecord::offset)
            .filter(|value| ceiling.is_none_or(|failure| *value < failure.value))
            .max()
            .unwrap_or_default()
            .max(MhzOffset::STOCK);
        Bracket { floor, ceiling }
    }

    /// A value the card would not take however often it was asked is as good as too much.
    fn is_refused(&self, trials: &[TrialRecord], trial: &TrialRecord) -> bool {
        trial.verdict() == Verdict::NotTaken
            && self.unproven_in_a_row(trials, trial.offset()) > self.retries as usize
    }

    fn unproven_in_a_row(&self, trials: &[TrialRecord], value: MhzOffset) -> usize {
        trials
            .iter()
            .rev()
            .filter(|trial| trial.stage == Stage::Core && trial.offset() == value)
            .filter(|trial| !trial.was_stopped())
            .take_while(|trial| trial.verdict().meaning() == Meaning::ProvesNothing)
            .count()
    }

    /// The next step, from the trials made. `ended` is set when the user wants no more of them.
    #[must_use]
    pub fn next(&self, trials: &[TrialRecord], ended: bool) -> LadderStep {
        let bracket = self.bracket(trials);
        if ended {
            return LadderStep::Kept(self.kept(bracket));
        }
        if bracket.ceiling.is_some_and(|failure| failure.value <= MhzOffset::STOCK) {
            return LadderStep::Kept(MhzOffset::STOCK);
        }
        let step = self
            .search(bracket)
            .or_else(|| self.confirm(trials, bracket))
            .or_else(|| self.settle(trials, bracket));
        match step {
            None => LadderStep::Kept(self.kept(bracket)),
            Some((value, purpose, reason)) => self.unless_stuck(trials, value, purpose, reason),
        }
    }

    /// The largest step that stays below what failed.
    fn search(&self, bracket: Bracket) -> Option<(MhzOffset, Purpose, String)> {
        let floor = bracket.floor;
        let below = |value: MhzOffset| {
            value <= self.highest && bracket.ceiling.is_none_or(|failure| value < failure.value)
        };
        let step = self.steps.into_iter().find(|step| below(floor + *step))?;
        let size = if step == self.fine() { "fine" } else { "coarse" };
        let held = if floor == MhzOffset::STOCK { "Stock holds" } else { "It held at" };
        let place = if floor == MhzOffset::STOCK { String::new() } else { format!(" {floor}") };
        let reason = match bracket.ceiling {
            None => format!(
                "{held}{place} and nothing has failed yet: a {size} step of {} MHz up.",
                step.0
            ),
            Some(failure) => format!(
                "{held}{place}, and {} ended in {}: a {size} step of {} MHz towards it.",
                failure.value, failure.verdict, step.0
            ),
        };
        Some((floor + step, Purpose::Step, reason))
    }

    /// The value to be confirmed: what held, but at least the back-off below what failed.
    fn candidate(&self, bracket: Bracket) -> MhzOffset {
        let back_off = MhzOffset(self.plan.back_off_steps * self.fine().0);
        let value = match bracket.ceiling {
            Some(failure) => bracket.floor.min(failure.value - back_off),
            None => bracket.floor,
        };
        value.max(MhzOffset::STOCK)
    }

    fn confirm(
        &self,
        trials: &[TrialRecord],
        bracket: Bracket,
    ) -> Option<(MhzOffset, Purpose, String)> {
        let value = self.candidate(bracket);
        if value == MhzOffset::STOCK || self.has_confirmed(trials, value) {
            return None;
        }
        let length = Seconds(self.plan.confirm_seconds).in_words();
        let reason = match bracket.ceiling {
            Some(failure) => format!(
                "The edge lies between {} and {}, where trial {} ended in {}: {length} without a \
                 fault is to confirm {value}.",
                bracket.floor, failure.value, failure.trial, failure.verdict
            ),
            None => format!(
                "{value} is all the card offers and it held: {length} without a fault is to confirm it."
            ),
        };
        Some((value, Purpose::Confirm, reason))
    }

    fn has_confirmed(&self, trials: &[TrialRecord], value: MhzOffset) -> bool {
        clean_at(trials, value).any(|trial| trial.seconds.value() >= self.plan.confirm_seconds)
    }

    fn settle(
        &self,
        trials: &[TrialRecord],
        bracket: Bracket,
    ) -> Option<(MhzOffset, Purpose, String)> {
        let confirmed = self.candidate(bracket);
        let value = self.kept(bracket);
        let measured = clean_at(trials, value).any(|trial| {
            trial.purpose == Purpose::Settle && trial.seconds.value() >= self.plan.settle_seconds
        });
        if value == MhzOffset::STOCK || measured || self.plan.margin_steps == 0 {
            return None;
        }
        let steps = self.plan.margin_steps;
        let plural = if steps == 1 { "one fine step is" } else { "fine steps are" };
        let count = if steps == 1 { String::new() } else { format!("{steps} ") };
        let reason = format!(
            "{confirmed} held for {}, which is far from a proof for a day: {count}{plural} taken \
             off, and a run at {value} measures what is kept.",
            Seconds(self.plan.confirm_seconds).in_words()
        );
        Some((value, Purpose::Settle, reason))
    }

    /// What would be kept now: the candidate less the margin.
    fn kept(&self, bracket: Bracket) -> MhzOffset {
        let candidate = self.candidate(bracket);
        let margin = MhzOffset(self.plan.margin_steps * self.fine().0);
        (candidate - margin).max(MhzOffset::STOCK)
    }

    fn unless_stuck(
        &self,
        trials: &[TrialRecord],
        value: MhzOffset,
        purpose: Purpose,
        reason: String,
    ) -> LadderStep {
        let unproven = self.unproven_in_a_row(trials, value);
        let last = trials.iter().rev().find(|trial| {
            trial.stage == Stage::Core && trial.offset() == value && !trial.was_stopped()
        });
        match last.filter(|_| unproven > 0) {
            None => LadderStep::Try { value, purpose, reason },
            Some(last) if unproven > self.retries as usize => LadderStep::Stuck(format!(
                "The last {unproven} runs at {value} prove nothing. {} Close what else uses the \
                 card, or end the stage to keep what is known.",
                last.reason
            )),
            Some(last) => LadderStep::Try {
                value,
                purpose,
                reason: format!(
                    "Trial {} proves nothing ({}): {value} once more.",
                    last.number,
                    last.verdict()
                ),
            },
        }
    }
}

fn clean_at(trials: &[TrialRecord], value: MhzOffset) -> impl Iterator<Item = &TrialRecord> {
    trials.iter().filter(move |trial| {
        trial.stage == Stage::Core && trial.verdict() == Verdict::Clean && trial.offset() == value
    })
}

impl Climb {
    /// The ladder of the core stage.
    pub(super) fn ladder(&self) -> Ladder {
        let fallback = Offer {
            kind: SettingKind::CoreOffset,
            reading: crate::card::Reading::Offset,
            minimum: 0.0,
            maximum: 0.0,
            step: 1.0,
            stock: Some(0.0),
        };
        let offer = self.card.offer(SettingKind::CoreOffset).unwrap_or(&fallback);
        Ladder::new(self.plan.core, self.plan.rules.retries, offer)
    }

    /// What the core stage wants next; `None` when it is over or not part of the climb.
    pub(super) fn next_of_core(&self) -> Option<Next> {
        if !self.stages.contains(&Stage::Core) {
            return None;
        }
        match self.ladder().next(&self.trials, self.stage_is_ended(Stage::Core)) {
            LadderStep::Kept(_) => None,
            LadderStep::Stuck(why) => Some(Next::Stuck(why)),
            LadderStep::Try { value, purpose, reason } => {
                let core = &self.plan.core;
                let measured = match purpose {
                    Purpose::Confirm => core.confirm_seconds,
                    Purpose::Settle => core.settle_seconds,
                    _ => core.seconds,
                };
                Some(Next::Trial(Box::new(Proposal {
                    request: TrialRequest {
                        stage: Stage::Core,
                        purpose,
                        asked: self.settings_at(value),
                        seconds: Seconds(core.warm_up_seconds + measured),
                        warm_up_bounds: self.warm_up_bounds(),
                        warm_up: Seconds(core.warm_up_seconds),
                    },
                    reason,
                    risk: None,
                })))
            }
        }
    }
}
