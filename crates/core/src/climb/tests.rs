//! Climbs driven by hand: no card, no clock, only verdicts.

use crate::air::fan::Fan;
use rstest::rstest;

use super::*;
use crate::fixtures::{card, seen};
use crate::judge::verdict::{Fault, Verdict};
use crate::plan::Policy;
use crate::units::MhzOffset;

/// A card that is clean below `edge` MHz and fails as `failure` from there on.
struct Pretend {
    edge: i32,
    /// Long runs fail from here on.
    long_edge: i32,
    failure: Verdict,
}

/// The steady policy on a plain scene: every step can be foretold.
fn plan() -> Plan {
    Plan { scene: "lantern".into(), policy: Policy::FixedStep, ..Plan::default() }
}

fn ended(climb: &Climb, stage: Stage) -> ClimbEvent {
    let after = climb.trials().len() as u32;
    ClimbEvent::Directed(Directive { stage, order: StageOrder::End, after })
}

/// A nudge to an offset of the core clock.
fn nudge_to(climb: &Climb, offset: i32) -> ClimbEvent {
    let core_offset = Some(MhzOffset(offset));
    let settings = Settings { core_offset, ..climb.held_settings() };
    let shown = format!("+{offset} MHz");
    ClimbEvent::Nudged(Some(Box::new(Nudge { stage: Stage::Core, settings, shown })))
}

fn climb_with(plan: Plan) -> Climb {
    Climb::new(card(), plan, &[Stage::Baseline, Stage::Core]).unwrap()
}

fn record(climb: &Climb, request: &TrialRequest, verdict: Verdict) -> TrialRecord {
    let offset = request.asked.core_offset.unwrap_or_default();
    let number = climb.trials().len() as u32 + 1;
    TrialRecord {
        taken: Some(request.asked),
        seen: seen(),
        seconds: request.seconds,
        score: Some(1_000.0 + f64::from(offset.0) / 4.0),
        ..request.judged(number, verdict, format!("{verdict}."))
    }
}

fn end(climb: &mut Climb, verdict: Verdict) -> MhzOffset {
    let Next::Trial(proposal) = climb.next() else { panic!("no trial: {:?}", climb.next()) };
    let record = record(climb, &proposal.request, verdict);
    let offset = climb.place(&record).core;
    climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    offset
}

fn with_baseline(plan: Plan) -> Climb {
    let mut climb = climb_with(plan);
    for _ in 0..3 {
        end(&mut climb, Verdict::Clean);
    }
    climb
}

fn run(climb: &mut Climb, pretend: &Pretend) -> (Vec<i32>, Outcome) {
    let mut tried = Vec::new();
    for _ in 0..100 {
        match climb.next() {
            Next::Trial(proposal) => {
                let value = proposal.request.asked.core_offset.unwrap_or_default().0;
                let long = proposal.request.seconds.value() > 3_000.0;
                let edge = if long { pretend.long_edge } else { pretend.edge };
                let verdict = if value < edge { Verdict::Clean } else { pretend.failure };
                tried.push(end(climb, verdict).0);
            }
            Next::Ended(outcome) => return (tried, *outcome),
            Next::Stuck(why) => panic!("stuck: {why:?}"),
        }
    }
    panic!("no end after 100 trials: {tried:?}")
}

fn pretend(edge: i32) -> Pretend {
    Pretend { edge, long_edge: edge, failure: Verdict::LoadDied }
}

#[test]
fn the_baseline_comes_first_and_warms_the_card_up_once() {
    let mut climb = climb_with(plan());
    let Next::Trial(first) = climb.next() else { panic!() };
    assert_eq!(first.request.warm_up, Seconds(900.0));
    end(&mut climb, Verdict::Clean);
    let Next::Trial(second) = climb.next() else { panic!() };
    assert_eq!((second.request.stage, second.request.warm_up), (Stage::Baseline, Seconds(20.0)));
    assert_eq!(climb.baseline(), None, "one run of three is no baseline");
}

#[test]
fn coarse_then_fine_then_confirmed_then_the_margin() {
    let mut climb = with_baseline(plan());
    let (tried, outcome) = run(&mut climb, &pretend(165));
    assert_eq!(tried, [60, 120, 180, 135, 150, 165, 150, 135]);
    assert_eq!(outcome.settings.core_offset, Some(MhzOffset(135)));
    assert!(outcome.confirmed);
    assert_eq!(outcome.kept_trial, Some(11));
    assert_eq!(outcome.trials, 11);
    assert!((outcome.gain_percent.unwrap() - 3.375).abs() < 1e-9);
}

#[rstest]
#[case::just_above_stock(15, 0)]
#[case::one_bin(30, 0)]
#[case::two_bins(45, 15)]
#[case::between_coarse_steps(100, 75)]
#[case::no_edge_in_reach(10_000, 285)]
fn what_is_kept_is_one_step_below_what_held(#[case] edge: i32, #[case] kept: i32) {
    let mut climb = with_baseline(plan());
    let (_, outcome) = run(&mut climb, &pretend(edge));
    assert_eq!(outcome.settings.core_offset, Some(MhzOffset(kept)));
}

#[rstest]
#[case(2, 1, 120)]
#[case(1, 0, 150)]
#[case(1, 2, 120)]
fn back_off_and_margin_follow_the_plan(
    #[case] back_off: i32,
    #[case] margin: i32,
    #[case] kept: i32,
) {
    let mut plan = plan();
    plan.core.back_off_steps = back_off;
    plan.core.margin_steps = margin;
    let (_, outcome) = run(&mut with_baseline(plan), &pretend(165));
    assert_eq!(outcome.settings.core_offset, Some(MhzOffset(kept)));
}

#[test]
fn a_confirming_run_that_fails_lowers_the_value_and_is_made_again() {
    let mut climb = with_baseline(plan());
    let late = Pretend { edge: 165, long_edge: 135, failure: Verdict::Artifacts };
    let (tried, outcome) = run(&mut climb, &late);
    assert_eq!(tried[tried.len() - 4..], [150, 135, 120, 105]);
    assert_eq!(outcome.settings.core_offset, Some(MhzOffset(105)));
}

#[rstest]
#[case(Verdict::Slower)]
#[case(Verdict::Throttled)]
#[case(Verdict::MachineDown)]
fn every_verdict_that_says_too_much_turns_the_climb_back(#[case] failure: Verdict) {
    let mut climb = with_baseline(plan());
    let (_, outcome) = run(&mut climb, &Pretend { edge: 90, long_edge: 90, failure });
    assert_eq!(outcome.settings.core_offset, Some(MhzOffset(60)));
}

#[rstest]
#[case(Verdict::Void)]
#[case(Verdict::NotTaken)]
fn a_run_that_proves_nothing_is_made_again(#[case] verdict: Verdict) {
    let mut climb = with_baseline(plan());
    assert_eq!(end(&mut climb, verdict), MhzOffset(60));
    let Next::Trial(again) = climb.next() else { panic!() };
    assert_eq!(again.request.asked.core_offset, Some(MhzOffset(60)));
    let at = "+60 MHz".into();
    assert_eq!(again.reason, Reason::Again { trial: 4, verdict, at });
}

#[test]
fn void_runs_without_end_stop_the_climb_with_a_way_out() {
    let mut climb = with_baseline(plan());
    for _ in 0..5 {
        end(&mut climb, Verdict::Void);
    }
    let Next::Stuck(why) = climb.next() else { panic!("{:?}", climb.next()) };
    let Stuck::InVain { runs, at, .. } = why else { panic!("{why:?}") };
    assert_eq!((runs, at.as_deref()), (5, Some("+60 MHz")));
    assert_eq!(climb.stage(), Stage::Core);
    climb.handle(ended(&climb, Stage::Core));
    assert!(matches!(climb.next(), Next::Ended(_)), "and that is a way out");
}

#[test]
fn runs_the_user_stopped_are_made_again_as_often_as_it_takes() {
    for mut climb in [climb_with(plan()), with_baseline(plan())] {
        for _ in 0..9 {
            let Next::Trial(proposal) = climb.next() else { panic!("{:?}", climb.next()) };
            let mut stopped = record(&climb, &proposal.request, Verdict::Void);
            stopped.faults = vec![Fault::at(Seconds(3.0), Fault::STOPPED)];
            climb.handle(ClimbEvent::TrialEnded(Box::new(stopped)));
        }
        assert!(matches!(climb.next(), Next::Trial(_)));
    }
}

#[test]
fn a_value_the_card_never_takes_is_the_ceiling() {
    let mut climb = with_baseline(plan());
    end(&mut climb, Verdict::Clean);
    for _ in 0..5 {
        assert_eq!(end(&mut climb, Verdict::NotTaken), MhzOffset(120));
    }
    assert_eq!(end(&mut climb, Verdict::Clean), MhzOffset(75));
}

#[test]
fn a_baseline_that_never_counts_is_stuck_and_says_what_ails() {
    let mut climb = climb_with(plan());
    for _ in 0..5 {
        end(&mut climb, Verdict::Artifacts);
    }
    let Next::Stuck(why) = climb.next() else { panic!() };
    let Stuck::BaselineInVain { runs, fails, .. } = why else { panic!("{why:?}") };
    assert_eq!((runs, fails.as_deref()), (5, Some("Test card")));
}

#[test]
fn what_the_card_rounded_counts_at_the_value_it_holds() {
    let mut climb = with_baseline(plan());
    climb.handle(nudge_to(&climb, 70));
    let Next::Trial(own) = climb.next() else { panic!() };
    let mut rounded = record(&climb, &own.request, Verdict::Clean);
    rounded.taken = Some(climb.settings_of(Pair { core: MhzOffset(60), ..Pair::default() }));
    climb.handle(ClimbEvent::TrialEnded(Box::new(rounded)));
    assert_eq!(climb.bracket(Stage::Core).unwrap().floor, MhzOffset(60));
}

#[test]
fn the_user_may_overrule_the_next_value_and_the_plan_takes_it_from_there() {
    let mut climb = with_baseline(plan());
    let nudged = |steps| climb.nudged_by(steps).unwrap().settings.core_offset;
    assert_eq!(nudged(3), Some(MhzOffset(105)));
    assert_eq!(nudged(99), Some(MhzOffset(300)), "never beyond the card's range");
    climb.handle(ClimbEvent::Nudged(climb.nudged_by(3).map(Box::new)));
    let Next::Trial(own) = climb.next() else { panic!() };
    assert_eq!(own.request.purpose, Purpose::Own);
    assert_eq!(end(&mut climb, Verdict::Clean), MhzOffset(105));
    assert_eq!(end(&mut climb, Verdict::LoadDied), MhzOffset(165), "coarse step from there");
}

#[test]
fn a_mark_of_the_user_outweighs_the_verdict_and_can_be_taken_back() {
    let mut climb = with_baseline(plan());
    end(&mut climb, Verdict::Clean);
    climb.handle(ClimbEvent::Marked { trial: 4, verdict: Some(Verdict::Artifacts) });
    let bracket = climb.bracket(Stage::Core).unwrap();
    assert_eq!(bracket.ceiling.map(|failure| failure.value), Some(MhzOffset(60)));
    climb.handle(ClimbEvent::Marked { trial: 4, verdict: None });
    assert_eq!(climb.bracket(Stage::Core).unwrap().floor, MhzOffset(60));
}

#[test]
fn ending_the_stage_early_keeps_what_is_known_less_the_margin() {
    let mut climb = with_baseline(plan());
    end(&mut climb, Verdict::Clean);
    end(&mut climb, Verdict::Clean);
    climb.handle(ended(&climb, Stage::Core));
    let Next::Ended(outcome) = climb.next() else { panic!() };
    assert_eq!(outcome.settings.core_offset, Some(MhzOffset(105)));
    assert!(!outcome.confirmed);
}

#[rstest]
#[case(45, false)]
#[case(60, true)]
#[case(75, true)]
fn where_the_machine_went_down_or_above_an_explicit_yes_is_needed(
    #[case] value: i32,
    #[case] risky: bool,
) {
    let mut climb = with_baseline(plan());
    end(&mut climb, Verdict::MachineDown);
    climb.handle(nudge_to(&climb, value));
    let Next::Trial(proposal) = climb.next() else { panic!() };
    let moved = vec!["core clock offset +60 MHz".to_owned()];
    let risk = Risk::MachineDown { trial: 4, climb: None, is_same: value == 60, moved };
    assert_eq!(proposal.risk, risky.then_some(risk));
}

#[test]
fn a_long_run_below_what_is_kept_confirms_nothing() {
    let mut climb = with_baseline(plan());
    let Next::Trial(proposal) = climb.next() else { panic!() };
    let mut long = record(&climb, &proposal.request, Verdict::Clean);
    long.seconds = Seconds(4_000.0);
    climb.handle(ClimbEvent::TrialEnded(Box::new(long)));
    assert_eq!(end(&mut climb, Verdict::Clean), MhzOffset(120));
    climb.handle(ended(&climb, Stage::Core));
    let outcome = climb.outcome();
    assert_eq!(outcome.settings.core_offset, Some(MhzOffset(105)));
    assert!(!outcome.confirmed, "only +60 MHz ran for an hour");
}

#[rstest]
fn no_policy_proposes_what_took_the_machine_down_here_or_in_another_climb(
    #[values(Policy::FixedStep, Policy::Bisection, Policy::Bayesian)] policy: Policy,
    #[values(false, true)] elsewhere: bool,
) {
    for edge in (15..300).step_by(15) {
        let mut climb = with_baseline(Plan { policy, ..plan() });
        let mut downed = Vec::new();
        if elsewhere {
            // Not by this climb's own trials: what lies below would hold for hours.
            let asked = Settings { core_offset: Some(MhzOffset(edge)), ..climb.held_settings() };
            downed.push(asked);
            let of_another = Downed { climb: 1, trial: 7, asked, held: asked };
            climb.handle(ClimbEvent::Remembered(vec![of_another]));
        }
        for _ in 0..200 {
            let Next::Trial(proposal) = climb.next() else { break };
            let asked = proposal.request.asked;
            let bold = |downed: &&Settings| asked.is_at_least_as_bold_as(downed, climb.card());
            assert_eq!(downed.iter().find(bold), None, "{policy}, edge {edge}: {asked:?}");
            assert_eq!(proposal.risk, None, "{policy}, edge {edge}");
            let fails = !elsewhere && asked.core_offset.unwrap().0 > edge;
            if fails {
                downed.push(asked);
            }
            end(&mut climb, if fails { Verdict::MachineDown } else { Verdict::Clean });
        }
        let Next::Ended(outcome) = climb.next() else { panic!("{policy}, edge {edge}: no end") };
        assert!(outcome.settings.core_offset.unwrap().0 <= edge, "{policy}, edge {edge}");
    }
}

#[test]
fn the_same_trials_bring_a_climb_to_the_same_place() {
    let mut climb = with_baseline(plan());
    for verdict in [Verdict::Clean, Verdict::Clean, Verdict::DriverReset, Verdict::Clean] {
        end(&mut climb, verdict);
    }
    let mut again = climb_with(plan());
    for trial in climb.trials() {
        again.handle(ClimbEvent::TrialEnded(Box::new(trial.clone())));
    }
    assert_eq!(again.next(), climb.next());
    assert_eq!(again.outlook(), climb.outlook());
}

#[test]
fn steps_smaller_than_the_cards_bin_are_raised_to_it() {
    let mut plan = plan();
    (plan.core.coarse_step_mhz, plan.core.fine_step_mhz) = (50, 5);
    let (tried, _) = run(&mut with_baseline(plan), &pretend(100));
    assert_eq!(tried[..2], [45, 90]);
    assert!(tried.iter().all(|value| value % 15 == 0), "{tried:?}");
}

#[test]
fn the_outlook_shrinks_to_nothing() {
    let mut climb = with_baseline(plan());
    for verdict in [Verdict::Clean, Verdict::Clean, Verdict::LoadDied] {
        end(&mut climb, verdict);
    }
    let Left { trials: (least, most), .. } = climb.outlook().climb;
    assert!(
        least <= 5 && (5..20).contains(&most),
        "{least} to {most}: at best three steps and two"
    );
    run(&mut climb, &pretend(165));
    assert_eq!(climb.outlook().climb, Left::default());
}

#[rstest]
#[case(&[], ClimbError::NoStage)]
#[case(&[Stage::Core], ClimbError::NoBaseline(Stage::Core))]
fn stages_that_make_no_climb_are_refused(#[case] stages: &[Stage], #[case] error: ClimbError) {
    assert_eq!(Climb::new(card(), plan(), stages).unwrap_err(), error);
}

#[test]
fn a_card_without_the_setting_is_told_by_name() {
    let mut bare = card();
    bare.offers.retain(|offer| offer.kind != SettingKind::CoreOffset);
    let error = Climb::new(bare, plan(), &[Stage::Baseline, Stage::Core]).unwrap_err();
    assert!(error.to_string().contains("core clock, which Test card does not offer"));
}

/// A small generator of numbers, so that a failing course can be made again from its seed
/// (Knuth, *The Art of Computer Programming*, vol. 2, 3.3.4, line 26).
fn dice(seed: u64) -> impl FnMut(u64) -> u64 {
    let mut state = seed;
    move |sides| {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % sides
    }
}

/// Whatever verdicts come, in whatever order: a climb comes to an end, never leaves the card's
/// range, never goes at or above what failed, and always gives a reason.
#[test]
fn no_course_of_verdicts_leads_a_climb_astray() {
    for seed in 0..2_000 {
        let mut roll = dice(seed);
        let mut climb = with_baseline(plan());
        let mut ended = false;
        for _ in 0..200 {
            let proposal = match climb.next() {
                Next::Trial(proposal) => proposal,
                Next::Ended(outcome) => {
                    let kept = outcome.settings.core_offset.unwrap();
                    let failed = climb.bracket(Stage::Core).unwrap().ceiling;
                    assert!(failed.is_none_or(|f| kept < f.value || kept == MhzOffset::STOCK));
                    ended = true;
                    break;
                }
                Next::Stuck(why) => {
                    assert!(matches!(why, Stuck::InVain { .. }), "seed {seed}: {why:?}");
                    ended = true;
                    break;
                }
            };
            let value = proposal.request.asked.core_offset.unwrap();
            let failed = climb.bracket(Stage::Core).unwrap().ceiling;
            assert!((MhzOffset(0)..=MhzOffset(300)).contains(&value), "seed {seed}: {value}");
            assert!(failed.is_none_or(|f| value < f.value), "seed {seed}: {value} is too much");
            assert_eq!(value.0 % 15, 0, "seed {seed}: {value} is no bin");
            assert_eq!(proposal.risk, None, "seed {seed}");
            let verdict = match roll(10) {
                0 => Verdict::Void,
                1 => Verdict::NotTaken,
                2 => Verdict::ALL[roll(4) as usize],
                3 => Verdict::Slower,
                _ => Verdict::Clean,
            };
            end(&mut climb, verdict);
        }
        assert!(ended, "seed {seed}: no end after 200 trials");
    }
}

/// The user may do anything at any time; the climb must still know what comes next.
#[test]
fn no_course_of_interference_breaks_a_climb() {
    for seed in 0..500 {
        let mut roll = dice(seed);
        let mut climb = climb_with(plan());
        for _ in 0..60 {
            match roll(6) {
                0 => {
                    let wanted = climb.nudged_by(roll(60) as i32 - 30);
                    climb.handle(ClimbEvent::Nudged(wanted.clone().map(Box::new)));
                    let value = wanted.as_ref().and_then(|nudge| nudge.settings.core_offset);
                    assert!(value.is_none_or(|v| (-150..=300).contains(&v.0)));
                }
                1 => {
                    let trial = roll(12) as u32;
                    let verdict = Verdict::ALL.get(roll(12) as usize).copied();
                    climb.handle(ClimbEvent::Marked { trial, verdict });
                }
                2 if roll(8) == 0 => climb.handle(ended(&climb, climb.stage())),
                _ => {
                    if let Next::Trial(proposal) = climb.next() {
                        let verdict = Verdict::ALL[roll(9) as usize];
                        let record = record(&climb, &proposal.request, verdict);
                        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
                    }
                }
            }
            let outcome = climb.outcome();
            let kept = outcome.settings.core_offset.unwrap();
            assert!((MhzOffset(0)..=MhzOffset(300)).contains(&kept), "seed {seed}: {kept}");
            assert_eq!(outcome.trials, climb.trials().len(), "seed {seed}");
        }
    }
}

#[test]
fn a_baseline_ended_early_goes_by_the_runs_there_are() {
    let mut climb = climb_with(plan());
    end(&mut climb, Verdict::Clean);
    climb.handle(ended(&climb, Stage::Baseline));
    assert_eq!(climb.baseline().map(|b| (b.runs, b.noise)), Some((1, Percent(0.0))));
    assert_eq!(climb.stage(), Stage::Core);
    let mut none = climb_with(plan());
    none.handle(ended(&none, Stage::Baseline));
    let Next::Stuck(why) = none.next() else { panic!("{:?}", none.next()) };
    assert_eq!(why, Stuck::NoBaseline);
}

#[test]
fn a_climb_of_the_baseline_alone_ends_with_stock() {
    let mut climb = Climb::new(card(), plan(), &[Stage::Baseline]).unwrap();
    for _ in 0..3 {
        end(&mut climb, Verdict::Clean);
    }
    let Next::Ended(outcome) = climb.next() else { panic!() };
    assert_eq!(outcome.settings.core_offset, Some(MhzOffset::STOCK));
    assert_eq!(outcome.score, Some(1_000.0));
    assert!(!outcome.searches && outcome.moved.is_empty());
    assert_eq!(outcome.baseline.map(|baseline| baseline.score), Some(1_000.0));
    assert_eq!(climb.nudged_by(1), None, "there is nothing to nudge");
    assert_eq!(climb.bracket(Stage::Core), None);
}

#[test]
fn scores_are_held_against_the_noise_of_the_machine() {
    let mut climb = climb_with(plan());
    for score in [980.0, 1_000.0, 1_020.0] {
        let Next::Trial(proposal) = climb.next() else { panic!() };
        let mut run = record(&climb, &proposal.request, Verdict::Clean);
        run.score = Some(score);
        climb.handle(ClimbEvent::TrialEnded(Box::new(run)));
    }
    let reference = climb.reference("lantern").unwrap();
    assert_eq!(reference.score, Some(1_000.0));
    assert_eq!(reference.tolerance, Percent(6.0), "three times a spread of two percent");
}

#[test]
fn a_warm_up_that_was_cut_short_is_made_again() {
    let mut climb = climb_with(plan());
    let Next::Trial(first) = climb.next() else { panic!() };
    let mut stopped = record(&climb, &first.request, Verdict::Void);
    stopped.seconds = Seconds(30.0);
    stopped.faults = vec![Fault::at(Seconds(30.0), Fault::STOPPED)];
    climb.handle(ClimbEvent::TrialEnded(Box::new(stopped)));
    let Next::Trial(again) = climb.next() else { panic!() };
    assert_eq!(again.request.warm_up, Seconds(900.0));
}

fn wish(memory: i32) -> Settings {
    Settings { memory_offset: Some(MhzOffset(memory)), ..Settings::stock(&card()) }
}

#[test]
fn settings_of_ones_own_come_next_and_teach_no_stage() {
    let mut climb = with_baseline(plan());
    let planned = climb.next();
    climb.handle(ClimbEvent::Wished(Some(Box::new(wish(100)))));
    let Next::Trial(own) = climb.next() else { panic!() };
    assert_eq!((own.request.stage, own.request.purpose), (Stage::Own, Purpose::Own));
    assert_eq!(own.request.asked, wish(100));
    let moved = vec!["memory clock offset +100 MHz".to_owned()];
    assert_eq!(own.reason, Reason::YourSettings { moved });
    let bracket = climb.bracket(Stage::Core);
    end(&mut climb, Verdict::LoadDied);
    assert_eq!(climb.bracket(Stage::Core), bracket, "the search is where it was");
    assert_eq!(climb.next(), planned, "and goes on as planned");
    climb.handle(ClimbEvent::Wished(Some(Box::new(wish(50)))));
    climb.handle(ClimbEvent::Nudged(None));
    assert_eq!(climb.next(), planned, "a wish can be dropped");
}

#[test]
fn settings_of_ones_own_that_took_the_machine_down_need_a_yes() {
    let mut climb = with_baseline(plan());
    climb.handle(ClimbEvent::Wished(Some(Box::new(wish(100)))));
    end(&mut climb, Verdict::MachineDown);
    let risk = |climb: &mut Climb, settings: Settings| {
        climb.handle(ClimbEvent::Wished(Some(Box::new(settings))));
        let Next::Trial(own) = climb.next() else { panic!() };
        own.risk
    };
    let is_same = |risk| matches!(risk, Some(Risk::MachineDown { is_same: true, .. }));
    assert!(is_same(risk(&mut climb, wish(100))));
    let bolder = risk(&mut climb, wish(110));
    assert!(bolder.is_some() && !is_same(bolder));
    assert_eq!(risk(&mut climb, wish(90)), None);
    // A fan turned up makes them no other settings.
    let fan = Some(Fan::Fixed(Percent(45.0)));
    assert!(risk(&mut climb, Settings { fan, ..wish(100) }).is_some());
}

#[test]
fn settings_that_were_seen_to_hold_since_need_no_yes_any_more() {
    let mut climb = with_baseline(plan());
    let try_it = |climb: &mut Climb, settings: Settings, verdict| {
        climb.handle(ClimbEvent::Wished(Some(Box::new(settings))));
        let Next::Trial(own) = climb.next() else { panic!() };
        end(climb, verdict);
        own.risk.is_some()
    };
    assert!(!try_it(&mut climb, wish(100), Verdict::MachineDown));
    assert!(try_it(&mut climb, wish(100), Verdict::Void), "a void run takes nothing back");
    assert!(try_it(&mut climb, wish(100), Verdict::Clean));
    assert!(!try_it(&mut climb, wish(100), Verdict::MachineDown), "the last trial counts");
    assert!(try_it(&mut climb, wish(100), Verdict::Clean));
}

#[test]
fn baseline_runs_that_the_load_ends_blame_the_load_and_are_tried_again_after_a_start() {
    let mut climb = climb_with(plan());
    while let Next::Trial(_) = climb.next() {
        end(&mut climb, Verdict::LoadDied);
    }
    let Next::Stuck(why) = climb.next() else { panic!("not stuck") };
    let Stuck::LoadEnds { load, runs, .. } = why else { panic!("the card is blamed: {why:?}") };
    assert_eq!((load.as_str(), runs), ("lantern", 5));
    climb.handle(ClimbEvent::TakenUp);
    assert!(matches!(climb.next(), Next::Trial(_)), "mended meanwhile");
    end(&mut climb, Verdict::Clean);
    assert_eq!(climb.baseline_runs(), 1);
}

#[test]
fn runs_that_prove_nothing_are_tried_again_after_a_start() {
    let mut climb = with_baseline(plan());
    while let Next::Trial(_) = climb.next() {
        end(&mut climb, Verdict::Void);
    }
    assert!(matches!(climb.next(), Next::Stuck(_)));
    climb.handle(ClimbEvent::TakenUp);
    assert!(matches!(climb.next(), Next::Trial(_)));
}

/// What the bayesian policy keeps on a card that fails within seconds above an edge, where the trial
/// of number `spurious` ends in a fault that has nothing to do with it.
fn kept_by_belief(edge: i32, spurious: Option<(u32, Verdict)>) -> i32 {
    let mut climb = with_baseline(Plan { policy: Policy::Bayesian, ..plan() });
    for _ in 0..200 {
        let Next::Trial(proposal) = climb.next() else { break };
        let number = climb.trials().len() as u32 + 1;
        let past = proposal.request.asked.core_offset.unwrap().0 > edge;
        let verdict = match spurious.filter(|(at, _)| *at == number) {
            Some((_, verdict)) => verdict,
            None if past => Verdict::Artifacts,
            None => Verdict::Clean,
        };
        let mut ended = record(&climb, &proposal.request, verdict);
        if verdict != Verdict::Clean {
            ended.seconds = Seconds(30.0);
            ended.faults = vec![Fault::at(Seconds(30.0), verdict.label())];
        }
        climb.handle(ClimbEvent::TrialEnded(Box::new(ended)));
    }
    let Next::Ended(outcome) = climb.next() else { panic!("no end") };
    outcome.settings.core_offset.unwrap().0
}

#[rstest]
fn one_false_alarm_does_not_poison_the_search(
    #[values(90, 150, 210)] edge: i32,
    #[values(4, 5)] number: u32,
    #[values(Verdict::LoadDied, Verdict::DriverReset)] verdict: Verdict,
) {
    let without = kept_by_belief(edge, None);
    let with = kept_by_belief(edge, Some((number, verdict)));
    assert!(without > 0 && without <= edge, "{without}");
    assert!(with >= without - 30, "{with} instead of {without}");
    assert!(with <= edge, "{with}");
}

/// A segment of a free run that ended so after `seconds`.
fn segment(climb: &Climb, settings: Settings, seconds: f64, verdict: Verdict) -> ClimbEvent {
    let request = TrialRequest {
        stage: Stage::Own,
        purpose: Purpose::Segment,
        asked: settings,
        load: climb.plan().scene.clone(),
        seconds: Seconds(seconds),
        warm_up: Seconds(3.0),
        warm_up_bounds: (Seconds(3.0), Seconds(3.0)),
        rest: Seconds(0.0),
    };
    let faults = match verdict.is_fault() {
        true => vec![Fault::at(Seconds(seconds), verdict.label())],
        false => Vec::new(),
    };
    let record = TrialRecord { faults, ..record(climb, &request, verdict) };
    ClimbEvent::TrialEnded(Box::new(record))
}

fn at_core(climb: &Climb, mhz: i32) -> Settings {
    Settings { core_offset: Some(MhzOffset(mhz)), ..climb.powered_settings() }
}

fn believed(climb: &Climb) -> (i32, i32) {
    let stairs = climb.stairs(Domain::Core, &climb.next()).unwrap();
    let (low, high) = stairs.band.unwrap();
    (low.0, high.0)
}

#[rstest]
#[case::a_fault(90, 20.0, Verdict::LoadDied)]
#[case::half_an_hour(150, 1_800.0, Verdict::Clean)]
fn a_belief_learns_from_the_segments_of_free_runs(
    #[case] mhz: i32,
    #[case] seconds: f64,
    #[case] verdict: Verdict,
) {
    let mut climb = with_baseline(Plan { policy: Policy::Bayesian, ..plan() });
    let before = believed(&climb);
    let trials = climb.trials().len();
    climb.handle(segment(&climb, at_core(&climb, mhz), seconds, verdict));
    let after = believed(&climb);
    match verdict.is_fault() {
        true => assert!(after.1 < before.1, "{before:?}, then {after:?}"),
        false => assert!(after.0 > before.0 && after.0 >= mhz - 30, "{before:?}, then {after:?}"),
    }
    assert_eq!(climb.stage(), Stage::Core, "a segment is no trial of the stage");
    assert_eq!(climb.trials().len(), trials + 1);
}

#[rstest]
#[case::more_power(|s: &mut Settings| s.power_limit = Some(crate::units::Watt(286.0)))]
#[case::a_cooler_target(|s: &mut Settings| s.temperature_target = Some(crate::units::Celsius(70.0)))]
fn a_segment_with_something_else_moved_says_nothing_of_a_clock(#[case] move_it: fn(&mut Settings)) {
    let mut climb = with_baseline(Plan { policy: Policy::Bayesian, ..plan() });
    let before = believed(&climb);
    let mut settings = at_core(&climb, 90);
    move_it(&mut settings);
    climb.handle(segment(&climb, settings, 20.0, Verdict::LoadDied));
    assert_eq!(believed(&climb), before);
}

#[test]
fn a_segment_that_proves_nothing_teaches_nothing_and_stops_no_stage() {
    let mut climb = with_baseline(Plan { policy: Policy::Bayesian, ..plan() });
    let before = (believed(&climb), climb.next());
    for _ in 0..8 {
        climb.handle(segment(&climb, at_core(&climb, 90), 4.0, Verdict::Void));
    }
    assert_eq!((believed(&climb), climb.next()), before);
}

#[test]
fn steps_by_hand_go_by_the_trials_of_their_stage_and_by_no_segment() {
    let mut climb = with_baseline(plan());
    let Next::Trial(planned) = climb.next() else { panic!() };
    climb.handle(segment(&climb, at_core(&climb, 200), 20.0, Verdict::Clean));
    let Next::Trial(next) = climb.next() else { panic!() };
    assert_eq!(next.request.asked, planned.request.asked);
    // But what took the machine down is never proposed, whoever tried it.
    climb.handle(segment(&climb, at_core(&climb, 30), 20.0, Verdict::MachineDown));
    let (tried, _) = run(&mut climb, &pretend(1_000));
    assert!(tried.iter().all(|value| *value < 30), "{tried:?}");
}

/// Values tried by a climb that starts from a value, with an edge at `edge`.
fn tried_from(policy: Policy, start: i32, edge: i32) -> (Vec<i32>, Outcome) {
    let mut plan = Plan { policy, ..plan() };
    plan.core.start_mhz = Some(start);
    run(&mut with_baseline(plan), &pretend(edge))
}

#[test]
fn steady_steps_begin_somewhat_below_the_value_they_start_from() {
    let (tried, outcome) = tried_from(Policy::FixedStep, 240, 270);
    let (from_stock, same) = run(&mut with_baseline(plan()), &pretend(270));
    assert!(tried[0] < 240 && tried[0] > 100, "{tried:?}");
    assert!(tried.len() < from_stock.len(), "{tried:?} against {from_stock:?}");
    assert_eq!(outcome.settings.core_offset, same.settings.core_offset);
}

#[test]
fn a_start_that_fails_at_once_is_given_up_for_steps_from_stock() {
    let (tried, outcome) = tried_from(Policy::FixedStep, 280, 100);
    assert!(tried[0] > 100, "{tried:?}");
    assert_eq!(tried[1], 60, "a coarse step from stock: {tried:?}");
    assert!(outcome.settings.core_offset.unwrap() < MhzOffset(100));
}

#[rstest]
fn bold_values_to_start_from_are_approached_from_below(
    #[values(Policy::FixedStep, Policy::Bisection, Policy::Bayesian)] policy: Policy,
    #[values(60, 150, 240, 300)] start: i32,
    #[values(45, 165, 290)] edge: i32,
) {
    let (tried, outcome) = tried_from(policy, start, edge);
    let clock = card().limits.boost_clock.value();
    let mut highest = (f64::from(start) - 0.03 * clock).max(0.0);
    for value in &tried {
        // A coarse step of the stepwise policies, two percent of the clock of the bayesian one.
        let step = (0.02 * clock).max(60.0);
        assert!(f64::from(*value) <= highest + step, "{value} after {highest}: {tried:?}");
        if *value < edge {
            highest = highest.max(f64::from(*value));
        }
    }
    let kept = outcome.settings.core_offset.unwrap_or_default();
    assert!(kept < MhzOffset(edge), "{kept:?}");
    assert!(
        tried.iter().any(|value| *value >= kept.0),
        "never kept above what was tried: {tried:?}"
    );
}

#[test]
fn settings_become_a_start_on_every_scale_and_stock_none() {
    let mut settings = Settings::stock(&card());
    settings.core_offset = Some(MhzOffset(120));
    settings.memory_offset = Some(MhzOffset(-50));
    settings.set(SettingKind::VoltageOffset, Some(-40.0));
    let from = starting_from(plan(), &settings, &card());
    assert_eq!((from.core.start_mhz, from.memory.start_mhz), (Some(120), None));
    assert_eq!(from.voltage.start_off_mv, None, "the card offers no voltage");
    assert_eq!(starting_from(from, &Settings::stock(&card()), &card()), plan());
    settings.core_offset = Some(MhzOffset(4_000));
    assert_eq!(starting_from(plan(), &settings, &card()).core.start_mhz, Some(300));
}

#[test]
fn a_start_that_the_card_does_not_take_is_refused_with_the_most_it_takes() {
    let mut plan = plan();
    plan.core.start_percent = Some(50.0);
    let error = Climb::new(card(), plan, &[Stage::Baseline, Stage::Core]).unwrap_err();
    assert!(error.to_string().contains("takes at most +300 MHz"), "{error}");
}
