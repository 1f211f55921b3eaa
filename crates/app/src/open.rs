//! Opening a ledger and a climb in it, for the interface and for the headless climb alike.

use std::fs::{self, File};
use std::io::{IsTerminal, stdout};

use yard_step_card::{Card, CardChoice};
use yard_step_core::{CardDescription, Next, Plan, Stage};
use yard_step_engine::{Engine, Pace, Unfinished};
use yard_step_ledger::{ClimbEntry, ClimbState, DataDir, Ledger};

use crate::cli::{ClimbingOptions, DataDirOption, DemoOptions, OpenOptions, read_plan};
use crate::failure::Failure;
use crate::tui;

/// The demo's card: bought used by a planetarium, and tuned before the season.
const DEMO_CARD: &str = "standin:tarn-310";
const DEMO_SEED: u64 = 29;

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
}

/// What is to be climbed.
pub(crate) struct Wanted<'a> {
    pub choice: &'a CardChoice,
    pub seed: u64,
    pub plan: Plan,
    /// Whether the plan was named, and must not differ from that of a climb taken up.
    pub plan_is_named: bool,
    pub stages: &'a [Stage],
    pub fresh: bool,
    pub unfinished: Unfinished,
    /// Whether a climb that has its outcome is opened again rather than followed by a new one.
    pub reopen: bool,
}

impl<'a> Wanted<'a> {
    pub(crate) fn from_options(options: &'a ClimbingOptions) -> Result<Self, Failure> {
        Ok(Self {
            choice: &options.card.card,
            seed: options.card.seed,
            plan: read_plan(options.plan.as_deref())?,
            plan_is_named: options.plan.is_some(),
            stages: &options.stages,
            fresh: options.fresh,
            unfinished: options.unfinished,
            reopen: false,
        })
    }
}

/// Opens the unfinished climb on a card, or begins a new one.
pub(crate) fn open_climb(dir: &DataDir, wanted: Wanted<'_>) -> Result<Opened, Failure> {
    let lock = dir.lock()?;
    let (ledger, told) = open_ledger(dir)?;
    let mut told: Vec<String> = told.into_iter().collect();
    let description = wanted.choice.open(wanted.seed, 0)?.description().clone();
    let found = find_climb(&ledger, &description, &wanted)?;
    // Chance takes another course after each start: what scattered before does not repeat itself.
    let course = found.as_ref().map_or(0, trials_begun);
    let card = Box::new(wanted.choice.open(wanted.seed, course)?);
    let engine = match found {
        Some(entry) => resume(card, ledger, entry, &wanted, &mut told)?,
        None => Engine::begin(card, ledger, wanted.plan, wanted.stages).map_err(usage_or_failed)?,
    };
    Ok(Opened { engine, told, lock })
}

fn usage_or_failed(error: yard_step_engine::EngineError) -> Failure {
    match error {
        yard_step_engine::EngineError::Climb(error) => Failure::usage(error),
        other => Failure::failed(other),
    }
}

fn find_climb(
    ledger: &Ledger,
    card: &CardDescription,
    wanted: &Wanted<'_>,
) -> Result<Option<ClimbEntry>, Failure> {
    let open = ledger.open_climb(card)?;
    if wanted.fresh {
        if let Some(entry) = open {
            ledger.set_climb_state(entry.id, ClimbState::GivenUp, &entry.ended_stages)?;
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
            && entry.stages == wanted.stages
            && (!wanted.plan_is_named || entry.plan == wanted.plan)
    }))
}

fn trials_begun(entry: &ClimbEntry) -> u64 {
    entry.trials.len() as u64 + u64::from(entry.unfinished.is_some())
}

fn resume(
    card: Box<dyn Card>,
    ledger: Ledger,
    entry: ClimbEntry,
    wanted: &Wanted<'_>,
    told: &mut Vec<String>,
) -> Result<Engine, Failure> {
    let (id, ended) = (entry.id, entry.trials.len());
    if wanted.plan_is_named && entry.plan != wanted.plan {
        return Err(Failure::usage(format!(
            "climb {id} on this card is not finished and follows another plan: leave --plan away \
             to go on with it, or add --fresh to give it up and begin anew"
        )));
    }
    if entry.stages != wanted.stages {
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
        Engine::resume(card, ledger, entry, wanted.unfinished).map_err(usage_or_failed)?;
    told.extend(unfinished);
    Ok(engine)
}

pub(crate) fn open(data_dir: &DataDirOption, options: &OpenOptions) -> Result<(), Failure> {
    needs_terminal()?;
    let mut wanted = Wanted::from_options(&options.climbing)?;
    wanted.reopen = true;
    show(open_climb(&data_dir.resolve()?, wanted)?, options.pace)
}

pub(crate) fn demo(data_dir: &DataDirOption, options: &DemoOptions) -> Result<(), Failure> {
    needs_terminal()?;
    let dir = data_dir.below("demo")?;
    if options.fresh {
        set_demo_aside(&dir)?;
    }
    let choice: CardChoice = DEMO_CARD.parse().map_err(Failure::failed)?;
    let wanted = |plan: Plan| Wanted {
        choice: &choice,
        seed: DEMO_SEED,
        plan,
        plan_is_named: false,
        stages: &Stage::ALL,
        fresh: false,
        unfinished: Unfinished::MachineDown,
        reopen: true,
    };
    let is_new = !dir.ledger().exists();
    let mut history = Vec::new();
    if is_new {
        history.push(make_history(&dir, wanted(hasty_plan()?))?);
    }
    let mut opened = open_climb(&dir, Wanted { reopen: !is_new, ..wanted(Plan::default()) })?;
    opened.told.splice(..0, history);
    show(opened, options.pace)
}

/// What the keeper of the planetarium did last autumn, in a hurry: one baseline run, no long
/// confirming run. It is really climbed, once, when the demo's ledger is made.
fn make_history(dir: &DataDir, wanted: Wanted<'_>) -> Result<String, Failure> {
    let mut opened = open_climb(dir, wanted)?;
    while let Next::Trial(_) = opened.engine.climb().next() {
        opened.engine.carry_out(false, &mut ())?;
    }
    let profile = opened.engine.keep("last autumn")?;
    let kept = profile.settings.show(yard_step_core::SettingKind::CoreOffset);
    Ok(format!(
        "Fernhollow Planetarium's Tarn 310 was tuned in a hurry last autumn and kept at {kept}. \
         Before the summer season it is to be done properly."
    ))
}

fn hasty_plan() -> Result<Plan, Failure> {
    Plan::from_toml(
        "[baseline]\nruns = 1\nwarm_up_seconds = 60\n\
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

fn show(opened: Opened, pace: Pace) -> Result<(), Failure> {
    let Opened { engine, told, lock } = opened;
    let result = tui::run(engine, pace, told);
    drop(lock);
    result.map_err(Failure::failed)
}
