//! What the program provokes, it survives: processes killed at random, a machine that goes down, a
//! card that vanishes, loads that misbehave, a ledger that another process holds.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::collections::BTreeMap;
use std::fs;
use std::io::{BufRead, BufReader, Read};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdout, Command, Stdio};
use std::thread::{self, sleep};
use std::time::{Duration, Instant};

use common::{
    PROGRAM, card_on_machine_of, lock_on_machine_of, machine_of, program_on_machine_of, stderr,
    stdout, text_of, until, yard_step,
};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use rstest::rstest;
use rusqlite::{Connection, OpenFlags};
use tempfile::TempDir;
use yard_step_card::slot::{Power, SlotAddress, SlotCard};
use yard_step_card::{Card, CardAddress, FaultInjection, connect};
use yard_step_core::{Ending, MhzOffset, Seconds, Settings};
use yard_step_engine::Loads;
use yard_step_engine::load::Load;

const CARD: &str = "standin:tarn-310#6";
/// Far longer than anything here takes.
const PATIENCE: Duration = Duration::from_secs(60);

/// A plan of many trials that are over in no time.
const BRIEF: &str = "[baseline]\nruns = 1\nseconds = 30\nwarm_up_seconds = 0\n\
    [core]\ncoarse_step_mhz = 15\nseconds = 60\nwarm_up_seconds = 0\n\
    confirm_seconds = 120\nsettle_seconds = 60\n[rules]\nmost_warming_k = 50\n";

/// The same on a card that holds a fan speed and no curve: the search runs under a curve, which Yard Step drives.
const DRIVEN: &str = "[baseline]\nruns = 1\nseconds = 30\nwarm_up_seconds = 0\n\
    [core]\ncoarse_step_mhz = 15\nseconds = 60\nwarm_up_seconds = 0\n\
    confirm_seconds = 120\nsettle_seconds = 60\n[rules]\nmost_warming_k = 50\n\
    [hold]\nfan_curve = [[30, 35], [50, 60], [75, 100]]\n";
const SPEED_CARD: &str = "standin:bracken-208#4";

/// A plan whose first trial at another clock than stock goes on for long.
const LONG: &str = "[baseline]\nruns = 1\nseconds = 30\nwarm_up_seconds = 0\n\
    [core]\ncoarse_step_mhz = 60\nseconds = 86400\nconfirm_seconds = 86400\nwarm_up_seconds = 0\n\
    [rules]\nmost_warming_k = 50\n";

struct Place {
    dir: TempDir,
    card: &'static str,
}

impl Place {
    fn new(plan: &str) -> Self {
        Self::on(CARD, plan)
    }

    fn on(card: &'static str, plan: &str) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let plan = format!("scene = \"lantern\"\npolicy = \"fixed-step\"\n{plan}");
        fs::write(dir.path().join("plan.toml"), plan).unwrap();
        Self { dir, card }
    }

    fn data(&self) -> PathBuf {
        self.dir.path().join("data")
    }

    fn command(&self, more: &[&str]) -> Command {
        self.command_in(&self.data(), more)
    }

    /// On the machine of this place, but with records kept in another directory.
    fn command_in(&self, data: &Path, more: &[&str]) -> Command {
        let mut command = program_on_machine_of(&text_of(&self.data()));
        let (kind, seed) = self.card.split_once('#').unwrap();
        command
            .env("YARD_STEP_INJECT_FAULTS", "1")
            .args(["climb", "--card", kind, "--seed", seed])
            .args(["--stages", "baseline,core", "--plan"])
            .arg(self.dir.path().join("plan.toml"))
            .arg("--data-dir")
            .arg(data)
            .args(more)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        command
    }

    fn start(&self, more: &[&str]) -> Running {
        let mut child = self.command(more).spawn().unwrap();
        let lines = BufReader::new(child.stdout.take().unwrap());
        Running { child, lines }
    }

    /// The card beside the program, once its machine is on.
    fn look(&self) -> Option<SlotCard> {
        card_on_machine_of(&text_of(&self.data()), self.card)
    }

    fn card(&self) -> SlotCard {
        until("the card", || self.look())
    }

    /// Ended trials by climb and number, as they stand in the ledger.
    fn ended(&self) -> BTreeMap<(i64, i64), String> {
        let path = self.data().join("ledger.sqlite");
        let Ok(ledger) = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY) else {
            return BTreeMap::new();
        };
        ledger.busy_timeout(PATIENCE).unwrap();
        let Ok(mut select) = ledger.prepare(
            "SELECT climb, number, verdict || ' ' || reason || ' ' || seconds || ' ' || seen
             FROM trial WHERE verdict IS NOT NULL",
        ) else {
            return BTreeMap::new();
        };
        select
            .query_map([], |row| Ok(((row.get(0)?, row.get(1)?), row.get(2)?)))
            .unwrap()
            .collect::<Result<_, _>>()
            .unwrap()
    }

    /// Whether a trial is under way, as the ledger has it.
    fn has_begun(&self, number: i64) -> bool {
        let path = self.data().join("ledger.sqlite");
        let Ok(ledger) = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY) else {
            return false;
        };
        let open = "SELECT count(*) FROM trial WHERE number = ?1 AND verdict IS NULL";
        ledger.query_row(open, [number], |row| row.get(0)).is_ok_and(|found: i64| found == 1)
    }

    /// Nothing in the ledger is half there.
    fn check_ledger(&self, before: &BTreeMap<(i64, i64), String>) {
        let now = self.ended();
        for (key, row) in before {
            assert_eq!(now.get(key), Some(row), "an ended trial was lost or changed");
        }
        let path = self.data().join("ledger.sqlite");
        if !path.exists() {
            return;
        }
        let ledger = Connection::open(path).unwrap();
        ledger.busy_timeout(PATIENCE).unwrap();
        let sound: String =
            ledger.pragma_query_value(None, "integrity_check", |row| row.get(0)).unwrap();
        assert_eq!(sound, "ok");
        let has_trials: i64 = ledger
            .query_row("SELECT count(*) FROM sqlite_schema WHERE name = 'spoilt'", [], |r| r.get(0))
            .unwrap();
        if has_trials == 1 {
            let half: i64 = ledger
                .query_row(
                    "SELECT count(*) FROM trial
                     WHERE (verdict IS NULL) <> (seen IS NULL) OR (seen IS NULL) <> (faults IS NULL)",
                    [],
                    |row| row.get(0),
                )
                .unwrap();
            assert_eq!(half, 0, "a trial is half there");
        }
    }
}

struct Running {
    child: Child,
    lines: BufReader<ChildStdout>,
}

impl Running {
    /// Reads on until a line has the text; returns the line.
    fn wait_for(&mut self, text: &str) -> String {
        let mut seen = String::new();
        loop {
            let mut line = String::new();
            assert!(self.lines.read_line(&mut line).unwrap() > 0, "never said {text}:\n{seen}");
            if line.contains(text) {
                return line;
            }
            seen.push_str(&line);
        }
    }

    /// The process that the program has started for a purpose.
    fn process(&self, purpose: &str) -> Option<Pid> {
        children(self.child.id()).into_iter().find(|(_, name)| name == purpose).map(|(id, _)| id)
    }

    /// The same, once there is one; none if the program ends without, or is meant itself.
    fn wait_for_process(&mut self, purpose: &str) -> Option<Pid> {
        if purpose == "application" {
            return None;
        }
        until("a process, or the end", || {
            let ended = self.child.try_wait().unwrap().is_some();
            let found = self.process(purpose);
            (ended || found.is_some()).then_some(found)
        })
    }

    /// The process of the load, once the card draws its frames.
    fn load_at_work(&self, place: &Place) -> Pid {
        let mut card = place.card();
        until("frames", || card.sample().ok()?.frame_rate.filter(|rate| *rate > 0.0));
        until("a load", || self.process("load"))
    }

    fn kill(&mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The children of a process that are of this program, with the command they carry out.
fn children(parent: u32) -> Vec<(Pid, String)> {
    let mut found = Vec::new();
    for entry in fs::read_dir("/proc").unwrap().flatten() {
        let Ok(id) = entry.file_name().to_string_lossy().parse::<i32>() else { continue };
        let Ok(stat) = fs::read_to_string(entry.path().join("stat")) else { continue };
        let after_name = stat.rsplit(')').next().unwrap_or_default();
        let of: Option<u32> = after_name.split_whitespace().nth(1).and_then(|p| p.parse().ok());
        let Ok(line) = fs::read(entry.path().join("cmdline")) else { continue };
        let command = line.split(|byte| *byte == 0).nth(1).unwrap_or_default();
        if of == Some(parent) {
            found.push((Pid::from_raw(id), String::from_utf8_lossy(command).into_owned()));
        }
    }
    found
}

/// Numbers that look random and are the same in every run of a test.
struct Numbers(u64);

impl Numbers {
    /// SplitMix64 (Steele, Lea and Flood, 2014).
    fn below(&mut self, most: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (z ^ (z >> 31)) % most
    }
}

fn stock() -> Settings {
    let name: CardAddress = CARD.parse().unwrap();
    Settings::stock(connect(&name).unwrap().description())
}

/// Waits until the card is at stock; how long that took. None if its machine is off.
fn back_at_stock(card: &mut SlotCard) -> Option<Duration> {
    let (began, stock) = (Instant::now(), Settings::stock(card.description()));
    loop {
        let held = card.taken().ok()?;
        if held == stock {
            return Some(began.elapsed());
        }
        assert!(began.elapsed() < PATIENCE, "the card was not put back: {held:?}");
        sleep(Duration::from_millis(1));
    }
}

/// What came of a storm.
#[derive(Debug, Default)]
struct Weathered {
    applications: u64,
    loads: u64,
    guards: u64,
    longest_way_back: Duration,
}

/// One storm: so many kills in one place, each of the application, its load or its guard.
fn storm(seed: u64, kills: u64) -> Weathered {
    let place = match seed % 2 {
        0 => Place::new(BRIEF),
        _ => Place::on(SPEED_CARD, DRIVEN),
    };
    let mut numbers = Numbers(seed);
    let mut weathered = Weathered::default();
    let mut running = place.start(&[]);
    let mut killed = Vec::new();
    while weathered.applications + weathered.loads + weathered.guards < kills {
        sleep(Duration::from_millis(numbers.below(120)));
        let purpose = ["application", "load", "guard"][numbers.below(3) as usize];
        let target = running.wait_for_process(purpose);
        let before = place.ended();
        if let Some(status) = running.child.try_wait().unwrap() {
            // A climb that was through, or whose load was killed too often.
            assert!(matches!(status.code(), Some(0 | 1)), "{status:?}");
            place.check_ledger(&before);
            running = place.start(&["--fresh"]);
            continue;
        }
        if let Some(process) = target {
            // It may have ended by itself just now.
            let _ = kill(process, Signal::SIGKILL);
            killed.push(process);
            *if purpose == "load" { &mut weathered.loads } else { &mut weathered.guards } += 1;
            continue;
        }
        let mut card = place.look();
        // One that was killed may still be listed.
        let guard = running.process("guard");
        let is_guarded = guard.is_some_and(|guard| !killed.contains(&guard));
        running.kill();
        // Without a guard, which was killed a moment before, the next start puts it back.
        let way_back = card.as_mut().filter(|_| is_guarded).and_then(back_at_stock);
        let longest = weathered.longest_way_back.max(way_back.unwrap_or_default());
        weathered.longest_way_back = longest;
        weathered.applications += 1;
        place.check_ledger(&before);
        running = place.start(&[]);
    }
    running.kill();
    place.check_ledger(&BTreeMap::new());
    weathered
}

/// `YARD_STEP_STORM` is the number of kills, 200 if it is not set.
#[test]
fn whatever_is_killed_no_ended_trial_is_lost_and_the_card_goes_back() {
    let kills = std::env::var("YARD_STEP_STORM").map_or(200, |text| text.parse().unwrap());
    let storms: Vec<_> = (0..4).map(|seed| thread::spawn(move || storm(seed, kills / 4))).collect();
    for storm in storms {
        let weathered = storm.join().unwrap();
        println!("{weathered:?}");
        assert!(weathered.loads > 0 && weathered.guards > 0 && weathered.applications > 0);
    }
}

/// The longest way back is printed: `cargo test -p yard-step --test survives twenty -- --nocapture`.
#[test]
fn the_guard_puts_the_card_back_after_every_one_of_twenty_kills() {
    let place = Place::new(LONG);
    let mut times = Vec::new();
    for _ in 0..20 {
        // What a kill ended says nothing against the settings.
        let mut running = place.start(&["--fresh", "--unfinished", "void"]);
        let mut card = place.card();
        until("a trial off stock", || {
            let held = card.taken().ok()?;
            (held.core_offset? > MhzOffset::STOCK).then_some(())
        });
        // Killed while the load runs, too.
        until("a load", || running.process("load"));
        running.kill();
        times.push(back_at_stock(&mut card).expect("the machine is on"));
        let log = || fs::read_to_string(place.data().join("guard.log")).ok();
        until("the log", || log().filter(|log| log.lines().count() == times.len()));
    }
    let longest = times.iter().max().unwrap();
    println!("longest way back of {}: {longest:?}", times.len());
    let log = fs::read_to_string(place.data().join("guard.log")).unwrap();
    assert!(log.lines().all(|line| line.ends_with("the card was put back")), "{log}");
}

#[test]
fn a_guard_goes_on_until_it_sees_the_card_back() {
    let place = Place::new(LONG);
    let mut running = place.start(&[]);
    let mut card = place.card();
    until("a trial off stock", || {
        (card.taken().ok()?.core_offset? > MhzOffset::STOCK).then_some(())
    });
    // The card answers every question but takes nothing: whoever only asks sees no failure.
    card.inject_fault(FaultInjection::ApplyIgnored).unwrap();
    running.kill();
    sleep(Duration::from_secs(1));
    assert_ne!(card.taken().unwrap(), stock());
    let log = place.data().join("guard.log");
    assert!(!log.exists(), "nothing is called done: {}", fs::read_to_string(log).unwrap());
    card.inject_fault(FaultInjection::None).unwrap();
    back_at_stock(&mut card).expect("the machine is on");
    let told = until("the log", || fs::read_to_string(&log).ok().filter(|log| log.contains('\n')));
    assert!(told.ends_with("the card was put back\n"), "{told}");
}

#[rstest]
#[case::interrupted(Signal::SIGINT)]
#[case::terminated(Signal::SIGTERM)]
fn an_engine_that_cannot_put_the_card_back_hands_it_to_the_guard(#[case] signal: Signal) {
    let place = Place::new(LONG);
    let mut running = place.start(&["--pace", "60"]);
    let mut card = place.card();
    until("a trial off stock", || {
        (card.taken().ok()?.core_offset? > MhzOffset::STOCK).then_some(())
    });
    running.load_at_work(&place);
    card.inject_fault(FaultInjection::ApplyIgnored).unwrap();
    kill(Pid::from_raw(running.child.id() as i32), signal).unwrap();
    let output = running.child.wait().unwrap();
    assert_eq!(output.code(), Some(130));
    let mut told = String::new();
    running.child.stderr.take().unwrap().read_to_string(&mut told).unwrap();
    assert!(told.contains("was not put back: asked 5 times"), "{told}");
    // The lock is free, and the guard has it in hand.
    card.inject_fault(FaultInjection::None).unwrap();
    back_at_stock(&mut card).expect("the machine is on");
    let log = place.data().join("guard.log");
    until("the log", || fs::read_to_string(&log).ok().filter(|log| log.contains("was put back")));
}

#[test]
fn a_card_has_one_controller_whatever_the_data_directory() {
    let place = Place::new(LONG);
    let running = place.start(&["--pace", "60"]);
    running.load_at_work(&place);
    let output = place.command_in(&place.dir.path().join("elsewhere"), &[]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let told = stderr(&output);
    assert!(told.contains(&format!("works on {CARD}: process {}", running.child.id())), "{told}");
    assert!(!told.contains("--data-dir"), "no way around it is offered: {told}");
}

#[test]
fn no_other_user_reaches_a_card() {
    let place = Place::new(LONG);
    let running = place.start(&["--pace", "60"]);
    running.load_at_work(&place);
    let machine = machine_of(&text_of(&place.data())).join("yard-step");
    let mode = fs::metadata(&machine).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o700);
    let abstract_sockets = fs::read_to_string("/proc/net/unix").unwrap();
    assert!(!abstract_sockets.contains("@yard-step"), "{abstract_sockets}");
}

#[test]
fn the_next_start_says_whose_lock_it_took_over_and_what_became_of_the_trial() {
    let place = Place::new(LONG);
    let mut running = place.start(&[]);
    until("the second trial, under way", || place.has_begun(2).then_some(()));
    let owner = running.child.id();
    running.kill();
    let mut again = place.start(&[]);
    let told = again.wait_for("ended without giving it back");
    assert!(told.starts_with(&format!("Process {owner} took the card {CARD} ")), "{told}");
    again.wait_for("has no outcome: the machine went down, or Yard Step was ended.");
    again.wait_for("climb 1, stages");
}

#[test]
fn a_guard_that_was_killed_is_replaced_and_that_is_said() {
    let place = Place::new(BRIEF);
    let mut running = place.start(&["--pace", "60"]);
    let guard = until("the guard", || running.process("guard"));
    running.load_at_work(&place);
    kill(guard, Signal::SIGKILL).unwrap();
    running.wait_for("The guard was gone; another one took its place.");
}

#[test]
fn a_load_that_stands_still_is_found_and_ended() {
    let place = Place::new(LONG);
    let mut running = place.start(&["--pace", "1"]);
    let load = running.load_at_work(&place);
    kill(load, Signal::SIGSTOP).unwrap();
    let line = running.wait_for("trial  1");
    assert!(line.contains("load died") && line.contains("hung"), "{line}");
    until("its end", || running.process("load").is_none_or(|now| now != load).then_some(()));
}

#[rstest]
#[case::killed(Signal::SIGKILL, "was ended by signal 9 (SIGKILL)")]
#[case::aborted(Signal::SIGABRT, "was ended by signal 6 (SIGABRT)")]
fn a_load_that_ends_by_a_signal_ends_only_its_trial(#[case] signal: Signal, #[case] told: &str) {
    let place = Place::new(LONG);
    let mut running = place.start(&["--pace", "10"]);
    let load = running.load_at_work(&place);
    kill(load, signal).unwrap();
    let line = running.wait_for("trial  1");
    assert!(line.contains("load died") && line.contains(told), "{line}");
    until("the load of the next trial", || running.process("load").filter(|next| *next != load));
}

/// A load of the user's own that is a line of shell.
fn outside(place: &Place, protocol: bool, script: &str) -> String {
    let path = place.dir.path().join("config.toml");
    let script = script.replace('\\', "\\\\").replace('"', "\\\"");
    let text = format!(
        "[load.mine]\ncommand = \"sh\"\nargs = [\"-c\", \"{script}\"]\nprotocol = {protocol}\n\
         score = \"fps ([0-9.]+)\"\n\
         [[load.mine.failure]]\npattern = \"mismatch\"\nverdict = \"artifacts\"\n"
    );
    fs::write(&path, text).unwrap();
    text_of(&path)
}

const HELLO: &str = r#"echo '{"type":"hello","protocol":1,"name":"mine"}'; "#;

#[rstest]
#[case::non_zero(false, "sleep 0.3; exit 3", "load died", "ended with exit code 3")]
#[case::abort(false, "sleep 0.3; kill -ABRT $$", "load died", "signal 6 (SIGABRT)")]
#[case::says_so(
    false,
    "echo frame 7 mismatch; sleep 9",
    "artifacts",
    "mine said: frame 7 mismatch."
)]
#[case::garbage(true, "HELLO sleep 0.2; echo what a day; sleep 9", "load died", "was ended")]
#[case::bytes(true, "HELLO printf '\\377\\376\\n'; sleep 9", "load died", "was ended")]
#[case::silence(true, "HELLO sleep 30", "load died", "hung, without a sign of life for 2 s")]
#[case::wrong_pixels(
    true,
    r#"HELLO for i in 1 2 3; do echo '{"type":"frame","number":'$i',"wrong_pixels":4}'; done; sleep 1; echo '{"type":"heartbeat","frames":3}'; sleep 1; echo '{"type":"heartbeat","frames":3}'; sleep 1; echo '{"type":"heartbeat","frames":3}'; sleep 1; echo '{"type":"heartbeat","frames":3}'; sleep 1; echo '{"type":"heartbeat","frames":3}'; sleep 5"#,
    "artifacts",
    "12 wrong pixels in 3 of 3 frames"
)]
#[case::lost(
    true,
    r#"HELLO echo '{"type":"bye","reason":"device_lost"}'; exit 1"#,
    "load died",
    "lost its device"
)]
#[case::well(false, "echo fps 61.5; sleep 0.5", "clean", "score 61.5")]
fn whatever_a_load_of_ones_own_does_ends_its_trial_with_the_right_verdict(
    #[case] protocol: bool,
    #[case] script: &str,
    #[case] verdict: &str,
    #[case] told: &str,
) {
    let place = Place::new(LONG);
    let config = outside(&place, protocol, &script.replace("HELLO ", HELLO));
    let mut running = place.start(&["--load", "mine", "--config", &config]);
    let line = running.wait_for("trial  1");
    assert!(line.contains(verdict) && line.contains(told), "{line}");
}

#[rstest]
#[case::says_nothing("sleep 30", "did not say hello within 5 s")]
#[case::is_not_there("", "cannot be started")]
fn a_load_that_cannot_begin_is_told_and_the_card_goes_back(
    #[case] script: &str,
    #[case] told: &str,
) {
    let place = Place::new(LONG);
    let config = outside(&place, true, script);
    if script.is_empty() {
        let text = fs::read_to_string(&config).unwrap().replace("\"sh\"", "\"/no/such/load\"");
        fs::write(&config, text).unwrap();
    }
    let output = place.command(&["--load", "mine", "--config", &config]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(
        stderr(&output).contains("trial 1: ") && stderr(&output).contains(told),
        "{}",
        stderr(&output)
    );
    let recorded = &place.ended()[&(1, 1)];
    assert!(recorded.starts_with("void Its load could not begin"), "{recorded}");
}

#[rstest]
#[case::speaks_the_protocol("tide", "frames over")]
#[case::says_what_it_likes("quayside", "score 61")]
fn the_loads_of_the_documentation_run(#[case] name: &str, #[case] told: &str) {
    // Just as long as such a trial must be.
    let place = Place::new(&BRIEF.replace("seconds = 30", "seconds = 20"));
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).unwrap();
    let config = text_of(&root.join("docs/examples/config.toml"));
    let mut command = place.command(&["--load", name, "--config", &config]);
    let mut child = command.current_dir(root).spawn().unwrap();
    let lines = BufReader::new(child.stdout.take().unwrap());
    let line = Running { child, lines }.wait_for("trial  1");
    assert!(line.contains("clean") && line.contains(told), "{line}");
}

#[test]
fn a_load_goes_with_all_it_has_started_when_the_application_is_killed() {
    let place = Place::new(LONG);
    let config = outside(&place, false, "sleep 4711.25 & sleep 4711.25");
    let mut running = place.start(&["--load", "mine", "--config", &config]);
    let sleepers = || {
        let found = Command::new("pgrep").args(["-f", "^sleep 4711.25"]).output().unwrap();
        stdout(&found).lines().count()
    };
    until("both of them", || (sleepers() == 2).then_some(()));
    running.kill();
    until("the end of both", || (sleepers() == 0).then_some(()));
}

#[rstest]
#[case::down(
    FaultInjection::MachineDown,
    "The machine went down in trial 1.",
    "machine down. It has no outcome"
)]
#[case::gone(FaultInjection::Vanishes, "trial  1", "The machine was restarted.")]
fn a_machine_that_goes_down_is_restarted_and_the_climb_taken_up_as_after_any_start(
    #[case] fault: FaultInjection,
    #[case] first: &str,
    #[case] then: &str,
) {
    let place = Place::new(LONG);
    let mut running = place.start(&["--pace", "10"]);
    running.load_at_work(&place);
    place.card().inject_fault(fault).unwrap();
    running.wait_for(first);
    running.wait_for(then);
    until("the load of the next trial", || running.process("load"));
}

#[test]
fn a_card_that_does_not_answer_is_told_and_cured_by_a_restart() {
    let place = Place::new(LONG);
    let mut running = place.start(&["--pace", "60"]);
    running.load_at_work(&place);
    place.card().inject_fault(FaultInjection::ApplyHangs).unwrap();
    let line = running.wait_for("did not answer within 2 s when it was asked to hold settings");
    assert!(line.contains("machine down"), "{line}");
    running.wait_for("The machine was restarted.");
}

#[test]
fn a_ledger_that_another_process_holds_is_told_and_nothing_is_lost() {
    let place = Place::new(BRIEF);
    let mut running = place.start(&["--pace", "10"]);
    running.wait_for("trial  1");
    let before = place.ended();
    let mut card = place.card();
    let other = Connection::open(place.data().join("ledger.sqlite")).unwrap();
    other.busy_timeout(PATIENCE).unwrap();
    other.execute_batch("BEGIN EXCLUSIVE").unwrap();
    let output = running.child.wait().unwrap();
    assert_eq!(output.code(), Some(1));
    back_at_stock(&mut card);
    other.execute_batch("COMMIT").unwrap();
    drop(other);
    place.check_ledger(&before);
    let mut again = place.start(&[]);
    again.wait_for("Climb 1 on this card is not finished");
}

#[test]
fn a_disk_that_is_full_stops_the_climb_and_it_goes_on_once_there_is_room() {
    let place = Place::new(BRIEF);
    assert_eq!(place.start(&["--stages", "baseline"]).child.wait().unwrap().code(), Some(0));
    let before = place.ended();
    // No file may grow beyond 160 KiB: writing fails, as on a disk without room.
    let command = place.command(&["--fresh"]);
    let arguments: Vec<String> =
        command.get_args().map(|word| format!("'{}'", word.to_string_lossy())).collect();
    let script = format!("trap '' XFSZ; ulimit -f 160; exec {PROGRAM} {}", arguments.join(" "));
    let machine = machine_of(&text_of(&place.data()));
    let output = Command::new("bash")
        .args(["-c", &script])
        .env("XDG_RUNTIME_DIR", machine)
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(1), "{}", stdout(&output));
    let told = stderr(&output);
    assert!(told.contains("Free space on its disk"), "{told}");
    place.check_ledger(&before);
    // The trial it ended in proves nothing: it did not take the machine down.
    let again = place.command(&[]).output().unwrap();
    assert!(again.status.success(), "{}", stderr(&again));
    let downed = place.ended().into_values().filter(|row| row.starts_with("machine down"));
    assert_eq!(downed.count(), 0, "{}", stdout(&again));
}

#[test]
fn with_the_clock_of_the_machine_set_back_locks_and_ledgers_are_as_before() {
    let place = Place::new(BRIEF);
    assert!(place.command(&["--stages", "baseline"]).output().unwrap().status.success());
    // What was written is from a time that is yet to come.
    let later = 99_999_999_999_i64;
    let ledger = Connection::open(place.data().join("ledger.sqlite")).unwrap();
    for column in ["climb SET began", "trial SET began", "card SET first_seen"] {
        ledger.execute(&format!("UPDATE {column} = ?"), [later]).unwrap();
    }
    drop(ledger);
    let lock = lock_on_machine_of(&text_of(&place.data()), CARD);
    fs::write(lock, format!("{{\"process\":4711,\"since\":{later}}}")).unwrap();
    let output = place.command(&["--stages", "baseline"]).output().unwrap();
    assert!(output.status.success(), "{}", stderr(&output));
    let told = stdout(&output);
    assert!(told.contains(&format!("Process 4711 took the card {CARD} and ended")), "{told}");
    assert!(told.contains("climb 2"), "{told}");
}

#[test]
fn a_process_that_hosts_or_guards_does_nothing_by_itself() {
    let dir = tempfile::tempdir().unwrap();
    let text = |path: &Path| text_of(path);
    let (lock, log) = (text(&dir.path().join("lock")), text(&dir.path().join("log")));
    let output = yard_step(&["guard", "--card", "nobody", "--lock", &lock, "--told", &log]);
    assert!(output.status.success(), "told nothing, it has nothing to put back");
    assert!(!Path::new(&log).exists());
    let output = yard_step(&["load", "--scene", "kiln", "--slot", "nobody"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(stderr(&output).contains("cannot reach the card"), "{}", stderr(&output));
}

/// A scene in a process of its own, on a card that another one hosts.
struct Hosted {
    card: SlotCard,
    load: Box<dyn Load>,
    _dir: TempDir,
}

impl Hosted {
    fn new(load: &str) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let socket = text_of(&dir.path().join("card.sock"));
        let address = socket.clone();
        let power: Power = Box::new(move || {
            let mut host = Command::new(PROGRAM)
                .args(["slot", "--card", CARD, "--address", &address])
                .stdin(Stdio::null())
                .spawn()?;
            thread::spawn(move || host.wait());
            Ok(())
        });
        let card = SlotCard::open(SlotAddress::from(socket), Some(power)).unwrap();
        let loads = Loads { launcher: Some(PROGRAM.into()), outside: Vec::new() };
        let load = loads.choose(load, &card).unwrap();
        Self { card, load, _dir: dir }
    }

    /// Begins a run and has it work; the number of its first frame.
    fn first_frame(&mut self) -> u64 {
        self.load.begin(&mut self.card).unwrap();
        let mut checked = Vec::new();
        for _ in 0..10 {
            self.load.work(&mut self.card, Seconds(0.1), &mut checked).unwrap();
        }
        assert!(checked.iter().all(|frame| frame.wrong_pixels == 0), "{checked:?}");
        checked[0].number
    }

    fn process(&self) -> Pid {
        let kin = serde_json::to_value(self.load.kin().unwrap()).unwrap();
        Pid::from_raw(kin["group"].as_i64().unwrap() as i32)
    }
}

#[rstest]
#[case::usual("loom")]
#[case::of_a_size_of_its_own("loom@192x108")]
fn a_scene_lives_on_from_run_to_run_and_begins_at_its_first_frame_each_time(#[case] load: &str) {
    let mut hosted = Hosted::new(load);
    assert_eq!(hosted.first_frame(), 0);
    let first = hosted.process();
    for _ in 0..3 {
        hosted.load.end();
        assert_eq!(hosted.process(), first, "the guard would not know it while it rests");
        hosted.card.idle(Seconds(5.0));
        assert_eq!(hosted.card.sample().unwrap().frame_rate, None, "it has left the card");
        assert_eq!((hosted.first_frame(), hosted.process()), (0, first));
    }
    // One that is told nothing any more ends by itself.
    drop(hosted.load);
    until("its end", || kill(first, None).is_err().then_some(()));
}

#[rstest]
#[case::while_it_rests(false)]
#[case::while_it_runs(true)]
fn a_scene_that_is_gone_is_replaced_at_the_next_run(#[case] runs: bool) {
    let mut hosted = Hosted::new("loom");
    assert_eq!(hosted.first_frame(), 0);
    let first = hosted.process();
    if !runs {
        hosted.load.end();
    }
    kill(first, Signal::SIGKILL).unwrap();
    if runs {
        let worked = hosted.load.work(&mut hosted.card, Seconds(1.0), &mut Vec::new());
        assert!(matches!(worked, Err(Ending::LoadDied(_))), "{worked:?}");
        hosted.load.end();
    }
    assert_eq!(hosted.first_frame(), 0);
    assert_ne!(hosted.process(), first);
}
