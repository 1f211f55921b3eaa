//! What holds of every climb, whatever verdicts its trials come to: for all policies and all stages.

use proptest::prelude::*;
use proptest::test_runner::RngSeed;

use super::*;
use crate::fixtures::seen;
use crate::judge::verdict::{Fault, Verdict};
use crate::plan::Policy;

/// Trials after which a climb counts as one that does not end.
const MOST_TRIALS: usize = 400;

/// What a run comes to: faults and runs that prove nothing among many that are clean.
fn verdict() -> impl Strategy<Value = Verdict> {
    prop_oneof![
        10 => Just(Verdict::Clean),
        1 => Just(Verdict::Artifacts),
        1 => Just(Verdict::LoadDied),
        1 => Just(Verdict::DriverReset),
        1 => Just(Verdict::MachineDown),
        1 => Just(Verdict::NotTaken),
        1 => Just(Verdict::Void),
        1 => Just(Verdict::Slower),
        1 => Just(Verdict::Throttled),
    ]
}

/// A climb of everything the card lets a climb be made of.
fn climb_of_all(card: CardDescription, policy: Policy) -> Climb {
    let stages: Vec<Stage> =
        Stage::PLANNED.into_iter().filter(|stage| Climb::is_offered(&card, *stage)).collect();
    Climb::new(card, Plan { policy, ..Plan::default() }, &stages).unwrap()
}

fn record(climb: &Climb, request: &TrialRequest, verdict: Verdict, score: f64) -> TrialRecord {
    let number = climb.trials().len() as u32 + 1;
    let fails = verdict.is_fault();
    TrialRecord {
        taken: (verdict != Verdict::NotTaken).then_some(request.asked),
        seen: seen(),
        seconds: if fails { Seconds(30.0) } else { request.seconds },
        score: (!fails).then_some(score),
        faults: if fails { vec![Fault::at(Seconds(30.0), "lost")] } else { Vec::new() },
        ..request.judged(number, verdict, format!("{verdict}."))
    }
}

/// What took the machine down and was not seen to hold since.
fn downs(climb: &Climb) -> Vec<Settings> {
    let card = climb.card();
    let trials = climb.trials();
    let down = trials.iter().filter(|trial| trial.verdict() == Verdict::MachineDown);
    down.filter(|down| {
        let mut later = trials.iter().filter(|trial| trial.number > down.number);
        !later.any(|later| {
            later.verdict().is_without_fault()
                && later.held().is_at_least_as_bold_as(&down.held(), card)
        })
    })
    .map(TrialRecord::held)
    .collect()
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: 9,
        failure_persistence: None,
        rng_seed: RngSeed::Fixed(12),
        ..ProptestConfig::default()
    })]

    #[test]
    fn every_sequence_of_verdicts_ends_and_never_repeats_what_took_the_machine_down(
        verdicts in prop::collection::vec((verdict(), 990.0..1_010.0), MOST_TRIALS),
        has_curve: bool,
        policy in prop_oneof![
            Just(Policy::FixedStep),
            Just(Policy::Bisection),
            Just(Policy::Bayesian),
        ],
    ) {
        let card = if has_curve { stages::tests::shaped() } else { stages::tests::windowed() };
        let mut climb = climb_of_all(card, policy);
        let mut verdicts = verdicts.into_iter();
        let ended = loop {
            let proposal = match climb.next() {
                Next::Trial(proposal) => proposal,
                ended => break ended,
            };
            let (verdict, score) = verdicts
                .next()
                .ok_or_else(|| TestCaseError::fail(format!("no end: {:?}", proposal.reason)))?;
            let asked = proposal.request.asked;
            prop_assert_eq!(asked.clamped(climb.card()).settings, asked, "inside all ranges");
            for down in downs(&climb) {
                prop_assert!(
                    !asked.is_at_least_as_bold_as(&down, climb.card()),
                    "{}: {asked:?} after {down:?}",
                    proposal.request.stage
                );
            }
            let record = record(&climb, &proposal.request, verdict, score);
            climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        };
        match ended {
            Next::Ended(outcome) => {
                for down in downs(&climb) {
                    let kept = outcome.settings;
                    prop_assert!(!kept.is_at_least_as_bold_as(&down, climb.card()), "{kept:?}");
                }
            }
            Next::Stuck(why) => {
                prop_assert!(why != Stuck::NoBaseline, "no stage was ended by hand");
            }
            Next::Trial(_) => unreachable!("the loop goes on with a trial"),
        }
    }
}
