//! Whether a gain is real: scores against the value of a setting, with the scatter of runs in mind.

use crate::statistics::standard_deviation;
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

/// Where the score stops to grow with the clock.
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
        let inverse = inverse(squares, size)?;
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

/// Inverse of the upper left `size` × `size` of a matrix (Gauss and Jordan); `None` if there is none.
fn inverse(mut matrix: [[f64; 3]; 3], size: usize) -> Option<[[f64; 3]; 3]> {
    let mut result = [[0.0; 3]; 3];
    for (i, row) in result.iter_mut().enumerate().take(size) {
        row[i] = 1.0;
    }
    for column in 0..size {
        let best = (column..size)
            .max_by(|a, b| matrix[*a][column].abs().total_cmp(&matrix[*b][column].abs()))?;
        if matrix[best][column].abs() < 1e-9 {
            return None;
        }
        matrix.swap(column, best);
        result.swap(column, best);
        let pivot = matrix[column][column];
        for j in 0..size {
            matrix[column][j] /= pivot;
            result[column][j] /= pivot;
        }
        for i in (0..size).filter(|i| *i != column) {
            let factor = matrix[i][column];
            for j in 0..size {
                matrix[i][j] -= factor * matrix[column][j];
                result[i][j] -= factor * result[column][j];
            }
        }
    }
    Some(result)
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
