//! What a search moves along: clock in MHz from stock up, or voltage in mV taken off.

use std::ops::{Add, Sub};

use crate::climb::search::axis::Axis;
use crate::climb::search::belief::{Assumed, EdgeBelief, usual_edge};
use crate::climb::search::depth::Depth;
use crate::climb::search::experience::Experience;
use crate::plan::Plan;
use crate::units::MhzOffset;

/// A value on a scale, in whole units of it. The default is the safe end; more is bolder.
pub trait Value:
    Copy
    + Ord
    + Default
    + From<i32>
    + Into<f64>
    + Add<Output = Self>
    + Sub<Output = Self>
    + std::fmt::Debug
{
    /// The value as a number of units.
    fn units(self) -> i32;
}

impl Value for MhzOffset {
    fn units(self) -> i32 {
        self.0
    }
}

impl Value for i32 {
    fn units(self) -> i32 {
        self
    }
}

/// How a scale is stepped along, by the plan.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(in crate::climb) struct Steps<V> {
    /// First step of the stepwise policies.
    pub coarse: V,
    /// Step near the edge; least distance of two values that are told apart.
    pub fine: V,
    /// Least distance of two values that the card can hold.
    pub least: V,
    /// Fine steps from the lowest value that failed to what is confirmed.
    pub back_off: i32,
    /// Fine steps from what was confirmed to what is kept.
    pub margin: i32,
    /// Part at the beginning of each trial that does not count, s.
    pub warm_up_seconds: f64,
    /// Measured length of a step, s.
    pub seconds: f64,
    /// Length of the confirming run, s.
    pub confirm_seconds: f64,
    /// Length of the run that measures what is kept, s.
    pub settle_seconds: f64,
}

/// One setting, or one way to set several, whose edge can be searched for.
pub(in crate::climb) trait Scale: Copy {
    /// Its values.
    type Value: Value;

    /// How it is stepped along.
    fn steps(&self, plan: &Plan) -> Steps<Self::Value>;

    /// The boldest value the card takes.
    fn highest(&self) -> Self::Value;

    /// The value the card can hold at or below `value`, inside its range.
    fn bin(&self, value: f64) -> Self::Value;

    /// A value as the card's own setting is shown.
    fn show(&self, value: Self::Value) -> String;

    /// The safe end in words, as inside a sentence.
    fn start(&self) -> &'static str;

    /// The clock at stock in units of the scale: what shares are counted from.
    fn size(&self) -> f64;

    /// The value that the plan says holds, where it says one.
    fn known(&self, plan: &Plan) -> Option<Self::Value>;

    /// What is assumed of the edge before the first trial.
    fn belief(&self, plan: &Plan, experience: &Experience) -> EdgeBelief;
}

impl Scale for Axis {
    type Value = MhzOffset;

    fn steps(&self, plan: &Plan) -> Steps<MhzOffset> {
        let of = plan.axis(self.domain);
        Steps {
            coarse: self.coarse_step(plan),
            fine: self.fine_step(plan),
            least: self.in_bins(1.0),
            back_off: of.back_off_steps,
            margin: plan.margin.fine_steps(of.margin_steps),
            warm_up_seconds: of.warm_up_seconds,
            seconds: of.seconds,
            confirm_seconds: of.confirm_seconds,
            settle_seconds: of.settle_seconds,
        }
    }

    fn highest(&self) -> MhzOffset {
        Axis::highest(self)
    }

    fn bin(&self, value: f64) -> MhzOffset {
        Axis::bin(self, value)
    }

    fn show(&self, value: MhzOffset) -> String {
        Axis::show(self, value)
    }

    fn start(&self) -> &'static str {
        "stock"
    }

    fn size(&self) -> f64 {
        self.clock
    }

    fn known(&self, plan: &Plan) -> Option<MhzOffset> {
        plan.axis(self.domain).start(self.clock).map(|value| Axis::bin(self, value))
    }

    fn belief(&self, plan: &Plan, experience: &Experience) -> EdgeBelief {
        let known = self.known(plan).map(f64::from);
        EdgeBelief::assumed(self.domain, self.clock, known, experience.assumed(self.domain))
    }
}

impl Scale for Depth {
    type Value = i32;

    fn steps(&self, plan: &Plan) -> Steps<i32> {
        let (of, fine) = (&plan.voltage, self.step());
        Steps {
            coarse: (of.coarse_step_mv / fine).max(1) * fine,
            fine,
            least: fine,
            back_off: of.back_off_steps,
            margin: plan.margin.fine_steps(of.margin_steps),
            warm_up_seconds: plan.core.warm_up_seconds,
            seconds: of.seconds,
            confirm_seconds: of.confirm_seconds,
            settle_seconds: of.settle_seconds,
        }
    }

    fn highest(&self) -> i32 {
        self.deepest()
    }

    fn bin(&self, value: f64) -> i32 {
        Depth::bin(self, value)
    }

    fn show(&self, value: i32) -> String {
        Depth::show(self, value)
    }

    fn start(&self) -> &'static str {
        "the voltage to begin with"
    }

    fn size(&self) -> f64 {
        self.scale()
    }

    fn known(&self, plan: &Plan) -> Option<i32> {
        plan.voltage.start_off_mv.map(|off| Depth::bin(self, self.below_stock(off)))
    }

    /// Where the edge lies in clock, counted in the millivolts that so much clock takes.
    fn belief(&self, plan: &Plan, experience: &Experience) -> EdgeBelief {
        let known = self.known(plan).map(f64::from);
        // How fast faults set in is the same whichever way the edge is come upon; where it lies is not.
        let edge = usual_edge(self.domain());
        let assumed = Assumed { edge, ..experience.assumed(self.domain()).clone() };
        EdgeBelief::assumed(self.domain(), self.scale(), known, &assumed)
    }
}
