//! The plan of a climb: how large the steps are, how long trials last, when to be satisfied.
//!
//! A plan is a TOML file; what it leaves out has the default. The whole default plan is
//! [`Plan::default`], written out by [`Plan::to_toml`].

mod air;
mod loads;
pub(crate) mod margin;
mod policy;
mod voltage;

use std::ops::RangeInclusive;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::air::fan::{Fan, FanCurve};
use crate::load::artifact::Domain;
use crate::units::{Celsius, Percent, Seconds};

pub use air::{AirPlan, SettlePlan};
pub use loads::{CrossCheckPlan, MOST_CROSS_CHECKS};
pub use margin::{LEAST_LONG_RUN, Margin};
pub use policy::Policy;
pub use voltage::{BalancedPlan, RoundPlan, UndervoltClockPlan, UndervoltQuietPlan, VoltagePlan};

/// Why a plan cannot be used.
#[derive(Debug, Error, PartialEq)]
pub enum PlanError {
    /// Not TOML, an unknown key, or a value of the wrong type.
    #[error("the plan cannot be read: {0}")]
    Unreadable(String),
    /// A value outside its range.
    #[error("the plan's {key} is {value}: it must be {lowest} to {highest} {unit}")]
    OutOfRange {
        /// Dotted name of the value.
        key: &'static str,
        /// What the plan says.
        value: f64,
        /// Lowest allowed value.
        lowest: f64,
        /// Highest allowed value.
        highest: f64,
        /// Unit of all three.
        unit: &'static str,
    },
    /// Two values that contradict each other.
    #[error("the plan's {0}")]
    Contradiction(&'static str),
    /// A load that is named twice.
    #[error("the plan's cross_check.loads name {0} twice: leave one of them out")]
    Doubled(String),
}

/// Settings held the same in every trial.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Hold {
    /// Fan speed, fixed, 30 to 100 %. Noise does not matter while searching.
    pub fan_percent: f64,
    /// Fan curve in place of that, as points of (°C, %): the search runs under the curve that will be used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fan_curve: Option<FanCurve>,
    /// The fan is left to the card instead.
    #[serde(skip_serializing_if = "is_false")]
    pub fan_automatic: bool,
    /// Highest frame rate, fps: it is the goal then, and more score is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub frame_cap_fps: Option<u32>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde passes a reference")]
fn is_false(value: &bool) -> bool {
    !value
}

impl Hold {
    /// The fan of every trial.
    #[must_use]
    pub fn fan(&self) -> Fan {
        match self.fan_curve {
            Some(curve) => Fan::Curve(curve),
            None if self.fan_automatic => Fan::Automatic,
            None => Fan::Fixed(Percent(self.fan_percent)),
        }
    }
}

impl Default for Hold {
    fn default() -> Self {
        Self { fan_percent: 100.0, fan_curve: None, fan_automatic: false, frame_cap_fps: None }
    }
}

/// How the baseline is taken.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct BaselinePlan {
    /// Runs that must count.
    pub runs: u32,
    /// Measured length of a run, warm-up not included.
    pub seconds: f64,
    /// Longest warm-up before the first run. It ends sooner once the card's temperature is within
    /// 1.5 K of the plateau it is foreseen to reach: a cooler settles in minutes, not in seconds.
    pub warm_up_seconds: f64,
}

impl Default for BaselinePlan {
    fn default() -> Self {
        Self { runs: 3, seconds: 180.0, warm_up_seconds: 900.0 }
    }
}

/// What the raised limits alone bring: more power, and a higher temperature target.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct PowerPlan {
    /// Measured length of a run, warm-up not included.
    pub seconds: f64,
    /// Runs that must count at the raised limit.
    pub runs: u32,
    /// How often a limit that proves too high is halved on its way to stock.
    pub halvings: u32,
}

impl Default for PowerPlan {
    fn default() -> Self {
        Self { seconds: 180.0, runs: 2, halvings: 2 }
    }
}

/// How the edge of one domain's clock is looked for: core and memory have one each.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AxisPlan {
    /// First step size of the stepwise policies, in MHz of the actual clock.
    pub coarse_step_mhz: i32,
    /// Step size near the edge; also the size in which back-off and margin are counted, and the
    /// least distance of two values that are told apart.
    pub fine_step_mhz: i32,
    /// Measured length of a stepwise trial, warm-up not included.
    pub seconds: f64,
    /// Part at the beginning of each trial that does not count towards the score. It is made longer,
    /// up to the baseline's warm-up, as long as the card is colder than it gets.
    pub warm_up_seconds: f64,
    /// Fine steps to go back from the lowest value that failed before confirming.
    pub back_off_steps: i32,
    /// Length of the confirming run.
    pub confirm_seconds: f64,
    /// Fine steps taken off what was confirmed, for daily use: an hour without a fault is far from a
    /// proof for a day.
    pub margin_steps: i32,
    /// Length of the run that measures what is kept.
    pub settle_seconds: f64,
    /// Coarse step in percent of the clock at stock, in place of `coarse_step_mhz`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub coarse_step_percent: Option<f64>,
    /// Fine step in percent of the clock at stock, in place of `fine_step_mhz`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fine_step_percent: Option<f64>,
    /// A value said to hold, in MHz above stock: the search begins somewhat below it instead of at stock.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub start_mhz: Option<i32>,
    /// The same in percent of the clock at stock.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub start_percent: Option<f64>,
}

/// A percentage of a clock, MHz.
fn share_of(percent: Option<f64>, clock: f64) -> Option<f64> {
    percent.map(|percent| percent / 100.0 * clock)
}

impl Default for AxisPlan {
    fn default() -> Self {
        Self {
            coarse_step_mhz: 60,
            fine_step_mhz: 15,
            seconds: 180.0,
            warm_up_seconds: 20.0,
            back_off_steps: 1,
            confirm_seconds: 3_600.0,
            margin_steps: 1,
            settle_seconds: 600.0,
            coarse_step_percent: None,
            fine_step_percent: None,
            start_mhz: None,
            start_percent: None,
        }
    }
}

impl AxisPlan {
    /// The default for the memory clock.
    #[must_use]
    pub fn memory() -> Self {
        Self { coarse_step_mhz: 60, fine_step_mhz: 20, ..Self::default() }
    }

    /// Coarse step for a clock of so many MHz at stock, MHz.
    #[must_use]
    pub fn coarse_step(&self, clock: f64) -> f64 {
        share_of(self.coarse_step_percent, clock).unwrap_or_else(|| self.coarse_step_mhz.into())
    }

    /// Fine step for a clock of so many MHz at stock, MHz.
    #[must_use]
    pub fn fine_step(&self, clock: f64) -> f64 {
        share_of(self.fine_step_percent, clock).unwrap_or_else(|| self.fine_step_mhz.into())
    }

    /// The value said to hold, for a clock of so many MHz at stock, MHz above it.
    #[must_use]
    pub fn start(&self, clock: f64) -> Option<f64> {
        self.start_mhz.map(f64::from).or_else(|| share_of(self.start_percent, clock))
    }
}

/// How core and memory are proven together.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct TogetherPlan {
    /// Length of the run that proves them together, by the stepwise policies.
    pub confirm_seconds: f64,
    /// Least length of a run that finds out which of the two it was; after a failure that took its
    /// time, three times that.
    pub isolate_seconds: f64,
    /// Length of the run that measures what is kept.
    pub settle_seconds: f64,
}

impl Default for TogetherPlan {
    fn default() -> Self {
        Self { confirm_seconds: 3_600.0, isolate_seconds: 180.0, settle_seconds: 600.0 }
    }
}

/// How core and memory are raised together on the ladder; its steps and lengths are the core's.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct LadderPlan {
    /// MHz of memory clock for each MHz of core clock.
    pub memory_mhz_per_core_mhz: f64,
}

impl Default for LadderPlan {
    fn default() -> Self {
        Self { memory_mhz_per_core_mhz: 1.0 }
    }
}

/// How the bayesian policy chooses.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct BayesianPlan {
    /// Chance of a machine down above which a trial is not made.
    pub most_machine_down_percent: f64,
    /// What a minute under load must bring: knowledge worth this much score.
    pub worth_percent_per_minute: f64,
}

impl Default for BayesianPlan {
    fn default() -> Self {
        Self { most_machine_down_percent: 3.0, worth_percent_per_minute: 0.0012 }
    }
}

/// When a gain counts.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct ScorePlan {
    /// A gain smaller than this is not worth having.
    pub least_gain_percent: f64,
    /// How often chance alone may pass for a gain, or hide one.
    pub false_alarm_percent: f64,
    /// How often a value is run again so that its gain becomes clear.
    pub most_repeats: u32,
}

impl Default for ScorePlan {
    fn default() -> Self {
        Self { least_gain_percent: 0.5, false_alarm_percent: 5.0, most_repeats: 2 }
    }
}

/// When a run counts, and when it has seen enough.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Rules {
    /// How often a run that proves nothing is repeated at the same value.
    pub retries: u32,
    /// How long a run goes on after its first wrong frame, so that more of the fault is seen.
    pub artifact_grace_seconds: f64,
    /// Average background load above which a run is void.
    pub most_background_percent: f64,
    /// A baseline run in whose measured part the card still warms by more than this, in K, is void:
    /// it was cold.
    pub most_warming_k: f64,
    /// A score lower than the baseline by less than this is not called slower.
    pub slower_tolerance_percent: f64,
}

impl Default for Rules {
    fn default() -> Self {
        Self {
            retries: 4,
            artifact_grace_seconds: 5.0,
            most_background_percent: 1.0,
            most_warming_k: 3.0,
            slower_tolerance_percent: 1.5,
        }
    }
}

/// A whole plan, with every value checked.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Plan {
    /// The load under which the searches step.
    pub scene: String,
    /// The load under which stock and the raised limits are compared, which should keep the card fully busy; none for
    /// that of the searches.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub full_load: Option<String>,
    /// How steps are chosen.
    pub policy: Policy,
    /// What the settings are to be good for.
    pub margin: Margin,
    /// What is held the same.
    pub hold: Hold,
    /// The baseline.
    pub baseline: BaselinePlan,
    /// What the raised limits alone bring.
    pub power: PowerPlan,
    /// The search for the core's edge.
    pub core: AxisPlan,
    /// The search for the memory's edge.
    pub memory: AxisPlan,
    /// Both together.
    pub together: TogetherPlan,
    /// Both in a fixed ratio.
    pub ladder: LadderPlan,
    /// How voltage is walked down.
    pub voltage: VoltagePlan,
    /// Cooler for clock.
    #[serde(alias = "cooler")]
    pub undervolt_clock: UndervoltClockPlan,
    /// Same for less.
    #[serde(alias = "less")]
    pub undervolt_quiet: UndervoltQuietPlan,
    /// The middle way.
    #[serde(alias = "middle")]
    pub balanced: BalancedPlan,
    /// Window, timing, and memory for core.
    pub rounds: RoundPlan,
    /// Full fan speed against slightly less.
    pub air: AirPlan,
    /// Back down to settings one can live with.
    pub settle: SettlePlan,
    /// What was found, under other loads.
    pub cross_check: CrossCheckPlan,
    /// The bayesian policy.
    #[serde(alias = "believing")]
    pub bayesian: BayesianPlan,
    /// When a gain counts.
    pub score: ScorePlan,
    /// The rules of counting.
    pub rules: Rules,
}

impl Default for Plan {
    fn default() -> Self {
        Self {
            scene: "medley".into(),
            full_load: None,
            policy: Policy::default(),
            margin: Margin::default(),
            hold: Hold::default(),
            baseline: BaselinePlan::default(),
            power: PowerPlan::default(),
            core: AxisPlan::default(),
            memory: AxisPlan::memory(),
            together: TogetherPlan::default(),
            ladder: LadderPlan::default(),
            voltage: VoltagePlan::default(),
            undervolt_clock: UndervoltClockPlan::default(),
            undervolt_quiet: UndervoltQuietPlan::default(),
            balanced: BalancedPlan::default(),
            rounds: RoundPlan::default(),
            air: AirPlan::default(),
            settle: SettlePlan::default(),
            cross_check: CrossCheckPlan::default(),
            bayesian: BayesianPlan::default(),
            score: ScorePlan::default(),
            rules: Rules::default(),
        }
    }
}

impl Plan {
    /// A plan for about half an hour: careful values that are checked briefly. The baseline and the power stage are short, and
    /// a minute must bring some six times as much knowledge as by default. What it comes to is not proven; `docs/search.md`
    /// says what a study found.
    #[must_use]
    pub fn quick() -> Self {
        let usual = Self::default();
        Self {
            margin: Margin::Daily,
            baseline: BaselinePlan { runs: 2, seconds: 120.0, warm_up_seconds: 180.0 },
            power: PowerPlan { runs: 1, seconds: 120.0, ..usual.power },
            core: AxisPlan { settle_seconds: 60.0, ..usual.core },
            memory: AxisPlan { settle_seconds: 60.0, ..usual.memory },
            together: TogetherPlan { settle_seconds: 60.0, ..usual.together },
            bayesian: BayesianPlan { worth_percent_per_minute: 0.007, ..usual.bayesian },
            score: ScorePlan { most_repeats: 0, ..usual.score },
            rules: Rules { most_warming_k: 50.0, ..usual.rules },
            ..usual
        }
    }

    /// Reads and checks a plan.
    ///
    /// # Errors
    /// Text that is no TOML, unknown keys, wrong types, values out of range and values that
    /// contradict each other, each named.
    pub fn from_toml(text: &str) -> Result<Self, PlanError> {
        // Read once as it stands, for errors that name their line.
        toml::from_str::<Self>(text)
            .map_err(|error| PlanError::Unreadable(error.to_string().trim_end().to_owned()))?;
        let plan = Self::default().overlaid(text)?;
        plan.check()?;
        Ok(plan)
    }

    /// Reads a plan that was stored. One from before there were policies went by steady steps.
    ///
    /// # Errors
    /// As [`from_toml`](Self::from_toml).
    pub fn from_stored(text: &str) -> Result<Self, PlanError> {
        let has_policy = text.lines().any(|line| line.trim_start().starts_with("policy"));
        let plan = Self::from_toml(text)?;
        Ok(if has_policy { plan } else { Self { policy: Policy::FixedStep, ..plan } })
    }

    /// This plan with what `text` says laid over it, section by section.
    fn overlaid(&self, text: &str) -> Result<Self, PlanError> {
        let unreadable = |error: &dyn std::fmt::Display| {
            PlanError::Unreadable(error.to_string().trim_end().to_owned())
        };
        let mut whole = toml::Table::try_from(self).map_err(|error| unreadable(&error))?;
        let said: toml::Table = toml::from_str(text).map_err(|error| unreadable(&error))?;
        for (key, value) in said {
            match (whole.get_mut(&key), value) {
                (Some(toml::Value::Table(section)), toml::Value::Table(said)) => {
                    section.extend(said);
                }
                (_, value) => drop(whole.insert(key, value)),
            }
        }
        whole.try_into().map_err(|error: toml::de::Error| unreadable(&error))
    }

    /// The plan as TOML, every value written out.
    ///
    /// # Errors
    /// Only if a value cannot be written, which no checked plan has.
    pub fn to_toml(&self) -> Result<String, PlanError> {
        toml::to_string_pretty(self).map_err(|error| PlanError::Unreadable(error.to_string()))
    }

    /// The load under which stock and the raised limits are compared.
    #[must_use]
    pub fn full_load(&self) -> &str {
        self.full_load.as_deref().unwrap_or(&self.scene)
    }

    /// All loads of the climb, each once: that for stock and the raised limits, that of the searches, and those that
    /// cross-check.
    #[must_use]
    pub fn loads(&self) -> Vec<&str> {
        let mut loads = vec![self.full_load()];
        let others = std::iter::once(&self.scene).chain(&self.cross_check.loads);
        for name in others.map(String::as_str) {
            if !loads.contains(&name) {
                loads.push(name);
            }
        }
        loads
    }

    /// Whether the climb has several loads, so that it must be said under which one runs.
    #[must_use]
    pub fn has_many_loads(&self) -> bool {
        self.loads().len() > 1
    }

    /// How the edge of a domain is looked for.
    #[must_use]
    pub fn axis(&self, domain: Domain) -> &AxisPlan {
        match domain {
            Domain::Core => &self.core,
            Domain::Memory => &self.memory,
        }
    }

    /// Highest background load of a run that counts.
    #[must_use]
    pub fn most_background(&self) -> Percent {
        Percent(self.rules.most_background_percent)
    }

    /// Most that a card may still warm in a baseline run that counts.
    #[must_use]
    pub fn most_warming(&self) -> Celsius {
        Celsius(self.rules.most_warming_k)
    }

    /// How long a run goes on after its first wrong frame.
    #[must_use]
    pub fn artifact_grace(&self) -> Seconds {
        Seconds(self.rules.artifact_grace_seconds)
    }

    /// Checks every value, and those that may contradict each other.
    ///
    /// # Errors
    /// A value out of its range, or a contradiction, each named.
    pub fn check(&self) -> Result<(), PlanError> {
        for (key, value, range, unit) in self.ranges() {
            let (lowest, highest) = (*range.start(), *range.end());
            if !range.contains(&value) {
                return Err(PlanError::OutOfRange { key, value, lowest, highest, unit });
            }
        }
        for (axis, [fine, confirm, start]) in [(&self.core, CORE_TOLD), (&self.memory, MEMORY_TOLD)]
        {
            // In percent or in MHz: which is the larger of one of each, only a card's clock tells.
            let steps = match (axis.fine_step_percent, axis.coarse_step_percent) {
                (None, None) => Some((axis.fine_step_mhz.into(), axis.coarse_step_mhz.into())),
                (fine, coarse) => fine.zip(coarse),
            };
            if steps.is_some_and(|(fine, coarse)| fine > coarse) {
                return Err(PlanError::Contradiction(fine));
            }
            if axis.start_mhz.is_some() && axis.start_percent.is_some() {
                return Err(PlanError::Contradiction(start));
            }
            if axis.confirm_seconds < axis.seconds {
                return Err(PlanError::Contradiction(confirm));
            }
        }
        if self.hold.fan_automatic && self.hold.fan_curve.is_some() {
            return Err(PlanError::Contradiction(TWO_FANS));
        }
        if self.voltage.fine_step_mv > self.voltage.coarse_step_mv {
            return Err(PlanError::Contradiction(VOLTAGE_STEPS));
        }
        if self.voltage.confirm_seconds < self.voltage.seconds {
            return Err(PlanError::Contradiction(VOLTAGE_TOLD));
        }
        match self.cross_check.doubled() {
            Some(name) => Err(PlanError::Doubled(name.to_owned())),
            None => Ok(()),
        }
    }

    /// The one table of what each number may be.
    fn ranges(&self) -> Vec<Range> {
        let Self {
            hold,
            baseline,
            power,
            core,
            memory,
            together,
            ladder,
            bayesian,
            score,
            rules,
            ..
        } = self;
        let mut ranges = vec![
            ("hold.fan_percent", hold.fan_percent, 30.0..=100.0, "%"),
            ("baseline.runs", f64::from(baseline.runs), 1.0..=20.0, "runs"),
            ("baseline.seconds", baseline.seconds, 10.0..=86_400.0, "s"),
            ("baseline.warm_up_seconds", baseline.warm_up_seconds, 0.0..=7_200.0, "s"),
            ("power.seconds", power.seconds, 10.0..=86_400.0, "s"),
            ("power.runs", f64::from(power.runs), 1.0..=20.0, "runs"),
            ("power.halvings", f64::from(power.halvings), 0.0..=6.0, "times"),
            ("together.confirm_seconds", together.confirm_seconds, 10.0..=604_800.0, "s"),
            ("together.isolate_seconds", together.isolate_seconds, 10.0..=86_400.0, "s"),
            ("together.settle_seconds", together.settle_seconds, 10.0..=604_800.0, "s"),
            ("ladder.memory_mhz_per_core_mhz", ladder.memory_mhz_per_core_mhz, 0.1..=20.0, "MHz"),
            (
                "bayesian.most_machine_down_percent",
                bayesian.most_machine_down_percent,
                0.01..=50.0,
                "%",
            ),
            (
                "bayesian.worth_percent_per_minute",
                bayesian.worth_percent_per_minute,
                0.0001..=10.0,
                "%",
            ),
            ("score.least_gain_percent", score.least_gain_percent, 0.05..=50.0, "%"),
            ("score.false_alarm_percent", score.false_alarm_percent, 0.1..=40.0, "%"),
            ("score.most_repeats", f64::from(score.most_repeats), 0.0..=50.0, "times"),
            ("rules.retries", f64::from(rules.retries), 0.0..=20.0, "times"),
            ("rules.artifact_grace_seconds", rules.artifact_grace_seconds, 0.0..=600.0, "s"),
            ("rules.most_background_percent", rules.most_background_percent, 0.0..=100.0, "%"),
            ("rules.most_warming_k", rules.most_warming_k, 0.5..=100.0, "K"),
            ("rules.slower_tolerance_percent", rules.slower_tolerance_percent, 0.0..=50.0, "%"),
        ];
        ranges.extend(self.voltage.ranges());
        ranges.extend(voltage::undervolting_ranges(
            &self.undervolt_clock,
            &self.undervolt_quiet,
            &self.balanced,
        ));
        ranges.extend(self.rounds.ranges());
        ranges.extend(self.air.ranges());
        ranges.extend(self.settle.ranges());
        let cap = self.hold.frame_cap_fps.map(f64::from);
        ranges.extend(cap.map(|cap| ("hold.frame_cap_fps", cap, 1.0..=10_000.0, "fps")));
        ranges.extend(self.cross_check.ranges());
        for (axis, keys) in [(core, CORE_KEYS), (memory, MEMORY_KEYS)] {
            ranges.extend(axis.ranges(keys));
        }
        ranges
    }
}

/// Name of a value, the value, what it may be, and its unit.
type Range = (&'static str, f64, RangeInclusive<f64>, &'static str);
type Ranges = [Range; 8];

impl AxisPlan {
    fn ranges(&self, keys: [&'static str; 12]) -> Vec<Range> {
        let [
            coarse,
            fine,
            seconds,
            warm_up,
            back_off,
            confirm,
            margin,
            settle,
            coarse_percent,
            fine_percent,
            start,
            start_percent,
        ] = keys;
        let may_be_left_out = [
            (coarse_percent, self.coarse_step_percent, 0.05..=10.0, "%"),
            (fine_percent, self.fine_step_percent, 0.05..=5.0, "%"),
            (start, self.start_mhz.map(f64::from), 1.0..=5_000.0, "MHz"),
            (start_percent, self.start_percent, 0.05..=50.0, "%"),
        ];
        let named = may_be_left_out
            .into_iter()
            .filter_map(|(key, value, range, unit)| Some((key, value?, range, unit)));
        [
            (coarse, f64::from(self.coarse_step_mhz), 1.0..=500.0, "MHz"),
            (fine, f64::from(self.fine_step_mhz), 1.0..=100.0, "MHz"),
            (seconds, self.seconds, 10.0..=86_400.0, "s"),
            (warm_up, self.warm_up_seconds, 0.0..=7_200.0, "s"),
            (back_off, f64::from(self.back_off_steps), 1.0..=10.0, "steps"),
            (confirm, self.confirm_seconds, 10.0..=604_800.0, "s"),
            (margin, f64::from(self.margin_steps), 0.0..=20.0, "steps"),
            (settle, self.settle_seconds, 10.0..=604_800.0, "s"),
        ]
        .into_iter()
        .chain(named)
        .collect()
    }
}

/// The names of an axis' values, and what is told where two of them contradict each other.
macro_rules! axis_names {
    ($keys:ident, $told:ident, $axis:literal) => {
        const $keys: [&str; 12] = [
            concat!($axis, ".coarse_step_mhz"),
            concat!($axis, ".fine_step_mhz"),
            concat!($axis, ".seconds"),
            concat!($axis, ".warm_up_seconds"),
            concat!($axis, ".back_off_steps"),
            concat!($axis, ".confirm_seconds"),
            concat!($axis, ".margin_steps"),
            concat!($axis, ".settle_seconds"),
            concat!($axis, ".coarse_step_percent"),
            concat!($axis, ".fine_step_percent"),
            concat!($axis, ".start_mhz"),
            concat!($axis, ".start_percent"),
        ];
        const $told: [&str; 3] = [
            concat!(
                $axis,
                ".fine_step is larger than ",
                $axis,
                ".coarse_step: make the fine step the smaller of the two"
            ),
            concat!(
                $axis,
                ".confirm_seconds is shorter than its ",
                $axis,
                ".seconds: a confirming run must be at least as long as a trial"
            ),
            concat!(
                $axis,
                ".start_mhz and ",
                $axis,
                ".start_percent are both given: leave one of them out"
            ),
        ];
    };
}

const TWO_FANS: &str =
    "hold.fan_automatic and hold.fan_curve are both given: leave one of them out";
const VOLTAGE_STEPS: &str = "voltage.fine_step_mv is larger than its \
    voltage.coarse_step_mv: make the fine step the smaller of the two";
const VOLTAGE_TOLD: &str = "voltage.confirm_seconds is shorter than its \
    voltage.seconds: a confirming run must be at least as long as a trial";

axis_names!(CORE_KEYS, CORE_TOLD, "core");
axis_names!(MEMORY_KEYS, MEMORY_TOLD, "memory");

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn an_empty_plan_is_the_default_and_the_default_passes_its_own_check() {
        assert_eq!(Plan::from_toml("").unwrap(), Plan::default());
        let written = Plan::default().to_toml().unwrap();
        assert_eq!(Plan::from_toml(&written).unwrap(), Plan::default());
    }

    #[test]
    fn a_section_that_is_begun_keeps_its_own_defaults() {
        let plan = Plan::from_toml("[memory]\ncoarse_step_mhz = 80\n").unwrap();
        assert_eq!(plan.memory, AxisPlan { coarse_step_mhz: 80, ..AxisPlan::memory() });
    }

    #[test]
    fn a_stored_plan_without_a_policy_went_by_steady_steps() {
        assert_eq!(Plan::from_stored("[core]\n").unwrap().policy, Policy::FixedStep);
        let stored = Plan::default().to_toml().unwrap();
        assert_eq!(Plan::from_stored(&stored).unwrap(), Plan::default());
    }

    #[test]
    fn a_plan_changes_only_what_it_names() {
        let plan = Plan::from_toml("[core]\nfine_step_mhz = 30\n").unwrap();
        assert_eq!(plan.core.fine_step_mhz, 30);
        assert_eq!(plan.core.coarse_step_mhz, AxisPlan::default().coarse_step_mhz);
    }

    #[test]
    fn steps_and_starting_values_are_given_in_mhz_or_in_per_cent_of_the_clock() {
        let text =
            "[core]\ncoarse_step_percent = 2\nstart_percent = 5\n[memory]\nstart_mhz = 300\n";
        let plan = Plan::from_toml(text).unwrap();
        let core = plan.core;
        assert_eq!((core.coarse_step(2_000.0), core.start(2_000.0)), (40.0, Some(100.0)));
        assert_eq!(core.fine_step(2_000.0), 15.0);
        assert_eq!(plan.memory.start(9_000.0), Some(300.0));
        assert_eq!(Plan::default().core.start(2_000.0), None);
        assert_eq!(Plan::from_toml(&plan.to_toml().unwrap()).unwrap(), plan);
    }

    #[test]
    fn the_loads_of_a_plan_are_named_once_each_the_full_load_first() {
        let text = "scene = \"lantern\"\nfull_load = \"kiln\"\n[cross_check]\nloads = [\"loom\", \"kiln\"]";
        let plan = Plan::from_toml(text).unwrap();
        assert_eq!(plan.loads(), ["kiln", "lantern", "loom"]);
        assert_eq!(Plan::from_toml(&plan.to_toml().unwrap()).unwrap(), plan);
        assert_eq!(Plan::default().loads(), ["medley"]);
    }

    #[rstest]
    #[case("[core]\nfine_step_mhz = -15", "core.fine_step_mhz is -15: it must be 1 to 100 MHz")]
    #[case("[core]\ncoarse_step_mhz = 0", "core.coarse_step_mhz is 0")]
    #[case("[baseline]\nseconds = nan", "baseline.seconds is NaN")]
    #[case("[core]\ncoarse_step_mhz = 10", "core.fine_step is larger")]
    #[case(
        "[core]\ncoarse_step_percent = 0.2\nfine_step_percent = 0.4",
        "core.fine_step is larger"
    )]
    #[case(
        "[core]\ncoarse_step_percent = 40",
        "core.coarse_step_percent is 40: it must be 0.05 to 10 %"
    )]
    #[case("[core]\nstart_mhz = 120\nstart_percent = 6", "are both given: leave one of them out")]
    #[case("[core]\nstart_mhz = -20", "core.start_mhz is -20: it must be 1 to 5000 MHz")]
    #[case("[voltage]\nstart_off_mv = 0", "voltage.start_off_mv is 0")]
    #[case("[core]\nconfirm_seconds = 60", "core.confirm_seconds is shorter")]
    #[case("[core]\nstep = 5", "unknown field `step`, expected one of `coarse_step_mhz`")]
    #[case("[vault]\nstep = 5", "unknown field `vault`")]
    #[case("[voltage]\nfine_step_mv = 30", "voltage.fine_step_mv is larger")]
    #[case("[voltage]\nconfirm_seconds = 60", "voltage.confirm_seconds is shorter")]
    #[case(
        "[undervolt_quiet]\nhold_percent = 0",
        "undervolt_quiet.hold_percent is 0: it must be 30 to 120 %"
    )]
    #[case("[rounds]\nwindows = 0", "rounds.windows is 0")]
    #[case("[cross_check]\nseconds = 2", "cross_check.seconds is 2: it must be 10 to")]
    #[case(
        "[cross_check]\nloads = [\"kiln\", \"loom\", \"kiln\"]",
        "name kiln twice: leave one of them out"
    )]
    #[case("[memory]\nfine_step_mhz = 90", "memory.fine_step is larger")]
    #[case("policy = \"hopeful\"", "unknown variant `hopeful`, expected one of `fixed-step`")]
    #[case("margin = \"none\"", "unknown variant `none`, expected one of `record`")]
    #[case("[bayesian]\nmost_machine_down_percent = 80", "must be 0.01 to 50 %")]
    #[case("[core]\nfine_step_mhz = \"much\"", "invalid type: string \"much\"")]
    #[case("core = {", "the plan cannot be read")]
    fn a_plan_that_cannot_be_meant_is_refused_by_name(#[case] text: &str, #[case] told: &str) {
        let error = Plan::from_toml(text).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }
}
