//! Filling a snapshot from what the engine knows.

use std::sync::Arc;

use yard_step_core::{
    Climb, ClimbError, Descent, Domain, MhzOffset, Next, Outcome, Outlook, Seconds, Stage, Stairs,
    Stuck, in_short,
};
use yard_step_ledger::ClimbEntry;
use yard_step_scenes::sections_of;

use crate::engine::Engine;
use crate::error::EngineError;
use crate::load::ManualLoad;
use crate::pace::Pace;
use crate::profiles::ProfileView;
use crate::view::{
    Activity, ByLoad, ClimbSummary, ClimbView, EdgeFound, Found, MachineView, NextView, RunView,
    RunsView, Snapshot, StageStanding, StageView,
};

pub(crate) fn first_snapshot(
    engine: &Engine,
    pace: Option<Pace>,
    notices: Vec<String>,
) -> Snapshot {
    let climb = engine.climb();
    let mut snapshot = Snapshot {
        climb: ClimbView {
            number: engine.climb_id(),
            plan: Arc::new(climb.plan().clone()),
            experience: Arc::new(climb.experience().clone()),
            stages: climb.stages().to_vec(),
            stage: Stage::Baseline,
            // Worked out once, when it is filled.
            next: NextView::Stuck(Stuck::NoBaseline),
            trials: Arc::new(Vec::new()),
            under_load: Seconds(0.0),
            outlook: Outlook::default(),
            baseline: None,
            stock: None,
            sub_scores: Vec::new(),
            baseline_runs: 0,
            baselines: Vec::new(),
            by_load: None,
            progress: Vec::new(),
            other_stages: Vec::new(),
            stairs: [None, None],
            descents: Vec::new(),
            map: Arc::default(),
            advice: Vec::new(),
            parts: Vec::new(),
            leaving_out: false,
            claim: None,
            conditions: Arc::default(),
            surprise: None,
            fault_places: None,
            soaked: None,
            culprits: None,
            history: Vec::new(),
            older_climbs: 0,
        },
        runs: RunsView {
            newest: None,
            looked_at: None,
            laid_over: None,
            free: None,
            loads: Arc::default(),
            programs: Arc::default(),
            activity: Activity::Waiting,
            is_manual: false,
            auto: false,
            pace,
        },
        machine: MachineView {
            card: Arc::new(engine.description().clone()),
            rack: Arc::new(Vec::new()),
            present: 0,
            held: None,
            sensors: None,
            profiles: Vec::new(),
            candidates: Arc::default(),
            said: Arc::new(engine.machine().clone()),
            prerequisites: Arc::new(Vec::new()),
            restart: engine.restart_wanted(),
            air: None,
            ceiling: None,
            alarms: Vec::new(),
        },
        answer: None,
        notices,
    };
    fill(&mut snapshot, engine);
    snapshot.runs.newest = last_run(engine);
    snapshot
}

/// The newest trial of a climb taken up again, so that there is something to see at once.
pub(crate) fn last_run(engine: &Engine) -> Option<Arc<RunView>> {
    let last = engine.climb().trials().last()?;
    engine.recorded_run(engine.climb_id(), last.number).ok().map(Arc::new)
}

pub(crate) fn fill(snapshot: &mut Snapshot, engine: &Engine) {
    let climb = engine.climb();
    let next = climb.next();
    let is_open = !matches!(next, Next::Ended(_));
    let is_manual = next_is_manual(&next);
    let outcome = climb.outcome();
    let state = &mut snapshot.climb;
    state.number = engine.climb_id();
    state.stage = climb.stage();
    state.trials = Arc::new(climb.trials().to_vec());
    state.under_load = climb.test_seconds();
    state.baseline_runs = climb.baseline_runs();
    state.baselines = climb.baseline_progress();
    // Stock brings nothing.
    state.by_load = (!outcome.moved.is_empty())
        .then(|| ByLoad { settings: outcome.settings, gains: outcome.by_load.clone() });
    state.baseline = climb.baseline();
    state.stock = climb.stock_report();
    state.sub_scores = climb.sub_score_baselines();
    state.plan = Arc::new(climb.plan().clone());
    state.experience = Arc::new(climb.experience().clone());
    state.stages = climb.stages().to_vec();
    state.stairs = [Domain::Core, Domain::Memory].map(|d| climb.stairs(d, &next).map(Arc::new));
    state.descents = descents(climb, &next);
    state.other_stages = other_stages(climb);
    state.map = Arc::new(climb.map(&next));
    state.progress = progress(climb, state, is_open, &outcome);
    state.next = next_view(next, climb);
    state.outlook = climb.outlook();
    state.advice = climb.trials().last().map_or_else(Vec::new, |trial| climb.advice(trial));
    state.claim = outcome.claim;
    state.conditions = Arc::new(outcome.conditions.clone());
    state.surprise = outcome.surprise;
    state.fault_places = climb.fault_places();
    state.parts = climb.parts();
    state.leaving_out = climb.is_leaving_out();
    state.culprits = climb.culprits();
    state.soaked = climb.soaked().map(Arc::new);
    snapshot.machine.restart = engine.restart_wanted();
    snapshot.runs.is_manual = is_manual;
    snapshot.runs.loads = Arc::new(engine.loads.names_for(engine.climb().plan()));
    snapshot.runs.programs = Arc::new(engine.loads.outside.clone());
}

/// Whether only the user can say how the next trial went.
fn next_is_manual(next: &Next) -> bool {
    matches!(next, Next::Trial(proposal) if proposal.request.load == ManualLoad::NAME)
}

fn descents(climb: &Climb, next: &Next) -> Vec<(Stage, Arc<Descent>)> {
    let of = |stage: &Stage| Some((*stage, Arc::new(climb.descent(*stage, next)?)));
    climb.stages().iter().filter_map(of).collect()
}

/// The stages a climb has not, in their order, each with why it cannot have it.
fn other_stages(climb: &Climb) -> Vec<(Stage, Option<ClimbError>)> {
    // The cross-check comes with the loads that are chosen for it.
    let is_other = |stage: &Stage| !climb.stages().contains(stage) && *stage != Stage::CrossCheck;
    let why = |stage: Stage| climb.with_stage(stage).err();
    Stage::PLANNED.into_iter().filter(is_other).map(|stage| (stage, why(stage))).collect()
}

/// Where each stage stands, and what it found.
fn progress(climb: &Climb, state: &ClimbView, is_open: bool, outcome: &Outcome) -> Vec<StageView> {
    let standing = |stage: Stage| match stage {
        _ if climb.is_skipped(stage) => StageStanding::Skipped,
        _ if climb.is_done(stage) && climb.has_begun(stage) => StageStanding::Done,
        _ if stage == state.stage && is_open => StageStanding::Present,
        _ => StageStanding::ToCome,
    };
    let view = |stage: &Stage| StageView {
        stage: *stage,
        standing: standing(*stage),
        found: found(climb, *stage, &state.stairs, outcome),
    };
    climb.stages().iter().map(view).collect()
}

/// What a stage has found so far.
fn found(
    climb: &Climb,
    stage: Stage,
    stairs: &[Option<Arc<Stairs>>],
    outcome: &Outcome,
) -> Option<Found> {
    if !climb.has_begun(stage) {
        return None;
    }
    match stage {
        Stage::Baseline => climb.baseline().map(Found::Baseline),
        Stage::Power => climb.power_report().map(Found::Power),
        Stage::Core | Stage::Memory => {
            let domain = stage.domain()?;
            let stairs = stairs.iter().flatten().find(|stairs| stairs.domain == domain)?;
            let kept = climb.found_alone().get(domain);
            // Whether a stage is done costs a search of its own, which a raised clock needs not.
            let is_at_stock = kept == MhzOffset::STOCK && climb.is_done(stage);
            Some(Found::Edge(EdgeFound {
                axis: climb.axis(domain)?,
                kept,
                gain: climb.gain_alone(domain, kept),
                band: stairs.band,
                slower: climb.stable_yet_slower(domain),
                at_stock: is_at_stock.then(|| climb.why_at_stock(domain)).flatten(),
            }))
        }
        Stage::Together | Stage::Ladder | Stage::Alternate => {
            Some(Found::Together(Box::new(outcome.settings), outcome.claim))
        }
        Stage::Settle => climb.settle_report().map(|report| Found::Settled(Box::new(report))),
        _ if stage.is_undervolting() => {
            climb.strategy_report(stage).map(|report| Found::Undervolt(Box::new(report)))
        }
        _ => {
            let sections = sections_of(&climb.plan().scene);
            climb.round_report(stage).map(|report| Found::Round(Box::new(report), sections))
        }
    }
}

fn next_view(next: Next, climb: &Climb) -> NextView {
    match next {
        Next::Ended(outcome) => NextView::Ended(outcome),
        Next::Stuck(why) => NextView::Stuck(why),
        Next::Trial(proposal) => NextView::Trial {
            stage: proposal.request.stage,
            what: in_short(&proposal.request.asked, climb.card()),
            asked: Box::new(proposal.request.asked),
            purpose: proposal.request.purpose,
            seconds: proposal.request.seconds,
            reason: proposal.reason,
            risk: proposal.risk,
        },
    }
}

/// Earlier climbs that are told of; the ledger has all of them.
const MOST_HISTORY: usize = 6;

/// Profiles, the newest earlier climbs, and how many more there are.
type Lists = (Vec<ProfileView>, Vec<ClimbSummary>, usize);

pub(crate) fn lists(engine: &Engine) -> Result<Lists, EngineError> {
    let (ledger, card) = (engine.ledger(), engine.description());
    let mut earlier = ledger.climbs_on(card)?;
    earlier.retain(|id| *id != engine.climb_id());
    let older = earlier.len().saturating_sub(MOST_HISTORY);
    earlier.truncate(MOST_HISTORY);
    let history = earlier
        .into_iter()
        .map(|id| Ok(summary(&ledger.climb(id)?)))
        .collect::<Result<_, EngineError>>()?;
    Ok((engine.profiles()?, history, older))
}

fn summary(entry: &ClimbEntry) -> ClimbSummary {
    let outcome = entry.lay_out().ok().and_then(|climb| match climb.next() {
        Next::Ended(outcome) => Some(outcome),
        Next::Trial(_) | Next::Stuck(_) => None,
    });
    ClimbSummary {
        id: entry.id,
        state: entry.state.label(),
        trials: entry.trials.len(),
        kept: outcome.as_ref().map(|outcome| in_short(&outcome.settings, &entry.card)),
        gain_percent: outcome.and_then(|outcome| outcome.gain_percent),
    }
}
