//! Undervolt-clock: less voltage for more clock, on a card that its power limit holds back. It goes down
//! until the clock line is flat, or the card gets slower.

use crate::card::description::SettingKind;
use crate::card::settings::Settings;
use crate::climb::search::depth::Depth;
use crate::climb::stages::rules::{Strategy, Walked};
use crate::climb::stages::undervolt::held_by_power;
use crate::climb::{Climb, OtherLimit};
use crate::judge::verdict::Verdict;
use crate::plan::UndervoltClockPlan;
use crate::units::{Mhz, Watt};

/// Watts by which two averages differ that can be told apart.
const TOLD_APART: f64 = 0.2;

/// The stage.
pub(in crate::climb) struct UndervoltClock;

impl Strategy for UndervoltClock {
    fn holds_clock(&self) -> bool {
        true
    }

    fn top(&self, climb: &Climb, depth: &Depth, _walked: &[Walked<'_>]) -> Option<Mhz> {
        depth.holds_clock().then_some(climb.card.limits.highest_clock)
    }

    /// The depth from which on the clock line is flat, or the card gets slower.
    fn cap(&self, climb: &Climb, walked: &[Walked<'_>], step: i32) -> Option<i32> {
        let below = climb.plan.undervolt_clock.flat_below_percent / 100.0;
        let of = |verdict| walked.iter().filter(move |walked| walked.tried.verdict() == verdict);
        let flat = of(Verdict::Clean)
            .filter(|walked| held_by_power(walked.tried.record) < below)
            .map(|walked| walked.tried.value)
            .min();
        let slow = of(Verdict::Slower).map(|walked| walked.tried.value - step).min();
        [flat, slow].into_iter().flatten().min()
    }

    fn other_limit(&self, climb: &Climb, settings: &Settings) -> Option<(Settings, OtherLimit)> {
        let more = with_more_limit(climb, settings);
        let less = || with_less_limit(climb, settings);
        more.map(|more| (more, OtherLimit::Dips))
            .or_else(|| less().map(|less| (less, OtherLimit::DrawsNoLess)))
    }
}

/// The same settings with the little more power limit that the plan gives a cooler card whose clock
/// line still dips.
fn with_more_limit(climb: &Climb, settings: &Settings) -> Option<Settings> {
    let UndervoltClockPlan { flat_below_percent, more_power_percent } = climb.plan.undervolt_clock;
    let dips = climb.measured(settings)?.held_by_power * 100.0 >= flat_below_percent;
    if more_power_percent <= 0.0 || !dips {
        return None;
    }
    let offer = climb.card.offer(SettingKind::PowerLimit)?;
    let limit = offer.bin(offer.stock? * (1.0 + more_power_percent / 100.0));
    Some(Settings { power_limit: Some(Watt(limit)), ..*settings })
}

/// The same settings with a power limit one step lower, where a cooler card draws no less than at
/// stock, so far as can be told: it comes closer to its limit than a ragged clock did.
fn with_less_limit(climb: &Climb, settings: &Settings) -> Option<Settings> {
    if climb.plan.undervolt_clock.more_power_percent > 0.0 {
        return None;
    }
    let now = climb.measured(settings)?.power?;
    let stock = climb.measured_baseline()?.power?;
    let offer = climb.card.offer(SettingKind::PowerLimit)?;
    let limit = offer.bin(settings.get(offer.kind).or(offer.stock)? - offer.step);
    let draws_less = now.value() + TOLD_APART < stock.value();
    (!draws_less).then_some(Settings { power_limit: Some(Watt(limit)), ..*settings })
}
