//! What a stand-in must show, point by point, each as a property over a spread of seeds.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Mutex;

use rstest::rstest;
use yard_step_core::{
    Case, Celsius, CheckedFrame, Fan, FanCurve, Limiter, MhzOffset, Percent, Seconds, Seen,
    Settings, VfCurve, Watch, Watt, makers_maximum,
};
use yard_step_scenes::{Scene, SceneRun, UncheckedRun};

use super::*;
use crate::CardChoice;

const SEEDS: std::ops::RangeInclusive<u64> = 1..=12;
const TARN: &str = "standin:tarn-310";
const BRACKEN: &str = "standin:bracken-208";
const QUERN: &str = "standin:quern-540";

/// Every kind there is.
fn kinds() -> Vec<String> {
    CardChoice::all().iter().map(ToString::to_string).collect()
}

fn open(kind: &str, seed: u64) -> StandIn {
    let choice: CardChoice = kind.parse().unwrap();
    let mut card = choice.open(seed, 0).unwrap();
    card.set_mishaps(Mishaps::NONE);
    card
}

fn fan(percent: f64) -> Settings {
    Settings { fan: Some(Fan::Fixed(Percent(percent))), ..Settings::default() }
}

/// Fan full, and these settings in their units.
fn with(values: &[(SettingKind, f64)]) -> Settings {
    let mut settings = fan(100.0);
    for (kind, value) in values {
        settings.set(*kind, Some(*value));
    }
    settings
}

fn range(card: &StandIn, kind: SettingKind) -> (f64, f64) {
    let offer = card.description().offer(kind).unwrap();
    (offer.minimum, offer.maximum)
}

fn lantern(frame: u64) -> Demand {
    Scene::Lantern.demand(frame)
}

/// What the card does at these settings once it is warm, when nothing fails.
fn warm(card: &StandIn, values: &[(SettingKind, f64)]) -> Warm {
    card.warm(&with(values), &lantern)
}

/// The furthest value that holds beside `others`.
fn edge(card: &StandIn, kind: SettingKind, others: &[(SettingKind, f64)]) -> f64 {
    // Many tests ask for the same edges of the same units in the same room: each is found once.
    static FOUND: Mutex<BTreeMap<String, f64>> = Mutex::new(BTreeMap::new());
    let unit = (&card.description().name, &card.description().serial, card.physics.room());
    let key = format!("{unit:?} {kind:?} {others:?}");
    let known = FOUND.lock().unwrap().get(&key).copied();
    known.unwrap_or_else(|| {
        let found = card.edge_of(kind, &with(others), &lantern).unwrap();
        FOUND.lock().unwrap().insert(key, found);
        found
    })
}

fn day(warm: Warm) -> f64 {
    warm.faults_per_hour * 24.0
}

/// Lantern, its frames counted and neither drawn nor looked at.
#[derive(Default)]
struct Counted {
    frames: u64,
}

impl Workload for Counted {
    fn demand(&self) -> Demand {
        lantern(self.frames)
    }
    fn size(&self) -> (usize, usize) {
        (0, 0)
    }
    fn draw(&mut self, _: &mut Frame) {}
    fn present(&mut self, _: Option<&Frame>, _: Seconds) {
        self.frames += 1;
    }
}

/// A run of `seconds`, of which the first `warm_up` do not count: what was seen, the score, and
/// how the load was lost, if it was.
fn run(card: &mut StandIn, seconds: f64, warm_up: f64) -> (Seen, f64, Option<LoadLost>) {
    let mut load = Counted::default();
    let limits = card.description().limits;
    let mut watch = Watch::new(limits, card.taken().unwrap(), Seconds(warm_up));
    let mut lost = None;
    for tick in 1..=(seconds * 10.0) as u32 {
        let at = Seconds(f64::from(tick) / 10.0);
        let before = load.frames;
        lost = card.run(Seconds(0.1), Work::Here(&mut load)).err();
        let frame = CheckedFrame { at, ..CheckedFrame::default() };
        (before..load.frames).for_each(|_| watch.frame(at, &frame, 50.0));
        if lost.is_some() {
            break;
        }
        let mut sample = card.sample().unwrap();
        sample.at = at;
        watch.sample(&sample);
    }
    let score = watch.score(1).unwrap_or(0.0);
    (watch.seen(), score, lost)
}

/// A run of 15 minutes, of which the last five count: enough for the cooler to settle.
fn settled(card: &mut StandIn, settings: &Settings) -> (Seen, f64) {
    card.apply(settings).unwrap();
    let (seen, score, lost) = run(card, 900.0, 600.0);
    assert_eq!(lost, None);
    (seen, score)
}

fn clock(seen: &Seen) -> f64 {
    seen.average_clock().unwrap().value()
}

#[rstest]
#[case(TARN)]
#[case(BRACKEN)]
#[case(QUERN)]
fn point_01_at_stock_power_holds_the_clock_back_and_more_of_it_makes_it_higher_flatter_hotter(
    #[case] kind: &str,
) {
    for seed in SEEDS {
        let mut card = open(kind, seed);
        let boost = card.description().limits.boost_clock;
        let (_, most) = range(&card, SettingKind::PowerLimit);
        let (stock, _) = settled(&mut card, &fan(100.0));
        let (raised, _) = settled(&mut card, &with(&[(SettingKind::PowerLimit, most)]));
        let (before, after) =
            (stock.clock_line.clone().unwrap(), raised.clock_line.clone().unwrap());
        assert!(before.average < boost, "seed {seed}: {} of {boost}", before.average);
        assert!(before.flatness.value() < 90.0, "seed {seed}: {}", before.flatness);
        assert!(stock.limiter_share(Limiter::Power) > 0.7, "seed {seed}: {:?}", stock.limiters);
        assert!(clock(&raised) > clock(&stock) + 20.0, "seed {seed}");
        assert!(raised.hot_spot_max > stock.hot_spot_max, "seed {seed}");
        if kind == TARN {
            assert!(after.flatness > before.flatness, "seed {seed}");
            assert!(raised.limiter_share(Limiter::Power) < 0.1, "seed {seed}");
        }
    }
}

#[rstest]
#[case(TARN)]
#[case(BRACKEN)]
#[case(QUERN)]
fn point_02_less_voltage_frees_watts_for_clock_and_too_little_fails(#[case] kind: &str) {
    for seed in SEEDS {
        let card = open(kind, seed);
        let stock = warm(&card, &[]);
        let lowest = edge(&card, SettingKind::VoltageOffset, &[]);
        let at = |offset: f64| warm(&card, &[(SettingKind::VoltageOffset, offset)]);
        let gained = at(lowest).clock.value() - stock.clock.value();
        assert!(gained > 8.0, "seed {seed}: {gained:.1} MHz at {lowest} mV");
        assert!(at(lowest / 2.0).clock > stock.clock, "seed {seed}");
        assert!(day(at(lowest - 25.0)) > 100.0 * day(at(lowest)), "seed {seed}: it falls steeply");
    }
}

#[test]
fn point_03_bins_drop_as_it_warms_and_the_first_minute_is_too_optimistic() {
    for seed in SEEDS {
        let mut card = open(TARN, seed);
        // Power to spare and little air: heat alone decides.
        let hot = Settings { power_limit: Some(Watt(286.0)), ..fan(55.0) };
        card.apply(&hot).unwrap();
        let (first_minute, ..) = run(&mut card, 60.0, 5.0);
        let (minutes_later, ..) = run(&mut card, 900.0, 600.0);
        assert!(clock(&first_minute) > clock(&minutes_later) + 30.0, "seed {seed}");
        let (more_air, _) =
            settled(&mut card, &Settings { power_limit: Some(Watt(286.0)), ..fan(100.0) });
        assert!(clock(&more_air) > clock(&minutes_later) + 15.0, "seed {seed}: air cures it");
    }
}

#[rstest]
#[case(TARN)]
#[case(BRACKEN)]
#[case(QUERN)]
fn point_03_at_the_plateau_the_heat_stands_still(#[case] kind: &str) {
    for seed in SEEDS {
        let mut card = open(kind, seed);
        let temperature = |card: &mut StandIn| card.sample().unwrap().core_temperature.unwrap();
        card.apply(&fan(100.0)).unwrap();
        run(&mut card, 60.0, 0.0);
        let after_a_minute = temperature(&mut card).value();
        run(&mut card, 840.0, 0.0);
        let plateau = temperature(&mut card).value();
        run(&mut card, 600.0, 0.0);
        assert!(plateau > after_a_minute + 4.0, "seed {seed}: {after_a_minute} {plateau}");
        assert!((temperature(&mut card).value() - plateau).abs() < 2.0, "seed {seed}");
    }
}

#[test]
fn point_03_a_hot_room_meets_the_target_then_the_ceiling_then_the_shutdown() {
    for seed in SEEDS {
        let mut card = open(TARN, seed);
        let room = |degrees| Room { ambient: Celsius(degrees), case: Case::Open };
        card.set_room(room(45.0));
        card.apply(&fan(50.0)).unwrap();
        let (heated, ..) = run(&mut card, 900.0, 600.0);
        assert!(heated.limiter_share(Limiter::Heat) > 0.8, "seed {seed}: {:?}", heated.limiters);
        card.set_room(room(64.0));
        let (steep, ..) = run(&mut card, 900.0, 600.0);
        let lost = clock(&heated) - clock(&steep);
        assert!(lost > 150.0, "seed {seed}: lost only {lost} MHz at the ceiling");
        card.set_room(room(110.0));
        let (_, _, end) = run(&mut card, 1_800.0, 0.0);
        assert_eq!(end, Some(LoadLost::MachineDown), "seed {seed}");
    }
}

/// Seconds to the first fault, and how grave it was: 1 artifacts to 4 machine down.
fn first_fault(card: &mut StandIn, settings: &Settings, most: f64) -> (f64, u8) {
    card.apply(settings).unwrap();
    let mut load = SceneRun::new(Scene::Lantern);
    for second in 0..most as u32 {
        let lost = card.run(Seconds(1.0), Work::Here(&mut load)).err();
        let wrong = load.take_checked().any(|frame| frame.wrong_pixels > 0);
        let grade = match lost {
            Some(LoadLost::MachineDown) => 4,
            Some(LoadLost::DriverReset) => 3,
            Some(_) => 2,
            None if wrong => 1,
            None => continue,
        };
        return (f64::from(second), grade);
    }
    (most, 0)
}

/// Mean time to the first fault and mean grade of it, `past` beyond each card's own edge.
fn faults_past(kind: SettingKind, past: f64) -> (f64, f64) {
    let found: Vec<(f64, u8)> = SEEDS
        .map(|seed| {
            let mut card = open(TARN, seed);
            let settings = with(&[(kind, edge(&card, kind, &[]) + past)]);
            first_fault(&mut card, &settings, 3_600.0)
        })
        .collect();
    let count = found.len() as f64;
    let time = found.iter().map(|(seconds, _)| seconds).sum::<f64>() / count;
    (time, found.iter().map(|(_, grade)| f64::from(*grade)).sum::<f64>() / count)
}

#[test]
fn point_04_more_offset_is_more_score_until_the_edge() {
    for seed in SEEDS {
        let mut card = open(TARN, seed);
        let below = edge(&card, SettingKind::CoreOffset, &[]) - 15.0;
        let (_, stock) = settled(&mut card, &fan(100.0));
        let (seen, raised) = settled(&mut card, &with(&[(SettingKind::CoreOffset, below)]));
        let power = seen.average_power.unwrap().value();
        assert!((212.0..220.5).contains(&power), "seed {seed}: the limit is used up, {power:.0} W");
        let expected = below / 2_000.0 * 0.35 * 100.0;
        let gain = (raised / stock - 1.0) * 100.0;
        assert!(gain > expected - 1.5, "seed {seed}: {gain:.2} % at +{below} MHz");
    }
}

#[test]
fn point_04_faults_come_sooner_and_worse_the_further_past_the_edge() {
    let (at_edge, grade) = faults_past(SettingKind::CoreOffset, 0.0);
    assert!(at_edge > 3_200.0 && grade < 0.3, "an hour at the edge is mostly clean: {at_edge}");
    let steps: Vec<_> =
        [30.0, 45.0, 75.0, 120.0].map(|past| faults_past(SettingKind::CoreOffset, past)).into();
    assert!(steps[0].0 > 30.0, "just past the edge it takes minutes: {:.0} s", steps[0].0);
    assert!(steps.is_sorted_by(|a, b| a.0 >= b.0), "sooner: {steps:?}");
    assert!(steps.is_sorted_by(|a, b| a.1 <= b.1), "worse: {steps:?}");
    assert!(steps[0].1 < 2.2 && steps[3].1 > 3.0, "from artifacts to machine down: {steps:?}");
}

#[rstest]
#[case(TARN)]
#[case(QUERN)]
fn point_05_memory_that_corrects_errors_loses_score_before_anything_is_seen(#[case] kind: &str) {
    for seed in SEEDS {
        let card = open(kind, seed);
        let last = edge(&card, SettingKind::MemoryOffset, &[]);
        let score = |offset: f64| warm(&card, &[(SettingKind::MemoryOffset, offset)]).score;
        let best = (1..8).map(|part| score(last * f64::from(part) / 8.0)).fold(0.0, f64::max);
        assert!(best > score(0.0) * 1.001, "seed {seed}: faster memory pays at first");
        assert!(score(last) < best * 0.998, "seed {seed}: and costs before its edge");
    }
}

#[test]
fn point_05_past_its_edge_memory_shows_artifacts_and_then_takes_the_load_down() {
    let steps: Vec<_> =
        [40.0, 70.0, 110.0].map(|past| faults_past(SettingKind::MemoryOffset, past)).into();
    assert!(steps.is_sorted_by(|a, b| a.0 >= b.0), "sooner: {steps:?}");
    assert!(steps.is_sorted_by(|a, b| a.1 <= b.1), "worse: {steps:?}");
    assert!(steps[0].1 < 2.1 && steps[2].1 > 2.4, "from artifacts to a crash: {steps:?}");
}

#[rstest]
#[case(TARN, 60.0, 80.0)]
#[case(BRACKEN, 45.0, 60.0)]
#[case(QUERN, 50.0, 70.0)]
fn point_05_in_bands_of_clock_relaxed_timings_take_the_gain(
    #[case] kind: &str,
    #[case] from: f64,
    #[case] to: f64,
) {
    for seed in SEEDS {
        let mut card = open(kind, seed);
        // What the timings do is looked at without what errors do.
        card.unit.memory_headroom = 400.0;
        card.physics.unit.memory_headroom = 400.0;
        let score = |offset: f64| warm(&card, &[(SettingKind::MemoryOffset, offset)]).score;
        let step = to - from;
        let before = score(from) - score(from - step);
        let within = score(to) - score(from);
        assert!(before > 0.0 && within < before * 0.2, "seed {seed}: {before:.2} {within:.2}");
        assert!(score(to + step) > score(to) + before * 0.5, "seed {seed}: beyond, it pays again");
    }
}

#[rstest]
#[case(TARN, SettingKind::CoreOffset)]
#[case(BRACKEN, SettingKind::CoreOffset)]
#[case(QUERN, SettingKind::VoltageOffset)]
fn point_06_edges_found_alone_do_not_hold_together(#[case] kind: &str, #[case] core: SettingKind) {
    for seed in SEEDS {
        let card = open(kind, seed);
        let alone = [
            (core, edge(&card, core, &[])),
            (SettingKind::MemoryOffset, edge(&card, SettingKind::MemoryOffset, &[])),
        ];
        let together = day(warm(&card, &alone));
        assert!(together > 20.0, "seed {seed}: {together:.1} faults a day together");
        for one in alone {
            assert!(day(warm(&card, &[one])) <= 1.0, "seed {seed}");
        }
    }
}

#[rstest]
#[case(TARN)]
#[case(BRACKEN)]
fn point_07_more_voltage_moves_the_edge_up_heats_and_gains_less_and_less(#[case] kind: &str) {
    let mut gains = (0.0, 0.0);
    for seed in SEEDS {
        let mut card = open(kind, seed);
        let (_, watts) = range(&card, SettingKind::PowerLimit);
        let at = |mv: f64| [(SettingKind::VoltageOffset, mv), (SettingKind::PowerLimit, watts)];
        // The clock that is really reached at the edge of each voltage.
        let reached = [-60.0, 0.0, 60.0].map(|mv| {
            let limit = edge(&card, SettingKind::CoreOffset, &at(mv));
            let values = [&at(mv)[..], &[(SettingKind::CoreOffset, limit)]].concat();
            (limit, warm(&card, &values).clock.value())
        });
        let [(low, first), (middle, second), (high, third)] = reached;
        assert!(low < middle && middle < high, "seed {seed}: {reached:?}");
        gains = (gains.0 + second - first, gains.1 + third - second);
        let (cool, _) = settled(&mut card, &with(&at(0.0)));
        let (hot, _) = settled(&mut card, &with(&at(60.0)));
        assert!(hot.hot_spot_max > cool.hot_spot_max, "seed {seed}");
    }
    assert!(gains.1 < gains.0 * 0.97, "less and less: {gains:?}");
}

#[test]
fn point_07_the_memory_side_voltage_helps_the_memory_a_little() {
    for seed in SEEDS {
        let card = open(BRACKEN, seed);
        let limit =
            |mv: f64| edge(&card, SettingKind::MemoryOffset, &[(SettingKind::MemoryVoltage, mv)]);
        let (low, stock, high) = (limit(800.0), limit(900.0), limit(1_000.0));
        assert!(low < stock && stock < high, "seed {seed}: {low} {stock} {high}");
        assert!(high - stock < 35.0, "seed {seed}: a little, not {}", high - stock);
        assert!(high - stock < stock - low, "seed {seed}: less and less");
    }
}

#[rstest]
#[case(TARN)]
#[case(BRACKEN)]
#[case(QUERN)]
fn point_08_watts_of_memory_and_fan_are_watts_of_the_core(#[case] kind: &str) {
    for seed in SEEDS {
        let card = open(kind, seed);
        let stock = warm(&card, &[]);
        let frugal = warm(&card, &[(SettingKind::MemoryOffset, -300.0)]);
        assert!(frugal.clock.value() > stock.clock.value() + 5.0, "seed {seed}: memory");
        let less_air = card.warm(&fan(90.0), &lantern);
        assert!(less_air.clock > stock.clock, "seed {seed}: fan");
        // Too little air costs more than it frees.
        let stifled = card.warm(&fan(35.0), &lantern);
        assert!(stifled.clock < less_air.clock, "seed {seed}: no air");
    }
}

#[test]
fn point_09_a_lowest_clock_set_too_high_throttles() {
    for seed in SEEDS {
        let mut card = open(QUERN, seed);
        let (free, best) = settled(&mut card, &fan(100.0));
        let modest = clock(&free) - 150.0;
        let (_, held) = settled(&mut card, &with(&[(SettingKind::ClockMinimum, modest)]));
        assert!(held > best * 0.97, "seed {seed}: a modest one does no harm");
        let (throttled, score) =
            settled(&mut card, &with(&[(SettingKind::ClockMinimum, clock(&free) + 100.0)]));
        assert!(score < best * 0.95, "seed {seed}: {score:.0} of {best:.0}");
        let line = throttled.clock_line.clone().unwrap();
        assert!(clock(&throttled) < clock(&free) - 150.0, "seed {seed}: {line:?}");
        let swing = line.highest - line.lowest;
        assert!(swing.value() > 500.0, "seed {seed}: to and fro, {line:?}");
    }
}

#[test]
fn point_09_wide_and_narrow_windows_suit_different_cards() {
    let prefers_wide = |seed: u64| {
        let card = open(QUERN, seed);
        let middle = warm(&card, &[]).clock.value();
        let score = |below: f64, above: f64| {
            let window = [
                (SettingKind::ClockMinimum, middle - below),
                (SettingKind::ClockMaximum, middle + above),
            ];
            warm(&card, &window).score
        };
        score(600.0, 200.0) > score(100.0, 60.0)
    };
    let wide = SEEDS.filter(|seed| prefers_wide(*seed)).count();
    let all = SEEDS.count();
    assert!((4..=all - 4).contains(&wide), "{wide} of {all} like a wide window");
}

#[rstest]
#[case(TARN, SettingKind::CoreOffset)]
#[case(BRACKEN, SettingKind::CoreOffset)]
#[case(QUERN, SettingKind::VoltageOffset)]
fn point_10_past_some_clock_the_effective_clock_falls_behind_and_the_score_drops(
    #[case] kind: &str,
    #[case] setting: SettingKind,
) {
    for seed in SEEDS {
        let card = open(kind, seed);
        let (_, watts) = range(&card, SettingKind::PowerLimit);
        // Towards danger: a higher clock, or the same at less voltage.
        let (least, most) = range(&card, setting);
        let end = if setting == SettingKind::VoltageOffset { least } else { most };
        let runs: Vec<Warm> = (0..=20)
            .map(|step| {
                let value = end * f64::from(step) / 20.0;
                warm(&card, &[(SettingKind::PowerLimit, watts), (setting, value)])
            })
            .collect();
        let (best, _) =
            runs.iter().enumerate().max_by(|a, b| a.1.score.total_cmp(&b.1.score)).unwrap();
        let last = runs.last().unwrap();
        assert!(last.clock > runs[best].clock, "seed {seed}: more clock is reported");
        assert!(last.score < runs[best].score * 0.985, "seed {seed}: and less work is done");
    }
}

#[rstest]
#[case(20.0, 15.0)]
#[case(29.0, 15.0)]
#[case(-7.0, -15.0)]
#[case(301.0, 300.0)]
#[case(-1_000.0, -150.0)]
fn point_11_settings_are_rounded_to_bins_and_clamped(#[case] asked: f64, #[case] held: f64) {
    for seed in SEEDS {
        let mut card = open(TARN, seed);
        card.apply(&Settings {
            core_offset: Some(MhzOffset(asked as i32)),
            power_limit: Some(Watt(999.0)),
            ..fan(3.0)
        })
        .unwrap();
        let taken = card.taken().unwrap();
        assert_eq!(taken.core_offset, Some(MhzOffset(held as i32)));
        assert_eq!(taken.power_limit, Some(Watt(283.0)));
        assert_eq!(taken.fan, Some(Fan::Fixed(Percent(30.0))));
    }
}

#[test]
fn point_11_now_and_then_a_setting_is_not_taken() {
    for kind in &kinds() {
        let choice: CardChoice = kind.parse().unwrap();
        let refused: usize = SEEDS
            .map(|seed| {
                let mut card = choice.open(seed, 0).unwrap();
                (1..=50)
                    .filter(|round| {
                        let asked = MhzOffset(15 * (round % 2 + 1));
                        let settings = Settings { memory_offset: Some(asked), ..fan(100.0) };
                        card.apply(&settings).unwrap();
                        card.taken().unwrap().memory_offset != Some(asked)
                    })
                    .count()
            })
            .sum();
        let share = refused as f64 / (50.0 * SEEDS.count() as f64);
        assert!((0.015..0.05).contains(&share), "{kind}: {share}");
    }
}

#[rstest]
#[case(TARN)]
#[case(BRACKEN)]
#[case(QUERN)]
fn point_11_after_a_driver_reset_settings_are_gone_and_boost_is_odd_until_a_restart(
    #[case] kind: &str,
) {
    for seed in SEEDS {
        let mut card = open(kind, seed);
        let (before, _) = settled(&mut card, &fan(100.0));
        card.apply(&with(&[(SettingKind::MemoryOffset, 30.0)])).unwrap();
        card.lose(LoadLost::DriverReset);
        assert_eq!(card.taken().unwrap(), Settings::stock(card.description()), "seed {seed}");
        let (odd, _) = settled(&mut card, &fan(100.0));
        assert!((clock(&odd) - clock(&before)).abs() > 12.0, "seed {seed}: boost is odd");
        assert!(card.restart_machine());
        let (cured, _) = settled(&mut card, &fan(100.0));
        assert!((clock(&cured) - clock(&before)).abs() < 4.0, "seed {seed}: a restart cures it");
    }
}

/// A day at these settings under a load that asks for `demand` at each second: faults to expect.
fn faults_a_day(card: &StandIn, settings: &Settings, demand: impl Fn(u64) -> Demand) -> f64 {
    let controls = Controls::of(settings, &card.model, 1.0);
    let mut physics = Physics::new(card.model.clone(), card.unit, Room::default());
    let mut faults = 0.0;
    for step in 0..21_000_u64 {
        physics.step(STEP, Some(&demand(step / 10)), 0.0, &controls);
        if step >= 15_000 {
            faults += physics.past(&controls).faults_per_hour(faults::Onset::Exponential);
        }
    }
    faults / 6_000.0 * 24.0
}

#[rstest]
#[case(TARN, SettingKind::CoreOffset)]
#[case(BRACKEN, SettingKind::CoreOffset)]
#[case(QUERN, SettingKind::VoltageOffset)]
fn point_12_what_holds_in_one_scene_fails_in_another(
    #[case] kind: &str,
    #[case] setting: SettingKind,
) {
    let full = Demand::default();
    for seed in SEEDS {
        let card = open(kind, seed);
        let settings = with(&[(setting, edge(&card, setting, &[]))]);
        let fails = |demand: Demand| faults_a_day(&card, &settings, |_| demand);
        let mixed = fails(full);
        assert!(mixed < 2.0, "seed {seed}: {mixed}");
        let shapes = fails(Demand { geometry: 1.0, ..full });
        assert!(shapes > 3.0 * mixed, "seed {seed}: longest paths {shapes:.2}, {mixed:.2}");
        let gentle = fails(Demand { geometry: 0.0, ..full });
        assert!(gentle < mixed, "seed {seed}");
        // On load changes only: less work in all, and yet more faults.
        let changing = faults_a_day(&card, &settings, |second| Demand {
            load: Percent(if second % 5 == 0 { 15.0 } else { 99.0 }),
            ..full
        });
        assert!(changing > 3.0 * mixed, "seed {seed}: changing {changing:.2}, steady {mixed:.2}");
        let memory =
            with(&[(SettingKind::MemoryOffset, edge(&card, SettingKind::MemoryOffset, &[]))]);
        let busy = |traffic| faults_a_day(&card, &memory, |_| Demand { traffic, ..full });
        assert!(busy(1.0) > 2.0 * busy(0.5), "seed {seed}: a busy bus finds memory out");
    }
}

#[rstest]
#[case(TARN, SettingKind::CoreOffset)]
#[case(BRACKEN, SettingKind::CoreOffset)]
#[case(QUERN, SettingKind::VoltageOffset)]
fn point_13_seeds_differ_and_the_room_shifts_everything(
    #[case] kind: &str,
    #[case] setting: SettingKind,
) {
    let cards: Vec<StandIn> = SEEDS.map(|seed| open(kind, seed)).collect();
    let distinct = |setting| {
        let all = cards.iter().map(|card| edge(card, setting, &[]).round() as i64);
        all.collect::<BTreeSet<i64>>().len()
    };
    assert!(distinct(setting) >= 6 && distinct(SettingKind::MemoryOffset) >= 6);
    let leakages = cards.iter().map(|card| (card.unit.leakage * 1e6) as i64);
    let mountings = cards.iter().map(|card| (card.unit.mounting * 1e6) as i64);
    let nearly_all = SEEDS.count() * 5 / 6;
    assert!(leakages.collect::<BTreeSet<i64>>().len() > nearly_all);
    assert!(mountings.collect::<BTreeSet<i64>>().len() > nearly_all);
    for mut card in cards {
        let seed = card.description().serial.clone();
        let memory = edge(&card, SettingKind::MemoryOffset, &[]);
        let cool = warm(&card, &[(SettingKind::MemoryOffset, memory)]);
        card.set_room(Room { ambient: Celsius(32.0), case: Case::Open });
        let summer = warm(&card, &[(SettingKind::MemoryOffset, memory)]);
        card.set_room(Room { ambient: Celsius(32.0), case: Case::Closed });
        let closed = warm(&card, &[(SettingKind::MemoryOffset, memory)]);
        assert!(cool.clock > summer.clock && summer.clock > closed.clock, "seed {seed}: clock");
        assert!(
            day(cool) < day(summer) && day(summer) < day(closed),
            "seed {seed}: what held in winter does not in summer"
        );
    }
}

#[test]
fn point_14_runs_scatter_by_half_a_percent_and_background_costs_two() {
    for seed in SEEDS {
        let kinds = kinds();
        let mut card = open(&kinds[seed as usize % kinds.len()], seed);
        settled(&mut card, &fan(100.0));
        let mut score = |disturbance| {
            card.apply(&fan(100.0)).unwrap();
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
        assert!((0.2..0.85).contains(&percent), "seed {seed}: spread {percent:.2} %");
        let cost = (1.0 - mean(&busy) / mean(&quiet)) * 100.0;
        assert!((1.3..2.7).contains(&cost), "seed {seed}: costs {cost:.2} %");
    }
}

#[test]
fn point_15_tighter_memory_timing_raises_the_score_and_lowers_the_memory_edge() {
    for seed in SEEDS {
        let card = open(QUERN, seed);
        let level = |level: f64| (SettingKind::MemoryTiming, level);
        let scores = [0.0, 1.0, 2.0].map(|l| warm(&card, &[level(l)]).score);
        assert!(scores[0] < scores[1], "seed {seed}: {scores:?}");
        let edges = [0.0, 1.0, 2.0].map(|l| edge(&card, SettingKind::MemoryOffset, &[level(l)]));
        assert!(edges[0] > edges[1] && edges[1] > edges[2], "seed {seed}: {edges:?}");
    }
}

#[rstest]
#[case(TARN)]
#[case(BRACKEN)]
#[case(QUERN)]
fn point_15_a_frame_cap_lowers_power_and_is_kept(#[case] kind: &str) {
    for seed in SEEDS {
        let mut card = open(kind, seed);
        let (free, _) = settled(&mut card, &fan(100.0));
        let cap = (free.frame_rate.unwrap() * 0.7).round();
        let (capped, _) = settled(&mut card, &with(&[(SettingKind::FrameCap, cap)]));
        let watts = |seen: &Seen| seen.average_power.unwrap().value();
        assert!(watts(&capped) < watts(&free) * 0.95, "seed {seed}");
        let rate = capped.frame_rate.unwrap();
        assert!((rate - cap).abs() < 0.3, "seed {seed}: {rate} fps at a cap of {cap}");
        assert!(capped.limiter_share(Limiter::FrameCap) > 0.4, "{:?}", capped.limiters);
    }
}

#[rstest]
#[case(TARN)]
#[case(BRACKEN)]
#[case(QUERN)]
fn point_16_after_a_driver_update_overrides_of_the_limit_table_are_gone(#[case] kind: &str) {
    for seed in SEEDS {
        let mut card = open(kind, seed);
        let (_, factory) = range(&card, SettingKind::PowerLimit);
        let past_it = factory + 40.0;
        let before_it = card.description().driver.clone();
        let makers = card.description().limit_tables.clone().unwrap().makers;
        card.override_limits(Some(makers.with(LimitField::PowerLimit, past_it)));
        assert_eq!(range(&card, SettingKind::PowerLimit).1, factory, "before the restart");
        card.restart_machine();
        // A range ends at a whole step.
        let step = card.description().offer(SettingKind::PowerLimit).unwrap().step;
        let reached = range(&card, SettingKind::PowerLimit).1;
        assert!(reached <= past_it && reached > past_it - step, "seed {seed}: {reached}");
        card.apply(&Settings { power_limit: Some(Watt(past_it)), ..fan(100.0) }).unwrap();
        let held = card.taken().unwrap().power_limit.unwrap().value();
        assert!(held > factory, "seed {seed}: {held}");
        card.restart_machine();
        assert_eq!(range(&card, SettingKind::PowerLimit).1, reached, "it outlives a restart");
        assert!(before_it.ends_with("1.0") && card.description().driver.contains("limits"));
        let before = card.description().driver.clone();
        card.set_driver(2);
        assert_ne!(card.description().driver, before);
        assert_eq!(range(&card, SettingKind::PowerLimit).1, factory, "seed {seed}");
        card.restart_machine();
        assert_eq!(range(&card, SettingKind::PowerLimit).1, factory, "and stays gone");
    }
}

#[rstest]
#[case(TARN, LimitField::PowerLimit, 1.2, SettingKind::PowerLimit)]
#[case(TARN, LimitField::VoltageCeiling, 1.01, SettingKind::VoltageOffset)]
#[case(TARN, LimitField::MemoryClock, 1.1, SettingKind::MemoryOffset)]
#[case(BRACKEN, LimitField::CoreClock, 1.05, SettingKind::CoreOffset)]
#[case(QUERN, LimitField::MemoryClock, 1.05, SettingKind::MemoryOffset)]
fn a_raised_field_raises_its_range_and_can_be_asked(
    #[case] kind: &str,
    #[case] field: LimitField,
    #[case] factor: f64,
    #[case] setting: SettingKind,
) {
    let mut card = open(kind, 1);
    card.set_mishaps(Mishaps::NONE);
    let (_, factory) = range(&card, setting);
    let makers = card.makers_limits();
    card.override_limits(Some(makers.with(field, makers.value(field).unwrap() * factor)));
    card.restart_machine();
    let (_, highest) = range(&card, setting);
    assert!(highest > factory, "{highest} against {factory}");
    let makers_end = makers_maximum(card.description(), setting).unwrap();
    assert!((makers_end - factory).abs() < card.description().offer(setting).unwrap().step);
    card.apply(&with(&[(setting, highest)])).unwrap();
    assert_eq!(card.taken().unwrap().get(setting), Some(highest));
}

#[test]
fn more_current_lets_more_power_through() {
    let watts = |current: f64| {
        let mut card = open(TARN, 1);
        let makers = card.makers_limits();
        let table = makers.with(LimitField::PowerLimit, 330.0);
        card.override_limits(Some(table.with(LimitField::CurrentLimit, current)));
        card.restart_machine();
        assert_eq!(card.description().limits.current, Some(Ampere(current)));
        card.apply(&Settings { power_limit: Some(Watt(330.0)), ..fan(100.0) }).unwrap();
        run(&mut card, 60.0, 30.0);
        card.sample().unwrap().board_power.unwrap().value()
    };
    assert!(watts(130.0) < watts(255.0) - 10.0, "{} and {}", watts(130.0), watts(255.0));
}

#[rstest]
#[case(TARN, LimitField::VoltageCeiling)]
#[case(BRACKEN, LimitField::CoreClock)]
#[case(QUERN, LimitField::MemoryClock)]
fn a_field_far_out_of_range_keeps_the_machine_from_starting(
    #[case] kind: &str,
    #[case] field: LimitField,
) {
    let mut card = open(kind, 1);
    let makers = card.makers_limits();
    card.override_limits(Some(makers.with(field, makers.value(field).unwrap() * 1.4)));
    card.restart_machine();
    assert_eq!(card.taken(), Err(CardError::MachineDown));
    card.override_limits(None);
    card.restart_machine();
    assert!(card.taken().is_ok(), "the maker's table brings it up");
}

#[test]
fn the_same_seed_is_the_same_card_on_the_same_course() {
    for kind in &kinds() {
        let course = |seed, course| {
            let mut card = kind.parse::<CardChoice>().unwrap().open(seed, course).unwrap();
            card.apply(&with(&[(SettingKind::MemoryOffset, 40.0)])).unwrap();
            run(&mut card, 120.0, 20.0)
        };
        for seed in SEEDS {
            assert_eq!(course(seed, 0), course(seed, 0), "{kind} {seed}");
            assert_ne!(course(seed, 0), course(seed, 1), "{kind} {seed}: chance differs");
        }
    }
}

#[test]
fn a_fan_curve_is_held_and_followed() {
    let mut card = open(TARN, 3);
    let curve = FanCurve::new(&[(40.0, 10.0), (60.0, 40.0), (90.0, 100.0)]).unwrap();
    card.apply(&Settings { fan: Some(Fan::Curve(curve)), ..Settings::default() }).unwrap();
    let held = card.taken().unwrap().fan;
    assert_eq!(held, Some(Fan::Curve(curve.within(30.0, 100.0))), "inside the fan's range");
    run(&mut card, 600.0, 0.0);
    let sample = card.sample().unwrap();
    let wanted = curve.speed_at(sample.core_temperature.unwrap()).value();
    assert!((sample.fan.unwrap().value() - wanted).abs() < 1.0);
}

#[test]
fn a_current_limit_holds_the_clock_back_where_power_does_not() {
    let mut card = open(QUERN, 4);
    card.physics.model.power.current_limit_a = Some(170.0);
    card.description.limits.current = Some(yard_step_core::Ampere(170.0));
    let (_, most) = range(&card, SettingKind::PowerLimit);
    let (seen, _) = settled(&mut card, &with(&[(SettingKind::PowerLimit, most)]));
    assert!(seen.limiter_share(Limiter::Current) > 0.8, "{:?}", seen.limiters);
}

#[test]
fn what_a_card_has_not_is_told_with_its_reason() {
    for kind in &kinds() {
        let card = open(kind, 1);
        let description = card.description();
        for setting in SettingKind::ALL {
            let reasoned = description.absent_settings.iter().any(|a| a.what == setting);
            assert_ne!(description.offers(setting), reasoned, "{kind} {setting:?}");
        }
        for channel in Channel::ALL {
            let reasoned = description.absent_sensors.iter().any(|a| a.what == channel);
            assert_ne!(description.senses(channel), reasoned, "{kind} {channel:?}");
        }
    }
    let mut bracken = open(BRACKEN, 1);
    bracken.run(Seconds(1.0), Work::Here(&mut UncheckedRun::new(Scene::Lantern))).unwrap();
    let sample = bracken.sample().unwrap();
    assert_eq!(sample.memory_temperature, None);
    assert!(sample.hot_spot.is_some());
}

#[test]
fn past_the_edge_a_card_loses_some_loads_and_hangs_others() {
    let endings: Vec<LoadLost> = (1..=48)
        .filter_map(|course| {
            let choice: CardChoice = TARN.parse().unwrap();
            let mut card = choice.open(1, course).unwrap();
            card.set_mishaps(Mishaps::NONE);
            card.apply(&with(&[(SettingKind::CoreOffset, 165.0)])).unwrap();
            run(&mut card, 300.0, 0.0).2
        })
        .collect();
    let count = |lost| endings.iter().filter(|ending| **ending == lost).count();
    assert!(count(LoadLost::Died) > count(LoadLost::Hung), "{endings:?}");
    assert!(count(LoadLost::Hung) > 0, "{endings:?}");
}

#[test]
fn a_card_whose_machine_is_down_answers_nothing_until_the_restart() {
    let mut card = open(TARN, 1);
    card.lose(LoadLost::MachineDown);
    let mut load = SceneRun::new(Scene::Lantern);
    assert_eq!(card.run(Seconds(1.0), Work::Here(&mut load)), Err(LoadLost::MachineDown));
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

#[rstest]
#[case("bin_mhz = 15", "bin_mhz = 0", "a bin above 0")]
#[case("kind = \"power_limit\"", "kind = \"frame_cap\"", "power_limit with a stock value")]
#[case("kind = \"power_limit\"", "kind = \"wattage\"", "unknown variant `wattage`")]
fn a_model_that_makes_no_sense_says_why(
    #[case] replace: &str,
    #[case] by: &str,
    #[case] told: &str,
) {
    let model = include_str!("../../cards/tarn-310.toml").replacen(replace, by, 1);
    let error = StandIn::new("standin:broken", &model, 1, 0).err().unwrap().to_string();
    assert!(error.contains(told), "{error}");
}

#[rstest]
#[case(TARN)]
#[case(BRACKEN)]
fn an_undervolted_curve_is_held_run_and_frees_watts_for_clock(#[case] kind: &str) {
    let mut card = open(kind, 1);
    let offer = card.description().curve.unwrap();
    let top = card.description().limits.highest_clock;
    let curve = offer.undervolted(30.0, top);
    let asked = Settings { curve: Some(curve), ..fan(100.0) };
    let (stock, stock_score) = settled(&mut card, &fan(100.0));
    let (less, score) = settled(&mut card, &asked);
    assert_eq!(card.taken().unwrap().curve, Some(curve));
    assert!(clock(&less) > clock(&stock) + 10.0, "{} {}", clock(&less), clock(&stock));
    assert!(score > stock_score * 1.004, "{score} {stock_score}");
    let watt = |seen: &Seen| seen.average_power.unwrap().value();
    assert!(watt(&less) <= watt(&stock) + 1.0, "{} {}", watt(&less), watt(&stock));

    // At the stock settings again it is as it was, and no trace of the curve is left.
    let (again, _) = settled(&mut card, &fan(100.0));
    assert!((clock(&again) - clock(&stock)).abs() < 3.0);
    assert_eq!(card.taken().unwrap().curve, None);
}

#[rstest]
#[case(TARN, 1_800.0)]
#[case(BRACKEN, 1_200.0)]
fn a_flattened_curve_holds_its_clock_at_its_voltage_and_no_more(
    #[case] kind: &str,
    #[case] top: f64,
) {
    let mut card = open(kind, 2);
    let offer = card.description().curve.unwrap();
    let curve = offer.undervolted(0.0, Mhz(top));
    let (seen, _) = settled(&mut card, &Settings { curve: Some(curve), ..fan(100.0) });
    let line = seen.clock_line.as_ref().unwrap();
    assert!(line.highest.value() <= f64::from(curve.last().mhz) + 0.1, "{line:?}");
    assert!(line.average.value() > top - 40.0, "a few bins of heat: {line:?}");
    let volt = card.sample().unwrap().voltage.unwrap().value();
    assert!(volt <= f64::from(curve.flat_from().millivolt) + 1.0, "{volt} {curve:?}");
}

#[test]
fn a_curve_between_two_bins_is_taken_at_the_one_below() {
    let mut card = open(TARN, 1);
    let offer = card.description().curve.unwrap();
    let points: Vec<(u16, u16)> =
        offer.factory.points().iter().map(|p| (p.millivolt, p.mhz + 7)).collect();
    let asked = Settings { curve: Some(VfCurve::new(&points).unwrap()), ..fan(100.0) };
    card.apply(&asked).unwrap();
    let taken = card.taken().unwrap();
    assert_eq!(taken.curve, None, "seven more are less than a bin: the factory's");
    let differences = asked.differences(&taken, card.description());
    assert_eq!(differences.len(), 1);
    assert!(differences[0].rounded && differences[0].kind == SettingKind::Curve);
}
