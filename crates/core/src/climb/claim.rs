//! What is claimed of settings.

use crate::plan::Margin;
use crate::units::{MhzOffset, MillivoltOffset, Seconds};

/// What is claimed of settings: how likely they stand a span of time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Claim {
    /// What they are kept for.
    pub margin: Margin,
    /// The span.
    pub span: Seconds,
    /// Chance that no fault of these settings comes in it, 0 to 1, all that is believed of the edges weighed.
    pub chance: f64,
    /// Chance that no fault of another cause does, 0 to 1, as far as [`clean`](Self::clean) tells.
    pub undisturbed: f64,
    /// Time under load in this climb without a fault.
    pub clean: Seconds,
    /// By how much the core stays below the middle of where its edge is believed.
    pub below_core: MhzOffset,
    /// By how much the memory stays below the middle of where its edge is believed.
    pub below_memory: MhzOffset,
    /// By how much the voltage stays above the middle of where its edge is believed.
    pub below_depth: MillivoltOffset,
}

impl Claim {
    /// Chance that no fault at all comes, 0 to 1.
    #[must_use]
    pub fn in_all(&self) -> f64 {
        self.chance * self.undisturbed
    }

    /// A claim of nothing but chances, at the edges themselves.
    pub(in crate::climb) fn new(
        margin: Margin,
        chance: f64,
        clean: Seconds,
        unrelated: usize,
        before: (f64, f64),
    ) -> Self {
        Self {
            margin,
            span: margin.span(),
            chance,
            undisturbed: undisturbed(margin.hours(), clean.value() / 3_600.0, unrelated, before),
            clean,
            below_core: MhzOffset::STOCK,
            below_memory: MhzOffset::STOCK,
            below_depth: MillivoltOffset::STOCK,
        }
    }
}

/// Chance that no fault of another cause comes in `hours`, after so many clean hours with so many of them, and what was
/// known `before`: the gamma
/// distribution is the conjugate of the Poisson process (Gelman et al., *Bayesian Data Analysis*, ch. 2).
fn undisturbed(hours: f64, clean: f64, faults: usize, before: (f64, f64)) -> f64 {
    let (shape, known) = (before.0 + faults as f64, before.1 + clean);
    (known / (known + hours)).powf(shape)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::climb::search::experience::UNRELATED;

    #[test]
    fn clean_hours_raise_the_chance_that_nothing_else_fails_and_a_fault_lowers_it() {
        let at = |clean, faults| undisturbed(24.0, clean, faults, UNRELATED);
        assert!(at(2.0, 0) < 0.99, "two hours justify no more than that");
        assert!(at(2.0, 0) < at(100.0, 0) && at(100.0, 0) > 0.99, "{}", at(100.0, 0));
        assert!(at(2.0, 1) < 0.8 && at(100.0, 1) > at(2.0, 1));
        assert!(undisturbed(720.0, 2.0, 0, UNRELATED) < at(2.0, 0), "a month is longer than a day");
        // One fault in 200 h, seen often enough: the chance of a day comes to exp(-24 / 200).
        assert!((at(20_000.0, 100) - (-24.0_f64 / 200.0).exp()).abs() < 1e-3);
    }
}
