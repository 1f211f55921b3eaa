//! Programs that a trial takes whole: they run to their own end, as often as there is time for.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::path::Path;
use std::sync::{Arc, Mutex};

use common::{Course, Watched};
use rstest::rstest;
use tempfile::TempDir;
use yard_step_card::CardChoice;
use yard_step_core::{
    BaselinePlan, Ending, Plan, Rules, Seconds, Stage, Told, TrialRecord, Verdict,
};
use yard_step_engine::load::{FigureRule, OutsideSpec};
use yard_step_engine::{Engine, Loads, Rig};
use yard_step_ledger::{DataDir, Ledger};

/// The script writes how often it was run into the file `runs` of its directory, as `$n`.
fn spec(dir: &Path, script: &str) -> OutsideSpec {
    let count = "n=$(($(cat runs 2>/dev/null || echo 0) + 1)); echo $n > runs; ";
    let figure =
        |name: &str| FigureRule { name: name.into(), pattern: format!("^{name}: ([0-9.]+)") };
    let text = format!(
        "command = \"sh\"\nargs = [\"-c\", '''cd {} || exit; {count}{script}''']\nwhole = true",
        dir.display()
    );
    OutsideSpec {
        name: "smithy".into(),
        figure: ["hammer", "anvil", "fps"].map(figure).to_vec(),
        ..toml::from_str(&text).unwrap()
    }
}

struct Bench {
    dir: TempDir,
}

impl Bench {
    fn new() -> Self {
        Self { dir: tempfile::tempdir().unwrap() }
    }

    /// The only baseline run of a climb under a program: 20 s, and no warm-up.
    fn ran(&self, script: &str) -> TrialRecord {
        let spec = spec(self.dir.path(), script);
        let plan = Plan {
            scene: spec.name.clone(),
            baseline: BaselinePlan { runs: 1, seconds: 20.0, warm_up_seconds: 0.0 },
            rules: Rules { most_warming_k: 50.0, ..Rules::default() },
            ..Plan::default()
        };
        let ledger = Ledger::open(&DataDir::new(self.dir.path())).unwrap().ledger;
        let course = Arc::new(Mutex::new(Course::default()));
        let card = Watched::new(&CardChoice::all()[0], &ledger, &course);
        let rig = Rig { loads: loads(spec), ..Rig::from(card) };
        let mut engine = Engine::begin(rig, ledger.clone(), plan, &[Stage::Baseline]).unwrap();
        engine.carry_out(false, &mut ()).unwrap();
        let record = engine.climb().trials()[0].clone();
        let again = ledger.climb(engine.climb_id()).unwrap().lay_out().unwrap();
        assert_eq!(again.trials()[0], record, "what was told is in the ledger");
        record
    }

    /// How a program ends, and what it told.
    fn ends(&self, spec: OutsideSpec) -> (Ending, Told) {
        spec.check().unwrap();
        let name = spec.name.clone();
        let mut card = CardChoice::all()[0].open(5, 0).unwrap();
        let mut load = loads(spec).choose(&name, &card).unwrap();
        load.begin(&mut card).unwrap();
        loop {
            if let Err(ending) = load.work(&mut card, Seconds(0.1), &mut Vec::new()) {
                return (ending, load.told());
            }
        }
    }

    fn runs(&self) -> u32 {
        let text = std::fs::read_to_string(self.dir.path().join("runs")).unwrap();
        text.trim().parse().unwrap()
    }
}

fn loads(spec: OutsideSpec) -> Loads {
    Loads { launcher: None, outside: vec![spec] }
}

#[test]
fn passes_follow_each_other_until_the_time_is_over_and_the_last_is_not_cut_off() {
    let bench = Bench::new();
    let script = "sleep 4.5; echo hammer: ${n}00; echo anvil: 48; echo fps: 6$n";
    let record = bench.ran(script);
    assert_eq!(record.verdict(), Verdict::Clean, "{}", record.reason);
    assert_eq!((bench.runs(), record.seconds > Seconds(22.0)), (5, true), "{:?}", record.seconds);
    let told = &record.seen.told;
    assert_eq!((told.sub_score("hammer"), told.sub_score("anvil")), (Some(300.0), Some(48.0)));
    let score = record.score.unwrap();
    assert!((score - 120.0).abs() < 1e-6, "the geometric mean of 300 and 48: {score}");
    assert_eq!(record.seen.frame_rate, Some(63.0), "as the program says");
}

#[test]
fn a_later_pass_that_fails_ends_the_trial() {
    let bench = Bench::new();
    let record = bench.ran("[ $n = 3 ] && exit 3; sleep 0.3; echo hammer: 7");
    assert_eq!((record.verdict(), bench.runs()), (Verdict::LoadDied, 3), "{}", record.reason);
    assert!(record.reason.contains("code 3"), "{}", record.reason);
}

#[test]
fn figures_are_read_from_the_file_it_writes() {
    let bench = Bench::new();
    let path = bench.dir.path().join("results.txt");
    let script = "printf 'hammer: 7\\nfps: 61\\n' > results.txt";
    let wanted = OutsideSpec { results: Some(path), ..spec(bench.dir.path(), script) };
    let (ending, told) = bench.ends(wanted);
    assert_eq!(ending, Ending::Finished);
    assert_eq!((told.sub_score("hammer"), told.average_fps), (Some(7.0), Some(61.0)));
}

#[rstest]
#[case::none("true", "cannot be read")]
#[case::of_an_earlier_run("touch -d 2001-01-01 results.txt", "are of an earlier run")]
#[case::no_file("mkdir -p results.txt", "are not a file")]
#[case::a_pipe("mkfifo results.txt", "are not a file")]
#[case::too_large("head -c 5000000 /dev/zero > results.txt", "are more than 4 MiB")]
fn results_that_cannot_be_had_are_a_failure_of_the_load_and_say_why(
    #[case] script: &str,
    #[case] told: &str,
) {
    let bench = Bench::new();
    let path = bench.dir.path().join("results.txt");
    let wanted = OutsideSpec { results: Some(path), ..spec(bench.dir.path(), script) };
    let (Ending::LoadDied(how), _) = bench.ends(wanted) else { panic!() };
    assert!(how.contains(told), "{how}");
}

#[test]
fn a_load_that_goes_on_forgets_what_it_told_under_other_settings() {
    let bench = Bench::new();
    let mut card = CardChoice::all()[0].open(5, 0).unwrap();
    let script = "echo hammer: 7; sleep 30";
    let mut load = loads(spec(bench.dir.path(), script)).choose("smithy", &card).unwrap();
    load.begin(&mut card).unwrap();
    while load.told().is_empty() {
        load.work(&mut card, Seconds(0.1), &mut Vec::new()).unwrap();
    }
    load.forget();
    assert!(load.told().is_empty());
}
