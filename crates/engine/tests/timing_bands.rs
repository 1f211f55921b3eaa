//! What single frame rates tell that a score does not: bands of memory clock that gain nothing.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use rstest::rstest;
use yard_step_card::{CardChoice, Mishaps};
use yard_step_core::{Domain, MhzOffset, Plan, StableYetSlower, Stage, TimingBand};
use yard_step_engine::Engine;
use yard_step_ledger::{DataDir, Ledger};

/// Small steps of the memory alone, under all scenes in turn.
fn plan() -> Plan {
    Plan::from_toml(
        "policy = \"fixed-step\"\n[baseline]\nseconds = 75\n\
         [memory]\ncoarse_step_mhz = 20\nfine_step_mhz = 20\nseconds = 75\nwarm_up_seconds = 20\n\
         [rules]\nmost_warming_k = 50",
    )
    .unwrap()
}

/// Stand-ins of the first kind, whose timings relax from +60 to +80 MHz. The next such band begins
/// at +140 MHz, where they do not get to. With an edge that lies lower, errors are corrected before
/// the gain could come back, and whether there was a band as well cannot be told.
#[rstest]
#[case::high_edge(4, true)]
#[case::high_edge(5, true)]
#[case::high_edge(8, true)]
#[case::low_edge(1, false)]
fn the_band_in_which_timings_relax_is_found_named_and_stepped_out_of(
    #[case] seed: u64,
    #[case] is_found: bool,
) {
    let dir = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
    let mut card = CardChoice::all()[0].open(seed, 0).unwrap();
    card.set_mishaps(Mishaps::NONE);
    let stages = [Stage::Baseline, Stage::Memory];
    let mut engine = Engine::begin(Box::new(card), ledger, plan(), &stages).unwrap();
    for _ in 0..10 {
        engine.step_unattended(&mut ()).unwrap();
    }
    let climb = engine.climb();
    let found = climb.timing_bands();
    let (from, to) = (MhzOffset(60), MhzOffset(80));
    let lies_there = |band: &TimingBand| (band.from, band.to) == (from, to) && band.is_whole();
    assert_eq!(found.iter().filter(|band| lies_there(band)).count(), usize::from(is_found));
    assert!(found.iter().all(lies_there), "and no other: {found:?}");
    if is_found {
        let told = climb.stable_yet_slower(Domain::Memory);
        let whole = told.iter().find_map(|found| match found {
            StableYetSlower::Band { from, to, is_whole: true, .. } => Some((from, to)),
            _ => None,
        });
        assert_eq!(whole, Some((&"+60 MHz".into(), &"+80 MHz".into())), "{told:?}");
        assert!(!(from < climb.found_alone().memory && climb.found_alone().memory <= to));
    }
}
