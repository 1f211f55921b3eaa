//! A curve as it was asked, as it was taken, and where the card is seen on it: the differences, each
//! with its reason.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::measure::limiter::{Limiter, attribute};
use crate::measure::sample::Sample;
use crate::shape::VfCurve;
use crate::units::{Mhz, Millivolt};

/// Bins that a warm card may have given up; what is more has another reason.
const MOST_BY_WARMTH: i32 = 12;

/// What there is to say of a curve that a card holds.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Sight {
    /// Where the card is now.
    pub at: Option<(Millivolt, Mhz)>,
    /// Bins of clock that it is below the top of what it holds.
    pub below_top: Option<i32>,
    /// The differences, a sentence each, the most telling first.
    pub sentences: Vec<String>,
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
    let mut sight = Sight::default();
    let Some(taken) = taken else {
        sight.sentences.push("What the card took is not known.".into());
        return sight;
    };
    sight.sentences.extend(rounded(card, asked, taken));
    let busy = |sample: &&Sample| sample.load.is_some_and(|load| load.value() > 5.0);
    let Some(sample) = sample.filter(busy) else { return sight };
    sight.at = sample.voltage.zip(sample.core_clock);
    let Some((voltage, clock)) = sight.at else { return sight };
    let top = top_of(card, taken);
    let bin = card.limits.clock_bin.value();
    let below = ((top.value() - clock.value()) / bin).round() as i32;
    sight.below_top = Some(below);
    if below <= 0 {
        sight.sentences.push(format!("It runs at the top of its curve, {clock} at {voltage}."));
        return sight;
    }
    if let Some(least) = taken.clock_minimum.filter(|least| clock.value() + bin < least.value()) {
        sight.sentences.push(format!(
            "It runs at {clock}, below its lowest clock of {least}: it cannot hold that, and throttles. \
             A lower one lets it run faster."
        ));
        return sight;
    }
    let limiter = attribute(sample, taken, &card.limits);
    let warm = sample.core_temperature.map_or(String::new(), |at| format!(" at {at}"));
    let bins = if below == 1 { "bin" } else { "bins" };
    let lost = format!("{below} {bins} of {bin:.0} MHz below the top of its curve");
    sight.sentences.push(match limiter {
        Limiter::Power => format!("Power holds it at {voltage}, {lost}."),
        Limiter::Current => format!("Current holds it at {voltage}, {lost}."),
        Limiter::Heat => format!("Heat{warm} holds it back, {lost}."),
        Limiter::Load | Limiter::FrameCap => {
            format!("It has too little to do for more: {lost}.")
        }
        _ if below <= MOST_BY_WARMTH => {
            format!("It runs {lost}: a warm card{warm} gives up a bin for every few degrees.")
        }
        _ => format!("It runs {lost}; the limiter is unknown."),
    });
    sight
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
fn rounded(card: &CardDescription, asked: &Settings, taken: &Settings) -> Option<String> {
    let offer = card.curve?;
    let curve = |settings: &Settings| settings.curve.unwrap_or(offer.factory);
    let (asked, taken): (VfCurve, VfCurve) = (curve(asked), curve(taken));
    if asked == taken {
        return None;
    }
    let pairs = || asked.points().iter().zip(taken.points());
    let moved = pairs().filter(|(asked, taken)| asked != taken).count();
    let points = if moved == 1 { "1 point is".into() } else { format!("{moved} points are") };
    if offer.is_rounding(&asked, &taken) {
        return Some(format!(
            "{points} taken lower than asked: the card counts clocks in bins of {} MHz and takes the \
             bin below.",
            offer.clocks.step
        ));
    }
    let most = pairs().map(|(asked, taken)| asked.mhz.abs_diff(taken.mhz)).max().unwrap_or(0);
    Some(format!(
        "The card holds another curve than was asked: {points} elsewhere, by up to {most} MHz. It did \
         not take it; ask again."
    ))
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
    #[case([1_900, 2_010, 2_010], [1_890, 2_010, 2_010], "1 point is taken lower than asked")]
    #[case([1_900, 2_020, 2_020], [1_815, 1_905, 1_995], "3 points are elsewhere, by up to 115 MHz")]
    fn the_reason_of_a_difference_is_told(
        #[case] asked: [u16; 3],
        #[case] taken: [u16; 3],
        #[case] part: &str,
    ) {
        let sight = sight(&card(), &with(asked), Some(&with(taken)), None);
        assert!(sight.sentences[0].contains(part), "{:?}", sight.sentences);
    }

    #[test]
    fn a_curve_taken_as_asked_needs_no_word() {
        let same = with([1_900, 2_010, 2_010]);
        assert_eq!(sight(&card(), &same, Some(&same), None), Sight::default());
    }

    #[rstest]
    #[case(2_010.0, 180.0, 0, "at the top of its curve")]
    #[case(1_965.0, 180.0, 3, "3 bins of 15 MHz below the top of its curve: a warm card at 60 °C")]
    #[case(1_965.0, 219.0, 3, "Power holds it at 960 mV")]
    fn where_the_card_is_on_its_curve_is_told_with_what_holds_it(
        #[case] clock: f64,
        #[case] power: f64,
        #[case] below: i32,
        #[case] part: &str,
    ) {
        let held = with([1_890, 2_010, 2_010]);
        let now = Sample {
            core_clock: Some(Mhz(clock)),
            voltage: Some(Millivolt(960.0)),
            board_power: Some(Watt(power)),
            ..sample()
        };
        let sight = sight(&card(), &held, Some(&held), Some(&now));
        assert_eq!(sight.below_top, Some(below));
        assert!(sight.sentences.last().unwrap().contains(part), "{:?}", sight.sentences);
    }

    #[test]
    fn a_lowest_clock_out_of_reach_is_throttling() {
        let held = Settings { clock_minimum: Some(Mhz(1_980.0)), ..with([1_890, 2_010, 2_010]) };
        let now = Sample { core_clock: Some(Mhz(1_905.0)), ..sample() };
        let sight = sight(&card(), &held, Some(&held), Some(&now));
        assert!(sight.sentences[0].contains("below its lowest clock of 1980 MHz"), "{sight:?}");
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
