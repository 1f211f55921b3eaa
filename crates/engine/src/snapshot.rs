//! Filling a snapshot from what the engine knows.

use std::sync::Arc;

use yard_step_core::{
    Climb, Descent, Domain, Gain, Next, Outcome, Outlook, Seconds, Stage, Stairs, in_short,
};
use yard_step_ledger::ClimbEntry;
use yard_step_scenes::Scene;

use crate::engine::Engine;
use crate::error::EngineError;
use crate::pace::Pace;
use crate::profiles::ProfileView;
use crate::view::{Activity, ClimbSummary, NextView, RunView, Snapshot, StageStanding, StageView};

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
        progress: Vec::new(),
        stairs: [None, None],
        descents: Vec::new(),
        other_stages: Vec::new(),
        map: Arc::default(),
        advice: Vec::new(),
        parts: Vec::new(),
        leaving_out: false,
        claim: None,
        isolation: None,
        baseline: None,
        plan: Arc::new(climb.plan().clone()),
        outlook: Outlook::default(),
        run: None,
        looked_at: None,
        laid_over: None,
        machine: Arc::new(engine.machine().clone()),
        prerequisites: Arc::new(Vec::new()),
        rack: Arc::new(Vec::new()),
        present: 0,
        held: None,
        sensors: None,
        activity: Activity::Waiting,
        restart: engine.restart_wanted(),
        is_manual: engine.load.is_manual(),
        auto: false,
        pace,
        answer: None,
        alarms: Vec::new(),
        notices,
        profiles: Vec::new(),
        history: Vec::new(),
        older_climbs: 0,
    };
    fill(&mut snapshot, engine);
    snapshot.run = last_run(engine);
    snapshot
}

/// The newest trial of a climb taken up again, so that there is something to see at once.
pub(crate) fn last_run(engine: &Engine) -> Option<Arc<RunView>> {
    let last = engine.climb().trials().last()?;
    engine.recorded_run(engine.climb_id(), last.number).ok().map(Arc::new)
}

pub(crate) fn fill(state: &mut Snapshot, engine: &Engine) {
    let climb = engine.climb();
    state.climb = engine.climb_id();
    state.stage = climb.stage();
    let next = climb.next();
    let is_open = !matches!(next, Next::Ended(_));
    let outcome = climb.outcome();
    state.trials = Arc::new(climb.trials().to_vec());
    state.under_load = climb.test_seconds();
    state.baseline_runs = climb.baseline_runs();
    state.baseline = climb.baseline();
    state.plan = Arc::new(climb.plan().clone());
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
    state.parts = climb.parts();
    state.leaving_out = climb.is_leaving_out();
    state.isolation = climb.isolation();
    state.restart = engine.restart_wanted();
}

fn descents(climb: &Climb, next: &Next) -> Vec<(Stage, Arc<Descent>)> {
    let of = |stage: &Stage| Some((*stage, Arc::new(climb.descent(*stage, next)?)));
    climb.stages().iter().filter_map(of).collect()
}

/// The stages a climb has not, in their order, each with why it cannot have it.
fn other_stages(climb: &Climb) -> Vec<(Stage, Option<String>)> {
    let is_other = |stage: &Stage| !climb.stages().contains(stage);
    let why = |stage: Stage| climb.with_stage(stage).err().map(|error| error.to_string());
    Stage::PLANNED.into_iter().filter(is_other).map(|stage| (stage, why(stage))).collect()
}

/// Where each stage stands, and what it found.
fn progress(climb: &Climb, state: &Snapshot, is_open: bool, outcome: &Outcome) -> Vec<StageView> {
    let standing = |stage: Stage| match stage {
        _ if climb.is_skipped(stage) => StageStanding::Skipped,
        _ if climb.is_done(stage) && climb.has_begun(stage) => StageStanding::Done,
        _ if stage == state.stage && is_open => StageStanding::Present,
        _ => StageStanding::ToCome,
    };
    let view = |stage: &Stage| StageView {
        stage: *stage,
        standing: standing(*stage),
        found: found(climb, *stage, &state.stairs, outcome).unwrap_or_default(),
    };
    climb.stages().iter().map(view).collect()
}

/// What a stage has found so far, in a sentence.
fn found(
    climb: &Climb,
    stage: Stage,
    stairs: &[Option<Arc<Stairs>>],
    outcome: &Outcome,
) -> Option<String> {
    if !climb.has_begun(stage) {
        return None;
    }
    match stage {
        Stage::Baseline => climb.baseline().map(|baseline| {
            format!("Score {:.0}, noise {:.2} %.", baseline.score, baseline.noise.value())
        }),
        Stage::Power => climb.power_report().map(|report| report.sentence()),
        Stage::Core | Stage::Memory => {
            let domain = stage.domain()?;
            let stairs = stairs.iter().flatten().find(|stairs| stairs.domain == domain)?;
            let axis = climb.axis(domain)?;
            let kept = climb.found_alone().get(domain);
            let gain = climb.gain_alone(domain, kept);
            let gain = gain.map_or(String::new(), |(gain, error, known)| {
                let sure = match known {
                    Gain::Clear => "",
                    Gain::NotThere => ", no gain",
                    Gain::Open => ", not clear of the noise",
                };
                format!(" ({:+.1} ± {:.1} %{sure})", gain * 100.0, error * 100.0)
            });
            let band = stairs.band.map_or(String::new(), |(low, high)| {
                format!(", edge believed {} to {}", axis.show(low), axis.show(high))
            });
            let slower = climb.stable_yet_slower(domain).map_or(String::new(), |s| format!(" {s}"));
            Some(format!("{}{gain}{band}.{slower}", axis.show(kept)))
        }
        Stage::Together => {
            let claim = outcome.claim.map_or(String::new(), |c| format!(" {}", c.sentence()));
            Some(format!("{}.{claim}", in_short(&outcome.settings, climb.card())))
        }
        _ if stage.is_undervolting() => climb.strategy_report(stage).map(|report| report.sentence),
        _ => climb
            .round_report(stage)
            .map(|report| format!("{}{}", report.sentence, where_it_pays(climb, &report.sections))),
    }
}

/// For which sections of the load a round pays, the most first, where they are told apart.
fn where_it_pays(climb: &Climb, sections: &[(usize, f64)]) -> String {
    /// A smaller difference of a section is not told.
    const LEAST: f64 = 0.2;
    let Ok(scene) = climb.plan().scene.parse::<Scene>() else { return String::new() };
    let mut named: Vec<(&str, f64)> = sections
        .iter()
        .filter_map(|(section, gain)| Some((*scene.sections().get(*section)?, *gain)))
        .filter(|(_, gain)| gain.abs() >= LEAST)
        .collect();
    named.sort_by(|a, b| b.1.total_cmp(&a.1));
    let told = |pays: bool| {
        let of = named.iter().filter(|(_, gain)| (*gain > 0.0) == pays);
        of.map(|(name, gain)| format!("{name} {gain:+.1} %")).collect::<Vec<_>>().join(", ")
    };
    match (told(true).as_str(), told(false).as_str()) {
        ("", "") => String::new(),
        (pays, "") => format!(" It pays in {pays}."),
        ("", costs) => format!(" It costs in {costs}."),
        (pays, costs) => format!(" It pays in {pays}; it costs in {costs}."),
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_card::{Card, CardChoice};
    use yard_step_core::Plan;

    #[rstest]
    #[case("medley", &[(0, 1.24), (1, -3.0), (2, 0.61), (3, 0.1)], " It pays in kiln +1.2 %, loom +0.6 %; it costs in sluice -3.0 %.")]
    #[case("medley", &[(0, 0.5)], " It pays in kiln +0.5 %.")]
    #[case("medley", &[(1, -0.5)], " It costs in sluice -0.5 %.")]
    #[case("medley", &[(1, 0.05)], "")]
    #[case("my own load", &[(0, 5.0)], "")]
    fn for_which_scenes_a_round_pays_is_told(
        #[case] load: &str,
        #[case] sections: &[(usize, f64)],
        #[case] told: &str,
    ) {
        let card = CardChoice::all()[0].open(3, 0).unwrap().description().clone();
        let plan = Plan { scene: load.into(), ..Plan::default() };
        let climb = Climb::new(card, plan, &[Stage::Baseline, Stage::MemoryForCore]).unwrap();
        assert_eq!(where_it_pays(&climb, sections), told);
    }
}
