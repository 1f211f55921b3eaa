//! What there is to see: plain data, made by the engine, drawn by the interface as it is.

use std::sync::Arc;

use yard_step_core::{
    Baseline, Bracket, CardDescription, Channel, Fault, Frame, Judgement, Lane, LimiterShares, Mhz,
    MhzOffset, Outcome, Outlook, Plan, Purpose, Sample, Seconds, Seen, Settings, Stage, Strip,
    TrialRecord,
};
use yard_step_ledger::Profile;
use yard_step_scenes::WrongPixel;

use crate::pace::Pace;

/// The series of a run.
#[derive(Debug, Clone, PartialEq)]
pub struct Strips {
    /// Reported core clock, MHz.
    pub clock: Strip,
    /// What limited the clock.
    pub lane: Lane,
    /// Board power, W.
    pub power: Strip,
    /// Core temperature, °C.
    pub core_temperature: Strip,
    /// Hot spot, °C.
    pub hot_spot: Strip,
    /// Fan, %.
    pub fan: Strip,
}

impl Strips {
    /// More than a wide terminal has columns, so that nothing is lost by drawing.
    const BUCKETS: usize = 512;

    pub(crate) fn new() -> Self {
        let strip = || Strip::new(Self::BUCKETS, 0.1);
        Self {
            clock: strip(),
            lane: Lane::new(Self::BUCKETS, 0.1),
            power: strip(),
            core_temperature: strip(),
            hot_spot: strip(),
            fan: strip(),
        }
    }

    pub(crate) fn push(&mut self, sample: &Sample, limiter: LimiterShares) {
        // A sample stands for the tenth of a second before it.
        let at = (sample.at.value() - 0.05).max(0.0);
        self.clock.reading(at, sample.get(Channel::CoreClock));
        self.lane.push(at, Some(limiter));
        self.power.reading(at, sample.get(Channel::BoardPower));
        self.core_temperature.reading(at, sample.get(Channel::CoreTemperature));
        self.hot_spot.reading(at, sample.get(Channel::HotSpot));
        self.fan.reading(at, sample.get(Channel::Fan));
    }
}

/// A frame of the scene with its wrong pixels.
#[derive(Debug, Clone, PartialEq)]
pub struct Picture {
    /// Number of the frame in its run.
    pub number: u64,
    /// The frame as it was drawn.
    pub frame: Arc<Frame>,
    /// Wrong pixels of it.
    pub wrong: Vec<WrongPixel>,
    /// How many there are, also beyond those kept.
    pub wrong_pixels: u64,
}

/// A run: the present one, the last one, or one taken from the ledger.
#[derive(Debug, Clone, PartialEq)]
pub struct RunView {
    /// Number of the trial.
    pub number: u32,
    /// Its stage.
    pub stage: Stage,
    /// What it is for.
    pub purpose: Purpose,
    /// Scene.
    pub scene: String,
    /// Settings asked.
    pub asked: Settings,
    /// Settings taken.
    pub taken: Option<Settings>,
    /// What is seen so far, or was seen in the end.
    pub seen: Seen,
    /// Score so far.
    pub score: Option<f64>,
    /// Highest clock the curve allows under these settings: what the clock line is held against.
    pub target: Mhz,
    /// Power limit it ran under, W.
    pub power_limit: f64,
    /// Temperature target it ran under, °C.
    pub temperature_target: f64,
    /// Time since it began.
    pub at: Seconds,
    /// Length in all.
    pub planned: Seconds,
    /// Part of it that is warm-up.
    pub warm_up: Seconds,
    /// Newest sample.
    pub sample: Sample,
    /// The series.
    pub strips: Strips,
    /// What was rounded, clamped or not taken, and what had to be done afterwards.
    pub notes: Vec<String>,
    /// What went wrong so far.
    pub faults: Vec<Fault>,
    /// The scene's newest picture; a run from the ledger has none.
    pub picture: Option<Picture>,
    /// The verdict, once it has ended.
    pub judgement: Option<Judgement>,
}

/// What comes next.
#[derive(Debug, Clone, PartialEq)]
pub enum NextView {
    /// A trial.
    Trial {
        /// Stage.
        stage: Stage,
        /// Core clock offset to be tried.
        offset: MhzOffset,
        /// What for.
        purpose: Purpose,
        /// Length.
        seconds: Seconds,
        /// Why, in a sentence.
        reason: String,
        /// Why it needs an explicit yes, if it does.
        risk: Option<String>,
    },
    /// The climb has its outcome.
    Ended(Box<Outcome>),
    /// The climb cannot go on; why, and the way out.
    Stuck(String),
}

/// What the engine is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Activity {
    /// Waiting for a command.
    Waiting,
    /// A trial is running.
    Running,
    /// A trial is held still.
    Paused,
    /// The engine is gone; the last notice says why.
    Gone,
}

/// A climb in a line.
#[derive(Debug, Clone, PartialEq)]
pub struct ClimbSummary {
    /// Number of the climb.
    pub id: i64,
    /// Open, ended or given up.
    pub state: &'static str,
    /// Trials made.
    pub trials: usize,
    /// Core clock offset it came to, if it ended.
    pub kept: Option<MhzOffset>,
    /// Gain over its baseline.
    pub gain_percent: Option<f64>,
}

/// Everything there is to see at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct Snapshot {
    /// The card.
    pub card: Arc<CardDescription>,
    /// Number of the climb.
    pub climb: i64,
    /// Its stages.
    pub stages: Vec<Stage>,
    /// The present one.
    pub stage: Stage,
    /// What comes next.
    pub next: NextView,
    /// Trials that have a verdict.
    pub trials: Arc<Vec<TrialRecord>>,
    /// Time under load in all of them.
    pub under_load: Seconds,
    /// Where the edge is believed to lie.
    pub bracket: Option<Bracket>,
    /// The baseline.
    pub baseline: Option<Baseline>,
    /// Baseline runs that count so far.
    pub baseline_runs: usize,
    /// The plan that is followed.
    pub plan: Arc<Plan>,
    /// How much is left.
    pub outlook: Outlook,
    /// The present run, or the last one.
    pub run: Option<Arc<RunView>>,
    /// A run taken from the ledger to look at.
    pub looked_at: Option<Arc<RunView>>,
    /// Settings the card holds now.
    pub held: Option<Settings>,
    /// Sensors now.
    pub sensors: Option<Sample>,
    /// Fine step in MHz, by which a nudge moves.
    pub nudge_step: MhzOffset,
    /// What the engine is doing.
    pub activity: Activity,
    /// Whether it takes the next step by itself.
    pub auto: bool,
    /// Pace of the virtual clock.
    pub pace: Pace,
    /// The answer to the user's last command, until the next one.
    pub answer: Option<String>,
    /// Newest notices, the oldest first.
    pub notices: Vec<String>,
    /// Kept profiles of this card, the newest first.
    pub profiles: Vec<Profile>,
    /// Earlier climbs on this card, the newest first.
    pub history: Vec<ClimbSummary>,
}
