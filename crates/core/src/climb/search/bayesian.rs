//! The bayesian policy: the most informative trial per minute.

use crate::climb::reason::Reason;
use crate::climb::record::{Purpose, Stage, TrialRecord};
use crate::climb::search::belief::{EdgeBelief, Prospect};
use crate::climb::search::experience::Experience;
use crate::climb::search::scale::{Scale, Value};
use crate::climb::search::{Beside, Search, SearchStep, Tried};
use crate::judge::verdict::Verdict;
use crate::units::Seconds;

/// Lengths of trials that are considered, s.
const LENGTHS: [f64; 6] = [40.0, 80.0, 160.0, 320.0, 640.0, 1_280.0];
/// What a trial costs beside its load: applying, reading back, looking.
const AROUND_SECONDS: f64 = 10.0;
/// Values that are considered at a time.
const MOST_VALUES: f64 = 14.0;
/// What a machine down costs, in minutes: the restart, and whatever else was running.
const MACHINE_DOWN_MINUTES: f64 = 60.0;
/// How many times as much a trial must tell in a search that another one follows, which measures what is kept.
const FOLLOWED: f64 = 3.0;

/// A trial that was weighed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(in crate::climb) struct Weighed<V> {
    pub value: V,
    pub seconds: f64,
    pub prospect: Prospect,
    /// Knowledge in shares of the score, per minute.
    pub per_minute: f64,
}

/// Faults per hour that have nothing to do with what is tried: a load that crashes by itself, a driver
/// with a fault of its own. Assumption: some in a week of load, and wrong pixels the fewest.
pub(in crate::climb) const fn unrelated_faults(verdict: Verdict) -> f64 {
    match verdict {
        Verdict::LoadDied => 0.05,
        Verdict::DriverReset | Verdict::MachineDown => 0.02,
        Verdict::Artifacts => 0.005,
        _ => 0.0,
    }
}

/// The same of all kinds together.
const ANY_UNRELATED: f64 = 0.075;

/// Chance, all trials of a search considered, below which one of them was not to be expected.
const NOT_TO_BE_EXPECTED: f64 = 0.01;

/// How many times as much a trial of a search that the climb has left must tell: what a later stage finds moves the worth
/// of a clock a little, and would have two stages take turns.
const COMES_BACK: f64 = 4.0;

/// A value that failed so often fails.
const MOST_FAULTS: usize = 3;

/// Clean time, in times to the fault, after which a fault is taken to have had another cause: it
/// would have come again with 95 % (rule of three).
const LIVED_DOWN: f64 = 3.0;
/// Shortest clean time for that, hours.
const LEAST_LIVED_DOWN: f64 = 0.1;

/// Share of the clock by which an edge is believed lower because of a single fault that had better be
/// looked at again.
const MUCH: f64 = 0.02;

/// Whether a fault `hours` into a run is outweighed by `clean` hours without one, at no milder
/// settings, since. What took the machine down is not: see [`crate::climb::Downed`].
pub(in crate::climb) fn is_lived_down(verdict: Verdict, hours: f64, clean: f64) -> bool {
    verdict != Verdict::MachineDown && clean >= (hours * LIVED_DOWN).max(LEAST_LIVED_DOWN)
}

/// What is believed of an edge after these trials. Where one of them was not to be expected at all, the model does not fit this
/// card, and what it says is believed half as firmly.
pub(in crate::climb) fn believe<V: Value>(
    belief: EdgeBelief,
    tried: &[Tried<'_, V>],
) -> EdgeBelief {
    match believe_all(belief, tried) {
        (belief, None) => belief,
        (belief, Some(_)) => belief.widened(),
    }
}

/// A trial that was not to be expected.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Surprise {
    /// Its number.
    pub trial: u32,
    /// Whether it failed, sooner than expected; else it held for longer.
    pub failed: bool,
    /// The chance that it would by then, as it was believed before it, 0 to 1.
    pub chance: f64,
}

/// What is believed after all trials, and the one that was not to be expected by what was believed before it: a check of the
/// model on each next observation (prequential; Dawid, *Statistical Theory: The Prequential Approach*, 1984).
pub(in crate::climb) fn believe_all<V: Value>(
    mut belief: EdgeBelief,
    tried: &[Tried<'_, V>],
) -> (EdgeBelief, Option<Surprise>) {
    let mut least: Option<Surprise> = None;
    let mut count = 0;
    for trial in tried.iter().filter(|trial| trial.proves()) {
        let (value, hours, failed) = (trial.value, trial.hours(), trial.is_fault());
        let stands =
            belief.chance_and_take(value, hours, failed, unrelated_faults(trial.verdict()))
                * (-ANY_UNRELATED * hours).exp();
        let chance = if failed { 1.0 - stands } else { stands };
        if least.is_none_or(|least| chance < least.chance) {
            least = Some(Surprise { trial: trial.record.number, failed, chance });
        }
        count += 1;
    }
    // The least of many chances is small by chance.
    let surprise = least.filter(|least| least.chance * f64::from(count) < NOT_TO_BE_EXPECTED);
    (belief, surprise)
}

/// Takes in how grave the faults of the card were up to the trial with this number: a beta distribution that begins with
/// what earlier climbs have shown. What came later must not open again what was over.
pub(in crate::climb) fn learn_severity(
    belief: &mut EdgeBelief,
    trials: &[TrialRecord],
    newest: Option<u32>,
    experience: &Experience,
) {
    let until = |trial: &&TrialRecord| newest.is_none_or(|newest| trial.number <= newest);
    let verdicts = trials.iter().filter(until).map(TrialRecord::verdict);
    let faults = verdicts.clone().filter(|verdict| verdict.is_fault()).count();
    let machine_downs = verdicts.filter(|verdict| *verdict == Verdict::MachineDown).count();
    let before = experience.severity();
    belief.set_severity((machine_downs as f64 + before.0) / (faults as f64 + before.1));
}

/// The same after runs of other stages at the safe end.
pub(in crate::climb) fn believe_beside(mut belief: EdgeBelief, beside: &[Beside]) -> EdgeBelief {
    for run in beside {
        let others = run.fault.map_or(0.0, unrelated_faults);
        belief.take(0.0, run.hours, run.fault.is_some(), others);
    }
    belief
}

impl<S: Scale> Search<'_, S> {
    /// What is believed of the edge after these trials, and what others tell beside them.
    fn believed_after(&self, tried: &[Tried<'_, S::Value>]) -> EdgeBelief {
        let belief = believe(self.scale.belief(self.plan, self.experience), tried);
        believe_beside(belief, &self.beside)
    }

    /// The trial that was not to be expected, by which all is believed less firmly.
    pub(in crate::climb) fn surprise(&self) -> Option<Surprise> {
        believe_all(self.scale.belief(self.plan, self.experience), &self.tried).1
    }

    /// What is believed of the edge.
    pub(in crate::climb) fn belief(&self) -> EdgeBelief {
        let mut belief = self.believed_after(&self.tried);
        let newest = self.tried.iter().map(|trial| trial.record.number).max();
        learn_severity(&mut belief, self.all, newest, self.experience);
        belief
    }

    pub(in crate::climb) fn next_bayesian(&self, ended: bool) -> SearchStep<S::Value> {
        let belief = self.belief();
        let kept = self.believed_to_hold(&belief);
        if ended {
            return SearchStep::Kept(kept);
        }
        // The alone stages of a climb that goes on together need not be as sure, once there is something to go on with.
        let price = self.plan.bayesian.worth_percent_per_minute / 100.0
            * match (self.is_followed, kept > S::Value::default()) {
                (true, true) => FOLLOWED,
                (true, false) => FOLLOWED / 2.0,
                (false, _) => 1.0,
            }
            * if self.has_been_left() { COMES_BACK } else { 1.0 };
        if let Some(step) = self.step_towards_known(&belief, price) {
            return self.unless_stuck(step);
        }
        if let Some(best) = self.weigh(&belief).filter(|best| best.per_minute > price) {
            return self.unless_stuck(self.told(&belief, &best));
        }
        if let Some(again) = self.doubted(&belief) {
            return self.unless_stuck(again);
        }
        self.unless_stuck(match self.is_followed || kept == S::Value::default() {
            true => SearchStep::Kept(kept),
            false => self.measure(kept),
        })
    }

    /// Whether the climb has gone on to another search since the newest trial of this one.
    fn has_been_left(&self) -> bool {
        let stage = self.tried.first().map(|trial| trial.record.stage);
        let last = self.all.iter().rfind(|trial| trial.stage != Stage::Own);
        stage.zip(last).is_some_and(|(stage, last)| stage != last.stage)
    }

    /// The next step on the way to a value that was said to hold, as long as the trial that would tell most, or
    /// what would be kept, is still out of reach.
    fn step_towards_known(&self, belief: &EdgeBelief, price: f64) -> Option<SearchStep<S::Value>> {
        let (known, reach) = (self.known()?, self.reach()?);
        if self.tried.iter().any(|trial| trial.value >= reach && trial.proves()) {
            return None;
        }
        let best = self.weigh_up_to(belief, None).filter(|best| best.per_minute > price);
        if best.is_none_or(|best| best.value <= reach) && self.sure_of(belief) <= reach {
            return None;
        }
        let (known, at) = (self.scale.show(known), self.scale.show(reach));
        Some(SearchStep::Try {
            value: reach,
            purpose: Purpose::Step,
            seconds: Seconds(LENGTHS[0]),
            reason: Reason::TowardsKnown { known, at },
        })
    }

    /// The value of a single fault on which the outcome hangs, once more: without it, the edge would be
    /// believed much higher, so it had better not be an accident.
    fn doubted(&self, belief: &EdgeBelief) -> Option<SearchStep<S::Value>> {
        let faults = self.tried.iter().filter(|trial| trial.is_fault());
        let lowest = faults.min_by_key(|trial| trial.value)?;
        let doubtful = lowest.value <= self.highest()
            && self.cap.is_none_or(|cap| lowest.value <= cap)
            && lowest.verdict() != Verdict::MachineDown;
        if !doubtful {
            return None;
        }
        let others: Vec<Tried<'_, S::Value>> = self
            .tried
            .iter()
            .filter(|trial| trial.record.number != lowest.record.number)
            .copied()
            .collect();
        let without = self.believed_after(&others);
        let middle = |belief: &EdgeBelief| belief.band(0.0).0;
        let kept = |belief: &EdgeBelief| f64::from(self.believed_to_hold(belief).units());
        let more = (middle(&without) - middle(belief)).max(kept(&without) - kept(belief));
        if more < MUCH * self.scale.size() {
            return None;
        }
        let least = lowest.hours() * 3_600.0 * LIVED_DOWN;
        let seconds = least.max(LEAST_LIVED_DOWN * 3_600.0);
        let (at, trial) = (self.scale.show(lowest.value), lowest.record.number);
        Some(SearchStep::Try {
            value: lowest.value,
            purpose: Purpose::Repeat,
            seconds: Seconds(seconds),
            reason: Reason::Doubted { trial, at },
        })
    }

    /// The lowest value that was seen to fail, faults left out that later clean runs outweigh.
    fn lowest_that_fails(&self) -> Option<S::Value> {
        let clean_since = |fault: &Tried<'_, S::Value>| -> f64 {
            self.tried
                .iter()
                .filter(|later| later.record.number > fault.record.number)
                .filter(|later| later.value >= fault.value && later.proves() && !later.is_fault())
                .map(Tried::hours)
                .sum()
        };
        let faults = self.tried.iter().filter(|trial| trial.is_fault());
        faults
            .filter(|fault| !is_lived_down(fault.verdict(), fault.hours(), clean_since(fault)))
            .map(|fault| fault.value)
            .min()
    }

    /// The lowest value that the card would not take however often it was asked.
    fn refused_from(&self) -> Option<S::Value> {
        self.tried.iter().filter(|t| self.is_refused(t)).map(|t| t.value).min()
    }

    /// The lowest value that has failed so often that nothing more is to be learnt of it.
    fn fails_from(&self) -> Option<S::Value> {
        let faults_at = |value| {
            self.tried.iter().filter(|trial| trial.is_fault() && trial.value == value).count()
        };
        let failed = self.tried.iter().map(|trial| trial.value);
        failed.filter(|value| faults_at(*value) >= MOST_FAULTS).min()
    }

    /// The highest value the belief is sure enough of, as far as the trials have come.
    pub(in crate::climb) fn believed_to_hold(&self, belief: &EdgeBelief) -> S::Value {
        let sure = self.sure_of(belief);
        self.reach().map_or(sure, |reach| sure.min(reach))
    }

    /// The highest value the belief is sure enough of.
    fn sure_of(&self, belief: &EdgeBelief) -> S::Value {
        let margin = self.plan.margin;
        let value = belief.holds_to(margin.hours(), margin.faults(), margin.confidence());
        // Never where it was seen to fail, whatever is believed.
        let failed = self.lowest_that_fails();
        let bound = [self.refused_from(), failed]
            .into_iter()
            .flatten()
            .map(|value| value - self.steps().fine)
            .chain([self.highest()])
            .min()
            .unwrap_or_default();
        self.capped(self.scale.bin(value).min(bound))
    }

    /// The most informative trial per minute within reach, and within the bound on machine downs.
    pub(in crate::climb) fn weigh(&self, belief: &EdgeBelief) -> Option<Weighed<S::Value>> {
        self.weigh_up_to(belief, self.reach())
    }

    /// The most informative trial per minute up to a value, within the bound on machine downs.
    fn weigh_up_to(
        &self,
        belief: &EdgeBelief,
        most: Option<S::Value>,
    ) -> Option<Weighed<S::Value>> {
        let margin = self.plan.margin;
        let (hours, faults) = (margin.hours(), margin.faults());
        let warm_up = self.steps().warm_up_seconds;
        let bound = self.plan.bayesian.most_machine_down_percent / 100.0;
        let refused = [self.refused_from(), self.fails_from()].into_iter().flatten().min();
        let worth = (self.below_safe, self.cap.map_or(f64::MAX, |cap| cap.into().max(0.0)));
        let mut best: Option<Weighed<S::Value>> = None;
        for value in self.values(belief) {
            let is_beyond = most.is_some_and(|most| value > most);
            if is_beyond || refused.is_some_and(|refused| value >= refused) {
                continue;
            }
            let at = belief.at(value.into(), hours, faults, worth);
            for seconds in LENGTHS {
                let prospect = at.prospect((warm_up + seconds) / 3_600.0);
                if prospect.machine_down > bound {
                    break;
                }
                let minutes = prospect.hours * 60.0
                    + (warm_up + AROUND_SECONDS) / 60.0
                    + prospect.machine_down * MACHINE_DOWN_MINUTES;
                let per_minute = prospect.knowledge * self.slope / minutes;
                if best.is_none_or(|best| per_minute > best.per_minute) {
                    best = Some(Weighed { value, seconds, prospect, per_minute });
                }
            }
        }
        best
    }

    /// Values worth considering: from what surely holds to where faults come at once.
    fn values(&self, belief: &EdgeBelief) -> Vec<S::Value> {
        let fine: f64 = self.steps().fine.into();
        let (low, high) = belief.band(0.96);
        let low = low.max(fine);
        let high = (high + 0.02 * self.scale.size()).min(self.highest().into());
        let step = ((high - low) / MOST_VALUES / fine).ceil().max(1.0) * fine;
        let mut values = Vec::new();
        let mut value = low;
        while value <= high + 1e-9 {
            let binned = self.scale.bin(value);
            if values.last() != Some(&binned) && binned > S::Value::default() {
                values.push(binned);
            }
            value += step;
        }
        values
    }

    fn told(&self, belief: &EdgeBelief, best: &Weighed<S::Value>) -> SearchStep<S::Value> {
        let (low, high) = belief.band(0.9);
        let Weighed { value, seconds, prospect, .. } = *best;
        let show = |value| self.scale.show(self.scale.bin(value));
        SearchStep::Try {
            value,
            purpose: Purpose::Step,
            seconds: Seconds(seconds),
            reason: Reason::Informative {
                fault: prospect.fault,
                machine_down: prospect.machine_down,
                edge: Some((show(low), show(high))),
                holds: None,
            },
        }
    }

    /// A run that measures what is to be kept; nothing where it was made.
    fn measure(&self, value: S::Value) -> SearchStep<S::Value> {
        let wanted = self.steps().settle_seconds;
        if self.has_held(value, wanted, None) {
            return SearchStep::Kept(value);
        }
        SearchStep::Try {
            value,
            purpose: Purpose::Settle,
            seconds: Seconds(wanted),
            reason: Reason::Measure {
                at: self.scale.show(value),
                purpose: None,
                length: Seconds(wanted),
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::climb::search::belief::Assumed;
    use crate::fixtures::record;
    use crate::judge::verdict::Fault;
    use crate::load::artifact::Domain;
    use crate::units::MhzOffset;
    use rstest::rstest;

    /// Trials at these values, each of so many seconds, that failed at the end or did not.
    fn records(trials: &[(i32, f64, bool)]) -> Vec<(MhzOffset, TrialRecord)> {
        let made = |(number, (value, seconds, failed)): (usize, &(i32, f64, bool))| {
            let made = TrialRecord {
                judged: if *failed { Verdict::LoadDied } else { Verdict::Clean },
                seconds: Seconds(*seconds),
                faults: failed.then(|| Fault::at(Seconds(*seconds), "lost")).into_iter().collect(),
                ..record(number as u32 + 1)
            };
            (MhzOffset(*value), made)
        };
        trials.iter().enumerate().map(made).collect()
    }

    /// What a card does that fails as is assumed: its edge lies at +100 MHz of 2,050, its e-fold is 4 MHz.
    const AS_ASSUMED: &[(i32, f64, bool)] = &[
        (60, 100.0, false),
        (140, 9.0, true),
        (120, 500.0, true),
        (110, 640.0, false),
        (130, 40.0, true),
        (90, 640.0, false),
    ];

    #[rstest]
    #[case::as_assumed(&[], None)]
    #[case::fails_where_it_held(&[(60, 2.0, true)], Some((7, true)))]
    #[case::holds_where_it_failed(&[(150, 1_200.0, false)], Some((7, false)))]
    fn what_was_not_to_be_expected_is_found_and_all_is_believed_less_firmly(
        #[case] more: &[(i32, f64, bool)],
        #[case] expected: Option<(u32, bool)>,
    ) {
        let records = records(&[AS_ASSUMED, more].concat());
        let tried: Vec<Tried<'_>> =
            records.iter().map(|(value, record)| Tried { value: *value, record }).collect();
        let before =
            EdgeBelief::assumed(Domain::Core, 2_050.0, None, &Assumed::of_any(Domain::Core));
        let (after, surprise) = believe_all(before.clone(), &tried);
        assert_eq!(surprise.map(|found| (found.trial, found.failed)), expected, "{surprise:?}");
        let held = |belief: &EdgeBelief| belief.holds_to(24.0, 0.01, 0.99);
        let believed = believe(before, &tried);
        match expected {
            None => assert_eq!(held(&believed), held(&after)),
            Some(_) => assert!(held(&believed) < held(&after) - 1.0, "less is kept"),
        }
    }
}
