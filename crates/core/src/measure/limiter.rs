//! What keeps the clock from being higher: read from the sensors alone, so that it works on every
//! card, whether or not the card names its reason.

use serde::{Deserialize, Serialize};

use crate::card::description::CardLimits;
use crate::card::settings::Settings;
use crate::measure::sample::Sample;
use crate::measure::strip::Merge;
use crate::units::{Celsius, Mhz, Millivolt, Watt};

/// What limits the clock at one instant.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    strum::EnumCount,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
pub enum Limiter {
    /// The load does not fill the card.
    #[strum(to_string = "load")]
    Load,
    /// The temperature target.
    #[strum(to_string = "heat")]
    Heat,
    /// The power limit.
    #[strum(to_string = "power")]
    Power,
    /// The voltage ceiling: the top of the V/F curve is reached.
    #[strum(to_string = "voltage")]
    Voltage,
    /// None of these, as far as the sensors tell.
    #[strum(to_string = "unknown")]
    Unknown,
    /// The limit on the current into the chip.
    #[strum(to_string = "current")]
    Current,
    /// The highest clock that was set.
    #[strum(to_string = "window")]
    Window,
    /// The frame cap.
    #[strum(to_string = "frame cap")]
    FrameCap,
}

impl Limiter {
    /// Every limiter.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::Load,
        Self::Heat,
        Self::Power,
        Self::Voltage,
        Self::Unknown,
        Self::Current,
        Self::Window,
        Self::FrameCap,
    ];

    /// The trade's word.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }
}

/// Below this load the card is not filled.
pub const FULL_LOAD_PERCENT: f64 = 90.0;
/// Power from this share of the limit on counts as being at it: boards regulate a little below.
const POWER_SHARE: f64 = 0.975;
/// A frame rate from this share of the cap on counts as being at it: in a tenth of a second there are
/// only a few frames to count.
const CAP_SHARE: f64 = 0.5;
/// Degrees below the target from which on the card counts as being at it.
const HEAT_BAND: f64 = 2.0;
/// Millivolts below the ceiling from which on the voltage counts as being at it: a card gives up a
/// few bins at the top of its curve as it warms, long before its temperature target.
const VOLTAGE_BAND: f64 = 40.0;

/// Names the limiter of one sample under the settings the card holds.
///
/// Tested in the order frame cap, load, heat, power, current, window, voltage: a capped or idle
/// card is cool and frugal for want of work, a hot card drops its clock below what power would
/// allow, and a clock that stops at the window's top could go on up the curve.
#[must_use]
pub fn attribute(sample: &Sample, taken: &Settings, limits: &CardLimits) -> Limiter {
    // What a card does not state cannot be reached.
    let unbounded = f64::INFINITY;
    let power_limit = taken.power_limit.or(limits.power_limit).map_or(unbounded, Watt::value);
    let target = taken.temperature_target.or(limits.temperature_target);
    let target = target.map_or(unbounded, Celsius::value);
    let at_least = |reading: Option<f64>, bound: f64| reading.is_some_and(|value| value >= bound);

    let current =
        sample.chip_power.zip(sample.voltage).map(|(p, v)| p.value() / v.value() * 1_000.0);
    let current_limit = limits.current.map_or(unbounded, |limit| limit.value());
    let cap = taken.frame_cap.map_or(f64::INFINITY, f64::from);
    let window = taken.clock_maximum.unwrap_or(Mhz(f64::INFINITY)) - limits.clock_bin;

    // A flattened curve ends at its own voltage.
    let ceiling = taken
        .curve
        .map(|curve| f64::from(curve.flat_from().millivolt))
        .or(limits.voltage_ceiling.map(Millivolt::value))
        .unwrap_or(unbounded);

    let is_idle = sample.load.is_some_and(|load| load.value() < FULL_LOAD_PERCENT);

    if is_idle && at_least(sample.frame_rate, cap * CAP_SHARE) {
        Limiter::FrameCap
    } else if is_idle {
        Limiter::Load
    } else if at_least(sample.core_temperature.map(|t| t.value()), target - HEAT_BAND) {
        Limiter::Heat
    } else if at_least(sample.board_power.map(|p| p.value()), power_limit * POWER_SHARE) {
        Limiter::Power
    } else if at_least(current, current_limit * POWER_SHARE) {
        Limiter::Current
    } else if sample.core_clock.is_some_and(|clock| clock > window) {
        Limiter::Window
    } else if at_least(sample.voltage.map(|v| v.value()), ceiling - VOLTAGE_BAND) {
        Limiter::Voltage
    } else {
        Limiter::Unknown
    }
}

/// Share of samples per limiter.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct LimiterShares {
    counts: [u64; Limiter::ALL.len()],
}

impl Merge for LimiterShares {
    fn merge(mut self, other: Self) -> Self {
        for (count, more) in self.counts.iter_mut().zip(other.counts) {
            *count += more;
        }
        self
    }
}

impl LimiterShares {
    /// One sample, limited so.
    #[must_use]
    pub fn of(limiter: Limiter) -> Self {
        let mut shares = Self::default();
        shares.push(limiter);
        shares
    }

    /// Counts one sample.
    pub fn push(&mut self, limiter: Limiter) {
        self.counts[limiter as usize] += 1;
    }

    /// Share of one limiter, 0 to 1; 0 while nothing was counted.
    #[must_use]
    pub fn share(&self, limiter: Limiter) -> f64 {
        let total: u64 = self.counts.iter().sum();
        if total == 0 { 0.0 } else { self.counts[limiter as usize] as f64 / total as f64 }
    }

    /// The limiter with the largest share; none while nothing was counted.
    #[must_use]
    pub fn largest(&self) -> Option<Limiter> {
        Limiter::ALL
            .into_iter()
            .filter(|limiter| self.counts[*limiter as usize] > 0)
            .max_by_key(|limiter| self.counts[*limiter as usize])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::{card, sample};
    use crate::units::{Ampere, Celsius, Millivolt, Percent, Watt};
    use rstest::rstest;

    #[rstest]
    #[case::idle(|s: &mut Sample| s.load = Some(Percent(70.0)), Limiter::Load)]
    #[case::hot(|s: &mut Sample| s.core_temperature = Some(Celsius(83.0)), Limiter::Heat)]
    #[case::at_power(|s: &mut Sample| s.board_power = Some(Watt(219.0)), Limiter::Power)]
    #[case::at_ceiling(|s: &mut Sample| s.voltage = Some(Millivolt(1_080.0)), Limiter::Voltage)]
    #[case::nothing(|_: &mut Sample| (), Limiter::Unknown)]
    #[case::hot_and_at_power(
        |s: &mut Sample| { s.core_temperature = Some(Celsius(84.0)); s.board_power = Some(Watt(220.0)); },
        Limiter::Heat
    )]
    #[case::sensors_missing(|s: &mut Sample| *s = Sample::default(), Limiter::Unknown)]
    fn the_limiter_is_read_from_the_sensors(
        #[case] change: impl Fn(&mut Sample),
        #[case] expected: Limiter,
    ) {
        let mut reading = sample();
        change(&mut reading);
        let card = card();
        assert_eq!(attribute(&reading, &Settings::stock(&card), &card.limits), expected);
    }

    #[test]
    fn a_raised_power_limit_moves_the_bound() {
        let card = card();
        let mut reading = sample();
        reading.board_power = Some(Watt(219.0));
        let raised = Settings { power_limit: Some(Watt(260.0)), ..Settings::stock(&card) };
        assert_eq!(attribute(&reading, &raised, &card.limits), Limiter::Unknown);
    }

    #[test]
    fn shares_add_up_to_the_whole() {
        let mut shares = LimiterShares::default();
        assert_eq!(shares.largest(), None);
        for limiter in [Limiter::Power, Limiter::Power, Limiter::Voltage, Limiter::Load] {
            shares.push(limiter);
        }
        assert_eq!(shares.share(Limiter::Power), 0.5);
        assert_eq!(shares.largest(), Some(Limiter::Power));
        assert_eq!(Limiter::ALL.map(|l| shares.share(l)).iter().sum::<f64>(), 1.0);
    }

    #[rstest]
    #[case::cap_not_felt(Settings { frame_cap: Some(20), ..Settings::default() }, None, Limiter::Unknown)]
    #[case::window(Settings { clock_maximum: Some(Mhz(2_010.0)), ..Settings::default() }, None, Limiter::Window)]
    #[case::wide_window(Settings { clock_maximum: Some(Mhz(2_300.0)), ..Settings::default() }, None, Limiter::Unknown)]
    #[case::current(Settings::default(), Some(152.0), Limiter::Current)]
    #[case::current_to_spare(Settings::default(), Some(200.0), Limiter::Unknown)]
    fn cap_window_and_current_are_told(
        #[case] taken: Settings,
        #[case] current: Option<f64>,
        #[case] expected: Limiter,
    ) {
        let mut limits = card().limits;
        limits.current = current.map(Ampere);
        let reading = Sample { chip_power: Some(Watt(150.0)), ..sample() };
        assert_eq!(attribute(&reading, &taken, &limits), expected);
    }

    #[test]
    fn a_limit_that_a_card_does_not_state_holds_nothing_back() {
        let mut limits = card().limits;
        let hot_and_hungry = Sample {
            board_power: Some(Watt(900.0)),
            core_temperature: Some(Celsius(99.0)),
            voltage: Some(Millivolt(1_400.0)),
            ..sample()
        };
        let attribute =
            |limits: &CardLimits| attribute(&hot_and_hungry, &Settings::default(), limits);
        assert_eq!(attribute(&limits), Limiter::Heat);
        limits.temperature_target = None;
        assert_eq!(attribute(&limits), Limiter::Power);
        limits.power_limit = None;
        assert_eq!(attribute(&limits), Limiter::Voltage);
        limits.voltage_ceiling = None;
        assert_eq!(attribute(&limits), Limiter::Unknown);
    }

    #[rstest]
    #[case(20, Limiter::FrameCap)]
    #[case(60, Limiter::Load)]
    fn a_card_that_idles_does_so_for_its_cap_or_for_want_of_work(
        #[case] cap: u32,
        #[case] expected: Limiter,
    ) {
        let card = card();
        let reading = Sample { load: Some(Percent(70.0)), ..sample() };
        let taken = Settings { frame_cap: Some(cap), ..Settings::stock(&card) };
        assert_eq!(attribute(&reading, &taken, &card.limits), expected);
    }
}
