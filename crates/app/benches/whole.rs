//! What the whole program costs: a climb at the highest pace through all its processes, and the interface when
//! nothing runs. Both are printed.
#![allow(missing_docs, clippy::unwrap_used)]

#[path = "../tests/common/mod.rs"]
mod common;

use std::fs;
use std::path::Path;
use std::thread::sleep;
use std::time::{Duration, Instant};

use common::{Terminal, machine_of, text_of, yard_step};

/// How long the interface is watched.
const WATCHED: Duration = Duration::from_secs(60);
/// Ticks of processor time in a second, as `/proc` counts them.
const TICKS: f64 = 100.0;

fn main() {
    // Tests build it and do not run it.
    if !std::env::args().any(|argument| argument == "--bench") {
        return;
    }
    for card in ["standin:tarn-310", "standin:quern-540", "standin:bracken-208"] {
        println!("{}", climb(card));
    }
    println!("{}", idle());
}

/// A climb from the command line, by the plan as it ships.
fn climb(card: &str) -> String {
    let dir = tempfile::tempdir().unwrap();
    let began = Instant::now();
    let data = text_of(dir.path());
    let ended = yard_step(&["climb", "--card", card, "--pace", "max", "--data-dir", &data]);
    let took = began.elapsed().as_secs_f64();
    let trials = String::from_utf8_lossy(&ended.stdout).matches("trial ").count();
    format!("a climb on {card} at the highest pace: {took:.1} s, {trials} trials told")
}

/// The interface, the card's host and its guard while nothing runs.
fn idle() -> String {
    let dir = tempfile::tempdir().unwrap();
    let data = text_of(dir.path());
    let program = env!("CARGO_BIN_EXE_yard-step");
    let command = format!("{program} open --card standin:tarn-310 --data-dir {data}");
    let terminal = Terminal::start((160, 50), &command);
    terminal.wait_for("NOTHING YET");
    let machine = text_of(&machine_of(&data));
    let (before, _) = used(&machine);
    sleep(WATCHED);
    let (after, memory) = used(&machine);
    let share = (after - before) / TICKS / WATCHED.as_secs_f64() * 100.0;
    format!("the interface with nothing to do: {share:.2} % of a core, {memory:.0} MB")
}

/// Processor time in ticks and memory in MB of the program's processes on a machine.
fn used(machine: &str) -> (f64, f64) {
    let processes = fs::read_dir("/proc").unwrap().filter_map(Result::ok).map(|entry| entry.path());
    let of_machine = processes.filter(|path| {
        let environment = fs::read(path.join("environ")).unwrap_or_default();
        let name = fs::read_to_string(path.join("comm")).unwrap_or_default();
        name.trim() == "yard-step" && String::from_utf8_lossy(&environment).contains(machine)
    });
    let figures = |path: &Path| -> Option<(f64, f64)> {
        let stat = fs::read_to_string(path.join("stat")).ok()?;
        let fields: Vec<&str> = stat.rsplit(')').next()?.split_whitespace().collect();
        let time: f64 =
            fields.get(11)?.parse::<f64>().ok()? + fields.get(12)?.parse::<f64>().ok()?;
        let status = fs::read_to_string(path.join("status")).ok()?;
        let resident = status.lines().find_map(|line| line.strip_prefix("VmRSS:"))?;
        let kilobytes: f64 = resident.split_whitespace().next()?.parse().ok()?;
        Some((time, kilobytes / 1_000.0))
    };
    let all = of_machine.filter_map(|path| figures(&path));
    all.fold((0.0, 0.0), |sum, one| (sum.0 + one.0, sum.1 + one.1))
}
