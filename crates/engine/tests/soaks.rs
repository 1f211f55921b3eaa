//! Soaks carried out on watched cards: they go on after a kill, rest before a cold start, step back after a fault, and what they
//! ran stands behind profiles.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::sync::{Arc, Mutex};
use std::time::{SystemTime, UNIX_EPOCH};

use tempfile::TempDir;
use yard_step_card::{CardChoice, LoadLost};
use yard_step_core::{
    Goal, LoadKind, Margin, MhzOffset, Next, OnFault, Plan, Purpose, Seconds, Settings, Soak,
    SoakEnd, SoakLoad, Stage, Variant, VariantTable, Verdict,
};
use yard_step_engine::{
    Engine, EngineError, KeepWhat, KeepWish, KeptFan, SoakWhat, SoakWish, Unfinished,
};
use yard_step_ledger::{DataDir, Ledger};

use common::{Course, Watched};

struct Bench {
    ledger: Ledger,
    course: Arc<Mutex<Course>>,
    _dir: TempDir,
}

impl Bench {
    fn new() -> Self {
        let dir = TempDir::new().unwrap();
        let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
        Self { ledger, course: Arc::default(), _dir: dir }
    }

    fn engine(&self) -> Engine {
        let card = Watched::new(&CardChoice::all()[0], &self.ledger, &self.course);
        Engine::begin(card, self.ledger.clone(), Plan::default(), &[Stage::Baseline]).unwrap()
    }

    fn resumed(&self, id: i64, unfinished: Unfinished) -> Engine {
        let card = Watched::new(&CardChoice::all()[0], &self.ledger, &self.course);
        let entry = self.ledger.climb(id).unwrap();
        Engine::resume(card, self.ledger.clone(), entry, unfinished).unwrap().0
    }
}

fn kept(engine: &mut Engine, name: &str, core: i32) {
    let settings =
        Settings { core_offset: Some(MhzOffset(core)), ..Settings::stock(engine.description()) };
    let wish = KeepWish {
        name: name.into(),
        purpose: String::new(),
        margin: Some(Margin::Daily),
        what: KeepWhat::Settings(Box::new(settings)),
        fan: KeptFan::AsSearched,
    };
    engine.keep(&wish).unwrap();
}

/// Short runs of three loads, one of them from cold.
fn wish(goal: Goal) -> SoakWish {
    let short = |load: SoakLoad| SoakLoad { seconds: Some(Seconds(20.0)), ..load };
    let cold = SoakLoad::cold("squall", 1.0);
    let loads = [SoakLoad::new("lantern", 1.0), SoakLoad::new("doldrums", 1.0), cold];
    SoakWish {
        what: SoakWhat::Profile("mild".into()),
        loads: loads.map(short).into(),
        goal,
        on_fault: OnFault::StepBack,
        reserve: 0,
    }
}

#[test]
fn a_soak_goes_on_after_a_kill_and_what_it_ran_stands_behind_the_profile() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    kept(&mut engine, "mild", 30);
    engine.begin_soak(&wish(Goal::Once)).unwrap();
    assert!(engine.is_soaking());
    engine.carry_out(false, &mut ()).unwrap();
    let id = engine.climb_id();
    drop(engine);
    let mut engine = bench.resumed(id, Unfinished::Void);
    assert!(engine.is_soaking(), "the ledger knows of it");
    while engine.is_soaking() {
        engine.carry_out(false, &mut ()).unwrap();
    }
    let soaked = engine.climb().soaked().unwrap();
    assert_eq!((soaked.end, soaked.counts.as_slice()), (Some(SoakEnd::Reached), &[1, 1, 1][..]));
    let applied = bench.course.lock().unwrap();
    for (asked, intent) in applied.applied.iter().zip(&applied.intents) {
        let is_way_back = *asked == Settings::stock(engine.description());
        assert!(is_way_back || intent.as_ref() == Some(asked), "an intent comes first");
    }
    drop(applied);
    let view = engine.profiles().unwrap().remove(0);
    assert_eq!(view.backing.runs, 3);
    let exposure = view.backing.exposure;
    let runs = [LoadKind::Game, LoadKind::Light, LoadKind::Cold].map(|kind| exposure.clean(kind));
    assert!(runs.iter().all(|clean| (clean.value() - 20.0).abs() < 1.0), "{runs:?}");
    let Next::Trial(next) = engine.climb().next() else { panic!() };
    assert_eq!(next.request.stage, Stage::Baseline, "the climb goes on where it was");
}

#[test]
fn a_cold_start_follows_a_rest_at_the_settings_and_its_run_begins_cool() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    kept(&mut engine, "mild", 30);
    let mut wish = wish(Goal::Once);
    for (load, name) in wish.loads.iter_mut().zip(["lantern", "kiln"]) {
        *load = SoakLoad { seconds: Some(Seconds(120.0)), ..SoakLoad::new(name, 1.0) };
    }
    engine.begin_soak(&wish).unwrap();
    let runs: Vec<_> = (0..3).map(|_| engine.carry_out(false, &mut ()).unwrap()).collect();
    let cold = &runs[2];
    assert_eq!(cold.purpose, Purpose::ColdStart);
    assert!(cold.marks.iter().any(|mark| mark.text.contains("Idle for 5 min")), "{:?}", cold.marks);
    assert!(bench.course.lock().unwrap().idled >= 3_000, "ten looks a second");
    let first = |run: &yard_step_engine::RunView| {
        run.trace.at(0.5).unwrap().0.core_temperature.unwrap().value()
    };
    let end = runs[1].sample.core_temperature.unwrap().value();
    assert!(first(cold) < end - 2.0, "{} after {end}", first(cold));
}

#[test]
fn a_fault_steps_back_or_ends_it_as_was_asked() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    kept(&mut engine, "mild", 45);
    engine.begin_soak(&wish(Goal::Hours(0.2))).unwrap();
    bench.course.lock().unwrap().lost = Some(LoadLost::Died);
    engine.carry_out(false, &mut ()).unwrap();
    bench.course.lock().unwrap().lost = None;
    let soaked = engine.climb().soaked().unwrap();
    assert_eq!(soaked.faults.len(), 1, "{:?}", soaked.faults);
    assert_eq!(soaked.at.core_offset, Some(MhzOffset(30)), "a fine step milder");
    while engine.is_soaking() {
        engine.carry_out(false, &mut ()).unwrap();
    }
    let soaked = engine.climb().soaked().unwrap();
    assert_eq!(soaked.stands.core_offset, Some(MhzOffset(30)), "{:?}", soaked.faults);

    let stop = SoakWish { on_fault: OnFault::Stop, ..wish(Goal::Hours(0.2)) };
    engine.begin_soak(&stop).unwrap();
    bench.course.lock().unwrap().lost = Some(LoadLost::Died);
    engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(engine.climb().soaked().unwrap().end, Some(SoakEnd::Failed));
}

#[test]
fn what_took_the_machine_down_is_not_soaked_without_a_try() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    kept(&mut engine, "mild", 45);
    engine.begin_soak(&wish(Goal::Hours(1.0))).unwrap();
    bench.course.lock().unwrap().lost = Some(LoadLost::MachineDown);
    assert!(matches!(engine.carry_out(false, &mut ()), Err(EngineError::MachineDown { trial: 1 })));
    engine.restart_machine().unwrap();
    let soaked = engine.climb().soaked().unwrap();
    assert_eq!(soaked.runs[0].verdict, Verdict::MachineDown);
    assert!(soaked.at.core_offset.unwrap() < MhzOffset(45) && soaked.end.is_none());
    engine.carry_out(false, &mut ()).unwrap();
    engine.end_soak().unwrap();
    let refused = engine.begin_soak(&wish(Goal::Hours(1.0))).unwrap_err().to_string();
    assert!(refused.contains("by yourself first"), "{refused}");
}

#[test]
fn a_soak_that_ends_at_a_time_has_so_many_hours_left_whenever_it_is_taken_up() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    kept(&mut engine, "mild", 30);
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs() as i64;
    let at = now + 7_200;
    engine.begin_soak(&wish(Goal::Until { at, hours: 0.0 })).unwrap();
    let hours = |engine: &Engine| match engine.climb().soak().unwrap().goal {
        Goal::Until { hours, .. } => hours,
        other => panic!("{other:?}"),
    };
    assert!((hours(&engine) - 2.0).abs() < 0.05);
    let id = engine.climb_id();
    let late =
        Soak { goal: Goal::Until { at, hours: 9.0 }, ..engine.climb().soak().unwrap().clone() };
    bench.ledger.set_climb_soak(id, Some(&late)).unwrap();
    drop(engine);
    let engine = bench.resumed(id, Unfinished::Void);
    assert!((hours(&engine) - 2.0).abs() < 0.05, "{}", hours(&engine));
}

#[test]
fn what_cannot_be_soaked_says_why_and_one_soak_goes_on_at_a_time() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    kept(&mut engine, "mild", 30);
    let told =
        |engine: &mut Engine, wish: SoakWish| engine.begin_soak(&wish).unwrap_err().to_string();
    let one = |load: &str| SoakWish { loads: vec![SoakLoad::new(load, 1.0)], ..wish(Goal::Once) };
    assert!(told(&mut engine, one("manual")).contains("runs without you"));
    assert!(told(&mut engine, one("furnace")).contains("furnace"));
    assert!(told(&mut engine, wish(Goal::Hours(0.0))).contains("0.1 to 2000 hours"));
    let nobody = SoakWish { what: SoakWhat::Profile("none".into()), ..wish(Goal::Once) };
    assert!(told(&mut engine, nobody).contains("no profile \"none\""));
    assert!(engine.end_soak().unwrap_err().to_string().contains("No soak"));
    engine.begin_soak(&wish(Goal::Once)).unwrap();
    assert!(told(&mut engine, wish(Goal::Once)).contains("goes on already"));
    engine.end_soak().unwrap();
    assert!(!engine.is_soaking());
}

#[test]
fn settings_are_measured_by_turns_and_come_out_side_by_side() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    kept(&mut engine, "mild", 30);
    let stock = Settings::stock(engine.description());
    let mild = Settings { core_offset: Some(MhzOffset(30)), ..stock };
    let cells = [(stock, "kiln"), (mild, "kiln"), (mild, "lantern"), (stock, "lantern")];
    let cells = cells.map(|(settings, load)| (settings, load.to_owned()));
    engine.begin_measuring(&cells).unwrap();
    while engine.is_soaking() {
        engine.carry_out(false, &mut ()).unwrap();
    }
    let ran: Vec<(String, MhzOffset)> = engine
        .climb()
        .trials()
        .iter()
        .map(|trial| (trial.scene.clone(), trial.asked.core_offset.unwrap()))
        .collect();
    let wanted = cells.each_ref().map(|(s, load)| (load.clone(), s.core_offset.unwrap()));
    assert_eq!(ran, wanted);
    let variant = |name: &str, settings| Variant {
        name: name.into(),
        settings,
        what: String::new(),
        failed: false,
    };
    let runs = [stock, mild].map(|at| bench.ledger.runs_at(engine.description(), &at).unwrap());
    let table = VariantTable::of(vec![variant("stock", stock), variant("mild", mild)], &runs);
    assert_eq!(table.loads.len(), 2);
    assert!(table.missing().is_empty() && table.unlike_fans.is_empty(), "{table:?}");
    assert!(table.change(1, 0).is_some_and(|change| change.percent.abs() < 5.0));
    // Until each difference is clear, or shown to be absent.
    let mut rounds = 1;
    while engine.measure_on().unwrap() {
        rounds += 1;
        assert!(rounds < 20, "no end");
        while engine.is_soaking() {
            engine.carry_out(false, &mut ()).unwrap();
        }
    }
    let runs = [stock, mild].map(|at| bench.ledger.runs_at(engine.description(), &at).unwrap());
    let table = VariantTable::of(vec![variant("stock", stock), variant("mild", mild)], &runs);
    assert!(rounds > 1 && table.unclear().is_empty(), "after {rounds}: {table:?}");
    let nothing = engine.begin_measuring(&[]).unwrap_err().to_string();
    assert!(nothing.contains("at least one load"), "{nothing}");
}
