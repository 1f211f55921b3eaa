//! A climb as one JSON document.
//!
//! Units are in the names; what is not known is `null`. Readers must refuse a `version` they do
//! not know. The same climb gives the same text, byte for byte.

use serde::Serialize;
use yard_step_core::{
    Artifact, Climb, Fault, InStepRecord, Limiter, Next, Room, SectionSeen, Seen, Settings,
    SubScore, TrialRecord,
};

use crate::ReportError;

/// Version of the document's format.
pub const VERSION: u32 = 1;

/// The whole document.
#[derive(Debug, Serialize)]
pub struct ClimbDocument {
    format: &'static str,
    version: u32,
    card: CardPart,
    stages: Vec<&'static str>,
    baseline: Option<BaselinePart>,
    trials: Vec<TrialPart>,
    outcome: Option<OutcomePart>,
}

#[derive(Debug, Serialize)]
struct CardPart {
    id: String,
    serial: String,
    name: String,
}

#[derive(Debug, Serialize)]
struct BaselinePart {
    score: Option<f64>,
    by_clock: bool,
    noise_percent: f64,
    noise_floor_percent: Option<f64>,
    plateau_c: Option<f64>,
    runs: usize,
    average_clock_mhz: f64,
    average_power_w: Option<f64>,
    hot_spot_max_c: Option<f64>,
}

#[derive(Debug, Serialize)]
struct TrialPart {
    id: u32,
    stage: &'static str,
    purpose: &'static str,
    asked: Settings,
    taken: Option<Settings>,
    seen: SeenPart,
    scene: String,
    seconds: f64,
    verdict: &'static str,
    /// Set where the user's verdict stands in place of the tool's.
    judged: Option<&'static str>,
    reason: String,
    score: Option<f64>,
    faults: Vec<Fault>,
    room: Option<Room>,
    in_step: Vec<InStepPart>,
    since_reset: Option<u32>,
}

#[derive(Debug, Serialize)]
struct InStepPart {
    card: String,
    taken: Option<Settings>,
    seen: SeenPart,
    verdict: &'static str,
    reason: String,
    score: Option<f64>,
}

#[derive(Debug, Serialize)]
struct SeenPart {
    average_clock_mhz: Option<f64>,
    lowest_clock_mhz: Option<f64>,
    highest_clock_mhz: Option<f64>,
    flatness_percent: Option<f64>,
    dips: Option<usize>,
    effective_clock_mhz: Option<f64>,
    average_power_w: Option<f64>,
    core_temperature_max_c: Option<f64>,
    hot_spot_max_c: Option<f64>,
    fan_percent: Option<f64>,
    load_percent: Option<f64>,
    background_percent: Option<f64>,
    average_fps: Option<f64>,
    low_fps: Option<f64>,
    sub_scores: Vec<SubScore>,
    limiter_shares: Vec<LimiterPart>,
    frames: u64,
    wrong_frames: u64,
    wrong_pixels: u64,
    artifacts: Vec<Artifact>,
    sections: Vec<SectionSeen>,
}

#[derive(Debug, Serialize)]
struct LimiterPart {
    limiter: Limiter,
    share: f64,
}

#[derive(Debug, Serialize)]
struct OutcomePart {
    settings: Settings,
    score: Option<f64>,
    gain_percent: Option<f64>,
    trials: usize,
    test_seconds: f64,
    confirmed: bool,
    kept_trial: Option<u32>,
}

impl ClimbDocument {
    /// The document of a climb; without an outcome while the climb has none.
    #[must_use]
    pub fn of(climb: &Climb) -> Self {
        let card = climb.card();
        let outcome = match climb.next() {
            Next::Ended(outcome) => Some(*outcome),
            Next::Trial(_) | Next::Stuck(_) => None,
        };
        Self {
            format: "yard-step-climb",
            version: VERSION,
            card: CardPart {
                id: card.id.clone(),
                serial: card.serial.clone(),
                name: card.name.clone(),
            },
            stages: climb.stages().iter().map(|stage| stage.label()).collect(),
            baseline: climb.baseline().map(|baseline| BaselinePart {
                score: (!baseline.by_clock).then_some(baseline.score),
                by_clock: baseline.by_clock,
                noise_percent: baseline.noise.value(),
                noise_floor_percent: baseline.noise_floor.map(|floor| floor.value()),
                plateau_c: baseline.plateau.map(|plateau| plateau.value()),
                runs: baseline.runs,
                average_clock_mhz: baseline.average_clock.value(),
                average_power_w: baseline.average_power.map(|power| power.value()),
                hot_spot_max_c: baseline.hot_spot_max.map(|hot| hot.value()),
            }),
            trials: climb.trials().iter().map(trial_part).collect(),
            outcome: outcome.map(|outcome| OutcomePart {
                settings: outcome.settings,
                score: outcome.score,
                gain_percent: outcome.gain_percent,
                trials: outcome.trials,
                test_seconds: outcome.test_seconds.value(),
                confirmed: outcome.confirmed,
                kept_trial: outcome.kept_trial,
            }),
        }
    }

    /// The document as text, ending in a line break.
    ///
    /// # Errors
    /// Only if a number cannot be written.
    pub fn to_text(&self) -> Result<String, ReportError> {
        Ok(serde_json::to_string_pretty(self)? + "\n")
    }
}

fn trial_part(trial: &TrialRecord) -> TrialPart {
    TrialPart {
        id: trial.number,
        stage: trial.stage.label(),
        purpose: trial.purpose.label(),
        asked: trial.asked,
        taken: trial.taken,
        seen: seen_part(&trial.seen),
        scene: trial.scene.clone(),
        seconds: trial.seconds.value(),
        verdict: trial.verdict().label(),
        judged: trial.marked.map(|_| trial.judged.label()),
        reason: trial.reason.clone(),
        score: trial.score,
        faults: trial.faults.clone(),
        room: trial.room,
        in_step: trial.in_step.iter().map(in_step_part).collect(),
        since_reset: trial.since_reset,
    }
}

fn in_step_part(record: &InStepRecord) -> InStepPart {
    InStepPart {
        card: record.card.clone(),
        taken: record.taken,
        seen: seen_part(&record.seen),
        verdict: record.judged.label(),
        reason: record.reason.clone(),
        score: record.score,
    }
}

fn seen_part(seen: &Seen) -> SeenPart {
    let line = seen.clock_line.as_ref();
    SeenPart {
        average_clock_mhz: line.map(|line| line.average.value()),
        lowest_clock_mhz: line.map(|line| line.lowest.value()),
        highest_clock_mhz: line.map(|line| line.highest.value()),
        flatness_percent: line.map(|line| line.flatness.value()),
        dips: line.map(|line| line.dips.len()),
        effective_clock_mhz: seen.effective_clock.map(|clock| clock.value()),
        average_power_w: seen.average_power.map(|power| power.value()),
        core_temperature_max_c: seen.core_temperature_max.map(|t| t.value()),
        hot_spot_max_c: seen.hot_spot_max.map(|t| t.value()),
        fan_percent: seen.fan.map(|fan| fan.value()),
        load_percent: seen.load.map(|load| load.value()),
        background_percent: seen.background.map(|busy| busy.value()),
        average_fps: seen.frame_rate,
        low_fps: seen.frame_rate_low,
        sub_scores: seen.told.sub_scores.clone(),
        limiter_shares: seen
            .limiters
            .iter()
            .map(|(limiter, share)| LimiterPart { limiter: *limiter, share: *share })
            .collect(),
        frames: seen.frames,
        wrong_frames: seen.wrong_frames,
        wrong_pixels: seen.wrong_pixels,
        artifacts: seen.artifacts.clone(),
        sections: seen.sections.clone(),
    }
}
