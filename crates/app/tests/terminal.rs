//! The real program in a real terminal.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

#[path = "terminal/air.rs"]
mod air;
#[path = "terminal/proof.rs"]
mod proof;
#[path = "terminal/weigh.rs"]
mod weigh;

use std::io::{Read, Write};
use std::net::TcpStream;
use std::process::Command;
use std::thread::sleep;
use std::time::{Duration, Instant};

use common::{FIXED_STEP, PROGRAM, Terminal, lock_on_machine_of, text_of};
use rstest::rstest;
use yard_step_card::slot::SlotCard;
use yard_step_card::{Card, FaultInjection};

const SIZE: (u16, u16) = (160, 50);
/// What is said once, and only, when the machine went down.
const DOWN: &str = "The machine is down. Enter restarts it.";

/// A climb of the core's stages alone, by steps that can be foretold.
fn climb(dir: &tempfile::TempDir, options: &str) -> String {
    let card = "--card standin:tarn-310 --seed 29 --also standin:bracken-208#4 --also standin:quern-540#11";
    format!(
        "{PROGRAM} --data-dir {} open {card} --stages baseline,core --plan {FIXED_STEP} {options}",
        dir.path().display()
    )
}

/// The offset in a line such as "Core clock offset +105 MHz held the final run: …".
fn kept_offset(screen: &str) -> String {
    let (_, after) = screen.split_once("Core clock offset ").unwrap();
    after.split_whitespace().next().unwrap().to_owned()
}

#[test]
fn from_baseline_to_a_kept_offset_that_is_found_again_after_a_restart() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = Terminal::start(SIZE, &climb(&dir, "--pace max"));
    terminal.wait_for_all(&["NEXT: ENTER", "Baseline first: 3 runs"]);

    terminal.press(&["Enter"]);
    terminal.wait_for("trial 1 at stock: ");
    terminal.press(&["a"]);
    // Far past the edge, chance may take the machine down: auto-climb waits for the user then.
    while terminal.wait_for_any(&["OUTCOME", DOWN]) == DOWN {
        terminal.press(&["Enter"]);
        terminal.wait_for("NEXT: ENTER");
        terminal.press(&["a"]);
        terminal.wait_for("RUNNING");
    }
    let ended = terminal.wait_for_all(&["OUTCOME", "held the final run"]);
    let kept = kept_offset(&ended);
    assert!(kept.starts_with('+'), "{kept}");
    terminal.press(&["k"]);
    terminal.wait_for("Keep as a profile");
    terminal.press(&["Enter", "1"]);
    terminal.wait_for_all(&["Kept as profile \"climb 1\"", &format!("core {kept} MHz")]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
    assert!(!terminal.is_taken(), "the terminal is given back");

    let again = Terminal::start(SIZE, &climb(&dir, ""));
    let screen = again.wait_for_all(&["OUTCOME", "held the final run"]);
    assert_eq!(kept_offset(&screen), kept);
    again.press(&["q"]);
    again.wait_for("ended with 0");
}

#[test]
fn a_run_can_be_paused_hurried_and_stopped_and_leaving_it_is_asked() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = Terminal::start(SIZE, &climb(&dir, "--pace 10"));
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["Enter"]);
    terminal.wait_for("RUNNING");
    terminal.press(&["Space"]);
    terminal.wait_for("PAUSED");
    terminal.press(&["p"]);
    terminal.wait_for("pace 60×");
    terminal.press(&["Space"]);
    terminal.wait_for("RUNNING");
    terminal.press(&["q"]);
    terminal.wait_for("Leave while a trial runs?");
    terminal.press(&["n", "s"]);
    terminal.wait_for("too short to prove anything");
    terminal.press(&["?"]);
    terminal.wait_for_all(&["What you can do here", "return the card to its factory settings"]);
    terminal.press(&["?"]);
    terminal.wait_for("All keys");
    // Escape and a letter sent at once are another key to a terminal.
    terminal.press(&["Space", "q"]);
    terminal.wait_for("ended with 0");
}

#[rstest]
#[case("TERM")]
#[case("HUP")]
#[case("INT")]
fn a_signal_in_the_middle_gives_the_terminal_back_and_the_climb_goes_on_later(
    #[case] signal: &str,
) {
    let dir = tempfile::tempdir().unwrap();
    let terminal = Terminal::start(SIZE, &climb(&dir, "--pace 10"));
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["Enter"]);
    terminal.wait_for("RUNNING");
    assert!(terminal.is_taken());
    let sent = Command::new("kill").args(["-s", signal, &terminal.program()]).status().unwrap();
    assert!(sent.success());
    terminal.wait_for("ended with 0");
    assert!(!terminal.is_taken());
    let again = Terminal::start(SIZE, &climb(&dir, ""));
    again.wait_for_all(&["NEXT: ENTER", "Stopped after"]);
}

#[test]
fn after_a_kill_the_next_start_shows_every_trial_and_what_became_of_the_last() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = Terminal::start(SIZE, &climb(&dir, "--pace max"));
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["Enter"]);
    terminal.wait_for("trial 1 at stock: ");
    terminal.press(&["p"]);
    terminal.wait_for("pace 1×");
    terminal.press(&["Enter"]);
    terminal.wait_for("RUNNING");
    let killed = Command::new("kill").args(["-s", "KILL", &terminal.program()]).status().unwrap();
    assert!(killed.success());

    let again = Terminal::start(SIZE, &climb(&dir, ""));
    again.wait_for_all(&["MACHINE DOWN", "It has no outcome"]);
    again.press(&["1"]);
    again.wait_for("is not finished");
    again.press(&["2", "Left", "Left"]);
    again.wait_for("Clock line, MHz: trial 1");
}

#[test]
fn an_ended_climb_is_opened_again_and_another_plan_begins_another_one() {
    let dir = tempfile::tempdir().unwrap();
    let plan = common::short_plan(dir.path());
    let data = dir.path().to_str().unwrap();
    let card = "standin:tarn-310";
    let climbed =
        common::yard_step(&["climb", "--card", card, "--data-dir", data, "--plan", &plan]);
    assert!(climbed.status.success());
    let open = format!("{PROGRAM} --data-dir {data} open --card {card}");
    let same = Terminal::start(SIZE, &format!("{open} --plan {plan}"));
    same.wait_for_all(&["OUTCOME", "climb 1"]);
    same.press(&["q"]);
    same.wait_for("ended with 0");
    std::fs::write(dir.path().join("other.toml"), "[core]\nfine_step_mhz = 30\n").unwrap();
    let other = Terminal::start(SIZE, &format!("{open} --plan {data}/other.toml"));
    other.wait_for_all(&["NEXT: ENTER", "climb 2"]);
}

#[test]
fn a_terminal_too_small_is_told_and_growing_it_helps() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = Terminal::start((60, 15), &climb(&dir, ""));
    terminal.wait_for("needs more room");
    terminal.resize((100, 30));
    terminal.wait_for("NEXT: ENTER");
    terminal.resize((20, 3));
    terminal.resize(SIZE);
    terminal.wait_for("Settings it offers");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn another_card_is_chosen_and_what_it_lacks_is_told_with_the_reason() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = Terminal::start(SIZE, &climb(&dir, ""));
    terminal.wait_for_all(&["Tarn 310", "1 of 3 cards", "Before the first change"]);
    terminal.press(&["c"]);
    terminal.wait_for_all(&["Cards of this machine", "Bracken 208", "Quern 540", "present"]);
    terminal.press(&["Down", "Enter"]);
    terminal.wait_for_all(&["2 of 3 cards", "no sensor at its age", "T limit table"]);
    terminal.press(&["c", "Down", "i"]);
    terminal.wait_for("two different cards of one kind");
    terminal.press(&["c", "Down", "Down", "Enter"]);
    terminal.wait_for_all(&["3 of 3 cards", "– it takes a lowest and highest clock instead"]);
    terminal.wait_for_all(&["286 W, 100 %", "percent, 1 %", "17440 MT/s"]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn what_is_said_of_the_machine_is_checked_noted_and_part_of_the_next_trial() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = Terminal::start(SIZE, &climb(&dir, "--pace max"));
    terminal.wait_for_all(&["? power supply", "This machine"]);
    terminal.press(&["r", "BSpace", "BSpace", "9", "9"]);
    terminal.wait_for("99▏");
    terminal.press(&["Enter"]);
    terminal.wait_for("a room temperature of 99 °C: it must be -20 to 60 °C");
    terminal.press(&["BSpace", "BSpace", "2", "7", "Down", "Left", "Down", "1", "6", "0", "0"]);
    terminal.press(&["Down", "2", "0", "0"]);
    terminal.wait_for_all(&["‹ open ›", "200▏"]);
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["Noted.", "27 °C, case open", "Worst case"]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
    let again = Terminal::start(SIZE, &climb(&dir, ""));
    again.wait_for_all(&["27 °C, case open", "200 W"]);
}

#[test]
fn a_trace_is_looked_into_exported_and_read_again() {
    let dir = tempfile::tempdir().unwrap();
    let csv = dir.path().join("part.csv");
    let terminal = Terminal::start(SIZE, &climb(&dir, "--pace max"));
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["3"]);
    terminal.wait_for("Nothing has run yet.");
    terminal.press(&["Enter"]);
    terminal.wait_for("trial 1 at stock: ");
    terminal.press(&["3"]);
    terminal.wait_for_all(&[
        "Trial 1 at stock, baseline, lantern:",
        "Applied: fan 100 %",
        "ceiling",
    ]);
    terminal.press(&["f", "+", "+", "+"]);
    terminal.wait_for("held still");
    terminal.press(&["Escape", "Escape"]);
    terminal.press(&["+", "+", "Left"]);
    // The name proposed is taken back, letter by letter.
    terminal.press(&["x"]);
    terminal.wait_for("file: climb-1-trial-1.csv▏");
    for _ in 0.."climb-1-trial-1.csv".len() {
        terminal.press(&["BSpace"]);
    }
    terminal.press(&[csv.to_str().unwrap(), "Enter"]);
    terminal.wait_for("samples are in");
    terminal.press(&["x"]);
    for _ in 0.."climb-1-trial-1.csv".len() {
        terminal.press(&["BSpace"]);
    }
    terminal.press(&[csv.to_str().unwrap(), "Enter"]);
    terminal.wait_for("is there already and is left alone");
    let rows = std::fs::read_to_string(&csv).unwrap().lines().count();
    assert!(rows > 600, "{rows}");
    terminal.press(&["i", "no-such-file.csv", "Enter"]);
    terminal.wait_for("cannot import no-such-file.csv");
    terminal.press(&["i", csv.to_str().unwrap(), "Enter"]);
    terminal.wait_for_all(&[&format!("part.csv: {} samples", rows - 1), "Every row was read."]);
    terminal.press(&["Escape"]);
    terminal.wait_for("Trial 1 at stock, baseline");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn settings_of_ones_own_are_set_from_what_the_card_offers_and_tried() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = Terminal::start(SIZE, &climb(&dir, "--pace max"));
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["t"]);
    terminal.wait_for_all(&["Settings of your own", "-380", "memory clock offset"]);
    terminal.press(&["Down", "Down", "Down", "6", "2"]);
    terminal.wait_for("62▏");
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["memory +60 MHz, your own", "Memory clock offset +60 MHz"]);
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["mem. offset", "1780 MHz actual", "+60 MHz"]);
    terminal.wait_for("trial 1 at memory +60 MHz: ");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

/// The interface on a card of its own, with short trials.
fn opened(dir: &tempfile::TempDir, options: &str) -> Terminal {
    let plan = common::short_plan(dir.path());
    let command = format!(
        "{PROGRAM} --data-dir {}/data open --card standin:tarn-310 --seed 6 --plan {plan} {options}",
        dir.path().display()
    );
    let terminal = Terminal::start(SIZE, &command);
    terminal.wait_for("NEXT: ENTER");
    terminal
}

/// The card in the slot that the interface has switched on.
fn card(dir: &tempfile::TempDir) -> SlotCard {
    let data = dir.path().join("data");
    common::card_on_machine_of(data.to_str().unwrap(), "standin:tarn-310#6").unwrap()
}

#[test]
fn a_machine_that_goes_down_is_told_and_restarted_by_a_key() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "--pace 60");
    terminal.press(&["Enter"]);
    terminal.wait_for("RUNNING");
    card(&dir).inject_fault(FaultInjection::MachineDown).unwrap();
    terminal.wait_for_all(&["▲ RESTART", "The machine is down.", "Enter restart the machine"]);
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["MACHINE DOWN", "It has no outcome", "NEXT: ENTER"]);
    terminal.press(&["Enter"]);
    terminal.wait_for("RUNNING");
    terminal.press(&["q", "y"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn a_card_that_vanishes_while_nothing_runs_is_told_at_once() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "--pace 10");
    card(&dir).inject_fault(FaultInjection::Vanishes).unwrap();
    terminal.wait_for_all(&["▲ RESTART", "The card is gone, or does not answer."]);
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["The machine was restarted.", "NEXT: ENTER"]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

/// What the mouse does at a cell, counted from 1, as a terminal reports it.
fn mouse(terminal: &Terminal, button: u16, (column, row): (usize, usize), end: char) {
    terminal.type_in(&format!("\u{1b}[<{button};{column};{row}{end}"));
}

/// Column and row of the lowest place of a text on the screen, counted from 1.
fn place_of(screen: &str, text: &str) -> (usize, usize) {
    let lines: Vec<&str> = screen.lines().collect();
    let row = lines.iter().rposition(|line| line.contains(text)).unwrap();
    let line = lines[row];
    let column = line.split(text).next().unwrap().chars().count();
    (column + 1, row + 1)
}

#[test]
fn a_curve_is_shaped_by_key_and_mouse_tried_kept_and_loaded_again() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "--pace max");
    terminal.press(&["4"]);
    terminal.wait_for_all(&["V/F curve, MHz", "as from the factory", "point 27 of 39"]);
    terminal.press(&["Up", "Up", "Up"]);
    terminal
        .wait_for_all(&["▸ 1965 MHz at 960 mV", "Cannot be asked for yet: the V/F curve falls"]);
    terminal.press(&["f", "y"]);
    let shaped = terminal.wait_for("Smoothing moved");
    assert!(shaped.contains("▸ 1965 MHz at 960 mV"), "{shaped}");

    // The axis says where 950 mV are; a drag from there on is one move, and taken back as one.
    let (column, axis) = place_of(&shaped, " 950 ");
    let column = column + 2;
    mouse(&terminal, 0, (column, axis - 9), 'M');
    terminal.wait_for("point 26 of 39");
    mouse(&terminal, 32, (column, axis - 7), 'M');
    mouse(&terminal, 32, (column, axis - 3), 'M');
    mouse(&terminal, 0, (column, axis - 3), 'm');
    terminal.wait_for_all(&["Cannot be asked for yet", "at 950 mV"]);
    terminal.press(&["z"]);
    terminal.wait_for("▸ 1950 MHz at 950 mV");
    terminal.press(&["Right", "=", "1", "9", "8", "0", "Enter"]);
    terminal.wait_for("▸ 1980 MHz at 960 mV");
    terminal.press(&["z"]);
    terminal.wait_for("▸ 1965 MHz at 960 mV");

    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["curve 1965 MHz at 960 mV, your own", "Enter try it"]);
    terminal.press(&["Enter"]);
    let ended = ["trial 1 at curve 1965 MHz at 960 mV: ", "NEXT: ENTER", "Asked against taken"];
    let tried = terminal.wait_for_all(&ended);
    assert!(
        tried.contains("below the top of its curve") || tried.contains("at the top"),
        "{tried}"
    );
    let row = tried.lines().find(|line| line.contains("960     1965 ")).unwrap();
    let (_, row) = row.split_once("960     1965 ").unwrap();
    assert!(row.trim_start().starts_with("1965"), "as asked, so taken: {row}");

    terminal.press(&["k"]);
    terminal.wait_for_all(&["Keep as a profile", "the card stays as", "‹ not said ›"]);
    terminal.press(&["Down", "d", "o", "m", "e", "Enter"]);
    terminal.wait_for("Kept as profile \"by hand\": curve 1965 MHz at 960 mV.");
    terminal.press(&["o"]);
    terminal.wait_for("as from the factory");

    terminal.press(&["8", "Tab", "Tab"]);
    terminal.wait_for_all(&["Profiles of Tarn 310", "○ not proven", "For dome."]);
    terminal.press(&["Enter"]);
    terminal.wait_for("Apply profile \"by hand\", which is not proven?");
    terminal.press(&["y"]);
    terminal.wait_for("◈ by hand");
    terminal.press(&["l"]);
    terminal.wait_for_all(&["These are the settings of profile", "▸ 1965 MHz at 960 mV"]);

    terminal.press(&["7"]);
    terminal.wait_for_all(&["work against board power", "curve 1965 MHz at 960 mV", "Picked"]);
    terminal.press(&["Tab"]);
    terminal.wait_for("work against hot spot");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");

    let again = opened(&dir, "");
    again.press(&["1"]);
    again.wait_for_all(&["profile", "\"by hand\" is not proven."]);
}

#[rstest]
#[case("standin:bracken-208", &["Tab", "Tab", "Up"], &["Performance states, MHz", "state 6 of 8", "memory-side voltage"])]
#[case("standin:quern-540", &["Down"], &["Clock window: time at each clock", "Windows tried", "memory timing"])]
fn what_a_card_offers_is_what_shape_shows(
    #[case] card: &str,
    #[case] keys: &[&str],
    #[case] parts: &[&str],
) {
    let dir = tempfile::tempdir().unwrap();
    let plan = common::short_plan(dir.path());
    let data = dir.path().display();
    let command =
        format!("{PROGRAM} --data-dir {data} open --card {card} --plan {plan} --pace max");
    let terminal = Terminal::start(SIZE, &command);
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["4"]);
    terminal.wait_for_all(parts);
    terminal.press(keys);
    if card.contains("bracken") {
        terminal.wait_for("at the picked point");
    }
    terminal.press(&["Enter"]);
    terminal.wait_for("your own");
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["trial 1 at ", "NEXT: ENTER"]);
    terminal.press(&["4"]);
    terminal.wait_for_all(&["quiet lake", "full sky", "Asked against taken"]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn a_stage_is_added_to_a_climb_and_found_again() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "--stages baseline --pace max");
    terminal.press(&["g"]);
    terminal.wait_for_all(&["undervolt-clock", "+ a adds", "window          – not here"]);
    terminal.press(&["Down"; 8]);
    terminal.press(&["a"]);
    terminal.wait_for("Stage undervolt-clock comes after the others now.");
    terminal.close("Stages of the climb");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
    let again = opened(&dir, "");
    again.press(&["g"]);
    again.wait_for_all(&["undervolt-clock ○ to come  less voltage", "undervolt-quiet + a adds"]);
}

#[rstest]
#[case((160, 50))]
#[case((100, 30))]
fn the_loads_of_a_climb_are_chosen_ordered_and_added(#[case] size: (u16, u16)) {
    let dir = tempfile::tempdir().unwrap();
    let config = text_of(&dir.path().join("config.toml"));
    std::fs::write(&config, "# mine\n[load.quay]\ncommand = \"quay\"\n").unwrap();
    let command = climb(&dir, &format!("--config {config}"));
    let terminal = Terminal::start(size, &command);
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["L"]);
    terminal.wait_for_all(&["Loads of the climb", "lantern", "steps", "quay"]);
    // kiln is the first of the list, sluice the second.
    terminal.press(&["Space"]);
    terminal.wait_for_all(&["cross-check 1", "0 of 2"]);
    terminal.press(&["Down", "Space"]);
    terminal.wait_for("cross-check 2");
    terminal.press(&["Left"]);
    let screen = terminal.wait_for_all(&["cross-checked under sluice, kiln."]);
    assert!(screen.lines().any(|line| line.contains("sluice") && line.contains("cross-check 1")));
    // The second of them is larger from now on, and still the second.
    terminal.press(&["Up", "r"]);
    terminal.wait_for_all(&["kiln@160x90", "cross-checked under sluice, kiln@160x90."]);
    terminal.press(&["a"]);
    terminal.wait_for("A load of your own");
    terminal.type_in("harbour");
    terminal.press(&["Down"]);
    terminal.type_in("sh 'my bench.sh' --loop");
    terminal.press(&["Down"]);
    terminal.type_in("score: ([0-9]+)");
    terminal.press(&["Enter"]);
    terminal.wait_for("Load harbour can be run now");
    let written = std::fs::read_to_string(&config).unwrap();
    assert!(written.starts_with("# mine\n[load.quay]"), "what was there stays: {written}");
    assert!(written.contains("[load.harbour]\ncommand = \"sh\"\nargs = "), "{written}");
    terminal.press(&["L"]);
    terminal.wait_for("sh my bench.sh --loop");
    terminal.close("Loads of the climb");
    terminal.press(&["g"]);
    terminal.wait_for_all(&["Stages of the climb", "cross-check"]);
    terminal.close("Stages of the climb");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
    // All of it is found again: the plan in the ledger, the program in the configuration.
    let command = command.replace(&format!("--plan {FIXED_STEP}"), "");
    let terminal = Terminal::start(size, &command);
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["L"]);
    terminal.wait_for_all(&["harbour", "cross-check 1", "cross-check 2"]);
}

#[test]
fn a_run_that_only_the_user_sees_ends_with_what_the_user_says() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "--pace 10 --load manual");
    terminal.press(&["Enter"]);
    terminal.wait_for("w say what you saw");
    terminal.press(&["w"]);
    terminal.wait_for_all(&["What did you see?", "Enter say it"]);
    terminal.press(&["Down", "Enter"]);
    terminal.wait_for("You watched, and said: artifacts.");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

/// Makes a run of the manual load that went well, and types its score. Chance may spoil a run; then it is made
/// again, as the climb proposes.
/// Waits until the present run under a load of the user's has gone on for a minute, as the card has it.
fn a_minute_of_play(terminal: &Terminal) {
    let running = |screen: &str| {
        let line = screen.lines().find(|line| line.contains("RUNNING") && line.contains(" of "))?;
        let (before, _) = line.split_once(" of ")?;
        before.contains("min").then_some(())
    };
    terminal.wait_until("it never ran for a minute", running);
}

fn scored(terminal: &Terminal, trials: &mut u32, score: &str) -> String {
    loop {
        *trials += 1;
        terminal.press(&["Enter"]);
        terminal.wait_for("w say what you saw");
        a_minute_of_play(terminal);
        terminal.press(&["w"]);
        terminal.wait_for("What did you see?");
        terminal.press(&["Enter"]);
        terminal.wait_for_all(&["Figures of this run", "You say: clean."]);
        terminal.type_in(score);
        terminal.wait_for(&format!("{score}▏"));
        terminal.press(&["Enter"]);
        let told = format!("trial {trials} at");
        let screen = terminal.wait_for_all(&[&told, "NEXT: ENTER"]);
        if !screen.contains("VOID") && !screen.contains("NOT TAKEN") {
            return screen;
        }
    }
}

#[test]
fn a_climb_under_ones_own_program_goes_by_the_scores_that_are_typed_to_its_outcome() {
    let dir = tempfile::tempdir().unwrap();
    let plan = dir.path().join("steps.toml");
    let text = "policy = \"fixed-step\"\nmargin = \"record\"\n[baseline]\nseconds = 20\n\
                [core]\ncoarse_step_mhz = 60\nfine_step_mhz = 60\nseconds = 20\n\
                confirm_seconds = 20\nsettle_seconds = 20\n[score]\nmost_repeats = 0\n";
    std::fs::write(&plan, text).unwrap();
    let command = format!(
        "{PROGRAM} --data-dir {}/data open --card standin:tarn-310 --seed 6 --pace 60 --load manual \
         --stages baseline,core --plan {}",
        dir.path().display(),
        plan.display()
    );
    let terminal = Terminal::start(SIZE, &command);
    terminal.wait_for("NEXT: ENTER");
    let mut trials = 0;
    for score in ["8120", "8150", "8110"] {
        let screen = scored(&terminal, &mut trials, score);
        assert!(screen.contains(&format!("score {score}")), "{screen}");
    }
    terminal.press(&["1"]);
    terminal.wait_for_all(&["score, median", "8120"]);
    // What is no score is told, and the run goes on.
    terminal.press(&["2"]);
    terminal.press(&["Enter"]);
    terminal.wait_for("w say what you saw");
    terminal.press(&["w"]);
    terminal.wait_for("What did you see?");
    terminal.press(&["Enter"]);
    terminal.wait_for("Figures of this run");
    terminal.type_in("fast");
    terminal.press(&["Enter"]);
    terminal.wait_for("\"fast\" is not a figure");
    terminal.close("Figures of this run");
    a_minute_of_play(&terminal);
    terminal.press(&["w"]);
    terminal.wait_for("What did you see?");
    terminal.press(&["Enter"]);
    terminal.wait_for("Figures of this run");
    terminal.type_in("8370");
    terminal.press(&["Enter"]);
    trials += 1;
    terminal.wait_for_all(&[&format!("trial {trials} at core +60 MHz"), "NEXT: ENTER", "+3.1 %"]);
    // The user sees stars at the next step: the step before it is kept.
    terminal.press(&["Enter"]);
    terminal.wait_for("w say what you saw");
    terminal.press(&["w"]);
    terminal.wait_for("What did you see?");
    terminal.press(&["Down", "Enter"]);
    terminal.wait_for_all(&[
        "You watched, and said: artifacts.",
        "OUTCOME",
        "Core clock offset +60 MHz held the final run: +3.1 % over the baseline.",
    ]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn a_benchmark_with_three_sub_scores_is_all_that_a_climb_runs_from_baseline_to_outcome() {
    let dir = tempfile::tempdir().unwrap();
    let plan = dir.path().join("trio.toml");
    let text = "scene = \"trio\"\npolicy = \"fixed-step\"\nmargin = \"record\"\n\
                [baseline]\nruns = 1\nseconds = 20\nwarm_up_seconds = 0\n\
                [core]\ncoarse_step_mhz = 90\nfine_step_mhz = 90\nseconds = 20\nwarm_up_seconds = 0\n\
                confirm_seconds = 20\nsettle_seconds = 20\n\
                [rules]\nmost_warming_k = 50\n";
    std::fs::write(&plan, text).unwrap();
    let command = format!(
        "cd {}/../.. && YARD_STEP={PROGRAM} {PROGRAM} --data-dir {}/data open --card standin:tarn-310 \
         --seed 6 --config docs/examples/config.toml --plan {} --stages baseline,core",
        env!("CARGO_MANIFEST_DIR"),
        dir.path().display(),
        plan.display()
    );
    let terminal = Terminal::start(SIZE, &command);
    terminal.wait_for("NEXT: ENTER");
    // Chance decides how many runs it takes; each must be told with its figures.
    let mut on_the_baseline = 0;
    let outcome = (0..15).find_map(|_| {
        let before = terminal.screen();
        let wants_restart = before.contains("RESTART");
        terminal.press(&[if before.contains("R restarts it") { "R" } else { "Enter" }]);
        let is_under_way = |screen: &str| match wants_restart {
            true => !screen.contains("RESTART"),
            // What takes the machine down at once is never seen to run.
            false => screen.contains("RUNNING") || screen.contains("RESTART"),
        };
        terminal.wait_until("nothing began", |screen| is_under_way(screen).then_some(()));
        let screen = terminal.wait_until("the trial never ended", |screen| {
            let ends = ["NEXT: ENTER", "OUTCOME", "RESTART"];
            ends.iter().any(|end| screen.contains(end)).then(|| screen.to_owned())
        });
        let is_clean = screen.contains("● CLEAN") && !screen.contains("The machine is down");
        let has_sub_scores =
            ["kiln  ", "sluice  ", "lantern  "].iter().all(|name| screen.contains(name));
        assert!(has_sub_scores || !is_clean, "{screen}");
        on_the_baseline += usize::from(is_clean && screen.contains("on the baseline"));
        screen.contains("OUTCOME").then_some(screen)
    });
    let outcome = outcome.expect("the climb ends");
    assert!(outcome.contains("over the baseline"), "{outcome}");
    assert!(on_the_baseline > 0, "no run was held against the baseline");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn who_is_elsewhere_is_called_back_and_a_collector_reads_the_figures() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "--pace 60 --listen 0");
    let screen = terminal.wait_for_all(&["http://127.0.0.1:", "NEXT: ENTER"]);
    let address = screen.split("http://").nth(1).unwrap().split('/').next().unwrap();
    let written = dir.path().join("written");
    terminal.pipe_to(&written);
    // What a terminal sends when another window comes to the front.
    terminal.type_in("\u{1b}[O");
    terminal.press(&["Enter"]);
    terminal.wait_for("RUNNING");
    let mut stream = TcpStream::connect(address).unwrap();
    stream.write_all(b"GET /metrics HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n").unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    assert!(answer.contains("yard_step_core_clock_hertz{card=\"Tarn 310\""), "{answer}");
    terminal.wait_for("NEXT: ENTER");
    // What goes through the pipe may come a moment after it is on the screen.
    let call = "\u{7}\u{1b}]9;Yard Step: Trial 1: ";
    terminal.wait_until("nobody was called", |_| {
        let text = String::from_utf8_lossy(&std::fs::read(&written).unwrap()).into_owned();
        text.contains(call).then_some(())
    });
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
    assert!(TcpStream::connect(address).is_err(), "nothing is served any more");
}

#[test]
fn a_terminal_that_shrinks_to_nothing_and_grows_again_loses_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "--pace 10");
    terminal.press(&["Enter"]);
    terminal.wait_for("RUNNING");
    for size in [(1, 1), (2, 50), (160, 1), (1, 1)] {
        terminal.resize(size);
    }
    terminal.resize(SIZE);
    terminal.wait_for_all(&["RUNNING", "Asked / taken / seen"]);
    terminal.press(&["9"]);
    terminal.wait_for("No frame of trial 1 was drawn wrong");
    terminal.press(&["q", "y"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn when_the_terminal_is_gone_the_card_goes_back_and_nothing_is_left_running() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = opened(&dir, "--pace 60");
    let mut card = card(&dir);
    let stock = card.taken().unwrap();
    terminal.press(&["Enter", "a"]);
    let waits = |what: &str, done: &mut dyn FnMut() -> bool| {
        let began = Instant::now();
        while !done() {
            assert!(began.elapsed() < Duration::from_secs(60), "never came to be: {what}");
            sleep(Duration::from_millis(5));
        }
    };
    waits("a trial", &mut || card.taken().unwrap() != stock);
    let program: u32 = terminal.program().parse().unwrap();
    drop(terminal);
    waits("the end", &mut || !std::path::Path::new(&format!("/proc/{program}/exe")).exists());
    // The machine is switched off with the program, unless this test still looks on.
    assert_eq!(card.taken().unwrap(), stock);
    let lock = lock_on_machine_of(&text_of(&dir.path().join("data")), "standin:tarn-310#6");
    assert_eq!(std::fs::read_to_string(lock).unwrap(), "", "given back in order");
}

#[test]
fn the_demo_has_three_cards_with_a_history_and_a_climb_in_progress() {
    let dir = tempfile::tempdir().unwrap();
    let start = format!("{PROGRAM} --data-dir {} demo --pace max", dir.path().display());
    let terminal = Terminal::start(SIZE, &start);
    terminal.wait_for_all(&["NEXT: ENTER", "Staircase: core, MHz", "bayesian: edge"]);
    terminal.press(&["1"]);
    terminal.wait_for_all(&[
        "1 of 3 cards",
        "last autumn: core clock offset +90",
        "climb 1, ended",
    ]);
    terminal.press(&["g"]);
    terminal.wait_for_all(&[
        "Stages of the climb",
        "● done",
        "More power alone brought",
        "▶ present",
    ]);
    terminal.close("Stages of the climb");
    terminal.press(&["c", "Down", "Enter"]);
    terminal.wait_for_all(&["Bracken 208 · unit 4", "MACHINE DOWN", "It has no outcome"]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

/// Makes the trial that is proposed. Chance may spoil a run; then it is made again, as the climb
/// proposes.
fn made(terminal: &Terminal, trials: &mut u32, what: &str) {
    loop {
        *trials += 1;
        terminal.press(&["Enter"]);
        let screen = terminal.wait_for_all(&[&format!("trial {trials} at {what}: ")]);
        if !screen.contains("VOID") && !screen.contains("NOT TAKEN") {
            return;
        }
    }
}

#[test]
fn at_each_stage_the_user_may_overrule_the_climb_and_it_goes_on_from_there() {
    let dir = tempfile::tempdir().unwrap();
    let plan = common::short_plan(dir.path());
    let start = format!(
        "{PROGRAM} --data-dir {} open --card standin:tarn-310 --seed 29 --plan {plan} --pace max",
        dir.path().display()
    );
    let terminal = Terminal::start(SIZE, &start);
    terminal.wait_for("NEXT: ENTER");
    // The baseline cannot be skipped, but ended once a run counts.
    terminal.press(&["g", "s"]);
    terminal.wait_for("The baseline cannot be skipped");
    terminal.close("Stages of the climb");
    let mut trials = 0;
    made(&terminal, &mut trials, "stock");
    terminal.press(&["g", "e"]);
    terminal.wait_for("Stage baseline was ended with what is known.");
    // Memory first; the power is left as it is, then wanted all the same.
    terminal.press(&["o"]);
    terminal.wait_for("The stages now come as baseline, power, memory, core, together.");
    terminal.press(&["Down", "s"]);
    terminal.wait_for_all(&["Stage power is skipped", "╌ skipped"]);
    terminal.press(&["r"]);
    terminal.wait_for("Stage power begins again");
    terminal.press(&["Escape"]);
    // Another key at once would be one with Alt to a terminal; the panel lies over these facts.
    terminal.wait_for("Asked / taken / seen: trial 1");
    made(&terminal, &mut trials, "power 283 W");
    terminal.wait_for("memory: memory +60 MHz, step");
    // A step of one's own, and the stage ended with it.
    terminal.press(&["Up"]);
    terminal.wait_for("memory +80 MHz, your own");
    terminal.press(&["Enter"]);
    trials += 1;
    terminal.wait_for(&format!("trial {trials} at memory +80 MHz: "));
    terminal.press(&["e"]);
    terminal.wait_for("End the stage memory now?");
    terminal.press(&["y"]);
    terminal.wait_for("core: core +60 MHz, step");
    made(&terminal, &mut trials, "core +60 MHz");
    // Another policy from here on, and the core ended, too.
    // The policy comes after five stages of the climb and twelve others.
    terminal.press(&["g"]);
    terminal.press(&["Down"; 17]);
    terminal.press(&["Right"]);
    terminal.wait_for("The climb now uses bisection");
    terminal.press(&["Up"; 14]);
    terminal.press(&["e"]);
    terminal.wait_for("Stage core was ended with what is known.");
    terminal.press(&["Up", "Down", "Down", "e"]);
    terminal.wait_for("Stage together was ended with what is known.");
    terminal.close("Stages of the climb");
    terminal.wait_for_all(&["OUTCOME", "core clock offset +45 MHz", "The trials point to"]);
    // It may begin again, and goes on by bisection.
    terminal.press(&["g", "Down", "Down", "Down", "Down", "r"]);
    terminal.wait_for("Stage together begins again");
    terminal.close("Stages of the climb");
    terminal.wait_for_all(&["together: core +45 MHz", "Map: core against memory", "bisection"]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

/// How many trials there are, as the head of the list says it: "2 of 134, by time ↓".
fn trials_in_all(screen: &str) -> usize {
    let (before, _) = screen.split_once(", by time ↓").unwrap();
    before.rsplit(' ').next().unwrap().replace(',', "").parse().unwrap()
}

#[test]
fn in_the_ledger_trials_are_found_opened_repeated_noted_deleted_and_brought_back() {
    let dir = tempfile::tempdir().unwrap();
    let home = dir.path().display();
    let terminal =
        Terminal::start(SIZE, &format!("HOME={home} {PROGRAM} --data-dir {home}/data demo"));
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["8"]);
    let all =
        terminal.wait_for_all(&["Trials", " of ", "by time ↓", "Tarn 310 · 29", "no outcome"]);
    let total = trials_in_all(&all);
    // A search that makes no sense says why; one that does lists what was found as it is typed.
    terminal.press(&["/"]);
    terminal.type_in("speed>3");
    terminal.wait_for("search: speed>3");
    terminal.press(&["Enter"]);
    terminal.wait_for("\"speed\" is not a figure of a trial. There are: climb, trial, score");
    terminal.press(&["/"]);
    for _ in 0.."speed>3".len() {
        terminal.press(&["BSpace"]);
    }
    terminal.type_in("climb=1 core=90");
    terminal.press(&["Enter"]);
    terminal.wait_for(&format!("2 of {total}"));
    terminal.press(&["End"]);
    terminal.wait_for_all(&["search climb=1 core=90", "Trial 5 of climb 1: core +90 MHz"]);
    // A note and a flag, and the trial looked at in Trace, though it is of another climb.
    terminal.press(&["j"]);
    terminal.type_in("rattled");
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["Note: rattled", "Noted."]);
    terminal.press(&["*"]);
    terminal.wait_for_all(&["Flagged.", "⚑"]);
    terminal.press(&["Enter"]);
    terminal.wait_for("Trial 5 of climb 1, Tarn 310 at core +90 MHz, core, step, lantern: clean");
    terminal.press(&["8", "r"]);
    terminal.wait_for_all(&["Next: core +90 MHz once more, as in trial 5 of climb 1.", "your own"]);
    // Deleted after a question, and brought back.
    terminal.press(&["8", "d"]);
    terminal.wait_for_all(&["Delete trial 5 of climb 1?", "mark it void with m"]);
    terminal.press(&["y"]);
    terminal.wait_for_all(&["Deleted. z brings it back.", &format!("1 of {}", total - 1)]);
    terminal.press(&["z"]);
    terminal.wait_for_all(&["Brought back.", &format!("2 of {total}"), "rattled"]);
    // An open climb is not deleted; one that has ended is, and found among the deleted.
    terminal.press(&["Escape"]);
    terminal.wait_for(&format!("{total} of {total}"));
    terminal.press(&["Tab"]);
    terminal.wait_for_all(&["6, by time ↓", "Climb 6: Tarn 310 · 29"]);
    terminal.press(&["d", "y"]);
    terminal.wait_for("Climb 6, which is open cannot be deleted.");
    terminal.press(&["End", "d"]);
    terminal.wait_for("Delete climb 1 with its 9 trials?");
    terminal.press(&["y"]);
    terminal.wait_for_all(&["Deleted. z brings it back.", "5, by time ↓"]);
    terminal.press(&["f", "Up", "Down", "Down", "Down", "Down", "Down", "Down", "Right", "Enter"]);
    terminal.wait_for_all(&["Deleted Climbs", "last autumn"]);
    terminal.press(&["z"]);
    terminal.wait_for_all(&["Brought back.", "No climb was deleted."]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

/// Begins a free run of the kiln on a card, from the list of loads.
fn free_run_on(dir: &tempfile::TempDir, card: &str, size: (u16, u16)) -> Terminal {
    let plan = common::short_plan(dir.path());
    let command = format!(
        "{PROGRAM} --data-dir {}/data open --card {card} --plan {plan} --pace 10",
        dir.path().display()
    );
    let terminal = Terminal::start(size, &command);
    terminal.wait_for("NEXT: ENTER");
    terminal.press(&["F"]);
    terminal.wait_for_all(&["Free run", "▸ lantern", "the plan's"]);
    terminal.press(&["Up", "Up", "Up"]);
    terminal.wait_for("▸ kiln");
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["FREE RUN", "kiln, segment 1 for"]);
    terminal
}

/// Waits until a segment has lasted so many seconds.
fn lasts(terminal: &Terminal, segment: u32, seconds: u32) {
    let told = format!("segment {segment} for ");
    terminal.wait_until(&format!("{told}{seconds} s, at least"), |screen| {
        let (_, after) = screen.split_once(&told)?;
        let (number, unit) = after.split_once(' ')?;
        let is_long = unit.starts_with("min") || number.parse::<u32>().ok()? >= seconds;
        is_long.then_some(())
    });
}

/// Column and row of the first such mark behind a text in its line, counted from 1.
fn mark_behind(screen: &str, line: &str, mark: char) -> Option<(usize, usize)> {
    screen.lines().enumerate().find_map(|(row, text)| {
        let from = text.find(line)?;
        let behind = text[from..].chars().position(|character| character == mark)?;
        Some((text[..from].chars().count() + behind + 1, row + 1))
    })
}

#[rstest]
#[case::tarn("standin:tarn-310#6", "power limit", "200")]
#[case::bracken("standin:bracken-208#4", "power limit", "150")]
#[case::quern("standin:quern-540#11", "power limit", "300")]
fn a_free_run_takes_twelve_changes_by_key_number_and_mouse(
    #[case] card: &str,
    #[case] setting: &str,
    #[case] number: &str,
) {
    let dir = tempfile::tempdir().unwrap();
    let terminal = free_run_on(&dir, card, SIZE);
    let mut segment = 1;
    let mut changed = |terminal: &Terminal| {
        segment += 1;
        terminal.wait_for_all(&[&format!("kiln, segment {segment} for"), "FREE RUN"])
    };
    for key in ["Left", "Left", "Right", "-", "+", "PageDown", "PageUp"] {
        terminal.press(&[key]);
        changed(&terminal);
    }
    for value in [number, "99999"] {
        terminal.press(&["Enter"]);
        terminal.wait_for("While the load runs");
        terminal.type_in(value);
        let told = terminal.wait_for_all(&[&format!("{value} →"), "Enter apply"]);
        assert_eq!(told.contains("the card's maximum"), value == "99999", "{told}");
        terminal.press(&["Enter"]);
        changed(&terminal);
    }
    // A click on its range, and the wheel over its line.
    let held = terminal.wait_until("the highest value is not held", |screen| {
        let (column, row) = mark_behind(screen, setting, '◈')?;
        let end = mark_behind(screen, setting, '╌').map(|(first, _)| first);
        end.is_some_and(|first| column > first + 4).then_some((column, row))
    });
    let (column, row) = held;
    mouse(&terminal, 0, (column - 3, row), 'M');
    changed(&terminal);
    mouse(&terminal, 65, (column, row), 'M');
    changed(&terminal);
    mouse(&terminal, 64, (column, row), 'M');
    changed(&terminal);
    // Further down on the screen, which may be caught half drawn.
    terminal.wait_for("Segment 13 against 12");
    terminal.press(&["s"]);
    terminal.wait_for_all(&["RUN ENDED", "Esc returns to the climb"]);
    terminal.press(&["8"]);
    terminal.wait_for_all(&["13 of 13", "segment"]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn a_segment_is_stepped_back_from_tried_whole_and_kept() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = free_run_on(&dir, "standin:tarn-310#6", (100, 30));
    terminal.press(&["Down", "Down"]);
    terminal.wait_for("▸ core clock offset");
    terminal.press(&["Right"]);
    terminal.wait_for("segment 2 for");
    // What the profile is made of goes on for a while.
    lasts(&terminal, 2, 12);
    terminal.press(&["k"]);
    terminal.wait_for_all(&["Keep as a profile", "free run"]);
    terminal.press(&["Enter"]);
    terminal.wait_for("That is done as soon as the free run ends.");
    terminal.press(&["Right"]);
    terminal.wait_for_all(&["segment 3 for", "core +30 MHz"]);
    terminal.press(&["u"]);
    terminal.wait_for_all(&["segment 4 for", "core +15 MHz"]);
    terminal.press(&["v"]);
    terminal.wait_for_all(&["Kept as profile \"free run\": core +15 MHz.", "RUN ENDED"]);
    terminal.close("RUN ENDED");
    terminal.wait_for_all(&["NEXT: ENTER", "core +15 MHz, your own"]);
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn a_load_that_dies_in_a_free_run_ends_it_and_the_card_goes_one_step_back() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = free_run_on(&dir, "standin:tarn-310#6", SIZE);
    lasts(&terminal, 1, 15);
    terminal.press(&["Down", "Down", "Right"]);
    lasts(&terminal, 2, 5);
    let program = terminal.program();
    let load = format!("pkill -KILL -f '{PROGRAM} load' -P {program}");
    let killed = std::process::Command::new("sh").args(["-c", &load]).status().unwrap();
    assert!(killed.success(), "no load to kill below {program}");
    terminal.wait_for_all(&[
        "▲ RUN ENDED",
        "The load",
        "The card is back at the settings of trial 1, stock.",
    ]);
    let held = card(&dir).taken().unwrap();
    assert_eq!(held.core_offset, Some(yard_step_core::MhzOffset(0)));
    // What was asked for last is still in the form, and the load can be run again.
    terminal.press(&["F"]);
    terminal.wait_for("It runs until you stop it");
    terminal.press(&["Enter"]);
    terminal.wait_for_all(&["FREE RUN", "lantern, segment 1 for"]);
    terminal.press(&["s"]);
    terminal.wait_for("RUN ENDED");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}

#[test]
fn a_free_run_whose_program_is_killed_leaves_the_card_at_stock_and_a_trial_to_be_wary_of() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = free_run_on(&dir, "standin:tarn-310#6", SIZE);
    terminal.press(&["Down", "Down", "Right"]);
    lasts(&terminal, 2, 5);
    let mut device = card(&dir);
    assert_eq!(device.taken().unwrap().core_offset, Some(yard_step_core::MhzOffset(15)));
    let killed = Command::new("kill").args(["-KILL", &terminal.program()]).status().unwrap();
    assert!(killed.success());
    let began = Instant::now();
    while device.taken().unwrap().core_offset != Some(yard_step_core::MhzOffset(0)) {
        assert!(began.elapsed() < Duration::from_secs(60), "the guard did not put the card back");
        sleep(Duration::from_millis(50));
    }
    let again = opened(&dir, "");
    again.press(&["2"]);
    again.wait_for_all(&["MACHINE DOWN", "trial 2 at core +15 MHz", "It has no outcome"]);
    again.press(&["q"]);
    again.wait_for("ended with 0");
}

/// What `yard-step status` says on the machine of a terminal.
fn status(dir: &tempfile::TempDir, arguments: &[&str]) -> std::process::Output {
    let data = dir.path().join("data");
    let mut command = common::program_on_machine_of(data.to_str().unwrap());
    command.arg("status").args(arguments).output().unwrap()
}

#[test]
fn another_terminal_is_told_what_a_session_is_doing_and_nothing_once_it_is_over() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = free_run_on(&dir, "standin:tarn-310#6", SIZE);
    lasts(&terminal, 1, 15);
    let told = status(&dir, &[]);
    let line = String::from_utf8(told.stdout).unwrap();
    assert!(line.starts_with("Tarn 310 unit 6 · free run · trial 1 at stock, kiln · "), "{line}");
    assert!(line.contains(" MHz · ") && line.contains(" W · "), "{line}");
    let json = String::from_utf8(status(&dir, &["--json"]).stdout).unwrap();
    let value: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!(value[0]["format"], "yard-step-status");
    assert!(value[0]["board_power_w"].as_f64().unwrap() > 50.0, "{json}");
    terminal.press(&["s"]);
    terminal.wait_for("RUN ENDED");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
    let over = status(&dir, &[]);
    assert_eq!(over.status.code(), Some(1));
    assert!(common::stderr(&over).contains("no session is running"), "{}", common::stderr(&over));
}

#[test]
fn following_goes_on_until_it_is_interrupted() {
    let dir = tempfile::tempdir().unwrap();
    let terminal = free_run_on(&dir, "standin:tarn-310#6", SIZE);
    let data = dir.path().join("data");
    let mut follow = common::program_on_machine_of(data.to_str().unwrap())
        .args(["status", "--follow", "--json"])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(follow.stdout.take().unwrap()));
    for _ in 0..2 {
        let line = lines.next().unwrap().unwrap();
        let value: serde_json::Value = serde_json::from_str(&line).unwrap();
        assert_eq!(value["card"], "Tarn 310", "an object a line: {line}");
    }
    Command::new("kill").args(["-INT", &follow.id().to_string()]).status().unwrap();
    assert!(follow.wait().unwrap().success());
    terminal.press(&["s"]);
    terminal.wait_for("RUN ENDED");
    terminal.press(&["q"]);
    terminal.wait_for("ended with 0");
}
