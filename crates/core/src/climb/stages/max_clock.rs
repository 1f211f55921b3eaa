//! Max-clock: voltage up to its ceiling, the highest clock there, and the voltage down again while it
//! holds.

use crate::card::description::{CardDescription, SettingKind};
use crate::card::settings::Settings;
use crate::climb::search::axis::Axis;
use crate::climb::search::depth::Depth;
use crate::climb::search::{Search, SearchStep, Tried, below_slow};
use crate::climb::stages::rules::{SCORE_BY_CLOCK, Strategy};
use crate::climb::{Climb, Next, Reason, Stage};
use crate::load::artifact::Domain;

/// The stage.
pub(in crate::climb) struct MaxClock;

impl Strategy for MaxClock {
    fn needs_clock(&self) -> bool {
        true
    }

    fn depth(&self, card: &CardDescription, fine: i32, most: i32) -> Option<Depth> {
        Depth::from_ceiling(card, fine, most)
    }

    fn base(&self, climb: &Climb) -> Option<Settings> {
        let axis = climb.axis(Domain::Core)?;
        let mut base = voltage_up(climb);
        axis.write(&mut base, search(climb, axis).kept());
        Some(base)
    }

    /// The search for the highest clock; `None` once it is found, and the voltage can go down.
    fn first_of_all(&self, climb: &Climb) -> Option<Next> {
        let axis = climb.axis(Domain::Core)?;
        match search(climb, axis).next(false) {
            SearchStep::Kept(_) => None,
            SearchStep::Stuck(why) => Some(Next::Stuck(why)),
            SearchStep::Try { value, purpose, seconds, reason } => {
                let mut asked = voltage_up(climb);
                axis.write(&mut asked, value);
                let reason = Reason::AtFullVoltage(Box::new(reason));
                let proposal = climb.proposal(Stage::MaxClock, purpose, asked, seconds, reason);
                Some(Next::Trial(Box::new(proposal)))
            }
        }
    }

    fn keeps_its_clock(&self) -> bool {
        true
    }

    fn searches(&self) -> f64 {
        2.0
    }
}

/// Power as found, with the voltage at its ceiling.
fn voltage_up(climb: &Climb) -> Settings {
    let mut settings = climb.powered_settings();
    if let Some(offer) = climb.card.offer(SettingKind::VoltageOffset) {
        settings.set(SettingKind::VoltageOffset, Some(offer.maximum));
    }
    settings
}

/// The search for the highest clock at full voltage.
fn search(climb: &Climb, axis: Axis) -> Search<'_, Axis> {
    let full = voltage_up(climb);
    let tried: Vec<Tried<'_>> = climb
        .counted_of(Stage::MaxClock)
        .filter(|trial| trial.held().voltage_offset == full.voltage_offset)
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
        slope: SCORE_BY_CLOCK / axis.clock,
        below_safe: 0.0,
        barred: climb.barred_from(&axis, &full),
        taken_up_after: climb.taken_up_after,
        is_followed: true,
        all: &climb.trials,
        experience: &climb.experience,
    }
}
