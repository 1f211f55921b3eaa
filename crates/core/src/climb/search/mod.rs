//! A search along one axis: what it sees of the trials, and the policies that take its steps.
//!
//! | policy | how | what it costs |
//! |---|---|---|
//! | `fixed-step` | coarse steps until one fails, fine steps below that, an hour at what held | most time: some hours for core, memory and both together; the hour proves less than it seems |
//! | `bisection` | as `fixed-step`, but halves what is left between held and failed | fewer trials, each as long; every bisection may overshoot by half a coarse step |
//! | `bayesian` | weighs every trial in a [belief](crate::climb::EdgeBelief) of the edge and asks where a minute tells most, within a bound on machine downs | least time; leans on its assumption of how fast faults set in |
//!
//! Everything is derived from the trials made, so a value marked otherwise by the user, an own
//! wish in between, or a resumed climb need no special care.

pub(in crate::climb) mod axis;
pub(in crate::climb) mod bands;
pub(in crate::climb) mod bayesian;
pub(in crate::climb) mod belief;
pub(in crate::climb) mod depth;
pub(in crate::climb) mod score;
mod stepwise;
pub(in crate::climb) mod walk;

use crate::climb::record::{Purpose, TrialRecord};
use crate::climb::search::axis::Axis;
use crate::judge::verdict::{Meaning, Verdict};
use crate::plan::{AxisPlan, Plan, Policy};
use crate::units::{MhzOffset, Seconds};

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

/// Where the edge is seen to lie: at or above `floor`, below `ceiling`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bracket {
    /// Highest value that held, below everything that failed; stock counts as held.
    pub floor: MhzOffset,
    /// Lowest value that failed, if any has.
    pub ceiling: Option<Failure>,
}

/// A trial as a search sees it.
#[derive(Debug, Clone, Copy)]
pub struct Tried<'a> {
    /// The value on the axis it is evidence for.
    pub value: MhzOffset,
    /// The trial.
    pub record: &'a TrialRecord,
}

impl Tried<'_> {
    pub(in crate::climb) fn verdict(&self) -> Verdict {
        self.record.verdict()
    }

    pub(in crate::climb) fn meaning(&self) -> Meaning {
        self.verdict().meaning()
    }

    /// Whether it is evidence of a card that failed, not merely of one that was slow.
    pub(in crate::climb) fn is_fault(&self) -> bool {
        self.verdict().is_fault()
    }

    /// Time under load until it failed or ended, hours.
    pub(in crate::climb) fn hours(&self) -> f64 {
        let fault = self.record.faults.iter().map(|fault| fault.at.value()).reduce(f64::min);
        let end = self.record.seconds.value();
        fault.filter(|_| self.is_fault()).unwrap_or(end).clamp(0.1, end.max(0.1)) / 3_600.0
    }
}

/// What a search wants next.
#[derive(Debug, Clone, PartialEq)]
pub enum SearchStep {
    /// A trial at this value.
    Try {
        /// The value.
        value: MhzOffset,
        /// What for.
        purpose: Purpose,
        /// Measured length, warm-up not included.
        seconds: Seconds,
        /// Why.
        reason: String,
    },
    /// This value is what it comes to.
    Kept(MhzOffset),
    /// Runs at this value prove nothing again and again.
    Stuck(String),
}

/// What every policy works with.
#[derive(Debug, Clone, Copy)]
pub(in crate::climb) struct Search<'a> {
    pub axis: &'a Axis,
    pub plan: &'a Plan,
    pub tried: &'a [Tried<'a>],
    /// Highest value worth keeping, where the score told.
    pub cap: Option<MhzOffset>,
    /// Score of a MHz, in shares of the score: how much it is worth to know more.
    pub slope: f64,
    /// Lowest value that is as bold as what took the machine down: neither it nor more is tried.
    pub barred: Option<MhzOffset>,
    /// Trials there were when the climb was taken up last: those before are not held against a value
    /// that is to be tried again.
    pub taken_up_after: usize,
    /// Whether a stage that tries both domains together follows.
    pub is_followed: bool,
}

impl Search<'_> {
    pub(in crate::climb) fn steps(&self) -> &AxisPlan {
        self.plan.axis(self.axis.domain)
    }

    /// The fine step, in bins of the card.
    pub(in crate::climb) fn fine(&self) -> MhzOffset {
        self.axis.in_bins(self.steps().fine_step_mhz)
    }

    /// Reads floor and ceiling off the trials.
    pub(in crate::climb) fn bracket(&self) -> Bracket {
        let refused = self.tried.iter().filter(|trial| self.is_refused(trial));
        let ceiling = self
            .tried
            .iter()
            .filter(|trial| trial.meaning() == Meaning::TooMuch)
            .chain(refused)
            .min_by_key(|trial| trial.value)
            .map(|trial| Failure {
                value: trial.value,
                trial: trial.record.number,
                verdict: trial.verdict(),
            });
        let floor = self
            .tried
            .iter()
            .filter(|trial| trial.verdict() == Verdict::Clean)
            .map(|trial| trial.value)
            .filter(|value| ceiling.is_none_or(|failure| *value < failure.value))
            .max()
            .unwrap_or_default()
            .max(MhzOffset::STOCK);
        Bracket { floor, ceiling }
    }

    /// A value the card would not take however often it was asked is as good as too much.
    pub(in crate::climb) fn is_refused(&self, trial: &Tried<'_>) -> bool {
        trial.verdict() == Verdict::NotTaken
            && self.unproven_in_a_row(trial.value) > self.plan.rules.retries as usize
    }

    fn unproven_in_a_row(&self, value: MhzOffset) -> usize {
        self.in_vain_since(value, 0)
    }

    fn in_vain_since(&self, value: MhzOffset, after: usize) -> usize {
        self.tried
            .iter()
            .rev()
            .take_while(|trial| trial.record.number as usize > after)
            .filter(|trial| trial.value == value && !trial.record.was_stopped())
            .take_while(|trial| trial.meaning() == Meaning::ProvesNothing)
            .count()
    }

    pub(in crate::climb) fn clean_at(&self, value: MhzOffset) -> impl Iterator<Item = &Tried<'_>> {
        self.tried
            .iter()
            .filter(move |trial| trial.verdict() == Verdict::Clean && trial.value == value)
    }

    /// A step, unless the same was tried in vain too often.
    pub(in crate::climb) fn unless_stuck(&self, step: SearchStep) -> SearchStep {
        let SearchStep::Try { value, purpose, seconds, reason } = step else { return step };
        let unproven = self.in_vain_since(value, self.taken_up_after);
        let last = self
            .tried
            .iter()
            .rev()
            .find(|trial| trial.value == value && !trial.record.was_stopped());
        let shown = self.axis.show(value);
        let reason = match last.filter(|_| unproven > 0) {
            None => reason,
            Some(last) if unproven > self.plan.rules.retries as usize => {
                return SearchStep::Stuck(format!(
                    "The last {unproven} runs at {shown} prove nothing. {} Close what else uses \
                     the card, or end the stage to keep what is known.",
                    last.record.reason
                ));
            }
            Some(last) => format!(
                "Trial {} proves nothing ({}): {shown} once more.",
                last.record.number,
                last.verdict()
            ),
        };
        SearchStep::Try { value, purpose, seconds, reason }
    }

    /// What comes next by the plan's policy. `ended` is set when the user wants no more trials.
    pub(in crate::climb) fn next(&self, ended: bool) -> SearchStep {
        match self.plan.policy {
            Policy::FixedStep | Policy::Bisection => self.next_stepwise(ended),
            Policy::Bayesian => self.next_bayesian(ended),
        }
    }

    /// The highest value that may be tried.
    pub(in crate::climb) fn highest(&self) -> MhzOffset {
        let highest = self.axis.highest();
        self.barred.map_or(highest, |barred| highest.min(barred - self.axis.in_bins(1)))
    }

    /// A value no higher than the score makes worth keeping, and not below stock.
    pub(in crate::climb) fn capped(&self, value: MhzOffset) -> MhzOffset {
        let value = self.cap.map_or(value, |cap| value.min(cap));
        value.min(self.highest()).max(MhzOffset::STOCK)
    }
}
