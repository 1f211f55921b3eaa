//! The part of a plan that is about voltage, and about the stages that come after it.

use serde::{Deserialize, Serialize};

use crate::plan::{Range, Ranges};

/// How voltage is walked down, in every stage that does.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct VoltagePlan {
    /// First step of the stepwise policies, in mV.
    pub coarse_step_mv: i32,
    /// Step near the edge, in which back-off and margin are counted too; the least distance of two
    /// voltages that are told apart.
    pub fine_step_mv: i32,
    /// Most that is taken off anywhere, in mV: the floor.
    pub most_off_mv: i32,
    /// Measured length of a stepwise trial, warm-up not included.
    pub seconds: f64,
    /// Fine steps to go back from the least depth that failed before confirming.
    pub back_off_steps: i32,
    /// Length of the confirming run.
    pub confirm_seconds: f64,
    /// Fine steps taken off what was confirmed, for daily use.
    pub margin_steps: i32,
    /// Length of the run that measures what is kept.
    pub settle_seconds: f64,
    /// Millivolts below stock that are said to hold: the search begins somewhat above them instead of at stock.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub start_off_mv: Option<i32>,
}

impl Default for VoltagePlan {
    fn default() -> Self {
        Self {
            coarse_step_mv: 25,
            fine_step_mv: 5,
            most_off_mv: 200,
            seconds: 180.0,
            back_off_steps: 1,
            confirm_seconds: 3_600.0,
            margin_steps: 2,
            settle_seconds: 600.0,
            start_off_mv: None,
        }
    }
}

/// Less voltage for more clock, on a card held back by power.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct UndervoltClockPlan {
    /// Share of the loaded time held back by power below which the clock line counts as flat, and no
    /// more voltage is taken off.
    pub flat_below_percent: f64,
    /// How much more power limit may be given where dips are left in the end, in percent of stock.
    pub more_power_percent: f64,
}

impl Default for UndervoltClockPlan {
    fn default() -> Self {
        Self { flat_below_percent: 2.0, more_power_percent: 0.0 }
    }
}

/// The same work for less.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct UndervoltQuietPlan {
    /// Score to hold, in percent of stock.
    pub hold_percent: f64,
    /// By how much the score may stay below that, in percent of stock.
    pub tolerance_percent: f64,
    /// Clock to hold instead, in MHz; 0 where the score is held.
    pub hold_mhz: f64,
}

impl Default for UndervoltQuietPlan {
    fn default() -> Self {
        Self { hold_percent: 100.0, tolerance_percent: 1.0, hold_mhz: 0.0 }
    }
}

/// A mild overclock on a mild undervolt.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct BalancedPlan {
    /// Share of what both clocks hold, and of how deep other strategies came, that is begun with, in percent.
    pub share_percent: f64,
    /// Millivolts given back of the most that hold.
    pub ease_mv: i32,
}

impl Default for BalancedPlan {
    fn default() -> Self {
        Self { share_percent: 50.0, ease_mv: 10 }
    }
}

/// Stages that try a few settings and keep the best: window, timing, and memory for core.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct RoundPlan {
    /// Measured length of each run, warm-up not included.
    pub seconds: f64,
    /// How often the best and what it is held against are run again until the difference is clear.
    pub most_repeats: u32,
    /// The narrowest clock window, in MHz to each side of the average clock.
    pub window_to_each_side_mhz: f64,
    /// How many windows are tried, each twice as wide as the one before.
    pub windows: u32,
    /// By how much a faster timing gives way in memory clock where it does not hold, in MHz.
    pub timing_back_off_mhz: f64,
    /// How often it gives way before it is given up.
    pub timing_back_offs: u32,
    /// Steps by which memory clock is given up for core, in MHz.
    #[serde(alias = "feed_step_mhz")]
    pub memory_for_core_step_mhz: f64,
    /// How many such steps are tried at most.
    #[serde(alias = "feed_steps")]
    pub memory_for_core_steps: u32,
}

impl Default for RoundPlan {
    fn default() -> Self {
        Self {
            seconds: 180.0,
            most_repeats: 3,
            window_to_each_side_mhz: 50.0,
            windows: 4,
            timing_back_off_mhz: 20.0,
            timing_back_offs: 4,
            memory_for_core_step_mhz: 100.0,
            memory_for_core_steps: 3,
        }
    }
}

/// The ranges of what the three strategies are told.
pub(super) fn undervolting_ranges(
    cooler: &UndervoltClockPlan,
    less: &UndervoltQuietPlan,
    middle: &BalancedPlan,
) -> [Range; 7] {
    [
        ("undervolt_clock.flat_below_percent", cooler.flat_below_percent, 0.0..=100.0, "%"),
        ("undervolt_clock.more_power_percent", cooler.more_power_percent, 0.0..=50.0, "%"),
        ("undervolt_quiet.hold_percent", less.hold_percent, 30.0..=120.0, "%"),
        ("undervolt_quiet.tolerance_percent", less.tolerance_percent, 0.1..=20.0, "%"),
        ("undervolt_quiet.hold_mhz", less.hold_mhz, 0.0..=5_000.0, "MHz"),
        ("balanced.share_percent", middle.share_percent, 5.0..=95.0, "%"),
        ("balanced.ease_mv", f64::from(middle.ease_mv), 0.0..=100.0, "mV"),
    ]
}

impl VoltagePlan {
    pub(super) fn ranges(&self) -> impl Iterator<Item = Range> + use<> {
        let start = self.start_off_mv.map(f64::from);
        let start = start.map(|off| ("voltage.start_off_mv", off, 1.0..=500.0, "mV"));
        let always: Ranges = [
            ("voltage.coarse_step_mv", f64::from(self.coarse_step_mv), 1.0..=200.0, "mV"),
            ("voltage.fine_step_mv", f64::from(self.fine_step_mv), 1.0..=200.0, "mV"),
            ("voltage.most_off_mv", f64::from(self.most_off_mv), 5.0..=500.0, "mV"),
            ("voltage.seconds", self.seconds, 10.0..=86_400.0, "s"),
            ("voltage.back_off_steps", f64::from(self.back_off_steps), 0.0..=20.0, "steps"),
            ("voltage.confirm_seconds", self.confirm_seconds, 10.0..=604_800.0, "s"),
            ("voltage.margin_steps", f64::from(self.margin_steps), 0.0..=20.0, "steps"),
            ("voltage.settle_seconds", self.settle_seconds, 10.0..=604_800.0, "s"),
        ];
        always.into_iter().chain(start)
    }
}

impl RoundPlan {
    pub(super) fn ranges(&self) -> Ranges {
        [
            ("rounds.seconds", self.seconds, 10.0..=86_400.0, "s"),
            ("rounds.most_repeats", f64::from(self.most_repeats), 0.0..=50.0, "times"),
            ("rounds.window_to_each_side_mhz", self.window_to_each_side_mhz, 5.0..=1_000.0, "MHz"),
            ("rounds.windows", f64::from(self.windows), 1.0..=10.0, "windows"),
            ("rounds.timing_back_off_mhz", self.timing_back_off_mhz, 1.0..=500.0, "MHz"),
            ("rounds.timing_back_offs", f64::from(self.timing_back_offs), 0.0..=20.0, "times"),
            (
                "rounds.memory_for_core_step_mhz",
                self.memory_for_core_step_mhz,
                1.0..=1_000.0,
                "MHz",
            ),
            (
                "rounds.memory_for_core_steps",
                f64::from(self.memory_for_core_steps),
                1.0..=20.0,
                "steps",
            ),
        ]
    }
}
