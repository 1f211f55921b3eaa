//! Opening a ledger and a climb in it, for the interface and for the headless climb alike.

use std::fs::{self, File};
use std::io::{IsTerminal, stdout};

use yard_step_card::{Card, CardName};
use yard_step_core::{
    Alarm, AlarmAct, AlarmOn, CardDescription, Case, Celsius, Climb, Machine, Next, Plan, Room,
    Stage, Watt, in_short,
};
use yard_step_engine::load::OutsideSpec;
use yard_step_engine::{Engine, EngineError, Loads, Opener, Pace, Rack, Rig, Unfinished};
use yard_step_ledger::{ClimbEntry, ClimbState, DataDir, Ledger};

use crate::cli::{ClimbingOptions, DataDirOption, DemoOptions, OpenOptions, read_plan};
use crate::failure::Failure;
use crate::rig::rig;
use crate::tui;

/// The demo's cards, all in the one machine of a planetarium: one bought used, an old one that must
/// run silent beside the audience, and a new one.
const DEMO_CARDS: [&str; 3] =
    ["standin:tarn-310#29", "standin:bracken-208#4", "standin:quern-540#11"];

/// Opens a ledger; tells of one that had to be set aside.
pub(crate) fn open_ledger(dir: &DataDir) -> Result<(Ledger, Option<String>), Failure> {
    let opened = Ledger::open(dir)?;
    let told = opened.set_aside.map(|(path, cause)| {
        format!(
            "The ledger could not be read ({cause}). It was set aside as {}; a new one was begun.",
            path.display()
        )
    });
    Ok((opened.ledger, told))
}

/// A climb ready to go on, with what there is to say about how it came to be.
pub(crate) struct Opened {
    pub engine: Engine,
    pub told: Vec<String>,
    /// Held as long as this process climbs.
    pub lock: File,
    pub ledger: Ledger,
}

/// What is to be climbed.
#[derive(Clone)]
pub(crate) struct Wanted {
    pub card: CardName,
    pub plan: Plan,
    /// Whether the plan was named, and must not differ from that of a climb taken up.
    pub plan_is_named: bool,
    /// Stages that were named; none means all that the card can do.
    pub stages: Vec<Stage>,
    pub fresh: bool,
    /// The user's own loads.
    pub outside: Vec<OutsideSpec>,
    /// Whether card and load stay in this process: for a climb that nobody needs to wait for.
    pub in_process: bool,
    pub unfinished: Unfinished,
    /// Whether a climb that has its outcome is opened again rather than followed by a new one.
    pub reopen: bool,
}

impl Wanted {
    pub(crate) fn from_options(
        options: &ClimbingOptions,
        place: &DataDirOption,
    ) -> Result<Self, Failure> {
        let loads = Loads { launcher: None, outside: place.loads()? };
        let mut plan = read_plan(options.plan.as_deref(), &loads)?;
        if let Some(name) = &options.load {
            loads.know(name).map_err(Failure::usage)?;
            plan.scene.clone_from(name);
        }
        if let Some(policy) = options.policy {
            plan.policy = policy;
        }
        if let Some(margin) = options.margin {
            plan.margin = margin;
        }
        Ok(Self {
            card: options.card.name(),
            plan,
            outside: loads.outside,
            in_process: false,
            plan_is_named: options.plan.is_some()
                || options.load.is_some()
                || options.policy.is_some()
                || options.margin.is_some(),
            stages: options.stages.clone(),
            fresh: options.fresh,
            unfinished: options.unfinished,
            reopen: false,
        })
    }

    /// A card set up to be worked on; tells of an owner who died with it.
    fn rig(
        &self,
        dir: &DataDir,
        name: &CardName,
        course: u64,
    ) -> Result<(Rig, Option<String>), Failure> {
        if self.in_process {
            return Ok((Box::new(name.open(course)?).into(), None));
        }
        rig(dir, name, course, &self.outside)
    }

    /// The stages that were named, or all that the card can do.
    fn stages_on(&self, card: &CardDescription) -> Vec<Stage> {
        if !self.stages.is_empty() {
            return self.stages.clone();
        }
        Climb::stages_on(card)
    }
}

/// Opens the unfinished climb on a card, or begins a new one.
pub(crate) fn open_climb(dir: &DataDir, wanted: &Wanted) -> Result<Opened, Failure> {
    let lock = dir.enter()?;
    let (ledger, set_aside) = open_ledger(dir)?;
    let (engine, told) = climb_on(dir, &ledger, wanted)?;
    Ok(Opened { engine, told: set_aside.into_iter().chain(told).collect(), lock, ledger })
}

/// The unfinished climb on a card, or a new one, with what there is to say about it.
fn climb_on(
    dir: &DataDir,
    ledger: &Ledger,
    wanted: &Wanted,
) -> Result<(Engine, Vec<String>), Failure> {
    let mut told = Vec::new();
    let description = wanted.card.open(0)?.description().clone();
    let stages = wanted.stages_on(&description);
    let found = find_climb(ledger, &description, wanted, &stages)?;
    // Chance takes another course after each start: what scattered before does not repeat itself.
    let course = found.as_ref().map_or(0, trials_begun);
    let (rig, taken_over) = wanted.rig(dir, &wanted.card, course)?;
    told.extend(taken_over);
    let engine = match found {
        Some(entry) => resume(rig, ledger.clone(), entry, wanted, &stages, &mut told)?,
        None => Engine::begin(rig, ledger.clone(), wanted.plan.clone(), &stages)
            .map_err(usage_or_failed)?,
    };
    Ok((engine, told))
}

/// Opens the other cards of the machine by their names.
struct Bay {
    dir: DataDir,
    ledger: Ledger,
    names: Vec<CardName>,
    wanted: Wanted,
}

impl Bay {
    fn name(&self, card: &CardDescription) -> Result<CardName, EngineError> {
        let found = self.names.iter().find(|name| name.to_string() == card.key()).cloned();
        found.ok_or_else(|| EngineError::Rack(format!("{} is not in this machine.", card.key())))
    }
}

impl Opener for Bay {
    fn climb(&mut self, card: &CardDescription) -> Result<(Engine, Vec<String>), EngineError> {
        let wanted = Wanted { card: self.name(card)?, ..self.wanted.clone() };
        climb_on(&self.dir, &self.ledger, &wanted)
            .map_err(|failure| EngineError::Rack(failure.text().to_owned()))
    }

    fn card(&mut self, card: &CardDescription) -> Result<Rig, EngineError> {
        let rig = self.wanted.rig(&self.dir, &self.name(card)?, 0);
        rig.map(|(rig, _)| rig).map_err(|failure| EngineError::Rack(failure.text().to_owned()))
    }
}

/// All cards of the machine, the one climbed on first.
fn rack(
    dir: &DataDir,
    opened: &Opened,
    wanted: &Wanted,
    also: &[CardName],
) -> Result<Rack, Failure> {
    let mut names = vec![wanted.card.clone()];
    for name in also {
        if !names.contains(name) {
            names.push(CardName { driver: wanted.card.driver, ..name.clone() });
        }
    }
    let mut cards = Vec::new();
    for name in &names {
        cards.push(name.open(0)?.description().clone());
    }
    // What was said of the first card's climb is not said of the others'.
    let wanted =
        Wanted { stages: Vec::new(), plan_is_named: false, fresh: false, ..wanted.clone() };
    let bay = Bay { dir: dir.clone(), ledger: opened.ledger.clone(), names, wanted };
    Ok(Rack::new(cards, 0, Box::new(bay)))
}

/// Holds the named cards in step.
pub(crate) fn hold_in_step(
    dir: &DataDir,
    engine: &mut Engine,
    wanted: &Wanted,
    names: &[CardName],
) -> Result<(), Failure> {
    for name in names {
        if name.to_string() == wanted.card.to_string() {
            let (one, other) = (name.to_string(), name.to_string());
            return Err(Failure::usage(EngineError::NotAlike { one, other }));
        }
        let name = CardName { driver: wanted.card.driver, ..name.clone() };
        let (rig, _) = wanted.rig(dir, &name, engine.climb().trials().len() as u64)?;
        engine.hold_in_step(rig).map_err(Failure::usage)?;
    }
    Ok(())
}

fn usage_or_failed(error: EngineError) -> Failure {
    match error {
        EngineError::Climb(error) => Failure::usage(error),
        other => Failure::failed(other),
    }
}

fn find_climb(
    ledger: &Ledger,
    card: &CardDescription,
    wanted: &Wanted,
    stages: &[Stage],
) -> Result<Option<ClimbEntry>, Failure> {
    let open = ledger.open_climb(card)?;
    if wanted.fresh {
        if let Some(entry) = open {
            ledger.set_climb_state(entry.id, ClimbState::GivenUp, &entry.directives)?;
        }
        return Ok(None);
    }
    if open.is_some() || !wanted.reopen {
        return Ok(open);
    }
    let key = card.key();
    // One that has ended is opened again only if it is what was asked for.
    Ok(ledger.climbs()?.into_iter().rev().find(|entry| {
        entry.card.key() == key
            && entry.state == ClimbState::Ended
            && entry.stages == stages
            && (!wanted.plan_is_named || entry.plan == wanted.plan)
    }))
}

fn trials_begun(entry: &ClimbEntry) -> u64 {
    entry.trials.len() as u64 + u64::from(entry.unfinished.is_some())
}

fn resume(
    rig: Rig,
    ledger: Ledger,
    entry: ClimbEntry,
    wanted: &Wanted,
    stages: &[Stage],
    told: &mut Vec<String>,
) -> Result<Engine, Failure> {
    let (id, ended) = (entry.id, entry.trials.len());
    if wanted.plan_is_named && entry.plan != wanted.plan {
        return Err(Failure::usage(format!(
            "climb {id} on this card is not finished and follows another plan: leave --plan away \
             to go on with it, or add --fresh to give it up and begin anew"
        )));
    }
    if entry.stages != stages {
        let names: Vec<&str> = entry.stages.iter().map(|stage| stage.label()).collect();
        return Err(Failure::usage(format!(
            "climb {id} on this card is not finished and has the stages {list}: name them with \
             --stages {list} to go on with it, or add --fresh to give it up and begin anew",
            list = names.join(",")
        )));
    }
    if entry.state == ClimbState::Open {
        told.push(match ended {
            0 => format!("Climb {id} on this card is not finished: it goes on from its beginning."),
            1 => format!("Climb {id} on this card is not finished: it goes on after its 1 trial."),
            _ => format!(
                "Climb {id} on this card is not finished: it goes on after its {ended} trials."
            ),
        });
    }
    let (engine, unfinished) =
        Engine::resume(rig, ledger, entry, wanted.unfinished).map_err(usage_or_failed)?;
    told.extend(unfinished);
    Ok(engine)
}

pub(crate) fn open(data_dir: &DataDirOption, options: &OpenOptions) -> Result<(), Failure> {
    needs_terminal()?;
    let mut wanted = Wanted::from_options(&options.climbing, data_dir)?;
    wanted.reopen = true;
    let dir = data_dir.resolve()?;
    let mut opened = open_climb(&dir, &wanted)?;
    let in_step = &options.climbing.in_step;
    hold_in_step(&dir, &mut opened.engine, &wanted, in_step)?;
    let also: Vec<CardName> = in_step.iter().chain(&options.also).cloned().collect();
    let rack = rack(&dir, &opened, &wanted, &also)?;
    show(opened, rack, options.pace)
}

pub(crate) fn demo(data_dir: &DataDirOption, options: &DemoOptions) -> Result<(), Failure> {
    needs_terminal()?;
    let dir = data_dir.below("demo")?;
    if options.fresh {
        set_demo_aside(&dir)?;
    }
    let [card, others @ ..] = &demo_cards()?[..] else { return Ok(()) };
    let wanted = |plan: Plan, reopen| Wanted {
        card: card.clone(),
        plan,
        plan_is_named: false,
        stages: Vec::new(),
        fresh: false,
        outside: Vec::new(),
        in_process: false,
        unfinished: Unfinished::MachineDown,
        reopen,
    };
    let is_new = !dir.ledger().exists();
    let mut history = Vec::new();
    if is_new {
        let stages = vec![Stage::Baseline, Stage::Core];
        let in_process = Wanted { in_process: true, stages, ..wanted(hasty_plan()?, false) };
        history.push(make_history(&dir, &in_process)?);
    }
    let wanted = wanted(Plan::default(), !is_new);
    let mut opened = open_climb(&dir, &wanted)?;
    opened.told.splice(..0, history);
    let rack = rack(&dir, &opened, &Wanted { reopen: true, ..wanted }, others)?;
    show(opened, rack, options.pace)
}

fn demo_cards() -> Result<Vec<CardName>, Failure> {
    DEMO_CARDS.iter().map(|name| name.parse().map_err(Failure::failed)).collect()
}

/// What the keeper of the planetarium did last autumn, in a hurry: one baseline run, no long
/// confirming run. It is really climbed, once, when the demo's ledger is made.
fn make_history(dir: &DataDir, wanted: &Wanted) -> Result<String, Failure> {
    let mut opened = open_climb(dir, wanted)?;
    opened.engine.set_machine(demo_machine())?;
    while let Next::Trial(_) = opened.engine.climb().next() {
        opened.engine.step_unattended(&mut ())?;
    }
    let profile = opened.engine.keep("last autumn")?;
    let kept = in_short(&profile.settings, opened.engine.description());
    Ok(format!(
        "Fernhollow Planetarium's Tarn 310 was tuned in a hurry last autumn and kept at {kept}. \
         Before the summer season it is to be done properly."
    ))
}

/// What the keeper has entered of the machine. The rest of it is still to be measured.
fn demo_machine() -> Machine {
    Machine {
        room: Some(Room { ambient: Celsius(20.0), case: Case::Closed }),
        supply: Some(Watt(1_600.0)),
        rest: None,
        alarms: vec![Alarm { on: AlarmOn::HotSpot, above: 98.0, act: AlarmAct::Warn }],
    }
}

fn hasty_plan() -> Result<Plan, Failure> {
    Plan::from_toml(
        "policy = \"steady\"\nscene = \"lantern\"\n[baseline]\nruns = 1\nwarm_up_seconds = 60\n\
         [core]\ncoarse_step_mhz = 45\nfine_step_mhz = 45\nconfirm_seconds = 300\nsettle_seconds = 120\n",
    )
    .map_err(Failure::failed)
}

fn set_demo_aside(dir: &DataDir) -> Result<(), Failure> {
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

fn needs_terminal() -> Result<(), Failure> {
    if stdout().is_terminal() && std::io::stdin().is_terminal() {
        return Ok(());
    }
    Err(Failure::usage(
        "the interface needs a terminal for its input and output. Start it in one, or climb \
         without it: yard-step climb --card standin:tarn-310",
    ))
}

fn show(opened: Opened, rack: Rack, pace: Pace) -> Result<(), Failure> {
    let Opened { engine, told, lock, ledger } = opened;
    drop(ledger);
    let result = tui::run(engine, rack, pace, told);
    drop(lock);
    result.map_err(Failure::failed)
}
