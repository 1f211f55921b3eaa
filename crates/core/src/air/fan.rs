//! How a fan is driven: by the card, at one speed, along a curve of temperature to speed, or towards a temperature.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::units::{Celsius, Percent};

/// How the fan is driven.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Fan {
    /// By the card itself.
    Automatic,
    /// At one speed, 0 to 100 %.
    Fixed(Percent),
    /// Along a curve of core temperature to speed.
    Curve(FanCurve),
    /// By the card itself, so that the core does not become hotter than a temperature.
    Target(FanTarget),
}

/// What a card that regulates its fan by itself is to regulate it to.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FanTarget {
    /// Core temperature that it keeps to, as far as full speed does.
    #[serde(rename = "core_c")]
    pub core: Celsius,
    /// Lowest speed, 0 to 100 %.
    #[serde(rename = "least_percent")]
    pub least: Percent,
}

/// What a card lets its fan be driven by, beside a fixed speed.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FanControl {
    /// It holds a curve itself.
    #[default]
    Curve,
    /// It regulates to a core temperature between these, °C, and never below a lowest speed.
    Target {
        /// Lowest temperature it regulates to, °C.
        lowest: f64,
        /// Highest temperature it regulates to, °C.
        highest: f64,
    },
    /// It holds a speed and nothing else.
    Speed,
}

impl FanControl {
    /// The curve along which Yard Step drives a fan that is to be driven so; none where the card does it by itself.
    #[must_use]
    pub fn left_to_drive(self, fan: Option<Fan>) -> Option<FanCurve> {
        match fan {
            Some(Fan::Curve(curve)) if !matches!(self, Self::Curve) => Some(curve),
            _ => None,
        }
    }
}

impl Fan {
    /// Numbers that tell two fans apart: how it is driven, then temperatures and speeds.
    #[must_use]
    pub fn numbers(&self) -> Vec<f64> {
        match self {
            Self::Automatic => vec![0.0],
            Self::Fixed(speed) => vec![1.0, speed.value()],
            Self::Target(target) => vec![2.0, target.core.value(), target.least.value()],
            Self::Curve(curve) => {
                let stop = curve.stops_below().map_or(-1.0, Celsius::value);
                let points = curve.points().iter().flat_map(|(at, speed)| [*at, *speed]);
                [3.0, stop, curve.hysteresis()].into_iter().chain(points).collect()
            }
        }
    }

    /// The speed of a fan that is driven so at a core temperature; none where only the card knows.
    #[must_use]
    pub fn speed_at(&self, temperature: Celsius) -> Option<Percent> {
        match self {
            Self::Fixed(speed) => Some(*speed),
            Self::Curve(curve) => Some(curve.speed_at(temperature)),
            // As much as it takes: full speed above the target, the least below it.
            Self::Target(target) => {
                Some(if temperature > target.core { Percent(100.0) } else { target.least })
            }
            Self::Automatic => None,
        }
    }

    /// Whether a fan driven as `own` is at no temperature faster than one driven as `other`. How fast
    /// an automatic fan is nobody knows: it is compared with an automatic one only, and one with a target with
    /// another target. `None` is automatic.
    #[must_use]
    pub fn is_no_faster(own: Option<Self>, other: Option<Self>) -> bool {
        let driven = |fan: Option<Self>| fan.unwrap_or(Self::Automatic);
        match (driven(own), driven(other)) {
            (Self::Automatic, Self::Automatic) => true,
            (Self::Target(own), Self::Target(other)) => {
                own.core >= other.core && own.least <= other.least
            }
            (Self::Automatic | Self::Target(_), _) | (_, Self::Automatic | Self::Target(_)) => {
                false
            }
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
/// the first and after the last. Below the temperature at which it stops, if it does, the fan stands still.
///
/// ```
/// use yard_step_core::{Celsius, FanCurve, Percent};
///
/// let curve = FanCurve::new(&[(50.0, 30.0), (70.0, 50.0), (85.0, 100.0)])?;
/// assert_eq!(curve.speed_at(Celsius(60.0)), Percent(40.0));
/// assert_eq!(curve.speed_at(Celsius(20.0)), Percent(30.0));
/// assert_eq!(curve.stopping_below(45.0)?.speed_at(Celsius(20.0)), Percent(0.0));
/// # Ok::<(), yard_step_core::FanCurveError>(())
/// ```
///
/// In files it is a list of points, or a table of `points`, `stops_below_c` and `hysteresis_k`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "WrittenCurve", into = "WrittenCurve")]
pub struct FanCurve {
    points: [(f64, f64); MOST_FAN_POINTS],
    used: usize,
    stops_below: Option<f64>,
    hysteresis: f64,
}

/// A fan curve as it stands in a file.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(
    untagged,
    expecting = "a list of points (°C, %), or a table with points, stops_below_c and hysteresis_k"
)]
enum WrittenCurve {
    Points(Vec<(f64, f64)>),
    Whole(WholeCurve),
}

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WholeCurve {
    points: Vec<(f64, f64)>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    stops_below_c: Option<f64>,
    #[serde(default)]
    hysteresis_k: f64,
}

/// Largest hysteresis of a fan curve, K.
pub const MOST_HYSTERESIS: f64 = 20.0;

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
    /// A temperature at which no fan should stop.
    #[error("the fan stops below {0} °C: that must be 0 to 70 °C")]
    Stop(f64),
    /// Too large, or below zero.
    #[error("the fan curve's hysteresis is {0} K: it must be 0 to {MOST_HYSTERESIS} K")]
    Hysteresis(f64),
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
        let mut curve = Self {
            points: [(0.0, 0.0); MOST_FAN_POINTS],
            used: points.len(),
            stops_below: None,
            hysteresis: 0.0,
        };
        for (slot, point) in curve.points.iter_mut().zip(points) {
            *slot = *point;
        }
        Ok(curve)
    }

    /// The same curve of a fan that stands still below a temperature, °C.
    ///
    /// # Errors
    /// The temperature is not 0 to 70 °C.
    pub fn stopping_below(self, temperature: f64) -> Result<Self, FanCurveError> {
        match (0.0..=70.0).contains(&temperature) {
            true => Ok(Self { stops_below: Some(temperature), ..self }),
            false => Err(FanCurveError::Stop(temperature)),
        }
    }

    /// The same curve of a fan that never stands still.
    #[must_use]
    pub fn without_stop(self) -> Self {
        Self { stops_below: None, ..self }
    }

    /// The same curve with another hysteresis: by so many K the core must cool before the fan slows down.
    ///
    /// # Errors
    /// It is not 0 to [`MOST_HYSTERESIS`].
    pub fn with_hysteresis(self, hysteresis: f64) -> Result<Self, FanCurveError> {
        match (0.0..=MOST_HYSTERESIS).contains(&hysteresis) {
            true => Ok(Self { hysteresis, ..self }),
            false => Err(FanCurveError::Hysteresis(hysteresis)),
        }
    }

    /// Core temperature below which the fan stands still; none where it never does.
    #[must_use]
    pub fn stops_below(&self) -> Option<Celsius> {
        self.stops_below.map(Celsius)
    }

    /// By how much the core must cool before the fan slows down, K.
    #[must_use]
    pub const fn hysteresis(&self) -> f64 {
        self.hysteresis
    }

    /// The points, in order of temperature.
    #[must_use]
    pub fn points(&self) -> &[(f64, f64)] {
        &self.points[..self.used]
    }

    /// Speed at a core temperature that rises.
    #[must_use]
    pub fn speed_at(&self, temperature: Celsius) -> Percent {
        let at = temperature.value();
        if self.stops_below.is_some_and(|stop| at < stop) {
            return Percent(0.0);
        }
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

impl TryFrom<WrittenCurve> for FanCurve {
    type Error = FanCurveError;

    fn try_from(written: WrittenCurve) -> Result<Self, FanCurveError> {
        match written {
            WrittenCurve::Points(points) => Self::new(&points),
            WrittenCurve::Whole(WholeCurve { points, stops_below_c, hysteresis_k }) => {
                let curve = Self::new(&points)?.with_hysteresis(hysteresis_k)?;
                stops_below_c.map_or(Ok(curve), |stop| curve.stopping_below(stop))
            }
        }
    }
}

impl From<FanCurve> for WrittenCurve {
    fn from(curve: FanCurve) -> Self {
        let points = curve.points().to_vec();
        match (curve.stops_below, curve.hysteresis) {
            (None, 0.0) => Self::Points(points),
            (stops_below_c, hysteresis_k) => {
                Self::Whole(WholeCurve { points, stops_below_c, hysteresis_k })
            }
        }
    }
}

/// Turns a curve into the speeds of a course of temperatures: up at once, down only once the core has cooled by the
/// curve's hysteresis.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct CurveFollower {
    /// Temperature that the speed is of, °C.
    follows: Option<f64>,
}

impl CurveFollower {
    /// The speed at the next temperature.
    pub fn next(&mut self, curve: &FanCurve, temperature: Celsius) -> Percent {
        let now = temperature.value();
        let followed = self.follows.map_or(now, |before| before.clamp(now, now + curve.hysteresis));
        self.follows = Some(followed);
        curve.speed_at(Celsius(followed))
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

    #[rstest]
    #[case(70.0, 70.0, 40.0)]
    #[case(70.0, 66.0, 40.0)]
    #[case(70.0, 64.0, 38.0)]
    #[case(66.0, 70.0, 40.0)]
    fn a_fan_speeds_up_at_once_and_slows_down_after_the_hysteresis(
        #[case] before: f64,
        #[case] now: f64,
        #[case] speed: f64,
    ) {
        let curve = FanCurve::new(&[(50.0, 20.0), (70.0, 40.0)]).unwrap();
        let curve = curve.with_hysteresis(4.0).unwrap();
        let mut follower = CurveFollower::default();
        follower.next(&curve, Celsius(before));
        assert_eq!(follower.next(&curve, Celsius(now)), Percent(speed));
    }

    #[test]
    fn a_fan_that_stops_starts_at_its_temperature_and_stands_still_below_it_less_the_hysteresis() {
        let curve = FanCurve::new(&[(50.0, 30.0), (80.0, 60.0)]).unwrap();
        let curve = curve.stopping_below(48.0).unwrap().with_hysteresis(5.0).unwrap();
        let mut follower = CurveFollower::default();
        let course = [40.0, 47.9, 48.0, 44.0, 43.0, 42.9, 47.0];
        let speeds = course.map(|at| follower.next(&curve, Celsius(at)).value());
        assert_eq!(speeds, [0.0, 0.0, 30.0, 30.0, 30.0, 0.0, 0.0]);
    }

    #[rstest]
    #[case::plain(FanCurve::new(&[(50.0, 30.0)]).unwrap(), "[[50.0,30.0]]")]
    #[case::whole(
        FanCurve::new(&[(50.0, 30.0)]).unwrap().stopping_below(45.0).unwrap().with_hysteresis(3.0).unwrap(),
        r#"{"points":[[50.0,30.0]],"stops_below_c":45.0,"hysteresis_k":3.0}"#
    )]
    fn a_curve_is_written_as_a_list_of_points_unless_there_is_more_to_say(
        #[case] curve: FanCurve,
        #[case] text: &str,
    ) {
        assert_eq!(serde_json::to_string(&curve).unwrap(), text);
        assert_eq!(serde_json::from_str::<FanCurve>(text).unwrap(), curve);
    }

    #[rstest]
    #[case(r#"{"points":[[50,30]],"stops_below_c":90}"#, "stops below 90 °C")]
    #[case(r#"{"points":[[50,30]],"hysteresis_k":-1}"#, "0 to 20 K")]
    #[case(r#"{"points":[[50,30]],"stop":4}"#, "a list of points")]
    fn a_stop_or_hysteresis_that_cannot_be_is_refused(#[case] text: &str, #[case] told: &str) {
        let error = serde_json::from_str::<FanCurve>(text).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[test]
    fn numbers_tell_fans_apart() {
        let curve = FanCurve::new(&[(50.0, 30.0)]).unwrap();
        let fans = [
            Fan::Automatic,
            Fan::Fixed(Percent(30.0)),
            Fan::Target(FanTarget { core: Celsius(50.0), least: Percent(30.0) }),
            Fan::Curve(curve),
            Fan::Curve(curve.stopping_below(40.0).unwrap()),
            Fan::Curve(curve.with_hysteresis(2.0).unwrap()),
        ];
        for (at, one) in fans.iter().enumerate() {
            assert!(fans[at + 1..].iter().all(|other| other.numbers() != one.numbers()));
        }
    }

    #[test]
    fn fans_with_a_target_are_compared_with_each_other_only() {
        let target = |core, least| {
            Some(Fan::Target(FanTarget { core: Celsius(core), least: Percent(least) }))
        };
        assert!(Fan::is_no_faster(target(75.0, 30.0), target(70.0, 30.0)));
        assert!(!Fan::is_no_faster(target(70.0, 40.0), target(70.0, 30.0)));
        assert!(!Fan::is_no_faster(target(70.0, 30.0), Some(Fan::Fixed(Percent(100.0)))));
        assert!(!Fan::is_no_faster(None, target(70.0, 30.0)));
    }

    #[test]
    fn a_curve_is_brought_into_the_range_of_a_card() {
        let curve = FanCurve::new(&[(40.0, 0.0), (60.0, 55.0), (80.0, 100.0)]).unwrap();
        assert_eq!(curve.within(30.0, 90.0).points(), [(40.0, 30.0), (60.0, 55.0), (80.0, 90.0)]);
    }
}
