//! Whole climbs on an imagined card with core and memory: all stages, both ways to go about it, and
//! what is said of them.

use rstest::rstest;

use super::*;
use crate::card::description::{CardDescription, Offer, Reading};
use crate::ceiling::field::LimitField;
use crate::ceiling::table::LimitTables;
use crate::fixtures::{card as core_card, limit_table, seen};
use crate::judge::verdict::{Fault, Verdict};
use crate::load::artifact::Domain;
use crate::measure::clock_line::ClockLine;
use crate::measure::limiter::Limiter;
use crate::measure::monitor::Seen;
use crate::plan::{Margin, Policy};
use crate::units::MhzOffset;
use crate::units::{Celsius, Mhz, Percent, Watt};

/// What an imagined card does. It fails at once from its edges on.
#[derive(Clone, Copy)]
pub(super) struct Imagined {
    /// Edge of the core with the memory at stock, MHz from stock.
    pub(super) core: i32,
    /// Edge of the memory with the core at stock.
    pub(super) memory: i32,
    /// Share of the memory's offset that the core's edge is lower by.
    pub(super) shared: f64,
    /// Power limit from which on it fails.
    pub(super) most_power: f64,
}

pub(super) const CARD: Imagined =
    Imagined { core: 130, memory: 170, shared: 0.3, most_power: 1_000.0 };

pub(super) fn card() -> CardDescription {
    let mut card = core_card();
    card.offers.push(Offer {
        kind: SettingKind::MemoryOffset,
        reading: Reading::Offset,
        minimum: -200.0,
        maximum: 400.0,
        step: 5.0,
        stock: Some(0.0),
        makers_maximum: None,
    });
    card
}

fn climb_by(policy: Policy) -> Climb {
    let plan = Plan { policy, ..Plan::default() };
    Climb::new(card(), plan, &Stage::USUAL).unwrap()
}

impl Imagined {
    /// How a run ends. Everything about it follows from what was asked.
    pub(super) fn run(self, climb: &Climb, request: &TrialRequest) -> TrialRecord {
        let asked = request.asked;
        let offset = |value: Option<MhzOffset>| f64::from(value.unwrap_or_default().0);
        let (core, memory) = (offset(asked.core_offset), offset(asked.memory_offset));
        let power = asked.power_limit.map_or(220.0, Watt::value);
        let edge = f64::from(self.core) - self.shared * memory;
        let fails = core >= edge || memory >= f64::from(self.memory) || power >= self.most_power;
        let raised = power > 220.0;
        let verdict = if fails { Verdict::LoadDied } else { Verdict::Clean };
        let boost = if raised { 0.02 } else { 0.0 };
        let gain = boost + 0.4 * core / 2_050.0 + 0.2 * memory / 1_750.0;
        let number = climb.trials().len() as u32 + 1;
        // Runs scatter by a thousandth, each in its own way.
        let chance = [0.0, 0.001, -0.001, 0.0005, -0.0005][number as usize % 5];
        let faults = if fails { vec![Fault::at(Seconds(40.0), "lost")] } else { Vec::new() };
        TrialRecord {
            taken: Some(asked),
            seen: Seen {
                clock_line: Some(ClockLine {
                    average: Mhz(2_000.0 + if raised { 40.0 } else { 0.0 } + core),
                    lowest: Mhz(1_950.0),
                    highest: Mhz(2_100.0),
                    flatness: Percent(if raised { 98.0 } else { 60.0 }),
                    dips: vec![],
                }),
                effective_clock: Some(Mhz(2_000.0 + core)),
                average_power: Some(Watt(power - 5.0)),
                hot_spot_max: Some(Celsius(if raised { 80.0 } else { 74.0 })),
                limiters: vec![if raised {
                    (Limiter::Voltage, 1.0)
                } else {
                    (Limiter::Power, 1.0)
                }],
                ..seen()
            },
            seconds: if fails { Seconds(40.0) } else { request.seconds },
            score: (!fails).then_some(1_000.0 * (1.0 + gain) * (1.0 + chance)),
            faults,
            ..request.judged(number, verdict, format!("{verdict}."))
        }
    }

    /// Makes the trial that is proposed.
    pub(in crate::climb) fn step(self, climb: &mut Climb) -> TrialRecord {
        let Next::Trial(proposal) = climb.next() else { panic!("no trial: {:?}", climb.next()) };
        let record = self.run(climb, &proposal.request);
        climb.handle(ClimbEvent::TrialEnded(Box::new(record.clone())));
        record
    }

    /// Makes trials until `done`.
    fn until(self, climb: &mut Climb, done: impl Fn(&Climb) -> bool) {
        for _ in 0..200 {
            if done(climb) {
                return;
            }
            self.step(climb);
        }
        panic!("not after 200 trials");
    }

    fn to_the_end(self, climb: &mut Climb) -> Outcome {
        self.until(climb, |climb| !matches!(climb.next(), Next::Trial(_)));
        match climb.next() {
            Next::Ended(outcome) => *outcome,
            other => panic!("{other:?}"),
        }
    }

    /// Whether settings are below both edges.
    fn holds(self, pair: Pair) -> bool {
        f64::from(pair.core.0) < f64::from(self.core) - self.shared * f64::from(pair.memory.0)
            && pair.memory.0 < self.memory
    }
}

#[test]
fn with_the_memory_at_stock_no_more_of_the_core_is_kept_than_its_trials_support() {
    let imagined = Imagined { memory: 5, ..CARD };
    let mut climb = climb_by(Policy::Bayesian);
    let outcome = imagined.to_the_end(&mut climb);
    assert_eq!(outcome.pair.memory, MhzOffset::STOCK);
    assert!(climb.trials().iter().any(|trial| trial.stage == Stage::Together));
    let margin = climb.plan().margin;
    let belief = climb.belief(Domain::Core).unwrap();
    let supported = belief.holds_to(margin.hours(), margin.faults(), margin.confidence());
    assert!(f64::from(outcome.pair.core.0) <= supported, "{:?}, {supported} MHz", outcome.pair);
}

#[rstest]
fn every_policy_takes_all_stages_in_their_order_and_keeps_what_holds(
    #[values(Policy::FixedStep, Policy::Bisection, Policy::Bayesian)] policy: Policy,
    #[values(CARD, Imagined { core: 110, ..CARD }, Imagined { memory: 90, shared: 0.1, ..CARD })]
    imagined: Imagined,
) {
    let mut climb = climb_by(policy);
    let outcome = imagined.to_the_end(&mut climb);
    assert!(imagined.holds(outcome.pair), "{:?}", outcome.pair);
    assert_ne!(outcome.pair, Pair::default());
    assert!(outcome.confirmed && outcome.gain_percent.unwrap() > 2.0, "{outcome:?}");
    let mut stages: Vec<Stage> = climb.trials().iter().map(|trial| trial.stage).collect();
    stages.dedup();
    assert_eq!(stages, Stage::USUAL);
    assert_eq!(climb.outlook().climb, Left::default(), "nothing is left");
    // Steps by hand prove less than is claimed of anything.
    assert!(outcome.claim.is_some() || climb.plan().policy != Policy::Bayesian);
    let claim = climb.claim_by(outcome.stage, outcome.pair).unwrap();
    assert_eq!((claim.margin, claim.span), (Margin::Daily, Seconds(86_400.0)));
    if policy == Policy::Bayesian {
        // A clock that stays at stock is as sure as its trials made it, which are few where it fails early.
        let fails_early = imagined.memory < CARD.memory;
        let least = if fails_early { 0.9 } else { claim.margin.confidence() };
        assert!(claim.chance >= least, "{claim:?}");
    }
}

#[rstest]
fn core_and_memory_are_each_looked_for_with_the_other_at_stock(
    #[values(Policy::FixedStep, Policy::Bayesian)] policy: Policy,
) {
    let mut climb = climb_by(policy);
    CARD.to_the_end(&mut climb);
    for trial in climb.trials() {
        let at = climb.place(trial);
        match trial.stage {
            Stage::Core => assert_eq!(at.memory, MhzOffset::STOCK),
            Stage::Memory => assert_eq!(at.core, MhzOffset::STOCK),
            Stage::Baseline | Stage::Power => assert_eq!(at, Pair::default()),
            _ => {}
        }
    }
}

#[test]
fn the_power_stage_says_what_it_alone_brought() {
    let mut climb = climb_by(Policy::FixedStep);
    CARD.until(&mut climb, |climb| climb.is_done(Stage::Power) && climb.has_begun(Stage::Power));
    let report = climb.power_report().unwrap();
    assert_eq!(report.limit, Some((Watt(220.0), Watt(286.0))));
    assert_eq!(report.target, Some((Celsius(83.0), Celsius(90.0))));
    assert!((report.gain_percent - 2.0).abs() < 0.2, "{}", report.gain_percent);
    assert_eq!(
        (report.gain, report.clock, report.flatness),
        (Gain::Clear, Mhz(40.0), Percent(38.0))
    );
    assert_eq!((report.power, report.hotter), (Some(Watt(66.0)), Some(Celsius(6.0))));
    let next = CARD.step(&mut climb);
    assert_eq!(next.asked.power_limit, Some(Watt(286.0)), "what held stays raised");
}

#[rstest]
#[case::all_of_it_holds(400.0, &[286.0, 297.0, 308.0, 320.0, 329.0], 329.0)]
#[case::the_third_rung_fails(300.0, &[286.0, 297.0, 308.0, 297.0], 297.0)]
#[case::the_makers_own_fails(286.0, &[286.0, 253.0], 253.0)]
fn beyond_the_makers_limits_the_power_goes_up_by_small_steps(
    #[case] most_power: f64,
    #[case] tried: &[f64],
    #[case] kept: f64,
) {
    let mut card = card();
    let of = |value| limit_table(&[(LimitField::PowerLimit, value)]);
    card.limit_tables = Some(Box::new(LimitTables { makers: of(286.0), in_force: of(329.0) }));
    let mut offers = card.offers.iter_mut();
    let power = offers.find(|offer| offer.kind == SettingKind::PowerLimit).unwrap();
    (power.maximum, power.makers_maximum) = (329.0, Some(286.0));
    let plan = Plan { policy: Policy::FixedStep, ..Plan::default() };
    let mut climb = Climb::new(card, plan, &Stage::USUAL).unwrap();
    let imagined = Imagined { most_power, ..CARD };
    imagined.until(&mut climb, |climb| climb.stage() == Stage::Core);
    let of_stage = climb.trials().iter().filter(|trial| trial.stage == Stage::Power);
    let mut asked: Vec<f64> =
        of_stage.map(|trial| trial.asked.power_limit.unwrap().value()).collect();
    asked.dedup();
    assert_eq!(asked, tried);
    let next = imagined.step(&mut climb);
    assert_eq!(next.asked.power_limit, Some(Watt(kept)));
}

#[rstest]
#[case::half_the_way(260.0, 253.0)]
#[case::a_quarter_of_it(240.0, 236.0)]
#[case::none_of_it(230.0, 220.0)]
fn a_power_limit_that_proves_too_high_is_halved_and_given_up_in_the_end(
    #[case] most_power: f64,
    #[case] kept: f64,
) {
    let mut climb = climb_by(Policy::FixedStep);
    let imagined = Imagined { most_power, ..CARD };
    imagined.until(&mut climb, |climb| climb.stage() == Stage::Core);
    let next = imagined.step(&mut climb);
    assert_eq!(next.asked.power_limit, Some(Watt(kept)));
}

#[test]
fn edges_that_fail_together_are_told_apart_and_one_backs_off() {
    let imagined = CARD;
    let mut climb = climb_by(Policy::FixedStep);
    imagined.until(&mut climb, |climb| climb.stage() == Stage::Together);
    let alone = climb.found_alone();
    assert!(!imagined.holds(alone), "each holds alone, both do not: {alone:?}");
    let failed = imagined.step(&mut climb);
    assert_eq!((climb.place(&failed), failed.verdict()), (alone, Verdict::LoadDied));
    // One back to stock and the same scene again, then the other.
    let isolated: Vec<TrialRecord> = (0..2).map(|_| imagined.step(&mut climb)).collect();
    let places: Vec<Pair> = isolated.iter().map(|trial| climb.place(trial)).collect();
    assert_eq!(places[0], Pair { memory: MhzOffset::STOCK, ..alone });
    assert_eq!(places[1], Pair { core: MhzOffset::STOCK, ..alone });
    assert!(isolated.iter().all(|trial| trial.purpose == Purpose::Isolate));
    let fails = isolated.iter().map(|trial| trial.verdict() != Verdict::Clean).collect::<Vec<_>>();
    assert_eq!(fails, [false, false], "each by itself holds");
    let next = imagined.step(&mut climb);
    let at = climb.place(&next);
    assert!(at.core <= alone.core && at.memory <= alone.memory && at != alone, "{at:?}");
    assert!(imagined.holds(imagined.to_the_end(&mut climb).pair));
}

const CORE: SettingKind = SettingKind::CoreOffset;
const MEMORY: SettingKind = SettingKind::MemoryOffset;

#[rstest]
#[case::the_core(200, 20, vec![vec![CORE]])]
#[case::the_memory(20, 200, vec![vec![MEMORY]])]
#[case::both(200, 200, vec![vec![CORE], vec![MEMORY]])]
#[case::only_together(120, 160, vec![vec![CORE, MEMORY]])]
fn the_user_may_ask_of_any_failure_which_setting_it_was(
    #[case] core: i32,
    #[case] memory: i32,
    #[case] it: Vec<Vec<SettingKind>>,
) {
    let mut climb = climb_by(Policy::FixedStep);
    CARD.until(&mut climb, |climb| climb.stage() == Stage::Core);
    let wish = Settings {
        core_offset: Some(MhzOffset(core)),
        memory_offset: Some(MhzOffset(memory)),
        ..Settings::default()
    };
    climb.handle(ClimbEvent::Wished(Some(Box::new(wish))));
    let failed = CARD.step(&mut climb);
    assert_eq!(failed.verdict(), Verdict::LoadDied);
    climb.handle(ClimbEvent::Asked(Some(failed.number)));
    let next = climb.culprits().unwrap().1.next;
    assert_eq!(next, Some((vec![CORE], vec![MEMORY])), "the memory goes back first");
    for _ in 0..2 {
        let trial = CARD.step(&mut climb);
        assert_eq!((trial.stage, trial.purpose), (Stage::Own, Purpose::Isolate));
    }
    let (_, culprits) = climb.culprits().unwrap();
    assert_eq!((culprits.found, culprits.next), (it, None));
    let Next::Trial(next) = climb.next() else { panic!() };
    assert_eq!(next.request.stage, Stage::Core, "and the climb goes on");
    climb.handle(ClimbEvent::Asked(None));
    assert_eq!(climb.culprits(), None);
}

#[test]
fn what_brought_what_is_estimated_and_on_request_measured_by_leaving_one_out() {
    let mut climb = climb_by(Policy::FixedStep);
    let outcome = CARD.to_the_end(&mut climb);
    let estimated = climb.parts();
    assert_eq!(estimated.len(), 4, "{estimated:?}");
    assert!(estimated.iter().any(|part| !part.is_measured), "{estimated:?}");
    let before = climb.trials().len();
    climb.handle(ClimbEvent::LeaveOut(true));
    CARD.to_the_end(&mut climb);
    let made = climb.trials().get(before..).unwrap();
    assert!(made.iter().all(|trial| trial.purpose == Purpose::LeaveOut));
    let unknown = estimated.iter().filter(|part| !part.is_measured).count();
    assert_eq!(made.len() + 1, unknown, "what was run before is not run again");
    let parts = climb.parts();
    assert!(parts.iter().all(|part| part.is_measured), "{parts:?}");
    let sum: f64 = parts.iter().map(|part| part.percent).sum();
    assert!(
        (sum - outcome.gain_percent.unwrap()).abs() < 0.3,
        "{sum} of {:?}",
        outcome.gain_percent
    );
    let core = parts.iter().find(|part| part.name == "core clock").unwrap();
    let truth = 0.4 * f64::from(outcome.pair.core.0) / 2_050.0 * 100.0;
    assert!((core.percent - truth).abs() < 3.0 * core.error, "{core:?}, truly {truth}");
}

#[test]
fn the_map_has_every_trial_and_the_best_is_told_by_score_and_not_by_corner() {
    let mut climb = climb_by(Policy::Bayesian);
    let outcome = CARD.to_the_end(&mut climb);
    let map = climb.map(&climb.next());
    assert_eq!(map.trials.len(), climb.trials().len());
    assert_eq!((map.kept, map.next), (outcome.pair, None));
    let best = climb
        .trials()
        .iter()
        .filter(|trial| trial.verdict() == Verdict::Clean)
        .max_by(|a, b| a.score.unwrap().total_cmp(&b.score.unwrap()))
        .unwrap();
    assert_eq!(map.best, Some(climb.place(best)));
    assert!(!map.frontier.is_empty());
    for pair in map.frontier.windows(2) {
        assert!(pair[0].memory <= pair[1].memory && pair[0].core >= pair[1].core, "{pair:?}");
    }
    let stairs = climb.stairs(Domain::Core, &climb.next()).unwrap();
    let (low, high) = stairs.band.unwrap();
    assert!(low <= high && stairs.kept == Some(outcome.pair.core));
}

/// A trial in which the clock was limited like this.
fn limited(climb: &Climb, limiters: &[(Limiter, f64)], power_limit: f64) -> TrialRecord {
    let mut trial = climb.trials().last().unwrap().clone();
    trial.seen.limiters = limiters.to_vec();
    trial.asked.power_limit = Some(Watt(power_limit));
    trial.taken = Some(trial.asked);
    trial
}

#[rstest]
#[case(&[(Limiter::Power, 0.9), (Limiter::Voltage, 0.1)], 220.0, Advice::MorePower { to: "286 W".into(), held_back: 0.9, dips: 0 })]
#[case(&[(Limiter::Power, 0.9), (Limiter::Voltage, 0.1)], 286.0, Advice::LessMemory { held_back: 0.9 })]
#[case(&[(Limiter::Heat, 0.8), (Limiter::Power, 0.1)], 286.0, Advice::MoreAir { target: None, held_back: 0.8, dips: 0 })]
#[case(&[(Limiter::Voltage, 1.0)], 286.0, Advice::MoreCore { free: 1.0 })]
fn what_pays_next_follows_from_what_limits_the_clock(
    #[case] limiters: &[(Limiter, f64)],
    #[case] power_limit: f64,
    #[case] first: Advice,
) {
    let mut climb = climb_by(Policy::FixedStep);
    CARD.until(&mut climb, |climb| climb.stage() == Stage::Core);
    let advice = climb.advice(&limited(&climb, limiters, power_limit));
    assert_eq!(advice[0], first, "{advice:?}");
}

/// The card with a voltage offset from −100 to 0 mV.
fn with_voltage(climb: &Climb) -> Climb {
    let mut card = climb.card().clone();
    card.offers.push(Offer {
        kind: SettingKind::VoltageOffset,
        reading: Reading::Offset,
        minimum: -100.0,
        maximum: 0.0,
        step: 5.0,
        stock: Some(0.0),
        makers_maximum: None,
    });
    Climb::new(card, climb.plan().clone(), &Stage::USUAL).unwrap()
}

/// A run at settings in which the clock was limited like this.
fn seen_at(limiters: &[(Limiter, f64)], taken: Settings) -> TrialRecord {
    let mut climb = climb_by(Policy::Bayesian);
    CARD.step(&mut climb);
    TrialRecord { taken: Some(taken), ..limited(&climb, limiters, 220.0) }
}

#[test]
fn clock_and_voltage_are_moved_in_turns_by_what_limits_the_clock() {
    let climb = with_voltage(&climb_by(Policy::Bayesian));
    let held = climb.held_settings();
    let free = [(Limiter::Voltage, 1.0)];
    let held_back = [(Limiter::Power, 0.7), (Limiter::Voltage, 0.3)];
    // Nothing holds it back: more clock. It dips then: less voltage. The dip is gone: more clock again.
    let first = climb.suggestion(&seen_at(&free, held)).unwrap();
    assert_eq!(first.kind, SuggestedMove::MoreClock { to: "+15 MHz".into() });
    let second = climb.suggestion(&seen_at(&held_back, first.settings)).unwrap();
    let SuggestedMove::LessVoltage { to, held_back: share, .. } = second.kind else {
        panic!("{second:?}")
    };
    assert_eq!((to.as_str(), share), ("−10 mV", 0.7));
    assert_eq!(second.settings.core_offset, Some(MhzOffset(15)), "the clock stays");
    let third = climb.suggestion(&seen_at(&free, second.settings)).unwrap();
    assert_eq!(third.kind, SuggestedMove::MoreClock { to: "+30 MHz".into() });
    assert_eq!(third.settings.voltage_offset, second.settings.voltage_offset);
}

#[test]
fn no_move_is_suggested_where_heat_comes_first_or_nothing_is_left_to_move() {
    let climb = with_voltage(&climb_by(Policy::Bayesian));
    let mut held = climb.held_settings();
    assert_eq!(
        climb.suggestion(&seen_at(&[(Limiter::Heat, 0.4), (Limiter::Power, 0.6)], held)),
        None
    );
    held.voltage_offset = Some(crate::units::MillivoltOffset(-100));
    assert_eq!(climb.suggestion(&seen_at(&[(Limiter::Power, 1.0)], held)), None, "the floor");
    held.core_offset = Some(MhzOffset(300));
    assert_eq!(climb.suggestion(&seen_at(&[(Limiter::Voltage, 1.0)], held)), None, "the top");
    let without = climb_by(Policy::Bayesian);
    let plain = without.held_settings();
    assert_eq!(without.suggestion(&seen_at(&[(Limiter::Power, 1.0)], plain)), None, "no voltage");
}

#[test]
fn what_took_the_machine_down_is_not_suggested() {
    let mut climb = with_voltage(&climb_by(Policy::Bayesian));
    let held = climb.held_settings();
    let bold = Settings { core_offset: Some(MhzOffset(15)), ..held };
    let downed = Downed { climb: 9, trial: 4, asked: bold, held: bold };
    climb.handle(ClimbEvent::Remembered(vec![downed]));
    assert_eq!(climb.suggestion(&seen_at(&[(Limiter::Voltage, 1.0)], held)), None);
}

#[rstest]
#[case::held_back_by_nothing_but_its_load(&[(Limiter::Load, 1.0)])]
fn a_run_that_tells_nothing_of_the_clock_brings_no_advice_about_it(
    #[case] limiters: &[(Limiter, f64)],
) {
    let mut climb = climb_by(Policy::FixedStep);
    CARD.until(&mut climb, |climb| climb.stage() == Stage::Core);
    let advice = climb.advice(&limited(&climb, limiters, 286.0));
    assert!(advice.iter().all(|advice| *advice == Advice::MoreMemory), "{advice:?}");
}

/// Has a climb go on by another policy, with another margin.
fn planned(climb: &mut Climb, policy: Policy, margin: Margin) {
    let plan = Plan { policy, margin, ..climb.plan().clone() };
    climb.handle(ClimbEvent::Planned(Box::new(plan)));
}

#[test]
fn another_policy_or_margin_goes_by_the_trials_there_are() {
    let mut climb = climb_by(Policy::FixedStep);
    CARD.until(&mut climb, |climb| climb.stage() == Stage::Memory);
    let trials = climb.trials().len();
    planned(&mut climb, Policy::Bayesian, Margin::Gift);
    assert_eq!((climb.plan().policy, climb.plan().margin), (Policy::Bayesian, Margin::Gift));
    assert_eq!(climb.trials().len(), trials);
    let gift = CARD.to_the_end(&mut climb);
    let gift_claim = climb.claim_by(gift.stage, gift.pair);
    planned(&mut climb, Policy::Bayesian, Margin::Record);
    let bold = climb.outcome();
    assert!(bold.pair.core > gift.pair.core, "{:?} {:?}", bold.pair, gift.pair);
    let claims =
        [gift_claim, climb.claim_by(bold.stage, bold.pair)].map(|claim| claim.unwrap().below_core);
    assert!(claims[0] > claims[1], "{gift:?} {bold:?}");
}

#[test]
fn memory_may_come_before_core() {
    let plan = Plan { policy: Policy::FixedStep, ..Plan::default() };
    let stages = [Stage::Baseline, Stage::Memory, Stage::Core, Stage::Together];
    let mut climb = Climb::new(card(), plan, &stages).unwrap();
    let outcome = CARD.to_the_end(&mut climb);
    let mut seen: Vec<Stage> = climb.trials().iter().map(|trial| trial.stage).collect();
    seen.dedup();
    assert_eq!(seen, stages);
    assert!(CARD.holds(outcome.pair));
}

/// A load without figures: no score, and no frame that is checked.
#[rstest]
fn a_load_without_figures_is_climbed_under_by_clocks_faults_and_power(
    #[values(Policy::FixedStep, Policy::Bisection, Policy::Bayesian)] policy: Policy,
) {
    let mut climb = climb_by(policy);
    for _ in 0..300 {
        let Next::Trial(proposal) = climb.next() else { break };
        let mut record = CARD.run(&climb, &proposal.request);
        (record.score, record.seen.frames) = (None, 0);
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }
    let Next::Ended(outcome) = climb.next() else { panic!("{:?}", climb.next()) };
    let baseline = climb.baseline().unwrap();
    assert!(baseline.by_clock && climb.goes_by_clock());
    assert_eq!(baseline.score, baseline.average_clock.value());
    assert_eq!(climb.baseline_runs(), climb.plan().baseline.runs as usize, "none is repeated");
    assert!(CARD.holds(outcome.pair), "{:?}", outcome.pair);
    assert!(outcome.pair.core > MhzOffset::STOCK, "more clock is what pays here: {outcome:?}");
    assert_eq!(outcome.score, None, "a clock is no score");
    assert!(outcome.gain_percent.unwrap() > 2.0, "{outcome:?}");
    let reference = climb.reference("medley").unwrap();
    assert_eq!(reference.score, None, "so that no run is called slower by a clock");
}

#[test]
fn one_score_makes_a_baseline_go_by_scores_and_runs_without_one_are_made_again() {
    let mut climb = climb_by(Policy::FixedStep);
    let mut end = |score: Option<f64>| {
        let Next::Trial(proposal) = climb.next() else { panic!() };
        let mut record = CARD.run(&climb, &proposal.request);
        (record.score, record.seen.frames) = (score, 0);
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        (climb.goes_by_clock(), climb.baseline_runs())
    };
    assert_eq!(end(None), (true, 1));
    assert_eq!(end(Some(8_120.0)), (false, 1), "the first one does not count any more");
    assert_eq!(end(Some(8_150.0)), (false, 2));
    assert_eq!(end(None), (false, 2), "forgotten, it is asked for again");
    assert_eq!(end(Some(8_110.0)), (false, 3));
    let baseline = climb.baseline().unwrap();
    assert_eq!((baseline.score, baseline.by_clock), (8_120.0, false));
}

/// Runs too short for a score are not made again for ever.
#[rstest]
#[case::all(Stage::Baseline)]
#[case::only_with_the_limit_raised(Stage::Power)]
fn runs_that_never_have_a_score_stop_the_climb_and_say_which(#[case] from: Stage) {
    let mut climb = climb_by(Policy::Bayesian);
    for _ in 0..40 {
        let Next::Trial(proposal) = climb.next() else { break };
        let mut record = CARD.run(&climb, &proposal.request);
        if from == Stage::Baseline || proposal.request.stage == from {
            record.score = None;
        }
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }
    let retries = climb.plan().rules.retries as usize;
    let Next::Stuck(Stuck::NoScore { stage, load, runs, .. }) = climb.next() else {
        panic!("{:?}", climb.next())
    };
    assert_eq!((stage, load.as_str(), runs), (from, "medley", retries + 1));
    // Once the load tells scores, the climb goes on: after a start it is tried anew.
    climb.handle(ClimbEvent::TakenUp);
    assert!(matches!(climb.next(), Next::Trial(_)));
}

#[rstest]
fn a_ladder_raises_both_in_their_ratio_and_keeps_what_holds(
    #[values(Policy::FixedStep, Policy::Bisection, Policy::Bayesian)] policy: Policy,
    #[values(0.5, 1.0, 2.0)] ratio: f64,
) {
    let mut plan = Plan { policy, ..Plan::default() };
    plan.ladder.memory_mhz_per_core_mhz = ratio;
    let stages = [Stage::Baseline, Stage::Power, Stage::Ladder];
    let mut climb = Climb::new(card(), plan, &stages).unwrap();
    let outcome = CARD.to_the_end(&mut climb);
    let of_ladder: Vec<Pair> = climb
        .trials()
        .iter()
        .filter(|trial| trial.stage == Stage::Ladder)
        .map(|trial| climb.place(trial))
        .collect();
    assert!(of_ladder.len() > 2, "{of_ladder:?}");
    for pair in &of_ladder {
        // The memory moves in bins of 5 MHz.
        let off = f64::from(pair.memory.0) - f64::from(pair.core.0) * ratio;
        assert!((-5.0..=0.0).contains(&off), "{pair:?}");
    }
    let kept = climb.place(&TrialRecord {
        taken: Some(outcome.settings),
        ..climb.trials().last().unwrap().clone()
    });
    assert!(kept.core > MhzOffset(0) && CARD.holds(kept), "{kept:?}");
    assert!(outcome.confirmed, "{outcome:?}");
    assert_eq!(outcome.stage, Some(Stage::Ladder));
    // Steps by hand prove less than is claimed of anything.
    assert!(outcome.claim.is_some() || climb.plan().policy != Policy::Bayesian);
    let claim = climb.claim_by(outcome.stage, outcome.pair).unwrap();
    // Whoever goes by an hour's run takes more than the belief allows.
    assert!(claim.chance > 0.97 || policy != Policy::Bayesian, "{claim:?}");
    assert!(outcome.gain_percent.unwrap() > 1.0);
}

#[test]
fn a_nudge_on_the_ladder_moves_both_and_a_start_is_approached_on_it() {
    let mut plan = Plan { policy: Policy::FixedStep, ..Plan::default() };
    plan.ladder.memory_mhz_per_core_mhz = 1.0;
    plan.core.start_mhz = Some(110);
    let mut climb = Climb::new(card(), plan, &[Stage::Baseline, Stage::Ladder]).unwrap();
    CARD.until(&mut climb, |climb| climb.stage() == Stage::Ladder);
    let Next::Trial(first) = climb.next() else { panic!() };
    let at = |settings: &Settings| (settings.core_offset, settings.memory_offset);
    let (core, memory) = at(&first.request.asked);
    assert_eq!(core, memory);
    assert!(core > Some(MhzOffset(0)) && core < Some(MhzOffset(110)), "{core:?}");
    let nudge = climb.nudged_by(1).unwrap();
    let fine = MhzOffset(15);
    assert_eq!(at(&nudge.settings), (core.map(|at| at + fine), memory.map(|at| at + fine)));
    assert_eq!(nudge.stage, Stage::Ladder);
}

#[test]
fn a_failure_at_stock_lowers_the_edge_of_the_core_but_not_with_the_memory_raised() {
    let mut climb = climb_by(Policy::Bayesian);
    CARD.until(&mut climb, |climb| climb.stage() == Stage::Core);
    let chance = |climb: &Climb, domain| climb.belief(domain).unwrap().chance_to_hold(0.0, 24.0);
    let fail = |climb: &mut Climb, stage, memory| {
        let asked = climb.settings_of(Pair { core: MhzOffset::STOCK, memory: MhzOffset(memory) });
        let number = climb.trials().len() as u32 + 1;
        let made = TrialRecord {
            stage,
            asked,
            taken: Some(asked),
            judged: Verdict::LoadDied,
            seconds: Seconds(120.0),
            ..crate::fixtures::record(number)
        };
        climb.handle(ClimbEvent::TrialEnded(Box::new(made)));
    };
    let before = [Domain::Core, Domain::Memory].map(|domain| chance(&climb, domain));
    fail(&mut climb, Stage::Memory, 30);
    assert!(chance(&climb, Domain::Core) >= before[0], "it may have been the memory");
    assert!(chance(&climb, Domain::Memory) < before[1]);
    let memory = chance(&climb, Domain::Memory);
    fail(&mut climb, Stage::Power, 0);
    assert!(chance(&climb, Domain::Core) < before[0] - 0.03, "{}", chance(&climb, Domain::Core));
    assert!(chance(&climb, Domain::Memory) >= memory, "nothing points to it");
    let kept = climb.outcome();
    assert_eq!(kept.settings, climb.held_settings(), "raised limits are not sure to hold either");
}
