//! The plan of a climb: how large the steps are, how long trials last, when to be satisfied.
//!
//! A plan is a TOML file; what it leaves out has the default. The whole default plan is
//! [`Plan::default`], written out by [`Plan::to_toml`].

use std::ops::RangeInclusive;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::units::{Celsius, MhzOffset, Percent, Seconds};

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
}

/// Settings held the same in every trial.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Hold {
    /// Fan speed, fixed, 30 to 100 %. Noise does not matter while searching.
    pub fan_percent: f64,
}

impl Default for Hold {
    fn default() -> Self {
        Self { fan_percent: 100.0 }
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

/// How the edge of the core clock is looked for.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct CorePlan {
    /// First step size.
    pub coarse_step_mhz: i32,
    /// Step size near the edge; also the size in which back-off and margin are counted.
    pub fine_step_mhz: i32,
    /// Measured length of a trial, warm-up not included.
    pub seconds: f64,
    /// Part at the beginning of each trial that does not count towards the score. It is made longer,
    /// up to the baseline's warm-up, as long as the card is colder than it gets.
    pub warm_up_seconds: f64,
    /// Fine steps to go back from the lowest value that failed before confirming.
    pub back_off_steps: i32,
    /// Length of the confirming run.
    pub confirm_seconds: f64,
    /// Fine steps taken off what was confirmed: an hour without a fault is far from a proof for a
    /// day.
    pub margin_steps: i32,
    /// Length of the run that measures what is kept.
    pub settle_seconds: f64,
}

impl Default for CorePlan {
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
        }
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
            retries: 3,
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
    /// The scene that is run.
    pub scene: String,
    /// What is held the same.
    pub hold: Hold,
    /// The baseline.
    pub baseline: BaselinePlan,
    /// The core clock ladder.
    pub core: CorePlan,
    /// The rules of counting.
    pub rules: Rules,
}

impl Default for Plan {
    fn default() -> Self {
        Self {
            scene: "lantern".into(),
            hold: Hold::default(),
            baseline: BaselinePlan::default(),
            core: CorePlan::default(),
            rules: Rules::default(),
        }
    }
}

impl Plan {
    /// Reads and checks a plan.
    ///
    /// # Errors
    /// Text that is no TOML, unknown keys, wrong types, values out of range and values that
    /// contradict each other, each named.
    pub fn from_toml(text: &str) -> Result<Self, PlanError> {
        let plan: Self = toml::from_str(text)
            .map_err(|error| PlanError::Unreadable(error.to_string().trim_end().to_owned()))?;
        plan.check()?;
        Ok(plan)
    }

    /// The plan as TOML, every value written out.
    ///
    /// # Errors
    /// Only if a value cannot be written, which no checked plan has.
    pub fn to_toml(&self) -> Result<String, PlanError> {
        toml::to_string_pretty(self).map_err(|error| PlanError::Unreadable(error.to_string()))
    }

    /// Coarse and fine step.
    #[must_use]
    pub fn core_steps(&self) -> [MhzOffset; 2] {
        [MhzOffset(self.core.coarse_step_mhz), MhzOffset(self.core.fine_step_mhz)]
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

    fn check(&self) -> Result<(), PlanError> {
        for (key, value, range, unit) in self.ranges() {
            let (lowest, highest) = (*range.start(), *range.end());
            if !range.contains(&value) {
                return Err(PlanError::OutOfRange { key, value, lowest, highest, unit });
            }
        }
        if self.core.fine_step_mhz > self.core.coarse_step_mhz {
            return Err(PlanError::Contradiction(
                "core.fine_step_mhz is larger than its core.coarse_step_mhz: make the fine step \
                 the smaller of the two",
            ));
        }
        if self.core.confirm_seconds < self.core.seconds {
            return Err(PlanError::Contradiction(
                "core.confirm_seconds is shorter than its core.seconds: a confirming run must be \
                 at least as long as a trial",
            ));
        }
        Ok(())
    }

    /// The one table of what each number may be.
    fn ranges(&self) -> [(&'static str, f64, RangeInclusive<f64>, &'static str); 17] {
        let Self { hold, baseline, core, rules, .. } = self;
        [
            ("hold.fan_percent", hold.fan_percent, 30.0..=100.0, "%"),
            ("baseline.runs", f64::from(baseline.runs), 1.0..=20.0, "runs"),
            ("baseline.seconds", baseline.seconds, 20.0..=86_400.0, "s"),
            ("baseline.warm_up_seconds", baseline.warm_up_seconds, 0.0..=7_200.0, "s"),
            ("core.coarse_step_mhz", f64::from(core.coarse_step_mhz), 1.0..=500.0, "MHz"),
            ("core.fine_step_mhz", f64::from(core.fine_step_mhz), 1.0..=100.0, "MHz"),
            ("core.seconds", core.seconds, 20.0..=86_400.0, "s"),
            ("core.warm_up_seconds", core.warm_up_seconds, 0.0..=7_200.0, "s"),
            ("core.back_off_steps", f64::from(core.back_off_steps), 1.0..=10.0, "steps"),
            ("core.confirm_seconds", core.confirm_seconds, 20.0..=604_800.0, "s"),
            ("core.margin_steps", f64::from(core.margin_steps), 0.0..=20.0, "steps"),
            ("core.settle_seconds", core.settle_seconds, 20.0..=604_800.0, "s"),
            ("rules.retries", f64::from(rules.retries), 0.0..=20.0, "times"),
            ("rules.artifact_grace_seconds", rules.artifact_grace_seconds, 0.0..=600.0, "s"),
            ("rules.most_background_percent", rules.most_background_percent, 0.0..=100.0, "%"),
            ("rules.most_warming_k", rules.most_warming_k, 0.5..=100.0, "K"),
            ("rules.slower_tolerance_percent", rules.slower_tolerance_percent, 0.0..=50.0, "%"),
        ]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn an_empty_plan_is_the_default_and_the_default_passes_its_own_check() {
        assert_eq!(Plan::from_toml("").unwrap(), Plan::default());
        let written = Plan::default().to_toml().unwrap();
        assert_eq!(Plan::from_toml(&written).unwrap(), Plan::default());
    }

    #[rstest]
    fn a_plan_changes_only_what_it_names() {
        let plan = Plan::from_toml("[core]\nfine_step_mhz = 30\n").unwrap();
        assert_eq!(plan.core.fine_step_mhz, 30);
        assert_eq!(plan.core.coarse_step_mhz, CorePlan::default().coarse_step_mhz);
    }

    #[rstest]
    #[case("[core]\nfine_step_mhz = -15", "core.fine_step_mhz is -15: it must be 1 to 100 MHz")]
    #[case("[core]\ncoarse_step_mhz = 0", "core.coarse_step_mhz is 0")]
    #[case("[baseline]\nseconds = nan", "baseline.seconds is NaN")]
    #[case("[core]\ncoarse_step_mhz = 10", "core.fine_step_mhz is larger")]
    #[case("[core]\nconfirm_seconds = 60", "core.confirm_seconds is shorter")]
    #[case("[core]\nstep = 5", "unknown field `step`, expected one of `coarse_step_mhz`")]
    #[case("[memory]\nstep = 5", "unknown field `memory`")]
    #[case("[core]\nfine_step_mhz = \"much\"", "invalid type: string \"much\"")]
    #[case("core = {", "the plan cannot be read")]
    fn a_plan_that_cannot_be_meant_is_refused_by_name(#[case] text: &str, #[case] told: &str) {
        let error = Plan::from_toml(text).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }
}
