//! A card that holds a profile while a program runs.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::sync::{Arc, Mutex};

use common::{Course, Watched};
use rstest::rstest;
use tempfile::TempDir;
use yard_step_card::{Card, CardChoice, LoadLost};
use yard_step_core::{
    Celsius, Fan, MhzOffset, Origin, Percent, Plan, Profile, Seconds, Settings, Stage, Verdict,
};
use yard_step_engine::{Engine, EngineError, Harm, ProfileRun};
use yard_step_ledger::{DataDir, Ledger};

struct Bench {
    _dir: TempDir,
    ledger: Ledger,
    course: Arc<Mutex<Course>>,
}

impl Bench {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
        Self { _dir: dir, ledger, course: Arc::default() }
    }

    fn card(&self) -> Box<Watched> {
        Watched::new(&CardChoice::all()[0], &self.ledger, &self.course)
    }

    fn begin(&self, profile: &Profile, yes: bool) -> Result<ProfileRun, EngineError> {
        ProfileRun::begin(self.card().into(), &self.ledger, profile, yes)
    }

    fn last_applied(&self) -> Option<Settings> {
        self.course.lock().unwrap().applied.last().copied()
    }

    fn stock(&self) -> Settings {
        Settings::stock(&self.card().card.description().clone())
    }
}

fn profile(offset: i32) -> Profile {
    let settings = Settings {
        core_offset: Some(MhzOffset(offset)),
        fan: Some(Fan::Fixed(Percent(90.0))),
        ..Settings::default()
    };
    Profile::new("by day", settings, Origin::ByHand)
}

#[test]
fn the_card_holds_the_profile_until_the_end_and_is_at_stock_after_it() {
    let bench = Bench::new();
    let mut run = bench.begin(&profile(30), false).unwrap();
    let held = bench.last_applied().unwrap();
    assert_eq!(
        (held.core_offset, held.fan),
        (Some(MhzOffset(30)), Some(Fan::Fixed(Percent(90.0))))
    );
    for _ in 0..50 {
        assert_eq!(run.pass(Seconds(0.1)).unwrap(), None);
    }
    run.end().unwrap();
    assert_eq!(bench.last_applied(), Some(bench.stock()));
}

#[test]
fn a_run_that_is_dropped_puts_the_card_back() {
    let bench = Bench::new();
    drop(bench.begin(&profile(30), false).unwrap());
    assert_eq!(bench.last_applied(), Some(bench.stock()));
}

#[test]
fn what_lies_outside_the_ranges_never_reaches_the_card() {
    let bench = Bench::new();
    let run = bench.begin(&profile(5_000), false).unwrap();
    assert_eq!(bench.last_applied().unwrap().core_offset, Some(MhzOffset(300)));
    run.end().unwrap();
}

#[rstest]
#[case::as_bold(120)]
#[case::bolder(135)]
fn what_took_the_machine_down_needs_a_yes(#[case] offset: i32) {
    let bench = Bench::new();
    // A climb in which such settings took the machine down.
    let mut engine =
        Engine::begin(bench.card(), bench.ledger.clone(), Plan::default(), &[Stage::Baseline])
            .unwrap();
    engine.wish(&Settings { core_offset: Some(MhzOffset(120)), ..bench.stock() });
    bench.course.lock().unwrap().lost = Some(LoadLost::Died);
    engine.carry_out(true, &mut ()).unwrap();
    bench.course.lock().unwrap().lost = None;
    engine.mark(engine.climb_id(), 1, Some(Verdict::MachineDown)).unwrap();
    engine.leave().unwrap();

    let before = bench.course.lock().unwrap().applied.len();
    let error = bench.begin(&profile(offset), false).err().unwrap();
    assert!(matches!(error, EngineError::NeedsYes(_)), "{error}");
    assert_eq!(bench.course.lock().unwrap().applied.len(), before, "nothing reached the card");
    assert!(bench.begin(&profile(105), false).is_ok(), "a milder one needs none");
    bench.begin(&profile(offset), true).unwrap().end().unwrap();
}

#[test]
fn at_the_ceiling_and_when_the_card_drops_its_work_it_has_to_go_back() {
    let bench = Bench::new();
    let mut run = bench.begin(&profile(30), false).unwrap();
    bench.course.lock().unwrap().temperature = Some(Celsius(99.0));
    assert_eq!(run.pass(Seconds(0.1)).unwrap(), Some(Harm::Ceiling(Celsius(99.0))));
    bench.course.lock().unwrap().temperature = None;
    assert_eq!(run.pass(Seconds(0.1)).unwrap(), None);
    bench.course.lock().unwrap().lost = Some(LoadLost::DriverReset);
    assert_eq!(run.pass(Seconds(0.1)).unwrap(), Some(Harm::Lost(LoadLost::DriverReset)));
    run.end().unwrap();
}
