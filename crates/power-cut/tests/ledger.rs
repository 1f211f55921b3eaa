//! A climb whose ledger lies on such a file system, and the power cut at two hundred instants of it.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::path::Path;
use std::sync::{Arc, Mutex};

use power_cut::{Log, Mounted, mount};
use yard_step_card::{Card, CardChoice, CardError, LoadLost, Mishaps, Ran, StandIn, Work};
use yard_step_core::{
    CardDescription, Percent, Plan, Sample, Seconds, Settings, Stage, TrialRecord,
};
use yard_step_engine::{CardLock, Engine, KeepWhat, KeepWish, KeptFan, Step, Unfinished};
use yard_step_ledger::{DataDir, Ledger};

/// Instants at which the power is cut.
const CUTS: usize = 200;

/// A stand-in that notes when settings reach it, in steps of the file system.
struct Watched {
    card: StandIn,
    tree: Arc<Mounted>,
    applied: Arc<Mutex<Vec<(usize, Settings)>>>,
}

impl Card for Watched {
    fn description(&self) -> &CardDescription {
        self.card.description()
    }
    fn apply(&mut self, settings: &Settings) -> Result<(), CardError> {
        self.applied.lock().unwrap().push((self.tree.steps(), *settings));
        self.card.apply(settings)
    }
    fn taken(&mut self) -> Result<Settings, CardError> {
        self.card.taken()
    }
    fn turn_fan(&mut self, speed: Percent) -> Result<(), CardError> {
        self.card.turn_fan(speed)
    }
    fn sample(&mut self) -> Result<Sample, CardError> {
        self.card.sample()
    }
    fn run(&mut self, span: Seconds, work: Work<'_>) -> Result<Ran, LoadLost> {
        self.card.run(span, work)
    }
    fn idle(&mut self, span: Seconds) {
        self.card.idle(span);
    }
    fn restart_machine(&mut self) -> bool {
        self.card.restart_machine()
    }
    fn boot(&mut self) -> String {
        self.card.boot()
    }
}

fn plan() -> Plan {
    Plan::from_toml(
        "scene = \"lantern\"\npolicy = \"fixed-step\"\n\
         [baseline]\nseconds = 20\nwarm_up_seconds = 5\n\
         [core]\nseconds = 20\nwarm_up_seconds = 5\n[rules]\nmost_warming_k = 80",
    )
    .unwrap()
}

fn stand_in() -> StandIn {
    let mut card = CardChoice::all()[0].open(5, 0).unwrap();
    card.set_mishaps(Mishaps::NONE);
    card
}

/// A trial that has its outcome.
struct Ended {
    /// When that was said.
    when: usize,
    record: TrialRecord,
    samples: usize,
}

/// What was done, and when it was said to be done.
struct Course {
    log: Log,
    /// When the climb had begun.
    begun: usize,
    /// Settings that reached the card.
    applied: Vec<(usize, Settings)>,
    /// Trials that had their outcome.
    ended: Vec<Ended>,
    /// When a profile was kept.
    kept: usize,
}

/// Where the lock of the card lies, and whose it is.
const LOCKS: &str = "locks";
const LOCKED: &str = "standin:tarn-310#1";

/// A climb of some trials, and a profile that is kept of it.
fn climbed() -> Course {
    let dir = tempfile::tempdir().unwrap();
    let tree = mount(dir.path())
        .unwrap_or_else(|error| panic!("mounting takes root and /dev/fuse: {error}"));
    let tree = Arc::new(tree);
    let applied = Arc::new(Mutex::new(Vec::new()));
    let ledger = Ledger::open(&DataDir::new(dir.path())).unwrap().ledger;
    let (lock, _) = CardLock::take(&dir.path().join(LOCKS), LOCKED).unwrap();
    let card = Watched { card: stand_in(), tree: Arc::clone(&tree), applied: Arc::clone(&applied) };
    let stages = [Stage::Baseline, Stage::Core];
    let mut engine = Engine::begin(Box::new(card), ledger.clone(), plan(), &stages).unwrap();
    let begun = tree.steps();
    let mut ended = Vec::new();
    // One of the trials takes the machine down; its restart gives it its outcome.
    for _ in 0..10 {
        let step = engine.step_unattended(&mut ()).unwrap();
        if !matches!(step, Step::WentDown { .. }) {
            let newest = engine.climb().trials().last().unwrap().clone();
            let row = ledger.row_of(engine.climb_id(), newest.number).unwrap().unwrap();
            let samples = ledger.samples(row).unwrap().len();
            ended.push(Ended { when: tree.steps(), record: newest, samples });
        }
    }
    let settings = ended[4].record.asked;
    let wish = KeepWish {
        name: "kept".into(),
        purpose: String::new(),
        margin: None,
        what: KeepWhat::Settings(Box::new(settings)),
        fan: KeptFan::AsSearched,
    };
    engine.keep(&wish).unwrap();
    let kept = tree.steps();
    engine.leave().unwrap();
    drop((engine, ledger, lock));
    let applied = applied.lock().unwrap().clone();
    let tree = Arc::into_inner(tree).unwrap_or_else(|| panic!("somebody holds the tree"));
    Course { log: tree.unmount().unwrap(), begun, applied, ended, kept }
}

/// What is left after a cut, looked at as the next start does.
fn check(course: &Course, cut: usize, dir: &Path) {
    course.log.left_after(cut, dir).unwrap();
    let opened = Ledger::open(&DataDir::new(dir)).unwrap();
    assert_eq!(opened.set_aside, None, "cut at {cut}: the ledger is sound");
    let ledger = opened.ledger;
    let climbs = ledger.climbs().unwrap();
    let Some(entry) = climbs.into_iter().next() else {
        assert!(cut < course.begun, "cut at {cut}: the climb is gone");
        return;
    };
    // Every trial that had ended, as it had ended.
    for Ended { record, samples, .. } in course.ended.iter().filter(|ended| ended.when <= cut) {
        let found = entry.trials.iter().find(|trial| trial.record.number == record.number);
        let found =
            found.unwrap_or_else(|| panic!("cut at {cut}: trial {} is gone", record.number));
        assert_eq!(found.record.verdict(), record.verdict(), "cut at {cut}");
        assert_eq!(found.record.score, record.score, "cut at {cut}");
        assert_eq!(found.record.asked, record.asked, "cut at {cut}");
        let left = ledger.samples(found.id).unwrap().len();
        assert_eq!(left, *samples, "cut at {cut}: samples of trial {}", record.number);
    }
    // Every setting that had reached the card had its intent; the way back needs none.
    let stock = Settings::stock(stand_in().description());
    let mut intents: Vec<Settings> = entry.trials.iter().map(|trial| trial.record.asked).collect();
    intents.extend(entry.unfinished.as_ref().map(|intent| intent.asked));
    for (when, settings) in &course.applied {
        let is_known = *settings == stock || intents.contains(settings);
        assert!(is_known || *when > cut, "cut at {cut}: {settings:?} had no intent on disk");
    }
    let profiles = ledger.profiles(stand_in().description()).unwrap();
    assert!(profiles.len() <= 1 && (profiles.len() == 1 || cut < course.kept), "cut at {cut}");
    // Whatever is left of the lock, the card can be had again.
    CardLock::take(&dir.join(LOCKS), LOCKED).unwrap();
    // The next start takes the climb up, and goes on.
    let card = Box::new(stand_in());
    let (engine, _) = Engine::resume(card, ledger, entry, Unfinished::Void).unwrap();
    assert!(!engine.is_soaking());
}

#[test]
fn after_a_cut_at_any_instant_what_was_said_to_be_done_is_done() {
    let course = climbed();
    let steps = course.log.len();
    assert!(course.applied.len() > 8 && steps > CUTS, "{steps} steps");
    // Evenly over all of them, and just before and after what was said to be done.
    let even = (0..CUTS).map(|at| at * steps / CUTS);
    let near = course.ended.iter().flat_map(|ended| [ended.when - 1, ended.when]);
    for cut in even.chain(near).chain([steps]) {
        let dir = tempfile::tempdir().unwrap();
        check(&course, cut, dir.path());
    }
}
