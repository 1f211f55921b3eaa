//! Memory-for-core: less and less memory clock, since under one power limit its watts may serve the core
//! better.

use crate::card::description::SettingKind;
use crate::card::settings::Settings;
use crate::climb::Climb;
use crate::climb::stages::round::Fared;
use crate::climb::stages::rules::{Candidate, Round};

/// The stage.
pub(in crate::climb) struct MemoryForCore;

impl Round for MemoryForCore {
    fn moves(&self) -> &'static [SettingKind] {
        &[SettingKind::MemoryOffset]
    }

    fn moved_in_words(&self) -> &'static str {
        "memory clock offset"
    }

    fn candidates(&self, climb: &Climb, base: Settings) -> Vec<Candidate> {
        let mut all: Vec<Candidate> = Vec::new();
        let Some(offer) = climb.card.offer(SettingKind::MemoryOffset) else { return all };
        let from = base.get(SettingKind::MemoryOffset).unwrap_or(0.0);
        all.push(Candidate {
            what: format!("memory at {}", offer.kind.show(from)),
            settings: base,
        });
        let mut before = climb.fared(&base);
        for step in 1..=climb.plan.rounds.memory_for_core_steps {
            let lower =
                offer.bin(from - f64::from(step) * climb.plan.rounds.memory_for_core_step_mhz);
            let mut settings = base;
            settings.set(SettingKind::MemoryOffset, Some(lower));
            if all.iter().any(|other| other.settings == settings) {
                break;
            }
            let what = format!("memory at {}", offer.kind.show(lower));
            all.push(Candidate { what, settings });
            let fared = climb.fared(&settings);
            // Where it clearly costs, still less memory costs still more.
            match (climb.difference(&fared, &before), &fared) {
                (Some((gain, error)), _) if gain < -2.0 * error => break,
                (_, Fared::Scored { .. }) => before = fared,
                _ => break,
            }
        }
        all
    }
}
