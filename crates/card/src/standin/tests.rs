//! What a stand-in must show, each as a property over a spread of seeds.

use rstest::rstest;
use yard_step_core::{
    Celsius, Fan, Limiter, MhzOffset, Percent, Seconds, Seen, Settings, Watch, Watt,
};
use yard_step_scenes::{Scene, SceneRun, WORK_PER_FRAME};

use super::*;
use crate::CardChoice;

const SEEDS: std::ops::RangeInclusive<u64> = 1..=24;

fn tarn(seed: u64) -> StandIn {
    let choice: CardChoice = "standin:tarn-310".parse().unwrap();
    let mut card = choice.open(seed, 0).unwrap();
    card.set_mishaps(Mishaps::NONE);
    card
}

fn settings(offset: i32, power: f64, fan: f64) -> Settings {
    Settings {
        power_limit: Some(Watt(power)),
        core_offset: Some(MhzOffset(offset)),
        fan: Some(Fan::Fixed(Percent(fan))),
        ..Settings::default()
    }
}

/// A run of `seconds`, of which the first `warm_up` do not count: what was seen, the score, and
/// how the load was lost, if it was.
fn run(card: &mut StandIn, seconds: f64, warm_up: f64) -> (Seen, f64, Option<LoadLost>) {
    let mut load = SceneRun::new(Scene::Lantern);
    let limits = card.description().limits;
    let mut watch = Watch::new(limits, card.taken().unwrap(), Seconds(warm_up));
    let mut lost = None;
    for tick in 1..=(seconds * 10.0) as u32 {
        let at = Seconds(f64::from(tick) / 10.0);
        lost = card.run(Seconds(0.1), &mut load).err();
        for (_, wrong) in load.take_checked() {
            watch.frame(at, wrong);
        }
        if lost.is_some() {
            break;
        }
        let mut sample = card.sample().unwrap();
        sample.at = at;
        watch.sample(&sample);
    }
    let score = watch.score(WORK_PER_FRAME).unwrap_or(0.0);
    (watch.seen(), score, lost)
}

/// Runs of 15 minutes, of which the last five count: enough for the cooler to settle.
fn settled(card: &mut StandIn, offset: i32, power: f64, fan: f64) -> (Seen, f64) {
    card.apply(&settings(offset, power, fan)).unwrap();
    let (seen, score, lost) = run(card, 900.0, 600.0);
    assert_eq!(lost, None);
    (seen, score)
}

fn edge(card: &StandIn) -> i32 {
    card.edges(|frame| Scene::Lantern.demand(frame)).core_offset_mhz.0
}

#[rstest]
fn point_01_at_stock_power_holds_the_clock_back_and_more_of_it_makes_it_higher_flatter_hotter() {
    for seed in SEEDS {
        let mut card = tarn(seed);
        let boost = card.description().limits.boost_clock;
        let (stock, _) = settled(&mut card, 0, 220.0, 100.0);
        let (raised, _) = settled(&mut card, 0, 286.0, 100.0);
        let (before, after) =
            (stock.clock_line.clone().unwrap(), raised.clock_line.clone().unwrap());
        assert!(before.average < boost, "seed {seed}: {} of {boost}", before.average);
        assert!(before.flatness.value() < 90.0, "seed {seed}: {}", before.flatness);
        assert!(stock.limiter_share(Limiter::Power) > 0.7, "seed {seed}: {:?}", stock.limiters);
        assert!(after.average.value() > before.average.value() + 20.0, "seed {seed}");
        assert!(after.flatness > before.flatness, "seed {seed}");
        assert!(raised.hot_spot_max > stock.hot_spot_max, "seed {seed}");
        assert!(raised.limiter_share(Limiter::Power) < 0.1, "seed {seed}: {:?}", raised.limiters);
    }
}

#[rstest]
fn point_03_bins_drop_as_it_warms_and_the_first_minute_is_too_optimistic() {
    for seed in SEEDS {
        let mut card = tarn(seed);
        // Power to spare and little air: heat alone decides.
        card.apply(&settings(0, 286.0, 55.0)).unwrap();
        let (first_minute, ..) = run(&mut card, 60.0, 5.0);
        let (minutes_later, ..) = run(&mut card, 900.0, 600.0);
        let clock = |seen: &Seen| seen.average_clock().unwrap().value();
        assert!(clock(&first_minute) > clock(&minutes_later) + 30.0, "seed {seed}");
        let (more_air, _) = settled(&mut card, 0, 286.0, 100.0);
        assert!(clock(&more_air) > clock(&minutes_later) + 15.0, "seed {seed}: air cures it");
    }
}

#[rstest]
fn point_03_at_the_plateau_the_heat_stands_still() {
    for seed in SEEDS {
        let mut card = tarn(seed);
        let temperature = |card: &mut StandIn| card.sample().unwrap().core_temperature.unwrap();
        card.apply(&settings(0, 220.0, 100.0)).unwrap();
        run(&mut card, 60.0, 0.0);
        let after_a_minute = temperature(&mut card).value();
        run(&mut card, 840.0, 0.0);
        let plateau = temperature(&mut card).value();
        run(&mut card, 600.0, 0.0);
        assert!(plateau > after_a_minute + 4.0, "seed {seed}: {after_a_minute} {plateau}");
        assert!((temperature(&mut card).value() - plateau).abs() < 2.0, "seed {seed}");
    }
}

#[rstest]
fn point_03_a_hot_room_meets_the_target_then_the_ceiling_then_the_shutdown() {
    for seed in SEEDS {
        let mut card = tarn(seed);
        card.set_ambient(Celsius(45.0));
        card.apply(&settings(0, 220.0, 50.0)).unwrap();
        let (warm, ..) = run(&mut card, 900.0, 600.0);
        assert!(warm.limiter_share(Limiter::Heat) > 0.8, "seed {seed}: {:?}", warm.limiters);
        card.set_ambient(Celsius(64.0));
        let (steep, ..) = run(&mut card, 900.0, 600.0);
        let lost = warm.average_clock().unwrap().value() - steep.average_clock().unwrap().value();
        assert!(lost > 200.0, "seed {seed}: lost only {lost} MHz at the ceiling");
        card.set_ambient(Celsius(110.0));
        let (_, _, end) = run(&mut card, 1_800.0, 0.0);
        assert_eq!(end, Some(LoadLost::MachineDown), "seed {seed}");
    }
}

/// Seconds to the first fault at an offset, and how grave it was: 1 artifacts to 4 machine down.
fn first_fault(seed: u64, offset: i32, most: f64) -> (f64, u8) {
    let mut card = tarn(seed);
    card.apply(&settings(offset, 220.0, 100.0)).unwrap();
    let mut load = SceneRun::new(Scene::Lantern);
    for second in 0..most as u32 {
        let lost = card.run(Seconds(1.0), &mut load).err();
        let wrong = load.take_checked().any(|(_, wrong)| wrong > 0);
        let grade = match lost {
            Some(LoadLost::MachineDown) => 4,
            Some(LoadLost::DriverReset) => 3,
            Some(LoadLost::Died) => 2,
            None if wrong => 1,
            None => continue,
        };
        return (f64::from(second), grade);
    }
    (most, 0)
}

#[rstest]
fn point_04_more_offset_is_more_score_until_the_edge() {
    for seed in SEEDS {
        let mut card = tarn(seed);
        let below = edge(&card) - 15;
        let (_, stock) = settled(&mut card, 0, 220.0, 100.0);
        let (seen, raised) = settled(&mut card, below, 220.0, 100.0);
        assert_eq!(seen.wrong_frames, 0, "seed {seed}");
        let power = seen.average_power.unwrap().value();
        assert!((212.0..220.5).contains(&power), "seed {seed}: the limit is used up, {power:.0} W");
        let expected = f64::from(below) / 2_000.0 * 0.35 * 100.0;
        let gain = (raised / stock - 1.0) * 100.0;
        assert!(gain > expected - 1.5, "seed {seed}: {gain:.2} % at +{below} MHz");
    }
}

#[rstest]
fn point_04_faults_come_sooner_and_worse_the_further_past_the_edge() {
    let grades = |past: i32| {
        let found: Vec<(f64, u8)> =
            SEEDS.map(|seed| first_fault(seed, edge(&tarn(seed)) + past, 3_600.0)).collect();
        let time = found.iter().map(|(seconds, _)| seconds).sum::<f64>() / found.len() as f64;
        let grade = found.iter().map(|(_, g)| f64::from(*g)).sum::<f64>() / found.len() as f64;
        (time, grade, found)
    };
    let (at_edge, _, found) = grades(0);
    let faults = found.iter().filter(|(_, grade)| *grade > 0).count();
    assert!(faults <= 4, "an hour at the edge is nearly always clean: {faults} faults");
    assert!(at_edge > 3_300.0);
    let steps: Vec<(f64, f64)> = [30, 45, 75, 120]
        .map(|past| {
            let (time, grade, _) = grades(past);
            (time, grade)
        })
        .into();
    assert!(steps[0].0 > 30.0, "just past the edge it takes minutes: {:.0} s", steps[0].0);
    assert!(steps.is_sorted_by(|a, b| a.0 >= b.0), "sooner: {steps:?}");
    assert!(steps.is_sorted_by(|a, b| a.1 <= b.1), "worse: {steps:?}");
    assert!(steps[0].1 < 2.2 && steps[3].1 > 3.0, "from artifacts to machine down: {steps:?}");
}

#[rstest]
#[case(20, 15)]
#[case(29, 15)]
#[case(-7, -15)]
#[case(301, 300)]
#[case(-1_000, -150)]
fn point_11_settings_are_rounded_to_bins_and_clamped(#[case] asked: i32, #[case] held: i32) {
    for seed in SEEDS {
        let mut card = tarn(seed);
        card.apply(&settings(asked, 999.0, 3.0)).unwrap();
        let taken = card.taken().unwrap();
        assert_eq!(taken.core_offset, Some(MhzOffset(held)));
        assert_eq!(taken.power_limit, Some(Watt(286.0)));
        assert_eq!(taken.fan, Some(Fan::Fixed(Percent(30.0))));
    }
}

#[rstest]
fn point_11_now_and_then_a_setting_is_not_taken() {
    let refused: usize = SEEDS
        .map(|seed| {
            let mut card = CardChoice::all()[0].open(seed, 0).unwrap();
            (1..=50)
                .filter(|round| {
                    let asked = MhzOffset(15 * (round % 2 + 1));
                    card.apply(&settings(asked.0, 220.0, 100.0)).unwrap();
                    card.taken().unwrap().core_offset != Some(asked)
                })
                .count()
        })
        .sum();
    let share = refused as f64 / (50.0 * SEEDS.count() as f64);
    assert!((0.015..0.05).contains(&share), "{share}");
}

#[rstest]
fn point_11_after_a_driver_reset_settings_are_gone_and_boost_is_odd_until_a_restart() {
    for seed in SEEDS {
        let mut card = tarn(seed);
        let (before, _) = settled(&mut card, 0, 220.0, 100.0);
        card.apply(&settings(60, 250.0, 100.0)).unwrap();
        card.lose(LoadLost::DriverReset);
        assert_eq!(card.taken().unwrap(), Settings::stock(card.description()), "seed {seed}");
        let (odd, _) = settled(&mut card, 0, 220.0, 100.0);
        let clock = |seen: &Seen| seen.average_clock().unwrap().value();
        assert!((clock(&odd) - clock(&before)).abs() > 12.0, "seed {seed}: boost is odd");
        assert!(card.restart_machine());
        let (cured, _) = settled(&mut card, 0, 220.0, 100.0);
        assert!((clock(&cured) - clock(&before)).abs() < 4.0, "seed {seed}: a restart cures it");
    }
}

#[rstest]
fn point_14_runs_scatter_by_half_a_percent_and_background_costs_two() {
    for seed in SEEDS {
        let mut card = tarn(seed);
        settled(&mut card, 0, 220.0, 100.0);
        let mut score = |disturbance| {
            card.apply(&settings(0, 220.0, 100.0)).unwrap();
            card.begin_load();
            card.disturb(disturbance);
            run(&mut card, 60.0, 5.0).1
        };
        let quiet: Vec<f64> = (0..16).map(|_| score(Disturbance::None)).collect();
        let busy: Vec<f64> =
            (0..16).map(|_| score(Disturbance::Background(Percent(2.0)))).collect();
        let mean = |values: &[f64]| yard_step_core::statistics::mean(values).unwrap();
        let spread = yard_step_core::statistics::standard_deviation(&quiet).unwrap();
        let percent = spread / mean(&quiet) * 100.0;
        assert!((0.2..0.8).contains(&percent), "seed {seed}: spread {percent:.2} %");
        let cost = (1.0 - mean(&busy) / mean(&quiet)) * 100.0;
        assert!((1.4..2.6).contains(&cost), "seed {seed}: costs {cost:.2} %");
    }
}

#[rstest]
fn individuals_differ_and_the_same_seed_is_the_same_card_on_the_same_course() {
    let edges: std::collections::BTreeSet<i32> = SEEDS.map(|seed| edge(&tarn(seed))).collect();
    assert!(edges.len() >= 6, "{edges:?}");
    let course = |seed, course| {
        let mut card = CardChoice::all()[0].open(seed, course).unwrap();
        card.apply(&settings(45, 220.0, 100.0)).unwrap();
        run(&mut card, 120.0, 20.0)
    };
    for seed in SEEDS {
        assert_eq!(course(seed, 0), course(seed, 0), "seed {seed}");
        assert_ne!(course(seed, 0), course(seed, 1), "seed {seed}: chance takes another course");
    }
}

#[rstest]
fn a_card_whose_machine_is_down_answers_nothing_until_the_restart() {
    let mut card = tarn(1);
    card.lose(LoadLost::MachineDown);
    let mut load = SceneRun::new(Scene::Lantern);
    assert_eq!(card.run(Seconds(1.0), &mut load), Err(LoadLost::MachineDown));
    assert_eq!(card.sample(), Err(CardError::MachineDown));
    assert_eq!(card.apply(&Settings::default()), Err(CardError::MachineDown));
    assert!(card.restart_machine());
    assert!(card.sample().is_ok());
}

#[rstest]
#[case("name = 1", "invalid type")]
#[case("", "missing field")]
fn a_model_that_cannot_be_read_says_what_is_wrong(#[case] model: &str, #[case] told: &str) {
    let error = StandIn::new("standin:broken", model, 1, 0).err().unwrap().to_string();
    assert!(error.contains(told), "{error}");
}
