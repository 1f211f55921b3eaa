//! Window: the average clock of a run with the clock as wide as it goes, then windows about it, each
//! twice as wide as the one before.

use crate::card::description::SettingKind;
use crate::card::settings::Settings;
use crate::climb::Climb;
use crate::climb::stages::rules::{Candidate, Round};
use crate::statistics::mean;
use crate::units::Mhz;

/// The stage.
pub(in crate::climb) struct Window;

impl Round for Window {
    fn moves(&self) -> &'static [SettingKind] {
        &[SettingKind::ClockMinimum, SettingKind::ClockMaximum]
    }

    fn moved_in_words(&self) -> &'static str {
        "lowest and highest clock"
    }

    fn candidates(&self, climb: &Climb, base: Settings) -> Vec<Candidate> {
        let mut all = Vec::new();
        let (Some(low), Some(high)) = (
            climb.card.offer(SettingKind::ClockMinimum),
            climb.card.offer(SettingKind::ClockMaximum),
        ) else {
            return all;
        };
        let most = base.get(SettingKind::ClockMaximum).or(high.stock).unwrap_or(high.maximum);
        let mut unbounded = base;
        unbounded.set(SettingKind::ClockMinimum, Some(low.minimum));
        let what = format!("the clock unbounded below {}", Mhz(most));
        all.push(Candidate { what, settings: unbounded });
        let clocks: Vec<f64> = climb
            .runs_at(&unbounded)
            .iter()
            .filter_map(|run| run.seen.average_clock())
            .map(Mhz::value)
            .collect();
        let Some(average) = mean(&clocks).map(|average| average.min(most)) else { return all };
        for doubled in 0..climb.plan.rounds.windows {
            let side =
                climb.plan.rounds.window_to_each_side_mhz * f64::from(1_u32 << doubled.min(16));
            let mut settings = base;
            let (bottom, top) = (low.bin(average - side), high.bin((average + side).min(most)));
            settings.set(SettingKind::ClockMinimum, Some(bottom));
            settings.set(SettingKind::ClockMaximum, Some(top));
            let what = format!("{bottom:.0} to {top:.0} MHz");
            if all.iter().all(|other| other.settings != settings) {
                all.push(Candidate { what, settings });
            }
        }
        all
    }
}
