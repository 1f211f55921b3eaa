//! One search for an edge, on any [scale](scale::Scale): what it sees of the trials, and the policies
//! that take its steps.
//!
//! | policy | how | what it costs |
//! |---|---|---|
//! | `fixed-step` | coarse steps until one fails, fine steps below that, an hour at what held | most time: some hours for core, memory and both together; the hour proves less than it seems |
//! | `bisection` | as `fixed-step`, but halves what is left between held and failed | fewer trials, each as long; every bisection may overshoot by half a coarse step |
//! | `bayesian` | weighs every trial in a [belief](crate::climb::EdgeBelief) of the edge and runs the most informative trial per minute, within a bound on machine downs | least time; relies on its assumption of how fast faults set in |
//!
//! Everything is derived from the trials made, so that a trial marked otherwise by the user, a trial
//! of the user's own in between, or a resumed climb need no special care. All policies share what was
//! learnt: none proposes what took the machine down, what the card does not take, or keeps what was
//! seen to fail.

pub(in crate::climb) mod axis;
pub(in crate::climb) mod bands;
pub(in crate::climb) mod bayesian;
pub(in crate::climb) mod belief;
pub(in crate::climb) mod depth;
pub(in crate::climb) mod experience;
pub(in crate::climb) mod scale;
pub(in crate::climb) mod score;
mod stepwise;

use crate::climb::reason::{Reason, Stuck};
use crate::climb::record::{Purpose, TrialRecord};
use crate::climb::search::experience::Experience;
use crate::climb::search::scale::{Scale, Steps, Value};
use crate::judge::verdict::{Meaning, Verdict};
use crate::plan::{Plan, Policy};
use crate::units::{MhzOffset, Seconds};

/// How far below a value that was said to hold a search begins, in shares of the clock.
const BEGINS_BELOW: f64 = 0.03;
/// Largest step of the bayesian policy on the way to it, in shares of the clock.
const REACH: f64 = 0.02;

/// A value that was too much.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Failure<V = MhzOffset> {
    /// The value.
    pub value: V,
    /// The trial that showed it.
    pub trial: u32,
    /// How.
    pub verdict: Verdict,
}

/// Where the edge is seen to lie: at or above `floor`, below `ceiling`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bracket<V = MhzOffset> {
    /// Boldest value that held, below everything that failed; the safe end counts as held.
    pub floor: V,
    /// Mildest value that failed, if any has.
    pub ceiling: Option<Failure<V>>,
}

/// What a run of another stage tells of the safe end of a scale: so long it ran, and how it failed there, if it did.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(in crate::climb) struct Beside {
    pub hours: f64,
    pub fault: Option<Verdict>,
}

/// A trial as a search sees it.
#[derive(Debug, Clone, Copy)]
pub struct Tried<'a, V = MhzOffset> {
    /// The value it is evidence for.
    pub value: V,
    /// The trial.
    pub record: &'a TrialRecord,
}

impl<V> Tried<'_, V> {
    pub(in crate::climb) fn verdict(&self) -> Verdict {
        self.record.verdict()
    }

    pub(in crate::climb) fn meaning(&self) -> Meaning {
        self.verdict().meaning()
    }

    pub(in crate::climb) fn proves(&self) -> bool {
        self.meaning() != Meaning::ProvesNothing
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

/// A fine step below the mildest value at which the card was merely slow.
pub(in crate::climb) fn below_slow<V: Value>(tried: &[Tried<'_, V>], fine: V) -> Option<V> {
    let is_slow =
        |trial: &&Tried<'_, V>| matches!(trial.verdict(), Verdict::Slower | Verdict::Throttled);
    tried.iter().filter(is_slow).map(|trial| trial.value - fine).min()
}

/// What a search wants next.
#[derive(Debug, Clone, PartialEq)]
pub enum SearchStep<V = MhzOffset> {
    /// A trial at this value.
    Try {
        /// The value.
        value: V,
        /// What for.
        purpose: Purpose,
        /// Measured length, warm-up not included.
        seconds: Seconds,
        /// Why.
        reason: Reason,
    },
    /// This value is what it comes to.
    Kept(V),
    /// Runs at this value prove nothing again and again.
    Stuck(Stuck),
}

/// What every policy works with.
#[derive(Debug, Clone)]
pub(in crate::climb) struct Search<'a, S: Scale> {
    pub scale: S,
    pub plan: &'a Plan,
    pub tried: Vec<Tried<'a, S::Value>>,
    /// Whether a run that was merely slow was too much; undervolting wants some of them.
    pub slow_is_too_much: bool,
    /// First value of a stepwise search; none for a coarse step.
    pub first: Option<S::Value>,
    /// Boldest value worth keeping, where the trials told.
    pub cap: Option<S::Value>,
    /// What a unit of the scale is worth, in shares of the score or of the watts: how much it is worth
    /// to know more.
    pub slope: f64,
    /// What is kept where not even the safe end holds, as a value: how far below the safe end its score lies; zero or less.
    pub below_safe: f64,
    /// Mildest value that is as bold as what took the machine down: neither it nor more is tried.
    pub barred: Option<S::Value>,
    /// Trials there were when the climb was taken up last: those before are not held against a value
    /// that is to be tried again.
    pub taken_up_after: usize,
    /// Whether more trials follow that measure what is kept: the search need not be as sure, and does
    /// not measure it itself.
    pub is_followed: bool,
    /// What runs of other stages tell of the safe end.
    pub beside: Vec<Beside>,
    /// Every trial of the climb: how grave the faults of this card are, in whatever stage they came.
    pub all: &'a [TrialRecord],
    /// What earlier climbs have shown.
    pub experience: &'a Experience,
}

impl<'a, S: Scale> Search<'a, S> {
    pub(in crate::climb) fn steps(&self) -> Steps<S::Value> {
        self.scale.steps(self.plan)
    }

    /// `count` fine steps.
    fn fine_steps(&self, count: i32) -> S::Value {
        S::Value::from(self.steps().fine.units() * count)
    }

    /// Whether a trial shows that its value holds, as far as this search is concerned.
    fn holds(&self, trial: &Tried<'_, S::Value>) -> bool {
        match self.slow_is_too_much {
            true => trial.verdict() == Verdict::Clean,
            false => trial.proves() && !trial.is_fault(),
        }
    }

    fn is_too_much(&self, trial: &Tried<'_, S::Value>) -> bool {
        match self.slow_is_too_much {
            true => trial.meaning() == Meaning::TooMuch,
            false => trial.is_fault(),
        }
    }

    /// Reads floor and ceiling off the trials.
    pub(in crate::climb) fn bracket(&self) -> Bracket<S::Value> {
        let failed = self.tried.iter().filter(|trial| self.is_too_much(trial));
        let refused = self.tried.iter().filter(|trial| self.is_refused(trial));
        let ceiling = failed.chain(refused).min_by_key(|trial| trial.value).map(|trial| Failure {
            value: trial.value,
            trial: trial.record.number,
            verdict: trial.verdict(),
        });
        let floor = self
            .tried
            .iter()
            .filter(|trial| self.holds(trial))
            .map(|trial| trial.value)
            .filter(|value| ceiling.is_none_or(|failure| *value < failure.value))
            .max()
            .unwrap_or_default()
            .max(S::Value::default());
        Bracket { floor, ceiling }
    }

    /// A value the card would not take however often it was asked is as good as too much.
    pub(in crate::climb) fn is_refused(&self, trial: &Tried<'_, S::Value>) -> bool {
        trial.verdict() == Verdict::NotTaken
            && self.in_vain_since(trial.value, 0) > self.plan.rules.retries as usize
    }

    /// Newest trials of a value that prove nothing, without one between them that does.
    fn in_vain_since(&self, value: S::Value, after: usize) -> usize {
        self.tried
            .iter()
            .rev()
            .take_while(|trial| trial.record.number as usize > after)
            .filter(|trial| trial.value == value && !trial.record.was_stopped())
            .take_while(|trial| !trial.proves())
            .count()
    }

    /// Whether a value held for so long without a fault, in a run that served `purpose` where one is
    /// named.
    fn has_held(&self, value: S::Value, seconds: f64, purpose: Option<Purpose>) -> bool {
        self.tried.iter().any(|trial| {
            trial.value == value
                && self.holds(trial)
                && trial.record.seconds.value() >= seconds
                && purpose.is_none_or(|purpose| trial.record.purpose == purpose)
        })
    }

    /// A step, unless the same was tried in vain too often.
    pub(in crate::climb) fn unless_stuck(
        &self,
        step: SearchStep<S::Value>,
    ) -> SearchStep<S::Value> {
        let SearchStep::Try { value, purpose, seconds, reason } = step else { return step };
        let in_vain = self.in_vain_since(value, self.taken_up_after);
        let last = self
            .tried
            .iter()
            .rev()
            .find(|trial| trial.value == value && !trial.record.was_stopped());
        let at = self.scale.show(value);
        let reason = match last.filter(|_| in_vain > 0) {
            None => reason,
            Some(last) if in_vain > self.plan.rules.retries as usize => {
                return SearchStep::Stuck(Stuck::InVain {
                    runs: in_vain,
                    at: Some(at),
                    last: last.record.reason.clone(),
                });
            }
            Some(last) => Reason::Again { trial: last.record.number, verdict: last.verdict(), at },
        };
        SearchStep::Try { value, purpose, seconds, reason }
    }

    /// What comes next by the plan's policy. `ended` is set when the user wants no more trials.
    pub(in crate::climb) fn next(&self, ended: bool) -> SearchStep<S::Value> {
        match self.plan.policy {
            Policy::FixedStep | Policy::Bisection => self.next_stepwise(ended),
            Policy::Bayesian => self.next_bayesian(ended),
        }
    }

    /// What it comes to as far as is known, no trial more.
    pub(in crate::climb) fn kept(&self) -> S::Value {
        match self.next(true) {
            SearchStep::Kept(value) => value,
            SearchStep::Try { .. } | SearchStep::Stuck(_) => S::Value::default(),
        }
    }

    /// The value that the plan says holds, where it may be tried at all.
    fn known(&self) -> Option<S::Value> {
        self.scale.known(self.plan).map(|known| known.min(self.highest()))
    }

    /// Where a search begins that was given a value said to hold: somewhat below it, since it may be another
    /// card's. None where that is at stock.
    fn begins_at(&self) -> Option<S::Value> {
        let known: f64 = self.known()?.into();
        let begin = self.scale.bin(known - BEGINS_BELOW * self.scale.size());
        Some(begin).filter(|begin| *begin > S::Value::default())
    }

    /// The boldest value that may be tried or kept now, on the way to one that was said to hold: a step above
    /// the boldest that held.
    fn reach(&self) -> Option<S::Value> {
        self.known()?;
        let step = self.scale.bin(REACH * self.scale.size()).max(self.steps().fine);
        let held =
            self.tried.iter().filter(|trial| self.holds(trial)).map(|trial| trial.value + step);
        Some(held.chain(self.begins_at()).max().unwrap_or(step).min(self.highest()))
    }

    /// The boldest value that may be tried.
    pub(in crate::climb) fn highest(&self) -> S::Value {
        let highest = self.scale.highest();
        let below = self.barred.map(|barred| barred - self.steps().least);
        below.map_or(highest, |below| highest.min(below))
    }

    /// A value no bolder than the trials make worth keeping, and not below the safe end.
    pub(in crate::climb) fn capped(&self, value: S::Value) -> S::Value {
        let value = self.cap.map_or(value, |cap| value.min(cap));
        value.min(self.highest()).max(S::Value::default())
    }
}
