//! Whole climbs over many cards, held against the edges the cards truly have.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]
use yard_step_card::CardChoice;
use yard_step_core::{Next, Outcome, Plan, Policy, Stage};
use yard_step_engine::Engine;
use yard_step_ledger::{DataDir, Ledger};
use yard_step_scenes::Scene;

fn climb(seed: u64) -> (Outcome, i32) {
    let dir = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
    let card = CardChoice::all()[0].open(seed, 0).unwrap();
    let edge = card.edges(|frame| Scene::Lantern.demand(frame)).core_offset_mhz.unwrap().0;
    let stages = [Stage::Baseline, Stage::Core];
    let plan = Plan { scene: "lantern".into(), policy: Policy::FixedStep, ..Plan::default() };
    let mut engine = Engine::begin(Box::new(card), ledger, plan, &stages).unwrap();
    loop {
        match engine.climb().next() {
            Next::Trial(_) => drop(engine.step_unattended(&mut ()).unwrap()),
            Next::Ended(outcome) => return (*outcome, edge),
            Next::Stuck(why) => panic!("seed {seed}: {why:?}"),
        }
    }
}

/// Two threads at a time: what a small machine has.
fn climbs(seeds: std::ops::RangeInclusive<u64>) -> Vec<(u64, i32, i32)> {
    let (even, odd): (Vec<u64>, Vec<u64>) = seeds.partition(|seed| seed % 2 == 0);
    let one_by_one = |seeds: Vec<u64>| {
        seeds
            .into_iter()
            .map(|seed| {
                let (outcome, edge) = climb(seed);
                (seed, outcome.settings.core_offset.unwrap().0, edge)
            })
            .collect::<Vec<_>>()
    };
    std::thread::scope(|scope| {
        let other = scope.spawn(|| one_by_one(even));
        let mut all = one_by_one(odd);
        all.extend(other.join().unwrap());
        all
    })
}

#[test]
fn what_is_kept_is_hardly_ever_above_the_edge_and_nearly_always_close_below() {
    let all = climbs(1..=14);
    let above: Vec<_> = all.iter().filter(|(_, kept, edge)| kept > edge).collect();
    let close = all.iter().filter(|(_, kept, edge)| (edge - 30..=*edge).contains(kept)).count();
    let summary: Vec<_> = all.iter().map(|(seed, kept, edge)| (*seed, kept - edge)).collect();
    println!("kept less edge by seed: {summary:?}");
    assert!(above.len() <= 1, "above the edge: {above:?}");
    assert!(close >= 11, "only {close} of 14 within 30 MHz: {summary:?}");
}
