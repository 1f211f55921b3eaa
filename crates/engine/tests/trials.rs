//! Trials carried out on cards that misbehave on purpose.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use rstest::rstest;
use rusqlite::Connection;
use tempfile::TempDir;
use yard_step_card::{
    Card, CardChoice, CardError, FaultInjection, LoadLost, Mishaps, Ran, SignOfLife, StandIn, Work,
};
use yard_step_core::{
    AirNotes, AirWish, Alarm, AlarmAct, AlarmOn, CardDescription, Celsius, Channel, Fan, FanCurve,
    LimitField, Limiter, Machine, Margin, MhzOffset, Percent, Plan, PowerPlan, Proof, Risk, Sample,
    Seconds, Settings, Stage, Told, TrialRecord, Verdict, Watt,
};
use yard_step_engine::{
    Engine, EngineError, KeepWhat, KeepWish, KeptFan, LiveRun, MarkKind, Overseer, Restart, Steer,
    Unfinished,
};
use yard_step_ledger::{ClimbState, DataDir, DiskFailure, Intent, Ledger, Measured};

const STAGES: [Stage; 2] = [Stage::Baseline, Stage::Core];

/// What a card has been made to do wrong.
#[derive(Default)]
struct Trouble {
    silent: Option<Channel>,
    temperature: Option<Celsius>,
    lost: Option<LoadLost>,
    gone: bool,
    deaf: bool,
    panics: bool,
    /// Whether its time passes at a pace somebody can look at.
    slow: bool,
}

/// A stand-in that gets into trouble when told, and remembers what reached it.
struct Troubled {
    card: StandIn,
    trouble: Arc<Mutex<Trouble>>,
    applied: Arc<Mutex<Vec<Settings>>>,
    on_apply: Box<dyn FnMut() + Send>,
    signs: Signs,
    samples: Arc<AtomicUsize>,
}

/// The cards of which a sign of life was given, by their serials, in turn.
type Signs = Arc<Mutex<Vec<String>>>;

impl Card for Troubled {
    fn description(&self) -> &CardDescription {
        self.card.description()
    }
    fn apply(&mut self, settings: &Settings) -> Result<(), CardError> {
        (self.on_apply)();
        self.applied.lock().unwrap().push(*settings);
        if self.trouble.lock().unwrap().deaf { Ok(()) } else { self.card.apply(settings) }
    }
    fn taken(&mut self) -> Result<Settings, CardError> {
        if self.trouble.lock().unwrap().gone {
            return Err(CardError::Gone { cause: "an empty slot".into() });
        }
        self.card.taken()
    }
    fn turn_fan(&mut self, speed: Percent) -> Result<(), CardError> {
        self.card.turn_fan(speed)
    }
    fn sample(&mut self) -> Result<Sample, CardError> {
        self.samples.fetch_add(1, Ordering::Relaxed);
        if self.trouble.lock().unwrap().slow {
            thread::sleep(Duration::from_millis(5));
        }
        let panics = self.trouble.lock().unwrap().panics;
        assert!(!panics, "the card's code panics");
        let trouble = self.trouble.lock().unwrap();
        let mut sample = self.card.sample()?;
        if let Some(channel) = trouble.silent {
            sample.set(channel, None);
        }
        if trouble.temperature.is_some() {
            sample.core_temperature = trouble.temperature;
        }
        Ok(sample)
    }
    fn run(&mut self, span: Seconds, work: Work<'_>) -> Result<Ran, LoadLost> {
        match self.trouble.lock().unwrap().lost {
            Some(lost) => Err(lost),
            None => self.card.run(span, work),
        }
    }
    fn idle(&mut self, span: Seconds) {
        self.card.idle(span);
    }
    fn restart_machine(&mut self) -> bool {
        let mut trouble = self.trouble.lock().unwrap();
        (trouble.lost, trouble.gone) = (None, false);
        self.card.restart_machine()
    }
    fn boot(&mut self) -> String {
        self.card.boot()
    }
    fn sign_of_life(&self) -> Option<SignOfLife> {
        let (signs, serial) = (Arc::clone(&self.signs), self.description().serial.clone());
        Some(Arc::new(move || signs.lock().unwrap().push(serial.clone())))
    }
}

struct Bench {
    dir: TempDir,
    ledger: Ledger,
    trouble: Arc<Mutex<Trouble>>,
    applied: Arc<Mutex<Vec<Settings>>>,
    signs: Signs,
    samples: Arc<AtomicUsize>,
}

impl Bench {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
        Self {
            dir,
            ledger,
            trouble: Arc::default(),
            applied: Arc::default(),
            signs: Arc::default(),
            samples: Arc::default(),
        }
    }

    fn card_that(&self, on_apply: impl FnMut() + Send + 'static) -> Box<Troubled> {
        let mut card = CardChoice::all()[0].open(5, 0).unwrap();
        card.set_mishaps(Mishaps::NONE);
        Box::new(Troubled {
            card,
            trouble: Arc::clone(&self.trouble),
            applied: Arc::clone(&self.applied),
            on_apply: Box::new(on_apply),
            signs: Arc::clone(&self.signs),
            samples: Arc::clone(&self.samples),
        })
    }

    /// Another unit of the same kind of card.
    fn unit(&self, seed: u64) -> Box<Troubled> {
        let mut other = self.card_that(|| ());
        other.card = CardChoice::all()[0].open(seed, 0).unwrap();
        other.card.set_mishaps(Mishaps::NONE);
        other
    }

    fn engine(&self) -> Engine {
        Engine::begin(self.card_that(|| ()), self.ledger.clone(), short_plan(), &STAGES).unwrap()
    }

    /// An engine with its baseline done, so that the next trial moves the core clock.
    fn engine_at_core(&self) -> Engine {
        let mut engine = self.engine();
        while engine.climb().baseline().is_none() {
            engine.carry_out(false, &mut ()).unwrap();
        }
        engine
    }

    /// Writes an hour of the medley without a fault at these settings behind a trial.
    fn write_an_hour(&self, last: &TrialRecord, asked: Settings) {
        let climb = self.ledger.climb_lines(false).unwrap()[0].id;
        let record = TrialRecord {
            number: last.number + 1,
            asked,
            taken: Some(asked),
            scene: "medley".into(),
            seconds: Seconds(3_600.0),
            judged: Verdict::Clean,
            ..last.clone()
        };
        let driver = CardChoice::all()[0].open(5, 0).unwrap().description().driver.clone();
        let intent = Intent { driver: Some(driver), ..Intent::of_record(0, climb, &record) };
        let row = self.ledger.begin_trial(&intent).unwrap();
        self.ledger.end_trial(row, &record, Measured::default(), vec![]).unwrap();
    }

    fn last_applied(&self) -> Settings {
        *self.applied.lock().unwrap().last().unwrap()
    }

    fn stock() -> Settings {
        Settings::stock(CardChoice::all()[0].open(5, 0).unwrap().description())
    }
}

fn short_plan() -> Plan {
    Plan::from_toml(
        "scene = \"lantern\"\npolicy = \"fixed-step\"\n\
         [baseline]\nseconds = 30\nwarm_up_seconds = 60\n
         [core]\nseconds = 30\nwarm_up_seconds = 5\nconfirm_seconds = 60\nsettle_seconds = 30\n\
         [rules]\nmost_warming_k = 50",
    )
    .unwrap()
}

fn last_verdict(engine: &Engine) -> Verdict {
    engine.climb().trials().last().unwrap().verdict()
}

/// Keeps a ledger from writing until enough has happened, or for four seconds; whether it has.
fn keep_busy(ledger: &Connection, is_enough: impl Fn() -> bool) -> bool {
    let has_happened = (0..80).any(|_| {
        thread::sleep(Duration::from_millis(50));
        is_enough()
    });
    ledger.execute_batch("COMMIT").unwrap();
    has_happened
}

/// Cards that are heard of while the ledger is kept from writing, until the card of the engine was three times.
fn heard_of_while_the_disk_is_busy(bench: &Bench, engine: &mut Engine) -> BTreeSet<String> {
    bench.signs.lock().unwrap().clear();
    let busy = Connection::open(bench.ledger.path()).unwrap();
    busy.execute_batch("BEGIN IMMEDIATE").unwrap();
    let (signs, own) = (Arc::clone(&bench.signs), engine.description().serial.clone());
    let let_go = thread::spawn(move || {
        let times = || signs.lock().unwrap().iter().filter(|serial| **serial == own).count();
        keep_busy(&busy, || times() >= 3)
    });
    engine.carry_out(false, &mut ()).unwrap();
    let_go.join().unwrap();
    bench.signs.lock().unwrap().iter().cloned().collect()
}

#[test]
fn a_card_under_load_is_watched_while_the_disk_is_busy() {
    /// Samples of ten seconds: more than go by before anything is written of a run.
    const MANY: usize = 100;
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    bench.trouble.lock().unwrap().slow = true;
    // Busy from the first sample of the trial on, since what a trial is about to do is waited for.
    let (before, samples) = (bench.samples.load(Ordering::Relaxed), Arc::clone(&bench.samples));
    let path = bench.ledger.path().to_owned();
    let busy = thread::spawn(move || {
        let seen = || samples.load(Ordering::Relaxed) - before;
        while seen() == 0 {
            thread::sleep(Duration::from_millis(1));
        }
        let busy = Connection::open(path).unwrap();
        busy.busy_timeout(Duration::from_secs(4)).unwrap();
        busy.execute_batch("BEGIN IMMEDIATE").unwrap();
        keep_busy(&busy, || seen() >= MANY)
    });
    let trial = engine.carry_out(false, &mut ()).unwrap();
    assert!(busy.join().unwrap(), "it went on without the disk");
    let (ledger, number) = (&bench.ledger, trial.number);
    let row = ledger.row_of(engine.climb_id(), number).unwrap().unwrap();
    let written = ledger.trace(row, |_| Limiter::Unknown).unwrap().len();
    assert_eq!(written, bench.samples.load(Ordering::Relaxed) - before, "nothing is lost");
}

#[test]
fn whoever_holds_a_card_hears_of_its_controller_while_the_ledger_waits_for_the_disk() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    let own = engine.description().serial.clone();
    let other = bench.unit(6);
    let (key, serial) = (other.description().key(), other.description().serial.clone());
    engine.hold_in_step(other).unwrap();
    let both = BTreeSet::from([own.clone(), serial]);
    assert_eq!(heard_of_while_the_disk_is_busy(&bench, &mut engine), both);
    assert!(engine.let_go(&key).unwrap());
    assert_eq!(heard_of_while_the_disk_is_busy(&bench, &mut engine), BTreeSet::from([own]));
}

#[test]
fn the_intent_is_in_the_ledgers_file_before_anything_reaches_the_card() {
    let bench = Bench::new();
    let path = DataDir::new(bench.dir.path()).ledger();
    let seen = Arc::new(AtomicU64::new(0));
    let count = Arc::clone(&seen);
    // Another connection sees only what was committed.
    let look = move || {
        let other = Connection::open(&path).unwrap();
        let open: u32 = other
            .query_row("SELECT count(*) FROM trial WHERE verdict IS NULL", [], |row| row.get(0))
            .unwrap();
        count.fetch_max(open.into(), Ordering::SeqCst);
        assert_eq!(open, 1, "a setting reached the card without its intent");
    };
    let mut engine =
        Engine::begin(bench.card_that(look), bench.ledger.clone(), short_plan(), &STAGES).unwrap();
    engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(seen.load(Ordering::SeqCst), 1);
    std::mem::forget(engine); // Putting back at the end needs no intent.
}

#[rstest]
#[case(LoadLost::Died, Verdict::LoadDied)]
#[case(LoadLost::Hung, Verdict::LoadDied)]
#[case(LoadLost::DriverReset, Verdict::DriverReset)]
#[case(LoadLost::Gone, Verdict::MachineDown)]
fn a_lost_load_has_its_verdict_and_the_card_goes_back_to_stock(
    #[case] lost: LoadLost,
    #[case] verdict: Verdict,
) {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    bench.trouble.lock().unwrap().lost = Some(lost);
    engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), verdict);
    assert_eq!(bench.last_applied(), Bench::stock());
    let wanted = match lost {
        LoadLost::DriverReset => Some(Restart::AfterReset(4)),
        LoadLost::Gone => Some(Restart::CardGone),
        _ => None,
    };
    assert_eq!(engine.restart_wanted(), wanted);
}

#[test]
fn what_runs_after_a_driver_reset_is_marked_until_the_restart_that_cures_it() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    bench.trouble.lock().unwrap().lost = Some(LoadLost::DriverReset);
    engine.carry_out(false, &mut ()).unwrap();
    bench.trouble.lock().unwrap().lost = None;
    engine.carry_out(false, &mut ()).unwrap();
    let marked = engine.climb().trials().last().unwrap().clone();
    assert_eq!((marked.since_reset, marked.verdict()), (Some(4), Verdict::Void));
    assert!(marked.reason.contains("restart the machine"), "{}", marked.reason);
    let kept = bench.ledger.climb(engine.climb_id()).unwrap().trials.pop().unwrap();
    assert_eq!(kept.record.since_reset, Some(4));

    let told = engine.restart_machine().unwrap();
    assert_eq!(told, ["The machine was restarted."]);
    assert_eq!(engine.restart_wanted(), None);
    engine.carry_out(false, &mut ()).unwrap();
    let cured = engine.climb().trials().last().unwrap();
    assert_eq!((cured.since_reset, cured.verdict()), (None, Verdict::Clean));
}

#[test]
fn a_card_that_went_while_nothing_ran_says_nothing_of_the_next_settings() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    let before = engine.climb().trials().to_vec();
    bench.trouble.lock().unwrap().gone = true;
    assert!(matches!(engine.carry_out(false, &mut ()), Err(EngineError::IsDown)));
    assert_eq!(engine.restart_wanted(), Some(Restart::CardGone));
    let entry = bench.ledger.climb(engine.climb_id()).unwrap();
    assert_eq!((entry.trials.len(), entry.unfinished), (before.len(), None));
    engine.restart_machine().unwrap();
    engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(engine.climb().trials()[..before.len()], before);
    assert_eq!(last_verdict(&engine), Verdict::Clean);
}

#[test]
fn who_goes_down_with_the_machine_writes_nothing_more_and_takes_up_again_after_the_restart() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    bench.trouble.lock().unwrap().lost = Some(LoadLost::MachineDown);
    let error = engine.carry_out(false, &mut ()).unwrap_err();
    assert!(matches!(error, EngineError::MachineDown { trial: 4 }), "{error}");
    let entry = bench.ledger.climb(engine.climb_id()).unwrap();
    assert_eq!((entry.trials.len(), entry.unfinished.is_some()), (3, true));
    assert!(matches!(engine.carry_out(true, &mut ()), Err(EngineError::IsDown)));

    let told = engine.restart_machine().unwrap();
    assert!(told[1].starts_with("Trial 4 (core +60 MHz): machine down."), "{told:?}");
    assert_eq!(last_verdict(&engine), Verdict::MachineDown);
    assert_eq!(bench.last_applied(), Bench::stock());
    let yard_step_core::Next::Trial(proposal) = engine.climb().next() else { panic!() };
    assert_eq!(proposal.request.asked.core_offset, Some(MhzOffset(15)), "the step back");
}

#[rstest]
#[case::full(DiskFailure::Full)]
#[case::read_only(DiskFailure::ReadOnly)]
fn a_disk_that_fails_in_a_trial_loses_no_ended_one_and_the_card_is_put_back(
    #[case] failure: DiskFailure,
) {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    let before = engine.climb().trials().to_vec();
    let ledger = bench.ledger.clone();
    let mut after_a_while = Waits { ticks: 100, then: move || ledger.rehearse(failure).unwrap() };
    let error = engine.carry_out(false, &mut after_a_while).unwrap_err().to_string();
    assert!(error.contains("Free space on its disk or check its permissions"), "{error}");
    assert_eq!(bench.last_applied(), Bench::stock());

    bench.ledger.rehearse(DiskFailure::None).unwrap();
    engine.carry_out(false, &mut ()).unwrap();
    let trials = engine.climb().trials();
    assert_eq!(trials[..before.len()], before);
    assert_eq!(trials[before.len()].verdict(), Verdict::Void, "the one that was not recorded");
    assert_eq!(bench.ledger.climb(engine.climb_id()).unwrap().trials.len(), trials.len());
}

/// Does something after so many ticks of a run.
struct Waits<F> {
    ticks: u32,
    then: F,
}

impl<F: Fn()> Overseer for Waits<F> {
    fn tick(&mut self, _: &LiveRun<'_>) -> Steer {
        self.ticks = self.ticks.saturating_sub(1);
        if self.ticks == 0 {
            (self.then)();
        }
        Steer::GoOn
    }
}

#[rstest]
#[case::frozen(FaultInjection::SensorsFreeze, "said the same again and again")]
#[case::raving(FaultInjection::SensorsRave, "sensor fell silent")]
fn sensors_that_freeze_or_rave_stop_the_load(#[case] fault: FaultInjection, #[case] told: &str) {
    let bench = Bench::new();
    let mut card = bench.card_that(|| ());
    card.card.inject_fault(fault);
    let mut engine = Engine::begin(card, bench.ledger.clone(), short_plan(), &STAGES).unwrap();
    engine.carry_out(false, &mut ()).unwrap();
    let record = engine.climb().trials().last().unwrap();
    assert_eq!(record.verdict(), Verdict::Void);
    assert!(record.reason.contains(told), "{}", record.reason);
    assert!(record.seconds < Seconds(15.0), "found within seconds: {}", record.seconds.in_words());
    assert_eq!(bench.last_applied(), Bench::stock());
}

#[test]
fn a_load_that_only_the_user_sees_ends_with_what_the_user_says() {
    let bench = Bench::new();
    let plan = Plan { scene: "manual".into(), ..short_plan() };
    let mut engine =
        Engine::begin(bench.card_that(|| ()), bench.ledger.clone(), plan, &STAGES).unwrap();
    struct Says(Verdict);
    impl Overseer for Says {
        fn tick(&mut self, live: &LiveRun<'_>) -> Steer {
            if live.at() < Seconds(20.0) {
                Steer::GoOn
            } else {
                Steer::Told { verdict: self.0, told: Told::default() }
            }
        }
    }
    for (said, reason) in [
        (Verdict::Artifacts, "You watched, and said: artifacts. After 20 s."),
        (Verdict::Clean, "You watched, and said: clean. 20 s."),
    ] {
        engine.carry_out(false, &mut Says(said)).unwrap();
        let record = engine.climb().trials().last().unwrap();
        assert_eq!((record.verdict(), record.reason.as_str()), (said, reason));
        assert_eq!(record.scene, "manual");
    }
}

#[test]
fn such_a_run_goes_on_until_the_user_ends_it_and_takes_the_score_that_is_told() {
    let bench = Bench::new();
    let plan = Plan { scene: "manual".into(), ..short_plan() };
    let planned = Seconds(plan.baseline.warm_up_seconds + plan.baseline.seconds);
    let mut engine =
        Engine::begin(bench.card_that(|| ()), bench.ledger.clone(), plan, &STAGES).unwrap();
    struct Plays(f64);
    impl Overseer for Plays {
        fn tick(&mut self, live: &LiveRun<'_>) -> Steer {
            match live.at() < Seconds(400.0) {
                true => Steer::GoOn,
                false => {
                    let told = Told { score: Some(self.0), ..Told::default() };
                    Steer::Told { verdict: Verdict::Clean, told }
                }
            }
        }
    }
    for score in [8_120.0, 8_150.0, 8_110.0] {
        engine.carry_out(false, &mut Plays(score)).unwrap();
        let record = engine.climb().trials().last().unwrap();
        assert_eq!((record.score, record.seconds), (Some(score), Seconds(400.0)));
        assert!(record.seconds > planned, "not ended by the plan");
        assert!(record.reason.contains(&format!("score {score:.0}")), "{}", record.reason);
    }
    let baseline = engine.climb().baseline().unwrap();
    assert_eq!((baseline.score, baseline.by_clock), (8_120.0, false));
    assert!(baseline.noise.value() > 0.1, "their spread is the noise: {baseline:?}");
    // Less than the baseline by more than chance is slower, as with any other load.
    engine.carry_out(false, &mut Plays(7_500.0)).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::Slower);
    let again = bench.ledger.climb(engine.climb_id()).unwrap().lay_out().unwrap();
    assert_eq!(again.baseline(), engine.climb().baseline(), "scores are in the ledger");
}

#[rstest]
#[case::ceiling(
    Trouble { temperature: Some(Celsius(93.5)), ..Trouble::default() },
    Verdict::Throttled,
    "temperature ceiling"
)]
#[case::sensor(
    Trouble { silent: Some(Channel::HotSpot), ..Trouble::default() },
    Verdict::Void,
    "hot spot sensor fell silent"
)]
fn the_ceiling_and_a_lost_sensor_stop_the_load_and_put_the_card_back(
    #[case] trouble: Trouble,
    #[case] verdict: Verdict,
    #[case] told: &str,
) {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    *bench.trouble.lock().unwrap() = trouble;
    let view = engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), verdict);
    assert!(view.judgement.unwrap().reason.contains(told));
    assert!(view.at.value() <= 1.5, "stopped at {}", view.at);
    assert_eq!(bench.last_applied(), Bench::stock());
}

#[test]
fn settings_that_are_not_taken_start_no_load_and_say_so() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    bench.trouble.lock().unwrap().deaf = true;
    let view = engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::NotTaken);
    assert_eq!(view.seen.frames, 0);
    let reason = view.judgement.unwrap().reason;
    assert!(reason.contains("asked +60 MHz, the card holds ±0 MHz"), "{reason}");
}

/// Stops a run after so many samples.
struct Impatient(u32);

impl Overseer for Impatient {
    fn tick(&mut self, _: &LiveRun<'_>) -> Steer {
        self.0 -= 1;
        if self.0 == 0 { Steer::Stop } else { Steer::GoOn }
    }
}

#[test]
fn a_stopped_run_is_void_and_its_samples_are_kept() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    engine.carry_out(false, &mut Impatient(700)).unwrap();
    let trial = engine.climb().trials().last().unwrap();
    assert_eq!((trial.verdict(), trial.was_stopped()), (Verdict::Void, true));
    assert_eq!(trial.seconds, Seconds(70.0));
    let entry = bench.ledger.climb(engine.climb_id()).unwrap();
    assert_eq!(bench.ledger.samples(entry.trials[0].id).unwrap().len(), 700);
    let again = engine.recorded_run(engine.climb_id(), 1).unwrap();
    assert_eq!(again.at, Seconds(70.0));
}

/// Pauses a run after a second, and stops it if nothing else does.
struct Pausing<F: FnMut()> {
    held: u32,
    on_pause: F,
}

impl<F: FnMut()> Overseer for Pausing<F> {
    fn tick(&mut self, live: &LiveRun<'_>) -> Steer {
        if live.at() < Seconds(1.0) {
            return Steer::GoOn;
        }
        if self.held == 0 {
            (self.on_pause)();
        }
        self.held += 1;
        if self.held > 50 { Steer::Stop } else { Steer::Hold }
    }
}

#[rstest]
#[case::ceiling(|t: &mut Trouble| t.temperature = Some(Celsius(200.0)), Verdict::Throttled, "ceiling")]
#[case::sensor(|t: &mut Trouble| t.silent = Some(Channel::HotSpot), Verdict::Void, "fell silent")]
#[case::alarm(|t: &mut Trouble| t.temperature = Some(Celsius(80.0)), Verdict::Void, "alarm")]
fn a_run_held_still_is_watched_all_the_same(
    #[case] trouble: fn(&mut Trouble),
    #[case] verdict: Verdict,
    #[case] told: &str,
) {
    let bench = Bench::new();
    let mut engine = bench.engine();
    engine.set_machine(alarm(AlarmOn::CoreTemperature, 79.0, AlarmAct::Stop)).unwrap();
    let mut pausing = Pausing { held: 0, on_pause: || trouble(&mut bench.trouble.lock().unwrap()) };
    engine.carry_out(false, &mut pausing).unwrap();
    assert!(pausing.held <= 12, "found at once, not when somebody goes on");
    let trial = engine.climb().trials().last().unwrap();
    assert_eq!(trial.verdict(), verdict, "{}", trial.reason);
    assert!(trial.reason.contains(told), "{}", trial.reason);
    assert_eq!(trial.seconds, Seconds(1.0), "what was held still is no part of the run");
    assert_eq!(bench.last_applied(), Bench::stock());
}

#[test]
fn a_run_held_still_goes_on_where_it_was() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let mut patient = Pausing { held: 0, on_pause: || () };
    engine.carry_out(false, &mut patient).unwrap();
    let trial = engine.climb().trials().last().unwrap();
    assert!(trial.was_stopped() && patient.held == 51, "{}", trial.reason);
}

fn short_supply() -> Machine {
    Machine { supply: Some(Watt(400.0)), rest: Some(Watt(150.0)), ..Machine::default() }
}

#[rstest]
fn a_short_supply_asks_before_the_power_limit_is_raised_and_only_once(
    #[values(false, true)] over_supply: bool,
) {
    let bench = Bench::new();
    let plan = Plan { power: PowerPlan { seconds: 30.0, ..PowerPlan::default() }, ..short_plan() };
    let stages = [Stage::Baseline, Stage::Power];
    let mut engine =
        Engine::begin(bench.card_that(|| ()), bench.ledger.clone(), plan, &stages).unwrap();
    engine.set_machine(short_supply()).unwrap();
    if over_supply {
        engine.go_over_supply();
    }
    while engine.climb().baseline().is_none() {
        engine.carry_out(false, &mut ()).unwrap();
    }
    if !over_supply {
        let before = bench.applied.lock().unwrap().len();
        let error = engine.carry_out(false, &mut ()).unwrap_err();
        let EngineError::NeedsYes(risk) = &error else { panic!("{error}") };
        let Risk::Supply { headroom, .. } = risk else { panic!("{risk:?}") };
        assert_eq!(headroom.supply, Watt(400.0));
        assert_eq!(bench.applied.lock().unwrap().len(), before, "the card was not touched");
    }
    engine.carry_out(!over_supply, &mut ()).unwrap();
    assert!(bench.last_applied().power_limit > Bench::stock().power_limit);
    // The same limit again needs no second yes.
    engine.carry_out(false, &mut ()).unwrap();
}

#[test]
fn the_card_is_put_back_when_the_engine_goes_even_by_a_panic() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    bench.trouble.lock().unwrap().panics = true;
    let thrown = std::panic::catch_unwind(std::panic::AssertUnwindSafe(move || {
        let _ = engine.carry_out(false, &mut ());
    }));
    assert!(thrown.is_err());
    assert_eq!(bench.last_applied(), Bench::stock());
    let open = bench.ledger.climbs().unwrap().pop().unwrap();
    assert!(open.unfinished.is_some(), "the trial has no outcome and will be found");
}

#[rstest]
#[case(Unfinished::MachineDown, Verdict::MachineDown, 15)]
#[case(Unfinished::Void, Verdict::Void, 60)]
fn a_climb_is_taken_up_where_it_was_left(
    #[case] unfinished: Unfinished,
    #[case] verdict: Verdict,
    #[case] next: i32,
) {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    let before = engine.climb().trials().to_vec();
    bench.trouble.lock().unwrap().panics = true;
    let _ = std::panic::catch_unwind(std::panic::AssertUnwindSafe(move || {
        let _ = engine.carry_out(false, &mut ());
    }));
    *bench.trouble.lock().unwrap() = Trouble::default();

    let card = bench.card_that(|| ());
    let entry = bench.ledger.open_climb(card.description()).unwrap().unwrap();
    let (engine, told) = Engine::resume(card, bench.ledger.clone(), entry, unfinished).unwrap();
    assert_eq!(engine.climb().trials()[..before.len()], before, "no ended trial is lost");
    assert_eq!(last_verdict(&engine), verdict);
    assert!(told.unwrap().starts_with("Trial 4 (core +60 MHz)"));
    let yard_step_core::Next::Trial(proposal) = engine.climb().next() else { panic!() };
    assert_eq!(proposal.request.asked.core_offset, Some(MhzOffset(next)));
}

#[test]
fn what_took_the_machine_down_is_not_tried_again_without_a_yes() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    bench.trouble.lock().unwrap().lost = Some(LoadLost::MachineDown);
    engine.carry_out(false, &mut ()).unwrap_err();
    engine.restart_machine().unwrap();
    while engine.nudge(1).unwrap() != "+60 MHz" {}
    let refused = engine.carry_out(false, &mut ());
    assert!(matches!(refused, Err(EngineError::NeedsYes(_))));
    assert_ne!(bench.last_applied().core_offset, Some(MhzOffset(60)));
    engine.carry_out(true, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::Clean);
}

fn outcome_as(name: &str) -> KeepWish {
    let (name, purpose) = (name.to_owned(), "the dome".to_owned());
    KeepWish { name, purpose, margin: None, what: KeepWhat::Outcome, fan: KeptFan::AsSearched }
}

fn trial_as(name: &str, climb: i64, trial: u32) -> KeepWish {
    KeepWish {
        margin: Some(Margin::Gift),
        what: KeepWhat::Trial { climb, trial },
        ..outcome_as(name)
    }
}

#[test]
fn the_settings_of_any_trial_are_kept_unless_they_failed() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    engine.carry_out(false, &mut ()).unwrap();
    let climb = engine.climb_id();
    let number = engine.climb().trials().len() as u32;
    let asked = engine.climb().trials().last().unwrap().asked;
    let applied = bench.applied.lock().unwrap().len();
    let kept = engine.keep(&trial_as("mild", climb, number)).unwrap();
    assert_eq!((kept.settings, kept.margin), (asked, Some(Margin::Gift)));
    assert_eq!(bench.applied.lock().unwrap().len(), applied, "the card stays as it is");
    let view = engine.profiles().unwrap().remove(0);
    assert_eq!(view.backing.runs, 1);
    assert!(matches!(view.proof, Proof::Open { .. }), "a minute proves nothing: {:?}", view.proof);

    engine.mark(climb, number, Some(Verdict::Artifacts)).unwrap();
    let refused = engine.keep(&trial_as("failed", climb, number)).unwrap_err().to_string();
    assert!(refused.contains("what failed is neither kept"), "{refused}");
    let failed = engine.profiles().unwrap().remove(0);
    assert!(matches!(failed.proof, Proof::Failed { .. }), "{:?}", failed.proof);
    let missing = engine.keep(&trial_as("none", climb, 99)).unwrap_err().to_string();
    assert!(missing.contains("no trial 99"), "{missing}");
}

#[test]
fn a_profile_in_use_is_applied_at_a_start_only_when_it_is_proven() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    while engine.step_unattended(&mut ()).is_ok() {}
    let kept = engine.keep(&outcome_as("proven")).unwrap();
    bench.write_an_hour(engine.climb().trials().last().unwrap(), kept.settings);
    assert!(engine.profiles().unwrap()[0].proof.is_proven(), "{:?}", engine.profiles());
    let is_step = |t: &&TrialRecord| t.stage == Stage::Core && t.verdict() == Verdict::Clean;
    let step = engine.climb().trials().iter().find(is_step).unwrap().number;
    engine.keep(&trial_as("open", engine.climb_id(), step)).unwrap();
    drop(engine);

    let begin = || {
        bench.applied.lock().unwrap().clear();
        Engine::begin(bench.card_that(|| ()), bench.ledger.clone(), short_plan(), &STAGES).unwrap()
    };
    let mut engine = begin();
    assert_eq!(engine.told_at_start(), None);
    assert_eq!(bench.last_applied(), kept.settings);
    let open = engine.use_profile("open", false).unwrap().proof;
    assert!(!open.is_proven(), "{open:?}");
    assert_ne!(bench.last_applied(), kept.settings, "switched");
    let error = engine.use_profile("nothing", false).unwrap_err().to_string();
    assert!(error.contains("no profile \"nothing\""), "{error}");
    drop(engine);

    let mut engine = begin();
    let told = engine.told_at_start().unwrap().to_owned();
    assert!(told.contains("\"open\" is not proven"), "{told}");
    assert!(bench.applied.lock().unwrap().iter().all(|settings| *settings == Bench::stock()));
    engine.use_profile("proven", false).unwrap();
    engine.drop_profile("proven").unwrap();
    assert_eq!(bench.last_applied(), Bench::stock(), "what is deleted is not held on to");
}

#[test]
fn back_to_stock_stays_at_stock_after_the_next_start() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    while engine.step_unattended(&mut ()).is_ok() {}
    let kept = engine.keep(&outcome_as("proven")).unwrap();
    bench.write_an_hour(engine.climb().trials().last().unwrap(), kept.settings);
    assert_eq!(bench.last_applied(), kept.settings);
    engine.back_to_stock().unwrap();
    assert_eq!(bench.last_applied(), Bench::stock());
    assert!(!engine.profiles().unwrap()[0].profile.in_use, "and none is in use any more");
    drop(engine);
    bench.applied.lock().unwrap().clear();
    let again = bench.engine();
    assert!(bench.applied.lock().unwrap().iter().all(|settings| *settings == Bench::stock()));
    assert_eq!(again.told_at_start(), None);
}

#[test]
fn a_proven_profile_as_bold_as_what_took_the_machine_down_is_not_gone_back_to() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    while engine.step_unattended(&mut ()).is_ok() {}
    let kept = engine.keep(&outcome_as("proven")).unwrap();
    let last = engine.climb().trials().last().unwrap().clone();
    bench.write_an_hour(&last, kept.settings);
    drop(engine);
    // Milder settings take the machine down in another climb: without an outcome, as it is then.
    let card = bench.unit(5).description().clone();
    let asked = Settings { core_offset: Some(MhzOffset(30)), ..Bench::stock() };
    assert!(kept.settings.is_at_least_as_bold_as(&asked, &card));
    let climb = bench.ledger.begin_climb(&card, &short_plan(), &STAGES).unwrap();
    let record = TrialRecord { number: 1, asked, ..last };
    bench.ledger.begin_trial(&Intent::of_record(0, climb, &record)).unwrap();
    bench.applied.lock().unwrap().clear();

    let mut engine = bench.engine();
    let told = engine.told_at_start().unwrap().to_owned();
    assert!(told.contains("stays at stock") && told.contains("took the machine down"), "{told}");
    assert!(bench.applied.lock().unwrap().iter().all(|settings| *settings == Bench::stock()));
    let refused = engine.use_profile("proven", false).unwrap_err();
    assert!(matches!(refused, EngineError::NeedsYes(_)), "{refused}");
    engine.use_profile("proven", true).unwrap();
    assert_eq!(bench.last_applied(), kept.settings, "a yes is a yes");
}

#[test]
fn a_climb_runs_to_its_outcome_is_kept_and_the_card_returns_to_it() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    assert!(
        engine.keep(&outcome_as("early")).is_err(),
        "nothing is kept before there is an outcome"
    );
    while engine.step_unattended(&mut ()).is_ok() {}
    let entry = bench.ledger.climb(engine.climb_id()).unwrap();
    assert_eq!(entry.state, ClimbState::Ended);
    let profile = engine.keep(&outcome_as("summer")).unwrap();
    assert!(profile.settings.core_offset.unwrap() > MhzOffset::STOCK);
    engine.put_to_stock().unwrap();
    drop(engine);
    assert_eq!(bench.last_applied(), profile.settings, "the last kept settings, not stock");
}

#[test]
fn nothing_is_tried_when_the_ledger_cannot_be_written() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    let path = DataDir::new(bench.dir.path()).ledger();
    let other = Connection::open(path).unwrap();
    other.execute_batch("DROP TABLE samples; DROP TABLE trial;").unwrap();
    let before = bench.applied.lock().unwrap().len();
    let error = engine.carry_out(false, &mut ()).unwrap_err().to_string();
    assert!(error.contains("cannot write down a trial in the ledger"), "{error}");
    let reached: Vec<Settings> = bench.applied.lock().unwrap()[before..].to_vec();
    assert!(reached.iter().all(|settings| *settings == Bench::stock()), "{reached:?}");
}

#[test]
fn a_ledger_that_fails_in_the_middle_and_recovers_loses_only_that_trial() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    let other = Connection::open(DataDir::new(bench.dir.path()).ledger()).unwrap();
    other.execute_batch("ALTER TABLE samples RENAME TO hidden").unwrap();
    let error = engine.carry_out(false, &mut ()).unwrap_err().to_string();
    assert!(error.contains("cannot write down samples in the ledger"), "{error}");
    assert_eq!(bench.last_applied(), Bench::stock(), "the card was put back");
    assert!(engine.carry_out(false, &mut ()).is_err(), "nothing goes on while it fails");

    other.execute_batch("ALTER TABLE hidden RENAME TO samples").unwrap();
    engine.carry_out(false, &mut ()).unwrap();
    let trials = bench.ledger.climb(engine.climb_id()).unwrap().trials;
    let verdicts: Vec<Verdict> = trials[3..].iter().map(|trial| trial.record.verdict()).collect();
    assert_eq!(verdicts, [Verdict::Void, Verdict::Clean]);
    assert!(trials[3].record.reason.contains("could not be written down"));
}

#[test]
fn a_card_that_does_not_go_back_is_told() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    while engine.step_unattended(&mut ()).is_ok() {}
    bench.trouble.lock().unwrap().deaf = true;
    let error = engine.put_to_stock().unwrap_err().to_string();
    assert!(
        error.contains("#5 was not put back: asked 5 times: core clock offset: asked ±0 MHz"),
        "{error}"
    );
    bench.trouble.lock().unwrap().deaf = false;
    engine.put_to_stock().unwrap();
    bench.trouble.lock().unwrap().deaf = true;
    let error = engine.keep(&outcome_as("by day")).unwrap_err().to_string();
    assert!(error.contains("Restart the machine"), "{error}");
    bench.trouble.lock().unwrap().deaf = false;
    engine.put_back().unwrap();
    assert_eq!(bench.last_applied().core_offset, engine.climb().outcome().settings.core_offset);
}

#[rstest]
#[case::gone(Trouble { gone: true, ..Trouble::default() }, "an empty slot")]
#[case::deaf(Trouble { deaf: true, ..Trouble::default() }, "asked 5 times")]
fn a_card_that_cannot_be_asked_is_never_called_put_back(
    #[case] trouble: Trouble,
    #[case] told: &str,
) {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    engine.carry_out(false, &mut ()).unwrap();
    *bench.trouble.lock().unwrap() = trouble;
    for error in [engine.put_back(), engine.put_to_stock(), engine.leave()] {
        let error = error.unwrap_err().to_string();
        assert!(error.contains("was not put back") && error.contains(told), "{error}");
    }
}

#[test]
fn a_card_in_step_that_is_not_back_is_told_by_name() {
    let (bench, other) = (Bench::new(), Bench::new());
    let mut engine = bench.engine_at_core();
    engine.hold_in_step(other.unit(6)).unwrap();
    engine.carry_out(false, &mut ()).unwrap();
    other.trouble.lock().unwrap().deaf = true;
    let error = engine.put_back().unwrap_err().to_string();
    assert!(error.starts_with("standin:tarn-310#6 was not put back"), "{error}");
    assert_eq!(bench.last_applied(), Bench::stock(), "the other one is back all the same");
    let key = "standin:tarn-310#6";
    assert!(engine.let_go(key).is_err(), "not let go in silence either");
}

fn alarm(on: AlarmOn, above: f64, act: AlarmAct) -> Machine {
    Machine { alarms: vec![Alarm { on, above, act }], ..Machine::default() }
}

#[test]
fn an_alarm_that_warns_is_noted_once_and_the_trial_goes_on() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    engine.set_machine(alarm(AlarmOn::BoardPower, 150.0, AlarmAct::Warn)).unwrap();
    let view = engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::Clean);
    let marks: Vec<_> = view.marks.iter().filter(|mark| mark.kind == MarkKind::Alarm).collect();
    assert_eq!(marks.len(), 1, "{marks:?}");
    assert!(marks[0].text.contains("is above the alarm at 150 W"), "{}", marks[0].text);
    let again = engine.recorded_run(engine.climb_id(), 1).unwrap();
    assert_eq!(again.marks, view.marks, "it is in the ledger");
}

#[test]
fn an_alarm_that_stops_ends_the_trial_and_one_that_puts_back_wants_a_look() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    engine.set_machine(alarm(AlarmOn::BoardPower, 150.0, AlarmAct::Stop)).unwrap();
    let stopped = engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::Void);
    assert!(stopped.at.value() < 20.0 && !stopped.wants_a_look, "{}", stopped.at);
    let reason = &stopped.judgement.as_ref().unwrap().reason;
    assert!(reason.contains("board power") && reason.contains("alarm at 150 W"), "{reason}");
    engine.set_machine(alarm(AlarmOn::HotSpot, 40.0, AlarmAct::PutBack)).unwrap();
    let put_back = engine.carry_out(false, &mut ()).unwrap();
    assert!(put_back.wants_a_look);
    assert_eq!(bench.last_applied(), Bench::stock());
}

#[rstest]
#[case::memory(AlarmOn::MemoryTemperature, 40.0, "memory temperature")]
#[case::regulator(AlarmOn::RegulatorTemperature, 35.0, "regulator temperature")]
#[case::a_fan_that_stands_still(AlarmOn::FanShortfall, 30.0, "fan shortfall 100 %")]
#[case::heat_that_comes_too_fast(AlarmOn::TemperatureRise, 10.0, "temperature rise")]
fn what_heat_may_do_ends_a_trial(#[case] on: AlarmOn, #[case] above: f64, #[case] told: &str) {
    let bench = Bench::new();
    let mut card = bench.card_that(|| ());
    if on == AlarmOn::FanShortfall {
        card.card.inject_fault(FaultInjection::FanStops);
    }
    let mut engine = Engine::begin(card, bench.ledger.clone(), short_plan(), &STAGES).unwrap();
    engine.set_machine(alarm(on, above, AlarmAct::Stop)).unwrap();
    let view = engine.carry_out(false, &mut ()).unwrap();
    let reason = &view.judgement.as_ref().unwrap().reason;
    assert!(reason.contains(told), "{reason}");
}

#[rstest]
#[case::with_the_makers_limits(false, "temperature ceiling")]
#[case::beyond_them(true, "is above the alarm at 90 °C")]
fn beyond_the_makers_limits_heat_stops_the_load_before_the_ceiling(
    #[case] is_beyond: bool,
    #[case] told: &str,
) {
    let bench = Bench::new();
    let mut card = bench.card_that(|| ());
    let makers = card.card.makers_limits();
    let raised = makers.with(LimitField::PowerLimit, 320.0);
    card.card.override_limits(is_beyond.then_some(raised));
    card.card.load_limits();
    let mut engine = Engine::begin(card, bench.ledger.clone(), short_plan(), &STAGES).unwrap();
    let of_card = engine.description().limits.temperature_ceiling.unwrap();
    assert_eq!(of_card, Celsius(93.0));
    let at = if is_beyond { 91.0 } else { 94.0 };
    bench.trouble.lock().unwrap().temperature = Some(Celsius(at));
    let view = engine.carry_out(false, &mut ()).unwrap();
    let reason = &view.judgement.as_ref().unwrap().reason;
    assert!(reason.contains(told), "{reason}");
}

#[test]
fn a_fan_that_follows_what_it_was_asked_sets_nothing_off() {
    let bench = Bench::new();
    let mut engine = bench.engine();
    engine.set_machine(alarm(AlarmOn::FanShortfall, 10.0, AlarmAct::Stop)).unwrap();
    engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::Clean);
}

#[test]
fn what_is_kept_carries_the_fan_that_was_chosen_and_not_that_of_the_search() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    let climb = engine.climb_id();
    let chosen = Fan::Fixed(Percent(55.0));
    engine.set_air(&AirNotes { chosen: Some(chosen), ..AirNotes::default() }).unwrap();
    let kept_with = |engine: &mut Engine, name: &str, fan| {
        engine.keep(&KeepWish { fan, ..trial_as(name, climb, 1) }).unwrap().settings.fan
    };
    assert_eq!(kept_with(&mut engine, "mine", KeptFan::Chosen), Some(chosen));
    let searched = Some(Fan::Fixed(Percent(100.0)));
    assert_eq!(kept_with(&mut engine, "full", KeptFan::AsSearched), searched);
    engine.set_air(&AirNotes::default()).unwrap();
    assert_eq!(kept_with(&mut engine, "plain", KeptFan::Chosen), Some(Fan::Automatic));
}

#[test]
fn a_chosen_fan_is_held_between_trials_after_a_start_and_until_the_card_is_back_at_stock() {
    let bench = Bench::new();
    let curve = FanCurve::new(&[(40.0, 30.0), (80.0, 100.0)]).unwrap();
    let chosen = Some(Fan::Curve(curve));
    let mut engine = bench.engine();
    let told = engine.set_air(&AirNotes { chosen, ..AirNotes::default() }).unwrap().unwrap();
    assert!(told.contains("after each start"), "{told}");
    assert_eq!(bench.last_applied().fan, chosen);
    drop(engine);
    let mut again = bench.engine();
    assert_eq!(bench.last_applied().fan, chosen);
    assert_eq!(again.air().unwrap().notes.chosen, chosen);
    again.back_to_stock().unwrap();
    assert_eq!(bench.last_applied().fan, Some(Fan::Automatic));
    assert_eq!(again.air().unwrap().notes.chosen, None);
    let bad = AirNotes {
        wish: AirWish { reserve_k: 900.0, ..AirWish::default() },
        ..AirNotes::default()
    };
    assert!(again.set_air(&bad).unwrap_err().to_string().contains("0 to 20 K"));
}

#[test]
fn runs_tell_how_warm_the_card_becomes_at_other_speeds() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    let air = engine.air().unwrap();
    let heat = air.heat.unwrap();
    assert!(heat.runs >= 1 && air.drawn.is_some(), "{heat:?}");
    let at = |speed| heat.plateau(heat.loads[0].power, Percent(speed), Celsius(22.0)).value;
    assert!(at(40.0) > at(100.0) + 3.0);
    engine.carry_out(false, &mut ()).unwrap();
    assert!(engine.air().unwrap().heat.unwrap().runs >= heat.runs);
}

#[test]
fn a_scene_of_a_size_of_its_own_is_another_load_with_its_own_baseline() {
    let bench = Bench::new();
    let baseline = |scene: &str| {
        let plan = Plan { scene: scene.into(), ..short_plan() };
        let mut engine =
            Engine::begin(bench.card_that(|| ()), bench.ledger.clone(), plan, &[Stage::Baseline])
                .unwrap();
        let mut view = engine.carry_out(false, &mut ()).unwrap();
        while engine.climb().baseline_under(scene).is_none() {
            view = engine.carry_out(false, &mut ()).unwrap();
        }
        assert_eq!((view.scene.as_str(), last_verdict(&engine)), (scene, Verdict::Clean));
        assert_eq!(view.seen.wrong_frames, 0);
        (view.seen.frame_rate.unwrap(), engine.climb().baseline().unwrap().score)
    };
    let ((small, more), (large, less)) = (baseline("lantern@96x54"), baseline("lantern@192x108"));
    // 2.9 times the work for a frame, and a memory that keeps up less well.
    assert!(small > 2.5 * large && small < 4.0 * large, "{small} and {large}");
    assert!(less < more && less > 0.8 * more, "{less} and {more}");
}

#[test]
fn an_alarm_counts_spoilt_frames() {
    let bench = Bench::new();
    let mut engine = bench.engine_at_core();
    engine.set_machine(alarm(AlarmOn::Artifacts, 0.0, AlarmAct::Stop)).unwrap();
    // Far past the edge of this card: it will fail in one way or the other.
    for _ in 0..30 {
        engine.nudge(2);
        if engine.restart_wanted().is_some() {
            engine.restart_machine().unwrap();
        }
        let view = engine.carry_out(true, &mut ()).unwrap();
        if view.seen.wrong_frames > 0 {
            assert_eq!(last_verdict(&engine), Verdict::Artifacts);
            assert!(view.marks.iter().any(|mark| mark.kind == MarkKind::Alarm));
            return;
        }
    }
    panic!("no trial showed an artifact");
}

#[test]
fn what_is_not_taken_at_first_is_asked_once_more_and_told() {
    let bench = Bench::new();
    let trouble = Arc::clone(&bench.trouble);
    let asked = Arc::new(AtomicU64::new(0));
    let count = Arc::clone(&asked);
    let card = bench.card_that(move || {
        // Deaf at the first question, and only then.
        trouble.lock().unwrap().deaf = count.fetch_add(1, Ordering::Relaxed) == 0;
    });
    let mut engine = Engine::begin(card, bench.ledger.clone(), short_plan(), &STAGES).unwrap();
    let view = engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::Clean);
    assert!(
        view.notes.iter().any(|note| note == "Asked twice until taken: fan."),
        "{:?}",
        view.notes
    );
    bench.trouble.lock().unwrap().deaf = true;
    let bench = Bench::new();
    bench.trouble.lock().unwrap().deaf = true;
    let mut engine = bench.engine();
    let view = engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::NotTaken);
    assert!(view.notes.iter().any(|n| n.starts_with("fan: asked 100 %")), "{:?}", view.notes);
}

#[test]
fn a_warm_up_ends_when_the_plateau_is_in_sight_and_what_counts_is_warm() {
    let bench = Bench::new();
    let plan = Plan::from_toml("scene = \"lantern\"\n[baseline]\nruns = 2\nseconds = 120").unwrap();
    let card = bench.card_that(|| ());
    let mut engine = Engine::begin(card, bench.ledger.clone(), plan, &STAGES).unwrap();
    let first = engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::Clean);
    let warm_up = first.warm_up.value();
    assert!((120.0..800.0).contains(&warm_up), "warm after {warm_up} s, not at the 900 s allowed");
    assert!((first.at.value() - warm_up - 120.0).abs() < 0.2, "the measured part is whole");
    assert!(first.seen.warming.unwrap().value() < 3.0, "{:?}", first.seen.warming);
    let plateau = first.seen.plateau.unwrap().value();
    let reached = first.sample.core_temperature.unwrap().value();
    assert!((plateau - reached).abs() < 2.0, "{plateau} foreseen, {reached} reached");
    let second = engine.carry_out(false, &mut ()).unwrap();
    assert!(second.at.value() < 150.0, "a warm card needs no second warm-up");
    engine.idle(Seconds(600.0));
    let third = engine.carry_out(false, &mut ()).unwrap();
    let warm_up = third.warm_up.value();
    assert!(warm_up > 60.0, "one that has cooled down is warmed up again, not for {warm_up} s");
    let baseline = engine.climb().baseline().unwrap();
    assert!(baseline.noise_floor.is_some() && baseline.plateau.is_some());
}

#[test]
fn a_baseline_run_of_a_cold_card_does_not_count() {
    let bench = Bench::new();
    let plan = Plan::from_toml(
        "scene = \"lantern\"\n[baseline]\nruns = 1\nseconds = 120\nwarm_up_seconds = 35",
    )
    .unwrap();
    let card = bench.card_that(|| ());
    let mut engine = Engine::begin(card, bench.ledger.clone(), plan, &STAGES).unwrap();
    let view = engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::Void);
    let reason = &view.judgement.as_ref().unwrap().reason;
    assert!(reason.contains("still cold: it warmed by"), "{reason}");
    assert_eq!(engine.climb().baseline_runs(), 0);
}

#[test]
fn the_factory_state_is_what_the_card_held_at_first_sight() {
    let bench = Bench::new();
    let mut card = bench.card_that(|| ());
    // Somebody had lowered the power limit before Yard Step came.
    let found = Settings { power_limit: Some(Watt(180.0)), ..Bench::stock() };
    card.apply(&found).unwrap();
    let mut engine = Engine::begin(card, bench.ledger.clone(), short_plan(), &STAGES).unwrap();
    engine.carry_out(false, &mut ()).unwrap();
    engine.put_to_stock().unwrap();
    assert_eq!(bench.last_applied().power_limit, Some(Watt(180.0)));
    drop(engine);
    let again = bench.engine();
    assert_eq!(bench.ledger.factory(again.description()).unwrap(), Some(found), "copied once");
}

#[test]
fn the_graver_verdict_of_two_cards_in_step_counts() {
    let bench = Bench::new();
    let other = Bench::new();
    let mut engine = bench.engine();
    engine.hold_in_step(other.unit(6)).unwrap();
    engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::Clean);
    other.trouble.lock().unwrap().lost = Some(LoadLost::Died);
    let view = engine.carry_out(false, &mut ()).unwrap();
    assert_eq!(last_verdict(&engine), Verdict::LoadDied);
    let reason = &view.judgement.as_ref().unwrap().reason;
    assert!(reason.starts_with("standin:tarn-310#6, held in step: "), "{reason}");
    assert!(engine.hold_in_step(bench.card_that(|| ())).is_err(), "not with itself");
    other.trouble.lock().unwrap().lost = None;
    other.trouble.lock().unwrap().temperature = Some(Celsius(90.0));
    engine.set_machine(alarm(AlarmOn::CoreTemperature, 89.0, AlarmAct::PutBack)).unwrap();
    let view = engine.carry_out(false, &mut ()).unwrap();
    assert!(view.wants_a_look, "an alarm on either card counts");
    assert_eq!(other.last_applied(), Bench::stock());
}

#[test]
fn runs_that_prove_nothing_end_no_climb_before_the_user_is_asked() {
    let bench = Bench::new();
    // No score without a whole pass, and a baseline that wants one.
    let mut plan = short_plan();
    (plan.rules.most_warming_k, plan.rules.retries) = (0.5, 1);
    (plan.baseline.warm_up_seconds, plan.baseline.seconds) = (0.0, 60.0);
    let card = bench.card_that(|| ());
    let mut engine = Engine::begin(card, bench.ledger.clone(), plan, &[Stage::Baseline]).unwrap();
    let mut runs = 0;
    while engine.carry_out(false, &mut ()).is_ok() {
        runs += 1;
        assert!(runs < 9, "it warms up all the while");
    }
    let refused = engine.carry_out(false, &mut ());
    assert!(matches!(refused, Err(EngineError::NothingToDo(_))), "{refused:?}");
    let before = engine.climb().trials().len();
    engine.carry_out(true, &mut ()).expect("the user says to try again");
    assert_eq!(engine.climb().trials().len(), before + 1);
}
