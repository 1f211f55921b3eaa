//! Opening a ledger and a climb in it, for the interface and for the headless climb alike.

use std::fs::File;

use yard_step_card::{CardAddress, connect};
use yard_step_core::{
    CardDescription, Climb, Plan, Settings, Stage, Verdict, are_other_limits, counted,
    starting_from,
};
use yard_step_engine::load::OutsideSpec;
use yard_step_engine::{Engine, EngineError, Loads, Opener, Rack, Rig, Unfinished};
use yard_step_ledger::{ClimbEntry, ClimbState, DataDir, Ledger};
use yard_step_scenes::{Scene, SizedScene};

use crate::failure::Failure;
use crate::options::{CardOptions, ClimbingOptions, DataDirOption, chosen_plan};
use crate::rig::{look_at, rig};
use crate::start::StartFrom;

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
    pub card: CardAddress,
    pub plan: Plan,
    /// Whether the plan was named, and must not differ from that of a climb taken up.
    pub plan_is_named: bool,
    /// What was kept that the climb starts from.
    pub start_from: Option<StartFrom>,
    /// Stages that were named; none means all that the card can do.
    pub stages: Vec<Stage>,
    pub fresh: bool,
    /// The user's own loads.
    pub outside: Vec<OutsideSpec>,
    /// Whether card and load stay in this process: for a climb that nobody needs to wait for.
    pub in_process: bool,
    pub unfinished: Unfinished,
    /// Whether the power limit may be raised though the supply is short.
    pub over_supply: bool,
    /// Whether a climb that has its outcome is opened again rather than followed by a new one.
    pub reopen: bool,
}

impl Wanted {
    /// The newest climb on a card, or a new one by the default plan.
    pub(crate) fn newest_of(
        card: &CardOptions,
        place: &DataDirOption,
        unfinished: Unfinished,
    ) -> Result<Self, Failure> {
        Ok(Self {
            card: card.address()?,
            plan: Plan::default(),
            plan_is_named: false,
            start_from: None,
            stages: Vec::new(),
            fresh: false,
            outside: place.loads()?,
            in_process: false,
            unfinished,
            over_supply: false,
            reopen: true,
        })
    }

    pub(crate) fn from_options(
        options: &ClimbingOptions,
        place: &DataDirOption,
    ) -> Result<Self, Failure> {
        let loads = Loads { launcher: None, outside: place.loads()? };
        let mut plan = chosen_plan(options.quick, options.plan.as_deref(), &loads)?;
        if let Some(name) = &options.load {
            loads.know(name).map_err(Failure::usage)?;
            plan.scene.clone_from(name);
        }
        if !options.cross_check.is_empty() {
            plan.cross_check.loads.clone_from(&options.cross_check);
            plan.check().map_err(Failure::usage)?;
            for name in &options.cross_check {
                loads.know(name).map_err(Failure::usage)?;
            }
        }
        if plan.full_load.is_none() && !options.quick {
            plan.full_load = full_load_beside(&plan.scene);
        }
        if let Some(policy) = options.policy {
            plan.policy = policy;
        }
        if let Some(margin) = options.margin {
            plan.margin = margin;
        }
        crate::start::write(&options.start, &mut plan)?;
        Ok(Self {
            card: options.card.address()?,
            plan,
            outside: loads.outside,
            in_process: false,
            plan_is_named: options.plan.is_some()
                || options.quick
                || options.load.is_some()
                || !options.cross_check.is_empty()
                || options.policy.is_some()
                || options.margin.is_some()
                || !options.start.is_empty()
                || options.start_from.is_some(),
            start_from: options.start_from.clone(),
            stages: options.stages.clone(),
            fresh: options.fresh,
            unfinished: options.unfinished,
            over_supply: options.over_supply,
            reopen: false,
        })
    }

    /// The same with the plan's start read from what was named to start from.
    fn starting_on(&self, ledger: &Ledger, card: &CardDescription) -> Result<Self, Failure> {
        let plan = match &self.start_from {
            Some(from) => from.plan(&self.plan, ledger, card)?,
            None => self.plan.clone(),
        };
        Ok(Self { plan, ..self.clone() })
    }

    /// A card set up to be worked on; tells of an owner who died with it.
    fn rig(
        &self,
        dir: &DataDir,
        name: &CardAddress,
        course: u64,
    ) -> Result<(Rig, Option<String>), Failure> {
        if self.in_process {
            return Ok((connect(&name.on_course(course))?.into(), None));
        }
        rig(dir, &name.on_course(course), &self.outside)
    }

    /// The stages that were named, or all that the card can do.
    fn stages_on(&self, card: &CardDescription) -> Vec<Stage> {
        if !self.stages.is_empty() {
            return self.stages.clone();
        }
        Climb::stages_on(card)
    }
}

/// Load share above which a scene keeps a card fully busy, percent.
const FULLY_BUSY: f64 = 95.0;

/// The load under which stock and the raised limits are compared, where the one that steps pauses now and then.
fn full_load_beside(load: &str) -> Option<String> {
    let scene: SizedScene = load.parse().ok()?;
    (scene.mean_load().value() < FULLY_BUSY).then(|| Scene::Kiln.name().to_owned())
}

/// Opens the unfinished climb on a card, or begins a new one.
/// The cards that are to be held in step come with it.
pub(crate) fn open_climb(
    dir: &DataDir,
    wanted: &Wanted,
    in_step: &[CardAddress],
) -> Result<Opened, Failure> {
    let lock = dir.enter()?;
    let (ledger, set_aside) = open_ledger(dir)?;
    let (engine, told) = climb_on(dir, &ledger, wanted, in_step)?;
    Ok(Opened { engine, told: set_aside.into_iter().chain(told).collect(), lock, ledger })
}

/// The unfinished climb on a card, or a new one, with what there is to say about it. All cards are
/// had before anything is written down, so that a refusal leaves the ledger as it was.
fn climb_on(
    dir: &DataDir,
    ledger: &Ledger,
    wanted: &Wanted,
    in_step: &[CardAddress],
) -> Result<(Engine, Vec<String>), Failure> {
    let mut told = Vec::new();
    let description = look_at(dir, &wanted.card)?.description().clone();
    let wanted = &wanted.starting_on(ledger, &description)?;
    let stages = wanted.stages_on(&description);
    let open = ledger.open_climb(&description)?;
    let (found, given_up) = match wanted.fresh {
        true => (None, open),
        false => {
            let found = find_climb(ledger, &description, wanted, &stages, open)?;
            let is_other = |entry: &ClimbEntry| are_other_limits(&entry.card, &description);
            match found {
                // Nothing was tried in it yet: another one has the ranges that the card has now.
                Some(entry) if is_other(&entry) && trials_begun(&entry) == 0 => (None, Some(entry)),
                found => {
                    let id = found.as_ref().filter(|entry| is_other(entry)).map(|entry| entry.id);
                    told.extend(id.map(|id| format!(
                        "Climb {id} was begun under other limits of the card and keeps their ranges. Begin a new climb to use the present ones."
                    )));
                    (found, None)
                }
            }
        }
    };
    // Chance takes another course after each start: what scattered before does not repeat itself.
    let course = found.as_ref().map_or(0, trials_begun);
    let (rig, taken_over) = wanted.rig(dir, &wanted.card, course)?;
    told.extend(taken_over);
    let mut others = Vec::new();
    for name in in_step {
        let name = name.with_driver(wanted.card.driver_and_course().0);
        Engine::check_alike(&description, look_at(dir, &name)?.description())
            .map_err(Failure::usage)?;
        others.push(wanted.rig(dir, &name, course)?.0);
    }
    if let Some(entry) = given_up {
        give_up(ledger, &entry, wanted.unfinished)?;
    }
    let mut engine = match found {
        Some(entry) => resume(rig, ledger.clone(), entry, wanted, &stages, &mut told)?,
        None => Engine::begin(rig, ledger.clone(), wanted.plan.clone(), &stages)
            .map_err(usage_or_failed)?,
    };
    for other in others {
        engine.hold_in_step(other).map_err(Failure::usage)?;
    }
    if wanted.over_supply {
        engine.go_over_supply();
    }
    told.extend(engine.told_at_start().map(str::to_owned));
    Ok((engine, told))
}

/// Gives an unfinished climb up. A trial of it without an outcome counts as machine down, unless it
/// is said to be void.
fn give_up(ledger: &Ledger, entry: &ClimbEntry, unfinished: Unfinished) -> Result<(), Failure> {
    if let Some(intent) = &entry.unfinished
        && unfinished == Unfinished::Void
    {
        ledger.mark_trial(entry.id, intent.number, Some(Verdict::Void))?;
    }
    Ok(ledger.set_climb_state(entry.id, ClimbState::GivenUp, &entry.directives)?)
}

/// Opens the other cards of the machine by their names.
struct Bay {
    dir: DataDir,
    ledger: Ledger,
    names: Vec<CardAddress>,
    wanted: Wanted,
}

impl Bay {
    fn name(&self, card: &CardDescription) -> Result<CardAddress, EngineError> {
        let found = self.names.iter().find(|name| name.to_string() == card.key()).cloned();
        found.ok_or_else(|| EngineError::Rack(format!("{} is not in this machine.", card.key())))
    }
}

impl Opener for Bay {
    fn climb(&mut self, card: &CardDescription) -> Result<(Engine, Vec<String>), EngineError> {
        let wanted = Wanted { card: self.name(card)?, ..self.wanted.clone() };
        climb_on(&self.dir, &self.ledger, &wanted, &[])
            .map_err(|failure| EngineError::Rack(failure.text().to_owned()))
    }

    fn card(&mut self, card: &CardDescription) -> Result<Rig, EngineError> {
        let rig = self.wanted.rig(&self.dir, &self.name(card)?, 0);
        rig.map(|(rig, _)| rig).map_err(|failure| EngineError::Rack(failure.text().to_owned()))
    }
}

/// All cards of the machine, the one climbed on first.
pub(crate) fn rack(
    dir: &DataDir,
    opened: &Opened,
    wanted: &Wanted,
    also: &[CardAddress],
) -> Result<Rack, Failure> {
    let mut names = vec![wanted.card.clone()];
    for name in also {
        if !names.contains(name) {
            names.push(name.with_driver(wanted.card.driver_and_course().0));
        }
    }
    let mut cards = Vec::new();
    for name in &names {
        cards.push(look_at(dir, name)?.description().clone());
    }
    // What was said of the first card's climb is not said of the others'.
    let first = opened.engine.description();
    let plan = starting_from(wanted.plan.clone(), &Settings::stock(first), first);
    let wanted = Wanted {
        stages: Vec::new(),
        plan,
        plan_is_named: false,
        start_from: None,
        fresh: false,
        ..wanted.clone()
    };
    let bay = Bay { dir: dir.clone(), ledger: opened.ledger.clone(), names, wanted };
    Ok(Rack::new(cards, 0, Box::new(bay)))
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
    open: Option<ClimbEntry>,
) -> Result<Option<ClimbEntry>, Failure> {
    if open.is_some() || !wanted.reopen {
        return Ok(open);
    }
    // One that has ended is opened again only if it is what was asked for.
    for id in ledger.climbs_on(card)? {
        let entry = ledger.climb(id)?;
        let is_wanted = entry.state == ClimbState::Ended
            && (wanted.stages.is_empty() || are_same(&entry.stages, stages))
            && (!wanted.plan_is_named || entry.plan == wanted.plan);
        if is_wanted {
            return Ok(Some(entry));
        }
    }
    Ok(None)
}

/// Whether a climb has these stages; whether it cross-checks is said by its loads.
fn are_same(stages: &[Stage], named: &[Stage]) -> bool {
    let searches = |stages: &[Stage]| -> Vec<Stage> {
        stages.iter().copied().filter(|stage| *stage != Stage::CrossCheck).collect()
    };
    searches(stages) == searches(named)
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
            "climb {id} on this card is not finished and follows another plan: omit --plan to go on \
             with it, or add --fresh to give it up and begin a new one"
        )));
    }
    if !wanted.stages.is_empty() && !are_same(&entry.stages, stages) {
        let names: Vec<&str> = entry.stages.iter().map(|stage| stage.label()).collect();
        return Err(Failure::usage(format!(
            "climb {id} on this card is not finished and has the stages {list}: name them with \
             --stages {list} to go on with it, or add --fresh to give it up and begin a new one",
            list = names.join(",")
        )));
    }
    if entry.state == ClimbState::Open {
        told.push(match ended {
            0 => format!("Climb {id} on this card is not finished: it goes on from its beginning."),
            _ => format!(
                "Climb {id} on this card is not finished: it goes on after its {}.",
                counted(ended, "trial")
            ),
        });
    }
    let (engine, unfinished) =
        Engine::resume(rig, ledger, entry, wanted.unfinished).map_err(usage_or_failed)?;
    told.extend(unfinished);
    Ok(engine)
}
