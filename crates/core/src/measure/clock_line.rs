//! How flat the clock line of a run is, and where it dips.

use serde::{Deserialize, Serialize};

use crate::statistics::{mean, median};
use crate::units::{Mhz, Percent, Seconds};

/// A stretch in which the clock fell clearly below its usual height.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Dip {
    /// Where it began, from the beginning of the trial.
    pub at: Seconds,
    /// How long it lasted.
    pub length: Seconds,
    /// How far below the usual height its lowest point was.
    pub depth: Mhz,
    /// The section of the scene it began in, counted from 0.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub section: Option<usize>,
}

/// Figures of a clock line.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct ClockLine {
    /// Mean clock.
    pub average: Mhz,
    /// Lowest clock.
    pub lowest: Mhz,
    /// Highest clock.
    pub highest: Mhz,
    /// Share of samples within one bin of the usual height (the median): 100 % is a flat line.
    pub flatness: Percent,
    /// Stretches more than [`DIP_BINS`] bins below the usual height, in order of time.
    pub dips: Vec<Dip>,
}

/// A dip begins this many bins below the median.
pub const DIP_BINS: f64 = 3.5;

/// Reads the figures off `points` of (time, clock), which must be in order of time.
///
/// `bin` is the card's boost bin. A dip must span at least two samples: a single low reading is
/// more often the sensor than the card. A step of more than a second between two points is a gap
/// and ends a dip. `None` where there is no point.
#[must_use]
pub fn read_clock_line(points: &[(Seconds, Mhz)], bin: Mhz) -> Option<ClockLine> {
    let clocks: Vec<f64> = points.iter().map(|(_, clock)| clock.value()).collect();
    let usual = median(&clocks)?;
    let average = mean(&clocks)?;
    let near = clocks.iter().filter(|clock| (**clock - usual).abs() <= bin.value() + 1e-9).count();
    Some(ClockLine {
        average: Mhz(average),
        lowest: Mhz(clocks.iter().copied().fold(f64::INFINITY, f64::min)),
        highest: Mhz(clocks.iter().copied().fold(f64::NEG_INFINITY, f64::max)),
        flatness: Percent(100.0 * near as f64 / clocks.len() as f64),
        dips: dips(points, usual, bin.value() * DIP_BINS),
    })
}

fn dips(points: &[(Seconds, Mhz)], usual: f64, depth: f64) -> Vec<Dip> {
    let mut found = Vec::new();
    for run in points.chunk_by(|(before, a), (after, b)| {
        let low = |clock: &Mhz| usual - clock.value() > depth;
        low(a) == low(b) && after.value() - before.value() <= 1.0
    }) {
        let [(first, clock), .., (last, _)] = run else { continue };
        if usual - clock.value() <= depth {
            continue;
        }
        let lowest = run.iter().map(|(_, c)| c.value()).fold(f64::INFINITY, f64::min);
        found.push(Dip {
            at: *first,
            length: *last - *first,
            depth: Mhz(usual - lowest),
            section: None,
        });
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const BIN: Mhz = Mhz(15.0);

    fn line(clocks: &[f64]) -> Vec<(Seconds, Mhz)> {
        clocks.iter().enumerate().map(|(i, c)| (Seconds(i as f64 / 10.0), Mhz(*c))).collect()
    }

    #[test]
    fn a_constant_clock_is_flat_and_has_no_dips() {
        let read = read_clock_line(&line(&[2_000.0; 50]), BIN).unwrap();
        assert_eq!((read.flatness, read.dips.len()), (Percent(100.0), 0));
    }

    #[test]
    fn a_ragged_clock_is_told_from_a_flat_one() {
        let ragged: Vec<f64> = (0..60).map(|i| 2_000.0 - f64::from(i % 6) * 30.0).collect();
        let read = read_clock_line(&line(&ragged), BIN).unwrap();
        assert!(read.flatness.value() < 40.0, "{:?}", read.flatness);
    }

    #[rstest]
    #[case::lasting(5, 1)]
    #[case::single_reading(1, 0)]
    #[case::two_samples(2, 1)]
    fn a_dip_has_place_length_and_depth(#[case] samples: usize, #[case] expected: usize) {
        let mut clocks = vec![2_000.0; 60];
        clocks[20..20 + samples].fill(1_900.0);
        let read = read_clock_line(&line(&clocks), BIN).unwrap();
        assert_eq!(read.dips.len(), expected);
        if let Some(dip) = read.dips.first() {
            assert_eq!((dip.at, dip.depth), (Seconds(2.0), Mhz(100.0)));
            assert!((dip.length.value() - (samples - 1) as f64 / 10.0).abs() < 1e-9);
        }
    }

    #[test]
    fn a_gap_in_time_ends_a_dip() {
        let mut points = line(&[2_000.0; 20]);
        for seconds in [2.0, 2.1, 5.0, 5.1] {
            points.push((Seconds(seconds), Mhz(1_800.0)));
        }
        assert_eq!(read_clock_line(&points, BIN).unwrap().dips.len(), 2);
    }

    #[test]
    fn nothing_is_read_from_nothing() {
        assert_eq!(read_clock_line(&[], BIN), None);
    }
}
