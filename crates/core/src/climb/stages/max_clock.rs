//! Max-clock and memory-voltage: a voltage up to its ceiling, the highest clock there, and the voltage down again while it
//! holds. One does so with the core, the other with the memory.

use crate::card::description::CardDescription;
use crate::card::settings::Settings;
use crate::climb::search::axis::Axis;
use crate::climb::search::depth::{Depth, voltage_of};
use crate::climb::search::{Search, SearchStep, Tried, below_slow};
use crate::climb::stages::rules::{SCORE_BY_CLOCK, SCORE_BY_MEMORY, Strategy};
use crate::climb::{Climb, Next, Reason, Stage};
use crate::load::artifact::Domain;

/// A stage that does so.
pub(in crate::climb) struct MaxClock {
    pub stage: Stage,
    pub domain: Domain,
}

impl Strategy for MaxClock {
    fn domain(&self) -> Domain {
        self.domain
    }

    fn needs_clock(&self) -> bool {
        true
    }

    fn depth(&self, card: &CardDescription, fine: i32, most: i32) -> Option<Depth> {
        Depth::from_ceiling(card, self.domain, fine, most)
    }

    fn base(&self, climb: &Climb, _stage: Stage) -> Option<Settings> {
        let axis = climb.axis(self.domain)?;
        let mut base = self.voltage_up(climb);
        axis.write(&mut base, self.search(climb, axis).kept());
        Some(base)
    }

    /// The search for the highest clock; `None` once it is found, and the voltage can go down.
    fn first_of_all(&self, climb: &Climb) -> Option<Next> {
        let axis = climb.axis(self.domain)?;
        match self.search(climb, axis).next(false) {
            SearchStep::Kept(_) => None,
            SearchStep::Stuck(why) => Some(Next::Stuck(why)),
            SearchStep::Try { value, purpose, seconds, reason } => {
                let mut asked = self.voltage_up(climb);
                axis.write(&mut asked, value);
                let reason = Reason::AtFullVoltage(Box::new(reason));
                let proposal = climb.proposal(self.stage, purpose, asked, seconds, reason);
                Some(Next::Trial(Box::new(proposal)))
            }
        }
    }

    fn worth(&self) -> f64 {
        match self.domain {
            Domain::Core => SCORE_BY_CLOCK,
            Domain::Memory => SCORE_BY_MEMORY,
        }
    }

    fn keeps_its_clock(&self) -> bool {
        true
    }

    fn measures_without_depth(&self) -> bool {
        true
    }

    fn searches(&self) -> f64 {
        2.0
    }
}

impl MaxClock {
    /// What the stages before keep, with the voltage at its ceiling.
    fn voltage_up(&self, climb: &Climb) -> Settings {
        let mut settings = climb.with_stock(self.domain, self.stage);
        if let Some(offer) = climb.card.offer(voltage_of(self.domain)) {
            settings.set(offer.kind, Some(offer.maximum));
        }
        settings
    }

    /// The search for the highest clock at full voltage.
    fn search<'a>(&self, climb: &'a Climb, axis: Axis) -> Search<'a, Axis> {
        let full = self.voltage_up(climb);
        let voltage = voltage_of(self.domain);
        let tried: Vec<Tried<'_>> = climb
            .counted_of(self.stage)
            .filter(|trial| trial.held().get(voltage) == full.get(voltage))
            .map(|record| Tried { value: record.value_on(&axis), record })
            .collect();
        let fine = axis.fine_step(&climb.plan);
        Search {
            scale: axis,
            plan: &climb.plan,
            cap: below_slow(&tried, fine),
            tried,
            slow_is_too_much: true,
            first: None,
            slope: self.worth() / axis.clock,
            below_safe: 0.0,
            barred: climb.barred_from(&axis, &full),
            taken_up_after: climb.taken_up_after,
            is_followed: true,
            beside: Vec::new(),
            all: &climb.trials,
            experience: &climb.experience,
        }
    }
}
