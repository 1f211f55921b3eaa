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

pub mod alarm;
mod artifact;
mod boldness;
mod card;
mod climb;
mod clock_line;
pub mod compare;
mod curve;
mod cut_back;
mod fan;
#[cfg(test)]
mod fixtures;
mod frontier;
mod limiter;
mod load;
mod machine;
mod memory_rate;
mod pass;
mod patch;
mod plan;
mod plateau;
mod prerequisites;
mod profile;
mod room;
mod sample;
mod settings;
pub mod statistics;
mod strip;
mod text;
mod trace;
mod units;
pub mod verdict;
mod watch;

pub use alarm::{Alarm, AlarmAct, AlarmOn, AlarmRaised};
pub use artifact::{
    Artifact, ArtifactKind, ArtifactLog, Domain, PixelArea, count_by_kind, suggested_domain,
};
pub use card::{
    Absent, Adjusted, CardDescription, CardLimits, Channel, Offer, Reading, SettingKind,
};
pub use climb::{
    Advice, Axis, Baseline, Bend, Bracket, ChartTrial, Claim, Climb, ClimbError, ClimbEvent,
    Culprit, Depth, Descent, DescentTrial, Directive, Downed, EdgeBelief, Failure, Gain,
    InStepRecord, Isolation, Joint, Left, Map, Margin, Measured, Next, Nudge, Outcome, Outlook,
    Pair, Part, Policy, PowerReport, Proposal, Prospect, Purpose, RoundReport, SchoolReport,
    ScoreLine, Stage, StageOrder, Stairs, TimingBand, TrialRecord, TrialRequest, asks_more_clock,
    in_short,
};
pub use clock_line::{ClockLine, DIP_BINS, Dip, read_clock_line};
pub use curve::{
    Change, CurveError, CurveKind, CurveOffer, MOST_CURVE_POINTS, Sight, Sketch, Span, VfCurve,
    VfPoint, sight, top_of,
};
pub use fan::{Fan, FanCurve, FanCurveError, MOST_FAN_POINTS};
pub use frontier::{Cost, Frontier, FrontierPoint, Weighed, fan_noise, loads};
pub use limiter::{FULL_LOAD_PERCENT, Limiter, LimiterShares, attribute};
pub use load::{CheckedFrame, Demand, Frame, Workload};
pub use machine::{Machine, MachineError, SupplyHeadroom};
pub use memory_rate::MemoryWiring;
pub use pass::{PassScore, SectionScore, score_pass};
pub use patch::Patch;
pub use plan::{
    AxisPlan, BaselinePlan, BelievingPlan, CoolerPlan, Hold, LessPlan, MiddlePlan, Plan, PlanError,
    PowerPlan, RoundPlan, Rules, ScorePlan, TogetherPlan, VoltagePlan,
};
pub use plateau::{Plateau, WARM_WITHIN, Warming};
pub use prerequisites::{Facts, Prerequisite, Standing, prerequisites};
pub use profile::{
    Backing, Drift, LEAST_PROOF, LONGEST_NAME, LONGEST_PURPOSE, Origin, Profile, Proof, RunAt,
    drift,
};
pub use room::{Case, Room};
pub use sample::Sample;
pub use settings::{Clamped, Difference, Settings, SettingsError};
pub use strip::{Bucket, Merge, Strip, Timeline};
pub use text::{MOST_QUOTED, checked_name, printable, printable_lines, quoted};
pub use trace::{CHUNK_SAMPLES, Columns, Trace};
pub use units::{
    Ampere, Celsius, Decibel, GigabytesPerSecond, MegaTransfers, Mhz, MhzOffset, Millivolt,
    MillivoltOffset, Percent, Seconds, Watt,
};
pub use verdict::{
    Ending, Evidence, Expected, Fault, Judgement, Meaning, Reference, Verdict, judge,
};
pub use watch::{CurveBand, SectionSeen, Seen, Watch};
