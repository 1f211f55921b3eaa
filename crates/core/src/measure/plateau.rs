//! Where a card's temperature is going: the plateau, read off the curve of its warming.
//!
//! A cooler's slow node warms as `T(t) = T∞ − b · e^(−t / τ)` (lumped heat capacity: Incropera et
//! al., *Heat and Mass Transfer*, ch. 5). For every τ of a fine scale, T∞ and b follow from linear
//! least squares; the τ with the smallest residual is taken.

use crate::units::{Celsius, Seconds};

/// Readings averaged into one point, s.
const POINT_SECONDS: f64 = 2.0;
/// The chip itself warms in seconds; what it does before is not the cooler's curve.
const SETTLED_SECONDS: f64 = 30.0;
/// Points before a fit is tried: a minute's worth.
const LEAST_POINTS: usize = 30;
/// Points looked at, the newest: five minutes' worth.
const MOST_POINTS: usize = 150;
/// Time constants tried, s: from the first to the last in steps of the factor.
const TIME_CONSTANTS: (f64, f64, f64) = (15.0, 900.0, 1.12);
/// Readings of a steady load lie this close to the curve of its warming, K.
const STEADY: f64 = 1.0;
/// Points over which the turns of a load that takes them are evened out: a minute's worth.
const TURNS_POINTS: usize = 30;
/// A card nearer than this to its plateau counts as warm, K.
pub const WARM_WITHIN: f64 = 1.5;

/// The course of a temperature under a steady load.
#[derive(Debug, Clone, Default)]
pub struct Warming {
    points: Vec<(f64, f64)>,
    sum: f64,
    count: u32,
    due: f64,
}

/// What a course of warming comes to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Plateau {
    /// Temperature it is going to.
    pub temperature: Celsius,
    /// Temperature of the fitted curve at the newest point.
    pub now: Celsius,
    /// Time in which the distance to the plateau falls to 37 %.
    pub time_constant: Seconds,
    /// Root mean square distance of the readings from the curve.
    pub residual: Celsius,
}

impl Plateau {
    /// How far below (or, negative, above) its plateau the card is.
    #[must_use]
    pub fn to_go(&self) -> Celsius {
        self.temperature - self.now
    }

    /// Whether the card is as warm as it gets, within 1.5 K.
    #[must_use]
    pub fn is_reached(&self) -> bool {
        self.to_go().value().abs() <= WARM_WITHIN
    }

    /// Time until it is; zero if it is already.
    #[must_use]
    pub fn reached_in(&self) -> Seconds {
        let ratio = self.to_go().value().abs() / WARM_WITHIN;
        Seconds(self.time_constant.value() * ratio.max(1.0).ln())
    }
}

impl Warming {
    /// Takes in a reading. A missing one is passed over.
    pub fn push(&mut self, at: Seconds, temperature: Option<Celsius>) {
        let Some(temperature) = temperature.filter(|t| t.value().is_finite()) else { return };
        if at.value() < SETTLED_SECONDS {
            return;
        }
        self.sum += temperature.value();
        self.count += 1;
        if at.value() >= self.due {
            self.points.push((at.value(), self.sum / f64::from(self.count)));
            (self.sum, self.count) = (0.0, 0);
            self.due = at.value() + POINT_SECONDS;
        }
    }

    /// The plateau this goes to; none before there is a minute of it, or while it still rises in a
    /// straight line.
    #[must_use]
    pub fn plateau(&self) -> Option<Plateau> {
        let newest = &self.points[self.points.len().saturating_sub(MOST_POINTS)..];
        let plateau = Self::plateau_of(newest)?;
        if plateau.residual.value() <= STEADY {
            return Some(plateau);
        }
        // A load that takes turns: its course is seen once the turns are evened out.
        let smooth: Vec<(f64, f64)> = newest
            .windows(TURNS_POINTS)
            .map(|part| {
                let sum = part.iter().fold((0.0, 0.0), |sum, p| (sum.0 + p.0, sum.1 + p.1));
                (sum.0 / TURNS_POINTS as f64, sum.1 / TURNS_POINTS as f64)
            })
            .collect();
        Self::plateau_of(&smooth)
    }

    fn plateau_of(newest: &[(f64, f64)]) -> Option<Plateau> {
        if newest.len() < LEAST_POINTS {
            return None;
        }
        let (first, slowest, factor) = TIME_CONSTANTS;
        let steps = ((slowest / first).ln() / factor.ln()) as i32;
        let best = (0..=steps)
            .map(|step| first * factor.powi(step))
            .filter_map(|tau| fit(newest, tau))
            .min_by(|a, b| a.residual.value().total_cmp(&b.residual.value()))?;
        // The slowest of all means that no bend is seen yet.
        let bends = best.time_constant.value() < slowest / factor;
        (bends || best.is_reached()).then_some(best)
    }

    /// How much it rose from `from` on: the mean of the newest ten seconds less that of the first,
    /// or of a minute each under a load that takes turns.
    #[must_use]
    pub fn rise_since(&self, from: Seconds) -> Option<Celsius> {
        const TEN_SECONDS: usize = 5;
        let since = self.points.partition_point(|(at, _)| *at < from.value());
        let points = self.points.get(since..)?;
        let jumps = points.windows(2).map(|pair| (pair[1].1 - pair[0].1).abs()).sum::<f64>();
        let takes_turns = jumps > 0.5 * points.len() as f64;
        let count = if takes_turns { TURNS_POINTS } else { TEN_SECONDS };
        if points.len() < 2 * count {
            return None;
        }
        let mean = |part: &[(f64, f64)]| {
            part.iter().map(|(_, value)| value).sum::<f64>() / part.len() as f64
        };
        let (first, last) = (&points[..count], &points[points.len() - count..]);
        Some(Celsius(mean(last) - mean(first)))
    }
}

/// Least squares of `T = T∞ − b · e^(−(t − t0) / τ)` for a given τ.
fn fit(points: &[(f64, f64)], tau: f64) -> Option<Plateau> {
    let start = points.first()?.0;
    let count = points.len() as f64;
    let decay = |at: f64| (-(at - start) / tau).exp();
    let (mut sx, mut sy, mut sxx, mut sxy) = (0.0, 0.0, 0.0, 0.0);
    for (at, value) in points {
        let x = decay(*at);
        sx += x;
        sy += value;
        sxx += x * x;
        sxy += x * value;
    }
    let spread = sxx - sx * sx / count;
    if spread < 1e-9 {
        return None;
    }
    let slope = (sxy - sx * sy / count) / spread;
    let level = (sy - slope * sx) / count;
    let square = |(at, value): &(f64, f64)| (value - level - slope * decay(*at)).powi(2);
    let residual = (points.iter().map(square).sum::<f64>() / count).sqrt();
    Some(Plateau {
        temperature: Celsius(level),
        now: Celsius(level + slope * decay(points.last()?.0)),
        time_constant: Seconds(tau),
        residual: Celsius(residual),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Warming to 70 °C from 40 °C, with a little noise that repeats itself.
    fn warming(tau: f64, seconds: usize) -> Warming {
        let mut warming = Warming::default();
        for tick in 0..seconds * 10 {
            let at = tick as f64 / 10.0;
            let noise = ((tick * 7_919) % 13) as f64 / 13.0 - 0.5;
            warming.push(Seconds(at), Some(Celsius(70.0 - 30.0 * (-at / tau).exp() + noise)));
        }
        warming
    }

    #[rstest]
    #[case(60.0, 120)]
    #[case(130.0, 240)]
    #[case(200.0, 330)]
    fn the_plateau_is_foreseen_well_before_it_is_reached(#[case] tau: f64, #[case] seconds: usize) {
        let plateau = warming(tau, seconds).plateau().unwrap();
        assert!((plateau.temperature.value() - 70.0).abs() < 1.5, "{plateau:?}");
        assert!(!plateau.is_reached(), "{plateau:?}");
        let wait = plateau.reached_in().value() + seconds as f64;
        let truly = tau * (30.0_f64 / WARM_WITHIN).ln();
        assert!((wait / truly - 1.0).abs() < 0.3, "{wait} {truly}");
    }

    #[test]
    fn a_warm_card_is_told_from_a_warming_one() {
        assert!(warming(130.0, 900).plateau().unwrap().is_reached());
        assert!(!warming(130.0, 150).plateau().is_some_and(|p| p.is_reached()));
        let mut level = Warming::default();
        (0..2_000).for_each(|t| level.push(Seconds(f64::from(t) / 10.0), Some(Celsius(61.0))));
        let plateau = level.plateau().unwrap();
        assert!(plateau.is_reached() && (plateau.temperature.value() - 61.0).abs() < 0.1);
        assert_eq!(plateau.reached_in(), Seconds(0.0));
    }

    #[test]
    fn too_little_or_a_straight_line_foresees_nothing() {
        assert_eq!(warming(130.0, 60).plateau(), None);
        let mut straight = Warming::default();
        for tick in 0..2_400 {
            let at = f64::from(tick) / 10.0;
            straight.push(Seconds(at), Some(Celsius(30.0 + at * 0.1)));
            straight.push(Seconds(at), None);
        }
        assert_eq!(straight.plateau(), None);
    }

    #[test]
    fn the_rise_is_that_of_the_stretch_asked_for() {
        let warming = warming(130.0, 600);
        let rise = |from| warming.rise_since(Seconds(from)).map(Celsius::value);
        assert!(rise(60.0).unwrap() > 14.0);
        assert!(rise(450.0).unwrap() < 1.5);
        assert_eq!(rise(590.0), None, "ten seconds are no stretch");
    }
}
