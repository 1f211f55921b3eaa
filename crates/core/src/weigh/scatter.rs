//! How much the scores of runs scatter, and what is more than that.

use crate::statistics::mean;

/// Standard errors beyond which a difference is no chance: about 95 % of a normal distribution.
pub(super) const CLEAR: f64 = 2.0;
/// Scatter of a run as long as no settings ran twice, share of the score, and for how many runs that counts besides: a few
/// runs that happen to agree prove no steadiness.
const ASSUMED: (f64, f64) = (0.006, 2.0);

/// Pooled relative standard deviation of scores within groups of runs alike (analysis of variance within groups).
pub(super) fn pooled(groups: impl Iterator<Item = Vec<f64>>) -> f64 {
    let (assumed, weight) = ASSUMED;
    let (mut squares, mut freedom) = (weight * assumed.powi(2), weight);
    for scores in groups {
        let Some(mean) = mean(&scores).filter(|mean| scores.len() > 1 && *mean > 0.0) else {
            continue;
        };
        squares += scores.iter().map(|score| (score / mean - 1.0).powi(2)).sum::<f64>();
        freedom += scores.len() as f64 - 1.0;
    }
    (squares / freedom).sqrt()
}
