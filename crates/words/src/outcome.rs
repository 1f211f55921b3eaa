//! What a climb comes to, and what is claimed of it.

use yard_step_core::{
    Claim, Conditions, Fan, Margin, MhzOffset, MillivoltOffset, Outcome, Seconds, SettingKind,
    Stage, Surprise, figure_in_words,
};

use crate::text::capitalised;

/// What a climb comes to, in a sentence.
#[must_use]
pub fn outcome(outcome: &Outcome) -> String {
    let what = outcome.moved.join(", ");
    let by_clock = outcome.baseline.is_some_and(|baseline| baseline.by_clock);
    let by = if by_clock { " clock" } else { "" };
    match (outcome.moved.is_empty(), outcome.gain_percent, outcome.baseline) {
        (_, _, Some(baseline)) if !outcome.searches => format!(
            "The baseline stands at {}, with a noise of {:.2} %.",
            match baseline.by_clock {
                true =>
                    format!("{} on average, since the load has no score", baseline.average_clock),
                false => format!("score {}", figure_in_words(baseline.score)),
            },
            baseline.noise.value()
        ),
        (true, ..) if outcome.stage == Some(Stage::Settle) => format!(
            "Nothing but the fan differs from stock: {} held the final run.",
            outcome.settings.show(SettingKind::Fan)
        ),
        (true, ..) => {
            "Nothing is kept: no change from stock is both sure to hold and worth it.".into()
        }
        (_, Some(gain), _) if outcome.confirmed => {
            let check = match outcome.brief {
                Some(length) => format!(
                    " Its final run took {}: that is a brief check, not a proof.",
                    length.in_words()
                ),
                None => String::new(),
            };
            format!(
                "{} held the final run: {gain:+.1} %{by} over the baseline.{check}",
                capitalised(&what)
            )
        }
        (_, Some(gain), _) => {
            let what = capitalised(&what);
            format!(
                "{what} brought {gain:+.1} %{by} over the baseline, but no final run confirms it."
            )
        }
        (_, None, _) => format!("The trials point to {what}, but no run there has a score."),
    }
}

/// What is claimed of settings, in a sentence.
#[must_use]
pub fn claim(claim: &Claim) -> String {
    let clock = |value: MhzOffset, name| {
        (value > MhzOffset::STOCK).then(|| format!("{name} {} MHz", value.0))
    };
    let voltage = (claim.below_depth > MillivoltOffset::STOCK)
        .then(|| format!("voltage {} mV", claim.below_depth.0));
    let off: Vec<String> =
        [clock(claim.below_core, "core"), clock(claim.below_memory, "memory"), voltage]
            .into_iter()
            .flatten()
            .collect();
    let to_prove = match claim.to_prove {
        None => String::new(),
        Some(hours) => format!(
            " About {:.0} hours of soak without a fault would bring both together to {:.0} %.",
            (hours.value() / 3_600.0).ceil(),
            claim.margin.chance() * 100.0
        ),
    };
    format!(
        "For {}: {} the believed edge, which holds {} with a chance of {} %. The chance that nothing \
         else fails is {} %, by {} without a fault.{to_prove}",
        claim.margin.purpose(),
        if off.is_empty() { "at".into() } else { format!("{} below", off.join(", ")) },
        span_in_words(claim.span),
        percent_of(claim.chance),
        percent_of(claim.undisturbed),
        claim.clean.in_words(),
    )
}

/// What a climb claimed of settings that were kept: that of the edges it believes in. Other faults only hours can exclude.
#[must_use]
pub fn kept_claim(margin: Margin, chance: f64) -> String {
    format!(
        "For {}: the climb estimated a chance of {} % that the settings are within the edges for that long. Other faults are for Proof to exclude.",
        margin.purpose(),
        percent_of(chance)
    )
}

/// A trial that was not to be expected, and what follows from it.
#[must_use]
pub fn surprise(surprise: &Surprise) -> String {
    let what = if surprise.failed { "failed so early" } else { "held for so long" };
    format!(
        "Trial {} {what} that the chance of it was 1 in {:.0}. This card fails in another way than is assumed, so what was \
         seen counts less.",
        surprise.trial,
        1.0 / surprise.chance.clamp(1e-6, 1.0)
    )
}

/// That nothing is claimed of settings that are kept with a margin, and what helps.
#[must_use]
pub fn no_claim(margin: Margin) -> String {
    format!(
        "For {}: no claim, since too little was seen of this card. Long runs at these settings support one.",
        margin.purpose()
    )
}

/// What claims were made under, in a sentence; `None` before the first run that went well.
#[must_use]
pub fn conditions(conditions: &Conditions) -> Option<String> {
    let loads = (!conditions.loads.is_empty()).then(|| conditions.loads.join(", "))?;
    let fan = match conditions.fan {
        Some(Fan::Fixed(percent)) => format!(", fan at {:.0} %", percent.value()),
        Some(Fan::Curve(_)) => ", fan on its curve".into(),
        Some(Fan::Target(target)) => format!(", fan regulated to {}", target.core),
        Some(Fan::Automatic) | None => String::new(),
    };
    let room = match conditions.room {
        None => ", room temperature unknown".into(),
        Some((low, high)) if (high.value() - low.value()).abs() < 0.5 => {
            format!(", room {:.0} °C", low.value())
        }
        Some((low, high)) => format!(", room {:.0} to {:.0} °C", low.value(), high.value()),
    };
    let driver = match conditions.driver.as_str() {
        "" => String::new(),
        driver => format!(", driver {driver}"),
    };
    Some(format!("Tested under {loads}{fan}{room}{driver}."))
}

/// What is claimed of all settings kept with a margin, in half a sentence.
#[must_use]
pub fn margin_claim(margin: Margin) -> String {
    let chance = margin.chance() * 100.0;
    format!(
        "stands {} without a fault with a chance of {chance:.0} %",
        span_in_words(margin.span())
    )
}

/// A span of minutes, hours or days in words.
pub(crate) fn span_in_words(span: Seconds) -> String {
    let days = span.value() / 86_400.0;
    if days >= 2.0 { format!("{days:.0} days") } else { span.in_words() }
}

/// A chance in percent, with as many digits as it takes to tell it from 100.
fn percent_of(chance: f64) -> String {
    match chance * 100.0 {
        high if high >= 99.95 => "over 99.9".into(),
        high if high >= 99.0 => format!("{high:.1}"),
        low => format!("{low:.0}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Baseline, Celsius, Mhz, Pair, Percent, Settings};

    fn an_outcome() -> Outcome {
        Outcome {
            settings: Settings::default(),
            stage: None,
            pair: Pair::default(),
            score: None,
            gain_percent: None,
            trials: 12,
            test_seconds: Seconds(3_600.0),
            confirmed: false,
            brief: None,
            claim: None,
            kept_trial: None,
            moved: vec!["core clock +90 MHz".into(), "power limit 286 W".into()],
            baseline: Some(Baseline {
                runs: 3,
                score: 1_000.0,
                by_clock: false,
                noise: Percent(0.31),
                noise_floor: None,
                plateau: None,
                average_clock: Mhz(1_900.0),
                average_power: None,
                hot_spot_max: None,
            }),
            searches: true,
            by_load: Vec::new(),
            surprise: None,
            conditions: Conditions::default(),
        }
    }

    fn by_clock() -> Option<Baseline> {
        an_outcome().baseline.map(|baseline| Baseline { by_clock: true, ..baseline })
    }

    #[rstest]
    #[case(
        Outcome { searches: false, ..an_outcome() },
        "The baseline stands at score 1000, with a noise of 0.31 %."
    )]
    #[case(
        Outcome { moved: vec![], gain_percent: Some(1.0), ..an_outcome() },
        "Nothing is kept: no change from stock is both sure to hold and worth it."
    )]
    #[case(
        Outcome {
            moved: vec![],
            stage: Some(Stage::Settle),
            settings: Settings { fan: Some(Fan::Fixed(Percent(35.0))), ..Settings::default() },
            ..an_outcome()
        },
        "Nothing but the fan differs from stock: 35 % held the final run."
    )]
    #[case(
        Outcome { moved: vec![], searches: false, baseline: None, ..an_outcome() },
        "Nothing is kept: no change from stock is both sure to hold and worth it."
    )]
    #[case(
        Outcome { gain_percent: Some(4.25), confirmed: true, ..an_outcome() },
        "Core clock +90 MHz, power limit 286 W held the final run: +4.2 % over the baseline."
    )]
    #[case(
        Outcome {
            gain_percent: Some(4.25),
            confirmed: true,
            brief: Some(Seconds(75.0)),
            ..an_outcome()
        },
        "Core clock +90 MHz, power limit 286 W held the final run: +4.2 % over the baseline. Its final run \
         took 1 min 15 s: that is a brief check, not a proof."
    )]
    #[case(
        Outcome { gain_percent: Some(4.25), ..an_outcome() },
        "Core clock +90 MHz, power limit 286 W brought +4.2 % over the baseline, but no final run confirms it."
    )]
    #[case(
        Outcome { gain_percent: Some(4.25), confirmed: true, baseline: by_clock(), ..an_outcome() },
        "Core clock +90 MHz, power limit 286 W held the final run: +4.2 % clock over the baseline."
    )]
    #[case(
        Outcome { searches: false, baseline: by_clock(), ..an_outcome() },
        "The baseline stands at 1900 MHz on average, since the load has no score, with a noise of 0.31 %."
    )]
    #[case(
        an_outcome(),
        "The trials point to core clock +90 MHz, power limit 286 W, but no run there has a score."
    )]
    fn an_outcome_says_no_more_than_was_measured(#[case] of: Outcome, #[case] told: &str) {
        assert_eq!(outcome(&of), told);
    }

    #[rstest]
    #[case(Margin::Record, "stands 10 min without a fault with a chance of 80 %")]
    #[case(Margin::Daily, "stands 24 h without a fault with a chance of 99 %")]
    #[case(Margin::Gift, "stands 30 days without a fault with a chance of 99 %")]
    fn a_margin_says_what_it_claims(#[case] margin: Margin, #[case] told: &str) {
        assert_eq!(margin_claim(margin), told);
    }

    #[rstest]
    #[case(true, "Trial 9 failed so early that the chance of it was 1 in 2500.")]
    #[case(false, "Trial 9 held for so long that the chance of it was 1 in 2500.")]
    fn a_trial_that_was_not_to_be_expected_is_told(#[case] failed: bool, #[case] told: &str) {
        let sentence = surprise(&Surprise { trial: 9, failed, chance: 0.000_4 });
        assert!(sentence.starts_with(told), "{sentence}");
        assert!(sentence.ends_with("so what was seen counts less."), "{sentence}");
    }

    #[rstest]
    #[case(1.0, "a chance of over 99.9 % that")]
    #[case(0.912, "a chance of 91 % that")]
    fn what_was_claimed_of_a_profile_is_never_certain_and_names_what_it_leaves_out(
        #[case] chance: f64,
        #[case] told: &str,
    ) {
        let text = kept_claim(Margin::Daily, chance);
        assert!(text.contains(told) && text.contains("Other faults"), "{text}");
    }

    #[test]
    fn that_nothing_is_claimed_comes_with_what_helps() {
        assert_eq!(
            no_claim(Margin::Daily),
            "For daily use: no claim, since too little was seen of this card. Long runs at these settings support one."
        );
    }

    #[rstest]
    #[case(0.999_9, (45, 0, 0), ": core 45 MHz below the believed edge, which holds 24 h with a chance of over 99.9 %.")]
    #[case(0.994_4, (45, 100, 0), ": core 45 MHz, memory 100 MHz below the believed edge, which holds 24 h with a chance of 99.4 %.")]
    #[case(0.969, (0, 0, 15), ": voltage 15 mV below the believed edge, which holds 24 h with a chance of 97 %.")]
    #[case(0.5, (0, 0, 0), ": at the believed edge, which holds 24 h with a chance of 50 %.")]
    fn a_claim_names_what_is_taken_off_and_never_says_certain(
        #[case] chance: f64,
        #[case] (core, memory, depth): (i32, i32, i32),
        #[case] told: &str,
    ) {
        let sentence = claim(&Claim {
            margin: Margin::Daily,
            span: Seconds(86_400.0),
            undisturbed: 0.985,
            clean: Seconds(7_200.0),
            to_prove: None,
            chance,
            below_core: MhzOffset(core),
            below_memory: MhzOffset(memory),
            below_depth: MillivoltOffset(depth),
        });
        assert!(sentence.starts_with("For ") && sentence.contains(told), "{sentence}");
        assert!(
            sentence
                .ends_with("The chance that nothing else fails is 98 %, by 2 h without a fault.")
        );
    }

    #[test]
    fn a_claim_says_how_long_a_proof_takes_and_what_it_was_made_under() {
        let of = |to_prove| Claim {
            margin: Margin::Daily,
            span: Seconds(86_400.0),
            chance: 0.997,
            undisturbed: 0.985,
            clean: Seconds(7_200.0),
            to_prove,
            below_core: MhzOffset(30),
            below_memory: MhzOffset(0),
            below_depth: MillivoltOffset(0),
        };
        let told = claim(&of(Some(Seconds(100.2 * 3_600.0))));
        assert!(told.ends_with(
            "About 101 hours of soak without a fault would bring both together to 99 %."
        ));
        assert!(!claim(&of(None)).contains("hours of soak"));
        let mut under = Conditions::default();
        assert_eq!(conditions(&under), None);
        under.loads = vec!["medley".into(), "sluice".into()];
        assert_eq!(
            conditions(&under).unwrap(),
            "Tested under medley, sluice, room temperature unknown."
        );
        under.fan = Some(Fan::Fixed(Percent(100.0)));
        under.room = Some((Celsius(18.0), Celsius(22.4)));
        under.driver = "1.0".into();
        assert_eq!(
            conditions(&under).unwrap(),
            "Tested under medley, sluice, fan at 100 %, room 18 to 22 °C, driver 1.0."
        );
    }
}
