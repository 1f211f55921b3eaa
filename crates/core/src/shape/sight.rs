//! A curve as it was asked, as it was taken, and where the card is seen on it: the differences, each
//! with its reason.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::measure::limiter::{Limiter, attribute};
use crate::measure::sample::Sample;
use crate::shape::VfCurve;
use crate::units::{Celsius, Mhz, Millivolt};

/// Bins that a warm card may have given up; what is more has another reason.
const MOST_BY_WARMTH: i32 = 12;

/// What there is to say of a curve that a card holds.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Sight {
    /// What became of the asked curve; none where the card holds it as asked.
    pub taken: Option<Taken>,
    /// Where the card is now, under load; none while it idles.
    pub at: Option<(Millivolt, Mhz)>,
    /// How that lies on the curve.
    pub place: Option<Place>,
}

/// How a curve that a card holds differs from what was asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Taken {
    /// What the card took is not known.
    Unknown,
    /// Points lie lower, since the card counts clocks in bins.
    Rounded {
        /// How many.
        points: usize,
        /// The bin, MHz.
        bin: u16,
    },
    /// It is another curve: the card did not take what was asked.
    Other {
        /// Points that lie elsewhere.
        points: usize,
        /// By how much, at most, MHz.
        most: u16,
    },
}

/// Where a card under load is on its curve.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Place {
    /// At its top.
    Top,
    /// Below the lowest clock it was asked to hold.
    BelowLeast(Mhz),
    /// Below its top.
    Below {
        /// How many bins.
        bins: i32,
        /// A bin.
        bin: Mhz,
        /// What holds it back; none where it is not known.
        by: Option<HeldBy>,
        /// Core temperature.
        core_temperature: Option<Celsius>,
    },
}

/// What holds a card below the top of its curve.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HeldBy {
    /// The power limit.
    Power,
    /// The current limit.
    Current,
    /// A temperature limit.
    Heat,
    /// Too little to do, or a frame cap.
    Load,
    /// Boost bins given up by a warm card.
    Warmth,
}

/// Holds what was asked against what was taken and what a sample says. A sample of a card without
/// work says nothing of its curve.
#[must_use]
pub fn sight(
    card: &CardDescription,
    asked: &Settings,
    taken: Option<&Settings>,
    sample: Option<&Sample>,
) -> Sight {
    let Some(taken) = taken else {
        return Sight { taken: Some(Taken::Unknown), ..Sight::default() };
    };
    let busy = |sample: &&Sample| sample.load.is_some_and(|load| load.value() > 5.0);
    let sample = sample.filter(busy);
    let at = sample.and_then(|sample| sample.voltage.zip(sample.core_clock));
    let place = sample.zip(at).map(|(sample, (_, clock))| place(card, taken, sample, clock));
    Sight { taken: difference(card, asked, taken), at, place }
}

fn place(card: &CardDescription, taken: &Settings, sample: &Sample, clock: Mhz) -> Place {
    let bin = card.limits.clock_bin;
    let bins = ((top_of(card, taken).value() - clock.value()) / bin.value()).round() as i32;
    if bins <= 0 {
        return Place::Top;
    }
    let is_below = |least: &Mhz| clock.value() + bin.value() < least.value();
    if let Some(least) = taken.clock_minimum.filter(is_below) {
        return Place::BelowLeast(least);
    }
    let by = match attribute(sample, taken, &card.limits) {
        Limiter::Power => Some(HeldBy::Power),
        Limiter::Current => Some(HeldBy::Current),
        Limiter::Heat => Some(HeldBy::Heat),
        Limiter::Load | Limiter::FrameCap => Some(HeldBy::Load),
        _ => (bins <= MOST_BY_WARMTH).then_some(HeldBy::Warmth),
    };
    Place::Below { bins, bin, by, core_temperature: sample.core_temperature }
}

/// The highest clock that settings let a card run, by curve, offset and window.
#[must_use]
pub fn top_of(card: &CardDescription, settings: &Settings) -> Mhz {
    let curve = settings.curve.map(|curve| Mhz(f64::from(curve.last().mhz)));
    let top = curve.unwrap_or(card.limits.highest_clock);
    let raised = settings.core_offset.map_or(top, |offset| top + offset);
    settings.clock_maximum.unwrap_or(raised)
}

/// What became of the asked curve when the card took it.
fn difference(card: &CardDescription, asked: &Settings, taken: &Settings) -> Option<Taken> {
    let offer = card.curve?;
    let curve = |settings: &Settings| settings.curve.unwrap_or(offer.factory);
    let (asked, taken): (VfCurve, VfCurve) = (curve(asked), curve(taken));
    if asked == taken {
        return None;
    }
    let pairs = || asked.points().iter().zip(taken.points());
    let points = pairs().filter(|(asked, taken)| asked != taken).count();
    if offer.is_rounding(&asked, &taken) {
        return Some(Taken::Rounded { points, bin: offer.clocks.step });
    }
    let most = pairs().map(|(asked, taken)| asked.mhz.abs_diff(taken.mhz)).max().unwrap_or(0);
    Some(Taken::Other { points, most })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixtures::{card as plain, sample};
    use crate::shape::{CurveKind, CurveOffer, Span};
    use crate::units::{Percent, Watt};
    use rstest::rstest;

    fn curve(clocks: [u16; 3]) -> VfCurve {
        VfCurve::new(&[(900, clocks[0]), (950, clocks[1]), (1_000, clocks[2])]).unwrap()
    }

    fn card() -> CardDescription {
        CardDescription {
            curve: Some(CurveOffer {
                kind: CurveKind::Points,
                factory: curve([1_815, 1_905, 1_995]),
                clocks: Span { lowest: 705, highest: 2_505, step: 15 },
                voltages: Span { lowest: 900, highest: 1_000, step: 50 },
            }),
            ..plain()
        }
    }

    fn with(clocks: [u16; 3]) -> Settings {
        Settings { curve: Some(curve(clocks)), ..Settings::stock(&card()) }
    }

    #[rstest]
    #[case([1_900, 2_010, 2_010], [1_890, 2_010, 2_010], Taken::Rounded { points: 1, bin: 15 })]
    #[case([1_900, 2_020, 2_020], [1_815, 1_905, 1_995], Taken::Other { points: 3, most: 115 })]
    fn a_difference_is_rounding_or_another_curve(
        #[case] asked: [u16; 3],
        #[case] taken: [u16; 3],
        #[case] expected: Taken,
    ) {
        let sight = sight(&card(), &with(asked), Some(&with(taken)), None);
        assert_eq!(sight.taken, Some(expected));
    }

    #[test]
    fn what_the_card_took_may_be_unknown() {
        let sight = sight(&card(), &with([1_890, 2_010, 2_010]), None, Some(&sample()));
        assert_eq!(sight, Sight { taken: Some(Taken::Unknown), ..Sight::default() });
    }

    #[test]
    fn a_curve_taken_as_asked_needs_no_word() {
        let same = with([1_900, 2_010, 2_010]);
        assert_eq!(sight(&card(), &same, Some(&same), None), Sight::default());
    }

    #[rstest]
    #[case::top(2_010.0, 180.0, 99.0, 0, None)]
    #[case::warmth(1_965.0, 180.0, 99.0, 3, Some(HeldBy::Warmth))]
    #[case::power(1_965.0, 219.0, 99.0, 3, Some(HeldBy::Power))]
    #[case::load(1_965.0, 100.0, 40.0, 3, Some(HeldBy::Load))]
    #[case::unknown(1_800.0, 180.0, 99.0, 14, None)]
    fn where_the_card_is_on_its_curve_is_told_with_what_holds_it(
        #[case] clock: f64,
        #[case] power: f64,
        #[case] load: f64,
        #[case] bins: i32,
        #[case] by: Option<HeldBy>,
    ) {
        let held = with([1_890, 2_010, 2_010]);
        let now = Sample {
            core_clock: Some(Mhz(clock)),
            voltage: Some(Millivolt(960.0)),
            board_power: Some(Watt(power)),
            load: Some(Percent(load)),
            ..sample()
        };
        let sight = sight(&card(), &held, Some(&held), Some(&now));
        let core_temperature = now.core_temperature;
        let below = Place::Below { bins, bin: Mhz(15.0), by, core_temperature };
        assert_eq!(sight.place, Some(if bins == 0 { Place::Top } else { below }));
        assert_eq!(sight.at, Some((Millivolt(960.0), Mhz(clock))));
    }

    #[test]
    fn a_lowest_clock_out_of_reach_is_throttling() {
        let held = Settings { clock_minimum: Some(Mhz(1_980.0)), ..with([1_890, 2_010, 2_010]) };
        let now = Sample { core_clock: Some(Mhz(1_905.0)), ..sample() };
        let sight = sight(&card(), &held, Some(&held), Some(&now));
        assert_eq!(sight.place, Some(Place::BelowLeast(Mhz(1_980.0))));
    }

    #[test]
    fn an_idle_card_says_nothing_of_its_curve() {
        let held = with([1_890, 2_010, 2_010]);
        let idle = Sample { load: Some(Percent(0.0)), ..sample() };
        assert_eq!(sight(&card(), &held, Some(&held), Some(&idle)).at, None);
    }

    #[test]
    fn the_top_is_that_of_the_curve_the_offset_or_the_window() {
        let mut settings = with([1_890, 2_010, 2_010]);
        assert_eq!(top_of(&card(), &settings), Mhz(2_010.0));
        settings.core_offset = Some(crate::units::MhzOffset(30));
        assert_eq!(top_of(&card(), &settings), Mhz(2_040.0));
        settings.clock_maximum = Some(Mhz(1_950.0));
        assert_eq!(top_of(&card(), &settings), Mhz(1_950.0));
    }
}
