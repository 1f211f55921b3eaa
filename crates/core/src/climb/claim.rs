//! What is claimed of settings.

use crate::air::fan::Fan;
use crate::climb::Climb;
use crate::judge::verdict::Meaning;
use crate::plan::Margin;
use crate::units::{Celsius, MhzOffset, MillivoltOffset, Seconds};

/// Least chance that is claimed, in shares of what the margin asks for.
const LEAST_CLAIMED: f64 = 0.9;

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
    /// More time without a fault at these settings that would raise the chance of the whole span to what it is kept for;
    /// none where the settings' own chance is below that, or it is reached already.
    pub to_prove: Option<Seconds>,
    /// By how much the core stays below the middle of where its edge is believed.
    pub below_core: MhzOffset,
    /// By how much the memory stays below the middle of where its edge is believed.
    pub below_memory: MhzOffset,
    /// By how much the voltage stays above the middle of where its edge is believed.
    pub below_depth: MillivoltOffset,
}

impl Claim {
    /// Whether it is likely enough to be said: below that it hangs on assumptions about cards of all kinds more than on
    /// anything that was seen of this one.
    pub(in crate::climb) fn is_worth_making(&self) -> bool {
        self.chance >= LEAST_CLAIMED * self.margin.chance()
    }

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
            to_prove: to_prove(margin, chance, clean.value() / 3_600.0, unrelated, before),
            below_core: MhzOffset::STOCK,
            below_memory: MhzOffset::STOCK,
            below_depth: MillivoltOffset::STOCK,
        }
    }
}

/// Chance that no fault of another cause comes in `hours`, after so many clean hours with so many of them, and what was
/// known `before`: the gamma distribution is the conjugate of the Poisson process (Gelman et al., *Bayesian Data
/// Analysis*, ch. 2).
fn undisturbed(hours: f64, clean: f64, faults: usize, before: (f64, f64)) -> f64 {
    let (shape, known) = (before.0 + faults as f64, before.1 + clean);
    (known / (known + hours)).powf(shape)
}

/// How much longer nothing must fail: the chance [`undisturbed`] solved for the clean hours.
fn to_prove(
    margin: Margin,
    chance: f64,
    clean: f64,
    faults: usize,
    before: (f64, f64),
) -> Option<Seconds> {
    let wanted = margin.chance() / chance.max(1e-9);
    let share = wanted.powf(1.0 / (before.0 + faults as f64));
    let known = margin.hours() * share / (1.0 - share);
    let more = known - before.1 - clean;
    (wanted < 1.0 && more > 0.0).then_some(Seconds(more * 3_600.0))
}

/// What claims of a climb were made under: elsewhere they are no more than a hint.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Conditions {
    /// Loads of the runs without a fault, in the order in which they first ran.
    pub loads: Vec<String>,
    /// The coldest and the hottest room of those runs, where it was known.
    pub room: Option<(Celsius, Celsius)>,
    /// What the fan was held at.
    pub fan: Option<Fan>,
    /// Release of the driver.
    pub driver: String,
}

impl Climb {
    /// What its claims are made under.
    #[must_use]
    pub fn conditions(&self) -> Conditions {
        let mut conditions = Conditions {
            fan: self.held_settings().fan,
            driver: self.card.driver.clone(),
            ..Conditions::default()
        };
        for trial in self.trials.iter().filter(|trial| trial.verdict().meaning() == Meaning::Holds)
        {
            if !conditions.loads.contains(&trial.scene) {
                conditions.loads.push(trial.scene.clone());
            }
            if let Some(room) = trial.room {
                let (low, high) = conditions.room.unwrap_or((room.ambient, room.ambient));
                let now = room.ambient.value();
                conditions.room =
                    Some((Celsius(low.value().min(now)), Celsius(high.value().max(now))));
            }
        }
        conditions
    }
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

    #[test]
    fn what_hangs_on_assumptions_more_than_on_runs_is_not_claimed() {
        let of = |chance| Claim::new(Margin::Daily, chance, Seconds(7_200.0), 0, UNRELATED);
        assert!(of(0.99).is_worth_making() && of(0.9).is_worth_making());
        assert!(!of(0.89).is_worth_making() && !of(0.5).is_worth_making());
    }

    #[test]
    fn the_hours_it_takes_to_prove_a_day_are_those_that_raise_the_chance_so_far() {
        let margin = Margin::Daily;
        let hours = to_prove(margin, 0.998, 2.0, 0, UNRELATED).unwrap().value() / 3_600.0;
        let after = 0.998 * undisturbed(24.0, 2.0 + hours, 0, UNRELATED);
        assert!((after - 0.99).abs() < 1e-6, "{hours} h bring {after}");
        assert_eq!(to_prove(margin, 0.98, 2.0, 0, UNRELATED), None, "no hours make up for that");
        assert_eq!(to_prove(margin, 0.999, 1e5, 0, UNRELATED), None, "it is proven");
        let failed = to_prove(margin, 0.998, 2.0, 1, UNRELATED).unwrap().value() / 3_600.0;
        assert!(failed > 5.0 * hours, "after a fault: {failed} h");
    }
}
