//! Climbs under several loads: one that steps, one for stock and the raised limits, and those that cross-check.

use rstest::rstest;

use super::whole_climbs::{CARD, Imagined, card};
use super::*;
use crate::plan::{CrossCheckPlan, Policy};
use crate::units::MhzOffset;

/// A climb that steps under lantern and cross-checks under two others.
fn climb_by(policy: Policy) -> Climb {
    let loads = vec!["sluice".to_owned(), "loom".to_owned()];
    let plan = Plan {
        policy,
        scene: "lantern".into(),
        full_load: Some("kiln".into()),
        cross_check: CrossCheckPlan { loads, ..CrossCheckPlan::default() },
        ..Plan::default()
    };
    Climb::new(card(), plan, &Stage::USUAL).unwrap()
}

/// Runs to the end on a card whose core edge lies at `loom` under that load, and elsewhere under all others.
fn to_the_end(climb: &mut Climb, loom: i32) -> Outcome {
    for _ in 0..200 {
        let proposal = match climb.next() {
            Next::Trial(proposal) => proposal,
            Next::Ended(outcome) => return *outcome,
            Next::Stuck(why) => panic!("{why:?}"),
        };
        let is_loom = proposal.request.load == "loom";
        let imagined = if is_loom { Imagined { core: loom, ..CARD } } else { CARD };
        let mut record = imagined.run(climb, &proposal.request);
        // Scores of different loads have nothing to do with each other.
        let factor = match proposal.request.load.as_str() {
            "sluice" => 7.0,
            "loom" => 3.0,
            _ => 1.0,
        };
        record.score = record.score.map(|score| score * factor);
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }
    panic!("no end after 200 trials");
}

fn loads_of(climb: &Climb, stage: Stage) -> Vec<&str> {
    climb.trials_of(stage).map(|trial| trial.scene.as_str()).collect()
}

#[rstest]
fn every_load_has_its_baseline_and_cross_checks_what_was_found(
    #[values(Policy::FixedStep, Policy::Bisection, Policy::Bayesian)] policy: Policy,
) {
    let mut climb = climb_by(policy);
    assert_eq!(climb.stages().last(), Some(&Stage::CrossCheck), "the plan's loads add the stage");
    let outcome = to_the_end(&mut climb, CARD.core);
    let lanterns = [["kiln"; 3], ["lantern"; 3]].concat();
    let others = ["sluice", "sluice", "loom", "loom"];
    assert_eq!(loads_of(&climb, Stage::Baseline), [lanterns, others.to_vec()].concat());
    assert_eq!(loads_of(&climb, Stage::Power), ["kiln", "kiln", "lantern", "lantern"]);
    assert!(loads_of(&climb, Stage::Core).iter().all(|load| *load == "lantern"));
    assert_eq!(loads_of(&climb, Stage::CrossCheck), ["sluice", "loom"]);
    assert!(outcome.confirmed && outcome.stage != Some(Stage::CrossCheck), "{outcome:?}");
    let runs: Vec<(&str, bool)> =
        outcome.by_load.iter().map(|of| (of.load.as_str(), of.gain.is_some())).collect();
    assert_eq!(runs, [("kiln", false), ("lantern", true), ("sluice", true), ("loom", true)]);
    let map = climb.map(&climb.next());
    assert!(map.trials.iter().filter_map(|trial| trial.gain_percent).all(|gain| gain < 20.0));
    let overall = LoadGain::overall(&outcome.by_load).unwrap();
    assert!((overall.percent() - outcome.gain_percent.unwrap()).abs() < 0.3, "{overall:?}");
}

#[test]
fn the_limits_part_of_the_gain_is_that_under_the_load_of_the_searches() {
    let mut climb = climb_by(Policy::FixedStep);
    while let Next::Trial(proposal) = climb.next() {
        let mut record = CARD.run(&climb, &proposal.request);
        // The full load makes much more of the raised limit.
        let raised = record.stage == Stage::Power && record.scene == "kiln";
        record.score = record.score.map(|score| if raised { score * 1.5 } else { score });
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }
    let under_full = climb.power_report().unwrap().gain_percent;
    let parts = climb.parts();
    let limit = parts.iter().find(|part| part.name == "power limit").expect("a raised limit");
    assert!(under_full > 40.0 && limit.percent < 20.0, "{under_full} and {limit:?}");
    assert!(!limit.is_measured && limit.error < 2.0, "{limit:?}");
}

#[rstest]
fn what_fails_under_another_load_goes_back_until_it_holds_under_all(
    #[values(Policy::FixedStep, Policy::Bisection, Policy::Bayesian)] policy: Policy,
    #[values(30, 10)] loom: i32,
) {
    let mut climb = climb_by(policy);
    let outcome = to_the_end(&mut climb, loom);
    assert_eq!(outcome.stage, Some(Stage::CrossCheck));
    let pair = outcome.pair;
    let edge = f64::from(loom) - CARD.shared * f64::from(pair.memory.0);
    assert!(f64::from(pair.core.0) < edge, "{pair:?}");
    let checks: Vec<(&str, bool)> = climb
        .trials_of(Stage::CrossCheck)
        .filter(|trial| trial.purpose != Purpose::Isolate)
        .map(|trial| (trial.scene.as_str(), trial.verdict().is_fault()))
        .collect();
    assert_eq!(checks[0], ("sluice", false));
    assert_eq!(*checks.last().unwrap(), ("loom", false));
    assert!(checks[1..checks.len() - 1].iter().all(|check| *check == ("loom", true)), "{checks:?}");
    assert!(checks.len() <= 6, "steps back grow: {checks:?}");
    // What held at bolder settings is not run again, and the claim is of what is kept.
    assert_eq!(checks.iter().filter(|(load, _)| *load == "sluice").count(), 1);
    let is_stock = outcome.settings == climb.held_settings();
    let claim = climb.claim_by(outcome.stage, outcome.pair);
    assert_eq!(claim.is_some(), !is_stock, "of raised limits alone, too");
}

#[test]
fn a_skipped_or_unfinished_cross_check_is_told_apart() {
    let mut climb = climb_by(Policy::FixedStep);
    for _ in 0..200 {
        if climb.stage() == Stage::CrossCheck {
            break;
        }
        let Next::Trial(proposal) = climb.next() else { panic!("{:?}", climb.next()) };
        let record = CARD.run(&climb, &proposal.request);
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }
    assert!(!climb.outcome().confirmed, "it has not run under the others yet");
    let skip = Directive {
        stage: Stage::CrossCheck,
        order: StageOrder::Skip,
        after: climb.trials().len() as u32,
    };
    climb.handle(ClimbEvent::Directed(skip));
    assert!(matches!(climb.next(), Next::Ended(_)));
    assert!(climb.outcome().confirmed, "whoever skips it does without");
}

#[test]
fn a_load_that_dies_at_stock_stops_the_climb_and_is_named() {
    let mut climb = climb_by(Policy::Bayesian);
    let stuck = loop {
        let proposal = match climb.next() {
            Next::Trial(proposal) => proposal,
            Next::Stuck(why) => break why,
            Next::Ended(_) => panic!("it went on without loom"),
        };
        let is_loom = proposal.request.load == "loom";
        let imagined = if is_loom { Imagined { core: 0, ..CARD } } else { CARD };
        let record = imagined.run(&climb, &proposal.request);
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    };
    assert!(matches!(&stuck, Stuck::LoadEnds { load, .. } if load == "loom"), "{stuck:?}");
}

#[test]
fn a_load_added_later_gets_its_baseline_before_the_climb_goes_on() {
    let mut climb = climb_by(Policy::Bayesian);
    to_the_end(&mut climb, CARD.core);
    let mut plan = climb.plan().clone();
    plan.cross_check.loads.push("squall".into());
    climb.handle(ClimbEvent::Planned(Box::new(plan)));
    let Next::Trial(proposal) = climb.next() else { panic!("{:?}", climb.next()) };
    assert_eq!(
        (proposal.request.stage, proposal.request.load.as_str()),
        (Stage::Baseline, "squall")
    );
    assert_eq!(proposal.request.asked, climb.held_settings());
    to_the_end(&mut climb, CARD.core);
    assert_eq!(loads_of(&climb, Stage::CrossCheck), ["sluice", "loom", "squall"]);
}

#[test]
fn a_voltage_or_a_curve_that_fails_elsewhere_is_given_back_step_by_step() {
    let climb = Climb::new(
        stages::tests::shaped(),
        Plan {
            cross_check: CrossCheckPlan { loads: vec!["loom".into()], ..Default::default() },
            ..Plan::default()
        },
        &[Stage::Baseline, Stage::UndervoltClock],
    )
    .unwrap();
    let mut settings = climb.held_settings();
    let depth = climb.depth_of(Stage::UndervoltClock).unwrap();
    settings = depth.write(&settings, 60, None);
    let card = climb.card();
    for step in [1, 2, 4, 64] {
        let milder = climb.milder(settings, None, step);
        assert!(settings.is_at_least_as_bold_as(&milder, card) || step == 64, "{step}");
        assert!(!milder.is_at_least_as_bold_as(&settings, card), "{step}: {milder:?}");
        settings = milder;
    }
    assert_eq!(settings.moved_but_fan(card), Vec::<String>::new(), "nothing is left to give back");
    assert_eq!(climb.axis(Domain::Core).map(|axis| axis.read(&settings)), Some(MhzOffset::STOCK));
}
