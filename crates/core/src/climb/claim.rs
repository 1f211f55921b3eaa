//! What is claimed of settings.

use crate::air::fan::Fan;
use crate::climb::Climb;
use crate::judge::verdict::Meaning;
use crate::load::MIXTURE;
use crate::plan::Margin;
use crate::proof::assurance::Assurance;
use crate::proof::exposure::{Exposure, ProofRun};
use crate::proof::soak::USUAL_DAY;
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
    /// More time without a fault at these settings, under every kind of load, that would raise the chance of the whole span to
    /// what it is kept for; none where it is reached already, or that takes too long.
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
            to_prove: to_prove(margin, chance, clean, unrelated, before),
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

/// How much longer nothing must fail, under every kind of load: what a soak takes to the chance that is asked for.
fn to_prove(
    margin: Margin,
    chance: f64,
    clean: Seconds,
    unrelated: usize,
    before: (f64, f64),
) -> Option<Seconds> {
    let mut exposure = Exposure::default();
    let medley = |seconds, failed| ProofRun {
        load: MIXTURE,
        mean_load: None,
        is_cold: false,
        seconds,
        failed,
    };
    exposure.add(&medley(clean, false));
    (0..unrelated).for_each(|_| exposure.add(&medley(Seconds(0.0), true)));
    let assurance = Assurance::new(exposure, &USUAL_DAY, Some((margin, chance)), before);
    let time = assurance.time_to_believe(margin.span(), margin.chance());
    time.filter(|time| time.value() > 0.0)
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
    fn the_hours_it_takes_to_prove_a_day_grow_with_faults_and_shrink_with_what_is_known() {
        let hours = |chance, clean: f64, faults| {
            let time = to_prove(Margin::Daily, chance, Seconds(clean * 3_600.0), faults, UNRELATED);
            time.map(|time| time.value() / 3_600.0)
        };
        let usual = hours(0.998, 2.0, 0).unwrap();
        assert!((50.0..1_000.0).contains(&usual), "{usual} h");
        assert!(hours(0.998, 50.0, 0).unwrap() < usual - 20.0);
        assert!(hours(0.98, 2.0, 0).unwrap() > usual);
        assert!(hours(0.999, 1e5, 0).unwrap() < 50.0, "only starts from cold are missing");
        assert!(hours(0.998, 2.0, 1).is_none_or(|failed| failed > 5.0 * usual));
    }
}
