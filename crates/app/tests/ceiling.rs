//! Past the maker's limits and back: the table is copied, raised, loaded at a start, lost by a driver update, restored, and
//! taken away, by the real program on a stand-in; and kills in the middle of all of that.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::fs;
use std::path::PathBuf;
use std::process::{Command, Output, Stdio};
use std::thread;
use std::time::Duration;

use common::{PROGRAM, Terminal, stderr, stdout, until};
use rstest::rstest;
use tempfile::TempDir;

const TARN: &str = "standin:tarn-310#7";
const QUERN: &str = "standin:quern-540#2";

const PLAN: &str = "scene = \"lantern\"\nfull_load = \"lantern\"\n\
    [baseline]\nruns = 1\nseconds = 30\nwarm_up_seconds = 60\n[power]\nruns = 1\nseconds = 30\n";

/// A machine of its own: a data directory, and a place for its sockets.
struct Desk {
    dir: TempDir,
}

impl Desk {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("run")).unwrap();
        fs::write(dir.path().join("plan.toml"), PLAN).unwrap();
        Self { dir }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    fn command(&self, card: &str, words: &[&str]) -> Command {
        let mut command = Command::new(PROGRAM);
        command.env("XDG_RUNTIME_DIR", self.path("run")).arg(words[0]);
        command.args(["--card", card]).arg("--data-dir").arg(self.path("data"));
        command.args(&words[1..]);
        command
    }

    fn run(&self, card: &str, words: &[&str]) -> Output {
        self.command(card, words).output().unwrap()
    }

    /// What a command says that is done.
    fn done(&self, card: &str, words: &[&str]) -> String {
        let output = self.run(card, words);
        let told = stdout(&output) + &stderr(&output);
        assert!(output.status.success(), "{words:?}: {told}");
        told
    }

    fn climb(&self, card: &str, more: &[&str]) -> Command {
        let plan = self.path("plan.toml");
        let mut command = self.command(card, &["climb", "--stages", "baseline,power"]);
        command.arg("--plan").arg(plan).args(more);
        command
    }

    /// The table that the driver reads at the next start, as the command shows it.
    fn next(&self, card: &str) -> serde_json::Value {
        let shown = self.run(card, &["ceiling", "show", "--json"]);
        serde_json::from_slice(&shown.stdout).unwrap_or_else(|_| panic!("{}", stderr(&shown)))
    }
}

const RAISE: [&str; 6] =
    ["ceiling", "set", "power-limit=+15%", "current-limit=+15%", "--reason=summer", "--yes"];

#[test]
fn a_ceiling_is_raised_climbed_into_lost_by_a_driver_update_restored_and_taken_away() {
    let desk = Desk::new();
    let (factory, later) = (desk.path("factory.json"), desk.path("later.json"));
    let save = |to: &PathBuf| desk.done(TARN, &["ceiling", "save", to.to_str().unwrap()]);
    save(&factory);
    let shown = desk.run(TARN, &["ceiling", "set", "power-limit=+15%"]);
    assert_eq!(shown.status.code(), Some(1), "a question first");
    assert!(stdout(&shown).contains("283 W → 325 W"), "{}", stdout(&shown));
    assert!(stdout(&shown).contains("325 W need about 293 A"), "{}", stdout(&shown));
    assert_eq!(desk.next(TARN)["is_makers"], true, "nothing was written");
    assert!(desk.done(TARN, &RAISE).contains("at the next start"));

    let climbed = desk.climb(TARN, &["--keep", "raised"]).output().unwrap();
    let told = stdout(&climbed) + &stderr(&climbed);
    assert!(climbed.status.success() && told.contains("power 325 W"), "{told}");
    let held = desk.done(TARN, &["with-profile", "raised", "--", "true"]);
    assert!(held.contains("power limit 325 W"), "{held}");

    // A driver update: the machine starts with the maker's limits, and the profile is refused.
    let refused = desk.run(TARN, &["with-profile", "--driver", "2", "raised", "--", "true"]);
    assert_eq!(refused.status.code(), Some(1));
    let why = stderr(&refused);
    assert!(why.contains("needs other limits") || why.contains("need other limits"), "{why}");
    assert!(why.contains("the card takes 283 W"), "{why}");
    let show = desk.done(TARN, &["ceiling", "--driver", "2"]);
    assert!(show.contains("written for driver 1.0, and the driver is now 2.0"), "{show}");
    // One action restores it.
    desk.done(TARN, &["ceiling", "--driver", "2", "again", "--yes"]);
    desk.done(TARN, &["with-profile", "--driver", "2", "raised", "--", "true"]);
    // Proof does not count across tables.
    let list = desk.done(TARN, &["profile", "--driver", "2", "list"]);
    assert!(list.contains("under another driver"), "{list}");

    assert!(desk.done(TARN, &["ceiling", "--driver", "2", "off"]).contains("maker's limits"));
    let off = desk.run(TARN, &["with-profile", "--driver", "2", "raised", "--", "true"]);
    assert!(stderr(&off).contains("need other limits"), "{}", stderr(&off));
    save(&later);
    assert_eq!(fs::read(factory).unwrap(), fs::read(later).unwrap(), "byte for byte");
}

#[test]
fn the_ratings_of_supply_and_connectors_bound_the_power() {
    let desk = Desk::new();
    let refused = |told: &str| {
        let output = desk.run(TARN, &["ceiling", "set", "power-limit=+15%", "--yes"]);
        assert_eq!(output.status.code(), Some(2), "{}", stdout(&output));
        assert!(stderr(&output).contains(told), "{}", stderr(&output));
    };
    let said = desk.done(TARN, &["machine", "--connectors", "300"]);
    assert!(said.contains("connectors           standin:tarn-310#7: 300 W"), "{said}");
    refused("it must be 142 to 300 W, since the card's power connectors are rated for 300 W");
    let shown = desk.done(TARN, &["ceiling"]);
    assert!(shown.contains("142 to 300 W") && shown.contains("are rated for 300 W."), "{shown}");
    desk.done(TARN, &["machine", "--connectors", "0", "--supply", "650", "--rest", "220"]);
    refused("it must be 142 to 292 W, since the power supply has 292 W left for this card");
    let odd = desk.run(TARN, &["machine", "--connectors", "9"]);
    assert_eq!(odd.status.code(), Some(2));
    assert!(stderr(&odd).contains("a rating of connectors of 9 W: it must be 50 to 2000 W"));
}

#[test]
fn the_limit_table_is_changed_in_survey_and_marked_there_once_it_is_in_force() {
    let desk = Desk::new();
    let open = |keys: &[&str], told: &str| {
        let program = format!(
            "env XDG_RUNTIME_DIR={} {PROGRAM} open --card {TARN} --data-dir {}",
            desk.path("run").display(),
            desk.path("data").display()
        );
        let terminal = Terminal::start((160, 50), &program);
        let survey = terminal.wait_for_all(&["NEXT: ENTER", "T limit table", "Settings it offers"]);
        terminal.press(&["T"]);
        terminal.wait_for_all(&["next start", "▸ power limit"]);
        terminal.press(keys);
        terminal.wait_for("Have the driver read these limits?");
        terminal.press(&["y"]);
        terminal.wait_for(told);
        terminal.press(&["q"]);
        terminal.wait_for("ended with 0");
        // Its machine is off once nobody uses it.
        let socket = desk.path("run/yard-step/standin_tarn-310_7.sock");
        until("the machine is off", || (!socket.exists()).then_some(()));
        survey
    };
    let noted = "The driver reads these limits at its next start";
    let survey = open(&["PPage", "PPage", "PPage", "f", "Enter"], noted);
    assert!(survey.contains("the maker's") && !survey.contains("beyond"), "{survey}");
    assert_eq!(desk.next(TARN)["fields"][1]["next"], 293.0, "the current followed");
    let survey = open(&["m", "Enter"], noted);
    assert!(survey.contains("2 fields changed") && survey.contains("beyond maker's"), "{survey}");
    assert_eq!(desk.next(TARN)["is_makers"], true);
}

/// All of it as a user does it, in one terminal.
#[test]
fn the_whole_course_from_the_first_copy_to_the_makers_table_again() {
    let desk = Desk::new();
    let (runtime, data) = (desk.path("run"), desk.path("data"));
    let shell = format!(
        "env XDG_RUNTIME_DIR={} Y={PROGRAM} D={} F={} PS1='here> ' bash --norc --noprofile",
        runtime.display(),
        data.display(),
        desk.dir.path().display(),
    );
    let terminal = Terminal::start((160, 50), &shell);
    terminal.wait_for("here>");
    let say = |words: &str, told: &str| {
        terminal.type_in(&format!(
            "clear; $Y ceiling --card {TARN} --data-dir $D {words} && echo is do''ne"
        ));
        terminal.press(&["Enter"]);
        terminal.wait_for_all(&[told, "is done"]);
    };
    let open = |driver: u32| {
        let stages = "--stages baseline,power --plan $F/plan.toml --pace max";
        terminal.type_in(&format!(
            "clear; $Y open --card {TARN} --data-dir $D {stages} --driver {driver}; echo is clo''sed"
        ));
        terminal.press(&["Enter"]);
    };
    let close = || {
        terminal.press(&["q"]);
        terminal.wait_for("is closed");
        let socket = desk.path("run/yard-step/standin_tarn-310_7.sock");
        until("the machine is off", || (!socket.exists()).then_some(()));
    };
    let noted = "The driver reads these limits at its next start";
    let write = |keys: &[&str]| {
        terminal.press(&["1", "T"]);
        terminal.wait_for("next start");
        terminal.press(keys);
        terminal.wait_for("Have the driver read these limits?");
        terminal.press(&["y"]);
        terminal.wait_for(noted);
    };

    say("save $F/factory.json", "The maker's table is in");
    open(1);
    terminal.wait_for_all(&["NEXT: ENTER", "Baseline first"]);
    write(&["PPage", "PPage", "PPage", "f", "Enter"]);
    close();
    // Restarted: the new range is in force, and a climb in which nothing was tried yet begins anew, into it.
    open(1);
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["1"]);
    terminal.wait_for_all(&["2 fields changed", "beyond maker's"]);
    terminal.press(&["2", "a"]);
    terminal.wait_for_all(&["OUTCOME", "325 W"]);
    terminal.press(&["k"]);
    terminal.wait_for("Keep as a profile");
    terminal.press(&["Enter"]);
    terminal.wait_for("Kept as profile \"climb 2\"");
    close();
    say("compare $F/factory.json", "The two tables hold the same.");

    // A driver update takes it away: the profile is refused, and one action restores it.
    open(2);
    terminal.wait_for("OUTCOME");
    terminal.press(&["1"]);
    terminal.wait_for_all(&["The maker's limits are in force again", "the driver is now 2.0"]);
    terminal.wait_for("Climb 2 was begun under other limits");
    let profile = || {
        terminal.press(&["8", "Tab", "Tab"]);
        terminal.wait_for("Profiles of Tarn 310");
        terminal.press(&["Enter"]);
    };
    profile();
    terminal.wait_for("Apply profile \"climb 2\"");
    terminal.press(&["y"]);
    terminal.wait_for_all(&["power limit 325 W", "and the card takes 283 W"]);
    write(&["a", "Enter"]);
    close();
    open(2);
    // The climb that went beyond the maker's limits still ends there.
    terminal.wait_for_all(&["OUTCOME", "Power limit 325 W"]);
    profile();
    terminal.wait_for("Apply profile \"climb 2\"");
    terminal.press(&["y"]);
    terminal.wait_for("◈ climb 2");

    // And off again: the factory's table as it was before, byte for byte.
    write(&["m", "Enter"]);
    close();
    open(2);
    terminal.wait_for_all(&["OUTCOME", "Power limit 325 W"]);
    terminal.press(&["1"]);
    let survey = terminal.wait_for("limit table");
    assert!(!survey.contains("beyond maker's"), "{survey}");
    close();
    say("--driver 2 save $F/later.json", "The maker's table is in");
    let bytes = |name: &str| fs::read(desk.path(name)).unwrap();
    assert_eq!(bytes("factory.json"), bytes("later.json"));
    assert_eq!(desk.next(TARN)["is_makers"], true);
}

#[test]
fn an_override_that_keeps_the_machine_from_starting_is_gone_at_the_next_start_but_one() {
    let desk = Desk::new();
    desk.done(QUERN, &["ceiling", "set", "memory-clock=+13%", "--yes"]);
    let climb = || {
        let output = desk.climb(QUERN, &["--fresh"]).output().unwrap();
        let told = stdout(&output) + &stderr(&output);
        assert!(output.status.success(), "{told}");
        told
    };
    let told = climb();
    assert!(told.contains("The machine was restarted."), "{told}");
    assert!(told.contains("the machine did not come up with it"), "{told}");
    let told = climb();
    assert!(!told.contains("was restarted"), "{told}");
    let next = desk.next(QUERN);
    assert_eq!(next["is_makers"], true, "{next}");
}

#[rstest]
#[case(&["set", "power-limit=+21%"], "it must be 142 to 340 W, 20 % above the maker's at most")]
#[case(&["set", "power-limit=nan"], "\"nan\" is not a number")]
#[case(&["set", "power-limit"], "a change is FIELD=VALUE")]
#[case(&["set", "fan=3"], "there is no field \"fan\"; there are: power-limit, current-limit")]
#[case(&["set", "core-clock=2500"], "the table of this card has no field core-clock")]
#[case(&["load", "/dev/null"], "/dev/null: it is no plain file")]
#[case(&["load", "/no/such/file"], "/no/such/file")]
#[case(&["compare", "/etc/passwd"], "/etc/passwd: it is no limit table")]
#[case(&["again"], "no table was taken away before")]
fn what_cannot_be_is_told_and_nothing_is_written(#[case] words: &[&str], #[case] told: &str) {
    let desk = Desk::new();
    let output = desk.run(TARN, &[&["ceiling"], words].concat());
    assert!(!output.status.success());
    assert!(stderr(&output).contains(told), "{}", stderr(&output));
    assert_eq!(desk.next(TARN)["is_makers"], true);
}

#[test]
fn a_table_of_another_card_or_with_another_checksum_is_refused() {
    let desk = Desk::new();
    let file = desk.path("table.json");
    let name = file.to_str().unwrap();
    desk.done(QUERN, &["ceiling", "save", name]);
    let other = desk.run(TARN, &["ceiling", "load", name, "--yes"]);
    assert!(stderr(&other).contains("it is for another card: the kind is"), "{}", stderr(&other));
    desk.done(TARN, &["ceiling", "save", name, "--force"]);
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, text.replacen("283.0", "299.0", 1)).unwrap();
    let damaged = desk.run(TARN, &["ceiling", "load", name, "--yes"]);
    assert!(stderr(&damaged).contains("it was changed or damaged"), "{}", stderr(&damaged));
    fs::write(&file, text).unwrap();
    assert!(desk.done(TARN, &["ceiling", "load", name, "--yes"]).contains("already"));
    assert!(desk.done(TARN, &["ceiling", "compare", name]).contains("hold the same"));
    assert_eq!(desk.next(TARN)["is_makers"], true);
}

#[test]
fn forty_kills_leave_the_makers_table_or_the_whole_override() {
    let desk = Desk::new();
    let makers = desk.next(TARN)["next"].clone();
    desk.done(TARN, &RAISE);
    let raised = desk.next(TARN)["next"].clone();
    assert_ne!(makers, raised);
    let changes: [&[&str]; 4] =
        [&RAISE, &["ceiling", "off"], &["ceiling", "again", "--yes"], &["ceiling", "show"]];
    for number in 0..40_u64 {
        let mut climb = desk.climb(TARN, &["--fresh", "--unfinished", "void"]);
        let mut climb = climb.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let mut change = desk.command(TARN, changes[number as usize % changes.len()]);
        let mut change = change.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        thread::sleep(Duration::from_millis(number * 37 % 120));
        // The command, the application, or the machine itself, at any instant.
        match number % 3 {
            0 => change.kill().unwrap(),
            1 => climb.kill().unwrap(),
            _ => drop(Command::new("pkill").args(["-KILL", "-f"]).arg(desk.path("run")).status()),
        }
        let _ = (change.kill(), climb.kill());
        change.wait().unwrap();
        climb.wait().unwrap();
        let next = desk.next(TARN)["next"].clone();
        assert!(next == makers || next == raised, "kill {number}: {next}");
    }
    // Whatever was left is read whole at the next start, or not at all.
    until("a climb on what is left", || {
        let climbed = desk.climb(TARN, &["--fresh", "--unfinished", "void"]).output().unwrap();
        climbed.status.success().then_some(())
    });
}
