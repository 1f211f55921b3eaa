//! `yard-step climb`: a climb to its outcome, with a progress bar on a terminal and plain lines
//! everywhere else.

use std::io::{IsTerminal, stderr};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use clap::Args;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use yard_step_core::{
    AtStock, CardDescription, Climb, Domain, LONGEST_NAME, MhzOffset, Next, Outcome, Plan,
    Proposal, Risk, SettingKind, Settings, Stage, TrialRecord, checked_name, figure_in_words,
    in_short,
};
use yard_step_engine::load::ManualLoad;
use yard_step_engine::{
    Engine, EngineError, KeepWhat, KeepWish, KeptFan, LiveRun, Overseer, Pace, Pacer, Steer, Step,
    TICK,
};
use yard_step_report::ClimbDocument;
use yard_step_scenes::sections_of;

use crate::failure::Failure;
use crate::metrics::Page;
use crate::opening::{Opened, Wanted, open_climb};
use crate::options::{ClimbingOptions, DataDirOption, parse_pace};
use crate::output::{Overwrite, Target, print};
use crate::publisher::Publisher;
use crate::status::Status;

#[derive(Debug, Args)]
pub(crate) struct ClimbOptions {
    #[command(flatten)]
    pub climbing: ClimbingOptions,
    /// Pace of a stand-in's clock: 1, 10, 60 or max
    #[arg(long, default_value = "max", value_parser = parse_pace)]
    pub pace: Pace,
    /// Write the climb as a JSON document; - is standard output
    #[arg(long, value_name = "FILE")]
    pub json: Option<PathBuf>,
    #[command(flatten)]
    pub overwrite: Overwrite,
    /// Keep the outcome as a profile of this name
    #[arg(long, value_name = "NAME")]
    pub keep: Option<String>,
    /// Keep it with the fan of the search; else with the fan chosen in Air, or automatic
    #[arg(long, requires = "keep")]
    pub fan_as_searched: bool,
    /// What the profile is for, in your words
    #[arg(long, value_name = "TEXT", requires = "keep", default_value = "")]
    pub purpose: String,
}

/// Least time between two movements of the progress bar.
const BETWEEN_LOOKS: Duration = Duration::from_millis(100);

pub(crate) fn climb(data_dir: &DataDirOption, options: &ClimbOptions) -> Result<(), Failure> {
    let target =
        options.json.as_ref().map(|path| Target::new(path, options.overwrite)).transpose()?;
    let keep = options.keep.as_ref().map(|name| checked_name(name, LONGEST_NAME)).transpose();
    let keep = keep.map_err(|why| Failure::usage(format!("--keep: {why}")))?;
    let wanted = Wanted::from_options(&options.climbing, data_dir)?;
    needs_nobody(&wanted.plan)?;
    let dir = data_dir.resolve()?;
    let (page, served) = options.climbing.page()?;
    let in_step = options.climbing.card.found_all(&options.climbing.in_step)?;
    let Opened { mut engine, told, lock, .. } = open_climb(&dir, &wanted, &in_step)?;
    needs_nobody(engine.climb().plan())?;
    let mut watcher = Watcher::new(options.pace, engine.description().clone(), page)?;
    for line in told.into_iter().chain(served) {
        watcher.say(&line)?;
    }
    watcher.say(&headline(&engine))?;
    let result = to_the_end(&mut engine, &mut watcher);
    watcher.bar.finish_and_clear();
    let result = result.and_then(|outcome| {
        if let Some(target) = &target {
            target.write(ClimbDocument::of(engine.climb()).to_text()?.as_bytes())?;
        }
        conclude(&mut engine, &outcome, keep.as_deref(), (&options.purpose, options.kept_fan()))
    });
    let left = engine.leave();
    drop(lock);
    match (result, left) {
        (result, Ok(())) => result,
        (Ok(()), Err(error)) => Err(error.into()),
        (Err(failure), Err(error)) => Err(failure.and(&error)),
    }
}

impl ClimbOptions {
    fn kept_fan(&self) -> KeptFan {
        if self.fan_as_searched { KeptFan::AsSearched } else { KeptFan::Chosen }
    }
}

/// Tells what the climb came to, and keeps it where that was asked for.
fn conclude(
    engine: &mut Engine,
    outcome: &Outcome,
    keep: Option<&str>,
    (purpose, fan): (&str, KeptFan),
) -> Result<(), Failure> {
    print(&format!("{}\n", last_words(engine, outcome)))?;
    if let Some(name) = keep {
        let kept = engine.keep(&KeepWish {
            name: name.to_owned(),
            purpose: purpose.to_owned(),
            margin: None,
            what: KeepWhat::Outcome,
            fan,
        })?;
        let fan = yard_step_words::kept_fan(&kept.settings, &outcome.settings);
        let fan = fan.map_or(String::new(), |text| format!(" {text}"));
        print(&format!("Kept as profile \"{name}\".{fan}\n"))?;
    }
    Ok(())
}

/// Makes sure that no load of a plan needs somebody who watches.
fn needs_nobody(plan: &Plan) -> Result<(), Failure> {
    if !plan.loads().contains(&ManualLoad::NAME) {
        return Ok(());
    }
    Err(Failure::usage(
        "the manual load needs somebody who watches and says what was seen: open the interface with \
         yard-step open",
    ))
}

fn to_the_end(engine: &mut Engine, watcher: &mut Watcher) -> Result<Outcome, Failure> {
    go_on_until(engine, watcher, |_| false)?;
    Ok(engine.climb().outcome())
}

/// Makes trials until the climb has its outcome, or something else is the case.
pub(super) fn go_on_until(
    engine: &mut Engine,
    watcher: &mut Watcher,
    is_over: impl Fn(&Engine) -> bool,
) -> Result<(), Failure> {
    let mut is_stock_told = engine.climb().baseline().is_some();
    let mut was_soaking = engine.is_soaking();
    loop {
        if was_soaking && !engine.is_soaking() {
            tell_of_soak(engine, watcher)?;
        }
        was_soaking = engine.is_soaking();
        if is_over(engine) {
            return Ok(());
        }
        match engine.climb().next() {
            Next::Ended(_) => return Ok(()),
            Next::Stuck(why) => {
                let why = yard_step_words::stuck(&why);
                return Err(Failure::failed(format!("{why} The same command tries again.")));
            }
            Next::Trial(proposal) => {
                let card = engine.description().clone();
                watcher.begin(engine.climb().trials().len() + 1, &proposal, &card);
                let step = engine.step_unattended(watcher).map_err(without_a_yes)?;
                let run = match step {
                    Step::Ran(run) => run,
                    Step::WentDown { trial } => {
                        watcher.say(&format!("The machine went down in trial {trial}."))?;
                        continue;
                    }
                    Step::Restarted(told) => {
                        told.iter().try_for_each(|line| watcher.say(line))?;
                        continue;
                    }
                };
                if watcher.stop.load(Ordering::Relaxed) {
                    return Err(Failure::Interrupted(
                        "interrupted: the climb is kept. The same command goes on with it.".into(),
                    ));
                }
                if let Some(record) = engine.climb().trials().last() {
                    let is_soak = record.stage == Stage::Proof;
                    let has_many = is_soak || engine.climb().plan().has_many_loads();
                    watcher.say(&trial_line(record, &card, has_many))?;
                }
                if let Some(report) = engine.climb().stock_report().filter(|_| !is_stock_told) {
                    watcher.say(&format!("          {}", yard_step_words::stock(&report)))?;
                    is_stock_told = true;
                }
                for note in &run.notes {
                    watcher.say(&format!("          {note}"))?;
                }
                for other in &run.in_step {
                    let verdict = other.verdict.map_or("no verdict", |verdict| verdict.label());
                    watcher
                        .say(&format!("          {}: {verdict}. {}", other.card, other.reason))?;
                }
                if run.wants_a_look {
                    return Err(Failure::failed(
                        "an alarm put the card back, and the climb stands still. Have a look, then \
                         give the same command again to go on.",
                    ));
                }
            }
        }
    }
}

/// Tells what a soak or a check came to.
fn tell_of_soak(engine: &mut Engine, watcher: &Watcher) -> Result<(), Failure> {
    if let Some(soaked) = engine.climb().soaked() {
        watcher.say(&yard_step_words::soaked(&soaked))?;
    }
    match engine.note_check()? {
        Some(answer) => watcher.say(&yard_step_words::check(&answer)),
        None => Ok(()),
    }
}

/// Nobody is here to say yes to a risk: what to do instead.
fn without_a_yes(error: EngineError) -> Failure {
    match error {
        EngineError::NeedsYes(risk) => {
            let way_out = match risk {
                Risk::MachineDown { .. } => "leave the stage out with --stages",
                Risk::Supply { .. } => "add --over-supply",
            };
            Failure::failed(format!(
                "the next trial needs a yes, and nobody is here to say it. {} Say yes in the interface \
                 (yard-step open), or {way_out}.",
                yard_step_words::risk(&risk)
            ))
        }
        other => other.into(),
    }
}

/// Shows how a run goes on, keeps its pace, and stops it when a signal asks for that.
pub(super) struct Watcher {
    pub(super) bar: ProgressBar,
    pacer: Pacer,
    stop: Arc<AtomicBool>,
    looked: Instant,
    card: CardDescription,
    publisher: Publisher,
}

impl Watcher {
    pub(super) fn new(
        pace: Pace,
        card: CardDescription,
        page: Option<Page>,
    ) -> Result<Self, Failure> {
        let stop = Arc::new(AtomicBool::new(false));
        for signal in [SIGINT, SIGTERM, SIGHUP] {
            signal_hook::flag::register(signal, Arc::clone(&stop))?;
        }
        let on_terminal = stderr().is_terminal();
        let target =
            if on_terminal { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
        let bar = ProgressBar::with_draw_target(Some(1), target);
        let style = ProgressStyle::with_template("{msg} {wide_bar} {percent:>3} %")?;
        bar.set_style(style.progress_chars("━╸ "));
        Ok(Self {
            bar,
            pacer: Pacer::new(pace, Instant::now()),
            stop,
            looked: Instant::now(),
            card,
            publisher: Publisher::new(page),
        })
    }

    pub(super) fn say(&self, line: &str) -> Result<(), Failure> {
        self.bar.suspend(|| print(&format!("{line}\n")))
    }

    fn begin(&mut self, number: usize, proposal: &Proposal, card: &CardDescription) {
        let request = &proposal.request;
        let what = what_is_tried(request.stage, &request.asked, card);
        self.bar.set_length(request.seconds.value() as u64);
        self.bar.set_position(0);
        self.bar.set_message(format!(
            "trial {number}, {}: {what}, {}",
            request.stage,
            request.seconds.in_words()
        ));
    }
}

impl Overseer for Watcher {
    fn tick(&mut self, live: &LiveRun<'_>) -> Steer {
        if self.stop.load(Ordering::Relaxed) {
            return Steer::Stop;
        }
        if self.looked.elapsed() >= BETWEEN_LOOKS {
            self.looked = Instant::now();
            self.bar.set_position(live.at().value() as u64);
            self.publisher.publish(|| {
                let run = live.view();
                Status::of_run(&self.card, Some(&run), Some(run.sample))
            });
        }
        let wait = self.pacer.wait(TICK, Instant::now());
        if !wait.is_zero() {
            thread::sleep(wait);
        }
        Steer::GoOn
    }
}

fn headline(engine: &Engine) -> String {
    let card = engine.description();
    let stages: Vec<&str> = engine.climb().stages().iter().map(|stage| stage.label()).collect();
    format!(
        "{} ({}), unit {}: climb {}, stages {}",
        card.name,
        card.id,
        card.serial,
        engine.climb_id(),
        stages.join(", ")
    )
}

/// Settings in a few words: with the fan and the power limit in the stages that lower them.
fn what_is_tried(stage: Stage, settings: &Settings, card: &CardDescription) -> String {
    let short = in_short(settings, card);
    if !matches!(stage, Stage::Air | Stage::Settle) {
        return short;
    }
    let fan = settings.fan.map(|_| format!("fan {}", settings.show(SettingKind::Fan)));
    // What is told of a card with nothing else raised is its power limit already.
    let power = settings.power_limit.map(|_| settings.show(SettingKind::PowerLimit));
    let power = power.map(|power| format!("power {power}")).filter(|power| *power != short);
    [fan, power, Some(short)].into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// A trial in a line; under which load it ran is said where there are several.
fn trial_line(record: &TrialRecord, card: &CardDescription, has_many: bool) -> String {
    let under = if has_many { format!("  {:<8}", record.scene) } else { String::new() };
    let score =
        record.score.map_or("no score".into(), |score| format!("score {}", figure_in_words(score)));
    format!(
        "trial {:>2}  {:<8}  {:<9}{under}  {:<28}  {:<12}  {score:<10}  {}",
        record.number,
        record.stage,
        record.purpose.label(),
        what_is_tried(record.stage, &record.held(), card),
        record.verdict(),
        record.reason
    )
}

/// Which clocks stay at stock although higher ones were tried, each with the reason.
fn stays_at_stock(climb: &Climb, outcome: &Outcome) -> Vec<(Domain, AtStock)> {
    let told = |domain: Domain| {
        let axis = climb.axis(domain)?;
        let is_at_stock = axis.read(&outcome.settings) == MhzOffset::STOCK;
        let why = is_at_stock.then(|| climb.why_at_stock(domain)).flatten()?;
        Some((domain, why))
    };
    [Domain::Core, Domain::Memory].into_iter().filter_map(told).collect()
}

fn last_words(engine: &Engine, outcome: &Outcome) -> String {
    let kept = in_short(&outcome.settings, engine.description());
    let score =
        outcome.score.map_or(String::new(), |score| format!(", score {}", figure_in_words(score)));
    let claim = match (outcome.claim, outcome.moved.is_empty()) {
        (Some(claim), _) => format!(" {}", yard_step_words::claim(&claim)),
        (None, true) => String::new(),
        (None, false) => format!(" {}", yard_step_words::no_claim(engine.climb().plan().margin)),
    };
    let under =
        yard_step_words::conditions(&outcome.conditions).filter(|_| outcome.claim.is_some());
    let under = under.map_or(String::new(), |text| format!(" {text}"));
    let surprise = outcome.surprise.as_ref().map(yard_step_words::surprise);
    let surprise = surprise.map_or(String::new(), |text| format!(" {text}"));
    let faults = engine.climb().fault_places();
    let faults = faults.and_then(|of| yard_step_words::fault_places(&of, sections_of(&of.load)));
    let faults = faults.map_or(String::new(), |text| format!(" {text}"));
    let at_stock = yard_step_words::stay_at_stock(&stays_at_stock(engine.climb(), outcome));
    let at_stock = at_stock.map_or(String::new(), |text| format!(" {text}"));
    let settled = engine.climb().settle_report();
    let settled = settled.map_or(String::new(), |report| {
        let steps = yard_step_words::settle_steps(&report).join("; ");
        format!(" Settled: {} Steps: {steps}.", yard_step_words::settled(&report))
    });
    let by_load = yard_step_words::by_load(&outcome.by_load);
    let by_load = by_load.map_or(String::new(), |text| format!(" {text}"));
    format!(
        "Outcome: {kept}{score}. {}{claim}{under}{at_stock}{surprise}{faults}{by_load}{settled} {} trials, {} under load. Its chart: \
         yard-step report --climb {} --out climb.svg",
        yard_step_words::outcome(outcome),
        outcome.trials,
        outcome.test_seconds.in_words(),
        engine.climb_id()
    )
}
