//! A fan that the card drives along a curve of its own (`gpu_od/fan_ctrl/fan_curve`): set to one speed by a flat curve.
//!
//! ```text
//!   OD_FAN_CURVE:                     written: "0 25 60", a line a point; then "c". The card's own curve is back by "r"
//!   0: 0C 0%                          and "c". All points at 0 mean that nothing was set.
//!   ...
//!   OD_RANGE:
//!   FAN_CURVE(hotspot temp): 25C 100C
//!   FAN_CURVE(fan speed): 20% 100%
//! ```

use yard_step_core::{Fan, Percent};

use super::table::Range;

/// Most points that are read.
const MOST_POINTS: usize = 16;

/// A fan curve as its file tells it.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct FanCurveFile {
    /// Temperature, °C, and speed, percent, of each point.
    points: Vec<(f64, f64)>,
    temperatures: Range,
    /// Lowest and highest speed that may be set, percent.
    pub speeds: Range,
}

impl FanCurveFile {
    /// Reads the file; none where it is no fan curve with ranges.
    pub fn parse(text: &str) -> Option<Self> {
        let mut points = Vec::new();
        for line in text.lines().map(str::trim).take_while(|line| *line != "OD_RANGE:") {
            let Some((index, rest)) = line.split_once(": ") else { continue };
            if index.parse::<u8>().is_err() || points.len() >= MOST_POINTS {
                return None;
            }
            points.push(pair(rest, ["C", "%"])?);
        }
        let range = |name: &str, unit: &str| {
            let line = text.lines().find_map(|line| line.trim().strip_prefix(name))?;
            pair(line, [unit, unit]).filter(|(low, high)| 0.0 <= *low && low < high)
        };
        let temperatures = range("FAN_CURVE(hotspot temp):", "C")?;
        let speeds = range("FAN_CURVE(fan speed):", "%").filter(|(_, high)| *high <= 100.0)?;
        (!points.is_empty()).then_some(Self { points, temperatures, speeds })
    }

    /// How the fan is driven: at one speed, or as the card does it by itself.
    pub fn fan(&self) -> Fan {
        let first = self.points.first().map_or(0.0, |point| point.1);
        let is_flat = self.points.iter().all(|point| point.1 == first);
        if first > 0.0 && is_flat { Fan::Fixed(Percent(first)) } else { Fan::Automatic }
    }

    /// What is to be written so that the fan turns at one speed, whatever the temperature.
    pub fn flat(&self, speed: Percent) -> Vec<String> {
        let (low, high) = self.temperatures;
        let last = (self.points.len().max(2) - 1) as f64;
        let at = |index: usize| low + (high - low) * index as f64 / last;
        let points = (0..self.points.len())
            .map(|index| format!("{index} {:.0} {:.0}", at(index).floor(), speed.value()));
        points.chain(["c".to_owned()]).collect()
    }
}

/// Two numbers with their units.
fn pair(text: &str, units: [&str; 2]) -> Option<(f64, f64)> {
    let mut values = text.split_whitespace();
    let mut next = |unit: &str| values.next()?.strip_suffix(unit)?.parse::<i32>().ok();
    let both = (f64::from(next(units[0])?), f64::from(next(units[1])?));
    values.next().is_none().then_some(both)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const RANGES: &str =
        "OD_RANGE:\nFAN_CURVE(hotspot temp): 25C 100C\nFAN_CURVE(fan speed): 20% 100%\n";

    fn file(points: &str) -> Option<FanCurveFile> {
        FanCurveFile::parse(&format!("OD_FAN_CURVE:\n{points}{RANGES}"))
    }

    #[rstest]
    #[case::nothing_was_set("0: 0C 0%\n1: 0C 0%\n", Fan::Automatic)]
    #[case::one_speed("0: 25C 60%\n1: 100C 60%\n", Fan::Fixed(Percent(60.0)))]
    #[case::a_curve_of_somebody_elses("0: 25C 30%\n1: 100C 90%\n", Fan::Automatic)]
    fn a_curve_is_one_speed_or_the_cards_own(#[case] points: &str, #[case] fan: Fan) {
        let file = file(points).unwrap();
        assert_eq!((file.fan(), file.speeds), (fan, (20.0, 100.0)));
    }

    #[test]
    fn one_speed_is_written_point_by_point_and_read_back() {
        let five = "0: 0C 0%\n1: 0C 0%\n2: 0C 0%\n3: 0C 0%\n4: 0C 0%\n";
        let edits = file(five).unwrap().flat(Percent(55.0));
        assert_eq!(edits, ["0 25 55", "1 43 55", "2 62 55", "3 81 55", "4 100 55", "c"]);
    }

    #[rstest]
    #[case("")]
    #[case("OD_FAN_CURVE:\n0: 0C 0%\n")]
    #[case(
        "0: 0C 0%\nOD_RANGE:\nFAN_CURVE(hotspot temp): 100C 25C\nFAN_CURVE(fan speed): 20% 100%\n"
    )]
    #[case("0: 0C\nOD_RANGE:\nFAN_CURVE(hotspot temp): 25C 100C\nFAN_CURVE(fan speed): 20% 100%\n")]
    #[case(
        "0: 0C 0%\nOD_RANGE:\nFAN_CURVE(hotspot temp): 25C 100C\nFAN_CURVE(fan speed): 20% 900%\n"
    )]
    fn what_is_no_fan_curve_is_none(#[case] text: &str) {
        assert_eq!(FanCurveFile::parse(text), None);
    }
}
