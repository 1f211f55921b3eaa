//! `yard-step watch`: everyday use, recorded as evidence.

use std::fs;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Instant;

use clap::Args;
use yard_step_core::{Meaning, Seconds, in_short};
use yard_step_engine::{EngineError, Everyday, Pace, Pacer, RunView, Stretch, TICK};

use crate::commands::attended::{Attended, attend_to, or_needs_yes};
use crate::commands::profile::view;
use crate::failure::Failure;
use crate::options::{CardOptions, DataDirOption, parse_pace};
use crate::output::{note, print};

/// How long is waited for a program at a time.
const WAIT: Seconds = Seconds(1.0);
/// The kernel keeps this many bytes of a program's name.
const KERNEL_NAME: usize = 15;

#[derive(Debug, Args)]
pub(crate) struct WatchOptions {
    #[command(flatten)]
    pub card: CardOptions,
    /// Profile to hold meanwhile; else the card stays as it is
    #[arg(long, value_name = "NAME")]
    pub profile: Option<String>,
    /// Watch, and hold the profile, only while a program of this name runs
    #[arg(long, value_name = "PROGRAM")]
    pub during: Option<String>,
    /// End after this many hours; else when it is interrupted
    #[arg(long, value_name = "HOURS", value_parser = parse_hours)]
    pub hours: Option<f64>,
    /// How fast a stand-in's time passes: 1, 10, 60 or max
    #[arg(long, default_value = "1", value_parser = parse_pace)]
    pub pace: Pace,
    /// Hold the profile though settings no bolder took the machine down
    #[arg(long)]
    pub yes: bool,
}

fn parse_hours(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(hours) if hours > 0.0 && hours <= 10_000.0 => Ok(hours),
        _ => Err("hours must be a number above 0, up to 10000".into()),
    }
}

pub(crate) fn watch(data_dir: &DataDirOption, options: &WatchOptions) -> Result<(), Failure> {
    let Attended { rig, card, ledger, stop, lock } = attend_to(data_dir, &options.card)?;
    let named = options.profile.as_ref();
    let profile = named.map(|name| view(&ledger, &card, name)).transpose()?;
    let profile = profile.as_ref().map(|view| &view.profile);
    let begun = Everyday::begin(rig, &ledger, profile, options.yes);
    let (everyday, told) = begun.map_err(|error| or_needs_yes(error, "hold"))?;
    told.iter().for_each(|line| note(line));
    let held = match &options.profile {
        Some(name) => format!("profile \"{name}\" ({})", in_short(everyday.settings(), &card)),
        None => in_short(everyday.settings(), &card),
    };
    let when =
        options.during.as_ref().map_or_else(String::new, |name| format!(" while {name} runs"));
    note(&format!("Watches {} at {held}{when}. Ctrl-C ends it.", card.name));
    let mut watching = Watching {
        everyday,
        options,
        stop,
        pacer: Pacer::new(options.pace, Instant::now()),
        passed: Seconds(0.0),
        used: Seconds(0.0),
    };
    let watched = watching.go_on();
    let (record, used) = (watching.everyday.record(), watching.used);
    let back = watching.everyday.end();
    drop(lock);
    let failed = watched?;
    back?;
    print(&format!("{} of everyday use at {held}, in record {record}.\n", used.in_words()))?;
    if let Some(name) = &options.profile {
        print(&format!("{}\n", view(&ledger, &card, name)?.why()))?;
    }
    match failed {
        Some(run) => Err(Failure::failed(format!(
            "{} failed in everyday use, and the card was put back. {}",
            options.profile.as_ref().map_or(held, |name| format!("Profile \"{name}\"")),
            reason(&run)
        ))),
        None => Ok(()),
    }
}

struct Watching<'a> {
    everyday: Everyday,
    options: &'a WatchOptions,
    stop: Arc<AtomicBool>,
    pacer: Pacer,
    /// Time since it began.
    passed: Seconds,
    /// Time in which the card was busy.
    used: Seconds,
}

impl Watching<'_> {
    /// Watches until it is to end, or something fails: the run in which it did.
    fn go_on(&mut self) -> Result<Option<RunView>, Failure> {
        while !self.is_over() {
            if !self.is_used() {
                self.everyday.idle(WAIT);
                self.pass(WAIT);
                continue;
            }
            let Stretch { run, changes } = self.stretch()?;
            if run.at < WAIT {
                continue;
            }
            self.used = self.used + run.at;
            note(&in_a_line(&run, changes));
            let holds = run.judgement.as_ref().map(|judgement| judgement.verdict.meaning());
            if holds == Some(Meaning::TooMuch) {
                return Ok(Some(run));
            }
            if self.options.during.is_some() && !self.is_used() {
                self.everyday.let_go()?;
            }
        }
        Ok(None)
    }

    fn stretch(&mut self) -> Result<Stretch, EngineError> {
        let Self { everyday, options, stop, pacer, passed, .. } = self;
        let mut ticks = 0_u32;
        let most = most(options);
        everyday.stretch(&mut || {
            ticks += 1;
            *passed = *passed + TICK;
            thread::sleep(pacer.wait(TICK, Instant::now()));
            // Once a second is often enough to look for a program.
            let is_gone =
                ticks.is_multiple_of(10) && options.during.as_ref().is_some_and(|name| !runs(name));
            !(is_gone || stop.load(Ordering::Relaxed) || *passed >= most)
        })
    }

    fn is_over(&self) -> bool {
        self.stop.load(Ordering::Relaxed) || self.passed >= most(self.options)
    }

    fn is_used(&self) -> bool {
        self.options.during.as_ref().is_none_or(|name| runs(name))
    }

    fn pass(&mut self, span: Seconds) {
        self.passed = self.passed + span;
        thread::sleep(self.pacer.wait(span, Instant::now()));
    }
}

/// When it ends by itself, to half a tick: sums of tenths are not exact.
fn most(options: &WatchOptions) -> Seconds {
    let hours = options.hours.unwrap_or(f64::INFINITY);
    Seconds(hours * 3_600.0 - TICK.value() / 2.0)
}

/// Whether a program of that name runs, as the kernel names it: the first 15 bytes.
fn runs(name: &str) -> bool {
    let wanted = name.as_bytes().get(..KERNEL_NAME).unwrap_or(name.as_bytes());
    let Ok(processes) = fs::read_dir("/proc") else { return false };
    processes.flatten().any(|entry| {
        let is_process = entry.file_name().as_encoded_bytes().iter().all(u8::is_ascii_digit);
        is_process
            && fs::read(entry.path().join("comm"))
                .is_ok_and(|comm| comm.strip_suffix(b"\n").unwrap_or(&comm) == wanted)
    })
}

fn reason(run: &RunView) -> &str {
    run.judgement.as_ref().map_or("", |judgement| judgement.reason.as_str())
}

/// A stretch in a line: how long, what it was judged, and what was seen.
fn in_a_line(run: &RunView, changes: u32) -> String {
    let seen = &run.seen;
    let verdict =
        run.judgement.as_ref().map_or("no verdict", |judgement| judgement.verdict.label());
    let figures = [
        seen.average_clock().map(|clock| clock.to_string()),
        seen.average_power.map(|power| power.to_string()),
        seen.hot_spot_max.map(|at| format!("hot spot up to {at}")),
        Some(format!("load changes: {changes}")),
    ];
    let figures: Vec<String> = figures.into_iter().flatten().collect();
    format!("{} busy, {verdict}: {}.", run.at.in_words(), figures.join(", "))
}
