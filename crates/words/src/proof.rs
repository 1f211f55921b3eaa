//! What stands behind a profile, and where it comes from.

use yard_step_core::{
    Backing, Grounds, LEAST_LOADS, LEAST_PROOF, Origin, Profile, Proof, Seconds, counted,
};

/// Why a profile is proven or not, in sentences.
#[must_use]
pub fn proof(proof: &Proof, backing: &Backing) -> String {
    let runs = evidence(backing);
    let aside = set_aside(backing);
    match proof {
        Proof::Proven(Grounds::LongRun) => {
            format!("Its climb ended with a long run at it; {runs}.{aside}")
        }
        Proof::Proven(Grounds::Hours) => format!("It has {runs}.{aside}"),
        Proof::Open { left } => {
            let third = Seconds(LEAST_PROOF.value() / LEAST_LOADS as f64);
            format!(
                "It has {runs}. Another {} under the medley would prove it, or {} under each of \
                 three other loads.{aside}",
                left.in_words(),
                third.in_words()
            )
        }
        Proof::Failed { climb, trial, verdict } => {
            format!("Trial {trial} of climb {climb} ended in {verdict}.")
        }
    }
}

/// The runs that count, in a few words.
fn evidence(backing: &Backing) -> String {
    if backing.runs == 0 {
        return "no run without a fault".into();
    }
    let runs = counted(backing.runs, "run");
    let clean = backing.clean.in_words();
    if let [(load, _)] = backing.loads.as_slice() {
        return format!("{clean} without a fault in {runs} of {load}");
    }
    let by_kind = |(load, time): &(String, Seconds)| format!("{load} {}", time.in_words());
    let loads: Vec<String> = backing.loads.iter().map(by_kind).collect();
    format!("{clean} without a fault in {runs}: {}", loads.join(", "))
}

/// The runs that do not count, in a sentence with a space before it; empty where all do.
fn set_aside(backing: &Backing) -> String {
    let change = backing.change.as_ref();
    let before = change.map_or(String::new(), |change| format!("before: {}", change.what));
    let parts: Vec<String> = [
        (backing.under_other_driver, "under another driver"),
        (backing.cooler, "with a faster fan"),
        (backing.before_change, before.as_str()),
    ]
    .into_iter()
    .filter(|(count, _)| *count > 0)
    .map(|(count, why)| format!("{count} {why}"))
    .collect();
    match parts.is_empty() {
        true => String::new(),
        false => format!(" Runs that do not count: {}.", parts.join(", ")),
    }
}

/// Where a profile comes from, in a few words.
#[must_use]
pub fn origin(profile: &Profile) -> String {
    match (profile.origin, profile.climb, profile.trial) {
        (Origin::Imported { cut_back }, ..) => {
            format!("imported, cut back by {:.0} %", cut_back.value())
        }
        (Origin::ByHand, ..) => "put together by hand".into(),
        (Origin::Trial, Some(climb), Some(trial)) => format!("trial {trial} of climb {climb}"),
        (_, Some(climb), _) => format!("outcome of climb {climb}"),
        _ => "of unknown origin".into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::{Percent, Settings, Verdict};

    fn backing() -> Backing {
        Backing {
            runs: 2,
            clean: Seconds(1_800.0),
            loads: vec![("medley".into(), Seconds(1_500.0)), ("kiln".into(), Seconds(300.0))],
            ..Backing::default()
        }
    }

    #[rstest]
    #[case(
        Proof::Proven(Grounds::LongRun),
        backing(),
        "Its climb ended with a long run at it; 30 min without a fault in 2 runs: medley 25 min, kiln 5 min."
    )]
    #[case(
        Proof::Proven(Grounds::Hours),
        Backing { cooler: 3, ..backing() },
        "It has 30 min without a fault in 2 runs: medley 25 min, kiln 5 min. Runs that do not count: 3 with a faster fan."
    )]
    #[case(
        Proof::Open { left: Seconds(3_600.0) },
        Backing { under_other_driver: 2, cooler: 1, ..Backing::default() },
        "It has no run without a fault. Another 1 h under the medley would prove it, or 20 min under \
         each of three other loads. Runs that do not count: 2 under another driver, 1 with a faster fan."
    )]
    #[case(
        Proof::Failed { climb: 3, trial: 2, verdict: Verdict::DriverReset },
        backing(),
        "Trial 2 of climb 3 ended in driver reset."
    )]
    fn a_proof_is_told_with_the_runs_that_count(
        #[case] of: Proof,
        #[case] backing: Backing,
        #[case] told: &str,
    ) {
        assert_eq!(proof(&of, &backing), told);
    }

    #[rstest]
    #[case(Origin::Imported { cut_back: Percent(25.0) }, Some(3), None, "imported, cut back by 25 %")]
    #[case(Origin::ByHand, None, None, "put together by hand")]
    #[case(Origin::Trial, Some(3), Some(7), "trial 7 of climb 3")]
    #[case(Origin::Trial, Some(3), None, "outcome of climb 3")]
    #[case(Origin::Climb, Some(3), Some(7), "outcome of climb 3")]
    #[case(Origin::Climb, None, None, "of unknown origin")]
    fn an_origin_is_told_as_far_as_it_is_known(
        #[case] from: Origin,
        #[case] climb: Option<i64>,
        #[case] trial: Option<u32>,
        #[case] told: &str,
    ) {
        let profile = Profile { climb, trial, ..Profile::new("dome", Settings::default(), from) };
        assert_eq!(origin(&profile), told);
    }
}
