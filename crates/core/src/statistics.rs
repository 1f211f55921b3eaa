//! Small statistics over plain slices. Every function returns `None` where there is nothing to
//! compute from, so that an empty run never turns into a zero.

use statrs::distribution::{ContinuousCDF, StudentsT};

/// A figure with its standard error, in its unit.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Uncertain {
    /// The figure.
    pub value: f64,
    /// Its standard error.
    pub error: f64,
}

/// Inverse of a matrix (Gauss and Jordan, with pivots); `None` if there is none.
#[must_use]
pub fn inverse<const N: usize>(mut matrix: [[f64; N]; N]) -> Option<[[f64; N]; N]> {
    let mut result = [[0.0; N]; N];
    for (i, row) in result.iter_mut().enumerate() {
        row[i] = 1.0;
    }
    for column in 0..N {
        let best = (column..N)
            .max_by(|a, b| matrix[*a][column].abs().total_cmp(&matrix[*b][column].abs()))?;
        if matrix[best][column].abs() < 1e-9 {
            return None;
        }
        matrix.swap(column, best);
        result.swap(column, best);
        let pivot = matrix[column][column];
        for j in 0..N {
            matrix[column][j] /= pivot;
            result[column][j] /= pivot;
        }
        for i in (0..N).filter(|i| *i != column) {
            let factor = matrix[i][column];
            for j in 0..N {
                matrix[i][j] -= factor * matrix[column][j];
                result[i][j] -= factor * result[column][j];
            }
        }
    }
    Some(result)
}

/// Arithmetic mean.
#[must_use]
pub fn mean(values: &[f64]) -> Option<f64> {
    (!values.is_empty()).then(|| values.iter().sum::<f64>() / values.len() as f64)
}

/// Sample standard deviation (divisor n − 1); `None` for fewer than two values.
#[must_use]
pub fn standard_deviation(values: &[f64]) -> Option<f64> {
    if values.len() < 2 {
        return None;
    }
    let middle = mean(values)?;
    let squares: f64 = values.iter().map(|v| (v - middle).powi(2)).sum();
    Some((squares / (values.len() - 1) as f64).sqrt())
}

/// How far above the middle of `values` one more value from the same source may lie by chance: the
/// one-sided 95 % prediction bound of a normal sample, `t · s · √(1 + 1/n)` with Student's t of
/// n − 1 degrees of freedom (Hahn and Meeker, *Statistical Intervals*, ch. 4). `None` for fewer
/// than two values.
#[must_use]
pub fn prediction_bound(values: &[f64]) -> Option<f64> {
    let spread = standard_deviation(values)?;
    let count = values.len() as f64;
    let student = StudentsT::new(0.0, 1.0, count - 1.0).ok()?;
    Some(student.inverse_cdf(0.95) * spread * (1.0 + 1.0 / count).sqrt())
}

/// The value below which the given share (0 to 1) of the values lies, interpolated linearly
/// between neighbours (definition 7 of Hyndman and Fan, "Sample Quantiles", 1996).
#[must_use]
pub fn quantile(values: &[f64], share: f64) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let last = sorted.len().checked_sub(1)?;
    let place = share.clamp(0.0, 1.0) * last as f64;
    let below = sorted.get(place.floor() as usize)?;
    let above = sorted.get(place.ceil() as usize)?;
    Some(below + (above - below) * place.fract())
}

/// The middle value.
#[must_use]
pub fn median(values: &[f64]) -> Option<f64> {
    quantile(values, 0.5)
}

/// Lowest, mean and highest of a stream of readings, without keeping them.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Running {
    count: u64,
    sum: f64,
    lowest: f64,
    highest: f64,
}

impl Running {
    /// Takes one reading in; a gap changes nothing.
    pub fn push(&mut self, value: Option<f64>) {
        let Some(value) = value else { return };
        if self.count == 0 {
            (self.lowest, self.highest) = (value, value);
        }
        self.lowest = self.lowest.min(value);
        self.highest = self.highest.max(value);
        self.sum += value;
        self.count += 1;
    }

    /// Mean of all readings.
    #[must_use]
    pub fn mean(&self) -> Option<f64> {
        (self.count > 0).then(|| self.sum / self.count as f64)
    }

    /// Lowest reading.
    #[must_use]
    pub fn lowest(&self) -> Option<f64> {
        (self.count > 0).then_some(self.lowest)
    }

    /// Highest reading.
    #[must_use]
    pub fn highest(&self) -> Option<f64> {
        (self.count > 0).then_some(self.highest)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[], None)]
    #[case(&[4.0], Some(4.0))]
    #[case(&[9.0, 1.0, 5.0], Some(5.0))]
    #[case(&[4.0, 1.0, 2.0, 3.0], Some(2.5))]
    fn the_median_is_the_middle_or_halfway(#[case] values: &[f64], #[case] expected: Option<f64>) {
        assert_eq!(median(values), expected);
    }

    #[test]
    fn spread_needs_two_values_and_is_zero_for_equal_ones() {
        assert_eq!(standard_deviation(&[3.0]), None);
        assert_eq!(standard_deviation(&[3.0, 3.0, 3.0]), Some(0.0));
        assert!((standard_deviation(&[2.0, 4.0]).unwrap() - 2.0_f64.sqrt()).abs() < 1e-12);
    }

    #[test]
    fn a_quantile_interpolates_between_neighbours() {
        assert_eq!(quantile(&[0.0, 10.0], 0.25), Some(2.5));
        assert_eq!(quantile(&[0.0, 10.0], 7.0), Some(10.0));
    }

    #[test]
    fn gaps_do_not_pull_the_running_figures_to_zero() {
        let mut running = Running::default();
        assert_eq!(running.lowest(), None);
        for value in [None, Some(70.0), None, Some(80.0)] {
            running.push(value);
        }
        assert_eq!(
            (running.lowest(), running.mean(), running.highest()),
            (Some(70.0), Some(75.0), Some(80.0))
        );
    }

    #[rstest]
    #[case(&[1.0], None)]
    #[case(&[10.0, 10.0, 10.0], Some(0.0))]
    // t(0.95, 2) = 2.920, s = 1, √(4/3) = 1.1547
    #[case(&[9.0, 10.0, 11.0], Some(3.3717))]
    // t(0.95, 1) = 6.314, s = √2, √1.5 = 1.2247
    #[case(&[9.0, 11.0], Some(10.936))]
    fn the_prediction_bound_is_that_of_the_tables(
        #[case] values: &[f64],
        #[case] expected: Option<f64>,
    ) {
        let bound = prediction_bound(values);
        assert_eq!(bound.is_some(), expected.is_some());
        if let (Some(bound), Some(expected)) = (bound, expected) {
            assert!((bound - expected).abs() < 0.002, "{bound}");
        }
    }
}
