//! The commands without an interface, as a script would use them.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::fs;
use std::path::Path;
use std::process::{Command, Output, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

use common::{
    card_on_machine_of, program_on_machine_of, short_plan, stderr, stdout, text_of, yard_step,
};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use rstest::rstest;
use serde_json::Value;
use yard_step_card::Card;
use yard_step_core::{Fan, MhzOffset, Percent, Stage};
use yard_step_ledger::{DataDir, Ledger};

const CARD: &str = "standin:tarn-310";

/// Climbs the core's stages alone.
fn climb_core(data: &str, plan: &str, more: &[&str]) -> Output {
    let start = ["climb", "--card", CARD, "--stages", "baseline,core"];
    yard_step(&[&start[..], &["--data-dir", data, "--plan", plan], more].concat())
}

#[test]
fn the_same_seed_and_plan_give_the_same_document_twice() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let plan = short_plan(dir.path());
    let document = |name: &str, seed: &str| {
        let json = text_of(&dir.path().join(name));
        // With a ledger of its own: what took the machine down once is not asked for again.
        let data = format!("{data}/{name}.data");
        let output = climb_core(&data, &plan, &["--seed", seed, "--pace", "max", "--json", &json]);
        assert!(output.status.success(), "{}", stderr(&output));
        assert!(stdout(&output).contains("Outcome: core +"), "{}", stdout(&output));
        fs::read_to_string(json).unwrap()
    };
    let first = document("a.json", "3");
    assert_eq!(first, document("b.json", "3"));
    let value: Value = serde_json::from_str(&first).unwrap();
    // Another unit differs from its baseline on.
    let json = text_of(&dir.path().join("c.json"));
    let start = ["climb", "--card", CARD, "--seed", "4", "--stages", "baseline"];
    let more = ["--data-dir", &data, "--plan", &plan, "--pace", "max", "--json", &json];
    let output = yard_step(&[&start[..], &more].concat());
    assert!(output.status.success(), "{}", stderr(&output));
    let other: Value = serde_json::from_str(&fs::read_to_string(json).unwrap()).unwrap();
    assert_ne!(value["baseline"]["score"], other["baseline"]["score"]);
    assert_eq!(value["format"], "yard-step-climb");
    assert!(value["outcome"]["settings"]["core_offset_mhz"].is_i64());
}

#[test]
fn the_last_line_says_why_a_clock_stays_at_stock_and_where_runs_failed() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let plan = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/examples/by-hand.toml");
    let output = climb_core(&data, plan, &["--physics", "near-stock", "--pace", "max"]);
    let text = stdout(&output);
    let last = text.lines().last().unwrap();
    assert!(last.starts_with("Outcome: stock, score "), "{text}{}", stderr(&output));
    assert!(last.contains(
        " The core clock stays at stock. +60 MHz held for 1 min 20 s and failed in another run,"
    ));
    assert!(last.contains(" 2 runs failed under medley: 2 in \"loom\". "), "{last}");
}

#[test]
fn a_killed_climb_goes_on_where_it_was_and_loses_no_ended_trial() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let mut child = program_on_machine_of(&data)
        .args(["climb", "--card", CARD, "--seed", "5", "--pace", "60", "--data-dir", &data])
        .args(["--stages", "baseline,core", "--plan", &short_plan(dir.path())])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    // Two trials have been told of when it is killed, and a third is running.
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(child.stdout.take().unwrap()));
    let told: Vec<String> = lines.by_ref().take(3).map(Result::unwrap).collect();
    sleep(Duration::from_millis(100));
    child.kill().unwrap();
    child.wait().unwrap();

    let json = text_of(&dir.path().join("climb.json"));
    let output = yard_step(&[
        "climb",
        "--card",
        CARD,
        "--seed",
        "5",
        "--stages",
        "baseline,core",
        "--data-dir",
        &data,
        "--json",
        &json,
    ]);
    let text = stdout(&output);
    assert!(output.status.success(), "{}", stderr(&output));
    assert!(text.contains("is not finished: it goes on after its 2 trials."), "{text}");
    assert!(text.contains("Trial 3 (stock): machine down. It has no outcome"), "{text}");
    let document: Value = serde_json::from_str(&fs::read_to_string(json).unwrap()).unwrap();
    let trials = document["trials"].as_array().unwrap();
    for (line, trial) in told[1..].iter().zip(trials) {
        assert!(line.contains(trial["reason"].as_str().unwrap()), "{line}");
    }
    assert_eq!(trials[2]["verdict"], "machine down");
    assert!(trials.len() > 6);
}

#[test]
fn an_interrupted_climb_says_how_it_goes_on() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let arguments = ["climb", "--card", CARD, "--pace", "1", "--data-dir", &data];
    let mut child = program_on_machine_of(&data)
        .args(arguments)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut first = String::new();
    let mut out = std::io::BufReader::new(child.stdout.take().unwrap());
    std::io::BufRead::read_line(&mut out, &mut first).unwrap();
    Command::new("kill").args(["-s", "INT", &child.id().to_string()]).status().unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(130));
    assert!(stderr(&output).contains("The same command goes on with it."), "{}", stderr(&output));
}

#[test]
fn while_one_climbs_another_is_told_to_wait() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let mut child = program_on_machine_of(&data)
        .args(["climb", "--card", CARD, "--pace", "1", "--data-dir", &data])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut first = String::new();
    let mut out = std::io::BufReader::new(child.stdout.take().unwrap());
    std::io::BufRead::read_line(&mut out, &mut first).unwrap();
    let output = yard_step(&["climb", "--card", CARD, "--data-dir", &data]);
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(
        stderr(&output).contains("another Yard Step works on standin:tarn-310#1: process "),
        "{}",
        stderr(&output)
    );
}

#[rstest]
#[case(&["climb", "--card", "standin:none"], "there is no card \"standin:none\"")]
#[case(&["climb", "--card", CARD, "--seed", "x"], "invalid value 'x' for '--seed <N>'")]
#[case(&["climb", "--card", CARD, "--stages", "core"], "name baseline before it")]
#[case(&["climb", "--card", CARD, "--stages", ""], "there is no stage \"\"")]
#[case(&["climb", "--card", CARD, "--plan", "PLAN"], "core.fine_step_mhz is -15: it must be 1 to 100 MHz")]
#[case(&["climb", "--card", CARD, "--plan", "UNKNOWN"], "unknown field `fine_step`")]
#[case(&["climb", "--card", CARD, "--plan", "SCENE"], "there is no scene \"candle\"")]
#[case(&["climb", "--card", CARD, "--plan", "/no/such/plan.toml"], "plan /no/such/plan.toml: ")]
#[case(&["climb", "--card", CARD, "--json", "/no/such/climb.json"], "cannot write /no/such/climb.json: No such file")]
#[case(&["report", "--climb", "1", "--out", "chart.png"], "ends in .svg or .pdf")]
#[case(&["demo"], "the interface needs a terminal")]
#[case(&["open", "--card", CARD], "yard-step climb --card standin:tarn-310")]
#[case(&["cards", "--seed", "-1"], "--seed")]
#[case(&[], "Usage: yard-step")]
fn wrong_use_exits_with_2_and_says_what_is_wrong(#[case] arguments: &[&str], #[case] told: &str) {
    let dir = tempfile::tempdir().unwrap();
    let files = [
        ("PLAN", "[core]\nfine_step_mhz = -15\n"),
        ("UNKNOWN", "[core]\nfine_step = 15\n"),
        ("SCENE", "scene = \"candle\"\n"),
    ];
    for (name, content) in files {
        fs::write(dir.path().join(name), content).unwrap();
    }
    let output = program_on_machine_of(&text_of(dir.path()))
        .args(arguments)
        .env("XDG_DATA_HOME", dir.path())
        .current_dir(dir.path())
        .stdin(Stdio::null())
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(2), "{}", stderr(&output));
    assert!(stderr(&output).contains(told), "{}", stderr(&output));
    assert!(!stderr(&output).contains("panicked"));
}

#[test]
fn a_data_directory_that_cannot_be_written_is_named() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("file");
    fs::write(&file, "").unwrap();
    let output = yard_step(&["climb", "--card", CARD, "--data-dir", &text_of(&file.join("below"))]);
    assert_eq!(output.status.code(), Some(1));
    let told = stderr(&output);
    assert!(told.contains("file/below") && told.contains("--data-dir"), "{told}");
}

#[test]
fn a_corrupt_ledger_is_set_aside_and_told() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let rubbish = "rubbish ".repeat(100);
    fs::write(dir.path().join("ledger.sqlite"), &rubbish).unwrap();
    let plan = short_plan(dir.path());
    let output = climb_core(&data, &plan, &[]);
    assert!(output.status.success(), "{}", stderr(&output));
    assert!(stdout(&output).contains("It was set aside as"), "{}", stdout(&output));
    let aside = dir.path().join("ledger.sqlite.unreadable-1");
    assert_eq!(fs::read_to_string(aside).unwrap(), rubbish);
}

#[test]
fn a_climb_that_cannot_end_exits_with_1_and_the_way_out() {
    let dir = tempfile::tempdir().unwrap();
    let plan = dir.path().join("plan.toml");
    // No background at all is allowed, not even none.
    fs::write(&plan, "[rules]\nretries = 0\n[baseline]\nruns = 20\nseconds = 20\n").unwrap();
    let data = text_of(dir.path());
    let output = yard_step(&[
        "climb",
        "--card",
        CARD,
        "--seed",
        "2",
        "--data-dir",
        &data,
        "--plan",
        &text_of(&plan),
    ]);
    assert_eq!(output.status.code(), Some(1), "{}", stdout(&output));
    assert!(stderr(&output).contains("start a new climb"), "{}", stderr(&output));
}

#[test]
fn another_plan_for_an_unfinished_climb_is_refused_until_a_fresh_one_is_wanted() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let plan = dir.path().join("plan.toml");
    fs::write(&plan, "[rules]\nretries = 0\n[baseline]\nruns = 20\nseconds = 20\n").unwrap();
    let climb = |extra: &[&str]| {
        let start = [
            "climb",
            "--card",
            CARD,
            "--seed",
            "2",
            "--stages",
            "baseline,core",
            "--data-dir",
            &data,
        ];
        yard_step(&[&start[..], extra].concat())
    };
    climb(&["--plan", &text_of(&plan)]);
    let short = short_plan(dir.path());
    let refused = climb(&["--plan", &short]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(stderr(&refused).contains("add --fresh"), "{}", stderr(&refused));
    let fresh = climb(&["--plan", &short, "--fresh", "--keep", "by day"]);
    assert!(fresh.status.success(), "{}", stderr(&fresh));
    assert!(stdout(&fresh).contains("Kept as profile \"by day\"."));
}

#[test]
fn all_four_processes_write_to_one_log_with_the_trial() {
    let dir = tempfile::tempdir().unwrap();
    let (data, log) = (text_of(dir.path()), dir.path().join("what.log"));
    climb_core(&data, &short_plan(dir.path()), &["--log", &text_of(&log)]);
    let text = fs::read_to_string(log).unwrap();
    let has = |process: &str, what: &str| {
        text.lines().any(|line| line.contains(&format!(" {process}[")) && line.contains(what))
    };
    assert!(has("yard-step", "trial 1 of climb 1:  INFO is on disk; asks for stock"), "{text}");
    assert!(has("yard-step", "trial 1 of climb 1:  INFO is clean"), "{text}");
    assert!(has("load", "trial 1 of climb 1:  INFO runs lantern"), "{text}");
    assert!(has("slot", "hosts standin:tarn-310#"), "{text}");
    assert!(has("guard", "holds the way back"), "{text}");
    let refused = yard_step(&["cards", "--log", "/no/such/log"]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(stderr(&refused).contains("cannot write the log /no/such/log"), "{}", stderr(&refused));
}

#[test]
fn a_refused_card_in_step_leaves_no_climb_behind() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let of_other_kind = ["--in-step", "standin:quern-540#3"];
    let start = ["climb", "--card", CARD, "--data-dir", &data];
    let refused = yard_step(&[&start[..], &of_other_kind].concat());
    assert_eq!(refused.status.code(), Some(2), "{}", stderr(&refused));
    let report = yard_step(&["report", "--climb", "1", "--out", "-", "--data-dir", &data]);
    assert!(stderr(&report).contains("there is no climb 1"), "{}", stderr(&report));
}

#[test]
fn a_climb_is_drawn_as_svg_and_as_pdf() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    climb_core(&data, &short_plan(dir.path()), &[]);
    for (name, head) in [("climb.svg", "<svg"), ("climb.pdf", "%PDF")] {
        let out = text_of(&dir.path().join(name));
        let output = yard_step(&["report", "--climb", "1", "--out", &out, "--data-dir", &data]);
        assert!(output.status.success(), "{}", stderr(&output));
        let bytes = fs::read(&out).unwrap();
        let text = String::from_utf8_lossy(&bytes);
        assert!(text.starts_with(head));
        assert!(name.ends_with("pdf") || text.contains("@font-face"), "the font comes with it");
    }
    let output = yard_step(&["report", "--climb", "9", "--out", "x.svg", "--data-dir", &data]);
    assert_eq!(output.status.code(), Some(2));
    assert!(stderr(&output).contains("there is no climb 9 in the ledger; there are: 1"));
}

#[test]
fn cards_are_described_and_their_edges_told_only_on_request() {
    let describe = |extra: &[&str]| {
        let output = yard_step(&[&["cards", "--card", CARD, "--seed", "7"], extra].concat());
        assert!(output.status.success(), "{}", stderr(&output));
        stdout(&output)
    };
    assert!(
        describe(&[])
            .contains("core clock offset     −150 MHz to +300 MHz in steps of 15 MHz, offset")
    );
    assert!(!describe(&[]).contains("edge") && !describe(&["--json"]).contains("edge"));
    let revealed: Value = serde_json::from_str(&describe(&["--reveal", "--json"])).unwrap();
    let edge = revealed["edges"]["core_offset_mhz"].as_i64().unwrap();
    assert!((0..=300).contains(&edge) && edge % 15 == 0, "{edge}");
    assert_eq!(revealed["id"], CARD);
    let all: Value = serde_json::from_str(&stdout(&yard_step(&["cards", "--json"]))).unwrap();
    assert_eq!(all["cards"][0]["id"], CARD);
}

/// A tree of device files with one card in it.
fn device_files(root: &Path) {
    let device = root.join("class/drm/card1/device");
    fs::create_dir_all(device.join("hwmon/hwmon4")).unwrap();
    let table = "OD_SCLK_OFFSET:\n0Mhz\nOD_VDDGFX_OFFSET:\n0mV\nOD_RANGE:\nSCLK_OFFSET: -500Mhz 900Mhz\nVDDGFX_OFFSET: -200mv 0mv\n";
    for (file, content) in [
        ("vendor", "0x1b2c\n"),
        ("device", "0x7310\n"),
        ("uevent", "DRIVER=moor\nPCI_SLOT_NAME=0000:03:00.0\n"),
        ("pp_od_clk_voltage", table),
        ("hwmon/hwmon4/temp1_label", "edge\n"),
        ("hwmon/hwmon4/temp1_input", "61000\n"),
    ] {
        fs::write(device.join(file), content).unwrap();
    }
}

#[test]
fn a_real_card_is_listed_with_what_it_offers_measures_and_lacks() {
    let dir = tempfile::tempdir().unwrap();
    device_files(dir.path());
    let root = text_of(dir.path());
    let cards = |extra: &[&str]| yard_step(&[&["cards", "--sysfs", &root], extra].concat());
    let told = stdout(&cards(&["--card", "kernel"]));
    for part in [
        "device 1b2c:7310 (kernel:0000:03:00.0)",
        "core clock offset     −500 MHz to +900 MHz in steps of 1 MHz, offset, stock ±0 MHz",
        "power limit           not offered: there is no file class/drm/card1/device/hwmon/hwmon4/power1_max",
        "now: core temperature 61 °C",
    ] {
        assert!(told.contains(part), "{part}: {told}");
    }
    let listed: Value = serde_json::from_str(&stdout(&cards(&["--json"]))).unwrap();
    let last = listed["cards"].as_array().unwrap().last().unwrap();
    assert_eq!(last["id"], "kernel:0000:03:00.0");
    assert_eq!(last["readings"]["core_temperature"], 61.0);
    assert!(listed["cards"][0].get("readings").is_none(), "a stand-in is not looked at so");
    for (root, words, told) in [
        (root.as_str(), &["--card", "kernel:0000:09:00.0"][..], "there are: kernel:0000:03:00.0"),
        (root.as_str(), &["--card", "kernel", "--reveal"], "nobody knows the true edges"),
        ("/no/such/root", &["--card", "kernel"], "no real card found below /no/such/root"),
    ] {
        let refused = yard_step(&[&["cards", "--sysfs", root], words].concat());
        assert_eq!(refused.status.code(), Some(2), "{words:?}");
        assert!(stderr(&refused).contains(told), "{told}: {}", stderr(&refused));
    }
    for (words, told) in [
        (&["climb", "--card", "kernel", "--sysfs", "/no/such/root"][..], "no real card found"),
        (&["climb", "--card", "kernel", "--seed", "7"], "a real card is as it is"),
        (
            &["simulate", "--card", "kernel:0000:03:00.0", "--csv", "-"],
            "there is no card at 0000:03:00.0",
        ),
    ] {
        let refused = yard_step(words);
        assert!(!refused.status.success());
        assert!(stderr(&refused).contains(told), "{told}: {}", stderr(&refused));
    }
}

#[test]
fn a_simulation_writes_ten_samples_a_second_under_the_settings_it_was_given() {
    let dir = tempfile::tempdir().unwrap();
    let settings = dir.path().join("settings.toml");
    fs::write(&settings, "power_limit_w = 9999\ncore_offset_mhz = 40\nfan_percent = 100\n")
        .unwrap();
    let csv = text_of(&dir.path().join("trace.csv"));
    let simulate = |settings: &str, minutes: &str| {
        yard_step(&[
            "simulate",
            "--card",
            CARD,
            "--seed",
            "4",
            "--settings",
            settings,
            "--scene",
            "lantern",
            "--minutes",
            minutes,
            "--csv",
            &csv,
        ])
    };
    let output = simulate(&text_of(&settings), "3");
    assert!(output.status.success(), "{}", stderr(&output));
    let told = stdout(&output);
    assert!(
        told.contains("power limit 9999 W is outside 108 W to 283 W: 283 W is asked"),
        "{told}"
    );
    assert!(told.contains("core clock offset: asked +40 MHz, rounded to +30 MHz"), "{told}");
    let text = fs::read_to_string(&csv).unwrap();
    let rows: Vec<Vec<&str>> = text.lines().map(|line| line.split(',').collect()).collect();
    assert_eq!(rows.len(), 1 + 3 * 600);
    assert_eq!(rows[0][..2], ["time_s", "core_clock_mhz"]);
    let fan = rows[0].iter().position(|name| *name == "fan_percent").unwrap();
    assert_eq!((rows[1][0], rows[1800][0], rows[1800][fan]), ("0.1", "180.0", "100.0"));
    assert!(rows.iter().all(|row| row.len() == rows[0].len()));

    let again = simulate(&text_of(&settings), "3");
    assert_eq!(again.status.code(), Some(2), "{}", stderr(&again));
    assert!(stderr(&again).contains("add --force to write over it"), "{}", stderr(&again));
    fs::remove_file(&csv).unwrap();
    fs::write(&settings, "core_offset = 40\n").unwrap();
    let refused = simulate(&text_of(&settings), "3");
    assert_eq!(refused.status.code(), Some(2));
    assert!(stderr(&refused).contains("unknown field `core_offset`"), "{}", stderr(&refused));
    let too_long = simulate(&text_of(&settings), "99999");
    assert_eq!(too_long.status.code(), Some(2));
}

#[rstest]
#[case("standin:bracken-208", "memory_voltage_mv = 950")]
#[case("standin:quern-540", "power_limit_percent = 105\nmemory_timing_level = 1")]
fn every_kind_is_simulated_under_settings_of_its_own(#[case] card: &str, #[case] settings: &str) {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("settings.toml");
    fs::write(&file, settings).unwrap();
    let csv = text_of(&dir.path().join("trace.csv"));
    let output = yard_step(&[
        "simulate",
        "--card",
        card,
        "--settings",
        &text_of(&file),
        "--minutes",
        "1",
        "--csv",
        &csv,
    ]);
    assert!(output.status.success(), "{}", stderr(&output));
    assert!(stdout(&output).starts_with("600 samples over 1 min"), "{}", stdout(&output));
    let text = fs::read_to_string(&csv).unwrap();
    let rows: Vec<Vec<&str>> = text.lines().map(|line| line.split(',').collect()).collect();
    let memory = rows[0].iter().position(|name| *name == "memory_temperature_c").unwrap();
    assert_eq!(rows[600][memory].is_empty(), card.contains("bracken"), "a gap, not a zero");
}

#[test]
fn what_a_card_lacks_is_listed_with_the_reason() {
    let output = yard_step(&["cards", "--card", "standin:quern-540", "--seed", "3"]);
    let told = stdout(&output);
    assert!(
        told.contains("power limit           157 W, 55 % to 335 W, 117 % in steps of 1 %"),
        "{told}"
    );
    assert!(told.contains("not offered: it takes a lowest and highest clock instead"), "{told}");
    assert!(told.contains("2180 MHz actual, 17440 MT/s effective, 488 GB/s"), "{told}");
    let bracken = stdout(&yard_step(&["cards", "--card", "standin:bracken-208", "--reveal"]));
    assert!(bracken.contains("no memory temperature: no sensor at its age"), "{bracken}");
    assert!(bracken.contains("true edge of the memory clock offset: +"), "{bracken}");
}

#[test]
fn the_machine_is_described_piece_by_piece_and_what_cannot_be_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let machine =
        |options: &[&str]| yard_step(&[&["machine", "--data-dir", &data], options].concat());
    assert!(stdout(&machine(&[])).contains("room                 not said"));
    let said = machine(&["--ambient", "24", "--case", "closed", "--alarm", "hot-spot=95:stop"]);
    assert!(stdout(&said).contains("24 °C, case closed"), "{}", stderr(&said));
    machine(&["--supply", "650"]);
    let all: Value = serde_json::from_str(&stdout(&machine(&["--json"]))).unwrap();
    assert_eq!(all["room"]["case"], "closed");
    assert_eq!(all["supply_w"], 650.0);
    assert_eq!(all["alarms"][0]["act"], "stop");
    let refused = machine(&["--supply", "7"]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(stderr(&refused).contains("a power supply of 7 W: it must be 100 to 5000 W"));
    let off = stdout(&machine(&["--alarm", "hot-spot=off"]));
    assert!(!off.contains("alarm") && off.contains("650 W"), "{off}");
}

#[test]
fn changes_around_a_card_are_noted_listed_and_taken_back() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let machine =
        |options: &[&str]| yard_step(&[&["machine", "--data-dir", &data], options].concat());
    let card = "standin:tarn-310#7";
    let noted = machine(&["--card", card, "--changed", "new paste", "--on", "2026-02-03"]);
    let line = format!("change 1             2026-02-03, {card}: new paste");
    assert!(stdout(&noted).contains(&line), "{}{}", stdout(&noted), stderr(&noted));
    machine(&["--card", card, "--changed", "quiet firmware"]);
    let left = stdout(&machine(&["--forget-change", "1"]));
    assert!(!left.contains("new paste") && left.contains("quiet firmware"), "{left}");
    let text = |options: &[&str]| {
        let output = machine(options);
        assert_eq!(output.status.code(), Some(2), "{options:?}");
        stderr(&output)
    };
    assert!(text(&["--forget-change", "9"]).contains("there is no such change; 1 change noted"));
    assert!(text(&["--changed", "case"]).contains("--card <CARD>"));
    assert!(
        text(&["--card", card, "--changed", "x", "--on", "2999-01-01"]).contains("still to come")
    );
    assert!(text(&["--card", card, "--changed", "x", "--on", "soon"]).contains("is not a day"));
    assert!(text(&["--card", card, "--changed", " "]).contains("--changed: the name is empty"));
}

#[test]
fn the_memory_of_a_card_that_does_not_state_it_is_noted_and_taken_back() {
    let dir = tempfile::tempdir().unwrap();
    let sysfs = dir.path().join("sys");
    fs::create_dir_all(sysfs.join("class/drm/card0/device")).unwrap();
    let (data, sysfs) = (text_of(dir.path()), text_of(&sysfs));
    let card = ["machine", "--data-dir", &data, "--sysfs", &sysfs, "--card", "kernel"];
    let machine = |options: &[&str]| yard_step(&[&card, options].concat());
    let noted = stdout(&machine(&["--memory", "gddr6", "--bus-bits", "256"]));
    assert!(noted.contains("GDDR6, 256 bits wide"), "{noted}");
    let changed = stdout(&machine(&["--memory", "HBM"]));
    assert!(changed.contains(": HBM\n") && !changed.contains("GDDR6"), "{changed}");
    for (options, told) in [
        (vec!["--memory", "slow"], "choose from GDDR5, GDDR6, HBM, unknown"),
        (vec!["--memory", "HBM", "--bus-bits", "7"], "a memory bus of 7 bits: it must be 16"),
        (vec!["--memory", "unknown", "--bus-bits", "64"], "--bus-bits: name the kind"),
        (vec!["--bus-bits", "64"], "--memory"),
        (vec![], "--memory"),
    ] {
        let refused = machine(&options);
        assert_eq!(refused.status.code(), Some(2), "{options:?}");
        assert!(stderr(&refused).contains(told), "{options:?}: {}", stderr(&refused));
    }
    let unsaid = stdout(&machine(&["--memory", "unknown"]));
    assert!(!unsaid.contains("HBM"), "{unsaid}");
    let stating = ["machine", "--data-dir", &data, "--card", "standin:tarn-310", "--memory", "HBM"];
    assert!(stderr(&yard_step(&stating)).contains("states its memory itself: W6"));
}

#[test]
fn a_trace_made_elsewhere_is_told_column_by_column_and_bad_rows_by_line() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("theirs.csv");
    fs::write(
        &file,
        "Elapsed [ms];GPU Clock [GHz];Hotspot (°F);Fan [RPM]\n100;2,01;158;900\n200;x;159;900\n",
    )
    .unwrap();
    let ours = text_of(&dir.path().join("ours.csv"));
    let output = yard_step(&["import", &text_of(&file), "--csv", &ours]);
    assert!(output.status.success(), "{}", stderr(&output));
    let told = stdout(&output);
    assert!(told.contains("core clock, lowest 2010.0, mean 2010.0, highest 2010.0 MHz"), "{told}");
    assert!(told.contains("hot spot, lowest 70.0"), "{told}");
    assert!(told.contains("left out: rpm cannot be turned into %"), "{told}");
    assert!(
        told.contains("line 3: \"x\" is not a number") && told.contains("1 rows were left out")
    );
    assert!(fs::read_to_string(&ours).unwrap().contains("\n0.1,2010,"));
    let missing = yard_step(&["import", "nowhere.csv"]);
    assert_eq!(missing.status.code(), Some(2));
    assert!(stderr(&missing).contains("cannot import nowhere.csv"), "{}", stderr(&missing));
}

#[test]
fn a_card_without_a_core_offset_climbs_by_the_top_of_its_window() {
    let dir = tempfile::tempdir().unwrap();
    let (data, plan) = (text_of(dir.path()), short_plan(dir.path()));
    let climb = |options: &[&str]| {
        let common = ["climb", "--card", "standin:quern-540", "--data-dir", &data, "--plan", &plan];
        yard_step(&[&common, options].concat())
    };
    let refused = climb(&["--stages", "baseline,together"]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(stderr(&refused).contains("name both before it"), "{}", stderr(&refused));
    let output = climb(&["--stages", "baseline,core"]);
    assert!(output.status.success(), "{}", stderr(&output));
    assert!(stdout(&output).contains("core 2"), "its window goes up: {}", stdout(&output));
}

#[test]
fn two_cards_in_step_climb_by_the_graver_verdict() {
    let dir = tempfile::tempdir().unwrap();
    let (data, plan) = (text_of(dir.path()), short_plan(dir.path()));
    // What is looked at shows in every trial: none needs to be long.
    let brief =
        fs::read_to_string(&plan).unwrap().replace("confirm_seconds = 120", "confirm_seconds = 30");
    fs::write(&plan, brief).unwrap();
    let json = text_of(&dir.path().join("climb.json"));
    let output = climb_core(
        &data,
        &plan,
        &["--seed", "6", "--in-step", "standin:tarn-310#4", "--json", &json],
    );
    assert!(output.status.success(), "{}", stderr(&output));
    let climb: Value = serde_json::from_str(&fs::read_to_string(&json).unwrap()).unwrap();
    let trials = climb["trials"].as_array().unwrap();
    for trial in trials {
        let other = &trial["in_step"][0];
        assert_eq!(other["card"], "standin:tarn-310#4");
        let clean = trial["verdict"] == "clean";
        assert!(!clean || other["verdict"] == "clean", "{trial}");
    }
    let alike = yard_step(&[
        "climb",
        "--card",
        CARD,
        "--in-step",
        "standin:quern-540#4",
        "--data-dir",
        &data,
        "--plan",
        &plan,
    ]);
    assert_eq!(alike.status.code(), Some(2));
    assert!(stderr(&alike).contains("two different cards of one kind"), "{}", stderr(&alike));
}

#[test]
fn an_alarm_that_puts_back_stops_a_climb_without_the_interface() {
    let dir = tempfile::tempdir().unwrap();
    let (data, plan) = (text_of(dir.path()), short_plan(dir.path()));
    yard_step(&["machine", "--data-dir", &data, "--alarm", "board-power=100:put-back"]);
    let output = climb_core(&data, &plan, &[]);
    assert_eq!(output.status.code(), Some(1));
    assert!(stderr(&output).contains("an alarm put the card back"), "{}", stderr(&output));
    assert!(stdout(&output).contains("is above the alarm at 100 W"), "{}", stdout(&output));
}

#[test]
fn a_pass_has_a_score_and_rates_for_every_section() {
    let output = yard_step(&["pass", "--card", CARD, "--scene", "squall", "--passes", "2"]);
    let text = stdout(&output);
    assert!(text.contains("pass 2 of squall: score ") && text.contains("1 % low"), "{text}");
    for section in ["slow gusts", "gusts", "fast gusts", "gusts by chance"] {
        assert_eq!(
            text.lines().filter(|line| line.contains(&format!("s  {section:<16} "))).count(),
            2
        );
    }
    let output = yard_step(&["pass", "--card", CARD, "--scene", "kiln", "--json"]);
    let passes: Value = serde_json::from_str(&stdout(&output)).unwrap();
    assert_eq!(passes[0]["scene"], "kiln");
    let (score, fps) = (&passes[0]["score"], &passes[0]["average_fps"]);
    assert!((score.as_f64().unwrap() / fps.as_f64().unwrap() - 60.0).abs() < 1e-6);
    assert_eq!(passes[0]["sections"].as_array().unwrap().len(), 4);
}

#[test]
fn what_is_found_is_run_under_the_loads_that_cross_check() {
    let dir = tempfile::tempdir().unwrap();
    let (plan, data) = (short_plan(dir.path()), text_of(&dir.path().join("data")));
    let climb = ["climb", "--card", CARD, "--seed", "3", "--data-dir", &data, "--plan", &plan];
    let loads = ["--cross-check", "kiln,sluice", "--stages", "baseline,core"];
    let refused = yard_step(&[&climb[..], &["--cross-check", "kiln,anvil"]].concat());
    assert_eq!(refused.status.code(), Some(2));
    assert!(stderr(&refused).contains("there is no scene \"anvil\""), "{}", stderr(&refused));
    let twice = yard_step(&[&climb[..], &["--cross-check", "kiln,kiln"]].concat());
    assert!(stderr(&twice).contains("name kiln twice"), "{}", stderr(&twice));
    let output = yard_step(&[&climb[..], &loads].concat());
    assert!(output.status.success(), "{} {}", stdout(&output), stderr(&output));
    let ledger = Ledger::open(&DataDir::new(dir.path().join("data"))).unwrap().ledger;
    let entry = ledger.climb(1).unwrap();
    assert_eq!(entry.stages.last(), Some(&Stage::CrossCheck));
    let under = |stage: Stage| -> Vec<&str> {
        let of_stage = entry.trials.iter().filter(|trial| trial.record.stage == stage);
        let mut loads: Vec<&str> = of_stage.map(|trial| trial.record.scene.as_str()).collect();
        loads.dedup();
        loads
    };
    assert_eq!(under(Stage::Baseline), ["lantern", "kiln", "sluice"]);
    assert_eq!(under(Stage::Core), ["lantern"]);
    assert_eq!(under(Stage::CrossCheck), ["kiln", "sluice"]);
}

#[test]
fn every_scene_can_be_climbed_under() {
    let dir = tempfile::tempdir().unwrap();
    let plan = text_of(&dir.path().join("plan.toml"));
    let brief =
        "[baseline]\nruns = 1\nseconds = 30\nwarm_up_seconds = 0\n[rules]\nmost_warming_k = 50\n";
    fs::write(&plan, brief).unwrap();
    for scene in ["kiln", "sluice", "loom", "doldrums", "squall"] {
        let data = text_of(&dir.path().join(scene));
        let output = yard_step(&[
            "climb",
            "--card",
            CARD,
            "--seed",
            "3",
            "--stages",
            "baseline",
            "--plan",
            &plan,
            "--load",
            scene,
            "--data-dir",
            &data,
        ]);
        assert!(output.status.success(), "{scene}: {} {}", stdout(&output), stderr(&output));
        assert!(stdout(&output).contains("clean"), "{scene}: {}", stdout(&output));
    }
}

#[test]
fn a_card_is_not_held_in_step_with_itself() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let own = format!("{CARD}#3");
    let output = yard_step(&[
        "climb",
        "--card",
        CARD,
        "--seed",
        "3",
        "--in-step",
        &own,
        "--data-dir",
        &data,
    ]);
    assert_eq!(output.status.code(), Some(2));
    assert!(stderr(&output).contains("two different cards of one kind"), "{}", stderr(&output));
}

/// A climb of the core's stages whose outcome is kept, and the directory it lies in.
fn kept() -> (tempfile::TempDir, String) {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let plan = short_plan(dir.path());
    let keep = ["--keep", "quick one", "--purpose", "the lake show"];
    let output = climb_core(&data, &plan, &keep);
    assert!(output.status.success(), "{}", stderr(&output));
    (dir, data)
}

fn profile(data: &str, arguments: &[&str]) -> Output {
    yard_step(&[&["profile", "--card", CARD, "--data-dir", data], arguments].concat())
}

#[test]
fn profiles_are_listed_with_their_evidence_and_put_in_and_out_of_use() {
    let (_dir, data) = kept();
    let listed = stdout(&profile(&data, &["list"]));
    for part in
        ["quick one (in use, not proven)", "the lake show", "outcome of climb 1", "evidence"]
    {
        assert!(listed.contains(part), "{part}: {listed}");
    }
    assert!(stdout(&profile(&data, &["use", "--none"])).contains("the card starts at stock"));
    assert!(stdout(&profile(&data, &["list"])).contains("quick one (not proven)"));
    let used = stdout(&profile(&data, &["use", "quick one"]));
    assert!(used.contains("is in use. It is not proven."), "{used}");
    let unknown = profile(&data, &["use", "slow one"]);
    assert_eq!(unknown.status.code(), Some(2));
    assert!(stderr(&unknown).contains("there are: \"quick one\""), "{}", stderr(&unknown));
    assert!(stdout(&profile(&data, &["drop", "quick one"])).contains("is deleted"));
    let gone = profile(&data, &["export", "quick one", "--out", "never.json"]);
    assert_eq!(gone.status.code(), Some(2));
    assert!(stderr(&gone).contains("there is none yet"), "{}", stderr(&gone));
}

#[test]
fn a_profile_is_shared_as_a_file_and_is_a_starting_point_elsewhere() {
    let (dir, data) = kept();
    let file = text_of(&dir.path().join("quick.json"));
    assert!(profile(&data, &["export", "quick one", "--out", &file]).status.success());
    let again = profile(&data, &["export", "quick one", "--out", &file]);
    assert_eq!(again.status.code(), Some(2), "what is there is left alone");
    let document: Value = serde_json::from_str(&fs::read_to_string(&file).unwrap()).unwrap();
    assert_eq!(document["format"], "yard-step-profile");
    let core = document["settings"]["core_offset_mhz"].as_i64().unwrap();

    let other = ["--seed", "9", "list"];
    assert!(stdout(&profile(&data, &other)).contains("no profile is kept"));
    let import = ["--seed", "9", "import", &file, "--cut-back", "50"];
    let told = stdout(&profile(&data, &import));
    assert!(told.contains("cut back by 50 %") && told.contains("nothing is proven"), "{told}");
    let listed = stdout(&profile(&data, &["--seed", "9", "list", "--json"]));
    let listed: Value = serde_json::from_str(&listed).unwrap();
    let cut = listed[0]["settings"]["core_offset_mhz"].as_i64().unwrap();
    assert!(cut > 0 && cut <= core / 2, "{cut} of {core}");
    assert_eq!(listed[0]["evidence"]["proof"], "not proven");
    let twice = stdout(&profile(&data, &import));
    assert!(twice.contains("Imported as \"quick one 2\""), "{twice}");

    fs::write(&file, "{\"format\": \"yard-step-profile\", \"version\": 9}").unwrap();
    let newer = profile(&data, &import);
    assert_eq!(newer.status.code(), Some(2));
    assert!(stderr(&newer).contains("a profile of version 9"), "{}", stderr(&newer));
    let share = profile(&data, &["import", &file, "--cut-back", "130"]);
    assert!(stderr(&share).contains("it must be 0 to 100"), "{}", stderr(&share));
}

#[test]
fn work_is_weighed_as_table_document_and_chart() {
    let (dir, data) = kept();
    let weigh = |more: &[&str]| {
        yard_step(&[&["weigh", "--card", CARD, "--data-dir", &data], more].concat())
    };
    let table = stdout(&weigh(&[]));
    assert!(table.contains("under lantern: work against board power"), "{table}");
    assert!(table.contains("settings more were run"), "{table}");
    let document: Value =
        serde_json::from_str(&stdout(&weigh(&["--against", "degrees", "--json"]))).unwrap();
    assert_eq!((&document["against"], &document["unit"]), (&"degrees".into(), &"°C".into()));
    assert!(document["points"].as_array().unwrap().iter().any(|point| point["is_stock"] == true));
    for name in ["frontier.svg", "frontier.pdf"] {
        let out = text_of(&dir.path().join(name));
        let drawn = weigh(&["--out", &out]);
        assert!(stdout(&drawn).contains("is in"), "{}", stderr(&drawn));
        assert_eq!(weigh(&["--out", &out]).status.code(), Some(2), "left alone");
    }
    let pdf = text_of(&dir.path().join("frontier.pdf"));
    let words = Command::new("pdftotext").args([&pdf, "-"]).output().unwrap();
    assert!(stdout(&words).contains("work against stock"), "{}", stdout(&words));
    let refused = weigh(&["--load", "kiln"]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(stderr(&refused).contains("there are: lantern"), "{}", stderr(&refused));
    let kind = weigh(&["--out", "frontier.png"]);
    assert!(stderr(&kind).contains("ends in .svg or .pdf"), "{}", stderr(&kind));
}

/// A data directory with a profile of a Tarn that moves its fan and its core, read from a file.
fn with_imported_profile(dir: &tempfile::TempDir) -> String {
    let data = text_of(dir.path());
    let file = text_of(&dir.path().join("mild.json"));
    let document = r#"{"format": "yard-step-profile", "version": 1, "name": "mild", "purpose": "",
        "card": {"id": "standin:tarn-310", "serial": "9", "name": "Tarn 310"}, "driver": null,
        "settings": {"core_offset_mhz": 30, "fan_percent": 90.0}, "margin": null, "evidence": null}"#;
    fs::write(&file, document).unwrap();
    let read = profile(&data, &["import", &file, "--cut-back", "0"]);
    assert!(read.status.success(), "{}", stderr(&read));
    data
}

/// A program that says when it runs, waits to be let go, and ends with 7.
fn waiting_program(dir: &tempfile::TempDir) -> String {
    let here = dir.path().display();
    format!("touch {here}/runs; while [ ! -e {here}/go ]; do sleep 0.05; done; exit 7")
}

fn wait_for_file(path: &std::path::Path) {
    for _ in 0..1_200 {
        if path.exists() {
            return;
        }
        sleep(Duration::from_millis(50));
    }
    panic!("{} never came to be", path.display());
}

#[test]
fn a_profile_is_held_while_a_program_runs_and_its_exit_code_is_passed_on() {
    let dir = tempfile::tempdir().unwrap();
    let data = with_imported_profile(&dir);
    let child = program_on_machine_of(&data)
        .args(["with-profile", "--card", CARD, "--data-dir", &data, "mild", "--"])
        .args(["sh", "-c", &waiting_program(&dir)])
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    wait_for_file(&dir.path().join("runs"));
    let mut card = common::card_on_machine_of(&data, "standin:tarn-310#1").unwrap();
    let held = card.taken().unwrap();
    assert_eq!(held.core_offset, Some(MhzOffset(30)));
    assert_eq!(held.fan, Some(Fan::Fixed(Percent(90.0))));
    fs::write(dir.path().join("go"), "").unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(7), "the program's own");
    let told = stderr(&output);
    assert!(told.contains("Tarn 310 holds profile \"mild\" (core clock offset +30 MHz"), "{told}");
    assert!(told.contains("It is not proven.") && told.contains("The card is back."), "{told}");
    let back = card.taken().unwrap();
    assert_eq!((back.core_offset, back.fan), (Some(MhzOffset(0)), Some(Fan::Automatic)));
}

#[test]
fn a_signal_ends_the_program_and_brings_the_card_back_and_so_does_a_kill() {
    for (signal, code) in [("-TERM", Some(143)), ("-KILL", None)] {
        let dir = tempfile::tempdir().unwrap();
        let data = with_imported_profile(&dir);
        let mut child = program_on_machine_of(&data)
            .args(["with-profile", "--card", CARD, "--data-dir", &data, "mild", "--"])
            .args(["sh", "-c", &format!("exec 2>&-; {}", waiting_program(&dir))])
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        wait_for_file(&dir.path().join("runs"));
        let mut card = common::card_on_machine_of(&data, "standin:tarn-310#1").unwrap();
        assert_eq!(card.taken().unwrap().core_offset, Some(MhzOffset(30)));
        let killed = Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap();
        assert!(killed.success());
        assert_eq!(child.wait().unwrap().code(), code);
        fs::write(dir.path().join("go"), "").unwrap();
        let is_back = (0..1_200).any(|_| {
            sleep(Duration::from_millis(50));
            card.taken().unwrap().core_offset == Some(MhzOffset(0))
        });
        assert!(is_back, "after {signal} the guard brings the card back");
    }
}

#[rstest]
#[case::unknown(&["fast", "--", "true"], 2, "there is no profile \"fast\"")]
#[case::no_program(&["mild"], 2, "PROGRAM")]
#[case::no_such_program(&["mild", "--", "no-such-program"], 1, "no-such-program cannot be started")]
fn what_cannot_be_run_with_a_profile_is_refused_and_the_card_stays_at_stock(
    #[case] arguments: &[&str],
    #[case] code: i32,
    #[case] told: &str,
) {
    let dir = tempfile::tempdir().unwrap();
    let data = with_imported_profile(&dir);
    let start = ["with-profile", "--card", CARD, "--data-dir", &data];
    let output = yard_step(&[&start[..], arguments].concat());
    assert_eq!(output.status.code(), Some(code), "{}", stderr(&output));
    assert!(stderr(&output).contains(told), "{}", stderr(&output));
    let after = common::card_on_machine_of(&data, "standin:tarn-310#1");
    let held = after.map(|mut card| card.taken().unwrap().core_offset);
    assert!(held.is_none_or(|offset| offset == Some(MhzOffset(0))), "{held:?}");
}

/// A profile for unit 3 with this offset of the core, as somebody else would hand it over.
fn import_profile(data: &str, name: &str, offset: i32) {
    let file = Path::new(data).join("profile.json");
    let document = serde_json::json!({
        "format": "yard-step-profile", "version": 1, "name": name, "purpose": "", "driver": "1.0",
        "card": { "id": CARD, "name": "Tarn 310", "serial": "3" },
        "settings": { "core_offset_mhz": offset, "fan_percent": 100.0 },
    });
    fs::write(&file, document.to_string()).unwrap();
    let imported = on_unit_3(data, &["profile", "import", &text_of(&file), "--cut-back", "0"]);
    assert!(imported.status.success(), "{}", stderr(&imported));
}

fn on_unit_3(data: &str, arguments: &[&str]) -> Output {
    let card = ["--card", "standin:tarn-310#3", "--data-dir", data];
    yard_step(&[&arguments[..1], &card, &arguments[1..]].concat())
}

#[test]
fn everyday_use_is_recorded_by_its_kind_and_no_climb_goes_on_from_it() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    import_profile(&data, "by day", 45);
    let run = |arguments: &[&str]| on_unit_3(&data, arguments);
    let watch = ["watch", "--profile", "by day", "--pace", "max", "--hours"];
    let first = run(&[&watch[..], &["0.4"]].concat());
    assert!(first.status.success(), "{}", stderr(&first));
    let told = stdout(&first);
    assert!(told.contains("24 min of everyday use at profile \"by day\""), "{told}");
    assert!(
        told.contains("in record 1.")
            && told.contains("24 min without a fault in 3 runs of everyday"),
        "{told}"
    );
    assert_eq!(stderr(&first).matches(" busy, clean: ").count(), 3, "{}", stderr(&first));
    // It is added to the same record.
    let told = stdout(&run(&[&watch[..], &["0.1"]].concat()));
    assert!(
        told.contains("in record 1.") && told.contains("30 min without a fault in 4 runs"),
        "{told}"
    );
    let unknown = run(&["watch", "--profile", "by night"]);
    assert_eq!(unknown.status.code(), Some(2), "{}", stderr(&unknown));
    let climb = climb_core(&data, &short_plan(dir.path()), &["--seed", "3", "--pace", "max"]);
    assert!(stdout(&climb).contains("climb 2, stages baseline, core"), "{}", stdout(&climb));
}

#[test]
fn a_profile_is_held_while_a_program_started_elsewhere_runs() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    import_profile(&data, "by day", 45);
    let program = dir.path().join("quayside-lanterns");
    fs::copy("/bin/sleep", &program).unwrap();
    let mut watch = program_on_machine_of(&data)
        .args(["watch", "--card", "standin:tarn-310#3", "--data-dir", &data])
        .args(["--profile", "by day", "--during", "quayside-lanterns", "--pace", "1"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let until = |what: &str, is_so: &mut dyn FnMut(Option<MhzOffset>) -> bool| {
        let began = Instant::now();
        loop {
            let card = card_on_machine_of(&data, "standin:tarn-310#3");
            let offset = card.and_then(|mut card| card.taken().ok()?.core_offset);
            if is_so(offset) {
                return;
            }
            assert!(began.elapsed() < Duration::from_secs(60), "{what}: {offset:?}");
            sleep(Duration::from_millis(20));
        }
    };
    let holds_none = |offset| offset == Some(MhzOffset::STOCK);
    until("stock before the program", &mut |offset| holds_none(offset));
    let mut runs = std::process::Command::new(&program).arg("60").spawn().unwrap();
    until("the profile", &mut |offset| offset.is_some_and(|offset| offset > MhzOffset::STOCK));
    runs.kill().unwrap();
    runs.wait().unwrap();
    until("stock after the program", &mut |offset| holds_none(offset));
    kill(Pid::from_raw(watch.id() as i32), Signal::SIGINT).unwrap();
    assert!(watch.wait().unwrap().success());
}

#[test]
fn a_fault_in_everyday_use_ends_the_watch_and_stands_against_the_profile() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    // Far past the edge of this unit.
    import_profile(&data, "bold", 225);
    let watch = ["watch", "--profile", "bold", "--pace", "max", "--hours", "100"];
    let watched = on_unit_3(&data, &watch);
    assert_eq!(watched.status.code(), Some(1));
    let told = stderr(&watched);
    assert!(told.contains("failed in everyday use, and the card was put back."), "{told}");
    let list = stdout(&on_unit_3(&data, &["profile", "list"]));
    assert!(list.contains("bold (failed)") && list.contains("of climb 1 ended in"), "{list}");
}

#[test]
fn a_study_takes_families_that_ship_and_families_of_a_file() {
    let dir = tempfile::tempdir().unwrap();
    let file = text_of(&dir.path().join("mine.toml"));
    fs::write(&file, "about = \"mine\"\nonset = \"cliff\"\n").unwrap();
    let study = |physics: &str| {
        let start = ["study", "--cards", "2", "--policies", "bayesian", "--physics"];
        yard_step(&[&start[..], &[physics]].concat())
    };
    let table = stdout(&study(&format!("as-shipped,{file}")));
    assert!(table.contains("as-shipped       bayesian") && table.contains("mine.toml"), "{table}");
    assert!(table.contains("Reliability:"), "{table}");
    let unknown = study("marsh");
    assert_eq!(unknown.status.code(), Some(2));
    let told = stderr(&unknown);
    assert!(told.contains("marsh: ") && told.contains("families that ship: as-shipped"), "{told}");
    fs::write(&file, "floor_hours = -1\n").unwrap();
    let bad = study(&file);
    assert_eq!(bad.status.code(), Some(2));
    assert!(stderr(&bad).contains("floor_hours is -1: it must be 0.1 to 100000"));
}

#[rstest]
#[case(&["--policies", "bayesian"], "kind,seed,policy,")]
#[case(&["--strategies", "undervolt-quiet"], "kind,seed,strategy,")]
#[case(&["--ceiling"], "kind,seed,is_power_limited,makers.gain_percent,")]
#[case(&["--air"], "kind,seed,plateaus_off_k.0,")]
#[case(&["--proof"], "family,kind,seed,before.stated,")]
fn every_study_writes_its_rows_as_csv(#[case] what: &[&str], #[case] header: &str) {
    let start = ["study", "--cards", "1", "--quick", "--csv", "-"];
    let rows = stdout(&yard_step(&[&start[..], what].concat()));
    assert!(rows.starts_with(header) && rows.lines().count() >= 2, "{rows}");
}

#[test]
fn a_unit_of_a_family_is_climbed_on_and_what_it_taught_is_shown_and_forgotten() {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let plan = short_plan(dir.path());
    let on = |args: &[&str]| {
        let output = program_on_machine_of(&data).args(args).args(["--data-dir", &data]).output();
        output.unwrap()
    };
    let climb = |card: &[&str]| {
        let start =
            ["climb", "--pace", "max", "--stages", "baseline,core", "--plan", &plan, "--card"];
        on(&[&start[..], card].concat())
    };
    assert!(stdout(&on(&["learnt"])).starts_with("Nothing was learnt yet"));
    let first = climb(&[CARD, "--seed", "4", "--physics", "near-stock"]);
    assert!(first.status.success(), "{}", stderr(&first));
    // The same card by its address: another climb, which has learnt from the first.
    let ended = climb(&[&format!("{CARD}#4@near-stock")]);
    assert!(stdout(&ended).contains("unit 4@near-stock: climb 2"), "{}", stdout(&ended));
    let table = stdout(&on(&["learnt"]));
    assert!(table.starts_with("Tarn 310, near-stock: 2 climbs on this kind of card\n"), "{table}");
    assert!(
        table.contains("core     edge +") && table.contains("e-fold: clock in which"),
        "{table}"
    );
    let json: serde_json::Value =
        serde_json::from_str(&stdout(&on(&["learnt", "--json"]))).unwrap();
    assert_eq!(
        (json[0]["climbs"].as_u64(), json[0]["kind"].as_str()),
        (Some(2), Some("Tarn 310, near-stock"))
    );
    let unknown = on(&["learnt", "--forget", "Heron"]);
    assert_eq!(unknown.status.code(), Some(2));
    assert!(
        stderr(&unknown)
            .contains("nothing was learnt of \"Heron\"; there are: Tarn 310, near-stock")
    );
    assert!(on(&["learnt", "--forget", "Tarn 310, near-stock"]).status.success());
    assert!(stdout(&on(&["learnt"])).starts_with("Nothing was learnt yet"));
    let wrong = climb(&[&format!("{CARD}#4@marsh")]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(stderr(&wrong).contains("families that ship: as-shipped"), "{}", stderr(&wrong));
}
