//! The arithmetic of Yard Step, free of I/O, clocks and threads.
//!
//! ```text
//!   Sample ──► limiter::attribute ─┐
//!     │                            ▼
//!     └──────► Watch ───────────► Seen ──► judge ──► Verdict
//!                                                       │
//!   Plan ──► Climb ◄──── TrialEnded ────────────────────┘
//!              └─► next(): Proposal { settings, reason }
//! ```
//!
//! A card says what it offers in a [`CardDescription`]; a [`Plan`] says how to go about it; a
//! [`Climb`] proposes one trial after another and learns from their verdicts. Who carries the
//! trials out, and where they are written down, is nobody's business here.

mod air;
mod card;
mod ceiling;
mod climb;
#[cfg(test)]
mod fixtures;
mod judge;
mod keep;
mod load;
mod machine;
mod measure;
mod moves;
mod plan;
mod proof;
mod shape;
pub mod statistics;
mod text;
mod units;
mod weigh;

pub use judge::{alarm, verdict};
pub use weigh::compare;

pub use air::budget::{
    DecidedBy, Drawing, DrawnCurve, Idle, Keep, Lost, SUMMER, Settled, WhenIdle, Wish,
};
pub use air::fan::{
    CurveFollower, Fan, FanControl, FanCurve, FanCurveError, FanTarget, MOST_FAN_POINTS,
    MOST_HYSTERESIS,
};
pub use air::heat::{HeatModel, HeatRun, LoadHeat};
pub use air::noise::{Heard, Loudness, MOST_NOISE_NOTES, NoiseModel, NoiseNote, NoiseNoteError};
pub use air::notes::{AirNotes, AirWish, WishError};
pub use air::sketch::{FanMode, FanSketch};
pub use card::description::{
    Absent, Adjusted, CardDescription, CardLimits, Channel, Offer, Reading, SettingKind,
};
pub use card::memory_rate::MemoryWiring;
pub use card::settings::{Clamped, Difference, Settings, SettingsError};
pub use ceiling::bounds::{
    BoundBy, Bounds, SafetyCeilings, beyond_makers, bounds as limit_bounds, current_for,
};
pub use ceiling::change::{
    ChangeError, LONGEST_REASON, LimitOverride, LimitWish, WantedLimits, check_table,
    current_that_is_short, moved as limits_moved,
};
pub use ceiling::error::{TABLE_VERSION, TableError};
pub use ceiling::field::{LimitField, LimitValue};
pub use ceiling::file::{LARGEST_FILE, TableFile};
pub use ceiling::reach::{
    CORE_BELOW, NeedsLimits, REGULATOR_BEYOND, alarms_with_limits, are_other_limits,
    makers_maximum, needs_limits, settings_of,
};
pub use ceiling::table::{
    LimitDifference, LimitTable, LimitTables, MOST_FIELDS, TABLE_FORMAT, TableDocument, TableOwner,
    UnknownField,
};
pub use climb::{
    Above, Advice, AtStock, Axis, Baseline, BaselineProgress, Bend, Bracket, ChartTrial, Claim,
    Climb, ClimbError, ClimbEvent, Conditions, Culprits, Cure, Depth, Descent, DescentTrial,
    Directive, Downed, EdgeBelief, Estimate, Expectation, Experience, Failure, FaultPlaces,
    Forecast, Gain, InStepRecord, Joint, Left, Lesson, LoadGain, Map, Measured, Next, Nudge,
    OtherLimit, Outcome, Outlook, Pair, Part, PowerReport, Proposal, Prospect, Purpose, RISKED,
    Ratio, Reason, Risk, RoundEntry, RoundReport, ScoreLine, SettleReport, SettleStep, Shown,
    SoakEnd, SoakFault, SoakRun, Soaked, StableYetSlower, Stage, StageOrder, Stairs, StepSize,
    StockReport, StrategyReport, Stuck, SuggestedMove, Suggestion, Surprise, TimingBand,
    TrialRecord, TrialRequest, WhySlower, asks_more_clock, forecast, in_short, starting_from,
};
pub use judge::alarm::{Alarm, AlarmAct, AlarmOn, AlarmRaised};
pub use judge::verdict::{
    Ending, Evidence, Expected, Fault, Judgement, Meaning, Reference, Verdict, judge,
};
pub use keep::cut_back::CUT_BACK;
pub use keep::profile::{
    Backing, Drift, Grounds, LEAST_LOADS, LEAST_PROOF, LONGEST_NAME, LONGEST_PURPOSE, Origin,
    Profile, Proof, RunAt, drift,
};
pub use load::EVERYDAY;
pub use load::artifact::{
    Artifact, ArtifactKind, ArtifactLog, Domain, PixelArea, count_by_kind, suggested_domain,
};
pub use load::frame::Frame;
pub use load::pass::{PassScore, SectionScore, score_pass};
pub use load::patch::Patch;
pub use load::told::{
    FigureName, MOST_SUB_SCORES, SubScore, SubScoreBaseline, Told, ToldError, error_in_words,
    figure_in_words, sub_score_baselines,
};
pub use load::workload::{CheckedFrame, Demand, Workload};
pub use machine::changes::{
    CardChange, LONGEST_CHANGE, MOST_CHANGES, last_change, unchanged_around,
};
pub use machine::connectors::CardConnectors;
pub use machine::memory::{CardMemory, MemoryKind};
pub use machine::prerequisites::{
    Facts, OtherPrograms, Prerequisite, ProfileInUse, Standing, prerequisites, steers,
};
pub use machine::room::{Case, Room};
pub use machine::supply::{Machine, MachineError, SupplyHeadroom};
pub use measure::clock_line::{ClockLine, DIP_BINS, Dip, read_clock_line};
pub use measure::limiter::{FULL_LOAD_PERCENT, Limiter, LimiterShares, attribute};
pub use measure::moment::Moment;
pub use measure::monitor::{CurveBand, SectionSeen, Seen, Watch};
pub use measure::plateau::{Plateau, WARM_WITHIN, Warming};
pub use measure::sample::Sample;
pub use measure::step_change::{StepChange, TimedReading};
pub use measure::strip::{Bucket, Merge, Strip, Timeline};
pub use measure::trace::{CHUNK_SAMPLES, Columns, Trace};
pub use plan::{
    AirPlan, AxisPlan, BalancedPlan, BaselinePlan, BayesianPlan, CrossCheckPlan, Hold,
    LEAST_LONG_RUN, LadderPlan, MOST_CROSS_CHECKS, Margin, Plan, PlanError, Policy, PowerPlan,
    RoundPlan, Rules, ScorePlan, SettlePlan, TogetherPlan, UndervoltClockPlan, UndervoltQuietPlan,
    VoltagePlan,
};
pub use proof::assurance::{Assurance, BOUND_CONFIDENCE, Chances, PROVEN, SPANS, ToRaise};
pub use proof::check::{CheckAnswer, CheckDue, CheckRun, check_due, check_loads};
pub use proof::exposure::{Exposure, ProofRun};
pub use proof::kind::LoadKind;
pub use proof::soak::{
    Goal, LONGEST_SOAK, MOST_MEASURED, MOST_RESERVE, MOST_SOAK_LOADS, OnFault, SHORTEST_SOAK, Soak,
    SoakError, SoakLoad, SoakStep, SoakWhy, USUAL_DAY,
};
pub use shape::{
    Change, CurveError, CurveKind, CurveOffer, HeldBy, MOST_CURVE_POINTS, Place, Sight, Sketch,
    Span, Taken, VfCurve, VfPoint, sight, top_of,
};
pub use text::{MOST_QUOTED, checked_name, counted, printable, printable_lines, quoted, stated};
pub use units::{
    Ampere, Celsius, Decibel, GigabytesPerSecond, MegaTransfers, Mhz, MhzOffset, Millivolt,
    MillivoltOffset, Percent, Seconds, Watt,
};
pub use weigh::frontier::{BesideStock, Cost, Frontier, FrontierPoint, Weighed, fan_noise, loads};
pub use weigh::notes::{
    Energy, LONGEST_REFERENCE, ReferenceScore, UseOfIt, WeighNote, WeighNoteError, WeighNotes,
};
pub use weigh::variants::{MOST_VARIANTS, Variant, VariantCell, VariantChange, VariantTable};
