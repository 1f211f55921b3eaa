//! Air: full fan speed against slightly less. The fan draws from the same power budget as the chip, so a little less of it
//! can score more.

use crate::air::fan::Fan;
use crate::card::description::SettingKind;
use crate::card::settings::Settings;
use crate::climb::Climb;
use crate::climb::stages::rules::{Candidate, Round};
use crate::units::Percent;

/// The stage.
pub(in crate::climb) struct Air;

impl Round for Air {
    fn moves(&self) -> &'static [SettingKind] {
        &[SettingKind::Fan]
    }

    fn moved_in_words(&self) -> &'static str {
        "fan"
    }

    fn candidates(&self, climb: &Climb, base: Settings) -> Vec<Candidate> {
        let (Some(offer), Some(Fan::Fixed(held))) = (climb.card.offer(SettingKind::Fan), base.fan)
        else {
            return Vec::new();
        };
        let plan = &climb.plan.air;
        let mut all: Vec<Candidate> = Vec::new();
        for step in 0..=plan.steps {
            let slower = held.value() - plan.fan_step_percent * f64::from(step);
            let speed = Percent(offer.bin(slower));
            let settings = Settings { fan: Some(Fan::Fixed(speed)), ..base };
            if all.iter().all(|other| other.settings != settings) {
                all.push(Candidate { what: format!("the fan at {speed}"), settings });
            }
        }
        all
    }
}
