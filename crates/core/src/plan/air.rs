//! The part of a plan that is about the fan, and about settings one can live with.

use serde::{Deserialize, Serialize};

use crate::plan::Range;

/// Full fan speed against slightly less.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AirPlan {
    /// By how much slower each next speed is.
    pub fan_step_percent: f64,
    /// Slower speeds that are tried.
    pub steps: u32,
}

impl Default for AirPlan {
    fn default() -> Self {
        Self { fan_step_percent: 10.0, steps: 2 }
    }
}

/// Back down to settings one can live with.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct SettlePlan {
    /// How much score may be lost in all; under a frame cap, how much of the frame rate.
    pub loss_percent: f64,
    /// Measured length of a step, warm-up not included.
    pub seconds: f64,
    /// First step of the fan. After one that costs too much a step is halved, three times at most.
    pub fan_step_percent: f64,
    /// First step of the power limit, in percent of stock.
    pub power_step_percent: f64,
    /// First step of the core voltage. The clock goes down with it.
    pub voltage_step_mv: f64,
    /// Length of the run that proves what it comes to, with its own fan.
    pub proof_seconds: f64,
}

impl Default for SettlePlan {
    fn default() -> Self {
        Self {
            loss_percent: 1.0,
            seconds: 180.0,
            fan_step_percent: 40.0,
            power_step_percent: 10.0,
            voltage_step_mv: 20.0,
            proof_seconds: 900.0,
        }
    }
}

impl AirPlan {
    pub(super) fn ranges(&self) -> [Range; 2] {
        [
            ("air.fan_step_percent", self.fan_step_percent, 1.0..=50.0, "%"),
            ("air.steps", f64::from(self.steps), 1.0..=10.0, "steps"),
        ]
    }
}

impl SettlePlan {
    pub(super) fn ranges(&self) -> [Range; 6] {
        [
            ("settle.loss_percent", self.loss_percent, 0.0..=50.0, "%"),
            ("settle.seconds", self.seconds, 10.0..=86_400.0, "s"),
            ("settle.fan_step_percent", self.fan_step_percent, 1.0..=50.0, "%"),
            ("settle.power_step_percent", self.power_step_percent, 1.0..=50.0, "%"),
            ("settle.voltage_step_mv", self.voltage_step_mv, 1.0..=100.0, "mV"),
            ("settle.proof_seconds", self.proof_seconds, 10.0..=604_800.0, "s"),
        ]
    }
}
