//! Timing: each faster level of memory timing, with the memory clock giving way where it does not hold.

use crate::card::description::SettingKind;
use crate::card::settings::Settings;
use crate::climb::Climb;
use crate::climb::stages::round::Fared;
use crate::climb::stages::rules::{Candidate, Round};

/// The stage.
pub(in crate::climb) struct Timing;

impl Round for Timing {
    fn moves(&self) -> &'static [SettingKind] {
        &[SettingKind::MemoryTiming]
    }

    fn moved_in_words(&self) -> &'static str {
        "memory timing level"
    }

    fn candidates(&self, climb: &Climb, base: Settings) -> Vec<Candidate> {
        let mut all = Vec::new();
        let Some(levels) = climb.card.offer(SettingKind::MemoryTiming) else { return all };
        let memory = climb.card.offer(SettingKind::MemoryOffset);
        let now = base.get(SettingKind::MemoryTiming).or(levels.stock).unwrap_or(0.0);
        all.push(Candidate { what: SettingKind::MemoryTiming.show(now), settings: base });
        let mut level = now + levels.step;
        while level <= levels.maximum + 1e-9 {
            let mut settings = base;
            settings.set(SettingKind::MemoryTiming, Some(level));
            for back in 0..=climb.plan.rounds.timing_back_offs {
                if let Some(offer) = memory {
                    let from = base.get(SettingKind::MemoryOffset).unwrap_or(0.0);
                    let lower = from - f64::from(back) * climb.plan.rounds.timing_back_off_mhz;
                    settings.set(SettingKind::MemoryOffset, Some(offer.bin(lower)));
                }
                let what = format!(
                    "timing {} with the memory at {}",
                    SettingKind::MemoryTiming.show(level),
                    settings.show(SettingKind::MemoryOffset)
                );
                all.push(Candidate { what, settings });
                // It gives way only where it did not hold.
                if climb.fared(&settings) != Fared::Failed {
                    break;
                }
            }
            level += levels.step;
        }
        all
    }
}
