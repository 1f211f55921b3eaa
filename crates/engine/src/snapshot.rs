//! Filling a snapshot from what the engine knows.

use std::sync::Arc;

use yard_step_core::{Climb, MhzOffset, Next, Seconds, Stage};
use yard_step_ledger::{ClimbEntry, Profile};

use crate::engine::Engine;
use crate::error::EngineError;
use crate::pace::Pace;
use crate::view::{Activity, ClimbSummary, NextView, RunView, Snapshot};

pub(crate) fn first_snapshot(engine: &Engine, pace: Pace, notices: Vec<String>) -> Snapshot {
    let climb = engine.climb();
    let mut snapshot = Snapshot {
        card: Arc::new(engine.description().clone()),
        climb: engine.climb_id(),
        stages: climb.stages().to_vec(),
        stage: Stage::Baseline,
        next: NextView::Stuck(String::new()),
        trials: Arc::new(Vec::new()),
        under_load: Seconds(0.0),
        baseline_runs: 0,
        bracket: None,
        baseline: None,
        plan: Arc::new(climb.plan().clone()),
        outlook: climb.outlook(),
        run: None,
        looked_at: None,
        laid_over: None,
        machine: Arc::new(engine.machine().clone()),
        prerequisites: Arc::new(Vec::new()),
        rack: Arc::new(Vec::new()),
        present: 0,
        held: None,
        sensors: None,
        nudge_step: MhzOffset(climb.plan().core.fine_step_mhz),
        activity: Activity::Waiting,
        restart: engine.restart_wanted(),
        is_manual: engine.load.is_manual(),
        auto: false,
        pace,
        answer: None,
        notices,
        profiles: Vec::new(),
        history: Vec::new(),
    };
    fill(&mut snapshot, engine);
    snapshot.run = last_run(engine);
    snapshot
}

/// The newest trial of a climb taken up again, so that there is something to see at once.
pub(crate) fn last_run(engine: &Engine) -> Option<Arc<RunView>> {
    let last = engine.climb().trials().last()?;
    engine.recorded_run(last.number).ok().map(Arc::new)
}

pub(crate) fn fill(state: &mut Snapshot, engine: &Engine) {
    let climb = engine.climb();
    state.climb = engine.climb_id();
    state.stage = climb.stage();
    state.next = next_view(climb);
    state.trials = Arc::new(climb.trials().to_vec());
    state.under_load = climb.test_seconds();
    state.baseline_runs = climb.baseline_runs();
    state.bracket = climb.bracket();
    state.baseline = climb.baseline();
    state.outlook = climb.outlook();
    state.restart = engine.restart_wanted();
}

fn next_view(climb: &Climb) -> NextView {
    match climb.next() {
        Next::Ended(outcome) => NextView::Ended(outcome),
        Next::Stuck(why) => NextView::Stuck(why),
        Next::Trial(proposal) => NextView::Trial {
            stage: proposal.request.stage,
            offset: proposal.request.asked.core_offset.unwrap_or_default(),
            purpose: proposal.request.purpose,
            seconds: proposal.request.seconds,
            reason: proposal.reason,
            risk: proposal.risk,
        },
    }
}

type Lists = (Vec<Profile>, Vec<ClimbSummary>);

pub(crate) fn lists(engine: &Engine) -> Result<Lists, EngineError> {
    let key = engine.description().key();
    let profiles = engine.ledger().profiles(engine.description())?;
    let mut history: Vec<ClimbSummary> = engine
        .ledger()
        .climbs()?
        .iter()
        .filter(|entry| entry.card.key() == key && entry.id != engine.climb_id())
        .map(summary)
        .collect();
    history.reverse();
    Ok((profiles, history))
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
        kept: outcome.as_ref().and_then(|outcome| outcome.settings.core_offset),
        gain_percent: outcome.and_then(|outcome| outcome.gain_percent),
    }
}
