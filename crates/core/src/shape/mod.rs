//! The V/F curve: which clock a card runs at which voltage, how it is asked for, and what a card can
//! hold of what was asked.
//!
//! ```text
//!   clock ▲            ●────●────●   flattened: no more clock for more voltage
//!         │        ●  ╱              lifted to a wanted clock at a chosen voltage
//!         │    ●  ╱ ·                · factory curve
//!         │ ●   ·
//!         └──────────────────────► voltage
//! ```
//!
//! A card of *points* has fixed voltages and lets their clocks be moved. A card of *performance
//! states* has a few pairs, and both halves can be moved.

mod sight;
mod sketch;

pub use sight::{HeldBy, Place, Sight, Taken, sight, top_of};
pub use sketch::{Change, Sketch};

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::units::{Mhz, Millivolt};

/// Most points of a curve.
pub const MOST_CURVE_POINTS: usize = 40;

/// One place on a curve, in whole millivolts and megahertz: cards count no finer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(from = "(u16, u16)", into = "(u16, u16)")]
pub struct VfPoint {
    /// Core voltage, mV.
    pub millivolt: u16,
    /// Core clock, MHz.
    pub mhz: u16,
}

impl From<(u16, u16)> for VfPoint {
    fn from((millivolt, mhz): (u16, u16)) -> Self {
        Self { millivolt, mhz }
    }
}

impl From<VfPoint> for (u16, u16) {
    fn from(point: VfPoint) -> Self {
        (point.millivolt, point.mhz)
    }
}

/// A V/F curve: voltages rise from point to point, clocks never fall.
///
/// ```
/// use yard_step_core::{Mhz, Millivolt, VfCurve};
///
/// let curve = VfCurve::new(&[(800, 1600), (900, 1800), (1000, 1800)])?;
/// assert_eq!(curve.clock_at(Millivolt(850.0)), Mhz(1700.0));
/// assert_eq!(curve.voltage_for(Mhz(1800.0)), Some(Millivolt(900.0)));
/// assert_eq!(curve.voltage_for(Mhz(1900.0)), None);
/// # Ok::<(), yard_step_core::CurveError>(())
/// ```
#[derive(Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(try_from = "Vec<(u16, u16)>", into = "Vec<(u16, u16)>")]
pub struct VfCurve {
    points: [VfPoint; MOST_CURVE_POINTS],
    used: usize,
}

impl std::fmt::Debug for VfCurve {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.points().iter().map(|p| (p.millivolt, p.mhz))).finish()
    }
}

/// Why points make no V/F curve.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CurveError {
    /// Too few, or too many.
    #[error("a V/F curve has 2 to {MOST_CURVE_POINTS} points, and this one has {0}")]
    Count(usize),
    /// A voltage that is not above the one before.
    #[error("the V/F curve's {millivolt} mV come after {before} mV: voltages must rise")]
    Voltage {
        /// The voltage before, mV.
        before: u16,
        /// The one that is not above it, mV.
        millivolt: u16,
    },
    /// A clock below the one before.
    #[error(
        "the V/F curve falls from {before} MHz to {mhz} MHz at {millivolt} mV: raise that point, \
         lower those before it, or smooth what lies left of it"
    )]
    Falls {
        /// Where it falls, mV.
        millivolt: u16,
        /// The clock before, MHz.
        before: u16,
        /// The one below it, MHz.
        mhz: u16,
    },
}

impl VfCurve {
    /// A curve through `points` of (mV, MHz).
    ///
    /// # Errors
    /// Fewer than two points or more than [`MOST_CURVE_POINTS`], voltages that do not rise, or
    /// clocks that fall.
    pub fn new(points: &[(u16, u16)]) -> Result<Self, CurveError> {
        if !(2..=MOST_CURVE_POINTS).contains(&points.len()) {
            return Err(CurveError::Count(points.len()));
        }
        for pair in points.windows(2) {
            let (before, at) = (pair[0], pair[1]);
            if at.0 <= before.0 {
                return Err(CurveError::Voltage { before: before.0, millivolt: at.0 });
            }
            if at.1 < before.1 {
                let (millivolt, before, mhz) = (at.0, before.1, at.1);
                return Err(CurveError::Falls { millivolt, before, mhz });
            }
        }
        let mut curve =
            Self { points: [VfPoint::default(); MOST_CURVE_POINTS], used: points.len() };
        for (slot, point) in curve.points.iter_mut().zip(points) {
            *slot = (*point).into();
        }
        Ok(curve)
    }

    /// The points, in order of voltage.
    #[must_use]
    pub fn points(&self) -> &[VfPoint] {
        &self.points[..self.used]
    }

    /// The lowest point.
    #[must_use]
    pub fn first(&self) -> VfPoint {
        self.points[0]
    }

    /// The highest point.
    #[must_use]
    pub fn last(&self) -> VfPoint {
        self.points[self.used - 1]
    }

    /// Clock at a voltage, on straight lines between the points; level beyond both ends.
    #[must_use]
    pub fn clock_at(&self, voltage: Millivolt) -> Mhz {
        let at = voltage.value();
        let points = self.points();
        let above = points.partition_point(|point| f64::from(point.millivolt) < at);
        Mhz(match above {
            0 => f64::from(self.first().mhz),
            _ if above == points.len() => f64::from(self.last().mhz),
            _ => {
                let (low, high) = (points[above - 1], points[above]);
                let share =
                    (at - f64::from(low.millivolt)) / f64::from(high.millivolt - low.millivolt);
                f64::from(low.mhz) + f64::from(high.mhz - low.mhz) * share
            }
        })
    }

    /// The lowest voltage at which the curve reaches a clock; `None` above its top, the lowest
    /// voltage below its bottom.
    #[must_use]
    pub fn voltage_for(&self, clock: Mhz) -> Option<Millivolt> {
        let points = self.points();
        let reached = points.partition_point(|point| f64::from(point.mhz) < clock.value());
        let high = points.get(reached)?;
        let Some(low) = reached.checked_sub(1).map(|below| points[below]) else {
            return Some(Millivolt(f64::from(high.millivolt)));
        };
        let share = (clock.value() - f64::from(low.mhz)) / f64::from(high.mhz - low.mhz);
        let width = f64::from(high.millivolt - low.millivolt);
        Some(Millivolt(f64::from(low.millivolt) + width * share))
    }

    /// The place from which on there is no more clock for more voltage.
    #[must_use]
    pub fn flat_from(&self) -> VfPoint {
        let top = self.last();
        self.points().iter().copied().find(|point| point.mhz == top.mhz).unwrap_or(top)
    }
}

impl TryFrom<Vec<(u16, u16)>> for VfCurve {
    type Error = CurveError;

    fn try_from(points: Vec<(u16, u16)>) -> Result<Self, CurveError> {
        Self::new(&points)
    }
}

impl From<VfCurve> for Vec<(u16, u16)> {
    fn from(curve: VfCurve) -> Self {
        curve.points().iter().map(|point| (point.millivolt, point.mhz)).collect()
    }
}

/// What can be moved of a card's curve.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CurveKind {
    /// The clocks of points at fixed voltages.
    Points,
    /// Clock and voltage of performance states.
    States,
}

/// A range of values of one unit, with the distance of two that are told apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Span {
    /// Lowest value.
    pub lowest: u16,
    /// Highest value.
    pub highest: u16,
    /// Distance of two neighbouring values, above zero, counted from the lowest.
    pub step: u16,
}

impl Span {
    /// The nearest value at or below `value`, kept inside the range.
    #[must_use]
    pub fn bin(&self, value: f64) -> u16 {
        let value = value.clamp(f64::from(self.lowest), f64::from(self.highest));
        let step = f64::from(self.step);
        let steps = ((value - f64::from(self.lowest)) / step + 1e-6).floor();
        self.lowest + (steps * step) as u16
    }

    /// The nearest value, above or below, kept inside the range.
    #[must_use]
    pub fn nearest(&self, value: f64) -> u16 {
        self.bin(value + f64::from(self.step) / 2.0)
    }

    /// Whether a value lies inside the range, on a step or between two.
    #[must_use]
    pub fn contains(&self, value: u16) -> bool {
        (self.lowest..=self.highest).contains(&value)
    }
}

/// The curve a card offers to be shaped, with the ranges it advertises.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CurveOffer {
    /// What can be moved.
    pub kind: CurveKind,
    /// The curve it comes with.
    pub factory: VfCurve,
    /// Clocks it takes, MHz.
    pub clocks: Span,
    /// Voltages it takes, mV. Those of points are fixed.
    pub voltages: Span,
}

impl CurveOffer {
    /// The curve that the card can hold of one that is asked: at its own voltages where those are
    /// fixed, every value at its bin at or below, inside the ranges. The factory curve stands for
    /// one that cannot be brought into the ranges without two states falling together.
    #[must_use]
    pub fn hold(&self, asked: &VfCurve) -> VfCurve {
        let points: Vec<(u16, u16)> = match self.kind {
            CurveKind::Points => self
                .factory
                .points()
                .iter()
                .map(|point| {
                    let clock = asked.clock_at(Millivolt(f64::from(point.millivolt)));
                    (point.millivolt, self.clocks.bin(clock.value()))
                })
                .collect(),
            CurveKind::States => asked
                .points()
                .iter()
                .map(|point| {
                    let millivolt = self.voltages.bin(f64::from(point.millivolt));
                    (millivolt, self.clocks.bin(f64::from(point.mhz)))
                })
                .collect(),
        };
        let fits = points.len() == self.factory.points().len();
        VfCurve::new(&points).ok().filter(|_| fits).unwrap_or(self.factory)
    }

    /// Brings a curve into the advertised ranges; bins are the card's business.
    #[must_use]
    pub fn within(&self, asked: &VfCurve) -> VfCurve {
        if self.kind == CurveKind::Points && asked.points().len() != self.factory.points().len() {
            return self.hold(asked);
        }
        let fixed = self.factory.points().iter().map(|point| point.millivolt);
        let points: Vec<(u16, u16)> = asked
            .points()
            .iter()
            .zip(fixed)
            .map(|(point, fixed)| {
                let millivolt = match self.kind {
                    CurveKind::Points => fixed,
                    CurveKind::States => {
                        point.millivolt.clamp(self.voltages.lowest, self.voltages.highest)
                    }
                };
                (millivolt, point.mhz.clamp(self.clocks.lowest, self.clocks.highest))
            })
            .collect();
        VfCurve::new(&points).unwrap_or(self.factory)
    }

    /// Whether every value of a curve lies in its range.
    #[must_use]
    pub fn contains(&self, curve: &VfCurve) -> bool {
        self.within(curve) == *curve
    }

    /// How many points of a curve are not where the factory has them.
    #[must_use]
    pub fn moved(&self, curve: &VfCurve) -> usize {
        curve.points().iter().zip(self.factory.points()).filter(|(a, b)| a != b).count()
    }

    /// The same with other steps of clocks, MHz, and voltages, mV.
    #[must_use]
    pub fn with_steps(self, clock: u16, voltage: u16) -> Self {
        let clocks = Span { step: clock, ..self.clocks };
        let voltages = Span { step: voltage, ..self.voltages };
        Self { clocks, voltages, ..self }
    }

    /// Whether two curves are the same but for bins: no clock and no voltage a step apart.
    #[must_use]
    pub fn is_rounding(&self, asked: &VfCurve, taken: &VfCurve) -> bool {
        asked.points().len() == taken.points().len()
            && asked.points().iter().zip(taken.points()).all(|(asked, taken)| {
                asked.mhz.abs_diff(taken.mhz) < self.clocks.step
                    && asked.millivolt.abs_diff(taken.millivolt) < self.voltages.step.max(1)
            })
    }

    /// The curve that gives each clock at `by` less voltage, and no more clock than `top`: an
    /// undervolt of the whole card. A voltage below the range stays at its end.
    ///
    /// For points with fixed voltages that is the factory clock of `by` more millivolts, beyond the
    /// curve's top end along its last slope; for states their voltages, all moved.
    #[must_use]
    pub fn undervolted(&self, by: f64, top: Mhz) -> VfCurve {
        let most = top.value().min(f64::from(self.clocks.highest));
        let points: Vec<(u16, u16)> = self
            .factory
            .points()
            .iter()
            .map(|point| match self.kind {
                CurveKind::Points => {
                    let clock = self.extended(f64::from(point.millivolt) + by);
                    (point.millivolt, self.clocks.nearest(clock.min(most)))
                }
                CurveKind::States => {
                    let clock = f64::from(point.mhz);
                    let volt = f64::from(point.millivolt) - by;
                    // Above the top, a state adds no clock and needs no more voltage.
                    let needed = self.factory.voltage_for(Mhz(most)).filter(|_| clock > most);
                    let volt = needed.map_or(volt, |needed| needed.value() - by);
                    (self.voltages.nearest(volt), self.clocks.nearest(clock.min(most)))
                }
            })
            .collect();
        rising(points, &self.voltages)
            .and_then(|points| VfCurve::new(&points).ok())
            .unwrap_or(self.factory)
    }

    /// Factory clock at a voltage, on the straight lines of the curve and beyond both its ends, MHz.
    fn extended(&self, millivolt: f64) -> f64 {
        let points = self.factory.points();
        let above = points.partition_point(|point| f64::from(point.millivolt) < millivolt);
        // The slope at an end is taken over a stretch, so that one rounded step does not make it.
        const STRETCH: usize = 5;
        let last = points.len() - 1;
        let (low, high) = match above {
            0 => (points[0], points[STRETCH.min(last)]),
            above if above > last => (points[last.saturating_sub(STRETCH)], points[last]),
            above => (points[above - 1], points[above]),
        };
        let slope = f64::from(high.mhz - low.mhz) / f64::from(high.millivolt - low.millivolt);
        let from = if above > last { high } else { low };
        f64::from(from.mhz) + slope * (millivolt - f64::from(from.millivolt))
    }
}

/// Points whose clocks never fall and whose voltages rise by a step at least, counted from the top
/// down: a state that is pushed below its range takes those above it along.
fn rising(mut points: Vec<(u16, u16)>, voltages: &Span) -> Option<Vec<(u16, u16)>> {
    let mut clock = 0;
    for point in &mut points {
        clock = clock.max(point.1);
        point.1 = clock;
    }
    let step = voltages.step.max(1);
    for at in 1..points.len() {
        let least = points[at - 1].0.checked_add(step)?;
        points[at].0 = points[at].0.max(least);
    }
    // Pushed beyond the top of the range, they are pushed back down.
    let mut most = voltages.highest;
    for point in points.iter_mut().rev() {
        point.0 = point.0.min(most);
        most = point.0.checked_sub(step)?;
    }
    Some(points)
}

#[cfg(test)]
mod tests;
