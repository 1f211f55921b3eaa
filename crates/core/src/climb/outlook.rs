//! How much of a climb is left, as a range that is right nine times out of ten.
//!
//! A climb by steps is played forward, trial by trial, on imagined cards that are drawn from what is
//! believed of the real one; what the plan would do then is done, and counted.
//!
//! A bayesian climb thinks too long over each trial for that. How many trials and minutes its stages
//! take was counted in a study ([`FIRST`], [`SECOND`], [`LATER`]); what a stage has behind it rules out those
//! that were over by then.

use crate::climb::stages::rules::ToGo;
use crate::climb::{Climb, ClimbEvent, Next, Stage, TrialRecord, TrialRequest};
use crate::judge::verdict::{Fault, Verdict};
use crate::load::artifact::Domain;
use crate::measure::clock_line::ClockLine;
use crate::measure::monitor::Seen;
use crate::plan::Policy;
use crate::statistics::mean;
use crate::units::{Mhz, Percent, Seconds};

/// Cards imagined for one outlook.
const CARDS: u64 = 24;
/// Trials after which a climb played forward is given up.
const MOST_TRIALS: usize = 120;
/// Shares of the imagined climbs below and above the range that is told.
const TAIL: f64 = 0.04;

/// What is left of something, from few to many.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Left {
    /// Trials, at the least and at the most.
    pub trials: (usize, usize),
    /// Their time under load, at the least and at the most.
    pub seconds: (Seconds, Seconds),
}

/// Trials and minutes that 5, 15, … 95 % of some climbs did not exceed in a stage.
type Took = (Stage, [f64; 10], [f64; 10]);

/// What a bayesian climb's stages took where it was the first on its kind of card, in a study of the default plan on 1,275
/// stand-ins of all families that ship, seeds 4000 to 4074. The baseline and the power stage are counted by their plans
/// instead.
const FIRST: [Took; 3] = [
    (
        Stage::Core,
        [7.0, 10.0, 12.0, 14.0, 16.0, 18.0, 19.0, 21.0, 24.0, 28.0],
        [13.0, 19.0, 28.0, 31.0, 36.0, 41.0, 47.0, 59.0, 70.0, 98.0],
    ),
    (
        Stage::Memory,
        [1.0, 2.0, 2.0, 3.0, 3.0, 4.0, 6.0, 7.0, 9.0, 15.0],
        [1.0, 2.0, 2.0, 2.0, 3.0, 5.0, 9.0, 14.0, 20.0, 43.0],
    ),
    (
        Stage::Together,
        [0.0, 0.0, 0.0, 3.0, 3.0, 4.0, 5.0, 6.0, 7.0, 12.0],
        [0.0, 0.0, 0.0, 12.0, 17.0, 22.0, 29.0, 38.0, 51.0, 78.0],
    ),
];
/// The same where it had learnt from one or two others on its kind.
const SECOND: [Took; 3] = [
    (
        Stage::Core,
        [4.0, 6.0, 7.0, 9.0, 10.0, 11.0, 13.0, 16.0, 20.0, 30.0],
        [4.0, 7.0, 10.0, 12.0, 17.0, 20.0, 27.0, 40.0, 54.0, 82.0],
    ),
    (
        Stage::Memory,
        [1.0, 2.0, 2.0, 3.0, 4.0, 4.0, 5.0, 6.0, 8.0, 11.0],
        [1.0, 1.0, 2.0, 2.0, 3.0, 5.0, 7.0, 9.0, 13.0, 24.0],
    ),
    (
        Stage::Together,
        [0.0, 0.0, 0.0, 0.0, 3.0, 4.0, 5.0, 7.0, 8.0, 16.0],
        [0.0, 0.0, 0.0, 0.0, 12.0, 18.0, 22.0, 31.0, 42.0, 70.0],
    ),
];
/// The same where it had learnt from more.
const LATER: [Took; 3] = [
    (
        Stage::Core,
        [3.0, 4.0, 6.0, 7.0, 8.0, 10.0, 11.0, 13.0, 16.0, 22.0],
        [2.0, 4.0, 6.0, 9.0, 12.0, 15.0, 17.0, 23.0, 33.0, 58.0],
    ),
    (
        Stage::Memory,
        [1.0, 1.0, 2.0, 2.0, 3.0, 3.0, 4.0, 6.0, 8.0, 12.0],
        [1.0, 1.0, 2.0, 2.0, 2.0, 4.0, 5.0, 8.0, 12.0, 21.0],
    ),
    (
        Stage::Together,
        [0.0, 0.0, 0.0, 2.0, 4.0, 5.0, 6.0, 7.0, 9.0, 18.0],
        [0.0, 0.0, 0.0, 11.0, 15.0, 19.0, 25.0, 32.0, 40.0, 78.0],
    ),
];
/// Standard deviations to each side that hold nine of ten. Of a normal distribution 1.645 would; but a card that takes long in
/// one stage takes long in the next, too, some take very long, and some that fail at stock are through at once.
const NINE_OF_TEN: f64 = 2.8;
/// Share of runs that are spoilt by something else and made again.
const SPOILT: f64 = 0.12;

/// How much is left, with 90 % or so.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Outlook {
    /// Of the present stage.
    pub stage: Left,
    /// Of the whole climb.
    pub climb: Left,
}

/// Mean and variance of what is left.
#[derive(Debug, Clone, Copy, Default)]
struct Spread {
    trials: (f64, f64),
    minutes: (f64, f64),
}

impl Spread {
    fn add(&mut self, other: Self) {
        let sum = |a: (f64, f64), b: (f64, f64)| (a.0 + b.0, a.1 + b.1);
        self.trials = sum(self.trials, other.trials);
        self.minutes = sum(self.minutes, other.minutes);
    }

    fn range(self) -> Left {
        let range = |(mean, variance): (f64, f64)| {
            let wide = NINE_OF_TEN * variance.sqrt();
            ((mean - wide).max(0.0), mean + wide)
        };
        let ((few, many), (short, long)) = (range(self.trials), range(self.minutes));
        Left {
            trials: ((few.floor() as usize).max(usize::from(many > 0.0)), many.ceil() as usize),
            seconds: (Seconds(short * 60.0), Seconds(long * 60.0)),
        }
    }
}

/// Mean and variance of what is left of those that took more than is done, which may be nothing before the first trial;
/// up to as much again where it has outlasted them all.
fn beyond(all: &[f64], done: f64, least: f64) -> (f64, f64) {
    let at_least = if done > 0.0 { least } else { 0.0 };
    let left = all.iter().map(|took| took - done).filter(|left| *left >= at_least);
    let left: Vec<f64> = left.collect();
    // What has outlasted all that was seen goes on for about as long again as it has taken, or is over soon.
    let left = if left.is_empty() { vec![least, done * 0.4, done * 0.8] } else { left };
    let mean = mean(&left).unwrap_or(least);
    let variance = left.iter().map(|value| (value - mean).powi(2)).sum::<f64>();
    (mean, variance / left.len() as f64 + (0.3 * mean).powi(2))
}

/// A card that might be this one.
struct Imagined {
    /// Edge and e-fold of core and memory, MHz.
    core: (f64, f64),
    memory: (f64, f64),
    /// What each loses when the other is at its edge, MHz.
    together: (f64, f64),
    /// Edge and e-fold of voltage taken off, mV.
    depth: (f64, f64),
    base: f64,
    scatter: f64,
    dice: Dice,
}

/// SplitMix64 (Steele, Lea and Flood 2014): the same climb has the same outlook.
struct Dice(u64);

impl Dice {
    fn roll(&mut self) -> f64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) >> 11) as f64 / (1_u64 << 53) as f64
    }
}

impl Climb {
    /// How much is left.
    #[must_use]
    pub fn outlook(&self) -> Outlook {
        match self.plan.policy {
            Policy::Bayesian => self.outlook_by_study(),
            Policy::FixedStep | Policy::Bisection => self.outlook_by_playing(),
        }
    }

    /// What is left by what the stages of other cards took.
    fn outlook_by_study(&self) -> Outlook {
        let present = self.stage();
        let (mut stage, mut climb) = (Spread::default(), Spread::default());
        for planned in &self.stages {
            if self.is_done(*planned) && (self.has_begun(*planned) || self.is_over(*planned)) {
                continue;
            }
            let left = self.left_of_stage(*planned);
            climb.add(left);
            if *planned == present {
                stage.add(left);
            }
        }
        Outlook { stage: stage.range(), climb: climb.range() }
    }

    /// Mean and variance of the trials and of the minutes that a stage still takes.
    fn left_of_stage(&self, stage: Stage) -> Spread {
        let done = self.counted_of(stage);
        let (trials, minutes) = done.fold((0.0, 0.0), |(trials, minutes), trial| {
            (trials + 1.0, minutes + trial.seconds.value() / 60.0)
        });
        let took = match self.experience.climbs {
            0 => &FIRST,
            1 | 2 => &SECOND,
            _ => &LATER,
        };
        if let Some((_, all_trials, all_minutes)) = took.iter().find(|of| of.0 == stage) {
            return Spread {
                trials: beyond(all_trials, trials, 1.0),
                minutes: beyond(all_minutes, minutes, 1.0),
            };
        }
        let ToGo { trials: wanted, seconds } = stage.rules().to_go(self, trials);
        let warm = self.plan.core.warm_up_seconds;
        // A cold card warms up first: for how long, only it knows.
        let cold = if self.trials.is_empty() { self.plan.baseline.warm_up_seconds } else { 0.0 };
        let each = (seconds + warm * 2.0) / 60.0;
        let variance = wanted * SPOILT;
        Spread {
            trials: (wanted * (1.0 + SPOILT), variance),
            minutes: (
                wanted * each * (1.0 + SPOILT) + cold * 0.6 / 60.0,
                variance * each * each + (cold * 0.2 / 60.0).powi(2),
            ),
        }
    }

    /// What is left by playing the climb forward.
    fn outlook_by_playing(&self) -> Outlook {
        let stage = self.stage();
        let plays: Vec<[(usize, f64); 2]> =
            (0..CARDS).map(|number| self.played_forward(stage, number)).collect();
        let range = |which: usize| {
            let mut trials: Vec<usize> = plays.iter().map(|play| play[which].0).collect();
            let mut seconds: Vec<f64> = plays.iter().map(|play| play[which].1).collect();
            trials.sort_unstable();
            seconds.sort_by(f64::total_cmp);
            let low = (TAIL * CARDS as f64).floor() as usize;
            let high = CARDS as usize - 1 - low;
            Left {
                trials: (trials[low], trials[high]),
                seconds: (Seconds(seconds[low]), Seconds(seconds[high])),
            }
        };
        Outlook { stage: range(0), climb: range(1) }
    }

    /// Trials and seconds to the end of `stage` and of the climb on one imagined card.
    fn played_forward(&self, stage: Stage, number: u64) -> [(usize, f64); 2] {
        let mut climb = Self { nudged: None, wished: None, ..self.clone() };
        let mut card = self.imagine(number);
        let mut left = [(0, 0.0); 2];
        for _ in 0..MOST_TRIALS {
            let Next::Trial(proposal) = climb.next() else { break };
            let record = card.try_out(&climb, &proposal.request);
            let seconds = record.seconds.value();
            for (place, (trials, time)) in left.iter_mut().enumerate() {
                if place == 1 || proposal.request.stage == stage {
                    *trials += 1;
                    *time += seconds;
                }
            }
            climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        }
        left
    }

    /// A card drawn from what is believed.
    fn imagine(&self, number: u64) -> Imagined {
        let mut dice = Dice(number.wrapping_mul(0x5851_f42d_4c95_7f2d) + self.trials.len() as u64);
        let mut draw = |domain| self.belief(domain).map_or((1e9, 1.0), |b| b.draw(dice.roll()));
        let (core, memory) = (draw(Domain::Core), draw(Domain::Memory));
        let clock = |domain| self.axis(domain).map_or(0.0, |axis| axis.clock);
        let together =
            (clock(Domain::Core) * 0.03 * dice.roll(), clock(Domain::Memory) * 0.03 * dice.roll());
        let strategy =
            self.stages.iter().find(|stage| stage.is_undervolting() && !self.is_done(**stage));
        let depth = strategy
            .and_then(|stage| self.belief_of_strategy(*stage))
            .map_or((1e9, 1.0), |belief| belief.draw(dice.roll()));
        Imagined {
            core,
            memory,
            together,
            depth,
            base: self.baseline().map_or(1_000.0, |baseline| baseline.score),
            scatter: self.scatter(),
            dice,
        }
    }
}

impl Imagined {
    /// Faults per hour at a place on the map.
    fn rate(&self, core: f64, memory: f64) -> f64 {
        let share = |value: f64, edge: f64| (value / edge.max(1.0)).clamp(0.0, 1.5);
        let lost = (
            self.together.0 * share(memory, self.memory.0),
            self.together.1 * share(core, self.core.0),
        );
        let rate = |value: f64, (edge, e_fold): (f64, f64), lost: f64| {
            ((value - edge + lost) / e_fold).min(15.0).exp() / 24.0
        };
        rate(core, self.core, lost.0) + rate(memory, self.memory, lost.1)
    }

    /// A trial as it might go.
    fn try_out(&mut self, climb: &Climb, request: &TrialRequest) -> TrialRecord {
        let value =
            |domain| climb.axis(domain).map_or(0.0, |axis| f64::from(axis.read(&request.asked).0));
        let (core, memory) = (value(Domain::Core), value(Domain::Memory));
        let depth = climb.depth_of(request.stage).and_then(|depth| depth.read(&request.asked));
        let past = depth.map_or(-50.0, |(at, _)| (f64::from(at) - self.depth.0) / self.depth.1);
        let rate = self.rate(core, memory) + past.min(15.0).exp() / 24.0;
        let wait = -(1.0 - self.dice.roll()).ln() / rate * 3_600.0;
        // One run in twelve is spoilt by something else.
        let spoilt = self.dice.roll() < 1.0 / 12.0;
        let (verdict, seconds) = match wait < request.seconds.value() {
            true => (Verdict::LoadDied, Seconds(wait)),
            false if spoilt => (Verdict::Void, request.seconds),
            false => (Verdict::Clean, request.seconds),
        };
        let clock = |domain| climb.axis(domain).map_or(1.0, |axis| axis.clock);
        let powered = if request.stage == Stage::Baseline { 0.0 } else { 0.02 };
        let gain =
            powered + 0.75 * core / clock(Domain::Core) + 0.12 * memory / clock(Domain::Memory);
        // The sum of four dice is near enough to a normal scatter.
        let scatter: f64 = (0..4).map(|_| self.dice.roll() - 0.5).sum::<f64>() * 1.73;
        let fault = Fault::at(seconds, verdict.label());
        let number = climb.trials().len() as u32 + 1;
        TrialRecord {
            taken: Some(request.asked),
            seen: Seen {
                seconds,
                clock_line: Some(ClockLine {
                    average: Mhz(2_000.0),
                    flatness: Percent(50.0),
                    ..ClockLine::default()
                }),
                ..Seen::default()
            },
            seconds,
            score: Some(self.base * (1.0 + gain) * (1.0 + self.scatter * scatter)),
            faults: if verdict == Verdict::LoadDied { vec![fault] } else { Vec::new() },
            ..request.judged(number, verdict, String::new())
        }
    }
}
