//! How a fan is driven: by the card, at one speed, or along a curve of temperature to speed.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::units::{Celsius, Percent};

/// How the fan is driven.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Fan {
    /// By the card itself.
    Automatic,
    /// At one speed, 0 to 100 %.
    Fixed(Percent),
    /// Along a curve of core temperature to speed.
    Curve(FanCurve),
}

impl Fan {
    /// Whether a fan driven as `own` is at no temperature faster than one driven as `other`. How fast
    /// an automatic fan is nobody knows: it is compared with an automatic one only. `None` is
    /// automatic.
    #[must_use]
    pub fn is_no_faster(own: Option<Self>, other: Option<Self>) -> bool {
        let driven = |fan: Option<Self>| fan.unwrap_or(Self::Automatic);
        match (driven(own), driven(other)) {
            (Self::Automatic, Self::Automatic) => true,
            (Self::Automatic, _) | (_, Self::Automatic) => false,
            (Self::Fixed(own), Self::Fixed(other)) => own <= other,
            (Self::Fixed(own), Self::Curve(other)) => {
                other.points().iter().all(|(_, speed)| own.value() <= *speed)
            }
            (Self::Curve(own), Self::Fixed(other)) => {
                own.points().iter().all(|(_, speed)| *speed <= other.value())
            }
            (Self::Curve(own), Self::Curve(other)) => own
                .points()
                .iter()
                .chain(other.points())
                .map(|(at, _)| Celsius(*at))
                .all(|at| own.speed_at(at) <= other.speed_at(at)),
        }
    }
}

/// Most points of a fan curve.
pub const MOST_FAN_POINTS: usize = 8;

/// Points of (core temperature in °C, speed in percent), straight lines between them, level before
/// the first and after the last.
///
/// ```
/// use yard_step_core::{Celsius, FanCurve, Percent};
///
/// let curve = FanCurve::new(&[(50.0, 30.0), (70.0, 50.0), (85.0, 100.0)])?;
/// assert_eq!(curve.speed_at(Celsius(60.0)), Percent(40.0));
/// assert_eq!(curve.speed_at(Celsius(20.0)), Percent(30.0));
/// # Ok::<(), yard_step_core::FanCurveError>(())
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "Vec<(f64, f64)>", into = "Vec<(f64, f64)>")]
pub struct FanCurve {
    points: [(f64, f64); MOST_FAN_POINTS],
    used: usize,
}

/// Why points make no fan curve.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum FanCurveError {
    /// None, or too many.
    #[error("a fan curve has 1 to {MOST_FAN_POINTS} points, and this one has {0}")]
    Count(usize),
    /// A temperature or a speed that no fan can have.
    #[error(
        "the fan curve's point {temperature} °C, {speed} %: a temperature is 0 to 120 °C, a speed \
         0 to 100 %"
    )]
    OutOfRange {
        /// °C.
        temperature: f64,
        /// Percent.
        speed: f64,
    },
    /// Not in order.
    #[error(
        "the fan curve falls back at {0} °C: temperatures must rise from point to point, and \
         speeds must not fall"
    )]
    NotRising(f64),
}

impl FanCurve {
    /// A curve through `points`.
    ///
    /// # Errors
    /// No point or more than [`MOST_FAN_POINTS`], a temperature outside 0 to 120 °C, a speed
    /// outside 0 to 100 %, temperatures that do not rise, or speeds that fall.
    pub fn new(points: &[(f64, f64)]) -> Result<Self, FanCurveError> {
        if points.is_empty() || points.len() > MOST_FAN_POINTS {
            return Err(FanCurveError::Count(points.len()));
        }
        let fits = |(t, s): &(f64, f64)| (0.0..=120.0).contains(t) && (0.0..=100.0).contains(s);
        if let Some(&(temperature, speed)) = points.iter().find(|point| !fits(point)) {
            return Err(FanCurveError::OutOfRange { temperature, speed });
        }
        if let Some(pair) = points.windows(2).find(|p| p[1].0 <= p[0].0 || p[1].1 < p[0].1) {
            return Err(FanCurveError::NotRising(pair[1].0));
        }
        let mut curve = Self { points: [(0.0, 0.0); MOST_FAN_POINTS], used: points.len() };
        for (slot, point) in curve.points.iter_mut().zip(points) {
            *slot = *point;
        }
        Ok(curve)
    }

    /// The points, in order of temperature.
    #[must_use]
    pub fn points(&self) -> &[(f64, f64)] {
        &self.points[..self.used]
    }

    /// Speed at a core temperature.
    #[must_use]
    pub fn speed_at(&self, temperature: Celsius) -> Percent {
        let at = temperature.value();
        let points = self.points();
        let above = points.iter().position(|(t, _)| *t >= at);
        Percent(match above {
            None => points.last().map_or(100.0, |(_, speed)| *speed),
            Some(0) => points[0].1,
            Some(index) => {
                let ((t0, s0), (t1, s1)) = (points[index - 1], points[index]);
                s0 + (s1 - s0) * (at - t0) / (t1 - t0)
            }
        })
    }

    /// The same curve with every speed brought into a range.
    #[must_use]
    pub fn within(mut self, lowest: f64, highest: f64) -> Self {
        for (_, speed) in &mut self.points[..self.used] {
            *speed = speed.clamp(lowest, highest);
        }
        self
    }
}

impl TryFrom<Vec<(f64, f64)>> for FanCurve {
    type Error = FanCurveError;

    fn try_from(points: Vec<(f64, f64)>) -> Result<Self, FanCurveError> {
        Self::new(&points)
    }
}

impl From<FanCurve> for Vec<(f64, f64)> {
    fn from(curve: FanCurve) -> Self {
        curve.points().to_vec()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[], "1 to 8 points")]
    #[case(&[(1.0, 1.0); 9], "this one has 9")]
    #[case(&[(50.0, 30.0), (50.0, 40.0)], "falls back at 50 °C")]
    #[case(&[(50.0, 30.0), (60.0, 20.0)], "falls back at 60 °C")]
    #[case(&[(50.0, 130.0)], "a speed 0 to 100 %")]
    #[case(&[(f64::NAN, 30.0)], "a temperature is 0 to 120 °C")]
    fn points_that_make_no_curve_are_refused(#[case] points: &[(f64, f64)], #[case] told: &str) {
        let error = FanCurve::new(points).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[rstest]
    #[case(20.0, 25.0)]
    #[case(40.0, 25.0)]
    #[case(50.0, 40.0)]
    #[case(60.0, 55.0)]
    #[case(90.0, 55.0)]
    fn speeds_lie_on_straight_lines_and_level_ends(#[case] at: f64, #[case] speed: f64) {
        let curve = FanCurve::new(&[(40.0, 25.0), (60.0, 55.0)]).unwrap();
        assert_eq!(curve.speed_at(Celsius(at)), Percent(speed));
    }

    #[test]
    fn a_curve_is_brought_into_the_range_of_a_card() {
        let curve = FanCurve::new(&[(40.0, 0.0), (60.0, 55.0), (80.0, 100.0)]).unwrap();
        assert_eq!(curve.within(30.0, 90.0).points(), [(40.0, 30.0), (60.0, 55.0), (80.0, 90.0)]);
    }
}
