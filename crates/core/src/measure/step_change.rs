//! What a change of a setting did to a figure, told apart from what would have come anyway: a card that
//! still warms gets slower by itself.
//!
//! Readings before and after the change share one slope over time, and the change is the step between
//! the two lines: analysis of covariance (Montgomery, *Design and Analysis of Experiments*, ch. 15). Readings
//! close in time resemble each other, so that they count as fewer: the error grows by
//! `√((1 + ρ) / (1 − ρ))` with ρ the correlation of neighbouring residuals (Wilks, *Statistical Methods in
//! the Atmospheric Sciences*, ch. 5).

use crate::statistics::mean;

/// Readings wanted on each side of a change.
const LEAST: usize = 4;
/// Standard errors beyond which a step is no chance, in about 19 of 20 cases.
const CLEAR: f64 = 2.0;

/// The step of a figure at a change.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StepChange {
    /// By how much the figure is higher after it, in its unit.
    pub by: f64,
    /// Standard error of that.
    pub error: f64,
    /// How it drifts by itself, per minute.
    pub drift: f64,
}

impl StepChange {
    /// The step between readings of (time in seconds, value) before and after a change. `None` with fewer
    /// than four on either side.
    #[must_use]
    pub fn between(before: &[(f64, f64)], after: &[(f64, f64)]) -> Option<Self> {
        if before.len() < LEAST || after.len() < LEAST {
            return None;
        }
        let centres = [centre(before)?, centre(after)?];
        let around = |readings: &[(f64, f64)], (at, value): (f64, f64)| {
            readings.iter().map(|(t, y)| (t - at, y - value)).collect::<Vec<_>>()
        };
        let sides = [around(before, centres[0]), around(after, centres[1])];
        let sum = |of: fn(&(f64, f64)) -> f64| sides.iter().flatten().map(of).sum::<f64>();
        let spread = sum(|(t, _)| t * t).max(1e-9);
        let slope = sum(|(t, y)| t * y) / spread;
        let apart = centres[1].0 - centres[0].0;
        let by = centres[1].1 - centres[0].1 - slope * apart;

        let residuals =
            sides.map(|side| side.into_iter().map(|(t, y)| y - slope * t).collect::<Vec<f64>>());
        let squares: f64 = residuals.iter().flatten().map(|r| r * r).sum();
        let (ahead, behind) = (before.len() as f64, after.len() as f64);
        let variance = squares / (ahead + behind - 3.0);
        let alike = neighbours(&residuals, squares);
        let share = 1.0 / ahead + 1.0 / behind + apart * apart / spread;
        let error = (variance * share * (1.0 + alike) / (1.0 - alike)).sqrt();
        Some(Self { by, error, drift: slope * 60.0 })
    }

    /// Whether it is more than chance: more than two standard errors.
    #[must_use]
    pub fn is_clear(&self) -> bool {
        self.by.abs() > CLEAR * self.error
    }

    /// Half the range in which the step lies with some 95 %, in the figure's unit.
    #[must_use]
    pub fn uncertainty(&self) -> f64 {
        CLEAR * self.error
    }
}

fn centre(readings: &[(f64, f64)]) -> Option<(f64, f64)> {
    let times: Vec<f64> = readings.iter().map(|reading| reading.0).collect();
    let values: Vec<f64> = readings.iter().map(|reading| reading.1).collect();
    mean(&times).zip(mean(&values))
}

/// Correlation of neighbouring residuals, 0 to 0.9: what lies below zero is taken for none.
fn neighbours(sides: &[Vec<f64>; 2], squares: f64) -> f64 {
    let products: f64 =
        sides.iter().flat_map(|side| side.windows(2).map(|pair| pair[0] * pair[1])).sum();
    (products / squares.max(1e-12)).clamp(0.0, 0.9)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Numbers between −1 and 1 that look like chance, the same every time.
    fn chance(index: usize) -> f64 {
        let x = (index as f64 * 12.9898).sin() * 43_758.545;
        2.0 * (x - x.floor()) - 1.0
    }

    /// A figure that steps by `by` after `count` seconds, drifts by `drift` a second and scatters by `scatter`.
    fn readings(
        count: usize,
        by: f64,
        drift: f64,
        scatter: f64,
    ) -> (Vec<(f64, f64)>, Vec<(f64, f64)>) {
        let at = |second: usize, step: f64| {
            let t = second as f64;
            (t, 100.0 + drift * t + step + scatter * chance(second))
        };
        let before = (0..count).map(|second| at(second, 0.0)).collect();
        (before, (count..2 * count).map(|second| at(second, by)).collect())
    }

    #[rstest]
    #[case::a_step(5.0, 0.0, 0.5)]
    #[case::a_step_while_it_warms(5.0, -0.1, 0.5)]
    #[case::a_step_down(-3.0, 0.05, 0.5)]
    #[case::drift_and_no_step(0.0, -0.2, 0.5)]
    #[case::without_scatter(2.0, 0.1, 0.0)]
    fn a_step_is_told_apart_from_the_drift(
        #[case] by: f64,
        #[case] drift: f64,
        #[case] scatter: f64,
    ) {
        let (before, after) = readings(40, by, drift, scatter);
        let found = StepChange::between(&before, &after).unwrap();
        assert!((found.by - by).abs() < 3.0 * found.error + 1e-6, "{found:?}");
        assert!((found.drift - 60.0 * drift).abs() < 3.0, "{found:?}");
        assert_eq!(found.is_clear(), by != 0.0, "{found:?}");
    }

    #[test]
    fn the_difference_of_the_means_alone_would_be_wrong() {
        let (before, after) = readings(40, 0.0, -0.2, 0.1);
        let plain = centre(&after).unwrap().1 - centre(&before).unwrap().1;
        assert!(plain < -7.0, "a card that warms looks slower after any change: {plain}");
        let found = StepChange::between(&before, &after).unwrap();
        assert!(found.by.abs() < 0.3 && !found.is_clear(), "{found:?}");
    }

    #[test]
    fn it_gets_surer_with_time_and_a_little_is_too_early_to_tell() {
        let errors: Vec<f64> = [5, 20, 80]
            .map(|count| {
                let (before, after) = readings(count, 0.2, 0.0, 1.0);
                StepChange::between(&before, &after).unwrap().error
            })
            .to_vec();
        assert!(errors.windows(2).all(|pair| pair[1] < pair[0]), "{errors:?}");
        let (before, after) = readings(5, 0.2, 0.0, 1.0);
        assert!(!StepChange::between(&before, &after).unwrap().is_clear());
    }

    #[test]
    fn readings_that_resemble_their_neighbours_count_for_less() {
        let wave = |t: f64| (t / 6.0).sin();
        let slow: Vec<(f64, f64)> = (0..60).map(|t| (f64::from(t), wave(f64::from(t)))).collect();
        let quick: Vec<(f64, f64)> =
            (0..60).map(|t| (f64::from(t), 0.7 * chance(t as usize) * 1.7)).collect();
        let error = |all: &[(f64, f64)]| StepChange::between(&all[..30], &all[30..]).unwrap().error;
        assert!(error(&slow) > 1.5 * error(&quick), "{} and {}", error(&slow), error(&quick));
    }

    /// The claim "19 of 20": over many made-up runs without a step, few are called clear.
    #[test]
    fn chance_is_seldom_taken_for_a_step() {
        let false_alarms = (0..400)
            .filter(|run| {
                let at = |second: usize| {
                    (second as f64, -0.05 * second as f64 + chance(run * 1_000 + second * 7))
                };
                let all: Vec<(f64, f64)> = (0..60).map(at).collect();
                StepChange::between(&all[..30], &all[30..]).unwrap().is_clear()
            })
            .count();
        assert!(false_alarms <= 32, "{false_alarms} of 400");
    }

    #[rstest]
    #[case(3, 10)]
    #[case(10, 3)]
    #[case(0, 0)]
    fn too_few_readings_tell_nothing(#[case] before: usize, #[case] after: usize) {
        let (all, more) = readings(10, 1.0, 0.0, 0.1);
        assert_eq!(StepChange::between(&all[..before], &more[..after]), None);
    }
}
