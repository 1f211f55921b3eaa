//! Whether a gain is real: scores against the value of a setting, with the scatter of runs in mind.

use crate::statistics::{inverse, standard_deviation};
use crate::units::MhzOffset;

/// Scatter of runs that is assumed before any were made, in shares of the score, and how many runs
/// this assumption weighs.
const ASSUMED_SCATTER: f64 = 0.005;
const ASSUMED_WEIGHT: f64 = 4.0;
/// By how much a bend must fit better than a straight line (fall of χ²) to be believed: with the
/// choice of its place, about one in a hundred by chance.
const BEND: f64 = 9.0;
/// Values are scaled by this, so that the equations stay tame.
const SCALE: f64 = 100.0;

/// Scatter of single runs, in shares of their score: that of the baseline runs, steadied by what is
/// assumed of any card (a weighted mean of both variances).
#[must_use]
pub fn scatter(baseline: &[f64]) -> f64 {
    let mean = crate::statistics::mean(baseline).unwrap_or(1.0).max(1e-9);
    let degrees = baseline.len().saturating_sub(1) as f64;
    let seen = standard_deviation(baseline).unwrap_or(0.0) / mean;
    let pooled = ASSUMED_WEIGHT * ASSUMED_SCATTER.powi(2) + degrees * seen.powi(2);
    (pooled / (ASSUMED_WEIGHT + degrees)).sqrt()
}

/// Where the score stops rising with the clock.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bend {
    /// The value from which on more clock brings no more.
    pub at: MhzOffset,
    /// Gain for each MHz beyond it, in shares of the score; zero or less.
    pub slope: f64,
}

/// A line through scores, straight or with one bend: least squares with a hinge at the value that
/// fits best (Seber and Lee, *Linear Regression Analysis*, ch. 3; Hudson 1966 for the hinge).
#[derive(Debug, Clone, PartialEq)]
pub struct ScoreLine {
    coefficients: [f64; 3],
    inverse: [[f64; 3]; 3],
    hinge: Option<f64>,
    scatter: f64,
}

/// What is known of a gain.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Gain {
    /// It is there.
    Clear,
    /// It is not there, or too small to be worth having.
    NotThere,
    /// More runs must tell.
    Open,
}

impl ScoreLine {
    /// The line through `points` of (MHz from stock, score), whose single runs scatter by
    /// `scatter` in shares of the score. `None` without two different values.
    #[must_use]
    pub fn fit(points: &[(f64, f64)], scatter: f64) -> Option<Self> {
        let straight = Self::with_hinge(points, None, scatter)?;
        let mut values: Vec<f64> = points.iter().map(|point| point.0).collect();
        values.sort_by(f64::total_cmp);
        values.dedup();
        let inner = values.get(1..values.len().saturating_sub(1)).unwrap_or_default();
        let of_straight = straight.misfit(points);
        let bent = inner
            .iter()
            .filter_map(|hinge| Self::with_hinge(points, Some(*hinge), scatter))
            .map(|line| (line.misfit(points), line))
            .min_by(|a, b| a.0.total_cmp(&b.0))
            .filter(|(misfit, _)| points.len() >= 5 && of_straight - misfit > BEND);
        Some(bent.map_or(straight, |(_, line)| line))
    }

    fn with_hinge(points: &[(f64, f64)], hinge: Option<f64>, scatter: f64) -> Option<Self> {
        let size = if hinge.is_some() { 3 } else { 2 };
        let (mut squares, mut products) = ([[0.0; 3]; 3], [0.0; 3]);
        for (value, score) in points {
            let row = row(*value, hinge);
            for i in 0..size {
                for j in 0..size {
                    squares[i][j] += row[i] * row[j];
                }
                products[i] += row[i] * score;
            }
        }
        // A line without a hinge has nothing to tell of the third: it is left as it is.
        if size == 2 {
            squares[2][2] = 1.0;
        }
        let inverse = inverse(squares)?;
        let mut coefficients = [0.0; 3];
        for i in 0..size {
            coefficients[i] = (0..size).map(|j| inverse[i][j] * products[j]).sum();
        }
        Some(Self { coefficients, inverse, hinge, scatter })
    }

    /// χ² of the points about the line.
    fn misfit(&self, points: &[(f64, f64)]) -> f64 {
        let sigma = (self.scatter * self.coefficients[0]).max(1e-12);
        points.iter().map(|(value, score)| ((score - self.at(*value)) / sigma).powi(2)).sum()
    }

    /// Score on the line.
    #[must_use]
    pub fn at(&self, value: f64) -> f64 {
        let row = row(value, self.hinge);
        (0..3).map(|i| self.coefficients[i] * row[i]).sum()
    }

    /// Gain of a value over stock, and its standard error, in shares of the score.
    #[must_use]
    pub fn gain(&self, value: f64) -> (f64, f64) {
        let (here, stock) = (row(value, self.hinge), row(0.0, self.hinge));
        let apart: Vec<f64> = (0..3).map(|i| here[i] - stock[i]).collect();
        let mut variance = 0.0;
        for i in 0..3 {
            for j in 0..3 {
                variance += apart[i] * self.inverse[i][j] * apart[j];
            }
        }
        let base = self.at(0.0).max(1e-9);
        (self.at(value) / base - 1.0, self.scatter * variance.max(0.0).sqrt())
    }

    /// Gain for each MHz from stock on, in shares of the score.
    #[must_use]
    pub fn slope(&self) -> f64 {
        self.coefficients[1] / SCALE / self.at(0.0).max(1e-9)
    }

    /// Where it stops to rise, if it does.
    #[must_use]
    pub fn bend(&self) -> Option<Bend> {
        let beyond = self.coefficients[1] + self.coefficients[2];
        let hinge = self.hinge.filter(|_| beyond <= 0.0)?;
        let slope = beyond / SCALE / self.at(0.0).max(1e-9);
        Some(Bend { at: MhzOffset(hinge.round() as i32), slope })
    }
}

fn row(value: f64, hinge: Option<f64>) -> [f64; 3] {
    let beyond = hinge.map_or(0.0, |hinge| (value - hinge).max(0.0));
    [1.0, value / SCALE, beyond / SCALE]
}

/// Decides on a gain known with a standard error, both in shares of the score: Wald's sequential
/// probability ratio test between no gain and one of `least`, so that it errs with at most the
/// chance `alarm` either way however often it is asked (Wald, *Sequential Analysis*, 1947).
#[must_use]
pub fn decide(gain: f64, error: f64, least: f64, alarm: f64) -> Gain {
    let ratio = (least * gain - least * least / 2.0) / (error * error).max(1e-12);
    let bound = ((1.0 - alarm) / alarm).ln();
    if ratio >= bound {
        Gain::Clear
    } else if ratio <= -bound {
        Gain::NotThere
    } else {
        Gain::Open
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Points on a line that rises by `slope` for each 100 MHz up to `bend`, and by `beyond` from there.
    fn points(values: &[i32], slope: f64, bend: f64, beyond: f64) -> Vec<(f64, f64)> {
        let score = |value: f64| {
            1_000.0
                * (1.0 + slope * value.min(bend) / 100.0 + beyond * (value - bend).max(0.0) / 100.0)
        };
        values.iter().map(|value| (f64::from(*value), score(f64::from(*value)))).collect()
    }

    #[test]
    fn little_is_made_of_the_scatter_of_two_runs() {
        assert!((scatter(&[]) - ASSUMED_SCATTER).abs() < 1e-12);
        assert!((scatter(&[1_000.0]) - ASSUMED_SCATTER).abs() < 1e-12);
        let (calm, wild) = (scatter(&[1_000.0, 1_000.0]), scatter(&[1_000.0, 1_040.0]));
        assert!(calm > 0.8 * ASSUMED_SCATTER && calm < ASSUMED_SCATTER, "{calm}");
        assert!(wild > 2.0 * ASSUMED_SCATTER && wild < 0.0278, "{wild}: s is 2.8 %");
    }

    #[test]
    fn a_straight_line_tells_gain_and_error() {
        let line = ScoreLine::fit(&points(&[0, 0, 0, 60, 120], 0.05, 1e9, 0.0), 0.005).unwrap();
        let (gain, error) = line.gain(120.0);
        assert!((gain - 0.06).abs() < 1e-9 && (line.slope() - 0.0005).abs() < 1e-12);
        assert!((0.002..0.007).contains(&error), "{error}");
        assert_eq!((line.gain(0.0), line.bend()), ((0.0, 0.0), None));
        let more = ScoreLine::fit(&points(&[0, 0, 0, 60, 120, 120, 120], 0.05, 1e9, 0.0), 0.005);
        assert!(more.unwrap().gain(120.0).1 < error, "repeats make it surer");
    }

    #[rstest]
    #[case(&[])]
    #[case(&[0])]
    #[case(&[60, 60, 60])]
    fn one_value_makes_no_line(#[case] values: &[i32]) {
        assert_eq!(ScoreLine::fit(&points(values, 0.05, 1e9, 0.0), 0.005), None);
    }

    #[rstest]
    #[case::falling(&[0, 0, 40, 80, 120, 160, 200], -0.10, Some(120))]
    #[case::flat(&[0, 0, 40, 80, 120, 160, 240], -0.001, Some(120))]
    #[case::still_rising(&[0, 0, 40, 80, 120, 160, 200], 0.04, None)]
    #[case::too_few(&[0, 80, 120, 200], -0.10, None)]
    fn a_bend_is_found_where_the_score_stops_to_rise(
        #[case] values: &[i32],
        #[case] beyond: f64,
        #[case] bend: Option<i32>,
    ) {
        let line = ScoreLine::fit(&points(values, 0.05, 120.0, beyond), 0.005).unwrap();
        assert_eq!(line.bend().map(|bend| bend.at.0), bend);
        if let Some(bend) = line.bend() {
            assert!((bend.slope - beyond / 100.0).abs() < 1e-6, "{}", bend.slope);
        }
    }

    #[rstest]
    #[case(0.02, 0.002, Gain::Clear)]
    #[case(0.02, 0.010, Gain::Open)]
    #[case(0.0, 0.001, Gain::NotThere)]
    #[case(-0.02, 0.002, Gain::NotThere)]
    #[case(0.0025, 0.0001, Gain::Open)]
    fn a_gain_is_held_against_its_error(
        #[case] gain: f64,
        #[case] error: f64,
        #[case] known: Gain,
    ) {
        assert_eq!(decide(gain, error, 0.005, 0.05), known);
    }

    /// Numbers spread normally, the same in every run of the test (Box and Muller).
    fn chance() -> impl FnMut() -> f64 {
        let mut state = 88_172_645_463_325_252_u64;
        let mut uniform = move || {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            (state >> 11) as f64 / (1_u64 << 53) as f64
        };
        move || {
            (-2.0 * uniform().max(1e-300).ln()).sqrt() * (std::f64::consts::TAU * uniform()).cos()
        }
    }

    /// Asked after every run, as a climb does, the test errs no more often than it says.
    #[rstest]
    #[case::of_no_gain(0.0, Gain::Clear)]
    #[case::of_a_gain(0.005, Gain::NotThere)]
    fn however_often_it_is_asked_it_errs_at_most_one_time_in_twenty(
        #[case] truth: f64,
        #[case] wrong: Gain,
    ) {
        let (mut chance, sigma, rounds) = (chance(), 0.005, 4_000);
        let (mut errors, mut open) = (0, 0);
        for _ in 0..rounds {
            let mut sum = 0.0;
            let mut known = Gain::Open;
            for runs in 1..=60 {
                sum += truth + sigma * chance();
                let count = f64::from(runs);
                known = decide(sum / count, sigma / count.sqrt(), 0.005, 0.05);
                if known != Gain::Open {
                    break;
                }
            }
            errors += usize::from(known == wrong);
            open += usize::from(known == Gain::Open);
        }
        assert!(errors * 20 < rounds, "{errors} of {rounds}");
        assert!(errors * 200 > rounds, "{errors}: it does take the chance it says it takes");
        assert!(open * 50 < rounds, "{open}: and it comes to an end");
    }
}
