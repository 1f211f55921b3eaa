//! What a climb remembers of a trial.

use serde::{Deserialize, Serialize};

use crate::air::heat::HeatRun;
use crate::card::settings::Settings;
use crate::climb::search::axis::Axis;
use crate::judge::verdict::{Fault, Verdict};
use crate::load::artifact::Domain;
use crate::machine::room::Room;
use crate::measure::monitor::Seen;
use crate::units::{MhzOffset, Seconds};

/// One part of a climb.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    strum::Display,
    strum::EnumCount,
    strum::IntoStaticStr,
    strum::EnumString,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Stage {
    /// Runs at stock, to compare with.
    Baseline,
    /// What the raised limits alone bring.
    Power,
    /// The edge of the core clock, the memory at stock.
    Core,
    /// The edge of the memory clock, the core at stock.
    Memory,
    /// Core and memory together.
    Together,
    /// Core and memory raised together in a fixed ratio.
    Ladder,
    /// Voltage up, the highest clock, and the voltage down again while it holds.
    #[serde(alias = "highest")]
    #[strum(to_string = "max-clock", serialize = "highest")]
    MaxClock,
    /// The same with the memory and its voltage.
    MemoryVoltage,
    /// Less voltage for more clock, where power holds it back.
    #[serde(alias = "cooler")]
    #[strum(to_string = "undervolt-clock", serialize = "cooler")]
    UndervoltClock,
    /// The same work for less voltage.
    #[serde(alias = "less")]
    #[strum(to_string = "undervolt-quiet", serialize = "less")]
    UndervoltQuiet,
    /// Clock and voltage by turns.
    Alternate,
    /// A mild overclock on a mild undervolt.
    #[serde(alias = "middle")]
    #[strum(to_string = "balanced", serialize = "middle")]
    Balanced,
    /// The clock window, narrow against wide.
    Window,
    /// The memory timing level.
    Timing,
    /// Memory clock given up for core, under one power budget.
    #[serde(alias = "feed")]
    #[strum(to_string = "memory-for-core", serialize = "feed")]
    MemoryForCore,
    /// Full fan speed against slightly less.
    Air,
    /// Back down to settings one can live with.
    Settle,
    /// What was found, run under each of the other loads.
    CrossCheck,
    /// Settings of the user's own, beside every plan. No stage learns from them, but from the segments
    /// of free runs.
    Own,
    /// A soak of settings, beside every plan.
    Proof,
}

impl Stage {
    /// The stages a climb can be made of, in their usual order.
    pub const PLANNED: [Self; <Self as strum::EnumCount>::COUNT - 2] = [
        Self::Baseline,
        Self::Power,
        Self::Core,
        Self::Memory,
        Self::Together,
        Self::Ladder,
        Self::MemoryVoltage,
        Self::MaxClock,
        Self::UndervoltClock,
        Self::UndervoltQuiet,
        Self::Alternate,
        Self::Balanced,
        Self::Window,
        Self::Timing,
        Self::MemoryForCore,
        Self::Air,
        Self::Settle,
        Self::CrossCheck,
    ];
    /// Those a climb has that nobody chose stages for.
    pub const USUAL: [Self; 5] =
        [Self::Baseline, Self::Power, Self::Core, Self::Memory, Self::Together];

    /// The stage's name.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// What the stage is for, in one statement.
    #[must_use]
    pub const fn statement(self) -> &'static str {
        match self {
            Self::Baseline => "what the card does at stock, and how much its runs scatter",
            Self::Power => "what the raised power limit alone brings",
            Self::Core => "the highest core clock that holds, with the memory at stock",
            Self::Memory => "the highest memory clock that holds, with the core at stock",
            Self::Together => "both clocks, as high as they hold together",
            Self::Ladder => "core and memory raised in a fixed ratio, as high as they hold",
            Self::MaxClock => {
                "the highest clock at full voltage, then as little voltage as it needs"
            }
            Self::MemoryVoltage => {
                "the highest memory clock at full memory voltage, then as little as it needs"
            }
            Self::UndervoltClock => "less voltage, so that a power-limited clock rises",
            Self::UndervoltQuiet => "the work of stock at the least voltage that holds",
            Self::Alternate => "more clock and, where it dips, less voltage, by turns",
            Self::Balanced => "half the overclock, with a little less undervolt than it allows",
            Self::Window => "the clock window: narrow or wide, around the average clock",
            Self::Timing => "whether a faster memory timing pays for the clock it costs",
            Self::MemoryForCore => "whether giving up memory clock helps the core",
            Self::Air => "whether a fan slightly below full speed scores more",
            Self::Settle => "fan, power limit and voltage as low as a permitted loss allows",
            Self::CrossCheck => "what was found, run under each of the other loads",
            Self::Own => "settings of your own",
            Self::Proof => "how long settings hold under every kind of load",
        }
    }

    /// The stage of that name, or of the name it had in ledgers of earlier versions.
    #[must_use]
    pub fn from_label(label: &str) -> Option<Self> {
        label.parse().ok()
    }
}

impl Stage {
    /// The domain whose clock a stage looks for, where it is a search along one axis.
    #[must_use]
    pub const fn domain(self) -> Option<Domain> {
        match self {
            Self::Core => Some(Domain::Core),
            Self::Memory => Some(Domain::Memory),
            _ => None,
        }
    }
}

/// What a trial is for.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    Serialize,
    Deserialize,
    strum::EnumCount,
    strum::IntoStaticStr,
    strum::EnumString,
)]
#[serde(rename_all = "snake_case")]
pub enum Purpose {
    /// A run at stock.
    #[strum(to_string = "baseline")]
    Baseline,
    /// A step of the search.
    #[strum(to_string = "step")]
    Step,
    /// The long run at the highest value that held.
    #[strum(to_string = "confirm")]
    Confirm,
    /// The run that measures what is kept.
    #[strum(to_string = "settle")]
    Settle,
    /// The same again, until it is clear whether its gain is one.
    #[strum(to_string = "repeat")]
    Repeat,
    /// One part back at stock, to find out which one it was.
    #[strum(to_string = "isolate")]
    Isolate,
    /// One setting left out, to see what it brings.
    #[strum(to_string = "leave out")]
    LeaveOut,
    /// Settings of the user's own.
    #[strum(to_string = "own")]
    Own,
    /// A stretch of a free run, between two changes.
    #[strum(to_string = "segment")]
    Segment,
    /// A run of a soak.
    #[strum(to_string = "soak")]
    Soak,
    /// A run of a soak that began idle and cold.
    #[strum(to_string = "cold start")]
    ColdStart,
}

impl Purpose {
    /// All purposes.
    pub const ALL: [Self; <Self as strum::EnumCount>::COUNT] = [
        Self::Baseline,
        Self::Step,
        Self::Confirm,
        Self::Settle,
        Self::Repeat,
        Self::Isolate,
        Self::LeaveOut,
        Self::Own,
        Self::Segment,
        Self::Soak,
        Self::ColdStart,
    ];

    /// The purpose in a word.
    #[must_use]
    pub fn label(self) -> &'static str {
        self.into()
    }

    /// The purpose of that name.
    #[must_use]
    pub fn from_label(label: &str) -> Option<Self> {
        label.parse().ok()
    }
}

/// A trial that has its verdict.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialRecord {
    /// Place in its climb, from 1.
    pub number: u32,
    /// Stage it belonged to.
    pub stage: Stage,
    /// What it was for.
    pub purpose: Purpose,
    /// Settings asked for, inside the card's ranges.
    pub asked: Settings,
    /// Settings the card said it held; none where it could not be asked.
    pub taken: Option<Settings>,
    /// What was observed.
    pub seen: Seen,
    /// Scene that was run.
    pub scene: String,
    /// Length of the run, warm-up included.
    pub seconds: Seconds,
    /// Verdict of the tool.
    pub judged: Verdict,
    /// Its reason, in a sentence.
    pub reason: String,
    /// Verdict of the user, where it differs.
    pub marked: Option<Verdict>,
    /// Work units per second.
    pub score: Option<f64>,
    /// What went wrong, in order of time.
    pub faults: Vec<Fault>,
    /// The room it was made in, where the user had entered it.
    pub room: Option<Room>,
    /// What the cards held in step came to.
    pub in_step: Vec<InStepRecord>,
    /// The trial in which the driver reset the card, where the machine was not restarted between
    /// that and this one: boost is odd then.
    pub since_reset: Option<u32>,
}

/// A card of the same kind that ran the same trial beside the one climbed on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct InStepRecord {
    /// Key of the card.
    pub card: String,
    /// Settings it said it held; none where it could not be asked.
    pub taken: Option<Settings>,
    /// What was observed on it.
    pub seen: Seen,
    /// Its own verdict.
    pub judged: Verdict,
    /// The reason of that, in a sentence.
    pub reason: String,
    /// Its work units per second.
    pub score: Option<f64>,
}

impl TrialRecord {
    /// The verdict that counts: the user's where there is one.
    #[must_use]
    pub fn verdict(&self) -> Verdict {
        self.marked.unwrap_or(self.judged)
    }

    /// Whether somebody stopped the run before its end.
    #[must_use]
    pub fn was_stopped(&self) -> bool {
        self.faults.iter().any(|fault| fault.kind == Fault::STOPPED)
    }

    /// The settings the trial is evidence for: those the card held, or, where they were not taken
    /// at all, those asked for.
    #[must_use]
    pub fn held(&self) -> Settings {
        let taken = self.taken.filter(|_| self.verdict() != Verdict::NotTaken);
        taken.unwrap_or(self.asked)
    }

    /// What it tells of heat; `None` where it was too short for a plateau, or a reading is missing.
    #[must_use]
    pub fn heat_run(&self) -> Option<HeatRun> {
        HeatRun::of(self.scene.clone(), &self.held(), &self.seen, self.room)
    }

    /// The value on an axis that the trial is evidence for.
    #[must_use]
    pub fn value_on(&self, axis: &Axis) -> MhzOffset {
        axis.read(&self.held())
    }
}
