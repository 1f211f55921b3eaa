//! `yard-step demo`: the cards of Fernhollow Planetarium, with a history and a climb in progress.
//!
//! Nothing of it is made up: every trial was run on the stand-ins, when the demo's ledger was made.
//! Climbs of other cards are worked out at once, without their frames; the climbs of the first card
//! are run as any other, with every sample.

use std::fs;
use std::time::{SystemTime, UNIX_EPOCH};

use clap::Args;
use yard_step_card::{BriefCard, Card as _, CardAddress};
use yard_step_core::{
    AirNotes, AirWish, Alarm, AlarmAct, AlarmOn, CardDescription, Case, Celsius, Climb, Decibel,
    Demand, Heard, Loudness, Machine, Margin, Next, NoiseNote, Percent, Plan, Policy, Profile,
    Room, Settings, Stage, TrialRecord, Verdict, Watt, in_short,
};
use yard_step_engine::{KeepWhat, KeepWish, KeptFan, Pace, Unfinished};
use yard_step_ledger::{ClimbState, DataDir, Intent, Ledger, Measured};
use yard_step_scenes::Scene;
use yard_step_study::{Climbed, climb};

use super::open::{needs_terminal, show};
use crate::failure::Failure;
use crate::opening::{Wanted, open_climb, open_ledger, rack};
use crate::options::{DataDirOption, parse_pace};
use crate::output::note;

#[derive(Debug, Args)]
pub(crate) struct DemoOptions {
    /// Pace of the virtual clock: 1, 10, 60 or max
    #[arg(long, default_value = "60", value_parser = parse_pace)]
    pub pace: Pace,
    /// Set an earlier demo aside and begin a new one
    #[arg(long)]
    pub fresh: bool,
}

/// The demo's cards, all in the one machine of a planetarium: one bought used, an old one that must
/// run silent beside the audience, and a new one.
const CARDS: [&str; 3] = ["standin:tarn-310#29", "standin:bracken-208#4", "standin:quern-540#11"];
/// What the new card was climbed on for: its clocks, then the window about them and the memory's
/// timing.
const NEW_CARD_STAGES: [Stage; 7] = [
    Stage::Baseline,
    Stage::Power,
    Stage::Core,
    Stage::Memory,
    Stage::Together,
    Stage::Window,
    Stage::Timing,
];
/// Days before the demo at which the climbs of its history began.
const LAST_AUTUMN: f64 = 224.0;
const WARM_EVENINGS: f64 = 171.0;
const SILENT_HALL: f64 = 96.0;
const DOME_SHOWS: f64 = 38.0;
const INTERRUPTED: f64 = 9.0;
const IN_PROGRESS: f64 = 0.2;
/// Trials of the core stage that the climb in progress has behind it.
const CORE_TRIALS: usize = 4;
/// Courses of chance that are tried for one in which the machine goes down.
const COURSES: u64 = 40;

pub(crate) fn demo(data_dir: &DataDirOption, options: &DemoOptions) -> Result<(), Failure> {
    needs_terminal()?;
    let dir = data_dir.below("demo")?;
    if options.fresh {
        set_aside(&dir)?;
    }
    let cards = cards()?;
    let [card, others @ ..] = &cards[..] else { return Ok(()) };
    let history = if dir.ledger().exists() {
        Vec::new()
    } else {
        note("Making the history of the demo's three cards. That takes a few seconds, once.");
        make_history(&dir, card, others)?
    };
    let wanted = wanted(card, Plan::default(), true);
    let mut opened = open_climb(&dir, &wanted, &[])?;
    opened.told.splice(..0, history);
    let rack = rack(&dir, &opened, &wanted, others)?;
    show(opened, rack, options.pace, None, data_dir.config_path())
}

fn wanted(card: &CardAddress, plan: Plan, reopen: bool) -> Wanted {
    Wanted {
        over_supply: false,
        card: card.clone(),
        plan,
        plan_is_named: false,
        start_from: None,
        stages: Vec::new(),
        fresh: false,
        outside: Vec::new(),
        in_process: false,
        unfinished: Unfinished::MachineDown,
        reopen,
    }
}

fn cards() -> Result<Vec<CardAddress>, Failure> {
    CARDS.iter().map(|name| name.parse().map_err(Failure::failed)).collect()
}

/// What the keeper of the planetarium has done so far: the demo's history.
fn make_history(
    dir: &DataDir,
    card: &CardAddress,
    others: &[CardAddress],
) -> Result<Vec<String>, Failure> {
    let mut told = vec![last_autumn(dir, card)?];
    let (ledger, _) = open_ledger(dir)?;
    told.extend(undervolted(
        &ledger,
        card,
        &[Stage::UndervoltClock],
        WARM_EVENINGS,
        ("cool evenings", "warm evenings"),
    )?);
    if let [old, new] = others {
        let silent = ("silent hall", "shows beside the audience, with a slow fan");
        let stages = [Stage::UndervoltQuiet, Stage::Settle];
        told.extend(undervolted(&ledger, old, &stages, SILENT_HALL, silent)?);
        ledger.set_air_notes(&described(old)?, &heard_beside_the_audience())?;
        told.push(new_card(&ledger, new)?);
        told.push(interrupted(&ledger, old)?);
    }
    drop(ledger);
    in_progress(dir, card)?;
    Ok(told)
}

/// Last autumn, in a hurry: one baseline run, no long confirming run.
fn last_autumn(dir: &DataDir, card: &CardAddress) -> Result<String, Failure> {
    let stages = vec![Stage::Baseline, Stage::Core];
    let plan = hasty_plan()?;
    let mut opened =
        open_climb(dir, &Wanted { in_process: true, stages, ..wanted(card, plan, false) }, &[])?;
    opened.engine.set_machine(machine())?;
    while let Next::Trial(_) = opened.engine.climb().next() {
        opened.engine.step_unattended(&mut ())?;
    }
    let profile = opened.engine.keep(&kept_last_autumn())?;
    opened.ledger.date_climb(opened.engine.climb_id(), days_ago(LAST_AUTUMN))?;
    Ok(format!(
        "Fernhollow Planetarium's {} was tuned in a hurry last autumn and kept at {}. Before the \
         summer season it is being done properly.",
        opened.engine.description().name,
        in_short(&profile.settings, opened.engine.description())
    ))
}

/// The climb in progress: baseline and power are done, the core has begun.
fn in_progress(dir: &DataDir, card: &CardAddress) -> Result<(), Failure> {
    let wanted = Wanted { in_process: true, ..wanted(card, Plan::default(), false) };
    let mut opened = open_climb(dir, &wanted, &[])?;
    loop {
        let climb = opened.engine.climb();
        let done = climb.trials().iter().filter(|trial| trial.stage == Stage::Core).count();
        if done >= CORE_TRIALS || !matches!(climb.next(), Next::Trial(_)) {
            let climb = opened.engine.climb_id();
            return Ok(opened.ledger.date_climb(climb, days_ago(IN_PROGRESS))?);
        }
        opened.engine.step_unattended(&mut ())?;
    }
}

fn kept_last_autumn() -> KeepWish {
    KeepWish {
        name: "last autumn".into(),
        purpose: "the school classes of the autumn".into(),
        margin: None,
        what: KeepWhat::Outcome,
        fan: KeptFan::AsSearched,
    }
}

/// A card was walked down in voltage by one of the strategies, and what that came to was kept, if it came
/// to anything.
fn undervolted(
    ledger: &Ledger,
    name: &CardAddress,
    after_baseline: &[Stage],
    days: f64,
    (kept_as, purpose): (&str, &str),
) -> Result<Option<String>, Failure> {
    let plan = Plan::default();
    let stages: Vec<Stage> = [&[Stage::Baseline], after_baseline].concat();
    let (mut card, laid_out) = brief_card(name, &plan, &stages)?;
    let climbed = brief_climb(&mut card, &laid_out)?;
    let id = write_down(ledger, &laid_out, &climbed.trials)?;
    ledger.set_climb_state(id, ClimbState::Ended, laid_out.directives())?;
    if climbed.outcome.stage.is_none() {
        ledger.date_climb(id, days_ago(days))?;
        return Ok(None);
    }
    // Whatever hurried settings are in use stay so; a card that has none is put to these.
    let is_first = ledger.profiles(laid_out.card())?.is_empty();
    let profile = profile(&laid_out, id, &climbed, (kept_as, purpose), is_first);
    ledger.keep(laid_out.card(), &profile)?;
    ledger.date_climb(id, days_ago(days))?;
    Ok(Some(format!(
        "Its {} was undervolted: {}",
        laid_out.card().name,
        yard_step_words::outcome(&climbed.outcome)
    )))
}

/// How loud the old card is beside the audience, and how loud it may be there.
fn heard_beside_the_audience() -> AirNotes {
    let mut notes = AirNotes {
        wish: AirWish { most_noise: Some(Decibel(34.0)), ..AirWish::default() },
        ..AirNotes::default()
    };
    for (speed, heard) in [
        (30.0, Heard::Judged(Loudness::Silent)),
        (60.0, Heard::Measured(Decibel(37.5))),
        (100.0, Heard::Measured(Decibel(48.0))),
    ] {
        notes.note(NoiseNote { speed: Percent(speed), heard });
    }
    notes
}

fn described(name: &CardAddress) -> Result<CardDescription, Failure> {
    Ok(name.stand_in()?.description().clone())
}

/// What a climb came to as a profile.
fn profile(
    climb: &Climb,
    id: i64,
    climbed: &Climbed,
    (name, purpose): (&str, &str),
    in_use: bool,
) -> Profile {
    Profile {
        name: name.into(),
        purpose: purpose.into(),
        driver: Some(climb.card().driver.clone()),
        in_use,
        ..Profile::of_outcome(&climbed.outcome, climb.plan().margin, id)
    }
}

/// The new card was climbed on from one end to the other, and its outcome kept.
fn new_card(ledger: &Ledger, name: &CardAddress) -> Result<String, Failure> {
    let plan = Plan { margin: Margin::Gift, ..Plan::default() };
    let (mut card, laid_out) = brief_card(name, &plan, &NEW_CARD_STAGES)?;
    let climbed = brief_climb(&mut card, &laid_out)?;
    let id = write_down(ledger, &laid_out, &climbed.trials)?;
    ledger.set_climb_state(id, ClimbState::Ended, laid_out.directives())?;
    let card = laid_out.card();
    let named = ("dome shows", "the night shows under the dome");
    let profile = profile(&laid_out, id, &climbed, named, true);
    ledger.keep(card, &profile)?;
    ledger.date_climb(id, days_ago(DOME_SHOWS))?;
    Ok(format!("Its new {} runs at {}.", card.name, in_short(&profile.settings, card)))
}

/// A time so many days ago, seconds since 1970.
fn days_ago(days: f64) -> i64 {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0.0, |span| span.as_secs_f64());
    (now - days * 86_400.0) as i64
}

/// A trial made under the driver that the card has now.
fn made_under_driver(climb: &Climb, intent: Intent) -> Intent {
    Intent { driver: Some(climb.card().driver.clone()), ..intent }
}

/// The old card went down in the middle of a climb by hand.
fn interrupted(ledger: &Ledger, name: &CardAddress) -> Result<String, Failure> {
    let plan = Plan { policy: Policy::FixedStep, ..Plan::default() };
    let (mut card, laid_out) = brief_card(name, &plan, &Stage::USUAL)?;
    for course in 0..COURSES {
        card.set_course(course);
        let climbed = brief_climb(&mut card, &laid_out)?;
        let down = climbed.trials.iter().position(|t| t.verdict() == Verdict::MachineDown);
        let Some((before, last)) =
            down.and_then(|down| Some((climbed.trials.get(..down)?, climbed.trials.get(down)?)))
        else {
            continue;
        };
        let id = write_down(ledger, &laid_out, before)?;
        let row =
            ledger.begin_trial(&made_under_driver(&laid_out, Intent::of_record(0, id, last)))?;
        ledger.sign_of_life(row, last.seconds).wait()?;
        ledger.date_climb(id, days_ago(INTERRUPTED))?;
        return Ok(format!(
            "A climb on its old {} was interrupted: the machine went down in trial {}.",
            laid_out.card().name,
            last.number
        ));
    }
    Ok("No climb was interrupted so far.".into())
}

/// A card whose runs are worked out at once, with a climb laid out on it.
fn brief_card(
    name: &CardAddress,
    plan: &Plan,
    stages: &[Stage],
) -> Result<(BriefCard<impl Fn(u64) -> Demand + use<>>, Climb), Failure> {
    let scene: Scene = plan.scene.parse().map_err(Failure::failed)?;
    let demand = move |frame| scene.demand(frame);
    let card = BriefCard::new(name.stand_in()?, demand, scene.period(), 0);
    let description = card.description().clone();
    let laid_out = Climb::new(description, plan.clone(), stages).map_err(Failure::failed)?;
    Ok((card, laid_out))
}

/// A whole climb, worked out at once.
fn brief_climb(
    card: &mut BriefCard<impl Fn(u64) -> Demand>,
    laid_out: &Climb,
) -> Result<Climbed, Failure> {
    let plan = laid_out.plan();
    let scene: Scene = plan.scene.parse().map_err(Failure::failed)?;
    Ok(climb(card, laid_out.clone(), scene.mean_load(), false))
}

/// Writes a climb with trials that have their verdicts into the ledger.
fn write_down(ledger: &Ledger, climb: &Climb, trials: &[TrialRecord]) -> Result<i64, Failure> {
    let card = climb.card();
    ledger.note_card(card, Some(&Settings::stock(card)))?;
    let id = ledger.begin_climb(card, climb.plan(), climb.stages())?;
    for trial in trials {
        let row = ledger.begin_trial(&made_under_driver(climb, Intent::of_record(0, id, trial)))?;
        ledger.end_trial(row, trial, Measured::default(), Vec::new())?;
    }
    Ok(id)
}

/// What the keeper has entered of the machine. The rest of it is still to be measured.
fn machine() -> Machine {
    Machine {
        room: Some(Room { ambient: Celsius(20.0), case: Case::Closed }),
        supply: Some(Watt(1_600.0)),
        rest: None,
        full_fan: Some(Decibel(46.0)),
        alarms: vec![Alarm { on: AlarmOn::HotSpot, above: 98.0, act: AlarmAct::Warn }],
        changes: Vec::new(),
        memories: Vec::new(),
        connectors: Vec::new(),
    }
}

fn hasty_plan() -> Result<Plan, Failure> {
    Plan::from_toml(
        "policy = \"fixed-step\"\nscene = \"lantern\"\n\
         [baseline]\nruns = 1\nwarm_up_seconds = 60\n\
         [core]\ncoarse_step_mhz = 45\nfine_step_mhz = 45\nconfirm_seconds = 300\nsettle_seconds = 120\n",
    )
    .map_err(Failure::failed)
}

/// Sets an earlier demo aside.
fn set_aside(dir: &DataDir) -> Result<(), Failure> {
    if !dir.path().exists() {
        return Ok(());
    }
    // Nobody must be working with what is moved away.
    drop(dir.lock()?);
    let name = |count: u32| dir.path().with_file_name(format!("demo-before-{count}"));
    let free = (1..).map(name).find(|path| !path.exists()).unwrap_or_else(|| name(0));
    fs::rename(dir.path(), &free).map_err(|error| {
        Failure::failed(format!("cannot set {} aside: {error}", dir.path().display()))
    })
}
