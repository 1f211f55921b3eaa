//! What settings bring under each load, and under all of them together.
//!
//! Overall is the geometric mean of the ratios, in which all loads weigh the same and the unit of a figure does not
//! matter (Fleming and Wallace, "How not to lie with statistics", *CACM* 29(3), 1986). Errors are standard errors,
//! propagated to first order (Taylor, *An Introduction to Error Analysis*, ch. 3).

use crate::climb::search::score::scatter;
use crate::statistics::mean;
use crate::units::Seconds;

/// How many times as much a figure is as at stock, and its standard error.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Ratio {
    /// 1 is no difference.
    pub value: f64,
    /// Standard error of that.
    pub error: f64,
}

impl Ratio {
    /// The mean of some figures against that of figures at stock, whose scatter is taken to be that of every run;
    /// none without one of each.
    #[must_use]
    pub fn between(figures: &[f64], stock: &[f64]) -> Option<Self> {
        let base = mean(stock).filter(|base| *base > 0.0)?;
        let value = mean(figures)? / base;
        let runs = 1.0 / figures.len() as f64 + 1.0 / stock.len() as f64;
        Some(Self { value, error: value * scatter(stock) * runs.sqrt() })
    }

    /// The geometric mean of some ratios; none of none.
    #[must_use]
    pub fn overall(ratios: &[Self]) -> Option<Self> {
        let logarithms: Vec<f64> = ratios.iter().map(|ratio| ratio.value.ln()).collect();
        let value = mean(&logarithms)?.exp();
        let squares: f64 = ratios.iter().map(|ratio| (ratio.error / ratio.value).powi(2)).sum();
        Some(Self { value, error: value * squares.sqrt() / ratios.len() as f64 })
    }

    /// The gain, percent.
    #[must_use]
    pub fn percent(&self) -> f64 {
        (self.value - 1.0) * 100.0
    }

    /// Its standard error, percent.
    #[must_use]
    pub fn error_percent(&self) -> f64 {
        self.error * 100.0
    }
}

/// What settings bring under one load.
#[derive(Debug, Clone, PartialEq)]
pub struct LoadGain {
    /// The load.
    pub load: String,
    /// Clean runs of it at the settings.
    pub runs: usize,
    /// Their time under load.
    pub clean: Seconds,
    /// Their figure against that at stock; none as long as there is not one of each.
    pub gain: Option<Ratio>,
    /// Whether the figure is the average clock, since the load has none of its own.
    pub by_clock: bool,
}

impl LoadGain {
    /// What some loads come to together, those that go by their clock left out; none of fewer than two.
    #[must_use]
    pub fn overall(all: &[Self]) -> Option<Ratio> {
        let ratios: Vec<Ratio> =
            all.iter().filter(|of| !of.by_clock).filter_map(|of| of.gain).collect();
        Ratio::overall(&ratios).filter(|_| ratios.len() > 1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_overall_gain_is_the_same_whichever_way_round_the_loads_are_compared() {
        let of = |value| Ratio { value, error: 0.01 };
        let there = Ratio::overall(&[of(1.1), of(0.95), of(1.02)]).unwrap();
        let back = Ratio::overall(&[of(1.0 / 1.1), of(1.0 / 0.95), of(1.0 / 1.02)]).unwrap();
        assert!((there.value * back.value - 1.0).abs() < 1e-12, "{there:?} {back:?}");
        assert!((there.value - (1.1_f64 * 0.95 * 1.02).cbrt()).abs() < 1e-12);
        assert!(there.error < 0.01, "three ratios are surer than one");
        assert_eq!(Ratio::overall(&[]), None);
    }

    #[test]
    fn a_gain_is_the_surer_the_more_runs_there_are() {
        let stock = [100.0, 101.0, 99.0];
        let once = Ratio::between(&[105.0], &stock).unwrap();
        let thrice = Ratio::between(&[105.0; 3], &stock).unwrap();
        assert!((once.percent() - 5.0).abs() < 1e-9 && thrice.error < once.error);
        assert_eq!((Ratio::between(&[], &stock), Ratio::between(&[1.0], &[])), (None, None));
    }

    #[test]
    fn loads_without_figures_and_a_single_load_make_no_overall() {
        let gain = Some(Ratio { value: 1.05, error: 0.01 });
        let of = |by_clock| LoadGain {
            load: "kiln".into(),
            runs: 1,
            clean: Seconds(600.0),
            gain,
            by_clock,
        };
        assert!(LoadGain::overall(&[of(false), of(false)]).is_some());
        assert_eq!(LoadGain::overall(&[of(false), of(true)]), None);
    }
}
