//! The part of a plan that is about loads: under which one the card is measured, and which cross-check.

use serde::{Deserialize, Serialize};

use crate::plan::Range;

/// Most loads that cross-check.
pub const MOST_CROSS_CHECKS: usize = 16;

/// How what was found under one load is run under others.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct CrossCheckPlan {
    /// The loads, in the order in which they are run; none leaves the cross-check out.
    pub loads: Vec<String>,
    /// Measured length of a run, warm-up not included.
    pub seconds: f64,
    /// Baseline runs that must count under each of them.
    pub baseline_runs: u32,
}

impl Default for CrossCheckPlan {
    fn default() -> Self {
        Self { loads: Vec::new(), seconds: 600.0, baseline_runs: 2 }
    }
}

impl CrossCheckPlan {
    pub(super) fn ranges(&self) -> Vec<Range> {
        vec![
            ("cross_check.seconds", self.seconds, 10.0..=604_800.0, "s"),
            ("cross_check.baseline_runs", f64::from(self.baseline_runs), 1.0..=20.0, "runs"),
            ("cross_check.loads", self.loads.len() as f64, 0.0..=MOST_CROSS_CHECKS as f64, "loads"),
        ]
    }

    /// A load that is named twice.
    pub(super) fn doubled(&self) -> Option<&str> {
        let mut named = self.loads.iter().enumerate();
        let (_, name) = named.find(|(at, name)| self.loads[..*at].contains(name))?;
        Some(name)
    }
}
