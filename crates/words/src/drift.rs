//! Whether a profile is still what was proven.

use yard_step_core::Drift;

use crate::text::against_chance;

/// What the newest run of a profile says of it, in a sentence.
#[must_use]
pub fn drift(drift: &Drift) -> String {
    let (climb, trial) = drift.run;
    let place = format!("trial {trial} of climb {climb}");
    if let Some(verdict) = drift.failed {
        return format!("It no longer holds: {place} ended in {verdict}.");
    }
    let noise = drift.noise_percent;
    let score = drift
        .score_percent
        .map(|score| format!("score {score:+.1} %, {}", against_chance(score, noise)));
    let power = drift.power_percent.map(|power| format!("power {power:+.1} %"));
    let heat = drift.hotter.map(|kelvin| format!("hot spot {kelvin:+.0} K"));
    let parts: Vec<String> = [score, power, heat].into_iter().flatten().collect();
    let still = if drift.is_drifted { "no longer" } else { "still" };
    match parts.is_empty() {
        true => format!("It is {still} what was proven, as far as {place} tells."),
        false => format!("It is {still} what was proven: {} in {place}.", parts.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::Verdict;

    fn a_drift(is_drifted: bool, score_percent: Option<f64>) -> Drift {
        Drift {
            is_drifted,
            score_percent,
            noise_percent: 1.2,
            power_percent: None,
            hotter: None,
            run: (4, 17),
            failed: None,
        }
    }

    #[rstest]
    #[case(
        Drift { failed: Some(Verdict::Artifacts), ..a_drift(true, None) },
        "It no longer holds: trial 17 of climb 4 ended in artifacts."
    )]
    #[case(
        Drift { power_percent: Some(0.4), hotter: Some(2.0), ..a_drift(false, Some(-0.5)) },
        "It is still what was proven: score -0.5 %, no more than chance (±1.2 %), power +0.4 %, hot spot +2 K in trial 17 of climb 4."
    )]
    #[case(
        a_drift(true, Some(-2.5)),
        "It is no longer what was proven: score -2.5 %, more than chance (±1.2 %) in trial 17 of climb 4."
    )]
    #[case(
        a_drift(false, None),
        "It is still what was proven, as far as trial 17 of climb 4 tells."
    )]
    fn a_drift_is_told_with_its_figures_and_its_run(#[case] of: Drift, #[case] told: &str) {
        assert_eq!(drift(&of), told);
    }
}
