//! Free runs: a load that goes on while settings are changed.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::collections::VecDeque;
use std::sync::{Arc, Mutex};

use common::{Course, Watched};
use rstest::rstest;
use tempfile::TempDir;
use yard_step_card::{CardChoice, LoadLost};
use yard_step_core::{
    Alarm, AlarmAct, AlarmOn, Axis, CardDescription, Celsius, Domain, Fan, Machine, Meaning,
    Percent, Plan, Purpose, Risk, Seconds, SettingKind, Settings, Stage, Verdict,
};
use yard_step_engine::{
    Driver, Engine, EngineError, FreeRun, FreeStart, FreeView, Hand, KeepWhat, KeepWish, KeptFan,
    Restart, RunView,
};
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

    fn engine_on(&self, kind: &CardChoice) -> Engine {
        let card = Watched::new(kind, &self.ledger, &self.course);
        let plan = Plan { scene: "lantern".into(), ..Plan::default() };
        Engine::begin(card, self.ledger.clone(), plan, &[Stage::Baseline, Stage::Core]).unwrap()
    }

    fn engine(&self) -> Engine {
        self.engine_on(&CardChoice::all()[0])
    }

    fn last_applied(&self) -> Settings {
        *self.course.lock().unwrap().applied.last().unwrap()
    }
}

/// What is done when a segment has lasted so long, s.
type Move = (f64, Box<dyn FnMut(&FreeView) -> Hand>);

/// Drives a free run by a list of moves, then stops it.
#[derive(Default)]
struct Script {
    moves: VecDeque<Move>,
    /// The last view before each move.
    views: Vec<FreeView>,
    /// The last picture of the present segment.
    newest: Option<RunView>,
}

impl Script {
    fn then(mut self, after: f64, act: impl FnMut(&FreeView) -> Hand + 'static) -> Self {
        self.moves.push_back((after, Box::new(act)));
        self
    }

    fn apply(self, after: f64, settings: Settings) -> Self {
        self.then(after, move |_| apply(settings))
    }

    fn stop(self, after: f64) -> Self {
        self.then(after, |_| Hand::Stop)
    }
}

fn apply(settings: Settings) -> Hand {
    Hand::Apply { settings: Box::new(settings), yes: false }
}

impl Driver for Script {
    fn tick(&mut self, free: &FreeRun<'_>) -> Hand {
        let segment = free.segment();
        let Some((after, _)) = self.moves.front() else {
            panic!("the run goes on without a move left")
        };
        if segment.at.value() < *after {
            return Hand::GoOn;
        }
        let view = free.view();
        self.newest = Some(segment);
        let (_, mut act) = self.moves.pop_front().unwrap();
        let hand = act(&view);
        self.views.push(view);
        hand
    }
}

fn start(settings: Option<Settings>) -> FreeStart {
    FreeStart { load: Some("kiln".into()), settings, yes: false }
}

fn stock(engine: &Engine) -> Settings {
    engine.climb().held_settings()
}

fn with_core(engine: &Engine, mhz: i32) -> Settings {
    let mut settings = stock(engine);
    let axis = Axis::of(engine.climb().card(), Domain::Core).unwrap();
    axis.write(&mut settings, axis.bin(f64::from(mhz)));
    settings
}

/// A value of each setting a card offers, a step from stock on the safe side, and stock again.
fn twelve_changes(card: &CardDescription, stock: Settings) -> Vec<Settings> {
    let mut all = Vec::new();
    for offer in card.offers.iter().cycle().take(12) {
        let mut settings = stock;
        let milder = match offer.kind {
            SettingKind::Fan => 90.0,
            SettingKind::VoltageOffset => offer.maximum.min(offer.step),
            kind => {
                offer.bin(settings.get(kind).or(offer.stock).unwrap_or(offer.maximum) - offer.step)
            }
        };
        settings.set(offer.kind, Some(milder));
        let is_again = all.last() == Some(&settings);
        all.push(if is_again { stock } else { settings });
    }
    all.dedup();
    all
}

#[rstest]
fn every_setting_of_every_card_changes_under_a_load_that_goes_on(#[values(0, 1, 2)] kind: usize) {
    let bench = Bench::new();
    let mut engine = bench.engine_on(&CardChoice::all()[kind]);
    let changes = twelve_changes(engine.description(), stock(&engine));
    assert!(changes.len() >= 10, "{}", changes.len());
    let script =
        changes.iter().fold(Script::default(), |script, settings| script.apply(10.5, *settings));
    let mut script = script.stop(10.5);
    let view = engine.free_run(start(Some(stock(&engine))), &mut script).unwrap();

    let trials = engine.climb().trials();
    assert_eq!(trials.len(), changes.len() + 1, "a trial for each segment");
    for (trial, asked) in trials.iter().skip(1).zip(&changes) {
        assert_eq!((trial.purpose, trial.stage), (Purpose::Segment, Stage::Own));
        assert_eq!(trial.asked, *asked);
        assert_eq!(trial.taken, Some(*asked), "what was asked was taken");
        assert_eq!(trial.verdict(), Verdict::Clean, "{}", trial.reason);
    }
    let in_ledger = bench.ledger.climb(engine.climb_id()).unwrap();
    assert_eq!(in_ledger.trials.len(), trials.len());
    assert_eq!(view.segments.len(), trials.len());
    assert_eq!(view.changes.len(), changes.len());
    // Each intent was on disk before its settings reached the card, and no change idled it.
    let course = bench.course.lock().unwrap();
    for (applied, intent) in course.applied.iter().zip(&course.intents).take(trials.len()) {
        assert_eq!(Some(*applied), *intent);
    }
    assert_eq!(course.idled, 1, "but for the first, which settles before the load begins");
}

#[test]
fn segments_are_compared_and_the_trace_goes_on_over_all_of_them() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let (slow, fast) = (stock(&engine), with_core(&engine, 60));
    let mut script = Script::default().apply(60.0, fast).stop(60.0);
    let view = engine.free_run(start(Some(slow)), &mut script).unwrap();
    let clock = script.views[1].comparison[0];
    let change = clock.change.unwrap();
    assert!(change.is_clear() && change.by > 20.0, "{clock:?}");
    let truth = clock.now.unwrap() - clock.before.unwrap();
    assert!((change.by - truth).abs() < 25.0, "{change:?}, means {truth} apart");
    assert!((view.trace.seconds() - 120.0).abs() < 0.5, "{}", view.trace.seconds());
    assert_eq!(view.changes, [Seconds(60.0)]);
    // The load went on: its frames are counted from the beginning of the run.
    let frame = script.newest.unwrap().picture.unwrap().number;
    assert!(frame > 900, "frame {frame} after two minutes");
}

#[test]
fn each_segment_says_what_it_changed_and_one_that_does_not_count_says_why() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let (first, mut second) = (with_core(&engine, 30), with_core(&engine, 30));
    second.fan = Some(Fan::Fixed(Percent(90.0)));
    let third = with_core(&engine, 15);
    let load = |busy: f64, course: &Arc<Mutex<Course>>, settings: Settings| {
        let course = Arc::clone(course);
        move |_: &FreeView| {
            course.lock().unwrap().busy = busy;
            apply(settings)
        }
    };
    let mut script = Script::default()
        .then(12.0, load(20.0, &bench.course, second))
        .then(12.0, load(0.0, &bench.course, third))
        .stop(12.0);
    let view = engine.free_run(start(Some(first)), &mut script).unwrap();
    let changed: Vec<String> =
        view.segments.iter().map(|segment| segment.changed.join(", ")).collect();
    assert_eq!(
        changed,
        ["core clock offset +30 MHz", "fan 90 %", "core clock offset +15 MHz, fan 100 %"]
    );
    assert_eq!(view.segments[1].verdict, Some(Verdict::Void));
    let told = script.views[2].told.join(" ");
    assert!(
        told.starts_with("Segment 2 does not count. Other programs kept the card busy"),
        "{told}"
    );
}

#[test]
fn what_the_card_clamps_is_told_and_what_is_held_already_changes_nothing() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let mut wild = stock(&engine);
    wild.fan = Some(Fan::Fixed(Percent(5.0)));
    let held = stock(&engine);
    let mut script = Script::default().apply(12.0, wild).stop(12.0);
    let view = engine.free_run(start(Some(held)), &mut script).unwrap();
    assert!(
        script.views[1].told.iter().any(|note| note.contains("fan")),
        "{:?}",
        script.views[1].told
    );
    assert_eq!(view.segments[1].asked.fan, Some(Fan::Fixed(Percent(30.0))));

    let mut script = Script::default().apply(12.0, held).stop(14.0);
    let view = engine.free_run(start(Some(held)), &mut script).unwrap();
    assert_eq!(view.segments.len(), 1, "nothing was changed");
}

#[rstest]
#[case::the_load_dies(LoadLost::Died, Verdict::LoadDied)]
#[case::the_driver_resets(LoadLost::DriverReset, Verdict::DriverReset)]
fn after_a_fault_the_card_goes_back_to_the_newest_segment_that_held(
    #[case] lost: LoadLost,
    #[case] verdict: Verdict,
) {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let (first, second, third) = (stock(&engine), with_core(&engine, 15), with_core(&engine, 30));
    let course = Arc::clone(&bench.course);
    let mut script =
        Script::default().apply(12.0, second).apply(12.0, third).then(5.0, move |_| {
            course.lock().unwrap().lost = Some(lost);
            Hand::GoOn
        });
    // Nobody is asked any more once the load is gone.
    script.moves.push_back((f64::INFINITY, Box::new(|_| Hand::Stop)));
    let view = engine.free_run(start(Some(first)), &mut script).unwrap();
    let ended = view.ended.unwrap();
    assert_eq!((ended.verdict, ended.trial), (verdict, 3));
    assert_eq!(ended.back_to, Some((2, second)));
    assert_eq!(bench.last_applied(), second);
    let told = bench.ledger.events(engine.climb_id()).unwrap();
    assert!(told.iter().any(|event| event.text == "Back to the settings of trial 2."), "{told:?}");
}

#[test]
fn the_edge_of_a_card_ends_a_free_run_with_a_fault_of_its_own() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let held = with_core(&engine, 30);
    let wild = with_core(&engine, 300);
    let mut script = Script::default().apply(12.0, wild).stop(3_000.0);
    match engine.free_run(start(Some(held)), &mut script) {
        Ok(view) => {
            let ended = view.ended.unwrap();
            assert!(ended.verdict.is_fault(), "{ended:?}");
            assert_eq!(ended.back_to, Some((1, held)));
        }
        // So far past the edge it may well take the machine along.
        Err(error) => assert!(matches!(error, EngineError::MachineDown { trial: 2 }), "{error}"),
    }
}

#[test]
fn what_took_the_machine_down_in_a_segment_needs_a_yes_ever_after() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let (mild, bold) = (stock(&engine), with_core(&engine, 60));
    let course = Arc::clone(&bench.course);
    let mut script = Script::default().apply(12.0, bold).then(5.0, move |_| {
        course.lock().unwrap().lost = Some(LoadLost::MachineDown);
        Hand::GoOn
    });
    script.moves.push_back((f64::INFINITY, Box::new(|_| Hand::Stop)));
    let error = engine.free_run(start(Some(mild)), &mut script).unwrap_err();
    assert!(matches!(error, EngineError::MachineDown { trial: 2 }), "{error}");
    assert_eq!(engine.restart_wanted(), Some(Restart::Down));
    engine.restart_machine().unwrap();
    assert_eq!(engine.climb().trials()[1].verdict(), Verdict::MachineDown);

    // It is not begun with, and not changed to, without a yes: neither these nor bolder ones.
    let refused = engine.free_run(start(Some(bold)), &mut Script::default()).unwrap_err();
    assert!(
        matches!(refused, EngineError::NeedsYes(Risk::MachineDown { trial: 2, .. })),
        "{refused}"
    );
    let bolder = with_core(&engine, 75);
    let applied = bench.course.lock().unwrap().applied.len();
    let yes = move |view: &FreeView| {
        let (asked, risk) = view.asks.clone().unwrap();
        assert!(matches!(risk, Risk::MachineDown { trial: 2, .. }), "{risk:?}");
        Hand::Apply { settings: Box::new(asked), yes: true }
    };
    let mut script = Script::default().apply(12.0, bolder).then(13.0, yes).stop(12.0);
    let view = engine.free_run(start(Some(mild)), &mut script).unwrap();
    assert_eq!(script.views[1].segments.len(), 1, "it was not applied before the yes");
    assert_eq!(view.segments[1].asked, bolder);
    assert!(bench.course.lock().unwrap().applied[applied..].contains(&bolder));
}

#[test]
fn a_segment_of_a_few_seconds_proves_nothing_and_a_stopped_one_of_some_length_holds() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let (first, second) = (stock(&engine), with_core(&engine, 15));
    let mut script = Script::default().apply(4.0, second).stop(15.0);
    let view = engine.free_run(start(Some(first)), &mut script).unwrap();
    let trials = engine.climb().trials();
    assert_eq!(trials[0].verdict(), Verdict::Void, "{}", trials[0].reason);
    assert!(trials[0].was_stopped(), "so that no search counts it as tried in vain");
    assert_eq!(trials[1].verdict(), Verdict::Clean, "{}", trials[1].reason);
    assert_eq!(view.ended.unwrap().back_to, None);
    assert_eq!(bench.last_applied(), second, "the card stays where it was left");

    // Stopped within seconds of a change, it goes back to what is known to hold.
    let mut script = Script::default().apply(12.0, first).stop(2.0);
    let view = engine.free_run(start(Some(second)), &mut script).unwrap();
    assert_eq!(view.ended.unwrap().back_to.map(|(_, settings)| settings), Some(second));
}

#[test]
fn the_ceiling_and_an_alarm_put_the_card_back_to_stock_and_not_to_a_segment() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let (first, second) = (stock(&engine), with_core(&engine, 15));
    let hot = |course: &Arc<Mutex<Course>>, at: f64| {
        let course = Arc::clone(course);
        move |_: &FreeView| {
            course.lock().unwrap().temperature = Some(Celsius(at));
            Hand::GoOn
        }
    };
    let mut script = Script::default().apply(12.0, second).then(3.0, hot(&bench.course, 99.0));
    script.moves.push_back((f64::INFINITY, Box::new(|_| Hand::Stop)));
    let view = engine.free_run(start(Some(first)), &mut script).unwrap();
    let ended = view.ended.unwrap();
    assert_eq!((ended.verdict, ended.back_to), (Verdict::Throttled, None), "{}", ended.reason);
    let stock = Settings::stock(engine.description());
    assert_eq!(bench.last_applied(), stock);

    let alarm = Alarm { on: AlarmOn::CoreTemperature, above: 70.0, act: AlarmAct::PutBack };
    engine.set_machine(Machine { alarms: vec![alarm], ..Machine::default() }).unwrap();
    bench.course.lock().unwrap().temperature = None;
    let mut script = Script::default().apply(12.0, second).then(3.0, hot(&bench.course, 75.0));
    script.moves.push_back((f64::INFINITY, Box::new(|_| Hand::Stop)));
    let view = engine.free_run(start(Some(first)), &mut script).unwrap();
    assert!(view.ended.unwrap().reason.contains("core temp"), "an alarm of the user's");
    assert_eq!(bench.last_applied(), stock);
}

#[test]
fn a_paused_run_is_still_watched() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let course = Arc::clone(&bench.course);
    let mut script = Script::default().then(12.0, |_| Hand::Hold).then(12.0, |_| Hand::Hold).then(
        12.0,
        move |_| {
            course.lock().unwrap().temperature = Some(Celsius(99.0));
            Hand::Hold
        },
    );
    script.moves.push_back((f64::INFINITY, Box::new(|_| Hand::Stop)));
    let settings = stock(&engine);
    let view = engine.free_run(start(Some(settings)), &mut script).unwrap();
    let ended = view.ended.unwrap();
    assert_eq!(ended.verdict, Verdict::Throttled, "{}", ended.reason);
    assert_eq!(view.segments[0].seconds, Seconds(12.0), "no time passed while it was held");
}

#[test]
fn a_segment_is_kept_as_a_profile_and_counts_towards_its_proof() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let settings = with_core(&engine, 30);
    let mut script = Script::default().stop(120.0);
    engine.free_run(start(Some(settings)), &mut script).unwrap();
    let climb = engine.climb_id();
    let wish = KeepWish {
        name: "from a free run".into(),
        purpose: String::new(),
        margin: None,
        what: KeepWhat::Trial { climb, trial: 1 },
        fan: KeptFan::AsSearched,
    };
    let profile = engine.keep(&wish).unwrap();
    assert_eq!(profile.settings, settings);
    let view = engine.profiles().unwrap().remove(0);
    assert!(view.backing.clean >= Seconds(119.0), "{:?}", view.backing);
    assert!(!view.proof.is_proven(), "two minutes prove nothing");
}

#[test]
fn it_begins_with_the_newest_trial_that_held_and_a_load_that_is_unknown_is_named() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let settings = with_core(&engine, 45);
    engine.free_run(start(Some(settings)), &mut Script::default().stop(15.0)).unwrap();
    assert_eq!(engine.climb().trials()[0].verdict().meaning(), Meaning::Holds);
    let view = engine.free_run(start(None), &mut Script::default().stop(15.0)).unwrap();
    assert_eq!(view.segments[0].asked, settings, "not with stock");
    let unknown = FreeStart { load: Some("anvil".into()), ..start(None) };
    let error = engine.free_run(unknown, &mut Script::default()).unwrap_err().to_string();
    assert!(error.contains("anvil") && error.contains("kiln"), "{error}");
    assert_eq!(engine.climb().trials().len(), 2, "nothing was begun");
}
