//! The strategies and the rounds on an imagined card, driven by hand: no clock, only what was asked.

use rstest::rstest;

use crate::card::description::{CardDescription, Offer, Reading};
use crate::climb::*;
use crate::fixtures::{card as plain, seen};
use crate::judge::verdict::Fault;
use crate::measure::clock_line::ClockLine;
use crate::measure::limiter::Limiter;
use crate::measure::monitor::{SectionSeen, Seen};
use crate::plan::Policy;
use crate::shape::{CurveKind, CurveOffer, Span, VfCurve};
use crate::units::{Mhz, MhzOffset, Millivolt, Watt};

/// What an imagined card does: how deep it holds, and how it trades voltage for clock and watts.
#[derive(Clone, Copy)]
struct Imagined {
    /// Deepest undervolt that holds, mV.
    edge: f64,
    /// Highest core offset that holds at full voltage, MHz.
    core: f64,
    /// Millivolts at which power does not hold the clock back any more.
    flat_from: f64,
    /// Share by which the score follows the memory clock.
    by_memory: f64,
}

const CARD: Imagined = Imagined { edge: 62.0, core: 130.0, flat_from: 1_000.0, by_memory: 0.05 };

fn offer(kind: SettingKind, minimum: f64, maximum: f64, step: f64, stock: f64) -> Offer {
    Offer {
        kind,
        reading: Reading::Absolute,
        minimum,
        maximum,
        step,
        stock: Some(stock),
        makers_maximum: None,
    }
}

/// A card whose curve can be shaped.
pub(in crate::climb) fn shaped() -> CardDescription {
    let points: Vec<(u16, u16)> =
        (0..39).map(|i| (700 + 10 * i, 1305 + (30 * i - i * i / 4) / 15 * 15)).collect();
    let mut card = plain();
    card.curve = Some(CurveOffer {
        kind: CurveKind::Points,
        factory: VfCurve::new(&points).unwrap(),
        clocks: Span { lowest: 705, highest: 2_505, step: 15 },
        voltages: Span { lowest: 700, highest: 1_080, step: 10 },
    });
    card.limits.highest_clock = Mhz(2_070.0);
    card.offers.push(offer(SettingKind::VoltageOffset, -100.0, 60.0, 5.0, 0.0));
    card.offers.push(offer(SettingKind::MemoryOffset, -400.0, 400.0, 5.0, 0.0));
    card
}

/// A card with a window and timing levels.
pub(in crate::climb) fn windowed() -> CardDescription {
    let mut card = plain();
    card.offers.retain(|offer| offer.kind != SettingKind::CoreOffset);
    card.offers.push(offer(SettingKind::ClockMinimum, 500.0, 3_000.0, 5.0, 500.0));
    card.offers.push(offer(SettingKind::ClockMaximum, 500.0, 3_000.0, 5.0, 2_160.0));
    card.offers.push(offer(SettingKind::VoltageOffset, -150.0, 0.0, 5.0, 0.0));
    card.offers.push(offer(SettingKind::MemoryOffset, -400.0, 400.0, 5.0, 0.0));
    card.offers.push(offer(SettingKind::MemoryTiming, 0.0, 2.0, 1.0, 0.0));
    card
}

/// The card whose curve can be shaped, with a voltage of the memory's own.
fn with_memory_voltage() -> CardDescription {
    let mut card = shaped();
    card.offers.push(offer(SettingKind::MemoryVoltage, 800.0, 1_000.0, 5.0, 900.0));
    card
}

fn climb_of(card: CardDescription, policy: Policy, stages: &[Stage]) -> Climb {
    let plan = Plan { policy, scene: "lantern".into(), ..Plan::default() };
    Climb::new(card, plan, stages).unwrap()
}

impl Imagined {
    /// How a run ends. Everything about it follows from what was asked.
    fn run(self, climb: &Climb, request: &TrialRequest) -> TrialRecord {
        let (card, asked) = (climb.card(), request.asked);
        let value = |kind, stock| asked.get(kind).unwrap_or(stock);
        let volt = value(SettingKind::VoltageOffset, 0.0);
        let curve_depth = card.curve.zip(asked.curve).map_or(0.0, |(offer, curve)| {
            let at = Mhz(f64::from(curve.last().mhz) - 60.0);
            let needed = |curve: &VfCurve| curve.voltage_for(at).map_or(0.0, Millivolt::value);
            needed(&offer.factory) - needed(&curve)
        });
        let depth = curve_depth - volt;
        let core = value(SettingKind::CoreOffset, 0.0);
        let top = asked
            .curve
            .map(|curve| f64::from(curve.last().mhz))
            .or(asked.clock_maximum.map(Mhz::value))
            .unwrap_or(2_085.0);
        let low = value(SettingKind::ClockMinimum, 500.0);
        let memory = value(SettingKind::MemoryOffset, 0.0);
        let timing = value(SettingKind::MemoryTiming, 0.0);
        // Each MHz of overclock takes half a millivolt, each level of timing 60 MHz of memory.
        let fails = depth + core * 0.5 > self.edge.max(self.core * 0.5)
            || (core == 0.0 && depth > self.edge)
            || memory
                > 150.0 - 60.0 * timing + 0.3 * (value(SettingKind::MemoryVoltage, 900.0) - 900.0);
        let power = value(SettingKind::PowerLimit, 220.0);
        let by_power = 1_900.0 + 1.6 * depth + (power - 220.0) * 2.0 - memory * 0.1 + core * 0.2;
        let clock = by_power.min(top + core).max(low.min(1_980.0));
        let throttles = low > by_power + 20.0;
        let is_held = clock >= by_power - 0.1 && depth < self.flat_from;
        let fit = -((top - low).max(1.0) / 400.0).ln().powi(2) * 0.012;
        let gain = 0.75 * (clock / 1_900.0 - 1.0)
            + fit
            + memory / 1_750.0 * self.by_memory
            + timing * 0.015;
        let number = climb.trials().len() as u32 + 1;
        // Runs scatter by a thousandth, each in its own way.
        let chance = [0.0, 0.001, -0.001, 0.0005, -0.0005][number as usize % 5];
        let verdict = match (fails, throttles) {
            (true, _) => Verdict::LoadDied,
            (_, true) => Verdict::Throttled,
            _ => Verdict::Clean,
        };
        let watts = if is_held { power - 4.0 } else { (power - 4.0) * (1.0 - depth * 0.0016) };
        let rate = |pays: f64| 60.0 * (1.0 + gain + pays * memory / 1_750.0);
        TrialRecord {
            taken: Some(asked),
            seen: Seen {
                clock_line: Some(ClockLine { average: Mhz(clock), ..ClockLine::default() }),
                average_power: Some(Watt(watts)),
                limiters: vec![match is_held {
                    true => (Limiter::Power, 0.9),
                    false => (Limiter::Voltage, 0.9),
                }],
                sections: vec![
                    SectionSeen {
                        section: 0,
                        frame_rate: rate(-0.3),
                        frame_rate_low: 50.0,
                        band: None,
                    },
                    SectionSeen {
                        section: 1,
                        frame_rate: rate(0.9),
                        frame_rate_low: 50.0,
                        band: None,
                    },
                ],
                ..seen()
            },
            seconds: if fails { Seconds(30.0) } else { request.seconds },
            score: (!fails).then_some(1_000.0 * (1.0 + gain) * (1.0 + chance)),
            faults: if fails { vec![Fault::at(Seconds(30.0), "lost")] } else { Vec::new() },
            ..request.judged(number, verdict, format!("{verdict}."))
        }
    }

    /// Climbs to the end; returns its outcome.
    fn climb(self, climb: &mut Climb) -> Outcome {
        for _ in 0..200 {
            match climb.next() {
                Next::Ended(outcome) => return *outcome,
                Next::Stuck(why) => panic!("{why:?}"),
                Next::Trial(proposal) => {
                    let asked = proposal.request.asked;
                    assert_eq!(asked.clamped(climb.card()).settings, asked, "inside all ranges");
                    let record = self.run(climb, &proposal.request);
                    climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
                }
            }
        }
        panic!("no end after 200 trials");
    }
}

#[rstest]
#[case(Policy::FixedStep)]
#[case(Policy::Bisection)]
#[case(Policy::Bayesian)]
fn cooler_for_clock_takes_off_what_holds_and_ends_faster_for_no_more_watts(#[case] policy: Policy) {
    let mut climb = climb_of(shaped(), policy, &[Stage::Baseline, Stage::UndervoltClock]);
    let outcome = CARD.climb(&mut climb);
    let report = climb.strategy_report(Stage::UndervoltClock).unwrap();
    assert!((20..=60).contains(&report.depth), "{}", report.depth);
    assert_eq!(outcome.stage, Some(Stage::UndervoltClock));
    assert_eq!(Some(outcome.settings), report.settings);
    // It drew as much as at stock, so that the limit went a step down.
    assert_eq!(climb.held_settings().power_limit, Some(Watt(220.0)));
    assert_eq!(outcome.settings.power_limit, Some(Watt(219.0)));
    assert!(outcome.gain_percent.unwrap() > 1.0, "{:?}", outcome.gain_percent);
    assert!(outcome.confirmed && climb.claim_by(outcome.stage, outcome.pair).is_some());
    assert!(outcome.settings.curve.is_some());
    let (measured, stock) = (report.measured.unwrap(), report.stock);
    assert!(measured.power.unwrap() <= stock.power.unwrap(), "{measured:?} after {stock:?}");
}

#[test]
fn a_flat_clock_line_needs_no_deeper_and_a_dip_gets_another_step() {
    let flat = Imagined { flat_from: 45.0, edge: 200.0, ..CARD };
    let mut climb =
        climb_of(shaped(), Policy::FixedStep, &[Stage::Baseline, Stage::UndervoltClock]);
    flat.climb(&mut climb);
    let depths: Vec<i32> = climb
        .descent(Stage::UndervoltClock, &climb.next())
        .unwrap()
        .trials
        .iter()
        .map(|trial| trial.depth)
        .collect();
    assert_eq!(depths.iter().max(), Some(&50), "{depths:?}: flat at the second coarse step");
}

#[test]
fn a_little_more_limit_is_given_where_the_plan_has_it_and_dips_are_left() {
    let plan = |percent| {
        let mut plan = Plan { policy: Policy::FixedStep, ..Plan::default() };
        plan.undervolt_clock.more_power_percent = percent;
        plan
    };
    let limit = |percent| {
        let stages = [Stage::Baseline, Stage::UndervoltClock];
        let mut climb = Climb::new(shaped(), plan(percent), &stages).unwrap();
        CARD.climb(&mut climb).settings.power_limit
    };
    assert_eq!(limit(0.0), Some(Watt(219.0)), "no more watts than at stock");
    assert_eq!(limit(5.0), Some(Watt(231.0)));
}

#[rstest]
#[case(Policy::FixedStep, shaped())]
#[case(Policy::Bayesian, shaped())]
#[case(Policy::Bayesian, windowed())]
fn same_for_less_holds_the_score_and_saves_watts(
    #[case] policy: Policy,
    #[case] card: CardDescription,
) {
    let mut climb = climb_of(card, policy, &[Stage::Baseline, Stage::UndervoltQuiet]);
    CARD.climb(&mut climb);
    let report = climb.strategy_report(Stage::UndervoltQuiet).unwrap();
    let gain = report.gain_percent.unwrap();
    assert!((-1.2..=0.6).contains(&gain), "{gain}");
    assert!(report.saved_percent.unwrap() > 3.0, "{:?}", report.saved_percent);
    assert!((20..=60).contains(&report.depth));
}

#[test]
fn a_clock_may_be_held_instead_of_the_score() {
    let mut plan = Plan { policy: Policy::FixedStep, ..Plan::default() };
    plan.undervolt_quiet.hold_mhz = 1_803.0;
    let mut climb = Climb::new(shaped(), plan, &[Stage::Baseline, Stage::UndervoltQuiet]).unwrap();
    let outcome = CARD.climb(&mut climb);
    assert_eq!(outcome.settings.curve.unwrap().last().mhz, 1_800);
}

#[test]
fn the_highest_clock_is_looked_for_at_full_voltage_and_then_walked_down() {
    let stages = [Stage::Baseline, Stage::MaxClock];
    let mut climb = climb_of(shaped(), Policy::FixedStep, &stages);
    let outcome = Imagined { edge: 20.0, ..CARD }.climb(&mut climb);
    let of_stage: Vec<&TrialRecord> =
        climb.trials().iter().filter(|trial| trial.stage == Stage::MaxClock).collect();
    let volts: Vec<i32> = of_stage.iter().map(|t| t.asked.voltage_offset.unwrap().0).collect();
    let up = volts.iter().take_while(|volt| **volt == 60).count();
    assert!(up > 3, "{volts:?}");
    assert!(volts[up..].iter().any(|volt| *volt < 60), "{volts:?}");
    let report = climb.strategy_report(Stage::MaxClock).unwrap();
    let kept = report.settings.unwrap();
    assert!(kept.core_offset.unwrap().0 >= 90, "{kept:?}");
    assert_eq!(kept.voltage_offset.unwrap().0, 60 - report.depth);
    // Power holds this card back: more voltage leaves less of it for the clock.
    assert!(report.passed_over.is_some() && outcome.stage.is_none(), "{report:?}");
}

#[test]
fn the_middle_way_begins_with_half_of_what_core_found() {
    let stages = [Stage::Baseline, Stage::Core, Stage::Balanced];
    let mut climb = climb_of(shaped(), Policy::FixedStep, &stages);
    let outcome = CARD.climb(&mut climb);
    let alone = climb.found_alone().core.0;
    let half = outcome.settings.core_offset.unwrap().0;
    assert!(half > 0 && half <= alone / 2 && half > alone / 2 - 15, "{half} of {alone}");
    assert!(outcome.settings.curve.is_some(), "and less voltage on top");
    let first = climb.trials().iter().find(|trial| trial.stage == Stage::Balanced).unwrap();
    let (depth, _) = climb.depth_of(Stage::Balanced).unwrap().read(&first.asked).unwrap();
    assert!((20..=50).contains(&depth), "half of what cards mostly bear: {depth}");
}

#[test]
fn a_window_is_found_from_an_unbounded_run_and_the_throttling_one_is_told() {
    let mut climb = climb_of(windowed(), Policy::Bayesian, &[Stage::Baseline, Stage::Window]);
    let outcome = CARD.climb(&mut climb);
    let report = climb.round_report(Stage::Window).unwrap();
    let kept = outcome.settings;
    let width = kept.clock_maximum.unwrap().value() - kept.clock_minimum.unwrap().value();
    assert!((190.0..=500.0).contains(&width), "{width}: {report:?}");
    assert!(report.gain_percent().unwrap() > 0.5);
    let asked: Vec<f64> =
        climb.trials().iter().filter_map(|t| t.asked.clock_minimum).map(Mhz::value).collect();
    assert!(asked.iter().any(|low| (1_840.0..1_860.0).contains(low)), "50 MHz below: {asked:?}");

    // A lowest clock that power cannot hold is recognised for what it is.
    let mut plan = Plan { scene: "lantern".into(), ..Plan::default() };
    plan.rounds.window_to_each_side_mhz = 50.0;
    let mut climb = Climb::new(windowed(), plan, &[Stage::Baseline, Stage::Window]).unwrap();
    for _ in 0..4 {
        let Next::Trial(proposal) = climb.next() else { panic!() };
        let record = CARD.run(&climb, &proposal.request);
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }
    let Next::Trial(proposal) = climb.next() else { panic!() };
    let record = TrialRecord {
        judged: Verdict::Throttled,
        score: Some(900.0),
        ..CARD.run(&climb, &proposal.request)
    };
    climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    let tried = climb.round_report(Stage::Window).unwrap().tried;
    assert_eq!(tried.iter().filter(|one| one.throttles).count(), 1, "{tried:?}");
}

#[test]
fn faster_timing_gives_way_in_clock_until_it_holds() {
    let mut climb = climb_of(windowed(), Policy::Bayesian, &[Stage::Baseline, Stage::Timing]);
    let outcome = CARD.climb(&mut climb);
    assert_eq!(outcome.settings.memory_timing, Some(2));

    // Where the memory already stands at its edge, the level takes some of it back.
    let tight = Imagined { core: -1.0, ..CARD };
    let mut climb = climb_of(windowed(), Policy::Bayesian, &[Stage::Baseline, Stage::Timing]);
    let mut failed = 0;
    for _ in 0..40 {
        let Next::Trial(proposal) = climb.next() else { break };
        let asked = proposal.request.asked;
        let fails = asked.memory_timing == Some(1)
            && asked.memory_offset.is_none_or(|offset| offset.0 > -40);
        let mut record = tight.run(&climb, &proposal.request);
        if fails {
            record.judged = Verdict::LoadDied;
            record.score = None;
            failed += 1;
        }
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }
    assert_eq!(failed, 2, "at ±0 and at −20 MHz");
    let tried = climb.round_report(Stage::Timing).unwrap().tried;
    let failed = tried.iter().filter(|one| one.gain_percent.is_none());
    assert!(failed.count() >= 1, "{tried:?}");
}

#[test]
fn memory_given_up_feeds_the_core_and_says_which_scenes_it_pays_for() {
    let mut climb = climb_of(shaped(), Policy::Bayesian, &[Stage::Baseline, Stage::MemoryForCore]);
    CARD.climb(&mut climb);
    let report = climb.round_report(Stage::MemoryForCore).unwrap();
    let of = |section| report.sections.iter().find(|(at, _)| *at == section).unwrap().1;
    assert!(of(0) > 0.0, "the heavy section gets clock: {:?}", report.sections);
    assert!(of(1) < 0.0, "the memory mover loses: {:?}", report.sections);
}

#[rstest]
#[case(&[Stage::Baseline, Stage::Balanced], "name core before it")]
#[case(&[Stage::Baseline, Stage::Window], "does not offer")]
#[case(&[Stage::UndervoltClock], "name baseline before it")]
fn a_stage_that_cannot_be_is_refused_with_the_reason(#[case] stages: &[Stage], #[case] part: &str) {
    let refused = Climb::new(shaped(), Plan::default(), stages).unwrap_err().to_string();
    assert!(refused.contains(part), "{refused}");
}

#[test]
fn a_stage_that_was_skipped_keeps_nothing_and_one_that_was_ended_keeps_what_is_known() {
    let mut climb =
        climb_of(shaped(), Policy::FixedStep, &[Stage::Baseline, Stage::UndervoltClock]);
    for _ in 0..6 {
        let Next::Trial(proposal) = climb.next() else { panic!() };
        let record = CARD.run(&climb, &proposal.request);
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }
    let say = |climb: &mut Climb, order| {
        let after = climb.trials().len() as u32;
        climb.handle(ClimbEvent::Directed(Directive {
            stage: Stage::UndervoltClock,
            order,
            after,
        }));
    };
    say(&mut climb, StageOrder::End);
    let Next::Ended(outcome) = climb.next() else { panic!() };
    assert!(outcome.settings.curve.is_some() && !outcome.confirmed);
    say(&mut climb, StageOrder::Skip);
    let Next::Ended(outcome) = climb.next() else { panic!() };
    assert_eq!(outcome.settings, climb.held_settings());
    say(&mut climb, StageOrder::Repeat);
    assert!(matches!(climb.next(), Next::Trial(_)));
    assert!(!climb.has_begun(Stage::UndervoltClock));
}

#[rstest]
#[case(shaped())]
#[case(windowed())]
fn every_depth_is_read_back_as_it_was_written(#[case] card: CardDescription) {
    let stock = Settings::stock(&card);
    let depth = Depth::from_stock(&card, 5, 120).unwrap();
    for at in (0..=120).step_by(5) {
        for top in [1_800.0, 1_950.0, 2_070.0] {
            let top = depth.top(Mhz(top));
            let written = depth.write(&stock, at, Some(top));
            assert_eq!(depth.read(&written), Some((at, top)), "{at} {top}");
        }
    }
}

#[test]
fn a_stepwise_school_foresees_how_much_is_left() {
    let mut climb =
        climb_of(shaped(), Policy::FixedStep, &[Stage::Baseline, Stage::UndervoltClock]);
    for _ in 0..4 {
        let Next::Trial(proposal) = climb.next() else { panic!() };
        let record = CARD.run(&climb, &proposal.request);
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }
    let before = climb.outlook().climb.trials;
    assert!(before.0 >= 2 && before.1 < 60, "{before:?}");
    let begun = climb.trials().len();
    CARD.climb(&mut climb);
    let made = climb.trials().len() - begun;
    assert!((before.0..=before.1 + 4).contains(&made), "{made} of {before:?}");
    assert_eq!(climb.outlook().climb.trials, (0, 0));
}

#[rstest]
#[case::less_voltage(-1, 30)]
#[case::more_voltage(1, 20)]
fn a_nudge_in_a_voltage_stage_moves_millivolts(#[case] steps: i32, #[case] depth: i32) {
    let mut climb =
        climb_of(windowed(), Policy::FixedStep, &[Stage::Baseline, Stage::UndervoltQuiet]);
    while climb.stage() == Stage::Baseline {
        let Next::Trial(proposal) = climb.next() else { panic!() };
        let ended = CARD.run(&climb, &proposal.request);
        climb.handle(ClimbEvent::TrialEnded(Box::new(ended)));
    }
    let offset = |climb: &Climb| {
        let Next::Trial(proposal) = climb.next() else { panic!() };
        (proposal.request.stage, proposal.request.asked.get(SettingKind::VoltageOffset).unwrap())
    };
    let (_, planned) = offset(&climb);
    assert_eq!(planned, -25.0, "the first coarse step");
    let nudge = climb.nudged_by(steps).unwrap();
    assert_eq!(nudge.shown, format!("−{depth} mV"));
    climb.handle(ClimbEvent::Nudged(Some(Box::new(nudge))));
    assert_eq!(
        offset(&climb),
        (Stage::UndervoltQuiet, -f64::from(depth)),
        "the stage learns from it"
    );
    climb.handle(ClimbEvent::Nudged(None));
    assert_eq!(offset(&climb).1, planned);
}

#[rstest]
#[case(Stage::Power, SettingKind::PowerLimit)]
#[case(Stage::Window, SettingKind::ClockMaximum)]
#[case(Stage::Timing, SettingKind::MemoryTiming)]
#[case(Stage::MemoryForCore, SettingKind::MemoryOffset)]
fn every_stage_can_be_nudged_on_its_own_scale(#[case] stage: Stage, #[case] kind: SettingKind) {
    let mut climb = climb_of(windowed(), Policy::FixedStep, &[Stage::Baseline, stage]);
    while climb.stage() == Stage::Baseline {
        let Next::Trial(proposal) = climb.next() else { panic!() };
        let ended = CARD.run(&climb, &proposal.request);
        climb.handle(ClimbEvent::TrialEnded(Box::new(ended)));
    }
    let Next::Trial(planned) = climb.next() else { panic!() };
    let from = planned.request.asked.get(kind).or(climb.card().offer(kind).unwrap().stock);
    let (up, down) = (climb.nudged_by(1).unwrap(), climb.nudged_by(-1).unwrap());
    let moved = [down, up].map(|nudge| nudge.settings.get(kind).unwrap() - from.unwrap());
    assert!(moved[0] <= 0.0 && moved[1] >= 0.0 && moved[0] < moved[1], "{moved:?}");
}

#[test]
fn a_curve_is_a_start_where_it_is_an_undervolt_of_all_of_it() {
    let card = shaped();
    let offer = card.curve.unwrap();
    let under = |curve| Settings { curve: Some(curve), ..Settings::stock(&card) };
    let start =
        |settings: &Settings| starting_from(Plan::default(), settings, &card).voltage.start_off_mv;
    // Several depths come to the same curve, in steps of its clocks: the mildest of them.
    let found = start(&under(offer.undervolted(60.0, Mhz(2_070.0)))).unwrap();
    assert!((55..=60).contains(&found), "{found}");
    // The same with one point drawn elsewhere is no depth that a search could start from.
    let points: Vec<(u16, u16)> = offer
        .factory
        .points()
        .iter()
        .map(|point| (point.millivolt, point.mhz.min(1_500)))
        .collect();
    assert_eq!(start(&under(VfCurve::new(&points).unwrap())), None);
}

fn trials_of(climb: &Climb, stage: Stage) -> Vec<&TrialRecord> {
    climb.trials().iter().filter(|trial| trial.stage == stage).collect()
}

#[rstest]
#[case(Stage::UndervoltClock)]
#[case(Stage::UndervoltQuiet)]
#[case(Stage::MaxClock)]
#[case(Stage::Alternate)]
fn a_strategy_begins_with_the_limits_and_the_memory_that_were_kept_before_it(#[case] stage: Stage) {
    let stages = [Stage::Baseline, Stage::Power, Stage::Memory, stage];
    let mut climb = climb_of(shaped(), Policy::FixedStep, &stages);
    let outcome = CARD.climb(&mut climb);
    let memory = climb.found_alone().memory;
    assert!(memory > MhzOffset::STOCK);
    let powered = climb.powered_settings().power_limit;
    assert!(powered > climb.held_settings().power_limit);
    for trial in trials_of(&climb, stage) {
        assert_eq!(trial.asked.memory_offset, Some(memory), "{:?}", trial.asked);
    }
    let found = stage.rules().found(&climb).unwrap();
    assert_eq!(found.memory_offset, Some(memory));
    let limit = found.power_limit;
    match stage {
        Stage::UndervoltQuiet => assert_eq!(limit, climb.held_settings().power_limit),
        // It may take the limit a step down.
        _ => assert!(limit > climb.held_settings().power_limit, "{limit:?}"),
    }
    assert!(outcome.confirmed, "{outcome:?}");
    assert!(climb.claim_by(outcome.stage, outcome.pair).is_some());
    // More voltage leaves a card that power holds back less clock.
    let is_slower = stage == Stage::MaxClock;
    assert_eq!(
        (climb.passed_over(stage).is_some(), outcome.stage),
        (is_slower, (!is_slower).then_some(stage))
    );
}

#[rstest]
#[case::less_score(30.0, 400.0, true)]
#[case::more_score(62.0, 130.0, false)]
fn what_scores_less_than_what_was_kept_before_it_is_passed_over_and_told(
    #[case] edge: f64,
    #[case] core: f64,
    #[case] is_passed_over: bool,
) {
    let stages = [Stage::Baseline, Stage::Core, Stage::UndervoltClock];
    let mut climb = climb_of(shaped(), Policy::FixedStep, &stages);
    let outcome = Imagined { edge, core, ..CARD }.climb(&mut climb);
    let report = climb.strategy_report(Stage::UndervoltClock).unwrap();
    assert_eq!(report.passed_over.is_some(), is_passed_over, "{report:?}");
    assert_eq!(outcome.stage.is_none(), is_passed_over);
    assert_eq!(outcome.settings.curve.is_none(), is_passed_over);
}

#[test]
fn what_gives_score_up_on_purpose_is_not_passed_over() {
    let stages = [Stage::Baseline, Stage::Core, Stage::UndervoltQuiet];
    let mut climb = climb_of(shaped(), Policy::FixedStep, &stages);
    let outcome = CARD.climb(&mut climb);
    assert_eq!(outcome.stage, Some(Stage::UndervoltQuiet));
    assert_eq!(
        outcome.settings.core_offset,
        climb.held_settings().core_offset,
        "the core is its own"
    );
}

#[test]
fn balanced_halves_both_clocks_and_gives_a_little_voltage_back() {
    let stages = [Stage::Baseline, Stage::Core, Stage::Memory, Stage::Balanced];
    let run = |ease_mv| {
        let mut plan =
            Plan { policy: Policy::FixedStep, scene: "lantern".into(), ..Plan::default() };
        plan.balanced.ease_mv = ease_mv;
        let mut climb = Climb::new(shaped(), plan, &stages).unwrap();
        let outcome = CARD.climb(&mut climb);
        (climb, outcome.settings)
    };
    let (climb, kept) = run(10);
    let before = climb.settings_before(Stage::Balanced);
    let memory = climb.axis(Domain::Memory).unwrap();
    let (all, half) = (memory.read(&before).0, memory.read(&kept).0);
    let alone = climb.found_alone();
    assert!(half == 0 || (half * 2 - all).abs() <= 10, "{half} of {all}");
    let core = kept.core_offset.unwrap().0;
    assert!(core > 0 && core <= alone.core.0 / 2, "{core} of {}", alone.core.0);
    let depth =
        |climb: &Climb, kept| climb.depth_of(Stage::Balanced).unwrap().read(kept).unwrap().0;
    let (eager_climb, eager) = run(0);
    assert_eq!(depth(&climb, &kept) + 10, depth(&eager_climb, &eager));
}

#[test]
fn the_memorys_voltage_goes_up_for_its_edge_and_down_while_that_holds() {
    let stages = [Stage::Baseline, Stage::Memory, Stage::MemoryVoltage];
    let mut climb = climb_of(with_memory_voltage(), Policy::FixedStep, &stages);
    let outcome = Imagined { by_memory: 0.5, ..CARD }.climb(&mut climb);
    let volts: Vec<f64> = trials_of(&climb, Stage::MemoryVoltage)
        .iter()
        .map(|trial| trial.asked.memory_voltage.unwrap().value())
        .collect();
    let up = volts.iter().take_while(|volt| **volt == 1_000.0).count();
    assert!(up > 3 && volts[up..].iter().any(|volt| *volt < 1_000.0), "{volts:?}");
    let kept = outcome.settings;
    let alone = climb.found_alone().memory;
    assert!(kept.memory_offset.unwrap() > alone, "{kept:?} and {alone:?}");
    let volt = kept.memory_voltage.unwrap().value();
    let memory = f64::from(kept.memory_offset.unwrap());
    assert!(memory <= 150.0 + 0.3 * (volt - 900.0), "it holds: {memory} at {volt}");
    assert_eq!(outcome.stage, Some(Stage::MemoryVoltage));
    assert!(climb.strategy_report(Stage::MemoryVoltage).unwrap().settings.is_some());
}

#[test]
fn clock_and_voltage_go_by_turns_as_the_clock_line_dips_or_not() {
    let stages = [Stage::Baseline, Stage::Power, Stage::Alternate];
    let mut climb = climb_of(shaped(), Policy::FixedStep, &stages);
    let outcome = Imagined { edge: 90.0, ..CARD }.climb(&mut climb);
    let trials = trials_of(&climb, Stage::Alternate);
    let depth = climb.depth_of(Stage::UndervoltClock).unwrap();
    let place = |trial: &TrialRecord| {
        (trial.asked.core_offset.map_or(0, |core| core.0), depth.read(&trial.asked).unwrap().0)
    };
    let (mut by_clock, mut by_voltage) = (0, 0);
    for pair in trials.windows(2).filter(|pair| pair[1].purpose == Purpose::Step) {
        let [(clock, off), (next_clock, next_off)] = [place(pair[0]), place(pair[1])];
        let dips = pair[0].seen.limiter_share(Limiter::Power) > 0.5;
        // What is left of a step of clock that the card's bins have no room for is taken in voltage.
        match dips {
            false if next_clock >= clock + 15 && next_off <= off + 5 => by_clock += 1,
            true if next_clock == clock && next_off > off => by_voltage += 1,
            _ => {}
        }
    }
    assert!(
        by_clock > 0 && by_voltage > 0,
        "{:?}",
        trials.iter().map(|t| place(t)).collect::<Vec<_>>()
    );
    let kept = outcome.settings;
    assert_eq!(outcome.stage, Some(Stage::Alternate));
    assert!(kept.curve.is_some() && kept.core_offset.unwrap() > MhzOffset::STOCK, "{kept:?}");
    assert!(outcome.confirmed && climb.claim_by(outcome.stage, outcome.pair).is_some());
    let nudge = climb.nudged_by(0);
    assert!(nudge.is_none(), "nothing is proposed any more");
}

/// Several settings that fail in different ways: which they are is found by halving.
#[rstest]
#[case::one(&[SettingKind::MemoryTiming], 4)]
#[case::two_apart(&[SettingKind::VoltageOffset, SettingKind::MemoryOffset], 8)]
#[case::none_alone(&[], 2)]
fn of_many_settings_those_that_fail_are_found_by_halving(
    #[case] bad: &[SettingKind],
    #[case] most: usize,
) {
    let mut climb = climb_of(windowed(), Policy::FixedStep, &[Stage::Baseline, Stage::Window]);
    for _ in 0..3 {
        let Next::Trial(proposal) = climb.next() else { panic!() };
        let record = CARD.run(&climb, &proposal.request);
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
    }
    let mut settings = climb.held_settings();
    let moved = [
        (SettingKind::PowerLimit, 240.0),
        (SettingKind::ClockMaximum, 2_300.0),
        (SettingKind::VoltageOffset, -40.0),
        (SettingKind::MemoryOffset, 100.0),
        (SettingKind::MemoryTiming, 1.0),
    ];
    moved.iter().for_each(|(kind, value)| settings.set(*kind, Some(*value)));
    let stock = climb.held_settings();
    let is_all =
        |asked: &Settings| moved.iter().all(|(kind, _)| asked.get(*kind) == settings.get(*kind));
    let judge = |asked: &Settings| {
        let is_bad = bad.iter().any(|kind| asked.get(*kind) != stock.get(*kind));
        if is_bad || is_all(asked) { Verdict::LoadDied } else { Verdict::Clean }
    };
    climb.handle(ClimbEvent::Wished(Some(Box::new(settings))));
    let mut runs = 0;
    let mut failed = None;
    while let Next::Trial(proposal) = climb.next() {
        let request = &proposal.request;
        if failed.is_some() && request.purpose != Purpose::Isolate {
            break;
        }
        let mut record = CARD.run(&climb, request);
        record.judged = judge(&request.asked);
        let number = record.number;
        climb.handle(ClimbEvent::TrialEnded(Box::new(record)));
        match failed {
            None => {
                failed = Some(number);
                climb.handle(ClimbEvent::Asked(Some(number)));
            }
            Some(_) => runs += 1,
        }
    }
    let (_, culprits) = climb.culprits().unwrap();
    let found: Vec<SettingKind> = culprits.found.iter().flatten().copied().collect();
    match bad {
        [] => assert_eq!((culprits.found.len(), found.len()), (1, 5), "only all together"),
        bad => {
            assert_eq!(found, bad);
            assert_eq!(culprits.found.len(), bad.len(), "each by itself");
        }
    }
    assert!(runs <= most, "{runs} runs");
}
