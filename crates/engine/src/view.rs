//! What there is to see: plain data, made by the engine, drawn by the interface as it is.

use std::sync::Arc;

use yard_step_card::CeilingRecord;
use yard_step_core::{
    Advice, AirNotes, AlarmRaised, AtStock, Axis, Baseline, BaselineProgress, CardDescription,
    CheckedFrame, Claim, ClimbError, Conditions, Culprits, Descent, DrawnCurve, Experience, Fault,
    FaultPlaces, Frame, Gain, HeatModel, InStepRecord, Judgement, LoadGain, Machine, Map, Mhz,
    MhzOffset, NoiseModel, Outcome, Outlook, Part, Plan, Plateau, PowerReport, Prerequisite,
    Purpose, Reason, Risk, Room, RoundReport, SafetyCeilings, Sample, Seconds, Seen, Settings,
    SettleReport, Soaked, StableYetSlower, Stage, Stairs, StockReport, StrategyReport, Stuck,
    SubScoreBaseline, Surprise, Trace, TrialRecord, Verdict, Wish,
};
use yard_step_ledger::Event;
use yard_step_scenes::{SizedScene, WrongPixel, check, reference, section_of, sections_of};

use crate::free_view::FreeView;
use crate::load::OutsideSpec;
use crate::pace::Pace;
use crate::profiles::{Candidate, ProfileView};
use crate::restart::Restart;

/// What a mark on the time axis tells of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum MarkKind {
    /// Settings were applied, rounded or refused.
    Applied,
    /// The clock dipped.
    Dip,
    /// Something failed.
    Fault,
    /// An alarm went off.
    Alarm,
    /// Something had to be started again: the machine, or the guard.
    Restart,
    /// Anything else.
    Note,
}

impl MarkKind {
    /// The kind in a word, as the ledger has it.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }
}

/// Something that happened at a time of a run.
#[derive(Debug, Clone, PartialEq)]
pub struct Mark {
    /// When, from its beginning.
    pub at: Seconds,
    /// What it tells of.
    pub kind: MarkKind,
    /// In words.
    pub text: String,
}

impl Mark {
    pub(crate) fn event(&self, trial: i64) -> Event {
        let (kind, text) = (self.kind.label().to_owned(), self.text.clone());
        Event { trial: Some(trial), at: self.at, kind, text }
    }

    pub(crate) fn of_event(event: &Event) -> Self {
        let kind = match event.kind.as_str() {
            "applied" | "clamped" | "stock" => MarkKind::Applied,
            "alarm" => MarkKind::Alarm,
            "restart" => MarkKind::Restart,
            "fault" => MarkKind::Fault,
            _ => MarkKind::Note,
        };
        Self { at: event.at, kind, text: event.text.clone() }
    }
}

/// What settings bring under each load of the climb.
#[derive(Debug, Clone, PartialEq)]
pub struct ByLoad {
    /// The settings.
    pub settings: Settings,
    /// Their gains, in the order of the loads.
    pub gains: Vec<LoadGain>,
}

/// A card held in step, as it stands in a run.
#[derive(Debug, Clone, PartialEq)]
pub struct InStepView {
    /// Key of the card.
    pub card: String,
    /// Which unit.
    pub serial: String,
    /// Settings it took.
    pub taken: Option<Settings>,
    /// Its newest sample.
    pub sample: Option<Sample>,
    /// Frames with wrong pixels so far.
    pub wrong_frames: u64,
    /// Its score so far.
    pub score: Option<f64>,
    /// Its verdict, once the run has ended.
    pub verdict: Option<Verdict>,
    /// The reason of that.
    pub reason: String,
}

impl InStepView {
    fn of_record(record: &InStepRecord) -> Self {
        let serial = record.card.rsplit('#').next().unwrap_or_default().to_owned();
        Self {
            card: record.card.clone(),
            serial,
            taken: record.taken,
            sample: None,
            wrong_frames: record.seen.wrong_frames,
            score: record.score,
            verdict: Some(record.judged),
            reason: record.reason.clone(),
        }
    }
}

/// A card of the machine, as the picker lists it.
#[derive(Debug, Clone, PartialEq)]
pub struct RackCard {
    /// What it is.
    pub card: Arc<CardDescription>,
    /// Whether it is held in step with the present one.
    pub in_step: bool,
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

impl Picture {
    /// A frame that is right.
    #[must_use]
    pub fn of(number: u64, frame: impl Into<Arc<Frame>>) -> Self {
        Self { number, frame: frame.into(), wrong: Vec::new(), wrong_pixels: 0 }
    }
}

/// A spoilt frame beside what it should have been.
#[derive(Debug, Clone, PartialEq)]
pub struct SpoiltPicture {
    /// The frame as it was drawn, its wrong pixels marked.
    pub drawn: Picture,
    /// The frame as it should have been.
    pub reference: Picture,
    /// How far they are apart, channel by channel, made bright enough to be seen: black where
    /// they are equal.
    pub difference: Picture,
}

impl SpoiltPicture {
    /// The pictures of a spoilt frame of a scene; none where its pixels are not known.
    #[must_use]
    pub fn of(scene: SizedScene, spoilt: &CheckedFrame) -> Option<Self> {
        let right = reference(scene, spoilt.number);
        let drawn = spoilt.patch.as_ref()?.over(&right);
        let check = check(&drawn, &right);
        let pairs = drawn.pixels.iter().zip(&right.pixels);
        let apart = pairs.map(|(drawn, right)| brightened(*drawn, *right)).collect();
        let difference = Frame { pixels: apart, ..*right };
        Some(Self {
            drawn: Picture {
                number: spoilt.number,
                frame: Arc::new(drawn),
                wrong: check.places,
                wrong_pixels: check.wrong_pixels,
            },
            reference: Picture::of(spoilt.number, right),
            difference: Picture::of(spoilt.number, difference),
        })
    }
}

/// The distance of two colours, no darker than can be seen where there is any.
fn brightened(drawn: u32, right: u32) -> u32 {
    const LEAST: u16 = 96;
    let [_, r, g, b] = drawn.to_be_bytes();
    let [_, x, y, z] = right.to_be_bytes();
    let apart = [r.abs_diff(x), g.abs_diff(y), b.abs_diff(z)];
    let seen = apart.map(|distance| match u16::from(distance) {
        0 => 0,
        distance => (LEAST + distance * (255 - LEAST) / 255) as u8,
    });
    u32::from_be_bytes([0, seen[0], seen[1], seen[2]])
}

/// A run: the present one, the last one, or one taken from the ledger.
#[derive(Debug, Clone, PartialEq)]
pub struct RunView {
    /// Climb of the trial.
    pub climb: i64,
    /// The trial by its number, and by its climb and card where that is not the present climb.
    pub title: String,
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
    /// The same in a few words.
    pub what: String,
    /// Settings taken.
    pub taken: Option<Settings>,
    /// What is seen so far, or was seen in the end.
    pub seen: Seen,
    /// Score so far.
    pub score: Option<f64>,
    /// Highest clock the curve allows under these settings: what the clock line is held against.
    pub target: Mhz,
    /// Power limit it ran under, W; none where the card has none.
    pub power_limit: Option<f64>,
    /// Temperature target it ran under, °C; none where the card has none.
    pub temperature_target: Option<f64>,
    /// Time since it began.
    pub at: Seconds,
    /// How long the card still idles before the load begins; none once it has begun.
    pub resting: Option<Seconds>,
    /// Length in all.
    pub planned: Seconds,
    /// Part of it that is warm-up.
    pub warm_up: Seconds,
    /// Newest sample.
    pub sample: Sample,
    /// All samples.
    pub trace: Trace,
    /// Room it ran in, where the user had entered it.
    pub room: Option<Room>,
    /// Where the temperature is going, once that can be told.
    pub plateau: Option<Plateau>,
    /// Temperature at which the load is stopped, °C.
    pub temperature_ceiling: f64,
    /// What happened, in order of time.
    pub marks: Vec<Mark>,
    /// The cards held in step.
    pub in_step: Vec<InStepView>,
    /// What was rounded, clamped or not taken, and what had to be done afterwards.
    pub notes: Vec<String>,
    /// What went wrong so far.
    pub faults: Vec<Fault>,
    /// Its spoilt frames, the first 500.
    pub spoilt: Arc<Vec<CheckedFrame>>,
    /// Whether it ended so that nothing should go on before the user has had a look.
    pub wants_a_look: bool,
    /// The scene's newest picture; a run from the ledger has none.
    pub picture: Option<Picture>,
    /// The verdict, once it has ended.
    pub judgement: Option<Judgement>,
    /// What its settings bring under each load of the climb; none of another climb's.
    pub by_load: Option<ByLoad>,
}

impl Snapshot {
    /// Whether a soak goes on.
    #[must_use]
    pub fn is_soaking(&self) -> bool {
        self.climb.soaked.as_ref().is_some_and(|soaked| soaked.end.is_none())
    }

    /// Whether a free run goes on.
    #[must_use]
    pub fn is_free(&self) -> bool {
        matches!(self.runs.activity, Activity::Running | Activity::Paused)
            && self.runs.free.as_ref().is_some_and(|free| free.ended.is_none())
    }

    /// The run that goes on.
    #[must_use]
    pub fn running(&self) -> Option<&RunView> {
        self.runs.newest.as_deref().filter(|run| run.judgement.is_none())
    }

    /// What the sensors say now: those of the run that goes on, or else of the card at rest.
    #[must_use]
    pub fn sample(&self) -> Option<Sample> {
        self.running().map(|run| run.sample).or(self.machine.sensors)
    }
}

impl RunView {
    /// The run as its record has it: final figures, verdict, and marks for all that went wrong.
    pub(crate) fn ended(mut self, record: &TrialRecord) -> Self {
        let mark = |at, kind, text| Mark { at, kind, text };
        let name_of = |section: usize| sections_of(&record.scene).get(section).copied();
        let within =
            |name: Option<&str>| name.map_or(String::new(), |name| format!(" in \"{name}\""));
        for fault in &record.faults {
            let of_frame = fault.frame.and_then(|frame| section_of(&record.scene, frame));
            let within = within(of_frame.or_else(|| name_of(record.seen.last_section?)));
            let text = match (fault.frame, fault.wrong_pixels) {
                (Some(frame), Some(wrong)) => {
                    format!("{wrong} wrong pixels in frame {frame}{within}")
                }
                _ => format!("{}{within}", fault.kind),
            };
            self.marks.push(mark(fault.at, MarkKind::Fault, text));
        }
        for dip in record.seen.clock_line.iter().flat_map(|line| &line.dips) {
            let (length, section) = (dip.length.value(), dip.section.and_then(name_of));
            let text = format!("dip of {} for {length:.1} s{}", dip.depth, within(section));
            self.marks.push(mark(dip.at, MarkKind::Dip, text));
        }
        self.marks.sort_by(|a, b| a.at.value().total_cmp(&b.at.value()));
        self.seen = record.seen.clone();
        self.score = record.score;
        self.in_step = record.in_step.iter().map(InStepView::of_record).collect();
        self.judgement =
            Some(Judgement { verdict: record.verdict(), reason: record.reason.clone() });
        self
    }
}

/// What comes next.
#[derive(Debug, Clone, PartialEq)]
pub enum NextView {
    /// A trial.
    Trial {
        /// Stage.
        stage: Stage,
        /// Settings to be tried.
        asked: Box<Settings>,
        /// The same in a few words.
        what: String,
        /// What for.
        purpose: Purpose,
        /// Length.
        seconds: Seconds,
        /// Why.
        reason: Reason,
        /// Why it needs an explicit yes, if it does.
        risk: Option<Risk>,
    },
    /// The climb has its outcome.
    Ended(Box<Outcome>),
    /// The climb cannot go on, and why.
    Stuck(Stuck),
}

/// Where a stage stands.
#[derive(Debug, Clone, PartialEq)]
pub struct StageView {
    /// The stage.
    pub stage: Stage,
    /// How far it has come.
    pub standing: StageStanding,
    /// What it came to; none before there is anything to say.
    pub found: Option<Found>,
}

/// What a stage came to.
#[derive(Debug, Clone, PartialEq)]
pub enum Found {
    /// A baseline.
    Baseline(Baseline),
    /// What the raised limits alone bring.
    Power(PowerReport),
    /// The edge of one clock.
    Edge(EdgeFound),
    /// Both clocks together, as they would be kept, and what is claimed of that.
    Together(Box<Settings>, Option<Claim>),
    /// An undervolt.
    Undervolt(Box<StrategyReport>),
    /// The best of a few settings, and the names of the sections of its load.
    Round(Box<RoundReport>, &'static [&'static str]),
    /// Settings one can live with.
    Settled(Box<SettleReport>),
}

/// The edge of one clock, as far as it is known.
#[derive(Debug, Clone, PartialEq)]
pub struct EdgeFound {
    /// What the values mean.
    pub axis: Axis,
    /// What would be kept.
    pub kept: MhzOffset,
    /// Gain of it in shares of the score, its standard error, and whether it is one.
    pub gain: Option<(f64, f64, Gain)>,
    /// Where the edge is believed, with 90 %.
    pub band: Option<(MhzOffset, MhzOffset)>,
    /// Where more clock is stable, but not worth keeping.
    pub slower: Vec<StableYetSlower>,
    /// Why it stays at stock, once that is what the stage came to.
    pub at_stock: Option<AtStock>,
}

/// How far a stage has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StageStanding {
    /// Not begun.
    ToCome,
    /// Its trials are being made.
    Present,
    /// It wants nothing more.
    Done,
    /// The user left it out.
    Skipped,
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
    /// What it came to in a few words, if it ended.
    pub kept: Option<String>,
    /// Gain over its baseline.
    pub gain_percent: Option<f64>,
}

/// The climb, as far as it has come.
#[derive(Debug, Clone, PartialEq)]
pub struct ClimbView {
    /// Its number.
    pub number: i64,
    /// The plan that is followed.
    pub plan: Arc<Plan>,
    /// What it was told of earlier climbs.
    pub experience: Arc<Experience>,
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
    /// How much is left.
    pub outlook: Outlook,
    /// The baseline.
    pub baseline: Option<Baseline>,
    /// What the card does at stock against what is advertised; none before the baseline is complete.
    pub stock: Option<StockReport>,
    /// What the load's sub-scores are at stock.
    pub sub_scores: Vec<SubScoreBaseline>,
    /// Baseline runs that count so far.
    pub baseline_runs: usize,
    /// How far the baseline is under each load.
    pub baselines: Vec<BaselineProgress>,
    /// What the climb would keep brings under each load.
    pub by_load: Option<ByLoad>,
    /// Where each stage stands.
    pub progress: Vec<StageView>,
    /// Stages that the climb has not, each with why the card cannot, where it cannot.
    pub other_stages: Vec<(Stage, Option<ClimbError>)>,
    /// The staircase of the core clock, and that of the memory clock.
    pub stairs: [Option<Arc<Stairs>>; 2],
    /// The searches down in voltage, one for each such stage of the climb.
    pub descents: Vec<(Stage, Arc<Descent>)>,
    /// Core against memory.
    pub map: Arc<Map>,
    /// Advice after the newest trial.
    pub advice: Vec<Advice>,
    /// What each setting contributed, as far as is known.
    pub parts: Vec<Part>,
    /// Whether that is being measured.
    pub leaving_out: bool,
    /// What is claimed of what would be kept now.
    pub claim: Option<Claim>,
    /// What that is claimed under.
    pub conditions: Arc<Conditions>,
    /// The trial that was not to be expected, where the model does not fit this card.
    pub surprise: Option<Surprise>,
    /// In which sections of its load runs failed.
    pub fault_places: Option<FaultPlaces>,
    /// What a soak came to so far; none where none was begun.
    pub soaked: Option<Arc<Soaked>>,
    /// What the user asked: of which trial, and how far the answer has come.
    pub culprits: Option<(u32, Culprits)>,
    /// The newest earlier climbs on this card, the newest first.
    pub history: Vec<ClimbSummary>,
    /// How many more there are.
    pub older_climbs: usize,
}

/// The runs that can be looked at, and how the engine makes them.
#[derive(Debug, Clone, PartialEq)]
pub struct RunsView {
    /// The present run, or the last one.
    pub newest: Option<Arc<RunView>>,
    /// A run taken from the ledger to look at.
    pub looked_at: Option<Arc<RunView>>,
    /// A run taken from the ledger to lay over the one shown.
    pub laid_over: Option<Arc<RunView>>,
    /// The free run that goes on, or the last one until something else is run.
    pub free: Option<Arc<FreeView>>,
    /// The loads that can be run.
    pub loads: Arc<Vec<String>>,
    /// Those of them that are programs of the user's own.
    pub programs: Arc<Vec<OutsideSpec>>,
    /// What the engine is doing.
    pub activity: Activity,
    /// Whether only the user can say how the present run goes.
    pub is_manual: bool,
    /// Whether it takes the next step by itself.
    pub auto: bool,
    /// Pace of the virtual clock; none of a card that works by the clock on the wall.
    pub pace: Option<Pace>,
}

/// The machine, its cards, and the one that is climbed on.
#[derive(Debug, Clone, PartialEq)]
pub struct MachineView {
    /// The card climbed on.
    pub card: Arc<CardDescription>,
    /// The cards of this machine.
    pub rack: Arc<Vec<RackCard>>,
    /// Which of them is climbed on.
    pub present: usize,
    /// Settings the card holds now.
    pub held: Option<Settings>,
    /// Sensors now.
    pub sensors: Option<Sample>,
    /// Kept profiles of this card, the newest first.
    pub profiles: Vec<ProfileView>,
    /// Everything that can be proven, with what stands behind it.
    pub candidates: Arc<Vec<Candidate>>,
    /// What the user said of the machine.
    pub said: Arc<Machine>,
    /// What should be looked at before the first change.
    pub prerequisites: Arc<Vec<Prerequisite>>,
    /// Why the machine should be restarted, if it should.
    pub restart: Option<Restart>,
    /// What is known of the card's fan; none before it was read.
    pub air: Option<Arc<AirView>>,
    /// What is known of the card's limit table; none where it cannot be read.
    pub ceiling: Option<Arc<CeilingView>>,
    /// Alarms of the user's that what is read now sets off, the gravest first.
    pub alarms: Vec<AlarmRaised>,
}

/// What is known of a card's limit table.
#[derive(Debug, Clone, PartialEq)]
pub struct CeilingView {
    /// The maker's copy, and what is read at the next start.
    pub record: CeilingRecord,
    /// What bounds it on this machine.
    pub safety: SafetyCeilings,
}

/// What is known of a card's fan.
#[derive(Debug, Clone, PartialEq)]
pub struct AirView {
    /// What the user said.
    pub notes: AirNotes,
    /// The cooler, as the runs show it; none before one was long enough to tell.
    pub heat: Option<HeatModel>,
    /// How loud the fan is.
    pub noise: NoiseModel,
    /// What a curve is drawn for; none before there is a cooler.
    pub wish: Option<Wish>,
    /// The curve that comes of it.
    pub drawn: Option<DrawnCurve>,
}

/// Everything there is to see at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct Snapshot {
    /// The climb.
    pub climb: ClimbView,
    /// Its runs.
    pub runs: RunsView,
    /// The machine.
    pub machine: MachineView,
    /// The answer to the user's last command, until the next one.
    pub answer: Option<String>,
    /// Newest notices, the oldest first.
    pub notices: Vec<String>,
}

impl Snapshot {
    /// The run to be shown: the one looked at, or the present or last one.
    #[must_use]
    pub fn shown(&self) -> Option<&Arc<RunView>> {
        self.runs.looked_at.as_ref().or(self.runs.newest.as_ref())
    }

    /// Number of the trial that is looked at, where it is one of the present climb.
    #[must_use]
    pub fn looked_here(&self) -> Option<u32> {
        let looked = self.runs.looked_at.as_ref().filter(|run| run.climb == self.climb.number)?;
        Some(looked.number)
    }

    /// Score of the baseline that a run is compared with: that of its own climb and load, where the climb is
    /// the present one.
    #[must_use]
    pub fn baseline_for(&self, run: &RunView) -> Option<f64> {
        let of_load = self.climb.baselines.iter().find(|of| of.load == run.scene);
        let own = of_load?.baseline.filter(|_| run.climb == self.climb.number)?;
        (!own.by_clock).then_some(own.score)
    }
}
