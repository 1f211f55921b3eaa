//! A walk down in voltage at one clock: how deep the card still holds.

use crate::climb::record::{Purpose, TrialRecord};
use crate::climb::search::bayesian::{is_lived_down, unrelated_faults};
use crate::climb::search::belief::{EdgeBelief, Prospect};
use crate::climb::search::depth::Depth;
use crate::judge::verdict::{Meaning, Verdict};
use crate::plan::Plan;
use crate::plan::Policy;
use crate::units::{Mhz, Seconds};

/// Lengths of trials that are considered, s.
const LENGTHS: [f64; 6] = [40.0, 80.0, 160.0, 320.0, 640.0, 1_280.0];
/// What a trial costs beside its load: applying, reading back, looking.
const AROUND_SECONDS: f64 = 10.0;
/// Depths that are considered at a time.
const MOST_DEPTHS: i32 = 14;
/// Standard deviations by which what is kept stays above what is likely.
const SURENESS: f64 = 2.0;
/// Share of belief that the band of a descent holds.
const BAND: f64 = 0.9;

/// A trial on the way down.
#[derive(Debug, Clone, Copy)]
pub(in crate::climb) struct Walked<'a> {
    pub depth: i32,
    /// Highest clock it held.
    pub top: Mhz,
    pub record: &'a TrialRecord,
}

impl Walked<'_> {
    fn meaning(&self) -> Meaning {
        self.record.verdict().meaning()
    }

    /// Whether the card failed, not merely was slow: slow is what some strategies want of it.
    pub(in crate::climb) fn is_fault(&self) -> bool {
        self.record.verdict().is_fault()
    }

    pub(in crate::climb) fn proves(&self) -> bool {
        self.meaning() != Meaning::ProvesNothing
    }

    /// Time under load until it failed or ended, hours.
    fn hours(&self) -> f64 {
        let fault = self.record.faults.iter().map(|fault| fault.at.value()).reduce(f64::min);
        let end = self.record.seconds.value();
        fault.filter(|_| self.is_fault()).unwrap_or(end).clamp(0.1, end.max(0.1)) / 3_600.0
    }
}

/// What a walk wants next.
#[derive(Debug, Clone, PartialEq)]
pub(in crate::climb) enum WalkStep {
    /// A trial so deep.
    Try { depth: i32, purpose: Purpose, seconds: Seconds, reason: String },
    /// So deep is what it comes to.
    Kept(i32),
    /// Runs there prove nothing again and again.
    Stuck(String),
}

/// What a walk works with.
#[derive(Debug, Clone)]
pub(in crate::climb) struct Walk<'a> {
    pub depth: Depth,
    pub plan: &'a Plan,
    pub tried: Vec<Walked<'a>>,
    /// Depth that a stepwise walk begins with; 0 for its first coarse step.
    pub start: i32,
    /// No deeper than this is worth having, where the trials told.
    pub cap: Option<i32>,
    /// Least depth that is as bold as what took the machine down: neither it nor more is tried.
    pub barred: Option<i32>,
    /// Trials there were when the climb was taken up last: those before are not held against a depth
    /// that is to be tried again.
    pub taken_up_after: usize,
    /// What a share of the voltage is worth, in shares of score or watts.
    pub worth: f64,
}

/// Deepest that held above everything that failed, and the least that failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::climb) struct Floor {
    pub held: i32,
    pub failed: Option<(i32, u32, Verdict)>,
}

impl<'a> Walk<'a> {
    fn fine(&self) -> i32 {
        self.depth.step()
    }

    pub(in crate::climb) fn floor(&self) -> Floor {
        let failed = self
            .tried
            .iter()
            .filter(|trial| trial.is_fault() || self.is_refused(trial))
            .min_by_key(|trial| trial.depth)
            .map(|trial| (trial.depth, trial.record.number, trial.record.verdict()));
        let held = self
            .tried
            .iter()
            .filter(|trial| trial.proves() && !trial.is_fault())
            .map(|trial| trial.depth)
            .filter(|depth| failed.is_none_or(|(least, ..)| *depth < least))
            .max()
            .unwrap_or(0);
        Floor { held, failed }
    }

    /// What the card would not take however often it was asked is as good as too deep.
    fn is_refused(&self, trial: &Walked<'_>) -> bool {
        trial.record.verdict() == Verdict::NotTaken
            && self.in_vain(trial.depth) > self.plan.rules.retries as usize
    }

    fn in_vain(&self, depth: i32) -> usize {
        self.in_vain_since(depth, 0)
    }

    fn in_vain_since(&self, depth: i32, after: usize) -> usize {
        self.tried
            .iter()
            .rev()
            .take_while(|trial| trial.record.number as usize > after)
            .filter(|trial| trial.depth == depth && !trial.record.was_stopped())
            .take_while(|trial| !trial.proves())
            .count()
    }

    fn capped(&self, depth: i32) -> i32 {
        self.cap.map_or(depth, |cap| depth.min(cap)).min(self.deepest()).max(0)
    }

    /// The deepest that may be tried.
    fn deepest(&self) -> i32 {
        let deepest = self.depth.deepest();
        self.barred.map_or(deepest, |barred| deepest.min(barred - self.fine())).max(0)
    }

    /// What is believed of the edge, in mV off.
    pub(in crate::climb) fn belief(&self) -> EdgeBelief {
        let mut belief = self.depth.belief();
        for trial in self.tried.iter().filter(|trial| trial.proves()) {
            let others = unrelated_faults(trial.record.verdict());
            belief.take(f64::from(trial.depth), trial.hours(), trial.is_fault(), others);
        }
        belief
    }

    /// What comes next. `ended` is set when no more trials are wanted.
    pub(in crate::climb) fn next(&self, ended: bool) -> WalkStep {
        match self.plan.policy {
            Policy::Bayesian => self.next_bayesian(ended),
            Policy::FixedStep | Policy::Bisection => self.next_stepwise(ended),
        }
    }

    /// As deep as is known to do now, no trial more.
    pub(in crate::climb) fn kept(&self) -> i32 {
        match self.next(true) {
            WalkStep::Kept(depth) => depth,
            WalkStep::Try { .. } | WalkStep::Stuck(_) => 0,
        }
    }

    /// As deep as the belief is sure enough of.
    fn believed(&self, belief: &EdgeBelief) -> i32 {
        let margin = self.plan.margin;
        let holds = belief.holds_to(margin.hours(), margin.faults(), margin.confidence());
        // Never where it was seen to fail, whatever is believed.
        let bound =
            self.least_that_fails().map_or(self.depth.deepest(), |depth| depth - self.fine());
        self.capped(self.depth.bin(holds.max(0.0)).min(bound))
    }

    /// The least depth that was seen to fail, faults left out that were lived down since.
    fn least_that_fails(&self) -> Option<i32> {
        let clean_since = |fault: &Walked<'_>| -> f64 {
            self.tried
                .iter()
                .filter(|later| later.record.number > fault.record.number)
                .filter(|later| later.depth >= fault.depth && later.proves() && !later.is_fault())
                .map(Walked::hours)
                .sum()
        };
        let refused = self.tried.iter().filter(|trial| self.is_refused(trial));
        let faults = self.tried.iter().filter(|trial| trial.is_fault()).filter(|fault| {
            !is_lived_down(fault.record.verdict(), fault.hours(), clean_since(fault))
        });
        faults.chain(refused).map(|trial| trial.depth).min()
    }

    fn next_bayesian(&self, ended: bool) -> WalkStep {
        let belief = self.belief();
        let kept = self.believed(&belief);
        if ended {
            return WalkStep::Kept(kept);
        }
        let price = self.plan.bayesian.worth_percent_per_minute * 2.0 / 100.0;
        if let Some((depth, seconds, prospect, _)) =
            self.weigh(&belief).filter(|best| best.3 > price)
        {
            let (low, high) = belief.band(BAND);
            let reason = format!(
                "The edge is probably between {} and {}. {} at {} teach most: a fault with {:.0} %, \
                 the machine down with {:.1} %.",
                self.depth.show(self.depth.bin(low)),
                self.depth.show(self.depth.bin(high)),
                Seconds(seconds).in_words(),
                self.depth.show(depth),
                prospect.fault * 100.0,
                prospect.machine_down * 100.0
            );
            let seconds = Seconds(seconds);
            return self.unless_stuck(depth, Purpose::Step, seconds, reason);
        }
        WalkStep::Kept(kept)
    }

    /// The trial that tells most for its time, within the bound on machine downs: how deep, how
    /// long, its prospect, and its worth per minute.
    fn weigh(&self, belief: &EdgeBelief) -> Option<(i32, f64, Prospect, f64)> {
        let margin = self.plan.margin;
        let (hours, faults) = (margin.hours(), margin.faults());
        let warm_up = self.plan.core.warm_up_seconds;
        let bound = self.plan.bayesian.most_machine_down_percent / 100.0;
        let refused = self.tried.iter().filter(|t| self.is_refused(t)).map(|t| t.depth).min();
        let per_millivolt = self.worth / self.depth.scale();
        let mut best: Option<(i32, f64, Prospect, f64)> = None;
        for depth in self.depths(belief) {
            // A depth that need not be reached is nothing to learn of.
            let needless = self.cap.is_some_and(|cap| depth > cap + 2 * self.fine());
            if needless || refused.is_some_and(|refused| depth >= refused) {
                continue;
            }
            for seconds in LENGTHS {
                let length = (warm_up + seconds) / 3_600.0;
                let prospect = belief.prospect(f64::from(depth), length, hours, faults);
                if prospect.machine_down > bound {
                    break;
                }
                let minutes = prospect.hours * 60.0 + (warm_up + AROUND_SECONDS) / 60.0;
                let worth = prospect.knowledge * per_millivolt * SURENESS / minutes;
                if best.is_none_or(|best| worth > best.3) {
                    best = Some((depth, seconds, prospect, worth));
                }
            }
        }
        best
    }

    /// Depths worth a thought: from what surely holds to where faults come at once.
    fn depths(&self, belief: &EdgeBelief) -> Vec<i32> {
        let (low, high) = belief.band(0.96);
        let low = self.depth.bin(low.max(0.0)).max(self.fine());
        let high = self.depth.bin(high + 0.02 * self.depth.scale());
        let step = ((high - low) / MOST_DEPTHS / self.fine()).max(1) * self.fine();
        (low..=high.max(low)).step_by(step as usize).filter(|d| *d <= self.deepest()).collect()
    }

    /// Down in coarse steps until something gives, then in fine ones (or by bisection), back off,
    /// confirm, and take the margin off.
    fn next_stepwise(&self, ended: bool) -> WalkStep {
        let floor = self.floor();
        if ended {
            return WalkStep::Kept(self.stepwise_kept(floor));
        }
        match self.step_down(floor).or_else(|| self.confirm(floor)) {
            None => WalkStep::Kept(self.stepwise_kept(floor)),
            Some((depth, purpose, seconds, reason)) => {
                self.unless_stuck(depth, purpose, Seconds(seconds), reason)
            }
        }
    }

    fn step_down(&self, floor: Floor) -> Option<(i32, Purpose, f64, String)> {
        let fine = self.fine();
        let coarse = (self.plan.voltage.coarse_step_mv / fine).max(1) * fine;
        let below = |depth: i32| {
            depth <= self.deepest()
                && self.cap.is_none_or(|cap| depth <= cap)
                && floor.failed.is_none_or(|(least, ..)| depth < least)
        };
        let depth = match (self.plan.policy, floor.failed) {
            (_, None)
                if floor.held == 0
                    && self.start > 0
                    && below(self.depth.bin(f64::from(self.start))) =>
            {
                self.depth.bin(f64::from(self.start))
            }
            (Policy::Bisection, Some((least, ..))) => {
                let steps = (least - floor.held) / fine;
                let halfway = floor.held + steps / 2 * fine;
                (steps >= 2 && halfway <= self.deepest()).then_some(halfway)?
            }
            _ => [coarse, fine].into_iter().map(|step| floor.held + step).find(|d| below(*d))?,
        };
        let held = match floor.held {
            0 => "Its voltage as it is holds".to_owned(),
            held => format!("It held at {}", self.depth.show(held)),
        };
        let reason = match floor.failed {
            None => format!("{held} and nothing has failed yet: on to {}.", self.depth.show(depth)),
            Some((least, _, verdict)) => format!(
                "{held}, and {} ended in {verdict}: {} lies between.",
                self.depth.show(least),
                self.depth.show(depth)
            ),
        };
        Some((depth, Purpose::Step, self.plan.voltage.seconds, reason))
    }

    fn candidate(&self, floor: Floor) -> i32 {
        let back_off = self.plan.voltage.back_off_steps * self.fine();
        let depth = match floor.failed {
            Some((least, ..)) => floor.held.min(least - back_off),
            None => floor.held,
        };
        self.capped(depth)
    }

    fn confirm(&self, floor: Floor) -> Option<(i32, Purpose, f64, String)> {
        let depth = self.candidate(floor);
        let wanted = self.plan.voltage.confirm_seconds;
        let has_confirmed = self.tried.iter().any(|trial| {
            trial.depth == depth
                && trial.proves()
                && !trial.is_fault()
                && trial.record.seconds.value() >= wanted
        });
        if depth == 0 || has_confirmed {
            return None;
        }
        let shown = self.depth.show(depth);
        let length = Seconds(wanted).in_words();
        let reason = match floor.failed {
            Some((least, trial, verdict)) => format!(
                "It held at {}, and at {} trial {trial} ended in {verdict}: {length} without a fault \
                 is to confirm {shown}.",
                self.depth.show(floor.held),
                self.depth.show(least)
            ),
            None => format!("Nothing failed as far down as {shown}: {length} is to confirm it."),
        };
        Some((depth, Purpose::Confirm, wanted, reason))
    }

    fn stepwise_kept(&self, floor: Floor) -> i32 {
        let steps = self.plan.margin.fine_steps(self.plan.voltage.margin_steps);
        (self.candidate(floor) - steps * self.fine()).max(0)
    }

    fn unless_stuck(
        &self,
        depth: i32,
        purpose: Purpose,
        seconds: Seconds,
        reason: String,
    ) -> WalkStep {
        let in_vain = self.in_vain_since(depth, self.taken_up_after);
        let last = self
            .tried
            .iter()
            .rev()
            .find(|trial| trial.depth == depth && !trial.record.was_stopped());
        let shown = self.depth.show(depth);
        let reason = match last.filter(|_| in_vain > 0) {
            None => reason,
            Some(last) if in_vain > self.plan.rules.retries as usize => {
                return WalkStep::Stuck(format!(
                    "The last {in_vain} runs at {shown} prove nothing. {} Close what else uses the \
                     card, or end the stage to keep what is known.",
                    last.record.reason
                ));
            }
            Some(last) => format!(
                "Trial {} proves nothing ({}): {shown} once more.",
                last.record.number,
                last.record.verdict()
            ),
        };
        WalkStep::Try { depth, purpose, seconds, reason }
    }

    /// What there is to draw of the walk.
    pub(in crate::climb) fn descent(&self, base: Option<f64>, next: Option<i32>) -> Descent {
        let floor = self.floor();
        let is_begun = !self.tried.is_empty();
        let shows = is_begun || self.plan.policy == Policy::Bayesian;
        Descent {
            depth: self.depth,
            trials: self
                .tried
                .iter()
                .map(|trial| DescentTrial {
                    number: trial.record.number,
                    depth: trial.depth,
                    top: trial.top,
                    verdict: trial.record.verdict(),
                    gain_percent: trial
                        .record
                        .score
                        .zip(base)
                        .map(|(score, base)| crate::judge::verdict::gain_percent(score, base)),
                })
                .collect(),
            held: floor.held,
            failed: floor.failed.map(|(depth, ..)| depth),
            band: shows.then(|| {
                let (low, high) = self.belief().band(BAND);
                (self.depth.bin(low), self.depth.bin(high))
            }),
            kept: is_begun.then(|| self.kept()),
            next,
        }
    }
}

/// One trial on the way down.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DescentTrial {
    /// Its number.
    pub number: u32,
    /// Millivolts taken off.
    pub depth: i32,
    /// Highest clock it held.
    pub top: Mhz,
    /// Its verdict.
    pub verdict: Verdict,
    /// Gain of its score over the baseline, percent.
    pub gain_percent: Option<f64>,
}

/// Trial after trial of a walk down, each at the depth that it tried, in mV taken off.
#[derive(Debug, Clone, PartialEq)]
pub struct Descent {
    /// The scale.
    pub depth: Depth,
    /// The trials, in order.
    pub trials: Vec<DescentTrial>,
    /// Deepest that held.
    pub held: i32,
    /// Least deep that failed.
    pub failed: Option<i32>,
    /// Where the edge is believed, with 90 %; none before there is anything to go by.
    pub band: Option<(i32, i32)>,
    /// What would be kept now.
    pub kept: Option<i32>,
    /// The depth proposed next.
    pub next: Option<i32>,
}
