//! How a card holds a V/F curve.

use yard_step_core::{HeldBy, Place, Sight, Taken};

/// What there is to say of the curve a card holds, a sentence each, the most telling first.
#[must_use]
pub fn sight(sight: &Sight) -> Vec<String> {
    sight.taken.iter().map(taken).chain(place(sight)).collect()
}

fn taken(taken: &Taken) -> String {
    let points = |count: usize| match count {
        1 => "1 point is".to_owned(),
        _ => format!("{count} points are"),
    };
    match taken {
        Taken::Unknown => "What the card took is not known.".into(),
        Taken::Rounded { points: count, bin } => format!(
            "{} lower than asked: the card counts clocks in bins of {bin} MHz and takes the bin below.",
            points(*count)
        ),
        Taken::Other { points: count, most } => format!(
            "The card holds another curve than was asked: {} elsewhere, by up to {most} MHz. It did not \
             take it; ask again.",
            points(*count)
        ),
    }
}

fn place(sight: &Sight) -> Option<String> {
    let (voltage, clock) = sight.at?;
    let Place::Below { bins, bin, by, core_temperature } = sight.place? else {
        return Some(match sight.place? {
            Place::BelowLeast(least) => format!(
                "It runs at {clock}, below the lowest clock you set, {least}: it cannot hold that and \
                 throttles. A lower one lets it run faster."
            ),
            _ => format!("It runs at the top of its curve, {clock} at {voltage}."),
        });
    };
    let warm = core_temperature.map_or(String::new(), |at| format!(" at {at}"));
    let unit = if bins == 1 { "bin" } else { "bins" };
    let lost = format!("{bins} {unit} of {:.0} MHz below the top of its curve", bin.value());
    Some(match by {
        Some(HeldBy::Power) => format!("Power holds it at {voltage}, {lost}."),
        Some(HeldBy::Current) => format!("Current holds it at {voltage}, {lost}."),
        Some(HeldBy::Heat) => format!("Heat{warm} holds it back, {lost}."),
        Some(HeldBy::Load) => format!("It has too little to do for more: {lost}."),
        Some(HeldBy::Warmth) => {
            format!("It runs {lost}: a warm card{warm} gives up a bin for every few degrees.")
        }
        None => format!("It runs {lost}; what limits it is not known."),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Celsius, Mhz, Millivolt};

    #[rstest]
    #[case(Taken::Unknown, "What the card took is not known.")]
    #[case(
        Taken::Rounded { points: 1, bin: 15 },
        "1 point is lower than asked: the card counts clocks in bins of 15 MHz and takes the bin below."
    )]
    #[case(
        Taken::Other { points: 3, most: 115 },
        "The card holds another curve than was asked: 3 points are elsewhere, by up to 115 MHz. It did \
         not take it; ask again."
    )]
    fn a_curve_that_is_not_as_asked_is_told(#[case] taken: Taken, #[case] told: &str) {
        let seen = Sight { taken: Some(taken), ..Sight::default() };
        assert_eq!(sight(&seen), [told]);
    }

    #[test]
    fn a_curve_as_asked_on_an_idle_card_needs_no_word() {
        assert_eq!(sight(&Sight::default()), [""; 0]);
    }

    fn below(bins: i32, by: Option<HeldBy>) -> Place {
        Place::Below { bins, bin: Mhz(15.0), by, core_temperature: Some(Celsius(60.0)) }
    }

    #[rstest]
    #[case(Place::Top, "It runs at the top of its curve, 1965 MHz at 960 mV.")]
    #[case(
        Place::BelowLeast(Mhz(1_980.0)),
        "It runs at 1965 MHz, below the lowest clock you set, 1980 MHz: it cannot hold that and throttles. \
         A lower one lets it run faster."
    )]
    #[case(
        below(1, Some(HeldBy::Power)),
        "Power holds it at 960 mV, 1 bin of 15 MHz below the top of its curve."
    )]
    #[case(
        below(3, Some(HeldBy::Current)),
        "Current holds it at 960 mV, 3 bins of 15 MHz below the top of its curve."
    )]
    #[case(
        below(3, Some(HeldBy::Heat)),
        "Heat at 60 °C holds it back, 3 bins of 15 MHz below the top of its curve."
    )]
    #[case(
        below(3, Some(HeldBy::Load)),
        "It has too little to do for more: 3 bins of 15 MHz below the top of its curve."
    )]
    #[case(
        below(3, Some(HeldBy::Warmth)),
        "It runs 3 bins of 15 MHz below the top of its curve: a warm card at 60 °C gives up a bin for every few degrees."
    )]
    #[case(
        below(14, None),
        "It runs 14 bins of 15 MHz below the top of its curve; what limits it is not known."
    )]
    fn where_the_card_is_on_its_curve_is_told(#[case] place: Place, #[case] told: &str) {
        let at = Some((Millivolt(960.0), Mhz(1_965.0)));
        assert_eq!(sight(&Sight { taken: None, at, place: Some(place) }), [told]);
    }
}
