//! Undervolt-quiet: the work of stock for less voltage. It holds the clock at which the score is that of
//! stock, and banks the watts.

use crate::card::settings::Settings;
use crate::climb::search::depth::Depth;
use crate::climb::stages::rules::{SCORE_BY_CLOCK, Strategy, Walked};
use crate::climb::{Climb, Purpose, Stage};
use crate::statistics::mean;
use crate::units::Mhz;

/// Share by which the power follows the voltage: switching goes with its square, and is most of it.
const POWER_BY_VOLTAGE: f64 = 1.5;
/// Runs on the way down that tell which clock holds the score: the newest, since those before were
/// held back by power.
const TELLING_RUNS: usize = 4;
/// Share of the tolerance by which the score is let down on purpose: clock costs voltage.
const AIM: f64 = 0.7;
/// How often the clock that holds the score is corrected at most.
const MOST_CORRECTIONS: usize = 4;
/// Share of the clock expected to hold the score below which no correction goes: scores so far off
/// have another cause.
const LEAST_CLOCK: f64 = 0.8;

/// The stage.
pub(in crate::climb) struct UndervoltQuiet;

impl Strategy for UndervoltQuiet {
    /// No watts beyond stock's.
    fn base(&self, climb: &Climb, stage: Stage) -> Option<Settings> {
        Some(climb.with_limits_at_stock(climb.with_stock(self.domain(), stage)))
    }

    fn gives_score_up(&self) -> bool {
        true
    }

    fn holds_clock(&self) -> bool {
        true
    }

    fn top(&self, climb: &Climb, depth: &Depth, walked: &[Walked<'_>]) -> Option<Mhz> {
        depth.holds_clock().then(|| clock_to_hold(climb, depth, walked)).flatten()
    }

    fn worth(&self) -> f64 {
        POWER_BY_VOLTAGE
    }

    fn says_clock(&self) -> bool {
        true
    }
}

/// The clock at which the score is what is to be held: the average of stock at first, then set right
/// by what the first runs scored, and by those that measured what is kept.
fn clock_to_hold(climb: &Climb, depth: &Depth, walked: &[Walked<'_>]) -> Option<Mhz> {
    let plan = &climb.plan.undervolt_quiet;
    if plan.hold_mhz > 0.0 {
        return Some(depth.top(Mhz(plan.hold_mhz)));
    }
    let baseline = climb.baseline()?;
    let begin = baseline.average_clock.value();
    let wanted = plan.hold_percent - plan.tolerance_percent * AIM;
    let needed = baseline.score * wanted / 100.0;
    let slope = SCORE_BY_CLOCK * baseline.score / begin;
    let begin = begin + (needed - baseline.score) / slope;
    // The clock that each run says would have been right.
    let right = |walked: &Walked<'_>| {
        let score = climb.figure(walked.tried.record)?;
        Some(walked.top.value() + (needed - score) / slope)
    };
    let counts = |walked: &&Walked<'_>| walked.tried.proves() && !walked.tried.is_fault();
    let settled = |walked: &&Walked<'_>| walked.tried.record.purpose == Purpose::Settle;
    let told: Vec<f64> = walked
        .iter()
        .filter(counts)
        .rev()
        .filter(|walked| !settled(walked))
        .filter_map(right)
        .take(TELLING_RUNS)
        .collect();
    let long: Vec<f64> = walked.iter().filter(counts).filter(settled).filter_map(right).collect();
    let clock = match (mean(&long), mean(&told)) {
        (Some(long), _) => {
            // Once measured, it is moved only where it has to be, or where much is to be had.
            let newest = walked.iter().rfind(|walked| counts(walked) && settled(walked))?;
            let percent = climb.figure(newest.tried.record)? / baseline.score * 100.0;
            let least = plan.hold_percent - plan.tolerance_percent;
            let is_right = (least..=least + plan.tolerance_percent).contains(&percent);
            let corrected = walked.iter().filter(settled).count() > MOST_CORRECTIONS;
            match is_right || corrected {
                true => newest.top.value(),
                false if percent < least => long.max(newest.top.value() + depth.clock_step()),
                false => long.min(newest.top.value() - depth.clock_step()),
            }
        }
        (None, Some(told)) => told,
        (None, None) => begin,
    };
    Some(depth.top(Mhz(clock.max(begin * LEAST_CLOCK))))
}
