//! What a change of a setting did to a figure, told apart from what would have come anyway: a card that
//! still warms gets slower by itself, and a load has heavy and light sections.
//!
//! Readings before and after the change share one slope over time and one level for each section of the
//! load; the change is the step that is left: analysis of covariance (Montgomery, *Design and Analysis of
//! Experiments*, ch. 15), with the levels of the sections partialled out (Frisch and Waugh 1933). Readings
//! close in time resemble each other, so that they count as fewer: the error grows by
//! `√((1 + ρ) / (1 − ρ))` with ρ the correlation of neighbouring residuals (Wilks, *Statistical Methods in
//! the Atmospheric Sciences*, ch. 5).

use std::collections::BTreeMap;

/// Readings wanted beyond what the levels, the slope and the step take.
const LEAST: f64 = 4.0;
/// Standard errors beyond which a step is no chance, in about 19 of 20 cases.
const CLEAR: f64 = 2.0;

/// A reading on one side of a change.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TimedReading {
    /// When, s.
    pub at: f64,
    /// Section of the load it lies in.
    pub section: usize,
    /// The figure.
    pub value: f64,
}

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

/// A reading as it lies from the mean of its section: time, side of the change (0 or 1), value.
type Centred = [f64; 3];

impl StepChange {
    /// The step between readings before and after a change, each in order of time. `None` where there are too
    /// few to tell, or where no section has been met on both sides.
    #[must_use]
    pub fn between(before: &[TimedReading], after: &[TimedReading]) -> Option<Self> {
        let (readings, sections) = centred(before, after);
        let sum = |a: usize, b: usize| readings.iter().map(|r| r[a] * r[b]).sum::<f64>();
        let (tt, td, dd) = (sum(0, 0), sum(0, 1), sum(1, 1));
        let (ty, dy) = (sum(0, 2), sum(1, 2));
        let determinant = tt * dd - td * td;
        let free = readings.len() as f64 - sections as f64 - 2.0;
        if free < LEAST || determinant <= 1e-9 * tt * dd {
            return None;
        }
        let by = (tt * dy - td * ty) / determinant;
        let slope = (dd * ty - td * dy) / determinant;
        let residuals: Vec<f64> = readings.iter().map(|[t, d, y]| y - slope * t - by * d).collect();
        let squares: f64 = residuals.iter().map(|r| r * r).sum();
        let alike = neighbours(&residuals, squares);
        let variance = squares / free * tt / determinant;
        let error = (variance * (1.0 + alike) / (1.0 - alike)).sqrt();
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

/// All readings, each less the means of its section, and how many sections there are.
fn centred(before: &[TimedReading], after: &[TimedReading]) -> (Vec<Centred>, usize) {
    let side = |readings: &[TimedReading], side: f64| {
        readings.iter().map(|r| (r.section, [r.at, side, r.value])).collect::<Vec<_>>()
    };
    let all = [side(before, 0.0), side(after, 1.0)].concat();
    let mut sums: BTreeMap<usize, (f64, Centred)> = BTreeMap::new();
    for (section, reading) in &all {
        let (count, sum) = sums.entry(*section).or_default();
        *count += 1.0;
        sum.iter_mut().zip(reading).for_each(|(sum, value)| *sum += value);
    }
    let less_mean = |(section, reading): (usize, Centred)| {
        let (count, sum) = sums.get(&section).copied().unwrap_or((1.0, reading));
        std::array::from_fn(|index| reading[index] - sum[index] / count)
    };
    (all.into_iter().map(less_mean).collect(), sums.len())
}

/// Correlation of neighbouring residuals, 0 to 0.9: what lies below zero is taken for none.
fn neighbours(residuals: &[f64], squares: f64) -> f64 {
    let products: f64 = residuals.windows(2).map(|pair| pair[0] * pair[1]).sum();
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
    ) -> (Vec<TimedReading>, Vec<TimedReading>) {
        let at = |second: usize, step: f64| {
            let at = second as f64;
            let value = 100.0 + drift * at + step + scatter * chance(second);
            TimedReading { at, section: 0, value }
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
        let mean =
            |side: &[TimedReading]| side.iter().map(|r| r.value).sum::<f64>() / side.len() as f64;
        let plain = mean(&after) - mean(&before);
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
        let plain = |at: f64, value: f64| TimedReading { at, section: 0, value };
        let slow: Vec<TimedReading> =
            (0..60_u32).map(|t| plain(f64::from(t), wave(f64::from(t)))).collect();
        let quick: Vec<TimedReading> =
            (0..60_u32).map(|t| plain(f64::from(t), 1.2 * chance(t as usize))).collect();
        let error =
            |all: &[TimedReading]| StepChange::between(&all[..30], &all[30..]).unwrap().error;
        assert!(error(&slow) > 1.5 * error(&quick), "{} and {}", error(&slow), error(&quick));
    }

    /// The claim "19 of 20": over many made-up runs without a step, few are called clear.
    #[test]
    fn chance_is_seldom_taken_for_a_step() {
        let false_alarms = (0..400)
            .filter(|run| {
                let at = |second: usize| TimedReading {
                    at: second as f64,
                    section: second / 7 % 4,
                    value: -0.05 * second as f64 + chance(run * 1_000 + second * 7),
                };
                let all: Vec<TimedReading> = (0..60).map(at).collect();
                StepChange::between(&all[..30], &all[30..]).unwrap().is_clear()
            })
            .count();
        assert!(false_alarms <= 32, "{false_alarms} of 400");
    }

    #[test]
    fn heavy_and_light_sections_are_no_scatter_and_no_step() {
        let level = [200.0, 120.0, 260.0, 90.0];
        let all: Vec<TimedReading> = (0..52)
            .map(|second| {
                let section = second / 7 % 4;
                let step = if second < 26 { 0.0 } else { -4.0 };
                let value = level[section] + step + 0.5 * chance(second);
                TimedReading { at: second as f64, section, value }
            })
            .collect();
        let found = StepChange::between(&all[..26], &all[26..]).unwrap();
        assert!(found.is_clear() && (found.by + 4.0).abs() < 1.0, "{found:?}");
        let blind: Vec<TimedReading> =
            all.iter().map(|reading| TimedReading { section: 0, ..*reading }).collect();
        let blind = StepChange::between(&blind[..26], &blind[26..]).unwrap();
        assert!(blind.error > 20.0 * found.error, "{blind:?}");
    }

    #[test]
    fn sections_met_on_one_side_only_tell_nothing() {
        let (before, mut after) = readings(20, 5.0, 0.0, 0.1);
        after.iter_mut().for_each(|reading| reading.section = 1);
        assert_eq!(StepChange::between(&before, &after), None);
    }

    #[rstest]
    #[case(3, 3)]
    #[case(10, 0)]
    #[case(0, 10)]
    #[case(0, 0)]
    fn too_few_readings_tell_nothing(#[case] before: usize, #[case] after: usize) {
        let (all, more) = readings(10, 1.0, 0.0, 0.1);
        assert_eq!(StepChange::between(&all[..before], &more[..after]), None);
    }
}
