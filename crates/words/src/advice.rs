//! Advice, and where a clock is stable, yet brings nothing.

use yard_step_core::{Advice, StableYetSlower, WhySlower};

use crate::text::{percent, with_dips};

/// What to do, in a few words, and why, in a sentence.
#[must_use]
pub fn advice(advice: &Advice) -> (String, String) {
    match advice {
        Advice::MorePower { to, held_back, dips } => (
            format!("power limit up, to {to}"),
            format!(
                "Power held the clock back {} of the loaded time{}.",
                percent(*held_back),
                with_dips(*dips)
            ),
        ),
        Advice::LessVoltage { held_back, dips } => (
            "less voltage at the same clock".into(),
            format!(
                "Power holds the clock back {} of the loaded time{} and its limit is at its highest: \
                 every watt saved becomes clock.",
                percent(*held_back),
                with_dips(*dips)
            ),
        ),
        Advice::LessMemory { held_back } => (
            "memory clock down, where memory brings little".into(),
            format!("Power holds the clock back {} of the loaded time.", percent(*held_back)),
        ),
        Advice::MoreAir { target, held_back, dips } => (
            target.as_ref().map_or("more air".into(), |target| {
                format!("more air, or a temperature target of {target}")
            }),
            format!(
                "Heat held the clock back {} of the loaded time{}.",
                percent(*held_back),
                with_dips(*dips)
            ),
        ),
        Advice::NoMoreCore { from } => (
            "no more core clock".into(),
            format!("From {from} on, more core clock brought no more score."),
        ),
        Advice::MoreCore { free } => (
            "core clock up".into(),
            format!(
                "Neither power nor heat held the clock {} of the loaded time: it stands at the top of \
                 its curve.",
                percent(*free)
            ),
        ),
        Advice::MoreMemory => {
            ("memory clock up".into(), "No memory clock above stock has been tried yet.".into())
        }
    }
}

/// Where a clock is stable, yet brings nothing, and what it is called; none where it is nowhere so.
#[must_use]
pub fn stable_yet_slower(found: &[StableYetSlower]) -> Option<String> {
    let told: Vec<String> = found.iter().map(slower).collect();
    (!told.is_empty()).then(|| told.join(" "))
}

fn slower(found: &StableYetSlower) -> String {
    let band = "a timing band, where timings relax with the clock and take its gain back";
    match found {
        StableYetSlower::BeyondBend { at, percent_per_100_mhz, why } => format!(
            "Beyond {at} it is stable but not faster ({percent_per_100_mhz:.1} % less for each 100 \
             MHz): {}.",
            match why {
                WhySlower::TimingBand => {
                    "a timing band: timings relax with the clock and take its gain back"
                }
                WhySlower::ErrorCorrection => {
                    "error correction: failed transfers are repeated, without a visible fault"
                }
                WhySlower::StretchedClock => {
                    "a stretched clock: the effective clock falls behind the reported one"
                }
                WhySlower::PowerOrHeat => "power or heat: the clock asked for is not reached",
            }
        ),
        StableYetSlower::Band { from, to, is_whole: true, .. } => {
            format!("From {from} to {to} it gains nothing: {band}. Nothing is kept in it.")
        }
        StableYetSlower::Band { from, to, lost, is_whole: false } => {
            format!("Between {from} and {to} lies {band}: {lost} of it bring nothing.")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::Mhz;

    #[rstest]
    #[case(
        Advice::MorePower { to: "286 W".into(), held_back: 0.63, dips: 4 },
        "power limit up, to 286 W: Power held the clock back 63 % of the loaded time, with 4 dips."
    )]
    #[case(
        Advice::LessVoltage { held_back: 0.4, dips: 1 },
        "less voltage at the same clock: Power holds the clock back 40 % of the loaded time, with 1 dip and its limit is at its highest: every watt saved becomes clock."
    )]
    #[case(
        Advice::LessMemory { held_back: 0.4 },
        "memory clock down, where memory brings little: Power holds the clock back 40 % of the loaded time."
    )]
    #[case(
        Advice::MoreAir { target: None, held_back: 0.2, dips: 0 },
        "more air: Heat held the clock back 20 % of the loaded time."
    )]
    #[case(
        Advice::MoreAir { target: Some("88 °C".into()), held_back: 0.2, dips: 0 },
        "more air, or a temperature target of 88 °C: Heat held the clock back 20 % of the loaded time."
    )]
    #[case(
        Advice::NoMoreCore { from: "+150 MHz".into() },
        "no more core clock: From +150 MHz on, more core clock brought no more score."
    )]
    #[case(
        Advice::MoreCore { free: 0.9 },
        "core clock up: Neither power nor heat held the clock 90 % of the loaded time: it stands at the top of its curve."
    )]
    #[case(Advice::MoreMemory, "memory clock up: No memory clock above stock has been tried yet.")]
    fn advice_names_the_setting_and_what_speaks_for_it(#[case] of: Advice, #[case] told: &str) {
        let (what, why) = advice(&of);
        assert_eq!(format!("{what}: {why}"), told);
    }

    fn bend(why: WhySlower) -> StableYetSlower {
        StableYetSlower::BeyondBend { at: "+600 MHz".into(), percent_per_100_mhz: 0.74, why }
    }

    fn band(is_whole: bool) -> StableYetSlower {
        let (from, to) = ("+300 MHz".into(), "+420 MHz".into());
        StableYetSlower::Band { from, to, lost: Mhz(80.0), is_whole }
    }

    #[rstest]
    #[case(bend(WhySlower::TimingBand), "(0.7 % less for each 100 MHz): a timing band:")]
    #[case(bend(WhySlower::ErrorCorrection), "error correction: failed transfers")]
    #[case(bend(WhySlower::StretchedClock), "a stretched clock: the effective clock")]
    #[case(bend(WhySlower::PowerOrHeat), "power or heat: the clock asked for is not reached.")]
    #[case(band(true), "From +300 MHz to +420 MHz it gains nothing:")]
    #[case(band(false), "take its gain back: 80 MHz of it bring nothing.")]
    fn a_stable_clock_that_is_slower_has_a_name(#[case] of: StableYetSlower, #[case] told: &str) {
        let sentence = stable_yet_slower(&[of]).unwrap();
        assert!(sentence.contains(told), "{sentence}");
    }

    #[test]
    fn several_of_them_are_told_one_after_another_and_none_not_at_all() {
        let both = stable_yet_slower(&[bend(WhySlower::TimingBand), band(true)]).unwrap();
        assert!(both.starts_with("Beyond") && both.contains(". From +300 MHz"), "{both}");
        assert_eq!(stable_yet_slower(&[]), None);
    }
}
