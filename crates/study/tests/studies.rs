//! Studies of whole climbs, held against what the cards truly can do.
#![allow(clippy::unwrap_used, missing_docs)]

use rstest::rstest;
use yard_step_card::{BriefCard, BriefEnding, CardChoice, Family, Mishaps};
use yard_step_core::{
    Axis, Climb, Domain, Fan, MhzOffset, Percent, Plan, Policy, Seconds, Settings, Stage,
    statistics::{mean, median},
};
use yard_step_scenes::Scene;
use yard_step_study::{
    AirStudy, CeilingStudy, JoinedRow, JoinedStudy, Row, StrategyRow, Study, VoltageStudy,
    air_summaries, ceiling_summaries, climb, joined_summaries, reliability, shipped_family,
    summaries, write_csv,
};

fn study(cards: usize, policies: &[Policy]) -> Study {
    Study {
        first_seed: 7_000,
        cards,
        kinds: CardChoice::all(),
        policies: policies.to_vec(),
        plan: Plan::default(),
        family: Family::default(),
        flatter: 1.0,
        start_above: None,
        learning: 1,
        threads: 2,
    }
}

/// The bars of the bayesian policy, on cards that its figures were not chosen by.
#[test]
fn believing_takes_less_time_than_steady_steps_and_what_it_keeps_holds() {
    let rows = study(45, &[Policy::FixedStep, Policy::Bayesian]).run(&|_| ()).unwrap();
    let all = summaries(&rows);
    let of = |policy| all.iter().find(|s| s.policy == policy && s.kind.is_none()).unwrap();
    let (steady, bayesian) = (of(Policy::FixedStep), of(Policy::Bayesian));
    assert!(bayesian.minutes <= 0.45 * steady.minutes, "{bayesian:?} {steady:?}");
    assert!(bayesian.machine_downs <= steady.machine_downs, "{bayesian:?} {steady:?}");
    assert!(bayesian.not_holding_percent <= 2.3, "at most one of 45: {bayesian:?}");
    assert!(bayesian.gap_ninth_percent <= 3.2, "{bayesian:?}");
    assert!(bayesian.gap_median_percent <= 1.9, "of so few cards: {bayesian:?}");
}

/// What `climb --quick` promises, over all kinds of cards and on each.
#[test]
fn a_quick_climb_takes_about_half_an_hour_and_what_it_keeps_holds() {
    let quick = Study { plan: Plan::quick(), ..study(45, &[Policy::Bayesian]) };
    let table = summaries(&quick.run(&|_| ()).unwrap());
    let all = &table[0];
    assert!((25.0..=35.0).contains(&all.minutes), "{all:?}");
    assert!(table.iter().all(|kind| kind.minutes <= 45.0), "{table:?}");
    assert!(all.not_holding_percent <= 2.3, "at most one of 45: {all:?}");
}

/// From the fourth climb on a kind of card, of five that learn from one another, held against
/// first climbs of the same cards.
#[rstest]
#[case("as-shipped")]
#[case("gentle")]
fn climbs_that_learn_from_others_take_a_quarter_less_time(#[case] family: &str) {
    let family = shipped_family(family).unwrap().unwrap();
    let by_itself = Study { family, ..study(60, &[Policy::Bayesian]) };
    let learning = Study { learning: 5, ..by_itself.clone() };
    let (alone, learnt) = (by_itself.run(&|_| ()).unwrap(), learning.run(&|_| ()).unwrap());
    let later: Vec<_> = learnt.iter().filter(|row| row.earlier >= 3).collect();
    let first: Vec<_> = later
        .iter()
        .map(|row| alone.iter().find(|r| r.kind == row.kind && r.seed == row.seed).unwrap())
        .collect();
    assert_eq!(later.len(), 24);
    assert!(first.iter().all(|row| row.earlier == 0));
    let minutes =
        |rows: &[&Row]| mean(&rows.iter().map(|row| row.minutes).collect::<Vec<_>>()).unwrap();
    let (first, with_others) = (minutes(&first), minutes(&later));
    assert!(with_others <= 0.75 * first, "{with_others} min against {first}");
    let not_holding = later.iter().filter(|row| row.best_score.is_some() && !row.holds).count();
    assert!(not_holding <= 2, "{not_holding} of 24");
}

/// What is claimed on cards whose faults set in otherwise than the search assumes.
#[rstest]
#[case("gentle", 7.5)]
#[case("power-law", 7.5)]
fn claims_on_other_cards_are_not_far_above_what_is_true(
    #[case] family: &str,
    #[case] most_failing: f64,
) {
    let family = shipped_family(family).unwrap().unwrap();
    let rows = Study { family, ..study(15, &[Policy::Bayesian]) }.run(&|_| ()).unwrap();
    let all = &summaries(&rows)[0];
    let (claimed, is_true) = (all.claimed_percent.unwrap(), all.true_percent.unwrap());
    assert!(claimed <= is_true + 2.0, "{all:?}");
    assert!(all.not_holding_percent <= most_failing, "{all:?}");
    let tenths = reliability(&rows, Policy::Bayesian, None);
    assert!(tenths.iter().map(|tenth| tenth.climbs).sum::<usize>() >= 6, "{tenths:?}");
}

/// Most of these cards fail at stock already. Of the others, raised limits alone may be too much.
#[rstest]
#[case("near-stock")]
#[case("light-load")]
fn cards_that_fail_near_stock_are_kept_where_they_hold(#[case] family: &str) {
    let family = shipped_family(family).unwrap().unwrap();
    let rows = Study { family, ..study(45, &[Policy::Bayesian]) }.run(&|_| ()).unwrap();
    let able = rows.iter().filter(|row| row.best_score.is_some());
    let failing = able.clone().filter(|row| !row.holds).count();
    let lowest = able.clone().map(|row| row.chance).fold(1.0, f64::min);
    assert!(able.count() >= 10 && failing <= 3, "{failing} do not hold");
    assert!(lowest > 0.95, "the worst of them holds a day with {lowest}");
}

/// Where most faults take the machine down, the search learns that and treads softly.
#[test]
fn grave_faults_take_the_machine_down_half_as_often_as_steady_steps() {
    let family = shipped_family("grave").unwrap().unwrap();
    let policies = [Policy::FixedStep, Policy::Bayesian];
    let rows = Study { family, ..study(45, &policies) }.run(&|_| ()).unwrap();
    let downs = |policy| {
        let all = summaries(&rows);
        all.iter().find(|s| s.policy == policy && s.kind.is_none()).unwrap().machine_downs
    };
    let (steady, bayesian) = (downs(Policy::FixedStep), downs(Policy::Bayesian));
    assert!(steady > 15 && bayesian * 100 <= steady * 55, "{bayesian} against {steady}");
}

/// A word from elsewhere that is too bold costs no machine.
#[test]
fn climbs_from_three_percent_above_the_edge_take_the_machine_down_no_more_often() {
    let policies = [Policy::FixedStep, Policy::Bayesian];
    let downs = |start_above| {
        let rows = Study { start_above, ..study(15, &policies) }.run(&|_| ()).unwrap();
        let all = summaries(&rows);
        let of = |policy| all.iter().find(|s| s.policy == policy && s.kind.is_none()).unwrap();
        policies.map(|policy| of(policy).machine_downs)
    };
    let (from_stock, above) = (downs(None), downs(Some(3.0)));
    println!("machine downs from stock {from_stock:?}, from 3 % above the edge {above:?}");
    let [from_stock, above] =
        [from_stock, above].map(|downs| f64::from(downs.iter().sum::<usize>() as u32));
    // So few come by chance: two standard deviations of their number.
    assert!(above <= from_stock + 2.0 * from_stock.sqrt(), "{above} against {from_stock}");
}

#[test]
fn a_plan_with_other_loads_is_no_plan_for_a_study() {
    let mut several = study(1, &[Policy::Bisection]);
    several.plan.cross_check.loads = vec!["kiln".into()];
    let error = several.run(&|_| ()).unwrap_err().to_string();
    assert!(error.contains("leave full_load and cross_check out"), "{error}");
}

#[test]
fn a_study_is_the_same_for_the_same_seeds_however_many_threads() {
    let one = Study { threads: 1, ..study(6, &[Policy::Bisection]) }.run(&|_| ()).unwrap();
    let two = study(6, &[Policy::Bisection]).run(&|_| ()).unwrap();
    assert_eq!(one, two);
    let mut csv = Vec::new();
    write_csv(&one, &mut csv).unwrap();
    let text = String::from_utf8(csv).unwrap();
    assert!(text.starts_with("kind,seed,policy,earlier,trials,minutes,"), "{text}");
    assert_eq!(text.lines().count(), 7);
}

/// How often the range that was told before a trial held what was really left.
#[rstest]
#[case(Policy::Bayesian, 12)]
#[case(Policy::FixedStep, 4)]
fn what_is_left_is_told_honestly(#[case] policy: Policy, #[case] cards: u64) {
    let scene = Scene::Medley;
    let mut held = Vec::new();
    for seed in 8_000..8_000 + cards {
        let card = CardChoice::all()[(seed % 3) as usize].open(seed, 0).unwrap();
        let mut card = BriefCard::new(card, |n| scene.demand(n), scene.period(), 0);
        let stages = Climb::stages_on(card.description());
        let plan = Plan { policy, ..Plan::default() };
        let laid_out = Climb::new(card.description().clone(), plan.clone(), &stages).unwrap();
        held.push(climb(&mut card, laid_out, scene.mean_load(), true).ranges_held().unwrap());
    }
    let share = mean(&held).unwrap();
    println!("{policy}: the range held {:.0} % of the time", share * 100.0);
    assert!(share > 0.85, "only {held:?}");
}

/// A run worked out at once is what a run with every frame would be: over many of them, faults come
/// as often as the model says.
#[test]
fn faults_come_as_often_as_they_should() {
    let mut card = CardChoice::all()[0].open(5, 0).unwrap();
    card.set_mishaps(Mishaps::NONE);
    let scene = Scene::Medley;
    let mut card = BriefCard::new(card, |n| scene.demand(n), scene.period(), 0);
    let axis = Axis::of(card.description(), Domain::Core).unwrap();
    let mut settings = Settings::stock(card.description());
    settings.fan = Some(Fan::Fixed(Percent(100.0)));
    let mut rate = 0.0;
    for step in 0..20 {
        axis.write(&mut settings, MhzOffset(step * 15));
        rate = card.steady(&settings).faults_per_hour;
        if rate > 3.0 {
            break;
        }
    }
    let hours = 0.5 / rate;
    let runs = 400;
    let failed = (0..runs)
        .filter(|_| {
            let brief = card.run(&settings, Seconds(hours * 3_600.0), Seconds(0.0));
            brief.ending != BriefEnding::Finished
        })
        .count();
    let expected = f64::from(runs) * (1.0 - (-0.5_f64).exp());
    assert!((failed as f64 - expected).abs() < 40.0, "{failed} of {expected:.0}");
}

/// The strategies of undervolting on forty cards that power holds back.
#[test]
fn cooler_is_faster_for_no_more_and_less_saves_power_and_every_curve_is_sound() {
    let study = VoltageStudy {
        first_seed: 1_000,
        cards: 40,
        kinds: vec![CardChoice::all()[0].clone()],
        strategies: vec![Stage::UndervoltClock, Stage::UndervoltQuiet],
        policies: vec![Policy::Bayesian],
        plan: Plan { scene: Scene::Kiln.name().into(), ..Plan::default() },
        threads: 2,
    };
    let rows = study.run(&|_| ()).unwrap();
    let of = |strategy: Stage| rows.iter().filter(move |row| row.strategy == strategy.label());
    assert_eq!((of(Stage::UndervoltClock).count(), of(Stage::UndervoltQuiet).count()), (40, 40));
    assert!(rows.iter().all(|row| row.curve_is_sound));
    let is_faster = |row: &&StrategyRow| row.gain_percent > 0.0 && row.watts <= row.stock_watts;
    let faster = of(Stage::UndervoltClock).filter(is_faster).count();
    assert!(faster >= 33, "{faster} of 40");
    let middle = |value: fn(&StrategyRow) -> f64| {
        median(&of(Stage::UndervoltQuiet).map(value).collect::<Vec<_>>()).unwrap()
    };
    let (saved, gain) = (middle(|row| row.saved_percent), middle(|row| row.gain_percent));
    println!("cooler: {faster} of 40; less: {saved:.1} % saved at {:.1} % of stock", 100.0 + gain);
    assert!(saved >= 8.0 && gain >= -1.0, "{saved} % saved at {gain} %");
}

#[test]
fn what_all_stages_come_to_is_held_against_what_each_comes_to_alone() {
    let study = JoinedStudy {
        first_seed: 7_000,
        cards: 3,
        kinds: CardChoice::all(),
        plan: Plan::quick(),
        threads: 2,
    };
    let rows = study.run(&|_| ()).unwrap();
    let table = joined_summaries(&rows);
    assert_eq!((table.len(), table[0].cards), (4, 3), "all kinds, and each");
    assert!(rows.iter().all(|row| !row.stuck), "{rows:?}");
    for seed in 7_000..7_003 {
        let of = rows.iter().filter(|row| row.seed == seed);
        let (joined, alone): (Vec<&JoinedRow>, Vec<&JoinedRow>) =
            of.partition(|row| row.stage.is_none());
        assert_eq!(joined.len(), 1);
        assert!(alone.len() >= 6, "every stage that the card offers: {alone:?}");
    }
    let (joined, alone): (Vec<&JoinedRow>, Vec<&JoinedRow>) =
        rows.iter().partition(|row| row.stage.is_none());
    let trials = |rows: &[&JoinedRow]| rows.iter().map(|row| row.trials).sum::<usize>();
    let (joined, alone) = (trials(&joined), trials(&alone));
    assert!(joined < alone, "{joined} trials with one baseline for all, {alone} with one for each");
    let all = &table[0];
    assert!(all.at_least_as_high >= 2, "{all:?}");
    assert!(all.gain_median_percent > all.best_single_median_percent, "{all:?}");
}

#[test]
fn what_is_told_of_heat_and_noise_holds_and_what_is_settled_is_quieter() {
    let study = AirStudy {
        first_seed: 7_000,
        cards: 12,
        kinds: CardChoice::all(),
        family: None,
        plan: Plan::default(),
        threads: 2,
    };
    let rows = study.run(&|_| ()).unwrap();
    let table = air_summaries(&rows);
    let all = &table[0];
    println!("{all:?}");
    assert_eq!((table.len(), all.cards), (4, 12));
    assert!(all.plateaus_right >= 0.8, "{}", all.plateaus_right);
    assert!(all.in_budget.1 >= 6 && all.in_budget.0 == all.in_budget.1, "{:?}", all.in_budget);
    assert!(all.clock_kept.1 >= 2 && all.clock_kept.0 == all.clock_kept.1, "{:?}", all.clock_kept);
    assert!(all.loss_told.0 == 12 && all.loss_told.1 >= 11, "{:?}", all.loss_told);
    assert!(all.quieter_db >= 6.0 && all.lost_percent.1 <= 1.5, "{all:?}");
    assert_eq!(all.not_holding.0, 0, "{rows:?}");
}

#[test]
fn a_higher_ceiling_brings_score_for_watts_on_power_limited_cards_and_no_more_machine_downs() {
    let study = CeilingStudy {
        first_seed: 31_000,
        cards: 8,
        kinds: vec!["standin:quern-540".parse().unwrap()],
        plan: Plan { scene: "lantern".into(), ..Plan::default() },
        raise_percent: 15.0,
        threads: 2,
    };
    let rows = study.run(&|_| ()).unwrap();
    let table = ceiling_summaries(&rows);
    let all = &table[0];
    assert_eq!(all.cards, (8, 8), "power holds this kind back");
    assert!(all.gained_percent > 1.0 && all.watts > 15.0 && all.hotter_k > 2.0, "{all:?}");
    assert!(all.downs_per_100_hours.1 <= all.downs_per_100_hours.0, "{all:?}");
    assert!(rows.iter().all(|row| row.makers.holds && row.raised.holds), "{rows:?}");
    assert_eq!(study.run(&|_| ()).unwrap(), rows, "the same for the same seeds");
}
