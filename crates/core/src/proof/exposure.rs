//! What settings have stood so far: hours and faults, by kind of load.

use serde::{Deserialize, Serialize};

use crate::proof::kind::{ByKind, LoadKind};
use crate::units::{Percent, Seconds};

/// A run that is evidence for settings.
#[derive(Debug, Clone, PartialEq)]
pub struct ProofRun<'a> {
    /// What ran.
    pub load: &'a str,
    /// How busy it kept the card, where that was seen.
    pub mean_load: Option<Percent>,
    /// Whether it went from idle and cold to full load.
    pub is_cold: bool,
    /// How long it ran.
    pub seconds: Seconds,
    /// Whether it ended in a fault of the card.
    pub failed: bool,
}

/// Hours and faults by kind of load.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Exposure {
    /// Hours without a fault, those before one included.
    pub hours: ByKind,
    /// Faults at the settings themselves.
    pub faults: ByKind,
    /// Faults at bolder settings, each the less the further away: the settings may be near an edge there.
    pub near: ByKind,
    /// Faults in all, at these settings and at those that were left because of them.
    #[serde(default)]
    pub in_all: f64,
}

impl Exposure {
    /// Takes in a run at the settings, or at bolder ones.
    pub fn add(&mut self, run: &ProofRun<'_>) {
        for (kind, share) in self.kinds_of(run) {
            self.hours[kind.place()] += share * run.seconds.value() / 3_600.0;
            self.faults[kind.place()] += if run.failed { share } else { 0.0 };
        }
        self.in_all += f64::from(u8::from(run.failed));
    }

    /// Takes in a fault at settings that are bolder by so many steps. Its hours count: bolder settings stood them.
    pub fn add_bolder(&mut self, run: &ProofRun<'_>, steps: f64) {
        for (kind, share) in self.kinds_of(run) {
            self.hours[kind.place()] += share * run.seconds.value() / 3_600.0;
            self.near[kind.place()] += if run.failed { share * (-steps).exp() } else { 0.0 };
        }
        self.in_all += f64::from(u8::from(run.failed));
    }

    fn kinds_of(&self, run: &ProofRun<'_>) -> Vec<(LoadKind, f64)> {
        match run.is_cold {
            true => vec![(LoadKind::Cold, 1.0)],
            false => LoadKind::of_load(run.load, run.mean_load),
        }
    }

    /// The faults of these settings as faults of bolder ones, after a step back.
    #[must_use]
    pub fn stepped_back(self, steps: f64) -> Self {
        let mut back = self;
        for place in 0..back.hours.len() {
            back.near[place] = (self.near[place] + self.faults[place]) * (-steps).exp();
            back.faults[place] = 0.0;
        }
        back
    }

    /// Hours under a kind of load without a fault.
    #[must_use]
    pub fn clean(&self, kind: LoadKind) -> Seconds {
        Seconds(self.hours[kind.place()] * 3_600.0)
    }

    /// Faults under a kind of load at the settings. A fault of a mixture is shared by its kinds.
    #[must_use]
    pub fn faults(&self, kind: LoadKind) -> f64 {
        self.faults[kind.place()]
    }

    /// Hours in all.
    #[must_use]
    pub fn total(&self) -> Seconds {
        Seconds(self.hours.iter().sum::<f64>() * 3_600.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(load: &str, hours: f64, failed: bool) -> ProofRun<'_> {
        let mean_load = Some(Percent(95.0));
        ProofRun { load, mean_load, is_cold: false, seconds: Seconds(hours * 3_600.0), failed }
    }

    #[test]
    fn every_hour_is_counted_once_and_a_fault_where_it_came() {
        let mut exposure = Exposure::default();
        exposure.add(&run("kiln", 2.0, false));
        exposure.add(&run("medley", 6.0, false));
        exposure.add(&run("squall", 0.5, true));
        exposure.add(&ProofRun { is_cold: true, ..run("squall", 0.25, false) });
        assert_eq!(exposure.clean(LoadKind::Heat), Seconds(3.0 * 3_600.0));
        assert_eq!(exposure.clean(LoadKind::Changes), Seconds(1.5 * 3_600.0));
        assert_eq!(exposure.clean(LoadKind::Cold), Seconds(900.0));
        assert!((exposure.total().value() - 8.75 * 3_600.0).abs() < 1e-6);
        assert_eq!(
            (exposure.faults(LoadKind::Changes), exposure.faults(LoadKind::Heat)),
            (1.0, 0.0)
        );
    }

    #[test]
    fn after_a_step_back_the_hours_still_count_and_the_fault_is_a_hint() {
        let mut exposure = Exposure::default();
        exposure.add(&run("kiln", 2.0, true));
        let back = exposure.stepped_back(1.0);
        assert_eq!(back.clean(LoadKind::Heat), exposure.clean(LoadKind::Heat));
        assert_eq!(back.faults(LoadKind::Heat), 0.0);
        let hint = back.near[LoadKind::Heat.place()];
        assert!((hint - (-1.0_f64).exp()).abs() < 1e-12);
        let mut bolder = Exposure::default();
        bolder.add_bolder(&run("kiln", 2.0, true), 1.0);
        assert_eq!(bolder, back);
    }
}
